package step

import (
	"context"
	"fmt"
	"regexp"
	"slices"

	"excavate/core/rig"
	"excavate/core/scene"
)

// BonesRenameParams say what bones are called.
type BonesRenameParams struct {
	Map   []BoneName   `json:"map,omitempty" jsonschema:"title=Names,description=Bones by their exact names; before the rules"`
	To    string       `json:"to,omitempty" jsonschema:"title=Limbs to,enum=,enum=humanoid,description=Those of the body get the words of the standard for humanoid bones (VRM 1.0)" jsonschema_extras:"empty=as they are"`
	Rules []RenameRule `json:"rules,omitempty" jsonschema:"title=Rules,description=Each works on the result of the one before"`
	Limbs
}

// BoneName is what one bone is and will be called.
type BoneName struct {
	From string `json:"from" jsonschema:"title=Bone,minLength=1"`
	To   string `json:"to" jsonschema:"title=Becomes,minLength=1"`
}

// Validate refuses patterns that are no regular expressions.
func (p *BonesRenameParams) Validate() error {
	return (&RenameParams{What: "bones", Rules: p.Rules}).Validate()
}

var _ = register(Kind{Name: "bones-rename", Title: "Rename bones", Family: Rig, Version: 1,
	Purpose: "Give bones other names: by a table, by rules, or the standard's words for the limbs that they are."},
	BonesRenameParams{}, bonesRename)

func bonesRename(_ context.Context, s *scene.Scene, p BonesRenameParams, r *Report) (*scene.Scene, error) {
	k := rig.Of(s)
	if len(k.Bones) == 0 {
		r.Nothing("there are no bones")
		return s, nil
	}
	if bad := unknownLimbs(p.Limbs.Limbs, k); len(bad) > 0 {
		return nil, fmt.Errorf("limbs: %s", named(bad))
	}
	limbs := map[int]string{}
	if p.To == "humanoid" {
		body := k.Map(p.fixed())
		if missing := body.Missing(); len(missing) > 0 {
			return nil, fmt.Errorf("the skeleton has no %s that can be told; name them in the table",
				named(missing))
		}
		for limb, m := range body {
			limbs[m.Bone] = limb
		}
	}
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	var changed []string
	found := map[string]bool{}
	for _, b := range k.Bones {
		name := s.Nodes[b].Name
		row := slices.IndexFunc(p.Map, func(x BoneName) bool { return x.From == name })
		switch {
		case row >= 0:
			found[name] = true
			name = p.Map[row].To
		case limbs[b] != "":
			name = limbs[b]
		}
		for _, x := range p.Rules {
			if to := regexp.MustCompile(x.Find).ReplaceAllString(name, x.Replace); to != "" { // Validate has seen it
				name = to
			}
		}
		if name != s.Nodes[b].Name {
			changed = append(changed, fmt.Sprintf("%s → %s", s.Nodes[b].Name, name))
			out.Nodes[b].Name = name
		}
	}
	var none []string
	for _, x := range p.Map {
		if !found[x.From] {
			none = append(none, x.From)
		}
	}
	if len(changed) == 0 {
		r.Nothing("no bone gets another name%s", ifAny(len(none), "; %s", "there is no bone "+named(none)))
		return s, nil
	}
	if twice := twiceNamed(&out, k.Bones); len(twice) > 0 && len(twiceNamed(s, k.Bones)) == 0 {
		return nil, fmt.Errorf("two bones would be called %s", named(twice))
	}
	r.Say("%s renamed: %s", count(len(changed), "bone", "bones"), named(changed))
	if len(none) > 0 {
		r.Say("there is no bone %s", named(none))
	}
	return &out, nil
}

// twiceNamed lists the names that several bones have.
func twiceNamed(s *scene.Scene, bones []int) (out []string) {
	seen := map[string]int{}
	for _, b := range bones {
		if seen[s.Nodes[b].Name]++; seen[s.Nodes[b].Name] == 2 {
			out = append(out, s.Nodes[b].Name)
		}
	}
	return out
}
