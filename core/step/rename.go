package step

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"excavate/core/distinct"
	"excavate/core/scene"
)

// RenameParams says what is renamed, and how.
type RenameParams struct {
	What   string       `json:"what" jsonschema:"title=What,enum=nodes and bones,enum=bones,enum=nodes,enum=meshes,enum=materials,enum=pictures,enum=motions"`
	Rules  []RenameRule `json:"rules" jsonschema:"title=Rules,description=Each rule works on the result of the one before"`
	Lower  bool         `json:"lower,omitempty" jsonschema:"title=In small letters,description=Before the rules"`
	Unique bool         `json:"unique,omitempty" jsonschema:"title=None twice,description=Of names that stand more than once all but the first get a number"`
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
	out := *s
	var list []*string // what is renamed
	others := map[string]bool{}
	switch p.What {
	case "meshes":
		out.Meshes = slices.Clone(s.Meshes)
		for i := range out.Meshes {
			list = append(list, &out.Meshes[i].Name)
		}
	case "materials":
		out.Materials = slices.Clone(s.Materials)
		for i := range out.Materials {
			list = append(list, &out.Materials[i].Name)
		}
	case "pictures":
		out.Pictures = slices.Clone(s.Pictures)
		for i := range out.Pictures {
			list = append(list, &out.Pictures[i].Name)
		}
	case "motions":
		out.Motions = slices.Clone(s.Motions)
		for i := range out.Motions {
			list = append(list, &out.Motions[i].Name)
		}
	default:
		bones := s.Bones()
		out.Nodes = slices.Clone(s.Nodes)
		for i := range out.Nodes {
			if p.What == "bones" && !bones[i] || p.What == "nodes" && bones[i] {
				others[out.Nodes[i].Name] = true
				continue
			}
			list = append(list, &out.Nodes[i].Name)
		}
	}
	names := p.renamed(list)
	if p.Unique {
		names = numbered(names, others)
	}
	var changed []string
	collisions := 0
	for i, name := range names {
		if others[name] && name != *list[i] {
			collisions++
		}
		others[name] = true
		if name != *list[i] {
			changed = append(changed, fmt.Sprintf("“%s” → “%s”", *list[i], name))
			*list[i] = name
		}
	}
	if len(changed) == 0 {
		r.Nothing("%s", first(ifAny(len(p.Rules), "%s", "no name fits a rule"), "no name stands more than once"))
		return s, nil
	}
	r.Say("%s renamed", count(len(changed), "name", "names"))
	r.Say("%s", named(changed))
	if collisions > 0 {
		r.Lose("%s now stand more than once", count(collisions, "name", "names"))
	}
	return &out, nil
}

// renamed are the names that the rules make; none is emptied.
func (p *RenameParams) renamed(list []*string) []string {
	rules := make([]*regexp.Regexp, len(p.Rules))
	for i, x := range p.Rules {
		rules[i] = regexp.MustCompile(x.Find) // Validate has seen it
	}
	out := make([]string, len(list))
	for i, old := range list {
		if out[i] = *old; p.Lower {
			out[i] = strings.ToLower(*old)
		}
		for k, re := range rules {
			out[i] = re.ReplaceAllString(out[i], p.Rules[k].Replace)
		}
		if out[i] == "" {
			out[i] = *old
		}
	}
	return out
}

// numbered gives all but the first of equal names a number that no other name
// ends in.
func numbered(names []string, others map[string]bool) []string {
	wanted := map[string]bool{}
	for _, n := range names {
		wanted[n] = true
	}
	numbers := distinct.Numbers{}
	out := slices.Clone(names)
	taken := map[string]bool{}
	for i, n := range names {
		if taken[n] || others[n] {
			numbers.Next(n, func(k int) bool {
				out[i] = fmt.Sprintf("%s_%d", n, k)
				return !wanted[out[i]] && !others[out[i]] && !taken[out[i]]
			})
		}
		taken[out[i]] = true
	}
	return out
}
