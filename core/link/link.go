// Package link finds what entries ask for. A model names its pictures, and
// the name rarely is the whole truth: the picture lies in another archive,
// has another ending, or another folder, or is named after a rule. An Index
// resolves names through a whole catalog and says how, and how surely; a
// Graph does so for everything that a project's entries ask for, both ways.
package link

import (
	"cmp"
	"fmt"
	"hash/maphash"
	"path"
	"slices"
	"sort"
	"strings"

	"excavate/core/catalog"
	"excavate/core/naming"
)

// How a name was resolved, surest first.
type How uint8

// The ways.
const (
	Missing     How = iota
	Pinned          // by hand
	SamePath        // the very path, capitals aside
	OtherEnding     // the same path with another ending
	SameName        // the same name in another folder
	ByRule          // the same name once the name rules' affixes are off
)

func (h How) String() string {
	return [...]string{"not found", "pinned by hand", "same path", "same path, other ending", "same name elsewhere", "by name rule"}[h]
}

// Sure says how far to trust it.
func (h How) Sure() string {
	return [...]string{"", "certain", "certain", "likely", "possible", "possible"}[h]
}

// Index resolves names through a catalog.
type Index struct {
	c     *catalog.Catalog
	rules naming.Rules
	pins  map[string]int32
	stems table
	names table
	keys  table
	key   []string // of each row: the name without the rules' affixes
	seed  maphash.Seed
}

// table is rows by the hash of a name, sorted by hash, then by row.
type table []slot

type slot struct {
	hash uint64
	row  int32
}

func (t table) rows(hash uint64, each func(row int32) bool) {
	i := sort.Search(len(t), func(i int) bool { return t[i].hash >= hash })
	for ; i < len(t) && t[i].hash == hash; i++ {
		if !each(t[i].row) {
			return
		}
	}
}

// Pin is a link that was made by hand: what a name stands for.
type Pin struct{ Ref, SourceLabel, Path string }

// NewIndex readies a catalog for resolving.
func NewIndex(c *catalog.Catalog, rules naming.Rules, pins []Pin) *Index {
	n := c.Len()
	x := &Index{c: c, rules: rules, pins: map[string]int32{}, stems: make(table, 0, n), names: make(table, 0, n), keys: make(table, 0, n), key: make([]string, 0, n), seed: maphash.MakeSeed()}
	row := int32(0)
	for _, s := range c.Sources() {
		for i := range s.List.Len() {
			st := stem(s.List.LowerPath(i))
			x.stems = append(x.stems, slot{maphash.String(x.seed, st), row})
			x.names = append(x.names, slot{maphash.String(x.seed, path.Base(st)), row})
			k := rules.Read(s.List.LowerPath(i)).Key
			x.key = append(x.key, k)
			x.keys = append(x.keys, slot{maphash.String(x.seed, k), row})
			row++
		}
	}
	for _, t := range []table{x.stems, x.names, x.keys} {
		slices.SortFunc(t, func(a, b slot) int { return cmp.Or(cmp.Compare(a.hash, b.hash), cmp.Compare(a.row, b.row)) })
	}
	for _, p := range pins {
		base := int32(0)
		for _, s := range c.Sources() {
			if s.Label == p.SourceLabel {
				if i := s.List.Holds(catalog.Lower(p.Path)); i >= 0 {
					x.pins[Clean(p.Ref)] = base + int32(i)
				}
			}
			base += int32(s.List.Len())
		}
	}
	return x
}

// Clean is a name as links compare it: in lower case, with / between
// segments, without . and .. segments.
func Clean(ref string) string {
	return strings.TrimPrefix(path.Clean("/"+catalog.Lower(strings.ReplaceAll(ref, "\\", "/"))), "/")
}

func stem(p string) string { return strings.TrimSuffix(p, path.Ext(p)) }

// Resolve finds what a name stands for: what it is pinned to, or the first in
// search order of the surest way. accept says whether an entry is of the kind
// that is wanted; nil takes all.
func (x *Index) Resolve(ref string, accept func(e catalog.Entry) bool) (row int32, how How) {
	clean := Clean(ref)
	if row, ok := x.pins[clean]; ok {
		return row, Pinned
	}
	st := stem(clean)
	row = -1
	want := func(fits func(lower string) bool) func(int32) bool {
		return func(r int32) bool {
			e, _ := x.c.Entry(r)
			if fits(catalog.Lower(e.Path)) && (accept == nil || accept(e)) {
				row = r
				return false
			}
			return true
		}
	}
	h := maphash.String(x.seed, st)
	if x.stems.rows(h, want(func(p string) bool { return p == clean })); row >= 0 {
		return row, SamePath
	}
	if x.stems.rows(h, want(func(p string) bool { return stem(p) == st })); row >= 0 {
		return row, OtherEnding
	}
	base := path.Base(st)
	if x.names.rows(maphash.String(x.seed, base), want(func(p string) bool { return path.Base(stem(p)) == base })); row >= 0 {
		return row, SameName
	}
	if len(x.rules) > 0 {
		mine := x.rules.Read(base + ".x")
		x.keys.rows(maphash.String(x.seed, mine.Key), want(func(p string) bool {
			other := x.rules.Read(p)
			if other.Key != mine.Key {
				return false
			}
			// What both say must agree: a normal map is no colour.
			for k, v := range mine.Values {
				if o, ok := other.Values[k]; ok && o != v {
					return false
				}
			}
			return true
		}))
		if row >= 0 {
			return row, ByRule
		}
	}
	return -1, Missing
}

// Looked says where a name was looked for, for people.
func (x *Index) Looked(ref string) []string {
	clean := Clean(ref)
	st := stem(clean)
	where := "no source is mounted"
	if n := len(x.c.Sources()); n > 4 {
		where = fmt.Sprintf("in %d sources", n)
	} else if n > 0 {
		var labels []string
		for _, s := range x.c.Sources() {
			labels = append(labels, s.Label)
		}
		where = "in " + strings.Join(labels, ", ")
	}
	out := []string{clean, st + ".*", "*/" + path.Base(st) + ".*"}
	if len(x.rules) > 0 {
		out = append(out, fmt.Sprintf("%q after the name rules", x.rules.Read(path.Base(clean)).Key))
	}
	out[len(out)-1] += " " + where
	return out
}

// Key is the name of the set that a row belongs to.
func (x *Index) Key(row int32) string { return x.key[row] }

// Set lists the rows of a set, in search order.
func (x *Index) Set(key string) (rows []int32) {
	x.keys.rows(maphash.String(x.seed, key), func(r int32) bool {
		if x.key[r] == key {
			rows = append(rows, r)
		}
		return true
	})
	return rows
}

// Set of entries that are one thing by their names.
type Set struct {
	Key  string
	Rows []int32
}

// Sets lists the sets of two and more that any of the rows belongs to, whole,
// by name.
func (x *Index) Sets(rows []int32) []Set {
	seen := map[string]bool{}
	var all []Set
	for _, r := range rows {
		k := x.key[r]
		if k == "" || seen[k] {
			continue
		}
		seen[k] = true
		if members := x.Set(k); len(members) > 1 {
			all = append(all, Set{k, members})
		}
	}
	slices.SortFunc(all, func(a, b Set) int { return cmp.Compare(a.Key, b.Key) })
	return all
}

const nearCandidates = 4000

// Nearest proposes entries whose names are most like a missing one.
func (x *Index) Nearest(ref string, accept func(e catalog.Entry) bool, most int) []int32 {
	base := path.Base(stem(Clean(ref)))
	words := strings.FieldsFunc(base, func(r rune) bool { return r == '_' || r == '-' || r == '.' || r == ' ' })
	slices.SortFunc(words, func(a, b string) int { return cmp.Compare(len(b), len(a)) })
	type near struct {
		row  int32
		cost int
	}
	var list []near
	for _, w := range words {
		if len(w) < 3 {
			break
		}
		rows, err := x.c.Rows(catalog.Query{Text: "*" + w + "*"})
		if err != nil {
			continue
		}
		for _, r := range rows[:min(len(rows), nearCandidates)] {
			e, _ := x.c.Entry(r)
			if accept != nil && !accept(e) {
				continue
			}
			name := path.Base(stem(catalog.Lower(e.Path)))
			if d := distance(base, name); d*2 <= max(len(base), len(name)) {
				list = append(list, near{r, d})
			}
		}
		if len(list) > 0 {
			break
		}
	}
	slices.SortStableFunc(list, func(a, b near) int { return cmp.Compare(a.cost, b.cost) })
	var out []int32
	for _, n := range list[:min(len(list), most)] {
		out = append(out, n.row)
	}
	return out
}

// distance is the number of letters to add, take or change between two names
// (Levenshtein 1966).
func distance(a, b string) int {
	a, b = a[:min(len(a), 64)], b[:min(len(b), 64)]
	var row [65]int
	for j := range len(b) + 1 {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diag := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diag
			if a[i-1] != b[j-1] {
				cost++
			}
			diag = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}

// Ask is one name that an entry asks for.
type Ask struct {
	Entry int64 // id
	Ref   string
	Role  string // what it is for; a picture's role, or empty
}

// Link is an Ask with its answer.
type Link struct {
	Ask
	Row int32 // -1 if nothing was found
	How How
}

// Gap is a name that was not found, with who asks for it.
type Gap struct {
	Ref     string
	Entries []int64
}

// Graph is every link of a catalog.
type Graph struct {
	*Index
	needs map[int64][]Link
	by    map[int64][]int64 // ids of the entries that need an entry
	gaps  []Gap
}

// NewGraph resolves all asks. accept says what an ask takes.
func NewGraph(x *Index, asks []Ask, accept func(a Ask, e catalog.Entry) bool) *Graph {
	g := &Graph{Index: x, needs: map[int64][]Link{}, by: map[int64][]int64{}}
	type answer struct {
		row int32
		how How
	}
	known := map[[2]string]answer{}
	gaps := map[string]int{}
	for _, a := range asks {
		key := [2]string{Clean(a.Ref), a.Role}
		ans, ok := known[key]
		if !ok {
			ans.row, ans.how = x.Resolve(a.Ref, func(e catalog.Entry) bool { return accept(a, e) })
			known[key] = ans
		}
		g.needs[a.Entry] = append(g.needs[a.Entry], Link{a, ans.row, ans.how})
		if ans.row >= 0 {
			e, _ := x.c.Entry(ans.row)
			if list := g.by[e.ID]; len(list) == 0 || list[len(list)-1] != a.Entry {
				g.by[e.ID] = append(list, a.Entry)
			}
			continue
		}
		k, ok := gaps[key[0]]
		if !ok {
			k = len(g.gaps)
			gaps[key[0]] = k
			g.gaps = append(g.gaps, Gap{Ref: a.Ref})
		}
		if list := g.gaps[k].Entries; len(list) == 0 || list[len(list)-1] != a.Entry {
			g.gaps[k].Entries = append(list, a.Entry)
		}
	}
	slices.SortStableFunc(g.gaps, func(a, b Gap) int { return cmp.Compare(len(b.Entries), len(a.Entries)) })
	return g
}

// Needs lists what an entry asks for.
func (g *Graph) Needs(id int64) []Link { return g.needs[id] }

// NeededBy lists the entries that ask for an entry.
func (g *Graph) NeededBy(id int64) []int64 { return g.by[id] }

// Gaps lists what was not found, that which most ask for first.
func (g *Graph) Gaps() []Gap { return g.gaps }

// Count tells how many of an entry's needs were found.
func (g *Graph) Count(id int64) (found, all int) {
	for _, l := range g.needs[id] {
		if all++; l.Row >= 0 {
			found++
		}
	}
	return found, all
}

// Closure lists an entry with all that it needs, and all that those need.
func (g *Graph) Closure(ids []int64, rowOf func(id int64) (int32, bool)) (rows []int32, missing []string) {
	seen := map[int64]bool{}
	lost := map[string]bool{}
	for todo := slices.Clone(ids); len(todo) > 0; {
		id := todo[0]
		todo = todo[1:]
		if seen[id] {
			continue
		}
		seen[id] = true
		row, ok := rowOf(id)
		if !ok {
			continue
		}
		rows = append(rows, row)
		for _, l := range g.needs[id] {
			if l.Row < 0 {
				if key := Clean(l.Ref); !lost[key] {
					lost[key] = true
					missing = append(missing, l.Ref)
				}
				continue
			}
			e, _ := g.c.Entry(l.Row)
			todo = append(todo, e.ID)
		}
	}
	return rows, missing
}
