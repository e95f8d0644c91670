package demo

import (
	"bytes"
	"encoding/binary"
	"image"
	"math"
	"strings"
)

// Mystery is an archive that ships without a layout, for those who want to
// write one: docs/first-layout.md leads through it. All numbers are
// little-endian.
//
//	archive  "SLCE", u32 directory, u32 count, u32 0; the entries; the directory:
//	         name 24, u32 offset, u32 size, u32 kind, u32 0
//	picture  "TX", u16 width, u16 height, u16 0, texels of 5, 6 and 5 bits
//	shape    "SH", u16 vertices, u16 triangles, u16 0, name of its picture 16,
//	         vertices: f32[3] place, u16[2] UV in 1/65535, u8[4] normal + 128
//	         triangles: u16[3]
func Mystery() []byte {
	type entry struct {
		name string
		kind uint32
		data []byte
	}
	entries := []entry{
		{"mill.shp", 2, mysteryShape(tideMill(), "mill.tex")}, {"mill.tex", 1, mysteryPicture()},
		{"gauge.shp", 2, mysteryShape(tideGauge(), "gauge.tex")}, {"gauge.tex", 1, mysteryGauge()},
	}
	var w bytes.Buffer
	w.WriteString("SLCE")
	size := 16
	for _, e := range entries {
		size += len(e.data)
	}
	binary.Write(&w, le, [3]uint32{uint32(size), uint32(len(entries)), 0})
	var dir bytes.Buffer
	for _, e := range entries {
		dir.WriteString((e.name + strings.Repeat("\x00", 24))[:24])
		binary.Write(&dir, le, [4]uint32{uint32(w.Len()), uint32(len(e.data)), e.kind, 0})
		w.Write(e.data)
	}
	w.Write(dir.Bytes())
	return w.Bytes()
}

func mysteryPicture() []byte { return mysteryTexels(planks(12, rgb{0.52, 0.40, 0.30}, 10)) }
func mysteryGauge() []byte   { return mysteryTexels(planks(5, rgb{0.80, 0.78, 0.70}, 16)) }

func mysteryShape(s surface, picture string) []byte {
	var w bytes.Buffer
	w.WriteString("SH")
	binary.Write(&w, le, [3]uint16{uint16(len(s.verts)), uint16(len(s.tris)), 0})
	w.WriteString((picture + strings.Repeat("\x00", 16))[:16])
	unit := func(x float64) uint16 { return uint16(math.Round(65535 * math.Max(0, math.Min(1, x)))) }
	for _, v := range s.verts {
		for _, c := range v.p {
			binary.Write(&w, le, float32(c))
		}
		binary.Write(&w, le, [2]uint16{unit(v.u), unit(v.v)})
		for _, c := range v.n {
			w.WriteByte(byte(math.Round(128 + 127*c)))
		}
		w.WriteByte(128)
	}
	for _, t := range s.tris {
		for _, i := range t {
			binary.Write(&w, le, uint16(i))
		}
	}
	return w.Bytes()
}

// tideMill is the mill: a tapering tower on a base, a cap, and a wheel.
func tideMill() surface {
	var s surface
	b := bind{}
	var rings []ring
	for i := 0; i <= 16; i++ {
		t := float64(i) / 16
		r := 1.6 - 0.5*t + 0.05*math.Sin(9*t)
		rings = append(rings, ring{v3{0, 5.2 * t, 0}, r, r, b})
	}
	s.loft(rings, 24, rect{0, 0, 1, 0.7}, v3{1, 0, 0})
	rings = nil
	for i := 0; i <= 6; i++ {
		t := float64(i) / 6
		r := 1.35 * math.Sqrt(1-0.97*t*t)
		rings = append(rings, ring{v3{0, 5.2 + 1.1*t, 0}, r, r, b})
	}
	s.loft(rings, 24, rect{0, 0.7, 1, 1}, v3{1, 0, 0})
	for i := 0; i < 10; i++ { // the wheel's paddles
		a := 2 * math.Pi * float64(i) / 10
		c := v3{1.75, 1.2 + 1.3*math.Sin(a), 1.3 * math.Cos(a)}
		s.box(v3{c[0] - 0.25, c[1] - 0.14, c[2] - 0.14}, v3{c[0] + 0.25, c[1] + 0.14, c[2] + 0.14}, rect{0, 0.2, 0.3, 0.4}, b)
	}
	return s
}

// tideGauge is a post with a foot.
func tideGauge() surface {
	var s surface
	b := bind{}
	s.limb([]v3{{0, 0, 0}, {0, 2.4, 0}}, []float64{0.11, 0.09}, []bind{b, b}, 16, 24, rect{0, 0, 1, 1}, v3{1, 0, 0}, 1)
	s.box(v3{-0.3, -0.1, -0.3}, v3{0.3, 0.08, 0.3}, rect{0, 0, 0.4, 0.4}, b)
	return s
}

// mysteryTexels writes a picture at half its sides, in words of 5, 6 and 5
// bits.
func mysteryTexels(img *image.NRGBA) []byte {
	w, h := img.Rect.Dx()/2, img.Rect.Dy()/2
	out := append([]byte("TX"), 0, 0, 0, 0, 0, 0)
	le.PutUint16(out[2:], uint16(w))
	le.PutUint16(out[4:], uint16(h))
	for y := range h {
		for x := range w {
			c := img.NRGBAAt(2*x, 2*y)
			out = le.AppendUint16(out, uint16(c.R>>3)<<11|uint16(c.G>>2)<<5|uint16(c.B>>3))
		}
	}
	return out
}
