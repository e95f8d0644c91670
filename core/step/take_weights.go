package step

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/nearest"
	"excavate/core/rig"
	"excavate/core/scene"
)

// TakeWeightsParams say from whom weights are taken.
type TakeWeightsParams struct {
	Where
	From string `json:"from" jsonschema:"title=Weights of,minLength=1,maxLength=4096,description=An asset in the search order or beside the chain's document; or chain: and the name of another chain" jsonschema_extras:"chooser=model"`
}

func (p *TakeWeightsParams) asks() []Ask { return []Ask{{Asset: p.From}} }

var _ = registerBeyond(Kind{Name: "take-weights", Title: "Take weights from another", Family: Rig, On: Parts, Version: 1,
	Purpose: "Let a figure hang on bones as a like one does: each vertex as the nearest place of the other's surface. Without bones of its own it gets the other's skeleton."},
	TakeWeightsParams{}, takeWeights)

func takeWeights(ctx context.Context, s *scene.Scene, p TakeWeightsParams, b Beyond, r *Report) (*scene.Scene, error) {
	if p.From == "" {
		r.Nothing("no asset is named")
		return s, nil
	}
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	o, err := other(ctx, b, p.From, s, r)
	if err != nil {
		return nil, err
	}
	w := weightTaker{o: o}
	if !w.gather() {
		return nil, fmt.Errorf("nothing of %s hangs on bones", p.From)
	}
	// The other's bones by the names of ours, or brought along.
	out := *s
	out.Nodes, out.Meshes, out.Skins = slices.Clone(s.Nodes), slices.Clone(s.Meshes), slices.Clone(s.Skins)
	bones, err := w.bones(&out, r)
	if err != nil {
		return nil, err
	}
	skin := len(out.Skins)
	out.Skins = append(out.Skins, w.skin(&out, bones))
	world := s.World()
	var parts, vertices int
	far := 0.0
	made := map[int]int{}
	for i := range s.Nodes {
		taken := c.Parts(i)
		if !slices.Contains(taken, true) {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if slices.Contains(taken, false) {
			return nil, fmt.Errorf("some parts of %s are chosen and others not: split it first, or choose all",
				s.Nodes[i].Name)
		}
		n := &out.Nodes[i]
		mesh := s.Meshes[n.Mesh]
		mesh.Parts = slices.Clone(mesh.Parts)
		for j := range mesh.Parts {
			// A bound part stands where it is seen, whatever its node does.
			q := posedPart(s, i, &mesh.Parts[j], world)
			q.Morphs = turnedMorphs(&mesh.Parts[j], world[i], n.Skin >= 0)
			far = max(far, w.hang(&q))
			vertices += q.Vertices()
			parts++
			mesh.Parts[j] = q
		}
		made[i] = len(out.Meshes)
		out.Meshes = append(out.Meshes, mesh)
		n.Mesh, n.Skin = made[i], skin
	}
	if parts == 0 {
		r.Nothing("nothing that is chosen has a surface")
		return s, nil
	}
	r.Say("%s of %s hang on %s",
		count(vertices, "vertex", "vertices"), count(parts, "part", "parts"), count(len(bones), "bone", "bones"))
	r.Say("the surfaces are %s apart where they are farthest", length(s, far))
	if size := s.Bounds().Size().Len(); far > 0.05*size {
		r.Say("that is %.0f%% of the asset's size: are they alike and in the same place?", 100*far/size)
	}
	return out.Sweep(s), nil
}

// turnedMorphs are a part's morph targets in world space; what is bound stands
// there as it is.
func turnedMorphs(p *scene.Part, m geom.Mat4, bound bool) []scene.MorphTarget {
	out := slices.Clone(p.Morphs)
	if bound {
		return out
	}
	for k := range out {
		for _, d := range []*[]float32{&out[k].Positions, &out[k].Normals, &out[k].Tangents} {
			if *d != nil {
				*d = mapped(*d, 3, func(v geom.Vec3) geom.Vec3 { return m.Dir(v) })
			}
		}
	}
	return out
}

// weightTaker reads weights off another asset's surface.
type weightTaker struct {
	o       *scene.Scene
	tri     []geom.Vec3
	surface *nearest.Surface
	of      [][3]cornerOf // of each triangle
	same    float64       // how far apart places are that are one but for rounding
	used    []int         // nodes of the other that something hangs on, and what stands above them
}

// cornerOf is a vertex of the other asset.
type cornerOf struct {
	node, part int
	vertex     uint32
}

// gather collects what hangs on bones.
func (w *weightTaker) gather() bool {
	world := w.o.World()
	use := make([]bool, len(w.o.Nodes))
	for i := range w.o.Nodes {
		n := &w.o.Nodes[i]
		if n.Mesh < 0 || n.Skin < 0 {
			continue
		}
		for j := range w.o.Meshes[n.Mesh].Parts {
			p := &w.o.Meshes[n.Mesh].Parts[j]
			if p.Influences == 0 {
				continue
			}
			pos, _ := w.o.Posed(i, p, world)
			for k := 0; k+2 < len(p.Triangles); k += 3 {
				var of [3]cornerOf
				for c, v := range p.Triangles[k : k+3] {
					w.tri = append(w.tri, at3(pos, v))
					of[c] = cornerOf{i, j, v}
				}
				w.of = append(w.of, of)
			}
		}
		for _, joint := range w.o.Skins[n.Skin].Joints {
			use[joint] = true
		}
	}
	if len(w.tri) == 0 {
		return false
	}
	for i, is := range use {
		if is {
			w.used = append(w.used, i)
		}
	}
	w.surface = nearest.New(w.tri)
	w.same = 1e-5 * w.o.Bounds().Size().Len()
	return true
}

// bones tells which node of ours each used bone of the other is.
func (w *weightTaker) bones(out *scene.Scene, r *Report) (map[int]int, error) {
	to := map[int]int{}
	if !slices.Contains(out.Bones(), true) {
		k := rig.Of(w.o)
		for _, b := range k.Bones {
			n := w.o.Nodes[b]
			n.Mesh, n.Skin, n.Camera, n.Light, n.Collider = scene.None, scene.None, scene.None, scene.None, nil
			if up := k.Parent[b]; up >= 0 {
				n.Parent = to[up]
			} else {
				t, q, z, _ := k.World[b].Decompose()
				n.Put(t, q, z)
				n.Parent = scene.None
			}
			to[b] = len(out.Nodes)
			out.Nodes = append(out.Nodes, n)
		}
		r.Say("its skeleton comes along: %s", count(len(k.Bones), "bone", "bones"))
		return to, nil
	}
	same := rig.Same(rig.Of(w.o), rig.Of(out))
	var none []string
	for _, b := range w.used {
		y, ok := same[b]
		for up := b; !ok && up >= 0; up = w.o.Nodes[up].Parent {
			y, ok = same[up]
		}
		if !ok {
			return nil, fmt.Errorf("this skeleton has nothing like the bone %s of the other", w.o.Nodes[b].Name)
		}
		if _, exact := same[b]; !exact {
			none = append(none, w.o.Nodes[b].Name)
		}
		to[b] = y
	}
	if len(none) > 0 {
		r.Say("what hangs on %s there hangs on the bone above here", named(none))
	}
	return to, nil
}

// skin has a joint for each used bone, in their order.
func (w *weightTaker) skin(out *scene.Scene, bones map[int]int) scene.Skin {
	k := scene.Skin{Name: out.Name, Root: scene.None}
	world := out.World()
	for _, b := range w.used {
		inv, ok := world[bones[b]].Inverse()
		if !ok {
			inv = geom.Identity
		}
		k.Joints = append(k.Joints, bones[b])
		for _, v := range inv {
			k.InverseBind = append(k.InverseBind, float32(v))
		}
	}
	return k
}

// hang gives each vertex of a part the weights of the nearest place, and
// returns how far away that is at most.
func (w *weightTaker) hang(p *scene.Part) (far float64) {
	place := map[int]uint16{}
	for i, b := range w.used {
		place[b] = uint16(i)
	}
	const most = 4
	p.Influences = most
	p.Joints, p.Weights = make([]uint16, most*p.Vertices()), make([]float32, most*p.Vertices())
	for v := range p.Vertices() {
		at := at3(p.Positions, uint32(v))
		t, d := w.nearest(p, v, at)
		far = math.Max(far, d)
		sum := map[uint16]float64{}
		for c, share := range shares(at, w.tri[3*t], w.tri[3*t+1], w.tri[3*t+2]) {
			of := w.of[t][c]
			n := &w.o.Nodes[of.node]
			q := &w.o.Meshes[n.Mesh].Parts[of.part]
			joints := w.o.Skins[n.Skin].Joints
			for k := int(of.vertex) * q.Influences; k < (int(of.vertex)+1)*q.Influences; k++ {
				if q.Weights[k] > 0 {
					sum[place[joints[q.Joints[k]]]] += share * float64(q.Weights[k])
				}
			}
		}
		var list []uint16
		for j := range sum {
			list = append(list, j)
		}
		slices.SortFunc(list, func(a, b uint16) int {
			switch {
			case sum[a] > sum[b]:
				return -1
			case sum[a] < sum[b]:
				return 1
			}
			return int(a) - int(b)
		})
		list = list[:min(len(list), most)]
		whole := 0.0
		for _, j := range list {
			whole += sum[j]
		}
		for k, j := range list {
			p.Joints[most*v+k], p.Weights[most*v+k] = j, float32(sum[j]/whole)
		}
	}
	return far
}

// nearest is the triangle of the other surface that is nearest to a vertex. Of
// several in one place it is one that faces as the vertex does.
func (w *weightTaker) nearest(p *scene.Part, v int, at geom.Vec3) (triangle int, distance float64) {
	if p.Normals == nil {
		return w.surface.To(at)
	}
	return w.surface.Facing(at, at3(p.Normals, uint32(v)), w.same)
}

// shares are the barycentric coordinates of the place of a triangle that is
// nearest to a point, within it.
func shares(p, a, b, c geom.Vec3) [3]float64 {
	ab, ac, ap := b.Sub(a), c.Sub(a), p.Sub(a)
	d00, d01, d11 := ab.Dot(ab), ab.Dot(ac), ac.Dot(ac)
	d20, d21 := ap.Dot(ab), ap.Dot(ac)
	den := d00*d11 - d01*d01
	if den <= 1e-20*d00*d11 || den == 0 {
		return [3]float64{1, 0, 0}
	}
	v, w := (d11*d20-d01*d21)/den, (d00*d21-d01*d20)/den
	out := [3]float64{max(0, 1-v-w), max(0, v), max(0, w)}
	sum := out[0] + out[1] + out[2]
	for i := range out {
		out[i] /= sum
	}
	return out
}
