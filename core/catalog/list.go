// Package catalog is the table of everything that a project's sources hold,
// in memory, for looking through as one types: search by parts of a path and
// by pattern, filters, sorting, the tree of folders, and which source wins
// for a path.
//
// A List is one source's entries; it never changes. A Catalog is several
// lists in search order. Paths lie one after another in one text, so that a
// search is one pass over memory.
package catalog

import (
	"sort"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// Entry is what is known of one entry.
type Entry struct {
	ID     int64 // of the entry in the project; stays with its path
	Path   string
	Size   int64  // bytes unpacked
	Packed int64  // bytes as stored, -1 if unknown
	Kind   string // empty while it is not known yet
	Format string
	Error  string // why it cannot be read
}

// List is the entries of one source, in its own order.
type List struct {
	paths  string // all paths, each ended by a line feed, which no path holds
	lower  string // the same, in lower case, at the same offsets
	at     []uint32
	grams  grams // of lower
	ids    []int64
	sizes  []int64
	packed []int64
	kinds  []uint16 // index into words
	forms  []uint16
	words  []string
	errs   map[int32]string

	look   sync.Once
	byPath map[string]int32 // lower-case path
}

// Builder makes a List entry by entry.
type Builder struct {
	paths, lower []byte
	l            *List
	word         map[string]uint16
}

// NewBuilder readies a builder for about n entries.
func NewBuilder(n int) *Builder {
	l := &List{at: make([]uint32, 1, n+1), ids: make([]int64, 0, n), sizes: make([]int64, 0, n), packed: make([]int64, 0, n), kinds: make([]uint16, 0, n), forms: make([]uint16, 0, n), errs: map[int32]string{}}
	return &Builder{l: l, word: map[string]uint16{}, paths: make([]byte, 0, n*40), lower: make([]byte, 0, n*40)}
}

func (b *Builder) intern(s string) uint16 {
	if k, ok := b.word[s]; ok {
		return k
	}
	if len(b.l.words) == 1<<16-1 { // more kinds and formats than can be told apart
		return b.word[""]
	}
	k := uint16(len(b.l.words))
	b.l.words = append(b.l.words, strings.Clone(s))
	b.word[s] = k
	return k
}

// Add appends an entry.
func (b *Builder) Add(e Entry) {
	l := b.l
	b.paths = append(append(b.paths, e.Path...), '\n')
	b.lower = append(appendLower(b.lower, e.Path), '\n')
	l.at = append(l.at, uint32(len(b.paths)))
	l.ids = append(l.ids, e.ID)
	l.sizes = append(l.sizes, e.Size)
	l.packed = append(l.packed, e.Packed)
	l.kinds = append(l.kinds, b.intern(e.Kind))
	l.forms = append(l.forms, b.intern(e.Format))
	if e.Error != "" {
		l.errs[int32(len(l.ids)-1)] = e.Error
	}
}

// List ends the builder.
func (b *Builder) List() *List {
	b.l.paths = string(b.paths)
	if string(b.lower) == b.l.paths {
		b.l.lower = b.l.paths
	} else {
		b.l.lower = string(b.lower)
	}
	b.l.grams = gramsOf(b.l.lower, b.l.at)
	b.paths, b.lower = nil, nil
	return b.l
}

// appendLower appends s in lower case; a letter whose lower case takes
// another number of bytes stays, so that offsets hold.
func appendLower(b []byte, s string) []byte {
	for i := 0; i < len(s); {
		c := s[i]
		if c < utf8.RuneSelf {
			if 'A' <= c && c <= 'Z' {
				c += 'a' - 'A'
			}
			b = append(b, c)
			i++
			continue
		}
		r, n := utf8.DecodeRuneInString(s[i:])
		if lo := unicode.ToLower(r); utf8.RuneLen(lo) == n && r != utf8.RuneError {
			b = utf8.AppendRune(b, lo)
		} else {
			b = append(b, s[i:i+n]...)
		}
		i += n
	}
	return b
}

// Lower is a path as searches compare it.
func Lower(s string) string { return string(appendLower(nil, s)) }

// WithKinds is the list with other kinds, formats and errors; the rest is
// shared. kinds and forms have one element an entry.
func (l *List) WithKinds(kind func(i int) (kind, format, err string)) *List {
	out := &List{paths: l.paths, lower: l.lower, grams: l.grams, at: l.at, ids: l.ids, sizes: l.sizes, packed: l.packed, kinds: make([]uint16, l.Len()), forms: make([]uint16, l.Len()), errs: map[int32]string{}}
	b := &Builder{l: out, word: map[string]uint16{}}
	for i := range out.kinds {
		k, f, e := kind(i)
		out.kinds[i], out.forms[i] = b.intern(k), b.intern(f)
		if e != "" {
			out.errs[int32(i)] = e
		}
	}
	return out
}

// Len is the number of entries.
func (l *List) Len() int { return len(l.ids) }

// Path is an entry's path.
func (l *List) Path(i int) string { return l.paths[l.at[i] : l.at[i+1]-1] }

// LowerPath is an entry's path as searches compare it.
func (l *List) LowerPath(i int) string { return l.lower[l.at[i] : l.at[i+1]-1] }

// ID is an entry's id.
func (l *List) ID(i int) int64 { return l.ids[i] }

// Size is an entry's size in bytes.
func (l *List) Size(i int) int64 { return l.sizes[i] }

// Kind is an entry's kind; empty while it is not known.
func (l *List) Kind(i int) string { return l.words[l.kinds[i]] }

// Entry is all that is known of entry i.
func (l *List) Entry(i int) Entry {
	return Entry{l.ids[i], l.Path(i), l.sizes[i], l.packed[i], l.words[l.kinds[i]], l.words[l.forms[i]], l.errs[int32(i)]}
}

// Holds returns the entry whose path is the given one, or differs from it
// only in capitals; -1 if there is none. The path must be in lower case.
func (l *List) Holds(lower string) int {
	l.look.Do(func() {
		l.byPath = make(map[string]int32, l.Len())
		for i := l.Len() - 1; i >= 0; i-- { // the first of several wins
			l.byPath[l.LowerPath(i)] = int32(i)
		}
	})
	if i, ok := l.byPath[lower]; ok {
		return int(i)
	}
	return -1
}

// row finds the entry that holds an offset of the text.
func (l *List) row(off int) int {
	return sort.Search(len(l.at)-1, func(i int) bool { return int(l.at[i+1]) > off })
}
