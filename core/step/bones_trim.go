package step

import (
	"context"
	"slices"

	"excavate/core/scene"
)

// BonesTrimParams say which bones go.
type BonesTrimParams struct {
	Where
	Ends       bool `json:"ends" jsonschema:"title=End bones,description=Without weight and with nothing below them; exports add them by themselves"`
	Weightless bool `json:"weightless" jsonschema:"title=All bones without weight,description=Also those in between: what hangs below comes to hang above. With a rule: the bones that it takes go and these are not looked at."`
}

var _ = register(Kind{Name: "bones-trim", Title: "Trim bones", Family: Rig, On: Nodes, Version: 1,
	Purpose: "Take out end bones, bones without weight, or those of a rule. Their weight goes to the bone above; everything stays in its place and moves as before."},
	BonesTrimParams{Ends: true}, bonesTrim)

func bonesTrim(_ context.Context, s *scene.Scene, p BonesTrimParams, r *Report) (*scene.Scene, error) {
	bones, bearing, held := s.Bones(), bearing(s), namedByAvatar(s)
	kids := make([]int, len(s.Nodes))
	for i := range s.Nodes {
		if up := s.Nodes[i].Parent; up >= 0 {
			kids[up]++
		}
	}
	gone := make([]bool, len(s.Nodes))
	var kept []string
	chosen := func(i int) bool {
		return !bearing[i] && (p.Weightless || p.Ends && kids[i] == 0)
	}
	if p.Where.Where != nil {
		c, any, err := p.choose(s, r)
		if err != nil || !any {
			return s, err
		}
		chosen = func(i int) bool { return c.Nodes[i] }
	}
	roots := map[int]bool{}
	for i := range s.Skins {
		roots[s.Skins[i].Root] = true
	}
	n := 0
	for i := range s.Nodes {
		if !bones[i] || !chosen(i) {
			continue
		}
		// A bone without one above it holds the skeleton.
		over := false
		for up := s.Nodes[i].Parent; up >= 0 && !over; up = s.Nodes[up].Parent {
			over = bones[up] && !gone[up]
		}
		if held[i] || !over || roots[i] || !s.Nodes[i].Bare() {
			kept = append(kept, s.Nodes[i].Name)
			continue
		}
		gone[i] = true
		n++
	}
	if n == 0 {
		r.Nothing("no bone goes%s", ifAny(len(kept), "; %s", "needed as they are: "+named(kept)))
		return s, nil
	}
	out, vertices := withoutJoints(s, gone)
	out, names := withoutNodes(out, gone)
	r.Say("%s removed: %s", count(n, "bone", "bones"), named(names))
	if vertices > 0 {
		r.Say("the weight of %s is with the bone above", count(vertices, "vertex", "vertices"))
	}
	if len(kept) > 0 {
		r.Say("needed as they are: %s", named(kept))
	}
	return out, nil
}

// withoutNodes takes nodes out; what hangs on one comes to hang above it, in
// the same place and moving as before.
func withoutNodes(s *scene.Scene, gone []bool) (out *scene.Scene, names []string) {
	parent := make([]int, len(s.Nodes))
	for i := range s.Nodes {
		parent[i] = s.Nodes[i].Parent
		for parent[i] >= 0 && gone[parent[i]] {
			parent[i] = s.Nodes[parent[i]].Parent
		}
		if gone[i] {
			parent[i] = s.Nodes[i].Parent
			names = append(names, s.Nodes[i].Name)
		}
	}
	flat, to := rehung(s, slices.Clone(s.Nodes), parent)
	keep := make([]bool, len(flat.Nodes))
	for i := range keep {
		keep[i] = true
	}
	for i := range s.Nodes {
		keep[to[i]] = !gone[i]
	}
	// Something that shears got a node above it, which stays with it.
	for i := range keep {
		if up := flat.Nodes[i].Parent; keep[i] && up >= 0 {
			keep[up] = true
		}
	}
	out, _ = flat.KeepNodes(keep)
	return out, names
}
