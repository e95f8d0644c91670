package step

import (
	"context"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// BakeParams says what is baked.
type BakeParams struct {
	Where
	Places bool `json:"places" jsonschema:"title=Places too,description=Also bake where the nodes are: every node comes to lie on the origin"`
}

var _ = register(Kind{Name: "bake-transforms", Title: "Bake transforms", Family: Geometry, On: Nodes, Version: 1,
	Purpose: "Put turns and scales of nodes into their vertices. The asset looks as before; its nodes are unturned and of size 1."},
	BakeParams{}, bakeTransforms)

// A node that a motion turns or a skin binds keeps its transform, and so does
// one right above a node that moves: its keys are relative to it.
func bakeTransforms(_ context.Context, s *scene.Scene, p BakeParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	fixed := fixedNodes(s)
	world := s.World()
	want := slices.Clone(world)
	var baked, kept int
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if !c.Nodes[i] || n.Skin >= 0 || isTranslation(world[i]) && !p.Places {
			continue
		}
		if fixed[i] || n.Camera >= 0 || n.Light >= 0 || n.Collider != nil {
			kept++
			continue
		}
		want[i] = geom.Identity
		if !p.Places {
			for k := 12; k < 15; k++ {
				want[i][k] = world[i][k]
			}
		}
		if want[i] != world[i] {
			baked++
		}
	}
	if baked == 0 {
		r.Nothing("no node is turned or scaled, but for %s",
			count(kept, "one that moves or is bound", "that move or are bound"))
		if kept == 0 {
			r.Lines[len(r.Lines)-1] = "no node is turned or scaled"
		}
		return s, nil
	}
	out := placed(s, world, want)
	r.Say("%s baked", count(baked, "node", "nodes"))
	if kept > 0 {
		r.Say("%s: motions, skins, cameras, lights or colliders need them",
			count(kept, "keeps its transform", "keep their transforms"))
	}
	return out, nil
}

func isTranslation(m geom.Mat4) bool {
	for k := range 12 {
		if d := m[k] - geom.Identity[k]; d > 1e-7 || d < -1e-7 {
			return false
		}
	}
	return true
}

// fixedNodes are nodes whose place others rely on: bones, nodes that a motion
// places, and the nodes right above those.
func fixedNodes(s *scene.Scene) []bool {
	fixed := s.Bones()
	for i := range s.Motions {
		for _, c := range s.Motions[i].Channels {
			if c.Path == scene.PathWeights {
				continue
			}
			fixed[c.Node] = true
			if p := s.Nodes[c.Node].Parent; p >= 0 {
				fixed[p] = true
			}
		}
	}
	for n, held := range namedByAvatar(s) {
		fixed[n] = fixed[n] || held
	}
	if a := s.Avatar; a != nil {
		for _, c := range a.Colliders {
			fixed[c.Node] = true
		}
	}
	return fixed
}

// placed gives nodes other world transforms and puts the difference into the
// vertices, so that everything stays where it was. Nodes may come between a
// node and its parent where the difference shears.
func placed(s *scene.Scene, world, want []geom.Mat4) *scene.Scene {
	out := *s
	out.Meshes = slices.Clone(s.Meshes)
	type key struct {
		mesh int
		by   geom.Mat4
	}
	made := map[key]int{}
	first := make([]bool, len(s.Meshes))
	nodes := slices.Clone(s.Nodes)
	for i := range nodes {
		n := &nodes[i]
		if n.Mesh < 0 || n.Skin >= 0 {
			if n.Mesh >= 0 {
				first[n.Mesh] = true
			}
			continue
		}
		inv, ok := want[i].Inverse()
		if !ok {
			want[i], inv = world[i], geom.Identity
		}
		by := geom.Identity
		if want[i] != world[i] && ok {
			by = inv.Mul(world[i])
		}
		id := key{n.Mesh, by}
		at, done := made[id]
		if !done {
			if at = n.Mesh; first[at] {
				at = len(out.Meshes)
				out.Meshes = append(out.Meshes, s.Meshes[n.Mesh])
			}
			first[n.Mesh] = true
			if by != geom.Identity {
				out.Meshes[at] = TransformedMesh(s.Meshes[n.Mesh], by)
			}
			made[id] = at
		}
		n.Mesh = at
	}
	out.Nodes = nodes
	return withWorlds(&out, want)
}

// withWorlds gives the nodes these world transforms. One that shears gets a
// node above it.
func withWorlds(s *scene.Scene, want []geom.Mat4) *scene.Scene {
	was := s.World()
	var list []scene.Node
	to := make([]int, len(s.Nodes))
	for i, n := range s.Nodes {
		parentIs, parentWas := geom.Identity, geom.Identity
		if n.Parent >= 0 {
			parentIs, parentWas = want[n.Parent], was[n.Parent]
			n.Parent = to[n.Parent]
		}
		if parentIs != parentWas || want[i] != was[i] {
			local := want[i]
			if inv, ok := parentIs.Inverse(); ok {
				local = inv.Mul(want[i])
			}
			if above := n.Place(local); above != nil {
				list = append(list, *above)
				n.Parent = len(list) - 1
			}
		}
		to[i] = len(list)
		list = append(list, n)
	}
	out := *s
	out.Nodes = list
	return out.Renumbered(to)
}

// TransformedMesh is a mesh with its vertices where m takes them. Normals go
// with the inverse transposed matrix, and a matrix that mirrors turns windings
// and tangent signs round.
func TransformedMesh(mesh scene.Mesh, m geom.Mat4) scene.Mesh {
	normal := m.NormalMatrix()
	mirrors := m.Det3() < 0
	mesh.Parts = slices.Clone(mesh.Parts)
	for j := range mesh.Parts {
		p := &mesh.Parts[j]
		p.Positions = mapped(p.Positions, 3, func(v geom.Vec3) geom.Vec3 { return m.Point(v) })
		p.Normals = mapped(p.Normals, 3, func(v geom.Vec3) geom.Vec3 { return normal.Dir(v).Norm() })
		p.Tangents = mapped(p.Tangents, 4, func(v geom.Vec3) geom.Vec3 { return m.Dir(v).Norm() })
		p.Morphs = slices.Clone(p.Morphs)
		for k := range p.Morphs {
			t := &p.Morphs[k]
			t.Positions = mapped(t.Positions, 3, func(v geom.Vec3) geom.Vec3 { return m.Dir(v) })
			t.Normals = mapped(t.Normals, 3, func(v geom.Vec3) geom.Vec3 { return normal.Dir(v) })
			t.Tangents = mapped(t.Tangents, 3, func(v geom.Vec3) geom.Vec3 { return m.Dir(v) })
		}
		if mirrors {
			p.Triangles = flipped(p.Triangles)
			for k := 3; k < len(p.Tangents); k += 4 {
				p.Tangents[k] = -p.Tangents[k]
			}
		}
	}
	return mesh
}

// mapped maps the first three numbers of each n; nil stays nil.
func mapped(v []float32, n int, f func(geom.Vec3) geom.Vec3) []float32 {
	if v == nil {
		return nil
	}
	out := slices.Clone(v)
	for i := 0; i+2 < len(v); i += n {
		x := f(geom.Vec3{float64(v[i]), float64(v[i+1]), float64(v[i+2])})
		out[i], out[i+1], out[i+2] = float32(x[0]), float32(x[1]), float32(x[2])
	}
	return out
}

// flipped turns triangles round.
func flipped(t []uint32) []uint32 {
	out := slices.Clone(t)
	for i := 0; i+2 < len(out); i += 3 {
		out[i+1], out[i+2] = out[i+2], out[i+1]
	}
	return out
}
