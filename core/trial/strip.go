// Package trial helps with bytes of which nothing is known: it says what they
// look like, guesses the width of a picture and the stride of a table, finds
// patterns, and tries packing methods. Every guess comes with its evidence.
package trial

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"runtime"
	"sync/atomic"

	"excavate/core/parallel"
)

// Class is what a run of bytes looks like.
type Class string

// The classes.
const (
	Zeros   Class = "zeros"   // one byte over and over
	Text    Class = "text"    // printable
	Numbers Class = "numbers" // 32-bit floats of ordinary size
	Indices Class = "indices" // 16- or 32-bit whole numbers near each other
	Table   Class = "table"   // records: what is alike repeats at a stride
	Picture Class = "picture" // neighbours differ little
	Packed  Class = "packed"  // as even as noise: compressed or encrypted
	Other   Class = "other"
)

// Classes lists them in the order in which a legend shows them.
var Classes = []Class{Table, Numbers, Indices, Picture, Packed, Text, Zeros, Other}

// Cell is a part of a file and what it looks like.
type Cell struct {
	At, Size int64
	Class    Class
	Stride   int    // of a table, in bytes
	Evidence string // what the class rests on
}

const (
	sample   = 4096 // bytes of a cell that are looked at
	fewBytes = 64
)

// Strip classes n parts of r between from and to. Of each part at most 4 KB
// are looked at: a coarse answer costs n reads, whatever the file's size.
func Strip(ctx context.Context, r io.ReaderAt, from, to int64, n int) ([]Cell, error) {
	if from < 0 || to < from || n < 1 || n > 1<<16 {
		return nil, fmt.Errorf("a strip of %d parts from %d to %d cannot be made", n, from, to)
	}
	size := to - from
	n = int(min(int64(n), max(1, (size+fewBytes-1)/fewBytes)))
	cells := make([]Cell, n)
	var next atomic.Int64
	var failed atomic.Value
	var wg parallel.Group
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			buf := make([]byte, sample)
			for ctx.Err() == nil && failed.Load() == nil {
				i := next.Add(1) - 1
				if i >= int64(n) {
					return
				}
				c := &cells[i]
				c.At = from + part(size, i, int64(n))
				c.Size = from + part(size, i+1, int64(n)) - c.At
				b := buf[:min(c.Size, sample)]
				if _, err := r.ReadAt(b, c.At); err != nil && err != io.EOF {
					failed.Store(err)
					return
				}
				c.Class, c.Stride, c.Evidence = Classify(b)
			}
		})
	}
	wg.Wait()
	if err, ok := failed.Load().(error); ok {
		return nil, err
	}
	return cells, ctx.Err()
}

// part is size * i / n without overflow.
func part(size, i, n int64) int64 { return size/n*i + size%n*i/n }

// Classify says what bytes look like.
func Classify(b []byte) (class Class, stride int, evidence string) {
	if len(b) == 0 {
		return Other, 0, "no bytes"
	}
	var count [256]int
	for _, c := range b {
		count[c]++
	}
	most, printable := 0, count['\n']+count['\r']+count['\t']
	entropy := 0.0
	for c, n := range count {
		most = max(most, n)
		if c >= 0x20 && c < 0x7f {
			printable += n
		}
		if n > 0 {
			p := float64(n) / float64(len(b))
			entropy -= p * math.Log2(p)
		}
	}
	of := func(n int) float64 { return 100 * float64(n) / float64(len(b)) }
	switch {
	case of(most) >= 98:
		return Zeros, 0, fmt.Sprintf("%.0f%% of the bytes are alike", of(most))
	case of(printable) >= 92:
		return Text, 0, fmt.Sprintf("%.0f%% of the bytes are printable", of(printable))
	}
	if len(b) < fewBytes {
		return Other, 0, "too few bytes to tell"
	}
	// Noise of n bytes has an entropy a little below 8 bits.
	even := 8 - 255/(2*math.Ln2*float64(len(b))) - 0.12
	if entropy >= even {
		return Packed, 0, fmt.Sprintf("%.2f bits a byte, as noise has", entropy)
	}
	if share := floats(b); share >= 0.9 {
		return Numbers, 0, fmt.Sprintf("%.0f%% of the 32-bit words are floats of ordinary size", 100*share)
	}
	if width, share := indices(b); share >= 0.8 {
		return Indices, 0, fmt.Sprintf("%.0f%% of the %d-bit words lie within 64 of the one before", 100*share, width)
	}
	s, score, base := Stride(b, 96)
	if s > 1 && score >= 0.30 && score >= base+0.15 {
		return Table, s, fmt.Sprintf("%.0f%% of the bytes repeat after %d, %.0f%% after other distances", 100*score, s, 100*base)
	}
	if step, mean := smooth(b); mean < 18 {
		return Picture, 0, fmt.Sprintf("bytes %d apart differ by %.0f on average", step, mean)
	}
	return Other, 0, fmt.Sprintf("%.2f bits a byte", entropy)
}

// floats is the share of 32-bit words, in the better byte order and
// alignment, that are 0 or from a millionth to a million, where enough differ.
func floats(b []byte) float64 {
	best := 0.0
	for _, o := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		for a := range 4 {
			good, zero, n := 0, 0, 0
			for i := a; i+4 <= len(b); i += 4 {
				w := o.Uint32(b[i:])
				n++
				if w<<1 == 0 {
					zero++
				} else if e := int(w >> 23 & 255); e >= 127-20 && e <= 127+20 {
					good++
				}
			}
			// Whole numbers of 32 bits are no floats, and zeros prove nothing.
			if n > 0 && good*3 > n {
				best = max(best, float64(good+zero)/float64(n))
			}
		}
	}
	return best
}

// indices is the share of whole numbers that lie near the one before.
func indices(b []byte) (width int, share float64) {
	for _, size := range []int{2, 4} {
		for _, o := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
			near, same, n, last := 0, 0, 0, int64(0)
			for i := 0; i+size <= len(b); i += size {
				v := int64(o.Uint16(b[i:]))
				if size == 4 {
					v = int64(o.Uint32(b[i:]))
				}
				if i > 0 {
					n++
					if d := v - last; d == 0 {
						same++
					} else if d > -64 && d < 64 {
						near++
					}
				}
				last = v
			}
			if n > 0 && near > same {
				if s := float64(near+same) / float64(n); s > share {
					width, share = 8*size, s
				}
			}
		}
	}
	return width, share
}

// Stride finds the distance, from 2 to most bytes, after which bytes repeat
// most. score is the share of bytes that are the same at that distance, base
// the median over all distances.
func Stride(b []byte, most int) (stride int, score, base float64) {
	most = min(most, len(b)/4)
	scores := make([]float64, 0, most)
	for s := 2; s <= most; s++ {
		same, n := 0, 0
		for i := 0; i+s < len(b); i++ {
			if b[i] == b[i+s] && b[i] != 0 { // zeros repeat at any distance
				same++
			}
			n++
		}
		scores = append(scores, float64(same)/float64(n))
	}
	if len(scores) == 0 {
		return 0, 0, 0
	}
	best := 0
	for i, v := range scores {
		if v > scores[best] {
			best = i
		}
	}
	// Multiples of the stride are as good; the smallest that is nearly as good
	// is the one.
	for i, v := range scores[:best] {
		if (best+2)%(i+2) == 0 && v >= 0.93*scores[best] {
			best = i
			break
		}
	}
	return best + 2, scores[best], median(scores)
}

func median(v []float64) float64 {
	s := append([]float64{}, v...)
	for i := 1; i < len(s); i++ {
		for k := i; k > 0 && s[k] < s[k-1]; k-- {
			s[k], s[k-1] = s[k-1], s[k]
		}
	}
	return s[len(s)/2]
}

// smooth is the smallest mean difference between bytes 1 to 4 apart.
func smooth(b []byte) (step int, mean float64) {
	mean = 255
	for k := 1; k <= 4; k++ {
		sum := 0
		for i := 0; i+k < len(b); i++ {
			d := int(b[i]) - int(b[i+k])
			sum += max(d, -d)
		}
		if m := float64(sum) / float64(len(b)-k); m < mean {
			step, mean = k, m
		}
	}
	return step, mean
}
