package blob

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

func TestBlobs(t *testing.T) {
	dir := t.TempDir()
	f, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	d, err := f.Put([]byte("reed"))
	if err != nil || len(d) != 64 {
		t.Fatalf("%s %v", d, err)
	}
	if b, err := f.Get(d); err != nil || string(b) != "reed" || !f.Has(d) {
		t.Errorf("%q %v", b, err)
	}
	if again, _ := f.Put([]byte("reed")); again != d {
		t.Error("the same bytes have another digest")
	}
	for _, bad := range []string{"", "x", strings.Repeat("z", 64), "../" + d[3:], strings.Repeat("0", 63)} {
		if _, err := f.Get(bad); err == nil || f.Has(bad) {
			t.Errorf("%q was read", bad)
		}
	}
	if _, err := f.Get(strings.Repeat("0", 64)); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a blob that is not there: %v", err)
	}
}

func TestNothingHalfDoneIsVisible(t *testing.T) {
	dir := t.TempDir()
	f, _ := Open(dir)
	w, err := f.Create()
	if err != nil {
		t.Fatal(err)
	}
	w.Write([]byte("half"))
	w.Discard()
	left, _ := filepath.Glob(filepath.Join(dir, "*", "*"))
	if len(left) != 0 {
		t.Errorf("left over: %v", left)
	}
	w, _ = f.Create()
	w.Write([]byte("whole"))
	d, err := w.Commit()
	w.Discard() // after a commit it does nothing
	if err != nil || !f.Has(d) {
		t.Error(err)
	}
}

func TestSide(t *testing.T) {
	f, _ := Open(t.TempDir())
	made := 0
	get := func() ([]byte, error) {
		return f.Side("thumb x", func() ([]byte, error) { made++; return []byte("picture"), nil })
	}
	for i := 0; i < 3; i++ {
		if b, err := get(); err != nil || string(b) != "picture" {
			t.Fatal(err)
		}
	}
	if made != 1 {
		t.Errorf("made %d times", made)
	}
	if _, err := f.Side("bad", func() ([]byte, error) { return nil, errors.New("no") }); err == nil {
		t.Error("an error was kept as bytes")
	}
	if b, err := f.Side("bad", func() ([]byte, error) { return []byte("now"), nil }); err != nil || string(b) != "now" {
		t.Error("a failure was remembered")
	}
}

func TestManyAtOnce(t *testing.T) {
	f, _ := Open(t.TempDir())
	data := bytes.Repeat([]byte("tide"), 100_000)
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			d, err := f.Put(data)
			if err != nil {
				t.Error(err)
				return
			}
			if b, err := f.Get(d); err != nil || !bytes.Equal(b, data) {
				t.Errorf("%d bytes, %v", len(b), err)
			}
		})
	}
	wg.Wait()
}
