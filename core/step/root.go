package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/distinct"
	"excavate/core/rig"
	"excavate/core/scene"
)

// RootParams is what the root is called.
type RootParams struct {
	Name string `json:"name" jsonschema:"title=Name,minLength=1,maxLength=1000,description=Exactly as the target wants it"`
	Bone string `json:"bone,omitempty" jsonschema:"title=The bone,maxLength=1000,description=Where there are several roots; empty is the only one"`
}

var _ = register(Kind{Name: "root", Title: "Name the root", Family: Rig, Version: 1,
	Purpose: "Give the skeleton's root exactly the name that the target looks for. Whatever else has that name gets another."},
	RootParams{Name: "root"}, root)

func root(_ context.Context, s *scene.Scene, p RootParams, r *Report) (*scene.Scene, error) {
	k := rig.Of(s)
	roots := k.Kids[scene.None]
	if len(roots) == 0 || !slices.Contains(s.Bones(), true) {
		r.Nothing("there are no bones")
		return s, nil
	}
	at := roots[0]
	if p.Bone != "" {
		i := slices.IndexFunc(k.Bones, func(b int) bool { return s.Nodes[b].Name == p.Bone })
		if i < 0 {
			return nil, fmt.Errorf("there is no bone %q", p.Bone)
		}
		at = k.Bones[i]
	} else if len(roots) > 1 {
		var names []string
		for _, b := range roots {
			names = append(names, s.Nodes[b].Name)
		}
		return nil, fmt.Errorf("the skeleton has %d roots, %s: say which is meant, or hang them under one with bones-parent",
			len(roots), named(names))
	}
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	var names distinct.Names
	names.Name(p.Name, ".")
	for i := range out.Nodes {
		if i != at && out.Nodes[i].Name != p.Name {
			names.Name(out.Nodes[i].Name, ".")
		}
	}
	var others []string
	for i := range out.Nodes {
		if i != at && out.Nodes[i].Name == p.Name {
			out.Nodes[i].Name = names.Name(p.Name, ".")
			others = append(others, out.Nodes[i].Name)
		}
	}
	was := s.Nodes[at].Name
	if out.Nodes[at].Name = p.Name; was == p.Name && len(others) == 0 {
		r.Nothing("the root is called %s already", p.Name)
		return s, nil
	}
	if was != p.Name {
		r.Say("root “%s” → “%s”", was, p.Name)
	}
	if len(others) > 0 {
		r.Say("what else had that name is %s now", named(others))
	}
	return &out, nil
}
