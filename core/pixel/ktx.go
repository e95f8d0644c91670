package pixel

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"image"
	"strings"

	"excavate/core/codec"
)

// KTX 1 (Khronos, "KTX File Format Specification", 1.0) and KTX 2.0: raw
// texels and block compression, in KTX 2 also packed with zstd or zlib.

const (
	ktx1Mark = "\xabKTX 11\xbb\r\n\x1a\n"
	ktx2Mark = "\xabKTX 20\xbb\r\n\x1a\n"
)

// vkFormats by their number in the Vulkan specification.
var vkFormats = map[uint32]Format{2: "r4g4b4a4_pack16", 3: "b4g4r4a4_pack16", 4: "r5g6b5_pack16", 5: "b5g6r5_pack16", 6: "r5g5b5a1_pack16", 7: "b5g5r5a1_pack16", 8: "a1r5g5b5_pack16",
	9: "r8", 15: "r8", 23: "r8g8b8", 29: "r8g8b8", 30: "b8g8r8", 36: "b8g8r8", 37: "r8g8b8a8", 43: "r8g8b8a8", 44: "b8g8r8a8", 50: "b8g8r8a8", 91: "r16g16b16a16", 97: "r16g16b16a16_sfloat",
	131: BC1, 132: BC1, 133: BC1, 134: BC1, 135: BC2, 136: BC2, 137: BC3, 138: BC3, 139: BC4, 141: BC5, 143: BC6, 144: BC6S, 145: BC7, 146: BC7}

// glFormats by OpenGL's internal format, and where texels are not compressed by
// its type and format.
var glFormats = map[[2]uint32]Format{{0, 0x83f0}: BC1, {0, 0x83f1}: BC1, {0, 0x83f2}: BC2, {0, 0x83f3}: BC3, {0, 0x8c4c}: BC1, {0, 0x8c4d}: BC1, {0, 0x8c4e}: BC2, {0, 0x8c4f}: BC3,
	{0, 0x8dbb}: BC4, {0, 0x8dbd}: BC5, {0, 0x8e8c}: BC7, {0, 0x8e8d}: BC7, {0, 0x8e8e}: BC6S, {0, 0x8e8f}: BC6,
	{0x1401, 0x1907}: "r8g8b8", {0x1401, 0x1908}: "r8g8b8a8", {0x1401, 0x80e1}: "b8g8r8a8", {0x1401, 0x1903}: "r8", {0x1401, 0x1909}: "l8", {0x1401, 0x190a}: "l8a8",
	{0x8363, 0x1907}: "r5g6b5_pack16", {0x8033, 0x1908}: "r4g4b4a4_pack16", {0x8034, 0x1908}: "r5g5b5a1_pack16", {0x140b, 0x1908}: "r16g16b16a16_sfloat"}

// decodeKTX reads the first image and turns it as the file says that it lies.
func decodeKTX(b []byte) (*image.NRGBA, Layers, error) {
	img, l, err := decodeKTXAsStored(b)
	if err != nil {
		return nil, l, err
	}
	left, up := ktxOrientation(b)
	if left {
		mirror(img)
	}
	if up {
		flip(img)
	}
	return img, l, nil
}

// ktxOrientation reads KTXorientation (KTX 1, section 5.1: "S=r,T=d"; KTX 2,
// section 5.2: "rd"): whether texels run to the left, and whether rows run
// upwards. A file that says nothing runs right and down. The key and value
// pairs each have their length in front and are padded to four bytes.
func ktxOrientation(b []byte) (left, up bool) {
	var o binary.ByteOrder = binary.LittleEndian
	from, n := int64(64), int64(0)
	if string(b[:12]) == ktx2Mark {
		from, n = int64(o.Uint32(b[56:])), int64(o.Uint32(b[60:]))
	} else {
		if o.Uint32(b[12:]) == 0x01020304 {
			o = binary.BigEndian
		}
		n = int64(o.Uint32(b[60:]))
	}
	if from > int64(len(b)) || n > int64(len(b))-from {
		return false, false
	}
	for pairs := b[from : from+n]; len(pairs) >= 4; {
		size := int64(o.Uint32(pairs))
		if size > int64(len(pairs))-4 {
			return false, false
		}
		if key, v, _ := strings.Cut(string(pairs[4:4+size]), "\x00"); key == "KTXorientation" {
			v = strings.TrimRight(v, "\x00")
			if len(v) > 1 && v[1] != '=' { // of KTX 2
				return v[0] == 'l', v[1] == 'u'
			}
			return strings.Contains(v, "S=l"), strings.Contains(v, "T=u")
		}
		pairs = pairs[min(int64(len(pairs)), 4+(size+3)&^3):]
	}
	return false, false
}

// flip turns a picture upside down.
func flip(img *image.NRGBA) {
	row := make([]byte, 4*img.Rect.Dx())
	for y, z := 0, img.Rect.Dy()-1; y < z; y, z = y+1, z-1 {
		a, b := img.Pix[y*img.Stride:][:len(row)], img.Pix[z*img.Stride:][:len(row)]
		copy(row, a)
		copy(a, b)
		copy(b, row)
	}
}

// mirror swaps left and right.
func mirror(img *image.NRGBA) {
	for y := range img.Rect.Dy() {
		row := img.Pix[y*img.Stride:][:4*img.Rect.Dx()]
		for a, b := 0, len(row)-4; a < b; a, b = a+4, b-4 {
			var t [4]byte
			copy(t[:], row[a:])
			copy(row[a:a+4], row[b:b+4])
			copy(row[b:], t[:])
		}
	}
}

func decodeKTXAsStored(b []byte) (*image.NRGBA, Layers, error) {
	if string(b[:12]) == ktx2Mark {
		return decodeKTX2(b)
	}
	l := Layers{Levels: 1, Faces: 1, Images: 1}
	if len(b) < 68 {
		return nil, l, fmt.Errorf("the file ends within its header")
	}
	var o binary.ByteOrder = binary.LittleEndian
	if o.Uint32(b[12:]) == 0x01020304 {
		o = binary.BigEndian
	}
	u := func(at int) uint32 { return o.Uint32(b[at:]) }
	typ, form, internal := u(16), u(24), u(28)
	key := [2]uint32{typ, form}
	if typ == 0 {
		key = [2]uint32{0, internal}
	}
	f, ok := glFormats[key]
	if !ok {
		return nil, l, fmt.Errorf("offset 16: the OpenGL format 0x%x of type 0x%x (internal 0x%x) is not decoded", form, typ, internal)
	}
	w, h := int(u(36)), max(1, int(u(40)))
	l = Layers{Levels: max(1, int(u(56))), Faces: max(1, int(u(52))), Images: max(1, int(u(48)))}
	if w < 1 || w > 1<<16 || h > 1<<16 {
		return nil, l, fmt.Errorf("offset 36: %d x %d texels", w, h)
	}
	if u(60) > uint32(len(b)) || 64+int(u(60))+4 > len(b) {
		return nil, l, fmt.Errorf("offset 60: %d bytes of properties end beyond the file", u(60))
	}
	at := 64 + int(u(60)) + 4
	if !f.Compressed() { // rows are padded to four bytes
		row, err := f.Bytes(w, 1)
		if err != nil {
			return nil, l, err
		}
		if pad := (row + 3) &^ 3; pad != row {
			if int64(len(b)-at) < pad*int64(h-1)+row {
				return nil, l, fmt.Errorf("offset %d: %d rows of %d bytes are wanted", at, h, pad)
			}
			tight := make([]byte, 0, row*int64(h))
			for y := range int64(h) {
				tight = append(tight, b[int64(at)+y*pad:int64(at)+y*pad+row]...)
			}
			img, err := DecodeWith(f, tight, w, h, Options{BigEndian: o == binary.BigEndian})
			return img, l, err
		}
	}
	if o == binary.BigEndian {
		need, err := f.Bytes(w, h)
		if err != nil || int64(len(b)-at) < need {
			return nil, l, cmp.Or(err, fmt.Errorf("offset %d: %d bytes of texels are wanted, and %d are there", at, need, len(b)-at))
		}
		img, err := DecodeWith(f, b[at:int64(at)+need], w, h, Options{BigEndian: true})
		return img, l, err
	}
	img, err := firstImage(b, at, f, w, h)
	return img, l, err
}

func decodeKTX2(b []byte) (*image.NRGBA, Layers, error) {
	l := Layers{Levels: 1, Faces: 1, Images: 1}
	if len(b) < 104 {
		return nil, l, fmt.Errorf("the file ends within its header")
	}
	u := func(at int) uint32 { return binary.LittleEndian.Uint32(b[at:]) }
	w, h := int(u(20)), max(1, int(u(24)))
	l = Layers{Levels: max(1, int(u(40))), Faces: max(1, int(u(36))), Images: max(1, int(u(32)), int(u(28)))}
	if w < 1 || w > 1<<16 || h > 1<<16 {
		return nil, l, fmt.Errorf("offset 20: %d x %d texels", w, h)
	}
	packing := u(44)
	f, ok := vkFormats[u(12)]
	switch {
	case packing == 1:
		return nil, l, fmt.Errorf("offset 44: it is packed with Basis LZ, which is not decoded")
	case u(12) == 0:
		return nil, l, fmt.Errorf("offset 12: it holds no format of Vulkan, as UASTC and its like do; they are not decoded")
	case !ok:
		return nil, l, fmt.Errorf("offset 12: the Vulkan format %d is not decoded", u(12))
	case packing > 3:
		return nil, l, fmt.Errorf("offset 44: supercompression %d is not known", packing)
	}
	at, n, full := binary.LittleEndian.Uint64(b[80:]), binary.LittleEndian.Uint64(b[88:]), binary.LittleEndian.Uint64(b[96:])
	if at > uint64(len(b)) || n > uint64(len(b))-at {
		return nil, l, fmt.Errorf("offset 80: the first level of %d bytes at %d ends beyond the file", n, at)
	}
	data := b[at : at+n]
	if packing >= 2 {
		c := codec.Zstd
		if packing == 3 {
			c = codec.Zlib
		}
		if err := codec.CheckSizes(c, int64(n), int64(min(full, 1<<40))); err != nil {
			return nil, l, fmt.Errorf("offset 96: the first level %w", err)
		}
		var err error
		if data, err = c.Decode(data, int64(full)); err != nil {
			return nil, l, fmt.Errorf("the first level: %w", err)
		}
	}
	img, err := firstImage(data, 0, f, w, h)
	return img, l, err
}

// container decodes the picture containers that Go's packages do not know.
func container(data []byte) (img *image.NRGBA, from string, l Layers, err error) {
	switch {
	case len(data) >= 4 && string(data[:4]) == "DDS ":
		img, l, err = decodeDDS(data)
		return img, "dds", l, err
	case len(data) >= 12 && (string(data[:12]) == ktx1Mark || string(data[:12]) == ktx2Mark):
		img, l, err = decodeKTX(data)
		return img, "ktx", l, err
	case len(data) >= 26 && string(data[:2]) == "BM":
		img, err = decodeBMP(data)
		return img, "bmp", Layers{1, 1, 1}, err
	case IsTGA(data):
		img, err = decodeTGA(data)
		return img, "tga", Layers{1, 1, 1}, err
	}
	return nil, "", l, nil
}
