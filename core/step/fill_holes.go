package step

import (
	"context"
	"slices"
	"sort"

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
	var filled, large, between, faces int
	out, err := eachMesh(s, c, func(m scene.Mesh, taken []bool) (scene.Mesh, error) {
		if err := ctx.Err(); err != nil {
			return m, err
		}
		f := holeFiller{parts: m.Parts, taken: taken, most: p.Edges}
		m.Parts = f.run()
		filled, large, between, faces = filled+f.filled, large+f.large, between+f.between, faces+f.faces
		return m, nil
	})
	if err != nil {
		return nil, err
	}
	if filled == 0 {
		r.Nothing("no hole has %d edges or fewer%s",
			p.Edges, ifAny(large, ", and %s", count(large, "has more", "have more")))
		return s, nil
	}
	r.Say("%s filled with %s", count(filled, "hole", "holes"), count(faces, "triangle", "triangles"))
	if between > 0 {
		r.Say("%s between parts: the part that has most of the edges got the faces",
			count(between, "of them lies", "of them lie"))
	}
	if large > 0 {
		r.Say("%s open: more than %d edges", count(large, "stays", "stay"), p.Edges)
	}
	return out, nil
}

// surfaceOf is all parts of a mesh as one of positions and triangles alone:
// where two parts meet there is neither border nor hole. start is the first
// corner of each part, and after the last how many there are.
func surfaceOf(parts []scene.Part) (whole scene.Part, start []int) {
	if len(parts) == 1 {
		return scene.Part{Positions: parts[0].Positions, Triangles: parts[0].Triangles}, []int{0, len(parts[0].Triangles)}
	}
	start = []int{0}
	for i := range parts {
		base := uint32(whole.Vertices())
		whole.Positions = append(whole.Positions, parts[i].Positions...)
		for _, v := range parts[i].Triangles {
			whole.Triangles = append(whole.Triangles, base+v)
		}
		start = append(start, len(whole.Triangles))
	}
	return whole, start
}

// holeFiller closes holes in the surface that the parts of a mesh make
// together. A hole is a ring of edges that one triangle only has, by place:
// neither seams nor where two parts meet are holes. What is put in has vertices
// of its own, with the normal of its face and all else of the vertices round it.
type holeFiller struct {
	parts []scene.Part
	taken []bool
	most  int // edges of a hole

	whole                         scene.Part
	start                         []int
	filled, large, between, faces int
}

// run is the parts with their holes closed.
func (f *holeFiller) run() []scene.Part {
	f.whole, f.start = surfaceOf(f.parts)
	tri := f.whole.Triangles
	place, _ := cornersByPlace(&f.whole)
	type edge struct{ a, b int32 }
	sides := map[edge]int{}
	for i := range tri {
		sides[edge{place[i], place[after(i)]}]++
	}
	// Along a hole runs the edge that is missing: from b to a.
	h := holes{next: map[int32][]rimEdge{}}
	for i := range tri {
		a, b := place[i], place[after(i)]
		if a == b || sides[edge{a, b}] != 1 || sides[edge{b, a}] != 0 {
			continue
		}
		h.next[b] = append(h.next[b], rimEdge{to: a, corner: after(i)})
		h.starts = append(h.starts, b)
	}
	out := cloned(f.parts)
	caps := make([]holeCap, len(out))
	for _, ring := range h.rings() {
		if owner := f.owner(ring); owner >= 0 && len(ring) <= f.most {
			f.close(&caps[owner], owner, ring)
		} else if owner >= 0 {
			f.large++
		}
	}
	for k := range caps {
		if len(caps[k].tri) > 0 {
			out[k] = withFaces(&out[k], caps[k].part(&f.parts[k]))
		}
	}
	return out
}

// after is the corner after one, round its triangle.
func after(corner int) int { return corner - corner%3 + (corner+1)%3 }

// partOf is the part that a corner is of.
func (f *holeFiller) partOf(corner int) int {
	return sort.Search(len(f.parts), func(k int) bool { return f.start[k+1] > corner })
}

// owner is the chosen part that has most of a ring's corners, None if none has any.
func (f *holeFiller) owner(ring []int) int {
	n := make(map[int]int)
	best := scene.None
	for _, corner := range ring {
		k := f.partOf(corner)
		n[k]++
		if f.taken[k] && (best < 0 || n[k] > n[best]) {
			best = k
		}
	}
	return best
}

// holeCap is the faces that close holes of one part.
type holeCap struct {
	from    []uint32    // the part's vertex that each new one is like
	at      []geom.Vec3 // where it lies
	normals []geom.Vec3
	tri     []uint32
}

// close puts faces of a part into a ring.
func (f *holeFiller) close(c *holeCap, owner int, ring []int) {
	points := make([]geom.Vec3, len(ring))
	for i, corner := range ring {
		points[i] = at3(f.whole.Positions, f.whole.Triangles[corner])
	}
	base := uint32(len(c.from))
	var n geom.Vec3
	for _, t := range geom.Triangulate(nil, points) {
		n = n.Add(points[t[1]].Sub(points[t[0]]).Cross(points[t[2]].Sub(points[t[0]])))
		c.tri = append(c.tri, base+uint32(t[0]), base+uint32(t[1]), base+uint32(t[2]))
		f.faces++
	}
	// Of a corner of another part the new vertex has the place alone, and all
	// else of the last one on the way round that is the owner's.
	own := func(corner int) bool { return corner >= f.start[owner] && corner < f.start[owner+1] }
	first := slices.IndexFunc(ring, own)
	last := ring[first]
	from := make([]uint32, len(ring))
	mixed := false
	for i := range ring {
		k := (first + i) % len(ring)
		if own(ring[k]) {
			last = ring[k]
		} else {
			mixed = true
		}
		from[k] = f.parts[owner].Triangles[last-f.start[owner]]
	}
	c.from, c.at = append(c.from, from...), append(c.at, points...)
	c.normals = append(c.normals, slices.Repeat([]geom.Vec3{n.Norm()}, len(ring))...)
	f.filled++
	if mixed {
		f.between++
	}
}

func (c *holeCap) part(p *scene.Part) *scene.Part {
	out := verticesOf(p, c.from)
	out.Triangles = c.tri
	for i := range c.from {
		for k := range 3 {
			out.Positions[3*i+k] = float32(c.at[i][k])
			if out.Normals != nil {
				out.Normals[3*i+k] = float32(c.normals[i][k])
			}
		}
	}
	return &out
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
