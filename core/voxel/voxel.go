// Package voxel makes volumes of surfaces and surfaces of volumes, and works on
// volumes: their colours, their shape, their loose bits.
//
// Work and memory go with the surface, not with what it holds: blocks that are
// equal, above all those that are wholly filled, are one.
package voxel

import (
	"context"
	"errors"
	"fmt"
	"math"
	"sync/atomic"

	"excavate/core/limit"
	"excavate/core/scene"
)

// Side is the side of a block, in voxels.
const Side = scene.VolumeBlock

const blockVoxels = Side * Side * Side

// Input is what is made a volume of.
type Input struct {
	// Positions are three corners of x, y, z a triangle, in voxels: the grid
	// begins at 0. The front of a triangle is where its corners go round
	// counter-clockwise.
	Positions []float32
	// Colour is the colour of a triangle at a place within it, given as the share
	// of each corner; there is false where nothing is seen. nil is white.
	Colour func(triangle int, share [3]float64) (c [3]uint8, there bool)
	// Touch fills every voxel that a surface touches, not those alone whose
	// centre is inside.
	Touch bool
	// Shell keeps so many voxels from the outside inwards; 0 keeps all.
	Shell int
}

func (in *Input) colour(t int, share [3]float64) (rgb, bool) {
	if in.Colour == nil {
		return 0xffffff, true
	}
	c, there := in.Colour(t, share)
	return rgb(c[0]) | rgb(c[1])<<8 | rgb(c[2])<<16, there
}

// Told is what came of it.
type Told struct {
	Voxels  int // that are filled
	Surface int // of them, with a side that shows
	Open    int // lines that go into a surface and never come out
	Thin    int // voxels that stand for what is thinner than they are
	Lost    int // triangles of pieces that are too small to fill any
}

// Make fills the voxels of a grid. A voxel is in if its centre is inside the
// surfaces. What is too thin to hold a centre, and surfaces that are open, fill
// the voxels in which they cross a line through their centres, so that nothing
// vanishes. What lies outside of the grid is left out.
func Make(ctx context.Context, in *Input, dims [3]int) (*scene.Volume, *Told, error) {
	v := &scene.Volume{Dims: dims, Size: 1}
	n := v.Grid()
	v.Index = make([]uint32, n[0]*n[1]*n[2])
	if err := v.Validate(); err != nil {
		return nil, nil, err
	}
	for _, x := range in.Positions {
		if !(math.Abs(float64(x)) < 4*limit.VolumeSide) { // so that products of whole numbers fit 64 bits
			return nil, nil, fmt.Errorf("a corner lies at %g voxels", x)
		}
	}
	m := &maker{
		in:      in,
		g:       newGrid(dims),
		dims:    dims,
		told:    &Told{},
		crossed: make([]atomic.Uint64, len(in.Positions)/9/64+1),
	}
	for axis := range 3 {
		a, err := cross(ctx, in, dims, axis, m.crossed)
		if err != nil {
			return nil, nil, err
		}
		m.lines[axis] = a
	}
	if err := m.fill(ctx); err != nil {
		return nil, nil, err
	}
	if in.Touch {
		if err := m.touch(ctx); err != nil {
			return nil, nil, err
		}
	}
	if in.Shell > 0 {
		if _, err := m.g.hollow(ctx, in.Shell); err != nil {
			return nil, nil, err
		}
	}
	if err := m.paint(ctx); err != nil {
		return nil, nil, err
	}
	v.Palette = m.palette
	m.g.store(v)
	if m.told.Voxels = Count(v); m.told.Voxels == 0 {
		return nil, nil, errors.New("no voxel is filled: the surfaces are wholly clear, or too small")
	}
	return v, m.told, nil
}

// Count is how many voxels are filled.
func Count(v *scene.Volume) (n int) {
	for _, k := range Counts(v) {
		n += k
	}
	return n
}
