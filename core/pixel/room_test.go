package pixel

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/png"
	"strings"
	"sync"
	"testing"

	"excavate/core/limit"
)

// declared is a PNG of which only the header is true.
func declared(w, h uint32, depth, kind byte) []byte {
	b := []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR")
	b = binary.BigEndian.AppendUint32(b, w)
	b = binary.BigEndian.AppendUint32(b, h)
	b = append(b, depth, kind, 0, 0, 0)
	b = binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[12:]))
	return append(b, make([]byte, 64)...)
}

// What counts is the memory that the decoder takes, not the texels alone.
func TestLimitsCountBytes(t *testing.T) {
	for _, c := range []struct {
		w, h        uint32
		depth, kind byte
		want        string
	}{
		{16000, 16000, 8, 6, ""},
		{16000, 16000, 16, 6, "MB while it is read"},
		{16000, 16000, 16, 0, ""},
		{20000, 20000, 8, 0, "texels are read"},
		{1 << 30, 1 << 30, 8, 6, "dimension overflow"},
		{13000, 13000, 16, 6, "MB while it is read"},
		{12000, 12000, 16, 6, ""},
	} {
		b := declared(c.w, c.h, c.depth, c.kind)
		_, _, _, _, _, err := Encoded(b)
		_, err2 := DecodePicture(b[:40], "image/png") // cut, so that it is not decoded where it is taken
		for _, err := range []error{err, err2} {
			if c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) || c.want == "" && err != nil && strings.Contains(err.Error(), "MB while") {
				t.Errorf("%d x %d of %d bits, kind %d: %v, want %q", c.w, c.h, c.depth, c.kind, err, c.want)
			}
		}
	}
}

// Sixteen bits a channel come out as the high byte, transparent or not.
func TestSixteenBitsBecomeEight(t *testing.T) {
	deep := image.NewNRGBA64(image.Rect(0, 0, 3, 2))
	grey := image.NewGray16(image.Rect(0, 0, 3, 2))
	for i := range 6 {
		v := uint16(i*9000 + 77)
		deep.SetNRGBA64(i%3, i/3, color.NRGBA64{R: v, G: 0xffff - v, B: v / 2, A: uint16(0xffff - 13000*i)})
		grey.SetGray16(i%3, i/3, color.Gray16{Y: v})
	}
	for name, img := range map[string]image.Image{"colour": deep, "grey": grey} {
		var b bytes.Buffer
		if err := png.Encode(&b, img); err != nil {
			t.Fatal(err)
		}
		got, err := DecodePicture(b.Bytes(), "image/png")
		if err != nil {
			t.Fatal(err)
		}
		n, ok := got.(*image.NRGBA)
		if !ok {
			t.Fatalf("%s: %T is kept", name, got)
		}
		for i := range 6 {
			v := uint16(i*9000 + 77)
			want := color.NRGBA{byte(v >> 8), byte((0xffff - v) >> 8), byte(v / 2 >> 8), byte(uint16(0xffff-13000*i) >> 8)}
			if name == "grey" {
				want = color.NRGBA{byte(v >> 8), byte(v >> 8), byte(v >> 8), 255}
			}
			if n.NRGBAAt(i%3, i/3) != want {
				t.Errorf("%s %d: %v, want %v", name, i, n.NRGBAAt(i%3, i/3), want)
			}
		}
	}
}

// No more is decoded at one time than there is room for, and a picture that
// alone takes more than the room still gets its turn.
func TestRoomIsShared(t *testing.T) {
	var mu sync.Mutex
	var now, most int64
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			const n = limit.PictureRoom / 3
			leave := enter(n)
			mu.Lock()
			now += n
			most = max(most, now)
			mu.Unlock()
			mu.Lock()
			now -= n
			mu.Unlock()
			leave()
		})
	}
	wg.Wait()
	if most > limit.PictureRoom {
		t.Errorf("%d bytes at one time", most)
	}
	enter(5 * limit.PictureRoom)()
}
