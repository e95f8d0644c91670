package step

import (
	"context"
	"slices"
	"strings"

	"excavate/core/pick"
	"excavate/core/scene"
)

// StripParams says what goes.
type StripParams struct {
	Where
	Cameras   bool `json:"cameras" jsonschema:"title=Cameras"`
	Lights    bool `json:"lights" jsonschema:"title=Lights"`
	Colliders bool `json:"colliders" jsonschema:"title=Colliders"`
	Helpers   bool `json:"helpers" jsonschema:"title=Helper nodes,description=Nodes that hold nothing and carry no bone or mesh. With a rule: everything that the rule takes goes and the kinds are not looked at."`
}

var _ = register(Kind{Name: "strip", Title: "Strip", Family: Clean, Version: 1,
	Purpose: "Take out cameras, lights, colliders and helper nodes, or everything that a rule takes."},
	StripParams{Cameras: true, Lights: true, Helpers: true}, strip)

func strip(_ context.Context, s *scene.Scene, p StripParams, r *Report) (*scene.Scene, error) {
	if p.Where.Where != nil {
		c, any, err := p.choose(s, r)
		if err != nil || !any {
			return s, err
		}
		return takeOut(s, c, true, r)
	}
	return stripKinds(s, p, r), nil
}

// stripKinds takes out the kinds that are ticked.
func stripKinds(s *scene.Scene, p StripParams, r *Report) *scene.Scene {
	helpers := s.Helpers()
	bones := s.Bones()
	keep := make([]bool, len(s.Nodes))
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	var cameras, lights, colliders, plain int
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
		if n.Collider != nil && p.Colliders {
			n.Collider = nil
			colliders++
		}
		// A node that held only what was stripped goes with it.
		if !n.Bare() || bones[i] || helpers[i] && !p.Helpers {
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
	if gone+cameras+lights+colliders == 0 {
		r.Nothing("nothing of these kinds is there to strip")
		return s
	}
	what := counts(cameras, "camera", "cameras", lights, "light", "lights", colliders, "collider", "colliders", plain, "helper", "helpers")
	if len(what) == 0 {
		what = append(what, count(gone, "empty node", "empty nodes"))
	}
	r.Say("%s removed", strings.Join(what, ", "))
	return withNodes(s, out.Sweep(s), keep, r)
}

// withNodes is the scene with only the nodes that keep names; motions that
// have lost their nodes are said.
func withNodes(s, out *scene.Scene, keep []bool, r *Report) *scene.Scene {
	res, dropped := out.KeepNodes(keep)
	if len(dropped) > 0 {
		var names []string
		for _, n := range dropped {
			names = append(names, s.Nodes[n].Name)
		}
		r.Lose("%s lost: %s", count(len(dropped), "motion target", "motion targets"), named(names))
	}
	return res
}

// takeOut takes out of the scene what is chosen, or all else. Bones stay: the
// skin needs them. So do nodes that carry something that stays.
func takeOut(s *scene.Scene, c *pick.Chosen, chosen bool, r *Report) (*scene.Scene, error) {
	var triangles, parts, bonesKept int
	out, err := withoutParts(s, c, chosen, &triangles, &parts)
	if err != nil {
		return nil, err
	}
	bones := s.Bones()
	held := namedByAvatar(s)
	keep := make([]bool, len(s.Nodes))
	var nodes, cameras, lights, colliders int
	for i := len(s.Nodes) - 1; i >= 0; i-- {
		n := &out.Nodes[i]
		goes := c.Nodes[i] == chosen
		if goes && n.Camera >= 0 {
			n.Camera = scene.None
			cameras++
		}
		if goes && n.Light >= 0 {
			n.Light = scene.None
			lights++
		}
		if goes && n.Collider != nil {
			n.Collider = nil
			colliders++
		}
		switch {
		case bones[i] || held[i]:
			keep[i] = true
			if goes && chosen && s.Nodes[i].Mesh < 0 {
				bonesKept++
			}
		case !n.Bare():
			keep[i] = true
		default:
			// A node that shows nothing is kept as a helper unless it goes itself.
			keep[i] = keep[i] || !goes && s.Nodes[i].Mesh < 0
		}
		if keep[i] && n.Parent >= 0 {
			keep[n.Parent] = true
		}
		if !keep[i] {
			nodes++
		}
	}
	if triangles+parts+nodes+cameras+lights+colliders == 0 {
		if bonesKept > 0 {
			r.Nothing("%s chosen: a skin needs them, and they stay", count(bonesKept, "bone is", "bones are"))
		} else {
			r.Nothing("nothing goes: what is chosen carries what stays")
		}
		return s, nil
	}
	r.Say("%s removed", strings.Join(counts(nodes, "node", "nodes", parts, "part", "parts", cameras, "camera", "cameras", lights, "light", "lights", colliders, "collider", "colliders"), ", "))
	if triangles > 0 {
		r.Say("triangles %d → %d", s.Stats().Triangles, s.Stats().Triangles-triangles)
	}
	if bonesKept > 0 {
		r.Say("%s with their skin", count(bonesKept, "bone stays", "bones stay"))
	}
	return withNodes(s, out.Sweep(s), keep, r), nil
}

// withoutParts takes the parts that are chosen, or all others, off the nodes
// that show them. It counts what went, as it was shown.
func withoutParts(s *scene.Scene, c *pick.Chosen, chosen bool, triangles, parts *int) (*scene.Scene, error) {
	out := *s
	out.Nodes, out.Meshes = slices.Clone(s.Nodes), slices.Clone(s.Meshes)
	type key struct {
		mesh  int
		taken string
	}
	made := map[key]int{}
	first := make([]bool, len(s.Meshes)) // whether the mesh's own place is given away
	for i := range out.Nodes {
		n := &out.Nodes[i]
		if n.Mesh < 0 {
			continue
		}
		mesh := &s.Meshes[n.Mesh]
		var left []scene.Part
		id := key{mesh: n.Mesh}
		for j := range mesh.Parts {
			p, gone := partWithout(&mesh.Parts[j], c.Part(i, j) == chosen, c.Triangles(i, j), chosen)
			*triangles += gone
			if p == nil {
				*parts++
				id.taken += "-"
				continue
			}
			id.taken += "+"
			if t := c.Triangles(i, j); t != nil {
				id.taken += string(bits(t))
			}
			left = append(left, *p)
		}
		if len(left) == 0 && len(mesh.Parts) > 0 {
			n.Mesh, n.Skin = scene.None, scene.None
			continue
		}
		at, ok := made[id]
		if !ok {
			if at = n.Mesh; first[at] {
				at = len(out.Meshes)
				out.Meshes = append(out.Meshes, *mesh)
			}
			first[n.Mesh] = true
			out.Meshes[at].Parts = left
			made[id] = at
		}
		n.Mesh = at
	}
	return &out, nil
}

// partWithout is what is left of a part, nil if nothing, and how many
// triangles went. taken marks the triangles of those that were picked by
// loose piece.
func partWithout(p *scene.Part, goes bool, taken []bool, chosen bool) (*scene.Part, int) {
	if taken == nil {
		if goes {
			return nil, len(p.Triangles) / 3
		}
		return p, 0
	}
	stays := make([]bool, len(taken))
	gone := 0
	for t := range taken {
		if stays[t] = taken[t] != chosen; !stays[t] {
			gone++
		}
	}
	if gone == 0 {
		return p, 0
	}
	out := withTriangles(p, stays, chosen)
	if out.Empty() {
		return nil, gone
	}
	return &out, gone
}

func bits(list []bool) []byte {
	out := make([]byte, len(list))
	for i, b := range list {
		out[i] = '0'
		if b {
			out[i] = '1'
		}
	}
	return out
}

// namedByAvatar tells which nodes an avatar speaks of by themselves.
func namedByAvatar(s *scene.Scene) []bool {
	held := make([]bool, len(s.Nodes))
	if a := s.Avatar; a != nil {
		for _, n := range a.Bones {
			held[n] = true
		}
	}
	return held
}

// counts lists what there is some of: a number, and what one and many of it
// are called.
func counts(of ...any) (out []string) {
	for i := 0; i+2 < len(of); i += 3 {
		if n := of[i].(int); n > 0 {
			out = append(out, count(n, of[i+1].(string), of[i+2].(string)))
		}
	}
	return out
}
