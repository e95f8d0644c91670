package step

import (
	"context"
	"fmt"
	"strings"

	"excavate/core/scene"
)

// Beyond is what lies outside the scene: assets and pictures that a step may
// take from. Names are those of chain documents: paths in the search order, or
// of files beside the chain.
type Beyond interface {
	// Asset decodes another asset.
	Asset(ctx context.Context, from string) (*scene.Scene, error)
	// Pictures lists the paths of pictures that fit a glob, in the order in
	// which they are searched. A glob without a / is about names alone, with
	// their ending or without.
	Pictures(ctx context.Context, glob string) ([]string, error)
	// Picture reads the picture that a name stands for.
	Picture(ctx context.Context, name string) (scene.Picture, error)
}

// Ask is one thing that a step takes from outside the scene. Of these, one is
// set.
type Ask struct {
	Asset    string // the asset of this name
	Pictures string // pictures that fit this glob
	Picture  string // the picture that this name stands for
}

// EndOf is the name of the chain whose end an asset is, written as chain: NAME.
func EndOf(from string) (chain string, ok bool) {
	name, ok := strings.CutPrefix(from, "chain:")
	return strings.TrimSpace(name), ok
}

// asker is implemented by parameters that take from outside the scene.
type asker interface{ asks() []Ask }

// Nowhere is where there is nothing outside.
type Nowhere struct{}

// Asset finds none.
func (Nowhere) Asset(_ context.Context, from string) (*scene.Scene, error) {
	return nil, fmt.Errorf("%s: there is nothing here to take another asset from", from)
}

// Pictures finds none.
func (Nowhere) Pictures(context.Context, string) ([]string, error) { return nil, nil }

// Picture finds none.
func (Nowhere) Picture(_ context.Context, name string) (scene.Picture, error) {
	return scene.Picture{}, fmt.Errorf("%s: there is nothing here to take pictures from", name)
}
