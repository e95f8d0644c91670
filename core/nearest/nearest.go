// Package nearest finds the triangle of a surface that a point is nearest to.
package nearest

import (
	"math"
	"runtime"
	"slices"

	"excavate/core/geom"
	"excavate/core/parallel"
)

// Surface is triangles in a grid of cells.
type Surface struct {
	tri    []geom.Vec3 // three each
	min    geom.Vec3
	cell   float64
	n      [3]int
	starts []int32 // of each cell in items
	items  []int32 // triangles
}

// New makes ready triangles, three corners each. There is at least one.
func New(tri []geom.Vec3) *Surface {
	s := &Surface{tri: tri}
	box := geom.EmptyBox()
	for _, v := range tri {
		box.Add(v)
	}
	s.min = box.Min
	size := box.Size()
	// About one triangle a cell over the surface.
	n := math.Max(math.Min(math.Sqrt(float64(len(tri)/3)), 128), 1)
	s.cell = math.Max(math.Max(size[0], math.Max(size[1], size[2]))/n, 1e-12)
	for k := range 3 {
		s.n[k] = int(size[k]/s.cell) + 1
	}
	cells := s.n[0] * s.n[1] * s.n[2]
	counts := make([]int32, cells+1)
	each := func(f func(cell, t int)) {
		for t := 0; t*3 < len(tri); t++ {
			lo, hi := s.at(tri[3*t]), s.at(tri[3*t])
			for k := 1; k < 3; k++ {
				c := s.at(tri[3*t+k])
				for i := range 3 {
					lo[i], hi[i] = min(lo[i], c[i]), max(hi[i], c[i])
				}
			}
			for z := lo[2]; z <= hi[2]; z++ {
				for y := lo[1]; y <= hi[1]; y++ {
					for x := lo[0]; x <= hi[0]; x++ {
						f((z*s.n[1]+y)*s.n[0]+x, t)
					}
				}
			}
		}
	}
	each(func(cell, _ int) { counts[cell+1]++ })
	for i := 1; i < len(counts); i++ {
		counts[i] += counts[i-1]
	}
	s.starts = slices.Clone(counts)
	s.items = make([]int32, counts[cells])
	each(func(cell, t int) { s.items[counts[cell]] = int32(t); counts[cell]++ })
	return s
}

func (s *Surface) at(v geom.Vec3) (c [3]int) {
	for k := range 3 {
		c[k] = min(max(int((v[k]-s.min[k])/s.cell), 0), s.n[k]-1)
	}
	return c
}

// To is the triangle nearest to a point, and how far away it is. Shells of cells
// are searched outwards until no nearer triangle can come.
func (s *Surface) To(p geom.Vec3) (triangle int, distance float64) {
	return s.search(p, geom.Vec3{}, 0)
}

// Facing is To, but of triangles that are as near within a tolerance one that
// faces as asked is taken before others: where two things touch, the side of
// each lies on that of the other.
func (s *Surface) Facing(p, normal geom.Vec3, tolerance float64) (triangle int, distance float64) {
	return s.search(p, normal, tolerance)
}

func (s *Surface) search(p, normal geom.Vec3, tolerance float64) (triangle int, distance float64) {
	c := s.at(p)
	best, facing := math.Inf(1), math.Inf(1)
	of, facingOf := -1, -1
	for r := 0; r <= max(s.n[0], s.n[1], s.n[2]); r++ {
		// Nothing in this shell is nearer than its inner side, measured from where
		// the point is, within the grid or not.
		if r > 1 {
			if near := float64(r-1) * s.cell; near > best+tolerance {
				break
			}
		}
		for z := max(c[2]-r, 0); z <= min(c[2]+r, s.n[2]-1); z++ {
			for y := max(c[1]-r, 0); y <= min(c[1]+r, s.n[1]-1); y++ {
				edge := z == c[2]-r || z == c[2]+r || y == c[1]-r || y == c[1]+r
				step := max(2*r, 1)
				if edge {
					step = 1
				}
				for x := c[0] - r; x <= c[0]+r; x += step {
					if x < 0 || x >= s.n[0] {
						continue
					}
					i := (z*s.n[1]+y)*s.n[0] + x
					for _, t := range s.items[s.starts[i]:s.starts[i+1]] {
						// Of those as near the first: where two meet either would do.
						d := toTriangle(p, s.tri[3*t], s.tri[3*t+1], s.tri[3*t+2])
						if d < best || d == best && int(t) < of {
							best, of = d, int(t)
						}
						nearer := d < facing || d == facing && int(t) < facingOf
						if tolerance > 0 && d <= best+tolerance && nearer && s.normal(t).Dot(normal) > 0 {
							facing, facingOf = d, int(t)
						}
					}
				}
			}
		}
	}
	if facing <= best+tolerance {
		return facingOf, facing
	}
	return of, best
}

// normal of a triangle, of any length.
func (s *Surface) normal(t int32) geom.Vec3 {
	a := s.tri[3*t]
	return s.tri[3*t+1].Sub(a).Cross(s.tri[3*t+2].Sub(a))
}

// toTriangle is the distance of a point from a triangle (Ericson, "Real-Time
// Collision Detection", 2005, section 5.1.5).
func toTriangle(p, a, b, c geom.Vec3) float64 {
	ab, ac, ap := b.Sub(a), c.Sub(a), p.Sub(a)
	d1, d2 := ab.Dot(ap), ac.Dot(ap)
	if d1 <= 0 && d2 <= 0 {
		return ap.Len()
	}
	bp := p.Sub(b)
	d3, d4 := ab.Dot(bp), ac.Dot(bp)
	if d3 >= 0 && d4 <= d3 {
		return bp.Len()
	}
	vc := d1*d4 - d3*d2
	if vc <= 0 && d1 >= 0 && d3 <= 0 && d1 != d3 {
		return p.Sub(a.Add(ab.Mul(d1 / (d1 - d3)))).Len()
	}
	cp := p.Sub(c)
	d5, d6 := ab.Dot(cp), ac.Dot(cp)
	if d6 >= 0 && d5 <= d6 {
		return cp.Len()
	}
	vb := d5*d2 - d1*d6
	if vb <= 0 && d2 >= 0 && d6 <= 0 && d2 != d6 {
		return p.Sub(a.Add(ac.Mul(d2 / (d2 - d6)))).Len()
	}
	va := d3*d6 - d5*d4
	if va <= 0 && d4-d3 >= 0 && d5-d6 >= 0 && (d4-d3)+(d5-d6) != 0 {
		w := (d4 - d3) / ((d4 - d3) + (d5 - d6))
		return p.Sub(b.Add(c.Sub(b).Mul(w))).Len()
	}
	if va+vb+vc == 0 {
		return math.Min(ap.Len(), math.Min(bp.Len(), cp.Len()))
	}
	v, w := vb/(va+vb+vc), vc/(va+vb+vc)
	return p.Sub(a.Add(ab.Mul(v)).Add(ac.Mul(w))).Len()
}

// Distances measures points against the surface, on all processors.
func (s *Surface) Distances(points []geom.Vec3) []float64 {
	out := make([]float64, len(points))
	const chunk = 512
	next := make(chan int, len(points)/chunk+1)
	for i := 0; i < len(points); i += chunk {
		next <- i
	}
	close(next)
	var wg parallel.Group
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := range next {
				for k := i; k < min(i+chunk, len(points)); k++ {
					_, out[k] = s.To(points[k])
				}
			}
		})
	}
	wg.Wait()
	return out
}
