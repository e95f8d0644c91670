// Package codec unpacks what archives pack. Every decoder is bounded by the
// size that the archive declares: a stream that holds more, or less, is an
// error, and memory follows the bytes that really arrive.
package codec

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync"

	"excavate/core/limit"

	"github.com/klauspost/compress/zlib"
	"github.com/pierrec/lz4/v4"
)

// Name is a packing method by its usual name.
type Name string

// The methods.
const (
	Stored Name = "stored"
	Zlib   Name = "zlib" // RFC 1950
	LZ4    Name = "lz4"  // LZ4 block format, without frame
)

// Known tells whether there is a decoder for n.
func (n Name) Known() bool { return n == Stored || n == Zlib || n == LZ4 }

// CheckSizes refuses a declared size that the packed bytes cannot hold.
func CheckSizes(n Name, packed, size int64) error {
	switch {
	case packed < 0 || size < 0:
		return fmt.Errorf("declares a negative size (%d packed, %d unpacked)", packed, size)
	case size > limit.EntryBytes:
		return fmt.Errorf("declares %d bytes, more than the %d that one entry may have", size, int64(limit.EntryBytes))
	case n == Stored && packed != size:
		return fmt.Errorf("is stored as it is, yet declares %d bytes packed and %d unpacked", packed, size)
	case size > limit.ExpansionFree && size/limit.Expansion > packed:
		return fmt.Errorf("declares %d bytes from %d packed, which %s cannot reach", size, packed, n)
	}
	return nil
}

var zlibReaders sync.Pool

// Decode unpacks src, which must give exactly size bytes.
func Decode(n Name, src []byte, size int64) ([]byte, error) {
	if err := CheckSizes(n, int64(len(src)), size); err != nil {
		return nil, err
	}
	if n == Stored {
		return src, nil
	}
	dst := make([]byte, size)
	got, err := DecodeInto(n, dst, src)
	if err != nil {
		return nil, err
	}
	if int64(got) != size {
		return nil, fmt.Errorf("unpacks to %d bytes, %d declared", got, size)
	}
	return dst, nil
}

// DecodeInto unpacks src into dst and returns the bytes written. A stream
// that holds more than dst takes is an error.
func DecodeInto(n Name, dst, src []byte) (int, error) {
	switch n {
	case Stored:
		if len(src) > len(dst) {
			return 0, fmt.Errorf("holds %d bytes, %d declared", len(src), len(dst))
		}
		return copy(dst, src), nil
	case Zlib:
		r, err := zlibReader(src)
		if err != nil {
			return 0, err
		}
		defer zlibReaders.Put(r)
		got, err := io.ReadFull(r, dst)
		if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && err != io.EOF {
			return got, fmt.Errorf("zlib stream is damaged after %d bytes: %w", got, err)
		}
		if err == nil {
			var one [1]byte
			if k, err := io.ReadFull(r, one[:]); k > 0 {
				return got, fmt.Errorf("expands beyond the %d bytes declared", len(dst))
			} else if err != io.EOF {
				return got, fmt.Errorf("zlib stream is damaged at its end: %w", err)
			}
		}
		return got, nil
	case LZ4:
		got, err := lz4.UncompressBlock(src, dst)
		if err != nil {
			return 0, fmt.Errorf("lz4 block is damaged or expands beyond the %d bytes declared", len(dst))
		}
		return got, nil
	}
	return 0, fmt.Errorf("packing %q is not known", n)
}

// Head unpacks no more than the first n bytes where the method allows it.
func Head(name Name, src []byte, size int64, n int) ([]byte, error) {
	if name == Zlib {
		r, err := zlibReader(src)
		if err != nil {
			return nil, err
		}
		defer zlibReaders.Put(r)
		b := make([]byte, min(int64(n), max(size, 0)))
		k, err := io.ReadFull(r, b)
		if err != nil && k == 0 && len(b) > 0 {
			return nil, fmt.Errorf("zlib stream is damaged: %w", err)
		}
		return b[:k], nil
	}
	b, err := Decode(name, src, size)
	if err != nil {
		return nil, err
	}
	return b[:min(n, len(b))], nil
}

func zlibReader(src []byte) (io.ReadCloser, error) {
	if r, ok := zlibReaders.Get().(io.ReadCloser); ok {
		if err := r.(zlib.Resetter).Reset(bytes.NewReader(src), nil); err != nil {
			return nil, fmt.Errorf("not a zlib stream: %w", err)
		}
		return r, nil
	}
	r, err := zlib.NewReader(bytes.NewReader(src))
	if err != nil {
		return nil, fmt.Errorf("not a zlib stream: %w", err)
	}
	return r, nil
}
