package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/distinct"
	"excavate/core/scene"
)

// ClipsParams say how motions are taken apart or put together.
type ClipsParams struct {
	Split []ClipRange `json:"split,omitempty" jsonschema:"title=Apart,description=Each row a motion of its own; what they come from goes"`
	Join  []string    `json:"join,omitempty" jsonschema:"title=Together,description=Motions by their names, one after the other"`
	Name  string      `json:"name,omitempty" jsonschema:"title=Together they are,maxLength=1000"`
}

// ClipRange is a part of a motion.
type ClipRange struct {
	Motion string  `json:"motion" jsonschema:"title=Of the motion,minLength=1"`
	Name   string  `json:"name" jsonschema:"title=Named,minLength=1,maxLength=1000"`
	From   float64 `json:"from" jsonschema:"title=From,minimum=0,maximum=1e+06" jsonschema_extras:"unit=s"`
	To     float64 `json:"to" jsonschema:"title=To,minimum=0,maximum=1e+06" jsonschema_extras:"unit=s"`
}

// Validate refuses ranges without a length.
func (p *ClipsParams) Validate() error {
	for i, x := range p.Split {
		if !(x.To > x.From) {
			return fmt.Errorf("row %d: to %g s is not behind from %g s", i+1, x.To, x.From)
		}
	}
	if len(p.Join) == 1 || len(p.Join) > 0 && p.Name == "" {
		return fmt.Errorf("name two motions or more to put together, and what they are called then")
	}
	return nil
}

var _ = register(Kind{Name: "clips", Title: "Clips", Family: Rig, Version: 1,
	Purpose: "Make several motions of one by ranges, or one of several."},
	ClipsParams{}, clips)

func clips(_ context.Context, s *scene.Scene, p ClipsParams, r *Report) (*scene.Scene, error) {
	if len(p.Split)+len(p.Join) == 0 {
		r.Nothing("nothing is listed")
		return s, nil
	}
	find := func(name string) (int, error) {
		k := slices.IndexFunc(s.Motions, func(m scene.Motion) bool { return m.Name == name })
		if k < 0 {
			return 0, fmt.Errorf("there is no motion %q; there are %s", name, named(motionNames(s)))
		}
		return k, nil
	}
	used := make([]bool, len(s.Motions))
	var made []scene.Motion
	for _, x := range p.Split {
		k, err := find(x.Motion)
		if err != nil {
			return nil, err
		}
		used[k] = true
		m := s.Motions[k]
		if end := m.Seconds(); x.From >= end {
			return nil, fmt.Errorf("%s ends at %.4g s, and %s would begin at %g s", m.Name, end, x.Name, x.From)
		}
		m.Name, m.Channels = x.Name, slices.Clone(m.Channels)
		cutMotion(&m, x.From, min(x.To, m.Seconds()))
		made = append(made, m)
	}
	if len(p.Join) > 0 {
		var list []*scene.Motion
		for _, name := range p.Join {
			k, err := find(name)
			if err != nil {
				return nil, err
			}
			used[k] = true
			list = append(list, &s.Motions[k])
		}
		m, err := inRow(s, list)
		if err != nil {
			return nil, err
		}
		m.Name = p.Name
		made = append(made, m)
	}
	out := *s
	out.Motions = nil
	var names distinct.Names
	for i := range s.Motions {
		if !used[i] {
			names.Name(s.Motions[i].Name, " ")
			out.Motions = append(out.Motions, s.Motions[i])
		}
	}
	for _, m := range made {
		m.Name = names.Name(m.Name, " ")
		out.Motions = append(out.Motions, m)
		r.Say("%s: %.4g s", m.Name, m.Seconds())
	}
	return &out, nil
}

// inRow is motions one after the other. What one of them does not move stands
// as at rest meanwhile.
func inRow(s *scene.Scene, list []*scene.Motion) (scene.Motion, error) {
	type what struct {
		node int
		path scene.Path
	}
	var order []what
	per := map[what]int{}
	for _, m := range list {
		for i := range m.Channels {
			c := &m.Channels[i]
			w := what{c.Node, c.Path}
			if n, ok := per[w]; !ok {
				order = append(order, w)
				per[w] = c.Per()
			} else if n != c.Per() && len(c.Times) > 0 {
				return scene.Motion{}, fmt.Errorf("%s moves %d morph targets of %s, and another motion %d",
					m.Name, c.Per(), s.Nodes[c.Node].Name, n)
			}
		}
	}
	var out scene.Motion
	for _, w := range order {
		c := scene.Channel{Node: w.node, Path: w.path, Interp: scene.Linear}
		start := float32(0)
		for _, m := range list {
			var its *scene.Channel
			for i := range m.Channels {
				if x := &m.Channels[i]; x.Node == w.node && x.Path == w.path && len(x.Times) > 0 {
					its = x
				}
			}
			end := float32(m.Seconds())
			put := func(t float32, v []float32) {
				t += start
				if n := len(c.Times); n > 0 && t <= c.Times[n-1] { // where one ends and the next begins
					t = c.Times[n-1] + 1e-4
				}
				c.Times, c.Values = append(c.Times, t), append(c.Values, v...)
			}
			if its == nil {
				rest := restValue(s, w.node, w.path, per[w])
				put(0, rest)
				put(end, rest)
			} else {
				x := *its
				if x.Interp == scene.Cubic {
					x = linear(its, placeRate)
				}
				if x.Times[0] > 0 {
					put(0, x.At(0))
				}
				for k, t := range x.Times {
					if x.Interp == scene.Step && k > 0 { // it holds until the next
						put(t-1e-4, x.Values[(k-1)*per[w]:k*per[w]])
					}
					put(t, x.Values[k*per[w]:(k+1)*per[w]])
				}
				if x.Times[len(x.Times)-1] < end {
					put(end, x.At(float64(end)))
				}
			}
			start += end
		}
		out.Channels = append(out.Channels, c)
	}
	return out, nil
}

// restValue is what a node has at rest.
func restValue(s *scene.Scene, node int, path scene.Path, per int) []float32 {
	n := &s.Nodes[node]
	switch path {
	case scene.PathTranslation:
		return n.Translation[:]
	case scene.PathRotation:
		return n.Rotation[:]
	case scene.PathScale:
		return n.Scale[:]
	}
	out := make([]float32, per)
	if n.Mesh >= 0 && len(s.Meshes[n.Mesh].Parts) > 0 {
		for k, m := range s.Meshes[n.Mesh].Parts[0].Morphs {
			if k < per {
				out[k] = m.Weight
			}
		}
	}
	return out
}
