package pixel

import (
	"bytes"
	"image"
	"image/color"
	"math/rand"
	"testing"
)

// hidden is a picture that tells nothing of how it is kept.
type hidden struct{ image.Image }

// Every kind of picture is read as its own texels say, whole or a part of it.
func TestToNRGBA(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	noise := func(b []byte) []byte { r.Read(b); return b }
	in := image.Rect(3, 5, 20, 16)
	rgba := image.NewRGBA(in)
	noise(rgba.Pix)
	for i := 0; i < len(rgba.Pix); i += 4 { // premultiplied: no channel above alpha
		for c := range 3 {
			rgba.Pix[i+c] = byte(int(rgba.Pix[i+c]) * int(rgba.Pix[i+3]) / 255)
		}
	}
	nrgba, gray := image.NewNRGBA(in), image.NewGray(in)
	noise(nrgba.Pix)
	noise(gray.Pix)
	var p color.Palette
	for range 40 {
		p = append(p, color.NRGBA{byte(r.Intn(256)), byte(r.Intn(256)), byte(r.Intn(256)), byte(r.Intn(256))})
	}
	pal := image.NewPaletted(in, p)
	for i := range pal.Pix {
		pal.Pix[i] = byte(r.Intn(40))
	}
	full := image.NewYCbCr(in, image.YCbCrSubsampleRatio444)
	noise(full.Y)
	noise(full.Cb)
	noise(full.Cr)
	part := image.Rect(4, 7, 13, 15)
	for name, img := range map[string]image.Image{
		"rgba": rgba, "nrgba": nrgba, "gray": gray, "paletted": pal, "ycbcr": full,
		"part of rgba": rgba.SubImage(part), "part of nrgba": nrgba.SubImage(part), "part of gray": gray.SubImage(part), "part of paletted": pal.SubImage(part), "part of ycbcr": full.SubImage(part),
	} {
		got, want := ToNRGBA(img), ToNRGBA(hidden{img})
		if got.Rect != want.Rect || !bytes.Equal(got.Pix, want.Pix) {
			t.Errorf("%s differs", name)
		}
	}
}

func BenchmarkToNRGBA(b *testing.B) {
	img := image.NewRGBA(image.Rect(0, 0, 1024, 1024))
	for b.Loop() {
		ToNRGBA(img)
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "Mpixel/s")
}
