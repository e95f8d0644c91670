package step

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"

	"excavate/core/scene"
)

// UVTransformParams says how UVs change.
type UVTransformParams struct {
	Where
	Bake   bool        `json:"bake" jsonschema:"title=Bake those of the materials,description=Put the transforms that materials have for their pictures into the UVs; for formats and targets that know none. The other numbers are not used."`
	Set    string      `json:"set,omitempty" jsonschema:"title=UV set,description=Its name or its number from 1; empty is all sets"`
	Scale  *[2]float64 `json:"scale,omitempty" jsonschema:"title=Times,description=Along u and v"`
	Turn   float64     `json:"turn" jsonschema:"title=Turn,minimum=-360,maximum=360,description=Counter-clockwise about the picture's corner u 0 v 0" jsonschema_extras:"unit=degrees"`
	Offset *[2]float64 `json:"offset,omitempty" jsonschema:"title=Move by,description=Along u and v after the others; v counts from above"`
	FlipV  bool        `json:"flip_v" jsonschema:"title=Flip v,description=For UVs that count from below: before the others"`
}

// Validate refuses numbers that would lose the UVs.
func (p *UVTransformParams) Validate() error {
	if s := p.Scale; s != nil && (s[0] == 0 || s[1] == 0) {
		return fmt.Errorf("UVs times 0 are all the same")
	}
	for _, v := range []*[2]float64{p.Scale, p.Offset} {
		if v != nil && (math.Abs(v[0]) > 1e6 || math.Abs(v[1]) > 1e6) {
			return fmt.Errorf("UVs are moved and scaled by at most a million")
		}
	}
	return p.Where.Validate()
}

var _ = register(Kind{Name: "uv-transform", Title: "Move UVs", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Scale, turn, move or flip UVs, or bake the transforms that materials have for their pictures."},
	UVTransformParams{}, uvTransform)

func uvTransform(ctx context.Context, s *scene.Scene, p UVTransformParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	if p.Bake {
		return bakeUVs(s, p.Where, r)
	}
	sin, cos := math.Sincos(p.Turn * math.Pi / 180)
	move := func(u, v float64) (float64, float64) {
		if p.FlipV {
			v = 1 - v
		}
		if p.Scale != nil {
			u, v = u*p.Scale[0], v*p.Scale[1]
		}
		u, v = u*cos+v*sin, v*cos-u*sin
		if p.Offset != nil {
			u, v = u+p.Offset[0], v+p.Offset[1]
		}
		return u, v
	}
	mirrors := (p.FlipV) != (p.Scale != nil && p.Scale[0]*p.Scale[1] < 0)
	var sets, tangents int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		if err := ctx.Err(); err != nil {
			return *q, err
		}
		n := *q
		n.UVs = slices.Clone(q.UVs)
		before := sets
		for k := range n.UVs {
			if p.Set != "" && n.UVs[k].Name != p.Set && strconv.Itoa(k+1) != p.Set {
				continue
			}
			d := make([]float32, len(q.UVs[k].Data))
			for i := 0; i+1 < len(d); i += 2 {
				u, v := move(float64(q.UVs[k].Data[i]), float64(q.UVs[k].Data[i+1]))
				d[i], d[i+1] = float32(u), float32(v)
			}
			if slices.Equal(d, q.UVs[k].Data) {
				continue
			}
			n.UVs[k].Data = d
			sets++
		}
		// Tangents follow the picture: a turned or mirrored one has others.
		if n.Tangents != nil && (mirrors || p.Turn != 0 || p.Scale != nil) && sets > before {
			n.Tangents = nil
			tangents++
		}
		return n, nil
	})
	if err != nil {
		return nil, err
	}
	if sets == 0 {
		r.Nothing("no UVs change")
		return s, nil
	}
	r.Say("%s moved", count(sets, "UV set", "UV sets"))
	if tangents > 0 {
		r.Lose("tangents of %s: they belong to the old UVs", count(tangents, "part", "parts"))
	}
	return out, nil
}

// uvMove is a UV set as a material's pictures look it up.
type uvMove struct {
	set int
	by  scene.UVTransform
}

// bakeUVs puts the materials' transforms into UV sets. Pictures of one material
// that lie on one set by different transforms get a set each.
func bakeUVs(s *scene.Scene, w Where, r *Report) (*scene.Scene, error) {
	c, _, err := w.whole(s, &Report{})
	if err != nil {
		return nil, err
	}
	if err := oneLook(s, c.Parts); err != nil {
		return nil, err
	}
	moves := make([][]uvMove, len(s.Materials)) // the sets that each material's parts come to have
	out, err := eachMaterial(s, c, r, func(i int, m *scene.Material) bool {
		if !slices.ContainsFunc(m.Textures, func(t scene.Texture) bool { return t.Transform != nil }) {
			return false
		}
		m.Textures = slices.Clone(m.Textures)
		for k := range m.Textures {
			t := &m.Textures[k]
			want := uvMove{t.UVSet, scene.UVTransform{Scale: [2]float32{1, 1}}}
			if t.Transform != nil {
				want.by = *t.Transform
			}
			at := slices.Index(moves[i], want)
			if at < 0 {
				at = len(moves[i])
				moves[i] = append(moves[i], want)
			}
			t.UVSet, t.Transform = at, nil
		}
		return true
	})
	if err != nil || r.Idle {
		return out, err
	}
	was := func(node, part int) int { return s.Meshes[s.Nodes[node].Mesh].Parts[part].Material }
	res := *out
	res.Meshes = slices.Clone(out.Meshes)
	done := map[[2]int]bool{}
	var tangents int
	for i := range out.Nodes {
		mesh := out.Nodes[i].Mesh
		if mesh < 0 {
			continue
		}
		for j, taken := range c.Parts(i) {
			if !taken || was(i, j) < 0 || moves[was(i, j)] == nil || done[[2]int{mesh, j}] {
				continue
			}
			done[[2]int{mesh, j}] = true
			parts := slices.Clone(res.Meshes[mesh].Parts)
			if parts[j].Tangents != nil {
				parts[j].Tangents = nil
				tangents++
			}
			parts[j].UVs = movedSets(&parts[j], moves[was(i, j)])
			res.Meshes[mesh].Parts = parts
		}
	}
	if tangents > 0 {
		r.Lose("tangents of %s: they belong to the old UVs", count(tangents, "part", "parts"))
	}
	return &res, nil
}

// oneLook refuses chosen parts that have other materials in variants, where
// pictures of one of them are moved: the part's UVs could follow only one.
func oneLook(s *scene.Scene, chosen func(node int) []bool) error {
	for i := range s.Nodes {
		for j, taken := range chosen(i) {
			p := &s.Meshes[s.Nodes[i].Mesh].Parts[j]
			if !taken || p.Variants == nil {
				continue
			}
			for _, m := range p.Looks() {
				if m >= 0 && slices.ContainsFunc(s.Materials[m].Textures, func(t scene.Texture) bool { return t.Transform != nil }) {
					return fmt.Errorf("%s has other materials in variants, and the pictures of %s are moved: choose a variant first",
						s.Nodes[i].Name, s.Materials[m].Name)
				}
			}
		}
	}
	return nil
}

// movedSets are a part's UV sets as moves ask for them, then those that no
// picture lies on. The first of several that one set becomes keeps its name.
func movedSets(p *scene.Part, moves []uvMove) (out []scene.AttrSet) {
	used := make([]int, len(p.UVs))
	for _, m := range moves {
		if m.set >= len(p.UVs) { // the part lacks it: its pictures showed their corner, and go on to
			out = append(out, scene.AttrSet{Name: fmt.Sprintf("uv %d", len(out)+1), Data: make([]float32, 2*p.Vertices()), Made: true})
			continue
		}
		set := p.UVs[m.set]
		set.Data = transformedUVs(set.Data, &m.by)
		if used[m.set]++; used[m.set] > 1 {
			set.Name = fmt.Sprintf("%s %d", set.Name, used[m.set])
		}
		out = append(out, set)
	}
	for k, n := range used {
		if n == 0 {
			out = append(out, p.UVs[k])
		}
	}
	return out
}
