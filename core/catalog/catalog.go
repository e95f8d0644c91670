package catalog

import (
	"cmp"
	"errors"
	"fmt"
	"math/bits"
	"path"
	"slices"
	"strings"
	"sync"

	"excavate/core/source"
)

// Source is one list with what the table shows of its source.
type Source struct {
	ID    int64
	Label string
	List  *List
}

// Catalog is several sources in search order: the first that holds a path
// wins. It never changes and is safe for concurrent use.
type Catalog struct {
	sources []Source
	base    []int // first row of each source; one more at the end

	mu     sync.Mutex
	orders map[string][]int32
	cache  map[string]*result
	recent []string
}

// New puts sources in search order.
func New(sources []Source) *Catalog {
	c := &Catalog{sources: sources, base: make([]int, len(sources)+1), orders: map[string][]int32{}, cache: map[string]*result{}}
	for i, s := range sources {
		c.base[i+1] = c.base[i] + s.List.Len()
	}
	return c
}

// Len is the number of entries.
func (c *Catalog) Len() int { return c.base[len(c.sources)] }

// Sources lists the sources in search order.
func (c *Catalog) Sources() []Source { return c.sources }

// Names yields the path and the kind of every entry.
func (c *Catalog) Names(yield func(path, kind string) bool) {
	for _, s := range c.sources {
		for i := range s.List.Len() {
			if !yield(s.List.Path(i), s.List.Kind(i)) {
				return
			}
		}
	}
}

// at tells the source and the place in it of a row.
func (c *Catalog) at(row int32) (s, i int) {
	for s+1 < len(c.sources) && int(row) >= c.base[s+1] {
		s++
	}
	return s, int(row) - c.base[s]
}

// Query is what to show.
type Query struct {
	Text    string // words that a path has, or a glob; capitals do not count
	Kind    string
	Source  int64
	Folder  string // only what lies below this folder
	MinSize int64  // bytes
	MaxSize int64  // bytes; 0 is no bound
	IDs     []int64
	Sort    string // order, path, size, kind; with - before it downwards
}

// Row is an entry with its place in the search order.
type Row struct {
	Entry
	Source       int64
	SourceLabel  string
	OverriddenBy string   // label of the source that wins for this path; empty if this one does
	Others       []string // labels of the sources below that hold it too
}

// Page is a part of a query's answer.
type Page struct {
	Rows    []Row
	Total   int            // entries that fit
	Bytes   int64          // unpacked, of all that fit
	Kinds   map[string]int // entries that fit but for the kind
	Sources map[int64]int  // entries that fit but for the source
}

// result is a query's answer before paging.
type result struct {
	rows    []int32
	bytes   int64
	kinds   map[string]int
	sources map[int64]int
	once    sync.Once
	err     error
}

const resultsKept = 24

// ErrSort is the error of an unknown order.
var ErrSort = errors.New("entries are sorted by order, path, size or kind, with - before it downwards")

func (q Query) key() string {
	return fmt.Sprintf("%q %q %d %q %d %d %v %s", strings.ToLower(q.Text), q.Kind, q.Source, q.Folder, q.MinSize, q.MaxSize, q.IDs, q.Sort)
}

// find answers a query; the answers of the last ones are kept.
func (c *Catalog) find(q Query) (*result, error) {
	key := q.key()
	c.mu.Lock()
	r := c.cache[key]
	if r == nil {
		r = &result{}
		c.cache[key] = r
		c.recent = append(c.recent, key)
		if len(c.recent) > resultsKept {
			delete(c.cache, c.recent[0])
			c.recent = c.recent[1:]
		}
	}
	c.mu.Unlock()
	r.once.Do(func() { r.err = c.answer(q, r) })
	return r, r.err
}

// Rows lists the rows of a query, for those who act on all of them.
func (c *Catalog) Rows(q Query) ([]int32, error) {
	r, err := c.find(q)
	if err != nil {
		return nil, err
	}
	return r.rows, nil
}

// Entry is a row's entry and its source.
func (c *Catalog) Entry(row int32) (Entry, *Source) {
	s, i := c.at(row)
	return c.sources[s].List.Entry(i), &c.sources[s]
}

// Winner returns the row that wins for a row's path: itself, or one of a
// source that is searched before it.
func (c *Catalog) Winner(row int32) int32 {
	s, i := c.at(row)
	p := c.sources[s].List.LowerPath(i)
	for k := 0; k < s; k++ {
		if j := c.sources[k].List.Holds(p); j >= 0 {
			return int32(c.base[k] + j)
		}
	}
	return row
}

// Page returns up to limit rows from offset on.
func (c *Catalog) Page(q Query, offset, limit int) (*Page, error) {
	r, err := c.find(q)
	if err != nil {
		return nil, err
	}
	p := &Page{Total: len(r.rows), Bytes: r.bytes, Kinds: r.kinds, Sources: r.sources}
	from := min(max(offset, 0), len(r.rows))
	for _, row := range r.rows[from:min(from+limit, len(r.rows))] {
		p.Rows = append(p.Rows, c.Row(row))
	}
	return p, nil
}

// Index is the place of an entry in a query's answer, -1 if it is not in it.
func (c *Catalog) Index(q Query, id int64) (int, error) {
	r, err := c.find(q)
	if err != nil {
		return -1, err
	}
	for i, row := range r.rows {
		s, k := c.at(row)
		if c.sources[s].List.ids[k] == id {
			return i, nil
		}
	}
	return -1, nil
}

// Row is all that the table shows of a row.
func (c *Catalog) Row(row int32) Row {
	s, i := c.at(row)
	l := c.sources[s].List
	out := Row{Entry: l.Entry(i), Source: c.sources[s].ID, SourceLabel: c.sources[s].Label}
	lower := l.LowerPath(i)
	for k := range c.sources {
		if k == s || c.sources[k].List.Holds(lower) < 0 {
			continue
		}
		if k < s && out.OverriddenBy == "" {
			out.OverriddenBy = c.sources[k].Label
		} else if k > s {
			out.Others = append(out.Others, c.sources[k].Label)
		}
	}
	return out
}

// set is one bit a row.
type set []uint64

func (b set) put(i int)      { b[i>>6] |= 1 << (i & 63) }
func (b set) has(i int) bool { return b[i>>6]&(1<<(i&63)) != 0 }
func (b set) count() (n int) {
	for _, w := range b {
		n += bits.OnesCount64(w)
	}
	return n
}

func (c *Catalog) answer(q Query, r *result) error {
	hits := make(set, c.Len()/64+1)
	match, err := matcher(q.Text)
	if err != nil {
		return err
	}
	folder := ""
	if q.Folder != "" {
		folder = Lower(strings.Trim(q.Folder, "/")) + "/"
	}
	var ids map[int64]bool
	if q.IDs != nil {
		ids = make(map[int64]bool, len(q.IDs))
		for _, id := range q.IDs {
			ids[id] = true
		}
	}
	r.kinds, r.sources = map[string]int{}, map[int64]int{}
	for s := range c.sources {
		src := &c.sources[s]
		l, base := src.List, c.base[s]
		byKind := make([]int, len(l.words))
		take := func(i int) {
			if q.MinSize > 0 && l.sizes[i] < q.MinSize || q.MaxSize > 0 && l.sizes[i] > q.MaxSize ||
				folder != "" && !strings.HasPrefix(l.LowerPath(i), folder) || ids != nil && !ids[l.ids[i]] {
				return
			}
			ofKind := q.Kind == "" || l.words[l.kinds[i]] == q.Kind
			if ofKind {
				r.sources[src.ID]++
			}
			if q.Source != 0 && q.Source != src.ID {
				return
			}
			byKind[l.kinds[i]]++
			if ofKind {
				hits.put(base + i)
				r.bytes += max(0, l.sizes[i])
			}
		}
		match(l, take)
		for k, n := range byKind {
			if n > 0 {
				r.kinds[l.words[k]] += n
			}
		}
	}
	name, down := strings.CutPrefix(q.Sort, "-")
	order, err := c.order(name)
	if err != nil {
		return err
	}
	r.rows = make([]int32, 0, hits.count())
	if order == nil {
		for w, b := range hits {
			for ; b != 0; b &= b - 1 {
				r.rows = append(r.rows, int32(w<<6+bits.TrailingZeros64(b)))
			}
		}
	} else {
		for _, row := range order {
			if hits.has(int(row)) {
				r.rows = append(r.rows, row)
			}
		}
	}
	if down {
		slices.Reverse(r.rows)
	}
	return nil
}

// order returns all rows in an order; nil is that of the search order.
func (c *Catalog) order(name string) ([]int32, error) {
	if name == "" || name == "order" {
		return nil, nil
	}
	c.mu.Lock()
	defer c.mu.Unlock() // a sort is made once; the others wait for it
	if o, ok := c.orders[name]; ok {
		return o, nil
	}
	rows := make([]int32, c.Len())
	lists := make([]*List, len(rows))
	for s, k := 0, 0; s < len(c.sources); s++ {
		for i := 0; i < c.sources[s].List.Len(); i++ {
			rows[k], lists[k] = int32(k), c.sources[s].List
			k++
		}
	}
	place := func(r int32) (*List, int) { _, i := c.at(r); return lists[r], i }
	switch name {
	case "path":
		slices.SortStableFunc(rows, func(a, b int32) int {
			x, i := place(a)
			y, j := place(b)
			return cmp.Compare(x.LowerPath(i), y.LowerPath(j))
		})
	case "size":
		slices.SortStableFunc(rows, func(a, b int32) int {
			x, i := place(a)
			y, j := place(b)
			return cmp.Compare(x.sizes[i], y.sizes[j])
		})
	case "kind":
		slices.SortStableFunc(rows, func(a, b int32) int {
			x, i := place(a)
			y, j := place(b)
			return cmp.Or(cmp.Compare(x.words[x.kinds[i]], y.words[y.kinds[j]]), cmp.Compare(x.words[x.forms[i]], y.words[y.forms[j]]))
		})
	default:
		return nil, fmt.Errorf("%q is not an order: %w", name, ErrSort)
	}
	c.orders[name] = rows
	return rows, nil
}

// matcher compiles a text: words that must all be in the path, or a glob. It
// calls take for every entry that fits, in order.
func matcher(text string) (func(*List, func(int)), error) {
	text = Lower(strings.TrimSpace(strings.ReplaceAll(text, "\\", "/")))
	if text == "" {
		return func(l *List, take func(int)) {
			for i := range l.ids {
				take(i)
			}
		}, nil
	}
	if strings.ContainsAny(text, "*?[{") {
		if !source.ValidPattern(text) {
			return nil, fmt.Errorf("the pattern %q is not sound: close its brackets", text)
		}
		fixed := literals(text)
		return scan(fixed, func(p string) bool {
			for _, w := range fixed { // much cheaper than the glob
				if !strings.Contains(p, w) {
					return false
				}
			}
			return source.Match(text, p)
		}), nil
	}
	words := strings.Fields(text)
	return scan(words, func(p string) bool {
		for _, w := range words {
			if !strings.Contains(p, w) {
				return false
			}
		}
		return true
	}), nil
}

// scan asks fits for every path that has the longest of some words and may
// have the others: one pass over the paths, past the blocks of rows that lack
// one of them.
func scan(words []string, fits func(string) bool) func(*List, func(int)) {
	literal, hashes := longest(words), wanted(words)
	return func(l *List, take func(int)) {
		if literal == "" {
			for i := range l.ids {
				if fits(l.LowerPath(i)) {
					take(i)
				}
			}
			return
		}
		for first := 0; first < l.Len(); {
			end := first
			for end < l.Len() && l.grams.may(end/blockRows, hashes) {
				end = min(end+blockRows, l.Len())
			}
			if end == first {
				first += blockRows
				continue
			}
			l.scan(first, end, literal, func(i int) {
				if fits(l.LowerPath(i)) {
					take(i)
				}
			})
			first = end
		}
	}
}

// scan calls found for each row of [first, end) that has the literal.
func (l *List) scan(first, end int, literal string, found func(int)) {
	row, stop := first, int(l.at[end])
	for off := int(l.at[first]); off < stop; {
		k := strings.Index(l.lower[off:stop], literal)
		if k < 0 {
			return
		}
		off += k
		if int(l.at[row+1]) <= off { // most hits lie in the row after the last, or far away
			if row++; int(l.at[row+1]) <= off {
				row = l.row(off)
			}
		}
		found(row)
		off = int(l.at[row+1])
	}
}

// literals are the parts of a glob that stand for themselves.
func literals(glob string) []string {
	var out []string
	start, depth := 0, 0
	flush := func(end int) {
		if depth == 0 && end > start {
			out = append(out, glob[start:end])
		}
	}
	for i := 0; i < len(glob); i++ {
		switch glob[i] {
		case '\\': // escapes: no literal across it
			return nil
		case '[', '{':
			flush(i)
			depth++
		case ']', '}':
			if depth > 0 {
				depth--
			}
			start = i + 1
		case '*':
			flush(i)
			// "**/" also stands for nothing
			if strings.HasPrefix(glob[i:], "**/") {
				i += 2
			}
			start = i + 1
		case '?':
			flush(i)
			start = i + 1
		}
	}
	flush(len(glob))
	for i, s := range out { // "/**" at the end stands for the folder itself too
		out[i] = strings.Trim(s, "/")
	}
	return out
}

func longest(words []string) string {
	out := ""
	for _, w := range words {
		if len(w) > len(out) {
			out = w
		}
	}
	return out
}

// Base is a path's last segment without its ending.
func Base(p string) string {
	b := path.Base(p)
	return strings.TrimSuffix(b, path.Ext(b))
}
