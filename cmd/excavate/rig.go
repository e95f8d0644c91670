package main

import (
	"fmt"
	"io"
	"strings"

	"excavate/core/rig"

	"github.com/spf13/cobra"
)

// rigCommand tells of a skeleton, and in what it is not a reference.
func rigCommand(o *options) *cobra.Command {
	var against string
	var asJSON bool
	c := &cobra.Command{Use: "rig FILE", Short: "Say what a skeleton is, and how it differs from a reference", Args: cobra.ExactArgs(1),
		Long: "Lists the bones with the limb that each is (in the words of VRM 1.0), what says so and how sure it is, what hangs on it, and what is odd. With --against it says in what the skeleton is not that of another file; the exit status is 1 if it differs, and fit-skeleton mends it."}
	c.Flags().StringVar(&against, "against", "", "a `FILE` with the skeleton that this one must fit")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		load := func(name string) (*rig.Rig, error) {
			in, err := o.load(stack, name)
			defer in.done()
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			s, _, err := o.decodeInput(cmd.Context(), lib, in)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			return rig.Of(s), nil
		}
		k, err := load(args[0])
		if err != nil {
			return err
		}
		var found struct {
			rig.Report
			Against []rig.Difference `json:"against,omitempty"`
		}
		found.Report = rig.Tell(k.Scene, nil)
		if against != "" {
			ref, err := load(against)
			if err != nil {
				return err
			}
			if found.Against, err = rig.HeldAgainst(k.Scene, ref.Scene); err != nil {
				return fmt.Errorf("%s: %w", against, err)
			}
		}
		if asJSON {
			if err := printJSON(cmd.OutOrStdout(), found); err != nil {
				return err
			}
		} else {
			printRig(cmd.OutOrStdout(), found.Report, found.Against, against)
		}
		if len(found.Against) > 0 {
			return errQuiet
		}
		return nil
	}
	return c
}

func printRig(w io.Writer, r rig.Report, list []rig.Difference, against string) {
	if len(r.Bones) == 0 {
		fmt.Fprintln(w, "there are no bones")
	}
	for _, b := range r.Bones {
		fmt.Fprintf(w, "%s%s", strings.Repeat("  ", b.Depth), harmless(b.Name))
		if b.Limb != "" {
			fmt.Fprintf(w, " is %s, %.0f%% sure (%s)", b.Limb, 100*b.Sure, strings.Join(b.Evidence, "; "))
		}
		if b.Vertices > 0 {
			fmt.Fprintf(w, ", %d vertices, %.3g%% of the weight", b.Vertices, 100*b.Share)
		}
		for _, x := range b.Odd {
			fmt.Fprintf(w, ", odd: %s", x)
		}
		fmt.Fprintln(w)
	}
	if len(r.Missing) > 0 && len(r.Bones) > 0 {
		fmt.Fprintf(w, "no whole body: %s could not be told\n", strings.Join(r.Missing, ", "))
	}
	for _, x := range r.Odd {
		fmt.Fprintf(w, "odd: %s\n", x)
	}
	for _, d := range list {
		fmt.Fprintf(w, "%s: %s\n", d.Kind, harmless(d.Text))
	}
	switch {
	case against != "" && len(list) == 0:
		fmt.Fprintf(w, "it is the skeleton of %s\n", harmless(against))
	case len(list) > 0:
		fmt.Fprintf(w, "the step fit-skeleton mends these, with from: %s\n", harmless(against))
	}
}
