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
	Cameras   bool   `json:"cameras" jsonschema:"title=Cameras"`
	Lights    bool   `json:"lights" jsonschema:"title=Lights"`
	Colliders bool   `json:"colliders" jsonschema:"title=Colliders"`
	Helpers   bool   `json:"helpers" jsonschema:"title=Helper nodes,description=Nodes that hold nothing and carry no bone or mesh. With a rule: everything that the rule takes goes and the kinds are not looked at."`
	Hidden    bool   `json:"hidden" jsonschema:"title=Hidden things,description=Meshes that show nothing: without extent or wholly transparent"`
	Detail    *int   `json:"detail,omitempty" jsonschema:"title=Levels of detail but,minimum=0,maximum=99,description=Of things that are there in several levels this one stays or the nearest finer one; 0 is the finest"`
	State     string `json:"state,omitempty" jsonschema:"title=States but,maxLength=200,description=Of nodes whose property state says something only those that say this stay"`
	Unused    bool   `json:"unused" jsonschema:"title=Unused materials and pictures"`
	Sets      bool   `json:"sets" jsonschema:"title=Sets that nothing shows,description=UV sets behind the last that a picture lies on and colour sets behind the first"`
	Bones     bool   `json:"bones" jsonschema:"title=Bones without weight,description=Those on which no vertex hangs and below which nothing stands that stays"`
}

var _ = register(Kind{Name: "strip", Title: "Strip", Family: Clean, On: Nodes, Version: 1,
	Purpose: "Take out cameras, lights, helper nodes, colliders, hidden things, other levels of detail and states, or everything that a rule takes."},
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
	out := *s
	lone := make([]bool, len(s.Nodes))
	if p.Bones {
		lone = loneBones(s, bearing(s))
		trimmed, _ := withoutJoints(s, lone)
		out = *trimmed
	}
	out.Nodes = slices.Clone(out.Nodes)
	gone := p.emptied(&out)
	keep := make([]bool, len(s.Nodes))
	nodes, plain, trimmed := 0, 0, 0
	for i := len(out.Nodes) - 1; i >= 0; i-- {
		n := &out.Nodes[i]
		// A node that held only what was stripped goes with it.
		if !n.Bare() || bones[i] && !lone[i] || helpers[i] && !p.Helpers {
			keep[i] = true
		}
		if lone[i] && !keep[i] {
			trimmed++
		}
		if keep[i] && n.Parent >= 0 {
			keep[n.Parent] = true
		}
		if !keep[i] {
			nodes++
			if helpers[i] {
				plain++
			}
		}
	}
	res := withNodes(s, out.Sweep(s), keep, r)
	unused := 0
	if p.Unused {
		before := len(res.Materials) + len(res.Pictures)
		res = withoutUnused(res)
		unused = before - len(res.Materials) - len(res.Pictures)
	}
	sets := 0
	if p.Sets {
		res, sets = withoutIdleSets(res)
	}
	what := append(gone, counts(
		sets, "UV or colour set", "UV and colour sets",
		trimmed, "bone without weight", "bones without weight",
		plain, "helper", "helpers",
		unused, "unused material or picture", "unused materials and pictures")...)
	if len(what) == 0 && nodes > 0 {
		what = append(what, count(nodes, "empty node", "empty nodes"))
	}
	if len(what) == 0 {
		r.Nothing("nothing of these kinds is there to strip")
		return s
	}
	r.Say("%s removed", strings.Join(what, ", "))
	return res
}

// emptied takes what is ticked off its nodes, and says what that is.
func (p *StripParams) emptied(s *scene.Scene) []string {
	var cameras, lights, colliders, hidden, levels, states int
	bare := func(n *scene.Node, of *int) {
		if n.Mesh >= 0 {
			n.Mesh, n.Skin = scene.None, scene.None
			*of++
		}
	}
	if p.Detail != nil {
		things, _ := s.Levels()
		for _, i := range things.But(*p.Detail) {
			bare(&s.Nodes[i], &levels)
		}
	}
	other := make([]bool, len(s.Nodes)) // of another state, or below one that is
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if p.State != "" {
			state, says := n.Prop("state")
			other[i] = n.Parent >= 0 && other[n.Parent] || says && state != p.State
			if other[i] {
				bare(n, &states)
			}
		}
		if n.Camera >= 0 && (p.Cameras || other[i]) {
			n.Camera = scene.None
			cameras++
		}
		if n.Light >= 0 && (p.Lights || other[i]) {
			n.Light = scene.None
			lights++
		}
		if n.Collider != nil && (p.Colliders || other[i]) {
			n.Collider = nil
			colliders++
		}
		if p.Hidden && n.Mesh >= 0 && s.Unseen(&s.Meshes[n.Mesh]) {
			bare(n, &hidden)
		}
	}
	return counts(cameras, "camera", "cameras", lights, "light", "lights", colliders, "collider", "colliders", hidden, "hidden mesh", "hidden meshes",
		levels, "mesh of another level of detail", "meshes of other levels of detail", states, "mesh of another state", "meshes of other states")
}

// withoutIdleSets is the scene without the UV sets behind the last on which a
// picture of the part lies in any of its looks, and without colour sets behind
// the first, which is the one that surfaces are tinted by.
func withoutIdleSets(s *scene.Scene) (res *scene.Scene, sets int) {
	out := *s
	out.Meshes = slices.Clone(s.Meshes)
	for i := range out.Meshes {
		out.Meshes[i].Parts = slices.Clone(s.Meshes[i].Parts)
		for j := range out.Meshes[i].Parts {
			q := &out.Meshes[i].Parts[j]
			last := 0 // how many sets are needed
			for _, m := range q.Looks() {
				if m < 0 {
					continue
				}
				for _, t := range s.Materials[m].Textures {
					last = max(last, t.UVSet+1)
				}
			}
			uvs, colours := min(last, len(q.UVs)), min(1, len(q.Colours))
			sets += len(q.UVs) - uvs + len(q.Colours) - colours
			q.UVs, q.Colours = q.UVs[:uvs:uvs], q.Colours[:colours:colours]
		}
	}
	if sets == 0 {
		return s, 0
	}
	return &out, sets
}

// withoutUnused is the scene without materials that no part has, and pictures
// that no material has.
func withoutUnused(s *scene.Scene) *scene.Scene {
	all := *s
	// As if one part had used every material, and one material every picture.
	user := scene.NewMaterial("")
	for i := range s.Pictures {
		user.Textures = append(user.Textures, scene.Texture{Picture: i})
	}
	all.Materials = append(slices.Clone(s.Materials), user)
	mesh := scene.Mesh{}
	for i := range all.Materials {
		mesh.Parts = append(mesh.Parts, scene.Part{Material: i})
	}
	all.Meshes = append(slices.Clone(s.Meshes), mesh)
	return s.Sweep(&all)
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
	r.Say("%s removed",
		strings.Join(counts(nodes, "node", "nodes", parts, "part", "parts", cameras, "camera", "cameras", lights, "light", "lights", colliders, "collider", "colliders"), ", "))
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
