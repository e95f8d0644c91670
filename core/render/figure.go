package render

import (
	"math"

	"excavate/core/geom"
)

// FigureHeight is the height of the scale figure in metres.
const FigureHeight = 1.75

// Outline is the right half of the scale figure's silhouette, from the top of
// the head down to the ground: half width and height in metres. The interface
// draws the same one.
var Outline = [][2]float64{
	{0.00, 1.75}, {0.055, 1.735}, {0.085, 1.69}, {0.09, 1.63}, {0.07, 1.565}, {0.05, 1.53}, {0.055, 1.485},
	{0.19, 1.44}, {0.235, 1.38}, {0.265, 1.12}, {0.30, 0.86}, {0.285, 0.78}, {0.245, 0.80}, {0.215, 1.08}, {0.175, 1.22},
	{0.165, 1.02}, {0.185, 0.86}, {0.17, 0.52}, {0.125, 0.10}, {0.16, 0.03}, {0.155, 0.0}, {0.04, 0.0}, {0.035, 0.45}, {0.00, 0.80},
}

// figure draws the silhouette in thin slices.
func (j *job) figure(at geom.Vec3, cam *camera, mat int32) {
	right := geom.Vec3{cam.view[0], 0, cam.view[8]}.Norm()
	const rows = 350
	var verts []vertex
	var tris []triangle
	for r := range rows {
		top, bottom := FigureHeight*(1-float64(r)/rows), FigureHeight*(1-float64(r+1)/rows)
		for _, s := range spansAt((top + bottom) / 2) {
			k := int32(len(verts))
			ok := true
			for _, p := range [4]geom.Vec3{{s[0], top}, {s[1], top}, {s[1], bottom}, {s[0], bottom}} {
				v := vertex{c: [3]float32{1, 1, 1}}
				var before bool
				v.x, v.y, v.iw, before = cam.project(at.Add(right.Mul(p[0])).Add(geom.Vec3{0, p[1], 0}))
				ok = ok && before
				verts = append(verts, v)
			}
			if ok {
				tris = append(tris, triangle{a: k, b: k + 1, c: k + 2, material: mat}, triangle{a: k, b: k + 2, c: k + 3, material: mat})
			}
		}
	}
	j.rows(verts, [][]triangle{tris})
}

// spansAt cuts the whole outline at a height and returns what lies inside,
// from left to right.
func spansAt(y float64) [][2]float64 {
	var xs []float64
	for i := 0; i+1 < len(Outline); i++ {
		a, b := Outline[i], Outline[i+1]
		if (a[1] > y) != (b[1] > y) {
			t := (y - a[1]) / (b[1] - a[1])
			x := a[0] + (b[0]-a[0])*t
			xs = append(xs, x, -x)
		}
	}
	for i := 1; i < len(xs); i++ { // few numbers: insertion
		for k := i; k > 0 && xs[k] < xs[k-1]; k-- {
			xs[k], xs[k-1] = xs[k-1], xs[k]
		}
	}
	var out [][2]float64
	for i := 0; i+1 < len(xs); i += 2 {
		out = append(out, [2]float64{xs[i], xs[i+1]})
	}
	return out
}

// drawGround draws lines on the ground, a metre apart, or a power of ten that
// suits the asset.
func drawGround(pix []float32, w, h int, cam *camera, y float64, box geom.Box) {
	d := box.Size()
	span := math.Max(d[0], d[2])
	step := math.Pow(10, math.Round(math.Log10(math.Max(span, 1e-9)/4)))
	c := box.Centre()
	x0, z0 := math.Floor((c[0]-span)/step)*step, math.Floor((c[2]-span)/step)*step
	n := int(2*span/step) + 2
	if n > 200 {
		return
	}
	for i := 0; i <= n; i++ {
		k := float64(i) * step
		line(pix, w, h, cam, geom.Vec3{x0 + k, y, z0}, geom.Vec3{x0 + k, y, z0 + float64(n)*step})
		line(pix, w, h, cam, geom.Vec3{x0, y, z0 + k}, geom.Vec3{x0 + float64(n)*step, y, z0 + k})
	}
}

func line(pix []float32, w, h int, cam *camera, a, b geom.Vec3) {
	const parts = 64
	for i := 0; i < parts; i++ {
		p, q := a.Add(b.Sub(a).Mul(float64(i)/parts)), a.Add(b.Sub(a).Mul(float64(i+1)/parts))
		x0, y0, _, ok0 := cam.project(p)
		x1, y1, _, ok1 := cam.project(q)
		if !ok0 || !ok1 {
			continue
		}
		n := int(math.Max(math.Abs(float64(x1-x0)), math.Abs(float64(y1-y0)))) + 1
		if n > 4*(w+h) {
			continue
		}
		for k := 0; k <= n; k++ {
			t := float32(k) / float32(n)
			x, y := int(x0+(x1-x0)*t), int(y0+(y1-y0)*t)
			if x < 0 || y < 0 || x >= w || y >= h {
				continue
			}
			o := 4 * (y*w + x)
			for c, v := range [3]float32{0.60, 0.55, 0.45} {
				pix[o+c] += (v - pix[o+c]) * 0.5
			}
		}
	}
}
