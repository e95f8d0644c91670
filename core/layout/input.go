package layout

import (
	"fmt"
	"io"
	"sync"
)

// Input is the bytes that a layout reads: a file of any size, read in ranges.
type Input interface {
	Size() int64
	// Bytes returns n bytes at off. The slice must not be changed and is
	// valid for as long as the Input is.
	Bytes(off, n int64) ([]byte, error)
}

type memory []byte

// Memory is an Input over bytes that are in memory.
func Memory(b []byte) Input { return memory(b) }

func (m memory) Size() int64 { return int64(len(m)) }

func (m memory) Bytes(off, n int64) ([]byte, error) {
	if err := inRange(off, n, int64(len(m))); err != nil {
		return nil, err
	}
	return m[off : off+n : off+n], nil
}

type random struct {
	r    io.ReaderAt
	size int64
	mu   sync.Mutex
	at   int64
	page []byte
}

// Random is an Input over a file that is read where it lies. Small reads are
// served from one page, so that reading records in order costs few calls.
func Random(r io.ReaderAt, size int64) Input { return &random{r: r, size: size} }

const pageBytes = 64 << 10

func (f *random) Size() int64 { return f.size }

func (f *random) Bytes(off, n int64) ([]byte, error) {
	if err := inRange(off, n, f.size); err != nil {
		return nil, err
	}
	if n > pageBytes/4 {
		b := make([]byte, n)
		return b, f.read(b, off)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if off < f.at || off+n > f.at+int64(len(f.page)) {
		page := make([]byte, min(pageBytes, f.size-off)) // a new one: slices of the old live on
		if err := f.read(page, off); err != nil {
			return nil, err
		}
		f.at, f.page = off, page
	}
	return f.page[off-f.at : off-f.at+n : off-f.at+n], nil
}

func (f *random) read(b []byte, off int64) error {
	k, err := f.r.ReadAt(b, off)
	if k == len(b) {
		return nil
	}
	return fmt.Errorf("reading %d bytes at offset %d: %w", len(b), off, err)
}

func inRange(off, n, size int64) error {
	switch {
	case off < 0 || n < 0:
		return fmt.Errorf("a range of %d bytes at offset %d", n, off)
	case off > size || n > size-off:
		return fmt.Errorf("%d bytes at offset %d (0x%x) are wanted, and the file ends at %d (0x%x)", n, off, off, size, size)
	}
	return nil
}
