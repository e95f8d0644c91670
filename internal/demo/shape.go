package demo

import "math"

// The world is modelled right-handed, Y up, facing +Z, in metres. The file
// writers turn it into the basis of each format.

type v3 [3]float64

func (a v3) add(b v3) v3             { return v3{a[0] + b[0], a[1] + b[1], a[2] + b[2]} }
func (a v3) sub(b v3) v3             { return v3{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }
func (a v3) mul(s float64) v3        { return v3{a[0] * s, a[1] * s, a[2] * s} }
func (a v3) dot(b v3) float64        { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }
func (a v3) len() float64            { return math.Sqrt(a.dot(a)) }
func (a v3) unit() v3                { return a.mul(1 / math.Max(a.len(), 1e-12)) }
func (a v3) lerp(b v3, t float64) v3 { return a.mul(1 - t).add(b.mul(t)) }
func (a v3) cross(b v3) v3 {
	return v3{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
}

type quat [4]float64

func turn(axis v3, degrees float64) quat {
	s, c := math.Sincos(degrees * math.Pi / 360)
	a := axis.unit()
	return quat{a[0] * s, a[1] * s, a[2] * s, c}
}

func (q quat) times(b quat) quat {
	return quat{
		q[3]*b[0] + q[0]*b[3] + q[1]*b[2] - q[2]*b[1],
		q[3]*b[1] - q[0]*b[2] + q[1]*b[3] + q[2]*b[0],
		q[3]*b[2] + q[0]*b[1] - q[1]*b[0] + q[2]*b[3],
		q[3]*b[3] - q[0]*b[0] - q[1]*b[1] - q[2]*b[2],
	}
}

// vertex is one corner as the games store it.
type vertex struct {
	p, n   v3
	u, v   float64
	joint  [4]int
	weight [4]float64
}

// surface gathers the vertices and triangles of one part. Triangles are wound
// counter-clockwise seen from outside.
type surface struct {
	verts []vertex
	tris  [][3]int
}

// bind says which bones a ring follows.
type bind struct {
	a, b int
	t    float64 // share of b
}

// ring is one cross-section of a loft.
type ring struct {
	at     v3
	rx, rz float64 // radii along the ring's own two axes
	bind   bind
}

// rect is a place in the picture.
type rect struct{ u0, v0, u1, v1 float64 }

// loft skins rings with segments corners each. The rings' plane is square to
// the path. Every band between two rings has vertices of its own, as careless
// exporters write them, and the seam where u starts and ends is doubled.
func (s *surface) loft(rings []ring, segments int, r rect, side v3) {
	type frame struct{ x, z v3 }
	frames := make([]frame, len(rings))
	for i := range rings {
		a, b := rings[max(i-1, 0)].at, rings[min(i+1, len(rings)-1)].at
		dir := b.sub(a).unit()
		x := side.sub(dir.mul(dir.dot(side))).unit()
		frames[i] = frame{x, x.cross(dir)}
	}
	corner := func(i, k int) vertex {
		t := float64(k) / float64(segments)
		sin, cos := math.Sincos(2 * math.Pi * t)
		rg, f := rings[i], frames[i]
		n := f.x.mul(cos / math.Max(rg.rx, 1e-4)).add(f.z.mul(sin / math.Max(rg.rz, 1e-4))).unit()
		a, b := max(i-1, 0), min(i+1, len(rings)-1)
		along := rings[b].at.sub(rings[a].at)
		slope := ((rings[a].rx + rings[a].rz) - (rings[b].rx + rings[b].rz)) / 2 / math.Max(along.len(), 1e-4)
		n = n.add(along.unit().mul(math.Max(-3, math.Min(3, slope)))).unit()
		return vertex{
			p: rg.at.add(f.x.mul(cos * rg.rx)).add(f.z.mul(sin * rg.rz)), n: n,
			u:     r.u0 + (r.u1-r.u0)*t,
			v:     r.v0 + (r.v1-r.v0)*float64(i)/float64(len(rings)-1),
			joint: [4]int{rg.bind.a, rg.bind.b}, weight: [4]float64{1 - rg.bind.t, rg.bind.t},
		}
	}
	for i := 0; i+1 < len(rings); i++ {
		first := len(s.verts)
		for k := 0; k <= segments; k++ {
			s.verts = append(s.verts, corner(i, k), corner(i+1, k))
		}
		for k := 0; k < segments; k++ {
			a := first + 2*k // a: lower, a+1: upper, a+2, a+3: next
			s.tri(a, a+1, a+3)
			s.tri(a, a+3, a+2)
		}
	}
}

// tri adds a triangle, wound so that its face looks the way its normals do,
// and leaves out those without area.
func (s *surface) tri(a, b, c int) {
	pa, pb, pc := s.verts[a].p, s.verts[b].p, s.verts[c].p
	f := pb.sub(pa).cross(pc.sub(pa))
	if f.len() < 1e-12 {
		return
	}
	if f.dot(s.verts[a].n.add(s.verts[b].n).add(s.verts[c].n)) < 0 {
		b, c = c, b
	}
	s.tris = append(s.tris, [3]int{a, b, c})
}

// box adds a box with flat faces.
func (s *surface) box(min, max v3, r rect, b bind) {
	for axis := 0; axis < 3; axis++ {
		for _, sign := range []float64{-1, 1} {
			var n v3
			n[axis] = sign
			u, w := (axis+1)%3, (axis+2)%3
			first := len(s.verts)
			for k := 0; k < 4; k++ {
				p := min
				if sign > 0 {
					p[axis] = max[axis]
				}
				fu, fv := float64(k&1), float64(k>>1)
				p[u], p[w] = min[u]+(max[u]-min[u])*fu, min[w]+(max[w]-min[w])*fv
				s.verts = append(s.verts, vertex{p: p, n: n, u: r.u0 + (r.u1-r.u0)*fu, v: r.v0 + (r.v1-r.v0)*fv, joint: [4]int{b.a}, weight: [4]float64{1}})
			}
			s.tri(first, first+1, first+3)
			s.tri(first, first+3, first+2)
		}
	}
}

// limb is a rounded tube between points, following one bone or blending into
// the next at its ends.
func (s *surface) limb(points []v3, radii []float64, binds []bind, segments, steps int, r rect, side v3, flat float64) {
	var rings []ring
	for i := 0; i+1 < len(points); i++ {
		for k := 0; k < steps; k++ {
			t := float64(k) / float64(steps)
			rad := radii[i]*(1-t) + radii[i+1]*t
			rings = append(rings, ring{points[i].lerp(points[i+1], t), rad, rad * flat, blend(binds[i], binds[i+1], t)})
		}
	}
	last := len(points) - 1
	rings = append(rings, ring{points[last], radii[last], radii[last] * flat, binds[last]})
	// Round both ends.
	cap := func(at, towards v3, rad float64, b bind) []ring {
		dir := at.sub(towards).unit()
		var out []ring
		for _, deg := range []float64{30, 60, 90} {
			sin, cos := math.Sincos(deg * math.Pi / 180)
			rr := math.Max(rad*cos, 1e-4)
			out = append(out, ring{at.add(dir.mul(rad * sin * 0.7)), rr, rr * flat, b})
		}
		return out
	}
	head := cap(points[0], points[1], radii[0], binds[0])
	tail := cap(points[last], points[last-1], radii[last], binds[last])
	var all []ring
	for i := len(head) - 1; i >= 0; i-- {
		all = append(all, head[i])
	}
	all = append(all, rings...)
	all = append(all, tail...)
	s.loft(all, segments, r, side)
}

// blend moves from one bind to the next over the length of a limb: the last
// third is shared.
func blend(a, b bind, t float64) bind {
	if a.a == b.a {
		return a
	}
	if t < 0.66 {
		return bind{a.a, b.a, 0}
	}
	return bind{a.a, b.a, (t - 0.66) / 0.34 * 0.5}
}
