package pixel

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"math"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// wash is a picture such as the village's: soft colours with grain, a hard
// edge, and where clear is set an alpha that goes its own way.
func wash(w, h int, clear bool) *image.NRGBA {
	r := rand.New(rand.NewSource(9))
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			u, v := float64(x)/float64(w), float64(y)/float64(h)
			plank := math.Mod(v*8, 1)
			k := 0.6 + 0.3*math.Sin(u*9+math.Floor(v*8)*2) + 0.04*r.Float64()
			if plank < 0.06 {
				k *= 0.4
			}
			c := color.NRGBA{byte(210 * k), byte(160 * k * (0.9 + 0.1*u)), byte(110 * k * (0.7 + 0.3*v)), 255}
			if clear {
				c.A = byte(127 + 127*math.Sin(u*20)*math.Cos(v*14))
			}
			img.SetNRGBA(x, y, c)
		}
	}
	return img
}

// psnr is the peak signal-to-noise ratio in decibels over some channels.
func psnr(a, b *image.NRGBA, channels ...int) float64 {
	sum, n := 0.0, 0
	for i := 0; i < len(a.Pix); i += 4 {
		for _, c := range channels {
			d := float64(a.Pix[i+c]) - float64(b.Pix[i+c])
			sum += d * d
			n++
		}
	}
	return 10 * math.Log10(255*255/(sum/float64(n)+1e-9))
}

func TestEncodedBlocksAreNear(t *testing.T) {
	for _, c := range []struct {
		f        Format
		clear    bool
		channels []int
		least    float64
	}{
		{BC1, false, []int{0, 1, 2}, 36}, {BC3, true, []int{0, 1, 2, 3}, 37}, {BC4, false, []int{0}, 39}, {BC5, false, []int{0, 1}, 39},
		{BC7, false, []int{0, 1, 2, 3}, 42}, {BC7, true, []int{0, 1, 2, 3}, 38}, // its alpha has nothing to do with its colours
	} {
		img := wash(130, 67, c.clear) // no multiples of four
		b, err := Encode(c.f, img)
		if err != nil {
			t.Fatal(err)
		}
		back, err := Decode(c.f, b, 130, 67, nil)
		if err != nil {
			t.Fatal(err)
		}
		if q := psnr(img, back, c.channels...); q < c.least {
			t.Errorf("%s, alpha %v: %.1f dB, at least %g wanted", c.f, c.clear, q, c.least)
		} else {
			t.Logf("%s, alpha %v: %.1f dB", c.f, c.clear, q)
		}
	}
	// Plain surfaces come back as they were; clear texels stay clear in BC1.
	for _, f := range []Format{BC1, BC3, BC7} {
		img := image.NewNRGBA(image.Rect(0, 0, 8, 8))
		for i := 0; i < len(img.Pix); i += 4 {
			copy(img.Pix[i:], []byte{255, 0, 255, 255})
			if f == BC7 {
				copy(img.Pix[i:], []byte{7, 128, 201, 77})
			}
			if f == BC1 && i%8 == 0 {
				copy(img.Pix[i:], []byte{0, 0, 0, 0})
			}
		}
		b, err := Encode(f, img)
		if err != nil {
			t.Fatal(err)
		}
		if back, err := Decode(f, b, 8, 8, nil); err != nil || !bytes.Equal(back.Pix, img.Pix) {
			t.Errorf("%s: %v %v", f, err, back.Pix[:16])
		}
	}
	for v := range 256 {
		img := image.NewNRGBA(image.Rect(0, 0, 4, 4))
		for i := range img.Pix {
			img.Pix[i] = byte(v + i%4*37)
		}
		b, err := Encode(BC7, img)
		if err != nil {
			t.Fatal(err)
		}
		if back, err := Decode(BC7, b, 4, 4, nil); err != nil || !bytes.Equal(back.Pix, img.Pix) {
			t.Fatalf("a block of %v comes back as %v, %v", img.Pix[:4], back.Pix[:4], err)
		}
	}
	if _, err := Encode(BC2, wash(4, 4, false)); err == nil || !strings.Contains(err.Error(), "bc7") {
		t.Errorf("BC2: %v", err)
	}
}

func TestPicturesRoundTrip(t *testing.T) {
	for _, clear := range []bool{false, true} {
		img := wash(37, 22, clear)
		for _, f := range Containers {
			if !f.Writes {
				if _, _, err := Write(f.Name, img, WriteOptions{}); err == nil {
					t.Errorf("%s is written", f.Name)
				}
				continue
			}
			for _, texels := range []Format{"r8g8b8a8", "b8g8r8a8"} {
				b, lost, err := Write(f.Name, img, WriteOptions{Texels: texels, Mips: true})
				if err != nil {
					t.Fatal(err)
				}
				if (f.Name == "jpeg" && clear) != (len(lost) > 0) {
					t.Errorf("%s: lost %v", f.Name, lost)
				}
				out, mime, _, w, h, err := Encoded(b)
				if err != nil || w != 37 || h != 22 {
					t.Fatalf("%s: %v, %d x %d", f.Name, err, w, h)
				}
				got, err := DecodePicture(out, mime)
				if err != nil {
					t.Fatal(err)
				}
				if q := psnr(img, ToNRGBA(got), 0, 1, 2); f.Name == "jpeg" && q < 29 || f.Name != "jpeg" && q < 90 {
					t.Errorf("%s: %.1f dB", f.Name, q)
				}
				if q := psnr(img, ToNRGBA(got), 3); f.Name != "jpeg" && q < 90 {
					t.Errorf("%s: alpha %.1f dB", f.Name, q)
				}
			}
		}
	}
	if _, _, err := Write("clay", wash(4, 4, false), WriteOptions{}); err == nil {
		t.Error("a format that is none was written")
	}
}

// Netpbm's readers see the same texels in what we write.
func TestNetpbmReadsWhatWeWrite(t *testing.T) {
	img := wash(33, 18, false)
	for name, tool := range map[string]string{"tga": "tgatoppm", "bmp": "bmptopnm", "png": "pngtopnm"} {
		b, _, err := Write(name, img, WriteOptions{})
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(t.TempDir(), "x."+name)
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command(tool, file).Output()
		if err != nil {
			t.Fatalf("%s: %v", tool, err)
		}
		if !bytes.HasPrefix(out, []byte("P6\n33 18\n255\n")) {
			t.Fatalf("%s: %.20q", tool, out)
		}
		px := out[len("P6\n33 18\n255\n"):]
		for i := range 33 * 18 {
			if !bytes.Equal(px[3*i:3*i+3], img.Pix[4*i:4*i+3]) {
				t.Fatalf("%s: texel %d is %v, want %v", tool, i, px[3*i:3*i+3], img.Pix[4*i:4*i+3])
			}
		}
	}
}

// And we see what Netpbm writes, in every depth that it writes.
func TestBitmapsOfOthers(t *testing.T) {
	img := image.NewNRGBA(image.Rect(0, 0, 13, 5))
	for i := range 13 * 5 {
		v := byte(i % 2 * 255)
		copy(img.Pix[4*i:], []byte{v, v, v, 255})
	}
	var ppm bytes.Buffer
	fmt.Fprintf(&ppm, "P6\n13 5\n255\n")
	for i := 0; i < len(img.Pix); i += 4 {
		ppm.Write(img.Pix[i : i+3])
	}
	for _, args := range [][]string{{"-bpp=1"}, {"-bpp=4"}, {"-bpp=8"}, {"-bpp=24"}, {"-os2", "-bpp=8"}} {
		cmd := exec.Command("ppmtobmp", args...)
		cmd.Stdin = bytes.NewReader(ppm.Bytes())
		b, err := cmd.Output()
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		got, err := decodeBMP(b)
		if err != nil || !bytes.Equal(got.Pix, img.Pix) {
			t.Errorf("%v: %v", args, err)
		}
	}
	// By hand: run lengths, 16 bits with masks, rows from above, alpha.
	le := binary.LittleEndian
	bmp := func(w, h int32, depth uint16, method uint32, extra, data []byte) []byte {
		b := make([]byte, 54)
		copy(b, "BM")
		le.PutUint32(b[10:], uint32(54+len(extra)))
		le.PutUint32(b[14:], 40)
		le.PutUint32(b[18:], uint32(w))
		le.PutUint32(b[22:], uint32(h))
		le.PutUint16(b[28:], depth)
		le.PutUint32(b[30:], method)
		return append(append(b, extra...), data...)
	}
	pal := []byte{0, 0, 255, 0, 0, 255, 0, 0} // red, green
	for _, c := range []struct {
		what string
		b    []byte
		want []byte
	}{
		{"rle8", bmp(3, 2, 8, 1, pal, []byte{2, 1, 1, 0, 0, 0, 0, 3, 0, 1, 0, 0, 0, 1}), []byte{255, 0, 0, 255, 0, 255, 0, 255, 255, 0, 0, 255, 0, 255, 0, 255, 0, 255, 0, 255, 255, 0, 0, 255}},
		{"rle4", bmp(3, 1, 4, 2, pal, []byte{3, 0x01, 0, 1}), []byte{255, 0, 0, 255, 0, 255, 0, 255, 255, 0, 0, 255}},
		{"555 from above", bmp(1, -2, 16, 0, nil, []byte{0, 0x7c, 0, 0, 0x1f, 0, 0, 0}), []byte{255, 0, 0, 255, 0, 0, 255, 255}},
		{"565", bmp(1, 1, 16, 3, []byte{0, 0xf8, 0, 0, 0xe0, 7, 0, 0, 0x1f, 0, 0, 0}, []byte{0xe0, 7, 0, 0}), []byte{0, 255, 0, 255}},
		{"32 with alpha", bmp(2, 1, 32, 0, nil, []byte{1, 2, 3, 128, 4, 5, 6, 0}), []byte{3, 2, 1, 128, 6, 5, 4, 0}},
		{"32 without", bmp(1, 1, 32, 0, nil, []byte{1, 2, 3, 0}), []byte{3, 2, 1, 255}},
	} {
		got, err := decodeBMP(c.b)
		if err != nil || !bytes.Equal(got.Pix, c.want) {
			t.Errorf("%s: %v %v, want %v", c.what, err, got, c.want)
		}
	}
	for _, c := range []struct {
		b    []byte
		want string
	}{
		{bmp(1<<19, 1<<19, 24, 0, nil, nil), "texels"}, {bmp(4, 4, 24, 0, nil, nil), "are wanted"}, {bmp(4, 4, 9, 0, nil, nil), "9 bits"}, {bmp(4, 4, 8, 7, pal, make([]byte, 99)), "compression 7"}, {bmp(4, 4, 8, 1, pal, []byte{9}), "ends in row"},
	} {
		if _, err := decodeBMP(c.b); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
	}
}

func TestMips(t *testing.T) {
	img := image.NewNRGBA(image.Rect(0, 0, 5, 2))
	for i := 0; i < len(img.Pix); i += 4 {
		copy(img.Pix[i:], []byte{byte(i / 4 % 2 * 255), 0, 0, 255})
	}
	levels := Mips(img, Colour)
	if len(levels) != 3 || levels[1].Rect.Dx() != 2 || levels[2].Rect.Dx() != 1 {
		t.Fatalf("%d levels", len(levels))
	}
	// Half black and half full is 188 on a screen in linear light, 128 as numbers.
	if v := levels[1].Pix[0]; v < 186 || v > 189 {
		t.Errorf("mixed in linear light: %d", v)
	}
	if v := Mips(img, Plain)[1].Pix[0]; v != 128 {
		t.Errorf("mixed as numbers: %d", v)
	}
	n := image.NewNRGBA(image.Rect(0, 0, 2, 1))
	copy(n.Pix, []byte{255, 128, 128, 255, 128, 255, 128, 255})
	if p := Mips(n, Normal)[1].Pix; p[0] != 218 || p[1] != 218 {
		t.Errorf("two normals at a right angle: %v", p)
	}
	clear := image.NewNRGBA(image.Rect(0, 0, 2, 1))
	copy(clear.Pix, []byte{200, 100, 50, 255, 0, 0, 0, 0})
	if p := Mips(clear, Colour)[1].Pix; p[0] < 199 || p[3] != 128 {
		t.Errorf("a clear texel lends its colour: %v", p)
	}
}

func BenchmarkEncode(b *testing.B) {
	img := wash(512, 512, false)
	for _, f := range []Format{BC1, BC3, BC5, BC7} {
		b.Run(string(f), func(b *testing.B) {
			for b.Loop() {
				if _, err := Encode(f, img); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.N)*512*512/1e6/b.Elapsed().Seconds(), "Mpx/s")
		})
	}
}
