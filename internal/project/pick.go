package project

import (
	"context"
	"database/sql"
	"errors"

	"excavate/core/chain"
	"excavate/core/pick"
	"excavate/core/scene"
	"excavate/core/step"
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
func (s *Service) Pick(digest string, rule []byte) (*Picked, error) {
	sc, err := s.SceneOf(digest)
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
func (s *Service) RulesFor(digest string, t pick.Things) ([]pick.Proposal, error) {
	sc, err := s.SceneOf(digest)
	if err != nil {
		return nil, err
	}
	return pick.Propose(sc, t)
}

// Tried is what a step would make of a scene.
type Tried struct {
	Scene string       `json:"scene,omitempty"`
	Stats *scene.Stats `json:"stats,omitempty"`
	Basis *Basis       `json:"basis,omitempty"`
	step.Report
	Seconds float64 `json:"seconds"`
	Error   string  `json:"error,omitempty"`
}

// Try runs one step on the scene of a band whose key that is. What comes of it
// is kept as a result, so that a chain with the step has it at once.
func (s *Service) Try(ctx context.Context, project int64, digest, key string, st chain.Step) (*Tried, error) {
	if key != digest { // that of a find is its scene's
		row, err := s.Store.GetResult(ctx, key)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
		if err != nil || row.Scene != digest {
			return nil, userErr(409, "the band has changed meanwhile; look at it again")
		}
	}
	sc, err := s.SceneOf(digest)
	if err != nil {
		return nil, err
	}
	st.Off = false
	doc := &chain.Chain{Steps: []chain.Step{st}}
	outside, err := s.beyondOf(ctx, project, doc)
	if err != nil {
		return nil, err
	}
	bands, err := chain.Run(ctx, key, sc, doc, outside, results{s, ctx}, nil)
	if err != nil {
		return nil, err
	}
	b := bands[len(bands)-1]
	out := &Tried{Report: step.Report{Lines: []string{}, Losses: []string{}}}
	if b.Err != nil {
		out.Error = b.Err.Error()
		return out, nil
	}
	if out.Scene, err = s.PutScene(b.Scene); err != nil {
		return nil, err
	}
	basis := NewBasis(b.Scene.Basis)
	out.Stats, out.Basis, out.Seconds = &b.Stats, &basis, b.Seconds
	out.Lines, out.Losses, out.Idle = append(out.Lines, b.Report.Lines...), append(out.Losses, b.Report.Losses...), b.Report.Idle
	return out, nil
}
