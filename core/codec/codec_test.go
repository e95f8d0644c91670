package codec

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"math/rand"
	"os/exec"
	"strings"
	"testing"

	"github.com/pierrec/lz4/v4"
)

var plain = []byte(strings.Repeat("reed and tide, ", 4000))

// packed packs plain with what is not the decoder.
func packed(t testing.TB, c *Codec) []byte {
	t.Helper()
	var b bytes.Buffer
	command := func(name string, args ...string) []byte {
		cmd := exec.Command(name, args...)
		cmd.Stdin = bytes.NewReader(plain)
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		return out
	}
	switch c {
	case Zlib:
		w := zlib.NewWriter(&b) // the standard library's, not the decoder's
		w.Write(plain)
		w.Close()
	case Deflate:
		w, _ := flate.NewWriter(&b, 6)
		w.Write(plain)
		w.Close()
	case Gzip:
		w := gzip.NewWriter(&b)
		w.Write(plain)
		w.Close()
	case LZ4:
		out := make([]byte, lz4.CompressBlockBound(len(plain)))
		k, err := lz4.CompressBlock(plain, out, nil)
		if err != nil {
			t.Fatal(err)
		}
		return out[:k]
	case LZ4File:
		w := lz4.NewWriter(&b)
		w.Write(plain)
		w.Close()
	case Zstd:
		return command("zstd", "-c", "-q")
	case LZMA:
		return command("xz", "--format=lzma", "-c")
	case Bzip2:
		return command("bzip2", "-c")
	default:
		return plain
	}
	return b.Bytes()
}

func TestEveryMethod(t *testing.T) {
	for _, n := range Names() {
		c := Named(n)
		src := packed(t, c)
		for round := 0; round < 3; round++ { // decoders are used again
			got, err := c.Decode(src, int64(len(plain)))
			if err != nil || !bytes.Equal(got, plain) {
				t.Errorf("%s: %d bytes, %v", n, len(got), err)
			}
			part, err := c.Try(src, 10)
			if string(part) != "reed and t" && c != LZ4 || err == nil {
				t.Errorf("%s: try %q, %v", n, part, err)
			}
		}
	}
}

func TestDeclaredSizesHold(t *testing.T) {
	for _, n := range Names() {
		c := Named(n)
		if c == Stored {
			continue
		}
		src := packed(t, c)
		for _, size := range []int64{0, 1, 100, int64(len(plain)) - 1} {
			if got, err := c.Decode(src, size); err == nil {
				t.Errorf("%s declared as %d gives %d bytes", n, size, len(got))
			} else if !strings.Contains(err.Error(), "beyond") {
				t.Errorf("%s declared as %d: %v", n, size, err)
			}
		}
		if _, err := c.Decode(src, int64(len(plain))+1); err == nil {
			t.Errorf("%s declared too large is taken", n)
		}
		for k := 0; k < len(src)-8; k += 13 { // what follows the last byte may be missing
			if got, err := c.Decode(src[:k], int64(len(plain))); err == nil {
				t.Fatalf("%s cut off at %d of %d gives %d bytes", n, k, len(src), len(got))
			}
		}
	}
	for _, x := range []struct {
		c            *Codec
		packed, size int64
	}{{Zlib, 10, 1 << 40}, {LZ4, 1, 2 << 20}, {Stored, 5, 6}, {Zlib, -1, 5}, {Zlib, 5, -1}, {Zlib, 1 << 20, 2 << 30}} {
		if err := CheckSizes(x.c, x.packed, x.size); err == nil {
			t.Errorf("%s of %d from %d was accepted", x.c.Name, x.size, x.packed)
		}
	}
	if err := CheckSizes(Zlib, 10<<20, 2<<30); err != nil {
		t.Errorf("a size that zlib reaches: %v", err)
	}
	// An LZMA header that asks for four gigabytes of dictionary.
	if _, err := LZMA.Decode(append([]byte{0x5d, 0xff, 0xff, 0xff, 0xff}, make([]byte, 40)...), 100); err == nil || !strings.Contains(err.Error(), "dictionary") {
		t.Errorf("%v", err)
	}
}

func TestABombIsNotUnpacked(t *testing.T) {
	var b bytes.Buffer
	w := zlib.NewWriter(&b)
	w.Write(make([]byte, 64<<20))
	w.Close()
	// It declares a thousandth of what it holds: one byte more than declared is
	// read, no more.
	if _, err := Zlib.Decode(b.Bytes(), 64<<10); err == nil || !strings.Contains(err.Error(), "expands beyond the 65536 bytes declared") {
		t.Errorf("%v", err)
	}
}

// lzss packs as plainly as can be: the longest match, looked for everywhere.
func lzss(p LZSS, in []byte) []byte {
	width := func(list []Bits) (n uint) {
		for _, b := range list {
			n += b.Count
		}
		return n
	}
	put := func(word *uint, list []Bits, v int) {
		for i := len(list) - 1; i >= 0; i-- {
			*word |= uint(v) & (1<<list[i].Count - 1) << list[i].Low
			v >>= list[i].Count
		}
	}
	size := 1 << width(p.Distance)
	longest := p.MinLength + 1<<width(p.Length) - 1
	ring := bytes.Repeat([]byte{p.Fill}, size)
	var out []byte
	flagAt, k := 0, uint(8)
	flag := func(bit uint) {
		if k == 8 {
			flagAt, k = len(out), 0
			out = append(out, 0)
		}
		shift := k
		if p.HighFirst {
			shift = 7 - k
		}
		out[flagAt] |= byte(bit << shift)
		k++
	}
	for n := 0; n < len(in); {
		best, at := 0, 0
		for back := max(1, p.Nearest); back < size && back-p.Nearest < size-1; back++ {
			if n-back < 0 && !p.Window {
				break
			}
			l := 0
			for l < longest && n+l < len(in) {
				var c byte
				if j := n + l - back; j >= 0 {
					c = in[j]
				} else if back > n { // what the window held before
					c = ring[0]
				}
				if c != in[n+l] {
					break
				}
				l++
			}
			if l > best {
				best, at = l, back
			}
		}
		if best < p.MinLength {
			flag(p.Literal)
			out = append(out, in[n])
			n++
			continue
		}
		flag(1 - p.Literal)
		d := at - p.Nearest
		if p.Window {
			d = (p.Start + n - at) & (size - 1)
		}
		var w uint
		put(&w, p.Distance, d)
		put(&w, p.Length, best-p.MinLength)
		if p.BigEndian {
			out = append(out, byte(w>>8), byte(w))
		} else {
			out = append(out, byte(w), byte(w>>8))
		}
		n += best
	}
	return out
}

func TestLZSS(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	texts := [][]byte{[]byte(strings.Repeat("the heron stands, the heron waits; ", 30)), bytes.Repeat([]byte{7}, 900), {1}, nil, []byte(strings.Repeat(" ", 60) + "tide")}
	noise := make([]byte, 3000)
	for i := range noise {
		noise[i] = byte(r.Intn(4))
	}
	texts = append(texts, noise)
	for name, p := range map[string]LZSS{
		"window":        {Literal: 1, Distance: []Bits{{12, 4}, {0, 8}}, Length: []Bits{{8, 4}}, MinLength: 3, Window: true, Start: 0xfee, Fill: ' '},
		"back, big":     {HighFirst: true, BigEndian: true, Distance: []Bits{{0, 12}}, Length: []Bits{{12, 4}}, MinLength: 3, Nearest: 1},
		"back, little":  {Literal: 0, Distance: []Bits{{5, 11}}, Length: []Bits{{0, 5}}, MinLength: 2, Nearest: 0},
		"small window":  {Literal: 1, HighFirst: true, BigEndian: true, Distance: []Bits{{6, 10}}, Length: []Bits{{0, 6}}, MinLength: 3, Window: true, Start: 0, Fill: 0},
		"other literal": {Literal: 0, Distance: []Bits{{4, 12}}, Length: []Bits{{0, 4}}, MinLength: 2, Nearest: 1},
	} {
		c, err := p.Codec(name)
		if err != nil {
			t.Fatal(err)
		}
		for i, in := range texts {
			b := lzss(p, in)
			got, err := c.Decode(b, int64(len(in)))
			if err != nil || !bytes.Equal(got, in) {
				t.Errorf("%s, text %d: %d of %d bytes, %v", name, i, len(got), len(in), err)
			}
			if len(in) > 10 {
				if _, err := c.Decode(b, int64(len(in))-5); err == nil {
					t.Errorf("%s, text %d declared too small is taken", name, i)
				}
				if _, err := c.Decode(b[:len(b)/2], int64(len(in))); err == nil {
					t.Errorf("%s, text %d cut off is taken", name, i)
				}
			}
		}
	}
	end := 0
	c, _ := LZSS{Literal: 1, Distance: []Bits{{0, 12}}, Length: []Bits{{12, 4}}, MinLength: 3, Nearest: 0, EndAt: &end}.Codec("end")
	if got, err := c.Decode([]byte{0b011, 'a', 'b', 0, 0, 99}, 2); err != nil || string(got) != "ab" {
		t.Errorf("a mark that ends it: %q %v", got, err)
	}
	if _, err := (LZSS{Literal: 1, Distance: []Bits{{0, 12}}, Length: []Bits{{12, 4}}, MinLength: 3, Nearest: 1}.into)(make([]byte, 20), []byte{0, 9, 0}); err == nil || !strings.Contains(err.Error(), "goes back 10 of 0") {
		t.Errorf("a reference before the start: %v", err)
	}
	for _, bad := range []LZSS{{}, {Distance: []Bits{{0, 12}}, Length: []Bits{{12, 8}}, MinLength: 3}, {Distance: []Bits{{0, 8}}, Length: []Bits{{8, 8}}, MinLength: 0}, {Distance: []Bits{{0, 8}}, Length: []Bits{{8, 8}}, MinLength: 1, Start: 256, Window: true}} {
		if _, err := bad.Codec("x"); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

func TestRunLengths(t *testing.T) {
	esc := byte(0x90)
	for name, c := range map[string]struct {
		p    RLE
		in   []byte
		want string
	}{
		"counted":     {RLE{RunBit: 1, RunMin: 2, LiteralMin: 1}, []byte{0x81, 'a', 0x01, 'x', 'y', 0x80, 'b'}, "aaaxybb"},
		"other bit":   {RLE{RunBit: 0, RunMin: 1, LiteralMin: 1}, []byte{0x02, 'a', 0x81, 'x', 'y'}, "aaaxy"},
		"negative":    {RLE{Negative: true}, []byte{0xfe, 'a', 0x80, 0x02, 'x', 'y', 'z'}, "aaaxyz"},
		"escape":      {RLE{Escape: &esc}, []byte{'x', esc, 4, 'a', 'y'}, "xaaaay"},
		"two at once": {RLE{RunBit: 1, RunMin: 1, LiteralMin: 1, Unit: 2}, []byte{0x81, 'a', 'b', 0x00, 'x', 'y'}, "ababxy"},
	} {
		x, err := c.p.Codec(name)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := x.Decode(c.in, int64(len(c.want))); err != nil || string(got) != c.want {
			t.Errorf("%s: %q, %v", name, got, err)
		}
		if _, err := x.Decode(c.in[:len(c.in)-1], int64(len(c.want))); err == nil {
			t.Errorf("%s: cut off is taken", name)
		}
	}
}

func TestKeysAndBlocks(t *testing.T) {
	z := packed(t, Zlib)
	lay := func(p Key, in []byte) []byte { // the other way round
		out := make([]byte, len(in))
		k, before := p.Bytes[0], byte(0)
		for i, c := range in {
			if len(p.Bytes) > 1 {
				k = p.Bytes[i%len(p.Bytes)]
			}
			key := k
			if p.Feed {
				key += before
			}
			switch p.Op {
			case "xor":
				out[i] = c ^ key
			case "add":
				out[i] = c - key
			case "sub":
				out[i] = c + key
			}
			before = out[i]
			if p.Mul != 0 {
				k = k*p.Mul + p.Inc
			}
		}
		return out
	}
	for _, p := range []Key{{Op: "xor", Bytes: []byte{0x5a}}, {Op: "xor", Bytes: []byte("heron")}, {Op: "add", Bytes: []byte{3}, Mul: 5, Inc: 7}, {Op: "sub", Bytes: []byte{9, 8}, Feed: true}} {
		c, err := p.Codec("veil", Zlib)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := c.Decode(lay(p, z), int64(len(plain))); err != nil || !bytes.Equal(got, plain) {
			t.Errorf("%+v: %v", p, err)
		}
	}
	for _, bad := range []Key{{Op: "and", Bytes: []byte{1}}, {Op: "xor"}, {Op: "xor", Bytes: []byte{1, 2}, Mul: 3}} {
		if _, err := bad.Codec("x", Stored); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
	for _, p := range []Blocks{{Size: 1000, Width: 4}, {Size: 4096, Width: 2, BigEndian: true, Table: true, StoredIfFull: true}} {
		var sizes, pieces, each []byte
		for at := 0; at < len(plain); at += p.Size {
			part := plain[at:min(at+p.Size, len(plain))]
			var b bytes.Buffer
			w := zlib.NewWriter(&b)
			w.Write(part)
			w.Close()
			piece := b.Bytes()
			if p.StoredIfFull && at == 0 {
				piece = part
			}
			n := []byte{byte(len(piece)), byte(len(piece) >> 8), 0, 0}[:p.Width]
			if p.BigEndian {
				n = []byte{byte(len(piece) >> 8), byte(len(piece))}
			}
			sizes, pieces = append(sizes, n...), append(pieces, piece...)
			each = append(append(each, n...), piece...)
		}
		src := each
		if p.Table {
			src = append(sizes, pieces...)
		}
		c, err := p.Codec("pieces", Zlib)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := c.Decode(src, int64(len(plain))); err != nil || !bytes.Equal(got, plain) {
			t.Errorf("%+v: %v", p, err)
		}
		if _, err := c.Decode(src[:len(src)-3], int64(len(plain))); err == nil || !strings.Contains(err.Error(), "piece") {
			t.Errorf("%+v cut off: %v", p, err)
		}
	}
}

// FuzzFamilies holds that no bytes and no parameters break the decoders.
func FuzzFamilies(f *testing.F) {
	f.Add([]byte{0xff, 1, 2, 3}, uint16(100), uint8(0), uint8(12), uint8(4), uint8(3), true)
	f.Add([]byte{0, 1, 2, 3, 4, 5, 6, 7}, uint16(4000), uint8(1), uint8(10), uint8(6), uint8(2), false)
	f.Fuzz(func(t *testing.T, src []byte, size uint16, kind, a, b, c uint8, flag bool) {
		var x *Codec
		var err error
		switch kind % 4 {
		case 0:
			x, err = LZSS{HighFirst: flag, Literal: uint(c & 1), Distance: []Bits{{uint(b), uint(a)}}, Length: []Bits{{0, uint(b)}}, MinLength: int(c), Window: flag, Nearest: int(c & 3)}.Codec("x")
		case 1:
			x, err = RLE{RunBit: uint(a & 1), RunMin: int(b), LiteralMin: int(c), Negative: flag, Unit: int(a & 3)}.Codec("x")
		case 2:
			x, err = Key{Op: "xor", Bytes: []byte{a}, Mul: b, Inc: c, Feed: flag}.Codec("x", LZ4)
		default:
			x, err = Blocks{Size: int(a) + 1, Width: 2 + 2*int(b&1), Table: flag}.Codec("x", Zlib)
		}
		if err != nil {
			return
		}
		if out, err := x.Decode(src, int64(size)); err == nil && len(out) != int(size) {
			t.Errorf("%d bytes, %d declared", len(out), size)
		}
		x.Try(src, 1000)
	})
}

func BenchmarkLZSS(b *testing.B) {
	p := LZSS{Literal: 1, Distance: []Bits{{12, 4}, {0, 8}}, Length: []Bits{{8, 4}}, MinLength: 3, Window: true, Start: 0xfee, Fill: ' '}
	text := []byte(strings.Repeat("the heron stands, the heron waits for 17 fish; ", 500))
	src := lzss(p, text)
	c, _ := p.Codec("x")
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := c.Decode(src, int64(len(text))); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkZlib(b *testing.B) {
	src := packed(b, Zlib)
	b.SetBytes(int64(len(plain)))
	for b.Loop() {
		if _, err := Zlib.Decode(src, int64(len(plain))); err != nil {
			b.Fatal(err)
		}
	}
}
