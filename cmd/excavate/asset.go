package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/limit"
	"excavate/core/pixel"
	"excavate/core/render"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/internal/shipped"

	"github.com/spf13/cobra"
)

// given is a model or picture to work on, and where it comes from.
type given struct {
	find.Input
	origins find.Origins
	done    func()
}

// load reads a file, the standard input for -, or where there is no file of
// that name an entry of the sources. What belongs to it is looked for beside
// the file and below it, then in the sources. It can be read until done.
func (o *options) load(stack source.Stack, name string) (in *given, err error) {
	in = &given{done: func() {}}
	in.Input = find.Input{Name: filepath.Base(name), Finder: pinned{stack, o.binds}, Readings: o.readings, Used: in.origins.Add}
	if name == "-" {
		in.Name = "standard input"
		in.Data, err = readStdin()
		return in, err
	}
	st, err := os.Stat(name)
	switch {
	case err == nil && st.IsDir():
		return in, fmt.Errorf("it is a folder")
	case err == nil:
		if st.Size() > limit.EntryBytes {
			return in, fmt.Errorf("it has %d bytes, at most %d are held in memory",
				st.Size(), int64(limit.EntryBytes))
		}
		if in.Data, err = os.ReadFile(name); err != nil {
			return in, err
		}
		beside := find.NewBeside(name)
		beside.Anywhere = o.anywhere
		in.done = beside.Close
		in.Finder = pinned{find.First{beside, stack}, o.binds}
		if f := beside.Folder(); f != nil {
			if i := f.Lookup(filepath.Base(name)); i >= 0 {
				in.origins.Add(source.Hit{Source: f, Entry: i})
			}
		}
		return in, nil
	}
	for _, s := range stack {
		if i := s.Lookup(strings.TrimPrefix(name, s.Label+":")); i >= 0 {
			in.Data, err = s.Read(i)
			in.Name, in.From = s.Entries()[i].Path, s.Label
			in.origins.Add(source.Hit{Source: s, Entry: i})
			return in, err
		}
	}
	return in, err
}

// decode reads a model.
func (o *options) decode(ctx context.Context, lib *find.Library, stack source.Stack, name string) (*scene.Scene, string, []find.Origin, error) {
	in, err := o.load(stack, name)
	defer in.done()
	if err != nil {
		return nil, "", nil, err
	}
	s, kind, err := o.decodeInput(ctx, lib, in)
	if err != nil {
		return nil, kind, nil, err
	}
	return s, kind, in.origins.List(in.Name, in.Data), nil
}

func (o *options) decodeInput(ctx context.Context, lib *find.Library, in *given) (*scene.Scene, string, error) {
	s, kind, err := lib.Decode(ctx, in.Input)
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

// modelFor reads the model of a command that writes something of it.
func (o *options) modelFor(cmd *cobra.Command, name string, replace bool) (*scene.Scene, *outputs, error) {
	lib, stack, done, err := o.open(cmd.Context())
	if err != nil {
		return nil, nil, err
	}
	defer done()
	files := newOutputs(replace)
	files.reads(name)
	s, _, _, err := o.decode(cmd.Context(), lib, stack, name)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return s, files, nil
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
			err := o.inspect(cmd, lib, stack, file, asJSON, all)
			switch {
			case err == nil:
				continue
			case asJSON:
				type e struct {
					Message string `json:"message"`
					At      string `json:"at"`
				}
				err = printJSON(cmd.OutOrStdout(), struct {
					File  string `json:"file"`
					Error e      `json:"error"`
				}{file, e{err.Error(), format.Place(err)}})
				if err != nil {
					return err
				}
			default:
				fmt.Fprintf(os.Stderr, "%s %s: %s\n",
					tint(os.Stderr, fault, "excavate:"), harmless(file), harmless(err.Error()))
			}
			bad = true
		}
		if bad {
			return errQuiet
		}
		return nil
	}
	return c
}

// inspect says what one file holds: a model, or a picture.
func (o *options) inspect(cmd *cobra.Command, lib *find.Library, stack source.Stack, file string, asJSON, all bool) error {
	in, err := o.load(stack, file)
	defer in.done()
	if err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	if kind, _ := lib.KindOf(in.Name, in.Data[:min(len(in.Data), find.HeadBytes)]); kind == find.Picture {
		x, err := inspectPicture(cmd.Context(), lib, in, file)
		switch {
		case err != nil:
			return err
		case asJSON:
			return printJSON(out, x)
		}
		x.print(out)
		return nil
	}
	s, kind, err := o.decodeInput(cmd.Context(), lib, in)
	if err != nil {
		return err
	}
	x := find.Inspect(file, kind, s)
	x.Origins = in.origins.List(in.Name, in.Data)
	switch {
	case asJSON && all:
		m, err := whole(x, s)
		if err != nil {
			return err
		}
		return printJSON(out, m)
	case asJSON:
		return printJSON(out, x)
	}
	printInspection(out, x, s)
	if all {
		printJudged(out, judge(s))
	}
	return nil
}

func printJSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

func printInspection(w io.Writer, x find.Inspection, s *scene.Scene) {
	fmt.Fprintf(w, "%s\n  %s\n  %s, %s, %s, %s, %s\n  basis: %s\n", x.File, x.Format,
		format.Counted(x.Triangles, "triangle", "triangles"), format.Counted(x.Vertices, "vertex", "vertices"), format.Counted(x.Meshes, "mesh", "meshes"),
		format.Counted(x.Bones, "bone", "bones"), format.Counted(x.Morphs, "morph target", "morph targets"), s.Basis)
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
	printStored(w, x)
	fmt.Fprintf(w, "  materials: %s\n", counted(x.Materials))
	for _, m := range x.Motions {
		fmt.Fprintf(w, "  motion: %s, %.2f s\n", harmless(m.Name), m.Seconds)
	}
	for _, p := range x.Pictures {
		state := "found"
		if !p.Found {
			state = "missing"
		}
		fmt.Fprintf(w, "  picture: %s, %s\n", harmless(p.Name), state)
	}
	for _, r := range x.Readings {
		others := slices.DeleteFunc(slices.Clone(r.Options), func(o string) bool { return o == r.Chosen })
		fmt.Fprintf(w, "  reading: %s=%s, or %s\n", r.Name, r.Chosen, strings.Join(others, ", "))
	}
	printTerms(w, x)
	for _, n := range x.Notes {
		fmt.Fprintf(w, "  %s %s\n", tint(w, attention, "note:"), harmless(n))
	}
}

// printStored tells what the file holds of normals and sets, apart from what
// was computed.
func printStored(w io.Writer, x find.Inspection) {
	normals := "none"
	switch {
	case slices.Contains(x.Computed, "normals"):
		normals = "none in the file, computed here"
	case x.Normals:
		normals = "in the file"
	}
	uv := fmt.Sprint(x.UVSets)
	if slices.Contains(x.Computed, "uv") {
		uv += " in the file, others computed here"
	}
	fmt.Fprintf(w, "  normals: %s; UV sets: %s; colour sets: %d\n", normals, uv, x.ColourSets)
}

// printTerms tells all that is known of whose it is.
func printTerms(w io.Writer, x find.Inspection) {
	say := func(where, owner, licence, short string) {
		if s := strings.Join(slices.DeleteFunc([]string{owner, licence, short}, func(s string) bool { return s == "" }), "; "); s != "" {
			fmt.Fprintf(w, "  terms (%s): %s\n", harmless(where), harmless(strings.ReplaceAll(s, "\n", " ")))
		}
	}
	if t := x.Terms; t != (scene.Terms{}) {
		say("the file itself", t.Owner, t.Licence, t.Text)
	}
	for _, o := range x.Origins {
		if o.Rights != nil {
			say(o.Source, o.Rights.Owner, o.Rights.Licence, o.Rights.Short())
		}
	}
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

// pixels reads a size such as 800x600.
func pixels(size string) (w, h int, err error) {
	if n, err := fmt.Sscanf(strings.ToLower(size), "%dx%d", &w, &h); err != nil || n != 2 || w < 1 || h < 1 ||
		w > 8192 || h > 8192 {
		return 0, 0, fmt.Errorf("%q: write width and height in pixels, 1 to 8192 each, such as 800x600", size)
	}
	return w, h, nil
}

func renderCommand(o *options) *cobra.Command {
	var out, size string
	var figure, ground, replace, shade bool
	var turn, tilt float64
	var views int
	var behind string
	c := &cobra.Command{Use: "render FILE -o OUT.png --size 800x600", Short: "Draw a model to a picture", Args: cobra.ExactArgs(1)}
	c.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, in the picture format of its ending; - for a PNG on the standard output")
	c.Flags().BoolVar(&replace, "replace", false, "write over what is there already")
	c.Flags().StringVar(&size, "size", "800x600", "`WIDTHxHEIGHT` in pixels")
	c.Flags().BoolVar(&figure, "figure", false, "draw the scale figure, 1.75 m, beside it")
	c.Flags().BoolVar(&ground, "ground", true, "draw ground lines")
	c.Flags().BoolVar(&shade, "shade", false, "corners are darker and things throw shadows; takes seconds")
	c.Flags().IntVar(&views, "views", 1, "`N` views from all round in one picture, each of --size")
	c.Flags().Float64Var(&turn, "turn", 0, "turn the camera by `DEGREES` about the up axis")
	c.Flags().Float64Var(&tilt, "tilt", 0, "look at it from so many `DEGREES` higher")
	c.Flags().StringVar(&behind, "background", "", "what lies behind it: paper, none, or a `COLOUR` such as #2f3b40")
	c.MarkFlagRequired("output")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		w, h, err := pixels(size)
		if err != nil {
			return fmt.Errorf("--size %w", err)
		}
		background, err := render.ParseBackground(behind)
		if err != nil {
			return fmt.Errorf("--background: %w", err)
		}
		ending := strings.ToLower(filepath.Ext(out))
		if out == "-" {
			ending = ".png"
		}
		to := pixel.Writable(ending)
		if to == nil {
			return fmt.Errorf("%s: a picture cannot be written with the ending %q; name a file such as %s.png",
				out, ending, strings.TrimSuffix(out, filepath.Ext(out)))
		}
		s, files, err := o.modelFor(cmd, args[0], replace)
		if err != nil {
			return err
		}
		img, err := render.Views(s, render.Options{Width: w, Height: h, Background: background, Figure: figure,
			Ground: ground, Turn: turn, Tilt: tilt, Shade: shade}, views)
		if err != nil {
			return fmt.Errorf("--views %w", err)
		}
		b, lost, err := pixel.Write(to.Name, pixel.ToNRGBA(img), pixel.WriteOptions{Meaning: pixel.Colour})
		if err != nil {
			return err
		}
		for _, l := range lost {
			fmt.Fprintf(cmd.ErrOrStderr(), "note: not written: %s\n", l)
		}
		return files.write(out, b)
	}
	return c
}
