package format

import (
	"bytes"
	"slices"
)

// Files that were written on a machine whose language has decimal commas say
// 1,5 for one and a half. Taken for a separator, the comma makes two numbers
// of one, and nobody is told.

// CommasNote is said of a file whose decimal commas were read.
const CommasNote = "the numbers have decimal commas, as in 1,5; they were read as points"

// decimal tells whether a word is a number with at most one comma in it, and
// how many digits follow that.
func decimal(w []byte) (digits int, ok bool) {
	i := 0
	if i < len(w) && (w[i] == '-' || w[i] == '+') {
		i++
	}
	from, comma := i, -1
	for ; i < len(w); i++ {
		switch c := w[i]; {
		case c-'0' < 10:
		case c == ',' && comma < 0:
			comma = i
		case (c == 'e' || c == 'E') && i > from:
			if exp := w[i+1:]; len(bytes.Trim(bytes.TrimLeft(exp, "+-"), "0123456789")) > 0 || len(exp) == 0 {
				return 0, false
			}
			if comma < 0 {
				return 0, true
			}
			return i - comma - 1, i > comma+1
		default:
			return 0, false
		}
	}
	if comma < 0 {
		return 0, i > from
	}
	return len(w) - comma - 1, comma+1 < len(w) && comma > from
}

// DecimalCommas reads decimal commas in the lines of a text whose numbers are
// set apart by blanks: lines that begin with one of the words, or with a number
// where bare is set, and hold numbers only. A text without any comes back as it
// is; lines says how many lines were changed.
func DecimalCommas(b []byte, bare bool, words ...string) (out []byte, lines int) {
	if bytes.IndexByte(b, ',') < 0 {
		return b, 0
	}
	out = b
	at := 0
	for line := range bytes.Lines(b) {
		from := at
		at += len(line)
		if bytes.IndexByte(line, ',') < 0 {
			continue
		}
		all := bytes.Fields(line)
		f := all
		for len(f) > 0 && slices.ContainsFunc(words, func(w string) bool { return bytes.EqualFold(f[0], []byte(w)) }) {
			f = f[1:]
		}
		if len(f) == 0 || len(f) == len(all) && !bare {
			continue
		}
		if slices.ContainsFunc(f, func(w []byte) bool { _, ok := decimal(w); return !ok }) {
			continue
		}
		if lines++; lines == 1 {
			out = bytes.Clone(b)
		}
		for i, c := range line {
			if c == ',' {
				out[from+i] = '.'
			}
		}
	}
	return out, lines
}

// CommaNumbers reads decimal commas in a list of numbers of a format in which a
// comma may also stand between two: only where nothing else is likely. No
// number has a point, half of them have one comma each, and the digits behind
// it are those of a fraction: three or more, or a leading zero.
func CommaNumbers(b []byte) (out []byte, changed bool) {
	if bytes.IndexByte(b, ',') < 0 || bytes.IndexByte(b, '.') >= 0 {
		return b, false
	}
	words, with, telling := 0, 0, false
	for w := range bytes.FieldsSeq(b) {
		n, ok := decimal(w)
		if !ok {
			return b, false
		}
		words++
		if n > 0 {
			with++
			k := bytes.IndexByte(w, ',')
			telling = telling || n >= 3 || n == 2 && w[k+1] == '0'
		}
	}
	if !telling || 2*with < words {
		return b, false
	}
	return bytes.ReplaceAll(b, []byte(","), []byte(".")), true
}
