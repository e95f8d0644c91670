package appraise

import (
	"bytes"
	"fmt"
	"image"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// PictureRow is a picture that both scenes use in the same place: a material
// and a role. Most and Mean are differences of channels, of 255, where both
// have the same size.
type PictureRow struct {
	Row
	PictureA int     `json:"pictureA"` // -1 if it has none
	PictureB int     `json:"pictureB"`
	Most     int     `json:"most"`
	Mean     float64 `json:"mean"`
}

// meanMost is the mean difference of channels up to which pictures count as
// the same: that of a good block compression.
const meanMost = 1.5

func pictures(a, b *scene.Scene) []PictureRow {
	out := []PictureRow{}
	other := map[string]*scene.Material{}
	for i := range b.Materials {
		other[b.Materials[i].Name] = &b.Materials[i]
	}
	type pair struct{ a, b int }
	seen := map[pair]bool{}
	for i := range a.Materials {
		m := &a.Materials[i]
		o := other[m.Name]
		if o == nil && len(a.Materials) == 1 && len(b.Materials) == 1 {
			o = &b.Materials[0]
		}
		for _, t := range m.Textures {
			r := PictureRow{Row: Row{Name: m.Name + ", " + string(t.Role), A: sized(a, t.Picture)}, PictureA: t.Picture, PictureB: -1}
			if o != nil {
				if u := o.Texture(t.Role); u != nil {
					if seen[pair{t.Picture, u.Picture}] {
						continue
					}
					seen[pair{t.Picture, u.Picture}] = true
					r.PictureB, r.B = u.Picture, sized(b, u.Picture)
					r.between(&a.Pictures[t.Picture], &b.Pictures[u.Picture])
				}
			}
			r.Differ = r.Differ || r.A != r.B
			out = append(out, r)
		}
	}
	return out
}

func sized(s *scene.Scene, n int) string {
	p := &s.Pictures[n]
	if p.Missing() {
		return "missing"
	}
	return fmt.Sprintf("%d × %d", p.Width, p.Height)
}

// between measures two pictures of one size.
func (r *PictureRow) between(a, b *scene.Picture) {
	if a.Missing() || b.Missing() || bytes.Equal(a.Data, b.Data) || a.Width != b.Width || a.Height != b.Height {
		return
	}
	x, errX := pixel.DecodePicture(a.Data, a.MIME)
	y, errY := pixel.DecodePicture(b.Data, b.MIME)
	if errX != nil || errY != nil {
		r.Differ = true
		return
	}
	p, q := pixel.ToNRGBA(x), pixel.ToNRGBA(y)
	sum := 0
	for i, v := range p.Pix {
		d := max(int(v), int(q.Pix[i])) - min(int(v), int(q.Pix[i]))
		sum += d
		r.Most = max(r.Most, d)
	}
	r.Mean = float64(sum) / float64(max(len(p.Pix), 1))
	r.Differ = r.Mean > meanMost
}

// Difference is how far each texel of two pictures is from the other: the
// largest difference is white. b is looked at in a's size, by the nearest
// texel.
func Difference(a, b *image.NRGBA) *image.NRGBA {
	w, h := a.Rect.Dx(), a.Rect.Dy()
	out := image.NewNRGBA(a.Rect)
	if b.Rect.Empty() {
		return out
	}
	most := 1
	at := func(x, y int) (p, q []byte) {
		return a.Pix[y*a.Stride+4*x:][:4], b.Pix[y*b.Rect.Dy()/h*b.Stride+4*(x*b.Rect.Dx()/w):][:4]
	}
	apart := func(p, q byte) int { return max(int(p), int(q)) - min(int(p), int(q)) }
	for y := range h {
		for x := range w {
			p, q := at(x, y)
			for c := range 4 {
				most = max(most, apart(p[c], q[c]))
			}
		}
	}
	for y := range h {
		for x := range w {
			p, q := at(x, y)
			o := out.Pix[y*out.Stride+4*x:][:4]
			alpha := apart(p[3], q[3])
			for c := range 3 {
				o[c] = byte(max(apart(p[c], q[c]), alpha) * 255 / most)
			}
			o[3] = 255
		}
	}
	return out
}
