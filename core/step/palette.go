package step

import (
	"context"
	"encoding/hex"
	"fmt"
	"strings"

	"excavate/core/scene"
	"excavate/core/voxel"
)

// PaletteParams says which colours voxels get.
type PaletteParams struct {
	Where
	Best    int      `json:"best" jsonschema:"title=So many of their own,minimum=1,maximum=256,description=The colours that meet theirs best; without a list"`
	Colours []string `json:"colours,omitempty" jsonschema:"title=Colours,maxItems=1024,description=As #rrggbb; a name may stand before each such as moss #5b6b3a"`
	Dither  bool     `json:"dither" jsonschema:"title=Mix by dots,description=What a colour is off goes on to the voxels beside it"`
}

// Validate refuses colours that are none.
func (p *PaletteParams) Validate() error {
	if err := p.Where.Validate(); err != nil {
		return err
	}
	_, err := swatches(p.Colours)
	return err
}

var _ = register(Kind{Name: "palette", Title: "Palette", Family: Material, On: Parts, Version: 1,
	Purpose: "Give voxels the nearest colours of a list, such as those of a set of blocks, or few of their own."},
	PaletteParams{Best: 16}, palette)

// swatches reads colours such as "#5b6b3a" and "moss #5b6b3a".
func swatches(list []string) (out []scene.Swatch, err error) {
	for _, text := range list {
		name, code := "", strings.TrimSpace(text)
		if i := strings.LastIndexByte(code, ' '); i >= 0 {
			name, code = strings.TrimSpace(code[:i]), code[i+1:]
		}
		b, err := hex.DecodeString(strings.TrimPrefix(code, "#"))
		if err != nil || len(b) != 3 || code[0] != '#' {
			return nil, fmt.Errorf("%q is no colour: write #rrggbb, with a name before it if it has one", text)
		}
		out = append(out, scene.Swatch{Name: name, Colour: [3]uint8(b)})
	}
	return out, nil
}

func palette(ctx context.Context, s *scene.Scene, p PaletteParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	list, err := swatches(p.Colours)
	if err != nil {
		return nil, err
	}
	out, err := eachVolume(ctx, s, c, r, func(v *scene.Volume) (*scene.Volume, error) {
		to := list
		if len(to) == 0 {
			to = voxel.Best(v, p.Best)
		}
		made, m, err := voxel.Match(ctx, v, to, p.Dither)
		if err != nil {
			return nil, err
		}
		r.Say("%d colours → %d of %d", len(v.Palette), m.Used, len(to))
		r.Say(
			"off by %.1f ΔE on the whole, by %.1f at worst (#%02x%02x%02x)",
			m.Mean,
			m.Worst,
			m.Of[0],
			m.Of[1],
			m.Of[2],
		)
		return made, nil
	})
	return out, err
}
