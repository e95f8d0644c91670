package step

import (
	"context"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/place"
	"excavate/core/reduce"
	"excavate/core/scene"
)

// ReduceParams says how far triangles are taken out.
type ReduceParams struct {
	Where
	Triangles *int     `json:"triangles,omitempty" jsonschema:"title=To so many triangles,minimum=1,maximum=1000000000,description=Of what is chosen, as it is shown"`
	Error     *float64 `json:"error,omitempty" jsonschema:"title=As long as it moves less than,exclusiveMinimum=0,maximum=1e+06,description=Without either bound 1 mm" jsonschema_extras:"unit=m,shown=mm"`
}

var _ = register(Kind{Name: "reduce", Title: "Reduce triangles", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Take out triangles where it is seen least. Seams, borders, materials, weights and morph targets stay true: no vertex moves."},
	ReduceParams{}, reduceTriangles)

func reduceTriangles(ctx context.Context, s *scene.Scene, p ReduceParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	// Nodes that share a mesh of which other parts are chosen get one each.
	out, err := eachMesh(s, c, func(m scene.Mesh, _ []bool) (scene.Mesh, error) {
		m.Parts = slices.Clone(m.Parts)
		return m, nil
	})
	if err != nil {
		return nil, err
	}
	job := reduceJob{s: out, at: map[[2]int]int{}}
	world := out.World()
	for i := range out.Nodes {
		for j, taken := range c.Parts(i) {
			if taken {
				job.add(out.Nodes[i].Mesh, j, lengthScale(out, i, world))
			}
		}
	}
	job.hold()
	before := job.shown()
	most, bound := 0, math.Inf(1)
	if p.Triangles != nil {
		most = *p.Triangles
	}
	unit := s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	switch {
	case p.Error != nil:
		bound = *p.Error / unit
	case p.Triangles == nil:
		bound = 0.001 / unit
	}
	if before <= most {
		r.Nothing("there are %s already", count(before, "triangle", "triangles"))
		return s, nil
	}
	res, err := reduce.Of(ctx, job.meshes, most, bound)
	if err != nil {
		return nil, err
	}
	after := 0
	for k, of := range job.parts {
		after += job.meshes[k].Shown * len(res.Triangles[k]) / 3
		q := &out.Meshes[of[0]].Parts[of[1]]
		*q = compact(q, res.Triangles[k], q.Lines, q.Points)
	}
	if after == before {
		r.Nothing("no triangle can go within %s", length(s, bound))
		return s, nil
	}
	r.Say("triangles %d → %d", before, after)
	r.Say("the surface moved by at most %s", length(s, res.Error))
	if p.Triangles != nil && after > most {
		r.Say("not down to %d: borders, seams and the bound on its error hold the rest", most)
	}
	return out, nil
}

// lengthScale is by how much a node's lengths grow at most.
func lengthScale(s *scene.Scene, node int, world []geom.Mat4) float64 {
	m := world[node]
	if k := s.Nodes[node].Skin; k >= 0 && len(s.Skins[k].Joints) > 0 {
		m = s.SkinMatrices(k, world)[0]
	}
	l := 0.0
	for k := range 3 {
		l = max(l, geom.Vec3{m[4*k], m[4*k+1], m[4*k+2]}.Len())
	}
	return l
}

// reduceJob is the parts that are reduced together.
type reduceJob struct {
	s      *scene.Scene
	at     map[[2]int]int
	parts  [][2]int // mesh and part
	scale  []float64
	meshes []reduce.Mesh
}

func (j *reduceJob) shown() (n int) {
	for _, m := range j.meshes {
		n += m.Shown * len(m.Triangles) / 3
	}
	return n
}

func (j *reduceJob) add(mesh, part int, scale float64) {
	p := &j.s.Meshes[mesh].Parts[part]
	if len(p.Triangles) == 0 {
		return
	}
	k, ok := j.at[[2]int{mesh, part}]
	if !ok {
		k = len(j.parts)
		j.at[[2]int{mesh, part}] = k
		j.parts = append(j.parts, [2]int{mesh, part})
		j.scale = append(j.scale, 0)
		j.meshes = append(j.meshes, reduce.Mesh{Triangles: p.Triangles, Held: heldVertices(p)})
	}
	m := &j.meshes[k]
	m.Shown++
	if scale <= j.scale[k] {
		return
	}
	j.scale[k] = scale
	m.Positions = make([]float32, len(p.Positions))
	for i, x := range p.Positions {
		m.Positions[i] = float32(scale * float64(x))
	}
	m.Apart = apart(p, scale)
}

// hold keeps what parts of one mesh share in place: else each would draw its
// border straight by itself, and gaps open between materials.
func (j *reduceJob) hold() {
	const several = -2
	done := map[int][]bool{} // of all vertices of a mesh
	for k, of := range j.parts {
		parts := j.s.Meshes[of[0]].Parts
		if len(parts) == 1 {
			continue
		}
		if done[of[0]] == nil {
			whole, _ := surfaceOf(parts)
			at := place.Of(whole.Positions)
			owner := slices.Repeat([]int{scene.None}, len(at))
			v := 0
			for i := range parts {
				for range parts[i].Vertices() {
					switch o := &owner[at[v]]; *o {
					case scene.None, i:
						*o = i
					default:
						*o = several
					}
					v++
				}
			}
			shared := make([]bool, len(at))
			for v := range at {
				shared[v] = owner[at[v]] == several
			}
			done[of[0]] = shared
		}
		base := 0
		for i := range of[1] {
			base += parts[i].Vertices()
		}
		m := &j.meshes[k]
		if m.Held == nil {
			m.Held = make([]bool, parts[of[1]].Vertices())
		}
		for v := range m.Held {
			m.Held[v] = m.Held[v] || done[of[0]][base+v]
		}
	}
}

// heldVertices are those of lines and points.
func heldVertices(p *scene.Part) []bool {
	if len(p.Lines)+len(p.Points) == 0 {
		return nil
	}
	held := make([]bool, p.Vertices())
	for _, list := range [][]uint32{p.Lines, p.Points} {
		for _, v := range list {
			held[v] = true
		}
	}
	return held
}

// weightSpan is how far, in lengths of the edge, a vertex counts as moved that
// comes to hang on wholly other bones.
const weightSpan = 0.25

// apart is what a collapse loses of morph targets and weights: how far the
// targets move one vertex more than the other, and weights as a share of the
// edge's length.
func apart(p *scene.Part, scale float64) func(u, v uint32) float64 {
	if len(p.Morphs) == 0 && p.Influences == 0 {
		return nil
	}
	return func(u, v uint32) float64 {
		most := 0.0
		for i := range p.Morphs {
			if m := p.Morphs[i].Positions; m != nil {
				d := at3(m, u).Sub(at3(m, v)).Mul(scale)
				most = max(most, d.Dot(d))
			}
		}
		if p.Influences > 0 {
			e := at3(p.Positions, u).Sub(at3(p.Positions, v)).Mul(scale * weightSpan * weightsApart(p, u, v))
			most = max(most, e.Dot(e))
		}
		return most
	}
}

// weightsApart is the share of weight that two vertices do not have in common.
func weightsApart(p *scene.Part, u, v uint32) float64 {
	k := p.Influences
	sum := 0.0
	for i := range k {
		j, w := p.Joints[int(u)*k+i], p.Weights[int(u)*k+i]
		if w == 0 {
			continue
		}
		common := float32(0)
		for n := range k {
			if p.Joints[int(v)*k+n] == j {
				common = max(common, p.Weights[int(v)*k+n])
			}
		}
		sum += math.Abs(float64(w - min(w, common)))
	}
	return sum
}
