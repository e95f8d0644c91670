package unfold

import (
	"context"
	"errors"
	"image"
	"image/color"
	"math"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Bleed is how far colours reach beyond the edges of faces, mm, so that a cut a
// little beside its line shows no white.
const Bleed = 1.5

// Paint is the printed ground of a page at so many dots to the inch: pictures and
// colours of the faces, white elsewhere.
func (sh *Sheet) Paint(ctx context.Context, page int, dpi float64) (*image.NRGBA, error) {
	return sh.paint(ctx, page, dpi, sh.pictures())
}

func (sh *Sheet) paint(ctx context.Context, page int, dpi float64, pics map[int]*image.NRGBA) (*image.NRGBA, error) {
	c := newCanvas(sh, dpi)
	c.pics = pics
	for i := range sh.Pieces {
		if sh.Pieces[i].Page != page {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for f := range sh.Pieces[i].Faces {
			for _, t := range sh.Pieces[i].Faces[f].triangles {
				c.triangle(&t)
			}
		}
	}
	c.bleed(int(Bleed*c.scale + 0.5))
	return c.img, nil
}

// grounds are the printed grounds of all pages, encoded; nil where there is
// nothing to print but lines.
func (sh *Sheet) grounds(ctx context.Context, o Print,
	encode func(page int, img *image.NRGBA) ([]byte, error)) ([][]byte, error) {
	if o.Bare || !sh.Coloured() {
		return nil, nil
	}
	pics := sh.pictures()
	out, faults := make([][]byte, sh.Pages), make([]error, sh.Pages)
	parallel.Share(sh.Pages, 1, func(from, to int) {
		for page := from; page < to; page++ {
			img, err := sh.paint(ctx, page, o.dpi(), pics)
			if err == nil {
				out[page], err = encode(page, img)
			}
			faults[page] = err
		}
	})
	return out, errors.Join(faults...)
}

// Coloured tells whether a page has anything to print but lines.
func (sh *Sheet) Coloured() bool {
	for i := range sh.scene.Materials {
		m := &sh.scene.Materials[i]
		if m.BaseColour != [4]float32{1, 1, 1, 1} || m.Texture(scene.RoleColour) != nil {
			return true
		}
	}
	for i := range sh.scene.Meshes {
		for k := range sh.scene.Meshes[i].Parts {
			if len(sh.scene.Meshes[i].Parts[k].Colours) > 0 {
				return true
			}
		}
	}
	return false
}

// pictures decodes the colour pictures that materials show; nil is one that is
// not there or cannot be read.
func (sh *Sheet) pictures() map[int]*image.NRGBA {
	out := map[int]*image.NRGBA{}
	for i := range sh.scene.Materials {
		t := sh.scene.Materials[i].Texture(scene.RoleColour)
		if t == nil {
			continue
		}
		if _, ok := out[t.Picture]; ok {
			continue
		}
		out[t.Picture] = nil
		p := &sh.scene.Pictures[t.Picture]
		if img, err := pixel.DecodePicture(p.Data, p.MIME); err == nil {
			out[t.Picture] = pixel.ToNRGBA(img)
		}
	}
	return out
}

type canvas struct {
	sh     *Sheet
	img    *image.NRGBA
	scale  float64 // dots a millimetre
	done   []bool  // dots that a face covers
	next   []bool  // dots that are about to be
	pics   map[int]*image.NRGBA
	linear [256]float32
}

func newCanvas(sh *Sheet, dpi float64) *canvas {
	c := &canvas{sh: sh, scale: dpi / 25.4, linear: format.Bytes8}
	w, h := int(math.Ceil(sh.Options.Paper.Width*c.scale)), int(math.Ceil(sh.Options.Paper.Height*c.scale))
	c.img = image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range c.img.Pix {
		c.img.Pix[i] = 255
	}
	c.done, c.next = make([]bool, w*h), make([]bool, w*h)
	return c
}

// triangle fills the dots whose centres lie in one.
func (c *canvas) triangle(t *flatTriangle) {
	look := c.lookOf(t)
	p := t.corners
	area := turn(p[0], p[1], p[2])
	if area == 0 {
		return
	}
	w, h := c.img.Rect.Dx(), c.img.Rect.Dy()
	for y := max(0, int(t.low[1]*c.scale)); y <= min(h-1, int(t.high[1]*c.scale)); y++ {
		for x := max(0, int(t.low[0]*c.scale)); x <= min(w-1, int(t.high[0]*c.scale)); x++ {
			q := Point{(float64(x) + 0.5) / c.scale, (float64(y) + 0.5) / c.scale}
			a, b := turn(p[1], p[2], q)/area, turn(p[2], p[0], q)/area
			if g := 1 - a - b; a < 0 || b < 0 || g < 0 {
				continue
			}
			c.img.SetNRGBA(x, y, look.at(c, geom.Vec3{a, b, 1 - a - b}))
			c.done[y*w+x] = true
		}
	}
}

// look is what a triangle shows: its part's material, with what lies at its
// corners.
type look struct {
	colour  [4]float32
	corners [3][4]float32 // vertex colours
	picture *image.NRGBA
	texture *scene.Texture
	uv      [3][2]float64
	cutoff  float32
}

func (c *canvas) lookOf(t *flatTriangle) (l look) {
	x := &c.sh.model.Triangles[t.of]
	s := c.sh.scene
	p := &s.Meshes[s.Nodes[x.Node].Mesh].Parts[x.Part]
	l.colour = [4]float32{1, 1, 1, 1}
	if p.Material >= 0 {
		m := &s.Materials[p.Material]
		l.colour = m.BaseColour
		if m.Alpha == scene.Cutout {
			l.cutoff = m.Cutoff
		} else if m.Alpha == scene.Opaque {
			l.cutoff = -1
		}
		if l.texture = m.Texture(scene.RoleColour); l.texture != nil {
			l.picture = c.pics[l.texture.Picture]
		}
	}
	for k := range 3 {
		var uv [2]float64
		col := [4]float32{}
		for j := range 3 {
			weight := c.sh.model.within[t.of][k][j]
			v := int(p.Triangles[3*int(x.From)+j])
			if l.texture != nil && l.texture.UVSet < len(p.UVs) {
				d := p.UVs[l.texture.UVSet].Data[2*v:]
				uv[0], uv[1] = uv[0]+weight*float64(d[0]), uv[1]+weight*float64(d[1])
			}
			for m := range 4 {
				if len(p.Colours) > 0 {
					col[m] += float32(weight) * p.Colours[0].Data[4*v+m]
				} else {
					col[m] += float32(weight)
				}
			}
		}
		l.uv[k], l.corners[k] = uv, col
	}
	return l
}

// at is the colour at weights of the corners, over white paper.
func (l *look) at(c *canvas, w geom.Vec3) color.NRGBA {
	v := l.colour
	for m := range 4 {
		v[m] *= l.corners[0][m]*float32(w[0]) + l.corners[1][m]*float32(w[1]) + l.corners[2][m]*float32(w[2])
	}
	if l.picture != nil {
		u := l.uv[0][0]*w[0] + l.uv[1][0]*w[1] + l.uv[2][0]*w[2]
		t := l.uv[0][1]*w[0] + l.uv[1][1]*w[1] + l.uv[2][1]*w[2]
		if x := l.texture.Transform; x != nil {
			a, b := x.Apply(float32(u), float32(t))
			u, t = float64(a), float64(b)
		}
		for m, k := range c.texel(l, u, t) {
			v[m] *= k
		}
	}
	alpha := v[3]
	switch {
	case l.cutoff < 0:
		alpha = 1
	case l.cutoff > 0 && alpha >= l.cutoff:
		alpha = 1
	case l.cutoff > 0:
		alpha = 0
	}
	var out color.NRGBA
	for m, to := range []*uint8{&out.R, &out.G, &out.B} {
		x := min(max(v[m]*alpha+1-alpha, 0), 1)
		*to = display[int(x*float32(len(display)-1)+0.5)]
	}
	out.A = 255
	return out
}

// texel is a picture's colour between four texels, linear.
func (c *canvas) texel(l *look, u, v float64) (out [4]float32) {
	w, h := l.picture.Rect.Dx(), l.picture.Rect.Dy()
	x, y := u*float64(w)-0.5, v*float64(h)-0.5
	if l.texture.Nearest {
		x, y = math.Floor(x+0.5), math.Floor(y+0.5)
	}
	x0, y0 := math.Floor(x), math.Floor(y)
	for i := range 4 {
		dx, dy := float64(i&1), float64(i>>1)
		weight := float32((1 - math.Abs(x-x0-dx)) * (1 - math.Abs(y-y0-dy)))
		if weight <= 0 {
			continue
		}
		q := l.picture.PixOffset(wrapped(x0+dx, w, l.texture.WrapU), wrapped(y0+dy, h, l.texture.WrapV))
		p := l.picture.Pix[q : q+4]
		for m := range 3 {
			out[m] += weight * c.linear[p[m]]
		}
		out[3] += weight * float32(p[3]) / 255
	}
	return out
}

// wrapped is a texel's number within a side of n.
func wrapped(at float64, n int, wrap scene.Wrap) int {
	if !(math.Abs(at) < 1e15) {
		return 0
	}
	i := int(at)
	switch wrap {
	case scene.Clamp:
		return max(0, min(n-1, i))
	case scene.Mirror:
		if i = (i%(2*n) + 2*n) % (2 * n); i >= n {
			i = 2*n - 1 - i
		}
		return i
	}
	if i < 0 || i >= n {
		i = (i%n + n) % n
	}
	return i
}

// display has format.Display8 of 0 to 1 in steps of 1/8191, less than half a step
// of what a byte can show.
var display = func() (t [8192]uint8) {
	for i := range t {
		t[i] = format.Display8(float32(i) / float32(len(t)-1))
	}
	return t
}()

// bleed lets colours grow outwards by some dots: each new one has the mean of
// its neighbours.
func (c *canvas) bleed(dots int) {
	w, h := c.img.Rect.Dx(), c.img.Rect.Dy()
	var rim []int
	for i, d := range c.done {
		if d {
			rim = append(rim, i)
		}
	}
	for range dots {
		var next []int
		var colours []color.NRGBA
		for _, i := range rim {
			x, y := i%w, i/w
			for _, q := range [4][2]int{{x - 1, y}, {x + 1, y}, {x, y - 1}, {x, y + 1}} {
				j := q[1]*w + q[0]
				if q[0] < 0 || q[1] < 0 || q[0] >= w || q[1] >= h || c.done[j] || c.next[j] {
					continue
				}
				c.next[j] = true
				next, colours = append(next, j), append(colours, c.around(q[0], q[1]))
			}
		}
		for k, j := range next {
			c.img.SetNRGBA(j%w, j/w, colours[k])
			c.done[j] = true
		}
		rim = next
	}
}

func (c *canvas) around(x, y int) color.NRGBA {
	w, h := c.img.Rect.Dx(), c.img.Rect.Dy()
	var sum [3]int
	n := 0
	for dy := -1; dy <= 1; dy++ {
		for dx := -1; dx <= 1; dx++ {
			if u, v := x+dx, y+dy; u >= 0 && v >= 0 && u < w && v < h && c.done[v*w+u] {
				p := c.img.NRGBAAt(u, v)
				sum[0], sum[1], sum[2], n = sum[0]+int(p.R), sum[1]+int(p.G), sum[2]+int(p.B), n+1
			}
		}
	}
	n = max(n, 1)
	return color.NRGBA{uint8(sum[0] / n), uint8(sum[1] / n), uint8(sum[2] / n), 255}
}
