package corner

import (
	"math"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Run is a row of triangles of one smoothing group, or of one face of group 0,
// which is flat.
type Run struct{ Group, Triangles int }

// SmoothNormals computes normals where a file has none. Vertices of a
// smoothing group share one, weighted by the angles at it (Thürmer and
// Wüthrich, "Computing Vertex Normals from Polygonal Facets", 1998), so that it
// does not depend on how polygons are cut; group 0 is flat. A vertex that
// lies in several groups is split.
func SmoothNormals(p *scene.Part, runs []Run) {
	groups := make([]int, 0, len(p.Triangles)/3) // of each triangle; below 0 for a flat face
	for i, r := range runs {
		g := r.Group
		if g == 0 {
			g = -1 - i
		}
		for range r.Triangles {
			groups = append(groups, g)
		}
	}
	for len(groups) < len(p.Triangles)/3 {
		groups = append(groups, 1)
	}
	owner := make([]int, p.Vertices()) // the group that a vertex belongs to
	split := map[[2]int]uint32{}
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		g := groups[t/3]
		for c := range 3 {
			v := p.Triangles[t+c]
			if owner[v] == 0 {
				owner[v] = g
			}
			if owner[v] == g {
				continue
			}
			key := [2]int{int(v), g}
			w, ok := split[key]
			if !ok {
				w = uint32(p.Vertices())
				split[key] = w
				p.Positions = append(p.Positions, p.Positions[3*v:3*v+3]...)
				for i := range p.UVs {
					p.UVs[i].Data = append(p.UVs[i].Data, p.UVs[i].Data[2*v:2*v+2]...)
				}
				for i := range p.Colours {
					p.Colours[i].Data = append(p.Colours[i].Data, p.Colours[i].Data[4*v:4*v+4]...)
				}
			}
			p.Triangles[t+c] = w
		}
	}
	// Corners that differ in texture only must not break the surface: sums are
	// gathered by position and group.
	type at struct {
		p [3]float32
		g int
	}
	groupOf := make([]int, p.Vertices())
	for t, v := range p.Triangles {
		groupOf[v] = groups[t/3]
	}
	sums := map[at]*[3]float64{}
	key := func(v uint32) at {
		return at{[3]float32{p.Positions[3*v], p.Positions[3*v+1], p.Positions[3*v+2]}, groupOf[v]}
	}
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		var v [3]geom.Vec3
		for c := range 3 {
			q := p.Positions[3*p.Triangles[t+c]:]
			v[c] = geom.Vec3{float64(q[0]), float64(q[1]), float64(q[2])}
		}
		n := v[1].Sub(v[0]).Cross(v[2].Sub(v[0])).Norm()
		for c := range 3 {
			k := key(p.Triangles[t+c])
			s := sums[k]
			if s == nil {
				s = new([3]float64)
				sums[k] = s
			}
			a, b := v[(c+1)%3].Sub(v[c]).Norm(), v[(c+2)%3].Sub(v[c]).Norm()
			angle := math.Acos(math.Max(-1, math.Min(1, a.Dot(b))))
			for i := range 3 {
				s[i] += angle * n[i]
			}
		}
	}
	p.Normals = make([]float32, len(p.Positions))
	for v := range p.Vertices() {
		s := sums[key(uint32(v))]
		if s == nil {
			p.Normals[3*v+1] = 1
			continue
		}
		l := math.Sqrt(s[0]*s[0] + s[1]*s[1] + s[2]*s[2])
		if l == 0 || math.IsInf(l, 0) {
			p.Normals[3*v+1] = 1
			continue
		}
		for i := range 3 {
			p.Normals[3*v+i] = float32(s[i] / l)
		}
	}
}
