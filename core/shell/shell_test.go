package shell

import (
	"math"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// cube has four vertices a side: its places are eight.
func cube() scene.Part {
	var p scene.Part
	for k := range 3 {
		for s := range 2 {
			first := uint32(p.Vertices())
			for i := range 4 {
				var c [3]float32
				c[k], c[(k+1)%3], c[(k+2)%3] = float32(s), float32((i+1)/2%2), float32(i/2)
				p.Positions = append(p.Positions, c[:]...)
			}
			a, b := uint32(1), uint32(2)
			if s == 0 {
				a, b = b, a
			}
			p.Triangles = append(p.Triangles, first, first+a, first+b)
			if s == 0 {
				a, b = 3, 2
			} else {
				a, b = 2, 3
			}
			p.Triangles = append(p.Triangles, first, first+a, first+b)
		}
	}
	return p
}

func sceneOf(parts ...scene.Part) *scene.Scene {
	s := &scene.Scene{Meshes: []scene.Mesh{{Parts: parts}}}
	for i := range parts {
		s.Meshes[0].Parts[i].Material = scene.None
	}
	n := scene.NewNode("thing")
	n.Mesh = 0
	s.Nodes = []scene.Node{n}
	return s
}

func TestACube(t *testing.T) {
	s := sceneOf(cube())
	s.Nodes[0].Scale = [3]float32{2, 3, 4}
	s.Nodes[0].Translation = [3]float32{9, 9, 9}
	sh := Of(s, 10, 1e-3)
	if len(sh.Places) != 8 || len(sh.Triangles) != 12 || len(sh.Edges) != 18 || sh.Flat != 0 {
		t.Fatalf("%d places, %d triangles, %d edges", len(sh.Places), len(sh.Triangles), len(sh.Edges))
	}
	for i := range sh.Edges {
		if !sh.Closed(&sh.Edges[i]) {
			t.Errorf("edge %d is open", i)
		}
	}
	if v := sh.Volume(); math.Abs(v-24000) > 1e-6 {
		t.Errorf("volume %g", v)
	}
	if a := sh.Area(); math.Abs(a-2*(600+1200+800)) > 1e-6 {
		t.Errorf("area %g", a)
	}
	if _, n := sh.Pieces(); n != 1 {
		t.Errorf("%d pieces", n)
	}
	// A node that mirrors leaves outside what is.
	s.Nodes[0].Scale[1] = -3
	if v := Of(s, 10, 1e-3).Volume(); math.Abs(v-24000) > 1e-6 {
		t.Errorf("mirrored it has the volume %g", v)
	}
	// Without one triangle three edges are open.
	half := sh.Keep(func(k int) bool { return k != 5 })
	open := 0
	for i := range half.Edges {
		if !half.Closed(&half.Edges[i]) {
			open++
		}
	}
	if open != 3 || len(sh.Triangles) != 12 {
		t.Errorf("%d open edges", open)
	}
}

func TestWhatIsNotClosed(t *testing.T) {
	fin := scene.Part{Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0, 0, -1, 0, 0, 0, 1},
		Triangles: []uint32{0, 1, 2, 1, 0, 3, 0, 1, 4}}
	sh := Of(sceneOf(fin), 1, 0)
	for i := range sh.Edges {
		e := &sh.Edges[i]
		if want := len(e.Uses); want == 3 && sh.Closed(e) || want == 1 && sh.Closed(e) || want == 2 {
			t.Errorf("edge %d–%d has %d triangles", e.A, e.B, want)
		}
	}
	// Two that disagree on what is outside do not close an edge.
	fin.Triangles = []uint32{0, 1, 2, 0, 1, 3}
	sh = Of(sceneOf(fin), 1, 0)
	for i := range sh.Edges {
		if e := &sh.Edges[i]; len(e.Uses) == 2 && sh.Closed(e) {
			t.Error("it is closed")
		}
	}
}

func TestWelding(t *testing.T) {
	gap := func(d float32) int {
		a := scene.Part{Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0}, Triangles: []uint32{0, 1, 2}}
		b := scene.Part{Positions: []float32{1 + d, 0, 0, 1, 1, 0, d, 1, -d}, Triangles: []uint32{0, 1, 2, 0, 0, 1}}
		sh := Of(sceneOf(a, b), 1, 0.01)
		if sh.Flat != 1 {
			t.Errorf("%d flat triangles", sh.Flat)
		}
		_, n := sh.Pieces()
		return n
	}
	if gap(0.007) != 1 || gap(0.02) != 2 {
		t.Errorf("%d and %d pieces", gap(0.007), gap(0.02))
	}
	// Cells are no borders: points on both sides of one are one place.
	for i := range 100 {
		x := float32(i) * 0.01
		p := scene.Part{Positions: []float32{x - 0.001, 0, 0, 5, 0, 0, 0, 5, 0, x + 0.001, 0, 0, 5, 0, 0, 0, -5,
			0}, Triangles: []uint32{0, 1, 2, 3, 5, 4}}
		if sh := Of(sceneOf(p), 1, 0.01); len(sh.Places) != 4 {
			t.Fatalf("at %g: %d places", x, len(sh.Places))
		}
	}
	flat := scene.Part{Positions: []float32{0, 0, 0, 1, 1, 1, 3, 3, 3}, Triangles: []uint32{0, 1, 2}}
	if sh := Of(sceneOf(flat), 1, 0); sh.Flat != 1 || len(sh.Triangles) != 0 {
		t.Error("what has no area is kept")
	}
}

func TestPosed(t *testing.T) {
	p := cube()
	p.Influences = 1
	p.Joints, p.Weights = make([]uint16, p.Vertices()), make([]float32, p.Vertices())
	for i := range p.Weights {
		p.Weights[i] = 1
	}
	s := sceneOf(p)
	bone := scene.NewNode("bone")
	bone.Translation = [3]float32{0, 7, 0}
	s.Nodes = append(s.Nodes, bone)
	s.Skins = []scene.Skin{{Joints: []int{1}, Root: scene.None, InverseBind: geom32()}}
	s.Nodes[0].Skin = 0
	box := geom.EmptyBox()
	for _, q := range Of(s, 1, 0).Places {
		box.Add(q)
	}
	if box.Min != (geom.Vec3{0, 7, 0}) || box.Max != (geom.Vec3{1, 8, 1}) {
		t.Errorf("%v", box)
	}
}

func geom32() []float32 {
	return []float32{1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}
}
