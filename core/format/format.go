// Package format is the registry of open formats: what a file is, told by its
// bytes, and the reader that makes a scene of it.
package format

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"excavate/core/scene"
)

// File is what a reader gets: the bytes, and a way to companions beside them.
type File struct {
	Name string // for messages
	Data []byte
	// Readings choose where the file leaves it open, by the names of the scene's
	// choices.
	Readings map[string]string
	// Companion returns the bytes of a file that this one names, relative to
	// itself, and where they were found. Nil if there is nowhere to look.
	Companion func(ref string) (data []byte, found string, err error)
}

// Reader reads one open format.
type Reader struct {
	Name  string // as on screen and in JSON: glb, gltf
	Title string
	// Probe tells from the first bytes whether the file is of this format.
	Probe func(head []byte) bool
	// Ending, where it is set, tells the format of a file that no probe knows and
	// that may be of it.
	Ending string
	// May tells whether a file of that ending can be of this format; nil is
	// whether it is a ZIP.
	May func(head []byte) bool
	// Read decodes a file. What cannot be carried over is a note of the scene.
	Read func(ctx context.Context, f File) (*scene.Scene, error)
}

// Registry is the formats that are at hand.
type Registry []Reader

// Find returns the reader for a file's first bytes, or nil.
func (r Registry) Find(head []byte) *Reader {
	for i := range r {
		if r[i].Probe(head) {
			return &r[i]
		}
	}
	return nil
}

// FindNamed is Find, and asks the name's ending where the bytes leave it open.
func (r Registry) FindNamed(name string, head []byte) *Reader {
	if x := r.Find(head); x != nil {
		return x
	}
	for i := range r {
		if e := r[i].Ending; e == "" || !strings.HasSuffix(strings.ToLower(name), e) {
			continue
		}
		if may := r[i].May; may == nil && bytes.HasPrefix(head, []byte("PK\x03\x04")) || may != nil && may(head) {
			return &r[i]
		}
	}
	return nil
}

// Error names the place in the file.
type Error struct {
	At  string // offset, line, or the element's place in the document
	Msg string
}

func (e *Error) Error() string {
	if e.At == "" {
		return e.Msg
	}
	return e.At + ": " + e.Msg
}

// Where is the place for machine-readable reports.
func (e *Error) Where() string { return e.At }

// Errorf makes an Error.
func Errorf(at, msg string, a ...any) error { return &Error{at, fmt.Sprintf(msg, a...)} }

// Place returns the most exact place that an error names: the innermost one.
// It is empty if none does.
func Place(err error) (at string) {
	for ; err != nil; err = errors.Unwrap(err) {
		if w, ok := err.(interface{ Where() string }); ok && w.Where() != "" {
			at = w.Where()
		}
	}
	return at
}
