// Package ray finds what a line meets first of a surface: triangles in a tree of
// boxes, each box halved at the middle of what it holds.
package ray

import (
	"math"
	"slices"

	"excavate/core/geom"
)

// Tree is triangles made ready.
type Tree struct {
	tri   []geom.Vec3 // three each, in the tree's order
	of    []int32     // which triangle stands there
	nodes []node
}

// node is a box; a leaf holds triangles from first to first+n, another node has
// its children at first and first+1.
type node struct {
	min, max geom.Vec3
	first, n int32
}

// leaf is how many triangles are not parted further.
const leaf = 4

// New makes triangles ready, three corners each.
func New(tri []geom.Vec3) *Tree {
	n := len(tri) / 3
	t := &Tree{of: make([]int32, n), tri: make([]geom.Vec3, 0, 3*n)}
	mids := make([]geom.Vec3, n)
	for i := range n {
		t.of[i] = int32(i)
		mids[i] = tri[3*i].Add(tri[3*i+1]).Add(tri[3*i+2])
	}
	t.nodes = append(t.nodes, node{})
	t.part(tri, mids, 0, 0, n)
	for _, i := range t.of {
		t.tri = append(t.tri, tri[3*i:3*i+3]...)
	}
	return t
}

func (t *Tree) part(tri, mids []geom.Vec3, at, from, to int) {
	box, middle := geom.EmptyBox(), geom.EmptyBox()
	for _, i := range t.of[from:to] {
		middle.Add(mids[i])
		for _, c := range tri[3*i : 3*i+3] {
			box.Add(c)
		}
	}
	t.nodes[at].min, t.nodes[at].max = box.Min, box.Max
	size := middle.Size()
	k := 0
	for m := range 3 {
		if size[m] > size[k] {
			k = m
		}
	}
	if to-from <= leaf || size[k] == 0 {
		t.nodes[at].first, t.nodes[at].n = int32(from), int32(to-from)
		return
	}
	mid := t.halve(mids, k, from, to, (middle.Min[k]+middle.Max[k])/2)
	first := len(t.nodes)
	t.nodes = append(t.nodes, node{}, node{})
	t.nodes[at].first = int32(first)
	t.part(tri, mids, first, from, mid)
	t.part(tri, mids, first+1, mid, to)
}

// halve puts those below a place before the others; where nearly all are on one
// side, it halves their number instead, so that no tree is deep.
func (t *Tree) halve(mids []geom.Vec3, k, from, to int, place float64) int {
	list := t.of[from:to]
	i := 0
	for j := range list {
		if mids[list[j]][k] < place {
			list[i], list[j] = list[j], list[i]
			i++
		}
	}
	if i < len(list)/8 || i > len(list)-len(list)/8-1 {
		slices.SortFunc(list, func(a, b int32) int {
			switch x, y := mids[a][k], mids[b][k]; {
			case x < y:
				return -1
			case x > y:
				return 1
			}
			return int(a - b)
		})
		i = len(list) / 2
	}
	return from + i
}

// First is the first triangle that a line from a point along a direction meets
// before some distance, in lengths of the direction, and where; -1 is none. What
// touches the point itself, within a billionth, is not met.
func (t *Tree) First(from, along geom.Vec3, before float64) (triangle int, at float64) {
	best, at := -1, before
	t.walk(from, along, 0, func() float64 { return at }, func(i int32, d float64) bool {
		best, at = int(i), d
		return true
	})
	return best, at
}

// Meets tells whether a line meets anything before a distance.
func (t *Tree) Meets(from, along geom.Vec3, before float64) (met bool) {
	t.walk(from, along, 0, func() float64 { return before }, func(int32, float64) bool {
		met = true
		return false
	})
	return met
}

// All calls f with every triangle that a line meets before a distance, in no
// order.
func (t *Tree) All(from, along geom.Vec3, before float64, f func(triangle int, at float64)) {
	t.Through(from, along, before, 0, f)
}

// Through is All for what a line meets within triangles: further from each side
// than a part of the height over it.
func (t *Tree) Through(from, along geom.Vec3, before, within float64, f func(triangle int, at float64)) {
	t.walk(from, along, within, func() float64 { return before }, func(i int32, d float64) bool {
		f(int(i), d)
		return true
	})
}

// walk calls met with triangles that a line meets, before what far gives then,
// until met says no.
func (t *Tree) walk(from, along geom.Vec3, within float64, far func() float64,
	met func(triangle int32, at float64) bool) {
	if len(t.of) == 0 {
		return
	}
	inverse := geom.Vec3{1 / along[0], 1 / along[1], 1 / along[2]}
	var room [128]int32
	stack := append(room[:0], 0)
	for len(stack) > 0 {
		n := &t.nodes[stack[len(stack)-1]]
		stack = stack[:len(stack)-1]
		if !n.reached(from, along, inverse, far()) {
			continue
		}
		if n.n == 0 {
			stack = append(stack, n.first+1, n.first)
			continue
		}
		for i := n.first; i < n.first+n.n; i++ {
			d, ok := cross(from, along, t.tri[3*i], t.tri[3*i+1], t.tri[3*i+2], within)
			if ok && d > 1e-9 && d < far() && !met(t.of[i], d) {
				return
			}
		}
	}
}

// reached is the slab test (Kay and Kajiya, "Ray Tracing Complex Scenes", 1986).
func (n *node) reached(from, along, inverse geom.Vec3, before float64) bool {
	low, high := 0.0, before
	for k := range 3 {
		if along[k] == 0 {
			if from[k] < n.min[k] || from[k] > n.max[k] {
				return false
			}
			continue
		}
		a, b := (n.min[k]-from[k])*inverse[k], (n.max[k]-from[k])*inverse[k]
		if a > b {
			a, b = b, a
		}
		low, high = max(low, a), min(high, b)
	}
	return low <= high*(1+1e-12)
}

// cross is where a line meets a triangle (Möller and Trumbore, "Fast, Minimum
// Storage Ray/Triangle Intersection", 1997), from either side.
func cross(from, along, a, b, c geom.Vec3, within float64) (at float64, ok bool) {
	e1, e2 := b.Sub(a), c.Sub(a)
	p := along.Cross(e2)
	det := e1.Dot(p)
	if det == 0 {
		return 0, false
	}
	s := from.Sub(a)
	u := s.Dot(p) / det
	if u < within || u > 1-within {
		return 0, false
	}
	q := s.Cross(e1)
	v := along.Dot(q) / det
	if v < within || u+v > 1-within {
		return 0, false
	}
	return e2.Dot(q) / det, true
}

// Sphere are n directions spread evenly over a sphere, on a spiral by the golden
// angle (Swinbank and Purser, "Fibonacci grids", 2006).
func Sphere(n int) []geom.Vec3 {
	out := make([]geom.Vec3, n)
	for i := range out {
		z := 1 - (2*float64(i)+1)/float64(n)
		r := math.Sqrt(1 - z*z)
		sin, cos := math.Sincos(float64(i) * math.Pi * (3 - math.Sqrt(5)))
		out[i] = geom.Vec3{r * cos, r * sin, z}
	}
	return out
}
