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
func (s *Service) shippedSheet(id string) *Sheet {
	t := s.Targets[id]
	if t == nil {
		return nil
	}
	text, err := targets.FS.ReadFile(id + ".yaml")
	if err != nil {
		return nil
	}
	return &Sheet{ID: id, Sheet: t, Text: text, Shipped: true}
}

// Sheets lists the target sheets: those that ship, then the porter's own.
func (s *Service) Sheets(ctx context.Context) (out []Sheet, err error) {
	for id := range s.Targets {
		if x := s.shippedSheet(id); x != nil {
			out = append(out, *x)
		}
	}
	slices.SortFunc(out, func(a, b Sheet) int { return strings.Compare(a.ID, b.ID) })
	rows, err := s.Store.ListSheets(ctx)
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

// SheetOf is the target sheet that a chain names.
func (s *Service) SheetOf(ctx context.Context, id string) (*Sheet, error) {
	if x := s.shippedSheet(id); x != nil {
		return x, nil
	}
	r, err := s.Store.GetSheet(ctx, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, userErr(409, "the target sheet %q of this chain is not there any more; choose another", id)
	}
	if err != nil {
		return nil, err
	}
	x := ownSheet(r.Slug, int(r.Head), r.Doc, r.Made)
	if x.Error != "" {
		return nil, userErr(409, "the target sheet %s cannot be read: %s", id, x.Error)
	}
	return &x, nil
}

var notSlug = regexp.MustCompile(`[^a-z0-9]+`)

// CreateSheet keeps a new sheet under a name made of its own.
func (s *Service) CreateSheet(ctx context.Context, doc []byte) (string, error) {
	t, err := target.Parse(doc)
	if err != nil {
		return "", userErr(422, "%v", err)
	}
	base := strings.Trim(notSlug.ReplaceAllString(strings.ToLower(t.Name), "-"), "-")
	if len(base) > 50 {
		base = strings.Trim(base[:50], "-")
	}
	if base == "" {
		base = "target"
	}
	slug := ""
	err = s.Store.Tx(ctx, func(q *db.Queries) error {
		for n := 1; ; n++ {
			if slug = base; n > 1 {
				slug = fmt.Sprintf("%s-%d", base, n)
			}
			if s.Targets[slug] != nil {
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

// EditSheet keeps a new version of a sheet that was made from version.
func (s *Service) EditSheet(ctx context.Context, id string, version int, doc []byte) error {
	if s.Targets[id] != nil {
		return userErr(409, "%s ships with Excavate and stays as it is: make a copy", id)
	}
	if _, err := target.Parse(doc); err != nil {
		return userErr(422, "%v", err)
	}
	return s.changeSheet(ctx, id, func(q *db.Queries, x db.Sheet) error {
		if int(x.Head) != version {
			return userErr(409, "the sheet has been changed elsewhere meanwhile; look at it again")
		}
		if err := q.AddSheetVersion(ctx, db.AddSheetVersionParams{SheetID: x.ID, No: x.Head + 1,
			Doc: doc}); err != nil {
			return err
		}
		return q.SetSheet(ctx, db.SetSheetParams{Head: x.Head + 1, ID: x.ID})
	})
}

// TakeSheet takes a sheet out, or puts it back. Chains that name it say that it
// is not there.
func (s *Service) TakeSheet(ctx context.Context, id string, gone bool) error {
	if s.Targets[id] != nil {
		return userErr(409, "%s ships with Excavate and stays", id)
	}
	return s.changeSheet(ctx, id, func(q *db.Queries, x db.Sheet) error {
		return q.SetSheet(ctx, db.SetSheetParams{Head: x.Head, Gone: gone, ID: x.ID})
	})
}

func (s *Service) changeSheet(ctx context.Context, id string, f func(*db.Queries, db.Sheet) error) error {
	return s.Store.Tx(ctx, func(q *db.Queries) error {
		x, err := q.LockSheet(ctx, id)
		if errors.Is(err, sql.ErrNoRows) {
			return userErr(404, "there is no target sheet %q", id)
		}
		if err != nil {
			return err
		}
		return f(q, x)
	})
}

// SheetText is a version of a sheet; 0 is the newest.
func (s *Service) SheetText(ctx context.Context, id string, version int) (text []byte,
	versions []db.SheetVersionsRow, err error) {
	if x := s.shippedSheet(id); x != nil {
		return x.Text, nil, nil
	}
	x, err := s.Store.GetSheet(ctx, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil, userErr(404, "there is no target sheet %q", id)
	}
	if err != nil {
		return nil, nil, err
	}
	if versions, err = s.Store.SheetVersions(ctx, x.ID); err != nil {
		return nil, nil, err
	}
	if version == 0 {
		return x.Doc, versions, nil
	}
	text, err = s.Store.SheetVersion(ctx, db.SheetVersionParams{SheetID: x.ID, No: int32(version)})
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil, userErr(404, "the target sheet %s has no version %d", id, version)
	}
	return text, versions, err
}

// ProposeSheet makes the text of a sheet from a find that the target already
// takes.
func (s *Service) ProposeSheet(ctx context.Context, id int64) ([]byte, error) {
	f, err := s.Store.GetFind(ctx, id)
	if f, err = Known(f, err, "find", id); err != nil {
		return nil, err
	}
	if f.Scene == "" {
		return nil, userErr(409, "%s is not decoded yet", f.Name)
	}
	sc, err := s.SceneOf(f.Scene)
	if err != nil {
		return nil, err
	}
	return target.FromExample(f.Name, sc), nil
}
