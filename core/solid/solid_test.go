package solid

import (
	"math"
	"math/rand"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/shell"
)

// box is a box of twelve triangles, outward.
func box(low, high geom.Vec3) (p scene.Part) {
	for i := range 8 {
		for k := range 3 {
			p.Positions = append(p.Positions, float32([2]float64{low[k], high[k]}[i>>k&1]))
		}
	}
	p.Triangles = []uint32{0, 2, 3, 0, 3, 1, 4, 5, 7, 4, 7, 6, 0, 1, 5, 0, 5, 4, 2, 6, 7, 2, 7, 3, 0, 4, 6, 0, 6,
		2, 1, 3, 7, 1, 7, 5}
	return p
}

func cube(at, size float64) scene.Part {
	return box(geom.Vec3{at, at, at}, geom.Vec3{at + size, at + size, at + size})
}

func turned(p scene.Part) scene.Part {
	for k := 0; k < len(p.Triangles); k += 3 {
		p.Triangles[k], p.Triangles[k+1] = p.Triangles[k+1], p.Triangles[k]
	}
	return p
}

func look(wall float64, parts ...scene.Part) *Report {
	s := &scene.Scene{Meshes: []scene.Mesh{{Parts: parts}}}
	n := scene.NewNode("thing")
	n.Mesh = 0
	s.Nodes = []scene.Node{n}
	return Look(shell.Of(s, 1, 1e-6), wall, geom.Vec3{0, 1, 0})
}

func TestABox(t *testing.T) {
	r := look(0.5, box(geom.Vec3{10, 10, 10}, geom.Vec3{12, 13, 14}))
	want := Report{Pieces: 1, Volume: 24, Foot: 8, Size: geom.Vec3{2, 3, 4}}
	if r.Volume = math.Round(r.Volume*1e6) / 1e6; *r != want || !r.Closed() {
		t.Errorf("%+v", r)
	}
	if r := look(0); r.Pieces != 0 || !r.Closed() {
		t.Errorf("nothing is %+v", r)
	}
}

func TestWhatIsWrong(t *testing.T) {
	without := func(p scene.Part, k ...int) scene.Part {
		var left []uint32
		for i := 0; i < len(p.Triangles); i += 3 {
			keep := true
			for _, x := range k {
				keep = keep && i/3 != x
			}
			if keep {
				left = append(left, p.Triangles[i:i+3]...)
			}
		}
		p.Triangles = left
		return p
	}
	fin := cube(0, 1)
	fin.Positions = append(fin.Positions, 0.5, -1, 0.5)
	fin.Triangles = append(fin.Triangles, 0, 1, 8)
	odd := cube(0, 1)
	odd.Triangles[0], odd.Triangles[1] = odd.Triangles[1], odd.Triangles[0]
	for name, c := range map[string]struct {
		r    *Report
		want Report
	}{
		"one triangle is missing": {look(0, without(cube(0, 1), 4)), Report{Open: 3, Holes: 1, Pieces: 1}},
		"two sides are missing":   {look(0, without(cube(0, 1), 0, 1, 2, 3)), Report{Open: 8, Holes: 2, Pieces: 1}},
		"a fin":                   {look(0, fin), Report{Odd: 1, Open: 2, Holes: 1, Pieces: 1}},
		"a face is turned":        {look(0, odd), Report{Disagree: 3, Pieces: 1}},
		"inside out":              {look(0, turned(cube(0, 2))), Report{InsideOut: 1, Pieces: 1, Volume: 8}},
		"a hollow":                {look(0, cube(0, 4), turned(cube(1, 2))), Report{Pieces: 2, Volume: 56, Foot: 16}},
		"a body in a hollow": {look(0, cube(0, 9), turned(cube(1, 7)), cube(2, 3)),
			Report{Pieces: 3, Volume: 729 - 343 + 27, Foot: 81}},
		"a shell within a shell": {look(0, cube(0, 4), cube(1, 2)), Report{Pieces: 2, Within: 1, Volume: 64, Foot: 16}},
		"side by side":           {look(0, cube(0, 1), cube(5, 1)), Report{Pieces: 2, Volume: 2, Foot: 1}},
		"two that lie in each other": {look(0, cube(0, 2), box(geom.Vec3{1, 0.5, 0.5}, geom.Vec3{3, 1, 1})),
			Report{Pieces: 2, Crossing: 2, Volume: 8.5, Foot: 4}},
		"two that touch with a side": {look(0, cube(0, 2), box(geom.Vec3{2, 0, 0.5}, geom.Vec3{3, 1, 1.5})),
			Report{Pieces: 2, Volume: 9, Foot: 5}},
		"one that stands on an other": {look(0, cube(0, 2), box(geom.Vec3{0.5, 2, 0.5}, geom.Vec3{1, 3, 1})),
			Report{Pieces: 2, Volume: 8.25, Foot: 4}},
	} {
		c.r.Size = geom.Vec3{}
		if c.want.Foot == 0 {
			c.r.Foot = 0
		}
		if c.r.Volume = math.Round(c.r.Volume*1e6) / 1e6; *c.r != c.want {
			t.Errorf("%s: %+v, want %+v", name, *c.r, c.want)
		}
	}
}

// A plate is as thick as it is; a wedge's sharp edge is no wall.
func TestWalls(t *testing.T) {
	plate := box(geom.Vec3{0, 0, 0}, geom.Vec3{10, 10, 0.4})
	if r := look(0.5, plate); r.Thin != 4 || math.Abs(r.Thinnest-0.4) > 1e-4 {
		t.Errorf("%d triangles, %g", r.Thin, r.Thinnest)
	}
	if r := look(0.39, plate); r.Thin != 0 || r.Thinnest != 0 {
		t.Errorf("%d triangles, %g", r.Thin, r.Thinnest)
	}
	wedge := scene.Part{Positions: []float32{0, 0, 0, 9, 0, 0, 9, 0, 9, 0, 0, 9, 0, 9, 0, 9, 9, 0},
		Triangles: []uint32{0, 1, 2, 0, 2, 3, 0, 4, 5, 0, 5, 1, 3, 2, 5, 3, 5, 4, 0, 3, 4, 1, 5, 2}}
	if r := look(0.5, wedge); r.Thin != 0 || !r.Closed() {
		t.Errorf("%+v", r)
	}
}

// The foot is what lies flat, not what slopes, and which way is down counts.
func TestFoot(t *testing.T) {
	s := &scene.Scene{Meshes: []scene.Mesh{{Parts: []scene.Part{box(geom.Vec3{}, geom.Vec3{2, 3, 4})}}}}
	n := scene.NewNode("thing")
	n.Mesh = 0
	s.Nodes = []scene.Node{n}
	sh := shell.Of(s, 1, 0)
	for _, c := range []struct {
		up   geom.Vec3
		want float64
	}{{geom.Vec3{1, 0, 0}, 12}, {geom.Vec3{0, 1, 0}, 8}, {geom.Vec3{0, 0, -1}, 6}, {geom.Vec3{0.6, 0.8, 0}, 0}} {
		if r := Look(sh, 0, c.up); math.Abs(r.Foot-c.want) > 1e-9 {
			t.Errorf("up %v: %g, want %g", c.up, r.Foot, c.want)
		}
	}
}

func BenchmarkLook(b *testing.B) {
	var p scene.Part
	const n = 300
	for i := range n + 1 {
		for j := range n + 1 {
			u, v := 2*math.Pi*float64(i%n)/n, 2*math.Pi*float64(j%n)/n
			r := 2 + math.Cos(v)
			p.Positions = append(p.Positions, float32(r*math.Cos(u)), float32(math.Sin(v)), float32(r*math.Sin(u)))
		}
	}
	for i := range n {
		for j := range n {
			a := uint32(i*(n+1) + j)
			p.Triangles = append(p.Triangles, a, a+1, a+n+2, a, a+n+2, a+n+1)
		}
	}
	for b.Loop() {
		if r := look(0.1, p); !r.Closed() || r.Crossing != 0 {
			b.Fatalf("%+v", r)
		}
	}
}

// In a tangle every edge may go through every triangle: the looking ends, and
// says that there is more. What stands in very many pieces is measured whole.
func TestTangles(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	var p scene.Part
	for range 3 * 4000 {
		for range 3 {
			p.Positions = append(p.Positions, float32(r.NormFloat64()))
		}
		p.Triangles = append(p.Triangles, uint32(len(p.Triangles)))
	}
	// Not all by themselves: only so many crossings are looked for on each core.
	if x := look(0, p); x.Crossing < 3900 || x.Pieces != 4000 {
		t.Errorf("%d triangles are crossed, in %d pieces", x.Crossing, x.Pieces)
	}
	var many scene.Part
	for i := range mostPieces + 100 {
		c := box(geom.Vec3{float64(3 * (i % 64)), 0, float64(3 * (i / 64))}, geom.Vec3{float64(3*(i%64)) + 1, 2, float64(3*(i/64)) + 1})
		first := uint32(many.Vertices())
		many.Positions = append(many.Positions, c.Positions...)
		for _, v := range c.Triangles {
			many.Triangles = append(many.Triangles, first+v)
		}
	}
	x := look(0, many)
	if x.Pieces != mostPieces+100 || !x.Partly || math.Abs(x.Volume-2*float64(x.Pieces)) > 1e-3 || x.Within != 0 {
		t.Errorf("%+v", x)
	}
}
