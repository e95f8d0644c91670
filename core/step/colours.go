package step

import (
	"context"
	"image"
	"image/color"
	"math"
	"slices"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// ColoursParams says which way colours go.
type ColoursParams struct {
	Where
	Way  string `json:"way" jsonschema:"title=Way,enum=from-picture,enum=to-picture,enum=to-alpha,description=Vertex colours from the colour picture; a picture of the vertex colours, on UVs that do not overlap; or the brightness of the vertex colours into their alpha"`
	Set  string `json:"set" jsonschema:"title=Colour set,minLength=1,maxLength=200,description=Its name; made or replaced by from-picture"`
	Size int    `json:"size" jsonschema:"title=Picture of,minimum=1,maximum=8192,description=For to-picture: its sides" jsonschema_extras:"unit=px"`
	Drop bool   `json:"drop" jsonschema:"title=Drop what it came from,description=The colour picture, or the colour set"`
}

var _ = register(Kind{Name: "colours", Title: "Vertex colours", Family: Material, On: Parts, Version: 1,
	Purpose: "Put the colour picture into vertex colours, vertex colours into a picture, or their brightness into alpha."},
	ColoursParams{Way: "from-picture", Set: "colour", Size: 1024}, colours)

func colours(ctx context.Context, s *scene.Scene, p ColoursParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	switch p.Way {
	case "to-picture":
		return coloursToPicture(ctx, s, p, r)
	case "to-alpha":
		return coloursToAlpha(s, p, r)
	}
	imgs := map[int]*image.NRGBA{}
	var parts, lacking int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		if err := ctx.Err(); err != nil {
			return *q, err
		}
		if q.Material < 0 || q.Vertices() == 0 {
			return *q, nil
		}
		m := &s.Materials[q.Material]
		t := m.Texture(scene.RoleColour)
		if t == nil {
			return *q, nil
		}
		if s.Pictures[t.Picture].Missing() || t.UVSet >= len(q.UVs) {
			lacking++
			return *q, nil
		}
		img := imgs[t.Picture]
		if img == nil {
			var err error
			if img, err = pixels(&s.Pictures[t.Picture]); err != nil {
				return *q, err
			}
			imgs[t.Picture] = img
		}
		uvs := q.UVs[t.UVSet].Data
		if t.Transform != nil {
			uvs = transformedUVs(uvs, t.Transform)
		}
		set := scene.AttrSet{Name: p.Set, Data: make([]float32, 4*q.Vertices())}
		for v := range q.Vertices() {
			col := colourAt(img, float64(uvs[2*v]), float64(uvs[2*v+1]), t)
			for k := range col {
				set.Data[4*v+k] = float32(col[k])
			}
		}
		parts++
		n := *q
		n.Colours = slices.Clone(q.Colours)
		if k := slices.IndexFunc(n.Colours, func(x scene.AttrSet) bool { return x.Name == p.Set }); k >= 0 {
			n.Colours[k] = set
		} else {
			n.Colours = append(n.Colours, set)
		}
		return n, nil
	})
	if err != nil {
		return nil, err
	}
	if parts == 0 {
		r.Nothing("no chosen part has a colour picture and UVs for it")
		return s, nil
	}
	r.Say("vertex colours of %s taken from pictures", count(parts, "part", "parts"))
	if lacking > 0 {
		r.Say("%s UVs for the colour picture, or it is missing", count(lacking, "part lacks", "parts lack"))
	}
	r.Lose("what pictures show between vertices")
	if !p.Drop {
		return out, nil
	}
	return withoutPictures(out, s, p.Where, scene.RoleColour)
}

// withoutPictures takes the pictures of a role off the materials of what is
// chosen; those that are missing stay named.
func withoutPictures(s, was *scene.Scene, w Where, role scene.Role) (*scene.Scene, error) {
	c, _, err := w.whole(s, &Report{})
	if err != nil {
		return nil, err
	}
	out, err := eachMaterial(s, c, &Report{}, func(_ int, m *scene.Material) bool {
		n := len(m.Textures)
		m.Textures = slices.DeleteFunc(slices.Clone(m.Textures), func(t scene.Texture) bool {
			return t.Role == role && !s.Pictures[t.Picture].Missing()
		})
		return len(m.Textures) != n
	})
	if err != nil {
		return nil, err
	}
	return out.Sweep(was), nil
}

// colourSet is the place of a part's colour set, None if it has none.
func colourSet(q *scene.Part, name string) int {
	return slices.IndexFunc(q.Colours, func(x scene.AttrSet) bool { return x.Name == name })
}

func coloursToAlpha(s *scene.Scene, p ColoursParams, r *Report) (*scene.Scene, error) {
	c, _, err := p.whole(s, &Report{})
	if err != nil {
		return nil, err
	}
	var parts int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		k := colourSet(q, p.Set)
		if k < 0 {
			return *q, nil
		}
		parts++
		n := *q
		n.Colours = slices.Clone(q.Colours)
		d := slices.Clone(q.Colours[k].Data)
		for v := 0; v+3 < len(d); v += 4 {
			d[v+3] = 0.2126*d[v] + 0.7152*d[v+1] + 0.0722*d[v+2] // ITU-R BT.709, of light
			d[v], d[v+1], d[v+2] = 1, 1, 1
		}
		n.Colours[k].Data = d
		return n, nil
	})
	if err != nil {
		return nil, err
	}
	if parts == 0 {
		r.Nothing("no chosen part has a colour set %s", p.Set)
		return s, nil
	}
	r.Say("brightness of %s put into alpha", count(parts, "colour set", "colour sets"))
	r.Lose("their colours, which are white now")
	return out, nil
}

// coloursToPicture draws the vertex colours of all parts of a material onto its
// colour UVs.
func coloursToPicture(ctx context.Context, s *scene.Scene, p ColoursParams, r *Report) (*scene.Scene, error) {
	c, _, err := p.whole(s, &Report{})
	if err != nil {
		return nil, err
	}
	draws := map[int]*colourDrawing{} // by material
	for i := range s.Nodes {
		for j, taken := range c.Parts(i) {
			q := &s.Meshes[s.Nodes[i].Mesh].Parts[j]
			k := colourSet(q, p.Set)
			if !taken || q.Material < 0 || k < 0 || len(q.UVs) == 0 {
				continue
			}
			d := draws[q.Material]
			if d == nil {
				d = newColourDrawing(p.Size)
				draws[q.Material] = d
			}
			if err := d.part(ctx, q, k); err != nil {
				return nil, err
			}
		}
	}
	if len(draws) == 0 {
		r.Nothing("no chosen part has a material, UVs and a colour set %s", p.Set)
		return s, nil
	}
	grown := *s
	h := newShelf(ctx, &grown, Nowhere{}, r)
	var overlaps, texels, outside int
	out, err := eachMaterial(s, c, r, func(i int, m *scene.Material) bool {
		d := draws[i]
		if d == nil {
			return false
		}
		overlaps, texels, outside = overlaps+d.overlaps, texels+d.drawn, outside+d.outside
		d.spread()
		var at int
		if at, err = h.add(d.img, m.Name+"_colours"); err != nil {
			return false
		}
		m.Textures = slices.DeleteFunc(slices.Clone(m.Textures), func(t scene.Texture) bool { return t.Role == scene.RoleColour })
		return bind(m, scene.RoleColour, at, 0)
	})
	if err != nil {
		return nil, err
	}
	if overlaps > texels/200 {
		r.Lose("%.0f%% of the texels are shown by several faces in different colours: the UVs overlap there",
			100*float64(overlaps)/float64(max(1, texels)))
	}
	if outside > 0 {
		r.Lose("the colours of %s: they lie outside of the picture, where UVs repeat it",
			count(outside, "face", "faces"))
	}
	both := *out
	both.Pictures = grown.Pictures
	res := &both
	if p.Drop {
		if res, err = eachPart(res, c, func(q *scene.Part) (scene.Part, error) {
			n := *q
			if n.Material < 0 || len(n.UVs) == 0 { // it was not drawn
				return n, nil
			}
			n.Colours = slices.DeleteFunc(slices.Clone(q.Colours), func(x scene.AttrSet) bool { return x.Name == p.Set })
			return n, nil
		}); err != nil {
			return nil, err
		}
	}
	return h.swept(res, s), nil
}

// colourDrawing is a picture on which faces are drawn by their UVs.
type colourDrawing struct {
	img                      *image.NRGBA
	on                       []bool
	drawn, overlaps, outside int
}

func newColourDrawing(n int) *colourDrawing {
	return &colourDrawing{img: image.NewNRGBA(image.Rect(0, 0, n, n)), on: make([]bool, n*n)}
}

// part draws the faces of a part by its first UV set, each texel whose middle a
// face holds in the colour between its corners.
func (d *colourDrawing) part(ctx context.Context, q *scene.Part, set int) error {
	n := d.img.Rect.Dx()
	uv, col := q.UVs[0].Data, q.Colours[set].Data
	for t := 0; t+2 < len(q.Triangles); t += 3 {
		var x, y [3]float64
		for k, v := range q.Triangles[t : t+3] {
			x[k], y[k] = float64(uv[2*v])*float64(n)-0.5, float64(uv[2*v+1])*float64(n)-0.5
		}
		if t%(3<<10) == 0 && ctx.Err() != nil { // large faces take long
			return ctx.Err()
		}
		if min(x[0], x[1], x[2], y[0], y[1], y[2]) < -1 || max(x[0], x[1], x[2], y[0], y[1], y[2]) > float64(n) {
			d.outside++
		}
		area := (x[1]-x[0])*(y[2]-y[0]) - (x[2]-x[0])*(y[1]-y[0])
		if area == 0 {
			continue
		}
		for j := max(0, int(math.Ceil(min(y[0], y[1], y[2])))); j <= min(n-1, int(max(y[0], y[1], y[2]))); j++ {
			for i := max(0, int(math.Ceil(min(x[0], x[1], x[2])))); i <= min(n-1, int(max(x[0], x[1], x[2]))); i++ {
				px, py := float64(i), float64(j)
				w0 := ((x[1]-px)*(y[2]-py) - (x[2]-px)*(y[1]-py)) / area
				w1 := ((x[2]-px)*(y[0]-py) - (x[0]-px)*(y[2]-py)) / area
				w2 := 1 - w0 - w1
				if w0 < 0 || w1 < 0 || w2 < 0 {
					continue
				}
				var c [4]float64
				for k, w := range []float64{w0, w1, w2} {
					for e := range c {
						c[e] += w * float64(col[4*q.Triangles[t+k]+uint32(e)])
					}
				}
				alpha := uint8(math.Round(255 * min(1, max(0, c[3]))))
				d.put(i, j, color.NRGBA{pixel.Stored(c[0]), pixel.Stored(c[1]), pixel.Stored(c[2]), alpha})
			}
		}
	}
	return nil
}

// seen is the least difference of a channel that counts as another colour.
const seen = 8

func (d *colourDrawing) put(x, y int, c color.NRGBA) {
	at := y*d.img.Rect.Dx() + x
	if d.on[at] {
		was := d.img.NRGBAAt(x, y)
		for _, pair := range [][2]uint8{{was.R, c.R}, {was.G, c.G}, {was.B, c.B}, {was.A, c.A}} {
			if max(pair[0], pair[1])-min(pair[0], pair[1]) > seen {
				d.overlaps++
				break
			}
		}
		return
	}
	d.on[at] = true
	d.drawn++
	d.img.SetNRGBA(x, y, c)
}

// rimTexels is how far colours go on past the faces, so that nothing else shows
// at their edges from afar.
const rimTexels = 4

// spread lets each texel beside one that is drawn have its colour.
func (d *colourDrawing) spread() {
	n := d.img.Rect.Dx()
	for range rimTexels {
		was := slices.Clone(d.on)
		for y := range n {
			for x := range n {
				if was[y*n+x] {
					continue
				}
				for _, s := range [][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
					if i, j := x+s[0], y+s[1]; i >= 0 && j >= 0 && i < n && j < n && was[j*n+i] {
						d.img.SetNRGBA(x, y, d.img.NRGBAAt(i, j))
						d.on[y*n+x] = true
						break
					}
				}
			}
		}
	}
}

// colourAt samples a picture between texels, as light with alpha.
func colourAt(img *image.NRGBA, u, v float64, t *scene.Texture) [4]float64 {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	x, y := u*float64(w)-0.5, v*float64(h)-0.5
	fx, fy := math.Floor(x), math.Floor(y)
	var out [4]float64
	for k := range 4 {
		i, j := int(fx)+k%2, int(fy)+k/2
		wx, wy := 1-math.Abs(x-float64(i)), 1-math.Abs(y-float64(j))
		c := img.NRGBAAt(wrapped(i, w, t.WrapU), wrapped(j, h, t.WrapV))
		by := wx * wy
		out[0] += by * pixel.Light(c.R)
		out[1] += by * pixel.Light(c.G)
		out[2] += by * pixel.Light(c.B)
		out[3] += by * float64(c.A) / 255
	}
	return out
}

// wrapped is the texel that stands for one outside.
func wrapped(i, n int, w scene.Wrap) int {
	switch w {
	case scene.Clamp:
		return min(n-1, max(0, i))
	case scene.Mirror:
		if i = ((i % (2 * n)) + 2*n) % (2 * n); i >= n {
			i = 2*n - 1 - i
		}
		return i
	}
	return ((i % n) + n) % n
}
