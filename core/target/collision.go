package target

import (
	"fmt"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/pick"
	"excavate/core/scene"
)

// What one stands on and bumps into over there.

// touched tells of each node whether it has a collider: its own, or one right
// below or beside it that has its name.
func (r *rehearsal) touched() []bool {
	has := make([]bool, len(r.s.Nodes))
	for i := range r.s.Nodes {
		if r.s.Nodes[i].Collider == nil {
			continue
		}
		has[i] = true
		if up := r.s.Nodes[i].Parent; up >= 0 {
			has[up] = true
		}
	}
	return has
}

func (r *rehearsal) colliders(name string) {
	c := r.t.Colliders
	if c == nil || c.As == "none" || r.st.Triangles == 0 {
		return
	}
	chosen, err := pick.Of(r.s, c.For)
	if err != nil {
		r.add(Finding{Rule: name, Severity: Warns, Title: "The sheet's pick of what needs a collider fails",
			Where: err.Error()})
		return
	}
	never := r.without()
	has := r.touched()
	var bare []Thing
	for i := range r.s.Nodes {
		n := &r.s.Nodes[i]
		if n.Mesh >= 0 && !r.moves(i) && chosen.Nodes[i] && !never[i] && !has[i] {
			bare = append(bare, r.node(i))
		}
	}
	if len(bare) == 0 {
		if r.st.Colliders > 0 {
			r.holds(name, "One can stand on it", fmt.Sprintf("%d colliders", r.st.Colliders))
		}
		return
	}
	shape := "mesh"
	if len(c.Shapes) > 0 {
		shape = c.Shapes[0]
	}
	// What is picked is said as the sheet says it, so that the step does the
	// same to the next asset; what is not for it goes with it.
	with := params{"shape": shape}
	if !c.For.Empty() || !c.Without.Empty() {
		rule := pick.Rule{}
		if c.For != nil {
			rule = *c.For
		}
		switch {
		case c.Without.Empty():
			with["where"] = rule
		case rule.Not == nil && c.Without.Not == nil:
			rule.Not = &c.Without.Terms
			with["where"] = rule
		default:
			with["where"] = where("node", names(bare))
		}
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Things have no collider", Where: few(names(bare)),
		Things:   bare,
		Why:      "Figures fall through them.",
		Mends:    []chain.Step{mend("colliders", with)},
		MendText: fmt.Sprintf("Give them a collider (%s)", shape)})
}

// without tells which nodes may have no collider.
func (r *rehearsal) without() []bool {
	c := r.t.Colliders
	if c == nil || c.Without.Empty() {
		return make([]bool, len(r.s.Nodes))
	}
	chosen, err := pick.Of(r.s, c.Without)
	if err != nil {
		return make([]bool, len(r.s.Nodes))
	}
	return chosen.Nodes
}

// passages are things that one must be able to pass: they have no collider.
func (r *rehearsal) passages(name string) {
	c := r.t.Colliders
	if c == nil || c.Without.Empty() || c.As == "none" {
		return
	}
	never := r.without()
	var shut []Thing
	for i := range r.s.Nodes {
		n := &r.s.Nodes[i]
		if n.Collider != nil && (never[i] || n.Parent >= 0 && never[n.Parent]) {
			shut = append(shut, r.node(i))
		}
	}
	if len(shut) == 0 {
		if slices.Contains(never, true) {
			r.holds(name, "One can pass", "")
		}
		return
	}
	rule := where("node", names(shut))
	rule["kind"] = []string{"collider"}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Things that one must pass have a collider",
		Where: few(names(shut)), Things: shut,
		Why:   "Nobody can pass: over there they are walls.",
		Mends: []chain.Step{mend("strip", params{"where": rule})}, MendText: "Take these colliders out"})
}

// shapes are those that the target knows.
func (r *rehearsal) shapes(name string) {
	c := r.t.Colliders
	if c == nil || len(c.Shapes) == 0 || r.st.Colliders == 0 || c.As == "none" || c.As == "ending" { // by an ending all are meshes
		return
	}
	var odd []Thing
	kinds := []string{}
	for i := range r.s.Nodes {
		x := r.s.Nodes[i].Collider
		if x == nil || slices.Contains(c.Shapes, string(x.Shape)) {
			continue
		}
		odd = append(odd, r.node(i))
		if !slices.Contains(kinds, string(x.Shape)) {
			kinds = append(kinds, string(x.Shape))
		}
	}
	if odd == nil {
		r.holds(name, "The target knows the colliders' shapes", strings.Join(c.Shapes, ", "))
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "The target does not know this shape of collider",
		Where: strings.Join(kinds, ", ") + " of " + few(names(odd)), Things: odd,
		Why:      "It leaves them out, and figures fall through.",
		Mends:    []chain.Step{stripOnly("colliders"), mend("colliders", params{"shape": c.Shapes[0]})},
		MendText: fmt.Sprintf("Make them anew (%s)", c.Shapes[0])})
}

// Told is the scene as a sheet tells its colliders: by the format's own
// extension, as meshes by the ending of their names, or not at all.
func Told(s *scene.Scene, t *Sheet) (*scene.Scene, []scene.Note) {
	if t == nil || t.Colliders == nil {
		return s, nil
	}
	switch c := t.Colliders; c.As {
	case "ending":
		out, n := s.WithColliderMeshes(c.Ending)
		if n > 0 {
			return out, []scene.Note{{Text: fmt.Sprintf("colliders are meshes whose names end in %s: %d", c.Ending, n)}}
		}
	case "none":
		return withoutColliders(s)
	}
	return s, nil
}

// withoutColliders takes colliders out, with the nodes that held nothing else.
func withoutColliders(s *scene.Scene) (*scene.Scene, []scene.Note) {
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	keep := make([]bool, len(s.Nodes))
	n := 0
	for i := range out.Nodes {
		keep[i] = true
		if out.Nodes[i].Collider != nil {
			out.Nodes[i].Collider = nil
			keep[i] = !out.Nodes[i].Bare()
			n++
		}
	}
	if n == 0 {
		return s, nil
	}
	for i := len(keep) - 1; i >= 0; i-- { // what something hangs on stays
		if p := out.Nodes[i].Parent; keep[i] && p >= 0 {
			keep[p] = true
		}
	}
	left, _ := out.KeepNodes(keep)
	return left.Sweep(s), []scene.Note{{Text: fmt.Sprintf("the target makes its own colliders; left out: %d", n)}}
}
