package voxel

import (
	"context"
	"math/bits"

	"excavate/core/scene"
)

// What is done to the shape of a volume goes by its blocks and by rows of bits.
// Blocks that are wholly filled or wholly empty are looked at once.

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

// eroded are the masks of a grid without its outermost voxels, depth times.
func (g *grid) eroded(ctx context.Context, depth int) ([]*rows, error) {
	now := g.masks()
	e := &exposed{}
	for range depth {
		next := make([]*rows, len(now))
		left := false
		for b, m := range now {
			if b&255 == 0 && ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if m == nil {
				continue
			}
			if g.buried(now, b) {
				next[b], left = m, true
				continue
			}
			g.show(now, b, e)
			thin := &rows{}
			for k := range m {
				thin[k] = m[k] &^ e.any(k)
			}
			if *thin != nothing {
				next[b], left = thin, true
			}
		}
		if now = next; !left {
			break
		}
	}
	return now, nil
}

// take empties the voxels of a block that a mask has and returns how many of
// them were filled.
func (g *grid) take(block int, m *rows) (n int) {
	if m == nil || g.blocks[block] == nil {
		return 0
	}
	c := g.blocks[block]
	for k, row := range m {
		eachBit(row, func(x int) {
			if c.v[k*Side+x] != 0 {
				n++
			}
		})
	}
	if n == 0 {
		return 0
	}
	if m == &everything {
		g.blocks[block] = nil
		return n
	}
	own := g.own(block)
	for k, row := range m {
		eachBit(row, func(x int) { own.v[k*Side+x] = 0 })
	}
	return n
}

// hollow empties what lies more than depth voxels within, counted through the
// sides.
func (g *grid) hollow(ctx context.Context, depth int) (n int, err error) {
	inner, err := g.eroded(ctx, depth)
	for b := range inner {
		n += g.take(b, inner[b])
	}
	return n, err
}

// Hollow empties what lies more than depth voxels within; it returns how many
// voxels that were.
func Hollow(ctx context.Context, v *scene.Volume, depth int) (*scene.Volume, int, error) {
	g := open(v)
	n, err := g.hollow(ctx, depth)
	if err != nil {
		return nil, 0, err
	}
	return edited(v, g), n, nil
}

// Shrink takes the outermost voxels away, depth times. What comes to light keeps
// its own colour.
func Shrink(ctx context.Context, v *scene.Volume, depth int) (*scene.Volume, error) {
	g := open(v)
	left, err := g.eroded(ctx, depth)
	if err != nil {
		return nil, err
	}
	masks := g.masks()
	for b, m := range masks {
		if m == nil || m == left[b] {
			continue
		}
		gone := *m
		if left[b] != nil {
			for k := range gone {
				gone[k] &^= left[b][k]
			}
		}
		g.take(b, &gone)
	}
	return edited(v, g), nil
}

// Fill fills what the outside does not reach through the sides of voxels, with
// the colour of what lies beside; it returns how many voxels that were.
func Fill(ctx context.Context, v *scene.Volume) (*scene.Volume, int, error) {
	g := open(v)
	masks := g.masks()
	reached, err := g.flood(ctx, masks)
	if err != nil {
		return nil, 0, err
	}
	n := 0
	for line := range g.n[1] * g.n[2] { // of blocks along x
		var last [Side * Side]uint16 // the colour that was met last on each row
		for b := line * g.n[0]; b < (line+1)*g.n[0]; b++ {
			if reached[b] == &everything {
				continue
			}
			for k := range Side * Side {
				var out uint32
				if reached[b] != nil {
					out = reached[b][k]
				}
				for x := range Side {
					if c := g.blocks[b]; c != nil && c.v[k*Side+x] != 0 {
						last[k] = c.v[k*Side+x]
					} else if out>>x&1 == 0 {
						g.own(b).v[k*Side+x] = last[k]
						n++
					}
				}
			}
		}
	}
	return edited(v, g), n, nil
}

// flood marks what is empty and reached from outside of the grid.
func (g *grid) flood(ctx context.Context, masks []*rows) ([]*rows, error) {
	f := &flood{g: g, masks: masks, got: make([]*rows, len(masks)), waits: make([]bool, len(masks))}
	for b := range masks {
		for d := range steps {
			if _, inside := g.beside(b, d); !inside {
				f.enter(b, d, &everything)
			}
		}
	}
	for n := 0; len(f.queue) > 0; n++ {
		if n&255 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		b := f.queue[len(f.queue)-1]
		f.queue, f.waits[b] = f.queue[:len(f.queue)-1], false
		f.spread(b)
		for d := range steps {
			if to, inside := g.beside(b, d); inside {
				f.enter(to, d^1, f.got[b])
			}
		}
	}
	return f.got, nil
}

// flood goes from block to block.
type flood struct {
	g     *grid
	masks []*rows
	got   []*rows // what is reached of each block
	queue []int
	waits []bool // stands in the queue
}

// enter reaches into a block from its side in a direction, where the block there
// is reached.
func (f *flood) enter(b, direction int, from *rows) {
	if f.got[b] == &everything {
		return
	}
	empty := f.masks[b] == nil
	in := rows{}
	for k := range in {
		own, other := face(k, direction)
		in[k] = shifted(from[other], direction) & own
		if !empty {
			in[k] &^= f.masks[b][k]
		}
	}
	if empty && in != nothing { // all of it is
		f.got[b] = &everything
		f.wait(b)
		return
	}
	more := false
	for k, m := range in {
		more = more || f.got[b] == nil && m != 0 || f.got[b] != nil && m&^f.got[b][k] != 0
	}
	if !more {
		return
	}
	if f.got[b] == nil {
		f.got[b] = &rows{}
	}
	for k, m := range in {
		f.got[b][k] |= m
	}
	f.wait(b)
}

func (f *flood) wait(b int) {
	if !f.waits[b] {
		f.waits[b] = true
		f.queue = append(f.queue, b)
	}
}

// face tells of row k of a block which bits lie at its side in a direction, and
// which row of the block beside it they touch.
func face(k, direction int) (own uint32, other int) {
	const all = ^uint32(0)
	y, z := k%Side, k/Side
	switch direction {
	case 0:
		return 1, k
	case 1:
		return 1 << (Side - 1), k
	case 2:
		if y == 0 {
			return all, k + Side - 1
		}
	case 3:
		if y == Side-1 {
			return all, k - (Side - 1)
		}
	case 4:
		if z == 0 {
			return all, k + Side*(Side-1)
		}
	case 5:
		if z == Side-1 {
			return all, k - Side*(Side-1)
		}
	}
	return 0, k
}

// shifted are the bits of a row as they lie at the side where they touch.
func shifted(m uint32, direction int) uint32 {
	switch direction {
	case 0:
		return m >> (Side - 1)
	case 1:
		return m << (Side - 1)
	}
	return m
}

// spread reaches all that hangs together with what is reached within a block.
func (f *flood) spread(b int) {
	got, full := f.got[b], f.masks[b]
	if got == &everything || full == nil {
		return
	}
	for changed := true; changed; {
		changed = false
		for pass := range 2 { // up, and down again
			for i := range got {
				k := i
				if pass == 1 {
					k = len(got) - 1 - i
				}
				m := got[k]
				if k%Side > 0 {
					m |= got[k-1]
				}
				if k%Side < Side-1 {
					m |= got[k+1]
				}
				if k >= Side {
					m |= got[k-Side]
				}
				if k < Side*(Side-1) {
					m |= got[k+Side]
				}
				m &^= full[k]
				for was := uint32(0); was != m; {
					was = m
					m |= (m<<1 | m>>1) &^ full[k]
				}
				if m != got[k] {
					got[k], changed = m, true
				}
			}
		}
	}
}

// Erase empties the voxels from a place to before another whose colours are
// meant, by their places in the palette, and returns how many those were.
func Erase(ctx context.Context, v *scene.Volume, from, to [3]int, meant []bool) (*scene.Volume, int, error) {
	g := open(v)
	n := 0
	for b, c := range g.blocks {
		if b&255 == 0 && ctx.Err() != nil {
			return nil, 0, ctx.Err()
		}
		x0, y0, z0 := g.corner(b)
		low, high := [3]int{}, [3]int{}
		outside := c == nil
		for k, at := range [3]int{x0, y0, z0} {
			low[k], high[k] = max(from[k]-at, 0), min(to[k]-at, Side)
			outside = outside || low[k] >= high[k]
		}
		if outside {
			continue
		}
		m := rows{}
		for z := low[2]; z < high[2]; z++ {
			for y := low[1]; y < high[1]; y++ {
				k := z*Side + y
				for x := low[0]; x < high[0]; x++ {
					if i := c.v[k*Side+x]; i != 0 && meant[i-1] {
						m[k] |= 1 << x
					}
				}
			}
		}
		n += g.take(b, &m)
	}
	return edited(v, g), n, nil
}

// DropLoose empties bits of fewer than so many voxels. Voxels that share a side
// hang together. It returns how many bits and voxels those were.
func DropLoose(ctx context.Context, v *scene.Volume, fewer int) (_ *scene.Volume, bits, voxels int, err error) {
	g := open(v)
	p := newPieces(g)
	for b := range g.blocks {
		if b&255 == 0 && ctx.Err() != nil {
			return nil, 0, 0, ctx.Err()
		}
		p.join(b)
	}
	seen := map[int32]bool{}
	for b, m := range p.masks {
		if m == nil {
			continue
		}
		gone := rows{}
		p.eachRun(b, func(k int, run uint32, id int32) {
			root := p.root(id)
			if p.size[root] >= fewer {
				return
			}
			if !seen[root] {
				seen[root] = true
				bits++
			}
			gone[k] |= run
		})
		if gone != nothing {
			voxels += g.take(b, &gone)
		}
	}
	return edited(v, g), bits, voxels, nil
}

// pieces are the runs of voxels along x, and which of them hang together
// (Tarjan, "Efficiency of a Good But Not Linear Set Union Algorithm", 1975). A
// block that is wholly filled is one run.
type pieces struct {
	g      *grid
	masks  []*rows
	base   []int32               // of each block, its first run
	offset []*[Side * Side]int32 // of each row, its first run after that; nil for a whole block
	parent []int32
	size   []int // of roots, in voxels
}

func newPieces(g *grid) *pieces {
	p := &pieces{g: g, masks: g.masks()}
	p.base, p.offset = make([]int32, len(p.masks)), make([]*[Side * Side]int32, len(p.masks))
	add := func(n int) {
		p.parent = append(p.parent, int32(len(p.parent)))
		p.size = append(p.size, n)
	}
	for b, m := range p.masks {
		p.base[b] = int32(len(p.parent))
		switch m {
		case nil:
		case &everything:
			add(blockVoxels)
		default:
			p.offset[b] = &[Side * Side]int32{}
			for k, row := range m {
				p.offset[b][k] = int32(len(p.parent)) - p.base[b]
				for row != 0 {
					run := firstRun(row)
					row &^= run
					add(bits.OnesCount32(run))
				}
			}
		}
	}
	return p
}

// firstRun is the lowest run of bits that are set.
func firstRun(m uint32) uint32 {
	at := bits.TrailingZeros32(m)
	return (1<<bits.TrailingZeros32(^(m>>at)) - 1) << at
}

// id is the run that a voxel lies in.
func (p *pieces) id(b, k, x int) int32 {
	if p.offset[b] == nil {
		return p.base[b]
	}
	m := p.masks[b][k]
	begins := m &^ (m << 1)
	return p.base[b] + p.offset[b][k] + int32(bits.OnesCount32(begins&(2<<x-1))) - 1
}

func (p *pieces) eachRun(b int, f func(k int, run uint32, id int32)) {
	for k, m := range p.masks[b] {
		for m != 0 {
			run := firstRun(m)
			m &^= run
			f(k, run, p.id(b, k, bits.TrailingZeros32(run)))
		}
	}
}

func (p *pieces) root(i int32) int32 {
	for p.parent[i] != i {
		p.parent[i] = p.parent[p.parent[i]]
		i = p.parent[i]
	}
	return i
}

func (p *pieces) union(a, b int32) {
	if a, b = p.root(a), p.root(b); a != b {
		if p.size[a] < p.size[b] {
			a, b = b, a
		}
		p.parent[b], p.size[a] = a, p.size[a]+p.size[b]
	}
}

// meet joins the runs of two rows where both have a voxel, moved by a shift.
func (p *pieces) meet(a, k int, m uint32, b, j int, shift int) {
	for m != 0 {
		run := firstRun(m)
		m &^= run
		x := bits.TrailingZeros32(run)
		p.union(p.id(a, k, x), p.id(b, j, x+shift))
	}
}

// join joins the runs of a block with each other and with those of the blocks
// that follow it along each axis.
func (p *pieces) join(b int) {
	m := p.masks[b]
	if m == nil {
		return
	}
	if m != &everything {
		for k := range m {
			if k%Side < Side-1 {
				p.meet(b, k, m[k]&m[k+1], b, k+1, 0)
			}
			if k < Side*(Side-1) {
				p.meet(b, k, m[k]&m[k+Side], b, k+Side, 0)
			}
		}
	}
	for _, direction := range []int{1, 3, 5} {
		to, inside := p.g.beside(b, direction)
		if !inside || p.masks[to] == nil {
			continue
		}
		for k := range m {
			own, other := face(k, direction)
			both := m[k] & own & shifted(p.masks[to][other], direction)
			if direction == 1 {
				p.meet(b, k, both, to, other, -(Side - 1))
			} else {
				p.meet(b, k, both, to, other, 0)
			}
		}
	}
}

// Grow adds voxels at all sides, depth times, of the colour beside; the grid
// grows with them.
func Grow(ctx context.Context, v *scene.Volume, depth int) (*scene.Volume, error) {
	g := open(v)
	wide := newGrid([3]int{g.dims[0] + 2*depth, g.dims[1] + 2*depth, g.dims[2] + 2*depth})
	same := g.uniform()
	err := wide.make(ctx, func(low, high [3]int) (uint16, bool) {
		for k := range 3 {
			low[k], high[k] = low[k]-depth, high[k]-depth
		}
		return g.same(same, low, high)
	}, func(x, y, z int) uint16 { return g.at(x-depth, y-depth, z-depth) })
	if err != nil {
		return nil, err
	}
	type put struct {
		p [3]int
		c uint16
	}
	e := &exposed{}
	for range depth {
		var add []put
		masks := wide.masks()
		for b := range masks {
			if b&255 == 0 && ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if masks[b] == nil || wide.buried(masks, b) {
				continue
			}
			wide.show(masks, b, e)
			x0, y0, z0 := wide.corner(b)
			for d, s := range steps {
				for k, m := range e[d] {
					eachBit(m, func(x int) {
						q := [3]int{x0 + x + s[0], y0 + k%Side + s[1], z0 + k/Side + s[2]}
						if wide.inside(q[0], q[1], q[2]) {
							add = append(add, put{q, wide.blocks[b].v[k*Side+x]})
						}
					})
				}
			}
		}
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
	return out, nil
}

// Mirror makes one half of a volume the other's mirror image: the low half along
// an axis stays, or the high one. In the middle of an odd number is a layer that
// stays.
func Mirror(ctx context.Context, v *scene.Volume, axis int, high bool) (*scene.Volume, error) {
	g := open(v)
	out := newGrid(g.dims)
	n := g.dims[axis]
	from := func(at int) int {
		if twice := 2*at + 1; twice != n && high != (twice > n) {
			return n - 1 - at
		}
		return at
	}
	same := g.uniform()
	err := out.make(ctx, func(low, top [3]int) (uint16, bool) {
		a, b := from(low[axis]), from(top[axis]-1)
		if a > b {
			a, b = b, a
		}
		if b-a != top[axis]-1-low[axis] { // it lies across the middle
			return 0, false
		}
		low[axis], top[axis] = a, b+1
		return g.same(same, low, top)
	}, func(x, y, z int) uint16 {
		p := [3]int{x, y, z}
		p[axis] = from(p[axis])
		return g.at(p[0], p[1], p[2])
	})
	if err != nil {
		return nil, err
	}
	return edited(v, out), nil
}

// uniform tells of each block that is one colour all through which that is, from
// 1 on; 0 is a block of several, or one that is partly empty.
func (g *grid) uniform() map[*cells]uint16 {
	out := map[*cells]uint16{}
	for _, c := range g.blocks {
		if _, known := out[c]; known || c == nil {
			continue
		}
		out[c] = c.v[0]
		for _, x := range &c.v {
			if x != c.v[0] {
				out[c] = 0
				break
			}
		}
	}
	return out
}

// same tells whether all voxels from a place to before another are one, as far as
// whole blocks tell.
func (g *grid) same(uniform map[*cells]uint16, low, high [3]int) (c uint16, ok bool) {
	outside := false
	for k := range 3 {
		if high[k] <= 0 || low[k] >= g.dims[k] {
			return 0, true
		}
		outside = outside || low[k] < 0 || high[k] > g.dims[k]
	}
	first := true
	for z := max(low[2], 0) / Side; z <= min(high[2]-1, g.dims[2]-1)/Side; z++ {
		for y := max(low[1], 0) / Side; y <= min(high[1]-1, g.dims[1]-1)/Side; y++ {
			for x := max(low[0], 0) / Side; x <= min(high[0]-1, g.dims[0]-1)/Side; x++ {
				b := g.blocks[(z*g.n[1]+y)*g.n[0]+x]
				own := uniform[b]
				if b != nil && own == 0 || !first && own != c {
					return 0, false
				}
				c, first = own, false
			}
		}
	}
	return c, c == 0 || !outside
}

// make fills a grid block by block: with one colour where whole tells so of the
// places from low to before high, else voxel by voxel. Blocks that come out equal
// are one.
func (g *grid) make(ctx context.Context, whole func(low, high [3]int) (uint16, bool),
	at func(x, y, z int) uint16) error {
	kept := known{}
	solid := map[uint16]*cells{}
	c := &cells{}
	for b := range g.blocks {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		x0, y0, z0 := g.corner(b)
		low, high := [3]int{x0, y0, z0}, [3]int{x0 + Side, y0 + Side, z0 + Side}
		cut := false // by the grid's end
		for k := range 3 {
			if high[k] > g.dims[k] {
				high[k], cut = g.dims[k], true
			}
		}
		if one, ok := whole(low, high); ok && (one == 0 || !cut) {
			if one == 0 {
				continue
			}
			if solid[one] == nil {
				solid[one] = &cells{shared: true}
				for i := range solid[one].v {
					solid[one].v[i] = one
				}
			}
			g.blocks[b] = solid[one]
			continue
		}
		for i := range c.v {
			x, y, z := x0+i%Side, y0+i/Side%Side, z0+i/(Side*Side)
			c.v[i] = 0
			if x < high[0] && y < high[1] && z < high[2] {
				c.v[i] = at(x, y, z)
			}
		}
		if g.blocks[b] = kept.equal(c); g.blocks[b] == c {
			c.shared = true
			c = &cells{}
		}
	}
	return nil
}
