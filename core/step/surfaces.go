package step

import (
	"context"
	"fmt"

	"excavate/core/scene"
	"excavate/core/voxel"
)

// SurfacesParams says how voxels become surfaces.
type SurfacesParams struct {
	Where
	Smooth  bool   `json:"smooth" jsonschema:"title=Smooth,description=A surface through the sides of the voxels instead of along them"`
	Rounds  int    `json:"rounds" jsonschema:"title=Rounds,minimum=0,maximum=100,description=For smooth: how often it is drawn out; more is rounder"`
	Joined  bool   `json:"joined" jsonschema:"title=Join equal sides,description=Far fewer triangles; without it edge meets edge everywhere as for print"`
	Colours string `json:"colours" jsonschema:"title=Colours as,enum=vertex,enum=materials,description=Vertex colours or a material for each colour"`
}

var _ = register(Kind{Name: "surfaces", Title: "Voxels to surfaces", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Make plain surfaces of voxels: along their sides or smooth, with vertex colours or a material for each colour."},
	SurfacesParams{Rounds: 6, Joined: true, Colours: "vertex"}, toSurfaces)

// mostVoxelMaterials bounds the materials that are made of a palette.
const mostVoxelMaterials = 256

func toSurfaces(ctx context.Context, s *scene.Scene, p SurfacesParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	materials := cloned(s.Materials)
	volumes := 0
	faces := voxel.Faces
	if !p.Joined {
		faces = voxel.Sides
	}
	out, err := eachMesh(s, c, func(m scene.Mesh, _ []bool) (scene.Mesh, error) {
		if err := ctx.Err(); err != nil {
			return m, err
		}
		v := m.Voxels()
		if v == nil {
			return m, nil
		}
		volumes++
		material := scene.None
		if len(m.Parts) > 0 {
			material = m.Parts[0].Material
		}
		m.Volume = nil
		if p.Smooth && p.Colours != "vertex" {
			return m, fmt.Errorf("smooth surfaces have vertex colours: a material for each colour goes with straight ones")
		}
		if p.Smooth {
			part, err := voxel.Smooth(v, material, p.Rounds)
			m.Parts = []scene.Part{part}
			return m, err
		}
		list, err := faces(v)
		if err != nil {
			return m, err
		}
		if p.Colours == "vertex" {
			m.Parts = []scene.Part{voxel.PartOf(v, list, material)}
			return m, nil
		}
		m.Parts, err = byColour(v, list, &materials)
		return m, err
	})
	if err != nil {
		return nil, err
	}
	if volumes == 0 {
		r.Nothing("nothing that is chosen has voxels")
		return s, nil
	}
	out.Materials = materials
	out = out.Sweep(s)
	r.Say(
		"%s of %s made surfaces",
		count(out.Stats().Triangles, "triangle", "triangles"),
		count(volumes, "volume", "volumes"),
	)
	r.Lose("what is within: the surfaces are hollow")
	return out, nil
}

// byColour parts a volume's faces by colour, each with a material of its own.
func byColour(v *scene.Volume, all []voxel.Face, materials *[]scene.Material) ([]scene.Part, error) {
	faces := map[uint16][]voxel.Face{}
	for _, f := range all {
		faces[f.Colour] = append(faces[f.Colour], f)
	}
	if len(faces) > mostVoxelMaterials {
		return nil, fmt.Errorf(
			"%d colours would be as many materials, at most %d are made: a palette step before this one makes fewer",
			len(faces),
			mostVoxelMaterials,
		)
	}
	var parts []scene.Part
	for i, sw := range v.Palette {
		list := faces[uint16(i+1)]
		if len(list) == 0 {
			continue
		}
		name := sw.Name
		if name == "" {
			name = fmt.Sprintf("#%02x%02x%02x", sw.Colour[0], sw.Colour[1], sw.Colour[2])
		}
		m := scene.NewMaterial(name)
		for k, c := range voxel.Linear(sw.Colour) {
			m.BaseColour[k] = c
		}
		*materials = append(*materials, m)
		part := voxel.PartOf(v, list, len(*materials)-1)
		part.Colours = nil
		parts = append(parts, part)
	}
	return parts, nil
}
