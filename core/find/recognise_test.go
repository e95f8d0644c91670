package find_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/find"
	"excavate/core/layout"
	"excavate/core/source"
	"excavate/internal/shipped"
)

// with is the library with layouts of the porter's own.
func with(t *testing.T, docs ...string) *find.Library {
	t.Helper()
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	var own []*layout.Layout
	for i, d := range docs {
		l, err := layout.Compile("own", []byte(d))
		if err != nil {
			t.Fatalf("layout %d: %v", i, err)
		}
		own = append(own, l)
	}
	return &find.Library{Layouts: lib.Layouts.Ahead(own...), Formats: lib.Formats}
}

// sheet is a layout of pictures that begins with a mark, and says in a must
// what its files hold.
func sheet(name, mark, must string) string {
	return "layout: " + name + "\nkind: picture\nrecognise:\n  - {at: 0, bytes: " + mark + "}\nfields:\n  - mark: u16\n  - width:\n      type: u16\n      must: " + must +
		"\n  - height: u16\npicture: {width: width, height: height, format: r8g8b8a8, at: 6}\n"
}

func tga(w, h uint16) []byte {
	b := make([]byte, 18+4*int(w)*int(h))
	b[2], b[16], b[17] = 2, 32, 0x28
	binary.LittleEndian.PutUint16(b[12:], w)
	binary.LittleEndian.PutUint16(b[14:], h)
	for i := range b[18:] {
		b[18+i] = byte(i)
	}
	return b
}

// A layout whose mark other things have as well does not take them away.
func TestALooseLayoutHijacksNothing(t *testing.T) {
	lib := with(t, sheet("loose", "00 00", "width > 0"), sheet("half a png", "89 50", "width > 0"), sheet("half a zip", "50 4b", "width > 0"))
	ctx := context.Background()
	pic, err := lib.Picture(ctx, tga(3, 2))
	if err != nil || pic.Format != "tga" || pic.Width != 3 || pic.Height != 2 {
		t.Errorf("%+v %v", pic.Format, err)
	}
	for name, head := range map[string]string{"png": "\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR", "zip": "PK\x03\x04aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", "tga": string(tga(3, 2))} {
		if _, got := lib.KindOf("x", []byte(head)); got != name {
			t.Errorf("%s is taken for %q", name, got)
		}
	}
	// What nothing else knows is the layout's.
	own := append([]byte{0, 0, 2, 0, 1, 0}, 1, 2, 3, 255, 4, 5, 6, 255)
	if pic, err = lib.Picture(ctx, own); err != nil || pic.Format != "loose" || pic.Width != 2 {
		t.Errorf("%+v %v", pic, err)
	}
	// A folder stays open, whatever loose containers are there.
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	f, _ := w.Create("reed.txt")
	f.Write([]byte("reed"))
	w.Close()
	name := filepath.Join(t.TempDir(), "a.zip")
	os.WriteFile(name, z.Bytes(), 0o644)
	loose := with(t, "layout: packs\nkind: container\nrecognise:\n  - {at: 0, ascii: PK}\nfields:\n  - n: u32\ncontainer:\n  each: range(1)\n  as: e\n  name: \"'x'\"\n  at: \"0\"\n  size: \"2\"\n")
	src, err := source.Open(ctx, name, source.Options{Layouts: loose.Layouts})
	if err != nil || src.Format != "zip" || len(src.Entries()) != 1 {
		t.Fatalf("%v %+v", err, src)
	}
	src.Close()
}

// A must that fails says "not mine": the next one that knows the file is
// tried, and only when none takes it, each one's objection is told.
func TestAMustThatFailsLetsTheNextTry(t *testing.T) {
	lib := with(t, sheet("narrow", "57 58 59 5a", "width < 4"), sheet("wide", "57 58 59 5a", "width > 100"))
	// The mark is four bytes here, the width its last two: 0x5a59 = 23129.
	_, err := lib.Picture(context.Background(), append([]byte("WXYZ\x01\x00"), make([]byte, 4*23129)...))
	if err != nil {
		t.Errorf("the second layout takes it: %v", err)
	}
	lib = with(t, sheet("narrow", "57 58 59 5a", "width < 4"), sheet("none", "57 58 59 5a", "width == 7"))
	_, err = lib.Picture(context.Background(), []byte("WXYZ\x01\x00"))
	if err == nil || !strings.Contains(err.Error(), "layout narrow") || !strings.Contains(err.Error(), "layout none") {
		t.Errorf("not every objection is told: %v", err)
	}
}

// A layout of a folder that does not compile is left out, and said.
func TestABadLayoutIsLeftOut(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "a.yaml"), []byte("layout: [\n"), 0o644)
	os.WriteFile(filepath.Join(dir, "b.yaml"), []byte(sheet("good", "57 58 59 5a", "width > 0")), 0o644)
	var bad []error
	lib, err := shipped.Library(func(err error) { bad = append(bad, err) }, dir)
	if err != nil || len(bad) != 1 || !strings.Contains(bad[0].Error(), "a.yaml") || !strings.Contains(bad[0].Error(), "left out") {
		t.Fatalf("%v %v", err, bad)
	}
	if _, name := lib.KindOf("", []byte("WXYZ\x01\x00")); name != "good" {
		t.Errorf("the good one is %q", name)
	}
	for _, dir := range []string{t.TempDir(), filepath.Join(dir, "gone")} {
		if _, err := shipped.Library(nil, dir); err == nil || !strings.Contains(err.Error(), dir) {
			t.Errorf("%s: %v", dir, err)
		}
	}
}

// Zipped COLLADA is a model, told by its manifest or by its ending.
func TestZippedCollada(t *testing.T) {
	const doc = `<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1"><asset><unit meter="1"/><up_axis>Y_UP</up_axis></asset>
<library_geometries><geometry id="g"><mesh><source id="p"><float_array id="pa" count="9">0 0 0 1 0 0 0 1 0</float_array><technique_common><accessor source="#pa" count="3" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
<vertices id="v"><input semantic="POSITION" source="#p"/></vertices><triangles count="1"><input semantic="VERTEX" source="#v" offset="0"/><p>0 1 2</p></triangles></mesh></geometry></library_geometries>
<library_visual_scenes><visual_scene id="s"><node id="n"><instance_geometry url="#g"/></node></visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>`
	pack := func(files ...string) []byte {
		var z bytes.Buffer
		w := zip.NewWriter(&z)
		for i := 0; i < len(files); i += 2 {
			f, _ := w.Create(files[i])
			f.Write([]byte(files[i+1]))
		}
		w.Close()
		return z.Bytes()
	}
	lib := with(t)
	manifest := `<?xml version="1.0"?><dae_root>./boats/punt.dae</dae_root>`
	for name, c := range map[string]struct {
		file string
		data []byte
		want string
	}{
		"by its manifest":       {"punt.zip", pack("manifest.xml", manifest, "boats/punt.dae", doc), ""},
		"by its ending":         {"punt.ZAE", pack("boats/punt.dae", doc, "manifest.xml", manifest), ""},
		"without a manifest":    {"punt.zae", pack("readme.txt", "x", "punt.dae", doc), ""},
		"two documents":         {"punt.zae", pack("a.dae", doc, "b.dae", doc), "does not say which"},
		"none":                  {"punt.zae", pack("a.txt", "x"), "no COLLADA document"},
		"a root that is absent": {"punt.zae", pack("manifest.xml", manifest), "boats/punt.dae"},
	} {
		s, format, err := lib.Decode(context.Background(), find.Input{Name: c.file, Data: c.data})
		switch {
		case c.want == "" && (err != nil || format != "zae" || s.Stats().Triangles != 1):
			t.Errorf("%s: %v %s", name, err, format)
		case c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	// Any other archive with a document stays an archive.
	if kind, _ := lib.KindOf("boats.zip", pack("boats/punt.dae", doc)); kind != find.Archive {
		t.Errorf("it is %s", kind)
	}
	// A part that unpacks out of all proportion is refused before it is.
	blank := pack("manifest.xml", manifest, "boats/punt.dae", doc+strings.Repeat(" ", 64<<20))
	if _, _, err := lib.Decode(context.Background(), find.Input{Name: "x.zae", Data: blank}); err == nil || !strings.Contains(err.Error(), "times as many") {
		t.Errorf("a blank part: %v", err)
	}
}
