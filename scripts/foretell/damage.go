package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/step"
)

// damage spoils an asset in a known way. It works on a copy whose lists are its
// own; false is where the asset has nothing to spoil so.
type damage struct {
	name string
	do   func(s *scene.Scene, r *rand.Rand) bool
}

// copied is a scene whose lists, and those of its parts, can be changed.
func copied(s *scene.Scene) *scene.Scene {
	c := *s
	c.Nodes, c.Materials, c.Pictures, c.Meshes = slices.Clone(s.Nodes), slices.Clone(s.Materials),
		slices.Clone(s.Pictures), slices.Clone(s.Meshes)
	c.Skins, c.Motions, c.Cameras, c.Lights = slices.Clone(s.Skins), slices.Clone(s.Motions),
		slices.Clone(s.Cameras), slices.Clone(s.Lights)
	for i := range c.Meshes {
		c.Meshes[i].Parts = slices.Clone(c.Meshes[i].Parts)
	}
	for i := range c.Materials {
		c.Materials[i].Textures = slices.Clone(c.Materials[i].Textures)
	}
	return &c
}

func up(s *scene.Scene) geom.Vec3 { return s.Basis.Up.Vec() }

// parts visits the parts that nodes show.
func parts(s *scene.Scene, f func(n *scene.Node, p *scene.Part) bool) bool {
	any := false
	for i := range s.Nodes {
		if m := s.Nodes[i].Mesh; m >= 0 && s.Nodes[i].Collider == nil {
			for j := range s.Meshes[m].Parts {
				any = f(&s.Nodes[i], &s.Meshes[m].Parts[j]) || any
			}
		}
	}
	return any
}

func material(s *scene.Scene, name string) *scene.Material {
	for i := range s.Materials {
		if strings.EqualFold(s.Materials[i].Name, name) {
			return &s.Materials[i]
		}
	}
	return nil
}

// bigger gives a picture another size; its texels are plain.
func bigger(s *scene.Scene, w, h int, r *rand.Rand) bool {
	b := &builder{s: s, r: r}
	for i := range s.Materials {
		if len(s.Materials[i].Textures) > 0 && s.Materials[i].Alpha == scene.Opaque {
			s.Materials[i].Textures[0].Picture = b.picture("grown", w, h, "")
			return true
		}
	}
	return false
}

func bones(s *scene.Scene) []int {
	if len(s.Skins) == 0 {
		return nil
	}
	return s.Skins[0].Joints
}

// addBone adds a bone below another; weight makes a vertex hang on it.
func addBone(s *scene.Scene, name string, under int, weight bool) bool {
	if under >= len(bones(s)) {
		return false
	}
	n := scene.NewNode(name)
	n.Parent = bones(s)[under]
	k := len(s.Nodes)
	s.Nodes = append(s.Nodes, n)
	skin := s.Skins[0]
	skin.Joints = append(slices.Clone(skin.Joints), k)
	bind := skin.InverseBind[16*under : 16*under+16]
	skin.InverseBind = append(slices.Clone(skin.InverseBind), bind...)
	s.Skins[0] = skin
	if weight {
		parts(s, func(n *scene.Node, p *scene.Part) bool {
			if p.Influences == 0 {
				return false
			}
			p.Joints = slices.Clone(p.Joints)
			p.Joints[0] = uint16(len(skin.Joints) - 1)
			return true
		})
	}
	return true
}

func applied(s *scene.Scene, name, with string) bool {
	k, err := step.Get(name)
	if err != nil {
		panic(err)
	}
	r := &step.Report{}
	out, err := k.Apply(context.Background(), s, []byte(with), nil, r)
	if err != nil || r.Idle {
		return false
	}
	*s = *out
	return true
}

var damages = []damage{
	{"a picture is missing", func(s *scene.Scene, _ *rand.Rand) bool {
		for i := range s.Materials {
			if t := s.Materials[i].Textures; len(t) > 0 {
				p := &s.Pictures[t[0].Picture]
				p.Data, p.Found = nil, ""
				return true
			}
		}
		return false
	}},
	{"a picture of 4,096 px", func(s *scene.Scene, r *rand.Rand) bool { return bigger(s, 4096, 32, r) }},
	{"sides of 300 × 200", func(s *scene.Scene, r *rand.Rand) bool { return bigger(s, 300, 200, r) }},
	{"a material twice", func(s *scene.Scene, r *rand.Rand) bool {
		m := s.Materials[r.IntN(len(s.Materials))]
		m.Name += "_copy"
		s.Materials = append(s.Materials, m)
		k := len(s.Materials) - 1
		done := false
		parts(s, func(_ *scene.Node, p *scene.Part) bool {
			if !done && p.Material >= 0 {
				p.Material, done = k, true
			}
			return done
		})
		return done
	}},
	{"a second import's number", func(s *scene.Scene, r *rand.Rand) bool {
		s.Materials[0].Name += ".001"
		return true
	}},
	{"letters that are changed", func(s *scene.Scene, r *rand.Rand) bool {
		s.Nodes[r.IntN(len(s.Nodes))].Name = "Prüfung#" + fmt.Sprint(r.IntN(9))
		return true
	}},
	{"a name twice", func(s *scene.Scene, r *rand.Rand) bool {
		list := []int{}
		for i := range s.Nodes {
			if s.Nodes[i].Collider == nil {
				list = append(list, i)
			}
		}
		if len(list) < 2 || len(bones(s)) > 0 {
			return false
		}
		s.Nodes[list[1]].Name = s.Nodes[list[0]].Name
		return true
	}},
	{"a name of 120 letters", func(s *scene.Scene, r *rand.Rand) bool {
		if len(bones(s)) > 0 {
			return false
		}
		s.Nodes[0].Name = strings.Repeat("long_", 24)
		return true
	}},
	{"a camera", func(s *scene.Scene, _ *rand.Rand) bool {
		n := scene.NewNode("cam")
		n.Camera = len(s.Cameras)
		s.Cameras = append(s.Cameras, scene.Camera{FovY: 0.8, Near: 0.1, Far: 100})
		s.Nodes = append(s.Nodes, n)
		return true
	}},
	{"a light", func(s *scene.Scene, _ *rand.Rand) bool {
		n := scene.NewNode("lamp")
		n.Light = len(s.Lights)
		s.Lights = append(s.Lights, scene.Light{Type: "point", Colour: [3]float32{1, 1, 1}, Intensity: 10})
		s.Nodes = append(s.Nodes, n)
		return true
	}},
	{"a helper", func(s *scene.Scene, _ *rand.Rand) bool {
		s.Nodes = append(s.Nodes, scene.NewNode("target_point"))
		return true
	}},
	{"the root is renamed", func(s *scene.Scene, _ *rand.Rand) bool {
		if len(bones(s)) == 0 {
			return false
		}
		s.Nodes[bones(s)[0]].Name = "root_1"
		return true
	}},
	{"an end bone", func(s *scene.Scene, r *rand.Rand) bool {
		return addBone(s, "head_end", max(len(bones(s))-1-r.IntN(3), 0), false)
	}},
	{"a bone more", func(s *scene.Scene, _ *rand.Rand) bool { return addBone(s, "tail", 1, true) }},
	{"a bone less", func(s *scene.Scene, r *rand.Rand) bool {
		if len(bones(s)) < 4 {
			return false
		}
		last := s.Nodes[bones(s)[len(bones(s))-1]].Name
		return applied(s, "bones-trim", fmt.Sprintf(`{"where":{"node":%q},"ends":false}`, last))
	}},
	{"another parent", func(s *scene.Scene, _ *rand.Rand) bool {
		b := bones(s)
		if len(b) < 6 {
			return false
		}
		return applied(s, "bones-parent", fmt.Sprintf(`{"rows":[{"bone":%q,"parent":%q}]}`,
			s.Nodes[b[len(b)-1]].Name, s.Nodes[b[2]].Name))
	}},
	{"six bones a vertex", func(s *scene.Scene, _ *rand.Rand) bool {
		if len(bones(s)) < 6 {
			return false
		}
		return parts(s, func(_ *scene.Node, p *scene.Part) bool {
			if p.Influences == 0 {
				return false
			}
			n := p.Vertices()
			j, w := make([]uint16, 6*n), make([]float32, 6*n)
			for v := range n {
				for k := range 6 {
					j[6*v+k], w[6*v+k] = uint16(k), 1.0/6
				}
			}
			p.Influences, p.Joints, p.Weights = 6, j, w
			return true
		})
	}},
	{"weights of a half", func(s *scene.Scene, _ *rand.Rand) bool {
		return parts(s, func(_ *scene.Node, p *scene.Part) bool {
			p.Weights = slices.Clone(p.Weights)
			for i := range p.Weights {
				p.Weights[i] /= 2
			}
			return p.Influences > 0
		})
	}},
	{"a skinned part without weights", func(s *scene.Scene, _ *rand.Rand) bool {
		return parts(s, func(n *scene.Node, p *scene.Part) bool {
			if n.Skin < 0 {
				return false
			}
			p.Influences, p.Joints, p.Weights = 0, nil, nil
			return true
		})
	}},
	{"no colliders", func(s *scene.Scene, _ *rand.Rand) bool {
		return applied(s, "strip", `{"cameras":false,"lights":false,"helpers":false,"colliders":true}`)
	}},
	{"a door that is shut", func(s *scene.Scene, _ *rand.Rand) bool {
		return applied(s, "colliders", `{"where":{"node":"*door*"},"shape":"box"}`)
	}},
	{"capsules", func(s *scene.Scene, _ *rand.Rand) bool {
		return applied(s, "strip", `{"cameras":false,"lights":false,"helpers":false,"colliders":true}`) &&
			applied(s, "colliders", `{"shape":"capsule","where":{"not":{"node":"*door*"}}}`)
	}},
	{"glass is opaque", func(s *scene.Scene, _ *rand.Rand) bool {
		m := material(s, "pane_glass")
		if m == nil {
			return false
		}
		m.Name, m.Alpha = "clear_pane", scene.Opaque // not one that the target has
		return true
	}},
	{"foliage is opaque", func(s *scene.Scene, _ *rand.Rand) bool {
		m := material(s, "reed_foliage")
		if m == nil {
			return false
		}
		m.Alpha = scene.Opaque
		return true
	}},
	{"a wall shines through", func(s *scene.Scene, _ *rand.Rand) bool {
		for i := range s.Materials {
			if m := &s.Materials[i]; m.Alpha == scene.Opaque && len(m.Textures) > 0 {
				m.Name, m.Alpha = "shining", scene.Blend
				return true
			}
		}
		return false
	}},
	{"a thousand times too large", func(s *scene.Scene,
		_ *rand.Rand) bool {
		return applied(s, "scale", `{"factor":1000}`)
	}},
	{"a thousand times too small", func(s *scene.Scene,
		_ *rand.Rand) bool {
		return applied(s, "scale", `{"factor":0.001}`)
	}},
	{"off the ground", func(s *scene.Scene, r *rand.Rand) bool {
		by := up(s).Mul((0.05 + r.Float64()) / s.Basis.MetresPerUnit)
		if r.IntN(2) == 0 {
			by = by.Mul(-1)
		}
		*s = *step.Translated(s, by)
		return true
	}},
	{"beside the origin", func(s *scene.Scene, r *rand.Rand) bool {
		*s = *step.Translated(s, s.Basis.Front.Vec().Mul((0.3+r.Float64())/s.Basis.MetresPerUnit))
		return true
	}},
	{"no normals", func(s *scene.Scene, _ *rand.Rand) bool {
		return parts(s, func(_ *scene.Node, p *scene.Part) bool { p.Normals, p.Tangents = nil, nil; return true })
	}},
	{"no UVs", func(s *scene.Scene, _ *rand.Rand) bool {
		return parts(s, func(_ *scene.Node, p *scene.Part) bool {
			p.UVs = nil
			return p.Material >= 0 && len(s.Materials[p.Material].Textures) > 0
		})
	}},
	{"five UV sets", func(s *scene.Scene, _ *rand.Rand) bool {
		return parts(s, func(_ *scene.Node, p *scene.Part) bool {
			if len(p.UVs) == 0 {
				return false
			}
			for k := 1; k < 5; k++ {
				p.UVs = append(slices.Clone(p.UVs), scene.AttrSet{Name: fmt.Sprintf("set %d", k), Data: p.UVs[0].Data})
			}
			return true
		})
	}},
	{"three colour sets", func(s *scene.Scene, _ *rand.Rand) bool {
		return parts(s, func(_ *scene.Node, p *scene.Part) bool {
			for k := range 3 {
				data := make([]float32, 4*p.Vertices())
				for i := range data {
					data[i] = 1
				}
				p.Colours = append(slices.Clone(p.Colours),
					scene.AttrSet{Name: fmt.Sprintf("colour %d", k), Data: data})
			}
			return true
		})
	}},
	{"too many triangles", func(s *scene.Scene, _ *rand.Rand) bool {
		done := false
		parts(s, func(_ *scene.Node, p *scene.Part) bool {
			if done || len(p.Triangles) == 0 {
				return false
			}
			list := make([]uint32, 0, 210_000*3)
			for len(list) < 205_000*3 {
				list = append(list, p.Triangles...)
			}
			p.Triangles, done = list, true
			return true
		})
		return done
	}},
	{"eighty materials", func(s *scene.Scene, _ *rand.Rand) bool {
		for i := range 80 {
			m := scene.NewMaterial(fmt.Sprintf("hue_%d", i))
			m.BaseColour = [4]float32{float32(i) / 80, 0.5, 0.5, 1}
			s.Materials = append(s.Materials, m)
			p := box(geom.Vec3{0, 0, 0}, geom.Vec3{0.1, 0.1, 0.1}, len(s.Materials)-1)
			for k := range s.Nodes {
				if mm := s.Nodes[k].Mesh; mm >= 0 && s.Nodes[k].Skin < 0 && s.Nodes[k].Collider == nil {
					s.Meshes[mm].Parts = append(s.Meshes[mm].Parts, p)
					break
				}
			}
		}
		return len(bones(s)) == 0
	}},
	{"surfaces of the editor", func(s *scene.Scene, _ *rand.Rand) bool {
		for i := range s.Materials {
			if s.Materials[i].Textures == nil {
				s.Materials[i].Name = "tool_clip"
				return true
			}
		}
		return false
	}},
	{"it moves", func(s *scene.Scene, _ *rand.Rand) bool {
		s.Motions = append(s.Motions, scene.Motion{Name: "sway",
			Channels: []scene.Channel{{Node: 0, Path: scene.PathTranslation, Interp: "linear",
				Times: []float32{0, 1}, Values: []float32{0, 0, 0, 0, 0, 0}}}})
		return true
	}},
	{"two looks", func(s *scene.Scene, _ *rand.Rand) bool {
		s.Variants = []string{"summer", "winter"}
		return parts(s, func(_ *scene.Node, p *scene.Part) bool { p.Variants = []int{p.Material, 0}; return true })
	}},
	{"nothing", func(*scene.Scene, *rand.Rand) bool { return true }},
}
