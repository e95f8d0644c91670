package voxel

import (
	"math/rand"
	"testing"

	"excavate/core/scene"
)

// Of random voxels, whose edges and corners touch in every way, the smooth
// surface has at most two faces an edge, opposite ways, and encloses what the
// voxels do but for what smoothing takes.
func TestSmoothIsManifold(t *testing.T) {
	r := rand.New(rand.NewSource(5))
	for round := range 60 {
		full := map[[3]int]bool{}
		n := 2 + r.Intn(7)
		for x := range n {
			for y := range n {
				for z := range n {
					if r.Float64() < 0.15+0.05*float64(round%12) {
						full[[3]int{x, y, z}] = true
					}
				}
			}
		}
		if len(full) == 0 {
			continue
		}
		v := volumeOf(t, full, n)
		p, err := Smooth(v, 0, 0)
		if err != nil {
			t.Fatal(err)
		}
		uses := map[[2]uint32]int{}
		for k := 0; k < len(p.Triangles); k += 3 {
			for e := range 3 {
				uses[[2]uint32{p.Triangles[k+e], p.Triangles[k+(e+1)%3]}]++
			}
		}
		open, odd := 0, 0
		for e, k := range uses {
			if back := uses[[2]uint32{e[1], e[0]}]; back == 0 {
				open++
			} else if k > 1 {
				odd++
			}
		}
		// Two rounds about one edge that meet at both of its ends are the only
		// edges of four faces that are left.
		if open > 0 || odd > len(full)/6 {
			t.Errorf("round %d: %d voxels: %d open edges, %d of more than two faces", round, len(full), open, odd)
		}
		if got := enclosed(&p); got < float64(len(full))-1e-3 || got > float64(len(full))+1e-3 {
			t.Errorf("round %d: %g for %d voxels", round, got, len(full))
		}
	}
}

// volumeOf is a volume of unit voxels of one colour.
func volumeOf(t *testing.T, full map[[3]int]bool, n int) *scene.Volume {
	t.Helper()
	v := &scene.Volume{Size: 1, Dims: [3]int{n, n, n}, Palette: []scene.Swatch{{Colour: [3]uint8{200, 150, 90}}},
		Index: []uint32{1}, Blocks: make([]uint16, scene.VolumeBlock*scene.VolumeBlock*scene.VolumeBlock)}
	for at := range full {
		v.Blocks[(at[2]*scene.VolumeBlock+at[1])*scene.VolumeBlock+at[0]] = 1
	}
	return v
}

func enclosed(p *scene.Part) (sum float64) {
	for k := 0; k < len(p.Triangles); k += 3 {
		var c [3][3]float64
		for i := range 3 {
			for a := range 3 {
				c[i][a] = float64(p.Positions[3*p.Triangles[k+i]+uint32(a)])
			}
		}
		sum += (c[0][0]*(c[1][1]*c[2][2]-c[1][2]*c[2][1]) + c[0][1]*(c[1][2]*c[2][0]-c[1][0]*c[2][2]) +
			c[0][2]*(c[1][0]*c[2][1]-c[1][1]*c[2][0])) / 6
	}
	return sum
}
