// Package project does the work behind the interface: it keeps a project's
// sources open, indexes them, decodes finds, runs chains and makes
// deliveries, with the computation of core, the database and the blobs. Long
// work goes through the queue.
package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"excavate/core/find"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/core/target"
	"excavate/core/terms"
	"excavate/internal/blob"
	"excavate/internal/device"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Service is one process' view of all projects.
type Service struct {
	Store   *store.Store
	Blobs   *blob.Folder
	Lib     *find.Library
	Targets map[string]*target.Sheet
	Pool    *work.Pool
	Library []string // folders that sources may be added from
	Data    string   // folder for what the service keeps beside the database
	Outputs []string // folders that may be extracted to, besides its own
	Devices []string // hosts that devices may be on, besides loopback
	Version string

	mu      sync.Mutex
	nearby  []Nearby
	open    map[int64]opened // mounted sources
	libs    map[int64]library
	turns   map[int64]*sync.Mutex // of sources that are indexed
	scenes  *sceneCache
	shelf   *shelf
	clients map[int64]*device.Client
	offered map[int64][][]device.Offer // lists as devices gave them, oldest first

	receivers []string // their addresses

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

// Folders beside the database.
func (s *Service) uploads() string   { return filepath.Join(s.Data, "uploads") }
func (s *Service) extracted() string { return filepath.Join(s.Data, "extracted") }
func (s *Service) plans() string     { return filepath.Join(s.Data, "cache", "extractions") }
func (s *Service) pulled() string    { return filepath.Join(s.Data, "devices") }

func (s *Service) spool() string { return filepath.Join(s.Data, "cache", "spool") }

// plainOptions is how what lies on disk is opened: with the layouts that ship.
// A file that a layout of the project describes stays a file, whose bytes can
// be looked at, and is mounted in place.
func (s *Service) plainOptions() source.Options {
	return source.Options{Layouts: s.Lib.Layouts, Spool: s.spool()}
}

// sourceOptions is how what lies in a project's sources is opened: with its
// own layouts too.
func (s *Service) sourceOptions(ctx context.Context, project int64) (source.Options, error) {
	lib, err := s.LibOf(ctx, project)
	if err != nil {
		return source.Options{}, err
	}
	return source.Options{Layouts: lib.Layouts, Spool: s.spool()}, nil
}

// spoolKept is how long unpacked copies are kept after they were last used.
const spoolKept = 14 * 24 * time.Hour

// Tidy removes unpacked copies that nobody has used for long, and parts whose
// process has ended, and makes the service's folders its owner's alone, even
// where the data folder was there before. It is called before work starts.
func (s *Service) Tidy(ctx context.Context) error {
	for _, dir := range []string{s.Data, s.uploads(), s.extracted(), filepath.Join(s.Data, "cache"), s.spool(), s.plans(), s.pulled()} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		if dir == s.Data {
			continue // it may be somebody else's
		}
		if err := os.Chmod(dir, 0o700); err != nil {
			return err
		}
	}
	source.TidySpool(s.spool(), spoolKept)
	return s.moveTokens(ctx)
}

// Start readies a service whose exported fields are set and registers its
// work with the pool.
func (s *Service) Start() *Service {
	s.open = map[int64]opened{}
	s.libs = map[int64]library{}
	s.turns = map[int64]*sync.Mutex{}
	s.scenes = newSceneCache(s.Blobs)
	s.shelf = newShelf(s.Store)
	s.clients = map[int64]*device.Client{}
	s.offered = map[int64][][]device.Offer{}
	s.changes = map[int64]change{}
	s.Pool.Ended = s.ended
	s.Pool.Handle("index", s.doIndex)
	s.Pool.Handle("send", s.doSend)
	s.Pool.Handle("links", s.doLinks)
	s.Pool.Handle("recognise", s.doRecognise)
	s.Pool.Handle("cover", s.doCover)
	s.Pool.Handle("extract", s.doExtract)
	s.Pool.Handle("pull", s.doPull)
	s.Pool.Handle("decode", s.doDecode)
	s.Pool.Handle("findall", s.doFindAll)
	s.Pool.Help("findall", s.helpFindAll)
	s.Pool.Handle("run", s.doRun)
	s.Pool.Handle("deliver", s.doDeliver)
	return s
}

// UserError is a mistake in a request, with what to do about it.
type UserError struct {
	Status int // HTTP status
	Msg    string
}

func (e *UserError) Error() string { return e.Msg }

func userErr(status int, f string, a ...any) error {
	return &UserError{status, fmt.Sprintf(f, a...)}
}

// Unreadable says that a file is at fault, where reading one failed; mistakes
// of the request, of the database and of the disk stay what they are.
func Unreadable(err error) error {
	var ue *UserError
	var pe *fs.PathError
	if err == nil || errors.As(err, &ue) || errors.As(err, &pe) || store.Transient(err) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return &unreadable{err}
}

// unreadable keeps the error within, which may name a place.
type unreadable struct{ error }

func (e *unreadable) Unwrap() error { return e.error }

// IsUnreadable tells whether a file is at fault.
func IsUnreadable(err error) bool { return errors.As(err, new(*unreadable)) }

// Known turns "no rows" into an error that names what is not there.
func Known[T any](v T, err error, what string, id int64) (T, error) {
	if errors.Is(err, sql.ErrNoRows) {
		return v, userErr(404, "there is no %s %d", what, id)
	}
	return v, err
}

// AddPath mounts a path that lies within a library folder.
func (s *Service) AddPath(ctx context.Context, project int64, path string) (int64, error) {
	clean := strings.Trim(strings.TrimSpace(path), `"'`)
	if !filepath.IsAbs(clean) {
		return 0, userErr(400, "%q is not an absolute path; the library folders are %s", path, strings.Join(s.Library, ", "))
	}
	real, err := filepath.EvalSymlinks(clean)
	if err != nil {
		return 0, userErr(400, "%s cannot be found", clean)
	}
	if !s.inLibrary(real) {
		return 0, userErr(403, "%s lies outside the library folders (%s); start Excavate with --library to allow its folder", clean, strings.Join(s.Library, ", "))
	}
	if _, err := os.Stat(real); err != nil {
		return 0, userErr(400, "%s cannot be read", clean)
	}
	return s.addSource(ctx, db.CreateSourceParams{ProjectID: project, Path: real, Label: filepath.Base(real), Origin: "path", Rights: asJSON(terms.Terms{})})
}

func (s *Service) inLibrary(real string) bool {
	for _, lib := range s.Library {
		root, err := filepath.EvalSymlinks(lib)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(root, real); err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
			return true
		}
	}
	return false
}

// Mount mounts an entry that is an archive, in place: right below the source
// that it lies in.
func (s *Service) Mount(ctx context.Context, entry int64) (int64, error) {
	e, parent, src, i, err := s.Entry(ctx, entry)
	if err != nil {
		return 0, err
	}
	opt, err := s.sourceOptions(ctx, parent.ProjectID)
	if err != nil {
		return 0, err
	}
	in, err := src.Mount(ctx, i, opt)
	if err != nil {
		return 0, userErr(422, "%v", err)
	}
	in.Close()
	label := filepath.Base(e.Path)
	id, err := s.addSource(ctx, db.CreateSourceParams{ProjectID: parent.ProjectID, Path: parent.Path, Label: label, ParentID: sql.NullInt64{Int64: parent.ID, Valid: true}, Inside: e.Path, Origin: parent.Origin, Rights: parent.Rights})
	if err != nil {
		return 0, err
	}
	rows, err := s.Store.ListSources(ctx, parent.ProjectID)
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
func (s *Service) Order(ctx context.Context, project int64, ids []int64) error {
	rows, err := s.Store.ListSources(ctx, project)
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
			return userErr(400, "source %d is not in this project, or is named twice", id)
		}
		delete(left, id)
		order = append(order, id)
	}
	for _, r := range rows {
		if left[r.ID] {
			order = append(order, r.ID)
		}
	}
	err = s.Store.Tx(ctx, func(q *db.Queries) error {
		for i, id := range order {
			if err := q.SetSourcePosition(ctx, db.SetSourcePositionParams{Position: int32(i + 1), ID: id, ProjectID: project}); err != nil {
				return err
			}
		}
		return q.TouchProject(ctx, project)
	})
	if err != nil {
		return err
	}
	return s.Refind(ctx, project) // another source may win now
}

// dropCopy removes a copy of ours that no source uses any more.
func (s *Service) dropCopy(ctx context.Context, row db.Source) {
	var n int
	if err := s.Store.DB.QueryRowContext(ctx, "SELECT COUNT(*) FROM sources WHERE path = ?", row.Path).Scan(&n); err != nil || n > 0 {
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
func (s *Service) Changed(row db.Source) string {
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

func (s *Service) addSource(ctx context.Context, p db.CreateSourceParams) (int64, error) {
	list, err := s.Store.ListSources(ctx, p.ProjectID)
	if err != nil {
		return 0, err
	}
	for _, x := range list {
		if x.Path == p.Path && x.Inside == p.Inside && x.ParentID == p.ParentID {
			return 0, userErr(409, "%s is mounted already, as number %d of the search order", p.Label, x.Position)
		}
	}
	if len(p.Label) > 255 {
		p.Label = strings.ToValidUTF8(p.Label[:255], "")
	}
	var id int64
	err = s.Store.Tx(ctx, func(q *db.Queries) (err error) {
		id, err = q.CreateSource(ctx, p)
		return err
	})
	if err != nil {
		return 0, err
	}
	if err := s.queueIndex(ctx, p.ProjectID, id, p.Label); err != nil {
		return 0, err
	}
	return id, s.Store.TouchProject(ctx, p.ProjectID)
}

// Cancel stops a job. One that had not begun, or whose worker is gone, never
// gets to say so itself.
func (s *Service) Cancel(ctx context.Context, id int64) error {
	j, err := s.Store.GetJob(ctx, id)
	if j, err = Known(j, err, "job", id); err != nil {
		return err
	}
	if err := s.Store.CancelJob(ctx, id); err != nil {
		return err
	}
	if j.State != "queued" && j.State != "running" {
		return nil
	}
	return s.ended(ctx, j, "cancelled", "")
}

func (s *Service) queueIndex(ctx context.Context, project, id int64, label string) error {
	_, err := s.Pool.Add(ctx, project, "index", "Indexing "+label, idArgs{id})
	return err
}

type idArgs struct {
	ID int64 `json:"id"`
}

// mounted returns an open source, and opens it if it is not, or was indexed
// anew.
func (s *Service) mounted(ctx context.Context, row db.Source) (*source.Source, error) {
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
func (s *Service) mount(row db.Source, src *source.Source) *source.Source {
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
func (s *Service) mountIndexed(row db.Source, src *source.Source) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, ok := s.open[row.ID]; !ok || o.generation <= row.Generation {
		s.open[row.ID] = opened{row.Generation, src}
	}
}

// Stack mounts a project's sources in search order. A source that cannot be
// opened is left out; its row says why.
func (s *Service) Stack(ctx context.Context, project int64) (source.Stack, error) {
	rows, err := s.Store.ListSources(ctx, project)
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
				s.Store.SourceFailed(ctx, db.SourceFailedParams{Error: err.Error(), ID: r.ID})
			}
			continue
		}
		st = append(st, src)
	}
	return st, nil
}

// SceneOf returns a stored scene.
func (s *Service) SceneOf(digest string) (*scene.Scene, error) {
	if !blob.Valid(digest) {
		return nil, userErr(400, "%q is no digest of a scene: it has 64 hexadecimal digits", digest)
	}
	return s.scenes.get(digest)
}

// PutScene stores a scene and returns its digest.
func (s *Service) PutScene(sc *scene.Scene) (string, error) { return s.scenes.put(sc) }

// sceneCache keeps the scenes that were used last in memory, and all of them
// as blobs.
type sceneCache struct {
	blobs *blob.Folder
	mu    sync.Mutex
	order []string
	byKey map[string]*scene.Scene
}

const scenesInMemory = 12

func newSceneCache(b *blob.Folder) *sceneCache {
	return &sceneCache{blobs: b, byKey: map[string]*scene.Scene{}}
}

func (c *sceneCache) remember(d string, s *scene.Scene) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, ok := c.byKey[d]; !ok {
		c.order = append(c.order, d)
		if len(c.order) > scenesInMemory {
			delete(c.byKey, c.order[0])
			c.order = c.order[1:]
		}
	}
	c.byKey[d] = s
}

func (c *sceneCache) get(d string) (*scene.Scene, error) {
	c.mu.Lock()
	s, ok := c.byKey[d]
	c.mu.Unlock()
	if ok {
		return s, nil
	}
	b, err := c.blobs.Get(d)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return nil, userErr(404, "the scene %.12s… is not stored; run the chain again", d)
		}
		return nil, err
	}
	if s, err = scene.Decode(b); err != nil {
		return nil, err
	}
	c.remember(d, s)
	return s, nil
}

func (c *sceneCache) put(s *scene.Scene) (string, error) {
	b, err := s.Encode()
	if err != nil {
		return "", err
	}
	d, err := c.blobs.Put(b)
	if err == nil {
		c.remember(d, s)
	}
	return d, err
}

func nullInt(id int64) sql.NullInt64 { return sql.NullInt64{Int64: id, Valid: true} }

func asJSON(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		return json.RawMessage("null")
	}
	return b
}
