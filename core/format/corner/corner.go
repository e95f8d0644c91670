// Package corner makes indexed parts of faces whose corners have an index of
// their own for each attribute, as OBJ and X3D have them: a vertex is made for
// each combination that occurs. Faces without normals get some.
package corner

import (
	"slices"

	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/scene"
)

// None is the index of an attribute that a corner has not.
const None = -1

// Ref is one corner: indices into Positions, UVs, Normals and Colours.
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
	Lines     []uint32
	Points    []uint32
	triangles list[[3]uint32]
	refs      list[Ref] // of each vertex; N below None is a normal to be made
	known     table     // of refs
	cutter    geom.Cutter
	cut       []Ref // room for the corners of a face

	flat   list[[3]float32] // normals of flat faces: N is -2 for the first, -4 for the next
	groups map[int]int32    // N of smoothing groups: -3 for the first, -5 for the next
	hasUV  bool             // a corner with UV was met
	noUV   bool             // one without
	stated bool             // a face with normals was met
	made   bool             // a face without was met
}

func hash(r Ref) uint32 { return mix(uint32(r.V), uint32(r.T), uint32(r.N)) ^ uint32(r.C)*668265263 }

// Vertex is the number of a corner's vertex.
func (p *Part) Vertex(r Ref) uint32 {
	k := p.known.number(hash(r), p.refs.n, func(k int) bool { return *p.refs.at(k) == r }, func(k int) uint32 { return hash(*p.refs.at(k)) })
	if k == p.refs.n {
		p.refs.add(r)
		p.noUV, p.hasUV = p.noUV || r.T < 0, p.hasUV || r.T >= 0
	}
	return uint32(k)
}

// Face adds a polygon; one of more than three corners is cut into triangles.
// If a corner has no normal, the face is part of a smoothing group: its
// vertices have the normals of the group's surface, and other groups have
// vertices of their own. A face of group 0 is flat: its vertices are its own,
// with one normal.
func (p *Part) Face(src *Source, corners []Ref, group int) {
	n := len(corners)
	if n < 3 {
		return
	}
	own := false
	if slices.ContainsFunc(corners, func(c Ref) bool { return c.N < 0 }) {
		p.made = true
		code := int32(0)
		if own = group == 0; own {
			code = int32(-2 - 2*p.flat.n)
			p.flat.add(flatNormal(src.Positions, corners))
		} else {
			code = p.group(group)
		}
		p.cut = append(p.cut[:0], corners...)
		corners = p.cut
		for i := range corners {
			corners[i].N = code
		}
	} else {
		p.stated = true
	}
	first := uint32(p.refs.n)
	vertex := func(k int) uint32 { return p.Vertex(corners[k]) }
	if own {
		for _, c := range corners {
			p.refs.add(c)
			p.noUV, p.hasUV = p.noUV || c.T < 0, p.hasUV || c.T >= 0
		}
		vertex = func(k int) uint32 { return first + uint32(k) }
	}
	if n == 3 {
		p.triangles.add([3]uint32{vertex(0), vertex(1), vertex(2)})
		return
	}
	for _, t := range p.cutter.Cut(n, func(k int) geom.Vec3 { return geom.At(src.Positions, uint32(corners[k].V)) }) {
		p.triangles.add([3]uint32{vertex(t[0]), vertex(t[1]), vertex(t[2])})
	}
}

func (p *Part) group(group int) int32 {
	code, ok := p.groups[group]
	if !ok {
		if p.groups == nil {
			p.groups = map[int]int32{}
		}
		code = int32(-3 - 2*len(p.groups))
		p.groups[group] = code
	}
	return code
}

// Empty tells whether nothing was added.
func (p *Part) Empty() bool { return p.triangles.n+len(p.Lines)+len(p.Points) == 0 }

// Scene makes the part of a scene. UVs that only some corners have are 0 at the
// others; lackUV says that this is so, and lackNormal that some faces have
// normals and others got theirs here.
func (p *Part) Scene(src *Source) (out scene.Part, lackUV, lackNormal bool) {
	out = scene.Part{Material: p.Material, Lines: p.Lines, Points: p.Points}
	if p.triangles.n > 0 {
		out.Triangles = make([]uint32, 0, 3*p.triangles.n)
		for _, c := range p.triangles.chunks {
			for i := range c {
				out.Triangles = append(out.Triangles, c[i][:]...)
			}
		}
	}
	out.Positions = gather(&p.refs, 3, func(to []float32, r *Ref) { copy(to, src.Positions[3*r.V:]) })
	if p.hasUV {
		out.UVs = []scene.AttrSet{{Name: "uv", Data: gather(&p.refs, 2, func(to []float32, r *Ref) {
			if r.T >= 0 {
				copy(to, src.UVs[2*r.T:])
			}
		})}}
	}
	if p.stated || p.made {
		out.Normals = gather(&p.refs, 3, func(to []float32, r *Ref) {
			switch {
			case r.N >= 0:
				copy(to, src.Normals[3*r.N:])
			case r.N < None && r.N%2 == 0:
				copy(to, p.flat.at(int(-1 - r.N/2))[:])
			}
		})
		p.shade(&out)
		out.NormalsMade = !p.stated
	}
	if src.Colours != nil {
		out.Colours = []scene.AttrSet{{Name: "colour", Data: gather(&p.refs, 4, func(to []float32, r *Ref) {
			if r.C < 0 {
				to[0], to[1], to[2], to[3] = 1, 1, 1, 1
			} else {
				copy(to, src.Colours[4*r.C:])
			}
		})}}
	}
	return out, p.hasUV && p.noUV, p.stated && p.made
}

// gather makes an attribute of per numbers a vertex.
func gather(refs *list[Ref], per int, set func(to []float32, r *Ref)) []float32 {
	out := make([]float32, per*refs.n)
	parallel.Share(refs.n, 1<<14, func(from, to int) {
		for i := from; i < to; i++ {
			set(out[per*i:per*i+per], refs.at(i))
		}
	})
	return out
}
