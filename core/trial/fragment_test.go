package trial

import (
	"strings"
	"testing"

	"excavate/core/layout"
)

// Every trial, and every choice of one, makes a layout that compiles and is of
// the right kind.
func TestFragmentsCompile(t *testing.T) {
	at := int64(54)
	cases := map[string]Fragment{"nothing known": Undescribed()}
	for _, rows := range []string{"", "top-down", "bottom-up"} {
		for _, tiling := range []string{"", "linear", "morton", "zorder-8", "tiles", "columns"} {
			for _, big := range []bool{false, true} {
				p := Image{At: 1 << 40, Width: 640, Height: 480, Format: "r5g6b5_pack16", Big: big, Rows: rows, Tiling: tiling, TileW: 8, TileH: 16}
				cases["picture "+rows+tiling+orderWord(big)] = p.Fragment()
				p.Format, p.PaletteAt, p.PaletteFormat = "indexed8", &at, "b8g8r8a8"
				cases["palette "+rows+tiling+orderWord(big)] = p.Fragment()
			}
		}
	}
	for _, form := range []string{"", "list", "strip", "fan", "quads"} {
		for _, width := range []string{"", "u8", "u16", "u32"} {
			for _, restart := range []bool{false, true} {
				m := Mesh{At: 64, Stride: 12, Count: 8, Format: "f32x3", Scale: 0.0625, IndicesAt: 4096, IndexCount: 36, IndexFormat: width, Form: form, Restart: restart && width != ""}
				cases["mesh "+form+width] = m.Fragment()
			}
		}
	}
	points := Mesh{At: 64, Stride: 12, Count: 8, Format: "i16x3", Scale: 1, BigEndian: true}
	cases["points"] = points.Fragment()
	for _, spec := range []string{"u32", "ascii8 u32 u32", "-4 f32x3 ascii4 u64 -2 i8x3 f16", "u32 u32 u32 ascii3 ascii5"} {
		cols, stride, err := ParseColumns(spec)
		if err != nil {
			t.Fatal(err)
		}
		for i := range cols {
			cols[i].Looks = "rising: each is larger"
		}
		s := Sheet{Stride: stride + 3, Columns: cols, Rows: make([][]string, 5)}
		cases["records "+spec] = s.Fragment(128, 0, false)
		cases["records to a size "+spec] = s.Fragment(128, 1000, true)
	}
	for what, f := range cases {
		for _, head := range []string{"", "\x00", "TIDE\x01", "a", "7z\xbc\xaf", "ab: [", "true"} {
			for _, name := range []string{"tide", "no", "a: b", "- x", `"`, "é", "7", "# x"} {
				doc := f.Document(name, []byte(head))
				l, err := layout.Compile("x", []byte(doc))
				if err != nil {
					t.Fatalf("%s: %v in\n%s", what, err, doc)
				}
				if got := string(l.Kind); got != f.Kind {
					t.Errorf("%s: a %s layout, want %s", what, got, f.Kind)
				}
				if l.Name != name {
					t.Errorf("%s: called %q, want %q", what, l.Name, name)
				}
				if head != "" && !l.Recognises([]byte(head)) {
					t.Errorf("%s: does not recognise %q:\n%s", what, head, doc)
				}
			}
		}
	}
}

func TestFragmentsSayWhatTheTrialRead(t *testing.T) {
	cols, stride, _ := ParseColumns("ascii8 u32 u32 -4 u16x2")
	cols[1].Looks = "rising from 64"
	s := Sheet{Stride: stride, Columns: cols, Rows: make([][]string, 3)}
	f := s.Fragment(16, 0, false)
	want := `records:
  item:
    - name: ascii[8]
    - offset: u32
    - size: u32
    - unknown_16: u8[4]
    - field_4: u16[2]

container:
  each: items
  as: i
  name: i.name
  at: i.offset
  size: i.size
`
	if f.Text != want || f.Fields[0] != `  - items: {type: "item[3]", at: 16}` {
		t.Errorf("%s%s", f.Fields, f.Text)
	}
	if !strings.HasPrefix(f.Insert(), "# in fields: - items: {type") || !strings.HasSuffix(f.Insert(), want) {
		t.Errorf("%s", f.Insert())
	}
	if f := s.Fragment(16, 7*24+5, false); f.Fields[0] != `  - items: {type: "item[7]", at: 16}` {
		t.Errorf("%s", f.Fields)
	}
	for head, word := range map[string]string{"TIDE\x00": "tide", "W4SHES": "w4sh", "\x00\x01": "unknown", "a\x00": "unknown", "": "unknown"} {
		if got := Word([]byte(head)); got != word {
			t.Errorf("%q is called %q, want %q", head, got, word)
		}
	}
	m := Mesh{At: 8, Stride: 6, Count: 4, Format: "i16x3", IndicesAt: 32, IndexCount: 8, IndexFormat: "u8", Form: "quads", Restart: true}
	if got := m.Fragment().Text; !strings.Contains(got, "triangles: {at: 32, count: 2, format: u8, form: quads, restart: 0xff}") || strings.Contains(got, "scale") {
		t.Errorf("%s", got)
	}
}
