package step

import (
	"context"
	"encoding/json"
	"math"
	"testing"
	"time"

	"excavate/core/geom"
	"excavate/core/scene"
)

// million is a scene of a million triangles: a rippled sheet in 64 nodes, its
// vertices doubled as careless exports write them.
func million() *scene.Scene {
	const n, nodes = 88, 64
	s := &scene.Scene{Name: "sheets", Basis: geom.GLTF, Materials: []scene.Material{scene.NewMaterial("a"), scene.NewMaterial("b")}}
	for k := range nodes {
		p := scene.Part{Material: k % 2, UVs: []scene.AttrSet{{Name: "uv"}}}
		for y := range n {
			for x := range n {
				for _, c := range [6][2]int{{0, 0}, {1, 0}, {1, 1}, {0, 0}, {1, 1}, {0, 1}} {
					u, v := float64(x+c[0]), float64(y+c[1])
					h := math.Sin(u/7+float64(k)) * math.Cos(v/5)
					p.Triangles = append(p.Triangles, uint32(p.Vertices()))
					p.Positions = append(p.Positions, float32(u), float32(h), float32(v))
					p.Normals = append(p.Normals, 0, 1, 0)
					p.UVs[0].Data = append(p.UVs[0].Data, float32(u)/n, float32(v)/n)
				}
			}
		}
		node := scene.NewNode("sheet")
		node.Mesh, node.Translation[0] = k, float32(k*n)
		s.Meshes = append(s.Meshes, scene.Mesh{Name: "sheet", Parts: []scene.Part{p}})
		s.Nodes = append(s.Nodes, node)
	}
	return s
}

// sorted sorts the vertices of every part by their place, a radix sort of four
// passes by 16 bits (LSD), and goes over them once: what merging vertices takes
// at least if it is done by order.
func sorted(s *scene.Scene) (double int) {
	for i := range s.Meshes {
		p := &s.Meshes[i].Parts[0]
		n := p.Vertices()
		keys, order := make([]uint64, n), make([]uint32, n)
		for v := range n {
			x := p.Positions[3*v : 3*v+3]
			keys[v] = uint64(math.Float32bits(x[0]))*0x9E3779B97F4A7C15 ^ uint64(math.Float32bits(x[1]))*0xC2B2AE3D27D4EB4F ^ uint64(math.Float32bits(x[2]))*0x165667B19E3779F9
			order[v] = uint32(v)
		}
		next := make([]uint32, n)
		for shift := 0; shift < 64; shift += 16 {
			var at [65537]uint32
			for _, v := range order {
				at[(keys[v]>>shift&0xffff)+1]++
			}
			for k := 1; k < len(at); k++ {
				at[k] += at[k-1]
			}
			for _, v := range order {
				k := keys[v] >> shift & 0xffff
				next[at[k]] = v
				at[k]++
			}
			order, next = next, order
		}
		for k := 1; k < n; k++ {
			if keys[order[k]] == keys[order[k-1]] {
				double++
			}
		}
	}
	return double
}

// BenchmarkMillion tells how long steps take over a million triangles, and how
// many times that of sorting the vertices.
func BenchmarkMillion(b *testing.B) {
	s := million()
	start := time.Now()
	if sorted(s) == 0 {
		b.Fatal("no vertex is double")
	}
	sorted(s)
	base := time.Since(start) / 2
	for _, c := range []struct{ name, params string }{
		{"weld", `{"angle": 180}`}, {"normals", ``}, {"split", `{"by": "piece"}`}, {"join", `{"by": "material"}`}, {"share", ``},
		{"drop-double", ``}, {"facing", ``}, {"tangents", `{"all": true}`}, {"mirror", `{"at": 2000}`}, {"fill-holes", ``},
	} {
		k, err := Get(c.name)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				if _, err := k.Apply(context.Background(), s, json.RawMessage(c.params), nil, &Report{}); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.Elapsed())/float64(b.N)/float64(base), "times-sorting")
		})
	}
}
