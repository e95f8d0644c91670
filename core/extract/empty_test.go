package extract_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"excavate/core/extract"
	"excavate/core/source"
)

// Folders in which nothing lies are made as well, in a folder and in a ZIP,
// each once, and not where a file has their name.
func TestEmptyFoldersAreMade(t *testing.T) {
	names := []string{"a/", "a/b/", "a/b/c/", "full/", "full/x.txt", "../out/", "twice/", "twice/", "/", "a/b/"}
	var z, tr bytes.Buffer
	zw, tw := zip.NewWriter(&z), tar.NewWriter(&tr)
	for _, n := range names {
		w, err := zw.Create(n)
		if err != nil {
			t.Fatal(err)
		}
		h := &tar.Header{Name: n, Mode: 0o755, Typeflag: tar.TypeDir}
		if n == "full/x.txt" {
			w.Write([]byte("x"))
			h.Typeflag, h.Size = tar.TypeReg, 1
		}
		if err := tw.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if h.Size > 0 {
			tw.Write([]byte("x"))
		}
	}
	zw.Close()
	tw.Close()
	want := []string{"a", "a/b", "a/b/c", "full", "full/x.txt", "out", "twice"}
	for name, data := range map[string][]byte{"in.zip": z.Bytes(), "in.tar": tr.Bytes()} {
		dir := t.TempDir()
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, data, 0o600); err != nil {
			t.Fatal(err)
		}
		s, err := source.Open(t.Context(), file, source.Options{})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if _, err := extract.Unpack(t.Context(), s, filepath.Join(dir, "to"), "", nil); err != nil {
			t.Fatal(err)
		}
		if got := listed(t, filepath.Join(dir, "to")); !slices.Equal(got, want) {
			t.Errorf("%s: %q", name, got)
		}
		refs, err := extract.Matching([]*source.Source{s}, "")
		if err != nil {
			t.Fatal(err)
		}
		plan, err := extract.NewPlan([]*source.Source{s}, refs, extract.Options{Empty: true})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := (&extract.Job{Plan: plan, Sources: []*source.Source{s}, Zip: filepath.Join(dir, "to.zip")}).Run(t.Context()); err != nil {
			t.Fatal(err)
		}
		r, err := zip.OpenReader(filepath.Join(dir, "to.zip"))
		if err != nil {
			t.Fatal(err)
		}
		var in []string
		for _, f := range r.File {
			in = append(in, f.Name)
		}
		r.Close()
		if slices.Sort(in); fmt.Sprint(in) != "[a/ a/b/ a/b/c/ full/x.txt out/ twice/]" {
			t.Errorf("%s: the ZIP holds %q", name, in)
		}
	}
}

func listed(t *testing.T, dir string) (out []string) {
	t.Helper()
	filepath.WalkDir(dir, func(p string, _ os.DirEntry, err error) error {
		if rel, _ := filepath.Rel(dir, p); rel != "." {
			out = append(out, filepath.ToSlash(rel))
		}
		return err
	})
	slices.Sort(out)
	return out
}
