package layout

import (
	"fmt"
	"math"
	"strings"

	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// motionMap is a table of motions, each with the tracks that move its nodes.
type motionMap struct {
	each   *each
	name   *formula
	tracks *trackMap
}

// trackMap is key frames of one node: sparse ones with times of their own, or
// sampled ones at a rate.
type trackMap struct {
	each        *each
	node, count *formula
	path        *choice[string] // translation, rotation, scale, matrix
	interp      *choice[scene.Interp]
	times       *streamMap // nil: sampled
	rate        *formula   // keys a second
	values      *streamMap
	order       *choice[string] // of rotations: xyzw, wxyz or Euler angles
	smallest    *smallestThree
	byColumns   bool
}

// streamMap is numbers at a place and a stride.
type streamMap struct {
	at, stride, scale, add *formula
	format                 *choice[element]
}

// smallestThree is a quaternion that leaves out its largest component, which
// is positive; which one it is, and the other three in their order, are bits
// of a word. They lie between -1 and 1 over the root of 2.
type smallestThree struct {
	largest bitRange
	rest    [3]bitRange
}

func (c *compiler) motions(n *node, sc *scope) *motionMap {
	c.keys(n, "each", "as", "name", "tracks")
	if c.err != nil {
		return nil
	}
	m := &motionMap{each: c.each(n, sc)}
	sc = m.each.scope
	m.name = c.needFormula(n, "name", sc)
	tn := c.need(n, "tracks")
	if tn == nil {
		return m
	}
	c.keys(tn, "each", "as", "node", "path", "count", "interpolation", "times", "rate", "values", "rotation_order", "smallest_three", "matrix_order")
	if c.err != nil {
		return m
	}
	t := &trackMap{each: c.each(tn, sc)}
	sc = t.each.scope
	t.node, t.count, t.rate = c.needFormula(tn, "node", sc), c.needFormula(tn, "count", sc), c.optionalFormula(tn, "rate", sc)
	t.path = chooser(c, c.need(tn, "path"), sc, func(n *node) string {
		return c.oneOf(n, "translation", "rotation", "scale", "matrix")
	})
	t.interp = chooser(c, tn.get("interpolation"), sc, func(n *node) scene.Interp {
		return scene.Interp(c.oneOf(n, "linear", "step"))
	})
	if x := tn.get("times"); x != nil {
		t.times = c.stream(x, sc)
	}
	if (t.times == nil) == (t.rate == nil) && c.err == nil {
		c.fail(tn, "keys have times, or a rate in keys a second")
	}
	if x := c.need(tn, "values"); x != nil {
		t.values = c.stream(x, sc)
	}
	t.order = chooser(c, tn.get("rotation_order"), sc, func(n *node) string {
		return c.oneOf(n, append([]string{"xyzw", "wxyz"}, eulerOrders...)...)
	})
	t.byColumns = c.optionalOf(tn, "matrix_order", "rows", "rows", "columns") == "columns"
	if x := tn.get("smallest_three"); x != nil && c.err == nil {
		c.keys(x, "largest", "a", "b", "c")
		t.smallest = &smallestThree{largest: c.bitRange(c.need(x, "largest"))}
		for i, key := range []string{"a", "b", "c"} {
			t.smallest.rest[i] = c.bitRange(c.need(x, key))
		}
		if c.err == nil && t.smallest.largest.count != 2 {
			c.fail(x, "largest is two bits")
		}
	}
	m.tracks = t
	return m
}

func (c *compiler) stream(n *node, sc *scope) *streamMap {
	c.keys(n, "at", "stride", "format", "scale", "add")
	if c.err != nil {
		return nil
	}
	return &streamMap{at: c.needFormula(n, "at", sc), stride: c.optionalFormula(n, "stride", sc), format: chooser(c, c.need(n, "format"), sc, c.element),
		scale: c.optionalFormula(n, "scale", sc), add: c.optionalFormula(n, "add", sc)}
}

func (b *builder) motions(e *env) error {
	m := b.m.motions
	if m == nil {
		return nil
	}
	return m.each.do(e, func(i int, e *env) error {
		name, err := m.name.text(e)
		if err != nil {
			return err
		}
		return m.tracks.each.do(e, func(j int, e *env) error {
			chs, err := b.track(m.tracks, e)
			if gone := missing(err); gone != nil {
				b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("motion %q track %d is left out: %v", short(name), j, gone), Loss: true})
				return nil
			}
			if err != nil {
				return prefix(err, fmt.Sprintf("motion %q track %d: ", short(name), j))
			}
			for _, ch := range chs {
				b.addChannel(name, ch)
			}
			return nil
		})
	})
}

// raw reads the bytes of n elements of a stream.
func (s *streamMap) raw(e *env, n int64, what string) ([]byte, element, int, error) {
	el, err := s.format.eval(e)
	if err != nil {
		return nil, el, 0, err
	}
	stride := int64(el.bytes())
	if s.stride != nil {
		if stride, err = s.stride.int(e); err != nil {
			return nil, el, 0, err
		}
	}
	if stride < 0 || stride > 1<<20 {
		return nil, el, 0, e.run.errorf(s.stride.line, s.stride.col, "keys %d bytes apart", stride)
	}
	if n == 0 {
		return nil, el, int(stride), nil
	}
	src, err := s.at.bytes(e, fmt.Sprintf("%s of %d keys", what, n), (n-1)*stride+int64(el.bytes()))
	return src, el, int(stride), err
}

// decode reads n elements of want numbers.
func (s *streamMap) decode(e *env, n int64, want int, what string) ([]float32, error) {
	src, el, stride, err := s.raw(e, n, what)
	if err != nil {
		return nil, err
	}
	if el.n < want {
		return nil, e.run.errorf(s.format.n.line, s.format.n.col, "%s need %d numbers a key, the format has %d", what, want, el.n)
	}
	scale, err := scales(s.scale, e, want)
	if err != nil {
		return nil, err
	}
	var add []float64
	if s.add != nil {
		if add, err = s.add.someFloats(e, want); err != nil {
			return nil, err
		}
	}
	return el.decode(src, stride, int(n), want, e.run.layout.order, scale, add), nil
}

func (b *builder) track(t *trackMap, e *env) ([]scene.Channel, error) {
	ch := scene.Channel{Interp: scene.Linear}
	node, err := t.node.int(e)
	if err != nil {
		return nil, err
	}
	if node < 0 || node >= int64(len(b.nodeAt)) {
		return nil, b.errorf(t.node.line, t.node.col, "it moves node %d, and there are %d", node, len(b.nodeAt))
	}
	ch.Node = b.nodeAt[node]
	path, err := t.path.eval(e)
	if err != nil {
		return nil, err
	}
	if t.interp != nil {
		if ch.Interp, err = t.interp.eval(e); err != nil {
			return nil, err
		}
	}
	count, err := t.count.int(e)
	if err != nil {
		return nil, err
	}
	if count < 0 || count > limit.Vertices {
		return nil, b.errorf(t.count.line, t.count.col, "%d keys", count)
	}
	if ch.Times, err = b.times(t, e, count); err != nil {
		return nil, err
	}
	ch.Path = scene.Path(path)
	switch path {
	case "rotation":
		ch.Values, err = b.rotations(t, e, count)
	case "matrix":
		return b.matrices(t, e, count, ch)
	default:
		ch.Values, err = t.values.decode(e, count, 3, "values")
	}
	return []scene.Channel{ch}, err
}

func (b *builder) times(t *trackMap, e *env, n int64) ([]float32, error) {
	if t.times == nil {
		rate, err := t.rate.float(e)
		if err != nil {
			return nil, err
		}
		if !(rate > 0 && rate < 1e6) {
			return nil, b.errorf(t.rate.line, t.rate.col, "%g keys a second", rate)
		}
		// The values are there: read them first, so that a count alone takes no memory.
		if _, _, _, err := t.values.raw(e, n, "values"); err != nil {
			return nil, err
		}
		out := make([]float32, n)
		for i := range out {
			out[i] = float32(float64(i) / rate)
		}
		return out, nil
	}
	out, err := t.times.decode(e, n, 1, "times")
	if err != nil {
		return nil, err
	}
	for i, x := range out {
		if x != x || i > 0 && x < out[i-1] {
			return nil, b.errorf(t.times.at.line, t.times.at.col, "key %d has time %g after %g", i, x, out[max(i-1, 0)])
		}
	}
	return out, nil
}

func (b *builder) rotations(t *trackMap, e *env, n int64) ([]float32, error) {
	kind := "xyzw"
	if t.order != nil {
		var err error
		if kind, err = t.order.eval(e); err != nil {
			return nil, err
		}
	}
	if t.smallest != nil {
		return b.packedRotations(t, e, n)
	}
	want := rotationNumbers(kind)
	d, err := t.values.decode(e, n, want, "values")
	if err != nil {
		return nil, err
	}
	if kind == "xyzw" {
		for i := 0; i+3 < len(d); i += 4 {
			unit(d[i : i+4])
		}
		return d, nil
	}
	out := make([]float32, 0, 4*n)
	var v [4]float64
	for i := 0; i+want <= len(d); i += want {
		for k := range want {
			v[k] = float64(d[i+k])
		}
		out = appendQuat(out, quat(kind, v[:want]))
	}
	return out, nil
}

// appendQuat appends a quaternion on the side of the one before it, so that
// what lies between the two goes the short way.
func appendQuat(out []float32, q geom.Quat) []float32 {
	if n := len(out); n >= 4 {
		dot := 0.0
		for k := range 4 {
			dot += q[k] * float64(out[n-4+k])
		}
		if dot < 0 {
			q = geom.Quat{-q[0], -q[1], -q[2], -q[3]}
		}
	}
	return append(out, float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3]))
}

func (b *builder) packedRotations(t *trackMap, e *env, n int64) ([]float32, error) {
	src, el, stride, err := t.values.raw(e, n, "values")
	if err != nil {
		return nil, err
	}
	if !el.whole() || el.bytes() > 8 {
		return nil, b.errorf(t.values.format.n.line, t.values.format.n.col, "a packed rotation is a word of at most 8 bytes, such as u32 or u16x3")
	}
	out := make([]float32, 0, 4*n)
	for i := range int(n) {
		var w uint64
		p := src[i*stride : i*stride+el.bytes()]
		for k := range p {
			if b.layout.order == bigEndian {
				w = w<<8 | uint64(p[k])
			} else {
				w |= uint64(p[k]) << (8 * k)
			}
		}
		var q geom.Quat
		largest := int(t.smallest.largest.of(w))
		sum, k := 0.0, 0
		for c := range 4 {
			if c == largest {
				continue
			}
			r := t.smallest.rest[k]
			v := (2*float64(r.of(w))/float64(uint64(1)<<r.count-1) - 1) / math.Sqrt2
			q[c] = v
			sum += v * v
			k++
		}
		q[largest] = math.Sqrt(max(0, 1-sum))
		out = appendQuat(out, q.Norm())
	}
	return out, nil
}

// matrices makes three channels of a track of matrices.
func (b *builder) matrices(t *trackMap, e *env, n int64, ch scene.Channel) ([]scene.Channel, error) {
	el, err := t.values.format.eval(e)
	if err != nil {
		return nil, err
	}
	if el.n != 12 && el.n != 16 {
		return nil, b.errorf(t.values.format.n.line, t.values.format.n.col, "a matrix has 12 or 16 numbers, the format has %d", el.n)
	}
	d, err := t.values.decode(e, n, el.n, "values")
	if err != nil {
		return nil, err
	}
	out := [3]scene.Channel{ch, ch, ch}
	for i, p := range []scene.Path{scene.PathTranslation, scene.PathRotation, scene.PathScale} {
		out[i].Path = p
	}
	v := make([]float64, el.n)
	for i := 0; i+el.n <= len(d); i += el.n {
		for k := range v {
			v[k] = float64(d[i+k])
		}
		m, err := matrix(v, t.byColumns)
		if err != nil {
			return nil, b.errorf(t.values.at.line, t.values.at.col, "key %d: %v", i/el.n, err)
		}
		p, q, s, _ := m.Decompose()
		out[0].Values = append(out[0].Values, float32(p[0]), float32(p[1]), float32(p[2]))
		out[1].Values = appendQuat(out[1].Values, q)
		out[2].Values = append(out[2].Values, float32(s[0]), float32(s[1]), float32(s[2]))
	}
	return out[:], nil
}

func unit(q []float32) {
	n := geom.Quat{float64(q[0]), float64(q[1]), float64(q[2]), float64(q[3])}.Norm()
	for i := range n {
		q[i] = float32(n[i])
	}
}

// scales is the factor of each of n numbers; nil is one.
func scales(f *formula, e *env, n int) ([]float64, error) {
	if f == nil {
		return nil, nil
	}
	return f.someFloats(e, n)
}

// someFloats reads one number that stands for all, or a list with one for
// each of n.
func (f *formula) someFloats(e *env, n int) ([]float64, error) {
	v, err := f.eval(e)
	if err != nil {
		return nil, err
	}
	if v.kind == kInt || v.kind == kFloat {
		x, _ := v.float()
		return []float64{x}, nil
	}
	k := 0
	if seq, ok := v.obj.(interface{ Len() int }); ok && v.kind == kObj {
		k = seq.Len()
	}
	if k < 1 || k > n {
		return nil, f.fail(e, fmt.Errorf("%s is not a number, nor a list of at most %d", strings.TrimSpace(v.typeName()), n))
	}
	x, err := v.floats(k)
	if err != nil {
		return nil, f.fail(e, err)
	}
	return x, nil
}
