package project

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"

	"excavate/core/catalog"
	"excavate/core/find"
	"excavate/core/link"
	"excavate/core/naming"
	"excavate/core/source"
	"excavate/internal/store"
	"excavate/internal/store/db"
)

// shelf holds what the projects in use are searched by: a list of entries a
// source, a catalog and the links a project. All are made from the database
// once they are asked for and again when it has moved on.
type shelf struct {
	st    *store.Store
	mu    sync.Mutex
	lists map[int64]*held[*catalog.List]
	asks  map[int64]*held[[]link.Ask]
	cats  map[int64]*held[*catalog.Catalog]
	links map[int64]*held[*link.Graph]
	known map[int64]known
	// proposed holds the name rules that the last catalog suggests.
	proposed map[*catalog.Catalog][]naming.Proposal
}

// known is what was made of a project's version; nothing is asked again
// before the project has another one.
type known struct {
	version int64
	graph   *link.Graph
	cat     *catalog.Catalog
}

// held is a value that is made once for a state.
type held[T any] struct {
	state string
	once  sync.Once
	v     T
	err   error
}

func newShelf(st *store.Store) *shelf {
	return &shelf{st: st, lists: map[int64]*held[*catalog.List]{}, asks: map[int64]*held[[]link.Ask]{}, cats: map[int64]*held[*catalog.Catalog]{}, links: map[int64]*held[*link.Graph]{}, known: map[int64]known{}}
}

// hold returns the value of a state. A caller that goes away does not leave a
// broken value to the others: make gets a context that does not end.
func hold[T any](ctx context.Context, s *shelf, m map[int64]*held[T], id int64, state string, make func(context.Context) (T, error)) (T, error) {
	s.mu.Lock()
	h := m[id]
	if h == nil || h.state != state {
		h = &held[T]{state: state}
		m[id] = h
	}
	s.mu.Unlock()
	h.once.Do(func() { h.v, h.err = make(context.WithoutCancel(ctx)) })
	if h.err != nil {
		s.mu.Lock()
		if m[id] == h {
			delete(m, id)
		}
		s.mu.Unlock()
	}
	return h.v, h.err
}

// put keeps a list that has just been stored.
func (s *shelf) put(row db.Source, l *catalog.List) {
	h := &held[*catalog.List]{state: listState(row), v: l}
	h.once.Do(func() {})
	s.mu.Lock()
	s.lists[row.ID] = h
	s.mu.Unlock()
}

// forget lets go of sources that are no longer there.
func (s *shelf) forget(project int64, sources []db.Source) {
	there := map[int64]bool{}
	for _, r := range sources {
		there[r.ID] = true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, src := range catalogOf(s.cats[project]).Sources() {
		if !there[src.ID] {
			delete(s.lists, src.ID)
			delete(s.asks, src.ID)
		}
	}
}

func catalogOf(h *held[*catalog.Catalog]) *catalog.Catalog {
	if h == nil || h.v == nil {
		return catalog.New(nil)
	}
	return h.v
}

func listState(r db.Source) string { return fmt.Sprint(r.Generation, " ", r.Rev) }

func (s *shelf) list(ctx context.Context, r db.Source) (*catalog.List, error) {
	return hold(ctx, s, s.lists, r.ID, listState(r), func(ctx context.Context) (*catalog.List, error) {
		b := catalog.NewBuilder(int(r.EntryCount))
		err := s.st.ListEntries(ctx, r.ID, func(e *db.Entry) { b.Add(catalogEntry(e)) })
		return b.List(), err
	})
}

func catalogEntry(e *db.Entry) catalog.Entry {
	return catalog.Entry{ID: store.EntryID(e.SourceID, e.Slot), Path: e.Path, Size: e.Size, Packed: e.Packed, Kind: e.Kind, Format: e.Format, Error: e.Error}
}

// Catalog is all that a project's sources hold.
func (s *Sources) Catalog(ctx context.Context, project int64) (*catalog.Catalog, error) {
	_, c, err := s.Links(ctx, project)
	return c, err
}

func (s *Sources) catalog(ctx context.Context, project int64) (*catalog.Catalog, string, error) {
	rows, err := s.store.ListSources(ctx, project)
	if err != nil {
		return nil, "", err
	}
	state := ""
	for _, r := range rows {
		state += fmt.Sprint(r.ID, " ", r.Generation, " ", r.Rev, " ", r.Label, "\n")
	}
	c, err := hold(ctx, s.shelf, s.shelf.cats, project, state, func(ctx context.Context) (*catalog.Catalog, error) {
		s.shelf.forget(project, rows)
		var list []catalog.Source
		for _, r := range rows {
			l, err := s.shelf.list(ctx, r)
			if err != nil {
				return nil, err
			}
			list = append(list, catalog.Source{ID: r.ID, Label: r.Label, List: l})
		}
		return catalog.New(list), nil
	})
	return c, state, err
}

// Rules are a project's name rules.
func (s *Sources) Rules(ctx context.Context, project int64) (naming.Rules, error) {
	rules := naming.Rules{}
	b, err := s.store.GetRules(ctx, project)
	if errors.Is(err, errNoRows) {
		return rules, nil
	}
	if err != nil {
		return nil, err
	}
	return rules, json.Unmarshal(b, &rules)
}

// Links are what the entries of a project need, both ways.
func (s *Sources) Links(ctx context.Context, project int64) (*link.Graph, *catalog.Catalog, error) {
	p, err := s.store.GetProject(ctx, project)
	if p, err = Known(p, err, "project", project); err != nil {
		return nil, nil, err
	}
	s.shelf.mu.Lock()
	k := s.shelf.known[project]
	s.shelf.mu.Unlock()
	if k.cat != nil && k.version == p.Version {
		return k.graph, k.cat, nil
	}
	g, c, err := s.links(ctx, project)
	if err == nil {
		s.shelf.mu.Lock()
		s.shelf.known[project] = known{p.Version, g, c}
		s.shelf.mu.Unlock()
	}
	return g, c, err
}

func (s *Sources) links(ctx context.Context, project int64) (*link.Graph, *catalog.Catalog, error) {
	c, state, err := s.catalog(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	rules, err := s.Rules(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	rows, err := s.store.ListPins(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	pins := make([]link.Pin, len(rows))
	for i, r := range rows {
		pins[i] = link.Pin{Ref: r.Ref, SourceLabel: r.SourceLabel, Path: r.EntryPath}
	}
	state += fmt.Sprintf("%v %v", rules, pins)
	g, err := hold(ctx, s.shelf, s.shelf.links, project, state, func(ctx context.Context) (*link.Graph, error) {
		var asks []link.Ask
		sources, err := s.store.ListSources(ctx, project)
		if err != nil {
			return nil, err
		}
		for _, r := range sources {
			list, err := hold(ctx, s.shelf, s.shelf.asks, r.ID, listState(r), func(ctx context.Context) ([]link.Ask, error) {
				rows, err := s.store.SourceRefs(ctx, r.ID)
				out := make([]link.Ask, len(rows))
				for i, x := range rows {
					out[i] = link.Ask{Entry: store.EntryID(r.ID, x.Slot), Ref: x.Ref, Role: x.Role}
				}
				return out, err
			})
			if err != nil {
				return nil, err
			}
			asks = append(asks, list...)
		}
		return link.NewGraph(link.NewIndex(c, rules, pins), asks, find.Takes), nil
	})
	return g, c, err
}

// finder resolves names for a project: pinned ones first, then through the
// stack, then by the name rules.
type finder struct {
	graph *link.Graph
	cat   *catalog.Catalog
	stack source.Stack
	byID  map[int64]*source.Source
}

func (s *Sources) finder(ctx context.Context, project int64) (*finder, error) {
	stack, err := s.Stack(ctx, project)
	if err != nil {
		return nil, err
	}
	g, c, err := s.Links(ctx, project)
	if err != nil {
		return nil, err
	}
	f := &finder{graph: g, cat: c, stack: stack, byID: map[int64]*source.Source{}}
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, o := range s.open {
		f.byID[id] = o.src
	}
	return f, nil
}

func (f *finder) Resolve(ref string, accept func(*source.Source, int) bool) (source.Hit, bool, []string) {
	var hit source.Hit
	_, how := f.graph.Resolve(ref, func(e catalog.Entry) bool {
		id, _ := store.Entry(e.ID)
		s := f.byID[id]
		if s == nil {
			return false
		}
		i := s.Lookup(e.Path)
		if i < 0 || accept != nil && !accept(s, i) {
			return false
		}
		hit = source.Hit{Source: s, Entry: i}
		return true
	})
	if how == link.Pinned && hit.Source == nil { // a pin is not asked whether it is accepted
		return f.pinned(ref, accept)
	}
	if hit.Source == nil {
		return hit, false, f.graph.Looked(ref)
	}
	hit.How = how.String()
	return hit, true, nil
}

// pinned is what a name is pinned to.
func (f *finder) pinned(ref string, accept func(*source.Source, int) bool) (source.Hit, bool, []string) {
	row, how := f.graph.Resolve(ref, nil)
	e, src := f.cat.Entry(row)
	if s := f.byID[src.ID]; s != nil {
		if i := s.Lookup(e.Path); i >= 0 && (accept == nil || accept(s, i)) {
			return source.Hit{Source: s, Entry: i, How: how.String()}, true, nil
		}
	}
	return source.Hit{}, false, f.graph.Looked(ref)
}

// Entry reads one entry: its row, its source, and its place in it.
func (s *Sources) Entry(ctx context.Context, id int64) (db.Entry, db.Source, *source.Source, int, error) {
	srcID, slot := store.Entry(id)
	e, err := s.store.GetEntry(ctx, db.GetEntryParams{SourceID: srcID, Slot: slot})
	if e, err = Known(e, err, "entry", id); err != nil {
		return e, db.Source{}, nil, 0, err
	}
	row, err := s.store.GetSource(ctx, e.SourceID)
	if err != nil {
		return e, row, nil, 0, err
	}
	src, err := s.mounted(ctx, row)
	if err != nil {
		return e, row, nil, 0, errorf(Conflict, "%v", err)
	}
	i := int(e.Idx)
	if i >= len(src.Entries()) || src.Entries()[i].Path != e.Path {
		if i = src.Lookup(e.Path); i < 0 {
			return e, row, nil, 0, errorf(Conflict,
				"%s has changed on disk since it was indexed and no longer holds %s; index it again",
				row.Label, e.Path)
		}
	}
	return e, row, src, i, nil
}

// Random gives random access to an entry. It must be closed.
func (s *Sources) Random(ctx context.Context, id int64) (db.Entry, source.Random, error) {
	e, row, src, i, err := s.Entry(ctx, id)
	if err != nil {
		return e, source.Random{}, err
	}
	opt, err := s.libraries.sourceOptions(ctx, row.ProjectID)
	if err != nil {
		return e, source.Random{}, err
	}
	r, err := src.Random(ctx, i, opt)
	return e, r, Unreadable(err)
}

// MostPreview is how much of an entry is held in memory for a preview.
const MostPreview = 256 << 20

// Bytes reads an entry's bytes.
func (s *Sources) Bytes(ctx context.Context, id int64) (db.Entry, db.Source, []byte, error) {
	e, row, src, i, err := s.Entry(ctx, id)
	if err != nil {
		return e, row, nil, err
	}
	if e.Size > MostPreview {
		return e, row, nil, errorf(TooLarge, "%s has %d bytes; it is not shown as a whole, but it can be extracted",
			e.Path, e.Size)
	}
	b, err := src.Read(i)
	return e, row, b, Unreadable(err)
}

// Picture decodes an entry that is a picture; its palette may lie in another
// file.
func (s *Sources) Picture(ctx context.Context, id int64) (find.Decoded, error) {
	e, row, data, err := s.Bytes(ctx, id)
	if err != nil {
		return find.Decoded{}, err
	}
	lib, err := s.libraries.Of(ctx, row.ProjectID)
	if err != nil {
		return find.Decoded{}, err
	}
	where, err := s.finder(ctx, row.ProjectID)
	if err != nil {
		return find.Decoded{}, err
	}
	out, err := lib.PictureOf(ctx, find.Input{Name: e.Path, Data: data, From: row.Label, Finder: where})
	return out, Unreadable(err)
}
