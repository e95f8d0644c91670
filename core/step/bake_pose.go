package step

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// BakePoseParams says which pose becomes the shape.
type BakePoseParams struct {
	Motion string  `json:"motion" jsonschema:"title=Motion,description=Its name; empty is the pose as the asset stands"`
	Time   float64 `json:"time" jsonschema:"title=At,minimum=0,maximum=1e+06" jsonschema_extras:"unit=s"`
}

var _ = register(Kind{Name: "bake-pose", Title: "Bake the pose", Family: Rig, Version: 1,
	Purpose: "Put a pose and the weights of morph targets into the vertices: for print, paper and props. Nothing moves afterwards."},
	BakePoseParams{}, bakePose)

func bakePose(ctx context.Context, s *scene.Scene, p BakePoseParams, r *Report) (*scene.Scene, error) {
	if len(s.Skins)+len(s.Motions) == 0 && s.Stats().Morphs == 0 {
		r.Nothing("nothing is bound, moves or has morph targets")
		return s, nil
	}
	out, err := frame(s, p)
	if err != nil {
		return nil, err
	}
	world := out.World()
	want := slices.Clone(world)
	var bound, morphed int
	meshes := slices.Clone(s.Meshes)
	taken := make([]bool, len(meshes))
	for i := range out.Nodes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		n := &out.Nodes[i]
		if n.Mesh < 0 {
			continue
		}
		mesh := out.Meshes[n.Mesh]
		if n.Skin < 0 && !morphs(mesh) {
			taken[n.Mesh] = true
			continue
		}
		made := scene.Mesh{Name: mesh.Name}
		for j := range mesh.Parts {
			made.Parts = append(made.Parts, posedPart(out, i, &mesh.Parts[j], world))
		}
		if n.Skin >= 0 {
			bound++
		}
		if morphs(mesh) {
			morphed++
		}
		at := n.Mesh
		if taken[at] {
			at = len(meshes)
			meshes = append(meshes, made)
			taken = append(taken, true)
		}
		meshes[at], taken[at] = made, true
		n.Mesh, n.Skin = at, scene.None
		// The vertices lie in the world now.
		want[i] = geom.Identity
	}
	out.Meshes = meshes
	gone := len(s.Motions)
	out.Skins, out.Motions = nil, nil
	if a := out.Avatar; a != nil {
		c := *a
		c.Expressions = nil
		out.Avatar = &c
		if len(a.Expressions) > 0 {
			r.Lose("%s: a baked face does not change", count(len(a.Expressions), "expression", "expressions"))
		}
	}
	r.Say("%s", joined(counts(bound, "bound node", "bound nodes", morphed, "node with morph targets", "nodes with morph targets"), "the pose of nodes")+" baked")
	if gone > 0 {
		r.Lose("%s: a baked pose does not move", count(gone, "motion", "motions"))
	}
	return withWorlds(out, want), nil
}

func joined(what []string, none string) string {
	switch len(what) {
	case 0:
		return none
	case 1:
		return what[0]
	}
	return what[0] + " and " + what[1]
}

func morphs(m scene.Mesh) bool {
	return slices.ContainsFunc(m.Parts, func(p scene.Part) bool { return len(p.Morphs) > 0 })
}

// frame is the scene with its nodes and morph weights as a motion has them at
// a time.
func frame(s *scene.Scene, p BakePoseParams) (*scene.Scene, error) {
	out := *s
	out.Nodes, out.Meshes = slices.Clone(s.Nodes), slices.Clone(s.Meshes)
	if p.Motion == "" {
		return &out, nil
	}
	k := slices.IndexFunc(s.Motions, func(m scene.Motion) bool { return m.Name == p.Motion })
	if k < 0 {
		var names []string
		for i := range s.Motions {
			names = append(names, s.Motions[i].Name)
		}
		return nil, fmt.Errorf("there is no motion %q; there are %s", p.Motion, named(names))
	}
	m := &s.Motions[k]
	if end := m.Seconds(); p.Time > end {
		return nil, fmt.Errorf("the motion %s ends at %.4g s", m.Name, end)
	}
	for node, channels := range m.ByNode() {
		out.Nodes[node] = s.Nodes[node].Posed(channels, p.Time)
		for _, c := range channels {
			if c.Path == scene.PathWeights && s.Nodes[node].Mesh >= 0 {
				out.Meshes = append(out.Meshes, weighted(s.Meshes[s.Nodes[node].Mesh], c.At(p.Time)))
				out.Nodes[node].Mesh = len(out.Meshes) - 1
			}
		}
	}
	return &out, nil
}

func weighted(m scene.Mesh, w []float32) scene.Mesh {
	m.Parts = slices.Clone(m.Parts)
	for j := range m.Parts {
		t := slices.Clone(m.Parts[j].Morphs)
		for k := range min(len(t), len(w)) {
			t[k].Weight = w[k]
		}
		m.Parts[j].Morphs = t
	}
	return m
}

// posedPart is a part as a node shows it, in world space, bound to nothing.
func posedPart(s *scene.Scene, node int, p *scene.Part, world []geom.Mat4) scene.Part {
	p = withMorphs(p)
	out := *p
	out.Positions, out.Normals = s.Posed(node, p, world)
	out.Morphs, out.Joints, out.Weights, out.Influences = nil, nil, nil, 0
	if out.Tangents != nil {
		// Of a skinned part each vertex has a matrix of its own; the tangent is
		// turned as its normal is.
		out.Tangents = turnedTangents(p, out.Normals)
	}
	m := world[node]
	if k := s.Nodes[node].Skin; k >= 0 && p.Influences > 0 && len(s.Skins[k].Joints) > 0 {
		m = s.SkinMatrices(k, world)[0]
	}
	if m.Det3() < 0 {
		out.Triangles = flipped(p.Triangles)
	}
	return out
}

// turnedTangents turns each tangent by the least rotation that takes its old
// normal to the new one.
func turnedTangents(p *scene.Part, normals []float32) []float32 {
	if p.Normals == nil || normals == nil {
		return nil
	}
	out := slices.Clone(p.Tangents)
	for v := range p.Vertices() {
		a, b := at3(p.Normals, uint32(v)).Norm(), at3(normals, uint32(v)).Norm()
		t := geom.Vec3{float64(p.Tangents[4*v]), float64(p.Tangents[4*v+1]), float64(p.Tangents[4*v+2])}
		if axis := a.Cross(b); axis.Len() > 1e-9 {
			t = geom.AxisAngle(axis.Norm(), math.Atan2(axis.Len(), a.Dot(b))).Rotate(t)
		}
		t = t.Sub(b.Mul(t.Dot(b))).Norm()
		for k := range t {
			out[4*v+k] = float32(t[k])
		}
	}
	return out
}

// withMorphs is the part with the weights of its morph targets put into its
// vertices.
func withMorphs(p *scene.Part) *scene.Part {
	out := *p
	add := func(to *[]float32, per int, by []float32, w float32) {
		if *to == nil || by == nil {
			return
		}
		for v := 0; 3*v+2 < len(by); v++ {
			for k := range 3 {
				(*to)[per*v+k] += w * by[3*v+k]
			}
		}
	}
	out.Positions, out.Normals, out.Tangents = slices.Clone(p.Positions), slices.Clone(p.Normals), slices.Clone(p.Tangents)
	for _, m := range p.Morphs {
		if m.Weight == 0 {
			continue
		}
		add(&out.Positions, 3, m.Positions, m.Weight)
		add(&out.Normals, 3, m.Normals, m.Weight)
		add(&out.Tangents, 4, m.Tangents, m.Weight)
	}
	return &out
}
