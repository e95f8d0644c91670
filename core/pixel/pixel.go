// Package pixel turns raw texels into pictures: packed formats, palettes and
// block compression.
//
// Formats are named as in the Khronos Data Format and Vulkan specifications,
// in lower case: in a packed name such as a1r5g5b5_pack16 the first channel
// lies in the highest bits of a little-endian word; in r8g8b8a8 the first
// channel is the first byte.
package pixel

import (
	"encoding/binary"
	"fmt"
	"image"
	"sort"
	"strings"

	"excavate/core/limit"
)

// Format is the name of a texel format.
type Format string

// Indexed8 has one byte a texel, an index into a palette.
const Indexed8 Format = "indexed8"

// BC1 is block compression 1: 8 bytes for 4 x 4 texels (Khronos Data Format
// 1.3 section 18.1, with the one-bit alpha of section 18.1.2).
const BC1 Format = "bc1"

type channel struct {
	at   int // index in R, G, B, A; -1 unused
	low  uint
	bits uint
}

type packing struct {
	bytes    int
	channels []channel
}

var packings = func() map[Format]packing {
	m := map[Format]packing{}
	add := func(name Format, bytes int, packed bool, order string, bits ...uint) {
		p := packing{bytes: bytes}
		total := uint(bytes * 8)
		at := uint(0)
		for i, c := range order {
			low := at
			if packed {
				low = total - at - bits[i]
			}
			p.channels = append(p.channels, channel{strings.IndexRune("rgba", c), low, bits[i]})
			at += bits[i]
		}
		m[name] = p
	}
	add("r5g5b5a1_pack16", 2, true, "rgba", 5, 5, 5, 1)
	add("a1r5g5b5_pack16", 2, true, "argb", 1, 5, 5, 5)
	add("a1b5g5r5_pack16", 2, true, "abgr", 1, 5, 5, 5)
	add("b5g5r5a1_pack16", 2, true, "bgra", 5, 5, 5, 1)
	add("r5g6b5_pack16", 2, true, "rgb", 5, 6, 5)
	add("b5g6r5_pack16", 2, true, "bgr", 5, 6, 5)
	add("r8g8b8", 3, false, "rgb", 8, 8, 8)
	add("b8g8r8", 3, false, "bgr", 8, 8, 8)
	add("r8g8b8a8", 4, false, "rgba", 8, 8, 8, 8)
	add("b8g8r8a8", 4, false, "bgra", 8, 8, 8, 8)
	return m
}()

// Known lists every format name.
func Known() []string {
	names := []string{string(Indexed8), string(BC1)}
	for n := range packings {
		names = append(names, string(n))
	}
	sort.Strings(names)
	return names
}

// Valid tells whether the format is known.
func (f Format) Valid() bool {
	_, ok := packings[f]
	return ok || f == Indexed8 || f == BC1
}

// Bytes is the number of bytes that w x h texels take.
func (f Format) Bytes(w, h int) (int64, error) {
	if w <= 0 || h <= 0 || int64(w)*int64(h) > limit.Texels {
		return 0, fmt.Errorf("a picture of %d x %d texels: each side must be 1 or more and the whole at most %d texels", w, h, limit.Texels)
	}
	n := int64(w) * int64(h)
	switch f {
	case Indexed8:
		return n, nil
	case BC1:
		return int64((w+3)/4) * int64((h+3)/4) * 8, nil
	}
	p, ok := packings[f]
	if !ok {
		return 0, fmt.Errorf("texel format %q is not known; there are %s", f, strings.Join(Known(), ", "))
	}
	return n * int64(p.bytes), nil
}

// Decode unpacks w x h texels, rows from the top. palette is used by indexed
// formats: RGBA, 4 bytes a colour.
func Decode(f Format, data []byte, w, h int, palette []byte) (*image.NRGBA, error) {
	need, err := f.Bytes(w, h)
	if err != nil {
		return nil, err
	}
	if int64(len(data)) < need {
		return nil, fmt.Errorf("%d x %d texels of %s need %d bytes, %d are there", w, h, f, need, len(data))
	}
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	switch f {
	case Indexed8:
		for i, v := range data[:need] {
			if int(v)*4+4 > len(palette) {
				return nil, fmt.Errorf("texel %d has colour %d of a palette of %d", i, v, len(palette)/4)
			}
			copy(img.Pix[4*i:4*i+4], palette[4*int(v):])
		}
	case BC1:
		decodeBC1(img, data)
	default:
		decodePacked(img.Pix, packings[f], data[:need])
	}
	return img, nil
}

// Palette unpacks n colours to RGBA bytes.
func Palette(f Format, data []byte, n int) ([]byte, error) {
	p, ok := packings[f]
	if !ok {
		return nil, fmt.Errorf("%q is no format for a palette", f)
	}
	if n < 0 || n > 1<<16 || len(data) < n*p.bytes {
		return nil, fmt.Errorf("a palette of %d colours of %s needs %d bytes, %d are there", n, f, n*p.bytes, len(data))
	}
	out := make([]byte, 4*n)
	decodePacked(out, p, data[:n*p.bytes])
	return out, nil
}

func decodePacked(dst []byte, p packing, data []byte) {
	if p.bytes == 2 { // one table look-up a texel
		table := make([]byte, 4<<16)
		for v := 0; v < 1<<16; v++ {
			unpack(table[4*v:4*v+4], p, uint32(v))
		}
		for i := 0; i+1 < len(data); i += 2 {
			v := int(binary.LittleEndian.Uint16(data[i:]))
			copy(dst[2*i:2*i+4], table[4*v:4*v+4])
		}
		return
	}
	for i, o := 0, 0; i+p.bytes <= len(data); i, o = i+p.bytes, o+4 {
		v := uint32(data[i]) | uint32(data[i+1])<<8 | uint32(data[i+2])<<16
		if p.bytes == 4 {
			v |= uint32(data[i+3]) << 24
		}
		unpack(dst[o:o+4], p, v)
	}
}

func unpack(dst []byte, p packing, v uint32) {
	dst[0], dst[1], dst[2], dst[3] = 0, 0, 0, 255
	for _, c := range p.channels {
		top := uint32(1)<<c.bits - 1
		dst[c.at] = byte(((v>>c.low&top)*510 + top) / (2 * top)) // rounded to the nearest of 0..255
	}
}

func decodeBC1(img *image.NRGBA, data []byte) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	at := 0
	for by := 0; by < h; by += 4 {
		for bx := 0; bx < w; bx += 4 {
			c := bc1Colours(data[at:])
			bits := binary.LittleEndian.Uint32(data[at+4:])
			at += 8
			for y := by; y < by+4; y++ {
				for x := bx; x < bx+4; x++ {
					if x < w && y < h {
						copy(img.Pix[img.PixOffset(x, y):], c[bits&3][:])
					}
					bits >>= 2
				}
			}
		}
	}
}

func bc1Colours(b []byte) (c [4][4]byte) {
	c0, c1 := binary.LittleEndian.Uint16(b), binary.LittleEndian.Uint16(b[2:])
	p := packings["r5g6b5_pack16"]
	unpack(c[0][:], p, uint32(c0))
	unpack(c[1][:], p, uint32(c1))
	c[2][3], c[3][3] = 255, 255
	for k := 0; k < 3; k++ {
		a, z := int(c[0][k]), int(c[1][k])
		if c0 > c1 {
			c[2][k], c[3][k] = byte((2*a+z)/3), byte((a+2*z)/3)
		} else {
			c[2][k] = byte((a + z) / 2)
		}
	}
	if c0 <= c1 {
		c[3] = [4]byte{}
	}
	return c
}
