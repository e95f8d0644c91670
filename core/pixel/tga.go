package pixel

import (
	"encoding/binary"
	"fmt"
	"image"

	"excavate/core/limit"
)

// TGA (Truevision, "TGA File Format Specification", version 2.0, 1991): all
// image types, from 8 to 32 bits, with colour maps, run lengths and every
// order of rows and columns.

// IsTGA tells whether bytes begin as a TGA does. The format has no mark at its
// head, so every field of the header must make sense.
func IsTGA(b []byte) bool {
	if len(b) < 18 {
		return false
	}
	h := tgaHeader(b)
	if h.w == 0 || h.h == 0 || h.w > 1<<14 || h.h > 1<<14 || b[17]&0xc0 != 0 || b[17]&15 > 8 {
		return false
	}
	switch h.kind {
	case 1, 9:
		if b[1] != 1 || h.depth != 8 && h.depth != 16 || h.mapCount == 0 {
			return false
		}
		return h.mapDepth == 15 || h.mapDepth == 16 || h.mapDepth == 24 || h.mapDepth == 32
	case 2, 10:
		return b[1] <= 1 && (b[1] == 1 || h.mapCount == 0) && (h.depth == 15 || h.depth == 16 || h.depth == 24 || h.depth == 32)
	case 3, 11:
		return b[1] == 0 && h.mapCount == 0 && (h.depth == 8 || h.depth == 16)
	}
	return false
}

type tga struct {
	kind                          byte
	mapFirst, mapCount            int
	mapDepth, depth, w, h, idSize int
	alphaBits                     byte
	right, top                    bool
}

func tgaHeader(b []byte) tga {
	u := func(at int) int { return int(binary.LittleEndian.Uint16(b[at:])) }
	return tga{kind: b[2], mapFirst: u(3), mapCount: u(5), mapDepth: int(b[7]), w: u(12), h: u(14), depth: int(b[16]), idSize: int(b[0]),
		alphaBits: b[17] & 15, right: b[17]&0x10 != 0, top: b[17]&0x20 != 0}
}

func tgaColour(b []byte, depth int, alpha bool) (c [4]byte) {
	switch depth {
	case 15, 16:
		v := binary.LittleEndian.Uint16(b)
		five := func(x uint16) byte { x &= 31; return byte(x<<3 | x>>2) }
		c = [4]byte{five(v >> 10), five(v >> 5), five(v), 255}
		if alpha && depth == 16 && v&0x8000 == 0 {
			c[3] = 0
		}
	case 24:
		c = [4]byte{b[2], b[1], b[0], 255}
	case 32:
		c = [4]byte{b[2], b[1], b[0], 255}
		if alpha {
			c[3] = b[3]
		}
	}
	return c
}

func decodeTGA(b []byte) (*image.NRGBA, error) {
	h := tgaHeader(b)
	if int64(h.w)*int64(h.h) > limit.Texels {
		return nil, fmt.Errorf("%d x %d texels; at most %d are read", h.w, h.h, limit.Texels)
	}
	at := 18 + h.idSize
	entry := (h.mapDepth + 7) / 8
	var colours [][4]byte
	if b[1] == 1 {
		n := h.mapCount * entry
		if at+n > len(b) {
			return nil, fmt.Errorf("the colour map of %d colours at offset %d ends beyond the file", h.mapCount, at)
		}
		if h.kind == 1 || h.kind == 9 {
			colours = make([][4]byte, h.mapCount)
			for i := range colours {
				colours[i] = tgaColour(b[at+i*entry:], h.mapDepth, h.alphaBits > 0 || h.mapDepth == 32)
			}
		}
		at += n
	}
	size := (h.depth + 7) / 8
	texels := h.w * h.h
	raw := b[min(at, len(b)):]
	if h.kind >= 9 {
		var err error
		if raw, err = tgaRuns(raw, size, texels, at); err != nil {
			return nil, err
		}
	}
	if len(raw) < texels*size {
		return nil, fmt.Errorf("%d bytes of texels are wanted at offset %d, and %d are there", texels*size, at, len(raw))
	}
	img := image.NewNRGBA(image.Rect(0, 0, h.w, h.h))
	alpha := h.alphaBits > 0
	seen := byte(0)
	for i := range texels {
		x, y := i%h.w, i/h.w
		if h.right {
			x = h.w - 1 - x
		}
		if !h.top {
			y = h.h - 1 - y
		}
		p := raw[i*size:]
		var c [4]byte
		switch h.kind {
		case 1, 9:
			k := int(p[0])
			if size == 2 {
				k = int(binary.LittleEndian.Uint16(p))
			}
			if k -= h.mapFirst; k < 0 || k >= len(colours) {
				return nil, fmt.Errorf("texel %d has colour %d, and the map has %d from %d on", i, k+h.mapFirst, len(colours), h.mapFirst)
			}
			c = colours[k]
		case 3, 11:
			c = [4]byte{p[0], p[0], p[0], 255}
			if size == 2 {
				c[3] = p[1]
			}
		default:
			c = tgaColour(p, h.depth, alpha || h.depth == 32)
		}
		seen |= c[3]
		copy(img.Pix[4*(y*h.w+x):], c[:])
	}
	// Some write 32 bits with an alpha of zero throughout and mean none.
	if seen == 0 && !alpha {
		for i := 3; i < len(img.Pix); i += 4 {
			img.Pix[i] = 255
		}
	}
	return img, nil
}

// tgaRuns unpacks run-length packets.
func tgaRuns(b []byte, size, texels, at int) ([]byte, error) {
	if texels > 128*len(b) { // a packet of at least two bytes makes at most 128 texels
		return nil, fmt.Errorf("%d texels cannot come out of %d packed bytes", texels, len(b))
	}
	out := make([]byte, 0, texels*size)
	i := 0
	for len(out) < texels*size {
		if i >= len(b) {
			return nil, fmt.Errorf("offset %d: the packets end after %d of %d texels", at+i, len(out)/size, texels)
		}
		n := (int(b[i]&0x7f) + 1)
		run := b[i]&0x80 != 0
		i++
		need := n * size
		if run {
			need = size
		}
		if i+need > len(b) {
			return nil, fmt.Errorf("offset %d: a packet of %d texels ends beyond the file", at+i-1, n)
		}
		if run {
			for range n {
				out = append(out, b[i:i+size]...)
			}
		} else {
			out = append(out, b[i:i+need]...)
		}
		i += need
	}
	return out[:texels*size], nil
}
