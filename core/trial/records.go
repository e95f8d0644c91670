package trial

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"

	"excavate/core/pixel"
)

// Column is one field of records on trial.
type Column struct {
	Type  string // u8 i8 u16 ... f64 with a count as x3, or ascii8
	At    int    // within the record
	Low   string // the smallest and the largest value seen
	High  string
	Looks string // what the values look like, with the evidence
	size  int    // of one number
	n     int
}

// Sheet is bytes read as records.
type Sheet struct {
	Stride   int
	Columns  []Column
	Rows     [][]string
	Evidence string // of the stride, where it was guessed
}

var numberSizes = map[string]int{"u8": 1, "i8": 1, "u16": 2, "i16": 2, "f16": 2, "u32": 4, "i32": 4, "f32": 4, "u64": 8, "i64": 8, "f64": 8}

// ParseColumns reads types one after another, such as "u32 f32x3 ascii8 -4
// u16"; -4 leaves four bytes out. It returns the bytes that they take.
func ParseColumns(spec string) (cols []Column, size int, err error) {
	for _, w := range strings.Fields(spec) {
		if skip, ok := strings.CutPrefix(w, "-"); ok {
			n, err := strconv.Atoi(skip)
			if err != nil || n < 1 || n > 4096 {
				return nil, 0, fmt.Errorf("%q leaves out no number of bytes: write -4 for four", w)
			}
			size += n
			continue
		}
		c := Column{Type: w, At: size, n: 1}
		if n, ok := strings.CutPrefix(w, "ascii"); ok {
			c.size = 1
			if c.n, err = strconv.Atoi(n); err != nil || c.n < 1 || c.n > 1024 {
				return nil, 0, fmt.Errorf("%q: a text has a length, such as ascii8", w)
			}
		} else {
			name, n, many := strings.Cut(w, "x")
			if c.size = numberSizes[name]; many {
				c.n, err = strconv.Atoi(n)
			}
			if c.size == 0 || err != nil || c.n < 1 || c.n > 64 {
				return nil, 0, fmt.Errorf("column %q is not known: write u8 i8 u16 i16 u32 i32 u64 i64 f16 f32 f64 with a count as in f32x3, ascii8, or -4 to leave bytes out", w)
			}
		}
		if size += c.size * c.n; size > 4096 {
			return nil, 0, fmt.Errorf("a record of more than 4096 bytes")
		}
		cols = append(cols, c)
	}
	if len(cols) == 0 {
		return nil, 0, fmt.Errorf("no column is named, such as u32 f32x3")
	}
	return cols, size, nil
}

// Spec writes columns as ParseColumns reads them; the bytes between them and
// to the stride are left out.
func Spec(cols []Column, stride int) string {
	var b strings.Builder
	at := 0
	for _, c := range cols {
		if c.At > at {
			fmt.Fprintf(&b, "-%d ", c.At-at)
		}
		b.WriteString(c.Type + " ")
		at = c.At + c.size*c.n
	}
	if stride > at {
		fmt.Fprintf(&b, "-%d", stride-at)
	}
	return strings.TrimSpace(b.String())
}

func order(big bool) binary.ByteOrder {
	if big {
		return binary.BigEndian
	}
	return binary.LittleEndian
}

// value reads one number of a column.
func (c *Column) value(b []byte, o binary.ByteOrder) float64 {
	name, _, _ := strings.Cut(c.Type, "x")
	switch name {
	case "u8":
		return float64(b[0])
	case "i8":
		return float64(int8(b[0]))
	case "u16":
		return float64(o.Uint16(b))
	case "i16":
		return float64(int16(o.Uint16(b)))
	case "u32":
		return float64(o.Uint32(b))
	case "i32":
		return float64(int32(o.Uint32(b)))
	case "u64":
		return float64(o.Uint64(b))
	case "i64":
		return float64(int64(o.Uint64(b)))
	case "f16":
		return float64(pixel.Half(o.Uint16(b)))
	case "f32":
		return float64(math.Float32frombits(o.Uint32(b)))
	}
	return math.Float64frombits(o.Uint64(b))
}

// text is one number of a column as people read it.
func (c *Column) text(b []byte, o binary.ByteOrder) string {
	switch {
	case strings.HasPrefix(c.Type, "u64"):
		return strconv.FormatUint(o.Uint64(b), 10)
	case strings.HasPrefix(c.Type, "i64"):
		return strconv.FormatInt(int64(o.Uint64(b)), 10)
	case c.Type[0] != 'f':
		return strconv.FormatInt(int64(c.value(b, o)), 10)
	}
	return strconv.FormatFloat(c.value(b, o), 'g', 7, 64)
}

// Read reads up to count records. The columns must lie within the stride.
func Read(b []byte, cols []Column, stride, count int, big bool) *Sheet {
	t := &Sheet{Stride: stride, Columns: cols}
	o := order(big)
	low, high := make([]float64, len(cols)), make([]float64, len(cols))
	for i := range cols {
		low[i], high[i] = math.Inf(1), math.Inf(-1)
	}
	for r := 0; r < count && (r+1)*stride <= len(b); r++ {
		rec := b[r*stride : (r+1)*stride]
		row := make([]string, len(cols))
		for i := range cols {
			c := &cols[i]
			if strings.HasPrefix(c.Type, "ascii") {
				s := rec[c.At : c.At+c.n]
				if z := bytes.IndexByte(s, 0); z >= 0 {
					s = s[:z]
				}
				row[i] = strings.Map(printable, string(s))
				continue
			}
			parts := make([]string, c.n)
			for k := range parts {
				f := c.value(rec[c.At+k*c.size:], o)
				parts[k] = c.text(rec[c.At+k*c.size:], o)
				low[i], high[i] = min(low[i], f), max(high[i], f)
			}
			row[i] = strings.Join(parts, ", ")
		}
		t.Rows = append(t.Rows, row)
	}
	for i := range cols {
		if !math.IsInf(low[i], 0) || !math.IsInf(high[i], 0) {
			cols[i].Low, cols[i].High = strconv.FormatFloat(low[i], 'g', 6, 64), strconv.FormatFloat(high[i], 'g', 6, 64)
		}
	}
	return t
}

func printable(r rune) rune {
	if r < 0x20 || r > 0x7e {
		return '\u00b7'
	}
	return r
}

// Columns guesses what the fields of records are, from their values.
func Columns(b []byte, stride int, big bool) []Column {
	o := order(big)
	n := min(len(b)/max(stride, 1), 512)
	var cols []Column
	if n == 0 {
		return nil
	}
	for at := 0; at < stride; {
		if k := textAt(b, at, stride, n); k >= 4 {
			cols = append(cols, Column{Type: fmt.Sprintf("ascii%d", k), At: at, size: 1, n: k, Looks: "names: letters and zeros only"})
			at += k
			continue
		}
		if at+4 <= stride {
			if share, zero := floatShare(b, at, stride, n, o); share > 0.9 && zero < n {
				run := 1
				for at+4*run+4 <= stride && run < 4 {
					if s, z := floatShare(b, at+4*run, stride, n, o); s <= 0.9 || z == n {
						break
					}
					run++
				}
				typ := "f32"
				if run > 1 {
					typ = fmt.Sprintf("f32x%d", run)
				}
				cols = append(cols, Column{Type: typ, At: at, size: 4, n: run, Looks: fmt.Sprintf("%.0f %% have the exponent of an everyday float", 100*share)})
				at += 4 * run
				continue
			}
			if at%4 == 0 || stride%4 != 0 {
				top, steady, rising, same := uint32(0), 0, 0, 0
				var last, first uint32
				for r := range n {
					v := o.Uint32(b[r*stride+at:])
					top = max(top, v)
					if r == 0 {
						first = v
					} else if v >= last {
						rising++
					}
					if v == first {
						same++
					}
					if v < 1<<24 {
						steady++
					}
					last = v
				}
				if float64(steady) > 0.95*float64(n) {
					looks := fmt.Sprintf("up to %d", top)
					switch {
					case same == n:
						looks = fmt.Sprintf("always %d", first)
					case rising == n-1:
						looks = fmt.Sprintf("rising, to %d: an offset or a running number", top)
					}
					cols = append(cols, Column{Type: "u32", At: at, size: 4, n: 1, Looks: looks})
					at += 4
					continue
				}
			}
		}
		if at+2 <= stride && (at%2 == 0 || stride%2 != 0) {
			cols = append(cols, Column{Type: "i16", At: at, size: 2, n: 1, Looks: "neither floats nor small whole numbers"})
			at += 2
			continue
		}
		cols = append(cols, Column{Type: "u8", At: at, size: 1, n: 1, Looks: "one byte"})
		at++
	}
	return cols
}

// textAt is how many bytes from at on hold letters in every record, with zeros
// only after them.
func textAt(b []byte, at, stride, n int) int {
	length := stride - at
	letters := 0
	for r := range n {
		rec := b[r*stride+at : (r+1)*stride]
		k := 0
		for k < len(rec) && rec[k] >= 0x20 && rec[k] < 0x7f {
			k++
		}
		if k < 2 {
			return 0
		}
		letters += k
		end := k
		for end < len(rec) && rec[end] == 0 {
			end++
		}
		length = min(length, end)
	}
	if letters < 3*n || n < 2 {
		return 0
	}
	if at+length < stride { // the next field begins with zeros in some records
		length = length / 4 * 4
	}
	return length
}

// floatShare is the share of values that are everyday floats, and how many
// are zero.
func floatShare(b []byte, at, stride, n int, o binary.ByteOrder) (share float64, zero int) {
	good := 0
	for r := range n {
		w := o.Uint32(b[r*stride+at:])
		if w<<1 == 0 {
			zero++
			good++
		} else if e := int(w >> 23 & 255); e >= 127-20 && e <= 127+20 {
			good++
		}
	}
	return float64(good) / float64(n), zero
}

// Records guesses the stride of records from a place on, and reads them.
func Records(b []byte, stride, count int, big bool) *Sheet {
	evidence := ""
	if stride == 0 {
		s, score, base := Stride(b[:min(len(b), 64<<10)], 256)
		if s == 0 {
			s = 16
		}
		stride = s
		evidence = fmt.Sprintf("%.0f %% of the bytes are the same %d on, %.0f %% at other distances", 100*score, s, 100*base)
	}
	stride = min(max(stride, 1), 4096)
	t := Read(b, Columns(b, stride, big), stride, count, big)
	t.Evidence = evidence
	return t
}
