package step

import (
	"context"

	"excavate/core/geom"
	"excavate/core/scene"
)

// FillHolesParams says which holes are filled.
type FillHolesParams struct {
	Where
	Edges int `json:"edges" jsonschema:"title=Up to so many edges,minimum=3,maximum=100000,description=Larger openings are meant to be there"`
}

var _ = register(Kind{Name: "fill-holes", Title: "Fill holes", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Close openings in surfaces with faces of the same material, for print and for what has to be solid."},
	FillHolesParams{Edges: 64}, fillHoles)

func fillHoles(ctx context.Context, s *scene.Scene, p FillHolesParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	var filled, large, faces int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		if err := ctx.Err(); err != nil {
			return *q, err
		}
		n, f, l := Filled(q, p.Edges)
		filled, large = filled+f, large+l
		faces += (len(n.Triangles) - len(q.Triangles)) / 3
		return n, nil
	})
	if err != nil {
		return nil, err
	}
	if filled == 0 {
		r.Nothing("no hole has %d edges or fewer%s", p.Edges, ifAny(large, ", and %s", count(large, "has more", "have more")))
		return s, nil
	}
	r.Say("%s filled with %s", count(filled, "hole", "holes"), count(faces, "triangle", "triangles"))
	if large > 0 {
		r.Say("%s open: more than %d edges", count(large, "stays", "stay"), p.Edges)
	}
	return out, nil
}

// Filled is the part with its holes of at most most edges closed, how many
// were, and how many were too large. A hole is a ring of edges that one
// triangle only has, by place: seams are no holes. What is put in has vertices
// of its own, with the normal of its face and all else of the vertices round it.
func Filled(p *scene.Part, most int) (out scene.Part, filled, large int) {
	first, _ := cornersByPlace(p)
	place := func(corner int) int32 { return first[corner] }
	type edge struct{ a, b int32 }
	sides := map[edge]int{}
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		for k := range 3 {
			sides[edge{place(t + k), place(t + (k+1)%3)}]++
		}
	}
	// Along a hole runs the edge that is missing: from b to a.
	h := holes{next: map[int32][]rimEdge{}}
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		for k := range 3 {
			a, b := place(t+k), place(t+(k+1)%3)
			if a == b || sides[edge{a, b}] != 1 || sides[edge{b, a}] != 0 {
				continue
			}
			h.next[b] = append(h.next[b], rimEdge{to: a, corner: t + (k+1)%3})
			h.starts = append(h.starts, b)
		}
	}
	out = *p
	var from, tri []uint32
	var normals []geom.Vec3
	for _, ring := range h.rings() {
		if len(ring) > most {
			large++
			continue
		}
		points := make([]geom.Vec3, len(ring))
		for i, corner := range ring {
			points[i] = at3(p.Positions, p.Triangles[corner])
		}
		base := uint32(p.Vertices() + len(from))
		var n geom.Vec3
		for _, f := range geom.Triangulate(nil, points) {
			n = n.Add(points[f[1]].Sub(points[f[0]]).Cross(points[f[2]].Sub(points[f[0]])))
			tri = append(tri, base+uint32(f[0]), base+uint32(f[1]), base+uint32(f[2]))
		}
		for _, corner := range ring {
			from = append(from, p.Triangles[corner])
			normals = append(normals, n.Norm())
		}
		filled++
	}
	if filled == 0 {
		return *p, 0, large
	}
	cap := verticesOf(p, from)
	cap.Triangles = tri
	for i := range cap.Triangles {
		cap.Triangles[i] -= uint32(p.Vertices())
	}
	if cap.Normals != nil {
		for i, n := range normals {
			for k := range n {
				cap.Normals[3*i+k] = float32(n[k])
			}
		}
	}
	return withFaces(p, &cap), filled, large
}

// holes are the edges that are missing, by the place that each begins at.
type holes struct {
	next   map[int32][]rimEdge
	starts []int32
}

type rimEdge struct {
	to     int32
	corner int // of a triangle, at the edge's beginning
}

// rings are the holes as corners of the triangles round them. Where holes touch
// in a point, each way round to it is a hole of its own. Edges that lead
// nowhere, as where three faces meet in one, are none.
func (h *holes) rings() (out [][]int) {
	for _, s := range h.starts {
		var path []int32 // places gone through
		var corners []int
		at := map[int32]int{}
		for here := s; ; {
			list := h.next[here]
			if len(list) == 0 {
				break
			}
			e := list[0]
			h.next[here] = list[1:]
			at[here] = len(path)
			path, corners = append(path, here), append(corners, e.corner)
			here = e.to
			if k, ok := at[here]; ok {
				if len(corners)-k >= 3 {
					out = append(out, append([]int(nil), corners[k:]...))
				}
				for _, p := range path[k:] {
					delete(at, p)
				}
				path, corners = path[:k], corners[:k]
			}
		}
	}
	return out
}

// withFaces is the part with the faces of another one, of the same material
// and with the same sets, weights and morph targets.
func withFaces(p, more *scene.Part) scene.Part {
	out := *p
	n := uint32(p.Vertices())
	both := func(a, b []float32) []float32 {
		if a == nil {
			return nil
		}
		return append(cloned(a), b...)
	}
	out.Positions, out.Normals, out.Tangents = both(p.Positions, more.Positions), both(p.Normals, more.Normals), both(p.Tangents, more.Tangents)
	out.Weights = both(p.Weights, more.Weights)
	if p.Joints != nil {
		out.Joints = append(cloned(p.Joints), more.Joints...)
	}
	out.UVs, out.Colours, out.Morphs = cloned(p.UVs), cloned(p.Colours), cloned(p.Morphs)
	for i := range out.UVs {
		out.UVs[i].Data = both(p.UVs[i].Data, more.UVs[i].Data)
	}
	for i := range out.Colours {
		out.Colours[i].Data = both(p.Colours[i].Data, more.Colours[i].Data)
	}
	for i := range out.Morphs {
		a, b := &out.Morphs[i], &more.Morphs[i]
		a.Positions, a.Normals, a.Tangents = both(a.Positions, b.Positions), both(a.Normals, b.Normals), both(a.Tangents, b.Tangents)
	}
	out.Triangles = cloned(p.Triangles)
	for _, v := range more.Triangles {
		out.Triangles = append(out.Triangles, v+n)
	}
	return out
}
