package pixel

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand"
	"testing"
)

func TestFormatsOfEveryOrder(t *testing.T) {
	for _, c := range []struct {
		f    Format
		data []byte
		big  bool
		want [4]byte
	}{
		{"l8", []byte{77}, false, [4]byte{77, 77, 77, 255}},
		{"l8a8", []byte{77, 3}, true, [4]byte{77, 77, 77, 3}},
		{"i8", []byte{77}, false, [4]byte{77, 77, 77, 77}},
		{"i4x4_pack8", []byte{0xf0}, false, [4]byte{255, 255, 255, 255}},
		{"l4a4_pack8", []byte{0x0f}, false, [4]byte{0, 0, 0, 255}},
		{"l3a1x4_pack8", []byte{0xe0}, false, [4]byte{255, 255, 255, 0}},
		{"a4r4g4b4_pack16", []byte{0x21, 0xf3}, false, [4]byte{0x33, 0x22, 0x11, 255}},
		{"a4r4g4b4_pack16", []byte{0xf3, 0x21}, true, [4]byte{0x33, 0x22, 0x11, 255}},
		{"r5g5b5a1_pack16", []byte{0xf8, 0x01}, true, [4]byte{255, 0, 0, 255}},
		{"a8b8g8r8_pack32", []byte{1, 2, 3, 4}, false, [4]byte{1, 2, 3, 4}},
		{"a8b8g8r8_pack32", []byte{1, 2, 3, 4}, true, [4]byte{4, 3, 2, 1}},
		{"r8g8b8a8", []byte{1, 2, 3, 4}, true, [4]byte{1, 2, 3, 4}}, // bytes have no order
		{"x8r8g8b8", []byte{9, 1, 2, 3}, false, [4]byte{1, 2, 3, 255}},
		{"a2b10g10r10_pack32", []byte{0xff, 0x03, 0x00, 0xc0}, false, [4]byte{255, 0, 0, 255}},
		{"r16g16b16a16", []byte{0xff, 0xff, 0x00, 0x80, 0, 0, 0xff, 0xff}, false, [4]byte{255, 128, 0, 255}},
		{"r16g16b16", []byte{0x80, 0, 0, 0, 0xff, 0xff}, true, [4]byte{128, 0, 255, 255}},
		{"r16g16b16a16_sfloat", []byte{0, 0x3c, 0, 0x38, 0, 0xbc, 0, 0x7e}, false, [4]byte{255, 128, 0, 0}}, // 1, 0.5, -1, NaN
		{"r32_sfloat", []byte{0, 0, 0, 0x3f}, false, [4]byte{128, 0, 0, 255}},
		{"l32_sfloat", []byte{0x3f, 0x80, 0, 0}, true, [4]byte{255, 255, 255, 255}},
	} {
		img, err := DecodeWith(c.f, c.data, 1, 1, Options{BigEndian: c.big})
		if err != nil || [4]byte(img.Pix) != c.want {
			t.Errorf("%s %v: got %v, want %v (%v)", c.f, c.data, img, c.want, err)
		}
	}
	for _, f := range []Format{"", "r8g8b8a8_pack16", "r5g6b5", "q8", "r8r8", "l8r8", "i8a8", "r0g8", "r33", "r8_sfloat", "r5g6b5_pack16_sfloat", "r16g8", "r8g8b8a8r8g8b8a8"} {
		if f.Valid() {
			t.Errorf("%q is taken for a format", f)
		}
	}
}

// The fast ways must give what one texel at a time gives.
func TestFastWaysAgainstUnpack(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	for _, f := range []Format{"r5g6b5_pack16", "a1b5g5r5_pack16", "b8g8r8", "x8b8g8r8", "a8r8g8b8_pack32", "l8a8", "l16", "r8g8b8a8", "a2r10g10b10_pack32", "i4x4_pack8"} {
		p := parse(f)
		data := make([]byte, 64*p.bytes)
		r.Read(data)
		for _, big := range []bool{false, true} {
			img, err := DecodeWith(f, data, 8, 8, Options{BigEndian: big})
			if err != nil {
				t.Fatal(err)
			}
			for i := range 64 {
				if got, want := binary.LittleEndian.Uint32(img.Pix[4*i:]), unpack(p, data[i*p.bytes:(i+1)*p.bytes], big); got != want {
					t.Fatalf("%s, big %v, texel %d: %08x, want %08x", f, big, i, got, want)
				}
			}
		}
	}
}

func TestIndicesOfAFewBits(t *testing.T) {
	pal := make([]byte, 64)
	for i := range 16 {
		pal[4*i] = byte(i)
	}
	for _, c := range []struct {
		f    Format
		want string
	}{{Indexed4, "1 2 3"}, {Indexed4Low, "2 1 4"}, {Indexed2, "0 1 0"}, {Indexed2Low, "2 0 1"}, {Indexed1, "0 0 0"}, {Indexed1Low, "0 1 0"}} {
		img, err := Decode(c.f, []byte{0x12, 0x34}, 3, 1, pal)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(img.Pix[0], img.Pix[4], img.Pix[8]); got != c.want {
			t.Errorf("%s: %s, want %s", c.f, got, c.want)
		}
	}
}

func TestTilings(t *testing.T) {
	for _, c := range []struct {
		t    Tiling
		w, h int
	}{{Tiling{Kind: Morton}, 8, 8}, {Tiling{Kind: Morton}, 16, 4}, {Tiling{Kind: Morton}, 5, 11}, {Tiling{Kind: ByColumn}, 7, 3}, {Tiling{Kind: ZTiles}, 20, 9},
		{Tiling{Kind: Tiled, TileW: 8, TileH: 4}, 20, 10}, {Tiling{Kind: Tiled, TileW: 8, TileH: 4, SwapRow: 1, SwapUnit: 4}, 16, 8}} {
		place, span, err := c.t.place(c.w, c.h)
		if err != nil {
			t.Fatal(err)
		}
		data := make([]byte, span)
		seen := map[int]bool{}
		for y := range c.h {
			for x := range c.w {
				k := place(x, y)
				if k < 0 || k >= span || seen[k] {
					t.Fatalf("%+v: %d, %d lies at %d of %d", c.t, x, y, k, span)
				}
				seen[k] = true
				data[k] = byte(y*c.w + x)
			}
		}
		img, err := DecodeWith("l8", data, c.w, c.h, Options{Tiling: c.t})
		if err != nil {
			t.Fatal(err)
		}
		for i := range c.w * c.h {
			if img.Pix[4*i] != byte(i) {
				t.Fatalf("%+v: texel %d is %d", c.t, i, img.Pix[4*i])
			}
		}
		if n, err := c.t.Span("l8", c.w, c.h); err != nil || n != int64(span) {
			t.Errorf("%+v: span %d, %v", c.t, n, err)
		}
		if _, err := DecodeWith("l8", data[:len(data)-1], c.w, c.h, Options{Tiling: c.t}); err == nil {
			t.Errorf("%+v: too few bytes are taken", c.t)
		}
	}
	// Morton order by hand: x has the even bits.
	place, _, _ := Tiling{Kind: Morton}.place(4, 4)
	if got := fmt.Sprint(place(1, 0), place(0, 1), place(3, 0), place(2, 3)); got != "1 2 5 14" {
		t.Errorf("Morton: %s", got)
	}
	for _, bad := range []Tiling{{Kind: "spiral"}, {Kind: Tiled}, {Kind: Tiled, TileW: 8, TileH: 4, SwapUnit: 3}, {Kind: Tiled, TileW: 1 << 30, TileH: 1}} {
		if _, err := DecodeWith("l8", make([]byte, 64), 4, 4, Options{Tiling: bad}); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

func TestBlocksOfOneChannel(t *testing.T) {
	// 200 and 100: the six between; then the six of 100 and 200 with 0 and 255.
	idx := []byte{0x88, 0xc6, 0xfa, 0x88, 0xc6, 0xfa} // 0 1 2 ... 7, twice
	for _, c := range []struct {
		a, b byte
		want string
	}{{200, 100, "[200 100 185 171 157 142 128 114]"}, {100, 200, "[100 200 120 140 160 180 0 255]"}} {
		got := channelBlock(append([]byte{c.a, c.b}, idx...))
		if fmt.Sprint(got[:8]) != c.want || !bytes.Equal(got[:8], got[8:]) {
			t.Errorf("%d %d: %v", c.a, c.b, got)
		}
	}
	img, err := Decode(BC4, append([]byte{255, 0}, idx...), 4, 4, nil)
	if err != nil || fmt.Sprint(img.Pix[:8]) != "[255 255 255 255 0 0 0 255]" {
		t.Errorf("BC4: %v %v", img.Pix[:8], err)
	}
	// A flat normal.
	flat := append([]byte{128, 128, 0, 0, 0, 0, 0, 0}, 127, 127, 0, 0, 0, 0, 0, 0)
	if img, err = Decode(BC5, flat, 4, 4, nil); err != nil || fmt.Sprint(img.Pix[:4]) != "[128 127 255 255]" {
		t.Errorf("BC5: %v %v", img.Pix[:4], err)
	}
	colour := []byte{0x00, 0xf8, 0x1f, 0x00, 0xe4, 0xe4, 0xe4, 0xe4}
	if img, err = Decode(BC3, append([]byte{255, 0, 0x88, 0xc6, 0xfa, 0x88, 0xc6, 0xfa}, colour...), 4, 4, nil); err != nil || fmt.Sprint(img.Pix[:8]) != "[255 0 0 255 0 0 255 0]" {
		t.Errorf("BC3: %v %v", img.Pix[:8], err)
	}
	if img, err = Decode(BC2, append([]byte{0xf8, 0, 0, 0, 0, 0, 0, 0}, colour...), 4, 4, nil); err != nil || fmt.Sprint(img.Pix[:8]) != "[255 0 0 136 0 0 255 255]" {
		t.Errorf("BC2: %v %v", img.Pix[:8], err)
	}
}

// Every anchor must lie in its subset, and be that subset's texel: this holds
// the tables of partitions and those of anchors against each other.
func TestPartitionTables(t *testing.T) {
	for p := range 64 {
		if bc7Two[p]>>bc7Anchor2[p]&1 != 1 || bc7Two[p]&1 != 0 {
			t.Errorf("partition %d of two: its anchor %d lies in the other subset", p, bc7Anchor2[p])
		}
		if bc7Three[p]>>(2*bc7Anchor3a[p])&3 != 1 || bc7Three[p]>>(2*bc7Anchor3b[p])&3 != 2 || bc7Three[p]&3 != 0 {
			t.Errorf("partition %d of three: an anchor lies in another subset", p)
		}
		n := [4]int{}
		for i := range 16 {
			n[bc7Three[p]>>(2*i)&3]++
		}
		if n[0] == 0 || n[1] == 0 || n[2] == 0 || n[3] != 0 {
			t.Errorf("partition %d of three: %v", p, n)
		}
	}
}

// writer puts bits into a block from the lowest up.
type writer struct {
	b [16]byte
	n uint
}

func (w *writer) put(v uint32, bits uint) {
	for i := range bits {
		w.b[w.n/8] |= byte(v>>i&1) << (w.n % 8)
		w.n++
	}
}

// TestBC7Modes writes blocks of every mode with random endpoints and indices
// and holds the texels against the interpolation of the standard, written out
// plainly.
func TestBC7Modes(t *testing.T) {
	r := rand.New(rand.NewSource(7))
	for no, m := range bc7Modes {
		for range 300 {
			var w writer
			w.put(1<<no, uint(no)+1)
			partition, rotation, selector := uint32(r.Intn(1<<m.partitionBits)), uint32(r.Intn(1<<m.rotationBits)), uint32(r.Intn(1<<m.selectorBits))
			w.put(partition, m.partitionBits)
			w.put(rotation, m.rotationBits)
			w.put(selector, m.selectorBits)
			n := int(2 * m.subsets)
			var raw [6][4]uint32
			for c := range 4 {
				width := m.colourBits
				if c == 3 {
					width = m.alphaBits
				}
				for i := range n {
					raw[i][c] = uint32(r.Intn(1 << width))
					w.put(raw[i][c], width)
				}
			}
			var pbit [6]uint32
			for i := range n {
				switch {
				case m.endpointP, m.sharedP && i%2 == 0:
					pbit[i] = uint32(r.Intn(2))
					w.put(pbit[i], 1)
				case m.sharedP:
					pbit[i] = pbit[i-1]
				}
			}
			widen := func(v uint32, width uint, p uint32) uint32 {
				if m.endpointP || m.sharedP {
					v, width = v*2+p, width+1
				}
				out := uint32(0) // repeat the bits until eight are full
				for k := range uint(8) {
					out = out<<1 | v>>(width-1-k%width)&1
				}
				return out
			}
			subset := func(i int) int {
				switch m.subsets {
				case 2:
					return int(bc7Two[partition] >> i & 1)
				case 3:
					return int(bc7Three[partition] >> (2 * i) & 3)
				}
				return 0
			}
			first := map[int]int{0: 0}
			if m.subsets == 2 {
				first[1] = int(bc7Anchor2[partition])
			} else if m.subsets == 3 {
				first[1], first[2] = int(bc7Anchor3a[partition]), int(bc7Anchor3b[partition])
			}
			var ix, ix2 [16]uint32
			for i := range ix {
				width := m.indexBits
				if first[subset(i)] == i {
					width--
				}
				ix[i] = uint32(r.Intn(1 << width))
				w.put(ix[i], width)
			}
			if m.index2Bits > 0 {
				for i := range ix2 {
					width := m.index2Bits
					if i == 0 {
						width--
					}
					ix2[i] = uint32(r.Intn(1 << width))
					w.put(ix2[i], width)
				}
			}
			if w.n != 128 {
				t.Fatalf("mode %d has %d bits", no, w.n)
			}
			var got [16]uint32
			bc7Block(&got, w.b[:])
			for i := range got {
				s := 2 * subset(i)
				var want [4]uint32
				for c := range 4 {
					idx, width := ix[i], m.indexBits
					if m.index2Bits > 0 && (c == 3) == (selector == 0) {
						idx, width = ix2[i], m.index2Bits
					}
					weight := bc7Weights[width][idx]
					a, z := uint32(255), uint32(255)
					if c < 3 {
						a, z = widen(raw[s][c], m.colourBits, pbit[s]), widen(raw[s+1][c], m.colourBits, pbit[s+1])
					} else if m.alphaBits > 0 {
						a, z = widen(raw[s][3], m.alphaBits, pbit[s]), widen(raw[s+1][3], m.alphaBits, pbit[s+1])
					}
					want[c] = (a*(64-weight) + z*weight + 32) / 64
				}
				if rotation > 0 {
					want[3], want[rotation-1] = want[rotation-1], want[3]
				}
				if got[i] != want[0]|want[1]<<8|want[2]<<16|want[3]<<24 {
					t.Fatalf("mode %d partition %d texel %d: %08x, want %v", no, partition, i, got[i], want)
				}
			}
		}
	}
	var t0 [16]uint32
	bc7Block(&t0, make([]byte, 16))
	if t0 != [16]uint32{} {
		t.Error("a reserved block is not empty")
	}

}

func FuzzDecode(f *testing.F) {
	f.Add("r5g6b5_pack16", "morton", []byte{1, 2, 3, 4, 5, 6, 7, 8}, int16(2), int16(2), true)
	f.Add("bc7", "tiles", bytes.Repeat([]byte{0x40}, 64), int16(7), int16(6), false)
	f.Add("indexed4_low", "", []byte{1, 2, 3}, int16(3), int16(2), false)
	f.Fuzz(func(t *testing.T, format, tiling string, data []byte, w, h int16, big bool) {
		o := Options{BigEndian: big, Palette: make([]byte, 64), Tiling: Tiling{Kind: TilingKind(tiling), TileW: int(w) / 2, TileH: int(h), SwapRow: 2, SwapUnit: int(w) % 5}}
		img, err := DecodeWith(Format(format), data, int(w%300), int(h%300), o)
		if err == nil && (img.Rect.Dx() != int(w%300) || len(img.Pix) != 4*int(w%300)*int(h%300)) {
			t.Errorf("%v", img.Rect)
		}
	})
}

func benchmark(b *testing.B, f Format, big bool, tiling Tiling) {
	const side = 2048
	n, _ := tiling.Span(f, side, side)
	data := make([]byte, n)
	rand.New(rand.NewSource(1)).Read(data)
	if f == BC7 { // all modes in turn
		for i := 0; i < len(data); i += 16 {
			data[i] = 1 << (i / 16 % 8)
		}
	}
	for b.Loop() {
		if _, err := DecodeWith(f, data, side, side, Options{BigEndian: big, Tiling: tiling}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(side*side)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mpixel/s")
}

func BenchmarkDecode(b *testing.B) {
	for _, f := range []Format{"r5g6b5_pack16", "r8g8b8a8", "b8g8r8", "r16g16b16a16_sfloat", BC1, BC3, BC5, BC7} {
		b.Run(string(f), func(b *testing.B) { benchmark(b, f, false, Tiling{}) })
	}
	b.Run("r5g6b5_pack16-big", func(b *testing.B) { benchmark(b, "r5g6b5_pack16", true, Tiling{}) })
	b.Run("r5g6b5_pack16-morton", func(b *testing.B) { benchmark(b, "r5g6b5_pack16", false, Tiling{Kind: Morton}) })
}

func TestBrightness(t *testing.T) {
	grey, unit, err := Brightness("r5g6b5_pack16", []byte{0, 0, 0xff, 0xff, 0x1f, 0, 9}, Options{})
	if err != nil || unit != 1 || len(grey) != 3 || grey[0] != 0 || grey[1] != 255 || grey[2] != 255/8 {
		t.Errorf("%v %d %v", grey, unit, err)
	}
	block := []byte{0x00, 0xf8, 0x00, 0xf8, 0, 0, 0, 0} // all red
	grey, unit, err = Brightness(BC1, bytes.Repeat(block, 5), Options{})
	if err != nil || unit != 4 || len(grey) != 5 || grey[0] != 255*2/8 {
		t.Errorf("%v %d %v", grey, unit, err)
	}
	if grey, _, err = Brightness(Indexed4, []byte{0x10}, Options{Palette: []byte{0, 0, 0, 255, 255, 255, 255, 255}}); err != nil || len(grey) != 2 || grey[0] != 255 || grey[1] != 0 {
		t.Errorf("%v %v", grey, err)
	}
	if grey, _, err = Brightness("l8", nil, Options{}); err != nil || grey != nil {
		t.Errorf("no bytes: %v %v", grey, err)
	}
	if _, _, err = Brightness("q9", []byte{1}, Options{}); err == nil {
		t.Error("an unknown format is taken")
	}
}
