package target

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"excavate/core/chain"
	"excavate/core/scene"
)

// Mended is what became of an asset whose findings were mended.
type Mended struct {
	Chain    *chain.Chain
	Scene    *scene.Scene // at the chain's end
	Bands    []chain.Band
	Findings []Finding // that are left, worst first
	Deeds    []Deed
}

// Deed is a finding and the steps that were added for it.
type Deed struct {
	Rule     string   `json:"rule"`
	Title    string   `json:"title"`
	Steps    []string `json:"steps"`
	Evidence string   `json:"evidence,omitempty"`
	Failed   string   `json:"failed,omitempty"` // why a step was taken out again
}

// mostRounds bounds how often mends are added and the asset is rehearsed anew.
const mostRounds = 40

// The order in which steps come after each other: what is stripped need not be
// worked on, bones move before what hangs on them is measured, sizes are right
// before colliders are made, and names come last because steps make new ones.
var order = [][]string{
	{"strip"},
	{"bones-parent", "bones-rename", "bones-trim", "root", "fit-skeleton", "weights"},
	{"variants", "motions", "keys", "bake-pose"},
	{"drop-double", "fill-holes", "facing"},
	{"normals", "sets", "join", "reduce"},
	{"merge-materials", "alpha", "channels", "atlas", "pictures"},
	{"basis"},
	{"scale"},
	{"ground", "centre"},
	{"voxelise"},
	{"colliders"},
	{"rename"},
}

// phase is where a finding's steps stand in the order.
func phase(f *Finding) int {
	for i, list := range order {
		if slices.Contains(list, f.Mends[0].Step) {
			return i
		}
	}
	return len(order)
}

// MendAll adds the steps that mend findings behind a chain's own, in an order
// in which none undoes another, until nothing is left that a step mends. What
// only the porter can decide is left unless decide is true: then the likeliest
// answer is taken. input is the digest of the scene; cache and outside may be
// nil.
func MendAll(ctx context.Context, input string, s *scene.Scene, doc *chain.Chain, t *Sheet, decide bool,
	outside chain.Beyond, cache chain.Cache) (*Mended, error) {
	if cache == nil {
		cache = results{} // each round runs what the one before has run
	}
	known := alphas{}
	m := &Mended{Chain: &chain.Chain{Name: doc.Name, Steps: slices.Clone(doc.Steps)}}
	tried := map[string]bool{}
	for round := 0; ; round++ {
		if err := m.run(ctx, input, s, outside, cache); err != nil {
			return nil, err
		}
		if b := chain.Failed(m.Bands); b != nil {
			i := len(m.Bands) - 2 // the step that failed
			if m.Chain.Steps[i].Group != mendGroup {
				return nil, fmt.Errorf("chain step %d: %w", i+1, b.Err)
			}
			m.fail(i, b.Err)
			continue
		}
		m.Scene = chain.Last(m.Bands).Scene
		m.Findings = rehearse(m.Scene, t, known)
		if round >= mostRounds || !m.add(tried, decide) {
			break
		}
	}
	m.dropIdle()
	return m, nil
}

// results keeps what steps gave, by key.
type results map[string]*chain.Result

func (r results) Get(key string) (*chain.Result, bool) { x, ok := r[key]; return x, ok }
func (r results) Put(key string, x *chain.Result)      { r[key] = x }

func (m *Mended) run(ctx context.Context, input string, s *scene.Scene, outside chain.Beyond,
	cache chain.Cache) (err error) {
	m.Bands, err = chain.Run(ctx, input, s, m.Chain, outside, cache, nil)
	return err
}

// Steps that were added bear this group, so that a reader of the chain sees
// what they are for.
const mendGroup = "mended for the target"

// fail takes a step out again that cannot be run.
func (m *Mended) fail(i int, err error) {
	name := m.Chain.Steps[i].Step
	m.Chain.Steps = slices.Delete(m.Chain.Steps, i, i+1)
	for k := len(m.Deeds) - 1; k >= 0; k-- {
		if slices.Contains(m.Deeds[k].Steps, name) {
			m.Deeds[k].Failed = err.Error()
			return
		}
	}
}

// add adds the mends of the findings that come first in the order, and tells
// whether there were any.
func (m *Mended) add(tried map[string]bool, decide bool) bool {
	first := len(order) + 1
	var now []*Finding
	for i := range m.Findings {
		f := &m.Findings[i]
		if f.Severity == Holds || len(f.Mends) == 0 || f.Ask != nil && !decide || tried[f.key()] {
			continue
		}
		switch p := phase(f); {
		case p < first:
			first, now = p, []*Finding{f}
		case p == first:
			now = append(now, f)
		}
	}
	before := len(m.Chain.Steps) // one step that mends two findings is added once
	for _, f := range now {
		tried[f.key()] = true
		d := Deed{Rule: f.Rule, Title: f.Title, Evidence: f.Evidence}
		for _, st := range f.Mends {
			if !slices.ContainsFunc(m.Chain.Steps[before:],
				func(o chain.Step) bool { return o.Step == st.Step && string(o.With) == string(st.With) }) {
				before += m.append(st)
			}
			d.Steps = append(d.Steps, st.Step)
		}
		m.Deeds = append(m.Deeds, d)
	}
	return now != nil
}

// key is the finding with what mends it: the same mend is not tried twice for
// the same things.
func (f *Finding) key() string {
	text, _ := json.Marshal(f.Mends) // parameters that were made of JSON
	return f.Rule + " " + f.Where + " " + string(text)
}

// append puts a step behind the others; a strip of kinds comes first of all,
// and joins one that stands there already. It tells how many steps come to
// stand in front.
func (m *Mended) append(st chain.Step) (front int) {
	st.Group = mendGroup
	if kinds, ok := stripped(st); ok {
		if len(m.Chain.Steps) > 0 && m.Chain.Steps[0].Group == mendGroup {
			if before, ok := stripped(m.Chain.Steps[0]); ok {
				more := false
				for k, v := range kinds {
					more = more || v && !before[k]
					before[k] = before[k] || v
				}
				if !more { // what a later step left is stripped behind it
					m.Chain.Steps = append(m.Chain.Steps, st)
					return 0
				}
				m.Chain.Steps[0].With = mend("strip", before).With
				return 0
			}
		}
		m.Chain.Steps = slices.Insert(m.Chain.Steps, 0, st)
		return 1
	}
	m.Chain.Steps = append(m.Chain.Steps, st)
	return 0
}

// stripped are the kinds that a strip takes out; ok is false for other steps
// and where it picks things or takes colliders, which earlier steps may have
// made.
func stripped(st chain.Step) (kinds map[string]bool, ok bool) {
	if st.Step != "strip" || json.Unmarshal(st.With, &kinds) != nil {
		return nil, false
	}
	return kinds, !kinds["colliders"]
}

// dropIdle takes out added steps that found nothing to do and changed nothing,
// and the deeds of which no step is left. One that only declares what a source
// leaves open stays: the later ones go by it.
func (m *Mended) dropIdle() {
	for i := len(m.Chain.Steps) - 1; i >= 0; i-- {
		b := &m.Bands[i+1]
		if m.Chain.Steps[i].Group != mendGroup || !b.Report.Idle || b.Scene != sceneBefore(m.Bands[:i+1]) {
			continue
		}
		m.Chain.Steps = slices.Delete(m.Chain.Steps, i, i+1)
		m.Bands = slices.Delete(m.Bands, i+1, i+2)
	}
	m.Deeds = slices.DeleteFunc(m.Deeds, func(d Deed) bool {
		return d.Failed == "" && !slices.ContainsFunc(m.Chain.Steps, func(st chain.Step) bool {
			return st.Group == mendGroup && slices.Contains(d.Steps, st.Step)
		})
	})
}

// sceneBefore is the newest scene of some bands.
func sceneBefore(bands []chain.Band) *scene.Scene {
	if b := chain.Last(bands); b != nil {
		return b.Scene
	}
	return nil
}

// Since tells from which band on a finding stands: 0 is the asset as found.
// history holds the findings of every band in their order; nil where a band has
// none of its own.
func Since(history [][]Finding, f *Finding) int {
	since := len(history) - 1
	for i := len(history) - 1; i >= 0; i-- {
		if history[i] == nil {
			continue
		}
		if !slices.ContainsFunc(history[i], func(x Finding) bool {
			return x.Rule == f.Rule && x.Severity != Holds && x.Title == f.Title
		}) {
			break
		}
		since = i
	}
	return since
}
