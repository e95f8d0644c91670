package obj

import (
	"runtime"
	"sync"

	"excavate/core/format/corner"
	"excavate/core/parallel"
)

// A file's lines are read in one place and its faces are built in another, so
// that two cores can work on it: what the lines say of faces goes over in
// batches.

// batch is a number of faces, lines and points, in the file's order.
type batch struct {
	shapes  []shape
	corners []corner.Ref
	src     corner.Source // as far as it was read; what is there does not change
}

// shape is one of them.
type shape struct {
	part    *corner.Part
	corners int
	smooth  int // the smoothing group of a face
	kind    kind
}

type kind uint8

const (
	kindFace kind = iota
	kindLine
	kindPoints
)

// batchCorners is how many corners a batch has, and some more.
const batchCorners = 1 << 12

func (b *batch) build() {
	rest := b.corners
	for _, s := range b.shapes {
		c := rest[:s.corners]
		rest = rest[s.corners:]
		if s.kind == kindFace {
			s.part.Face(&b.src, c, s.smooth)
			continue
		}
		for i := range c {
			c[i].N = corner.None
			v := s.part.Vertex(c[i])
			switch {
			case s.kind == kindPoints:
				s.part.Points = append(s.part.Points, v)
			case i > 0:
				s.part.Lines = append(s.part.Lines, s.part.Vertex(c[i-1]), v)
			}
		}
	}
	b.shapes, b.corners = b.shapes[:0], b.corners[:0]
}

// builder takes batches.
type builder struct {
	full, empty chan *batch // nil where there is nothing to gain
	done        sync.WaitGroup
	panic       parallel.Panic
}

func newBuilder(bytes int) *builder {
	b := &builder{}
	if bytes < 1<<16 || runtime.GOMAXPROCS(0) == 1 {
		return b
	}
	const ahead = 4
	b.full, b.empty = make(chan *batch, ahead), make(chan *batch, ahead+1)
	for range ahead + 1 {
		b.empty <- &batch{}
	}
	b.done.Go(func() {
		for full := range b.full {
			func() {
				defer b.panic.Keep()
				full.build()
			}()
			b.empty <- full
		}
	})
	return b
}

// swap hands a batch over and returns an empty one.
func (b *builder) swap(full *batch) *batch {
	if b.full == nil {
		full.build()
		return full
	}
	b.full <- full
	return <-b.empty
}

// wait returns when all that was handed over is built.
func (b *builder) wait() {
	if b.full != nil {
		close(b.full)
		b.done.Wait()
		b.panic.Pass()
	}
}
