package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"excavate/core/catalog"
	"excavate/core/find"
	"excavate/core/parallel"
	"excavate/internal/store/db"
	"excavate/internal/work"

	"golang.org/x/sync/semaphore"
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
	Reach     *float64 `json:"reach,omitempty"`  // longest side in metres
}

// Gallery lists a project's finds.
func (s *Finds) Gallery(ctx context.Context, project int64) ([]Brief, error) {
	rows, err := s.store.ListFinds(ctx, project)
	if err != nil {
		return nil, err
	}
	out := make([]Brief, len(rows))
	parallel.Share(len(rows), 64, func(from, to int) { // most of the time goes into reading what is known of each
		for i := from; i < to; i++ {
			out[i] = brief(&rows[i])
		}
	})
	return out, nil
}

// brief is what the gallery shows of a find.
func brief(r *db.Find) Brief {
	x := Brief{ID: r.ID, Name: r.Name, Source: r.SourceLabel, Path: r.EntryPath, State: r.State, Scene: r.Scene}
	var m struct {
		Format string `json:"format"`
		Stats  struct {
			Triangles, Bones, Pictures, Missing, Motions int
			Height                                       *float64
			Size                                         []float64
		} `json:"stats"`
	}
	if err := json.Unmarshal(r.Model, &m); err == nil {
		x.Format, x.Triangles, x.Bones, x.Pictures = m.Format, m.Stats.Triangles, m.Stats.Bones, m.Stats.Pictures
		x.Missing, x.Motions, x.Height = m.Stats.Missing, m.Stats.Motions, m.Stats.Height
	}
	if len(m.Stats.Size) > 0 {
		longest := slices.Max(m.Stats.Size)
		x.Reach = &longest
	}
	var f Failure
	if r.State != "ready" && json.Unmarshal(r.Error, &f) == nil {
		x.Error = f.Message
	}
	return x
}

type findAllArgs struct {
	Project int64  `json:"project"`
	Filter  Filter `json:"filter"`
	Models  int    `json:"models"` // how many there were when they were asked for
}

// FindAll makes finds of all models that fit a filter, in the background. It
// returns how many there are.
func (s *Finds) FindAll(ctx context.Context, project int64, f Filter) (int, error) {
	f.Kind = string(find.Model)
	c, q, err := s.sources.Find(ctx, project, f, "")
	if err != nil {
		return 0, err
	}
	rows, err := c.Rows(q)
	if err != nil {
		return 0, err
	}
	if len(rows) == 0 {
		return 0, errorf(Conflict, "there is no model among these entries")
	}
	_, err = s.pool.Add(ctx, project, "findall", fmt.Sprintf("Decoding %d models", len(rows)),
		findAllArgs{project, f, len(rows)})
	return len(rows), err
}

// findBytes bounds the bytes of entries that are decoded at once.
const findBytes = 256 << 20

// doFindAll makes the finds and decodes them.
func (s *Finds) doFindAll(ctx context.Context, t *work.Task) error {
	var a findAllArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	c, rows, err := s.modelsOf(ctx, a)
	if err != nil {
		return err
	}
	if rows == nil { // its place in the queue goes to who reads the sources
		_, err := s.pool.Add(ctx, a.Project, "findall", t.Job.Title, a)
		return err
	}
	todo, err := s.findRows(ctx, a.Project, c, rows)
	if err != nil {
		return err
	}
	already := len(rows) - len(todo)
	t.Progress(int64(already), int64(len(rows)), "models")
	err = s.decodeAll(ctx, todo, func(n int) {
		t.Progress(int64(already+n), int64(len(rows)), "models")
		if n%16 == 0 {
			s.store.TouchProject(ctx, a.Project) // the gallery fills
		}
	})
	return errors.Join(err, s.store.TouchProject(context.WithoutCancel(ctx), a.Project))
}

// modelsOf are the models that fit. Where there are fewer than when they were
// asked for, because a source is being read anew, it waits for a while; nil is
// then that it still is.
func (s *Finds) modelsOf(ctx context.Context, a findAllArgs) (*catalog.Catalog, []int32, error) {
	for end := time.Now().Add(readWait); ; {
		reading, err := s.store.CountReading(ctx, a.Project)
		if err != nil {
			return nil, nil, err
		}
		c, q, err := s.sources.Find(ctx, a.Project, a.Filter, "")
		if err != nil {
			return nil, nil, err
		}
		rows, err := c.Rows(q)
		if err != nil || reading == 0 || len(rows) >= a.Models {
			return c, append([]int32{}, rows...), err
		}
		if time.Now().After(end) {
			return c, nil, nil
		}
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// readWait is how long work waits for sources before it lets other work go
// first.
var readWait = 10 * time.Second

// helpFindAll decodes finds of a job that another process runs. Each process
// goes through them in an order of its own, and leaves out what is decoded
// meanwhile: so they share the work without asking each other, and none depends
// on another. What two take at the same time is decoded twice, so large ones are
// left to the process that runs the job.
func (s *Finds) helpFindAll(ctx context.Context, j db.Job) error {
	finds, err := s.List(ctx, j.ProjectID)
	if err != nil {
		return err
	}
	var todo []wanted
	for i := range finds {
		if f := &finds[i]; f.State == "decoding" && f.Size <= helpSize {
			todo = append(todo, wanted{f.ID, f.Size})
		}
	}
	rand.Shuffle(len(todo), func(i, k int) { todo[i], todo[k] = todo[k], todo[i] })
	return s.decodeAll(ctx, todo, func(int) {})
}

// helpSize is how large an entry is, in bytes, that others help to decode.
const helpSize = 16 << 20

// decodeAll decodes on all cores, two models for each since half of the time
// goes to the disk and the database; fewer where they are large, so that memory
// stays bounded. What is decoded or taken out meanwhile counts as done.
func (s *Finds) decodeAll(ctx context.Context, todo []wanted, done func(n int)) error {
	var count, next atomic.Int64
	var wg parallel.Group
	var first error
	var mu sync.Mutex
	room := semaphore.NewWeighted(findBytes)
	for range 2 * runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for ctx.Err() == nil {
				k := int(next.Add(1)) - 1
				if k >= len(todo) {
					return
				}
				weight := min(max(todo[k].size, 1), findBytes)
				if room.Acquire(ctx, weight) != nil {
					return
				}
				f, err := s.store.GetFind(ctx, todo[k].id)
				if err == nil && f.State == "decoding" {
					err = s.decodeInto(ctx, f)
				} else if errors.Is(err, sql.ErrNoRows) {
					err = nil
				}
				room.Release(weight)
				if err != nil && ctx.Err() == nil {
					mu.Lock()
					first = errors.Join(first, err)
					mu.Unlock()
					return
				}
				done(int(count.Add(1)))
			}
		})
	}
	wg.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return first
}

// wanted is a find that is to be decoded, with the bytes of its entry.
type wanted struct{ id, size int64 }

// findRows makes finds of entries of the catalog that are none yet, in one
// transaction, and returns those that are still to be decoded: all of them, or
// what a run that was broken off has left.
func (s *Finds) findRows(ctx context.Context, project int64, c *catalog.Catalog, rows []int32) ([]wanted, error) {
	type place struct {
		source int64
		path   string
	}
	there, err := s.store.FindPlaces(ctx, project)
	if err != nil {
		return nil, err
	}
	known := map[place]db.FindPlacesRow{}
	for _, f := range there {
		known[place{f.SourceID.Int64, f.EntryPath}] = f
	}
	var todo []wanted
	err = s.store.Tx(ctx, func(q *db.Queries) error {
		todo = todo[:0]
		for _, r := range rows {
			e, src := c.Entry(r)
			if f, ok := known[place{src.ID, e.Path}]; ok {
				if f.State == "stopped" {
					if err := q.BeginFind(ctx, f.ID); err != nil {
						return err
					}
				}
				if f.State == "decoding" || f.State == "stopped" {
					todo = append(todo, wanted{f.ID, e.Size})
				}
				continue
			}
			name := strings.TrimSuffix(path.Base(e.Path), path.Ext(e.Path))
			if len(name) > 255 {
				name = strings.ToValidUTF8(name[:255], "")
			}
			id, err := q.CreateFind(ctx, db.CreateFindParams{ProjectID: project, SourceID: sql.NullInt64{Int64: src.ID, Valid: true}, SourceLabel: src.Label, EntryPath: e.Path, Name: name})
			if err != nil {
				return err
			}
			todo = append(todo, wanted{id, e.Size})
		}
		return nil
	})
	return todo, err
}

// decodeInto decodes a find and stores what came of it; a model that cannot be
// decoded is not an error of the work.
func (s *Finds) decodeInto(ctx context.Context, f db.Find) error {
	m, err := s.decodeFind(ctx, f)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if own := (*find.OwnFault)(nil); errors.As(err, &own) {
			s.pool.Log("find %d, %s: %s\n%s", f.ID, f.EntryPath, own.What, own.Stack)
		}
		return s.store.FindFailed(ctx, db.FindFailedParams{Error: asJSON(NewFailure(err)), ID: f.ID, Asked: f.Asked})
	}
	_, err = s.store.FindReady(ctx, db.FindReadyParams{Scene: m.Scene, Missing: int32(m.Stats.Missing),
		Model: asJSON(m), Name: f.Name, ID: f.ID, Asked: f.Asked})
	return err
}
