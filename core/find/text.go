package find

import (
	"bytes"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"
)

// Encodings of texts, as they are shown.
const (
	UTF8     = "UTF-8"
	UTF16LE  = "UTF-16 LE"
	UTF16BE  = "UTF-16 BE"
	ShiftJIS = "Shift-JIS"
	Latin1   = "Windows-1252" // and ISO 8859-1, which is a part of it
)

// TextEncoding tells the encoding of a text from its first bytes, which may
// be cut off anywhere; empty if they are no text.
func TextEncoding(b []byte) string {
	switch {
	case len(b) == 0:
		return ""
	case bytes.HasPrefix(b, []byte{0xff, 0xfe}) && isUTF16(b[2:], 0):
		return UTF16LE
	case bytes.HasPrefix(b, []byte{0xfe, 0xff}) && isUTF16(b[2:], 1):
		return UTF16BE
	case isText(bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))):
		return UTF8
	case isShiftJIS(b):
		return ShiftJIS
	case isLatin(b):
		return Latin1
	}
	return ""
}

// isUTF16 accepts code units none of which is a control character; low is the
// place of the low byte in a unit.
func isUTF16(b []byte, low int) bool {
	for i := 0; i+1 < len(b); i += 2 {
		lo, hi := b[i+low], b[i+1-low]
		if hi == 0 && control(lo) {
			return false
		}
	}
	return true
}

func control(c byte) bool {
	return c < 0x20 && c != '\n' && c != '\r' && c != '\t' && c != '\f' || c == 0x7f
}

// isShiftJIS accepts pairs as JIS X 0208 has them, single ASCII and half-width
// katakana. A few pairs must be kana, which stand in every Japanese text and
// rarely together in other bytes.
func isShiftJIS(b []byte) bool {
	kana, pairs := 0, 0
	for i := 0; i < len(b); i++ {
		c := b[i]
		switch {
		case c < 0x80:
			if control(c) {
				return false
			}
		case c >= 0xa1 && c <= 0xdf:
		case c >= 0x81 && c <= 0x9f || c >= 0xe0 && c <= 0xfc:
			if i++; i == len(b) {
				return pairs > 1 && kana*4 >= pairs
			}
			d := b[i]
			if d < 0x40 || d == 0x7f || d > 0xfc {
				return false
			}
			pairs++
			if c == 0x82 && d >= 0x9f || c == 0x83 && d <= 0x96 || c == 0x81 && d <= 0x5b {
				kana++
			}
		default:
			return false
		}
	}
	return pairs > 1 && kana*4 >= pairs
}

// isLatin accepts bytes of which at most one in eight is not ASCII and none a
// control character.
func isLatin(b []byte) bool {
	high := 0
	for _, c := range b {
		if control(c) || c >= 0x80 && c < 0xa0 && c != 0x80 && (c < 0x91 || c > 0x97) {
			return false
		}
		if c >= 0x80 {
			high++
		}
	}
	return len(b) >= 8 && high*8 <= len(b)
}

// DecodeText returns a text as UTF-8. What its encoding does not know becomes
// U+FFFD.
func DecodeText(b []byte, enc string) string {
	var e encoding.Encoding
	switch enc {
	case UTF16LE:
		e = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM)
	case UTF16BE:
		e = unicode.UTF16(unicode.BigEndian, unicode.ExpectBOM)
	case ShiftJIS:
		e = japanese.ShiftJIS
	case Latin1:
		e = charmap.Windows1252
	default:
		b = bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))
		for n := 0; n < utf8.UTFMax && len(b) > 0; n++ { // a letter that is cut off at the end
			if r, k := utf8.DecodeLastRune(b); r != utf8.RuneError || k != 1 || utf8.RuneStart(b[len(b)-1]) && b[len(b)-1] < utf8.RuneSelf {
				break
			}
			b = b[:len(b)-1]
		}
		return string(bytes.ToValidUTF8(b, []byte("\ufffd")))
	}
	out, err := e.NewDecoder().Bytes(b)
	if err != nil {
		return string(bytes.ToValidUTF8(b, []byte("\ufffd")))
	}
	return string(out)
}
