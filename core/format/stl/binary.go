package stl

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"strings"

	"excavate/core/format"
	"excavate/core/numlist"
	"excavate/core/parallel"
	"excavate/core/scene"
)

func (b *builder) binary(ctx context.Context, data []byte) error {
	if len(data) < 84 {
		return format.Errorf("offset 80", "the file ends before the number of facets")
	}
	n := int(binary.LittleEndian.Uint32(data[80:]))
	if left := (len(data) - 84) / 50; n > left {
		return format.Errorf("offset 80", "%d facets are declared, and %d fit into the file", n, left)
	}
	// Colours: a header that states one (COLOR=RGBA) has facets with bit 15 clear
	// where they have a colour of their own, red lowest; in the other convention
	// bit 15 is set, and blue is lowest.
	stated := bytes.Index(data[:80], []byte("COLOR="))
	usual := [4]float32{1, 1, 1, 1}
	if stated >= 0 && stated+10 <= 80 {
		c := data[stated+6:]
		usual = [4]float32{format.Bytes8[c[0]], format.Bytes8[c[1]], format.Bytes8[c[2]], float32(c[3]) / 255}
	}
	corners, normals := numlist.Uncleared(36*n), numlist.Uncleared(36*n)
	b.part.Triangles = numlist.Upto(3 * n)
	coloured := stated >= 0
	none, odd := 0, 0
	for _, run := range parallel.Gather(n, 1<<12,
		func(from, to int) facets { return readFacets(ctx, data, corners, normals, from, to) }) {
		if run.fault != nil {
			return run.fault
		}
		coloured = coloured || run.marked
		none, odd = none+run.none, odd+run.odd
	}
	if none > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("the file gives no normal for %d of %d facets; theirs are those of their corners", none, n)})
	}
	if odd > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("the normals of %d of %d facets were not of unit length and were made so", odd, n)})
	}
	b.part.Positions, b.part.Normals = numlist.Of[float32](corners), numlist.Of[float32](normals)
	if coloured {
		five := func(v uint16) float32 { return format.Linear(float64(v&31) / 31) }
		colours := make([]float32, 12*n)
		parallel.Share(n, 1<<12, func(from, to int) {
			for i := from; i < to; i++ {
				c := usual
				switch w := binary.LittleEndian.Uint16(data[84+50*i+48:]); {
				case stated >= 0 && w&0x8000 == 0:
					c = [4]float32{five(w), five(w >> 5), five(w >> 10), 1}
				case stated < 0 && w&0x8000 != 0:
					c = [4]float32{five(w >> 10), five(w >> 5), five(w), 1}
				}
				for v := range 3 {
					copy(colours[12*i+4*v:], c[:])
				}
			}
		})
		b.part.Colours = []scene.AttrSet{{Name: "colour", Data: colours}}
	}
	name := string(bytes.TrimRight(bytes.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e {
			return -1
		}
		return r
	}, data[:80]), " "))
	if stated >= 0 || strings.HasPrefix(name, "solid") {
		name = ""
	}
	if extra := len(data) - 84 - 50*n; extra > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("%d bytes follow the last facet", extra)})
	}
	b.solid(name)
	return nil
}

// facets is what came of a run of binary facets.
type facets struct {
	fault  error
	marked bool // bit 15 of some attribute is set
	// How many normals are zero or no number, and how many of another length
	// than rounding makes of 1.
	none, odd int
}

// readFacets reads a run of facets into lists of their corners and normals, 36
// bytes of each for a facet. Numbers go over by twos, as the file has them.
func readFacets(ctx context.Context, data, corners, normals []byte, from, to int) facets {
	le := binary.LittleEndian
	number := func(p []byte) float32 { return math.Float32frombits(le.Uint32(p)) }
	var attributes byte
	none, odd := 0, 0
	for i := from; i < to; i++ {
		if i&0xfff == 0 && ctx.Err() != nil {
			return facets{fault: ctx.Err()}
		}
		p := data[84+50*i:][:50:50]
		a, b, c, d, e := le.Uint64(p[12:]), le.Uint64(p[20:]), le.Uint64(p[28:]), le.Uint64(p[36:]), le.Uint32(p[44:])
		if wild(a)|wild(b)|wild(c)|wild(d)|wild(uint64(e)) != 0 {
			return facets{fault: unfit(p[12:48], i)}
		}
		v := corners[36*i:][:36:36]
		le.PutUint64(v, a)
		le.PutUint64(v[8:], b)
		le.PutUint64(v[16:], c)
		le.PutUint64(v[24:], d)
		le.PutUint32(v[32:], e)
		f := [3]float32{number(p), number(p[4:]), number(p[8:])}
		if q := f[0]*f[0] + f[1]*f[1] + f[2]*f[2]; !(q > 0.99999 && q < 1.00001) {
			switch {
			case !(q > 0 && q-q == 0):
				none++
			case !(q > 0.98 && q < 1.02):
				odd++
			}
			f = unit(f, (*[9]float32)(numlist.Of[float32](v)))
		}
		x, y, z := uint64(math.Float32bits(f[0])), uint64(math.Float32bits(f[1])), uint64(math.Float32bits(f[2]))
		v = normals[36*i:][:36:36]
		le.PutUint64(v, x|y<<32)
		le.PutUint64(v[8:], z|x<<32)
		le.PutUint64(v[16:], y|z<<32)
		le.PutUint64(v[24:], x|y<<32)
		le.PutUint32(v[32:], uint32(z))
		attributes |= p[49]
	}
	return facets{marked: attributes&0x80 != 0, none: none, odd: odd}
}

// wild is above 0 if one of two float32 is not finite: if its exponent has all
// its bits set, one more sets the bit above.
func wild(two uint64) uint64 {
	return (two&0x7f800000_7f800000 + 0x00800000_00800000) & 0x80000000_80000000
}

// unfit says which number of a facet's corners is none.
func unfit(corners []byte, i int) error {
	for c, v := range numlist.Of[float32](corners) {
		if v-v != 0 {
			return format.Errorf(fmt.Sprintf("offset %d", 84+50*i+12+4*c), "facet %d has a corner at %g", i, v)
		}
	}
	return nil
}
