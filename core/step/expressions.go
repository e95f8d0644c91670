package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/pick"
	"excavate/core/scene"
)

// ExpressionsParams say what faces and other shapes are called, and which stay.
type ExpressionsParams struct {
	Rows []ExpressionRow `json:"rows,omitempty" jsonschema:"title=Names,description=Of morph targets, and of an avatar's expressions"`
	Keep []string        `json:"keep,omitempty" jsonschema:"title=Keep only,description=Names or patterns with *, after renaming; empty keeps all"`
}

// ExpressionRow renames.
type ExpressionRow struct {
	From string `json:"from" jsonschema:"title=Named,minLength=1,description=A name or a pattern with *"`
	To   string `json:"to" jsonschema:"title=Becomes,minLength=1,maxLength=1000,description={1} stands for what the first * stood for. Targets of one mesh that come to have one name are added up."`
}

var _ = register(Kind{Name: "expressions", Title: "Expressions", Family: Rig, Version: 1,
	Purpose: "Rename morph targets and an avatar's expressions, add several up to one, and keep only those that a target knows. Motions go along."},
	ExpressionsParams{}, expressions)

func expressions(_ context.Context, s *scene.Scene, p ExpressionsParams, r *Report) (*scene.Scene, error) {
	if len(p.Rows)+len(p.Keep) == 0 {
		r.Nothing("nothing is listed")
		return s, nil
	}
	name := func(was string) string {
		for _, row := range p.Rows {
			if pick.Fits(row.From, was) {
				return filled(row.To, row.From, was)
			}
		}
		return was
	}
	stays := func(n string) bool {
		return len(p.Keep) == 0 || slices.ContainsFunc(p.Keep, func(glob string) bool { return pick.Fits(glob, n) })
	}
	out := *s
	out.Meshes = slices.Clone(s.Meshes)
	to := make([][]int, len(s.Meshes)) // where each target of a mesh is now
	var renamed, added, gone []string
	note := func(list *[]string, text string) {
		if !slices.Contains(*list, text) {
			*list = append(*list, text)
		}
	}
	for i := range s.Meshes {
		n := 0
		for j := range s.Meshes[i].Parts {
			n = max(n, len(s.Meshes[i].Parts[j].Morphs))
		}
		if n == 0 {
			continue
		}
		// The parts of a mesh have the same targets: motions name them by number.
		var names []string
		at := make([]int, n)
		for k := range n {
			was := targetName(&s.Meshes[i], k)
			now := name(was)
			if now != was {
				note(&renamed, was+" → "+now)
			}
			if at[k] = slices.Index(names, now); at[k] >= 0 {
				note(&added, now)
				continue
			}
			if !stays(now) {
				note(&gone, was)
				at[k] = scene.None
				continue
			}
			at[k] = len(names)
			names = append(names, now)
		}
		to[i] = at
		out.Meshes[i].Parts = slices.Clone(s.Meshes[i].Parts)
		for j := range out.Meshes[i].Parts {
			out.Meshes[i].Parts[j].Morphs = arrangedMorphs(s.Meshes[i].Parts[j].Morphs, at, names)
		}
	}
	out.Motions = slices.Clone(s.Motions)
	for m := range out.Motions {
		var list []scene.Channel
		for _, c := range out.Motions[m].Channels {
			if c.Path == scene.PathWeights && s.Nodes[c.Node].Mesh >= 0 && to[s.Nodes[c.Node].Mesh] != nil {
				var any bool
				if c, any = arrangedWeights(c, to[s.Nodes[c.Node].Mesh]); !any {
					continue
				}
			}
			list = append(list, c)
		}
		out.Motions[m].Channels = list
	}
	if a := s.Avatar; a != nil {
		out.Avatar = a.WithExpressions(func(e *scene.Expression) bool {
			now := name(e.Name)
			if now != e.Name {
				note(&renamed, e.Name+" → "+now)
			}
			var list []scene.ExpressionMorph
			for _, m := range e.Morphs {
				mesh := s.Nodes[m.Node].Mesh
				if mesh >= 0 && to[mesh] != nil && m.Index < len(to[mesh]) {
					m.Index = to[mesh][m.Index]
				}
				if m.Index >= 0 {
					list = append(list, m)
				}
			}
			e.Name, e.Morphs = now, list
			return stays(now)
		})
	}
	if len(renamed)+len(added)+len(gone) == 0 && (s.Avatar == nil || len(s.Avatar.Expressions) == len(out.Avatar.Expressions)) {
		r.Nothing("no expression or morph target has to change")
		return s, nil
	}
	if len(renamed) > 0 {
		r.Say("%s renamed: %s", count(len(renamed), "expression", "expressions"), named(renamed))
	}
	if len(added) > 0 {
		r.Say("added up: %s", named(added))
	}
	if len(gone) > 0 {
		r.Say("%s let go: %s", count(len(gone), "expression", "expressions"), named(gone))
	}
	if err := out.Validate(); err != nil {
		return nil, fmt.Errorf("what is left: %w", err)
	}
	return &out, nil
}

// targetName is the name of a mesh's morph target.
func targetName(m *scene.Mesh, k int) string {
	for j := range m.Parts {
		if k < len(m.Parts[j].Morphs) && m.Parts[j].Morphs[k].Name != "" {
			return m.Parts[j].Morphs[k].Name
		}
	}
	return ""
}

// arrangedMorphs are a part's targets where they are now; those that come to
// one place are added up.
func arrangedMorphs(was []scene.MorphTarget, at []int, names []string) []scene.MorphTarget {
	if len(was) == 0 {
		return was
	}
	out := make([]scene.MorphTarget, len(names))
	for k := range out {
		out[k].Name = names[k]
	}
	for k, m := range was {
		if at[k] < 0 {
			continue
		}
		to := &out[at[k]]
		to.Weight = max(to.Weight, m.Weight)
		for _, x := range []struct {
			to   *[]float32
			from []float32
		}{{&to.Positions, m.Positions}, {&to.Normals, m.Normals}, {&to.Tangents, m.Tangents}} {
			if x.from == nil {
				continue
			}
			if *x.to == nil {
				*x.to = slices.Clone(x.from)
				continue
			}
			for i, v := range x.from {
				(*x.to)[i] += v
			}
		}
	}
	return out
}

// arrangedWeights are keys of weights for the targets that are left.
func arrangedWeights(c scene.Channel, at []int) (scene.Channel, bool) {
	n := 0
	for _, k := range at {
		n = max(n, k+1)
	}
	per := c.Per()
	if n == 0 || per == 0 {
		return c, false
	}
	values := make([]float32, 0, len(c.Values)/per*n)
	for i := 0; i+per <= len(c.Values); i += per {
		row := make([]float32, n)
		for k := range min(per, len(at)) {
			if at[k] >= 0 { // of those that are added up the strongest counts
				row[at[k]] = max(row[at[k]], c.Values[i+k])
			}
		}
		values = append(values, row...)
	}
	c.Values = values
	return c, true
}
