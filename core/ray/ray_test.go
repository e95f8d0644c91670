package ray

import (
	"math"
	"math/rand"
	"testing"

	"excavate/core/geom"
)

func random(r *rand.Rand, n int, size float64) (tri []geom.Vec3) {
	at := func(scale float64) geom.Vec3 {
		return geom.Vec3{scale * (2*r.Float64() - 1), scale * (2*r.Float64() - 1), scale * (2*r.Float64() - 1)}
	}
	for range n {
		p := at(1)
		tri = append(tri, p.Add(at(size)), p.Add(at(size)), p.Add(at(size)))
	}
	return tri
}

// meet is where a line meets a triangle, by its plane and the signs of three
// volumes: another way than the tree's.
func meet(from, along, a, b, c geom.Vec3) (float64, bool) {
	n := b.Sub(a).Cross(c.Sub(a))
	if d := n.Dot(along); d != 0 {
		t := n.Dot(a.Sub(from)) / d
		p := from.Add(along.Mul(t))
		inside := true
		for _, e := range [3][2]geom.Vec3{{a, b}, {b, c}, {c, a}} {
			inside = inside && e[1].Sub(e[0]).Cross(p.Sub(e[0])).Dot(n) >= 0
		}
		return t, inside && t > 1e-9
	}
	return 0, false
}

func TestAgainstEveryTriangle(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	for _, n := range []int{1, 3, 40, 700} {
		tri := random(r, n, 0.3)
		tree := New(tri)
		hits := 0
		for range 800 {
			from, along := random(r, 1, 2)[0], random(r, 1, 1)[0]
			before := 0.2 + 3*r.Float64()
			if r.Intn(8) == 0 {
				along[r.Intn(3)] = 0 // along a face of the boxes
			}
			best, at, all := -1, before, 0
			for k := range n {
				if d, ok := meet(from, along, tri[3*k], tri[3*k+1], tri[3*k+2]); ok && d < before {
					all++
					if d < at {
						best, at = k, d
					}
				}
			}
			got, where := tree.First(from, along, before)
			if got != best || math.Abs(where-at) > 1e-9 {
				t.Fatalf("%d triangles: met %d at %g, want %d at %g", n, got, where, best, at)
			}
			if tree.Meets(from, along, before) != (best >= 0) {
				t.Fatalf("meets: %v", best < 0)
			}
			tree.All(from, along, before, func(k int, d float64) {
				all--
				if x, ok := meet(from, along, tri[3*k], tri[3*k+1], tri[3*k+2]); !ok || math.Abs(x-d) > 1e-9 {
					t.Fatalf("triangle %d at %g, want %g", k, d, x)
				}
			})
			if all != 0 {
				t.Fatalf("%d too few", all)
			}
			if best >= 0 {
				hits++
			}
		}
		if hits == 0 && n > 3 {
			t.Errorf("%d triangles: nothing was met", n)
		}
	}
	if k, at := New(nil).First(geom.Vec3{}, geom.Vec3{1, 0, 0}, 5); k != -1 || at != 5 {
		t.Errorf("nothing is met as %d at %g", k, at)
	}
}

// Many triangles in one place make no deep tree.
func TestAllInOnePlace(t *testing.T) {
	var tri []geom.Vec3
	for range 5000 {
		tri = append(tri, geom.Vec3{0, 0, 0}, geom.Vec3{1, 0, 0}, geom.Vec3{0, 1, 0})
	}
	n := 0
	New(tri).All(geom.Vec3{0.2, 0.2, -1}, geom.Vec3{0, 0, 1}, 2, func(int, float64) { n++ })
	if n != 5000 {
		t.Errorf("%d met", n)
	}
}

// Directions over a sphere have no middle, and none lies far from all others.
func TestSphere(t *testing.T) {
	list := Sphere(200)
	var sum geom.Vec3
	for i, d := range list {
		sum = sum.Add(d)
		nearest := -1.0
		for j, e := range list {
			if i != j {
				nearest = math.Max(nearest, d.Dot(e))
			}
		}
		if math.Abs(d.Len()-1) > 1e-12 || nearest < math.Cos(0.3) || nearest > math.Cos(0.1) {
			t.Errorf("direction %d: length %g, the next at %.2f rad", i, d.Len(), math.Acos(nearest))
		}
	}
	if sum.Len() > 0.5 {
		t.Errorf("the sum is %v", sum)
	}
}

func BenchmarkFirst(b *testing.B) {
	r := rand.New(rand.NewSource(1))
	tree := New(random(r, 100_000, 0.02))
	from := random(r, 512, 1)
	for i := 0; b.Loop(); i++ {
		p := from[i%len(from)]
		tree.First(p, from[(7*i+1)%len(from)].Sub(p).Norm(), 10)
	}
}

// Within a triangle is not at its side.
func TestThrough(t *testing.T) {
	tree := New([]geom.Vec3{{0, 0, 0}, {1, 0, 0}, {0, 1, 0}})
	for _, c := range []struct {
		x, y   float64
		within bool
	}{{0.3, 0.3, true}, {0.005, 0.3, false}, {0.3, 0.005, false}, {0.4975, 0.4975, false}, {0.011, 0.011,
		true}, {0.98, 0.0099, false}} {
		n, all := 0, 0
		tree.Through(geom.Vec3{c.x, c.y, -1}, geom.Vec3{0, 0, 1}, 2, 0.01, func(int, float64) { n++ })
		tree.All(geom.Vec3{c.x, c.y, -1}, geom.Vec3{0, 0, 1}, 2, func(int, float64) { all++ })
		if (n == 1) != c.within || all != 1 {
			t.Errorf("at %g, %g: %d within, %d in all", c.x, c.y, n, all)
		}
	}
}
