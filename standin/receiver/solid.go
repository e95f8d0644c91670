package receiver

import (
	"fmt"
	"math"
)

// solidOf is a node's collider as triangles, and the kind of shape that it is
// (KHR_physics_rigid_bodies and KHR_implicit_shapes).
func (x *intake) solidOf(i int) (out []triangle, kind string, err error) {
	d := x.doc
	g := d.Nodes[i].Extensions.Body.Collider.Geometry
	if g.Mesh != nil {
		kind = "mesh"
		if g.ConvexHull {
			kind = "hull"
		}
		out, err = d.triangles(i, *g.Mesh)
		return out, kind, err
	}
	if g.Shape == nil || *g.Shape < 0 || *g.Shape >= len(d.Extensions.Shapes.Shapes) {
		return nil, "", fmt.Errorf("node %d: its collider has no shape", i)
	}
	s := d.Extensions.Shapes.Shapes[*g.Shape]
	switch s.Type {
	case "box":
		size := vec{1, 1, 1}
		if s.Box != nil && len(s.Box.Size) == 3 {
			size = vec(s.Box.Size)
		}
		return x.box(i, size), "box", nil
	case "sphere":
		r := 0.5
		if s.Sphere != nil && s.Sphere.Radius != nil {
			r = *s.Sphere.Radius
		}
		return x.round(i, r, 0), "sphere", nil
	case "capsule":
		r, h := 0.25, 0.5
		if c := s.Capsule; c != nil {
			if c.RadiusBottom != nil {
				r = *c.RadiusBottom
			}
			if c.Height != nil {
				h = *c.Height
			}
		}
		return x.round(i, r, h), "capsule", nil
	}
	return nil, s.Type, nil
}

// box is a box about a node's origin.
func (x *intake) box(i int, size vec) (out []triangle) {
	h := size.mul(0.5)
	at := func(k int) vec {
		v := h
		for a := range 3 {
			if k>>a&1 == 0 {
				v[a] = -v[a]
			}
		}
		return x.doc.world[i].point(v)
	}
	// Two triangles a side, seen from outside counter-clockwise.
	for _, q := range [][4]int{{0, 4, 6, 2}, {1, 3, 7, 5}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 2, 3, 1}, {4, 5, 7, 6}} {
		for _, t := range [][3]int{{q[0], q[1], q[2]}, {q[0], q[2], q[3]}} {
			out = append(out, triangle{[3]vec{at(t[0]), at(t[1]), at(t[2])}, i, -1})
		}
	}
	return out
}

// round is a ball, or a capsule along Y whose straight part is h high.
func (x *intake) round(i int, r, h float64) (out []triangle) {
	const around, rings = 16, 8
	at := func(a, k int) vec {
		polar := math.Pi * float64(k) / rings
		y := r * math.Cos(polar)
		if k <= rings/2 {
			y += h / 2
		} else {
			y -= h / 2
		}
		s, c := math.Sincos(2 * math.Pi * float64(a) / around)
		return x.doc.world[i].point(vec{r * math.Sin(polar) * c, y, r * math.Sin(polar) * s})
	}
	for a := range around {
		for k := range rings {
			out = append(out, triangle{[3]vec{at(a, k), at(a+1, k), at(a+1, k+1)}, i, -1},
				triangle{[3]vec{at(a, k), at(a+1, k+1), at(a, k+1)}, i, -1})
		}
	}
	return out
}
