package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"text/tabwriter"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/limit"
	"excavate/core/pixel"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/internal/shipped"

	"github.com/spf13/cobra"
	"golang.org/x/sync/semaphore"
)

func convertCommand(o *options) *cobra.Command {
	var out, chainFile, to string
	var replace, strict, asIs bool
	var pic pictureOptions
	c := &cobra.Command{Use: "convert IN -o OUT [--chain chain.yaml]", Short: "Write a model or a picture, or all of a folder, in another format", Args: cobra.ExactArgs(1),
		Long: `Reads a model in any format or layout, runs a chain over it and writes it in the format of OUT's ending (see excavate formats), or as a .zip with a manifest; a picture is written where the ending is that of a picture format. The model is turned into the axes and unit that the format means, if its own are known. IN may be - for the standard input, OUT - for the standard output with --to.

Where IN is a folder, every model in it, or every picture, is written below the folder OUT in the format of --to; the tree is kept, and what cannot be converted is reported while the rest goes on.

What a model names is looked for beside it and below, then in the sources. What is there already is kept unless --replace is given; files of one name with other bytes get another name.`}
	f := c.Flags()
	f.StringVarP(&out, "output", "o", "", "the `FILE` to write, with the files that belong to it beside it; of a folder, the folder; - for the standard output")
	f.StringVar(&chainFile, "chain", "", "the chain document `FILE`; none leaves the model as it is")
	f.StringVar(&to, "to", "", "the `FORMAT` to write a folder's models or pictures in, or the standard output, such as glb or dds")
	f.BoolVar(&replace, "replace", false, "write over what is there already")
	f.BoolVar(&strict, "strict", false, "end with status 1 if a picture is missing")
	f.BoolVar(&asIs, "as-is", false, "keep the numbers as they are, whatever axes and unit the format means")
	pic.flags(c)
	c.MarkFlagRequired("output")
	c.RegisterFlagCompletionFunc("to", completeFormats)
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
			for _, o := range doc.Order() {
				w := cmd.ErrOrStderr()
				fmt.Fprintf(w, "%s step %d (%s) belongs behind step %d (%s): %s\n",
					tint(w, attention, "order:"), o.Step+1, doc.Steps[o.Step].Step, o.After+1, doc.Steps[o.After].Step, o.Why)
			}
		}
		folder := false
		if st, err := os.Stat(args[0]); err == nil {
			folder = st.IsDir()
		}
		x := &converter{options: o, doc: doc, how: pic, strict: strict, asIs: asIs, files: newOutputs(replace)}
		zip := !folder && strings.EqualFold(filepath.Ext(out), ".zip")
		if !zip {
			if err := x.toFormat(folder || out == "-", to, out); err != nil {
				return err
			}
		}
		if x.pic != nil && chainFile != "" {
			return fmt.Errorf("--chain: a chain runs over models, %s is a picture format", x.pic.Title)
		}
		var done func()
		var err error
		if x.lib, x.stack, done, err = o.open(cmd.Context()); err != nil {
			return err
		}
		defer done()
		closed := x.besideChain(cmd.Context(), chainFile)
		defer closed()
		if folder {
			return x.folder(cmd, args[0], out)
		}
		x.files.reads(args[0])
		in, err := x.load(x.stack, args[0])
		defer in.done()
		if err == nil {
			err = x.one(cmd.Context(), cmd.ErrOrStderr(), in, out)
		}
		if err != nil && !errors.Is(err, errQuiet) && args[0] != "-" {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		return err
	}
	return c
}

// besideChain opens the folder of a chain's document, from which its steps may
// take.
func (x *converter) besideChain(ctx context.Context, file string) (done func()) {
	if file == "" {
		file = "." // of no document: nothing will be asked for
	}
	x.beside = find.NewBeside(file)
	x.beside.Anywhere = true
	if asks, err := x.doc.Asks(); err != nil || len(asks) == 0 {
		return x.beside.Close
	}
	if s, err := source.Open(ctx, filepath.Dir(file), source.Options{Layouts: x.lib.Layouts}); err == nil {
		x.near = source.Stack{s}
		return func() { s.Close(); x.beside.Close() }
	}
	return x.beside.Close
}

// toFormat finds the format that is asked for: by its name or ending where
// there is none on a file's name.
func (x *converter) toFormat(named bool, to, out string) error {
	ending := strings.ToLower(filepath.Ext(out))
	if named {
		ending = "." + strings.TrimPrefix(strings.ToLower(to), ".")
	}
	x.to, x.pic = shipped.Writers.ByEnding(ending), pixel.Writable(ending)
	if x.to == nil && x.pic == nil && named {
		x.to, x.pic = shipped.Writers.Named(to), pixel.Writable(to)
	}
	if x.to != nil || x.pic != nil {
		return nil
	}
	var known []string
	for _, k := range shipped.All() {
		if k.Writes {
			known = append(known, k.Ending)
		}
	}
	if named {
		return fmt.Errorf("--to %q cannot be written; name one of %s", to, strings.Join(known, ", "))
	}
	return fmt.Errorf("%s: the ending %q cannot be written; name a file of %s or .zip",
		out, ending, strings.Join(known, ", "))
}

// converter runs a chain over models and writes them, or writes pictures.
type converter struct {
	*options
	lib    *find.Library
	stack  source.Stack
	beside *find.Beside // finds what a chain names beside its document
	near   source.Stack // the folder of the chain's document
	many   *chain.Many  // of a folder: what the chain did to each
	doc    *chain.Chain
	to     *format.Writer   // nil for a delivery and for pictures
	pic    *pixel.Container // of pictures
	how    pictureOptions
	strict bool // a missing picture is a failure
	asIs   bool // numbers are kept
	files  *outputs
}

// one converts a model or a picture.
func (x *converter) one(ctx context.Context, log io.Writer, in *given, out string) error {
	if x.pic != nil {
		return x.picture(ctx, log, in, out)
	}
	return x.model(ctx, log, in, out)
}

func (x *converter) model(ctx context.Context, log io.Writer, in *given, out string) error {
	s, _, err := x.decodeInput(ctx, x.lib, in)
	if err != nil {
		return err
	}
	note := func(list []scene.Note) {
		for _, n := range list {
			fmt.Fprintln(log, tint(log, attention, "note:"), harmless(n.Text))
		}
	}
	note(s.Notes)
	outside := x.outside(in)
	final, took, err := x.chain(ctx, log, in.Name, s, outside)
	if err != nil {
		return err
	}
	missing := 0
	for i := range final.Pictures {
		if p := &final.Pictures[i]; p.Missing() {
			missing++
			fmt.Fprintf(log, "%s picture %s, looked for %s\n",
				tint(log, attention, "missing:"), harmless(p.Name), harmless(strings.Join(p.Looked, ", ")))
		}
	}
	if x.to == nil {
		err = x.delivery(log, in, s, final, outside, took, out)
	} else {
		var notes []scene.Note
		if x.asIs {
			final, notes = x.to.AsIs(final)
		}
		var more []string
		var said []scene.Note
		more, said, err = x.files.model(x.to, final, out)
		note(append(notes, said...))
		for _, m := range more {
			fmt.Fprintln(log, "beside it:", m)
		}
	}
	if err == nil && missing > 0 && x.strict {
		fmt.Fprintf(log, "%s not found, and --strict is given\n",
			format.Counted(missing, "picture was", "pictures were"))
		return errQuiet
	}
	return err
}

// outside is where a chain's steps take other assets and pictures from.
func (x *converter) outside(in *given) *find.Beyond {
	return &find.Beyond{Lib: x.lib, Finder: find.First{x.beside, in.Finder}, Stack: append(slices.Clone(x.near), x.stack...)}
}

// chain runs the chain and tells what its steps did, and took from outside.
func (x *converter) chain(ctx context.Context, log io.Writer, name string, s *scene.Scene, outside chain.Beyond) (out *scene.Scene, took []string, err error) {
	bands, err := chain.Run(ctx, "input", s, x.doc, outside, nil, nil)
	if err != nil {
		return nil, nil, err
	}
	if x.many != nil {
		x.many.Add(name, bands)
	}
	for i, b := range bands[1:] {
		if b.Err != nil {
			return nil, nil, fmt.Errorf("chain step %d: %w", i+1, b.Err)
		}
		if b.Step.Off {
			fmt.Fprintf(log, "%d %s: switched off\n", i+1, b.Kind.Title)
			continue
		}
		fmt.Fprintf(log, "%d %s: %s\n", i+1, b.Kind.Title, strings.Join(b.Report.Lines, "; "))
		for _, l := range b.Report.Losses {
			fmt.Fprintf(log, "  %s %s\n", tint(log, attention, "lost:"), harmless(l))
		}
	}
	return chain.Last(bands).Scene, chain.Took(bands), nil
}

// delivery writes a ZIP with the model as GLB, its chain and a manifest of all
// that it came from.
func (x *converter) delivery(log io.Writer, in *given, found, final *scene.Scene, outside *find.Beyond, took []string, out string) error {
	if x.asIs {
		var notes []scene.Note
		final, notes = shipped.Writers.Named("glb").AsIs(final)
		for _, n := range notes {
			fmt.Fprintln(log, "note:", n.Text)
		}
	}
	made, err := maker.Make(context.Background(), final, nil, delivery.Options{})
	if err != nil {
		return err
	}
	for _, n := range made.Notes {
		fmt.Fprintln(log, "note:", harmless(n.Text))
	}
	origins, err := x.allOrigins(in, outside, took)
	if err != nil {
		return err
	}
	files, _, err := maker.Whole(made, delivery.Of{Found: found, Chain: x.doc, Origins: origins,
		Input: inputOf(in, x.readings, x.binds)})
	if err != nil {
		return err
	}
	zip, err := delivery.Package(files)
	if err != nil {
		return err
	}
	return x.files.write(out, zip)
}

// allOrigins are the sources of an asset and of what its chain took besides.
func (x *converter) allOrigins(in *given, outside *find.Beyond, took []string) ([]find.Origin, error) {
	asks, err := x.doc.Asks()
	if err != nil {
		return nil, err
	}
	more, err := outside.Origins(asks, took)
	if err != nil {
		return nil, err
	}
	return find.Joined(in.origins.List(in.Name, in.Data), more), nil
}

// Endings by which a file is meant to be a model or a picture, whatever its
// bytes are.
var meant = map[find.Kind][]string{
	find.Model:   {".glb", ".gltf", ".vrm", ".obj", ".dae", ".zae", ".ply", ".stl", ".x3d", ".x3dv", ".wrl", ".bvh", ".3mf", ".usd", ".usda", ".usdc", ".usdz"},
	find.Picture: find.PictureEndings,
}

// atOnce bounds the bytes of files that are converted at one time.
const atOnce = 1 << 30

// folder converts every model or picture of a folder, as many at once as there
// are processors. The folder is listed once.
func (x *converter) folder(cmd *cobra.Command, in, out string) error {
	ctx := cmd.Context()
	want, ending := find.Model, ""
	if x.pic != nil {
		want, ending = find.Picture, x.pic.Ending
	} else {
		ending = x.to.Ending
	}
	src, err := source.Open(ctx, in, source.Options{Layouts: x.lib.Layouts})
	if err != nil {
		return err
	}
	defer src.Close()
	reportProblems(src)
	todo, passed, err := x.wanted(ctx, src, in, out, want)
	if err != nil {
		return err
	}
	bar := newProgress(cmd.ErrOrStderr(), int64(len(todo)), string(want)+"s")
	defer bar.end()
	t := tally{cmd: cmd, bar: bar}
	if len(x.doc.Steps) > 0 {
		x.many = &chain.Many{}
	}
	names := x.names(src, todo, out, ending)
	room := semaphore.NewWeighted(atOnce)
	next := make(chan int)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := range next {
				weight := min(max(src.Entries()[todo[i]].Size, 1), atOnce)
				if room.Acquire(ctx, weight) != nil {
					return
				}
				var log bytes.Buffer
				err := x.entry(ctx, &log, src, todo[i], names[i])
				room.Release(weight)
				if ctx.Err() == nil {
					t.count(src.Entries()[todo[i]].Path, names[i], log.String(), err)
				}
			}
		})
	}
	for i := range todo {
		select {
		case next <- i:
		case <-ctx.Done():
		}
	}
	close(next)
	wg.Wait()
	bar.end()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	x.summary(cmd.ErrOrStderr())
	fmt.Fprintf(cmd.ErrOrStderr(), "%d %ss converted, %d failed, %d other files passed over\n",
		t.made, want, t.failed, passed)
	switch {
	case t.failed > 0:
		return errQuiet
	case t.made == 0:
		return fmt.Errorf("%s holds no %s that is recognised", in, want)
	}
	return nil
}

// mostOdd is how many odd assets are listed.
const mostOdd = 20

// summary is what a chain did to the models of a folder, step by step, and
// which of them it did something else to than to the others.
func (x *converter) summary(w io.Writer) {
	if x.many == nil {
		return
	}
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "step\tdone\tidle\tlost\tfailed\tchanged")
	for i, r := range x.many.Rows() {
		fmt.Fprintf(table, "%d %s\t%d\t%d\t%d\t%d\t%+.0f%%\n",
			i+1, r.Step, r.States["done"], r.States["idle"], r.States["lost"], r.States["failed"], 100*r.Share)
	}
	table.Flush()
	odd := x.many.Odd()
	if len(odd) > 0 {
		fmt.Fprintln(w, "out of the ordinary:")
	}
	for _, o := range odd[:min(len(odd), mostOdd)] {
		fmt.Fprintf(w, "  %s, %s: %s\n", harmless(o.Asset), o.Step, harmless(o.Says))
	}
	if len(odd) > mostOdd {
		fmt.Fprintf(w, "  and %d more\n", len(odd)-mostOdd)
	}
}

// wanted lists the entries that are, or are meant to be, of a kind; what is
// being written is none of them.
func (x *converter) wanted(ctx context.Context, src *source.Source, in, out string, want find.Kind) (todo []int, passed int, err error) {
	inside := ""
	if rel, err := filepath.Rel(in, out); err == nil && filepath.IsLocal(rel) && rel != "." {
		inside = filepath.ToSlash(rel) + "/"
	}
	for i, e := range src.Entries() {
		if ctx.Err() != nil {
			return nil, 0, ctx.Err()
		}
		if inside != "" && strings.HasPrefix(e.Path, inside) {
			continue
		}
		x.files.reads(filepath.Join(in, filepath.FromSlash(e.Path)))
		kind := find.Data
		if head, err := src.Head(i, find.HeadBytes); err == nil {
			kind, _ = x.lib.KindOf(e.Path, head)
		}
		// What is known for something else, such as a picture with a model's
		// ending, is no broken model; text and unknown bytes may be.
		broken := (kind == find.Data || kind == find.Text) && slices.Contains(meant[want], strings.ToLower(path.Ext(e.Path)))
		if kind == want || broken {
			todo = append(todo, i)
		} else {
			passed++
		}
	}
	return todo, passed, nil
}

// names are the files to write, planned before any is: of two that differ in
// their ending only, the second keeps its own.
func (x *converter) names(src *source.Source, todo []int, out, ending string) []string {
	taken := map[string]bool{}
	names := make([]string, len(todo))
	for k, i := range todo {
		p := src.Entries()[i].Path
		name := strings.TrimSuffix(p, path.Ext(p)) + ending
		if taken[strings.ToLower(name)] {
			name = p + ending
		}
		taken[strings.ToLower(name)] = true
		names[k] = filepath.Join(out, filepath.FromSlash(name))
	}
	return names
}

func (x *converter) entry(ctx context.Context, log io.Writer, src *source.Source, i int, out string) error {
	e := src.Entries()[i]
	if e.Size > limit.EntryBytes {
		return fmt.Errorf("it has %d bytes", e.Size)
	}
	data, err := src.Read(i)
	if err != nil {
		return err
	}
	in := &given{done: func() {}}
	in.Input = find.Input{Name: e.Path, Data: data, Finder: pinned{append(source.Stack{src}, x.stack...), x.binds}, Readings: x.readings, Used: in.origins.Add}
	in.origins.Add(source.Hit{Source: src, Entry: i})
	return x.one(ctx, log, in, out)
}

// tally counts what came of files and tells it, one file at a time.
type tally struct {
	cmd *cobra.Command
	bar *progress

	mu           sync.Mutex
	made, failed int
}

func (t *tally) count(in, out, log string, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.bar.above(func() {
		w := t.cmd.ErrOrStderr()
		lines := strings.Split(strings.TrimSpace(log), "\n")
		if err != nil {
			t.failed++
			if !errors.Is(err, errQuiet) {
				fmt.Fprintf(w, "%s %s: %v\n", tint(w, fault, "excavate:"), harmless(in), harmless(err.Error()))
			} else {
				fmt.Fprintf(w, "%s %s:\n", tint(w, fault, "excavate:"), harmless(in))
			}
		} else {
			t.made++
			fmt.Fprintln(t.cmd.OutOrStdout(), out)
		}
		for _, l := range lines {
			if l != "" {
				fmt.Fprintf(w, "  %s\n", l)
			}
		}
	})
	t.bar.step(1, 0)
}
