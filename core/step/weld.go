package step

import (
	"context"
	"fmt"
	"math"

	"excavate/core/scene"
)

// WeldParams says which vertices become one.
type WeldParams struct {
	Where
	Distance float64 `json:"distance" jsonschema:"title=Weld within,minimum=0,maximum=1e+06" jsonschema_extras:"unit=m,shown=mm"`
	Angle    float64 `json:"angle" jsonschema:"title=Keep edges harder than,minimum=0,maximum=180" jsonschema_extras:"unit=degrees"`
}

// Validate refuses numbers that are no distance or angle.
func (p *WeldParams) Validate() error {
	if !(p.Distance >= 0) || math.IsInf(p.Distance, 0) || !(p.Angle >= 0 && p.Angle <= 180) {
		return fmt.Errorf("the distance is 0 m or more and the angle 0 to 180 degrees")
	}
	return p.Where.Validate()
}

var _ = register(Kind{Name: "weld", Title: "Weld", Family: Geometry, On: Parts, Version: 2,
	Purpose: "Join vertices that lie within a distance. UV seams, hard edges, weights and material borders stay."},
	WeldParams{Distance: 0.0001, Angle: 30}, weld)

func weld(ctx context.Context, s *scene.Scene, p WeldParams, r *Report) (*scene.Scene, error) {
	d := p.Distance
	if m := s.Basis.MetresPerUnit; m > 0 {
		d /= m
	}
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	var before, after, flat, seams int
	out, err := eachPartAtOnce(ctx, s, c, func(mesh []scene.Part, k int) (scene.Part, Welded) {
		q := &mesh[k]
		w := Weld(q, d, p.Angle*math.Pi/180)
		return *w.Part, w
	}, func(was, is *scene.Part, w Welded) {
		before, after = before+was.Vertices(), after+is.Vertices()
		flat, seams = flat+w.Flat, seams+w.Seams
	})
	if err != nil {
		return nil, err
	}
	if before == after {
		r.Nothing("no vertices lie within %.4g m of each other and agree in all else", p.Distance)
		return s, nil
	}
	r.Say("vertices %d → %d", before, after)
	if seams > 0 {
		r.Say("%s stay double at seams and hard edges", count(seams, "vertex", "vertices"))
	}
	if flat > 0 {
		r.Lose("%s without area went with the weld", count(flat, "triangle", "triangles"))
	}
	return out, nil
}

// Welded is the result of Weld.
type Welded struct {
	Part  *scene.Part
	Flat  int // triangles that lost their area and were left out
	Seams int // vertices that lie on another one and were kept apart
}

// Tolerances within which attributes count as the same.
const (
	uvSame     = 1e-5
	colourSame = 1.0 / 512
	weightSame = 1.0 / 128

	tangentSame = 0.5 // cosine of the angle between two that one vertex can have
)

// Weld joins the part's vertices that lie within distance (in the part's
// unit) of a vertex before them and agree in UVs, colours, weights and morph
// offsets, and whose normals differ by less than angle radians. The joined
// vertex keeps the first one's place and has their mean normal. The part
// itself is not changed.
func Weld(p *scene.Part, distance, angle float64) Welded {
	n := p.Vertices()
	if n == 0 {
		return Welded{Part: p}
	}
	w := newWelder(p, distance, angle)
	target := make([]uint32, n) // the new index of each vertex
	var firsts []uint32         // the old vertex of each new one
	seams := 0
	for v := 0; v < n; v++ {
		k, touching := w.find(v)
		if k < 0 {
			if touching {
				seams++
			}
			k = int32(len(firsts))
			firsts = append(firsts, uint32(v))
			w.insert(v, k)
		}
		target[v] = uint32(k)
	}
	if len(firsts) == n {
		return Welded{Part: p, Seams: seams}
	}
	out := verticesOf(p, firsts)
	if p.Normals != nil {
		out.Normals = make([]float32, 3*len(firsts))
		for v := 0; v < n; v++ {
			k := 3 * int(target[v])
			out.Normals[k] += p.Normals[3*v]
			out.Normals[k+1] += p.Normals[3*v+1]
			out.Normals[k+2] += p.Normals[3*v+2]
		}
		for i := 0; i < len(out.Normals); i += 3 {
			x, y, z := float64(out.Normals[i]), float64(out.Normals[i+1]), float64(out.Normals[i+2])
			if l := math.Sqrt(x*x + y*y + z*z); l > 1e-12 {
				out.Normals[i], out.Normals[i+1], out.Normals[i+2] = float32(x/l), float32(y/l), float32(z/l)
			} else {
				copy(out.Normals[i:i+3], p.Normals[3*firsts[i/3]:])
			}
		}
	}
	flat := 0
	out.Triangles = make([]uint32, 0, len(p.Triangles))
	for i := 0; i+2 < len(p.Triangles); i += 3 {
		a, b, c := target[p.Triangles[i]], target[p.Triangles[i+1]], target[p.Triangles[i+2]]
		if a == b || b == c || a == c {
			flat++
			continue
		}
		out.Triangles = append(out.Triangles, a, b, c)
	}
	out.Lines, out.Points = renumbered(p.Lines, target), renumbered(p.Points, target)
	return Welded{Part: &out, Flat: flat, Seams: seams}
}

func renumbered(v, target []uint32) []uint32 {
	if v == nil {
		return nil
	}
	out := make([]uint32, len(v))
	for i, k := range v {
		out[i] = target[k]
	}
	return out
}

// rowsOf gathers rows of n numbers.
func rowsOf[T any](v []T, from []uint32, n int) []T {
	if v == nil {
		return nil
	}
	out := make([]T, len(from)*n)
	switch n {
	case 2:
		for i, f := range from {
			out[2*i], out[2*i+1] = v[2*f], v[2*f+1]
		}
	case 3:
		for i, f := range from {
			out[3*i], out[3*i+1], out[3*i+2] = v[3*f], v[3*f+1], v[3*f+2]
		}
	default:
		for i, f := range from {
			copy(out[n*i:n*i+n], v[n*int(f):])
		}
	}
	return out
}

// welder is a hash grid. Its cells are eight distances wide, so that most
// vertices need look into one cell only, and hold few vertices each because
// what lies closer than the distance has been joined.
type welder struct {
	p        *scene.Part
	d        float64
	d2       float32
	cosAngle float32
	inv      float64
	mask     uint64
	heads    []int32 // first entry of each bucket, or -1
	next     []int32 // chain through entries
	vert     []int32 // old vertex of each entry
}

func newWelder(p *scene.Part, distance, angle float64) *welder {
	n := p.Vertices()
	size := uint64(1)
	for size < uint64(n)*2 {
		size <<= 1
	}
	w := &welder{p: p, d: distance, d2: float32(distance * distance), cosAngle: float32(math.Cos(angle)) - 1e-5, mask: size - 1}
	// A distance of 0 joins equal positions; any cell size serves.
	cell := 8 * distance
	if cell < 1e-30 {
		cell = 1e-3
	}
	w.inv = 1 / cell
	w.heads = make([]int32, size)
	for i := range w.heads {
		w.heads[i] = -1
	}
	w.next, w.vert = make([]int32, 0, n), make([]int32, 0, n)
	return w
}

func (w *welder) bucket(x, y, z int64) uint64 {
	h := uint64(x)*0x9E3779B97F4A7C15 ^ uint64(y)*0xC2B2AE3D27D4EB4F ^ uint64(z)*0x165667B19E3779F9
	return (h ^ h>>29) * 0xBF58476D1CE4E5B9 >> 20 & w.mask
}

func (w *welder) cell(v int) (c [3]int64, f [3]float64) {
	for k := 0; k < 3; k++ {
		s := float64(w.p.Positions[3*v+k]) * w.inv
		fl := math.Floor(s)
		c[k], f[k] = int64(fl), s-fl
	}
	return c, f
}

func (w *welder) insert(v int, k int32) {
	c, _ := w.cell(v)
	b := w.bucket(c[0], c[1], c[2])
	w.next = append(w.next, w.heads[b])
	w.vert = append(w.vert, int32(v))
	w.heads[b] = k
}

// find returns the new vertex that v joins, or -1; touching tells that one
// lies within the distance but differs in something else.
func (w *welder) find(v int) (k int32, touching bool) {
	c, f := w.cell(v)
	const edge = 1.0 / 8 // the distance in cells
	lo, hi := [3]int64{}, [3]int64{}
	for i := range c {
		if f[i] <= edge {
			lo[i] = -1
		}
		if f[i] >= 1-edge {
			hi[i] = 1
		}
	}
	x, y, z := w.p.Positions[3*v], w.p.Positions[3*v+1], w.p.Positions[3*v+2]
	for dx := lo[0]; dx <= hi[0]; dx++ {
		for dy := lo[1]; dy <= hi[1]; dy++ {
			for dz := lo[2]; dz <= hi[2]; dz++ {
				for e := w.heads[w.bucket(c[0]+dx, c[1]+dy, c[2]+dz)]; e >= 0; e = w.next[e] {
					u := int(w.vert[e])
					ax, ay, az := w.p.Positions[3*u]-x, w.p.Positions[3*u+1]-y, w.p.Positions[3*u+2]-z
					if ax*ax+ay*ay+az*az > w.d2 {
						continue
					}
					if w.same(u, v) {
						return e, true
					}
					touching = true
				}
			}
		}
	}
	return -1, touching
}

// same tells whether two vertices agree in all but their place.
func (w *welder) same(u, v int) bool {
	p := w.p
	if p.Normals != nil {
		a, b := p.Normals[3*u:3*u+3], p.Normals[3*v:3*v+3]
		if a[0]*b[0]+a[1]*b[1]+a[2]*b[2] < w.cosAngle {
			return false
		}
	}
	if p.Tangents != nil {
		// Where a picture is mirrored the UVs on both sides are the same and the
		// tangents opposite, or turn the other way round.
		a, b := p.Tangents[4*u:4*u+4], p.Tangents[4*v:4*v+4]
		if a[3]*b[3] < 0 || a[0]*b[0]+a[1]*b[1]+a[2]*b[2] < tangentSame {
			return false
		}
	}
	for i := range p.UVs {
		if !near(p.UVs[i].Data, u, v, 2, uvSame) {
			return false
		}
	}
	for i := range p.Colours {
		if !near(p.Colours[i].Data, u, v, 4, colourSame) {
			return false
		}
	}
	k := p.Influences
	for i := 0; i < k; i++ {
		a, b := u*k+i, v*k+i
		if p.Joints[a] != p.Joints[b] && (p.Weights[a] > weightSame || p.Weights[b] > weightSame) {
			return false
		}
		if d := p.Weights[a] - p.Weights[b]; d > weightSame || d < -weightSame {
			return false
		}
	}
	for i := range p.Morphs {
		if m := p.Morphs[i].Positions; m != nil && !near(m, u, v, 3, float32(w.d)+1e-6) {
			return false
		}
	}
	return true
}

func near(d []float32, u, v, n int, within float32) bool {
	for k := 0; k < n; k++ {
		if x := d[u*n+k] - d[v*n+k]; x > within || x < -within {
			return false
		}
	}
	return true
}
