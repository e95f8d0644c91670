// Package brush reads levels of solids: text files of entities, each some keys
// with their values and some solids, each solid the room that half-spaces have
// in common, with a projection of a picture for every face; and curved patches,
// grids of control points of biquadratic Bézier surfaces.
//
// There is no standard. A face is
//
//	( x y z ) ( x y z ) ( x y z ) MATERIAL offset offset angle scale scale
//	( x y z ) ( x y z ) ( x y z ) MATERIAL [ x y z offset ] [ x y z offset ] angle scale scale
//
// with three points of its plane, clockwise seen from outside, Z up; a patch is
//
//	{ patchDef2 { MATERIAL ( columns rows … ) ( ( ( x y z u v ) … ) … ) } }
//
// Corners are computed exactly: what three planes meet in is the same number
// for every face and every solid that has it, so neighbours have no cracks.
package brush

import (
	"bytes"
	"context"
	"regexp"

	"excavate/core/format"
	"excavate/core/scene"
)

// Format is the reader for the registry.
func Format() format.Reader {
	return format.Reader{Name: "brush", Title: "Level of solids", Probe: Probe, Read: Read}
}

// begins is how a level begins: an entity with a quoted key and value, or with
// a solid's first point.
var begins = regexp.MustCompile(`^\s*\{\s*(?:"[^"\n]*"\s*"[^"\n]*"|\{\s*\(\s*-?[\d.]|\})`)

// Probe tells a level by its first entity; comments may stand before it.
func Probe(head []byte) bool {
	head = format.UTF8(head)
	for {
		head = bytes.TrimLeft(head, " \t\r\n")
		if !bytes.HasPrefix(head, []byte("//")) {
			break
		}
		i := bytes.IndexByte(head, '\n')
		if i < 0 {
			return false
		}
		head = head[i:]
	}
	return begins.Match(head) && !bytes.HasPrefix(bytes.TrimLeft(head[1:], " \t\r\n"), []byte("}"))
}

// The names of what the reader leaves to whoever reads, with what is meant
// unless another is chosen first.
const (
	solidsChoice  = "solids"
	curvesChoice  = "curves"
	shadingChoice = "curve shading"
	hullChoice    = "outer hull"
)

const (
	together  = "one mesh an entity"
	each      = "a node each"
	smooth    = "smooth"
	flat      = "flat"
	allFaces  = "every face"
	seenFaces = "only faces that the inside sees"
	showLeak  = "every face, and the leak as a path"
)

var fineness = []string{"4 to a piece", "1 to a piece", "2 to a piece", "8 to a piece", "16 to a piece"}

// Read decodes a level. It declares that Z is up, not how large a unit is.
func Read(ctx context.Context, f format.File) (*scene.Scene, error) {
	l, err := parse(ctx, format.UTF8(f.Data))
	if err != nil {
		return nil, err
	}
	return build(ctx, f, l)
}
