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
// Surface Nets", 1998). Voxels that only touch along an edge or at a corner have
// a vertex each there, so that an edge has two faces. What is thin or small may
// come out smaller than its voxels.
func Smooth(v *scene.Volume, material, rounds int) (scene.Part, error) {
	sides, err := Sides(v)
	if err != nil {
		return scene.Part{}, err
	}
	n := newNet(v, sides)
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

// net is a surface net: the corners of sides, and four of them a side.
type net struct {
	home   [][3]int16
	place  [][3]float64
	colour [][4]float32 // the sum of the sides' at a corner, and how many
	quads  []uint32
}

// corner is the k-th corner of a side, counter-clockwise about its axis.
func (f *Face) corner(k int) [3]int16 {
	p := f.At
	p[(f.Axis+1)%3] += [4]int16{0, 1, 1, 0}[k]
	p[(f.Axis+2)%3] += [4]int16{0, 0, 1, 1}[k]
	return p
}

// full is the voxel that a side is of.
func (f *Face) full() [3]int16 {
	p := f.At
	if f.Up {
		p[f.Axis]--
	}
	return p
}

// edge is where a voxel's edge begins, and its axis.
type edge struct {
	at   [3]int16
	axis uint8
}

// newNet gives every corner a vertex for each round of sides about it: sides go
// on across an edge to the other one there, and where there are four to the one
// of the same voxel.
func newNet(v *scene.Volume, sides []Face) *net {
	joined := make([]uint32, 4*len(sides)) // a side's corner, to another of its round
	for i := range joined {
		joined[i] = uint32(i)
	}
	find := func(i uint32) uint32 {
		for joined[i] != i {
			joined[i] = joined[joined[i]]
			i = joined[i]
		}
		return i
	}
	open := make(map[edge][]uint32, len(sides)) // sides that wait for the other one at an edge, as 4·side + k
	for i := range sides {
		f := &sides[i]
		for k := range 4 {
			a, b := f.corner(k), f.corner((k+1)%4)
			e := edge{at: a, axis: uint8(1 + k%2)}
			e.axis = (f.Axis + e.axis) % 3
			if a[e.axis] > b[e.axis] {
				e.at = b
			}
			open[e] = append(open[e], uint32(4*i+k))
		}
	}
	join := func(x, y uint32) {
		for _, c := range [2]uint32{0, 1} {
			p := x&^3 + (x+c)&3
			at := sides[p/4].corner(int(p & 3))
			q := y&^3 + y&3
			if sides[q/4].corner(int(q&3)) != at {
				q = y&^3 + (y+1)&3
			}
			joined[find(p)] = find(q)
		}
	}
	for _, list := range open {
		if len(list) == 2 {
			join(list[0], list[1])
			continue
		}
		for i, x := range list {
			for _, y := range list[i+1:] {
				if sides[x/4].full() == sides[y/4].full() {
					join(x, y)
				}
			}
		}
	}
	n := &net{quads: make([]uint32, len(joined))}
	number := make(map[uint32]uint32, len(sides))
	for i := range joined {
		f := &sides[i/4]
		root := find(uint32(i))
		k, ok := number[root]
		if !ok {
			k = uint32(len(n.home))
			number[root] = k
			p := f.corner(i & 3)
			n.home = append(n.home, p)
			n.place = append(n.place, [3]float64{float64(p[0]), float64(p[1]), float64(p[2])})
			n.colour = append(n.colour, [4]float32{})
		}
		c := v.Palette[f.Colour-1].Colour
		for a := range 3 {
			n.colour[k][a] += float32(pixel.Light(c[a]))
		}
		n.colour[k][3]++
		n.quads[i] = k
	}
	return n
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
