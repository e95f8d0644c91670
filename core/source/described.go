package source

import (
	"context"
	"fmt"
	"io"
	"sync"

	"excavate/core/codec"
	"excavate/core/layout"
	"excavate/core/limit"

	"bytes"
)

// described is a container that a layout describes. Its entries lie in the
// file itself or in files beside it.
type described struct {
	f       *file
	entries []layout.Entry
	files   map[string]*file // those beside it, by name
}

func (s *Source) openLayout(ctx context.Context, f *file, l *layout.Layout) error {
	b := &described{f: f, files: map[string]*file{}}
	around := layout.Surroundings{Name: f.name, Open: func(name string) (layout.Input, error) {
		if f.beside == nil {
			return nil, fmt.Errorf("the file %q cannot be looked for beside it", name)
		}
		if len(b.files) >= 256 {
			return nil, fmt.Errorf("more than 256 files beside it")
		}
		c, err := f.beside(name)
		if err != nil {
			return nil, err
		}
		b.files[name] = c
		return layout.Random(c, c.size), nil
	}}
	list, err := l.Entries(ctx, layout.Random(f, f.size), around)
	if err != nil {
		b.closeBeside()
		return err
	}
	s.IsLayout = true
	b.entries = list
	s.back = b
	s.entries = make([]Entry, 0, len(list))
	s.taken = newNames(len(list))
	for i := range list {
		e := &list[i]
		if err := s.add(Entry{Size: e.Size, Packed: e.Packed, Codec: e.Codec.String(), Offset: e.Offset, Block: -1, Err: e.Err}, e.Name); err != nil {
			return err
		}
	}
	return nil
}

func (b *described) closeBeside() {
	for _, c := range b.files {
		c.Close()
	}
}

func (b *described) Close() error {
	b.closeBeside()
	return b.f.Close()
}

func (b *described) holder(i int) *file {
	if n := b.entries[i].File; n != "" {
		return b.files[n]
	}
	return b.f
}

func (b *described) section(i int) (io.ReaderAt, bool, error) {
	e := &b.entries[i]
	if e.Codec != codec.Stored {
		return nil, false, nil
	}
	return b.holder(i).section(e.Offset, e.Size), true, nil
}

var packedBuffers = sync.Pool{New: func() any { return new([]byte) }}

func (b *described) open(i int) (io.ReadCloser, error) {
	e := &b.entries[i]
	packed := b.holder(i).section(e.Offset, e.Packed)
	c := &checked{size: e.Size, hasCRC: e.HasCRC, want: e.CRC32}
	switch e.Codec {
	case codec.Stored:
		c.r = packed
		return c, nil
	case codec.Zlib, codec.Deflate:
		var err error
		c.r, c.done, err = inflate(packed, e.Codec == codec.Zlib)
		return c, err
	}
	// The others are unpacked in one piece.
	if max(e.Packed, e.Size) > limit.MemoryBytes {
		return nil, fmt.Errorf("it has %d bytes, %d packed; at most %d are unpacked in one piece with %s", e.Size, e.Packed, int64(limit.MemoryBytes), e.Codec.Name)
	}
	p := packedBuffers.Get().(*[]byte)
	defer packedBuffers.Put(p)
	if int64(cap(*p)) < e.Packed {
		*p = make([]byte, e.Packed)
	}
	src := (*p)[:e.Packed]
	if k, err := io.ReadFull(packed, src); err != nil {
		return nil, cutShort(k, len(src), err)
	}
	out, err := e.Codec.Decode(src, e.Size)
	if err != nil {
		return nil, err
	}
	c.r = bytes.NewReader(out)
	return c, nil
}
