package layout

import (
	"errors"
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
		l, err := load(fsys, n)
		if err != nil {
			return nil, err
		}
		s.list = append(s.list, l)
	}
	return s, nil
}

// With returns the set with the layouts of a folder in front of it, so that a
// porter's own layout wins over one that ships. Layouts that do not compile are
// left out, each with its error: they must not stop work on all else.
func (s *Set) With(dir string) (_ *Set, bad []error, err error) {
	fsys := os.DirFS(dir)
	names, err := fs.Glob(fsys, "*.yaml")
	if err == nil && len(names) == 0 {
		if _, err = fs.Stat(fsys, "."); err == nil {
			err = errors.New("there is no *.yaml file")
		}
	}
	if err != nil {
		return nil, nil, fmt.Errorf("layouts in %s: %w", dir, err)
	}
	sort.Strings(names)
	out := &Set{}
	for _, n := range names {
		l, err := load(fsys, n)
		if err != nil {
			bad = append(bad, fmt.Errorf("layouts in %s: %w; it is left out", dir, err))
			continue
		}
		out.list = append(out.list, l)
	}
	out.list = append(out.list, s.list...)
	return out, bad, nil
}

func load(fsys fs.FS, name string) (*Layout, error) {
	doc, err := fs.ReadFile(fsys, name)
	if err != nil {
		return nil, err
	}
	l, err := Compile(path.Base(name), doc)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return l, nil
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

// Recognised lists the layouts that fit a file's first bytes, in the order in
// which they are tried: those that know it for sure, and apart from them those
// whose marks other things may have as well, which come after open formats.
func (s *Set) Recognised(head []byte) (sure, loose []*Layout) {
	if s == nil {
		return nil, nil
	}
	for _, l := range s.list {
		switch {
		case !l.Recognises(head):
		case l.Sure():
			sure = append(sure, l)
		default:
			loose = append(loose, l)
		}
	}
	return sure, loose
}

// HeadBytes is how many first bytes recognition looks at.
const HeadBytes = 4096 + 256
