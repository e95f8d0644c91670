package step

import (
	"context"

	"excavate/core/geom"
	"excavate/core/scene"
)

// CentreParams says which point of the asset comes to the origin.
type CentreParams struct {
	To string `json:"to" jsonschema:"title=Onto the origin,enum=middle,enum=foot,description=The middle of the asset's box or the middle of its lower face"`
}

var _ = register(Kind{Name: "centre", Title: "Centre", Family: Basis, Version: 1,
	Purpose: "Move the asset so that its middle, or the middle of its foot, lies on the origin."},
	CentreParams{To: "foot"}, centre)

func centre(_ context.Context, s *scene.Scene, p CentreParams, r *Report) (*scene.Scene, error) {
	box := s.Bounds()
	if box.Empty() {
		r.Nothing("there is no mesh to centre")
		return s, nil
	}
	point, err := pointOf(s, box, p.To)
	if err != nil {
		return nil, err
	}
	if point.Len() <= 1e-7*box.Size().Len() {
		r.Nothing("its %s lies on the origin already", p.To)
		return s, nil
	}
	r.Say("moved by %s", lengths(s, point.Mul(-1)))
	return Translated(s, point.Mul(-1)), nil
}

// pointOf is the middle of a box, or the middle of its lower face.
func pointOf(s *scene.Scene, box geom.Box, to string) (geom.Vec3, error) {
	c := box.Centre()
	if to != "foot" {
		return c, nil
	}
	if s.Basis.Up == 0 {
		return c, errNoUp
	}
	up := s.Basis.Up.Vec()
	low := min(box.Min.Dot(up), box.Max.Dot(up))
	return c.Add(up.Mul(low - c.Dot(up))), nil
}
