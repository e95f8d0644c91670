package target

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"slices"
	"strings"
	"testing"

	"excavate/core/chain"
	"excavate/core/geom"
	"excavate/core/scene"
)

// texels is a PNG of one colour.
func texels(t *testing.T, w, h int, c color.NRGBA) []byte {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := 0; i < len(img.Pix); i += 4 {
		copy(img.Pix[i:], []byte{c.R, c.G, c.B, c.A})
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// plank is a box of 2 × 1 × 4 m on the ground, with a material and a picture,
// which breaks no rule.
func plank(t *testing.T) *scene.Scene {
	t.Helper()
	s := &scene.Scene{Name: "plank", Basis: geom.GLTF}
	m := scene.NewMaterial("wood")
	m.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0, Scale: 1}}
	s.Materials = []scene.Material{m}
	s.Pictures = []scene.Picture{{Name: "wood_c", MIME: "image/png", Width: 8, Height: 8, Found: "here",
		Data: texels(t, 8, 8, color.NRGBA{90, 80, 60, 255})}}
	p := scene.Part{Material: 0, UVs: []scene.AttrSet{{Name: "uv"}}}
	for i := range 8 {
		p.Positions = append(p.Positions, float32(i&1*2)-1, float32(i>>1&1), float32(i>>2&1*4)-2)
		p.Normals = append(p.Normals, 0, 1, 0)
		p.UVs[0].Data = append(p.UVs[0].Data, float32(i&1), float32(i>>2&1))
	}
	p.Triangles = []uint32{0, 5, 4, 0, 1, 5, 2, 7, 3, 2, 6, 7, 0, 6, 2, 0, 4, 6, 1, 7, 5, 1, 3, 7, 0, 3, 1, 0,
		2, 3, 4, 7, 6, 4, 5, 7}
	s.Meshes = []scene.Mesh{{Name: "plank", Parts: []scene.Part{p}}}
	n := scene.NewNode("plank")
	n.Mesh = 0
	s.Nodes = []scene.Node{n}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

// doll is a plank that hangs on three bones, with one at the end.
func doll(t *testing.T) *scene.Scene {
	t.Helper()
	s := plank(t)
	s.Name = "doll"
	for i, name := range []string{"root", "hips", "chest", "chest_end"} {
		n := scene.NewNode(name)
		if i > 0 {
			n.Parent = i // behind the mesh's node
			n.Translation = [3]float32{0, 0.2, 0}
		}
		s.Nodes = append(s.Nodes, n)
	}
	skin := scene.Skin{Joints: []int{1, 2, 3, 4}, Root: scene.None}
	for i := range 4 {
		skin.InverseBind = append(skin.InverseBind, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, -0.2*float32(i), 0, 1)
	}
	s.Skins = []scene.Skin{skin}
	s.Nodes[0].Skin = 0
	p := &s.Meshes[0].Parts[0]
	p.Influences = 2
	for range 8 {
		p.Joints = append(p.Joints, 1, 2)
		p.Weights = append(p.Weights, 0.75, 0.25)
	}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

func parsed(t *testing.T, text string) *Sheet {
	t.Helper()
	s, err := Parse([]byte("target: test\nformat: glb\n" + text))
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return s
}

// insideOut turns every face round.
func insideOut(s *scene.Scene) {
	p := &s.Meshes[0].Parts[0]
	for k := 0; k < len(p.Triangles); k += 3 {
		p.Triangles[k], p.Triangles[k+1] = p.Triangles[k+1], p.Triangles[k]
	}
}

// beside adds a plank of a fraction of the size at a place.
func beside(s *scene.Scene, x, y, z, size float32) {
	n := scene.NewNode("another")
	n.Mesh, n.Translation, n.Scale = 0, [3]float32{x, y, z}, [3]float32{size, size, size}
	s.Nodes = append(s.Nodes, n)
}

// Each rule is broken on purpose: it is found, says what and how much, and its
// mends leave it holding. What has no mend says so here.
func TestEveryRuleIsFoundAndMended(t *testing.T) {
	for _, c := range []struct {
		name, sheet, rule string
		doll              bool
		spoil             func(*scene.Scene)
		severity          Severity
		where             string // a part of it
		bare              bool   // no step mends it
	}{
		{"lies on its side", "basis: {up: +Z, front: +X, handedness: left, metres_per_unit: 0.01}", "basis",
			false, nil, Stops, "Y up", false},
		{"far too small", "size: {least: 0.5, most: 10}", "size", false,
			func(s *scene.Scene) { scaled(s, 0.001) }, Stops, "0.004 m", false},
		{"somewhat too large", "size: {least: 0.5, most: 3}", "size", false, nil, Stops, "4 m", false},
		{"at a fraction", "size: {least: 0.01, most: 0.2}\nfraction: 0.03125", "size", false, nil, Stops, "4 m", false},
		{"sunk", "ground: true", "ground", false, func(s *scene.Scene) { s.Nodes[0].Translation[1] = -0.25 },
			Warns, "-0.250 m", false},
		{"aside", "centred: true", "centred", false, func(s *scene.Scene) { s.Nodes[0].Translation[0] = 3 },
			Warns, "3.000 m", false},
		{"another root", "root_bone: pelvis", "root bone", true, nil, Stops, "“root”", false},
		{"two roots", "root_bone: root", "root bone", true,
			func(s *scene.Scene) { s.Nodes[2].Parent = scene.None }, Stops, "root, hips", false},
		{"two roots, none named so", "root_bone: base", "root bone", true,
			func(s *scene.Scene) { s.Nodes[2].Parent = scene.None }, Stops, "root, hips", false},
		{"an end bone", "end_bones: false", "end bones", true, nil, Stops, "chest_end", false},
		{"a bone more",
			"skeleton: {bones: [{name: root}, {name: hips, parent: root}, {name: chest, parent: hips}]}",
			"skeleton", true, nil, Stops, "additional: chest_end", false},
		{"another parent",
			"skeleton: {bones: [{name: root}, {name: hips, parent: root}, {name: chest, parent: root}, " +
				"{name: chest_end, parent: chest}]}",
			"skeleton", true, nil, Stops, "chest hangs on hips, not on root", false},
		{"a bone less",
			"skeleton: {bones: [{name: root}, {name: hips, parent: root}, {name: chest, parent: hips}, " +
				"{name: chest_end, parent: chest}, {name: tail, parent: hips}]}",
			"skeleton", true, nil, Stops, "missing: tail", true},
		{"too many bones a vertex", "joints_per_vertex: 1", "joints per vertex", true, nil, Warns,
			"8 vertices follow up to 2 bones, 1 allowed", false},
		{"a part without weights", "joints_per_vertex: 4", "weights", true, func(s *scene.Scene) {
			p := &s.Meshes[0].Parts[0]
			p.Influences, p.Joints, p.Weights = 0, nil, nil
		}, Warns, "plank", true},
		{"weights of a half", "format: obj", "weights", true, func(s *scene.Scene) {
			p := &s.Meshes[0].Parts[0]
			for i := range p.Weights {
				p.Weights[i] /= 2
			}
		}, Warns, "8 vertices of plank", false},
		{"a camera", "cameras: false", "cameras", false, func(s *scene.Scene) {
			n := scene.NewNode("cam")
			n.Camera, s.Cameras = 0, []scene.Camera{{FovY: 1, Near: 0.1}}
			s.Nodes = append(s.Nodes, n)
		}, Warns, "cam", false},
		{"a light", "lights: false", "lights", false, func(s *scene.Scene) {
			n := scene.NewNode("lamp")
			n.Light, s.Lights = 0, []scene.Light{{Type: "point", Intensity: 1}}
			s.Nodes = append(s.Nodes, n)
		}, Warns, "lamp", false},
		{"a helper", "helpers: false", "helpers", false,
			func(s *scene.Scene) { s.Nodes = append(s.Nodes, scene.NewNode("spot")) }, Warns, "spot", false},
		{"a skeleton", "solid: {posed: true}", "posed", true, nil, Stops, "1 skin, 0 morph targets", false},
		{"a hole", "solid: {closed: true}", "closed", false, func(s *scene.Scene) {
			p := &s.Meshes[0].Parts[0]
			p.Triangles = p.Triangles[:len(p.Triangles)-3]
		}, Stops, "3 open edges round 1 hole", false},
		{"a face turned", "solid: {closed: true}", "closed", false, func(s *scene.Scene) {
			p := &s.Meshes[0].Parts[0]
			p.Triangles[0], p.Triangles[1] = p.Triangles[1], p.Triangles[0]
		}, Stops, "3 edges whose faces disagree", false},
		{"inside out", "solid: {closed: true}", "closed", false, insideOut, Stops, "1 piece inside out", false},
		{"a face twice", "solid: {closed: true}", "closed", false, func(s *scene.Scene) {
			p := &s.Meshes[0].Parts[0]
			p.Triangles = append(p.Triangles, p.Triangles[:3]...)
			scaled(s, 0.005)
		}, Stops, "3 edges of more than two faces", false},
		{"a shell within", "solid: {closed: true}", "shells", false, func(s *scene.Scene) {
			beside(s, 0, 0.0025, 0, 0.2)
			scaled(s, 0.005)
		}, Warns, "1 closed piece lies wholly in another", true},
		{"two through each other", "solid: {closed: true}", "crossing faces", false,
			func(s *scene.Scene) {
				beside(s, 0.005, 0.003, 0.0015, 0.3)
				scaled(s, 0.005)
			}, Warns, "edges go through", true},
		{"thin walls", "solid: {wall: 0.003}", "walls", false, func(s *scene.Scene) {
			s.Nodes[0].Scale[1] = 0.5
			scaled(s, 0.005)
		}, Warns, "the thinnest 2.5 mm, 3 wanted", true},
		{"too large for the bed", "solid: {bed: [3, 2, 3]}", "bed", false, nil, Stops,
			"2000 × 4000 mm and 1000 mm high; the bed is 3000 × 2000 mm, 3000 high", false},
		{"no foot", "solid: {foot: 1}", "foot", false, func(s *scene.Scene) {
			s.Nodes[0].Rotation = [4]float32{float32(math.Sin(math.Pi / 8)), 0, 0, float32(math.Cos(math.Pi / 8))}
		}, Warns, "0 cm² lie flat, 1e+04 wanted", true},
		{"triangles", "limits: {triangles: 11}", "triangles", false, dense, Stops, "800 of at most 11", false},
		{"meshes", "limits: {meshes: 1}", "meshes", false, func(s *scene.Scene) { anew(s, "other") }, Stops,
			"2 of at most 1", false},
		{"nodes", "limits: {nodes: 2}", "nodes", false,
			func(s *scene.Scene) { anew(s, "other"); anew(s, "third") }, Stops, "3 of at most 2", false},
		{"materials", "limits: {materials: 1}", "materials", false, func(s *scene.Scene) {
			anew(s, "other")
			s.Materials = append(s.Materials, s.Materials[0])
			s.Materials[1].Name = "copy"
			s.Meshes[1].Parts[0].Material = 1
		}, Stops, "2 of at most 1", false},
		{"bones", "limits: {bones: 3}", "bones", true, nil, Stops, "4 of at most 3", false},
		{"morph targets", "limits: {morphs: 1}", "morph targets", false, func(s *scene.Scene) {
			for _, n := range []string{"a", "b"} {
				s.Meshes[0].Parts[0].Morphs = append(s.Meshes[0].Parts[0].Morphs,
					scene.MorphTarget{Name: n, Positions: make([]float32, 24)})
			}
		}, Stops, "2 of at most 1", false},
		{"UV sets", "limits: {uv_sets: 1}", "UV sets", false, func(s *scene.Scene) {
			p := &s.Meshes[0].Parts[0]
			p.UVs = append(p.UVs, scene.AttrSet{Name: "light", Data: p.UVs[0].Data})
		}, Stops, "2 of at most 1", false},
		{"colour sets", "limits: {colour_sets: 1}", "colour sets", false, func(s *scene.Scene) {
			for _, n := range []string{"a", "b"} {
				s.Meshes[0].Parts[0].Colours = append(s.Meshes[0].Parts[0].Colours,
					scene.AttrSet{Name: n, Data: make([]float32, 32)})
			}
		}, Stops, "2 of at most 1", false},
		{"letters", `names: {pattern: "^[a-z0-9_]+$"}`, "names", false,
			func(s *scene.Scene) { s.Nodes[0].Name, s.Materials[0].Name = "Plank#1", "WOOD" }, Warns,
			"Plank#1, WOOD", false},
		{"long names", "names: {longest: 10}", "name length", false,
			func(s *scene.Scene) { s.Nodes[0].Name = "a_plank_of_wood" }, Warns, "a_plank_of_wood", false},
		{"a name twice", "names: {unique: true}", "names unique", false,
			func(s *scene.Scene) { anew(s, "plank") }, Warns, "plank", false},
		{"a second import's number", "materials: {there: [wood]}", "materials there", false,
			func(s *scene.Scene) { s.Materials[0].Name = "Wood.001" }, Warns, "Wood.001", false},
		{"another material", "materials: {there: [stone], only: true}", "materials there", false, nil, Stops,
			"wood", true},
		{"a material twice", "materials: {once: true}", "materials twice", false, func(s *scene.Scene) {
			anew(s, "other")
			s.Materials = append(s.Materials, s.Materials[0])
			s.Materials[1].Name = "copy"
			s.Meshes[1].Parts[0].Material = 1
		}, Warns, "copy", false},
		{"a missing picture", "pictures: {required: true}", "pictures", false,
			func(s *scene.Scene) { s.Pictures[0].Data = nil }, Stops, "wood_c", true},
		{"a large picture", "pictures: {largest: 4}", "picture size", false, nil, Warns, "8 × 8, limit 4", false},
		{"odd sides", "pictures: {powers_of_two: true}", "picture sides", false,
			func(s *scene.Scene) { repictured(s, 12, 8) }, Warns, "12 × 8", false},
		{"another format", "pictures: {formats: [jpeg]}", "picture format", false, nil, Stops, "wood_c", false},
		// 8 × 8 texels of four bytes and a third for mips are 341 bytes.
		{"memory", "limits: {picture_memory: 0.0001}", "picture memory", false, nil, Stops,
			"0.0 MB of at most 0.0001 MB", false},
		{"glass is opaque", "transparency: true", "transparency", false,
			func(s *scene.Scene) { s.Materials[0].BaseColour[3] = 0.4 }, Warns, "wood", false},
		{"a wall shines through", "transparency: true", "transparency", false,
			func(s *scene.Scene) { s.Materials[0].Alpha = scene.Blend }, Warns, "wood", false},
		{"no normals", "normals: true", "normals", false,
			func(s *scene.Scene) { s.Meshes[0].Parts[0].Normals = nil }, Warns, "plank", false},
		{"no UVs", "ground: true", "UVs", false, func(s *scene.Scene) { s.Meshes[0].Parts[0].UVs = nil }, Stops,
			"plank", true},
		{"no collider", "colliders: {shapes: [box]}", "colliders", false, nil, Warns, "plank", false},
		{"a door that is shut", "colliders: {without: {node: \"*door*\"}}", "passages", false, func(s *scene.Scene) {
			s.Nodes[0].Name = "front_door"
			s.Nodes[0].Collider = &scene.Collider{Shape: scene.ShapeBox, Size: [3]float32{1, 1, 1}, Mesh: scene.None}
		}, Warns, "front_door", false},
		{"a shape that is not known", "colliders: {shapes: [mesh]}", "collider shapes", false, func(s *scene.Scene) {
			n := scene.NewNode("plank collider")
			n.Parent = 0
			n.Collider = &scene.Collider{Shape: scene.ShapeSphere, Radius: 1, Mesh: scene.None}
			s.Nodes = append(s.Nodes, n)
		}, Warns, "sphere of plank collider", false},
		{"a box round a slope", "colliders: {shapes: [box, mesh]}", "collider fit", false,
			func(s *scene.Scene) { sloped(s); boxed(s) }, Warns, "plank: by 0.96 m at most", false},
		{"a box round a slope, and no mesh is known", "colliders: {shapes: [box]}", "collider fit", false,
			func(s *scene.Scene) { sloped(s); boxed(s) }, Warns, "plank", true},
		{"it moves", "motions: {none: true}", "motions", false, sways, Warns, "sway", false},
		{"too long", "motions: {longest: 0.5}", "motion length", false, sways, Stops, "at most 0.5 s", false},
		{"several looks", "variants: one", "variants", false, func(s *scene.Scene) {
			s.Variants = []string{"frost"}
			s.Meshes[0].Parts[0].Variants = []int{0}
		}, Warns, "frost", false},
		{"nobody's", "licence: {needed: true}", "licence", false, nil, Stops, "owner: nothing", true},
		{"no avatar", "licence: {avatar: true}", "licence", false, nil, Stops, "", true},
		{"an own rule",
			"rules: [{rule: few, if: 'triangles > 11 and name == \"plank\"', says: too many, " +
				"mend: {step: reduce, with: {triangles: 8}}}]",
			"few", false, dense, Stops, "triangles > 11", false},
		{"an own rule that picks",
			"rules: [{rule: tools, where: {node: \"tool_*\"}, says: left in, severity: warns, " +
				"mend: {step: strip, with: {where: {node: \"tool_*\"}}}}]",
			"tools", false, func(s *scene.Scene) { anew(s, "tool_clip") }, Warns, "tool_clip", false},
		{"a material that an own rule picks",
			"rules: [{rule: paint, where: {material: \"wo*\"}, says: painted}]", "paint", false, nil, Stops,
			"plank", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := plank(t)
			if c.doll {
				s = doll(t)
			}
			if c.spoil != nil {
				c.spoil(s)
			}
			if err := s.Validate(); err != nil {
				t.Fatal(err)
			}
			sheet := parsed(t, strings.Replace(c.sheet, "format: obj", "about: x", 1))
			if strings.Contains(c.sheet, "format: obj") {
				sheet.Format = "obj"
			}
			f, ok := byRule(Rehearse(s, sheet))[c.rule]
			if !ok || f.Severity != c.severity || !strings.Contains(f.Where, c.where) {
				t.Fatalf("%+v", f)
			}
			if c.bare != (f.Mends == nil) {
				t.Errorf("its mends are %v", f.Mends)
			}
			if f.Severity != Holds && f.Why == "" && f.Title == "" {
				t.Error("it says nothing")
			}
			if c.bare {
				return
			}
			m, err := MendAll(context.Background(), "x", s, &chain.Chain{}, sheet, true, nil, nil)
			if err != nil {
				t.Fatal(err)
			}
			if f, ok := byRule(m.Findings)[c.rule]; ok && f.Severity != Holds {
				t.Errorf("after %v it stands still: %+v", steps(m.Chain), f)
			}
			if len(m.Deeds) == 0 {
				t.Error("no deed is told")
			}
		})
	}
}

func steps(c *chain.Chain) (out []string) {
	for _, s := range c.Steps {
		out = append(out, s.Step+" "+string(s.With))
	}
	return out
}

func scaled(s *scene.Scene, by float32) {
	p := slices.Clone(s.Meshes[0].Parts[0].Positions)
	for i := range p {
		p[i] *= by
	}
	s.Meshes[0].Parts[0].Positions = p
}

// dense gives the plank a top of 20 × 20 squares.
func dense(s *scene.Scene) {
	p := &s.Meshes[0].Parts[0]
	p.Positions, p.Normals, p.UVs[0].Data, p.Triangles = nil, nil, nil, nil
	for y := range 21 {
		for x := range 21 {
			p.Positions = append(p.Positions, float32(x)/10-1, 0, float32(y)/5-2)
			p.Normals = append(p.Normals, 0, 1, 0)
			p.UVs[0].Data = append(p.UVs[0].Data, float32(x)/20, float32(y)/20)
		}
	}
	for y := range uint32(20) {
		for x := range uint32(20) {
			k := y*21 + x
			p.Triangles = append(p.Triangles, k, k+21, k+1, k+1, k+21, k+22)
		}
	}
}

// sloped gives the plank one face: a slope that rises from 0 to 1 m over its
// breadth of 2 m. The middles of twelve cells lie at odd twenty-fourths of it.
func sloped(s *scene.Scene) {
	p := &s.Meshes[0].Parts[0]
	p.Positions = []float32{-1, 0, -2, -1, 0, 2, 1, 1, 2, 1, 1, -2}
	p.Normals, p.UVs[0].Data = make([]float32, 12), make([]float32, 8)
	p.Triangles = []uint32{0, 1, 2, 0, 2, 3}
}

// boxed puts a box round the plank.
func boxed(s *scene.Scene) {
	n := scene.NewNode("plank collider")
	n.Parent = 0
	n.Translation = [3]float32{0, 0.5, 0}
	n.Collider = &scene.Collider{Shape: scene.ShapeBox, Size: [3]float32{2, 1, 4}, Mesh: scene.None}
	s.Nodes = append(s.Nodes, n)
}

// anew shows the mesh a second time as one of its own.
func anew(s *scene.Scene, name string) {
	n := scene.NewNode(name)
	n.Mesh = len(s.Meshes)
	s.Meshes = append(s.Meshes, scene.Mesh{Name: name, Parts: slices.Clone(s.Meshes[0].Parts)})
	s.Nodes = append(s.Nodes, n)
}

func repictured(s *scene.Scene, w, h int) {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := 3; i < len(img.Pix); i += 4 {
		img.Pix[i] = 255
	}
	var b bytes.Buffer
	png.Encode(&b, img)
	s.Pictures[0].Width, s.Pictures[0].Height, s.Pictures[0].Data = w, h, b.Bytes()
}

func sways(s *scene.Scene) {
	s.Motions = []scene.Motion{{Name: "sway", Channels: []scene.Channel{{Node: 0, Path: scene.PathTranslation,
		Interp: scene.Linear,
		Times:  []float32{0, 1, 2}, Values: []float32{0, 0, 0, 0, 0.1, 0, 0, 0, 0}}}}}
}

// A sheet makes of a rule what it wants: more, less, nothing, in its own words.
func TestSeveritiesAndReasonsOfTheSheet(t *testing.T) {
	s := plank(t)
	s.Nodes[0].Translation[1] = 1
	f := outcome(t, s, "ground: true\nseverity: {ground: stops}\nwhy: {ground: It hovers over the table.}", "ground")
	if f.Severity != Stops || f.Why != "It hovers over the table." {
		t.Errorf("%+v", f)
	}
	if f, ok := byRule(Rehearse(s, parsed(t, "ground: true\nseverity: {ground: off}")))["ground"]; ok {
		t.Errorf("%+v", f)
	}
	s.Nodes[0].Translation[1] = 0
	if f := outcome(t, s, "ground: true\nwhy: {ground: x}", "ground"); f.Severity != Holds ||
		f.Why != "" {
		t.Errorf("%+v", f)
	}
}

// What only the porter can decide is asked, and decided by the evidence where
// nobody is there to be asked.
func TestQuestions(t *testing.T) {
	s := plank(t)
	scaled(s, 1000)
	sheet := parsed(t, "size: {least: 0.5, most: 10}")
	f := byRule(Rehearse(s, sheet))["size"]
	if f.Ask == nil || len(f.Ask.Answers) < 1 || !strings.Contains(f.Ask.Answers[0].Text,
		"4 m: millimetres were taken for metres") {
		t.Fatalf("%+v", f.Ask)
	}
	asked, err := MendAll(context.Background(), "x", s, &chain.Chain{}, sheet, false, nil, nil)
	if err != nil || len(asked.Chain.Steps) != 0 || byRule(asked.Findings)["size"].Severity != Stops {
		t.Errorf("%v, %v", err, steps(asked.Chain))
	}
	decided, err := MendAll(context.Background(), "x", s, &chain.Chain{}, sheet, true, nil, nil)
	if err != nil || len(decided.Deeds) != 1 || !strings.Contains(decided.Deeds[0].Evidence, "millimetres") {
		t.Errorf("%v, %+v", err, decided.Deeds)
	}
	if d := decided.Scene.Stats().Max; d[2] != 2 {
		t.Errorf("it ends at %v", d)
	}
	for rule, text := range map[string]string{"variants": "variants: one",
		"materials there": "materials: {there: [stone, reed], only: true}"} {
		s := plank(t)
		s.Variants = []string{"frost", "summer"}
		f := outcome(t, s, text, rule)
		if f.Ask == nil || len(f.Ask.Answers) < 2 {
			t.Errorf("%s: %+v", rule, f)
		}
	}
}

// A body of which nothing declares the unit is as tall as the scale figure.
func TestABodyTellsItsUnit(t *testing.T) {
	r := &rehearsal{s: &scene.Scene{}, t: parsed(t, "size: {least: 0.5, most: 50}"), st: scene.Stats{Bones: 20},
		alpha: alphas{}}
	for _, c := range []struct {
		longest float64
		says    string
	}{{175, "centimetres were taken for metres"}, {1750, "millimetres were taken for metres"},
		{0.00175, "metres were taken for millimetres"}, {68.9, "inches were taken for metres"}} {
		q, why := r.resized(c.longest)
		if q == nil || !strings.Contains(why, c.says) || !strings.Contains(why, "bones of a body") {
			t.Errorf("%g: %s", c.longest, why)
		}
	}
	if q, why := r.resized(1e15); q == nil || !strings.Contains(why, "no usual slip") {
		t.Errorf("%v, %s", q, why)
	}
	if q, _ := r.resized(0); q != nil {
		t.Error("nothing is resized")
	}
}

// Steps come in an order in which none undoes another, behind the porter's own,
// and an edit that was there stays.
func TestTheOrderOfMends(t *testing.T) {
	s := doll(t)
	scaled(s, 1)
	s.Nodes[0].Name = "Prüf"
	s.Nodes = append(s.Nodes, scene.NewNode("spot"))
	doc := &chain.Chain{Name: "mine", Steps: []chain.Step{mend("ground", params{})}}
	sheet := parsed(t,
		"basis: {up: +Z, front: +X, handedness: left, metres_per_unit: 0.01}\nhelpers: false\nend_bones: false\n"+
			"root_bone: base\nground: true\nnames: {pattern: \"^[a-z_]+$\"}")
	m, err := MendAll(context.Background(), "x", s, doc, sheet, true, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, st := range m.Chain.Steps {
		names = append(names, st.Step)
	}
	at := func(n string) int { return slices.Index(names, n) }
	if at("strip") != 0 || at("ground") != 1 || !(at("bones-trim") < at("basis") && at("root") < at("basis") &&
		at("basis") < at("rename")) {
		t.Errorf("%v", names)
	}
	if len(doc.Steps) != 1 || m.Chain.Name != "mine" {
		t.Error("the chain that was given has changed")
	}
	if stops, warns, _ := Count(m.Findings); stops+warns > 0 {
		t.Errorf("%+v", m.Findings[0])
	}
	// Once more adds nothing.
	again, err := MendAll(context.Background(), "x", s, m.Chain, sheet, true, nil, nil)
	if err != nil || len(again.Chain.Steps) != len(m.Chain.Steps) {
		t.Errorf("%v, %v", err, steps(again.Chain))
	}
	// A chain that fails by itself is the porter's to mend.
	bad := &chain.Chain{Steps: []chain.Step{{Step: "fit-skeleton", With: []byte(`{"from":"nowhere.glb"}`)}}}
	if _, err := MendAll(context.Background(), "x", s, bad, sheet, true, nil, nil); err == nil ||
		!strings.Contains(err.Error(), "chain step 1") {
		t.Errorf("%v", err)
	}
}

// From which band on something is wrong.
func TestSince(t *testing.T) {
	f := Finding{Rule: "ground", Severity: Warns, Title: "It does not stand"}
	holds := Finding{Rule: "ground", Severity: Holds, Title: "It stands"}
	for _, c := range []struct {
		history [][]Finding
		want    int
	}{
		{[][]Finding{{f}, {f}, {f}}, 0},
		{[][]Finding{{f}, {holds}, {f}}, 2},
		{[][]Finding{{holds}, {f}, nil, {f}}, 1},
		{[][]Finding{{holds}, nil, {f}}, 2},
	} {
		if got := Since(c.history, &f); got != c.want {
			t.Errorf("%v: %d, want %d", c.history, got, c.want)
		}
	}
}

// What was foretold is held against what happened, by what the receiver looks at.
func TestForetoldAndHappened(t *testing.T) {
	findings := []Finding{{Rule: "size", Severity: Stops, Title: "big"}, {Rule: "ground", Severity: Holds},
		{Rule: "names", Severity: Warns}, {Rule: "basis", Severity: Stops, Title: "axes"},
		{Rule: "tools", Severity: Stops}}
	log := []Heard{{Code: "SZ01", Level: "error", Text: "bounds"},
		{Code: "PV01", Level: "warning", Text: "floor"}, {Code: "NM01", Level: "info", Text: "fine"},
		{Code: "XX99", Level: "error", Text: "odd"}, {Code: "OW01", Level: "error", Text: "tools"}}
	own := parsed(t, "rules: [{rule: tools, where: {material: \"tool_*\"}, says: left in}]").Rules
	compare := func() map[string]Outcome {
		got := map[string]Outcome{}
		for _, o := range Compare(findings, []string{"SZ01", "PV01", "NM01", "OW01"}, log, own) {
			got[o.Rule] = o
		}
		return got
	}
	got := compare()
	for rule, want := range map[string][2]bool{"size": {true, true}, "basis": {true, true}, "ground": {false, false},
		"names": {true, false}, "XX99": {false, true}, "tools": {true, true}} {
		if o, ok := got[rule]; !ok || o.Foretold != want[0] || o.Happened != want[1] {
			t.Errorf("%s: %+v", rule, o)
		}
	}
	if got["size"].Says[0] != "SZ01 bounds" || got["basis"].Title != "axes" || got["basis"].Says[0] != "PV01 floor" {
		t.Errorf("%+v, %+v", got["size"], got["basis"])
	}
	// Where the basis is the target's, what stands off the floor was not foretold;
	// a receiver that does not look at the basis is not held to it.
	findings[3].Severity = Holds
	got = compare()
	if o := got["ground"]; o.Foretold || !o.Happened {
		t.Errorf("%+v", o)
	}
	if _, ok := got["basis"]; ok {
		t.Error("a receiver that does not look at the basis is held to it")
	}
}

func TestManyRehearsals(t *testing.T) {
	var tab Table
	tab.Add(1, "a", "x", []Finding{{Rule: "ground", Severity: Warns, Title: "off"}, {Rule: "size", Severity: Holds}})
	tab.Add(2, "b", "x", []Finding{{Rule: "ground", Severity: Warns, Title: "off"},
		{Rule: "root bone", Severity: Stops, Title: "other"}})
	tab.Add(3, "c", "y", []Finding{{Rule: "names", Severity: Warns, Title: "odd"}})
	rows := tab.Rows()
	if tab.Rehearsals != 3 || len(rows) != 3 || rows[0].Rule != "root bone" || rows[1].Rule != "ground" ||
		len(rows[1].Assets) != 2 || rows[2].Rule != "names" {
		t.Errorf("%+v", rows)
	}
}

// A sheet that is proposed from an asset takes that asset, and parses.
func TestASheetFromAnExample(t *testing.T) {
	for _, s := range []*scene.Scene{plank(t), doll(t)} {
		text := FromExample(s.Name+".glb", s)
		sheet, err := Parse(text)
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		if stops, warns, _ := Count(Rehearse(s, sheet)); stops+warns > 0 {
			t.Errorf("it objects to its own example: %+v\n%s", Rehearse(s, sheet)[0], text)
		}
		for _, line := range []string{"largest: 8", "wood", "longest has", "# its file says"} {
			if !strings.Contains(string(text), line) {
				t.Errorf("%s: nothing says %q\n%s", s.Name, line, text)
			}
		}
	}
	text := string(FromExample("d", doll(t)))
	for _, line := range []string{`root_bone: "root"`, `- {name: "hips", parent: "root"}`, "joints_per_vertex: 2"} {
		if !strings.Contains(text, line) {
			t.Errorf("nothing says %q\n%s", line, text)
		}
	}
	if strings.Contains(text, "end_bones") {
		t.Error("the example has an end bone")
	}
	// Names that would be something else in YAML stay names.
	s := plank(t)
	s.Materials[0].Name = "yes: {no}\n# \"x\""
	if sheet, err := Parse(FromExample("- a\n: b", s)); err != nil || sheet.Materials.There[0] != s.Materials[0].Name {
		t.Errorf("%v", err)
	}
}

// A form's values and the text say the same.
func TestSheetsAsValues(t *testing.T) {
	for _, id := range []string{"reedlight", "tideworks", "weirwork", "lanternfolk", "millrace", "stilttable",
		"gltf-engine", "print"} {
		a := shipped(t, id)
		text, err := Text(asJSON(t, a), nil)
		if err != nil {
			t.Fatal(err)
		}
		b, err := Parse(text)
		if err != nil || string(asJSON(t, a)) != string(asJSON(t, b)) {
			t.Errorf("%s: %v\n%s", id, err, text)
		}
	}
	for values, says := range map[string]string{
		`{"format": 7}`:                          "format",
		`{"format": "glb", "grond": true}`:       `unknown field "grond"`,
		`{"limits": {"triangels": 500}}`:         `unknown field "triangels"`,
		`{"rules": [{"rule": "x", "iff": "y"}]}`: `unknown field "iff"`,
	} {
		if _, err := Text([]byte(values), nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", values, err)
		}
	}
}

// What somebody wrote beside a rule stays when the rule is changed in a form, and
// goes with a rule that goes.
func TestCommentsOfSheetsStay(t *testing.T) {
	was := "# ours, since the second expedition\ntarget: Ours\nformat: glb\n" +
		"# told by the lead\nlimits:\n  # of the whole house\n  triangles: 500\n" +
		"# nobody knows why\nground: true\npictures:\n  largest: 512 # of the old tool\n"
	a, err := Parse([]byte(was))
	if err != nil {
		t.Fatal(err)
	}
	a.Limits.Triangles, a.Ground = 700, false
	text, err := Text(asJSON(t, a), []byte(was))
	if err != nil {
		t.Fatal(err)
	}
	b, err := Parse(text)
	if err != nil || string(asJSON(t, a)) != string(asJSON(t, b)) {
		t.Fatalf("%v\n%s", err, text)
	}
	for _, c := range []string{"# ours, since the second expedition\ntarget: Ours", "# told by the lead\nlimits:",
		"# of the whole house\n  triangles: 700", "largest: 512 # of the old tool"} {
		if !strings.Contains(string(text), c) {
			t.Errorf("%q is lost:\n%s", c, text)
		}
	}
	if strings.Contains(string(text), "nobody knows why") {
		t.Errorf("the comment of a rule that is gone stays:\n%s", text)
	}
	// A text that is no document any more loses its comments and nothing else.
	if text, err = Text(asJSON(t, a), []byte("target: [")); err != nil || strings.Contains(string(text), "#") {
		t.Errorf("%v\n%s", err, text)
	}
	// A proposal's evidence stays with each of its rules.
	from := FromExample("plank", plank(t))
	a, err = Parse(from)
	if err != nil {
		t.Fatal(err)
	}
	if text, err = Text(asJSON(t, a), from); err != nil {
		t.Fatal(err)
	}
	for _, l := range strings.Split(string(from), "\n") {
		if strings.HasPrefix(l, "# ") && !strings.Contains(string(text), l) {
			t.Errorf("%q is lost", l)
		}
	}
}

// Mistakes are told with their line and column.
func TestMistakesInSheets(t *testing.T) {
	for text, want := range map[string]string{
		"":      "empty",
		"- a\n": "empty",
		"target: x\nformat: glb\nlimits: {triangles: many}\n":                                                       "[3:21]",
		"target: x\nformat: glb\nseverity: {grund: stops}\n":                                                        "\"ground\" is probably meant",
		"target: x\nformat: glb\nseverity: {ground: never}\n":                                                       "[3:20]",
		"target: x\nformat: glb\nwhy: {none: x}\n":                                                                  "no rule",
		"target: x\nformat: glb\nrules: [{rule: a, says: b}]\n":                                                     "say what the target objects to",
		"target: x\nformat: glb\nrules: [{rule: a, says: b, if: 'triangels > 3'}]\n":                                "there is no triangels",
		"target: x\nformat: glb\nrules: [{rule: a, says: b, if: 'triangles'}]\n":                                    "neither true nor false",
		"target: x\nformat: glb\nrules: [{rule: size, says: b, if: 'bones > 3'}]\n":                                 "two rules",
		"target: x\nformat: glb\nrules: [{rule: a, says: b, if: 'bones > 3', where: {node: x}}]\n":                  "say one of them",
		"target: x\nformat: glb\nrules: [{rule: a, says: b, if: 'bones > 3', mend: {step: nothing}}]\n":             "there is no step",
		"target: x\nformat: glb\nrules: [{rule: a, says: b, if: 'bones > 3', mend: {step: scale, with: {x: 1}}}]\n": "mend",
		"target: x\nformat: glb\nskeleton: {bones: [{name: a, parent: b}, {name: b}]}\n":                            "does not stand before it",
		"target: x\nformat: glb\nskeleton: {bones: [{name: a}, {name: a}]}\n":                                       "stands twice",
		"target: x\nformat: glb\ncolliders: {as: ending}\n":                                                         "say which",
		"target: x\nformat: glb\ndelivery: {folder: ../up}\n":                                                       "no path within a folder",
		"target: x\nformat: glb\ndelivery: {model: \"{what}\"}\n":                                                   "stands for nothing",
		"target: x\nformat: glb\ndelivery: {pictures: \"C:\\\\x\"}\n":                                               "no path within a folder",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// A rule that cannot be asked says so and stops nothing else.
func TestOwnRulesThatFail(t *testing.T) {
	f := byRule(Rehearse(plank(t), parsed(t, "ground: true\nrules: [{rule: a, says: b, if: 'triangles / bones > 1'}]")))
	if f["a"].Severity != Warns || !strings.Contains(f["a"].Where, "division by zero") ||
		f["ground"].Severity != Holds {
		t.Errorf("%+v", f["a"])
	}
}

// Colliders are told as the sheet wants it.
func TestHowCollidersAreTold(t *testing.T) {
	s := plank(t)
	n := scene.NewNode("plank collider")
	n.Parent = 0
	n.Collider = &scene.Collider{Shape: scene.ShapeBox, Size: [3]float32{1, 1, 1}, Mesh: scene.None}
	s.Nodes = append(s.Nodes, n)
	for as, want := range map[string]string{"extension": "plank,plank collider",
		"ending, ending: _col": "plank,plank collider_col", "none": "plank"} {
		out, notes := Told(s, parsed(t, "colliders: {as: "+as+"}"))
		var names []string
		meshes := 0
		for i := range out.Nodes {
			names = append(names, out.Nodes[i].Name)
			if out.Nodes[i].Mesh >= 0 {
				meshes++
			}
		}
		if strings.Join(names, ",") != want || (as == "extension") != (len(notes) == 0) ||
			(meshes == 2) != strings.HasPrefix(as, "ending") {
			t.Errorf("%s: %v, %v, %d meshes", as, names, notes, meshes)
		}
		if err := out.Validate(); err != nil {
			t.Errorf("%s: %v", as, err)
		}
	}
}

func FuzzSheet(f *testing.F) {
	f.Add([]byte("target: x\nformat: glb\nlimits: {triangles: 5}\nrules: [{rule: a, says: b, if: 'bones > 3'}]\n"))
	f.Add([]byte("target: x\nformat: glb\nnames: {pattern: \"^[a-z]+$\", longest: 3}\ncolliders: {for: {under: x}}\n"))
	s := plankOf(f)
	f.Fuzz(func(t *testing.T, doc []byte) {
		sheet, err := Parse(doc)
		if err != nil {
			return
		}
		for _, x := range Rehearse(s, sheet) {
			if x.Title == "" {
				t.Errorf("%s says nothing", x.Rule)
			}
		}
		sheet.Lines()
	})
}

func BenchmarkRehearse(b *testing.B) {
	s := plankOf(b)
	for i := range 10_000 {
		n := scene.NewNode(fmt.Sprintf("plank_%d", i))
		n.Mesh = 0
		s.Nodes = append(s.Nodes, n)
	}
	sheet, err := Parse([]byte("target: x\nformat: glb\nground: true\nhelpers: false\ncolliders: {}\n" +
		"names: {unique: true, pattern: \"^[a-z0-9_]+$\"}\nmaterials: {once: true}\n"))
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		Rehearse(s, sheet)
	}
}

// The page has every rule and key, its sheet parses, and the protocol has every
// code that is understood.
func TestThePagesAreTrue(t *testing.T) {
	page, err := os.ReadFile("../../docs/targets.md")
	if err != nil {
		t.Fatal(err)
	}
	text := string(page)
	for _, r := range rules {
		if !strings.Contains(text, r.name) {
			t.Errorf("docs/targets.md does not name the rule %s", r.name)
		}
	}
	_, doc, _ := strings.Cut(text, "```yaml\n")
	doc, _, _ = strings.Cut(doc, "```")
	if _, err := Parse([]byte(doc)); err != nil {
		t.Errorf("the sheet of docs/targets.md: %v", err)
	}
	for _, w := range figures {
		if !strings.Contains(text, "`"+w.Name+"`") {
			t.Errorf("docs/targets.md does not name the figure %s", w.Name)
		}
	}
	protocol, err := os.ReadFile("../../standin/PROTOCOL.md")
	if err != nil {
		t.Fatal(err)
	}
	for code := range heardRules {
		kind := code[:2]
		if !strings.Contains(string(protocol), code) && !strings.Contains(string(protocol), kind+"01 to "+kind) {
			t.Errorf("standin/PROTOCOL.md does not tell of %s", code)
		}
	}
}

// What a source does not declare is decided by the evidence, in the chain too
// where the numbers stay as they are.
func TestUndeclaredBases(t *testing.T) {
	s := plank(t)
	s.Basis = geom.Basis{}
	s.Nodes[0].Translation[1] = -0.5 // neither axis has it on the ground
	sheet := parsed(t,
		"basis: {up: +Z, front: +X, handedness: left, metres_per_unit: 0.01}\nsize: {least: 0.02, most: 500}")
	m, err := MendAll(context.Background(), "x", s, &chain.Chain{}, sheet, true, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(m.Deeds) != 1 || !strings.Contains(m.Deeds[0].Evidence,
		"nothing in the asset speaks for its up axis") ||
		!strings.Contains(m.Deeds[0].Evidence, "right-handed, as interchange formats are") ||
		!strings.Contains(m.Deeds[0].Evidence, "as metres it is 4 m long") {
		t.Errorf("%+v", m.Deeds)
	}
	// 4 m are 400 cm; a right-handed plank is no mirrored one over there.
	if d := m.Scene.Stats(); d.Max[2]-d.Min[2] != 400 || d.Max[0]-d.Min[0] != 200 || m.Scene.Basis.Handed != geom.Left {
		t.Errorf("%v to %v", d.Min, d.Max)
	}
	// In millimetres it would be too large as metres, and is not.
	scaled(s, 250)
	if f := byRule(Rehearse(s, sheet))["basis"]; !strings.Contains(f.Evidence, "as centimetres it is 10 m long") {
		t.Errorf("%s", f.Evidence)
	}
	// Where all is taken as it is over there the chain still says so.
	glb := parsed(t, "basis: {up: +Y, front: +Z, handedness: right, metres_per_unit: 1}\nground: true")
	m, err = MendAll(context.Background(), "x", s, &chain.Chain{}, glb, true, nil, nil)
	if err != nil || len(m.Chain.Steps) != 2 || m.Chain.Steps[0].Step != "basis" || !m.Scene.Basis.Known() {
		t.Errorf("%v, %v", err, steps(m.Chain))
	}
}

// Materials without a picture are told by their names: they are not made one
// unless a second import doubled them.
func TestPlainMaterialsStayApart(t *testing.T) {
	s := plank(t)
	s.Materials = []scene.Material{scene.NewMaterial("rope"), scene.NewMaterial("crate"), scene.NewMaterial("rope.001")}
	s.Meshes[0].Parts[0].UVs = nil
	anew(s, "other")
	anew(s, "third")
	s.Meshes[1].Parts[0].Material, s.Meshes[2].Parts[0].Material = 1, 2
	sheet := parsed(t, "materials: {once: true}")
	f := byRule(Rehearse(s, sheet))["materials twice"]
	if f.Where != "rope.001" {
		t.Errorf("%+v", f)
	}
	m, err := MendAll(context.Background(), "x", s, &chain.Chain{}, sheet, true, nil, nil)
	if err != nil || len(m.Scene.Materials) != 2 || m.Scene.Materials[1].Name != "crate" {
		t.Errorf("%v, %+v", err, m.Scene.Materials)
	}
}

// Figures at the edges of rules, worked out by hand.
func TestEdgesOfRules(t *testing.T) {
	// A decimetre taken for a metre is ten times off: a slip; five times is none.
	for _, c := range []struct {
		by   float32
		says string
	}{{2.4, "no slip of units makes"}, {100, "centimetres were taken for metres"}} {
		s := plank(t)
		scaled(s, c.by)
		if f := outcome(t, s, "size: {least: 0.5, most: 5}", "size"); !strings.Contains(f.Evidence, c.says) {
			t.Errorf("%g: %s", c.by, f.Evidence)
		}
	}
	// 9.6 m of at most 5 become 5: a factor of 0.521.
	s := plank(t)
	scaled(s, 2.4)
	f := outcome(t, s, "size: {least: 0.5, most: 5}", "size")
	if with := string(f.Mends[0].With); !strings.HasPrefix(with, `{"factor":0.5208`) {
		t.Errorf("%s", with)
	}
	// What no slip explains and nothing declares is brought to the middle of what is
	// taken: the root of 0.5 times 5 is 1.58 m, of 4e12 m.
	s = plank(t)
	scaled(s, 1e12)
	s.Basis.MetresPerUnit = 0
	f = outcome(t, s, "size: {least: 0.5, most: 5}", "size")
	if f.Ask == nil || !strings.HasPrefix(f.Ask.Answers[0].Text, "1.58 m") ||
		!strings.HasPrefix(string(f.Mends[0].With), `{"factor":3.95`) {
		t.Errorf("%+v", f)
	}
	// The middle may be a thousandth of the longest side off: 4 mm of 4 m.
	for _, c := range []struct {
		off  float32
		want Severity
	}{{0.0039, Holds}, {0.0041, Warns}} {
		s := plank(t)
		s.Nodes[0].Translation[0] = c.off
		if f := outcome(t, s, "centred: true", "centred"); f.Severity != c.want {
			t.Errorf("%g: %+v", c.off, f)
		}
	}
	// A body on a table is as tall as the figure at its fraction.
	r := &rehearsal{s: &scene.Scene{}, t: parsed(t, "size: {least: 0.005, most: 4}\nfraction: 0.03125"),
		st: scene.Stats{Bones: 20}, alpha: alphas{}}
	// 1.75 m / 32 in mm
	if q, why := r.resized(54.6875); q == nil || !strings.Contains(why, "millimetres were taken for metres") {
		t.Errorf("%s", why)
	}
	if got := differ(geom.Basis{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Right, MetresPerUnit: 40},
		geom.GLTF); got != "be 40 times too small" {
		t.Error(got)
	}
	if got := few(strings.Split("a b c d e f g h i", " ")); got != "a, b, c, d, e, f and 3 more" {
		t.Error(got)
	}
	// A right-handed target needs no word about hands; a declared hand is left.
	s = plank(t)
	s.Basis = geom.Basis{}
	f = outcome(t, s, "basis: {up: +Y, front: +Z, handedness: right, metres_per_unit: 1}", "basis")
	if strings.Contains(f.Evidence, "right-handed") {
		t.Errorf("%s", f.Evidence)
	}
	s.Basis.Handed = geom.Left
	f = outcome(t, s, "basis: {up: +Y, front: +Z, handedness: left, metres_per_unit: 1}", "basis")
	if strings.Contains(f.Evidence, "right-handed") ||
		strings.Contains(string(f.Mends[0].With), `"handedness":"right"`) {
		t.Errorf("%s, %s", f.Evidence, f.Mends[0].With)
	}
}

// Rules that a sheet does not ask for, or that are about what an asset has none
// of, say nothing.
func TestRulesThatAreNotAsked(t *testing.T) {
	for text, rule := range map[string]string{
		"motions: {apart: true}": "motion length", "motions: {longest: 3}": "motion length",
		"colliders: {shapes: [box], as: none}":               "collider shapes",
		"colliders: {shapes: [box], as: ending, ending: _c}": "collider shapes",
		"colliders: {shapes: [box]}":                         "collider shapes", "root_bone: x": "root bone",
		"end_bones: false":     "end bones",
		"joints_per_vertex: 2": "joints per vertex", "end_bones: true": "end bones",
		"names: {unique: true}": "names", "limits: {triangles: 0}": "triangles",
	} {
		if f, ok := byRule(Rehearse(plank(t), parsed(t, text)))[rule]; ok {
			t.Errorf("%s: %+v", text, f)
		}
	}
	// A collider of a shape that the ending makes a mesh of anyway is none of its business.
	s := plank(t)
	s.Nodes[0].Collider = &scene.Collider{Shape: scene.ShapeSphere, Radius: 1, Mesh: scene.None}
	if f, ok := byRule(Rehearse(s,
		parsed(t, "colliders: {shapes: [box], as: ending, ending: _c}")))["collider shapes"]; ok {
		t.Errorf("%+v", f)
	}
	lines := fmt.Sprint(parsed(t, "ground: true").Lines())
	for _, word := range []string{"Joints", "Own rule", "At most", "Without"} {
		if strings.Contains(lines, word) {
			t.Errorf("%s of a sheet that says nothing of it", word)
		}
	}
	lines = fmt.Sprint(parsed(t, "joints_per_vertex: 3\nlimits: {triangles: 12000}").Lines())
	if !strings.Contains(lines, "3 per vertex") || !strings.Contains(lines, "12,000 triangles") {
		t.Error(lines)
	}
}

// A part of a mesh that has no weights leaves all of it behind: it is touched
// like what stands still.
func TestAStillPartOfAFigure(t *testing.T) {
	s := doll(t)
	sheet := parsed(t, "colliders: {shapes: [box]}")
	if f, ok := byRule(Rehearse(s, sheet))["colliders"]; ok {
		t.Errorf("%+v", f)
	}
	s.Meshes[0].Parts = append(s.Meshes[0].Parts, plank(t).Meshes[0].Parts[0])
	if f := byRule(Rehearse(s, sheet))["colliders"]; f.Where != "plank" {
		t.Errorf("%+v", f)
	}
}

// What stands on a box as it is seen does not float; neither does what is boxed
// at every height and axis.
func TestWhatFits(t *testing.T) {
	s := plank(t)
	boxed(s)
	sheet := parsed(t, "colliders: {}")
	if f := byRule(Rehearse(s, sheet))["collider fit"]; f.Severity != Holds {
		t.Errorf("%+v", f)
	}
	// Three centimetres higher it floats all over; one is within what is allowed.
	for by, want := range map[float32]Severity{0.03: Warns, 0.01: Holds, -0.3: Holds} {
		s.Nodes[1].Translation[1] = 0.5 + by
		if f := byRule(Rehearse(s, sheet))["collider fit"]; f.Severity != want {
			t.Errorf("%g: %+v", by, f)
		}
	}
	// The same lying on another axis, upside down.
	s.Nodes[1].Translation[1] = 0.53
	for _, up := range []geom.Basis{{Up: geom.PlusZ, Front: geom.PlusX, Handed: geom.Left, MetresPerUnit: 0.01},
		{Up: -geom.PlusX, Front: geom.PlusY, Handed: geom.Right, MetresPerUnit: 3}} {
		turned, err := s.InBasis(up)
		if err != nil {
			t.Fatal(err)
		}
		if f := byRule(Rehearse(turned, sheet))["collider fit"]; f.Where != "plank: by 0.03 m at most" {
			t.Errorf("%v: %+v", up, f)
		}
	}
}

// Limits of a proposed sheet leave twice the next power of two.
func TestRoomAboveAnExample(t *testing.T) {
	s := plank(t)
	repictured(s, 12, 8)
	text := string(FromExample("x", s))
	// 12 triangles; 12 is no power of two
	for _, want := range []string{"limits: {triangles: 32, materials: 8}",
		"pictures: {required: true, largest: 16, formats: [png]}"} {
		if !strings.Contains(text, want) {
			t.Errorf("nothing says %q:\n%s", want, text)
		}
	}
	for in, want := range map[string]string{`^[a-z]+$`: "[^a-z]+", `^[a-z]*$`: "[^a-z]+", `[a-z]+`: "",
		`^[a-z]$`: "", `^a+$`: "", `^[^x]+$`: "", `^(a|bc)+$`: ""} {
		if got := others(in); got != want {
			t.Errorf("%s: %q, want %q", in, got, want)
		}
	}
}

// What only the porter decides for a print has answers whose steps mend it.
func TestAnswersForAPrint(t *testing.T) {
	for _, c := range []struct {
		rule, sheet string
		spoil       func(*scene.Scene)
	}{
		{"shells", "solid: {closed: true}", func(s *scene.Scene) { beside(s, 0, 0.0025, 0, 0.2) }},
		{"crossing faces", "solid: {closed: true}", func(s *scene.Scene) { beside(s, 0.005, 0.003, 0.0015, 0.3) }},
		{"walls", "solid: {wall: 0.003}", func(s *scene.Scene) { s.Nodes[0].Scale[1] = 0.5 }},
	} {
		s := plank(t)
		c.spoil(s)
		scaled(s, 0.005)
		sheet := parsed(t, c.sheet)
		f := finding(t, Rehearse(s, sheet), c.rule)
		if f.Ask == nil || len(f.Ask.Answers) == 0 || len(f.Mends) > 0 {
			t.Fatalf("%+v", f)
		}
		for _, a := range f.Ask.Answers {
			bands, err := chain.Run(t.Context(), "x", s, &chain.Chain{Steps: a.Mends}, nil, nil, nil)
			if err != nil || chain.Failed(bands) != nil {
				t.Fatalf("%s, %s: %v", c.rule, a.Text, err)
			}
			end := chain.Last(bands).Scene
			if f := finding(t, Rehearse(end, sheet), c.rule); f.Severity != Holds {
				t.Errorf("%s, %s: %+v", c.rule, a.Text, f)
			}
			if c.rule != "walls" {
				if f := finding(t, Rehearse(end, sheet), "closed"); f.Severity != Holds {
					t.Errorf("%s, %s: %+v", c.rule, a.Text, f)
				}
			}
		}
	}
}

// A sheet says in words what it wants of a body.
func TestLinesOfABody(t *testing.T) {
	for _, l := range parsed(t, "solid: {closed: true, wall: 0.0008, bed: [0.22, 0.2, 0.25]}").Lines() {
		if l[0] == "Body" {
			if l[1] != "closed all round, walls of 0.8 mm, within 220 × 200 × 250 mm" {
				t.Errorf("%q", l[1])
			}
			return
		}
	}
	t.Error("it says nothing of the body")
}

// The figures that a printer's user reads are those of the body.
func TestMatter(t *testing.T) {
	s := plank(t)
	scaled(s, 0.005) // 10 × 5 × 20 mm
	f := finding(t, Rehearse(s, parsed(t, "solid: {closed: true, density: 1240}")), "closed")
	if f.Severity != Holds || f.Where != "1 cm³ in 1 piece, 1.24 g" {
		t.Errorf("%+v", f)
	}
}

func finding(t *testing.T, list []Finding, rule string) Finding {
	t.Helper()
	for _, f := range list {
		if f.Rule == rule {
			return f
		}
	}
	t.Fatalf("no finding of %s", rule)
	return Finding{}
}
