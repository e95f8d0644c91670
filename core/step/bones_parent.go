package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/pick"
	"excavate/core/rig"
	"excavate/core/scene"
)

// BonesParentParams say what hangs on what.
type BonesParentParams struct {
	Rows   []BoneParent `json:"rows,omitempty" jsonschema:"title=Bones,description=Each with what it comes to hang on"`
	Insert string       `json:"insert,omitempty" jsonschema:"title=Insert a root named,maxLength=1000,description=On the origin; all roots of the skeleton come to hang on it"`
	Bare   bool         `json:"bare" jsonschema:"title=Take out what stands above,description=Nodes above the root that hold nothing else; exports add them"`
}

// BoneParent hangs bones on another.
type BoneParent struct {
	Bone   string `json:"bone" jsonschema:"title=Bones named,minLength=1,description=A name or a pattern with *"`
	Parent string `json:"parent" jsonschema:"title=Hang on,description=The exact name of a node; empty is nothing"`
}

var _ = register(Kind{Name: "bones-parent", Title: "Hang bones elsewhere", Family: Rig, Version: 1,
	Purpose: "Give bones another parent, insert a root, or take out nodes that an export put above it. Everything stays in its place and moves as before."},
	BonesParentParams{}, bonesParent)

func bonesParent(_ context.Context, s *scene.Scene, p BonesParentParams, r *Report) (*scene.Scene, error) {
	if !slices.Contains(s.Bones(), true) {
		r.Nothing("there are no bones")
		return s, nil
	}
	out, moved, err := hungByRows(s, p.Rows)
	if err != nil {
		return nil, err
	}
	if moved > 0 {
		r.Say("%s elsewhere", count(moved, "bone hangs", "bones hang"))
	}
	if p.Bare {
		res, names := withoutAbove(out)
		if len(names) > 0 {
			r.Say("taken out above the root: %s", named(names))
		}
		out = res
	}
	if p.Insert != "" {
		if k := rig.Of(out); len(k.Kids[scene.None]) == 1 && out.Nodes[k.Kids[scene.None][0]].Name == p.Insert {
			r.Say("the root is %s already", p.Insert)
		} else {
			out = withRoot(out, k, p.Insert)
			r.Say("%s inserted as the root", p.Insert)
		}
	}
	if out == s {
		r.Nothing("every bone hangs where it should")
	}
	return out, nil
}

// hungByRows hangs bones as rows say.
func hungByRows(s *scene.Scene, rows []BoneParent) (out *scene.Scene, moved int, err error) {
	k := rig.Of(s)
	parent := make([]int, len(s.Nodes))
	for i := range parent {
		parent[i] = s.Nodes[i].Parent
	}
	for n, row := range rows {
		to := scene.None
		if row.Parent != "" {
			if to = slices.IndexFunc(s.Nodes, func(x scene.Node) bool { return x.Name == row.Parent }); to < 0 {
				return nil, 0, fmt.Errorf("row %d: there is no node %q", n+1, row.Parent)
			}
		}
		hit := false
		for _, b := range k.Bones {
			if pick.Fits(row.Bone, s.Nodes[b].Name) && b != to {
				parent[b], hit = to, true
			}
		}
		if !hit {
			return nil, 0, fmt.Errorf("row %d: there is no bone %q", n+1, row.Bone)
		}
	}
	for i := range parent {
		if parent[i] != s.Nodes[i].Parent {
			moved++
		}
		steps := 0
		for n := i; n >= 0; n = parent[n] {
			if steps++; steps > len(parent) {
				return nil, 0, fmt.Errorf("%s would hang on itself", s.Nodes[i].Name)
			}
		}
	}
	if moved == 0 {
		return s, 0, nil
	}
	out, _ = rehung(s, slices.Clone(s.Nodes), parent)
	return out, moved, nil
}

// withoutAbove takes out the nodes above the skeleton's roots that hold nothing
// but the skeleton and what is bound to it.
func withoutAbove(s *scene.Scene) (*scene.Scene, []string) {
	k := rig.Of(s)
	held := namedByAvatar(s)
	gone := make([]bool, len(s.Nodes))
	any := false
	for _, root := range k.Kids[scene.None] {
		for up := s.Nodes[root].Parent; up >= 0; up = s.Nodes[up].Parent {
			if s.Nodes[up].Bare() && !held[up] && len(s.Nodes[up].Props) == 0 {
				gone[up], any = true, true
			}
		}
	}
	if !any {
		return s, nil
	}
	return withoutNodes(s, gone)
}

// withRoot hangs all roots of a skeleton on a new bone on the origin.
func withRoot(s *scene.Scene, k *rig.Rig, name string) *scene.Scene {
	nodes := append(slices.Clone(s.Nodes), scene.NewNode(name))
	parent := make([]int, len(nodes))
	for i := range nodes {
		parent[i] = nodes[i].Parent
	}
	for _, root := range k.Kids[scene.None] {
		parent[root] = len(s.Nodes)
	}
	// It stands where the roots stood: below what holds them all.
	if roots := k.Kids[scene.None]; len(roots) > 0 {
		parent[len(s.Nodes)] = s.Nodes[roots[0]].Parent
		nodes[len(s.Nodes)].Parent = parent[len(s.Nodes)]
	}
	out, to := rehung(s, nodes, parent)
	at := to[len(s.Nodes)]
	res := *out
	res.Skins = slices.Clone(out.Skins)
	for i := range res.Skins {
		res.Skins[i].Root = at
		// It is a joint too, the first: without weight, so that it is a bone.
		joints := &res.Skins[i]
		joints.Joints = append(slices.Clone(joints.Joints), at)
		if len(joints.InverseBind) > 0 {
			inv, _ := out.World()[at].Inverse()
			joints.InverseBind = slices.Clone(joints.InverseBind)
			for _, v := range inv {
				joints.InverseBind = append(joints.InverseBind, float32(v))
			}
		}
	}
	return &res
}
