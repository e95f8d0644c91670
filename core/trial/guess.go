package trial

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"excavate/core/codec"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"
)

// Guess is a number with its evidence; the surer a guess is, the nearer Score
// is to 1.
type Guess struct {
	Value    int
	Score    float64
	Evidence string
}

// Shapes guesses width and height from how many texels are left to the end of
// a file: a square, or one twice as wide as high or high as wide.
func Shapes(texels int64) []Guess {
	var out []Guess
	for _, r := range [][2]int64{{1, 1}, {2, 1}, {1, 2}} {
		if texels <= 0 || texels%(r[0]*r[1]) != 0 {
			continue
		}
		k := int64(math.Round(math.Sqrt(float64(texels / (r[0] * r[1])))))
		w, h := k*r[0], k*r[1]
		if w*h != texels || w < 8 || h < 8 || w > 16384 || h > 16384 {
			continue
		}
		score := 0.35
		if w&(w-1) == 0 && h&(h-1) == 0 {
			score = 0.6
		}
		out = append(out, Guess{Value: int(w), Score: score, Evidence: fmt.Sprintf("what is left is %d x %d texels", w, h)})
	}
	return out
}

// Widths guesses how many texels a row has, from bytes that begin with a row:
// at the right width the rows resemble each other most. texel is the number
// of bytes of one, or of a block of a compressed format; unit is how many
// texels wide that is.
func Widths(b []byte, texel, unit int) []Guess {
	const most = 4096
	n := len(b) / texel
	high := min(most, n/4)
	if high < 4 {
		return nil
	}
	// The mean difference between bytes a row apart, by width.
	cost := make([]float64, high+1)
	at := len(b)
	if at > 1<<18 {
		at = 1 << 18
	}
	step := max(1, at/(64<<10)) | 1 // odd, so that every channel is met
	for w := 4; w <= high; w++ {
		d, k := 0, 0
		for i := 0; i+w*texel < at; i += step {
			x := int(b[i]) - int(b[i+w*texel])
			d += max(x, -x)
			k++
		}
		if k == 0 {
			cost[w] = 255
			continue
		}
		cost[w] = float64(d) / float64(k)
	}
	mid := median(sampled(cost[4:], 512))
	if mid == 0 {
		return nil
	}
	var out []Guess
	for w := 4; w <= high; w++ {
		// A width stands out against those beside it, and against all.
		left, right := cost[max(4, w-1)], cost[min(high, w+1)]
		if cost[w] > left || cost[w] > right || cost[w] > 0.8*mid {
			continue
		}
		score := 1 - cost[w]/mid
		if w&(w-1) == 0 {
			score *= 1.05 // pictures like powers of two
		}
		out = append(out, Guess{Value: w * unit, Score: min(1, score), Evidence: fmt.Sprintf("rows differ by %.1f a byte, by %.1f at other widths", cost[w], mid)})
	}
	slices.SortStableFunc(out, func(a, b Guess) int { return cmp.Compare(b.Score, a.Score) })
	// Two rows at once are nearly as alike: the half of a width that is nearly
	// as good comes first.
	for i := range out {
		for k := i + 1; k < len(out) && k < 24; k++ {
			if out[i].Value%out[k].Value == 0 && out[i].Value != out[k].Value && out[k].Score > 0.85*out[i].Score {
				out[i], out[k] = out[k], out[i]
			}
		}
		if i > 8 {
			break
		}
	}
	return out[:min(len(out), 5)]
}

func sampled(v []float64, most int) []float64 {
	step := max(1, len(v)/most)
	var out []float64
	for i := 0; i < len(v); i += step {
		out = append(out, v[i])
	}
	return out
}

// Unpacking is what a packing method makes of some bytes.
type Unpacking struct {
	Codec   string
	Bytes   []byte // what came out, up to a bound
	Stopped string // why it ended; empty if it ended well
	Class   Class  // what it looks like
}

// Unpack tries every usual packing method on bytes. Those that give something
// come first, the most plausible before the others.
func Unpack(b []byte, most int) []Unpacking {
	var out []Unpacking
	for _, n := range codec.Names() {
		c := codec.Named(n)
		if c == codec.Stored {
			continue
		}
		got, err := c.Try(b, most)
		u := Unpacking{Codec: n, Bytes: got}
		if err != nil {
			u.Stopped = err.Error()
		}
		u.Class, _, _ = Classify(got[:min(len(got), sample)])
		out = append(out, u)
	}
	good := func(u Unpacking) int {
		switch {
		case len(u.Bytes) == 0:
			return 0
		case u.Class == Packed:
			return 1
		case u.Stopped != "" && !strings.Contains(u.Stopped, "beyond"):
			return 2
		}
		return 3
	}
	slices.SortStableFunc(out, func(a, b Unpacking) int {
		return cmp.Or(cmp.Compare(good(b), good(a)), cmp.Compare(len(b.Bytes), len(a.Bytes)))
	})
	return out
}

// Pattern is bytes to look for, some of which may be anything.
type Pattern struct {
	bytes []byte
	any   []bool
	fixed []byte // the longest row of given bytes, and where it stands
	at    int

	// Instead of bytes, a number between two values.
	number    *Column
	big       bool
	low, high float64
}

// ParsePattern reads pairs of hexadecimal digits, with ?? for any byte; a text
// between quotes, with its encoding before it where that is not UTF-8
// (utf16le "punt", utf16be, shift_jis, latin1); or a type of number with two
// bounds (f32 0.9..1.1, u16 400..500, with be after the type for big-endian).
func ParsePattern(s string) (*Pattern, error) {
	s = strings.TrimSpace(s)
	p := &Pattern{}
	if word, rest, ok := strings.Cut(s, " "); ok && strings.Contains(rest, "..") {
		return numberPattern(word, strings.TrimSpace(rest))
	}
	if q := strings.IndexByte(s, '"'); q >= 0 && len(s) > q+1 && s[len(s)-1] == '"' {
		b, err := encodeText(strings.TrimSpace(s[:q]), s[q+1:len(s)-1])
		if err != nil {
			return nil, err
		}
		p.bytes = b
		p.any = make([]bool, len(p.bytes))
	} else {
		s = strings.ReplaceAll(s, " ", "")
		for i := 0; i < len(s); i += 2 {
			if i+2 > len(s) {
				return nil, fmt.Errorf("the pattern ends in half a byte: write pairs of hexadecimal digits, ?? for any byte, or a text between quotes")
			}
			if s[i:i+2] == "??" {
				p.bytes, p.any = append(p.bytes, 0), append(p.any, true)
				continue
			}
			b, err := hex.DecodeString(s[i : i+2])
			if err != nil {
				return nil, fmt.Errorf("%q is no byte: write pairs of hexadecimal digits, ?? for any byte, or a text between quotes", s[i:i+2])
			}
			p.bytes, p.any = append(p.bytes, b[0]), append(p.any, false)
		}
	}
	if len(p.bytes) == 0 || len(p.bytes) > 1024 {
		return nil, fmt.Errorf("a pattern has 1 to 1024 bytes")
	}
	for i := 0; i < len(p.bytes); i++ {
		k := i
		for k < len(p.bytes) && !p.any[k] {
			k++
		}
		if k-i > len(p.fixed) {
			p.fixed, p.at = p.bytes[i:k], i
		}
	}
	if len(p.fixed) == 0 {
		return nil, fmt.Errorf("a pattern needs at least one byte that is given")
	}
	return p, nil
}

// numberPattern reads "f32be" and "0.9..1.1".
func numberPattern(typ, bounds string) (*Pattern, error) {
	p := &Pattern{number: &Column{Type: typ, n: 1}}
	if t, ok := strings.CutSuffix(typ, "be"); ok {
		p.number.Type, p.big = t, true
	} else if t, ok := strings.CutSuffix(typ, "le"); ok {
		p.number.Type = t
	}
	if p.number.size = numberSizes[p.number.Type]; p.number.size == 0 {
		return nil, fmt.Errorf("%q is no type of number: write u8 i8 u16 i16 u32 i32 u64 i64 f16 f32 or f64, with be after it for big-endian", typ)
	}
	low, high, _ := strings.Cut(bounds, "..")
	var err, err2 error
	p.low, err = strconv.ParseFloat(strings.TrimSpace(low), 64)
	p.high, err2 = strconv.ParseFloat(strings.TrimSpace(high), 64)
	if err != nil || err2 != nil || p.low > p.high {
		return nil, fmt.Errorf("%q are no bounds: write the smallest and the largest value, such as 0.9..1.1", bounds)
	}
	return p, nil
}

func encodeText(encoding, text string) ([]byte, error) {
	switch encoding {
	case "", "utf8", "ascii":
		return []byte(text), nil
	case "utf16le":
		return unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().Bytes([]byte(text))
	case "utf16be":
		return unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewEncoder().Bytes([]byte(text))
	case "shift_jis":
		return japanese.ShiftJIS.NewEncoder().Bytes([]byte(text))
	case "latin1":
		return charmap.ISO8859_1.NewEncoder().Bytes([]byte(text))
	}
	return nil, fmt.Errorf("%q is no encoding: write utf8, utf16le, utf16be, shift_jis or latin1 before the text", encoding)
}

// Len is the number of bytes that the pattern covers.
func (p *Pattern) Len() int {
	if p.number != nil {
		return p.number.size
	}
	return len(p.bytes)
}

// findNumber looks for a number between the bounds, at any byte.
func (p *Pattern) findNumber(b []byte) int {
	o := order(p.big)
	for i := 0; i+p.number.size <= len(b); i++ {
		if f := p.number.value(b[i:], o); f >= p.low && f <= p.high {
			return i
		}
	}
	return -1
}

func (p *Pattern) fits(b []byte) bool {
	for i, c := range p.bytes {
		if !p.any[i] && b[i] != c {
			return false
		}
	}
	return true
}

// Find returns the first place at from or after where the pattern fits, -1 if
// there is none before size.
func (p *Pattern) Find(ctx context.Context, r io.ReaderAt, from, size int64) (int64, error) {
	const chunk = 1 << 20
	buf := make([]byte, chunk+p.Len())
	for from < size {
		if err := ctx.Err(); err != nil {
			return -1, err
		}
		b := buf[:min(int64(len(buf)), size-from)]
		if n, err := r.ReadAt(b, from); n < len(b) && err != nil && err != io.EOF {
			return -1, err
		}
		if p.number != nil {
			if k := p.findNumber(b); k >= 0 {
				return from + int64(k), nil
			}
		}
		for at := 0; p.number == nil; {
			k := bytes.Index(b[at:], p.fixed)
			if k < 0 {
				break
			}
			begin := at + k - p.at
			if begin >= 0 && begin+len(p.bytes) <= len(b) && p.fits(b[begin:]) {
				return from + int64(begin), nil
			}
			at += k + 1
		}
		if int64(len(b)) == size-from {
			break
		}
		from += chunk
	}
	return -1, nil
}
