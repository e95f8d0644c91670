package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"excavate/core/find"
	"excavate/core/layout"
	"excavate/core/limit"
	"excavate/core/source"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Layouts are the descriptions of formats that a project has of its own.
type Layouts struct {
	*common
	scenes    *Scenes
	libraries *Libraries
	sources   *Sources
}

// Create keeps a new layout.
func (s *Layouts) Create(ctx context.Context, project int64, name string, doc []byte) (int64, error) {
	name = strings.TrimSpace(name)
	if name == "" {
		return 0, errorf(Invalid, "a layout needs a name")
	}
	if _, err := s.store.LayoutNamed(ctx, db.LayoutNamedParams{ProjectID: project, Name: name}); err == nil {
		return 0, errorf(Conflict, "the project has a layout %q already", name)
	} else if !errors.Is(err, sql.ErrNoRows) {
		return 0, err
	}
	var id int64
	err := s.store.Tx(ctx, func(q *db.Queries) (err error) {
		id, err = q.CreateLayout(ctx, db.CreateLayoutParams{ProjectID: project, Name: name})
		return err
	})
	if err != nil {
		return 0, err
	}
	return id, s.Save(ctx, id, 0, doc)
}

// Save keeps a new version, made of version base. One that compiles
// reads the project's files from now on.
func (s *Layouts) Save(ctx context.Context, id int64, base int, doc []byte) error {
	if len(doc) > limit.DocumentBytes {
		return errorf(Invalid, "a layout has at most %d bytes", limit.DocumentBytes)
	}
	var row db.Layout
	works := false
	err := s.store.Tx(ctx, func(q *db.Queries) (err error) {
		row, err = q.LockLayout(ctx, id)
		if row, err = Known(row, err, "layout", id); err != nil {
			return err
		}
		if int(row.Head) != base {
			return errorf(Conflict,
				"version %d was kept meanwhile; this one was made of version %d. Load it, or keep yours as a layout of its own",
				row.Head, base)
		}
		if old, err := q.LayoutVersion(ctx, db.LayoutVersionParams{LayoutID: id, No: row.Head}); err == nil && string(old) == string(doc) {
			return nil // nothing changed
		}
		_, bad := layout.Compile(row.Name, doc)
		works = bad == nil
		row.Head++
		if works {
			row.Good = row.Head
		}
		if err := q.AddLayoutVersion(ctx, db.AddLayoutVersionParams{LayoutID: id, No: row.Head, Doc: doc}); err != nil {
			return err
		}
		if err := q.LayoutHead(ctx, db.LayoutHeadParams{Head: row.Head, Good: row.Good, ID: id}); err != nil {
			return err
		}
		if err := q.LayoutDraft(ctx, db.LayoutDraftParams{ID: id}); err != nil {
			return err
		}
		return q.TouchProject(ctx, row.ProjectID)
	})
	if err != nil || !works {
		return err
	}
	return s.recognise(ctx, row.ProjectID)
}

// SaveDraft saves what is typed in a layout's editor and not kept yet.
func (s *Layouts) SaveDraft(ctx context.Context, id int64, base int, doc []byte) error {
	if len(doc) > limit.DocumentBytes {
		return errorf(Invalid, "a layout has at most %d bytes", limit.DocumentBytes)
	}
	row, err := s.store.GetLayout(ctx, id)
	if _, err = Known(row, err, "layout", id); err != nil {
		return err
	}
	return s.store.LayoutDraft(ctx, db.LayoutDraftParams{
		Draft: sql.NullString{String: string(doc), Valid: doc != nil}, DraftBase: int32(base), ID: id})
}

func (s *Layouts) recognise(ctx context.Context, project int64) error {
	if err := s.store.TouchProject(ctx, project); err != nil {
		return err
	}
	_, err := s.pool.Add(ctx, project, "recognise", "Looking which entries the layouts know", idArgs{ID: project})
	return err
}

// doRecognise tells anew what the entries are that a layout may know: those of
// which nothing is known, and those that a layout read until now. Sources that
// a layout opens are read anew.
func (s *Layouts) doRecognise(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	lib, err := s.libraries.Of(ctx, a.ID)
	if err != nil {
		return err
	}
	rows, err := s.store.ListSources(ctx, a.ID)
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, l := range lib.Layouts.All() {
		known[l.Name] = true
	}
	changed := false
	for _, row := range rows {
		if row.State != "ready" {
			continue
		}
		if row.IsLayout && row.ParentID.Valid {
			if err := s.queueIndex(ctx, a.ID, row.ID, row.Label); err != nil {
				return err
			}
			continue
		}
		src, err := s.sources.mounted(ctx, row)
		if err != nil {
			continue // it says so where it is shown
		}
		n, err := s.recogniseIn(ctx, t, lib, row, src, known)
		if err != nil {
			return err
		}
		changed = changed || n > 0
	}
	ids, err := s.store.ReadyFinds(ctx, a.ID) // a layout may read them otherwise now
	if err != nil {
		return err
	}
	for _, id := range ids {
		f, err := s.store.GetFind(ctx, id)
		if err != nil {
			continue
		}
		var m Model
		if json.Unmarshal(f.Model, &m) == nil && (f.State == "failed" || s.libraries.isLayout(m.Format) || known[m.Format]) {
			if err := s.queueDecode(ctx, a.ID, id, "Decoding "+f.EntryPath); err != nil {
				return err
			}
		}
	}
	if changed {
		return s.store.TouchProject(ctx, a.ID)
	}
	return nil
}

// recogniseIn looks at one source and returns how many entries changed.
func (s *Layouts) recogniseIn(ctx context.Context, t *work.Task, lib *find.Library, row db.Source,
	src *source.Source, known map[string]bool) (int, error) {
	defer s.sources.turn(row.ID)()
	defer src.ReadAhead()()
	var all, changed []db.Entry
	if err := s.store.ListEntries(ctx, row.ID, func(e *db.Entry) { all = append(all, *e) }); err != nil {
		return 0, err
	}
	open := map[string]bool{"": true, "png": true, "jpeg": true, "gif": true, "bmp": true, "webp": true, "tiff": true, "dds": true, "ktx": true}
	for i := range all {
		if i&63 == 0 {
			if ctx.Err() != nil {
				return 0, ctx.Err()
			}
			t.Progress(int64(i), int64(len(all)), "entries")
		}
		e := &all[i]
		// What an open format or a text is stays what it is, unless a layout claims it.
		if e.Kind == "" || e.Kind != string(find.Data) && !known[e.Format] && open[e.Format] {
			continue
		}
		at := src.Lookup(e.Path)
		if at < 0 || src.Entries()[at].Err != nil {
			continue
		}
		was := *e
		kindOf(lib, src, at, e)
		if e.Kind != was.Kind || e.Format != was.Format {
			changed = append(changed, *e)
		}
	}
	t.Progress(int64(len(all)), int64(len(all)), "entries")
	if len(changed) == 0 {
		return 0, nil
	}
	if err := s.store.EntryKinds(ctx, changed); err != nil {
		return 0, err
	}
	err := s.store.Tx(ctx, func(q *db.Queries) error {
		if err := q.RaiseRev(ctx, row.ID); err != nil {
			return err
		}
		return q.TouchProject(ctx, row.ProjectID)
	})
	if err != nil {
		return 0, err
	}
	_, err = s.pool.Add(ctx, row.ProjectID, "links", "Reading what the models of "+row.Label+" need", idArgs{ID: row.ID})
	return len(changed), err
}

// kindOf tells what an entry is from its first bytes.
func kindOf(lib *find.Library, src *source.Source, i int, r *db.Entry) {
	r.Kind, r.Format, r.Error = string(find.Data), "", ""
	head, err := src.Head(i, find.HeadBytes)
	if err != nil {
		r.Error = err.Error()
		return
	}
	kind, name := lib.KindOf(src.Entries()[i].Path, head)
	r.Kind, r.Format = string(kind), name
}

// Around is what a layout sees around an entry, and the entry's bytes.
func (s *Layouts) Around(
	ctx context.Context, entry int64,
) (db.Source, layout.Input, layout.Surroundings, func(), error) {
	e, row, src, i, err := s.sources.Entry(ctx, entry)
	if err != nil {
		return row, nil, layout.Surroundings{}, nil, err
	}
	lib, err := s.libraries.Of(ctx, row.ProjectID)
	if err != nil {
		return row, nil, layout.Surroundings{}, nil, err
	}
	where, err := s.sources.finder(ctx, row.ProjectID)
	if err != nil {
		return row, nil, layout.Surroundings{}, nil, err
	}
	opt, err := s.libraries.sourceOptions(ctx, row.ProjectID)
	if err != nil {
		return row, nil, layout.Surroundings{}, nil, err
	}
	r, err := src.Random(ctx, i, opt)
	if err != nil {
		return row, nil, layout.Surroundings{}, nil, errorf(Unusable, "%v", err)
	}
	return row, layout.Random(r, r.Size()), lib.Around(find.Input{Name: e.Path, From: src.Label, Finder: where}), func() { r.Close() }, nil
}

// Covered is a coverage as it is kept: entries by their id.
type Covered struct {
	Version   int            `json:"version"`
	Running   bool           `json:"running"`
	Entries   int            `json:"entries"`
	Opened    int            `json:"opened"`
	Failed    int            `json:"failed"`
	Bytes     int64          `json:"bytes"`
	Explained int64          `json:"explained"`
	Faults    []CoveredFault `json:"faults"`
	Gaps      []CoveredGap   `json:"gaps"`
	Worst     []CoveredEntry `json:"worst"`
}

// CoveredFault is one reason for which entries failed.
type CoveredFault struct {
	Count   int    `json:"count"`
	Message string `json:"message"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
	At      *int64 `json:"at,omitempty"`
	Entry   int64  `json:"entry"`
	Path    string `json:"path"`
}

// CoveredGap is bytes that nothing explains.
type CoveredGap struct {
	Entry int64  `json:"entry"`
	Path  string `json:"path"`
	At    int64  `json:"at"`
	Size  int64  `json:"size"`
}

// CoveredEntry is an entry with how much of it is explained.
type CoveredEntry struct {
	Entry     int64  `json:"entry"`
	Path      string `json:"path"`
	Size      int64  `json:"size"`
	Explained int64  `json:"explained"`
}

// QueueCoverage runs a layout over every entry that it recognises.
func (s *Layouts) QueueCoverage(ctx context.Context, id int64) error {
	row, err := s.store.GetLayout(ctx, id)
	if row, err = Known(row, err, "layout", id); err != nil {
		return err
	}
	if row.Good == 0 {
		return errorf(Conflict, "no version of %s compiles yet", row.Name)
	}
	_, err = s.pool.Add(ctx, row.ProjectID, "cover", "Running the layout "+row.Name+" over what it recognises",
		idArgs{ID: id})
	return err
}

func (s *Layouts) doCover(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	row, err := s.store.GetLayout(ctx, a.ID)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	doc, err := s.store.LayoutVersion(ctx, db.LayoutVersionParams{LayoutID: row.ID, No: row.Good})
	if err != nil {
		return err
	}
	lay, err := layout.Compile(row.Name, doc)
	if err != nil {
		return err
	}
	lib, err := s.libraries.Of(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	where, err := s.sources.finder(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	rows, err := s.store.ListSources(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	var stack source.Stack
	var from []db.Source
	for _, r := range rows {
		if r.State != "ready" {
			continue
		}
		if src, err := s.sources.mounted(ctx, r); err == nil {
			stack, from = append(stack, src), append(from, r)
		}
	}
	c, err := lib.Cover(ctx, lay, stack, where, func(done, total int) { t.Progress(int64(done), int64(total), "entries") })
	if err != nil {
		return err
	}
	out := Covered{Version: int(row.Good), Entries: c.Entries, Opened: c.Opened, Failed: c.Failed, Bytes: c.Bytes, Explained: c.Explained, Faults: []CoveredFault{}, Gaps: []CoveredGap{}, Worst: []CoveredEntry{}}
	ids := map[int]map[string]int64{} // of the entries that are named, by path
	id := func(p find.Place) (int64, string) {
		path := stack[p.Source].Entries()[p.Entry].Path
		if ids[p.Source] == nil {
			ids[p.Source] = map[string]int64{}
			src := from[p.Source].ID
			note := func(e *db.Entry) { ids[p.Source][e.Path] = store.EntryID(src, e.Slot) }
			if err := s.store.ListEntries(ctx, src, note); err != nil {
				return 0, path
			}
		}
		return ids[p.Source][path], path
	}
	for _, f := range c.Faults {
		x := CoveredFault{Count: f.Count, Message: f.Message, Line: f.Line, Column: f.Col}
		if f.At >= 0 {
			x.At = &f.At
		}
		x.Entry, x.Path = id(f.Place)
		out.Faults = append(out.Faults, x)
	}
	for _, g := range c.Gaps {
		x := CoveredGap{At: g.At, Size: g.Size}
		x.Entry, x.Path = id(g.Place)
		out.Gaps = append(out.Gaps, x)
	}
	for _, g := range c.Worst {
		x := CoveredEntry{Size: g.Whole, Explained: g.Size}
		x.Entry, x.Path = id(g.Place)
		out.Worst = append(out.Worst, x)
	}
	if err := s.store.LayoutCoverage(ctx, db.LayoutCoverageParams{Coverage: asJSON(out), ID: row.ID}); err != nil {
		return err
	}
	return s.store.TouchProject(ctx, row.ProjectID)
}

// Made is what a layout that is not kept yet makes of an entry.
type Made struct {
	Kind    string      `json:"kind"`
	Picture []byte      `json:"picture,omitempty"` // PNG
	Width   int         `json:"width,omitempty"`
	Height  int         `json:"height,omitempty"`
	Images  int         `json:"images,omitempty"` // in the file
	Model   *Model      `json:"model,omitempty"`
	Entries []MadeEntry `json:"entries,omitempty"` // the first ones
	Count   int         `json:"count,omitempty"`   // of all entries
}

// MadeEntry is an entry of a container.
type MadeEntry struct {
	Name  string `json:"name"`
	At    int64  `json:"at"`
	Size  int64  `json:"size"`
	Codec string `json:"codec"`
	Error string `json:"error,omitempty"`
}

const madeEntries = 500

// MakeOf reads an entry by a layout.
func (s *Layouts) MakeOf(ctx context.Context, entry int64, l *layout.Layout) (*Made, error) {
	e, row, src, i, err := s.sources.Entry(ctx, entry)
	if err != nil {
		return nil, err
	}
	lib, err := s.libraries.Of(ctx, row.ProjectID)
	if err != nil {
		return nil, err
	}
	where, err := s.sources.finder(ctx, row.ProjectID)
	if err != nil {
		return nil, err
	}
	m := &Made{Kind: string(l.Kind)}
	with := &find.Library{Layouts: lib.Layouts.Ahead(l), Formats: lib.Formats}
	in := find.Input{Name: e.Path, From: row.Label, Finder: where}
	if l.Kind == layout.Container {
		_, input, around, done, err := s.Around(ctx, entry)
		if err != nil {
			return nil, err
		}
		defer done()
		list, err := l.Entries(ctx, input, around)
		if err != nil {
			return nil, err
		}
		m.Count = len(list)
		for _, x := range list[:min(len(list), madeEntries)] {
			y := MadeEntry{Name: x.Name, At: x.Offset, Size: x.Size, Codec: x.Codec.String()}
			if x.Err != nil {
				y.Error = x.Err.Error()
			}
			m.Entries = append(m.Entries, y)
		}
		return m, nil
	}
	if e.Size > MostPreview {
		return nil, fmt.Errorf("it has %d bytes; at most %d are shown", e.Size, int64(MostPreview))
	}
	if in.Data, err = src.Read(i); err != nil {
		return nil, err
	}
	if head := in.Data[:min(len(in.Data), layout.HeadBytes)]; !l.Recognises(head) {
		return nil, errors.New("recognise does not hold for this entry: its bytes are others")
	}
	if l.Kind == layout.Picture {
		p, err := with.PictureOf(ctx, in)
		if err != nil {
			return nil, err
		}
		m.Picture, m.Width, m.Height = p.Data, p.Width, p.Height
		return m, nil
	}
	sc, as, err := with.Decode(ctx, in)
	if err != nil {
		return nil, err
	}
	digest, err := s.scenes.Put(sc)
	if err != nil {
		return nil, err
	}
	model := NewModel(sc, digest, as)
	m.Model = &model
	return m, nil
}

// ListedLayout is a layout in a list: its row, and what the version says of
// itself that reads files, nil where none compiles.
type ListedLayout struct {
	db.Layout
	Compiled *layout.Layout
}

// List lists a project's layouts, in one query.
func (s *Layouts) List(ctx context.Context, project int64) ([]ListedLayout, error) {
	rows, err := s.store.LayoutsWithText(ctx, project)
	if err != nil {
		return nil, err
	}
	out := make([]ListedLayout, len(rows))
	for i, r := range rows {
		out[i].Layout = r.Layout
		if l, err := layout.Compile(r.Layout.Name, r.Doc); err == nil {
			out[i].Compiled = l
		}
	}
	return out, nil
}

// Shipped are the layouts that are there out of the box.
func (s *Layouts) Shipped() []*layout.Layout { return s.lib.Layouts.All() }

// LayoutVersion is one version of a layout, and which there are.
type LayoutVersion struct {
	db.Layout
	No       int
	Doc      []byte
	Versions []db.LayoutVersionsRow
}

// Version is a version of a layout; 0 is the newest.
func (s *Layouts) Version(ctx context.Context, id int64, no int) (*LayoutVersion, error) {
	row, err := s.store.GetLayout(ctx, id)
	if row, err = Known(row, err, "layout", id); err != nil {
		return nil, err
	}
	if no == 0 {
		no = int(row.Head)
	}
	doc, err := s.store.LayoutVersion(ctx, db.LayoutVersionParams{LayoutID: id, No: int32(no)})
	if doc, err = Known(doc, err, "version", int64(no)); err != nil {
		return nil, err
	}
	list, err := s.store.LayoutVersions(ctx, id)
	return &LayoutVersion{Layout: row, No: no, Doc: doc, Versions: list}, err
}

// Coverage is what the last run over everything that a layout recognises gave.
func (s *Layouts) Coverage(ctx context.Context, id int64) (*Covered, error) {
	row, err := s.store.GetLayout(ctx, id)
	if row, err = Known(row, err, "layout", id); err != nil {
		return nil, err
	}
	out := &Covered{Faults: []CoveredFault{}, Gaps: []CoveredGap{}, Worst: []CoveredEntry{}}
	if !absent(row.Coverage) {
		if err := json.Unmarshal(row.Coverage, out); err != nil {
			return nil, err
		}
	}
	n, err := s.store.BusyJobs(ctx, db.BusyJobsParams{ProjectID: row.ProjectID, Kind: "cover",
		Args: asJSON(idArgs{ID: id})})
	out.Running = n > 0
	return out, err
}
