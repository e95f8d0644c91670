package pixel

import (
	"encoding/binary"
	"image"
	"math"
	"sync"
)

// decodeBlocks unpacks block compression. Each block gives 16 texels as
// little-endian words of R, G, B and A.
func decodeBlocks(img *image.NRGBA, f Format, data []byte) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	n := int(blockBytes[f])
	var t [16]uint32
	for by := 0; by < h; by += 4 {
		for bx := 0; bx < w; bx += 4 {
			b := data[:n:n]
			data = data[n:]
			switch f {
			case BC1:
				colourBlock(&t, b, true)
			case BC2:
				colourBlock(&t, b[8:], false)
				for i := range t {
					a := uint32(b[i/2]>>(4*(i&1))) & 15 * 17
					t[i] = t[i]&0xffffff | a<<24
				}
			case BC3:
				colourBlock(&t, b[8:], false)
				a := channelBlock(b)
				for i := range t {
					t[i] = t[i]&0xffffff | uint32(a[i])<<24
				}
			case BC4:
				r := channelBlock(b)
				for i, v := range r {
					t[i] = uint32(v)*0x010101 | 0xff000000
				}
			case BC5:
				r, g := channelBlock(b), channelBlock(b[8:])
				z := normalZ()
				for i := range t {
					t[i] = uint32(r[i]) | uint32(g[i])<<8 | uint32(z[int(r[i])<<8|int(g[i])])<<16 | 0xff000000
				}
			case BC6, BC6S:
				bc6Texels(&t, b, f == BC6S)
			case BC7:
				bc7Block(&t, b)
			}
			if bx+4 <= w && by+4 <= h {
				for y := range 4 {
					row := img.Pix[img.PixOffset(bx, by+y):][:16]
					binary.LittleEndian.PutUint32(row, t[4*y])
					binary.LittleEndian.PutUint32(row[4:], t[4*y+1])
					binary.LittleEndian.PutUint32(row[8:], t[4*y+2])
					binary.LittleEndian.PutUint32(row[12:], t[4*y+3])
				}
				continue
			}
			for i, v := range t {
				if x, y := bx+i%4, by+i/4; x < w && y < h {
					binary.LittleEndian.PutUint32(img.Pix[img.PixOffset(x, y):], v)
				}
			}
		}
	}
}

// colourBlock unpacks the 8 bytes of a BC1 colour block (Khronos Data Format
// 1.3, section 18.1). hole allows the mode of three colours and a hole, which
// BC2 and BC3 do not have.
func colourBlock(t *[16]uint32, b []byte, hole bool) {
	c0, c1 := uint32(binary.LittleEndian.Uint16(b)), uint32(binary.LittleEndian.Uint16(b[2:]))
	r0, g0, b0 := c0>>11, c0>>5&63, c0&31
	r1, g1, b1 := c1>>11, c1>>5&63, c1&31
	// As wide as bytes, rounded: 5 and 6 bits to 8.
	r0, b0, r1, b1 = (r0*527+23)>>6, (b0*527+23)>>6, (r1*527+23)>>6, (b1*527+23)>>6
	g0, g1 = (g0*259+33)>>6, (g1*259+33)>>6
	var c [4]uint32
	c[0] = r0 | g0<<8 | b0<<16 | 0xff000000
	c[1] = r1 | g1<<8 | b1<<16 | 0xff000000
	if c0 > c1 || !hole {
		c[2] = (2*r0+r1)/3 | (2*g0+g1)/3<<8 | (2*b0+b1)/3<<16 | 0xff000000
		c[3] = (r0+2*r1)/3 | (g0+2*g1)/3<<8 | (b0+2*b1)/3<<16 | 0xff000000
	} else {
		c[2] = (r0+r1)/2 | (g0+g1)/2<<8 | (b0+b1)/2<<16 | 0xff000000
	}
	bits := binary.LittleEndian.Uint32(b[4:])
	for i := range t {
		t[i] = c[bits&3]
		bits >>= 2
	}
}

// channelBlock unpacks one channel of BC3, BC4 and BC5 (section 19.1, as
// unsigned).
func channelBlock(b []byte) (t [16]byte) {
	a0, a1 := uint32(b[0]), uint32(b[1])
	var v [8]byte
	v[0], v[1] = b[0], b[1]
	if a0 > a1 {
		for i := uint32(1); i < 7; i++ {
			v[i+1] = byte(((7-i)*a0 + i*a1) / 7)
		}
	} else {
		for i := uint32(1); i < 5; i++ {
			v[i+1] = byte(((5-i)*a0 + i*a1) / 5)
		}
		v[6], v[7] = 0, 255
	}
	bits := uint64(binary.LittleEndian.Uint32(b[2:])) | uint64(binary.LittleEndian.Uint16(b[6:]))<<32
	for i := range t {
		t[i] = v[bits&7]
		bits >>= 3
	}
	return t
}

// normalZ has the third coordinate of a normal of length one by the bytes of
// the first two.
var normalZ = sync.OnceValue(func() *[1 << 16]byte {
	t := new([1 << 16]byte)
	for i := range t {
		x, y := float64(i>>8)/127.5-1, float64(i&0xff)/127.5-1
		t[i] = byte(math.Round((math.Sqrt(max(0, 1-x*x-y*y)) + 1) * 127.5))
	}
	return t
})
