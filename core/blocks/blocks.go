// Package blocks writes down how a volume is built of blocks, layer by layer from
// the ground: as text, as JSON, and as plans to print.
package blocks

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Build is a volume in layers. A layer is seen from above: rows from the back to
// the front, each from the asset's right to its left hand, so that who stands
// before it and looks at it has left on the left.
type Build struct {
	Name  string
	Block float64 // side of a block, m; 0 is unknown
	Size  [3]int  // blocks across, deep and high
	Kinds []Kind
	// Cells holds the kind of each block from 1 on, 0 for none: across first, then
	// deep, then high.
	Cells []uint16
}

// Kind is a kind of block.
type Kind struct {
	Code   string
	Name   string
	Colour [3]uint8 // sRGB
	Count  int
}

// mostCells bounds a build: beyond it nobody lays blocks by hand.
const mostCells = 64 << 20

// Of finds the volume of a scene. There must be one, and no more.
func Of(s *scene.Scene) (*Build, error) {
	var v *scene.Volume
	for i := range s.Meshes {
		if x := s.Meshes[i].Voxels(); x != nil {
			if v != nil {
				return nil, fmt.Errorf("several meshes have voxels: keep one of them first, with the step keep")
			}
			v = x
		}
	}
	if v == nil {
		return nil, fmt.Errorf("nothing of it has voxels: the step voxelise makes them, palette gives them a block's colours")
	}
	axes, err := axesOf(s.Basis)
	if err != nil {
		return nil, err
	}
	b := &Build{Name: s.Name, Block: float64(v.Size) * s.Basis.MetresPerUnit}
	for k, a := range axes {
		b.Size[k] = v.Dims[a.axis]
	}
	if b.Size[0]*b.Size[1]*b.Size[2] > mostCells {
		return nil, fmt.Errorf("a build of %d × %d × %d blocks: at most %d in all", b.Size[0], b.Size[1],
			b.Size[2], mostCells)
	}
	counts := make([]int, len(v.Palette)+1)
	b.Cells = make([]uint16, b.Size[0]*b.Size[1]*b.Size[2])
	i := 0
	var at [3]int
	for high := range b.Size[2] {
		at[axes[2].axis] = axes[2].from(high, b.Size[2])
		for deep := range b.Size[1] {
			at[axes[1].axis] = axes[1].from(deep, b.Size[1])
			for across := range b.Size[0] {
				at[axes[0].axis] = axes[0].from(across, b.Size[0])
				b.Cells[i] = v.At(at[0], at[1], at[2])
				counts[b.Cells[i]]++
				i++
			}
		}
	}
	b.name(v, counts)
	return b, nil
}

// name numbers the kinds that are used, in the palette's order.
func (b *Build) name(v *scene.Volume, counts []int) {
	to := make([]uint16, len(counts))
	used := 0
	for _, n := range counts[1:] {
		if n > 0 {
			used++
		}
	}
	for k, n := range counts[1:] {
		if n == 0 {
			continue
		}
		x := v.Palette[k]
		kind := Kind{Code: code(len(b.Kinds), used), Name: x.Name, Colour: x.Colour, Count: n}
		if kind.Name == "" {
			kind.Name = kind.Hex()
		}
		b.Kinds = append(b.Kinds, kind)
		to[k+1] = uint16(len(b.Kinds))
	}
	for i, c := range b.Cells {
		b.Cells[i] = to[c]
	}
}

// Hex is the kind's colour as #rrggbb.
func (k *Kind) Hex() string {
	return fmt.Sprintf("#%02x%02x%02x", k.Colour[0], k.Colour[1], k.Colour[2])
}

const letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"

// code is a kind's letter, or two letters where there are more kinds than
// letters.
func code(i, of int) string {
	if of <= len(letters) {
		return letters[i : i+1]
	}
	if of <= len(letters)*len(letters) {
		return letters[i/len(letters):i/len(letters)+1] + letters[i%len(letters):i%len(letters)+1]
	}
	return fmt.Sprintf("%05d", i)
}

// axis is one of the volume's own axes, forwards or backwards.
type axis struct {
	axis int
	back bool
}

func (a axis) from(i, n int) int {
	if a.back {
		return n - 1 - i
	}
	return i
}

// axesOf are the volume's axes across, deep and high. What a basis leaves open
// is taken as glTF's.
func axesOf(b geom.Basis) (out [3]axis, err error) {
	b = b.Completed(geom.GLTF)
	if !b.Oriented() {
		return out, fmt.Errorf("which way is up is not known: a step basis says it")
	}
	// Rows begin at the asset's right hand and at its back.
	for k, v := range [3]geom.Vec3{b.RightVec().Mul(-1), b.Front.Vec(), b.Up.Vec()} {
		for m := range 3 {
			if math.Abs(v[m]) > 0.5 {
				out[k] = axis{m, v[m] < 0}
			}
		}
	}
	return out, nil
}

// Layer are the cells of a layer, the lowest is 0.
func (b *Build) Layer(high int) []uint16 {
	n := b.Size[0] * b.Size[1]
	return b.Cells[high*n : (high+1)*n]
}

// Counts are how many of each kind a layer has.
func (b *Build) Counts(high int) []int {
	out := make([]int, len(b.Kinds))
	for _, c := range b.Layer(high) {
		if c > 0 {
			out[c-1]++
		}
	}
	return out
}

// Total is the number of blocks.
func (b *Build) Total() (n int) {
	for _, k := range b.Kinds {
		n += k.Count
	}
	return n
}

// rows are a layer's rows as codes; points stand where nothing is.
func (b *Build) rows(high int) (out []string) {
	wide := 1
	if len(b.Kinds) > 0 {
		wide = len(b.Kinds[0].Code)
	}
	none := strings.Repeat(".", wide)
	layer := b.Layer(high)
	for deep := range b.Size[1] {
		var row strings.Builder
		for _, c := range layer[deep*b.Size[0] : (deep+1)*b.Size[0]] {
			if c == 0 {
				row.WriteString(none)
			} else {
				row.WriteString(b.Kinds[c-1].Code)
			}
		}
		out = append(out, row.String())
	}
	return out
}

// Text is the build as a text; docs/formats.md has the form.
func (b *Build) Text() []byte {
	var out strings.Builder
	fmt.Fprintf(&out, "blocks 1\nname %s\nsize %d %d %d\n", oneLine(b.Name), b.Size[0], b.Size[1], b.Size[2])
	if b.Block > 0 {
		fmt.Fprintf(&out, "block %.6g\n", b.Block)
	}
	for i := range b.Kinds {
		k := &b.Kinds[i]
		fmt.Fprintf(&out, "kind %s %s %d %s\n", k.Code, k.Hex(), k.Count, oneLine(k.Name))
	}
	for high := range b.Size[2] {
		fmt.Fprintf(&out, "layer %d\n", high+1)
		for _, row := range b.rows(high) {
			out.WriteString(row)
			out.WriteByte('\n')
		}
	}
	return []byte(out.String())
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// JSON is the build for programs; docs/formats.md has the form.
func (b *Build) JSON() ([]byte, error) {
	type kind struct {
		Code   string `json:"code"`
		Name   string `json:"name"`
		Colour string `json:"colour"`
		Count  int    `json:"count"`
	}
	doc := struct {
		Blocks int        `json:"blocks"`
		Name   string     `json:"name"`
		Size   [3]int     `json:"size"`
		Block  float64    `json:"block,omitempty"`
		Kinds  []kind     `json:"kinds"`
		Layers [][]string `json:"layers"`
	}{Blocks: 1, Name: b.Name, Size: b.Size, Block: b.Block, Kinds: []kind{}}
	for i := range b.Kinds {
		k := &b.Kinds[i]
		doc.Kinds = append(doc.Kinds, kind{k.Code, k.Name, k.Hex(), k.Count})
	}
	for high := range b.Size[2] {
		doc.Layers = append(doc.Layers, b.rows(high))
	}
	return json.MarshalIndent(doc, "", " ")
}
