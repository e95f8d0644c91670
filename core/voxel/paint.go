package voxel

import (
	"cmp"
	"context"
	"math/bits"
	"slices"

	"excavate/core/parallel"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// stained is a voxel of a block with its colour.
type stained struct {
	within uint16
	c      rgb
}

// paint gives every voxel its colour: the mean of what surfaces have at it. One
// that shows and that no surface gave a colour takes that of the voxels beside
// it; what does not show and has none is of the mean of all.
func (m *maker) paint(ctx context.Context) error {
	m.stain()
	bare := m.bare(m.g.masks())
	if err := ctx.Err(); err != nil {
		return err
	}
	m.spread(bare)
	var all mean
	seen := map[rgb]bool{}
	for _, list := range m.stains {
		for _, s := range list {
			all.add(s.c)
			seen[s.c] = true
		}
	}
	p := newPalette(seen)
	inner := p.of(all.colour())
	// Voxels say 1 so far. Whole blocks stay shared and get the inner colour.
	done := map[*cells]bool{}
	for _, c := range m.g.blocks {
		if c == nil || done[c] {
			continue
		}
		done[c] = true
		for i := range c.v {
			if c.v[i] != 0 {
				c.v[i] = inner
			}
		}
	}
	for b, list := range m.stains {
		for _, s := range list {
			if c := m.g.blocks[b]; c != nil && c.v[s.within] != 0 {
				m.g.own(b).v[s.within] = p.of(s.c)
			}
		}
	}
	m.palette = p.swatches
	return ctx.Err()
}

// stain sums up, for each block, what surfaces have at its voxels.
func (m *maker) stain() {
	first := make([]uint32, len(m.g.blocks)+1)
	for _, d := range m.dabs {
		first[d.block+1]++
	}
	for i := range m.g.blocks {
		first[i+1] += first[i]
	}
	sorted := make([]dab, len(m.dabs))
	next := slices.Clone(first)
	for _, d := range m.dabs {
		sorted[next[d.block]] = d
		next[d.block]++
	}
	m.dabs = nil
	m.stains = make([][]stained, len(m.g.blocks))
	parallel.Share(len(m.stains), 16, func(from, to int) {
		sums := make([]mean, blockVoxels)
		var touched []uint16
		for b := from; b < to; b++ {
			for _, d := range sorted[first[b]:first[b+1]] {
				if sums[d.within].n == 0 {
					touched = append(touched, d.within)
				}
				sums[d.within].add(d.c)
			}
			slices.Sort(touched)
			list := make([]stained, len(touched))
			for i, k := range touched {
				list[i] = stained{k, sums[k].colour()}
				sums[k] = mean{}
			}
			m.stains[b], touched = list, touched[:0]
		}
	})
}

// bare counts the voxels that show and returns those that have no colour; of a
// shell all that have none.
func (m *maker) bare(masks []*rows) (list [][3]int) {
	type found struct {
		surface int
		bare    [][3]int
	}
	for _, f := range parallel.Gather(len(m.g.blocks), 16, func(from, to int) (f found) {
		e := &exposed{}
		for b := from; b < to; b++ {
			if masks[b] == nil || m.g.buried(masks, b) {
				continue
			}
			m.g.show(masks, b, e)
			var has rows
			for _, s := range m.stains[b] {
				has[s.within/Side] |= 1 << (s.within % Side)
			}
			x0, y0, z0 := m.g.corner(b)
			for k := range has {
				shown := e.any(k)
				f.surface += bits.OnesCount32(shown)
				if m.in.Shell > 0 { // its inner side is reached through what lies between
					shown = masks[b][k]
				}
				eachBit(shown&^has[k], func(x int) {
					f.bare = append(f.bare, [3]int{x0 + x, y0 + k%Side, z0 + k/Side})
				})
			}
		}
		return f
	}) {
		m.told.Surface += f.surface
		list = append(list, f.bare...)
	}
	return list
}

// stainAt is the colour of a voxel, if it has one.
func (m *maker) stainAt(x, y, z int) (rgb, bool) {
	if !m.g.inside(x, y, z) {
		return 0, false
	}
	b, within := m.g.place(x, y, z)
	i, ok := slices.BinarySearchFunc(
		m.stains[b],
		uint16(within),
		func(s stained, k uint16) int { return cmp.Compare(s.within, k) },
	)
	if !ok {
		return 0, false
	}
	return m.stains[b][i].c, true
}

// spread gives colours to voxels that have none from those round them, round
// after round; in each all see what was there before it.
func (m *maker) spread(bare [][3]int) {
	for len(bare) > 0 {
		type put struct {
			block int
			s     stained
		}
		var found []put
		var left [][3]int
		for _, p := range bare {
			var own mean
			for k := range 27 {
				if c, ok := m.stainAt(p[0]+k%3-1, p[1]+k/3%3-1, p[2]+k/9-1); ok {
					own.add(c)
				}
			}
			if own.n == 0 {
				left = append(left, p)
				continue
			}
			b, within := m.g.place(p[0], p[1], p[2])
			found = append(found, put{b, stained{uint16(within), own.colour()}})
		}
		if len(found) == 0 {
			return // nothing near has a colour: they are of the mean
		}
		for _, f := range found {
			m.stains[f.block] = append(m.stains[f.block], f.s)
		}
		for _, f := range found {
			slices.SortFunc(m.stains[f.block], func(a, b stained) int { return cmp.Compare(a.within, b.within) })
		}
		bare = left
	}
}

// mean is that of colours, in linear light.
type mean struct {
	sum [3]float64
	n   int
}

func (m *mean) add(c rgb) {
	for k := range 3 {
		m.sum[k] += pixel.Light(byte(c >> (8 * k)))
	}
	m.n++
}

func (m *mean) colour() (c rgb) {
	if m.n == 0 {
		return 0x808080
	}
	for k := range 3 {
		c |= rgb(pixel.Stored(m.sum[k]/float64(m.n))) << (8 * k)
	}
	return c
}

// palette gathers colours, at most so many as voxels can name.
type palette struct {
	swatches []scene.Swatch
	number   map[rgb]uint16
	drop     uint // low bits of each component that are not told apart
}

// mostColours bounds a palette. More are told apart less finely.
const mostColours = 1 << 14

func newPalette(colours map[rgb]bool) *palette {
	p := &palette{number: map[rgb]uint16{}}
	for ; ; p.drop++ {
		seen := map[rgb]bool{}
		for c := range colours {
			seen[p.coarse(c)] = true
		}
		if len(seen) < mostColours {
			break
		}
	}
	list := make([]rgb, 0, len(colours))
	for c := range colours {
		list = append(list, p.coarse(c))
	}
	slices.Sort(list)
	for _, c := range slices.Compact(list) {
		p.of(c)
	}
	return p
}

// coarse is a colour without what is not told apart, in the middle of what
// becomes one.
func (p *palette) coarse(c rgb) (out rgb) {
	for k := range 3 {
		v := c >> (8 * k) & 0xff
		out |= (v>>p.drop<<p.drop | 1<<p.drop>>1) << (8 * k)
	}
	return out
}

// of is the number of a colour, from 1 on.
func (p *palette) of(c rgb) uint16 {
	c = p.coarse(c)
	if k, ok := p.number[c]; ok {
		return k
	}
	p.swatches = append(p.swatches, scene.Swatch{Colour: [3]uint8{uint8(c), uint8(c >> 8), uint8(c >> 16)}})
	p.number[c] = uint16(len(p.swatches))
	return p.number[c]
}
