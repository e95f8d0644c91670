package main

import (
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"

	"excavate/core/format"
	"excavate/core/unfold"

	"github.com/spf13/cobra"
)

func unfoldCommand(o *options) *cobra.Command {
	var out, height, paper, margin, tab string
	var bare, hidden, asJSON, replace bool
	var tries int
	var dpi float64
	c := &cobra.Command{Use: "unfold MODEL -o OUT.pdf --height 60mm --paper a4",
		Short: "Unfold a model to pieces of paper", Args: cobra.ExactArgs(1),
		Long: `Unfolds a model to flat pieces that are cut out, folded and glued: pages at true scale as PDF, or as SVG in millimetres with all pages below each other. It says how many pages and pieces there are and about how many hours they take, so that one can decide before printing.

Lengths are in mm, or with the unit cm, m or in.`}
	f := c.Flags()
	f.StringVarP(&out, "output", "o", "", "the `FILE` to write, .pdf or .svg; left out, only the figures are told")
	f.StringVar(&height, "height", "100mm", "how tall the model is to be, a `LENGTH`")
	f.StringVar(&paper, "paper", "a4", "the `PAPER`: a4, a3, letter, or WIDTHxHEIGHT in mm")
	f.StringVar(&margin, "margin", "10mm", "what of each page's edge stays free, a `LENGTH`")
	f.StringVar(&tab, "tabs", "6mm", "how deep the glue tabs are, a `LENGTH`; 0 is none")
	f.IntVar(&tries, "tries", 0,
		"`N` orders are tried, up to 24 if left out, and the one that takes the least work is kept")
	f.BoolVar(&bare, "bare", false, "only lines, no pictures and colours")
	f.BoolVar(&hidden, "hidden", false, "keep faces that nobody can see")
	f.Float64Var(&dpi, "dpi", 150, "`DOTS` to the inch of pictures")
	f.BoolVar(&asJSON, "json", false, "print the figures as one JSON object")
	f.BoolVar(&replace, "replace", false, "write over what is there already")
	o.sourceFlag(c)
	c.RegisterFlagCompletionFunc("paper", words("a4", "a3", "letter"))
	c.RunE = func(cmd *cobra.Command, args []string) error {
		opts := unfold.Options{Tries: tries, Hidden: hidden}
		var err error
		for _, l := range []struct {
			to         *float64
			flag, text string
		}{{&opts.Height, "height", height}, {&opts.Margin, "margin", margin}, {&opts.Tab, "tabs", tab}} {
			if *l.to, err = millimetres(l.text); err != nil {
				return fmt.Errorf("--%s %w", l.flag, err)
			}
			if *l.to == 0 && l.to != &opts.Height {
				*l.to = -1 // none; 0 is the usual
			}
		}
		if opts.Height <= 0 {
			return fmt.Errorf("--height %q: it is above 0", height)
		}
		if opts.Paper, err = unfold.PaperOf(paper); err != nil {
			return fmt.Errorf("--paper %w", err)
		}
		ending := strings.ToLower(filepath.Ext(out))
		if out != "" && ending != ".pdf" && ending != ".svg" {
			return fmt.Errorf("%s: paper is written as .pdf or .svg", out)
		}
		s, files, err := o.modelFor(cmd, args[0], replace)
		if err != nil {
			return err
		}
		sheet, err := unfold.Of(cmd.Context(), s, opts)
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		if out != "" {
			write := sheet.PDF
			if ending == ".svg" {
				write = sheet.SVG
			}
			b, err := write(cmd.Context(), unfold.Print{Bare: bare, DPI: dpi})
			if err != nil {
				return err
			}
			if err := files.write(out, b); err != nil {
				return err
			}
		}
		if asJSON {
			return printJSON(cmd.OutOrStdout(), sheet.Summary())
		}
		return printSheet(cmd.OutOrStdout(), sheet)
	}
	return c
}

// printSheet says what one decides by.
func printSheet(w io.Writer, s *unfold.Sheet) error {
	t := &s.Told
	_, err := fmt.Fprintf(w,
		"%s, %s, about %.1f hours\n%.0f × %.0f × %.0f mm; %d facets of %d triangles, %d folds, %d edges to glue, %.1f m to cut\n",
		format.Counted(s.Pages, "page", "pages"), format.Counted(len(s.Pieces), "piece",
			"pieces"), t.Hours, s.Size[0], s.Size[1], s.Size[2],
		t.Facets, t.Triangles, t.Folds, t.Cuts, t.CutLength/1000)
	for _, n := range s.Notes() {
		if err == nil {
			_, err = fmt.Fprintf(w, "note: %s\n", n)
		}
	}
	return err
}

// millimetres reads a length.
func millimetres(text string) (float64, error) {
	t := strings.TrimSpace(strings.ToLower(text))
	factor := 1.0
	for _, u := range []struct {
		name string
		is   float64
	}{{"mm", 1}, {"cm", 10}, {"in", 25.4}, {"m", 1000}} {
		if s, ok := strings.CutSuffix(t, u.name); ok {
			t, factor = strings.TrimSpace(s), u.is
			break
		}
	}
	v, err := strconv.ParseFloat(t, 64)
	if err != nil || !(v >= 0) || v > 1e6 {
		return 0, fmt.Errorf("%q: write a length such as 60mm, 6cm or 2.5in", text)
	}
	return v * factor, nil
}
