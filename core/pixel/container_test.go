package pixel

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand"
	"os/exec"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
)

// pnm is a random picture with runs in it, as Netpbm writes them, and as it is.
func pnm(r *rand.Rand, w, h, colours int, grey bool) ([]byte, *image.NRGBA) {
	kind := "P6"
	if grey {
		kind = "P5"
	}
	out := []byte(fmt.Sprintf("%s\n%d %d\n255\n", kind, w, h))
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	palette := make([]color.NRGBA, colours)
	for i := range palette {
		palette[i] = color.NRGBA{byte(r.Intn(256)), byte(r.Intn(256)), byte(r.Intn(256)), 255}
		if grey {
			palette[i].G, palette[i].B = palette[i].R, palette[i].R
		}
	}
	c := palette[0]
	for i := range w * h {
		if r.Intn(4) == 0 {
			c = palette[r.Intn(colours)]
		}
		img.SetNRGBA(i%w, i/w, c)
		if grey {
			out = append(out, c.R)
		} else {
			out = append(out, c.R, c.G, c.B)
		}
	}
	return out, img
}

func decoded(t *testing.T, data []byte, format string) *image.NRGBA {
	t.Helper()
	out, _, from, w, h, err := Encoded(data)
	if err != nil {
		t.Fatalf("%s: %v", format, err)
	}
	img, err := png.Decode(bytes.NewReader(out))
	if err != nil || from != format || img.Bounds().Dx() != w || img.Bounds().Dy() != h {
		t.Fatalf("%s: %v, %s, %d x %d", format, err, from, w, h)
	}
	return ToNRGBA(img)
}

// TestTGAsOfOthers reads what Netpbm writes.
func TestTGAsOfOthers(t *testing.T) {
	r := rand.New(rand.NewSource(5))
	for _, c := range []struct {
		args    []string
		colours int
		grey    bool
	}{
		{[]string{"-rgb"}, 5000, false}, {[]string{"-rgb", "-norle"}, 5000, false}, {[]string{"-cmap"}, 200, false}, {[]string{"-cmap", "-norle"}, 7, false}, {[]string{"-mono"}, 200, true}, {nil, 40, false},
	} {
		for range 4 {
			in, want := pnm(r, 1+r.Intn(60), 1+r.Intn(60), c.colours, c.grey)
			cmd := exec.Command("ppmtotga", c.args...)
			cmd.Stdin = bytes.NewReader(in)
			var errs bytes.Buffer
			cmd.Stderr = &errs
			data, err := cmd.Output()
			if err != nil {
				t.Fatalf("ppmtotga %v: %v %s", c.args, err, errs.String())
			}
			if got := decoded(t, data, "tga"); !bytes.Equal(got.Pix, want.Pix) {
				t.Errorf("ppmtotga %v of %v gives other texels", c.args, want.Rect)
			}
			for _, cut := range []int{17, 20, len(data) / 2} {
				if cut < len(data) {
					Encoded(data[:cut])
				}
			}
		}
	}
}

func TestTGAByHand(t *testing.T) {
	head := func(kind, depth, flags byte, w, h int) []byte {
		b := make([]byte, 18)
		b[2], b[16], b[17] = kind, depth, flags
		b[12], b[14] = byte(w), byte(h)
		return b
	}
	for _, c := range []struct {
		name string
		data []byte
		want string // of the upper left and the lower right texel
	}{
		{"rows from below", append(head(2, 24, 0, 1, 2), 1, 2, 3, 4, 5, 6), "{6 5 4 255} {3 2 1 255}"},
		{"rows from above", append(head(2, 24, 0x20, 1, 2), 1, 2, 3, 4, 5, 6), "{3 2 1 255} {6 5 4 255}"},
		{"columns from the right", append(head(2, 24, 0x30, 2, 1), 1, 2, 3, 4, 5, 6), "{6 5 4 255} {3 2 1 255}"},
		{"five bits a channel", append(head(2, 16, 0x21, 2, 1), 0xff, 0xff, 0x00, 0x7c), "{255 255 255 255} {255 0 0 0}"},
		{"32 bits with alpha", append(head(2, 32, 0x28, 2, 1), 1, 2, 3, 4, 5, 6, 7, 8), "{3 2 1 4} {7 6 5 8}"},
		{"32 bits without any", append(head(2, 32, 0x20, 2, 1), 1, 2, 3, 0, 5, 6, 7, 0), "{3 2 1 255} {7 6 5 255}"},
		{"grey and alpha", append(head(3, 16, 0x28, 2, 1), 9, 8, 7, 6), "{9 9 9 8} {7 7 7 6}"},
		{"a run across rows", append(head(10, 24, 0x20, 2, 2), 0x82, 1, 2, 3, 0x00, 4, 5, 6), "{3 2 1 255} {6 5 4 255}"},
	} {
		img := decoded(t, c.data, "tga")
		b := img.Rect.Max
		if got := fmt.Sprint(img.NRGBAAt(0, 0), img.NRGBAAt(b.X-1, b.Y-1)); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	for _, c := range []struct {
		data []byte
		want string
	}{
		{append(head(2, 24, 0, 9, 9), 1), "243 bytes of texels are wanted at offset 18"},
		{append(head(10, 24, 0, 9, 9), 0x85, 1, 2, 3), "the packets end after 6 of 81"},
		{append(head(10, 24, 0, 3, 1), 0x02, 1, 2, 3), "a packet of 3 texels ends beyond"},
		{append(head(10, 24, 0, 200, 200), 1), "cannot come out"},
	} {
		if _, _, _, _, _, err := Encoded(c.data); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
	}
	for _, b := range []string{"", "SLCE\x00\x00\x00\x00", strings.Repeat("text and more text", 3), string(make([]byte, 40))} {
		if IsTGA([]byte(b)) {
			t.Errorf("%q is taken for a TGA", b)
		}
	}
}

// dds is a DDS with a legacy header.
func dds(w, h int, flags uint32, code string, depth uint32, masks [4]uint32, data []byte) []byte {
	b := make([]byte, 128)
	copy(b, "DDS ")
	put := func(at int, v uint32) { binary.LittleEndian.PutUint32(b[at:], v) }
	put(4, 124)
	put(12, uint32(h))
	put(16, uint32(w))
	put(76, 32)
	put(80, flags)
	copy(b[84:88], code)
	put(88, depth)
	for i, m := range masks {
		put(92+4*i, m)
	}
	return append(b, data...)
}

func TestDDS(t *testing.T) {
	red := []byte{0x00, 0xf8, 0x00, 0xf8, 0, 0, 0, 0}
	dx10 := func(format uint32, data []byte) []byte {
		return append(append(dds(4, 4, 4, "DX10", 0, [4]uint32{}, nil), binary.LittleEndian.AppendUint32(nil, format)...), append(make([]byte, 16), data...)...)
	}
	for _, c := range []struct {
		name string
		data []byte
		want string
	}{
		{"DXT1", dds(4, 4, 4, "DXT1", 0, [4]uint32{}, red), "{255 0 0 255}"},
		{"BC1 by DXGI", dx10(71, red), "{255 0 0 255}"},
		{"RGBA by DXGI", dx10(28, bytes.Repeat([]byte{1, 2, 3, 4}, 16)), "{1 2 3 4}"},
		{"a8r8g8b8 by masks", dds(1, 1, 0x41, "", 32, [4]uint32{0xff0000, 0xff00, 0xff, 0xff000000}, []byte{1, 2, 3, 4}), "{3 2 1 4}"},
		{"x8r8g8b8 by masks", dds(1, 1, 0x40, "", 32, [4]uint32{0xff0000, 0xff00, 0xff, 0xff000000}, []byte{1, 2, 3, 4}), "{3 2 1 255}"},
		{"5-6-5 by masks", dds(1, 1, 0x40, "", 16, [4]uint32{0xf800, 0x07e0, 0x1f, 0}, []byte{0xe0, 0x07}), "{0 255 0 255}"},
		{"24 bits", dds(1, 1, 0x40, "", 24, [4]uint32{0xff0000, 0xff00, 0xff, 0}, []byte{1, 2, 3}), "{3 2 1 255}"},
		{"grey", dds(1, 1, 0x20000, "", 8, [4]uint32{0xff, 0, 0, 0}, []byte{77}), "{77 77 77 255}"},
		{"grey and alpha", dds(1, 1, 0x20001, "", 16, [4]uint32{0xff, 0, 0, 0xff00}, []byte{77, 5}), "{77 77 77 5}"},
		{"alpha only", dds(1, 1, 2, "", 8, [4]uint32{0, 0, 0, 0xff}, []byte{9}), "{0 0 0 9}"},
	} {
		if got := fmt.Sprint(decoded(t, c.data, "dds").NRGBAAt(0, 0)); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	cube := dds(4, 4, 4, "DXT1", 0, [4]uint32{}, bytes.Repeat(red, 6))
	binary.LittleEndian.PutUint32(cube[112:], 0x200|0xfc00)
	if _, _, l, err := container(cube); err != nil || l.Faces != 6 {
		t.Errorf("%+v %v", l, err)
	}
	for _, c := range []struct {
		data []byte
		want string
	}{
		{dds(4, 4, 4, "DXT1", 0, [4]uint32{}, red[:5]), "8 bytes of texels are wanted, and 5 are there"},
		{dds(4, 4, 4, "CLAY", 0, [4]uint32{}, red), `"CLAY" is not decoded`},
		{dx10(7777, red), "DXGI format 7777"},
		{dds(0, 4, 4, "DXT1", 0, [4]uint32{}, red), "0 x 4"},
		{dds(4, 4, 4, "DXT1", 0, [4]uint32{}, red)[:90], "ends within its header"},
	} {
		if _, _, _, _, _, err := Encoded(c.data); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
	}
}

func TestKTX(t *testing.T) {
	red := []byte{0x00, 0xf8, 0x00, 0xf8, 0, 0, 0, 0}
	two := func(format, packing uint32, w, h int, full int, data []byte) []byte {
		b := make([]byte, 104)
		copy(b, ktx2Mark)
		for at, v := range map[int]uint32{12: format, 16: 1, 20: uint32(w), 24: uint32(h), 36: 1, 40: 1, 44: packing} {
			binary.LittleEndian.PutUint32(b[at:], v)
		}
		binary.LittleEndian.PutUint64(b[80:], 104)
		binary.LittleEndian.PutUint64(b[88:], uint64(len(data)))
		binary.LittleEndian.PutUint64(b[96:], uint64(full))
		return append(b, data...)
	}
	one := func(o binary.ByteOrder, typ, form, internal uint32, w, h int, data []byte) []byte {
		b := make([]byte, 68)
		copy(b, ktx1Mark)
		for at, v := range map[int]uint32{12: 0x04030201, 16: typ, 24: form, 28: internal, 36: uint32(w), 40: uint32(h), 52: 1, 56: 1, 64: uint32(len(data))} {
			o.PutUint32(b[at:], v)
		}
		return append(b, data...)
	}
	z, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	grey := bytes.Repeat([]byte{5, 6, 7, 255}, 64)
	for _, c := range []struct {
		name string
		data []byte
		want string
	}{
		{"BC1", two(131, 0, 4, 4, 8, red), "{255 0 0 255}"},
		{"zstd", two(37, 2, 8, 8, len(grey), z.EncodeAll(grey, nil)), "{5 6 7 255}"},
		{"KTX 1, BC1", one(binary.LittleEndian, 0, 0, 0x83f0, 4, 4, red), "{255 0 0 255}"},
		{"KTX 1, padded rows", one(binary.LittleEndian, 0x1401, 0x1907, 0x8051, 1, 2, []byte{1, 2, 3, 0, 4, 5, 6, 0}), "{1 2 3 255}"},
		{"KTX 1, big-endian", one(binary.BigEndian, 0x8363, 0x1907, 0x8d62, 2, 1, []byte{0x07, 0xe0, 0, 0}), "{0 255 0 255}"},
	} {
		if got := fmt.Sprint(decoded(t, c.data, "ktx").NRGBAAt(0, 0)); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	for _, c := range []struct {
		data []byte
		want string
	}{
		{two(131, 1, 4, 4, 8, red), "Basis LZ"}, {two(0, 0, 4, 4, 8, red), "no format of Vulkan"}, {two(999, 0, 4, 4, 8, red), "Vulkan format 999"}, {two(131, 9, 4, 4, 8, red), "supercompression 9"},
		{two(131, 0, 4, 4, 8, red)[:106], "ends beyond the file"}, {two(37, 2, 8, 8, 1<<45, z.EncodeAll(grey, nil)), "first level"}, {one(binary.LittleEndian, 7, 7, 7, 4, 4, red), "OpenGL format 0x7"},
	} {
		if _, _, _, _, _, err := Encoded(c.data); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
	}
}

// Four texels, 1 and 2 above 3 and 4 as they are stored, in every orientation.
func TestKTXOrientation(t *testing.T) {
	texels := []byte{1, 0, 0, 255, 2, 0, 0, 255, 3, 0, 0, 255, 4, 0, 0, 255}
	for _, c := range []struct {
		version int
		says    string
		want    [4]byte
	}{
		{2, "", [4]byte{1, 2, 3, 4}}, {2, "rd\x00", [4]byte{1, 2, 3, 4}}, {2, "ru\x00", [4]byte{3, 4, 1, 2}}, {2, "ld\x00", [4]byte{2, 1, 4, 3}}, {2, "lu", [4]byte{4, 3, 2, 1}},
		{1, "", [4]byte{1, 2, 3, 4}}, {1, "S=r,T=d\x00", [4]byte{1, 2, 3, 4}}, {1, "S=r,T=u\x00", [4]byte{3, 4, 1, 2}}, {1, "S=l,T=u,R=i\x00", [4]byte{4, 3, 2, 1}},
		{-1, "S=r,T=u\x00", [4]byte{3, 4, 1, 2}}, // KTX 1, big-endian
	} {
		var o interface {
			binary.ByteOrder
			binary.AppendByteOrder
		} = binary.LittleEndian
		if c.version < 0 {
			o = binary.BigEndian
		}
		var pairs []byte
		add := func(key, value string) {
			pairs = o.AppendUint32(pairs, uint32(len(key)+1+len(value)))
			pairs = append(append(pairs, key+"\x00"...), value...)
			for len(pairs)%4 != 0 {
				pairs = append(pairs, 0)
			}
		}
		if add("Aside", "T=u, lu"); c.says != "" {
			add("KTXorientation", c.says)
		}
		var b []byte
		if c.version == 2 {
			b = make([]byte, 104)
			copy(b, ktx2Mark)
			for at, v := range map[int]uint32{12: 37, 16: 1, 20: 2, 24: 2, 36: 1, 40: 1, 56: 104, 60: uint32(len(pairs)), 80: uint32(104 + len(pairs)), 88: 16, 96: 16} {
				o.PutUint32(b[at:], v)
			}
			b = append(append(b, pairs...), texels...)
		} else {
			b = make([]byte, 64)
			copy(b, ktx1Mark)
			for at, v := range map[int]uint32{12: 0x04030201, 16: 0x1401, 24: 0x1908, 28: 0x8058, 36: 2, 40: 2, 52: 1, 56: 1, 60: uint32(len(pairs))} {
				o.PutUint32(b[at:], v)
			}
			b = append(o.AppendUint32(append(b, pairs...), 16), texels...)
		}
		img := decoded(t, b, "ktx")
		if got := [4]byte{img.Pix[0], img.Pix[4], img.Pix[8], img.Pix[12]}; got != c.want {
			t.Errorf("version %d, %q: %v, want %v", c.version, c.says, got, c.want)
		}
		// Broken pairs say nothing, and break nothing.
		at := len(b) - 16 - len(pairs)
		if c.version != 2 {
			at -= 4
		}
		o.PutUint32(b[at:], 1<<31)
		if img := decoded(t, b, "ktx"); img.Pix[0] != 1 {
			t.Errorf("version %d, broken: %d", c.version, img.Pix[0])
		}
	}
}

// The first header names what it can; the second one is written for the rest.
func TestDDSHeaders(t *testing.T) {
	img := image.NewNRGBA(image.Rect(0, 0, 8, 4))
	for i := range img.Pix {
		img.Pix[i] = byte(i * 7)
	}
	for _, c := range []struct {
		texels      Format
		code        string
		flags, bits uint32
		red, alpha  uint32
		size        int
	}{
		{BC1, "DXT1", 4, 0, 0, 0, 128 + 16}, {BC3, "DXT5", 4, 0, 0, 0, 128 + 32}, {BC4, "ATI1", 4, 0, 0, 0, 128 + 16}, {BC5, "ATI2", 4, 0, 0, 0, 128 + 32}, {BC7, "DX10", 4, 0, 0, 0, 148 + 32}, {"r8", "DX10", 4, 0, 0, 0, 148 + 32},
		{"r8g8b8a8", "\x00\x00\x00\x00", 0x41, 32, 0xff, 0xff000000, 128 + 128}, {"b8g8r8a8", "\x00\x00\x00\x00", 0x41, 32, 0xff0000, 0xff000000, 128 + 128},
	} {
		b, err := writeDDS([]*image.NRGBA{img}, WriteOptions{Texels: c.texels, Meaning: Colour})
		if err != nil {
			t.Fatal(err)
		}
		u := func(at int) uint32 { return binary.LittleEndian.Uint32(b[at:]) }
		if string(b[84:88]) != c.code || u(80) != c.flags || u(88) != c.bits || u(92) != c.red || u(104) != c.alpha || len(b) != c.size {
			t.Errorf("%s: %q, flags 0x%x, %d bits, masks 0x%x and 0x%x, %d bytes", c.texels, b[84:88], u(80), u(88), u(92), u(104), len(b))
		}
	}
}

// FuzzContainer gives any bytes to the readers of TGA, DDS and KTX.
func FuzzContainer(f *testing.F) {
	f.Add(dds(4, 4, 4, "DXT1", 0, [4]uint32{}, make([]byte, 8)))
	f.Add(dds(2, 2, 0x41, "", 32, [4]uint32{0xff0000, 0xff00, 0xff, 0xff000000}, make([]byte, 16)))
	f.Add([]byte("\x00\x00\x0a\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\x02\x00\x18\x20\x82\x01\x02\x03\x00\x04\x05\x06"))
	f.Add(append([]byte(ktx2Mark), make([]byte, 100)...))
	f.Add(append([]byte(ktx1Mark), make([]byte, 100)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		if img, from, _, err := container(b); from != "" && (img == nil) == (err == nil) {
			t.Fatalf("%s: %v", from, err)
		}
	})
}
