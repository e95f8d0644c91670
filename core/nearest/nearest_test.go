package nearest

import (
	"math"
	"math/rand"
	"testing"

	"excavate/core/geom"
)

// The grid finds what looking at every triangle finds.
func TestDistances(t *testing.T) {
	r := rand.New(rand.NewSource(8))
	v := func(k float64) geom.Vec3 {
		return geom.Vec3{k * r.NormFloat64(), k * r.NormFloat64(), k * r.NormFloat64()}
	}
	for _, n := range []int{1, 2, 40, 700} {
		var tri []geom.Vec3
		for range n {
			at := v(1)
			tri = append(tri, at, at.Add(v(0.2)), at.Add(v(0.2)))
		}
		tri = append(tri, tri[0], tri[0], tri[0]) // one without area
		s := New(tri)
		for range 200 {
			p := v(3)
			want := math.Inf(1)
			for i := 0; i < len(tri); i += 3 {
				want = math.Min(want, toTriangle(p, tri[i], tri[i+1], tri[i+2]))
			}
			if k, got := s.To(p); math.Abs(got-want) > 1e-9 || toTriangle(p, tri[3*k], tri[3*k+1], tri[3*k+2]) != got {
				t.Fatalf("%d triangles, %v: %g, want %g", n, p, got, want)
			}
		}
	}
	// Against points tried all over a triangle.
	a, b, c := v(1), v(1), v(1)
	for range 50 {
		p := v(2)
		want := math.Inf(1)
		for i := range 201 {
			for k := range 201 - i {
				q := a.Add(b.Sub(a).Mul(float64(i) / 200)).Add(c.Sub(a).Mul(float64(k) / 200))
				want = math.Min(want, p.Sub(q).Len())
			}
		}
		if got := toTriangle(p, a, b, c); got > want+1e-9 || got < want-0.05 {
			t.Errorf("%g, tried %g", got, want)
		}
	}
}

// Two bricks touch: of the two sides in one plane that which faces as asked is
// taken, but not one that is farther away.
func TestFacing(t *testing.T) {
	at := func(z float64, turned bool) []geom.Vec3 {
		a, b, c := geom.Vec3{0, 0, z}, geom.Vec3{1, 0, z}, geom.Vec3{0, 1, z}
		if turned {
			b, c = c, b
		}
		return []geom.Vec3{a, b, c}
	}
	up, down := geom.Vec3{0, 0, 1}, geom.Vec3{0, 0, -1}
	var tri []geom.Vec3
	for _, x := range [][]geom.Vec3{at(0, true), at(1e-7, false), at(0.5, true), at(0.5+1e-3, false)} {
		tri = append(tri, x...)
	}
	s := New(tri)
	for _, c := range []struct {
		z    float64
		n    geom.Vec3
		want int
	}{{0, up, 1}, {0, down, 0}, {1e-7, down, 0}, {0.5, up, 2}, {0.5, down, 2}, {0.502, up, 3}, {0.502, down, 3}} {
		if k, d := s.Facing(geom.Vec3{0.2, 0.2, c.z}, c.n, 1e-5); k != c.want || d > 2e-3 {
			t.Errorf("from %g towards %v: triangle %d at %g, want %d", c.z, c.n, k, d, c.want)
		}
	}
}
