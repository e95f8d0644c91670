package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/distinct"
	"excavate/core/pick"
	"excavate/core/scene"
)

// MotionsParams say which motions there are, in which order and by which names.
type MotionsParams struct {
	Rows []MotionRow `json:"rows" jsonschema:"title=Motions,description=In the order in which they come to stand; those that no row names stay behind these"`
	Only bool        `json:"only" jsonschema:"title=Only these,description=Let the others go"`
}

// MotionRow chooses motions by name.
type MotionRow struct {
	Motion string `json:"motion" jsonschema:"title=Named,minLength=1,description=A name or a pattern with *"`
	Name   string `json:"name,omitempty" jsonschema:"title=Becomes,maxLength=1000,description={1} stands for what the first * stood for; empty keeps the name"`
}

var _ = register(Kind{Name: "motions", Title: "Motions", Family: Rig, Version: 1,
	Purpose: "Name motions, put them in order, and choose which stay."},
	MotionsParams{Rows: []MotionRow{}}, motions)

func motions(_ context.Context, s *scene.Scene, p MotionsParams, r *Report) (*scene.Scene, error) {
	if len(p.Rows) == 0 {
		r.Nothing("no motion is listed")
		return s, nil
	}
	var list []scene.Motion
	taken := make([]bool, len(s.Motions))
	var names distinct.Names
	var renamed, none []string
	for _, row := range p.Rows {
		hit := false
		for i := range s.Motions {
			m := s.Motions[i]
			if taken[i] || !pick.Fits(row.Motion, m.Name) {
				continue
			}
			taken[i], hit = true, true
			if row.Name != "" {
				m.Name = filled(row.Name, row.Motion, m.Name)
			}
			if m.Name = names.Name(m.Name, " "); m.Name != s.Motions[i].Name {
				renamed = append(renamed, s.Motions[i].Name+" → "+m.Name)
			}
			list = append(list, m)
		}
		if !hit {
			none = append(none, row.Motion)
		}
	}
	var gone []string
	for i := range s.Motions {
		switch {
		case taken[i]:
		case p.Only:
			gone = append(gone, s.Motions[i].Name)
		default:
			m := s.Motions[i]
			m.Name = names.Name(m.Name, " ")
			list = append(list, m)
		}
	}
	if len(none) > 0 {
		r.Say("no motion is named %s", named(none))
	}
	same := len(gone)+len(renamed) == 0 && slices.EqualFunc(list, s.Motions, func(a, b scene.Motion) bool { return a.Name == b.Name })
	if same {
		r.Nothing("the motions are named and ordered so already")
		return s, nil
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("no motion would be left; there are %s", named(motionNames(s)))
	}
	out := *s
	out.Motions = list
	r.Say("%s: %s", count(len(list), "motion", "motions"), named(motionNames(&out)))
	if len(renamed) > 0 {
		r.Say("renamed: %s", named(renamed))
	}
	if len(gone) > 0 {
		r.Say("let go: %s", named(gone))
	}
	return &out, nil
}

func motionNames(s *scene.Scene) (out []string) {
	for i := range s.Motions {
		out = append(out, s.Motions[i].Name)
	}
	return out
}

// eachMotion changes the motions whose names fit a pattern; empty is all. f
// tells whether it changed one.
func eachMotion(ctx context.Context, s *scene.Scene, glob string, r *Report, f func(m *scene.Motion) (bool, error)) (*scene.Scene, error) {
	out := *s
	out.Motions = slices.Clone(s.Motions)
	hit, changed := 0, 0
	for i := range out.Motions {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if glob != "" && !pick.Fits(glob, out.Motions[i].Name) {
			continue
		}
		hit++
		m := out.Motions[i]
		m.Channels = slices.Clone(m.Channels)
		did, err := f(&m)
		if err != nil {
			return nil, fmt.Errorf("the motion %s: %w", m.Name, err)
		}
		if did {
			out.Motions[i] = m
			changed++
		}
	}
	switch {
	case len(s.Motions) == 0:
		r.Nothing("there are no motions")
	case hit == 0:
		r.Nothing("no motion is named %s; there are %s", glob, named(motionNames(s)))
	case changed == 0:
		r.Nothing("no motion has to change")
	default:
		return &out, nil
	}
	return s, nil
}
