package source_test

import (
	"bytes"
	"context"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/source"
)

// Every way to read an entry must give the same bytes, in every kind of
// archive: whole, as a stream, from any place to any place, at random, and
// through io/fs.
func TestEveryWayOfReadingGivesTheSame(t *testing.T) {
	dir := t.TempDir()
	in := filepath.Join(dir, "in")
	os.MkdirAll(filepath.Join(in, "deep", "er"), 0o755)
	r := rand.New(rand.NewSource(6))
	files := map[string][]byte{"empty.bin": {}, "one.bin": {7}, "deep/text.txt": []byte(strings.Repeat("the heron waits for the tide; ", 3000)), "deep/er/noise.bin": make([]byte, 2<<20+13)}
	r.Read(files["deep/er/noise.bin"])
	for name, b := range files {
		if err := os.WriteFile(filepath.Join(in, filepath.FromSlash(name)), b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	tool(t, in, "zip", "-qr", filepath.Join(dir, "packed.zip"), ".")
	tool(t, in, "zip", "-qr0", filepath.Join(dir, "stored.zip"), ".")
	tool(t, in, "tar", "cf", filepath.Join(dir, "plain.tar"), ".")
	tool(t, in, "tar", "czf", filepath.Join(dir, "packed.tgz"), ".")
	tool(t, in, "7z", "a", "-bd", "-y", filepath.Join(dir, "solid.7z"), ".")
	spool := filepath.Join(dir, "spool")
	for _, kind := range []string{"in", "packed.zip", "stored.zip", "plain.tar", "packed.tgz", "solid.7z"} {
		s := openWith(t, filepath.Join(dir, kind), source.Options{Spool: spool})
		for name, want := range files {
			i := s.Lookup(name)
			if i < 0 {
				t.Errorf("%s: %s is not there", kind, name)
				continue
			}
			same := func(way string, got []byte, err error) {
				t.Helper()
				if err != nil || !bytes.Equal(got, want) {
					t.Errorf("%s, %s, %s: %d of %d bytes, %v", kind, name, way, len(got), len(want), err)
				}
			}
			got, err := s.Read(i)
			same("read", got, err)
			st, err := s.Stream(i)
			if err != nil {
				t.Fatal(err)
			}
			got, err = io.ReadAll(st)
			st.Close()
			same("stream", got, err)
			f, err := s.Open(name)
			if err != nil {
				t.Fatal(err)
			}
			got, err = io.ReadAll(f)
			f.Close()
			same("io/fs", got, err)
			ra, err := s.Random(context.Background(), i, source.Options{Spool: spool})
			if err != nil {
				t.Fatalf("%s, %s: %v", kind, name, err)
			}
			if ra.Size() != int64(len(want)) {
				t.Errorf("%s, %s: %d bytes at random, want %d", kind, name, ra.Size(), len(want))
			}
			for range 12 {
				from := r.Int63n(int64(len(want)) + 2)
				n := r.Intn(5000) + 1
				end := min(from+int64(n), int64(len(want)))
				var part []byte
				if from < int64(len(want)) {
					part = want[from:end]
				}
				got, err := s.Range(i, from, n)
				if err != nil || !bytes.Equal(got, part) {
					t.Fatalf("%s, %s: range %d+%d gives %d bytes, want %d, %v", kind, name, from, n, len(got), len(part), err)
				}
				if len(part) > 0 {
					b := make([]byte, len(part))
					if _, err := ra.ReadAt(b, from); err != nil && err != io.EOF || !bytes.Equal(b, part) {
						t.Fatalf("%s, %s: at random %d+%d: %v", kind, name, from, n, err)
					}
				}
			}
			if err := ra.Close(); err != nil {
				t.Error(err)
			}
		}
		if _, err := s.Range(0, -1, 5); err != nil {
			t.Errorf("%s: before the start: %v", kind, err)
		}
		if _, err := s.Open("../in/one.bin"); err == nil {
			t.Errorf("%s: a path that leaves it is opened", kind)
		}
	}
	// Copies are kept by what they were made of, and used again.
	before, _ := os.ReadDir(spool)
	s := openWith(t, filepath.Join(dir, "packed.zip"), source.Options{Spool: spool})
	ra, err := s.Random(context.Background(), s.Lookup("deep/er/noise.bin"), source.Options{Spool: spool})
	if err != nil {
		t.Fatal(err)
	}
	ra.Close()
	if after, _ := os.ReadDir(spool); len(after) != len(before) || len(before) == 0 {
		t.Errorf("%d copies, %d before", len(after), len(before))
	}
}

func TestPlacesForPeople(t *testing.T) {
	dir, files := tree(t)
	outer := filepath.Join(t.TempDir(), "outer.dat")
	inner := filepath.Join(t.TempDir(), "inner.dat")
	tool(t, dir, "zip", "-qr", inner, ".")
	tool(t, filepath.Dir(inner), "zip", "-q", outer, "inner.dat")
	s := openWith(t, outer, source.Options{})
	if s.Place() != outer || s.Inside() != "" || s.Changed() != nil {
		t.Errorf("%q %q %v", s.Place(), s.Inside(), s.Changed())
	}
	in, err := s.Mount(context.Background(), s.Lookup("inner.dat"), source.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	if in.Place() != outer+" › inner.dat" || in.Inside() != "inner.dat" || in.Depth != 1 || len(in.Entries()) != len(files) {
		t.Errorf("%q %q %d", in.Place(), in.Inside(), in.Depth)
	}
	a, err := s.Digest()
	if b, _ := in.Digest(); err != nil || a != b || len(a) != 64 {
		t.Errorf("digests %q and %q, %v", a, b, err)
	}
	// A file that is no archive cannot be mounted, and says where it lies.
	for i, e := range in.Entries() {
		if strings.HasSuffix(e.Path, ".txt") {
			if _, err := in.Mount(context.Background(), i, source.Options{}); err == nil || !strings.Contains(err.Error(), "not an archive") || !strings.Contains(err.Error(), "inner.dat") {
				t.Errorf("%s: %v", e.Path, err)
			}
			return
		}
	}
}
