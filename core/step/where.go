package step

import (
	"context"
	"runtime"
	"slices"
	"sync/atomic"

	"excavate/core/parallel"
	"excavate/core/pick"
	"excavate/core/scene"
)

// Where is the rule of a step that acts on some things only. Without it the
// step acts on everything.
type Where struct {
	Where *pick.Rule `json:"where,omitempty" jsonschema:"title=Only where"`
}

// Validate refuses a rule that can never be meant.
func (w *Where) Validate() error { return w.Where.Validate() }

// choose evaluates the rule. Where it takes nothing the report says why, and
// there is nothing to do.
func (w *Where) choose(s *scene.Scene, r *Report) (c *pick.Chosen, any bool, err error) {
	if c, err = pick.Of(s, w.Where); err != nil {
		return nil, false, err
	}
	if c.None() {
		r.Nothing("nothing is chosen: %s", pick.Why(s, w.Where))
		return c, false, nil
	}
	return c, true, nil
}

// whole is choose for a step that cannot act on single pieces of a part.
func (w *Where) whole(s *scene.Scene, r *Report) (c *pick.Chosen, any bool, err error) {
	c, any, err = w.choose(s, r)
	if any && c.ByPiece() {
		r.Say("loose pieces are chosen with the whole part that they lie in")
	}
	return c, any, err
}

// eachMesh makes other meshes of those of which something is chosen. f gets
// each mesh once for each different choice of its parts: nodes that share a
// mesh go on sharing it where the same parts of it are chosen.
func eachMesh(s *scene.Scene, c *pick.Chosen, f func(m scene.Mesh, taken []bool) (scene.Mesh, error)) (*scene.Scene, error) {
	out := *s
	out.Meshes, out.Nodes = slices.Clone(s.Meshes), slices.Clone(s.Nodes)
	type use struct {
		taken []bool
		mesh  int
	}
	done := make([][]use, len(s.Meshes))
	for i := range out.Nodes {
		m := s.Nodes[i].Mesh
		if m < 0 {
			continue
		}
		taken := c.Parts(i)
		at := slices.IndexFunc(done[m], func(u use) bool { return slices.Equal(u.taken, taken) })
		if at < 0 {
			u := use{taken, m}
			if len(done[m]) > 0 {
				u.mesh = len(out.Meshes)
				out.Meshes = append(out.Meshes, s.Meshes[m])
			}
			if slices.Contains(taken, true) {
				made, err := f(s.Meshes[m], taken)
				if err != nil {
					return nil, err
				}
				out.Meshes[u.mesh] = made
			}
			at = len(done[m])
			done[m] = append(done[m], u)
		}
		out.Nodes[i].Mesh = done[m][at].mesh
	}
	for m := range s.Meshes {
		if taken := c.Unseen(m); slices.Contains(taken, true) {
			made, err := f(s.Meshes[m], taken)
			if err != nil {
				return nil, err
			}
			out.Meshes[m] = made
		}
	}
	return &out, nil
}

// eachPart is eachMesh for steps that make another part of each that is chosen.
func eachPart(s *scene.Scene, c *pick.Chosen, f func(p *scene.Part) (scene.Part, error)) (*scene.Scene, error) {
	return eachMesh(s, c, func(m scene.Mesh, taken []bool) (scene.Mesh, error) {
		m.Parts = slices.Clone(m.Parts)
		for j := range m.Parts {
			if !taken[j] {
				continue
			}
			p, err := f(&m.Parts[j])
			if err != nil {
				return m, err
			}
			m.Parts[j] = p
		}
		return m, nil
	})
}

// eachPartAtOnce is eachPart with the parts shared out among the cores. f looks
// at part k of all parts that its mesh had, and changes none; tell hears of each
// that was made, one after the other in the order of the meshes, with what f
// says of it besides.
func eachPartAtOnce[T any](ctx context.Context, s *scene.Scene, c *pick.Chosen,
	f func(mesh []scene.Part, k int) (scene.Part, T), tell func(was, is *scene.Part, says T)) (*scene.Scene, error) {
	type job struct {
		mesh []scene.Part
		k    int
		is   *scene.Part
		say  T
	}
	var jobs []job
	out, err := eachMesh(s, c, func(m scene.Mesh, taken []bool) (scene.Mesh, error) {
		was := m.Parts
		m.Parts = slices.Clone(m.Parts)
		for j := range m.Parts {
			if taken[j] {
				jobs = append(jobs, job{mesh: was, k: j, is: &m.Parts[j]})
			}
		}
		return m, nil
	})
	if err != nil {
		return nil, err
	}
	var next atomic.Int64
	var wg parallel.Group
	for range min(runtime.GOMAXPROCS(0), len(jobs)) {
		wg.Go(func() {
			for ctx.Err() == nil {
				i := int(next.Add(1)) - 1
				if i >= len(jobs) {
					return
				}
				*jobs[i].is, jobs[i].say = f(jobs[i].mesh, jobs[i].k)
			}
		})
	}
	wg.Wait()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	for i := range jobs {
		tell(&jobs[i].mesh[jobs[i].k], jobs[i].is, jobs[i].say)
	}
	return out, nil
}

// withTriangles is the part with only the triangles that keep names, and the
// vertices that they need. Lines and points stay if rest says so.
func withTriangles(p *scene.Part, keep []bool, rest bool) scene.Part {
	var tri []uint32
	for t, ok := range keep {
		if ok {
			tri = append(tri, p.Triangles[3*t:3*t+3]...)
		}
	}
	var lines, points []uint32
	if rest {
		lines, points = p.Lines, p.Points
	}
	return compact(p, tri, lines, points)
}

// compact is the part with other triangles, lines and points, and the vertices
// that these need in the order in which the part has them.
func compact(p *scene.Part, triangles, lines, points []uint32) scene.Part {
	const unused = ^uint32(0)
	to := make([]uint32, p.Vertices())
	for i := range to {
		to[i] = unused
	}
	for _, list := range [][]uint32{triangles, lines, points} {
		for _, v := range list {
			to[v] = 0
		}
	}
	var from []uint32
	for v := range to {
		if to[v] != unused {
			to[v] = uint32(len(from))
			from = append(from, uint32(v))
		}
	}
	out := verticesOf(p, from)
	out.Triangles, out.Lines, out.Points = renumbered(triangles, to), renumbered(lines, to), renumbered(points, to)
	return out
}

// verticesOf is the part with the vertices that from names, in that order, and
// no faces.
func verticesOf(p *scene.Part, from []uint32) scene.Part {
	out := *p
	out.Triangles, out.Lines, out.Points = nil, nil, nil
	out.Positions, out.Normals = rowsOf(p.Positions, from, 3), rowsOf(p.Normals, from, 3)
	out.Tangents = rowsOf(p.Tangents, from, 4)
	out.Joints, out.Weights = rowsOf(p.Joints, from, p.Influences), rowsOf(p.Weights, from, p.Influences)
	out.UVs, out.Colours, out.Morphs = slices.Clone(p.UVs), slices.Clone(p.Colours), slices.Clone(p.Morphs)
	for i := range out.UVs {
		out.UVs[i].Data = rowsOf(p.UVs[i].Data, from, 2)
	}
	for i := range out.Colours {
		out.Colours[i].Data = rowsOf(p.Colours[i].Data, from, 4)
	}
	for i := range out.Morphs {
		m := &out.Morphs[i]
		m.Positions, m.Normals, m.Tangents = rowsOf(m.Positions, from, 3), rowsOf(m.Normals, from, 3), rowsOf(m.Tangents, from, 3)
	}
	return out
}
