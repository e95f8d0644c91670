// Package hull computes convex hulls of points in space by Quickhull (Barber,
// Dobkin and Huhdanpaa, The Quickhull Algorithm for Convex Hulls, ACM TOMS 22,
// 1996): begin with a tetrahedron of far points, then take in the point that
// lies furthest outside a face, until none does or there are corners enough.
package hull

import (
	"math"

	"excavate/core/geom"
)

// Hull is a convex body: its corners, and its faces as triangles of corners,
// wound so that (b-a) x (c-a) points outwards.
type Hull struct {
	Corners []geom.Vec3
	Faces   [][3]int
	// Out is how far the point that is furthest outside lies from the face
	// above which it is: 0 but for rounding, unless corners were too few.
	Out float64
}

// face is a triangle of the hull under construction.
type face struct {
	v       [3]int32 // of the points
	next    [3]int32 // the face across the edge from corner k to k+1
	normal  geom.Vec3
	offset  float64
	outside []int32 // the points above it that no earlier face has taken
	far     int32   // of these the furthest
	farBy   float64
	gone    bool
	seen    int32 // by which round
}

// Of returns the hull of points with at most most corners (4 and more; 0 is
// any number). ok is false where they lie in one plane, within a millionth of
// their extent: they have no hull that a body could be.
func Of(points []geom.Vec3, most int) (h Hull, ok bool) {
	if len(points) < 4 {
		return Hull{}, false
	}
	// Relative to one of them, so that far from the origin nothing is rounded away.
	b := builder{p: make([]geom.Vec3, len(points)), most: most}
	for i, x := range points {
		b.p[i] = x.Sub(points[0])
	}
	if !b.begin() {
		return Hull{}, false
	}
	b.grow()
	h = b.hull()
	for i := range h.Corners {
		h.Corners[i] = h.Corners[i].Add(points[0])
	}
	return h, true
}

type builder struct {
	p     []geom.Vec3
	eps   float64
	most  int
	faces []face
	round int32
	todo  []int32 // faces that may have points above them
}

// begin makes the first tetrahedron: two points furthest apart along an axis,
// the one furthest from their line, the one furthest from that plane.
func (b *builder) begin() bool {
	p := b.p
	var lo, hi [3]int
	size := 0.0
	for i := range p {
		for k := range 3 {
			if p[i][k] < p[lo[k]][k] {
				lo[k] = i
			}
			if p[i][k] > p[hi[k]][k] {
				hi[k] = i
			}
		}
	}
	a, c := 0, 0
	for k := range 3 {
		if d := p[hi[k]][k] - p[lo[k]][k]; d > size {
			size, a, c = d, lo[k], hi[k]
		}
	}
	b.eps = 1e-9 * size
	flat := 1e-6 * size
	furthest := func(of func(x geom.Vec3) float64) (best int, d float64) {
		for i := range p {
			if x := math.Abs(of(p[i])); x > d {
				best, d = i, x
			}
		}
		return best, d
	}
	line := p[c].Sub(p[a]).Norm()
	e, d := furthest(func(x geom.Vec3) float64 { return x.Sub(p[a]).Cross(line).Len() })
	if !(d > flat) {
		return false
	}
	n := p[c].Sub(p[a]).Cross(p[e].Sub(p[a])).Norm()
	f, d := furthest(func(x geom.Vec3) float64 { return x.Sub(p[a]).Dot(n) })
	if !(d > flat) {
		return false
	}
	if p[f].Sub(p[a]).Dot(n) > 0 {
		c, e = e, c // so that the fourth lies below the first three
	}
	v := [4]int32{int32(a), int32(c), int32(e), int32(f)}
	for _, t := range [][3]int{{0, 1, 2}, {0, 3, 1}, {1, 3, 2}, {2, 3, 0}} {
		b.add(v[t[0]], v[t[1]], v[t[2]])
	}
	// Across the edges 01, 12 and 20 of the first lie the others; these meet in
	// the edges to 3.
	b.faces[0].next = [3]int32{1, 2, 3}
	b.faces[1].next = [3]int32{3, 2, 0}
	b.faces[2].next = [3]int32{1, 3, 0}
	b.faces[3].next = [3]int32{2, 1, 0}
	all := make([]int32, 0, len(p))
	for i := range p {
		all = append(all, int32(i))
	}
	b.share(all, []int32{0, 1, 2, 3})
	return true
}

func (b *builder) add(i, j, k int32) int32 {
	n := b.p[j].Sub(b.p[i]).Cross(b.p[k].Sub(b.p[i])).Norm()
	b.faces = append(b.faces, face{v: [3]int32{i, j, k}, normal: n, offset: n.Dot(b.p[i])})
	return int32(len(b.faces) - 1)
}

// share gives points to the first of the faces above which they lie.
func (b *builder) share(points, faces []int32) {
	for _, i := range points {
		for _, k := range faces {
			f := &b.faces[k]
			d := f.normal.Dot(b.p[i]) - f.offset
			if d <= b.eps {
				continue
			}
			f.outside = append(f.outside, i)
			if d > f.farBy {
				f.far, f.farBy = i, d
			}
			break
		}
	}
	b.todo = append(b.todo, faces...)
}

// grow takes points in. With a bound on corners the furthest of all is taken
// each time, so that what is left out sticks out least.
func (b *builder) grow() {
	corners := 4
	for len(b.todo) > 0 {
		at := len(b.todo) - 1
		if b.most > 0 {
			if corners >= b.most {
				return
			}
			live := b.todo[:0]
			for _, k := range b.todo {
				if f := &b.faces[k]; !f.gone && len(f.outside) > 0 {
					live = append(live, k)
				}
			}
			if b.todo = live; len(live) == 0 {
				return
			}
			at = 0
			for i, k := range live {
				if b.faces[k].farBy > b.faces[live[at]].farBy {
					at = i
				}
			}
		}
		k := b.todo[at]
		b.todo = append(b.todo[:at], b.todo[at+1:]...)
		if f := &b.faces[k]; !f.gone && len(f.outside) > 0 {
			if b.takeIn(k) {
				corners++
			}
		}
	}
}

// rim is an edge between faces that a point sees and one that it does not.
type rim struct {
	a, b   int32 // points, as the face that goes had them
	beyond int32 // the face that stays
	side   int   // and its edge
}

// takeIn replaces the faces that a face's furthest point sees by faces from
// their rim to that point.
func (b *builder) takeIn(start int32) bool {
	eye := b.faces[start].far
	p := b.p[eye]
	b.round++
	visible := []int32{start}
	b.faces[start].seen = b.round
	var edges []rim
	for i := 0; i < len(visible); i++ {
		k := visible[i]
		for e := range 3 {
			o := b.faces[k].next[e]
			n := &b.faces[o]
			if n.seen == b.round {
				continue
			}
			// A face in whose plane it lies is replaced too: else its rim could run
			// through the point, and a face without area come of it.
			if n.normal.Dot(p)-n.offset > -b.eps {
				n.seen = b.round
				visible = append(visible, o)
			}
		}
	}
	for _, k := range visible {
		f := &b.faces[k]
		for e := range 3 {
			if o := f.next[e]; b.faces[o].seen != b.round {
				edges = append(edges, rim{f.v[e], f.v[(e+1)%3], o, b.edge(o, f.v[(e+1)%3], f.v[e])})
			}
		}
	}
	ring := ordered(edges)
	if ring == nil { // rounding tore the rim: the point is let go
		f := &b.faces[start]
		f.drop(eye, b.p)
		b.todo = append(b.todo, start)
		return false
	}
	var orphans, made []int32
	for _, k := range visible {
		f := &b.faces[k]
		for _, i := range f.outside {
			if i != eye {
				orphans = append(orphans, i)
			}
		}
		f.gone, f.outside = true, nil
	}
	first := int32(len(b.faces))
	n := int32(len(ring))
	for i, r := range ring {
		k := b.add(r.a, r.b, eye)
		b.faces[k].next = [3]int32{r.beyond, first + (int32(i)+1)%n, first + (int32(i)+n-1)%n}
		b.faces[r.beyond].next[r.side] = k
		made = append(made, k)
	}
	b.share(orphans, made)
	return true
}

// drop forgets a point above the face.
func (f *face) drop(eye int32, p []geom.Vec3) {
	left := f.outside[:0]
	f.farBy = 0
	for _, i := range f.outside {
		if i == eye {
			continue
		}
		left = append(left, i)
		if d := f.normal.Dot(p[i]) - f.offset; d > f.farBy {
			f.far, f.farBy = i, d
		}
	}
	f.outside = left
}

// edge is which edge of a face runs from a to b.
func (b *builder) edge(k, from, to int32) int {
	f := &b.faces[k]
	for e := range 3 {
		if f.v[e] == from && f.v[(e+1)%3] == to {
			return e
		}
	}
	return 0
}

// ordered puts edges into one closed ring, or returns nil if they make none.
func ordered(edges []rim) []rim {
	at := make(map[int32]int, len(edges))
	for i, r := range edges {
		if _, twice := at[r.a]; twice {
			return nil
		}
		at[r.a] = i
	}
	out := make([]rim, 0, len(edges))
	for i := 0; len(out) < len(edges); {
		out = append(out, edges[i])
		next, ok := at[edges[i].b]
		if !ok || next == 0 && len(out) < len(edges) {
			return nil
		}
		i = next
	}
	if len(out) < 3 || out[len(out)-1].b != out[0].a {
		return nil
	}
	return out
}

func (b *builder) hull() (h Hull) {
	to := map[int32]int{}
	for i := range b.faces {
		f := &b.faces[i]
		if f.gone {
			continue
		}
		var t [3]int
		for k, v := range f.v {
			n, ok := to[v]
			if !ok {
				n = len(h.Corners)
				to[v] = n
				h.Corners = append(h.Corners, b.p[v])
			}
			t[k] = n
		}
		h.Faces = append(h.Faces, t)
	}
	for i := range b.faces {
		for _, v := range b.faces[i].outside { // a face that is gone has none
			for k := range b.faces {
				if f := &b.faces[k]; !f.gone {
					h.Out = max(h.Out, f.normal.Dot(b.p[v])-f.offset)
				}
			}
		}
	}
	return h
}

// Volume is what the hull encloses.
func (h *Hull) Volume() float64 {
	v := 0.0
	for _, f := range h.Faces {
		o := h.Corners[0]
		v += h.Corners[f[0]].Sub(o).Dot(h.Corners[f[1]].Sub(o).Cross(h.Corners[f[2]].Sub(o)))
	}
	return v / 6
}
