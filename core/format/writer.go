package format

import "excavate/core/scene"

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
