package source

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"excavate/core/disk"
	"excavate/core/layout"
	"excavate/core/limit"
)

// file is the bytes of a source file, wherever they lie: on disk, within
// another file, or in an unpacked copy.
type file struct {
	io.ReaderAt
	size   int64
	name   string
	close  func() error
	beside func(name string) (*file, error) // opens a file beside it
}

func (f *file) Close() error {
	if f.close == nil {
		return nil
	}
	return f.close()
}

// section is a part of the file as a stream.
func (f *file) section(off, n int64) *io.SectionReader { return io.NewSectionReader(f, off, n) }

// besideOnDisk opens files of one folder. Names that leave it are refused.
func besideOnDisk(dir string) func(string) (*file, error) {
	return func(name string) (*file, error) {
		root, err := os.OpenRoot(dir)
		if err != nil {
			return nil, err
		}
		defer root.Close()
		f, err := root.Open(filepath.FromSlash(name))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("the file %q is not beside it", name)
		}
		if err != nil {
			return nil, err
		}
		st, err := f.Stat()
		if err == nil && !st.Mode().IsRegular() {
			err = fmt.Errorf("%q is not a file", name)
		}
		if err != nil {
			f.Close()
			return nil, err
		}
		return &file{ReaderAt: f, size: st.Size(), name: name, close: f.Close}, nil
	}
}

// recognise tells what a file is by its bytes: zip, 7z, tar, gzip, bzip2, xz,
// zstd, the name of a layout, or file for everything else.
func recognise(f *file, layouts *layout.Set) (string, *layout.Layout, error) {
	head := make([]byte, min(layout.HeadBytes, f.size))
	if k, err := f.ReadAt(head, 0); k < len(head) {
		return "", nil, cutShort(k, len(head), err)
	}
	sure, loose := layouts.Recognised(head)
	described := func(list []*layout.Layout) (string, *layout.Layout, bool) {
		if len(list) == 0 {
			return "", nil, false
		}
		if list[0].Kind == layout.Container {
			return list[0].Name, list[0], true
		}
		return "file", nil, true
	}
	if what, l, ok := described(sure); ok {
		return what, l, nil
	}
	if what := Magic(head); what != "" {
		return what, nil, nil
	}
	// A ZIP may stand behind other bytes, such as a program that unpacks it.
	tail := make([]byte, min(22+1<<16, f.size))
	if k, err := f.ReadAt(tail, f.size-int64(len(tail))); k < len(tail) {
		return "", nil, cutShort(k, len(tail), err)
	}
	for at := len(tail) - 22; at >= 0; at-- {
		if at = bytes.LastIndex(tail[:at+4], []byte("PK\x05\x06")); at < 0 {
			break
		}
		if comment := int(tail[at+20]) | int(tail[at+21])<<8; at+22+comment == len(tail) {
			return "zip", nil, nil
		}
	}
	if what, l, ok := described(loose); ok {
		return what, l, nil
	}
	return "file", nil, nil
}

var magics = []struct{ magic, what string }{
	{"PK\x03\x04", "zip"}, {"PK\x05\x06", "zip"}, {"PK\x07\x08PK", "zip"},
	{"7z\xbc\xaf\x27\x1c", "7z"}, {"\x1f\x8b\x08", "gzip"}, {"\xfd7zXZ\x00", "xz"}, {"\x28\xb5\x2f\xfd", "zstd"},
}

// Magic names the kind of archive or compressed file that begins with these
// bytes; empty if it is none. 512 bytes are enough.
func Magic(head []byte) string {
	for _, m := range magics {
		if len(head) >= len(m.magic) && string(head[:len(m.magic)]) == m.magic {
			return m.what
		}
	}
	if len(head) >= 10 && string(head[:3]) == "BZh" && head[3] >= '1' && head[3] <= '9' && (string(head[4:10]) == "1AY&SY" || string(head[4:10]) == "\x17rE8P\x90") {
		return "bzip2"
	}
	if isTar(head) {
		return "tar"
	}
	return ""
}

// isTar checks the checksum of a tar header (POSIX.1-2017, pax, ustar
// interchange format); old headers have no magic.
func isTar(head []byte) bool {
	if len(head) < 512 || head[0] == 0 {
		return false
	}
	want, digits := 0, 0
	for _, c := range head[148:156] {
		if c >= '0' && c <= '7' {
			want = want*8 + int(c-'0')
			digits++
		} else if digits > 0 {
			break
		} else if c != ' ' {
			return false
		}
	}
	if digits == 0 {
		return false
	}
	unsigned, signed := 0, 0
	for i, c := range head[:512] {
		if i >= 148 && i < 156 {
			c = ' '
		}
		unsigned += int(c)
		signed += int(int8(c))
	}
	return want == unsigned || want == signed
}

// spool makes an unpacked copy of a stream, so that it can be read at random.
// size is what is declared, -1 for unknown. key names what the copy is made
// of.
func spool(ctx context.Context, r io.Reader, size int64, name, key string, o Options) (*file, error) {
	if size >= 0 && size <= 1<<20 {
		b, err := io.ReadAll(io.LimitReader(r, size+1))
		if err != nil {
			return nil, err
		}
		return &file{ReaderAt: bytes.NewReader(b), size: int64(len(b)), name: name}, nil
	}
	if o.Spool == "" {
		f, err := os.CreateTemp("", "excavate-spool-*")
		if err != nil {
			return nil, err
		}
		os.Remove(f.Name()) // it goes with the last handle
		n, err := copyBounded(ctx, f, r)
		if err != nil {
			f.Close()
			return nil, err
		}
		return &file{ReaderAt: f, size: n, name: name, close: f.Close}, nil
	}
	if err := os.MkdirAll(o.Spool, 0o700); err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(key))
	final := filepath.Join(o.Spool, hex.EncodeToString(sum[:]))
	open := func() (*file, error) {
		f, err := os.Open(final)
		if err != nil {
			return nil, err
		}
		st, err := f.Stat()
		if err != nil {
			f.Close()
			return nil, err
		}
		os.Chtimes(final, time.Now(), time.Time{}) // it is in use
		return &file{ReaderAt: f, size: st.Size(), name: name, close: f.Close}, nil
	}
	if f, err := open(); err == nil {
		return f, nil
	}
	tmp, err := os.CreateTemp(o.Spool, spoolPart+"*")
	if err != nil {
		return nil, err
	}
	defer tmp.Close()
	defer os.Remove(tmp.Name())
	// The lock tells others that somebody writes here; it goes with the process.
	if err := disk.TryLock(tmp); err != nil {
		return nil, fmt.Errorf("lock %s: %w", tmp.Name(), err)
	}
	if _, err = copyBounded(ctx, tmp, r); err != nil {
		return nil, err
	}
	if err := os.Rename(tmp.Name(), final); err != nil {
		return nil, err
	}
	return open()
}

// spoolPart begins the names of copies that are being written.
const spoolPart = "part-"

// TidySpool removes unpacked copies that were not used for so long, and parts
// whose writer is gone.
func TidySpool(dir string, kept time.Duration) {
	list, _ := os.ReadDir(dir)
	for _, e := range list {
		st, err := e.Info()
		if err != nil {
			continue
		}
		name := filepath.Join(dir, e.Name())
		if strings.HasPrefix(e.Name(), spoolPart) {
			if time.Since(st.ModTime()) > partGrace && abandoned(name) {
				os.Remove(name)
			}
		} else if time.Since(st.ModTime()) > kept {
			os.Remove(name)
		}
	}
}

// partGrace is more than passes between making a part and locking it.
const partGrace = time.Second

func abandoned(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	return disk.TryLock(f) == nil
}

// copyBounded copies a stream to a file and stops before it fills the disk.
func copyBounded(ctx context.Context, f *os.File, r io.Reader) (int64, error) {
	const step = 64 << 20
	var n int64
	for {
		if err := ctx.Err(); err != nil {
			return n, err
		}
		if free, known := disk.Free(filepath.Dir(f.Name())); known && free < disk.Keep+step {
			return n, fmt.Errorf("the unpacked copy needs more room: "+
				"%d bytes are written and the disk of %s has %d left", n, filepath.Dir(f.Name()), free)
		}
		k, err := io.CopyN(f, r, step)
		n += k
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

// ChangedError says that a source on disk is not the one that was indexed.
type ChangedError struct{ Path, Why string }

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%s %s since it was indexed; index it again", e.Path, e.Why)
}

// Changed tells whether the file or folder on disk is another one than when
// the source was opened.
func (s *Source) Changed() *ChangedError { return ChangedSince(s.Path, s.Stamp) }

// ChangedSince compares what lies at a path with an earlier Stamp.
func ChangedSince(path, stamp string) *ChangedError {
	now, err := StampOf(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return &ChangedError{path, "is no longer there, or was moved,"}
	case err != nil:
		return &ChangedError{path, "can no longer be read (" + err.Error() + "),"}
	case stamp != "" && now != stamp:
		return &ChangedError{path, "has changed on disk"}
	}
	return nil
}

// StampOf is a short text that changes when a file's size or time does, or the
// time of any folder in a folder (files are added, removed or renamed).
func StampOf(path string) (string, error) {
	st, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	if !st.IsDir() {
		return fileStamp(st), nil
	}
	h := sha256.New()
	seen := 0
	err = filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil
		}
		if st, err := d.Info(); err == nil {
			fmt.Fprintf(h, "%s %d\n", p, st.ModTime().UnixNano())
		}
		if seen++; seen > 20_000 || strings.Count(p[len(path):], string(filepath.Separator)) > limit.FolderDepth {
			return fs.SkipDir
		}
		return nil
	})
	return "folder " + hex.EncodeToString(h.Sum(nil)[:12]), err
}

func fileStamp(st fs.FileInfo) string {
	return fmt.Sprintf("%d %d", st.Size(), st.ModTime().UnixNano())
}
