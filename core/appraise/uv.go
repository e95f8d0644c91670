package appraise

import (
	"image"
	"image/color"
	"math"

	"excavate/core/scene"
)

// UVSet is what a UV set does on its picture. Fractions are of the area that
// its triangles cover.
type UVSet struct {
	Name    string     `json:"name"`
	Min     [2]float32 `json:"min"`
	Max     [2]float32 `json:"max"`
	Outside float64    `json:"outside"` // triangles that leave 0 to 1
	Overlap float64    `json:"overlap"` // covered more than once, after tiling
	Covered float64    `json:"covered"` // of the picture
}

// layGrid is the side of the grid on which coverage is counted.
const layGrid = 256

// UVSetOf measures a part's UV set.
func UVSetOf(p *scene.Part, set int) UVSet {
	u := p.UVs[set]
	out := UVSet{Name: u.Name}
	if len(u.Data) < 2 || len(p.Triangles) == 0 {
		return out
	}
	out.Min, out.Max = [2]float32{u.Data[0], u.Data[1]}, [2]float32{u.Data[0], u.Data[1]}
	for i := 0; i+1 < len(u.Data); i += 2 {
		for k := range 2 {
			out.Min[k], out.Max[k] = min(out.Min[k], u.Data[i+k]), max(out.Max[k], u.Data[i+k])
		}
	}
	var hits [layGrid * layGrid]uint8
	outside := 0
	budget := 64 << 20 // cells: triangles far larger than the picture are counted in part
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		var x, y [3]float64
		off := false
		for k := range 3 {
			v := p.Triangles[t+k]
			x[k], y[k] = float64(u.Data[2*v]), float64(u.Data[2*v+1])
			off = off || x[k] < -1e-4 || x[k] > 1.0001 || y[k] < -1e-4 || y[k] > 1.0001
			x[k], y[k] = x[k]*layGrid, y[k]*layGrid
		}
		if off {
			outside++
		}
		fill(x, y, func(px, py int) bool {
			c := &hits[(py&(layGrid-1))*layGrid+px&(layGrid-1)]
			if *c < 255 {
				*c++
			}
			budget--
			return budget > 0
		})
	}
	covered, twice := 0, 0
	for _, h := range hits {
		if h > 0 {
			covered++
		}
		if h > 1 {
			twice++
		}
	}
	out.Outside = round4(float64(outside) / float64(len(p.Triangles)/3))
	out.Covered = round4(float64(covered) / float64(len(hits)))
	if covered > 0 {
		out.Overlap = round4(float64(twice) / float64(covered))
	}
	return out
}

func round4(v float64) float64 { return math.Round(v*1e4) / 1e4 }

// fill visits the cells whose middle lies within a triangle, each once for
// triangles that share an edge (the top-left rule).
func fill(x, y [3]float64, put func(px, py int) bool) {
	area := (x[1]-x[0])*(y[2]-y[0]) - (x[2]-x[0])*(y[1]-y[0])
	if area == 0 || math.IsNaN(area) || math.IsInf(area, 0) {
		return
	}
	if area < 0 {
		x[1], x[2], y[1], y[2] = x[2], x[1], y[2], y[1]
	}
	const far = 1 << 20
	lo, hi := math.Min(x[0], math.Min(x[1], x[2])), math.Max(x[0], math.Max(x[1], x[2]))
	top, bottom := math.Min(y[0], math.Min(y[1], y[2])), math.Max(y[0], math.Max(y[1], y[2]))
	if lo < -far || hi > far || top < -far || bottom > far {
		return
	}
	edge := func(a, b int, px, py float64) bool {
		d := (x[b]-x[a])*(py-y[a]) - (y[b]-y[a])*(px-x[a])
		return d > 0 || d == 0 && (y[b] < y[a] || y[b] == y[a] && x[b] > x[a])
	}
	for py := int(math.Floor(top)); py <= int(bottom); py++ {
		for px := int(math.Floor(lo)); px <= int(hi); px++ {
			cx, cy := float64(px)+0.5, float64(py)+0.5
			if edge(0, 1, cx, cy) && edge(1, 2, cx, cy) && edge(2, 0, cx, cy) {
				if !put(px, py) {
					return
				}
			}
		}
	}
}

// DrawUVs draws a UV set's triangles over its picture, which may be nil: what is
// covered twice in iron, what leaves the picture in ochre.
func DrawUVs(p *scene.Part, set int, under *image.NRGBA, side int) *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, side, side))
	for y := range side {
		for x := range side {
			c := color.NRGBA{0xe4, 0xdc, 0xca, 255}
			if (x/16+y/16)%2 == 0 {
				c = color.NRGBA{0xef, 0xe9, 0xdc, 255}
			}
			if under != nil {
				q := under.NRGBAAt(x*under.Rect.Dx()/side, y*under.Rect.Dy()/side)
				a := uint32(q.A)
				mix := func(v, b uint8) uint8 { return uint8((uint32(v)*a + uint32(b)*(255-a)) / 255) }
				c = color.NRGBA{mix(q.R, c.R), mix(q.G, c.G), mix(q.B, c.B), 255}
			}
			out.SetNRGBA(x, y, c)
		}
	}
	if set >= len(p.UVs) {
		return out
	}
	u := p.UVs[set].Data
	hits := make([]uint8, side*side)
	budget := 64 << 20
	corner := func(t, k int) (float64, float64) {
		v := p.Triangles[t+k]
		return float64(u[2*v]) * float64(side), float64(u[2*v+1]) * float64(side)
	}
	wrap := func(v int) int { return ((v % side) + side) % side }
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		var x, y [3]float64
		for k := range 3 {
			x[k], y[k] = corner(t, k)
		}
		fill(x, y, func(px, py int) bool {
			c := &hits[wrap(py)*side+wrap(px)]
			if *c < 255 {
				*c++
			}
			budget--
			return budget > 0
		})
	}
	for i, h := range hits {
		if h > 1 {
			q := out.Pix[4*i : 4*i+3]
			q[0], q[1], q[2] = byte((int(q[0])+2*0xa2)/3), byte((int(q[1])+2*0x3f)/3), byte((int(q[2])+2*0x2b)/3)
		}
	}
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		off := false
		for k := range 3 {
			x, y := corner(t, k)
			off = off || x < -0.5 || y < -0.5 || x > float64(side)+0.5 || y > float64(side)+0.5
		}
		ink := color.NRGBA{0x1c, 0x67, 0x5c, 255}
		if off {
			ink = color.NRGBA{0x9a, 0x63, 0x12, 255}
		}
		for k := range 3 {
			x0, y0 := corner(t, k)
			x1, y1 := corner(t, (k+1)%3)
			n := int(math.Min(math.Max(math.Abs(x1-x0), math.Abs(y1-y0)), float64(4*side))) + 1
			for i := range n + 1 {
				f := float64(i) / float64(n)
				px, py := int(math.Floor(x0+(x1-x0)*f)), int(math.Floor(y0+(y1-y0)*f))
				out.SetNRGBA(wrap(px), wrap(py), ink)
			}
			if budget -= n; budget < 0 {
				return out
			}
		}
	}
	return out
}
