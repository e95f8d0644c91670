// Package codec unpacks what archives pack. Every decoder is bounded by the
// size that the archive declares: a stream that holds more, or less, is an
// error, and memory follows the bytes that really arrive.
//
// Besides the usual methods there are families that games build their own
// of, given by parameters: LZ77 with flag bits (LZSS), run lengths, keys, and
// packing block by block.
package codec

import (
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"sync"

	"excavate/core/limit"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz/lzma"
)

// Codec is one packing method, with its parameters. It is immutable.
type Codec struct {
	Name string
	// into unpacks src into dst and returns the bytes written. A stream that
	// holds more than dst takes is an error.
	into func(dst, src []byte) (int, error)
	most int64 // bytes that one packed byte can become; 0: see limit.Expansion
}

// The usual methods.
var (
	Stored  = &Codec{Name: "stored", most: 1, into: stored}
	Zlib    = &Codec{Name: "zlib", into: stream(zlibReader)}       // RFC 1950
	Deflate = &Codec{Name: "deflate", into: stream(deflateReader)} // RFC 1951, without a header
	Gzip    = &Codec{Name: "gzip", into: stream(gzipReader)}       // RFC 1952
	LZ4     = &Codec{Name: "lz4", into: lz4Block}                  // block format, without a frame
	LZ4File = &Codec{Name: "lz4-frame", into: stream(lz4Reader)}
	Zstd    = &Codec{Name: "zstd", into: stream(zstdReader), most: 1 << 20} // RFC 8878
	LZMA    = &Codec{Name: "lzma", into: stream(lzmaReader), most: 1 << 20} // with the header of 13 bytes
	Bzip2   = &Codec{Name: "bzip2", into: stream(bzip2Reader), most: 1 << 18}
)

var named = map[string]*Codec{}

func init() {
	for _, c := range []*Codec{Stored, Zlib, Deflate, Gzip, LZ4, LZ4File, Zstd, LZMA, Bzip2} {
		named[c.Name] = c
	}
}

// String is the method's name, empty for a method that is not known (nil).
func (c *Codec) String() string {
	if c == nil {
		return ""
	}
	return c.Name
}

// Named returns one of the usual methods, nil if there is none of that name.
func Named(name string) *Codec { return named[name] }

// Names lists the usual methods.
func Names() []string {
	var out []string
	for n := range named {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

// CheckSizes refuses a declared size that the packed bytes cannot hold.
func CheckSizes(c *Codec, packed, size int64) error {
	most := c.most
	if most == 0 {
		most = limit.Expansion
	}
	switch {
	case packed < 0 || size < 0:
		return fmt.Errorf("declares a negative size (%d packed, %d unpacked)", packed, size)
	case size > limit.EntryBytes:
		return fmt.Errorf("declares %d bytes, more than the %d that one entry may have", size, int64(limit.EntryBytes))
	case c == Stored && packed != size:
		return fmt.Errorf("is stored as it is, yet declares %d bytes packed and %d unpacked", packed, size)
	case size > limit.ExpansionFree && size/most > packed:
		return fmt.Errorf("declares %d bytes from %d packed, which %s cannot reach", size, packed, c.Name)
	}
	return nil
}

// Decode unpacks src, which must give exactly size bytes.
func (c *Codec) Decode(src []byte, size int64) ([]byte, error) {
	if err := CheckSizes(c, int64(len(src)), size); err != nil {
		return nil, err
	}
	if c == Stored {
		return src, nil
	}
	if size > limit.MemoryBytes {
		return nil, fmt.Errorf("has %d bytes, at most %d are unpacked in one piece with %s", size, int64(limit.MemoryBytes), c.Name)
	}
	dst := make([]byte, size)
	got, err := c.into(dst, src)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.Name, err)
	}
	if int64(got) != size {
		return nil, fmt.Errorf("%s: unpacks to %d bytes, %d declared", c.Name, got, size)
	}
	return dst, nil
}

// Try unpacks as much of src as a size takes, without knowing how long it
// really is: the bytes that came out, and what stopped it. It is for looking
// at unknown data.
func (c *Codec) Try(src []byte, most int) ([]byte, error) {
	dst := make([]byte, min(most, limit.MemoryBytes))
	n, err := c.into(dst, src)
	return dst[:max(0, min(n, len(dst)))], err
}

func beyond(n int) error { return fmt.Errorf("expands beyond the %d bytes declared", n) }

func stored(dst, src []byte) (int, error) {
	if len(src) > len(dst) {
		return copy(dst, src), beyond(len(dst))
	}
	return copy(dst, src), nil
}

// stream unpacks with a reader; free gives it back.
func stream(open func(src []byte) (r io.Reader, free func(), err error)) func(dst, src []byte) (int, error) {
	return func(dst, src []byte) (int, error) {
		r, free, err := open(src)
		if err != nil {
			return 0, fmt.Errorf("it does not begin like such a stream: %w", err)
		}
		defer free()
		got, err := io.ReadFull(r, dst)
		if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && err != io.EOF {
			return got, fmt.Errorf("stream is damaged after %d bytes: %w", got, err)
		}
		if err == nil {
			var one [1]byte
			if k, err := io.ReadFull(r, one[:]); k > 0 {
				return got, beyond(len(dst))
			} else if err != io.EOF {
				return got, fmt.Errorf("stream is damaged at its end: %w", err)
			}
		}
		return got, nil
	}
}

func none() {}

var zlibs, flates, gzips, zstds sync.Pool

func zlibReader(src []byte) (io.Reader, func(), error) {
	if r, ok := zlibs.Get().(io.ReadCloser); ok {
		if err := r.(zlib.Resetter).Reset(bytes.NewReader(src), nil); err != nil {
			return nil, nil, err
		}
		return r, func() { zlibs.Put(r) }, nil
	}
	r, err := zlib.NewReader(bytes.NewReader(src))
	return r, func() { zlibs.Put(r) }, err
}

func deflateReader(src []byte) (io.Reader, func(), error) {
	if r, ok := flates.Get().(io.ReadCloser); ok {
		err := r.(flate.Resetter).Reset(bytes.NewReader(src), nil)
		return r, func() { flates.Put(r) }, err
	}
	r := flate.NewReader(bytes.NewReader(src))
	return r, func() { flates.Put(r) }, nil
}

func gzipReader(src []byte) (io.Reader, func(), error) {
	if r, ok := gzips.Get().(*gzip.Reader); ok {
		err := r.Reset(bytes.NewReader(src))
		return r, func() { gzips.Put(r) }, err
	}
	r, err := gzip.NewReader(bytes.NewReader(src))
	return r, func() { gzips.Put(r) }, err
}

func lz4Reader(src []byte) (io.Reader, func(), error) {
	return lz4.NewReader(bytes.NewReader(src)), none, nil
}

func zstdReader(src []byte) (io.Reader, func(), error) {
	if r, ok := zstds.Get().(*zstd.Decoder); ok {
		err := r.Reset(bytes.NewReader(src))
		return r, func() { zstds.Put(r) }, err
	}
	r, err := zstd.NewReader(bytes.NewReader(src), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(limit.MemoryBytes), zstd.WithDecoderMaxWindow(256<<20))
	return r, func() { zstds.Put(r) }, err
}

// mostDictionary bounds the memory that an LZMA header asks for.
const mostDictionary = 256 << 20

func lzmaReader(src []byte) (io.Reader, func(), error) {
	if len(src) < 13 {
		return nil, nil, io.ErrUnexpectedEOF
	}
	if d := uint32(src[1]) | uint32(src[2])<<8 | uint32(src[3])<<16 | uint32(src[4])<<24; d > mostDictionary {
		return nil, nil, fmt.Errorf("it asks for a dictionary of %d bytes, at most %d are given", d, mostDictionary)
	}
	r, err := lzma.NewReader(bytes.NewReader(src))
	return r, none, err
}

func bzip2Reader(src []byte) (io.Reader, func(), error) {
	return bzip2.NewReader(bytes.NewReader(src)), none, nil
}

func lz4Block(dst, src []byte) (int, error) {
	got, err := lz4.UncompressBlock(src, dst)
	if err != nil {
		return 0, fmt.Errorf("block is damaged or expands beyond the %d bytes declared", len(dst))
	}
	return got, nil
}

// UnknownName says that there is no such method, and which there are.
func UnknownName(name string) error {
	return fmt.Errorf("codec %q is not known; known are %s, and those under codecs", name, strings.Join(Names(), ", "))
}
