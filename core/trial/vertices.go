package trial

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"excavate/core/pixel"
)

// Vertices is a guess at vertices: how far they lie apart and where in each
// the position stands.
type Vertices struct {
	Stride   int
	Count    int
	Format   string // of the position: f32x3, i16x3 or f16x3
	At       int64  // of the first position
	Score    float64
	Evidence string
}

// GuessVertices looks for positions from the beginning of b on: three numbers
// a vertex that stay near one another from one vertex to the next, as points
// along a surface do, and fill a box of a sensible shape.
func GuessVertices(b []byte, at int64, big bool) []Vertices {
	o := order(big)
	var out []Vertices
	for _, f := range []struct {
		format string
		size   int
		read   func([]byte) float64
	}{
		{"f32x3", 4, func(p []byte) float64 { return float64(math.Float32frombits(o.Uint32(p))) }},
		{"i16x3", 2, func(p []byte) float64 { return float64(int16(o.Uint16(p))) }},
		{"f16x3", 2, func(p []byte) float64 { return float64(pixel.Half(o.Uint16(p))) }},
	} {
		for stride := 3 * f.size; stride <= 96; stride += f.size {
			for off := 0; off+3*f.size <= stride && off <= 32; off += f.size {
				n := min((len(b)-off-3*f.size)/stride+1, 256)
				if n < 8 {
					break
				}
				score, evidence := pathScore(n, func(i, k int) float64 { return f.read(b[i*stride+off+k*f.size:]) })
				if score < 0.05 {
					continue
				}
				if f.format == "f32x3" {
					// Three columns of everyday floats are hardly ever anything else.
					score = 0.6 + 0.4*score
				} else if score < 0.3 {
					continue
				} else {
					score *= 0.8
				}
				// Fewer bytes left over say more than a stride with wide gaps, and
				// positions usually come first.
				score *= 1 - 0.0015*float64(stride) - 0.004*float64(off)
				all := extent(b, stride, off, f.size, f.read)
				out = append(out, Vertices{Stride: stride, Count: all, Format: f.format, At: at + int64(off), Score: score,
					Evidence: fmt.Sprintf("%s; %d vertices stay near them", evidence, all)})
			}
		}
	}
	// Every second vertex looks like a surface too: of strides that are multiples
	// of one another the smallest is meant.
	all := slices.Clone(out)
	out = slices.DeleteFunc(out, func(a Vertices) bool {
		return slices.ContainsFunc(all, func(b Vertices) bool {
			return a.Stride > b.Stride && a.Stride%b.Stride == 0 && (a.At-b.At)%int64(b.Stride) == 0 && a.Format == b.Format && b.Score > 0.6*a.Score
		})
	})
	slices.SortStableFunc(out, func(a, b Vertices) int { return cmp.Compare(b.Score, a.Score) })
	return out[:min(len(out), 6)]
}

// pathScore tells how much n triples look like points of a surface.
func pathScore(n int, at func(i, k int) float64) (float64, string) {
	var lo, hi, step [3]float64
	for k := range 3 {
		lo[k], hi[k] = math.Inf(1), math.Inf(-1)
	}
	distinct := map[[3]float64]bool{}
	var last [3]float64
	tiny := 0
	for i := range n {
		var p [3]float64
		for k := range 3 {
			v := at(i, k)
			if math.IsNaN(v) || math.IsInf(v, 0) || math.Abs(v) > 1e6 {
				return 0, ""
			}
			if v != 0 && math.Abs(v) < 1e-7 { // what is left of a zero that was computed
				if tiny++; tiny > n/4 || math.Abs(v) < 1e-20 {
					return 0, ""
				}
			}
			p[k] = v
			lo[k], hi[k] = min(lo[k], v), max(hi[k], v)
			if i > 0 {
				step[k] += math.Abs(v - last[k])
			}
		}
		distinct[p] = true
		last = p
	}
	if len(distinct) < n/3 {
		return 0, ""
	}
	size, mean, flat := 0.0, 0.0, 0
	for k := range 3 {
		d := hi[k] - lo[k]
		size += d
		mean += step[k] / float64(n-1)
		if d == 0 {
			flat++
		}
	}
	if size == 0 || flat > 1 {
		return 0, ""
	}
	// Independent numbers lie a third of the range apart; neighbours on a
	// surface far less. Each axis must do so by itself.
	worst := 0.0
	for k := range 3 {
		if d := hi[k] - lo[k]; d > 0 {
			worst = max(worst, step[k]/float64(n-1)/d*3)
		}
		if d := hi[k] - lo[k]; d > 0 && d < size/200 {
			worst = max(worst, 0.9) // a column of another kind
		}
	}
	score := 1 - worst
	return score, fmt.Sprintf("neighbours lie %.0f %% of the range apart, by chance it is 33", 100*mean/size)
}

// extent counts the vertices until one leaves the neighbourhood of those
// before it.
func extent(b []byte, stride, off, size int, read func([]byte) float64) int {
	var lo, hi [3]float64
	n := 0
	for i := 0; i*stride+off+3*size <= len(b); i++ {
		out := false
		for k := range 3 {
			v := read(b[i*stride+off+k*size:])
			if math.IsNaN(v) || math.Abs(v) > 1e6 || v != 0 && math.Abs(v) < 1e-20 {
				return n
			}
			if i == 0 {
				lo[k], hi[k] = v, v
			}
			if d := hi[k] - lo[k]; i >= 16 && d > 0 && (v > hi[k]+4*d || v < lo[k]-4*d) {
				out = true
			}
			lo[k], hi[k] = min(lo[k], v), max(hi[k], v)
		}
		if out {
			break
		}
		n = i + 1
	}
	return n
}

// IndexRow is a guess at a row of indices.
type IndexRow struct {
	At       int64
	Count    int
	Format   string // u16 or u32
	Form     string // list or strip
	Highest  int
	Evidence string
}

// GuessIndices looks through b, which begins at offset at of a file, for rows
// of indices: whole numbers whose triples are three different ones, most of
// which were met shortly before. vertices is how many there are, 0 if that is
// not known.
func GuessIndices(b []byte, at int64, vertices int, big bool) []IndexRow {
	o := order(big)
	var out []IndexRow
	for _, size := range []int{2, 4} {
		read := func(i int) int {
			if size == 2 {
				return int(o.Uint16(b[2*i:]))
			}
			return int(o.Uint32(b[4*i:]))
		}
		n := len(b) / size
		for i := 0; i+6 <= n; {
			k, high, near := i, 0, 0
			for k < n {
				v := read(k)
				if v > high+64 && v >= 256 || vertices > 0 && v >= vertices || v > 1<<24 {
					break
				}
				if v <= high+3 {
					near++
				}
				high = max(high, v)
				k++
			}
			run := k - i
			if run >= 24 && high >= 7 && float64(near) > 0.9*float64(run) {
				// A list begins with a triangle of three; so does each triple after it.
				distinct, shared := 0, 0
				for j := i; j+2 < k; j++ {
					if a, b, c := read(j), read(j+1), read(j+2); a != b && b != c && a != c {
						distinct++
					}
				}
				for j := i; j+2 < k; j += 3 {
					if a, b, c := read(j), read(j+1), read(j+2); a != b && b != c && a != c {
						shared++
					}
				}
				triples := run / 3
				if high < run && float64(shared) > 0.9*float64(triples) && high*6 > run/8 {
					form := "list"
					// In a strip nearly all triples are three different numbers, whichever
					// index they begin at, and there are hardly more indices than vertices.
					if float64(distinct) > 0.97*float64(run-2) && run < 3*high {
						form = "strip"
					}
					out = append(out, IndexRow{At: at + int64(i*size), Count: triples * 3, Format: fmt.Sprintf("u%d", 8*size), Form: form, Highest: high,
						Evidence: fmt.Sprintf("%d of %d triples are three different numbers, up to %d", shared, triples, high)})
				}
				i = k
				continue
			}
			i = max(i+1, k-1)
		}
	}
	slices.SortStableFunc(out, func(a, b IndexRow) int { return cmp.Compare(b.Count, a.Count) })
	return out[:min(len(out), 6)]
}
