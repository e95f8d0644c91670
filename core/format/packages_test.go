package format_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"math/rand"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/threemf"
	"excavate/core/format/usd"
	"excavate/core/geom"
	"excavate/core/scene"
)

const core3MF = `<model unit="inch" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02" xmlns:m="http://schemas.microsoft.com/3dmanufacturing/material/2015/02"><metadata name="Designer">Wren &amp; Sallow</metadata><resources>
<basematerials id="1"><base name="oak" displaycolor="#8040FF"/><base name="glass" displaycolor="#FFFFFF80"/></basematerials>
<m:colorgroup id="2"><m:color color="#FF0000"/><m:color color="#00FF00"/><m:color color="#0000FF"/></m:colorgroup>
<object id="3" name="plank" pid="1" pindex="0"><mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="2" y="0" z="0"/><vertex x="0" y="2" z="0"/><vertex x="0" y="0" z="1e0"/></vertices>
<triangles><triangle v1="0" v2="1" v3="2"/><triangle v1="0" v2="2" v3="3" pid="1" p1="1"/><triangle v1="0" v2="3" v3="1" pid="2" p1="0" p2="1" p3="2"/></triangles></mesh></object>
<object id="4" name="pair"><components><component objectid="3"/><component objectid="3" transform="0 1 0 -1 0 0 0 0 1 10 0 0"/></components></object></resources>
<build><item objectid="4" transform="2 0 0 0 2 0 0 0 2 0 0 0"/></build></model>`

func model(t testing.TB, text string) (*scene.Scene, error) {
	t.Helper()
	return threemf.Formats()[1].Read(context.Background(), format.File{Name: "3D/3dmodel.model", Data: []byte(text)})
}

func TestComponentsAndPropertiesOf3MF(t *testing.T) {
	if r := threemf.Formats()[1]; !r.Probe([]byte(core3MF)[:500]) {
		t.Error("the model part is not recognised by itself")
	}
	s, err := model(t, core3MF)
	if err != nil {
		t.Fatal(err)
	}
	st := s.Stats()
	if len(s.Nodes) != 3 || st.Meshes != 1 || st.Parts != 3 || s.Basis.MetresPerUnit != 0.0254 || s.Terms.Owner != "Wren & Sallow" || len(s.Notes) > 0 {
		t.Fatalf("%d nodes, %+v, %v, %v", len(s.Nodes), st, s.Terms, s.Notes)
	}
	// The second plank is turned a quarter about z, moved, and doubled with the first.
	if st.Min != [3]float64{0, 0, 0} || st.Max != [3]float64{20, 4, 2} {
		t.Errorf("bounds %v %v", st.Min, st.Max)
	}
	p := s.Meshes[0].Parts
	if m := s.Materials[p[1].Material]; m.Name != "glass" || m.Alpha != scene.Blend || p[2].Material != scene.None || fmt.Sprint(p[2].Colours[0].Data[4:8]) != "[0 1 0 1]" {
		t.Errorf("%+v %+v", m, p[2])
	}
	for text, want := range map[string]string{
		strings.Replace(core3MF, `v3="2"`, `v3="9"`, 1):                                       "vertex 9 of 4",
		strings.Replace(core3MF, `v3="2"`, ``, 1):                                             "without three vertices",
		strings.Replace(core3MF, `v1="0" v2="1" v3="2"`, `p1="0"`, 1):                         "without three vertices",
		strings.Replace(core3MF, `v2="1" v3="2"`, `v1="1" v1="2"`, 1):                         "without three vertices",
		strings.Replace(core3MF, `v3="2"`, `v3="-2"`, 1):                                      "no whole number",
		strings.Replace(core3MF, `p3="2"`, `p3="7"`, 1):                                       "property 7 of 3",
		strings.Replace(core3MF, `z="1e0"`, `z="1e60"`, 1):                                    "no finite number",
		strings.Replace(core3MF, `unit="inch"`, `unit="ell"`, 1):                              `"ell" is none of`,
		strings.Replace(core3MF, `#8040FF`, `purple`, 1):                                      "#RRGGBB",
		strings.Replace(core3MF, `<component objectid="3"/>`, `<component objectid="4"/>`, 1): "component of itself",
		strings.Replace(core3MF, `<item objectid="4"`, `<item objectid="77"`, 1):              "object 77 is not there",
		strings.Replace(core3MF, `0 1 0 -1 0 0 0 0 1 10 0 0`, `0 1 0`, 1):                     "3 numbers; there are 12",
		core3MF[:700]: "cut off",
	} {
		if _, err := model(t, text); err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(format.Place(err), "line") {
			t.Errorf("%v at %q, want %q", err, format.Place(err), want)
		}
	}
	if _, err := threemf.Formats()[0].Read(context.Background(), format.File{Data: []byte("PK\x03\x04nothing")}); err == nil || !strings.Contains(err.Error(), "no whole ZIP") {
		t.Errorf("a broken package: %v", err)
	}
}

// What programs for printers write: objects in parts of their own, named by
// components and by what is built.
func TestPartsOf3MF(t *testing.T) {
	const head = `<model unit="millimeter" requiredextensions="p" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02" xmlns:p="http://schemas.microsoft.com/3dmanufacturing/production/2015/06"><resources>`
	mesh := func(id, colour, rest string) string {
		return head + `<basematerials id="9"><base name="` + colour + `" displaycolor="#FF0000"/></basematerials><object id="` + id + `" name="` + colour + ` wedge" pid="9" pindex="0"><mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="2" y="0" z="0"/><vertex x="0" y="2" z="0"/></vertices><triangles><triangle v1="0" v2="1" v3="2"/></triangles></mesh></object></resources>` + rest + `</model>`
	}
	files := map[string]string{
		"3D/Objects/red.model":   mesh("1", "red", `<build><item objectid="1"/></build>`),
		"3D/Objects/green.model": mesh("1", "green", ""),
		"3D/Objects/inch.model":  strings.Replace(mesh("1", "grey", ""), "millimeter", "inch", 1),
		"3D/Objects/ring.model":  head + `<object id="1"><components><component objectid="5" p:path="/3D/3dmodel.model"/></components></object></resources></model>`,
		"3D/Objects/bad.model":   mesh("1", "bad", "")[:400],
	}
	pack := func(components, items string) (*scene.Scene, error) {
		files["3D/3dmodel.model"] = head + `<object id="5" name="pair"><components>` + components + `</components></object></resources><build>` + items + `</build></model>`
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for name, text := range files {
			w, err := z.Create(name)
			if err == nil {
				_, err = io.WriteString(w, text)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return threemf.Formats()[0].Read(context.Background(), format.File{Name: "plate.3mf", Data: b.Bytes()})
	}
	red, green := `<component p:path="/3D/Objects/red.model" objectid="1"/>`, `<component p:path="/3D/Objects/green.model" objectid="1" transform="1 0 0 0 1 0 0 0 1 10 0 0"/>`
	s, err := pack(red+green+red, `<item objectid="5"/><item objectid="1" p:path="/3D/Objects/green.model"/>`)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, n := range s.Nodes {
		names = append(names, n.Name)
	}
	if got := strings.Join(names, ", "); got != "pair, red wedge, green wedge, red wedge, green wedge" || len(s.Meshes) != 2 || len(s.Materials) != 2 || len(s.Notes) != 0 || s.Stats().Max[0] != 12 {
		t.Errorf("nodes %s, %d meshes, %d materials, notes %v, bounds %v", got, len(s.Meshes), len(s.Materials), s.Notes, s.Stats().Max)
	}
	if s, err = pack(`<component p:path="/3D/Objects/inch.model" objectid="1"/>`, `<item objectid="5"/>`); err != nil || len(s.Notes) != 1 || !strings.Contains(s.Notes[0].Text, "another unit") {
		t.Errorf("notes %v, %v", s, err)
	}
	for components, want := range map[string]string{
		`<component p:path="/3D/Objects/gone.model" objectid="1"/>`: "the part /3D/Objects/gone.model",
		`<component p:path="/3D/Objects/red.model" objectid="3"/>`:  "object 3 is not there",
		`<component p:path="/3D/Objects/ring.model" objectid="1"/>`: "object 5 is a component of itself",
		`<component p:path="/3D/Objects/bad.model" objectid="1"/>`:  "/3D/Objects/bad.model: ",
	} {
		if _, err := pack(components, `<item objectid="5"/>`); err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(format.Place(err), "line") {
			t.Errorf("%s: %v, want %q", components, err, want)
		}
	}
}

// TestPackagesAreZIPs opens what we pack with the standard library and looks at
// what the formats ask of it.
func TestPackagesAreZIPs(t *testing.T) {
	s := random(t, rand.New(rand.NewSource(5)), true, true, false)
	s.Basis = geom.GLTF
	for _, w := range (format.Writers{threemf.Writer(), usd.Writers()[0]}) {
		files, _, err := w.Write(s, "ferry")
		if err != nil {
			t.Fatal(err)
		}
		z, err := zip.NewReader(bytes.NewReader(files[0].Data), int64(len(files[0].Data)))
		if err != nil {
			t.Fatal(err)
		}
		names := ""
		for _, f := range z.File {
			names += f.Name + " "
			r, err := f.Open()
			if err != nil {
				t.Fatal(err)
			}
			if _, err := io.ReadAll(r); err != nil { // with its checksum
				t.Errorf("%s: %v", f.Name, err)
			}
			if at, err := f.DataOffset(); w.Name == "usdz" && (err != nil || at%64 != 0 || f.Method != zip.Store) {
				t.Errorf("%s begins at %d, method %d", f.Name, at, f.Method)
			}
		}
		want := map[string]string{"usdz": "ferry.usda planks.png ", "3mf": "3D/3dmodel.model [Content_Types].xml _rels/.rels 3D/_rels/3dmodel.model.rels 3D/Textures/planks.png "}[w.Name]
		if names != want {
			t.Errorf("%s holds %s, want %s", w.Name, names, want)
		}
	}
}

const usdText = `#usda 1.0
(
    doc = """A "marsh"
    of two quads"""
    upAxis = "Z"
    metersPerUnit = 0.01
)
def Xform "Marsh" (kind = "component")
{
    double3 xformOp:translate = (1, 2, 3)
    float3 xformOp:rotateXYZ = (0, 0, 90)
    float3 xformOp:scale = (2, 2, 2)
    uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ", "xformOp:scale"]
    custom string note = "reeds"
    float x.timeSamples = { 0: 1, 10: 2, }
    def Mesh "Water" ( prepend apiSchemas = ["MaterialBindingAPI"] )
    {
        uniform token orientation = "leftHanded"
        int[] faceVertexCounts = [4, 4]
        int[] faceVertexIndices = [0, 1, 2, 3, 1, 4, 5, 2]
        point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (2, 1, 0)]
        texCoord2f[] primvars:wash = [(0, 0), (1, 0.25)] ( interpolation = "faceVarying" )
        int[] primvars:wash:indices = [0, 1, 0, 1, 0, 0, 0, 0]
        color3f[] primvars:displayColor = [(1, 0, 0), (0, 0.5, 0)] (interpolation = "uniform")
        rel material:binding = </Marsh/Silt>
        def GeomSubset "deep" { int[] indices = [1] rel material:binding = </Marsh/Peat> }
    }
    def Material "Silt" { token outputs:surface.connect = </Marsh/Silt/s.outputs:surface>
        def Shader "s" { uniform token info:id = "UsdPreviewSurface" color3f inputs:diffuseColor = (0.25, 0.5, 1) float inputs:opacity = 0.5 float inputs:roughness = 0.75 float inputs:ior = 1.33 } }
    def Material "Peat" { }
}
`

func TestPlainMeshesOfUSD(t *testing.T) {
	read := func(text string) (*scene.Scene, error) {
		return usd.Formats()[0].Read(context.Background(), format.File{Name: "marsh.usda", Data: []byte(text)})
	}
	s, err := read(usdText)
	if err != nil {
		t.Fatal(err)
	}
	st := s.Stats()
	if st.Triangles != 4 || st.Parts != 2 || s.Basis.Up != geom.PlusZ || s.Basis.MetresPerUnit != 0.01 || math.Abs(st.Area-8) > 1e-5 {
		t.Errorf("%+v %v", st, s.Basis)
	}
	if d := math.Abs(st.Min[0]+1) + math.Abs(st.Min[1]-2) + math.Abs(st.Max[1]-6) + math.Abs(st.Max[2]-3); d > 1e-5 {
		t.Errorf("bounds %v %v", st.Min, st.Max)
	}
	p := s.Meshes[0].Parts[0]
	if m := s.Materials[p.Material]; m.Name != "Silt" || m.Alpha != scene.Blend || m.BaseColour != [4]float32{0.25, 0.5, 1, 0.5} || m.Roughness != 0.75 || *m.Layers.IOR != 1.33 {
		t.Errorf("%+v", m)
	}
	if s.Materials[s.Meshes[0].Parts[1].Material].Name != "Peat" || p.UVs[0].Name != "wash" || len(p.UVs[0].Data) != 2*p.Vertices() || p.Colours[0].Data[1] != 0 || s.Meshes[0].Parts[1].Colours[0].Data[1] != 0.5 {
		t.Errorf("%+v", p)
	}
	// Left-handed faces are turned so that they look up.
	a, b, c := p.Triangles[0], p.Triangles[1], p.Triangles[2]
	at := func(v uint32) geom.Vec3 { return geom.Vec3{float64(p.Positions[3*v]), float64(p.Positions[3*v+1]), 0} }
	if at(b).Sub(at(a)).Cross(at(c).Sub(at(a)))[2] > 0 {
		t.Error("a left-handed face was not turned")
	}
	for text, want := range map[string]string{
		strings.Replace(usdText, "5, 2]", "6, 2]", 1):                  "corner 6 is point 6, and there are 6",
		strings.Replace(usdText, "[4, 4]", "[4, 5]", 1):                "face 1 has 5 corners",
		strings.Replace(usdText, "(2, 1, 0)", "(2, nan, 0)", 1):        "not finite",
		strings.Replace(usdText, "(2, 1, 0)", "(2, 1e99, 0)", 1):       "no finite number",
		usdText[:len(usdText)-3]:                                       "cut off",
		usdText[:90]:                                                   "where = is due",
		"#usda 1.0\n" + strings.Repeat(`def "a" {`, 400):               "more than 128 deep",
		"#usda 1.0\ndef X \"a\" { int x = " + strings.Repeat("[", 400): "deep",
	} {
		if _, err := read(text); err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(format.Place(err), "line") {
			t.Errorf("%v at %q, want %q", err, format.Place(err), want)
		}
	}
}

// FuzzPackages gives any bytes to the readers of 3MF and USD.
func FuzzPackages(f *testing.F) {
	f.Add([]byte(core3MF))
	f.Add([]byte(usdText))
	readers := append(threemf.Formats(), usd.Formats()...)
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, r := range readers {
			r.Probe(b)
			s, err := r.Read(context.Background(), format.File{Name: "x", Data: b})
			if err == nil {
				if err := s.Validate(); err != nil {
					t.Fatalf("%s: %v", r.Name, err)
				}
			}
		}
	})
}

func BenchmarkPackages(b *testing.B) {
	s := surface(400)
	s.Basis = geom.GLTF
	for i, w := range (format.Writers{threemf.Writer(), usd.Writers()[1]}) {
		list, _, err := w.Write(s, "grid")
		if err != nil {
			b.Fatal(err)
		}
		r := []format.Reader{threemf.Formats()[0], usd.Formats()[0]}[i]
		b.Run(w.Name, func(b *testing.B) {
			b.SetBytes(int64(len(list[0].Data)))
			for b.Loop() {
				if _, err := r.Read(context.Background(), format.File{Name: list[0].Name, Data: list[0].Data}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
