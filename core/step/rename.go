package step

import (
	"context"
	"fmt"
	"regexp"
	"slices"

	"excavate/core/scene"
)

// RenameParams says what is renamed, and how.
type RenameParams struct {
	What  string       `json:"what" jsonschema:"title=What,enum=nodes and bones,enum=bones,enum=nodes,enum=meshes,enum=materials,enum=pictures,enum=motions"`
	Rules []RenameRule `json:"rules" jsonschema:"title=Rules,description=Each rule works on the result of the one before"`
}

// RenameRule replaces what a pattern finds.
type RenameRule struct {
	Find    string `json:"find" jsonschema:"title=Find,description=A regular expression"`
	Replace string `json:"replace" jsonschema:"title=Replace by,description=$1 stands for the first group"`
}

// Validate refuses patterns that are no regular expressions.
func (p *RenameParams) Validate() error {
	if !slices.Contains([]string{"nodes and bones", "bones", "nodes", "meshes", "materials", "pictures", "motions"}, p.What) {
		return fmt.Errorf("what: %q cannot be renamed", p.What)
	}
	for i, r := range p.Rules {
		if _, err := regexp.Compile(r.Find); err != nil {
			return fmt.Errorf("rule %d: %w", i+1, err)
		}
		if r.Find == "" {
			return fmt.Errorf("rule %d: find is empty", i+1)
		}
	}
	return nil
}

var _ = register(Kind{Name: "rename", Title: "Rename", Family: Rig, Version: 1,
	Purpose: "Rename bones, nodes, meshes or materials by rules, so that the target knows them."},
	RenameParams{What: "nodes and bones", Rules: []RenameRule{}}, rename)

func rename(_ context.Context, s *scene.Scene, p RenameParams, r *Report) (*scene.Scene, error) {
	var rules []*regexp.Regexp
	for _, x := range p.Rules {
		rules = append(rules, regexp.MustCompile(x.Find)) // Validate has seen it
	}
	var changed []string
	collisions := 0
	taken := map[string]int{}
	note := func(old string) string {
		name := old
		for i, re := range rules {
			name = re.ReplaceAllString(name, p.Rules[i].Replace)
		}
		return name
	}
	set := func(dst *string) {
		name := note(*dst)
		if name == "" {
			name = *dst // a name is never emptied
		}
		if n := taken[name]; n > 0 && name != *dst {
			collisions++
		}
		taken[name]++
		if name != *dst {
			changed = append(changed, fmt.Sprintf("“%s” → “%s”", *dst, name))
			*dst = name
		}
	}
	out := *s
	switch p.What {
	case "meshes":
		out.Meshes = slices.Clone(s.Meshes)
		for i := range out.Meshes {
			set(&out.Meshes[i].Name)
		}
	case "materials":
		out.Materials = slices.Clone(s.Materials)
		for i := range out.Materials {
			set(&out.Materials[i].Name)
		}
	case "pictures":
		out.Pictures = slices.Clone(s.Pictures)
		for i := range out.Pictures {
			set(&out.Pictures[i].Name)
		}
	case "motions":
		out.Motions = slices.Clone(s.Motions)
		for i := range out.Motions {
			set(&out.Motions[i].Name)
		}
	default:
		bones := s.Bones()
		out.Nodes = slices.Clone(s.Nodes)
		for i := range out.Nodes {
			if p.What == "bones" && !bones[i] || p.What == "nodes" && bones[i] {
				taken[out.Nodes[i].Name]++
				continue
			}
			set(&out.Nodes[i].Name)
		}
	}
	if len(changed) == 0 {
		r.Nothing("no name fits a rule")
		return s, nil
	}
	r.Say("%s renamed", count(len(changed), "name", "names"))
	r.Say("%s", named(changed))
	if collisions > 0 {
		r.Lose("%s now stand more than once", count(collisions, "name", "names"))
	}
	return &out, nil
}
