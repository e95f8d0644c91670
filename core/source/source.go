// Package source mounts whatever holds a game's files: a folder, a ZIP, an
// archive that a layout describes, or a single file. Each becomes a Source: a
// read-only io/fs.FS with what is known of its entries. A Stack puts several
// in search order and resolves names through them.
//
// Sources are read where they lie and never changed. Entry paths are cleaned
// so that none leaves the folder it is unpacked to; what had to be changed is
// a Problem of the source.
package source

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"sync"

	"excavate/core/codec"
	"excavate/core/layout"
	"excavate/core/limit"

	"github.com/klauspost/compress/flate"
)

// Entry is one file of a source.
type Entry struct {
	Path   string // cleaned, with / between segments
	Size   int64  // bytes unpacked
	Packed int64  // bytes as stored
	Codec  string // packing method: stored, zlib, lz4, deflate
	Offset int64  // of the stored bytes in the source file; -1 where there is no such place
	Err    error  // why it cannot be read, if its directory record already says so
}

// Problem is something that had to be changed or left out when a source was
// indexed, with the place in the source file.
type Problem struct {
	Entry   string // the name as the source has it, cut to a readable length
	Offset  int64  // -1 if there is no place to name
	Message string
}

func (p Problem) Error() string {
	if p.Offset >= 0 {
		return fmt.Sprintf("offset %d: entry %q: %s", p.Offset, p.Entry, p.Message)
	}
	return fmt.Sprintf("entry %q: %s", p.Entry, p.Message)
}

// Source is one mounted source. It is safe for concurrent use.
type Source struct {
	Label    string // file or folder name
	Path     string // where it lies on this machine
	Format   string // folder, zip, file, or the layout's name
	IsLayout bool
	Size     int64 // bytes of the source file; 0 for a folder
	Problems []Problem

	entries []Entry
	back    backend

	indexOnce sync.Once
	byPath    map[string]int32
	byStem    map[string][]int32 // lower case, without ending
	byName    map[string][]int32 // lower-case base name without ending
	dirs      map[string][]fs.DirEntry
}

// backend reads the entries of one kind of source.
type backend interface {
	read(i int) ([]byte, error)
	head(i, n int) ([]byte, error)
	io.Closer
}

// Open mounts the file or folder at p. What a file is, is told by its bytes.
func Open(ctx context.Context, p string, layouts *layout.Set) (*Source, error) {
	st, err := os.Stat(p)
	if err != nil {
		return nil, fmt.Errorf("open source: %w", err)
	}
	s := &Source{Label: filepath.Base(p), Path: p}
	if st.IsDir() {
		return s, s.openFolder(ctx, maxDepth)
	}
	if !st.Mode().IsRegular() {
		return nil, fmt.Errorf("open source %s: it is neither a file nor a folder", p)
	}
	f, err := os.Open(p)
	if err != nil {
		return nil, fmt.Errorf("open source: %w", err)
	}
	s.Size = st.Size()
	head := make([]byte, min(layout.HeadBytes, s.Size))
	if _, err := io.ReadFull(f, head); err != nil {
		f.Close()
		return nil, fmt.Errorf("open source %s: %w", p, err)
	}
	l := layouts.Find(head)
	switch {
	case l != nil && l.Kind == layout.Container:
		err = s.openLayout(ctx, f, l)
	case bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06")):
		err = s.openZip(f)
	default:
		s.Format = "file"
		s.entries = []Entry{{Path: cleanOne(s.Label), Size: s.Size, Packed: s.Size, Codec: string(codec.Stored)}}
		s.back = &singleFile{f, s.Size}
	}
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("open source %s: %w", p, err)
	}
	return s, nil
}

// Close lets go of the source's file.
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

// Read returns an entry's bytes, unpacked and checked.
func (s *Source) Read(i int) ([]byte, error) {
	e := &s.entries[i]
	if e.Err != nil {
		return nil, &EntryError{s.Path, e.Path, e.Offset, e.Err}
	}
	b, err := s.back.read(i)
	if err != nil {
		return nil, &EntryError{s.Path, e.Path, e.Offset, err}
	}
	return b, nil
}

// Head returns no more than an entry's first n bytes, unpacked.
func (s *Source) Head(i, n int) ([]byte, error) {
	e := &s.entries[i]
	if e.Err != nil {
		return nil, &EntryError{s.Path, e.Path, e.Offset, e.Err}
	}
	b, err := s.back.head(i, n)
	if err != nil {
		return nil, &EntryError{s.Path, e.Path, e.Offset, err}
	}
	return b, nil
}

// Digest is the SHA-256 of the source file; a folder has none.
func (s *Source) Digest() (string, error) {
	st, err := os.Stat(s.Path)
	if err != nil || st.IsDir() {
		return "", err
	}
	f, err := os.Open(s.Path)
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

// add appends an entry under a safe path and notes what had to be changed.
func (s *Source) add(e Entry, name string, taken map[string]bool) {
	clean, why := cleanPath(name)
	if why != "" {
		s.Problems = append(s.Problems, Problem{Entry: cut(name), Offset: e.Offset, Message: why + "; listed as " + fmt.Sprintf("%q", clean)})
	}
	if taken[clean] {
		ext := path.Ext(clean)
		stem := strings.TrimSuffix(clean, ext)
		for n := 2; ; n++ {
			if c := fmt.Sprintf("%s~%d%s", stem, n, ext); !taken[c] {
				s.Problems = append(s.Problems, Problem{Entry: cut(name), Offset: e.Offset, Message: fmt.Sprintf("another entry has this name; listed as %q", c)})
				clean = c
				break
			}
		}
	}
	taken[clean] = true
	e.Path = clean
	if e.Err != nil {
		s.Problems = append(s.Problems, Problem{Entry: cut(name), Offset: e.Offset, Message: e.Err.Error()})
	}
	s.entries = append(s.entries, e)
}

func cut(s string) string {
	if len(s) > 120 {
		return s[:117] + "..."
	}
	return s
}

// cleanPath turns an entry's name into a relative path that stays inside its
// folder on every file system. why says what was wrong; it is empty where only
// the separators changed.
func cleanPath(name string) (clean, why string) {
	if plain(name) {
		return name, ""
	}
	n := strings.ReplaceAll(name, "\\", "/")
	switch {
	case strings.HasPrefix(n, "/"):
		why = "its name is an absolute path"
	case len(n) > 1 && n[1] == ':':
		why = "its name is an absolute path"
		n = n[2:]
	}
	var out []string
	for _, seg := range strings.Split(n, "/") {
		switch seg {
		case "", ".":
			continue
		case "..":
			why = "its name leaves the folder"
			continue
		}
		s := strings.Map(func(r rune) rune {
			if r < 0x20 || strings.ContainsRune(`<>:"|?*`, r) {
				return '_'
			}
			return r
		}, seg)
		if s != seg && why == "" {
			why = "its name holds characters that files cannot have"
		}
		if len(s) > limit.SegmentBytes {
			s = s[:limit.SegmentBytes-9] + "~" + digest8(seg)
			why = fmt.Sprintf("a part of its name is %d bytes long", len(seg))
		}
		out = append(out, strings.ToValidUTF8(s, "_"))
	}
	if len(out) == 0 {
		return "unnamed", "it has no name"
	}
	clean = strings.Join(out, "/")
	if len(clean) > limit.NameBytes {
		why = fmt.Sprintf("its name is %d bytes long", len(name))
		clean = "long/" + digest8(clean) + "/" + out[len(out)-1]
	}
	return clean, why
}

// plain tells whether a name is clean as it stands; nearly all are.
func plain(n string) bool {
	if n == "" || len(n) > limit.SegmentBytes || n[0] == '/' {
		return false
	}
	start := 0
	for i := 0; i <= len(n); i++ {
		if i == len(n) || n[i] == '/' {
			seg := n[start:i]
			if seg == "" || seg == "." || seg == ".." {
				return false
			}
			start = i + 1
			continue
		}
		c := n[i]
		if c < 0x20 || c >= 0x80 || c == '\\' || c == ':' || c == '<' || c == '>' || c == '"' || c == '|' || c == '?' || c == '*' {
			return false
		}
	}
	return true
}

func cleanOne(n string) string { c, _ := cleanPath(n); return c }

func digest8(s string) string {
	h := sha256.Sum256([]byte(s))
	return hex.EncodeToString(h[:4])
}

// folder

// maxDepth is how deep folders are followed.
const maxDepth = 64

type folder struct {
	root  *os.Root
	paths []string
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
	b := &folder{root: root}
	s.back = b
	taken := map[string]bool{}
	err = fs.WalkDir(root.FS(), ".", func(p string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			s.Problems = append(s.Problems, Problem{Entry: cut(p), Offset: -1, Message: err.Error()})
			return nil
		}
		if d.IsDir() && p != "." && strings.Count(p, "/")+1 >= depth {
			return fs.SkipDir
		}
		if !d.Type().IsRegular() {
			if d.Type()&fs.ModeSymlink != 0 {
				s.Problems = append(s.Problems, Problem{Entry: cut(p), Offset: -1, Message: "it is a link and was not followed"})
			}
			return nil
		}
		st, err := d.Info()
		if err != nil {
			return nil // gone since
		}
		if len(s.entries) >= limit.Entries {
			return fmt.Errorf("more than %d files", limit.Entries)
		}
		b.paths = append(b.paths, p)
		s.add(Entry{Size: st.Size(), Packed: st.Size(), Codec: string(codec.Stored), Offset: -1}, p, taken)
		return nil
	})
	if err != nil {
		root.Close()
		return fmt.Errorf("open source %s: %w", s.Path, err)
	}
	return nil
}

func (b *folder) Close() error { return b.root.Close() }

func (b *folder) open(i int) (*os.File, int64, error) {
	f, err := b.root.Open(b.paths[i])
	if err != nil {
		return nil, 0, err
	}
	st, err := f.Stat()
	if err != nil || !st.Mode().IsRegular() || st.Size() > limit.EntryBytes {
		f.Close()
		return nil, 0, fmt.Errorf("it is no file of at most %d bytes any more", int64(limit.EntryBytes))
	}
	return f, st.Size(), nil
}

func (b *folder) read(i int) ([]byte, error) {
	f, n, err := b.open(i)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := make([]byte, n)
	_, err = io.ReadFull(f, out)
	return out, err
}

func (b *folder) head(i, n int) ([]byte, error) {
	f, size, err := b.open(i)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := make([]byte, min(int64(n), size))
	_, err = io.ReadFull(f, out)
	return out, err
}

// single file

type singleFile struct {
	f    *os.File
	size int64
}

func (b *singleFile) Close() error { return b.f.Close() }
func (b *singleFile) read(int) ([]byte, error) {
	if b.size > limit.EntryBytes {
		return nil, fmt.Errorf("it has %d bytes, at most %d are held in memory", b.size, int64(limit.EntryBytes))
	}
	return b.head(0, int(b.size))
}
func (b *singleFile) head(_, n int) ([]byte, error) {
	out := make([]byte, min(int64(n), b.size))
	k, err := b.f.ReadAt(out, 0)
	if k == len(out) {
		err = nil
	}
	return out[:k], err
}

// described container

type described struct {
	f       *os.File
	entries []layout.Entry
}

func (s *Source) openLayout(ctx context.Context, f *os.File, l *layout.Layout) error {
	list, err := l.Entries(ctx, layout.Random(f, s.Size))
	if err != nil {
		return err
	}
	s.Format, s.IsLayout = l.Name, true
	s.back = &described{f, list}
	s.entries = make([]Entry, 0, len(list))
	taken := make(map[string]bool, len(list))
	for i := range list {
		e := &list[i]
		s.add(Entry{Size: e.Size, Packed: e.Packed, Codec: string(e.Codec), Offset: e.Offset, Err: e.Err}, e.Name, taken)
	}
	return nil
}

func (b *described) Close() error { return b.f.Close() }

var packedBuffers = sync.Pool{New: func() any { return new([]byte) }}

func (b *described) packed(i int, buf []byte) ([]byte, error) {
	e := &b.entries[i]
	if int64(cap(buf)) < e.Packed {
		buf = make([]byte, e.Packed)
	}
	buf = buf[:e.Packed]
	if k, err := b.f.ReadAt(buf, e.Offset); k < len(buf) {
		return nil, fmt.Errorf("only %d of %d packed bytes could be read: %w", k, len(buf), err)
	}
	return buf, nil
}

func (b *described) read(i int) ([]byte, error) {
	e := &b.entries[i]
	var out []byte
	if e.Codec == codec.Stored {
		var err error
		if out, err = b.packed(i, nil); err != nil {
			return nil, err
		}
	} else {
		p := packedBuffers.Get().(*[]byte)
		defer packedBuffers.Put(p)
		src, err := b.packed(i, *p)
		if err != nil {
			return nil, err
		}
		*p = src
		if out, err = codec.Decode(e.Codec, src, e.Size); err != nil {
			return nil, err
		}
	}
	if e.HasCRC {
		if got := crc32.ChecksumIEEE(out); got != e.CRC32 {
			return nil, fmt.Errorf("its CRC-32 is %08x, the directory says %08x: the bytes are damaged", got, e.CRC32)
		}
	}
	return out, nil
}

func (b *described) head(i, n int) ([]byte, error) {
	e := &b.entries[i]
	if e.Codec == codec.Stored {
		out := make([]byte, min(int64(n), e.Size))
		k, err := b.f.ReadAt(out, e.Offset)
		if k == len(out) {
			err = nil
		}
		return out[:k], err
	}
	p := packedBuffers.Get().(*[]byte)
	defer packedBuffers.Put(p)
	src, err := b.packed(i, *p)
	if err != nil {
		return nil, err
	}
	*p = src
	return codec.Head(e.Codec, src, e.Size, n)
}

// ZIP

type zipped struct {
	f     *os.File
	files []*zip.File
}

func (s *Source) openZip(f *os.File) error {
	z, err := zip.NewReader(f, s.Size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return fmt.Errorf("not a sound ZIP: %w", err)
	}
	z.RegisterDecompressor(zip.Deflate, func(r io.Reader) io.ReadCloser { return flate.NewReader(r) })
	s.Format = "zip"
	b := &zipped{f: f}
	s.back = b
	taken := map[string]bool{}
	for _, zf := range z.File {
		if strings.HasSuffix(zf.Name, "/") {
			continue
		}
		if len(s.entries) >= limit.Entries {
			return fmt.Errorf("more than %d entries", limit.Entries)
		}
		e := Entry{Size: int64(zf.UncompressedSize64), Packed: int64(zf.CompressedSize64), Codec: zipMethod(zf.Method), Offset: -1}
		if at, err := zf.DataOffset(); err == nil {
			e.Offset = at
		} else {
			e.Err = fmt.Errorf("its header cannot be read: %w", err)
		}
		switch {
		case zf.Flags&1 != 0:
			e.Err = errors.New("it is encrypted, and Excavate has no key")
		case e.Size < 0 || e.Packed < 0 || e.Size > limit.ExpansionFree && e.Size/limit.Expansion > e.Packed:
			e.Err = fmt.Errorf("declares %d bytes from %d packed, which deflate cannot reach", e.Size, e.Packed)
		case e.Size > limit.EntryBytes:
			e.Err = fmt.Errorf("declares %d bytes, more than the %d that one entry may have", e.Size, int64(limit.EntryBytes))
		}
		b.files = append(b.files, zf)
		s.add(e, zf.Name, taken)
	}
	return nil
}

func zipMethod(m uint16) string {
	switch m {
	case zip.Store:
		return "stored"
	case zip.Deflate:
		return "deflate"
	}
	return fmt.Sprintf("method %d", m)
}

func (b *zipped) Close() error { return b.f.Close() }

func (b *zipped) read(i int) ([]byte, error) {
	n := int64(b.files[i].UncompressedSize64)
	r, err := b.files[i].Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var buf bytes.Buffer
	buf.Grow(int(min(n, limit.ExpansionFree)))
	got, err := io.Copy(&buf, io.LimitReader(r, n+1))
	switch {
	case err != nil:
		return nil, err
	case got > n:
		return nil, fmt.Errorf("expands beyond the %d bytes declared", n)
	case got < n:
		return nil, fmt.Errorf("unpacks to %d bytes, %d declared", got, n)
	}
	return buf.Bytes(), nil
}

func (b *zipped) head(i, n int) ([]byte, error) {
	r, err := b.files[i].Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	out := make([]byte, n)
	k, err := io.ReadFull(r, out)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return out[:k], err
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

// sortedNames are the entry paths in order, for folders of the file system.
func (s *Source) sortedNames() []string {
	names := make([]string, len(s.entries))
	for i := range s.entries {
		names[i] = s.entries[i].Path
	}
	sort.Strings(names)
	return names
}
