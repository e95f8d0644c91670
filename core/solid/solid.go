// Package solid tells whether a surface is the skin of a body, so that it can be
// printed or filled: closed, the right side out, without faces that cross, with
// walls that are thick enough and a foot to stand on.
package solid

import (
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/ray"
	"excavate/core/shell"
)

// Report is what is told of a surface. Lengths are in the surface's unit.
type Report struct {
	Open      int // edges of one triangle
	Holes     int // rows of open edges that hang together
	Odd       int // edges of more than two triangles
	Disagree  int // edges whose two triangles look opposite ways
	InsideOut int // closed pieces that look inwards, and lie in no other
	Within    int // closed pieces that lie in another and look outwards: they fill what is full
	Crossing  int // triangles through which an edge of another goes
	// Partly says that not all of a tangle was looked at: Crossing and Within are at
	// least as many.
	Partly   bool
	Pieces   int
	Volume   float64 // of closed pieces, those within others taken off where they look inwards
	Thin     int     // triangles behind which a wall is thinner than asked
	Thinnest float64 // of these, the thinnest wall
	Foot     float64 // area of what lies flat at the lowest place
	Size     geom.Vec3
}

// Closed tells whether the surface bounds a body.
func (r *Report) Closed() bool { return r.Open+r.Odd+r.Disagree+r.InsideOut == 0 }

// Look tells all that there is to tell, with walls held against a thickness, 0
// not at all, and what is down against an up axis.
func Look(sh *shell.Shell, wall float64, up geom.Vec3) *Report {
	r := &Report{}
	if len(sh.Triangles) == 0 {
		return r
	}
	corners := make([]geom.Vec3, 0, 3*len(sh.Triangles))
	box := geom.EmptyBox()
	for t := range sh.Triangles {
		a, b, c := sh.Corners(t)
		corners = append(corners, a, b, c)
		box.Add(a)
		box.Add(b)
		box.Add(c)
	}
	r.Size = box.Size()
	tree := ray.New(corners)
	r.edges(sh)
	r.pieces(sh, tree, box, r.crossings(sh, tree))
	if wall > 0 {
		r.walls(sh, tree, wall)
	}
	r.foot(sh, up)
	return r
}

// edges counts those that do not close the surface, and the holes they go round.
func (r *Report) edges(sh *shell.Shell) {
	group := map[int32]int32{} // of places at open edges, to one of them
	find := func(v int32) int32 {
		for group[v] != v {
			group[v] = group[group[v]]
			v = group[v]
		}
		return v
	}
	for i := range sh.Edges {
		e := &sh.Edges[i]
		switch {
		case len(e.Uses) > 2:
			r.Odd++
		case len(e.Uses) == 2 && !sh.Closed(e):
			r.Disagree++
		case len(e.Uses) == 1:
			r.Open++
			for _, v := range [2]int32{e.A, e.B} {
				if _, ok := group[v]; !ok {
					group[v] = v
				}
			}
			group[find(e.A)] = find(e.B)
		}
	}
	for v, to := range group {
		if v == to {
			r.Holes++
		}
	}
}

// mostPieces are looked for in each other; of a surface in more the rest is taken
// as lying beside each other.
const mostPieces = 4096

// pieces tells the volume, and which closed pieces lie within others or look
// inwards.
func (r *Report) pieces(sh *shell.Shell, tree *ray.Tree, box geom.Box, crossing []bool) {
	of, n := sh.Pieces()
	r.Pieces = n
	volume, closed, first := make([]float64, n), make([]bool, n), make([]int, n)
	for p := range closed {
		closed[p], first[p] = true, -1
	}
	mid := box.Centre() // far from the origin volumes would cancel
	for t := range sh.Triangles {
		a, b, c := sh.Corners(t)
		volume[of[t]] += a.Sub(mid).Dot(b.Sub(mid).Cross(c.Sub(mid))) / 6
		if first[of[t]] < 0 {
			first[of[t]] = t
		}
	}
	for i := range sh.Edges {
		if e := &sh.Edges[i]; !sh.Closed(e) {
			for _, u := range e.Uses {
				closed[of[u.Triangle]] = false
			}
		}
	}
	// What crosses another piece lies neither in it nor beside it.
	apart := make([]bool, n)
	for p := range apart {
		apart[p] = true
	}
	for t, x := range crossing {
		if x {
			apart[of[t]] = false
		}
	}
	far := 2*box.Size().Len() + 1
	r.Partly = r.Partly || n > mostPieces
	for p := range n {
		if !closed[p] {
			continue
		}
		deep := 0
		if apart[p] && p < mostPieces {
			deep = depth(sh, tree, of, closed, first[p], far)
		}
		switch in := volume[p] < 0; {
		case in && deep%2 == 0:
			r.InsideOut++
			r.Volume -= volume[p]
		case !in && deep%2 == 1:
			r.Within++
		default:
			r.Volume += volume[p]
		}
	}
}

// depth is in how many closed pieces a piece lies: those whose surface a line
// from it crosses an odd number of times.
func depth(sh *shell.Shell, tree *ray.Tree, of []int32, closed []bool, t int, far float64) (n int) {
	a, b, c := sh.Corners(t)
	from := a.Mul(0.41).Add(b.Mul(0.33)).Add(c.Mul(0.26))
	along := geom.Vec3{0.5773, 0.5491, 0.6043} // along nothing that is built straight
	crossed := map[int32]int{}
	tree.All(from, along, far, func(u int, _ float64) {
		if of[u] != of[t] && closed[of[u]] {
			crossed[of[u]]++
		}
	})
	for _, k := range crossed {
		n += k % 2
	}
	return n
}

// mostCrossings bounds how often edges are seen to go through triangles: of a tangle
// every edge may go through every triangle.
const mostCrossings = 4 << 20

// crossings counts triangles through which an edge of another goes that it
// shares no place with. It marks them and those along such edges.
func (r *Report) crossings(sh *shell.Shell, tree *ray.Tree) (marked []bool) {
	type found struct {
		through, along []bool // by triangle
		n              int
	}
	through := make([]bool, len(sh.Triangles))
	marked = make([]bool, len(sh.Triangles))
	for _, f := range parallel.Gather(len(sh.Edges), 1024, func(from, to int) found {
		out := found{through: make([]bool, len(sh.Triangles)), along: make([]bool, len(sh.Triangles))}
		for i := from; i < to && out.n < mostCrossings; i++ {
			e := &sh.Edges[i]
			a, b := sh.Places[e.A], sh.Places[e.B]
			tree.Through(a, b.Sub(a), 1-hair, hair, func(u int, at float64) {
				x := &sh.Triangles[u]
				if at < hair || slices.Contains(x.At[:], e.A) || slices.Contains(x.At[:], e.B) {
					return
				}
				out.n++
				out.through[u] = true
				for _, use := range e.Uses {
					out.along[use.Triangle] = true
				}
			})
		}
		return out
	}) {
		r.Partly = r.Partly || f.n >= mostCrossings
		for t := range through {
			through[t] = through[t] || f.through[t]
			marked[t] = marked[t] || f.along[t] || f.through[t]
		}
	}
	for _, x := range through {
		if x {
			r.Crossing++
		}
	}
	return marked
}

// hair is the part of an edge or a triangle's height within which things touch
// and do not cross.
const hair = 1e-6

// walls looks from the middle of every triangle inwards, to the next face that
// looks the other way.
func (r *Report) walls(sh *shell.Shell, tree *ray.Tree, wall float64) {
	type found struct {
		n     int
		least float64
	}
	r.Thinnest = math.Inf(1)
	for _, f := range parallel.Gather(len(sh.Triangles), 512, func(from, to int) found {
		out := found{least: math.Inf(1)}
		for t := from; t < to; t++ {
			a, b, c := sh.Corners(t)
			n := sh.Normal(t)
			from := a.Add(b).Add(c).Mul(1. / 3).Sub(n.Mul(1e-6 * wall))
			u, at := tree.First(from, n.Mul(-1), wall)
			if u >= 0 && sh.Normal(u).Dot(n) < -0.3 && !share(&sh.Triangles[t], &sh.Triangles[u]) {
				out.n++
				out.least = min(out.least, at)
			}
		}
		return out
	}) {
		r.Thin += f.n
		r.Thinnest = min(r.Thinnest, f.least)
	}
	if r.Thin == 0 {
		r.Thinnest = 0
	}
}

func share(a, b *shell.Triangle) bool {
	return slices.ContainsFunc(a.At[:], func(v int32) bool { return slices.Contains(b.At[:], v) })
}

// foot is the area that lies flat at the lowest place, within a thousandth of
// the height.
func (r *Report) foot(sh *shell.Shell, up geom.Vec3) {
	low, high := math.Inf(1), math.Inf(-1)
	for t := range sh.Triangles {
		for _, v := range sh.Triangles[t].At {
			h := sh.Places[v].Dot(up)
			low, high = min(low, h), max(high, h)
		}
	}
	flat := low + 1e-3*(high-low)
	for t := range sh.Triangles {
		a, b, c := sh.Corners(t)
		if max(a.Dot(up), b.Dot(up), c.Dot(up)) <= flat && sh.Normal(t).Dot(up) < -0.99 {
			r.Foot += b.Sub(a).Cross(c.Sub(a)).Len() / 2
		}
	}
}
