package main

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/scene"
)

// outputs plans the names of all files that a command writes, before it writes
// any: files of one name share it if their bytes are equal, else the later one
// gets another name, which what refers to it then says. What is there already
// is kept, unless it is to be replaced; what is read is never written over.
type outputs struct {
	replace bool

	mu      sync.Mutex
	planned map[string][sha256.Size]byte // by file name
	inputs  []fs.FileInfo
}

func newOutputs(replace bool) *outputs {
	return &outputs{replace: replace, planned: map[string][sha256.Size]byte{}}
}

// reads notes a file that must stay as it is.
func (o *outputs) reads(name string) {
	if st, err := os.Stat(name); err == nil {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.inputs = append(o.inputs, st)
	}
}

// claimed says what became of a wish for a name.
type claimed int

const (
	free    claimed = iota // to be written
	shared                 // the same bytes are there, or will be
	planned                // another file of this run has the name
	kept                   // something else is there, and stays
	read                   // it is what is being read
)

// look tells what a file of this name would meet. The lock must be held.
func (o *outputs) look(name string, sum [sha256.Size]byte, data []byte) claimed {
	if p, ok := o.planned[name]; ok {
		if p == sum {
			return shared
		}
		return planned
	}
	st, err := os.Stat(name)
	if err != nil {
		return free
	}
	if st.Mode().IsRegular() && st.Size() == int64(len(data)) {
		if b, err := os.ReadFile(name); err == nil && bytes.Equal(b, data) {
			return shared
		}
	}
	switch {
	case slices.ContainsFunc(o.inputs, func(in fs.FileInfo) bool { return os.SameFile(in, st) }):
		return read
	case o.replace && st.Mode().IsRegular():
		return free
	}
	return kept
}

func keptError(name string, c claimed) error {
	switch c {
	case planned:
		return fmt.Errorf("%s: another file of this run has this name, with other bytes", name)
	case read:
		return fmt.Errorf("%s: it is what is being read; name another file", name)
	}
	return fmt.Errorf("%s: it is there already and is kept; name another file, or say --replace", name)
}

// write writes one file.
func (o *outputs) write(name string, data []byte) error {
	if name == "-" {
		_, err := os.Stdout.Write(data)
		return err
	}
	name = filepath.Clean(name)
	sum := sha256.Sum256(data)
	o.mu.Lock()
	c := o.look(name, sum, data)
	if c == free {
		o.planned[name] = sum
	}
	o.mu.Unlock()
	switch c {
	case free:
		return writeWhole(name, data)
	case shared:
		return nil
	}
	return keptError(name, c)
}

// model writes a scene and the files that belong to it. It returns the names of
// those files. Where one of their names is taken, another is found, and the
// scene is written anew with that.
func (o *outputs) model(w *format.Writer, s *scene.Scene, out string) (more []string, notes []scene.Note, err error) {
	base := "model"
	if out != "-" {
		out = filepath.Clean(out)
		base = strings.TrimSuffix(filepath.Base(out), filepath.Ext(out))
	}
	called := base
	numbers := map[string]int{}
	for {
		files, notes, err := w.Write(s, called)
		if err != nil {
			return nil, nil, err
		}
		if out == "-" {
			if len(files) > 1 {
				return nil, nil, fmt.Errorf("%s is %d files, such as %s; name a file to write them beside it", w.Title, len(files), files[1].Name)
			}
			_, err := os.Stdout.Write(files[0].Data)
			return nil, notes, err
		}
		names := make([]string, len(files))
		sums := make([][sha256.Size]byte, len(files))
		found := make([]claimed, len(files))
		for i, f := range files {
			names[i], sums[i] = filepath.Join(filepath.Dir(out), filepath.FromSlash(f.Name)), sha256.Sum256(f.Data)
		}
		names[0] = out
		o.mu.Lock()
		clash := -1
		for i := range files {
			if found[i] = o.look(names[i], sums[i], files[i].Data); found[i] >= planned && clash < 0 {
				clash = i
			}
		}
		if clash < 0 {
			for i := range files {
				o.planned[names[i]] = sums[i]
			}
		}
		o.mu.Unlock()
		switch {
		case clash == 0:
			return nil, nil, keptError(out, found[0])
		case clash > 0:
			if s, called, err = renamed(s, called, base, files[clash].Name, numbers); err != nil {
				return nil, nil, err
			}
			continue
		}
		if called != base {
			notes = append(notes, scene.Note{Text: fmt.Sprintf("files beside it are called %q: their name was taken by others", called)})
		}
		for i := len(files) - 1; i >= 0; i-- { // the model last: what it names is there by then
			if found[i] == free {
				if err := writeWhole(names[i], files[i].Data); err != nil {
					return nil, nil, err
				}
			}
		}
		return names[1:], notes, nil
	}
}

// renamed gives what clashed another name: a picture its own, anything else
// that of the model.
func renamed(s *scene.Scene, called, base, name string, numbers map[string]int) (*scene.Scene, string, error) {
	if numbers[name]++; len(numbers) > 10_000 || numbers[name] > 10_000 {
		return nil, "", fmt.Errorf("%s: too many files of this name are there already", name)
	}
	for i, n := range flat.PictureNames(s) {
		if n != path.Base(name) {
			continue
		}
		out := *s
		out.Pictures = slices.Clone(s.Pictures)
		stem := strings.TrimSuffix(n, path.Ext(n))
		first, _, again := strings.Cut(stem, " of "+base)
		if !again {
			first = stem
		}
		k := numbers["picture "+first]
		numbers["picture "+first]++
		if k == 0 {
			out.Pictures[i].Name = first + " of " + base + path.Ext(n)
		} else {
			out.Pictures[i].Name = fmt.Sprintf("%s of %s %d%s", first, base, k+1, path.Ext(n))
		}
		return &out, called, nil
	}
	numbers["model"]++
	return s, fmt.Sprintf("%s %d", base, numbers["model"]+1), nil
}

// writeWhole writes a file so that it appears whole or not at all. Folders that
// it lies in are made.
func writeWhole(name string, data []byte) error {
	dir := filepath.Dir(name)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	prefix := "." + filepath.Base(name)
	f, err := os.CreateTemp(dir, prefix[:min(len(prefix), 200)]+".*.part")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if _, err = f.Write(data); err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Chmod(f.Name(), 0o644)
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}

// mostStdin is how much is read from the standard input.
const mostStdin = 1 << 30

var errNoInput = errors.New("the standard input is empty")

func readStdin() ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(os.Stdin, mostStdin+1))
	switch {
	case err != nil:
		return nil, err
	case len(b) == 0:
		return nil, errNoInput
	case len(b) > mostStdin:
		return nil, fmt.Errorf("the standard input has more than %d bytes; name a file", mostStdin)
	}
	return b, nil
}
