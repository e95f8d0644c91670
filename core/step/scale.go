package step

import (
	"context"
	"fmt"

	"excavate/core/geom"
	"excavate/core/scene"
)

// ScaleParams says how large the asset becomes.
type ScaleParams struct {
	Height float64 `json:"height,omitempty" jsonschema:"title=To a height of,minimum=0,maximum=1e+06,description=0 leaves it to the factor" jsonschema_extras:"unit=m"`
	Factor float64 `json:"factor,omitempty" jsonschema:"title=By a factor,minimum=0,maximum=1e+09,description=Used where no height is given"`
}

// Validate refuses a size that is none.
func (p *ScaleParams) Validate() error {
	if p.Height == 0 && p.Factor == 0 {
		return fmt.Errorf("give a height in metres, or a factor")
	}
	return nil
}

var _ = register(Kind{Name: "scale", Title: "Scale", Family: Basis, Version: 1,
	Purpose: "Make the whole asset larger or smaller, with its skeleton and motions."},
	ScaleParams{Factor: 1}, scale)

func scale(_ context.Context, s *scene.Scene, p ScaleParams, r *Report) (*scene.Scene, error) {
	f := p.Factor
	if p.Height > 0 {
		st := s.Stats()
		switch {
		case s.Basis.MetresPerUnit == 0:
			return nil, fmt.Errorf("nothing declares the unit, so that no height in metres is known: change the basis first, or give a factor")
		case st.Height == nil:
			return nil, errNoUp
		case *st.Height == 0:
			return nil, fmt.Errorf("the asset has no height to scale")
		}
		f = p.Height / *st.Height
	}
	if f == 1 || p.Height > 0 && f > 1-1e-7 && f < 1+1e-7 {
		r.Nothing("it has that size already")
		return s, nil
	}
	out, err := Scaled(s, f)
	if err != nil {
		return nil, err
	}
	r.Say("scaled by %.6g", f)
	if a, b := s.Stats().Height, out.Stats().Height; a != nil && b != nil {
		r.Say("height %.4g → %.4g m", *a, *b)
	}
	return out, nil
}

// Scaled is the scene with all lengths times f: the same asset in a unit that
// is 1/f as large, called by the old unit's name.
func Scaled(s *scene.Scene, f float64) (*scene.Scene, error) {
	from := *s
	from.Basis = s.Basis.Completed(geom.GLTF)
	to := from.Basis
	to.MetresPerUnit = from.Basis.MetresPerUnit / f
	out, err := from.InBasis(to)
	if err != nil {
		return nil, err
	}
	out.Basis = s.Basis
	return out, nil
}
