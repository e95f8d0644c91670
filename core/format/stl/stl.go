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
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/limit"
	"excavate/core/scene"
)

// Format is the reader for the registry. A binary file has no mark: only its
// size, which a probe does not see, says that it is one; so its header and
// first facets are looked at.
func Format() format.Reader {
	return format.Reader{Name: "stl", Title: "Stereolithography", Probe: Probe, Read: Read}
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
	if !bytes.HasPrefix(t, []byte("solid")) {
		return false
	}
	_, rest, ok := bytes.Cut(t, []byte("\n"))
	if !ok {
		return false
	}
	rest = bytes.TrimLeft(rest, " \t\r\n")
	return bytes.HasPrefix(rest, []byte("facet")) || bytes.HasPrefix(rest, []byte("endsolid"))
}

// builder gathers facets. Each keeps three vertices of its own, as it has in
// the file: the step that welds joins them.
type builder struct {
	s     *scene.Scene
	part  scene.Part
	color bool
}

func (b *builder) reset() {
	b.part, b.color = scene.Part{Material: scene.None}, false
}

// unit is a facet's normal made as long as 1; where it has none, that of its
// corners.
func unit(n [3]float32, corners []float32) [3]float32 {
	switch q := n[0]*n[0] + n[1]*n[1] + n[2]*n[2]; {
	case q > 0.99999 && q < 1.00001:
		return n
	case q > 0 && q-q == 0:
		l := float32(math.Sqrt(float64(q)))
		return [3]float32{n[0] / l, n[1] / l, n[2] / l}
	}
	return normal([3][3]float32{[3]float32(corners), [3]float32(corners[3:]), [3]float32(corners[6:])})
}

// unfit says which number of a facet is none.
func (b *builder) unfit(corners []float32, i int) error {
	for c, v := range corners {
		if v-v != 0 {
			return format.Errorf(fmt.Sprintf("offset %d", 84+50*i+12+4*c), "facet %d has a corner at %g", i, v)
		}
	}
	return nil
}

func (b *builder) facet(n [3]float32, p [3][3]float32, colour [4]float32) {
	n = unit(n, []float32{p[0][0], p[0][1], p[0][2], p[1][0], p[1][1], p[1][2], p[2][0], p[2][1], p[2][2]})
	k := uint32(len(b.part.Positions) / 3)
	for _, q := range p {
		b.part.Positions = append(b.part.Positions, q[0], q[1], q[2])
		b.part.Normals = append(b.part.Normals, n[0], n[1], n[2])
		if b.color {
			b.part.Colours[0].Data = append(b.part.Colours[0].Data, colour[:]...)
		}
	}
	b.part.Triangles = append(b.part.Triangles, k, k+1, k+2)
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
	b.reset()
}

// Read decodes a file.
func Read(ctx context.Context, f format.File) (*scene.Scene, error) {
	b := &builder{s: &scene.Scene{}}
	b.reset()
	var err error
	if isText(f.Data) {
		err = b.text(ctx, f.Data)
	} else {
		err = b.binary(ctx, f.Data)
	}
	if err != nil {
		return nil, err
	}
	if len(b.s.Meshes) == 0 {
		return nil, fmt.Errorf("it has no facets")
	}
	return b.s, b.s.Validate()
}

func (b *builder) binary(ctx context.Context, data []byte) error {
	if len(data) < 84 {
		return format.Errorf("offset 80", "the file ends before the number of facets")
	}
	n := int(binary.LittleEndian.Uint32(data[80:]))
	if left := (len(data) - 84) / 50; n > left {
		return format.Errorf("offset 80", "%d facets are declared, and %d fit into the file", n, left)
	}
	// Colours: a header that states one (COLOR=RGBA) has facets with bit 15 clear
	// where they have a colour of their own, red lowest; in the other convention
	// bit 15 is set, and blue is lowest.
	stated := bytes.Index(data[:80], []byte("COLOR="))
	usual := [4]float32{1, 1, 1, 1}
	if stated >= 0 && stated+10 <= 80 {
		c := data[stated+6:]
		usual = [4]float32{format.Bytes8[c[0]], format.Bytes8[c[1]], format.Bytes8[c[2]], float32(c[3]) / 255}
		b.color = true
	}
	shares := max(1, min(runtime.GOMAXPROCS(0), n>>12)) // each core has facets of its own
	if stated < 0 {
		var other atomic.Bool
		var wg sync.WaitGroup
		for k := range shares {
			wg.Go(func() {
				for i := n * k / shares; i < n*(k+1)/shares && !(i&0xfff == 0 && other.Load()); i++ {
					if data[84+50*i+49]&0x80 != 0 {
						other.Store(true)
						return
					}
				}
			})
		}
		wg.Wait()
		b.color = other.Load()
	}
	if b.color {
		b.part.Colours = []scene.AttrSet{{Name: "colour"}}
	}
	b.part.Positions, b.part.Normals, b.part.Triangles = make([]float32, 9*n), make([]float32, 9*n), make([]uint32, 3*n)
	var colours []float32
	if b.color {
		colours = make([]float32, 12*n)
		b.part.Colours[0].Data = colours
	}
	five := func(v uint16) float32 { return format.Linear(float64(v&31) / 31) }
	faults := make([]error, shares)
	var wg sync.WaitGroup
	for k := range shares {
		wg.Go(func() {
			for i := n * k / shares; i < n*(k+1)/shares; i++ {
				if i&0xfff == 0 && ctx.Err() != nil {
					faults[k] = ctx.Err()
					return
				}
				p := data[84+50*i:][:50]
				pos, nrm, tri := b.part.Positions[9*i:][:9], b.part.Normals[9*i:][:9], b.part.Triangles[3*i:][:3]
				sum := float32(0)
				for c := range pos {
					pos[c] = math.Float32frombits(binary.LittleEndian.Uint32(p[12+4*c:]))
					sum += pos[c] - pos[c]
				}
				if sum != 0 {
					faults[k] = b.unfit(pos, i)
					return
				}
				var f [3]float32
				for c := range f {
					f[c] = math.Float32frombits(binary.LittleEndian.Uint32(p[4*c:]))
				}
				f = unit(f, pos)
				nrm[0], nrm[1], nrm[2] = f[0], f[1], f[2]
				nrm[3], nrm[4], nrm[5] = f[0], f[1], f[2]
				nrm[6], nrm[7], nrm[8] = f[0], f[1], f[2]
				tri[0], tri[1], tri[2] = uint32(3*i), uint32(3*i+1), uint32(3*i+2)
				if colours == nil {
					continue
				}
				c := usual
				switch w := binary.LittleEndian.Uint16(p[48:]); {
				case stated >= 0 && w&0x8000 == 0:
					c = [4]float32{five(w), five(w >> 5), five(w >> 10), 1}
				case stated < 0 && w&0x8000 != 0:
					c = [4]float32{five(w >> 10), five(w >> 5), five(w), 1}
				}
				for v := range 3 {
					copy(colours[12*i+4*v:], c[:])
				}
			}
		})
	}
	wg.Wait()
	for _, err := range faults {
		if err != nil {
			return err
		}
	}
	name := string(bytes.TrimRight(bytes.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e {
			return -1
		}
		return r
	}, data[:80]), " "))
	if stated >= 0 || strings.HasPrefix(name, "solid") {
		name = ""
	}
	if extra := len(data) - 84 - 50*n; extra > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("%d bytes follow the last facet", extra)})
	}
	b.solid(name)
	return nil
}

func (b *builder) text(ctx context.Context, data []byte) error {
	var n [3]float32
	var p [3][3]float32
	corners, line := 0, 0
	name := ""
	three := func(rest []byte) (v [3]float32, err error) {
		for k := range v {
			x, after, ok := format.Float(rest)
			f, finite := format.Finite32(x)
			if !ok || !finite {
				return v, format.Errorf(fmt.Sprintf("line %d", line), "%q are not three numbers", strings.TrimSpace(string(rest[:min(len(rest), 40)])))
			}
			v[k], rest = f, after
		}
		return v, nil
	}
	for l := range bytes.Lines(data) {
		if line++; line&0xfff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		l = bytes.TrimSpace(l)
		var err error
		switch {
		case bytes.HasPrefix(l, []byte("vertex")):
			if corners == 3 {
				return format.Errorf(fmt.Sprintf("line %d", line), "a facet has three corners")
			}
			if p[corners], err = three(l[6:]); err != nil {
				return err
			}
			corners++
		case bytes.HasPrefix(l, []byte("facet")):
			n = [3]float32{}
			if rest, ok := bytes.CutPrefix(bytes.TrimSpace(l[5:]), []byte("normal")); ok {
				if n, err = three(rest); err != nil { // some write nan for flat ones
					n = [3]float32{}
				}
			}
			corners = 0
		case bytes.HasPrefix(l, []byte("endfacet")):
			if corners != 3 {
				return format.Errorf(fmt.Sprintf("line %d", line), "the facet has %d corners", corners)
			}
			b.facet(n, p, [4]float32{1, 1, 1, 1})
			corners = 0
		case bytes.HasPrefix(l, []byte("endsolid")):
			b.solid(name)
		case bytes.HasPrefix(l, []byte("solid")):
			b.solid(name)
			name = strings.ToValidUTF8(strings.TrimSpace(string(l[5:])), "\ufffd")
		}
	}
	if len(b.part.Triangles) > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: "the last solid has no end"})
		b.solid(name)
	}
	return nil
}

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
