package catalog

import (
	"fmt"
	"math/rand"
	"path"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"

	"excavate/core/source"
)

func listOf(paths ...string) *List {
	b := NewBuilder(len(paths))
	for i, p := range paths {
		kind := "data"
		if strings.HasSuffix(p, ".hull") {
			kind = "model"
		}
		b.Add(Entry{ID: int64(len(p)*1000 + i), Path: p, Size: int64(len(p)), Packed: int64(i), Kind: kind})
	}
	return b.List()
}

func village() *Catalog {
	return New([]Source{
		{1, "fixes", listOf("wash/heron_c.png", "figures/Heron.hull")},
		{2, "village", listOf("figures/heron.hull", "figures/keeper.hull", "figures-old/punt.hull", "wash/heron_c.png", "wash/heron_n.png", "licence.txt")},
		{3, "ÉTÉ", listOf("Été/Digue.hull", "figures/sub/reed.hull")},
	})
}

func names(p *Page) (out []string) {
	for _, r := range p.Rows {
		out = append(out, r.SourceLabel+":"+r.Path)
	}
	return out
}

func TestQueries(t *testing.T) {
	c := village()
	for _, q := range []struct {
		q    Query
		want []string
	}{
		{Query{Text: "HERON"}, []string{"fixes:wash/heron_c.png", "fixes:figures/Heron.hull", "village:figures/heron.hull", "village:wash/heron_c.png", "village:wash/heron_n.png"}},
		{Query{Text: "png  wash", Source: 2}, []string{"village:wash/heron_c.png", "village:wash/heron_n.png"}},
		{Query{Text: "*_n.*"}, []string{"village:wash/heron_n.png"}},
		{Query{Text: "figures/*.hull"}, []string{"fixes:figures/Heron.hull", "village:figures/heron.hull", "village:figures/keeper.hull"}},
		{Query{Text: "figures/**/*.hull", Source: 3}, []string{"ÉTÉ:figures/sub/reed.hull"}},
		{Query{Text: "été"}, []string{"ÉTÉ:Été/Digue.hull"}},
		{Query{Text: "{licence,reed}*"}, []string{"village:licence.txt", "ÉTÉ:figures/sub/reed.hull"}},
		{Query{Kind: "model", Source: 2, Sort: "-path"}, []string{"village:figures/keeper.hull", "village:figures/heron.hull", "village:figures-old/punt.hull"}},
		{Query{Folder: "Figures", Sort: "size"}, []string{"fixes:figures/Heron.hull", "village:figures/heron.hull", "village:figures/keeper.hull", "ÉTÉ:figures/sub/reed.hull"}},
		{Query{MinSize: 21}, []string{"village:figures-old/punt.hull", "ÉTÉ:figures/sub/reed.hull"}},
		{Query{MaxSize: 11}, []string{"village:licence.txt"}},
		{Query{Text: "no such"}, nil},
	} {
		p, err := c.Page(q.q, 0, 100)
		if err != nil {
			t.Fatal(err)
		}
		if got := names(p); !reflect.DeepEqual(got, q.want) || p.Total != len(q.want) {
			t.Errorf("%+v: got %q (%d), want %q", q.q, got, p.Total, q.want)
		}
	}
	if _, err := c.Page(Query{Text: "[a"}, 0, 1); err == nil || !strings.Contains(err.Error(), "[a") {
		t.Errorf("an unsound pattern gives %v", err)
	}
	if _, err := c.Page(Query{Sort: "colour"}, 0, 1); err == nil {
		t.Error("an unknown order is taken")
	}
}

func TestSearchOrder(t *testing.T) {
	c := village()
	p, err := c.Page(Query{Text: "heron", Sort: "order"}, 0, 10)
	if err != nil {
		t.Fatal(err)
	}
	if r := p.Rows[0]; r.OverriddenBy != "" || !reflect.DeepEqual(r.Others, []string{"village"}) {
		t.Errorf("the winner: %+v", r)
	}
	if r := p.Rows[2]; r.OverriddenBy != "fixes" { // capitals do not count
		t.Errorf("figures/heron.hull: %+v", r)
	}
	rows, _ := c.Rows(Query{Text: "heron"})
	if w := c.Winner(rows[3]); w != rows[0] {
		t.Errorf("winner of wash/heron_c.png is row %d, want %d", w, rows[0])
	}
	if p.Kinds["model"] != 2 || p.Sources[1] != 2 || p.Sources[2] != 3 {
		t.Errorf("facets: %v %v", p.Kinds, p.Sources)
	}
	if i, _ := c.Index(Query{Text: "heron"}, p.Rows[3].ID); i != 3 {
		t.Errorf("index of the fourth is %d", i)
	}
}

func TestOutline(t *testing.T) {
	c := village()
	open := map[string]bool{"figures": true}
	show := func(q Query, off, n int) (out []string, total int) {
		rows, total, err := c.Outline(q, func(f string) bool { return open[strings.ToLower(f)] }, off, n)
		if err != nil {
			t.Fatal(err)
		}
		for _, b := range rows {
			if b.Row != nil {
				out = append(out, fmt.Sprintf("%d %s", b.Depth, b.Name))
			} else {
				out = append(out, fmt.Sprintf("%d %s/ %d", b.Depth, b.Name, b.Entries))
			}
		}
		return out, total
	}
	got, n := show(Query{}, 0, 100)
	want := []string{"0 figures-old/ 1", "0 figures/ 4", "1 sub/ 1", "1 Heron.hull", "1 heron.hull", "1 keeper.hull", "0 wash/ 3", "0 Été/ 1", "0 licence.txt"}
	if !reflect.DeepEqual(got, want) || n != len(want) {
		t.Errorf("got %q, want %q", got, want)
	}
	if part, n := show(Query{}, 3, 2); !reflect.DeepEqual(part, want[3:5]) || n != len(want) {
		t.Errorf("a part: %q of %d", part, n)
	}
	if got, _ := show(Query{Text: "_n"}, 0, 9); !reflect.DeepEqual(got, []string{"0 wash/ 1"}) {
		t.Errorf("filtered: %q", got)
	}
}

// The fast search must find what a plain one does.
func TestSearchAgainstPlain(t *testing.T) {
	r := rand.New(rand.NewSource(5))
	seg := func() string { return []string{"reed", "Punt", "tide_c", "mill", "ÄU", "a", "lantern_n"}[r.Intn(7)] }
	for range 200 {
		var paths []string
		for range r.Intn(400) {
			p := seg()
			for range r.Intn(3) {
				p += "/" + seg()
			}
			paths = append(paths, p)
		}
		c := New([]Source{{1, "x", listOf(paths...)}})
		for _, q := range []string{"e", "punt a", "*_c", "**/mill", "äu/*", "t?de*", "{mill,reed}/**", "l/", "[pt]*"} {
			p, err := c.Page(Query{Text: q}, 0, 1000)
			if err != nil {
				t.Fatal(err)
			}
			var want []string
			for _, x := range paths {
				lower, fits := strings.ToLower(x), true
				if strings.ContainsAny(q, "*?[{") {
					fits = source.Match(q, lower)
				} else {
					for _, w := range strings.Fields(q) {
						fits = fits && strings.Contains(lower, w)
					}
				}
				if fits {
					want = append(want, "x:"+x)
				}
			}
			if got := names(p); !slices.Equal(got, want) {
				t.Fatalf("%q in %q: got %q, want %q", q, paths, got, want)
			}
		}
	}
}

func large(n int) *Catalog {
	b := NewBuilder(n)
	kinds := []string{"model", "picture", "data", "text"}
	for i := range n {
		b.Add(Entry{ID: int64(i), Path: fmt.Sprintf("area_%03d/%s/thing_%06d_%c.wash", i%400, []string{"props", "fauna", "houses"}[i%3], i, "cnsg"[i%4]), Size: int64(i * 7 % 100003), Kind: kinds[i%4]})
	}
	return New([]Source{{1, "a", b.List()}})
}

func BenchmarkSearch(b *testing.B) {
	c := large(200_000)
	c.order("path")
	for _, q := range []string{"", "fauna", "thing_1999", "*_c.*", "area_1*/**/*_n.wash"} {
		b.Run(path.Base("q="+strings.ReplaceAll(q, "/", "|")), func(b *testing.B) {
			for range b.N {
				var r result
				if err := c.answer(Query{Text: q, Sort: "path"}, &r); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(c.Len())*float64(b.N)/b.Elapsed().Seconds(), "entries/s")
		})
	}
}

func BenchmarkOutline(b *testing.B) {
	c := large(200_000)
	for range b.N {
		c.Outline(Query{}, func(string) bool { return true }, 100_000, 200)
	}
}

// node is a folder of the plain tree that outlines are held against.
type node struct {
	name    string
	folders map[string]*node
	files   []string
	entries int
}

func (n *node) put(path []string) {
	n.entries++
	if len(path) == 1 {
		n.files = append(n.files, path[0])
		return
	}
	if n.folders == nil {
		n.folders = map[string]*node{}
	}
	f := n.folders[path[0]]
	if f == nil {
		f = &node{name: path[0]}
		n.folders[path[0]] = f
	}
	f.put(path[1:])
}

func (n *node) lines(depth int, at string, open func(string) bool) (out []string) {
	var names []string
	for k := range n.folders {
		names = append(names, k)
	}
	// By the bytes of "name/": that is how paths sort.
	slices.SortFunc(names, func(a, b string) int { return strings.Compare(a+"/", b+"/") })
	for _, k := range names {
		f := n.folders[k]
		out = append(out, fmt.Sprintf("%d %s/ %d", depth, k, f.entries))
		if open(at + k) {
			out = append(out, f.lines(depth+1, at+k+"/", open)...)
		}
	}
	slices.Sort(n.files)
	for _, f := range n.files {
		out = append(out, fmt.Sprintf("%d %s", depth, f))
	}
	return out
}

// The outline must be the tree that plain code makes of the same paths, in
// whole and in any part.
func TestOutlineAgainstAPlainTree(t *testing.T) {
	r := rand.New(rand.NewSource(11))
	words := []string{"reed", "reed-bed", "mill", "a", "z", "tide.d"}
	for range 150 {
		used := map[string]bool{}
		root := &node{}
		var paths []string
		for range r.Intn(50) {
			p := words[r.Intn(len(words))]
			for range r.Intn(4) {
				p += "/" + words[r.Intn(len(words))]
			}
			p += fmt.Sprintf("/f%02d", r.Intn(40))
			if used[p] {
				continue
			}
			used[p] = true
			paths = append(paths, p)
			root.put(strings.Split(p, "/"))
		}
		opened := map[string]bool{}
		open := func(f string) bool {
			if _, ok := opened[f]; !ok {
				opened[f] = r.Intn(3) > 0
			}
			return opened[f]
		}
		want := root.lines(0, "", open)
		c := New([]Source{{1, "x", listOf(paths...)}})
		show := func(list []Branch) (out []string) {
			for _, b := range list {
				if b.Row != nil {
					out = append(out, fmt.Sprintf("%d %s", b.Depth, b.Name))
				} else {
					out = append(out, fmt.Sprintf("%d %s/ %d", b.Depth, b.Name, b.Entries))
				}
			}
			return out
		}
		all, n, err := c.Outline(Query{}, open, 0, 10_000)
		if err != nil || !slices.Equal(show(all), want) || n != len(want) {
			t.Fatalf("of %q\ngot  %q\nwant %q", paths, show(all), want)
		}
		from, some := r.Intn(len(want)+1), r.Intn(12)
		part, n, _ := c.Outline(Query{}, open, from, some)
		if got, want := show(part), want[from:min(from+some, len(want))]; !slices.Equal(got, want) || n != len(all) {
			t.Fatalf("%d lines from %d: %q, want %q", some, from, got, want)
		}
	}
}

func TestListsShareAndKeep(t *testing.T) {
	l := listOf("a/Heron.hull", "b/reed.txt")
	m := l.WithKinds(func(i int) (string, string, string) {
		return "picture", fmt.Sprint("png", i), []string{"", "broken"}[i]
	})
	if l.Kind(0) != "model" || m.Kind(0) != "picture" || m.Entry(1).Error != "broken" || m.Entry(1).Format != "png1" || m.Path(0) != "a/Heron.hull" || m.ID(1) != l.ID(1) || m.Size(1) != l.Size(1) {
		t.Errorf("%+v %+v", l.Entry(0), m.Entry(1))
	}
	if m.Holds("a/heron.hull") != 0 || m.Holds("nothing") != -1 {
		t.Error("what it holds")
	}
	if got := Lower("ÄÖÜ ẞ İ A"); strings.Contains(got, "A") || len(got) != len("ÄÖÜ ẞ İ A") { // offsets must hold
		t.Errorf("%q", got)
	}
	c := New([]Source{{1, "x", l}, {2, "y", listOf("b/READ.txt")}})
	var names []string
	c.Names(func(p, k string) bool { names = append(names, p); return len(names) < 2 })
	if len(names) != 2 || c.Len() != 3 || len(c.Sources()) != 2 {
		t.Errorf("%q of %d", names, c.Len())
	}
}

// Many ask at once while answers fall out of the cache.
func TestManyAskAtOnce(t *testing.T) {
	c := large(5000)
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := range 60 {
				q := Query{Text: fmt.Sprintf("%02d", (w*7+i)%90), Sort: []string{"path", "-size", "kind", ""}[i%4]}
				p, err := c.Page(q, 0, 5)
				if err != nil || p.Total == 0 || len(p.Rows) == 0 || !strings.Contains(p.Rows[0].Path, q.Text) {
					t.Errorf("%+v: %v, %v", q, p, err)
				}
			}
		})
	}
	wg.Wait()
}
