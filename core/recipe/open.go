package recipe

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/find"
	"excavate/core/source"
	"excavate/core/target"
)

// State is what became of an item.
type State string

// The states.
const (
	Same    State = "the same"          // every byte is that of the first time
	Other   State = "ran, other result" // another version of the source or of Excavate
	Missing State = "missing"           // its source is not here
	Failed  State = "failed"
)

// Outcome is what became of an item.
type Outcome struct {
	Asset   string          `json:"asset"`
	State   State           `json:"state"`
	Says    []string        `json:"says"`
	Files   []delivery.File `json:"-"` // of the delivery, where it ran
	Package []byte          `json:"-"` // of these alone
}

// Opener makes what recipes say from the sources that are here.
type Opener struct {
	Maker  *delivery.Maker
	Lib    *find.Library // with the recipe's layouts
	Stack  source.Stack
	Finder func(binds map[string]string) find.Finder // finds what an asset names
}

// Plan says in words what opening a recipe does, before anything is done.
func (r *Recipe) Plan(stack source.Stack) (lines []string) {
	for _, s := range r.Sources {
		lines = append(lines, "needs "+s.says(stack))
	}
	for _, l := range r.Layouts {
		lines = append(lines, fmt.Sprintf("reads with the layout %s (%d bytes, within its limits)", l.Name,
			len(l.Text)))
	}
	for i := range r.Items {
		x := &r.Items[i]
		var steps []string
		for _, st := range x.Chain.Steps {
			steps = append(steps, st.Step)
		}
		to := "a GLB"
		if x.Sheet != "" {
			if t, err := target.Parse([]byte(x.Sheet)); err == nil {
				to = "what " + t.Name + " takes"
			}
		}
		lines = append(lines, fmt.Sprintf("makes of %s %s: %s", x.Input.Entry, to, orNone(strings.Join(steps, ", "))))
	}
	return lines
}

func orNone(s string) string {
	if s == "" {
		return "no steps"
	}
	return s
}

// says tells whether a source is here, by its digest or by its name.
func (s *Source) says(stack source.Stack) string {
	for _, x := range stack {
		if d, err := x.Digest(); s.SHA256 != "" && err == nil && d == s.SHA256 {
			return fmt.Sprintf("%s: here, the same", s.Name)
		}
	}
	for _, x := range stack {
		if x.Label == s.Name || path.Base(x.Label) == s.Name {
			return fmt.Sprintf("%s: here, %s", s.Name,
				map[bool]string{true: "another version", false: "a folder, by its name"}[s.SHA256 != ""])
		}
	}
	return fmt.Sprintf("%s: not mounted under this name; its entries are looked for by theirs (%d)", s.Name,
		len(s.Entries))
}

// Open makes every item again.
func (o *Opener) Open(ctx context.Context, r *Recipe) (out []Outcome, err error) {
	for i := range r.Items {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		out = append(out, o.item(ctx, r, &r.Items[i]))
	}
	return out, nil
}

func (o *Opener) item(ctx context.Context, r *Recipe, x *Item) Outcome {
	out := Outcome{Asset: x.Asset, Says: []string{}}
	data, hit, err := delivery.InputOf(&x.Input, o.Stack)
	if err != nil {
		out.State = Missing
		out.Says = append(out.Says, err.Error())
		return out
	}
	if digest(data) != x.Input.SHA256 {
		out.Says = append(out.Says, fmt.Sprintf("%s has other bytes than those that the recipe was made on",
			x.Input.Entry))
	}
	if r.Excavate != o.Maker.Version {
		out.Says = append(out.Says, fmt.Sprintf("it was made by Excavate %s; this is %s", r.Excavate, o.Maker.Version))
	}
	files, notes, err := o.make(ctx, r, x, hit, data)
	out.Says = append(out.Says, notes...)
	if err != nil {
		out.State = Failed
		out.Says = append(out.Says, err.Error())
		return out
	}
	if out.Package, err = delivery.Package(files); err != nil {
		out.State = Failed
		out.Says = append(out.Says, err.Error())
		return out
	}
	out.Files = files
	out.State = Same
	if x.Package != "" && digest(out.Package) == x.Package {
		return out
	}
	for _, m := range x.Made {
		k := slices.IndexFunc(files, func(f delivery.File) bool { return f.Path == m.Path })
		switch {
		case k < 0:
			out.State = Other
			out.Says = append(out.Says, m.Path+": it is not made any more")
		default:
			if digest(files[k].Data) != m.SHA256 {
				out.State = Other
				out.Says = append(out.Says, m.Path+": other bytes than then")
			}
		}
	}
	if x.Made == nil {
		out.State = Other
		out.Says = append(out.Says, "the recipe does not say what came of it the first time")
	}
	return out
}

// make decodes an item's asset, runs its chain and makes its files.
func (o *Opener) make(ctx context.Context, r *Recipe, x *Item, hit source.Hit, data []byte) ([]delivery.File,
	[]string, error) {
	var notes []string
	finder := o.Finder(x.Input.Binds)
	var origins find.Origins
	origins.Add(hit)
	outside := &find.Beyond{Lib: o.Lib, Finder: finder, Stack: o.Stack}
	from := delivery.Sources{Lib: o.Lib, Stack: o.Stack, Finder: finder, Beyond: outside}
	s, bands, err := from.Run(ctx, &x.Input, x.Chain, hit, data, origins.Add)
	if err != nil {
		return nil, nil, err
	}
	final := chain.Last(bands).Scene
	of := delivery.Of{Found: s, Chain: x.Chain, Purpose: x.Purpose, Input: &x.Input,
		Options: x.Options, Mended: x.Mended}
	if x.Sheet != "" {
		of.SheetDoc = []byte(x.Sheet)
		if of.Sheet, err = target.Parse(of.SheetDoc); err != nil {
			return nil, nil, err
		}
		of.Findings = target.Rehearse(final, of.Sheet)
		if stops, _, _ := target.Count(of.Findings); stops > 0 {
			notes = append(notes, fmt.Sprintf("the rehearsal finds %d that stop it", stops))
		}
	}
	for _, l := range r.Layouts {
		of.Layouts = append(of.Layouts, delivery.File{Path: l.Name, Data: []byte(l.Text)})
	}
	asks, err := x.Chain.Asks()
	if err != nil {
		return nil, nil, err
	}
	more, err := outside.Origins(asks, chain.Took(bands))
	if err != nil {
		return nil, nil, err
	}
	of.Origins = find.Joined(origins.List(hit.Path(), data), more)
	if x.Purpose != "" {
		for _, refused := range delivery.Refusals(of.Origins, x.Purpose) {
			return nil, nil, fmt.Errorf("the terms do not allow it %s: %w", x.Purpose, refused)
		}
	}
	made, err := o.Maker.Make(ctx, final, of.Sheet, x.Options)
	if err != nil {
		return nil, nil, err
	}
	files, _, err := o.Maker.Whole(made, of)
	return files, notes, err
}
