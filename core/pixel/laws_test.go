package pixel

import (
	"fmt"
	"image"
	"math"
	"math/rand"
	"testing"
)

// level is a picture of one texel everywhere.
func level(w, h int, c [4]byte) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := 0; i < len(img.Pix); i += 4 {
		copy(img.Pix[i:], c[:])
	}
	return img
}

// Whatever its sides, a picture's mips halve down to one texel, and an even
// picture stays what it is, in every meaning.
func TestMipsOfEverySize(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {2, 1}, {1, 7}, {3, 3}, {5, 9}, {16, 16}, {37, 22}, {100, 3}} {
		for _, m := range []Meaning{Colour, Plain, Normal} {
			c := [4]byte{37, 140, 200, 90}
			if m == Normal {
				c = [4]byte{128, 128, 255, 255}
			}
			list := Mips(level(size[0], size[1], c), m)
			w, h := size[0], size[1]
			for i, l := range list {
				if l.Rect.Dx() != w || l.Rect.Dy() != h {
					t.Fatalf("%v %s: level %d is %v, want %d x %d", size, m, i, l.Rect, w, h)
				}
				for k := 0; k < len(l.Pix); k++ {
					if d := int(l.Pix[k]) - int(c[k%4]); d < -1 || d > 1 {
						t.Fatalf("%v %s: level %d has %v, want %v", size, m, i, l.Pix[k&^3:k&^3+4], c)
					}
				}
				w, h = max(w/2, 1), max(h/2, 1)
			}
			if last := list[len(list)-1].Rect; last.Dx() != 1 || last.Dy() != 1 {
				t.Errorf("%v ends with %v", size, last)
			}
		}
	}
}

// Plain numbers keep their mean; normals stay as long as one; colours of what
// is clear do not run into what is seen.
func TestMipsKeepWhatTheyMean(t *testing.T) {
	r := rand.New(rand.NewSource(14))
	img := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	r.Read(img.Pix)
	mean := func(i *image.NRGBA, c int) (m float64) {
		for k := c; k < len(i.Pix); k += 4 {
			m += float64(i.Pix[k])
		}
		return m / float64(len(i.Pix)/4)
	}
	for i, l := range Mips(img, Plain) {
		for c := range 4 {
			if d := math.Abs(mean(l, c) - mean(img, c)); d > 0.5+0.5*float64(i) {
				t.Errorf("level %d: channel %d is off by %g", i, c, d)
			}
		}
	}
	hills := image.NewNRGBA(image.Rect(0, 0, 32, 32))
	for i := 0; i < len(hills.Pix); i += 4 {
		x, y := r.Float64()-0.5, r.Float64()-0.5
		z := math.Sqrt(1 - x*x - y*y)
		copy(hills.Pix[i:], []byte{byte((x+1)*127.5 + 0.5), byte((y+1)*127.5 + 0.5), byte((z+1)*127.5 + 0.5), 255})
	}
	for i, l := range Mips(hills, Normal) {
		for k := 0; k < len(l.Pix); k += 4 {
			n := 0.0
			for c := range 3 {
				v := float64(l.Pix[k+c])/127.5 - 1
				n += v * v
			}
			if math.Abs(n-1) > 0.03 {
				t.Fatalf("level %d has a normal of length %g", i, math.Sqrt(n))
			}
		}
	}
	leaf := level(2, 2, [4]byte{255, 0, 255, 0})
	copy(leaf.Pix, []byte{30, 120, 40, 255})
	if p := Mips(leaf, Colour)[1].Pix; p[0] > 34 || p[1] < 116 || p[2] > 44 || p[3] != 64 {
		t.Errorf("a leaf beside what is clear is %v", p)
	}
}

// Every block encoder keeps a picture as near as its format can: channels that
// it has, to within what is usual for it, in pictures of any sides.
func TestEncodersOfEverySize(t *testing.T) {
	r := rand.New(rand.NewSource(2))
	for _, f := range []struct {
		format   Format
		channels int
		most     float64 // root of the mean square, of smooth pictures
	}{{BC1, 3, 6}, {BC3, 4, 6}, {BC4, 1, 2}, {BC5, 2, 2}, {BC7, 4, 3}} {
		for _, size := range [][2]int{{1, 1}, {3, 5}, {4, 4}, {33, 18}} {
			img := image.NewNRGBA(image.Rect(0, 0, size[0], size[1]))
			a, b := r.Float64()*40, r.Float64()*40
			for y := range size[1] {
				for x := range size[0] {
					v := 100 + 60*math.Sin((float64(x)+a)/9) + 40*math.Cos((float64(y)+b)/11)
					copy(img.Pix[img.PixOffset(x, y):], []byte{byte(v), byte(v * 0.9), byte(v * 0.7), 255})
				}
			}
			data, err := Encode(f.format, img)
			if err != nil {
				t.Fatal(err)
			}
			want, err := f.format.Bytes(size[0], size[1])
			if err != nil || int64(len(data)) != int64(want) {
				t.Errorf("%s of %v has %d bytes, want %d, %v", f.format, size, len(data), want, err)
			}
			got, err := Decode(f.format, data, size[0], size[1], nil)
			if err != nil {
				t.Fatal(err)
			}
			sum, n := 0.0, 0.0
			for k := 0; k < len(img.Pix); k++ {
				if k%4 < f.channels {
					d := float64(img.Pix[k]) - float64(got.Pix[k])
					sum += d * d
					n++
				}
			}
			if e := math.Sqrt(sum / n); e > f.most {
				t.Errorf("%s of %v is off by %.2f, want %.2f at most", f.format, size, e, f.most)
			}
		}
	}
}

func TestNamesOfContainers(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range Containers {
		if seen[c.Name] || c.Title == "" || c.Ending == "" {
			t.Errorf("%+v", c)
		}
		seen[c.Name] = true
		got := Writable(c.Name)
		if (got != nil) != c.Writes || c.Writes && (Writable(c.Ending) != got || got.Name != c.Name) {
			t.Errorf("%s is found as %+v", c.Name, got)
		}
	}
	if Writable(".JPEG") == nil || Writable("") != nil || Writable(".") != nil || Writable("xcf") != nil {
		t.Error("names that are none")
	}
	if got := fmt.Sprint(Writable("dds").Texels[0]); got != "bc7" {
		t.Error(got)
	}
}
