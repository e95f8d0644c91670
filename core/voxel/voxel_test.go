package voxel

import (
	"context"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"excavate/core/geom"
	near "excavate/core/nearest"
	"excavate/core/scene"
)

// box is the surface of a box, fronts outwards.
func box(x0, y0, z0, x1, y1, z1 float32) []float32 {
	c := [8][3]float32{
		{x0, y0, z0},
		{x1, y0, z0},
		{x1, y1, z0},
		{x0, y1, z0},
		{x0, y0, z1},
		{x1, y0, z1},
		{x1, y1, z1},
		{x0, y1, z1},
	}
	var out []float32
	for _, q := range [6][4]int{{0, 3, 2, 1}, {4, 5, 6, 7}, {0, 1, 5, 4}, {2, 3, 7, 6}, {1, 2, 6, 5}, {3, 0, 4, 7}} {
		for _, k := range []int{0, 1, 2, 0, 2, 3} {
			out = append(out, c[q[k]][:]...)
		}
	}
	return out
}

// ball is a sphere of rings x 2 rings quads.
func ball(cx, cy, cz, r float64, rings int) []float32 {
	at := func(i, j int) [3]float32 {
		t, p := math.Pi*float64(i)/float64(rings), math.Pi*float64(j%(2*rings))/float64(rings)
		return [3]float32{
			float32(cx + r*math.Sin(t)*math.Cos(p)),
			float32(cy + r*math.Sin(t)*math.Sin(p)),
			float32(cz + r*math.Cos(t)),
		}
	}
	var out []float32
	for i := range rings {
		for j := range 2 * rings {
			a, b, c, d := at(i, j), at(i+1, j), at(i+1, j+1), at(i, j+1)
			for _, q := range [][3]float32{a, b, c, a, c, d} {
				out = append(out, q[:]...)
			}
		}
	}
	return out
}

// must is a value, if there is no error.
func must[T any](v T, err error) func(t testing.TB) T {
	return func(t testing.TB) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// each calls f with every voxel that is filled.
func (g *grid) each(f func(x, y, z int, c uint16)) {
	for b, c := range g.blocks {
		if c == nil {
			continue
		}
		x0, y0, z0 := g.corner(b)
		for k, v := range &c.v {
			if v != 0 {
				f(x0+k%Side, y0+k/Side%Side, z0+k/(Side*Side), v)
			}
		}
	}
}

func volume(t testing.TB, in *Input, dims [3]int) (*scene.Volume, *Told) {
	t.Helper()
	v, told, err := Make(context.Background(), in, dims)
	if err != nil {
		t.Fatal(err)
	}
	if err := v.Validate(); err != nil {
		t.Fatal(err)
	}
	return v, told
}

// A box has the voxels whose centres lie within it, counted by hand, wherever it
// lies and whichever way its faces look.
func TestBoxesByHand(t *testing.T) {
	for _, c := range []struct {
		box  []float32
		want int
	}{
		{box(0, 0, 0, 4, 5, 6), 120}, {box(0.4, 0.4, 0.4, 2.4, 2.4, 2.4), 8}, {box(0.6, 0.6, 0.6, 2.4, 2.4, 2.4), 1},
		{box(0, 0, 0, 40, 70, 33), 40 * 70 * 33}, {box(31, 0, 0, 33, 1, 1), 2},
		{box(-5, -5, -5, 200, 200, 200), 96 * 96 * 96}, // more than there is
	} {
		v, told := volume(t, &Input{Positions: c.box}, [3]int{96, 96, 96})
		if told.Voxels != c.want || Count(v) != c.want || told.Open != 0 || told.Thin != 0 {
			t.Errorf("a box has %+v, not %d voxels", told, c.want)
		}
		round := slices.Clone(c.box)
		for k := 0; k < len(round); k += 9 {
			for a := range 3 {
				round[k+a], round[k+3+a] = round[k+3+a], round[k+a]
			}
		}
		if _, told := volume(t, &Input{Positions: round}, [3]int{96, 96, 96}); told.Voxels != c.want {
			t.Errorf("inside out it has %d voxels, not %d", told.Voxels, c.want)
		}
	}
}

// A polyhedron near a sphere has the voxels whose centres lie in it: those
// nearer than its inscribed sphere at the least, and none beyond the sphere.
func TestBallHoldsItsCentres(t *testing.T) {
	const n, r, rings = 80, 33.3, 64
	v, told := volume(t, &Input{Positions: ball(40, 40, 40, r, rings)}, [3]int{n, n, n})
	inner := r * math.Pow(math.Cos(math.Pi/(2*rings)), 2) * 0.9999
	sure, wrong := 0, 0
	for z := range n {
		for y := range n {
			for x := range n {
				d := math.Sqrt(sq(x) + sq(y) + sq(z))
				in := v.At(x, y, z) != 0
				if d < inner {
					sure++
				}
				if in && d > r || !in && d < inner {
					wrong++
				}
			}
		}
	}
	if wrong > 0 || told.Voxels < sure {
		t.Errorf("%d voxels are wrong; it has %d, at least %d", wrong, told.Voxels, sure)
	}
	if want := 4. / 3 * math.Pi * r * r * r; math.Abs(float64(told.Voxels)-want) > 0.01*want {
		t.Errorf("%d voxels; the sphere has %.0f", told.Voxels, want)
	}
	// The faces that show are closed: their signed volume is that of the voxels.
	if got := signed(v); math.Abs(got-float64(told.Voxels)) > 1e-6*got {
		t.Errorf("the faces hold %v, the voxels %d", got, told.Voxels)
	}
}

func sq(x int) float64 { d := float64(x) + 0.5 - 40; return d * d }

// signed is the volume within the faces, by the divergence theorem.
func signed(v *scene.Volume) (sum float64) {
	p, err := Surface(v, scene.None)
	if err != nil {
		return math.NaN()
	}
	for t := 0; t < len(p.Triangles); t += 3 {
		var c [3][3]float64
		for k := range 3 {
			for a := range 3 {
				c[k][a] = float64(p.Positions[3*p.Triangles[t+k]+uint32(a)])
			}
		}
		sum += geom.Vec3(c[0]).Dot(geom.Vec3(c[1]).Cross(geom.Vec3(c[2]))) / 6
	}
	return sum
}

// Faces cover exactly the sides of voxels that show: their area is the number of
// such sides, whatever the shape and colours.
func TestFacesAreTheSidesThatShow(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for range 6 {
		g := newGrid([3]int{1 + r.IntN(70), 1 + r.IntN(70), 1 + r.IntN(40)})
		for range 9000 {
			g.set(r.IntN(g.dims[0]), r.IntN(g.dims[1]), r.IntN(g.dims[2]), uint16(1+r.IntN(3)))
		}
		v := &scene.Volume{Size: 1, Dims: g.dims, Palette: make([]scene.Swatch, 3)}
		g.store(v)
		if err := v.Validate(); err != nil {
			t.Fatal(err)
		}
		sides, area := 0, 0
		count := [4]int{}
		g.each(func(x, y, z int, c uint16) {
			if c != v.At(x, y, z) {
				t.Fatalf("the stored volume differs at %d %d %d", x, y, z)
			}
			for _, s := range steps {
				if g.at(x+s[0], y+s[1], z+s[2]) == 0 {
					sides++
					count[c]++
				}
			}
		})
		faces, err := Faces(v)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range faces {
			area += int(f.W) * int(f.H)
			count[f.Colour] -= int(f.W) * int(f.H)
		}
		if area != sides || count != [4]int{} {
			t.Errorf("%d sides show, the faces have %d, by colours %v", sides, area, count)
		}
		if got, want := signed(v), float64(Count(v)); math.Abs(got-want) > 1e-3 {
			t.Errorf("the faces hold %v, the voxels %v", got, want)
		}
	}
}

// What is thinner than a voxel, or open, does not vanish: a sheet, a wall, a
// plank that sticks out of a block, and a card of two sides.
func TestThinThingsStay(t *testing.T) {
	dims := [3]int{40, 40, 40}
	wall := box(10.1, 2, 2, 10.2, 30, 30)
	_, told := volume(t, &Input{Positions: wall}, dims)
	if told.Voxels != 28*28 || told.Thin != 28*28 {
		t.Errorf("a thin wall: %+v", told)
	}
	sheet := []float32{2, 2, 5.3, 30, 2, 5.3, 30, 30, 5.3, 2, 2, 5.3, 30, 30, 5.3, 2, 30, 5.3}
	if _, told = volume(t, &Input{Positions: sheet}, dims); told.Voxels != 28*28 {
		t.Errorf("an open sheet: %+v", told)
	}
	back := slices.Clone(sheet)
	for k := 0; k < len(back); k += 9 {
		for a := range 3 {
			back[k+a], back[k+3+a] = back[k+3+a], back[k+a]
		}
	}
	if _, told = volume(t, &Input{Positions: append(back, sheet...)}, dims); told.Voxels != 28*28 {
		t.Errorf("a card of two sides: %+v", told)
	}
	plank := append(box(2, 2, 2, 10, 10, 10), box(9, 5.1, 5.1, 30, 5.4, 5.4)...)
	v, told := volume(t, &Input{Positions: plank}, dims)
	for x := 2; x < 30; x++ {
		if v.At(x, 5, 5) == 0 {
			t.Errorf("the plank breaks off at %d: %+v", x, told)
			break
		}
	}
	if told.Voxels != 8*8*8+20 {
		t.Errorf("a block with a plank: %+v", told)
	}
}

// Solids that overlap are one; a box with a lid missing is filled where lines
// that are sound say so.
func TestSolidsThatOverlapOrAreOpen(t *testing.T) {
	dims := [3]int{20, 20, 20}
	both := append(box(1, 1, 1, 9, 9, 9), box(5, 1, 1, 15, 9, 9)...)
	if _, told := volume(t, &Input{Positions: both}, dims); told.Voxels != 14*8*8 {
		t.Errorf("two that overlap: %+v", told)
	}
	whole := box(2, 2, 2, 12, 12, 12)
	for drop := 0; drop < len(whole); drop += 18 {
		open := slices.Delete(slices.Clone(whole), drop, drop+18)
		if _, told := volume(t, &Input{Positions: open}, dims); told.Voxels != 1000 || told.Open == 0 && drop >= 72 {
			t.Errorf("without face %d: %+v", drop/18, told)
		}
	}
}

// Colours are those of the surface at the voxel; clear surfaces are not there.
func TestColoursAndClearPlaces(t *testing.T) {
	dims := [3]int{20, 20, 20}
	in := &Input{Positions: box(2, 2, 2, 12, 12, 12), Colour: func(t int, share [3]float64) ([3]uint8, bool) {
		if t/2 == 5 { // the side at low x
			return [3]uint8{255, 0, 0}, true
		}
		return [3]uint8{0, 0, 255}, true
	}}
	v, told := volume(t, in, dims)
	if c := v.Palette[v.At(2, 6, 6)-1].Colour; c != [3]uint8{255, 0, 0} {
		t.Errorf("the red side is %v", c)
	}
	if c := v.Palette[v.At(11, 6, 6)-1].Colour; c != [3]uint8{0, 0, 255} {
		t.Errorf("the blue side is %v", c)
	}
	if c := v.Palette[v.At(2, 2, 6)-1].Colour; c[0] < 150 || c[2] < 150 { // half the light of each
		t.Errorf("an edge of red and blue is %v", c)
	}
	if inner := v.Palette[v.At(6, 6, 6)-1].Colour; inner[2] < inner[0] || inner[0] == 0 {
		t.Errorf("within it is %v", inner)
	}
	if told.Surface != 1000-512 {
		t.Errorf("%+v", told)
	}
	in.Colour = func(int, [3]float64) ([3]uint8, bool) { return [3]uint8{}, false }
	if _, _, err := Make(context.Background(), in, dims); err == nil {
		t.Error("what is wholly clear has voxels")
	}
	sheet := []float32{2, 2, 5.3, 30, 2, 5.3, 2, 30, 5.3}
	half := &Input{
		Positions: sheet,
		Colour:    func(_ int, share [3]float64) ([3]uint8, bool) { return [3]uint8{}, share[0] > 0.5 },
	}
	all := &Input{Positions: sheet}
	_, a := volume(t, half, [3]int{40, 40, 40})
	_, b := volume(t, all, [3]int{40, 40, 40})
	if got := float64(a.Voxels) / float64(b.Voxels); got < 0.2 || got > 0.3 {
		t.Errorf("a quarter of a triangle is there, and %.2f of its voxels", got)
	}
}

// Every voxel that a surface touches is in: those of a slanted triangle by the
// plain test of its points, and nothing far from it.
func TestTouch(t *testing.T) {
	tri := []float32{1.2, 1.3, 1.4, 17.7, 5.1, 9.9, 4.4, 16.2, 13.3}
	v, told := volume(t, &Input{Positions: tri, Touch: true}, [3]int{20, 20, 20})
	_, bare := volume(t, &Input{Positions: tri}, [3]int{20, 20, 20})
	if told.Voxels <= bare.Voxels {
		t.Errorf("%d voxels are touched, %d are crossed", told.Voxels, bare.Voxels)
	}
	r := rand.New(rand.NewPCG(1, 1))
	for range 20000 {
		a, b := r.Float32(), r.Float32()
		if a+b > 1 {
			a, b = 1-a, 1-b
		}
		var p [3]int
		for k := range 3 {
			p[k] = int(tri[k] + a*(tri[3+k]-tri[k]) + b*(tri[6+k]-tri[k]))
		}
		if v.At(p[0], p[1], p[2]) == 0 {
			t.Fatalf("the triangle has a point in %v, which is empty", p)
		}
	}
}

// A shell, what is within it, growing and shrinking, by hand.
func TestShapes(t *testing.T) {
	dims := [3]int{70, 40, 40}
	v, _ := volume(t, &Input{Positions: box(2, 2, 2, 66, 36, 36)}, dims)
	solid := 64 * 34 * 34
	ctx := t.Context()
	hollow, n, err := Hollow(ctx, v, 2)
	if err != nil {
		t.Fatal(err)
	}
	if want := 60 * 30 * 30; n != want || Count(hollow) != solid-want {
		t.Errorf("hollowed by %d to %d", n, Count(hollow))
	}
	shell, _ := volume(t, &Input{Positions: box(2, 2, 2, 66, 36, 36), Shell: 2}, dims)
	if Count(shell) != Count(hollow) {
		t.Errorf("a shell of two has %d voxels, hollowed it has %d", Count(shell), Count(hollow))
	}
	if full, n, err := Fill(ctx, hollow); err != nil || n != 60*30*30 || Count(full) != solid {
		t.Errorf("filled by %d to %d", n, Count(full))
	}
	if got, want := Count(must(Shrink(ctx, v, 3))(t)), 58*28*28; got != want {
		t.Errorf("shrunk: %d, not %d", got, want)
	}
	grown := must(Grow(ctx, v, 1))(t)
	if want := solid + 2*(64*34+64*34+34*34); Count(grown) != want || grown.Origin[0] != -1 || grown.Dims[0] != 72 {
		t.Errorf("grown: %d, not %d", Count(grown), want)
	}
	cut, n, err := Erase(ctx, v, [3]int{30, 0, 0}, [3]int{31, 40, 40}, slices.Repeat([]bool{true}, len(v.Palette)))
	if err != nil || n != 34*34 {
		t.Errorf("erased %d", n)
	}
	one, bits, n, err := DropLoose(ctx, cut, 30*34*34)
	if err != nil || bits != 1 || n != 28*34*34 || Count(one) != 35*34*34 {
		t.Errorf("%d bits of %d voxels dropped, %d stay", bits, n, Count(one))
	}
	if _, bits, _, err := DropLoose(ctx, v, solid); err != nil || bits != 0 {
		t.Errorf("%d bits of a whole dropped", bits)
	}
	for _, high := range []bool{false, true} {
		m := must(Mirror(ctx, cut, 0, high))(t)
		for x := range 70 {
			if a, b := m.At(x, 10, 10), m.At(69-x, 10, 10); a != b ||
				a != cut.At(map[bool]int{false: min(x, 69-x), true: max(x, 69-x)}[high], 10, 10) {
				t.Errorf("mirrored, high %v: at %d there is %d, opposite %d", high, x, a, b)
			}
		}
	}
}

// CIEDE2000 of some of the published pairs (Sharma et al. 2005, table 1).
func TestDifferenceOfPublishedPairs(t *testing.T) {
	for _, c := range []struct {
		p, q lab
		want float64
	}{
		{lab{50, 2.6772, -79.7751}, lab{50, 0, -82.7485}, 2.0425}, {lab{50, 3.1571, -77.2803}, lab{50, 0, -82.7485}, 2.8615},
		{lab{50, 2.8361, -74.0200}, lab{50, 0, -82.7485}, 3.4412}, {lab{50, -1.3802, -84.2814}, lab{50, 0, -82.7485}, 1},
		{lab{50, 0, 0}, lab{50, -1, 2}, 2.3669}, {lab{50, 2.49, -0.001}, lab{50, -2.49, 0.0009}, 7.1792},
		{lab{50, 2.49, -0.001}, lab{50, -2.49, 0.0011}, 7.2195}, {lab{50, -0.001, 2.49}, lab{50, 0.0011, -2.49}, 4.7461},
		{lab{50, 2.5, 0}, lab{50, 0, -2.5}, 4.3065}, {lab{50, 2.5, 0}, lab{73, 25, -18}, 27.1492},
		{lab{50, 2.5, 0}, lab{61, -5, 29}, 22.8977}, {lab{50, 2.5, 0}, lab{56, -27, -3}, 31.9030},
		{lab{50, 2.5, 0}, lab{58, 24, 15}, 19.4535}, {lab{50, 2.5, 0}, lab{50, 3.1736, 0.5854}, 1},
		{lab{60.2574, -34.0099, 36.2677}, lab{60.4626, -34.1751, 39.4387}, 1.2644},
		{lab{63.0109, -31.0961, -5.8663}, lab{62.8187, -29.7946, -4.0864}, 1.2630},
		{lab{35.0831, -44.1164, 3.7933}, lab{35.0232, -40.0716, 1.5901}, 1.8645},
		{lab{22.7233, 20.0904, -46.6940}, lab{23.0331, 14.9730, -42.5619}, 2.0373},
		{lab{36.4612, 47.8580, 18.3852}, lab{36.2715, 50.5065, 21.2231}, 1.4146},
		{lab{90.8027, -2.0831, 1.4410}, lab{91.1528, -1.6435, 0.0447}, 1.4441},
		{lab{90.9257, -0.5406, -0.9208}, lab{88.6381, -0.8985, -0.7239}, 1.5381},
		{lab{6.7747, -0.2908, -2.4247}, lab{5.8714, -0.0985, -2.2286}, 0.6377},
		{lab{2.0776, 0.0795, -1.1350}, lab{0.9033, -0.0636, -0.5514}, 0.9082},
	} {
		for _, d := range []float64{difference(c.p, c.q), difference(c.q, c.p)} {
			if math.Abs(d-c.want) > 5e-5 {
				t.Errorf("%v and %v differ by %.5f, not %.4f", c.p, c.q, d, c.want)
			}
		}
	}
	if l := labOf([3]uint8{255, 255, 255}); math.Abs(l.l-100) > 1e-3 || math.Abs(l.a) > 1e-2 || math.Abs(l.b) > 1e-2 {
		t.Errorf("white is %v", l)
	}
	if l := labOf([3]uint8{255, 0, 0}); math.Abs(l.l-53.24) > 0.01 || math.Abs(l.a-80.09) > 0.01 ||
		math.Abs(l.b-67.20) > 0.01 {
		t.Errorf("red is %v", l)
	}
}

// The same bytes come of the same input, on one core or several.
func TestMakeIsTheSameOnEveryCore(t *testing.T) {
	in := &Input{
		Positions: ball(50, 50, 50, 40.7, 90),
		Colour:    func(t int, s [3]float64) ([3]uint8, bool) { return [3]uint8{uint8(t), uint8(255 * s[0]), 9}, true },
	}
	a, _ := volume(t, in, [3]int{100, 100, 100})
	b, _ := volume(t, in, [3]int{100, 100, 100})
	if !slices.Equal(a.Blocks, b.Blocks) || !slices.Equal(a.Index, b.Index) || !slices.Equal(a.Palette, b.Palette) {
		t.Error("twice the same gives two volumes")
	}
}

func TestMakeRefuses(t *testing.T) {
	for _, c := range []struct {
		in   []float32
		dims [3]int
	}{
		{box(0, 0, 0, 1, 1, 1), [3]int{0, 1, 1}},
		{box(0, 0, 0, 1, 1, 1), [3]int{2000, 1, 1}},
		{[]float32{0, 0, 0, float32(math.NaN()), 0, 0, 0, 1, 0}, [3]int{4, 4, 4}},
		{box(0, 0, 0, 1e9, 1, 1), [3]int{4, 4, 4}},
		{nil, [3]int{4, 4, 4}},
	} {
		if _, _, err := Make(context.Background(), &Input{Positions: c.in}, c.dims); err == nil {
			t.Errorf("%v is taken", c.dims)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, _, err := Make(ctx, &Input{Positions: ball(20, 20, 20, 15, 60)}, [3]int{40, 40, 40}); err != context.Canceled {
		t.Errorf("%v", err)
	}
}

// BenchmarkMake fills a ball of a million triangles at growing resolutions: the
// time goes with the surface, a quarter each time the side is halved.
func BenchmarkMake(b *testing.B) {
	for _, side := range []int{128, 256, 512} {
		tri := ball(float64(side)/2, float64(side)/2, float64(side)/2, float64(side)/2-2, 500)
		in := &Input{Positions: tri, Colour: func(t int, s [3]float64) ([3]uint8, bool) {
			return [3]uint8{uint8(t >> 12), uint8(200 * s[0]), 9}, true
		}}
		b.Run(map[int]string{128: "128", 256: "256", 512: "512"}[side], func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				volume(b, in, [3]int{side, side, side})
			}
		})
	}
}

func BenchmarkFaces(b *testing.B) {
	v, _ := volume(b, &Input{Positions: ball(256, 256, 256, 250, 200)}, [3]int{512, 512, 512})
	for b.Loop() {
		Faces(v)
	}
}

// An octahedron has thin rims everywhere: it has the voxels whose centres lie in
// it, and none for its rims.
func TestRimsAreNotThin(t *testing.T) {
	const n, r = 48, 20.3
	c := [3]float64{24.2, 23.7, 24.4}
	corner := func(axis int, sign float64) [3]float32 {
		p := c
		p[axis] += sign * r
		return [3]float32{float32(p[0]), float32(p[1]), float32(p[2])}
	}
	var tri []float32
	for k := range 8 {
		s := [3]float64{1 - 2*float64(k&1), 1 - float64(k&2), 1 - float64(k&4)/2}
		q := [3][3]float32{corner(0, s[0]), corner(1, s[1]), corner(2, s[2])}
		if s[0]*s[1]*s[2] < 0 {
			q[1], q[2] = q[2], q[1]
		}
		for _, p := range q {
			tri = append(tri, p[:]...)
		}
	}
	v, told := volume(t, &Input{Positions: tri}, [3]int{n, n, n})
	want := 0
	for z := range n {
		for y := range n {
			for x := range n {
				d := math.Abs(float64(x)+0.5-c[0]) + math.Abs(float64(y)+0.5-c[1]) + math.Abs(float64(z)+0.5-c[2])
				if d < r {
					want++
				}
				if in := v.At(x, y, z) != 0; in != (d < r) && math.Abs(d-r) > 1e-3 {
					t.Errorf("%d %d %d is in: %v, %.3f from the middle", x, y, z, in, d)
				}
			}
		}
	}
	if told.Voxels != want || told.Thin != 0 {
		t.Errorf("%+v, not %d voxels", told, want)
	}
}

// What is touched lies no further from the triangle than a voxel's corner from
// its middle, and is asked its colour at a place within.
func TestTouchReachesNoFurther(t *testing.T) {
	tri := []float32{1.2, 1.3, 1.4, 17.7, 5.1, 9.9, 4.4, 16.2, 13.3}
	in := &Input{Positions: tri, Touch: true, Colour: func(_ int, s [3]float64) ([3]uint8, bool) {
		if sum := s[0] + s[1] + s[2]; math.Abs(sum-1) > 1e-9 || min(s[0], s[1], s[2]) < 0 {
			t.Errorf("a colour is asked at %v", s)
		}
		return [3]uint8{1, 2, 3}, true
	}}
	v, told := volume(t, in, [3]int{20, 20, 20})
	surface := near.New([]geom.Vec3{geom.At(tri, 0), geom.At(tri, 1), geom.At(tri, 2)})
	n := 0
	open(v).each(func(x, y, z int, c uint16) {
		n++
		_, d := surface.To(geom.Vec3{float64(x) + 0.5, float64(y) + 0.5, float64(z) + 0.5})
		if d > math.Sqrt(3)/2 || v.Palette[c-1].Colour != [3]uint8{1, 2, 3} {
			t.Errorf("%d %d %d is %.3f away and %v", x, y, z, d, v.Palette[c-1])
		}
	})
	if n != told.Voxels || n < 250 {
		t.Errorf("%d voxels, told %d", n, told.Voxels)
	}
}

// The inner side of a shell has the colour of the outer side next to it, in every
// block.
func TestTheInnerSideOfAShell(t *testing.T) {
	red, blue := [3]uint8{200, 0, 0}, [3]uint8{0, 0, 200}
	in := &Input{Positions: box(0, 0, 0, 80, 40, 40), Shell: 3}
	in.Colour = func(tri int, s [3]float64) ([3]uint8, bool) {
		x := 0.0
		for k := range 3 {
			x += s[k] * float64(in.Positions[9*tri+3*k])
		}
		if x < 40 {
			return red, true
		}
		return blue, true
	}
	v, told := volume(t, in, [3]int{80, 40, 40})
	if want := 80*40*40 - 74*34*34; told.Voxels != want {
		t.Errorf("%d voxels, not %d", told.Voxels, want)
	}
	if want := 2*(80*40+80*40+40*40) - 4*(80+40+40) + 8 + 2*(74*34+74*34+34*34); told.Surface != want {
		t.Errorf("%d show a side, not %d", told.Surface, want)
	}
	for _, p := range [][3]int{{20, 2, 20}, {20, 37, 35}, {20, 20, 2}, {35, 35, 37}, {2, 20, 20}} {
		if c := v.Palette[v.At(p[0], p[1], p[2])-1].Colour; c != red {
			t.Errorf("%v is %v within", p, c)
		}
	}
	for _, p := range [][3]int{{60, 2, 20}, {70, 37, 35}, {45, 20, 2}, {77, 20, 20}} {
		if c := v.Palette[v.At(p[0], p[1], p[2])-1].Colour; c != blue {
			t.Errorf("%v is %v within", p, c)
		}
	}
}

// A box within a block has six faces, one of two colours ten; each by itself they
// are as many as its sides.
func TestFacesAreJoined(t *testing.T) {
	g := newGrid([3]int{20, 20, 20})
	for k := range 10 * 4 * 4 {
		g.set(3+k%10, 5+k/10%4, 6+k/40, 1)
	}
	v := &scene.Volume{Size: 1, Dims: g.dims, Palette: make([]scene.Swatch, 2)}
	g.store(v)
	if n := len(must(Faces(v))(t)); n != 6 {
		t.Errorf("%d faces of a box", n)
	}
	if n := len(must(Sides(v))(t)); n != 2*(40+40+16) {
		t.Errorf("%d sides of a box", n)
	}
	for k := range 5 * 4 * 4 {
		g.set(8+k%5, 5+k/5%4, 6+k/20, 2)
	}
	g.store(v)
	if n := len(must(Faces(v))(t)); n != 10 {
		t.Errorf("%d faces of a box of two colours", n)
	}
}

// Growing leaves what was there in its place, and adds the colour beside.
func TestGrowKeepsWhatWasThere(t *testing.T) {
	g := newGrid([3]int{5, 6, 7})
	g.set(1, 2, 4, 2)
	v := &scene.Volume{Size: 0.5, Origin: [3]float32{1, 2, 3}, Dims: g.dims, Palette: make([]scene.Swatch, 2)}
	g.store(v)
	w := must(Grow(t.Context(), v, 2))(t)
	if w.Dims != [3]int{9, 10, 11} || w.Origin != [3]float32{0, 1, 2} {
		t.Errorf("%v at %v", w.Dims, w.Origin)
	}
	n := 0
	open(w).each(func(x, y, z int, c uint16) {
		far := abs(x-3) + abs(y-4) + abs(z-6)
		if n++; far > 2 || c != 2 {
			t.Errorf("%d %d %d is %d", x, y, z, c)
		}
	})
	if n != 25 { // an octahedron of two steps
		t.Errorf("%d voxels", n)
	}
}

func abs(v int) int { return max(v, -v) }

// Of three heaps of colours the best three are their means, and each voxel gets
// that of its own.
func TestBestOfThreeHeaps(t *testing.T) {
	v := &scene.Volume{Size: 1, Dims: [3]int{40, 40, 40}}
	heaps := [][3]uint8{{200, 30, 30}, {30, 160, 40}, {40, 50, 210}}
	r := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		c := heaps[len(v.Palette)%3]
		for k := range c {
			c[k] += uint8(r.IntN(9)) - 4
		}
		v.Palette = append(v.Palette, scene.Swatch{Colour: c})
	}
	g := newGrid(v.Dims)
	for range 20000 {
		g.set(r.IntN(40), r.IntN(40), r.IntN(40), uint16(1+r.IntN(300)))
	}
	g.store(v)
	n := 0
	for _, k := range Counts(v) {
		n += k
	}
	if n != Count(v) || n < 10000 {
		t.Fatalf("%d and %d voxels", n, Count(v))
	}
	best := Best(v, 3)
	if len(best) != 3 {
		t.Fatalf("%v", best)
	}
	for _, h := range heaps {
		least := math.Inf(1)
		for _, b := range best {
			least = min(least, Difference(b.Colour, h))
		}
		if least > 1 {
			t.Errorf("%v is %.2f from the nearest of %v", h, least, best)
		}
	}
	out, m, err := Match(t.Context(), v, best, false)
	if err != nil || m.Used != 3 || m.Mean > 3 || m.Worst > 8 || m.Worst < m.Mean || Count(out) != n {
		t.Errorf("%+v", m)
	}
	open(v).each(func(x, y, z int, c uint16) {
		h := heaps[(c-1)%3]
		if d := Difference(out.Palette[out.At(x, y, z)-1].Colour, h); d > 1 {
			t.Fatalf("a voxel of %v became %v", h, out.Palette[out.At(x, y, z)-1])
		}
	})
	if one := Best(v, 1); len(one) != 1 {
		t.Errorf("%v", one)
	}
	if all := Best(v, 5000); len(all) > 300 || len(all) < 100 {
		t.Errorf("%d of 300", len(all))
	}
}
