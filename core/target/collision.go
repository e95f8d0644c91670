package target

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/geom"
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
	// by an ending all are meshes
	if c == nil || len(c.Shapes) == 0 || r.st.Colliders == 0 || c.As == "none" || c.As == "ending" {
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

// fitCells is how many cells each side of a thing's ground has in which heights
// are compared.
const fitCells = 12

// slackOver is how far what is touched may lie over what is seen, in metres.
const slackOver = 0.02

// fit wants figures to stand on what is seen: in a box round everything they
// float above the roofs.
func (r *rehearsal) fit(name string) {
	c := r.t.Colliders
	if c == nil || c.As == "none" || r.st.Colliders == 0 || r.s.Basis.Up == 0 {
		return
	}
	world := r.s.World()
	var odd, owners []Thing
	most := 0.0
	for i := range r.s.Nodes {
		n := &r.s.Nodes[i]
		if n.Collider == nil || n.Collider.Shape == scene.ShapeMesh {
			continue
		}
		owner := i
		if n.Mesh < 0 {
			owner = n.Parent
		}
		if owner < 0 || r.s.Nodes[owner].Mesh < 0 || r.s.Nodes[owner].Skin >= 0 {
			continue
		}
		if over := r.floats(world, i, owner); over > slackOver {
			most = math.Max(most, over)
			odd, owners = append(odd, r.node(i)), append(owners, r.node(owner))
		}
	}
	if odd == nil {
		r.holds(name, "Figures stand on what is seen", "")
		return
	}
	f := Finding{Rule: name, Severity: Warns, Title: "Figures would float over what is seen", Things: owners,
		Where: fmt.Sprintf("%s: by %.2f m at most", few(names(owners)), most),
		Why:   "What one touches there lies above what one sees: a box round everything is higher than its slopes."}
	if len(c.Shapes) == 0 || slices.Contains(c.Shapes, "mesh") {
		gone := where("node", names(odd))
		gone["kind"] = []string{"collider"}
		f.Mends = []chain.Step{mend("strip", params{"where": gone}),
			mend("colliders", params{"shape": "mesh", "where": where("node", names(owners))})}
		f.MendText = "Make them of the mesh itself"
	}
	r.add(f)
}

// floats is how far a collider's top lies over what a node shows, in metres,
// where it does so on a quarter of the node's ground or more; else 0.
func (r *rehearsal) floats(world []geom.Mat4, collider, owner int) float64 {
	up := int(r.s.Basis.Up)
	g := &heights{up: abs(up) - 1, sign: 1}
	if up < 0 {
		g.sign = -1
	}
	parts := r.s.Meshes[r.s.Nodes[owner].Mesh].Parts
	box := geom.EmptyBox()
	for j := range parts {
		for v := range parts[j].Vertices() {
			box.Add(world[owner].Point(place(&parts[j], uint32(v))))
		}
	}
	if box.Empty() {
		return 0
	}
	g.over(box)
	seen, touched := g.empty(), g.empty()
	for j := range parts {
		g.raise(seen, &parts[j], world[owner])
	}
	c := r.s.Nodes[collider].Collider
	if c.Mesh >= 0 {
		for j := range r.s.Meshes[c.Mesh].Parts {
			g.raise(touched, &r.s.Meshes[c.Mesh].Parts[j], world[collider])
		}
	} else {
		p := c.Part()
		g.raise(touched, &p, world[collider])
	}
	both, floating, most := 0, 0, 0.0
	for k := range seen {
		if math.IsInf(seen[k], -1) || math.IsInf(touched[k], -1) {
			continue
		}
		both++
		if off := (touched[k] - seen[k]) * r.metres(); off > slackOver {
			floating++
			most = math.Max(most, off)
		}
	}
	if both == 0 || 4*floating < both {
		return 0
	}
	return most
}

// heights are the tops of surfaces over a ground of cells.
type heights struct {
	up   int // axis
	sign float64
	lo   [2]float64
	size [2]float64 // of a cell
}

func (g *heights) axes() (a, b int) { return (g.up + 1) % 3, (g.up + 2) % 3 }

// over lays the cells under a box.
func (g *heights) over(box geom.Box) {
	a, b := g.axes()
	for k, axis := range []int{a, b} {
		g.lo[k] = box.Min[axis]
		g.size[k] = math.Max(box.Max[axis]-box.Min[axis], 1e-12) / fitCells
	}
}

func (g *heights) empty() []float64 {
	out := make([]float64, fitCells*fitCells)
	for i := range out {
		out[i] = math.Inf(-1)
	}
	return out
}

func place(p *scene.Part, v uint32) geom.Vec3 {
	return geom.Vec3{float64(p.Positions[3*v]), float64(p.Positions[3*v+1]), float64(p.Positions[3*v+2])}
}

// raise lifts the cells whose middle a part's triangles cover.
func (g *heights) raise(to []float64, p *scene.Part, world geom.Mat4) {
	a, b := g.axes()
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		var v [3]geom.Vec3
		from, till := [2]int{fitCells, fitCells}, [2]int{-1, -1}
		for k := range 3 {
			v[k] = world.Point(place(p, p.Triangles[t+k]))
			for i, axis := range []int{a, b} {
				cell := int(math.Min(math.Max((v[k][axis]-g.lo[i])/g.size[i], -1), fitCells))
				from[i], till[i] = min(from[i], max(cell, 0)), max(till[i], min(cell, fitCells-1))
			}
		}
		d := (v[1][b]-v[2][b])*(v[0][a]-v[2][a]) + (v[2][a]-v[1][a])*(v[0][b]-v[2][b])
		if d == 0 {
			continue
		}
		for i := from[0]; i <= till[0]; i++ {
			x := g.lo[0] + (float64(i)+0.5)*g.size[0]
			for j := from[1]; j <= till[1]; j++ {
				y := g.lo[1] + (float64(j)+0.5)*g.size[1]
				m := ((v[1][b]-v[2][b])*(x-v[2][a]) + (v[2][a]-v[1][a])*(y-v[2][b])) / d
				n := ((v[2][b]-v[0][b])*(x-v[2][a]) + (v[0][a]-v[2][a])*(y-v[2][b])) / d
				if m < 0 || n < 0 || m+n > 1 {
					continue
				}
				h := g.sign * (m*v[0][g.up] + n*v[1][g.up] + (1-m-n)*v[2][g.up])
				to[i*fitCells+j] = math.Max(to[i*fitCells+j], h)
			}
		}
	}
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
