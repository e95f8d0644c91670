package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"unicode"

	"excavate/core/chain"
	"excavate/core/geom"
	"excavate/core/naming"
	"excavate/core/terms"
	"excavate/internal/store/db"
)

// Document is a project as a file: what the porter did, without the bytes of
// the sources and without what is computed from them. Sources are named by
// their paths and mounted again where they lie.
type Document struct {
	Excavate  string          `json:"excavate"` // always "project"
	Version   int             `json:"version"`
	Name      string          `json:"name"`
	Sources   []SourceDoc     `json:"sources"`
	Rules     json.RawMessage `json:"nameRules,omitempty"`
	Pins      []PinDoc        `json:"pins,omitempty"`
	Layouts   []LayoutDoc     `json:"layouts,omitempty"`
	Bookmarks []BookmarkDoc   `json:"bookmarks,omitempty"`
	Finds     []FindDoc       `json:"finds,omitempty"`
	Chains    []ChainDoc      `json:"chains,omitempty"`
}

// documentVersion rises when a document means something else.
const documentVersion = 1

// SourceDoc is a source. Within is the place of the source that it lies in, in
// the list of sources counted from 1; 0 is none.
type SourceDoc struct {
	Label  string          `json:"label"`
	Path   string          `json:"path"`
	Within int             `json:"within,omitempty"`
	Inside string          `json:"inside,omitempty"` // its entry there
	Origin string          `json:"origin"`
	Rights json.RawMessage `json:"rights,omitempty"`
}

// PinDoc binds a name that files ask for to an entry.
type PinDoc struct {
	Ref    string `json:"ref"`
	Source string `json:"source"`
	Path   string `json:"path"`
}

// LayoutDoc is a layout with all its versions, the oldest first.
type LayoutDoc struct {
	Name     string   `json:"name"`
	Versions []string `json:"versions"`
}

// BookmarkDoc is a bookmark on an entry. Source counts from 1.
type BookmarkDoc struct {
	Source int    `json:"source"`
	Path   string `json:"path"`
	At     int64  `json:"at"`
	Size   int64  `json:"size"`
	Note   string `json:"note"`
}

// FindDoc is a find. Source counts from 1; 0 is one that is not mounted.
type FindDoc struct {
	Name     string          `json:"name"`
	Source   int             `json:"source"`
	Label    string          `json:"label"`
	Path     string          `json:"path"`
	Readings json.RawMessage `json:"readings,omitempty"`
	Basis    json.RawMessage `json:"basis,omitempty"`

	id int64 // in the project that was written
}

// ChainDoc is a chain of a find, which counts from 1.
type ChainDoc struct {
	Find   int          `json:"find"`
	Name   string       `json:"name"`
	Target string       `json:"target"`
	Steps  []chain.Step `json:"steps"`
}

// Rename gives a project another name.
func (s *Projects) Rename(ctx context.Context, project int64, name string) error {
	name = strings.TrimSpace(name)
	if name == "" {
		return errorf(Invalid, "a project needs a name")
	}
	n, err := s.store.RenameProject(ctx, db.RenameProjectParams{NewName: name, ID: project})
	if err == nil && n == 0 {
		return errorf(NotFound, "there is no project %d", project)
	}
	return err
}

// Delete deletes a project with all that was made in it. What its sources lie
// in stays, but for copies of ours that nothing else uses.
func (s *Projects) Delete(ctx context.Context, project int64) error {
	paths, err := s.store.SourcePathsOf(ctx, db.SourcePathsOfParams{ID: project, BinOf: nullInt(project)})
	if err != nil {
		return err
	}
	n, err := s.store.DeleteProject(ctx, project)
	if err != nil {
		return err
	}
	if n == 0 {
		return errorf(NotFound, "there is no project %d", project)
	}
	for _, p := range paths {
		s.sources.dropCopy(ctx, db.Source{Path: p})
	}
	return nil
}

// Copy makes a project with the same sources and work, and without deliveries.
// What was computed is shared.
func (s *Projects) Copy(ctx context.Context, project int64, name string) (int64, error) {
	doc, err := s.Export(ctx, project)
	if err != nil {
		return 0, err
	}
	if name = strings.TrimSpace(name); name != "" {
		doc.Name = name
	}
	id, _, err := s.bring(ctx, doc, true)
	return id, err
}

// Export writes a project down.
func (s *Projects) Export(ctx context.Context, project int64) (*Document, error) {
	row, err := s.store.GetProject(ctx, project)
	if row, err = Known(row, err, "project", project); err != nil {
		return nil, err
	}
	d := &Document{Excavate: "project", Version: documentVersion, Name: row.Name, Sources: []SourceDoc{}}
	sources, err := s.store.ListSources(ctx, project)
	if err != nil {
		return nil, err
	}
	place := map[int64]int{}
	for i, r := range sources {
		place[r.ID] = i + 1
	}
	for _, r := range sources {
		d.Sources = append(d.Sources, SourceDoc{Label: r.Label, Path: r.Path, Within: place[r.ParentID.Int64], Inside: r.Inside, Origin: r.Origin, Rights: r.Rights})
	}
	if d.Rules, err = s.store.GetRules(ctx, project); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	pins, err := s.store.ListPins(ctx, project)
	if err != nil {
		return nil, err
	}
	for _, p := range pins {
		d.Pins = append(d.Pins, PinDoc{p.Ref, p.SourceLabel, p.EntryPath})
	}
	if err := s.exportLayouts(ctx, project, d); err != nil {
		return nil, err
	}
	marks, err := s.store.BookmarksOfProject(ctx, project)
	if err != nil {
		return nil, err
	}
	for _, m := range marks {
		d.Bookmarks = append(d.Bookmarks, BookmarkDoc{place[m.SourceID], m.Path, m.Off, m.Size, m.Note})
	}
	return d, s.exportFinds(ctx, project, place, d)
}

func (s *Projects) exportLayouts(ctx context.Context, project int64, d *Document) error {
	layouts, err := s.store.ListLayouts(ctx, project)
	if err != nil {
		return err
	}
	for _, l := range layouts {
		out := LayoutDoc{Name: l.Name}
		for no := int32(1); no <= l.Head; no++ {
			doc, err := s.store.LayoutVersion(ctx, db.LayoutVersionParams{LayoutID: l.ID, No: no})
			if err != nil {
				return err
			}
			out.Versions = append(out.Versions, string(doc))
		}
		d.Layouts = append(d.Layouts, out)
	}
	return nil
}

func (s *Projects) exportFinds(ctx context.Context, project int64, place map[int64]int, d *Document) error {
	finds, err := s.store.ListFinds(ctx, project)
	if err != nil {
		return err
	}
	number := map[int64]int{}
	for _, row := range finds {
		f, err := s.store.GetFind(ctx, row.ID)
		if err != nil {
			return err
		}
		d.Finds = append(d.Finds, FindDoc{Name: f.Name, Source: place[f.SourceID.Int64], Label: f.SourceLabel, Path: f.EntryPath, Readings: f.Readings, Basis: f.Basis, id: f.ID})
		number[f.ID] = len(d.Finds)
	}
	chains, err := s.store.ListChains(ctx, project)
	if err != nil {
		return err
	}
	for _, c := range chains {
		out := ChainDoc{Find: number[c.FindID], Name: c.Name, Target: c.Target}
		steps, err := s.store.GetRevision(ctx, db.GetRevisionParams{ChainID: c.ID, No: c.Head})
		if err != nil {
			return err
		}
		if err := json.Unmarshal(steps, &out.Steps); err != nil {
			return err
		}
		d.Chains = append(d.Chains, out)
	}
	return nil
}

// Import makes a project of a document. remarks are what could not be had
// here: sources that are not at their paths or may not be read.
func (s *Projects) Import(ctx context.Context, text []byte) (project int64, remarks []string, err error) {
	var d Document
	if err := json.Unmarshal(text, &d); err != nil {
		return 0, nil, errorf(Invalid, "the file is no project: %v", err)
	}
	if d.Excavate != "project" {
		return 0, nil, errorf(Invalid, `the file is no project: it does not say "excavate": "project"`)
	}
	if d.Version != documentVersion {
		return 0, nil, errorf(Invalid, "the project was written in version %d; this Excavate reads version %d",
			d.Version, documentVersion)
	}
	return s.bring(ctx, &d, false)
}

// Limits of a document that is brought in.
const (
	mostDocSources = 1000
	mostDocThings  = 100_000 // finds, chains, layouts, pins or bookmarks
)

func (d *Document) check() error {
	if d.Name = oneLine(d.Name, 200); d.Name == "" {
		return errorf(Invalid, "the project in the file has no name")
	}
	if len(d.Sources) > mostDocSources {
		return errorf(Invalid, "the file has %d sources; a project has at most %d", len(d.Sources), mostDocSources)
	}
	for what, n := range map[string]int{"pins": len(d.Pins), "layouts": len(d.Layouts), "bookmarks": len(d.Bookmarks), "finds": len(d.Finds), "chains": len(d.Chains)} {
		if n > mostDocThings {
			return errorf(Invalid, "the file has %d %s; at most %d are read", n, what, mostDocThings)
		}
	}
	for i, x := range d.Sources {
		if x.Within < 0 || x.Within > i {
			return errorf(Invalid, "source %d of the file lies within source %d, which is not before it", i+1, x.Within)
		}
	}
	for i, x := range d.Finds {
		if x.Source < 0 || x.Source > len(d.Sources) {
			return errorf(Invalid, "find %d of the file is of source %d, and there are %d", i+1, x.Source, len(d.Sources))
		}
	}
	for i, x := range d.Chains {
		if x.Find < 1 || x.Find > len(d.Finds) {
			return errorf(Invalid, "chain %d of the file is of find %d, and there are %d", i+1, x.Find, len(d.Finds))
		}
	}
	for i, x := range d.Bookmarks {
		if x.Source < 1 || x.Source > len(d.Sources) || x.At < 0 || x.Size < 0 {
			return errorf(Invalid, "bookmark %d of the file is on no source of it", i+1)
		}
	}
	return nil
}

// bring makes a project of a document; ours says that it was written here a
// moment ago, so that its paths are known to be allowed and what was computed
// still holds. A document that fails leaves nothing behind.
func (s *Projects) bring(ctx context.Context, d *Document, ours bool) (project int64, remarks []string, err error) {
	if err := d.check(); err != nil {
		return 0, nil, err
	}
	project, err = s.store.CreateProject(ctx, d.Name)
	if err != nil {
		return 0, nil, err
	}
	defer func(made int64) {
		if err != nil {
			s.store.DeleteProject(context.WithoutCancel(ctx), made)
		}
	}(project)
	for _, l := range d.Layouts {
		if err := s.bringLayout(ctx, project, l); err != nil {
			return 0, nil, fmt.Errorf("layout %q: %w", l.Name, err)
		}
	}
	ids, remarks, err := s.bringSources(ctx, project, d, ours)
	if err != nil {
		return 0, nil, err
	}
	if len(d.Rules) > 0 {
		var rules naming.Rules
		if err := json.Unmarshal(d.Rules, &rules); err != nil {
			return 0, nil, errorf(Invalid, "the name rules of the file cannot be read: %v", err)
		}
		if err := s.sources.SetRules(ctx, project, rules); err != nil {
			return 0, nil, err
		}
	}
	for _, p := range d.Pins {
		pin := db.PutPinParams{ProjectID: project, Ref: p.Ref, SourceLabel: p.Source, EntryPath: p.Path}
		if err := s.store.PutPin(ctx, pin); err != nil {
			return 0, nil, err
		}
	}
	for _, b := range d.Bookmarks {
		if id := ids[b.Source-1]; id != 0 {
			p := db.BookmarkToComeParams{SourceID: id, Path: b.Path, Off: b.At, Size: b.Size, Note: b.Note}
			if err := s.store.BookmarkToCome(ctx, p); err != nil {
				return 0, nil, err
			}
		}
	}
	for i, id := range ids {
		if id != 0 {
			if err := s.queueIndex(ctx, project, id, d.Sources[i].Label); err != nil {
				return 0, nil, err
			}
		}
	}
	if err := s.bringFinds(ctx, project, d, ids, ours); err != nil {
		return 0, nil, err
	}
	return project, remarks, nil
}

func (s *Projects) bringLayout(ctx context.Context, project int64, l LayoutDoc) error {
	if len(l.Versions) == 0 {
		return nil
	}
	id, err := s.layouts.Create(ctx, project, l.Name, []byte(l.Versions[0]))
	for i := 1; i < len(l.Versions) && err == nil; i++ {
		err = s.layouts.Save(ctx, id, i, []byte(l.Versions[i]))
	}
	return err
}

// bringSources adds the sources that may be read here; the id of another is 0.
func (s *Projects) bringSources(
	ctx context.Context, project int64, d *Document, ours bool,
) (ids []int64, remarks []string, err error) {
	ids = make([]int64, len(d.Sources))
	for i, x := range d.Sources {
		p := db.CreateSourceParams{ProjectID: project, Path: x.Path, Label: x.Label, Inside: x.Inside, Origin: x.Origin, Rights: asJSON(terms.Terms{})}
		if !ours {
			p.Origin = "path"
		}
		if len(x.Rights) > 0 {
			var t terms.Terms
			if err := json.Unmarshal(x.Rights, &t); err != nil {
				return nil, nil, errorf(Invalid, "the terms of source %d of the file cannot be read: %v", i+1, err)
			}
			p.Rights = asJSON(t)
		}
		if x.Within > 0 {
			if ids[x.Within-1] == 0 {
				continue // it was said of the one that it lies in
			}
			p.ParentID = sql.NullInt64{Int64: ids[x.Within-1], Valid: true}
			p.Path = "" // that of the source that it lies in
			row, err := s.store.GetSource(ctx, ids[x.Within-1])
			if err != nil {
				return nil, nil, err
			}
			p.Path = row.Path
		} else if !ours {
			real, err := filepath.EvalSymlinks(filepath.Clean(x.Path))
			if err == nil {
				_, err = os.Stat(real)
			}
			switch {
			case err != nil:
				remarks = append(remarks, fmt.Sprintf("%s is not at %s: add it when it is there", x.Label, x.Path))
				continue
			case !s.sources.inLibrary(real):
				remarks = append(remarks, fmt.Sprintf("%s lies outside the library folders, at %s: start Excavate with --library to allow its folder, then add it", x.Label, x.Path))
				continue
			}
			p.Path = real
		}
		if p.Label = oneLine(p.Label, 60); p.Label == "" {
			p.Label = oneLine(filepath.Base(p.Path), 60)
		}
		err := s.store.Tx(ctx, func(q *db.Queries) (err error) {
			ids[i], err = q.CreateSource(ctx, p)
			return err
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return ids, remarks, nil
}

func (s *Projects) bringFinds(ctx context.Context, project int64, d *Document, sources []int64, ours bool) error {
	finds := make([]int64, len(d.Finds))
	for i, f := range d.Finds {
		p := db.BringFindParams{ProjectID: project, SourceLabel: oneLine(f.Label, 60), EntryPath: f.Path, Name: oneLine(f.Name, 60), Readings: json.RawMessage("{}"), Basis: json.RawMessage("null")}
		if f.Source > 0 && sources[f.Source-1] != 0 {
			p.SourceID = nullInt(sources[f.Source-1])
		}
		var readings map[string]string
		if len(f.Readings) > 0 {
			if err := json.Unmarshal(f.Readings, &readings); err != nil {
				return errorf(Invalid, "the readings of find %d of the file: %v", i+1, err)
			}
			p.Readings = f.Readings
		}
		if len(f.Basis) > 0 {
			if !validBasis(f.Basis) {
				return errorf(Invalid, "the basis of find %d of the file cannot be read", i+1)
			}
			p.Basis = f.Basis
		}
		id, err := s.store.BringFind(ctx, p)
		if err != nil {
			return err
		}
		finds[i] = id
		if ours {
			if err := s.store.CopyDecoded(ctx, db.CopyDecodedParams{Original: f.id, Made: id}); err != nil {
				return err
			}
		}
		row, err := s.store.GetFind(ctx, id)
		if err != nil {
			return err
		}
		if row.State != "ready" {
			if err := s.queueDecode(ctx, project, id, "Decoding "+f.Path); err != nil {
				return err
			}
		}
	}
	for i, c := range d.Chains {
		doc := &chain.Chain{Name: oneLine(c.Name, 200), Steps: c.Steps}
		if err := doc.Check(); err != nil {
			return errorf(Invalid, "chain %d of the file: %v", i+1, err)
		}
		id, err := s.chains.Create(ctx, project, finds[c.Find-1], doc)
		if err != nil {
			return err
		}
		if _, err := s.sheets.Get(ctx, c.Target); err == nil {
			if err := s.store.PatchChain(ctx, db.PatchChainParams{Name: doc.Name, Target: c.Target, ID: id}); err != nil {
				return err
			}
		}
	}
	return nil
}

// oneLine is a name without what breaks a line or says nothing, of at most most
// letters.
func oneLine(s string, most int) string {
	s = strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "")))
	if r := []rune(s); len(r) > most {
		return string(r[:most])
	}
	return s
}

func validBasis(b json.RawMessage) bool {
	var basis *geom.Basis
	return json.Unmarshal(b, &basis) == nil && (basis == nil || basis.Validate() == nil)
}
