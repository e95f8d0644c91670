package pixel

import (
	"encoding/binary"
	"fmt"
	"image"
	"math/bits"

	"excavate/core/limit"
)

// decodeBMP reads Windows and OS/2 bitmaps (Microsoft, "Bitmap Storage"): all
// headers, 1 to 32 bits a texel, run lengths, masks, both orders of rows, and
// JPEG and PNG inside.
func decodeBMP(b []byte) (*image.NRGBA, error) {
	le := binary.LittleEndian
	start, size := int64(le.Uint32(b[10:])), int64(le.Uint32(b[14:]))
	if size < 12 || size > 124 || int64(len(b)) < 14+size {
		return nil, fmt.Errorf("offset 14: a header of %d bytes in a file of %d", size, len(b))
	}
	var w, h int64
	var depth, method int
	entries, entryBytes := int64(0), int64(4)
	if size == 12 {
		w, h, depth, entryBytes = int64(le.Uint16(b[18:])), int64(le.Uint16(b[20:])), int(le.Uint16(b[24:])), 3
	} else if size >= 16 {
		w, h, depth = int64(int32(le.Uint32(b[18:]))), int64(int32(le.Uint32(b[22:]))), int(le.Uint16(b[28:]))
		if size >= 40 {
			method, entries = int(le.Uint32(b[30:])), int64(le.Uint32(b[46:]))
		}
	} else {
		return nil, fmt.Errorf("offset 14: a header of %d bytes is not known", size)
	}
	down := h < 0
	if down {
		h = -h
	}
	if w <= 0 || h <= 0 || w > 1<<20 || h > 1<<20 || w*h > limit.Texels {
		return nil, fmt.Errorf("offset 18: %d x %d texels", w, h)
	}
	if start > int64(len(b)) {
		return nil, fmt.Errorf("offset 10: the texels begin at %d of %d bytes", start, len(b))
	}
	if method == 4 || method == 5 {
		mime := "image/png"
		if method == 4 {
			mime = "image/jpeg"
		}
		img, err := DecodePicture(b[start:], mime)
		if err != nil {
			return nil, fmt.Errorf("offset %d: the picture inside: %w", start, err)
		}
		return ToNRGBA(img), nil
	}
	// Masks: in the header of later versions, behind it in the first.
	masks := [4]uint32{}
	at := 14 + size
	switch {
	case method == 3 || method == 6:
		n := int64(3)
		if method == 6 || size >= 56 {
			n = 4
		}
		if int64(len(b)) < 54+4*n {
			return nil, fmt.Errorf("offset 54: the file ends within the masks")
		}
		for i := range n {
			masks[i] = le.Uint32(b[54+4*i:])
		}
		if size == 40 {
			at += 4 * n
		}
	case depth == 16:
		masks = [4]uint32{0x7c00, 0x3e0, 0x1f, 0}
	case depth == 32:
		masks = [4]uint32{0xff0000, 0xff00, 0xff, 0}
	}
	img := image.NewNRGBA(image.Rect(0, 0, int(w), int(h)))
	row := func(y int64) []byte {
		if !down {
			y = h - 1 - y
		}
		return img.Pix[y*int64(img.Stride):][:4*w]
	}
	var palette [256][4]byte
	switch depth {
	case 1, 2, 4, 8:
		if entries == 0 || entries > 1<<depth {
			entries = 1 << depth
		}
		entries = min(entries, (int64(len(b))-at)/entryBytes, max(0, (start-at))/entryBytes)
		for i := range entries {
			p := b[at+i*entryBytes:]
			palette[i] = [4]byte{p[2], p[1], p[0], 255}
		}
		for i := max(entries, 0); i < 256; i++ {
			palette[i][3] = 255
		}
		if method == 1 || method == 2 {
			return img, runs(b, start, w, h, method == 2, func(x, y int64, v byte) { copy(row(y)[4*x:], palette[v][:]) })
		}
	case 16, 24, 32:
	default:
		return nil, fmt.Errorf("offset 28: %d bits a texel", depth)
	}
	if method != 0 && method != 3 && method != 6 {
		return nil, fmt.Errorf("offset 30: compression %d is not known", method)
	}
	stride := (w*int64(depth) + 31) / 32 * 4
	if need := stride*(h-1) + (w*int64(depth)+7)/8; int64(len(b))-start < need {
		return nil, fmt.Errorf("offset %d: %d bytes of texels are wanted, and %d are there", start, need, int64(len(b))-start)
	}
	var shift, top [4]uint32
	for i, m := range masks {
		if m != 0 {
			shift[i] = uint32(bits.TrailingZeros32(m))
			top[i] = m >> shift[i]
		}
	}
	alpha := false
	for y := range h {
		p, o := b[start+y*stride:], row(y)
		for x := range w {
			t := o[4*x : 4*x+4]
			switch depth {
			case 8:
				copy(t, palette[p[x]][:])
			case 4:
				copy(t, palette[p[x/2]>>(4*(1-x&1))&15][:])
			case 2:
				copy(t, palette[p[x/4]>>(2*(3-x&3))&3][:])
			case 1:
				copy(t, palette[p[x/8]>>(7-x&7)&1][:])
			case 24:
				t[0], t[1], t[2], t[3] = p[3*x+2], p[3*x+1], p[3*x], 255
			default:
				var v uint32
				if depth == 16 {
					v = uint32(le.Uint16(p[2*x:]))
				} else {
					v = le.Uint32(p[4*x:])
				}
				t[3] = 255
				for c := range 4 {
					if top[c] > 0 {
						t[c] = byte((uint64(v&masks[c]>>shift[c])*510 + uint64(top[c])) / (2 * uint64(top[c])))
					}
				}
				if depth == 32 && masks[3] == 0 && method == 0 {
					// The fourth byte has no meaning by the book, and is alpha where any of it is set.
					t[3] = byte(v >> 24)
					alpha = alpha || t[3] != 0
				}
			}
		}
	}
	if depth == 32 && masks[3] == 0 && method == 0 && !alpha {
		for i := 3; i < len(img.Pix); i += 4 {
			img.Pix[i] = 255
		}
	}
	return img, nil
}

// runs unpacks BI_RLE8 and BI_RLE4. Texels that are jumped over have index 0.
func runs(b []byte, at, w, h int64, four bool, put func(x, y int64, v byte)) error {
	for y := range h {
		for x := range w {
			put(x, y, 0)
		}
	}
	x, y := int64(0), int64(0)
	set := func(v byte) {
		if x < w && y < h {
			put(x, y, v)
		}
		x++
	}
	for at+1 < int64(len(b)) && y < h {
		n, v := b[at], b[at+1]
		at += 2
		if n > 0 {
			for i := range n {
				if four {
					set(v >> (4 * (1 - i&1)) & 15)
				} else {
					set(v)
				}
			}
			continue
		}
		switch v {
		case 0:
			x, y = 0, y+1
		case 1:
			return nil
		case 2:
			if at+1 >= int64(len(b)) {
				return fmt.Errorf("offset %d: the file ends within a jump", at)
			}
			x, y = x+int64(b[at]), y+int64(b[at+1])
			at += 2
		default:
			size := int64(v)
			if four {
				size = (size + 1) / 2
			}
			if at+size > int64(len(b)) {
				return fmt.Errorf("offset %d: the file ends within %d texels as they stand", at, v)
			}
			for i := range int64(v) {
				if four {
					set(b[at+i/2] >> (4 * (1 - i&1)) & 15)
				} else {
					set(b[at+i])
				}
			}
			at += (size + 1) &^ 1
		}
	}
	if y < h {
		return fmt.Errorf("offset %d: the file ends in row %d of %d", at, y, h)
	}
	return nil
}
