package source

import "hash/maphash"

// names is a set of entry paths that is quick to fill: it holds 64-bit hashes.
// Only when two hashes meet does it look at the paths themselves.
type names struct {
	seed  maphash.Seed
	table []uint64 // 0 is free; the length is a power of two
	used  int
	exact map[string]bool
}

func newNames(n int) *names {
	size := 64
	for size < 2*n {
		size *= 2
	}
	return &names{seed: maphash.MakeSeed(), table: make([]uint64, size)}
}

// add puts a path in and returns false if it is there already. before lists
// the paths that were put in so far; it is asked for when hashes meet.
func (s *names) add(p string, before func(yield func(string))) bool {
	if s.exact != nil {
		if s.exact[p] {
			return false
		}
		s.exact[p] = true
		return true
	}
	if s.used*2 >= len(s.table) {
		old := s.table
		s.table, s.used = make([]uint64, 2*len(old)), 0
		for _, h := range old {
			if h != 0 {
				s.put(h)
			}
		}
	}
	h := maphash.String(s.seed, p)
	if h == 0 {
		h = 1
	}
	if s.put(h) {
		return true
	}
	// Met: from here on by the paths themselves.
	s.exact = make(map[string]bool, s.used+1)
	before(func(q string) { s.exact[q] = true })
	return s.add(p, before)
}

func (s *names) put(h uint64) bool {
	mask := uint64(len(s.table) - 1)
	for i := h & mask; ; i = (i + 1) & mask {
		switch s.table[i] {
		case 0:
			s.table[i] = h
			s.used++
			return true
		case h:
			return false
		}
	}
}
