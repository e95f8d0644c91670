// Package corner makes indexed parts of faces whose corners have an index of
// their own for each attribute, as OBJ and COLLADA have them: a vertex is made
// for each combination that occurs.
package corner

import (
	"excavate/core/geom"
	"excavate/core/scene"
)

// Ref is one corner: indices into Positions, UVs, Normals and Colours; -1 is
// none.
type Ref struct{ V, T, N, C int32 }

// Source is what corners index. UVs, Normals and Colours may be nil.
type Source struct {
	Positions []float32 // 3 each
	UVs       []float32 // 2 each
	Normals   []float32 // 3 each
	Colours   []float32 // 4 each
}

// Part gathers the faces of one part.
type Part struct {
	Material  int
	Triangles []uint32
	Lines     []uint32
	Points    []uint32
	refs      []Ref   // of each vertex
	table     []int32 // open addressing: the vertex plus one
	mask      uint32
	noUV      bool // a corner without UV or normal was met
	noNormal  bool
	poly      []geom.Vec3
	index     []uint32
}

func hash(r Ref) uint32 {
	h := uint32(r.V)*2654435761 ^ uint32(r.T)*2246822519 ^ uint32(r.N)*3266489917 ^ uint32(r.C)*668265263
	return h ^ h>>15
}

// Vertex is the number of a corner's vertex.
func (p *Part) Vertex(r Ref) uint32 {
	if 4*len(p.refs) >= 3*len(p.table) {
		p.grow()
	}
	for at := hash(r) & p.mask; ; at = (at + 1) & p.mask {
		k := p.table[at]
		if k == 0 {
			p.refs = append(p.refs, r)
			p.table[at] = int32(len(p.refs))
			p.noUV = p.noUV || r.T < 0
			p.noNormal = p.noNormal || r.N < 0
			return uint32(len(p.refs) - 1)
		}
		if p.refs[k-1] == r {
			return uint32(k - 1)
		}
	}
}

func (p *Part) grow() {
	n := max(64, 2*len(p.table))
	p.table, p.mask = make([]int32, n), uint32(n-1)
	for i, r := range p.refs {
		at := hash(r) & p.mask
		for p.table[at] != 0 {
			at = (at + 1) & p.mask
		}
		p.table[at] = int32(i + 1)
	}
}

// Face adds a polygon; one of more than three corners is cut into triangles.
func (p *Part) Face(src *Source, corners []Ref) {
	switch n := len(corners); {
	case n < 3:
	case n == 3:
		p.Triangles = append(p.Triangles, p.Vertex(corners[0]), p.Vertex(corners[1]), p.Vertex(corners[2]))
	default:
		p.poly, p.index = p.poly[:0], p.index[:0]
		for _, c := range corners {
			v := src.Positions[3*c.V:]
			p.poly = append(p.poly, geom.Vec3{float64(v[0]), float64(v[1]), float64(v[2])})
			p.index = append(p.index, p.Vertex(c))
		}
		for _, t := range geom.Triangulate(p.poly) {
			p.Triangles = append(p.Triangles, p.index[t[0]], p.index[t[1]], p.index[t[2]])
		}
	}
}

// Scene makes the part of a scene. UVs and normals that only some corners
// have are 0 at the others; lacking says which were so.
func (p *Part) Scene(src *Source) (out scene.Part, lackUV, lackNormal bool) {
	n := len(p.refs)
	out = scene.Part{Material: p.Material, Triangles: p.Triangles, Lines: p.Lines, Points: p.Points, Positions: make([]float32, 0, 3*n)}
	hasUV, hasNormal := false, false
	for _, r := range p.refs {
		out.Positions = append(out.Positions, src.Positions[3*r.V:3*r.V+3]...)
		hasUV, hasNormal = hasUV || r.T >= 0, hasNormal || r.N >= 0
	}
	if hasUV {
		d := make([]float32, 2*n)
		for i, r := range p.refs {
			if r.T >= 0 {
				copy(d[2*i:], src.UVs[2*r.T:2*r.T+2])
			}
		}
		out.UVs = []scene.AttrSet{{Name: "uv", Data: d}}
	}
	if hasNormal && !p.noNormal {
		d := make([]float32, 3*n)
		for i, r := range p.refs {
			copy(d[3*i:], src.Normals[3*r.N:3*r.N+3])
		}
		out.Normals = d
	}
	if src.Colours != nil {
		d := make([]float32, 4*n)
		for i, r := range p.refs {
			if r.C < 0 {
				d[4*i], d[4*i+1], d[4*i+2], d[4*i+3] = 1, 1, 1, 1
				continue
			}
			copy(d[4*i:], src.Colours[4*r.C:4*r.C+4])
		}
		out.Colours = []scene.AttrSet{{Name: "colour", Data: d}}
	}
	return out, hasUV && p.noUV, hasNormal && p.noNormal
}
