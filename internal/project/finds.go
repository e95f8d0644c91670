package project

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strings"

	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/internal/store"
	"excavate/internal/store/db"
)

// List are assets that are being worked on, as they were decoded.
type Finds struct {
	*common
	scenes    *Scenes
	libraries *Libraries
	sources   *Sources
}

// Found is a find with what belongs to it.
type Found struct {
	db.Find
	Entry  int64   // from which it is decoded; 0 where its source is gone or holds it no more
	Size   int64   // of the entry, in bytes
	Chains []int64 // in the order in which they were made
}

// List lists a project's finds, in a number of queries that does not depend on
// theirs.
func (s *Finds) List(ctx context.Context, project int64) ([]Found, error) {
	rows, err := s.store.ListFinds(ctx, project)
	if err != nil {
		return nil, err
	}
	chains, err := s.store.FindsOfChains(ctx, project)
	if err != nil {
		return nil, err
	}
	c, err := s.sources.Catalog(ctx, project)
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
func (s *Finds) Found(ctx context.Context, id int64) (*Found, error) {
	row, err := s.store.GetFind(ctx, id)
	if row, err = Known(row, err, "find", id); err != nil {
		return nil, err
	}
	out := &Found{Find: row}
	if row.SourceID.Valid {
		e, err := s.store.EntryByPath(ctx, db.EntryByPathParams{SourceID: row.SourceID.Int64, Path: row.EntryPath})
		switch {
		case err == nil:
			out.Entry, out.Size = store.EntryID(e.SourceID, e.Slot), e.Size
		case !errors.Is(err, errNoRows):
			return nil, err
		}
	}
	out.Chains, err = s.store.ChainsOfFind(ctx, id)
	return out, err
}

// SetBasis decides what a find's coordinates mean; nil takes the file's word
// again.
func (s *Finds) SetBasis(ctx context.Context, id int64, b *geom.Basis) error {
	f, err := s.store.GetFind(ctx, id)
	if f, err = Known(f, err, "find", id); err != nil {
		return err
	}
	text := []byte("null")
	if b != nil {
		if err := b.Validate(); err != nil {
			return errorf(Invalid, "%v", err)
		}
		text = asJSON(b)
	}
	if bytes.Equal(text, f.Basis) {
		return nil
	}
	if err := s.store.FindBasis(ctx, db.FindBasisParams{Basis: text, ID: id}); err != nil {
		return err
	}
	return s.queueDecode(ctx, f.ProjectID, id, "Decoding "+f.EntryPath)
}

// SetReadings chooses where a layout leaves open what bytes mean.
func (s *Finds) SetReadings(ctx context.Context, id int64, readings map[string]string) error {
	f, err := s.store.GetFind(ctx, id)
	if f, err = Known(f, err, "find", id); err != nil {
		return err
	}
	var m Model
	if err := json.Unmarshal(f.Model, &m); err != nil {
		return err
	}
	known := map[string][]string{}
	for _, r := range m.Readings {
		known[r.Name] = r.Choices
	}
	for k, v := range readings {
		ok := false
		for _, c := range known[k] {
			ok = ok || c == v
		}
		if !ok {
			return errorf(Invalid, "%q is no choice of %q; there are %s", v, k, strings.Join(known[k], ", "))
		}
	}
	if err := s.store.FindReadings(ctx, db.FindReadingsParams{Readings: asJSON(readings), ID: id}); err != nil {
		return err
	}
	return s.queueDecode(ctx, f.ProjectID, id, "Decoding "+f.EntryPath)
}

// Get is a find's row.
func (s *Finds) Get(ctx context.Context, id int64) (db.Find, error) {
	f, err := s.store.GetFind(ctx, id)
	return Known(f, err, "find", id)
}

// Decoded is a find's row, if it is decoded.
func (s *Finds) Decoded(ctx context.Context, id int64) (db.Find, error) {
	f, err := s.Get(ctx, id)
	if err == nil && f.Scene == "" {
		err = errorf(Conflict, "%s is not decoded yet", f.Name)
	}
	return f, err
}

// DecodedIn are several of a project, which must all be decoded.
func (s *Finds) DecodedIn(ctx context.Context, project int64, ids []int64) ([]db.Find, error) {
	out := make([]db.Find, len(ids))
	for i, id := range ids {
		f, err := s.Decoded(ctx, id)
		if err != nil {
			return nil, err
		}
		if f.ProjectID != project {
			return nil, errorf(NotFound, "find %d is not in this project", id)
		}
		out[i] = f
	}
	return out, nil
}

// SceneOf is what a find was decoded to, and the find's name.
func (s *Finds) SceneOf(ctx context.Context, id int64) (*scene.Scene, string, error) {
	f, err := s.Decoded(ctx, id)
	if err != nil {
		return nil, "", err
	}
	sc, err := s.scenes.Get(f.Scene)
	return sc, f.Name, err
}

// OfEntry is the find that is made of an entry, 0 if there is none.
func (s *Finds) OfEntry(ctx context.Context, src db.Source, path string) (int64, error) {
	f, err := s.store.FindOfEntry(ctx, db.FindOfEntryParams{ProjectID: src.ProjectID, SourceID: nullInt(src.ID),
		EntryPath: path})
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return f.ID, err
}
