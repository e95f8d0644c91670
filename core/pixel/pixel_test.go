package pixel

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"strings"
	"testing"
)

func TestPackedFormats(t *testing.T) {
	for _, c := range []struct {
		f    Format
		data []byte
		want [4]byte
	}{
		{"r8g8b8a8", []byte{1, 2, 3, 4}, [4]byte{1, 2, 3, 4}},
		{"b8g8r8a8", []byte{1, 2, 3, 4}, [4]byte{3, 2, 1, 4}},
		{"r8g8b8", []byte{1, 2, 3}, [4]byte{1, 2, 3, 255}},
		{"b8g8r8", []byte{1, 2, 3}, [4]byte{3, 2, 1, 255}},
		{"r5g6b5_pack16", []byte{0x1f, 0xf8}, [4]byte{255, 0, 255, 255}},
		{"b5g6r5_pack16", []byte{0x1f, 0x00}, [4]byte{255, 0, 0, 255}},
		{"a1b5g5r5_pack16", []byte{0x1f, 0x80}, [4]byte{255, 0, 0, 255}},
		{"a1r5g5b5_pack16", []byte{0x00, 0x7c}, [4]byte{255, 0, 0, 0}},
		{"r5g5b5a1_pack16", []byte{0x01, 0x84}, [4]byte{132, 132, 0, 255}}, // 16 of 31 is 131.6
		{"b5g5r5a1_pack16", []byte{0x3f, 0x00}, [4]byte{255, 0, 0, 255}},
	} {
		img, err := Decode(c.f, c.data, 1, 1, nil)
		if err != nil || [4]byte(img.Pix) != c.want {
			t.Errorf("%s: got %v, want %v (%v)", c.f, img, c.want, err)
		}
	}
}

func TestIndexed(t *testing.T) {
	pal, err := Palette("r8g8b8a8", []byte{1, 1, 1, 1, 2, 2, 2, 2}, 2)
	if err != nil {
		t.Fatal(err)
	}
	img, err := Decode(Indexed8, []byte{1, 0}, 2, 1, pal)
	if err != nil || fmt.Sprint(img.Pix) != "[2 2 2 2 1 1 1 1]" {
		t.Errorf("%v %v", img, err)
	}
	if _, err := Decode(Indexed8, []byte{2, 0}, 2, 1, pal); err == nil || !strings.Contains(err.Error(), "colour 2 of a palette of 2") {
		t.Errorf("an index beyond the palette: %v", err)
	}
}

func TestBC1(t *testing.T) {
	// Red and blue, four colours; then three colours and a hole.
	four := []byte{0x00, 0xf8, 0x1f, 0x00, 0xe4, 0xe4, 0xe4, 0xe4}
	img, err := Decode(BC1, four, 4, 4, nil)
	if err != nil || fmt.Sprint(img.Pix[:16]) != "[255 0 0 255 0 0 255 255 170 0 85 255 85 0 170 255]" {
		t.Errorf("%v %v", img.Pix[:16], err)
	}
	three := []byte{0x1f, 0x00, 0x00, 0xf8, 0xe4, 0xe4, 0xe4, 0xe4}
	if img, _ = Decode(BC1, three, 4, 4, nil); fmt.Sprint(img.Pix[8:16]) != "[127 0 127 255 0 0 0 0]" {
		t.Errorf("%v", img.Pix[:16])
	}
	// A picture whose sides are no multiples of four.
	if img, err = Decode(BC1, bytes.Repeat(four, 4), 5, 7, nil); err != nil || img.Rect.Dx() != 5 || img.Rect.Dy() != 7 {
		t.Errorf("%v", err)
	}
}

func TestBadPictures(t *testing.T) {
	for _, c := range []struct {
		f    Format
		w, h int
		n    int
	}{{"r8g8b8a8", 2, 2, 15}, {BC1, 8, 8, 31}, {"r8g8b8a8", 0, 1, 10}, {"r8g8b8a8", -1, 1, 10}, {"r8g8b8a8", 1 << 30, 1 << 30, 10}, {"nothing", 1, 1, 10}} {
		if _, err := Decode(c.f, make([]byte, c.n), c.w, c.h, nil); err == nil {
			t.Errorf("%s %dx%d of %d bytes was accepted", c.f, c.w, c.h, c.n)
		}
	}
}

func TestEncoded(t *testing.T) {
	src := image.NewPaletted(image.Rect(0, 0, 3, 2), color.Palette{color.Black, color.White})
	var g, j bytes.Buffer
	gif.Encode(&g, src, nil)
	jpeg.Encode(&j, src, nil)
	out, mime, from, w, h, err := Encoded(g.Bytes())
	if err != nil || mime != "image/png" || from != "gif" || w != 3 || h != 2 || !bytes.HasPrefix(out, []byte("\x89PNG")) {
		t.Errorf("gif: %s %s %dx%d %v", mime, from, w, h, err)
	}
	if out, mime, _, _, _, err = Encoded(j.Bytes()); err != nil || mime != "image/jpeg" || !bytes.Equal(out, j.Bytes()) {
		t.Errorf("jpeg: %s %v", mime, err)
	}
	if _, _, _, _, _, err := Encoded([]byte("no picture")); err == nil {
		t.Error("noise was taken for a picture")
	}
}

func BenchmarkBC1(b *testing.B) {
	data := bytes.Repeat([]byte{0x00, 0xf8, 0x1f, 0x00, 0xe4, 0xe4, 0xe4, 0xe4}, 1024*1024/16)
	b.SetBytes(4 << 20)
	for b.Loop() {
		if _, err := Decode(BC1, data, 1024, 1024, nil); err != nil {
			b.Fatal(err)
		}
	}
}
