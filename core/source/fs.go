package source

import (
	"io"
	"io/fs"
	"path"
	"sort"
	"sync"
	"time"
)

// A Source is an fs.FS: entries are files, the folders are made from their
// paths. An entry whose path is a folder of others is reachable by Read only.

var _ fs.FS = (*Source)(nil)

var dirsMu sync.Mutex

func (s *Source) folders() map[string][]fs.DirEntry {
	s.index()
	dirsMu.Lock()
	defer dirsMu.Unlock()
	if s.dirs != nil {
		return s.dirs
	}
	d := map[string][]fs.DirEntry{".": nil}
	for i := range s.entries {
		p := s.entries[i].Path
		for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
			if _, ok := d[dir]; ok {
				break
			}
			d[dir] = nil
		}
	}
	for dir := range d {
		if dir != "." {
			d[path.Dir(dir)] = append(d[path.Dir(dir)], info{name: path.Base(dir), dir: true})
		}
	}
	// Files whose path is also a folder stay hidden behind it.
	for i := range s.entries {
		p := s.entries[i].Path
		if _, isDir := d[p]; !isDir {
			d[path.Dir(p)] = append(d[path.Dir(p)], info{name: path.Base(p), size: s.entries[i].Size})
		}
	}
	s.dirs = d
	return d
}

// Open opens an entry or a folder.
func (s *Source) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	if list, ok := s.folders()[name]; ok {
		sorted := append([]fs.DirEntry(nil), list...)
		sort.Slice(sorted, func(i, j int) bool { return sorted[i].Name() < sorted[j].Name() })
		return &dirFile{info: info{name: path.Base(name), dir: true}, list: sorted}, nil
	}
	i := s.Lookup(name)
	if i < 0 {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	r, err := s.Stream(i)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return &entryFile{ReadCloser: r, info: info{name: path.Base(name), size: s.entries[i].Size}}, nil
}

type info struct {
	name string
	size int64
	dir  bool
}

func (i info) Name() string               { return i.name }
func (i info) Size() int64                { return i.size }
func (i info) ModTime() time.Time         { return time.Time{} }
func (i info) IsDir() bool                { return i.dir }
func (i info) Sys() any                   { return nil }
func (i info) Info() (fs.FileInfo, error) { return i, nil }
func (i info) Type() fs.FileMode          { return i.Mode().Type() }
func (i info) String() string             { return fs.FormatFileInfo(i) }
func (i info) Mode() fs.FileMode {
	if i.dir {
		return fs.ModeDir | 0o555
	}
	return 0o444
}

type entryFile struct {
	io.ReadCloser
	info info
}

func (f *entryFile) Stat() (fs.FileInfo, error) { return f.info, nil }

type dirFile struct {
	info info
	list []fs.DirEntry
	at   int
}

func (f *dirFile) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *dirFile) Close() error               { return nil }
func (f *dirFile) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: f.info.name, Err: fs.ErrInvalid}
}
func (f *dirFile) ReadDir(n int) ([]fs.DirEntry, error) {
	rest := f.list[f.at:]
	if n <= 0 {
		f.at = len(f.list)
		return rest, nil
	}
	if len(rest) == 0 {
		return nil, io.EOF
	}
	rest = rest[:min(n, len(rest))]
	f.at += len(rest)
	return rest, nil
}
