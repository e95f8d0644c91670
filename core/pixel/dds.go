package pixel

import (
	"encoding/binary"
	"fmt"
	"image"
	"math/bits"
)

// DDS (Microsoft, "Programming Guide for DDS" and DDS_HEADER_DXT10): legacy
// masks and codes, and the formats of DXGI that pixel knows. The first image
// of mips, cubes and arrays is read; Layers says how many there are.

// Layers counts the images of a picture container.
type Layers struct{ Levels, Faces, Images int }

var ddsCodes = map[string]Format{"DXT1": BC1, "DXT2": BC2, "DXT3": BC2, "DXT4": BC3, "DXT5": BC3, "ATI1": BC4, "BC4U": BC4, "ATI2": BC5, "BC5U": BC5,
	"\x71\x00\x00\x00": "r16g16b16a16_sfloat", "\x24\x00\x00\x00": "r16g16b16a16"}

var dxgi = map[uint32]Format{10: "r16g16b16a16_sfloat", 11: "r16g16b16a16", 24: "a2b10g10r10_pack32", 28: "r8g8b8a8", 29: "r8g8b8a8", 61: "r8", 71: BC1, 72: BC1, 74: BC2, 75: BC2, 77: BC3, 78: BC3, 80: BC4, 83: BC5,
	85: "r5g6b5_pack16", 86: "a1r5g5b5_pack16", 87: "b8g8r8a8", 88: "b8g8r8x8", 91: "b8g8r8a8", 93: "b8g8r8x8", 95: BC6, 96: BC6S, 98: BC7, 99: BC7, 115: "a4r4g4b4_pack16"}

func decodeDDS(b []byte) (*image.NRGBA, Layers, error) {
	var l Layers
	if len(b) < 128 {
		return nil, l, fmt.Errorf("the file ends within its header")
	}
	u := func(at int) uint32 { return binary.LittleEndian.Uint32(b[at:]) }
	if u(4) != 124 || u(76) != 32 {
		return nil, l, fmt.Errorf("offset 4: a header of %d bytes with a pixel format of %d; 124 and 32 are usual", u(4), u(76))
	}
	h, w := int(u(12)), int(u(16))
	l = Layers{Levels: max(1, int(u(28))), Faces: 1, Images: 1}
	if caps := u(112); caps&0x200 != 0 {
		l.Faces = bits.OnesCount32(caps & 0xfc00)
	} else if caps&0x200000 != 0 {
		l.Images = max(1, int(u(24)))
	}
	at := 128
	flags, code := u(80), string(b[84:88])
	if w <= 0 || h <= 0 || w > 1<<16 || h > 1<<16 {
		return nil, l, fmt.Errorf("offset 12: %d x %d texels", w, h)
	}
	if flags&4 != 0 && code == "DX10" {
		if len(b) < 148 {
			return nil, l, fmt.Errorf("the file ends within its second header")
		}
		f, ok := dxgi[u(128)]
		if !ok {
			return nil, l, fmt.Errorf("offset 128: DXGI format %d is not decoded", u(128))
		}
		if u(136)&4 != 0 {
			l.Faces = 6
		}
		l.Images = max(l.Images, int(u(140)))
		img, err := firstImage(b, 148, f, w, h)
		return img, l, err
	}
	if flags&4 != 0 {
		f, ok := ddsCodes[code]
		if !ok {
			return nil, l, fmt.Errorf("offset 84: the format %q is not decoded", code)
		}
		img, err := firstImage(b, at, f, w, h)
		return img, l, err
	}
	// Masks of a word of 8 to 32 bits.
	depth := int(u(88))
	if depth != 8 && depth != 16 && depth != 24 && depth != 32 {
		return nil, l, fmt.Errorf("offset 88: texels of %d bits", depth)
	}
	masks := [4]uint32{u(92), u(96), u(100), u(104)}
	if flags&1 == 0 { // no alpha
		masks[3] = 0
	}
	if flags&2 != 0 { // alpha only
		masks = [4]uint32{0, 0, 0, u(104)}
	}
	grey := flags&0x20000 != 0
	size := depth / 8
	if need := int64(w) * int64(h) * int64(size); int64(len(b)-at) < need {
		return nil, l, fmt.Errorf("offset %d: %d bytes of texels are wanted, and %d are there", at, need, len(b)-at)
	}
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range w * h {
		p := b[at+i*size:]
		var v uint32
		for k := size - 1; k >= 0; k-- {
			v = v<<8 | uint32(p[k])
		}
		c := [4]byte{0, 0, 0, 255}
		for k, m := range masks {
			if m == 0 {
				continue
			}
			shift := bits.TrailingZeros32(m)
			top := uint64(m >> shift)
			c[k] = byte((uint64(v&m>>shift)*510 + top) / (2 * top))
		}
		if grey {
			c[1], c[2] = c[0], c[0]
		}
		copy(img.Pix[4*i:], c[:])
	}
	return img, l, nil
}

// firstImage decodes w x h texels at an offset.
func firstImage(b []byte, at int, f Format, w, h int) (*image.NRGBA, error) {
	need, err := f.Bytes(w, h)
	if err != nil {
		return nil, err
	}
	if at > len(b) || int64(len(b)-at) < need {
		return nil, fmt.Errorf("offset %d: %d bytes of texels are wanted, and %d are there", at, need, max(0, len(b)-at))
	}
	return Decode(f, b[at:int64(at)+need], w, h, nil)
}
