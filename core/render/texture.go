package render

import (
	"image"
	"math"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// sampler is a picture, from its own size down to one texel.
type sampler struct {
	levels       []*image.NRGBA
	wrapU, wrapV scene.Wrap
}

// texture is a material as it is drawn.
type texture struct {
	sampler
	set        int // the UV set
	moved      *scene.UVTransform
	hasTexture bool
	colour     [4]float32
	emits      bool
	emission   [3]float32
	glow       sampler // of the emission, on the same UV set; without levels it is even
	shift      int     // how many levels more it has than the colour
	alpha      scene.AlphaMode
	cutoff     float32
	unlit      bool
	flat       bool // no lighting at all: figure and ground
}

func (j *job) materials(s *scene.Scene) {
	cache := map[int][]*image.NRGBA{}
	picture := func(k int) []*image.NRGBA {
		levels, ok := cache[k]
		if !ok {
			levels = mips(&s.Pictures[k])
			cache[k] = levels
		}
		return levels
	}
	for i := range s.Materials {
		m := &s.Materials[i]
		t := texture{colour: m.BaseColour, alpha: m.Alpha, cutoff: m.Cutoff, unlit: m.Unlit}
		if tx := m.Texture(scene.RoleColour); tx != nil {
			t.wrapU, t.wrapV, t.set, t.moved = tx.WrapU, tx.WrapV, tx.UVSet, tx.Transform
			t.levels = picture(tx.Picture)
			t.hasTexture = len(t.levels) > 0
			if !t.hasTexture { // a missing picture is shown as plain clay
				t.colour = [4]float32{0.36, 0.33, 0.28, 1}
				t.alpha = scene.Opaque
			}
		}
		t.shine(m, picture)
		j.mats = append(j.mats, t)
	}
}

// shine is what a material emits. A picture of it that lies otherwise than the
// colour's counts with its average.
func (t *texture) shine(m *scene.Material, picture func(int) []*image.NRGBA) {
	t.emission = m.Emissive
	t.emits = t.emission != [3]float32{}
	tx := m.Texture(scene.RoleEmission)
	if !t.emits || tx == nil {
		return
	}
	levels := picture(tx.Picture)
	colour := m.Texture(scene.RoleColour)
	switch {
	case len(levels) == 0: // missing: nothing tells where it shines
		t.emits = false
	case colour == nil:
		t.set, t.moved = tx.UVSet, tx.Transform
		t.glow = sampler{levels, tx.WrapU, tx.WrapV}
	case tx.UVSet == t.set && (tx.Transform == t.moved || tx.Transform != nil && t.moved != nil && *tx.Transform == *t.moved):
		t.glow = sampler{levels, tx.WrapU, tx.WrapV}
		t.shift = len(levels) - len(t.levels)
	default:
		r, g, b, _ := (&sampler{levels: levels}).sample(0, 0, len(levels)-1)
		t.emission = [3]float32{t.emission[0] * r, t.emission[1] * g, t.emission[2] * b}
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

func (m *sampler) sample(u, v float32, level int) (r, g, b, a float32) {
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
