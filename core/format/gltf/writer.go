package gltf

import (
	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/scene"
)

// Writer is the writer for the registry: one GLB.
func Writer() format.Writer {
	return format.Writer{Name: "glb", Title: "glTF 2.0, binary", Ending: ".glb", Basis: geom.GLTF, Write: func(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
		b, notes, err := Write(s, Options{Generator: "Excavate"})
		return []format.Written{{Name: flat.FileName(name) + ".glb", Data: b}}, notes, err
	}}
}
