package trial

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Fragment is what is kept of a trial: the piece of a layout that reads the
// bytes as the trial did.
type Fragment struct {
	Kind   string   // of the layout: container, picture or model
	Big    bool     // byte order
	Fields []string // lines of the section "fields" that the piece needs
	Text   string   // the piece: sections of a layout
}

// Image is bytes on trial as a picture.
type Image struct {
	At            int64
	Width, Height int
	Format        string // of the texels
	Big           bool
	Rows          string // top-down or bottom-up
	Tiling        string // empty or linear, or how the texels are arranged
	TileW, TileH  int    // of the tiling "tiles"
	PaletteAt     *int64 // in the same entry
	PaletteFormat string
}

// paletteColours is how many colours a palette on trial has.
const paletteColours = 256

// Fragment is the picture as a section of a layout.
func (p *Image) Fragment() Fragment {
	var b strings.Builder
	fmt.Fprintf(&b, "picture:\n  width: %d\n  height: %d\n  format: %s\n  at: %d\n", p.Width, p.Height, plain(p.Format), p.At)
	if p.Rows != "" {
		fmt.Fprintf(&b, "  rows: %s\n", p.Rows)
	}
	fmt.Fprintf(&b, "  order: %s\n", orderWord(p.Big))
	if p.Tiling != "" && p.Tiling != "linear" {
		fmt.Fprintf(&b, "  tiling: %s\n", plain(p.Tiling))
		if p.Tiling == "tiles" {
			fmt.Fprintf(&b, "  tile: {width: %d, height: %d}\n", p.TileW, p.TileH)
		}
	}
	if p.PaletteAt != nil {
		fmt.Fprintf(&b, "  palette: {at: %d, count: %d, format: %s}\n", *p.PaletteAt, paletteColours, plain(p.PaletteFormat))
	}
	return Fragment{Kind: "picture", Big: p.Big, Text: b.String()}
}

// Fragment is the mesh as a section of a layout.
func (m *Mesh) Fragment() Fragment {
	triangles := "{count: 0}"
	if m.IndexCount > 0 {
		form, width, count := m.Form, m.IndexFormat, m.IndexCount
		if width == "" {
			width = "u16"
		}
		extra := ""
		switch form {
		case "", "list":
			count /= 3
		case "quads":
			count /= 4
		}
		if form != "" && form != "list" {
			extra = ", form: " + plain(form)
		}
		if m.Restart {
			extra += ", restart: " + map[string]string{"u8": "0xff", "u16": "0xffff", "u32": "0xffffffff"}[width]
		}
		triangles = fmt.Sprintf("{at: %d, count: %d, format: %s%s}", m.IndicesAt, count, plain(width), extra)
	}
	scale := ""
	if m.Scale != 0 && m.Scale != 1 {
		scale = ", scale: " + strconv.FormatFloat(m.Scale, 'f', -1, 64)
	}
	return Fragment{Kind: "model", Big: m.BigEndian, Text: fmt.Sprintf(`model:
  parts:
    each: '[0]'
    mesh: '"mesh"'
    vertices: {at: %d, count: %d, stride: %d}
    attributes:
      - {is: position, at: 0, format: %s%s}
    triangles: %s
`, m.At, m.Count, m.Stride, plain(m.Format), scale, triangles)}
}

// Fragment is records from a place on as the table of a container: size bytes
// of them, or as many as the sheet has rows. Columns get names by what they
// look like: the first text is the name of an entry, the first u32 that rises
// its offset, and a u32 that follows it its size.
func (s *Sheet) Fragment(at, size int64, big bool) Fragment {
	n := max(1, int64(len(s.Rows)))
	if size > 1 && s.Stride > 0 {
		n = max(1, size/int64(s.Stride))
	}
	var b strings.Builder
	b.WriteString("records:\n  item:\n")
	next := 0
	unknown := func(to int) {
		if to > next {
			fmt.Fprintf(&b, "    - unknown_%d: u8[%d]\n", next, to-next)
		}
	}
	names := s.names()
	for i, c := range s.Columns {
		unknown(c.At)
		fmt.Fprintf(&b, "    - %s: %s\n", names[i], c.field())
		next = c.At + c.size*c.n
	}
	unknown(s.Stride)
	b.WriteString("\ncontainer:\n  each: items\n  as: i\n")
	of := func(key, field string) {
		switch {
		case slices.Contains(names, field):
			fmt.Fprintf(&b, "  %s: i.%s\n", key, field)
		case key != "name":
			fmt.Fprintf(&b, "  %s: 0\n", key)
		}
	}
	of("name", "name")
	of("at", "offset")
	of("size", "size")
	return Fragment{Kind: "container", Big: big, Text: b.String(),
		Fields: []string{fmt.Sprintf(`  - items: {type: "item[%d]", at: %d}`, n, at)}}
}

func (s *Sheet) names() []string {
	var out []string
	free := func(name string, i int) string {
		if slices.Contains(out, name) {
			return fmt.Sprintf("field_%d", i+1)
		}
		return name
	}
	for i, c := range s.Columns {
		switch {
		case strings.HasPrefix(c.Type, "ascii"):
			out = append(out, free("name", i))
		case c.Type == "u32" && strings.HasPrefix(c.Looks, "rising"):
			out = append(out, free("offset", i))
		case c.Type == "u32" && i > 0 && out[i-1] == "offset":
			out = append(out, free("size", i))
		default:
			out = append(out, fmt.Sprintf("field_%d", i+1))
		}
	}
	return out
}

// field is the column's type as layouts write it.
func (c *Column) field() string {
	if n, ok := strings.CutPrefix(c.Type, "ascii"); ok {
		return "ascii[" + n + "]"
	}
	if name, n, many := strings.Cut(c.Type, "x"); many {
		return name + "[" + n + "]"
	}
	return c.Type
}

// Undescribed is a container of which nothing is known yet: it has no entries.
func Undescribed() Fragment {
	return Fragment{Kind: "container", Text: "container:\n  each: \"[]\"\n  as: e\n  at: 0\n  size: 0\n"}
}

// most of the first bytes that a new layout recognises a file by.
const mostMagic = 4

// magic is how many of a file's first bytes a new layout recognises it by, and
// whether they are letters and digits.
func magic(head []byte) (n int, text bool) {
	for n < min(len(head), mostMagic) && (head[n] >= '0' && head[n] <= '9' || head[n] >= 'A' && head[n] <= 'Z' || head[n] >= 'a' && head[n] <= 'z') {
		n++
	}
	if n >= 2 {
		return n, true
	}
	return min(len(head), mostMagic), false
}

// Word is a name for files that begin so: their letters, or "unknown".
func Word(head []byte) string {
	if n, text := magic(head); text {
		return strings.ToLower(string(head[:n]))
	}
	return "unknown"
}

// Document is a whole layout of the fragment alone. It recognises files that
// begin as head does.
func (f *Fragment) Document(name string, head []byte) string {
	n, text := magic(head)
	recognise, field := `{at: 0, bytes: "00"}`, "  - magic: bytes[0]\n"
	switch {
	case text:
		recognise = fmt.Sprintf("{at: 0, ascii: %q}", head[:n])
		field = fmt.Sprintf("  - magic: ascii[%d]\n", n)
	case n > 0:
		recognise = fmt.Sprintf("{at: 0, bytes: %q}", fmt.Sprintf("% x", head[:n]))
		field = fmt.Sprintf("  - magic: bytes[%d]\n", n)
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "layout: %s\nkind: %s\norder: %s\n\nrecognise:\n  - %s\n\nfields:\n%s", plain(name), f.Kind, orderWord(f.Big), recognise, field)
	for _, l := range f.Fields {
		b.WriteString(l + "\n")
	}
	fmt.Fprintf(&b, "\n%s", f.Text)
	return b.String()
}

// Insert is the fragment for a layout that is there: its fields as remarks on
// where they go.
func (f *Fragment) Insert() string {
	out := ""
	for _, l := range f.Fields {
		out += "# in fields: " + strings.TrimSpace(l) + "\n"
	}
	return out + f.Text
}

func orderWord(big bool) string {
	if big {
		return "big"
	}
	return "little"
}

// plain writes a text as YAML has it: as it is where it can mean nothing else.
func plain(s string) string {
	letters := s != "" && (s[0] >= 'a' && s[0] <= 'z' || s[0] >= 'A' && s[0] <= 'Z') && !slices.Contains([]string{"true", "false", "null", "yes", "no", "on", "off", "y", "n"}, strings.ToLower(s))
	for _, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' || r == ' ') {
			letters = false
		}
	}
	if letters && strings.TrimSpace(s) == s {
		return s
	}
	return strconv.Quote(s)
}
