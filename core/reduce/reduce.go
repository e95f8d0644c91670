// Package reduce takes triangles out of meshes where that is seen least.
//
// It collapses edges, one end onto the other, in the order of the error that
// quadrics tell (Garland and Heckbert, Surface Simplification Using Quadric
// Error Metrics, 1997), in passes: in each, the cheapest collapses that do not
// touch each other are done at once. No vertex moves, so that everything that
// vertices carry stays true. Open borders and seams have quadrics of their own
// and collapse along themselves only; where either branches, vertices stay.
package reduce

import (
	"context"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/place"
)

// Mesh is one list of triangles.
type Mesh struct {
	Triangles []uint32
	// Positions are three numbers a vertex, in units that are common to all
	// meshes: they are measured against each other.
	Positions []float32
	// Shown is how many times the mesh counts: 1 for one node.
	Shown int
	// Held vertices stay, such as those of lines.
	Held []bool
	// Apart is a distance squared that a collapse of u onto v costs besides, for
	// what vertices carry and a surface does not show; nil is none.
	Apart func(u, v uint32) float64
}

// Result is the meshes' triangles after it, by the same vertices, and the
// largest error of a collapse, in the positions' units: the distance of what
// went from the planes round it, as a mean over them.
type Result struct {
	Triangles [][]uint32
	Error     float64
}

const (
	borderWeight = 10  // of a border's quadric against those of faces
	seamWeight   = 1   // of a seam's
	leastTurn    = 0.4 // cosine: a face may turn so far at most by one collapse
	passes       = 200 // at most; each takes out a share of what is left
	manyFaces    = 512 // round one place: it stays, so that no look round one takes long
)

// Of reduces meshes together until at most most triangles are shown or the next
// collapse costs more than err; most of 0 and an err of +Inf are no bound.
func Of(ctx context.Context, meshes []Mesh, most int, err float64) (Result, error) {
	r := newReducer(meshes)
	for range passes {
		if e := ctx.Err(); e != nil {
			return Result{}, e
		}
		if r.shown <= most || !r.pass(most, err*err/(r.scale*r.scale)) {
			break
		}
	}
	return r.result(), nil
}

// quadric is a sum of squared distances from planes, each weighted by an area
// w: x'Ax + 2b'x + c.
type quadric struct {
	a00, a11, a22, a01, a02, a12 float64
	b0, b1, b2, c, w             float64
}

func (q *quadric) add(o *quadric) {
	q.a00 += o.a00
	q.a11 += o.a11
	q.a22 += o.a22
	q.a01 += o.a01
	q.a02 += o.a02
	q.a12 += o.a12
	q.b0 += o.b0
	q.b1 += o.b1
	q.b2 += o.b2
	q.c += o.c
	q.w += o.w
}

// plane adds the squared distance from the plane through p across n.
func (q *quadric) plane(n, p geom.Vec3, w float64) {
	d := -n.Dot(p)
	q.a00 += w * n[0] * n[0]
	q.a11 += w * n[1] * n[1]
	q.a22 += w * n[2] * n[2]
	q.a01 += w * n[0] * n[1]
	q.a02 += w * n[0] * n[2]
	q.a12 += w * n[1] * n[2]
	q.b0 += w * n[0] * d
	q.b1 += w * n[1] * d
	q.b2 += w * n[2] * d
	q.c += w * d * d
	q.w += w
}

// at is the mean squared distance of a point from the planes.
func (q *quadric) at(p geom.Vec3) float64 {
	if q.w == 0 {
		return 0
	}
	x, y, z := p[0], p[1], p[2]
	v := q.a00*x*x + q.a11*y*y + q.a22*z*z + 2*(q.a01*x*y+q.a02*x*z+q.a12*y*z) + 2*(q.b0*x+q.b1*y+q.b2*z) + q.c
	return math.Abs(v) / q.w
}

// kind says how a place may collapse.
type kind uint8

const (
	inner  kind = iota // onto any neighbour
	border             // along its open border
	seam               // along its seam
	fixed              // not at all
)

// reducer works on all meshes at once. A vertex is one of a mesh's; a place is
// all vertices of one mesh at one position, named by the first.
type reducer struct {
	meshes []Mesh
	base   []uint32 // the first vertex of each mesh
	mesh   []int32  // of each triangle
	pos    []geom.Vec3
	scale  float64 // of pos: one of its units in those of the positions
	place  []uint32
	tri    []uint32 // by vertices
	q      []quadric
	kind   []kind
	shown  int
	worst  float64 // squared

	// Corners by place, made anew for each pass.
	first   []int32
	corners []int32
	to      []uint32 // where vertices have gone in this pass
	touched []bool

	ringA, ringB []uint32 // places beside both ends of an edge
}

func newReducer(meshes []Mesh) *reducer {
	r := &reducer{meshes: meshes}
	box := geom.EmptyBox()
	for i := range meshes {
		m := &meshes[i]
		r.base = append(r.base, uint32(len(r.pos)))
		for v := range len(m.Positions) / 3 {
			p := geom.At(m.Positions, uint32(v))
			box.Add(p)
			r.pos = append(r.pos, p)
		}
	}
	size := box.Size()
	if r.scale = max(size[0], size[1], size[2]); !(r.scale > 0) {
		r.scale = 1
	}
	for i := range r.pos {
		r.pos[i] = r.pos[i].Sub(box.Min).Mul(1 / r.scale)
	}
	r.places()
	for i := range meshes {
		m := &meshes[i]
		for t := 0; t+2 < len(m.Triangles); t += 3 {
			a, b, c := m.Triangles[t]+r.base[i], m.Triangles[t+1]+r.base[i], m.Triangles[t+2]+r.base[i]
			if r.place[a] == r.place[b] || r.place[b] == r.place[c] || r.place[a] == r.place[c] {
				continue // without area, and in the way of what the rest would show
			}
			r.tri = append(r.tri, a, b, c)
			r.mesh = append(r.mesh, int32(i))
			r.shown += m.Shown
		}
	}
	r.to = make([]uint32, len(r.pos))
	r.touched = make([]bool, len(r.pos))
	r.first = make([]int32, len(r.pos)+1)
	r.q = make([]quadric, len(r.pos))
	r.kind = make([]kind, len(r.pos))
	r.gather()
	r.weigh()
	return r
}

// places finds the vertices of a mesh that lie in one place.
func (r *reducer) places() {
	r.place = make([]uint32, 0, len(r.pos))
	for i := range r.meshes {
		for _, v := range place.Of(r.meshes[i].Positions) {
			r.place = append(r.place, r.base[i]+v)
		}
	}
}

// gather lists the corners at each place.
func (r *reducer) gather() {
	clear(r.first)
	for _, v := range r.tri {
		r.first[r.place[v]+1]++
	}
	for i := 1; i < len(r.first); i++ {
		r.first[i] += r.first[i-1]
	}
	if cap(r.corners) < len(r.tri) {
		r.corners = make([]int32, len(r.tri))
	}
	r.corners = r.corners[:len(r.tri)]
	for c, v := range r.tri {
		p := r.place[v]
		r.corners[r.first[p]] = int32(c)
		r.first[p]++
	}
	copy(r.first[1:], r.first[:len(r.first)-1])
	r.first[0] = 0
}

// at lists the corners at a place.
func (r *reducer) at(p uint32) []int32 { return r.corners[r.first[p]:r.first[p+1]] }

// next is the corner after one in its triangle.
func next(c int32) int32 {
	if c%3 == 2 {
		return c - 2
	}
	return c + 1
}

// opposite is the corner at b whose edge runs from b to a by places, -1 if
// there is none; many tells of more than one.
func (r *reducer) opposite(a, b uint32) (at int32, many bool) {
	at = -1
	for _, c := range r.at(b) {
		if r.place[r.tri[next(c)]] == a {
			many = many || at >= 0
			at = c
		}
	}
	return at, many
}

// weigh gives places their quadrics and kinds.
func (r *reducer) weigh() {
	type edges struct{ border, seam uint8 }
	of := make([]edges, len(r.pos))
	fix := make([]bool, len(r.pos))
	for i := range r.meshes {
		for v, held := range r.meshes[i].Held {
			if held {
				fix[r.place[r.base[i]+uint32(v)]] = true
			}
		}
	}
	more := func(n *uint8) {
		if *n < 255 {
			*n++
		}
	}
	for t := 0; t+2 < len(r.tri); t += 3 {
		p := [3]uint32{r.place[r.tri[t]], r.place[r.tri[t+1]], r.place[r.tri[t+2]]}
		n := r.pos[p[1]].Sub(r.pos[p[0]]).Cross(r.pos[p[2]].Sub(r.pos[p[0]]))
		area := n.Len()
		n = n.Norm()
		for _, v := range p {
			r.q[v].plane(n, r.pos[v], area)
		}
		for k := range 3 {
			a, b := p[k], p[(k+1)%3]
			o, many := r.opposite(a, b)
			if _, twice := r.along(a, b); many || twice {
				fix[a], fix[b] = true, true
				continue
			}
			weight := 0.0
			switch {
			case o < 0:
				weight = borderWeight
				more(&of[a].border)
				more(&of[b].border)
			case r.tri[o] != r.tri[t+(k+1)%3] || r.tri[next(o)] != r.tri[t+k]:
				weight = seamWeight
				more(&of[a].seam)
			}
			if weight == 0 {
				continue
			}
			e := r.pos[b].Sub(r.pos[a])
			across := n.Cross(e).Norm()
			r.q[a].plane(across, r.pos[a], weight*e.Dot(e))
			r.q[b].plane(across, r.pos[b], weight*e.Dot(e))
		}
	}
	wedges := make([]uint8, len(r.pos))
	used := make([]bool, len(r.pos))
	for _, v := range r.tri {
		if !used[v] {
			used[v] = true
			more(&wedges[r.place[v]])
		}
	}
	for p := range of {
		e := of[p]
		switch {
		case fix[p]:
			r.kind[p] = fixed
		case e == edges{} && wedges[p] <= 1:
			r.kind[p] = inner
		case e.border == 2 && e.seam == 0 && wedges[p] == 1:
			r.kind[p] = border
		case e.border == 0 && e.seam == 2 && wedges[p] == 2: // each side of an edge counts at its beginning
			r.kind[p] = seam
		default:
			r.kind[p] = fixed
		}
	}
}

// along is the corner at a whose edge runs to b; twice tells of more than one.
func (r *reducer) along(a, b uint32) (at int32, twice bool) { return r.opposite(b, a) }

// collapse is one place onto another.
type collapse struct {
	cost float64
	from uint32 // places
	onto uint32
}

// pass does the cheapest collapses, and tells whether there were any.
func (r *reducer) pass(most int, bound float64) bool {
	list := r.candidates(bound)
	slices.SortFunc(list, func(a, b collapse) int {
		switch {
		case a.cost < b.cost:
			return -1
		case a.cost > b.cost:
			return 1
		case a.from != b.from:
			return int(a.from) - int(b.from)
		}
		return int(a.onto) - int(b.onto)
	})
	for v := range r.to {
		r.to[v] = uint32(v)
	}
	clear(r.touched)
	// What is cheap now may be cheaper than what is dear in a later pass: of a
	// pass no more is taken than what the aim would need, and half as much again
	// in cost.
	need := min((r.shown-most+1)/2, len(list)/3)
	stop := math.Inf(1)
	if need < len(list) {
		stop = max(1.5*list[need].cost, 1e-14)
	}
	done := 0
	for _, c := range list {
		if r.shown <= most || c.cost > stop && done > 0 {
			break
		}
		if r.touched[c.from] || r.touched[c.onto] || !r.sound(c.from, c.onto) {
			continue
		}
		r.do(c)
		done++
	}
	if done == 0 {
		return false
	}
	r.apply()
	r.gather()
	return true
}

// candidates are for each place its cheapest collapse within the bound.
func (r *reducer) candidates(bound float64) []collapse {
	list := make([]collapse, 0, len(r.tri)/6)
	for p := range uint32(len(r.pos)) {
		if n := r.first[p+1] - r.first[p]; r.kind[p] == fixed || n == 0 || n > manyFaces {
			continue
		}
		best := collapse{cost: math.Inf(1)}
		try := func(u uint32) {
			if c := r.cost(p, u); c < best.cost {
				best = collapse{c, p, u}
			}
		}
		for _, c := range r.at(p) {
			b, a := r.place[r.tri[next(c)]], r.place[r.tri[next(next(c))]]
			if r.first[b+1]-r.first[b] > manyFaces {
				continue
			}
			if r.allowed(p, b) {
				try(b)
			}
			// The edge that ends here begins in another triangle too, but for borders.
			if r.kind[p] == border && r.allowed(p, a) {
				try(a)
			}
		}
		if best.cost <= bound {
			list = append(list, best)
		}
	}
	return list
}

// allowed tells whether a place may collapse along its edge to another.
func (r *reducer) allowed(p, u uint32) bool {
	switch r.kind[p] {
	case inner:
		return true
	case border:
		if r.kind[u] != border && r.kind[u] != fixed {
			return false
		}
		o, _ := r.opposite(p, u)
		a, _ := r.along(p, u)
		return (o < 0) != (a < 0)
	case seam:
		if r.kind[u] != seam && r.kind[u] != fixed {
			return false
		}
		a, _ := r.along(p, u)
		o, _ := r.opposite(p, u)
		return a >= 0 && o >= 0 && (r.tri[o] != r.tri[next(a)] || r.tri[next(o)] != r.tri[a])
	}
	return false
}

func (r *reducer) cost(p, u uint32) float64 {
	// The planes round u are its own: they would only thin out how far it is from
	// those of p.
	c := r.q[p].at(r.pos[u])
	if m := r.meshOf(p); m.Apart != nil {
		base := r.base[r.mesh[r.at(p)[0]/3]]
		c += m.Apart(p-base, u-base) / (r.scale * r.scale)
	}
	return c
}

func (r *reducer) meshOf(p uint32) *Mesh { return &r.meshes[r.mesh[r.at(p)[0]/3]] }

// now is the place that a vertex has come to in this pass.
func (r *reducer) now(v uint32) uint32 { return r.place[r.to[v]] }

// sound tells whether a collapse leaves a surface: no face turns over, and no
// two parts of it come to touch (the link condition, Dey et al. 1999: what is
// beside both ends is across the edge between them).
func (r *reducer) sound(p, u uint32) bool {
	across := 0
	for _, c := range r.at(p) {
		a, b := r.now(r.tri[next(c)]), r.now(r.tri[next(next(c))])
		if a == b || a == p || b == p {
			continue // it has gone already
		}
		if a == u || b == u {
			across++
			continue
		}
		was := r.pos[a].Sub(r.pos[p]).Cross(r.pos[b].Sub(r.pos[p]))
		is := r.pos[a].Sub(r.pos[u]).Cross(r.pos[b].Sub(r.pos[u]))
		if was.Dot(is) <= leastTurn*was.Len()*is.Len() {
			return false
		}
	}
	mine, theirs := r.round(p, r.ringA[:0]), r.round(u, r.ringB[:0])
	r.ringA, r.ringB = mine, theirs
	both := 0
	for _, y := range theirs {
		if y != p && y != u && slices.Contains(mine, y) {
			both++
		}
	}
	return across > 0 && both == across
}

// round lists the places beside one, each once, as they are now.
func (r *reducer) round(x uint32, list []uint32) []uint32 {
	for _, c := range r.at(x) {
		a, b := r.now(r.tri[next(c)]), r.now(r.tri[next(next(c))])
		if a == b || a == x || b == x {
			continue
		}
		if !slices.Contains(list, a) {
			list = append(list, a)
		}
		if !slices.Contains(list, b) {
			list = append(list, b)
		}
	}
	return list
}

// do moves the vertices of a place onto those of another that they share an
// edge with.
func (r *reducer) do(c collapse) {
	r.touched[c.from], r.touched[c.onto] = true, true
	// Faces round it change: what they touch is measured by where it is now, but
	// not collapsed any more in this pass.
	for _, k := range r.at(c.from) {
		t := k / 3
		a, b := r.now(r.tri[next(k)]), r.now(r.tri[next(next(k))])
		if (a == c.onto) != (b == c.onto) {
			r.shown -= r.meshes[r.mesh[t]].Shown
		}
	}
	for _, k := range r.at(c.from) {
		v := r.tri[k]
		for _, o := range []int32{next(k), next(next(k))} {
			if r.now(r.tri[o]) == c.onto && r.to[v] == v {
				r.to[v] = r.to[r.tri[o]]
			}
		}
	}
	// A vertex of it that shares no edge with the other place, as at the end of a
	// seam, goes to any of the other's.
	for _, k := range r.at(c.from) {
		if v := r.tri[k]; r.to[v] == v {
			r.to[v] = r.tri[r.at(c.onto)[0]]
		}
	}
	r.q[c.onto].add(&r.q[c.from])
	r.worst = max(r.worst, c.cost)
}

// apply gives the triangles their new vertices and drops those without area.
func (r *reducer) apply() {
	n := 0
	r.shown = 0
	for t := 0; t+2 < len(r.tri); t += 3 {
		a, b, c := r.to[r.tri[t]], r.to[r.tri[t+1]], r.to[r.tri[t+2]]
		if r.place[a] == r.place[b] || r.place[b] == r.place[c] || r.place[a] == r.place[c] {
			continue
		}
		r.tri[n], r.tri[n+1], r.tri[n+2] = a, b, c
		r.mesh[n/3] = r.mesh[t/3]
		r.shown += r.meshes[r.mesh[t/3]].Shown
		n += 3
	}
	r.tri, r.mesh = r.tri[:n], r.mesh[:n/3]
}

func (r *reducer) result() Result {
	out := Result{Triangles: make([][]uint32, len(r.meshes)), Error: math.Sqrt(r.worst) * r.scale}
	for t := 0; t+2 < len(r.tri); t += 3 {
		m := r.mesh[t/3]
		for _, v := range r.tri[t : t+3] {
			out.Triangles[m] = append(out.Triangles[m], v-r.base[m])
		}
	}
	return out
}
