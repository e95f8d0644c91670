package project

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"excavate/core/target"
	"excavate/internal/store/db"
	"excavate/targets"
)

// List are the target sheets that ship and those of projects.
type Sheets struct {
	*common
	scenes *Scenes
}

// Sheet is a target sheet as it is kept.
type Sheet struct {
	ID      string // by which chains name it
	Sheet   *target.Sheet
	Text    []byte
	Shipped bool
	Version int // of those that the porter wrote
	Made    time.Time
	Error   string // why it cannot be read any more
}

// shippedSheets are those that ship, by their names, with their texts.
func (s *Sheets) shippedSheet(id string) *Sheet {
	t := s.targets[id]
	if t == nil {
		return nil
	}
	text, err := targets.FS.ReadFile(id + ".yaml")
	if err != nil {
		return nil
	}
	return &Sheet{ID: id, Sheet: t, Text: text, Shipped: true}
}

// List lists the target sheets: those that ship, then the porter's own.
func (s *Sheets) List(ctx context.Context) (out []Sheet, err error) {
	for id := range s.targets {
		if x := s.shippedSheet(id); x != nil {
			out = append(out, *x)
		}
	}
	slices.SortFunc(out, func(a, b Sheet) int { return strings.Compare(a.ID, b.ID) })
	rows, err := s.store.ListSheets(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		out = append(out, ownSheet(r.Slug, int(r.Head), r.Doc, r.Made))
	}
	return out, nil
}

func ownSheet(slug string, version int, doc []byte, made time.Time) Sheet {
	x := Sheet{ID: slug, Text: doc, Version: version, Made: made}
	var err error
	if x.Sheet, err = target.Parse(doc); err != nil {
		x.Error = err.Error()
	}
	return x
}

// Get is the target sheet that a chain names.
func (s *Sheets) Get(ctx context.Context, id string) (*Sheet, error) {
	if x := s.shippedSheet(id); x != nil {
		return x, nil
	}
	r, err := s.store.GetSheet(ctx, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, errorf(Conflict, "the target sheet %q of this chain is not there any more; choose another", id)
	}
	if err != nil {
		return nil, err
	}
	x := ownSheet(r.Slug, int(r.Head), r.Doc, r.Made)
	if x.Error != "" {
		return nil, errorf(Conflict, "the target sheet %s cannot be read: %s", id, x.Error)
	}
	return &x, nil
}

var notSlug = regexp.MustCompile(`[^a-z0-9]+`)

// Create keeps a new sheet under a name made of its own.
func (s *Sheets) Create(ctx context.Context, doc []byte) (string, error) {
	t, err := target.Parse(doc)
	if err != nil {
		return "", errorf(Unusable, "%v", err)
	}
	base := strings.Trim(notSlug.ReplaceAllString(strings.ToLower(t.Name), "-"), "-")
	if len(base) > 50 {
		base = strings.Trim(base[:50], "-")
	}
	if base == "" {
		base = "target"
	}
	slug := ""
	err = s.store.Tx(ctx, func(q *db.Queries) error {
		for n := 1; ; n++ {
			if slug = base; n > 1 {
				slug = fmt.Sprintf("%s-%d", base, n)
			}
			if s.targets[slug] != nil {
				continue
			}
			_, err := q.LockSheet(ctx, slug)
			if err == nil {
				continue
			}
			if !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			break
		}
		id, err := q.CreateSheet(ctx, slug)
		if err != nil {
			return err
		}
		if err := q.AddSheetVersion(ctx, db.AddSheetVersionParams{SheetID: id, No: 1, Doc: doc}); err != nil {
			return err
		}
		return q.SetSheet(ctx, db.SetSheetParams{Head: 1, ID: id})
	})
	return slug, err
}

// Edit keeps a new version of a sheet that was made from version.
func (s *Sheets) Edit(ctx context.Context, id string, version int, doc []byte) error {
	if s.targets[id] != nil {
		return errorf(Conflict, "%s ships with Excavate and stays as it is: make a copy", id)
	}
	if _, err := target.Parse(doc); err != nil {
		return errorf(Unusable, "%v", err)
	}
	return s.changeSheet(ctx, id, func(q *db.Queries, x db.Sheet) error {
		if int(x.Head) != version {
			return errorf(Conflict, "the sheet has been changed elsewhere meanwhile; look at it again")
		}
		if err := q.AddSheetVersion(ctx, db.AddSheetVersionParams{SheetID: x.ID, No: x.Head + 1,
			Doc: doc}); err != nil {
			return err
		}
		return q.SetSheet(ctx, db.SetSheetParams{Head: x.Head + 1, ID: x.ID})
	})
}

// Delete takes a sheet out, or puts it back. Chains that name it say that it
// is not there.
func (s *Sheets) Delete(ctx context.Context, id string, gone bool) error {
	if s.targets[id] != nil {
		return errorf(Conflict, "%s ships with Excavate and stays", id)
	}
	return s.changeSheet(ctx, id, func(q *db.Queries, x db.Sheet) error {
		return q.SetSheet(ctx, db.SetSheetParams{Head: x.Head, Gone: gone, ID: x.ID})
	})
}

func (s *Sheets) changeSheet(ctx context.Context, id string, f func(*db.Queries, db.Sheet) error) error {
	return s.store.Tx(ctx, func(q *db.Queries) error {
		x, err := q.LockSheet(ctx, id)
		if errors.Is(err, sql.ErrNoRows) {
			return errorf(NotFound, "there is no target sheet %q", id)
		}
		if err != nil {
			return err
		}
		return f(q, x)
	})
}

// Text is a version of a sheet; 0 is the newest.
func (s *Sheets) Text(ctx context.Context, id string, version int) (text []byte,
	versions []db.SheetVersionsRow, err error) {
	if x := s.shippedSheet(id); x != nil {
		return x.Text, nil, nil
	}
	x, err := s.store.GetSheet(ctx, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil, errorf(NotFound, "there is no target sheet %q", id)
	}
	if err != nil {
		return nil, nil, err
	}
	if versions, err = s.store.SheetVersions(ctx, x.ID); err != nil {
		return nil, nil, err
	}
	if version == 0 {
		return x.Doc, versions, nil
	}
	text, err = s.store.SheetVersion(ctx, db.SheetVersionParams{SheetID: x.ID, No: int32(version)})
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil, errorf(NotFound, "the target sheet %s has no version %d", id, version)
	}
	return text, versions, err
}

// Propose makes the text of a sheet from a find that the target already
// takes.
func (s *Sheets) Propose(ctx context.Context, id int64) ([]byte, error) {
	f, err := s.store.GetFind(ctx, id)
	if f, err = Known(f, err, "find", id); err != nil {
		return nil, err
	}
	if f.Scene == "" {
		return nil, errorf(Conflict, "%s is not decoded yet", f.Name)
	}
	sc, err := s.scenes.Get(f.Scene)
	if err != nil {
		return nil, err
	}
	return target.FromExample(f.Name, sc), nil
}

// usualSheet is what a new chain is rehearsed against.
func (s *Sheets) usualSheet() (id string) {
	if s.targets["gltf-engine"] != nil {
		return "gltf-engine"
	}
	for x := range s.targets {
		if id == "" || x < id {
			id = x
		}
	}
	return id
}

// sheetNamed is the sheet of a name, as manifests say it.
func (s *Sheets) sheetNamed(ctx context.Context, name string) (*Sheet, error) {
	list, err := s.List(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].Sheet != nil && list[i].Sheet.Name == name {
			return &list[i], nil
		}
	}
	return nil, errorf(Conflict, "the target sheet %q is not there any more", name)
}
