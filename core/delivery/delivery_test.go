package delivery

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/format/obj"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/core/target"
	"excavate/core/terms"
)

var maker = &Maker{Writers: format.Writers{gltf.Writer(), obj.Writer().Plain()}, Version: "9.9"}

func picture(name string, w, h int, grey uint8) scene.Picture {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := 0; i < len(img.Pix); i += 4 {
		copy(img.Pix[i:], []byte{grey, grey / 2, 40, 255})
	}
	var b bytes.Buffer
	png.Encode(&b, img)
	return scene.Picture{Name: name, MIME: "image/png", Width: w, Height: h, Found: "here", Data: b.Bytes()}
}

// crate has two materials, two pictures, a bone and two motions.
func crate() *scene.Scene {
	s := &scene.Scene{Name: "crate / of oak", Basis: geom.GLTF,
		Pictures: []scene.Picture{picture("wood.png", 8, 8, 90), picture("iron", 16, 8, 50)}}
	for i, name := range []string{"oak", "iron"} {
		m := scene.NewMaterial(name)
		m.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: i, Scale: 1}}
		s.Materials = append(s.Materials, m)
	}
	part := func(material int) scene.Part {
		p := scene.Part{Material: material, Influences: 1, UVs: []scene.AttrSet{{Name: "uv"}}}
		for y := range 9 {
			for x := range 9 {
				p.Positions = append(p.Positions, float32(x), float32(material), float32(y))
				p.Normals = append(p.Normals, 0, 1, 0)
				p.UVs[0].Data = append(p.UVs[0].Data, float32(x)/8, float32(y)/8)
				p.Joints, p.Weights = append(p.Joints, 0), append(p.Weights, 1)
			}
		}
		for y := range uint32(8) {
			for x := range uint32(8) {
				k := y*9 + x
				p.Triangles = append(p.Triangles, k, k+9, k+1, k+1, k+9, k+10)
			}
		}
		return p
	}
	s.Meshes = []scene.Mesh{{Name: "crate", Parts: []scene.Part{part(0), part(1)}}}
	n, bone := scene.NewNode("crate"), scene.NewNode("root")
	n.Mesh, n.Skin = 0, 0
	s.Nodes = []scene.Node{n, bone}
	s.Skins = []scene.Skin{{Joints: []int{1}, Root: scene.None,
		InverseBind: []float32{1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}}}
	for _, name := range []string{"open", "shut"} {
		s.Motions = append(s.Motions, scene.Motion{Name: name,
			Channels: []scene.Channel{{Node: 1, Path: scene.PathTranslation, Interp: scene.Linear,
				Times: []float32{0, 1}, Values: []float32{0, 0, 0, 0, 1, 0}}}})
	}
	return s
}

func sheet(t *testing.T, text string) *target.Sheet {
	t.Helper()
	s, err := target.Parse([]byte("target: test\nformat: glb\n" + text))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func made(t *testing.T, s *scene.Scene, sh *target.Sheet, o Options) *Made {
	t.Helper()
	m, err := maker.Make(context.Background(), s, sh, o)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func paths(m *Made) (out []string) {
	for _, f := range m.Files {
		out = append(out, f.Kind+" "+f.Path)
	}
	return out
}

// documentOf is the JSON of a GLB.
func documentOf(t *testing.T, glb []byte) (doc struct {
	Images     []struct{ URI, MimeType string }
	Animations []struct{ Name string }
	Meshes     []struct{ Name string }
	Materials  []map[string]any
}) {
	t.Helper()
	n := binary.LittleEndian.Uint32(glb[12:])
	if err := json.Unmarshal(glb[20:20+n], &doc); err != nil {
		t.Fatal(err)
	}
	return doc
}

func file(t *testing.T, m *Made, p string) []byte {
	t.Helper()
	for _, f := range m.Files {
		if f.Path == p {
			return f.Data
		}
	}
	t.Fatalf("there is no %s: %v", p, paths(m))
	return nil
}

// Files lie where the layout wants them, and the model finds its pictures there.
func TestLayouts(t *testing.T) {
	sh := sheet(t,
		`delivery: {folder: "own/{asset}", model: "models/{asset}", pictures: "materials/{picture}", `+
			`motions: "anim/{motion}", search_file: paths.txt, search_line: "Search {folder}"}`)
	m := made(t, crate(), sh, Options{})
	want := []string{"model own/crate___of_oak/models/crate___of_oak.glb",
		"picture own/crate___of_oak/materials/wood.png", "picture own/crate___of_oak/materials/iron.png",
		"motion own/crate___of_oak/anim/open.glb", "motion own/crate___of_oak/anim/shut.glb"}
	if got := paths(m); !slices.Equal(got, want) {
		t.Errorf("%v", got)
	}
	doc := documentOf(t, m.Files[0].Data)
	if len(doc.Images) != 2 || doc.Images[0].URI != "../materials/wood.png" ||
		doc.Images[1].MimeType != "image/png" || len(doc.Animations) != 0 {
		t.Errorf("%+v", doc.Images)
	}
	alone := documentOf(t, file(t, m, "own/crate___of_oak/anim/shut.glb"))
	if len(alone.Meshes) != 0 || len(alone.Animations) != 1 || alone.Animations[0].Name != "shut" {
		t.Errorf("%+v", alone)
	}
	if m.SearchFile != "paths.txt" || m.SearchLine != "Search own/crate___of_oak" {
		t.Errorf("%s: %s", m.SearchFile, m.SearchLine)
	}
	// The same twice gives the same bytes.
	b := made(t, crate(), sh, Options{})
	for i := range m.Files {
		if !bytes.Equal(m.Files[i].Data, b.Files[i].Data) {
			t.Errorf("%s has other bytes", m.Files[i].Path)
		}
	}
}

// Without a layout all is within one model.
func TestOneFile(t *testing.T) {
	m := made(t, crate(), nil, Options{})
	if got := paths(m); !slices.Equal(got, []string{"model crate___of_oak.glb"}) {
		t.Errorf("%v", got)
	}
	doc := documentOf(t, m.Files[0].Data)
	if len(doc.Images) != 2 || doc.Images[0].URI != "" || len(doc.Animations) != 2 {
		t.Errorf("%+v", doc)
	}
	o := made(t, crate(), nil, Options{Format: "obj"})
	if got := paths(o); len(got) < 4 || got[0] != "model crate___of_oak.obj" ||
		!slices.Contains(got, "model crate___of_oak.mtl") {
		t.Errorf("%v", got)
	}
	// A format that knows no motion says what is left out, however motions lie.
	for _, text := range []string{"ground: true", "motions: {apart: true}"} {
		o := made(t, crate(), sheet(t, text), Options{Format: "obj"})
		if !slices.ContainsFunc(o.Notes, func(n scene.Note) bool {
			return n.Loss &&
				strings.Contains(n.Text, "motion")
		}) {
			t.Errorf("%s: %v", text, o.Notes)
		}
	}
	// Levels of one asset share its pictures.
	levels := paths(made(t, crate(), nil, Options{Format: "obj", Levels: []float64{0.5}}))
	if n := strings.Count(strings.Join(levels, " "), "picture "); n != 2 ||
		!slices.Contains(levels, "level crate___of_oak_lod1.obj") {
		t.Errorf("%v", levels)
	}
	if _, err := maker.Make(context.Background(), crate(), nil, Options{Format: "clay"}); err == nil {
		t.Error("a format that is none is written")
	}
}

// Materials that the target has are used again, and their pictures stay here.
func TestMaterialsThatAreThere(t *testing.T) {
	m := made(t, crate(), sheet(t, "materials: {there: [iron]}\ndelivery: {pictures: p}"), Options{})
	if got := paths(m); !slices.Contains(got, "picture p/wood.png") ||
		slices.Contains(got, "picture p/iron.png") || !slices.Equal(m.Again, []string{"iron"}) {
		t.Errorf("%v, %v", got, m.Again)
	}
	if doc := documentOf(t, m.Files[0].Data); len(doc.Materials) != 2 || doc.Materials[1]["name"] != "iron" ||
		len(doc.Images) != 1 {
		t.Errorf("%+v", doc)
	}
}

// Pictures apart: one of each content, smaller where that is wanted, in the
// format of the layout; one that is missing is looked for where it belongs.
func TestPicturesApart(t *testing.T) {
	s := crate()
	s.Pictures[1].Data, s.Pictures[1].Width, s.Pictures[1].Height = s.Pictures[0].Data, 8, 8
	m := made(t, s, sheet(t, "delivery: {pictures: p}"), Options{})
	if len(m.Files) != 2 {
		t.Errorf("equal pictures are written twice: %v", paths(m))
	}
	m = made(t, crate(), sheet(t, "delivery: {pictures: p}"), Options{Longest: 4})
	c, err := png.DecodeConfig(bytes.NewReader(file(t, m, "p/iron.png")))
	if err != nil || c.Width != 4 || c.Height != 2 {
		t.Errorf("%d × %d, %v", c.Width, c.Height, err)
	}
	m = made(t, crate(), sheet(t, "delivery: {pictures: p, picture_format: dds}"), Options{})
	dds := file(t, m, "p/wood.dds")
	if string(dds[:4]) != "DDS " || binary.LittleEndian.Uint32(dds[16:]) != 8 {
		t.Error("it is no DDS of 8 texels")
	}
	if !slices.ContainsFunc(m.Notes, func(n scene.Note) bool {
		return strings.Contains(n.Text,
			"readers of plain glTF")
	}) {
		t.Errorf("%v", m.Notes)
	}
	gone := crate()
	gone.Pictures[0].Data, gone.Pictures[0].Found = nil, ""
	for text, want := range map[string]string{"delivery: {pictures: p}": "p/wood.png", "ground: true": "wood.png"} {
		m = made(t, gone, sheet(t, text), Options{})
		doc := documentOf(t, m.Files[0].Data)
		if len(doc.Images) != 2 || doc.Images[0].URI != want ||
			!slices.ContainsFunc(m.Notes, func(n scene.Note) bool {
				return n.Loss &&
					strings.Contains(n.Text, "wood")
			}) {
			t.Errorf("%s: %+v, %v", text, doc.Images, m.Notes)
		}
	}
}

func TestLevelsAndPicturesOfIt(t *testing.T) {
	m := made(t, crate(), nil, Options{Levels: []float64{0.5, 0.25}, Show: &Show{Width: 40, Height: 30}})
	if got := paths(m); !slices.Equal(got, []string{"model crate___of_oak.glb", "level crate___of_oak_lod1.glb",
		"level crate___of_oak_lod2.glb", "shown crate___of_oak.png"}) {
		t.Fatalf("%v", got)
	}
	var triangles []int
	for _, f := range m.Files[:3] {
		s, err := gltf.Read(context.Background(), format.File{Data: f.Data})
		if err != nil {
			t.Fatal(err)
		}
		triangles = append(triangles, s.Stats().Triangles)
	}
	if triangles[0] != 256 || triangles[1] > 128 || triangles[2] > 64 || triangles[2] == 0 {
		t.Errorf("%v", triangles)
	}
	if c, err := png.DecodeConfig(bytes.NewReader(m.Files[3].Data)); err != nil || c.Width != 40 {
		t.Errorf("%v", err)
	}
	for _, o := range []Options{{Levels: []float64{1}}, {Levels: make([]float64, 9)}, {Longest: -1},
		{Quality: 101}, {Show: &Show{Width: 0, Height: 5}}, {Show: &Show{Width: 5, Height: 9000}}} {
		if _, err := maker.Make(context.Background(), crate(), nil, o); err == nil {
			t.Errorf("%+v is made", o)
		}
	}
}

// Pictures of some roles are written in another way than the others.
func TestPicturesByRole(t *testing.T) {
	s := crate()
	s.Materials[1].Textures[0].Role = scene.RoleNormal
	m := made(t, s, sheet(t, "delivery: {pictures: p, picture_format: dds}"),
		Options{Longest: 4, Roles: map[scene.Role]PictureOptions{scene.RoleNormal: {Format: "png",
			Longest: 2}}})
	c, err := png.DecodeConfig(bytes.NewReader(file(t, m, "p/iron.png")))
	if err != nil || c.Width != 2 || c.Height != 1 {
		t.Errorf("%d × %d, %v", c.Width, c.Height, err)
	}
	if dds := file(t, m, "p/wood.dds"); binary.LittleEndian.Uint32(dds[16:]) != 4 {
		t.Error("the colour is not of 4 texels")
	}
	for _, o := range []Options{{Roles: map[scene.Role]PictureOptions{"shine": {}}},
		{Roles: map[scene.Role]PictureOptions{scene.RoleNormal: {Format: "clay"}}},
		{Roles: map[scene.Role]PictureOptions{scene.RoleNormal: {Longest: -3}}}} {
		if o.Check() == nil {
			t.Errorf("%+v is taken", o)
		}
	}
}

func TestTurntables(t *testing.T) {
	m := made(t, crate(), nil, Options{Show: &Show{Width: 32, Height: 24, Frames: 4}})
	b := file(t, m, "crate___of_oak.png")
	if n := bytes.Count(b, []byte("fcTL")); n != 4 || !bytes.Contains(b, []byte("acTL")) {
		t.Errorf("%d pictures", n)
	}
	for _, s := range []Show{{Width: 10, Height: 10, Frames: 241}, {Width: 4000, Height: 4000, Frames: 2},
		{Width: 10, Height: 10, Frames: -1}} {
		if (&Options{Show: &s}).Check() == nil {
			t.Errorf("%+v is taken", s)
		}
	}
}

// A layout that is given with the order stays within its folder as a sheet's does.
func TestLayoutsStayInTheirFolders(t *testing.T) {
	for _, l := range []target.Delivery{{Folder: "../up"}, {Folder: "/etc"}, {Model: "a/../../b"},
		{Pictures: `c:\x`}, {Model: "{what}"}, {Picture: "clay"}} {
		if _, err := maker.Make(context.Background(), crate(), nil, Options{Layout: &l}); err == nil {
			t.Errorf("%+v is made", l)
		}
	}
	m := made(t, crate(), nil, Options{Layout: &target.Delivery{Folder: "mine", Model: "a/{asset}"}})
	if got := paths(m); !slices.Equal(got, []string{"model mine/a/crate___of_oak.glb"}) {
		t.Errorf("%v", got)
	}
}

func TestRelativePaths(t *testing.T) {
	for _, c := range [][3]string{{".", "a.png", "a.png"}, {"x", "a.png", "../a.png"},
		{"x/y", "x/z/a.png", "../z/a.png"}, {"x", "x/a.png", "a.png"}, {"x/y/z", "a/b", "../../../a/b"}} {
		if got := relative(c[0], c[1]); got != c[2] {
			t.Errorf("%s from %s is %s, want %s", c[1], c[0], got, c[2])
		}
	}
}

func TestFileNames(t *testing.T) {
	for in, want := range map[string]string{"ferry_keeper": "ferry_keeper.glb", "../../x": "x.glb",
		"ä/b": "b.glb", "": "asset.glb", strings.Repeat("a", 300): strings.Repeat("a", 100) + ".glb"} {
		if got := FileName(in, ".glb"); got != want {
			t.Errorf("%q became %q, want %q", in, got, want)
		}
	}
}

// boats is a source with a crate, a licence and a letter.
func boats(t *testing.T) (*source.Source, []byte) {
	t.Helper()
	dir := t.TempDir()
	glb, _, err := gltf.Write(crate(), gltf.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"crate.glb": glb, "licence.txt": []byte("CC0-1.0"),
		"letter.txt":           []byte("Go ahead, Wren."),
		"crate.glb.terms.json": []byte(`{"owner": "Wren", "shareChanged": "yes", "permission": {"text": "Go ahead.", "date": "12 November 2026", "file": "letter.txt"}}`)} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	src, err := source.Open(context.Background(), dir, source.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { src.Close() })
	src.Label = "boats"
	return src, glb
}

// delivered is a whole delivery of the crate of boats.
func delivered(t *testing.T, src *source.Source, glb []byte) []byte {
	t.Helper()
	return packed(t, crated(t, src, glb, Options{}))
}

func packed(t testing.TB, files []File) []byte {
	t.Helper()
	zip, err := Package(files)
	if err != nil {
		t.Fatal(err)
	}
	return zip
}

// opened is the one delivery of a package.
func opened(t testing.TB, zip []byte) *Opened {
	t.Helper()
	list, err := Open(zip)
	if err != nil || len(list) != 1 {
		t.Fatalf("%d deliveries, %v", len(list), err)
	}
	return list[0]
}

const crateSheet = "target: test\nformat: glb\nground: true\ndelivery: {folder: \"{asset}\", pictures: p}\n"

// crated are the files of a delivery of the crate of boats.
func crated(t *testing.T, src *source.Source, glb []byte, o Options) []File {
	t.Helper()
	var origins find.Origins
	origins.Add(source.Hit{Source: src, Entry: src.Lookup("crate.glb")})
	s, err := gltf.Read(context.Background(), format.File{Name: "crate.glb", Data: glb})
	if err != nil {
		t.Fatal(err)
	}
	doc, err := chain.Parse([]byte("chain: crate to engine\nsteps:\n- step: scale\n  with: {factor: 2}\n"))
	if err != nil {
		t.Fatal(err)
	}
	bands, err := chain.Run(context.Background(), "x", s, doc, nil, nil, nil)
	if err != nil || chain.Failed(bands) != nil {
		t.Fatal(err)
	}
	text := []byte(crateSheet)
	sh, err := target.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	m := made(t, chain.Last(bands).Scene, sh, o)
	files, _, err := maker.Whole(m, Of{Found: s, Chain: doc, Origins: origins.List("crate.glb", nil),
		Sheet: sh, SheetDoc: text, Findings: target.Rehearse(chain.Last(bands).Scene, sh),
		Purpose: terms.Changed, Input: &Input{Entry: "crate.glb", SHA256: digest(glb)}, Options: o})
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// A delivery names what it is made of, carries its letters, and can be checked
// and made again.
func TestDeliveriesAreChecked(t *testing.T) {
	src, glb := boats(t)
	z := delivered(t, src, glb)
	if again := delivered(t, src, glb); !bytes.Equal(z, again) {
		t.Error("the same delivery has other bytes")
	}
	o := opened(t, z)
	m := o.Manifest
	if o.Folder != m.Asset || m.Format != 2 || m.Target != "test" || m.Purpose != terms.Changed ||
		len(m.Sources) != 1 || m.Sources[0].Name != "boats" ||
		fmt.Sprint(m.Sources[0].Entries) != "[crate.glb]" || m.Sources[0].Rights.Owner != "Wren" ||
		m.Versions["scale"] == 0 || m.Excavate != "9.9" || !slices.Contains(m.Held, "ground") {
		t.Errorf("%+v", m)
	}
	letter := ""
	for p, b := range o.Files {
		if strings.Contains(p, "/permissions/") {
			letter = string(b)
		}
	}
	if letter != "Go ahead, Wren." || m.Sources[0].Rights.Permission.Date != "12 November 2026" {
		t.Errorf("the letter does not travel: %q", letter)
	}
	if f := o.Faults(); f != nil {
		t.Errorf("%v", f)
	}
	lib := &find.Library{Formats: format.Registry{{Name: "glb",
		Probe: func(h []byte) bool { return bytes.HasPrefix(h, []byte("glTF")) }, Read: gltf.Read}}}
	r, err := maker.Again(context.Background(), o, Sources{Lib: lib, Stack: source.Stack{src},
		Finder: source.Stack{src}})
	if err != nil || !r.Same || len(r.Notes) != 0 {
		t.Errorf("%+v, %v", r, err)
	}
	// Another version, another source: told.
	other := &Maker{Writers: maker.Writers, Version: "10"}
	if r, err := other.Again(context.Background(), o,
		Sources{Lib: lib, Stack: source.Stack{src}, Finder: source.Stack{src}}); err != nil || r.Same ||
		len(r.Notes) != 1 || !strings.Contains(r.Differ[0].Says, "offset") {
		t.Errorf("%+v, %v", r, err)
	}
	if _, err := maker.Again(context.Background(), o, Sources{Lib: lib, Finder: source.Stack{}}); err == nil ||
		!strings.Contains(err.Error(), "hold no crate.glb") {
		t.Errorf("%v", err)
	}
	// What was tampered with is told.
	for _, c := range []struct {
		do   func(map[string][]byte)
		says string
	}{
		{func(f map[string][]byte) { f[m.File][40] ^= 1 }, "others than when it was made"},
		{func(f map[string][]byte) { f[m.File] = f[m.File][:100] }, "it has 100 bytes"},
		{func(f map[string][]byte) { delete(f, m.File) }, "it is missing"},
		{func(f map[string][]byte) { f["more.exe"] = []byte("x") }, "not in the manifest"},
	} {
		p := opened(t, z)
		p.Files[m.File] = slices.Clone(p.Files[m.File])
		c.do(p.Files)
		if f := p.Faults(); len(f) != 1 || !strings.Contains(f[0].Says, c.says) {
			t.Errorf("%q: %+v", c.says, f)
		}
	}
}

// zipOf packs files as they are given, twice where they stand twice.
func zipOf(t testing.TB, files ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := 0; i+1 < len(files); i += 2 {
		f, err := w.Create(files[i])
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(f, files[i+1])
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestHostilePackages(t *testing.T) {
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"no zip":      {[]byte("x"), "no package"},
		"no manifest": {zipOf(t, "a.glb", "x"), "no manifest.json"},
		"broken":      {zipOf(t, "manifest.json", "{"), "manifest.json"},
		"of later":    {zipOf(t, "manifest.json", `{"manifest": 7}`), "version 7"},
		"out":         {zipOf(t, "../manifest.json", `{"manifest": 2}`), "leads out"},
		"absolute":    {zipOf(t, "/etc/x", "x", "manifest.json", `{"manifest": 2}`), "leads out"},
		"twice":       {zipOf(t, "a", "x", "a", "y", "manifest.json", `{"manifest": 2}`), "stands in it twice"},
	} {
		if _, err := Open(c.data); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	// One of the first version is still read.
	o := opened(t, zipOf(t, "x.glb", "abc", "chain.yaml", "", "manifest.json",
		`{"manifest": 1, "file": "x.glb", "sha256": "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"}`))
	if o.Faults() != nil {
		t.Errorf("%v", o.Faults())
	}
}

func FuzzOpen(f *testing.F) {
	f.Add(zipOf(f, "a/manifest.json", `{"manifest": 2, "files": [{"path": "a/x", "size": 1}]}`, "a/x", "y"))
	f.Fuzz(func(t *testing.T, b []byte) {
		list, err := Open(b)
		if err == nil && len(list) == 0 {
			t.Error("a package of nothing")
		}
		for _, o := range list {
			o.Faults()
		}
	})
}

// A delivery is put into a folder of its own. Put there again it replaces what
// it made, and nothing that was changed since or is somebody else's.
func TestPlaces(t *testing.T) {
	src, glb := boats(t)
	z := delivered(t, src, glb)
	open := func() *Opened { return opened(t, z) }
	root := t.TempDir()
	at := func(p string) string { return filepath.Join(root, filepath.FromSlash(p)) }
	p, err := Place(root, open(), false)
	if err != nil || len(p.Made) != len(open().Files) || p.Kept != nil || p.Search != nil {
		t.Fatalf("%+v, %v", p, err)
	}
	name := open().Manifest.File
	if b, err := os.ReadFile(at(name)); err != nil || !bytes.Equal(b, open().Files[name]) {
		t.Errorf("%v", err)
	}
	if p, err = Place(root, open(), false); err != nil || len(p.Same) != len(open().Files) || p.Made != nil ||
		p.Replaced != nil {
		t.Errorf("%+v, %v", p, err)
	}
	// The porter paints one picture; a new delivery of the same asset keeps it.
	painted := at("asset/p/wood.png")
	if o := open().Folder; o != "asset" {
		painted = at(o + "/p/wood.png")
	}
	if err := os.WriteFile(painted, []byte("painted"), 0o644); err != nil {
		t.Fatal(err)
	}
	next := open()
	next.Files[name] = append(slices.Clone(next.Files[name]), 0)
	next.Files[next.Folder+"/p/wood.png"] = []byte("another picture")
	if p, err = Place(root, next, false); err != nil || !slices.Equal(p.Replaced, []string{name}) || len(p.Kept) != 1 {
		t.Errorf("%+v, %v", p, err)
	}
	if b, _ := os.ReadFile(painted); string(b) != "painted" {
		t.Error("what the porter painted is gone")
	}
	if left, _ := filepath.Glob(at("*/*.part")); left != nil {
		t.Errorf("left behind: %v", left)
	}
	// A folder with another asset in it is left alone.
	stranger := open()
	stranger.Manifest.Asset = "another"
	if _, err := Place(root, stranger, false); err == nil || !strings.Contains(err.Error(), "holds a delivery of") {
		t.Errorf("%v", err)
	}
	if _, err := Place(filepath.Join(root, "none"), open(), false); err == nil {
		t.Error("a folder that is not there is written to")
	}
}

// The line that the target's search path needs is added once, with a backup.
func TestSearchPaths(t *testing.T) {
	root := t.TempDir()
	o := opened(t, zipOf(t, "x_custom/manifest.json",
		`{"manifest": 2, "asset": "x", "search": {"file": "paths.txt", "line": "Search x_custom"}}`))
	file := filepath.Join(root, "paths.txt")
	if err := os.WriteFile(file, []byte("Search base\r\nSearch more"), 0o644); err != nil {
		t.Fatal(err)
	}
	if p, err := Place(root, o, false); err != nil || p.Search == nil || p.Search.Line != "Search x_custom" {
		t.Errorf("%+v, %v", p, err)
	}
	p, err := Place(root, o, true)
	if err != nil || p.Search != nil || p.Backup != "paths.txt.before-1" {
		t.Fatalf("%+v, %v", p, err)
	}
	text, _ := os.ReadFile(file)
	was, _ := os.ReadFile(filepath.Join(root, p.Backup))
	if string(text) != "Search base\r\nSearch more\r\nSearch x_custom\r\n" ||
		string(was) != "Search base\r\nSearch more" {
		t.Errorf("%q, %q", text, was)
	}
	if p, err = Place(root, o, true); err != nil || p.Backup != "" || p.Search != nil {
		t.Errorf("%+v, %v", p, err)
	}
	// Where there is none it is made.
	other := t.TempDir()
	if p, err = Place(other, o, true); err != nil || p.Backup != "" {
		t.Errorf("%+v, %v", p, err)
	}
	if b, _ := os.ReadFile(filepath.Join(other, "paths.txt")); string(b) != "Search x_custom\n" {
		t.Errorf("%q", b)
	}
}

// What lies there under the names that are written aside is somebody's.
func TestNothingBesideIsTouched(t *testing.T) {
	root := t.TempDir()
	o := opened(t, zipOf(t, "x/manifest.json", `{"manifest": 2, "asset": "x"}`, "x/a.glb", "data"))
	if err := os.Mkdir(filepath.Join(root, "x"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, n := range []string{"a.glb.part", "a.glb.part-1"} {
		if err := os.WriteFile(filepath.Join(root, "x", n), []byte("mine"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if p, err := Place(root, o, false); err != nil || len(p.Made) != 2 {
		t.Fatalf("%+v, %v", p, err)
	}
	for n, want := range map[string]string{"a.glb": "data", "a.glb.part": "mine", "a.glb.part-1": "mine"} {
		if b, err := os.ReadFile(filepath.Join(root, "x", n)); err != nil || string(b) != want {
			t.Errorf("%s: %q, %v", n, b, err)
		}
	}
	if list, _ := os.ReadDir(filepath.Join(root, "x")); len(list) != 4 {
		t.Errorf("%v", list)
	}
}

// A link within the folder does not lead a delivery out of it.
func TestLinksLeadNowhere(t *testing.T) {
	root, outside := t.TempDir(), t.TempDir()
	if err := os.Symlink(outside, filepath.Join(root, "x")); err != nil {
		t.Skip(err)
	}
	o := opened(t, zipOf(t, "x/manifest.json", `{"manifest": 2, "asset": "x"}`, "x/a.glb", "data"))
	if p, err := Place(root, o, false); err == nil {
		t.Errorf("%+v", p)
	}
	if list, _ := os.ReadDir(outside); len(list) != 0 {
		t.Errorf("it was written to: %v", list)
	}
}

func TestRefusals(t *testing.T) {
	origins := []find.Origin{{Source: "a", Rights: &terms.Terms{ShareChanged: terms.Yes}},
		{Source: "b", Text: "All rights reserved."},
		{Source: "c", Rights: &terms.Terms{ShareChanged: terms.No, Licence: "no"}}}
	got := Refusals(origins, terms.Changed)
	if len(got) != 2 || got[0].Source != "b" || got[0].Says != "All rights reserved." ||
		got[1].Why != "it may not be passed on changed" {
		t.Errorf("%+v", got)
	}
	if got := Refusals(origins, terms.Myself); got != nil {
		t.Errorf("%+v", got)
	}
}
