package step

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"excavate/core/pick"
	"excavate/core/scene"

	"github.com/invopop/jsonschema"
)

// MaterialsParams is a table of which materials get which pictures.
type MaterialsParams struct {
	Table []MaterialRow `json:"table" jsonschema:"title=Pictures by material"`
}

// MaterialRow gives materials a picture for one job.
type MaterialRow struct {
	Material string      `json:"material" jsonschema:"title=Materials named,minLength=1"`
	Role     PictureRole `json:"role" jsonschema:"title=Picture for"`
	Picture  string      `json:"picture" jsonschema:"title=Picture named,minLength=1,description={material} stands for the material's name and {1} for what the first * of the pattern before stood for"`
	UVSet    int         `json:"uv_set,omitempty" jsonschema:"title=On UV set,minimum=1,maximum=64"`
}

// PictureRole is the job of a picture, as the scene names them.
type PictureRole string

// JSONSchema lists the roles.
func (PictureRole) JSONSchema() *jsonschema.Schema {
	s := &jsonschema.Schema{Type: "string"}
	for _, r := range scene.Roles {
		s.Enum = append(s.Enum, string(r))
	}
	return s
}

func (p *MaterialsParams) asks() (out []Ask) {
	for _, row := range p.Table {
		glob := row.Picture
		if strings.Contains(glob, "{") {
			glob = "*" // which names it becomes depends on the scene
		}
		out = append(out, Ask{Pictures: glob})
	}
	return out
}

var _ = registerBeyond(Kind{Name: "materials", Title: "Pictures by table", Family: Material, Version: 1,
	Purpose: "Give materials their pictures by name patterns, once for every mesh: for files that have material names and no pictures."},
	MaterialsParams{Table: []MaterialRow{}}, materials)

func materials(ctx context.Context, s *scene.Scene, p MaterialsParams, b Beyond, r *Report) (*scene.Scene, error) {
	if len(p.Table) == 0 {
		r.Nothing("the table has no rows")
		return s, nil
	}
	out := *s
	out.Materials = slices.Clone(s.Materials)
	h := newShelf(ctx, &out, b, r)
	used := make([]bool, len(p.Table))
	var bound, same int
	var none []string
	for i := range out.Materials {
		m := &out.Materials[i]
		given := map[scene.Role]bool{}
		for k, row := range p.Table {
			role := scene.Role(row.Role)
			if given[role] || !pick.Fits(strings.ToLower(row.Material), strings.ToLower(m.Name)) {
				continue
			}
			used[k], given[role] = true, true
			glob := filled(row.Picture, row.Material, m.Name)
			at, err := h.find(glob)
			if err != nil {
				return nil, fmt.Errorf("row %d: %w", k+1, err)
			}
			switch {
			case at < 0:
				none = append(none, fmt.Sprintf("%s (%s of %s)", glob, role, m.Name))
			case bind(m, role, at, row.UVSet-1):
				bound++
			default:
				same++
			}
		}
	}
	var idle []string
	for k, row := range p.Table {
		if !used[k] {
			idle = append(idle, row.Material)
		}
	}
	switch {
	case bound > 0:
		r.Say("%s given to materials", count(bound, "picture", "pictures"))
	case same > 0:
		r.Nothing("the materials have these pictures already")
	default:
		r.Nothing("no material gets a picture")
	}
	h.tell(r)
	if len(none) > 0 {
		r.Say("no picture fits %s", named(none))
	}
	if len(idle) > 0 {
		r.Say("no material is named %s", named(idle))
	}
	if bound == 0 {
		return s, nil
	}
	return h.swept(&out, s), nil
}

// filled is a picture's pattern with what it takes from the material's name.
func filled(picture, glob, name string) string {
	picture = strings.ReplaceAll(picture, "{material}", pick.Literal(name))
	if strings.Contains(picture, "{1}") {
		picture = strings.ReplaceAll(picture, "{1}", pick.Literal(firstStar(glob, name)))
	}
	return picture
}

// firstStar is what the first * of a glob that fits a name stands for: as
// little as lets the rest fit.
func firstStar(glob, name string) string {
	k := strings.IndexByte(glob, '*')
	if k < 0 || k > len(name) {
		return ""
	}
	for end := k; end <= len(name); end++ {
		if pick.Fits(strings.ToLower(glob[k+1:]), strings.ToLower(name[end:])) {
			return name[k:end]
		}
	}
	return ""
}

// bind gives a material a picture for a role and tells whether that changed
// anything. set is the UV set, or less than 0 for the one that the role has.
// Factors that would hide the picture are set to 1.
func bind(m *scene.Material, role scene.Role, picture, set int) bool {
	t := scene.Texture{Role: role, Picture: picture, Scale: 1}
	at := slices.IndexFunc(m.Textures, func(x scene.Texture) bool { return x.Role == role })
	if at >= 0 {
		t = m.Textures[at]
		t.Picture = picture
	}
	if set >= 0 {
		t.UVSet = set
	}
	was := *m
	m.Textures = slices.Clone(m.Textures)
	if at >= 0 {
		m.Textures[at] = t
	} else {
		m.Textures = append(m.Textures, t)
	}
	switch role {
	case scene.RoleMetalRgh:
		if at < 0 {
			m.Metallic, m.Roughness = 1, 1
		}
	case scene.RoleEmission:
		if m.Emissive == [3]float32{} {
			m.Emissive = [3]float32{1, 1, 1}
		}
	}
	return at < 0 || was.Textures[at] != t || was.Emissive != m.Emissive
}
