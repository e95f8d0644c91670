package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"text/tabwriter"
	"time"

	"excavate/core/find"
	"excavate/core/source"
	"excavate/internal/demo"
	"excavate/targets"

	"github.com/spf13/cobra"
)

func listCommand(o *options) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "list SOURCE", Short: "List the entries of an archive or folder", Args: cobra.ExactArgs(1)}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object a line: path, size, packed, kind")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		lib, s, err := o.mount(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		defer s.Close()
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
			kind := find.Data
			head, err := s.Head(i, find.HeadBytes)
			switch {
			case err == nil:
				kind, _ = lib.KindOf(head)
			case e.Err == nil: // those with an error of their own are among the problems
				failed = true
				fmt.Fprintln(os.Stderr, "excavate:", err)
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

// mount opens one source with the layouts that are at hand.
func (o *options) mount(ctx context.Context, path string) (*find.Library, *source.Source, error) {
	lib, err := o.library()
	if err != nil {
		return nil, nil, err
	}
	s, err := source.Open(ctx, path, lib.Layouts)
	return lib, s, err
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
	var dir, match string
	c := &cobra.Command{Use: "unpack SOURCE -o DIR", Short: "Unpack an archive or folder", Args: cobra.ExactArgs(1)}
	c.Flags().StringVarP(&dir, "output", "o", "", "the folder `DIR` to unpack to")
	c.Flags().StringVar(&match, "match", "", "only entries that fit `GLOB`, such as \"wash/**/*.wash\"")
	c.MarkFlagRequired("output")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		_, s, err := o.mount(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		defer s.Close()
		bad := reportProblems(s)
		start := time.Now()
		res, err := source.Unpack(cmd.Context(), s, dir, match, nil)
		for _, e := range res.Errors {
			bad = true
			fmt.Fprintln(os.Stderr, "excavate:", e)
		}
		secs := time.Since(start).Seconds()
		fmt.Fprintf(cmd.OutOrStdout(), "%d entries, %.1f MB in %.2f s (%.0f MB/s) to %s\n", res.Entries, float64(res.Bytes)/1e6, secs, float64(res.Bytes)/1e6/max(secs, 1e-9), dir)
		if err != nil {
			return err
		}
		if bad {
			return errQuiet
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
