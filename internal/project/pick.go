package project

import (
	"excavate/core/pick"
)

// Picked is what a rule takes of a scene.
type Picked struct {
	pick.Counts
	First []string `json:"first"`           // the names of the first nodes, or where there are none, materials
	Why   string   `json:"why,omitempty"`   // which condition leaves nothing
	Wrong string   `json:"wrong,omitempty"` // why the rule is none
}

// Pick evaluates a rule, as chains have it, over a stored scene. A rule that
// is none is an answer too: it is being typed.
func (s *Scenes) Pick(digest string, rule []byte) (*Picked, error) {
	sc, err := s.Get(digest)
	if err != nil {
		return nil, err
	}
	out := &Picked{First: []string{}}
	r, err := pick.Parse(rule)
	if err != nil {
		out.Wrong = err.Error()
		return out, nil
	}
	c, err := pick.Of(sc, r)
	if err != nil {
		out.Wrong = err.Error()
		return out, nil
	}
	const few = 6
	out.Counts = c.Counts()
	for i, ok := range c.Nodes {
		if ok && len(out.First) < few {
			out.First = append(out.First, sc.Nodes[i].Name)
		}
	}
	if out.Nodes == 0 {
		for i, ok := range c.Materials {
			if ok && len(out.First) < few {
				out.First = append(out.First, sc.Materials[i].Name)
			}
		}
	}
	if c.None() {
		out.Why = pick.Why(sc, r)
	}
	return out, nil
}

// RulesFor are rules that take what was chosen by hand.
func (s *Scenes) RulesFor(digest string, t pick.Things) ([]pick.Proposal, error) {
	sc, err := s.Get(digest)
	if err != nil {
		return nil, err
	}
	return pick.Propose(sc, t)
}
