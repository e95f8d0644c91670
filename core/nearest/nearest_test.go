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
