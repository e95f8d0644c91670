package format_test

import (
	"bytes"
	"context"
	"math"
	"slices"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/scene"
	"excavate/internal/shipped"
)

// comma is what a machine with decimal commas makes of a text's numbers.
func comma(text string) string {
	b := []byte(text)
	for i := 1; i+1 < len(b); i++ {
		if b[i] == '.' && b[i-1]-'0' < 10 && b[i+1]-'0' < 10 {
			b[i] = ','
		}
	}
	return strings.NewReplacer("V2,0", "V2.0", "1,4,1", "1.4.1").Replace(string(b))
}

const commaCollada = `<?xml version='one'?><COLLADA version="1.4.1"><asset><unit meter="0.25"/><up_axis>Y_UP</up_axis></asset>
<library_effects><effect id="e"><profile_COMMON><technique sid="t"><lambert><diffuse><color>0.5 0.25 0.125 1.0</color></diffuse></lambert></technique></profile_COMMON></effect></library_effects>
<library_materials><material id="m"><instance_effect url="#e"/></material></library_materials>
<library_geometries><geometry id="g"><mesh><source id="p"><float_array id="pa" count="9">0.0 0.0 0.0 1.5 0.0 0.0 0.0 1.25 0.0</float_array><technique_common><accessor source="#pa" count="3" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
<vertices id="v"><input semantic="POSITION" source="#p"/></vertices><triangles count="1" material="x"><input semantic="VERTEX" source="#v" offset="0"/><p>0 1 2</p></triangles></mesh></geometry></library_geometries>
<library_visual_scenes><visual_scene id="s"><node id="n"><translate>1.5 0.0 2.75</translate><scale>2 1 1.5</scale><instance_geometry url="#g"><bind_material><technique_common><instance_material symbol="x" target="#m"/></technique_common></bind_material></instance_geometry></node></visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>`

var commaTexts = map[string]string{
	"collada": commaCollada,
	"obj":     "o reed, cut\nv 0.0 0.0 0.0\nv 1.5 0.0 0.0\nv 0.0 1.25 0.0\nvt 0.5 0.5\nvn 0.0 0.0 1.0\nf 1/1/1 2/1/1 3/1/1\n",
	"ply":     "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n0.0 0.0 0.0\n1.5 0 0\n0 1.25 0\n3 0 1 2\n",
	"stl":     "solid reed, cut\nfacet normal 0.0 0.0 1.0\nouter loop\nvertex 0.0 0.0 0.0\nvertex 1.5 0.0 0.0\nvertex 0.0 1.25 0.0\nendloop\nendfacet\nendsolid x\n",
	"bvh":     "HIERARCHY\nROOT hips\n{\n OFFSET 0.5 0 0\n CHANNELS 3 Xposition Yposition Zposition\n JOINT a\n {\n OFFSET 0 1.5 0\n CHANNELS 3 Zrotation Xrotation Yrotation\n }\n}\nMOTION\nFrames: 2\nFrame Time: 0.25\n1.5 2.5 3.5 0.0 0.0 0.0\n1.5 2.5 3.75 0.0 0.0 10.5\n",
	"vrml":    "#VRML V2.0 utf8\nTransform { translation 0.500000 1.250000 0.000000 children Shape { geometry IndexedFaceSet { coord Coordinate { point [ 0.000000 0.000000 0.000000 1.500000 0.000000 0.000000 0.000000 1.250000 0.000000 ] } coordIndex [0,1,2,-1] } } }\n",
	"x3d":     `<?xml version='one'?><X3D version="3-3"><Scene><Transform translation="0.500000 1.250000 0.000000"><Shape><IndexedFaceSet coordIndex="0 1 2 -1"><Coordinate point="0.000000 0.000000 0.000000 1.500000 0.000000 0.000000 0.000000 1.250000 0.000000"/></IndexedFaceSet></Shape></Transform></Scene></X3D>`,
}

func readText(t *testing.T, name, text string) (*scene.Scene, error) {
	t.Helper()
	r := shipped.Formats.Find([]byte(text)[:min(len(text), 512)])
	if r == nil || r.Name != name {
		t.Fatalf("%s is not recognised: %+v", name, r)
	}
	return r.Read(context.Background(), format.File{Name: "thing", Data: []byte(text)})
}

// A file with decimal commas is the same model as with points, and says so.
func TestDecimalCommasAreNeverTwoNumbers(t *testing.T) {
	for name, text := range commaTexts {
		want, err := readText(t, name, text)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		got, err := readText(t, name, comma(text))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		a, b := want.Stats(), got.Stats()
		if a.Min != b.Min || a.Max != b.Max || a.Triangles != b.Triangles || math.Abs(a.Area-b.Area) > 1e-9 || want.Basis != got.Basis {
			t.Errorf("%s: %v to %v, %v; with commas %v to %v, %v", name, a.Min, a.Max, want.Basis, b.Min, b.Max, got.Basis)
		}
		for i := range want.Materials {
			if got.Materials[i].BaseColour != want.Materials[i].BaseColour {
				t.Errorf("%s: colour %v, with commas %v", name, want.Materials[i].BaseColour, got.Materials[i].BaseColour)
			}
		}
		for i := range want.Motions {
			if w, g := want.Motions[i].Seconds(), got.Motions[i].Seconds(); w != g {
				t.Errorf("%s: %v s, with commas %v s", name, w, g)
			}
		}
		has := func(s *scene.Scene) bool {
			return slices.ContainsFunc(s.Notes, func(n scene.Note) bool { return n.Text == format.CommasNote })
		}
		if has(want) || !has(got) {
			t.Errorf("%s: notes %v, with commas %v", name, want.Notes, got.Notes)
		}
	}
}

// What cannot be settled is refused with its place.
func TestCommasThatMeanEitherAreRefused(t *testing.T) {
	for name, c := range map[string][3]string{
		"a count that fits neither": {"collada", strings.Replace(comma(commaCollada), `count="9"`, `count="12"`, 1), "line 4"},
		"a tuple of USD":            {"usda", "#usda 1.0\ndef Mesh \"m\" {\n point3f[] points = [(0,0, 0,0, 0,0), (1,5, 0,0, 0,0), (0,0, 1,25, 0,0)]\n int[] faceVertexCounts = [3]\n int[] faceVertexIndices = [0,1,2]\n}\n", "line"},
		"two commas":                {"obj", "v 0,0,0 1 1\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "line 1"},
	} {
		if r := shipped.Formats.Find([]byte(c[1])); r == nil && name == "two commas" {
			continue // it is not even told as a model
		}
		if _, err := readText(t, c[0], c[1]); err == nil || !strings.Contains(err.Error(), c[2]) {
			t.Errorf("%s: %v, want %q", name, err, c[2])
		}
	}
}

// Commas that part numbers, where the format has them, stay what they are.
func TestCommasThatPartNumbers(t *testing.T) {
	for name, text := range map[string]string{
		"vrml":    "#VRML V2.0 utf8\nShape { geometry IndexedFaceSet { coord Coordinate { point [ 0 0 0,1 0 0,1 1 0,0 1 0 ] } coordIndex [0,1,2,3,-1] } }\n",
		"x3d":     `<?xml version="1.0"?><X3D version="3.3"><Scene><Shape><IndexedFaceSet coordIndex="0,1,2,3,-1"><Coordinate point="0 0 0,1 0 0,1 1 0,0 1 0"/></IndexedFaceSet></Shape></Scene></X3D>`,
		"collada": strings.Replace(commaCollada, "0.0 0.0 0.0 1.5 0.0 0.0 0.0 1.25 0.0", "0,0,0, 1,0,0, 0,1,0", 1),
	} {
		s, err := readText(t, name, text)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		p := s.Meshes[0].Parts[0].Positions
		if slices.Max(p) != 1 || slices.Min(p) != 0 {
			t.Errorf("%s: %v", name, p)
		}
		for _, n := range s.Notes {
			if n.Text == format.CommasNote {
				t.Errorf("%s: %s", name, n.Text)
			}
		}
	}
	for text, want := range map[string]string{
		"0,500000 1,250000": "0.500000 1.250000", "0,05 1,25 2": "0.05 1.25 2", "0,0 1,1": "", "1,500 2": "1.500 2", "1,500 2 3 4": "", "1,500 2.5": "",
		"1,2,3": "", "-1,125e-3 2": "-1.125e-3 2", "1, 2": "", ",5 1,125": "", "1,125e": "", "a 1,125": "",
	} {
		out, ok := format.CommaNumbers([]byte(text))
		if ok != (want != "") || ok && string(out) != want {
			t.Errorf("%q: %q %v, want %q", text, out, ok, want)
		}
	}
	in := []byte("v 1,5 2 3\nvt 1,5,2\n# 1,5\ng a,b\nv 1 2 3\n4,5 6\n")
	if out, n := format.DecimalCommas(in, false, "v", "vt"); n != 1 || string(out) != "v 1.5 2 3\nvt 1,5,2\n# 1,5\ng a,b\nv 1 2 3\n4,5 6\n" || !bytes.Contains(in, []byte("v 1,5")) {
		t.Errorf("%d %q", n, out)
	}
	if out, n := format.DecimalCommas(in, true); n != 1 || !bytes.Contains(out, []byte("\n4.5 6\n")) {
		t.Errorf("%d %q", n, out)
	}
}
