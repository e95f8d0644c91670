package source

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
)

// counted counts the reads that reach the file.
type counted struct {
	bytes.Reader
	mu    sync.Mutex
	reads int
}

func (c *counted) ReadAt(p []byte, off int64) (int, error) {
	c.mu.Lock()
	c.reads++
	c.mu.Unlock()
	return c.Reader.ReadAt(p, off)
}

// Whatever is read while reading ahead is what the file has there, by several
// readers at once, within blocks and across their edges, to the end and beyond.
func TestReadAheadReadsTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	data := make([]byte, 3*aheadBlock+777)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	c := &counted{Reader: *bytes.NewReader(data)}
	a := &ahead{r: c, size: int64(len(data))}
	a.begin()
	var wg sync.WaitGroup
	for k := range 4 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(k), 7))
			at := int64(0)
			for range 5000 {
				if r.IntN(50) == 0 {
					at = r.Int64N(int64(len(data)) + 100)
				}
				p := make([]byte, r.IntN(200))
				n, err := a.ReadAt(p, at)
				want := make([]byte, len(p))
				m, wantErr := c.Reader.ReadAt(want, at)
				if n != m || (err == nil) != (wantErr == nil) || !bytes.Equal(p[:n], want[:m]) {
					t.Errorf("%d bytes at %d: %d %v, not %d %v", len(p), at, n, err, m, wantErr)
					return
				}
				at += int64(n) + r.Int64N(60)
			}
		})
	}
	wg.Wait()
	a.end()
	for i := range a.blocks {
		if a.blocks[i].data != nil {
			t.Error("blocks are kept after the pass")
		}
	}
}

// Small reads in order are few reads of the file; one by itself, and all
// without a pass, are as they are.
func TestReadAheadReadsSeldom(t *testing.T) {
	data := make([]byte, 8*aheadBlock)
	c := &counted{Reader: *bytes.NewReader(data)}
	a := &ahead{r: c, size: int64(len(data))}
	pass := func() int {
		c.reads = 0
		p := make([]byte, 64)
		for at := int64(0); at+64 < a.size; at += 300 {
			if _, err := a.ReadAt(p, at); err != nil {
				t.Fatal(err)
			}
		}
		return c.reads
	}
	if n, all := pass(), int(a.size/300); n < all-1 {
		t.Errorf("without a pass: %d reads for %d", n, all)
	}
	a.begin()
	if n := pass(); n > 8+9*3 { // a block each, and those that lie across an edge
		t.Errorf("in a pass: %d reads", n)
	}
	a.begin()
	a.end()
	c.reads = 0
	a.ReadAt(make([]byte, 10), 5*aheadBlock+3)
	a.ReadAt(make([]byte, 10), 2*aheadBlock+3)
	a.ReadAt(make([]byte, aheadSmall+1), 0)
	a.end()
	if a.users != 0 || a.blocks[3].data != nil {
		t.Errorf("%d users", a.users)
	}
}

// What changes on disk during a pass is an error or the new bytes once it ends;
// a file that became shorter is never read as what it was.
func TestReadAheadOfAFileThatShrinks(t *testing.T) {
	p := filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(p, make([]byte, 2*aheadBlock), 0o644); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(p)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	a := &ahead{r: f, size: 2 * aheadBlock}
	a.begin()
	defer a.end()
	if err := os.Truncate(p, 100); err != nil {
		t.Fatal(err)
	}
	b := make([]byte, 50)
	if n, err := a.ReadAt(b, 0); n != 50 || err != nil {
		t.Errorf("what is left: %d %v", n, err)
	}
	if n, err := a.ReadAt(b, 90); n != 10 || err != io.EOF {
		t.Errorf("beyond its new end: %d %v", n, err)
	}
}

// A source may be read ahead by several at once, and a folder has nothing to
// read ahead.
func TestReadAheadOfSources(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(context.Background(), dir, Options{})
	if err != nil {
		t.Fatal(err)
	}
	s.ReadAhead()()
	if err := os.WriteFile(filepath.Join(dir, "plain"), []byte("reed"), 0o644); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(context.Background(), filepath.Join(dir, "plain"), Options{}); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	first, second := s.ReadAhead(), s.ReadAhead()
	first()
	first() // once is enough
	if s.ahead.users != 1 {
		t.Errorf("%d users", s.ahead.users)
	}
	second()
	if s.ahead.users != 0 {
		t.Errorf("%d users", s.ahead.users)
	}
}
