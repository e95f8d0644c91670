package step

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// MirrorParams says which half becomes both.
type MirrorParams struct {
	Where
	Axis string  `json:"axis" jsonschema:"title=Across,enum=x,enum=y,enum=z,description=The scene's axis that the plane stands across"`
	Keep string  `json:"keep" jsonschema:"title=The half that stays,enum=positive,enum=negative"`
	At   float64 `json:"at" jsonschema:"title=Plane at,minimum=-1e+06,maximum=1e+06,description=Along the axis" jsonschema_extras:"unit=m"`
	Weld float64 `json:"weld" jsonschema:"title=Weld at the plane within,minimum=0,maximum=1000" jsonschema_extras:"unit=m,shown=mm"`
}

var _ = register(Kind{Name: "mirror", Title: "Mirror a half", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Replace one half by the mirror image of the other and weld both at the plane. What differs between the halves is measured first."},
	MirrorParams{Axis: "x", Keep: "positive", Weld: 0.001}, mirror)

func mirror(ctx context.Context, s *scene.Scene, p MirrorParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	unit := s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	m := &mirrorer{s: s, axis: int(p.Axis[0] - 'x'), at: p.At / unit, sign: 1, weld: p.Weld / unit, world: s.World(), size: s.Bounds().Size().Len()}
	if p.Keep == "negative" {
		m.sign = -1
	}
	// A mesh that several nodes show lies elsewhere for each: each gets its own.
	out := *s
	out.Meshes, out.Nodes = slices.Clone(s.Meshes), slices.Clone(s.Nodes)
	for i := range s.Nodes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		taken := c.Parts(i)
		if s.Nodes[i].Mesh < 0 || !slices.Contains(taken, true) {
			continue
		}
		mesh := s.Meshes[s.Nodes[i].Mesh]
		var parts []scene.Part
		for j := range mesh.Parts {
			if !taken[j] {
				parts = append(parts, mesh.Parts[j])
			} else if q, ok := m.part(i, &mesh.Parts[j]); ok {
				parts = append(parts, q)
			}
		}
		if mesh.Parts = parts; len(parts) == 0 {
			out.Nodes[i].Mesh, out.Nodes[i].Skin = scene.None, scene.None
			continue
		}
		out.Nodes[i].Mesh = len(out.Meshes)
		out.Meshes = append(out.Meshes, mesh)
	}
	if m.parts == 0 {
		r.Nothing("nothing that is chosen lies on the half that stays")
		return s, nil
	}
	r.Say("%s mirrored, triangles %d → %d", count(m.parts, "part", "parts"), m.before, m.after)
	if m.whole > 0 {
		r.Say("%s wholly on the half that went", count(m.whole, "part lay", "parts lay"))
	}
	if m.joined > 0 {
		r.Say("%s welded at the plane", count(m.joined, "pair of vertices", "pairs of vertices"))
	}
	m.told(r)
	return out.Sweep(s), nil
}

// mirrorer mirrors parts and measures what is lost by it.
type mirrorer struct {
	s        *scene.Scene
	axis     int
	at, sign float64
	weld     float64
	world    []geom.Mat4
	size     float64 // of the scene

	parts, before, after, joined int
	whole                        int // parts that lay wholly on the half that goes
	strokes                      int // lines and points, of which nothing stays
	// Of the vertices of the half that goes: all, those without a counterpart
	// where the other half's image would be, and those whose UVs or colours differ.
	gone, alone, otherUVs, otherColours int
}

// told reports how far the halves differed.
func (m *mirrorer) told(r *Report) {
	share := func(n int) string { return fmt.Sprintf("%.0f%%", 100*float64(n)/float64(m.gone)) }
	if m.strokes > 0 {
		r.Lose("%s: only faces are mirrored", count(m.strokes, "line or point", "lines and points"))
	}
	if m.gone == 0 {
		return
	}
	if m.alone > 0 {
		r.Lose("of the half that went %s of the vertices had no counterpart: its shape was another",
			share(m.alone))
	}
	if m.otherUVs > 0 {
		r.Lose("of the half that went %s of the vertices had other UVs: what the picture shows there, such as a livery, is mirrored now",
			share(m.otherUVs))
	}
	if m.otherColours > 0 {
		r.Lose("of the half that went %s of the vertices had other colours", share(m.otherColours))
	}
}

// part is a part of which the half that stays has its mirror image beside it;
// ok is false where nothing of it stays.
func (m *mirrorer) part(node int, p *scene.Part) (out scene.Part, ok bool) {
	// A bound part lies where its bones place it, not its node.
	toWorld := m.world[node]
	var partner []uint16
	if k := m.s.Nodes[node].Skin; k >= 0 && p.Influences > 0 && len(m.s.Skins[k].Joints) > 0 {
		mats := m.s.SkinMatrices(k, m.world)
		toWorld = mats[0]
		partner = m.partners(k)
	}
	inv, ok := toWorld.Inverse()
	if !ok {
		return *p, true
	}
	side := func(v uint32) float64 { // how far on the half that stays
		return m.sign * (toWorld.Point(at3(p.Positions, v))[m.axis] - m.at)
	}
	half := m.cut(p, side)
	m.strokes += len(p.Lines)/2 + len(p.Points)
	m.measure(p, side, toWorld)
	if len(half.Triangles) == 0 {
		m.whole++
		m.before += len(p.Triangles) / 3
		return out, false
	}
	reflect := geom.Identity
	reflect[5*m.axis] = -1
	reflect[12+m.axis] = 2 * m.at
	other := TransformedMesh(scene.Mesh{Parts: []scene.Part{half}}, inv.Mul(reflect).Mul(toWorld)).Parts[0]
	if partner != nil {
		other.Joints = slices.Clone(other.Joints)
		for i, j := range other.Joints {
			other.Joints[i] = partner[j]
		}
	}
	n := half.Vertices()
	both := withFaces(&half, &other)
	m.parts++
	m.before += len(p.Triangles) / 3
	m.after += len(both.Triangles) / 3
	return m.sewn(&both, n, func(v uint32) float64 {
		return math.Abs(toWorld.Point(at3(both.Positions, v))[m.axis] - m.at)
	}), true
}

// partners is for each joint the one that lies where its mirror image would:
// itself for those on the plane and those without one.
func (m *mirrorer) partners(skin int) []uint16 {
	joints := m.s.Skins[skin].Joints
	at := func(j int) geom.Vec3 {
		w := m.world[joints[j]]
		return geom.Vec3{w[12], w[13], w[14]}
	}
	out := make([]uint16, len(joints))
	for j := range joints {
		out[j] = uint16(j)
		want := at(j)
		want[m.axis] = 2*m.at - want[m.axis]
		best := 0.01 * m.size
		for k := range joints {
			if d := at(k).Sub(want).Len(); d < best {
				best, out[j] = d, uint16(k)
			}
		}
	}
	return out
}

// cut is what of a part lies on the half that stays: triangles across the
// plane end at it.
func (m *mirrorer) cut(p *scene.Part, side func(v uint32) float64) scene.Part {
	c := &cutter{p: p, made: map[[2]uint32]uint32{}}
	eps := m.weld / 2
	var tri []uint32
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		v := p.Triangles[t : t+3]
		var d [3]float64
		out := 0
		for k := range v {
			if d[k] = side(v[k]); math.Abs(d[k]) <= eps {
				d[k] = 0
			}
			if d[k] < 0 {
				out++
			}
		}
		if max(d[0], d[1], d[2]) <= 0 {
			// Nothing stays, but for what lies in the plane itself.
			continue
		}
		if out == 0 {
			tri = append(tri, v...)
			continue
		}
		var poly []uint32
		for k := range v {
			a, b := d[k], d[(k+1)%3]
			if a >= 0 {
				poly = append(poly, v[k])
			}
			if a > 0 && b < 0 || a < 0 && b > 0 {
				poly = append(poly, c.between(v[k], v[(k+1)%3], a/(a-b)))
			}
		}
		for k := 1; k+1 < len(poly); k++ {
			tri = append(tri, poly[0], poly[k], poly[k+1])
		}
	}
	grown := c.grown()
	return compact(&grown, tri, nil, nil)
}

// cutter makes vertices along edges.
type cutter struct {
	p    *scene.Part
	made map[[2]uint32]uint32
	from [][2]uint32
	by   []float32
}

// between is the vertex at t of the way from a to b.
func (c *cutter) between(a, b uint32, t float64) uint32 {
	if a > b {
		a, b, t = b, a, 1-t
	}
	k, ok := c.made[[2]uint32{a, b}]
	if !ok {
		k = uint32(c.p.Vertices() + len(c.from))
		c.made[[2]uint32{a, b}] = k
		c.from, c.by = append(c.from, [2]uint32{a, b}), append(c.by, float32(t))
	}
	return k
}

// grown is the part with the vertices that were made, without faces.
func (c *cutter) grown() scene.Part {
	if len(c.from) == 0 {
		return *c.p
	}
	p := c.p
	out := *p
	mix := func(v []float32, n int, unit bool) []float32 {
		if v == nil {
			return nil
		}
		v = cloned(v)
		for i, e := range c.from {
			row := len(v)
			for k := range n {
				a, b := v[int(e[0])*n+k], v[int(e[1])*n+k]
				v = append(v, a+(b-a)*c.by[i])
			}
			if unit {
				if x := at3(v[row:], 0).Norm(); x.Len() > 0 {
					for k := range x {
						v[row+k] = float32(x[k])
					}
				}
			}
		}
		return v
	}
	out.Positions, out.Normals = mix(p.Positions, 3, false), mix(p.Normals, 3, true)
	if out.Tangents = mix(p.Tangents, 4, true); out.Tangents != nil {
		for i, e := range c.from { // a sign has no middle
			out.Tangents[4*(p.Vertices()+i)+3] = p.Tangents[4*e[0]+3]
		}
	}
	out.UVs, out.Colours, out.Morphs = cloned(p.UVs), cloned(p.Colours), cloned(p.Morphs)
	for i := range out.UVs {
		out.UVs[i].Data = mix(out.UVs[i].Data, 2, false)
	}
	for i := range out.Colours {
		out.Colours[i].Data = mix(out.Colours[i].Data, 4, false)
	}
	for i := range out.Morphs {
		m := &out.Morphs[i]
		m.Positions, m.Normals, m.Tangents = mix(m.Positions, 3, false), mix(m.Normals, 3, false), mix(m.Tangents, 3, false)
	}
	if k := p.Influences; k > 0 {
		out.Joints, out.Weights = cloned(p.Joints), cloned(p.Weights)
		for i, e := range c.from {
			j, w := mixedWeights(p, e, c.by[i])
			out.Joints, out.Weights = append(out.Joints, j...), append(out.Weights, w...)
		}
	}
	return out
}

// mixedWeights are a vertex's joints between two others: the heaviest of both.
func mixedWeights(p *scene.Part, e [2]uint32, t float32) (joints []uint16, weights []float32) {
	k := p.Influences
	sum := map[uint16]float32{}
	for s, v := range e {
		by := t
		if s == 0 {
			by = 1 - t
		}
		for i := range k {
			sum[p.Joints[int(v)*k+i]] += by * p.Weights[int(v)*k+i]
		}
	}
	for j := range sum {
		joints = append(joints, j)
	}
	slices.SortFunc(joints, func(a, b uint16) int {
		if sum[a] != sum[b] {
			if sum[a] > sum[b] {
				return -1
			}
			return 1
		}
		return int(a) - int(b)
	})
	for len(joints) < k {
		joints = append(joints, joints[0])
	}
	joints = joints[:k]
	total := float32(0)
	weights = make([]float32, k)
	for i, j := range joints {
		if !slices.Contains(joints[:i], j) {
			weights[i] = sum[j]
			total += sum[j]
		}
	}
	if total > 0 {
		for i := range weights {
			weights[i] /= total
		}
	}
	return joints, weights
}

// measure counts how far the half that goes differs from the image of the one
// that stays.
func (m *mirrorer) measure(p *scene.Part, side func(v uint32) float64, toWorld geom.Mat4) {
	within := max(min(m.weld, 0.01*m.size), 1e-6*m.size) // a cell of many is looked through slowly
	cell := func(x geom.Vec3) [3]int64 {
		var c [3]int64
		for k := range c {
			c[k] = int64(math.Floor(x[k] / (2 * within)))
		}
		return c
	}
	stay := map[[3]int64][]uint32{}
	place := func(v uint32) geom.Vec3 { return toWorld.Point(at3(p.Positions, v)) }
	for v := range uint32(p.Vertices()) {
		if side(v) > -m.weld {
			stay[cell(place(v))] = append(stay[cell(place(v))], v)
		}
	}
	for v := range uint32(p.Vertices()) {
		if side(v) >= -m.weld {
			continue
		}
		m.gone++
		x := place(v)
		x[m.axis] = 2*m.at - x[m.axis]
		found, uvs, colours := false, false, false
		at := cell(x)
		for i := range 27 {
			c := [3]int64{at[0] + int64(i%3) - 1, at[1] + int64(i/3%3) - 1, at[2] + int64(i/9) - 1}
			for _, o := range stay[c] {
				if place(o).Sub(x).Len() > within {
					continue
				}
				found = true
				uvs = uvs || sameSets(p.UVs, v, o, 2)
				if colours = colours || sameSets(p.Colours, v, o, 4); uvs && colours {
					break
				}
			}
		}
		switch {
		case !found:
			m.alone++
		default:
			if !uvs {
				m.otherUVs++
			}
			if !colours {
				m.otherColours++
			}
		}
	}
}

// visible is the least difference in UVs or colours that is seen.
const visible = 1.0 / 256

func sameSets(sets []scene.AttrSet, u, v uint32, n int) bool {
	for i := range sets {
		if !near(sets[i].Data, int(u), int(v), n, visible) {
			return false
		}
	}
	return true
}

// sewn makes one vertex of each on the plane and its image, of which the first
// n vertices are not images. Both get the normal in the plane.
func (m *mirrorer) sewn(p *scene.Part, n int, off func(v uint32) float64) scene.Part {
	out := *p
	to := make([]uint32, p.Vertices())
	for v := range to {
		to[v] = uint32(v)
	}
	out.Normals = cloned(p.Normals)
	for v := range n {
		if off(uint32(v)) > m.weld {
			continue
		}
		o := v + n
		if out.Normals != nil {
			mean := at3(p.Normals, uint32(v)).Add(at3(p.Normals, uint32(o))).Norm()
			if mean.Len() == 0 || at3(p.Normals, uint32(v)).Dot(mean) < 0.5 {
				continue // an edge along the plane: it is hard and stays so
			}
			for k := range mean {
				out.Normals[3*v+k] = float32(mean[k])
			}
		}
		if p.Tangents != nil && p.Tangents[4*v+3] != p.Tangents[4*o+3] {
			// The picture is mirrored there: the normal is shared, the vertex is not.
			if out.Normals != nil {
				copy(out.Normals[3*o:3*o+3], out.Normals[3*v:3*v+3])
			}
			continue
		}
		to[o] = uint32(v)
		m.joined++
	}
	tri := renumbered(p.Triangles, to)
	kept := tri[:0]
	for t := 0; t+2 < len(tri); t += 3 {
		if a, b, c := tri[t], tri[t+1], tri[t+2]; a != b && b != c && a != c {
			kept = append(kept, a, b, c)
		}
	}
	return compact(&out, kept, nil, nil)
}
