package project

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"excavate/core/source"
	"excavate/core/terms"
	"excavate/internal/store"
	"excavate/internal/store/db"
)

// Sources are what is mounted in projects: kept open, indexed, searched.
type Sources struct {
	*common
	libraries *Libraries
	shelf     *shelf

	mu    sync.Mutex
	open  map[int64]opened      // mounted sources
	turns map[int64]*sync.Mutex // of sources that are indexed

	changesMu sync.Mutex
	changes   map[int64]change
}

type opened struct {
	generation int64
	src        *source.Source
}

// change is what was last seen of a source on disk.
type change struct {
	at  time.Time
	gen int64
	why string
}

// AddPath mounts a path that lies within a library folder.
func (s *Sources) AddPath(ctx context.Context, project int64, path string) (int64, error) {
	clean := strings.Trim(strings.TrimSpace(path), `"'`)
	if !filepath.IsAbs(clean) {
		return 0, errorf(Invalid, "%q is not an absolute path; the library folders are %s", path,
			strings.Join(s.library, ", "))
	}
	real, err := filepath.EvalSymlinks(clean)
	if err != nil {
		return 0, errorf(Invalid, "%s cannot be found", clean)
	}
	if !s.inLibrary(real) {
		return 0, errorf(Forbidden,
			"%s lies outside the library folders (%s); start Excavate with --library to allow its folder",
			clean, strings.Join(s.library, ", "))
	}
	if _, err := os.Stat(real); err != nil {
		return 0, errorf(Invalid, "%s cannot be read", clean)
	}
	return s.addSource(ctx, db.CreateSourceParams{ProjectID: project, Path: real, Label: filepath.Base(real),
		Origin: "path", Rights: asJSON(terms.Terms{})})
}

func (s *Sources) inLibrary(real string) bool {
	for _, lib := range s.library {
		root, err := filepath.EvalSymlinks(lib)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(root, real); err == nil && rel != ".." &&
			!strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
			return true
		}
	}
	return false
}

// Mount mounts an entry that is an archive, in place: right below the source
// that it lies in.
func (s *Sources) Mount(ctx context.Context, entry int64) (int64, error) {
	e, parent, src, i, err := s.Entry(ctx, entry)
	if err != nil {
		return 0, err
	}
	opt, err := s.libraries.sourceOptions(ctx, parent.ProjectID)
	if err != nil {
		return 0, err
	}
	in, err := src.Mount(ctx, i, opt)
	if err != nil {
		return 0, errorf(Unusable, "%v", err)
	}
	in.Close()
	label := filepath.Base(e.Path)
	id, err := s.addSource(ctx, db.CreateSourceParams{ProjectID: parent.ProjectID, Path: parent.Path,
		Label: label, ParentID: nullInt(parent.ID), Inside: e.Path, Origin: parent.Origin, Rights: parent.Rights})
	if err != nil {
		return 0, err
	}
	rows, err := s.store.ListSources(ctx, parent.ProjectID)
	if err != nil {
		return 0, err
	}
	var ids []int64
	for _, r := range rows {
		if r.ID != id {
			ids = append(ids, r.ID)
		}
		if r.ID == parent.ID {
			ids = append(ids, id)
		}
	}
	return id, s.Order(ctx, parent.ProjectID, ids)
}

// Order puts a project's sources in search order. Sources that are not named
// follow in their old order.
func (s *Sources) Order(ctx context.Context, project int64, ids []int64) error {
	rows, err := s.store.ListSources(ctx, project)
	if err != nil {
		return err
	}
	left := map[int64]bool{}
	for _, r := range rows {
		left[r.ID] = true
	}
	var order []int64
	for _, id := range ids {
		if !left[id] {
			return errorf(Invalid, "source %d is not in this project, or is named twice", id)
		}
		delete(left, id)
		order = append(order, id)
	}
	for _, r := range rows {
		if left[r.ID] {
			order = append(order, r.ID)
		}
	}
	err = s.store.Tx(ctx, func(q *db.Queries) error {
		for i, id := range order {
			if err := q.SetSourcePosition(ctx, db.SetSourcePositionParams{Position: int32(i + 1), ID: id,
				ProjectID: project}); err != nil {
				return err
			}
		}
		return q.TouchProject(ctx, project)
	})
	if err != nil {
		return err
	}
	return s.refind(ctx, project) // another source may win now
}

// dropCopy removes a copy of ours that no source uses any more.
func (s *Sources) dropCopy(ctx context.Context, row db.Source) {
	var n int
	used := s.store.DB.QueryRowContext(ctx, "SELECT COUNT(*) FROM sources WHERE path = ?", row.Path)
	if err := used.Scan(&n); err != nil || n > 0 {
		return
	}
	for _, dir := range []string{s.uploads(), s.pulled()} {
		if rel, err := filepath.Rel(dir, row.Path); err == nil && filepath.IsLocal(rel) && rel != "." {
			os.RemoveAll(filepath.Join(dir, strings.Split(rel, string(filepath.Separator))[0]))
		}
	}
}

// changedFor is how long a look at a source on disk holds.
const changedFor = 4 * time.Second

// Changed says how a source on disk differs from what was indexed; empty if
// it does not.
func (s *Sources) Changed(row db.Source) string {
	if row.State != "ready" || row.Stamp == "" {
		return ""
	}
	s.changesMu.Lock()
	c, ok := s.changes[row.ID]
	s.changesMu.Unlock()
	if ok && c.gen == row.Generation && time.Since(c.at) < changedFor {
		return c.why
	}
	c = change{at: time.Now(), gen: row.Generation}
	if err := source.ChangedSince(row.Path, row.Stamp); err != nil {
		c.why = strings.TrimSuffix(err.Why, ",")
	}
	s.changesMu.Lock()
	s.changes[row.ID] = c
	s.changesMu.Unlock()
	return c.why
}

func (s *Sources) addSource(ctx context.Context, p db.CreateSourceParams) (int64, error) {
	list, err := s.store.ListSources(ctx, p.ProjectID)
	if err != nil {
		return 0, err
	}
	for _, x := range list {
		if x.Path == p.Path && x.Inside == p.Inside && x.ParentID == p.ParentID {
			return 0, errorf(Conflict, "%s is mounted already, as number %d of the search order", p.Label, x.Position)
		}
	}
	if len(p.Label) > 255 {
		p.Label = strings.ToValidUTF8(p.Label[:255], "")
	}
	var id int64
	err = s.store.Tx(ctx, func(q *db.Queries) (err error) {
		id, err = q.CreateSource(ctx, p)
		return err
	})
	if err != nil {
		return 0, err
	}
	if err := s.queueIndex(ctx, p.ProjectID, id, p.Label); err != nil {
		return 0, err
	}
	return id, s.store.TouchProject(ctx, p.ProjectID)
}

// mounted returns an open source, and opens it if it is not, or was indexed
// anew.
func (s *Sources) mounted(ctx context.Context, row db.Source) (*source.Source, error) {
	s.mu.Lock()
	o, ok := s.open[row.ID]
	s.mu.Unlock()
	if ok && o.generation == row.Generation {
		return o.src, nil
	}
	src, err := s.openAnew(ctx, row)
	if err != nil {
		return nil, err
	}
	return s.mount(row, src), nil
}

// mount keeps an open source for all who read it. If another was quicker, its
// one is kept. The one of an earlier generation may still be read; its file
// closes with the collector.
func (s *Sources) mount(row db.Source, src *source.Source) *source.Source {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, ok := s.open[row.ID]; ok && o.generation >= row.Generation {
		src.Close()
		return o.src
	}
	s.open[row.ID] = opened{row.Generation, src}
	return src
}

// mountIndexed keeps the open source whose directory was stored, also if
// somebody who saw the new generation was quicker to open it: what each entry
// is is yet to be read through this one.
func (s *Sources) mountIndexed(row db.Source, src *source.Source) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, ok := s.open[row.ID]; !ok || o.generation <= row.Generation {
		s.open[row.ID] = opened{row.Generation, src}
	}
}

// Stack mounts a project's sources in search order. A source that cannot be
// opened is left out; its row says why.
func (s *Sources) Stack(ctx context.Context, project int64) (source.Stack, error) {
	rows, err := s.store.ListSources(ctx, project)
	if err != nil {
		return nil, err
	}
	var st source.Stack
	for _, r := range rows {
		if r.State != "ready" {
			continue
		}
		src, err := s.mounted(ctx, r)
		if err != nil {
			if ctx.Err() == nil && !store.Transient(err) {
				s.store.SourceFailed(ctx, db.SourceFailedParams{Error: err.Error(), ID: r.ID})
			}
			continue
		}
		st = append(st, src)
	}
	return st, nil
}

// Get is a source's row.
func (s *Sources) Get(ctx context.Context, id int64) (db.Source, error) {
	row, err := s.store.GetSource(ctx, id)
	return Known(row, err, "source", id)
}

// List lists a project's sources in search order.
func (s *Sources) List(ctx context.Context, project int64) ([]db.Source, error) {
	return s.store.ListSources(ctx, project)
}

// OrderAll is Order for a list that must name every source.
func (s *Sources) OrderAll(ctx context.Context, project int64, ids []int64) error {
	rows, err := s.store.ListSources(ctx, project)
	if err != nil {
		return err
	}
	if len(ids) != len(rows) {
		return errorf(Invalid, "the order must name each of the project's %d sources once", len(rows))
	}
	return s.Order(ctx, project, ids)
}

// Pins lists what was settled by hand: which entry a name stands for.
func (s *Sources) Pins(ctx context.Context, project int64) ([]db.Pin, error) {
	return s.store.ListPins(ctx, project)
}
