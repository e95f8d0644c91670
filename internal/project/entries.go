package project

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"sync"

	"excavate/core/source"
	"excavate/internal/store"
	"excavate/internal/store/db"
)

// entryIndex holds the entries of the sources that are in use, for search as
// one types: a hundred thousand paths are searched in a few milliseconds.
type entryIndex struct {
	st *store.Store
	mu sync.Mutex
	by map[int64]*indexed
}

type indexed struct {
	generation int64
	rows       []db.SourceEntriesRow
	lower      []string
	once       sync.Once
	err        error
	byPath     map[string]bool
}

func newEntryIndex(st *store.Store) *entryIndex {
	return &entryIndex{st: st, by: map[int64]*indexed{}}
}

func (x *entryIndex) of(ctx context.Context, s db.Source) (*indexed, error) {
	x.mu.Lock()
	e := x.by[s.ID]
	if e == nil || e.generation != s.Generation {
		e = &indexed{generation: s.Generation}
		x.by[s.ID] = e
	}
	x.mu.Unlock()
	e.once.Do(func() {
		// A caller that goes away must not leave an empty index to the others.
		e.rows, e.err = x.st.SourceEntries(context.WithoutCancel(ctx), s.ID)
		e.lower = make([]string, len(e.rows))
		e.byPath = make(map[string]bool, len(e.rows))
		for i := range e.rows {
			e.lower[i] = strings.ToLower(e.rows[i].Path)
			e.byPath[e.lower[i]] = true
		}
	})
	if e.err != nil {
		x.mu.Lock()
		if x.by[s.ID] == e {
			delete(x.by, s.ID)
		}
		x.mu.Unlock()
	}
	return e, e.err
}

// Query is a search over a project's entries.
type Query struct {
	Text   string // part of a path, or a glob; case does not count
	Kind   string
	Source int64
	Sort   string // order, path, size, -path, -size
	Offset int
	Limit  int
}

// Row is one entry of a page.
type Row struct {
	db.SourceEntriesRow
	Source       int64
	SourceLabel  string
	OverriddenBy string // label of the source that wins for this path
}

// Page is the answer to a Query.
type Page struct {
	Rows  []Row
	Total int            // entries that fit
	All   int            // entries of the project
	Kinds map[string]int // entries that fit apart from the kind
}

// Entries searches a project's entries.
func (s *Service) Entries(ctx context.Context, project int64, q Query) (*Page, error) {
	sources, err := s.Store.ListSources(ctx, project)
	if err != nil {
		return nil, err
	}
	text := strings.ToLower(strings.TrimSpace(strings.ReplaceAll(q.Text, "\\", "/")))
	isGlob := strings.ContainsAny(text, "*?[{")
	words := strings.Fields(text)
	p := &Page{Kinds: map[string]int{}}
	type ref struct{ src, row int32 }
	var refs []ref
	lists := make([]*indexed, len(sources))
	for si, src := range sources {
		if src.State == "failed" {
			continue
		}
		x, err := s.index.of(ctx, src)
		if err != nil {
			return nil, err
		}
		lists[si] = x
		p.All += len(x.rows)
		if q.Source != 0 && q.Source != src.ID {
			continue
		}
	rows:
		for i := range x.rows {
			if isGlob {
				if !source.Match(text, x.lower[i]) {
					continue
				}
			} else {
				for _, w := range words {
					if !strings.Contains(x.lower[i], w) {
						continue rows
					}
				}
			}
			p.Kinds[x.rows[i].Kind]++
			if q.Kind == "" || q.Kind == x.rows[i].Kind {
				refs = append(refs, ref{int32(si), int32(i)})
			}
		}
	}
	p.Total = len(refs)
	row := func(r ref) *db.SourceEntriesRow { return &lists[r.src].rows[r.row] }
	switch q.Sort {
	case "", "order":
	case "path":
		sort.SliceStable(refs, func(i, j int) bool { return row(refs[i]).Path < row(refs[j]).Path })
	case "-path":
		sort.SliceStable(refs, func(i, j int) bool { return row(refs[i]).Path > row(refs[j]).Path })
	case "size":
		sort.SliceStable(refs, func(i, j int) bool { return row(refs[i]).Size < row(refs[j]).Size })
	case "-size":
		sort.SliceStable(refs, func(i, j int) bool { return row(refs[i]).Size > row(refs[j]).Size })
	default:
		return nil, userErr(400, "entries cannot be sorted by %q", q.Sort)
	}
	from := min(max(q.Offset, 0), len(refs))
	for _, r := range refs[from:min(from+q.Limit, len(refs))] {
		out := Row{SourceEntriesRow: *row(r), Source: sources[r.src].ID, SourceLabel: sources[r.src].Label}
		for k := int32(0); k < r.src; k++ {
			if lists[k] != nil && lists[k].byPath[lists[r.src].lower[r.row]] {
				out.OverriddenBy = sources[k].Label
				break
			}
		}
		p.Rows = append(p.Rows, out)
	}
	return p, nil
}

// Entry reads one entry: its row, its source, and its place in it.
func (s *Service) Entry(ctx context.Context, id int64) (db.Entry, db.Source, *source.Source, error) {
	e, err := s.Store.GetEntry(ctx, id)
	if e, err = Known(e, err, "entry", id); err != nil {
		return e, db.Source{}, nil, err
	}
	row, err := s.Store.GetSource(ctx, e.SourceID)
	if err != nil {
		return e, row, nil, err
	}
	src, err := s.mounted(ctx, row)
	if err != nil {
		return e, row, nil, userErr(409, "%v", err)
	}
	if int(e.Idx) >= len(src.Entries()) || src.Entries()[e.Idx].Path != e.Path {
		return e, row, nil, userErr(409, "%s has changed on disk since it was indexed; take it out and add it again", row.Label)
	}
	return e, row, src, nil
}

// Bytes reads an entry's bytes.
func (s *Service) Bytes(ctx context.Context, id int64) (db.Entry, db.Source, []byte, error) {
	e, row, src, err := s.Entry(ctx, id)
	if err != nil {
		return e, row, nil, err
	}
	b, err := src.Read(int(e.Idx))
	if err != nil {
		return e, row, nil, fmt.Errorf("%w", err)
	}
	return e, row, b, nil
}
