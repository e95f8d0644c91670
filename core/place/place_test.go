package place

import (
	"fmt"
	"math"
	"math/rand"
	"testing"
)

// Against a map of what the numbers are.
func TestSame(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	for n := range 300 {
		var p, q []float32
		for range n {
			for range 3 {
				p = append(p, float32(r.Intn(3)-1)*float32(math.Copysign(1, r.NormFloat64())))
			}
			q = append(q, float32(r.Intn(2)), float32(r.Intn(2)))
		}
		for name, rows := range map[string][]Rows{"places": {{p, 3}}, "more": {{p, 3}, {q, 2}}} {
			first := map[string]uint32{}
			got := Same(n, rows...)
			for v := range n {
				key := ""
				for _, x := range rows {
					for _, y := range x.Data[v*x.Per : v*x.Per+x.Per] {
						key += fmt.Sprintf("%g ", y+0) // -0 is 0
					}
				}
				want, ok := first[key]
				if !ok {
					want = uint32(v)
					first[key] = want
				}
				if got[v] != want {
					t.Fatalf("%s: vertex %d of %d is %d, should be %d", name, v, n, got[v], want)
				}
			}
		}
	}
	nan := float32(math.NaN())
	if got := Of([]float32{0, nan, 1, float32(math.Copysign(0, -1)), nan, 1, 0, 2, 1}); got[0] != 0 || got[1] != 0 || got[2] != 2 {
		t.Errorf("%v", got)
	}
	if len(Of(nil)) != 0 {
		t.Error("nothing has no places")
	}
}

func BenchmarkOf(b *testing.B) {
	p := make([]float32, 3_000_000)
	for i := range p {
		p[i] = float32(i / 6 * 7919 % 65521)
	}
	b.SetBytes(int64(4 * len(p)))
	for b.Loop() {
		Of(p)
	}
}
