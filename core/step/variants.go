package step

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"excavate/core/pick"
	"excavate/core/scene"
)

// VariantsParams say which looks stay.
type VariantsParams struct {
	Choose string `json:"choose" jsonschema:"title=Show,maxLength=1000,description=A variant by its name or the beginning of one and *; empty leaves what is shown now"`
	Keep   bool   `json:"keep" jsonschema:"title=Keep the others,description=As variants of the file; only GLB and glTF hold them"`
}

var _ = register(Kind{Name: "variants", Title: "Variants", Family: Material, Version: 1,
	Purpose: "Choose which of an asset's looks is shown, and let the others go or keep them."},
	VariantsParams{}, variants)

func variants(_ context.Context, s *scene.Scene, p VariantsParams, r *Report) (*scene.Scene, error) {
	if len(s.Variants) == 0 {
		r.Nothing("the asset has no variants")
		return s, nil
	}
	chosen := scene.None
	if p.Choose != "" {
		var err error
		if chosen, err = variantNamed(s.Variants, p.Choose); err != nil {
			return nil, err
		}
	}
	out := *s
	out.Meshes = slices.Clone(s.Meshes)
	parts := 0
	for i := range out.Meshes {
		out.Meshes[i].Parts = slices.Clone(s.Meshes[i].Parts)
		for j := range out.Meshes[i].Parts {
			q := &out.Meshes[i].Parts[j]
			if chosen >= 0 && chosen < len(q.Variants) && q.Variants[chosen] >= 0 && q.Variants[chosen] != q.Material {
				q.Material = q.Variants[chosen]
				parts++
			}
			if !p.Keep {
				q.Variants = nil
			}
		}
	}
	if p.Keep && parts == 0 {
		r.Nothing("it looks so already, and the variants %s are kept", named(s.Variants))
		return s, nil
	}
	if chosen >= 0 {
		r.Say("shown as %s: %s with another material", s.Variants[chosen], count(parts, "part", "parts"))
	}
	if p.Keep {
		r.Say("%s kept: %s", count(len(s.Variants), "variant", "variants"), named(s.Variants))
		return &out, nil
	}
	out.Variants = nil
	res := out.Sweep(s)
	others := slices.Clone(s.Variants)
	if chosen >= 0 {
		others = slices.Delete(others, chosen, chosen+1)
	}
	if len(others) > 0 {
		r.Say("%s let go: %s", count(len(others), "variant", "variants"), named(others))
	}
	if n := len(s.Materials) - len(res.Materials); n > 0 {
		r.Say("%s with them", count(n, "material goes", "materials go"))
	}
	return res, nil
}

// variantNamed is the variant of a name, or the only one that fits a glob.
func variantNamed(list []string, name string) (int, error) {
	if k := slices.Index(list, name); k >= 0 {
		return k, nil
	}
	found := scene.None
	for k, v := range list {
		if !pick.Fits(strings.ToLower(name), strings.ToLower(v)) {
			continue
		}
		if found >= 0 {
			return 0, fmt.Errorf("%q fits the variants %s and %s; name one of them", name, list[found], v)
		}
		found = k
	}
	if found < 0 {
		return 0, fmt.Errorf("there is no variant %q; there are %s", name, strings.Join(list, ", "))
	}
	return found, nil
}
