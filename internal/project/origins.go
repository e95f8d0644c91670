package project

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"excavate/core/find"
	"excavate/core/terms"
	"excavate/internal/store/db"
)

// OriginsOf are the sources that a find came from, with the digests of those
// that are files.
func (s *Finds) OriginsOf(ctx context.Context, f db.Find) ([]find.Origin, error) {
	list, err := s.SourcesOf(ctx, f)
	if err != nil {
		return nil, err
	}
	return list, s.digested(ctx, f.ProjectID, list)
}

// SourcesOf are the sources that a find came from. Terms that were stated by
// hand since count; what was taken out of the project is as it was.
func (s *Finds) SourcesOf(ctx context.Context, f db.Find) ([]find.Origin, error) {
	var m struct {
		Origins []find.Origin `json:"origins"`
	}
	if err := json.Unmarshal(f.Model, &m); err != nil {
		return nil, err
	}
	if len(m.Origins) == 0 { // of an earlier version
		m.Origins = []find.Origin{{Source: f.SourceLabel, Entries: []string{f.EntryPath}}}
	}
	return m.Origins, s.stated(ctx, f.ProjectID, m.Origins)
}

// digested fills in the digests of archives that were too large to be digested
// at once, as far as they are still there.
func (s *Finds) digested(ctx context.Context, project int64, origins []find.Origin) error {
	if !slices.ContainsFunc(origins, func(o find.Origin) bool { return o.SHA256 == "" }) {
		return nil
	}
	stack, err := s.sources.Stack(ctx, project)
	if err != nil {
		return err
	}
	for i := range origins {
		for _, src := range stack {
			if origins[i].SHA256 == "" && src.Label == origins[i].Source {
				origins[i].SHA256, _ = src.Digest() // a folder has none
			}
		}
	}
	return nil
}

// stated puts what is known of a project's sources into origins, where they say
// nothing themselves or the porter has said it.
func (s *Finds) stated(ctx context.Context, project int64, origins []find.Origin) error {
	rows, err := s.store.ListSources(ctx, project)
	if err != nil {
		return err
	}
	for i := range origins {
		o := &origins[i]
		for _, r := range rows {
			if r.Label != o.Source {
				continue
			}
			var t terms.Terms
			if json.Unmarshal(r.Rights, &t) == nil && t.Stated() && (t.ByHand || o.Rights == nil) {
				if p := t.Permission; p != nil && p.SHA256 != "" {
					if p.Data, err = s.blobs.Get(p.SHA256); err != nil {
						return fmt.Errorf("the permission of %s: %w", r.Label, err)
					}
				}
				o.Rights = &t
			}
			if o.Text == "" {
				o.Text = r.Terms
			}
		}
	}
	return nil
}

// keepOrigins writes what is stated of a project's sources to the finds that
// came from them, before one is taken out.
func (s *Finds) keepOrigins(ctx context.Context, project int64) error {
	finds, err := s.store.ListFinds(ctx, project)
	if err != nil {
		return err
	}
	for _, f := range finds {
		var m map[string]json.RawMessage
		if json.Unmarshal(f.Model, &m) != nil || m == nil {
			continue
		}
		origins, err := s.OriginsOf(ctx, f)
		if err != nil {
			return err
		}
		text := asJSON(origins)
		if bytes.Equal(text, m["origins"]) {
			continue
		}
		m["origins"] = text
		if err := s.store.FindModel(ctx, db.FindModelParams{Model: asJSON(m), ID: f.ID}); err != nil {
			return err
		}
	}
	return nil
}
