package unfold

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/ray"
	"excavate/core/scene"
	"excavate/core/shell"
)

// model is the surface in millimetres, in facets.
type model struct {
	*shell.Shell
	size    geom.Vec3
	perUnit float64  // mm
	box     geom.Box // of what is unfolded
	within  []origin // of each triangle
	facets  []facet
	of      []int32 // the facet of each triangle
	edges   []link
}

// origin is a triangle's corners in the one of the scene that it is a part of,
// as weights of that one's corners.
type origin [3]geom.Vec3

// facet is triangles in one plane.
type facet struct {
	triangles []int32
	origin    geom.Vec3
	x, y      geom.Vec3 // axes of its plane; x × y is outward
	flat      map[int32]Point
	loops     [][]int32
}

// link is where two facets meet: stretches of the model's edges on one line, the
// longest first. Angle is above 0 where the facets bulge.
type link struct {
	facets  [2]int
	edges   []int32
	length  float64
	angle   float64
	longest int32
	odd     bool
	key     string
}

// Tolerances of what counts as flat: a facet's corners lie within this of its
// plane, and its triangles are turned against it by at most so much.
const (
	outOfPlane = 0.02 // mm
	outOfLine  = 0.5  // degrees
)

func newModel(ctx context.Context, s *scene.Scene, o *Options, told *Told) (*model, error) {
	at := s.Basis.Completed(geom.GLTF)
	raw := shell.Of(s, 1, 0)
	if len(raw.Triangles) == 0 {
		return nil, fmt.Errorf("there is nothing to unfold: no triangle of it has an area")
	}
	told.Triangles = len(raw.Triangles)
	if told.Triangles > mostTriangles {
		return nil, fmt.Errorf("%d triangles are more than anybody cuts out (%d): reduce them first, in a chain with the step reduce",
			told.Triangles, mostTriangles)
	}
	box := geom.EmptyBox()
	for _, t := range raw.Triangles {
		for _, v := range t.At {
			box.Add(raw.Places[v])
		}
	}
	tall := math.Abs(box.Size().Dot(at.Up.Vec()))
	if !(tall > 0) {
		// What lies flat is as high as it is long.
		tall = max(box.Size()[0], box.Size()[1], box.Size()[2])
	}
	factor := o.Height / tall
	m := &model{Shell: shell.Of(s, factor, math.Max(0.002, 1e-6*o.Height)), size: box.Size().Mul(factor), perUnit: factor}
	m.dropDoubled(told)
	if !o.Hidden {
		m.dropHidden(ctx, told)
		if err := ctx.Err(); err != nil {
			return nil, err
		}
	}
	if len(m.Triangles) == 0 {
		return nil, fmt.Errorf("there is nothing to unfold: every face lies on another or is hidden")
	}
	w, h := o.inner()
	if pages := m.Area() / (w * h); pages > mostPages {
		return nil, fmt.Errorf("at this height it would be some %.0f pages, at most %d are made: make it smaller, or the paper larger",
			pages, mostPages)
	}
	if err := m.halveLong(o, told); err != nil {
		return nil, err
	}
	m.box = geom.EmptyBox()
	for t := range m.Triangles {
		for _, v := range m.Triangles[t].At {
			m.box.Add(m.Places[v])
		}
	}
	m.gatherFacets(o)
	m.gatherLinks(told)
	m.nameLinks()
	return m, nil
}

// dropDoubled leaves out triangles that lie on others: of two that look the same
// way one, of two back to back both, as where two solids touch.
func (m *model) dropDoubled(told *Told) {
	type key [3]int32
	sorted := func(t int) (k key, even bool) {
		k = m.Triangles[t].At
		even = true
		for _, p := range [3][2]int{{0, 1}, {1, 2}, {0, 1}} {
			if k[p[0]] > k[p[1]] {
				k[p[0]], k[p[1]], even = k[p[1]], k[p[0]], !even
			}
		}
		return k, even
	}
	ways := map[key][2]int{}
	for t := range m.Triangles {
		k, even := sorted(t)
		n := ways[k]
		if even {
			n[0]++
		} else {
			n[1]++
		}
		ways[k] = n
	}
	kept := map[key]bool{}
	before := len(m.Triangles)
	m.Shell = m.Keep(func(t int) bool {
		k, _ := sorted(t)
		n := ways[k]
		if n[0] > 0 && n[1] > 0 || kept[k] {
			return false
		}
		kept[k] = true
		return true
	})
	told.Doubled = before - len(m.Triangles)
}

// eyes are the directions from which a face is looked at.
const eyes = 96

// dropHidden leaves out triangles that are seen from nowhere outside: from three
// points of each, every direction before it meets another face.
func (m *model) dropHidden(ctx context.Context, told *Told) {
	corners := make([]geom.Vec3, 0, 3*len(m.Triangles))
	for t := range m.Triangles {
		a, b, c := m.Corners(t)
		corners = append(corners, a, b, c)
	}
	tree := ray.New(corners)
	far := 4 * (m.size.Len() + 1)
	directions := ray.Sphere(eyes)
	seen := make([]bool, len(m.Triangles))
	parallel.Share(len(seen), 64, func(from, to int) {
		for t := from; t < to && ctx.Err() == nil; t++ {
			a, b, c := corners[3*t], corners[3*t+1], corners[3*t+2]
			n := m.Normal(t)
			for _, w := range [...]geom.Vec3{{1. / 3, 1. / 3, 1. / 3}, {.8, .1, .1}, {.1, .8, .1}, {.1, .1, .8}} {
				p := a.Mul(w[0]).Add(b.Mul(w[1])).Add(c.Mul(w[2])).Add(n.Mul(1e-6 * far))
				for _, d := range directions {
					if d.Dot(n) > 0.02 && !tree.Meets(p, d, far) {
						seen[t] = true
						break
					}
				}
				if seen[t] {
					break
				}
			}
		}
	})
	before := len(m.Triangles)
	if !slices.Contains(seen, true) {
		return // it is turned inside out, or a room seen from within
	}
	m.Shell = m.Keep(func(t int) bool { return seen[t] })
	told.Hidden = before - len(m.Triangles)
}

// halveLong halves edges that are longer than a page lets a face be, in all
// triangles that run along them.
func (m *model) halveLong(o *Options, told *Told) error {
	m.within = make([]origin, len(m.Triangles))
	for t := range m.within {
		m.within[t] = origin{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}
		if m.Triangles[t].Turned {
			m.within[t] = origin{{1, 0, 0}, {0, 0, 1}, {0, 1, 0}}
		}
	}
	w, h := o.inner()
	most := 0.95 * math.Min(w, h)
	for {
		long := map[int32]bool{}
		for e := range m.Edges {
			if m.Places[m.Edges[e].A].Sub(m.Places[m.Edges[e].B]).Len() > most {
				long[int32(e)] = true
			}
		}
		if len(long) == 0 {
			return nil
		}
		// Of a triangle only its longest edge is halved in a round.
		chosen := map[int32]int32{} // edge to its middle
		for t := range m.Triangles {
			best, length := int32(-1), 0.0
			for _, e := range m.Triangles[t].Edge {
				if d := m.Places[m.Edges[e].A].Sub(m.Places[m.Edges[e].B]).Len(); long[e] && d > length {
					best, length = e, d
				}
			}
			if _, ok := chosen[best]; best >= 0 && !ok {
				chosen[best] = int32(len(m.Places))
				m.Places = append(m.Places, m.Places[m.Edges[best].A].Add(m.Places[m.Edges[best].B]).Mul(0.5))
				told.Split++
			}
		}
		m.halve(chosen)
		if len(m.Triangles) > 4*mostTriangles {
			return fmt.Errorf("at this height its faces are many times larger than a page: make it smaller, or the paper larger")
		}
	}
}

// halve puts the middles of edges into the triangles along them, one at a time.
func (m *model) halve(middle map[int32]int32) {
	var triangles []shell.Triangle
	var within []origin
	for t := range m.Triangles {
		todo := []shell.Triangle{m.Triangles[t]}
		todoWithin := []origin{m.within[t]}
		for len(todo) > 0 {
			x, w := todo[len(todo)-1], todoWithin[len(todo)-1]
			todo, todoWithin = todo[:len(todo)-1], todoWithin[:len(todoWithin)-1]
			cut := -1
			for k := range 3 {
				if x.Edge[k] >= 0 {
					if _, ok := middle[x.Edge[k]]; ok {
						cut = k
						break
					}
				}
			}
			if cut < 0 {
				triangles, within = append(triangles, x), append(within, w)
				continue
			}
			mid := middle[x.Edge[cut]]
			i, j, k := cut, (cut+1)%3, (cut+2)%3
			half := w[i].Add(w[j]).Mul(0.5)
			a, b := x, x
			a.At, a.Edge = [3]int32{x.At[i], mid, x.At[k]}, [3]int32{-1, -1, x.Edge[k]}
			b.At, b.Edge = [3]int32{mid, x.At[j], x.At[k]}, [3]int32{-1, x.Edge[j], -1}
			todo = append(todo, a, b)
			todoWithin = append(todoWithin, origin{w[i], half, w[k]}, origin{half, w[j], w[k]})
		}
	}
	m.Triangles, m.within = triangles, within
	m.Relink()
}

// gatherFacets joins triangles across flat edges to facets, as large as a page
// lets them be.
func (m *model) gatherFacets(o *Options) {
	w, h := o.inner()
	m.of = make([]int32, len(m.Triangles))
	for t := range m.of {
		m.of[t] = -1
	}
	level := math.Cos(outOfLine * math.Pi / 180)
	// The largest begin: their planes are the surest.
	order := make([]int, len(m.Triangles))
	area := make([]float64, len(m.Triangles))
	for t := range order {
		a, b, c := m.Corners(t)
		order[t], area[t] = t, b.Sub(a).Cross(c.Sub(a)).Len()
	}
	slices.SortStableFunc(order, func(a, b int) int {
		switch {
		case area[a] > area[b]:
			return -1
		case area[a] < area[b]:
			return 1
		}
		return 0
	})
	for _, seed := range order {
		if m.of[seed] >= 0 {
			continue
		}
		f := m.planeOf(seed)
		number := int32(len(m.facets))
		m.of[seed] = number
		low, high := Point{math.Inf(1), math.Inf(1)}, Point{math.Inf(-1), math.Inf(-1)}
		normal := f.x.Cross(f.y)
		grow := func(t int32) bool {
			l, g := low, high
			for _, v := range m.Triangles[t].At {
				d := m.Places[v].Sub(f.origin)
				if math.Abs(d.Dot(normal)) > outOfPlane {
					return false
				}
				p := Point{d.Dot(f.x), d.Dot(f.y)}
				l, g = Point{min(l[0], p[0]), min(l[1], p[1])}, Point{max(g[0], p[0]), max(g[1], p[1])}
			}
			if s := g.sub(l); len(f.triangles) > 0 && !(s[0] <= w && s[1] <= h || s[0] <= h && s[1] <= w) {
				return false
			}
			low, high = l, g
			f.triangles = append(f.triangles, t)
			return true
		}
		grow(int32(seed))
		for i := 0; i < len(f.triangles); i++ {
			for _, e := range m.Triangles[f.triangles[i]].Edge {
				if !m.Closed(&m.Edges[e]) {
					continue
				}
				for _, u := range m.Edges[e].Uses {
					if m.of[u.Triangle] < 0 && m.Normal(int(u.Triangle)).Dot(normal) >= level && grow(u.Triangle) {
						m.of[u.Triangle] = number
					}
				}
			}
		}
		f.flat = map[int32]Point{}
		for _, t := range f.triangles {
			for _, v := range m.Triangles[t].At {
				d := m.Places[v].Sub(f.origin)
				f.flat[v] = Point{d.Dot(f.x), d.Dot(f.y)}
			}
		}
		f.loops = m.loopsOf(&f, number)
		m.facets = append(m.facets, f)
	}
}

// planeOf is a facet's plane, by its first triangle.
func (m *model) planeOf(t int) facet {
	a, b, _ := m.Corners(t)
	n := m.Normal(t)
	x := b.Sub(a).Norm()
	return facet{origin: a, x: x, y: n.Cross(x)}
}

// loopsOf are a facet's outlines, as places.
func (m *model) loopsOf(f *facet, number int32) (loops [][]int32) {
	next := map[int32][]int32{}
	var starts []int32
	for _, t := range f.triangles {
		x := &m.Triangles[t]
		for k := range 3 {
			if e := &m.Edges[x.Edge[k]]; m.Closed(e) && m.of[e.Uses[0].Triangle] == number &&
				m.of[e.Uses[1].Triangle] == number {
				continue
			}
			next[x.At[k]] = append(next[x.At[k]], x.At[(k+1)%3])
			starts = append(starts, x.At[k])
		}
	}
	for _, from := range starts {
		for len(next[from]) > 0 {
			var loop []int32
			for v := from; len(next[v]) > 0; {
				loop = append(loop, v)
				to := next[v]
				next[v] = to[:len(to)-1]
				v = to[len(to)-1]
			}
			loops = append(loops, loop)
		}
	}
	return loops
}

// gatherLinks finds where facets meet.
func (m *model) gatherLinks(told *Told) {
	number := map[[2]int]int{}
	for e := range m.Edges {
		x := &m.Edges[e]
		if !m.Closed(x) {
			if len(x.Uses) == 1 {
				told.Rims++
			} else {
				told.Odd++
			}
			for _, u := range x.Uses {
				m.edges = append(m.edges, link{facets: [2]int{int(m.of[u.Triangle]), -1}, edges: []int32{int32(e)},
					length: m.length(e), longest: int32(e), odd: len(x.Uses) > 1})
			}
			continue
		}
		a, b := int(m.of[x.Uses[0].Triangle]), int(m.of[x.Uses[1].Triangle])
		if a == b {
			continue
		}
		key := [2]int{min(a, b), max(a, b)}
		k, ok := number[key]
		if !ok {
			k = len(m.edges)
			number[key] = k
			m.edges = append(m.edges, link{facets: key, longest: int32(e), angle: m.angle(x)})
		}
		l := &m.edges[k]
		l.edges, l.length = append(l.edges, int32(e)), l.length+m.length(e)
		if m.length(e) > m.length(int(l.longest)) {
			l.longest = int32(e)
		}
	}
}

func (m *model) length(e int) float64 {
	return m.Places[m.Edges[e].A].Sub(m.Places[m.Edges[e].B]).Len()
}

// angle is how far two facets are folded at an edge, in degrees: above 0 where
// the other one lies behind this one's plane.
func (m *model) angle(e *shell.Edge) float64 {
	a, b := &m.facets[m.of[e.Uses[0].Triangle]], &m.facets[m.of[e.Uses[1].Triangle]]
	na, nb := a.x.Cross(a.y), b.x.Cross(b.y)
	along := m.Places[e.B].Sub(m.Places[e.A]).Norm()
	if !m.Forward(e, e.Uses[0]) {
		along = along.Mul(-1)
	}
	// Seen along the edge, the first facet to the left: turning na to nb.
	return math.Atan2(na.Cross(nb).Dot(along), na.Dot(nb)) * 180 / math.Pi
}
