package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// PivotParams says where the origin of each chosen node comes to lie.
type PivotParams struct {
	Where
	To    string      `json:"to" jsonschema:"title=Pivot to,enum=centre,enum=foot,enum=world,enum=point,description=The middle of what the node shows; the middle of its lower face; the world's origin; or a point"`
	Point *[3]float64 `json:"point,omitempty" jsonschema:"title=The point,description=x y z in metres along the scene's axes" jsonschema_extras:"unit=m"`
}

// Validate refuses a point that is not given.
func (p *PivotParams) Validate() error {
	if (p.To == "point") != (p.Point != nil) {
		return fmt.Errorf("give the point that the pivot goes to, or another place for it")
	}
	return p.Where.Validate()
}

var _ = register(Kind{Name: "pivot", Title: "Set the pivot", Family: Geometry, On: Nodes, Version: 1,
	Purpose: "Move the origin of nodes to the middle or foot of what they show, without moving what is seen."},
	PivotParams{To: "centre"}, pivot)

func pivot(_ context.Context, s *scene.Scene, p PivotParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	if p.To == "foot" && s.Basis.Up == 0 {
		return nil, errNoUp
	}
	fixed := fixedNodes(s)
	world := s.World()
	want := slices.Clone(world)
	var set, kept int
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if !c.Nodes[i] || n.Mesh < 0 {
			continue
		}
		if fixed[i] || n.Skin >= 0 {
			kept++
			continue
		}
		to, ok := pivotOf(s, i, p, world)
		if !ok {
			continue
		}
		for k := range to {
			want[i][12+k] = to[k]
		}
		if want[i] != world[i] {
			set++
		}
	}
	if set == 0 {
		r.Nothing("no pivot is elsewhere%s",
			ifAny(kept, ", but for %s", count(kept, "node that moves or is bound", "nodes that move or are bound")))
		return s, nil
	}
	r.Say("%s set", count(set, "pivot", "pivots"))
	if kept > 0 {
		r.Say("%s: motions or skins need them", count(kept, "stays", "stay"))
	}
	return placed(s, world, want), nil
}

func ifAny(n int, f, what string) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(f, what)
}

// pivotOf is where a node's pivot goes, in world space.
func pivotOf(s *scene.Scene, node int, p PivotParams, world []geom.Mat4) (geom.Vec3, bool) {
	switch p.To {
	case "world":
		return geom.Vec3{}, true
	case "point":
		unit := s.Basis.MetresPerUnit
		if unit == 0 {
			unit = 1
		}
		return geom.Vec3(*p.Point).Mul(1 / unit), true
	}
	box := geom.EmptyBox()
	parts := s.Meshes[s.Nodes[node].Mesh].Parts
	for j := range parts {
		x := parts[j].Positions
		for v := 0; v+2 < len(x); v += 3 {
			box.Add(world[node].Point(geom.Vec3{float64(x[v]), float64(x[v+1]), float64(x[v+2])}))
		}
	}
	if box.Empty() {
		return geom.Vec3{}, false
	}
	to, err := pointOf(s, box, p.To)
	return to, err == nil
}
