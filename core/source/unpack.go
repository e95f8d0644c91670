package source

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/bmatcuk/doublestar/v4"
)

// Unpacked is what an unpacking did.
type Unpacked struct {
	Entries int64
	Bytes   int64
	Errors  []error // one for each entry that could not be written
}

// Unpack writes the entries that match pattern (all, if it is empty) below
// dir. Each file is written aside and renamed, so that none is ever half
// there; nothing is written outside dir; a file that is there with other
// content is an error of that entry, and the rest goes on. progress may be
// nil; it is called from several goroutines with running totals.
func Unpack(ctx context.Context, s *Source, dir, pattern string, progress func(entries, bytes int64)) (Unpacked, error) {
	if pattern != "" && !doublestar.ValidatePattern(pattern) {
		return Unpacked{}, fmt.Errorf("pattern %q is not a sound glob", pattern)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return Unpacked{}, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return Unpacked{}, err
	}
	defer root.Close()
	var (
		todo    = make(chan int, 64)
		wg      sync.WaitGroup
		mu      sync.Mutex
		out     Unpacked
		entries atomic.Int64
		total   atomic.Int64
		folders sync.Map
	)
	fail := func(i int, err error) {
		mu.Lock()
		defer mu.Unlock()
		var ee *EntryError
		if !errors.As(err, &ee) {
			err = &EntryError{s.Path, s.entries[i].Path, s.entries[i].Offset, err}
		}
		out.Errors = append(out.Errors, err)
	}
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := range todo {
				b, err := s.Read(i)
				if err == nil {
					err = place(root, &folders, s.entries[i].Path, b)
				}
				if err != nil {
					fail(i, err)
					continue
				}
				n, k := entries.Add(1), total.Add(int64(len(b)))
				if progress != nil {
					progress(n, k)
				}
			}
		})
	}
	for i := range s.entries {
		if ctx.Err() != nil {
			break
		}
		if pattern == "" || Match(pattern, s.entries[i].Path) {
			todo <- i
		}
	}
	close(todo)
	wg.Wait()
	out.Entries, out.Bytes = entries.Load(), total.Load()
	return out, ctx.Err()
}

// Match tells whether a path fits a glob. A glob without / is held against
// the last segment.
func Match(pattern, p string) bool {
	if !strings.Contains(pattern, "/") {
		p = path.Base(p)
	}
	ok, _ := doublestar.Match(pattern, p)
	return ok
}

func place(root *os.Root, folders *sync.Map, p string, b []byte) error {
	if dir := path.Dir(p); dir != "." {
		if _, done := folders.Load(dir); !done {
			if err := root.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			folders.Store(dir, true)
		}
	}
	if st, err := root.Lstat(p); err == nil {
		if st.Mode().IsRegular() && st.Size() == int64(len(b)) {
			if old, err := root.ReadFile(p); err == nil && bytes.Equal(old, b) {
				return nil
			}
		}
		return fmt.Errorf("%s is there already with other content; unpack to an empty folder", p)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	part := p + ".part"
	if len(path.Base(part)) > 250 {
		part = path.Join(path.Dir(p), digest8(p)+".part")
	}
	if err := root.WriteFile(part, b, 0o644); err != nil {
		return err
	}
	if err := root.Rename(part, p); err != nil {
		root.Remove(part)
		return err
	}
	return nil
}
