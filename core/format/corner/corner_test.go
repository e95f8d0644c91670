package corner

import (
	"fmt"
	"math"
	"math/rand"
	"strings"
	"testing"

	"excavate/core/scene"
)

// roof is two slopes that meet in an edge at the top: positions 1 and 2.
var roof = Source{
	Positions: []float32{-1, 0, 0, 0, 1, 0, 0, 1, 1, -1, 0, 1, 1, 0, 0, 1, 0, 1},
	UVs:       []float32{0, 0, 1, 0, 1, 1, 0, 1},
	Normals:   []float32{0, 0, 1},
}

func ref(v int32) Ref { return Ref{v, None, None, None} }

func faces(p *Part, group int) {
	p.Face(&roof, []Ref{ref(0), ref(3), ref(2), ref(1)}, group)
	p.Face(&roof, []Ref{ref(1), ref(2), ref(5), ref(4)}, group)
}

// at are the normals of a scene's vertices at a place.
func at(p *scene.Part, x, y, z float32) (out []string) {
	for v := range p.Vertices() {
		if p.Positions[3*v] == x && p.Positions[3*v+1] == y && p.Positions[3*v+2] == z {
			out = append(out, strings.ReplaceAll(fmt.Sprintf("%.2f", p.Normals[3*v:3*v+3]), "-0.00", "0.00"))
		}
	}
	return out
}

func TestGroupsOfARoof(t *testing.T) {
	for _, c := range []struct {
		name     string
		build    func(p *Part)
		vertices int
		edge     string // normals at the first end of the top edge
		lack     bool
	}{
		{"flat", func(p *Part) { faces(p, 0) }, 8, "[[-0.71 0.71 0.00] [0.71 0.71 0.00]]", false},
		{"smooth", func(p *Part) { faces(p, 1) }, 6, "[[0.00 1.00 0.00]]", false},
		{"two groups", func(p *Part) {
			p.Face(&roof, []Ref{ref(0), ref(3), ref(2), ref(1)}, 7)
			p.Face(&roof, []Ref{ref(1), ref(2), ref(5), ref(4)}, -7)
		}, 8, "[[-0.71 0.71 0.00] [0.71 0.71 0.00]]", false},
		{"flat and smooth", func(p *Part) {
			p.Face(&roof, []Ref{ref(0), ref(3), ref(2), ref(1)}, 0)
			p.Face(&roof, []Ref{ref(1), ref(2), ref(5), ref(4)}, 2)
		}, 8, "[[-0.71 0.71 0.00] [0.71 0.71 0.00]]", false},
		{"a seam of the texture", func(p *Part) {
			p.Face(&roof, []Ref{ref(0), ref(3), {2, 0, None, None}, {1, 1, None, None}}, 1)
			p.Face(&roof, []Ref{{1, 2, None, None}, {2, 3, None, None}, ref(5), ref(4)}, 1)
		}, 8, "[[0.00 1.00 0.00] [0.00 1.00 0.00]]", false},
		{"stated and smooth", func(p *Part) {
			p.Face(&roof, []Ref{{0, None, 0, None}, {3, None, 0, None}, {2, None, 0, None}, {1, None, 0, None}}, 1)
			p.Face(&roof, []Ref{ref(1), ref(2), ref(5), ref(4)}, 1)
		}, 8, "[[0.00 0.00 1.00] [0.71 0.71 0.00]]", true},
		{"half stated", func(p *Part) {
			p.Face(&roof, []Ref{{0, None, 0, None}, {3, None, 0, None}, ref(2), {1, None, 0, None}}, 0)
		}, 4, "[[-0.71 0.71 0.00]]", false},
	} {
		p := &Part{Material: scene.None}
		c.build(p)
		out, _, lack := p.Scene(&roof)
		if got := fmt.Sprint(at(&out, 0, 1, 0)); out.Vertices() != c.vertices || got != c.edge || lack != c.lack {
			t.Errorf("%s: %d vertices, %s at the edge, %v; want %d, %s, %v", c.name, out.Vertices(), got, lack, c.vertices, c.edge, c.lack)
		}
		s := scene.Scene{Meshes: []scene.Mesh{{Parts: []scene.Part{out}}}}
		if err := s.Validate(); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

// Flat faces of which none was asked for by its corners, and then corners that
// are: each keeps its own vertices.
func TestManyFlatFacesThenSmoothOnes(t *testing.T) {
	p := &Part{}
	for range 1000 {
		faces(p, 0)
	}
	faces(p, 1)
	faces(p, 1)
	out, _, _ := p.Scene(&roof)
	if out.Vertices() != 8006 || len(out.Triangles) != 3*4*1002 {
		t.Fatalf("%d vertices, %d indices", out.Vertices(), len(out.Triangles))
	}
	for v := range out.Vertices() {
		n := out.Normals[3*v : 3*v+3]
		if smooth := v >= 8000 && out.Positions[3*v] == 0; (n[1] == 1) != smooth {
			t.Fatalf("vertex %d at %v has the normal %v", v, out.Positions[3*v:3*v+3], n)
		}
	}
}

// A ball's normals point outward, whichever way its faces are cut.
func TestNormalsOfABall(t *testing.T) {
	const rings, round = 24, 48
	var src Source
	r := rand.New(rand.NewSource(5))
	for i := range rings + 1 {
		for j := range round {
			a, b := math.Pi*float64(i)/rings, 2*math.Pi*float64(j)/round
			src.Positions = append(src.Positions, float32(math.Sin(a)*math.Cos(b)), float32(math.Cos(a)), float32(-math.Sin(a)*math.Sin(b)))
		}
	}
	p := &Part{}
	for i := range rings {
		for j := range round {
			a, b := int32(i*round+j), int32(i*round+(j+1)%round)
			q := []Ref{ref(a), ref(a + round), ref(b + round), ref(b)}
			if k := r.Intn(4); k < 3 {
				p.Face(&src, append(q[k:len(q):len(q)], q[:k]...), 1)
			} else {
				p.Face(&src, []Ref{q[0], q[1], q[2]}, 1)
				p.Face(&src, []Ref{q[0], q[2], q[3]}, 1)
			}
		}
	}
	out, _, _ := p.Scene(&src)
	for v := range out.Vertices() {
		dot := float32(0)
		for k := range 3 {
			dot += out.Positions[3*v+k] * out.Normals[3*v+k]
		}
		if dot < 0.99 {
			t.Fatalf("the normal %v at %v", out.Normals[3*v:3*v+3], out.Positions[3*v:3*v+3])
		}
	}
}

func TestUVsAtSomeCorners(t *testing.T) {
	p := &Part{}
	p.Face(&roof, []Ref{{0, 1, None, None}, {3, 2, None, None}, ref(2)}, 0)
	out, lack, _ := p.Scene(&roof)
	if !lack || fmt.Sprint(out.UVs[0].Data) != "[1 0 1 1 0 0]" {
		t.Errorf("%v %v", lack, out.UVs)
	}
	q := &Part{}
	q.Lines = append(q.Lines, q.Vertex(ref(0)), q.Vertex(ref(1)), q.Vertex(ref(1)), q.Vertex(ref(2)))
	if out, lack, _ := q.Scene(&roof); out.Normals != nil || out.UVs != nil || lack || out.Vertices() != 3 || fmt.Sprint(out.Lines) != "[0 1 1 2]" {
		t.Errorf("lines became %+v", out)
	}
}

func BenchmarkFaces(b *testing.B) {
	const side = 400
	var src Source
	for y := range side {
		for x := range side {
			src.Positions = append(src.Positions, float32(x), float32(math.Sin(float64(x*y))), float32(y))
		}
	}
	for _, c := range []struct {
		name  string
		group int
	}{{"flat", 0}, {"smooth", 1}} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				p := &Part{}
				for y := range int32(side - 1) {
					for x := range int32(side - 1) {
						a := y*side + x
						p.Face(&src, []Ref{ref(a), ref(a + side), ref(a + side + 1), ref(a + 1)}, c.group)
					}
				}
				p.Scene(&src)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/(side-1)/(side-1), "ns/face")
		})
	}
}
