// Package tangent computes tangents by the method of M. Mikkelsen, Simulation
// of Wrinkled Surfaces Revisited (2008), section 2, in the form that glTF 2.0
// section 3.7.2.1 asks for ("MikkTSpace"), so that a normal map which was
// baked with it shows as it was baked.
//
// Corners are numbered as the triangles list them: three a triangle. Two
// corners are the same point if position, normal and UV are equal to the bit.
// Triangles that share an edge between same points, and turn the picture the
// same way round, form groups about each of their points; every corner of a
// group has the mean of its triangles' directions of growing u, each laid
// into the plane of the normal and weighted by the triangle's angle there.
package tangent

import (
	"math"
	"sort"

	"excavate/core/place"
)

type vec [3]float32

func (a vec) sub(b vec) vec         { return vec{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }
func (a vec) add(b vec) vec         { return vec{a[0] + b[0], a[1] + b[1], a[2] + b[2]} }
func (a vec) times(s float32) vec   { return vec{a[0] * s, a[1] * s, a[2] * s} }
func (a vec) dot(b vec) float32     { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }
func (a vec) len() float32          { return float32(math.Sqrt(float64(a.dot(a)))) }
func (a vec) flatIn(normal vec) vec { return a.sub(normal.times(normal.dot(a))).unit() }
func notZero(x float32) bool        { return x > smallest || x < -smallest }
func (a vec) zero() bool            { return !notZero(a[0]) && !notZero(a[1]) && !notZero(a[2]) }
func (a vec) unit() vec {
	if a.zero() {
		return a
	}
	return a.times(1 / a.len())
}

// smallest is the least normal float32: what is nearer to 0 counts as 0.
const smallest = 1.17549435e-38

const none = -1

// triangle is what is known of one.
type triangle struct {
	along vec // the direction of growing u in the triangle
	// across is that of growing v. It is not an answer, but triangles with
	// opposite ones are not averaged.
	across    vec
	neighbour [3]int32 // at the edge from corner k to k+1
	group     [3]int32 // of each corner
	keeps     bool     // the picture is not mirrored on it
	any       bool     // its UVs have no area: it goes with any neighbour
}

// Of returns four numbers a corner: the unit tangent, and the sign by which
// cross(normal, tangent) becomes the direction of falling v, as glTF has it,
// whose v counts from above. The triangles' order does not matter but where
// more than two share an edge. Each list is indexed by the triangles.
func Of(triangles []uint32, positions, normals, uvs []float32) []float32 {
	n := len(triangles) / 3
	out := make([]float32, 12*n)
	for i := range 3 * n {
		out[4*i], out[4*i+3] = 1, 1
	}
	m := &maker{point: points(triangles[:3*n], positions, normals, uvs)}
	m.place = func(v uint32) vec { return vec(positions[3*v : 3*v+3]) }
	m.normal = func(v uint32) vec { return vec(normals[3*v : 3*v+3]) }
	// Triangles two of whose corners lie in one place take no part; their
	// corners get what others at the same point have.
	var flat []int
	for t := range n {
		a, b, c := m.place(m.point[3*t]), m.place(m.point[3*t+1]), m.place(m.point[3*t+2])
		if a == b || a == c || b == c {
			flat = append(flat, t)
			continue
		}
		m.list = append(m.list, t)
		m.tri = append(m.tri, measured(a, b, c, uvs, m.point[3*t:3*t+3]))
	}
	m.meet()
	m.gather()
	for g := range m.groups {
		m.average(&m.groups[g], out)
	}
	m.likeOthers(flat, out)
	for i := range 3 * n {
		if at := out[4*i : 4*i+3]; vec(at).zero() { // what was averaged came to nothing
			copy(at, anyAcross(m.normal(m.point[i]))[:])
		}
	}
	return out
}

type maker struct {
	point  []uint32   // of each corner: the first vertex that is the same point
	list   []int      // the triangles that take part
	tri    []triangle // of list
	groups []group
	place  func(v uint32) vec
	normal func(v uint32) vec
}

// group is triangles about one point.
type group struct {
	point uint32
	keeps bool
	tris  []int32
}

// points gives each corner the first vertex with the same numbers.
func points(triangles []uint32, positions, normals, uvs []float32) []uint32 {
	to := place.Same(len(positions)/3, place.Rows{Data: positions, Per: 3}, place.Rows{Data: normals, Per: 3}, place.Rows{Data: uvs, Per: 2})
	out := make([]uint32, len(triangles))
	for i, v := range triangles {
		out[i] = to[v]
	}
	return out
}

// measured takes a triangle's directions of growing u and v from its edges
// (Mikkelsen, equations for T and B; Lengyel has the same).
func measured(a, b, c vec, uvs []float32, at []uint32) triangle {
	uv := func(k int) (u, v float32) { return uvs[2*at[k]], uvs[2*at[k]+1] }
	u0, v0 := uv(0)
	u1, v1 := uv(1)
	u2, v2 := uv(2)
	bu, bv, cu, cv := u1-u0, v1-v0, u2-u0, v2-v0
	ab, ac := b.sub(a), c.sub(a)
	area := bu*cv - bv*cu
	t := triangle{keeps: area > 0, any: true, neighbour: [3]int32{none, none, none}, group: [3]int32{none, none, none}}
	if !notZero(area) {
		return t
	}
	along, across := ab.times(cv).sub(ac.times(bv)), ac.times(bu).sub(ab.times(cu))
	sign := float32(1)
	if !t.keeps {
		sign = -1
	}
	l, w := along.len(), across.len()
	if notZero(l) {
		t.along = along.times(sign / l)
	}
	if notZero(w) {
		t.across = across.times(sign / w)
	}
	if area < 0 {
		area = -area
	}
	t.any = !notZero(l/area) || !notZero(w/area)
	return t
}

// meet finds for each edge the triangle on its other side: the next one that
// runs along it the other way and is still free.
func (m *maker) meet() {
	type edge struct {
		a, b uint32 // a <= b
		tri  int32
		side int8
	}
	edges := make([]edge, 0, 3*len(m.tri))
	corner := func(t int32, k int) uint32 { return m.point[3*m.list[t]+k] }
	for t := range m.tri {
		for k := range 3 {
			a, b := corner(int32(t), k), corner(int32(t), (k+1)%3)
			if a > b {
				a, b = b, a
			}
			edges = append(edges, edge{a, b, int32(t), int8(k)})
		}
	}
	sort.Slice(edges, func(i, j int) bool {
		x, y := &edges[i], &edges[j]
		switch {
		case x.a != y.a:
			return x.a < y.a
		case x.b != y.b:
			return x.b < y.b
		case x.tri != y.tri:
			return x.tri < y.tri
		}
		return x.side < y.side
	})
	for i := range edges {
		e := &edges[i]
		mine := &m.tri[e.tri].neighbour[e.side]
		if *mine >= 0 {
			continue
		}
		for j := i + 1; j < len(edges) && edges[j].a == e.a && edges[j].b == e.b; j++ {
			o := &edges[j]
			other := &m.tri[o.tri].neighbour[o.side]
			if *other < 0 && corner(e.tri, int(e.side)) == corner(o.tri, (int(o.side)+1)%3) && corner(e.tri, (int(e.side)+1)%3) == corner(o.tri, int(o.side)) {
				*mine, *other = o.tri, e.tri
				break
			}
		}
	}
}

// gather groups triangles about each of their points.
func (m *maker) gather() {
	var reach []int32
	for t := range m.tri {
		for k := range 3 {
			if m.tri[t].any || m.tri[t].group[k] >= 0 {
				continue
			}
			id := int32(len(m.groups))
			g := group{point: m.point[3*m.list[t]+k], keeps: m.tri[t].keeps}
			m.tri[t].group[k] = id
			g.tris = append(g.tris, int32(t))
			// The neighbour on the left is gone after to its end before the right one.
			push := func(t *triangle, k int) { reach = append(reach, t.neighbour[(k+2)%3], t.neighbour[k]) }
			push(&m.tri[t], k)
			for len(reach) > 0 {
				o := reach[len(reach)-1]
				reach = reach[:len(reach)-1]
				if o < 0 {
					continue
				}
				n, i := &m.tri[o], m.cornerAt(o, g.point)
				if i < 0 || n.group[i] >= 0 {
					continue
				}
				if n.any && n.group == [3]int32{none, none, none} {
					n.keeps = g.keeps
				}
				if n.keeps != g.keeps {
					continue
				}
				n.group[i] = id
				g.tris = append(g.tris, o)
				push(n, i)
			}
			m.groups = append(m.groups, g)
		}
	}
}

// cornerAt is which corner of a triangle is a point.
func (m *maker) cornerAt(t int32, point uint32) int {
	for k := range 3 {
		if m.point[3*m.list[t]+k] == point {
			return k
		}
	}
	return none
}

// anyAcross is a direction at right angles to a normal.
func anyAcross(normal vec) *vec {
	out := vec{1, 0, 0}.flatIn(normal)
	if out.zero() {
		out = vec{0, 1, 0}.flatIn(normal)
	}
	return &out
}

// manyRound is how many triangles round one point are still compared each with
// each. Of more the mean is taken of all of them, opposite or not.
const manyRound = 4096

// average gives the corners of a group their tangents. Triangles whose
// directions are exactly opposite are left out of each other's mean.
func (m *maker) average(g *group, out []float32) {
	normal := m.normal(g.point)
	along, across := make([]vec, len(g.tris)), make([]vec, len(g.tris))
	for i, t := range g.tris {
		along[i], across[i] = m.tri[t].along.flatIn(normal), m.tri[t].across.flatIn(normal)
	}
	angle := make([]float32, len(g.tris))
	for i, t := range g.tris {
		angle[i] = m.angle(t, m.cornerAt(t, g.point), normal)
	}
	sign := float32(1)
	if g.keeps {
		sign = -1
	}
	var all vec
	apart := false // whether some directions may be opposite
	for i, t := range g.tris {
		if !m.tri[t].any {
			all = all.add(along[i].times(angle[i]))
		}
		apart = apart || along[i].dot(along[0]) < 0.5 || across[i].dot(across[0]) < 0.5
	}
	all = all.unit()
	apart = apart && len(g.tris) <= manyRound
	for i, t := range g.tris {
		sum := all
		if apart { // else all lie within 120 degrees of each other and none is left out
			sum = vec{}
			for j, o := range g.tris {
				goes := m.tri[t].any || m.tri[o].any || t == o || along[i].dot(along[j]) > -1 && across[i].dot(across[j]) > -1
				if goes && !m.tri[o].any {
					sum = sum.add(along[j].times(angle[j]))
				}
			}
			sum = sum.unit()
		}
		at := 4 * (3*m.list[t] + m.cornerAt(t, g.point))
		copy(out[at:], sum[:])
		out[at+3] = sign
	}
}

// angle is that of a triangle at a corner, seen along the normal.
func (m *maker) angle(t int32, k int, normal vec) float32 {
	at := func(k int) vec { return m.place(m.point[3*m.list[t]+k%3]) }
	p := at(k)
	cos := at(k + 2).sub(p).flatIn(normal).dot(at(k + 1).sub(p).flatIn(normal))
	return float32(math.Acos(float64(min(1, max(-1, cos)))))
}

// likeOthers gives the corners of triangles without area what a corner of
// another triangle at the same point has.
func (m *maker) likeOthers(flat []int, out []float32) {
	if len(flat) == 0 {
		return
	}
	first := map[uint32]int{}
	for _, t := range m.list {
		for k := range 3 {
			if _, ok := first[m.point[3*t+k]]; !ok {
				first[m.point[3*t+k]] = 3*t + k
			}
		}
	}
	for _, t := range flat {
		for k := range 3 {
			if c, ok := first[m.point[3*t+k]]; ok {
				copy(out[4*(3*t+k):4*(3*t+k)+4], out[4*c:4*c+4])
			}
		}
	}
}
