package step

import (
	"context"

	"excavate/core/pick"
	"excavate/core/scene"
)

// DropLooseParams says which loose pieces are too small.
type DropLooseParams struct {
	Where
	Smaller float64 `json:"smaller" jsonschema:"title=Smaller than,exclusiveMinimum=0,maximum=1e+06,description=By the longest side of a piece" jsonschema_extras:"unit=m,shown=mm"`
}

var _ = register(Kind{Name: "drop-loose", Title: "Drop loose pieces", Family: Clean, On: Parts, Version: 1,
	Purpose: "Take out pieces that hang together with nothing else and are smaller than a length."},
	DropLooseParams{Smaller: 0.01}, dropLoose)

func dropLoose(_ context.Context, s *scene.Scene, p DropLooseParams, r *Report) (*scene.Scene, error) {
	rule := pick.Rule{}
	if p.Where.Where != nil {
		rule = *p.Where.Where
	}
	if rule.Loose == nil || rule.Loose.Smaller > p.Smaller {
		rule.Loose = &pick.Loose{Smaller: p.Smaller}
	}
	c, err := pick.Of(s, &rule)
	if err != nil {
		return nil, err
	}
	if c.None() {
		r.Nothing("no loose piece is smaller than %.4g m", p.Smaller)
		return s, nil
	}
	return takeOut(s, c, true, r)
}
