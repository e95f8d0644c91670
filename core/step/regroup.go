package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/scene"
)

// RegroupParams says under which nodes things come to hang.
type RegroupParams struct {
	Where
	How  string `json:"how" jsonschema:"title=How,enum=unparent,enum=flatten,enum=under,description=unparent: the chosen become roots. flatten: groups that hold nothing go and what they held moves up. under: the chosen come under one node."`
	Name string `json:"name,omitempty" jsonschema:"title=Under the node,maxLength=1000,description=Its name; made if there is none. For under."`
}

// Validate refuses a group without a name.
func (p *RegroupParams) Validate() error {
	if (p.How == "under") != (p.Name != "") {
		return fmt.Errorf("give the name of the node for how: under, and only for that")
	}
	return p.Where.Validate()
}

var _ = register(Kind{Name: "regroup", Title: "Regroup", Family: Clean, On: Nodes, Version: 1,
	Purpose: "Hang nodes elsewhere in the tree, or take out groups that hold nothing. Everything stays where it is seen."},
	RegroupParams{How: "flatten"}, regroup)

func regroup(_ context.Context, s *scene.Scene, p RegroupParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	if p.How == "flatten" {
		return flatten(s, c.Nodes, r), nil
	}
	fixed := fixedNodes(s)
	to := scene.None
	if p.How == "under" {
		to = slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == p.Name })
	}
	below := make([]bool, len(s.Nodes)) // the chosen and what hangs on them
	parent := make([]int, len(s.Nodes))
	var moved, kept, left int
	moving := movingNodes(s)
	for i := range s.Nodes {
		up := s.Nodes[i].Parent
		parent[i] = up
		below[i] = up >= 0 && below[up]
		switch {
		case below[i] || !c.Nodes[i] || i == to || up == to && (to >= 0 || p.How == "unparent"):
			continue // it moves with what it hangs on, or not at all
		case fixed[i]:
			kept++
			continue
		}
		below[i] = true
		parent[i] = to
		if to < 0 && p.How == "under" {
			parent[i] = len(s.Nodes)
		}
		moved++
		if moving[i] {
			left++
		}
	}
	if to >= 0 && below[to] {
		return nil, fmt.Errorf("the node %s hangs on one that would come under it", p.Name)
	}
	if moved == 0 {
		r.Nothing("nothing has to move%s",
			ifAny(kept, ", but for %s", count(kept, "node that moves or is bound", "nodes that move or are bound")))
		return s, nil
	}
	nodes := slices.Clone(s.Nodes)
	if p.How == "under" && to < 0 {
		nodes = append(nodes, scene.NewNode(p.Name))
		parent = append(parent, scene.None)
	}
	r.Say("%s moved%s", count(moved, "node", "nodes"), ifNamed(" under %s", p.Name))
	if left > 0 {
		r.Lose("%s no longer with what moved them", count(left, "node moves", "nodes move"))
	}
	if kept > 0 {
		r.Say("%s: motions or skins need them where they are", count(kept, "stays", "stay"))
	}
	out, _ := withParents(s, nodes, parent)
	return out, nil
}

func ifNamed(f, name string) string {
	if name == "" {
		return ""
	}
	return fmt.Sprintf(f, name)
}

// withParents hangs nodes elsewhere, each where it is seen now. nodes may be
// more than the scene has. to tells where each one stands now.
func withParents(s *scene.Scene, nodes []scene.Node, parent []int) (out *scene.Scene, to []int) {
	grown := *s
	grown.Nodes = nodes
	world := grown.World()
	// Parents first, else in the order in which they stood.
	var order []int
	seen := make([]bool, len(nodes))
	var visit func(i int)
	visit = func(i int) {
		if seen[i] {
			return
		}
		seen[i] = true
		if parent[i] >= 0 {
			visit(parent[i])
		}
		order = append(order, i)
	}
	for i := range nodes {
		visit(i)
	}
	to = make([]int, len(nodes))
	var list []scene.Node
	for _, i := range order {
		n := nodes[i]
		was := n.Parent
		if n.Parent = parent[i]; was != parent[i] {
			local := world[i]
			if n.Parent >= 0 {
				if inv, ok := world[n.Parent].Inverse(); ok {
					local = inv.Mul(world[i])
				}
			}
			if n.Parent >= 0 {
				n.Parent = to[n.Parent]
			}
			if above := n.Place(local); above != nil {
				list = append(list, *above)
				n.Parent = len(list) - 1
			}
		} else if n.Parent >= 0 {
			n.Parent = to[n.Parent]
		}
		to[i] = len(list)
		list = append(list, n)
	}
	grown.Nodes = list
	return grown.Renumbered(to[:len(s.Nodes)]), to
}

// flatten takes out chosen nodes that hold nothing but others.
func flatten(s *scene.Scene, chosen []bool, r *Report) *scene.Scene {
	fixed, held := fixedNodes(s), namedByAvatar(s)
	keep := make([]bool, len(s.Nodes))
	holds := make([]bool, len(s.Nodes))
	for i := range s.Nodes {
		if up := s.Nodes[i].Parent; up >= 0 {
			holds[up] = true
		}
	}
	gone := 0
	parent := make([]int, len(s.Nodes))
	for i := range s.Nodes {
		n := &s.Nodes[i]
		keep[i] = !chosen[i] || fixed[i] || held[i] || !n.Bare() || !holds[i]
		if !keep[i] {
			gone++
		}
		// The nearest node above that stays.
		if parent[i] = n.Parent; n.Parent >= 0 && !keep[n.Parent] {
			parent[i] = parent[n.Parent]
		}
	}
	// Bones and what moves are placed by those above them.
	for i := range s.Nodes {
		if up := s.Nodes[i].Parent; up >= 0 && !keep[up] && fixed[i] {
			for k := up; k >= 0 && !keep[k]; k = s.Nodes[k].Parent {
				keep[k] = true
				gone--
			}
		}
	}
	for i := range s.Nodes {
		if parent[i] = s.Nodes[i].Parent; parent[i] >= 0 && !keep[parent[i]] {
			parent[i] = parent[parent[i]]
		}
	}
	if gone == 0 {
		r.Nothing("no chosen group holds nothing but others")
		return s
	}
	r.Say("%s taken out", count(gone, "group", "groups"))
	flat, to := withParents(s, slices.Clone(s.Nodes), parent)
	still := make([]bool, len(flat.Nodes))
	for i := range still {
		still[i] = true
	}
	for i := range s.Nodes {
		still[to[i]] = keep[i]
	}
	return withNodes(flat, flat, still, r)
}
