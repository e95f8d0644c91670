package layout

import (
	"encoding/binary"
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"

	"excavate/core/pixel"
)

// element is the number format of one vertex attribute or key: n components
// of one type, or a packed word.
type element struct {
	comp   string // u8 i8 u16 i16 u32 i32 f16 f32 f64 unorm8 snorm8 unorm16 snorm16, or a packed name
	n      int
	size   int // bytes of one component, or of the packed word
	packed bool
	word   []wordPart // of a packed word, in the order x, y, z, w
}

// wordPart is one component of a packed word.
type wordPart struct {
	bits   bitRange
	signed bool
	norm   bool
}

// parseWord reads a packed name as the Vulkan specification's formats have
// them (section Formats): channels from the highest bits down, r g b a for x y
// z w and x for bits that are not used, then snorm, unorm, sint or uint.
func parseWord(s string) ([]wordPart, int) {
	rest, ok := strings.CutSuffix(s, "_pack32")
	total := uint(32)
	if !ok {
		if rest, ok = strings.CutSuffix(s, "_pack16"); !ok {
			return nil, 0
		}
		total = 16
	}
	names, kind, _ := strings.Cut(rest, "_")
	p := wordPart{signed: kind == "snorm" || kind == "sint", norm: kind == "snorm" || kind == "unorm"}
	if !p.signed && !p.norm && kind != "uint" {
		return nil, 0
	}
	var parts [4]wordPart
	left, n := total, 0
	for len(names) > 0 {
		end := 1
		for end < len(names) && names[end] >= '0' && names[end] <= '9' {
			end++
		}
		bits, err := strconv.Atoi(names[1:end])
		if err != nil || bits < 1 || uint(bits) > left {
			return nil, 0
		}
		left -= uint(bits)
		if names[0] != 'x' {
			k := strings.IndexByte("rgba", names[0])
			if k < 0 || parts[k].bits.count > 0 {
				return nil, 0
			}
			parts[k] = wordPart{bitRange{left, uint(bits)}, p.signed, p.norm}
			n++
		}
		names = names[end:]
	}
	for _, q := range parts[:n] {
		if q.bits.count == 0 {
			return nil, 0 // b without g
		}
	}
	if left != 0 || n == 0 {
		return nil, 0
	}
	return parts[:n], int(total / 8)
}

// of is the component's value in a word.
func (p *wordPart) of(w uint64) float32 {
	v := p.bits.of(w)
	if p.signed && v>>(p.bits.count-1) != 0 {
		v -= 1 << p.bits.count
	}
	switch {
	case p.norm && p.signed && p.bits.count > 1:
		return max(float32(v)/float32(int64(1)<<(p.bits.count-1)-1), -1)
	case p.norm && !p.signed:
		return float32(v) / float32(int64(1)<<p.bits.count-1)
	}
	return float32(v)
}

var components = map[string]int{"u8": 1, "i8": 1, "unorm8": 1, "snorm8": 1, "u16": 2, "i16": 2, "unorm16": 2, "snorm16": 2, "f16": 2,
	"u32": 4, "i32": 4, "f32": 4, "f64": 8}

// parseElement reads "i16x3", "unorm8x4", "u16" or a packed word such as
// "a2b10g10r10_snorm_pack32".
func parseElement(s string) (element, error) {
	if w, size := parseWord(s); w != nil {
		return element{comp: s, n: len(w), size: size, packed: true, word: w}, nil
	}
	comp, count, ok := strings.Cut(s, "x")
	n := 1
	var err error
	if ok {
		n, err = strconv.Atoi(count)
	}
	size := components[comp]
	if size == 0 || err != nil || n < 1 || n > 16 {
		var known []string
		for c := range components {
			known = append(known, c)
		}
		sort.Strings(known)
		return element{}, fmt.Errorf("number format %q is not known: write a component of %s with its count, such as f32x3, or a packed word, such as a2b10g10r10_snorm_pack32", s, strings.Join(known, ", "))
	}
	return element{comp: comp, n: n, size: size}, nil
}

func (e element) bytes() int {
	if e.packed {
		return e.size
	}
	return e.n * e.size
}

// decode reads count elements that lie stride bytes apart, the first at
// src[0], and stores the first want components of each as floats. src must
// hold (count-1)*stride + e.bytes() bytes; want is at most e.n. The value is
// stored * scale[component] + add[component]; a scale of one number is that
// of all components, one that is missing is 1.
func (e element) decode(src []byte, stride, count, want int, order byteOrder, scale, add []float64) []float32 {
	dst := make([]float32, count*want)
	plain := true
	for _, s := range scale {
		plain = plain && s == 1
	}
	for _, a := range add {
		plain = plain && a == 0
	}
	var bo binary.ByteOrder = binary.LittleEndian
	if order == bigEndian {
		bo = binary.BigEndian
	}
	// One loop a type: the compiler keeps each in registers.
	if order == littleEndian || e.size == 1 {
		switch e.comp {
		case "f32":
			o := 0
			for i := 0; i < count; i++ {
				p := src[i*stride:]
				for k := 0; k < want; k++ {
					dst[o] = math.Float32frombits(binary.LittleEndian.Uint32(p[4*k:]))
					o++
				}
			}
			return affine(dst, want, plain, scale, add)
		case "i16", "snorm16":
			o := 0
			for i := 0; i < count; i++ {
				p := src[i*stride:]
				for k := 0; k < want; k++ {
					dst[o] = float32(int16(binary.LittleEndian.Uint16(p[2*k:])))
					o++
				}
			}
			if e.comp == "snorm16" {
				normalise(dst, 32767)
			}
			return affine(dst, want, plain, scale, add)
		case "f16":
			o := 0
			for i := 0; i < count; i++ {
				p := src[i*stride:]
				for k := 0; k < want; k++ {
					dst[o] = pixel.Half(binary.LittleEndian.Uint16(p[2*k:]))
					o++
				}
			}
			return affine(dst, want, plain, scale, add)
		case "u8", "unorm8":
			o := 0
			for i := 0; i < count; i++ {
				p := src[i*stride:]
				for k := 0; k < want; k++ {
					dst[o] = float32(p[k])
					o++
				}
			}
			if e.comp == "unorm8" {
				for i := range dst {
					dst[i] /= 255
				}
			}
			return affine(dst, want, plain, scale, add)
		case "a2b10g10r10_snorm_pack32":
			o := 0
			for i := 0; i < count; i++ {
				v := binary.LittleEndian.Uint32(src[i*stride:])
				for k := 0; k < want; k++ {
					if k == 3 {
						dst[o] = float32(int32(v) >> 30)
					} else {
						dst[o] = max(float32(int32(v<<(22-10*k))>>22)/511, -1)
					}
					o++
				}
			}
			return affine(dst, want, plain, scale, add)
		}
	}
	o := 0
	for i := 0; i < count; i++ {
		p := src[i*stride:]
		for k := 0; k < want; k++ {
			dst[o] = e.component(p, k, bo)
			o++
		}
	}
	return affine(dst, want, plain, scale, add)
}

// component is the k-th number of one element, the plain way.
func (e element) component(p []byte, k int, bo binary.ByteOrder) float32 {
	switch e.comp {
	case "u8":
		return float32(p[k])
	case "i8":
		return float32(int8(p[k]))
	case "unorm8":
		return float32(p[k]) / 255
	case "snorm8":
		return max(float32(int8(p[k]))/127, -1)
	case "u16":
		return float32(bo.Uint16(p[2*k:]))
	case "i16":
		return float32(int16(bo.Uint16(p[2*k:])))
	case "unorm16":
		return float32(bo.Uint16(p[2*k:])) / 65535
	case "snorm16":
		return max(float32(int16(bo.Uint16(p[2*k:])))/32767, -1)
	case "f16":
		return pixel.Half(bo.Uint16(p[2*k:]))
	case "u32":
		return float32(bo.Uint32(p[4*k:]))
	case "i32":
		return float32(int32(bo.Uint32(p[4*k:])))
	case "f32":
		return math.Float32frombits(bo.Uint32(p[4*k:]))
	case "f64":
		return float32(math.Float64frombits(bo.Uint64(p[8*k:])))
	}
	if e.packed {
		w := uint64(0)
		if e.size == 2 {
			w = uint64(bo.Uint16(p))
		} else {
			w = uint64(bo.Uint32(p))
		}
		return e.word[k].of(w)
	}
	return 0
}

func normalise(dst []float32, by float32) {
	for i := range dst {
		dst[i] = max(dst[i]/by, -1)
	}
}

func affine(dst []float32, n int, plain bool, scale, add []float64) []float32 {
	if plain {
		return dst
	}
	at := func(list []float64, k int, usual float64) float32 {
		switch {
		case len(list) == 1 && usual == 1:
			return float32(list[0])
		case k < len(list):
			return float32(list[k])
		}
		return float32(usual)
	}
	if n == 3 {
		x, y, z := at(scale, 0, 1), at(scale, 1, 1), at(scale, 2, 1)
		a, b, c := at(add, 0, 0), at(add, 1, 0), at(add, 2, 0)
		for i := 0; i+2 < len(dst); i += 3 {
			dst[i], dst[i+1], dst[i+2] = dst[i]*x+a, dst[i+1]*y+b, dst[i+2]*z+c
		}
		return dst
	}
	for k := range n {
		s, a := at(scale, k, 1), at(add, k, 0)
		for i := k; i < len(dst); i += n {
			dst[i] = dst[i]*s + a
		}
	}
	return dst
}

// ints reads whole numbers: joints and indices.
func (e element) ints(src []byte, stride, count int, order byteOrder) []uint32 {
	dst := make([]uint32, count*e.n)
	o := 0
	for i := 0; i < count; i++ {
		p := src[i*stride:]
		switch {
		case e.size == 1:
			for k := 0; k < e.n; k++ {
				dst[o] = uint32(p[k])
				o++
			}
		case e.size == 2 && order == littleEndian:
			for k := 0; k < e.n; k++ {
				dst[o] = uint32(binary.LittleEndian.Uint16(p[2*k:]))
				o++
			}
		case e.size == 2:
			for k := 0; k < e.n; k++ {
				dst[o] = uint32(binary.BigEndian.Uint16(p[2*k:]))
				o++
			}
		case order == littleEndian:
			for k := 0; k < e.n; k++ {
				dst[o] = binary.LittleEndian.Uint32(p[4*k:])
				o++
			}
		default:
			for k := 0; k < e.n; k++ {
				dst[o] = binary.BigEndian.Uint32(p[4*k:])
				o++
			}
		}
	}
	return dst
}

func (e element) whole() bool { return e.comp == "u8" || e.comp == "u16" || e.comp == "u32" }
