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

// farMesh is the same for a mesh of a file that has nodes, where a small part
// of a large thing may well lie aside: less than 15 bits are left.
const farMesh = 512

// Far is where places lie that are far from the origin for how large they are
// together, by their bounds: their middle, as numbers of 32 bits hold it
// without rest. Zero is for all others. Positions are then kept relative to a
// node that stands there.
func Far(min, max [3]float64) (at [3]float64) { return middle(min, max, farFor) }

func middle(min, max [3]float64, times float64) (at [3]float64) {
	size, away := 0.0, 0.0
	for k := range 3 {
		size = math.Max(size, max[k]-min[k])
		away = math.Max(away, math.Abs(max[k]/2+min[k]/2))
	}
	if !(size > 0) || !(away > times*size) || away > math.MaxFloat32/2 {
		return at
	}
	for k := range 3 {
		at[k] = float64(float32(math.Round(max[k]/2 + min[k]/2)))
	}
	return at
}

// FarMesh is where the positions of a mesh lie, three numbers each, if that is
// far from the origin of its node; see Far.
func FarMesh[T float32 | float64](places []T) [3]float64 {
	low := [3]float64{math.Inf(1), math.Inf(1), math.Inf(1)}
	high := [3]float64{math.Inf(-1), math.Inf(-1), math.Inf(-1)}
	for i, x := range places[:len(places)/3*3] {
		low[i%3], high[i%3] = math.Min(low[i%3], float64(x)), math.Max(high[i%3], float64(x))
	}
	return middle(low, high, farMesh)
}

// PlaceFar stands every node with a mesh where its positions are relative to.
func PlaceFar(s *scene.Scene, at [3]float64) {
	if at == [3]float64{} {
		return
	}
	for i := range s.Nodes {
		if s.Nodes[i].Mesh >= 0 {
			s.Nodes[i].Translation = place(at)
		}
	}
	s.Notes = append(s.Notes, scene.Note{Text: fmt.Sprintf("it lies far from the origin for its size, where numbers of 32 bits are coarse: its positions are relative to nodes at %g, %g, %g", at[0], at[1], at[2])})
}

// PlaceFarMeshes gives each node whose mesh has positions relative to a place a
// node of that mesh there: the node itself keeps its own transform and motions.
func PlaceFarMeshes(s *scene.Scene, far map[int][3]float64) {
	for i := range len(s.Nodes) {
		at, ok := far[s.Nodes[i].Mesh]
		if !ok {
			continue
		}
		n := scene.NewNode("")
		n.Parent, n.Mesh, n.Translation = i, s.Nodes[i].Mesh, place(at)
		s.Nodes[i].Mesh = scene.None
		s.Nodes = append(s.Nodes, n)
	}
	if len(far) > 0 {
		s.Notes = append(s.Notes, scene.Note{Text: Counted(len(far), "mesh lies", "meshes lie") + " far from the origin of the node for its size, where numbers of 32 bits are coarse: its positions are relative to a node of its own"})
	}
}

func place(at [3]float64) [3]float32 {
	return [3]float32{float32(at[0]), float32(at[1]), float32(at[2])}
}
