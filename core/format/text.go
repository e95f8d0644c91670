package format

import (
	"bytes"
	"math"
	"strconv"
	"strings"
	"unicode/utf16"
)

// UTF8 turns a text in UTF-16 with a byte-order mark into UTF-8 and takes the
// mark of one in UTF-8 away.
func UTF8(b []byte) []byte {
	switch {
	case bytes.HasPrefix(b, []byte("\xef\xbb\xbf")):
		return b[3:]
	case bytes.HasPrefix(b, []byte("\xff\xfe")), bytes.HasPrefix(b, []byte("\xfe\xff")):
		big := b[0] == 0xfe
		u := make([]uint16, 0, len(b)/2)
		for i := 2; i+1 < len(b); i += 2 {
			lo, hi := uint16(b[i]), uint16(b[i+1])
			if big {
				lo, hi = hi, lo
			}
			u = append(u, lo|hi<<8)
		}
		return []byte(string(utf16.Decode(u)))
	}
	return b
}

// tens are the powers of ten that a float64 holds exactly.
var tens = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// Float reads the number that b begins with, after blanks, and returns what
// follows it. The usual short numbers are read exactly without a detour
// (Clinger, "How to read floating point numbers accurately", 1990); others by
// strconv. ok is false where no finite number stands, and where what stands goes
// on as no number does: "1.2.3" and "1.#INF" are none, not two.
func Float(b []byte) (v float64, rest []byte, ok bool) {
	i := 0
	for i < len(b) && (b[i] == ' ' || b[i] == '\t') {
		i++
	}
	start := i
	neg := false
	if i < len(b) && (b[i] == '-' || b[i] == '+') {
		neg = b[i] == '-'
		i++
	}
	var m uint64
	digits, exp := 0, 0
	for ; i < len(b) && b[i]-'0' < 10; i++ {
		if digits < 19 {
			m = 10*m + uint64(b[i]-'0')
		} else {
			exp++
		}
		if m > 0 {
			digits++
		}
	}
	whole := i
	point := 0
	if i < len(b) && b[i] == '.' {
		i++
		for ; i < len(b) && b[i]-'0' < 10; i++ {
			if digits < 19 {
				m = 10*m + uint64(b[i]-'0')
				exp--
				if m > 0 {
					digits++
				}
			}
			point++
		}
	}
	if whole == start+b2i(start < len(b) && (b[start] == '-' || b[start] == '+')) && point == 0 {
		return 0, b[start:], false
	}
	if i < len(b) && (b[i] == 'e' || b[i] == 'E') {
		k, e, eneg := i+1, 0, false
		if k < len(b) && (b[k] == '-' || b[k] == '+') {
			eneg = b[k] == '-'
			k++
		}
		first := k
		for ; k < len(b) && b[k]-'0' < 10; k++ {
			if e < 10000 {
				e = 10*e + int(b[k]-'0')
			}
		}
		if k > first {
			if eneg {
				e = -e
			}
			exp += e
			i = k
		}
	}
	if i < len(b) && goesOn[b[i]] {
		return 0, b[start:], false
	}
	if m < 1<<53 && exp >= -22 && exp <= 22 {
		v = float64(m)
		if exp < 0 {
			v /= tens[-exp]
		} else {
			v *= tens[exp]
		}
		if neg {
			v = -v
		}
		return v, b[i:], true
	}
	v, err := strconv.ParseFloat(string(b[start:i]), 64)
	return v, b[i:], err == nil && !math.IsInf(v, 0)
}

// goesOn are the letters that may not follow a number.
var goesOn = func() (t [256]bool) {
	for c := range t {
		switch {
		case '0' <= c && c <= '9', 'a' <= c && c <= 'z', 'A' <= c && c <= 'Z', c >= 0x80:
			t[c] = true
		case c == '.', c == '#', c == '_', c == '+', c == '-':
			t[c] = true
		}
	}
	return t
}()

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Finite32 is v as a float32; 0 and false where it is not finite there.
func Finite32(v float64) (float32, bool) {
	f := float32(v)
	return f, f-f == 0
}

// ASCII is text in the letters that every font has; others are question marks.
func ASCII(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e {
			return '?'
		}
		return r
	}, s)
}
