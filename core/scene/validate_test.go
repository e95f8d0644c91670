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
	if err := s.Validate(); err == nil || !strings.Contains(err.Error(), `"one more": it lies within more than 4095 others`) {
		t.Error(err)
	}
}
