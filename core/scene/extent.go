package scene

import (
	"math"

	"excavate/core/geom"
	"excavate/core/parallel"
)

// Bounds is the box of all meshes in world space at rest, in the scene's own
// axes and unit. Empty if there is no vertex.
func (s *Scene) Bounds() geom.Box {
	box := geom.EmptyBox()
	s.shown(func(m *geom.Mat4, p *Part) { box = union(box, boxOf(m, p.Positions)) })
	return box
}

// extent is Bounds, and the area of all surfaces.
func (s *Scene) extent() (box geom.Box, area float64) {
	box = geom.EmptyBox()
	s.shown(func(m *geom.Mat4, p *Part) {
		box = union(box, boxOf(m, p.Positions))
		area += areaOf(m, p)
	})
	return box, area
}

// NodeBounds is Bounds of what one node shows.
func (s *Scene) NodeBounds(node int, world []geom.Mat4) geom.Box {
	box := geom.EmptyBox()
	s.shownBy(node, world, func(m *geom.Mat4, p *Part) { box = union(box, boxOf(m, p.Positions)) })
	return box
}

// shown calls f with every part that a node shows and with the map from its
// positions to the world.
func (s *Scene) shown(f func(m *geom.Mat4, p *Part)) {
	world := s.World()
	for i := range s.Nodes {
		s.shownBy(i, world, f)
	}
}

// shownBy is shown for one node. Nothing is copied, unless a skin deforms it.
func (s *Scene) shownBy(node int, world []geom.Mat4, f func(m *geom.Mat4, p *Part)) {
	if s.Nodes[node].Mesh < 0 {
		return
	}
	parts := s.Meshes[s.Nodes[node].Mesh].Parts
	for j := range parts {
		p := &parts[j]
		if s.Nodes[node].Skin < 0 || p.Influences == 0 || len(p.Joints) == 0 {
			f(&world[node], p)
			continue
		}
		posed := Part{
			Triangles:  p.Triangles,
			Positions:  p.Positions,
			Influences: p.Influences,
			Joints:     p.Joints,
			Weights:    p.Weights,
		}
		posed.Positions, _ = s.Posed(node, &posed, world)
		f(&geom.Identity, &posed)
	}
}

// Runs shorter than these are not worth a second core.
const (
	leastVertices  = 1 << 16
	leastTriangles = 1 << 15
)

// boxOf is the box of positions under m, in the precision of stored positions.
func boxOf(m *geom.Mat4, positions []float32) geom.Box {
	box := geom.EmptyBox()
	still := *m == geom.Identity
	for _, b := range parallel.Gather(len(positions)/3, leastVertices, func(from, to int) geom.Box {
		if still {
			return bareBox(positions[3*from : 3*to])
		}
		box := geom.EmptyBox()
		for v := 3 * from; v < 3*to; v += 3 {
			box.Add(m.Point(geom.Vec3{float64(positions[v]), float64(positions[v+1]), float64(positions[v+2])}))
		}
		for k := range 3 {
			box.Min[k], box.Max[k] = float64(float32(box.Min[k])), float64(float32(box.Max[k]))
		}
		return box
	}) {
		box = union(box, b)
	}
	return box
}

// bareBox is the box of positions as they are. The comparisons are those that
// compile to one instruction; a number that is none never is the less.
func bareBox(positions []float32) geom.Box {
	inf := float32(math.Inf(1))
	x0, y0, z0, x1, y1, z1 := inf, inf, inf, -inf, -inf, -inf
	for v := 0; v+2 < len(positions); v += 3 {
		p := positions[v : v+3 : v+3]
		x0, y0, z0 = less(p[0], x0), less(p[1], y0), less(p[2], z0)
		x1, y1, z1 = more(p[0], x1), more(p[1], y1), more(p[2], z1)
	}
	return geom.Box{
		Min: geom.Vec3{float64(x0), float64(y0), float64(z0)},
		Max: geom.Vec3{float64(x1), float64(y1), float64(z1)},
	}
}

func less(a, than float32) float32 {
	if a < than {
		return a
	}
	return than
}

func more(a, than float32) float32 {
	if a > than {
		return a
	}
	return than
}

func union(a, b geom.Box) geom.Box {
	for k := range 3 {
		a.Min[k], a.Max[k] = math.Min(a.Min[k], b.Min[k]), math.Max(a.Max[k], b.Max[k])
	}
	return a
}

// areaOf is the area of a part's triangles under m. The cross product of two
// edges is turned by the matrix of cofactors, which is that of m where m only
// turns and is its square where m only scales, so that no position is mapped.
func areaOf(m *geom.Mat4, p *Part) (area float64) {
	c := cofactors(m)
	scale, similar := similarity(m)
	for _, a := range parallel.Gather(len(p.Triangles)/3, leastTriangles, func(from, to int) (sum float64) {
		for t := 3 * from; t < 3*to; t += 3 {
			a, b, d := 3*int(p.Triangles[t]), 3*int(p.Triangles[t+1]), 3*int(p.Triangles[t+2])
			pa, pb, pd := p.Positions[a:a+3:a+3], p.Positions[b:b+3:b+3], p.Positions[d:d+3:d+3]
			ux, uy, uz := float64(pb[0])-float64(pa[0]), float64(pb[1])-float64(pa[1]), float64(pb[2])-float64(pa[2])
			vx, vy, vz := float64(pd[0])-float64(pa[0]), float64(pd[1])-float64(pa[1]), float64(pd[2])-float64(pa[2])
			x, y, z := uy*vz-uz*vy, uz*vx-ux*vz, ux*vy-uy*vx
			if !similar {
				x, y, z = c[0]*x+c[3]*y+c[6]*z, c[1]*x+c[4]*y+c[7]*z, c[2]*x+c[5]*y+c[8]*z
			}
			sum += math.Sqrt(x*x + y*y + z*z)
		}
		return sum
	}) {
		area += a
	}
	if similar {
		area *= scale * scale
	}
	return area / 2
}

// similarity tells whether m turns, mirrors, moves and scales evenly, and by
// what factor.
func similarity(m *geom.Mat4) (factor float64, ok bool) {
	x, y, z := geom.Vec3{m[0], m[1], m[2]}, geom.Vec3{m[4], m[5], m[6]}, geom.Vec3{m[8], m[9], m[10]}
	s := x.Dot(x)
	eps := 1e-12 * s
	ok = math.Abs(y.Dot(y)-s) <= eps && math.Abs(z.Dot(z)-s) <= eps &&
		math.Abs(x.Dot(y)) <= eps && math.Abs(y.Dot(z)) <= eps && math.Abs(x.Dot(z)) <= eps
	return math.Sqrt(s), ok
}

// cofactors is the matrix by which cross products of what m maps are mapped:
// (m a) x (m b) = cofactors(m) (a x b). It is column-major, 3 x 3.
func cofactors(m *geom.Mat4) [9]float64 {
	x, y, z := geom.Vec3{m[0], m[1], m[2]}, geom.Vec3{m[4], m[5], m[6]}, geom.Vec3{m[8], m[9], m[10]}
	a, b, c := y.Cross(z), z.Cross(x), x.Cross(y)
	return [9]float64{a[0], a[1], a[2], b[0], b[1], b[2], c[0], c[1], c[2]}
}
