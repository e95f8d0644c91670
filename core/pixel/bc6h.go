package pixel

import (
	"encoding/binary"
	"strings"
)

// BC6H (Khronos Data Format 1.3, section 20.1; Direct3D 11.3 functional
// specification, section 19.5.9): three half floats a texel, of two subsets
// of endpoints or one.

// bc6Mode says where a mode's bits lie: a list of fields from the lowest bit
// up, such as rw9-0 for the bits 0 to 9 of the first red endpoint. The
// endpoints are w and x of the first subset, y and z of the second.
type bc6Mode struct {
	bits        uint     // of the first endpoint
	delta       [3]uint  // of the others, by channel
	transformed bool     // the others are differences
	two         bool     // two subsets
	fields      []bc6Bit // one for each bit after the mode's own
}

type bc6Bit struct{ channel, endpoint, bit uint8 } // endpoint 4: the partition

func bc6(bits uint, delta [3]uint, transformed, two bool, layout string) *bc6Mode {
	m := &bc6Mode{bits: bits, delta: delta, transformed: transformed, two: two}
	for _, f := range strings.Fields(layout) {
		add := func(bit int) {
			if f[0] == 'd' {
				m.fields = append(m.fields, bc6Bit{0, 4, uint8(bit)})
				return
			}
			m.fields = append(m.fields, bc6Bit{uint8(strings.IndexByte("rgb", f[0])), uint8(strings.IndexByte("wxyz", f[1])), uint8(bit)})
		}
		num := strings.TrimLeft(f, "rgbdwxyz")
		from, to, many := strings.Cut(num, "-")
		a := atoi(from)
		if !many {
			add(a)
			continue
		}
		for b := a; ; {
			add(b)
			if b == atoi(to) {
				break
			}
			if atoi(to) > a {
				b++
			} else {
				b--
			}
		}
	}
	return m
}

func atoi(s string) (n int) {
	for _, c := range s {
		n = 10*n + int(c-'0')
	}
	return n
}

// bc6Modes by the five lowest bits; the first two have two bits only.
var bc6Modes = map[uint32]*bc6Mode{
	0x00: bc6(10, [3]uint{5, 5, 5}, true, true, "gy4 by4 bz4 rw0-9 gw0-9 bw0-9 rx0-4 gz4 gy0-3 gx0-4 bz0 gz0-3 bx0-4 bz1 by0-3 ry0-4 bz2 rz0-4 bz3 d0-4"),
	0x01: bc6(7, [3]uint{6, 6, 6}, true, true, "gy5 gz4 gz5 rw0-6 bz0 bz1 by4 gw0-6 by5 bz2 gy4 bw0-6 bz3 bz5 bz4 rx0-5 gy0-3 gx0-5 gz0-3 bx0-5 by0-3 ry0-5 rz0-5 d0-4"),
	0x02: bc6(11, [3]uint{5, 4, 4}, true, true, "rw0-9 gw0-9 bw0-9 rx0-4 rw10 gy0-3 gx0-3 gw10 bz0 gz0-3 bx0-3 bw10 bz1 by0-3 ry0-4 bz2 rz0-4 bz3 d0-4"),
	0x06: bc6(11, [3]uint{4, 5, 4}, true, true, "rw0-9 gw0-9 bw0-9 rx0-3 rw10 gz4 gy0-3 gx0-4 gw10 gz0-3 bx0-3 bw10 bz1 by0-3 ry0-3 bz0 bz2 rz0-3 gy4 bz3 d0-4"),
	0x0a: bc6(11, [3]uint{4, 4, 5}, true, true, "rw0-9 gw0-9 bw0-9 rx0-3 rw10 by4 gy0-3 gx0-3 gw10 bz0 gz0-3 bx0-4 bw10 by0-3 ry0-3 bz1 bz2 rz0-3 bz4 bz3 d0-4"),
	0x0e: bc6(9, [3]uint{5, 5, 5}, true, true, "rw0-8 by4 gw0-8 gy4 bw0-8 bz4 rx0-4 gz4 gy0-3 gx0-4 bz0 gz0-3 bx0-4 bz1 by0-3 ry0-4 bz2 rz0-4 bz3 d0-4"),
	0x12: bc6(8, [3]uint{6, 5, 5}, true, true, "rw0-7 gz4 by4 gw0-7 bz2 gy4 bw0-7 bz3 bz4 rx0-5 gy0-3 gx0-4 bz0 gz0-3 bx0-4 bz1 by0-3 ry0-5 rz0-5 d0-4"),
	0x16: bc6(8, [3]uint{5, 6, 5}, true, true, "rw0-7 bz0 by4 gw0-7 gy5 gy4 bw0-7 gz5 bz4 rx0-4 gz4 gy0-3 gx0-5 gz0-3 bx0-4 bz1 by0-3 ry0-4 bz2 rz0-4 bz3 d0-4"),
	0x1a: bc6(8, [3]uint{5, 5, 6}, true, true, "rw0-7 bz1 by4 gw0-7 by5 gy4 bw0-7 bz5 bz4 rx0-4 gz4 gy0-3 gx0-4 bz0 gz0-3 bx0-5 by0-3 ry0-4 bz2 rz0-4 bz3 d0-4"),
	0x1e: bc6(6, [3]uint{6, 6, 6}, false, true, "rw0-5 gz4 bz0 bz1 by4 gw0-5 gy5 by5 bz2 gy4 bw0-5 gz5 bz3 bz5 bz4 rx0-5 gy0-3 gx0-5 gz0-3 bx0-5 by0-3 ry0-5 rz0-5 d0-4"),
	0x03: bc6(10, [3]uint{10, 10, 10}, false, false, "rw0-9 gw0-9 bw0-9 rx0-9 gx0-9 bx0-9"),
	0x07: bc6(11, [3]uint{9, 9, 9}, true, false, "rw0-9 gw0-9 bw0-9 rx0-8 rw10 gx0-8 gw10 bx0-8 bw10"),
	0x0b: bc6(12, [3]uint{8, 8, 8}, true, false, "rw0-9 gw0-9 bw0-9 rx0-7 rw11-10 gx0-7 gw11-10 bx0-7 bw11-10"),
	0x0f: bc6(16, [3]uint{4, 4, 4}, true, false, "rw0-9 gw0-9 bw0-9 rx0-3 rw15-10 gx0-3 gw15-10 bx0-3 bw15-10"),
}

// bc6Block gives the 16 texels of a block as half floats.
func bc6Block(t *[16][3]uint16, b []byte, signed bool) {
	*t = [16][3]uint16{}
	r := bitsOf{binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:])}
	code := uint32(b[0] & 3)
	if code > 1 {
		code = uint32(b[0] & 31)
		r.take(5)
	} else {
		r.take(2)
	}
	m := bc6Modes[code]
	if m == nil {
		return // reserved: black
	}
	var e [4][3]int32 // endpoints
	var partition uint32
	for _, f := range m.fields {
		v := r.take(1) << f.bit
		if f.endpoint == 4 {
			partition |= v
		} else {
			e[f.endpoint][f.channel] |= int32(v)
		}
	}
	n := 2
	if m.two {
		n = 4
	}
	extend := func(v int32, bits uint) int32 { return v << (32 - bits) >> (32 - bits) }
	for c := range 3 {
		if signed {
			e[0][c] = extend(e[0][c], m.bits)
		}
		for i := 1; i < n; i++ {
			if signed || m.transformed {
				e[i][c] = extend(e[i][c], m.delta[c])
			}
			if m.transformed {
				e[i][c] = (e[i][c] + e[0][c]) & (1<<m.bits - 1)
				if signed {
					e[i][c] = extend(e[i][c], m.bits)
				}
			}
		}
		for i := range n {
			e[i][c] = bc6Widen(e[i][c], m.bits, signed)
		}
	}
	anchors, subsets, indexBits := uint32(1), uint32(0), uint(4)
	if m.two {
		subsets = uint32(bc7Two[partition])
		anchors |= 1 << bc7Anchor2[partition]
		indexBits = 3
	}
	weights := bc7Weights[indexBits]
	for i := range t {
		w := int32(weights[r.take(indexBits-uint(anchors>>i&1))])
		k := subsets >> i & 1 * 2
		for c := range 3 {
			t[i][c] = bc6Half((e[k][c]*(64-w)+e[k+1][c]*w+32)>>6, signed)
		}
	}
}

// bc6Widen brings an endpoint to 16 bits.
func bc6Widen(v int32, bits uint, signed bool) int32 {
	if !signed {
		switch {
		case bits >= 15 || v == 0:
			return v
		case v == 1<<bits-1:
			return 0xffff
		}
		return (v<<16 + 0x8000) >> bits
	}
	if bits >= 16 {
		return v
	}
	neg := v < 0
	if neg {
		v = -v
	}
	switch {
	case v == 0:
	case v >= 1<<(bits-1)-1:
		v = 0x7fff
	default:
		v = (v<<15 + 0x4000) >> (bits - 1)
	}
	if neg {
		return -v
	}
	return v
}

// bc6Half scales an interpolated value to a half float's bits.
func bc6Half(v int32, signed bool) uint16 {
	if !signed {
		return uint16(v * 31 >> 6)
	}
	if v < 0 {
		return 0x8000 | uint16(-v*31>>5)
	}
	return uint16(v * 31 >> 5)
}

// bc6Texels are a block's texels as bytes; what is brighter than 1 is cut off.
func bc6Texels(t *[16]uint32, b []byte, signed bool) {
	var h [16][3]uint16
	bc6Block(&h, b, signed)
	to := halves()
	for i, c := range h {
		t[i] = uint32(to[c[0]]) | uint32(to[c[1]])<<8 | uint32(to[c[2]])<<16 | 0xff000000
	}
}
