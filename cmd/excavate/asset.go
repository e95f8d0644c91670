package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/limit"
	"excavate/core/pixel"
	"excavate/core/render"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/core/target"
	"excavate/internal/shipped"
	"excavate/internal/version"

	"github.com/spf13/cobra"
)

// load reads a file, or where there is none of that name an entry of the
// sources. What belongs to it is looked for in the sources, then beside the
// file; it can be read until done.
func (o *options) load(stack source.Stack, name string) (in find.Input, done func(), err error) {
	in = find.Input{Name: filepath.Base(name), Finder: pinned{stack, o.binds}, Readings: o.readings}
	done = func() {}
	st, err := os.Stat(name)
	switch {
	case err == nil && st.IsDir():
		return in, done, fmt.Errorf("it is a folder")
	case err == nil:
		if st.Size() > limit.EntryBytes {
			return in, done, fmt.Errorf("it has %d bytes, at most %d are held in memory", st.Size(), int64(limit.EntryBytes))
		}
		if in.Data, err = os.ReadFile(name); err != nil {
			return in, done, err
		}
		if beside, err := source.OpenShallow(filepath.Dir(name)); err == nil {
			done = func() { beside.Close() }
			in.Finder = pinned{append(append(source.Stack{}, stack...), beside), o.binds}
		}
		return in, done, nil
	}
	for _, s := range stack {
		if i := s.Lookup(strings.TrimPrefix(name, s.Label+":")); i >= 0 {
			in.Data, err = s.Read(i)
			in.Name, in.From = s.Entries()[i].Path, s.Label
			return in, done, err
		}
	}
	return in, done, err
}

// decode reads a model.
func (o *options) decode(ctx context.Context, lib *find.Library, stack source.Stack, name string) (*scene.Scene, string, error) {
	in, done, err := o.load(stack, name)
	if err != nil {
		return nil, "", err
	}
	defer done()
	s, kind, err := lib.Decode(ctx, in)
	if err == nil {
		s.Notes = append(s.Notes, unheard(s.Choices, o.readings)...)
	}
	return s, kind, err
}

// unheard are the readings that were asked for and that the file does not have.
func unheard(choices []scene.Choice, asked map[string]string) (out []scene.Note) {
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		k := slices.IndexFunc(choices, func(c scene.Choice) bool { return c.Name == name })
		switch {
		case k < 0:
			out = append(out, scene.Note{Text: fmt.Sprintf("the reading %s=%s was asked for, and the file leaves no %s open", name, asked[name], name)})
		case choices[k].Chosen != asked[name]:
			out = append(out, scene.Note{Text: fmt.Sprintf("the reading %s=%s was asked for; there are %s, and %s was taken", name, asked[name], strings.Join(choices[k].Options, ", "), choices[k].Chosen)})
		}
	}
	return out
}

func inspectCommand(o *options) *cobra.Command {
	var asJSON, all bool
	c := &cobra.Command{Use: "inspect FILE...", Short: "Say what models hold", Args: cobra.MinimumNArgs(1)}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object per file and line")
	c.Flags().BoolVar(&all, "all", false, "say all that can be told: the inventory, what UV sets do, what speaks for a basis, what pictures probably are")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		bad := false
		for _, file := range args {
			if err := cmd.Context().Err(); err != nil {
				return err
			}
			s, kind, err := o.decode(cmd.Context(), lib, stack, file)
			switch {
			case err != nil && asJSON:
				bad = true
				type e struct {
					Message string `json:"message"`
					At      string `json:"at"`
				}
				err = printJSON(cmd.OutOrStdout(), struct {
					File  string `json:"file"`
					Error e      `json:"error"`
				}{file, e{err.Error(), format.Place(err)}})
			case err != nil:
				bad = true
				fmt.Fprintf(os.Stderr, "excavate: %s: %v\n", file, err)
				err = nil
			case asJSON && all:
				var x map[string]any
				if x, err = whole(find.Inspect(file, kind, s), s); err == nil {
					err = printJSON(cmd.OutOrStdout(), x)
				}
			case asJSON:
				err = printJSON(cmd.OutOrStdout(), find.Inspect(file, kind, s))
			default:
				printInspection(cmd.OutOrStdout(), find.Inspect(file, kind, s), s)
				if all {
					printJudged(cmd.OutOrStdout(), judge(s))
				}
			}
			if err != nil {
				return err
			}
		}
		if bad {
			return errQuiet
		}
		return nil
	}
	return c
}

func printJSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

func printInspection(w io.Writer, x find.Inspection, s *scene.Scene) {
	fmt.Fprintf(w, "%s\n  %s\n  %d triangles, %d vertices, %d meshes, %d bones, %d morph targets\n  basis: %s\n", x.File, x.Format, x.Triangles, x.Vertices, x.Meshes, x.Bones, x.Morphs, s.Basis)
	if x.Size != nil {
		fmt.Fprintf(w, "  size: %.3f × %.3f × %.3f m (X × Y × Z)\n", x.Size[0], x.Size[1], x.Size[2])
	}
	if x.Area > 0 {
		fmt.Fprintf(w, "  surface: %.6g square units\n", x.Area)
	}
	for _, k := range []struct {
		n    int
		what string
	}{{x.Cameras, "cameras"}, {x.Lights, "lights"}, {x.Lines, "lines"}, {x.Points, "points"}} {
		if k.n > 0 {
			fmt.Fprintf(w, "  %s: %d\n", k.what, k.n)
		}
	}
	fmt.Fprintf(w, "  materials: %s\n", strings.Join(x.Materials, ", "))
	for _, m := range x.Motions {
		fmt.Fprintf(w, "  motion: %s, %.2f s\n", m.Name, m.Seconds)
	}
	for _, p := range x.Pictures {
		state := "found"
		if !p.Found {
			state = "missing"
		}
		fmt.Fprintf(w, "  picture: %s, %s\n", p.Name, state)
	}
	for _, r := range x.Readings {
		others := slices.DeleteFunc(slices.Clone(r.Options), func(o string) bool { return o == r.Chosen })
		fmt.Fprintf(w, "  reading: %s=%s, or %s\n", r.Name, r.Chosen, strings.Join(others, ", "))
	}
	for _, n := range x.Notes {
		fmt.Fprintf(w, "  note: %s\n", n)
	}
}

func convertCommand(o *options) *cobra.Command {
	var out, chainFile, to string
	var pic pictureOptions
	c := &cobra.Command{Use: "convert IN -o OUT [--chain chain.yaml]", Short: "Write a model or a picture, or all of a folder, in another format", Args: cobra.ExactArgs(1),
		Long: "Reads a model in any format or layout, runs a chain over it and writes it in the format of OUT's ending (see excavate formats), or as a .zip with a manifest; a picture is written where the ending is that of a picture format. Where IN is a folder, every model in it, or every picture, is written below the folder OUT in the format of --to; the tree is kept, and what cannot be converted is reported while the rest goes on."}
	c.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, with the files that belong to it beside it; of a folder, the folder")
	c.Flags().StringVar(&chainFile, "chain", "", "the chain document `FILE`; none leaves the model as it is")
	c.Flags().StringVar(&to, "to", "", "the `FORMAT` to write a folder's models or pictures in, such as glb or dds")
	pic.flags(c)
	c.MarkFlagRequired("output")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		doc := &chain.Chain{}
		if chainFile != "" {
			text, err := os.ReadFile(chainFile)
			if err != nil {
				return err
			}
			if doc, err = chain.Parse(text); err != nil {
				return fmt.Errorf("%s: %w", chainFile, err)
			}
		}
		folder := false
		if st, err := os.Stat(args[0]); err == nil {
			folder = st.IsDir()
		}
		ending := strings.ToLower(filepath.Ext(out))
		if folder {
			ending = "." + strings.TrimPrefix(strings.ToLower(to), ".")
		}
		w, p := shipped.Writers.ByEnding(ending), pixel.Writable(ending)
		if w == nil && p == nil && folder {
			w, p = shipped.Writers.Named(to), pixel.Writable(to)
		}
		if w == nil && p == nil && (folder || ending != ".zip") {
			var known []string
			for _, k := range shipped.All() {
				if k.Writes {
					known = append(known, k.Ending)
				}
			}
			if folder {
				return fmt.Errorf("--to %q cannot be written; name one of %s", to, strings.Join(known, ", "))
			}
			return fmt.Errorf("%s: the ending %q cannot be written; name a file of %s or .zip", out, ending, strings.Join(known, ", "))
		}
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		x := converter{o, lib, stack, doc, w, p, pic}
		one := x.model
		if p != nil {
			if chainFile != "" {
				return fmt.Errorf("--chain: a chain runs over models, %s is a picture format", p.Title)
			}
			one = x.picture
		}
		if folder {
			return x.folder(cmd, args[0], out, one)
		}
		return one(cmd.Context(), cmd.ErrOrStderr(), args[0], out)
	}
	return c
}

// converter runs a chain over models and writes them, or writes pictures.
type converter struct {
	*options
	lib   *find.Library
	stack source.Stack
	doc   *chain.Chain
	to    *format.Writer   // nil for a delivery and for pictures
	pic   *pixel.Container // of pictures
	how   pictureOptions
}

func (x *converter) model(ctx context.Context, log io.Writer, in, out string) error {
	s, _, err := x.decode(ctx, x.lib, x.stack, in)
	if err != nil {
		return fmt.Errorf("%s: %w", in, err)
	}
	for _, n := range s.Notes {
		fmt.Fprintln(log, "note:", n.Text)
	}
	bands, err := chain.Run(ctx, "input", s, x.doc, nil, nil)
	if err != nil {
		return err
	}
	for i, b := range bands[1:] {
		if b.Err != nil {
			return fmt.Errorf("chain step %d: %w", i+1, b.Err)
		}
		if b.Step.Off {
			fmt.Fprintf(log, "%d %s: switched off\n", i+1, b.Kind.Title)
			continue
		}
		fmt.Fprintf(log, "%d %s: %s\n", i+1, b.Kind.Title, strings.Join(b.Report.Lines, "; "))
		for _, l := range b.Report.Losses {
			fmt.Fprintf(log, "  lost: %s\n", l)
		}
	}
	final := chain.Last(bands).Scene
	if x.to != nil && x.to.Name != "glb" {
		return writeAs(log, x.to, final, out)
	}
	glb, notes, err := target.Deliver(final, version.Version)
	if err != nil {
		return err
	}
	for _, n := range notes {
		fmt.Fprintln(log, "note:", n.Text)
	}
	if x.to == nil {
		m := target.NewManifest(target.FileName(final.Name, ".glb"), glb, s, x.doc, x.stack, notes, version.Version)
		if glb, err = target.Package(m, glb); err != nil {
			return err
		}
	}
	return writeWhole(out, glb)
}

// folder converts every model or picture of a folder, as many at once as there
// are processors. Other files are passed over.
func (x *converter) folder(cmd *cobra.Command, in, out string, one func(ctx context.Context, log io.Writer, in, out string) error) error {
	want, ending := find.Model, ""
	if x.pic != nil {
		want, ending = find.Picture, x.pic.Ending
	} else {
		ending = x.to.Ending
	}
	type job struct{ from, to string }
	jobs := make(chan job)
	var mu sync.Mutex
	made, failed := 0, 0
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for j := range jobs {
				var log bytes.Buffer
				err := os.MkdirAll(filepath.Dir(j.to), 0o755)
				if err == nil {
					err = one(cmd.Context(), &log, j.from, j.to)
				}
				mu.Lock()
				if err != nil {
					failed++
					fmt.Fprintf(cmd.ErrOrStderr(), "excavate: %v\n", err)
				} else {
					made++
					fmt.Fprintln(cmd.OutOrStdout(), j.to)
					for _, l := range strings.Split(strings.TrimSpace(log.String()), "\n") {
						if l != "" {
							fmt.Fprintf(cmd.ErrOrStderr(), "  %s\n", l)
						}
					}
				}
				mu.Unlock()
			}
		})
	}
	taken := map[string]bool{}
	inside, err := filepath.Abs(out)
	if err != nil {
		return err
	}
	err = filepath.WalkDir(in, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if a, err := filepath.Abs(name); err == nil && a == inside && d.IsDir() {
			return fs.SkipDir // what is being written
		}
		if !d.Type().IsRegular() {
			return cmd.Context().Err()
		}
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		head := make([]byte, find.HeadBytes)
		n, _ := io.ReadFull(f, head)
		f.Close()
		if kind, _ := x.lib.KindOf(name, head[:n]); kind != want {
			return nil
		}
		rel, err := filepath.Rel(in, name)
		if err != nil {
			return err
		}
		to := filepath.Join(out, strings.TrimSuffix(rel, filepath.Ext(rel))+ending)
		if taken[to] { // two that differ in their ending only
			to = filepath.Join(out, rel+ending)
		}
		taken[to] = true
		select {
		case jobs <- job{name, to}:
		case <-cmd.Context().Done():
		}
		return cmd.Context().Err()
	})
	close(jobs)
	wg.Wait()
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%d %ss converted, %d failed\n", made, want, failed)
	if failed > 0 {
		return errQuiet
	}
	if made == 0 {
		return fmt.Errorf("%s holds no %s that is recognised", in, want)
	}
	return nil
}

func formatsCommand() *cobra.Command {
	var asJSON, kept bool
	c := &cobra.Command{Use: "formats", Short: "List the open formats that are read and written", Args: cobra.NoArgs}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object per format and line")
	c.Flags().BoolVar(&kept, "kept", false, "write a model that has everything in each format, read it again, and print a table of what is left of it")
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		if kept {
			table, err := shipped.Kept()
			fmt.Fprint(cmd.OutOrStdout(), table)
			return err
		}
		for _, k := range shipped.All() {
			if asJSON {
				if err := printJSON(cmd.OutOrStdout(), k); err != nil {
					return err
				}
				continue
			}
			does := map[[2]bool]string{{true, true}: "read, written", {true, false}: "read", {false, true}: "written"}[[2]bool{k.Reads, k.Writes}]
			fmt.Fprintf(cmd.OutOrStdout(), "%-10s %-8s %-14s %-6s %s\n", k.Name, k.Kind, does, k.Ending, k.Title)
		}
		return nil
	}
	return c
}

// writeAs writes a scene in a format of several files, the model last.
func writeAs(log io.Writer, w *format.Writer, s *scene.Scene, out string) error {
	files, notes, err := w.Write(s, strings.TrimSuffix(filepath.Base(out), filepath.Ext(out)))
	if err != nil {
		return err
	}
	for _, n := range notes {
		fmt.Fprintln(log, "note:", n.Text)
	}
	for i := len(files) - 1; i >= 0; i-- {
		name := filepath.Join(filepath.Dir(out), files[i].Name)
		if i == 0 {
			name = out
		}
		if err := writeWhole(name, files[i].Data); err != nil {
			return err
		}
	}
	return nil
}

// writeWhole writes a file so that it appears whole or not at all.
func writeWhole(name string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".*.part")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if _, err = f.Write(data); err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Chmod(f.Name(), 0o644)
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}

func checkCommand(o *options) *cobra.Command {
	var sheetFile string
	var asJSON bool
	c := &cobra.Command{Use: "check FILE --target sheet.yaml", Short: "Rehearse a model against a target sheet", Args: cobra.ExactArgs(1)}
	c.Flags().StringVar(&sheetFile, "target", "", "the target sheet `FILE`")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object per finding and line")
	c.MarkFlagRequired("target")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		text, err := os.ReadFile(sheetFile)
		if err != nil {
			return err
		}
		sheet, err := target.Parse(text)
		if err != nil {
			return fmt.Errorf("%s: %w", sheetFile, err)
		}
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		s, _, err := o.decode(cmd.Context(), lib, stack, args[0])
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		findings := target.Rehearse(s, sheet)
		for _, f := range findings {
			if asJSON {
				if err := printJSON(cmd.OutOrStdout(), f); err != nil {
					return err
				}
				continue
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%-5s  %s: %s\n", f.Severity, f.Title, f.Where)
			if f.Why != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "       %s\n", f.Why)
			}
			if f.Mend != nil {
				fmt.Fprintf(cmd.OutOrStdout(), "       mend: step %s with %s\n", f.Mend.Step, f.Mend.With)
			}
		}
		if stops, _, _ := target.Count(findings); stops > 0 {
			return errQuiet
		}
		return nil
	}
	return c
}

func renderCommand(o *options) *cobra.Command {
	var out, size string
	var figure, ground bool
	var turn float64
	c := &cobra.Command{Use: "render FILE -o OUT.png --size 800x600", Short: "Draw a model to a picture", Args: cobra.ExactArgs(1)}
	c.Flags().StringVarP(&out, "output", "o", "", "the PNG `FILE` to write")
	c.Flags().StringVar(&size, "size", "800x600", "`WIDTHxHEIGHT` in pixels")
	c.Flags().BoolVar(&figure, "figure", false, "draw the scale figure, 1.75 m, beside it")
	c.Flags().BoolVar(&ground, "ground", true, "draw ground lines")
	c.Flags().Float64Var(&turn, "turn", 0, "turn the camera by `DEGREES` about the up axis")
	c.MarkFlagRequired("output")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		var w, h int
		if n, err := fmt.Sscanf(strings.ToLower(size), "%dx%d", &w, &h); err != nil || n != 2 || w < 1 || h < 1 || w > 8192 || h > 8192 {
			return fmt.Errorf("--size %q: write width and height in pixels, 1 to 8192 each, such as 800x600", size)
		}
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		s, _, err := o.decode(cmd.Context(), lib, stack, args[0])
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		img := render.Draw(s, render.Options{Width: w, Height: h, Background: render.Paper, Figure: figure, Ground: ground, Turn: turn})
		var buf bytes.Buffer
		if err := png.Encode(&buf, img); err != nil {
			return err
		}
		return writeWhole(out, buf.Bytes())
	}
	return c
}
