package reduce

import (
	"context"
	"math"
	"testing"
)

var never = math.Inf(1)

// sheet is a square of n x n cells from 0 to 1, raised by f; the vertices of
// its middle line are doubled: a seam.
func sheet(n int, f func(x, y float64) float64) Mesh {
	var m Mesh
	at := map[[2]int]uint32{}
	put := func(x, y, side int) uint32 {
		key := [2]int{x, y}
		if x == n/2 && side > 0 {
			key[0] = n + 1
		}
		if v, ok := at[key]; ok {
			return v
		}
		v := uint32(len(m.Positions) / 3)
		at[key] = v
		u, w := float64(x)/float64(n), float64(y)/float64(n)
		m.Positions = append(m.Positions, float32(u), float32(w), float32(f(u, w)))
		return v
	}
	for y := range n {
		for x := range n {
			side, end := 0, 0 // which of the seam's vertices the cell's left and right edge have
			if x >= n/2 {
				side = 1
			}
			a, b, c, d := put(x, y, side), put(x+1, y, end), put(x+1, y+1, end), put(x, y+1, side)
			m.Triangles = append(m.Triangles, a, b, c, a, c, d)
		}
	}
	m.Shown = 1
	return m
}

func flat(x, y float64) float64 { return 0 }

// A flat sheet with a seam down its middle comes down to what its corners and
// the seam's ends need: two squares of two triangles.
func TestFlat(t *testing.T) {
	m := sheet(16, flat)
	res, err := Of(context.Background(), []Mesh{m}, 0, 1e-6)
	if err != nil {
		t.Fatal(err)
	}
	if n := len(res.Triangles[0]) / 3; n != 4 {
		t.Errorf("%d triangles, by hand 4", n)
	}
	if a := area(m.Positions, res.Triangles[0]); math.Abs(a-1) > 1e-6 || res.Error > 1e-6 {
		t.Errorf("its area is %g, the error %g", a, res.Error)
	}
	// The two vertices of a place on the seam stay apart.
	for i := 0; i < len(res.Triangles[0]); i += 3 {
		left, right := false, false
		for _, v := range res.Triangles[0][i : i+3] {
			left, right = left || m.Positions[3*v] < 0.5, right || m.Positions[3*v] > 0.5
		}
		if left && right {
			t.Error("a triangle lies across the seam")
		}
	}
}

func area(p []float32, tri []uint32) (sum float64) {
	for i := 0; i+2 < len(tri); i += 3 {
		var e [2][3]float64
		for k := range 3 {
			e[0][k], e[1][k] = float64(p[3*tri[i+1]+uint32(k)]-p[3*tri[i]+uint32(k)]), float64(p[3*tri[i+2]+uint32(k)]-p[3*tri[i]+uint32(k)])
		}
		a, b := e[0], e[1]
		sum += math.Sqrt(math.Pow(a[1]*b[2]-a[2]*b[1], 2)+math.Pow(a[2]*b[0]-a[0]*b[2], 2)+math.Pow(a[0]*b[1]-a[1]*b[0], 2)) / 2
	}
	return sum
}

func hills(x, y float64) float64 { return 0.1 * math.Sin(7*x) * math.Cos(9*y) }

// Every edge that two triangles shared by place has two afterwards, and no
// triangle of the sheet turns over.
func TestHills(t *testing.T) {
	m := sheet(64, hills)
	for _, most := range []int{4000, 1000, 300, 60} {
		res, _ := Of(context.Background(), []Mesh{m}, most, never)
		n := len(res.Triangles[0]) / 3
		if n > most || n < most-2 {
			t.Errorf("%d triangles, %d were wanted", n, most)
		}
		sides := map[[2][2]float32]int{}
		at := func(v uint32) [2]float32 { return [2]float32{m.Positions[3*v], m.Positions[3*v+1]} }
		for i := 0; i < len(res.Triangles[0]); i += 3 {
			v := res.Triangles[0][i : i+3]
			a, b, c := at(v[0]), at(v[1]), at(v[2])
			if (b[0]-a[0])*(c[1]-a[1])-(b[1]-a[1])*(c[0]-a[0]) < -1e-7 {
				t.Fatalf("to %d: a triangle has turned over", most)
			}
			for k := range 3 {
				sides[[2][2]float32{at(v[k]), at(v[(k+1)%3])}]++
			}
		}
		for e, n := range sides {
			back := sides[[2][2]float32{e[1], e[0]}]
			rim := e[0][0] == e[1][0] && (e[0][0] == 0 || e[0][0] == 1) || e[0][1] == e[1][1] && (e[0][1] == 0 || e[0][1] == 1)
			if n != 1 || !rim && back != 1 {
				t.Fatalf("to %d: the edge %v is there %d times, turned round %d", most, e, n, back)
			}
		}
	}
}

// An error is a bound, and grows as triangles go.
func TestErrorIsABound(t *testing.T) {
	m := sheet(48, hills)
	last := len(m.Triangles) / 3
	for _, e := range []float64{0.0005, 0.002, 0.01} {
		res, _ := Of(context.Background(), []Mesh{m}, 0, e)
		n := len(res.Triangles[0]) / 3
		if res.Error > e || n >= last || n < 4 {
			t.Errorf("error %g of %g, %d triangles", res.Error, e, n)
		}
		last = n
	}
	// Ten times as large, the same in its own units.
	big := m
	big.Positions = make([]float32, len(m.Positions))
	for i, x := range m.Positions {
		big.Positions[i] = 10 * x
	}
	a, _ := Of(context.Background(), []Mesh{m}, 0, 0.002)
	b, _ := Of(context.Background(), []Mesh{big}, 0, 0.02)
	if x, y := len(a.Triangles[0]), len(b.Triangles[0]); math.Abs(float64(x-y)) > 0.02*float64(x) {
		t.Errorf("%d and %d", x, y)
	}
}

// Of several meshes those go first that lose least; what is shown more often
// counts as often.
func TestTogether(t *testing.T) {
	a, b := sheet(32, flat), sheet(32, hills)
	b.Shown = 3
	n := len(a.Triangles)/3 + len(b.Triangles)
	res, _ := Of(context.Background(), []Mesh{a, b}, n-2500, never)
	if x, y := len(res.Triangles[0])/3, len(res.Triangles[1])/3; x+3*y > n-2500 || x > 300 || y < len(b.Triangles)/3*8/10 || y > len(b.Triangles)/3-100 {
		t.Errorf("%d of the flat one and %d of the hills", x, y)
	}
}

func TestHeldAndApart(t *testing.T) {
	m := sheet(8, flat)
	m.Held = make([]bool, len(m.Positions)/3)
	for v := range m.Held {
		m.Held[v] = true
	}
	if res, _ := Of(context.Background(), []Mesh{m}, 0, never); len(res.Triangles[0]) != len(m.Triangles) {
		t.Error("vertices that are held went")
	}
	m.Held = nil
	m.Apart = func(u, v uint32) float64 { return math.Pow(float64(m.Positions[3*u+1]-m.Positions[3*v+1]), 2) }
	res, _ := Of(context.Background(), []Mesh{m}, 0, 0.01)
	rows := map[float32]bool{}
	for _, v := range res.Triangles[0] {
		rows[m.Positions[3*v+1]] = true
	}
	if len(rows) != 9 {
		t.Errorf("%d rows are left of 9, which what they carry holds apart", len(rows))
	}
}

func TestNothingAndCancel(t *testing.T) {
	if res, err := Of(context.Background(), []Mesh{{Shown: 1}}, 0, 1); err != nil || len(res.Triangles[0]) != 0 {
		t.Error(res, err)
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, err := Of(ctx, []Mesh{sheet(8, hills)}, 0, 1); err != context.Canceled {
		t.Error(err)
	}
	m := Mesh{Positions: []float32{0, 0, 0, 1, 0, 0, 1, 0, 0, 0, 0, 0}, Triangles: []uint32{0, 1, 2, 3, 0, 1, 0, 0, 0}, Shown: 1}
	if res, err := Of(context.Background(), []Mesh{m}, 0, 1); err != nil || len(res.Triangles[0]) != 0 {
		t.Error(res, err)
	}
}

func BenchmarkToATenth(b *testing.B) {
	m := sheet(708, hills) // a million triangles
	for b.Loop() {
		Of(context.Background(), []Mesh{m}, len(m.Triangles)/30, never)
	}
}
