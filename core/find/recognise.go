package find

import (
	"encoding/binary"
	"slices"

	"excavate/core/assembly"
	"excavate/core/format"
	"excavate/core/layout"
	"excavate/core/pixel"
	"excavate/core/source"
)

var magics = []struct {
	magic  string
	at     int
	kind   Kind
	format string
}{
	{"\x89PNG\r\n\x1a\n", 0, Picture, "png"}, {"\xff\xd8\xff", 0, Picture, "jpeg"}, {"GIF8", 0, Picture, "gif"}, {"BM", 0, Picture, "bmp"},
	{"WEBP", 8, Picture, "webp"}, {"II*\x00", 0, Picture, "tiff"}, {"MM\x00*", 0, Picture, "tiff"}, {"DDS ", 0, Picture, "dds"},
	{"\xabKTX ", 0, Picture, "ktx"}, {"OggS", 0, Sound, "ogg"}, {"WAVE", 8, Sound, "wav"}, {"ID3", 0, Sound, "mp3"}, {"fLaC", 0, Sound, "flac"},
}

// candidate is one thing that an entry may be: what a layout describes, a model
// of an open format, or something else that is known by name.
type candidate struct {
	layout *layout.Layout
	reader *format.Reader
	kind   Kind
	name   string
}

// candidates are what an entry may be by its first bytes, and by its name where
// they leave it open, best first. A layout with a telling mark stands before
// everything; one whose mark other things have by chance stands behind all that
// is known for sure, so that it cannot take it away.
func (l *Library) candidates(name string, head []byte) (out []candidate) {
	sure, loose := l.Layouts.Recognised(head)
	add := func(list []*layout.Layout) {
		for _, x := range list {
			out = append(out, candidate{layout: x, kind: kindOfLayout(x), name: x.Name})
		}
	}
	add(sure)
	if r := l.Formats.FindNamed(name, head); r != nil {
		out = append(out, candidate{reader: r, kind: Model, name: r.Name})
	} else if assembly.Is(head) {
		out = append(out, candidate{kind: Model, name: assemblyName})
	} else if kind, what := known(head); what != "" {
		out = append(out, candidate{kind: kind, name: what})
	}
	add(loose)
	return out
}

func kindOfLayout(x *layout.Layout) Kind {
	switch x.Kind {
	case layout.Container:
		return Archive
	case layout.Picture:
		return Picture
	}
	return Model
}

// known is what is neither a model of an open format nor a layout's.
func known(head []byte) (Kind, string) {
	for _, m := range magics {
		if len(head) >= m.at+len(m.magic) && string(head[m.at:m.at+len(m.magic)]) == m.magic && (m.format != "bmp" || isBMP(head)) {
			return m.kind, m.format
		}
	}
	if what := source.Magic(head); what != "" {
		return Archive, what
	}
	if pixel.IsTGA(head) && TextEncoding(head) == "" {
		return Picture, "tga"
	}
	return "", ""
}

// isBMP looks at more than two letters: the size of the second header is one
// of those that there are.
func isBMP(head []byte) bool {
	if len(head) < 18 {
		return true // cut off; what decodes it says so
	}
	return slices.Contains([]uint32{12, 16, 40, 52, 56, 64, 108, 124}, binary.LittleEndian.Uint32(head[14:]))
}

// KindOf tells what an entry is. format is the open format's or the layout's
// name, or the encoding of a text; it is empty for data.
func (l *Library) KindOf(name string, head []byte) (kind Kind, format string) {
	if c := l.candidates(name, head); len(c) > 0 {
		return c[0].kind, c[0].name
	}
	if enc := TextEncoding(head); enc != "" {
		return Text, enc
	}
	return Data, ""
}

// LayoutOf is the layout that reads an entry, or nil if something else does.
func (l *Library) LayoutOf(name string, head []byte) *layout.Layout {
	if c := l.candidates(name, head); len(c) > 0 {
		return c[0].layout
	}
	return nil
}
