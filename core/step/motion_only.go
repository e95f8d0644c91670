package step

import (
	"context"

	"excavate/core/rig"
	"excavate/core/scene"
)

// MotionOnlyParams say what stays with the motions.
type MotionOnlyParams struct {
	Skeleton bool `json:"skeleton" jsonschema:"title=Keep the whole skeleton,description=Off: only what moves and what it hangs on"`
}

var _ = register(Kind{Name: "motion-only", Title: "Motion alone", Family: Rig, Version: 1,
	Purpose: "Keep only the motions, with the skeleton that they move or without what they leave at rest: no mesh, no materials."},
	MotionOnlyParams{Skeleton: true}, motionOnly)

func motionOnly(_ context.Context, s *scene.Scene, p MotionOnlyParams, r *Report) (*scene.Scene, error) {
	if len(s.Motions) == 0 {
		r.Nothing("there are no motions")
		return s, nil
	}
	out := *s
	out.Nodes = append([]scene.Node(nil), s.Nodes...)
	meshes := 0
	for i := range out.Nodes {
		n := &out.Nodes[i]
		if n.Mesh >= 0 {
			meshes++
		}
		n.Mesh, n.Skin, n.Camera, n.Light, n.Collider = scene.None, scene.None, scene.None, scene.None, nil
	}
	out.Skins, out.Avatar = nil, nil
	// The weights of morph targets move nothing without a mesh.
	out.Motions = nil
	morphs := 0
	moved := make([]bool, len(s.Nodes))
	for _, m := range s.Motions {
		var list []scene.Channel
		for _, c := range m.Channels {
			if c.Path == scene.PathWeights {
				morphs++
				continue
			}
			moved[c.Node] = true
			list = append(list, c)
		}
		m.Channels = list
		if len(list) > 0 {
			out.Motions = append(out.Motions, m)
		}
	}
	keep := make([]bool, len(s.Nodes))
	bones := rig.Of(s).Is
	for i := len(s.Nodes) - 1; i >= 0; i-- {
		keep[i] = keep[i] || moved[i] || p.Skeleton && bones[i]
		if up := s.Nodes[i].Parent; keep[i] && up >= 0 {
			keep[up] = true
		}
	}
	left := 0
	for _, k := range keep {
		if k {
			left++
		}
	}
	if left == len(s.Nodes) && meshes == 0 && len(s.Materials) == 0 {
		r.Nothing("there is nothing beside the motions and what they move")
		return s, nil
	}
	res, _ := out.KeepNodes(keep)
	res = res.Sweep(s)
	r.Say("%s kept, with %s",
		count(len(res.Motions), "motion", "motions"), count(len(res.Nodes), "node", "nodes"))
	r.Say("%s and %s let go",
		count(meshes, "node with a mesh", "nodes with a mesh"), count(len(s.Materials)-len(res.Materials), "material", "materials"))
	if morphs > 0 {
		r.Lose("%s of morph targets", count(morphs, "motion channel", "motion channels"))
	}
	if s.Avatar != nil {
		r.Lose("what makes it an avatar: expressions, springs and licence fields")
	}
	return res, nil
}
