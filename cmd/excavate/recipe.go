package main

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"excavate/core/delivery"
	"excavate/core/distinct"
	"excavate/core/find"
	"excavate/core/recipe"
	"excavate/internal/version"

	"github.com/spf13/cobra"
)

func recipeCommand(o *options) *cobra.Command {
	c := &cobra.Command{Use: "recipe", Short: "Carry what is known of an asset without a byte of it",
		Args: cobra.NoArgs,
		Long: `A recipe says from which entries of which sources an asset came, by their names and digests, how they are read, which steps were done and what was delivered: layouts, parameters, sheets, and nothing of the assets themselves. Whoever has an own copy of the sources makes the same of them again.`}
	c.AddCommand(recipeMake(o), recipeOpen(o), recipeShow(o), recipeKey())
	return c
}

func recipeMake(o *options) *cobra.Command {
	var out, keyFile string
	var replace bool
	c := &cobra.Command{Use: "make DELIVERY.zip -o RECIPE", Short: "Make the recipe of a delivery",
		Args: cobra.ExactArgs(1)}
	c.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write")
	c.Flags().StringVar(&keyFile, "key", "", "sign it with the key in `FILE` (see excavate recipe key)")
	c.Flags().BoolVar(&replace, "replace", false, "write over what is there already")
	c.MarkFlagRequired("output")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		list, data, err := readPackage(args[0])
		if err != nil {
			return err
		}
		for _, d := range list {
			if f := d.Faults(); f != nil {
				return fmt.Errorf("%s: it is not as it was made: %s: %s", args[0], f[0].Path, f[0].Says)
			}
		}
		r, err := recipe.FromPackage(list, data, version.Version)
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		if keyFile != "" {
			text, err := os.ReadFile(keyFile)
			if err != nil {
				return err
			}
			key, err := recipe.ReadKey(text)
			if err != nil {
				return fmt.Errorf("%s: %w", keyFile, err)
			}
			if err := r.Sign(key); err != nil {
				return err
			}
		}
		text, err := r.JSON()
		if err != nil {
			return err
		}
		files := newOutputs(replace)
		files.reads(args[0])
		return files.write(out, text)
	}
	return c
}

// readRecipe reads a recipe and tells whose it is. One that was changed since it
// was signed is refused unless that is known.
func readRecipe(w io.Writer, file string, changed bool) (*recipe.Recipe, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	r, err := recipe.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	switch by, err := r.Signed(); {
	case err != nil && !changed:
		return nil, fmt.Errorf("%s: %w; --changed opens it all the same", file, err)
	case err != nil:
		fmt.Fprintf(w, "%s %v\n", tint(w, attention, "note:"), err)
	case by != "":
		fmt.Fprintf(w, "signed by %s\n", by)
	default:
		fmt.Fprintln(w, "not signed")
	}
	return r, nil
}

func recipeShow(o *options) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "show RECIPE", Short: "Say what opening a recipe does", Args: cobra.ExactArgs(1)}
	c.Flags().BoolVar(&asJSON, "json", false, "print the recipe")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		w := cmd.OutOrStdout()
		said := w
		if asJSON {
			said = cmd.ErrOrStderr()
		}
		r, err := readRecipe(said, args[0], true)
		if err != nil {
			return err
		}
		if asJSON {
			return printJSON(w, r)
		}
		_, stack, done, err := o.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		fmt.Fprintf(w, "%s, made by Excavate %s\n", harmless(r.Name), harmless(r.Excavate))
		for _, l := range r.Plan(stack) {
			fmt.Fprintln(w, "  "+harmless(l))
		}
		return nil
	}
	return c
}

func recipeOpen(o *options) *cobra.Command {
	var out string
	var replace, changed bool
	c := &cobra.Command{Use: "open RECIPE --source DIR -o OUT.zip",
		Short: "Make what a recipe says from an own copy of the sources", Args: cobra.ExactArgs(1),
		Long: `Says what the recipe does, looks for its entries in the sources by their digests and names, and makes its deliveries again. The report tells of each whether it is the same, ran with another result, or has no source here. Several assets are written as one package where OUT ends in .zip, else as a folder of packages, one each. It ends with status 1 where something is missing or fails.`}
	c.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, a zip, or for several assets a folder")
	c.Flags().BoolVar(&replace, "replace", false, "write over what is there already")
	c.Flags().BoolVar(&changed, "changed", false, "open it though it was changed since it was signed")
	c.MarkFlagRequired("output")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		w := cmd.ErrOrStderr()
		r, err := readRecipe(w, args[0], changed)
		if err != nil {
			return err
		}
		if len(o.sources) == 0 {
			return errors.New("--source is missing: name the folder or archive that is your own copy")
		}
		dir, err := os.MkdirTemp("", "excavate-layouts-*")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		for _, l := range r.Layouts { // Check has seen the names
			if err := os.WriteFile(filepath.Join(dir, l.Name+".yaml"), []byte(l.Text), 0o600); err != nil {
				return err
			}
		}
		with := *o
		if len(r.Layouts) > 0 {
			with.layouts = append(slices.Clone(o.layouts), dir)
		}
		lib, stack, done, err := with.open(cmd.Context())
		if err != nil {
			return err
		}
		defer done()
		for _, l := range r.Plan(stack) {
			fmt.Fprintln(w, harmless(l))
		}
		op := &recipe.Opener{Maker: maker, Lib: lib, Stack: stack,
			Finder: func(binds map[string]string) find.Finder { return pinned{stack, binds} }}
		list, err := op.Open(cmd.Context(), r)
		if err != nil {
			return err
		}
		return writeOpened(cmd, list, out, args[0], replace)
	}
	return c
}

// writeOpened reports what became of a recipe's items, and writes what ran.
func writeOpened(cmd *cobra.Command, list []recipe.Outcome, out, from string, replace bool) error {
	files := newOutputs(replace)
	files.reads(from)
	var ran []recipe.Outcome
	for _, x := range list {
		fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", harmless(x.Asset), x.State)
		for _, s := range x.Says {
			fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", harmless(s))
		}
		if x.Package != nil {
			ran = append(ran, x)
		}
	}
	var err error
	switch one := len(list) == 1 || strings.EqualFold(filepath.Ext(out), ".zip"); {
	case one && len(ran) == len(list):
		err = writeTogether(files, ran, out)
	case one && len(list) > 1:
		fmt.Fprintln(cmd.OutOrStdout(), "nothing is written: name a folder to get what ran")
	default:
		var names distinct.Names
		for _, x := range ran {
			name := names.Name(delivery.Name(x.Asset), "_") + ".zip"
			if err = files.write(filepath.Join(out, name), x.Package); err != nil {
				break
			}
		}
	}
	if err == nil && len(ran) < len(list) {
		return errQuiet
	}
	return err
}

// writeTogether writes a package of all that ran.
func writeTogether(files *outputs, ran []recipe.Outcome, out string) error {
	var list [][]delivery.File
	for _, x := range ran {
		list = append(list, x.Files)
	}
	zip, err := delivery.Packed(list...)
	if err != nil {
		return err
	}
	return files.write(out, zip)
}

func recipeKey() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "key -o FILE", Short: "Make a key to sign recipes with", Args: cobra.NoArgs}
	c.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write; it is yours alone")
	c.MarkFlagRequired("output")
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		text, err := recipe.NewKey()
		if err != nil {
			return err
		}
		f, err := os.OpenFile(out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600) // never over another key
		if err != nil {
			return err
		}
		_, err = f.Write(text)
		return errors.Join(err, f.Close())
	}
	return c
}

// ownLayouts are the porter's own layouts, from the folders that were given.
func (o *options) ownLayouts() (out []delivery.File, err error) {
	for _, dir := range o.layouts {
		names, err := fs.Glob(os.DirFS(dir), "*.yaml")
		if err != nil {
			return nil, err
		}
		for _, n := range names {
			text, err := os.ReadFile(filepath.Join(dir, n))
			if err != nil {
				return nil, err
			}
			name := strings.TrimSuffix(n, ".yaml")
			out = slices.DeleteFunc(out, func(f delivery.File) bool { return f.Path == name }) // the last folder wins
			out = append(out, delivery.File{Path: name, Data: text})
		}
	}
	return out, nil
}
