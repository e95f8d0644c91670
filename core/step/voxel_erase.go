package step

import (
	"context"
	"math"

	"excavate/core/scene"
	"excavate/core/voxel"
)

// VoxelEraseParams says which voxels go.
type VoxelEraseParams struct {
	Where
	Box    []float64 `json:"box,omitempty" jsonschema:"title=Box,minItems=6,maxItems=6,description=Two corners x y z x y z in the mesh's own axes" jsonschema_extras:"unit=m"`
	Colour string    `json:"colour,omitempty" jsonschema:"title=Colour,maxLength=40,description=As #rrggbb"`
	Within float64   `json:"within" jsonschema:"title=Within,minimum=0,maximum=200,description=Colours that differ by so much at most" jsonschema_extras:"unit=ΔE"`
}

// Validate refuses a colour that is none.
func (p *VoxelEraseParams) Validate() error {
	if err := p.Where.Validate(); err != nil || p.Colour == "" {
		return err
	}
	_, err := swatches([]string{p.Colour})
	return err
}

var _ = register(Kind{Name: "voxel-erase", Title: "Erase voxels", Family: Clean, On: Parts, Version: 1,
	Purpose: "Take out the voxels within a box, of about a colour, or both."},
	VoxelEraseParams{Within: 10}, voxelErase)

func voxelErase(ctx context.Context, s *scene.Scene, p VoxelEraseParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	if len(p.Box) == 0 && p.Colour == "" {
		r.Nothing("neither a box nor a colour says which voxels go")
		return s, nil
	}
	var colour [3]uint8
	if p.Colour != "" {
		list, err := swatches([]string{p.Colour})
		if err != nil {
			return nil, err
		}
		colour = list[0].Colour
	}
	erased, total := 0, 0
	out, err := eachVolume(ctx, s, c, r, func(v *scene.Volume) (*scene.Volume, error) {
		from, to := [3]int{}, v.Dims
		if len(p.Box) == 6 {
			from, to = p.within(v, s.Basis.MetresPerUnit)
		}
		meant := make([]bool, len(v.Palette))
		for i, s := range v.Palette {
			meant[i] = p.Colour == "" || voxel.Difference(s.Colour, colour) <= p.Within
		}
		total += voxel.Count(v)
		made, n, err := voxel.Erase(ctx, v, from, to, meant)
		if err != nil {
			return nil, err
		}
		erased += n
		return made, nil
	})
	if err != nil || r.Idle {
		return s, err
	}
	if erased == 0 {
		r.Nothing("no voxel is meant")
		return s, nil
	}
	r.Say("voxels %d → %d", total, total-erased)
	return out, nil
}

// within are the voxels from a place to before another whose centres lie in the
// box.
func (p *VoxelEraseParams) within(v *scene.Volume, unit float64) (from, to [3]int) {
	if unit <= 0 {
		unit = 1
	}
	at := func(metres float64, k int) int {
		c := math.Ceil((metres/unit-float64(v.Origin[k]))/float64(v.Size) - 0.5)
		return int(math.Max(0, math.Min(float64(v.Dims[k]), c)))
	}
	for k := range 3 {
		from[k], to[k] = at(min(p.Box[k], p.Box[3+k]), k), at(max(p.Box[k], p.Box[3+k]), k)
	}
	return from, to
}
