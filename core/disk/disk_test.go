package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
)

func TestFree(t *testing.T) {
	dir := t.TempDir()
	n, known := Free(dir)
	if !known || n <= 0 {
		t.Errorf("%d bytes free, %v", n, known)
	}
	if _, known := Free(filepath.Join(dir, "none")); known {
		t.Error("a folder that is not there has room")
	}
}

// A lock holds off another opening of the same file, and goes when the file is
// closed.
func TestLocks(t *testing.T) {
	name := filepath.Join(t.TempDir(), "lock")
	open := func() *os.File {
		f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	a, b := open(), open()
	defer b.Close()
	if err := Lock(a); err != nil {
		t.Fatal(err)
	}
	if TryLock(b) == nil {
		t.Error("two have the lock")
	}
	a.Close()
	if err := TryLock(b); err != nil {
		t.Errorf("the lock stays: %v", err)
	}
}

func TestFlushAndFull(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Flush(dir); err != nil {
		t.Error(err)
	}
	if err := Flush(filepath.Join(dir, "none")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
	if Full(errors.New("x")) || Full(nil) {
		t.Error("any error is a full disk")
	}
	// A device of the kernel's that is always full.
	if f, err := os.OpenFile("/dev/full", os.O_WRONLY, 0); err == nil {
		defer f.Close()
		if _, err := f.Write([]byte("x")); !Full(fmt.Errorf("write: %w", err)) {
			t.Errorf("%v", err)
		}
	}
}
