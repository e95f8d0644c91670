package brush

import (
	"context"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/parallel"
)

// A hull tells which room of a level its entities can get to. Space is parted
// by the planes of the solids that close the level (Fuchs, Kedem and Naylor, "On
// Visible Surface Generation by A Priori Tree Structures", 1980) until every
// cell lies within a solid or outside of all; what two empty cells share of a
// plane is an opening, and what is reached through openings is the inside.
type hull struct {
	nodes    []cut
	cells    []room
	openings []opening
	begin    []int32 // where each cell's begin in at, and their end
	at       []int32 // numbers of openings, by cell
	eps      float64 // openings narrower than this are none
	all      geom.Box
	ctx      context.Context
	looks    int // at blocks
}

// cut is a plane that parts a cell; a kid below 0 is the cell ^kid.
type cut struct {
	n     geom.Vec3
	d     float64
	kids  [2]int // before, behind
	sheet []geom.Vec3
}

type room struct {
	solid, border, reached bool
	exit                   geom.Vec3 // of one at the border, the middle of a wall there
}

// opening is what two empty cells share of a plane.
type opening struct {
	cells [2]int32
	mid   geom.Vec3
}

// to is the cell on the other side.
func (o *opening) to(from int) int { return int(o.cells[0]+o.cells[1]) - from }

// block is a solid that closes: outward planes, corners and bounds.
type block struct {
	planes  []flatPlane
	corners []geom.Vec3
	bounds  geom.Box
}

type flatPlane struct {
	n geom.Vec3
	d float64
}

// cell is a convex room. One without walls is its bounds: most of a level runs
// along the axes, and boxes are quick to part.
type cell struct {
	bounds geom.Box
	walls  []wall
}

// wall is a face of a cell, with its plane, outward.
type wall struct {
	flatPlane
	corners []geom.Vec3
}

// Bounds on the tree, and on the looks at blocks that making it takes: solids that
// lie in each other a thousandfold part space without an end.
const (
	mostCells = 4 << 20
	mostLooks = 256 << 20
)

// newHull parts the space of blocks and some points; nil if that takes more than
// there may be.
func newHull(ctx context.Context, blocks []block, points []geom.Vec3) *hull {
	b := geom.EmptyBox()
	for i := range blocks {
		b.Add(blocks[i].bounds.Min)
		b.Add(blocks[i].bounds.Max)
	}
	for _, p := range points {
		b.Add(p)
	}
	size := max(b.Max[0]-b.Min[0], b.Max[1]-b.Min[1], b.Max[2]-b.Min[2])
	pad := geom.Vec3{1, 1, 1}.Mul(size*0.03125 + 1)
	h := &hull{ctx: ctx, eps: max(size, 1) * 1e-6}
	all := make([]*block, len(blocks))
	for i := range blocks {
		all[i] = &blocks[i]
	}
	h.all = geom.Box{Min: b.Min.Sub(pad), Max: b.Max.Add(pad)}
	if _, ok := h.part(cell{bounds: h.all}, all, 0); !ok {
		return nil
	}
	h.connect()
	return h
}

// built is the cell with its walls.
func (c cell) built() []wall {
	if c.walls != nil {
		return c.walls
	}
	out := make([]wall, 0, 6)
	for k := range 3 {
		for s := range 2 {
			sign := float64(2*s - 1)
			w := wall{flatPlane{d: sign * [2]geom.Vec3{c.bounds.Min, c.bounds.Max}[s][k]},
				c.across(k, [2]geom.Vec3{c.bounds.Min, c.bounds.Max}[s][k])}
			if w.n[k] = sign; s == 0 {
				slices.Reverse(w.corners)
			}
			out = append(out, w)
		}
	}
	return out
}

// across is the rectangle of a box at a place along an axis, counter-clockwise
// seen from further along.
func (c cell) across(k int, at float64) []geom.Vec3 {
	u, v := (k+1)%3, (k+2)%3
	low, high := c.bounds.Min, c.bounds.Max
	out := make([]geom.Vec3, 4)
	for i, q := range [4][2]float64{{low[u], low[v]}, {high[u], low[v]}, {high[u], high[v]}, {low[u], high[v]}} {
		out[i][k], out[i][u], out[i][v] = at, q[0], q[1]
	}
	return out
}

// part parts a cell; the result is a node, or the cell ^kid.
func (h *hull) part(c cell, blocks []*block, depth int) (kid int, ok bool) {
	if h.looks += 8 * len(blocks); len(h.cells) >= mostCells || h.looks >= mostLooks ||
		len(h.cells)%1024 == 1023 && h.ctx.Err() != nil {
		return 0, false
	}
	within, inside := h.meeting(c, blocks)
	if inside || len(within) == 0 {
		return h.room(c, inside), true
	}
	p, found := h.choose(c, within)
	var before, behind cell
	var sheet []geom.Vec3
	if found {
		before, behind, sheet, found = h.split(c, p)
	}
	if !found || depth > 2000 {
		// The rounding of numbers leaves nothing to part: the middle tells.
		return h.room(c, slices.ContainsFunc(within, func(b *block) bool { return b.holds(c.middle()) })), true
	}
	at := len(h.nodes)
	h.nodes = append(h.nodes, cut{n: p.n, d: p.d, sheet: sheet})
	for s, half := range [2]cell{before, behind} {
		k, ok := h.part(half, within, depth+1)
		if !ok {
			return 0, false
		}
		h.nodes[at].kids[s] = k
	}
	return at, true
}

func (h *hull) room(c cell, solid bool) int {
	r := room{solid: solid, exit: c.bounds.Centre()}
	for k := range 3 {
		if c.bounds.Min[k] <= h.all.Min[k] {
			r.border, r.exit[k] = true, h.all.Min[k]
		} else if c.bounds.Max[k] >= h.all.Max[k] {
			r.border, r.exit[k] = true, h.all.Max[k]
		}
	}
	h.cells = append(h.cells, r)
	return ^(len(h.cells) - 1)
}

// walled is a cell of walls; without enough of them it is none.
func walled(walls []wall) (c cell, ok bool) {
	if len(walls) < 4 {
		return cell{}, false
	}
	c = cell{geom.EmptyBox(), walls}
	for i := range walls {
		for _, p := range walls[i].corners {
			c.bounds.Add(p)
		}
	}
	return c, true
}

// middle is a point within.
func (c cell) middle() (m geom.Vec3) {
	if c.walls == nil {
		return c.bounds.Centre()
	}
	n := 0.0
	for i := range c.walls {
		for _, p := range c.walls[i].corners {
			m = m.Add(p)
			n++
		}
	}
	return m.Mul(1 / n)
}

func (b *block) holds(p geom.Vec3) bool {
	for _, q := range b.planes {
		if q.n.Dot(p) > q.d {
			return false
		}
	}
	return true
}

// meeting are the blocks that have room in common with a cell, and whether one
// holds all of it. A block that only a plane along edges of both parts from the
// cell is among them: parting goes on until its own planes do.
func (h *hull) meeting(c cell, blocks []*block) (within []*block, inside bool) {
	for _, b := range blocks {
		if apart(c.bounds, b.bounds, h.eps) {
			continue
		}
		h.looks += 8 * len(b.planes)
		meets, whole := true, true
		for _, p := range b.planes {
			if side := c.side(p, h.eps); side > 0 {
				whole = false
				if meets = side != 2; !meets {
					break
				}
			}
		}
		for i := range c.walls {
			if !meets {
				break
			}
			meets = !b.before(c.walls[i].flatPlane, h.eps)
		}
		if !meets {
			continue
		}
		if whole {
			return nil, true
		}
		within = append(within, b)
	}
	return within, false
}

// before tells whether all of a block lies before a plane.
func (b *block) before(p flatPlane, eps float64) bool {
	for _, q := range b.corners {
		if p.n.Dot(q) < p.d-eps {
			return false
		}
	}
	return true
}

// apart tells whether boxes do not overlap by more than eps.
func apart(a, b geom.Box, eps float64) bool {
	for k := range 3 {
		if a.Max[k] <= b.Min[k]+eps || b.Max[k] <= a.Min[k]+eps {
			return true
		}
	}
	return false
}

// side is 1 where a plane cuts the cell, 2 where the cell lies before it, -1
// where it lies behind.
func (c cell) side(p flatPlane, eps float64) int {
	switch boxSide(c.bounds, p, eps) {
	case 1:
		return 2
	case -1:
		return -1
	}
	if c.walls == nil {
		return 1
	}
	before, behind := false, false
	for i := range c.walls {
		for _, q := range c.walls[i].corners {
			switch d := p.n.Dot(q) - p.d; {
			case d > eps:
				before = true
			case d < -eps:
				behind = true
			}
			if before && behind {
				return 1
			}
		}
	}
	if before {
		return 2
	}
	return -1
}

// along is the axis that a plane lies across, or -1.
func (p *flatPlane) along() int {
	for k, x := range p.n {
		if x == 1 || x == -1 {
			return k
		}
	}
	return -1
}

// split cuts a cell along a plane; sheet is what of the plane lies in it. ok is
// false where rounding leaves nothing on one side.
func (h *hull) split(c cell, p flatPlane) (before, behind cell, sheet []geom.Vec3, ok bool) {
	if k := p.along(); k >= 0 && c.walls == nil {
		at := p.d * p.n[k]
		low, high := c, c
		low.bounds.Max[k], high.bounds.Min[k] = at, at
		sheet = c.across(k, at)
		if p.n[k] < 0 {
			slices.Reverse(sheet)
			return low, high, sheet, true
		}
		return high, low, sheet, true
	}
	walls := c.built()
	if sheet = sheetOf(p, c, walls, h.eps); sheet == nil {
		return c, c, nil, false
	}
	var front, back []wall
	for i := range walls {
		f, b := clip(walls[i].corners, p, h.eps)
		if len(f) >= 3 {
			front = append(front, wall{walls[i].flatPlane, f})
		}
		if len(b) >= 3 {
			back = append(back, wall{walls[i].flatPlane, b})
		}
	}
	turned := slices.Clone(sheet)
	slices.Reverse(turned)
	before, ok = walled(append(front, wall{flatPlane{p.n.Mul(-1), -p.d}, turned}))
	if ok {
		behind, ok = walled(append(back, wall{p, sheet}))
	}
	return before, behind, sheet, ok
}

// sheetOf is a plane as far as it lies in a cell, counter-clockwise seen from
// before it.
func sheetOf(p flatPlane, c cell, walls []wall, eps float64) []geom.Vec3 {
	size := 2*c.bounds.Size().Len() + 1
	k := 0
	for m := range 3 {
		if math.Abs(p.n[m]) > math.Abs(p.n[k]) {
			k = m
		}
	}
	var u geom.Vec3
	u[(k+1)%3] = 1
	u = u.Sub(p.n.Mul(u.Dot(p.n))).Norm().Mul(size)
	v := p.n.Cross(u)
	mid := c.bounds.Centre()
	mid = mid.Sub(p.n.Mul(p.n.Dot(mid) - p.d))
	out := []geom.Vec3{mid.Sub(u).Sub(v), mid.Add(u).Sub(v), mid.Add(u).Add(v), mid.Sub(u).Add(v)}
	for i := range walls {
		if _, out = clip(out, walls[i].flatPlane, eps); len(out) < 3 {
			return nil
		}
	}
	return out
}

// clip cuts a convex outline along a plane. One that lies in the plane is on
// both sides.
func clip(corners []geom.Vec3, p flatPlane, eps float64) (before, behind []geom.Vec3) {
	n := len(corners)
	var room [32]float64
	d := room[:0]
	anyBefore, anyBehind := false, false
	for _, q := range corners {
		x := p.n.Dot(q) - p.d
		d = append(d, x)
		anyBefore, anyBehind = anyBefore || x > eps, anyBehind || x < -eps
	}
	if !anyBefore {
		if !anyBehind {
			return corners, corners
		}
		return nil, corners
	}
	if !anyBehind {
		return corners, nil
	}
	before, behind = make([]geom.Vec3, 0, n+2), make([]geom.Vec3, 0, n+2)
	for i, q := range corners {
		j := (i + 1) % n
		if d[i] >= -eps {
			before = append(before, q)
		}
		if d[i] <= eps {
			behind = append(behind, q)
		}
		if d[i] > eps && d[j] < -eps || d[i] < -eps && d[j] > eps {
			at := q.Add(corners[j].Sub(q).Mul(d[i] / (d[i] - d[j])))
			before, behind = append(before, at), append(behind, at)
		}
	}
	return before, behind
}

// few is the number of blocks from which on planes are weighed one by one.
const few = 12

// choose finds a plane to part a cell by: while there are many blocks the one
// along an axis with the most even halves, then the one that cuts fewest.
func (h *hull) choose(c cell, blocks []*block) (best flatPlane, found bool) {
	if len(blocks) > few {
		if p, ok := h.median(c, blocks); ok {
			return p, true
		}
	}
	least := math.Inf(1)
	for _, b := range blocks[:min(len(blocks), few)] {
		for _, p := range b.planes {
			if c.side(p, h.eps) != 1 {
				continue
			}
			h.looks += len(blocks)
			before, behind, cuts := 0, 0, 0
			for _, o := range blocks {
				switch boxSide(o.bounds, p, h.eps) {
				case 1:
					before++
				case -1:
					behind++
				default:
					cuts++
				}
			}
			if cost := math.Abs(float64(before-behind)) + 3*float64(cuts); cost < least {
				least, best, found = cost, p, true
			}
		}
	}
	return best, found
}

// median is the side of a block's bounds, in the middle of all of them, along
// the cell's longest way that has one.
func (h *hull) median(c cell, blocks []*block) (p flatPlane, ok bool) {
	bounds := c.bounds
	axes := []int{0, 1, 2}
	size := bounds.Size()
	slices.SortFunc(axes, func(a, b int) int { return int(math.Copysign(1, size[b]-size[a])) })
	for _, k := range axes {
		var at []float64
		for _, b := range blocks {
			for _, v := range [2]float64{b.bounds.Min[k], b.bounds.Max[k]} {
				if v > bounds.Min[k]+2*h.eps && v < bounds.Max[k]-2*h.eps {
					at = append(at, v)
				}
			}
		}
		if len(at) == 0 {
			continue
		}
		slices.Sort(at)
		p.n[k] = 1
		p.d = at[len(at)/2]
		if c.side(p, h.eps) == 1 {
			return p, true
		}
		p.n[k] = 0
	}
	return p, false
}

// boxSide is 1 for a box before a plane, -1 behind it, 0 across.
func boxSide(b geom.Box, p flatPlane, eps float64) int {
	low, high := -p.d, -p.d
	for k := range 3 {
		x, y := p.n[k]*b.Min[k], p.n[k]*b.Max[k]
		low, high = low+min(x, y), high+max(x, y)
	}
	switch {
	case low >= -eps:
		return 1
	case high <= eps:
		return -1
	}
	return 0
}

// connect finds the openings between empty cells.
func (h *hull) connect() {
	h.openings = slices.Concat(parallel.Gather(len(h.nodes), 256, func(from, to int) (out []opening) {
		for i := range h.nodes[from:to] {
			n := &h.nodes[from+i]
			h.push(n.kids[0], n.sheet, func(a int, part []geom.Vec3) {
				h.push(n.kids[1], part, func(b int, both []geom.Vec3) {
					if area, mid := measure(both); area > h.eps*h.eps {
						out = append(out, opening{[2]int32{int32(a), int32(b)}, mid})
					}
				})
			})
		}
		return out
	})...)
	h.begin = make([]int32, len(h.cells)+1)
	for i := range h.openings {
		for _, c := range h.openings[i].cells {
			h.begin[c+1]++
		}
	}
	for c := range h.cells {
		h.begin[c+1] += h.begin[c]
	}
	h.at = make([]int32, 2*len(h.openings))
	next := slices.Clone(h.begin)
	for i := range h.openings {
		for _, c := range h.openings[i].cells {
			h.at[next[c]] = int32(i)
			next[c]++
		}
	}
}

// of are the numbers of a cell's openings.
func (h *hull) of(cell int) []int32 { return h.at[h.begin[cell]:h.begin[cell+1]] }

// push hands an outline, cut along the planes below, to the empty cells it lies
// at.
func (h *hull) push(kid int, corners []geom.Vec3, to func(cell int, part []geom.Vec3)) {
	for kid >= 0 {
		n := &h.nodes[kid]
		before, behind := clip(corners, flatPlane{n.n, n.d}, h.eps)
		if len(before) >= 3 && len(behind) >= 3 {
			h.push(n.kids[0], before, to)
		}
		if len(behind) >= 3 {
			kid, corners = n.kids[1], behind
		} else if len(before) >= 3 {
			kid, corners = n.kids[0], before
		} else {
			return
		}
	}
	if !h.cells[^kid].solid {
		to(^kid, corners)
	}
}

// measure is the area and middle of a convex outline.
func measure(corners []geom.Vec3) (area float64, at geom.Vec3) {
	var sum geom.Vec3
	for i, q := range corners {
		at = at.Add(q)
		if i >= 2 {
			sum = sum.Add(corners[i-1].Sub(corners[0]).Cross(q.Sub(corners[0])))
		}
	}
	return sum.Len() / 2, at.Mul(1 / float64(max(len(corners), 1)))
}

// cell is the cell of a point.
func (h *hull) cell(p geom.Vec3) int {
	kid := ^0
	if len(h.nodes) > 0 {
		kid = 0
	}
	for kid >= 0 {
		n := &h.nodes[kid]
		s := 1
		if n.n.Dot(p) > n.d {
			s = 0
		}
		kid = n.kids[s]
	}
	return ^kid
}

// reach marks what can be got to from some cells.
func (h *hull) reach(from []int) (border bool) {
	queue := slices.Clone(from)
	for _, c := range from {
		h.cells[c].reached = true
	}
	for len(queue) > 0 {
		c := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		border = border || h.cells[c].border
		for _, i := range h.of(c) {
			if to := h.openings[i].to(c); !h.cells[to].reached {
				h.cells[to].reached = true
				queue = append(queue, to)
			}
		}
	}
	return border
}

// leak is the way of fewest openings from one of some cells to the border: which
// of the cells, and the openings' middles up to the border.
func (h *hull) leak(from []int) (start int, way []geom.Vec3) {
	by := make([]came, len(h.cells))
	queue := slices.Clone(from)
	for i, c := range from {
		if by[c] == (came{}) {
			by[c] = came{start: i + 1}
		}
	}
	for len(queue) > 0 {
		c := queue[0]
		queue = queue[1:]
		if h.cells[c].border {
			start, way = h.back(by, c)
			return start, append(way, h.cells[c].exit)
		}
		for _, i := range h.of(c) {
			if to := h.openings[i].to(c); by[to] == (came{}) {
				by[to] = came{from: c, by: i, on: true}
				queue = append(queue, to)
			}
		}
	}
	return 0, nil
}

// came is how a cell was come to: as a start, counted from 1, or on from another
// cell by an opening.
type came struct {
	start, from int
	by          int32
	on          bool
}

func (h *hull) back(by []came, c int) (start int, way []geom.Vec3) {
	for by[c].on {
		way = append(way, h.openings[by[c].by].mid)
		c = by[c].from
	}
	slices.Reverse(way)
	return by[c].start - 1, way
}

// through is where a way out comes into the open: from where on at least half of
// the directions about it meet no solid. That is the outer end of the hole, or
// the way's beginning where that lies open.
func (h *hull) through(way []geom.Vec3) geom.Vec3 {
	step := h.all.Size().Len() / 512
	last := way[0]
	if h.open(last) {
		return last
	}
	for i := range way[1:] {
		a, b := way[i], way[i+1]
		n := min(64, int(b.Sub(a).Len()/step)+1)
		for k := range n {
			at := a.Add(b.Sub(a).Mul(float64(k+1) / float64(n)))
			if !h.open(at) {
				last = at
				continue
			}
			for range 24 {
				if mid := last.Add(at).Mul(0.5); h.open(mid) {
					at = mid
				} else {
					last = mid
				}
			}
			return at
		}
	}
	return way[len(way)-1]
}

// open tells whether half of 26 directions from a point meet no solid.
func (h *hull) open(at geom.Vec3) bool {
	free, far := 0, h.all.Size().Len()
	for k := range 27 {
		d := geom.Vec3{float64(k%3 - 1), float64(k/3%3 - 1), float64(k/9 - 1)}
		if k != 13 && h.clear(0, at, at.Add(d.Norm().Mul(far))) {
			free++
		}
	}
	return free >= 13
}

// clear tells whether a line meets no solid cell below a node.
func (h *hull) clear(kid int, a, b geom.Vec3) bool {
	for kid >= 0 && len(h.nodes) > 0 {
		n := &h.nodes[kid]
		da, db := n.n.Dot(a)-n.d, n.n.Dot(b)-n.d
		switch {
		case da >= 0 && db >= 0:
			kid = n.kids[0]
		case da <= 0 && db <= 0:
			kid = n.kids[1]
		default:
			mid := a.Add(b.Sub(a).Mul(da / (da - db)))
			near, far := n.kids[0], n.kids[1]
			if da < 0 {
				near, far = far, near
			}
			if !h.clear(near, a, mid) {
				return false
			}
			kid, a = far, mid
		}
	}
	return kid >= 0 || !h.cells[^kid].solid
}

// sees tells whether an outline is seen from a reached cell on the side that its
// normal shows to.
func (h *hull) sees(o outline) bool {
	// A hair's breadth before the face, so that it does not lie on the plane that
	// it made.
	moved := make([]geom.Vec3, len(o.corners))
	for i, c := range o.corners {
		moved[i] = c.Add(o.normal.Mul(4 * h.eps))
	}
	kid := ^0
	if len(h.nodes) > 0 {
		kid = 0
	}
	seen := false
	h.push(kid, moved, func(c int, part []geom.Vec3) {
		if area, _ := measure(part); area > h.eps*h.eps {
			seen = seen || h.cells[c].reached
		}
	})
	return seen
}
