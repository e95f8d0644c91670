package geom

// Triangulate cuts a polygon into triangles of its corner numbers, wound as
// the polygon is, and appends them to dst. Concave polygons are cut by ears
// (Meisters, "Polygons have ears", 1975); what has no ear, because it crosses
// itself, becomes a fan.
func Triangulate(dst [][3]int, corners []Vec3) [][3]int {
	n := len(corners)
	inward, first := 0, 0
	switch {
	case n == 4:
		inward, first = quadTurns(inRegisters(corners[0]), inRegisters(corners[1]), inRegisters(corners[2]), inRegisters(corners[3]))
	case n > 4:
		inward, first = turns(corners)
	}
	switch {
	case inward > 1 || inward == 1 && n > 4:
		return cutEars(dst, corners)
	case inward == 1: // a quad's only cut is from that corner
		return append(dst, [3]int{first, (first + 1) % 4, (first + 2) % 4}, [3]int{first, (first + 2) % 4, (first + 3) % 4})
	}
	for k := 1; k+1 < n; k++ {
		dst = append(dst, [3]int{0, k, k + 1})
	}
	return dst
}

// newell is normal to a polygon, twice as long as its area: the sum of its
// edges' cross products (Sutherland, Sproull and Schumacker, "A
// Characterization of Ten Hidden-Surface Algorithms", 1974).
func newell(corners []Vec3) (normal Vec3) {
	for i := 2; i < len(corners); i++ {
		normal = normal.Add(corners[i-1].Sub(corners[0]).Cross(corners[i].Sub(corners[0])))
	}
	return normal
}

// turns counts the corners that do not turn outwards, and names the last.
func turns(corners []Vec3) (inward, last int) {
	normal, n := newell(corners), len(corners)
	a, b := corners[n-2], corners[n-1]
	for i, c := range corners {
		if !(b.Sub(a).Cross(c.Sub(b)).Dot(normal) > 0) {
			inward, last = inward+1, (i+n-1)%n
		}
		a, b = b, c
	}
	return inward, last
}

// xyz is a Vec3 that the compiler keeps in registers.
type xyz struct{ x, y, z float64 }

func inRegisters(v Vec3) xyz { return xyz{v[0], v[1], v[2]} }

func (a xyz) to(b xyz) xyz { return xyz{b.x - a.x, b.y - a.y, b.z - a.z} }

func (a xyz) cross(b xyz) xyz { return xyz{a.y*b.z - a.z*b.y, a.z*b.x - a.x*b.z, a.x*b.y - a.y*b.x} }

func (a xyz) dot(b xyz) float64 { return a.x*b.x + a.y*b.y + a.z*b.z }

// quadTurns is turns for the polygon that most files are made of.
func quadTurns(a, b, c, d xyz) (inward, last int) {
	normal := a.to(c).cross(b.to(d))
	ab, bc, cd, da := a.to(b), b.to(c), c.to(d), d.to(a)
	for k, turn := range [4]float64{da.cross(ab).dot(normal), ab.cross(bc).dot(normal), bc.cross(cd).dot(normal), cd.cross(da).dot(normal)} {
		if !(turn > 0) {
			inward, last = inward+1, k
		}
	}
	return inward, last
}

// earTests bounds the work on one polygon: how often a corner is looked for in
// an ear. In a bad order it is the square of the corners.
const earTests = 1 << 29

// ears is a polygon that is being cut, in its plane.
type ears struct {
	at         [][2]float64
	prev, next []int32
	inward     []int32 // corners that may turn inwards; those that no longer do are taken out when they are met
	tests      int
}

func cutEars(dst [][3]int, corners []Vec3) [][3]int {
	n := len(corners)
	e := ears{at: make([][2]float64, n), prev: make([]int32, n), next: make([]int32, n)}
	normal := newell(corners).Norm()
	u := Vec3{1, 0, 0}
	if normal[0]*normal[0] > 0.5 {
		u = Vec3{0, 1, 0}
	}
	u = normal.Cross(u).Norm()
	v := normal.Cross(u)
	for i, c := range corners {
		c = c.Sub(corners[0])
		e.at[i] = [2]float64{c.Dot(u), c.Dot(v)}
		e.prev[i], e.next[i] = int32((i+n-1)%n), int32((i+1)%n)
	}
	queue := make([]int32, n)
	for i := range queue {
		queue[i] = int32(i)
		if e.turn(int32(i)) <= 0 {
			e.inward = append(e.inward, int32(i))
		}
	}
	// Cutting an ear changes what its two neighbours are; the others are looked
	// at again only when no ear is left among those.
	left, since := n, 0
	for first := int32(0); left > 3 && e.tests < earTests; {
		if len(queue) == 0 {
			if since == 0 {
				break
			}
			since = 0
			for i, k := first, 0; k < left; i, k = e.next[i], k+1 {
				queue = append(queue, i)
			}
		}
		i := queue[0]
		queue = queue[1:]
		if e.next[i] < 0 || !e.ear(i) {
			continue
		}
		a, b := e.prev[i], e.next[i]
		dst = append(dst, [3]int{int(a), int(i), int(b)})
		e.next[a], e.prev[b], e.next[i] = b, a, -1
		first, left, since = b, left-1, since+1
		queue = append(queue, a, b)
	}
	for i := range e.next { // what is left, from its first corner on
		if e.next[i] < 0 {
			continue
		}
		for b := e.next[i]; e.next[b] != int32(i); b = e.next[b] {
			dst = append(dst, [3]int{i, int(b), int(e.next[b])})
		}
		break
	}
	return dst
}

// side is above 0 where c lies left of the way from a to b.
func (e *ears) side(a, b, c int32) float64 {
	p, q, r := &e.at[a], &e.at[b], &e.at[c]
	return (q[0]-p[0])*(r[1]-p[1]) - (q[1]-p[1])*(r[0]-p[0])
}

func (e *ears) turn(i int32) float64 { return e.side(e.prev[i], i, e.next[i]) }

// ear tells whether a corner can be cut off: it turns outwards, and no corner
// that turns inwards lies in its triangle. One at the place of the triangle's
// own corners is the other side of a bridge to a hole.
func (e *ears) ear(i int32) bool {
	if !(e.turn(i) > 0) {
		return false
	}
	a, b := e.prev[i], e.next[i]
	pa, pi, pb := e.at[a], e.at[i], e.at[b]
	loX, hiX, loY, hiY := min(pa[0], pi[0], pb[0]), max(pa[0], pi[0], pb[0]), min(pa[1], pi[1], pb[1]), max(pa[1], pi[1], pb[1])
	for k := 0; k < len(e.inward); k++ {
		p := e.inward[k]
		e.tests++
		q := e.at[p]
		if q[0] < loX || q[0] > hiX || q[1] < loY || q[1] > hiY {
			continue
		}
		if e.next[p] < 0 || e.turn(p) > 0 {
			last := len(e.inward) - 1
			e.inward[k] = e.inward[last]
			e.inward = e.inward[:last]
			k--
			continue
		}
		if q == pa || q == pi || q == pb {
			continue
		}
		if e.side(a, i, p) >= 0 && e.side(i, b, p) >= 0 && e.side(b, a, p) >= 0 {
			return false
		}
	}
	return true
}

// A Cutter cuts one polygon after another into triangles.
type Cutter struct {
	corners []Vec3
	cut     [][3]int
}

// Cut is Triangulate for a polygon of n corners. The result holds until the
// next call.
func (c *Cutter) Cut(n int, corner func(k int) Vec3) [][3]int {
	c.corners = c.corners[:0]
	for k := range n {
		c.corners = append(c.corners, corner(k))
	}
	c.cut = Triangulate(c.cut[:0], c.corners)
	return c.cut
}

// Faces appends the triangles of a polygon, given and returned as numbers of
// positions.
func (c *Cutter) Faces(dst []uint32, positions []float32, poly []uint32) []uint32 {
	switch len(poly) {
	case 3:
		return append(dst, poly...)
	case 4:
		at := func(v uint32) xyz {
			p := positions[3*int(v):][:3]
			return xyz{float64(p[0]), float64(p[1]), float64(p[2])}
		}
		if inward, f := quadTurns(at(poly[0]), at(poly[1]), at(poly[2]), at(poly[3])); inward < 2 {
			p, q, r, s := poly[f], poly[(f+1)&3], poly[(f+2)&3], poly[(f+3)&3]
			return append(dst, p, q, r, p, r, s)
		}
	}
	for _, t := range c.Cut(len(poly), func(k int) Vec3 { return At(positions, poly[k]) }) {
		dst = append(dst, poly[t[0]], poly[t[1]], poly[t[2]])
	}
	return dst
}

// At is the place of vertex v in a list of positions, three numbers each.
func At(positions []float32, v uint32) Vec3 {
	p := positions[3*int(v):][:3]
	return Vec3{float64(p[0]), float64(p[1]), float64(p[2])}
}
