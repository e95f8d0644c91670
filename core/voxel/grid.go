package voxel

import (
	"hash/crc32"
	"slices"

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

func (g *grid) set(x, y, z int, c uint16) {
	b, k := g.place(x, y, z)
	if g.blocks[b] == nil && c == 0 {
		return
	}
	g.own(b).v[k] = c
}

// corner is the first voxel of a block.
func (g *grid) corner(block int) (x, y, z int) {
	return block % g.n[0] * Side, block / g.n[0] % g.n[1] * Side, block / (g.n[0] * g.n[1]) * Side
}

// steps lead to the six neighbours of a voxel.
var steps = [6][3]int{{-1, 0, 0}, {1, 0, 0}, {0, -1, 0}, {0, 1, 0}, {0, 0, -1}, {0, 0, 1}}

// beside is the block next to one in a direction, if it is in the grid.
func (g *grid) beside(block, direction int) (int, bool) {
	p := [3]int{block % g.n[0], block / g.n[0] % g.n[1], block / (g.n[0] * g.n[1])}
	for a := range 3 {
		if p[a] += steps[direction][a]; p[a] < 0 || p[a] >= g.n[a] {
			return 0, false
		}
	}
	return (p[2]*g.n[1]+p[1])*g.n[0] + p[0], true
}

// buried tells whether nothing of a block shows: it and its six neighbours are
// wholly filled.
func (g *grid) buried(masks []*rows, block int) bool {
	if masks[block] != &everything {
		return false
	}
	for d := range steps {
		if b, inside := g.beside(block, d); !inside || masks[b] != &everything {
			return false
		}
	}
	return true
}

// store puts the grid into a volume; equal blocks become one.
func (g *grid) store(v *scene.Volume) {
	v.Index = make([]uint32, len(g.blocks))
	kept := known{}
	number := map[*cells]uint32{}
	var list []*cells
	for i, c := range g.blocks {
		if c == nil {
			continue
		}
		k, ok := number[c]
		if !ok {
			if one := kept.equal(c); one != nil {
				if k = number[one]; k == 0 {
					list = append(list, one)
					k = uint32(len(list))
					number[one] = k
				}
			}
			number[c] = k
		}
		v.Index[i] = k
	}
	v.Blocks = make([]uint16, 0, len(list)*blockVoxels)
	for _, c := range list {
		v.Blocks = append(v.Blocks, c.v[:]...)
	}
}

// known are blocks by a checksum of what they hold.
type known map[uint32][]*cells

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// equal is the block with the same voxels that is known, or the block itself, which
// is then; nil if it is empty.
func (k known) equal(c *cells) *cells {
	if c.v == [blockVoxels]uint16{} {
		return nil
	}
	sum := crc32.Checksum(numlist.Bytes(c.v[:]), castagnoli)
	for _, one := range k[sum] {
		if one.v == c.v {
			return one
		}
	}
	k[sum] = append(k[sum], c)
	return c
}
