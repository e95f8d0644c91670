package main

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"excavate/core/appraise"
	"excavate/core/find"
	"excavate/core/pixel"
	"excavate/core/scene"

	"github.com/spf13/cobra"
)

// judged is what can be told of a model beyond its figures.
type judged struct {
	Inventory appraise.Inventory `json:"inventory"`
	Clues     []appraise.Clue    `json:"clues"`
	Pictures  []judgedPicture    `json:"appraisals"`
}

type judgedPicture struct {
	Name  string   `json:"name"`
	Roles []string `json:"roles"`
	Error string   `json:"error,omitempty"`
	*appraise.Appraisal
}

// judge looks at a scene whole: the inventory is in its own axes and unit.
func judge(s *scene.Scene) judged {
	out := judged{Inventory: appraise.InventoryOf(s), Clues: appraise.Basis(s), Pictures: []judgedPicture{}}
	for i := range s.Pictures {
		p := &s.Pictures[i]
		x := judgedPicture{Name: p.Name, Roles: []string{}}
		for k := range s.Materials {
			for _, t := range s.Materials[k].Textures {
				if t.Picture == i {
					x.Roles = append(x.Roles, string(t.Role))
				}
			}
		}
		if p.Missing() {
			x.Error = "it was not found"
		} else if img, err := pixel.DecodePicture(p.Data, p.MIME); err != nil {
			x.Error = err.Error()
		} else {
			a := appraise.Used(s, i, pixel.ToNRGBA(img))
			x.Appraisal = &a
		}
		out.Pictures = append(out.Pictures, x)
	}
	return out
}

// printJudged prints what inspect --all says beyond the figures.
func printJudged(w io.Writer, j judged) {
	for _, n := range j.Inventory.Nodes {
		if n.Unwanted {
			fmt.Fprintf(w, "  probably not wanted: %s, %s\n", n.Name, n.Kind)
		}
	}
	for _, m := range j.Inventory.Meshes {
		for k, p := range m.Parts {
			for _, u := range p.UVs {
				fmt.Fprintf(w, "  UV set %s of %s, part %d: %.1f %% covered, %.1f %% of that twice, %.1f %% outside\n", u.Name, m.Name, k+1, 100*u.Covered, 100*u.Overlap, 100*u.Outside)
			}
		}
	}
	for _, c := range j.Clues {
		fmt.Fprintf(w, "  %s is probably %s: %s\n", c.About, c.Says, c.Why)
	}
	for _, p := range j.Pictures {
		if p.Appraisal == nil {
			fmt.Fprintf(w, "  picture %s: %s\n", p.Name, p.Error)
			continue
		}
		fmt.Fprintf(w, "  picture %s, used as %s, looks like %s: %s\n", p.Name, strings.Join(p.Roles, ", "), p.Kind, strings.Join(append(p.Evidence, p.Notices...), "; "))
	}
}

// whole is an inspection with what can be told beyond its figures.
func whole(x find.Inspection, s *scene.Scene) (map[string]any, error) {
	b, err := json.Marshal(x)
	if err != nil {
		return nil, err
	}
	var out map[string]any
	if err := json.Unmarshal(b, &out); err != nil {
		return nil, err
	}
	j := judge(s)
	out["inventory"], out["clues"], out["appraisals"] = j.Inventory, j.Clues, j.Pictures
	return out, nil
}

func compareCommand(o *options) *cobra.Command {
	var tolerance float64
	var asJSON bool
	c := &cobra.Command{Use: "compare A B", Short: "Say how two models differ; exit status 1 if they do", Args: cobra.ExactArgs(2),
		Long: "Holds one model against another, whatever their formats: figures, bones, materials, sets, motions, pictures texel by texel, and how far the surfaces are apart, in metres where both units are known. They count as the same if no point is farther than the tolerance from the other surface and nothing else differs."}
	c.Flags().Float64Var(&tolerance, "tolerance", 0, "the largest distance of surfaces that passes, in `METRES`; left out, a thousandth of A's size")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if !(tolerance >= 0) {
			return fmt.Errorf("--tolerance %g: it is a distance of 0 or more", tolerance)
		}
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		var both [2]*scene.Scene
		for i, name := range args {
			if both[i], _, _, err = o.decode(cmd.Context(), lib, stack, name); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		x := appraise.Compare(both[0], both[1], tolerance)
		if asJSON {
			if err := printJSON(cmd.OutOrStdout(), x); err != nil {
				return err
			}
		} else {
			printComparison(cmd.OutOrStdout(), x)
		}
		if !x.Same {
			return errQuiet
		}
		return nil
	}
	return c
}

func printComparison(w io.Writer, x appraise.Comparison) {
	fmt.Fprintln(w, x.Verdict)
	row := func(what string, r appraise.Row, more string) {
		if !r.Differ {
			return
		}
		a, b := r.A, r.B
		if a == "" {
			a = "none"
		}
		if b == "" {
			b = "none"
		}
		fmt.Fprintf(w, "  %s %s: %s beside %s%s\n", what, r.Name, a, b, more)
	}
	for _, list := range []struct {
		what string
		rows []appraise.Row
	}{{"figure", x.Figures}, {"bone", x.Bones}, {"material", x.Materials}, {"set", x.Sets}, {"motion", x.Motions}, {"thing", x.Things}} {
		for _, r := range list.rows {
			row(list.what, r, "")
		}
	}
	for _, r := range x.Pictures {
		more := ""
		if r.Most > 0 {
			more = fmt.Sprintf(", channels up to %d of 255 apart, %.2f on average", r.Most, r.Mean)
		}
		row("picture", r.Row, more)
	}
	fmt.Fprintf(w, "  not compared: %s\n", strings.Join(x.NotCompared, "; "))
}
