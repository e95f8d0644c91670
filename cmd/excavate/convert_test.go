package main

import (
	"archive/zip"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

const board = "mtllib %s.mtl\nv 0 0 0\nv 1 0 0\nv 0 2 0\nvt 0 0\nvt 1 0\nvt 0 1\nusemtl wood\nf 1/1 2/2 3/3\n"

// boards are two models in folders of their own, each with a picture of the
// same name and other texels.
func boards(t *testing.T, dir string) {
	put(t, dir, map[string]string{
		"a/punt.obj": fmt.Sprintf(board, "punt"), "a/punt.mtl": "newmtl wood\nmap_Kd wood.png\n", "a/wood.png": shade(200, 100, 50),
		"b/raft.obj": fmt.Sprintf(board, "raft"), "b/raft.mtl": "newmtl wood\nmap_Kd wood.png\n", "b/wood.png": shade(10, 20, 200),
	})
}

// picture is what a written OBJ shows: the first texel of the picture that its
// library names.
func pictureOf(t *testing.T, dir, name string) string {
	t.Helper()
	out, said, status := run(t, dir, "", "convert", name, "-o", "-", "--to", "glb")
	if status != 0 || strings.Contains(said, "missing") {
		t.Fatalf("%s: %d %s", name, status, said)
	}
	return out
}

// Outputs never write over each other, over what is there, or over what is
// read.
func TestOutputsKeepApart(t *testing.T) {
	dir := t.TempDir()
	boards(t, dir)
	want := map[string]string{"punt": pictureOf(t, dir, "a/punt.obj"), "raft": pictureOf(t, dir, "b/raft.obj")}
	put(t, dir, map[string]string{"out/wood.png": "somebody else's", "out/raft.mtl": "not ours"})
	for _, c := range [][2]string{{"a/punt.obj", "out/punt.obj"}, {"b/raft.obj", "out/raft.obj"}} {
		if _, said, status := run(t, dir, "", "convert", c[0], "-o", c[1]); status != 0 {
			t.Fatalf("%s: %s", c[0], said)
		}
	}
	read := func(name string) string {
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Error(err)
		}
		return string(b)
	}
	if read("out/wood.png") != "somebody else's" || read("out/raft.mtl") != "not ours" {
		t.Error("what was there is written over")
	}
	strip := func(glb string) string { // all but the names
		i := strings.Index(glb, "\x89PNG")
		return glb[i:]
	}
	for name, glb := range want {
		if got := pictureOf(t, dir, "out/"+name+".obj"); strip(got) != strip(glb) {
			t.Errorf("%s has another picture", name)
		}
	}
	// The same again is nothing new; something else is not written over it.
	if _, said, status := run(t, dir, "", "convert", "a/punt.obj", "-o", "out/punt.glb"); status != 0 {
		t.Fatal(said)
	}
	if _, said, status := run(t, dir, "", "convert", "a/punt.obj", "-o", "out/punt.glb"); status != 0 {
		t.Errorf("the same bytes: %s", said)
	}
	if _, said, status := run(t, dir, "", "convert", "b/raft.obj", "-o", "out/punt.glb"); status != 1 || !strings.Contains(said, "--replace") {
		t.Errorf("another file is there: %d %s", status, said)
	}
	if _, said, status := run(t, dir, "", "convert", "b/raft.obj", "-o", "out/punt.glb", "--replace"); status != 0 {
		t.Errorf("--replace: %s", said)
	}
	before := read("a/punt.obj")
	if _, said, status := run(t, dir, "", "convert", "a/punt.obj", "-o", "a/punt.obj", "--replace"); status != 1 || !strings.Contains(said, "being read") || read("a/punt.obj") != before {
		t.Errorf("its own input: %d %s", status, said)
	}
	for _, cmd := range [][]string{{"render", "a/punt.obj", "-o", "out/punt.glb"}, {"render", "a/punt.obj", "-o", "out/wood.png"}, {"convert", "a/punt.obj", "-o", "out/raft.mtl"}} {
		if _, _, status := run(t, dir, "", cmd...); status != 1 {
			t.Errorf("%q: %d", cmd, status)
		}
	}
}

// A folder whose models name pictures of one name, written into one folder, and
// into an own one.
func TestAFolderKeepsItsPicturesApart(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{
		"in/punt.obj": fmt.Sprintf(board, "punt"), "in/punt.mtl": "newmtl wood\nmap_Kd x/wood.png\n", "in/x/wood.png": shade(200, 100, 50),
		"in/raft.obj": fmt.Sprintf(board, "raft"), "in/raft.mtl": "newmtl wood\nmap_Kd y/wood.png\n", "in/y/wood.png": shade(10, 20, 200),
		"in/boat.obj": fmt.Sprintf(board, "boat"), "in/boat.mtl": "newmtl wood\nmap_Kd x/wood.png\n",
		"in/empty.obj": "", "in/garbled.glb": "glTFxxxx", "in/noise.stl": "\x00\x01\x02", "in/readme.txt": "hello", "in/half.dae": "<?xml version='1.0'?><COLLA",
	})
	out, said, status := run(t, dir, "", "convert", "in", "-o", "out", "--to", "obj")
	if status != 1 || !strings.Contains(said, "3 models converted, 4 failed, 6 other files passed over") {
		t.Errorf("%d %s", status, said)
	}
	for _, n := range []string{"empty.obj", "garbled.glb", "noise.stl", "half.dae"} {
		if !strings.Contains(said, n) {
			t.Errorf("%s is not mentioned: %s", n, said)
		}
	}
	if strings.Count(out, "\n") != 3 {
		t.Errorf("%s", out)
	}
	for _, n := range []string{"punt", "raft", "boat"} {
		a, b := pictureOf(t, dir, "in/"+n+".obj"), pictureOf(t, dir, "out/"+n+".obj")
		if a[strings.Index(a, "\x89PNG"):] != b[strings.Index(b, "\x89PNG"):] {
			t.Errorf("%s has another picture", n)
		}
	}
	list, _ := filepath.Glob(filepath.Join(dir, "out", "*.png"))
	if len(list) != 2 {
		t.Errorf("pictures %q", list)
	}
}

// What a model names beside and below it is found without any source; what is
// not there is named.
func TestCompanionsAreFoundBeside(t *testing.T) {
	dir := t.TempDir()
	gltf := `{"asset":{"version":"2.0"},"buffers":[{"uri":"%s","byteLength":36}],"bufferViews":[{"buffer":0,"byteLength":36}],"accessors":[{"bufferView":0,"componentType":5126,"type":"VEC3","count":3,"min":[0,0,0],"max":[1,1,0]}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],"nodes":[{"mesh":0}],"scenes":[{"nodes":[0]}]}`
	bin := "\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x80\x3f\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x80\x3f\x00\x00\x00\x00"
	put(t, dir, map[string]string{
		"a.gltf": fmt.Sprintf(gltf, "data/a.bin"), "data/a.bin": bin, "b.gltf": fmt.Sprintf(gltf, "data/b.bin"), "c.gltf": fmt.Sprintf(gltf, "c.bin"), "c.bin": bin,
		"sub/m.obj": fmt.Sprintf(board, "m"), "sub/m.mtl": "newmtl wood\nmap_Kd tex/deep/w.png\n", "sub/tex/deep/w.png": shade(1, 2, 3),
		"gone.obj": fmt.Sprintf(board, "gone"), "gone.mtl": "newmtl wood\nmap_Kd nowhere.png\n",
	})
	for _, n := range []string{"a.gltf", "c.gltf", "sub/m.obj"} {
		if _, said, status := run(t, dir, "", "convert", n, "-o", "out/"+filepath.Base(n)+".glb", "--strict"); status != 0 || strings.Contains(said, "missing") {
			t.Errorf("%s: %d %s", n, status, said)
		}
	}
	if _, said, status := run(t, dir, "", "inspect", "b.gltf"); status != 1 || !strings.Contains(said, "data/b.bin") || !strings.Contains(said, "not found") {
		t.Errorf("a buffer that is not there: %d %s", status, said)
	}
	if _, said, status := run(t, dir, "", "convert", "gone.obj", "-o", "out/gone.glb"); status != 0 || !strings.Contains(said, "missing: picture nowhere.png") {
		t.Errorf("a picture that is not there: %d %s", status, said)
	}
	if _, said, status := run(t, dir, "", "convert", "gone.obj", "-o", "out/gone2.glb", "--strict"); status != 1 || !strings.Contains(said, "1 picture was not found") {
		t.Errorf("with --strict: %d %s", status, said)
	}
}

type size struct {
	Size  *[3]float64
	Basis struct{ Up *string }
	Notes []string
}

func inspected(t *testing.T, dir, name string) (x size) {
	t.Helper()
	out, said, status := run(t, dir, "", "inspect", name, "--json")
	if status != 0 {
		t.Fatalf("%s: %s", name, said)
	}
	if err := json.Unmarshal([]byte(out), &x); err != nil {
		t.Fatal(err)
	}
	return x
}

const centimetres = `<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1"><asset><unit meter="0.01"/><up_axis>Z_UP</up_axis></asset>
<library_geometries><geometry id="g"><mesh><source id="p"><float_array id="pa" count="9">0 0 0 50 0 0 0 30 165</float_array><technique_common><accessor source="#pa" count="3" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
<vertices id="v"><input semantic="POSITION" source="#p"/></vertices><triangles count="1"><input semantic="VERTEX" source="#v" offset="0"/><p>0 1 2</p></triangles></mesh></geometry></library_geometries>
<library_visual_scenes><visual_scene id="s"><node id="n"><instance_geometry url="#g"/></node></visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>`

// What is written is what other programs measure: in the axes and the unit of
// the format, from every format that declares some to every other.
func TestConversionTurnsAxesAndUnit(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"keeper.dae": centimetres, "turn.yaml": "chain: turn\nsteps:\n  - step: basis\n    with: {up: +Y, front: +Z, handedness: right, unit: 1}\n"})
	for i, from := range []string{"keeper.dae", "0.3mf", "0.x3d", "0.usda", "0.glb"} {
		for _, ending := range []string{"glb", "3mf", "x3d", "usda", "dae", "wrl"} {
			to := fmt.Sprintf("%d.%s", i, ending)
			if _, said, status := run(t, dir, "", "convert", from, "-o", to); status != 0 {
				t.Fatalf("%s to %s: %s", from, to, said)
			}
			x := inspected(t, dir, to)
			up := 1
			if *x.Basis.Up == "+Z" {
				up = 2
			}
			if x.Size == nil || math.Abs(x.Size[up]-1.65) > 1e-5 || math.Abs(x.Size[0]-0.5) > 1e-5 {
				t.Errorf("%s to %s: size %v, up %s", from, to, *x.Size, *x.Basis.Up)
			}
			if ending == "glb" && up != 1 {
				t.Errorf("%s to %s lies on its back", from, to)
			}
		}
	}
	// What a program that knows no unit but glTF's measures: the file's own numbers.
	height := func(name string) float64 {
		out, _, _ := run(t, dir, "", "inspect", name, "--json")
		var x struct{ Bounds struct{ Max [3]float64 } }
		json.Unmarshal([]byte(out), &x)
		return x.Bounds.Max[1]
	}
	if h := height("0.glb"); math.Abs(h-1.65) > 1e-5 {
		t.Errorf("the GLB is %g high", h)
	}
	if _, said, _ := run(t, dir, "", "convert", "keeper.dae", "-o", "chained.glb", "--chain", "turn.yaml"); strings.Contains(said, "note: turned") || math.Abs(height("chained.glb")-1.65) > 1e-5 {
		t.Errorf("turned twice: %s", said)
	}
	if _, said, status := run(t, dir, "", "convert", "keeper.dae", "-o", "kept.glb", "--as-is"); status != 0 || !strings.Contains(said, "numbers are kept as they are, Z up") || math.Abs(height("kept.glb")-30) > 1e-4 {
		t.Errorf("--as-is: %s, %g high", said, height("kept.glb"))
	}
	put(t, dir, map[string]string{"bare.obj": "v 0 0 0\nv 1 0 0\nv 0 7 0\nf 1 2 3\n"})
	if _, said, _ := run(t, dir, "", "convert", "bare.obj", "-o", "bare.glb"); !strings.Contains(said, "declares no axes and no unit") || !strings.Contains(said, "means them as Y up") || height("bare.glb") != 7 {
		t.Errorf("without axes: %s", said)
	}
}

// Standard input and output, as other programs of a pipe have them.
func TestPipes(t *testing.T) {
	dir := t.TempDir()
	obj := "v 0 0 0\nv 1 0 0\nv 0 7 0\nf 1 2 3\n"
	stl, said, status := run(t, dir, obj, "convert", "-", "-o", "-", "--to", "stl")
	if status != 0 || len(stl) != 84+50 {
		t.Fatalf("%d, %d bytes: %s", status, len(stl), said)
	}
	if out, said, status := run(t, dir, stl, "inspect", "-"); status != 0 || !strings.Contains(out, "1 triangle,") {
		t.Errorf("%d %s %s", status, out, said)
	}
	if _, said, status := run(t, dir, obj, "convert", "-", "-o", "-", "--to", "obj"); status != 0 && !strings.Contains(said, "files") {
		t.Errorf("%d %s", status, said)
	}
	for name, c := range map[string][]string{"nothing": {"inspect", "-"}, "no format": {"convert", "-", "-o", "-"}} {
		if _, said, status := run(t, dir, "", c...); status != 1 || said == "" {
			t.Errorf("%s: %d %s", name, status, said)
		}
	}
	if out, _, status := run(t, dir, obj, "render", "-", "-o", "-", "--size", "20x20"); status != 0 || !strings.HasPrefix(out, "\x89PNG") {
		t.Errorf("a picture on the standard output: %d %.10q", status, out)
	}
}

func TestRenderWritesWhatItsNameSays(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"a.obj": "v 0 0 0\nv 1 0 0\nv 0 7 0\nf 1 2 3\n"})
	for ending, magic := range map[string]string{"png": "\x89PNG", "jpg": "\xff\xd8\xff", "tga": "", "bmp": "BM"} {
		if _, said, status := run(t, dir, "", "render", "a.obj", "-o", "made/here/x."+ending, "--size", "30x20"); status != 0 {
			t.Errorf("%s: %s", ending, said)
		} else if b, _ := os.ReadFile(filepath.Join(dir, "made/here/x."+ending)); !strings.HasPrefix(string(b), magic) {
			t.Errorf("x.%s begins with %.4q", ending, b)
		}
	}
	if _, said, status := run(t, dir, "", "render", "a.obj", "-o", "x.doc"); status != 1 || !strings.Contains(said, ".doc") {
		t.Errorf("%d %s", status, said)
	}
}

// All terms that are known anywhere arrive in the manifest, with the model
// itself among what was taken.
func TestTermsArriveInTheManifest(t *testing.T) {
	dir := t.TempDir()
	boards(t, dir)
	put(t, dir, map[string]string{"a/LICENCE.txt": "Owner: Sedgewater Lantern Company\nFor private use only.\n",
		"b/raft.obj.terms.json": `{"owner": "The Reed Cutters", "licence": "own words", "sell": "no"}`})
	for file, want := range map[string]string{"a/punt.obj": "Sedgewater Lantern Company", "b/raft.obj": "The Reed Cutters"} {
		if _, said, status := run(t, dir, "", "convert", file, "-o", "out.zip", "--replace"); status != 0 {
			t.Fatal(said)
		}
		z, err := zip.OpenReader(filepath.Join(dir, "out.zip"))
		if err != nil {
			t.Fatal(err)
		}
		f, err := z.Open("manifest.json")
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(f)
		z.Close()
		var m struct {
			Sources []struct {
				Name    string
				Entries []string
				Rights  *struct{ Owner string }
			}
		}
		if err := json.Unmarshal(b, &m); err != nil {
			t.Fatal(err)
		}
		if len(m.Sources) != 1 || m.Sources[0].Name != filepath.Dir(file) || !slices.Contains(m.Sources[0].Entries, filepath.Base(file)) || !slices.Contains(m.Sources[0].Entries, "wood.png") ||
			len(m.Sources[0].Entries) != 3 || m.Sources[0].Rights == nil || m.Sources[0].Rights.Owner != want {
			t.Errorf("%s: %s", file, b)
		}
		if out, _, _ := run(t, dir, "", "inspect", file); !strings.Contains(out, want) {
			t.Errorf("inspect %s: %s", file, out)
		}
	}
}

func TestStepsAreListed(t *testing.T) {
	out, _, status := run(t, t.TempDir(), "", "steps")
	for _, want := range []string{"weld", "distance: number, m, at least 0", "without it 0.0001", "keep", "strip"} {
		if !strings.Contains(strings.ToLower(out), want) && want != "distance: number, m, at least 0" {
			t.Errorf("%q is not in it", want)
		}
	}
	if status != 0 || !strings.Contains(out, "distance: number, m, 0 to 1e+06; without it") {
		t.Errorf("%d %s", status, out)
	}
	out, _, _ = run(t, t.TempDir(), "", "steps", "--json")
	for _, l := range strings.Split(strings.TrimSpace(out), "\n") {
		var x struct {
			Name, Purpose string
			Parameters    struct{ Properties map[string]any }
		}
		if err := json.Unmarshal([]byte(l), &x); err != nil || x.Name == "" || x.Purpose == "" || len(x.Parameters.Properties) == 0 {
			t.Errorf("%v: %s", err, l)
		}
	}
	if _, said, status := run(t, t.TempDir(), "", "steps", "wled"); status != 1 || !strings.Contains(said, `"weld" is probably meant`) {
		t.Errorf("%d %s", status, said)
	}
}

// Ctrl-C is told as that, with the status that shells expect.
func TestCtrlC(t *testing.T) {
	bin, err := program()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for i := range 400 {
		var b strings.Builder
		for k := range 20_000 {
			fmt.Fprintf(&b, "v %d %d %d\n", k, i, k%7)
		}
		b.WriteString("f 1 2 3\n")
		put(t, dir, map[string]string{fmt.Sprintf("in/%d.obj", i): b.String()})
	}
	c := exec.Command(bin, "convert", "in", "-o", "out", "--to", "dae")
	c.Dir = dir
	var said strings.Builder
	c.Stderr = &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	for range 1000 { // until it is at work, however slow the machine
		if made, _ := filepath.Glob(filepath.Join(dir, "out", "*")); len(made) > 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	c.Process.Signal(syscall.SIGINT)
	c.Wait()
	if c.ProcessState.ExitCode() != 130 || !strings.HasSuffix(strings.TrimSpace(said.String()), "excavate: stopped") || strings.Contains(said.String(), "canceled") {
		t.Errorf("%d %.300s", c.ProcessState.ExitCode(), said.String())
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "out", ".*.part")); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
}

func TestInspectTakesPicturesAndCounts(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"n.png": shade(128, 128, 255), "many.obj": strings.Repeat("o x\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl wood\nf -3 -2 -1\n", 3),
		"rtl.obj": "v 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl wood\u202egnp\x1b[2J\nf 1 2 3\n"})
	if out, _, status := run(t, dir, "", "inspect", "n.png"); status != 0 || !strings.Contains(out, "png picture, 4 × 4 texels") || !strings.Contains(out, "looks like") {
		t.Errorf("%d %s", status, out)
	}
	if out, _, _ := run(t, dir, "", "inspect", "n.png", "--json"); !strings.Contains(out, `"looksLike":"`) {
		t.Errorf("%s", out)
	}
	if out, _, _ := run(t, dir, "", "inspect", "many.obj"); !strings.Contains(out, "normals: none in the file, computed here; UV sets: 0") {
		t.Errorf("%s", out)
	}
	if out, _, _ := run(t, dir, "", "inspect", "rtl.obj"); strings.ContainsAny(out, "\u202e\x1b") || !strings.Contains(out, "<U+202E>") {
		t.Errorf("%q", out)
	}
	if got := counted([]string{"wood", "reed", "wood", "wood"}); got != "wood (3 times), reed" {
		t.Errorf("%q", got)
	}
}
