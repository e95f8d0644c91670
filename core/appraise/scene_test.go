package appraise

import (
	"fmt"
	"image"
	"image/color"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// village is a scene made by hand: a pier with a house in two levels of detail
// and a damaged one, a rope of lines, a lamp, an eye, a ghost that cannot be
// seen and a point of no extent.
func village() *scene.Scene {
	s := &scene.Scene{Basis: geom.GLTF}
	glass := scene.NewMaterial("glass")
	glass.Alpha, glass.BaseColour[3] = scene.Blend, 0
	coat, ior := float32(0.5), float32(1.4)
	oak := scene.NewMaterial("oak")
	oak.Layers = &scene.Layers{Clearcoat: &coat, IOR: &ior}
	oak.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0}, {Role: scene.RoleMetalRgh, Picture: 1, UVSet: 1}, {Role: scene.RoleOcclusion, Picture: 1}}
	s.Materials = []scene.Material{oak, glass}
	s.Pictures = []scene.Picture{{Name: "oak_c", Data: []byte{1}, Width: 4, Height: 4}, {Name: "oak_r"}}
	part := func(material int, size float32) scene.Part {
		return scene.Part{Material: material, Positions: []float32{0, 0, 0, size, 0, 0, size, size, 0, 0, size, 0}, Triangles: []uint32{0, 1, 2, 0, 2, 3}}
	}
	add := func(name string, parent int, m *scene.Mesh) int {
		n := scene.NewNode(name)
		n.Parent = parent
		if m != nil {
			n.Mesh = len(s.Meshes)
			s.Meshes = append(s.Meshes, *m)
		}
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	pier := add("pier", -1, nil)
	add("house_lod0", pier, &scene.Mesh{Name: "house", Parts: []scene.Part{part(0, 4), part(1, 2)}})
	add("house_lod2", pier, &scene.Mesh{Name: "house far", Parts: []scene.Part{part(0, 4)}})
	add("house_damaged", pier, &scene.Mesh{Name: "wreck", Parts: []scene.Part{part(0, 3)}})
	add("rope", pier, &scene.Mesh{Name: "rope", Parts: []scene.Part{{Material: scene.None, Positions: []float32{0, 0, 0, 0, 5, 0}, Lines: []uint32{0, 1}, Points: []uint32{1}}}})
	add("ghost", pier, &scene.Mesh{Name: "ghost", Parts: []scene.Part{part(1, 1)}})
	add("speck", pier, &scene.Mesh{Name: "speck", Parts: []scene.Part{part(0, 0)}})
	lamp, eye := add("lamp", pier, nil), add("eye", pier, nil)
	s.Nodes[lamp].Light, s.Lights = 0, []scene.Light{{Type: "point"}}
	s.Nodes[eye].Camera, s.Cameras = 0, []scene.Camera{{FovY: 1}}
	return s
}

func TestInventoryOfAVillage(t *testing.T) {
	s := village()
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	x := InventoryOf(s)
	got := ""
	for _, n := range x.Nodes {
		got += fmt.Sprintf("%s: %s %d %q %v; ", n.Name, n.Kind, n.Detail, n.State, n.Unwanted)
	}
	want := `pier: node 0 "" false; house_lod0: mesh 0 "" false; house_lod2: mesh 2 "" false; house_damaged: mesh 0 "damaged" false; rope: mesh 0 "" false; ghost: hidden mesh 0 "" true; speck: hidden mesh 0 "" true; lamp: light 0 "" true; eye: camera 0 "" true; `
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if n := x.Nodes[1]; n.Parent != 0 || n.Depth != 1 || *n.Size != [3]float64{4, 4, 0} {
		t.Errorf("%+v", n)
	}
	// Primitives count every list of a part.
	if r := x.Meshes[3].Parts[0]; r.Lines != 1 || r.Points != 1 || r.Triangles != 0 || r.Primitive != 0 {
		t.Errorf("%+v", r)
	}
	if a, b := x.Meshes[0].Parts[0], x.Meshes[0].Parts[1]; a.Primitive != 0 || b.Primitive != 1 || a.Normals || a.Triangles != 2 {
		t.Errorf("%+v %+v", a, b)
	}
	m := x.Materials[0]
	if fmt.Sprint(m.Layers) != "[index of refraction clearcoat]" || m.Triangles != 8 || fmt.Sprint(m.Textures) != "[{colour RGB, A opacity 0 0 false} {metallic-roughness G roughness, B metallic 1 1 true} {occlusion R 1 0 true}]" {
		t.Errorf("%+v", m)
	}
	if x.Materials[1].Alpha != "blend" || x.Materials[1].Triangles != 4 {
		t.Errorf("%+v", x.Materials[1])
	}
	if len(x.Skins)+len(x.Morphs)+len(x.Motions)+len(x.Expressions)+len(x.Colliders) != 0 {
		t.Errorf("%+v", x)
	}
	if e := InventoryOf(&scene.Scene{}); e.Nodes == nil || e.Meshes == nil || e.Materials == nil {
		t.Error("lists of nothing are null in JSON")
	}
}

func TestChannelsOfRoles(t *testing.T) {
	for r, want := range map[scene.Role]string{scene.RoleColour: "RGB, A opacity", scene.RoleNormal: "RGB", scene.RoleOcclusion: "R", scene.RoleClearcoatRoughness: "G", scene.RoleSpecular: "A", scene.RoleSheenColour: "RGB", scene.RoleTransmission: "R"} {
		if got := channels(r); got != want {
			t.Errorf("%s reads %s, want %s", r, got, want)
		}
	}
}

// Each kind of difference is told by its own row, and only by that.
func TestEveryDifferenceIsTold(t *testing.T) {
	differing := func(c Comparison) string {
		var out []string
		for _, list := range []struct {
			what string
			rows []Row
		}{{"figure", c.Figures}, {"bone", c.Bones}, {"material", c.Materials}, {"set", c.Sets}, {"motion", c.Motions}, {"thing", c.Things}} {
			for _, r := range list.rows {
				if r.Differ {
					out = append(out, list.what+" "+r.Name)
				}
			}
		}
		for _, r := range c.Pictures {
			if r.Differ {
				out = append(out, "picture "+r.Name)
			}
		}
		return strings.Join(out, ", ")
	}
	for _, c := range []struct {
		name   string
		change func(s *scene.Scene)
		want   string
	}{
		{"nothing", func(*scene.Scene) {}, ""},
		{"a material's roughness", func(s *scene.Scene) { s.Materials[0].Roughness = 0.2 }, "material oak"},
		{"a material's alpha", func(s *scene.Scene) { s.Materials[1].Alpha = scene.Cutout }, "material glass"},
		{"a material's name", func(s *scene.Scene) { s.Materials[1].Name = "pane" }, "material glass, material pane, set surface of glass, set surface of pane"},
		{"a camera less", func(s *scene.Scene) { s.Nodes[8].Camera, s.Cameras = scene.None, nil }, "figure cameras, thing camera "},
		{"a UV set more", func(s *scene.Scene) {
			s.Meshes[2].Parts[0].UVs = []scene.AttrSet{{Name: "dirt", Data: make([]float32, 8)}}
		}, "set UV set dirt"},
		{"a colour set more", func(s *scene.Scene) {
			s.Meshes[2].Parts[0].Colours = []scene.AttrSet{{Name: "tint", Data: make([]float32, 16)}}
		}, "set colour set tint"},
		{"a motion more", func(s *scene.Scene) {
			s.Motions = []scene.Motion{{Name: "sway", Channels: []scene.Channel{{Node: 0, Path: scene.PathTranslation, Interp: scene.Linear, Times: []float32{0, 1}, Values: make([]float32, 6)}}}}
		}, "figure motions, motion sway"},
		{"a picture of another size", func(s *scene.Scene) { s.Pictures[0].Width = 8 }, "material oak, picture oak, colour"},
		{"a picture that is found", func(s *scene.Scene) { s.Pictures[1].Data, s.Pictures[1].Width, s.Pictures[1].Height = []byte{1}, 2, 2 }, "figure pictures missing, material oak, picture oak, metallic-roughness"},
	} {
		a, b := village(), village()
		c.change(b)
		x := Compare(a, b, 0.01)
		if got := differing(x); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
		if same := c.want == ""; x.Same != same {
			t.Errorf("%s: the same %v: %s", c.name, x.Same, x.Verdict)
		}
	}
}

// What formats change without a difference that shows is none: how faces share
// vertices, and what eight bits of a colour lose. What shows is one.
func TestWhatFormatsChange(t *testing.T) {
	rich := func() *scene.Scene {
		s := village()
		s.Materials = append(s.Materials, s.Materials[0])
		p := &s.Meshes[0].Parts[0]
		p.UVs = []scene.AttrSet{{Name: "surface", Data: []float32{0, 0, 1, 0, 1, 1, 0, 1}}}
		p.Colours = []scene.AttrSet{{Name: "tint", Data: []float32{1, 0, 0, 1, 0, 1, 0, 1, 0, 0, 1, 1, 1, 1, 1, 1}}}
		p.Morphs = []scene.MorphTarget{{Name: "lean", Positions: []float32{0, 0, 0, 0, 0, 0.25, 0, 0, 0, 0, 0, 0}}}
		return s
	}
	split := func(p *scene.Part) {
		q := scene.Part{Material: p.Material, UVs: []scene.AttrSet{{Name: "surface"}}, Colours: []scene.AttrSet{{Name: "tint"}}, Morphs: []scene.MorphTarget{{Name: "lean"}}}
		for i, v := range p.Triangles {
			q.Positions = append(q.Positions, p.Positions[3*v:3*v+3]...)
			q.UVs[0].Data = append(q.UVs[0].Data, p.UVs[0].Data[2*v:2*v+2]...)
			q.Colours[0].Data = append(q.Colours[0].Data, p.Colours[0].Data[4*v:4*v+4]...)
			q.Morphs[0].Positions = append(q.Morphs[0].Positions, p.Morphs[0].Positions[3*v:3*v+3]...)
			q.Triangles = append(q.Triangles, uint32(i))
		}
		*p = q
	}
	for _, c := range []struct {
		name   string
		change func(s *scene.Scene)
		same   bool
		says   string
	}{
		{"split vertices", func(s *scene.Scene) { split(&s.Meshes[0].Parts[0]) }, true, ""},
		{"a colour of eight bits", func(s *scene.Scene) { s.Materials[1].BaseColour[0] -= 0.004 }, true, ""},
		{"a mesh of two nodes written twice", func(s *scene.Scene) {
			s.Meshes = append(s.Meshes, s.Meshes[3])
			s.Nodes[4].Mesh = len(s.Meshes) - 1
		}, true, ""},
		{"UVs upside down", func(s *scene.Scene) { s.Meshes[0].Parts[0].UVs[0].Data = []float32{0, 1, 1, 1, 1, 0, 0, 0} }, false, "U 0.00 to 1.00, V 0.00 to 1.00, lying otherwise on the surface"},
		{"UVs turned by a quarter", func(s *scene.Scene) { s.Meshes[0].Parts[0].UVs[0].Data = []float32{1, 0, 1, 1, 0, 1, 0, 0} }, false, "lying otherwise on the surface"},
		{"the second material of a name", func(s *scene.Scene) { s.Materials[2].Roughness = 0 }, false, "oak 2"},
		{"emission", func(s *scene.Scene) { s.Materials[1].Emissive[1] = 0.5 }, false, "emits 0.00 0.50 0.00"},
		{"two sides", func(s *scene.Scene) { s.Materials[1].TwoSided = true }, false, "two-sided"},
		{"moved UVs", func(s *scene.Scene) { s.Meshes[0].Parts[0].UVs[0].Data[0] = -0.5 }, false, "2 triangles, U -0.50 to 1.00, V 0.00 to 1.00"},
		{"other colours", func(s *scene.Scene) { clear(s.Meshes[0].Parts[0].Colours[0].Data[:4]) }, false, "2 triangles, on average 0.17 0.33 0.50 0.67"},
		{"a morph target that moves less", func(s *scene.Scene) { s.Meshes[0].Parts[0].Morphs[0].Positions[5] = 0.125 }, false, "moves up to 0.125 m"},
	} {
		a, b := rich(), rich()
		c.change(b)
		x := Compare(a, b, 0.01)
		if x.Same != c.same || !strings.Contains(fmt.Sprint(x), c.says) {
			t.Errorf("%s: %v, %s; %q is not said in %+v", c.name, x.Same, x.Verdict, c.says, x)
		}
	}
}

// A square cut along its other diagonal has its UVs where they were; its
// colours run otherwise between the corners.
func TestCutsOfASquare(t *testing.T) {
	square := func(triangles ...uint32) *scene.Scene {
		s := &scene.Scene{Basis: geom.GLTF, Nodes: []scene.Node{scene.NewNode("deck")}, Meshes: []scene.Mesh{{Name: "deck", Parts: []scene.Part{{Material: scene.None,
			Positions: []float32{0, 0, 0, 3, 0, 0, 3, 2, 0, 0, 2, 0}, Triangles: triangles, UVs: []scene.AttrSet{{Name: "surface", Data: []float32{0, 0, 1, 0, 1, 1, 0, 1}}},
			Colours: []scene.AttrSet{{Name: "tint", Data: []float32{1, 0, 0, 1, 0, 1, 0, 1, 0, 0, 1, 1, 1, 1, 1, 1}}}}}}}}
		s.Nodes[0].Mesh = 0
		return s
	}
	for _, r := range Compare(square(0, 1, 2, 0, 2, 3), square(0, 1, 3, 1, 2, 3), 0.01).Sets {
		if r.Differ != (r.Name == "colour set tint") {
			t.Errorf("%+v", r)
		}
	}
}

func TestVerdictsHaveUnits(t *testing.T) {
	a, b := village(), village()
	b.Meshes[0].Parts[0].Positions[0] = -2.5
	if v := Compare(a, b, 0.5).Verdict; v != "not the same: up to 2.5 m apart, more than the 500 mm that would pass" {
		t.Error(v)
	}
	if v := Compare(a, b, 3).Verdict; !strings.HasPrefix(v, "the same within 3 m") {
		t.Error(v)
	}
	a.Basis.MetresPerUnit, b.Basis.MetresPerUnit = 0, 0
	if v := Compare(a, b, 0.5).Verdict; !strings.Contains(v, "2.5 units apart") {
		t.Error(v)
	}
	// A unit that one of them declares is used for that one.
	b.Basis.MetresPerUnit = 0.01
	if c := Compare(a, b, 0.5); c.Surface.Unit == "m" {
		t.Errorf("%+v", c.Surface)
	}
}

// A drawn UV set shows what is covered twice and what lies outside.
func TestDrawUVs(t *testing.T) {
	p := &scene.Part{Positions: make([]float32, 12), Triangles: []uint32{0, 1, 2, 0, 2, 3, 0, 1, 2}, UVs: []scene.AttrSet{{Data: []float32{0.1, 0.1, 0.9, 0.1, 0.9, 0.9, 0.1, 0.9}}}}
	under := image.NewNRGBA(image.Rect(0, 0, 1, 1))
	under.SetNRGBA(0, 0, color.NRGBA{255, 255, 255, 255})
	img := DrawUVs(p, 0, under, 100)
	once, twice, none := img.NRGBAAt(30, 70), img.NRGBAAt(70, 30), img.NRGBAAt(2, 2)
	if none != (color.NRGBA{255, 255, 255, 255}) || once != none || twice == once || twice.R < twice.B+40 {
		t.Errorf("none %v, once %v, twice %v", none, once, twice)
	}
	p.UVs[0].Data = []float32{0.5, 0.5, 1.5, 0.5, 1.5, 0.9, 0.5, 0.9}
	if c := DrawUVs(p, 0, nil, 100).NRGBAAt(75, 50); c.R < c.B+80 || c.G < 60 {
		t.Errorf("an edge of what lies outside is %v", c)
	}
	if img := DrawUVs(p, 7, nil, 20); img.Rect.Dx() != 20 {
		t.Errorf("%v", img.Rect)
	}
}

// What is coloured by distance is near where it is near.
func TestColouredByDistance(t *testing.T) {
	a, b := village(), village()
	a.Meshes[0].Parts[0].Positions[8] = 3 // one corner of the house
	c := Coloured(a, b, 0.1)
	if err := c.Validate(); err != nil {
		t.Fatal(err)
	}
	set := c.Meshes[0].Parts[0].Colours[0].Data
	near, moved := set[0:4], set[8:12]
	if near[1] < near[0] || moved[0] < moved[1] || near[3] != 1 || len(c.Materials) != 1 || !c.Materials[0].Unlit || len(c.Pictures) != 0 {
		t.Errorf("near %v, moved %v", near, moved)
	}
	if x := Coloured(a, &scene.Scene{}, 0); len(x.Meshes) != len(a.Meshes) {
		t.Error("beside nothing it is not itself")
	}
	last := float32(-1)
	for _, d := range []float64{0, 0.5, 1, 2.2, 5, 10, 100} { // red grows with the distance
		r := ramp(d)
		if r[0] < last-0.05 || r[3] != 1 {
			t.Errorf("at %g: %v after %v", d, r, last)
		}
		last = r[0]
	}
}
