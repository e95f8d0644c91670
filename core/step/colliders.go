package step

import (
	"context"
	"fmt"

	"excavate/core/geom"
	"excavate/core/hull"
	"excavate/core/limit"
	"excavate/core/scene"
)

// CollidersParams says what things touch by.
type CollidersParams struct {
	Where
	Shape   string `json:"shape" jsonschema:"title=Shape,enum=box,enum=sphere,enum=capsule,enum=hull,enum=hulls,enum=mesh,description=hulls are a few convex ones for a hollow shape; mesh is the thing itself"`
	Fit     bool   `json:"fit" jsonschema:"title=Turn to fit,description=Boxes and capsules turn to the smallest there is; else a box lies along the node's axes"`
	Corners int    `json:"corners" jsonschema:"title=Corners of a hull at most,minimum=4,maximum=256"`
	Hulls   int    `json:"hulls" jsonschema:"title=Hulls at most,minimum=2,maximum=64"`
	Tag     string `json:"tag,omitempty" jsonschema:"title=Tag,maxLength=200,description=What targets find them by; kept as the property tag of each"`
}

var _ = register(Kind{Name: "colliders", Title: "Colliders", Family: Geometry, On: Nodes, Version: 2,
	Purpose: "Give each chosen node a collider to stand on and bump into: box, sphere, capsule, hull, several hulls, or the mesh itself."},
	CollidersParams{Shape: "box", Corners: 32, Hulls: 8}, colliders)

func colliders(ctx context.Context, s *scene.Scene, p CollidersParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.choose(s, r)
	if err != nil || !any {
		return s, err
	}
	has := make([]bool, len(s.Nodes)) // a collider, its own or one right below
	for i := range s.Nodes {
		if s.Nodes[i].Collider == nil {
			continue
		}
		has[i] = true
		if up := s.Nodes[i].Parent; up >= 0 {
			has[up] = true
		}
	}
	f := &fitter{s: s, p: p, world: s.World(), out: *s}
	f.out.Nodes, f.out.Meshes = cloned(s.Nodes), cloned(s.Meshes)
	var made, flat, already int
	var bare, crushed []string
	for i := range s.Nodes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		switch {
		case s.Nodes[i].Mesh < 0:
			continue
		case !c.Nodes[i]:
			if !has[i] {
				bare = append(bare, s.Nodes[i].Name)
			}
			continue
		case has[i]:
			already++
			continue
		}
		if _, ok := f.world[i].Inverse(); !ok { // it has no place for a collider
			crushed = append(crushed, s.Nodes[i].Name)
			continue
		}
		tri := f.shown(i, func(part int) []bool { return taken(s, c.Part(i, part), c.Triangles(i, part), i, part) })
		n, err := f.fit(i, tri)
		if err != nil {
			return nil, err
		}
		if made += n; n == 0 {
			flat++
		}
	}
	if made == 0 {
		r.Nothing("%s",
			first(ifAny(already, "%s", count(already, "node has a collider already", "nodes have colliders already")), "nothing that is chosen has a surface or a body to touch"))
		return s, nil
	}
	r.Say("%s made (%s)", count(made, "collider", "colliders"), p.Shape)
	if already > 0 {
		r.Say("%s one already", count(already, "node has", "nodes have"))
	}
	if flat > 0 {
		r.Say("%s flat or empty: a hull needs a body. Choose box or mesh for them",
			count(flat, "node is", "nodes are"))
	}
	if f.sticks > 0 {
		r.Say("with %d corners a hull leaves at most %s outside", p.Corners, length(s, f.sticks))
	}
	if len(crushed) > 0 {
		r.Say("scaled to nothing, and so without one: %s", named(crushed))
	}
	if len(bare) > 0 {
		r.Say("%s without one: %s", count(len(bare), "node is", "nodes are"), named(bare))
	}
	return &f.out, nil
}

func first(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func cloned[T any](list []T) []T { return append([]T(nil), list...) }

// length is a length of the scene's in metres, or in its own unit where that
// is not known.
func length(s *scene.Scene, d float64) string {
	if m := s.Basis.MetresPerUnit; m > 0 {
		if d*m < 1e-5 { // what is left of rounding
			return "less than 0.01 mm"
		}
		return fmt.Sprintf("%.3g m", d*m)
	}
	return fmt.Sprintf("%.3g of the file's units", d)
}

// taken marks the triangles of a part that are chosen.
func taken(s *scene.Scene, whole bool, some []bool, node, part int) []bool {
	if some != nil || !whole {
		return some
	}
	all := make([]bool, len(s.Meshes[s.Nodes[node].Mesh].Parts[part].Triangles)/3)
	for i := range all {
		all[i] = true
	}
	return all
}

// fitter puts colliders on nodes.
type fitter struct {
	s      *scene.Scene
	p      CollidersParams
	world  []geom.Mat4
	out    scene.Scene
	sticks float64 // how far things stand out of hulls, at most
	meshes map[[32]byte]int
}

// shown is the triangles that a node shows of what is chosen, in world space
// at rest, relative to origin: the place of the node, so that those far away
// keep their shape.
func (f *fitter) shown(node int, chosen func(part int) []bool) (tri [][3]geom.Vec3) {
	w := f.world[node]
	origin := geom.Vec3{w[12], w[13], w[14]}
	parts := f.s.Meshes[f.s.Nodes[node].Mesh].Parts
	for j := range parts {
		on := chosen(j)
		if on == nil {
			continue
		}
		q := parts[j]
		at := func(v uint32) geom.Vec3 { return w.Point(at3(q.Positions, v)).Sub(origin) }
		if f.s.Nodes[node].Skin >= 0 && q.Influences > 0 {
			pos, _ := f.s.Posed(node, &q, f.world)
			at = func(v uint32) geom.Vec3 { return at3(pos, v).Sub(origin) }
		}
		for t := range on {
			if on[t] {
				tri = append(tri, [3]geom.Vec3{at(q.Triangles[3*t]), at(q.Triangles[3*t+1]), at(q.Triangles[3*t+2])})
			}
		}
	}
	if w.Det3() < 0 { // a mirror turns them round
		for i := range tri {
			tri[i][1], tri[i][2] = tri[i][2], tri[i][1]
		}
	}
	return tri
}

// fit adds the colliders of a node and tells how many.
func (f *fitter) fit(node int, tri [][3]geom.Vec3) (int, error) {
	if len(tri) == 0 {
		return 0, nil
	}
	var points []geom.Vec3
	for _, t := range tri {
		points = append(points, t[:]...)
	}
	_, turn, _, _ := f.world[node].Decompose()
	frame := hull.Frame{turn.Rotate(hull.Axes[0]), turn.Rotate(hull.Axes[1]), turn.Rotate(hull.Axes[2])}
	if f.p.Fit || f.p.Shape == "capsule" {
		frame = hull.Best(points)
	}
	x := scene.Collider{Shape: scene.Shape(f.p.Shape), Mesh: scene.None}
	switch f.p.Shape {
	case "box":
		c, size := frame.Box(points)
		for k := range size {
			x.Size[k] = float32(size[k])
		}
		return 1, f.put(node, c, frame.Quat(), &x)
	case "sphere":
		c, radius := hull.Ball(points)
		x.Radius = float32(radius)
		return 1, f.put(node, c, geom.IdentityQuat, &x)
	case "capsule":
		_, size := frame.Box(points)
		long := 0
		for k := range size {
			if size[k] > size[long] {
				long = k
			}
		}
		frame = hull.Frame{frame[(long+2)%3], frame[long], frame[(long+1)%3]} // along its second
		c, radius, height := frame.Capsule(points, 1)
		x.Radius, x.Height, x.Axis = float32(radius), float32(height), 1
		return 1, f.put(node, c, frame.Quat(), &x)
	case "mesh":
		part := scene.Part{Material: scene.None}
		for _, t := range tri {
			for _, v := range t {
				part.Triangles = append(part.Triangles, uint32(part.Vertices()))
				part.Positions = append(part.Positions, float32(v[0]), float32(v[1]), float32(v[2]))
			}
		}
		return 1, f.meshed(node, &x, *Weld(&part, 0, 0).Part)
	}
	hulls := hull.Convex(tri, 1)
	if f.p.Shape == "hulls" {
		hulls = hull.Convex(tri, f.p.Hulls)
	}
	x.Shape = scene.ShapeHull
	for _, h := range hulls {
		if len(h.Corners) > f.p.Corners {
			h, _ = hull.Of(h.Corners, f.p.Corners)
			f.sticks = max(f.sticks, h.Out)
		}
		part := scene.Part{Material: scene.None}
		for _, v := range h.Corners {
			part.Positions = append(part.Positions, float32(v[0]), float32(v[1]), float32(v[2]))
		}
		for _, t := range h.Faces {
			part.Triangles = append(part.Triangles, uint32(t[0]), uint32(t[1]), uint32(t[2]))
		}
		one := x
		if err := f.meshed(node, &one, part); err != nil {
			return 0, err
		}
	}
	return len(hulls), nil
}

// meshed puts a collider of a mesh; nodes whose colliders are the same share it.
func (f *fitter) meshed(node int, x *scene.Collider, part scene.Part) error {
	m := scene.Mesh{Parts: []scene.Part{part}}
	key := m.Digest()
	k, ok := f.meshes[key]
	if !ok {
		if f.meshes == nil {
			f.meshes = map[[32]byte]int{}
		}
		k = len(f.out.Meshes)
		f.meshes[key] = k
		m.Name = f.s.Nodes[node].Name + " collider"
		f.out.Meshes = append(f.out.Meshes, m)
	}
	x.Mesh = k
	return f.put(node, geom.Vec3{}, geom.IdentityQuat, x)
}

// put adds a node for a collider below the one that it is of. at and turn are
// in world space, at relative to the node's place.
func (f *fitter) put(node int, at geom.Vec3, turn geom.Quat, x *scene.Collider) error {
	if len(f.out.Nodes) >= limit.Nodes {
		return fmt.Errorf("more than %d nodes", limit.Nodes)
	}
	w := f.world[node]
	want := geom.TRS(at.Add(geom.Vec3{w[12], w[13], w[14]}), turn, geom.Vec3{1, 1, 1})
	n := scene.NewNode(f.s.Nodes[node].Name + " collider")
	n.Parent, n.Collider = node, x
	if f.p.Tag != "" {
		n.Props = []scene.Prop{{Key: "tag", Value: f.p.Tag}}
	}
	inv, ok := w.Inverse()
	if !ok {
		return fmt.Errorf("the node %s is scaled to nothing: it has no place for a collider",
			f.s.Nodes[node].Name)
	}
	if above := n.Place(inv.Mul(want)); above != nil {
		f.out.Nodes = append(f.out.Nodes, *above)
		n.Parent = len(f.out.Nodes) - 1
	}
	f.out.Nodes = append(f.out.Nodes, n)
	return nil
}
