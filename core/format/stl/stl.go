// Package stl reads and writes STL (3D Systems, "StereoLithography Interface
// Specification", 1989): text and binary, several solids, and the colours of
// both binary conventions.
package stl

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"slices"

	"excavate/core/format"
	"excavate/core/limit"
	"excavate/core/scene"
)

// Format is the reader for the registry. A binary file has no mark: only its
// size, which a probe does not see, says that it is one; so its header and
// first facets are looked at.
func Format() format.Reader {
	return format.Reader{Name: "stl", Title: "Stereolithography", Probe: Probe, Read: Read, Ending: ".stl", May: may}
}

// may takes what could be binary in a file of the right ending, whatever its
// facets look like: some have normals of any length, or a first facet without
// area. Reading compares the count of facets with the size.
func may(head []byte) bool {
	if len(head) < 84 {
		return false
	}
	n := binary.LittleEndian.Uint32(head[80:])
	return n > 0 && n <= limit.Vertices/3
}

// Probe tells text by its words, and binary by a count and a first facet that
// make sense.
func Probe(head []byte) bool {
	if isText(head) {
		return true
	}
	if len(head) < 134 {
		return false
	}
	n := binary.LittleEndian.Uint32(head[80:])
	if n == 0 || n > limit.Vertices/3 {
		return false
	}
	surfaces := 0
	for f := 84; f+50 <= len(head) && (f-84)/50 < int(min(n, 8)); f += 50 {
		var v [12]float64
		for i := range v {
			v[i] = float64(math.Float32frombits(binary.LittleEndian.Uint32(head[f+4*i:])))
			if math.IsNaN(v[i]) || math.Abs(v[i]) > 1e9 || v[i] != 0 && math.Abs(v[i]) < 1e-12 {
				return false
			}
		}
		l := v[0]*v[0] + v[1]*v[1] + v[2]*v[2]
		if l != 0 && math.Abs(l-1) > 1e-2 {
			return false
		}
		if a, b, c := v[3:6], v[6:9], v[9:12]; !slices.Equal(a, b) && !slices.Equal(b, c) && !slices.Equal(a, c) {
			surfaces++
		}
		if l == 0 && binary.LittleEndian.Uint16(head[f+48:]) != 0 {
			return false
		}
	}
	return surfaces > 0
}

// isText looks for "solid" and, in what follows its line, "facet" or "endsolid".
func isText(b []byte) bool {
	t := bytes.TrimLeft(b, " \t\r\n")
	if len(t) < 5 || !is(t[:5], "solid") {
		return false
	}
	_, rest, ok := bytes.Cut(t, []byte("\n"))
	if !ok {
		return false
	}
	first := (&piece{data: rest}).word()
	return is(first, "facet") || is(first, "endsolid")
}

// builder gathers facets. Each keeps three vertices of its own, as it has in
// the file: the step that welds joins them.
type builder struct {
	s    *scene.Scene
	part scene.Part
}

// unit is a facet's normal made as long as 1; where it has none, that of its
// corners.
func unit(n [3]float32, corners *[9]float32) [3]float32 {
	switch q := n[0]*n[0] + n[1]*n[1] + n[2]*n[2]; {
	case q > 0.99999 && q < 1.00001:
		return n
	case q > 0 && q-q == 0:
		l := float32(math.Sqrt(float64(q)))
		return [3]float32{n[0] / l, n[1] / l, n[2] / l}
	}
	return normal([3][3]float32{[3]float32(corners[:3]), [3]float32(corners[3:6]), [3]float32(corners[6:])})
}

func normal(p [3][3]float32) (n [3]float32) {
	var u, v [3]float64
	for k := range 3 {
		u[k], v[k] = float64(p[1][k])-float64(p[0][k]), float64(p[2][k])-float64(p[0][k])
	}
	x := [3]float64{u[1]*v[2] - u[2]*v[1], u[2]*v[0] - u[0]*v[2], u[0]*v[1] - u[1]*v[0]}
	l := math.Sqrt(x[0]*x[0] + x[1]*x[1] + x[2]*x[2])
	if l == 0 || math.IsInf(l, 0) {
		return [3]float32{0, 0, 1}
	}
	for k := range 3 {
		n[k] = float32(x[k] / l)
	}
	return n
}

func (b *builder) solid(name string) {
	if len(b.part.Triangles) == 0 {
		return
	}
	if name == "" {
		name = "solid"
	}
	node := scene.NewNode(name)
	node.Mesh = len(b.s.Meshes)
	b.s.Meshes = append(b.s.Meshes, scene.Mesh{Name: name, Parts: []scene.Part{b.part}})
	b.s.Nodes = append(b.s.Nodes, node)
	b.part = scene.Part{Material: scene.None}
}

// Read decodes a file.
func Read(ctx context.Context, f format.File) (*scene.Scene, error) {
	b := &builder{s: &scene.Scene{}, part: scene.Part{Material: scene.None}}
	var err error
	if isText(f.Data) {
		if err = b.text(ctx, f.Data); err == nil {
			err = b.s.Validate()
		}
	} else { // sound as it is made
		err = b.binary(ctx, f.Data)
	}
	if err != nil {
		return nil, err
	}
	if len(b.s.Meshes) == 0 {
		return nil, fmt.Errorf("it has no facets")
	}
	return b.s, nil
}
