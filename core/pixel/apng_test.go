package pixel

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/png"
	"strings"
	"testing"
)

// An animation is a PNG to whoever knows none, and holds every picture: taken
// apart by hand, each is what was put in.
func TestAnimatedPNG(t *testing.T) {
	var frames []*image.NRGBA
	for k := range 3 {
		img := image.NewNRGBA(image.Rect(0, 0, 13, 7))
		for i := 0; i < len(img.Pix); i += 4 {
			copy(img.Pix[i:], []byte{byte(i * (k + 1)), byte(60 * k), byte(i), 255})
		}
		frames = append(frames, img)
	}
	written := func(list ...*image.NRGBA) (out [][]byte) {
		for _, img := range list {
			b, err := PNG(img)
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, b)
		}
		return out
	}
	b, err := AnimatedPNG(written(frames...), 25)
	if err != nil {
		t.Fatal(err)
	}
	first, err := png.Decode(bytes.NewReader(b))
	if err != nil || !bytes.Equal(ToNRGBA(first).Pix, frames[0].Pix) {
		t.Errorf("%v", err)
	}
	var head []byte
	var data [][]byte
	want := uint32(0)
	for at := 8; at < len(b); {
		n := int(binary.BigEndian.Uint32(b[at:]))
		kind, body := string(b[at+4:at+8]), b[at+8:at+8+n]
		if crc32.ChecksumIEEE(b[at+4:at+8+n]) != binary.BigEndian.Uint32(b[at+8+n:]) {
			t.Errorf("the sum of %s is wrong", kind)
		}
		sequence := func() {
			if got := binary.BigEndian.Uint32(body); got != want {
				t.Errorf("%s has number %d, want %d", kind, got, want)
			}
			want++
		}
		switch kind {
		case "IHDR":
			head = body
		case "acTL":
			if binary.BigEndian.Uint32(body) != 3 || binary.BigEndian.Uint32(body[4:]) != 0 {
				t.Errorf("acTL % x", body)
			}
		case "fcTL":
			sequence()
			data = append(data, nil)
			if binary.BigEndian.Uint32(body[4:]) != 13 || binary.BigEndian.Uint32(body[8:]) != 7 ||
				binary.BigEndian.Uint16(body[20:]) != 1 || binary.BigEndian.Uint16(body[22:]) != 25 ||
				len(body) != 26 {
				t.Errorf("fcTL % x", body)
			}
		case "IDAT":
			data[len(data)-1] = append(data[len(data)-1], body...)
		case "fdAT":
			sequence()
			data[len(data)-1] = append(data[len(data)-1], body[4:]...)
		}
		at += 12 + n
	}
	if len(data) != 3 {
		t.Fatalf("%d pictures", len(data))
	}
	for k, d := range data {
		var one bytes.Buffer
		one.Write(b[:8])
		pngChunk(&one, "IHDR", head)
		pngChunk(&one, "IDAT", d)
		pngChunk(&one, "IEND", nil)
		img, err := png.Decode(&one)
		if err != nil || !bytes.Equal(ToNRGBA(img).Pix, frames[k].Pix) {
			t.Errorf("picture %d: %v", k, err)
		}
	}
	small, clear := image.NewNRGBA(image.Rect(0, 0, 5, 5)), image.NewNRGBA(image.Rect(0, 0, 13, 7))
	cut := written(frames[0])[0][:30]
	for says, list := range map[string][][]byte{
		"0 pictures":   nil,
		"another size": written(frames[0], small),
		"another kind": written(frames[0], clear),
		"is no PNG":    {cut},
	} {
		if _, err := AnimatedPNG(list, 25); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
	}
	for _, perSecond := range []int{0, -1, 1001} {
		if _, err := AnimatedPNG(written(frames...), perSecond); err == nil {
			t.Errorf("%d a second", perSecond)
		}
	}
}
