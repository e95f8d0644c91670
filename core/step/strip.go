package step

import (
	"context"
	"slices"
	"strings"

	"excavate/core/scene"
)

// StripParams says what goes.
type StripParams struct {
	Cameras bool `json:"cameras" jsonschema:"title=Cameras"`
	Lights  bool `json:"lights" jsonschema:"title=Lights"`
	Helpers bool `json:"helpers" jsonschema:"title=Helper nodes,description=Nodes that hold nothing and carry no bone or mesh"`
}

var _ = register(Kind{Name: "strip", Title: "Strip", Family: Clean, Version: 1,
	Purpose: "Take out the cameras, lights and helper nodes that the source left in the asset."},
	StripParams{true, true, true}, strip)

func strip(_ context.Context, s *scene.Scene, p StripParams, r *Report) (*scene.Scene, error) {
	helpers := s.Helpers()
	bones := s.Bones()
	keep := make([]bool, len(s.Nodes))
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	var cameras, lights, plain int
	for i := len(out.Nodes) - 1; i >= 0; i-- {
		n := &out.Nodes[i]
		if n.Camera >= 0 && p.Cameras {
			n.Camera = scene.None
			cameras++
		}
		if n.Light >= 0 && p.Lights {
			n.Light = scene.None
			lights++
		}
		// A node that held only a stripped camera or light goes with it.
		if n.Mesh >= 0 || n.Camera >= 0 || n.Light >= 0 || bones[i] || helpers[i] && !p.Helpers {
			keep[i] = true
		}
		if keep[i] && n.Parent >= 0 {
			keep[n.Parent] = true
		}
	}
	gone := 0
	for i, k := range keep {
		if !k {
			gone++
			if helpers[i] {
				plain++
			}
		}
	}
	if gone == 0 && cameras == 0 && lights == 0 {
		r.Nothing("no cameras, lights or helpers to strip")
		return s, nil
	}
	res, dropped := out.KeepNodes(keep)
	var what []string
	if cameras > 0 {
		what = append(what, count(cameras, "camera", "cameras"))
	}
	if lights > 0 {
		what = append(what, count(lights, "light", "lights"))
	}
	if plain > 0 {
		what = append(what, count(plain, "helper", "helpers"))
	}
	if len(what) == 0 {
		what = append(what, count(gone, "empty node", "empty nodes"))
	}
	r.Say("%s removed", strings.Join(what, ", "))
	if len(dropped) > 0 {
		var names []string
		for _, n := range dropped {
			names = append(names, s.Nodes[n].Name)
		}
		r.Lose("%s lost: %s", count(len(dropped), "motion target", "motion targets"), list(names))
	}
	return res, nil
}
