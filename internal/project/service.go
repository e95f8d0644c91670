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
	"os"
	"path/filepath"
	"strings"
	"sync"

	"excavate/core/find"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/core/target"
	"excavate/internal/blob"
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
	Uploads string   // where dropped files are kept
	Version string

	mu     sync.Mutex
	open   map[int64]opened // mounted sources
	scenes *sceneCache
	index  *entryIndex
}

type opened struct {
	generation int64
	src        *source.Source
}

// Start readies a service whose exported fields are set and registers its
// work with the pool.
func (s *Service) Start() *Service {
	s.open = map[int64]opened{}
	s.scenes = newSceneCache(s.Blobs)
	s.index = newEntryIndex(s.Store)
	s.Pool.Handle("index", s.doIndex)
	s.Pool.Handle("decode", s.doDecode)
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
	return s.addSource(ctx, project, real, filepath.Base(real))
}

func (s *Service) inLibrary(real string) bool {
	for _, lib := range append([]string{s.Uploads}, s.Library...) {
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

// AddUpload mounts a dropped file that lies in the uploads folder.
func (s *Service) AddUpload(ctx context.Context, project int64, path, label string) (int64, error) {
	return s.addSource(ctx, project, path, label)
}

func (s *Service) addSource(ctx context.Context, project int64, path, label string) (int64, error) {
	list, err := s.Store.ListSources(ctx, project)
	if err != nil {
		return 0, err
	}
	for _, x := range list {
		if x.Path == path {
			return 0, userErr(409, "%s is mounted already, as number %d of the search order", label, x.Position)
		}
	}
	if len(label) > 255 {
		label = label[:255]
	}
	id, err := s.Store.CreateSource(ctx, db.CreateSourceParams{ProjectID: project, Path: path, Label: label})
	if err != nil {
		return 0, err
	}
	if err := s.queueIndex(ctx, project, id, label); err != nil {
		return 0, err
	}
	return id, s.Store.TouchProject(ctx, project)
}

func (s *Service) queueIndex(ctx context.Context, project, id int64, label string) error {
	_, err := s.Pool.Add(ctx, project, "index", "Indexing "+label, idArgs{id})
	return err
}

type idArgs struct {
	ID int64 `json:"id"`
}

// mounted returns an open source.
func (s *Service) mounted(ctx context.Context, row db.Source) (*source.Source, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, ok := s.open[row.ID]; ok {
		if o.generation == row.Generation {
			return o.src, nil
		}
		delete(s.open, row.ID) // readers may still use it; the file closes with the collector
	}
	src, err := source.Open(ctx, row.Path, s.Lib.Layouts)
	if err != nil {
		return nil, err
	}
	src.Label = row.Label
	s.open[row.ID] = opened{row.Generation, src}
	return src, nil
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
			s.Store.SourceFailed(ctx, db.SourceFailedParams{Error: err.Error(), ID: r.ID})
			continue
		}
		st = append(st, src)
	}
	return st, nil
}

// SceneOf returns a stored scene.
func (s *Service) SceneOf(digest string) (*scene.Scene, error) { return s.scenes.get(digest) }

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

func asJSON(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		return json.RawMessage("null")
	}
	return b
}
