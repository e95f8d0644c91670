package voxel

import (
	"math"

	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Smooth is a surface through the voxels' sides instead of along them: a vertex
// for each corner of the voxels that shows, drawn a few times towards its
// neighbours, never further than half a voxel (Gibson, "Constrained Elastic
// Surface Nets", 1998). What is thin or small may come out smaller than its
// voxels.
func Smooth(v *scene.Volume, material, rounds int) (scene.Part, error) {
	sides, err := Sides(v)
	if err != nil {
		return scene.Part{}, err
	}
	n := &net{at: map[[3]int16]uint32{}}
	for i := range sides {
		n.add(&sides[i], v)
	}
	n.relax(rounds)
	p := scene.Part{Material: material, Triangles: make([]uint32, 0, 6*len(sides))}
	for i := range sides {
		q := n.quads[4*i : 4*i+4]
		if sides[i].Up {
			p.Triangles = append(p.Triangles, q[0], q[1], q[2], q[0], q[2], q[3])
		} else {
			p.Triangles = append(p.Triangles, q[0], q[2], q[1], q[0], q[3], q[2])
		}
	}
	colours := make([]float32, 0, 4*len(n.home))
	for i := range n.home {
		for a := range 3 {
			p.Positions = append(p.Positions, v.Origin[a]+float32(n.place[i][a])*v.Size)
			colours = append(colours, n.colour[i][a]/n.colour[i][3])
		}
		colours = append(colours, 1)
	}
	p.Colours = []scene.AttrSet{{Name: "colour", Data: colours}}
	p.Normals = vertexNormals(&p)
	return p, nil
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

// net is a surface net: the corners of sides, each once, and four of them a side.
type net struct {
	at     map[[3]int16]uint32
	home   [][3]int16
	place  [][3]float64
	colour [][4]float32 // the sum of the sides' at a corner, and how many
	quads  []uint32
}

// add adds a side that shows.
func (n *net) add(f *Face, v *scene.Volume) {
	u, w := (f.Axis+1)%3, (f.Axis+2)%3
	c := v.Palette[f.Colour-1].Colour
	for _, corner := range [4][2]int16{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
		p := f.At
		p[u] += corner[0]
		p[w] += corner[1]
		k, ok := n.at[p]
		if !ok {
			k = uint32(len(n.home))
			n.at[p] = k
			n.home = append(n.home, p)
			n.place = append(n.place, [3]float64{float64(p[0]), float64(p[1]), float64(p[2])})
			n.colour = append(n.colour, [4]float32{})
		}
		for a := range 3 {
			n.colour[k][a] += float32(pixel.Light(c[a]))
		}
		n.colour[k][3]++
		n.quads = append(n.quads, k)
	}
}

// relax draws corners to the middle of their neighbours, at most half a voxel
// from where they began.
func (n *net) relax(rounds int) {
	for range rounds {
		sum := make([][4]float64, len(n.place))
		for q := 0; q < len(n.quads); q += 4 {
			for k := range 4 {
				to := &sum[n.quads[q+k]]
				for _, beside := range [2]int{(k + 1) % 4, (k + 3) % 4} {
					for a, x := range n.place[n.quads[q+beside]] {
						to[a] += x
					}
					to[3]++
				}
			}
		}
		for i := range n.place {
			for a := range 3 {
				home := float64(n.home[i][a])
				n.place[i][a] = math.Max(home-0.5, math.Min(home+0.5, sum[i][a]/sum[i][3]))
			}
		}
	}
}
