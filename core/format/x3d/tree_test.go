package x3d

import (
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/scene"
)

// find returns the node of a name.
func find(t *testing.T, s *scene.Scene, name string) int {
	t.Helper()
	for i := range s.Nodes {
		if s.Nodes[i].Name == name {
			return i
		}
	}
	t.Fatalf("no node %q among %+v", name, s.Nodes)
	return -1
}

func parent(s *scene.Scene, i int) string {
	if p := s.Nodes[i].Parent; p >= 0 {
		return s.Nodes[p].Name
	}
	return ""
}

// What places others is a node, in both encodings; what is used again is one
// mesh of several nodes.
func TestNodesWithinNodes(t *testing.T) {
	for _, text := range []string{
		vrml + `DEF mill Transform { translation 0 5 0 children [
  DEF wheel Transform { rotation 0 0 1 0.5 children [ Shape { geometry Box { } } Shape { geometry Sphere { } } ] }
  DEF sails Group { children [ Transform { translation 1 0 0 children DEF sail Shape { geometry Box { size 1 4 0.1 } } } Transform { translation -1 0 0 children USE sail } ] }
] }`,
		`<X3D><Scene><Transform DEF="mill" translation="0 5 0"><Transform DEF="wheel" rotation="0 0 1 0.5"><Shape><Box/></Shape><Shape><Sphere/></Shape></Transform>
<Group DEF="sails"><Transform translation="1 0 0"><Shape DEF="sail"><Box size="1 4 0.1"/></Shape></Transform><Transform translation="-1 0 0"><Shape USE="sail"/></Transform></Group></Transform></Scene></X3D>`,
	} {
		s := must(t, text)
		var tree []string
		for i := range s.Nodes {
			tree = append(tree, fmt.Sprintf("%s<%s:%d", s.Nodes[i].Name, parent(s, i), s.Nodes[i].Mesh))
		}
		if got := strings.Join(tree, " "); got != "mill<:-1 wheel<mill:-1 wheel 2<wheel:0 wheel 3<wheel:1 sails<mill:-1 sail<sails:2 sail 2<sails:2" {
			t.Errorf("%s", got)
		}
		if n := s.Nodes[1]; math.Abs(float64(n.Rotation[2])-math.Sin(0.25)) > 1e-6 || s.Nodes[0].Translation[1] != 5 || s.Nodes[6].Translation[0] != -1 {
			t.Errorf("%+v", s.Nodes)
		}
	}
}

// What no node can say two say together: two scalings with a turn between them
// shear.
func TestShearedNodes(t *testing.T) {
	s := must(t, vrml+`DEF squashed Transform { scale 1 3 1 children DEF turned Transform { rotation 0 0 1 0.78539816 children DEF held Transform { translation 1 0 0 children Shape { geometry Box { } } } } }`)
	b := s.Bounds() // the corners of the box at 45 degrees: from 1/√2 - √2 to 1/√2 + √2, upwards three times that
	for k, want := range [2]float64{1, 3} {
		if lo, hi := want*(math.Sqrt2/2-math.Sqrt2), want*(math.Sqrt2/2+math.Sqrt2); math.Abs(b.Min[k]-lo) > 1e-5 || math.Abs(b.Max[k]-hi) > 1e-5 {
			t.Errorf("%v: want %g to %g", b, lo, hi)
		}
	}
	if v := volume(s); math.Abs(v-24) > 1e-4 {
		t.Errorf("a volume of %g", v)
	}
	if parent(s, find(t, s, "held")) != "turned" || parent(s, find(t, s, "turned")) != "squashed" {
		t.Errorf("%+v", s.Nodes)
	}
}

func TestLightsAndViewpoints(t *testing.T) {
	s := must(t, vrml+`Shape { geometry Box { } }
Transform { translation 0 2 0 rotation 0 1 0 1.5707963 children [
  DEF lamp SpotLight { location 1 0 0 direction 1 0 0 color 1 0.5 0 intensity 0.5 attenuation 0 0 1 radius 7 ambientIntensity 0.2 }
  Viewpoint { description "from the pier" position 0 0 3 fieldOfView 0.6 } ] }
DirectionalLight { direction 0 -1 0 } PointLight { on FALSE } PointLight { }`)
	if len(s.Lights) != 3 || len(s.Cameras) != 1 {
		t.Fatalf("%+v %+v", s.Lights, s.Cameras)
	}
	world := s.World()
	looks := func(i int) geom.Vec3 { return world[i].Dir(geom.Vec3{0, 0, -1}) }
	lamp := find(t, s, "lamp")
	// A quarter turn about Y takes X to -Z.
	if at := world[lamp].Point(geom.Vec3{}); at.Sub(geom.Vec3{0, 2, -1}).Len() > 1e-6 || looks(lamp).Sub(geom.Vec3{0, 0, -1}).Len() > 1e-6 {
		t.Errorf("the lamp is at %v and looks along %v", at, looks(lamp))
	}
	if l := s.Lights[s.Nodes[lamp].Light]; l.Type != "spot" || l.Intensity != 0.5 || l.Range != 7 || math.Abs(float64(l.Outer)-math.Pi/4) > 1e-6 || l.Inner != l.Outer || math.Abs(float64(l.Colour[1])-0.2140) > 1e-4 {
		t.Errorf("%+v", l)
	}
	view := find(t, s, "from the pier")
	if c := s.Cameras[0]; c.FovY != 0.6 || world[view].Point(geom.Vec3{}).Sub(geom.Vec3{3, 2, 0}).Len() > 1e-6 || looks(view).Sub(geom.Vec3{-1, 0, 0}).Len() > 1e-6 {
		t.Errorf("%+v at %v", c, world[view])
	}
	if d := looks(find(t, s, "DirectionalLight")); d.Sub(geom.Vec3{0, -1, 0}).Len() > 1e-6 {
		t.Errorf("the sun shines along %v", d)
	}
	for _, want := range []string{"a light that is off was left out", "a light's ambient share", "a light's attenuation", "lights have no unit"} {
		if !said(s, want) {
			t.Errorf("%q is not among %v", want, s.Notes)
		}
	}
	s = must(t, `<X3D><Scene><Shape><Box/></Shape><OrthoViewpoint DEF="plan" orientation="1 0 0 -1.5707963" fieldOfView="-4 -2 4 2" farDistance="50"/><SpotLight DEF="beam"/></Scene></X3D>`)
	if c := s.Cameras[0]; !c.Orthographic || c.Height != 2 || c.Aspect != 2 || c.Far != 50 {
		t.Errorf("%+v", c)
	}
	if l := s.Lights[0]; math.Abs(float64(l.Outer)-math.Pi/2) > 1e-6 || math.Abs(float64(l.Inner)-math.Pi/4) > 1e-6 {
		t.Errorf("%+v", l)
	}
}

// A Switch and the levels of a LOD are readings of the file.
func TestReadings(t *testing.T) {
	const text = vrml + `DEF hull Switch { whichChoice 1 choice [ DEF sound Shape { geometry Box { } } DEF holed Shape { geometry Cone { } } Group { children DEF wreck Shape { geometry Sphere { } } } ] }
Switch { whichChoice -1 choice Shape { geometry Cylinder { } } }
LOD { level [ DEF fine Shape { geometry Sphere { } } DEF coarse Shape { geometry Box { } } DEF far Shape { geometry Box { size 1 1 1 } } ] }
LOD { level [ DEF near Shape { geometry Sphere { } } DEF rough Shape { geometry Box { } } ] }`
	for _, c := range []struct {
		readings map[string]string
		shown    string
		chosen   string
	}{
		{nil, "holed fine near", "holed nothing finest"},
		{map[string]string{"switch hull": "sound", scene.DetailChoice: "level 1"}, "sound coarse rough", "sound nothing level 1"},
		{map[string]string{"switch hull": "choice 2", "switch 2": "choice 0", scene.DetailChoice: "level 2"}, "wreck shape far rough", "choice 2 choice 0 level 2"},
		{map[string]string{"switch hull": "sunk", scene.DetailChoice: "level 99"}, "holed far rough", "holed nothing level 2"},
		{map[string]string{scene.DetailChoice: "level -3"}, "holed fine near", "holed nothing finest"},
	} {
		s, err := Formats()[0].Read(context.Background(), format.File{Data: []byte(text), Readings: c.readings})
		if err != nil {
			t.Fatal(err)
		}
		var shown, chosen []string
		for i := range s.Nodes {
			shown = append(shown, s.Nodes[i].Name)
		}
		for _, x := range s.Choices {
			chosen = append(chosen, x.Chosen)
		}
		if a, b := strings.Join(shown, " "), strings.Join(chosen, " "); a != c.shown || b != c.chosen {
			t.Errorf("%v: %s; %s", c.readings, a, b)
		}
		if len(s.Choices) != 3 || fmt.Sprint(s.Choices[0].Options) != "[holed sound choice 2]" || fmt.Sprint(s.Choices[2].Options) != "[finest level 1 level 2]" {
			t.Errorf("%+v", s.Choices)
		}
		n := len(s.Choices)
		if s.ChooseDetail("all"); len(s.Choices) != n {
			t.Error("levels of detail are offered twice")
		}
	}
}

// A file that shows nothing until something is chosen is read; so is one whose
// Switch has more than can be offered.
func TestSwitchesThatShowNothing(t *testing.T) {
	s := must(t, vrml+"DEF mast Switch { choice [ DEF up Shape { geometry Box { } } ] }")
	if len(s.Meshes) != 0 || len(s.Choices) != 1 || fmt.Sprint(s.Choices[0].Options) != "[nothing up]" || !said(s, "choose another of its readings") {
		t.Errorf("%+v %v", s.Choices, s.Notes)
	}
	s = must(t, vrml+"Switch { whichChoice 2 choice [ "+strings.Repeat("Shape { geometry Box { } } ", 100_000)+"] }")
	if len(s.Meshes) != 1 || len(s.Choices) != 0 || !said(s, "another choice of a Switch was left out (99999 times)") {
		t.Errorf("%d meshes, %d choices, %v", len(s.Meshes), len(s.Choices), s.Notes)
	}
}

// village is a scene of nodes within nodes: one mesh of several nodes, one
// mirrored, one sheared, a camera and lights.
func village() *scene.Scene {
	s := fleet()
	s.Meshes = s.Meshes[:1]
	s.Nodes = nil
	add := func(name string, parent, mesh int, t [3]float32, turn float64, scale [3]float32) int {
		n := scene.NewNode(name)
		n.Parent, n.Mesh, n.Translation, n.Scale = parent, mesh, t, scale
		for k, v := range geom.AxisAngle(geom.Vec3{0, 0, 1}, turn) {
			n.Rotation[k] = float32(v)
		}
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	one := [3]float32{1, 1, 1}
	pier := add("pier", scene.None, scene.None, [3]float32{0, 1, 0}, 0.3, one)
	add("left", pier, 0, [3]float32{1, 0, 0}, 0, one)
	add("right", pier, 0, [3]float32{-1, 0, 0}, 1.1, [3]float32{2, 1, 1})
	add("mirrored", pier, 0, [3]float32{}, 0.5, [3]float32{-1, 1, 1})
	flat := add("flattened", scene.None, scene.None, [3]float32{}, 0, [3]float32{1, 4, 1})
	add("sheared", flat, 0, [3]float32{0, 0, 2}, 0.7, one)
	add("hook", flat, scene.None, [3]float32{0, 0.5, 0}, 0, one)
	s.Cameras = []scene.Camera{{Name: "keeper's eye", FovY: 0.7, Near: 0.5, Far: 90}, {Name: "plan", Orthographic: true, Height: 3, Aspect: 2, Near: 0.1, Far: 100}}
	s.Lights = []scene.Light{{Name: "lantern", Type: "spot", Colour: [3]float32{1, 0.5, 0.25}, Intensity: 3, Range: 12, Inner: 0.2, Outer: 0.6}, {Name: "moon", Type: "directional", Colour: one, Intensity: 0.5}, {Name: "fire", Type: "point", Colour: one, Intensity: 0.25}}
	for i := range s.Cameras {
		s.Nodes[add(s.Cameras[i].Name, pier, scene.None, [3]float32{0, float32(i), 3}, 0.4, one)].Camera = i
	}
	for i := range s.Lights {
		s.Nodes[add(s.Lights[i].Name, pier, scene.None, [3]float32{0, 0, float32(i)}, 0, one)].Light = i
	}
	return s
}

// corners is where a scene's triangles lie in the world, in their order.
func corners(s *scene.Scene) (out []geom.Vec3) {
	for _, p := range flat.Pieces(s) {
		for _, v := range p.Triangles {
			out = append(out, geom.At(p.Positions, v))
		}
	}
	return out
}

func TestNodesWritten(t *testing.T) {
	s := village()
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	for _, w := range Writers() {
		files, notes, err := w.Write(s, "village")
		if err != nil {
			t.Fatal(err)
		}
		got := must(t, string(files[0].Data))
		a, b := corners(s), corners(got)
		if len(a) != len(b) {
			t.Fatalf("%s: %d corners, want %d", w.Name, len(b), len(a))
		}
		for i := range a {
			if a[i].Sub(b[i]).Len() > 1e-5 {
				t.Fatalf("%s: corner %d at %v, want %v", w.Name, i, b[i], a[i])
			}
		}
		for name, up := range map[string]string{"pier": "", "left": "pier", "right": "pier", "mirrored": "pier", "sheared": "flattened", "hook": "flattened", "lantern": "pier", "moon": "pier"} {
			if p := parent(got, find(t, got, name)); p != up {
				t.Errorf("%s: %s stands in %q, not in %q", w.Name, name, p, up)
			}
		}
		left, right := got.Nodes[find(t, got, "left")], got.Nodes[find(t, got, "right")]
		if left.Mesh != right.Mesh || left.Mesh < 0 {
			t.Errorf("%s: the mesh of two nodes is written twice", w.Name)
		}
		theirs, ours := s.World(), got.World()
		for _, name := range []string{"lantern", "moon", "fire", "keeper_s_eye"} {
			i, k := find(t, got, name), find(t, s, strings.ReplaceAll(name, "_s_", "'s "))
			for _, p := range []geom.Vec3{{}, {0, 0, -1}} {
				if s.Nodes[k].Light >= 0 && (s.Lights[s.Nodes[k].Light].Type == "point" && p != geom.Vec3{} || s.Lights[s.Nodes[k].Light].Type == "directional" && p == geom.Vec3{}) {
					continue // a point light looks nowhere, a directional one stands nowhere
				}
				if s.Nodes[k].Light >= 0 && s.Lights[s.Nodes[k].Light].Type == "directional" {
					if ours[i].Dir(p).Sub(theirs[k].Dir(p)).Len() > 1e-5 {
						t.Errorf("%s: %s shines along %v", w.Name, name, ours[i].Dir(p))
					}
					continue
				}
				if ours[i].Point(p).Sub(theirs[k].Point(p)).Len() > 1e-5 {
					t.Errorf("%s: %s has %v at %v, want %v", w.Name, name, p, ours[i].Point(p), theirs[k].Point(p))
				}
			}
		}
		lantern := got.Lights[got.Nodes[find(t, got, "lantern")].Light]
		lost := fmt.Sprint(notes)
		if w.Name == "vrml" {
			file := filepath.Join(t.TempDir(), files[0].Name)
			if err := os.WriteFile(file, files[0].Data, 0o644); err != nil {
				t.Fatal(err)
			}
			sameAsThree(t, file, s)
			if lantern.Intensity != 1 || !strings.Contains(lost, "1 camera without perspective") || !strings.Contains(lost, "1 strength of a light above 1") {
				t.Errorf("%+v, %s", lantern, lost)
			}
			lantern.Intensity = 3
		} else if len(got.Cameras) != 2 || !got.Cameras[1].Orthographic || got.Cameras[1].Height != 3 || got.Cameras[1].Aspect != 2 || got.Cameras[0].Far != 90 {
			t.Errorf("%+v", got.Cameras)
		}
		lantern.Colour[1], lantern.Colour[2] = float32(math.Round(float64(lantern.Colour[1])*1e4)/1e4), float32(math.Round(float64(lantern.Colour[2])*1e4)/1e4)
		if lantern != s.Lights[0] {
			t.Errorf("%s: %+v, want %+v", w.Name, lantern, s.Lights[0])
		}
		if fire := got.Lights[got.Nodes[find(t, got, "fire")].Light]; fire.Range != 0 {
			t.Errorf("%s: a light without end reaches %g", w.Name, fire.Range)
		}
		if strings.Contains(lost, "lights not written") || strings.Contains(lost, "2 cameras not written") {
			t.Errorf("%s: %s", w.Name, lost)
		}
	}
}

// A chain of nodes deeper than readers go is written all the same.
func TestDeepNodes(t *testing.T) {
	s := fleet()
	s.Meshes, s.Nodes = s.Meshes[:1], nil
	for i := range 4000 {
		n := scene.NewNode(fmt.Sprintf("link %d", i))
		n.Parent, n.Translation = i-1, [3]float32{0.5, 0, 0}
		if i%1000 == 999 {
			n.Mesh = 0
		}
		s.Nodes = append(s.Nodes, n)
	}
	for _, w := range Writers() {
		files, _, err := w.Write(s, "chain")
		if err != nil {
			t.Fatal(err)
		}
		got := must(t, string(files[0].Data))
		if b := got.Bounds(); len(got.Meshes) != 4 || math.Abs(b.Max[0]-2001) > 1e-2 || math.Abs(b.Min[0]-500) > 1e-2 {
			t.Errorf("%s: %d meshes, %v", w.Name, len(got.Meshes), b)
		}
	}
}

// Skinned meshes stand as their bones have them; bones are left out.
func TestSkinnedWritten(t *testing.T) {
	s := fleet()
	s.Meshes, s.Nodes = s.Meshes[:1], s.Nodes[:1]
	hip := scene.NewNode("hip")
	hip.Translation = [3]float32{0, 3, 0}
	s.Nodes = append(s.Nodes, hip)
	p := &s.Meshes[0].Parts[0]
	p.Influences, p.Joints, p.Weights = 1, make([]uint16, 4), []float32{1, 1, 1, 1}
	s.Skins = []scene.Skin{{Name: "body", Joints: []int{1}, Root: scene.None}}
	s.Nodes[0].Skin = 0
	for _, w := range Writers() {
		files, notes, err := w.Write(s, "body")
		if err != nil {
			t.Fatal(err)
		}
		got := must(t, string(files[0].Data))
		if b := got.Bounds(); len(got.Nodes) != 1 || b.Min[1] != 3 || !strings.Contains(fmt.Sprint(notes), "1 bone not written") {
			t.Errorf("%s: %+v %v %v", w.Name, got.Nodes, b, notes)
		}
	}
}
