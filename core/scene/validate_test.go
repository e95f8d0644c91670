package scene

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/limit"
)

// grid is a part of n vertices and as many triangles, enough for the cores to
// share.
func grid(n int) Part {
	p := Part{Material: None, Positions: make([]float32, 3*n), Triangles: make([]uint32, 3*n)}
	for i := range p.Positions {
		p.Positions[i] = float32(i%97) / 7
	}
	for i := range p.Triangles {
		p.Triangles[i] = uint32(i % n)
	}
	return p
}

// What is wrong is named by its first place, however long the lists are and
// wherever in them it stands.
func TestTheFirstFaultIsNamed(t *testing.T) {
	inf := float32(math.Inf(-1))
	for _, n := range []int{3, 1000, 200_000} {
		for _, at := range []int{0, n / 2, n - 1} {
			for _, c := range []struct {
				change func(p *Part)
				want   string
			}{
				{func(p *Part) { p.Positions[3*at+1] = inf }, fmt.Sprintf("vertex %d: its position is not finite", at)},
				{func(p *Part) { p.Positions[3*at] = float32(math.NaN()); p.Positions[3*n-1] = inf }, fmt.Sprintf("vertex %d: its position is not finite", at)},
				{func(p *Part) { p.Triangles[3*at+2] = uint32(n) }, fmt.Sprintf("triangle %d: vertex %d of %d", at, n, n)},
				{func(p *Part) { p.Triangles[3*at], p.Triangles[3*n-1] = math.MaxUint32, uint32(n) }, fmt.Sprintf("triangle %d: vertex %d of %d", at, uint32(math.MaxUint32), n)},
				{func(p *Part) { p.Lines = []uint32{0, 1, 1, uint32(n + 5)} }, fmt.Sprintf("line 1: vertex %d of %d", n+5, n)},
				{func(p *Part) { p.Points = []uint32{0, 1, uint32(n)} }, fmt.Sprintf("point 2: vertex %d of %d", n, n)},
				{func(p *Part) { p.Triangles = p.Triangles[:len(p.Triangles)-1] }, "are not whole triangles"},
				{func(p *Part) { p.Normals = make([]float32, 3*n-1) }, "normals"},
				{func(p *Part) { p.UVs = []AttrSet{{Name: "dirt", Data: make([]float32, 3)}} }, "UV set dirt"},
				{func(p *Part) { p.Material = 4 }, "material 4"},
				{func(p *Part) {}, ""},
			} {
				p := grid(n)
				c.change(&p)
				s := &Scene{Meshes: []Mesh{{Name: "mudflat", Parts: []Part{p}}}, Nodes: []Node{NewNode("mudflat")}}
				s.Nodes[0].Mesh = 0
				err := s.Validate()
				if c.want == "" {
					if err != nil {
						t.Errorf("%d vertices: %v", n, err)
					}
					continue
				}
				if err == nil || !strings.Contains(err.Error(), c.want) {
					t.Errorf("%d vertices, at %d: %v, want %s", n, at, err, c.want)
				}
			}
		}
	}
}

func BenchmarkValidate(b *testing.B) {
	p := grid(1 << 20)
	s := &Scene{Meshes: []Mesh{{Parts: []Part{p}}}, Nodes: []Node{NewNode("mudflat")}}
	s.Nodes[0].Mesh = 0
	b.SetBytes(int64(4 * (len(p.Positions) + len(p.Triangles))))
	for b.Loop() {
		if err := s.Validate(); err != nil {
			b.Fatal(err)
		}
	}
}

// Nodes within nodes have an end, which those that walk them rely on.
func TestDepthIsBounded(t *testing.T) {
	s := &Scene{}
	for i := range limit.NodeDepth {
		n := NewNode(fmt.Sprintf("link %d", i))
		n.Parent = i - 1
		s.Nodes = append(s.Nodes, n)
	}
	if err := s.Validate(); err != nil {
		t.Error(err)
	}
	n := NewNode("one more")
	n.Parent = len(s.Nodes) - 1
	s.Nodes = append(s.Nodes, n)
	if err := s.Validate(); err == nil ||
		!strings.Contains(err.Error(), `"one more": it lies within more than 4095 others`) {
		t.Error(err)
	}
}

// A volume whose numbers do not go together is no scene's.
func TestVolumesAreSound(t *testing.T) {
	sound := func() *Volume {
		return &Volume{
			Size:    0.5,
			Dims:    [3]int{33, 2, 2},
			Palette: make([]Swatch, 3),
			Index:   []uint32{1, 0},
			Blocks:  make([]uint16, blockVoxels),
		}
	}
	for what, spoil := range map[string]func(v *Volume){
		"":                       func(v *Volume) {},
		"along one side":         func(v *Volume) { v.Dims[1] = 0 },
		"of 2000 voxels":         func(v *Volume) { v.Dims[2] = 2000 },
		"voxels of 0 at":         func(v *Volume) { v.Size = 0 },
		"voxels of +Inf at":      func(v *Volume) { v.Size = float32(math.Inf(1)) },
		"voxels of 0.5 at [0 Na": func(v *Volume) { v.Origin[1] = float32(math.NaN()) },
		"has 1 places":           func(v *Volume) { v.Index = v.Index[:1] },
		"and 5 voxels":           func(v *Volume) { v.Blocks = v.Blocks[:5] },
		"names block 2":          func(v *Volume) { v.Index[1] = 2 },
		"has colour 4":           func(v *Volume) { v.Blocks[77] = 4 },
	} {
		v := sound()
		spoil(v)
		s := &Scene{Meshes: []Mesh{{Name: "m", Volume: v}}}
		err := s.Validate()
		if what == "" && err != nil || what != "" && (err == nil || !strings.Contains(err.Error(), what)) {
			t.Errorf("%q: %v", what, err)
		}
	}
	v := sound()
	v.Blocks[(1*VolumeBlock+1)*VolumeBlock+31] = 3
	for p, want := range map[[3]int]uint16{{31, 1, 1}: 3, {32, 1, 1}: 0, {-1, 0, 0}: 0, {33, 0, 0}: 0, {0, 0, 2}: 0} {
		if got := v.At(p[0], p[1], p[2]); got != want {
			t.Errorf("at %v there is %d", p, got)
		}
	}
	m := Mesh{Parts: []Part{{Positions: []float32{1, 2, 3}}}, Volume: v}
	if v.Faces = Fingerprint(m.Parts); m.Voxels() != v {
		t.Error("the volume of its own surfaces does not count")
	}
	m.Parts = []Part{{Positions: []float32{1, 2, 4}}}
	if m.Voxels() != nil || (&Mesh{}).Voxels() != nil {
		t.Error("a volume of other surfaces counts")
	}
}
