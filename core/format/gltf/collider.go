package gltf

import (
	"fmt"
	"math"
	"slices"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
)

// Colliders by the extensions KHR_physics_rigid_bodies, section Colliders, and
// KHR_implicit_shapes, as drafted by Khronos in 2024. A hull or mesh names a
// mesh that no node shows.

type xCollider struct {
	Collider *struct {
		Geometry xGeometry `json:"geometry"`
	} `json:"collider,omitempty"`
}

type xGeometry struct {
	Shape  *int `json:"shape,omitempty"`
	Mesh   *int `json:"mesh,omitempty"`
	Convex bool `json:"convexHull,omitempty"`
}

// xShape is a shape of KHR_implicit_shapes. Spheres and capsules whose lengths
// are left out have the draft's: a radius of 0.5 and a height of 0.5.
type xShape struct {
	Type string `json:"type"`
	Box  *struct {
		Size *[3]float32 `json:"size,omitempty"`
	} `json:"box,omitempty"`
	Sphere *struct {
		Radius *float32 `json:"radius,omitempty"`
	} `json:"sphere,omitempty"`
	Capsule *xCapsule `json:"capsule,omitempty"`
}

// xCapsule lies along Y, and may be of two radii.
type xCapsule struct {
	Bottom *float32 `json:"radiusBottom,omitempty"`
	Top    *float32 `json:"radiusTop,omitempty"`
	Height *float32 `json:"height,omitempty"`
}

func (w *writer) collider(c *scene.Collider, g *node) {
	x := &xCollider{}
	x.Collider = &struct {
		Geometry xGeometry `json:"geometry"`
	}{}
	if c.Mesh >= 0 {
		m := w.mesh[c.Mesh]
		if m < 0 {
			w.lose("%d colliders without triangles were left out", 1)
			return
		}
		x.Collider.Geometry = xGeometry{Mesh: &m, Convex: c.Shape == scene.ShapeHull}
	} else {
		k := w.shape(c)
		x.Collider.Geometry.Shape = &k
	}
	if g.Extensions == nil {
		g.Extensions = &nodeExtensions{}
	}
	g.Extensions.Body = x
	w.use("KHR_physics_rigid_bodies")
}

// capsulesAlongY turns the nodes of capsules that lie along another axis. One
// that carries others, or moves, gets a node below it for the capsule.
func capsulesAlongY(s *scene.Scene) *scene.Scene {
	holds := make([]bool, len(s.Nodes))
	for i := range s.Nodes {
		if n := &s.Nodes[i]; n.Parent >= 0 {
			holds[n.Parent] = true
		}
		holds[i] = holds[i] || s.Nodes[i].Mesh >= 0 || s.Nodes[i].Camera >= 0 || s.Nodes[i].Light >= 0
	}
	for i := range s.Motions {
		for _, c := range s.Motions[i].Channels {
			holds[c.Node] = true
		}
	}
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	for i := range s.Nodes {
		c := s.Nodes[i].Collider
		if c == nil || c.Shape != scene.ShapeCapsule || c.Axis == 1 {
			continue
		}
		turn := geom.AxisAngle(geom.Vec3{1, 0, 0}, math.Pi/2) // Y to Z
		if c.Axis == 0 {
			turn = geom.AxisAngle(geom.Vec3{0, 0, 1}, -math.Pi/2)
		}
		along := *c
		along.Axis = 1
		n := &out.Nodes[i]
		if holds[i] {
			n.Collider = nil
			x := scene.NewNode(n.Name)
			x.Parent = i
			out.Nodes = append(out.Nodes, x)
			n = &out.Nodes[len(out.Nodes)-1]
		}
		r := n.Rotation
		q := geom.Quat{float64(r[0]), float64(r[1]), float64(r[2]), float64(r[3])}.Mul(turn).Norm()
		for k := range q {
			n.Rotation[k] = float32(q[k])
		}
		n.Collider = &along
	}
	return &out
}

func (w *writer) shape(c *scene.Collider) int {
	x := xShape{Type: string(c.Shape)}
	switch c.Shape {
	case scene.ShapeBox:
		x.Box = &struct {
			Size *[3]float32 `json:"size,omitempty"`
		}{&c.Size}
	case scene.ShapeSphere:
		x.Sphere = &struct {
			Radius *float32 `json:"radius,omitempty"`
		}{&c.Radius}
	case scene.ShapeCapsule:
		x.Capsule = &xCapsule{Bottom: &c.Radius, Top: &c.Radius, Height: &c.Height}
	}
	if w.doc.Extensions == nil {
		w.doc.Extensions = &docExtensions{}
	}
	if w.doc.Extensions.Shapes == nil {
		w.doc.Extensions.Shapes = &xShapes{}
		w.use("KHR_implicit_shapes")
	}
	list := &w.doc.Extensions.Shapes.Shapes
	*list = append(*list, x)
	return len(*list) - 1
}

type xShapes struct {
	Shapes []xShape `json:"shapes"`
}

// collider reads what a node says of how it is touched. What it says else of a
// body, its mass and motion, is of no scene.
func (r *reader) collider(x *xCollider, i int) (*scene.Collider, error) {
	if x == nil || x.Collider == nil {
		return nil, nil
	}
	at := fmt.Sprintf("nodes[%d].extensions.KHR_physics_rigid_bodies.collider.geometry", i)
	g := x.Collider.Geometry
	out := &scene.Collider{Mesh: scene.None}
	switch {
	case g.Mesh != nil:
		if *g.Mesh < 0 || *g.Mesh >= len(r.s.Meshes) {
			return nil, format.Errorf(at, "mesh %d: there are %d", *g.Mesh, len(r.s.Meshes))
		}
		out.Shape, out.Mesh = scene.ShapeMesh, *g.Mesh
		if g.Convex {
			out.Shape = scene.ShapeHull
		}
		return out, nil
	case g.Shape == nil:
		r.Lose("the form of a collider is not told")
		return nil, nil
	}
	var shapes []xShape
	if e := r.doc.Extensions; e != nil && e.Shapes != nil {
		shapes = e.Shapes.Shapes
	}
	if *g.Shape < 0 || *g.Shape >= len(shapes) {
		return nil, format.Errorf(at, "shape %d: there are %d", *g.Shape, len(shapes))
	}
	s := shapes[*g.Shape]
	out.Shape, out.Axis = scene.Shape(s.Type), 1
	switch out.Shape {
	case scene.ShapeBox:
		if out.Size = [3]float32{1, 1, 1}; s.Box != nil {
			out.Size = *or(s.Box.Size, out.Size)
		}
		out.Axis = 0
	case scene.ShapeSphere:
		if out.Radius, out.Axis = 0.5, 0; s.Sphere != nil {
			out.Radius = *or(s.Sphere.Radius, 0.5)
		}
	case scene.ShapeCapsule:
		c := xCapsule{}
		if s.Capsule != nil {
			c = *s.Capsule
		}
		bottom, top := *or(c.Bottom, 0.5), *or(c.Top, 0.5)
		if out.Radius, out.Height = max(bottom, top), *or(c.Height, 0.5); bottom != top {
			r.Lose("a capsule of two radii has the larger one at both ends")
		}
	default:
		r.Lose("a collider of the shape %q was left out", s.Type)
		return nil, nil
	}
	return out, nil
}
