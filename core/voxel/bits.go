package voxel

import (
	"math/bits"

	"excavate/core/parallel"
)

// rows are a block's voxels as bits: 32 along x in a number, by y and then z.
type rows [Side * Side]uint32

// masks are the rows of every block, nil where it is empty. Blocks that are one
// share theirs.
func (g *grid) masks() []*rows {
	of := map[*cells]*rows{}
	var all []*cells
	for _, c := range g.blocks {
		if c != nil && of[c] == nil {
			of[c] = &rows{}
			all = append(all, c)
		}
	}
	parallel.Share(len(all), 16, func(from, to int) {
		for _, c := range all[from:to] {
			r := of[c]
			for k := range r {
				var m uint32
				for x, v := range c.v[k*Side : (k+1)*Side] {
					if v != 0 {
						m |= 1 << x
					}
				}
				r[k] = m
			}
		}
	})
	out := make([]*rows, len(g.blocks))
	for i, c := range g.blocks {
		if c != nil {
			out[i] = of[c]
		}
	}
	return out
}

// exposed are the voxels of a block whose side shows, by the direction in which
// it looks (as steps has them).
type exposed [6]rows

var nothing rows

// show finds them.
func (g *grid) show(masks []*rows, block int, e *exposed) {
	own := masks[block]
	beside := func(direction int) *rows {
		s := steps[direction]
		p := [3]int{block % g.n[0], block / g.n[0] % g.n[1], block / (g.n[0] * g.n[1])}
		for a := range 3 {
			if p[a] += s[a]; p[a] < 0 || p[a] >= g.n[a] {
				return &nothing
			}
		}
		if r := masks[(p[2]*g.n[1]+p[1])*g.n[0]+p[0]]; r != nil {
			return r
		}
		return &nothing
	}
	low, high := beside(0), beside(1)
	for k, m := range own {
		e[0][k] = m &^ (m<<1 | low[k]>>31)
		e[1][k] = m &^ (m>>1 | high[k]<<31)
	}
	// One row further along y, and along z.
	for direction, step := range map[int]int{2: -1, 3: 1, 4: -Side, 5: Side} {
		other := beside(direction)
		for k, m := range own {
			at := k%Side + step
			if direction >= 4 {
				at = k + step
			}
			switch {
			case direction < 4 && at >= 0 && at < Side:
				m &^= own[k+step]
			case direction < 4:
				m &^= other[k-step*(Side-1)]
			case at >= 0 && at < Side*Side:
				m &^= own[at]
			default:
				m &^= other[(at+Side*Side)%(Side*Side)]
			}
			e[direction][k] = m
		}
	}
}

// any is the union over all directions.
func (e *exposed) any(k int) uint32 {
	return e[0][k] | e[1][k] | e[2][k] | e[3][k] | e[4][k] | e[5][k]
}

// eachBit calls f with the places of the bits that are set.
func eachBit(m uint32, f func(x int)) {
	for m != 0 {
		f(bits.TrailingZeros32(m))
		m &= m - 1
	}
}
