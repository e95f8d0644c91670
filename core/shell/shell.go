// Package shell is what a scene shows as one surface: triangles whose corners
// are places, not vertices, so that seams of shading and pictures part nothing,
// and edges that know which triangles run along them.
package shell

import (
	"math"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Shell is the surface. Places are in the scene's world, times a factor.
type Shell struct {
	Places    []geom.Vec3
	Triangles []Triangle
	Edges     []Edge
	// Flat counts triangles that were left out because two of their corners are
	// one place or all three lie on a line.
	Flat int
}

// Triangle is three places, counter-clockwise seen from the front, and where in
// the scene it comes from.
type Triangle struct {
	At   [3]int32
	Edge [3]int32 // from corner k to the next
	Node int32
	Part int32 // of the node's mesh
	From int32 // number within the part
	// Turned says that its second and third corner were exchanged: its node
	// mirrors, and what was in front stays there.
	Turned bool
}

// Edge is between two places, A below B.
type Edge struct {
	A, B int32
	Uses []Use
}

// Use is a triangle along an edge, and which of its own edges that is.
type Use struct {
	Triangle, Side int32
}

// Forward tells whether a use runs from A to B.
func (s *Shell) Forward(e *Edge, u Use) bool { return s.Triangles[u.Triangle].At[u.Side] == e.A }

// Closed tells whether the edge has two triangles that agree on what is outside.
func (s *Shell) Closed(e *Edge) bool {
	return len(e.Uses) == 2 && s.Forward(e, e.Uses[0]) != s.Forward(e, e.Uses[1])
}

// Of gathers all triangles that a scene shows as it is posed, its coordinates
// times a factor. Corners nearer than a tolerance, of what comes out, are one
// place. Triangles of no area are left out.
func Of(s *scene.Scene, factor, tolerance float64) *Shell {
	sh := &Shell{}
	w := welder{sh: sh, tolerance: tolerance, cell: math.Max(4*tolerance, 1e-12), at: map[[3]int64][]int32{}}
	world := s.World()
	for n := range s.Nodes {
		if s.Nodes[n].Mesh < 0 {
			continue
		}
		parts := s.Meshes[s.Nodes[n].Mesh].Parts
		for k := range parts {
			sh.take(&w, s, n, k, world, factor)
		}
	}
	sh.link()
	return sh
}

func (sh *Shell) take(w *welder, s *scene.Scene, node, part int, world []geom.Mat4, factor float64) {
	p := &s.Meshes[s.Nodes[node].Mesh].Parts[part]
	bare := *p
	bare.Normals = nil
	m := &world[node]
	if s.Nodes[node].Skin >= 0 && p.Influences > 0 && len(p.Joints) > 0 {
		bare.Positions, _ = s.Posed(node, &bare, world)
		m = &geom.Identity
	}
	places := make([]int32, p.Vertices())
	for v := range places {
		places[v] = w.place(m.Point(geom.At(bare.Positions, uint32(v))).Mul(factor))
	}
	turned := m.Det3() < 0
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		x := Triangle{Node: int32(node), Part: int32(part), From: int32(t / 3)}
		for c := range 3 {
			x.At[c] = places[p.Triangles[t+c]]
		}
		if x.Turned = turned; turned {
			x.At[1], x.At[2] = x.At[2], x.At[1]
		}
		if sh.flat(x.At) {
			sh.Flat++
			continue
		}
		sh.Triangles = append(sh.Triangles, x)
	}
}

func (sh *Shell) flat(at [3]int32) bool {
	if at[0] == at[1] || at[1] == at[2] || at[2] == at[0] {
		return true
	}
	a, b, c := sh.Places[at[0]], sh.Places[at[1]], sh.Places[at[2]]
	n := b.Sub(a).Cross(c.Sub(a)).Len()
	long := math.Max(b.Sub(a).Len(), math.Max(c.Sub(b).Len(), a.Sub(c).Len()))
	return !(n > 1e-12*long*long)
}

// Corners are a triangle's places.
func (sh *Shell) Corners(t int) (a, b, c geom.Vec3) {
	x := &sh.Triangles[t]
	return sh.Places[x.At[0]], sh.Places[x.At[1]], sh.Places[x.At[2]]
}

// Normal is a triangle's, of length one.
func (sh *Shell) Normal(t int) geom.Vec3 {
	a, b, c := sh.Corners(t)
	return b.Sub(a).Cross(c.Sub(a)).Norm()
}

// Volume is what the surface encloses, by the divergence theorem; of one that is
// open it depends on where it stands.
func (sh *Shell) Volume() (v float64) {
	for t := range sh.Triangles {
		a, b, c := sh.Corners(t)
		v += a.Dot(b.Cross(c)) / 6
	}
	return v
}

// Area is that of all triangles.
func (sh *Shell) Area() (v float64) {
	for t := range sh.Triangles {
		a, b, c := sh.Corners(t)
		v += b.Sub(a).Cross(c.Sub(a)).Len() / 2
	}
	return v
}

// Keep is the surface with those triangles only that are kept.
func (sh *Shell) Keep(keep func(t int) bool) *Shell {
	out := &Shell{Places: sh.Places, Flat: sh.Flat}
	for t := range sh.Triangles {
		if keep(t) {
			out.Triangles = append(out.Triangles, sh.Triangles[t])
		}
	}
	out.link()
	return out
}

// Relink finds the edges anew after triangles were changed.
func (sh *Shell) Relink() { sh.link() }

// link finds the edges.
func (sh *Shell) link() {
	sh.Edges = nil
	number := make(map[[2]int32]int32, len(sh.Triangles)*3/2)
	for t := range sh.Triangles {
		x := &sh.Triangles[t]
		for k := range 3 {
			a, b := x.At[k], x.At[(k+1)%3]
			key := [2]int32{min(a, b), max(a, b)}
			e, ok := number[key]
			if !ok {
				e = int32(len(sh.Edges))
				number[key] = e
				sh.Edges = append(sh.Edges, Edge{A: key[0], B: key[1]})
			}
			x.Edge[k] = e
			sh.Edges[e].Uses = append(sh.Edges[e].Uses, Use{int32(t), int32(k)})
		}
	}
}

// Pieces numbers what hangs together by edges; n is how many pieces there are.
func (sh *Shell) Pieces() (of []int32, n int) {
	of = make([]int32, len(sh.Triangles))
	for t := range of {
		of[t] = -1
	}
	var queue []int32
	for t := range of {
		if of[t] >= 0 {
			continue
		}
		of[t] = int32(n)
		for queue = append(queue[:0], int32(t)); len(queue) > 0; {
			x := queue[len(queue)-1]
			queue = queue[:len(queue)-1]
			for _, e := range sh.Triangles[x].Edge {
				for _, u := range sh.Edges[e].Uses {
					if of[u.Triangle] < 0 {
						of[u.Triangle] = int32(n)
						queue = append(queue, u.Triangle)
					}
				}
			}
		}
		n++
	}
	return of, n
}

// welder finds the place of a point: the first that is within the tolerance.
type welder struct {
	sh              *Shell
	tolerance, cell float64
	at              map[[3]int64][]int32
}

func (w *welder) place(p geom.Vec3) int32 {
	low, high := w.key(p.Sub(geom.Vec3{1, 1, 1}.Mul(w.tolerance))), w.key(p.Add(geom.Vec3{1, 1, 1}.Mul(w.tolerance)))
	for x := low[0]; x <= high[0]; x++ {
		for y := low[1]; y <= high[1]; y++ {
			for z := low[2]; z <= high[2]; z++ {
				for _, i := range w.at[[3]int64{x, y, z}] {
					if d := w.sh.Places[i].Sub(p); d.Dot(d) <= w.tolerance*w.tolerance {
						return i
					}
				}
			}
		}
	}
	i := int32(len(w.sh.Places))
	w.sh.Places = append(w.sh.Places, p)
	k := w.key(p)
	w.at[k] = append(w.at[k], i)
	return i
}

func (w *welder) key(p geom.Vec3) (k [3]int64) {
	for i, x := range p {
		k[i] = int64(math.Floor(math.Max(-1e18, math.Min(1e18, x/w.cell))))
	}
	return k
}
