package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/rig"
	"excavate/core/scene"
)

// AttachParams say what hangs on which bone.
type AttachParams struct {
	Where
	Bone string `json:"bone" jsonschema:"title=On the bone,maxLength=1000,description=Its exact name, or the standard's word for a limb such as rightHand; empty lets things hang on nothing"`
}

var _ = register(Kind{Name: "attach", Title: "Attach to a bone", Family: Rig, On: Nodes, Version: 1,
	Purpose: "Hang things on a bone, so that they go where it goes, or let them free again. They stay where they are at rest."},
	AttachParams{}, attach)

func attach(_ context.Context, s *scene.Scene, p AttachParams, r *Report) (*scene.Scene, error) {
	if p.Where.Where == nil {
		r.Nothing("say which things: give a rule")
		return s, nil
	}
	c, any, err := p.choose(s, r)
	if err != nil || !any {
		return s, err
	}
	to := scene.None
	if p.Bone != "" {
		k := rig.Of(s)
		i := slices.IndexFunc(k.Bones, func(b int) bool { return s.Nodes[b].Name == p.Bone })
		if i >= 0 {
			to = k.Bones[i]
		} else if m, ok := k.Map(nil)[p.Bone]; ok {
			to = m.Bone
		} else {
			return nil, fmt.Errorf("there is no bone %q", p.Bone)
		}
	}
	bones := s.Bones()
	parent := make([]int, len(s.Nodes))
	below := make([]bool, len(s.Nodes))
	var moved, bound int
	for i := range s.Nodes {
		up := s.Nodes[i].Parent
		parent[i] = up
		below[i] = up >= 0 && below[up]
		if !c.Nodes[i] || below[i] || bones[i] || up == to {
			continue
		}
		if s.Nodes[i].Skin >= 0 {
			bound++
			continue
		}
		for n := to; n >= 0; n = s.Nodes[n].Parent {
			if n == i {
				return nil, fmt.Errorf("%s stands above the bone", s.Nodes[i].Name)
			}
		}
		parent[i], below[i] = to, true
		moved++
	}
	if moved == 0 {
		r.Nothing("nothing has to hang elsewhere%s",
			ifAny(bound, "; %s", count(bound, "thing is bound by its skin", "things are bound by their skins")))
		return s, nil
	}
	out, _ := withParents(s, slices.Clone(s.Nodes), parent)
	if to >= 0 {
		r.Say("%s on %s", count(moved, "thing hangs", "things hang"), s.Nodes[to].Name)
	} else {
		r.Say("%s free", count(moved, "thing is", "things are"))
	}
	if bound > 0 {
		r.Say("%s",
			count(bound, "thing is bound by its skin, and stays", "things are bound by their skins, and stay"))
	}
	return out, nil
}
