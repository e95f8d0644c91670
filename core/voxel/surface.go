package voxel

import (
	"fmt"
	"sync/atomic"

	"excavate/core/limit"
	"excavate/core/parallel"
	"excavate/core/scene"
)

// Face is one side of a box of voxels of one colour: from the low corner the
// sides u and v, seen from where its front looks.
type Face struct {
	At     [3]int16 // low corner, in voxels
	Colour uint16
	Axis   uint8 // that it stands across
	Up     bool  // its front looks along the axis, not back
	W, H   uint8 // voxels along the next axis in cyclic order, and the one after
}

// Faces are the sides that show, neighbouring ones of one colour joined to
// rectangles within their block. Those between voxels are left out. Where a long
// side meets short ones no corner stands in it; Sides has each by itself. More
// than limit.VolumeFaces are an error.
func Faces(v *scene.Volume) ([]Face, error) { return facesOf(v, Side) }

// Sides are the sides that show, none joined: edge meets edge everywhere.
func Sides(v *scene.Volume) ([]Face, error) { return facesOf(v, 1) }

// facesOf joins at most so many sides along each edge.
func facesOf(v *scene.Volume, most int) (out []Face, err error) {
	g := open(v)
	masks := g.masks()
	var total atomic.Int64
	for _, list := range parallel.Gather(len(g.blocks), 8, func(from, to int) (list []Face) {
		e := &exposed{}
		for b := from; b < to && total.Load() <= limit.VolumeFaces; b++ {
			if masks[b] != nil && !g.buried(masks, b) {
				before := len(list)
				g.show(masks, b, e)
				list = g.faces(b, e, most, list)
				total.Add(int64(len(list) - before))
			}
		}
		return list
	}) {
		out = append(out, list...)
	}
	if total.Load() > limit.VolumeFaces {
		return nil, fmt.Errorf("the voxels show more than %d faces: choose larger voxels, or fewer colours",
			limit.VolumeFaces)
	}
	return out, nil
}

// layer is a layer of a block across an axis: the colours of the sides that show
// in one direction, and which of its rows have any.
type layer struct {
	colour [Side * Side]uint16 // along the next axis, then the one after
	rows   uint32
}

// faces adds those of one block.
func (g *grid) faces(block int, e *exposed, most int, out []Face) []Face {
	x0, y0, z0 := g.corner(block)
	base := [3]int{x0, y0, z0}
	c := g.blocks[block]
	var layers [Side]layer
	for direction := range steps {
		axis, up := direction/2, direction%2 == 1
		u, w := (axis+1)%3, (axis+2)%3
		for k, m := range e[direction] {
			eachBit(m, func(x int) {
				p := [3]int{x, k % Side, k / Side}
				l := &layers[p[axis]]
				l.colour[p[w]*Side+p[u]] = c.v[k*Side+x]
				l.rows |= 1 << p[w]
			})
		}
		for k := range layers {
			if layers[k].rows == 0 {
				continue
			}
			out = layers[k].joined(out, most, func(i, j, w2, h int, c uint16) Face {
				at := base
				at[axis] += k
				if up {
					at[axis]++
				}
				at[u] += i
				at[w] += j
				return Face{At: [3]int16{int16(at[0]), int16(at[1]), int16(at[2])}, Colour: c,
					Axis: uint8(axis), Up: up, W: uint8(w2), H: uint8(h)}
			})
		}
	}
	return out
}

// joined covers a layer with rectangles, each as wide as it goes and then as
// high, and leaves it empty.
func (l *layer) joined(out []Face, most int, face func(i, j, w, h int, c uint16) Face) []Face {
	for j := range Side {
		if l.rows>>j&1 == 0 {
			continue
		}
		row := l.colour[j*Side : (j+1)*Side]
		for i := 0; i < Side; {
			c := row[i]
			if c == 0 {
				i++
				continue
			}
			w := 1
			for i+w < Side && w < most && row[i+w] == c {
				w++
			}
			h := 1
			for j+h < Side && h < most && l.has(i, j+h, w, c) {
				h++
			}
			for y := j; y < j+h; y++ {
				clear(l.colour[y*Side+i : y*Side+i+w])
			}
			out = append(out, face(i, j, w, h, c))
			i += w
		}
	}
	l.rows = 0
	return out
}

// has tells whether w sides of a row are of one colour.
func (l *layer) has(i, j, w int, c uint16) bool {
	for _, x := range l.colour[j*Side+i : j*Side+i+w] {
		if x != c {
			return false
		}
	}
	return true
}

// Surface is the faces of a volume as one part: two triangles a face, flat
// normals, and vertex colours named "colour".
func Surface(v *scene.Volume, material int) (scene.Part, error) {
	faces, err := Faces(v)
	return PartOf(v, faces, material), err
}

// PartOf is Surface for some of a volume's faces.
func PartOf(v *scene.Volume, faces []Face, material int) scene.Part {
	p := scene.Part{
		Material:  material,
		Positions: make([]float32, 0, 12*len(faces)),
		Normals:   make([]float32, 0, 12*len(faces)),
		Triangles: make([]uint32, 0, 6*len(faces)),
	}
	colours := make([]float32, 0, 16*len(faces))
	light := make([][3]float32, len(v.Palette)+1)
	for i, s := range v.Palette {
		light[i+1] = Linear(s.Colour)
	}
	for _, f := range faces {
		u, w := (f.Axis+1)%3, (f.Axis+2)%3
		first := uint32(len(p.Positions) / 3)
		for _, corner := range [4][2]int16{{0, 0}, {int16(f.W), 0}, {int16(f.W), int16(f.H)}, {0, int16(f.H)}} {
			at := f.At
			at[u] += corner[0]
			at[w] += corner[1]
			var normal [3]float32
			normal[f.Axis] = -1
			if f.Up {
				normal[f.Axis] = 1
			}
			for a := range 3 {
				p.Positions = append(p.Positions, v.Origin[a]+float32(at[a])*v.Size)
			}
			p.Normals = append(p.Normals, normal[:]...)
			c := light[f.Colour]
			colours = append(colours, c[0], c[1], c[2], 1)
		}
		if f.Up {
			p.Triangles = append(p.Triangles, first, first+1, first+2, first, first+2, first+3)
		} else {
			p.Triangles = append(p.Triangles, first, first+2, first+1, first, first+3, first+2)
		}
	}
	p.Colours = []scene.AttrSet{{Name: "colour", Data: colours}}
	return p
}
