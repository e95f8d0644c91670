package voxel

import (
	"cmp"
	"context"
	"math"
	"slices"
	"sync/atomic"

	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/scene"
)

// maker makes a volume. While it is filled, 1 stands for any voxel that is in.
type maker struct {
	in    *Input
	g     *grid
	dims  [3]int
	lines [3]*along
	dabs  []dab
	told  *Told

	crossed []atomic.Uint64 // a bit a triangle: some line crosses it

	stains  [][]stained // of each block, by the place within
	palette []scene.Swatch
}

// dab is a colour that a surface has at a voxel.
type dab struct {
	block  uint32
	within uint16
	open   bool // of a surface that is open here
	c      rgb
}

// dab is a colour at a voxel.
func (m *maker) dab(x, y, z int, c rgb, open bool) dab {
	b, within := m.g.place(x, y, z)
	return dab{uint32(b), uint16(within), open, c}
}

// key orders dabs by voxel; those of one by what else they are, so that the
// order is always the same.
func (d dab) key() uint64 {
	k := uint64(d.block)<<40 | uint64(d.within)<<25 | uint64(d.c)<<1
	if d.open {
		k |= 1
	}
	return k
}

// place is where a dab's voxel lies.
func (m *maker) place(d dab) (x, y, z int) {
	x, y, z = m.g.corner(int(d.block))
	k := int(d.within)
	return x + k%Side, y + k/Side%Side, z + k/(Side*Side)
}

// turned is a place on a line along an axis as x, y, z.
func (a *along) turned(at, u, v int) (p [3]int) {
	p[a.axis], p[a.u], p[a.v] = at, u, v
	return p
}

// fill decides which voxels are in: by the lines along x; where one of them
// never comes out of a surface, by those along y and z that do. (Lines in three
// directions, of which those that are sound decide: Nooruddin and Turk,
// "Simplification and Repair of Polygonal Models Using Volumetric Techniques",
// 2003, section 3.)
func (m *maker) fill(ctx context.Context) error {
	open := m.byX()
	if err := ctx.Err(); err != nil {
		return err
	}
	if m.told.Open > 0 {
		m.byY(open)
	}
	m.thin(m.ends())
	m.wires(m.rods())
	if !m.in.Touch {
		m.lost()
	}
	return ctx.Err()
}

// byX fills by the lines along x and returns which of them are not sound. Rows
// of blocks are done side by side.
func (m *maker) byX() (open []bool) {
	a := m.lines[0]
	open = make([]bool, a.nu*a.nv)
	whole := &cells{shared: true}
	for i := range whole.v {
		whole.v[i] = 1
	}
	n := m.g.n
	rows := parallel.Gather(n[1]*n[2], 1, func(from, to int) (unsound int) {
		row := &row{g: m.g, whole: whole, full: make([]int, n[0]), some: make([]bool, n[0])}
		for r := from; r < to; r++ {
			unsound += row.fill(a, open, r%n[1], r/n[1])
		}
		return unsound
	})
	for _, u := range rows {
		m.told.Open += u
	}
	return open
}

// row is a row of blocks along x that is being filled.
type row struct {
	g     *grid
	whole *cells
	full  []int  // for each block, lines that are filled all through
	some  []bool // anything is
	spans []span
	runs  [Side * Side][][2]int
}

func (w *row) fill(a *along, open []bool, by, bz int) (unsound int) {
	clear(w.full)
	clear(w.some)
	for k := range w.runs {
		w.runs[k] = w.runs[k][:0]
		y, z := by*Side+k%Side, bz*Side+k/Side
		if y >= a.nu || z >= a.nv {
			continue
		}
		var sound bool
		if w.spans, sound = solid(a.of(y, z), w.spans[:0]); !sound {
			open[z*a.nu+y] = true
			unsound++
			continue
		}
		for _, s := range w.spans {
			first, last := s.centres(w.g.dims[0])
			if first >= last {
				continue
			}
			w.runs[k] = append(w.runs[k], [2]int{first, last})
			for b := first / Side; b <= (last-1)/Side; b++ {
				w.some[b] = true
				if first <= b*Side && last >= (b+1)*Side {
					w.full[b]++
				}
			}
		}
	}
	base := (bz*w.g.n[1] + by) * w.g.n[0]
	for b := range w.some {
		switch {
		case !w.some[b]:
		case w.full[b] == Side*Side:
			w.g.blocks[base+b] = w.whole
		default:
			c := &cells{}
			for k := range w.runs {
				for _, r := range w.runs[k] {
					from, to := max(r[0]-b*Side, 0), min(r[1]-b*Side, Side)
					for x := from; x < to; x++ {
						c.v[k*Side+x] = 1
					}
				}
			}
			w.g.blocks[base+b] = c
		}
	}
	return unsound
}

// byY fills what lies on lines along x that are not sound, where the lines along
// y say so and those along z do not object.
func (m *maker) byY(open []bool) {
	ax, ay := m.lines[0], m.lines[1]
	rows := make([][]int, ax.nv) // of each z, the y of lines that are not sound
	for k, bad := range open {
		if bad {
			rows[k/ax.nu] = append(rows[k/ax.nu], k%ax.nu)
		}
	}
	var spans, other []span
	for x := range m.dims[0] { // lines along y have z as u and x as v
		for z := range m.dims[2] {
			if len(rows[z]) == 0 {
				continue
			}
			var sound bool
			if spans, sound = solid(ay.of(z, x), spans[:0]); !sound {
				continue
			}
			for _, s := range spans {
				first, last := s.centres(m.dims[1])
				at, _ := slices.BinarySearch(rows[z], first)
				for _, y := range rows[z][at:] {
					if y >= last {
						break
					}
					in := true
					if other, in = solid(m.lines[2].of(x, y), other[:0]); in {
						in = slices.ContainsFunc(other, func(o span) bool {
							first, last := o.centres(m.dims[2])
							return first <= z && z < last
						})
					} else {
						in = true // it says nothing
					}
					if in {
						m.g.set(x, y, z, 1)
					}
				}
			}
		}
	}
}

// ends gives the voxels at the ends of the spans of all lines their colours, and
// returns the voxels in which something lies that holds no centre.
func (m *maker) ends() (candidates []dab) {
	type found struct{ dabs, thin []dab }
	for _, a := range m.lines {
		for _, f := range parallel.Gather(a.nv, 16, func(from, to int) (f found) {
			var spans []span
			for v := from; v < to; v++ {
				for u := range a.nu {
					l := a.of(u, v)
					if len(l) == 0 {
						continue
					}
					add := func(to *[]dab, at int, c rgb, open bool) {
						if at >= 0 && at < m.dims[a.axis] {
							p := a.turned(at, u, v)
							*to = append(*to, m.dab(p[0], p[1], p[2], c, open))
						}
					}
					var sound bool
					if spans, sound = solid(l, spans[:0]); !sound {
						for _, c := range l {
							if at := c.within(); m.filled(a.turned(at, u, v)) {
								add(&f.dabs, at, c.colour, false)
							} else {
								add(&f.thin, int(math.Floor(float64(c.at))), c.colour, true)
							}
						}
						continue
					}
					for _, s := range spans {
						first, last := s.centres(m.dims[a.axis])
						if first < last {
							add(&f.dabs, first, s.from.colour, false)
							add(&f.dabs, last-1, s.to.colour, false)
							continue
						}
						mid := int(math.Floor(float64(s.from.at+s.to.at) / 2))
						add(&f.thin, mid, s.from.colour, false)
						add(&f.thin, mid, s.to.colour, false)
					}
				}
			}
			return f
		}) {
			m.dabs = append(m.dabs, f.dabs...)
			candidates = append(candidates, f.thin...)
		}
	}
	return candidates
}

func (m *maker) filled(p [3]int) bool { return m.g.at(p[0], p[1], p[2]) != 0 }

// within is the voxel whose centre lies next to a crossing, on its inner side.
func (c crossing) within() int {
	at := int(math.Ceil(float64(c.at) - 0.5))
	if c.into {
		return at
	}
	return at - 1
}

// rods are the voxels along triangles that are longer than a voxel and that no
// line crosses: those of rods and wires. Pieces that are smaller than a voxel and
// hold no centre are left out, see lost.
func (m *maker) rods() (list []dab) {
	for t := range len(m.in.Positions) / 9 {
		if m.crossed[t/64].Load()>>(t%64)&1 == 1 {
			continue
		}
		var p [3]geom.Vec3
		for k := range 3 {
			p[k] = geom.At(m.in.Positions[9*t:9*t+9], uint32(k))
		}
		// From the middle of the shortest edge to the corner opposite of it.
		top, least := 0, math.Inf(1)
		for k := range 3 {
			if l := p[(k+1)%3].Sub(p[(k+2)%3]).Len(); l < least {
				top, least = k, l
			}
		}
		from := p[(top+1)%3].Add(p[(top+2)%3]).Mul(0.5)
		along := p[top].Sub(from)
		n := int(math.Ceil(2 * along.Len()))
		if n < 3 {
			continue
		}
		for i := range n {
			s := (float64(i) + 0.5) / float64(n)
			share := [3]float64{(1 - s) / 2, (1 - s) / 2, (1 - s) / 2}
			share[top] = s
			at := from.Add(along.Mul(s))
			x, y, z := int(math.Floor(at[0])), int(math.Floor(at[1])), int(math.Floor(at[2]))
			if m.g.at(x, y, z) != 0 {
				continue
			}
			if c, there := m.in.colour(t, share); there && m.g.inside(x, y, z) {
				list = append(list, m.dab(x, y, z, c, false))
			}
		}
	}
	return list
}

// lost counts the triangles that are seen and near which nothing is filled: those
// of pieces that are smaller than a voxel.
func (m *maker) lost() {
	for t := range len(m.in.Positions) / 9 {
		if m.crossed[t/64].Load()>>(t%64)&1 == 1 {
			continue
		}
		third := [3]float64{1. / 3, 1. / 3, 1. / 3}
		var at [3]int
		for a := range 3 {
			sum := 0.0
			for k := range 3 {
				sum += float64(m.in.Positions[9*t+3*k+a]) / 3
			}
			at[a] = int(math.Floor(sum))
		}
		near := false
		for k := 0; k < 27 && !near; k++ {
			near = m.g.at(at[0]+k%3-1, at[1]+k/3%3-1, at[2]+k/9-1) != 0
		}
		if near {
			continue
		}
		if _, there := m.in.colour(t, third); there {
			m.told.Lost++
		}
	}
}

// thin fills voxels that stand for what is thinner than they are. At the rim of
// something thick there are such places too, where a line passes just below the
// surface: the voxel beside is in by its centre, and beyond is nothing. There
// nothing is added, so that a solid has just the voxels whose centres it holds.
func (m *maker) thin(list []dab) {
	sortDabs(list)
	candidate := newGrid(m.dims)
	for _, d := range list {
		x, y, z := m.place(d)
		candidate.set(x, y, z, 1)
	}
	m.add(list, func(d dab, x, y, z int) bool { return d.open || !m.rim(candidate, x, y, z) })
}

func sortDabs(list []dab) {
	slices.SortFunc(list, func(a, b dab) int { return cmp.Compare(a.key(), b.key()) })
}

// add fills the voxels of a sorted list that a rule takes, which sees what was
// filled before. Those that are filled already get the colour.
func (m *maker) add(list []dab, takes func(d dab, x, y, z int) bool) {
	var add []dab
	adding := false
	for i, d := range list {
		x, y, z := m.place(d)
		if m.g.at(x, y, z) != 0 {
			m.dabs = append(m.dabs, d)
			continue
		}
		if i == 0 || list[i-1].block != d.block || list[i-1].within != d.within {
			if adding = takes(d, x, y, z); adding {
				m.told.Thin++
			}
		}
		if adding {
			add = append(add, d)
		}
	}
	for _, d := range add {
		x, y, z := m.place(d)
		m.g.set(x, y, z, 1)
	}
	m.dabs = append(m.dabs, add...)
}

// wires fills the voxels of rods that lie free, and then those by which they
// hang on something.
func (m *maker) wires(list []dab) {
	sortDabs(list)
	was := m.g.copy()
	m.add(list, func(_ dab, x, y, z int) bool {
		for k := range 27 {
			if m.g.at(x+k%3-1, y+k/3%3-1, z+k/9-1) != 0 {
				return false
			}
		}
		return true
	})
	free := m.g.copy()
	m.add(list, func(_ dab, x, y, z int) bool {
		for _, s := range steps {
			if p := [3]int{x + s[0], y + s[1], z + s[2]}; free.at(p[0], p[1], p[2]) != 0 &&
				was.at(p[0], p[1], p[2]) == 0 {
				return true
			}
		}
		return false
	})
}

// rim tells whether a place without a centre is the rim of something thick.
func (m *maker) rim(candidate *grid, x, y, z int) bool {
	beside := false
	for _, s := range steps {
		if m.g.at(x+s[0], y+s[1], z+s[2]) == 0 {
			continue
		}
		beside = true
		if beyond := [3]int{x - s[0], y - s[1], z - s[2]}; m.g.at(beyond[0], beyond[1], beyond[2]) != 0 ||
			candidate.at(beyond[0], beyond[1], beyond[2]) != 0 {
			return false
		}
	}
	return beside
}

// touch fills every voxel that a triangle touches and that is seen there. Along
// the axis that a triangle looks along most it spans few voxels, so that columns
// of those are gone through and no box.
func (m *maker) touch(ctx context.Context) error {
	for t := range len(m.in.Positions) / 9 {
		corners := triangle{}
		for k := range 3 {
			corners.p[k] = geom.At(m.in.Positions[9*t:9*t+9], uint32(k))
		}
		if !corners.plane() {
			continue // without an area it is no surface
		}
		if err := m.touchOne(ctx, t, &corners); err != nil {
			return err
		}
	}
	return nil
}

// triangle is one with its plane.
type triangle struct {
	p       [3]geom.Vec3
	n       geom.Vec3 // across it, of twice its area
	a, u, v int       // the axis that it looks along most, and the other two
}

func (t *triangle) plane() bool {
	t.n = t.p[1].Sub(t.p[0]).Cross(t.p[2].Sub(t.p[0]))
	for k := range 3 {
		if math.Abs(t.n[k]) > math.Abs(t.n[t.a]) {
			t.a = k
		}
	}
	t.u, t.v = (t.a+1)%3, (t.a+2)%3
	return t.n[t.a] != 0
}

// voxels are those between the triangle's ends along an axis, of n.
func (t *triangle) voxels(axis, n int) (first, last int) {
	low := min(t.p[0][axis], t.p[1][axis], t.p[2][axis])
	high := max(t.p[0][axis], t.p[1][axis], t.p[2][axis])
	return max(0, int(math.Floor(low))), min(n-1, int(math.Floor(high)))
}

// share is how much of each corner there is at the place of the triangle that is
// nearest to a point, about: that of its plane, kept within.
func (t *triangle) share(at geom.Vec3) (s [3]float64) {
	nn, sum := t.n.Dot(t.n), 0.0
	for k := range 3 {
		edge := t.p[(k+2)%3].Sub(t.p[(k+1)%3])
		s[k] = math.Max(0, edge.Cross(at.Sub(t.p[(k+1)%3])).Dot(t.n)/nn)
		sum += s[k]
	}
	for k := range s {
		s[k] /= sum
	}
	return s
}

func (m *maker) touchOne(ctx context.Context, t int, c *triangle) error {
	u0, u1 := c.voxels(c.u, m.dims[c.u])
	v0, v1 := c.voxels(c.v, m.dims[c.v])
	a0, a1 := c.voxels(c.a, m.dims[c.a])
	// How far the plane goes along the axis within a column about its middle.
	reach := (math.Abs(c.n[c.u])+math.Abs(c.n[c.v]))/(2*math.Abs(c.n[c.a])) + 1e-6
	for v := v0; v <= v1; v++ {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		for u := u0; u <= u1; u++ {
			du, dv := float64(u)+0.5-c.p[0][c.u], float64(v)+0.5-c.p[0][c.v]
			middle := c.p[0][c.a] - (du*c.n[c.u]+dv*c.n[c.v])/c.n[c.a]
			first := max(a0, int(math.Floor(middle-reach)))
			last := min(a1, int(math.Floor(middle+reach)))
			for a := first; a <= last; a++ {
				var at [3]int
				at[c.a], at[c.u], at[c.v] = a, u, v
				m.touchAt(t, c, at)
			}
		}
	}
	return nil
}

func (m *maker) touchAt(t int, c *triangle, at [3]int) {
	if m.filled(at) {
		return
	}
	centre := geom.Vec3{float64(at[0]) + 0.5, float64(at[1]) + 0.5, float64(at[2]) + 0.5}
	if !overlaps(c.p, centre) {
		return
	}
	if colour, there := m.in.colour(t, c.share(centre)); there {
		m.g.set(at[0], at[1], at[2], 1)
		m.dabs = append(m.dabs, m.dab(at[0], at[1], at[2], colour, false))
	}
}

// overlaps tells whether a triangle and the unit cube about a centre meet
// (Akenine-Möller, "Fast 3D Triangle-Box Overlap Testing", 2001): no
// axis of the cube, of the triangle's plane, or across an edge of each parts them.
func overlaps(p [3]geom.Vec3, centre geom.Vec3) bool {
	for k := range p {
		p[k] = p[k].Sub(centre)
	}
	parts := func(axis geom.Vec3) bool {
		a, b, c := p[0].Dot(axis), p[1].Dot(axis), p[2].Dot(axis)
		r := (math.Abs(axis[0]) + math.Abs(axis[1]) + math.Abs(axis[2])) / 2
		return min(a, b, c) > r || max(a, b, c) < -r
	}
	for k := range 3 {
		var unit geom.Vec3
		unit[k] = 1
		edge := p[(k+1)%3].Sub(p[k])
		if parts(unit) || parts(geom.Vec3{0, -edge[2], edge[1]}) || parts(geom.Vec3{edge[2], 0, -edge[0]}) ||
			parts(geom.Vec3{-edge[1], edge[0], 0}) {
			return false
		}
	}
	return !parts(p[1].Sub(p[0]).Cross(p[2].Sub(p[0])))
}
