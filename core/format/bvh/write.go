package bvh

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"strings"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/rig"
	"excavate/core/scene"
)

// Writer is the writer for the registry.
func Writer() format.Writer {
	return format.Writer{Name: "bvh", Title: "Biovision motion (BVH)", Ending: ".bvh", Basis: geom.GLTF, Write: Write}
}

// Write writes the skeleton with the most bones and each motion as a file of
// its own; the first motion's file bears the name, the others also theirs. The
// format declares no axes and no unit: what is written has Y up, in metres.
func Write(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
	if err := s.Validate(); err != nil {
		return nil, nil, fmt.Errorf("write BVH of %q: %w", s.Name, err)
	}
	from := s.Basis
	s, notes, err := s.TurnedTo(geom.GLTF, "BVH as it is written here")
	if err != nil {
		return nil, nil, fmt.Errorf("write BVH of %q: %w", s.Name, err)
	}
	if from.Known() {
		notes = append(notes, scene.Note{Text: fmt.Sprintf("BVH declares no axes and no unit; its numbers are %s", s.Basis)})
	}
	w := &writer{s: s, bones: make([]bool, len(s.Nodes)), children: make([][]int, len(s.Nodes))}
	// Without a skin it is what motions move.
	if slices.Contains(s.Bones(), true) || len(s.Motions) > 0 {
		w.bones = rig.Of(s).Is
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
	for _, x := range []struct {
		n    int
		what string
	}{{len(s.Meshes), "meshes with their triangles, lines and points"}, {len(s.Materials), "materials"}, {len(s.Pictures), "pictures"}, {len(s.Cameras), "cameras"}, {len(s.Lights), "lights"}} {
		if x.n > 0 {
			notes = append(notes, scene.Note{Text: fmt.Sprintf("%d %s not written: BVH has none", x.n, x.what), Loss: true})
		}
	}
	other := 0
	for i := range s.Nodes {
		if !w.bones[i] {
			other++
		}
	}
	if other > 0 {
		notes = append(notes, scene.Note{Text: format.Counted(other, "node that is no bone", "nodes that are no bones") + " not written: BVH has bones only", Loss: true})
	}
	notes = append(notes, flat.LostOfTerms(s, "BVH", false, false, false)...)
	if s.Avatar != nil {
		notes = append(notes, scene.Note{Text: "the avatar's humanoid bones, expressions, springs, gaze and licence fields not written: BVH has none", Loss: true})
	}
	if roots > 1 {
		notes = append(notes, scene.Note{Text: format.Counted(roots-1, "further skeleton", "further skeletons") + " not written: BVH has one", Loss: true})
	}
	w.collect(root)
	w.measure(root)
	turned := 0
	for _, i := range w.order {
		if q := s.Nodes[i].Rotation; i != root && math.Abs(float64(q[3])) < 0.99999 {
			turned++
		}
	}
	if w.uneven > 0 {
		notes = append(notes, scene.Note{Text: fmt.Sprintf("%s stretched unevenly, or mirrored; BVH has no scale, so what hangs on them has its place in each frame", format.Counted(w.uneven, "node is", "nodes are"))})
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
		b, how := w.file(root, &motions[i])
		curved := how.lost
		if how.uneven {
			notes = append(notes, scene.Note{Text: fmt.Sprintf("motion %q: its keys do not lie evenly; %d frames a second were written", motions[i].Name, int(math.Round(1/how.step)))})
		}
		if curved > 0 {
			notes = append(notes, scene.Note{Text: fmt.Sprintf("motion %q: %d channels of scale or weights not written: BVH has none", motions[i].Name, curved), Loss: true})
		}
		out = append(out, format.Written{Name: n + ".bvh", Data: b})
	}
	if len(out) > 1 {
		notes = append(notes, scene.Note{Text: fmt.Sprintf("BVH holds one motion a file: %d files were written", len(out))})
	}
	return out, notes, nil
}

type writer struct {
	s        *scene.Scene
	bones    []bool
	children [][]int
	order    []int
	moves    []bool // bones whose place is not the same in every frame
	uneven   int
}

func (w *writer) collect(n int) {
	w.order = append(w.order, n)
	for _, c := range w.children[n] {
		w.collect(c)
	}
}

// measure tells which bones hang on something that is stretched unevenly: where
// they are then depends on how that is turned, so it must be said in each
// frame. An even scale is in the offsets.
func (w *writer) measure(root int) {
	w.moves = make([]bool, len(w.s.Nodes))
	odd := make([]bool, len(w.s.Nodes))
	for i := range w.s.Nodes {
		n := &w.s.Nodes[i]
		x, y, z := float64(n.Scale[0]), float64(n.Scale[1]), float64(n.Scale[2])
		self := x <= 0 || math.Abs(x-y) > 1e-5*math.Abs(x) || math.Abs(x-z) > 1e-5*math.Abs(x)
		if n.Parent >= 0 {
			w.moves[i] = odd[n.Parent]
		}
		if odd[i] = self || w.moves[i]; self && w.bones[i] {
			w.uneven++
		}
	}
}

// stance is a pose of the skeleton in the world: where each bone is, and how it
// is turned, without any scale.
type stance struct {
	at   []geom.Vec3
	turn []geom.Quat
}

// pose is the scene at an instant.
func (w *writer) pose(by map[int][]*scene.Channel, t float64) stance {
	n := len(w.s.Nodes)
	p := stance{make([]geom.Vec3, n), make([]geom.Quat, n)}
	world := make([]geom.Mat4, n)
	for i := range w.s.Nodes {
		at := w.s.Nodes[i].Posed(by[i], t)
		at.Scale = w.s.Nodes[i].Scale // scale that moves is left out
		q := geom.Quat{float64(at.Rotation[0]), float64(at.Rotation[1]), float64(at.Rotation[2]), float64(at.Rotation[3])}.Norm()
		world[i], p.turn[i] = at.Local(), q
		if at.Parent >= 0 {
			world[i], p.turn[i] = world[at.Parent].Mul(world[i]), p.turn[at.Parent].Mul(q)
		}
		p.at[i] = geom.Vec3{world[i][12], world[i][13], world[i][14]}
	}
	return p
}

// offset is where a bone begins, seen from the bone that it hangs on.
func (w *writer) offset(p *stance, root, n int) geom.Vec3 {
	if n == root {
		return p.at[n]
	}
	up := w.s.Nodes[n].Parent
	return p.turn[up].Inverse().Rotate(p.at[n].Sub(p.at[up]))
}

// end is where a last bone ends: nothing tells, so it goes on as far as it is
// from the bone before, half of that.
func (w *writer) end(p *stance, root, n int) geom.Vec3 {
	if n == root {
		return geom.Vec3{}
	}
	return p.turn[n].Inverse().Rotate(p.at[n].Sub(p.at[w.s.Nodes[n].Parent])).Mul(0.5)
}

// sampled says how a motion was written.
type sampled struct {
	step   float64 // seconds a frame
	uneven bool    // its keys lie otherwise
	lost   int     // channels of scale or weights
}

// Frames a second where the keys of a motion tell none, and the most and the
// fewest that are taken from them.
const (
	usualRate = 30
	mostRate  = 1000
)

// step tells how long a frame is from the keys: the time between two where all
// lie evenly, else a usual one.
func step(by map[int][]*scene.Channel) (seconds float64, even bool) {
	var times []float64
	for _, list := range by {
		for _, c := range list {
			for _, t := range c.Times {
				times = append(times, float64(t))
			}
		}
	}
	slices.Sort(times)
	// Keys are float32: what differs by less is one instant.
	times = slices.CompactFunc(times, func(a, b float64) bool { return math.Abs(a-b) < 1e-4 })
	if len(times) < 3 {
		return 1. / usualRate, true
	}
	// The mean over all is more exact than any one difference.
	gap := (times[len(times)-1] - times[0]) / float64(len(times)-1)
	if on(times, gap) && gap >= 1./mostRate {
		return gap, true
	}
	// Some keys may have been left out where nothing moves.
	for _, rate := range []float64{24, 25, 30, 48, 50, 60, 100, 120, 240} {
		if on(times, 1/rate) {
			return 1 / rate, true
		}
	}
	least := math.Inf(1)
	for i := 1; i < len(times); i++ {
		least = min(least, times[i]-times[i-1])
	}
	return 1 / math.Min(math.Max(math.Ceil(1/least), usualRate), 240), false
}

// on tells whether all instants lie on whole multiples of a step.
func on(times []float64, step float64) bool {
	for _, t := range times {
		k := t / step
		if math.Abs(k-math.Round(k))*step > 2e-4 {
			return false
		}
	}
	return true
}

func (w *writer) file(root int, m *scene.Motion) ([]byte, sampled) {
	var b bytes.Buffer
	by := m.ByNode()
	how := sampled{}
	moves := slices.Clone(w.moves)
	for n, list := range by {
		for _, c := range list {
			switch {
			case c.Path == scene.PathScale || c.Path == scene.PathWeights:
				how.lost++
			case c.Path == scene.PathTranslation:
				moves[n] = true
			}
		}
	}
	moves[root] = true
	rest := w.pose(nil, 0)
	b.WriteString("HIERARCHY\n")
	var tree func(n, depth int)
	tree = func(n, depth int) {
		in := strings.Repeat("\t", depth)
		word, offset := "JOINT", w.offset(&rest, root, n)
		if depth == 0 {
			word = "ROOT"
		}
		if moves[n] {
			offset = geom.Vec3{} // its place is in each frame
		}
		fmt.Fprintf(&b, "%s%s %s\n%s{\n%s\tOFFSET %.7g %.7g %.7g\n", in, word, plain(w.s.Nodes[n].Name, n), in, in, offset[0], offset[1], offset[2])
		if moves[n] {
			fmt.Fprintf(&b, "%s\tCHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation\n", in)
		} else {
			fmt.Fprintf(&b, "%s\tCHANNELS 3 Zrotation Xrotation Yrotation\n", in)
		}
		for _, c := range w.children[n] {
			tree(c, depth+1)
		}
		if len(w.children[n]) == 0 {
			e := w.end(&rest, root, n)
			fmt.Fprintf(&b, "%s\tEnd Site\n%s\t{\n%s\t\tOFFSET %.7g %.7g %.7g\n%s\t}\n", in, in, in, e[0], e[1], e[2], in)
		}
		fmt.Fprintf(&b, "%s}\n", in)
	}
	tree(root, 0)
	even := true
	how.step, even = step(by)
	how.uneven = !even
	frames := int(math.Round(m.Seconds()/how.step)) + 1
	fmt.Fprintf(&b, "MOTION\nFrames: %d\nFrame Time: %.9g\n", frames, how.step)
	for f := range frames {
		p := w.pose(by, float64(f)*how.step)
		for k, n := range w.order {
			if k > 0 {
				b.WriteByte(' ')
			}
			q := p.turn[n]
			if n != root {
				q = p.turn[w.s.Nodes[n].Parent].Inverse().Mul(q)
			}
			if moves[n] {
				o := w.offset(&p, root, n)
				fmt.Fprintf(&b, "%.7g %.7g %.7g ", o[0], o[1], o[2])
			}
			z, x, y := zxy(q)
			fmt.Fprintf(&b, "%.7g %.7g %.7g", z, x, y)
		}
		b.WriteByte('\n')
	}
	return b.Bytes(), how
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
