package codec

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Bits is a part of a word: Count bits from Low on.
type Bits struct{ Low, Count uint }

// LZSS is LZ77 with a flag bit before each literal or reference (Storer and
// Szymanski 1982). Flags come eight to a byte; a reference is a word of two
// bytes.
type LZSS struct {
	HighFirst bool // the first flag of a byte is its highest bit
	Literal   uint // the flag of a literal: 1 or 0
	BigEndian bool // of the reference's word
	// Where the distance and the length lie in the word; a distance in two
	// parts gives its high part first.
	Distance, Length []Bits
	MinLength        int // of the length 0
	// Window is true if the distance is a place in a window of 2^bits bytes
	// that begins to be filled at Start and holds Fill before. Otherwise it
	// counts back from where the output ends, and Nearest is what 0 means.
	Window  bool
	Start   int
	Fill    byte
	Nearest int
	// EndAt, if it is not nil, is the distance that ends the stream.
	EndAt *int
}

// Codec makes a codec of the parameters.
func (p LZSS) Codec(name string) (*Codec, error) {
	width := func(list []Bits) (n uint, err error) {
		for _, b := range list {
			if b.Count == 0 || b.Low+b.Count > 16 {
				return 0, fmt.Errorf("bits %d to %d do not lie in a word of 16", b.Low, int(b.Low+b.Count)-1)
			}
			n += b.Count
		}
		return n, nil
	}
	d, err := width(p.Distance)
	if err != nil {
		return nil, err
	}
	l, err := width(p.Length)
	if err != nil {
		return nil, err
	}
	switch {
	case d == 0 || l == 0 || d+l > 16:
		return nil, fmt.Errorf("the distance has %d bits and the length %d; both have some and together at most 16", d, l)
	case p.MinLength < 1 || p.MinLength > 256:
		return nil, fmt.Errorf("the shortest reference has %d bytes; it has 1 to 256", p.MinLength)
	case p.Literal > 1:
		return nil, errors.New("the flag of a literal is 0 or 1")
	case p.Start < 0 || p.Start >= 1<<d:
		return nil, fmt.Errorf("the window begins at %d and has %d bytes", p.Start, 1<<d)
	case !p.Window && (p.Nearest < 0 || p.Nearest > 256):
		return nil, fmt.Errorf("the nearest distance is %d; it is 0 to 256", p.Nearest)
	}
	// Nine bytes and a bit give at most eight references of the longest.
	most := int64(p.MinLength+1<<l) * 8 / 17 * 2
	return &Codec{Name: name, most: max(most, 16), into: p.into}, nil
}

func pick(v uint, list []Bits) int {
	out := uint(0)
	for _, b := range list {
		out = out<<b.Count | v>>b.Low&(1<<b.Count-1)
	}
	return int(out)
}

func (p LZSS) into(dst, src []byte) (int, error) {
	bits := uint(0)
	for _, b := range p.Distance {
		bits += b.Count
	}
	size := 1 << bits
	n := 0
	for at := 0; at < len(src); {
		flags := uint(src[at])
		at++
		for k := range uint(8) {
			if at >= len(src) {
				return n, nil
			}
			shift := k
			if p.HighFirst {
				shift = 7 - k
			}
			if flags>>shift&1 == p.Literal {
				if n == len(dst) {
					return n, beyond(len(dst))
				}
				dst[n] = src[at]
				n++
				at++
				continue
			}
			if at+2 > len(src) {
				// A whole output may be followed by bits that nobody wants.
				if n == len(dst) {
					return n, nil
				}
				return n, fmt.Errorf("ends in the middle of a reference at packed byte %d", at)
			}
			w := uint(binary.LittleEndian.Uint16(src[at:]))
			if p.BigEndian {
				w = uint(binary.BigEndian.Uint16(src[at:]))
			}
			d, l := pick(w, p.Distance), pick(w, p.Length)+p.MinLength
			if p.EndAt != nil && d == *p.EndAt {
				return n, nil
			}
			if n == len(dst) {
				// Some writers fill the last flags up with references.
				return n, nil
			}
			at += 2
			from := n - d - p.Nearest
			if p.Window {
				// The place d of the window, as far back as it was written.
				from = n - (p.Start+n-d-1)&(size-1) - 1
			} else if d+p.Nearest == 0 || from < 0 {
				return n, fmt.Errorf("a reference at packed byte %d goes back %d of %d bytes", at-2, d+p.Nearest, n)
			}
			end := n + l
			if end > len(dst) {
				return n, beyond(len(dst))
			}
			for ; n < end; n, from = n+1, from+1 {
				if from < 0 {
					dst[n] = p.Fill
				} else {
					dst[n] = dst[from]
				}
			}
		}
	}
	return n, nil
}

// RLE is run lengths by a control byte.
type RLE struct {
	// Escape, if it is not nil, begins a run: a count and the byte follow.
	// Every other byte stands for itself.
	Escape *byte
	// Otherwise a control byte has a bit, its highest, and a count below. The
	// bit says whether a run follows, of one byte, or a row of literals.
	RunBit     uint // the bit of a run: 1 or 0
	RunMin     int  // length of a run with count 0
	LiteralMin int  // length of literals with count 0
	// Negative counts run the other way: 257 minus the byte, as in PackBits
	// (TIFF 6.0, section 9); 128 is passed over.
	Negative bool
	// Unit is how many bytes are repeated at once.
	Unit int
}

// Codec makes a codec of the parameters.
func (p RLE) Codec(name string) (*Codec, error) {
	if p.Unit == 0 {
		p.Unit = 1
	}
	if p.RunBit > 1 || p.RunMin < 0 || p.RunMin > 256 || p.LiteralMin < 0 || p.LiteralMin > 256 || p.Unit < 1 || p.Unit > 16 {
		return nil, errors.New("a run's bit is 0 or 1, its shortest lengths are 0 to 256, its unit 1 to 16 bytes")
	}
	return &Codec{Name: name, most: int64(256 + p.RunMin), into: p.into}, nil
}

func (p RLE) into(dst, src []byte) (int, error) {
	n := 0
	run := func(count int, unit []byte) error {
		if n+count*len(unit) > len(dst) {
			return beyond(len(dst))
		}
		for range count {
			n += copy(dst[n:], unit)
		}
		return nil
	}
	for at := 0; at < len(src) && n < len(dst); {
		c := src[at]
		at++
		var count int
		isRun := false
		switch {
		case p.Escape != nil && c != *p.Escape:
			dst[n] = c
			n++
			continue
		case p.Escape != nil:
			if at >= len(src) {
				return n, fmt.Errorf("ends in the middle of a run at packed byte %d", at-1)
			}
			count, isRun = int(src[at])+p.RunMin, true
			at++
		case p.Negative:
			if c == 128 {
				continue
			}
			if isRun = c > 128; isRun {
				count = 257 - int(c)
			} else {
				count = int(c) + 1
			}
		default:
			isRun = uint(c>>7) == p.RunBit
			count = int(c & 127)
			if isRun {
				count += p.RunMin
			} else {
				count += p.LiteralMin
			}
		}
		take := count * p.Unit
		if isRun {
			take = p.Unit
		}
		if at+take > len(src) {
			return n, fmt.Errorf("ends in the middle of a run at packed byte %d", at-1)
		}
		if isRun {
			if err := run(count, src[at:at+take]); err != nil {
				return n, err
			}
		} else if err := run(1, src[at:at+take]); err != nil {
			return n, err
		}
		at += take
	}
	return n, nil
}

// Key undoes a key that lies over the packed bytes.
type Key struct {
	Op    string // xor, add (the key is added to get the plain byte) or sub
	Bytes []byte // repeated along the data
	// Of a key of one byte that changes: the next is this one times Mul plus
	// Inc, modulo 256. Mul 0 counts as 1.
	Mul, Inc byte
	// Feed adds the byte before, as it lies in the file, to the key.
	Feed bool
}

// Codec lays the key over another codec.
func (p Key) Codec(name string, inner *Codec) (*Codec, error) {
	if p.Op != "xor" && p.Op != "add" && p.Op != "sub" {
		return nil, fmt.Errorf("a key is laid on by xor, add or sub, not by %q", p.Op)
	}
	if len(p.Bytes) == 0 || len(p.Bytes) > 4096 {
		return nil, errors.New("a key has 1 to 4096 bytes")
	}
	if p.Mul == 0 {
		p.Mul = 1
	}
	rolling := p.Mul != 1 || p.Inc != 0
	if rolling && len(p.Bytes) != 1 {
		return nil, errors.New("a key that changes has one byte")
	}
	return &Codec{Name: name, most: inner.most, into: func(dst, src []byte) (int, error) {
		plain := make([]byte, len(src))
		k, before := p.Bytes[0], byte(0)
		for i, c := range src {
			if !rolling {
				k = p.Bytes[i%len(p.Bytes)]
			}
			key := k
			if p.Feed {
				key += before
			}
			switch p.Op {
			case "xor":
				plain[i] = c ^ key
			case "add":
				plain[i] = c + key
			default:
				plain[i] = c - key
			}
			before = c
			if rolling {
				k = k*p.Mul + p.Inc
			}
		}
		return inner.into(dst, plain)
	}}, nil
}

// Blocks is packing piece by piece. Before the pieces stands a table of their
// packed sizes, or before each its own.
type Blocks struct {
	Size      int  // bytes of a piece unpacked, but of the last
	Width     int  // bytes of a packed size: 2 or 4
	BigEndian bool // of the sizes
	Table     bool // the sizes stand together before the first piece
	// StoredIfFull says that a piece whose packed size is its unpacked one is
	// not packed.
	StoredIfFull bool
}

// Codec unpacks each piece with another codec.
func (p Blocks) Codec(name string, inner *Codec) (*Codec, error) {
	if p.Size < 1 || p.Size > 64<<20 || p.Width != 2 && p.Width != 4 {
		return nil, errors.New("a piece has 1 to 67108864 bytes and its packed size is written in 2 or 4 bytes")
	}
	return &Codec{Name: name, most: inner.most, into: func(dst, src []byte) (int, error) {
		at, n := 0, 0
		size := func(i int) (int, error) {
			if i+p.Width > len(src) {
				return 0, fmt.Errorf("ends before the size of a piece, at packed byte %d", i)
			}
			switch {
			case p.Width == 2 && p.BigEndian:
				return int(binary.BigEndian.Uint16(src[i:])), nil
			case p.Width == 2:
				return int(binary.LittleEndian.Uint16(src[i:])), nil
			case p.BigEndian:
				return int(binary.BigEndian.Uint32(src[i:])), nil
			}
			return int(binary.LittleEndian.Uint32(src[i:])), nil
		}
		pieces := (len(dst) + p.Size - 1) / p.Size
		table := 0
		if p.Table {
			at = pieces * p.Width
		}
		for i := range pieces {
			k, err := size(table)
			if !p.Table {
				k, err = size(at)
				at += p.Width
			}
			if err != nil {
				return n, err
			}
			table += p.Width
			out := dst[n:min(n+p.Size, len(dst))]
			if k > len(src)-at {
				return n, fmt.Errorf("piece %d has %d packed bytes at %d, %d are left", i, k, at, len(src)-at)
			}
			use := inner
			if p.StoredIfFull && k == len(out) {
				use = Stored
			}
			got, err := use.into(out, src[at:at+k])
			if err == nil && got != len(out) {
				err = fmt.Errorf("unpacks to %d bytes, %d are wanted", got, len(out))
			}
			n += got
			if err != nil {
				return n, fmt.Errorf("piece %d at packed byte %d: %w", i, at, err)
			}
			at += k
		}
		return n, nil
	}}, nil
}
