package voxel

import (
	"slices"

	"excavate/core/scene"
)

// edited is a volume like v with another grid.
func edited(v *scene.Volume, g *grid) *scene.Volume {
	out := *v
	out.Dims = g.dims
	g.store(&out)
	return &out
}

// Recoloured is a volume whose colours are others: to says for each number of
// the old palette which of the new one it becomes.
func Recoloured(v *scene.Volume, palette []scene.Swatch, to []uint16) *scene.Volume {
	out := *v
	out.Palette = palette
	out.Blocks = make([]uint16, len(v.Blocks))
	for i, c := range v.Blocks {
		if c != 0 {
			out.Blocks[i] = to[c-1]
		}
	}
	return &out
}

// hollow empties what lies more than depth voxels within, counted through the
// sides.
func (g *grid) hollow(depth int) int {
	inner := g.eroded(depth)
	n := 0
	for b := range g.blocks {
		if inner.blocks[b] == nil {
			continue
		}
		if inner.blocks[b].full() {
			g.blocks[b] = nil
			n += blockVoxels
			continue
		}
		own := g.own(b)
		for i, c := range &inner.blocks[b].v {
			if c != 0 {
				own.v[i] = 0
				n++
			}
		}
	}
	return n
}

// eroded is the grid without its outermost voxels, depth times.
func (g *grid) eroded(depth int) *grid {
	now := g.copy()
	for range depth {
		next := now.copy()
		masks, buried := now.masks(), now.buried()
		e := &exposed{}
		for b := range now.blocks {
			if now.blocks[b] == nil || buried[b] {
				continue
			}
			now.show(masks, b, e)
			for k := range Side * Side {
				eachBit(e.any(k), func(x int) { next.own(b).v[k*Side+x] = 0 })
			}
		}
		now = next
	}
	return now
}

// copy is a grid that shares all blocks until they are written to.
func (g *grid) copy() *grid {
	out := *g
	out.blocks = slices.Clone(g.blocks)
	for _, c := range out.blocks {
		if c != nil {
			c.shared = true
		}
	}
	return &out
}

// Hollow empties what lies more than depth voxels within; it returns how many
// voxels that were.
func Hollow(v *scene.Volume, depth int) (*scene.Volume, int) {
	g := open(v)
	n := g.hollow(depth)
	return edited(v, g), n
}

// Fill fills what the outside does not reach through the sides of voxels, with
// the colour of what lies beside; it returns how many voxels that were.
func Fill(v *scene.Volume) (*scene.Volume, int) {
	g := open(v)
	reached := g.outside()
	n := 0
	at := func(x, y, z int) int { return (z*g.dims[1]+y)*g.dims[0] + x }
	for z := range g.dims[2] {
		for y := range g.dims[1] {
			last := uint16(1)
			for x := range g.dims[0] {
				if c := g.at(x, y, z); c != 0 {
					last = c
				} else if k := at(x, y, z); reached[k/64]>>(k%64)&1 == 0 {
					g.set(x, y, z, last)
					n++
				}
			}
		}
	}
	return edited(v, g), n
}

// outside marks, a bit a voxel, what is empty and reached from the grid's rim.
func (g *grid) outside() []uint64 {
	d := g.dims
	seen := make([]uint64, (d[0]*d[1]*d[2]+63)/64)
	at := func(x, y, z int) int { return (z*d[1]+y)*d[0] + x }
	var queue []int
	visit := func(x, y, z int) {
		if !g.inside(x, y, z) {
			return
		}
		k := at(x, y, z)
		if seen[k/64]>>(k%64)&1 == 1 || g.at(x, y, z) != 0 {
			return
		}
		seen[k/64] |= 1 << (k % 64)
		queue = append(queue, k)
	}
	for a := range d[0] {
		for b := range d[1] {
			visit(a, b, 0)
			visit(a, b, d[2]-1)
		}
	}
	for a := range d[0] {
		for c := range d[2] {
			visit(a, 0, c)
			visit(a, d[1]-1, c)
		}
	}
	for b := range d[1] {
		for c := range d[2] {
			visit(0, b, c)
			visit(d[0]-1, b, c)
		}
	}
	for len(queue) > 0 {
		k := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		x, y, z := k%d[0], k/d[0]%d[1], k/(d[0]*d[1])
		for _, s := range steps {
			visit(x+s[0], y+s[1], z+s[2])
		}
	}
	return seen
}

// Erase empties the voxels that a rule takes and returns how many those were.
func Erase(v *scene.Volume, takes func(x, y, z int, c uint16) bool) (*scene.Volume, int) {
	g := open(v)
	n := 0
	var gone [][3]int
	for b := range g.blocks {
		gone = gone[:0]
		g.eachIn(b, func(x, y, z int, c uint16) {
			if takes(x, y, z, c) {
				gone = append(gone, [3]int{x, y, z})
			}
		})
		for _, p := range gone {
			g.set(p[0], p[1], p[2], 0)
		}
		n += len(gone)
	}
	return edited(v, g), n
}

// DropLoose empties bits of fewer than so many voxels. Voxels that share a side
// hang together. It returns how many bits and voxels those were.
func DropLoose(v *scene.Volume, fewer int) (_ *scene.Volume, bits, voxels int) {
	g := open(v)
	seen := newGrid(g.dims)
	var bit [][3]int
	var gone [][3]int
	g.each(func(x, y, z int, _ uint16) {
		if seen.at(x, y, z) != 0 {
			return
		}
		bit = append(bit[:0], [3]int{x, y, z})
		seen.set(x, y, z, 1)
		for k := 0; k < len(bit); k++ {
			for _, s := range steps {
				q := [3]int{bit[k][0] + s[0], bit[k][1] + s[1], bit[k][2] + s[2]}
				if g.at(q[0], q[1], q[2]) != 0 && seen.at(q[0], q[1], q[2]) == 0 {
					seen.set(q[0], q[1], q[2], 1)
					bit = append(bit, q)
				}
			}
		}
		if len(bit) < fewer {
			bits++
			gone = append(gone, bit...)
		}
	})
	for _, p := range gone {
		g.set(p[0], p[1], p[2], 0)
	}
	return edited(v, g), bits, len(gone)
}

// Grow adds voxels at all sides, depth times, of the colour beside; the grid
// grows with them.
func Grow(v *scene.Volume, depth int) *scene.Volume {
	g := open(v)
	wide := newGrid([3]int{g.dims[0] + 2*depth, g.dims[1] + 2*depth, g.dims[2] + 2*depth})
	g.each(func(x, y, z int, c uint16) { wide.set(x+depth, y+depth, z+depth, c) })
	type put struct {
		p [3]int
		c uint16
	}
	for range depth {
		var add []put
		wide.each(func(x, y, z int, c uint16) {
			for _, s := range steps {
				q := [3]int{x + s[0], y + s[1], z + s[2]}
				if wide.inside(q[0], q[1], q[2]) && wide.at(q[0], q[1], q[2]) == 0 {
					add = append(add, put{q, c})
				}
			}
		})
		for _, a := range add {
			if wide.at(a.p[0], a.p[1], a.p[2]) == 0 {
				wide.set(a.p[0], a.p[1], a.p[2], a.c)
			}
		}
	}
	out := edited(v, wide)
	for k := range out.Origin {
		out.Origin[k] -= float32(depth) * v.Size
	}
	return out
}

// Shrink takes the outermost voxels away, depth times. What comes to light keeps
// its own colour.
func Shrink(v *scene.Volume, depth int) *scene.Volume { return edited(v, open(v).eroded(depth)) }

// Mirror makes one half of a volume the other's mirror image: the low half along
// an axis stays, or the high one. In the middle of an odd number is a layer that
// stays.
func Mirror(v *scene.Volume, axis int, high bool) *scene.Volume {
	g := open(v)
	out := newGrid(g.dims)
	n := g.dims[axis]
	g.each(func(x, y, z int, c uint16) {
		p := [3]int{x, y, z}
		if at := 2*p[axis] + 1; at != n && high != (at > n) {
			return
		}
		out.set(p[0], p[1], p[2], c)
		p[axis] = n - 1 - p[axis]
		out.set(p[0], p[1], p[2], c)
	})
	return edited(v, out)
}
