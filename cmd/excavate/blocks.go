package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"excavate/core/blocks"
	"excavate/core/chain"
	"excavate/core/pixel"

	"github.com/spf13/cobra"
)

func blocksCommand(o *options) *cobra.Command {
	var out, chainFile string
	var cell int
	var replace bool
	c := &cobra.Command{Use: "blocks MODEL --chain CHAIN -o OUT.pdf",
		Short: "Write how a model is built of blocks, layer by layer", Args: cobra.ExactArgs(1),
		Long: `Runs a chain that makes voxels of a model and writes them as a build: plans of every layer to print, with the blocks that each needs (.pdf), pictures of the layers (.png, numbered), or all of it as a text (.txt) or for programs (.json). docs/formats.md has both forms.`}
	f := c.Flags()
	f.StringVarP(&out, "output", "o", "", "the `FILE` to write: .pdf, .png, .txt or .json")
	f.StringVar(&chainFile, "chain", "", "the chain document `FILE` that makes voxels of the model")
	f.IntVar(&cell, "cell", 16, "`PIXELS` a block in pictures")
	f.BoolVar(&replace, "replace", false, "write over what is there already")
	c.MarkFlagRequired("output")
	c.MarkFlagRequired("chain")
	o.sourceFlag(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		ending := strings.ToLower(filepath.Ext(out))
		if !strings.Contains(".pdf.png.txt.json.", ending+".") || ending == "" {
			return fmt.Errorf("%s: a build is written as .pdf, .png, .txt or .json", out)
		}
		if cell < 3 || cell > 64 {
			return fmt.Errorf("--cell %d: from 3 to 64 pixels", cell)
		}
		text, err := os.ReadFile(chainFile)
		if err != nil {
			return err
		}
		x := &converter{options: o, files: newOutputs(replace)}
		if x.doc, err = chain.Parse(text); err != nil {
			return fmt.Errorf("%s: %w", chainFile, err)
		}
		var done func()
		if x.lib, x.stack, done, err = o.open(cmd.Context()); err != nil {
			return err
		}
		defer done()
		defer x.besideChain(cmd.Context(), chainFile)()
		x.files.reads(args[0])
		in, err := x.load(x.stack, args[0])
		defer in.done()
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		s, _, err := x.decodeInput(cmd.Context(), x.lib, in)
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		s, _, err = x.chain(cmd.Context(), cmd.ErrOrStderr(), args[0], s, x.outside(in))
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		b, err := blocks.Of(s)
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		if err := x.writeBuild(cmd, b, out, ending, cell); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%d blocks of %d kinds, %d across, %d deep, %d high\n", b.Total(),
			len(b.Kinds), b.Size[0], b.Size[1], b.Size[2])
		for i := range b.Kinds {
			k := &b.Kinds[i]
			fmt.Fprintf(cmd.OutOrStdout(), "%s %7d  %s\n", k.Code, k.Count, harmless(k.Name))
		}
		return nil
	}
	return c
}

func (x *converter) writeBuild(cmd *cobra.Command, b *blocks.Build, out, ending string, cell int) error {
	var data []byte
	var err error
	switch ending {
	case ".txt":
		data = b.Text()
	case ".json":
		data, err = b.JSON()
	case ".pdf":
		data, err = b.PDF(cmd.Context())
	default:
		for high := range b.Size[2] {
			if err := cmd.Context().Err(); err != nil {
				return err
			}
			img, err := b.Picture(high, cell)
			if err != nil {
				return fmt.Errorf("--cell: %w", err)
			}
			if data, err = pixel.PNG(img); err != nil {
				return err
			}
			name := fmt.Sprintf("%s_%03d%s", strings.TrimSuffix(out, filepath.Ext(out)), high+1, ending)
			if err := x.files.write(name, data); err != nil {
				return err
			}
		}
		return nil
	}
	if err != nil {
		return err
	}
	return x.files.write(out, data)
}
