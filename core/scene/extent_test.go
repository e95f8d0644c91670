package scene

import (
	"math"
	"math/rand/v2"
	"runtime"
	"testing"

	"excavate/core/geom"
)

// sheet is a wavy square of side x side vertices in a scene of its own.
func sheet(side int) *Scene {
	p := Part{Material: None}
	for y := range side {
		for x := range side {
			p.Positions = append(p.Positions, float32(x)/7, float32(math.Sin(float64(x+y)/9)), float32(y)/5)
		}
	}
	for y := range side - 1 {
		for x := range side - 1 {
			a := uint32(y*side + x)
			p.Triangles = append(p.Triangles, a, a+uint32(side), a+1, a+1, a+uint32(side), a+uint32(side)+1)
		}
	}
	s := &Scene{Meshes: []Mesh{{Name: "sheet", Parts: []Part{p}}}, Nodes: []Node{NewNode("sheet")}}
	s.Nodes[0].Mesh = 0
	return s
}

// The box and the area are those of the positions that Posed gives, whatever
// the nodes do: turn, mirror, scale unevenly, shear by their parents.
func TestExtentIsOfWhatIsShown(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(4))
	r := rand.New(rand.NewPCG(3, 4))
	some := func() float32 { return r.Float32()*4 - 2 }
	turn := func(x, y, z, angle float32) (out [4]float32) {
		for i, v := range geom.AxisAngle(geom.Vec3{float64(x), float64(y), float64(z)}, float64(angle)) {
			out[i] = float32(v)
		}
		return out
	}
	for round := range 60 {
		side := 5
		if round%20 == 0 {
			side = 300 // enough for every core
		}
		s := sheet(side)
		s.Nodes = s.Nodes[:0]
		for i := range 4 {
			n := NewNode("n")
			n.Parent, n.Mesh = i-1, 0
			switch round % 4 {
			case 1:
				n.Translation, n.Rotation = [3]float32{some(), some(), some()}, turn(some(), some(), some(), some())
				n.Scale = [3]float32{-1.5, 1.5, 1.5}
			case 2:
				n.Scale = [3]float32{some(), some(), some()}
			case 3:
				n.Rotation, n.Scale = turn(1, some(), 1, some()), [3]float32{some(), some(), some()}
			}
			s.Nodes = append(s.Nodes, n)
		}
		world := s.World()
		box, area := geom.EmptyBox(), 0.0
		for i := range s.Nodes {
			p := &s.Meshes[0].Parts[0]
			pos, _ := s.Posed(i, p, world)
			at := func(v uint32) geom.Vec3 {
				return geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])}
			}
			for v := range len(pos) / 3 {
				box.Add(at(uint32(v)))
			}
			for k := 0; k < len(p.Triangles); k += 3 {
				a := at(p.Triangles[k])
				area += at(p.Triangles[k+1]).Sub(a).Cross(at(p.Triangles[k+2]).Sub(a)).Len() / 2
			}
		}
		got, gotArea := s.extent()
		if got != box || s.Bounds() != box {
			t.Errorf("round %d: the box is %v, not %v", round, got, box)
		}
		if math.Abs(gotArea-area) > 1e-4*area {
			t.Errorf("round %d: the area is %v, not %v", round, gotArea, area)
		}
	}
}

// A triangle of two legs of 3 and 4 under a map that stretches one axis
// twofold and another threefold: 3*2 and 4*3 make an area of 36.
func TestAreaByHand(t *testing.T) {
	p := Part{Material: None}
	p.Positions, p.Triangles = []float32{0, 0, 0, 3, 0, 0, 0, 4, 0}, []uint32{0, 1, 2}
	s := &Scene{Meshes: []Mesh{{Parts: []Part{p}}}, Nodes: []Node{NewNode("n")}}
	s.Nodes[0].Mesh = 0
	for _, c := range []struct {
		scale [3]float32
		area  float64
	}{
		{[3]float32{1, 1, 1}, 6}, {[3]float32{2, 3, 7}, 36}, {[3]float32{-2, -2, -2}, 24},
		{[3]float32{0, 1, 1}, 0}, {[3]float32{1, 1, 0}, 6},
	} {
		s.Nodes[0].Scale = c.scale
		if _, area := s.extent(); math.Abs(area-c.area) > 1e-9 {
			t.Errorf("scaled by %v the area is %v, not %v", c.scale, area, c.area)
		}
	}
	s.Meshes[0].Parts[0].Positions = nil
	s.Meshes[0].Parts[0].Triangles = nil
	if box, area := s.extent(); !box.Empty() || area != 0 {
		t.Errorf("nothing has a box %v and an area of %v", box, area)
	}
}

// BenchmarkStats is what each band of a chain costs; beside it, what reading
// every position and index once costs.
func BenchmarkStats(b *testing.B) {
	s := sheet(708) // a million triangles
	p := &s.Meshes[0].Parts[0]
	b.Run("stats", func(b *testing.B) {
		for b.Loop() {
			s.Stats()
		}
	})
	b.Run("once", func(b *testing.B) {
		for b.Loop() {
			var f float32
			var n uint32
			for _, v := range p.Positions {
				f += v
			}
			for _, v := range p.Triangles {
				n += v
			}
			sink = float64(f) + float64(n)
		}
	})
}

var sink float64
