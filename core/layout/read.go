package layout

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"
	"unicode/utf16"

	"excavate/core/limit"
	"excavate/core/pixel"

	"go.starlark.net/starlark"
	"golang.org/x/text/encoding/japanese"
)

type byteOrder bool

const (
	littleEndian byteOrder = false
	bigEndian    byteOrder = true
)

// primitive is a plain number type.
type primitive struct {
	size   int
	signed bool
	float  bool
}

var primitives = map[string]primitive{
	"u8": {size: 1}, "u16": {size: 2}, "u24": {size: 3}, "u32": {size: 4}, "u64": {size: 8},
	"i8": {size: 1, signed: true}, "i16": {size: 2, signed: true}, "i24": {size: 3, signed: true},
	"i32": {size: 4, signed: true}, "i64": {size: 8, signed: true},
	"f16": {size: 2, float: true}, "f32": {size: 4, float: true}, "f64": {size: 8, float: true},
}

func (p primitive) number(b []byte, order byteOrder) val {
	var u uint64
	switch {
	case p.size == 1:
		u = uint64(b[0])
	case order == littleEndian && p.size == 2:
		u = uint64(binary.LittleEndian.Uint16(b))
	case order == littleEndian && p.size == 4:
		u = uint64(binary.LittleEndian.Uint32(b))
	case order == littleEndian && p.size == 8:
		u = binary.LittleEndian.Uint64(b)
	case order == littleEndian:
		u = uint64(b[0]) | uint64(b[1])<<8 | uint64(b[2])<<16
	default:
		for _, c := range b[:p.size] {
			u = u<<8 | uint64(c)
		}
	}
	switch {
	case p.float && p.size == 2:
		return floatVal(float64(pixel.Half(uint16(u))))
	case p.float && p.size == 4:
		return floatVal(float64(math.Float32frombits(uint32(u))))
	case p.float:
		return floatVal(math.Float64frombits(u))
	case p.signed:
		shift := 64 - 8*p.size
		return intVal(int64(u<<shift) >> shift)
	case u > math.MaxInt64:
		return val{kind: kObj, obj: starlark.MakeUint64(u)}
	}
	return intVal(int64(u))
}

// run is one reading of one file by one layout.
type run struct {
	ctx    context.Context
	layout *Layout
	self   *opened // the file itself
	cur    *opened // what is read at present; errors name it
	around Surroundings
	files  map[string]*opened
	bound  map[*spaceDef]*opened
	names  map[uint64]string // by hash, once they are asked for
	steps  uint64
	at     int64 // the place that errors name; -1 none
	depth  int
	tracer *tracer // keeps what was read where, if somebody asks
}

func newRun(ctx context.Context, l *Layout, in Input) *run {
	o := &opened{in: in}
	return &run{ctx: ctx, layout: l, self: o, cur: o, at: -1}
}

// in has a run read with what lies around the file.
func (r *run) with(around Surroundings) *run {
	r.around = around
	return r
}

func (r *run) errorf(line, col int, format string, a ...any) error {
	e := &Error{Layout: r.layout.Name, Line: line, Col: col, Msg: fmt.Sprintf(format, a...)}
	if r.at >= 0 {
		e.HasOffset, e.Offset, e.In = true, r.at, r.cur.ref
	}
	return e
}

// errorAt puts the place of a formula on an error that has no offset.
func (r *run) errorAt(line, col int, err error) error {
	return &Error{Layout: r.layout.Name, Line: line, Col: col, Msg: err.Error(), Err: err}
}

// watch stops a script when the context ends.
func (r *run) watch(th *starlark.Thread) func() {
	if r.ctx == nil || r.ctx.Done() == nil {
		return func() {}
	}
	stop := context.AfterFunc(r.ctx, func() { th.Cancel("stopped") })
	return func() { stop() }
}

func (r *run) cancelled() error {
	if r.ctx != nil {
		return r.ctx.Err()
	}
	return nil
}

// fields reads the file's own fields and returns the environment in which the
// layout's maps are evaluated.
func (r *run) fields() (*env, error) {
	root := &env{run: r, slots: []val{intVal(r.self.in.Size()), strVal(r.around.Name)}}
	for i := range r.layout.readings {
		v, err := r.layout.readings[i].chosen(r)
		if err != nil {
			return nil, err
		}
		root.slots = append(root.slots, v)
	}
	rec, _, err := r.record(r.layout.top, 0, root)
	if err != nil {
		return nil, err
	}
	e := root.child(intVal(0)).child(rec.vals...)
	r.cur, r.at = r.self, -1
	return e, nil
}

// record reads one record that is not of fixed size.
func (r *run) record(def *recordDef, at int64, root *env) (*record, int64, error) {
	if r.depth++; r.depth > limit.RecordNesting {
		return nil, 0, r.errorf(def.line, 1, "records nest more than %d deep", limit.RecordNesting)
	}
	defer func() { r.depth-- }()
	rec := &record{def: def, off: at, src: r.cur, vals: make([]val, 0, len(def.fields))}
	e := root.child(r.here(at)).child()
	if def == r.layout.top {
		// What the records within it see of the file's own fields.
		root = root.child()
	}
	if r.tracer != nil {
		r.tracer.push(def, at)
		from, src := at, r.cur
		defer func() { r.tracer.pop(def, src, from, &at) }()
	}
	for i := range def.fields {
		f := &def.fields[i]
		e.slots = rec.vals
		if def == r.layout.top {
			root.slots = rec.vals
		}
		v, next, err := r.field(f, at, e, root)
		if err != nil {
			return nil, 0, err
		}
		rec.vals = append(rec.vals, v)
		e.slots = rec.vals
		if f.must != nil {
			ok, err := f.must.eval(e)
			if err != nil {
				return nil, 0, err
			}
			if !ok.truth() {
				msg := f.message
				if msg == "" {
					msg = fmt.Sprintf("%s does not hold", f.must.src)
				}
				err := r.errorf(f.must.line, f.must.col, "%s is %s: %s", f.name, v, msg)
				if e, ok := errors.AsType[*Error](err); ok && e.Err == nil {
					e.Err = ErrNotMine
				}
				r.tracer.refused(f, err)
				return nil, 0, err
			}
		}
		at = next
	}
	return rec, at, nil
}

// here is where a record begins, as formulas see it.
func (r *run) here(at int64) val {
	if r.cur == r.self {
		return intVal(at)
	}
	return val{kind: kObj, obj: &place{of: r.cur, off: at + r.cur.base}}
}

func (r *run) field(f *field, at int64, e, root *env) (val, int64, error) {
	r.at = at
	if f.bitsOf >= 0 {
		v, err := e.slots[f.bitsOf].int()
		return intVal(f.bits.of(uint64(v))), at, err
	}
	if f.when != nil {
		if v, err := f.when.eval(e); err != nil || !v.truth() {
			return val{}, at, err
		}
	}
	if f.at != nil {
		o, to, err := f.at.place(e)
		if err != nil {
			return val{}, at, err
		}
		if o != r.cur {
			// It lies in another file; the next one goes on in this.
			was := r.cur
			r.cur = o
			v, _, err := r.fieldAt(f, to, e, root)
			if err == nil {
				r.cur = was
			}
			return v, at, err
		}
		at = to
	}
	return r.fieldAt(f, at, e, root)
}

// fieldAt reads a field where it lies in the present file.
func (r *run) fieldAt(f *field, at int64, e, root *env) (v val, next int64, err error) {
	if f.variants != nil {
		x, err := f.variants.eval(e)
		if err != nil {
			return val{}, at, err
		}
		return r.fieldAt(x, at, e, root)
	}
	if f.orderBy != nil {
		o, err := f.orderBy.eval(e)
		if err != nil {
			return val{}, at, err
		}
		c := *f
		c.order, c.orderBy = o, nil
		f = &c
	}
	if r.tracer != nil {
		begin := at
		r.tracer.begin()
		defer func() { r.tracer.field(f, r.cur, begin, next, v, err) }()
	}
	if f.align > 1 {
		at = (at + f.align - 1) / f.align * f.align
	}
	n, err := r.elements(f, at, e)
	if err != nil {
		return val{}, at, err
	}
	r.at = at
	switch t := &f.typ; {
	case t.varint != "":
		v, k, err := r.varint(t.varint, at)
		if err != nil {
			return val{}, at, r.errorf(f.line, f.col, "%s: %v", f.name, err)
		}
		return v, at + k, nil
	case t.isBlob:
		if err := r.enough(f, at, n, 1); err != nil {
			return val{}, at, err
		}
		return val{kind: kObj, obj: &blob{in: r.cur.in, src: r.cur, off: at, n: n}}, at + n, nil
	case t.text != "":
		return r.textAt(f, at, n)
	case t.prim.size > 0:
		return r.numbersAt(f, at, n, e)
	}
	return r.recordsAt(f, at, n, e, root)
}

// elements is how many elements a field has at a place: one, as many as are
// counted, or as many as go into the rest of the file (for records that must be
// read to know their size, as many as are ever read).
func (r *run) elements(f *field, at int64, e *env) (n int64, err error) {
	n = 1
	if f.toEnd {
		n = limit.Records
	}
	if f.count != nil {
		if n, err = f.count.int(e); err != nil {
			return 0, err
		}
		if n < 0 {
			return 0, r.errorf(f.count.line, f.count.col, "%s counts %d elements", f.name, n)
		}
	}
	size := r.cur.in.Size()
	if at < 0 || at > size {
		return 0, r.errorf(f.line, f.col, "%s lies at offset %d, and the file ends at %d (0x%x)", f.name, at, size, size)
	}
	if !f.toEnd {
		return n, nil
	}
	switch t := &f.typ; {
	case t.isBlob || t.text != "":
		n = size - at
	case t.prim.size > 0:
		n = (size - at) / int64(t.prim.size)
	case t.rec != nil && t.rec.fixed && f.until == nil && f.next == nil:
		n = (size - at) / t.rec.size
	}
	return n, nil
}

// enough tells whether n elements of each bytes are there, before anything of
// them is read.
func (r *run) enough(f *field, at, n, each int64) error {
	size := r.cur.in.Size()
	if n > (size-at)/each {
		return r.errorf(f.line, f.col, "%s needs %s at offset %d, and the file ends at %d (0x%x)", f.name,
			amount(n, each), at, size, size)
	}
	return nil
}

// bytesAt are the bytes of n elements.
func (r *run) bytesAt(f *field, at, n, each int64) ([]byte, error) {
	if err := r.enough(f, at, n, each); err != nil {
		return nil, err
	}
	b, err := r.cur.in.Bytes(at, n*each)
	if err != nil {
		return nil, r.errorf(f.line, f.col, "%s: %v", f.name, err)
	}
	return b, nil
}

// textAt reads a text that ends at a zero, or has n bytes.
func (r *run) textAt(f *field, at, n int64) (val, int64, error) {
	if f.typ.text == "cstr" {
		s, err := (&blob{in: r.cur.in, src: r.cur, off: at, n: r.cur.in.Size() - at}).untilZero(0)
		if err != nil {
			return val{}, at, r.errorf(f.line, f.col, "%s: %v", f.name, err)
		}
		return strVal(decodeText(s)), at + int64(len(s)) + 1, nil
	}
	if n > maxText {
		return val{}, at, r.errorf(f.line, f.col, "%s is a text of %d bytes, at most %d are read", f.name, n, maxText)
	}
	b, err := r.bytesAt(f, at, n, 1)
	if err != nil {
		return val{}, at, err
	}
	return strVal(fixedText(f.typ.text, b)), at + n, nil
}

// numbersAt reads a number, or a list of them as one slice of the file.
func (r *run) numbersAt(f *field, at, n int64, e *env) (val, int64, error) {
	if f.until != nil {
		return r.numbersUntil(f, at, n, e)
	}
	t := &f.typ
	b, err := r.bytesAt(f, at, n, int64(t.prim.size))
	if err != nil {
		return val{}, at, err
	}
	next := at + int64(len(b))
	if f.count == nil && !f.toEnd {
		return f.scaled(t.prim.number(b, f.order)), next, nil
	}
	return val{kind: kObj, obj: &numbers{prim: t.prim, order: f.order, scale: f.scale, data: b}}, next, nil
}

// recordsAt reads a record or a table of them. Records of one size are a slice
// of the file, whose fields are read when they are asked for.
func (r *run) recordsAt(f *field, at, n int64, e, root *env) (val, int64, error) {
	def := f.typ.rec
	if n > limit.Records {
		return val{}, at, r.errorf(f.line, f.col, "%s counts %d records, at most %d are read", f.name, n, limit.Records)
	}
	if f.until != nil || f.next != nil || f.toEnd && !def.fixed {
		return r.recordList(f, at, n, e, root)
	}
	if def.fixed {
		b, err := r.bytesAt(f, at, n, def.size)
		if err != nil {
			return val{}, at, err
		}
		next := at + int64(len(b))
		if f.count == nil && !f.toEnd {
			return val{kind: kObj, obj: &record{def: def, off: at, src: r.cur, data: b}}, next, nil
		}
		return val{kind: kObj, obj: &table{def: def, off: at, src: r.cur, data: b}}, next, nil
	}
	if f.count == nil {
		rec, next, err := r.record(def, at, root)
		return val{kind: kObj, obj: rec}, next, err
	}
	tab := &table{def: def, off: at, src: r.cur, recs: []*record{}}
	for i := range n {
		if err := r.cancelled(); err != nil {
			return val{}, at, err
		}
		rec, next, err := r.record(def, at, root)
		if err != nil {
			return val{}, at, prefix(err, fmt.Sprintf("%s record %d: ", f.name, i))
		}
		// A record that takes no bytes would let a count alone fill memory.
		if next <= at && i > 1<<16 {
			return val{}, at, r.errorf(f.line, f.col, "%s counts %d records that take no bytes", f.name, n)
		}
		at = next
		tab.recs = append(tab.recs, rec)
	}
	return val{kind: kObj, obj: tab}, at, nil
}

// recordList reads records one after another: as many as are counted or as
// there are, to the one that ends the list, or along a chain.
func (r *run) recordList(f *field, at, n int64, e, root *env) (val, int64, error) {
	def := f.typ.rec
	tab := &table{def: def, off: at, src: r.cur, recs: []*record{}}
	inner := e.child(val{})
	seen := map[int64]bool{}
	for i := int64(0); i < n; i++ {
		if f.toEnd && at == r.cur.in.Size() {
			break
		}
		if len(tab.recs) >= limit.Records/64 {
			return val{}, at, r.errorf(f.line, f.col, "%s has more than %d records one by one", f.name, limit.Records/64)
		}
		if err := r.cancelled(); err != nil {
			return val{}, at, err
		}
		if f.next != nil {
			if seen[at] {
				return val{}, at, r.errorf(f.next.line, f.next.col, "%s: the chain comes back to offset %d after %d records", f.name, at, i)
			}
			seen[at] = true
		}
		rec, next, err := r.recordAt(f, at, root)
		if err != nil {
			return val{}, at, prefix(err, fmt.Sprintf("%s record %d: ", f.name, i))
		}
		if next <= at && f.next == nil {
			return val{}, at, r.errorf(f.line, f.col, "%s record %d takes no bytes", f.name, i)
		}
		inner.slots[0] = val{kind: kObj, obj: rec}
		r.at = at
		if f.until != nil {
			stop, err := f.until.eval(inner)
			if err != nil {
				return val{}, at, err
			}
			if stop.truth() {
				return val{kind: kObj, obj: tab}, next, nil
			}
		}
		tab.recs = append(tab.recs, rec)
		at = next
		if f.next != nil {
			to, err := f.next.int(inner)
			if err != nil {
				return val{}, at, err
			}
			if to <= 0 {
				break
			}
			if to >= r.cur.in.Size() {
				return val{}, at, r.errorf(f.next.line, f.next.col, "%s record %d is followed by one at offset %d, and the file ends at %d (0x%x)", f.name, i, to, r.cur.in.Size(), r.cur.in.Size())
			}
			at = to
		}
	}
	return val{kind: kObj, obj: tab}, at, nil
}

// recordAt reads one record of a list, fixed or not.
func (r *run) recordAt(f *field, at int64, root *env) (*record, int64, error) {
	def := f.typ.rec
	if !def.fixed {
		return r.record(def, at, root)
	}
	r.at = at
	b, err := r.cur.in.Bytes(at, def.size)
	if err != nil {
		return nil, at, r.errorf(f.line, f.col, "it needs %d bytes at offset %d, and the file ends at %d (0x%x)", def.size, at, r.cur.in.Size(), r.cur.in.Size())
	}
	return &record{def: def, off: at, src: r.cur, data: b}, at + def.size, nil
}

// numbersUntil reads numbers to the one that ends the list, which is not in
// it.
func (r *run) numbersUntil(f *field, at, n int64, e *env) (val, int64, error) {
	size := int64(f.typ.prim.size)
	inner := e.child(val{})
	for i := int64(0); i < n; i++ {
		b, err := r.cur.in.Bytes(at+i*size, size)
		if err != nil {
			return val{}, at, r.errorf(f.line, f.col, "%s has %d numbers to offset %d, where the file ends, and none that ends it", f.name, i, r.cur.in.Size())
		}
		inner.slots[0] = f.typ.prim.number(b, f.order)
		stop, err := f.until.eval(inner)
		if err != nil {
			return val{}, at, err
		}
		if stop.truth() {
			all, err := r.cur.in.Bytes(at, i*size)
			if err != nil {
				return val{}, at, err
			}
			return val{kind: kObj, obj: &numbers{prim: f.typ.prim, order: f.order, scale: f.scale, data: all}}, at + (i+1)*size, nil
		}
	}
	if f.toEnd {
		return val{}, at, r.errorf(f.line, f.col, "%s goes on to the end of the file, and nothing ends it", f.name)
	}
	all, err := r.cur.in.Bytes(at, n*size)
	if err != nil {
		return val{}, at, r.errorf(f.line, f.col, "%s: %v", f.name, err)
	}
	return val{kind: kObj, obj: &numbers{prim: f.typ.prim, order: f.order, scale: f.scale, data: all}}, at + n*size, nil
}

// varint reads a number of seven bits a byte: leb128 from the lowest up
// (DWARF 5, section 7.6), vlq from the highest down (Standard MIDI Files 1.0).
func (r *run) varint(kind string, at int64) (val, int64, error) {
	b, err := r.cur.in.Bytes(at, min(9, r.cur.in.Size()-at))
	if err != nil {
		return val{}, 0, err
	}
	var v uint64
	for i, c := range b {
		if kind == "vlq" {
			v = v<<7 | uint64(c&127)
		} else {
			v |= uint64(c&127) << (7 * i)
		}
		if c < 128 {
			return intVal(int64(v)), int64(i + 1), nil
		}
	}
	if len(b) == 9 {
		return val{}, 0, fmt.Errorf("the number at offset %d takes more than nine bytes", at)
	}
	return val{}, 0, fmt.Errorf("the file ends in the middle of the number at offset %d", at)
}

// prefix puts words before the message of a layout error and keeps its place.
func prefix(err error, words string) error {
	var le *Error
	if errors.As(err, &le) {
		c := *le
		c.Msg = words + c.Msg
		return &c
	}
	return fmt.Errorf("%s%w", words, err)
}

func amount(n, each int64) string {
	if each == 1 {
		return fmt.Sprintf("%d bytes", n)
	}
	return fmt.Sprintf("%d x %d bytes", n, each)
}

// decodeFixed reads a field of a fixed record from its bytes.
func (f *field) decodeFixed(b []byte, src *opened, off int64) (val, error) {
	t := &f.typ
	switch {
	case f.bitsOf >= 0:
		v, err := t.prim.number(b, f.order).int()
		return intVal(f.bits.of(uint64(v))), err
	case t.prim.size > 0 && f.count == nil:
		return f.scaled(t.prim.number(b, f.order)), nil
	case t.prim.size > 0:
		return val{kind: kObj, obj: &numbers{prim: t.prim, order: f.order, scale: f.scale, data: b[:f.fixedSize()]}}, nil
	case t.text != "":
		return strVal(fixedText(t.text, b[:f.fixedN])), nil
	case f.count == nil:
		return val{kind: kObj, obj: &record{def: t.rec, off: off, src: src, data: b[:t.rec.size]}}, nil
	}
	return val{kind: kObj, obj: &table{def: t.rec, off: off, src: src, data: b[:f.fixedSize()]}}, nil
}

// scaled is a fixed-point number's value.
func (f *field) scaled(v val) val {
	if f.scale == 0 {
		return v
	}
	x, err := v.float()
	if err != nil {
		return v
	}
	return floatVal(x * f.scale)
}

func fixedText(kind string, b []byte) string {
	switch kind {
	case "utf16le", "utf16be":
		var u []uint16
		for ; len(b) > 1; b = b[2:] {
			c := uint16(b[0]) | uint16(b[1])<<8
			if kind == "utf16be" {
				c = c<<8 | c>>8
			}
			if c == 0 {
				break
			}
			u = append(u, c)
		}
		return string(utf16.Decode(u))
	case "shift_jis":
		if i := bytes.IndexByte(b, 0); i >= 0 {
			b = b[:i]
		}
		out, err := japanese.ShiftJIS.NewDecoder().Bytes(b)
		if err != nil {
			return decodeText(b)
		}
		return string(out)
	}
	s := b
	for i, c := range b {
		if c == 0 {
			s = b[:i]
			break
		}
	}
	if kind == "latin1" {
		var w strings.Builder
		for _, c := range s {
			w.WriteRune(rune(c))
		}
		return w.String()
	}
	return decodeText(s)
}

// each runs a map once for every record of a list.
type each struct {
	list  *formula
	scope *scope // has the record and index
}

// each compiles "each: formula" with "as: name"; the map's own formulas see
// the record under that name (it where none is given) and its index.
func (c *compiler) each(n *node, sc *scope) *each {
	name := c.optional(n, "as", "it")
	return &each{list: c.needFormula(n, "each", sc), scope: sc.child(name, "index")}
}

func (ea *each) do(e *env, f func(i int, e *env) error) error {
	v, err := ea.list.eval(e)
	if err != nil {
		return err
	}
	seq, ok := v.obj.(starlark.Indexable)
	if v.kind != kObj || !ok {
		return ea.list.fail(e, fmt.Errorf("%s is not a list of records", v.typeName()))
	}
	tab, isTable := seq.(*table)
	inner := e.child(val{}, val{})
	for i := 0; i < seq.Len(); i++ {
		if i&1023 == 0 {
			if err := e.run.cancelled(); err != nil {
				return err
			}
		}
		if isTable {
			rec := tab.at(i)
			e.run.cur, e.run.at = rec.src, rec.off
			inner.slots[0] = val{kind: kObj, obj: rec}
		} else {
			inner.slots[0] = fromStarlark(seq.Index(i))
		}
		inner.slots[1] = intVal(int64(i))
		if err := f(i, inner); err != nil {
			return err
		}
	}
	return nil
}

// count is the number of records that do will visit.
func (ea *each) count(e *env) int {
	v, err := ea.list.eval(e)
	if err != nil || v.kind != kObj {
		return 0
	}
	if s, ok := v.obj.(starlark.Indexable); ok {
		return s.Len()
	}
	return 0
}
