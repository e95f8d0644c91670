package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/scene"
	"excavate/core/step"
	"excavate/internal/store/db"
)

// Chains are what is done to finds, and their runs.
type Chains struct {
	*common
	scenes *Scenes
	finds  *Finds
	sheets *Sheets
}

// Create makes a chain for a find and queues its run.
func (s *Chains) Create(ctx context.Context, project, find int64, doc *chain.Chain) (int64, error) {
	f, err := s.store.GetFind(ctx, find)
	if f, err = Known(f, err, "find", find); err != nil {
		return 0, err
	}
	if f.ProjectID != project {
		return 0, errorf(NotFound, "find %d is not in this project", find)
	}
	sheet := s.sheets.usualSheet()
	var id int64
	err = s.store.Tx(ctx, func(q *db.Queries) error {
		if id, err = q.CreateChain(ctx, db.CreateChainParams{ProjectID: project, FindID: find, Name: doc.Name, Target: sheet}); err != nil {
			return err
		}
		if err := q.AddRevision(ctx, db.AddRevisionParams{ChainID: id, No: 1, Steps: stepsJSON(doc.Steps)}); err != nil {
			return err
		}
		return q.TouchProject(ctx, project)
	})
	if err != nil {
		return 0, err
	}
	return id, s.queueRun(ctx, id)
}

func stepsJSON(steps []chain.Step) json.RawMessage {
	if steps == nil {
		steps = []chain.Step{}
	}
	return asJSON(steps)
}

// Edit replaces a chain's steps as a new revision. It is refused if the
// chain is not at the revision that was edited.
func (s *Chains) Edit(ctx context.Context, id int64, revision int, steps []chain.Step) error {
	return s.change(ctx, id, func(q *db.Queries, c db.Chain) error {
		if int(c.Head) != revision {
			return errorf(Conflict, "the chain has been edited elsewhere meanwhile; look at it again")
		}
		if err := q.DropRevisionsAfter(ctx, db.DropRevisionsAfterParams{ChainID: id, No: c.Head}); err != nil {
			return err
		}
		if err := q.AddRevision(ctx, db.AddRevisionParams{ChainID: id, No: c.Head + 1, Steps: stepsJSON(steps)}); err != nil {
			return err
		}
		return q.SetHead(ctx, db.SetHeadParams{Head: c.Head + 1, ID: id})
	})
}

// MoveHead undoes (by -1) or redoes (by 1) an edit.
func (s *Chains) MoveHead(ctx context.Context, id int64, by int) error {
	return s.change(ctx, id, func(q *db.Queries, c db.Chain) error {
		last, err := q.LastRevision(ctx, id)
		if err != nil {
			return err
		}
		to := int64(c.Head) + int64(by)
		if to < 1 {
			return errorf(Conflict, "there is nothing to undo")
		}
		if to > last {
			return errorf(Conflict, "there is nothing to redo")
		}
		return q.SetHead(ctx, db.SetHeadParams{Head: int32(to), ID: id})
	})
}

func (s *Chains) change(ctx context.Context, id int64, f func(*db.Queries, db.Chain) error) error {
	var c db.Chain
	err := s.store.Tx(ctx, func(q *db.Queries) (err error) {
		c, err = q.LockChain(ctx, id)
		if c, err = Known(c, err, "chain", id); err != nil {
			return err
		}
		if err := f(q, c); err != nil {
			return err
		}
		return q.TouchProject(ctx, c.ProjectID)
	})
	if err != nil {
		return err
	}
	if err := s.queueRun(ctx, id); err != nil {
		return err
	}
	return s.queueDependent(ctx, c)
}

// Band is one band of a core sample, as far as it is computed.
type Band struct {
	Index   int
	Step    *chain.Step
	Title   string
	Family  string
	State   string // ready, off, waiting, failed
	Key     string
	Scene   string
	Stats   json.RawMessage
	Basis   json.RawMessage
	Report  step.Report
	Seconds float64
	Error   string
	Spoiled *chain.OutOfOrder // by a later step
}

// Bands reads the core sample of a chain from the results. running says that
// a run for it waits or is under way.
func (s *Chains) Bands(ctx context.Context, c db.Chain) (bands []Band, running bool, err error) {
	n, err := s.store.BusyJobs(ctx, db.BusyJobsParams{ProjectID: c.ProjectID, Kind: "run", Args: asJSON(idArgs{ID: c.ID})})
	if err != nil {
		return nil, false, err
	}
	f, err := s.store.GetFind(ctx, c.FindID)
	if err != nil {
		return nil, false, err
	}
	doc, err := s.steps(ctx, c)
	if err != nil {
		return nil, false, err
	}
	first := Band{Title: "As found", Family: "raw", State: "waiting", Key: f.Scene}
	if f.Scene != "" {
		var m struct{ Stats, Basis json.RawMessage }
		if err := json.Unmarshal(f.Model, &m); err != nil {
			return nil, false, err
		}
		first.State, first.Scene, first.Stats, first.Basis = "ready", f.Scene, m.Stats, m.Basis
	}
	first.Report.Lines = []string{f.EntryPath + " in " + f.SourceLabel}
	bands = append(bands, first)
	outside, err := s.finds.beyondOf(ctx, c.ProjectID, doc)
	if err != nil {
		return nil, false, err
	}
	key, broken := f.Scene, f.Scene == ""
	for i := range doc.Steps {
		st := &doc.Steps[i]
		b := Band{Index: i + 1, Step: st, Title: st.Step, State: "waiting"}
		if k, err := step.Get(st.Step); err == nil {
			b.Title, b.Family = k.Title, string(k.Family)
		}
		if st.Off {
			b.State = "off"
			bands = append(bands, b)
			continue
		}
		if !broken {
			if b.Key, err = chain.Key(ctx, key, *st, outside); err != nil {
				return nil, false, err
			}
			row, err := s.store.GetResult(ctx, b.Key)
			switch {
			case errors.Is(err, sql.ErrNoRows):
				broken = true
			case err != nil:
				return nil, false, err
			case row.Error != "":
				b.State, b.Error, broken = "failed", row.Error, true
			default:
				b.State, b.Scene, b.Stats, b.Basis, b.Seconds = "ready", row.Scene, row.Stats, row.Basis, row.Seconds
				if err := json.Unmarshal(row.Report, &b.Report); err != nil {
					return nil, false, err
				}
				key = b.Key
			}
		}
		bands = append(bands, b)
	}
	for _, o := range doc.Order() {
		bands[o.Step+1].Spoiled = &o
	}
	return bands, n > 0, nil
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Tried is what a step would make of a scene.
type Tried struct {
	Scene string       `json:"scene,omitempty"`
	Stats *scene.Stats `json:"stats,omitempty"`
	Basis *Basis       `json:"basis,omitempty"`
	step.Report
	Seconds float64 `json:"seconds"`
	Error   string  `json:"error,omitempty"`
}

// Try runs one step on the scene of a band whose key that is. What comes of it
// is kept as a result, so that a chain with the step has it at once.
func (s *Chains) Try(ctx context.Context, project int64, digest, key string, st chain.Step) (*Tried, error) {
	if key != digest { // that of a find is its scene's
		row, err := s.store.GetResult(ctx, key)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
		if err != nil || row.Scene != digest {
			return nil, errorf(Conflict, "the band has changed meanwhile; look at it again")
		}
	}
	sc, err := s.scenes.Get(digest)
	if err != nil {
		return nil, err
	}
	st.Off = false
	doc := &chain.Chain{Steps: []chain.Step{st}}
	outside, err := s.finds.beyondOf(ctx, project, doc)
	if err != nil {
		return nil, err
	}
	bands, err := chain.Run(ctx, key, sc, doc, outside, results{s.scenes, ctx}, nil)
	if err != nil {
		return nil, err
	}
	b := bands[len(bands)-1]
	out := &Tried{Report: step.Report{Lines: []string{}, Losses: []string{}}}
	if b.Err != nil {
		out.Error = b.Err.Error()
		return out, nil
	}
	if out.Scene, err = s.scenes.Put(b.Scene); err != nil {
		return nil, err
	}
	basis := NewBasis(b.Scene.Basis)
	out.Stats, out.Basis, out.Seconds = &b.Stats, &basis, b.Seconds
	out.Lines, out.Losses = append(out.Lines, b.Report.Lines...), append(out.Losses, b.Report.Losses...)
	out.Idle = b.Report.Idle
	return out, nil
}

// queueDependent runs the chains anew that take the end of one that changed,
// and those that take theirs.
func (s *Chains) queueDependent(ctx context.Context, changed db.Chain) error {
	list, err := s.store.ChainsFromChains(ctx, changed.ProjectID)
	if err != nil {
		return err
	}
	names, queued := []string{changed.Name}, map[int64]bool{changed.ID: true}
	for len(names) > 0 {
		name := names[0]
		names = names[1:]
		for _, row := range list {
			doc := chain.Chain{Name: row.Name}
			if err := json.Unmarshal(row.Steps, &doc.Steps); err != nil {
				return err
			}
			asks, err := doc.Asks()
			if err != nil || queued[row.ID] {
				continue // a document that is unsound runs nowhere
			}
			if slices.ContainsFunc(asks, func(a step.Ask) bool { of, ok := step.EndOf(a.Asset); return ok && of == name }) {
				queued[row.ID] = true
				names = append(names, row.Name)
				if err := s.queueRun(ctx, row.ID); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Get is a chain's row.
func (s *Chains) Get(ctx context.Context, id int64) (db.Chain, error) {
	c, err := s.store.GetChain(ctx, id)
	return Known(c, err, "chain", id)
}

// Whole is a chain with its steps and the number of its last revision.
type Whole struct {
	db.Chain
	Steps []chain.Step
	Last  int64
}

// List lists a project's chains, in one query.
func (s *Chains) List(ctx context.Context, project int64) ([]Whole, error) {
	rows, err := s.store.ChainsWithSteps(ctx, project)
	if err != nil {
		return nil, err
	}
	out := make([]Whole, len(rows))
	for i, r := range rows {
		out[i] = Whole{Chain: r.Chain, Last: r.Last}
		if err := json.Unmarshal(r.Steps, &out[i].Steps); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Whole is one chain with its steps.
func (s *Chains) Whole(ctx context.Context, id int64) (*Whole, error) {
	c, err := s.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	doc, err := s.steps(ctx, c)
	if err != nil {
		return nil, err
	}
	last, err := s.store.LastRevision(ctx, id)
	return &Whole{Chain: c, Steps: doc.Steps, Last: last}, err
}

// Document is a chain as the file that the command line takes.
func (s *Chains) Document(ctx context.Context, id int64) (*chain.Chain, error) {
	c, err := s.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.steps(ctx, c)
}

// Set names a chain and its target; what is nil stays.
func (s *Chains) Set(ctx context.Context, id int64, name, sheet *string) error {
	c, err := s.Get(ctx, id)
	if err != nil {
		return err
	}
	if name != nil {
		if c.Name = strings.TrimSpace(*name); c.Name == "" {
			return errorf(Invalid, "a chain needs a name")
		}
	}
	if sheet != nil {
		if _, err := s.sheets.Get(ctx, *sheet); err != nil {
			return errorf(Invalid, "there is no target sheet %q", *sheet)
		}
		c.Target = *sheet
	}
	if err := s.store.PatchChain(ctx, db.PatchChainParams{Name: c.Name, Target: c.Target, ID: id}); err != nil {
		return err
	}
	return s.store.TouchProject(ctx, c.ProjectID)
}

// Run has what a chain's bands lack computed.
func (s *Chains) Run(ctx context.Context, id int64) error { return s.queueRun(ctx, id) }
