package x3d

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// fleet is a scene with all that both formats carry: materials of every kind,
// names that DEF does not allow, a mirrored node, lines and points.
func fleet() *scene.Scene {
	s := &scene.Scene{Name: "fleet", Basis: geom.GLTF}
	s.Pictures = []scene.Picture{{Name: `reed "c"`, MIME: "image/png", Data: []byte("\x89PNG"), Width: 2, Height: 2}, {Name: "reed_n", MIME: "image/png", Data: []byte("\x89PNG"), Width: 2, Height: 2}}
	reed, glass, lamp, cut := scene.NewMaterial("reed"), scene.NewMaterial("glass"), scene.NewMaterial("lamp"), scene.NewMaterial("net")
	reed.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0, UVSet: 1, WrapU: scene.Clamp, Transform: &scene.UVTransform{Offset: [2]float32{0.25, 0}, Rotation: 0.3, Scale: [2]float32{2, 3}}}, {Role: scene.RoleNormal, Picture: 1}}
	reed.TwoSided, reed.Roughness, reed.Metallic = true, 0.4, 0.2
	glass.Alpha, glass.BaseColour = scene.Blend, [4]float32{0.1, 0.5, 0.9, 0.25}
	lamp.Unlit, lamp.BaseColour = true, [4]float32{1, 0.5, 0, 1}
	cut.Alpha, cut.Cutoff, cut.Emissive = scene.Cutout, 0.3, [3]float32{0.2, 0, 0}
	s.Materials = []scene.Material{reed, glass, lamp, cut}
	part := func(m int) scene.Part {
		return scene.Part{Material: m, Positions: []float32{0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0}, Normals: []float32{0, 0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1}, Triangles: []uint32{0, 1, 2, 0, 2, 3},
			UVs: []scene.AttrSet{{Name: "a", Data: []float32{0, 0, 1, 0, 1, 1, 0, 1}}, {Name: "b", Data: []float32{0.5, 0.5, 1, 0.5, 1, 1, 0.5, 1}}}}
	}
	add := func(name string, p scene.Part, scale [3]float32) {
		n := scene.NewNode(name)
		n.Mesh, n.Scale = len(s.Meshes), scale
		s.Meshes = append(s.Meshes, scene.Mesh{Name: name, Parts: []scene.Part{p}})
		s.Nodes = append(s.Nodes, n)
	}
	for i, name := range []string{"ferry punt #1", "2nd pane", "lämp", "net"} {
		add(name, part(i), [3]float32{1, 1, 1})
	}
	add("net", part(0), [3]float32{-1, 2, 1})
	clear := part(1)
	clear.Colours = []scene.AttrSet{{Name: "tint", Data: []float32{1, 0, 0, 1, 0, 1, 0, 0.5, 0, 0, 1, 1, 1, 1, 1, 1}}}
	add("{}", clear, [3]float32{1, 1, 1})
	add("rope", scene.Part{Material: 2, Positions: []float32{0, 0, 0, 1, 0, 0, 2, 1, 0}, Lines: []uint32{0, 1, 1, 2}, Points: []uint32{2}}, [3]float32{1, 1, 1})
	return s
}

func TestWhatIsWritten(t *testing.T) {
	for _, w := range Writers() {
		s := fleet()
		if err := s.Validate(); err != nil {
			t.Fatal(err)
		}
		files, notes, err := w.Write(s, "fleet/one")
		if err != nil {
			t.Fatal(err)
		}
		text := string(files[0].Data)
		if !strings.HasPrefix(files[0].Name, "fleet_one.") || len(files) != 3 {
			t.Errorf("%s: %q and %d more", w.Name, files[0].Name, len(files)-1)
		}
		lost := ""
		for _, n := range notes {
			lost += n.Text + "; "
		}
		if strings.Contains(lost, "1 role of a picture not written") != (w.Name == "vrml") || !strings.Contains(lost, "UV set") || strings.Contains(lost, "cutoff") != (w.Name == "vrml") {
			t.Errorf("%s: %s", w.Name, lost)
		}
		if !strings.Contains(lost, "3 names were written otherwise") {
			t.Errorf("%s: %s", w.Name, lost)
		}
		got := must(t, text)
		if st, want := got.Stats(), s.Stats(); st.Triangles != want.Triangles || st.Lines != 2 || st.Points != 1 || math.Abs(st.Area-want.Area) > 1e-6 {
			t.Errorf("%s: %+v", w.Name, st)
		}
		names := map[string]bool{}
		for i := range got.Nodes {
			if names[got.Nodes[i].Name] {
				t.Errorf("%s: %s stands twice", w.Name, got.Nodes[i].Name)
			}
			names[got.Nodes[i].Name] = true
		}
		for _, want := range []string{"ferry_punt__1", "_2nd_pane", "lämp", "net", "net_3", "shape", "rope"} {
			if !names[want] {
				t.Errorf("%s: no %s among %v", w.Name, want, names)
			}
		}
		of := func(name string) *scene.Material {
			for i := range got.Materials {
				if got.Materials[i].Name == name {
					return &got.Materials[i]
				}
			}
			t.Fatalf("%s: no material %s", w.Name, name)
			return nil
		}
		if m := of("reed"); !m.TwoSided || len(m.Textures) != 1 || m.Textures[0].WrapU != scene.Clamp || m.Textures[0].WrapV != scene.Repeat || got.Pictures[m.Textures[0].Picture].Ref != files[1].Name {
			t.Errorf("%s: %+v %+v", w.Name, m, got.Pictures)
		}
		if m := of("glass"); m.Alpha != scene.Blend || math.Abs(float64(m.BaseColour[3])-0.25) > 1e-6 || math.Abs(float64(m.BaseColour[1])-0.5) > 1e-5 {
			t.Errorf("%s: %+v", w.Name, m)
		}
		lamp := of("lamp")
		if w.Name == "x3d" {
			if !lamp.Unlit || math.Abs(float64(lamp.BaseColour[1])-0.5) > 1e-5 {
				t.Errorf("%+v", lamp)
			}
			if m := of("reed"); math.Abs(float64(m.Roughness)-0.4) > 1e-6 || math.Abs(float64(m.Metallic)-0.2) > 1e-6 {
				t.Errorf("%+v", m)
			}
			if m := of("net_2"); m.Alpha != scene.Cutout || math.Abs(float64(m.Cutoff)-0.3) > 1e-6 || math.Abs(float64(m.Emissive[0])-0.2) > 1e-5 {
				t.Errorf("%+v", m)
			}
		} else if lamp.Emissive[0] != 1 || lamp.BaseColour[0] != 0 { // it shines, and has no light on it
			t.Errorf("%+v", lamp)
		}
		// The UVs of the picture's own set, moved as the material moves them.
		u := s.Materials[0].Textures[0].Transform
		wantU, wantV := u.Apply(0.5, 0.5)
		if d := got.Meshes[0].Parts[0].UVs[0].Data; math.Abs(float64(d[0]-wantU)) > 1e-5 || math.Abs(float64(d[1]-wantV)) > 1e-5 {
			t.Errorf("%s: UVs %v, want %g %g", w.Name, d[:2], wantU, wantV)
		}
		// A mirrored node keeps its front.
		for i := range got.Nodes {
			if got.Nodes[i].Name != "net_3" {
				continue
			}
			p := &got.Meshes[got.Nodes[i].Mesh].Parts[0]
			v := func(k int) geom.Vec3 {
				q := p.Positions[3*p.Triangles[k]:]
				return geom.Vec3{float64(q[0]), float64(q[1]), float64(q[2])}
			}
			if n := v(1).Sub(v(0)).Cross(v(2).Sub(v(0))); n[2] <= 0 || v(1)[0] > 0 && v(2)[0] > 0 {
				t.Errorf("%s: a mirrored face looks to %v", w.Name, n)
			}
		}
	}
}

func TestXMLIsWellFormed(t *testing.T) {
	s := fleet()
	s.Materials[0].Name = `a<b>&"c"`
	files, _, err := Writers()[0].Write(s, "x")
	if err != nil {
		t.Fatal(err)
	}
	defs, uses := map[string]int{}, 0
	for d := xml.NewDecoder(strings.NewReader(string(files[0].Data))); ; {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		e, ok := tok.(xml.StartElement)
		if !ok {
			continue
		}
		for _, a := range e.Attr {
			switch a.Name.Local {
			case "DEF":
				defs[a.Value]++
			case "USE":
				if uses++; defs[a.Value] == 0 {
					t.Errorf("USE %s before its DEF", a.Value)
				}
			}
		}
	}
	for d, n := range defs {
		if n > 1 || strings.ContainsAny(d, ` <>&"#`) {
			t.Errorf("DEF %q stands %d times", d, n)
		}
	}
	if uses == 0 {
		t.Error("a material of two shapes is written twice")
	}
}

// Scenes in other axes are turned, scenes without are taken as they are, and
// both are said.
func TestAxesOfWhatIsWritten(t *testing.T) {
	for _, c := range []struct {
		basis geom.Basis
		note  string
		top   float64
	}{
		{geom.GLTF, "", 1},
		{geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01}, "turned from", 0.03},
		{geom.Basis{}, "declares no axes and no unit", 1},
	} {
		s := fleet()
		s.Basis = c.basis
		s.Meshes, s.Nodes = s.Meshes[:1], s.Nodes[:1]
		s.Meshes[0].Parts[0].Positions = []float32{0, 0, 0, 1, 0, 3, 1, 1, 3, 0, 1, 0}
		for _, w := range Writers() {
			files, notes, err := w.Write(s, "x")
			if err != nil {
				t.Fatal(err)
			}
			if said := fmt.Sprint(notes); c.note != "" && !strings.Contains(said, c.note) || c.note == "" && (strings.Contains(said, "turned") || strings.Contains(said, "declares")) {
				t.Errorf("%s of %v: %s", w.Name, c.basis, said)
			}
			if b := must(t, string(files[0].Data)).Bounds(); math.Abs(b.Max[1]-c.top) > 1e-6 {
				t.Errorf("%s of %v is %v", w.Name, c.basis, b)
			}
		}
	}
	if files, _, err := Writers()[0].Write(&scene.Scene{Name: "empty"}, ""); err != nil || files[0].Name != "model.x3d" || !strings.Contains(string(files[0].Data), "<Scene>") {
		t.Errorf("%v %v", files, err)
	}
}
