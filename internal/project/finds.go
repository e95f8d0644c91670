package project

import (
	"context"
	"errors"

	"excavate/internal/store"
	"excavate/internal/store/db"
)

// Found is a find with what belongs to it.
type Found struct {
	db.Find
	Entry  int64   // from which it is decoded; 0 where its source is gone or holds it no more
	Size   int64   // of the entry, in bytes
	Chains []int64 // in the order in which they were made
}

// Finds lists a project's finds, in a number of queries that does not depend on
// theirs.
func (s *Service) Finds(ctx context.Context, project int64) ([]Found, error) {
	rows, err := s.Store.ListFinds(ctx, project)
	if err != nil {
		return nil, err
	}
	chains, err := s.Store.FindsOfChains(ctx, project)
	if err != nil {
		return nil, err
	}
	c, err := s.Catalog(ctx, project)
	if err != nil {
		return nil, err
	}
	out := make([]Found, len(rows))
	of := make(map[int64]*Found, len(rows))
	wanted := map[int64]map[string][]*Found{} // by source and path
	for i, r := range rows {
		out[i].Find = r
		of[r.ID] = &out[i]
		if !r.SourceID.Valid {
			continue
		}
		if wanted[r.SourceID.Int64] == nil {
			wanted[r.SourceID.Int64] = map[string][]*Found{}
		}
		at := wanted[r.SourceID.Int64]
		at[r.EntryPath] = append(at[r.EntryPath], &out[i])
	}
	for _, x := range chains {
		if f := of[x.FindID]; f != nil {
			f.Chains = append(f.Chains, x.ID)
		}
	}
	for _, src := range c.Sources() {
		at := wanted[src.ID]
		if at == nil {
			continue
		}
		for i := range src.List.Len() {
			for _, f := range at[src.List.Path(i)] {
				f.Entry, f.Size = src.List.ID(i), src.List.Size(i)
			}
		}
	}
	return out, nil
}

// Found is one find with what belongs to it.
func (s *Service) Found(ctx context.Context, id int64) (*Found, error) {
	row, err := s.Store.GetFind(ctx, id)
	if row, err = Known(row, err, "find", id); err != nil {
		return nil, err
	}
	out := &Found{Find: row}
	if row.SourceID.Valid {
		e, err := s.Store.EntryByPath(ctx, db.EntryByPathParams{SourceID: row.SourceID.Int64, Path: row.EntryPath})
		switch {
		case err == nil:
			out.Entry, out.Size = store.EntryID(e.SourceID, e.Slot), e.Size
		case !errors.Is(err, errNoRows):
			return nil, err
		}
	}
	out.Chains, err = s.Store.ChainsOfFind(ctx, id)
	return out, err
}
