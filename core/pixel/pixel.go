// Package pixel turns raw texels into pictures: packed formats, palettes,
// block compression and tilings.
//
// Formats are named as in the Khronos Data Format and Vulkan specifications,
// in lower case: in a packed name such as a1r5g5b5_pack16 the first channel
// lies in the highest bits of a little-endian word; in r8g8b8a8 the first
// channel is the first byte. Any order of channels and any widths that fill a
// word are understood, not a fixed list. Besides r, g, b and a there are l
// (grey), i (grey that is its own alpha) and x (not used).
package pixel

import (
	"encoding/binary"
	"fmt"
	"image"
	"math"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"excavate/core/limit"
)

// Format is the name of a texel format.
type Format string

// Formats that are no packing of channels. An index of fewer than eight bits
// takes the high bits of a byte first; with _low the low ones.
const (
	Indexed1    Format = "indexed1"
	Indexed1Low Format = "indexed1_low"
	Indexed2    Format = "indexed2"
	Indexed2Low Format = "indexed2_low"
	Indexed4    Format = "indexed4"
	Indexed4Low Format = "indexed4_low"
	Indexed8    Format = "indexed8"

	// Block compression, 4 x 4 texels a block (Khronos Data Format 1.3,
	// chapters 18 to 20).
	BC1  Format = "bc1"         // colour, one bit of alpha
	BC2  Format = "bc2"         // colour, four bits of alpha
	BC3  Format = "bc3"         // colour, alpha as in BC4
	BC4  Format = "bc4"         // one channel, shown as grey
	BC5  Format = "bc5"         // red and green; blue is made as of a normal
	BC6  Format = "bc6h_ufloat" // half floats without a sign
	BC6S Format = "bc6h_sfloat"
	BC7  Format = "bc7"
)

// indexBits of the indexed formats.
var indexBits = map[Format]int{Indexed1: 1, Indexed1Low: 1, Indexed2: 2, Indexed2Low: 2, Indexed4: 4, Indexed4Low: 4, Indexed8: 8}

// Indexed tells whether the texels are indices into a palette.
func (f Format) Indexed() bool { return indexBits[f] > 0 }

// Compressed tells whether texels are packed in blocks of 4 x 4.
func (f Format) Compressed() bool { return blockBytes[f] > 0 }

type channel struct {
	name byte // r g b a l i x
	low  uint // first bit in the word
	bits uint
}

// packing is how a texel's channels lie in its bytes.
type packing struct {
	bytes    int
	channels []channel
	float    bool // IEEE 754 binary16 or binary32 channels
	word     bool // the channels are bits of one word
}

var (
	packings  sync.Map // Format to *packing, or nil
	nameForm  = regexp.MustCompile(`^((?:[rgbalix]\d{1,2})+)(?:_pack(8|16|32))?(?:_(sfloat))?$`)
	channelRE = regexp.MustCompile(`([rgbalix])(\d{1,2})`)
)

// parse reads a format's name; nil if it is not one.
func parse(f Format) *packing {
	if p, ok := packings.Load(f); ok {
		return p.(*packing)
	}
	p := parseName(string(f))
	if p != nil { // names that are no formats must not fill memory
		packings.Store(f, p)
	}
	return p
}

func parseName(f string) *packing {
	m := nameForm.FindStringSubmatch(f)
	if m == nil || len(f) > 40 {
		return nil
	}
	p := &packing{float: m[3] != ""}
	total := uint(0)
	seen := map[byte]bool{}
	for _, c := range channelRE.FindAllStringSubmatch(m[1], -1) {
		bits, _ := strconv.Atoi(c[2])
		name := c[1][0]
		if bits == 0 || seen[name] && name != 'x' || p.float && bits != 16 && bits != 32 || !p.float && bits > 16 {
			return nil
		}
		seen[name] = true
		p.channels = append(p.channels, channel{name, total, uint(bits)})
		total += uint(bits)
	}
	if (seen['l'] || seen['i']) && (seen['r'] || seen['g'] || seen['b']) || seen['i'] && (seen['l'] || seen['a']) {
		return nil
	}
	if m[2] != "" {
		word, _ := strconv.Atoi(m[2])
		if uint(word) != total || p.float {
			return nil
		}
		p.word = true
		for i := range p.channels { // the first channel is the highest
			c := &p.channels[i]
			c.low = total - c.low - c.bits
		}
	} else {
		for _, c := range p.channels { // each a whole number of bytes, all alike
			if c.bits%8 != 0 || c.bits != p.channels[0].bits {
				return nil
			}
		}
	}
	if total%8 != 0 || total > 128 {
		return nil
	}
	p.bytes = int(total / 8)
	return p
}

// Known lists the formats as people are told of them.
func Known() []string {
	return []string{"r8g8b8a8 and its like (r g b a l i x, 8 or 16 bits each)", "r5g6b5_pack16 and its like", "r16g16b16a16_sfloat and its like",
		"indexed1 indexed2 indexed4 (with _low for the low bits first) indexed8", "bc1 bc2 bc3 bc4 bc5 bc6h_ufloat bc6h_sfloat bc7"}
}

// blockBytes of the compressed formats.
var blockBytes = map[Format]int64{BC1: 8, BC2: 16, BC3: 16, BC4: 8, BC5: 16, BC6: 16, BC6S: 16, BC7: 16}

// Valid tells whether the format is known.
func (f Format) Valid() bool { return f.Indexed() || blockBytes[f] > 0 || parse(f) != nil }

// Bytes is the number of bytes that w x h texels take.
func (f Format) Bytes(w, h int) (int64, error) {
	if w <= 0 || h <= 0 || int64(w)*int64(h) > limit.Texels {
		return 0, fmt.Errorf("a picture of %d x %d texels: each side must be 1 or more and the whole at most %d texels", w, h, limit.Texels)
	}
	n := int64(w) * int64(h)
	if b := indexBits[f]; b > 0 {
		return int64((w*b+7)/8) * int64(h), nil
	}
	if b := blockBytes[f]; b > 0 {
		return int64((w+3)/4) * int64((h+3)/4) * b, nil
	}
	p := parse(f)
	if p == nil {
		return 0, fmt.Errorf("texel format %q is not known; there are %s", f, strings.Join(Known(), "; "))
	}
	return n * int64(p.bytes), nil
}

// Options of a decoding.
type Options struct {
	Palette   []byte // RGBA, 4 bytes a colour, for indexed formats
	BigEndian bool   // of words of packed formats and of channels of more than a byte
	Tiling    Tiling
}

// Decode unpacks w x h texels, rows from the top. palette is used by indexed
// formats: RGBA, 4 bytes a colour.
func Decode(f Format, data []byte, w, h int, palette []byte) (*image.NRGBA, error) {
	return DecodeWith(f, data, w, h, Options{Palette: palette})
}

// DecodeWith unpacks w x h texels, rows from the top.
func DecodeWith(f Format, data []byte, w, h int, o Options) (*image.NRGBA, error) {
	need, err := f.Bytes(w, h)
	if err != nil {
		return nil, err
	}
	if o.Tiling.Kind != Linear {
		if data, err = untile(f, data, w, h, o.Tiling); err != nil {
			return nil, err
		}
	}
	if int64(len(data)) < need {
		return nil, fmt.Errorf("%d x %d texels of %s need %d bytes, %d are there", w, h, f, need, len(data))
	}
	data = data[:need]
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	switch {
	case f.Indexed():
		err = decodeIndexed(img.Pix, f, data, w, h, o.Palette)
	case blockBytes[f] > 0:
		decodeBlocks(img, f, data)
	default:
		decodePacked(img.Pix, f, parse(f), data, o.BigEndian)
	}
	if err != nil {
		return nil, err
	}
	return img, nil
}

// Palette unpacks n colours to RGBA bytes.
func Palette(f Format, data []byte, n int) ([]byte, error) { return PaletteWith(f, data, n, false) }

// PaletteWith unpacks n colours to RGBA bytes.
func PaletteWith(f Format, data []byte, n int, bigEndian bool) ([]byte, error) {
	p := parse(f)
	if p == nil {
		return nil, fmt.Errorf("%q is no format for a palette", f)
	}
	if n < 0 || n > 1<<16 || len(data) < n*p.bytes {
		return nil, fmt.Errorf("a palette of %d colours of %s needs %d bytes, %d are there", n, f, n*p.bytes, len(data))
	}
	out := make([]byte, 4*n)
	decodePacked(out, f, p, data[:n*p.bytes], bigEndian)
	return out, nil
}

func decodeIndexed(dst []byte, f Format, data []byte, w, h int, palette []byte) error {
	bits := indexBits[f]
	low := strings.HasSuffix(string(f), "_low")
	colours := make([]uint32, len(palette)/4)
	for i := range colours {
		colours[i] = binary.LittleEndian.Uint32(palette[4*i:])
	}
	per := 8 / bits
	mask := 1<<bits - 1
	stride := (w*bits + 7) / 8
	for y := range h {
		row := data[y*stride:][:stride]
		out := dst[4*y*w:][:4*w]
		for x := range w {
			k := x % per
			if !low {
				k = per - 1 - k
			}
			v := int(row[x/per]) >> (k * bits) & mask
			if v >= len(colours) {
				return fmt.Errorf("texel %d has colour %d of a palette of %d", y*w+x, v, len(colours))
			}
			binary.LittleEndian.PutUint32(out[4*x:], colours[v])
		}
	}
	return nil
}

// tables hold the colour of every value of the 8- and 16-bit formats.
var tables sync.Map

func table(f Format, p *packing) []uint32 {
	if t, ok := tables.Load(f); ok {
		return t.([]uint32)
	}
	t := make([]uint32, 1<<(8*p.bytes))
	var b [2]byte
	for v := range t {
		binary.LittleEndian.PutUint16(b[:], uint16(v))
		t[v] = unpack(p, b[:p.bytes], false)
	}
	tables.Store(f, t)
	return t
}

// ordered tells whether byte order matters: the channels share a word, or one
// is wider than a byte.
func (p *packing) ordered() bool {
	return p.word || p.channels[0].bits > 8
}

func decodePacked(dst []byte, f Format, p *packing, data []byte, big bool) {
	if p.bytes == 1 {
		t := table(f, p)
		for i, v := range data {
			binary.LittleEndian.PutUint32(dst[4*i:], t[v])
		}
		return
	}
	if p.bytes == 2 && !p.float { // one look-up a texel
		t := table(f, p)
		if big && p.ordered() {
			for i := 0; i+1 < len(data); i += 2 {
				binary.LittleEndian.PutUint32(dst[2*i:], t[binary.BigEndian.Uint16(data[i:])])
			}
			return
		}
		for i := 0; i+1 < len(data); i += 2 {
			binary.LittleEndian.PutUint32(dst[2*i:], t[binary.LittleEndian.Uint16(data[i:])])
		}
		return
	}
	if order, ok := byteOrder(p, big); ok {
		for i, o := 0, 0; i+p.bytes <= len(data); i, o = i+p.bytes, o+4 {
			s := data[i : i+p.bytes]
			d := dst[o : o+4 : o+4]
			d[0], d[1], d[2], d[3] = s[order[0]], s[order[1]], s[order[2]], 255
			if order[3] >= 0 {
				d[3] = s[order[3]]
			}
		}
		return
	}
	if at, ok := wideOrder(p); ok { // 16 bits a channel: one look-up each
		t := wides()
		if p.float {
			t = halves()
		}
		hi := 1
		if big {
			hi = 0
		}
		for i, o := 0, 0; i+p.bytes <= len(data); i, o = i+p.bytes, o+4 {
			s := data[i : i+p.bytes]
			d := dst[o : o+4 : o+4]
			d[3] = 255
			for k, c := range at {
				if c >= 0 {
					d[k] = t[uint16(s[c+hi])<<8|uint16(s[c+1-hi])]
				}
			}
		}
		return
	}
	for i, o := 0, 0; i+p.bytes <= len(data); i, o = i+p.bytes, o+4 {
		binary.LittleEndian.PutUint32(dst[o:], unpack(p, data[i:i+p.bytes], big))
	}
}

// wideOrder gives the first byte of r, g, b and a where each is 16 bits; -1
// where there is none.
func wideOrder(p *packing) (at [4]int, ok bool) {
	at = [4]int{-1, -1, -1, -1}
	for _, c := range p.channels {
		if c.bits != 16 || p.word {
			return at, false
		}
		if c.name == 'x' {
			continue
		}
		k := strings.IndexByte("rgba", c.name)
		if k < 0 {
			return at, false
		}
		at[k] = int(c.low / 8)
	}
	return at, true
}

// wides has every 16-bit number as eight bits, rounded.
var wides = sync.OnceValue(func() *[1 << 16]byte {
	t := new([1 << 16]byte)
	for i := range t {
		t[i] = byte((uint32(i)*255 + 32767) / 65535)
	}
	return t
})

// byteOrder gives the byte of r, g, b and a where each is one; alpha is -1
// where there is none.
func byteOrder(p *packing, big bool) (order [4]int, ok bool) {
	order = [4]int{-1, -1, -1, -1}
	for _, c := range p.channels {
		k := strings.IndexByte("rgba", c.name)
		if c.name == 'x' && c.bits == 8 {
			continue
		}
		if c.bits != 8 || c.low%8 != 0 || k < 0 {
			return order, false
		}
		order[k] = int(c.low / 8)
		if p.word && big {
			order[k] = p.bytes - 1 - order[k]
		}
	}
	return order, order[0] >= 0 && order[1] >= 0 && order[2] >= 0
}

// unpack turns one texel into R, G, B and A bytes of a little-endian word.
func unpack(p *packing, b []byte, big bool) uint32 {
	out := [4]byte{0, 0, 0, 255}
	var word uint32
	if p.word {
		for i := range b {
			if big {
				word = word<<8 | uint32(b[i])
			} else {
				word = word<<8 | uint32(b[len(b)-1-i])
			}
		}
	}
	for _, c := range p.channels {
		var v byte
		switch {
		case p.word:
			top := uint32(1)<<c.bits - 1
			v = byte((word>>c.low&top*510 + top) / (2 * top)) // rounded to the nearest of 0..255
		case c.bits == 8:
			v = b[c.low/8]
		case c.bits == 16 && p.float:
			v = halves()[u16(b[c.low/8:], big)]
		case c.bits == 16:
			v = byte((uint32(u16(b[c.low/8:], big))*255 + 32767) / 65535)
		default:
			u := binary.LittleEndian.Uint32(b[c.low/8:])
			if big {
				u = binary.BigEndian.Uint32(b[c.low/8:])
			}
			v = unit(math.Float32frombits(u))
		}
		switch c.name {
		case 'r':
			out[0] = v
		case 'g':
			out[1] = v
		case 'b':
			out[2] = v
		case 'a':
			out[3] = v
		case 'l':
			out[0], out[1], out[2] = v, v, v
		case 'i':
			out = [4]byte{v, v, v, v}
		}
	}
	return binary.LittleEndian.Uint32(out[:])
}

func u16(b []byte, big bool) uint16 {
	if big {
		return binary.BigEndian.Uint16(b)
	}
	return binary.LittleEndian.Uint16(b)
}

// unit shows a number from 0 to 1; what lies outside is cut off.
func unit(f float32) byte {
	if !(f > 0) { // NaN too
		return 0
	}
	return byte(min(f, 1)*255 + 0.5)
}

// halves has every binary16 as unit shows it.
var halves = sync.OnceValue(func() *[1 << 16]byte {
	t := new([1 << 16]byte)
	for i := range t {
		t[i] = unit(Half(uint16(i)))
	}
	return t
})

// Half reads IEEE 754 binary16.
func Half(h uint16) float32 {
	sign, exp, frac := uint32(h>>15)<<31, uint32(h>>10&31), uint32(h&0x3ff)
	switch {
	case exp == 0:
		f := float32(frac) / (1 << 24)
		if sign != 0 {
			f = -f
		}
		return f
	case exp == 31:
		return math.Float32frombits(sign | 0xff<<23 | frac<<13)
	}
	return math.Float32frombits(sign | (exp+112)<<23 | frac<<13)
}

// Brightness reads bytes as texels in one long row and gives the brightness of
// each, or of each block of a compressed format; unit is how many texels wide
// one of them is.
func Brightness(f Format, data []byte, o Options) (grey []byte, unit int, err error) {
	unit = 1
	w, h := 0, 1
	switch b := blockBytes[f]; {
	case b > 0:
		unit = 4
		w, h = 4*(len(data)/int(b)), 4
	case f.Indexed():
		w = len(data) * 8 / indexBits[f]
	default:
		p := parse(f)
		if p == nil {
			return nil, 1, fmt.Errorf("texel format %q is not known", f)
		}
		w = len(data) / p.bytes
	}
	if w == 0 {
		return nil, unit, nil
	}
	o.Tiling = Tiling{}
	img, err := DecodeWith(f, data, w, h, o)
	if err != nil {
		return nil, unit, err
	}
	grey = make([]byte, w/unit)
	for i := range grey {
		sum := 0
		for y := range h {
			for x := range unit {
				p := img.Pix[4*(y*w+i*unit+x):]
				sum += 2*int(p[0]) + 5*int(p[1]) + int(p[2])
			}
		}
		grey[i] = byte(sum / (8 * unit * h))
	}
	return grey, unit, nil
}

// FlipRows puts the last row first.
func FlipRows(img *image.NRGBA) {
	h := img.Rect.Dy()
	tmp := make([]byte, img.Stride)
	for y := 0; y < h/2; y++ {
		a, b := img.Pix[y*img.Stride:(y+1)*img.Stride], img.Pix[(h-1-y)*img.Stride:(h-y)*img.Stride]
		copy(tmp, a)
		copy(a, b)
		copy(b, tmp)
	}
}
