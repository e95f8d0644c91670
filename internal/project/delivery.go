package project

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/target"
	"excavate/core/terms"
	"excavate/internal/shipped"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Deliveries are the packages that targets get.
type Deliveries struct {
	*common
	scenes      *Scenes
	libraries   *Libraries
	sources     *Sources
	extractions *Extractions
	finds       *Finds
	sheets      *Sheets
	chains      *Chains
	rehearsals  *Rehearsals

	mu        sync.Mutex
	receivers []string // their addresses
}

// maker makes deliveries.
func (s *Deliveries) maker() *delivery.Maker {
	return &delivery.Maker{Writers: shipped.Writers, Version: s.version}
}

// Order is what is to be delivered of a chain's end.
type Order struct {
	Purpose terms.Purpose
	Options delivery.Options
	Also    []int64 // further chains whose ends go into the same package
	Send    string  // a receiver to which it goes once it is made
}

// Composed is a delivery before it is made.
type Composed struct {
	Ready   bool // false while a chain is not computed
	Running bool // one is being computed
	Files   []ComposedFile
	Notes   []string
	Again   []string
	Folders []string // of the assets, where they have some
	Search  []delivery.Search
	Refused []terms.Refusal
	Size    int64
	Stops   []string // chains that the rehearsal stops
}

// ComposedFile is a file as it will be.
type ComposedFile struct {
	Path string `json:"path"`
	Kind string `json:"kind"`
	Size int64  `json:"size"`
}

// mostTogether is how many assets go into one package.
const mostTogether = 500

// together are the chains of a package: c, and others of its project that are
// held against the same target.
func (s *Deliveries) together(ctx context.Context, c db.Chain, also []int64) ([]db.Chain, error) {
	if len(also) >= mostTogether {
		return nil, errorf(Unusable, "%d assets in one package; at most %d", len(also)+1, mostTogether)
	}
	list := []db.Chain{c}
	for _, id := range also {
		x, err := s.store.GetChain(ctx, id)
		if x, err = Known(x, err, "chain", id); err != nil {
			return nil, err
		}
		switch {
		case x.ProjectID != c.ProjectID:
			return nil, errorf(Conflict, "chain %d is of another project", id)
		case x.Target != c.Target:
			return nil, errorf(Conflict, "%s is held against another target: one package goes to one", x.Name)
		case slices.ContainsFunc(list, func(have db.Chain) bool { return have.ID == id }):
			return nil, errorf(Unusable, "%s is in the package twice", x.Name)
		}
		list = append(list, x)
	}
	return list, nil
}

// Compose tells the files of a delivery with their sizes, what the format will
// lose, and whether the terms allow it, before anything is made. The files are
// really made, and the answer is kept.
func (s *Deliveries) Compose(ctx context.Context, c db.Chain, o Order) (*Composed, error) {
	chains, err := s.together(ctx, c, o.Also)
	if err != nil {
		return nil, err
	}
	out := &Composed{Ready: true, Files: []ComposedFile{}, Notes: []string{}, Again: []string{},
		Folders: []string{}, Search: []delivery.Search{}, Refused: []terms.Refusal{}, Stops: []string{}}
	held := make([]*Rehearsed, len(chains))
	for i, x := range chains {
		if held[i], err = s.rehearsals.Rehearse(ctx, x); err != nil {
			return nil, err
		}
		out.Ready, out.Running = out.Ready && held[i].Ready, out.Running || held[i].Running
		if stops, _, _ := target.Count(held[i].Findings); stops > 0 {
			out.Stops = append(out.Stops, x.Name)
		}
		refused, err := s.refusals(ctx, x, o.Purpose, nil)
		if err != nil {
			return nil, err
		}
		for _, r := range refused {
			if !slices.Contains(out.Refused, r) { // assets of one source
				out.Refused = append(out.Refused, r)
			}
		}
	}
	if !out.Ready {
		return out, nil
	}
	if err := o.Options.Check(); err != nil {
		return nil, errorf(Unusable, "%v", err)
	}
	ends := make([]final, len(chains))
	for i, r := range held {
		name, err := s.scenes.sceneName(r.Scene)
		if err != nil {
			return nil, err
		}
		ends[i] = final{name, r.Sheet.Sheet}
	}
	for i, options := range optionsOf(ends, o.Options) {
		x, err := s.composed(ctx, held[i], options)
		if err != nil {
			return nil, err
		}
		out.add(x)
	}
	return out, nil
}

// final is a chain's end state: its name, and the sheet by which it is delivered.
type final struct {
	name  string
	sheet *target.Sheet
}

// optionsOf are the options of each asset of a package.
func optionsOf(ends []final, o delivery.Options) []delivery.Options {
	if len(ends) == 1 {
		return []delivery.Options{o}
	}
	names := make([]string, len(ends))
	for i := range ends {
		names[i] = ends[i].name
	}
	return o.Together(names, ends[0].sheet) // they are held against one target
}

// add adds an asset to a package.
func (c *Composed) add(x *Composed) {
	c.Files, c.Size = append(c.Files, x.Files...), c.Size+x.Size
	c.Folders, c.Search = append(c.Folders, x.Folders...), append(c.Search, x.Search...)
	once := func(to *[]string, from []string) {
		for _, s := range from {
			if !slices.Contains(*to, s) {
				*to = append(*to, s)
			}
		}
	}
	once(&c.Notes, x.Notes)
	once(&c.Again, x.Again)
}

// composed is one asset of a delivery before it is made.
func (s *Deliveries) composed(ctx context.Context, r *Rehearsed, o delivery.Options) (*Composed, error) {
	sum := sha256.Sum256(append(append([]byte{}, r.Sheet.Text...), asJSON(o)...))
	text, err := s.blobs.Side("composed 3 "+s.version+" "+r.Scene+" "+hex.EncodeToString(sum[:]),
		func() ([]byte, error) {
			sc, err := s.scenes.Get(r.Scene)
			if err != nil {
				return nil, err
			}
			made, err := s.maker().Make(ctx, sc, r.Sheet.Sheet, o)
			if err != nil {
				return nil, err
			}
			x := Composed{Again: made.Again, Size: made.Size()}
			if made.Folder != "" {
				x.Folders = []string{made.Folder}
			}
			for _, f := range made.Files {
				x.Files = append(x.Files, ComposedFile{f.Path, f.Kind, int64(len(f.Data))})
			}
			for _, n := range made.Notes {
				x.Notes = append(x.Notes, n.Text)
			}
			if made.SearchLine != "" {
				x.Search = []delivery.Search{{File: made.SearchFile, Line: made.SearchLine}}
			}
			return json.Marshal(x)
		})
	if err != nil {
		return nil, errorf(Unusable, "%v", err)
	}
	out := &Composed{}
	return out, json.Unmarshal(text, out)
}

// Create queues a delivery of chains' end states, under a name that no
// other delivery of the project has. One that the rehearsal stops is made only
// despite it; one that the terms do not allow never is.
func (s *Deliveries) Create(ctx context.Context, c db.Chain, o Order, despite bool) (int64, error) {
	if err := o.Options.Check(); err != nil {
		return 0, errorf(Unusable, "%v", err)
	}
	chains, err := s.together(ctx, c, o.Also)
	if err != nil {
		return 0, err
	}
	var names []string
	for _, x := range chains {
		f, err := s.deliverable(ctx, x, o.Purpose, despite)
		if err != nil {
			return 0, err
		}
		names = append(names, f.Name)
	}
	if o.Send != "" {
		if _, err := s.receiverOf(o.Send); err != nil {
			return 0, err
		}
	}
	title := names[0]
	if n := len(names) - 1; n > 0 {
		title += fmt.Sprintf(" and %d more", n)
	}
	var id int64
	err = s.store.Tx(ctx, func(q *db.Queries) error {
		if _, err := q.LockProject(ctx, c.ProjectID); err != nil { // names are given one at a time
			return err
		}
		others, err := q.ListDeliveries(ctx, c.ProjectID)
		if err != nil {
			return err
		}
		taken := map[string]bool{}
		for _, d := range others {
			taken[strings.ToLower(d.Name)] = true
		}
		name := delivery.FileName(title, ".zip")
		for n := 2; taken[strings.ToLower(name)]; n++ {
			name = delivery.FileName(title, fmt.Sprintf("-%d.zip", n))
		}
		also := make([]besides, len(o.Also))
		for i, x := range o.Also {
			also[i].Chain = x
		}
		id, err = q.CreateDelivery(ctx, db.CreateDeliveryParams{ProjectID: c.ProjectID, ChainID: c.ID, Name: name,
			Purpose: string(o.Purpose), Options: asJSON(o.Options), Despite: despite, Also: asJSON(also)})
		if err == nil && o.Send != "" {
			err = q.DeliverySent(ctx, db.DeliverySentParams{Sent: asJSON(Sent{Receiver: o.Send,
				State: "waiting", Taken: []Taken{}}), ID: id})
		}
		return err
	})
	if err != nil {
		return 0, err
	}
	if _, err := s.pool.Add(ctx, c.ProjectID, "deliver", "Delivering "+title, idArgs{ID: id}); err != nil {
		return 0, err
	}
	return id, s.store.TouchProject(ctx, c.ProjectID)
}

// besides is a further asset of a delivery's package.
type besides struct {
	Chain    int64              `json:"chain"`
	Manifest *delivery.Manifest `json:"manifest,omitempty"` // once it is made
}

// Stops counts the findings that stopped the assets of a delivery, despite which
// it was made.
func Stops(d db.Delivery) (sum int, err error) {
	var first *delivery.Manifest
	var also []besides
	if err := errors.Join(json.Unmarshal(d.Manifest, &first), json.Unmarshal(d.Also, &also)); err != nil {
		return 0, err
	}
	for _, x := range append(also, besides{Manifest: first}) {
		if x.Manifest != nil && x.Manifest.Rehearsal != nil {
			sum += x.Manifest.Rehearsal.Stops
		}
	}
	return sum, nil
}

// deliverable refuses a chain whose end cannot be delivered, as far as that is
// known before it is computed.
func (s *Deliveries) deliverable(
	ctx context.Context, c db.Chain, p terms.Purpose, despite bool,
) (f db.Find, err error) {
	if f, err = s.store.GetFind(ctx, c.FindID); err != nil {
		return f, err
	}
	if f.Scene == "" {
		return f, errorf(Conflict, "%s is not decoded yet", f.Name)
	}
	if err := s.allowed(ctx, c, p, nil); err != nil {
		return f, err
	}
	r, err := s.rehearsals.Rehearse(ctx, c) // a chain that is not computed yet is held against its sheet when it is
	if err != nil {
		return f, err
	}
	return f, stopped(r.Findings, despite)
}

// stopped refuses a delivery that a rehearsal stops, unless that is known.
func stopped(findings []target.Finding, despite bool) error {
	if stops, _, _ := target.Count(findings); stops > 0 && !despite {
		return errorf(Conflict, "the rehearsal stops the delivery: %s. It is made all the same if despite is true",
			counted(stops, "finding", "findings"))
	}
	return nil
}

// refusals are the used sources whose terms do not allow a purpose. took are the
// pictures that steps took, where that is known.
func (s *Deliveries) refusals(
	ctx context.Context, c db.Chain, p terms.Purpose, took []string,
) ([]terms.Refusal, error) {
	f, err := s.store.GetFind(ctx, c.FindID)
	if err != nil {
		return nil, err
	}
	doc, err := s.steps(ctx, c)
	if err != nil {
		return nil, err
	}
	origins, err := s.finds.SourcesOf(ctx, f)
	if err != nil {
		return nil, err
	}
	if origins, err = s.finds.broughtIn(ctx, c.ProjectID, doc, took, origins); err != nil {
		return nil, err
	}
	return delivery.Refusals(origins, p), nil
}

// allowed refuses a purpose that a used source's terms do not allow.
func (s *Deliveries) allowed(ctx context.Context, c db.Chain, p terms.Purpose, took []string) error {
	refused, err := s.refusals(ctx, c, p, took)
	if err != nil || refused == nil {
		return err
	}
	var says []string
	for _, r := range refused {
		says = append(says, r.Error())
	}
	return errorf(Conflict, "the terms do not allow a delivery %s: %s", p, strings.Join(says, "; "))
}

func (s *Deliveries) deliver(ctx context.Context, d db.Delivery, t *work.Task) error {
	var options delivery.Options
	var also []besides
	if err := errors.Join(json.Unmarshal(d.Options, &options), json.Unmarshal(d.Also, &also)); err != nil {
		return err
	}
	first, err := s.store.GetChain(ctx, d.ChainID)
	if err != nil {
		return err
	}
	ids := make([]int64, len(also))
	for i := range also {
		ids[i] = also[i].Chain
	}
	chains, err := s.together(ctx, first, ids)
	if err != nil {
		return err
	}
	total := int64(2*len(chains) + 1)
	// Each is looked at before any is made, and only one is in memory at a time.
	ends := make([]final, len(chains))
	for i, c := range chains {
		t.Progress(int64(i), total, "parts")
		of, end, err := s.partOf(ctx, c, d)
		if err != nil {
			return named(err, c, len(chains))
		}
		ends[i] = final{end.Name, of.Sheet}
	}
	whole := make([][]delivery.File, len(chains))
	manifests := make([]*delivery.Manifest, len(chains))
	for i, o := range optionsOf(ends, options) {
		t.Progress(int64(len(chains)+i), total, "parts")
		of, end, err := s.partOf(ctx, chains[i], d)
		if err != nil {
			return named(err, chains[i], len(chains))
		}
		of.Options = o
		made, err := s.maker().Make(ctx, end, of.Sheet, o)
		if err != nil {
			return named(err, chains[i], len(chains))
		}
		if whole[i], manifests[i], err = s.maker().Whole(made, *of); err != nil {
			return named(err, chains[i], len(chains))
		}
	}
	for i := range also {
		also[i].Manifest = manifests[i+1]
	}
	zip, err := delivery.Packed(whole...)
	if err != nil {
		return err
	}
	file, err := s.blobs.Put(zip)
	if err != nil {
		return err
	}
	t.Progress(total, total, "parts")
	if err := s.store.DeliveryReady(ctx, db.DeliveryReadyParams{File: file, Size: int64(len(zip)),
		Manifest: asJSON(manifests[0]), Also: asJSON(also), ID: d.ID}); err != nil {
		return err
	}
	var sent *Sent
	if json.Unmarshal(d.Sent, &sent) == nil && sent != nil && sent.State == "waiting" {
		return s.Send(ctx, d, sent.Receiver)
	}
	return nil
}

// named says of which of many chains an error is.
func named(err error, c db.Chain, of int) error {
	if of == 1 {
		return err
	}
	return fmt.Errorf("%s: %w", c.Name, err)
}

// partOf runs a chain for a delivery: what the manifest will say of it, and the
// state at its end.
func (s *Deliveries) partOf(ctx context.Context, c db.Chain, d db.Delivery) (*delivery.Of, *scene.Scene, error) {
	f, err := s.store.GetFind(ctx, c.FindID)
	if err != nil {
		return nil, nil, err
	}
	bands, err := s.chains.run(ctx, c, nil)
	if err != nil {
		return nil, nil, err
	}
	if b := chain.Failed(bands); b != nil {
		return nil, nil, b.Err
	}
	last := chain.Last(bands)
	if last == nil {
		return nil, nil, fmt.Errorf("the find is not decoded yet")
	}
	took := chain.Took(bands)
	if err := s.allowed(ctx, c, terms.Purpose(d.Purpose), took); err != nil {
		return nil, nil, err
	}
	of := &delivery.Of{Found: bands[0].Scene, Purpose: terms.Purpose(d.Purpose)}
	sheet, err := s.sheets.Get(ctx, c.Target)
	if err != nil {
		return nil, nil, err
	}
	of.Sheet, of.SheetDoc = sheet.Sheet, sheet.Text
	of.Findings = target.Rehearse(last.Scene, sheet.Sheet)
	if err := stopped(of.Findings, d.Despite); err != nil {
		return nil, nil, err
	}
	if of.Chain, err = s.steps(ctx, c); err != nil {
		return nil, nil, err
	}
	if of.Origins, err = s.finds.OriginsOf(ctx, f); err != nil {
		return nil, nil, err
	}
	if of.Origins, err = s.finds.broughtIn(ctx, d.ProjectID, of.Chain, took, of.Origins); err != nil {
		return nil, nil, err
	}
	of.Input, err = s.inputOf(ctx, f)
	return of, last.Scene, err
}

// inputOf is what a find was decoded from; nil where its source is gone, or it
// was put together of several entries.
func (s *Deliveries) inputOf(ctx context.Context, f db.Find) (*delivery.Input, error) {
	in := &delivery.Input{Entry: f.EntryPath}
	var decided *geom.Basis
	if json.Unmarshal(f.Readings, &in.Readings) != nil || json.Unmarshal(f.Basis, &decided) != nil {
		return nil, nil
	}
	in.Basis = decided
	stack, err := s.sources.Stack(ctx, f.ProjectID)
	if err != nil {
		return nil, err
	}
	for _, src := range stack {
		if src.Label != f.SourceLabel {
			continue
		}
		i := src.Lookup(f.EntryPath)
		if i < 0 {
			continue
		}
		data, err := src.Read(i)
		if err != nil {
			return nil, nil // it was there when it was decoded, and is not now
		}
		sum := sha256.Sum256(data)
		in.SHA256 = hex.EncodeToString(sum[:])
		return in, nil
	}
	return nil, nil
}

// Verified is what came of holding the deliveries of a package against their
// manifests and of making them again.
type Verified struct {
	Files  int // besides the manifests
	Faults []delivery.Fault
	Again  delivery.Remade
	Cannot string // why it could not be made again
}

// Verify holds a delivery's files against its manifest, makes it again
// from the project's sources, and compares byte by byte.
func (s *Deliveries) Verify(ctx context.Context, d db.Delivery) (*Verified, error) {
	data, err := os.ReadFile(s.blobs.Path(d.File))
	if err != nil {
		return nil, err
	}
	list, err := delivery.Open(data)
	if err != nil {
		return nil, errorf(Unusable, "%s: %v", d.Name, err)
	}
	f, err := s.sources.finder(ctx, d.ProjectID)
	if err != nil {
		return nil, err
	}
	lib, err := s.libraries.Of(ctx, d.ProjectID)
	if err != nil {
		return nil, err
	}
	beyond, err := s.finds.beyondAll(ctx, d.ProjectID)
	if err != nil {
		return nil, err
	}
	from := delivery.Sources{Lib: lib, Stack: f.stack, Finder: f, Beyond: beyond}
	out := &Verified{Again: delivery.Remade{Same: true}}
	for _, o := range list {
		out.Files += len(o.Manifest.Files)
		out.Faults = append(out.Faults, o.Faults()...)
		again, err := s.maker().Again(ctx, o, from)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			out.Cannot, out.Again.Same = err.Error(), false
			continue
		}
		out.Again.Same = out.Again.Same && again.Same
		out.Again.Differ = append(out.Again.Differ, again.Differ...)
		for _, n := range again.Notes {
			if !slices.Contains(out.Again.Notes, n) {
				out.Again.Notes = append(out.Again.Notes, n)
			}
		}
	}
	return out, nil
}

func (s *Deliveries) doDeliver(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	d, err := s.store.GetDelivery(ctx, a.ID)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	defer s.store.TouchProject(context.WithoutCancel(ctx), d.ProjectID)
	err = s.deliver(ctx, d, t)
	if err != nil && ctx.Err() == nil {
		s.store.DeliveryFailed(ctx, db.DeliveryFailedParams{Error: err.Error(), ID: d.ID})
	}
	return err
}

// Get is a delivery's row.
func (s *Deliveries) Get(ctx context.Context, id int64) (db.Delivery, error) {
	d, err := s.store.GetDelivery(ctx, id)
	return Known(d, err, "delivery", id)
}

// Ready is a delivery whose package is there.
func (s *Deliveries) Ready(ctx context.Context, id int64) (db.Delivery, error) {
	d, err := s.Get(ctx, id)
	if err == nil && d.State != "ready" {
		err = errorf(Conflict, "the delivery is not ready: %s", strings.TrimSpace(d.State+" "+d.Error))
	}
	return d, err
}

// List lists a project's deliveries, the newest first.
func (s *Deliveries) List(ctx context.Context, project int64) ([]db.Delivery, error) {
	return s.store.ListDeliveries(ctx, project)
}

// File is where a delivery's package lies on disk.
func (s *Deliveries) File(d db.Delivery) string { return s.blobs.Path(d.File) }
