package step

import (
	"context"
	"math"
	"sync"

	"excavate/core/geom"
	"excavate/core/place"
	"excavate/core/scene"
)

// NormalsParams says which edges are hard.
type NormalsParams struct {
	Where
	Crease float64 `json:"crease" jsonschema:"title=Edges harder than,minimum=0,maximum=180,description=Faces that meet at a larger angle keep a hard edge between them" jsonschema_extras:"unit=degrees"`
	Keep   bool    `json:"keep" jsonschema:"title=Keep the source's,description=Only parts without normals get them"`
}

var _ = register(Kind{Name: "normals", Title: "Normals", Family: Geometry, On: Parts, Version: 3,
	Purpose: "Compute normals from the faces, weighted by area and angle, with hard edges where faces meet at more than an angle."},
	NormalsParams{Crease: 40}, normals)

func normals(ctx context.Context, s *scene.Scene, p NormalsParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	var parts, before, after, tangents int
	var of meshNormals
	out, err := eachPartAtOnce(ctx, s, c, func(mesh []scene.Part, k int) (n scene.Part, made bool) {
		q := &mesh[k]
		if p.Keep && q.Normals != nil && !q.NormalsMade || len(q.Triangles) == 0 {
			return *q, false
		}
		whole := of.corners(mesh, p.Crease*math.Pi/180)
		return withCorners(q, whole.of(k)), true
	}, func(was, is *scene.Part, made bool) {
		if !made {
			return
		}
		parts++
		before, after = before+was.Vertices(), after+is.Vertices()
		if was.Tangents != nil {
			tangents++
		}
	})
	if err != nil {
		return nil, err
	}
	if parts == 0 {
		r.Nothing("all parts have normals, or no faces")
		return s, nil
	}
	r.Say("normals of %s computed", count(parts, "part", "parts"))
	if before != after {
		r.Say("vertices %d → %d, along hard edges", before, after)
	}
	if tangents > 0 {
		r.Lose("tangents of %s: they belong to the old normals", count(tangents, "part", "parts"))
	}
	return out, nil
}

// meshNormals keeps the normals of meshes, which the parts of each share.
type meshNormals struct {
	mu sync.Mutex
	of map[*scene.Part]func() cornerRows // by a mesh's first part
}

// cornerRows are normals of a mesh's corners, by part.
type cornerRows struct {
	rows  []float32
	start []int
}

func (c cornerRows) of(part int) []float32 { return c.rows[3*c.start[part] : 3*c.start[part+1]] }

// corners are the normals of a mesh, computed when the first part asks for them.
func (m *meshNormals) corners(mesh []scene.Part, crease float64) cornerRows {
	m.mu.Lock()
	get, ok := m.of[&mesh[0]]
	if !ok {
		get = sync.OnceValue(func() cornerRows {
			whole, start := surfaceOf(mesh)
			return cornerRows{cornerNormals(&whole, crease), start}
		})
		if m.of == nil {
			m.of = map[*scene.Part]func() cornerRows{}
		}
		m.of[&mesh[0]] = get
	}
	m.mu.Unlock()
	return get()
}

// cornerNormals are normals for the corners of a surface. A corner of a face has
// the mean of the normals of the faces round its place that meet its own at less
// than crease radians, each weighted by its area and by its angle there
// (Thürmer and Wüthrich, Computing Vertex Normals from Polygonal Facets, 1998,
// with the area besides). Corners in one place are smooth across UV seams and
// materials. Where no face round a corner has an area it is 0.
func cornerNormals(p *scene.Part, crease float64) []float32 {
	n := len(p.Triangles) / 3
	unit := make([]geom.Vec3, n)   // of each face
	weight := make([]float64, 3*n) // of each corner
	for t := range n {
		v := p.Triangles[3*t : 3*t+3]
		at := [3]geom.Vec3{at3(p.Positions, v[0]), at3(p.Positions, v[1]), at3(p.Positions, v[2])}
		side := [3]geom.Vec3{at[1].Sub(at[0]), at[2].Sub(at[1]), at[0].Sub(at[2])}
		f := side[2].Cross(side[0])
		area := f.Len()
		if area > 0 {
			unit[t] = f.Mul(1 / area)
		}
		for k := range 3 { // the sine of every corner is the area by the lengths of its sides
			weight[3*t+k] = area * math.Atan2(area, -side[k].Dot(side[(k+2)%3]))
		}
	}
	least, half := math.Cos(crease)-1e-6, math.Cos(crease/2)+1e-6
	if crease >= math.Pi {
		least, half = math.Inf(-1), math.Inf(-1)
	}
	corner := make([]float32, 9*n)
	put := func(i int32, sum geom.Vec3) {
		if l := sum.Len(); l < 1e-30 {
			sum = unit[i/3].Norm()
		} else {
			sum = sum.Mul(1 / l)
		}
		for k := range sum {
			corner[3*int(i)+k] = float32(sum[k])
		}
	}
	var here []int32 // the corners in one place
	first, next := cornersByPlace(p)
	for i := range first {
		if next[i] >= 0 { // each place once, by its corner that is the last of the chain
			continue
		}
		here = here[:0]
		for j := first[i]; j >= 0; j = next[j] {
			here = append(here, j)
		}
		// Where all faces lie within half the angle of one of them, they do within
		// the whole of each other.
		var all geom.Vec3
		near := true
		for _, j := range here {
			all = all.Add(unit[j/3].Mul(weight[j]))
			near = near && unit[j/3].Dot(unit[here[0]/3]) >= half
		}
		for _, i := range here {
			sum := all
			if !near && len(here) <= manyFaces {
				sum = geom.Vec3{}
				for _, j := range here {
					if f := unit[j/3]; j/3 == i/3 || f.Dot(unit[i/3]) >= least {
						sum = sum.Add(f.Mul(weight[j]))
					}
				}
			}
			put(i, sum)
		}
	}
	return corner
}

// manyFaces is how many faces round one place are still compared each with
// each. Of more, as at the tip of a very fine cone, the place is smooth.
const manyFaces = 4096

// fallback is the normal of a vertex of which no face has an area: its old
// one, or up.
func fallback(p *scene.Part, v uint32) geom.Vec3 {
	if p.Normals != nil {
		if n := at3(p.Normals, v).Norm(); n.Len() > 0 {
			return n
		}
	}
	return geom.Vec3{0, 1, 0}
}

// cornersByPlace chains the corners that lie in one place: first is the head
// of each corner's chain, next the one after it.
func cornersByPlace(p *scene.Part) (first, next []int32) {
	at := place.Of(p.Positions)
	head := make([]int32, p.Vertices())
	for i := range head {
		head[i] = -1
	}
	first, next = make([]int32, len(p.Triangles)), make([]int32, len(p.Triangles))
	for i, v := range p.Triangles {
		k := at[v]
		next[i] = head[k]
		head[k] = int32(i)
	}
	for i, v := range p.Triangles {
		first[i] = head[at[v]]
	}
	return first, next
}

// sameDirection is how near two corners' normals or tangents are that one
// vertex can have.
const sameDirection = 1e-4

// withCorners is the part with a normal for each corner. A vertex whose corners
// disagree is doubled; tangents go.
func withCorners(p *scene.Part, corner []float32) scene.Part {
	shared := true // with what else shows the mesh
	for i, v := range p.Triangles {
		if at3(corner, uint32(i)) == (geom.Vec3{}) {
			if shared {
				corner, shared = cloned(corner), false
			}
			n := fallback(p, v)
			for k := range n {
				corner[3*i+k] = float32(n[k])
			}
		}
	}
	out, list := perCorner(p, corner, 3, func(v uint32) []float32 {
		n := fallback(p, v)
		return []float32{float32(n[0]), float32(n[1]), float32(n[2])}
	})
	out.Normals, out.Tangents, out.NormalsMade = list, nil, false
	return out
}

// perCorner is the part with a vertex doubled where its corners differ in rows
// of per numbers, and these rows by vertex. Lines and points keep the first
// copy of their vertices; without says what one has that no triangle uses.
func perCorner(p *scene.Part, corner []float32, per int, without func(v uint32) []float32) (scene.Part, []float32) {
	heads := make([]int32, p.Vertices()) // of each vertex's copies
	for i := range heads {
		heads[i] = -1
	}
	var next []int32 // the copy after each
	var from []uint32
	list := make([]float32, 0, per*p.Vertices())
	copyOf := func(v uint32, row []float32) uint32 {
		next = append(next, heads[v])
		heads[v] = int32(len(from))
		from = append(from, v)
		list = append(list, row...)
		return uint32(heads[v])
	}
	same := func(c int32, row []float32) bool {
		for k, x := range list[int(c)*per : int(c)*per+per] {
			if abs(x-row[k]) >= sameDirection {
				return false
			}
		}
		return true
	}
	tri := make([]uint32, len(p.Triangles))
	for i, v := range p.Triangles {
		row := corner[i*per : i*per+per]
		at := heads[v]
		for at >= 0 && !same(at, row) {
			at = next[at]
		}
		if at < 0 {
			at = int32(copyOf(v, row))
		}
		tri[i] = uint32(at)
	}
	rest := func(old []uint32) []uint32 {
		if old == nil {
			return nil
		}
		out := make([]uint32, len(old))
		for i, v := range old {
			if heads[v] < 0 {
				copyOf(v, without(v))
			}
			out[i] = uint32(heads[v])
		}
		return out
	}
	lines, points := rest(p.Lines), rest(p.Points)
	out := verticesOf(p, from)
	out.Triangles, out.Lines, out.Points = tri, lines, points
	return out, list
}

func abs(x float32) float32 {
	if x < 0 {
		return -x
	}
	return x
}
