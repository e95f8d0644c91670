package layout

import (
	"bytes"
	"fmt"
	"math"
	"unicode/utf8"

	"excavate/core/limit"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// val is a formula's value. Numbers are kept out of interfaces so that the
// formulas that run once for each entry of an archive allocate nothing.
type val struct {
	kind kind
	i    int64
	f    float64
	obj  starlark.Value // strings, records, tables, blobs and all else
}

type kind uint8

const (
	kNone kind = iota
	kInt
	kFloat
	kBool // i is 0 or 1
	kObj
)

func intVal(i int64) val     { return val{kind: kInt, i: i} }
func floatVal(f float64) val { return val{kind: kFloat, f: f} }
func strVal(s string) val    { return val{kind: kObj, obj: starlark.String(s)} }
func boolVal(b bool) val {
	if b {
		return val{kind: kBool, i: 1}
	}
	return val{kind: kBool}
}

func (v val) starlark() starlark.Value {
	switch v.kind {
	case kInt:
		return starlark.MakeInt64(v.i)
	case kFloat:
		return starlark.Float(v.f)
	case kBool:
		return starlark.Bool(v.i != 0)
	case kObj:
		return v.obj
	}
	return starlark.None
}

func fromStarlark(v starlark.Value) val {
	switch v := v.(type) {
	case starlark.Int:
		if i, ok := v.Int64(); ok {
			return intVal(i)
		}
		return val{kind: kObj, obj: v}
	case starlark.Float:
		return floatVal(float64(v))
	case starlark.Bool:
		return boolVal(bool(v))
	case starlark.NoneType:
		return val{}
	}
	return val{kind: kObj, obj: v}
}

// String is the value as text: what choices compare and messages show.
func (v val) String() string {
	switch v.kind {
	case kInt:
		return fmt.Sprint(v.i)
	case kFloat:
		return fmt.Sprint(v.f)
	case kBool:
		if v.i != 0 {
			return "True"
		}
		return "False"
	case kObj:
		if s, ok := starlark.AsString(v.obj); ok {
			return s
		}
		return v.obj.String()
	}
	return "None"
}

func (v val) typeName() string {
	if v.kind == kObj {
		return v.obj.Type()
	}
	return v.starlark().Type()
}

func (v val) int() (int64, error) {
	switch v.kind {
	case kInt, kBool:
		return v.i, nil
	case kFloat:
		if v.f == math.Trunc(v.f) && math.Abs(v.f) < 1<<53 {
			return int64(v.f), nil
		}
	case kObj:
		if i, ok := v.obj.(starlark.Int); ok {
			return 0, fmt.Errorf("%s is too large", i)
		}
	}
	return 0, fmt.Errorf("%s is not a whole number", v)
}

func (v val) float() (float64, error) {
	switch v.kind {
	case kInt, kBool:
		return float64(v.i), nil
	case kFloat:
		return v.f, nil
	}
	return 0, fmt.Errorf("%s is not a number", v)
}

func (v val) truth() bool {
	switch v.kind {
	case kInt, kBool:
		return v.i != 0
	case kFloat:
		return v.f != 0
	case kObj:
		return bool(v.obj.Truth())
	}
	return false
}

// floats returns exactly n numbers of a list-like value.
func (v val) floats(n int) ([]float64, error) {
	if v.kind == kInt || v.kind == kFloat {
		f, _ := v.float()
		if n == 1 {
			return []float64{f}, nil
		}
		return nil, fmt.Errorf("one number, %d expected", n)
	}
	seq, ok := v.obj.(starlark.Indexable)
	if v.kind != kObj || !ok || seq.Len() != n {
		return nil, fmt.Errorf("%s is not a list of %d numbers", v.typeName(), n)
	}
	out := make([]float64, n)
	for i := range out {
		f, err := fromStarlark(seq.Index(i)).float()
		if err != nil {
			return nil, err
		}
		out[i] = f
	}
	return out, nil
}

// frozen gives our values the parts of starlark.Value that they share.
type frozen struct{}

func (frozen) Freeze()               {}
func (frozen) Truth() starlark.Bool  { return true }
func (frozen) Hash() (uint32, error) { return 0, fmt.Errorf("not hashable") }

// record is one record: fixed ones decode fields from their bytes on demand,
// others hold their values.
type record struct {
	frozen
	def  *recordDef
	off  int64
	src  *opened
	data []byte
	vals []val
}

func (r *record) String() string { return fmt.Sprintf("record %s at offset %d", r.def.name, r.off) }
func (r *record) Type() string   { return "record " + r.def.name }

func (r *record) field(i int) (val, error) {
	if r.vals != nil {
		return r.vals[i], nil
	}
	f := &r.def.fields[i]
	return f.decodeFixed(r.data[r.def.offsets[i]:], r.src, r.off+r.def.offsets[i])
}

func (r *record) Attr(name string) (starlark.Value, error) {
	i, ok := r.def.index[name]
	if !ok {
		return nil, nil
	}
	v, err := r.field(i)
	if err != nil {
		return nil, err
	}
	return v.starlark(), nil
}

func (r *record) AttrNames() []string {
	names := make([]string, len(r.def.fields))
	for i := range names {
		names[i] = r.def.fields[i].name
	}
	return names
}

// table is a list of records of one kind.
type table struct {
	frozen
	def  *recordDef
	off  int64
	src  *opened
	data []byte    // fixed records
	recs []*record // others
}

func (t *table) String() string { return fmt.Sprintf("%d records %s", t.Len(), t.def.name) }
func (t *table) Type() string   { return "table of " + t.def.name }
func (t *table) Len() int {
	if t.recs != nil || t.def.size == 0 {
		return len(t.recs)
	}
	return len(t.data) / int(t.def.size)
}

func (t *table) at(i int) *record {
	if t.recs != nil {
		return t.recs[i]
	}
	s := int(t.def.size)
	return &record{def: t.def, off: t.off + int64(i*s), src: t.src, data: t.data[i*s : (i+1)*s]}
}
func (t *table) Index(i int) starlark.Value { return t.at(i) }
func (t *table) Iterate() starlark.Iterator { return &iterator{seq: t} }
func (t *table) Slice(start, end, step int) starlark.Value {
	if step != 1 {
		var l []starlark.Value
		for i := start; step > 0 && i < end || step < 0 && i > end; i += step {
			l = append(l, t.at(i))
		}
		return starlark.NewList(l)
	}
	return t.slice(start, end)
}

func (t *table) slice(start, end int) *table {
	if t.recs != nil {
		return &table{def: t.def, off: t.off, src: t.src, recs: t.recs[start:end:end]}
	}
	s := int(t.def.size)
	return &table{def: t.def, off: t.off + int64(start*s), src: t.src, data: t.data[start*s : end*s : end*s]}
}

// numbers is a list of plain numbers.
type numbers struct {
	frozen
	prim  primitive
	order byteOrder
	scale float64 // of fixed point; 0 is none
	data  []byte
}

func (n *numbers) String() string { return fmt.Sprintf("%d numbers", n.Len()) }
func (n *numbers) Type() string   { return "numbers" }
func (n *numbers) Len() int       { return len(n.data) / n.prim.size }
func (n *numbers) at(i int) val {
	v := n.prim.number(n.data[i*n.prim.size:], n.order)
	if n.scale == 0 {
		return v
	}
	x, err := v.float()
	if err != nil {
		return v
	}
	return floatVal(x * n.scale)
}
func (n *numbers) Index(i int) starlark.Value { return n.at(i).starlark() }
func (n *numbers) Iterate() starlark.Iterator { return &iterator{seq: n} }

type iterator struct {
	seq starlark.Indexable
	i   int
}

func (it *iterator) Next(p *starlark.Value) bool {
	if it.i >= it.seq.Len() {
		return false
	}
	*p = it.seq.Index(it.i)
	it.i++
	return true
}
func (it *iterator) Done() {}

// blob is a range of the file that is read only where it is asked for.
type blob struct {
	frozen
	in     Input
	src    *opened
	off, n int64
}

func (b *blob) String() string { return fmt.Sprintf("%d bytes at offset %d", b.n, b.off) }
func (b *blob) Type() string   { return "bytes" }
func (b *blob) Len() int       { return int(b.n) }
func (b *blob) Index(i int) starlark.Value {
	d, err := b.in.Bytes(b.off+int64(i), 1)
	if err != nil {
		return starlark.None
	}
	return starlark.MakeInt(int(d[0]))
}

const maxText = 16 << 10

// text reads the zero-ended string at an offset within the blob.
func (b *blob) text(at int64) (string, error) {
	d, err := b.untilZero(at)
	return decodeText(d), err
}

func (b *blob) untilZero(at int64) ([]byte, error) {
	if at < 0 || at >= b.n {
		return nil, fmt.Errorf("a text at %d of %d bytes (they start at offset %d)", at, b.n, b.off)
	}
	for want := int64(128); ; want *= 4 {
		n := min(want, b.n-at)
		d, err := b.in.Bytes(b.off+at, n)
		if err != nil {
			return nil, err
		}
		if end := bytes.IndexByte(d, 0); end >= 0 {
			return d[:end], nil
		}
		if n == b.n-at || n > maxText {
			if n > maxText {
				return nil, fmt.Errorf("a text at offset %d has no end within %d bytes", b.off+at, maxText)
			}
			return d, nil
		}
	}
}

// decodeText reads UTF-8, and as Latin-1 what is not UTF-8.
func decodeText(b []byte) string {
	if utf8.Valid(b) {
		return string(b)
	}
	r := make([]rune, len(b))
	for i, c := range b {
		r[i] = rune(c)
	}
	return string(r)
}

// The functions that formulas may call beside len, int, float, str, range,
// ord and chr.
var builtins = starlark.StringDict{
	"text":    starlark.NewBuiltin("text", builtinText),
	"start":   starlark.NewBuiltin("start", builtinStart),
	"min":     starlark.NewBuiltin("min", builtinMinMax),
	"max":     starlark.NewBuiltin("max", builtinMinMax),
	"abs":     starlark.Universe["abs"],
	"pointer": starlark.NewBuiltin("pointer", builtinPointer),
	"space":   starlark.NewBuiltin("space", builtinSpace),
	"file":    starlark.NewBuiltin("file", builtinFile),
	"bound":   starlark.NewBuiltin("bound", builtinBound),
	"named":   starlark.NewBuiltin("named", builtinNamed),
	"_times":  starlark.NewBuiltin("*", builtinTimes),
}

var universe = map[string]bool{"len": true, "int": true, "float": true, "str": true, "range": true, "ord": true, "chr": true,
	"bool": true, "True": true, "False": true, "None": true}

func builtinText(th *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var in starlark.Value
	var at int64
	if err := starlark.UnpackPositionalArgs("text", args, kw, 2, &in, &at); err != nil {
		return nil, err
	}
	bl, ok := in.(*blob)
	if !ok {
		return nil, fmt.Errorf("text reads from a field of type bytes, not from %s", in.Type())
	}
	s, err := bl.text(at)
	th.Steps += uint64(len(s) / 16)
	return starlark.String(s), err
}

// builtinStart tells where bytes, a record or a table begin in the file.
func builtinStart(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var in starlark.Value
	if err := starlark.UnpackPositionalArgs("start", args, kw, 1, &in); err != nil {
		return nil, err
	}
	var src *opened
	var off int64
	switch x := in.(type) {
	case *blob:
		src, off = x.src, x.off
	case *record:
		src, off = x.src, x.off
	case *table:
		src, off = x.src, x.off
	default:
		return nil, fmt.Errorf("start is asked of bytes, a record or a list of records, not of %s", in.Type())
	}
	if src == nil || src.main() {
		return starlark.MakeInt64(off), nil
	}
	return &place{of: src, off: off + src.base}, nil
}

func builtinMinMax(th *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	if len(args) == 0 || len(kw) > 0 {
		return nil, fmt.Errorf("%s takes numbers", b.Name())
	}
	best := args[0]
	op := syntax.LT
	if b.Name() == "max" {
		op = syntax.GT
	}
	for _, a := range args[1:] {
		if ok, err := starlark.Compare(op, a, best); err != nil {
			return nil, err
		} else if ok {
			best = a
		}
	}
	return best, nil
}

// builtinTimes stands in for * so that no text or list can be multiplied
// into endless memory.
func builtinTimes(th *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	x, y := args[0], args[1]
	for _, p := range [][2]starlark.Value{{x, y}, {y, x}} {
		if s, ok := p[0].(starlark.Sequence); ok {
			if n, err := starlark.AsInt32(p[1]); err != nil || n > 0 && s.Len() > limit.FormulaSteps/n {
				return nil, fmt.Errorf("a list times %s is too long", p[1])
			}
		}
		if s, ok := starlark.AsString(p[0]); ok {
			if n, err := starlark.AsInt32(p[1]); err != nil || n > 0 && len(s) > maxText/n {
				return nil, fmt.Errorf("a text times %s is too long", p[1])
			}
		}
		if i, ok := p[0].(starlark.Int); ok {
			if _, small := i.Int64(); !small {
				return nil, fmt.Errorf("%s is too large", i)
			}
		}
	}
	return starlark.Binary(syntax.STAR, x, y)
}
