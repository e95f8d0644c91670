package format

import (
	"fmt"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Written is one file of what a writer makes; the first is the model itself.
type Written struct {
	Name string
	Data []byte
}

// Writer writes one open format.
type Writer struct {
	Name   string // as on screen and in addresses: glb, obj
	Title  string
	Ending string // .obj
	// Write makes the files of a scene; name is what they are called, without
	// an ending. Notes say what the format cannot carry, each with a count.
	Write func(s *scene.Scene, name string) ([]Written, []scene.Note, error)
	// Basis is what the format's numbers mean: scenes are turned into it. It is
	// unknown where the format declares nothing, or may declare what it likes.
	Basis geom.Basis
	// Declares tells, of a format that may declare its basis, whether it can
	// this one; others are turned.
	Declares func(geom.Basis) bool
}

// Plain is a writer of a format that has no place for what the source says of
// its nodes in its own words, nor for variants and colliders: what is left out
// is said, and colliders are meshes of their shapes on nodes whose names end in
// _collider.
func (w Writer) Plain() Writer {
	write := w.Write
	w.Write = func(s *scene.Scene, name string) ([]Written, []scene.Note, error) {
		s, colliders := s.WithColliderMeshes("_collider")
		files, notes, err := write(s, name)
		if colliders > 0 && err == nil {
			notes = append(notes, scene.Note{Text: Counted(colliders, "collider is a mesh", "colliders are meshes") + " on a node whose name ends in _collider: the format knows none"})
		}
		n := 0
		for i := range s.Nodes {
			if len(s.Nodes[i].Props) > 0 {
				n++
			}
		}
		if n > 0 && err == nil {
			notes = append(notes, scene.Note{Text: "what the source says of " + Counted(n, "node", "nodes") + " is left out: the format has no place for it", Loss: true})
		}
		if v := len(s.Variants); v > 0 && err == nil {
			notes = append(notes, scene.Note{Text: fmt.Sprintf("%s not written: the format has none, and shows the asset as it is", Counted(v, "variant", "variants")), Loss: true})
		}
		return files, notes, err
	}
	return w
}

// Surfaces is a writer of a format that has no grids of voxels: their surfaces are
// written, and that is said.
func (w Writer) Surfaces() Writer {
	write := w.Write
	w.Write = func(s *scene.Scene, name string) ([]Written, []scene.Note, error) {
		files, notes, err := write(s, name)
		n := 0
		for i := range s.Meshes {
			if s.Meshes[i].Volume != nil {
				n++
			}
		}
		if n > 0 && err == nil {
			notes = append(notes, scene.Note{Text: "the voxels of " + Counted(n, "mesh", "meshes") +
				" are written as their surfaces: the format has no grids", Loss: true})
		}
		return files, notes, err
	}
	return w
}

// AsIs is the scene with its numbers kept, whatever the format means by them;
// the note says what that is.
func (w *Writer) AsIs(s *scene.Scene) (*scene.Scene, []scene.Note) {
	to := w.Basis
	if w.Declares != nil && !w.Declares(s.Basis) {
		to = geom.GLTF
		to.MetresPerUnit = s.Basis.MetresPerUnit
	}
	if to == (geom.Basis{}) || to == s.Basis {
		return s, nil
	}
	out := *s
	out.Basis = to
	return &out, []scene.Note{{Text: fmt.Sprintf("the numbers are kept as they are, %s; %s means them as %s", s.Basis, w.Title, to)}}
}

// Writers are the formats that can be written.
type Writers []Writer

// Named returns a writer by its name, or nil.
func (w Writers) Named(name string) *Writer {
	for i := range w {
		if w[i].Name == name {
			return &w[i]
		}
	}
	return nil
}

// ByEnding returns the writer of a file name's ending, or nil.
func (w Writers) ByEnding(ending string) *Writer {
	for i := range w {
		if w[i].Ending == ending {
			return &w[i]
		}
	}
	return nil
}
