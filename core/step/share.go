package step

import (
	"context"
	"slices"

	"excavate/core/scene"
)

// ShareParams says whose meshes are compared.
type ShareParams struct{ Where }

var _ = register(Kind{Name: "share", Title: "Share equal meshes", Family: Geometry, On: Nodes, Version: 1,
	Purpose: "Let nodes whose meshes are equal in every number share one, so that it is stored once."},
	ShareParams{}, share)

func share(ctx context.Context, s *scene.Scene, p ShareParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	other := make([]bool, len(s.Meshes)) // shown by a node that is not chosen
	for i := range s.Nodes {
		if m := s.Nodes[i].Mesh; m >= 0 && !c.Nodes[i] {
			other[m] = true
		}
	}
	to := make([]int, len(s.Meshes))
	first := map[[32]byte]int{}
	var list []scene.Mesh
	for i := range s.Meshes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if other[i] {
			to[i] = len(list)
			list = append(list, s.Meshes[i])
			continue
		}
		d := s.Meshes[i].Digest()
		k, ok := first[d]
		if !ok {
			k = len(list)
			first[d] = k
			list = append(list, s.Meshes[i])
		}
		to[i] = k
	}
	if len(list) == len(s.Meshes) {
		r.Nothing("no two meshes are equal")
		return s, nil
	}
	out := *s
	out.Meshes, out.Nodes = list, slices.Clone(s.Nodes)
	for i := range out.Nodes {
		if m := out.Nodes[i].Mesh; m >= 0 {
			out.Nodes[i].Mesh = to[m]
		}
		out.Nodes[i].Collider = out.Nodes[i].Collider.WithMesh(to)
	}
	r.Say("meshes %d → %d", len(s.Meshes), len(list))
	return &out, nil
}
