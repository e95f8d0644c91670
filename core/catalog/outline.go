package catalog

import (
	"sort"
	"strings"
)

// Branch is one visible line of the tree: a folder, or an entry.
type Branch struct {
	Depth   int
	Name    string // last segment
	Folder  string // path of the folder; empty for an entry
	Open    bool
	Entries int   // below a folder
	Bytes   int64 // below a folder, unpacked
	Row     *Row  // of an entry
}

// Outline returns up to limit lines of the tree of what fits a query, from
// offset on, and how many lines there are. open tells which folders are open.
// Folders come before entries, both by name.
func (c *Catalog) Outline(q Query, open func(folder string) bool, offset, limit int) ([]Branch, int, error) {
	q.Sort = "path"
	r, err := c.find(q)
	if err != nil {
		return nil, 0, err
	}
	w := walk{c: c, rows: r.rows, open: open, from: max(offset, 0), to: max(offset, 0) + limit}
	w.below("", 0, len(r.rows), 0)
	return w.out, w.n, nil
}

type walk struct {
	c        *Catalog
	rows     []int32
	open     func(string) bool
	n        int // lines so far
	from, to int
	out      []Branch
}

func (w *walk) path(k int) (lower, full string) {
	s, i := w.c.at(w.rows[k])
	l := w.c.sources[s].List
	return l.LowerPath(i), l.Path(i)
}

func (w *walk) emit(b func() Branch) {
	if w.n >= w.from && w.n < w.to {
		w.out = append(w.out, b())
	}
	w.n++
}

// below walks rows lo to hi, which all begin with the lower-case prefix.
func (w *walk) below(prefix string, lo, hi, depth int) {
	var files []int
	for k := lo; k < hi; {
		lower, full := w.path(k)
		rest := lower[len(prefix):]
		slash := strings.IndexByte(rest, '/')
		if slash < 0 {
			files = append(files, k)
			k++
			continue
		}
		dir := lower[:len(prefix)+slash+1]
		end := k + sort.Search(hi-k, func(i int) bool {
			p, _ := w.path(k + i)
			return !strings.HasPrefix(p, dir)
		})
		folder := full[:len(dir)-1]
		isOpen := w.open(folder)
		from := k
		w.emit(func() Branch {
			b := Branch{Depth: depth, Name: full[len(prefix) : len(dir)-1], Folder: folder, Open: isOpen, Entries: end - from}
			for i := from; i < end; i++ {
				s, j := w.c.at(w.rows[i])
				b.Bytes += max(0, w.c.sources[s].List.sizes[j])
			}
			return b
		})
		if isOpen {
			w.below(dir, k, end, depth+1)
		}
		k = end
	}
	for _, k := range files {
		w.emit(func() Branch {
			row := w.c.Row(w.rows[k])
			return Branch{Depth: depth, Name: row.Path[len(prefix):], Row: &row}
		})
	}
}
