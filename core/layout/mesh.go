package layout

import (
	"fmt"
	"math"

	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// partMap is a table of mesh parts: where their vertices lie, in which number
// formats, how they are joined to faces, and what moves them.
type partMap struct {
	n              *node
	each           *each
	mesh, material *formula
	level          *formula // level of detail, 0 is the finest
	bone           *formula // the one bone that the whole part hangs on
	boneMap        *formula // the bones that the part's joints count
	vertices       vertexMap
	faces          *faceMap
	shapes         *shapeMap
}

// vertexMap is vertices: interleaved ones at a place and a stride, or streams
// of their own, or both.
type vertexMap struct {
	at, count, stride *formula // at and stride are nil where all are streams
	attrs             []attrMap
}

type attrMap struct {
	n          *node
	is         string
	name       string
	at         *formula // within the vertex
	from       *formula // where a stream of its own begins
	stride     *formula // of the stream
	format     *choice[element]
	scale, add *formula
	when       *formula
	encoding   string // octahedral or angles; empty: the numbers themselves
}

type faceMap struct {
	at, count *formula // without at the vertices are used in their order
	format    *choice[element]
	form      *choice[string]
	clockwise *choice[bool]
	restart   *formula // the index that begins a new strip or fan
	add       *formula // to every index
	sizes     *faceMap // at and format of the corners of each polygon
}

// shapeMap is vertex animation and morph targets: for each shape the vertices
// again.
type shapeMap struct {
	each     *each
	name     *formula
	vertices vertexMap
	motion   *formula // shapes of one name, in order, make a motion
	seconds  *formula // when the shape is reached
	relative bool     // the numbers are offsets from the part's own
}

var attributeNames = []string{"position", "normal", "tangent", "uv", "colour", "joints", "weights"}

func (c *compiler) element(n *node) element {
	e, err := parseElement(c.word(n))
	if err != nil {
		c.fail(n, "%v", err)
	}
	return e
}

func (c *compiler) parts(n *node, sc *scope) *partMap {
	c.keys(n, "each", "as", "mesh", "material", "level", "bone", "bones", "vertices", "attributes", "triangles", "shapes")
	if c.err != nil {
		return nil
	}
	m := &partMap{each: c.each(n, sc), n: n}
	sc = m.each.scope
	m.mesh, m.material, m.level = c.needFormula(n, "mesh", sc), c.optionalFormula(n, "material", sc), c.optionalFormula(n, "level", sc)
	m.bone, m.boneMap = c.optionalFormula(n, "bone", sc), c.optionalFormula(n, "bones", sc)
	m.vertices = c.vertices(c.need(n, "vertices"), c.need(n, "attributes"), sc, attributeNames)
	if c.err == nil && !m.vertices.has("position") {
		c.fail(n.get("attributes"), "attributes name no position")
	}
	if v := c.need(n, "triangles"); v != nil && c.err == nil {
		m.faces = c.faces(v, sc)
	}
	if v := n.get("shapes"); v != nil && c.err == nil {
		c.keys(v, "each", "as", "name", "vertices", "attributes", "motion", "seconds", "relative")
		if c.err != nil {
			return nil
		}
		s := &shapeMap{each: c.each(v, sc)}
		inner := s.each.scope
		s.name, s.motion, s.seconds = c.needFormula(v, "name", inner), c.optionalFormula(v, "motion", inner), c.optionalFormula(v, "seconds", inner)
		if (s.motion == nil) != (s.seconds == nil) {
			c.fail(v, "motion and seconds belong together: the motion's name, and when it reaches the shape")
		}
		w := c.optionalOf(v, "relative", "no", "yes", "no", "true", "false")
		s.relative = w == "yes" || w == "true"
		s.vertices = c.vertices(v.get("vertices"), c.need(v, "attributes"), inner, []string{"position", "normal", "tangent"})
		m.shapes = s
	}
	return m
}

func (v *vertexMap) has(is string) bool {
	for i := range v.attrs {
		if v.attrs[i].is == is {
			return true
		}
	}
	return false
}

func (c *compiler) vertices(n, attrs *node, sc *scope, known []string) (m vertexMap) {
	if n != nil {
		c.keys(n, "at", "count", "stride")
		m.at, m.stride, m.count = c.optionalFormula(n, "at", sc), c.optionalFormula(n, "stride", sc), c.optionalFormula(n, "count", sc)
		if (m.at == nil) != (m.stride == nil) {
			c.fail(n, "at and stride belong together")
		}
	}
	if attrs == nil {
		return m
	}
	for _, it := range attrs.items {
		c.keys(it, "is", "name", "at", "from", "stride", "format", "scale", "add", "when", "encoding")
		if c.err != nil {
			return m
		}
		a := attrMap{n: it, name: c.optional(it, "name", "")}
		if x := c.need(it, "is"); x != nil {
			a.is = c.oneOf(x, known...)
		}
		a.scale, a.add, a.when = c.optionalFormula(it, "scale", sc), c.optionalFormula(it, "add", sc), c.optionalFormula(it, "when", sc)
		a.from, a.stride = c.optionalFormula(it, "from", sc), c.optionalFormula(it, "stride", sc)
		if a.from == nil {
			if a.at = c.needFormula(it, "at", sc); m.at == nil {
				c.fail(it, "at is a place within a vertex, and vertices has no at and stride; a stream of its own begins at from")
			}
			if a.stride != nil {
				c.fail(it, "stride goes with from")
			}
		} else if it.get("at") != nil {
			c.fail(it, "an attribute lies at a place within the vertex, or from a place on in a stream of its own")
		}
		a.format = chooser(c, c.need(it, "format"), sc, c.element)
		a.encoding = c.optionalOf(it, "encoding", "", "octahedral", "angles")
		if a.encoding != "" && a.is != "normal" && a.is != "tangent" {
			c.fail(it, "%s is how a direction is kept, not a %s", a.encoding, a.is)
		}
		m.attrs = append(m.attrs, a)
	}
	return m
}

func (c *compiler) faces(v *node, sc *scope) *faceMap {
	c.keys(v, "at", "count", "format", "winding", "form", "restart", "add", "sizes")
	if c.err != nil {
		return nil
	}
	whole := func(n *node) element {
		e := c.element(n)
		if c.err == nil && (!e.whole() || e.n != 1) {
			c.fail(n, "indices are u8, u16 or u32")
		}
		return e
	}
	m := &faceMap{at: c.optionalFormula(v, "at", sc), count: c.needFormula(v, "count", sc)}
	if m.at != nil {
		m.format = chooser(c, c.need(v, "format"), sc, whole)
	}
	m.form = chooser(c, v.get("form"), sc, func(n *node) string { return c.oneOf(n, "list", "strip", "fan", "quads", "polygons") })
	m.clockwise = chooser(c, v.get("winding"), sc, func(n *node) bool { return c.oneOf(n, "counter-clockwise", "clockwise") == "clockwise" })
	m.restart, m.add = c.optionalFormula(v, "restart", sc), c.optionalFormula(v, "add", sc)
	if x := v.get("sizes"); x != nil && c.err == nil {
		c.keys(x, "at", "format")
		m.sizes = &faceMap{at: c.needFormula(x, "at", sc), format: chooser(c, c.need(x, "format"), sc, whole)}
	}
	return m
}

func (b *builder) parts(e *env) error {
	m := b.m.parts
	if m == nil {
		return nil
	}
	return m.each.do(e, func(i int, e *env) error {
		name, err := m.mesh.text(e)
		if err != nil {
			return err
		}
		if m.level != nil {
			l, err := m.level.int(e)
			if err != nil {
				return err
			}
			if l > 0 {
				name = fmt.Sprintf("%s lod %d", name, l)
			}
		}
		part, motions, err := b.part(e, name)
		if gone := missing(err); gone != nil {
			if b.lost == nil {
				b.lost = err
			}
			b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("part %d %q is left out: %v", i, short(name), gone), Loss: true})
			return nil
		}
		if err != nil {
			return prefix(err, fmt.Sprintf("part %d %q: ", i, short(name)))
		}
		k := b.meshNamed(name)
		b.skinned[k] = b.skinned[k] || part.Joints != nil
		b.s.Meshes[k].Parts = append(b.s.Meshes[k].Parts, *part)
		return b.shapeMotions(k, motions)
	})
}

func (b *builder) part(e *env, mesh string) (*scene.Part, []moment, error) {
	m := b.m.parts
	p := &scene.Part{Material: scene.None}
	if m.material != nil {
		k, err := m.material.int(e)
		if err != nil {
			return nil, nil, err
		}
		if k < scene.None || k >= int64(len(b.s.Materials)) {
			return nil, nil, b.errorf(m.material.line, m.material.col, "material %d: there are %d", k, len(b.s.Materials))
		}
		p.Material = int(k)
	}
	cur, at := b.cur, b.at
	defer func() { b.cur, b.at = cur, at }()
	if m.vertices.count == nil {
		return nil, nil, b.errorf(m.n.line, m.n.col, "vertices need a count")
	}
	n, err := m.vertices.count.int(e)
	if err != nil {
		return nil, nil, err
	}
	if n < 0 || n > limit.Vertices {
		return nil, nil, b.errorf(m.vertices.count.line, m.vertices.count.col, "%d vertices", n)
	}
	if err := b.attributes(&m.vertices, e, p, int(n)); err != nil {
		return nil, nil, err
	}
	if err := b.joints(p, e); err != nil {
		return nil, nil, err
	}
	if p.Triangles, err = b.triangles(m.faces, e, p); err != nil {
		return nil, nil, err
	}
	keys, err := b.shapes(p, e)
	return p, keys, err
}

// attributes decodes n vertices into a part.
func (b *builder) attributes(m *vertexMap, e *env, p *scene.Part, n int) error {
	var base *opened
	var baseAt, stride int64
	if m.at != nil {
		var err error
		if base, baseAt, err = m.at.place(e); err != nil {
			return err
		}
		if stride, err = m.stride.int(e); err != nil {
			return err
		}
		if stride < 1 || stride > 1<<16 {
			return b.errorf(m.stride.line, m.stride.col, "%d vertices %d bytes apart", n, stride)
		}
	}
	return b.attributesAt(m, e, p, n, base, baseAt, stride)
}

// attributesAt decodes n vertices that lie stride bytes apart from a place on.
func (b *builder) attributesAt(m *vertexMap, e *env, p *scene.Part, n int, base *opened, baseAt, stride int64) error {
	for k := range m.attrs {
		a := &m.attrs[k]
		if a.when != nil {
			if v, err := a.when.eval(e); err != nil {
				return err
			} else if !v.truth() {
				continue
			}
		}
		el, err := a.format.eval(e)
		if err != nil {
			return err
		}
		src, at, apart, where := base, baseAt, stride, a.from
		if a.from != nil {
			if src, at, err = a.from.place(e); err != nil {
				return err
			}
			apart = int64(el.bytes())
			if a.stride != nil {
				if apart, err = a.stride.int(e); err != nil {
					return err
				}
				if apart < 0 || apart > 1<<16 {
					return b.errorf(a.stride.line, a.stride.col, "%d vertices %d bytes apart", n, apart)
				}
			}
		} else {
			off, err := a.at.int(e)
			if err != nil {
				return err
			}
			if off < 0 {
				return b.errorf(a.at.line, a.at.col, "%s at %d within the vertex", a.is, off)
			}
			at, where = at+off, m.at
		}
		var data []byte
		if n > 0 {
			size := int64(n-1)*apart + int64(el.bytes())
			b.cur, b.at = src, at
			if data, err = src.in.Bytes(at, size); err != nil || b.tracer != nil {
				// Said only where somebody reads it: a program loads a few vertices at a time.
				what := fmt.Sprintf("%s of %d vertices, %d bytes apart", a.is, n, apart)
				if data, err = b.read(where, src, at, size, what); err != nil {
					return err
				}
			}
		}
		if a.is == "joints" {
			b.jointsIn, b.jointsAt, b.jointsApart = src, at, apart
		}
		if err := b.attribute(a, e, p, el, data, int(apart), n); err != nil {
			return err
		}
	}
	if b.tracer != nil && base != nil && n > 0 { // to the end of the last one
		b.tracer.use(base, baseAt, min(int64(n)*stride, base.in.Size()-baseAt), fmt.Sprintf("%d vertices, %d bytes apart", n, stride), m.attrs[0].n.line, m.attrs[0].n.col, nil)
	}
	return nil
}

// attribute decodes one attribute from its bytes.
func (b *builder) attribute(a *attrMap, e *env, p *scene.Part, el element, src []byte, stride, n int) error {
	scale, err := scales(a.scale, e, el.n)
	if err != nil {
		return err
	}
	var add []float64
	if a.add != nil {
		if add, err = a.add.someFloats(e, el.n); err != nil {
			return err
		}
	}
	order := b.layout.order
	want := map[string]int{"position": 3, "normal": 3, "tangent": 4, "uv": 2, "colour": 4, "weights": el.n, "joints": el.n}[a.is]
	if a.encoding != "" {
		want = 2
	}
	if el.n < want && !(a.is == "colour" && el.n == 3) && !(a.is == "tangent" && el.n == 3) {
		return b.errorf(a.n.line, a.n.col, "%s needs %d numbers, %s has %d", a.is, want, el.comp, el.n)
	}
	decode := func(want int) []float32 { return el.decode(src, stride, n, want, order, scale, add) }
	direction := func(want int) []float32 {
		switch a.encoding {
		case "octahedral":
			return octahedral(decode(2), want)
		case "angles":
			return angles(decode(2), want)
		}
		if el.n < want {
			return widen(decode(el.n), el.n, want)
		}
		return decode(want)
	}
	switch a.is {
	case "position":
		p.Positions = decode(3)
	case "normal":
		p.Normals = direction(3)
		unitNormals(p.Normals)
	case "tangent":
		p.Tangents = direction(4)
	case "uv":
		p.UVs = append(p.UVs, scene.AttrSet{Name: a.name, Data: decode(2)})
	case "colour":
		p.Colours = append(p.Colours, scene.AttrSet{Name: a.name, Data: widen(decode(min(el.n, 4)), min(el.n, 4), 4)})
	case "weights":
		p.Weights = decode(el.n)
	case "joints":
		if !el.whole() {
			return b.errorf(a.n.line, a.n.col, "joints are u8, u16 or u32")
		}
		idx := el.ints(src, stride, n, order)
		p.Joints, p.Influences = make([]uint16, len(idx)), el.n
		for j, v := range idx {
			p.Joints[j] = uint16(min(v, math.MaxUint16))
		}
	}
	return nil
}

// joints completes what hangs on which bone: joints that count a list of the
// part's own, one bone for all, weights whose last is what the others leave.
func (b *builder) joints(p *scene.Part, e *env) error {
	m := b.m.parts
	n := p.Vertices()
	if m.boneMap != nil && p.Joints != nil {
		v, err := m.boneMap.eval(e)
		if err != nil {
			return err
		}
		seq, ok := v.obj.(interface{ Len() int })
		if v.kind != kObj || !ok || seq.Len() > math.MaxUint16 {
			return m.boneMap.fail(e, fmt.Errorf("%s is not a list of bones", v.typeName()))
		}
		list, err := v.floats(seq.Len())
		if err != nil {
			return m.boneMap.fail(e, err)
		}
		for i, j := range p.Joints {
			if int(j) >= len(list) {
				if p.Weights != nil && p.Weights[min(i, len(p.Weights)-1)] == 0 {
					continue
				}
				return b.errorf(m.boneMap.line, m.boneMap.col, "vertex %d counts bone %d of %d", i/p.Influences, j, len(list))
			}
			p.Joints[i] = uint16(min(max(list[j], 0), math.MaxUint16))
		}
	}
	if m.bone != nil && p.Joints == nil {
		k, err := m.bone.int(e)
		if err != nil {
			return err
		}
		if k >= 0 {
			if k >= int64(len(b.bones)) {
				return b.errorf(m.bone.line, m.bone.col, "it hangs on bone %d, and there are %d", k, len(b.bones))
			}
			hangOn(p, uint16(k))
		}
	}
	switch {
	case p.Joints != nil && p.Weights == nil && p.Influences == 1:
		p.Weights = make([]float32, n)
		for i := range p.Weights {
			p.Weights[i] = 1
		}
	case n > 0 && len(p.Weights) == n*(p.Influences-1) && p.Influences > 1:
		k := p.Influences
		full := make([]float32, n*k)
		for v := 0; v < n; v++ {
			rest := float32(1)
			for i := 0; i < k-1; i++ {
				full[v*k+i] = p.Weights[v*(k-1)+i]
				rest -= full[v*k+i]
			}
			full[v*k+k-1] = max(rest, 0)
		}
		p.Weights = full
	}
	if (p.Joints == nil) != (p.Weights == nil) || len(p.Joints) != len(p.Weights) {
		return b.errorf(m.n.line, m.n.col, "joints and weights belong together: %d joints, %d weights", len(p.Joints), len(p.Weights))
	}
	return b.weights(p, m.n)
}

// hangOn hangs a whole part on one bone.
func hangOn(p *scene.Part, bone uint16) {
	n := p.Vertices()
	p.Influences, p.Joints, p.Weights = 1, make([]uint16, n), make([]float32, n)
	for i := range p.Joints {
		p.Joints[i], p.Weights[i] = bone, 1
	}
}

// weights brings each vertex' weights to a sum of one and checks its joints.
func (b *builder) weights(p *scene.Part, n *node) error {
	k := p.Influences
	loose := 0
	fail := func(v int, format string, a ...any) error {
		if b.jointsIn != nil {
			b.cur, b.at = b.jointsIn, b.jointsAt+int64(v)*b.jointsApart
		}
		return b.errorf(n.line, n.col, "vertex %d %s", v, fmt.Sprintf(format, a...))
	}
	for v := 0; k > 0 && v < p.Vertices(); v++ {
		sum := float32(0)
		for i := v * k; i < v*k+k; i++ {
			w := p.Weights[i]
			if w < 0 || w != w {
				return fail(v, "has a weight of %g", w)
			}
			if w == 0 {
				p.Joints[i] = 0
			} else if int(p.Joints[i]) >= len(b.bones) {
				return fail(v, "hangs on bone %d, and there are %d", p.Joints[i], len(b.bones))
			}
			sum += w
		}
		if sum == 0 {
			loose++
			p.Weights[v*k] = 1
			continue
		}
		for i := v * k; i < v*k+k; i++ {
			p.Weights[i] /= sum
		}
	}
	if loose > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("%d vertices had no weight and now follow the first bone", loose)})
	}
	return nil
}

// triangles reads a part's faces as a triangle list.
func (b *builder) triangles(m *faceMap, e *env, p *scene.Part) ([]uint32, error) {
	count, err := m.count.int(e)
	if err != nil {
		return nil, err
	}
	form := "list"
	if m.form != nil {
		if form, err = m.form.eval(e); err != nil {
			return nil, err
		}
	}
	if count < 0 || count > limit.Vertices {
		return nil, b.errorf(m.count.line, m.count.col, "%d triangles", count)
	}
	corners := count // how many indices there are
	var sizes []uint32
	switch {
	case form == "list":
		corners = 3 * count
	case form == "quads":
		corners = 4 * count
	case form == "polygons":
		if m.sizes == nil {
			return nil, b.errorf(m.count.line, m.count.col, "polygons need sizes: where the number of corners of each lies")
		}
		if sizes, err = b.indices(m.sizes, e, count, "corners of polygons"); err != nil {
			return nil, err
		}
		corners = 0
		for _, s := range sizes {
			if corners += int64(s); corners > limit.Vertices {
				return nil, b.errorf(m.sizes.at.line, m.sizes.at.col, "more than %d corners", limit.Vertices)
			}
		}
	}
	var idx []uint32
	n := uint32(p.Vertices())
	if m.at != nil {
		if idx, err = b.indices(m, e, corners, "indices"); err != nil {
			return nil, err
		}
	} else {
		if corners > int64(n) {
			return nil, b.errorf(m.count.line, m.count.col, "%d corners without indices, and there are %d vertices", corners, n)
		}
		idx = make([]uint32, corners)
		for i := range idx {
			idx[i] = uint32(i)
		}
	}
	restart := int64(-1)
	if m.restart != nil {
		if restart, err = m.restart.int(e); err != nil {
			return nil, err
		}
	}
	add := int64(0)
	if m.add != nil {
		if add, err = m.add.int(e); err != nil {
			return nil, err
		}
	}
	const cut = math.MaxUint32
	size := int64(0)
	if m.format != nil {
		el, _ := m.format.eval(e)
		size = int64(el.size)
	}
	first := b.at
	for i, v := range idx {
		if int64(v) == restart {
			idx[i] = cut
			continue
		}
		if w := int64(v) + add; w < 0 || w >= int64(n) {
			b.at = first + int64(i)*size
			return nil, b.errorf(m.count.line, m.count.col, "triangle %d uses vertex %d, and there are %d", i/3, w, n)
		}
		idx[i] = uint32(int64(v) + add)
	}
	out := idx
	switch form {
	case "strip":
		out = fromStrip(idx, cut)
	case "fan":
		out = fromFan(idx, cut)
	case "quads":
		sizes = make([]uint32, count)
		for i := range sizes {
			sizes[i] = 4
		}
		fallthrough
	case "polygons":
		out = fromPolygons(idx, sizes, p.Positions)
	default:
		if restart >= 0 {
			for _, v := range idx {
				if v == cut {
					return nil, b.errorf(m.restart.line, m.restart.col, "restart is for strips and fans, not for a list of triangles")
				}
			}
		}
	}
	// Our winding: (b-a) x (c-a), computed from the coordinates, points to the
	// front. That is counter-clockwise in a right-handed system and clockwise
	// in a left-handed one.
	clockwise := false
	if m.clockwise != nil {
		if clockwise, err = m.clockwise.eval(e); err != nil {
			return nil, err
		}
	}
	if clockwise != (b.s.Basis.Handed == geom.Left) {
		for i := 0; i+2 < len(out); i += 3 {
			out[i+1], out[i+2] = out[i+2], out[i+1]
		}
	}
	return out, nil
}

func (b *builder) indices(m *faceMap, e *env, n int64, what string) ([]uint32, error) {
	el, err := m.format.eval(e)
	if err != nil {
		return nil, err
	}
	src, err := m.at.bytes(e, fmt.Sprintf("%d %s", n, what), n*int64(el.size))
	if err != nil {
		return nil, err
	}
	return el.ints(src, el.size, int(n), b.layout.order), nil
}

// fromStrip makes triangles of strips: each index with the two before it,
// every second one turned round. Joins that repeat an index fall out.
func fromStrip(idx []uint32, cut uint32) []uint32 {
	out := make([]uint32, 0, 3*len(idx))
	run := 0
	for i, v := range idx {
		if v == cut {
			run = 0
			continue
		}
		if run++; run < 3 {
			continue
		}
		x, y, z := idx[i-2], idx[i-1], v
		if x == y || y == z || x == z {
			continue
		}
		if run%2 == 0 {
			x, y = y, x
		}
		out = append(out, x, y, z)
	}
	return out
}

// fromFan makes triangles of fans around the first index of each.
func fromFan(idx []uint32, cut uint32) []uint32 {
	out := make([]uint32, 0, 3*len(idx))
	hub, run := uint32(0), 0
	for i, v := range idx {
		if v == cut {
			run = 0
			continue
		}
		if run++; run == 1 {
			hub = v
		}
		if run >= 3 && hub != idx[i-1] && idx[i-1] != v && hub != v {
			out = append(out, hub, idx[i-1], v)
		}
	}
	return out
}

// fromPolygons cuts polygons into triangles, concave ones by their ears.
func fromPolygons(idx, sizes []uint32, positions []float32) []uint32 {
	out := make([]uint32, 0, 3*len(idx)/2)
	var cutter geom.Cutter
	for _, n := range sizes {
		poly := idx[:n]
		idx = idx[n:]
		out = cutter.Faces(out, positions, poly)
	}
	return out
}

// moment is a shape's place in a motion.
type moment struct {
	motion  string
	seconds float64
	shape   int
}

// shapes reads a part's morph targets.
func (b *builder) shapes(p *scene.Part, e *env) (keys []moment, err error) {
	m := b.m.parts.shapes
	if m == nil {
		return nil, nil
	}
	n := p.Vertices()
	budget := int64(limit.Vertices)
	err = m.each.do(e, func(i int, e *env) error {
		if budget -= int64(n) + 1; budget < 0 {
			return b.errorf(m.each.list.line, m.each.list.col, "more than %d vertices in shapes", limit.Vertices)
		}
		name, err := m.name.text(e)
		if err != nil {
			return err
		}
		var q scene.Part
		if err := b.attributes(&m.vertices, e, &q, n); err != nil {
			return prefix(err, fmt.Sprintf("shape %d %q: ", i, short(name)))
		}
		t := scene.MorphTarget{Name: name, Positions: q.Positions, Normals: q.Normals, Tangents: q.Tangents}
		if !m.relative {
			offset(t.Positions, p.Positions)
			offset(t.Normals, p.Normals)
		}
		if t.Tangents != nil { // an offset has no sign
			t.Tangents = narrow(t.Tangents, 4, 3)
			if !m.relative && p.Tangents != nil {
				offset(t.Tangents, narrow(p.Tangents, 4, 3))
			}
		}
		p.Morphs = append(p.Morphs, t)
		if m.motion == nil {
			return nil
		}
		k := moment{shape: i}
		if k.motion, err = m.motion.text(e); err != nil {
			return err
		}
		if k.seconds, err = m.seconds.float(e); err != nil {
			return err
		}
		if k.motion != "" {
			keys = append(keys, k)
		}
		return nil
	})
	return keys, err
}

func offset(d, from []float32) {
	for i := range d {
		if i < len(from) {
			d[i] -= from[i]
		}
	}
}

// shapeMotions makes motions of shapes that follow one another: each key has
// one shape in full and the others not at all.
func (b *builder) shapeMotions(mesh int, keys []moment) error {
	if len(keys) == 0 {
		return nil
	}
	at := -1
	for i := range b.s.Nodes {
		if b.s.Nodes[i].Mesh == mesh {
			at = i
		}
	}
	shapes := len(b.s.Meshes[mesh].Parts[len(b.s.Meshes[mesh].Parts)-1].Morphs)
	for len(keys) > 0 {
		n := 1
		for n < len(keys) && keys[n].motion == keys[0].motion {
			n++
		}
		if int64(n)*int64(shapes) > limit.Records {
			return b.errorf(b.m.parts.n.line, b.m.parts.n.col, "motion %q has %d keys of %d shapes", keys[0].motion, n, shapes)
		}
		ch := scene.Channel{Node: at, Path: scene.PathWeights, Interp: scene.Linear, Values: make([]float32, n*shapes)}
		for i, k := range keys[:n] {
			if i > 0 && k.seconds <= keys[i-1].seconds {
				return b.errorf(b.m.parts.n.line, b.m.parts.n.col, "motion %q reaches shape %d at %g s, after %g s", k.motion, k.shape, k.seconds, keys[i-1].seconds)
			}
			ch.Times = append(ch.Times, float32(k.seconds))
			ch.Values[i*shapes+k.shape] = 1
		}
		b.addChannel(keys[0].motion, ch)
		keys = keys[n:]
	}
	return nil
}

// addChannel adds a channel to the motion of a name, once for each node and
// path.
func (b *builder) addChannel(motion string, ch scene.Channel) {
	for i := range b.s.Motions {
		if b.s.Motions[i].Name != motion {
			continue
		}
		for _, c := range b.s.Motions[i].Channels {
			if c.Node == ch.Node && c.Path == ch.Path {
				return // the mesh's parts share their shapes
			}
		}
		b.s.Motions[i].Channels = append(b.s.Motions[i].Channels, ch)
		return
	}
	b.s.Motions = append(b.s.Motions, scene.Motion{Name: motion, Channels: []scene.Channel{ch}})
}

func unitNormals(d []float32) {
	for i := 0; i+2 < len(d); i += 3 {
		x, y, z := d[i], d[i+1], d[i+2]
		if l := float32(math.Sqrt(float64(x*x + y*y + z*z))); l > 0 {
			d[i], d[i+1], d[i+2] = x/l, y/l, z/l
		}
	}
}

// widen fills elements of n numbers up to want with ones: an alpha, or a
// tangent's sign.
func widen(d []float32, n, want int) []float32 {
	if n == want {
		return d
	}
	out := make([]float32, len(d)/n*want)
	for i, o := 0, 0; i+n <= len(d); i, o = i+n, o+want {
		copy(out[o:], d[i:i+n])
		for k := n; k < want; k++ {
			out[o+k] = 1
		}
	}
	return out
}

func narrow(d []float32, n, want int) []float32 {
	out := make([]float32, 0, len(d)/n*want)
	for i := 0; i+n <= len(d); i += n {
		out = append(out, d[i:i+want]...)
	}
	return out
}

// octahedral unfolds directions from two numbers in -1 to 1 (Cigolle and
// others, "A Survey of Efficient Representations for Independent Unit
// Vectors", JCGT 3/2, 2014).
func octahedral(d []float32, want int) []float32 {
	out := make([]float32, 0, len(d)/2*want)
	for i := 0; i+1 < len(d); i += 2 {
		x, y := float64(d[i]), float64(d[i+1])
		z := 1 - math.Abs(x) - math.Abs(y)
		if z < 0 {
			x, y = (1-math.Abs(y))*math.Copysign(1, x), (1-math.Abs(x))*math.Copysign(1, y)
		}
		v := geom.Vec3{x, y, z}.Norm()
		out = append(out, float32(v[0]), float32(v[1]), float32(v[2]))
		if want == 4 {
			out = append(out, 1)
		}
	}
	return out
}

// angles makes directions of a longitude, from x towards y, and a latitude,
// towards z, in radians.
func angles(d []float32, want int) []float32 {
	out := make([]float32, 0, len(d)/2*want)
	for i := 0; i+1 < len(d); i += 2 {
		sl, cl := math.Sincos(float64(d[i]))
		sb, cb := math.Sincos(float64(d[i+1]))
		out = append(out, float32(cb*cl), float32(cb*sl), float32(sb))
		if want == 4 {
			out = append(out, 1)
		}
	}
	return out
}
