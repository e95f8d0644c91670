package voxel

import (
	"cmp"
	"context"
	"math"
	"slices"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// Matched is what became of a volume's colours.
type Matched struct {
	Used  int     // colours of the palette that voxels have
	Mean  float64 // CIEDE2000, over the voxels
	Worst float64
	Of    [3]uint8 // the colour that is worst met
}

// Match gives each voxel the nearest colour of a palette, by CIEDE2000. With
// dither, what a colour is off goes on to the voxels that follow it among those
// that show, so that the whole keeps its colour (Floyd and Steinberg, "An Adaptive
// Algorithm for Spatial Greyscale", 1976, in three directions).
func Match(ctx context.Context, v *scene.Volume, to []scene.Swatch, dither bool) (*scene.Volume, Matched, error) {
	near := newNearest(to)
	var m Matched
	used := map[uint16]bool{}
	table := make([]uint16, len(v.Palette))
	total, n := 0.0, 0
	count := Counts(v)
	for i, s := range v.Palette {
		if count[i] == 0 {
			continue
		}
		if i&15 == 0 && ctx.Err() != nil {
			return nil, m, ctx.Err()
		}
		k, d := near.of(s.Colour)
		table[i] = k + 1
		used[k] = true
		total += d * float64(count[i])
		n += count[i]
		if d > m.Worst {
			m.Worst, m.Of = d, s.Colour
		}
	}
	m.Used, m.Mean = len(used), total/float64(max(n, 1))
	out := Recoloured(v, to, table)
	if !dither {
		return out, m, nil
	}
	out, err := dots(ctx, v, out, near)
	if err == nil {
		m.Used = 0
		for _, n := range Counts(out) {
			if n > 0 {
				m.Used++
			}
		}
	}
	return out, m, err
}

// dots mixes the colours of the voxels of v that show by those of a palette; out
// has the nearest. They go block by block, so that each comes after those from
// which something goes on to it.
func dots(ctx context.Context, v, out *scene.Volume, near *nearest) (*scene.Volume, error) {
	was, now := open(v), open(out)
	masks := was.masks()
	shown := make([]*rows, len(masks))
	e := &exposed{}
	for b, m := range masks {
		if m == nil || was.buried(masks, b) {
			continue
		}
		was.show(masks, b, e)
		shown[b] = &rows{}
		for k := range shown[b] {
			shown[b][k] = e.any(k)
		}
	}
	isShown := func(p [3]int) bool {
		if !was.inside(p[0], p[1], p[2]) {
			return false
		}
		b, k := was.place(p[0], p[1], p[2])
		return shown[b] != nil && shown[b][k/Side]>>(k%Side)&1 == 1
	}
	off := map[[3]int][3]float64{} // what is carried on
	for b, m := range shown {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if m == nil {
			continue
		}
		x0, y0, z0 := was.corner(b)
		for k := range m {
			eachBit(m[k], func(x int) {
				p := [3]int{x0 + x, y0 + k%Side, z0 + k/Side}
				carried := off[p]
				delete(off, p)
				var want [3]float64
				var asked [3]uint8
				colour := v.Palette[was.blocks[b].v[k*Side+x]-1].Colour
				for a := range 3 {
					want[a] = pixel.Light(colour[a]) + carried[a]
					asked[a] = pixel.Stored(want[a])&^3 | 2 // so that few are asked for
				}
				c, _ := near.of(asked)
				now.own(b).v[k*Side+x] = c + 1
				var next [][3]int // of the voxels beside it those that are yet to come
				for _, q := range [3][3]int{{p[0] + 1, p[1], p[2]}, {p[0], p[1] + 1, p[2]}, {p[0], p[1], p[2] + 1}} {
					if isShown(q) {
						next = append(next, q)
					}
				}
				for _, q := range next {
					o := off[q]
					for a := range 3 {
						o[a] += (want[a] - pixel.Light(out.Palette[c].Colour[a])) / float64(len(next))
						o[a] = math.Max(-2, math.Min(2, o[a])) // colours beyond the palette never add up without end
					}
					off[q] = o
				}
			})
		}
	}
	return edited(out, now), nil
}

// Counts is how many voxels have each colour of the palette.
func Counts(v *scene.Volume) []int {
	times := make([]int, len(v.Blocks)/blockVoxels+1)
	for _, k := range v.Index {
		times[k]++
	}
	n := make([]int, len(v.Palette))
	for k := 1; k < len(times); k++ {
		for _, c := range v.Blocks[(k-1)*blockVoxels : k*blockVoxels] {
			if c != 0 {
				n[c-1] += times[k]
			}
		}
	}
	return n
}

// nearest finds the nearest colour of a palette, and remembers.
type nearest struct {
	labs []lab
	seen map[[3]uint8]struct {
		k uint16
		d float64
	}
}

func newNearest(to []scene.Swatch) *nearest {
	n := &nearest{seen: map[[3]uint8]struct {
		k uint16
		d float64
	}{}}
	for _, s := range to {
		n.labs = append(n.labs, labOf(s.Colour))
	}
	return n
}

func (n *nearest) of(c [3]uint8) (k uint16, d float64) {
	if s, ok := n.seen[c]; ok {
		return s.k, s.d
	}
	d = math.Inf(1)
	own := labOf(c)
	for i, l := range n.labs {
		if x := difference(own, l); x < d {
			k, d = uint16(i), x
		}
	}
	n.seen[c] = struct {
		k uint16
		d float64
	}{k, d}
	return k, d
}

// Best are the n colours that meet a volume's best: boxes of colours in L*a*b*
// are halved where they spread most (Heckbert, "Color Image Quantization for
// Frame Buffer Display", 1982), and their means are moved to the middle of what
// is nearest to them (Lloyd, 1982).
func Best(v *scene.Volume, n int) []scene.Swatch {
	count := Counts(v)
	var all []weighed
	for i, s := range v.Palette {
		if count[i] > 0 {
			all = append(all, weighed{labOf(s.Colour), s.Colour, float64(count[i])})
		}
	}
	boxes := [][]weighed{all}
	for len(boxes) < n {
		worst, most := -1, 0.0
		for i, b := range boxes {
			if _, spread := widest(b); len(b) > 1 && spread > most {
				worst, most = i, spread
			}
		}
		if worst < 0 {
			break
		}
		low, high := halved(boxes[worst])
		boxes[worst] = low
		boxes = append(boxes, high)
	}
	middle := make([][3]uint8, len(boxes))
	for i, b := range boxes {
		middle[i] = meanOf(b)
	}
	for range 12 {
		groups := make([][]weighed, len(middle))
		labs := make([]lab, len(middle))
		for i, c := range middle {
			labs[i] = labOf(c)
		}
		for _, c := range all {
			best, least := 0, math.Inf(1)
			for i, l := range labs {
				if d := sq2(c.at.l-l.l) + sq2(c.at.a-l.a) + sq2(c.at.b-l.b); d < least {
					best, least = i, d
				}
			}
			groups[best] = append(groups[best], c)
		}
		moved := false
		for i, b := range groups {
			if len(b) == 0 {
				continue
			}
			if c := meanOf(b); c != middle[i] {
				middle[i], moved = c, true
			}
		}
		if !moved {
			break
		}
	}
	slices.SortFunc(middle, func(a, b [3]uint8) int {
		return cmp.Or(
			cmp.Compare(labOf(a).l, labOf(b).l),
			cmp.Compare(a[0], b[0]),
			cmp.Compare(a[1], b[1]),
			cmp.Compare(a[2], b[2]),
		)
	})
	out := []scene.Swatch{}
	for _, c := range slices.Compact(middle) {
		out = append(out, scene.Swatch{Colour: c})
	}
	return out
}

// weighed is a colour and how many voxels have it.
type weighed struct {
	at     lab
	colour [3]uint8
	n      float64
}

func sq2(v float64) float64 { return v * v }

func (l lab) part(k int) float64 { return [3]float64{l.l, l.a, l.b}[k] }

// widest is the direction in which colours spread most, and how much: the sum of
// squares from their mean.
func widest(b []weighed) (axis int, spread float64) {
	for k := range 3 {
		var n, sum, sq float64
		for _, c := range b {
			n, sum, sq = n+c.n, sum+c.n*c.at.part(k), sq+c.n*sq2(c.at.part(k))
		}
		if s := sq - sum*sum/n; s > spread {
			axis, spread = k, s
		}
	}
	return axis, spread
}

// halved parts colours at their mean along the direction in which they spread.
func halved(b []weighed) (low, high []weighed) {
	axis, _ := widest(b)
	var n, sum float64
	for _, c := range b {
		n, sum = n+c.n, sum+c.n*c.at.part(axis)
	}
	for _, c := range b {
		if c.at.part(axis) <= sum/n {
			low = append(low, c)
		} else {
			high = append(high, c)
		}
	}
	return low, high
}

// meanOf is the mean in linear light.
func meanOf(b []weighed) (c [3]uint8) {
	var sum [3]float64
	n := 0.0
	for _, x := range b {
		for k := range 3 {
			sum[k] += x.n * pixel.Light(x.colour[k])
		}
		n += x.n
	}
	for k := range 3 {
		c[k] = pixel.Stored(sum[k] / n)
	}
	return c
}
