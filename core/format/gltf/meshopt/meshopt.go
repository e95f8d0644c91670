// Package meshopt unpacks buffer views that are packed with the glTF extension
// EXT_meshopt_compression (Khronos Group, glTF 2.0 vendor extensions; its
// sections "Bitstream" and "Filters" are named below).
package meshopt

import (
	"encoding/binary"
	"fmt"
	"math"

	"excavate/core/limit"
)

// View says how a buffer view is packed: Count elements of Stride bytes.
type View struct {
	Mode   string // ATTRIBUTES, TRIANGLES or INDICES
	Filter string // NONE, or empty; OCTAHEDRAL, QUATERNION or EXPONENTIAL
	Count  int64
	Stride int64
}

// Decode unpacks a buffer view. What it allocates is bounded by what the data
// may stand for.
func Decode(v View, data []byte) ([]byte, error) {
	if v.Count < 0 || v.Count > limit.Vertices || v.Stride <= 0 || v.Stride > 256 {
		return nil, fmt.Errorf("%d elements of %d bytes", v.Count, v.Stride)
	}
	var out []byte
	var err error
	switch v.Mode {
	case "ATTRIBUTES":
		if v.Stride%4 != 0 {
			return nil, fmt.Errorf("elements of %d bytes; attributes have a multiple of 4", v.Stride)
		}
		out, err = attributes(v, data)
	case "TRIANGLES", "INDICES":
		if v.Stride != 2 && v.Stride != 4 {
			return nil, fmt.Errorf("indices of %d bytes", v.Stride)
		}
		if v.Mode == "TRIANGLES" {
			out, err = triangles(v, data)
		} else {
			out, err = indices(v, data)
		}
		if err == nil && v.Filter != "" && v.Filter != "NONE" {
			err = fmt.Errorf("a filter %s on indices", v.Filter)
		}
		return out, err
	default:
		return nil, fmt.Errorf("mode %q is not one of ATTRIBUTES, TRIANGLES and INDICES", v.Mode)
	}
	if err != nil {
		return nil, err
	}
	return out, filter(v, out)
}

func short(what string, at int) error {
	return fmt.Errorf("packed byte %d: the data ends within %s", at, what)
}

// attributes is mode 0. Elements stand in blocks; of each block first come all
// first bytes of its elements, as differences, then all second ones, and so on.
func attributes(v View, data []byte) ([]byte, error) {
	stride, count := int(v.Stride), int(v.Count)
	if len(data) < 1+stride {
		return nil, short("its header", len(data))
	}
	if data[0] != 0xa0 {
		return nil, fmt.Errorf("packed byte 0 is %#02x; attributes begin with 0xa0", data[0])
	}
	// A header byte stands for 64 zeros at most.
	if int64(count)*v.Stride > 64*int64(len(data)) {
		return nil, fmt.Errorf("%d elements of %d bytes do not come out of %d bytes", count, stride, len(data))
	}
	tail := max(32, stride)
	if len(data) < 1+tail {
		return nil, short("its tail", len(data))
	}
	out := make([]byte, count*stride)
	last := append([]byte{}, data[len(data)-stride:]...)
	end := len(data) - tail
	most := min((8192/stride)&^15, 256)
	var plane [256]byte
	at := 1
	for from := 0; from < count; from += most {
		n := min(most, count-from)
		groups := (n + 15) / 16
		for k := range stride {
			head := at
			at += (groups + 3) / 4
			if at > end {
				return nil, short("a block", at)
			}
			for g := range groups {
				to := plane[16*g : 16*g+16]
				bits := data[head+g/4] >> (2 * (g % 4)) & 3
				used := group(to, bits, data[at:end])
				if used < 0 {
					return nil, short("a group of 16", at)
				}
				at += used
			}
			p := last[k]
			for i := range n {
				d := plane[i]
				p += d>>1 ^ -(d & 1)
				out[(from+i)*stride+k] = p
			}
			last[k] = p
		}
	}
	if at != end {
		return nil, fmt.Errorf("packed byte %d: %d bytes are left before the tail", at, end-at)
	}
	return out, nil
}

// group reads 16 bytes that have 0, 2, 4 or 8 bits each; those that do not fit
// follow. It returns the bytes it took, or -1.
func group(to []byte, mode byte, b []byte) int {
	switch mode {
	case 0:
		clear(to)
		return 0
	case 3:
		if len(b) < 16 {
			return -1
		}
		copy(to, b[:16])
		return 16
	}
	bits := 2 * uint(mode)
	packed := 2 * int(bits)
	if len(b) < packed {
		return -1
	}
	full := byte(1)<<bits - 1
	used := packed
	for i := range to {
		bit := uint(i) * bits
		v := b[bit/8] >> (8 - bits - bit%8) & full
		if v == full {
			if used >= len(b) {
				return -1
			}
			v = b[used]
			used++
		}
		to[i] = v
	}
	return used
}

// stream reads variable-length numbers.
type stream struct {
	b    []byte
	at   int
	last uint32
	over bool
}

func (s *stream) byte() uint32 {
	if s.at >= len(s.b) {
		s.over = true
		return 0
	}
	s.at++
	return uint32(s.b[s.at-1])
}

// number is seven bits a byte, the lowest first, at most five bytes.
func (s *stream) number() (v uint32) {
	for shift := 0; shift < 35; shift += 7 {
		b := s.byte()
		v |= b & 127 << shift
		if b < 128 {
			break
		}
	}
	return v
}

// index is the last free index and a difference with its sign lowest.
func (s *stream) index() uint32 {
	d := s.number()
	s.last += d>>1 ^ -(d & 1)
	return s.last
}

func put(out []byte, stride, i int, v uint32) {
	if stride == 2 {
		binary.LittleEndian.PutUint16(out[2*i:], uint16(v))
	} else {
		binary.LittleEndian.PutUint32(out[4*i:], v)
	}
}

// triangles is mode 1: a byte a triangle, which says how it hangs together with
// edges and vertices of those before it; numbers that are not among them
// follow, then a table of 16 usual cases.
func triangles(v View, data []byte) ([]byte, error) {
	count, stride := int(v.Count), int(v.Stride)
	if count%3 != 0 || count/3 > len(data) {
		return nil, fmt.Errorf("%d indices of triangles do not come out of %d bytes", count, len(data))
	}
	if len(data) < 1+count/3+16 {
		return nil, short("its codes", len(data))
	}
	if data[0]&0xf0 != 0xe0 || data[0]&15 > 1 {
		return nil, fmt.Errorf("packed byte 0 is %#02x; triangles begin with 0xe1", data[0])
	}
	own := uint32(15) // from here on a third corner has a number of its own
	if data[0]&15 >= 1 {
		own = 13
	}
	codes, table := data[1:1+count/3], data[len(data)-16:]
	s := stream{b: data[:len(data)-16], at: 1 + count/3}
	out := make([]byte, count*stride)
	var edges [16][2]uint32
	var verts [16]uint32
	for i := range edges {
		edges[i], verts[i] = [2]uint32{math.MaxUint32, math.MaxUint32}, math.MaxUint32
	}
	ne, nv, next := uint32(0), uint32(0), uint32(0)
	edge := func(a, b uint32) { edges[ne&15] = [2]uint32{a, b}; ne++ }
	vertex := func(a uint32, isNew bool) {
		verts[nv&15] = a
		if isNew {
			nv++
		}
	}
	fresh := func() uint32 { next++; return next - 1 }
	for i, c := range codes {
		var x, y, z uint32
		code := uint32(c)
		if code < 0xf0 { // along an edge
			e := edges[(ne-1-code>>4)&15]
			x, y = e[0], e[1]
			third := code & 15
			switch {
			case third == 0:
				z = fresh()
				vertex(z, true)
			case third < own:
				z = verts[(nv-1-third)&15]
				vertex(z, false)
			default:
				if third == 15 {
					z = s.index()
				} else {
					s.last += third - (third ^ 3)
					z = s.last
				}
				vertex(z, true)
			}
			edge(z, y)
			edge(x, z)
			put(out, stride, 3*i, x)
			put(out, stride, 3*i+1, y)
			put(out, stride, 3*i+2, z)
			continue
		}
		aux, first := uint32(0), uint32(0)
		if code < 0xfe {
			aux = uint32(table[code&15])
		} else {
			aux = s.byte()
			if code == 0xff {
				first = 15
			}
			if aux == 0 {
				next = 0
			}
		}
		second, third := aux>>4, aux&15
		if first == 0 {
			x = fresh()
		}
		known := func(k uint32) uint32 {
			if k == 0 {
				return fresh()
			}
			return verts[(nv-k)&15]
		}
		y = known(second)
		z = known(third)
		free := code >= 0xfe
		if free {
			if first == 15 {
				x = s.index()
			}
			if second == 15 {
				y = s.index()
			}
			if third == 15 {
				z = s.index()
			}
		}
		vertex(x, true)
		vertex(y, second == 0 || free && second == 15)
		vertex(z, third == 0 || free && third == 15)
		edge(y, x)
		edge(z, y)
		edge(x, z)
		put(out, stride, 3*i, x)
		put(out, stride, 3*i+1, y)
		put(out, stride, 3*i+2, z)
	}
	if s.over || s.at != len(s.b) {
		return nil, fmt.Errorf("packed byte %d: the indices end at %d", s.at, len(s.b))
	}
	return out, nil
}

// indices is mode 2: differences to one of two indices before.
func indices(v View, data []byte) ([]byte, error) {
	count, stride := int(v.Count), int(v.Stride)
	if count > len(data) {
		return nil, fmt.Errorf("%d indices do not come out of %d bytes", count, len(data))
	}
	if len(data) < 5 {
		return nil, short("its header", len(data))
	}
	if data[0]&0xf0 != 0xd0 || data[0]&15 > 1 {
		return nil, fmt.Errorf("packed byte 0 is %#02x; indices begin with 0xd1", data[0])
	}
	s := stream{b: data[:len(data)-4], at: 1}
	out := make([]byte, count*stride)
	var last [2]uint32
	for i := range count {
		d := s.number()
		k := d & 1
		d >>= 1
		last[k] += d>>1 ^ -(d & 1)
		put(out, stride, i, last[k])
	}
	if s.over || s.at != len(s.b) {
		return nil, fmt.Errorf("packed byte %d: the indices end at %d", s.at, len(s.b))
	}
	return out, nil
}

// filter turns unpacked attributes into what the accessors have.
func filter(v View, b []byte) error {
	round := func(x float64) int { // away from zero at halves
		if x >= 0 {
			return int(x + 0.5)
		}
		return int(x - 0.5)
	}
	switch v.Filter {
	case "", "NONE":
	case "OCTAHEDRAL":
		if v.Stride != 4 && v.Stride != 8 {
			return fmt.Errorf("the filter OCTAHEDRAL on elements of %d bytes", v.Stride)
		}
		each := int(v.Stride) / 4
		full := float64(int(1)<<(8*each-1) - 1)
		get := func(at int) float64 {
			if each == 1 {
				return float64(int8(b[at]))
			}
			return float64(int16(binary.LittleEndian.Uint16(b[at:])))
		}
		set := func(at, x int) {
			if each == 1 {
				b[at] = byte(x)
			} else {
				binary.LittleEndian.PutUint16(b[at:], uint16(x))
			}
		}
		for at := 0; at < len(b); at += 4 * each {
			x, y := get(at), get(at+each)
			z := get(at+2*each) - math.Abs(x) - math.Abs(y)
			t := math.Min(z, 0)
			x, y = x-math.Copysign(-t, x), y-math.Copysign(-t, y)
			l := math.Sqrt(x*x + y*y + z*z)
			if l == 0 {
				continue
			}
			set(at, round(x*full/l))
			set(at+each, round(y*full/l))
			set(at+2*each, round(z*full/l))
		}
	case "QUATERNION":
		if v.Stride != 8 {
			return fmt.Errorf("the filter QUATERNION on elements of %d bytes", v.Stride)
		}
		for at := 0; at < len(b); at += 8 {
			get := func(k int) int16 { return int16(binary.LittleEndian.Uint16(b[at+2*k:])) }
			scale := math.Sqrt(0.5) / float64(get(3)|3)
			x, y, z := float64(get(0))*scale, float64(get(1))*scale, float64(get(2))*scale
			w := math.Sqrt(math.Max(0, 1-x*x-y*y-z*z))
			most := int(get(3) & 3)
			for k, q := range [4]float64{w, x, y, z} {
				binary.LittleEndian.PutUint16(b[at+2*((most+k)&3):], uint16(round(q*32767)))
			}
		}
	case "EXPONENTIAL":
		for at := 0; at+3 < len(b); at += 4 {
			x := int32(binary.LittleEndian.Uint32(b[at:]))
			binary.LittleEndian.PutUint32(b[at:], math.Float32bits(float32(math.Ldexp(float64(x<<8>>8), int(x>>24)))))
		}
	default:
		return fmt.Errorf("the filter %q is not one of OCTAHEDRAL, QUATERNION and EXPONENTIAL", v.Filter)
	}
	return nil
}
