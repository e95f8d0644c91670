package main

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"io/fs"
	"math"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"excavate/core/find"
	"excavate/core/pixel"
	"excavate/core/target"
	"excavate/standin/console"
	"excavate/standin/exchange"
)

// excavate runs the command and returns what it prints.
func excavate(t *testing.T, args ...string) (string, error) {
	t.Helper()
	var out, errs bytes.Buffer
	err := execute(t, &out, &errs, args)
	return out.String(), err
}

// said runs a command and returns what it says on both outputs.
func said(t *testing.T, args ...string) (string, error) {
	t.Helper()
	var b bytes.Buffer
	err := execute(t, &b, &b, args)
	return b.String(), err
}

func execute(t *testing.T, out, errs io.Writer, args []string) error {
	c := root()
	c.SetOut(out)
	c.SetErr(errs)
	c.SetArgs(args)
	return c.ExecuteContext(t.Context())
}

func must(t *testing.T, args ...string) string {
	t.Helper()
	out, err := excavate(t, args...)
	if err != nil {
		t.Fatalf("excavate %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return out
}

func demoData(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	must(t, "demo-data", "-o", dir)
	return dir
}

func lines[T any](t *testing.T, text string) []T {
	t.Helper()
	var out []T
	for _, l := range strings.Split(strings.TrimSpace(text), "\n") {
		var v T
		d := json.NewDecoder(strings.NewReader(l))
		d.DisallowUnknownFields()
		if err := d.Decode(&v); err != nil {
			t.Fatalf("%v in %s", err, l)
		}
		out = append(out, v)
	}
	return out
}

func TestTheWholeWay(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	type entry struct {
		Path         string
		Size, Packed int64
		Kind         string
	}
	kinds := map[string]int{}
	for _, e := range lines[entry](t, must(t, "list", at("hulls.tide"), "--json")) {
		kinds[e.Kind]++
		if e.Size == 0 || e.Packed == 0 {
			t.Errorf("no sizes: %+v", e)
		}
	}
	if kinds["model"] != 4 || kinds["text"] != 4 {
		t.Errorf("kinds %v", kinds)
	}
	out := at("out")
	must(t, "unpack", at("hulls.tide"), "-o", out, "--match", "**/*.hull")
	keeper := filepath.Join(out, "figures", "ferry_keeper.hull")
	if _, err := os.Stat(filepath.Join(out, "licence.txt")); err == nil {
		t.Error("more than the pattern was unpacked")
	}

	two := []string{"--source", at("hulls.tide"), "--source", at("washes.tide")}
	x := lines[find.Inspection](t, must(t, append([]string{"inspect", keeper, "--json"}, two...)...))[0]
	if x.Triangles < 2000 || x.Bones < 24 || len(x.Materials) != 2 || len(x.Motions) != 1 || *x.Basis.Up != "+Z" || *x.Basis.Handedness != "left" || *x.Basis.MetresPerUnit != 0.01 {
		t.Errorf("the keeper is %+v", x)
	}
	if !x.Pictures[0].Found || x.Pictures[1].Found || len(x.Notes) == 0 || !strings.Contains(strings.Join(x.Notes, " "), "washes.tide") {
		t.Errorf("pictures %+v, notes %v", x.Pictures, x.Notes)
	}

	three := append(two, "--source", at("winter.tide"))
	glb := at("keeper.glb")
	must(t, append([]string{"convert", keeper, "-o", glb, "--chain", at("chain.yaml")}, three...)...)
	y := lines[find.Inspection](t, must(t, "inspect", glb, "--json"))[0]
	if y.Triangles != x.Triangles || y.Bones != x.Bones || y.Vertices >= x.Vertices || *y.Basis.Up != "+Y" || !y.Pictures[0].Found || !y.Pictures[1].Found {
		t.Errorf("the GLB is %+v", y)
	}
	// Z up becomes Y up; the sizes agree axis by axis.
	for i, j := range []int{0, 2, 1} {
		if math.Abs(x.Size[j]-y.Size[i]) > 1e-4 {
			t.Errorf("size %v became %v", x.Size, y.Size)
		}
	}
	if math.Abs(y.Bounds.Min[1]) > 1e-6 {
		t.Errorf("it stands at %g", y.Bounds.Min[1])
	}
	// The same input and chain give the same bytes.
	again := at("again.glb")
	must(t, append([]string{"convert", keeper, "-o", again, "--chain", at("chain.yaml")}, three...)...)
	a, _ := os.ReadFile(glb)
	b, _ := os.ReadFile(again)
	if !bytes.Equal(a, b) {
		t.Error("another run gives other bytes")
	}

	if f := lines[target.Finding](t, must(t, "check", glb, "--target", at("target.yaml"), "--json")); len(f) < 8 {
		t.Errorf("%d findings", len(f))
	} else {
		for _, x := range f {
			if x.Severity != target.Holds {
				t.Errorf("%+v", x)
			}
		}
	}
	text, err := excavate(t, append([]string{"check", keeper, "--target", at("target.yaml"), "--json"}, two...)...)
	if err != errQuiet {
		t.Errorf("a check that stops ends with %v", err)
	}
	got := map[string]target.Severity{}
	for _, f := range lines[target.Finding](t, text) {
		got[f.Rule] = f.Severity
		if f.Severity != target.Holds && f.Rule != "pictures" && f.Mends == nil {
			t.Errorf("%s has no mend", f.Rule)
		}
	}
	for rule, want := range map[string]target.Severity{"basis": target.Stops, "root bone": target.Stops, "pictures": target.Stops, "size": target.Stops, "cameras": target.Warns, "helpers": target.Warns, "joints per vertex": target.Holds, "names unique": target.Holds} {
		if got[rule] != want {
			t.Errorf("rule %s is %q, want %q", rule, got[rule], want)
		}
	}

	pic := at("k.png")
	must(t, append([]string{"render", keeper, "-o", pic, "--size", "320x240"}, three...)...)
	raw, _ := os.ReadFile(pic)
	img, err := png.Decode(bytes.NewReader(raw))
	if err != nil || img.Bounds().Dx() != 320 || img.Bounds().Dy() != 240 {
		t.Fatalf("picture: %v", err)
	}
	seen := map[string]bool{}
	for py := 0; py < 240; py++ {
		for px := 0; px < 320; px++ {
			seen[fmt.Sprint(img.At(px, py))] = true
		}
	}
	if len(seen) < 300 {
		t.Errorf("the picture has %d colours; there is no figure in it", len(seen))
	}

	pack := at("k.zip")
	must(t, append([]string{"convert", keeper, "-o", pack, "--chain", at("chain.yaml")}, three...)...)
	z, err := zip.OpenReader(pack)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	names := ""
	for _, f := range z.File {
		names += f.Name + " "
	}
	if names != "ferry_keeper.glb chain.yaml manifest.json " {
		t.Errorf("the delivery holds %s", names)
	}
	if out, err := exec.Command("unzip", "-tq", pack).CombinedOutput(); err != nil {
		t.Errorf("unzip refuses it: %s", out)
	}
}

// TestOthersReadWhatWeWrite holds our GLBs against the Khronos validator and
// three's loader, from the interface's packages.
func TestOthersReadWhatWeWrite(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	src := []string{"--source", at("hulls.tide"), "--source", at("washes.tide"), "--source", at("winter.tide"), "--source", at("harbour.zip")}
	files := []string{}
	for _, n := range []string{"figures/ferry_keeper.hull", "fauna/heron.hull", "boats/punt.hull", "houses/stilt_house.hull", "pontoon.glb"} {
		out := at(strings.TrimSuffix(filepath.Base(n), filepath.Ext(n)) + "-out.glb")
		must(t, append([]string{"convert", n, "-o", out, "--chain", at("chain.yaml")}, src...)...)
		files = append(files, out)
		raw := at(filepath.Base(n) + "-raw.glb") // without a chain: camera, helpers and all
		must(t, append([]string{"convert", n, "-o", raw}, src...)...)
		files = append(files, raw)
	}
	out, err := exec.Command("node", append([]string{"../../e2e/readers.mjs"}, files...)...).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	type seen struct {
		File                        string
		Errors, Warnings, Triangles int
		Vertices, Bones, Motions    int
		Messages                    []string
		Min, Max                    [3]float64
	}
	for _, v := range lines[seen](t, string(out)) {
		x := lines[find.Inspection](t, must(t, "inspect", v.File, "--json"))[0]
		if v.Errors != 0 || v.Warnings != 0 {
			t.Errorf("%s: %d errors, %d warnings: %v", v.File, v.Errors, v.Warnings, v.Messages)
		}
		if v.Triangles != x.Triangles || v.Vertices != x.Vertices || v.Bones != x.Bones || v.Motions != len(x.Motions) {
			t.Errorf("%s: three counts %d triangles, %d vertices, %d bones, %d motions; we %d, %d, %d, %d", v.File, v.Triangles, v.Vertices, v.Bones, v.Motions, x.Triangles, x.Vertices, x.Bones, len(x.Motions))
		}
		for k := range v.Min {
			if e := 1e-4 * math.Max(1, math.Abs(v.Max[k])); math.Abs(v.Min[k]-x.Bounds.Min[k]) > e || math.Abs(v.Max[k]-x.Bounds.Max[k]) > e {
				t.Errorf("%s: three's bounds %v %v, ours %v", v.File, v.Min, v.Max, *x.Bounds)
				break
			}
		}
	}
}

func TestBadFilesAreReportedAndTheRestGoesOn(t *testing.T) {
	dir := demoData(t)
	bad := filepath.Join(dir, "bad.hull")
	os.WriteFile(bad, []byte("HULL\x07\x00\x00\x00\x00\x00"), 0o644)
	noise := filepath.Join(dir, "noise.bin")
	os.WriteFile(noise, []byte{0, 1, 2, 3, 200, 201}, 0o644)
	src := filepath.Join(dir, "hulls.tide")
	text, err := excavate(t, "inspect", bad, noise, filepath.Join(dir, "none"), "boats/punt.hull", "--json", "--source", src)
	if err != errQuiet {
		t.Errorf("ends with %v", err)
	}
	type line struct {
		File  string
		Error struct{ Message, At string }
	}
	var got []line
	for _, l := range strings.Split(strings.TrimSpace(text), "\n") {
		var v line
		if err := json.Unmarshal([]byte(l), &v); err != nil {
			t.Fatal(err)
		}
		got = append(got, v)
	}
	if len(got) != 4 || got[0].Error.At != "offset 8" || !strings.Contains(got[0].Error.Message, "layout hull mesh 7 line") || got[1].Error.Message == "" || got[2].Error.Message == "" || got[3].Error.Message != "" {
		t.Errorf("got %+v", got)
	}
	if _, err := excavate(t, "convert", bad, "-o", filepath.Join(dir, "x.glb")); err == nil {
		t.Error("a bad file was converted")
	}
	if _, err := os.Stat(filepath.Join(dir, "x.glb")); err == nil {
		t.Error("a file was written for it")
	}
	if _, err := excavate(t, "render", src, "-o", filepath.Join(dir, "x.png")); err == nil || !strings.Contains(err.Error(), "archive") {
		t.Errorf("rendering an archive: %v", err)
	}
	if _, err := excavate(t, "convert", bad, "-o", "x.foo"); err == nil || !strings.Contains(err.Error(), ".glb") {
		t.Errorf("another ending: %v", err)
	}
}

func TestOwnLayoutsWin(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "grey.yaml"), []byte("layout: my picture\nkind: picture\nrecognise: [{at: 0, ascii: MINE}]\nfields:\n  - magic: ascii[4]\n  - w: u16\n  - h: u16\npicture: {width: w, height: h, format: r8g8b8, at: 8}\n"), 0o644)
	os.MkdirAll(filepath.Join(dir, "src"), 0o755)
	os.WriteFile(filepath.Join(dir, "src", "x"), append([]byte("MINE\x01\x00\x01\x00"), 1, 2, 3), 0o644)
	if out := must(t, "list", filepath.Join(dir, "src"), "--json", "--layouts", dir); !strings.Contains(out, `"kind":"picture"`) {
		t.Errorf("not recognised: %s", out)
	}
	os.WriteFile(filepath.Join(dir, "broken.yaml"), []byte("layout: x\nkind: picture\nrecognise: [{at: 0, ascii: Q}]\nfields: [{a: u99}]\n"), 0o644)
	// A broken one is said and left out; the others work.
	out, said, _ := run(t, dir, "", "list", filepath.Join(dir, "src"), "--json", "--layouts", dir)
	if !strings.Contains(said, "line 4 column 14") || !strings.Contains(said, "left out") || !strings.Contains(out, `"kind":"picture"`) {
		t.Errorf("a broken layout: %s\n%s", said, out)
	}
}

// files are the paths below a folder.
func files(dir string) (out []string) {
	filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(dir, p)
			out = append(out, filepath.ToSlash(rel))
		}
		return nil
	})
	return out
}

func TestUnpackParts(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	same := func(what string, got []string, want ...string) {
		t.Helper()
		if !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", what, got, want)
		}
	}
	// A model with all that it needs, in a target's folders.
	must(t, "unpack", at("hulls.tide"), at("washes.tide"), at("winter.tide"), "-o", at("a"), "--entry", "figures/ferry_keeper.hull", "--needs", "--map", "wash/=materials", "--map", "figures/=models", "--summary", at("sum.json"))
	same("with needs", files(at("a")), "materials/keeper/keeper_cloth_c.wash", "materials/keeper/keeper_gear_c.wash", "models/ferry_keeper.hull")
	var sum struct{ Entries, Failed int }
	b, _ := os.ReadFile(at("sum.json"))
	if json.Unmarshal(b, &sum); sum.Entries != 3 || sum.Failed != 0 {
		t.Errorf("summary %s", b)
	}
	// A set, by rules that were proposed.
	os.WriteFile(at("rules.yaml"), []byte(must(t, "names", at("washes.tide"), at("hulls.tide"), "--rules")), 0o644)
	must(t, "unpack", at("hulls.tide"), at("washes.tide"), "-o", at("b"), "--set", "heron", "--rules", at("rules.yaml"))
	same("a set", files(at("b")), "fauna/heron.hull", "wash/fauna/heron_c.wash")
	// The first source wins; a ZIP that others read.
	must(t, "unpack", at("hulls.tide"), at("washes.tide"), "--zip", at("c.zip"), "--match", "licence.txt")
	if out, err := exec.Command("unzip", "-Z1", at("c.zip")).CombinedOutput(); err != nil || string(out) != "licence.txt\n" {
		t.Errorf("%v %s", err, out)
	}
	// Policies.
	os.WriteFile(at("b/fauna/heron.hull"), []byte("mine"), 0o644)
	if _, err := excavate(t, "unpack", at("hulls.tide"), "-o", at("b"), "--match", "**/heron.hull"); err != errQuiet {
		t.Errorf("refuse ends with %v", err)
	}
	must(t, "unpack", at("hulls.tide"), "-o", at("b"), "--match", "**/heron.hull", "--policy", "keep-both")
	if got, _ := os.ReadFile(at("b/fauna/heron.hull")); string(got) != "mine" || !slices.Contains(files(at("b")), "fauna/heron~2.hull") {
		t.Errorf("keep both: %q", files(at("b")))
	}
	for _, args := range [][]string{{"--policy", "hope"}, {"--map", "x"}, {"--entry", "none"}, {"--set", "none"}, {"--rules", at("chain.yaml"), "--set", "x"}, {"--match", "[a"}} {
		if _, err := excavate(t, append([]string{"unpack", at("hulls.tide"), "-o", at("x")}, args...)...); err == nil {
			t.Errorf("%q is taken", args)
		}
	}
	// Within an archive.
	if out, err := exec.Command("zip", "-qj", at("outer.bin"), at("washes.tide")).CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	if out := must(t, "list", at("outer.bin"), "--inside", "washes.tide"); !strings.Contains(out, "heron_c.wash") {
		t.Errorf("%s", out)
	}
	must(t, "unpack", at("outer.bin"), "--inside", "washes.tide", "-o", at("d"), "--match", "*heron*", "--flat")
	same("within", files(at("d")), "heron_c.wash")
}

func TestLinks(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	type link struct {
		Entry, Source, Ref, Role, How, Sure, Found, In string
		Looked                                         []string
	}
	text, err := excavate(t, "links", at("hulls.tide"), at("washes.tide"), "--json", "--missing")
	got := lines[link](t, text)
	if err != errQuiet || len(got) != 1 || got[0].Ref != "wash/keeper/keeper_gear_c.tga" || len(got[0].Looked) == 0 {
		t.Errorf("%v %+v", err, got)
	}
	for _, l := range lines[link](t, must(t, "links", at("hulls.tide"), at("washes.tide"), at("winter.tide"), "--json")) {
		if l.Found == "" || l.Sure == "" || l.In == "" {
			t.Errorf("%+v", l)
		}
	}
}

func TestPull(t *testing.T) {
	s := httptest.NewServer(exchange.New().Handler())
	defer s.Close()
	dir := t.TempDir()
	if _, err := excavate(t, "pull", s.URL, "--list"); err == nil || !strings.Contains(err.Error(), "token") {
		t.Errorf("without a token: %v", err)
	}
	if out := must(t, "pull", s.URL, "--token", exchange.Token, "--list"); strings.Count(out, ".vrm") != 4 {
		t.Errorf("%s", out)
	}
	must(t, "pull", s.URL, "--token", exchange.Token, "--match", "corin*", "-o", dir)
	x := lines[find.Inspection](t, must(t, "inspect", filepath.Join(dir, "corin.vrm"), "--json"))[0]
	if x.Bones < 20 || x.Morphs != 3 {
		t.Errorf("%+v", x)
	}
	// What the exchange told of it arrives in what is delivered of it.
	told, err := os.ReadFile(filepath.Join(dir, "corin.vrm.terms.json"))
	if err != nil || !strings.Contains(string(told), "told by "+s.URL) {
		t.Errorf("%s, %v", told, err)
	}
	box := filepath.Join(dir, "box.zip")
	must(t, "convert", filepath.Join(dir, "corin.vrm"), "-o", box)
	manifest, err := exec.Command("unzip", "-p", box, "manifest.json").Output()
	var own struct{ Owner string }
	if json.Unmarshal(told, &own) != nil || own.Owner == "" || err != nil || !strings.Contains(string(manifest), own.Owner) {
		t.Errorf("%q is not in the manifest: %v\n%s", own.Owner, err, manifest)
	}
	// The standard's own validator finds nothing wrong with it.
	out, err := exec.Command("node", "../../e2e/readers.mjs", filepath.Join(dir, "corin.vrm")).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if !strings.Contains(string(out), `"Errors":0,`) {
		t.Errorf("%s", out)
	}
}

// The tutorial's layouts from the command line: explained, run over an
// archive, used.
func TestExplainAndCover(t *testing.T) {
	dir := demoData(t)
	b, err := os.ReadFile("../../docs/first-layout.md")
	if err != nil {
		t.Fatal(err)
	}
	own := filepath.Join(dir, "own")
	os.Mkdir(own, 0o755)
	var files []string
	for i, part := range strings.Split(string(b), "```yaml\n")[1:] {
		doc, _, _ := strings.Cut(part, "```")
		files = append(files, filepath.Join(own, fmt.Sprintf("%d.yaml", i)))
		os.WriteFile(files[i], []byte(doc), 0o644)
	}
	box := filepath.Join(dir, "sluice.bin")
	out := must(t, "explain", files[0], box)
	for _, want := range []string{"directory_at  u32  126184  at 0x4, 4 bytes", "126344 of 126344 bytes are explained", "4 entries"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	if out, err := excavate(t, "explain", files[1], box); err == nil || !strings.Contains(out, "bytes are explained") {
		t.Errorf("the picture's layout reads the archive: %v", err)
	}
	if out := must(t, "cover", files[2], box, "--layouts", own); !strings.Contains(out, "2 entries recognised, 2 opened, 0 failed; 100.0 %") {
		t.Error(out)
	}
	if _, err := excavate(t, "cover", files[2], filepath.Join(dir, "harbour.zip")); err == nil || !strings.Contains(err.Error(), "recognises no entry") {
		t.Errorf("%v", err)
	}
	bad := filepath.Join(dir, "bad.yaml")
	doc, _ := os.ReadFile(files[2])
	os.WriteFile(bad, bytes.Replace(doc, []byte("vertex_count: u16"), []byte("vertex_count: {type: u16, must: vertex_count < 1200}"), 1), 0o644)
	if out, err := excavate(t, "cover", bad, box, "--layouts", own); err == nil || !strings.Contains(out, "1 x line 11 column") || !strings.Contains(out, "sluice.bin:mill.shp at offset 2") {
		t.Errorf("%v\n%s", err, out)
	}
	// The console's model, its spaces bound by hand.
	cart, con := filepath.Join(dir, "lantern.cart"), filepath.Join(dir, "console")
	srv := httptest.NewServer(console.New().Handler())
	defer srv.Close()
	must(t, "pull", srv.URL, "-o", con)
	model := "models/walker.lmd"
	if out := must(t, "inspect", model, "--source", cart); strings.Count(out, "missing") != 2 {
		t.Error(out)
	}
	if out := must(t, "inspect", model, "--source", cart, "--source", con); strings.Contains(out, "missing") {
		t.Error(out)
	}
	os.Remove(filepath.Join(con, "segments", "faces.bin"))
	if out := must(t, "inspect", model, "--source", cart, "--source", con); strings.Count(out, "missing") != 1 {
		t.Error(out)
	}
	if out := must(t, "inspect", model, "--source", cart, "--source", con, "--bind", "segments/faces.bin=pictures/05.bmp", "--reading", "last_bytes=colour"); strings.Contains(out, "missing") || !strings.Contains(out, "reading: last_bytes=colour, or ") {
		t.Error(out)
	}
}

// What a file leaves to its reader is said, and chosen.
func TestReadings(t *testing.T) {
	p := filepath.Join(t.TempDir(), "lamp.wrl")
	os.WriteFile(p, []byte(`#VRML V2.0 utf8
DEF lamp Switch { whichChoice 0 choice [ DEF lit Shape { geometry Sphere { } } DEF broken Shape { geometry Box { } } ] }`), 0o644)
	if out := must(t, "inspect", p); !strings.Contains(out, "reading: switch lamp=lit, or broken\n") || strings.Contains(out, " 12 triangles") {
		t.Error(out)
	}
	if out := must(t, "inspect", p, "--reading", "switch lamp=broken"); !strings.Contains(out, "reading: switch lamp=broken, or lit\n") || !strings.Contains(out, " 12 triangles") {
		t.Error(out)
	}
	if out := must(t, "inspect", p, "--reading", "switch lamp=sunk", "--reading", "variant=red"); !strings.Contains(out, "switch lamp=sunk was asked for; there are lit, broken, and lit was taken") || !strings.Contains(out, "variant=red was asked for, and the file leaves no variant open") {
		t.Error(out)
	}
	if x := lines[find.Inspection](t, must(t, "inspect", "--json", p))[0]; len(x.Readings) != 1 || x.Readings[0].Chosen != "lit" || len(x.Readings[0].Options) != 2 {
		t.Errorf("%+v", x.Readings)
	}
}

func TestConvertToOtherFormats(t *testing.T) {
	dir := demoData(t)
	out := t.TempDir()
	for _, name := range []string{"punt.obj", "punt.ply", "punt.stl", "punt.dae", "punt.3mf", "punt.usdz", "punt.usda"} {
		must(t, "convert", "boats/punt.hull", "-o", filepath.Join(out, name), "--source", filepath.Join(dir, "hulls.tide"), "--source", filepath.Join(dir, "washes.tide"))
		if text := must(t, "inspect", filepath.Join(out, name)); !strings.Contains(text, "triangles") {
			t.Error(text)
		}
	}
	// The OBJ finds its library and its picture beside it.
	if text := must(t, "inspect", filepath.Join(out, "punt.obj")); !strings.Contains(text, "punt_planks") || !strings.Contains(text, "found") || strings.Contains(text, "missing") {
		t.Error(text)
	}
	a := lines[find.Inspection](t, must(t, "inspect", "--json", "boats/punt.hull", "--source", filepath.Join(dir, "hulls.tide")))[0]
	for _, name := range []string{"punt.obj", "punt.ply", "punt.stl", "punt.dae", "punt.3mf", "punt.usdz", "punt.usda"} {
		if b := lines[find.Inspection](t, must(t, "inspect", "--json", filepath.Join(out, name)))[0]; b.Triangles != a.Triangles || math.Abs(b.Area/a.Area-1) > 1e-4 && !strings.HasSuffix(name, ".3mf") {
			t.Errorf("%s has %d triangles of %g, want %d of %g", name, b.Triangles, b.Area, a.Triangles, a.Area)
		}
	}
	// A whole folder: the tree is kept, a broken file is reported and the rest goes on.
	if err := os.MkdirAll(filepath.Join(out, "deep", "er"), 0o755); err != nil {
		t.Fatal(err)
	}
	ply, err := os.ReadFile(filepath.Join(out, "punt.ply"))
	if err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string][]byte{"deep/er/a.bin": ply, "deep/er/a.ply": ply, "deep/broken.ply": ply[:len(ply)/2], "notes.txt": []byte("reeds")} {
		if err := os.WriteFile(filepath.Join(out, name), b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	made := filepath.Join(out, "made")
	text, err := excavate(t, "convert", out, "-o", made, "--to", "dae")
	if err == nil {
		t.Error("a broken file was no failure")
	}
	for _, want := range []string{"deep/er/a.dae", "deep/er/a.ply.dae", "punt.dae", "punt.obj.dae", "punt.usdz.dae"} {
		if _, err := os.Stat(filepath.Join(made, want)); err != nil {
			t.Errorf("%v\n%s", err, text)
		}
	}
	if _, err := os.Stat(filepath.Join(made, "deep/broken.dae")); err == nil {
		t.Error("half a file was converted")
	}
	if text := must(t, "formats"); !strings.Contains(text, "collada") || !strings.Contains(text, "read, written") {
		t.Error(text)
	}
}

func TestConvertPictures(t *testing.T) {
	dir := t.TempDir()
	lib := demoData(t)
	out := filepath.Join(dir, "wash")
	must(t, "unpack", filepath.Join(lib, "washes.tide"), "-o", out)
	// A normal map among them: its numbers are directions.
	bumps := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	for i := range 64 * 64 {
		x, y := 0.6*math.Sin(float64(i%64)/5), 0.6*math.Cos(float64(i/64)/7)
		copy(bumps.Pix[4*i:], []byte{byte(127.5 + 127.5*x), byte(127.5 + 127.5*y), byte(127.5 + 127.5*math.Sqrt(1-x*x-y*y)), 255})
	}
	b, err := pixel.PNG(bumps)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(out, "bumps.png"), b, 0o644); err != nil {
		t.Fatal(err)
	}
	made := filepath.Join(dir, "dds")
	must(t, "convert", out, "-o", made, "--to", "dds", "--mips")
	kinds := map[string]bool{}
	for _, n := range files(made) {
		b, err := os.ReadFile(filepath.Join(made, n))
		if err != nil {
			t.Fatal(err)
		}
		// DXGI_FORMAT_BC7_UNORM is 98, of colours 99; more than one level.
		if !bytes.HasPrefix(b, []byte("DDS ")) || b[28] < 2 || b[128] != 98 && b[128] != 99 {
			t.Errorf("%s: %d levels of %d", n, b[28], b[128])
		}
		kinds[map[byte]string{98: "numbers", 99: "colour"}[b[128]]] = true
	}
	if !kinds["colour"] || !kinds["numbers"] {
		t.Errorf("all the same: %v", kinds)
	}
	// Back to a format that system tools know.
	again := filepath.Join(dir, "again")
	must(t, "convert", made, "-o", again, "--to", "bmp")
	if n := len(files(again)); n != len(files(made)) || n == 0 {
		t.Errorf("%d of %d", n, len(files(made)))
	}
	one := filepath.Join(made, files(made)[0])
	for _, wrong := range [][]string{{"--meaning", "taste"}, {"--texels", "bc2"}, {"--chain", one}} {
		if _, err := excavate(t, append([]string{"convert", one, "-o", filepath.Join(dir, "x.ktx2")}, wrong...)...); err == nil {
			t.Errorf("%v passed", wrong)
		}
	}
	if text := must(t, "formats"); !strings.Contains(text, "picture  read, written  .ktx2") || !strings.Contains(text, "picture  read           .webp") {
		t.Error(text)
	}
}

func TestJudge(t *testing.T) {
	dir := demoData(t)
	src := []string{"--source", filepath.Join(dir, "hulls.tide"), "--source", filepath.Join(dir, "washes.tide")}
	keeper := "figures/ferry_keeper.hull"
	text := must(t, append([]string{"inspect", keeper, "--all"}, src...)...)
	for _, want := range []string{"probably not wanted: cam_portrait, camera", "UV set surface of keeper, part 1", "up is probably Z", "looks like colour", "keeper_gear_c.tga: it was not found"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
	var x struct {
		Triangles  int
		Inventory  struct{ Nodes, Meshes []any }
		Clues      []struct{ About, Says string }
		Appraisals []struct{ Kind, Error string }
	}
	if err := json.Unmarshal([]byte(must(t, append([]string{"inspect", keeper, "--all", "--json"}, src...)...)), &x); err != nil || x.Triangles != 6752 || len(x.Inventory.Nodes) != 32 || len(x.Clues) == 0 || len(x.Appraisals) != 2 || x.Appraisals[0].Kind != "colour" {
		t.Errorf("%v %+v", err, x)
	}

	if text := must(t, append([]string{"compare", keeper, keeper}, src...)...); !strings.HasPrefix(text, "the same within") {
		t.Error(text)
	}
	text, err := excavate(t, append([]string{"compare", keeper, "boats/punt.hull", "--tolerance", "0.01"}, src...)...)
	if err != errQuiet || !strings.HasPrefix(text, "not the same") || !strings.Contains(text, "figure bones: 27 beside 0") {
		t.Errorf("%v\n%s", err, text)
	}
	var c struct {
		Same    bool
		Surface struct{ Most float64 }
	}
	text, _ = excavate(t, append([]string{"compare", keeper, "boats/punt.hull", "--json"}, src...)...)
	if err := json.Unmarshal([]byte(text), &c); err != nil || c.Same || c.Surface.Most < 0.5 {
		t.Errorf("%v %s", err, text)
	}
	if _, err := excavate(t, append([]string{"compare", keeper, "nobody.hull"}, src...)...); err == nil || !strings.Contains(err.Error(), "nobody.hull") {
		t.Error(err)
	}
	if _, err := excavate(t, append([]string{"compare", keeper, keeper, "--tolerance", "-1"}, src...)...); err == nil || err == errQuiet {
		t.Error(err)
	}
}
