package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"excavate/core/catalog"
	"excavate/core/find"
	"excavate/core/parallel"
	"excavate/core/source"
	"excavate/core/terms"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// doIndex reads a source's directory and stores it, so that it can be looked
// through at once; then tells what each entry is from its bytes, a part at a
// time. Finds that lacked something are then decoded again, and what the
// models ask for is gathered.
func (s *Sources) doIndex(ctx context.Context, t *work.Task) (err error) {
	var a idArgs
	defer func() { err = s.unlessGone(ctx, a.ID, err) }()
	if err := t.Args(&a); err != nil {
		return err
	}
	// One at a time for a source: two would write over each other's kinds.
	defer s.turn(a.ID)()
	row, err := s.store.GetSource(ctx, a.ID)
	if errors.Is(err, errNoRows) {
		return nil // taken out meanwhile
	}
	if err != nil {
		return err
	}
	defer s.store.TouchProject(context.WithoutCancel(ctx), row.ProjectID)
	src, err := s.openAnew(ctx, row)
	if err != nil {
		if ctx.Err() == nil && !store.Transient(err) {
			s.store.SourceFailed(ctx, db.SourceFailedParams{Error: err.Error(), ID: row.ID})
		}
		return err
	}
	rows, err := s.storeDirectory(ctx, t, row, src)
	if err != nil {
		return err
	}
	if err := s.storeKinds(ctx, t, row, src, rows); err != nil {
		return err
	}
	if err := s.bookmarksHaveCome(ctx, row.ID); err != nil {
		return err
	}
	if err := s.refind(ctx, row.ProjectID); err != nil {
		return err
	}
	if _, err = s.pool.Add(ctx, row.ProjectID, "links", "Reading what the models of "+row.Label+" need", a); err != nil {
		return err
	}
	// What is mounted from within it lies in the new state now.
	all, err := s.store.ListSources(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	for _, in := range all {
		if in.ParentID.Valid && in.ParentID.Int64 == row.ID {
			if err := s.queueIndex(ctx, in.ProjectID, in.ID, in.Label); err != nil {
				return err
			}
		}
	}
	return nil
}

// turn waits until nobody else indexes a source, and returns what ends one's
// own turn.
func (s *Sources) turn(id int64) func() {
	s.mu.Lock()
	m := s.turns[id]
	if m == nil {
		m = &sync.Mutex{}
		s.turns[id] = m
	}
	s.mu.Unlock()
	m.Lock()
	return m.Unlock
}

// unlessGone forgets an error of work on a source that was taken out
// meanwhile.
func (s *Sources) unlessGone(ctx context.Context, source int64, err error) error {
	if err == nil || ctx.Err() != nil {
		return err
	}
	if _, e := s.store.GetSource(ctx, source); errors.Is(e, errNoRows) {
		return nil
	}
	return err
}

// openAnew opens a source as it lies on disk now, apart from the copy that
// others may still read.
func (s *Sources) openAnew(ctx context.Context, row db.Source) (src *source.Source, err error) {
	opt, err := s.libraries.sourceOptions(ctx, row.ProjectID)
	if err != nil {
		return nil, err
	}
	if row.ParentID.Valid {
		parent, err := s.store.GetSource(ctx, row.ParentID.Int64)
		if err != nil {
			return nil, err
		}
		ps, err := s.mounted(ctx, parent)
		if err != nil {
			return nil, err
		}
		i := ps.Lookup(row.Inside)
		if i < 0 {
			return nil, fmt.Errorf("%s no longer holds %s", parent.Label, row.Inside)
		}
		if src, err = ps.Mount(ctx, i, opt); err != nil {
			return nil, err
		}
	} else if src, err = source.Open(ctx, row.Path, s.plainOptions()); err != nil {
		return nil, err
	}
	src.Label = row.Label
	return src, nil
}

// storeDirectory writes a source's entries. Those whose path was there before
// keep their slot, and so their id.
func (s *Sources) storeDirectory(ctx context.Context, t *work.Task, row db.Source,
	src *source.Source) ([]db.Entry, error) {
	entries := src.Entries()
	slots := map[string]int32{}
	if row.NextSlot > 0 {
		if err := s.store.ListEntries(ctx, row.ID, func(e *db.Entry) { slots[e.Path] = e.Slot }); err != nil {
			return nil, err
		}
	}
	next := row.NextSlot
	if int(next)+len(entries) > 1<<24-1 { // used up by many indexings: begin anew
		next, slots = 0, map[string]int32{}
	}
	rows := make([]db.Entry, len(entries))
	b := catalog.NewBuilder(len(entries))
	for i := range entries {
		e := &entries[i]
		slot, ok := slots[e.Path]
		if !ok {
			slot = next
			next++
		}
		rows[i] = db.Entry{SourceID: row.ID, Slot: slot, Idx: int32(i), Path: e.Path, Size: e.Size, Packed: e.Packed}
		if e.Err != nil {
			rows[i].Kind, rows[i].Error = string(find.Data), e.Err.Error()
		}
		b.Add(catalogEntry(&rows[i]))
	}
	text := make([]string, 0, len(src.Problems))
	for i, p := range src.Problems {
		if i == 200 {
			text = append(text, fmt.Sprintf("and %d more", len(src.Problems)-i))
			break
		}
		text = append(text, p.Error())
	}
	licence := licenceText(src)
	progress := func(done int) { t.Progress(int64(done), int64(2*len(rows)), "entries") }
	err := s.store.ReplaceEntries(ctx, row.ID, rows, progress, func(q *db.Queries) error {
		if err := q.TouchProject(ctx, row.ProjectID); err != nil {
			return err
		}
		return q.SourceIndexed(ctx, db.SourceIndexedParams{
			Format: src.Format, IsLayout: src.IsLayout, Size: src.Size, EntryCount: int32(len(rows)),
			Problems: asJSON(text), Remarks: asJSON(append([]string{}, src.Remarks...)), Terms: licence,
			Stamp: src.Stamp, NextSlot: next, ID: row.ID})
	})
	if err != nil {
		return nil, err
	}
	fresh, err := s.store.GetSource(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	s.shelf.put(fresh, b.List())
	s.mountIndexed(fresh, src)
	return rows, nil
}

// kindsEvery is how long kinds are gathered before they are stored and shown.
const kindsEvery = 3 * time.Second

// storeKinds tells from its first bytes what each entry is.
func (s *Sources) storeKinds(ctx context.Context, t *work.Task, row db.Source, src *source.Source,
	rows []db.Entry) error {
	id := row.ID
	lib, err := s.libraries.Of(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	// What is asked for by the project's version changes with it.
	change := func(f func(q *db.Queries) error) error {
		err := s.store.Tx(ctx, func(q *db.Queries) error {
			if err := f(q); err != nil {
				return err
			}
			return q.TouchProject(ctx, row.ProjectID)
		})
		if err != nil {
			return err
		}
		return s.showKinds(ctx, id, rows)
	}
	defer src.ReadAhead()()
	entries := src.Entries()
	var seen atomic.Int64
	t.Progress(int64(len(rows)), int64(2*len(rows)), "entries")
	for at := 0; at < len(rows); {
		// A part goes on until its time is up, and to the end of a block.
		begun := time.Now()
		var next atomic.Int64
		next.Store(int64(at))
		var mu sync.Mutex
		var wg parallel.Group
		take := func() (from, to int) {
			mu.Lock()
			defer mu.Unlock()
			from = int(next.Load())
			if from >= len(rows) || ctx.Err() != nil || time.Since(begun) > kindsEvery {
				return 0, 0
			}
			for to = from + 1; to < len(rows); to++ {
				block := entries[to].Block
				if block >= 0 && block == entries[to-1].Block {
					continue
				}
				if block < 0 && entries[to-1].Block < 0 && to-from < 64 {
					continue
				}
				break
			}
			next.Store(int64(to))
			return from, to
		}
		for range runtime.GOMAXPROCS(0) {
			wg.Go(func() {
				for from, to := take(); to > from; from, to = take() {
					for i := from; i < to && ctx.Err() == nil; i++ {
						if entries[i].Err == nil { // else its directory record says already that it cannot be read
							kindOf(lib, src, i, &rows[i])
						}
					}
					t.Progress(int64(len(rows))+seen.Add(int64(to-from)), int64(2*len(rows)), "entries")
				}
			})
		}
		wg.Wait()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		to := int(next.Load())
		if err := s.store.EntryKinds(ctx, rows[at:to]); err != nil {
			return err
		}
		at = to
		if at < len(rows) {
			if err := change(func(q *db.Queries) error { return q.RaiseRev(ctx, id) }); err != nil {
				return err
			}
		}
	}
	row, err = s.store.GetSource(ctx, id) // its terms may have been stated meanwhile
	if err != nil {
		return err
	}
	rights := row.Rights
	var known terms.Terms
	if json.Unmarshal(rights, &known); !known.ByHand && !(row.Origin == "device" && known.Stated()) {
		rights = asJSON(termsOf(src, rows))
	}
	return change(func(q *db.Queries) error {
		return q.SourceKinds(ctx, db.SourceKindsParams{Rights: rights, ID: id})
	})
}

func (s *Sources) showKinds(ctx context.Context, id int64, rows []db.Entry) error {
	row, err := s.store.GetSource(ctx, id)
	if err != nil {
		return err
	}
	s.shelf.mu.Lock()
	h := s.shelf.lists[id]
	s.shelf.mu.Unlock()
	if h != nil && h.v != nil && h.v.Len() == len(rows) {
		s.shelf.put(row, h.v.WithKinds(func(i int) (string, string, string) { return rows[i].Kind, rows[i].Format, rows[i].Error }))
	}
	return nil
}

// licenceText reads a licence file that lies at a source's top.
func licenceText(src *source.Source) string {
	for i, e := range src.Entries() {
		if strings.Contains(e.Path, "/") || !terms.LicenceFile(e.Path) || e.Size > 64<<10 {
			continue
		}
		if b, err := src.Read(i); err == nil {
			return strings.TrimSpace(find.TextPreview(b, 2000))
		}
	}
	return ""
}

// termsOf reads the terms that a source carries: of a licence file, the one
// nearest its top; or of its models, if all that are looked at say the same.
func termsOf(src *source.Source, rows []db.Entry) terms.Terms {
	const most = 32
	best, depth := -1, 0
	for i := range rows {
		if rows[i].Kind == string(find.Text) && rows[i].Size <= 256<<10 && terms.LicenceFile(rows[i].Path) {
			d := strings.Count(rows[i].Path, "/")
			if best < 0 || d < depth {
				best, depth = i, d
			}
		}
	}
	if best >= 0 {
		if b, err := src.Read(best); err == nil {
			if t, err := terms.Text(rows[best].Path, find.TextPreview(b, 256<<10)); err == nil {
				return t
			}
		}
	}
	var all terms.Terms
	seen := 0
	for i := range rows {
		if !carriesTerms(rows[i].Format) {
			continue
		}
		if seen++; seen > most {
			break
		}
		t, err := entryTerms(src, i, rows[i].Path)
		if err != nil {
			continue
		}
		a, b := all, t
		a.Evidence, b.Evidence = "", ""
		if all.Stated() && a != b {
			return terms.Terms{} // each its own: they are shown with the entries
		}
		if !all.Stated() {
			all = t
		}
	}
	return all
}

func carriesTerms(format string) bool { return format == "glb" || format == "gltf" }

func entryTerms(src *source.Source, i int, name string) (terms.Terms, error) {
	r, err := src.Stream(i)
	if err != nil {
		return terms.Terms{}, err
	}
	defer r.Close()
	return terms.GLTF(name, r)
}

// mostAsked is the size of a model that is read for what it needs; larger
// ones are read when they are looked at.
const mostAsked = 64 << 20

// doLinks gathers what the models of a source ask for.
func (s *Sources) doLinks(ctx context.Context, t *work.Task) (err error) {
	var a idArgs
	defer func() { err = s.unlessGone(ctx, a.ID, err) }()
	if err := t.Args(&a); err != nil {
		return err
	}
	defer s.turn(a.ID)() // its entries must not change meanwhile
	row, err := s.store.GetSource(ctx, a.ID)
	if errors.Is(err, errNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	src, err := s.mounted(ctx, row)
	if err != nil {
		return err
	}
	l, err := s.shelf.list(ctx, row)
	if err != nil {
		return err
	}
	var models []int
	for i := range l.Len() {
		if l.Kind(i) == string(find.Model) && l.Size(i) <= mostAsked {
			models = append(models, i)
		}
	}
	fs, err := s.finder(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	lib, err := s.libraries.Of(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	refs := make([][]db.EntryRef, len(models))
	var next, done atomic.Int64
	var wg parallel.Group
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for ctx.Err() == nil {
				k := int(next.Add(1)) - 1
				if k >= len(models) {
					return
				}
				i := src.Lookup(l.Path(models[k]))
				if i < 0 {
					continue
				}
				data, err := src.Read(i)
				if err != nil {
					continue // the entry's own preview says why
				}
				asks, _ := lib.Asks(ctx, find.Input{Name: l.Path(models[k]), Data: data, From: row.Label, Finder: fs})
				_, slot := store.Entry(l.ID(models[k]))
				for no, ask := range asks {
					refs[k] = append(refs[k], db.EntryRef{SourceID: row.ID, Slot: slot, No: int32(no), Ref: ask.Ref, Role: ask.Role})
				}
				t.Progress(done.Add(1), int64(len(models)), "models")
			}
		})
	}
	wg.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var flat []db.EntryRef
	for _, r := range refs {
		flat = append(flat, r...)
	}
	err = s.store.ReplaceRefs(ctx, row.ID, flat, func(q *db.Queries) error {
		if err := q.TouchProject(ctx, row.ProjectID); err != nil {
			return err
		}
		return q.SourceLinks(ctx, row.ID)
	})
	if err != nil {
		return err
	}
	if fresh, err := s.store.GetSource(ctx, row.ID); err == nil {
		s.shelf.put(fresh, l) // its entries are the same
	}
	return nil
}

// Reindex reads a source again, as it lies on disk now. One within another is
// read with the outermost.
func (s *Sources) Reindex(ctx context.Context, id int64) error {
	row, err := s.store.GetSource(ctx, id)
	if row, err = Known(row, err, "source", id); err != nil {
		return err
	}
	if row.ParentID.Valid {
		if err := s.store.SourceIndexing(ctx, id); err != nil {
			return err
		}
		return s.Reindex(ctx, row.ParentID.Int64)
	}
	if err := s.store.SourceIndexing(ctx, id); err != nil {
		return err
	}
	if err := s.queueIndex(ctx, row.ProjectID, id, row.Label); err != nil {
		return err
	}
	return s.store.TouchProject(ctx, row.ProjectID)
}

var errNoRows = sql.ErrNoRows

// bookmarksHaveCome puts the bookmarks that came with a project on the entries
// of a source that is indexed now.
func (s *Sources) bookmarksHaveCome(ctx context.Context, source int64) error {
	return s.store.Tx(ctx, func(q *db.Queries) error {
		return errors.Join(q.BookmarksHaveCome(ctx, source), q.DropToCome(ctx, source))
	})
}
