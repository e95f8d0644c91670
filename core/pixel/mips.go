package pixel

import (
	"image"
	"math"
)

// Meaning is what a picture's numbers are, which decides how they may be
// mixed.
type Meaning string

// The meanings.
const (
	Colour Meaning = "colour" // as screens show it (IEC 61966-2-1); mixed in linear light, by alpha
	Plain  Meaning = "plain"  // numbers as they stand: masks, roughness
	Normal Meaning = "normal" // directions; mixed and made unit length again
)

var (
	toLinear = func() (t [256]float32) {
		for i := range t {
			v := float64(i) / 255
			if v <= 0.04045 {
				v /= 12.92
			} else {
				v = math.Pow((v+0.055)/1.055, 2.4)
			}
			t[i] = float32(v)
		}
		return t
	}()
	toDisplay = func() *[4096]byte { // by linear light in 4096ths
		t := new([4096]byte)
		for i := range t {
			x := (float64(i) + 0.5) / 4096
			if x <= 0.0031308 {
				x *= 12.92
			} else {
				x = 1.055*math.Pow(x, 1/2.4) - 0.055
			}
			t[i] = byte(math.Round(255 * x))
		}
		return t
	}()
)

// Mips are a picture and its halves down to one texel, each the mean of two by
// two texels of the one before.
func Mips(img *image.NRGBA, m Meaning) []*image.NRGBA {
	out := []*image.NRGBA{img}
	for img.Rect.Dx() > 1 || img.Rect.Dy() > 1 {
		img = half(img, m)
		out = append(out, img)
	}
	return out
}

func half(img *image.NRGBA, m Meaning) *image.NRGBA {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	out := image.NewNRGBA(image.Rect(0, 0, max(w/2, 1), max(h/2, 1)))
	for y := range out.Rect.Dy() {
		for x := range out.Rect.Dx() {
			// With odd sides the last column and row are mixed into the last texels.
			x1, y1 := min(2*x+2, w), min(2*y+2, h)
			if x == out.Rect.Dx()-1 {
				x1 = w
			}
			if y == out.Rect.Dy()-1 {
				y1 = h
			}
			var sum [4]float32
			var weight, n float32
			for sy := 2 * y; sy < y1; sy++ {
				for sx := 2 * x; sx < x1; sx++ {
					p := img.Pix[sy*img.Stride+4*sx:][:4]
					n++
					switch m {
					case Colour:
						a := float32(p[3]) + 1e-3 // clear texels lend their colour only where all are clear
						weight += a
						for c := range 3 {
							sum[c] += a * toLinear[p[c]]
						}
					case Normal:
						for c := range 3 {
							sum[c] += float32(p[c])/127.5 - 1
						}
					default:
						for c := range 3 {
							sum[c] += float32(p[c])
						}
					}
					sum[3] += float32(p[3])
				}
			}
			o := out.Pix[y*out.Stride+4*x:][:4]
			switch m {
			case Colour:
				for c := range 3 {
					o[c] = toDisplay[min(int(sum[c]/weight*4096), 4095)]
				}
			case Normal:
				l := float32(math.Sqrt(float64(sum[0]*sum[0] + sum[1]*sum[1] + sum[2]*sum[2])))
				if l < 1e-6 {
					sum, l = [4]float32{0, 0, 1, sum[3]}, 1
				}
				for c := range 3 {
					o[c] = byte((sum[c]/l+1)*127.5 + 0.5)
				}
			default:
				for c := range 3 {
					o[c] = byte(sum[c]/n + 0.5)
				}
			}
			o[3] = byte(sum[3]/n + 0.5)
		}
	}
	return out
}
