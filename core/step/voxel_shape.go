package step

import (
	"context"
	"fmt"

	"excavate/core/limit"
	"excavate/core/scene"
	"excavate/core/voxel"
)

// VoxelShapeParams says what is done to voxels.
type VoxelShapeParams struct {
	Where
	Do   string `json:"do" jsonschema:"title=Do,enum=hollow,enum=fill,enum=drop-loose,enum=grow,enum=shrink,enum=mirror,description=hollow leaves a shell; fill closes what the outside does not reach; drop-loose takes bits out; mirror makes one half the image of the other"`
	By   int    `json:"by" jsonschema:"title=By,minimum=1,maximum=1000000,description=Voxels: of the shell or the growth or the smallest bit that stays"`
	Axis string `json:"axis" jsonschema:"title=Across,enum=x,enum=y,enum=z,description=For mirror"`
	Keep string `json:"keep" jsonschema:"title=Keep,enum=low,enum=high,description=For mirror: the half that stays"`
}

var _ = register(Kind{Name: "voxel-shape", Title: "Shape voxels", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Hollow voxels out, fill what is closed, drop loose bits, grow, shrink, or mirror a half."},
	VoxelShapeParams{Do: "drop-loose", By: 8, Axis: "x", Keep: "low"}, voxelShape)

func voxelShape(ctx context.Context, s *scene.Scene, p VoxelShapeParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	before, after, bits := 0, 0, 0
	out, err := eachVolume(ctx, s, c, r, func(v *scene.Volume) (made *scene.Volume, err error) {
		switch p.Do {
		case "hollow":
			made, _, err = voxel.Hollow(ctx, v, min(p.By, limit.VolumeSide))
		case "fill":
			made, _, err = voxel.Fill(ctx, v)
		case "drop-loose":
			var n int
			made, n, _, err = voxel.DropLoose(ctx, v, p.By)
			bits += n
		case "grow":
			if most := max(v.Dims[0], v.Dims[1], v.Dims[2]) + 2*p.By; most > limit.VolumeSide {
				return nil, fmt.Errorf("grown by %d, a side would have %d voxels; there are at most %d", p.By, most,
					limit.VolumeSide)
			}
			made, err = voxel.Grow(ctx, v, p.By)
		case "shrink":
			made, err = voxel.Shrink(ctx, v, min(p.By, limit.VolumeSide))
		case "mirror":
			made, err = voxel.Mirror(ctx, v, int(p.Axis[0]-'x'), p.Keep == "high")
		}
		if err != nil {
			return nil, err
		}
		before, after = before+voxel.Count(v), after+voxel.Count(made)
		return made, nil
	})
	if err != nil || r.Idle {
		return s, err
	}
	if before == after && p.Do != "mirror" {
		r.Nothing("no voxel changes")
		return s, nil
	}
	r.Say("voxels %d → %d", before, after)
	if p.Do == "drop-loose" {
		r.Say("%s of fewer than %d dropped", count(bits, "loose bit", "loose bits"), p.By)
	}
	return out, nil
}
