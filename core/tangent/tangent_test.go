package tangent

import (
	"math"
	"testing"
)

// A square in the plane of x and y that faces z, its picture upright: v counts
// from above, so that it grows as y falls.
var (
	square   = []float32{0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0}
	forwards = []float32{0, 0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1}
	upright  = []float32{0, 1, 1, 1, 1, 0, 0, 0}
	two      = []uint32{0, 1, 2, 0, 2, 3}
)

func is(t *testing.T, what string, got []float32, want [4]float32) {
	t.Helper()
	for i := 0; i+3 < len(got); i += 4 {
		for k := range want {
			if math.Abs(float64(got[i+k]-want[k])) > 1e-6 {
				t.Fatalf("%s, corner %d: %v, by hand %v", what, i/4, got[i:i+4], want)
			}
		}
	}
}

func TestByHand(t *testing.T) {
	is(t, "upright", Of(two, square, forwards, upright), [4]float32{1, 0, 0, 1})
	mirrored := []float32{1, 1, 0, 1, 0, 0, 1, 0}
	is(t, "mirrored", Of(two, square, forwards, mirrored), [4]float32{-1, 0, 0, -1})
	turned := []float32{0, 0, 0, 1, 1, 1, 1, 0} // u grows upwards, v to the right
	is(t, "turned", Of(two, square, forwards, turned), [4]float32{0, 1, 0, 1})
	is(t, "no area in the picture", Of(two, square, forwards, make([]float32, 8)), [4]float32{1, 0, 0, 1})
	if Of(nil, nil, nil, nil) == nil {
		t.Error("no triangles have no tangents, not none")
	}
}

// A triangle without area has what its neighbours have.
func TestFlatTriangles(t *testing.T) {
	got := Of(append([]uint32{0, 0, 1}, two...), square, forwards, upright)
	is(t, "with a flat one", got, [4]float32{1, 0, 0, 1})
}

// Very many triangles round one point end in time, whatever their directions.
func TestAFan(t *testing.T) {
	const n = 200_000
	p, q, uv := []float32{0, 0, 0}, []float32{0, 0, 1}, []float32{0.5, 0}
	var tri []uint32
	for i := range n {
		a := 2 * math.Pi * float64(i) / n
		p, q = append(p, float32(math.Cos(a)), float32(math.Sin(a)), 0), append(q, 0, 0, 1)
		uv = append(uv, float32(i)/n, 1)
		tri = append(tri, 0, uint32(i+1), uint32((i+1)%n+1))
	}
	if got := Of(tri, p, q, uv); len(got) != 12*n {
		t.Fatal(len(got))
	}
}

func BenchmarkGrid(b *testing.B) {
	const n = 500
	p, q, uv, tri := grid(n)
	b.SetBytes(int64(len(tri) / 3))
	for b.Loop() {
		Of(tri, p, q, uv)
	}
}

func grid(n int) (p, q, uv []float32, tri []uint32) {
	for y := range n {
		for x := range n {
			h := math.Sin(float64(x)/9) * math.Cos(float64(y)/7)
			p, q = append(p, float32(x), float32(y), float32(h)), append(q, 0, 0, 1)
			uv = append(uv, float32(x)/float32(n), float32(y)/float32(n))
			if x+1 < n && y+1 < n {
				a := uint32(y*n + x)
				tri = append(tri, a, a+1, a+uint32(n)+1, a, a+uint32(n)+1, a+uint32(n))
			}
		}
	}
	return p, q, uv, tri
}
