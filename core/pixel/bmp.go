package pixel

import (
	"encoding/binary"
	"fmt"
	"image"
	"math/bits"

	"excavate/core/limit"
)

// Compression methods (Microsoft, "Bitmap Storage", BITMAPINFOHEADER).
const (
	bmpPlain      = 0
	bmpRuns8      = 1
	bmpRuns4      = 2
	bmpMasks      = 3
	bmpJPEG       = 4
	bmpPNG        = 5
	bmpAlphaMasks = 6
)

// bmp is a bitmap's header.
type bmp struct {
	b              []byte
	start          int64 // of the texels
	size           int64 // of the header that follows the file's 14 bytes
	w, h           int64
	down           bool // the first row is the topmost
	depth, method  int
	entries, entry int64 // of the palette, and the bytes of one
	after          int64 // where the palette begins
	masks          [4]uint32
	palette        [256][4]byte
}

// decodeBMP reads Windows and OS/2 bitmaps (Microsoft, "Bitmap Storage"): all
// headers, 1 to 32 bits a texel, run lengths, masks, both orders of rows, and
// JPEG and PNG inside.
func decodeBMP(b []byte) (*image.NRGBA, error) {
	m := &bmp{b: b}
	if err := m.header(); err != nil {
		return nil, err
	}
	if m.method == bmpJPEG || m.method == bmpPNG {
		return m.inside()
	}
	if err := m.readMasks(); err != nil {
		return nil, err
	}
	img := image.NewNRGBA(image.Rect(0, 0, int(m.w), int(m.h)))
	switch m.depth {
	case 1, 2, 4, 8:
		m.readPalette()
		if m.method == bmpRuns8 || m.method == bmpRuns4 {
			put := func(x, y int64, v byte) { copy(m.row(img, y)[4*x:], m.palette[v][:]) }
			return img, runs(b, m.start, m.w, m.h, m.method == bmpRuns4, put)
		}
	case 16, 24, 32:
	default:
		return nil, fmt.Errorf("offset 28: %d bits a texel", m.depth)
	}
	if m.method != bmpPlain && m.method != bmpMasks && m.method != bmpAlphaMasks {
		return nil, fmt.Errorf("offset 30: compression %d is not known", m.method)
	}
	return img, m.texels(img)
}

// header reads sizes, depth and method of either system's header.
func (m *bmp) header() error {
	le, b := binary.LittleEndian, m.b
	m.start, m.size = int64(le.Uint32(b[10:])), int64(le.Uint32(b[14:]))
	if m.size < 12 || m.size > 124 || int64(len(b)) < 14+m.size {
		return fmt.Errorf("offset 14: a header of %d bytes in a file of %d", m.size, len(b))
	}
	m.entry, m.after = 4, 14+m.size
	switch {
	case m.size == 12: // OS/2 1.x
		m.w, m.h, m.depth, m.entry = int64(le.Uint16(b[18:])), int64(le.Uint16(b[20:])), int(le.Uint16(b[24:])), 3
	case m.size >= 16:
		m.w, m.h, m.depth = int64(int32(le.Uint32(b[18:]))), int64(int32(le.Uint32(b[22:]))), int(le.Uint16(b[28:]))
		if m.size >= 40 {
			m.method, m.entries = int(le.Uint32(b[30:])), int64(le.Uint32(b[46:]))
		}
	default:
		return fmt.Errorf("offset 14: a header of %d bytes is not known", m.size)
	}
	if m.down = m.h < 0; m.down {
		m.h = -m.h
	}
	if m.w <= 0 || m.h <= 0 || m.w > 1<<20 || m.h > 1<<20 || m.w*m.h > limit.Texels {
		return fmt.Errorf("offset 18: %d x %d texels", m.w, m.h)
	}
	if m.start > int64(len(b)) {
		return fmt.Errorf("offset 10: the texels begin at %d of %d bytes", m.start, len(b))
	}
	return nil
}

// inside decodes the JPEG or PNG that stands in place of texels.
func (m *bmp) inside() (*image.NRGBA, error) {
	mime := "image/png"
	if m.method == bmpJPEG {
		mime = "image/jpeg"
	}
	img, err := DecodePicture(m.b[m.start:], mime)
	if err != nil {
		return nil, fmt.Errorf("offset %d: the picture inside: %w", m.start, err)
	}
	return ToNRGBA(img), nil
}

// readMasks finds which bits are which component: in the header of later
// versions, behind it in the first, and by the depth where none are given.
func (m *bmp) readMasks() error {
	switch {
	case m.method == bmpMasks || m.method == bmpAlphaMasks:
		n := int64(3)
		if m.method == bmpAlphaMasks || m.size >= 56 {
			n = 4
		}
		if int64(len(m.b)) < 54+4*n {
			return fmt.Errorf("offset 54: the file ends within the masks")
		}
		for i := range n {
			m.masks[i] = binary.LittleEndian.Uint32(m.b[54+4*i:])
		}
		if m.size == 40 {
			m.after += 4 * n
		}
	case m.depth == 16:
		m.masks = [4]uint32{0x7c00, 0x3e0, 0x1f, 0}
	case m.depth == 32:
		m.masks = [4]uint32{0xff0000, 0xff00, 0xff, 0}
	}
	return nil
}

// readPalette reads as many colours as stand before the texels; the others are
// black.
func (m *bmp) readPalette() {
	n := m.entries
	if n == 0 || n > 1<<m.depth {
		n = 1 << m.depth
	}
	n = min(n, (int64(len(m.b))-m.after)/m.entry, max(0, m.start-m.after)/m.entry)
	for i := range m.palette {
		m.palette[i][3] = 255
		if int64(i) < n {
			p := m.b[m.after+int64(i)*m.entry:]
			m.palette[i] = [4]byte{p[2], p[1], p[0], 255}
		}
	}
}

// row is row y of the file as it lies in the picture.
func (m *bmp) row(img *image.NRGBA, y int64) []byte {
	if !m.down {
		y = m.h - 1 - y
	}
	return img.Pix[y*int64(img.Stride):][:4*m.w]
}

// texels reads rows that are not packed; each fills whole words of 32 bits.
func (m *bmp) texels(img *image.NRGBA) error {
	bits := m.w * int64(m.depth)
	stride := (bits + 31) / 32 * 4
	if need := stride*(m.h-1) + (bits+7)/8; int64(len(m.b))-m.start < need {
		return fmt.Errorf("offset %d: %d bytes of texels are wanted, and %d are there", m.start, need,
			int64(len(m.b))-m.start)
	}
	masked := newMasked(m)
	for y := range m.h {
		from, to := m.b[m.start+y*stride:], m.row(img, y)
		switch {
		case m.depth <= 8:
			m.indexed(from, to)
		case m.depth == 24:
			for x := range m.w {
				t := to[4*x : 4*x+4]
				t[0], t[1], t[2], t[3] = from[3*x+2], from[3*x+1], from[3*x], 255
			}
		default:
			masked.row(from, to)
		}
	}
	if masked.fourth && !masked.alpha {
		for i := 3; i < len(img.Pix); i += 4 {
			img.Pix[i] = 255
		}
	}
	return nil
}

// indexed reads a row of places in the palette, the first in the highest bits.
func (m *bmp) indexed(from, to []byte) {
	depth := int64(m.depth)
	per, mask := 8/depth, byte(1<<depth-1)
	for x := range m.w {
		shift := depth * (per - 1 - x%per)
		copy(to[4*x:4*x+4], m.palette[from[x/per]>>shift&mask][:])
	}
}

// masked reads rows of words of 16 or 32 bits in which masks tell components.
type masked struct {
	m          *bmp
	shift, top [4]uint32 // where each begins, and its largest value
	fourth     bool      // the fourth byte has no meaning by the book, and is alpha where any of it is set
	alpha      bool      // some of it is
}

func newMasked(m *bmp) *masked {
	x := &masked{m: m, fourth: m.depth == 32 && m.masks[3] == 0 && m.method == bmpPlain}
	for i, mask := range m.masks {
		if mask != 0 {
			x.shift[i] = uint32(bits.TrailingZeros32(mask))
			x.top[i] = mask >> x.shift[i]
		}
	}
	return x
}

func (k *masked) row(from, to []byte) {
	for x := range k.m.w {
		t := to[4*x : 4*x+4]
		var v uint32
		if k.m.depth == 16 {
			v = uint32(binary.LittleEndian.Uint16(from[2*x:]))
		} else {
			v = binary.LittleEndian.Uint32(from[4*x:])
		}
		t[3] = 255
		for c, top := range k.top {
			if top > 0 { // to 0 … 255, rounded
				t[c] = byte((uint64(v&k.m.masks[c]>>k.shift[c])*510 + uint64(top)) / (2 * uint64(top)))
			}
		}
		if k.fourth {
			t[3] = byte(v >> 24)
			k.alpha = k.alpha || t[3] != 0
		}
	}
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
