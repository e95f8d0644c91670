package find

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"excavate/core/layout"
	"excavate/core/limit"
	"excavate/core/source"
)

// Coverage is what a layout makes of all entries that it recognises.
type Coverage struct {
	Entries, Opened, Failed int
	Bytes, Explained        int64
	Faults                  []Fault // most frequent first
	Gaps                    []Gap   // longest first
	Worst                   []Gap   // entries of which the least is explained; Size is what is explained
}

// Fault is one reason for which entries failed, with the first of them.
type Fault struct {
	Count     int
	Message   string
	Line, Col int
	At        int64 // in that entry; -1 if no byte is at fault
	Place
}

// Gap is bytes of an entry that nothing explains.
type Gap struct {
	Place
	At, Size, Whole int64
}

// Place is an entry of a stack.
type Place struct{ Source, Entry int }

// listed bounds what a coverage names.
const listed = 100

// Cover reads every entry of a stack that a layout recognises. finder finds
// what they ask for; told hears how far it is.
func (l *Library) Cover(ctx context.Context, lay *layout.Layout, stack source.Stack, finder Finder, told func(done, total int)) (*Coverage, error) {
	out := &Coverage{}
	var mu sync.Mutex
	done, total := 0, 0
	for _, s := range stack {
		total += len(s.Entries())
	}
	faults := map[string]int{}
	for si, s := range stack {
		entries := s.Entries()
		err := each(ctx, len(entries), func(i int) {
			x, size, ok := l.coverOne(ctx, lay, s, i, finder)
			mu.Lock()
			defer mu.Unlock()
			if done++; told != nil && done%64 == 0 {
				told(done, total)
			}
			if !ok {
				return
			}
			at := Place{si, i}
			out.Entries++
			out.Bytes += size
			out.Explained += x.Covered
			if x.Err == nil {
				out.Opened++
			} else {
				out.Failed++
				f := Fault{Count: 1, Message: x.Err.Error(), At: -1, Place: at}
				var le *layout.Error
				if errors.As(x.Err, &le) {
					f.Message, f.Line, f.Col = le.Msg, le.Line, le.Col
					if le.HasOffset {
						f.At = le.Offset
					}
				}
				key := fmt.Sprint(f.Line, ":", f.Col)
				if f.Line == 0 {
					key = f.Message
				}
				if k, ok := faults[key]; ok {
					out.Faults[k].Count++
				} else if len(out.Faults) < listed {
					faults[key] = len(out.Faults)
					out.Faults = append(out.Faults, f)
				}
			}
			out.Worst = append(out.Worst, Gap{at, 0, x.Covered, size})
			for _, g := range x.Gaps {
				out.Gaps = append(out.Gaps, Gap{at, g.Off, g.Size, size})
			}
			if len(out.Gaps) > 64*listed {
				out.trim()
			}
		})
		if err != nil {
			return nil, err
		}
	}
	out.trim()
	slices.SortStableFunc(out.Faults, func(a, b Fault) int { return b.Count - a.Count })
	if told != nil {
		told(total, total)
	}
	return out, ctx.Err()
}

func (c *Coverage) trim() {
	slices.SortFunc(c.Gaps, func(a, b Gap) int {
		if a.Size != b.Size {
			return int(max(-1, min(1, b.Size-a.Size)))
		}
		return a.order(b)
	})
	c.Gaps = c.Gaps[:min(len(c.Gaps), listed)]
	share := func(g Gap) float64 { return float64(g.Size) / float64(max(g.Whole, 1)) }
	slices.SortFunc(c.Worst, func(a, b Gap) int {
		if x, y := share(a), share(b); x != y {
			if x < y {
				return -1
			}
			return 1
		}
		return a.order(b)
	})
	c.Worst = c.Worst[:min(len(c.Worst), listed)]
}

func (g Gap) order(h Gap) int {
	if g.Source != h.Source {
		return g.Source - h.Source
	}
	if g.Entry != h.Entry {
		return g.Entry - h.Entry
	}
	return int(max(-1, min(1, g.At-h.At)))
}

func (l *Library) coverOne(ctx context.Context, lay *layout.Layout, s *source.Source, i int, finder Finder) (*layout.Explained, int64, bool) {
	head, err := s.Head(i, layout.HeadBytes)
	if err != nil || !lay.Recognises(head) {
		return nil, 0, false
	}
	e := &s.Entries()[i]
	if e.Size > limit.MemoryBytes {
		return &layout.Explained{Err: fmt.Errorf("it has %d bytes; at most %d are read at once", e.Size, int64(limit.MemoryBytes))}, e.Size, true
	}
	data, err := s.Read(i)
	if err != nil {
		return &layout.Explained{Err: err}, e.Size, true
	}
	x := lay.Explain(ctx, layout.Memory(data), l.Around(Input{Name: e.Path, From: s.Label, Finder: finder}), -1)
	return x, int64(len(data)), true
}
