package project

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/geom"
	"excavate/core/target"
	"excavate/core/terms"
	"excavate/internal/shipped"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// maker makes deliveries.
func (s *Service) maker() *delivery.Maker {
	return &delivery.Maker{Writers: shipped.Writers, Version: s.Version}
}

// Order is what is to be delivered of a chain's end.
type Order struct {
	Purpose terms.Purpose
	Options delivery.Options
	Send    string // a receiver to which it goes once it is made
}

// Composed is a delivery before it is made.
type Composed struct {
	Ready   bool // false while the chain is not computed
	Running bool // it is being computed
	Files   []ComposedFile
	Notes   []string
	Again   []string
	Folder  string
	Search  *delivery.Search
	Refused []terms.Refusal
	Size    int64
}

// ComposedFile is a file as it will be.
type ComposedFile struct {
	Path string `json:"path"`
	Kind string `json:"kind"`
	Size int64  `json:"size"`
}

// Compose tells the files of a delivery with their sizes, what the format will
// lose, and whether the terms allow it, before anything is made. The files are
// really made, and the answer is kept.
func (s *Service) Compose(ctx context.Context, c db.Chain, o Order) (*Composed, error) {
	r, err := s.Rehearse(ctx, c)
	if err != nil {
		return nil, err
	}
	f, err := s.Store.GetFind(ctx, c.FindID)
	if err != nil {
		return nil, err
	}
	out := &Composed{Files: []ComposedFile{},
		Notes: []string{}, Again: []string{}, Refused: []terms.Refusal{}}
	doc, err := s.Steps(ctx, c)
	if err != nil {
		return nil, err
	}
	origins, err := s.SourcesOf(ctx, f)
	if err != nil {
		return nil, err
	}
	if origins, err = s.broughtIn(ctx, c.ProjectID, doc, nil, origins); err != nil {
		return nil, err
	}
	out.Refused = append(out.Refused, delivery.Refusals(origins, o.Purpose)...)
	if out.Running = r.Running; !r.Ready {
		return out, nil
	}
	if err := o.Options.Check(); err != nil {
		return nil, userErr(422, "%v", err)
	}
	sum := sha256.Sum256(append(append([]byte{}, r.Sheet.Text...), asJSON(o.Options)...))
	text, err := s.Blobs.Side("composed 2 "+s.Version+" "+r.Scene+" "+hex.EncodeToString(sum[:]),
		func() ([]byte, error) {
			sc, err := s.SceneOf(r.Scene)
			if err != nil {
				return nil, err
			}
			made, err := s.maker().Make(ctx, sc, r.Sheet.Sheet, o.Options)
			if err != nil {
				return nil, err
			}
			x := Composed{Ready: true, Folder: made.Folder, Again: append([]string{}, made.Again...),
				Size: made.Size(), Notes: []string{}}
			for _, f := range made.Files {
				x.Files = append(x.Files, ComposedFile{f.Path, f.Kind, int64(len(f.Data))})
			}
			for _, n := range made.Notes {
				x.Notes = append(x.Notes, n.Text)
			}
			if made.SearchLine != "" {
				x.Search = &delivery.Search{File: made.SearchFile, Line: made.SearchLine}
			}
			return json.Marshal(x)
		})
	if err != nil {
		return nil, userErr(422, "%v", err)
	}
	refused := out.Refused
	if err := json.Unmarshal(text, out); err != nil {
		return nil, err
	}
	out.Refused = refused
	return out, nil
}

// CreateDelivery queues a delivery of a chain's end state, under a name that no
// other delivery of the project has. One that the rehearsal stops is made only
// despite it; one that the terms do not allow never is.
func (s *Service) CreateDelivery(ctx context.Context, c db.Chain, o Order, despite bool) (int64, error) {
	f, err := s.Store.GetFind(ctx, c.FindID)
	if err != nil {
		return 0, err
	}
	if f.Scene == "" {
		return 0, userErr(409, "%s is not decoded yet", f.Name)
	}
	if err := o.Options.Check(); err != nil {
		return 0, userErr(422, "%v", err)
	}
	if err := s.allowed(ctx, c, f, o.Purpose, nil); err != nil {
		return 0, err
	}
	if o.Send != "" {
		if _, err := s.receiverOf(o.Send); err != nil {
			return 0, err
		}
	}
	r, err := s.Rehearse(ctx, c) // a chain that is not computed yet is held against its sheet when it is
	if err != nil {
		return 0, err
	}
	if err := stopped(r.Findings, despite); err != nil {
		return 0, err
	}
	var id int64
	err = s.Store.Tx(ctx, func(q *db.Queries) error {
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
		name := delivery.FileName(f.Name, ".zip")
		for n := 2; taken[strings.ToLower(name)]; n++ {
			name = delivery.FileName(f.Name, fmt.Sprintf("-%d.zip", n))
		}
		id, err = q.CreateDelivery(ctx, db.CreateDeliveryParams{ProjectID: c.ProjectID, ChainID: c.ID, Name: name,
			Purpose: string(o.Purpose), Options: asJSON(o.Options), Despite: despite})
		if err == nil && o.Send != "" {
			err = q.DeliverySent(ctx, db.DeliverySentParams{Sent: asJSON(Sent{Receiver: o.Send,
				State: "waiting", Outcomes: []target.Outcome{}}), ID: id})
		}
		return err
	})
	if err != nil {
		return 0, err
	}
	if _, err := s.Pool.Add(ctx, c.ProjectID, "deliver", "Delivering "+f.Name, idArgs{id}); err != nil {
		return 0, err
	}
	return id, s.Store.TouchProject(ctx, c.ProjectID)
}

// stopped refuses a delivery that a rehearsal stops, unless that is known.
func stopped(findings []target.Finding, despite bool) error {
	if stops, _, _ := target.Count(findings); stops > 0 && !despite {
		return userErr(409, "the rehearsal stops the delivery: %s. It is made all the same if despite is true",
			counted(stops, "finding", "findings"))
	}
	return nil
}

// allowed refuses a purpose that a used source's terms do not allow. took are
// the pictures that steps took, where that is known.
func (s *Service) allowed(ctx context.Context, c db.Chain, f db.Find, p terms.Purpose, took []string) error {
	doc, err := s.Steps(ctx, c)
	if err != nil {
		return err
	}
	origins, err := s.SourcesOf(ctx, f)
	if err != nil {
		return err
	}
	if origins, err = s.broughtIn(ctx, c.ProjectID, doc, took, origins); err != nil {
		return err
	}
	refused := delivery.Refusals(origins, p)
	if refused == nil {
		return nil
	}
	var says []string
	for _, r := range refused {
		says = append(says, r.Error())
	}
	return userErr(409, "the terms do not allow a delivery %s: %s", p, strings.Join(says, "; "))
}

func (s *Service) deliver(ctx context.Context, d db.Delivery, t *work.Task) error {
	t.Progress(0, 3, "parts")
	var options delivery.Options
	if err := json.Unmarshal(d.Options, &options); err != nil {
		return err
	}
	c, err := s.Store.GetChain(ctx, d.ChainID)
	if err != nil {
		return err
	}
	f, err := s.Store.GetFind(ctx, c.FindID)
	if err != nil {
		return err
	}
	bands, err := s.run(ctx, c, nil)
	if err != nil {
		return err
	}
	if b := chain.Failed(bands); b != nil {
		return b.Err
	}
	last := chain.Last(bands)
	if last == nil {
		return fmt.Errorf("the find is not decoded yet")
	}
	took := chain.Took(bands)
	if err := s.allowed(ctx, c, f, terms.Purpose(d.Purpose), took); err != nil {
		return err
	}
	t.Progress(1, 3, "parts")
	of := delivery.Of{Found: bands[0].Scene, Purpose: terms.Purpose(d.Purpose), Options: options}
	sheet, err := s.SheetOf(ctx, c.Target)
	if err != nil {
		return err
	}
	of.Sheet, of.SheetDoc = sheet.Sheet, sheet.Text
	of.Findings = target.Rehearse(last.Scene, sheet.Sheet)
	if err := stopped(of.Findings, d.Despite); err != nil {
		return err
	}
	made, err := s.maker().Make(ctx, last.Scene, of.Sheet, options)
	if err != nil {
		return err
	}
	t.Progress(2, 3, "parts")
	if of.Chain, err = s.Steps(ctx, c); err != nil {
		return err
	}
	if of.Origins, err = s.OriginsOf(ctx, f); err != nil {
		return err
	}
	if of.Origins, err = s.broughtIn(ctx, d.ProjectID, of.Chain, took, of.Origins); err != nil {
		return err
	}
	if of.Input, err = s.inputOf(ctx, f); err != nil {
		return err
	}
	files, m, err := s.maker().Whole(made, of)
	if err != nil {
		return err
	}
	zip, err := delivery.Package(files)
	if err != nil {
		return err
	}
	file, err := s.Blobs.Put(zip)
	if err != nil {
		return err
	}
	t.Progress(3, 3, "parts")
	if err := s.Store.DeliveryReady(ctx, db.DeliveryReadyParams{File: file, Size: int64(len(zip)),
		Manifest: asJSON(m), ID: d.ID}); err != nil {
		return err
	}
	var sent *Sent
	if json.Unmarshal(d.Sent, &sent) == nil && sent != nil && sent.State == "waiting" {
		return s.SendDelivery(ctx, d, sent.Receiver)
	}
	return nil
}

// inputOf is what a find was decoded from; nil where its source is gone, or it
// was put together of several entries.
func (s *Service) inputOf(ctx context.Context, f db.Find) (*delivery.Input, error) {
	in := &delivery.Input{Entry: f.EntryPath}
	var decided *geom.Basis
	if json.Unmarshal(f.Readings, &in.Readings) != nil || json.Unmarshal(f.Basis, &decided) != nil {
		return nil, nil
	}
	in.Basis = decided
	stack, err := s.Stack(ctx, f.ProjectID)
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

// Verified is what came of holding a delivery against its manifest and of making
// it again.
type Verified struct {
	Files  int // besides the manifest
	Faults []delivery.Fault
	Again  *delivery.Remade
	Cannot string // why it could not be made again
}

// VerifyDelivery holds a delivery's files against its manifest, makes it again
// from the project's sources, and compares byte by byte.
func (s *Service) VerifyDelivery(ctx context.Context, d db.Delivery) (*Verified, error) {
	data, err := os.ReadFile(s.Blobs.Path(d.File))
	if err != nil {
		return nil, err
	}
	o, err := delivery.Open(data)
	if err != nil {
		return nil, userErr(422, "%s: %v", d.Name, err)
	}
	out := &Verified{Files: len(o.Files) - 1, Faults: o.Faults()}
	f, err := s.finder(ctx, d.ProjectID)
	if err != nil {
		return nil, err
	}
	lib, err := s.LibOf(ctx, d.ProjectID)
	if err != nil {
		return nil, err
	}
	beyond, err := s.beyondAll(ctx, d.ProjectID)
	if err != nil {
		return nil, err
	}
	out.Again, err = s.maker().Again(ctx, o, delivery.Sources{Lib: lib, Stack: f.stack, Finder: f, Beyond: beyond})
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		out.Cannot = err.Error()
	}
	return out, nil
}
