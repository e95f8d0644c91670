package step

import (
	"context"

	"excavate/core/scene"
	"excavate/core/tangent"
)

// TangentsParams says which parts get tangents.
type TangentsParams struct {
	Where
	All  bool `json:"all" jsonschema:"title=Without a normal picture too"`
	Keep bool `json:"keep" jsonschema:"title=Keep the source's,description=Only parts without tangents get them"`
}

var _ = register(Kind{Name: "tangents", Title: "Tangents", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Compute tangents by the MikkTSpace method, so that normal pictures show as they were baked."},
	TangentsParams{}, tangents)

func tangents(ctx context.Context, s *scene.Scene, p TangentsParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	var made, before, after, lacking, morphs int
	type says struct{ made, lacks bool }
	out, err := eachPartAtOnce(ctx, s, c, func(mesh []scene.Part, k int) (scene.Part, says) {
		q := &mesh[k]
		uvs, wanted := normalUVs(s, q)
		if !wanted && !p.All || p.Keep && q.Tangents != nil || len(q.Triangles) == 0 {
			return *q, says{}
		}
		if uvs == nil || q.Normals == nil {
			return *q, says{lacks: true}
		}
		return Tangents(q, uvs), says{made: true}
	}, func(was, is *scene.Part, x says) {
		if x.lacks {
			lacking++
		}
		if !x.made {
			return
		}
		made++
		before, after = before+was.Vertices(), after+is.Vertices()
		for _, m := range was.Morphs {
			if m.Tangents != nil {
				morphs++
			}
		}
	})
	if err != nil {
		return nil, err
	}
	if made == 0 {
		r.Nothing("no chosen part needs tangents%s",
			ifAny(lacking, ": %s", count(lacking, "one lacks normals or UVs for them", "lack normals or UVs for them")))
		return s, nil
	}
	r.Say("tangents of %s computed", count(made, "part", "parts"))
	if before != after {
		r.Say("vertices %d → %d, where pictures are mirrored or come together", before, after)
	}
	if lacking > 0 {
		r.Say("%s normals or UVs for them", count(lacking, "part lacks", "parts lack"))
	}
	if morphs > 0 {
		r.Lose("tangents of %s: they belong to the old ones", count(morphs, "morph target", "morph targets"))
	}
	return out, nil
}

// normalUVs are the UVs that a part's normal picture lies on, as they are
// looked up; without one those of its colour picture or its first set. wanted
// tells whether there is a normal picture.
func normalUVs(s *scene.Scene, p *scene.Part) (uvs []float32, wanted bool) {
	set := 0
	var by *scene.UVTransform
	if p.Material >= 0 {
		m := &s.Materials[p.Material]
		t := m.Texture(scene.RoleNormal)
		if wanted = t != nil; !wanted {
			t = m.Texture(scene.RoleClearcoatNormal)
			wanted = t != nil
		}
		if t == nil {
			t = m.Texture(scene.RoleColour)
		}
		if t != nil {
			set, by = t.UVSet, t.Transform
		}
	}
	if set >= len(p.UVs) {
		return nil, wanted
	}
	if uvs = p.UVs[set].Data; by != nil {
		uvs = transformedUVs(uvs, by)
	}
	return uvs, wanted
}

func transformedUVs(uvs []float32, by *scene.UVTransform) []float32 {
	out := make([]float32, len(uvs))
	for i := 0; i+1 < len(uvs); i += 2 {
		out[i], out[i+1] = by.Apply(uvs[i], uvs[i+1])
	}
	return out
}

// Tangents is the part with tangents for a normal picture that lies on uvs. A
// vertex whose corners disagree is doubled.
func Tangents(p *scene.Part, uvs []float32) scene.Part {
	out, list := perCorner(p, tangent.Of(p.Triangles, p.Positions, p.Normals, uvs), 4, func(uint32) []float32 { return []float32{1, 0, 0, 1} })
	out.Tangents = list
	for i := 0; i < len(list); i += 4 { // the mean of several is exact to sameDirection only
		n := at3(list[i:], 0).Norm()
		for k := range n {
			list[i+k] = float32(n[k])
		}
	}
	for i := range out.Morphs {
		out.Morphs[i].Tangents = nil
	}
	return out
}
