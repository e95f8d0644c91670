package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"

	"excavate/core/catalog"
	"excavate/core/find"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Brief is what the gallery shows of a find.
type Brief struct {
	ID        int64    `json:"id"`
	Name      string   `json:"name"`
	Source    string   `json:"source"`
	Path      string   `json:"path"`
	State     string   `json:"state"`
	Error     string   `json:"error,omitempty"`
	Scene     string   `json:"scene,omitempty"`
	Format    string   `json:"format,omitempty"`
	Triangles int      `json:"triangles"`
	Bones     int      `json:"bones"`
	Pictures  int      `json:"pictures"`
	Missing   int      `json:"missing"`
	Motions   int      `json:"motions"`
	Height    *float64 `json:"height,omitempty"` // metres
}

// Gallery lists a project's finds.
func (s *Service) Gallery(ctx context.Context, project int64) ([]Brief, error) {
	rows, err := s.Store.ListFinds(ctx, project)
	if err != nil {
		return nil, err
	}
	out := make([]Brief, len(rows))
	for i, r := range rows {
		x := Brief{ID: r.ID, Name: r.Name, Source: r.SourceLabel, Path: r.EntryPath, State: r.State, Scene: r.Scene}
		var m struct {
			Format string `json:"format"`
			Stats  struct {
				Triangles, Bones, Pictures, Missing, Motions int
				Height                                       *float64
			} `json:"stats"`
		}
		if err := json.Unmarshal(r.Model, &m); err == nil {
			x.Format, x.Triangles, x.Bones, x.Pictures, x.Missing, x.Motions, x.Height = m.Format, m.Stats.Triangles, m.Stats.Bones, m.Stats.Pictures, m.Stats.Missing, m.Stats.Motions, m.Stats.Height
		}
		var f Failure
		if r.State == "failed" && json.Unmarshal(r.Error, &f) == nil {
			x.Error = f.Message
		}
		out[i] = x
	}
	return out, nil
}

type findAllArgs struct {
	Project int64  `json:"project"`
	Filter  Filter `json:"filter"`
}

// FindAll makes finds of all models that fit a filter, in the background. It
// returns how many there are.
func (s *Service) FindAll(ctx context.Context, project int64, f Filter) (int, error) {
	f.Kind = string(find.Model)
	c, q, err := s.Find(ctx, project, f, "")
	if err != nil {
		return 0, err
	}
	rows, err := c.Rows(q)
	if err != nil {
		return 0, err
	}
	if len(rows) == 0 {
		return 0, userErr(409, "there is no model among these entries")
	}
	_, err = s.Pool.Add(ctx, project, "findall", fmt.Sprintf("Decoding %d models", len(rows)), findAllArgs{project, f})
	return len(rows), err
}

// doFindAll decodes on all cores, one model at a time on each, so that memory
// holds no more than those.
func (s *Service) doFindAll(ctx context.Context, t *work.Task) error {
	var a findAllArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	c, q, err := s.Find(ctx, a.Project, a.Filter, "")
	if err != nil {
		return err
	}
	rows, err := c.Rows(q)
	if err != nil {
		return err
	}
	// Those of a run that was broken off are found already.
	var todo []db.Find
	done := 0
	for _, r := range rows {
		if err := ctx.Err(); err != nil {
			return err
		}
		e, src := c.Entry(r)
		f, err := s.findRow(ctx, a.Project, e, src)
		if err != nil {
			return err
		}
		if f.State == "decoding" {
			todo = append(todo, f)
		} else {
			done++
		}
	}
	var count, next atomic.Int64
	count.Store(int64(done))
	t.Progress(int64(done), int64(len(rows)), "models")
	var wg sync.WaitGroup
	var first error
	var mu sync.Mutex
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for ctx.Err() == nil {
				k := int(next.Add(1)) - 1
				if k >= len(todo) {
					return
				}
				if err := s.decodeInto(ctx, todo[k]); err != nil && ctx.Err() == nil {
					mu.Lock()
					first = errors.Join(first, err)
					mu.Unlock()
					return
				}
				n := count.Add(1)
				t.Progress(n, int64(len(rows)), "models")
				if n%16 == 0 {
					s.Store.TouchProject(ctx, a.Project) // the gallery fills
				}
			}
		})
	}
	wg.Wait()
	if err := s.Store.TouchProject(context.WithoutCancel(ctx), a.Project); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return first
}

// findRow is the find of an entry; it is made if there is none.
func (s *Service) findRow(ctx context.Context, project int64, e catalog.Entry, src *catalog.Source) (db.Find, error) {
	key := db.FindOfEntryParams{ProjectID: project, SourceID: sql.NullInt64{Int64: src.ID, Valid: true}, EntryPath: e.Path}
	f, err := s.Store.FindOfEntry(ctx, key)
	if !errors.Is(err, sql.ErrNoRows) {
		return f, err
	}
	name := strings.TrimSuffix(path.Base(e.Path), path.Ext(e.Path))
	if len(name) > 255 {
		name = name[:255]
	}
	id, err := s.Store.CreateFind(ctx, db.CreateFindParams{ProjectID: project, SourceID: key.SourceID, SourceLabel: src.Label, EntryPath: e.Path, Name: name})
	if err != nil {
		return f, err
	}
	return s.Store.GetFind(ctx, id)
}

// decodeInto decodes a find and stores what came of it; a model that cannot be
// decoded is not an error of the work.
func (s *Service) decodeInto(ctx context.Context, f db.Find) error {
	m, err := s.decodeFind(ctx, f)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return s.Store.FindFailed(ctx, db.FindFailedParams{Error: asJSON(NewFailure(err)), ID: f.ID})
	}
	return s.Store.FindReady(ctx, db.FindReadyParams{Scene: m.Scene, Missing: int32(m.Stats.Missing), Model: asJSON(m), Name: f.Name, ID: f.ID})
}
