package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/scene"
)

// SetsParams says which sets of UVs and colours there are, and in what order.
type SetsParams struct {
	Where
	UV      []SetRow `json:"uv,omitempty" jsonschema:"title=UV sets,description=In the order in which they come to stand. Sets that are not listed stay behind these."`
	Colours []SetRow `json:"colours,omitempty" jsonschema:"title=Colour sets,description=In the order in which they come to stand. Sets that are not listed stay behind these."`
	Only    bool     `json:"only" jsonschema:"title=Only these,description=Drop sets that are not listed, of those kinds that are"`
}

// SetRow is one set.
type SetRow struct {
	Name string `json:"name" jsonschema:"title=Name"`
	From string `json:"from,omitempty" jsonschema:"title=From,description=The set that it is or a copy of: its name or its number from 1. Empty is the set of the same name and else the one at the same place."`
}

// Validate refuses names that stand twice.
func (p *SetsParams) Validate() error {
	for _, list := range [][]SetRow{p.UV, p.Colours} {
		seen := map[string]bool{}
		for _, x := range list {
			if x.Name == "" || seen[x.Name] {
				return fmt.Errorf("each set has a name of its own; %q does not", x.Name)
			}
			seen[x.Name] = true
		}
	}
	return p.Where.Validate()
}

var _ = register(Kind{Name: "sets", Title: "Name and order sets", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Name, order, copy and drop UV and colour sets, so that joining keeps each with its kind."},
	SetsParams{}, sets)

func sets(_ context.Context, s *scene.Scene, p SetsParams, r *Report) (*scene.Scene, error) {
	if len(p.UV)+len(p.Colours) == 0 {
		r.Nothing("no sets are listed")
		return s, nil
	}
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	// Materials name UV sets by their place, which may change: it has to change
	// alike for all parts that have one material.
	moves := map[int][]int{}
	var parts, dropped int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		n := *q
		uv, to, d := arranged(q.UVs, p.UV, p.Only)
		colours, _, e := arranged(q.Colours, p.Colours, p.Only)
		n.UVs, n.Colours = uv, colours
		dropped += d + e
		if !sameNames(uv, q.UVs) || !sameNames(colours, q.Colours) {
			parts++
		}
		for _, m := range q.Looks() {
			if m < 0 || len(to) == 0 {
				continue
			}
			if was, ok := moves[m]; ok && !agree(was, to) {
				return n, fmt.Errorf("parts with the material %s have their UV sets in different orders: split by material first, or choose fewer parts",
					s.Materials[m].Name)
			} else if !ok || len(to) > len(was) {
				moves[m] = to
			}
		}
		return n, nil
	})
	if err != nil {
		return nil, err
	}
	if parts == 0 {
		r.Nothing("the sets are named and ordered so already")
		return s, nil
	}
	if out, err = withUVSets(s, out, c.Parts, moves); err != nil {
		return nil, err
	}
	r.Say("sets of %s arranged", count(parts, "part", "parts"))
	if dropped > 0 {
		r.Lose("%s dropped", count(dropped, "set", "sets"))
	}
	return out, nil
}

// arranged is the list of sets that rows ask for; to tells where each old one
// is now (the first of its copies), None if it is dropped.
func arranged(list []scene.AttrSet, rows []SetRow, only bool) (out []scene.AttrSet, to []int, dropped int) {
	to = make([]int, len(list))
	for i := range to {
		to[i] = scene.None
	}
	if len(rows) == 0 {
		for i := range to {
			to[i] = i
		}
		return list, to, 0
	}
	for i, row := range rows {
		k := setNamed(list, row, i)
		if k < 0 {
			continue
		}
		x := list[k]
		x.Name, x.Made = row.Name, false
		if to[k] < 0 {
			to[k] = len(out)
		}
		out = append(out, x)
	}
	for k := range list {
		if to[k] >= 0 {
			continue
		}
		if only {
			dropped++
			continue
		}
		to[k] = len(out)
		out = append(out, list[k])
	}
	return out, to, dropped
}

// setNamed finds the set that row i is about.
func setNamed(list []scene.AttrSet, row SetRow, i int) int {
	named := func(name string) int {
		return slices.IndexFunc(list, func(x scene.AttrSet) bool { return x.Name == name })
	}
	if row.From != "" {
		if k := named(row.From); k >= 0 {
			return k
		}
		var n int
		if _, err := fmt.Sscanf(row.From, "%d", &n); err == nil && n >= 1 && n <= len(list) {
			return n - 1
		}
		return -1
	}
	if k := named(row.Name); k >= 0 {
		return k
	}
	if i < len(list) {
		return i
	}
	return -1
}

func sameNames(a, b []scene.AttrSet) bool {
	return slices.EqualFunc(a, b, func(x, y scene.AttrSet) bool { return x.Name == y.Name })
}

func agree(a, b []int) bool {
	n := min(len(a), len(b))
	return slices.Equal(a[:n], b[:n])
}

// withUVSets lets textures follow their UV sets. A set that is dropped and a
// material that parts which stay as they were use too are refused: their
// textures would lie wrong.
func withUVSets(was, s *scene.Scene, taken func(node int) []bool, moves map[int][]int) (*scene.Scene, error) {
	for i := range was.Nodes {
		if was.Nodes[i].Mesh < 0 {
			continue
		}
		for j, p := range was.Meshes[was.Nodes[i].Mesh].Parts {
			for _, m := range p.Looks() {
				if to, ok := moves[m]; ok && !taken(i)[j] && movesAny(&was.Materials[m], to) {
					return nil, fmt.Errorf("the material %s is also used by parts that are not chosen, whose UV sets keep their places: choose all of its parts",
						was.Materials[m].Name)
				}
			}
		}
	}
	out := *s
	out.Materials = slices.Clone(s.Materials)
	for m, to := range moves {
		t := slices.Clone(out.Materials[m].Textures)
		for k := range t {
			if t[k].UVSet >= len(to) {
				continue
			}
			at := to[t[k].UVSet]
			if at < 0 {
				return nil, fmt.Errorf("the picture for %s of the material %s lies on a UV set that would be dropped",
					t[k].Role, out.Materials[m].Name)
			}
			t[k].UVSet = at
		}
		out.Materials[m].Textures = t
	}
	return &out, nil
}

func movesAny(m *scene.Material, to []int) bool {
	for _, t := range m.Textures {
		if t.UVSet < len(to) && to[t.UVSet] != t.UVSet {
			return true
		}
	}
	return false
}
