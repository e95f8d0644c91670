package stl

import (
	"encoding/binary"
	"math"
	"strings"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/scene"
)

// Writer is the writer for the registry.
func Writer() format.Writer {
	return format.Writer{Name: "stl", Title: "Stereolithography", Ending: ".stl", Write: Write}
}

// Write writes a scene as one binary STL.
func Write(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
	notes := flat.Lost(s, flat.Has{Format: "STL"})
	for i := range notes { // facets have normals, though vertices do not
		if strings.Contains(notes[i].Text, "normals") {
			notes = append(notes[:i], notes[i+1:]...)
			break
		}
	}
	out := make([]byte, 84)
	n := uint32(0)
	for _, p := range flat.Pieces(s) {
		for k := 0; k+2 < len(p.Triangles); k += 3 {
			var q [3][3]float32
			for c := range 3 {
				q[c] = [3]float32(p.Positions[3*p.Triangles[k+c]:][:3])
			}
			f := normal(q)
			for _, v := range [][3]float32{f, q[0], q[1], q[2]} {
				for _, x := range v {
					out = binary.LittleEndian.AppendUint32(out, math.Float32bits(x))
				}
			}
			out = append(out, 0, 0)
			n++
		}
	}
	binary.LittleEndian.PutUint32(out[80:], n)
	return []format.Written{{Name: flat.FileName(name) + ".stl", Data: out}}, notes, nil
}
