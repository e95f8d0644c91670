package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"excavate/core/catalog"
	"excavate/core/extract"
	"excavate/core/find"
	"excavate/core/naming"
	"excavate/core/source"
	"excavate/internal/demo"
	"excavate/internal/device"
	"excavate/targets"

	"github.com/spf13/cobra"
)

func listCommand(o *options) *cobra.Command {
	var asJSON bool
	var inside []string
	c := &cobra.Command{Use: "list SOURCE", Short: "List the entries of an archive or folder", Args: cobra.ExactArgs(1)}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object a line: path, size, packed, kind")
	c.Flags().StringArrayVar(&inside, "inside", nil, "list the archive at `PATH` within the source instead; given again for one within that")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		lib, s, err := o.mount(cmd.Context(), args[0], inside...)
		if err != nil {
			return err
		}
		defer s.Close()
		told, err := lib.Told(cmd.Context(), s)
		if err != nil {
			return err
		}
		out := bufio.NewWriter(cmd.OutOrStdout())
		defer out.Flush()
		enc := json.NewEncoder(out)
		enc.SetEscapeHTML(false)
		var tab *tabwriter.Writer
		if !asJSON {
			tab = tabwriter.NewWriter(out, 0, 8, 2, ' ', 0)
			fmt.Fprintln(tab, "kind\tsize\tpacked\tpath")
		}
		failed := false
		for i, e := range s.Entries() {
			if err := cmd.Context().Err(); err != nil {
				return err
			}
			kind := told[i].Kind
			if told[i].Err != nil && e.Err == nil { // those with an error of their own are among the problems
				failed = true
				fmt.Fprintln(os.Stderr, "excavate:", told[i].Err)
			}
			if asJSON {
				err = enc.Encode(struct {
					Path   string    `json:"path"`
					Size   int64     `json:"size"`
					Packed int64     `json:"packed"`
					Kind   find.Kind `json:"kind"`
				}{e.Path, e.Size, e.Packed, kind})
			} else {
				_, err = fmt.Fprintf(tab, "%s\t%d\t%d\t%s\n", kind, e.Size, e.Packed, e.Path)
			}
			if err != nil {
				return err
			}
		}
		if tab != nil {
			tab.Flush()
		}
		if reportProblems(s) || failed {
			return errQuiet
		}
		return nil
	}
	return c
}

// mount opens one source with the layouts that are at hand, or an archive
// within it.
func (o *options) mount(ctx context.Context, path string, inside ...string) (*find.Library, *source.Source, error) {
	lib, err := o.library()
	if err != nil {
		return nil, nil, err
	}
	opts := source.Options{Layouts: lib.Layouts}
	if path == "-" {
		// Archives are read at random, so that what comes in is put down first.
		if path, err = putDown(os.Stdin); err != nil {
			return nil, nil, fmt.Errorf("the standard input: %w", err)
		}
		defer os.Remove(path) // it stays open
	}
	s, err := source.Open(ctx, path, opts)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range inside { // what lies around stays open to the end
		i := s.Lookup(p)
		if i < 0 {
			return nil, nil, fmt.Errorf("%s holds no entry %q", s.Place(), p)
		}
		if s, err = s.Mount(ctx, i, opts); err != nil {
			return nil, nil, err
		}
	}
	return lib, s, nil
}

// putDown copies what comes in to a file of its own.
func putDown(in io.Reader) (string, error) {
	f, err := os.CreateTemp("", "standard-input-*")
	if err != nil {
		return "", err
	}
	_, err = io.Copy(f, in)
	if err = errors.Join(err, f.Close()); err != nil {
		os.Remove(f.Name())
	}
	return f.Name(), err
}

// reportProblems prints what had to be changed and tells whether there was
// anything.
func reportProblems(s *source.Source) bool {
	for _, p := range s.Problems {
		fmt.Fprintf(os.Stderr, "excavate: %s: %v\n", s.Path, p)
	}
	return len(s.Problems) > 0
}

func unpackCommand(o *options) *cobra.Command {
	var dir, zip, match, policy, journal, summary, set, rulesFile string
	var moves, inside, names []string
	var flat, needs bool
	c := &cobra.Command{Use: "unpack SOURCE... (-o DIR | --zip FILE)", Short: "Unpack archives or folders, or a part of them", Args: cobra.MinimumNArgs(1),
		Long: "Unpack archives or folders, or a part of them; - is the standard input. Of several sources that hold a path the first one's entry is taken."}
	f := c.Flags()
	f.StringVarP(&dir, "output", "o", "", "the folder `DIR` to unpack to")
	f.StringVar(&zip, "zip", "", "the ZIP `FILE` to write instead of a folder")
	f.StringVar(&match, "match", "", "only entries that fit `GLOB`, such as \"wash/**/*.wash\"")
	f.StringArrayVar(&names, "entry", nil, "only the entry at `PATH`; may be given more than once")
	f.StringVar(&set, "set", "", "only the entries of the set `NAME`: names that are the same but for what the name rules take off")
	f.StringVar(&rulesFile, "rules", "", "a `FILE` of name rules")
	f.BoolVar(&needs, "needs", false, "with all that the entries need")
	f.StringVar(&policy, "policy", string(extract.Refuse), "where a file is there already: refuse, skip, replace or keep-both")
	f.StringArrayVar(&moves, "map", nil, "put what begins with FROM below TO, as `FROM=TO`; may be given more than once")
	f.BoolVar(&flat, "flat", false, "put all files directly in the folder")
	f.StringArrayVar(&inside, "inside", nil, "unpack the archive at `PATH` within the source; given again for one within that")
	f.StringVar(&journal, "journal", "", "note in `FILE` what is done, and go on from there if it is there")
	f.StringVar(&summary, "summary", "", "save what was done to `FILE` as JSON")
	c.RegisterFlagCompletionFunc("policy", words(string(extract.Refuse), string(extract.Skip), string(extract.Replace), string(extract.KeepBoth)))
	c.MarkFlagsMutuallyExclusive("output", "zip")
	c.MarkFlagsOneRequired("output", "zip")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		if len(inside) > 0 && len(args) > 1 {
			return errors.New("--inside goes with one source")
		}
		var lib *find.Library
		var stack source.Stack
		bad := false
		for _, a := range args {
			l, s, err := o.mount(ctx, a, inside...)
			if err != nil {
				return err
			}
			defer s.Close()
			bad = reportProblems(s) || bad
			lib, stack = l, append(stack, s)
		}
		opts := extract.Options{Dir: dir, Policy: extract.Policy(policy), Flat: flat, Empty: match == "" && len(names) == 0 && set == ""}
		if !slices.Contains(extract.Policies, opts.Policy) {
			return fmt.Errorf("--policy is refuse, skip, replace or keep-both, not %q", policy)
		}
		for _, m := range moves {
			from, to, ok := strings.Cut(m, "=")
			if !ok {
				return fmt.Errorf("--map is FROM=TO, not %q", m)
			}
			opts.Map = append(opts.Map, extract.Mapping{From: from, To: to})
		}
		refs, err := o.choose(ctx, lib, stack, match, names, set, rulesFile, needs)
		if err != nil {
			return err
		}
		plan, err := extract.NewPlan(stack, refs, opts)
		if err != nil {
			return err
		}
		start := time.Now()
		job := &extract.Job{Plan: plan, Sources: stack, Dir: dir, Zip: zip, Policy: opts.Policy, Journal: journal}
		bar := newProgress(cmd.ErrOrStderr(), int64(len(plan.Items)), "entries")
		job.Progress = func(entries, _ int64) { bar.at(entries) }
		res, err := job.Run(ctx)
		bar.end()
		for _, e := range res.Failures {
			bad = true
			fmt.Fprintln(os.Stderr, "excavate:", e.Error)
		}
		for _, ch := range res.Changes {
			if ch.To == "" {
				fmt.Fprintf(os.Stderr, "excavate: %s is not written: %s\n", ch.Entry, ch.Why)
				continue
			}
			fmt.Fprintf(os.Stderr, "excavate: %s is written as %s: %s\n", ch.Entry, ch.To, ch.Why)
		}
		if summary != "" { // a report of this run: it may replace an older one
			b, _ := json.MarshalIndent(res, "", "  ")
			if err := os.WriteFile(summary, append(b, '\n'), 0o644); err != nil {
				return err
			}
		}
		secs := time.Since(start).Seconds()
		fmt.Fprintf(cmd.OutOrStdout(), "%d entries, %.1f MB in %.2f s (%.0f MB/s) to %s\n", res.Entries, float64(res.Bytes)/1e6, secs, float64(res.Bytes)/1e6/max(secs, 1e-9), res.To)
		if err != nil {
			return err
		}
		if journal != "" {
			os.Remove(journal)
		}
		if bad {
			return errQuiet
		}
		return nil
	}
	return c
}

// choose lists the entries to take out. Those that another source overrides
// are left out.
func (o *options) choose(ctx context.Context, lib *find.Library, stack source.Stack, match string, names []string, set, rulesFile string, needs bool) ([]extract.Ref, error) {
	if !needs && set == "" && len(names) == 0 {
		refs, err := extract.Matching(stack, match)
		if err != nil || len(stack) == 1 {
			return refs, err
		}
		seen := map[string]bool{}
		return slices.DeleteFunc(refs, func(r extract.Ref) bool {
			p := catalog.Lower(stack[r.Source].Entries()[r.Entry].Path)
			// Two entries of one source are both its own.
			other := seen[p]
			if r.Source == 0 || !other {
				seen[p] = true
			}
			return other && r.Source > 0
		}), nil
	}
	rules, err := readRules(rulesFile)
	if err != nil {
		return nil, err
	}
	var asks func(string) bool
	if needs {
		asks = func(string) bool { return true }
	}
	sv, err := lib.Survey(ctx, stack, rules, asks)
	if err != nil {
		return nil, err
	}
	chosen := map[int64]bool{}
	add := func(rows []int32) {
		for _, r := range rows {
			if sv.Catalog.Winner(r) == r {
				e, _ := sv.Catalog.Entry(r)
				chosen[e.ID] = true
			}
		}
	}
	if match != "" {
		rows, err := sv.Catalog.Rows(catalog.Query{Text: match})
		if err != nil {
			return nil, err
		}
		add(rows)
	}
	for _, n := range names {
		before := len(chosen)
		for si, s := range stack {
			if i := s.Lookup(n); i >= 0 {
				chosen[sv.ID(si, i)] = true
				break
			}
		}
		if len(chosen) == before {
			return nil, fmt.Errorf("no source holds %q", n)
		}
	}
	if set != "" {
		rows := sv.Set(strings.ToLower(set))
		if len(rows) == 0 {
			return nil, fmt.Errorf("there is no set %q", set)
		}
		add(rows)
	}
	ids := slices.Sorted(maps.Keys(chosen))
	if needs {
		rows, missing := sv.Closure(ids, func(id int64) (int32, bool) { return sv.Row(id), true })
		for _, m := range missing {
			fmt.Fprintf(os.Stderr, "excavate: needed and not found: %s; looked for %s\n", m, strings.Join(sv.Looked(m), ", "))
		}
		for _, r := range rows {
			e, _ := sv.Catalog.Entry(r)
			chosen[e.ID] = true
		}
		ids = slices.Sorted(maps.Keys(chosen))
	}
	refs := make([]extract.Ref, len(ids))
	for i, id := range ids {
		refs[i].Source, refs[i].Entry = sv.Place(id)
	}
	return refs, nil
}

func readRules(file string) (naming.Rules, error) {
	if file == "" {
		return nil, nil
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	r, err := naming.Parse(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return r, nil
}

func linksCommand(o *options) *cobra.Command {
	var asJSON, missing bool
	var rulesFile string
	c := &cobra.Command{Use: "links SOURCE...", Short: "Show what entries need, where it is, and what is missing", Args: cobra.MinimumNArgs(1),
		Long: "Show what the entries of some sources need, where each was found and how surely. The first source that holds a name wins. Ends with status 1 if something is missing."}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object a link")
	c.Flags().BoolVar(&missing, "missing", false, "only what was not found")
	c.Flags().StringVar(&rulesFile, "rules", "", "a `FILE` of name rules")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		lib, stack, done, err := (&options{layouts: o.layouts, sources: args}).open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		rules, err := readRules(rulesFile)
		if err != nil {
			return err
		}
		sv, err := lib.Survey(cmd.Context(), stack, rules, func(string) bool { return true })
		if err != nil {
			return err
		}
		rows, err := sv.Catalog.Rows(catalog.Query{Kind: string(find.Model)})
		if err != nil {
			return err
		}
		type line struct {
			Entry  string   `json:"entry"`
			Source string   `json:"source"`
			Ref    string   `json:"ref"`
			Role   string   `json:"role"`
			How    string   `json:"how"`
			Sure   string   `json:"sure"`
			Found  string   `json:"found,omitempty"`
			In     string   `json:"in,omitempty"`
			Looked []string `json:"looked,omitempty"`
		}
		out := bufio.NewWriter(cmd.OutOrStdout())
		defer out.Flush()
		enc := json.NewEncoder(out)
		enc.SetEscapeHTML(false)
		lost := false
		for _, r := range rows {
			e, src := sv.Catalog.Entry(r)
			for _, l := range sv.Needs(e.ID) {
				x := line{Entry: e.Path, Source: src.Label, Ref: l.Ref, Role: l.Role, How: l.How.String(), Sure: l.How.Sure()}
				if l.Row >= 0 {
					if missing {
						continue
					}
					hit, in := sv.Catalog.Entry(l.Row)
					x.Found, x.In = hit.Path, in.Label
				} else {
					lost = true
					x.Looked = sv.Looked(l.Ref)
				}
				if asJSON {
					if err := enc.Encode(x); err != nil {
						return err
					}
					continue
				}
				where := "looked for " + strings.Join(x.Looked, ", ")
				if l.Row >= 0 {
					where = x.In + ": " + x.Found
				}
				fmt.Fprintf(out, "%s needs %s (%s): %s, %s\n", x.Entry, x.Ref, x.Role, x.How, where)
			}
		}
		if lost {
			return errQuiet
		}
		return nil
	}
	return c
}

func namesCommand(o *options) *cobra.Command {
	var asRules bool
	c := &cobra.Command{Use: "names SOURCE...", Short: "Propose name rules from the names in some sources", Args: cobra.MinimumNArgs(1)}
	c.Flags().BoolVar(&asRules, "rules", false, "print those with a guess as a document of name rules")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		lib, stack, done, err := (&options{layouts: o.layouts, sources: args}).open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		sv, err := lib.Survey(cmd.Context(), stack, nil, nil)
		if err != nil {
			return err
		}
		list := naming.Propose(sv.Catalog.Names)
		if asRules {
			var rules naming.Rules
			for _, p := range list {
				if p.Means != "" {
					rules = append(rules, naming.Rule{Where: p.Where, Affix: p.Affix, Means: p.Means, Value: p.Value})
				}
			}
			b, err := rules.YAML()
			if err != nil {
				return err
			}
			_, err = cmd.OutOrStdout().Write(b)
			return err
		}
		tab := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 8, 2, ' ', 0)
		fmt.Fprintln(tab, "where\taffix\tcount\tperhaps\tsuch as")
		for _, p := range list {
			fmt.Fprintf(tab, "%s\t%s\t%d\t%s\t%s\n", p.Where, p.Affix, p.Count, strings.TrimSpace(p.Means+" "+p.Value), p.Example)
		}
		return tab.Flush()
	}
	return c
}

func pullCommand() *cobra.Command {
	var dir, token, match string
	var allow []string
	var list bool
	c := &cobra.Command{Use: "pull ADDRESS (--list | -o DIR)", Short: "List what a device offers, or pull it in", Long: "Lists what a device offers, or pulls it in. The terms that the device tells lie beside each file, as NAME.terms.json: what is made of it says them.", Args: cobra.ExactArgs(1)}
	c.Flags().StringVarP(&dir, "output", "o", "", "the folder `DIR` to write to; what has arrived of an earlier try is gone on with")
	c.Flags().StringVar(&token, "token", "", "the `TOKEN` to sign in with")
	c.Flags().StringVar(&match, "match", "", "only what fits `GLOB`")
	c.Flags().StringArrayVar(&allow, "device", nil, "a `HOST` that devices may be on, besides this machine")
	c.Flags().BoolVar(&list, "list", false, "only list what is offered")
	c.MarkFlagsOneRequired("list", "output")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		ctx, out := cmd.Context(), cmd.OutOrStdout()
		d, err := device.New(args[0], token, allow)
		if err != nil {
			return err
		}
		if _, err := d.About(ctx); err != nil {
			return err
		}
		offers, err := d.Offers(ctx)
		if err != nil {
			return err
		}
		for _, x := range offers {
			if match != "" && !source.Match(match, x.Name) {
				continue
			}
			owner := "terms not stated"
			if x.Terms != nil {
				owner = x.Terms.Owner + ", " + x.Terms.Short()
			}
			fmt.Fprintf(out, "%s\t%d\t%s\t%s\n", x.Name, x.Size, x.About, owner)
			if list {
				continue
			}
			if err := d.Fetch(ctx, x, filepath.Join(dir, filepath.FromSlash(x.Name)), func(int64) {}); err != nil {
				return err
			}
			offered := func(o device.Offer) bool { return o.Name == find.TermsFile(x.Name) }
			if x.Terms == nil || !x.Terms.Stated() || slices.ContainsFunc(offers, offered) { // a file of the device's own is kept
				continue
			}
			t := *x.Terms
			if t.Evidence == "" {
				t.Evidence = "told by " + args[0]
			}
			b, err := json.MarshalIndent(t, "", "  ")
			if err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(dir, filepath.FromSlash(find.TermsFile(x.Name))), append(b, '\n'), 0o644); err != nil {
				return fmt.Errorf("the terms of %s: %w", x.Name, err)
			}
		}
		return nil
	}
	return c
}

func demoDataCommand() *cobra.Command {
	var dir string
	c := &cobra.Command{Use: "demo-data -o DIR", Short: "Write the demo's archives, its chain and its target sheet", Args: cobra.NoArgs}
	c.Flags().StringVarP(&dir, "output", "o", "", "the folder `DIR` to write to")
	c.MarkFlagRequired("output")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		return writeDemoData(cmd.Context(), dir)
	}
	return c
}

func writeDemoData(_ context.Context, dir string) error {
	sheet, err := targets.FS.ReadFile("gltf-engine.yaml")
	if err != nil {
		return err
	}
	return demo.Write(dir, sheet)
}
