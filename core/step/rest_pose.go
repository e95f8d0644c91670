package step

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/rig"
	"excavate/core/scene"
)

// RestPoseParams say what the rest pose becomes.
type RestPoseParams struct {
	To     string  `json:"to" jsonschema:"title=To,enum=T,enum=A,enum=skeleton,enum=frame,description=Arms level or half way down; that of another skeleton; or a frame of a motion"`
	From   string  `json:"from,omitempty" jsonschema:"title=Skeleton of,maxLength=4096,description=For skeleton: an asset in the search order or beside the chain's document; or chain: and the name of another chain" jsonschema_extras:"chooser=model"`
	Motion string  `json:"motion,omitempty" jsonschema:"title=Motion,maxLength=1000,description=For frame"`
	Time   float64 `json:"time" jsonschema:"title=At,minimum=0,maximum=1e+06,description=For frame" jsonschema_extras:"unit=s"`
	Limbs
}

// Validate refuses a pose without what it is taken from.
func (p *RestPoseParams) Validate() error {
	switch {
	case (p.To == "skeleton") != (p.From != ""):
		return fmt.Errorf("name the other skeleton's asset for to: skeleton, and only for that")
	case (p.To == "frame") != (p.Motion != ""):
		return fmt.Errorf("name the motion for to: frame, and only for that")
	}
	return nil
}

func (p *RestPoseParams) asks() []Ask {
	if p.From == "" {
		return nil
	}
	return []Ask{{Asset: p.From}}
}

var _ = registerBeyond(Kind{Name: "rest-pose", Title: "Rest pose", Family: Rig, Version: 1,
	Purpose: "Let a figure stand otherwise at rest: in a T, in an A, like another skeleton, or as in a frame of a motion. Motions look as before."},
	RestPoseParams{To: "T"}, restPose)

func restPose(ctx context.Context, s *scene.Scene, p RestPoseParams, b Beyond, r *Report) (*scene.Scene, error) {
	k := rig.Of(s)
	if !slices.Contains(s.Bones(), true) {
		r.Nothing("there are no bones")
		return s, nil
	}
	if bad := unknownLimbs(p.Limbs.Limbs, k); len(bad) > 0 {
		return nil, fmt.Errorf("limbs: %s", named(bad))
	}
	var world []geom.Mat4
	switch p.To {
	case "frame":
		posed, err := frame(s, BakePoseParams{Motion: p.Motion, Time: p.Time})
		if err != nil {
			return nil, err
		}
		world = posed.World()
	case "skeleton":
		o, err := other(ctx, b, p.From, s, r)
		if err != nil {
			return nil, err
		}
		other := rig.Of(o)
		pairs := rig.PairsOf(other.Map(nil), k.Map(p.fixed()))
		if len(pairs.Lacking) > len(pairs.List) || len(pairs.List) < 3 { // no bodies
			pairs = rig.PairsAlike(other, k)
		}
		if len(pairs.List) < 2 {
			return nil, fmt.Errorf("the skeletons of %s and of this asset have no limbs in common that can be told", p.From)
		}
		if len(pairs.Lacking) > 0 {
			r.Say("this skeleton has no %s", named(pairs.Lacking))
		}
		world = k.Aimed(pairs.Aligned(other, k))
	default:
		body := k.Map(p.fixed())
		if missing := body.Missing(); len(missing) > 0 {
			return nil, fmt.Errorf("the skeleton has no %s that can be told, and so no such pose", named(missing))
		}
		if p.To == "A" {
			world = k.Aimed(k.APose(body))
		} else {
			world = k.Aimed(k.TPose(body))
		}
	}
	most, which := farthestTurn(k, world)
	if most < 0.05 {
		r.Nothing("it stands so already, within %.2f degrees", most)
		return s, nil
	}
	out, lost := atRest(s, k, world)
	r.Say("%s turned by up to %.4g degrees (%s)",
		count(turnedBones(k, world), "bone is", "bones are"), most, k.Name(which))
	if lost > 0 {
		r.Lose("the tangents of %s, which bend with several bones", count(lost, "part", "parts"))
	}
	return out, nil
}

// turn is by how many degrees a bone is turned against how it stood.
func turnOf(k *rig.Rig, world []geom.Mat4, bone int) float64 {
	_, a, _, _ := k.World[bone].Decompose()
	_, b, _, _ := world[bone].Decompose()
	q := b.Mul(a.Inverse())
	return 2 * math.Atan2(math.Sqrt(q[0]*q[0]+q[1]*q[1]+q[2]*q[2]), math.Abs(q[3])) * 180 / math.Pi
}

func farthestTurn(k *rig.Rig, world []geom.Mat4) (most float64, which int) {
	for _, b := range k.Bones {
		if d := turnOf(k, world, b); d > most {
			most, which = d, b
		}
	}
	return most, which
}

func turnedBones(k *rig.Rig, world []geom.Mat4) (n int) {
	for _, b := range k.Bones {
		if turnOf(k, world, b) >= 0.05 {
			n++
		}
	}
	return n
}

// atRest is the scene with its bones standing elsewhere at rest. What is bound
// follows: vertices are where linear blending puts them in the new pose, and
// the inverse binds are those of it. Where vertices hang on one bone every
// motion looks as before, because bones go through the same places: those that
// a motion does not move are held where they stood. lost counts parts whose
// tangents went.
func atRest(s *scene.Scene, k *rig.Rig, world []geom.Mat4) (res *scene.Scene, lost int) {
	out := *s
	out.Nodes, out.Meshes, out.Skins = slices.Clone(s.Nodes), slices.Clone(s.Meshes), slices.Clone(s.Skins)
	locals := rig.Locals(s, world)
	changed := make([]bool, len(s.Nodes))
	for _, b := range k.Bones {
		t, q, z, _ := locals[b].Decompose()
		was := s.Nodes[b]
		stood := geom.Vec3{float64(was.Translation[0]), float64(was.Translation[1]), float64(was.Translation[2])}
		if turnOfQuats(was.Rotation, q) > 1e-6 || stood.Sub(t).Len() > 1e-9 {
			out.Nodes[b].Put(t, q, z)
			changed[b] = true
		}
	}
	world = out.World() // as the numbers of the file hold it
	made := map[[2]int]int{}
	for i := range out.Nodes {
		n := &out.Nodes[i]
		if n.Mesh < 0 || n.Skin < 0 {
			continue
		}
		key := [2]int{n.Mesh, n.Skin}
		at, ok := made[key]
		if !ok {
			mesh := s.Meshes[n.Mesh]
			mesh.Parts = slices.Clone(mesh.Parts)
			for j := range mesh.Parts {
				was := mesh.Parts[j].Tangents != nil
				mesh.Parts[j] = rebound(s, n.Skin, &mesh.Parts[j], world)
				if was && mesh.Parts[j].Tangents == nil {
					lost++
				}
			}
			at = len(out.Meshes)
			out.Meshes = append(out.Meshes, mesh)
			made[key] = at
		}
		n.Mesh = at
	}
	for i := range out.Skins {
		out.Skins[i].InverseBind = nil
		for _, j := range out.Skins[i].Joints {
			inv, ok := world[j].Inverse()
			if !ok {
				inv = geom.Identity
			}
			for _, v := range inv {
				out.Skins[i].InverseBind = append(out.Skins[i].InverseBind, float32(v))
			}
		}
	}
	out.Motions = slices.Clone(s.Motions)
	for m := range out.Motions {
		out.Motions[m].Channels = held(s, &s.Motions[m], changed)
	}
	return out.Sweep(s), lost
}

func turnOfQuats(a [4]float32, b geom.Quat) float64 {
	q := b.Mul(geom.Quat{float64(a[0]), float64(a[1]), float64(a[2]), float64(a[3])}.Norm().Inverse())
	return math.Sqrt(q[0]*q[0] + q[1]*q[1] + q[2]*q[2])
}

// rebound is a part in world space as its bones show it at places. Moves of
// morph targets turn with the vertices.
func rebound(s *scene.Scene, skin int, p *scene.Part, world []geom.Mat4) scene.Part {
	q := *p
	by := s.SkinMatrices(skin, world)
	n := p.Vertices()
	q.Positions = make([]float32, 3*n)
	if p.Normals != nil {
		q.Normals = make([]float32, 3*n)
	}
	q.Morphs = slices.Clone(p.Morphs)
	for k := range q.Morphs {
		m := &q.Morphs[k]
		m.Positions, m.Normals, m.Tangents = slices.Clone(m.Positions), slices.Clone(m.Normals), slices.Clone(m.Tangents)
	}
	for v := range n {
		var m geom.Mat4
		sum := 0.0
		for k := range p.Influences {
			w := float64(p.Weights[v*p.Influences+k])
			if w == 0 {
				continue
			}
			b := by[p.Joints[v*p.Influences+k]]
			for i := range m {
				m[i] += w * b[i]
			}
			sum += w
		}
		if sum == 0 {
			m = geom.Identity
		} else if math.Abs(sum-1) > 1e-6 {
			for i := range m {
				m[i] /= sum
			}
		}
		put := func(to []float32, x geom.Vec3) {
			to[3*v], to[3*v+1], to[3*v+2] = float32(x[0]), float32(x[1]), float32(x[2])
		}
		put(q.Positions, m.Point(at3(p.Positions, uint32(v))))
		if q.Normals != nil {
			nm := m.NormalMatrix()
			put(q.Normals, nm.Dir(at3(p.Normals, uint32(v))).Norm())
		}
		for k := range q.Morphs {
			for _, d := range [][]float32{q.Morphs[k].Positions, q.Morphs[k].Normals, q.Morphs[k].Tangents} {
				if d != nil {
					put(d, m.Dir(at3(d, uint32(v))))
				}
			}
		}
	}
	if p.Tangents != nil {
		q.Tangents = turnedTangents(p, q.Normals)
	}
	if len(by) > 0 && by[0].Det3() < 0 { // seen from the other side
		q.Triangles = flipped(p.Triangles)
	}
	return q
}

// held is a motion's channels, and for each node that stands elsewhere at rest
// now, and that the motion leaves at rest, channels that hold it where it was.
func held(s *scene.Scene, m *scene.Motion, changed []bool) []scene.Channel {
	list := slices.Clone(m.Channels)
	has := map[int]map[scene.Path]bool{}
	for _, c := range m.Channels {
		if has[c.Node] == nil {
			has[c.Node] = map[scene.Path]bool{}
		}
		has[c.Node][c.Path] = true
	}
	for i, moved := range changed {
		if !moved {
			continue
		}
		n := &s.Nodes[i]
		for _, c := range []struct {
			path scene.Path
			v    []float32
		}{{scene.PathTranslation, n.Translation[:]}, {scene.PathRotation, n.Rotation[:]}} {
			if !has[i][c.path] {
				list = append(list, scene.Channel{Node: i, Path: c.path, Interp: scene.Linear,
					Times: []float32{0}, Values: slices.Clone(c.v)})
			}
		}
	}
	return list
}
