package pixel

import (
	"encoding/binary"
	"math/bits"
)

// BC7 (Khronos Data Format 1.3, section 20.1).

type bc7Mode struct {
	subsets, partitionBits, rotationBits, selectorBits, colourBits, alphaBits uint
	endpointP, sharedP                                                        bool // one more bit an endpoint, or a subset
	indexBits, index2Bits                                                     uint
}

var bc7Modes = [8]bc7Mode{
	{3, 4, 0, 0, 4, 0, true, false, 3, 0},
	{2, 6, 0, 0, 6, 0, false, true, 3, 0},
	{3, 6, 0, 0, 5, 0, false, false, 2, 0},
	{2, 6, 0, 0, 7, 0, true, false, 2, 0},
	{1, 0, 2, 1, 5, 6, false, false, 2, 3},
	{1, 0, 2, 0, 7, 8, false, false, 2, 2},
	{1, 0, 0, 0, 7, 7, true, false, 4, 0},
	{2, 6, 0, 0, 5, 5, true, false, 2, 0},
}

// bc7Two has a bit for each texel: its subset of two.
var bc7Two = [64]uint16{
	0xcccc, 0x8888, 0xeeee, 0xecc8, 0xc880, 0xfeec, 0xfec8, 0xec80, 0xc800, 0xffec, 0xfe80, 0xe800, 0xffe8, 0xff00, 0xfff0, 0xf000,
	0xf710, 0x008e, 0x7100, 0x08ce, 0x008c, 0x7310, 0x3100, 0x8cce, 0x088c, 0x3110, 0x6666, 0x366c, 0x17e8, 0x0ff0, 0x718e, 0x399c,
	0xaaaa, 0xf0f0, 0x5a5a, 0x33cc, 0x3c3c, 0x55aa, 0x9696, 0xa55a, 0x73ce, 0x13c8, 0x324c, 0x3bdc, 0x6996, 0xc33c, 0x9966, 0x0660,
	0x0272, 0x04e4, 0x4e40, 0x2720, 0xc936, 0x936c, 0x39c6, 0x639c, 0x9336, 0x9cc6, 0x817e, 0xe718, 0xccf0, 0x0fcc, 0x7744, 0xee22,
}

// bc7Three has two bits for each texel: its subset of three.
var bc7Three = [64]uint32{
	0xaa685050, 0x6a5a5040, 0x5a5a4200, 0x5450a0a8, 0xa5a50000, 0xa0a05050, 0x5555a0a0, 0x5a5a5050, 0xaa550000, 0xaa555500, 0xaaaa5500, 0x90909090, 0x94949494, 0xa4a4a4a4, 0xa9a59450, 0x2a0a4250,
	0xa5945040, 0x0a425054, 0xa5a5a500, 0x55a0a0a0, 0xa8a85454, 0x6a6a4040, 0xa4a45000, 0x1a1a0500, 0x0050a4a4, 0xaaa59090, 0x14696914, 0x69691400, 0xa08585a0, 0xaa821414, 0x50a4a450, 0x6a5a0200,
	0xa9a58000, 0x5090a0a8, 0xa8a09050, 0x24242424, 0x00aa5500, 0x24924924, 0x24499224, 0x50a50a50, 0x500aa550, 0xaaaa4444, 0x66660000, 0xa5a0a5a0, 0x50a050a0, 0x69286928, 0x44aaaa44, 0x66666600,
	0xaa444444, 0x54a854a8, 0x95809580, 0x96969600, 0xa85454a8, 0x80959580, 0xaa141414, 0x96960000, 0xaaaa1414, 0xa05050a0, 0xa0a5a5a0, 0x96000000, 0x40804080, 0xa9a8a9a8, 0xaaaaaa44, 0x2a4a5254,
}

// The anchors: the texel of a subset whose index has one bit less. That of
// the first subset is texel 0.
var (
	bc7Anchor2 = [64]uint8{
		15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 2, 8, 2, 2, 8, 8, 15, 2, 8, 2, 2, 8, 8, 2, 2,
		15, 15, 6, 8, 2, 8, 15, 15, 2, 8, 2, 2, 2, 15, 15, 6, 6, 2, 6, 8, 15, 15, 2, 2, 15, 15, 15, 15, 15, 2, 2, 15,
	}
	bc7Anchor3a = [64]uint8{
		3, 3, 15, 15, 8, 3, 15, 15, 8, 8, 6, 6, 6, 5, 3, 3, 3, 3, 8, 15, 3, 3, 6, 10, 5, 8, 8, 6, 8, 5, 15, 15,
		8, 15, 3, 5, 6, 10, 8, 15, 15, 3, 15, 5, 15, 15, 15, 15, 3, 15, 5, 5, 5, 8, 5, 10, 5, 10, 8, 13, 15, 12, 3, 3,
	}
	bc7Anchor3b = [64]uint8{
		15, 8, 8, 3, 15, 15, 3, 8, 15, 15, 15, 15, 15, 15, 15, 8, 15, 8, 15, 3, 15, 8, 15, 8, 3, 15, 6, 10, 15, 15, 10, 8,
		15, 3, 15, 10, 10, 8, 9, 10, 6, 15, 8, 15, 3, 6, 6, 8, 15, 3, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 3, 15, 15, 8,
	}
	bc7Weights = [5][]uint32{2: {0, 21, 43, 64}, 3: {0, 9, 18, 27, 37, 46, 55, 64}, 4: {0, 4, 9, 13, 17, 21, 26, 30, 34, 38, 43, 47, 51, 55, 60, 64}}
)

// bitsOf reads a block's bits from the lowest up.
type bitsOf struct{ lo, hi uint64 }

func (b *bitsOf) take(n uint) uint32 {
	v := uint32(b.lo & (1<<n - 1))
	b.lo = b.lo>>n | b.hi<<(64-n)
	b.hi >>= n
	return v
}

func bc7Block(t *[16]uint32, b []byte) {
	r := bitsOf{binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:])}
	no := bits.TrailingZeros8(b[0])
	if no == 8 { // reserved: the standard says transparent black
		*t = [16]uint32{}
		return
	}
	r.take(uint(no) + 1)
	m := &bc7Modes[no]
	var partition, rotation, selector uint32
	if m.partitionBits > 0 {
		partition = r.take(m.partitionBits)
	}
	if m.rotationBits > 0 {
		rotation = r.take(m.rotationBits)
	}
	if m.selectorBits > 0 {
		selector = r.take(m.selectorBits)
	}
	var e [6][4]uint32 // endpoints: two a subset
	n := 2 * m.subsets
	cb, ab := m.colourBits, m.alphaBits
	var raw [4]uint32 // of each channel, all endpoints: at most 30 bits
	for c := range 3 {
		raw[c] = r.take(cb * uint(n))
	}
	if ab > 0 {
		raw[3] = r.take(ab * uint(n))
	}
	var p uint32 // the endpoints' lowest bits, one each
	switch {
	case m.endpointP:
		p = r.take(uint(n))
	case m.sharedP:
		p = pairs[r.take(uint(n/2))] * 3
	}
	low := uint(0)
	if m.endpointP || m.sharedP {
		low = 1
	}
	// To eight bits, the highest repeated below.
	for c := range 3 {
		v, mask := raw[c], uint32(1)<<cb-1
		up, down, q := 8-cb-low, cb+low, p
		for i := range n {
			x := ((v&mask)<<low | q&uint32(low)) << up
			e[i][c] = x | x>>down
			v, q = v>>cb, q>>1
		}
	}
	if ab > 0 {
		v, mask := raw[3], uint32(1)<<ab-1
		up, down, q := 8-ab-low, ab+low, p
		for i := range n {
			x := ((v&mask)<<low | q&uint32(low)) << up
			e[i][3] = x | x>>down
			v, q = v>>ab, q>>1
		}
	} else {
		for i := range n {
			e[i][3] = 255
		}
	}
	// Two bits for each texel: its subset; a bit for each texel that is an anchor.
	var subsets, anchors uint32 = 0, 1
	switch m.subsets {
	case 2:
		subsets = pairs[bc7Two[partition]&0xff] | pairs[bc7Two[partition]>>8]<<16
		anchors |= 1 << bc7Anchor2[partition]
	case 3:
		subsets = bc7Three[partition]
		anchors |= 1<<bc7Anchor3a[partition] | 1<<bc7Anchor3b[partition]
	}
	// Red with blue and green with alpha are interpolated together: 64 times
	// 255 leaves room between them.
	var rb, ga [6]uint32
	for i := range n {
		rb[i], ga[i] = e[i][0]|e[i][2]<<16, e[i][1]|e[i][3]<<16
	}
	if m.index2Bits > 0 {
		bc7Separate(t, &r, m, rotation, selector, rb, ga)
		return
	}
	weights := bc7Weights[m.indexBits]
	lo := r.lo // the indices are less than 64 bits
	full := uint64(1)<<m.indexBits - 1
	for i := range t {
		short := uint(anchors >> i & 1)
		w := weights[lo&(full>>short)]
		lo >>= m.indexBits - short
		k := subsets & 3 * 2
		subsets >>= 2
		v := 64 - w
		x := (rb[k]*v + rb[k+1]*w + 0x00200020) >> 6 & 0x00ff00ff
		y := (ga[k]*v + ga[k+1]*w + 0x00200020) >> 6 & 0x00ff00ff
		t[i] = x | y<<8
	}
}

// pairs doubles each bit's place: bit i becomes bit 2i.
var pairs = func() (t [256]uint32) {
	for i := range t {
		t[i] = uint32(spread(i))
	}
	return t
}()

// bc7Separate unpacks the modes whose alpha has indices of its own.
func bc7Separate(t *[16]uint32, r *bitsOf, m *bc7Mode, rotation, selector uint32, rb, ga [6]uint32) {
	var index, index2 [16]uint32
	for i := range index {
		index[i] = r.take(m.indexBits - uint(b2u(i == 0)))
	}
	for i := range index2 {
		index2[i] = r.take(m.index2Bits - uint(b2u(i == 0)))
	}
	colour, alpha, ci, ai := bc7Weights[m.indexBits], bc7Weights[m.index2Bits], &index, &index2
	if selector != 0 {
		colour, alpha, ci, ai = alpha, colour, ai, ci
	}
	for i := range t {
		w := colour[ci[i]]
		x := (rb[0]*(64-w) + rb[1]*w + 0x00200020) >> 6 & 0x00ff00ff
		g := (ga[0]&0xff*(64-w) + ga[1]&0xff*w + 32) >> 6
		w = alpha[ai[i]]
		a := (ga[0]>>16*(64-w) + ga[1]>>16*w + 32) >> 6
		v := [4]uint32{x & 0xff, g, x >> 16, a}
		if rotation > 0 {
			v[rotation-1], v[3] = v[3], v[rotation-1]
		}
		t[i] = v[0] | v[1]<<8 | v[2]<<16 | v[3]<<24
	}
}

func b2u(b bool) int {
	if b {
		return 1
	}
	return 0
}
