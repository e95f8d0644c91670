package console

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"strings"
)

// The cartridge: its pictures are made of formulas, its world of boxes and
// prisms. Lengths are metres; what is written out is 4096 times smaller, as
// the console's numbers are.
const worldScale = 1.0 / 4096

type vec [3]float64

// picture is 8-bit indexed texels, rows from the top down.
type picture struct {
	name    string
	w, h    int
	texels  []byte
	palette [256][3]byte // red, green, blue
	draws   int          // how often the frame uses it
}

const (
	picReed = iota
	picPlank
	picWater
	picSky
	picCoat
	picFace
	picGlass
	picGlow
	pictures
)

var pictureNames = [pictures]string{"reed", "plank", "water", "sky", "coat", "face", "glass", "glow"}

func noise(x, y, seed int) float64 {
	h := uint32(x*374761393 + y*668265263 + seed*974634777)
	h = (h ^ h>>13) * 1274126177
	return float64((h^h>>16)&0xffff) / 0xffff
}

// paint makes a picture; those that live change with the frame.
func paint(which, frame int) *picture {
	size := [pictures]int{64, 64, 64, 128, 64, 32, 32, 32}[which]
	p := &picture{name: pictureNames[which], w: size, h: size, texels: make([]byte, size*size)}
	low := [pictures]vec{{40, 52, 24}, {60, 44, 30}, {12, 26, 34}, {10, 12, 26}, {36, 40, 58}, {150, 108, 84}, {120, 84, 30}, {90, 50, 10}}[which]
	high := [pictures]vec{{176, 168, 92}, {168, 132, 92}, {70, 120, 128}, {70, 74, 110}, {110, 116, 150}, {236, 198, 164}, {255, 236, 170}, {255, 230, 150}}[which]
	for i := range 256 {
		for k := range 3 {
			p.palette[i][k] = byte(low[k] + (high[k]-low[k])*float64(i)/255)
		}
	}
	for y := range size {
		for x := range size {
			u, v := float64(x)/float64(size), float64(y)/float64(size)
			f := 0.0
			switch which {
			case picReed:
				f = 0.5 + 0.35*math.Sin(2*math.Pi*(9*u+0.2*math.Sin(5*v))) + 0.15*noise(x, y, 1)
			case picPlank:
				f = 0.55 + 0.2*noise(x/12, y/2, 2) + 0.15*noise(x, y, 3)
				if y%16 < 1 {
					f = 0.1
				}
			case picWater:
				f = 0.4 + 0.3*math.Sin(2*math.Pi*(3*v+float64(frame)/90+0.3*math.Sin(2*math.Pi*u)))
			case picSky:
				f = 0.15 + 0.5*v
				if noise(x, y, 5) > 0.992 {
					f = 1
				}
			case picCoat:
				f = 0.4 + 0.25*math.Sin(2*math.Pi*12*u)*math.Sin(2*math.Pi*12*v) + 0.1*noise(x, y, 6)
			case picFace: // eyes that blink: this exists only while the game runs
				f = 0.75 - 0.3*math.Hypot(u-0.5, v-0.55)
				open := 0.07
				if frame%75 < 4 {
					open = 0.012
				}
				for _, ex := range []float64{0.33, 0.67} {
					if math.Hypot((u-ex)/0.08, (v-0.42)/open) < 1 {
						f = 0.05
					}
				}
				if math.Abs(v-0.74) < 0.025 && math.Abs(u-0.5) < 0.16 {
					f = 0.2
				}
			case picGlass:
				f = 0.7 + 0.3*math.Sin(2*math.Pi*float64(frame)/17) - 0.5*math.Hypot(u-0.5, v-0.5)
			case picGlow:
				f = 1 - 1.8*math.Hypot(u-0.5, v-0.5)
			}
			p.texels[y*size+x] = byte(255 * math.Max(0, math.Min(1, f)))
		}
	}
	return p
}

// bmp is the picture as such dumps come: BITMAPINFOHEADER, 8 bits a texel, a
// table of 256 colours (blue, green, red, 0), rows from the bottom up and
// padded to four bytes.
func (p *picture) bmp() []byte {
	stride := (p.w + 3) &^ 3
	le := binary.LittleEndian
	b := append([]byte("BM"), make([]byte, 52)...)
	le.PutUint32(b[2:], uint32(54+1024+stride*p.h))
	le.PutUint32(b[10:], 54+1024)
	le.PutUint32(b[14:], 40)
	le.PutUint32(b[18:], uint32(p.w))
	le.PutUint32(b[22:], uint32(p.h))
	le.PutUint16(b[26:], 1)
	le.PutUint16(b[28:], 8)
	le.PutUint32(b[34:], uint32(stride*p.h))
	for _, c := range p.palette {
		b = append(b, c[2], c[1], c[0], 0)
	}
	row := make([]byte, stride)
	for y := p.h - 1; y >= 0; y-- {
		copy(row, p.texels[y*p.w:(y+1)*p.w])
		b = append(b, row...)
	}
	return b
}

// group is one draw: a few polygons with one picture.
type group struct {
	name    string
	picture int
	points  []vec
	uvs     [][2]float64
	faces   [][]int
}

// frame is what the console draws at once.
type frame struct {
	no     int
	groups []group
	pics   [pictures]*picture
}

// box adds a box as one group.
func (f *frame) box(name string, pic int, lo, hi vec) {
	g := group{name: name, picture: pic}
	for i := range 8 {
		p := lo
		for k := range 3 {
			if i>>k&1 == 1 {
				p[k] = hi[k]
			}
		}
		g.points = append(g.points, p)
		g.uvs = append(g.uvs, [2]float64{float64(i & 1), float64(i >> 1 & 1)})
	}
	g.faces = [][]int{{0, 2, 3, 1}, {4, 5, 7, 6}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 4, 6, 2}, {1, 3, 7, 5}}
	f.add(g)
}

// prism adds a tapering column of n sides between two points.
func (f *frame) prism(name string, pic int, a, b vec, ra, rb float64, n int) {
	g := group{name: name, picture: pic}
	for i := range n {
		t := 2 * math.Pi * float64(i) / float64(n)
		c, s := math.Cos(t), math.Sin(t)
		g.points = append(g.points, vec{a[0] + ra*c, a[1], a[2] + ra*s}, vec{b[0] + rb*c, b[1], b[2] + rb*s})
		u := float64(i) / float64(n)
		g.uvs = append(g.uvs, [2]float64{u, 0}, [2]float64{u, 1})
	}
	for i := range n {
		j := (i + 1) % n
		g.faces = append(g.faces, []int{2 * i, 2*i + 1, 2*j + 1, 2 * j})
	}
	var top, bottom []int
	for i := range n {
		top = append(top, 2*(n-1-i)+1)
		bottom = append(bottom, 2*i)
	}
	g.faces = append(g.faces, top, bottom)
	f.add(g)
}

func (f *frame) quad(name string, pic int, p [4]vec) {
	f.add(group{name: name, picture: pic, points: p[:], uvs: [][2]float64{{0, 0}, {1, 0}, {1, 1}, {0, 1}}, faces: [][]int{{0, 1, 2, 3}}})
}

func (f *frame) add(g group) {
	f.pics[g.picture].draws++
	f.groups = append(f.groups, g)
}

// frameOf draws a frame.
func frameOf(no int) *frame {
	f := &frame{no: no}
	for i := range f.pics {
		f.pics[i] = paint(i, no)
	}
	walk := float64(no) / frameRate // seconds
	z0 := math.Mod(walk*0.9, 1.2)
	for i := range 60 { // planks of the causeway, moving towards the walker
		z := float64(i)*0.3 - 6 - z0
		f.box(fmt.Sprintf("plank %d", i), picPlank, vec{-0.7, -0.06, z}, vec{0.7, 0, z + 0.26})
	}
	for i := range 160 {
		side := float64(1 - 2*(i%2))
		x := side * (0.9 + 2.2*noise(i, 0, 7))
		z := 16*noise(i, 1, 7) - 6
		h := 0.9 + 1.1*noise(i, 2, 7)
		lean := 0.15 * math.Sin(walk+float64(i))
		f.prism(fmt.Sprintf("reed %d", i), picReed, vec{x, -0.3, z}, vec{x + lean, h, z}, 0.02, 0.004, 4)
	}
	for i := range 64 {
		x, z := float64(i%8)*1.5-6, float64(i/8)*2-6
		f.quad(fmt.Sprintf("water %d", i), picWater, [4]vec{{x, -0.25, z + 2}, {x + 1.5, -0.25, z + 2}, {x + 1.5, -0.25, z}, {x, -0.25, z}})
	}
	f.quad("sky", picSky, [4]vec{{-8, -1, -8}, {8, -1, -8}, {8, 7, -8}, {-8, 7, -8}})
	f.walker("", 0, math.Sin(walk*5))
	f.walker("outline ", 0.012, math.Sin(walk*5)) // a second, larger layer over the first
	for i := range 6 {                            // layers of glow over each other
		r := 0.12 + 0.05*float64(i)
		f.quad(fmt.Sprintf("glow %d", i), picGlow, [4]vec{{0.42 - r, 0.75 - r, 0.35}, {0.42 + r, 0.75 - r, 0.35}, {0.42 + r, 0.75 + r, 0.35}, {0.42 - r, 0.75 + r, 0.35}})
	}
	return f
}

// walker is the figure with the lantern, 1.7 m high; step is -1 to 1.
func (f *frame) walker(layer string, grow, step float64) {
	g := grow
	for _, s := range []float64{-1, 1} {
		swing := 0.22 * step * s
		side := map[float64]string{-1: "right", 1: "left"}[s]
		f.prism(layer+"leg "+side, picCoat, vec{0.1 * s, 0.05, swing}, vec{0.1 * s, 0.85, 0}, 0.06+g, 0.09+g, 8)
		f.box(layer+"boot "+side, picPlank, vec{0.1*s - 0.06 - g, -g, swing - 0.08 - g}, vec{0.1*s + 0.06 + g, 0.08 + g, swing + 0.16 + g})
		f.prism(layer+"arm "+side, picCoat, vec{0.28*s + 0.06*s, 0.78, -swing + 0.1}, vec{0.2 * s, 1.36, 0}, 0.045+g, 0.06+g, 8)
	}
	f.prism(layer+"coat", picCoat, vec{0, 0.62, 0}, vec{0, 1.42, 0}, 0.24+g, 0.17+g, 12)
	f.prism(layer+"neck", picFace, vec{0, 1.4, 0}, vec{0, 1.5, 0}, 0.05+g, 0.05+g, 8)
	f.prism(layer+"head", picFace, vec{0, 1.46, 0}, vec{0, 1.7, 0}, 0.11+g, 0.09+g, 10)
	f.prism(layer+"hat", picReed, vec{0, 1.64, 0}, vec{0, 1.78, 0}, 0.26+g, 0.02+g, 12)
	if layer == "" {
		f.box("lantern glass", picGlass, vec{0.36, 0.66, 0.24}, vec{0.48, 0.84, 0.36})
		f.prism("lantern top", picPlank, vec{0.42, 0.84, 0.3}, vec{0.42, 0.92, 0.3}, 0.09, 0.01, 6)
	}
}

// file is something that the console writes out.
type file struct {
	kind, name, about string
	data              []byte
}

func (f *frame) files() []file {
	var out []file
	for i, p := range f.pics {
		out = append(out, file{"picture", fmt.Sprintf("pictures/%02d.bmp", i), fmt.Sprintf("%d × %d texels, %d draws", p.w, p.h, p.draws), p.bmp()})
	}
	var bank, faces, lists bytes.Buffer
	for i, p := range f.pics {
		to := &bank
		if i == picFace {
			to = &faces
		}
		for _, c := range p.palette { // red, green, blue in 5, 6 and 5 bits, big-endian
			binary.Write(to, binary.BigEndian, uint16(c[0])>>3<<11|uint16(c[1])>>2<<5|uint16(c[2])>>3)
		}
		to.Write(p.texels)
	}
	for _, g := range f.groups {
		binary.Write(&lists, binary.BigEndian, [4]uint16{0xd1a0, uint16(g.picture), uint16(len(g.points)), uint16(len(g.faces))})
		for _, p := range g.points {
			for k := range p {
				binary.Write(&lists, binary.BigEndian, int16(p[k]*1024))
			}
		}
	}
	segment := func(name, about string, b *bytes.Buffer) {
		out = append(out, file{"segment", "segments/" + name + ".bin", about, b.Bytes()})
	}
	segment("bank", "memory segment 3, shared textures", &bank)
	segment("faces", "memory segment 8, only while the game runs", &faces)
	segment("lists", "memory segment 6, the draw list of this frame", &lists)
	n := fmt.Sprintf("%d groups, scale 1/4096 m", len(f.groups))
	out = append(out, file{"geometry", "frame.wrl", n + ", VRML97", f.vrml()}, file{"geometry", "frame.x3d", n + ", X3D", f.x3d()})
	return out
}

// lists writes a group's numbers as VRML97 and X3D both write them.
func (g *group) lists() (points, uvs, faces string) {
	var p, u, f strings.Builder
	for i, v := range g.points {
		fmt.Fprintf(&p, "%.7g %.7g %.7g, ", v[0]*worldScale, v[1]*worldScale, v[2]*worldScale)
		fmt.Fprintf(&u, "%.4g %.4g, ", g.uvs[i][0], g.uvs[i][1])
	}
	for _, face := range g.faces {
		for _, i := range face {
			fmt.Fprintf(&f, "%d ", i)
		}
		f.WriteString("-1 ")
	}
	return strings.TrimSuffix(p.String(), ", "), strings.TrimSuffix(u.String(), ", "), strings.TrimSpace(f.String())
}

// vrml is the frame as VRML97 (ISO/IEC 14772-1).
func (f *frame) vrml() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "#VRML V2.0 utf8\n# Lantern console, frame %d\n", f.no)
	for i := range f.groups {
		g := &f.groups[i]
		p, u, x := g.lists()
		fmt.Fprintf(&b, "DEF g%03d Shape { # %s\n appearance Appearance { material Material { diffuseColor 1 1 1 } texture ImageTexture { url \"pictures/%02d.bmp\" } }\n geometry IndexedFaceSet { coord Coordinate { point [ %s ] } texCoord TextureCoordinate { point [ %s ] } coordIndex [ %s ] }\n}\n",
			i, g.name, g.picture, p, u, x)
	}
	return b.Bytes()
}

// x3d is the frame as X3D (ISO/IEC 19776-1, XML encoding).
func (f *frame) x3d() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<X3D profile=\"Interchange\" version=\"3.3\">\n<head><meta name=\"title\" content=\"Lantern console, frame %d\"/></head>\n<Scene>\n", f.no)
	for i := range f.groups {
		g := &f.groups[i]
		p, u, x := g.lists()
		fmt.Fprintf(&b, "<Shape DEF=\"g%03d\"><Appearance><Material diffuseColor=\"1 1 1\"/><ImageTexture url='\"pictures/%02d.bmp\"'/></Appearance><IndexedFaceSet coordIndex=\"%s\"><Coordinate point=\"%s\"/><TextureCoordinate point=\"%s\"/></IndexedFaceSet></Shape>\n",
			i, g.picture, x, p, u)
	}
	b.WriteString("</Scene>\n</X3D>\n")
	return b.Bytes()
}
