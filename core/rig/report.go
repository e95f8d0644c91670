package rig

import (
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Report is what can be told of a skeleton.
type Report struct {
	Bones   []Bone   `json:"bones"`   // as a tree is read
	Missing []string `json:"missing"` // limbs that a whole body has
	Odd     []string `json:"odd"`     // of the skeleton whole
}

// Bone is a bone and what it is.
type Bone struct {
	Node     int      `json:"node"`
	Name     string   `json:"name"`
	Parent   int      `json:"parent"` // its place in the list, or None
	Depth    int      `json:"depth"`
	Limb     string   `json:"limb,omitempty"` // the standard's word
	Sure     float64  `json:"sure,omitempty"`
	Evidence []string `json:"evidence,omitempty"`
	Vertices int      `json:"vertices"` // that hang on it
	Share    float64  `json:"share"`    // of all weight
	Children int      `json:"children"`
	Turn     float64  `json:"turn"` // at rest against its parent, degrees
	Moved    bool     `json:"moved"`
	Odd      []string `json:"odd,omitempty"`
}

// Tell looks at a scene's skeleton. fixed are limbs that somebody said.
func Tell(s *scene.Scene, fixed map[string]string) Report {
	r := Of(s)
	out := Report{Bones: []Bone{}, Missing: []string{}, Odd: []string{}}
	if !slices.Contains(s.Bones(), true) && len(s.Motions) == 0 {
		return out
	}
	body := r.Map(fixed)
	limb := map[int]string{}
	for l, m := range body {
		limb[m.Bone] = l
	}
	out.Missing = append(out.Missing, body.Missing()...)
	moved := map[int]bool{}
	for i := range s.Motions {
		for _, c := range s.Motions[i].Channels {
			moved[c.Node] = true
		}
	}
	hung := weighed(s)
	total := 0.0
	for _, w := range hung {
		total += w.sum
	}
	box := surface(s)
	place := map[int]int{}
	for _, b := range r.inTree() {
		n := &s.Nodes[b]
		x := Bone{Node: b, Name: n.Name, Parent: scene.None, Children: len(r.Kids[b]), Moved: moved[b]}
		if p := r.Parent[b]; p >= 0 {
			x.Parent = place[p]
			x.Depth = out.Bones[x.Parent].Depth + 1
		}
		q := wide4(n.Rotation).Norm()
		x.Turn = 2 * math.Atan2(math.Sqrt(q[0]*q[0]+q[1]*q[1]+q[2]*q[2]), math.Abs(q[3])) * 180 / math.Pi
		if l := limb[b]; l != "" {
			x.Limb, x.Sure, x.Evidence = l, body[l].Sure, body[l].Evidence
		}
		if w := hung[b]; w != nil {
			x.Vertices = w.vertices
			if total > 0 {
				x.Share = w.sum / total
			}
		}
		x.Odd = r.oddOf(b, hung[b] != nil, box)
		place[b] = len(out.Bones)
		out.Bones = append(out.Bones, x)
	}
	out.Odd = append(out.Odd, r.odd()...)
	return out
}

// inTree lists the bones as a tree is read: each with all below it.
func (r *Rig) inTree() (out []int) {
	stack := slices.Clone(r.Kids[scene.None])
	slices.Reverse(stack)
	for len(stack) > 0 {
		b := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		out = append(out, b)
		for i := len(r.Kids[b]) - 1; i >= 0; i-- {
			stack = append(stack, r.Kids[b][i])
		}
	}
	return out
}

// hanging is what hangs on a bone.
type hanging struct {
	vertices int
	sum      float64
}

// weighed tells what hangs on each node.
func weighed(s *scene.Scene) map[int]*hanging {
	out := map[int]*hanging{}
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if n.Mesh < 0 || n.Skin < 0 {
			continue
		}
		joints := s.Skins[n.Skin].Joints
		for _, p := range s.Meshes[n.Mesh].Parts {
			for k, w := range p.Weights {
				if w <= 0 {
					continue
				}
				x := out[joints[p.Joints[k]]]
				if x == nil {
					x = &hanging{}
					out[joints[p.Joints[k]]] = x
				}
				x.vertices++
				x.sum += float64(w)
			}
		}
	}
	return out
}

// surface is the box of what is bound, at rest, a little larger.
func surface(s *scene.Scene) geom.Box {
	box := geom.EmptyBox()
	world := s.World()
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 || s.Nodes[i].Skin < 0 {
			continue
		}
		for j := range s.Meshes[s.Nodes[i].Mesh].Parts {
			pos, _ := s.Posed(i, &s.Meshes[s.Nodes[i].Mesh].Parts[j], world)
			for v := 0; v+2 < len(pos); v += 3 {
				box.Add(geom.Vec3{float64(pos[v]), float64(pos[v+1]), float64(pos[v+2])})
			}
		}
	}
	return box
}

// oddOf is what is odd about one bone.
func (r *Rig) oddOf(b int, bears bool, box geom.Box) (out []string) {
	n := &r.Scene.Nodes[b]
	for _, x := range n.Scale {
		if math.Abs(float64(x)-1) > 1e-4 {
			out = append(out, fmt.Sprintf("a scale of %.4g × %.4g × %.4g", n.Scale[0], n.Scale[1], n.Scale[2]))
			break
		}
	}
	if !bears && !box.Empty() {
		if len(r.Kids[b]) == 0 {
			out = append(out, "an end bone without weight")
		} else if r.Parent[b] >= 0 {
			out = append(out, "without weight")
		}
	}
	if !box.Empty() && r.Parent[b] >= 0 && len(r.Kids[b]) > 0 {
		size := box.Size().Len()
		p := r.At(b)
		for k := range p {
			if p[k] < box.Min[k]-0.02*size || p[k] > box.Max[k]+0.02*size {
				out = append(out, "outside of the body")
				break
			}
		}
	}
	return out
}

// odd is what is odd about the skeleton whole.
func (r *Rig) odd() (out []string) {
	s := r.Scene
	if roots := r.Kids[scene.None]; len(roots) > 1 {
		out = append(out, fmt.Sprintf("%d roots", len(roots)))
	}
	seen := map[string]bool{}
	for _, b := range r.Bones {
		if seen[r.Name(b)] {
			out = append(out, fmt.Sprintf("several bones are called %s", r.Name(b)))
			break
		}
		seen[r.Name(b)] = true
	}
	uneven, many, most := 0, 0, 0
	for i := range s.Meshes {
		for j := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[j]
			for v := 0; v < p.Vertices() && p.Influences > 0; v++ {
				sum, n := float32(0), 0
				for _, w := range p.Weights[v*p.Influences : (v+1)*p.Influences] {
					if sum += w; w > 0 {
						n++
					}
				}
				if math.Abs(float64(sum)-1) > 0.01 {
					uneven++
				}
				if n > 4 {
					many++
				}
				most = max(most, n)
			}
		}
	}
	if uneven > 0 {
		out = append(out, fmt.Sprintf("the weights of %d vertices do not add up to one", uneven))
	}
	if many > 0 {
		out = append(out, fmt.Sprintf("%d vertices hang on more than four bones, %d at most", many, most))
	}
	if d := r.unbound(); d > 0.01 {
		out = append(out, fmt.Sprintf("the rest pose is not the one in which the surface was bound: a bone is off by %.2g of the height", d))
	}
	return out
}

// unbound is how far the rest pose is from the pose of the binds, as a share of
// the skeleton's height: 0 where they are the same but for one change of all.
func (r *Rig) unbound() (far float64) {
	tall := r.high - r.low
	if tall <= 0 {
		return 0
	}
	for k := range r.Scene.Skins {
		skin := &r.Scene.Skins[k]
		if len(skin.InverseBind) == 0 || len(skin.Joints) == 0 {
			continue
		}
		by := r.Scene.SkinMatrices(k, r.World)
		first := by[0]
		for j, n := range skin.Joints {
			// Where this joint's matrix takes its own head, and where the first's does.
			inv, ok := by[j].Inverse()
			if !ok {
				continue
			}
			head := inv.Point(r.At(n))
			far = max(far, first.Point(head).Sub(by[j].Point(head)).Len()/tall)
		}
	}
	return far
}
