package console

import (
	"bytes"
	"encoding/binary"
	"math"
	"strings"
)

// Cartridge is the lantern game as it lies on its cartridge: a directory, and
// models that are lists of commands, as the console draws them. Their pictures
// are not on it: the shared ones are in memory segment 3, and the faces in
// segment 8, which exists only while the game runs. All numbers are big-endian.
//
//	file    "LANTERNS", u32 count, u32 0, then for each entry
//	        name 24 bytes, u32 offset, u32 size
//	model   "LMDL", u32 list, u16 bones, u16 textures, u32 0, then
//	        bones:    name 12, i16 parent, i16[3] place, in 1/1024 m from the parent
//	        textures: name 12, u32 texels, u32 palette, u16 width, u16 height
//	vertex  i16[3] place from its bone, u16 0, i16[2] UV in 1/32 texel, i8[3] normal, i8 0
//
// A pointer's highest byte is the segment: 1 is the model itself.
func Cartridge() []byte {
	f := &frame{}
	for i := range f.pics {
		f.pics[i] = paint(i, 0)
	}
	walker := f.models(func() { f.walker("", 0, 0) }, []bone{
		{"root", -1, vec{0, 0.85, 0}}, {"leg right", 0, vec{-0.1, 0, 0}}, {"leg left", 0, vec{0.1, 0, 0}},
		{"chest", 0, vec{0, 0.35, 0}}, {"arm right", 3, vec{-0.2, 0.16, 0}}, {"arm left", 3, vec{0.2, 0.16, 0}}, {"head", 3, vec{0, 0.26, 0}},
	}, picCoat)
	post := f.models(func() {
		f.prism("post", picPlank, vec{0, 0, 0}, vec{0, 2.2, 0}, 0.07, 0.05, 8)
		f.box("arm left beam", picPlank, vec{-0.05, 2.1, -0.05}, vec{0.5, 2.18, 0.05})
		f.box("lamp", picGlass, vec{0.38, 1.8, -0.06}, vec{0.5, 2.0, 0.06})
	}, []bone{{"root", -1, vec{}}}, -1)
	entries := []struct {
		name string
		data []byte
	}{
		{"models/walker.lmd", walker}, {"models/lamp post.lmd", post},
		{"read me.txt", []byte("The Sedgewater lantern game. Private use only.\n")},
	}
	var w bytes.Buffer
	put := func(v any) { binary.Write(&w, binary.BigEndian, v) }
	w.WriteString("LANTERNS")
	put([2]uint32{uint32(len(entries)), 0})
	at := 16 + 32*len(entries)
	for _, e := range entries {
		w.WriteString((e.name + strings.Repeat("\x00", 24))[:24])
		put([2]uint32{uint32(at), uint32(len(e.data))})
		at += len(e.data)
	}
	for _, e := range entries {
		w.Write(e.data)
	}
	return w.Bytes()
}

type bone struct {
	name   string
	parent int
	at     vec // from the parent, metres
}

// Segments of the console's memory that pointers name.
const (
	segModel = 0x01000000
	segBank  = 0x03000000
	segFaces = 0x08000000
)

// bankAt is where a shared picture's palette stands in the bank; its texels
// follow. It holds all pictures but the face, in their order.
func (f *frame) bankAt(pic int) uint32 {
	at := 0
	for i, p := range f.pics {
		if i == pic {
			break
		}
		if i != picFace {
			at += 512 + p.w*p.h
		}
	}
	return uint32(at)
}

// models writes what draw draws as one model. only is the picture of all that
// is not a face; -1 leaves each its own.
func (f *frame) models(draw func(), bones []bone, only int) []byte {
	f.groups = nil
	draw()
	of := func(g *group) int { // the bone that a group hangs on
		for i, b := range bones {
			name := strings.Replace(g.name, "boot", "leg", 1)
			if name == b.name || b.name == "chest" && (g.name == "coat" || g.name == "neck") || b.name == "head" && g.name == "hat" || b.name == "arm left" && strings.HasPrefix(g.name, "lantern") {
				return i
			}
		}
		return 0
	}
	world := make([]vec, len(bones))
	for i, b := range bones {
		world[i] = b.at
		if b.parent >= 0 {
			for k := range 3 {
				world[i][k] += world[b.parent][k]
			}
		}
	}
	var pics []int
	use := func(pic int) int {
		if only >= 0 && pic != picFace {
			pic = only
		}
		for i, p := range pics {
			if p == pic {
				return i
			}
		}
		pics = append(pics, pic)
		return len(pics) - 1
	}
	for i := range f.groups {
		use(f.groups[i].picture)
	}
	head := 20 + 20*len(bones) + 24*len(pics)
	var body, lists bytes.Buffer
	put := func(b *bytes.Buffer, v any) { binary.Write(b, binary.BigEndian, v) }
	palettes := map[int]int{}
	for _, p := range pics {
		if p == picFace { // its colours do not change with the game
			palettes[p] = head + body.Len()
			for _, c := range f.pics[p].palette {
				put(&body, uint16(c[0])>>3<<11|uint16(c[1])>>2<<5|uint16(c[2])>>3)
			}
		}
	}
	type call struct{ at, bone, texture int }
	var calls []call
	for i := range f.groups {
		g := &f.groups[i]
		t := use(g.picture)
		pic := f.pics[pics[t]]
		b := of(g)
		vertices := head + body.Len()
		for k, n := range g.normals() {
			for c := range 3 {
				put(&body, int16(math.Round((g.points[k][c]-world[b][c])*1024)))
			}
			put(&body, uint16(0))
			put(&body, [2]int16{int16(g.uvs[k][0] * float64(pic.w) * 32), int16(g.uvs[k][1] * float64(pic.h) * 32)})
			put(&body, [4]int8{int8(n[0] * 127), int8(n[1] * 127), int8(n[2] * 127), 0})
		}
		calls = append(calls, call{head + body.Len(), b, t})
		put(&body, [2]uint32{0x10000000 | uint32(len(g.points))<<16, segModel | uint32(vertices)})
		var tris [][3]int
		for _, face := range g.faces {
			for k := 1; k+1 < len(face); k++ {
				tris = append(tris, [3]int{face[0], face[k], face[k+1]})
			}
		}
		for ; len(tris) > 1; tris = tris[2:] {
			a, b := tris[0], tris[1]
			put(&body, [8]uint8{0x21, uint8(a[0]), uint8(a[1]), uint8(a[2]), uint8(b[0]), uint8(b[1]), uint8(b[2]), 0})
		}
		for _, a := range tris {
			put(&body, [8]uint8{0x20, uint8(a[0]), uint8(a[1]), uint8(a[2])})
		}
		put(&body, [2]uint32{0x7f000000, 0})
	}
	for _, c := range calls {
		put(&lists, [2]uint32{0x40000000, uint32(c.bone)})
		put(&lists, [2]uint32{0x50000000, uint32(c.texture)})
		put(&lists, [2]uint32{0x30000000, segModel | uint32(c.at)})
	}
	put(&lists, [2]uint32{0x7f000000, 0})

	var w bytes.Buffer
	w.WriteString("LMDL")
	put(&w, uint32(segModel|(head+body.Len())))
	put(&w, [2]uint16{uint16(len(bones)), uint16(len(pics))})
	put(&w, uint32(0))
	put(&w, uint32(0))
	for _, b := range bones {
		w.WriteString((b.name + strings.Repeat("\x00", 12))[:12])
		put(&w, int16(b.parent))
		for _, c := range b.at {
			put(&w, int16(math.Round(c*1024)))
		}
	}
	for _, p := range pics {
		w.WriteString((pictureNames[p] + strings.Repeat("\x00", 12))[:12])
		at, palette := segBank|f.bankAt(p)+512, segBank|f.bankAt(p)
		if p == picFace {
			at, palette = segFaces|512, uint32(segModel|palettes[p])
		}
		put(&w, [2]uint32{at, palette})
		put(&w, [2]uint16{uint16(f.pics[p].w), uint16(f.pics[p].h)})
	}
	w.Write(body.Bytes())
	w.Write(lists.Bytes())
	return w.Bytes()
}

// normals are those of a group's points: the mean of the faces around each.
func (g *group) normals() []vec {
	out := make([]vec, len(g.points))
	for _, face := range g.faces {
		a, b, c := g.points[face[0]], g.points[face[1]], g.points[face[2]]
		var n vec
		for k := range 3 {
			i, j := (k+1)%3, (k+2)%3
			n[k] = (b[i]-a[i])*(c[j]-a[j]) - (b[j]-a[j])*(c[i]-a[i])
		}
		for _, i := range face {
			for k := range 3 {
				out[i][k] += n[k]
			}
		}
	}
	for i := range out {
		l := math.Sqrt(out[i][0]*out[i][0] + out[i][1]*out[i][1] + out[i][2]*out[i][2])
		for k := range 3 {
			out[i][k] /= math.Max(l, 1e-12)
		}
	}
	return out
}
