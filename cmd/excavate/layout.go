package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"excavate/core/find"
	"excavate/core/layout"
	"excavate/core/source"

	"github.com/spf13/cobra"
)

func readLayout(file string) (*layout.Layout, error) {
	doc, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return layout.Compile(filepath.Base(file), doc)
}

func explainCommand(o *options) *cobra.Command {
	var focus int64
	c := &cobra.Command{Use: "explain LAYOUT FILE", Short: "Show field by field what a layout reads in a file", Args: cobra.ExactArgs(2),
		Long: "Show field by field what a layout document reads in a file, what came out, and which bytes nothing explains. Ends with status 1 if the file is not read to its end."}
	c.Flags().Int64Var(&focus, "focus", -1, "of long lists show the elements around this `OFFSET`")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		l, err := readLayout(args[0])
		if err != nil {
			return err
		}
		f, err := os.Open(args[1])
		if err != nil {
			return err
		}
		defer f.Close()
		st, err := f.Stat()
		if err != nil {
			return err
		}
		if !st.Mode().IsRegular() {
			return fmt.Errorf("%s is no file", args[1])
		}
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		if beside, err := source.OpenShallow(filepath.Dir(args[1])); err == nil {
			defer beside.Close()
			stack = append(stack, beside)
		}
		around := lib.Around(find.Input{Name: filepath.Base(args[1]), Finder: pinned{stack, o.binds}})
		around.Readings = o.readings
		x := l.Explain(cmd.Context(), layout.Random(f, st.Size()), around, focus)
		out := cmd.OutOrStdout()
		printPieces(out, x.Pieces, 0)
		fmt.Fprintf(out, "%d of %d bytes are explained\n", x.Covered, x.Size)
		for i, g := range x.Gaps {
			if i == 8 {
				fmt.Fprintf(out, "and %d more\n", len(x.Gaps)-i)
				break
			}
			fmt.Fprintf(out, "nothing explains %d bytes from offset %d (0x%x) on\n", g.Size, g.Off, g.Off)
		}
		if x.Made != "" {
			fmt.Fprintln(out, x.Made)
		}
		return x.Err
	}
	return c
}

func printPieces(w io.Writer, list []*layout.Piece, deep int) {
	for _, p := range list {
		value := p.Value
		if p.Error != "" {
			value = p.Error
		}
		fmt.Fprintf(w, "%s%s  %s  %s  at %s0x%x, %d bytes\n", strings.Repeat("  ", deep), p.Name, p.Type, value, strings.TrimLeft(p.In+" ", " "), p.Off, p.Size)
		if p.First > 0 {
			fmt.Fprintf(w, "%s%d before\n", strings.Repeat("  ", deep+1), p.First)
		}
		printPieces(w, p.Pieces, deep+1)
		if after := p.Count - p.First - len(p.Pieces); len(p.Pieces) > 0 && after > 0 {
			fmt.Fprintf(w, "%s%d more\n", strings.Repeat("  ", deep+1), after)
		}
	}
}

func coverCommand(o *options) *cobra.Command {
	c := &cobra.Command{Use: "cover LAYOUT SOURCE...", Short: "Run a layout over every entry that it recognises", Args: cobra.MinimumNArgs(2),
		Long: "Run a layout over every entry of some sources that it recognises: how many open, which fail at which field, and how much of them no field explains. Ends with status 1 if one fails."}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		l, err := readLayout(args[0])
		if err != nil {
			return err
		}
		lib, stack, done, err := (&options{layouts: o.layouts, sources: args[1:]}).open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		v, err := lib.Cover(cmd.Context(), l, stack, stack, nil)
		if err != nil {
			return err
		}
		out := cmd.OutOrStdout()
		share := 100.0
		if v.Bytes > 0 {
			share = 100 * float64(v.Explained) / float64(v.Bytes)
		}
		fmt.Fprintf(out, "%d entries recognised, %d opened, %d failed; %.1f %% of %d bytes explained\n", v.Entries, v.Opened, v.Failed, share, v.Bytes)
		name := func(p find.Place) string {
			return stack[p.Source].Label + ":" + stack[p.Source].Entries()[p.Entry].Path
		}
		for _, f := range v.Faults {
			at := ""
			if f.At >= 0 {
				at = fmt.Sprintf(" at offset %d", f.At)
			}
			fmt.Fprintf(out, "%d x line %d column %d: %s (first in %s%s)\n", f.Count, f.Line, f.Col, f.Message, name(f.Place), at)
		}
		for i, g := range v.Gaps {
			if i == 10 {
				break
			}
			fmt.Fprintf(out, "nothing explains %d bytes from offset %d on in %s\n", g.Size, g.At, name(g.Place))
		}
		if v.Entries == 0 {
			return errors.New("the layout recognises no entry of these sources")
		}
		if v.Failed > 0 {
			return errQuiet
		}
		return nil
	}
	return c
}

// pinned finds names that are bound by hand first.
type pinned struct {
	in find.Finder
	to map[string]string
}

func (p pinned) Resolve(ref string, accept func(*source.Source, int) bool) (source.Hit, bool, []string) {
	if name, ok := p.to[ref]; ok {
		hit, ok, looked := p.in.Resolve(name, nil)
		if ok && hit.How != source.SamePath && !strings.EqualFold(filepath.Base(hit.Path()), filepath.Base(name)) {
			ok = false // another ending is not what was named
		}
		hit.How = source.Pinned
		return hit, ok, looked
	}
	return p.in.Resolve(ref, accept)
}

var _ find.Finder = pinned{}
