package voxel

import (
	"math"

	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Smooth is a surface through the voxels' sides instead of along them: a vertex
// for each cell between eight voxels of which some are filled, in the middle of
// where its edges cross the surface, then drawn a few times towards its
// neighbours, never out of its cell (Gibson, "Constrained Elastic Surface Nets",
// 1998). What is thin or small may come out smaller than its voxels.
func Smooth(v *scene.Volume, material, rounds int) scene.Part {
	g := open(v)
	n := &net{g: g, at: map[[3]int]uint32{}}
	g.each(func(x, y, z int, c uint16) {
		for d, s := range steps {
			if g.at(x+s[0], y+s[1], z+s[2]) == 0 {
				n.side(x, y, z, d, c)
			}
		}
	})
	n.relax(rounds)
	p := scene.Part{Material: material, Triangles: n.triangles}
	colours := make([]float32, 0, 4*len(n.cells))
	for i := range n.cells {
		for a := range 3 {
			p.Positions = append(p.Positions, v.Origin[a]+float32(n.place[i][a])*v.Size)
		}
		var sum [3]float64
		for _, c := range n.colours[i] {
			for k := range 3 {
				sum[k] += pixel.Light(v.Palette[c-1].Colour[k]) / float64(len(n.colours[i]))
			}
		}
		colours = append(colours, float32(sum[0]), float32(sum[1]), float32(sum[2]), 1)
	}
	p.Colours = []scene.AttrSet{{Name: "colour", Data: colours}}
	p.Normals = vertexNormals(&p)
	return p
}

// vertexNormals are the means of the triangles' at each vertex, by their area.
func vertexNormals(p *scene.Part) []float32 {
	sum := make([]geom.Vec3, p.Vertices())
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		c := p.Triangles[t : t+3]
		a := geom.At(p.Positions, c[0])
		n := geom.At(p.Positions, c[1]).Sub(a).Cross(geom.At(p.Positions, c[2]).Sub(a))
		for _, v := range c {
			sum[v] = sum[v].Add(n)
		}
	}
	out := make([]float32, 0, 3*len(sum))
	for _, n := range sum {
		n = n.Norm()
		out = append(out, float32(n[0]), float32(n[1]), float32(n[2]))
	}
	return out
}

// net is a surface net that is being made. A cell is named by the corner of
// voxels in its middle.
type net struct {
	g         *grid
	at        map[[3]int]uint32
	cells     [][3]int
	place     [][3]float64
	beside    [][]uint32
	colours   [][]uint16
	triangles []uint32
}

// side adds the square between the four cells round a side that shows.
func (n *net) side(x, y, z, direction int, c uint16) {
	axis, up := direction/2, direction%2 == 1
	u, w := (axis+1)%3, (axis+2)%3
	base := [3]int{x, y, z}
	if up {
		base[axis]++
	}
	var q [4]uint32
	for k, corner := range [4][2]int{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
		p := base
		p[u] += corner[0]
		p[w] += corner[1]
		q[k] = n.cell(p)
		n.colours[q[k]] = append(n.colours[q[k]], c)
	}
	for k := range q {
		n.beside[q[k]] = append(n.beside[q[k]], q[(k+1)%4], q[(k+3)%4])
	}
	if up {
		n.triangles = append(n.triangles, q[0], q[1], q[2], q[0], q[2], q[3])
	} else {
		n.triangles = append(n.triangles, q[0], q[2], q[1], q[0], q[3], q[2])
	}
}

func (n *net) cell(p [3]int) uint32 {
	if k, ok := n.at[p]; ok {
		return k
	}
	k := uint32(len(n.cells))
	n.at[p] = k
	n.cells = append(n.cells, p)
	n.place = append(n.place, [3]float64{float64(p[0]), float64(p[1]), float64(p[2])})
	n.beside = append(n.beside, nil)
	n.colours = append(n.colours, nil)
	return k
}

// relax draws vertices to the middle of their neighbours, at most half a voxel
// from where they began.
func (n *net) relax(rounds int) {
	for range rounds {
		next := make([][3]float64, len(n.place))
		for i, list := range n.beside {
			for a := range 3 {
				sum := 0.0
				for _, k := range list {
					sum += n.place[k][a]
				}
				home := float64(n.cells[i][a])
				next[i][a] = math.Max(home-0.5, math.Min(home+0.5, sum/float64(len(list))))
			}
		}
		n.place = next
	}
}
