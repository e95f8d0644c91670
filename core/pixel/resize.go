package pixel

import (
	"image"
	"math"

	"golang.org/x/image/draw"
)

// Resized scales a picture: colours as light and weighted by their alpha,
// normals to length 1 again, numbers as they are.
func Resized(img *image.NRGBA, w, h int, m Meaning) *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, w, h))
	switch m {
	case Colour:
		// image.RGBA64 is premultiplied, which is what scaling light needs.
		lin := image.NewRGBA64(img.Rect)
		for i, k := 0, 0; i < len(img.Pix); i, k = i+4, k+8 {
			a := float64(img.Pix[i+3]) / 255
			for c := range 3 {
				put16(lin.Pix[k+2*c:], float64(toLinear[img.Pix[i+c]])*a)
			}
			put16(lin.Pix[k+6:], a)
		}
		small := image.NewRGBA64(out.Rect)
		draw.CatmullRom.Scale(small, small.Rect, lin, lin.Rect, draw.Src, nil)
		for i, k := 0, 0; i < len(out.Pix); i, k = i+4, k+8 {
			a := get16(small.Pix[k+6:])
			for c := range 3 {
				x := get16(small.Pix[k+2*c:])
				if a > 0 {
					x /= a
				}
				out.Pix[i+c] = Stored(x)
			}
			out.Pix[i+3] = uint8(math.Round(255 * a))
		}
	default:
		Planes(out, img, func(dst, src *image.Gray) { draw.CatmullRom.Scale(dst, dst.Rect, src, src.Rect, draw.Src, nil) })
		if m == Normal {
			straighten(out)
		}
	}
	return out
}

// straighten makes normals of length 1 again.
func straighten(img *image.NRGBA) {
	for i := 0; i < len(img.Pix); i += 4 {
		var n [3]float64
		for k := range n {
			n[k] = float64(img.Pix[i+k])/127.5 - 1
		}
		l := math.Sqrt(n[0]*n[0] + n[1]*n[1] + n[2]*n[2])
		if l == 0 {
			continue
		}
		for k := range n {
			img.Pix[i+k] = uint8(math.Round(127.5 * (n[k]/l + 1)))
		}
	}
}

func put16(b []byte, x float64) {
	v := uint16(math.Round(65535 * min(1, max(0, x))))
	b[0], b[1] = byte(v>>8), byte(v)
}

func get16(b []byte) float64 { return float64(uint16(b[0])<<8|uint16(b[1])) / 65535 }

// Light is the linear light of a stored value (IEC 61966-2-1).
func Light(v uint8) float64 { return float64(toLinear[v]) }

// Stored is the value by which a linear light is stored.
func Stored(x float64) uint8 {
	if x = min(1, max(0, x)); x <= 0.0031308 {
		return uint8(math.Round(255 * 12.92 * x))
	}
	return uint8(math.Round(255 * (1.055*math.Pow(x, 1/2.4) - 0.055)))
}

// Planes does something to each channel by itself.
func Planes(dst, src *image.NRGBA, f func(dst, src *image.Gray)) {
	for k := range 4 {
		from, to := image.NewGray(src.Rect), image.NewGray(dst.Rect)
		for i := range from.Pix {
			from.Pix[i] = src.Pix[4*i+k]
		}
		f(to, from)
		for i := range to.Pix {
			dst.Pix[4*i+k] = to.Pix[i]
		}
	}
}
