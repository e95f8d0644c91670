package format

import (
	"fmt"
	"math"

	"excavate/core/scene"
)

// farFor is how many times their size places lie from the origin before they
// are read relative to their middle: numbers of 32 bits have 24 bits, so that
// from there on less than 18 are left for the shape, 0.03 mm of 10 m.
const farFor = 64

// Far is where places lie that are far from the origin for how large they are
// together, by their bounds: their middle, as numbers of 32 bits hold it
// without rest. Zero is for all others. Positions are then kept relative to a
// node that stands there.
func Far(min, max [3]float64) (at [3]float64) {
	size, away := 0.0, 0.0
	for k := range 3 {
		size = math.Max(size, max[k]-min[k])
		away = math.Max(away, math.Abs(max[k]/2+min[k]/2))
	}
	if !(size > 0) || !(away > farFor*size) || away > math.MaxFloat32/2 {
		return at
	}
	for k := range 3 {
		at[k] = float64(float32(math.Round(max[k]/2 + min[k]/2)))
	}
	return at
}

// PlaceFar stands every node with a mesh where its positions are relative to.
func PlaceFar(s *scene.Scene, at [3]float64) {
	if at == [3]float64{} {
		return
	}
	for i := range s.Nodes {
		if s.Nodes[i].Mesh >= 0 {
			s.Nodes[i].Translation = [3]float32{float32(at[0]), float32(at[1]), float32(at[2])}
		}
	}
	s.Notes = append(s.Notes, scene.Note{Text: fmt.Sprintf("it lies far from the origin for its size, where numbers of 32 bits are coarse: its positions are relative to nodes at %g, %g, %g", at[0], at[1], at[2])})
}
