package main

import (
	"errors"
	"fmt"
	"io"
	"os"

	"excavate/core/assembly"
	"excavate/core/find"

	"github.com/spf13/cobra"
)

// assembleCommand is convert for a document that names many assets.
func assembleCommand(o *options) *cobra.Command {
	c := convertCommand(o)
	c.Use, c.Short = "assemble LIST.yaml -o OUT [--chain chain.yaml]", "Put many models into one, each in its place"
	c.Long = `Reads a list of models with a place each and writes them as one. Equal meshes, materials and pictures are stored once; a model that stands in many places is one mesh and many nodes.

  assembly: Sedgewater at low tide
  entries:
    - from: tiles/north.glb
    - {from: boats/punt.glb, at: [4, 0, 2], turn: 30, scale: 1.2, name: punt at the landing}

Paths are those beside the list, or of entries of the sources. at is metres along the axes of the first model, or of the key basis: {up: +Y, front: +Z, handedness: right, unit: 1}; turn is degrees about up; rotation is a quaternion x, y, z, w; scale is a number or three. Without at a model stays where its own coordinates have it.`
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		o.anywhere = true
		head, err := headOf(args[0])
		if err != nil {
			return err
		}
		if !assembly.Is(head) {
			return fmt.Errorf("%s is no assembly: its first key is assembly, with its name", args[0])
		}
		return run(cmd, args)
	}
	return c
}

// headOf is the beginning of a file.
func headOf(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, find.HeadBytes)
	n, err := io.ReadFull(f, b)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		err = nil
	}
	return b[:n], err
}
