package source

import (
	"io"
	"sync"
)

// Telling what each of very many small entries is reads some bytes of each, two
// or more times: headers, then what they hold. A call of the system for each
// costs more than all the rest. Who goes through the entries in their order says
// so (ReadAhead), and small reads that lie close together are answered out of
// blocks. Nothing is kept longer than that pass: what changes on disk is seen.

const (
	aheadBlock = 256 << 10 // bytes that are read at once
	aheadKept  = 8         // blocks; a few workers, each somewhat behind another
	aheadSmall = 16 << 10  // larger reads go to the file
)

// ahead is a reader of small pieces in about the order of the file.
type ahead struct {
	r    io.ReaderAt
	size int64

	mu     sync.Mutex
	users  int
	last   int64 // the block that was read in last
	next   int   // which slot is taken next
	blocks [aheadKept]block
}

type block struct {
	no   int64
	data []byte // nil where nothing is kept
}

// begin lets blocks be kept until end was called as often.
func (a *ahead) begin() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.users++
	a.last = -1
}

func (a *ahead) end() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.users--; a.users == 0 {
		a.blocks = [aheadKept]block{}
	}
}

// ReadAt reads from a block that is kept, or keeps one if the last small read
// was in it or beside it; a read by itself stays a read by itself.
func (a *ahead) ReadAt(p []byte, off int64) (int, error) {
	no := off / aheadBlock
	from := off - no*aheadBlock
	if off < 0 || len(p) > aheadSmall || from+int64(len(p)) > aheadBlock || off+int64(len(p)) > a.size {
		return a.r.ReadAt(p, off)
	}
	a.mu.Lock()
	if a.users == 0 {
		a.mu.Unlock()
		return a.r.ReadAt(p, off)
	}
	for i := range a.blocks {
		if b := &a.blocks[i]; b.no == no && b.data != nil {
			data := b.data
			a.mu.Unlock()
			return copy(p, data[from:]), nil
		}
	}
	near := no-a.last <= 1 && a.last-no <= 1
	a.last = no
	a.mu.Unlock()
	if !near {
		return a.r.ReadAt(p, off)
	}
	data := make([]byte, min(aheadBlock, a.size-no*aheadBlock))
	if n, err := a.r.ReadAt(data, no*aheadBlock); n < len(data) {
		if err == nil || err == io.EOF { // it is shorter than it was
			return a.r.ReadAt(p, off)
		}
		return 0, err
	}
	a.mu.Lock()
	if a.users > 0 {
		a.blocks[a.next] = block{no, data}
		a.next = (a.next + 1) % aheadKept
	}
	a.mu.Unlock()
	return copy(p, data[from:]), nil
}

// ReadAhead says that entries will be read in about their order, until what it
// returns is called.
func (s *Source) ReadAhead() (done func()) {
	if s.ahead == nil {
		return func() {}
	}
	s.ahead.begin()
	return sync.OnceFunc(s.ahead.end)
}
