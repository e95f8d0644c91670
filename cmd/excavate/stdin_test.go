package main

import (
	"os"
	"path/filepath"
	"testing"
)

// An archive may come in by the standard input, of whatever kind it is.
func TestArchivesFromStandardInput(t *testing.T) {
	dir := demoData(t)
	was := os.Stdin
	defer func() { os.Stdin = was }()
	for _, name := range []string{"hulls.tide", "harbour.zip"} {
		feed := func() {
			f, err := os.Open(filepath.Join(dir, name))
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { f.Close() })
			os.Stdin = f
		}
		feed()
		if got, want := must(t, "list", "-"), must(t, "list", filepath.Join(dir, name)); got != want {
			t.Errorf("%s lists\n%s\nnot\n%s", name, got, want)
		}
		feed()
		to := t.TempDir()
		must(t, "unpack", "-", "-o", to)
		if n, _ := os.ReadDir(to); len(n) == 0 {
			t.Errorf("%s: nothing was unpacked", name)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "standard-input-*")); len(left) > 0 {
		t.Errorf("%q is left over", left)
	}
}
