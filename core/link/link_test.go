package link

import (
	"fmt"
	"math/rand"
	"path"
	"reflect"
	"strings"
	"testing"

	"excavate/core/catalog"
	"excavate/core/naming"
)

func list(kind string, first int64, paths ...string) *catalog.List {
	b := catalog.NewBuilder(len(paths))
	for i, p := range paths {
		b.Add(catalog.Entry{ID: first + int64(i), Path: p, Kind: kind})
	}
	return b.List()
}

func sedgewater(pins ...Pin) *Index {
	c := catalog.New([]catalog.Source{
		{ID: 1, Label: "fixes", List: list("picture", 10, "wash/fauna/Heron_C.png")},
		{ID: 2, Label: "washes", List: list("picture", 20, "wash/fauna/heron_c.wash", "wash/fauna/heron_n.wash", "wash/props/rust_01_c.wash", "odd/lantern_glass_c.png", "wash/reed_normal.png", "wash/reed_c.png")},
		{ID: 3, Label: "texts", List: list("text", 30, "wash/fauna/heron_n.txt")},
	})
	return NewIndex(c, naming.Rules{{Where: naming.Suffix, Affix: "_c", Means: naming.Role, Value: "colour"}, {Where: naming.Suffix, Affix: "_n", Means: naming.Role, Value: "normal"}, {Where: naming.Suffix, Affix: "_normal", Means: naming.Role, Value: "normal"}}, pins)
}

func picture(e catalog.Entry) bool { return e.Kind == "picture" }

func TestResolve(t *testing.T) {
	x := sedgewater(Pin{"wash/sail.wash", "washes", "odd/lantern_glass_c.png"}, Pin{"gone", "washes", "not there"})
	for _, c := range []struct {
		ref  string
		id   int64
		how  How
		kind func(catalog.Entry) bool
	}{
		{"wash/fauna/heron_c.wash", 20, SamePath, nil}, // the very path, though another ending comes first in the order
		{"WASH\\fauna\\.\\heron_c.tga", 10, OtherEnding, nil},
		{"wash/fauna/heron_n.txt", 21, OtherEnding, picture}, // the exact one is a text
		{"props/lantern_glass_c.wash", 23, SameName, picture},
		{"wash/reed_n.wash", 24, ByRule, picture}, // a normal map, not reed_c
		{"wash/sail.wash", 23, Pinned, picture},
		{"gone", 0, Missing, nil},
		{"wash/rust_c.wash", 0, Missing, nil},
	} {
		row, how := x.Resolve(c.ref, c.kind)
		var id int64
		if row >= 0 {
			e, _ := x.c.Entry(row)
			id = e.ID
		}
		if id != c.id || how != c.how {
			t.Errorf("%s: entry %d %v, want %d %v", c.ref, id, how, c.id, c.how)
		}
	}
	near := x.Nearest("wash/rust_c.wash", picture, 3)
	if len(near) != 1 {
		t.Fatalf("nearest: %v", near)
	}
	if e, _ := x.c.Entry(near[0]); e.Path != "wash/props/rust_01_c.wash" {
		t.Errorf("nearest: %s", e.Path)
	}
	if l := x.Looked("wash/rust_c.wash"); len(l) != 4 || l[2] != "*/rust_c.*" || l[3] != `"rust" after the name rules in fixes, washes, texts` {
		t.Errorf("looked: %q", l)
	}
}

func TestGraph(t *testing.T) {
	asks := []Ask{{100, "wash/fauna/heron_c", "colour"}, {100, "rust", ""}, {101, "Rust", ""}, {101, "heron_n", "normal"}, {20, "reed_c", ""}}
	g := NewGraph(sedgewater(), asks, func(a Ask, e catalog.Entry) bool { return picture(e) })
	if f, n := g.Count(100); f != 1 || n != 2 {
		t.Errorf("%d of %d", f, n)
	}
	if !reflect.DeepEqual(g.NeededBy(21), []int64{101}) {
		t.Errorf("needed by: %v", g.NeededBy(21))
	}
	if gaps := g.Gaps(); len(gaps) != 1 || gaps[0].Ref != "rust" || len(gaps[0].Entries) != 2 {
		t.Errorf("gaps: %+v", gaps)
	}
	// 100 needs 10 (the first that has the name), 101 needs 21.
	rows, missing := g.Closure([]int64{100, 101}, func(id int64) (int32, bool) { return int32(id), id >= 100 || id < 30 })
	if !reflect.DeepEqual(rows, []int32{100, 101, 10, 21}) || !reflect.DeepEqual(missing, []string{"rust"}) {
		t.Errorf("closure: %v %v", rows, missing)
	}
}

func TestSets(t *testing.T) {
	x := sedgewater()
	sets := x.Sets([]int32{1, 5}) // heron_c.wash, reed_normal.png
	if len(sets) != 2 || sets[0].Key != "heron" || !reflect.DeepEqual(sets[0].Rows, []int32{0, 1, 2, 7}) || sets[1].Key != "reed" || len(sets[1].Rows) != 2 {
		t.Errorf("%+v", sets)
	}
	if x.Key(3) != "rust_01" || len(x.Sets([]int32{3})) != 0 {
		t.Errorf("a set of one: %q", x.Key(3))
	}
}

func BenchmarkGraph(b *testing.B) {
	bl := catalog.NewBuilder(0)
	var asks []Ask
	for i := range 200_000 {
		bl.Add(catalog.Entry{ID: int64(i), Path: fmt.Sprintf("wash/area_%03d/thing_%06d_c.wash", i%300, i), Kind: "picture"})
		if i%4 == 0 {
			asks = append(asks, Ask{int64(i), fmt.Sprintf("tex/thing_%06d_c.png", i+1), "colour"})
		}
	}
	c := catalog.New([]catalog.Source{{ID: 1, List: bl.List()}})
	b.ResetTimer()
	for range b.N {
		NewGraph(NewIndex(c, nil, nil), asks, func(Ask, catalog.Entry) bool { return true })
	}
	b.ReportMetric(float64(len(asks))*float64(b.N)/b.Elapsed().Seconds(), "links/s")
}

// plainDistance is the definition, without the table.
func plainDistance(a, b string) int {
	if a == "" || b == "" {
		return len(a) + len(b)
	}
	if a[0] == b[0] {
		return plainDistance(a[1:], b[1:])
	}
	return 1 + min(plainDistance(a[1:], b), plainDistance(a, b[1:]), plainDistance(a[1:], b[1:]))
}

func TestDistanceAgainstItsDefinition(t *testing.T) {
	words := []string{"", "a", "reed", "red", "reeds", "rust_c", "rust_01", "tide", "edit", "heron", "throne"}
	for _, a := range words {
		for _, b := range words {
			if got, want := distance(a, b), plainDistance(a, b); got != want || distance(b, a) != got {
				t.Errorf("%q to %q: %d, want %d", a, b, got, want)
			}
		}
	}
	long := strings.Repeat("x", 500)
	if d := distance(long, long+"y"); d != 0 { // names are compared by their first 64 letters
		t.Errorf("long names: %d", d)
	}
}

func TestTheNearestComeFirst(t *testing.T) {
	c := catalog.New([]catalog.Source{{ID: 1, Label: "x", List: list("picture", 1, "a/lantern_glass_c.png", "a/lantern_glas_c.png", "a/lantern_brass_c.png", "b/heron_c.png", "b/lantern.png")}})
	x := NewIndex(c, nil, nil)
	var got []string
	for _, r := range x.Nearest("tex/lantern_glass_d.tga", picture, 3) {
		e, _ := c.Entry(r)
		got = append(got, e.Path)
	}
	if want := []string{"a/lantern_glass_c.png", "a/lantern_glas_c.png", "a/lantern_brass_c.png"}; !reflect.DeepEqual(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	for _, ref := range []string{"", "q", "__", "tex/otter.png"} {
		if near := x.Nearest(ref, picture, 3); len(near) != 0 {
			t.Errorf("%q is near %v", ref, near)
		}
	}
}

// What is resolved must be what the names say, whatever the names are.
func TestResolveAgainstPlainSearch(t *testing.T) {
	r := rand.New(rand.NewSource(12))
	words := []string{"reed", "Mill", "tide", "a", "b"}
	name := func() string {
		n := words[r.Intn(len(words))]
		for range r.Intn(3) {
			n += "/" + words[r.Intn(len(words))]
		}
		return n + []string{"", ".png", ".wash", ".tga"}[r.Intn(4)]
	}
	for range 300 {
		var sources []catalog.Source
		var all []string
		for s := range 1 + r.Intn(3) {
			var paths []string
			for range r.Intn(12) {
				paths = append(paths, name())
			}
			all = append(all, paths...)
			sources = append(sources, catalog.Source{ID: int64(s), Label: fmt.Sprint(s), List: list("picture", int64(s*100), paths...)})
		}
		x := NewIndex(catalog.New(sources), nil, nil)
		for range 10 {
			ref := name()
			row, how := x.Resolve(ref, nil)
			want, wantRow := Missing, int32(-1)
			clean := strings.ToLower(ref)
			for _, way := range []struct {
				how  How
				fits func(p string) bool
			}{{SamePath, func(p string) bool { return p == clean }}, {OtherEnding, func(p string) bool { return stem(p) == stem(clean) }},
				{SameName, func(p string) bool { return path.Base(stem(p)) == path.Base(stem(clean)) }}} {
				for i, p := range all {
					if want == Missing && way.fits(strings.ToLower(p)) {
						want, wantRow = way.how, int32(i)
					}
				}
			}
			if how != want || row != wantRow {
				t.Fatalf("%q among %q: row %d %v, want %d %v", ref, all, row, how, wantRow, want)
			}
		}
	}
}
