package usd_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/usd"
	"excavate/core/geom"
	"excavate/core/scene"
)

func read(text string) (*scene.Scene, error) {
	for _, f := range usd.Formats() {
		if f.Probe([]byte(text)) {
			return f.Read(context.Background(), format.File{Name: "pier/marsh." + f.Name, Data: []byte(text)})
		}
	}
	return nil, fmt.Errorf("not recognised")
}

func must(t *testing.T, text string) *scene.Scene {
	t.Helper()
	s, err := read(text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	return s
}

const square = `point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]
	int[] faceVertexCounts = [4]
	int[] faceVertexIndices = [0, 1, 2, 3]`

// Each operation, alone and turned back, moves the corner 1, 0, 0 of a square
// where UsdGeomXformOp says.
func TestTransforms(t *testing.T) {
	for _, c := range []struct{ ops, order, want, lost string }{
		{`double3 xformOp:translate = (1, 2, 3)`, `"xformOp:translate"`, "2 2 3", ""},
		{`float3 xformOp:scale = (2, 3, 4)`, `"xformOp:scale"`, "2 0 0", ""},
		{`float xformOp:rotateZ = 90`, `"xformOp:rotateZ"`, "0 1 0", ""},
		{`float xformOp:rotateY = 90`, `"xformOp:rotateY"`, "0 0 -1", ""},
		{`float xformOp:rotateX = 90`, `"xformOp:rotateX"`, "1 0 0", ""},
		{`quatf xformOp:orient = (0.7071068, 0, 0, 0.7071068)`, `"xformOp:orient"`, "0 1 0", ""},
		{`float3 xformOp:rotateXYZ = (90, 0, 90)`, `"xformOp:rotateXYZ"`, "0 1 0", ""},
		{`float3 xformOp:rotateZYX = (90, 0, 90)`, `"xformOp:rotateZYX"`, "0 0 1", ""},
		{`float3 xformOp:rotateYZX = (0, 90, 90)`, `"xformOp:rotateYZX"`, "0 0 -1", ""},
		{`matrix4d xformOp:transform = ((0, 1, 0, 0), (-1, 0, 0, 0), (0, 0, 1, 0), (5, 6, 7, 1))`, `"xformOp:transform"`, "5 7 7", ""},
		{`double3 xformOp:translate = (1, 2, 3)
		float xformOp:rotateZ:late = 90`, `"xformOp:translate", "xformOp:rotateZ:late"`, "1 3 3", ""},
		{`double3 xformOp:translate:pivot = (1, 0, 0)
		float xformOp:rotateZ = 90`, `"xformOp:translate:pivot", "xformOp:rotateZ", "!invert!xformOp:translate:pivot"`, "1 0 0", ""},
		{`float xformOp:rotateZ = 90`, `"!invert!xformOp:rotateZ"`, "0 -1 0", ""},
		{`double3 xformOp:translate = (1, 2, 3)`, `"!resetXformStack!", "xformOp:translate"`, "2 2 3", "a transform that forgets those above it was put below them"},
		{``, `"xformOp:translate"`, "1 0 0", "a transform without a value was left out"},
		{`float xformOp:bend = 3`, `"xformOp:bend"`, "1 0 0", "a transform bend was left out"},
		{`double3 xformOp:translate.timeSamples = {
			0: (1, 2, 3),
			10: (4, 5, 6),
		}`, `"xformOp:translate"`, "2 2 3", "a moving prim stands as it does at its first time"},
		{`double3 xformOp:translate = (9, 9, 9)
		double3 xformOp:translate.timeSamples = { 0: (1, 2, 3) }`, `"xformOp:translate"`, "10 9 9", "a moving prim stands as it does at its first time"},
		{`double3 xformOp:translate.timeSamples = { }`, `"xformOp:translate"`, "1 0 0", "a moving prim stands as it does at its first time; a transform without a value was left out"},
	} {
		s := must(t, fmt.Sprintf("#usda 1.0\ndef Mesh \"pier\" {\n%s\n%s\nuniform token[] xformOpOrder = [%s]\n}", square, c.ops, c.order))
		p := s.World()[0].Point(geom.Vec3{1, 0, 0})
		got := strings.ReplaceAll(fmt.Sprintf("%.0f %.0f %.0f", p[0]+1e-9, p[1]+1e-9, p[2]+1e-9), "-0 ", "0 ")
		var lost []string
		for _, n := range s.Notes {
			lost = append(lost, n.Text)
		}
		if got != c.want || strings.Join(lost, "; ") != c.lost {
			t.Errorf("%s: %s, lost %q; want %s, %q", c.order, got, lost, c.want, c.lost)
		}
	}
	for text, want := range map[string]string{
		`matrix4d xformOp:transform = ((0, 1), (2, 3))
		uniform token[] xformOpOrder = ["xformOp:transform"]`: "a transform of 4 numbers; there are 16",
		`float3 xformOp:scale = (0, 1, 1)
		uniform token[] xformOpOrder = ["!invert!xformOp:scale"]`: "xformOp:scale has no inverse",
	} {
		if _, err := read("#usda 1.0\ndef Xform \"pier\" {\n" + text + "\n}"); err == nil || !strings.Contains(err.Error(), want) || format.Place(err) != "line 2" {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

func TestCameras(t *testing.T) {
	s := must(t, `#usda 1.0
	def Camera "eye" ( displayName = "keeper's eye" ) {
		float focalLength = 20
		float horizontalAperture = 40
		float verticalAperture = 20
		float2 clippingRange = (0.5, 900)
		double3 xformOp:translate = (0, 2, 5)
		uniform token[] xformOpOrder = ["xformOp:translate"]
	}
	def Camera "plan" {
		token projection = "orthographic"
		float horizontalAperture = 300
		float verticalAperture = 200
	}`)
	if len(s.Cameras) != 2 || len(s.Nodes) != 2 {
		t.Fatalf("%d cameras at %d nodes", len(s.Cameras), len(s.Nodes))
	}
	eye, plan := s.Cameras[0], s.Cameras[1]
	if eye.Name != "keeper's eye" || math.Abs(float64(eye.FovY)-2*math.Atan(0.5)) > 1e-6 || eye.Aspect != 2 || eye.Near != 0.5 || eye.Far != 900 || eye.Orthographic || s.Nodes[0].Translation != [3]float32{0, 2, 5} {
		t.Errorf("%+v at %v", eye, s.Nodes[0].Translation)
	}
	if !plan.Orthographic || plan.Height != 10 || plan.Aspect != 1.5 {
		t.Errorf("%+v", plan)
	}
}

// How data lies on a mesh, by each word for it.
func TestPrimvars(t *testing.T) {
	for _, c := range []struct{ interpolation, st, indices, want string }{
		{"vertex", "(0, 0), (1, 0), (1, 1), (0, 1)", "", "[0 1 1 1 1 0 0 0]"},
		{"varying", "(0, 0), (1, 0), (1, 1), (0, 1)", "", "[0 1 1 1 1 0 0 0]"},
		{"faceVarying", "(0, 0), (1, 0), (1, 1), (0, 1)", "", "[0 1 1 1 1 0 0 0]"},
		{"faceVarying", "(0, 0), (1, 1)", "0, 1, 1, 0", "[0 1 1 0 1 0 0 1]"},
		{"uniform", "(0.25, 0.75)", "", "[0.25 0.25 0.25 0.25 0.25 0.25 0.25 0.25]"},
		{"constant", "(0.25, 0.75)", "", "[0.25 0.25 0.25 0.25 0.25 0.25 0.25 0.25]"},
	} {
		indices := ""
		if c.indices != "" {
			indices = "int[] primvars:st:indices = [" + c.indices + "]"
		}
		s := must(t, fmt.Sprintf("#usda 1.0\ndef Mesh \"pier\" {\n%s\ntexCoord2f[] primvars:st = [%s] ( interpolation = \"%s\" )\n%s\n}", square, c.st, c.interpolation, indices))
		p := s.Meshes[0].Parts[0]
		if len(p.UVs) != 1 || p.UVs[0].Name != "st" || fmt.Sprint(p.UVs[0].Data) != c.want {
			t.Errorf("%s: %+v, want %s", c.interpolation, p.UVs, c.want)
		}
	}
	// Points, and a mesh that says too little.
	s := must(t, "#usda 1.0\ndef Points \"sparks\" {\npoint3f[] points = [(0, 0, 0), (1, 2, 3)]\n}\ndef Mesh \"nothing\" {\n}")
	if st := s.Stats(); st.Points != 2 || len(s.Notes) != 1 || s.Notes[0].Text != "a mesh without points was left out" {
		t.Errorf("%d points, notes %v", st.Points, s.Notes)
	}
}

// What is passed over is said, and the rest is read.
func TestWhatIsLeftOut(t *testing.T) {
	for text, want := range map[string]string{
		`def "pier" ( references = @other.usda@</x> ) {` + "\n}":                                         "references of other prims were left out",
		`def "pier" ( prepend payload = @other.usda@ ) {` + "\n}":                                        "payload of other prims were left out",
		`def "pier" { variantSet "wear" = { "new" { def Sphere "s" { } } } }`:                            "variant sets were left out",
		`def Sphere "buoy" { double radius = 2 }`:                                                        "prims of the kind Sphere were left out",
		`def SkelRoot "keeper" { }`:                                                                      "a skeleton was left out; its meshes stand as they lie in the file",
		`def Xform "pier" { token visibility = "invisible" }`:                                            "a hidden prim is shown",
		"def Mesh \"pier\" {\n" + square + "\nuniform token subdivisionScheme = \"catmullClark\"\n}":     "a surface to be subdivided is shown as the mesh that controls it",
		"def Mesh \"pier\" {\n" + square + "\nrel material:binding = </gone>\n}":                         "the material /gone is not in the file",
		"def Mesh \"pier\" {\n" + square + "\nrel material:binding = </m>\n}\ndef Material \"m\" {\n}\n": "a material without a preview surface is plain",
	} {
		s := must(t, "#usda 1.0\n"+text)
		if len(s.Notes) != 1 || s.Notes[0].Text != want || !s.Notes[0].Loss {
			t.Errorf("%s: notes %v, want %q", text, s.Notes, want)
		}
	}
	for _, rel := range []string{"material:binding:preview = </m>", "material:binding:full = </m>\nrel material:binding:preview = </n>", "material:binding = </m>\nrel material:binding:full = </n>"} {
		s := must(t, "#usda 1.0\ndef Mesh \"pier\" {\n"+square+"\nrel "+rel+"\n}\ndef Material \"m\" {\n}\ndef Material \"n\" {\n}\n")
		if p := s.Meshes[0].Parts[0].Material; p < 0 || s.Materials[p].Name != "m" {
			t.Errorf("%s: material %d of %+v", rel, p, s.Materials)
		}
	}
	s := must(t, "#usda 1.0\n(\n\"a comment\"\nsubLayers = [@below.usda@]\nupAxis = \"Z\"\nmetersPerUnit = 0.0254\n)\n")
	if s.Basis.Up != geom.PlusZ || s.Basis.MetresPerUnit != 0.0254 || len(s.Notes) != 1 || s.Notes[0].Text != "layers below this one were left out" {
		t.Errorf("%+v, notes %v", s.Basis, s.Notes)
	}
}

// The ways to write a text that other programs have.
func TestSyntax(t *testing.T) {
	s := must(t, `#usda 1.0
	( doc = """a text
	of two lines, "quoted" """ )
	/* a remark
	of two lines */
	reorder rootPrims = ["pier", "hut"]
	over "hut" { }
	class Xform "kind" { }
	def Xform "pier" (
		kind = "component"
		customData = { string maker = "Lantern { Company"; dictionary more = { int n = 3 } }
		add apiSchemas = ["MaterialBindingAPI"]
	) {
		reorder nameChildren = ["b", "a"]
		custom uniform string userProperties:note = 'it\'s old' # a remark
		custom bool lit = true
		float3[] extent = [(-1, -1, -1), (1, 1, 1)]
		asset picture = @@@odd@name.png@@@
		rel things
		double unset
		def Mesh "a" { `+square+` }
		def Xform "b" { }
	}`)
	var names []string
	for _, n := range s.Nodes {
		names = append(names, n.Name)
	}
	if strings.Join(names, " ") != "pier a b" || s.Stats().Triangles != 2 || len(s.Notes) != 2 || s.Notes[0].Text != "a prim that is only written over was left out" || s.Notes[1].Text != "a class of prims was left out" {
		t.Errorf("nodes %v, %d triangles, notes %v", names, s.Stats().Triangles, s.Notes)
	}
}

func TestBadInput(t *testing.T) {
	for text, want := range map[string]string{
		"#usda 1.0\ndef Mesh pier { }":                                                         "line 2: a prim without a name",
		"#usda 1.0\ndef Mesh \"pier\" { int }":                                                 "line 2: the property of type int has no name",
		"#usda 1.0\ndef Mesh \"pier\" { int[ x = 3 }":                                          `line 2: "x = 3 }" stands where ']' is due`,
		"#usda 1.0\ndef Mesh \"pier\" { int x = }":                                             `line 2: "}" is no value`,
		"#usda 1.0\ndef Mesh \"pier\" { string x = \"open }":                                   "line 2: a text that does not end",
		"#usda 1.0\ndef Mesh \"pier\" { asset x = @open }":                                     "line 2: a path or asset that does not end",
		"#usda 1.0\ndef Mesh \"pier\" { int[] x = [1, 2":                                       "line 2: a list that does not end: the file is cut off",
		"#usda 1.0\ndef Mesh \"pier\" {\n\nint[] x.timeSamples = { 0: [1, 2":                   "line 4: a list that does not end: the file is cut off",
		"#usda 1.0\ndef Mesh \"pier\" {\n\nint[] x.timeSamples = { 0: [1, 2], 1: [":            "line 4: a { that does not end: the file is cut off",
		"#usda 1.0\ndef Mesh \"pier\" { int x.timeSamples = { 0 1 } }":                         `line 2: "1 } }" stands where ':' is due`,
		"#usda 1.0\n( upAxis":                                                                  `line 2: "" stands where = is due`,
		"#usda 1.0\n( upAxis = \"Z\"":                                                          "line 2: a ( that does not end: the file is cut off",
		"#usda 1.0\ndef Mesh \"pier\" { int x = " + strings.Repeat("[", 300) + "1":             "line 2: values lie in each other more than 128 deep",
		"#usda 1.0\n" + strings.Repeat("custom uniform ", 1<<20):                               "line 2: \"\" stands where a prim or a property is due",
		"#usda 1.0\ndef Mesh \"pier\" {\npoint3f[] points = [(0, 0), (1, 1)]\n}":               "line 2: /pier: points of 2 numbers; there are three",
		"#usda 1.0\nreorder rootPrims [\"pier\"]":                                              `line 2: "[\"pier\"]" stands where '=' is due`,
		"#usda 1.0\ndef Mesh \"pier\" {\n" + strings.Replace(square, "[4]", "[-4]", 1) + "\n}": "line 2: /pier: face 0 has -4 corners, and 4 are left",
	} {
		if _, err := read(text); err == nil || !strings.HasSuffix(err.Error(), want) {
			t.Errorf("%.60q: %v, want %q", text, err, want)
		}
	}
}

func TestPackages(t *testing.T) {
	pack := func(files ...string) string {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for i := 0; i+1 < len(files); i += 2 {
			w, err := z.CreateHeader(&zip.FileHeader{Name: files[i], Method: zip.Store})
			if err == nil {
				_, err = w.Write([]byte(files[i+1]))
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	mesh := "#usda 1.0\ndef Mesh \"pier\" {\n" + square + "\nrel material:binding = </m>\n}\ndef Material \"m\" {\ntoken outputs:surface.connect = </m/s.outputs:surface>\ndef Shader \"s\" {\nuniform token info:id = \"UsdPreviewSurface\"\ncolor3f inputs:diffuseColor.connect = </m/t.outputs:rgb>\n}\ndef Shader \"t\" {\nuniform token info:id = \"UsdUVTexture\"\nasset inputs:file = @gone.png@\n}\n}"
	s := must(t, pack("in/model.usda", mesh, "in/other.png", "?"))
	if len(s.Pictures) != 1 || !s.Pictures[0].Missing() || !strings.Contains(strings.Join(s.Pictures[0].Looked, ""), `"in/gone.png" is not in the package`) {
		t.Errorf("%+v", s.Pictures)
	}
	whole := pack("model.usda", mesh)
	for text, want := range map[string]string{
		pack("model.usdc", "PXR-USDC"): "model.usdc: the package holds USD in its binary form",
		whole[:len(whole)-30]:          "the package is no whole ZIP",
	} {
		_, err := usd.Formats()[1].Read(context.Background(), format.File{Name: "x.usdz", Data: []byte(text)})
		if usd.Formats()[1].Name != "usdz" {
			_, err = usd.Formats()[0].Read(context.Background(), format.File{Name: "x.usdz", Data: []byte(text)})
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// A camera looks along -Z with Y up, whatever the stage's axes are.
func TestCamerasOfStages(t *testing.T) {
	const camera = `def Camera "eye" { float3 xformOp:rotateXYZ = (%g, 0, 0)
		uniform token[] xformOpOrder = ["xformOp:rotateXYZ"] }`
	for _, c := range []struct {
		axis  string
		turn  float64
		along geom.Vec3 // in the stage's axes
	}{{"Y", 0, geom.Vec3{0, 0, -1}}, {"Y", 90, geom.Vec3{0, 1, 0}}, {"Z", 0, geom.Vec3{0, 0, -1}}, {"Z", 90, geom.Vec3{0, 1, 0}}} {
		s := must(t, fmt.Sprintf("#usda 1.0\n(\n upAxis = \"%s\"\n)\n"+camera, c.axis, c.turn))
		looks := func(s *scene.Scene) geom.Vec3 {
			for i := range s.Nodes {
				if s.Nodes[i].Camera >= 0 {
					return s.World()[i].Dir(s.Basis.Front.Vec().Mul(-1))
				}
			}
			t.Fatalf("no camera: %+v", s.Nodes)
			return geom.Vec3{}
		}
		if d := looks(s); d.Sub(c.along).Len() > 1e-6 {
			t.Errorf("%s up, turned by %g: it looks along %v, want %v", c.axis, c.turn, d, c.along)
		}
		s.Cameras = append(s.Cameras, scene.Camera{Name: "plan", Orthographic: true, Height: 12, Aspect: 1.25, Near: 0.5, Far: 80})
		plan := scene.NewNode("mast")
		plan.Camera = 1
		s.Nodes = append(s.Nodes, plan)
		files, notes, err := usd.Write(s, "eyes")
		if err != nil || len(notes) > 0 {
			t.Fatal(notes, err)
		}
		got := must(t, string(files[0].Data))
		if d := looks(got); d.Sub(c.along).Len() > 1e-6 {
			t.Errorf("%s up, turned by %g: written, it looks along %v, want %v", c.axis, c.turn, d, c.along)
		}
		if len(got.Cameras) != 2 || math.Abs(float64(got.Cameras[0].FovY-s.Cameras[0].FovY)) > 1e-5 || got.Cameras[1] != s.Cameras[1] {
			t.Errorf("%+v, want %+v", got.Cameras, s.Cameras)
		}
	}
}

func TestStrokes(t *testing.T) {
	s := must(t, `#usda 1.0
	def BasisCurves "rope" {
		uniform token type = "linear"
		uniform token wrap = "periodic"
		int[] curveVertexCounts = [3, 2]
		point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (5, 0, 0), (6, 0, 0)]
		color3f[] primvars:displayColor = [(1, 0, 0), (0, 1, 0), (0, 0, 1), (1, 1, 0), (1, 1, 1)] (interpolation = "vertex")
	}
	def BasisCurves "bent" {
		int[] curveVertexCounts = [4]
		point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (5, 0, 0)]
	}
	def Points "rain" {
		point3f[] points = [(0, 0, 0), (1, 0, 0)]
		color3f[] primvars:displayColor = [(0, 0, 1)]
		float[] primvars:displayOpacity = [0.5]
	}`)
	rope, rain := &s.Meshes[0].Parts[0], &s.Meshes[1].Parts[0]
	if got := fmt.Sprint(rope.Lines, rope.Colours[0].Data[4:8], rain.Points, rain.Colours[0].Data); got != "[0 1 1 2 2 0 3 4] [0 1 0 1] [0 1] [0 0 1 0.5 0 0 1 0.5]" {
		t.Error(got)
	}
	if len(s.Meshes) != 2 || len(s.Notes) != 1 || s.Notes[0].Text != "curves that are not straight were left out" {
		t.Errorf("%d meshes, %v", len(s.Meshes), s.Notes)
	}
	if _, err := read("#usda 1.0\ndef BasisCurves \"a\" { uniform token type = \"linear\"\nint[] curveVertexCounts = [2, 9]\npoint3f[] points = [(0, 0, 0), (1, 0, 0)] }"); err == nil || !strings.Contains(err.Error(), "curve 1 has 9 points, and 0 are left") {
		t.Error(err)
	}
}

// Prims beside each other have names of their own, that of the materials too.
func TestNamesOfPrims(t *testing.T) {
	s := must(t, "#usda 1.0\ndef Mesh \"pier\" { "+square+" }")
	s.Materials = []scene.Material{scene.NewMaterial("oak"), scene.NewMaterial("oak"), scene.NewMaterial("2nd oak")}
	s.Nodes = nil
	for i, name := range []string{"Materials", "reed", "reed", "", "3", "reed bed"} {
		n := scene.NewNode(name)
		n.Mesh, n.Parent = 0, scene.None
		if i == 5 {
			n.Parent = 4
		}
		s.Nodes = append(s.Nodes, n)
	}
	s.Meshes[0].Parts[0].Material = 1
	files, _, err := usd.Write(s, "pier")
	if err != nil {
		t.Fatal(err)
	}
	text := string(files[0].Data)
	for _, want := range []string{`def Scope "Materials"`, `def Xform "Materials_2"`, `def Xform "reed"`, `def Xform "reed_2"`, `def Xform "node"`, `def Xform "_3"`, `def Xform "reed_bed"`, `def Material "oak_2"`, `def Material "_2nd_oak"`, "rel material:binding = </Root/Materials/oak_2>"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %s", want)
		}
	}
	got := must(t, text)
	if m := got.Meshes[0].Parts[0].Material; m < 0 || got.Materials[m].Name != "oak" || len(got.Meshes) != 6 {
		t.Errorf("%d meshes, material %d of %+v", len(got.Meshes), m, got.Materials)
	}
}
