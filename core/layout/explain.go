package layout

import (
	"context"
	"fmt"
	"sort"
)

// Piece is one thing that a layout read: a field, a record, a list, or a
// range of bytes that a section uses. It lies at Off in the file itself, or
// in the file In.
type Piece struct {
	Name    string
	Type    string // as the layout has it
	Value   string
	In      string
	Off     int64
	Size    int64
	Line    int // of the layout
	Col     int
	Error   string // why it was refused
	Count   int    // of a list: its elements, of which Pieces are some
	First   int    // the index of the first of Pieces in a list
	Stride  int64  // of a list whose elements are of one size
	Pieces  []*Piece
	indexed bool
}

// Explained is what a layout makes of a file.
type Explained struct {
	Pieces  []*Piece
	Size    int64   // of the file
	Covered int64   // bytes that a field or a section explains
	Gaps    []Range // what is left, largest first
	Made    string  // what came out
	Err     error   // why it was not read to the end
}

// Range is bytes of a file.
type Range struct{ Off, Size int64 }

// The size of a tree that people look at: elements of one list, and pieces in
// all.
const (
	windowElements = 128
	treePieces     = 50_000
	namedGaps      = 64
)

// Explain reads a file and tells field by field what lies where. Lists show
// the elements around the byte at focus, or their first ones if it is below
// 0. An error is part of the answer, with all that was read before it.
func (l *Layout) Explain(ctx context.Context, in Input, around Surroundings, focus int64) *Explained {
	l = l.inOrder(in)
	r := newRun(ctx, l, in).with(around)
	t := &tracer{focus: focus}
	t.begin()
	r.tracer = t
	x := &Explained{Size: in.Size()}
	e, err := r.fields()
	if err == nil {
		t.section()
		switch l.Kind {
		case Container:
			var list []Entry
			if list, err = r.entries(e); err == nil {
				x.Made = fmt.Sprintf("%d entries", len(list))
				err = firstError(list)
			}
		case Picture:
			var p *Pictured
			if p, err = r.pictured(e); err == nil {
				x.Made = fmt.Sprintf("%d × %d texels, %s", p.Width, p.Height, p.Format)
			}
		case Model:
			s, e2 := r.scene(e)
			if err = e2; err == nil {
				st := s.Stats()
				x.Made = fmt.Sprintf("%d triangles, %d vertices, %d bones, %d motions", st.Triangles, st.Vertices, st.Bones, len(s.Motions))
			}
		}
	}
	x.Err = err
	for _, p := range t.frames[0] {
		if p == t.uses {
			x.Pieces = append(x.Pieces, p)
		} else { // the file's own fields stand by themselves
			x.Pieces = append(x.Pieces, p.Pieces...)
		}
	}
	x.Covered, x.Gaps = t.covered(in.Size())
	return x
}

func firstError(list []Entry) error {
	bad := 0
	var first error
	for i := range list {
		if err := list[i].Err; err != nil {
			if bad++; first == nil {
				first = err
			}
		}
	}
	if bad > 1 {
		return prefix(first, fmt.Sprintf("%d entries, the first ", bad))
	}
	return first
}

// tracer keeps what a run reads, as a tree and as ranges.
type tracer struct {
	focus  int64
	frames [][]*Piece
	pieces int
	ranges []Range
	uses   *Piece // the section's own
}

// begin opens a piece that may hold others; end closes it.
func (t *tracer) begin() { t.frames = append(t.frames, nil) }

func (t *tracer) end(p *Piece) {
	last := len(t.frames) - 1
	p.Pieces = t.frames[last]
	t.frames = t.frames[:last]
	t.add(p)
}

func (t *tracer) add(p *Piece) {
	last := len(t.frames) - 1
	if t.pieces++; t.pieces <= treePieces {
		t.frames[last] = append(t.frames[last], p)
	}
}

// push and pop bracket a record.
func (t *tracer) push(*recordDef, int64) { t.begin() }

func (t *tracer) pop(def *recordDef, src *opened, from int64, next *int64) {
	p := &Piece{Type: def.name, In: src.ref, Off: from, Size: max(0, *next-from), Line: def.line, indexed: true}
	t.end(p)
}

// field closes the piece of a field.
func (t *tracer) field(f *field, src *opened, off, next int64, v val, err error) {
	p := &Piece{Name: f.name, Type: f.typ.name(), In: src.ref, Off: off, Size: max(0, next-off), Line: f.line, Col: f.col}
	last := len(t.frames) - 1
	inner := t.frames[last]
	t.frames = t.frames[:last]
	if err != nil {
		p.Error = err.Error()
		p.Pieces = inner
		t.add(p)
		return
	}
	p.Value = short(v.String())
	switch x := v.obj.(type) {
	case *record:
		p.Value = ""
		if len(inner) == 1 {
			p.Pieces = inner[0].Pieces
		} else {
			t.fixedRecord(p, x)
		}
	case *table:
		p.Value, p.Count = "", x.Len()
		p.Type += fmt.Sprintf("[%d]", x.Len())
		if x.recs == nil && x.Len() > 0 {
			p.Stride = x.def.size
			for p.First = t.window(off, p.Stride, x.Len()); len(p.Pieces) < min(windowElements, x.Len()-p.First); {
				i := p.First + len(p.Pieces)
				rec := x.at(i)
				el := &Piece{Name: fmt.Sprint(i), Type: x.def.name, In: src.ref, Off: rec.off, Size: x.def.size, Line: x.def.line}
				t.fixedRecord(el, rec)
				p.Pieces = append(p.Pieces, el)
			}
			break
		}
		for i, el := range inner {
			el.Name = fmt.Sprint(i)
		}
		p.First = t.nearest(inner)
		p.Pieces = inner[p.First:min(len(inner), p.First+windowElements)]
	case *numbers:
		p.Value, p.Count, p.Stride = "", x.Len(), int64(x.prim.size)
		p.Type += fmt.Sprintf("[%d]", x.Len())
		for p.First = t.window(off, p.Stride, x.Len()); len(p.Pieces) < min(windowElements, x.Len()-p.First); {
			i := p.First + len(p.Pieces)
			p.Pieces = append(p.Pieces, &Piece{Name: fmt.Sprint(i), Type: f.typ.name(), In: src.ref, Off: off + int64(i)*p.Stride, Size: p.Stride, Value: x.at(i).String(), Line: f.line, Col: f.col})
		}
		if x.Len() <= 4 {
			for i := range p.Pieces {
				p.Value += p.Pieces[i].Value + " "
			}
		}
		t.pieces += len(p.Pieces)
	case *blob:
		p.Value = ""
	}
	if src.main() {
		t.cover(off, p.Size)
	}
	t.add(p)
}

// window is the first element that is shown of a list.
func (t *tracer) window(off, stride int64, n int) int {
	if t.focus < off || t.focus >= off+stride*int64(n) {
		return 0
	}
	return int(max(0, min((t.focus-off)/stride-windowElements/2, int64(n-windowElements))))
}

func (t *tracer) nearest(list []*Piece) int {
	for i, p := range list {
		if p.In == "" && t.focus >= p.Off && t.focus < p.Off+p.Size {
			return max(0, min(i-windowElements/2, len(list)-windowElements))
		}
	}
	return 0
}

// fixedRecord adds the fields of a record whose place follows from its size.
func (t *tracer) fixedRecord(p *Piece, rec *record) {
	for i := range rec.def.fields {
		f := &rec.def.fields[i]
		off := rec.off + rec.def.offsets[i]
		v, err := rec.field(i)
		if err != nil {
			continue
		}
		x := &Piece{Name: f.name, Type: f.typ.name(), In: p.In, Off: off, Size: max(f.fixedSize(), 0), Value: short(v.String()), Line: f.line, Col: f.col}
		switch v := v.obj.(type) {
		case *record:
			x.Value = ""
			t.fixedRecord(x, v)
		case *table:
			x.Value, x.Count, x.Stride = "", v.Len(), v.def.size
			for k := 0; k < min(v.Len(), windowElements); k++ {
				el := &Piece{Name: fmt.Sprint(k), Type: v.def.name, In: p.In, Off: v.at(k).off, Size: v.def.size, Line: v.def.line}
				t.fixedRecord(el, v.at(k))
				x.Pieces = append(x.Pieces, el)
			}
		case *numbers:
			x.Value, x.Count, x.Stride = "", v.Len(), int64(v.prim.size)
			for k := 0; k < min(v.Len(), 16); k++ {
				x.Value += v.at(k).String() + " "
			}
		}
		p.Pieces = append(p.Pieces, x)
	}
	t.pieces += len(p.Pieces)
}

// section begins the part of the tree that says what the bytes are used for.
func (t *tracer) section() {
	t.uses = &Piece{Name: "used as"}
	t.frames[0] = append(t.frames[0], t.uses)
}

// use notes a range that a section reads.
func (t *tracer) use(o *opened, off, n int64, what string, line, col int, err error) {
	if t == nil || t.uses == nil {
		return
	}
	t.uses.Count++
	if o.main() && err == nil {
		t.cover(off, n)
	}
	if len(t.uses.Pieces) < 4*windowElements || err != nil {
		p := &Piece{Name: what, In: o.ref, Off: off, Size: n, Line: line, Col: col}
		if err != nil {
			p.Error = err.Error()
		}
		t.uses.Pieces = append(t.uses.Pieces, p)
	}
}

// refused marks the field that a must refuses.
func (t *tracer) refused(f *field, err error) {
	if t == nil {
		return
	}
	last := t.frames[len(t.frames)-1]
	if len(last) > 0 && last[len(last)-1].Name == f.name {
		last[len(last)-1].Error = err.Error()
	}
}

func (t *tracer) cover(off, n int64) {
	if n <= 0 {
		return
	}
	if k := len(t.ranges) - 1; k >= 0 && off >= t.ranges[k].Off && off <= t.ranges[k].Off+t.ranges[k].Size {
		t.ranges[k].Size = max(t.ranges[k].Size, off+n-t.ranges[k].Off)
		return
	}
	t.ranges = append(t.ranges, Range{off, n})
}

// covered adds up the ranges; what lies between them is left unexplained.
func (t *tracer) covered(size int64) (sum int64, gaps []Range) {
	sort.Slice(t.ranges, func(i, j int) bool { return t.ranges[i].Off < t.ranges[j].Off })
	at := int64(0)
	for _, x := range append(t.ranges, Range{size, 0}) {
		if x.Off > at {
			gaps = append(gaps, Range{at, x.Off - at})
			at = x.Off
		}
		if end := min(x.Off+x.Size, size); end > at {
			sum += end - at
			at = end
		}
	}
	sort.SliceStable(gaps, func(i, j int) bool { return gaps[i].Size > gaps[j].Size })
	return sum, gaps[:min(len(gaps), namedGaps)]
}

// name is the type as a layout writes it.
func (t *fieldType) name() string {
	switch {
	case t.prim.size > 0:
		return t.prim.name()
	case t.rec != nil:
		return t.rec.name
	case t.isBlob:
		return "bytes"
	case t.varint != "":
		return t.varint
	}
	return t.text
}

func (p primitive) name() string {
	letter := "u"
	if p.float {
		letter = "f"
	} else if p.signed {
		letter = "i"
	}
	return fmt.Sprintf("%s%d", letter, 8*p.size)
}

// PathAt names the innermost field that holds a byte of the file, such as
// parts[3].scale; empty if none does. Elements of lists that are not among
// the pieces are named by their number where all are of one size.
func PathAt(pieces []*Piece, at int64) string {
	for _, p := range pieces {
		if p.In != "" || at < p.Off || at >= p.Off+p.Size {
			continue
		}
		name := p.Name
		if p.Count > 0 && p.Stride > 0 {
			i := int((at - p.Off) / p.Stride)
			name += fmt.Sprintf("[%d]", i)
			if k := i - p.First; k >= 0 && k < len(p.Pieces) {
				if in := PathAt(p.Pieces[k].Pieces, at); in != "" {
					name += "." + in
				}
			}
			return name
		}
		if p.Count > 0 {
			for k, el := range p.Pieces {
				if at >= el.Off && at < el.Off+el.Size {
					name += fmt.Sprintf("[%d]", p.First+k)
					if in := PathAt(el.Pieces, at); in != "" {
						name += "." + in
					}
				}
			}
			return name
		}
		if in := PathAt(p.Pieces, at); in != "" {
			name += "." + in
		}
		return name
	}
	return ""
}
