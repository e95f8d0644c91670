package target

import (
	"cmp"
	"slices"
)

// Table is the findings of many assets and sheets by rule.
type Table struct {
	rows map[string]*Row

	Rehearsals int // how many were added
}

// Row is one rule with those that break it.
type Row struct {
	Rule     string   `json:"rule"`
	Severity Severity `json:"severity"`
	Title    string   `json:"title"`
	Assets   []Broken `json:"assets"`
}

// Broken is an asset that breaks a rule of a sheet.
type Broken struct {
	Chain    int64    `json:"chain"` // where it has one
	Asset    string   `json:"name"`
	Sheet    string   `json:"target"`
	Severity Severity `json:"severity"`
	Where    string   `json:"where"`
}

// Add takes the findings of an asset and a sheet; chain is 0 where it has none.
func (t *Table) Add(chain int64, asset, sheet string, findings []Finding) {
	if t.rows == nil {
		t.rows = map[string]*Row{}
	}
	t.Rehearsals++
	for _, f := range findings {
		if f.Severity == Holds {
			continue
		}
		r := t.rows[f.Rule]
		if r == nil {
			r = &Row{Rule: f.Rule, Severity: f.Severity, Title: f.Title}
			t.rows[f.Rule] = r
		}
		if f.Severity == Stops && r.Severity != Stops {
			r.Severity, r.Title = Stops, f.Title
		}
		r.Assets = append(r.Assets, Broken{chain, asset, sheet, f.Severity, f.Where})
	}
}

// Rows lists the rules that are broken: what stops first, then what most break.
func (t *Table) Rows() []*Row {
	out := make([]*Row, 0, len(t.rows))
	for _, r := range t.rows {
		out = append(out, r)
	}
	worse := map[Severity]int{Stops: 0, Warns: 1}
	slices.SortFunc(out, func(a, b *Row) int {
		return cmp.Or(cmp.Compare(worse[a.Severity], worse[b.Severity]),
			cmp.Compare(len(b.Assets), len(a.Assets)), cmp.Compare(a.Rule, b.Rule))
	})
	return out
}
