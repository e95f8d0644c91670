package unfold

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"math/rand"
	"slices"

	"excavate/core/distinct"
)

// rigid moves a facet's own plane into that of a piece: turned, then shifted.
type rigid struct{ cos, sin, x, y float64 }

var still = rigid{cos: 1}

func (r rigid) at(p Point) Point {
	return Point{r.cos*p[0] - r.sin*p[1] + r.x, r.sin*p[0] + r.cos*p[1] + r.y}
}

// after is r, then q.
func (r rigid) after(q rigid) rigid {
	p := q.at(Point{r.x, r.y})
	return rigid{r.cos*q.cos - r.sin*q.sin, r.sin*q.cos + r.cos*q.sin, p[0], p[1]}
}

// onto is what brings a and b to p and q, or as near as turning and shifting do.
func onto(a, b, p, q Point) rigid {
	d, e := b.sub(a), q.sub(p)
	l := d.len() * e.len()
	r := rigid{cos: d.dot(e) / l, sin: d.cross(e) / l}
	mid := r.at(a.add(b).mul(0.5))
	to := p.add(q).mul(0.5)
	r.x, r.y = to[0]-mid[0], to[1]-mid[1]
	return r
}

// flatTriangle is one of a piece, with its bounds.
type flatTriangle struct {
	corners   [3]Point
	low, high Point
	of        int32 // of the model
}

func flatOf(c [3]Point, of int32) flatTriangle {
	t := flatTriangle{corners: c, low: c[0], high: c[0], of: of}
	for _, p := range c[1:] {
		t.low = Point{min(t.low[0], p[0]), min(t.low[1], p[1])}
		t.high = Point{max(t.high[0], p[0]), max(t.high[1], p[1])}
	}
	return t
}

// overlapping is how deep two triangles must lie in each other to overlap, mm.
const overlapping = 1e-3

// overlaps tells whether two triangles have area in common: no side of either
// parts them (the separating axis theorem).
func (t *flatTriangle) overlaps(o *flatTriangle) bool {
	if t.low[0] > o.high[0]-overlapping || o.low[0] > t.high[0]-overlapping ||
		t.low[1] > o.high[1]-overlapping || o.low[1] > t.high[1]-overlapping {
		return false
	}
	return !t.parts(o) && !o.parts(t)
}

// parts tells whether a side of t has all of o outside.
func (t *flatTriangle) parts(o *flatTriangle) bool {
	way := 1.0
	if turn(t.corners[0], t.corners[1], t.corners[2]) < 0 {
		way = -1
	}
	for k := range 3 {
		a, d := t.corners[k], t.corners[(k+1)%3].sub(t.corners[k])
		l := d.len()
		if l == 0 {
			continue
		}
		outside := true
		for _, p := range o.corners {
			if way*d.cross(p.sub(a))/l > overlapping {
				outside = false
				break
			}
		}
		if outside {
			return true
		}
	}
	return false
}

// patch is a piece in the making.
type patch struct {
	facets    []int
	triangles []flatTriangle
	hull      []Point
}

// net is a way to join facets: where each lies in its piece.
type net struct {
	m      *model
	piece  []int // of each facet
	at     []rigid
	pieces []*patch
	folded []bool // of each link
	count  int
	// seconds are what cutting and gluing take that differ between nets.
	seconds float64
}

func (m *model) newNet() *net {
	n := &net{m: m, piece: make([]int, len(m.facets)), at: make([]rigid, len(m.facets)),
		pieces: make([]*patch, len(m.facets)), folded: make([]bool, len(m.edges)), count: len(m.facets)}
	for f := range m.facets {
		p := &patch{facets: []int{f}}
		for _, t := range m.facets[f].triangles {
			var c [3]Point
			for k, v := range m.Triangles[t].At {
				c[k] = m.facets[f].flat[v]
			}
			p.triangles = append(p.triangles, flatOf(c, t))
		}
		for _, q := range m.facets[f].flat {
			p.hull = append(p.hull, q)
		}
		p.hull = convex(p.hull)
		n.piece[f], n.at[f], n.pieces[f] = f, still, p
	}
	return n
}

// ends are a link's longest stretch in the plane of one of its facets, in the
// order in which the facet has it.
func (m *model) ends(l *link, facet int, e int32) (a, b Point) {
	x := &m.Edges[e]
	f := &m.facets[facet]
	a, b = f.flat[x.A], f.flat[x.B]
	for _, u := range x.Uses {
		if int(m.of[u.Triangle]) == facet && !m.Forward(x, u) {
			return b, a
		}
	}
	return a, b
}

// try joins two pieces along a link, if what comes of it neither overlaps nor
// outgrows the page.
func (n *net) try(k int, w, h float64) bool {
	l := &n.m.edges[k]
	f, g := l.facets[0], l.facets[1]
	if len(n.pieces[n.piece[f]].triangles) < len(n.pieces[n.piece[g]].triangles) {
		f, g = g, f
	}
	pf, pg := n.piece[f], n.piece[g]
	if pf == pg {
		return false
	}
	a, b := n.m.ends(l, f, l.longest)
	c, d := n.m.ends(l, g, l.longest)
	move := onto(n.at[g].at(c), n.at[g].at(d), n.at[f].at(b), n.at[f].at(a))
	to, from := n.pieces[pf], n.pieces[pg]
	hull := slices.Clone(to.hull)
	for _, p := range from.hull {
		hull = append(hull, move.at(p))
	}
	if hull = convex(hull); !fits(hull, w, h) {
		return false
	}
	moved := make([]flatTriangle, len(from.triangles))
	for i := range moved {
		t := &from.triangles[i]
		moved[i] = flatOf([3]Point{move.at(t.corners[0]), move.at(t.corners[1]), move.at(t.corners[2])}, t.of)
	}
	if collide(to.triangles, moved) {
		return false
	}
	to.triangles = append(to.triangles, moved...)
	to.hull = hull
	for _, x := range from.facets {
		n.piece[x] = pf
		n.at[x] = n.at[x].after(move)
	}
	to.facets = append(to.facets, from.facets...)
	n.pieces[pg] = nil
	n.folded[k] = true
	n.count--
	return true
}

// collide tells whether triangles of two lists overlap.
func collide(a, b []flatTriangle) bool {
	low, high := bounds(b)
	var near []int
	for i := range a {
		t := &a[i]
		if t.low[0] < high[0] && low[0] < t.high[0] && t.low[1] < high[1] && low[1] < t.high[1] {
			near = append(near, i)
		}
	}
	for k := range b {
		for _, i := range near {
			if a[i].overlaps(&b[k]) {
				return true
			}
		}
	}
	return false
}

func bounds(list []flatTriangle) (low, high Point) {
	low, high = Point{math.Inf(1), math.Inf(1)}, Point{math.Inf(-1), math.Inf(-1)}
	for i := range list {
		low = Point{min(low[0], list[i].low[0]), min(low[1], list[i].low[1])}
		high = Point{max(high[0], list[i].high[0]), max(high[1], list[i].high[1])}
	}
	return low, high
}

// convex is the convex hull of points (Andrew, "Another efficient algorithm for
// convex hulls in two dimensions", 1979).
func convex(points []Point) []Point {
	slices.SortFunc(points, func(a, b Point) int {
		return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1]))
	})
	points = slices.Compact(points)
	if len(points) < 3 {
		return points
	}
	var out []Point
	for range 2 {
		start := len(out)
		for _, p := range points {
			for len(out) >= start+2 && turn(out[len(out)-2], out[len(out)-1], p) <= 0 {
				out = out[:len(out)-1]
			}
			out = append(out, p)
		}
		out = out[:len(out)-1]
		slices.Reverse(points)
	}
	return out
}

// extent is how large points are when turned by an angle.
func extent(points []Point, cos, sin float64) (low, high Point) {
	low, high = Point{math.Inf(1), math.Inf(1)}, Point{math.Inf(-1), math.Inf(-1)}
	for _, p := range points {
		x, y := cos*p[0]-sin*p[1], sin*p[0]+cos*p[1]
		low, high = Point{min(low[0], x), min(low[1], y)}, Point{max(high[0], x), max(high[1], y)}
	}
	return low, high
}

// angles are how many a piece is turned by to see whether it fits, in a quarter.
const angles = 36

// fits tells whether a hull lies in a page some way round.
func fits(hull []Point, w, h float64) bool {
	for k := range angles {
		sin, cos := math.Sincos(float64(k) * math.Pi / (2 * angles))
		low, high := extent(hull, cos, sin)
		if s := high.sub(low); s[0] <= w && s[1] <= h || s[0] <= h && s[1] <= w {
			return true
		}
		if k == 0 && math.Hypot(high[0]-low[0], high[1]-low[1]) > 2*math.Hypot(w, h) {
			return false
		}
	}
	return false
}

// join tries orders and keeps the best net.
func (m *model) join(ctx context.Context, o *Options, told *Told) (*net, error) {
	first, never := m.byHand(o, told)
	w, h := o.inner()
	var best *net
	for i := range m.tries(o) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		n := m.newNet()
		for _, k := range first {
			n.try(k, w, h)
		}
		for _, k := range m.order(i, best) {
			if !never[k] {
				n.try(k, w, h)
			}
		}
		n.weigh()
		if best == nil || n.seconds < best.seconds {
			best = n
		}
	}
	for _, k := range first {
		if !best.folded[k] && !best.meets(k) {
			told.Refused = append(told.Refused, m.edges[k].key)
		}
	}
	for k := range m.edges {
		best.folded[k] = best.folded[k] || !never[k] && best.meets(k)
	}
	return best, nil
}

// weigh tells how much work the net is.
func (n *net) weigh() {
	n.seconds = pieceSeconds * float64(n.count)
	for k := range n.m.edges {
		if l := &n.m.edges[k]; !n.folded[k] && l.facets[1] >= 0 && !n.meets(k) {
			n.seconds += glueSeconds + 2*l.length/cutSpeed
		}
	}
}

// tries are as many as were asked for, else fewer for large models: one order
// over some thousand facets takes a good part of a second.
func (m *model) tries(o *Options) int {
	if o.Tries > 0 {
		return o.Tries
	}
	return max(1, min(usualTries, 10_000/max(len(m.facets), 1)))
}

// byHand are links that are folded first, and those that never are.
func (m *model) byHand(o *Options, told *Told) (first []int, never map[int]bool) {
	number := map[string]int{}
	for k := range m.edges {
		if m.edges[k].facets[1] >= 0 {
			number[m.edges[k].key] = k
		}
	}
	never = map[int]bool{}
	for k := range m.edges {
		if m.edges[k].facets[1] < 0 {
			never[k] = true
		}
	}
	for _, key := range o.Cut {
		if k, ok := number[key]; ok {
			never[k] = true
		} else {
			told.Refused = append(told.Refused, key)
		}
	}
	for _, key := range o.Join {
		k, ok := number[key]
		if !ok || never[k] {
			told.Refused = append(told.Refused, key)
			continue
		}
		first = append(first, k)
	}
	return first, never
}

// nameLinks gives every link its key: where its longest stretch has its middle.
// Those that lie in one place for a thousandth are numbered.
func (m *model) nameLinks() {
	size := m.box.Size()
	var names distinct.Names
	for i := range m.edges {
		e := &m.Edges[m.edges[i].longest]
		mid := m.Places[e.A].Add(m.Places[e.B]).Mul(0.5).Sub(m.box.Min)
		var n [3]int
		for k := range 3 {
			if size[k] > 0 {
				n[k] = int(math.Round(1000 * mid[k] / size[k]))
			}
		}
		m.edges[i].key = names.Name(fmt.Sprintf("%d.%d.%d", n[0], n[1], n[2]), ".")
	}
}

// order is one in which links are tried: the first keeps long edges that are
// folded little; later ones shake that, and those after a third of them begin
// with most of what the best so far has.
func (m *model) order(try int, best *net) []int {
	r := rand.New(rand.NewSource(int64(try)))
	weight := make([]float64, len(m.edges))
	order := make([]int, len(m.edges))
	for k := range m.edges {
		l := &m.edges[k]
		order[k] = k
		weight[k] = l.length * (1.25 - math.Abs(l.angle)/180)
		if try > 0 {
			weight[k] *= math.Exp(0.7 * r.NormFloat64())
		}
		if best != nil && try%3 != 1 && best.folded[k] && r.Float64() < 0.85 {
			weight[k] *= 1e3
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(weight[b], weight[a]) })
	return order
}

// meets tells whether the facets of a link lie edge to edge in one piece, though
// no fold was made: what goes round a flat place comes back to itself.
func (n *net) meets(k int) bool {
	l := &n.m.edges[k]
	if l.facets[1] < 0 || n.piece[l.facets[0]] != n.piece[l.facets[1]] {
		return false
	}
	for _, e := range l.edges {
		a, b := n.m.ends(l, l.facets[0], e)
		c, d := n.m.ends(l, l.facets[1], e)
		f, g := n.at[l.facets[0]], n.at[l.facets[1]]
		if !f.at(a).near(g.at(d), 0.01) || !f.at(b).near(g.at(c), 0.01) {
			return false
		}
	}
	return true
}
