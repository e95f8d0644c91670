package find_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"excavate/core/find"
	"excavate/core/geom"
	"excavate/core/source"
	"excavate/internal/demo"
	"excavate/internal/shipped"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"
)

func library(t testing.TB) *find.Library {
	t.Helper()
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	return lib
}

// demoStack mounts some of the demo's archives.
func demoStack(t testing.TB, lib *find.Library, names ...string) source.Stack {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(dir, nil); err != nil {
		t.Fatal(err)
	}
	var st source.Stack
	for _, n := range names {
		s, err := source.Open(context.Background(), filepath.Join(dir, n), source.Options{Layouts: lib.Layouts})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		st = append(st, s)
	}
	return st
}

func decode(t testing.TB, lib *find.Library, st source.Stack, path string) (string, *find.Inspection, error) {
	t.Helper()
	for _, s := range st {
		if i := s.Lookup(path); i >= 0 {
			data, err := s.Read(i)
			if err != nil {
				t.Fatal(err)
			}
			sc, f, err := lib.Decode(context.Background(), find.Input{Name: path, Data: data, Stack: st})
			if err != nil {
				return f, nil, err
			}
			x := find.Inspect(path, f, sc)
			return f, &x, nil
		}
	}
	t.Fatalf("%s is in no source", path)
	return "", nil, nil
}

func TestEveryModelOfTheDemo(t *testing.T) {
	lib := library(t)
	st := demoStack(t, lib, "hulls.tide", "washes.tide", "winter.tide", "harbour.zip")
	for _, c := range []struct {
		path, format     string
		triangles, bones int
		meshes, motions  int
		size             [3]float64 // metres in the file's own axes, as the generator models it
	}{
		{"figures/ferry_keeper.hull", "hull mesh 7", 6752, 27, 1, 1, [3]float64{0.845, 0.529, 2.224}},
		{"fauna/heron.hull", "hull mesh 7", 3092, 10, 1, 1, [3]float64{0.520, 1.789, 2.035}},
		{"boats/punt.hull", "hull mesh 7", 860, 0, 1, 0, [3]float64{1.1, 5.256, 0.498}},
		{"houses/stilt_house.hull", "hull mesh 7", 1692, 0, 2, 0, [3]float64{5.6, 4.64, 6.184}},
		{"pontoon.glb", "glb", 628, 0, 1, 0, [3]float64{4, 0.450, 2.308}},
	} {
		f, x, err := decode(t, lib, st, c.path)
		if err != nil || f != c.format {
			t.Errorf("%s: %s, %v", c.path, f, err)
			continue
		}
		if x.Triangles != c.triangles || x.Bones != c.bones || x.Meshes != c.meshes || len(x.Motions) != c.motions || !x.Normals || x.UVSets != 1 {
			t.Errorf("%s: %+v", c.path, x)
		}
		for k := range c.size {
			if math.Abs(x.Size[k]-c.size[k]) > 0.002 {
				t.Errorf("%s: size %v, want %v", c.path, *x.Size, c.size)
				break
			}
		}
		for _, p := range x.Pictures {
			if !p.Found {
				t.Errorf("%s: %s is missing", c.path, p.Name)
			}
		}
	}
}

// TestNormalsLookOutwards: with our winding, a face's own normal and its
// vertices' normals point to the same side, in the file's numbers and in any
// other basis.
func TestNormalsLookOutwards(t *testing.T) {
	lib := library(t)
	st := demoStack(t, lib, "hulls.tide", "washes.tide", "winter.tide")
	data, err := st[0].Read(st[0].Lookup("figures/ferry_keeper.hull"))
	if err != nil {
		t.Fatal(err)
	}
	sc, _, err := lib.Decode(context.Background(), find.Input{Name: "k", Data: data, Stack: st})
	if err != nil {
		t.Fatal(err)
	}
	turned, err := sc.InBasis(geom.GLTF)
	if err != nil {
		t.Fatal(err)
	}
	for name, s := range map[string]*struct{ good, bad int }{"as found": {}, "in glTF's basis": {}} {
		use := sc
		if name != "as found" {
			use = turned
		}
		for _, p := range use.Meshes[0].Parts {
			for i := 0; i+2 < len(p.Triangles); i += 3 {
				at := func(v uint32, d []float32) geom.Vec3 {
					return geom.Vec3{float64(d[3*v]), float64(d[3*v+1]), float64(d[3*v+2])}
				}
				a, b, c := p.Triangles[i], p.Triangles[i+1], p.Triangles[i+2]
				f := at(b, p.Positions).Sub(at(a, p.Positions)).Cross(at(c, p.Positions).Sub(at(a, p.Positions)))
				n := at(a, p.Normals).Add(at(b, p.Normals)).Add(at(c, p.Normals))
				if f.Dot(n) > 0 {
					s.good++
				} else {
					s.bad++
				}
			}
		}
		if s.bad*50 > s.good {
			t.Errorf("%s: %d faces look inwards, %d outwards", name, s.bad, s.good)
		}
	}
}

func TestAMissingPictureIsFoundOnceItsSourceIsThere(t *testing.T) {
	lib := library(t)
	st := demoStack(t, lib, "hulls.tide", "washes.tide", "winter.tide")
	_, x, err := decode(t, lib, st[:2], "figures/ferry_keeper.hull")
	if err != nil || x.Pictures[1].Found || len(x.Notes) != 3 {
		t.Fatalf("%+v %v", x, err)
	}
	for _, want := range []string{"wash/keeper/keeper_gear_c.tga", "any ending", "any folder", "hulls.tide, washes.tide"} {
		if !strings.Contains(strings.Join(x.Notes, "\n"), want) {
			t.Errorf("the notes do not say %q: %q", want, x.Notes)
		}
	}
	if _, x, _ = decode(t, lib, st, "figures/ferry_keeper.hull"); !x.Pictures[1].Found || len(x.Notes) != 0 {
		t.Errorf("%+v", x)
	}
}

func TestKindsAreToldByBytes(t *testing.T) {
	lib := library(t)
	var p bytes.Buffer
	png.Encode(&p, image.NewGray(image.Rect(0, 0, 1, 1)))
	for name, c := range map[string]struct {
		head   []byte
		kind   find.Kind
		format string
	}{
		"png": {p.Bytes(), find.Picture, "png"}, "zip": {[]byte("PK\x03\x04...."), find.Archive, "zip"},
		"tide": {[]byte("TIDE\x03\x00"), find.Archive, "tide pack 3"}, "hull": {[]byte("HULL\x07\x00"), find.Model, "hull mesh 7"},
		"wash": {[]byte("WASH\x02\x00"), find.Picture, "wash picture 2"}, "glb": {[]byte("glTF\x02\x00\x00\x00"), find.Model, "glb"},
		"gltf": {[]byte("\ufeff  {\"asset\": {}}"), find.Model, "gltf"}, "json": {[]byte(`{"a": 1}`), find.Text, "UTF-8"},
		"text": {[]byte("Grüße vom Fährmann\n"), find.Text, "UTF-8"}, "noise": {[]byte{0, 1, 2, 0xff}, find.Data, ""},
		"empty": {nil, find.Data, ""}, "latin1": {[]byte("Gr\xfc\xdfe"), find.Data, ""}, "wav": {[]byte("RIFF\x00\x00\x00\x00WAVE"), find.Sound, "wav"},
	} {
		if k, f := lib.KindOf("", c.head); k != c.kind || f != c.format {
			t.Errorf("%s is %s %q, want %s %q", name, k, f, c.kind, c.format)
		}
	}
	// A text that is cut in the middle of a letter is still one.
	long := []byte(strings.Repeat("a", find.HeadBytes-1) + "é")[:find.HeadBytes]
	if k, _ := lib.KindOf("", long); k != find.Text {
		t.Errorf("a cut text is %s", k)
	}
}

// TestAGLTFFindsItsCompanions reads a glTF whose buffer lies beside it and
// whose picture is in another source, in a layout's format.
func TestAGLTFFindsItsCompanions(t *testing.T) {
	lib := library(t)
	dir := t.TempDir()
	os.MkdirAll(filepath.Join(dir, "models"), 0o755)
	var bin []byte
	for _, f := range []float32{0, 0, 0, 1, 0, 0, 0, 1, 0} {
		bin = binary.LittleEndian.AppendUint32(bin, math.Float32bits(f))
	}
	os.WriteFile(filepath.Join(dir, "models", "my mesh.bin"), bin, 0o644)
	doc := map[string]any{
		"asset": map[string]any{"version": "2.0"}, "nodes": []any{map[string]any{"mesh": 0}},
		"meshes":      []any{map[string]any{"primitives": []any{map[string]any{"attributes": map[string]any{"POSITION": 0}, "material": 0}}}},
		"materials":   []any{map[string]any{"pbrMetallicRoughness": map[string]any{"baseColorTexture": map[string]any{"index": 0}}}},
		"textures":    []any{map[string]any{"source": 0}, map[string]any{"source": 1}},
		"images":      []any{map[string]any{"uri": "../wash/boats/punt_c.png"}, map[string]any{"uri": "gone.png"}},
		"accessors":   []any{map[string]any{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}},
		"bufferViews": []any{map[string]any{"buffer": 0, "byteLength": 36}}, "buffers": []any{map[string]any{"byteLength": 36, "uri": "my%20mesh.bin"}},
	}
	text, _ := json.Marshal(doc)
	os.WriteFile(filepath.Join(dir, "models", "x.gltf"), text, 0o644)
	folder, err := source.Open(context.Background(), dir, source.Options{Layouts: lib.Layouts})
	if err != nil {
		t.Fatal(err)
	}
	defer folder.Close()
	st := append(demoStack(t, lib, "washes.tide"), folder)
	f, x, err := decode(t, lib, st, "models/x.gltf")
	if err != nil || f != "gltf" || x.Triangles != 1 {
		t.Fatalf("%s %v %+v", f, err, x)
	}
	if !x.Pictures[0].Found || x.Pictures[1].Found || x.Pictures[1].Name != "gone.png" || len(x.Notes) == 0 {
		t.Errorf("pictures %+v, notes %q", x.Pictures, x.Notes)
	}
}

func TestWhatIsNoModel(t *testing.T) {
	lib := library(t)
	st := demoStack(t, lib, "hulls.tide", "washes.tide")
	if _, _, err := decode(t, lib, st, "wash/boats/punt_c.wash"); err == nil ||
		!strings.Contains(err.Error(), "it is a picture") {
		t.Errorf("a picture: %v", err)
	}
	if _, _, err := decode(t, lib, st, "licence.txt"); err == nil ||
		!strings.Contains(err.Error(), "text, not a model") {
		t.Errorf("a text: %v", err)
	}
	for name, c := range map[string]struct {
		data []byte
		want string
	}{"nothing": {nil, "empty"}, "noise": {[]byte{9, 8, 7, 0}, "09 08 07 00"}, "archive": {[]byte("TIDE"), "archive"}} {
		if _, _, err := lib.Decode(context.Background(), find.Input{Data: c.data}); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if p, err := lib.Picture(context.Background(), []byte("WASH\x02\x00\x09\x00\x01\x00\x01\x00")); err == nil || !strings.Contains(err.Error(), "offset") {
		t.Errorf("a broken picture: %v %v", p, err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	data, _ := st[0].Read(st[0].Lookup("boats/punt.hull"))
	if _, _, err := lib.Decode(ctx, find.Input{Name: "p", Data: data}); err == nil {
		t.Error("a cancelled decoding went on")
	}
}

func TestPicturesOfTheDemo(t *testing.T) {
	lib := library(t)
	st := demoStack(t, lib, "washes.tide", "winter.tide")
	n := 0
	for _, s := range st {
		for i, e := range s.Entries() {
			if !strings.HasSuffix(e.Path, ".wash") {
				continue
			}
			data, err := s.Read(i)
			if err != nil {
				t.Fatal(err)
			}
			p, err := lib.Picture(context.Background(), data)
			if err != nil {
				t.Errorf("%s: %v", e.Path, err)
				continue
			}
			img, err := png.Decode(bytes.NewReader(p.Data))
			if err != nil || img.Bounds().Dx() != p.Width {
				t.Errorf("%s: %v", e.Path, err)
				continue
			}
			seen := map[string]bool{}
			for k := 0; k < p.Width; k++ {
				seen[fmt.Sprint(img.At(k, (k*7)%p.Height))] = true
			}
			if len(seen) < 16 {
				t.Errorf("%s has %d colours along a line", e.Path, len(seen))
			}
			n++
		}
	}
	if n != 7 {
		t.Errorf("%d pictures", n)
	}
}

func BenchmarkDecodeKeeper(b *testing.B) {
	lib := library(b)
	st := demoStack(b, lib, "hulls.tide", "washes.tide", "winter.tide")
	data, _ := st[0].Read(st[0].Lookup("figures/ferry_keeper.hull"))
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		if _, _, err := lib.Decode(context.Background(), find.Input{Name: "k", Data: data, Stack: st}); err != nil {
			b.Fatal(err)
		}
	}
}

func TestTextEncodings(t *testing.T) {
	text := "Die Fähre legt ab, sobald die Flut kommt. "
	kana := "ランタンを灯して、舟をこぎだす。"
	encode := func(e interface {
		NewEncoder() *encoding.Encoder
	}, s string) []byte {
		b, err := e.NewEncoder().Bytes([]byte(s))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	for name, c := range map[string]struct {
		bytes []byte
		want  string
	}{
		find.UTF8:     {[]byte(text), text},
		find.UTF16LE:  {encode(unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), text), text},
		find.UTF16BE:  {encode(unicode.UTF16(unicode.BigEndian, unicode.UseBOM), text), text},
		find.ShiftJIS: {encode(japanese.ShiftJIS, kana), kana},
		find.Latin1:   {encode(charmap.Windows1252, text), text},
	} {
		if got := find.TextEncoding(c.bytes); got != name {
			t.Errorf("%s is taken for %q", name, got)
		} else if got := find.DecodeText(c.bytes, name); got != c.want {
			t.Errorf("%s: %q", name, got)
		}
		for cut := range c.bytes { // cut off anywhere, it must not panic
			find.DecodeText(c.bytes[:cut], find.TextEncoding(c.bytes[:cut]))
		}
	}
	for _, b := range [][]byte{nil, {0}, []byte("\x89PNG\r\n\x1a\n\x00\x00"), bytes.Repeat([]byte{0x83, 0x41, 0x05}, 20), bytes.Repeat([]byte{0xe5, 0xc4}, 40)} {
		if got := find.TextEncoding(b); got != "" {
			t.Errorf("% x is taken for %s", b, got)
		}
	}
}

func TestAsks(t *testing.T) {
	lib := library(t)
	st := demoStack(t, lib, "hulls.tide")
	i := st[0].Lookup("figures/ferry_keeper.hull")
	data, err := st[0].Read(i)
	if err != nil {
		t.Fatal(err)
	}
	asks, err := lib.Asks(context.Background(), find.Input{Name: "figures/ferry_keeper.hull", Data: data})
	if err != nil || len(asks) < 2 {
		t.Fatalf("%v %v", asks, err)
	}
	for _, a := range asks {
		if a.Ref == "" || a.Role == "" || a.Role == find.RoleFile {
			t.Errorf("%+v", a)
		}
	}
	gltf := `{"asset":{"version":"2.0"},"buffers":[{"uri":"punt.bin","byteLength":12}],"images":[{"uri":"punt_c.png"}]}`
	asks, _ = lib.Asks(context.Background(), find.Input{Name: "punt.gltf", Data: []byte(gltf)})
	if len(asks) == 0 || asks[0].Ref != "punt.bin" && asks[0].Ref != "punt_c.png" {
		t.Errorf("%v", asks)
	}
}

// FuzzText holds that any bytes can be shown as a text.
func FuzzText(f *testing.F) {
	f.Add([]byte("\xff\xfea\x00"), uint8(1))
	f.Add([]byte{0x83, 0x89, 0x83}, uint8(3))
	f.Fuzz(func(t *testing.T, b []byte, k uint8) {
		find.TextEncoding(b)
		enc := []string{find.UTF8, find.UTF16LE, find.UTF16BE, find.ShiftJIS, find.Latin1}[k%5]
		if s := find.DecodeText(b, enc); !utf8.ValidString(s) {
			t.Errorf("%q is no UTF-8", s)
		}
	})
}
