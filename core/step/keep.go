package step

import (
	"context"

	"excavate/core/scene"
)

// KeepParams says what stays.
type KeepParams struct{ Where }

var _ = register(Kind{Name: "keep", Title: "Keep only", Family: Clean, On: Nodes, Version: 1,
	Purpose: "Keep what a rule takes and take out all else. Bones stay with their skin."},
	KeepParams{}, keep)

func keep(_ context.Context, s *scene.Scene, p KeepParams, r *Report) (*scene.Scene, error) {
	if p.Where.Where.Empty() {
		r.Nothing("no rule says what to keep")
		return s, nil
	}
	c, any, err := p.choose(s, r)
	if err != nil || !any {
		return s, err
	}
	return takeOut(s, c, false, r)
}
