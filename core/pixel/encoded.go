package pixel

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	_ "image/gif"  // registered for Encoded
	_ "image/jpeg" // registered for Encoded
	"image/png"

	_ "golang.org/x/image/tiff" // registered for Encoded
	_ "golang.org/x/image/webp" // registered for Encoded
)

// Encoded looks at an encoded picture. PNG and JPEG come back as they are;
// other formats that can be decoded come back as PNG. from is the format that
// was found.
func Encoded(data []byte) (out []byte, mime, from string, w, h int, err error) {
	if img, from, _, err := container(data); from != "" {
		if err != nil {
			return nil, "", from, 0, 0, fmt.Errorf("%s picture: %w", from, err)
		}
		out, err = PNG(img)
		return out, "image/png", from, img.Rect.Dx(), img.Rect.Dy(), err
	}
	cfg, from, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return nil, "", "", 0, 0, fmt.Errorf("not a picture that can be decoded: %w", err)
	}
	n, err := decodedBytes(cfg)
	if err != nil {
		return nil, "", from, 0, 0, err
	}
	switch from {
	case "png":
		return data, "image/png", from, cfg.Width, cfg.Height, nil
	case "jpeg":
		return data, "image/jpeg", from, cfg.Width, cfg.Height, nil
	}
	defer enter(n)()
	img, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, "", from, 0, 0, fmt.Errorf("%s picture is damaged: %w", from, err)
	}
	out, err = PNG(img)
	return out, "image/png", from, cfg.Width, cfg.Height, err
}

// PNG encodes a picture; speed counts more than the last per cent of size.
func PNG(img image.Image) ([]byte, error) {
	var b bytes.Buffer
	e := png.Encoder{CompressionLevel: png.BestSpeed}
	if err := e.Encode(&b, img); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// ToNRGBA returns the picture in 8 bits a channel, not premultiplied, with
// its origin at 0, 0.
func ToNRGBA(img image.Image) *image.NRGBA {
	b := img.Bounds()
	if n, ok := img.(*image.NRGBA); ok && b.Min == (image.Point{}) {
		return n
	}
	out := image.NewNRGBA(image.Rect(0, 0, b.Dx(), b.Dy()))
	rows := func(row func(y int, to []byte)) {
		for y := range b.Dy() {
			row(b.Min.Y+y, out.Pix[y*out.Stride:][:4*b.Dx()])
		}
	}
	switch m := img.(type) {
	case *image.NRGBA:
		rows(func(y int, to []byte) { copy(to, m.Pix[m.PixOffset(b.Min.X, y):]) })
	case *image.RGBA:
		rows(func(y int, to []byte) {
			copy(to, m.Pix[m.PixOffset(b.Min.X, y):])
			for i := 0; i < len(to); i += 4 {
				if a := uint32(to[i+3]); a != 255 && a != 0 { // as color.NRGBAModel does
					for c := range 3 {
						to[i+c] = byte(uint32(to[i+c]) * 0x101 * 0xffff / (a * 0x101) >> 8)
					}
				} else if a == 0 {
					to[i], to[i+1], to[i+2] = 0, 0, 0
				}
			}
		})
	case *image.NRGBA64:
		rows(func(y int, to []byte) {
			for i, o := m.PixOffset(b.Min.X, y), 0; o < len(to); i, o = i+2, o+1 {
				to[o] = m.Pix[i] // the high byte, as color.NRGBAModel takes it
			}
		})
	case *image.Gray16:
		rows(func(y int, to []byte) {
			from := m.Pix[m.PixOffset(b.Min.X, y):]
			for x := range b.Dx() {
				v := from[2*x]
				to[4*x], to[4*x+1], to[4*x+2], to[4*x+3] = v, v, v, 255
			}
		})
	case *image.Gray:
		rows(func(y int, to []byte) {
			for x, v := range m.Pix[m.PixOffset(b.Min.X, y):][:b.Dx()] {
				to[4*x], to[4*x+1], to[4*x+2], to[4*x+3] = v, v, v, 255
			}
		})
	case *image.Paletted:
		var table [256]color.NRGBA
		for i, c := range m.Palette {
			table[i] = color.NRGBAModel.Convert(c).(color.NRGBA)
		}
		rows(func(y int, to []byte) {
			for x, v := range m.Pix[m.PixOffset(b.Min.X, y):][:b.Dx()] {
				c := table[v]
				to[4*x], to[4*x+1], to[4*x+2], to[4*x+3] = c.R, c.G, c.B, c.A
			}
		})
	case *image.YCbCr: // opaque, so that premultiplied is the same
		draw.Draw(&image.RGBA{Pix: out.Pix, Stride: out.Stride, Rect: out.Rect}, out.Rect, m, b.Min, draw.Src)
	default:
		for y := range b.Dy() {
			for x := range b.Dx() {
				out.Set(x, y, img.At(b.Min.X+x, b.Min.Y+y))
			}
		}
	}
	return out
}
