package voxel

import (
	"math/bits"

	"excavate/core/parallel"
)

// rows are a block's voxels as bits: 32 along x in a number, by y and then z.
type rows [Side * Side]uint32

// nothing and everything are the rows of a block that is empty, and of one that is
// wholly filled. No other mask of a grid is equal to everything: it is told by
// its address.
var nothing, everything = rows{}, func() (r rows) {
	for k := range r {
		r[k] = ^uint32(0)
	}
	return r
}()

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
		switch r := of[c]; {
		case c == nil || *r == nothing:
		case *r == everything:
			out[i] = &everything
		default:
			out[i] = r
		}
	}
	return out
}

// exposed are the voxels of a block whose side shows, by the direction in which
// it looks (as steps has them).
type exposed [6]rows

// show finds them.
func (g *grid) show(masks []*rows, block int, e *exposed) {
	own := masks[block]
	beside := func(direction int) *rows {
		if b, inside := g.beside(block, direction); inside && masks[b] != nil {
			return masks[b]
		}
		return &nothing
	}
	low, high := beside(0), beside(1)
	for k, m := range own {
		e[0][k] = m &^ (m<<1 | low[k]>>31)
		e[1][k] = m &^ (m>>1 | high[k]<<31)
	}
	// One row further along y, and along z; at the block's side that of the next.
	for direction := 2; direction < 6; direction++ {
		step := steps[direction][1] + Side*steps[direction][2]
		next := beside(direction)
		for k, m := range own {
			if at, other := face(k, direction); at != 0 {
				e[direction][k] = m &^ next[other]
			} else {
				e[direction][k] = m &^ own[k+step]
			}
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
