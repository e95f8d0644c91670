// Package ply reads and writes the Polygon File Format (Greg Turk, "The PLY
// Polygon File Format", 1994): text, or binary in either byte order, with any
// properties.
package ply

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"excavate/core/format"
	"excavate/core/format/corner"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/numlist"
	"excavate/core/quad"
	"excavate/core/scene"
)

// Format is the reader for the registry.
func Format() format.Reader {
	return format.Reader{Name: "ply", Title: "Polygon file format", Probe: func(head []byte) bool {
		return bytes.HasPrefix(head, []byte("ply\n")) || bytes.HasPrefix(head, []byte("ply\r"))
	}, Read: Read, Ending: ".ply", May: may}
}

// may takes a file of the right ending whose first line that is no comment and
// not blank is the mark, perhaps with spaces around it.
func may(head []byte) bool {
	for line := range bytes.Lines(format.UTF8(head)) {
		if t := bytes.TrimSpace(line); len(t) > 0 && !isComment(t) {
			return string(t) == "ply"
		}
	}
	return false
}

// isComment tells a comment line, also of the kinds that the format does not have.
func isComment(line []byte) bool {
	for _, mark := range []string{"comment", "#", "//"} {
		if bytes.HasPrefix(line, []byte(mark)) {
			return true
		}
	}
	return false
}

// types by both of their names.
var types = map[string]byte{"char": 'b', "int8": 'b', "uchar": 'B', "uint8": 'B', "short": 'h', "int16": 'h', "ushort": 'H', "uint16": 'H',
	"int": 'i', "int32": 'i', "uint": 'I', "uint32": 'I', "float": 'f', "float32": 'f', "double": 'd', "float64": 'd'}

var sizes = map[byte]int{'b': 1, 'B': 1, 'h': 2, 'H': 2, 'i': 4, 'I': 4, 'f': 4, 'd': 8}

type property struct {
	name  string
	count byte // type of a list's count; 0 for a single value
	typ   byte
}

type element struct {
	name  string
	n     int
	props []property
}

type header struct {
	text     bool
	order    binary.ByteOrder
	elements []element
	body     int // where it ends
	lines    int
	odd      bool // comments stand where, or as, the format has none
}

const maxHeader = 1 << 20

func parseHeader(b []byte) (*header, error) {
	h := &header{}
	at := 0
	fail := func(f string, a ...any) (*header, error) {
		return nil, format.Errorf(fmt.Sprintf("line %d", h.lines), f, a...)
	}
	for {
		rest := b[at:min(len(b), maxHeader)]
		end := bytes.IndexAny(rest, "\r\n")
		if end < 0 {
			return fail("the header has no end_header")
		}
		line := string(rest[:end])
		at += end + 1
		if rest[end] == '\r' && at < len(b) && b[at] == '\n' {
			at++
		}
		h.lines++
		f := strings.Fields(line)
		if len(f) == 0 {
			continue
		}
		switch f[0] {
		case "ply", "comment", "obj_info":
			h.odd = h.odd || f[0] == "comment" && h.lines == 1
		case "format":
			if len(f) < 2 {
				return fail("format names ascii, binary_little_endian or binary_big_endian")
			}
			switch f[1] {
			case "ascii":
				h.text = true
			case "binary_little_endian":
				h.order = binary.LittleEndian
			case "binary_big_endian":
				h.order = binary.BigEndian
			default:
				return fail("the format %q is none of ascii, binary_little_endian, binary_big_endian", f[1])
			}
		case "element":
			if len(f) < 3 {
				return fail("an element has a name and a count")
			}
			n, err := strconv.Atoi(f[2])
			if err != nil || n < 0 || n > limit.Vertices {
				return fail("%q elements %s; at most %d are read", f[2], f[1], limit.Vertices)
			}
			if len(h.elements) >= 64 {
				return fail("more than 64 elements")
			}
			h.elements = append(h.elements, element{name: f[1], n: n})
		case "property":
			if len(h.elements) == 0 || len(f) < 3 {
				return fail("a property has a type and a name, after its element")
			}
			e := &h.elements[len(h.elements)-1]
			p := property{name: f[len(f)-1]}
			if f[1] == "list" {
				if len(f) < 5 || types[f[2]] == 0 || types[f[2]] == 'f' || types[f[2]] == 'd' || types[f[3]] == 0 {
					return fail("a list property has a type of its count, a type of its values and a name")
				}
				p.count, p.typ = types[f[2]], types[f[3]]
			} else if p.typ = types[f[1]]; p.typ == 0 {
				return fail("the type %q is not known", f[1])
			}
			if len(e.props) >= 256 {
				return fail("more than 256 properties")
			}
			e.props = append(e.props, p)
		case "end_header":
			if !h.text && h.order == nil {
				return fail("the header names no format")
			}
			h.body = at
			return h, nil
		default:
			if isComment([]byte(f[0])) {
				h.odd = true
				continue
			}
			return fail("%q stands in the header", f[0])
		}
	}
}

// values reads the body, number by number.
type values struct {
	h    *header
	b    []byte
	at   int
	line int
	far  [3]float64 // where the positions are relative to
}

func (v *values) where() string {
	if v.h.text {
		return fmt.Sprintf("line %d", v.line)
	}
	return fmt.Sprintf("offset %d", v.at)
}

func (v *values) next(t byte) (float64, error) {
	if !v.h.text {
		n := sizes[t]
		if v.at+n > len(v.b) {
			return 0, format.Errorf(v.where(), "the file ends here")
		}
		p := v.b[v.at:]
		v.at += n
		switch t {
		case 'b':
			return float64(int8(p[0])), nil
		case 'B':
			return float64(p[0]), nil
		case 'h':
			return float64(int16(v.h.order.Uint16(p))), nil
		case 'H':
			return float64(v.h.order.Uint16(p)), nil
		case 'i':
			return float64(int32(v.h.order.Uint32(p))), nil
		case 'I':
			return float64(v.h.order.Uint32(p)), nil
		case 'f':
			return float64(math.Float32frombits(v.h.order.Uint32(p))), nil
		}
		return math.Float64frombits(v.h.order.Uint64(p)), nil
	}
	for v.at < len(v.b) && v.b[v.at] <= ' ' {
		if v.b[v.at] == '\n' {
			v.line++
		}
		v.at++
	}
	x, rest, ok := format.Float(v.b[v.at:])
	if !ok {
		if v.at >= len(v.b) {
			return 0, format.Errorf(v.where(), "the file ends here")
		}
		word := string(v.b[v.at:min(len(v.b), v.at+16)])
		word, _, _ = strings.Cut(word, "\n")
		return 0, format.Errorf(v.where(), "%q is no number", word)
	}
	v.at = len(v.b) - len(rest)
	return x, nil
}

// roles of a vertex' properties: where each goes.
var roles = map[string]int{"x": 0, "y": 1, "z": 2, "nx": 3, "ny": 4, "nz": 5, "red": 6, "green": 7, "blue": 8, "alpha": 9, "r": 6, "g": 7, "b": 8, "a": 9,
	"diffuse_red": 6, "diffuse_green": 7, "diffuse_blue": 8, "s": 10, "t": 11, "u": 10, "v": 11, "texture_u": 10, "texture_v": 11}

// reader is the state between the elements of a file.
type reader struct {
	*values
	s        *scene.Scene
	src      corner.Source
	uvs      []float32
	tri      []uint32
	poly     []uint32 // the face that is being read
	polygons geom.Cutter
	loose    int // faces of fewer than three corners
	ignored  map[string]int
}

// Read decodes a file.
func Read(ctx context.Context, f format.File) (*scene.Scene, error) {
	h, err := parseHeader(f.Data)
	if err != nil {
		return nil, err
	}
	r := &reader{values: &values{h: h, b: f.Data, at: h.body, line: h.lines + 1}, s: &scene.Scene{},
		ignored: map[string]int{}}
	if h.odd {
		r.s.Notes = append(r.s.Notes,
			scene.Note{Text: "comments stand in its header where the format has none; they were passed over"})
	}
	if h.text {
		if body, commas := format.DecimalCommas(f.Data[h.body:], true); commas > 0 {
			r.b, r.at = body, 0
			r.s.Notes = append(r.s.Notes, scene.Note{Text: format.CommasNote})
		}
	}
	for i := range h.elements {
		e := &h.elements[i]
		if err := r.room(e); err != nil {
			return nil, err
		}
		if e.name == "vertex" {
			err = r.vertices(ctx, e)
		} else {
			err = r.faces(ctx, e)
		}
		if err != nil {
			return nil, err
		}
	}
	return r.finish()
}

// faces reads faces and strips of triangles; of other elements it reads past.
func (r *reader) faces(ctx context.Context, e *element) error {
	if e.name != "face" && e.name != "tristrips" && e.n > 0 {
		r.ignored["elements "+e.name] += e.n
	}
	index := r.indexOf(e)
	n := uint32(len(r.src.Positions) / 3)
	for i := 0; i < e.n; i++ {
		if index == 0 && e.name == "face" {
			rest := *e
			rest.n -= i
			if i += r.values.polygons(&rest, n, r.src.Positions, &r.tri, &r.polygons); i == e.n {
				break
			}
		}
		if i&0xfff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		for k := range e.props {
			if err := r.property(e, i, k, k == index, n); err != nil {
				return err
			}
		}
		if index >= 0 {
			r.face(e)
		}
	}
	return nil
}

// indexOf is which property lists a face's vertices, -1 if none does. Others are
// not read, and said.
func (r *reader) indexOf(e *element) int {
	index := -1
	for k, p := range e.props {
		if p.count != 0 && (p.name == "vertex_indices" || p.name == "vertex_index") &&
			(e.name == "face" || e.name == "tristrips") {
			index = k
		} else if e.name == "face" && e.n > 0 {
			r.ignored["properties "+p.name+" of faces"]++
		}
	}
	return index
}

// listed is how many values a property has in element i.
func (r *reader) listed(p property, what string, i int) (int, error) {
	if p.count == 0 {
		return 1, nil
	}
	c, err := r.next(p.count)
	if err != nil {
		return 0, err
	}
	if c < 0 || c > limit.Vertices {
		return 0, format.Errorf(r.where(), "%s %d: a list of %g values", what, i, c)
	}
	return int(c), nil
}

// property reads property k of element i; the vertices of a face, of which there
// are n to name, are kept. In strips -1 ends one and begins another.
func (r *reader) property(e *element, i, k int, keep bool, n uint32) error {
	p := e.props[k]
	count, err := r.listed(p, e.name, i)
	if err != nil {
		return err
	}
	if keep {
		r.poly = r.poly[:0]
	}
	for range count {
		x, err := r.next(p.typ)
		if err != nil {
			return err
		}
		if !keep {
			continue
		}
		if e.name == "tristrips" && x == -1 {
			r.poly = append(r.poly, math.MaxUint32)
			continue
		}
		if x < 0 || x >= float64(n) || x != math.Trunc(x) {
			return format.Errorf(r.where(), "%s %d uses vertex %g, and there are %d", e.name, i, x, n)
		}
		r.poly = append(r.poly, uint32(x))
	}
	return nil
}

// face makes triangles of what was read last.
func (r *reader) face(e *element) {
	switch {
	case e.name == "tristrips":
		r.tri = strips(r.tri, r.poly)
	case len(r.poly) >= 3:
		r.tri = r.polygons.Faces(r.tri, r.src.Positions, r.poly)
	default:
		r.loose++
	}
}

// finish makes the scene of what was read, with notes of what was not.
func (r *reader) finish() (*scene.Scene, error) {
	if len(r.src.Positions) == 0 {
		return nil, fmt.Errorf("it has no vertices with x, y and z")
	}
	s := r.s
	part := scene.Part{Material: scene.None, Positions: r.src.Positions, Normals: r.src.Normals, Triangles: r.tri}
	if r.src.Colours != nil {
		part.Colours = []scene.AttrSet{{Name: "colour", Data: r.src.Colours}}
	}
	if r.uvs != nil {
		part.UVs = []scene.AttrSet{{Name: "uv", Data: r.uvs}}
	}
	if len(r.tri) == 0 {
		part.Points = numlist.Upto(len(r.src.Positions) / 3)
		s.Notes = append(s.Notes, scene.Note{Text: fmt.Sprintf("it has no faces: its %d vertices are points", len(part.Points))})
	}
	if r.loose > 0 {
		text := fmt.Sprintf("%d faces of fewer than three corners are left out", r.loose)
		s.Notes = append(s.Notes, scene.Note{Text: text, Loss: true})
	}
	for what, n := range r.ignored {
		s.Notes = append(s.Notes, scene.Note{Text: fmt.Sprintf("%d %s are not read", n, what), Loss: true})
	}
	s.Meshes = []scene.Mesh{{Name: "mesh", Parts: []scene.Part{part}}}
	node := scene.NewNode("mesh")
	node.Mesh = 0
	s.Nodes = []scene.Node{node}
	format.PlaceFar(s, r.far)
	return s, s.Validate()
}

// room checks a count against the bytes that are left, before anything is
// made for it.
func (v *values) room(e *element) error {
	least := 0
	for _, p := range e.props {
		switch {
		case v.h.text:
			least += 2
		case p.count != 0:
			least += sizes[p.count]
		default:
			least += sizes[p.typ]
		}
	}
	if left := len(v.b) - v.at + 1; e.n > 0 && (least == 0 || e.n > left/max(least, 1)) {
		return format.Errorf(v.where(), "%d elements %s of at least %d bytes do not fit into the %d bytes that are left",
			e.n, e.name, least, left-1)
	}
	return nil
}

// vertices reads the vertices: at once where they are stored as we store them,
// else number by number.
func (r *reader) vertices(ctx context.Context, e *element) error {
	if len(r.src.Positions) > 0 {
		return format.Errorf(r.where(), "the vertices stand twice")
	}
	to, have := r.rolesOf(e)
	if !have[0] || !have[1] || !have[2] {
		return format.Errorf(r.where(), "the vertices lack x, y or z")
	}
	r.src.Positions = make([]float32, 3*e.n)
	if have[3] && have[4] && have[5] {
		r.src.Normals = make([]float32, 3*e.n)
	}
	if have[6] && have[7] && have[8] {
		r.src.Colours = make([]float32, 4*e.n)
	}
	if have[10] && have[11] {
		r.uvs = make([]float32, 2*e.n)
	}
	if r.fast(e, to, &r.src, r.uvs) {
		return nil
	}
	var row [12]float64
	exact := make([]float64, 3*e.n) // positions, until it is known whether they lie far away
	for i := range e.n {
		if i&0xfff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if err := r.row(e, i, to, &row); err != nil {
			return err
		}
		for k := range 3 {
			if _, ok := format.Finite32(row[k]); !ok {
				return format.Errorf(r.where(), "vertex %d lies at %g", i, row[k])
			}
			exact[3*i+k] = row[k]
		}
		r.keep(i, &row)
	}
	var low, high [3]float64
	copy(low[:], exact)
	high = low
	for i, x := range exact {
		low[i%3], high[i%3] = min(low[i%3], x), max(high[i%3], x)
	}
	r.far = format.Far(low, high)
	for i, x := range exact {
		r.src.Positions[i] = float32(x - r.far[i%3])
	}
	return nil
}

// rolesOf tells where each property of a vertex goes, -1 for nowhere, and which
// roles are filled.
func (r *reader) rolesOf(e *element) (to []int, have [12]bool) {
	to = make([]int, len(e.props))
	for i, p := range e.props {
		k, ok := roles[p.name]
		if !ok || p.count != 0 || have[k] {
			to[i] = -1
			r.ignored["properties "+p.name+" of vertices"]++
			continue
		}
		to[i], have[k] = k, true
	}
	return to, have
}

// row reads one vertex by its roles.
func (r *reader) row(e *element, i int, to []int, row *[12]float64) error {
	row[9] = 1
	for k, p := range e.props {
		count, err := r.listed(p, "vertex", i)
		if err != nil {
			return err
		}
		for range count {
			x, err := r.next(p.typ)
			if err != nil {
				return err
			}
			if to[k] < 0 {
				continue
			}
			if to[k] >= 6 && to[k] <= 9 { // colours of whole numbers fill their type
				switch p.typ {
				case 'B':
					x /= 255
				case 'H':
					x /= 65535
				}
			}
			row[to[k]] = x
		}
	}
	return nil
}

// keep stores what a row has beside its position. A normal without a direction
// and texture coordinates that are no numbers stay 0.
func (r *reader) keep(i int, row *[12]float64) {
	if r.src.Normals != nil {
		l := math.Sqrt(row[3]*row[3] + row[4]*row[4] + row[5]*row[5])
		for k := range 3 {
			if l > 0 && !math.IsInf(l, 0) {
				r.src.Normals[3*i+k] = float32(row[3+k] / l)
			}
		}
	}
	if r.src.Colours != nil {
		for k := range 3 {
			r.src.Colours[4*i+k] = format.Linear(row[6+k])
		}
		r.src.Colours[4*i+3] = float32(math.Max(0, math.Min(1, row[9])))
	}
	if r.uvs != nil {
		u, ok1 := format.Finite32(row[10])
		w, ok2 := format.Finite32(1 - row[11]) // t is counted from below
		if ok1 && ok2 {
			r.uvs[2*i], r.uvs[2*i+1] = u, w
		}
	}
}

// fast reads the usual binary vertices, floats for positions and normals and
// bytes for colours, without a detour over float64.
func (v *values) fast(e *element, to []int, src *corner.Source, uvs []float32) bool {
	if v.h.text {
		return false
	}
	var off [12]int
	for i := range off {
		off[i] = -1
	}
	stride := 0
	for i, p := range e.props {
		if p.count != 0 {
			return false
		}
		if k := to[i]; k >= 0 {
			if colour := k >= 6 && k < 10; !colour && p.typ != 'f' || colour && p.typ != 'B' {
				return false
			}
			off[k] = stride
		}
		stride += sizes[p.typ]
	}
	if v.at+stride*e.n > len(v.b) {
		return false
	}
	little := v.h.order == binary.LittleEndian
	f32 := func(p []byte) float32 {
		if little {
			return math.Float32frombits(binary.LittleEndian.Uint32(p))
		}
		return math.Float32frombits(binary.BigEndian.Uint32(p))
	}
	for i := range e.n {
		p := v.b[v.at+i*stride:][:stride]
		for k := range 3 {
			x := f32(p[off[k]:])
			if x-x != 0 {
				return false // the slow way says which
			}
			src.Positions[3*i+k] = x
		}
		if src.Normals != nil {
			x, y, z := f32(p[off[3]:]), f32(p[off[4]:]), f32(p[off[5]:])
			if l := float32(math.Sqrt(float64(x*x + y*y + z*z))); l > 0 && l-l == 0 {
				src.Normals[3*i], src.Normals[3*i+1], src.Normals[3*i+2] = x/l, y/l, z/l
			}
		}
		if src.Colours != nil {
			c := src.Colours[4*i : 4*i+4]
			c[0], c[1], c[2], c[3] = format.Bytes8[p[off[6]]], format.Bytes8[p[off[7]]], format.Bytes8[p[off[8]]], 1
			if off[9] >= 0 {
				c[3] = float32(p[off[9]]) / 255
			}
		}
	}
	for i := 0; uvs != nil && i < e.n; i++ {
		p := v.b[v.at+i*stride:]
		if x, y := f32(p[off[10]:]), f32(p[off[11]:]); x-x == 0 && y-y == 0 {
			uvs[2*i], uvs[2*i+1] = x, 1-y
		}
	}
	v.at += stride * e.n
	return true
}

// polygons reads the usual binary faces, a byte that counts and whole numbers
// of 32 bits; it returns how many it read. What it stops at is for the slow
// way, which says what is wrong.
func (v *values) polygons(e *element, vertices uint32, positions []float32, tri *[]uint32, cutter *geom.Cutter) (n int) {
	if v.h.text || len(e.props) != 1 || sizes[e.props[0].count] != 1 || e.props[0].typ != 'i' && e.props[0].typ != 'I' {
		return 0
	}
	big := v.h.order != binary.LittleEndian
	if v.at < len(v.b) {
		c := max(int(v.b[v.at]), 3)
		*tri = slices.Grow(*tri, 3*(c-2)*min(e.n, (len(v.b)-v.at)/(1+4*c)))
	}
	var poly []uint32
	for ; n < e.n && v.at < len(v.b); n++ {
		c := int(v.b[v.at])
		if c < 3 || v.at+1+4*c > len(v.b) {
			break
		}
		p := v.b[v.at+1:][:4*c]
		if c == 3 && !big { // as most are
			x, y, z := binary.LittleEndian.Uint32(p), binary.LittleEndian.Uint32(p[4:]), binary.LittleEndian.Uint32(p[8:])
			if max(x, y, z) >= vertices {
				break
			}
			*tri = append(*tri, x, y, z)
			v.at += 13
			continue
		}
		poly = poly[:0]
		most := uint32(0)
		for ; len(p) > 0; p = p[4:] {
			x := binary.LittleEndian.Uint32(p)
			if big {
				x = bits.ReverseBytes32(x)
			}
			poly, most = append(poly, x), max(most, x)
		}
		if most >= vertices {
			break
		}
		*tri = cutter.Faces(*tri, positions, poly)
		v.at += 1 + 4*c
	}
	return n
}

// strips appends the triangles of strips that are cut by MaxUint32.
func strips(tri, idx []uint32) []uint32 {
	run := 0
	for i, x := range idx {
		if x == math.MaxUint32 {
			run = 0
			continue
		}
		if run++; run < 3 {
			continue
		}
		a, b := idx[i-2], idx[i-1]
		if a == b || b == x || a == x {
			continue
		}
		if run%2 == 0 {
			a, b = b, a
		}
		tri = append(tri, a, b, x)
	}
	return tri
}

// Writer is the writer for the registry.
func Writer() format.Writer {
	return format.Writer{Name: "ply", Title: "Polygon file format", Ending: ".ply", Write: Write}
}

// Write writes a scene as one binary little-endian PLY.
func Write(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
	notes := flat.Lost(s, flat.Has{Format: "PLY", Normals: true, UVs: 1, Colours: 1, VertexAlpha: true})
	pieces := flat.Pieces(s)
	// Lines and points have no place in it: that is noted.
	pieces = slices.DeleteFunc(pieces, func(p flat.Piece) bool { return len(p.Triangles) == 0 })
	n, count, smooth := 0, 0, 0
	type facesOf struct {
		sizes   []uint8
		corners []uint32
	}
	var faces []facesOf // of each piece
	uvs, colours := false, false
	for _, p := range pieces {
		n += len(p.Positions) / 3
		sizes, corners := quad.Faces(p.Part.Quads, p.Positions, p.Triangles)
		faces = append(faces, facesOf{sizes, corners})
		count += len(sizes)
		if p.Normals != nil {
			smooth++
		}
		uvs = uvs || len(p.Part.UVs) > 0
		colours = colours || len(p.Part.Colours) > 0
	}
	// One list of vertices has normals for all or for none.
	normals := smooth > 0 && smooth == len(pieces)
	if smooth > 0 && !normals {
		notes = append(notes, scene.Note{Text: format.Counted(smooth, "part's normals", "parts' normals") + " not written: other parts have none", Loss: true})
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "ply\nformat binary_little_endian 1.0\nelement vertex %d\nproperty float x\nproperty float y\nproperty float z\n", n)
	if normals {
		b.WriteString("property float nx\nproperty float ny\nproperty float nz\n")
	}
	if uvs {
		b.WriteString("property float s\nproperty float t\n")
	}
	if colours {
		b.WriteString("property uchar red\nproperty uchar green\nproperty uchar blue\nproperty uchar alpha\n")
	}
	fmt.Fprintf(&b, "element face %d\nproperty list uchar int vertex_indices\nend_header\n", count)
	out := b.Bytes()
	f32 := func(v ...float32) {
		for _, x := range v {
			out = binary.LittleEndian.AppendUint32(out, math.Float32bits(x))
		}
	}
	for _, p := range pieces {
		for i := range len(p.Positions) / 3 {
			f32(p.Positions[3*i : 3*i+3]...)
			if normals {
				f32(p.Normals[3*i : 3*i+3]...)
			}
			if uvs {
				u := []float32{0, 0}
				if len(p.Part.UVs) > 0 {
					u = p.Part.UVs[0].Data[2*i:]
				}
				f32(u[0], 1-u[1])
			}
			if colours {
				c := []float32{1, 1, 1, 1}
				if len(p.Part.Colours) > 0 {
					c = p.Part.Colours[0].Data[4*i : 4*i+4]
				}
				out = append(out, format.Display8(c[0]), format.Display8(c[1]), format.Display8(c[2]), byte(math.Round(255*float64(max(0, min(1, c[3]))))))
			}
		}
	}
	base := uint32(0)
	for k, p := range pieces {
		corners := faces[k].corners
		for _, size := range faces[k].sizes {
			out = append(out, size)
			for _, i := range corners[:size] {
				out = binary.LittleEndian.AppendUint32(out, i+base)
			}
			corners = corners[size:]
		}
		base += uint32(len(p.Positions) / 3)
	}
	return []format.Written{{Name: flat.FileName(name) + ".ply", Data: out}}, notes, nil
}
