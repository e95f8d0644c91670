package layout

import (
	"errors"
	"fmt"
	"math"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// Surroundings is what lies around a file: its name, the other files, and
// what the porter chose where its bytes may be read in more than one way.
type Surroundings struct {
	Name string // path in its source; layouts know it as file_name
	// Open finds another file by the name that the layout gives it. Nil: there
	// is none.
	Open func(ref string) (Input, error)
	// Readings are the choices by name; the first of each is meant without one.
	Readings map[string]string
}

// MissingError says that what a layout needs is not there: an address space
// that is bound to nothing, or a file that was not found.
type MissingError struct {
	Space string // the space's name; empty where a file was asked for by name
	Ref   string // the name that was looked for
	At    int64  // the address within it that is wanted
	Err   error  // why Ref was not opened
}

func (e *MissingError) Error() string {
	what := fmt.Sprintf("%q", e.Ref)
	if e.Space != "" {
		what = fmt.Sprintf("the space %s (%s)", e.Space, e.Ref)
	}
	return fmt.Sprintf("%s at 0x%x: %v", what, e.At, e.Err)
}

func (e *MissingError) Unwrap() error { return e.Err }

// spaceDef is one address space: a file that pointers lead into.
type spaceDef struct {
	name   string
	number int64 // that pointers carry
	file   *formula
	base   int64 // the address of its first byte
	texels *texelView
	src    *node
}

// pointerDef says which bits of a pointer are the space and which the offset.
type pointerDef struct {
	space, offset bitRange
	numbers       map[int64]*spaceDef
}

// bitRange is bits of a word: the lowest, and how many.
type bitRange struct{ low, count uint }

func (b bitRange) of(w uint64) int64 { return int64(w >> b.low & (1<<b.count - 1)) }

// bitRange reads "24+8": from bit 24 up, 8 bits.
func (c *compiler) bitRange(n *node) (b bitRange) {
	w := c.word(n)
	if c.err != nil {
		return b
	}
	if k, err := fmt.Sscanf(w, "%d+%d", &b.low, &b.count); k != 2 || err != nil || b.count < 1 || b.count > 48 || b.low+b.count > 64 {
		c.fail(n, "%q is no bits of a word: write the lowest bit and how many there are, such as 24+8", w)
	}
	return b
}

func (c *compiler) spaces(n, pointer *node) {
	c.Layout.spaces = map[string]*spaceDef{}
	if n == nil && pointer == nil {
		return
	}
	if n == nil || len(n.pairs) == 0 {
		c.fail(pointer, "a pointer leads into spaces, and the layout names none under spaces")
		return
	}
	if pointer != nil {
		c.keys(pointer, "space", "offset")
		c.pointer = &pointerDef{space: c.bitRange(c.need(pointer, "space")), offset: c.bitRange(c.need(pointer, "offset")), numbers: map[int64]*spaceDef{}}
	}
	sc := &scope{names: []string{"file_size", "file_name"}}
	for _, p := range n.pairs {
		if c.err != nil {
			return
		}
		v := p.value
		c.keys(v, "is", "file", "base", "texels", "about")
		s := &spaceDef{name: p.key, number: -1, file: c.optionalFormula(v, "file", sc), src: v}
		if x := v.get("is"); x != nil {
			if s.number = c.whole(x); c.pointer == nil {
				c.fail(x, "is tells which pointers lead here; say under pointer which bits of one are the space")
			}
		}
		if x := v.get("base"); x != nil {
			s.base = c.whole(x)
		}
		if x := v.get("texels"); x != nil && c.err == nil {
			if s.texels = c.texelView(x); s.file == nil {
				c.fail(x, "texels are of another file; this space is the file itself")
			}
		}
		c.Layout.spaces[p.key] = s
		if s.number >= 0 && c.err == nil {
			if other := c.pointer.numbers[s.number]; other != nil {
				c.fail(v, "pointers to %d lead to %s already", s.number, other.name)
			}
			c.pointer.numbers[s.number] = s
		}
	}
}

// texelView says how the texels of a picture that was dumped to a file of its
// own are taken out of it, so that they stand as they stood in memory: in
// rows from the top down without padding. It applies to files whose first
// bytes it recognises; others are the memory itself.
type texelView struct {
	*Layout
	at, row, rows, stride *formula
	bottomUp              bool
	base                  int64 // the address of the first texel
}

func (c *compiler) texelView(n *node) *texelView {
	c.keys(n, "recognise", "fields", "at", "row", "rows", "stride", "order", "base")
	if c.err != nil {
		return nil
	}
	in := &compiler{Layout: &Layout{Name: c.Name, order: littleEndian, records: map[string]*recordDef{}}}
	in.recognise(in.need(n, "recognise"))
	if f := in.need(n, "fields"); f != nil && in.err == nil {
		in.fileFields = f
		in.top = &recordDef{name: "dump", line: f.line, src: f}
		in.record(in.top)
		in.topScope = in.top.scope
	}
	v := &texelView{Layout: in.Layout}
	if in.err == nil {
		v.at, v.row, v.rows = in.needFormula(n, "at", in.topScope), in.needFormula(n, "row", in.topScope), in.needFormula(n, "rows", in.topScope)
		v.stride = in.optionalFormula(n, "stride", in.topScope)
		if b := n.get("base"); b != nil {
			v.base = in.whole(b)
		}
		v.bottomUp = in.optionalOf(n, "order", "top-down", "top-down", "bottom-up") == "bottom-up"
	}
	if in.err != nil {
		c.err = in.err
	}
	return v
}

// of is the texels of a dump as an Input.
func (v *texelView) of(r *run, in Input) (Input, error) {
	x := newRun(r.ctx, v.Layout, in)
	e, err := x.fields()
	if err != nil {
		return nil, err
	}
	var n [4]int64
	for i, f := range []*formula{v.at, v.row, v.rows, v.stride} {
		if f == nil {
			n[i] = n[1] // without padding
			continue
		}
		if n[i], err = f.int(e); err != nil {
			return nil, err
		}
	}
	at, row, rows, stride := n[0], n[1], n[2], n[3]
	if row < 1 || rows < 1 || row > 1<<24 || rows > 1<<24 || stride < row {
		return nil, x.errorf(v.row.line, v.row.col, "%d rows of %d bytes, %d bytes apart", rows, row, stride)
	}
	if err := inRange(at, (rows-1)*stride+row, in.Size()); err != nil {
		return nil, x.errorf(v.at.line, v.at.col, "texels: %v", err)
	}
	return &rowInput{in: in, at: at, row: row, rows: rows, stride: stride, flip: v.bottomUp}, nil
}

// rowInput is rows of another Input, one after another.
type rowInput struct {
	in                    Input
	at, row, rows, stride int64
	flip                  bool
}

func (w *rowInput) Size() int64 { return w.row * w.rows }

func (w *rowInput) Bytes(off, n int64) ([]byte, error) {
	if err := inRange(off, n, w.Size()); err != nil {
		return nil, err
	}
	out := make([]byte, 0, n)
	for n > 0 {
		y, x := off/w.row, off%w.row
		if w.flip {
			y = w.rows - 1 - y
		}
		k := min(n, w.row-x)
		b, err := w.in.Bytes(w.at+y*w.stride+x, k)
		if err != nil {
			return nil, err
		}
		out = append(out, b...)
		off, n = off+k, n-k
	}
	return out, nil
}

// opened is a file that is read: the file itself, or another one.
type opened struct {
	space string
	ref   string // empty for the file itself
	base  int64  // the address of its first byte
	in    Input
	err   error
}

func (o *opened) main() bool { return o.ref == "" }

// open finds another file once for each run.
func (r *run) open(ref string, s *spaceDef) *opened {
	key := ref
	if s != nil {
		key = s.name + "\x00" + ref
	}
	if o := r.files[key]; o != nil {
		return o
	}
	o := &opened{ref: ref}
	if s != nil {
		o.space, o.base = s.name, s.base
	}
	switch {
	case ref == "":
		o.err = errors.New("it has no name")
	case len(r.files) >= 4096:
		o.err = errors.New("more than 4096 other files")
	case r.around.Open == nil:
		o.err = errors.New("it is bound to nothing")
	default:
		if o.in, o.err = r.around.Open(ref); o.err == nil && s != nil && s.texels != nil {
			head, err := o.in.Bytes(0, min(o.in.Size(), HeadBytes))
			if err == nil && s.texels.Recognises(head) {
				o.base = s.texels.base
				o.in, o.err = s.texels.of(r, o.in)
			}
		}
	}
	if r.files == nil {
		r.files = map[string]*opened{}
	}
	r.files[key] = o
	return o
}

// place is an offset in one of the files that are read.
type place struct {
	frozen
	of  *opened
	off int64 // as an address, counted from the file's base
}

func (p *place) String() string {
	if p.of.main() {
		return fmt.Sprintf("offset %d", p.off)
	}
	return fmt.Sprintf("0x%x in %s", p.off, p.of.ref)
}
func (p *place) Type() string { return "place" }

// Binary adds a number to a place, or takes one away.
func (p *place) Binary(op syntax.Token, y starlark.Value, side starlark.Side) (starlark.Value, error) {
	i, ok := y.(starlark.Int)
	if !ok || op != syntax.PLUS && (op != syntax.MINUS || side == starlark.Right) {
		return nil, nil
	}
	n, ok := i.Int64()
	if !ok || n > math.MaxInt64/4 || n < -math.MaxInt64/4 {
		return nil, fmt.Errorf("%s is too far for an offset", i)
	}
	if op == syntax.MINUS {
		n = -n
	}
	return &place{of: p.of, off: p.off + n}, nil
}

// placeIn is where a formula's value leads: a number is an offset in the file
// itself.
func (f *formula) place(e *env) (*opened, int64, error) {
	v, err := f.eval(e)
	if err != nil {
		return nil, 0, err
	}
	if p, ok := v.obj.(*place); ok && v.kind == kObj {
		if p.of.err != nil {
			return nil, 0, e.run.errorAt(f.line, f.col, &MissingError{Space: p.of.space, Ref: p.of.ref, At: p.off, Err: p.of.err})
		}
		return p.of, p.off - p.of.base, nil
	}
	i, err := v.int()
	if err != nil {
		return nil, 0, f.fail(e, err)
	}
	return e.run.self, i, nil
}

// bytes reads n bytes where a formula leads. what says what they are.
func (f *formula) bytes(e *env, what string, n int64) ([]byte, error) {
	o, at, err := f.place(e)
	if err != nil {
		return nil, err
	}
	return e.run.read(f, o, at, n, what)
}

// read reads n bytes at a place; the place is what errors name from then on.
func (r *run) read(f *formula, o *opened, at, n int64, what string) ([]byte, error) {
	r.cur, r.at = o, at
	b, err := o.in.Bytes(at, n)
	if err != nil {
		err = r.errorf(f.line, f.col, "%s: %v", what, err)
	}
	if r.tracer != nil {
		r.tracer.use(o, at, n, what, f.line, f.col, err)
	}
	return b, err
}

// missing finds a MissingError in an error.
func missing(err error) *MissingError {
	var m *MissingError
	if errors.As(err, &m) {
		return m
	}
	return nil
}

func runOf(th *starlark.Thread) (*run, error) {
	if r, ok := th.Local("run").(*run); ok {
		return r, nil
	}
	return nil, errors.New("it can be asked only while a file is read")
}

// builtinPointer is the place that a pointer leads to.
func builtinPointer(th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var x starlark.Int
	if err := starlark.UnpackPositionalArgs("pointer", args, kw, 1, &x); err != nil {
		return nil, err
	}
	r, err := runOf(th)
	if err != nil {
		return nil, err
	}
	w, ok := x.Uint64()
	if !ok {
		return nil, fmt.Errorf("%s is no pointer", x)
	}
	return r.pointer(w)
}

func (r *run) pointer(w uint64) (*place, error) {
	d := r.layout.pointer
	if d == nil {
		return nil, errors.New("the layout does not say under pointer which bits of one are the space")
	}
	s := d.numbers[d.space.of(w)]
	if s == nil {
		return nil, fmt.Errorf("the pointer 0x%x leads to space %d, which the layout does not know", w, d.space.of(w))
	}
	o, err := r.space(s)
	return &place{of: o, off: d.offset.of(w)}, err
}

func (r *run) space(s *spaceDef) (*opened, error) {
	if o := r.bound[s]; o != nil {
		return o, nil
	}
	o, err := r.bind(s)
	if err == nil {
		if r.bound == nil {
			r.bound = map[*spaceDef]*opened{}
		}
		r.bound[s] = o
	}
	return o, err
}

// bind finds what a space is bound to.
func (r *run) bind(s *spaceDef) (*opened, error) {
	if s.file == nil {
		if s.base == 0 {
			return r.self, nil
		}
		return &opened{in: r.self.in, base: s.base}, nil
	}
	root := &env{run: r, slots: []val{intVal(r.self.in.Size()), strVal(r.around.Name)}}
	ref, err := s.file.text(root)
	if err != nil {
		return nil, err
	}
	return r.open(ref, s), nil
}

// builtinSpace is a place in a space by name; an address of 0 without one.
func builtinSpace(th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var name string
	var at int64
	if err := starlark.UnpackPositionalArgs("space", args, kw, 1, &name, &at); err != nil {
		return nil, err
	}
	r, err := runOf(th)
	if err != nil {
		return nil, err
	}
	s := r.layout.spaces[name]
	if s == nil {
		return nil, fmt.Errorf("the layout has no space %q", name)
	}
	o, err := r.space(s)
	return &place{of: o, off: at}, err
}

// builtinFile is the place where another file begins.
func builtinFile(th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var name string
	if err := starlark.UnpackPositionalArgs("file", args, kw, 1, &name); err != nil {
		return nil, err
	}
	r, err := runOf(th)
	if err != nil {
		return nil, err
	}
	return &place{of: r.open(name, nil)}, nil
}

// builtinBound tells whether a place can be read.
func builtinBound(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var x starlark.Value
	if err := starlark.UnpackPositionalArgs("bound", args, kw, 1, &x); err != nil {
		return nil, err
	}
	p, ok := x.(*place)
	if !ok {
		return nil, fmt.Errorf("bound is asked of a place, such as pointer(x) or file(name), not of %s", x.Type())
	}
	return starlark.Bool(p.of.err == nil), nil
}
