package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"strings"

	"excavate/core/find"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Create makes a find of an entry, or returns the one that there is.
func (s *Finds) Create(ctx context.Context, project, entry int64) (int64, error) {
	srcID, slot := store.Entry(entry)
	e, err := s.store.GetEntry(ctx, db.GetEntryParams{SourceID: srcID, Slot: slot})
	if e, err = Known(e, err, "entry", entry); err != nil {
		return 0, err
	}
	src, err := s.store.GetSource(ctx, e.SourceID)
	if err != nil {
		return 0, err
	}
	if src.ProjectID != project {
		return 0, errorf(NotFound, "entry %d is not in this project", entry)
	}
	key := db.FindOfEntryParams{ProjectID: project, SourceID: sql.NullInt64{Int64: src.ID, Valid: true}, EntryPath: e.Path}
	if f, err := s.store.FindOfEntry(ctx, key); err == nil {
		return f.ID, nil
	} else if !errors.Is(err, sql.ErrNoRows) {
		return 0, err
	}
	name := strings.TrimSuffix(path.Base(e.Path), path.Ext(e.Path))
	name = strings.ToValidUTF8(name[:min(len(name), 255)], "")
	id, err := s.store.CreateFind(ctx, db.CreateFindParams{ProjectID: project, SourceID: key.SourceID,
		SourceLabel: src.Label, EntryPath: e.Path, Name: name})
	if err != nil {
		return 0, err
	}
	if err := s.queueDecode(ctx, project, id, "Decoding "+e.Path); err != nil {
		return 0, err
	}
	return id, s.store.TouchProject(ctx, project)
}

// Decode decodes an entry through the project's stack and stores the scene.
// decided, if it is set, is the basis that stands above the file's.
func (s *Finds) Decode(ctx context.Context, project int64, src *source.Source, idx int,
	readings map[string]string, decided *geom.Basis) (*scene.Scene, *Model, error) {
	data, err := src.Read(idx)
	if err != nil {
		return nil, nil, err
	}
	where, err := s.sources.finder(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	lib, err := s.libraries.Of(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	var origins find.Origins
	name := src.Entries()[idx].Path
	origins.Add(source.Hit{Source: src, Entry: idx})
	sc, as, err := lib.Decode(ctx, find.Input{Name: name, Data: data, From: src.Label, Finder: where,
		Readings: readings, Used: origins.Add, Known: s.knownTo(ctx, project, where)})
	if err != nil {
		return nil, nil, err
	}
	declared := sc.Basis
	if decided != nil {
		sc.Basis = *decided
	}
	digest, err := s.scenes.Put(sc)
	if err != nil {
		return nil, nil, err
	}
	m := NewModel(sc, digest, as)
	m.Origins = origins.List(name, data)
	if err := s.stated(ctx, project, m.Origins); err != nil {
		return nil, nil, err
	}
	if decided != nil {
		b := NewBasis(declared)
		m.Declared = &b
	}
	for _, c := range sc.Choices {
		m.Readings = append(m.Readings, Reading{Name: c.Name, About: c.About, Choices: c.Options, Chosen: c.Chosen})
	}
	return sc, &m, nil
}

func (s *Finds) doDecode(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	f, err := s.store.GetFind(ctx, a.ID)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	defer s.store.TouchProject(context.WithoutCancel(ctx), f.ProjectID)
	t.Progress(0, 1, "model")
	m, err := s.decodeFind(ctx, f)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		s.store.FindFailed(ctx, db.FindFailedParams{Error: asJSON(NewFailure(err)), ID: f.ID, Asked: f.Asked})
		return err
	}
	n, err := s.store.FindReady(ctx, db.FindReadyParams{Scene: m.Scene, Missing: int32(m.Stats.Missing),
		Model: asJSON(m), Name: f.Name, ID: f.ID, Asked: f.Asked})
	if err != nil || n == 0 {
		return err
	}
	t.Progress(1, 1, "model")
	if m.Scene != f.Scene {
		ids, err := s.store.ChainsOfFind(ctx, f.ID)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if err := s.queueRun(ctx, id); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Finds) decodeFind(ctx context.Context, f db.Find) (*Model, error) {
	row, err := s.store.GetSource(ctx, f.SourceID.Int64)
	if err != nil {
		return nil, fmt.Errorf("its source %s is not mounted any more", f.SourceLabel)
	}
	src, err := s.sources.mounted(ctx, row)
	if err != nil {
		return nil, err
	}
	i := src.Lookup(f.EntryPath)
	if i < 0 {
		return nil, fmt.Errorf("%s no longer holds %s", row.Label, f.EntryPath)
	}
	var readings map[string]string
	if err := json.Unmarshal(f.Readings, &readings); err != nil {
		return nil, err
	}
	var decided *geom.Basis
	if err := json.Unmarshal(f.Basis, &decided); err != nil {
		return nil, err
	}
	_, m, err := s.Decode(ctx, f.ProjectID, src, i, readings, decided)
	return m, err
}
