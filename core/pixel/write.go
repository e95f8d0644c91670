package pixel

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// WriteOptions of Write.
type WriteOptions struct {
	Texels  Format  // of DDS and KTX 2; empty is bc7
	Meaning Meaning // empty is colour
	Mips    bool    // of DDS and KTX 2
	Quality int     // of JPEG, 1 to 100; 0 is 92
}

// Container is a picture format by name, with what its files end in.
type Container struct {
	Name, Title, Ending string
	Writes              bool
	Texels              []Format // those it can be written with, the usual one first
}

var texels = []Format{BC7, BC1, BC3, BC4, BC5, "r8g8b8a8", "b8g8r8a8", "r8"}

// Containers are the picture formats that are read; most are written too.
var Containers = []Container{
	{"png", "PNG", ".png", true, nil}, {"jpeg", "JPEG", ".jpg", true, nil}, {"tga", "Truevision TGA", ".tga", true, nil}, {"bmp", "Windows bitmap", ".bmp", true, nil},
	{"dds", "DirectDraw surface", ".dds", true, texels}, {"ktx2", "KTX 2.0", ".ktx2", true, texels}, {"ktx", "KTX 1.1", ".ktx", false, nil},
	{"webp", "WebP", ".webp", false, nil}, {"tiff", "TIFF", ".tif", false, nil}, {"gif", "GIF", ".gif", false, nil},
}

// Writable is the picture format of a name or an ending that is written; nil
// if there is none.
func Writable(name string) *Container {
	name = strings.ToLower(name)
	for i := range Containers {
		if c := &Containers[i]; c.Writes && (c.Name == name || c.Ending == name || c.Name == "jpeg" && name == ".jpeg") {
			return c
		}
	}
	return nil
}

// Write writes a picture; lost says what the format cannot carry.
func Write(name string, img *image.NRGBA, o WriteOptions) (data []byte, lost []string, err error) {
	if o.Meaning == "" {
		o.Meaning = Colour
	}
	if o.Texels == "" {
		o.Texels = BC7
	}
	clear := false
	for i := 3; i < len(img.Pix) && !clear; i += 4 {
		clear = img.Pix[i] != 255
	}
	switch name {
	case "png":
		var b bytes.Buffer
		err = png.Encode(&b, img)
		return b.Bytes(), nil, err
	case "jpeg":
		if clear {
			lost = append(lost, "alpha: JPEG has none")
		}
		if o.Quality == 0 {
			o.Quality = 92
		}
		var b bytes.Buffer
		opaque := image.NewRGBA(img.Rect)
		copy(opaque.Pix, img.Pix)
		for i := 3; i < len(opaque.Pix); i += 4 {
			opaque.Pix[i] = 255
		}
		err = jpeg.Encode(&b, opaque, &jpeg.Options{Quality: o.Quality})
		return b.Bytes(), lost, err
	case "tga":
		return writeTGA(img, clear), nil, nil
	case "bmp":
		return writeBMP(img, clear), nil, nil
	case "dds", "ktx2":
		levels := []*image.NRGBA{img}
		if o.Mips {
			levels = Mips(img, o.Meaning)
		}
		switch o.Texels {
		case BC4, "r8":
			lost = append(lost, fmt.Sprintf("all channels but red: %s has one", o.Texels))
		case BC5:
			lost = append(lost, "blue and alpha: bc5 has red and green")
		case BC1:
			for i := 3; i < len(img.Pix); i += 4 {
				if a := img.Pix[i]; a != 0 && a != 255 {
					lost = append(lost, "alpha between clear and opaque: bc1 has one bit of it")
					break
				}
			}
		}
		if name == "dds" {
			data, err = writeDDS(levels, o)
		} else {
			data, err = writeKTX2(levels, o)
		}
		return data, lost, err
	}
	return nil, nil, fmt.Errorf("pictures are not written as %q; there are png, jpeg, tga, bmp, dds and ktx2", name)
}

// writeTGA writes true colour with run lengths, rows from above (Truevision TGA
// File Format Specification 2.0).
func writeTGA(img *image.NRGBA, clear bool) []byte {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	n := 3
	flags := byte(0x20)
	if clear {
		n, flags = 4, 0x28
	}
	out := make([]byte, 18, 18+w*h*n/2)
	out[2] = 10
	binary.LittleEndian.PutUint16(out[12:], uint16(w))
	binary.LittleEndian.PutUint16(out[14:], uint16(h))
	out[16], out[17] = byte(8*n), flags
	texel := func(out []byte, p []byte) []byte {
		out = append(out, p[2], p[1], p[0])
		if n == 4 {
			out = append(out, p[3])
		}
		return out
	}
	for y := range h {
		row := img.Pix[y*img.Stride:][:4*w]
		same := func(a, b int) bool { return bytes.Equal(row[4*a:4*a+n], row[4*b:4*b+n]) }
		for x := 0; x < w; { // packets do not cross rows
			run := 1
			for x+run < w && run < 128 && same(x, x+run) {
				run++
			}
			if run > 1 {
				out = texel(append(out, byte(127+run)), row[4*x:])
				x += run
				continue
			}
			from := x
			for x++; x < w && x-from < 128 && (x+1 >= w || !same(x, x+1)); x++ {
			}
			out = append(out, byte(x-from-1))
			for i := from; i < x; i++ {
				out = texel(out, row[4*i:])
			}
		}
	}
	return append(append(out, make([]byte, 8)...), "TRUEVISION-XFILE.\x00"...)
}

// writeBMP writes 24 bits a texel, or 32 with masks in a header of version 4
// where there is alpha, rows from below.
func writeBMP(img *image.NRGBA, clear bool) []byte {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	n, header := 3, 40
	if clear {
		n, header = 4, 108
	}
	stride := (w*n + 3) &^ 3
	out := make([]byte, 14+header+stride*h)
	le := binary.LittleEndian
	copy(out, "BM")
	le.PutUint32(out[2:], uint32(len(out)))
	le.PutUint32(out[10:], uint32(14+header))
	le.PutUint32(out[14:], uint32(header))
	le.PutUint32(out[18:], uint32(w))
	le.PutUint32(out[22:], uint32(h))
	le.PutUint16(out[26:], 1)
	le.PutUint16(out[28:], uint16(8*n))
	le.PutUint32(out[34:], uint32(stride*h))
	if clear {
		le.PutUint32(out[30:], 3) // masks
		for i, m := range []uint32{0xff0000, 0xff00, 0xff, 0xff000000} {
			le.PutUint32(out[54+4*i:], m)
		}
		copy(out[70:], "BGRs") // sRGB
	}
	for y := range h {
		row := img.Pix[(h-1-y)*img.Stride:]
		o := out[14+header+y*stride:]
		for x := range w {
			p := row[4*x : 4*x+4]
			o[n*x], o[n*x+1], o[n*x+2] = p[2], p[1], p[0]
			if clear {
				o[n*x+3] = p[3]
			}
		}
	}
	return out
}

// dxgiOf by texel format: as plain numbers, and as colours of screens.
var dxgiOf = map[Format][2]uint32{"r8g8b8a8": {28, 29}, "b8g8r8a8": {87, 91}, "r8": {61, 61}, BC1: {71, 72}, BC3: {77, 78}, BC4: {80, 80}, BC5: {83, 83}, BC7: {98, 99}}

// legacyDDS are the texel formats that the first header of DDS can name, by a
// code of four letters or by masks of a word of 32 bits. More programs read it
// than read the second header of DXGI formats, which is written for the rest. It does
// not say whether colours are those of screens; readers take them so.
var legacyDDS = map[Format]struct {
	code  string
	masks [4]uint32
}{
	BC1: {code: "DXT1"}, BC3: {code: "DXT5"}, BC4: {code: "ATI1"}, BC5: {code: "ATI2"},
	"r8g8b8a8": {masks: [4]uint32{0xff, 0xff00, 0xff0000, 0xff000000}}, "b8g8r8a8": {masks: [4]uint32{0xff0000, 0xff00, 0xff, 0xff000000}},
}

func writeDDS(levels []*image.NRGBA, o WriteOptions) ([]byte, error) {
	codes, ok := dxgiOf[o.Texels]
	if !ok {
		return nil, fmt.Errorf("DDS is not written with texels of %s", o.Texels)
	}
	out := make([]byte, 148)
	put := func(at int, v uint32) { binary.LittleEndian.PutUint32(out[at:], v) }
	copy(out, "DDS ")
	w, h := levels[0].Rect.Dx(), levels[0].Rect.Dy()
	first, err := o.Texels.Bytes(w, h)
	if err != nil {
		return nil, err
	}
	flags := uint32(0x1007) // caps, height, width, pixel format
	if o.Texels.Compressed() {
		flags |= 0x80000
		put(20, uint32(first))
	} else {
		flags |= 8
		put(20, uint32(first)/uint32(h))
	}
	caps := uint32(0x1000)
	if len(levels) > 1 {
		flags |= 0x20000
		caps |= 0x400008
	}
	put(4, 124)
	put(8, flags)
	put(12, uint32(h))
	put(16, uint32(w))
	put(28, uint32(len(levels)))
	put(76, 32)
	put(108, caps)
	old, ok := legacyDDS[o.Texels]
	switch {
	case old.code != "":
		put(80, 4)
		copy(out[84:], old.code)
	case ok:
		put(80, 0x41) // colours and alpha
		put(88, 32)
		for i, m := range old.masks {
			put(92+4*i, m)
		}
	default:
		put(80, 4)
		copy(out[84:], "DX10")
		k := 0
		if o.Meaning == Colour {
			k = 1
		}
		put(128, codes[k])
		put(132, 3) // of two dimensions
		put(140, 1)
	}
	if ok {
		out = out[:128]
	}
	for _, l := range levels {
		b, err := Encode(o.Texels, l)
		if err != nil {
			return nil, err
		}
		out = append(out, b...)
	}
	return out, nil
}

// vkOf by texel format: as plain numbers, and as colours of screens.
var vkOf = map[Format][2]uint32{"r8g8b8a8": {37, 43}, "b8g8r8a8": {44, 50}, "r8": {9, 15}, BC1: {133, 134}, BC3: {137, 138}, BC4: {139, 139}, BC5: {141, 141}, BC7: {145, 146}}

// sample is a channel of a data format descriptor (Khronos Data Format 1.3,
// section 5).
type sample struct{ offset, bits, channel, upper uint32 }

// descriptor describes the texels; model is the number of the colour model.
func descriptor(f Format, srgb bool) (model uint32, samples []sample) {
	const all = 0xffffffff
	switch f {
	case BC1:
		return 128, []sample{{0, 64, 1, all}}
	case BC3:
		return 130, []sample{{0, 64, 15, all}, {64, 64, 0, all}}
	case BC4:
		return 131, []sample{{0, 64, 0, all}}
	case BC5:
		return 132, []sample{{0, 64, 0, all}, {64, 64, 1, all}}
	case BC7:
		return 134, []sample{{0, 128, 0, all}}
	case "r8":
		return 1, []sample{{0, 8, 0, 255}}
	}
	alpha := uint32(15)
	if srgb {
		alpha |= 0x10 // alpha is linear whatever the colours are
	}
	if f == "b8g8r8a8" {
		return 1, []sample{{0, 8, 2, 255}, {8, 8, 1, 255}, {16, 8, 0, 255}, {24, 8, alpha, 255}}
	}
	return 1, []sample{{0, 8, 0, 255}, {8, 8, 1, 255}, {16, 8, 2, 255}, {24, 8, alpha, 255}}
}

// writeKTX2 packs each level with zstd (Khronos, KTX File Format 2.0).
func writeKTX2(levels []*image.NRGBA, o WriteOptions) ([]byte, error) {
	codes, ok := vkOf[o.Texels]
	if !ok {
		return nil, fmt.Errorf("KTX 2 is not written with texels of %s", o.Texels)
	}
	srgb := o.Meaning == Colour && codes[0] != codes[1]
	k := 0
	if srgb {
		k = 1
	}
	model, samples := descriptor(o.Texels, srgb)
	le := binary.LittleEndian
	dfd := le.AppendUint32(nil, uint32(4+24+16*len(samples)))
	dfd = le.AppendUint32(dfd, 0)
	dfd = le.AppendUint32(dfd, 2|uint32(24+16*len(samples))<<16)
	transfer := uint32(1)
	if srgb {
		transfer = 2
	}
	dfd = le.AppendUint32(dfd, model|1<<8|transfer<<16)
	dims := uint32(0)
	if o.Texels.Compressed() {
		dims = 3 | 3<<8
	}
	dfd = le.AppendUint32(dfd, dims)
	dfd = le.AppendUint32(dfd, 0) // bytes of a plane: 0, as the levels are packed
	dfd = le.AppendUint32(dfd, 0)
	for _, s := range samples {
		dfd = le.AppendUint32(dfd, s.offset|(s.bits-1)<<16|s.channel<<24)
		dfd = le.AppendUint32(dfd, 0)
		dfd = le.AppendUint32(dfd, 0)
		dfd = le.AppendUint32(dfd, s.upper)
	}
	var kvd []byte
	for _, pair := range []string{"KTXorientation\x00rd\x00", "KTXwriter\x00Excavate\x00"} { // in the order of their keys
		kvd = append(le.AppendUint32(kvd, uint32(len(pair))), pair...)
		for len(kvd)%4 != 0 {
			kvd = append(kvd, 0)
		}
	}
	out := append([]byte{}, ktx2Mark...)
	for _, v := range []uint32{codes[k], 1, uint32(levels[0].Rect.Dx()), uint32(levels[0].Rect.Dy()), 0, 0, 1, uint32(len(levels)), 2} {
		out = le.AppendUint32(out, v)
	}
	head := 80 + 24*len(levels)
	for _, v := range []uint32{uint32(head), uint32(len(dfd)), uint32(head + len(dfd)), uint32(len(kvd))} {
		out = le.AppendUint32(out, v)
	}
	out = append(out, make([]byte, 16+24*len(levels))...)
	out = append(append(out, dfd...), kvd...)
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	for i := len(levels) - 1; i >= 0; i-- { // the smallest first
		b, err := Encode(o.Texels, levels[i])
		if err != nil {
			return nil, err
		}
		packed := enc.EncodeAll(b, nil)
		at := out[80+24*i:]
		le.PutUint64(at, uint64(len(out)))
		le.PutUint64(at[8:], uint64(len(packed)))
		le.PutUint64(at[16:], uint64(len(b)))
		out = append(out, packed...)
	}
	return out, nil
}
