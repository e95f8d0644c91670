package project

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"time"

	"excavate/core/chain"
	"excavate/core/target"
	"excavate/internal/store/db"
)

// Rehearsals tell what a target would say of the ends of chains.
type Rehearsals struct {
	*common
	scenes *Scenes
	finds  *Finds
	sheets *Sheets
	chains *Chains
}

// Rehearsed is a rehearsal of a chain's newest state.
type Rehearsed struct {
	Sheet        *Sheet
	Ready        bool
	Running      bool // the chain is being computed
	Scene        string
	Stats        json.RawMessage
	AfterStep    int
	Findings     []target.Finding
	Since        []int // of each finding: the band from which on it stands, or -1
	Bands        []Band
	Milliseconds float64
	Error        string
}

// Rehearse holds the chain's end state against its target sheet.
func (s *Rehearsals) Rehearse(ctx context.Context, c db.Chain) (*Rehearsed, error) {
	sheet, err := s.sheets.Get(ctx, c.Target)
	if err != nil {
		return nil, err
	}
	return s.RehearseOn(ctx, c, sheet)
}

// RehearseOn holds the chain's end state against a sheet.
func (s *Rehearsals) RehearseOn(ctx context.Context, c db.Chain, sheet *Sheet) (*Rehearsed, error) {
	out := &Rehearsed{Sheet: sheet, Findings: []target.Finding{}}
	bands, running, err := s.chains.Bands(ctx, c)
	if err != nil {
		return nil, err
	}
	out.Bands, out.Running = bands, running
	for _, b := range bands {
		switch b.State {
		case "waiting":
			return out, nil
		case "failed":
			out.Error = b.Title + ": " + b.Error
			return out, nil
		case "ready":
			out.Scene, out.Stats, out.AfterStep = b.Scene, b.Stats, b.Index
		}
	}
	start := time.Now()
	if out.Findings, err = s.findings(out.Scene, sheet); err != nil {
		return nil, err
	}
	out.Milliseconds, out.Ready = float64(time.Since(start).Microseconds())/1000, true
	return out, nil
}

// findings rehearses a scene. They are kept beside the blobs: a scene and a
// sheet that are the same give the same.
func (s *Rehearsals) findings(digest string, sheet *Sheet) (out []target.Finding, err error) {
	sum := sha256.Sum256(sheet.Text)
	text, err := s.blobs.Side("rehearsal 2 "+s.version+" "+digest+" "+hex.EncodeToString(sum[:]),
		func() ([]byte, error) {
			sc, err := s.scenes.Get(digest)
			if err != nil {
				return nil, err
			}
			return json.Marshal(target.Rehearse(sc, sheet.Sheet))
		})
	if err != nil {
		return nil, err
	}
	err = json.Unmarshal(text, &out)
	return out, err
}

// Causes fills in from which band on each finding stands.
func (s *Rehearsals) Causes(r *Rehearsed) error {
	history := make([][]target.Finding, r.AfterStep+1)
	for i := range history {
		if b := &r.Bands[i]; b.State == "ready" && b.Scene != "" {
			list, err := s.findings(b.Scene, r.Sheet)
			if err != nil {
				return err
			}
			history[i] = list
		}
	}
	for i := range r.Findings {
		since := -1
		if r.Findings[i].Severity != target.Holds {
			since = target.Since(history, &r.Findings[i])
		}
		r.Since = append(r.Since, since)
	}
	return nil
}

// MendAll adds the steps that mend what the rehearsal finds, as one edit of the
// chain.
func (s *Rehearsals) MendAll(ctx context.Context, c db.Chain) (m *target.Mended, added int, err error) {
	sheet, err := s.sheets.Get(ctx, c.Target)
	if err != nil {
		return nil, 0, err
	}
	f, err := s.store.GetFind(ctx, c.FindID)
	if err != nil {
		return nil, 0, err
	}
	if f.Scene == "" {
		return nil, 0, errorf(Conflict, "%s is not decoded yet", f.Name)
	}
	doc, err := s.steps(ctx, c)
	if err != nil {
		return nil, 0, err
	}
	sc, err := s.scenes.Get(f.Scene)
	if err != nil {
		return nil, 0, err
	}
	outside, err := s.finds.beyondAll(ctx, c.ProjectID)
	if err != nil {
		return nil, 0, err
	}
	m, err = target.MendAll(ctx, f.Scene, sc, doc, sheet.Sheet, false, outside, results{s.scenes, ctx})
	if err != nil {
		return nil, 0, errorf(Conflict, "%v", err)
	}
	if added = len(m.Chain.Steps) - len(doc.Steps); added == 0 && sameSteps(m.Chain.Steps, doc.Steps) {
		return m, 0, nil
	}
	return m, added, s.chains.Edit(ctx, c.ID, int(c.Head), m.Chain.Steps)
}

func sameSteps(a, b []chain.Step) bool {
	return slices.EqualFunc(a, b, func(x, y chain.Step) bool { return string(asJSON(x)) == string(asJSON(y)) })
}

// RehearseMany holds the ends of a project's chains against sheets; none are
// those that the chains name. Chains that are not computed yet are counted.
func (s *Rehearsals) RehearseMany(ctx context.Context, project int64, ids []string) (t *target.Table, waiting int,
	err error) {
	rows, err := s.store.ListChains(ctx, project)
	if err != nil {
		return nil, 0, err
	}
	t = &target.Table{}
	known := map[string]*Sheet{}
	for _, c := range rows {
		on := ids
		if len(on) == 0 {
			on = []string{c.Target}
		}
		for _, id := range on {
			sheet := known[id]
			if sheet == nil {
				sheet, err = s.sheets.Get(ctx, id)
				// a chain's own is gone: the others are told
				if _, ok := KindOf(err); ok && len(ids) == 0 {
					t.Add(c.ID, c.Name, id, []target.Finding{{Rule: "sheet", Severity: target.Stops,
						Title: "The target sheet is not there", Where: err.Error()}})
					continue
				}
				if err != nil {
					return nil, 0, err
				}
				known[id] = sheet
			}
			r, err := s.RehearseOn(ctx, c, sheet)
			if err != nil {
				return nil, 0, err
			}
			if !r.Ready {
				waiting++
				continue
			}
			t.Add(c.ID, c.Name, id, r.Findings)
		}
	}
	return t, waiting, nil
}
