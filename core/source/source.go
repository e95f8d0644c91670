// Package source mounts whatever holds a game's files: a folder, a ZIP, a tar
// or 7z, a compressed file, an archive that a layout describes, an archive
// within an archive, or a single file. Each becomes a Source: a read-only
// io/fs.FS with what is known of its entries. A Stack puts several in search
// order and resolves names through them.
//
// What a file is, is told by its bytes, never by its ending. Sources are read
// where they lie and never changed. Entry paths are cleaned so that none
// leaves the folder it is unpacked to; what had to be changed is a Problem of
// the source.
package source

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"excavate/core/distinct"
	"excavate/core/layout"
	"excavate/core/limit"
)

// Entry is one file of a source.
type Entry struct {
	Path   string // cleaned, with / between segments
	Size   int64  // bytes unpacked
	Packed int64  // bytes as stored; -1 where the archive does not say it by entry
	Codec  string // packing method: stored, zlib, lz4, deflate, ...
	Offset int64  // of the stored bytes in the source file; -1 where it is not known before the entry is read
	Block  int32  // entries of one block are unpacked together, in order; -1 if this one stands alone
	Err    error  // why it cannot be read, if its directory record already says so
}

// Problem is something that had to be changed or left out when a source was
// indexed, with the place in the source file.
type Problem struct {
	Entry   string // the name as the source has it, cut to a readable length; empty for the whole source
	Offset  int64  // -1 if there is no place to name
	Message string
}

func (p Problem) Error() string {
	what := p.Message
	if p.Entry != "" {
		what = fmt.Sprintf("entry %q: %s", p.Entry, p.Message)
	}
	if p.Offset >= 0 {
		return fmt.Sprintf("offset %d: %s", p.Offset, what)
	}
	return what
}

// Source is one mounted source. It is safe for concurrent use.
type Source struct {
	digesting sync.Mutex
	digest    string // once it was asked for

	Label    string // file or folder name
	Path     string // where it lies on this machine; of a nested source, the outermost file
	Format   string // folder, zip, tar, tar + gzip, 7z, gzip, ..., file, or the layout's name
	IsLayout bool
	Size     int64  // bytes of the source file; 0 for a folder
	Stamp    string // changes when the file or folder on disk does
	Depth    int    // archives around this one
	Problems []Problem
	Remarks  []string // what was found out about the source, such as the code page of its names

	inside  string // of a nested source: the path of entries that leads to it
	parent  *Source
	entries []Entry
	back    backend
	ownDirs []string // that the archive has an entry for
	taken   *names   // while indexing
	numbers distinct.Numbers
	named   int64  // bytes of all paths so far
	ahead   *ahead // nil for a folder

	indexOnce sync.Once
	byPath    map[string]int32
	byStem    map[string][]int32 // lower case, without ending
	byName    map[string][]int32 // lower-case base name without ending
	dirs      map[string][]fs.DirEntry
}

// backend reads the entries of one kind of source.
type backend interface {
	// open streams an entry's unpacked bytes. The size, and the checksum where
	// there is one, are checked at the end of the stream.
	open(i int) (io.ReadCloser, error)
	io.Closer
}

// flat is a backend some of whose entries lie in one piece, unpacked, in a
// file.
type flat interface {
	// section returns the bytes of such an entry; ok is false for the others.
	section(i int) (r io.ReaderAt, ok bool, err error)
}

// located is a backend that learns an entry's place only when it is asked.
type located interface{ offset(i int) int64 }

// Options says how to open a source.
type Options struct {
	Layouts *layout.Set
	// Spool is a folder for unpacked copies of compressed files, which cannot
	// be read at random otherwise. They are kept there, by the digest of what
	// they were made of. Empty: a temporary file that goes when the source is
	// closed.
	Spool string
}

// Open mounts the file or folder at p.
func Open(ctx context.Context, p string, o Options) (*Source, error) {
	st, err := os.Stat(p)
	if err != nil {
		return nil, fmt.Errorf("open source: %w", err)
	}
	s := &Source{Label: filepath.Base(p), Path: p}
	if st.IsDir() {
		return s, s.openFolder(ctx, limit.FolderDepth)
	}
	if !st.Mode().IsRegular() {
		return nil, fmt.Errorf("open source %s: it is neither a file nor a folder", p)
	}
	f, err := os.Open(p)
	if err != nil {
		return nil, fmt.Errorf("open source: %w", err)
	}
	s.Stamp = fileStamp(st)
	raw := &file{ReaderAt: f, size: st.Size(), name: s.Label, close: f.Close, beside: besideOnDisk(filepath.Dir(p))}
	if err := s.openFile(ctx, raw, o); err != nil {
		raw.Close()
		return nil, fmt.Errorf("open source %s: %w", p, err)
	}
	return s, nil
}

// Mount mounts entry i, an archive within this one, in place. The parent must
// stay open for as long as the result is used.
func (s *Source) Mount(ctx context.Context, i int, o Options) (*Source, error) {
	e := &s.entries[i]
	in := &Source{Label: path.Base(e.Path), Path: s.Path, Stamp: s.Stamp, Depth: s.Depth + 1, parent: s, inside: path.Join(s.inside, e.Path)}
	fail := func(err error) error { return &EntryError{s.Place(), e.Path, e.Offset, err} }
	if in.Depth > limit.MountDepth {
		return nil, fail(fmt.Errorf("it is an archive within %d others; at most %d are opened", s.Depth, limit.MountDepth))
	}
	if e.Err != nil {
		return nil, fail(e.Err)
	}
	raw, err := s.whole(ctx, i, o)
	if err != nil {
		return nil, fail(err)
	}
	raw.beside = func(name string) (*file, error) {
		k := s.Lookup(path.Join(path.Dir(e.Path), name))
		if k < 0 {
			return nil, fmt.Errorf("%q is not beside it in %s", name, s.Label)
		}
		return s.whole(ctx, k, o)
	}
	if err := in.openFile(ctx, raw, o); err != nil {
		raw.Close()
		return nil, fail(err)
	}
	if in.Format == "file" {
		in.Close()
		return nil, fail(errors.New("it is not an archive that can be mounted"))
	}
	return in, nil
}

// whole gives random access to an entry's bytes: where they lie, or in an
// unpacked copy.
func (s *Source) whole(ctx context.Context, i int, o Options) (*file, error) {
	e := &s.entries[i]
	name := path.Base(e.Path)
	if b, ok := s.back.(flat); ok {
		r, ok, err := b.section(i)
		if err != nil {
			return nil, err
		}
		if ok {
			f := &file{ReaderAt: r, size: e.Size, name: name}
			if c, ok := r.(io.Closer); ok {
				f.close = c.Close
			}
			return f, nil
		}
	}
	r, err := s.back.open(i)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return spool(ctx, r, e.Size, name, s.key()+"\x00"+e.Path, o)
}

// Random is an entry that is read at any place.
type Random struct{ *file }

// Size is its number of bytes.
func (r Random) Size() int64 { return r.size }

// Random gives random access to an entry: where it lies, or in an unpacked
// copy. It must be closed.
func (s *Source) Random(ctx context.Context, i int, o Options) (Random, error) {
	if err := s.entries[i].Err; err != nil {
		return Random{}, s.fail(i, err)
	}
	f, err := s.whole(ctx, i, o)
	if err != nil {
		return Random{}, s.fail(i, err)
	}
	return Random{f}, nil
}

// key names this source's state: what a copy made of it is kept under.
func (s *Source) key() string { return s.Path + "\x00" + s.Stamp + "\x00" + s.inside }

// openFile recognises what a file is and reads its directory.
func (s *Source) openFile(ctx context.Context, f *file, o Options) error {
	s.Size = f.size
	s.ahead = &ahead{r: f.ReaderAt, size: f.size}
	f.ReaderAt = s.ahead
	what, l, err := recognise(f, o.Layouts)
	if err != nil {
		return err
	}
	s.Format = what
	s.taken = newNames(0)
	defer func() { s.taken, s.numbers = nil, nil }()
	switch what {
	case "zip":
		return s.openZip(ctx, f)
	case "7z":
		return s.openSevenZip(ctx, f)
	case "tar":
		return s.openTar(ctx, f)
	case "gzip", "bzip2", "xz", "zstd":
		return s.openCompressed(ctx, f, what, o)
	case "file":
		s.entries = []Entry{{Path: cleanOne(s.Label), Size: f.size, Packed: f.size, Codec: "stored", Block: -1}}
		s.back = &single{f}
		return nil
	}
	return s.openLayout(ctx, f, l)
}

// Place is the source for people: its path on this machine and, within
// archives, the path in them.
func (s *Source) Place() string {
	if s.inside == "" {
		return s.Path
	}
	return s.Path + " › " + s.inside
}

// Inside is the path of entries that leads from the outermost file to a
// nested source; empty for others.
func (s *Source) Inside() string { return s.inside }

// Close lets go of the source's file. A nested source's parent stays open.
func (s *Source) Close() error { return s.back.Close() }

// Entries lists what the source holds, in its own order.
func (s *Source) Entries() []Entry { return s.entries }

// Lookup returns the entry at a path, or -1.
func (s *Source) Lookup(p string) int {
	s.index()
	if i, ok := s.byPath[p]; ok {
		return int(i)
	}
	return -1
}

// fail says which entry could not be read, and whether that is because the
// source is another one by now.
func (s *Source) fail(i int, err error) error {
	e := &s.entries[i]
	off := e.Offset
	if l, ok := s.back.(located); ok && off < 0 {
		off = l.offset(i)
	}
	var p *ChangedError
	if !errors.As(err, &p) {
		if c := s.Changed(); c != nil {
			err = fmt.Errorf("%w (%v)", c, err)
		}
	}
	return &EntryError{s.Place(), e.Path, off, err}
}

// Stream opens an entry for reading from its start. The size, and the
// checksum where the format has one, are checked at the end of the stream.
func (s *Source) Stream(i int) (io.ReadCloser, error) {
	if err := s.entries[i].Err; err != nil {
		return nil, s.fail(i, err)
	}
	r, err := s.back.open(i)
	if err != nil {
		return nil, s.fail(i, err)
	}
	return &entryStream{r, s, i}, nil
}

// entryStream names the entry in every error.
type entryStream struct {
	r io.ReadCloser
	s *Source
	i int
}

func (e *entryStream) Read(p []byte) (int, error) {
	n, err := e.r.Read(p)
	if err != nil && err != io.EOF {
		err = e.s.fail(e.i, err)
	}
	return n, err
}

func (e *entryStream) Close() error { return e.r.Close() }

// Read returns an entry's bytes, unpacked and checked. An entry that is too
// large for memory is an error; Stream and Range take any size.
func (s *Source) Read(i int) ([]byte, error) {
	n := s.entries[i].Size
	if n > limit.MemoryBytes && s.entries[i].Err == nil {
		return nil, s.fail(i, fmt.Errorf("it has %d bytes, at most %d are held in memory", n, int64(limit.MemoryBytes)))
	}
	r, err := s.Stream(i)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	// A size that is only declared costs memory as the bytes arrive.
	out := make([]byte, 0, min(n, 16<<20)+1)
	for {
		if len(out) == cap(out) {
			out = append(out, 0)[:len(out)]
		}
		k, err := r.Read(out[len(out):cap(out)])
		out = out[:len(out)+k]
		if err == io.EOF {
			return out[:len(out):len(out)], nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// Head returns no more than an entry's first n bytes, unpacked.
func (s *Source) Head(i, n int) ([]byte, error) { return s.Range(i, 0, n) }

// Range returns up to n bytes of an entry from off on, unpacked; fewer only at
// its end. Bytes before off of a packed entry are unpacked and passed over.
func (s *Source) Range(i int, off int64, n int) ([]byte, error) {
	e := &s.entries[i]
	if e.Err != nil {
		return nil, s.fail(i, e.Err)
	}
	if off < 0 || off >= e.Size || n <= 0 {
		return nil, nil
	}
	out := make([]byte, min(int64(n), e.Size-off))
	if b, ok := s.back.(flat); ok {
		r, ok, err := b.section(i)
		if err != nil {
			return nil, s.fail(i, err)
		}
		if ok {
			k, err := r.ReadAt(out, off)
			if c, ok := r.(io.Closer); ok {
				c.Close()
			}
			if k < len(out) {
				return nil, s.fail(i, cutShort(k, len(out), err))
			}
			return out, nil
		}
	}
	r, err := s.back.open(i)
	if err != nil {
		return nil, s.fail(i, err)
	}
	defer r.Close()
	if off > 0 {
		if _, err := io.CopyN(io.Discard, r, off); err != nil {
			return nil, s.fail(i, err)
		}
	}
	if _, err := io.ReadFull(r, out); err != nil {
		return nil, s.fail(i, err)
	}
	return out, nil
}

func cutShort(got, want int, err error) error {
	if err == nil || err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return fmt.Errorf("only %d of %d bytes could be read: %w", got, want, err)
}

// Digest is the SHA-256 of the source file; a folder has none. Of a nested
// source it is that of the outermost file.
func (s *Source) Digest() (string, error) {
	s.digesting.Lock()
	defer s.digesting.Unlock()
	if s.digest == "" {
		d, err := s.sum()
		if err != nil {
			return "", err
		}
		s.digest = d
	}
	return s.digest, nil
}

func (s *Source) sum() (string, error) {
	st, err := os.Stat(s.Path)
	if err != nil || st.IsDir() {
		return "", err
	}
	return FileDigest(s.Path)
}

// FileDigest is the SHA-256 of a file on disk, as Digest tells it.
func FileDigest(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// EntryError says which entry of which source could not be read, and where it
// lies.
type EntryError struct {
	Source, Entry string
	Offset        int64
	Err           error
}

func (e *EntryError) Error() string {
	// A layout error has its own offset.
	var le *layout.Error
	if e.Offset >= 0 && !errors.As(e.Err, &le) {
		return fmt.Sprintf("%s: entry %q at offset %d: %v", e.Source, e.Entry, e.Offset, e.Err)
	}
	return fmt.Sprintf("%s: entry %q: %v", e.Source, e.Entry, e.Err)
}

func (e *EntryError) Unwrap() error { return e.Err }

// Where is the place for machine-readable reports.
func (e *EntryError) Where() string {
	if e.Offset < 0 {
		return ""
	}
	return fmt.Sprintf("offset %d", e.Offset)
}

// problem notes something about the source, or about an entry as it is named
// in the source.
func (s *Source) problem(entry string, off int64, format string, a ...any) {
	s.Problems = append(s.Problems, Problem{Entry: cut(entry), Offset: off, Message: fmt.Sprintf(format, a...)})
}

// add appends an entry under a safe path and notes what had to be changed.
func (s *Source) add(e Entry, name string) error {
	if len(s.entries) >= limit.Entries {
		return fmt.Errorf("more than %d entries", limit.Entries)
	}
	if s.named += int64(len(name)); s.named > limit.PathBytes {
		return fmt.Errorf("the names of its entries have more than %d bytes", limit.PathBytes)
	}
	clean, why := cleanPath(name)
	if why != "" {
		s.problem(name, e.Offset, "%s; listed as %q", why, clean)
	}
	if before := func(yield func(string)) {
		for i := range s.entries {
			yield(s.entries[i].Path)
		}
	}; !s.taken.add(clean, before) {
		ext := path.Ext(clean)
		stem := strings.TrimSuffix(clean, ext)
		if s.numbers == nil {
			s.numbers = distinct.Numbers{}
		}
		was := clean
		s.numbers.Next(was, func(n int) bool {
			clean = fmt.Sprintf("%s~%d%s", stem, n, ext)
			return s.taken.add(clean, before)
		})
		s.problem(name, e.Offset, "another entry has this name; listed as %q", clean)
	}
	e.Path = clean
	if e.Err != nil {
		s.problem(name, e.Offset, "%v", e.Err)
	}
	s.entries = append(s.entries, e)
	return nil
}

// folder notes that the archive has a folder of a name.
func (s *Source) folder(name string) error {
	if len(s.ownDirs) >= limit.Entries {
		return fmt.Errorf("more than %d folders", limit.Entries)
	}
	if s.named += int64(len(name)); s.named > limit.PathBytes {
		return fmt.Errorf("the names of its entries have more than %d bytes", limit.PathBytes)
	}
	if strings.Trim(name, `./\`) != "" {
		clean, _ := cleanPath(strings.TrimRight(name, `/\`))
		s.ownDirs = append(s.ownDirs, clean)
	}
	return nil
}

// EmptyFolders lists the folders of the archive in which no entry lies.
func (s *Source) EmptyFolders() []string {
	full := map[string]bool{}
	for i := range s.entries {
		for dir := path.Dir(s.entries[i].Path); dir != "." && !full[dir]; dir = path.Dir(dir) {
			full[dir] = true
		}
	}
	var out []string
	for _, f := range s.ownDirs {
		if !full[f] {
			full[f] = true // once
			out = append(out, f)
		}
	}
	return out
}

// index builds the look-up tables once they are needed.
func (s *Source) index() {
	s.indexOnce.Do(func() {
		n := len(s.entries)
		s.byPath = make(map[string]int32, n)
		s.byStem = make(map[string][]int32, n)
		s.byName = make(map[string][]int32, n)
		for i := range s.entries {
			p := s.entries[i].Path
			s.byPath[p] = int32(i)
			st := stem(p)
			s.byStem[st] = append(s.byStem[st], int32(i))
			b := path.Base(st)
			s.byName[b] = append(s.byName[b], int32(i))
		}
	})
}

// stem is a path in lower case, with / between segments, without ending.
func stem(p string) string {
	p = strings.ToLower(strings.ReplaceAll(p, "\\", "/"))
	p = strings.TrimPrefix(path.Clean("/"+p), "/")
	return strings.TrimSuffix(p, path.Ext(p))
}
