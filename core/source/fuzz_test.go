package source_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/source"
	"excavate/internal/demo"
)

// FuzzOpen mounts and unpacks damaged archives: whatever they say, nothing
// lands outside the folder.
func FuzzOpen(f *testing.F) {
	f.Add(demo.Pack(plain))
	f.Add(demo.Pack([]demo.PackEntry{{Name: "../../x", Data: []byte("y")}, {Name: "a\\b", Data: []byte("z"), Packing: 1}}))
	f.Add([]byte("PK\x05\x06" + strings.Repeat("\x00", 18)))
	l := set(f)
	f.Fuzz(func(t *testing.T, b []byte) {
		parent := t.TempDir()
		p := filepath.Join(parent, "file")
		if err := os.WriteFile(p, b, 0o644); err != nil {
			t.Fatal(err)
		}
		s, err := source.Open(context.Background(), p, l)
		if err != nil {
			return
		}
		defer s.Close()
		dir := filepath.Join(parent, "deep", "er")
		if _, err := source.Unpack(context.Background(), s, dir, "", nil); err != nil {
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
