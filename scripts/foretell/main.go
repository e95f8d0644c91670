// Command foretell holds rehearsals against receivers: it makes assets that are
// sound for a sheet, spoils each in a known way, lets the rehearsal say what the
// target would object to, delivers the asset all the same, and compares with
// what the receiver's import log says.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/scene"
	"excavate/core/target"
	"excavate/internal/shipped"
	"excavate/standin/receiver"
	"excavate/targets"
)

func main() {
	n := flag.Int("n", 200, "how many assets")
	seed := flag.Uint64("seed", 1, "of the generator")
	all := flag.Bool("all", false, "print every difference")
	flag.Parse()
	r, err := run(*n, *seed)
	if err != nil {
		fmt.Fprintln(os.Stderr, "foretell:", err)
		os.Exit(1)
	}
	r.print(os.Stdout, *all)
}

// tally is what was foretold and what happened, of one way to spoil assets or
// of all.
type tally struct {
	assets, happened, foretold, both int
	differ                           []string
}

// missed are objections that nobody foretold.
func (t *tally) missed() int { return t.happened - t.both }

// falsely are findings that did not happen.
func (t *tally) falsely() int { return t.foretold - t.both }

func (t *tally) add(asset string, out []target.Outcome) {
	t.assets++
	for _, o := range out {
		switch {
		case o.Foretold && o.Happened:
			t.both++
			t.foretold++
			t.happened++
		case o.Foretold:
			t.foretold++
			t.differ = append(t.differ, fmt.Sprintf("%s: foretold, did not happen: %s, %s", asset, o.Rule, o.Where))
		case o.Happened:
			t.happened++
			t.differ = append(t.differ, fmt.Sprintf("%s: happened, not foretold: %s, %s", asset, o.Rule,
				strings.Join(o.Says, "; ")))
		}
	}
}

// result is a whole run.
type result struct {
	by  map[string]*tally
	all tally
}

func share(n, of int) float64 {
	if of == 0 {
		return 0
	}
	return 100 * float64(n) / float64(of)
}

func (r *result) print(w io.Writer, all bool) {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintln(t, "spoilt by\tassets\tobjections\tforetold\tnot foretold\tfalse alarms")
	var names []string
	for k := range r.by {
		names = append(names, k)
	}
	slices.Sort(names)
	for _, k := range names {
		x := r.by[k]
		fmt.Fprintf(t, "%s\t%d\t%d\t%d\t%d\t%d\n", k, x.assets, x.happened, x.both, x.missed(), x.falsely())
	}
	t.Flush()
	for _, d := range r.all.differ[:min(len(r.all.differ), map[bool]int{true: len(r.all.differ), false: 10}[all])] {
		fmt.Fprintln(w, d)
	}
	fmt.Fprintf(w, "%.1f%% foretold, %.1f%% false alarms\n", share(r.all.both, r.all.happened),
		share(r.all.falsely(), r.all.foretold))
}

// far is a receiver that runs, with the sheets that it goes by.
type far struct {
	url    string
	checks []string
	sheets []string
}

// run spoils n assets and delivers them.
func run(n int, seed uint64) (*result, error) {
	engine := httptest.NewServer(receiver.NewEngine("reedlight", "tideworks", "stilttable", "weirwork").Handler())
	defer engine.Close()
	film := httptest.NewServer(receiver.NewFilm().Handler())
	defer film.Close()
	sheets, err := target.Load(targets.FS)
	if err != nil {
		return nil, err
	}
	var fars []far
	for _, u := range []string{engine.URL, film.URL} {
		var about receiver.About
		if err := get(u+"/receiver", &about); err != nil {
			return nil, err
		}
		fars = append(fars, far{u, about.Checks, about.Targets})
	}
	type way struct {
		far   *far
		sheet string
	}
	var ways []way
	for i := range fars {
		for _, s := range fars[i].sheets {
			ways = append(ways, way{&fars[i], s})
		}
	}
	out := &result{by: map[string]*tally{}}
	r := rand.New(rand.NewPCG(seed, 3))
	for i, k := 0, 0; i < n; k++ {
		w := ways[k%len(ways)]
		d := damages[(k/len(ways))%len(damages)]
		figure := (k/3)%2 == 0
		s, err := spoilt(sheets[w.sheet], figure, seed+uint64(k), d, r)
		if err != nil {
			return nil, fmt.Errorf("%s, %s: %w", w.sheet, d.name, err)
		}
		if s == nil { // this asset has nothing to spoil so
			if s, err = spoilt(sheets[w.sheet], !figure, seed+uint64(k), d, r); err != nil || s == nil {
				if k > 40*n {
					return nil, fmt.Errorf("%s: no asset can be spoilt so", d.name)
				}
				continue
			}
		}
		i++
		outcome, err := deliver(w.far, w.sheet, sheets[w.sheet], s)
		if err != nil {
			return nil, fmt.Errorf("%s, %s: %w", w.sheet, d.name, err)
		}
		t := out.by[d.name]
		if t == nil {
			t = &tally{}
			out.by[d.name] = t
		}
		name := fmt.Sprintf("%s for %s, %s", s.Name, w.sheet, d.name)
		t.add(name, outcome)
		out.all.add(name, outcome)
	}
	return out, nil
}

// spoilt is an asset that the sheet would take but for one thing.
func spoilt(t *target.Sheet, figure bool, seed uint64, d damage, r *rand.Rand) (*scene.Scene, error) {
	m, err := target.MendAll(context.Background(), "made", sound(t, figure, seed), &chain.Chain{}, t, true, nil, nil)
	if err != nil {
		return nil, err
	}
	if stops, warns, _ := target.Count(m.Findings); stops+warns > 0 {
		return nil, fmt.Errorf("the asset is not sound to begin with: %+v", m.Findings[0])
	}
	s := copied(m.Scene)
	if !d.do(s, r) {
		return nil, nil
	}
	return s, s.Validate()
}

// deliver sends an asset despite whatever is foretold, and compares.
func deliver(f *far, id string, t *target.Sheet, s *scene.Scene) ([]target.Outcome, error) {
	maker := &delivery.Maker{Writers: shipped.Writers, Version: "test"}
	made, err := maker.Make(context.Background(), s, t, delivery.Options{})
	if err != nil {
		return nil, err
	}
	files, _, err := maker.Whole(made, delivery.Of{Found: s, Chain: &chain.Chain{}, Sheet: t})
	if err != nil {
		return nil, err
	}
	zip, err := delivery.Package(files)
	if err != nil {
		return nil, err
	}
	q := url.Values{"target": {id}, "walk": {"no"}, "search": {made.SearchLine}}
	resp, err := http.Post(f.url+"/deliveries?"+q.Encode(), "application/zip", bytes.NewReader(zip))
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != 200 {
		b, _ := io.ReadAll(resp.Body)
		return nil, fmt.Errorf("the receiver answers %d: %s", resp.StatusCode, b)
	}
	var report struct{ Log []target.Heard }
	if err := json.NewDecoder(resp.Body).Decode(&report); err != nil {
		return nil, err
	}
	return target.Compare(target.Rehearse(s, t), f.checks, report.Log, t.Rules), nil
}

func get(u string, v any) error {
	resp, err := http.Get(u)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return json.NewDecoder(resp.Body).Decode(v)
}
