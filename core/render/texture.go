package render

import (
	"image"
	"math"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// texture is a material as it is drawn.
type texture struct {
	levels       []*image.NRGBA
	wrapU, wrapV scene.Wrap
	set          int // the UV set
	moved        *scene.UVTransform
	hasTexture   bool
	colour       [4]float32
	alpha        scene.AlphaMode
	cutoff       float32
	unlit        bool
	flat         bool // no lighting at all: figure and ground
}

func (j *job) materials(s *scene.Scene) {
	cache := map[int][]*image.NRGBA{}
	for i := range s.Materials {
		m := &s.Materials[i]
		t := texture{colour: m.BaseColour, alpha: m.Alpha, cutoff: m.Cutoff, unlit: m.Unlit}
		if tx := m.Texture(scene.RoleColour); tx != nil {
			t.wrapU, t.wrapV, t.set, t.moved = tx.WrapU, tx.WrapV, tx.UVSet, tx.Transform
			levels, ok := cache[tx.Picture]
			if !ok {
				levels = mips(&s.Pictures[tx.Picture])
				cache[tx.Picture] = levels
			}
			t.levels, t.hasTexture = levels, len(levels) > 0
			if !t.hasTexture { // a missing picture is shown as plain clay
				t.colour = [4]float32{0.36, 0.33, 0.28, 1}
				t.alpha = scene.Opaque
			}
		}
		j.mats = append(j.mats, t)
	}
}

// mips decodes a picture and halves it down to one texel.
func mips(p *scene.Picture) []*image.NRGBA {
	if p.Missing() {
		return nil
	}
	img, err := pixel.DecodePicture(p.Data, p.MIME)
	if err != nil {
		return nil
	}
	base := pixel.ToNRGBA(img)
	levels := []*image.NRGBA{base}
	for base.Rect.Dx() > 1 && base.Rect.Dy() > 1 {
		w, h := base.Rect.Dx()/2, base.Rect.Dy()/2
		next := image.NewNRGBA(image.Rect(0, 0, w, h))
		for y := range h {
			a, b := base.Pix[2*y*base.Stride:][:8*w], base.Pix[(2*y+1)*base.Stride:][:8*w]
			o := next.Pix[y*next.Stride:][:4*w]
			for x := 0; x < len(o); x += 4 {
				p, q, r := a[2*x:2*x+8:2*x+8], b[2*x:2*x+8:2*x+8], o[x:x+4:x+4]
				for k := range 4 {
					r[k] = byte((uint(p[k]) + uint(p[4+k]) + uint(q[k]) + uint(q[4+k]) + 2) / 4)
				}
			}
		}
		levels = append(levels, next)
		base = next
	}
	return levels
}

func (m *texture) sample(u, v float32, level int) (r, g, b, a float32) {
	img := m.levels[level]
	w, h := img.Rect.Dx(), img.Rect.Dy()
	x, y := place(u, w, m.wrapU), place(v, h, m.wrapV)
	p := img.Pix[y*img.Stride+4*x:]
	return linear[p[0]], linear[p[1]], linear[p[2]], float32(p[3]) / 255
}

func place(u float32, n int, wrap scene.Wrap) int {
	switch wrap {
	case scene.Clamp:
		u = min(max(u, 0), 1)
	case scene.Mirror:
		k := float32(math.Floor(float64(u)))
		u -= k
		if int64(k)&1 != 0 {
			u = 1 - u
		}
	default:
		u -= float32(math.Floor(float64(u)))
	}
	i := int(u * float32(n))
	return min(max(i, 0), n-1)
}

// The sRGB transfer function, IEC 61966-2-1.
var linear = func() (t [256]float32) {
	for i := range t {
		c := float64(i) / 255
		if c <= 0.04045 {
			t[i] = float32(c / 12.92)
		} else {
			t[i] = float32(math.Pow((c+0.055)/1.055, 2.4))
		}
	}
	return t
}()

func toLinear(b uint8) float32 { return linear[b] }

var srgb = func() (t [4097]uint8) {
	for i := range t {
		c := float64(i) / 4096
		if c <= 0.0031308 {
			c *= 12.92
		} else {
			c = 1.055*math.Pow(c, 1/2.4) - 0.055
		}
		t[i] = uint8(math.Round(c * 255))
	}
	return t
}()

func toSRGB(f float32) uint8 { return srgb[int(min(max(f, 0), 1)*4096)] }
