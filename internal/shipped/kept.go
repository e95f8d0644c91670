package shipped

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"math"
	"slices"
	"strings"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Kept is a Markdown table of what is left of a scene that has everything once
// it was written in each format and read again. It is measured, not declared.
func Kept() (string, error) {
	s, err := everything()
	if err != nil {
		return "", err
	}
	var names []string
	rows := make([][]string, len(features))
	for i := range Writers {
		w := &Writers[i]
		names = append(names, w.Name)
		files, _, err := w.Write(s, "everything")
		if err != nil {
			return "", fmt.Errorf("%s: %w", w.Name, err)
		}
		data := files[0].Data
		r := Formats.Find(data[:min(len(data), 4096)])
		if r == nil {
			return "", fmt.Errorf("%s: what is written is not recognised", w.Name)
		}
		there := map[string][]byte{}
		for _, f := range files {
			there[f.Name] = f.Data
		}
		got, err := r.Read(context.Background(), format.File{Name: files[0].Name, Data: data, Companion: func(ref string) ([]byte, string, error) {
			if b, ok := there[ref]; ok {
				return b, ref, nil
			}
			return nil, "", fmt.Errorf("%s is not there", ref)
		}})
		if err != nil {
			return "", fmt.Errorf("%s: %w", w.Name, err)
		}
		for i := range got.Pictures { // those beside the file are found through the stack
			if p := &got.Pictures[i]; p.Missing() && there[p.Ref] != nil {
				p.Data = there[p.Ref]
			}
		}
		for k, f := range features {
			rows[k] = append(rows[k], f.left(s, got))
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "| | %s |\n|---|%s\n", strings.Join(names, " | "), strings.Repeat("---|", len(names)))
	for k, f := range features {
		fmt.Fprintf(&b, "| %s | %s |\n", f.name, strings.Join(rows[k], " | "))
	}
	return b.String(), nil
}

// feature is something of a scene that a format may carry.
type feature struct {
	name string
	left func(was, is *scene.Scene) string
}

// counted compares how many there are.
func counted(name string, of func(*scene.Scene) int) feature {
	return feature{name, func(was, is *scene.Scene) string {
		a, b := of(was), min(of(is), of(was))
		switch {
		case b == a:
			return "yes"
		case b == 0:
			return "–"
		}
		return fmt.Sprintf("%d of %d", b, a)
	}}
}

// held compares whether it is there.
func held(name string, of func(*scene.Scene) bool) feature {
	return counted(name, func(s *scene.Scene) int {
		if of(s) {
			return 1
		}
		return 0
	})
}

// parts counts over all parts, or the most that one has.
func parts(sum bool, of func(*scene.Part) int) func(*scene.Scene) int {
	return func(s *scene.Scene) (n int) {
		for i := range s.Meshes {
			for k := range s.Meshes[i].Parts {
				if c := of(&s.Meshes[i].Parts[k]); sum {
					n += c
				} else {
					n = max(n, c)
				}
			}
		}
		return n
	}
}

// material is whether a material of a name is so.
func material(name string, is func(*scene.Scene, *scene.Material) bool) func(*scene.Scene) bool {
	return func(s *scene.Scene) bool {
		for i := range s.Materials {
			if s.Materials[i].Name == name && is(s, &s.Materials[i]) {
				return true
			}
		}
		return false
	}
}

func picture(role scene.Role) func(*scene.Scene, *scene.Material) bool {
	return func(s *scene.Scene, m *scene.Material) bool {
		t := m.Texture(role)
		return t != nil && !s.Pictures[t.Picture].Missing()
	}
}

// anyMaterial is whether some material is so: names may have become others.
func anyMaterial(is func(*scene.Scene, *scene.Material) bool) func(*scene.Scene) bool {
	return func(s *scene.Scene) bool {
		for i := range s.Materials {
			if is(s, &s.Materials[i]) {
				return true
			}
		}
		return false
	}
}

func near(a, b float32) bool { return math.Abs(float64(a-b)) < 0.01 }

var features = []feature{
	{"axes and unit", func(was, is *scene.Scene) string {
		switch is.Basis {
		case was.Basis:
			return "yes"
		case geom.Basis{}:
			return "–"
		}
		return "turned" // into those of the format, which it then tells
	}},
	counted("triangles", parts(true, func(p *scene.Part) int { return len(p.Triangles) / 3 })),
	counted("lines", parts(true, func(p *scene.Part) int { return len(p.Lines) / 2 })),
	counted("points", parts(true, func(p *scene.Part) int { return len(p.Points) })),
	held("normals of vertices", func(s *scene.Scene) bool {
		return parts(true, func(p *scene.Part) int {
			for i := 0; i+2 < len(p.Normals); i += 3 { // 0.6, 0.8 and 0 in some order, in whichever axes
				n := []float64{math.Abs(float64(p.Normals[i])), math.Abs(float64(p.Normals[i+1])), math.Abs(float64(p.Normals[i+2]))}
				slices.Sort(n)
				if n[0] < 0.01 && math.Abs(n[1]-0.6) < 0.01 {
					return 1
				}
			}
			return 0
		})(s) > 0
	}),
	held("tangents", func(s *scene.Scene) bool {
		return parts(true, func(p *scene.Part) int { return len(p.Tangents) })(s) > 0
	}),
	counted("UV sets", parts(false, func(p *scene.Part) int { return len(p.UVs) })),
	counted("names of UV sets", parts(false, func(p *scene.Part) (n int) {
		for _, u := range p.UVs {
			if u.Name == "surface" || u.Name == "dirt" {
				n++
			}
		}
		return n
	})),
	counted("colour sets", parts(false, func(p *scene.Part) int { return len(p.Colours) })),
	counted("materials", func(s *scene.Scene) (n int) {
		for _, name := range []string{"oak", "glass", "paint"} {
			if material(name, func(*scene.Scene, *scene.Material) bool { return true })(s) {
				n++
			}
		}
		return n
	}),
	held("colour of a material", material("glass", func(_ *scene.Scene, m *scene.Material) bool {
		return near(m.BaseColour[0], 0.2) && near(m.BaseColour[1], 0.4) && near(m.BaseColour[2], 0.6)
	})),
	held("metallic and roughness", material("glass", func(_ *scene.Scene, m *scene.Material) bool { return near(m.Metallic, 0.25) && near(m.Roughness, 0.5) })),
	held("emission", material("glass", func(_ *scene.Scene, m *scene.Material) bool { return near(m.Emissive[0], 0.5) })),
	held("blending", material("glass", func(_ *scene.Scene, m *scene.Material) bool {
		return m.Alpha == scene.Blend && near(m.BaseColour[3], 0.5)
	})),
	held("cutout", material("oak", func(_ *scene.Scene, m *scene.Material) bool { return m.Alpha == scene.Cutout })),
	held("two-sided", material("paint", func(_ *scene.Scene, m *scene.Material) bool { return m.TwoSided })),
	held("unlit", material("paint", func(_ *scene.Scene, m *scene.Material) bool { return m.Unlit })),
	held("clearcoat, sheen and other layers", material("glass", func(_ *scene.Scene, m *scene.Material) bool { return m.Layers != nil && m.Layers.Clearcoat != nil })),
	held("colour picture", anyMaterial(picture(scene.RoleColour))),
	held("normal picture", anyMaterial(picture(scene.RoleNormal))),
	held("roughness and other pictures", anyMaterial(picture(scene.RoleMetalRgh))),
	held("names of nodes", func(s *scene.Scene) bool {
		return slices.ContainsFunc(s.Nodes, func(n scene.Node) bool { return n.Name == "hull" })
	}),
	held("nodes within nodes", func(s *scene.Scene) bool {
		i := slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == "hull" })
		return i >= 0 && s.Nodes[i].Parent >= 0 && s.Nodes[s.Nodes[i].Parent].Name == "pier"
	}),
	counted("bones", func(s *scene.Scene) (n int) {
		for _, is := range s.Bones() {
			if is {
				n++
			}
		}
		return n
	}),
	held("joint weights", func(s *scene.Scene) bool { return parts(true, func(p *scene.Part) int { return len(p.Joints) })(s) > 0 }),
	counted("morph targets", parts(false, func(p *scene.Part) int { return len(p.Morphs) })),
	held("motions of bones", func(s *scene.Scene) bool {
		return slices.ContainsFunc(s.Motions, func(m scene.Motion) bool { return math.Abs(m.Seconds()-1) < 0.05 })
	}),
	counted("cameras", func(s *scene.Scene) int { return len(s.Cameras) }),
	counted("lights", func(s *scene.Scene) int { return len(s.Lights) }),
	held("owner", func(s *scene.Scene) bool { return strings.Contains(s.Terms.Owner, "Sedgewater") }),
	held("humanoid bones and expressions", func(s *scene.Scene) bool { return s.Avatar != nil && len(s.Avatar.Expressions) > 0 }),
}

// everything is a small scene with all that a scene can have.
func everything() (*scene.Scene, error) {
	png, err := pixel.PNG(image.NewNRGBA(image.Rect(0, 0, 4, 4)))
	if err != nil {
		return nil, err
	}
	s := &scene.Scene{Name: "everything", Basis: geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01}, Terms: scene.Terms{Owner: "Sedgewater Lantern Company"}}
	for _, n := range []string{"oak_c", "oak_n", "oak_r"} {
		s.Pictures = append(s.Pictures, scene.Picture{Name: n, MIME: "image/png", Data: bytes.Clone(png), Width: 4, Height: 4})
	}
	coat := float32(0.5)
	oak, glass, paint := scene.NewMaterial("oak"), scene.NewMaterial("glass"), scene.NewMaterial("paint")
	oak.Alpha, oak.Cutoff = scene.Cutout, 0.25
	for i, r := range []scene.Role{scene.RoleColour, scene.RoleNormal, scene.RoleMetalRgh} {
		oak.Textures = append(oak.Textures, scene.Texture{Role: r, Picture: i, Scale: 1})
	}
	glass.BaseColour, glass.Alpha, glass.Metallic, glass.Roughness = [4]float32{0.2, 0.4, 0.6, 0.5}, scene.Blend, 0.25, 0.5
	glass.Emissive, glass.Layers = [3]float32{0.5, 0, 0}, &scene.Layers{Clearcoat: &coat}
	paint.Unlit, paint.TwoSided = true, true
	s.Materials = []scene.Material{oak, glass, paint}

	node := func(name string, parent int) int {
		n := scene.NewNode(name)
		n.Parent = parent
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	mesh := func(at int, m scene.Mesh) {
		s.Nodes[at].Mesh = len(s.Meshes)
		s.Meshes = append(s.Meshes, m)
	}
	quad := func(material int) scene.Part {
		return scene.Part{Material: material, Positions: []float32{0, 0, 0, 100, 0, 0, 100, 0, 100, 0, 0, 100}, Normals: []float32{0, -0.6, 0.8, 0, -0.6, 0.8, 0, -0.6, 0.8, 0, -0.6, 0.8}, Triangles: []uint32{0, 1, 2, 0, 2, 3}}
	}
	pier := node("pier", -1)
	hull := quad(0)
	hull.Tangents = []float32{1, 0, 0, 1, 1, 0, 0, 1, 1, 0, 0, 1, 1, 0, 0, 1}
	hull.UVs = []scene.AttrSet{{Name: "surface", Data: []float32{0, 1, 1, 1, 1, 0, 0, 0}}, {Name: "dirt", Data: []float32{0, 0.5, 0.5, 0.5, 0.5, 0, 0, 0}}}
	white := []float32{1, 0, 0, 1, 0, 1, 0, 1, 0, 0, 1, 1, 1, 1, 1, 1}
	hull.Colours = []scene.AttrSet{{Name: "tint", Data: white}, {Name: "livery", Data: slices.Clone(white)}}
	mesh(node("hull", pier), scene.Mesh{Name: "hull", Parts: []scene.Part{hull, quad(1), quad(2)}})
	mesh(node("rope", pier), scene.Mesh{Name: "rope", Parts: []scene.Part{{Material: 2, Positions: []float32{0, 0, 0, 0, 50, 50}, Lines: []uint32{0, 1}}}})
	mesh(node("sparks", pier), scene.Mesh{Name: "sparks", Parts: []scene.Part{{Material: 2, Positions: []float32{0, 0, 90, 0, 0, 95, 5, 0, 99}, Points: []uint32{0, 1, 2}}}})
	eye := node("eye", pier)
	s.Nodes[eye].Camera, s.Cameras = 0, []scene.Camera{{Name: "eye", FovY: 0.8, Aspect: 1.5, Near: 1, Far: 10000}}
	lamp := node("lamp", pier)
	s.Nodes[lamp].Light, s.Lights = 0, []scene.Light{{Name: "lamp", Type: "point", Colour: [3]float32{1, 1, 1}, Intensity: 10}}

	// A figure with the bones of a person, a face and a motion.
	human := map[string]int{}
	bone := func(name, parent string, at [3]float32) {
		p := -1
		if parent != "" {
			p = human[parent]
		}
		human[name] = node(name, p)
		s.Nodes[human[name]].Translation = at
	}
	bone("hips", "", [3]float32{0, 0, 95})
	bone("spine", "hips", [3]float32{0, 0, 15})
	bone("head", "spine", [3]float32{0, 0, 45})
	for i, side := range []string{"left", "right"} {
		x := float32(1 - 2*i)
		bone(side+"UpperLeg", "hips", [3]float32{9 * x, 0, -5})
		bone(side+"LowerLeg", side+"UpperLeg", [3]float32{0, 0, -42})
		bone(side+"Foot", side+"LowerLeg", [3]float32{0, 0, -42})
		bone(side+"UpperArm", "spine", [3]float32{18 * x, 0, 30})
		bone(side+"LowerArm", side+"UpperArm", [3]float32{28 * x, 0, 0})
		bone(side+"Hand", side+"LowerArm", [3]float32{25 * x, 0, 0})
	}
	world := s.World()
	skin := scene.Skin{Name: "figure", Root: human["hips"]}
	for i := human["hips"]; i < len(s.Nodes); i++ {
		inverse, _ := world[i].Inverse()
		skin.Joints = append(skin.Joints, i)
		for _, v := range inverse {
			skin.InverseBind = append(skin.InverseBind, float32(v))
		}
	}
	s.Skins = []scene.Skin{skin}
	face := quad(0)
	face.UVs = []scene.AttrSet{hull.UVs[0], hull.UVs[1]}
	face.Influences = 4
	for range 4 {
		face.Joints, face.Weights = append(face.Joints, 2, 1, 0, 0), append(face.Weights, 0.75, 0.25, 0, 0)
	}
	face.Morphs = []scene.MorphTarget{{Name: "smile", Positions: []float32{0, 0, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0}}, {Name: "blink", Positions: []float32{0, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0, 2}}}
	figure := node("figure", -1)
	mesh(figure, scene.Mesh{Name: "figure", Parts: []scene.Part{face}})
	s.Nodes[figure].Skin = 0
	s.Motions = []scene.Motion{{Name: "nod", Channels: []scene.Channel{{Node: human["head"], Path: scene.PathRotation, Interp: scene.Linear, Times: []float32{0, 0.5, 1}, Values: []float32{0, 0, 0, 1, 0.1, 0, 0, 0.99498743, 0, 0, 0, 1}}}}}
	s.Avatar = &scene.Avatar{Version: "1.0", Bones: human, Expressions: []scene.Expression{{Name: "happy", Preset: true, Morphs: []scene.ExpressionMorph{{Node: figure, Index: 0, Weight: 1}}}},
		Meta: scene.AvatarMeta{Name: "everything", Authors: []string{"Sedgewater Lantern Company"}, LicenceURL: "https://vrm.dev/licenses/1.0/", ThumbnailOfPicture: scene.None}}
	return s, s.Validate()
}
