package project

import (
	"context"
	"encoding/json"
	"strconv"

	"excavate/core/chain"
	"excavate/core/scene"
	"excavate/internal/store/db"
)

// Many is a chain over many assets: the chains of a project that bear one name.
type Many struct {
	Steps  []ManyStep  `json:"steps"`
	Assets []ManyAsset `json:"assets"`
	Odd    []ManyOdd   `json:"odd"` // the oddest first
}

// ManyStep is what a step did to how many assets.
type ManyStep struct {
	Title   string  `json:"title"`
	Done    int     `json:"done"`
	Idle    int     `json:"idle"`
	Lost    int     `json:"lost"`
	Failed  int     `json:"failed"`
	Off     int     `json:"off"`
	Waiting int     `json:"waiting"`
	Share   float64 `json:"share"` // the median of what changed
}

// ManyAsset is one asset, with a cell a step.
type ManyAsset struct {
	Chain int64      `json:"chain"`
	Find  int64      `json:"find"`
	Name  string     `json:"name"`
	Own   bool       `json:"own"` // its steps differ from those of the first
	Cells []ManyCell `json:"cells"`
}

// ManyCell is what a step did to an asset.
type ManyCell struct {
	State string  `json:"state"`
	Share float64 `json:"share"`
	Says  string  `json:"says"`
}

// ManyOdd is an asset to which a step did something else than to the others.
type ManyOdd struct {
	Chain int64  `json:"chain"`
	Name  string `json:"name"`
	Step  string `json:"step"`
	Says  string `json:"says"`
}

// mostRuns is over how many assets a chain runs at one time.
const mostRuns = 5000

// RunOver gives each of several finds a chain with another's steps and name.
// Those that have one of that name keep it.
func (s *Chains) RunOver(ctx context.Context, c db.Chain, finds []int64) (int, error) {
	doc, err := s.steps(ctx, c)
	if err != nil {
		return 0, err
	}
	rows, err := s.store.ListChains(ctx, c.ProjectID)
	if err != nil {
		return 0, err
	}
	has := map[int64]bool{}
	for _, r := range rows {
		if r.Name == c.Name {
			has[r.FindID] = true
		}
	}
	made := 0
	for _, f := range finds {
		if has[f] {
			continue
		}
		has[f] = true
		if _, err := s.Create(ctx, c.ProjectID, f, &chain.Chain{Name: c.Name, Steps: doc.Steps}); err != nil {
			return made, err
		}
		made++
	}
	return made, nil
}

// SameForAll gives all chains of a chain's name its steps, each as an edit that
// can be undone.
func (s *Chains) SameForAll(ctx context.Context, c db.Chain) (int, error) {
	doc, err := s.steps(ctx, c)
	if err != nil {
		return 0, err
	}
	want := string(stepsJSON(doc.Steps))
	rows, err := s.store.ListChains(ctx, c.ProjectID)
	if err != nil {
		return 0, err
	}
	changed := 0
	for _, r := range rows {
		if r.Name != c.Name || r.ID == c.ID {
			continue
		}
		own, err := s.steps(ctx, r)
		if err != nil {
			return changed, err
		}
		if string(stepsJSON(own.Steps)) == want {
			continue
		}
		if err := s.Edit(ctx, r.ID, int(r.Head), doc.Steps); err != nil {
			return changed, err
		}
		changed++
	}
	return changed, nil
}

// Over lists what the chains of one name did to their assets.
func (s *Chains) Over(ctx context.Context, project int64, name string) (*Many, error) {
	rows, err := s.store.ListChains(ctx, project)
	if err != nil {
		return nil, err
	}
	out := &Many{Steps: []ManyStep{}, Assets: []ManyAsset{}, Odd: []ManyOdd{}}
	var many chain.Many
	names := map[string]ManyAsset{}
	first := ""
	for _, r := range rows {
		if r.Name != name {
			continue
		}
		if len(out.Assets) == mostRuns {
			return nil, errorf(Unusable, "more than %d chains are named %s", mostRuns, name)
		}
		f, err := s.store.GetFind(ctx, r.FindID)
		if err != nil {
			return nil, err
		}
		bands, _, err := s.Bands(ctx, r)
		if err != nil {
			return nil, err
		}
		a := ManyAsset{Chain: r.ID, Find: r.FindID, Name: f.Name, Cells: []ManyCell{}}
		titles, cells, err := cellsOf(bands)
		if err != nil {
			return nil, err
		}
		for _, c := range cells {
			a.Cells = append(a.Cells, ManyCell{c.State, c.Share, says(c)})
		}
		doc, err := s.steps(ctx, r)
		if err != nil {
			return nil, err
		}
		text := string(stepsJSON(doc.Steps))
		if first == "" {
			first = text
		}
		a.Own = text != first
		key := strconv.FormatInt(r.ID, 10)
		names[key] = a
		many.AddCells(key, titles, cells)
		out.Assets = append(out.Assets, a)
	}
	if len(out.Assets) == 0 {
		return nil, errorf(NotFound, "no chain of this project is named %.100q", name)
	}
	for _, r := range many.Rows() {
		n := r.States
		out.Steps = append(out.Steps, ManyStep{r.Step, n["done"], n["idle"], n["lost"], n["failed"], n["off"], n["waiting"], r.Share})
	}
	for _, o := range many.Odd() {
		a := names[o.Asset]
		out.Odd = append(out.Odd, ManyOdd{a.Chain, a.Name, o.Step, o.Says})
	}
	return out, nil
}

// cellsOf is what the steps of a chain did.
func cellsOf(bands []Band) (titles []string, cells []chain.Cell, err error) {
	var before *scene.Stats
	for i, b := range bands {
		var now *scene.Stats
		if len(b.Stats) > 0 {
			now = &scene.Stats{}
			if err := json.Unmarshal(b.Stats, now); err != nil {
				return nil, nil, err
			}
		}
		if i > 0 {
			c := chain.Cell{State: b.State, Lines: b.Report.Lines, Losses: b.Report.Losses, Error: b.Error}
			if b.State == "ready" {
				switch {
				case b.Report.Idle:
					c.State = "idle"
				case len(b.Report.Losses) > 0:
					c.State = "lost"
				default:
					c.State = "done"
				}
				if before != nil && now != nil {
					c.Share = chain.Changed(before, now)
				}
			}
			titles, cells = append(titles, b.Title), append(cells, c)
		}
		if now != nil {
			before = now
		}
	}
	return titles, cells, nil
}

// says is what a step says of an asset, in one line.
func says(c chain.Cell) string {
	switch {
	case c.Error != "":
		return c.Error
	case len(c.Losses) > 0:
		return "lost: " + c.Losses[0]
	case len(c.Lines) > 0:
		return c.Lines[0]
	}
	return c.State
}
