package layout

import (
	"bytes"
	"context"
	"encoding/binary"
	"image"
	"strings"
	"testing"
)

// Made-up formats, each awkward in its own way, written by code that shares
// nothing with the reader.

// reedChain is a container whose entries lie in a chain: each says where the
// next one is. It exists in both byte orders, told by a mark.
func reedChain(o binary.AppendByteOrder, entries [][2]string) []byte {
	b := append([]byte("REED"), "II"...)
	if o == binary.BigEndian {
		b = append([]byte("REED"), "MM"...)
	}
	b = o.AppendUint16(b, 1)
	b = o.AppendUint32(b, 16)
	b = append(b, "pad."...)
	for i, e := range entries {
		begin := len(b)
		b = o.AppendUint32(b, 0) // where the next one is
		b = o.AppendUint32(b, uint32(len(e[1])))
		b = append(b, byte(len(e[0])))
		b = append(b, e[0]...)
		for len(b)%4 != 0 {
			b = append(b, 0xee)
		}
		b = append(b, e[1]...)
		for range i { // gaps that nobody explains
			b = append(b, 0xdd)
		}
		if i < len(entries)-1 {
			var at []byte
			at = o.AppendUint32(at, uint32(len(b)))
			copy(b[begin:], at)
		}
	}
	return b
}

const reedLayout = `layout: reed chain
kind: container
order: {at: 4, big: "4d 4d"}
recognise: [{at: 0, ascii: REED}]
records:
  link:
    - next_at: u32
    - size: u32
    - name_size: u8
    - name: ascii[name_size]
    - data: {type: "bytes[size]", align: 4}
fields:
  - magic: ascii[4]
  - mark: ascii[2]
  - version: {type: u16, must: version == 1}
  - first: u32
  - links: {type: "link[*]", at: first, next: it.next_at}
container:
  each: links
  as: e
  name: e.name
  at: start(e.data)
  size: e.size
`

func TestAChainInBothOrders(t *testing.T) {
	want := [][2]string{{"fauna/heron.txt", "stands in the shallows"}, {"a", "x"}, {"boats/punt.txt", ""}}
	l := compile(t, reedLayout)
	for _, o := range []binary.AppendByteOrder{binary.LittleEndian, binary.BigEndian} {
		file := reedChain(o, want)
		got, err := l.Entries(context.Background(), Memory(file), Surroundings{})
		if err != nil || len(got) != len(want) {
			t.Fatalf("%v: %v, %v", o, got, err)
		}
		for i, e := range got {
			if e.Name != want[i][0] || string(file[e.Offset:e.Offset+e.Size]) != want[i][1] {
				t.Errorf("%v: entry %d is %q: %q", o, i, e.Name, file[e.Offset:e.Offset+e.Size])
			}
		}
		// A chain that bites its tail, and one that leads out of the file.
		for at, say := range map[uint32]string{16: "comes back to offset 16", 0xffffff: "the file ends"} {
			bad := bytes.Clone(file)
			var b []byte
			copy(bad[16:], o.AppendUint32(b, at))
			if _, err := l.Entries(context.Background(), Memory(bad), Surroundings{}); err == nil || !strings.Contains(err.Error(), say) || !strings.Contains(err.Error(), "line 17") {
				t.Errorf("%v: a chain to %d: %v", o, at, err)
			}
		}
	}
}

// mistPicture is chunks that say their own length, to one of a kind that ends
// them; the texels are tiled and the palette stands in a chunk of its own.
func mistPicture(w, h int, texel func(x, y int) byte) []byte {
	chunk := func(b []byte, kind uint16, data []byte) []byte {
		b = binary.BigEndian.AppendUint16(b, kind)
		b = append(b, leb(uint64(len(data)))...)
		return append(b, data...)
	}
	b := []byte("MIST")
	b = chunk(b, 1, []byte{byte(w), byte(h)})
	pal := make([]byte, 0, 512)
	for i := range 256 { // 5-6-5, big-endian
		pal = binary.BigEndian.AppendUint16(pal, uint16(i>>3)<<11|uint16(i>>2)<<5|uint16(i>>3))
	}
	b = chunk(b, 9, []byte("a remark that nobody needs"))
	b = chunk(b, 2, pal)
	tiled := make([]byte, w*h)
	i := 0
	for ty := 0; ty < h; ty += 4 {
		for tx := 0; tx < w; tx += 8 {
			for y := ty; y < ty+4; y++ {
				for x := tx; x < tx+8; x++ {
					tiled[i] = texel(x, y)
					i++
				}
			}
		}
	}
	b = chunk(b, 3, tiled)
	b = chunk(b, 0, nil)
	return append(b, "and what follows is no chunk"...)
}

func leb(v uint64) (b []byte) {
	for ; v >= 128; v >>= 7 {
		b = append(b, byte(v)|128)
	}
	return append(b, byte(v))
}

const mistLayout = `layout: mist picture
kind: picture
order: big
recognise: [{at: 0, ascii: MIST}]
records:
  chunk:
    - kind: u16
    - size: leb128
    - data: bytes[size]
fields:
  - magic: ascii[4]
  - chunks: {type: "chunk[*]", until: it.kind == 0}
  - size: {type: "u8[2]", at: "[start(c.data) for c in chunks if c.kind == 1][0]"}
picture:
  width: size[0]
  height: size[1]
  format: indexed8
  at: "[start(c.data) for c in chunks if c.kind == 3][0]"
  tiling: tiles
  tile: {width: 8, height: 4}
  palette: {at: "[start(c.data) for c in chunks if c.kind == 2][0]", count: 256, format: r5g6b5_pack16}
`

func TestChunksTilesAndAPaletteElsewhere(t *testing.T) {
	texel := func(x, y int) byte { return byte(x*7 + y*31) }
	img, err := compile(t, mistLayout).Image(context.Background(), Memory(mistPicture(24, 12, texel)), Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	if img.Rect != image.Rect(0, 0, 24, 12) {
		t.Fatal(img.Rect)
	}
	for y := range 12 {
		for x := range 24 {
			v := texel(x, y)
			if got := img.NRGBAAt(x, y); int(got.R)-int(v) > 8 || int(v)-int(got.R) > 8 || got.R != got.B {
				t.Fatalf("texel %d, %d is %v, want about %d", x, y, got, v)
			}
		}
	}
	file := mistPicture(24, 12, texel)
	for cut := 0; cut < len(file)-30; cut += 7 { // never a panic; always a place
		if _, err := compile(t, mistLayout).Image(context.Background(), Memory(file[:cut]), Surroundings{}); err == nil || !strings.Contains(err.Error(), "line") {
			t.Fatalf("cut off at %d: %v", cut, err)
		}
	}
}

func TestListsTextsAndNumbersOfEveryKind(t *testing.T) {
	file := []byte("ODDS")
	for _, v := range []uint16{3, 1, 4, 1, 5, 0xffff} {
		file = binary.LittleEndian.AppendUint16(file, v)
	}
	file = append(file, 0x81, 0x00)       // vlq 128
	file = append(file, 0xe5, 0x8e, 0x26) // leb128 624485
	for _, c := range "Fähre" {
		file = binary.LittleEndian.AppendUint16(file, uint16(c))
	}
	file = append(file, 0, 0)
	file = append(file, 0x83, 0x89, 0x83, 0x93, 0, 0)
	for len(file)%16 != 0 {
		file = append(file, 0xcc)
	}
	file = append(file, "end of it"...)
	doc := `layout: odds
kind: container
recognise: [{at: 0, ascii: ODDS}]
records:
  letter:
    - c: u8
fields:
  - magic: ascii[4]
  - digits: {type: "u16[*]", until: it == 0xffff}
  - big: vlq
  - small: leb128
  - wide: utf16le[12]
  - kana: shift_jis[6]
  - rest: {type: "letter[*]", align: 16}
container:
  each: "[0]"
  name: "str(len(digits)) + str(digits[4]) + '/' + str(big) + '/' + str(small) + '/' + wide + '/' + kana + '/' + str(len(rest)) + chr(rest[0].c)"
  at: 0
  size: 0
`
	got, err := compile(t, doc).Entries(context.Background(), Memory(file), Surroundings{})
	if err != nil || len(got) != 1 || got[0].Name != "55/128/624485/Fähre/ラン/9e" {
		t.Errorf("%+v, %v", got, err)
	}
	for from, say := range map[string]string{"until: it == 0xffff": "until: it == 0xfffe", "vlq": "leb128[2]", "align: 16": "align: 0", "letter[*]": "nothing[*]"} {
		_, err := Compile("x", []byte(strings.Replace(doc, from, say, 1)))
		if from == "until: it == 0xffff" {
			if err != nil {
				t.Fatal(err)
			}
			l := compile(t, strings.Replace(doc, from, say, 1))
			if _, err = l.Entries(context.Background(), Memory(file), Surroundings{}); err == nil || !strings.Contains(err.Error(), "nothing ends it") {
				t.Errorf("without its end: %v", err)
			}
		} else if err == nil || !strings.Contains(err.Error(), "line") {
			t.Errorf("%s: %v", say, err)
		}
	}
}

func TestCodecsByParameters(t *testing.T) {
	doc := strings.Replace(small, "records:", `codecs:
  mist: {kind: lzss, distance: "12+4 0+8", length: 8+4, window: yes, start: 4078, fill: 32}
  veil: {kind: key, bytes: "a5", inc: 1, of: mist}
  parts: {kind: blocks, size: 4096, width: 2, order: big, of: zlib}
  runs: {kind: rle, run_min: 2}
records:`, 1) + "  codec: {by: e.name_at, 0: veil, 4: parts, 8: runs, else: stored}\n"
	got, err := compile(t, doc).Entries(context.Background(), Memory(smallFile(2, [3]uint32{0, 1, 8}, [3]uint32{4, 1, 9})), Surroundings{})
	if err != nil || got[0].Codec.Name != "veil" || got[1].Codec.Name != "parts" {
		t.Fatalf("%+v %v", got, err)
	}
	// "a a a a" in the window's own spaces, under a key that counts up.
	packed := []byte{0b0001, 'a', 0xee, 0xf0}
	for i := range packed {
		packed[i] ^= 0xa5 + byte(i)
	}
	if b, err := got[0].Codec.Decode(packed, 4); err != nil || !strings.HasPrefix(string(b), "a") {
		t.Errorf("%q %v", b, err)
	}
	for from, to := range map[string]string{"8+4, window": "8+9, window", "kind: key": "kind: lock", "of: zlib": "of: zap", `bytes: "a5"`: `bytes: "a"`, "mist:": "zlib:", "12+4 0+8": "12-4"} {
		if _, err := Compile("x", []byte(strings.Replace(doc, from, to, 1))); err == nil || !strings.Contains(err.Error(), "line") {
			t.Errorf("%s: %v", to, err)
		}
	}
}
