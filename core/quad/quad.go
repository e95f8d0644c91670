// Package quad pairs the triangles of a surface into quadrangles, for formats
// that have faces of four corners.
//
// Two triangles with a common edge become one face if they lie flat enough
// against each other and the corners of what they make are near enough to
// right angles. The best pairs are taken first; each triangle goes into one.
// Edges where vertices are doubled (seams of UVs, hard edges) have no common
// vertices and so are never crossed.
package quad

import (
	"cmp"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// pair is two triangles that may become one face, by the corners at which
// their common edge begins.
type pair struct{ a, b uint32 }

// Faces lists the faces of a part in the order of their first triangles: how
// many corners each has, three or four, and the corners. positions and
// triangles are the part's, or those that it has elsewhere. A part that is not
// marked for it keeps its triangles.
func Faces(rule *scene.Quads, positions []float32, triangles []uint32) (sizes []uint8, corners []uint32) {
	n := len(triangles) / 3
	with := make([]int32, n) // the pair that each triangle is in, counted from 1
	var pairs []pair
	if rule != nil {
		var order []uint64
		pairs, order = candidates(rule, positions, triangles)
		slices.Sort(order)
		for _, key := range order {
			k := uint32(key)
			if p := pairs[k]; with[p.a/3] == 0 && with[p.b/3] == 0 {
				with[p.a/3], with[p.b/3] = int32(k+1), int32(k+1)
			}
		}
	}
	sizes, corners = make([]uint8, 0, n), make([]uint32, 0, len(triangles))
	for t := range n {
		k := with[t]
		if k == 0 {
			sizes, corners = append(sizes, 3), append(corners, triangles[3*t:3*t+3]...)
			continue
		}
		if p := pairs[k-1]; min(p.a, p.b)/3 == uint32(t) {
			round := p.round(triangles)
			begin := slices.Index(round[:], triangles[3*t]) // where its first triangle did
			sizes, corners = append(sizes, 4), append(append(corners, round[begin:]...), round[:begin]...)
		}
	}
	return sizes, corners
}

// round is the vertices round the face that a pair makes: the one's third
// corner, where the edge begins, the other's third corner, where it ends.
func (p pair) round(triangles []uint32) [4]uint32 {
	third := func(c uint32) uint32 { return triangles[c/3*3+(c+2)%3] }
	return [4]uint32{third(p.a), triangles[p.a], third(p.b), triangles[p.b]}
}

// halfEdge is one side of a triangle, kept under its lower vertex.
type halfEdge struct {
	upper, corner uint32 // corner is where in the triangles the edge begins
}

// candidates lists every two triangles that the rule lets become one face.
// Sorted, order brings the best first: it holds what each costs, as the bits of
// a number that is not negative, and below that its place.
func candidates(rule *scene.Quads, positions []float32, triangles []uint32) (out []pair, order []uint64) {
	whole := len(triangles) / 3 * 3
	// The sides of triangles by their lower vertex: how many, then where each
	// vertex' own begin, then the sides themselves.
	begin := make([]uint32, len(positions)/3+1)
	ends := func(c int) (from, to uint32) { return triangles[c], triangles[c/3*3+(c+1)%3] }
	for c := range whole {
		a, b := ends(c)
		begin[min(a, b)+1]++
	}
	for v := 1; v < len(begin); v++ {
		begin[v] += begin[v-1]
	}
	sides := make([]halfEdge, whole)
	next := slices.Clone(begin)
	for c := range whole {
		a, b := ends(c)
		sides[next[min(a, b)]] = halfEdge{max(a, b), uint32(c)}
		next[min(a, b)]++
	}
	for v := 0; v+1 < len(begin); v++ {
		own := sides[begin[v]:begin[v+1]]
		slices.SortFunc(own, func(a, b halfEdge) int {
			return cmp.Or(cmp.Compare(a.upper, b.upper), cmp.Compare(a.corner, b.corner))
		})
		for i := 0; i < len(own); {
			k := i + 1
			for k < len(own) && own[k].upper == own[i].upper {
				k++
			}
			// An edge of one triangle is a border; one of three is no surface.
			if k == i+2 {
				p := pair{own[i].corner, own[i+1].corner}
				if cost, ok := p.cost(rule, positions, triangles); ok {
					order = append(order, uint64(math.Float32bits(cost))<<32|uint64(len(out)))
					out = append(out, p)
				}
			}
			i = k
		}
	}
	return out, order
}

// cost is how far the face of a pair is from flat and from right angles, in
// degrees. It is false where the two run along their edge in the same
// direction, are bent too much, or make corners too far from right ones.
func (p pair) cost(rule *scene.Quads, positions []float32, triangles []uint32) (float32, bool) {
	round := p.round(triangles)
	if p.a/3 == p.b/3 || round[1] == round[3] || round[0] == round[2] {
		return 0, false
	}
	var at, side [4]geom.Vec3
	for k, v := range round {
		at[k] = geom.Vec3{float64(positions[3*v]), float64(positions[3*v+1]), float64(positions[3*v+2])}
	}
	var length [4]float64
	for k := range at {
		side[k] = at[(k+1)%4].Sub(at[k])
		length[k] = side[k].Len()
	}
	n := side[3].Cross(side[0]) // of the one and of the other, twice their areas long
	m := side[1].Cross(side[2])
	bend := degrees(math.Atan2(n.Cross(m).Len(), n.Dot(m)))
	mean := n.Norm().Add(m.Norm())
	off := 0.0 // the largest cosine of a corner, which is the sine of how far it is off a right angle
	for k := range side {
		before := (k + 3) % 4
		if side[before].Cross(side[k]).Dot(mean) <= 0 { // turned in, or without area
			return 0, false
		}
		off = max(off, math.Abs(side[before].Dot(side[k]))/(length[before]*length[k]))
	}
	skew := degrees(math.Asin(min(1, off)))
	// What is not a number fails both.
	if !(bend <= float64(rule.Bend)) || !(skew <= float64(rule.Skew)) {
		return 0, false
	}
	return float32(bend + skew), true
}

func degrees(x float64) float64 { return x * 180 / math.Pi }
