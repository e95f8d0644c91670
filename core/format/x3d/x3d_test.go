package x3d

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/standin/console"
)

func read(text string) (*scene.Scene, error) {
	for _, r := range Formats() {
		if r.Probe([]byte(text)[:min(len(text), 512)]) {
			return r.Read(context.Background(), format.File{Data: []byte(text)})
		}
	}
	return nil, fmt.Errorf("no reader knows %.40q", text)
}

func must(t *testing.T, text string) *scene.Scene {
	t.Helper()
	s, err := read(text)
	if err != nil {
		t.Fatalf("%v in %s", err, text)
	}
	return s
}

const vrml = "#VRML V2.0 utf8\n"

// volume is that of all nodes by the divergence theorem; it is above 0 where
// faces look outwards.
func volume(s *scene.Scene) (v float64) {
	for _, p := range flat.Pieces(s) {
		at := func(t int) geom.Vec3 { return geom.At(p.Positions, p.Triangles[t]) }
		for t := 0; t+2 < len(p.Triangles); t += 3 {
			v += at(t).Dot(at(t+1).Cross(at(t+2))) / 6
		}
	}
	return v
}

func said(s *scene.Scene, text string) bool {
	for _, n := range s.Notes {
		if strings.Contains(n.Text, text) {
			return true
		}
	}
	return false
}

func TestPrimitivesFaceOutwards(t *testing.T) {
	for _, c := range []struct {
		vrml, xml string
		volume    float64
	}{
		{"Box { size 1 2 3 }", `<Box size="1 2 3"/>`, 6},
		{"Box { }", `<Box/>`, 8},
		{"Sphere { radius 2 }", `<Sphere radius="2"/>`, 4.0 / 3 * math.Pi * 8},
		{"Cone { bottomRadius 1 height 3 }", `<Cone bottomRadius="1" height="3"/>`, math.Pi},
		{"Cylinder { radius 1 height 3 }", `<Cylinder radius="1" height="3"/>`, 3 * math.Pi},
	} {
		for _, text := range []string{vrml + "Shape { geometry " + c.vrml + " }", "<X3D><Scene><Shape>" + c.xml + "</Shape></Scene></X3D>"} {
			s := must(t, text)
			if v := volume(s); math.Abs(v/c.volume-1) > 0.03 {
				t.Errorf("%s: a volume of %g, want %g", c.vrml, v, c.volume)
			}
			if len(s.Meshes[0].Parts[0].UVs) != 1 || s.Basis != geom.GLTF {
				t.Errorf("%s: %+v", c.vrml, s.Basis)
			}
		}
	}
}

func TestTransformsAndUse(t *testing.T) {
	s := must(t, vrml+`
# a box moved, turned and squeezed, and used again
Transform { translation 1 2 3 rotation 0 0 1 1.5707963 scale 1 2 1 center 0 0 0
  children [ DEF crate Shape { appearance DEF oak Appearance { material Material { diffuseColor 1 0 0 transparency 0.5 } } geometry Box { size 2 1 1 } } ] }
Transform { translation 10 0 0 scale -1 1 1 children USE crate }
Switch { whichChoice 1 choice [ Shape { geometry Sphere {} } USE crate ] }
LOD { range [ 10 ] level [ Shape { geometry Cone {} } Shape { geometry Box {} } ] }
PointLight { on TRUE location 0 0 0 }
Shape { geometry PointSet { coord Coordinate { point [ 0 0 0 ] } } }
`)
	if st := s.Stats(); len(s.Meshes) != 3 || len(s.Nodes) != 6 || st.Points != 1 || s.Nodes[0].Name != "crate" || s.Nodes[1].Name != "crate 2" || s.Nodes[2].Mesh != 0 || len(s.Materials) != 1 || s.Materials[0].Name != "oak" || s.Materials[0].Alpha != scene.Blend {
		t.Fatalf("%+v %+v", s.Nodes, s.Materials)
	}
	one := &scene.Scene{Meshes: s.Meshes[:1], Nodes: s.Nodes[:1], Materials: s.Materials}
	b := one.Bounds() // the 2 of the box lies along Y after the turn, the 1 that is doubled along X
	for k, want := range [][2]float64{{0, 2}, {1, 3}, {2.5, 3.5}} {
		if math.Abs(b.Min[k]-want[0]) > 1e-6 || math.Abs(b.Max[k]-want[1]) > 1e-6 {
			t.Errorf("%v", b)
		}
	}
	if v := volume(&scene.Scene{Meshes: s.Meshes, Nodes: s.Nodes[1:2]}); math.Abs(v-2) > 1e-6 {
		t.Errorf("what is mirrored has a volume of %g", v)
	}
	for _, want := range []string{"a light's attenuation", "another choice of a Switch was left out", "another level of detail was left out"} {
		if !said(s, want) {
			t.Errorf("%q is not among %+v", want, s.Notes)
		}
	}
	// A centre, a scale orientation: the corner of a box by hand.
	s = must(t, vrml+`Transform { center 1 0 0 scale 2 1 1 scaleOrientation 0 0 1 0.78539816 children Shape { geometry IndexedFaceSet { coord Coordinate { point [ 2 0 0, 1 1 0, 1 0 1 ] } coordIndex [ 0 1 2 -1 ] } } }`)
	// (2,0,0)-C = (1,0,0): halves along the two diagonals, the first doubled.
	if p := corners(s)[0]; math.Abs(p[0]-2.5) > 1e-5 || math.Abs(p[1]-0.5) > 1e-5 {
		t.Errorf("%v", p)
	}
}

func TestFaceSets(t *testing.T) {
	square := `coord Coordinate { point [ 0 0 0, 1 0 0, 1 1 0, 0 1 0 ] } `
	s := must(t, vrml+`Shape { geometry IndexedFaceSet { `+square+`
  coordIndex [ 0, 1, 2, -1, 0, 2, 3 ]
  texCoord TextureCoordinate { point [ 0 0, 1 1 ] } texCoordIndex [ 0 1 1 -1 0 1 0 -1 ]
  color Color { color [ 1 0 0, 0 1 0 ] } colorPerVertex FALSE
  normal Normal { vector [ 0 0 2 ] } normalIndex [ 0 0 ] normalPerVertex FALSE
  solid FALSE } appearance Appearance { texture ImageTexture { url [ "planks.png" "other.png" ] repeatS FALSE } } }`)
	p := &s.Meshes[0].Parts[0]
	if len(p.Triangles) != 6 || p.Vertices() != 6 || fmt.Sprint(p.UVs[0].Data[:4]) != "[0 1 1 0]" || fmt.Sprint(p.Colours[0].Data[:4]) != "[1 0 0 1]" || fmt.Sprint(p.Normals[:3]) != "[0 0 1]" {
		t.Errorf("%d vertices, %v %v %v", p.Vertices(), p.UVs, p.Colours, p.Normals)
	}
	if s.Pictures[0].Ref != "planks.png" || s.Materials[0].Textures[0].WrapU != scene.Clamp || !s.Materials[0].TwoSided {
		t.Errorf("%+v %+v", s.Pictures, s.Materials)
	}
	// Turned round.
	s = must(t, vrml+`Shape { geometry IndexedFaceSet { `+square+` coordIndex [ 0 1 2 3 ] ccw FALSE } }`)
	if n := s.Meshes[0].Parts[0].Normals; n[2] != -1 {
		t.Errorf("normals %v", n)
	}
	// A roof of 60 degrees between its sides: creased, and smooth.
	roof := `coord Coordinate { point [ 0 0 0, 0 1 0, 1 0 0, 1 1 0, -0.5 0 0.8660254, -0.5 1 0.8660254 ] } coordIndex [ 0 2 3 1 -1 0 1 5 4 -1 ] `
	for crease, want := range map[string]int{"creaseAngle 0.5": 8, "creaseAngle 1.2": 6, "creaseAngle 3.2": 6, "": 8} {
		s = must(t, vrml+`Shape { geometry IndexedFaceSet { `+roof+crease+` } }`)
		if n := s.Meshes[0].Parts[0].Vertices(); n != want {
			t.Errorf("%q: %d vertices, want %d", crease, n, want)
		}
	}
	for xml, want := range map[string]int{
		`<IndexedTriangleSet index="0 1 2 0 2 3">`: 2, `<TriangleSet>`: 1, `<IndexedTriangleStripSet index="0 1 3 2 -1 0 1 2">`: 3, `<TriangleStripSet stripCount="4">`: 2, `<IndexedTriangleFanSet index="0 1 2 3 -1">`: 2, `<TriangleFanSet fanCount="4">`: 2, `<QuadSet>`: 2,
	} {
		name, _, _ := strings.Cut(strings.Trim(xml, "<>"), " ")
		s = must(t, `<X3D><Scene><Shape>`+xml+`<Coordinate point="0 0 0 1 0 0 1 1 0 0 1 0"/></`+name+`></Shape></Scene></X3D>`)
		if n := len(s.Meshes[0].Parts[0].Triangles) / 3; n != want {
			t.Errorf("%s: %d triangles, want %d", xml, n, want)
		}
	}
	s = must(t, `<?xml version="1.0"?><X3D><head><unit category="length" conversionFactor="0.01"/></head><Scene><Shape DEF="tide"><ElevationGrid xDimension="3" zDimension="2" height="0 1 0 0 1 0"/></Shape></Scene></X3D>`)
	if len(s.Meshes[0].Parts[0].Triangles) != 12 || s.Basis.MetresPerUnit != 0.01 || s.Meshes[0].Parts[0].Normals[1] <= 0 {
		t.Errorf("%+v", s.Meshes[0])
	}
}

func TestPrototypes(t *testing.T) {
	s := must(t, vrml+`
PROTO Post [ field SFFloat height 2 exposedField SFColor paint 1 1 1 eventIn SFBool show ] {
  Shape { appearance Appearance { material Material { diffuseColor IS paint } } geometry Cylinder { height IS height } }
}
Post { height 4 paint 0 1 0 }
Transform { translation 5 0 0 children [ Post { } ] }
`)
	if len(s.Meshes) != 2 || s.Materials[0].BaseColour[1] != 1 || s.Materials[0].BaseColour[0] != 0 {
		t.Fatalf("%+v", s.Materials)
	}
	one := &scene.Scene{Meshes: s.Meshes[:1], Nodes: s.Nodes[:1], Materials: s.Materials}
	if b := one.Bounds(); b.Size()[1] != 4 {
		t.Errorf("%v", b)
	}
}

func TestPrototypesOfXML(t *testing.T) {
	proto := `<X3D><Scene><ProtoDeclare name="Post"><ProtoInterface>
<field name="height" type="SFFloat" accessType="initializeOnly" value="2"/><field name="paint" type="SFColor" accessType="inputOutput" value="1 1 1"/><field name="top" type="SFNode" accessType="initializeOnly"><Shape DEF="knob"><Sphere radius="0.1"/></Shape></field>
</ProtoInterface><ProtoBody><Group>
<IS><connect nodeField="children" protoField="top"/></IS>
<Shape DEF="pole"><Appearance><Material><IS><connect nodeField="diffuseColor" protoField="paint"/></IS></Material></Appearance><Cylinder><IS><connect nodeField="height" protoField="height"/></IS></Cylinder></Shape>
</Group></ProtoBody></ProtoDeclare>`
	s := must(t, proto+`<ProtoInstance name="Post" DEF="first"><fieldValue name="height" value="4"/><fieldValue name="paint" value="0 1 0"/></ProtoInstance>
<Transform translation="5 0 0"><ProtoInstance name="Post"><fieldValue name="top"><Shape><Box size="1 1 1"/></Shape></fieldValue></ProtoInstance></Transform>
<Transform translation="9 0 0"><Group USE="first"/></Transform><ProtoInstance name="Pier"/></Scene></X3D>`)
	if st := s.Stats(); len(s.Meshes) != 4 || len(s.Nodes) != 8 || st.Materials != 2 || !said(s, "a use of the prototype Pier") {
		t.Fatalf("%d meshes, %+v, %v", len(s.Meshes), st, s.Notes)
	}
	green := s.Materials[s.Meshes[1].Parts[0].Material].BaseColour
	one := &scene.Scene{Meshes: s.Meshes[1:2], Nodes: []scene.Node{scene.NewNode("pole")}, Materials: s.Materials}
	one.Nodes[0].Mesh = 0
	if b := one.Bounds(); green[1] != 1 || green[0] != 0 || b.Size()[1] != 4 {
		t.Errorf("%v, %v", green, b)
	}
	// Prototypes that hold themselves end, and so do those that double.
	deep := `<X3D><Scene><ProtoDeclare name="p0"><ProtoBody><Group><Shape><Box/></Shape></Group></ProtoBody></ProtoDeclare>`
	for i := 1; i < 30; i++ {
		deep += fmt.Sprintf(`<ProtoDeclare name="p%d"><ProtoBody><Group><ProtoInstance name="p%d"/><ProtoInstance name="p%d"/></Group></ProtoBody></ProtoDeclare>`, i, i-1, i-1)
	}
	for text, want := range map[string]string{
		`<X3D><Scene><ProtoDeclare name="a"><ProtoBody><Group><ProtoInstance name="a"/></Group></ProtoBody></ProtoDeclare><ProtoInstance name="a"/></Scene></X3D>`: "deep",
		deep + `<ProtoInstance name="p29"/></Scene></X3D>`: "more than",
	} {
		if _, err := read(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.80q: %v, want %q", text, err, want)
		}
	}
}

// Lines, points and moved UVs, in both encodings.
func TestStrokesAndMovedUVs(t *testing.T) {
	for _, text := range []string{
		vrml + `Shape { geometry IndexedLineSet { coord DEF c Coordinate { point [ 0 0 0, 1 0 0, 1 1 0, 0 2 0 ] } color Color { color [ 1 0 0, 0 1 0, 0 0 1, 1 1 1 ] } coordIndex [ 0 1 2 -1 3 0 ] } } Shape { geometry PointSet { coord USE c } }
Shape { appearance Appearance { texture ImageTexture { url "reed.png" } textureTransform TextureTransform { translation 0.5 0 scale 2 4 rotation 1.5707963 } } geometry IndexedFaceSet { coord USE c texCoord TextureCoordinate { point [ 0 0, 1 0, 1 1, 0 1 ] } coordIndex [ 0 1 2 3 -1 ] } }`,
		`<X3D><Scene><Shape><IndexedLineSet coordIndex="0 1 2 -1 3 0"><Coordinate DEF="c" point="0 0 0, 1 0 0, 1 1 0, 0 2 0"/><Color color="1 0 0, 0 1 0, 0 0 1, 1 1 1"/></IndexedLineSet></Shape><Shape><PointSet><Coordinate USE="c"/></PointSet></Shape>
<Shape><Appearance><ImageTexture url='"reed.png"'/><TextureTransform translation="0.5 0" scale="2 4" rotation="1.5707963"/></Appearance><IndexedFaceSet coordIndex="0 1 2 3 -1"><Coordinate USE="c"/><TextureCoordinate point="0 0 1 0 1 1 0 1"/></IndexedFaceSet></Shape></Scene></X3D>`,
	} {
		s := must(t, text)
		if got := fmt.Sprint(s.Meshes[0].Parts[0].Lines, s.Meshes[1].Parts[0].Points, s.Meshes[0].Parts[0].Colours[0].Data[:4]); got != "[0 1 1 2 3 0] [0 1 2 3] [1 0 0 1]" {
			t.Error(got)
		}
		// (0, 0) goes to (0.5, 0), turned to (0, 0.5), stretched to (0, 2): from above, -1.
		if d := s.Meshes[2].Parts[0].UVs[0].Data; math.Abs(float64(d[0])) > 1e-6 || math.Abs(float64(d[1])+1) > 1e-6 {
			t.Errorf("%v", d[:2])
		}
	}
	if _, err := read(vrml + "Shape { geometry IndexedLineSet { coord Coordinate { point [ 0 0 0 ] } coordIndex [ 0 7 ] } }"); err == nil || !strings.Contains(err.Error(), "a line uses coordinate 7") {
		t.Error(err)
	}
}

// TestTheConsolesFrames reads a frame in both encodings, and has three read the
// one that it can.
func TestTheConsolesFrames(t *testing.T) {
	c := console.New()
	srv := httptest.NewServer(c.Handler())
	defer srv.Close()
	get := func(path string) []byte {
		res, err := http.Get(srv.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		var b bytes.Buffer
		b.ReadFrom(res.Body)
		return b.Bytes()
	}
	if res, err := http.Post(srv.URL+"/control", "application/json", strings.NewReader(`{"do":"pause"}`)); err != nil {
		t.Fatal(err)
	} else {
		res.Body.Close()
	}
	var offers []struct{ ID, Name string }
	if err := json.Unmarshal(get("/offers"), &offers); err != nil {
		t.Fatal(err)
	}
	scenes := map[string]*scene.Scene{}
	dir := t.TempDir()
	for _, o := range offers {
		if ext := filepath.Ext(o.Name); ext == ".wrl" || ext == ".x3d" {
			b := get("/offers/" + o.ID)
			scenes[ext] = must(t, string(b))
			if err := os.WriteFile(filepath.Join(dir, "frame"+ext), b, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	a, b := scenes[".wrl"], scenes[".x3d"]
	if a == nil || b == nil || a.Stats().Triangles != b.Stats().Triangles || len(a.Meshes) < 200 || len(a.Pictures) != 8 || a.Pictures[0].Ref != b.Pictures[0].Ref || fmt.Sprint(a.Bounds()) != fmt.Sprint(b.Bounds()) {
		t.Fatalf("%+v %+v", a.Stats(), b.Stats())
	}
	sameAsThree(t, filepath.Join(dir, "frame.wrl"), a)
}

// sameAsThree has three's loader read a file and tell how many triangles it
// has, and where.
func sameAsThree(t *testing.T, file string, s *scene.Scene) {
	t.Helper()
	out, err := exec.Command("node", "../../../e2e/flat.mjs", "read", file).CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	var theirs struct {
		Triangles int
		Min, Max  []float64
	}
	if err := json.Unmarshal(out, &theirs); err != nil {
		t.Fatal(err)
	}
	box := s.Bounds()
	for k := range 3 {
		if math.Abs(theirs.Min[k]-box.Min[k]) > 1e-5 || math.Abs(theirs.Max[k]-box.Max[k]) > 1e-5 {
			t.Errorf("three finds it from %v to %v, we from %v to %v", theirs.Min, theirs.Max, box.Min, box.Max)
		}
	}
	if n := len(corners(s)) / 3; theirs.Triangles != n {
		t.Errorf("three finds %d triangles, we %d", theirs.Triangles, n)
	}
}

func TestBadInput(t *testing.T) {
	laughs := vrml
	for i := range 40 {
		of := "Shape { geometry Box {} }"
		if i > 0 {
			of = fmt.Sprintf("USE l%d USE l%d", i-1, i-1)
		}
		laughs += fmt.Sprintf("DEF l%d Group { children [ %s ] }\n", i, of)
	}
	named := strings.ReplaceAll(strings.ReplaceAll(laughs, "Shape { geometry Box {} }", "DEF a Group { }"), "DEF l39", "Shape { geometry Box {} } DEF l39")
	for _, c := range []struct{ text, want string }{
		{vrml + "Shape {", "line 3: "},
		{vrml + "Shape { geometry Box { size 1 2", "line"},
		{vrml + "}", "closes nothing"},
		{vrml + "Group { children USE nobody }", "line 2: USE names nobody"},
		{vrml + "\nShape { geometry IndexedFaceSet { coord Coordinate { point [ 0 0 0 ] } coordIndex [ 0 1 2 ] } }", "line 3: a face uses coordinate 1, and there are 1"},
		{vrml + "Shape { geometry IndexedFaceSet { coord Coordinate { point [ 0 0 1e99 ] } coordIndex [ 0 0 0 ] } }", "a number of 1e+99"},
		{vrml + `WorldInfo { title "never ends`, "a text has no end"},
		{vrml + strings.Repeat("Group { children ", 500), "nest more than"},
		{vrml + "Group {}", "no shape"},
		{laughs, "more than"},
		{strings.ReplaceAll(laughs, "DEF l", "DEF g"), "USE names l0"},
		{named, "more than 262144 nodes, counting each use"},
		{vrml + "\nTransform { translation 1e39 0 0 children Shape { geometry Box {} } }", "line 3: the transform of Transform holds a number that is too large"},
		{vrml + "Transform { scale 1e38 1 1 children Transform { rotation 0 0 1 1 scale 1e39 1 1 children Shape { geometry Box {} } } }", "too large"},
		{vrml + "Shape { geometry Box {} }\n\nPointLight { location 0 -1e300 0 }", "line 4: the transform of PointLight"},
		{vrml + "Shape { geometry Box {} } Viewpoint { position 1e39 0 0 }", "the transform of Viewpoint"},
		{`<X3D><Scene><Group DEF="a"><Group USE="a"/></Group></Scene></X3D>`, "stands within what it names"},
		{`<X3D><Scene><Shape><Box></Shape></Scene></X3D>`, "line 1"},
		{`<X3D><Scene><Shape USE="x"/></Scene></X3D>`, "USE names x"},
		{`<!DOCTYPE X3D [<!ENTITY a "aaaa">]><X3D><Scene><Shape DEF="&a;"><Box/></Shape></Scene></X3D>`, ""},
	} {
		_, err := read(c.text)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%.60q: %v, want %q", c.text, err, c.want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(vrml + "DEF a Transform { translation 1 2 3 children [ Shape { geometry IndexedFaceSet { coord Coordinate { point [ 0 0 0, 1 0 0, 1 1 0 ] } coordIndex [ 0 1 2 -1 ] creaseAngle 1 } } USE b ] }")
	f.Add(vrml + "PROTO P [ field SFFloat h 2 ] { Shape { geometry Cone { height IS h } } } P { h 3 } P { }")
	f.Add(`<X3D><Scene><ProtoDeclare name="P"><ProtoInterface><field name="h" value="2"/></ProtoInterface><ProtoBody><Shape><Cone><IS><connect nodeField="height" protoField="h"/></IS></Cone></Shape></ProtoBody></ProtoDeclare><ProtoInstance name="P"><fieldValue name="h" value="3"/></ProtoInstance></Scene></X3D>`)
	f.Add(`<X3D><Scene><Transform translation="1 2 3"><Shape DEF="a"><IndexedFaceSet coordIndex="0 1 2"><Coordinate point="0 0 0 1 0 0 1 1 0"/></IndexedFaceSet></Shape></Transform><Shape USE="a"/></Scene></X3D>`)
	f.Add(vrml + "Group { children [ Viewpoint { position 1 2 3 } SpotLight { direction 1 1 0 } Switch { whichChoice 0 choice Shape { geometry Box { } } } LOD { level Shape { geometry Cone { } } } ] }")
	f.Fuzz(func(t *testing.T, text string) {
		for _, r := range Formats() {
			s, err := r.Read(context.Background(), format.File{Data: []byte(text)})
			if err != nil {
				continue
			}
			if err := s.Validate(); err != nil {
				t.Fatal(err)
			}
			if s.Stats().Vertices > 1<<12 {
				continue
			}
			// What was read is written, and read again.
			for _, w := range Writers() {
				files, _, err := w.Write(s, "fuzz")
				if err != nil {
					t.Fatal(err)
				}
				if _, err := read(string(files[0].Data)); err != nil && !strings.Contains(err.Error(), "no shape") && !strings.Contains(err.Error(), "too large") && !strings.Contains(err.Error(), "a number of") {
					t.Fatalf("%v in %s", err, files[0].Data)
				}
			}
		}
	})
}
