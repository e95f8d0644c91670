// Package piece tells the loose pieces of a part apart: triangles that hang
// together by a vertex or by vertices in one place, as they do across the
// seams that exports leave.
package piece

import (
	"excavate/core/geom"
	"excavate/core/place"
	"excavate/core/scene"
)

// Of numbers the loose pieces of a part, in the order in which they first
// appear. It returns the piece of each triangle and how many there are.
func Of(p *scene.Part) (of []int32, n int) {
	at := place.Of(p.Positions)
	set := make(sets, len(at))
	for i := range set {
		set[i] = int32(i)
	}
	t := p.Triangles
	for i := 0; i+2 < len(t); i += 3 {
		a := set.root(int32(at[t[i]]))
		set.join(a, int32(at[t[i+1]]))
		set.join(a, int32(at[t[i+2]]))
	}
	number := make([]int32, len(at))
	of = make([]int32, len(t)/3)
	for i := range of {
		r := set.root(int32(at[t[3*i]]))
		if number[r] == 0 {
			n++
			number[r] = int32(n)
		}
		of[i] = number[r] - 1
	}
	return of, n
}

// sets is a forest of disjoint sets (Galler and Fischer 1964), halving the
// way to the root whenever it is gone.
type sets []int32

func (s sets) root(x int32) int32 {
	for s[x] != x {
		s[x] = s[s[x]]
		x = s[x]
	}
	return x
}

func (s sets) join(a, b int32) {
	if a, b = s.root(a), s.root(b); a < b {
		s[b] = a
	} else {
		s[a] = b
	}
}

// Sizes returns the longest side of each piece's box, of vertices where m
// takes them.
func Sizes(p *scene.Part, of []int32, n int, m *geom.Mat4) []float64 {
	boxes := make([]geom.Box, n)
	for i := range boxes {
		boxes[i] = geom.EmptyBox()
	}
	for i, k := range of {
		for _, v := range p.Triangles[3*i : 3*i+3] {
			x := p.Positions[3*v : 3*v+3]
			boxes[k].Add(m.Point(geom.Vec3{float64(x[0]), float64(x[1]), float64(x[2])}))
		}
	}
	out := make([]float64, n)
	for i := range boxes {
		s := boxes[i].Size()
		out[i] = max(s[0], s[1], s[2])
	}
	return out
}
