package scene

import (
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
)

// Shape is the form of a collider.
type Shape string

// The shapes.
const (
	ShapeBox     Shape = "box"
	ShapeSphere  Shape = "sphere"
	ShapeCapsule Shape = "capsule"
	ShapeHull    Shape = "hull" // convex, and its mesh is
	ShapeMesh    Shape = "mesh"
)

// Collider is the form by which things touch a node: about the node's origin,
// in its space. Nothing of it is seen. The shapes without a mesh are those of
// KHR_implicit_shapes.
type Collider struct {
	Shape  Shape      `json:"shape"`
	Size   [3]float32 `json:"size"`   // a box: the lengths of its edges
	Radius float32    `json:"radius"` // a sphere, a capsule
	Height float32    `json:"height"` // a capsule: between the centres of its ends
	Axis   int        `json:"axis"`   // a capsule lies along: 0 x, 1 y, 2 z
	Mesh   int        `json:"mesh"`   // a hull or mesh; else None
}

func (c *Collider) validate(meshes int) error {
	ok := func(list ...float32) bool {
		for _, x := range list {
			if !(x >= 0) || math.IsInf(float64(x), 0) {
				return false
			}
		}
		return true
	}
	meshed := c.Shape == ShapeHull || c.Shape == ShapeMesh
	switch {
	case !slices.Contains([]Shape{ShapeBox, ShapeSphere, ShapeCapsule, ShapeHull, ShapeMesh}, c.Shape):
		return fmt.Errorf("collider: %q is no shape", c.Shape)
	case !ok(c.Size[0], c.Size[1], c.Size[2], c.Radius, c.Height) || c.Axis < 0 || c.Axis > 2:
		return fmt.Errorf("collider: a length or axis is none")
	case meshed && (c.Mesh < 0 || c.Mesh >= meshes) || !meshed && c.Mesh != None:
		return fmt.Errorf("collider: mesh %d: there are %d", c.Mesh, meshes)
	}
	return nil
}

// inBasis is the collider in numbers of another basis; its mesh is turned with
// the others.
func (c *Collider) inBasis(by *geom.Change) *Collider {
	if c == nil {
		return nil
	}
	out := *c
	mapVec(out.Size[:], by.Scaling)
	k := float32(by.Scale)
	for i := range out.Size {
		out.Size[i] *= k
	}
	out.Radius, out.Height = c.Radius*k, c.Height*k
	out.Axis = slices.Index(by.Perm[:], c.Axis)
	return &out
}

// WithMesh is the collider where meshes have other numbers: to tells the new
// one of each.
func (c *Collider) WithMesh(to []int) *Collider {
	if c == nil || c.Mesh < 0 {
		return c
	}
	out := *c
	out.Mesh = to[c.Mesh]
	return &out
}

// Bare tells whether the node holds nothing.
func (n *Node) Bare() bool {
	return n.Mesh < 0 && n.Camera < 0 && n.Light < 0 && n.Collider == nil
}

// WithColliderMeshes is the scene with its colliders as plain meshes of their
// shapes, on nodes whose names end in suffix: for formats that know none. n is
// how many there are.
func (s *Scene) WithColliderMeshes(suffix string) (out *Scene, n int) {
	res := *s
	res.Nodes, res.Meshes = slices.Clone(s.Nodes), slices.Clone(s.Meshes)
	for i := range res.Nodes {
		node := &res.Nodes[i]
		if node.Collider == nil {
			continue
		}
		n++
		c := node.Collider
		node.Collider = nil
		if node.Name = withSuffix(node.Name, suffix); node.Mesh >= 0 { // a node that is seen as well
			x := NewNode(node.Name)
			node.Name = s.Nodes[i].Name
			x.Parent = i
			res.Nodes = append(res.Nodes, x)
			node = &res.Nodes[len(res.Nodes)-1]
		}
		if node.Mesh = c.Mesh; node.Mesh < 0 {
			node.Mesh = len(res.Meshes)
			res.Meshes = append(res.Meshes, Mesh{Name: node.Name, Parts: []Part{c.Part()}})
		}
	}
	return &res, n
}

func withSuffix(name, suffix string) string {
	if len(name) >= len(suffix) && name[len(name)-len(suffix):] == suffix {
		return name
	}
	return name + suffix
}

// roundSteps is in how many steps a quarter of a round shape is drawn.
const roundSteps = 4

// Part is the shape as triangles, for a collider without a mesh.
func (c *Collider) Part() Part {
	p := Part{Material: None}
	put := func(v geom.Vec3) uint32 {
		p.Positions = append(p.Positions, float32(v[0]), float32(v[1]), float32(v[2]))
		return uint32(len(p.Positions)/3 - 1)
	}
	if c.Shape == ShapeBox {
		for i := range 8 {
			var v geom.Vec3
			for k := range 3 {
				v[k] = (float64(i>>k&1) - 0.5) * float64(c.Size[k])
			}
			put(v)
		}
		p.Triangles = []uint32{0, 2, 3, 0, 3, 1, 4, 5, 7, 4, 7, 6, 0, 1, 5, 0, 5, 4, 2, 6, 7, 2, 7, 3, 0, 4, 6, 0, 6, 2, 1, 3, 7, 1, 7, 5}
		return p
	}
	// Rings from one pole to the other along the axis; a capsule has two round
	// its middle, half its height apart from it each.
	half := 0.0
	if c.Shape == ShapeCapsule {
		half = float64(c.Height) / 2
	}
	ring := func(angle, shift float64) (out []uint32) {
		sin, cos := math.Sincos(angle)
		for k := range 4 * roundSteps {
			s, t := math.Sincos(math.Pi / 2 * float64(k) / roundSteps)
			var v geom.Vec3
			v[c.Axis] = -cos*float64(c.Radius) + shift
			v[(c.Axis+1)%3], v[(c.Axis+2)%3] = sin*t*float64(c.Radius), sin*s*float64(c.Radius)
			out = append(out, put(v))
		}
		return out
	}
	var rings [][]uint32
	for k := 1; k < 2*roundSteps; k++ {
		angle := math.Pi / 2 * float64(k) / roundSteps
		if k <= roundSteps {
			rings = append(rings, ring(angle, -half))
		}
		if k > roundSteps || k == roundSteps && half > 0 {
			rings = append(rings, ring(angle, half))
		}
	}
	var low, high geom.Vec3
	low[c.Axis], high[c.Axis] = -half-float64(c.Radius), half+float64(c.Radius)
	bottom, top := put(low), put(high)
	n := len(rings[0])
	for k := range n {
		o := (k + 1) % n
		p.Triangles = append(p.Triangles, bottom, rings[0][o], rings[0][k])
		for i := range len(rings) - 1 {
			a, b := rings[i], rings[i+1]
			p.Triangles = append(p.Triangles, a[k], a[o], b[o], a[k], b[o], b[k])
		}
		last := rings[len(rings)-1]
		p.Triangles = append(p.Triangles, top, last[k], last[o])
	}
	return p
}
