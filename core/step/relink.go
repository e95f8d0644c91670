package step

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"excavate/core/scene"
)

// RelinkParams says which pictures are looked for again, and by what names.
type RelinkParams struct {
	Where
	All     bool          `json:"all" jsonschema:"title=Found ones too,description=Else only pictures that are missing"`
	Replace []Replacement `json:"replace,omitempty" jsonschema:"title=Replace in names,description=One after the other; names are compared without their ending"`
}

// Replacement is a text that stands for another.
type Replacement struct {
	From string `json:"from" jsonschema:"title=From,minLength=1"`
	To   string `json:"to" jsonschema:"title=To"`
}

func (p *RelinkParams) asks() []Ask { return []Ask{{Pictures: "*"}} }

var _ = registerBeyond(Kind{Name: "relink", Title: "Find pictures again", Family: Material, On: Pictures, Version: 1,
	Purpose: "Look for pictures by name once more, after their format, folder or names have changed."},
	RelinkParams{}, relink)

func relink(ctx context.Context, s *scene.Scene, p RelinkParams, b Beyond, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	out := *s
	out.Pictures = slices.Clone(s.Pictures)
	var found, tried int
	var still []string
	for i := range out.Pictures {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		pic := &out.Pictures[i]
		if !c.Pictures[i] || !pic.Missing() && !p.All {
			continue
		}
		tried++
		name := pic.Ref
		if name == "" {
			name = pic.Name
		}
		for _, x := range p.Replace {
			name = strings.ReplaceAll(name, x.From, x.To)
		}
		n, err := b.Picture(ctx, name)
		if err != nil {
			if pic.Missing() {
				still = append(still, pic.Name)
			}
			continue
		}
		if slices.Equal(n.Data, pic.Data) {
			continue
		}
		r.Took = append(r.Took, n.Found)
		n.Name, n.Ref = pic.Name, pic.Ref
		*pic = n
		found++
	}
	if found == 0 {
		r.Nothing("%s",
			first(ifAny(len(still), "%s", fmt.Sprintf("none of %s is found: %s", count(len(still), "missing picture", "missing pictures"), named(still))),
				ifAny(tried, "%s", "the same pictures are found again")+ifNone(tried, "no chosen picture is missing")))
		return s, nil
	}
	r.Say("%s found", count(found, "picture", "pictures"))
	if len(still) > 0 {
		r.Say("still missing: %s", named(still))
	}
	return &out, nil
}

func ifNone(n int, what string) string {
	if n > 0 {
		return ""
	}
	return what
}
