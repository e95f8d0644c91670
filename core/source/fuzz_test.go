package source_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/extract"
	"excavate/core/source"
	"excavate/internal/demo"
)

// FuzzOpen mounts and unpacks damaged archives: whatever they say, nothing
// lands outside the folder.
func FuzzOpen(f *testing.F) {
	f.Add(demo.Pack(plain))
	f.Add(demo.Pack([]demo.PackEntry{{Name: "../../x", Data: []byte("y")}, {Name: "a\\b", Data: []byte("z"), Packing: 1}}))
	f.Add([]byte("PK\x05\x06" + strings.Repeat("\x00", 18)))
	// What other programs write, whole and cut off.
	dir := f.TempDir()
	os.WriteFile(filepath.Join(dir, "reed.txt"), []byte(strings.Repeat("reed and water ", 40)), 0o644)
	for _, c := range [][]string{{"zip", "-q", "a.zip", "reed.txt"}, {"tar", "cf", "a.tar", "reed.txt"}, {"tar", "czf", "a.tgz", "reed.txt"}, {"7z", "a", "-bd", "-y", "a.7z", "reed.txt"}, {"xz", "-k", "reed.txt"}, {"zstd", "-q", "reed.txt"}, {"bzip2", "-k", "reed.txt"}} {
		cmd := exec.Command(c[0], c[1:]...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			f.Fatalf("%q: %v %s", c, err, out)
		}
	}
	for _, n := range []string{"a.zip", "a.tar", "a.tgz", "a.7z", "reed.txt.xz", "reed.txt.zst", "reed.txt.bz2"} {
		b, err := os.ReadFile(filepath.Join(dir, n))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
		f.Add(b[:len(b)*2/3])
	}
	l := set(f)
	f.Fuzz(func(t *testing.T, b []byte) {
		parent := t.TempDir()
		p := filepath.Join(parent, "file")
		if err := os.WriteFile(p, b, 0o644); err != nil {
			t.Fatal(err)
		}
		s, err := source.Open(context.Background(), p, source.Options{Layouts: l})
		if err != nil {
			return
		}
		defer s.Close()
		dir := filepath.Join(parent, "deep", "er")
		if _, err := extract.Unpack(context.Background(), s, dir, "", nil); err != nil && !strings.Contains(err.Error(), "disk") {
			t.Fatal(err)
		}
		filepath.WalkDir(parent, func(q string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() && q != p && !strings.HasPrefix(q, dir+string(filepath.Separator)) {
				t.Fatalf("%s lies outside %s", q, dir)
			}
			return nil
		})
	})
}
