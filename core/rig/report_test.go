package rig

import (
	"math"
	"slices"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// bodied is a person with a point of surface on each bone.
func bodied(k kind) *scene.Scene {
	s := person(k)
	p := scene.Part{Material: scene.None, Influences: 1}
	for i := range s.Nodes {
		at := Of(s).At(i)
		p.Positions = append(p.Positions, float32(at[0]), float32(at[1]), float32(at[2]))
		p.Joints, p.Weights, p.Points = append(p.Joints, uint16(i)), append(p.Weights, 1), append(p.Points, uint32(i))
	}
	s.Meshes = []scene.Mesh{{Name: "body", Parts: []scene.Part{p}}}
	n := scene.NewNode("body")
	n.Mesh, n.Skin = 0, 0
	s.Nodes = append(s.Nodes, n)
	return s
}

func TestTell(t *testing.T) {
	s := bodied(kind{spine: 3, clav: true})
	m := walk(s, 3, 1)
	s.Motions = []scene.Motion{m}
	r := Tell(s, nil)
	if len(r.Missing)+len(r.Odd) > 0 || len(r.Bones) != len(s.Nodes)-1 {
		t.Errorf("%v %v, %d bones", r.Missing, r.Odd, len(r.Bones))
	}
	turned := bodied(kind{spine: 3, clav: true})
	q := geom.AxisAngle(geom.Vec3{1, 2, 2}.Mul(1.0/3), 0.5)
	for k, x := range q {
		turned.Nodes[1].Rotation[k] = float32(x)
	}
	if got := Tell(turned, nil).Bones[1].Turn; math.Abs(got-0.5*180/math.Pi) > 1e-3 {
		t.Errorf("a bone is turned by %g degrees", got)
	}
	for _, b := range r.Bones {
		if len(b.Odd) > 0 || b.Vertices != 1 || b.Limb != b.Name && b.Name != "hair" {
			t.Errorf("%+v", b)
		}
		if b.Moved != (slices.ContainsFunc(m.Channels, func(c scene.Channel) bool { return c.Node == b.Node })) {
			t.Errorf("%s moves: %v", b.Name, b.Moved)
		}
	}
	if head := r.Bones[slices.IndexFunc(r.Bones, func(b Bone) bool { return b.Name == "head" })]; r.Bones[head.Parent].Name != "neck" || head.Depth != 5 || head.Children != 3 {
		t.Errorf("%+v", head)
	}
}

func TestOddThings(t *testing.T) {
	for says, spoil := range map[string]func(s *scene.Scene){
		"a scale of 100 × 100 × 100": func(s *scene.Scene) { s.Nodes[0].Scale = [3]float32{100, 100, 100} },
		"an end bone without weight": func(s *scene.Scene) {
			s.Meshes[0].Parts[0].Weights[slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == "hair" })] = 0
		},
		"without weight": func(s *scene.Scene) { s.Meshes[0].Parts[0].Weights[2] = 0 },
		"outside of the body": func(s *scene.Scene) {
			s.Nodes[4].Translation[2], s.Meshes[0].Parts[0].Weights[4] = 3, 0
			s.Nodes[5].Translation[2] = -3
		},
		"2 roots":                       func(s *scene.Scene) { s.Nodes[1].Parent = scene.None },
		"several bones are called neck": func(s *scene.Scene) { s.Nodes[5].Name = "neck" },
		"the weights of 1 vertices do not add up to one": func(s *scene.Scene) { s.Meshes[0].Parts[0].Weights[3] = 0.5 },
		"1 vertices hang on more than four bones, 5 at most": func(s *scene.Scene) {
			p := &s.Meshes[0].Parts[0]
			n := p.Vertices()
			joints, weights := p.Joints, p.Weights
			p.Influences, p.Joints, p.Weights = 5, make([]uint16, 5*n), make([]float32, 5*n)
			for v := range n {
				p.Joints[5*v], p.Weights[5*v] = joints[v], weights[v]
			}
			for k := range 5 {
				p.Joints[k], p.Weights[k] = uint16(k), 0.2
			}
		},
		"the rest pose is not the one in which the surface was bound": func(s *scene.Scene) { s.Nodes[6].Translation[1] += 0.5 },
	} {
		s := bodied(kind{spine: 3, clav: true})
		spoil(s)
		r := Tell(s, nil)
		all := slices.Clone(r.Odd)
		for _, b := range r.Bones {
			all = append(all, b.Odd...)
		}
		if !slices.ContainsFunc(all, func(x string) bool { return strings.HasPrefix(x, says) }) {
			t.Errorf("%q is not said: %q", says, all)
		}
	}
	if r := Tell(&scene.Scene{}, nil); len(r.Bones) != 0 || r.Odd == nil {
		t.Errorf("%+v", r)
	}
}
