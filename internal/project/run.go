package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"excavate/core/chain"
	"excavate/core/step"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// results is the chain's cache: rows in the database, scenes in the blobs.
type results struct {
	s   *Scenes
	ctx context.Context
}

func (r results) Get(key string) (*chain.Result, bool) {
	row, err := r.s.store.GetResult(r.ctx, key)
	if err != nil || row.Error != "" {
		return nil, false
	}
	sc, err := r.s.Get(row.Scene)
	if err != nil {
		return nil, false
	}
	out := &chain.Result{Scene: sc, Seconds: row.Seconds}
	if json.Unmarshal(row.Report, &out.Report) != nil || json.Unmarshal(row.Stats, &out.Stats) != nil {
		return nil, false
	}
	return out, true
}

func (r results) Put(key string, res *chain.Result) {
	d, err := r.s.Put(res.Scene)
	if err != nil {
		return // a cache may forget
	}
	r.s.store.PutResult(r.ctx, db.PutResultParams{CacheKey: key, Scene: d, Report: asJSON(res.Report),
		Stats: asJSON(res.Stats), Basis: asJSON(NewBasis(res.Scene.Basis)), Seconds: res.Seconds})
}

func (s *Chains) doRun(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	c, err := s.store.GetChain(ctx, a.ID)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	defer s.store.TouchProject(context.WithoutCancel(ctx), c.ProjectID)
	_, err = s.run(ctx, c, t)
	return err
}

func (s *Chains) run(ctx context.Context, c db.Chain, t *work.Task) ([]chain.Band, error) {
	f, err := s.store.GetFind(ctx, c.FindID)
	if err != nil {
		return nil, err
	}
	if f.Scene == "" {
		return nil, nil // it runs once the find is decoded
	}
	doc, err := s.steps(ctx, c)
	if err != nil {
		return nil, err
	}
	in, err := s.scenes.Get(f.Scene)
	if err != nil {
		return nil, err
	}
	outside, err := s.finds.beyondOf(ctx, c.ProjectID, doc)
	if err != nil {
		return nil, err
	}
	bands, err := chain.Run(ctx, f.Scene, in, doc, outside, results{s.scenes, ctx}, func(i int) {
		if t != nil {
			t.Progress(int64(i), int64(len(doc.Steps)), "steps")
		}
	})
	if err != nil {
		return bands, err
	}
	if b := chain.Failed(bands); b != nil {
		return bands, s.store.PutResult(ctx, db.PutResultParams{CacheKey: b.Key,
			Report: asJSON(step.Report{Lines: []string{}}), Stats: asJSON(b.Stats),
			Basis: json.RawMessage("{}"), Error: b.Err.Error()})
	}
	return bands, nil
}
