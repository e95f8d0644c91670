package trial

import (
	"bytes"
	"compress/zlib"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand"
	"strings"
	"testing"
)

// kinds are four kilobytes of each class, made by hand.
func kinds() map[Class][]byte {
	r := rand.New(rand.NewSource(8))
	noise := make([]byte, 4096)
	r.Read(noise)
	var numbers, indices, table, picture []byte
	for i := range 1024 {
		numbers = binary.LittleEndian.AppendUint32(numbers, math.Float32bits(float32(math.Sin(float64(i)/9)*3+r.Float64())))
	}
	for i := range 680 {
		for _, k := range []int{i, i + 1, i + 2 + r.Intn(5)} {
			indices = binary.LittleEndian.AppendUint16(indices, uint16(k))
		}
	}
	for i := range 170 {
		table = append(table, 'R', 'E', byte(i), byte(i>>8), 7, 1, byte(r.Intn(256)), byte(r.Intn(256)), 0, 0, 9, 9, byte(r.Intn(256)), byte(r.Intn(256)), byte(r.Intn(256)), 3, 3, 0, 0, 5, 5, byte(i*17), 0, 1)
	}
	for y := range 64 {
		for x := range 64 {
			picture = append(picture, byte(128+60*math.Sin(float64(x)/9)*math.Cos(float64(y)/7)+4*r.Float64()))
		}
	}
	return map[Class][]byte{Packed: noise, Numbers: numbers, Indices: indices, Table: table, Picture: picture,
		Zeros: make([]byte, 4096), Text: []byte(strings.Repeat("The heron waits for the tide. ", 140))}
}

func TestClassesAreToldApart(t *testing.T) {
	for want, b := range kinds() {
		got, stride, why := Classify(b)
		if got != want || why == "" {
			t.Errorf("%s is taken for %s: %s", want, got, why)
		}
		if want == Table && stride != 24 {
			t.Errorf("stride %d, want 24: %s", stride, why)
		}
	}
	for n := range 70 {
		Classify(make([]byte, n))
	}
}

func TestStrip(t *testing.T) {
	var file []byte
	order := []Class{Text, Table, Zeros, Packed}
	for _, c := range order {
		file = append(file, kinds()[c][:4000]...)
	}
	cells, err := Strip(context.Background(), bytes.NewReader(file), 0, int64(len(file)), 8)
	if err != nil || len(cells) != 8 {
		t.Fatal(cells, err)
	}
	at := int64(0)
	for i, c := range cells {
		if c.Class != order[i/2] || c.At != at {
			t.Errorf("cell %d at %d is %s, want %s", i, c.At, c.Class, order[i/2])
		}
		at += c.Size
	}
	if at != int64(len(file)) {
		t.Errorf("the cells end at %d of %d", at, len(file))
	}
	if c, err := Strip(context.Background(), bytes.NewReader(nil), 0, 0, 5); err != nil || len(c) != 1 {
		t.Errorf("an empty file: %v %v", c, err)
	}
	if _, err := Strip(context.Background(), bytes.NewReader(nil), 5, 3, 5); err == nil {
		t.Error("a strip backwards is made")
	}
}

func TestWidthsAreGuessed(t *testing.T) {
	r := rand.New(rand.NewSource(2))
	for _, c := range []struct{ w, h, texel int }{{64, 64, 1}, {128, 96, 2}, {100, 80, 3}, {256, 64, 4}, {37, 90, 1}} {
		var b []byte
		for y := range c.h {
			for x := range c.w {
				for k := range c.texel {
					v := 120 + 70*math.Sin(float64(x)/5+float64(k))*math.Cos(float64(y)/31) + 40*math.Sin(float64(x*x)/300)
					b = append(b, byte(v+6*r.Float64()))
				}
			}
		}
		g := Widths(b, c.texel, 1)
		if len(g) == 0 || g[0].Value != c.w {
			t.Errorf("%d x %d of %d bytes: %+v", c.w, c.h, c.texel, g)
		}
	}
	if g := Widths(make([]byte, 4096), 1, 1); len(g) != 0 {
		t.Errorf("zeros have a width: %+v", g)
	}
	Widths([]byte{1, 2, 3}, 4, 1)
}

func TestShapesOfWhatIsLeft(t *testing.T) {
	for n, want := range map[int64]string{65536: "256", 64 * 128: "128 64", 100 * 100: "100", 12345: "", 0: "", -5: ""} {
		var got []string
		for _, g := range Shapes(n) {
			got = append(got, fmt.Sprint(g.Value))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%d texels: %q, want %q", n, got, want)
		}
	}
}

func TestPackingIsFound(t *testing.T) {
	text := []byte(strings.Repeat("reed and tide ", 300))
	var z bytes.Buffer
	w := zlib.NewWriter(&z)
	w.Write(text)
	w.Close()
	u := Unpack(append(z.Bytes(), "and what follows"...), 1<<16)
	if u[0].Codec != "zlib" || !bytes.Equal(u[0].Bytes, text) || u[0].Class != Text {
		t.Errorf("%s gave %d bytes (%s)", u[0].Codec, len(u[0].Bytes), u[0].Stopped)
	}
	if u := Unpack([]byte("no stream at all, only words"), 100); len(u[0].Bytes) > 0 && u[0].Stopped == "" && u[0].Class == Text {
		t.Errorf("words unpack with %s to %q", u[0].Codec, u[0].Bytes)
	}
}

func TestPatterns(t *testing.T) {
	file := append(bytes.Repeat([]byte{0xaa}, 1<<20-3), []byte{0xaa, 1, 2, 3, 4, 1, 9, 3}...) // across the chunks
	for pattern, want := range map[string]int64{"01 02 03": 1<<20 - 2, "01??03": 1<<20 - 2, "01 09": 1<<20 + 2, `"` + string([]byte{3, 4}) + `"`: 1 << 20, "?? 09 03": 1<<20 + 2, "07": -1} {
		p, err := ParsePattern(pattern)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := p.Find(context.Background(), bytes.NewReader(file), 0, int64(len(file))); err != nil || got != want {
			t.Errorf("%s: %d, want %d (%v)", pattern, got, want, err)
		}
	}
	p, _ := ParsePattern("01??03")
	if got, _ := p.Find(context.Background(), bytes.NewReader(file), 1<<20-1, int64(len(file))); got != 1<<20+2 {
		t.Errorf("the next: %d", got)
	}
	for _, bad := range []string{"", "1", "xy", "????", `""`, strings.Repeat("00", 1025)} {
		if _, err := ParsePattern(bad); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

// zeros is a file of any size.
type zeros int64

func (z zeros) ReadAt(b []byte, at int64) (int, error) {
	for i := range b {
		b[i] = byte((at + int64(i)) * 7 >> 3)
	}
	return len(b), nil
}

func BenchmarkStrip(b *testing.B) {
	for _, n := range []int{400, 4000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				if _, err := Strip(context.Background(), zeros(0), 0, 1<<32, n); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// What is right of one class stays right when it begins or ends elsewhere.
func TestClassesHoldForParts(t *testing.T) {
	for want, b := range kinds() {
		for _, cut := range [][2]int{{0, 2048}, {1024, 3072}, {2048, 4080}, {0, 1024}} {
			part := b[min(cut[0], len(b)):min(cut[1], len(b))]
			if got, _, why := Classify(part); got != want && !(want == Table && len(part) < 1500) {
				t.Errorf("%s, bytes %d to %d, are taken for %s: %s", want, cut[0], cut[1], got, why)
			}
		}
	}
}

func TestStridesOfEveryWidth(t *testing.T) {
	r := rand.New(rand.NewSource(21))
	for s := 4; s <= 64; s += 3 {
		var b []byte
		for range 4096 / s {
			rec := make([]byte, s)
			r.Read(rec)
			for k := 0; k < s; k += 2 { // half of each record is always the same
				rec[k] = byte(17*k + 5)
			}
			b = append(b, rec...)
		}
		got, score, base := Stride(b, 96)
		if got != s || score < 0.4 || base > score/2 {
			t.Errorf("records of %d bytes: stride %d (%.2f over %.2f)", s, got, score, base)
		}
	}
	if s, _, _ := Stride(nil, 96); s != 0 {
		t.Errorf("no bytes have the stride %d", s)
	}
}

func TestBothByteOrdersAndAlignments(t *testing.T) {
	for _, o := range []binary.AppendByteOrder{binary.LittleEndian, binary.BigEndian} {
		for shift := range 4 {
			b := make([]byte, shift, 4096)
			for i := range 1000 {
				b = o.AppendUint32(b, math.Float32bits(float32(math.Cos(float64(i)/7)*12+0.01*float64(i%13))))
			}
			if got, _, why := Classify(b); got != Numbers {
				t.Errorf("%v, shifted by %d: %s, %s", o, shift, got, why)
			}
			var x []byte
			for i := range 1000 {
				x = o.AppendUint32(x, uint32(i+i%7))
			}
			if got, _, why := Classify(x); got != Indices {
				t.Errorf("%v indices of 32 bits: %s, %s", o, got, why)
			}
		}
	}
}

// FuzzTrials holds that no bytes break the guesses.
func FuzzTrials(f *testing.F) {
	for _, b := range kinds() {
		f.Add(b[:512], "57 ?? 53", uint8(2))
		f.Add(b[:512], "f32be 0.5..1.5", uint8(24))
	}
	f.Fuzz(func(t *testing.T, b []byte, pattern string, texel uint8) {
		class, stride, why := Classify(b)
		if why == "" || (class == Table) != (stride > 0) {
			t.Errorf("%s %d %q", class, stride, why)
		}
		for _, g := range Widths(b, int(texel%8)+1, 1) {
			if g.Value < 1 || g.Score < 0 || g.Score > 1 || g.Evidence == "" {
				t.Errorf("%+v", g)
			}
		}
		for _, g := range GuessVertices(b, 0, texel&1 == 1) {
			if g.Stride < 1 || g.Count < 1 || g.At+int64(g.Stride*(g.Count-1)) > int64(len(b)) {
				t.Errorf("%+v of %d bytes", g, len(b))
			}
		}
		for _, g := range GuessIndices(b, 0, int(texel), texel&1 == 1) {
			if g.At < 0 || g.At+int64(g.Count) > int64(len(b)) {
				t.Errorf("%+v of %d bytes", g, len(b))
			}
		}
		sheet := Records(b, int(texel), 100, texel&1 == 1)
		if cols, size, err := ParseColumns(Spec(sheet.Columns, sheet.Stride)); len(sheet.Columns) > 0 && (err != nil || size != sheet.Stride || len(cols) != len(sheet.Columns)) {
			t.Errorf("the guessed columns %q take %d bytes of %d: %v", Spec(sheet.Columns, sheet.Stride), size, sheet.Stride, err)
		}
		if p, err := ParsePattern(pattern); err == nil {
			at, err := p.Find(context.Background(), bytes.NewReader(b), 0, int64(len(b)))
			if err != nil || at >= 0 && p.number == nil && !p.fits(b[at:at+int64(p.Len())]) {
				t.Errorf("%q at %d: %v", pattern, at, err)
			}
		}
		if len(b) < 4096 {
			Unpack(b, 4096)
		}
	})
}
