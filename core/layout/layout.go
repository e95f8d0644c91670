// Package layout reads binary formats that nobody wrote a reader for. A
// layout is a YAML document that describes one format: how to recognise it,
// its fields and tables of records, and what they mean: the entries of a
// container, the texels of a picture, or the parts, bones and motions of a
// model. docs/layouts.md is the language's reference.
//
// Formulas in a layout are Starlark expressions; they are bounded in steps
// and memory. Every error names the line and column in the layout, and where
// bytes are at fault the offset in the file.
package layout

import (
	"encoding/hex"
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"

	"excavate/core/codec"
	"excavate/core/geom"
)

// Kind says what a layout makes of a file.
type Kind string

// The kinds.
const (
	Container Kind = "container"
	Picture   Kind = "picture"
	Model     Kind = "model"
)

// Layout is one compiled description. It is immutable and may be used by many
// goroutines at once.
type Layout struct {
	Name  string // short name, as on screen
	Title string
	About string
	Kind  Kind
	Doc   []byte // the document it was compiled from

	order      byteOrder
	magic      []magic
	mark       *magic  // bytes that say that the file is in the other order
	other      *Layout // the same layout in the other order
	codecs     map[string]*codec.Codec
	spaces     map[string]*spaceDef
	pointer    *pointerDef
	nameList   *nameList
	readings   []reading
	fileFields *node    // the file's own fields
	fileNames  []string // and their names, which records see
	records    map[string]*recordDef
	top        *recordDef
	topScope   *scope
	container  *containerMap
	picture    *pictureMap
	model      *modelMap
}

type magic struct {
	at    int64
	bytes []byte
}

// field is one field of the file or of a record.
type field struct {
	name      string
	line, col int
	typ       fieldType
	count     *formula // of array elements, or bytes of a text; nil for a single value
	at        *formula
	when      *formula
	must      *formula
	message   string
	fixedN    int64 // count if it is constant, else -1
	order     byteOrder
	toEnd     bool     // as many elements as there are
	until     *formula // ends the list; sees the element as it
	next      *formula // where the next element lies; sees the element as it
	align     int64    // the field begins at a multiple of this
	scale     float64  // of fixed-point numbers; 0 is none
	bitsOf    int      // the field whose bits this is; -1 for a field of its own
	bits      bitRange
	orderBy   *choice[byteOrder]
	variants  *choice[*field] // of a type chosen by a tag
}

type fieldType struct {
	prim   primitive
	rec    *recordDef
	text   string // ascii, utf8, latin1, ...: counted text; cstr: zero-ended
	varint string // leb128 or vlq
	isBlob bool
}

// recordDef is a compiled list of fields.
type recordDef struct {
	name    string
	line    int
	fields  []field
	index   map[string]int
	scope   *scope
	fixed   bool
	size    int64   // of a fixed record
	offsets []int64 // of its fields
	busy    bool    // while it is compiled, to find records within themselves
	src     *node
}

// Compile reads a layout document. name is used in errors, usually the file's
// name.
func Compile(name string, doc []byte) (*Layout, error) {
	root, err := parseYAML(name, doc)
	if err != nil {
		return nil, err
	}
	l, err := compileOrder(name, doc, root, littleEndian)
	if err == nil && l.mark != nil {
		l.other, err = compileOrder(name, doc, root, bigEndian)
	}
	return l, err
}

// inOrder is the layout in the byte order of a file.
func (l *Layout) inOrder(in Input) *Layout {
	if l.mark == nil {
		return l
	}
	b, err := in.Bytes(l.mark.at, int64(len(l.mark.bytes)))
	if err != nil || string(b) != string(l.mark.bytes) {
		return l
	}
	return l.other
}

// compileOrder compiles a document. marked is the order where the document
// says that a mark in the file tells.
func compileOrder(name string, doc []byte, root *node, marked byteOrder) (*Layout, error) {
	l := &Layout{Name: name, Doc: doc, records: map[string]*recordDef{}}
	c := &compiler{Layout: l}
	c.keys(root, "layout", "title", "about", "kind", "order", "recognise", "codecs", "pointer", "spaces", "names", "readings", "records", "fields", "container", "picture", "model")
	if c.err != nil {
		return nil, c.err
	}
	if n := c.need(root, "layout"); n != nil {
		l.Name = c.word(n)
	}
	l.Title, l.About = c.optional(root, "title", l.Name), c.optional(root, "about", "")
	if n := c.need(root, "kind"); n != nil {
		l.Kind = Kind(c.oneOf(n, "container", "picture", "model"))
	}
	if o := root.get("order"); o != nil && o.mapping {
		c.keys(o, "at", "big")
		if c.err != nil {
			return nil, c.err
		}
		b, err := hex.DecodeString(strings.ReplaceAll(c.word(c.need(o, "big")), " ", ""))
		if err != nil || len(b) == 0 || len(b) > 16 {
			c.fail(o, "big names the 1 to 16 bytes, in hexadecimal, that a file in big-endian order has at that place")
		}
		l.mark = &magic{bytes: b}
		if a := o.get("at"); a != nil {
			l.mark.at = c.whole(a)
		}
		l.order = marked
	} else if c.optionalOf(root, "order", "little", "little", "big") == "big" {
		l.order = bigEndian
	}
	c.recognise(c.need(root, "recognise"))
	if n := root.get("codecs"); n != nil && c.err == nil {
		c.codecs(n)
	}
	if c.err == nil {
		c.spaces(root.get("spaces"), root.get("pointer"))
	}
	if n := root.get("names"); n != nil && c.err == nil {
		c.names(n)
	}
	if n := root.get("readings"); n != nil && c.err == nil {
		c.readingList(n)
	}
	if n := root.get("fields"); n != nil {
		l.fileFields = n
		for _, it := range n.items {
			if len(it.pairs) != 1 {
				continue
			}
			l.fileNames = append(l.fileNames, it.pairs[0].key)
			if b := it.pairs[0].value.get("bits"); b != nil {
				for _, p := range b.pairs {
					l.fileNames = append(l.fileNames, p.key)
				}
			}
		}
	}
	if recs := root.get("records"); recs != nil {
		for _, p := range recs.pairs {
			l.records[p.key] = &recordDef{name: p.key, line: p.line, src: p.value}
		}
		names := make([]string, 0, len(l.records))
		for n := range l.records {
			names = append(names, n)
		}
		sort.Strings(names)
		for _, n := range names {
			c.record(l.records[n])
		}
	}
	if n := c.need(root, "fields"); n != nil {
		l.top = &recordDef{name: "file", line: n.line, src: n}
		c.record(l.top)
		l.topScope = l.top.scope
	}
	if c.err != nil {
		return nil, c.err
	}
	if n := c.need(root, string(l.Kind)); n != nil {
		switch l.Kind {
		case Container:
			c.container(n)
		case Picture:
			c.picture(n)
		case Model:
			c.model(n)
		}
	}
	for _, k := range []Kind{Container, Picture, Model} {
		if n := root.get(string(k)); n != nil && k != l.Kind {
			c.fail(n, "the layout is of kind %s and has no use for %s", l.Kind, k)
		}
	}
	if c.err != nil {
		return nil, c.err
	}
	return l, nil
}

// Recognises tells whether a file's first bytes fit the layout.
func (l *Layout) Recognises(head []byte) bool {
	for _, m := range l.magic {
		if m.at+int64(len(m.bytes)) > int64(len(head)) || string(head[m.at:m.at+int64(len(m.bytes))]) != string(m.bytes) {
			return false
		}
	}
	return true
}

// sureBytes is how many telling bytes a mark has that hardly anything else has
// by chance. Zeros and ones all over stand everywhere and tell nothing.
const sureBytes = 4

// Sure tells whether a file that the layout recognises is hardly something
// else.
func (l *Layout) Sure() bool {
	n := 0
	for _, m := range l.magic {
		for _, b := range m.bytes {
			if b != 0 && b != 0xff {
				n++
			}
		}
	}
	return n >= sureBytes
}

// compiler keeps the first error, so that the code reads straight on.
type compiler struct {
	*Layout
	err error
}

func (c *compiler) fail(n *node, format string, a ...any) {
	if c.err == nil {
		c.err = &Error{Layout: c.Name, Line: n.line, Col: n.col, Msg: fmt.Sprintf(format, a...)}
	}
}

// keys refuses keys that are not known, with the known ones in the message.
func (c *compiler) keys(n *node, known ...string) {
	if !n.mapping {
		c.fail(n, "a mapping with %s is expected here, not %s", strings.Join(known, ", "), n.what())
		return
	}
next:
	for _, p := range n.pairs {
		for _, k := range known {
			if p.key == k {
				continue next
			}
		}
		c.fail(&node{line: p.line, col: p.col}, "key %q is not known here; known are %s", p.key, strings.Join(known, ", "))
	}
}

func (c *compiler) need(n *node, key string) *node {
	v := n.get(key)
	if v == nil {
		c.fail(n, "%q is missing", key)
	}
	return v
}

// word is a scalar's text. What is missing has been reported where it was
// needed.
func (c *compiler) word(n *node) string {
	if n == nil {
		return ""
	}
	if !n.scalar || n.text == "" {
		c.fail(n, "a word is expected here, not %s", n.what())
	}
	return n.text
}

func (c *compiler) oneOf(n *node, words ...string) string {
	w := c.word(n)
	for _, k := range words {
		if w == k {
			return w
		}
	}
	c.fail(n, "%q is not one of %s", w, strings.Join(words, ", "))
	return ""
}

func (c *compiler) optional(n *node, key, def string) string {
	if v := n.get(key); v != nil {
		return c.word(v)
	}
	return def
}

func (c *compiler) optionalOf(n *node, key, def string, words ...string) string {
	if v := n.get(key); v != nil {
		return c.oneOf(v, words...)
	}
	return def
}

func (c *compiler) whole(n *node) int64 {
	if n == nil {
		return 0
	}
	i, err := strconv.ParseInt(strings.ReplaceAll(n.text, "_", ""), 0, 64)
	if !n.scalar || err != nil {
		c.fail(n, "a whole number is expected here, not %s", n.what())
	}
	return i
}

func (c *compiler) formula(n *node, sc *scope) *formula {
	if n == nil || c.err != nil {
		return nil
	}
	f, err := c.compileFormula(n, sc)
	if err != nil && c.err == nil {
		c.err = err
	}
	return f
}

func (c *compiler) optionalFormula(n *node, key string, sc *scope) *formula {
	return c.formula(n.get(key), sc)
}

func (c *compiler) needFormula(n *node, key string, sc *scope) *formula {
	return c.formula(c.need(n, key), sc)
}

func (c *compiler) recognise(n *node) {
	if n == nil {
		return
	}
	if len(n.items) == 0 {
		c.fail(n, "recognise is a list of byte strings with their places, such as {at: 0, ascii: TIDE}")
	}
	for _, it := range n.items {
		c.keys(it, "at", "ascii", "bytes")
		if c.err != nil {
			return
		}
		m := magic{}
		if a := it.get("at"); a != nil {
			m.at = c.whole(a)
		}
		switch {
		case it.get("ascii") != nil:
			m.bytes = []byte(c.word(it.get("ascii")))
		case it.get("bytes") != nil:
			b, err := hex.DecodeString(strings.ReplaceAll(it.get("bytes").text, " ", ""))
			if err != nil {
				c.fail(it.get("bytes"), "bytes are pairs of hexadecimal digits: %v", err)
			}
			m.bytes = b
		default:
			c.fail(it, "ascii or bytes is missing")
		}
		if m.at < 0 || m.at > 4096 || len(m.bytes) == 0 || len(m.bytes) > 256 {
			c.fail(it, "recognise looks at 1 to 256 bytes within the first 4096")
		}
		c.magic = append(c.magic, m)
	}
}

func (c *compiler) record(r *recordDef) {
	if r.scope != nil || c.err != nil {
		return
	}
	if r.busy {
		c.err = &Error{Layout: c.Name, Line: r.line, Col: 1, Msg: fmt.Sprintf("record %s contains itself", r.name)}
		return
	}
	r.busy = true
	defer func() { r.busy = false }()
	if len(r.src.items) == 0 {
		c.fail(r.src, "the fields of %s are a list such as - count: u32", r.name)
		return
	}
	r.index = map[string]int{}
	sc := c.recordScope(r)
	r.fixed = true
	for _, it := range r.src.items {
		if !it.mapping || len(it.pairs) != 1 {
			c.fail(it, "a field is one name with its type, such as - count: u32")
			return
		}
		c.addField(r, it, sc)
		if c.err != nil {
			return
		}
	}
	r.fixed = r.fixed && r.size > 0
	r.scope = sc
}

// recordScope is what a record's formulas see: the file, its readings, the
// file's own fields unless these are they, and the fields that stand before.
func (c *compiler) recordScope(r *recordDef) *scope {
	root := &scope{names: []string{"file_size", "file_name"}}
	for _, x := range c.readings {
		root.names = append(root.names, x.name)
	}
	if r.name != "file" || r.src != c.fileFields {
		root = root.child(c.fileNames...)
	}
	return root.child("here").child()
}

// taken tells whether a field of a record cannot have a name.
func (r *recordDef) taken(name string) bool {
	_, twice := r.index[name]
	return twice || name == "file_size" || name == "file_name" || name == "here" || builtins[name] != nil || universe[name]
}

// addField compiles one field of a record: what stands beside its type, the
// type, what must hold of it, and where it lies if that is known beforehand.
func (c *compiler) addField(r *recordDef, it *node, sc *scope) {
	v := it.pairs[0].value
	f := field{name: it.pairs[0].key, line: it.pairs[0].line, col: it.pairs[0].col, fixedN: -1, bitsOf: -1, order: c.order}
	if r.taken(f.name) {
		c.fail(it, "field name %q is taken", f.name)
	}
	typ := v
	if v.mapping {
		c.keys(v, "type", "at", "when", "must", "message", "order", "until", "next", "align", "bits", "scale")
		typ = c.need(v, "type")
		c.fieldOptions(&f, v, sc)
	}
	if c.err != nil {
		return
	}
	if typ.mapping {
		f.variants = chooser(c, typ, sc, func(n *node) *field {
			x := f
			c.fieldType(&x, n, sc)
			return &x
		})
		if c.err == nil && f.variants.by == nil {
			c.fail(typ, "a type is a word, or chosen: {by: tag, 1: one, 2: other}")
		}
	} else {
		c.fieldType(&f, typ, sc)
	}
	if c.err != nil {
		return
	}
	r.index[f.name] = len(r.fields)
	sc.names = append(sc.names, f.name) // its own rule and those after it see it
	if v.mapping {
		f.must = c.optionalFormula(v, "must", sc)
	}
	if c.err != nil {
		return
	}
	c.fitting(&f, it)
	if size := f.fixedSize(); size >= 0 && f.still() {
		r.offsets = append(r.offsets, r.size)
		r.size += size
	} else {
		r.fixed = false
	}
	r.fields = append(r.fields, f)
	if b := v.get("bits"); b != nil {
		c.bitFields(r, &f, b, sc)
	}
}

// fieldOptions compiles what stands beside a field's type.
func (c *compiler) fieldOptions(f *field, v *node, sc *scope) {
	if x := v.get("scale"); x != nil {
		sf := c.formula(x, sc)
		if sf != nil && sf.constant {
			f.scale, _ = sf.float(&env{run: &run{layout: c.Layout}})
		}
		if c.err == nil && (f.scale == 0 || math.IsNaN(f.scale) || math.IsInf(f.scale, 0)) {
			c.fail(x, "the scale of a fixed-point number is a number, such as 1/4096")
		}
	}
	if a := v.get("align"); a != nil {
		if f.align = c.whole(a); f.align < 1 || f.align > 1<<20 {
			c.fail(a, "a field is aligned to 1 to 1048576 bytes")
		}
	}
	f.until = c.optionalFormula(v, "until", sc.child("it"))
	f.next = c.optionalFormula(v, "next", sc.child("it"))
	f.at = c.optionalFormula(v, "at", sc)
	f.when = c.optionalFormula(v, "when", sc)
	f.message = c.optional(v, "message", "")
	f.orderBy = chooser(c, v.get("order"), sc, func(n *node) byteOrder { return c.oneOf(n, "little", "big") == "big" })
	if f.orderBy != nil && f.orderBy.by == nil {
		f.order, f.orderBy = f.orderBy.fixed, nil
	}
}

// fitting refuses options that do not go with a field's type.
func (c *compiler) fitting(f *field, it *node) {
	switch {
	case (f.until != nil || f.next != nil) && f.count == nil && !f.toEnd:
		c.fail(it, "until and next go with a list, such as chunk[*]")
	case f.next != nil && f.typ.rec == nil:
		c.fail(it, "next goes with a list of records")
	case f.scale != 0 && f.typ.prim.size == 0:
		c.fail(it, "scale goes with numbers")
	}
}

// still tells whether a field lies right behind the one before it in every
// record, and is read in one way.
func (f *field) still() bool {
	return f.orderBy == nil && f.at == nil && f.when == nil && f.must == nil && f.until == nil &&
		f.next == nil && f.align == 0
}

// bitFields adds the named bits of a number as fields of their own.
func (c *compiler) bitFields(r *recordDef, f *field, n *node, sc *scope) {
	if f.typ.prim.size == 0 || f.typ.prim.float || f.count != nil || f.toEnd || f.scale != 0 {
		c.fail(n, "bits are of one whole number")
		return
	}
	of := len(r.fields) - 1
	for _, p := range n.pairs {
		b := field{name: p.key, line: p.line, col: p.col, fixedN: -1, bitsOf: of, bits: c.bitRange(p.value), order: f.order, typ: f.typ}
		if r.taken(b.name) {
			c.fail(p.value, "field name %q is taken", b.name)
		}
		if c.err == nil && int(b.bits.low+b.bits.count) > 8*f.typ.prim.size {
			c.fail(p.value, "%s has %d bits", f.name, 8*f.typ.prim.size)
		}
		if c.err != nil {
			return
		}
		r.index[b.name] = len(r.fields)
		sc.names = append(sc.names, b.name)
		if r.fixed {
			r.offsets = append(r.offsets, r.offsets[of])
		}
		r.fields = append(r.fields, b)
	}
}

// fieldType reads "u16", "ascii[4]", "entry[count]", "bytes[names_size]".
func (c *compiler) fieldType(f *field, n *node, sc *scope) {
	w := c.word(n)
	if c.err != nil {
		return
	}
	name, rest, indexed := strings.Cut(w, "[")
	if indexed {
		if !strings.HasSuffix(rest, "]") {
			c.fail(n, "%q: the closing ] is missing", w)
			return
		}
		rest = strings.TrimSuffix(rest, "]")
		if rest == "*" {
			f.toEnd = true
		} else {
			f.count = c.formula(&node{line: n.line, col: n.col + len(name) + 1, scalar: true, text: rest}, sc)
		}
		if f.count != nil && f.count.constant {
			if v, err := f.count.eval(&env{run: &run{layout: c.Layout}}); err == nil {
				f.fixedN, _ = v.int()
			}
			if f.fixedN < 0 {
				c.fail(n, "%q: the count is below zero", w)
			}
		}
	}
	if p, ok := primitives[name]; ok {
		f.typ.prim = p
		return
	}
	switch name {
	case "leb128", "vlq":
		if indexed {
			c.fail(n, "%s is one number; make a record of it for a list", name)
		}
		f.typ.varint = name
		return
	case "ascii", "utf8", "latin1", "utf16le", "utf16be", "shift_jis", "bytes":
		if !indexed {
			c.fail(n, "%s needs a length, such as %s[16]", name, name)
		}
		f.typ.isBlob = name == "bytes"
		if !f.typ.isBlob {
			f.typ.text = name
		}
		return
	case "cstr":
		if indexed {
			c.fail(n, "cstr is one zero-ended text; it takes no count")
		}
		f.typ.text = name
		return
	}
	if r, ok := c.records[name]; ok {
		c.record(r)
		f.typ.rec = r
		return
	}
	known := []string{"ascii[n]", "utf8[n]", "latin1[n]", "utf16le[n]", "utf16be[n]", "shift_jis[n]", "bytes[n]", "cstr", "leb128", "vlq"}
	for p := range primitives {
		known = append(known, p)
	}
	for r := range c.records {
		known = append(known, r)
	}
	sort.Strings(known)
	c.fail(n, "type %q is not known; known are %s", name, strings.Join(known, ", "))
}

// fixedSize is the field's size in bytes if every file has the same, else -1.
func (f *field) fixedSize() int64 {
	n := int64(1)
	if f.toEnd || f.typ.varint != "" || f.variants != nil {
		return -1
	}
	if f.count != nil {
		n = f.fixedN
		if n < 0 || n > 4096 {
			return -1
		}
	}
	switch {
	case f.typ.prim.size > 0:
		return n * int64(f.typ.prim.size)
	case f.typ.rec != nil && f.typ.rec.fixed:
		return n * f.typ.rec.size
	case f.typ.text != "" && f.typ.text != "cstr":
		return n
	}
	return -1
}

// choice is a word, or a word chosen by a formula's value.
type choice[T any] struct {
	n     *node
	fixed T
	by    *formula
	cases map[string]T
	def   *T
	known string
}

// chooser compiles "word" or "{by: formula, 1: word, else: word}" with parse
// reading one case.
func chooser[T any](c *compiler, n *node, sc *scope, parse func(*node) T) *choice[T] {
	if n == nil || c.err != nil {
		return nil
	}
	ch := &choice[T]{n: n}
	if !n.mapping || n.get("by") == nil {
		ch.fixed = parse(n)
		return ch
	}
	ch.cases = map[string]T{}
	var known []string
	for _, p := range n.pairs {
		switch p.key {
		case "by":
			ch.by = c.formula(p.value, sc)
		case "else":
			v := parse(p.value)
			ch.def = &v
		default:
			ch.cases[p.key] = parse(p.value)
			known = append(known, p.key)
		}
	}
	ch.known = strings.Join(known, ", ")
	return ch
}

func (ch *choice[T]) eval(e *env) (T, error) {
	if ch.by == nil {
		return ch.fixed, nil
	}
	v, err := ch.by.eval(e)
	if err != nil {
		return ch.fixed, err
	}
	var x T
	var ok bool
	if v.kind == kInt && v.i >= 0 && v.i < 10 { // no allocation for the usual small tags
		x, ok = ch.cases["0123456789"[v.i:v.i+1]]
	} else {
		x, ok = ch.cases[v.String()]
	}
	if ok {
		return x, nil
	}
	if ch.def != nil {
		return *ch.def, nil
	}
	return x, e.run.errorf(ch.n.line, ch.n.col, "%s is %s, and the layout knows only %s", ch.by.src, v, ch.known)
}

// basis reads {up: +Z, front: -Y, handedness: left, metres_per_unit: 0.01}.
func (c *compiler) basis(n *node) (b geom.Basis) {
	if n == nil {
		return b
	}
	c.keys(n, "up", "front", "handedness", "metres_per_unit")
	axis := func(key string) geom.Axis {
		v := n.get(key)
		if v == nil || c.err != nil {
			return 0
		}
		a, err := geom.ParseAxis(c.word(v))
		if err != nil {
			c.fail(v, "%v", err)
		}
		return a
	}
	b.Up, b.Front = axis("up"), axis("front")
	b.Handed = geom.Handedness(c.optionalOf(n, "handedness", "", "right", "left"))
	if v := n.get("metres_per_unit"); v != nil {
		m, err := strconv.ParseFloat(v.text, 64)
		if err != nil {
			c.fail(v, "metres_per_unit is a number, not %s", v.what())
		}
		b.MetresPerUnit = m
	}
	if err := b.Validate(); err != nil {
		c.fail(n, "%v", err)
	}
	return b
}
