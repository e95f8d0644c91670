package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/distinct"
	"excavate/core/pick"
	"excavate/core/scene"
)

// SurfaceParams are the properties that surfaces get; what is left out stays.
type SurfaceParams struct {
	Where
	Metallic  *float64    `json:"metallic,omitempty" jsonschema:"title=Metallic,minimum=0,maximum=1"`
	Roughness *float64    `json:"roughness,omitempty" jsonschema:"title=Roughness,minimum=0,maximum=1"`
	Colour    *[4]float64 `json:"colour,omitempty" jsonschema:"title=Colour,description=Red green blue and alpha from 0 to 1 as numbers of light (linear)"`
	TwoSided  string      `json:"two_sided,omitempty" jsonschema:"title=Two-sided,enum=,enum=yes,enum=no" jsonschema_extras:"empty=as it is"`
	Unlit     string      `json:"unlit,omitempty" jsonschema:"title=Without light,enum=,enum=yes,enum=no" jsonschema_extras:"empty=as it is"`
}

// Validate refuses colours that are none.
func (p *SurfaceParams) Validate() error {
	if p.Colour != nil {
		for _, x := range p.Colour {
			if !(x >= 0 && x <= 1) {
				return fmt.Errorf("a colour is four numbers from 0 to 1")
			}
		}
	}
	return p.Where.Validate()
}

var _ = register(Kind{Name: "surface", Title: "Surface", Family: Material, On: Materials, Version: 1,
	Purpose: "Set properties of materials: metallic, roughness, colour, two-sided, without light."},
	SurfaceParams{}, surface)

func surface(_ context.Context, s *scene.Scene, p SurfaceParams, r *Report) (*scene.Scene, error) {
	if p.Metallic == nil && p.Roughness == nil && p.Colour == nil && p.TwoSided == "" && p.Unlit == "" {
		r.Nothing("no property is given")
		return s, nil
	}
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	return eachMaterial(s, c, r, func(_ int, m *scene.Material) bool {
		was := *m
		if p.Metallic != nil {
			m.Metallic = float32(*p.Metallic)
		}
		if p.Roughness != nil {
			m.Roughness = float32(*p.Roughness)
		}
		if p.Colour != nil {
			for k, x := range p.Colour {
				m.BaseColour[k] = float32(x)
			}
		}
		if p.TwoSided != "" {
			m.TwoSided = p.TwoSided == "yes"
		}
		if p.Unlit != "" {
			m.Unlit = p.Unlit == "yes"
		}
		return m.Metallic != was.Metallic || m.Roughness != was.Roughness || m.BaseColour != was.BaseColour || m.TwoSided != was.TwoSided || m.Unlit != was.Unlit
	})
}

// eachMaterial changes the materials of what is chosen. f changes a material
// and tells whether it did. A material that others use too is copied first, so
// that these keep theirs.
func eachMaterial(s *scene.Scene, c *pick.Chosen, r *Report, f func(i int, m *scene.Material) bool) (*scene.Scene, error) {
	others := make([]bool, len(s.Materials)) // used by what is not chosen
	for i := range s.Nodes {
		for j, taken := range c.Parts(i) {
			for _, m := range s.Meshes[s.Nodes[i].Mesh].Parts[j].Looks() {
				if m >= 0 && !taken {
					others[m] = true
				}
			}
		}
	}
	out := *s
	out.Materials = slices.Clone(s.Materials)
	var names distinct.Names
	for i := range s.Materials {
		names.Name(s.Materials[i].Name, " ")
	}
	to := make([]int, len(s.Materials))
	var changed, copied int
	for i := range s.Materials {
		to[i] = i
		if !c.Materials[i] {
			continue
		}
		m := s.Materials[i]
		if !f(i, &m) {
			continue
		}
		changed++
		if !others[i] {
			out.Materials[i] = m
			continue
		}
		copied++
		m.Name = names.Name(m.Name, " ")
		to[i] = len(out.Materials)
		out.Materials = append(out.Materials, m)
	}
	if changed == 0 {
		r.Nothing("nothing has to change")
		return s, nil
	}
	r.Say("%s changed", count(changed, "material", "materials"))
	if copied == 0 {
		return &out, nil
	}
	r.Say("%s copied for it, because others use them too", count(copied, "one was", "were"))
	return eachPart(&out, c, func(p *scene.Part) (scene.Part, error) {
		return p.WithLooks(func(m int) int {
			if m < 0 {
				return m
			}
			return to[m]
		}), nil
	})
}
