package find

import (
	"path"
	"path/filepath"
	"strings"
	"sync"

	"excavate/core/source"
)

// Beside finds what a file on disk names in the folder that it lies in and
// below that: a folder is looked into when a name leads there, so that a file
// in a large tree costs no more than what it asks for.
type Beside struct {
	root string
	// Anywhere lets names lead out of the folder: those that the user wrote, not
	// those in a file that is read.
	Anywhere bool

	mu      sync.Mutex
	folders map[string]*source.Source // by their path below root; nil where there is none
}

// NewBeside begins in the folder of a file.
func NewBeside(file string) *Beside {
	return &Beside{root: filepath.Dir(file), folders: map[string]*source.Source{}}
}

// Close lets go of the folders.
func (b *Beside) Close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, s := range b.folders {
		if s != nil {
			s.Close()
		}
	}
	clear(b.folders)
}

// Folder is the folder itself as a source, or nil if it cannot be opened.
func (b *Beside) Folder() *source.Source { return b.folder(".") }

func (b *Beside) folder(rel string) *source.Source {
	b.mu.Lock()
	defer b.mu.Unlock()
	s, ok := b.folders[rel]
	if !ok {
		var err error
		if s, err = source.OpenShallow(filepath.Join(b.root, filepath.FromSlash(rel))); err != nil {
			s = nil
		} else if rel != "." {
			s.Label = path.Join(filepath.Base(b.root), rel)
		}
		b.folders[rel] = s
	}
	return s
}

// Resolve looks in the folder that the name leads to, then in its own.
func (b *Beside) Resolve(ref string, accept func(*source.Source, int) bool) (source.Hit, bool, []string) {
	clean := path.Clean(strings.ReplaceAll(ref, "\\", "/"))
	if dir := path.Dir(clean); dir != "." && !path.IsAbs(clean) && (b.Anywhere || filepath.IsLocal(filepath.FromSlash(clean))) {
		if s := b.folder(dir); s != nil {
			hit, ok, _ := source.Stack{s}.Resolve(path.Base(clean), accept)
			if ok {
				return hit, true, nil
			}
		}
	}
	if s := b.folder("."); s != nil {
		hit, ok, looked := source.Stack{s}.Resolve(clean, accept)
		return hit, ok, looked
	}
	return source.Hit{}, false, nil
}

// First asks several finders in their order.
type First []Finder

// Resolve takes the surest hit: the same path in any of them, then what the
// first one finds.
func (f First) Resolve(ref string, accept func(*source.Source, int) bool) (hit source.Hit, ok bool, looked []string) {
	for _, x := range f {
		h, found, l := x.Resolve(ref, accept)
		if !found {
			looked = append(looked, l...)
			continue
		}
		if h.How == source.SamePath || h.How == source.Pinned {
			return h, true, nil
		}
		if !ok {
			hit, ok = h, true
		}
	}
	return hit, ok, looked
}
