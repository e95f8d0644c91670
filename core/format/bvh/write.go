package bvh

import (
	"bytes"
	"fmt"
	"math"
	"strings"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/scene"
)

// Writer is the writer for the registry.
func Writer() format.Writer {
	return format.Writer{Name: "bvh", Title: "Biovision motion (BVH)", Ending: ".bvh", Write: Write}
}

// rate is how many frames a second are written.
const rate = 30

// Write writes the skeleton with the most bones and each motion as a file of
// its own; the first motion's file bears the name, the others also theirs.
func Write(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
	if err := s.Validate(); err != nil {
		return nil, nil, fmt.Errorf("write BVH of %q: %w", s.Name, err)
	}
	w := &writer{s: s, bones: s.Bones(), children: make([][]int, len(s.Nodes))}
	// Nodes between bones belong to the skeleton.
	for i := range s.Nodes {
		if w.bones[i] {
			for p := s.Nodes[i].Parent; p >= 0; p = s.Nodes[p].Parent {
				if w.bones[p] {
					for q := s.Nodes[i].Parent; q != p; q = s.Nodes[q].Parent {
						w.bones[q] = true
					}
					break
				}
			}
		}
	}
	size := make([]int, len(s.Nodes))
	root, roots := scene.None, 0
	for i := len(s.Nodes) - 1; i >= 0; i-- {
		if !w.bones[i] {
			continue
		}
		size[i]++
		if p := s.Nodes[i].Parent; p >= 0 && w.bones[p] {
			size[p] += size[i]
			w.children[p] = append([]int{i}, w.children[p]...)
			continue
		}
		roots++
		if root < 0 || size[i] >= size[root] {
			root = i
		}
	}
	if root < 0 {
		return nil, nil, fmt.Errorf("write BVH of %q: it has no skeleton", s.Name)
	}
	var notes []scene.Note
	for _, x := range []struct {
		n    int
		what string
	}{{len(s.Meshes), "meshes"}, {len(s.Materials), "materials"}, {len(s.Pictures), "pictures"}, {len(s.Cameras), "cameras"}, {len(s.Lights), "lights"}} {
		if x.n > 0 {
			notes = append(notes, scene.Note{Text: fmt.Sprintf("%d %s not written: BVH has none", x.n, x.what), Loss: true})
		}
	}
	if s.Basis != (geom.Basis{}) {
		notes = append(notes, scene.Note{Text: fmt.Sprintf("BVH declares no axes and no unit; its numbers are %s", s.Basis)})
	}
	if roots > 1 {
		notes = append(notes, scene.Note{Text: format.Counted(roots-1, "further skeleton", "further skeletons") + " not written: BVH has one", Loss: true})
	}
	w.collect(root)
	scaled, turned := 0, 0
	for _, i := range w.order {
		n := &s.Nodes[i]
		if n.Scale != [3]float32{1, 1, 1} {
			scaled++
		}
		if q := n.Rotation; i != root && math.Abs(float64(q[3])) < 0.99999 {
			turned++
		}
	}
	if scaled > 0 {
		notes = append(notes, scene.Note{Text: fmt.Sprintf("the scale of %d bones not written: BVH has none", scaled), Loss: true})
	}
	if turned > 0 {
		notes = append(notes, scene.Note{Text: fmt.Sprintf("%d bones are turned in the rest pose; BVH keeps that in each frame, its pose without rotations is another", turned)})
	}
	motions := s.Motions
	if len(motions) == 0 {
		motions = []scene.Motion{{}}
		notes = append(notes, scene.Note{Text: "the scene has no motion; the file has one frame of the rest pose"})
	}
	file := flat.FileName(name)
	var out []format.Written
	for i := range motions {
		n := file
		if i > 0 {
			n += " " + flat.FileName(motions[i].Name)
		}
		b, curved := w.file(root, &motions[i])
		if curved > 0 {
			notes = append(notes, scene.Note{Text: fmt.Sprintf("motion %q: %d channels of scale or weights not written: BVH has none", motions[i].Name, curved), Loss: true})
		}
		out = append(out, format.Written{Name: n + ".bvh", Data: b})
	}
	return out, notes, nil
}

type writer struct {
	s        *scene.Scene
	bones    []bool
	children [][]int
	order    []int
}

func (w *writer) collect(n int) {
	w.order = append(w.order, n)
	for _, c := range w.children[n] {
		w.collect(c)
	}
}

// place is where the root stands in the world, without what moves above it.
func (w *writer) place(root int, n scene.Node) scene.Node {
	p := w.s.Nodes[root].Parent
	if p < 0 {
		return n
	}
	m := w.s.World()[p].Mul(n.Local())
	t, q, _, _ := m.Decompose()
	for i := range 3 {
		n.Translation[i] = float32(t[i])
	}
	for i := range q {
		n.Rotation[i] = float32(q[i])
	}
	return n
}

func (w *writer) file(root int, m *scene.Motion) ([]byte, int) {
	var b bytes.Buffer
	by := m.ByNode()
	lost := 0
	moves := make([]bool, len(w.s.Nodes))
	for n, list := range by {
		for _, c := range list {
			switch {
			case c.Path == scene.PathScale || c.Path == scene.PathWeights:
				lost++
			case c.Path == scene.PathTranslation:
				moves[n] = true
			}
		}
	}
	moves[root] = true
	b.WriteString("HIERARCHY\n")
	var tree func(n, depth int)
	tree = func(n, depth int) {
		in := strings.Repeat("\t", depth)
		word, offset := "JOINT", w.s.Nodes[n].Translation
		if depth == 0 {
			word = "ROOT"
		}
		if moves[n] {
			offset = [3]float32{} // its place is in each frame
		}
		fmt.Fprintf(&b, "%s%s %s\n%s{\n%s\tOFFSET %g %g %g\n", in, word, plain(w.s.Nodes[n].Name, n), in, in, offset[0], offset[1], offset[2])
		if moves[n] {
			fmt.Fprintf(&b, "%s\tCHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation\n", in)
		} else {
			fmt.Fprintf(&b, "%s\tCHANNELS 3 Zrotation Xrotation Yrotation\n", in)
		}
		for _, c := range w.children[n] {
			tree(c, depth+1)
		}
		if len(w.children[n]) == 0 {
			fmt.Fprintf(&b, "%s\tEnd Site\n%s\t{\n%s\t\tOFFSET 0 0 0\n%s\t}\n", in, in, in, in)
		}
		fmt.Fprintf(&b, "%s}\n", in)
	}
	tree(root, 0)
	frames := int(math.Round(m.Seconds()*rate)) + 1
	fmt.Fprintf(&b, "MOTION\nFrames: %d\nFrame Time: %.9g\n", frames, 1.0/rate)
	for f := range frames {
		for k, n := range w.order {
			at := w.s.Nodes[n].Posed(by[n], float64(f)/rate)
			if n == root {
				at = w.place(root, at)
			}
			if k > 0 {
				b.WriteByte(' ')
			}
			if moves[n] {
				fmt.Fprintf(&b, "%.7g %.7g %.7g ", at.Translation[0], at.Translation[1], at.Translation[2])
			}
			z, x, y := zxy(geom.Quat{float64(at.Rotation[0]), float64(at.Rotation[1]), float64(at.Rotation[2]), float64(at.Rotation[3])})
			fmt.Fprintf(&b, "%.7g %.7g %.7g", z, x, y)
		}
		b.WriteByte('\n')
	}
	return b.Bytes(), lost
}

func plain(name string, n int) string {
	name = strings.Join(strings.FieldsFunc(name, func(r rune) bool { return r <= ' ' || r == '{' || r == '}' }), "_")
	if name == "" {
		return fmt.Sprintf("joint%d", n)
	}
	return name
}

// zxy are the degrees about z, x and y whose rotations, multiplied in this
// order, are q.
func zxy(q geom.Quat) (z, x, y float64) {
	m := geom.TRS(geom.Vec3{}, q.Norm(), geom.Vec3{1, 1, 1})
	at := func(row, col int) float64 { return m[4*col+row] }
	const deg = 180 / math.Pi
	s := math.Max(-1, math.Min(1, at(2, 1)))
	x = math.Asin(s) * deg
	if math.Abs(s) > 1-1e-9 { // z and y turn about one axis: z takes it all
		return math.Atan2(at(1, 0), at(0, 0)) * deg, x, 0
	}
	return math.Atan2(-at(0, 1), at(1, 1)) * deg, x, math.Atan2(-at(2, 0), at(2, 2)) * deg
}
