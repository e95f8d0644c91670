package trial

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
)

// Repeats finds where some bytes of a file stand again, up to most places, and
// the step between them if most are the same.
func Repeats(ctx context.Context, r io.ReaderAt, size int64, what []byte, most int) (places []int64, more bool, step int64, err error) {
	p := &Pattern{bytes: what, any: make([]bool, len(what)), fixed: what}
	for at := int64(0); ; {
		k, err := p.Find(ctx, r, at, size)
		if err != nil {
			return nil, false, 0, err
		}
		if k < 0 {
			break
		}
		if len(places) == most {
			more = true
			break
		}
		places = append(places, k)
		at = k + 1
	}
	count := map[int64]int{}
	for i := 1; i < len(places); i++ {
		d := places[i] - places[i-1]
		if count[d]++; count[d] > count[step] {
			step = d
		}
	}
	if len(places) < 3 || 2*count[step] < len(places)-1 {
		step = 0
	}
	return places, more, step, nil
}

// Range is bytes of a file.
type Range struct{ At, Size int64 }

// Compare finds where two files differ, up to most ranges; differences with
// fewer than four equal bytes between them are one. Bytes beyond the end of
// the shorter one are a difference.
func Compare(ctx context.Context, a, b io.ReaderAt, sizeA, sizeB int64, most int) (ranges []Range, differing int64, more bool, err error) {
	const chunk = 1 << 20
	x, y := make([]byte, chunk), make([]byte, chunk)
	add := func(at, n int64) {
		differing += n
		if k := len(ranges) - 1; k >= 0 && at-ranges[k].At-ranges[k].Size < 4 {
			ranges[k].Size = at + n - ranges[k].At
			return
		}
		if len(ranges) == most {
			more = true
			return
		}
		ranges = append(ranges, Range{at, n})
	}
	both := min(sizeA, sizeB)
	for at := int64(0); at < both; at += chunk {
		if err := ctx.Err(); err != nil {
			return nil, 0, false, err
		}
		n := min(chunk, both-at)
		for _, s := range []struct {
			r io.ReaderAt
			b []byte
		}{{a, x}, {b, y}} {
			if k, err := s.r.ReadAt(s.b[:n], at); int64(k) < n {
				return nil, 0, false, fmt.Errorf("reading at offset %d: %w", at, err)
			}
		}
		if bytes.Equal(x[:n], y[:n]) {
			continue
		}
		for i := int64(0); i < n; {
			if x[i] == y[i] {
				i++
				continue
			}
			k := i
			for k < n && x[k] != y[k] {
				k++
			}
			add(at+i, k-i)
			i = k
		}
	}
	if sizeA != sizeB {
		add(both, max(sizeA, sizeB)-both)
	}
	slices.SortFunc(ranges, func(a, b Range) int { return cmp.Compare(a.At, b.At) })
	return ranges, differing, more, nil
}
