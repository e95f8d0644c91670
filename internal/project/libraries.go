package project

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"excavate/core/find"
	"excavate/core/layout"
	"excavate/core/source"
)

// Libraries are the layouts and formats that projects read with.
type Libraries struct {
	*common
	mu   sync.Mutex
	libs map[int64]library
}

// library is what a project decodes with: what ships, and its own layouts in
// front of it.
type library struct {
	state string
	lib   *find.Library
}

// Of is what a project decodes with.
func (s *Libraries) Of(ctx context.Context, project int64) (*find.Library, error) {
	rows, err := s.store.ListLayouts(ctx, project)
	if err != nil {
		return nil, err
	}
	var state strings.Builder
	for _, r := range rows {
		fmt.Fprintf(&state, "%d.%d ", r.ID, r.Good)
	}
	s.mu.Lock()
	have, ok := s.libs[project]
	s.mu.Unlock()
	if ok && have.state == state.String() {
		return have.lib, nil
	}
	lib := s.lib
	if len(rows) > 0 {
		good, err := s.store.GoodLayouts(ctx, project)
		if err != nil {
			return nil, err
		}
		var own []*layout.Layout
		for _, g := range good {
			l, err := layout.Compile(g.Name, g.Doc)
			if err == nil {
				own = append(own, l)
			}
		}
		lib = &find.Library{Layouts: s.lib.Layouts.Ahead(own...), Formats: s.lib.Formats}
	}
	s.mu.Lock()
	s.libs[project] = library{state.String(), lib}
	s.mu.Unlock()
	return lib, nil
}

func (s *Libraries) isLayout(name string) bool {
	for _, l := range s.lib.Layouts.All() {
		if l.Name == name {
			return true
		}
	}
	return false
}

// sourceOptions is how what lies in a project's sources is opened: with its
// own layouts too.
func (s *Libraries) sourceOptions(ctx context.Context, project int64) (source.Options, error) {
	lib, err := s.Of(ctx, project)
	if err != nil {
		return source.Options{}, err
	}
	return source.Options{Layouts: lib.Layouts, Spool: s.spool()}, nil
}
