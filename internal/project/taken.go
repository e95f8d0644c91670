package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"excavate/internal/store/db"
)

// Bin is what was taken out of projects and can be put back.
type Bin struct {
	*common
	sources *Sources
	finds   *Finds
	layouts *Layouts
}

// What is taken out of a project is moved into a project of its own that is
// in no list, its bin, and nothing is deleted: so it comes back as it was,
// with all that hangs on it. Forget empties bins after a day.

// taken is what one taking out writes down.
type taken struct {
	project int64
	kind    string
	id      int64
	name    string
	also    []string
	finds   map[int64]int64 // find to the source that it loses
}

// takeOut moves things into the project's bin and writes down what they were.
// One goes at a time, so that nothing is taken out twice; there says whether it
// still is in the project.
func (s *Bin) takeOut(ctx context.Context, t taken, there func(q *db.Queries) error,
	move func(q *db.Queries, bin int64) error) error {
	return s.store.Tx(ctx, func(q *db.Queries) error {
		if _, err := q.LockProject(ctx, t.project); err != nil {
			return err
		}
		if err := there(q); err != nil {
			_, err = Known(0, err, t.kind, t.id)
			return err
		}
		bin, err := q.FindBin(ctx, nullInt(t.project))
		if errors.Is(err, sql.ErrNoRows) {
			bin, err = q.CreateBin(ctx, nullInt(t.project))
		}
		if err != nil {
			return err
		}
		if err := move(q, bin); err != nil {
			return err
		}
		if _, err := q.AddTaken(ctx, db.AddTakenParams{ProjectID: t.project, Kind: t.kind, ThingID: t.id, Name: t.name, Also: asJSON(t.also), Finds: asJSON(t.finds)}); err != nil {
			return err
		}
		return q.TouchProject(ctx, t.project)
	})
}

// TakeOutFind takes a find out, with its chains and their deliveries.
func (s *Bin) TakeOutFind(ctx context.Context, id int64) error {
	row, err := s.store.GetFind(ctx, id)
	if row, err = Known(row, err, "find", id); err != nil {
		return err
	}
	chains, err := s.store.ChainsOfFind(ctx, id)
	if err != nil {
		return err
	}
	deliveries, err := s.store.DeliveriesOfFind(ctx, id)
	if err != nil {
		return err
	}
	t := taken{project: row.ProjectID, kind: "find", id: id, name: row.Name, also: []string{}}
	t.went(len(chains), "chain", "chains")
	t.went(int(deliveries), "delivery", "deliveries")
	there := func(q *db.Queries) error { _, err := q.GetFind(ctx, id); return err }
	return s.takeOut(ctx, t, there, func(q *db.Queries, bin int64) error { return moveFind(ctx, q, id, bin) })
}

func (t *taken) went(n int, one, many string) {
	switch {
	case n == 1:
		t.also = append(t.also, "1 "+one)
	case n > 1:
		t.also = append(t.also, fmt.Sprintf("%d %s", n, many))
	}
}

func moveFind(ctx context.Context, q *db.Queries, id, project int64) error {
	return errors.Join(
		q.MoveDeliveries(ctx, db.MoveDeliveriesParams{ProjectID: project, FindID: id}),
		q.MoveChains(ctx, db.MoveChainsParams{ProjectID: project, FindID: id}),
		q.MoveFind(ctx, db.MoveFindParams{ProjectID: project, ID: id}))
}

// TakeOutSource takes a source out of its project, with those mounted from within
// it. What lies on disk stays. Finds of it stay too, with what they were made
// of, and are made anew from it when it is put back.
func (s *Bin) TakeOutSource(ctx context.Context, id int64) error {
	row, err := s.store.GetSource(ctx, id)
	if row, err = Known(row, err, "source", id); err != nil {
		return err
	}
	if err := s.finds.keepOrigins(ctx, row.ProjectID); err != nil {
		return err
	}
	all, err := s.withWithin(ctx, id)
	if err != nil {
		return err
	}
	t := taken{project: row.ProjectID, kind: "source", id: id, name: row.Label, also: []string{}, finds: map[int64]int64{}}
	marks := 0
	for _, id := range all {
		finds, err := s.store.FindsOfSource(ctx, nullInt(id))
		if err != nil {
			return err
		}
		for _, f := range finds {
			t.finds[f] = id
		}
		n, err := s.store.BookmarksOfSource(ctx, id)
		if err != nil {
			return err
		}
		marks += int(n)
	}
	t.went(len(all)-1, "source within it", "sources within it")
	t.went(marks, "bookmark", "bookmarks")
	there := func(q *db.Queries) error { _, err := q.GetSource(ctx, id); return err }
	return s.takeOut(ctx, t, there, func(q *db.Queries, bin int64) error { return moveSources(ctx, q, all, bin, t.finds, false) })
}

// withWithin is a source and those mounted from within it, however deep.
func (s *Bin) withWithin(ctx context.Context, id int64) ([]int64, error) {
	out := []int64{id}
	for i := 0; i < len(out); i++ {
		in, err := s.store.SourcesWithin(ctx, nullInt(out[i]))
		if err != nil {
			return nil, err
		}
		out = append(out, in...)
	}
	return out, nil
}

func moveSources(ctx context.Context, q *db.Queries, all []int64, project int64, finds map[int64]int64, back bool) error {
	for _, id := range all {
		if err := q.MoveSource(ctx, db.MoveSourceParams{ProjectID: project, ID: id}); err != nil {
			return err
		}
	}
	for f, of := range finds {
		if err := q.SetFindSource(ctx, db.SetFindSourceParams{SourceID: sql.NullInt64{Int64: of, Valid: back}, ID: f}); err != nil {
			return err
		}
	}
	return nil
}

// TakeOutLayout takes a layout out, with its versions.
func (s *Bin) TakeOutLayout(ctx context.Context, id int64) error {
	row, err := s.store.GetLayout(ctx, id)
	if row, err = Known(row, err, "layout", id); err != nil {
		return err
	}
	t := taken{project: row.ProjectID, kind: "layout", id: id, name: row.Name, also: []string{}}
	t.went(int(row.Head), "version", "versions")
	there := func(q *db.Queries) error { _, err := q.GetLayout(ctx, id); return err }
	err = s.takeOut(ctx, t, there, func(q *db.Queries, bin int64) error {
		// Several of one name may have been taken out.
		return q.MoveLayout(ctx, db.MoveLayoutParams{ProjectID: bin, Name: fmt.Sprintf("taken out %d", id), ID: id})
	})
	if err != nil {
		return err
	}
	return s.layouts.recognise(ctx, row.ProjectID)
}

// List lists what can be put back, the newest first.
func (s *Bin) List(ctx context.Context, project int64) ([]db.TakenOut, error) {
	return s.store.ListTaken(ctx, project)
}

// PutBack puts back what was taken out, with all that went with it.
func (s *Bin) PutBack(ctx context.Context, project, id int64) error {
	var row db.TakenOut
	err := s.store.Tx(ctx, func(q *db.Queries) (err error) {
		row, err = q.LockTaken(ctx, db.LockTakenParams{ID: id, ProjectID: project})
		if row, err = Known(row, err, "thing taken out", id); err != nil {
			return err
		}
		if err := s.back(ctx, q, row); err != nil {
			return err
		}
		return errors.Join(q.DropTaken(ctx, id), q.TouchProject(ctx, project))
	})
	switch {
	case err != nil:
		return err
	case row.Kind == "layout":
		return s.layouts.recognise(ctx, project)
	case row.Kind == "source":
		return s.resume(ctx, row)
	}
	return nil
}

// resume indexes sources that were put back and had not been indexed to the
// end, and links anew what asks for something in them.
func (s *Bin) resume(ctx context.Context, row db.TakenOut) error {
	all, err := s.withWithin(ctx, row.ThingID)
	if err != nil {
		return err
	}
	for _, id := range all {
		src, err := s.store.GetSource(ctx, id)
		if err != nil {
			return err
		}
		if src.State != "ready" || !src.KindsKnown {
			if err := s.sources.Reindex(ctx, id); err != nil {
				return err
			}
		}
	}
	return s.refind(ctx, row.ProjectID)
}

func (s *Bin) back(ctx context.Context, q *db.Queries, row db.TakenOut) error {
	switch row.Kind {
	case "find":
		return moveFind(ctx, q, row.ThingID, row.ProjectID)
	case "source":
		var finds map[int64]int64
		if err := json.Unmarshal(row.Finds, &finds); err != nil {
			return err
		}
		list, err := q.ListSources(ctx, row.ProjectID)
		if err != nil {
			return err
		}
		own, err := q.AnySource(ctx, row.ThingID)
		if err != nil {
			return err
		}
		if own.ParentID.Valid {
			if _, err := q.GetSource(ctx, own.ParentID.Int64); errors.Is(err, errNoRows) {
				return errorf(Conflict, "the source that %s lies within was taken out; put that back first", row.Name)
			} else if err != nil {
				return err
			}
		}
		for _, x := range list {
			if x.ID == own.ID { // it came back with the one that it lies within
				return nil
			}
			if x.Path == own.Path && x.Inside == own.Inside {
				return errorf(Conflict, "%s was added again meanwhile; take that one out before this one is put back", row.Name)
			}
		}
		all, err := s.withWithin(ctx, row.ThingID)
		if err != nil {
			return err
		}
		return moveSources(ctx, q, all, row.ProjectID, finds, true)
	case "layout":
		if _, err := q.LayoutNamed(ctx, db.LayoutNamedParams{ProjectID: row.ProjectID, Name: row.Name}); err == nil {
			return errorf(Conflict,
				"the project has another layout %q now; take that one out before this one is put back", row.Name)
		} else if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		return q.MoveLayout(ctx, db.MoveLayoutParams{ProjectID: row.ProjectID, Name: row.Name, ID: row.ThingID})
	}
	return fmt.Errorf("taken out %d is of unknown kind %q", row.ID, row.Kind)
}

// Forget deletes for good what was taken out more than a day ago, and copies
// of ours on disk that no source uses any more.
func (s *Bin) Forget(ctx context.Context) error {
	old, err := s.store.OldTaken(ctx)
	if err != nil {
		return err
	}
	for _, t := range old {
		if err := s.forget(ctx, t); err != nil && !errors.Is(err, errNoRows) {
			return err
		}
		if err := s.store.DropTaken(ctx, t.ID); err != nil {
			return err
		}
	}
	return nil
}

// forget deletes one thing, if it is not back in its project by another way.
func (s *Bin) forget(ctx context.Context, t db.TakenOut) error {
	switch t.Kind {
	case "find":
		if _, err := s.store.GetFind(ctx, t.ThingID); !errors.Is(err, errNoRows) {
			return err
		}
		return s.store.DeleteFind(ctx, t.ThingID)
	case "layout":
		if _, err := s.store.GetLayout(ctx, t.ThingID); !errors.Is(err, errNoRows) {
			return err
		}
		return s.store.DeleteLayout(ctx, t.ThingID)
	case "source":
		if _, err := s.store.GetSource(ctx, t.ThingID); !errors.Is(err, errNoRows) {
			return err
		}
		row, err := s.store.AnySource(ctx, t.ThingID)
		if err != nil {
			return err
		}
		if err := s.store.DeleteSource(ctx, t.ThingID); err != nil {
			return err
		}
		if row.Origin != "path" && !row.ParentID.Valid {
			s.sources.dropCopy(ctx, row)
		}
	}
	return nil
}
