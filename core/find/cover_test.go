package find_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"excavate/core/layout"
	"excavate/core/source"
	"excavate/internal/demo"
)

// A layout that ships explains all but the reserved bytes of what it
// recognises, and says which those are; files that break it are counted by
// their reason.
func TestCoverageOfLayouts(t *testing.T) {
	lib := library(t)
	stack := demoStack(t, lib, "hulls.tide", "washes.tide", "winter.tide")
	for _, name := range []string{"hull mesh 7", "tide wash"} {
		var lay *layout.Layout
		for _, l := range lib.Layouts.All() {
			if l.Name == name || strings.HasPrefix(l.Name, strings.Fields(name)[0]) || strings.Contains(l.Name, "wash") && name == "tide wash" {
				lay = l
			}
		}
		if lay == nil {
			t.Fatalf("no layout %s", name)
		}
		var told atomic.Int64
		c, err := lib.Cover(context.Background(), lay, stack, stack, func(done, total int) {
			if done > total {
				t.Errorf("%d of %d", done, total)
			}
			told.Store(int64(done))
		})
		if err != nil {
			t.Fatal(err)
		}
		if c.Entries < 4 || c.Opened != c.Entries || c.Failed != 0 || c.Bytes == 0 || c.Explained > c.Bytes || c.Explained < c.Bytes*995/1000 || (len(c.Gaps) > 0) != (c.Explained < c.Bytes) || told.Load() == 0 {
			t.Errorf("%s: %+v", lay.Name, c)
		}
	}

	// A folder with a whole file, one that is cut off and one with bytes after its end.
	dir := t.TempDir()
	if err := demo.Write(dir, nil); err != nil {
		t.Fatal(err)
	}
	var hull []byte
	for _, s := range stack {
		if i := s.Lookup("boats/punt.hull"); i >= 0 {
			var err error
			if hull, err = s.Read(i); err != nil {
				t.Fatal(err)
			}
		}
	}
	own := filepath.Join(t.TempDir(), "own")
	if err := os.MkdirAll(own, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string][]byte{"whole.hull": hull, "cut.hull": hull[:len(hull)/2], "cut again.hull": hull[:len(hull)/2], "more.hull": append(append([]byte{}, hull...), make([]byte, 100)...), "notes.txt": []byte("reeds")} {
		if err := os.WriteFile(filepath.Join(own, name), b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	s, err := source.Open(context.Background(), own, source.Options{Layouts: lib.Layouts})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	lay := lib.LayoutOf("x.hull", hull[:64])
	c, err := lib.Cover(context.Background(), lay, source.Stack{s}, source.Stack{s}, func(int, int) {})
	if err != nil {
		t.Fatal(err)
	}
	if c.Entries != 4 || c.Failed < 2 || c.Opened+c.Failed != 4 || len(c.Faults) == 0 || c.Faults[0].Count != 2 || c.Faults[0].Message == "" {
		t.Errorf("%+v", c)
	}
	if c.Explained >= c.Bytes || len(c.Worst) == 0 {
		t.Errorf("%d of %d bytes, worst %v", c.Explained, c.Bytes, c.Worst)
	}
	for i := 1; i < len(c.Gaps); i++ {
		if c.Gaps[i].Size > c.Gaps[i-1].Size {
			t.Errorf("gaps are not in order: %v", c.Gaps)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := lib.Cover(ctx, lay, stack, stack, func(int, int) {}); err == nil {
		t.Error("stopped, it goes on")
	}
}
