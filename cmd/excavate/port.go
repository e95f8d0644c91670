package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/document"
	"excavate/core/find"
	"excavate/core/scene"
	"excavate/core/target"
	"excavate/core/terms"
	"excavate/internal/shipped"
	"excavate/internal/version"
	"excavate/targets"

	"github.com/spf13/cobra"
)

// maker makes deliveries.
var maker = &delivery.Maker{Writers: shipped.Writers, Version: version.Version}

// sheetOf reads a target sheet: a file, or one that ships by its name.
func sheetOf(name string) (*target.Sheet, []byte, error) {
	text, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		if b, err := targets.FS.ReadFile(name + ".yaml"); err == nil {
			s, err := target.Parse(b)
			return s, b, err
		}
		all, _ := target.Load(targets.FS)
		var known []string
		for k := range all {
			known = append(known, k)
		}
		slices.Sort(known)
		return nil, nil, fmt.Errorf("%s is no file, and %s", name, document.Unknown("sheet that ships", name, known))
	}
	if err != nil {
		return nil, nil, err
	}
	s, err := target.Parse(text)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return s, text, nil
}

// inputOf says what an asset was decoded from.
func inputOf(in *given, readings, binds map[string]string) *delivery.Input {
	sum := sha256.Sum256(in.Data)
	return &delivery.Input{Entry: in.Name, SHA256: hex.EncodeToString(sum[:]), Readings: readings, Binds: binds}
}

// port is one asset on its way to a target.
type port struct {
	*converter
	sheet   *target.Sheet
	text    []byte // the sheet's
	purpose terms.Purpose
	made    delivery.Options
	log     io.Writer
}

func portCommand(o *options) *cobra.Command {
	var out, sheetName, purpose, chainFile string
	var replace bool
	c := &cobra.Command{Use: "port IN... --target SHEET --purpose PURPOSE -o OUT.zip",
		Short: "Make of models what a target takes, and deliver them", Args: cobra.MinimumNArgs(1),
		Long: `Reads a model, holds it against a target sheet, adds the steps that mend what the target would object to, and writes a delivery with the model, the chain that was used, the sheet and a manifest. Several models become one package, each in a folder of its own with its own manifest.

Nothing is asked: what only you can decide, such as a size that is a thousand times off, is decided by the evidence and said. It ends with status 1 and writes nothing where something still stops, or where the terms of a source do not allow the purpose.

SHEET is a file, or the name of a sheet that ships. PURPOSE is myself, share-changed, share-unchanged or sell.`}
	f := c.Flags()
	f.StringVarP(&out, "output", "o", "", "the `FILE` to write, a zip")
	f.StringVar(&sheetName, "target", "", "the target `SHEET`")
	f.StringVar(&purpose, "purpose", "",
		"what the delivery is for: `PURPOSE` is myself, share-changed, share-unchanged or sell")
	f.StringVar(&chainFile, "chain", "", "a chain document `FILE` to run before what is mended")
	f.BoolVar(&replace, "replace", false, "write over what is there already")
	var made delivery.Options
	var shown string
	var show delivery.Show
	var roles []string
	f.StringVar(&made.Format, "format", "", "the `FORMAT` of the model, where it is not the sheet's")
	f.IntVar(&made.Longest, "longest", 0, "the longest side of pictures that lie apart, in `TEXELS`")
	f.Float64SliceVar(&made.Levels, "levels", nil,
		"further levels of detail, as `SHARES` of the triangles, such as 0.5,0.25")
	f.StringArrayVar(&roles, "pictures", nil,
		"how pictures of a role are written where they lie apart: `ROLE=FORMAT[,LONGEST[,QUALITY]]`, "+
			"such as normal=ktx2,1024; may be given again")
	f.StringVar(&shown, "picture", "", "add a picture of the asset, of `WIDTHxHEIGHT` pixels")
	f.IntVar(&show.Frames, "turntable", 0, "make the picture an animation of so many `FRAMES` round the asset")
	f.Float64Var(&show.Turn, "turn", 0, "turn the asset in it by `DEGREES` about the up axis")
	f.Float64Var(&show.Tilt, "tilt", 0, "look at it from so many `DEGREES` higher")
	f.StringVar(&show.Background, "background", "", "what lies behind it: paper, none, or a `COLOUR` such as #2f3b40")
	for _, name := range []string{"output", "target", "purpose"} {
		c.MarkFlagRequired(name)
	}
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) (err error) {
		p := &port{converter: &converter{options: o, doc: &chain.Chain{}, files: newOutputs(replace)},
			log: cmd.ErrOrStderr()}
		if p.made = made; shown != "" {
			w, h, err := pixels(shown)
			if err != nil {
				return fmt.Errorf("--picture %w", err)
			}
			show.Width, show.Height = w, h
			p.made.Show = &show
		} else if show != (delivery.Show{}) {
			return errors.New("--turntable, --turn, --tilt and --background: " +
				"say the picture's size with --picture, such as 640x480")
		}
		if p.made.Roles, err = picturesByRole(roles); err != nil {
			return fmt.Errorf("--pictures: %w", err)
		}
		if err := p.made.Check(); err != nil {
			return err
		}
		if p.purpose, err = terms.ParsePurpose(purpose); err != nil {
			return fmt.Errorf("--purpose: %w", err)
		}
		if p.sheet, p.text, err = sheetOf(sheetName); err != nil {
			return fmt.Errorf("--target: %w", err)
		}
		if chainFile != "" {
			text, err := os.ReadFile(chainFile)
			if err != nil {
				return err
			}
			if p.doc, err = chain.Parse(text); err != nil {
				return fmt.Errorf("%s: %w", chainFile, err)
			}
		}
		var done func()
		if p.lib, p.stack, done, err = o.open(cmd.Context()); err != nil {
			return err
		}
		defer done()
		closed := p.besideChain(cmd.Context(), chainFile)
		defer closed()
		return p.all(cmd.Context(), args, out)
	}
	return c
}

// picturesByRole reads how pictures of some roles are written.
func picturesByRole(list []string) (map[scene.Role]delivery.PictureOptions, error) {
	var out map[scene.Role]delivery.PictureOptions
	for _, text := range list {
		role, rest, ok := strings.Cut(text, "=")
		parts := strings.Split(rest, ",")
		if !ok || len(parts) > 3 {
			return nil, fmt.Errorf("%q: write ROLE=FORMAT,LONGEST,QUALITY, such as colour=jpeg,2048,80", text)
		}
		o := delivery.PictureOptions{Format: parts[0]}
		for i, to := range []*int{&o.Longest, &o.Quality} {
			if i+1 < len(parts) {
				var err error
				if *to, err = strconv.Atoi(parts[i+1]); err != nil {
					return nil, fmt.Errorf("%q: %q is no whole number", text, parts[i+1])
				}
			}
		}
		if out == nil {
			out = map[scene.Role]delivery.PictureOptions{}
		}
		out[scene.Role(role)] = o
	}
	return out, nil
}

// ported is a model that is ready to be delivered, but for the files.
type ported struct {
	end *scene.Scene
	of  delivery.Of
}

// all delivers models in one package. Where one cannot be delivered none is.
func (p *port) all(ctx context.Context, names []string, out string) error {
	doc := p.doc
	ready := make([]*ported, len(names))
	assets := make([]string, len(names))
	for i, name := range names {
		if len(names) > 1 {
			fmt.Fprintf(p.log, "%s\n", harmless(name))
		}
		p.doc = doc // as it was given: each is mended by its own steps
		p.files.reads(name)
		in, err := p.load(p.stack, name)
		if err == nil {
			ready[i], err = p.ready(ctx, in)
		}
		in.done()
		if err != nil {
			if !errors.Is(err, errQuiet) && name != "-" {
				err = fmt.Errorf("%s: %w", name, err)
			}
			return err
		}
		assets[i] = ready[i].end.Name
	}
	options := []delivery.Options{p.made}
	if len(names) > 1 {
		options = p.made.Together(assets, p.sheet)
	}
	whole := make([][]delivery.File, len(ready))
	for i, r := range ready {
		var err error
		r.of.Options = options[i]
		if whole[i], err = p.write(ctx, r); err != nil {
			return fmt.Errorf("%s: %w", names[i], err)
		}
	}
	zip, err := delivery.Packed(whole...)
	if err != nil {
		return err
	}
	return p.files.write(out, zip)
}

// ready mends a model and looks whether it may be delivered.
func (p *port) ready(ctx context.Context, in *given) (*ported, error) {
	found, _, err := p.decodeInput(ctx, p.lib, in)
	if err != nil {
		return nil, err
	}
	for _, n := range found.Notes {
		fmt.Fprintln(p.log, tint(p.log, attention, "note:"), harmless(n.Text))
	}
	outside := &find.Beyond{Lib: p.lib, Finder: find.First{p.beside, in.Finder},
		Stack: append(slices.Clone(p.near), p.stack...)}
	m, err := target.MendAll(ctx, "input", found, p.doc, p.sheet, true, outside, nil)
	if err != nil {
		return nil, err
	}
	p.doc = m.Chain
	p.tell(m)
	took := chain.Took(m.Bands)
	origins, err := p.allOrigins(in, outside, took)
	if err != nil {
		return nil, err
	}
	refused := delivery.Refusals(origins, p.purpose)
	for _, r := range refused {
		fmt.Fprintf(p.log, "%s %s\n", tint(p.log, fault, "refused:"), harmless(r.Error()))
	}
	stops, _, _ := target.Count(m.Findings)
	if stops > 0 || refused != nil {
		if stops > 0 {
			fmt.Fprintf(p.log, "nothing is delivered: %d still %s\n", stops,
				map[bool]string{true: "stops", false: "stop"}[stops == 1])
		} else {
			fmt.Fprintf(p.log, "nothing is delivered: the terms do not allow it %s\n", p.purpose)
		}
		return nil, errQuiet
	}
	layouts, err := p.ownLayouts()
	if err != nil {
		return nil, err
	}
	return &ported{m.Scene, delivery.Of{Found: found, Layouts: layouts, Chain: p.doc, Origins: origins,
		Sheet: p.sheet, SheetDoc: p.text, Findings: m.Findings, Mended: m.Deeds, Purpose: p.purpose,
		Input: inputOf(in, p.readings, p.binds)}}, nil
}

// write makes the files of a model that is ready, and says what they are.
func (p *port) write(ctx context.Context, r *ported) ([]delivery.File, error) {
	made, err := maker.Make(ctx, r.end, p.sheet, r.of.Options)
	if err != nil {
		return nil, err
	}
	files, _, err := maker.Whole(made, r.of)
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		fmt.Fprintf(p.log, "  %-9s %s, %d bytes\n", f.Kind, harmless(f.Path), len(f.Data))
	}
	for _, n := range made.Notes {
		fmt.Fprintln(p.log, tint(p.log, attention, "note:"), harmless(n.Text))
	}
	if made.SearchLine != "" {
		fmt.Fprintf(p.log, "add to %s: %s\n", made.SearchFile, made.SearchLine)
	}
	return files, nil
}

// tell says what was mended, by which evidence, and what is left.
func (p *port) tell(m *target.Mended) {
	for _, d := range m.Deeds {
		fmt.Fprintf(p.log, "mended: %s: %s\n", d.Title, strings.Join(d.Steps, ", "))
		if d.Evidence != "" {
			fmt.Fprintf(p.log, "  decided: %s\n", harmless(d.Evidence))
		}
		if d.Failed != "" {
			fmt.Fprintf(p.log, "  %s %s\n", tint(p.log, attention, "taken out again:"), harmless(d.Failed))
		}
	}
	for i, b := range m.Bands[1:] {
		fmt.Fprintf(p.log, "%d %s: %s\n", i+1, b.Kind.Title, harmless(strings.Join(b.Report.Lines, "; ")))
		for _, l := range b.Report.Losses {
			fmt.Fprintf(p.log, "  %s %s\n", tint(p.log, attention, "lost:"), harmless(l))
		}
	}
	for _, f := range m.Findings {
		if f.Severity != target.Holds {
			printFinding(p.log, f)
		}
	}
}

func printFinding(w io.Writer, f target.Finding) {
	fmt.Fprintf(w, "%-5s  %s: %s\n", f.Severity, f.Title, harmless(f.Where))
	if f.Why != "" {
		fmt.Fprintf(w, "       %s\n", f.Why)
	}
	for _, m := range f.Mends {
		fmt.Fprintf(w, "       mend: step %s with %s\n", m.Step, m.With)
	}
	if f.Evidence != "" {
		fmt.Fprintf(w, "       because %s\n", harmless(f.Evidence))
	}
}

// checked is a finding of one asset and one sheet, as check prints it.
type checked struct {
	File   string `json:"file,omitempty"`
	Target string `json:"target,omitempty"`
	target.Finding
}

func checkCommand(o *options) *cobra.Command {
	var sheets []string
	var asJSON bool
	c := &cobra.Command{Use: "check FILE... --target SHEET", Short: "Rehearse models against target sheets",
		Args: cobra.MinimumNArgs(1),
		Long: `Holds models against target sheets and says what the targets would object to, why, and which steps mend it. Of several models or sheets a table of findings by rule follows, the worst first. It ends with status 1 where something stops.`}
	c.Flags().StringArrayVar(&sheets, "target", nil,
		"the target `SHEET`: a file, or the name of one that ships; may be given again")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object per finding and line")
	c.MarkFlagRequired("target")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		list := make([]*target.Sheet, len(sheets))
		for i, name := range sheets {
			var err error
			if list[i], _, err = sheetOf(name); err != nil {
				return err
			}
		}
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		many := len(args)*len(list) > 1
		table := &target.Table{}
		bad := false
		for _, file := range args {
			s, _, _, err := o.decode(cmd.Context(), lib, stack, file)
			if err != nil {
				if !many {
					return fmt.Errorf("%s: %w", file, err)
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "%s %s: %v\n", tint(os.Stderr, fault, "excavate:"), harmless(file), err)
				bad = true
				continue
			}
			for i, t := range list {
				stops, err := printChecked(cmd.OutOrStdout(), file, sheets[i], s, t, asJSON, many, table)
				if err != nil {
					return err
				}
				bad = bad || stops
			}
		}
		if many && !asJSON {
			printTable(cmd.OutOrStdout(), table)
		}
		if bad {
			return errQuiet
		}
		return nil
	}
	return c
}

// printChecked rehearses a model and prints it, for many only as a part of the
// table.
func printChecked(w io.Writer, file, sheet string, s *scene.Scene, t *target.Sheet, asJSON, many bool,
	table *target.Table) (stops bool, err error) {
	findings := target.Rehearse(s, t)
	table.Add(0, file, sheet, findings)
	for _, f := range findings {
		stops = stops || f.Severity == target.Stops
		switch x := (checked{Finding: f}); {
		case asJSON:
			if many {
				x.File, x.Target = file, sheet
			}
			if err := printJSON(w, x); err != nil {
				return stops, err
			}
		case !many:
			printFinding(w, f)
		}
	}
	return stops, nil
}

func printTable(w io.Writer, t *target.Table) {
	for _, r := range t.Rows() {
		fmt.Fprintf(w, "%-5s  %-18s %d of %d: %s\n", r.Severity, r.Rule, len(r.Assets), t.Rehearsals, r.Title)
		for _, a := range r.Assets[:min(len(r.Assets), 5)] {
			fmt.Fprintf(w, "       %s, %s: %s\n", harmless(a.Asset), a.Sheet, harmless(a.Where))
		}
		if n := len(r.Assets) - 5; n > 0 {
			fmt.Fprintf(w, "       and %d more\n", n)
		}
	}
}

func targetsCommand(o *options) *cobra.Command {
	c := &cobra.Command{Use: "targets", Short: "List the target sheets that ship", Args: cobra.NoArgs}
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		all, err := target.Load(targets.FS)
		if err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(all)) {
			fmt.Fprintf(cmd.OutOrStdout(), "%-12s %s\n  %s\n", id, all[id].Name, all[id].About)
		}
		return nil
	}
	c.AddCommand(targetsShow(), targetsFrom(o))
	return c
}

func targetsShow() *cobra.Command {
	c := &cobra.Command{Use: "show SHEET", Short: "Print a sheet: to copy it, or to read what it asks",
		Args: cobra.ExactArgs(1)}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		_, text, err := sheetOf(args[0])
		if err == nil {
			_, err = cmd.OutOrStdout().Write(text)
		}
		return err
	}
	return c
}

func targetsFrom(o *options) *cobra.Command {
	var out string
	var replace bool
	c := &cobra.Command{Use: "from FILE -o SHEET.yaml",
		Short: "Propose a sheet from an asset that the target already takes", Args: cobra.ExactArgs(1)}
	c.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write; - for the standard output")
	c.Flags().BoolVar(&replace, "replace", false, "write over what is there already")
	c.MarkFlagRequired("output")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		lib, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		s, _, _, err := o.decode(cmd.Context(), lib, stack, args[0])
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		files := newOutputs(replace)
		files.reads(args[0])
		return files.write(out, target.FromExample(filepath.Base(args[0]), s))
	}
	return c
}

// readPackage reads a package; data are its bytes.
func readPackage(file string) (list []*delivery.Opened, data []byte, err error) {
	if data, err = os.ReadFile(file); err != nil {
		return nil, nil, err
	}
	if list, err = delivery.Open(data); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	return list, data, nil
}

// verified is what came of looking at one delivery.
type verified struct {
	Faults []delivery.Fault `json:"faults"`
	Again  *delivery.Remade `json:"again,omitempty"`
	Asset  string           `json:"asset"`
	files  int
}

func verifyCommand(o *options) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "verify DELIVERY.zip [--source DIR]...",
		Short: "Check a delivery's digests, and make it again from its sources", Args: cobra.ExactArgs(1)}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object for each delivery of the package")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		list, _, err := readPackage(args[0])
		if err != nil {
			return err
		}
		var from *delivery.Sources
		if len(o.sources) > 0 {
			lib, stack, done, err := o.open(cmd.Context())
			if err != nil {
				return err
			}
			defer done()
			from = &delivery.Sources{Lib: lib, Stack: stack, Finder: stack}
		}
		bad := false
		for _, d := range list {
			v, err := verify(cmd.Context(), d, from)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			bad = bad || len(v.Faults) > 0 || v.Again != nil && !v.Again.Same
			if asJSON {
				if err := printJSON(cmd.OutOrStdout(), v); err != nil {
					return err
				}
				continue
			}
			if len(list) > 1 {
				fmt.Fprintf(cmd.OutOrStdout(), "%s:\n", harmless(v.Asset))
			}
			v.print(cmd.OutOrStdout())
		}
		if bad {
			return errQuiet
		}
		return nil
	}
	return c
}

// verify holds a delivery against its manifest, and where there are sources
// makes it again.
func verify(ctx context.Context, d *delivery.Opened, from *delivery.Sources) (v *verified, err error) {
	v = &verified{Faults: append([]delivery.Fault{}, d.Faults()...), Asset: d.Manifest.Asset, files: len(d.Files) - 1}
	if from != nil {
		own := *from
		if in := d.Manifest.Input; in != nil {
			own.Finder = pinned{own.Stack, in.Binds}
		}
		v.Again, err = maker.Again(ctx, d, own)
	}
	return v, err
}

func (v *verified) print(w io.Writer) {
	if len(v.Faults) == 0 {
		fmt.Fprintf(w, "%d files are as the manifest says\n", v.files)
	}
	for _, f := range v.Faults {
		fmt.Fprintf(w, "%s: %s\n", harmless(f.Path), f.Says)
	}
	if v.Again == nil {
		return
	}
	for _, n := range v.Again.Notes {
		fmt.Fprintf(w, "note: %s\n", harmless(n))
	}
	if v.Again.Same {
		fmt.Fprintln(w, "made again: every byte is the same")
	}
	for _, f := range v.Again.Differ {
		fmt.Fprintf(w, "made again, %s: %s\n", harmless(f.Path), f.Says)
	}
}
