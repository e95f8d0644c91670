package unfold

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"math/bits"
	"slices"
)

// lay makes pieces of a net, gives them tabs, and puts them onto pages.
func (sh *Sheet) lay(ctx context.Context, n *net) error {
	m := n.m
	for k := range m.edges {
		l := &m.edges[k]
		e := &m.Edges[l.longest]
		sh.Edges = append(sh.Edges, Edge{Facets: l.facets, Length: l.length, Angle: l.angle,
			Folded: n.folded[k], Key: l.key, A: m.Places[e.A], B: m.Places[e.B]})
	}
	number := map[int]int{} // of patches
	for p, x := range n.pieces {
		if x != nil {
			number[p] = len(sh.Pieces)
			sh.Pieces = append(sh.Pieces, n.pieceOf(x))
		}
	}
	place := func(facet int) int { return number[n.piece[facet]] }
	sh.addTabs(n, place)
	sh.addLines(n, place)
	return sh.pack(ctx)
}

func (n *net) pieceOf(x *patch) (p Piece) {
	slices.Sort(x.facets)
	for _, f := range x.facets {
		face := Face{Facet: f}
		for _, loop := range n.m.facets[f].loops {
			var o []Point
			for _, v := range loop {
				o = append(o, n.at[f].at(n.m.facets[f].flat[v]))
			}
			face.Outlines = append(face.Outlines, o)
		}
		p.Faces = append(p.Faces, face)
	}
	at := map[int32]int{}
	for i, f := range x.facets {
		for _, t := range n.m.facets[f].triangles {
			at[t] = i
		}
	}
	for i := range x.triangles {
		f := &p.Faces[at[x.triangles[i].of]]
		f.triangles = append(f.triangles, x.triangles[i])
	}
	return p
}

// addLines gives every piece the lines of its facets. Those that are cut are
// numbered, the same on both sides.
func (sh *Sheet) addLines(n *net, place func(facet int) int) {
	next := 0
	for k := range n.m.edges {
		l := &n.m.edges[k]
		for _, e := range l.edges {
			number := 0
			if !n.folded[k] && l.facets[1] >= 0 {
				next++
				number = next
			}
			for side, f := range l.facets {
				if f < 0 || side == 1 && n.folded[k] {
					continue
				}
				a, b := n.m.ends(l, f, e)
				line := Line{Kind: Cut, A: n.at[f].at(a), B: n.at[f].at(b), Edge: k, Number: number, Angle: l.angle, Facet: f}
				if n.folded[k] {
					line.Kind = kindOf(l.angle)
				}
				p := &sh.Pieces[place(f)]
				p.Lines = append(p.Lines, line)
			}
		}
	}
}

// kindOf is how an edge is folded by its angle.
func kindOf(angle float64) Kind {
	switch {
	case math.Abs(angle) < outOfLine:
		return Flat
	case angle < 0:
		return Valley
	}
	return Mountain
}

// depths are parts of a tab's full depth that are tried, the deepest first.
var depths = []float64{1, 0.75, 0.5, 0.3}

// addTabs gives every cut edge a tab on one of its sides: where it is deepest
// without lying on its own piece, on another tab, or beyond the facet that it is
// glued under.
func (sh *Sheet) addTabs(n *net, place func(facet int) int) {
	o := &sh.Options
	if o.Tab <= 0 {
		return
	}
	grounds := make([][]flatTriangle, len(sh.Pieces))
	for p := range sh.Pieces {
		for f := range sh.Pieces[p].Faces {
			grounds[p] = append(grounds[p], sh.Pieces[p].Faces[f].triangles...)
		}
	}
	for k := range n.m.edges {
		l := &n.m.edges[k]
		if n.folded[k] || l.facets[1] < 0 {
			continue
		}
		any := false
		for _, e := range l.edges {
			any = sh.addTab(n, k, e, place, grounds) || any
		}
		if !any {
			sh.Told.Untabbed++
		}
	}
}

func (sh *Sheet) addTab(n *net, k int, e int32, place func(facet int) int, grounds [][]flatTriangle) bool {
	l := &n.m.edges[k]
	sides := [2][2]int{{l.facets[0], l.facets[1]}, {l.facets[1], l.facets[0]}}
	if len(grounds[place(sides[0][0])]) < len(grounds[place(sides[0][1])]) {
		sides[0], sides[1] = sides[1], sides[0]
	}
	for _, part := range depths {
		for _, s := range sides {
			p := place(s[0])
			a, b := n.m.ends(l, s[0], e)
			a, b = n.at[s[0]].at(a), n.at[s[0]].at(b)
			tab, ok := tabOf(a, b, part*sh.Options.Tab)
			if !ok || !n.m.under(l, s[1], e, a, b, &tab) {
				continue
			}
			tab.Edge = k
			two := tab.triangles()
			if collide(grounds[p], two[:]) {
				continue
			}
			grounds[p] = append(grounds[p], two[:]...)
			sh.Pieces[p].Tabs = append(sh.Pieces[p].Tabs, tab)
			return true
		}
	}
	return false
}

// tabOf is a tab outside an edge, whose facet lies to the left from a to b.
// Short edges have triangles' ends drawn together less than 45°.
func tabOf(a, b Point, depth float64) (t Tab, ok bool) {
	d := b.sub(a)
	l := d.len()
	if l < 1.5 || depth < 1 {
		return t, false
	}
	d = d.mul(1 / l)
	out := Point{d[1], -d[0]}.mul(depth)
	in := d.mul(math.Min(depth, 0.35*l))
	t.Corners = [4]Point{a, b, b.sub(in).add(out), a.add(in).add(out)}
	return t, true
}

// triangles are a tab's two.
func (t *Tab) triangles() [2]flatTriangle {
	c := &t.Corners
	return [2]flatTriangle{flatOf([3]Point{c[0], c[2], c[1]}, -1), flatOf([3]Point{c[0], c[3], c[2]}, -1)}
}

// under tells whether a tab, folded under the other facet of its edge, lies
// within that.
func (m *model) under(l *link, facet int, e int32, a, b Point, t *Tab) bool {
	c, d := m.ends(l, facet, e)
	// Folding over turns the tab's plane round: along the edge from b to a, and
	// inwards what was outwards.
	along, inward := d.sub(c).mul(1/d.sub(c).len()), Point{}
	inward = Point{-along[1], along[0]}
	from := b.sub(a).mul(1 / b.sub(a).len())
	outward := Point{from[1], -from[0]}
	at := func(p Point) Point {
		q := p.sub(a)
		return d.sub(along.mul(q.dot(from))).add(inward.mul(q.dot(outward)))
	}
	for k := range 3 {
		p, q := t.Corners[(k+1)%4], t.Corners[(k+2)%4]
		for i := range 7 {
			if !m.holds(facet, at(p.add(q.sub(p).mul(float64(i)/6)))) {
				return false
			}
		}
	}
	return true
}

// holds tells whether a point of a facet's plane lies in it, but for a hundredth
// of a millimetre.
func (m *model) holds(facet int, p Point) bool {
	f := &m.facets[facet]
	for _, t := range f.triangles {
		within := true
		for k := range 3 {
			a, b := f.flat[m.Triangles[t].At[k]], f.flat[m.Triangles[t].At[(k+1)%3]]
			if turn(a, b, p) < -0.01*b.sub(a).len() {
				within = false
				break
			}
		}
		if within {
			return true
		}
	}
	return false
}

// Packing goes by cells: a piece covers those that are nearer than a gap.
const (
	cell = 1.25 // mm
	gap  = 1.5  // mm between pieces
)

// mask is which cells a piece covers, rows of bits.
type mask struct {
	w, h int
	rows [][]uint64
}

func newMask(w, h int) mask {
	m := mask{w: w, h: h, rows: make([][]uint64, h)}
	all := make([]uint64, h*((w+63)/64+1))
	for y := range m.rows {
		m.rows[y], all = all[:(w+63)/64+1], all[(w+63)/64+1:]
	}
	return m
}

func (m *mask) set(x, y int) { m.rows[y][x>>6] |= 1 << (x & 63) }

func (m *mask) count() (n int) {
	for _, r := range m.rows {
		for _, w := range r {
			n += bits.OnesCount64(w)
		}
	}
	return n
}

// free tells whether a piece's cells, shifted, are free.
func (m *mask) free(p *mask, dx, dy int) bool {
	word, shift := dx>>6, uint(dx&63)
	for y, row := range p.rows {
		to := m.rows[y+dy]
		for i, w := range row {
			if w == 0 {
				continue
			}
			if to[word+i]&(w<<shift) != 0 || shift > 0 && word+i+1 < len(to) && to[word+i+1]&(w>>(64-shift)) != 0 {
				return false
			}
		}
	}
	return true
}

// take covers a piece's cells.
func (m *mask) take(p *mask, dx, dy int) {
	word, shift := dx>>6, uint(dx&63)
	for y, row := range p.rows {
		to := m.rows[y+dy]
		for i, w := range row {
			if w == 0 {
				continue
			}
			to[word+i] |= w << shift
			if shift > 0 && w>>(64-shift) != 0 {
				to[word+i+1] |= w >> (64 - shift)
			}
		}
	}
}

// turned is a piece in one of the ways in which it may lie on a page.
type turned struct {
	by    rigid
	cells mask
}

// pack turns every piece to its smallest box and puts the largest first onto the
// first page that has room, as far up and left as it goes.
func (sh *Sheet) pack(ctx context.Context) error {
	w, h := sh.Options.room()
	order := make([]int, len(sh.Pieces))
	ways := make([][4]turned, len(sh.Pieces))
	size := make([]int, len(sh.Pieces))
	for p := range sh.Pieces {
		if err := ctx.Err(); err != nil {
			return err
		}
		order[p] = p
		ways[p] = sh.Pieces[p].ways(w-2*cell, h-2*cell)
		size[p] = ways[p][0].cells.w * ways[p][0].cells.h
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(size[b], size[a]) })
	gw, gh := int((w+2*gap)/cell), int((h+2*gap)/cell)
	var pages []mask
	var left []int
	for _, p := range order {
		if err := ctx.Err(); err != nil {
			return err
		}
		need := ways[p][0].cells.count()
		for page := 0; ; page++ {
			fresh := page == len(pages)
			if fresh {
				pages, left = append(pages, newMask(gw, gh)), append(left, gw*gh)
			}
			way, x, y, ok := (*turned)(nil), 0, 0, false
			if left[page] >= need {
				way, x, y, ok = pages[page].room(&ways[p])
			}
			if !ok && fresh {
				return fmt.Errorf("piece %d is larger than a page", p)
			}
			if !ok {
				continue
			}
			pages[page].take(&way.cells, x, y)
			left[page] -= way.cells.count()
			move := way.by
			move.x += float64(x)*cell + sh.Options.Margin
			move.y += float64(y)*cell + sh.Options.Margin
			sh.Pieces[p].Page = page
			sh.Pieces[p].move(move)
			break
		}
	}
	sh.Pages = len(pages)
	slices.SortStableFunc(sh.Pieces, func(a, b Piece) int { return cmp.Compare(a.Page, b.Page) })
	return nil
}

// room is where one of the ways of a piece has room on a page: the highest
// place, of those the leftmost.
func (m *mask) room(ways *[4]turned) (way *turned, x, y int, ok bool) {
	for k := range ways {
		c := &ways[k].cells
		for dy := 0; dy+c.h <= m.h; dy++ {
			if ok && dy >= y {
				break
			}
			for dx := 0; dx+c.w <= m.w; dx++ {
				if m.free(c, dx, dy) {
					way, x, y, ok = &ways[k], dx, dy, true
					break
				}
			}
		}
	}
	return way, x, y, ok
}

// points calls f with all of a piece's corners.
func (p *Piece) points(f func(*Point)) {
	for i := range p.Faces {
		for _, o := range p.Faces[i].Outlines {
			for k := range o {
				f(&o[k])
			}
		}
		for t := range p.Faces[i].triangles {
			for k := range 3 {
				f(&p.Faces[i].triangles[t].corners[k])
			}
		}
	}
	for i := range p.Tabs {
		for k := range p.Tabs[i].Corners {
			f(&p.Tabs[i].Corners[k])
		}
	}
	for i := range p.Lines {
		f(&p.Lines[i].A)
		f(&p.Lines[i].B)
	}
}

// move moves a piece onto its page. In its own plane up is up; on a page down
// is: so it is mirrored in numbers, and looks the same.
func (p *Piece) move(by rigid) {
	p.points(func(q *Point) { *q = by.at(Point{q[0], -q[1]}) })
	for i := range p.Faces {
		for t := range p.Faces[i].triangles {
			x := &p.Faces[i].triangles[t]
			*x = flatOf(x.corners, x.of)
		}
	}
}

// ways are a piece in the smallest box that a page holds, and that turned by
// quarters.
func (p *Piece) ways(w, h float64) (out [4]turned) {
	var all []Point
	p.points(func(q *Point) { all = append(all, Point{q[0], -q[1]}) })
	hull := convex(all)
	best, least := 0.0, math.Inf(1)
	weigh := func(angle float64) {
		sin, cos := math.Sincos(angle)
		low, high := extent(hull, cos, sin)
		s := high.sub(low)
		if (s[0] <= w && s[1] <= h || s[0] <= h && s[1] <= w) && s[0]*s[1] < least-1e-9 {
			best, least = angle, s[0]*s[1]
		}
	}
	for i := range hull {
		d := hull[(i+1)%len(hull)].sub(hull[i])
		weigh(-math.Atan2(d[1], d[0]))
	}
	for k := range angles {
		weigh(float64(k) * math.Pi / (2 * angles))
	}
	for k := range out {
		sin, cos := math.Sincos(best + float64(k)*math.Pi/2)
		low, high := extent(hull, cos, sin)
		by := rigid{cos, sin, gap - low[0], gap - low[1]}
		s := high.sub(low)
		// The margin of a page begins a gap within its grid.
		out[k] = turned{rigid{cos, sin, -low[0], -low[1]}, p.cells(by, s[0]+2*gap, s[1]+2*gap)}
	}
	return out
}

// cells are those that a piece covers, with the gap about it.
func (p *Piece) cells(by rigid, w, h float64) mask {
	m := newMask(int(math.Ceil(w/cell)), int(math.Ceil(h/cell)))
	cover := func(a, b, c Point) {
		t := flatOf([3]Point{by.at(Point{a[0], -a[1]}), by.at(Point{b[0], -b[1]}), by.at(Point{c[0], -c[1]})}, -1)
		sides := t.sides()
		const reach = gap/2 + cell*0.71
		for y := max(0, int((t.low[1]-gap)/cell)); y < min(m.h, int((t.high[1]+gap)/cell)+1); y++ {
			for x := max(0, int((t.low[0]-gap)/cell)); x < min(m.w, int((t.high[0]+gap)/cell)+1); x++ {
				px, py := (float64(x)+0.5)*cell, (float64(y)+0.5)*cell
				if sides[0].from(px, py) <= reach && sides[1].from(px, py) <= reach && sides[2].from(px, py) <= reach {
					m.set(x, y)
				}
			}
		}
	}
	for i := range p.Faces {
		for _, t := range p.Faces[i].triangles {
			cover(t.corners[0], t.corners[1], t.corners[2])
		}
	}
	for i := range p.Tabs {
		c := &p.Tabs[i].Corners
		cover(c[0], c[1], c[2])
		cover(c[0], c[2], c[3])
	}
	return m
}

// side is a line along a triangle: how far a point lies outside of it.
type side struct{ x, y, d float64 }

func (s *side) from(x, y float64) float64 { return s.x*x + s.y*y - s.d }

func (t *flatTriangle) sides() (out [3]side) {
	way := 1.0
	if turn(t.corners[0], t.corners[1], t.corners[2]) < 0 {
		way = -1
	}
	for k := range out {
		a := t.corners[k]
		d := t.corners[(k+1)%3].sub(a)
		l := math.Max(d.len(), 1e-12)
		out[k] = side{x: way * d[1] / l, y: -way * d[0] / l}
		out[k].d = out[k].x*a[0] + out[k].y*a[1]
	}
	return out
}
