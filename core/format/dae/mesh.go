package dae

import (
	"fmt"
	"math"
	"strconv"

	"excavate/core/format"
	"excavate/core/format/markup"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// source is a <source> with its accessor: count elements of width numbers,
// those that the accessor gives no name left out.
type source struct {
	name   string
	data   []float32
	names  []string // of Name_array and IDREF_array
	stride int
	offset int
	pick   []int // of an element's numbers
	count  int
	array  *markup.Node
	far    [3]float64 // what the numbers are relative to
	near   bool       // that was looked at
}

func (s *source) at(i int, k int) float32 { return s.data[s.offset+i*s.stride+s.pick[k]] }

func (r *reader) source(n *markup.Node) (*source, error) {
	if s, ok := r.sources[n]; ok {
		return s, nil
	}
	s := &source{name: n.Attr("name"), stride: 1}
	var array *markup.Node
	for _, c := range n.Children {
		switch c.Name {
		case "float_array", "int_array":
			most := len(c.Text)
			if v, err := strconv.Atoi(c.Attr("count")); err == nil && v >= 0 && v < most {
				most = v
			}
			var err error
			if s.data, err = c.Floats(most, &r.commas); err != nil {
				return nil, err
			}
			array, s.array = c, c
		case "Name_array", "IDREF_array", "SIDREF_array":
			array = c
			for _, w := range splitWords(c.Text) {
				v, _ := markup.Plain(w)
				s.names = append(s.names, v)
			}
		}
	}
	if array == nil {
		return nil, n.Errorf("<source id=%q> has no array", n.Attr("id"))
	}
	have := len(s.data)
	if s.names != nil {
		have = len(s.names)
	}
	if a := n.Child("technique_common", "accessor"); a != nil {
		num := func(name string, usual int) int {
			if v, err := strconv.Atoi(a.Attr(name)); err == nil && v >= 0 {
				return v
			}
			return usual
		}
		s.stride, s.offset = max(num("stride", 1), 1), num("offset", 0)
		for i, p := range a.All("param") {
			if p.Attr("name") != "" || s.names != nil {
				s.pick = append(s.pick, i)
			}
		}
		if len(s.pick) == 0 { // some writers name none
			for i := range len(a.All("param")) {
				s.pick = append(s.pick, i)
			}
		}
		if len(s.pick) == 1 && s.stride > 1 && a.Child("param").Attr("type") == "float4x4" {
			s.pick = nil
		}
		if len(s.pick) == 0 {
			for i := range s.stride {
				s.pick = append(s.pick, i)
			}
		}
		s.count = num("count", 0)
		if last := s.pick[len(s.pick)-1]; s.count > 0 && (last >= s.stride || s.offset > have || (s.count-1) > (have-s.offset-last-1)/s.stride || have-s.offset-last-1 < 0) {
			return nil, a.Errorf("%d elements of %d numbers from number %d on: the array has %d", s.count, s.stride, s.offset, have)
		}
	} else {
		s.pick, s.count = []int{0}, have
	}
	r.sources[n] = s
	return s, nil
}

func splitWords(b []byte) (out [][]byte) {
	for i := 0; i < len(b); {
		for i < len(b) && b[i] <= ' ' {
			i++
		}
		k := i
		for i < len(b) && b[i] > ' ' {
			i++
		}
		if i > k {
			out = append(out, b[k:i])
		}
	}
	return out
}

// input is one <input> of a primitive: which of a corner's indices it takes.
type input struct {
	semantic string
	set      int
	offset   int
	src      *source
}

// geometry is a <geometry>'s mesh: parts by material symbol, and which
// position each vertex came from, to which skins and morphs refer.
type geometry struct {
	name      string
	parts     []part
	positions *source
	normals   []*source // of each part, or nil
}

type part struct {
	symbol string
	p      scene.Part
	from   []int32 // position of each vertex
	normal []int32 // normal of each vertex, or nil
	sets   []int   // number of each UV set
}

func (r *reader) geometry(n *markup.Node) (*geometry, error) {
	if g, ok := r.geometries[n]; ok {
		return g, nil
	}
	g := &geometry{name: n.Attr("name")}
	if g.name == "" {
		g.name = n.Attr("id")
	}
	r.geometries[n] = g
	m := n.Child("mesh")
	if m == nil {
		switch {
		case n.Child("convex_mesh") != nil:
			m = n.Child("convex_mesh")
			if m.Attr("convex_hull_of") != "" {
				r.Lose("a convex hull that the file leaves to compute was left out")
			}
		case n.Child("spline") != nil:
			r.Lose("a spline was left out")
		case n.Child("brep") != nil:
			r.Lose("a boundary representation was left out")
		}
		if m == nil {
			return g, nil
		}
	}
	for _, c := range m.Children {
		switch c.Name {
		case "triangles", "polylist", "polygons", "trifans", "tristrips", "lines", "linestrips":
			if err := r.primitive(g, m, c); err != nil {
				return nil, err
			}
		}
		if err := r.ctx.Err(); err != nil {
			return nil, err
		}
	}
	return g, nil
}

// inputs resolves a primitive's inputs; those of <vertices> stand for VERTEX.
func (r *reader) inputs(n *markup.Node) (in []input, stride int, err error) {
	for _, x := range n.All("input") {
		off, e := strconv.Atoi(x.Attr("offset"))
		if e != nil && x.Attr("offset") != "" || off < 0 || off > 64 {
			return nil, 0, x.Errorf("offset %q", x.Attr("offset"))
		}
		set, _ := strconv.Atoi(x.Attr("set"))
		stride = max(stride, off+1)
		t, err := r.follow(x, "source")
		if err != nil {
			return nil, 0, err
		}
		one := func(semantic string, set int, t *markup.Node) error {
			s, err := r.source(t)
			if err != nil {
				return err
			}
			in = append(in, input{semantic, set, off, s})
			return nil
		}
		if x.Attr("semantic") != "VERTEX" {
			if err := one(x.Attr("semantic"), set, t); err != nil {
				return nil, 0, err
			}
			continue
		}
		for _, v := range t.All("input") {
			s, err := r.follow(v, "source")
			if err != nil {
				return nil, 0, err
			}
			set, _ := strconv.Atoi(v.Attr("set"))
			if err := one(v.Attr("semantic"), set, s); err != nil {
				return nil, 0, err
			}
		}
	}
	return in, stride, nil
}

// corners makes vertices of combinations of indices.
type corners struct {
	p      []int32
	stride int
	table  []int32
	mask   uint32
	firsts []int // corner at which each vertex was met first
}

func (c *corners) hash(k int) uint32 {
	h := uint32(2166136261)
	for _, v := range c.p[k*c.stride : (k+1)*c.stride] {
		h = (h ^ uint32(v)) * 0x9e3779b1
		h ^= h >> 15
	}
	return h
}

// reserve makes room for more than n vertices.
func (c *corners) reserve(n int) {
	size := 64
	for 3*size < 4*(n+1) {
		size *= 2
	}
	c.table, c.mask = make([]int32, size), uint32(size-1)
	for i, f := range c.firsts {
		at := c.hash(f) & c.mask
		for c.table[at] != 0 {
			at = (at + 1) & c.mask
		}
		c.table[at] = int32(i + 1)
	}
}

func (c *corners) vertex(k int) uint32 {
	if 4*len(c.firsts) >= 3*len(c.table) {
		c.reserve(len(c.table))
	}
	want := c.p[k*c.stride : (k+1)*c.stride]
	for at := c.hash(k) & c.mask; ; at = (at + 1) & c.mask {
		i := c.table[at]
		if i == 0 {
			c.firsts = append(c.firsts, k)
			c.table[at] = int32(len(c.firsts))
			return uint32(len(c.firsts) - 1)
		}
		have := c.p[c.firsts[i-1]*c.stride:]
		same := true
		for j, v := range want {
			if have[j] != v {
				same = false
				break
			}
		}
		if same {
			return uint32(i - 1)
		}
	}
}

// moveNear makes positions that are far from the origin of their node relative
// to their middle. Where a file has controllers, morph targets and skins refer
// to the same positions, which stay.
func (r *reader) moveNear(s *source) error {
	if s.near || s.array == nil || len(s.pick) != 3 || s.stride != 3 || s.offset != 0 || s.pick[2] != 2 {
		return nil
	}
	s.near = true
	for _, d := range r.docs {
		if d != nil && len(d.root.All("library_controllers")) > 0 {
			return nil
		}
	}
	if format.FarMesh(s.data) == [3]float64{} {
		return nil
	}
	wide, err := s.array.Doubles(len(s.data), nil)
	if err != nil {
		return err
	}
	s.far = format.FarMesh(wide)
	for i := range s.data {
		s.data[i] = float32(wide[i] - s.far[i%3])
	}
	return nil
}

// primitive reads one element of a mesh (COLLADA 1.4.1, chapter 5, "primitive
// elements") into a part.
func (r *reader) primitive(g *geometry, mesh, n *markup.Node) error {
	in, stride, err := r.inputs(n)
	if err != nil || stride == 0 {
		return err
	}
	pos := find(in, "POSITION")
	if pos == nil {
		return n.Errorf("<%s> has no positions", n.Name)
	}
	if len(pos.src.pick) < 3 {
		return n.Errorf("positions of %d numbers", len(pos.src.pick))
	}
	if err := r.moveNear(pos.src); err != nil {
		return err
	}
	g.positions = pos.src
	x := &elements{reader: r, n: n, in: in, pos: pos, corners: &corners{stride: stride},
		out: part{symbol: n.Attr("material"), p: scene.Part{Material: scene.None}}}
	if read := shapes[n.Name]; read != nil {
		if err := read(x); err != nil {
			return err
		}
	}
	if len(x.firsts) == 0 {
		return nil
	}
	r.attributes(&x.out, x.corners, in, pos)
	g.parts = append(g.parts, x.out)
	var normals *source
	if i := find(in, "NORMAL"); i != nil {
		normals = i.src
	}
	g.normals = append(g.normals, normals)
	return nil
}

// find is the first input of a semantic, or nil.
func find(in []input, semantic string) *input {
	for i := range in {
		if in[i].semantic == semantic {
			return &in[i]
		}
	}
	return nil
}

// elements is the reading of one primitive element: its lists of corners go
// into a part's triangles and lines.
type elements struct {
	*reader
	*corners
	n      *markup.Node
	in     []input
	pos    *input
	out    part
	cutter geom.Cutter
}

// shapes are the ways in which corners make triangles or lines.
var shapes = map[string]func(*elements) error{
	"triangles": (*elements).triangles, "polylist": (*elements).polylist, "polygons": (*elements).polygons,
	"trifans": (*elements).fansAndStrips, "tristrips": (*elements).fansAndStrips,
	"lines": (*elements).lines, "linestrips": (*elements).lines,
}

// take adds the corners of one <p>, checked, and returns which they are.
func (e *elements) take(x *markup.Node) (from, to int, err error) {
	v, err := x.Ints()
	if err != nil {
		return 0, 0, err
	}
	if len(v)%e.stride != 0 {
		e.Lose("<%s> holds %d indices, no multiple of %d", e.n.Name, len(v), e.stride)
		v = v[:len(v)/e.stride*e.stride]
	}
	for _, i := range e.in {
		for k := i.offset; k < len(v); k += e.stride {
			if v[k] < 0 || int(v[k]) >= i.src.count {
				return 0, 0, x.Errorf("<%s>: corner %d: %s %d of %d", e.n.Name, k/e.stride, i.semantic, v[k], i.src.count)
			}
		}
	}
	from = len(e.p) / e.stride
	if len(e.p) == 0 {
		e.p = v
		e.reserve(len(v) / e.stride / 4) // as many vertices as a closed surface has for its corners, about
	} else {
		e.p = append(e.p, v...)
	}
	if len(e.p)/e.stride > limit.Vertices {
		return 0, 0, x.Errorf("more than %d corners", limit.Vertices)
	}
	return from, len(e.p) / e.stride, nil
}

// place is where a corner lies.
func (e *elements) place(k int) geom.Vec3 {
	i := int(e.p[k*e.stride+e.pos.offset])
	return geom.Vec3{float64(e.pos.src.at(i, 0)), float64(e.pos.src.at(i, 1)), float64(e.pos.src.at(i, 2))}
}

func (e *elements) tri(a, b, c int) {
	e.out.p.Triangles = append(e.out.p.Triangles, e.vertex(a), e.vertex(b), e.vertex(c))
}

// polygon cuts a polygon of any number of corners into triangles.
func (e *elements) polygon(k []int) {
	switch {
	case len(k) == 3:
		e.tri(k[0], k[1], k[2])
	case len(k) > 3:
		for _, t := range e.cutter.Cut(len(k), func(i int) geom.Vec3 { return e.place(k[i]) }) {
			e.tri(k[t[0]], k[t[1]], k[t[2]])
		}
	}
}

// span is the corners from one to another.
func span(from, to int) []int {
	k := make([]int, to-from)
	for i := range k {
		k[i] = from + i
	}
	return k
}

func (e *elements) triangles() error {
	for _, x := range e.n.All("p") {
		from, to, err := e.take(x)
		if err != nil {
			return err
		}
		e.out.p.Triangles = append(make([]uint32, 0, len(e.out.p.Triangles)+to-from), e.out.p.Triangles...)
		for k := from; k+2 < to; k += 3 {
			e.tri(k, k+1, k+2)
		}
	}
	return nil
}

func (e *elements) polylist() error {
	vc := e.n.Child("vcount")
	if vc == nil {
		return nil
	}
	counts, err := vc.Ints()
	if err != nil {
		return err
	}
	for _, x := range e.n.All("p") {
		k, to, err := e.take(x)
		if err != nil {
			return err
		}
		for i, v := range counts {
			if v < 0 || int(v) > to-k {
				return vc.Errorf("polygon %d has %d corners, and %d are left", i, v, to-k)
			}
			if v == 3 {
				e.tri(k, k+1, k+2)
			} else {
				e.polygon(span(k, k+int(v)))
			}
			k += int(v)
		}
	}
	return nil
}

// polygons reads a <p> a polygon, and a <ph> for one with holes.
func (e *elements) polygons() error {
	for _, x := range e.n.Children {
		switch x.Name {
		case "p":
			from, to, err := e.take(x)
			if err != nil {
				return err
			}
			e.polygon(span(from, to))
		case "ph":
			if err := e.holed(x); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *elements) holed(x *markup.Node) error {
	var outer []int
	var holes [][]int
	for _, y := range x.Children {
		if y.Name != "p" && y.Name != "h" {
			continue
		}
		from, to, err := e.take(y)
		if err != nil {
			return err
		}
		if y.Name == "p" {
			outer = span(from, to)
		} else {
			holes = append(holes, span(from, to))
		}
	}
	e.polygon(bridged(outer, holes, e.place))
	return nil
}

// fansAndStrips turns every other triangle of a strip round, so that all face
// one way.
func (e *elements) fansAndStrips() error {
	for _, x := range e.n.All("p") {
		from, to, err := e.take(x)
		if err != nil {
			return err
		}
		for k := from + 2; k < to; k++ {
			switch {
			case e.n.Name == "trifans":
				e.tri(from, k-1, k)
			case (k-from)%2 == 0:
				e.tri(k-2, k-1, k)
			default:
				e.tri(k-1, k-2, k)
			}
		}
	}
	return nil
}

func (e *elements) lines() error {
	step := 2
	if e.n.Name == "linestrips" {
		step = 1
	}
	for _, x := range e.n.All("p") {
		from, to, err := e.take(x)
		if err != nil {
			return err
		}
		for k := from; k+1 < to; k += step {
			e.out.p.Lines = append(e.out.p.Lines, e.vertex(k), e.vertex(k+1))
		}
	}
	return nil
}

// attributes fills a part's lists from its inputs.
func (r *reader) attributes(out *part, c *corners, in []input, pos *input) {
	n := len(c.firsts)
	list := func(i *input, width int) []float32 {
		d := make([]float32, width*n)
		for v, k := range c.firsts {
			e := int(c.p[k*c.stride+i.offset])
			for j := range width {
				d[v*width+j] = i.src.at(e, j)
			}
		}
		return d
	}
	out.p.Positions = list(pos, 3)
	out.from = make([]int32, n)
	for v, k := range c.firsts {
		out.from[v] = c.p[k*c.stride+pos.offset]
	}
	for k := range in {
		i := &in[k]
		width := len(i.src.pick)
		switch i.semantic {
		case "POSITION", "TEXTANGENT", "TEXBINORMAL", "TANGENT", "BINORMAL":
		case "NORMAL":
			if width >= 3 && out.p.Normals == nil {
				out.p.Normals = list(i, 3)
				out.normal = make([]int32, n)
				for v, k := range c.firsts {
					out.normal[v] = c.p[k*c.stride+i.offset]
				}
			}
		case "TEXCOORD", "UV":
			if width < 2 {
				r.Lose("texture coordinates of one number were left out")
				continue
			}
			d := list(i, 2)
			for v := 1; v < len(d); v += 2 {
				d[v] = 1 - d[v] // COLLADA counts v from below
			}
			name := i.src.name
			if name == "" || taken(out.p.UVs, name) {
				name = fmt.Sprintf("uv%d", len(out.p.UVs))
			}
			out.p.UVs = append(out.p.UVs, scene.AttrSet{Name: name, Data: d})
			out.sets = append(out.sets, i.set)
		case "COLOR":
			if width < 3 {
				r.Lose("colours of fewer than three numbers were left out")
				continue
			}
			d := make([]float32, 4*n)
			for v, k := range c.firsts {
				e := int(c.p[k*c.stride+i.offset])
				for j := range 3 {
					d[4*v+j] = format.Linear(float64(i.src.at(e, j)))
				}
				if d[4*v+3] = 1; width > 3 {
					d[4*v+3] = i.src.at(e, 3)
				}
			}
			name := i.src.name
			if name == "" || taken(out.p.Colours, name) {
				name = fmt.Sprintf("colour%d", len(out.p.Colours))
			}
			out.p.Colours = append(out.p.Colours, scene.AttrSet{Name: name, Data: d})
		default:
			r.Lose("vertex data %s was left out", i.semantic)
		}
	}
}

func taken(sets []scene.AttrSet, name string) bool {
	for i := range sets {
		if sets[i].Name == name {
			return true
		}
	}
	return false
}

// bridged joins holes to the polygon around them by the shortest bridge that
// crosses no edge, so that one outline is left (the usual cut; Held, "FIST",
// 2001).
func bridged(outer []int, holes [][]int, at func(int) geom.Vec3) []int {
	if len(outer) < 3 {
		return outer
	}
	normal := func(k []int) (n geom.Vec3) {
		for i := range k {
			a, b := at(k[i]), at(k[(i+1)%len(k)])
			n = n.Add(a.Cross(b))
		}
		return n
	}
	up := normal(outer).Norm()
	crosses := func(a, b, c, d geom.Vec3) bool {
		side := func(p, q, x geom.Vec3) float64 { return q.Sub(p).Cross(x.Sub(p)).Dot(up) }
		return side(a, b, c)*side(a, b, d) < 0 && side(c, d, a)*side(c, d, b) < 0
	}
	for h, hole := range holes {
		if len(hole) < 3 {
			continue
		}
		if normal(hole).Dot(up) > 0 { // a hole runs the other way round
			back := make([]int, len(hole))
			for i := range hole {
				back[i] = hole[len(hole)-1-i]
			}
			hole = back
		}
		free := func(a, b geom.Vec3) bool {
			for _, ring := range append([][]int{outer, hole}, holes[h+1:]...) {
				for i := range ring {
					if crosses(a, b, at(ring[i]), at(ring[(i+1)%len(ring)])) {
						return false
					}
				}
			}
			return true
		}
		bi, bj, best := 0, 0, math.Inf(1)
		// Long outlines are not searched for the best bridge but for any.
		quick := len(outer)*len(hole) > 4096
		for i := range outer {
			for j := range hole {
				d := at(outer[i]).Sub(at(hole[j]))
				if l := d.Dot(d); l < best && (quick || free(at(outer[i]), at(hole[j]))) {
					bi, bj, best = i, j, l
				}
			}
		}
		joined := append([]int{}, outer[:bi+1]...)
		joined = append(append(joined, hole[bj:]...), hole[:bj+1]...)
		outer = append(joined, outer[bi:]...)
	}
	return outer
}
