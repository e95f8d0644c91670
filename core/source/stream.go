package source

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// checked streams an entry and holds it against what its directory declares.
type checked struct {
	r      io.Reader
	done   func()
	size   int64 // declared
	got    int64
	hasCRC bool
	want   uint32
	crc    uint32
	err    error
}

func (c *checked) Read(p []byte) (int, error) {
	if c.err != nil {
		return 0, c.err
	}
	n, err := c.r.Read(p)
	if over := c.got + int64(n) - c.size; over > 0 {
		c.err = fmt.Errorf("expands beyond the %d bytes declared", c.size)
		return 0, c.err
	}
	c.got += int64(n)
	if c.hasCRC {
		c.crc = crc32.Update(c.crc, crc32.IEEETable, p[:n])
	}
	switch {
	case err == io.EOF && c.got < c.size:
		err = fmt.Errorf("unpacks to %d bytes, %d declared", c.got, c.size)
	case err == io.EOF && c.hasCRC && c.crc != c.want:
		err = fmt.Errorf("its CRC-32 is %08x, the directory says %08x: the bytes are damaged", c.crc, c.want)
	case err != nil && err != io.EOF:
		err = fmt.Errorf("its packed bytes are damaged after %d unpacked bytes: %w", c.got, err)
	}
	c.err = err
	return n, err
}

func (c *checked) Close() error {
	if c.done != nil {
		c.done()
		c.done = nil
	}
	if c.err == nil {
		c.err = errors.New("it is closed")
	}
	return nil
}

// inflater is a decompressor with its input buffer, used again and again: a
// new one costs more than unpacking a small entry.
type inflater struct {
	in    *bufio.Reader
	whole bytes.Reader // of a small entry, over buf: quicker than in
	buf   []byte
	z     io.ReadCloser // flate or zlib
}

// wholeBytes is the packed size up to which an entry is read in one piece.
const wholeBytes = 256 << 10

var inflaters, zlibInflaters sync.Pool

// inflate unpacks a raw deflate stream (RFC 1951), or a zlib stream (RFC
// 1950). done gives the decompressor back.
func inflate(src *io.SectionReader, isZlib bool) (r io.Reader, done func(), err error) {
	pool := &inflaters
	if isZlib {
		pool = &zlibInflaters
	}
	d, _ := pool.Get().(*inflater)
	if d == nil {
		d = &inflater{}
	}
	var in io.Reader
	if n := src.Size(); n <= wholeBytes {
		if int64(cap(d.buf)) < n {
			d.buf = make([]byte, n, max(n, 16<<10))
		}
		d.buf = d.buf[:n]
		if k, err := io.ReadFull(src, d.buf); err != nil {
			return nil, nil, cutShort(k, int(n), err)
		}
		d.whole.Reset(d.buf)
		in = &d.whole
	} else {
		if d.in == nil {
			d.in = bufio.NewReaderSize(src, 64<<10)
		} else {
			d.in.Reset(src)
		}
		in = d.in
	}
	switch {
	case d.z == nil && isZlib:
		d.z, err = zlib.NewReader(in)
	case d.z == nil:
		d.z = flate.NewReader(in)
	case isZlib:
		err = d.z.(zlib.Resetter).Reset(in, nil)
	default:
		err = d.z.(flate.Resetter).Reset(in, nil)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("not a zlib stream: %w", err)
	}
	return d.z, func() {
		if d.in != nil {
			d.in.Reset(nil)
		}
		pool.Put(d)
	}, nil
}

// decompress unpacks a stream of one of the common methods. done may be nil.
func decompress(method string, src *io.SectionReader) (r io.Reader, done func(), err error) {
	switch method {
	case "deflate":
		return inflate(src, false)
	case "zlib":
		return inflate(src, true)
	case "bzip2":
		return bzip2.NewReader(bufio.NewReaderSize(src, 64<<10)), nil, nil
	case "xz":
		r, err := xz.ReaderConfig{DictCap: 8 << 20}.NewReader(bufio.NewReaderSize(src, 64<<10))
		return r, nil, err
	case "zstd":
		// RFC 8878 recommends to support windows of 8 MiB; what other tools
		// write at their highest levels has up to 128 MiB.
		d, err := zstd.NewReader(src, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20), zstd.WithDecoderLowmem(true))
		if err != nil {
			return nil, nil, err
		}
		return d, d.Close, nil
	}
	return nil, nil, fmt.Errorf("its packing %q is not known", method)
}
