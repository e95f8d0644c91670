package project

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"excavate/core/scene"
	"excavate/core/source"
	"excavate/internal/store"
	"excavate/internal/store/db"

	"github.com/goccy/go-yaml"
)

// knownTo answers for assemblies with the finds of a project, as they were
// decoded by the porter's decisions.
func (s *Finds) knownTo(ctx context.Context, project int64, f *finder) func(source.Hit) (*scene.Scene, error) {
	return func(hit source.Hit) (*scene.Scene, error) {
		for id, src := range f.byID {
			if src != hit.Source {
				continue
			}
			row, err := s.store.FindOfEntry(ctx,
				db.FindOfEntryParams{ProjectID: project, SourceID: nullInt(id), EntryPath: hit.Path()})
			if errors.Is(err, sql.ErrNoRows) || err == nil && row.Scene == "" {
				return nil, nil
			}
			if err != nil {
				return nil, err
			}
			return s.scenes.Get(row.Scene)
		}
		return nil, nil
	}
}

// indexWait is how long a porter waits for a document of a few lines to be a source.
const indexWait = 20 * time.Second

// PutTogether makes an assembly of finds, each by its own coordinates: a
// document that becomes a source of its own, and the find of it.
func (s *Finds) PutTogether(ctx context.Context, project int64, name string, finds []int64) (int64, error) {
	type entry struct {
		From string `yaml:"from"`
		Name string `yaml:"name"`
	}
	doc := struct {
		Assembly string  `yaml:"assembly"`
		Entries  []entry `yaml:"entries"`
	}{Assembly: name}
	finder, err := s.sources.finder(ctx, project)
	if err != nil {
		return 0, err
	}
	for _, id := range finds {
		f, err := s.store.GetFind(ctx, id)
		if f, err = Known(f, err, "find", id); err != nil {
			return 0, err
		}
		if f.ProjectID != project {
			return 0, errorf(NotFound, "find %d is not in this project", id)
		}
		// The document names paths: one that another source hides would be its model.
		own := finder.byID[f.SourceID.Int64]
		if hit, ok, _ := finder.Resolve(f.EntryPath, nil); ok && own != nil && hit.Source != own && hit.Path() == f.EntryPath {
			return 0, errorf(Unusable,
				"%s of %s is hidden by the one of %s, which is before it in the search order; move %s up first",
				f.EntryPath, own.Label, hit.Source.Label, own.Label)
		}
		doc.Entries = append(doc.Entries, entry{f.EntryPath, f.Name})
	}
	text, err := yaml.Marshal(doc)
	if err != nil {
		return 0, err
	}
	text = fmt.Appendf(text, "# put together %s\n", time.Now().UTC().Format("2006-01-02 15:04:05.000"))
	u, err := s.sources.BeginUpload(ctx, project,
		Upload{Name: fileName(name) + ".yaml", Files: []UploadFile{{Size: int64(len(text))}}})
	if err != nil {
		return 0, err
	}
	if _, err := s.sources.Append(u.ID, 0, 0, strings.NewReader(string(text))); err != nil {
		return 0, err
	}
	src, err := s.sources.FinishUpload(ctx, u.ID)
	if err != nil {
		return 0, err
	}
	for end := time.Now().Add(indexWait); ; time.Sleep(50 * time.Millisecond) {
		row, err := s.store.GetSource(ctx, src)
		switch {
		case err != nil:
			return 0, err
		case row.State == "ready":
			return s.Create(ctx, project, store.EntryID(src, 0))
		case row.State == "failed":
			return 0, errorf(Unusable, "%s", row.Error)
		case ctx.Err() != nil:
			return 0, ctx.Err()
		case time.Now().After(end):
			return 0, errorf(Busy, "the assembly is a source, %s, and is still being looked through; make a find of it there",
				row.Label)
		}
	}
}

// assemblyName is what the file of an assembly is called whose name no file can have.
const assemblyName = "assembly"

// fileName is a name that files may have.
func fileName(name string) string {
	name = strings.Map(func(r rune) rune {
		if r < 0x20 || strings.ContainsRune(`/\:*?"<>|`, r) {
			return '_'
		}
		return r
	}, name)
	if len(name) > 120 {
		name = strings.ToValidUTF8(name[:120], "")
	}
	if name = strings.Trim(name, " ."); name == "" {
		return assemblyName
	}
	return name
}
