package layout

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"sort"
)

// Set is the layouts that are at hand, in the order in which they are tried.
type Set struct{ list []*Layout }

// LoadFS compiles every *.yaml file of a file system's root, in name order.
func LoadFS(fsys fs.FS) (*Set, error) {
	names, err := fs.Glob(fsys, "*.yaml")
	if err != nil {
		return nil, err
	}
	sort.Strings(names)
	s := &Set{}
	for _, n := range names {
		doc, err := fs.ReadFile(fsys, n)
		if err != nil {
			return nil, err
		}
		l, err := Compile(path.Base(n), doc)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", n, err)
		}
		s.list = append(s.list, l)
	}
	return s, nil
}

// With returns the set with the layouts of a folder in front of it, so that a
// porter's own layout wins over one that ships.
func (s *Set) With(dir string) (*Set, error) {
	more, err := LoadFS(os.DirFS(dir))
	if err != nil {
		return nil, fmt.Errorf("layouts in %s: %w", dir, err)
	}
	if len(more.list) == 0 {
		return nil, fmt.Errorf("layouts in %s: there is no *.yaml file", dir)
	}
	return &Set{list: append(more.list, s.list...)}, nil
}

// Ahead returns the set with some layouts in front of it.
func (s *Set) Ahead(list ...*Layout) *Set {
	if s == nil {
		return &Set{list: list}
	}
	return &Set{list: append(append([]*Layout{}, list...), s.list...)}
}

// All lists the layouts.
func (s *Set) All() []*Layout { return s.list }

// Find returns the first layout that recognises a file's first bytes, or nil.
func (s *Set) Find(head []byte) *Layout {
	if s == nil {
		return nil
	}
	for _, l := range s.list {
		if l.Recognises(head) {
			return l
		}
	}
	return nil
}

// HeadBytes is how many first bytes recognition looks at.
const HeadBytes = 4096 + 256
