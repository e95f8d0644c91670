package gltf

import (
	"fmt"
	"math"
	"slices"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// nodes reads the node tree (glTF 2.0, 3.5) into an order with parents first.
// Whatever names a node is told its new place.
func (r *reader) nodes() error {
	r.placeLibrary()
	r.unshear()
	if n := len(r.doc.Nodes); n > limit.Nodes {
		return format.Errorf("nodes", "%d nodes, at most %d are read", n, limit.Nodes)
	}
	parent, err := r.parents()
	if err != nil {
		return err
	}
	roots, err := r.roots(parent)
	if err != nil {
		return err
	}
	order, err := r.order(roots, parent)
	if err != nil {
		return err
	}
	r.lights()
	r.cameras()
	r.at = make([]int, len(r.doc.Nodes))
	for i := range r.at {
		r.at[i] = scene.None
	}
	for k, i := range order {
		r.at[i] = k
	}
	holders := r.holders(order)
	r.s.Nodes = make([]scene.Node, len(order))
	for k, i := range order {
		n, err := r.placed(i, holders)
		if err != nil {
			return err
		}
		if parent[i] >= 0 {
			n.Parent = r.at[parent[i]]
		}
		r.s.Nodes[k] = n
	}
	return r.renumber()
}

// placeLibrary gives each mesh a node where a file has meshes and no nodes: a
// library of meshes (3.5.1).
func (r *reader) placeLibrary() {
	n := len(r.doc.Meshes)
	if len(r.doc.Nodes) > 0 || n == 0 {
		return
	}
	r.doc.Scenes = nil
	for i := range min(n, limit.Nodes) {
		r.doc.Nodes = append(r.doc.Nodes, node{Name: r.doc.Meshes[i].Name, Mesh: &i})
	}
	r.s.Notes = append(r.s.Notes, scene.Note{Text: "the file places none of its meshes; each stands at the origin"})
}

// unshear puts a node above each whose matrix shears, which the format does
// not allow (glTF 2.0, 3.5.2), so that both together are the matrix.
func (r *reader) unshear() {
	g := r.doc.Nodes
	above := map[int]int{}
	for i := range g {
		if g[i].Matrix == nil {
			continue
		}
		n := scene.NewNode(g[i].Name)
		x := n.Place(geom.Mat4(*g[i].Matrix))
		if x == nil {
			continue
		}
		above[i] = len(r.doc.Nodes)
		r.doc.Nodes[i].Matrix, r.doc.Nodes[i].Rotation = nil, &n.Rotation
		r.doc.Nodes = append(
			r.doc.Nodes,
			node{
				Name:        x.Name,
				Children:    []int{i},
				Translation: &x.Translation,
				Rotation:    &x.Rotation,
				Scale:       &x.Scale,
			},
		)
	}
	if len(above) == 0 {
		return
	}
	lists := make([][]int, 0, len(g)+len(r.doc.Scenes))
	for i := range g {
		lists = append(lists, r.doc.Nodes[i].Children)
	}
	for i := range r.doc.Scenes {
		lists = append(lists, r.doc.Scenes[i].Nodes)
	}
	for _, l := range lists {
		for k, i := range l {
			if a, ok := above[i]; ok {
				l[k] = a
			}
		}
	}
}

// parents is each node's parent, of which it has one at most (3.5.2).
func (r *reader) parents() ([]int, error) {
	g := r.doc.Nodes
	parent := make([]int, len(g))
	for i := range parent {
		parent[i] = scene.None
	}
	for i := range g {
		for _, c := range g[i].Children {
			at := fmt.Sprintf("nodes[%d].children", i)
			if c < 0 || c >= len(g) {
				return nil, format.Errorf(at, "node %d: there are %d", c, len(g))
			}
			if parent[c] >= 0 {
				return nil, format.Errorf(at, "node %d %q has two parents, %d and %d", c, g[c].Name, parent[c], i)
			}
			parent[c] = i
		}
	}
	return parent, nil
}

// roots are the nodes that the chosen scene begins with, and the topmost nodes
// of every skeleton, which a scene need not hold (3.7.3.2). Without scenes they
// are all that hang below none.
func (r *reader) roots(parent []int) (roots []int, err error) {
	if len(r.doc.Scenes) == 0 {
		return topmost(parent), nil
	}
	k := 0
	if r.doc.Scene != nil {
		k = *r.doc.Scene
	}
	k = r.whichScene(k)
	if k < 0 || k >= len(r.doc.Scenes) {
		return nil, format.Errorf("scene", "scene %d: there are %d", k, len(r.doc.Scenes))
	}
	for _, n := range r.doc.Scenes[k].Nodes {
		if n < 0 || n >= len(parent) {
			return nil, format.Errorf(fmt.Sprintf("scenes[%d].nodes", k), "node %d: there are %d", n, len(parent))
		}
		roots = append(roots, n)
	}
	walked := make([]bool, len(parent))
	for _, s := range r.doc.Skins {
		for _, j := range s.Joints {
			for j >= 0 && j < len(parent) && !walked[j] {
				walked[j] = true
				if parent[j] < 0 {
					roots = append(roots, j)
				}
				j = parent[j]
			}
		}
	}
	return roots, nil
}

// topmost are the nodes that hang below none.
func topmost(parent []int) (out []int) {
	for i, p := range parent {
		if p < 0 {
			out = append(out, i)
		}
	}
	return out
}

// order lists all that hangs below roots, parents first: in the file's order
// where that has parents first, else breadth first.
func (r *reader) order(roots, parent []int) ([]int, error) {
	g := r.doc.Nodes
	keep := make([]bool, len(g))
	var order []int
	add := func(list []int) {
		for _, n := range list {
			if !keep[n] {
				keep[n] = true
				order = append(order, n)
			}
		}
	}
	add(roots)
	for k := 0; k < len(order); k++ {
		add(g[order[k]].Children)
	}
	if len(order) < len(g) { // they hang on other scenes, or on a ring
		if err := r.ring(parent); err != nil {
			return nil, err
		}
		r.Lose("%d nodes that the default scene does not show were left out", len(g)-len(order))
	}
	inOrder := true
	for _, i := range order {
		inOrder = inOrder && parent[i] < i
	}
	if inOrder {
		slices.Sort(order)
	}
	return order, nil
}

// ring names a node that no topmost node reaches.
func (r *reader) ring(parent []int) error {
	g := r.doc.Nodes
	reached := make([]bool, len(g))
	all := topmost(parent)
	for k := 0; k < len(all); k++ {
		reached[all[k]] = true
		all = append(all, g[all[k]].Children...)
	}
	if i := slices.Index(reached, false); i >= 0 {
		return format.Errorf(
			fmt.Sprintf("nodes[%d]", i),
			"node %q is its own ancestor, or hangs below one that is",
			g[i].Name,
		)
	}
	return nil
}

// lights reads KHR_lights_punctual, with its defaults.
func (r *reader) lights() {
	if r.doc.Extensions == nil || r.doc.Extensions.Lights == nil {
		return
	}
	for _, l := range r.doc.Extensions.Lights.Lights {
		out := scene.Light{Name: l.Name, Type: l.Type, Colour: [3]float32{1, 1, 1}, Intensity: 1}
		if l.Colour != nil {
			out.Colour = *l.Colour
		}
		if l.Intensity != nil {
			out.Intensity = *l.Intensity
		}
		if out.Range = l.Range; l.Type == "spot" {
			out.Outer = math.Pi / 4
			if l.Spot != nil {
				out.Inner, out.Outer = l.Spot.Inner, *or(l.Spot.Outer, math.Pi/4)
			}
		}
		r.s.Lights = append(r.s.Lights, out)
	}
}

// cameras reads 3.10.
func (r *reader) cameras() {
	for _, c := range r.doc.Cameras {
		out := scene.Camera{Name: c.Name, Near: 0.1, Far: 1000, FovY: math.Pi / 4}
		if p := c.Perspective; p != nil {
			out.FovY, out.Aspect, out.Near, out.Far = p.YFov, p.Aspect, p.ZNear, p.ZFar
		}
		if o := c.Orthographic; o != nil {
			out.Orthographic, out.Height, out.Near, out.Far = true, o.YMag, o.ZNear, o.ZFar
			if o.YMag != 0 {
				out.Aspect = o.XMag / o.YMag
			}
		}
		r.s.Cameras = append(r.s.Cameras, out)
	}
}

// holders counts the nodes that show each mesh.
func (r *reader) holders(order []int) []int {
	n := make([]int, len(r.s.Meshes))
	for _, i := range order {
		if m := r.doc.Nodes[i].Mesh; m != nil && *m >= 0 && *m < len(n) {
			n[*m]++
		}
	}
	return n
}

// placed reads what a node is and where it stands below its parent.
func (r *reader) placed(i int, holders []int) (n scene.Node, err error) {
	g := &r.doc.Nodes[i]
	n = scene.NewNode(g.Name)
	n.Props = g.Extras
	if m := g.Matrix; m != nil {
		t, q, s, _ := geom.Mat4(*m).Decompose()
		n.Put(t, q, s)
	}
	if t := g.Translation; t != nil {
		n.Translation = *t
	}
	if q := g.Rotation; q != nil {
		u := geom.Quat{float64(q[0]), float64(q[1]), float64(q[2]), float64(q[3])}.Norm()
		for c := range u {
			n.Rotation[c] = float32(u[c])
		}
	}
	if s := g.Scale; s != nil {
		n.Scale = *s
	}
	n.Mesh, n.Skin, n.Camera = *or(g.Mesh, scene.None), *or(g.Skin, scene.None), *or(g.Camera, scene.None)
	if x := g.Extensions; x != nil {
		if x.Light != nil {
			n.Light = x.Light.Light
		}
		if n.Collider, err = r.collider(x.Body, i); err != nil {
			return n, err
		}
	}
	if len(g.Weights) > 0 && n.Mesh >= 0 && n.Mesh < len(holders) {
		r.nodeWeights(g.Weights, n.Mesh, holders[n.Mesh])
	}
	return n, nil
}

// nodeWeights are morph weights that a node gives its mesh (3.5.3). A scene has
// them at the mesh, so that several nodes cannot differ in them.
func (r *reader) nodeWeights(weights []float32, mesh, holders int) {
	if holders > 1 {
		r.Lose("morph weights of a node were left out: another node shows its mesh too")
		return
	}
	for _, p := range r.s.Meshes[mesh].Parts {
		for t := range p.Morphs[:min(len(p.Morphs), len(weights))] {
			p.Morphs[t].Weight = weights[t]
		}
	}
}

// renumber gives skins and animations, which name nodes by their place in the
// file, those in the scene.
func (r *reader) renumber() error {
	n := len(r.at)
	for i := range r.doc.Skins {
		s := &r.doc.Skins[i]
		for j, k := range s.Joints {
			if k < 0 || k >= n || r.at[k] < 0 {
				return format.Errorf(fmt.Sprintf("skins[%d].joints", i), "node %d: there are %d", k, n)
			}
			s.Joints[j] = r.at[k]
		}
		if s.Skeleton != nil {
			k := *s.Skeleton
			if k < 0 || k >= n {
				return format.Errorf(fmt.Sprintf("skins[%d].skeleton", i), "node %d: there are %d", k, n)
			}
			s.Skeleton = &r.at[k]
		}
	}
	for i := range r.doc.Animations {
		for j := range r.doc.Animations[i].Channels {
			c := &r.doc.Animations[i].Channels[j]
			if c.Target.Node == nil {
				continue
			}
			k := *c.Target.Node
			if k < 0 || k >= n {
				return format.Errorf(fmt.Sprintf("animations[%d].channels[%d]", i, j), "node %d: there are %d", k, n)
			}
			c.Target.Node = &r.at[k]
		}
	}
	return nil
}
