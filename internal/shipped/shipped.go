// Package shipped puts together what Excavate decodes with out of the box:
// the layouts that ship and the open formats.
package shipped

import (
	"slices"

	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/format/brush"
	"excavate/core/format/bvh"
	"excavate/core/format/dae"
	"excavate/core/format/gltf"
	"excavate/core/format/obj"
	"excavate/core/format/ply"
	"excavate/core/format/stl"
	"excavate/core/format/threemf"
	"excavate/core/format/usd"
	"excavate/core/format/x3d"
	"excavate/core/layout"
	"excavate/core/pixel"
	"excavate/layouts"
)

// Formats are the open formats that are read, in the order in which they are
// tried: those with a mark first.
var Formats = slices.Concat(format.Registry(gltf.Readers()), x3d.Formats(), threemf.Formats(), usd.Formats(),
	format.Registry{dae.Format(), dae.Zipped(), bvh.Format(), brush.Format(), ply.Format(), stl.Format(),
		obj.Format()})

// Writers are the open formats that are written.
var Writers = surfaces(format.Writers{gltf.Writer(), gltf.VRMWriter("Excavate")}, plain(format.Writers{obj.Writer(),
	dae.Writer("Excavate"), ply.Writer(), stl.Writer(), threemf.Writer(), bvh.Writer()}, usd.Writers(), x3d.Writers()))

func plain(lists ...format.Writers) format.Writers {
	return each(format.Writer.Plain, lists)
}

func surfaces(lists ...format.Writers) format.Writers {
	return each(format.Writer.Surfaces, lists)
}

func each(as func(format.Writer) format.Writer, lists []format.Writers) format.Writers {
	out := slices.Concat(lists...)
	for i := range out {
		out[i] = as(out[i])
	}
	return out
}

// Library compiles the layouts that ship. Those in more, folders with layouts
// of the porter's own, are tried first, the last folder before the others. A
// layout in them that does not compile is left out and reported to bad.
func Library(bad func(error), more ...string) (*find.Library, error) {
	set, err := layout.LoadFS(layouts.FS)
	if err != nil {
		return nil, err
	}
	for _, dir := range more {
		with, wrong, err := set.With(dir)
		if err != nil {
			return nil, err
		}
		for _, w := range wrong {
			bad(w)
		}
		set = with
	}
	return &find.Library{Layouts: set, Formats: Formats}, nil
}

// Known is an open format with what is done with it.
type Known struct {
	Name   string         `json:"name"`
	Title  string         `json:"title"`
	Kind   string         `json:"kind"` // model or picture
	Ending string         `json:"ending,omitempty"`
	Reads  bool           `json:"reads"`
	Writes bool           `json:"writes"`
	Texels []pixel.Format `json:"texels,omitempty"` // that a picture can be written with
}

// All are the open formats, each once.
func All() []Known {
	out := []Known{}
	for _, r := range Formats {
		out = append(out, Known{Name: r.Name, Title: r.Title, Kind: "model", Reads: true})
	}
	for _, w := range Writers {
		k := slices.IndexFunc(out, func(x Known) bool { return x.Name == w.Name })
		if k < 0 {
			k = len(out)
			out = append(out, Known{Name: w.Name, Title: w.Title, Kind: "model"})
		}
		out[k].Ending, out[k].Writes = w.Ending, true
		if w.Name == "vrm" {
			out[k].Reads = true // by the reader of GLB
		}
	}
	for _, c := range pixel.Containers {
		out = append(out, Known{c.Name, c.Title, "picture", c.Ending, true, c.Writes, c.Texels})
	}
	return out
}
