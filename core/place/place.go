// Package place finds vertices that are the same: in one place, or alike in
// more, to the last bit. Exports double vertices along seams and hard edges, so
// what hangs together is told by places, not by numbers.
package place

import "math"

// Rows are numbers of vertices, Per each.
type Rows struct {
	Data []float32
	Per  int
}

// Of gives each vertex the first one in exactly the same place. Positions are
// three numbers each.
func Of(positions []float32) []uint32 { return Same(len(positions)/3, Rows{positions, 3}) }

// Same gives each of n vertices the first one that is equal to it in all rows.
// 0 and -0 are equal, and so are NaNs of the same bits.
func Same(n int, rows ...Rows) []uint32 {
	size := uint64(1)
	for size < uint64(2*n) {
		size *= 2
	}
	// Open addressing with linear probing (Knuth, The Art of Computer
	// Programming 3, section 6.4, algorithm L), at most half full.
	table := make([]uint32, size) // a vertex and 1, 0 for none
	out := make([]uint32, n)
	for v := range n {
		for k := hash(rows, v) & (size - 1); ; k = (k + 1) & (size - 1) {
			u := table[k]
			if u == 0 {
				table[k] = uint32(v + 1)
				out[v] = uint32(v)
				break
			}
			if equal(rows, int(u-1), v) {
				out[v] = u - 1
				break
			}
		}
	}
	return out
}

// bits are those of a number; -0 + 0 is 0.
func bits(x float32) uint32 { return math.Float32bits(x + 0) }

func hash(rows []Rows, v int) uint64 {
	h := uint64(0x9E3779B97F4A7C15)
	for _, r := range rows {
		for _, x := range r.Data[v*r.Per : v*r.Per+r.Per] {
			h = (h ^ uint64(bits(x))) * 0xBF58476D1CE4E5B9
			h ^= h >> 29
		}
	}
	return h * 0x94D049BB133111EB >> 17
}

func equal(rows []Rows, u, v int) bool {
	for _, r := range rows {
		a, b := r.Data[u*r.Per:u*r.Per+r.Per], r.Data[v*r.Per:v*r.Per+r.Per]
		for k := range a {
			if bits(a[k]) != bits(b[k]) {
				return false
			}
		}
	}
	return true
}
