package hull

import (
	"math"
	"slices"

	"excavate/core/geom"
)

// Frame is three directions at right angles to each other, right-handed.
type Frame [3]geom.Vec3

// Axes are those of the space itself.
var Axes = Frame{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}

// into is a point in the frame's numbers.
func (f *Frame) into(p geom.Vec3) geom.Vec3 {
	return geom.Vec3{p.Dot(f[0]), p.Dot(f[1]), p.Dot(f[2])}
}

// out is the point that the frame's numbers name.
func (f *Frame) out(p geom.Vec3) geom.Vec3 {
	return f[0].Mul(p[0]).Add(f[1].Mul(p[1])).Add(f[2].Mul(p[2]))
}

// Quat is the turn from the axes of the space to those of the frame.
func (f *Frame) Quat() geom.Quat {
	m := geom.Identity
	for k := range f {
		for r := range 3 {
			m[4*k+r] = f[k][r]
		}
	}
	_, q, _, _ := m.Decompose()
	return q
}

// Box is the smallest box along the frame that holds all points: its middle
// and the lengths of its edges.
func (f *Frame) Box(points []geom.Vec3) (centre, size geom.Vec3) {
	b := geom.EmptyBox()
	for _, p := range points {
		b.Add(f.into(p))
	}
	return f.out(b.Centre()), b.Size()
}

// fineEnough is with how many corners of a hull the directions of boxes are
// tried; the boxes themselves hold all points.
const fineEnough = 64

// Best is the frame of a small box round the points: of those with a side on a
// face of their hull and another on an edge beside it, the smallest. For
// points in one plane it lies in that plane.
func Best(points []geom.Vec3) Frame {
	h, ok := Of(points, fineEnough)
	if !ok {
		return flatFrame(points)
	}
	best, least := Axes, math.Inf(1)
	try := func(f Frame) {
		_, s := f.Box(h.Corners)
		// A hair's breadth in favour of what came first: the axes, where they serve.
		if v := s[0] * s[1] * s[2]; v < least*(1-1e-6) {
			best, least = f, v
		}
	}
	try(Axes)
	for _, t := range h.Faces {
		a := h.Corners[t[0]]
		n := h.Corners[t[1]].Sub(a).Cross(h.Corners[t[2]].Sub(a)).Norm()
		if n.Len() == 0 {
			continue
		}
		for k := range 3 {
			u := h.Corners[t[(k+1)%3]].Sub(h.Corners[t[k]]).Norm()
			if u.Len() > 0 {
				try(Frame{u, n.Cross(u), n})
			}
		}
	}
	return best
}

// flatFrame has its third direction across the plane in which points lie, and
// its first along their greatest distance.
func flatFrame(points []geom.Vec3) Frame {
	if len(points) == 0 {
		return Axes
	}
	far := func(from geom.Vec3) geom.Vec3 {
		best := from
		for _, p := range points {
			if p.Sub(from).Len() > best.Sub(from).Len() {
				best = p
			}
		}
		return best
	}
	a := far(points[0])
	u := far(a).Sub(a).Norm()
	if u.Len() == 0 {
		return Axes
	}
	across := geom.Vec3{}
	for _, p := range points {
		d := p.Sub(a)
		if d = d.Sub(u.Mul(d.Dot(u))); d.Len() > across.Len() {
			across = d
		}
	}
	v := across.Norm()
	if across.Len() < 1e-9*far(a).Sub(a).Len() || v.Len() == 0 {
		v = u.Cross(Axes[smallest(u)]).Norm()
	}
	return Frame{u, v, u.Cross(v)}
}

func smallest(v geom.Vec3) int {
	k := 0
	for i := range v {
		if math.Abs(v[i]) < math.Abs(v[k]) {
			k = i
		}
	}
	return k
}

// Ball is a ball that holds all points and is at most a hundredth larger than
// the smallest (Badoiu and Clarkson, Smaller Core-Sets for Balls, 2003: move
// towards the furthest point by 1/(i+1) of the way).
func Ball(points []geom.Vec3) (centre geom.Vec3, radius float64) {
	if len(points) == 0 {
		return centre, 0
	}
	corners := points
	if h, ok := Of(points, 0); ok {
		corners = h.Corners
	}
	b := geom.EmptyBox()
	for _, p := range corners {
		b.Add(p)
	}
	centre = b.Centre()
	for i := range 10_000 {
		far := corners[0]
		for _, p := range corners {
			if p.Sub(centre).Len() > far.Sub(centre).Len() {
				far = p
			}
		}
		centre = centre.Add(far.Sub(centre).Mul(1 / float64(i+2)))
		if len(corners)*i > 2_000_000 {
			break
		}
	}
	for _, p := range points {
		radius = math.Max(radius, p.Sub(centre).Len())
	}
	return centre, radius
}

// Capsule is a capsule along a direction of the frame that holds all points:
// its middle, its radius, and the distance between the centres of its ends.
func (f *Frame) Capsule(points []geom.Vec3, along int) (centre geom.Vec3, radius, height float64) {
	mid, _ := f.Box(points)
	m := f.into(mid)
	u, v := (along+1)%3, (along+2)%3
	local := make([]geom.Vec3, len(points))
	for i, p := range points {
		local[i] = f.into(p).Sub(m)
		radius = math.Max(radius, math.Hypot(local[i][u], local[i][v]))
	}
	lo, hi := math.Inf(1), math.Inf(-1)
	for _, p := range local {
		// A point off the axis may stand out past an end's centre by the round's height there.
		round := math.Sqrt(math.Max(0, radius*radius-p[u]*p[u]-p[v]*p[v]))
		lo, hi = math.Min(lo, p[along]+round), math.Max(hi, p[along]-round)
	}
	if hi < lo { // as short as a ball
		lo = (lo + hi) / 2
		hi = lo
	}
	m[along] += (lo + hi) / 2
	return f.out(m), radius, hi - lo
}

// Convex takes a body of triangles apart into at most most convex ones that
// together lie closer to it than one hull would. It cuts, again and again, the
// piece whose halves save most, in the middle of its longest side. Each piece
// is the points that hull it.
func Convex(triangles [][3]geom.Vec3, most int) []Hull {
	var pieces []*convexPiece
	if p := newPiece(triangles); p != nil {
		pieces = append(pieces, p)
	}
	for len(pieces) > 0 && len(pieces) < most {
		best := -1
		for i, p := range pieces {
			if p.saves() > 0 && (best < 0 || p.saves() > pieces[best].saves()) {
				best = i
			}
		}
		if best < 0 {
			break
		}
		a, b := pieces[best].low, pieces[best].high
		pieces = append(slices.Delete(pieces, best, best+1), a, b)
	}
	var out []Hull
	for _, p := range pieces {
		out = append(out, p.hull)
	}
	return out
}

type convexPiece struct {
	tri       [][3]geom.Vec3
	hull      Hull
	volume    float64
	low, high *convexPiece
	cut       bool
}

func newPiece(tri [][3]geom.Vec3) *convexPiece {
	var points []geom.Vec3
	for _, t := range tri {
		points = append(points, t[:]...)
	}
	h, ok := Of(points, 0)
	if !ok {
		return nil
	}
	return &convexPiece{tri: tri, hull: h, volume: h.Volume()}
}

// worthwhile is the share of a piece's volume that a cut has to save.
const worthwhile = 0.02

// saves is by how much the hulls of both halves are smaller than the whole's.
func (p *convexPiece) saves() float64 {
	if !p.cut {
		p.cut = true
		f := Axes
		mid, size := f.Box(p.hull.Corners)
		k := 0
		for i := range size {
			if size[i] > size[k] {
				k = i
			}
		}
		p.low, p.high = newPiece(clipped(p.tri, k, mid[k], 1)), newPiece(clipped(p.tri, k, mid[k], -1))
	}
	if p.low == nil || p.high == nil {
		return 0
	}
	if s := p.volume - p.low.volume - p.high.volume; s > worthwhile*p.volume {
		return s
	}
	return 0
}

// clipped is the part of triangles with sign*x[k] <= sign*at.
func clipped(tri [][3]geom.Vec3, k int, at, sign float64) (out [][3]geom.Vec3) {
	for _, t := range tri {
		var poly []geom.Vec3
		for i := range t {
			a, b := t[i], t[(i+1)%3]
			da, db := sign*(a[k]-at), sign*(b[k]-at)
			if da <= 0 {
				poly = append(poly, a)
			}
			if da < 0 && db > 0 || da > 0 && db < 0 {
				poly = append(poly, a.Add(b.Sub(a).Mul(da/(da-db))))
			}
		}
		for i := 1; i+1 < len(poly); i++ {
			out = append(out, [3]geom.Vec3{poly[0], poly[i], poly[i+1]})
		}
	}
	return out
}
