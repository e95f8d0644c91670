package hull

import (
	"math"
	"math/rand"
	"testing"

	"excavate/core/geom"
)

func cube() (p []geom.Vec3) {
	for i := range 8 {
		p = append(p, geom.Vec3{float64(i & 1), float64(i >> 1 & 1), float64(i >> 2)})
	}
	return p
}

// sound holds a hull to what makes it one: every edge between two faces, no
// point outside, and Euler's formula.
func sound(t *testing.T, h Hull, points []geom.Vec3, within float64) {
	t.Helper()
	edges := map[[2]int]int{}
	for _, f := range h.Faces {
		n := h.Corners[f[1]].Sub(h.Corners[f[0]]).Cross(h.Corners[f[2]].Sub(h.Corners[f[0]])).Norm()
		for _, p := range points {
			if d := p.Sub(h.Corners[f[0]]).Dot(n); d > within {
				t.Fatalf("%v lies %g outside", p, d)
			}
		}
		for k := range 3 {
			edges[[2]int{f[k], f[(k+1)%3]}]++
		}
	}
	for e, n := range edges {
		if n != 1 || edges[[2]int{e[1], e[0]}] != 1 {
			t.Fatalf("the edge %v is there %d times, turned round %d times", e, n, edges[[2]int{e[1], e[0]}])
		}
	}
	if v, e, f := len(h.Corners), len(edges)/2, len(h.Faces); v-e+f != 2 {
		t.Errorf("%d corners, %d edges, %d faces", v, e, f)
	}
}

func TestCube(t *testing.T) {
	p := append(cube(), geom.Vec3{0.5, 0.5, 0.5}, geom.Vec3{0.5, 0.5, 1}, geom.Vec3{0, 0.25, 0.5})
	h, ok := Of(p, 0)
	if !ok {
		t.Fatal("a cube has a hull")
	}
	sound(t, h, p, 1e-9)
	if len(h.Corners) != 8 || len(h.Faces) != 12 || math.Abs(h.Volume()-1) > 1e-12 {
		t.Errorf("%d corners, %d faces, volume %g", len(h.Corners), len(h.Faces), h.Volume())
	}
}

func TestNoBody(t *testing.T) {
	flat := []geom.Vec3{{0, 0, 0}, {1, 0, 0}, {1, 1, 0}, {0, 1, 0}, {0.5, 0.5, 1e-9}}
	for _, p := range [][]geom.Vec3{nil, flat, {{1, 2, 3}, {1, 2, 3}, {1, 2, 3}, {1, 2, 3}}, {{0, 0, 0}, {1, 1, 1}, {2, 2, 2}, {3, 3, 3}},
		{{math.NaN(), 0, 0}, {1, 0, 0}, {0, math.NaN(), 1}, {0, 0, 1}}} {
		if _, ok := Of(p, 0); ok {
			t.Errorf("%v has no hull", p)
		}
	}
}

func TestRandomPoints(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	for n := range 300 {
		var p []geom.Vec3
		for range 4 + r.Intn(200) {
			x := geom.Vec3{r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}
			switch n % 4 {
			case 1:
				x = x.Norm() // all on a ball
			case 2:
				for k := range x { // many in one plane, many the same
					x[k] = math.Round(x[k])
				}
			case 3:
				x = x.Mul(1e-3).Add(geom.Vec3{1e6, -1e6, 1e6})
			}
			p = append(p, x)
		}
		h, ok := Of(p, 0)
		if !ok {
			continue
		}
		size := 0.0
		for _, x := range p {
			size = max(size, x.Sub(p[0]).Len())
		}
		sound(t, h, p, 1e-6*size)
	}
}

// With few corners what is left out is said.
func TestFewCorners(t *testing.T) {
	r := rand.New(rand.NewSource(2))
	var p []geom.Vec3
	for range 2000 {
		p = append(p, geom.Vec3{r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}.Norm())
	}
	last := 1.0
	for _, most := range []int{4, 16, 64, 256} {
		h, _ := Of(p, most)
		if len(h.Corners) > most {
			t.Errorf("%d corners, at most %d were wanted", len(h.Corners), most)
		}
		sound(t, h, p, h.Out+1e-9)
		if h.Out <= 0 || h.Out >= last {
			t.Errorf("with %d corners points lie %g outside, with fewer %g", most, h.Out, last)
		}
		last = h.Out
	}
}

func BenchmarkHundredThousandPoints(b *testing.B) {
	r := rand.New(rand.NewSource(3))
	p := make([]geom.Vec3, 100_000)
	for i := range p {
		p[i] = geom.Vec3{r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}
	}
	for b.Loop() {
		Of(p, 0)
	}
}

func TestBestBox(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	for range 20 {
		q := geom.Quat{r.NormFloat64(), r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}.Norm()
		var p []geom.Vec3
		for _, x := range cube() {
			p = append(p, q.Rotate(geom.Vec3{x[0] * 3, x[1] * 2, x[2]}).Add(geom.Vec3{10, 20, 30}))
		}
		f := Best(p)
		c, s := f.Box(p)
		if v := s[0] * s[1] * s[2]; math.Abs(v-6) > 1e-6 {
			t.Errorf("a turned box of 3 x 2 x 1 lies in one of %v", s)
		}
		if want := q.Rotate(geom.Vec3{1.5, 1, 0.5}).Add(geom.Vec3{10, 20, 30}); c.Sub(want).Len() > 1e-6 {
			t.Errorf("its middle is %v, should be %v", c, want)
		}
		if x := f.Quat().Rotate(geom.Vec3{1, 0, 0}); x.Sub(f[0]).Len() > 1e-9 {
			t.Errorf("the frame's turn takes x to %v, not to %v", x, f[0])
		}
	}
	if f := Best(cube()); f != Axes {
		t.Errorf("a cube along the axes has the frame %v", f)
	}
	flat := []geom.Vec3{{0, 0, 0}, {4, 0, 3}, {4, 1, 3}, {0, 1, 0}}
	fl := Best(flat)
	if _, s := fl.Box(flat); min(s[0], s[1], s[2]) > 1e-9 {
		t.Errorf("a flat thing lies in a box of %v", s)
	}
}

func TestBallAndCapsule(t *testing.T) {
	c, r := Ball(cube())
	if want := math.Sqrt(3) / 2; r < want-1e-9 || r > 1.01*want || c.Sub(geom.Vec3{0.5, 0.5, 0.5}).Len() > 0.02 {
		t.Errorf("the ball round a cube: %v, %g", c, r)
	}
	// By hand: a rod of 4 along x, two across: its corners lie on rounds of radius
	// sqrt 2 about the axis, so that the ends' centres are its own ends.
	var rod []geom.Vec3
	for _, x := range cube() {
		rod = append(rod, geom.Vec3{4 * x[0], 2 * x[1], 2 * x[2]})
	}
	f := Axes
	c, r, h := f.Capsule(rod, 0)
	if c.Sub(geom.Vec3{2, 1, 1}).Len() > 1e-9 || math.Abs(r-math.Sqrt2) > 1e-6 || math.Abs(h-4) > 1e-6 {
		t.Errorf("the capsule round a rod: %v, %g, %g", c, r, h)
	}
	if _, r, h := f.Capsule([]geom.Vec3{{-1, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, -1, 0}}, 0); math.Abs(r-1) > 1e-9 || h > 1e-9 {
		t.Errorf("a round thing's capsule: %g, %g", r, h)
	}
}

// An L is two boxes.
func TestConvex(t *testing.T) {
	box := func(x, y, z, w, h, d float64) (out [][3]geom.Vec3) {
		var p []geom.Vec3
		for _, c := range cube() {
			p = append(p, geom.Vec3{x + w*c[0], y + h*c[1], z + d*c[2]})
		}
		hl, _ := Of(p, 0)
		for _, f := range hl.Faces {
			out = append(out, [3]geom.Vec3{hl.Corners[f[0]], hl.Corners[f[1]], hl.Corners[f[2]]})
		}
		return out
	}
	l := append(box(0, 0, 0, 4, 1, 1), box(0, 0, 0, 1, 4, 1)...)
	volume := func(list []Hull) (v float64) {
		for i := range list {
			v += list[i].Volume()
		}
		return v
	}
	one, many := Convex(l, 1), Convex(l, 16)
	if len(one) != 1 || math.Abs(volume(one)-11.5) > 1e-9 {
		t.Errorf("one hull of an L: %g", volume(one))
	}
	// By hand: 7 of the 4 x 4 square of side 1.
	if len(many) < 2 || volume(many) > 7.6 || volume(many) < 7-1e-9 {
		t.Errorf("%d hulls of volume %g, the L has 7", len(many), volume(many))
	}
	if got := Convex(box(0, 0, 0, 1, 2, 3), 16); len(got) != 1 {
		t.Errorf("a box is taken apart into %d", len(got))
	}
}
