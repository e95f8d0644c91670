package dae

import (
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"

	"excavate/core/format/markup"
	"excavate/core/geom"
	"excavate/core/scene"
)

// curve is a <sampler>: keys of width numbers.
type curve struct {
	times  []float32
	values []float32
	width  int
	interp []string // of each key; empty is LINEAR
	inT    []float32
	outT   []float32
	tanW   int // numbers of a tangent: width, or two times width with times
}

// at samples the curve (section "Curve interpolation").
func (c *curve) at(t float32, out []float32) {
	n := len(c.times)
	k, found := slices.BinarySearch(c.times, t)
	if found || k == 0 || k == n {
		copy(out, c.values[min(k, n-1)*c.width:])
		return
	}
	a, b := c.values[(k-1)*c.width:k*c.width], c.values[k*c.width:(k+1)*c.width]
	t0, t1 := float64(c.times[k-1]), float64(c.times[k])
	u := (float64(t) - t0) / (t1 - t0)
	how := "LINEAR"
	if len(c.interp) > 0 {
		how = c.interp[min(k-1, len(c.interp)-1)]
	}
	switch how {
	case "STEP":
		copy(out, a)
		return
	case "BEZIER", "HERMITE":
		if c.tanW >= c.width && len(c.outT) >= k*c.tanW && len(c.inT) >= (k+1)*c.tanW {
			for i := range out {
				out[i] = float32(c.cubic(how, k, i, t0, t1, float64(t), float64(a[i]), float64(b[i])))
			}
			return
		}
	}
	for i := range out {
		out[i] = a[i] + float32(u)*(b[i]-a[i])
	}
}

// cubic evaluates one number of a Bézier or Hermite segment. Tangents with
// times make the time itself a curve, which is solved for.
func (c *curve) cubic(how string, k, i int, t0, t1, t, a, b float64) float64 {
	two := c.tanW == 2*c.width
	get := func(list []float32, key int) (x, y float64) {
		if two {
			return float64(list[key*c.tanW+2*i]), float64(list[key*c.tanW+2*i+1])
		}
		return math.NaN(), float64(list[key*c.tanW+i])
	}
	x1, y1 := get(c.outT, k-1)
	x2, y2 := get(c.inT, k)
	if how == "HERMITE" { // tangents are derivatives: to control points
		x1, y1 = t0+x1/3, a+y1/3
		x2, y2 = t1-x2/3, b-y2/3
	}
	if !two {
		x1, x2 = t0+(t1-t0)/3, t1-(t1-t0)/3
	}
	x1, x2 = math.Max(t0, math.Min(t1, x1)), math.Max(t0, math.Min(t1, x2))
	bez := func(p0, p1, p2, p3, s float64) float64 {
		r := 1 - s
		return r*r*r*p0 + 3*r*r*s*p1 + 3*r*s*s*p2 + s*s*s*p3
	}
	lo, hi := 0.0, 1.0
	for range 40 { // time rises along the curve, so halving finds its place
		mid := (lo + hi) / 2
		if bez(t0, x1, x2, t1, mid) < t {
			lo = mid
		} else {
			hi = mid
		}
	}
	return bez(a, y1, y2, b, (lo+hi)/2)
}

func (c *curve) curved() bool {
	for _, k := range c.interp {
		if k != "LINEAR" && k != "STEP" {
			return true
		}
	}
	return false
}

func (c *curve) stepped() bool {
	for _, k := range c.interp {
		if k != "STEP" {
			return false
		}
	}
	return len(c.interp) > 0
}

func (r *reader) curve(n *markup.Node) (*curve, error) {
	c := &curve{}
	for _, in := range n.All("input") {
		t, err := r.follow(in, "source")
		if err != nil {
			return nil, err
		}
		s, err := r.source(t)
		if err != nil {
			return nil, err
		}
		list := func() (v []float32) {
			for i := range s.count {
				for k := range s.pick {
					v = append(v, s.at(i, k))
				}
			}
			return v
		}
		switch in.Attr("semantic") {
		case "INPUT":
			c.times = list()
		case "OUTPUT":
			c.values, c.width = list(), len(s.pick)
		case "INTERPOLATION":
			c.interp = s.names
		case "IN_TANGENT":
			c.inT, c.tanW = list(), len(s.pick)
		case "OUT_TANGENT":
			c.outT, c.tanW = list(), len(s.pick)
		}
	}
	if len(c.times) == 0 || c.width == 0 || len(c.values) < len(c.times)*c.width {
		return nil, n.Errorf("a sampler of %d times and %d numbers", len(c.times), len(c.values))
	}
	for i := 1; i < len(c.times); i++ {
		if c.times[i] <= c.times[i-1] {
			return nil, n.Errorf("the times of a sampler do not rise: %g after %g", c.times[i], c.times[i-1])
		}
	}
	return c, nil
}

// channel is a curve and what of a transformation element it moves: all of it
// (-1), or some numbers from first on.
type channel struct {
	sid   string
	first int
	c     *curve
}

var members = map[string]int{"X": 0, "Y": 1, "Z": 2, "ANGLE": 3}

// animations samples what moves each node. Motions are the file's clips, or
// one that holds all.
func (r *reader) animations(root *markup.Node) error {
	type moved struct {
		node     *markup.Node
		channels []channel
	}
	type set struct {
		byNode map[*markup.Node]*moved
		order  []*moved
		morphs []weightCurve
	}
	gather := func(list []*markup.Node) (*set, error) {
		out := &set{byNode: map[*markup.Node]*moved{}}
		var walk func(n *markup.Node, depth int) error
		walk = func(n *markup.Node, depth int) error {
			if err := r.visit(n); err != nil {
				return err
			}
			for _, k := range n.All("animation") {
				if depth < 64 {
					if err := walk(k, depth+1); err != nil {
						return err
					}
				}
			}
			for _, ch := range n.All("channel") {
				s, err := r.follow(ch, "source")
				if err != nil {
					return err
				}
				target := ch.Attr("target")
				id, rest, ok := strings.Cut(target, "/")
				node := r.docFor(ch).ids[id]
				if !ok && node == nil { // a morph's weight: "source(3)"
					id, rest, _ = strings.Cut(target, "(")
					node, rest = r.docFor(ch).ids[id], "("+rest
				}
				if node == nil {
					r.Lose("a motion of %q, which is not there, was left out", id)
					continue
				}
				c, err := r.curve(s)
				if err != nil {
					return err
				}
				if node.Name != "node" {
					if !r.morphMotion(node, rest, c, &out.morphs) {
						r.Lose("a motion of <%s> was left out", node.Name)
					}
					continue
				}
				sid, first := member(rest)
				m := out.byNode[node]
				if m == nil {
					m = &moved{node: node}
					out.byNode[node] = m
					out.order = append(out.order, m)
				}
				m.channels = append(m.channels, channel{sid, first, c})
			}
			return nil
		}
		for _, n := range list {
			if err := walk(n, 0); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	emit := func(name string, list []*markup.Node, from, to float64) error {
		s, err := gather(list)
		if err != nil {
			return err
		}
		m := scene.Motion{Name: name}
		for _, x := range s.order {
			at, ok := r.nodes[x.node]
			if !ok {
				r.Lose("a motion of %q, which the scene does not show, was left out", nameOf(x.node))
				continue
			}
			el, err := transforms(x.node, &r.commas)
			if err != nil {
				return err
			}
			if above, ok := r.above[at]; ok { // what moves is one node
				r.s.Nodes[above].Put(geom.Vec3{}, geom.IdentityQuat, geom.Vec3{1, 1, 1})
				t, q, s, _ := product(el).Decompose()
				r.s.Nodes[at].Put(t, q, s)
				r.Lose("a node that moves is sheared; its axes were squared")
			}
			ch, err := r.sample(at, el, x.channels, from, to)
			if err != nil {
				return err
			}
			m.Channels = append(m.Channels, ch...)
		}
		m.Channels = append(m.Channels, joinWeights(s.morphs, r.s)...)
		if len(m.Channels) > 0 {
			r.s.Motions = append(r.s.Motions, m)
		}
		return nil
	}
	whole := [2]float64{math.Inf(-1), math.Inf(1)}
	for _, lib := range root.All("library_animation_clips") {
		for _, clip := range lib.All("animation_clip") {
			var list []*markup.Node
			for _, in := range clip.All("instance_animation") {
				t, err := r.follow(in, "url")
				if err != nil {
					r.Lose("%v", err)
					continue
				}
				list = append(list, t)
			}
			from, to := whole[0], whole[1]
			if v, err := strconv.ParseFloat(clip.Attr("start"), 64); err == nil {
				from = v
			}
			if v, err := strconv.ParseFloat(clip.Attr("end"), 64); err == nil && v > 0 {
				to = v
			}
			if err := emit(nameOf(clip), list, from, to); err != nil {
				return err
			}
		}
	}
	if len(r.s.Motions) > 0 {
		return nil
	}
	var all []*markup.Node
	name := "motion"
	for _, lib := range root.All("library_animations") {
		all = append(all, lib.All("animation")...)
	}
	if len(all) == 1 && nameOf(all[0]) != "" {
		name = nameOf(all[0])
	}
	return emit(name, all, whole[0], whole[1])
}

// member takes "sid.X", "sid(3)" or "sid(2)(1)" apart.
func member(t string) (sid string, first int) {
	if i := strings.IndexByte(t, '.'); i >= 0 {
		if k, ok := members[t[i+1:]]; ok {
			return t[:i], k
		}
		return t[:i], -1
	}
	if i := strings.IndexByte(t, '('); i >= 0 {
		var n []int
		for _, p := range strings.Split(strings.TrimSuffix(t[i+1:], ")"), ")(") {
			v, err := strconv.Atoi(p)
			if err != nil || v < 0 || v > 15 {
				return t[:i], -1
			}
			n = append(n, v)
		}
		if len(n) == 2 { // row and column
			return t[:i], 4*(n[0]&3) + n[1]&3
		}
		return t[:i], n[0]
	}
	return t, -1
}

// samplesMost bounds the keys that one node's motion may become.
const samplesMost = 1 << 18

// sample turns the curves of a node's elements into keys of its translation,
// rotation and scale. Straight curves of translations and matrices keep their
// keys; others are sampled thirty times a second besides.
func (r *reader) sample(node int, el []element, chans []channel, from, to float64) ([]scene.Channel, error) {
	el = slices.Clone(el)
	index := map[string]int{}
	for i := range el {
		el[i].v = slices.Clone(el[i].v)
		index[el[i].sid] = i
	}
	var use []channel
	stepped, dense := true, false
	var times []float32
	for _, c := range chans {
		i, ok := index[c.sid]
		if !ok || c.first >= 0 && c.first+c.c.width > len(el[i].v) || c.first < 0 && c.c.width < len(el[i].v) {
			r.Lose("a motion of %q, which its node has not, was left out", c.sid)
			continue
		}
		use = append(use, c)
		stepped = stepped && c.c.stepped()
		dense = dense || c.c.curved() || el[i].kind == "rotate" || el[i].kind == "lookat"
		times = append(times, c.c.times...)
	}
	if len(use) == 0 {
		return nil, nil
	}
	slices.Sort(times)
	times = slices.Compact(times)
	if !math.IsInf(from, 0) || !math.IsInf(to, 0) {
		lo, hi := float32(math.Max(from, float64(times[0]))), float32(math.Min(to, float64(times[len(times)-1])))
		times = slices.DeleteFunc(times, func(t float32) bool { return t < lo || t > hi })
		times = append(times, lo, hi)
		slices.Sort(times)
		times = slices.Compact(times)
	}
	if dense && !stepped {
		n := len(times)
		for i := 1; i < n; i++ {
			a, b := float64(times[i-1]), float64(times[i])
			steps := math.Ceil((b - a) * 30)
			if steps > samplesMost || len(times)+int(steps) > samplesMost {
				r.Lose("a motion longer than %d samples keeps only its keys in places", samplesMost)
				break
			}
			for k := 1.0; k < steps; k++ {
				times = append(times, float32(a+(b-a)*k/steps))
			}
		}
		slices.Sort(times)
		times = slices.Compact(times)
	}
	tr := scene.Channel{Node: node, Path: scene.PathTranslation, Interp: scene.Linear}
	if stepped {
		tr.Interp = scene.Step
	}
	ro, sc := tr, tr
	ro.Path, sc.Path = scene.PathRotation, scene.PathScale
	var start float32
	if !math.IsInf(from, 0) {
		start = float32(from)
	}
	out := make([]float32, 16)
	var last geom.Quat
	for _, t := range times {
		for _, c := range use {
			e := &el[index[c.sid]]
			c.c.at(t, out[:min(c.c.width, 16)])
			copy(e.v[max(c.first, 0):], out[:min(c.c.width, 16)])
		}
		p, q, s, exact := product(el).Decompose()
		if !exact {
			r.Lose("a motion shears its node; its axes were squared")
		}
		if q[0]*last[0]+q[1]*last[1]+q[2]*last[2]+q[3]*last[3] < 0 {
			q = geom.Quat{-q[0], -q[1], -q[2], -q[3]}
		}
		last = q
		at := max(t-start, 0)
		for i, c := range []*scene.Channel{&tr, &ro, &sc} {
			if n := len(c.Times); n > 0 && at <= c.Times[n-1] {
				continue
			}
			c.Times = append(c.Times, at)
			switch i {
			case 0:
				c.Values = append(c.Values, float32(p[0]), float32(p[1]), float32(p[2]))
			case 1:
				c.Values = append(c.Values, float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3]))
			default:
				c.Values = append(c.Values, float32(s[0]), float32(s[1]), float32(s[2]))
			}
		}
	}
	n := &r.s.Nodes[node]
	var keep []scene.Channel
	for _, c := range []struct {
		ch   scene.Channel
		rest []float32
	}{{tr, n.Translation[:]}, {ro, n.Rotation[:]}, {sc, n.Scale[:]}} {
		if moves(c.ch.Values, c.rest) {
			keep = append(keep, c.ch)
		}
	}
	return keep, nil
}

// moves tells whether any value differs from how the node stands at rest.
func moves(v, rest []float32) bool {
	size := float32(1e-5)
	for _, x := range rest {
		size = max(size, 1e-5*max(x, -x))
	}
	neg := len(rest) == 4 && v[0]*rest[0]+v[1]*rest[1]+v[2]*rest[2]+v[3]*rest[3] < 0
	for i, x := range v {
		y := rest[i%len(rest)]
		if neg {
			y = -y
		}
		if d := x - y; d > size || d < -size {
			return true
		}
	}
	return false
}

// weightCurve moves one weight of the morph targets that a node shows.
type weightCurve struct {
	index int
	scene.Channel
}

// morphMotion keeps a curve for one weight of a morph: the source of the
// weights and the number of the one that moves.
func (r *reader) morphMotion(n *markup.Node, rest string, c *curve, out *[]weightCurve) bool {
	i := strings.LastIndexByte(rest, '(')
	if i < 0 || c.width != 1 {
		return false
	}
	k, err := strconv.Atoi(strings.TrimSuffix(rest[i+1:], ")"))
	if err != nil || k < 0 {
		return false
	}
	// The controller that has this source, then the nodes that show it.
	for _, node := range sortedNodes(r.nodes) {
		for _, inst := range node.All("instance_controller") {
			t, err := r.follow(inst, "url")
			if err != nil {
				continue
			}
			for range 4 {
				m := t.Child("morph")
				if m == nil {
					if t = t.Child("skin"); t == nil {
						break
					}
					if t, err = r.follow(t, "source"); err != nil {
						break
					}
					continue
				}
				for _, s := range m.All("source") {
					if s == n || t == n {
						ch := weightCurve{k, scene.Channel{Node: r.nodes[node], Path: scene.PathWeights, Interp: scene.Linear, Times: c.times, Values: c.values[:len(c.times)]}}
						if c.stepped() {
							ch.Interp = scene.Step
						}
						*out = append(*out, ch)
						return true
					}
				}
				break
			}
		}
	}
	return false
}

func sortedNodes(m map[*markup.Node]int) []*markup.Node {
	out := make([]*markup.Node, 0, len(m))
	for n := range m {
		out = append(out, n)
	}
	sort.Slice(out, func(i, k int) bool { return m[out[i]] < m[out[k]] })
	return out
}

// joinWeights makes one channel a node of the curves of its single weights.
func joinWeights(single []weightCurve, s *scene.Scene) (out []scene.Channel) {
	byNode := map[int][]*weightCurve{}
	var order []int
	for i := range single {
		n := single[i].Node
		if byNode[n] == nil {
			order = append(order, n)
		}
		byNode[n] = append(byNode[n], &single[i])
	}
	for _, n := range order {
		m := s.Nodes[n].Mesh
		if m < 0 || len(s.Meshes[m].Parts) == 0 {
			continue
		}
		morphs := s.Meshes[m].Parts[0].Morphs
		if len(morphs) == 0 {
			continue
		}
		ch := scene.Channel{Node: n, Path: scene.PathWeights, Interp: byNode[n][0].Interp}
		for _, c := range byNode[n] {
			ch.Times = append(ch.Times, c.Times...)
		}
		slices.Sort(ch.Times)
		ch.Times = slices.Compact(ch.Times)
		ch.Values = make([]float32, len(ch.Times)*len(morphs))
		for k := range morphs {
			for i := range ch.Times {
				ch.Values[i*len(morphs)+k] = morphs[k].Weight
			}
		}
		for _, c := range byNode[n] {
			if c.index >= len(morphs) {
				continue
			}
			for i, t := range ch.Times {
				ch.Values[i*len(morphs)+c.index] = c.At(float64(t))[0]
			}
		}
		if len(ch.Times) > 0 && ch.Times[0] < 0 {
			continue
		}
		out = append(out, ch)
	}
	return out
}
