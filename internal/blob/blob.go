// Package blob keeps bulk bytes in a folder by their SHA-256, beside the
// database. A blob appears whole or not at all.
package blob

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Folder is a folder of blobs.
type Folder struct{ dir string }

// Open makes the folder if it is not there.
func Open(dir string) (*Folder, error) {
	if err := os.MkdirAll(filepath.Join(dir, "part"), 0o700); err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o700); err != nil { // it may have been there before
		return nil, err
	}
	return &Folder{dir}, nil
}

// Valid tells whether a digest is one.
func Valid(digest string) bool {
	if len(digest) != 64 {
		return false
	}
	_, err := hex.DecodeString(digest)
	return err == nil
}

// Path is where a blob lies, whether it is there or not.
func (f *Folder) Path(digest string) string {
	return filepath.Join(f.dir, digest[:2], digest)
}

// Has tells whether a blob is there.
func (f *Folder) Has(digest string) bool {
	if !Valid(digest) {
		return false
	}
	_, err := os.Stat(f.Path(digest))
	return err == nil
}

// Get reads a blob.
func (f *Folder) Get(digest string) ([]byte, error) {
	if !Valid(digest) {
		return nil, fmt.Errorf("%q is no digest", digest)
	}
	return os.ReadFile(f.Path(digest))
}

// Put stores bytes and returns their digest.
func (f *Folder) Put(b []byte) (string, error) {
	sum := sha256.Sum256(b)
	d := hex.EncodeToString(sum[:])
	if f.Has(d) {
		return d, nil
	}
	w, err := f.Create()
	if err != nil {
		return "", err
	}
	defer w.Discard()
	if _, err := w.Write(b); err != nil {
		return "", err
	}
	return w.Commit()
}

// Writer takes a blob of unknown length.
type Writer struct {
	f    *Folder
	file *os.File
	hash hash.Hash
}

// Create starts a blob.
func (f *Folder) Create() (*Writer, error) {
	file, err := os.CreateTemp(filepath.Join(f.dir, "part"), "blob-*")
	if err != nil {
		return nil, err
	}
	return &Writer{f, file, sha256.New()}, nil
}

func (w *Writer) Write(p []byte) (int, error) {
	n, err := w.file.Write(p)
	w.hash.Write(p[:n])
	return n, err
}

// Commit makes the blob visible and returns its digest.
func (w *Writer) Commit() (string, error) {
	d := hex.EncodeToString(w.hash.Sum(nil))
	if err := w.file.Sync(); err != nil {
		return "", err
	}
	if err := w.file.Close(); err != nil {
		return "", err
	}
	to := w.f.Path(d)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return "", err
	}
	if err := os.Rename(w.file.Name(), to); err != nil {
		return "", err
	}
	w.file = nil
	return d, nil
}

// Discard forgets a blob that was not committed. It may follow Commit.
func (w *Writer) Discard() {
	if w.file != nil {
		w.file.Close()
		os.Remove(w.file.Name())
		w.file = nil
	}
}

// Side stores derived bytes under a key of the caller's: thumbnails and
// views, which can be made again at any time.
func (f *Folder) Side(key string, make func() ([]byte, error)) ([]byte, error) {
	sum := sha256.Sum256([]byte(key))
	name := hex.EncodeToString(sum[:])
	path := filepath.Join(f.dir, "side", name[:2], name)
	if b, err := os.ReadFile(path); err == nil {
		return b, nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	b, err := make()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	tmp, err := os.CreateTemp(filepath.Join(f.dir, "part"), "side-*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(tmp.Name())
	if _, err = tmp.Write(b); err == nil {
		err = tmp.Close()
	}
	if err != nil {
		return nil, err
	}
	return b, os.Rename(tmp.Name(), path)
}

var _ io.Writer = (*Writer)(nil)
