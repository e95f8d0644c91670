package project

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/core/step"
	"excavate/core/terms"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Refind decodes the finds again that lack a picture.
func (s *Service) Refind(ctx context.Context, project int64) error {
	ids, err := s.Store.IncompleteFinds(ctx, project)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := s.queueDecode(ctx, project, id, "Looking again for missing pictures"); err != nil {
			return err
		}
	}
	return nil
}

// queueDecode has a find decoded, with what is known now: a decoding that
// began before counts no more.
func (s *Service) queueDecode(ctx context.Context, project, id int64, title string) error {
	if err := s.Store.AskFind(ctx, id); err != nil {
		return err
	}
	_, err := s.Pool.Add(ctx, project, "decode", title, idArgs{id})
	return err
}

// Failure is an error as the interface shows it.
type Failure struct {
	Message string `json:"message"`
	At      string `json:"at,omitempty"`
}

// NewFailure states an error with the most exact place that it names.
func NewFailure(err error) Failure {
	return Failure{Message: err.Error(), At: format.Place(err)}
}

// CreateFind makes a find of an entry, or returns the one that there is.
func (s *Service) CreateFind(ctx context.Context, project, entry int64) (int64, error) {
	srcID, slot := store.Entry(entry)
	e, err := s.Store.GetEntry(ctx, db.GetEntryParams{SourceID: srcID, Slot: slot})
	if e, err = Known(e, err, "entry", entry); err != nil {
		return 0, err
	}
	src, err := s.Store.GetSource(ctx, e.SourceID)
	if err != nil {
		return 0, err
	}
	if src.ProjectID != project {
		return 0, userErr(404, "entry %d is not in this project", entry)
	}
	key := db.FindOfEntryParams{ProjectID: project, SourceID: sql.NullInt64{Int64: src.ID, Valid: true}, EntryPath: e.Path}
	if f, err := s.Store.FindOfEntry(ctx, key); err == nil {
		return f.ID, nil
	} else if !errors.Is(err, sql.ErrNoRows) {
		return 0, err
	}
	name := strings.TrimSuffix(path.Base(e.Path), path.Ext(e.Path))
	name = strings.ToValidUTF8(name[:min(len(name), 255)], "")
	id, err := s.Store.CreateFind(ctx, db.CreateFindParams{ProjectID: project, SourceID: key.SourceID, SourceLabel: src.Label, EntryPath: e.Path, Name: name})
	if err != nil {
		return 0, err
	}
	if err := s.queueDecode(ctx, project, id, "Decoding "+e.Path); err != nil {
		return 0, err
	}
	return id, s.Store.TouchProject(ctx, project)
}

// Decode decodes an entry through the project's stack and stores the scene.
// decided, if it is set, is the basis that stands above the file's.
func (s *Service) Decode(ctx context.Context, project int64, src *source.Source, idx int, readings map[string]string, decided *geom.Basis) (*scene.Scene, *Model, error) {
	data, err := src.Read(idx)
	if err != nil {
		return nil, nil, err
	}
	where, err := s.finder(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	lib, err := s.LibOf(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	var origins find.Origins
	name := src.Entries()[idx].Path
	origins.Add(source.Hit{Source: src, Entry: idx})
	sc, as, err := lib.Decode(ctx, find.Input{Name: name, Data: data, From: src.Label, Finder: where, Readings: readings, Used: origins.Add, Known: s.knownTo(ctx, project, where)})
	if err != nil {
		return nil, nil, err
	}
	declared := sc.Basis
	if decided != nil {
		sc.Basis = *decided
	}
	digest, err := s.PutScene(sc)
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

func (s *Service) doDecode(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	f, err := s.Store.GetFind(ctx, a.ID)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	defer s.Store.TouchProject(context.WithoutCancel(ctx), f.ProjectID)
	t.Progress(0, 1, "model")
	m, err := s.decodeFind(ctx, f)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		s.Store.FindFailed(ctx, db.FindFailedParams{Error: asJSON(NewFailure(err)), ID: f.ID, Asked: f.Asked})
		return err
	}
	n, err := s.Store.FindReady(ctx, db.FindReadyParams{Scene: m.Scene, Missing: int32(m.Stats.Missing), Model: asJSON(m), Name: f.Name, ID: f.ID, Asked: f.Asked})
	if err != nil || n == 0 {
		return err
	}
	t.Progress(1, 1, "model")
	if m.Scene != f.Scene {
		ids, err := s.Store.ChainsOfFind(ctx, f.ID)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if err := s.QueueRun(ctx, id); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Service) decodeFind(ctx context.Context, f db.Find) (*Model, error) {
	row, err := s.Store.GetSource(ctx, f.SourceID.Int64)
	if err != nil {
		return nil, fmt.Errorf("its source %s is not mounted any more", f.SourceLabel)
	}
	src, err := s.mounted(ctx, row)
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

// Steps reads the steps of a chain at its head.
func (s *Service) Steps(ctx context.Context, c db.Chain) (*chain.Chain, error) {
	b, err := s.Store.GetRevision(ctx, db.GetRevisionParams{ChainID: c.ID, No: c.Head})
	if err != nil {
		return nil, err
	}
	out := &chain.Chain{Name: c.Name}
	return out, json.Unmarshal(b, &out.Steps)
}

// QueueRun computes what a chain's bands lack.
func (s *Service) QueueRun(ctx context.Context, id int64) error {
	c, err := s.Store.GetChain(ctx, id)
	if c, err = Known(c, err, "chain", id); err != nil {
		return err
	}
	_, err = s.Pool.Add(ctx, c.ProjectID, "run", "Running "+c.Name, idArgs{id})
	return err
}

// results is the chain's cache: rows in the database, scenes in the blobs.
type results struct {
	s   *Service
	ctx context.Context
}

func (r results) Get(key string) (*chain.Result, bool) {
	row, err := r.s.Store.GetResult(r.ctx, key)
	if err != nil || row.Error != "" {
		return nil, false
	}
	sc, err := r.s.SceneOf(row.Scene)
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
	d, err := r.s.PutScene(res.Scene)
	if err != nil {
		return // a cache may forget
	}
	r.s.Store.PutResult(r.ctx, db.PutResultParams{CacheKey: key, Scene: d, Report: asJSON(res.Report), Stats: asJSON(res.Stats), Basis: asJSON(NewBasis(res.Scene.Basis)), Seconds: res.Seconds})
}

func (s *Service) doRun(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	c, err := s.Store.GetChain(ctx, a.ID)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	defer s.Store.TouchProject(context.WithoutCancel(ctx), c.ProjectID)
	_, err = s.run(ctx, c, t)
	return err
}

func (s *Service) run(ctx context.Context, c db.Chain, t *work.Task) ([]chain.Band, error) {
	f, err := s.Store.GetFind(ctx, c.FindID)
	if err != nil {
		return nil, err
	}
	if f.Scene == "" {
		return nil, nil // it runs once the find is decoded
	}
	doc, err := s.Steps(ctx, c)
	if err != nil {
		return nil, err
	}
	in, err := s.SceneOf(f.Scene)
	if err != nil {
		return nil, err
	}
	outside, err := s.beyondOf(ctx, c.ProjectID, doc)
	if err != nil {
		return nil, err
	}
	bands, err := chain.Run(ctx, f.Scene, in, doc, outside, results{s, ctx}, func(i int) {
		if t != nil {
			t.Progress(int64(i), int64(len(doc.Steps)), "steps")
		}
	})
	if err != nil {
		return bands, err
	}
	if b := chain.Failed(bands); b != nil {
		return bands, s.Store.PutResult(ctx, db.PutResultParams{CacheKey: b.Key, Report: asJSON(step.Report{Lines: []string{}}), Stats: asJSON(b.Stats), Basis: json.RawMessage("{}"), Error: b.Err.Error()})
	}
	return bands, nil
}

func (s *Service) doDeliver(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	d, err := s.Store.GetDelivery(ctx, a.ID)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	defer s.Store.TouchProject(context.WithoutCancel(ctx), d.ProjectID)
	err = s.deliver(ctx, d, t)
	if err != nil && ctx.Err() == nil {
		s.Store.DeliveryFailed(ctx, db.DeliveryFailedParams{Error: err.Error(), ID: d.ID})
	}
	return err
}

// OriginsOf are the sources that a find came from, with the digests of those
// that are files.
func (s *Service) OriginsOf(ctx context.Context, f db.Find) ([]find.Origin, error) {
	list, err := s.SourcesOf(ctx, f)
	if err != nil {
		return nil, err
	}
	return list, s.digested(ctx, f.ProjectID, list)
}

// SourcesOf are the sources that a find came from. Terms that were stated by
// hand since count; what was taken out of the project is as it was.
func (s *Service) SourcesOf(ctx context.Context, f db.Find) ([]find.Origin, error) {
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
func (s *Service) digested(ctx context.Context, project int64, origins []find.Origin) error {
	if !slices.ContainsFunc(origins, func(o find.Origin) bool { return o.SHA256 == "" }) {
		return nil
	}
	stack, err := s.Stack(ctx, project)
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
func (s *Service) stated(ctx context.Context, project int64, origins []find.Origin) error {
	rows, err := s.Store.ListSources(ctx, project)
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
					if p.Data, err = s.Blobs.Get(p.SHA256); err != nil {
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
func (s *Service) keepOrigins(ctx context.Context, project int64) error {
	finds, err := s.Store.ListFinds(ctx, project)
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
		if err := s.Store.FindModel(ctx, db.FindModelParams{Model: asJSON(m), ID: f.ID}); err != nil {
			return err
		}
	}
	return nil
}
