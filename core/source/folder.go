package source

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

type folder struct {
	root  *os.Root
	paths []string
	sizes []int64
}

// OpenShallow mounts a folder without the folders within it: what lies beside
// a file.
func OpenShallow(dir string) (*Source, error) {
	s := &Source{Label: filepath.Base(dir), Path: dir}
	return s, s.openFolder(context.Background(), 1)
}

func (s *Source) openFolder(ctx context.Context, depth int) error {
	root, err := os.OpenRoot(s.Path)
	if err != nil {
		return fmt.Errorf("open source: %w", err)
	}
	s.Format = "folder"
	if s.Stamp, err = StampOf(s.Path); err != nil {
		root.Close()
		return fmt.Errorf("open source: %w", err)
	}
	b := &folder{root: root}
	s.back = b
	s.taken = newNames(0)
	defer func() { s.taken = nil }()
	err = fs.WalkDir(root.FS(), ".", func(p string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			s.problem(p, -1, "%v", err)
			return nil
		}
		if d.IsDir() && p != "." && strings.Count(p, "/")+1 >= depth {
			return fs.SkipDir
		}
		if !d.Type().IsRegular() {
			switch {
			case d.Type()&fs.ModeSymlink != 0:
				s.problem(p, -1, "it is a link and was not followed")
			case !d.IsDir():
				s.problem(p, -1, "it is neither a file nor a folder and was left out")
			}
			return nil
		}
		st, err := d.Info()
		if err != nil {
			return nil // gone since
		}
		b.paths = append(b.paths, p)
		b.sizes = append(b.sizes, st.Size())
		return s.add(Entry{Size: st.Size(), Packed: st.Size(), Codec: "stored", Offset: -1, Block: -1}, p)
	})
	if err != nil {
		root.Close()
		return fmt.Errorf("open source %s: %w", s.Path, err)
	}
	return nil
}

func (b *folder) Close() error { return b.root.Close() }

func (b *folder) file(i int) (*os.File, error) {
	f, err := b.root.Open(b.paths[i])
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	switch {
	case err != nil:
	case !st.Mode().IsRegular():
		err = fmt.Errorf("it is no file any more")
	case st.Size() != b.sizes[i]:
		err = &ChangedError{b.paths[i], fmt.Sprintf("has %d bytes, and had %d", st.Size(), b.sizes[i])}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (b *folder) open(i int) (io.ReadCloser, error) {
	f, err := b.file(i)
	if err != nil {
		return nil, err
	}
	return &checked{r: f, size: b.sizes[i], done: func() { f.Close() }}, nil
}

func (b *folder) section(i int) (io.ReaderAt, bool, error) {
	f, err := b.file(i)
	return f, err == nil, err
}

// single is a file that is no archive, as a source of one entry.
type single struct{ f *file }

func (b *single) Close() error { return b.f.Close() }
func (b *single) section(int) (io.ReaderAt, bool, error) {
	return struct{ io.ReaderAt }{b.f}, true, nil
}
func (b *single) open(int) (io.ReadCloser, error) {
	return &checked{r: b.f.section(0, b.f.size), size: b.f.size}, nil
}
