package quad

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

var usual = &scene.Quads{Bend: 20, Skew: 60}

// sheet is a bent sheet of n × n squares, each cut along a diagonal by chance,
// its triangles in any order and begun at any corner.
func sheet(n int, rnd *rand.Rand) (pos []float32, tri []uint32) {
	for y := range n + 1 {
		for x := range n + 1 {
			a := float64(x) / float64(n)
			pos = append(pos, float32(math.Sin(a)), float32(y)/float32(n), float32(math.Cos(a)))
		}
	}
	var faces [][3]uint32
	for y := range n {
		for x := range n {
			a := uint32(y*(n+1) + x)
			b, c, d := a+1, a+uint32(n)+2, a+uint32(n)+1
			if rnd.IntN(2) == 0 {
				faces = append(faces, [3]uint32{a, b, c}, [3]uint32{a, c, d})
			} else {
				faces = append(faces, [3]uint32{b, c, d}, [3]uint32{b, d, a})
			}
		}
	}
	rnd.Shuffle(len(faces), func(i, j int) { faces[i], faces[j] = faces[j], faces[i] })
	for _, f := range faces {
		k := rnd.IntN(3)
		tri = append(tri, f[k], f[(k+1)%3], f[(k+2)%3])
	}
	return pos, tri
}

// area is the sum of a surface's faces as vectors, and of their sizes.
func area(pos []float32, sizes []uint8, corners []uint32) (sum geom.Vec3, size float64) {
	at := func(v uint32) geom.Vec3 {
		return geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])}
	}
	for _, n := range sizes {
		for k := 2; k < int(n); k++ {
			f := at(corners[k-1]).Sub(at(corners[0])).Cross(at(corners[k]).Sub(at(corners[0]))).Mul(0.5)
			sum, size = sum.Add(f), size+f.Len()
		}
		corners = corners[n:]
	}
	return sum, size
}

func TestSquaresComeBack(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for n := 1; n < 30; n += 4 {
		pos, tri := sheet(n, rnd)
		sizes, corners := Faces(usual, pos, tri)
		if len(sizes) != n*n || len(corners) != 4*n*n {
			t.Fatalf("%d × %d squares come back as %d faces of %d corners", n, n, len(sizes), len(corners))
		}
		for k := range sizes { // each is one of the squares, wound as ever
			low, high := corners[4*k], corners[4*k]
			for _, v := range corners[4*k : 4*k+4] {
				low, high = min(low, v), max(high, v)
			}
			if high-low != uint32(n)+2 {
				t.Fatalf("the face %v is no square of the sheet", corners[4*k:4*k+4])
			}
		}
		whole, triangles := Faces(nil, pos, tri)
		a, as := area(pos, sizes, corners)
		b, bs := area(pos, whole, triangles)
		if a.Sub(b).Len() > 1e-6 || math.Abs(as-bs) > 1e-3*bs || len(whole) != 2*n*n {
			t.Errorf("areas %v %g, as triangles %v %g", a, as, b, bs)
		}
	}
}

func TestWhatIsNotPaired(t *testing.T) {
	square := []float32{0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0}
	dart := []float32{0, 0, 0, 1, 0, 0, 0.2, 0.2, 0, 0, 1, 0} // its third corner is turned in
	roof := []float32{0, 0, 0, 1, 0, 0.5, 1, 1, 0, 0, 1, 0.5} // bent by 2 atan(0.5 √2), 70.5 degrees
	two := []uint32{0, 1, 2, 0, 2, 3}
	for _, c := range []struct {
		what  string
		rule  *scene.Quads
		pos   []float32
		tri   []uint32
		sizes string
	}{
		{"a square", usual, square, two, "[4]"},
		{"a square without a rule", nil, square, two, "[3 3]"},
		{"a dart", &scene.Quads{Bend: 90, Skew: 89}, dart, two, "[3 3]"},
		{"a roof", &scene.Quads{Bend: 70, Skew: 89}, roof, two, "[3 3]"},
		{"a roof that may be bent", &scene.Quads{Bend: 71, Skew: 89}, roof, two, "[4]"},
		{"a seam", usual, append(append([]float32{}, square...), 0, 0, 0, 1, 1, 0), []uint32{0, 1, 2, 4, 5, 3}, "[3 3]"},
		{"one face turned round", &scene.Quads{Bend: 90, Skew: 89}, square, []uint32{0, 1, 2, 0, 3, 2}, "[3 3]"},
		{"three at one edge", usual, append(append([]float32{}, square...), 0, 0, 1), []uint32{0, 1, 2, 0, 2, 3, 0, 2, 4}, "[3 3 3]"},
		{"the same face twice", usual, square, []uint32{0, 1, 2, 0, 1, 2}, "[3 3]"},
		{"both sides of a face", &scene.Quads{Bend: 90, Skew: 89}, square, []uint32{0, 1, 2, 2, 1, 0}, "[3 3]"},
		{"faces without area", usual, make([]float32, 12), two, "[3 3]"},
		{"a vertex three times", usual, square, []uint32{0, 0, 0, 1, 1, 2}, "[3 3]"},
		{"what is not finite", usual, []float32{0, 0, 0, 1, 0, 0, float32(math.NaN()), 1, 0, 0, 1, 0}, two, "[3 3]"},
		{"nothing", usual, nil, nil, "[]"},
	} {
		if sizes, _ := Faces(c.rule, c.pos, c.tri); fmt.Sprint(sizes) != c.sizes {
			t.Errorf("%s: %v, want %s", c.what, sizes, c.sizes)
		}
	}
}

// The corners of a rhombus of 50 and 130 degrees are 40 off a right angle.
func TestSkewIsInDegrees(t *testing.T) {
	a := 50 * math.Pi / 180
	x, y := float32(math.Cos(a)), float32(math.Sin(a))
	pos, tri := []float32{0, 0, 0, 1, 0, 0, 1 + x, y, 0, x, y, 0}, []uint32{0, 1, 2, 0, 2, 3}
	for skew, want := range map[float32]int{39.9: 2, 40.1: 1} {
		if sizes, _ := Faces(&scene.Quads{Bend: 1, Skew: skew}, pos, tri); len(sizes) != want {
			t.Errorf("at most %g degrees: %v", skew, sizes)
		}
	}
}

func BenchmarkFaces(b *testing.B) {
	pos, tri := sheet(700, rand.New(rand.NewPCG(3, 4)))
	b.SetBytes(int64(len(tri) / 3))
	for b.Loop() {
		Faces(usual, pos, tri)
	}
}
