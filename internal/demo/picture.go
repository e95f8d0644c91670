package demo

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand"
	"sort"
)

// Painted pictures: every texel is computed here, from a seed.

type painter struct {
	*image.NRGBA
	noise *rand.Rand
}

func canvas(w, h int, seed int64) *painter {
	return &painter{image.NewNRGBA(image.Rect(0, 0, w, h)), rand.New(rand.NewSource(seed))}
}

type rgb [3]float64

func (p *painter) each(f func(u, v float64) (rgb, float64)) *painter {
	w, h := p.Rect.Dx(), p.Rect.Dy()
	for y := 0; y < h; y++ {
		for x := 0; x < w; x++ {
			c, a := f((float64(x)+0.5)/float64(w), (float64(y)+0.5)/float64(h))
			grain := (p.noise.Float64() - 0.5) * 0.05
			p.SetNRGBA(x, y, color.NRGBA{to8(c[0] + grain), to8(c[1] + grain), to8(c[2] + grain), to8(a)})
		}
	}
	return p
}

func to8(f float64) uint8 { return uint8(math.Round(255 * math.Max(0, math.Min(1, f)))) }

func mix(a, b rgb, t float64) rgb {
	return rgb{a[0] + (b[0]-a[0])*t, a[1] + (b[1]-a[1])*t, a[2] + (b[2]-a[2])*t}
}

func wave(x float64) float64 { return 0.5 + 0.5*math.Sin(2*math.Pi*x) }

var (
	slateBlue = rgb{0.21, 0.34, 0.42}
	madder    = rgb{0.58, 0.23, 0.18}
	straw     = rgb{0.80, 0.66, 0.38}
	skin      = rgb{0.76, 0.55, 0.43}
	tar       = rgb{0.17, 0.14, 0.12}
	brass     = rgb{0.74, 0.55, 0.22}
	wood      = rgb{0.48, 0.34, 0.22}
	moss      = rgb{0.36, 0.42, 0.24}
)

func in(u, v float64, r rect) bool { return u >= r.u0 && u <= r.u1 && v >= r.v0 && v <= r.v1 }

// keeperCloth: coat, sleeves, trousers, face.
func keeperCloth() *image.NRGBA {
	return canvas(512, 512, 1).each(func(u, v float64) (rgb, float64) {
		weave := 0.06 * (wave(u*96)*wave(v*96) - 0.25)
		shade := func(c rgb) rgb { return rgb{c[0] + weave, c[1] + weave, c[2] + weave} }
		switch {
		case in(u, v, rect{0, 0.5, 0.64, 1}): // head; the face looks along u = 0.455
			c := skin
			du, dv := math.Abs(u-0.455), v
			if dv > 0.84 || dv > 0.74 && du > 0.13 {
				c = rgb{0.36, 0.28, 0.22}
			}
			if d := math.Hypot((du-0.035)*9, (dv-0.775)*16); d < 0.16 {
				c = tar
			}
			if dv > 0.655 && dv < 0.67 && du < 0.03 {
				c = madder
			}
			return c, 1
		case in(u, v, rect{0.64, 0.32, 1, 0.64}):
			return shade(mix(rgb{0.33, 0.29, 0.24}, tar, 0.25*wave(u*10))), 1
		case in(u, v, rect{0.64, 0, 1, 0.32}):
			return shade(mix(straw, rgb{0.90, 0.85, 0.74}, wave(v*14))), 1
		}
		c := slateBlue
		if math.Abs(math.Mod(v*16, 1)-0.5) < 0.06 {
			c = mix(c, straw, 0.8)
		}
		if v < 0.06 {
			c = madder
		}
		if math.Abs(u-0.17) < 0.008 && v > 0.1 {
			c = brass
		}
		return shade(c), 1
	}).NRGBA
}

// keeperGear: boots, hat of reed with gaps, belt, pole, lantern.
func keeperGear() *image.NRGBA {
	return canvas(256, 256, 2).each(func(u, v float64) (rgb, float64) {
		switch {
		case in(u, v, rect{0.5, 0, 1, 0.5}):
			c := mix(straw, rgb{0.55, 0.42, 0.20}, wave(u*60)*wave(v*24))
			if v > 0.24 && v < 0.30 {
				c = madder
			}
			return c, 1
		case in(u, v, rect{0, 0, 0.5, 0.33}):
			return mix(tar, wood, 0.25*wave(v*9)), 1
		case in(u, v, rect{0, 0.33, 0.5, 0.47}):
			if math.Abs(u-0.25) < 0.03 {
				return brass, 1
			}
			return mix(wood, tar, 0.4), 1
		case in(u, v, rect{0.26, 0.5, 0.5, 1}):
			if math.Mod(u*24, 1) < 0.7 && v > 0.6 && v < 0.88 {
				return rgb{0.98, 0.80, 0.42}, 1
			}
			return brass, 1
		case u < 0.26:
			return mix(wood, straw, 0.4*wave(u*40+0.3*wave(v*7))), 1
		}
		return moss, 0
	}).NRGBA
}

func planks(seed int64, base rgb, rows float64) *image.NRGBA {
	return canvas(256, 256, seed).each(func(u, v float64) (rgb, float64) {
		row := math.Floor(v * rows)
		c := mix(base, tar, 0.35*wave(row*0.37)+0.15*wave(u*9+row+0.4*wave(v*60)))
		if f := math.Mod(v*rows, 1); f < 0.06 {
			c = tar
		}
		return c, 1
	}).NRGBA
}

func reedThatch() *image.NRGBA {
	return canvas(256, 256, 5).each(func(u, v float64) (rgb, float64) {
		a := 1.0
		if v > 0.86 && wave(u*31+0.3*wave(u*7)) > 0.62 {
			a = 0
		}
		return mix(straw, rgb{0.46, 0.36, 0.18}, wave(u*48+0.2*wave(v*11))*0.8), a
	}).NRGBA
}

func heronBrass() *image.NRGBA {
	return canvas(256, 256, 6).each(func(u, v float64) (rgb, float64) {
		c := mix(rgb{0.27, 0.42, 0.46}, rgb{0.62, 0.70, 0.70}, 0.5*wave(v*6))
		if v > 0.5 {
			c = mix(rgb{0.72, 0.74, 0.70}, rgb{0.50, 0.54, 0.52}, wave(v*22))
		}
		if u > 0.8 && v > 0.5 && v < 0.8 || v > 0.82 {
			c = mix(brass, wood, 0.4*wave(u*16))
		}
		if d := math.Hypot(math.Mod(u*16, 1)-0.5, math.Mod(v*16, 1)-0.5); d < 0.12 && v < 0.5 {
			c = brass
		}
		return c, 1
	}).NRGBA
}

// The picture format's texel kinds.
const (
	wash5551    = 1
	washIndexed = 2
	washBC1     = 3
)

// wash writes a picture as the game stores it.
func wash(img *image.NRGBA, kind byte) []byte {
	var texels, palette []byte
	switch kind {
	case wash5551:
		for i := 0; i < len(img.Pix); i += 4 {
			p := img.Pix[i : i+4]
			w := uint16(p[0]>>3) | uint16(p[1]>>3)<<5 | uint16(p[2]>>3)<<10
			if p[3] >= 128 {
				w |= 0x8000
			}
			texels = le.AppendUint16(texels, w)
		}
	case washIndexed:
		texels, palette = quantise(img)
	case washBC1:
		texels = encodeBC1(img)
	}
	var w bytes.Buffer
	w.WriteString("WASH")
	header := struct {
		Version         uint16
		Format, _       uint8
		W, H            uint16
		Texels, Palette uint32
		Colours         uint32
	}{Version: 2, Format: kind, W: uint16(img.Rect.Dx()), H: uint16(img.Rect.Dy()), Colours: uint32(len(palette) / 4)}
	size := 4 + binary.Size(header)
	header.Palette = uint32(size)
	header.Texels = uint32(size + len(palette))
	binary.Write(&w, le, header)
	w.Write(palette)
	w.Write(texels)
	return w.Bytes()
}

// quantise picks 256 colours by median cut.
func quantise(img *image.NRGBA) (indices, palette []byte) {
	type px struct{ c [4]byte }
	var all []px
	for i := 0; i < len(img.Pix); i += 4 {
		var c [4]byte
		copy(c[:], img.Pix[i:i+4])
		all = append(all, px{c})
	}
	boxes := [][]px{all}
	widest := func(b []px) (axis, width int) {
		for k := 0; k < 4; k++ {
			lo, hi := 255, 0
			for _, p := range b {
				lo, hi = min(lo, int(p.c[k])), max(hi, int(p.c[k]))
			}
			if hi-lo > width {
				axis, width = k, hi-lo
			}
		}
		return
	}
	for len(boxes) < 256 {
		best, bestScore, bestAxis := -1, 0, 0
		for i, b := range boxes {
			if axis, w := widest(b[:min(len(b), 4096)]); w > 0 && w*len(b) > bestScore {
				best, bestScore, bestAxis = i, w*len(b), axis
			}
		}
		if best < 0 {
			break
		}
		b := boxes[best]
		sort.Slice(b, func(i, j int) bool { return b[i].c[bestAxis] < b[j].c[bestAxis] })
		boxes[best] = b[:len(b)/2]
		boxes = append(boxes, b[len(b)/2:])
	}
	for _, b := range boxes {
		var sum [4]int
		for _, p := range b {
			for k := range sum {
				sum[k] += int(p.c[k])
			}
		}
		for k := range sum {
			palette = append(palette, byte(sum[k]/max(1, len(b))))
		}
	}
	for len(palette) < 4*256 {
		palette = append(palette, 0)
	}
	cache := map[[4]byte]byte{}
	for i := 0; i < len(img.Pix); i += 4 {
		var c [4]byte
		copy(c[:], img.Pix[i:i+4])
		k, ok := cache[c]
		if !ok {
			best := 1 << 30
			for j := 0; j < 256; j++ {
				d := 0
				for n := 0; n < 4; n++ {
					x := int(c[n]) - int(palette[4*j+n])
					d += x * x
				}
				if d < best {
					best, k = d, byte(j)
				}
			}
			cache[c] = k
		}
		indices = append(indices, k)
	}
	return indices, palette
}

// encodeBC1 fits each block's colours to the line between its darkest and
// lightest texel.
func encodeBC1(img *image.NRGBA) []byte {
	var out []byte
	pack := func(c [3]int) uint16 { return uint16(c[0]>>3)<<11 | uint16(c[1]>>2)<<5 | uint16(c[2]>>3) }
	for by := 0; by < img.Rect.Dy(); by += 4 {
		for bx := 0; bx < img.Rect.Dx(); bx += 4 {
			var texel [16][3]int
			lo, hi := 0, 0
			luma := func(c [3]int) int { return 3*c[0] + 6*c[1] + c[2] }
			for i := range texel {
				p := img.Pix[img.PixOffset(bx+i%4, by+i/4):]
				texel[i] = [3]int{int(p[0]), int(p[1]), int(p[2])}
				if luma(texel[i]) < luma(texel[lo]) {
					lo = i
				}
				if luma(texel[i]) > luma(texel[hi]) {
					hi = i
				}
			}
			c0, c1 := pack(texel[hi]), pack(texel[lo])
			a, b := texel[hi], texel[lo]
			if c0 < c1 {
				c0, c1, a, b = c1, c0, b, a
			}
			var bits uint32
			if c0 != c1 {
				for i, t := range texel {
					best, pick := 1<<30, 0
					for k, share := range [4]int{3, 0, 2, 1} { // thirds of a
						d := 0
						for n := 0; n < 3; n++ {
							x := t[n] - (share*a[n]+(3-share)*b[n])/3
							d += x * x
						}
						if d < best {
							best, pick = d, k
						}
					}
					bits |= uint32(pick) << (2 * i)
				}
			}
			out = le.AppendUint16(out, c0)
			out = le.AppendUint16(out, c1)
			out = le.AppendUint32(out, bits)
		}
	}
	return out
}

func pngBytes(img image.Image) []byte {
	var w bytes.Buffer
	png.Encode(&w, img)
	return w.Bytes()
}
