package brush

import (
	"math"
	"math/big"
	"slices"

	"excavate/core/geom"
)

// plane is n·x = d with n outward, in whole numbers without a common divisor.
// Where they are too large for a float64 the exact ones stand beside.
type plane struct {
	n     geom.Vec3
	d     float64
	exact *[4]*big.Int // nil: n and d are exact
}

// whole is the largest number up to which a float64 holds every whole one.
const whole = 1 << 53

// planeOf is the plane through three points, clockwise seen from the side to
// which the normal shows; ok is false where they lie on one line.
func planeOf(p *[3]point) (plane, bool) {
	places, small := 0, true
	for i := range p {
		for k := range 3 {
			places = max(places, p[i][k].places)
		}
	}
	scale := int64(powers[places])
	var v [3][3]int64
	for i := range p {
		for k, d := range p[i] {
			v[i][k] = d.whole * int64(powers[places-d.places])
			small = small && v[i][k] < 1<<17 && v[i][k] > -1<<17
		}
	}
	if small && places == 0 {
		return smallPlane(&v)
	}
	return largePlane(&v, scale)
}

// smallPlane computes in int64: with coordinates below 2^17 all stays below
// 2^56.
func smallPlane(v *[3][3]int64) (plane, bool) {
	var a, b, n [3]int64
	for k := range 3 {
		a[k], b[k] = v[0][k]-v[1][k], v[2][k]-v[1][k]
	}
	var d, g int64
	for k := range 3 {
		n[k] = a[(k+1)%3]*b[(k+2)%3] - a[(k+2)%3]*b[(k+1)%3]
		d += n[k] * v[0][k]
		g = gcd(g, n[k])
	}
	if g == 0 {
		return plane{}, false
	}
	g = gcd(g, d)
	if d /= g; d >= whole || d <= -whole {
		return largePlane(v, 1)
	}
	q := plane{d: float64(d)}
	for k := range 3 {
		q.n[k] = float64(n[k] / g)
	}
	return q, true
}

func gcd(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return max(a, -a)
}

func largePlane(v *[3][3]int64, scale int64) (plane, bool) {
	var a, b [3]*big.Int
	for k := range 3 {
		a[k], b[k] = big.NewInt(v[0][k]-v[1][k]), big.NewInt(v[2][k]-v[1][k])
	}
	mul := func(x, y *big.Int) *big.Int { return new(big.Int).Mul(x, y) }
	var e [4]*big.Int
	d, g := new(big.Int), new(big.Int)
	for k := range 3 {
		i, j := (k+1)%3, (k+2)%3
		e[k] = mul(a[i], b[j])
		e[k].Sub(e[k], mul(a[j], b[i]))
		d.Add(d, mul(e[k], big.NewInt(v[0][k])))
		// Points are in units of 1/scale, the plane is in whole units.
		e[k].Mul(e[k], big.NewInt(scale))
		g.GCD(nil, nil, g, new(big.Int).Abs(e[k]))
	}
	if g.Sign() == 0 {
		return plane{}, false
	}
	e[3] = d
	g.GCD(nil, nil, g, new(big.Int).Abs(d))
	small := true
	for k := range e {
		e[k].Quo(e[k], g)
		small = small && e[k].BitLen() <= 53
	}
	q := plane{}
	q.d, _ = new(big.Float).SetInt(e[3]).Float64()
	for k := range 3 {
		q.n[k], _ = new(big.Float).SetInt(e[k]).Float64()
	}
	if !small {
		q.exact = &e
	}
	return q, true
}

func (p *plane) whole() [4]*big.Int {
	if p.exact != nil {
		return *p.exact
	}
	return [4]*big.Int{big.NewInt(int64(p.n[0])), big.NewInt(int64(p.n[1])), big.NewInt(int64(p.n[2])),
		big.NewInt(int64(p.d))}
}

// flipped looks the other way.
func (p plane) flipped() plane {
	q := plane{n: p.n.Mul(-1), d: -p.d}
	if p.exact != nil {
		q.exact = &[4]*big.Int{}
		for k, x := range p.exact {
			q.exact[k] = new(big.Int).Neg(x)
		}
	}
	return q
}

// corner is the point in which three planes meet, as x/w, y/w, z/w with w above
// 0. The numbers are exact, or each off by at most err; exact ones are then made
// when they are needed.
type corner struct {
	of    [3]int // planes of the solid
	v     [4]float64
	err   [4]float64 // 0 where exact
	exact *[4]*big.Int
}

// cornerOf computes where planes meet that are known to.
func cornerOf(planes []plane, i, j, k int) corner {
	c := corner{of: [3]int{i, j, k}}
	p, q, r := &planes[i], &planes[j], &planes[k]
	sure := p.exact == nil && q.exact == nil && r.exact == nil
	terms := [3]struct {
		d    float64
		a, b geom.Vec3
	}{{p.d, q.n, r.n}, {q.d, r.n, p.n}, {r.d, p.n, q.n}}
	var sum [4]float64 // of absolute values
	for t, x := range terms {
		for m := range 3 {
			u, w := (m+1)%3, (m+2)%3
			l, s := x.a[u]*x.b[w], x.a[w]*x.b[u]
			c.v[m] += x.d * (l - s)
			sum[m] += math.Abs(x.d) * (math.Abs(l) + math.Abs(s))
			if t == 0 {
				c.v[3] += p.n[m] * (l - s)
				sum[3] += math.Abs(p.n[m]) * (math.Abs(l) + math.Abs(s))
			}
		}
	}
	for m := range 4 {
		if !sure || sum[m] >= whole {
			c.err[m] = 16 * sum[m] / whole
		}
	}
	if c.err[3] > 0 && math.Abs(c.v[3]) <= c.err[3] {
		c.fromExact(planes)
	}
	if c.v[3] < 0 {
		for m := range c.v {
			c.v[m] = -c.v[m]
		}
	}
	return c
}

// integers are the exact numbers, with w above 0.
func (c *corner) integers(planes []plane) *[4]*big.Int {
	if c.exact != nil {
		return c.exact
	}
	var e [4]*big.Int
	for m := range e {
		e[m] = new(big.Int)
	}
	p, q, r := planes[c.of[0]].whole(), planes[c.of[1]].whole(), planes[c.of[2]].whole()
	add := func(to, a, b, c *big.Int, neg bool) {
		x := new(big.Int).Mul(a, b)
		x.Mul(x, c)
		if neg {
			x.Neg(x)
		}
		to.Add(to, x)
	}
	for _, x := range [3][3][4]*big.Int{{p, q, r}, {q, r, p}, {r, p, q}} {
		for m := range 3 {
			u, w := (m+1)%3, (m+2)%3
			add(e[m], x[0][3], x[1][u], x[2][w], false)
			add(e[m], x[0][3], x[1][w], x[2][u], true)
		}
	}
	for m := range 3 {
		u, w := (m+1)%3, (m+2)%3
		add(e[3], p[m], q[u], r[w], false)
		add(e[3], p[m], q[w], r[u], true)
	}
	if e[3].Sign() < 0 {
		for m := range e {
			e[m].Neg(e[m])
		}
	}
	c.exact = &e
	return c.exact
}

// fromExact takes the nearest float64 of the exact numbers.
func (c *corner) fromExact(planes []plane) {
	for m, x := range c.integers(planes) {
		c.v[m], _ = new(big.Float).SetInt(x).Float64()
		c.err[m] = math.Abs(c.v[m]) / whole
	}
}

// side is above 0 where the corner is before a plane, 0 on it, below 0 behind.
func (c *corner) side(planes []plane, of *plane) int {
	s, bound, size := 0.0, 0.0, 0.0
	for m := range 4 {
		k := -of.d
		if m < 3 {
			k = of.n[m]
		}
		s += k * c.v[m]
		bound += math.Abs(k) * c.err[m]
		size += math.Abs(k * c.v[m])
	}
	if of.exact != nil || bound > 0 || size >= whole {
		bound += 16 * size / whole
		if math.Abs(s) <= bound {
			return c.exactSide(planes, of)
		}
	}
	switch {
	case s > 0:
		return 1
	case s < 0:
		return -1
	}
	return 0
}

func (c *corner) exactSide(planes []plane, of *plane) int {
	e, n := c.integers(planes), of.whole()
	sum := new(big.Int).Mul(n[3], e[3])
	sum.Neg(sum)
	for m := range 3 {
		sum.Add(sum, new(big.Int).Mul(n[m], e[m]))
	}
	return sum.Sign()
}

// place is the corner's nearest float64, the same for whichever planes it was
// computed from.
func (c *corner) place(planes []plane) (out geom.Vec3) {
	for m := range 3 {
		if c.err[m] == 0 && c.err[3] == 0 {
			out[m] = c.v[m] / c.v[3]
			continue
		}
		e := c.integers(planes)
		q := new(big.Float).SetPrec(160).SetInt(e[m])
		out[m], _ = q.Quo(q, new(big.Float).SetPrec(160).SetInt(e[3])).Float64()
	}
	return out
}

// polygon is a face of a solid: corners counter-clockwise seen from outside,
// each with the plane on which the edge to the next one lies.
type polygon struct {
	corners []corner
	edges   []int
}

// box is how many planes of a box about everything stand before a solid's own.
const box = 6

// around are the planes of the box: a solid that reaches them has no end.
func around() []plane {
	var out []plane
	for k := range 3 {
		n := geom.Vec3{}
		n[k] = 1
		out = append(out, plane{n: n, d: 4 * mostPlace}, plane{n: n.Mul(-1), d: 4 * mostPlace})
	}
	return out
}

// cutter has room for the polygons that come and go while a face is cut.
type cutter struct {
	a, b  polygon
	sides []int
}

// faceOf is what half-spaces leave of a plane; empty if nothing is left.
func (c *cutter) faceOf(planes []plane, i int) polygon {
	c.a = onBox(planes, i)
	for j := box; j < len(planes) && len(c.a.corners) > 0; j++ {
		if j != i && c.behind(planes, i, j) {
			c.a, c.b = c.b, c.a
		}
	}
	return polygon{slices.Clone(c.a.corners), slices.Clone(c.a.edges)}
}

// onBox is a plane as far as four sides of the box let it: those along which
// the plane does not run.
func onBox(planes []plane, i int) (g polygon) {
	n, k := planes[i].n, 0
	for m := range n {
		if math.Abs(n[m]) > math.Abs(n[k]) {
			k = m
		}
	}
	u, v := (k+1)%3, (k+2)%3
	g = polygon{make([]corner, 0, 8), make([]int, 0, 8)}
	round := [4]int{2 * u, 2 * v, 2*u + 1, 2*v + 1} // +u, +v, -u, -v
	if n[k] < 0 {
		round[1], round[3] = round[3], round[1]
	}
	for e := range round {
		g.corners = append(g.corners, cornerOf(planes, i, round[(e+3)%4], round[e]))
		g.edges = append(g.edges, round[e])
	}
	return g
}

// behind makes b the part of the polygon a on plane i that lies behind plane j.
// It is false where that is all of it. Of two of the same plane the first has
// the polygon.
func (c *cutter) behind(planes []plane, i, j int) bool {
	g, out := &c.a, &c.b
	n := len(g.corners)
	c.sides = c.sides[:0]
	before, after := 0, 0
	for k := range g.corners {
		side := g.corners[k].side(planes, &planes[j])
		c.sides = append(c.sides, side)
		if side > 0 {
			before++
		} else if side < 0 {
			after++
		}
	}
	twin := before == 0 && after == 0
	if before == 0 && !(twin && (j < i || planes[i].n.Dot(planes[j].n) < 0)) {
		return false
	}
	out.corners, out.edges = out.corners[:0], out.edges[:0]
	if after == 0 {
		return true
	}
	for k := range g.corners {
		next := (k + 1) % n
		side, then := c.sides[k], c.sides[next]
		if side <= 0 {
			edge := g.edges[k]
			if side == 0 && then > 0 {
				edge = j
			}
			out.corners, out.edges = append(out.corners, g.corners[k]), append(out.edges, edge)
		}
		switch {
		case side < 0 && then > 0:
			out.corners, out.edges = append(out.corners, cornerOf(planes, i, g.edges[k], j)), append(out.edges, j)
		case side > 0 && then < 0:
			out.corners, out.edges = append(out.corners, cornerOf(planes, i, g.edges[k], j)), append(out.edges, g.edges[k])
		}
	}
	if len(out.corners) < 3 {
		out.corners = out.corners[:0]
	}
	return true
}

// endless tells whether the box holds the polygon in.
func (g *polygon) endless() bool {
	for _, e := range g.edges {
		if e < box {
			return true
		}
	}
	return false
}
