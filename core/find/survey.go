package find

import (
	"context"
	"runtime"
	"sync/atomic"

	"excavate/core/catalog"
	"excavate/core/link"
	"excavate/core/naming"
	"excavate/core/parallel"
	"excavate/core/source"
)

// surveyBits is how many low bits of a survey's ids are an entry's place in
// its source; the bits above are the source's place.
const surveyBits = 32

// Survey looks at every entry of some sources: what it is, and what the
// models ask for.
type Survey struct {
	*link.Graph
	Catalog *catalog.Catalog
	Sources []*source.Source
}

// Place takes an id of a survey apart.
func (s *Survey) Place(id int64) (src, entry int) {
	return int(id >> surveyBits), int(id & (1<<surveyBits - 1))
}

// ID is the id of a source's entry.
func (s *Survey) ID(src, entry int) int64 { return int64(src)<<surveyBits | int64(entry) }

// Row is the catalog's row of an id.
func (s *Survey) Row(id int64) int32 {
	src, i := s.Place(id)
	row := i
	for _, x := range s.Catalog.Sources()[:src] {
		row += x.List.Len()
	}
	return int32(row)
}

// Takes tells whether an entry can be what is asked for.
func Takes(a link.Ask, e catalog.Entry) bool {
	return a.Role == RoleFile || e.Kind == string(Picture)
}

// Survey reads the first bytes of every entry, and the models that links are
// asked for. asks tells which entries those are; nil is none.
func (l *Library) Survey(ctx context.Context, stack source.Stack, rules naming.Rules, asks func(path string) bool) (*Survey, error) {
	out := &Survey{Sources: stack}
	var lists []catalog.Source
	var all []link.Ask
	for si, s := range stack {
		entries := s.Entries()
		told, err := l.Told(ctx, s)
		if err != nil {
			return nil, err
		}
		b := catalog.NewBuilder(len(entries))
		for i, e := range entries {
			x := catalog.Entry{ID: out.ID(si, i), Path: e.Path, Size: e.Size, Packed: e.Packed,
				Kind: string(told[i].Kind), Format: told[i].Format}
			if told[i].Err != nil {
				x.Error = told[i].Err.Error()
			}
			b.Add(x)
		}
		lists = append(lists, catalog.Source{ID: int64(si + 1), Label: s.Label, List: b.List()})
		if asks == nil {
			continue
		}
		found := make([][]link.Ask, len(entries))
		err = each(ctx, len(entries), func(i int) {
			if told[i].Kind != Model || !asks(entries[i].Path) {
				return
			}
			data, err := s.Read(i)
			if err != nil {
				return
			}
			found[i], _ = l.Asks(ctx, Input{Name: entries[i].Path, Data: data, From: s.Label, Stack: stack})
		})
		if err != nil {
			return nil, err
		}
		for i, list := range found {
			for _, a := range list {
				a.Entry = out.ID(si, i)
				all = append(all, a)
			}
		}
	}
	out.Catalog = catalog.New(lists)
	out.Graph = link.NewGraph(link.NewIndex(out.Catalog, rules, nil), all, Takes)
	return out, nil
}

// Told is what an entry is by its first bytes, or why they could not be read.
type Told struct {
	Kind   Kind
	Format string
	Err    error
}

// Told looks at the first bytes of every entry of a source.
func (l *Library) Told(ctx context.Context, s *source.Source) ([]Told, error) {
	defer s.ReadAhead()()
	entries := s.Entries()
	out := make([]Told, len(entries))
	err := each(ctx, len(entries), func(i int) {
		out[i].Kind = Data
		head, err := s.Head(i, HeadBytes)
		if err != nil {
			out[i].Err = err
			return
		}
		out[i].Kind, out[i].Format = l.KindOf(entries[i].Path, head)
	})
	return out, err
}

// each calls f for 0 to n-1 on every core, in runs of neighbours.
func each(ctx context.Context, n int, f func(i int)) error {
	const run = 64
	var next atomic.Int64
	var wg parallel.Group
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for ctx.Err() == nil {
				from := int(next.Add(run)) - run
				if from >= n {
					return
				}
				for i := from; i < min(from+run, n) && ctx.Err() == nil; i++ {
					f(i)
				}
			}
		})
	}
	wg.Wait()
	return ctx.Err()
}
