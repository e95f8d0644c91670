package project

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/distinct"
	"excavate/core/recipe"
	"excavate/core/source"
	"excavate/core/terms"
)

// Recipe is all that a project knows without one byte of its sources: names and
// digests, layouts, name rules, pins, readings, chains and sheets. What sources
// say of themselves, such as their licences, stays in them.
func (s *Projects) Recipe(ctx context.Context, project int64) (*recipe.Recipe, error) {
	d, err := s.Export(ctx, project)
	if err != nil {
		return nil, err
	}
	stack, err := s.sources.Stack(ctx, project)
	if err != nil {
		return nil, err
	}
	r := &recipe.Recipe{Format: 1, Excavate: s.version, Name: d.Name, Sources: []recipe.Source{},
		Items: []recipe.Item{}}
	for i := range d.Sources {
		x := &d.Sources[i]
		out := recipe.Source{Name: filepath.Base(x.Path), Entries: []string{}}
		if x.Within > 0 {
			out.Name = x.Inside
		}
		for _, src := range stack {
			if src.Label == x.Label {
				out.SHA256, _ = src.Digest() // a folder has none
			}
		}
		var t terms.Terms
		if json.Unmarshal(x.Rights, &t) != nil || !t.ByHand {
			x.Rights = nil
		} else {
			t.Permission = nil // a letter is somebody's own
			x.Rights = asJSON(t)
		}
		x.Path, x.Origin = "", "path"
		r.Sources = append(r.Sources, out)
	}
	var names distinct.Names // as files are called; the project has their own
	for _, l := range d.Layouts {
		if n := len(l.Versions); n > 0 {
			r.Layouts = append(r.Layouts, recipe.Layout{Name: names.Name(delivery.FileName(l.Name, ""), "_"),
				Text: l.Versions[n-1]})
		}
	}
	for _, c := range d.Chains {
		item, err := s.recipeItem(ctx, d, c)
		if err != nil {
			return nil, err
		}
		if item != nil {
			r.Items = append(r.Items, *item)
		}
	}
	r.Project = asJSON(d)
	return r, r.Check()
}

// recipeItem is a chain with what it runs on; nil where that is gone.
func (s *Projects) recipeItem(ctx context.Context, d *Document, c ChainDoc) (*recipe.Item, error) {
	if c.Find < 1 || c.Find > len(d.Finds) {
		return nil, nil
	}
	f, err := s.store.GetFind(ctx, d.Finds[c.Find-1].id)
	if err != nil {
		return nil, err
	}
	in, err := s.deliveries.inputOf(ctx, f)
	if err != nil || in == nil {
		return nil, err
	}
	item := &recipe.Item{Asset: f.Name, Input: *in, Chain: &chain.Chain{Name: c.Name, Steps: c.Steps}}
	if sheet, err := s.sheets.Get(ctx, c.Target); err == nil {
		item.Sheet = string(sheet.Text)
	}
	return item, nil
}

// RecipeLook is what opening a recipe does, before anything is done.
type RecipeLook struct {
	Name    string
	By      string // who signed it
	Problem string // that it was changed since
	Lines   []string
	Sources []FoundSource
	// Whole tells whether it holds a project, not only deliveries.
	Whole bool
}

// FoundSource is a source of a recipe and where an own copy lies.
type FoundSource struct {
	Name string
	Path string // empty where none is found
	Same bool   // by its digest
}

// LookAtRecipe tells what a recipe holds, and which of its sources lie in the
// library.
func (s *Projects) LookAtRecipe(ctx context.Context, text []byte) (*recipe.Recipe, *RecipeLook, error) {
	r, err := recipe.Parse(text)
	if err != nil {
		return nil, nil, errorf(Unusable, "the recipe cannot be read: %v", err)
	}
	out := &RecipeLook{Name: r.Name, Whole: len(r.Project) > 0}
	if by, err := r.Signed(); err != nil {
		out.Problem = err.Error()
	} else {
		out.By = by
	}
	lib := copies{files: s.libraryFiles(), digests: map[string]string{}}
	for _, x := range r.Sources {
		out.Sources = append(out.Sources, lib.ownCopy(ctx, x))
	}
	out.Lines = r.Plan(nil)
	return r, out, nil
}

// Bounds on looking through the library for own copies.
const (
	mostLibraryFiles = 20_000
	libraryDepth     = 5
)

// libraryFiles lists what lies in the library folders.
func (s *Projects) libraryFiles() (out []string) {
	for _, root := range s.library {
		filepath.WalkDir(root, func(p string, e fs.DirEntry, err error) error {
			switch {
			case err != nil || len(out) >= mostLibraryFiles:
				return filepath.SkipDir
			case e.IsDir() && strings.Count(strings.TrimPrefix(p, root), string(filepath.Separator)) > libraryDepth:
				return filepath.SkipDir
			case p != root:
				out = append(out, p)
			}
			return nil
		})
	}
	return out
}

// copies are what lies in the library folders while copies are looked for.
type copies struct {
	files   []string
	digests map[string]string // of those that were read: each is once
}

// digest is a file's; empty where it is none or cannot be read.
func (l *copies) digest(p string) string {
	d, ok := l.digests[p]
	if !ok {
		if st, err := os.Stat(p); err == nil && st.Mode().IsRegular() {
			d, _ = source.FileDigest(p)
		}
		l.digests[p] = d
	}
	return d
}

// ownCopy looks for a source by its digest among those of its name, else of its
// ending, and by its name alone.
func (l *copies) ownCopy(ctx context.Context, x recipe.Source) FoundSource {
	out := FoundSource{Name: x.Name}
	named := func(p string) bool { return strings.EqualFold(filepath.Base(p), filepath.Base(x.Name)) }
	for pass := range 2 {
		for _, p := range l.files {
			if ctx.Err() != nil {
				return out
			}
			if pass == 0 != named(p) || pass == 1 && !strings.EqualFold(filepath.Ext(p), filepath.Ext(x.Name)) {
				continue
			}
			if x.SHA256 != "" && l.digest(p) == x.SHA256 {
				out.Path, out.Same = p, true
				return out
			}
			if pass == 0 && out.Path == "" {
				out.Path = p
			}
		}
		if out.Path != "" {
			return out
		}
	}
	return out
}

// OpenRecipe makes a project of a recipe with the own copies that lie in the
// library. remarks are what differs here.
func (s *Projects) OpenRecipe(ctx context.Context, text []byte, changed bool) (project int64, remarks []string,
	err error) {
	r, look, err := s.LookAtRecipe(ctx, text)
	if err != nil {
		return 0, nil, err
	}
	if look.Problem != "" && !changed {
		return 0, nil, errorf(Conflict, "the recipe is not what was signed: %s", look.Problem)
	}
	if !look.Whole {
		return 0, nil, errorf(Unusable,
			"it is the recipe of a delivery, not of a project: open it with excavate recipe open")
	}
	var d Document
	if err := json.Unmarshal(r.Project, &d); err != nil {
		return 0, nil, errorf(Unusable, "the project in the recipe cannot be read: %v", err)
	}
	if d.Version != documentVersion || len(d.Sources) != len(look.Sources) {
		return 0, nil, errorf(Unusable,
			"the project in the recipe is of another version, or its sources are not those of the recipe")
	}
	for i, f := range look.Sources {
		if d.Sources[i].Within > 0 {
			continue
		}
		d.Sources[i].Path = f.Path
		switch {
		case f.Path == "":
			d.Sources[i].Path = f.Name
			remarks = append(remarks, f.Name+": no copy of it lies in the library folders")
		case !f.Same && r.Sources[i].SHA256 != "":
			remarks = append(remarks, f.Name+": another version lies here; it is used")
		}
	}
	// Sheets that are not here are kept as the porter's own.
	for _, x := range r.Items {
		if x.Sheet == "" {
			continue
		}
		if err := s.bringSheet(ctx, x, &d); err != nil {
			return 0, nil, err
		}
	}
	project, more, err := s.bring(ctx, &d, false)
	for _, m := range more {
		if !strings.Contains(m, " is not at ") { // said already
			remarks = append(remarks, m)
		}
	}
	return project, remarks, err
}

// bringSheet makes a recipe's sheet one of those here, and names it in the
// chains that it was for.
func (s *Projects) bringSheet(ctx context.Context, x recipe.Item, d *Document) error {
	list, err := s.sheets.List(ctx)
	if err != nil {
		return err
	}
	id := ""
	for _, k := range list {
		if string(k.Text) == x.Sheet {
			id = k.ID
		}
	}
	if id == "" {
		if id, err = s.sheets.Create(ctx, []byte(x.Sheet)); err != nil {
			return fmt.Errorf("the sheet of %s: %w", x.Asset, err)
		}
	}
	for i := range d.Chains {
		c := &d.Chains[i]
		if c.Name == x.Chain.Name && c.Find >= 1 && c.Find <= len(d.Finds) && d.Finds[c.Find-1].Path == x.Input.Entry {
			c.Target = id
		}
	}
	return nil
}
