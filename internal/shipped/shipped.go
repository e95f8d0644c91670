// Package shipped puts together what Excavate decodes with out of the box:
// the layouts that ship and the open formats.
package shipped

import (
	"slices"

	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/format/obj"
	"excavate/core/format/ply"
	"excavate/core/format/stl"
	"excavate/core/format/x3d"
	"excavate/core/layout"
	"excavate/layouts"
)

// Formats are the open formats that are read, in the order in which they are
// tried: those with a mark first.
var Formats = slices.Concat(format.Registry(gltf.Readers()), x3d.Formats(), format.Registry{ply.Format(), stl.Format(), obj.Format()})

// Writers are the open formats that are written.
var Writers = format.Writers{gltf.Writer(), gltf.VRMWriter("Excavate"), obj.Writer(), ply.Writer(), stl.Writer()}

// Library compiles the layouts that ship. Those in more, folders with layouts
// of the porter's own, are tried first, the last folder before the others.
func Library(more ...string) (*find.Library, error) {
	set, err := layout.LoadFS(layouts.FS)
	if err != nil {
		return nil, err
	}
	for _, dir := range more {
		if set, err = set.With(dir); err != nil {
			return nil, err
		}
	}
	return &find.Library{Layouts: set, Formats: Formats}, nil
}
