package step

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// TurnParams says by how much the asset turns, and about what.
type TurnParams struct {
	Degrees float64 `json:"degrees" jsonschema:"title=Degrees,minimum=-3600,maximum=3600,description=Counter-clockwise seen against the axis" jsonschema_extras:"unit=degrees"`
	Axis    string  `json:"axis" jsonschema:"title=About,enum=up,enum=front,enum=right"`
	ToGrid  bool    `json:"to_grid" jsonschema:"title=Square to the grid,description=About the up axis so that the walls follow the other two; the degrees are not used"`
}

var _ = register(Kind{Name: "turn", Title: "Turn", Family: Basis, Version: 1,
	Purpose: "Turn the whole asset about the origin by degrees, or so that its walls are square to the grid."},
	TurnParams{Axis: "up"}, turn)

func turn(_ context.Context, s *scene.Scene, p TurnParams, r *Report) (*scene.Scene, error) {
	if !s.Basis.Oriented() {
		return nil, fmt.Errorf("nothing declares which way is up and which is front: change the basis first")
	}
	degrees := p.Degrees
	axis := s.Basis.Up.Vec()
	switch {
	case p.ToGrid:
		a, share, ok := wallAngle(s)
		if !ok {
			r.Nothing("no wall stands upright: there is nothing to square")
			return s, nil
		}
		degrees = -a * 180 / math.Pi
		r.Say("walls that agree: %.0f%% of their area", 100*share)
	case p.Axis == "front":
		axis = s.Basis.Front.Vec()
	case p.Axis == "right":
		axis = s.Basis.RightVec()
	}
	if math.Abs(math.Remainder(degrees, 360)) < 1e-4 {
		r.Nothing("it stands that way already")
		return s, nil
	}
	r.Say("turned by %.4g°", degrees)
	// A left-handed scene counts angles the other way round.
	if s.Basis.Handed == geom.Left {
		degrees = -degrees
	}
	return Rotated(s, geom.AxisAngle(axis, degrees*math.Pi/180)), nil
}

// Rotated turns the whole scene about the origin: every root node, and the
// motions that place root nodes. A node that only holds a skinned mesh stays:
// its bones place it.
func Rotated(s *scene.Scene, q geom.Quat) *scene.Scene {
	out := *s
	out.Nodes, out.Motions = slices.Clone(s.Nodes), slices.Clone(s.Motions)
	parent := make([]bool, len(s.Nodes))
	for i := range s.Nodes {
		if p := s.Nodes[i].Parent; p >= 0 {
			parent[p] = true
		}
	}
	vec := func(v []float32) {
		x := q.Rotate(geom.Vec3{float64(v[0]), float64(v[1]), float64(v[2])})
		v[0], v[1], v[2] = float32(x[0]), float32(x[1]), float32(x[2])
	}
	quat := func(v []float32) {
		x := q.Mul(geom.Quat{float64(v[0]), float64(v[1]), float64(v[2]), float64(v[3])})
		for k := range x {
			v[k] = float32(x[k])
		}
	}
	for i := range out.Nodes {
		if n := &out.Nodes[i]; n.Parent < 0 && (n.Skin < 0 || parent[i]) {
			vec(n.Translation[:])
			quat(n.Rotation[:])
		}
	}
	for i := range out.Motions {
		ch := slices.Clone(out.Motions[i].Channels)
		for j := range ch {
			c := &ch[j]
			if s.Nodes[c.Node].Parent >= 0 || c.Path != scene.PathTranslation && c.Path != scene.PathRotation {
				continue
			}
			// Tangents turn like values: the map is linear.
			c.Values = slices.Clone(c.Values)
			for k := 0; k+c.Per() <= len(c.Values); k += c.Per() {
				if c.Path == scene.PathTranslation {
					vec(c.Values[k:])
				} else {
					quat(c.Values[k:])
				}
			}
		}
		out.Motions[i].Channels = ch
	}
	return &out
}

// upright is how far from the horizontal a wall's normal may point.
const upright = 0.1

// wallAngle is the angle about the up axis by which the walls are off the
// grid, from -45 to 45 degrees, and which share of their area agrees. Each
// wall's direction counts with its area, as a number of four times its angle,
// in which the four sides of a square house are one direction (the mean of
// axial data, Fisher, Statistical Analysis of Circular Data, section 2.4).
func wallAngle(s *scene.Scene) (angle, share float64, ok bool) {
	up, front := s.Basis.Up.Vec(), s.Basis.Front.Vec()
	side := up.Cross(front)
	world := s.World()
	var x, y, area float64
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 {
			continue
		}
		parts := s.Meshes[s.Nodes[i].Mesh].Parts
		for j := range parts {
			pos, _ := s.Posed(i, &parts[j], world)
			at := func(v uint32) geom.Vec3 {
				return geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])}
			}
			t := parts[j].Triangles
			for k := 0; k+2 < len(t); k += 3 {
				a := at(t[k])
				n := at(t[k+1]).Sub(a).Cross(at(t[k+2]).Sub(a))
				l := n.Len()
				if l == 0 || math.Abs(n.Dot(up)) > upright*l {
					continue
				}
				w := math.Atan2(n.Dot(side), n.Dot(front))
				sin, cos := math.Sincos(4 * w)
				x, y, area = x+l*cos, y+l*sin, area+l
			}
		}
	}
	if area == 0 || math.Hypot(x, y) < 1e-9*area {
		return 0, 0, false
	}
	angle = math.Atan2(y, x) / 4
	if s.Basis.Handed == geom.Left {
		angle = -angle // side was taken by the right hand
	}
	return angle, math.Hypot(x, y) / area, true
}
