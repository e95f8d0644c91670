package project

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"excavate/core/catalog"
	"excavate/core/link"
	"excavate/core/source"
)

// LibraryFolder is a folder whose things may be mounted.
type LibraryFolder struct {
	Path  string        `json:"path"`
	Items []LibraryItem `json:"items"`
}

// LibraryItem is a file or folder that may be mounted.
type LibraryItem struct {
	Name    string `json:"name"`
	Path    string `json:"path"`
	Folder  bool   `json:"folder"`
	Size    int64  `json:"size"` // bytes of a file
	Mounted bool   `json:"mounted"`
	Holds   []Held `json:"holds"` // of the names that were asked for
	Looked  bool   `json:"looked"`
}

// Held is a name that is asked for and the entry that would be found for it.
type Held struct {
	Name string `json:"name"`
	Path string `json:"path"`
	How  string `json:"how"`
}

const (
	mostLibraryItems = 500             // of a folder
	lookFor          = 8 * time.Second // for names, in all
	mostLookedBytes  = 8 << 30         // of an archive that is opened for a look
)

// LibraryFor lists what may be mounted into a project. With names that the
// project misses, it looks into what is not mounted, for as long as a porter
// waits, and what holds them comes first.
func (s *Sources) LibraryFor(ctx context.Context, project int64, names []string) ([]LibraryFolder, error) {
	mounted := map[string]bool{}
	sources, err := s.store.ListSources(ctx, project)
	if err != nil {
		return nil, err
	}
	for _, r := range sources {
		mounted[r.Path] = mounted[r.Path] || !r.ParentID.Valid
	}
	opt, err := s.libraries.sourceOptions(ctx, project)
	if err != nil {
		return nil, err
	}
	look, stop := context.WithTimeout(ctx, lookFor)
	defer stop()
	out := []LibraryFolder{}
	for _, dir := range s.library {
		list, err := os.ReadDir(dir)
		if err != nil {
			continue
		}
		f := LibraryFolder{Path: dir, Items: []LibraryItem{}}
		for _, e := range list {
			st, err := e.Info()
			if err != nil || strings.HasPrefix(e.Name(), ".") || !st.IsDir() && !st.Mode().IsRegular() || len(f.Items) >= mostLibraryItems {
				continue
			}
			it := LibraryItem{Name: e.Name(), Path: filepath.Join(dir, e.Name()), Folder: st.IsDir(), Holds: []Held{}}
			if !st.IsDir() {
				it.Size = st.Size()
			}
			real, err := filepath.EvalSymlinks(it.Path)
			it.Mounted = mounted[it.Path] || err == nil && mounted[real]
			if len(names) > 0 && !it.Mounted && it.Size <= mostLookedBytes {
				it.Holds, it.Looked = lookInto(look, it.Path, opt, names)
			}
			f.Items = append(f.Items, it)
		}
		slices.SortStableFunc(f.Items, func(a, b LibraryItem) int { return len(b.Holds) - len(a.Holds) })
		out = append(out, f)
	}
	slices.SortStableFunc(out, func(a, b LibraryFolder) int { return holding(b) - holding(a) })
	return out, nil
}

// holding is how many names the first item of a folder has.
func holding(f LibraryFolder) int {
	if len(f.Items) == 0 {
		return 0
	}
	return len(f.Items[0].Holds)
}

// lookInto opens what may be mounted and resolves names in it, by the rules by which
// they would be found once it is.
func lookInto(ctx context.Context, path string, opt source.Options, names []string) (out []Held, looked bool) {
	out = []Held{}
	if ctx.Err() != nil {
		return out, false
	}
	src, err := source.Open(ctx, path, opt)
	if err != nil {
		return out, ctx.Err() == nil // it is none that can be mounted
	}
	defer src.Close()
	entries := src.Entries()
	b := catalog.NewBuilder(len(entries))
	for i := range entries {
		b.Add(catalog.Entry{ID: int64(i), Path: entries[i].Path, Size: entries[i].Size})
	}
	c := catalog.New([]catalog.Source{{Label: filepath.Base(path), List: b.List()}})
	index := link.NewIndex(c, nil, nil)
	for _, name := range names {
		if row, how := index.Resolve(name, nil); row >= 0 {
			e, _ := c.Entry(row)
			out = append(out, Held{name, e.Path, how.String()})
		}
	}
	return out, true
}
