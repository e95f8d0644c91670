package voxel

import (
	"hash/crc64"

	"excavate/core/numlist"
	"excavate/core/scene"
)

// grid is a volume that is being changed: blocks by place, nil where empty. A
// block may stand at several places; it is copied before it is written to.
type grid struct {
	dims, n [3]int
	blocks  []*cells
}

// cells are a block's voxels.
type cells struct {
	v      [blockVoxels]uint16
	shared bool
}

func newGrid(dims [3]int) *grid {
	g := &grid{dims: dims, n: (&scene.Volume{Dims: dims}).Grid()}
	g.blocks = make([]*cells, g.n[0]*g.n[1]*g.n[2])
	return g
}

// open is a grid of a volume.
func open(v *scene.Volume) *grid {
	g := newGrid(v.Dims)
	of := make([]*cells, len(v.Blocks)/blockVoxels+1)
	for k := range of[1:] {
		of[k+1] = &cells{shared: true}
		copy(of[k+1].v[:], v.Blocks[k*blockVoxels:])
	}
	for i, k := range v.Index {
		g.blocks[i] = of[k]
	}
	return g
}

// place is where a voxel lies: its block, and where in it.
func (g *grid) place(x, y, z int) (block, within int) {
	return (z/Side*g.n[1]+y/Side)*g.n[0] + x/Side, (z%Side*Side+y%Side)*Side + x%Side
}

func (g *grid) inside(x, y, z int) bool {
	return uint(x) < uint(g.dims[0]) && uint(y) < uint(g.dims[1]) && uint(z) < uint(g.dims[2])
}

// at is a voxel; 0 outside.
func (g *grid) at(x, y, z int) uint16 {
	if !g.inside(x, y, z) {
		return 0
	}
	b, k := g.place(x, y, z)
	if g.blocks[b] == nil {
		return 0
	}
	return g.blocks[b].v[k]
}

// own is a block that may be written to.
func (g *grid) own(block int) *cells {
	switch b := g.blocks[block]; {
	case b == nil:
		g.blocks[block] = &cells{}
	case b.shared:
		c := *b
		c.shared = false
		g.blocks[block] = &c
	}
	return g.blocks[block]
}

func (g *grid) set(x, y, z int, c uint16) {
	b, k := g.place(x, y, z)
	if g.blocks[b] == nil && c == 0 {
		return
	}
	g.own(b).v[k] = c
}

// each calls f with every voxel that is filled.
func (g *grid) each(f func(x, y, z int, c uint16)) {
	for b := range g.blocks {
		g.eachIn(b, f)
	}
}

func (g *grid) eachIn(block int, f func(x, y, z int, c uint16)) {
	cells := g.blocks[block]
	if cells == nil {
		return
	}
	x0, y0, z0 := g.corner(block)
	for k, c := range &cells.v {
		if c != 0 {
			f(x0+k%Side, y0+k/Side%Side, z0+k/(Side*Side), c)
		}
	}
}

// corner is the first voxel of a block.
func (g *grid) corner(block int) (x, y, z int) {
	return block % g.n[0] * Side, block / g.n[0] % g.n[1] * Side, block / (g.n[0] * g.n[1]) * Side
}

// steps lead to the six neighbours of a voxel.
var steps = [6][3]int{{-1, 0, 0}, {1, 0, 0}, {0, -1, 0}, {0, 1, 0}, {0, 0, -1}, {0, 0, 1}}

// shows tells whether a side of a voxel shows.
func (g *grid) shows(x, y, z int) bool {
	for _, s := range steps {
		if g.at(x+s[0], y+s[1], z+s[2]) == 0 {
			return true
		}
	}
	return false
}

// full tells whether every voxel of a block is filled.
func (c *cells) full() bool {
	for _, v := range &c.v {
		if v == 0 {
			return false
		}
	}
	return true
}

// buried tells which blocks lie wholly within others: they and their six
// neighbours are filled.
func (g *grid) buried() []bool {
	known := map[*cells]bool{}
	whole := make([]bool, len(g.blocks))
	for i, c := range g.blocks {
		if c == nil {
			continue
		}
		full, ok := known[c]
		if !ok {
			full = c.full()
			known[c] = full
		}
		whole[i] = full
	}
	out := make([]bool, len(g.blocks))
	for i := range out {
		x, y, z := i%g.n[0], i/g.n[0]%g.n[1], i/(g.n[0]*g.n[1])
		out[i] = whole[i]
		for _, s := range steps {
			p := [3]int{x + s[0], y + s[1], z + s[2]}
			for a := range 3 {
				if p[a] < 0 || p[a] >= g.n[a] {
					out[i] = false
				}
			}
			out[i] = out[i] && whole[(p[2]*g.n[1]+p[1])*g.n[0]+p[0]]
		}
	}
	return out
}

// store puts the grid into a volume; equal blocks become one.
func (g *grid) store(v *scene.Volume) {
	v.Index, v.Blocks = make([]uint32, len(g.blocks)), nil
	byCells := map[*cells]uint32{}
	bySum := map[uint64][]uint32{}
	for i, c := range g.blocks {
		if c == nil {
			continue
		}
		k, ok := byCells[c]
		if !ok {
			k = addBlock(v, c, bySum)
			byCells[c] = k
		}
		v.Index[i] = k
	}
}

var ecma = crc64.MakeTable(crc64.ECMA)

// addBlock stores a block and returns its number; 0 for an empty one.
func addBlock(v *scene.Volume, c *cells, bySum map[uint64][]uint32) uint32 {
	if c.v == [blockVoxels]uint16{} {
		return 0
	}
	sum := crc64.Checksum(numlist.Bytes(c.v[:]), ecma)
	for _, k := range bySum[sum] {
		if [blockVoxels]uint16(v.Blocks[(k-1)*blockVoxels:k*blockVoxels]) == c.v {
			return k
		}
	}
	v.Blocks = append(v.Blocks, c.v[:]...)
	k := uint32(len(v.Blocks) / blockVoxels)
	bySum[sum] = append(bySum[sum], k)
	return k
}
