package step

import (
	"context"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/place"
	"excavate/core/scene"
)

// FacingParams says how faces turn.
type FacingParams struct {
	Where
	How string `json:"how" jsonschema:"title=How,enum=flip,enum=agree,description=Turn every face round; or make the faces of each piece agree and look outwards"`
}

var _ = register(Kind{Name: "facing", Title: "Facing", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Turn faces round that look the wrong way, with their normals."},
	FacingParams{How: "agree"}, facing)

func facing(ctx context.Context, s *scene.Scene, p FacingParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	var turned, open int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		if err := ctx.Err(); err != nil {
			return *q, err
		}
		flip := make([]bool, len(q.Triangles)/3)
		if p.How == "flip" {
			for t := range flip {
				flip[t] = true
			}
		} else {
			var o int
			flip, o = disagreeing(q)
			open += o
		}
		n := 0
		for _, f := range flip {
			if f {
				n++
			}
		}
		if n == 0 {
			return *q, nil
		}
		turned += n
		return withFlipped(q, flip), nil
	})
	if err != nil {
		return nil, err
	}
	if open > 0 {
		r.Say("%s open: its faces agree, and which side is outside is a guess by volume",
			count(open, "piece is", "pieces are"))
	}
	if turned == 0 {
		r.Nothing("all faces agree")
		return s, nil
	}
	r.Say("%s turned round", count(turned, "face", "faces"))
	return out, nil
}

// withFlipped is the part with some triangles turned round. A vertex that
// faces of both kinds share is doubled; the normals of those that turn point
// the other way.
func withFlipped(p *scene.Part, flip []bool) scene.Part {
	n := p.Vertices()
	to := make([]uint32, n) // the turned copy of each vertex, plus 1
	stays := make([]bool, n)
	for t, f := range flip {
		for _, v := range p.Triangles[3*t : 3*t+3] {
			stays[v] = stays[v] || !f
		}
	}
	for _, list := range [][]uint32{p.Lines, p.Points} {
		for _, v := range list {
			stays[v] = true
		}
	}
	from := make([]uint32, n)
	for v := range from {
		from[v] = uint32(v)
	}
	tri := slices.Clone(p.Triangles)
	turned := make([]bool, n, 2*n)
	for t, f := range flip {
		if !f {
			continue
		}
		tri[3*t+1], tri[3*t+2] = tri[3*t+2], tri[3*t+1]
		for k := 3 * t; k < 3*t+3; k++ {
			v := tri[k]
			if !stays[v] {
				turned[v] = true
				continue
			}
			if to[v] == 0 {
				from = append(from, v)
				turned = append(turned, true)
				to[v] = uint32(len(from))
			}
			tri[k] = to[v] - 1
		}
	}
	out := verticesOf(p, from)
	out.Triangles, out.Lines, out.Points = tri, p.Lines, p.Points
	for v, f := range turned {
		if !f {
			continue
		}
		for k := 3 * v; k < 3*v+3 && out.Normals != nil; k++ {
			out.Normals[k] = -out.Normals[k]
		}
		if out.Tangents != nil {
			out.Tangents[4*v+3] = -out.Tangents[4*v+3]
		}
		for i := range out.Morphs {
			for k := 3 * v; k < 3*v+3 && out.Morphs[i].Normals != nil; k++ {
				out.Morphs[i].Normals[k] = -out.Morphs[i].Normals[k]
			}
		}
	}
	return out
}

// disagreeing marks the triangles to turn so that neighbours run along their
// edge in opposite directions, as the two sides of one surface do, and each
// piece encloses a positive volume. open is the number of pieces with an edge
// that only one face has.
func disagreeing(p *scene.Part) (flip []bool, open int) {
	n := len(p.Triangles) / 3
	places := place.Of(p.Positions)
	at := make([]int32, len(p.Triangles)) // the place of each corner
	for i, v := range p.Triangles {
		at[i] = int32(places[v])
	}
	type edge [2]int32
	type side struct {
		face    int32
		forward bool
	}
	edges := map[edge][]side{}
	each := func(t int, f func(e edge, forward bool)) {
		for k := range 3 {
			a, b := at[3*t+k], at[3*t+(k+1)%3]
			if a < b {
				f(edge{a, b}, true)
			} else if b < a {
				f(edge{b, a}, false)
			}
		}
	}
	for t := range n {
		each(t, func(e edge, forward bool) { edges[e] = append(edges[e], side{int32(t), forward}) })
	}
	flip = make([]bool, n)
	seen := make([]bool, n)
	for start := range n {
		if seen[start] {
			continue
		}
		seen[start] = true
		list := []int32{int32(start)}
		isOpen := false
		for i := 0; i < len(list); i++ {
			t := list[i]
			each(int(t), func(e edge, forward bool) {
				sides := edges[e]
				isOpen = isOpen || len(sides) == 1
				if len(sides) != 2 { // where three faces meet nothing says which two belong together
					return
				}
				o := sides[0]
				if o.face == t {
					o = sides[1]
				}
				if !seen[o.face] {
					seen[o.face] = true
					flip[o.face] = flip[t] != (o.forward == forward)
					list = append(list, o.face)
				}
			})
		}
		if isOpen {
			open++
		}
		if v, turns := pieceVolume(p, list, flip); v < 0 || v == 0 && 2*turns > len(list) {
			for _, t := range list {
				flip[t] = !flip[t]
			}
		}
	}
	return flip, open
}

// pieceVolume is six times the volume that triangles enclose, measured from
// the first one's place so that it does not matter for closed ones and is
// small for flat ones, and how many of them are turned.
func pieceVolume(p *scene.Part, list []int32, flip []bool) (v float64, turned int) {
	o := at3(p.Positions, p.Triangles[3*list[0]])
	var reach float64
	for _, t := range list {
		tri := p.Triangles[3*t : 3*t+3]
		a, b, c := at3(p.Positions, tri[0]).Sub(o), at3(p.Positions, tri[1]).Sub(o), at3(p.Positions, tri[2]).Sub(o)
		d := a.Dot(b.Cross(c))
		if flip[t] {
			d = -d
			turned++
		}
		v += d
		for _, x := range []geom.Vec3{a, b, c} {
			reach = math.Max(reach, x.Len())
		}
	}
	if math.Abs(v) < 1e-9*reach*reach*reach {
		v = 0
	}
	return v, turned
}
