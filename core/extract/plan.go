// Package extract takes entries out of sources: into a folder or a ZIP, under
// their own paths or under a target's, with nothing lost and nothing half
// done.
//
// It works in two parts. A Plan says which entry goes where; making it settles
// every question of names beforehand. Running it writes each file aside and
// renames it, notes in a journal what is done, and can so be taken up again
// after a crash where it stopped.
package extract

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"excavate/core/distinct"
	"excavate/core/source"
)

// Policy says what happens where a file of the same name is there already.
type Policy string

// The policies.
const (
	Refuse   Policy = "refuse"    // the same content is left alone, other content is an error of that entry
	Skip     Policy = "skip"      // what is there stays
	Replace  Policy = "replace"   // what is there goes, once the new file is whole
	KeepBoth Policy = "keep-both" // the new file gets another name
)

// Policies lists them.
var Policies = []Policy{Refuse, Skip, Replace, KeepBoth}

// Mapping puts entries whose path begins with From below To instead. The
// longest From that fits counts.
type Mapping struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Ref is one entry of one of the plan's sources.
type Ref struct{ Source, Entry int }

// Item is one entry and where it goes: a path with / between segments,
// relative to the folder or in the ZIP.
type Item struct {
	Ref
	To string
}

// Change is a name that had to be another one than the entry's.
type Change struct {
	Entry string `json:"entry"`
	To    string `json:"to"`
	Why   string `json:"why"`
}

// Plan is what is to be taken out.
type Plan struct {
	Items   []Item
	Bytes   int64 // unpacked, as declared
	Skipped int64 // left out because something of that name is there
	Changes []Change
	Folders []string // that are made with nothing in them
}

// Options of a plan.
type Options struct {
	Map    []Mapping
	Policy Policy
	// Dir is the folder that is written to; names that it holds already count.
	// Empty for a ZIP.
	Dir string
	// Flat puts every file directly in the folder.
	Flat bool
	// Empty makes those folders of the archives too in which nothing lies.
	Empty bool
}

// NewPlan settles where each entry goes. Two entries of one path (from two
// sources) are kept apart; callers who want only the one that wins leave the
// others out.
func NewPlan(sources []*source.Source, refs []Ref, o Options) (*Plan, error) {
	p := &Plan{Items: make([]Item, 0, len(refs))}
	maps := make([]Mapping, 0, len(o.Map))
	for _, m := range o.Map {
		to := strings.Trim(path.Clean("/"+strings.ReplaceAll(m.To, "\\", "/")), "/")
		maps = append(maps, Mapping{strings.TrimLeft(strings.ReplaceAll(m.From, "\\", "/"), "/"), to})
	}
	fold := o.Dir == "" // a ZIP may be opened anywhere
	var root *os.Root
	if o.Dir != "" {
		var err error
		if root, err = os.OpenRoot(o.Dir); err == nil {
			defer root.Close()
			fold = foldsCase(root)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	key := func(s string) string {
		if fold {
			return strings.ToLower(s)
		}
		return s
	}
	files := make(map[string]bool, len(refs)) // names given away
	numbers := distinct.Numbers{}
	folders := map[string]bool{}
	place := func(p string) (to string, changed bool) {
		to = mapped(p, maps, o.Flat)
		if o.Dir != "" {
			return to, false
		}
		t := portable(to)
		return t, t != to
	}
	for _, r := range refs {
		to, _ := place(sources[r.Source].Entries()[r.Entry].Path)
		for d := path.Dir(to); d != "." && !folders[key(d)]; d = path.Dir(d) {
			folders[key(d)] = true
		}
	}
	for _, r := range refs {
		e := &sources[r.Source].Entries()[r.Entry]
		to, changed := place(e.Path)
		why := ""
		if changed {
			why = "not every file system can hold its name"
		}
		there := false
		if root != nil && o.Policy != Refuse && o.Policy != Replace && o.Policy != "" {
			_, err := root.Lstat(to)
			there = err == nil
		}
		if there && o.Policy == Skip {
			p.Skipped++
			continue
		}
		if files[key(to)] || folders[key(to)] || there {
			switch {
			case folders[key(to)]:
				why = "a folder has this name"
			case files[key(to)] && files[to] || !fold && files[to]:
				why = "another entry has this name"
			case there:
				why = "a file of this name is there already"
			default:
				why = "another entry's name differs only in capitals"
			}
			ext := path.Ext(to)
			base := strings.TrimSuffix(to, ext)
			numbers.Next(key(to), func(n int) bool {
				to = fmt.Sprintf("%s~%d%s", base, n, ext)
				if files[key(to)] || folders[key(to)] {
					return false
				}
				if root == nil {
					return true
				}
				_, err := root.Lstat(to)
				return err != nil
			})
		}
		files[key(to)] = true
		files[to] = true
		if why != "" {
			p.Changes = append(p.Changes, Change{e.Path, to, why})
		}
		p.Items = append(p.Items, Item{r, to})
		if e.Size > 0 && e.Err == nil {
			p.Bytes += e.Size
			if p.Bytes < 0 {
				return nil, fmt.Errorf("the entries declare more bytes than can be counted; that looks like a trap")
			}
		}
	}
	for _, s := range sources {
		if !o.Empty || o.Flat {
			break
		}
		for _, f := range s.EmptyFolders() {
			to, _ := place(f)
			switch {
			case files[key(to)]:
				p.Changes = append(p.Changes, Change{f + "/", "", "it is an empty folder, and a file has this name"})
			case !folders[key(to)]:
				folders[key(to)] = true
				p.Folders = append(p.Folders, to)
			}
		}
	}
	return p, nil
}

func mapped(p string, maps []Mapping, flat bool) string {
	if flat {
		return path.Base(p)
	}
	best := -1
	for i, m := range maps {
		if strings.HasPrefix(p, m.From) && len(m.From) < len(p) && (best < 0 || len(m.From) > len(maps[best].From)) {
			best = i
		}
	}
	if best < 0 {
		return p
	}
	rest := strings.TrimLeft(p[len(maps[best].From):], "/")
	return path.Join(maps[best].To, rest)
}

// portable changes what common file systems refuse: device names, and dots or
// spaces at the end.
func portable(p string) string {
	segs := strings.Split(p, "/")
	for i, s := range segs {
		t := strings.TrimRight(s, ". ")
		if t == "" {
			t = "_"
		}
		stem, _, _ := strings.Cut(strings.ToLower(t), ".")
		switch stem {
		case "con", "prn", "aux", "nul", "com1", "com2", "com3", "com4", "com5", "com6", "com7", "com8", "com9", "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9":
			t = "_" + t
		}
		segs[i] = t
	}
	return strings.Join(segs, "/")
}

// foldsCase tells whether a folder takes two names that differ in capitals
// for one.
func foldsCase(root *os.Root) bool {
	const a, b = ".excavate-Case", ".excavate-case"
	f, err := root.Create(a)
	if err != nil {
		return false
	}
	f.Close()
	defer root.Remove(a)
	_, err = root.Lstat(b)
	return err == nil
}
