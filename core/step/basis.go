package step

import (
	"context"
	"fmt"

	"excavate/core/geom"
	"excavate/core/scene"
)

// BasisParams is the wanted basis, and what to assume where the source
// declares nothing.
type BasisParams struct {
	Up     geom.Axis       `json:"up" jsonschema:"title=Up,type=string,enum=+X,enum=-X,enum=+Y,enum=-Y,enum=+Z,enum=-Z"`
	Front  geom.Axis       `json:"front" jsonschema:"title=Front,type=string,enum=+X,enum=-X,enum=+Y,enum=-Y,enum=+Z,enum=-Z"`
	Handed geom.Handedness `json:"handedness" jsonschema:"title=Handedness,enum=right,enum=left"`
	Unit   float64         `json:"unit" jsonschema:"title=One unit is,minimum=1e-09,maximum=1e+09" jsonschema_extras:"unit=m"`
	Assume *AssumedBasis   `json:"assume,omitempty" jsonschema:"title=Where the source declares nothing\\, assume"`
}

// AssumedBasis fills what a source does not declare.
type AssumedBasis struct {
	Up     geom.Axis       `json:"up,omitempty" jsonschema:"title=Up,type=string,enum=,enum=+X,enum=-X,enum=+Y,enum=-Y,enum=+Z,enum=-Z"`
	Front  geom.Axis       `json:"front,omitempty" jsonschema:"title=Front,type=string,enum=,enum=+X,enum=-X,enum=+Y,enum=-Y,enum=+Z,enum=-Z"`
	Handed geom.Handedness `json:"handedness,omitempty" jsonschema:"title=Handedness,enum=,enum=right,enum=left"`
	Unit   float64         `json:"unit,omitempty" jsonschema:"title=One unit is,minimum=0,maximum=1e+09" jsonschema_extras:"unit=m"`
}

// together: half a basis would be filled up with another's defaults.
func (p *BasisParams) together() []string { return []string{"up", "front", "handedness", "unit"} }

// Validate refuses a basis that contradicts itself.
func (p *BasisParams) Validate() error {
	b := geom.Basis{Up: p.Up, Front: p.Front, Handed: p.Handed, MetresPerUnit: p.Unit}
	if !b.Known() {
		return fmt.Errorf("state up, front, handedness and the unit")
	}
	return b.Validate()
}

var _ = register(Kind{Name: "basis", Title: "Change basis", Family: Basis, Version: 1,
	Purpose: "Bring axes, handedness and unit to what the target expects; mesh, skin, motions and normals follow."},
	BasisParams{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Right, Unit: 1}, changeBasis)

func changeBasis(_ context.Context, s *scene.Scene, p BasisParams, r *Report) (*scene.Scene, error) {
	to := geom.Basis{Up: p.Up, Front: p.Front, Handed: p.Handed, MetresPerUnit: p.Unit}
	from := *s
	if a := p.Assume; a != nil {
		from.Basis = s.Basis.Or(geom.Basis{Up: a.Up, Front: a.Front, Handed: a.Handed, MetresPerUnit: a.Unit})
	}
	if !from.Basis.Oriented() {
		return nil, fmt.Errorf("the source's basis is %q: state under “assume” what it does not declare", s.Basis)
	}
	if from.Basis == to {
		r.Nothing("the basis is %s already", to)
		return &from, nil
	}
	out, err := from.InBasis(to)
	if err != nil {
		return nil, err
	}
	r.Say("%s → %s", from.Basis, to)
	if st := out.Stats(); st.Height != nil {
		r.Say("height %.2f m", *st.Height)
	}
	if s.Basis.MetresPerUnit == 0 && from.Basis.MetresPerUnit == 0 {
		r.Lose("the source's unit is unknown, so nothing was scaled")
	}
	return out, nil
}
