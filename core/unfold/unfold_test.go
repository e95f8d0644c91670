package unfold

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand"
	"slices"
	"strconv"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// thing is a scene of one part, Y up.
func thing(p scene.Part) *scene.Scene {
	p.Material = 0
	n := scene.NewNode("thing")
	n.Mesh = 0
	return &scene.Scene{Name: "weir <1>", Basis: geom.GLTF, Nodes: []scene.Node{n},
		Meshes:    []scene.Mesh{{Parts: []scene.Part{p}}},
		Materials: []scene.Material{scene.NewMaterial("card")}}
}

// grid is a surface over a square of cells, at places that a function gives.
func grid(nu, nv int, at func(u, v float64) geom.Vec3) (p scene.Part) {
	for i := range nu + 1 {
		for j := range nv + 1 {
			q := at(float64(i)/float64(nu), float64(j)/float64(nv))
			p.Positions = append(p.Positions, float32(q[0]), float32(q[1]), float32(q[2]))
		}
	}
	for i := range nu {
		for j := range nv {
			a := uint32(i*(nv+1) + j)
			b, c, d := a+uint32(nv)+1, a+uint32(nv)+2, a+1
			p.Triangles = append(p.Triangles, a, b, c, a, c, d)
		}
	}
	return p
}

// boxPart is a box of two triangles a side, outward.
func boxPart(x, y, z float64) (p scene.Part) {
	size := geom.Vec3{x, y, z}
	for k := range 3 {
		for s := range 2 {
			side := grid(1, 1, func(u, v float64) (q geom.Vec3) {
				if s == 0 {
					u, v = v, u
				}
				q[k], q[(k+1)%3], q[(k+2)%3] = float64(s), u, v
				return geom.Vec3{q[0] * size[0], q[1] * size[1], q[2] * size[2]}
			})
			p = plus(p, side)
		}
	}
	return p
}

func plus(p, o scene.Part) scene.Part {
	first := uint32(p.Vertices())
	p.Positions = append(slices.Clone(p.Positions), o.Positions...)
	p.Triangles = slices.Clone(p.Triangles)
	for _, v := range o.Triangles {
		p.Triangles = append(p.Triangles, first+v)
	}
	return p
}

func ball(n int) scene.Part {
	return grid(2*n, n, func(u, v float64) geom.Vec3 {
		if u == 1 {
			u = 0
		}
		a, b := -2*math.Pi*u, math.Pi*v
		return geom.Vec3{math.Sin(b) * math.Cos(a), math.Cos(b), math.Sin(b) * math.Sin(a)}
	})
}

func ring(n int) scene.Part {
	return grid(2*n, n, func(u, v float64) geom.Vec3 {
		a, b := 2*math.Pi*math.Mod(u, 1), 2*math.Pi*math.Mod(v, 1)
		r := 2 + math.Cos(b)
		return geom.Vec3{r * math.Cos(a), math.Sin(b), r * math.Sin(a)}
	})
}

// bumpy is a sheet with hills, open all round.
func bumpy(r *rand.Rand, n int) scene.Part {
	h := make([]float64, (n+1)*(n+1))
	for i := range h {
		h[i] = 0.15 * r.Float64()
	}
	return grid(n, n, func(u, v float64) geom.Vec3 {
		return geom.Vec3{u, h[int(math.Round(u*float64(n)))*(n+1)+int(math.Round(v*float64(n)))], v}
	})
}

func of(t *testing.T, s *scene.Scene, o Options) *Sheet {
	t.Helper()
	sh, err := Of(t.Context(), s, o)
	if err != nil {
		t.Fatal(err)
	}
	check(t, sh)
	return sh
}

// check holds a sheet to all that must be true of any.
func check(t *testing.T, sh *Sheet) {
	t.Helper()
	foldBack(t, sh)
	within(t, sh)
	apart(t, sh)
	mates(t, sh)
}

// foldBack folds every piece along its lines by their angles, from a facet that
// lies where it does in the model: every corner of the others must come to where
// it was, within 0.05 mm.
func foldBack(t *testing.T, sh *Sheet) {
	t.Helper()
	m := sh.model
	area := 0.0
	for i := range sh.Pieces {
		p := &sh.Pieces[i]
		flat := map[int]map[int32]Point{} // by facet and place
		for _, f := range p.Faces {
			flat[f.Facet] = map[int32]Point{}
			for _, x := range f.triangles {
				for k, v := range m.Triangles[x.of].At {
					flat[f.Facet][v] = x.corners[k]
				}
				area -= turn(x.corners[0], x.corners[1], x.corners[2]) / 2 // pages count down
			}
		}
		frames := map[int]frame{}
		first := p.Faces[0]
		frames[first.Facet] = frameOf(m, &first.triangles[0])
		for range p.Faces {
			for _, l := range p.Lines {
				if l.Kind == Cut {
					continue
				}
				e := &sh.Edges[l.Edge]
				from, to := e.Facets[0], e.Facets[1]
				angle := l.Angle
				a, b := l.A, l.B
				if _, ok := frames[from]; !ok {
					from, to = to, from
					a, b = b, a
				}
				f, ok := frames[from]
				if _, done := frames[to]; !ok || done {
					continue
				}
				frames[to] = f.folded(a, b, angle)
			}
		}
		for facet, at := range flat {
			f, ok := frames[facet]
			if !ok {
				t.Fatalf("facet %d of piece %d does not hang on the others", facet, i)
			}
			for v, q := range at {
				if d := f.lift(q).Sub(m.Places[v]).Len(); d > 0.05 {
					t.Fatalf("facet %d of piece %d is off by %.3f mm when folded back", facet, i, d)
				}
			}
		}
	}
	if want := m.Area(); math.Abs(area-want) > 1e-4*want {
		t.Errorf("the pieces have %.2f mm², the model %.2f", area, want)
	}
}

// frame is where the page's plane comes to lie in space: the page's origin, its
// right and its down.
type frame struct{ at, right, down geom.Vec3 }

func (f frame) lift(p Point) geom.Vec3 { return f.at.Add(f.right.Mul(p[0])).Add(f.down.Mul(p[1])) }

// folded is the frame of what lies to the right of a line from a to b, which
// seen on the page has the frame's own facet to its left: it is turned about the
// line, away from whoever looks at it.
func (f frame) folded(a, b Point, degrees float64) frame {
	from := f.lift(a)
	axis := f.lift(b).Sub(from).Norm()
	q := geom.AxisAngle(axis, degrees*math.Pi/180)
	return frame{from.Add(q.Rotate(f.at.Sub(from))), q.Rotate(f.right), q.Rotate(f.down)}
}

// frameOf solves the three corners of a triangle for the frame.
func frameOf(m *model, x *flatTriangle) frame {
	c := &m.Triangles[x.of]
	a, b, d := m.Places[c.At[0]], m.Places[c.At[1]], m.Places[c.At[2]]
	p, q := x.corners[1].sub(x.corners[0]), x.corners[2].sub(x.corners[0])
	det := p.cross(q)
	u, v := b.Sub(a), d.Sub(a)
	right := u.Mul(q[1] / det).Sub(v.Mul(p[1] / det))
	down := v.Mul(p[0] / det).Sub(u.Mul(q[0] / det))
	return frame{a.Sub(right.Mul(x.corners[0][0])).Sub(down.Mul(x.corners[0][1])), right, down}
}

// within: nothing lies beyond a page's margins.
func within(t *testing.T, sh *Sheet) {
	t.Helper()
	o := &sh.Options
	for i := range sh.Pieces {
		if p := sh.Pieces[i].Page; p < 0 || p >= sh.Pages {
			t.Errorf("piece %d lies on page %d of %d", i, p, sh.Pages)
		}
		sh.Pieces[i].points(func(q *Point) {
			if q[0] < o.Margin-1e-6 || q[1] < o.Margin-1e-6 || q[0] > o.Paper.Width-o.Margin+1e-6 ||
				q[1] > o.Paper.Height-o.Margin-footer+1e-6 {
				t.Fatalf("piece %d reaches %v", i, *q)
			}
		})
	}
}

// apart: no spot of a page is covered twice, by faces or tabs. Rows of spots
// three to the millimetre are filled by the crossings of outlines, which shares
// nothing with how overlaps are avoided.
func apart(t *testing.T, sh *Sheet) {
	t.Helper()
	const per = 3
	w := int(sh.Options.Paper.Width * per)
	for page := range sh.Pages {
		covered := make([]int, w*int(sh.Options.Paper.Height*per))
		for i := range sh.Pieces {
			if sh.Pieces[i].Page != page {
				continue
			}
			var shapes [][][]Point
			for _, f := range sh.Pieces[i].Faces {
				shapes = append(shapes, f.Outlines)
			}
			for _, x := range sh.Pieces[i].Tabs {
				shapes = append(shapes, [][]Point{x.Corners[:]})
			}
			for _, outlines := range shapes {
				for _, at := range spots(outlines, per) {
					k := at[1]*w + at[0]
					if before := covered[k]; before > 0 {
						t.Fatalf("page %d: %.1f, %.1f mm is covered by piece %d and by piece %d", page,
							float64(at[0])/per, float64(at[1])/per, before-1, i)
					}
					covered[k] = i + 1
				}
			}
		}
	}
}

// spots are those within outlines but for a hair at their edges.
func spots(outlines [][]Point, per float64) (out [][2]int) {
	low, high := math.Inf(1), math.Inf(-1)
	for _, o := range outlines {
		for _, p := range o {
			low, high = min(low, p[1]), max(high, p[1])
		}
	}
	for row := int(low * per); row <= int(high*per); row++ {
		y := (float64(row) + 0.4871) / per
		var cross []float64
		for _, o := range outlines {
			for k, a := range o {
				b := o[(k+1)%len(o)]
				if (a[1] <= y) != (b[1] <= y) {
					cross = append(cross, a[0]+(y-a[1])/(b[1]-a[1])*(b[0]-a[0]))
				}
			}
		}
		slices.Sort(cross)
		for k := 0; k+1 < len(cross); k += 2 {
			for x := int(math.Ceil((cross[k]+0.01)*per - 0.5)); (float64(x)+0.5)/per < cross[k+1]-0.01; x++ {
				out = append(out, [2]int{x, row})
			}
		}
	}
	return out
}

// mates: every number stands at two lines of one length, every tab at a line
// that is cut; an edge has at most one tab a stretch.
func mates(t *testing.T, sh *Sheet) {
	t.Helper()
	lengths := map[int][]float64{}
	for i := range sh.Pieces {
		for _, l := range sh.Pieces[i].Lines {
			if l.Number > 0 {
				lengths[l.Number] = append(lengths[l.Number], l.B.sub(l.A).len())
			}
			if l.Kind == Cut && sh.Edges[l.Edge].Folded || l.Kind != Cut && !sh.Edges[l.Edge].Folded {
				t.Errorf("a line is %s, its edge folded %v", l.Kind, sh.Edges[l.Edge].Folded)
			}
		}
		for _, x := range sh.Pieces[i].Tabs {
			found := 0
			for _, l := range sh.Pieces[i].Lines {
				if l.Edge == x.Edge && l.Kind == Cut && (l.A.near(x.Corners[0], 1e-6) && l.B.near(x.Corners[1], 1e-6)) {
					found++
				}
			}
			if found != 1 {
				t.Errorf("a tab of edge %d stands at %d lines", x.Edge, found)
			}
		}
	}
	for n, l := range lengths {
		if len(l) != 2 || math.Abs(l[0]-l[1]) > 0.05 {
			t.Errorf("number %d stands at lines of %v mm", n, l)
		}
	}
	named := map[string]bool{}
	for _, e := range sh.Edges {
		if named[e.Key] {
			t.Errorf("two edges have the key %s", e.Key)
		}
		named[e.Key] = true
	}
	for n := range lengths {
		if n > len(lengths) {
			t.Errorf("numbers go to %d, and there are %d", n, len(lengths))
		}
	}
}

func TestABox(t *testing.T) {
	sh := of(t, thing(boxPart(1, 2, 3)), Options{Height: 40})
	told := sh.Told
	// Six faces in one piece hang on five folds; seven edges are glued.
	if len(sh.Pieces) != 1 || sh.Pages != 1 || told.Facets != 6 || told.Folds != 5 || told.Cuts != 7 ||
		told.Rims != 0 || told.Untabbed != 0 {
		t.Errorf("%d pieces, %+v", len(sh.Pieces), told)
	}
	if sh.Size.Sub(geom.Vec3{20, 40, 60}).Len() > 1e-4 {
		t.Errorf("size %v", sh.Size)
	}
	// The longest edges are folded: what is cut is 4 × 20, and of the others what
	// is left: with all of 60 folded but one.
	if len(sh.Pieces[0].Tabs) != 7 {
		t.Errorf("%d tabs", len(sh.Pieces[0].Tabs))
	}
	for _, l := range sh.Pieces[0].Lines {
		if l.Kind == Valley || math.Abs(l.Angle-90) > 1e-3 {
			t.Errorf("%s by %g°", l.Kind, l.Angle)
		}
	}
	// Turned inside out, all folds are valleys.
	inside := boxPart(1, 2, 3)
	for k := 0; k < len(inside.Triangles); k += 3 {
		inside.Triangles[k], inside.Triangles[k+1] = inside.Triangles[k+1], inside.Triangles[k]
	}
	valleys := 0
	for _, l := range of(t, thing(inside), Options{Height: 40}).Pieces[0].Lines {
		if l.Kind == Valley {
			valleys++
		}
	}
	if valleys != 5 {
		t.Errorf("%d valleys", valleys)
	}
	// A tab on every edge but none is asked for.
	if sh := of(t, thing(boxPart(1, 2, 3)), Options{Height: 40, Tab: -1}); len(sh.Pieces[0].Tabs) != 0 {
		t.Error("it has tabs")
	}
}

func TestLaws(t *testing.T) {
	r := rand.New(rand.NewSource(2))
	for name, p := range map[string]scene.Part{
		"ball": ball(8), "ring": ring(7), "hills": bumpy(r, 9), "box": boxPart(3, 1, 2),
		"boxes": plus(boxPart(1, 1, 1), moved(ball(5), geom.Vec3{3, 0, 0})),
	} {
		for _, o := range []Options{{Height: 50}, {Height: 160, Paper: Papers[2], Tab: 4, Margin: 5},
			{Height: 90, Paper: Paper{"small", 100, 140}, Tab: 5, Tries: 4}} {
			t.Run(fmt.Sprintf("%s %g", name, o.Height), func(t *testing.T) {
				sh := of(t, thing(p), o)
				if name == "ring" && sh.Told.Rims != 0 || name == "hills" && sh.Told.Rims < 36 {
					t.Errorf("%d open edges", sh.Told.Rims)
				}
				if sh.Told.Folds+len(sh.Pieces) < sh.Told.Facets {
					t.Errorf("%d facets in %d pieces hang on %d folds", sh.Told.Facets, len(sh.Pieces), sh.Told.Folds)
				}
			})
		}
	}
}

func moved(p scene.Part, by geom.Vec3) scene.Part {
	p.Positions = slices.Clone(p.Positions)
	for i := range p.Positions {
		p.Positions[i] += float32(by[i%3])
	}
	return p
}

// More tries never need more work; a developable surface needs no cut but where
// it is open.
func TestTries(t *testing.T) {
	tube := grid(12, 1, func(u, v float64) geom.Vec3 {
		return geom.Vec3{math.Cos(3 * u), v, -math.Sin(3 * u)}
	})
	if sh := of(t, thing(tube), Options{Height: 30}); len(sh.Pieces) != 1 || sh.Told.Cuts != 0 || sh.Told.Folds != 11 {
		t.Errorf("half a tube: %d pieces, %+v", len(sh.Pieces), sh.Told)
	}
	one, many := of(t, thing(ring(8)), Options{Tries: 1}), of(t, thing(ring(8)), Options{Tries: 40})
	work := func(sh *Sheet) float64 { return float64(len(sh.Pieces))*45 + 25*float64(sh.Told.Cuts) }
	if work(many) > work(one) {
		t.Errorf("%d pieces and %d cuts after many tries, %d and %d after one", len(many.Pieces), many.Told.Cuts,
			len(one.Pieces), one.Told.Cuts)
	}
}

func TestWhatIsLeftOut(t *testing.T) {
	// A box within a box is hidden; two that touch have no wall between them.
	nested := plus(boxPart(4, 4, 4), moved(boxPart(1, 1, 1), geom.Vec3{1, 1, 1}))
	if sh := of(t, thing(nested), Options{}); sh.Told.Hidden != 12 || sh.Told.Facets != 6 {
		t.Errorf("%+v", sh.Told)
	}
	if sh := of(t, thing(nested), Options{Hidden: true}); sh.Told.Hidden != 0 || sh.Told.Facets != 12 {
		t.Errorf("%+v", sh.Told)
	}
	pair := plus(boxPart(2, 2, 2), moved(boxPart(2, 2, 2), geom.Vec3{2, 0, 0}))
	if sh := of(t, thing(pair), Options{Height: 40}); sh.Told.Doubled != 4 || sh.Told.Facets != 6 || len(sh.Pieces) != 1 {
		t.Errorf("%d pieces, %+v", len(sh.Pieces), sh.Told)
	}
	twice := plus(boxPart(2, 2, 2), boxPart(2, 2, 2))
	if sh := of(t, thing(twice), Options{}); sh.Told.Doubled != 12 || sh.Told.Facets != 6 {
		t.Errorf("%+v", sh.Told)
	}
}

// A fin on a sheet, and a band with a twist: said, and the rest intact.
func TestWhatDoesNotClose(t *testing.T) {
	fin := scene.Part{Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0, 0, -1, 0, 0, 0, 1},
		Triangles: []uint32{0, 1, 2, 1, 0, 3, 0, 1, 4}}
	sh := of(t, thing(fin), Options{Hidden: true})
	if sh.Told.Odd != 1 || sh.Told.Rims != 6 || len(sh.Pieces) != 3 {
		t.Errorf("%d pieces, %+v", len(sh.Pieces), sh.Told)
	}
	if n := strings.Join(sh.Notes(), "\n"); !strings.Contains(n, "1 edge has more than two faces") ||
		!strings.Contains(n, "6 edges are open") {
		t.Error(n)
	}
	twist := grid(24, 1, func(u, v float64) geom.Vec3 {
		a := 2 * math.Pi * u
		if u == 1 {
			a, v = 0, 1-v
		}
		r := 3 + (v-0.5)*math.Cos(a/2)
		return geom.Vec3{r * math.Cos(a), (v - 0.5) * math.Sin(a/2), r * math.Sin(a)}
	})
	if sh := of(t, thing(twist), Options{Hidden: true}); sh.Told.Odd != 1 {
		t.Errorf("%+v", sh.Told)
	}
}

// What is larger than a page is halved until it is not.
func TestLargerThanAPage(t *testing.T) {
	sh := of(t, thing(boxPart(1, 1, 1)), Options{Height: 500})
	if sh.Pages < 8 || sh.Told.Split == 0 {
		t.Errorf("%d pages, %+v", sh.Pages, sh.Told)
	}
	if _, err := Of(t.Context(), thing(boxPart(1, 1, 1e5)), Options{Height: 5000}); err == nil ||
		!strings.Contains(err.Error(), "pages, at most 250 are made") {
		t.Errorf("%v", err)
	}
}

func TestByHand(t *testing.T) {
	s := thing(boxPart(1, 2, 3))
	sh := of(t, s, Options{Height: 40})
	var folded, cut string
	for _, e := range sh.Edges {
		if e.Folded {
			folded = e.Key
		} else {
			cut = e.Key
		}
	}
	state := func(sh *Sheet, key string) (is bool) {
		for _, e := range sh.Edges {
			if e.Key == key {
				return e.Folded
			}
		}
		t.Fatalf("there is no edge %s", key)
		return false
	}
	if sh := of(t, s, Options{Height: 40, Cut: []string{folded}}); state(sh, folded) {
		t.Error("an edge that was to be cut is folded")
	}
	if sh := of(t, s, Options{Height: 40, Join: []string{cut}}); !state(sh, cut) || len(sh.Told.Refused) != 0 {
		t.Errorf("an edge that was to be joined is cut: %+v", sh.Told)
	}
	// The same names hold at another height and on other paper.
	if sh := of(t, s, Options{Height: 77, Paper: Papers[2], Join: []string{cut}}); !state(sh, cut) {
		t.Error("at another height it is another edge")
	}
	// All twelve cannot be folded flat.
	var all []string
	for _, e := range sh.Edges {
		all = append(all, e.Key)
	}
	sh = of(t, s, Options{Height: 40, Join: append(all, "1.2.3")})
	if len(sh.Told.Refused) != 8 || !slices.Contains(sh.Told.Refused, "1.2.3") {
		t.Errorf("refused: %v", sh.Told.Refused)
	}
}

func TestBadOptions(t *testing.T) {
	cube := thing(boxPart(1, 1, 1))
	for _, c := range []struct {
		s    *scene.Scene
		o    Options
		want string
	}{
		{cube, Options{Height: 4}, "a height of 4 mm: it is from 5 to 5000 mm"},
		{cube, Options{Height: math.NaN()}, "a height of NaN mm"},
		{cube, Options{Margin: 95}, "a margin of 95 mm and tabs of 6 mm leave"},
		{cube, Options{Tab: 31}, "tabs of 31 mm"},
		{cube, Options{Tries: 1001}, "1001 tries"},
		{thing(scene.Part{}), Options{}, "nothing to unfold"},
		{thing(grid(101, 100, func(u, v float64) geom.Vec3 { return geom.Vec3{u, v, 0} })), Options{},
			"20200 triangles are more than anybody cuts out"},
		{thing(plus(boxPart(1, 1, 1), turnedOver(boxPart(1, 1, 1)))), Options{}, "every face lies on another"},
	} {
		if _, err := Of(t.Context(), c.s, c.o); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if _, err := Of(ctx, cube, Options{}); err != context.Canceled {
		t.Errorf("%v", err)
	}
	for text, want := range map[string]Paper{"A4": {"a4", 210, 297}, "letter": {"letter", 215.9, 279.4},
		"200x300.5": {"200x300.5", 200, 300.5}} {
		if p, err := PaperOf(text); err != nil || p != want {
			t.Errorf("%q: %v, %v", text, p, err)
		}
	}
	for _, text := range []string{"", "a9", "10x10", "200x", "1e9x1e9"} {
		if _, err := PaperOf(text); err == nil || !strings.Contains(err.Error(), "a4, a3, letter") {
			t.Errorf("%q: %v", text, err)
		}
	}
	// What lies flat has no height: it is as large as was asked.
	if sh := of(t, thing(grid(2, 2, func(u, v float64) geom.Vec3 { return geom.Vec3{v, 0, u} })),
		Options{Height: 50}); math.Abs(sh.Size[0]-50) > 1e-6 || sh.Told.Facets != 1 {
		t.Errorf("%v, %+v", sh.Size, sh.Told)
	}
}

func turnedOver(p scene.Part) scene.Part {
	p.Triangles = slices.Clone(p.Triangles)
	for k := 0; k < len(p.Triangles); k += 3 {
		p.Triangles[k], p.Triangles[k+1] = p.Triangles[k+1], p.Triangles[k]
	}
	return p
}

// painted is a box whose every side has the quarters of a picture: red, green,
// blue and yellow.
func painted(t *testing.T) *scene.Scene {
	s := thing(boxPart(1, 1, 1))
	img := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	for y := range 64 {
		for x := range 64 {
			img.SetNRGBA(x, y, quarters[y/32*2+x/32])
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	s.Pictures = []scene.Picture{{Name: "quarters", MIME: "image/png", Data: b.Bytes(), Width: 64, Height: 64}}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleColour, Scale: 1}}
	p := &s.Meshes[0].Parts[0]
	p.UVs = []scene.AttrSet{{Name: "uv"}}
	for v := range p.Vertices() {
		p.UVs[0].Data = append(p.UVs[0].Data, float32(v%4/2), float32(v%2))
	}
	return s
}

var quarters = [4]color.NRGBA{{255, 0, 0, 255}, {0, 255, 0, 255}, {0, 0, 255, 255}, {255, 255, 0, 255}}

// The middle of each quarter of each face has its colour, a little beyond an
// outer edge still, further out white.
func TestPaint(t *testing.T) {
	for _, mirrored := range []bool{false, true} {
		s := painted(t)
		if mirrored {
			s.Nodes[0].Scale = [3]float32{-1, 1, 1}
		}
		sh := of(t, s, Options{Height: 40})
		img, err := sh.Paint(t.Context(), 0, 100)
		if err != nil {
			t.Fatal(err)
		}
		at := func(p Point) color.NRGBA {
			return img.NRGBAAt(int(p[0]*100/25.4), int(p[1]*100/25.4))
		}
		counts := map[color.NRGBA]int{}
		for _, f := range sh.Pieces[0].Faces {
			for _, x := range f.triangles {
				// Weights of the corners are those of the UVs.
				tri := &sh.model.Triangles[x.of]
				p := &s.Meshes[0].Parts[0]
				var uv [3][2]float32
				for k := range 3 {
					// The corner by its place, not by its number.
					for v := range p.Vertices() {
						if v/4 == int(tri.From)/2 &&
							geom.At(p.Positions,
								uint32(v)).Mul(40).Sub(unmirrored(sh.model.Places[tri.At[k]],
								mirrored)).Len() < 1e-3 {
							uv[k] = [2]float32(p.UVs[0].Data[2*v : 2*v+2])
						}
					}
				}
				for _, w := range [][3]float64{{0.6, 0.2, 0.2}, {0.2, 0.6, 0.2}, {0.2, 0.2, 0.6}, {0.8, 0.1, 0.1}} {
					q := x.corners[0].mul(w[0]).add(x.corners[1].mul(w[1])).add(x.corners[2].mul(w[2]))
					u, v := 0.0, 0.0
					for k := range 3 {
						u, v = u+w[k]*float64(uv[k][0]), v+w[k]*float64(uv[k][1])
					}
					if math.Abs(u-0.5) < 0.05 || math.Abs(v-0.5) < 0.05 {
						continue
					}
					want := quarters[int(v*2)*2+int(u*2)]
					if got := at(q); got != want {
						t.Errorf("mirrored %v: at u %.2f v %.2f it is %v, want %v", mirrored, u, v, got, want)
					}
					counts[want]++
				}
			}
		}
		if len(counts) != 4 {
			t.Errorf("%v", counts)
		}
		for _, l := range sh.Pieces[0].Lines {
			if l.Kind != Cut {
				continue
			}
			d := l.B.sub(l.A)
			out := Point{-d[1], d[0]}.mul(1 / d.len())
			mid := l.A.add(l.B).mul(0.5).add(d.mul(0.2))
			white := color.NRGBA{255, 255, 255, 255}
			if at(mid.add(out.mul(Bleed-0.5))) == white {
				t.Errorf("no colour %.1f mm beyond %v", Bleed-0.5, mid)
			}
			if far := mid.add(out.mul(3)); at(far) != white && !inAny(&sh.Pieces[0], far) {
				t.Errorf("%v 3 mm beyond %v", at(far), mid)
			}
		}
	}
}

func unmirrored(p geom.Vec3, mirrored bool) geom.Vec3 {
	if mirrored {
		p[0] = -p[0]
	}
	return p
}

// inAny tells whether a point is near any face of a piece.
func inAny(p *Piece, q Point) bool {
	for _, f := range p.Faces {
		for i := range f.triangles {
			near := true
			for _, s := range f.triangles[i].sides() {
				near = near && s.from(q[0], q[1]) < 2*Bleed
			}
			if near {
				return true
			}
		}
	}
	return false
}

// Faces whose picture is missing or broken have their plain colour, and that is
// said; pictures that no material shows do not count.
func TestMissingPictures(t *testing.T) {
	s := painted(t)
	s.Materials[0].BaseColour = [4]float32{0, 0, 1, 1}
	s.Pictures[0].Data = s.Pictures[0].Data[:40]
	s.Pictures = append(s.Pictures, scene.Picture{Name: "unused"})
	sh := of(t, s, Options{Height: 40})
	if n := strings.Join(sh.Notes(), "\n"); !strings.Contains(n, "1 picture is missing: its faces have the plain colour") {
		t.Errorf("%q", n)
	}
	img, err := sh.Paint(t.Context(), 0, 50)
	if err != nil {
		t.Fatal(err)
	}
	c := sh.Pieces[0].Faces[0].triangles[0].corners
	mid := c[0].add(c[1]).add(c[2]).mul(1. / 3)
	if got := img.NRGBAAt(int(mid[0]*50/25.4), int(mid[1]*50/25.4)); got != (color.NRGBA{0, 0, 255, 255}) {
		t.Errorf("it is printed %v", got)
	}
	s.Pictures[0].Data = nil
	if sh := of(t, s, Options{Height: 40}); sh.Told.Blank != 1 {
		t.Errorf("%d pictures are missing", sh.Told.Blank)
	}
	if sh := of(t, painted(t), Options{Height: 40}); sh.Told.Blank != 0 || len(sh.Notes()) != 0 {
		t.Errorf("%v", sh.Notes())
	}
}

// What is written as SVG is read as XML: the paths of faces have the model's
// area, lines are there by class, and every page is a page.
func TestSVG(t *testing.T) {
	s := painted(t)
	sh := of(t, s, Options{Height: 200, Paper: Papers[0]})
	b, err := sh.SVG(t.Context(), Print{DPI: 40})
	if err != nil {
		t.Fatal(err)
	}
	again, _ := of(t, painted(t), Options{Height: 200}).SVG(t.Context(), Print{DPI: 40})
	if !bytes.Equal(b, again) {
		t.Error("the same model gives other bytes")
	}
	area, classes, pages := 0.0, map[string]int{}, 0
	title := ""
	d := xml.NewDecoder(bytes.NewReader(b))
	for {
		x, err := d.Token()
		if err != nil {
			if len(b) != int(d.InputOffset()) {
				t.Fatal(err)
			}
			break
		}
		e, ok := x.(xml.StartElement)
		if !ok {
			if c, ok := x.(xml.CharData); ok && title == "" && len(bytes.TrimSpace(c)) > 0 {
				title = string(c)
			}
			continue
		}
		attr := map[string]string{}
		for _, a := range e.Attr {
			attr[a.Name.Local] = a.Value
		}
		classes[attr["class"]]++
		if e.Name.Local == "image" {
			pages++
		}
		if attr["class"] == "face" {
			area += pathArea(t, attr["d"])
		}
	}
	if math.Abs(area-6*200*200) > 1 || title != "weir <1>" || pages != sh.Pages || classes["page"] != sh.Pages {
		t.Errorf("area %g, title %q, %d pictures, %v", area, title, pages, classes)
	}
	cuts, mountains, tabs := 0, 0, 0
	for i := range sh.Pieces {
		tabs += len(sh.Pieces[i].Tabs)
		for _, l := range sh.Pieces[i].Lines {
			switch l.Kind {
			case Cut:
				cuts++
			case Mountain:
				mountains++
			}
		}
	}
	if classes["cut"] != cuts+12*sh.Pages || classes["mountain"] != mountains || classes["valley"] != 0 ||
		classes["tab"] != tabs {
		t.Errorf("%d cuts, %d mountains, %d tabs: %v", cuts, mountains, tabs, classes)
	}
	bare, _ := sh.SVG(t.Context(), Print{Bare: true})
	if bytes.Contains(bare, []byte("<image")) ||
		!bytes.HasPrefix(bare, []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="210mm"`)) {
		t.Errorf("%.200s", bare)
	}
}

// pathArea is what a path of closed straight outlines encloses.
func pathArea(t *testing.T, d string) (area float64) {
	t.Helper()
	for outline := range strings.SplitSeq(strings.TrimSuffix(d, "Z"), "Z") {
		var p []Point
		for corner := range strings.FieldsFuncSeq(outline, func(r rune) bool { return r == 'M' || r == 'L' }) {
			x, y, _ := strings.Cut(corner, " ")
			a, err := strconv.ParseFloat(x, 64)
			b, err2 := strconv.ParseFloat(y, 64)
			if err != nil || err2 != nil {
				t.Fatalf("%q", corner)
			}
			p = append(p, Point{a, b})
		}
		for k := range p {
			area -= p[k].cross(p[(k+1)%len(p)]) / 2
		}
	}
	return area
}

func TestPDF(t *testing.T) {
	sh := of(t, painted(t), Options{Height: 120})
	b, err := sh.PDF(t.Context(), Print{DPI: 40})
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.HasPrefix(b, []byte("%PDF-")) ||
		bytes.Count(b, []byte("/Type /Page\n"))+bytes.Count(b, []byte("/Type /Page ")) != sh.Pages {
		t.Errorf("%d pages; %.60q", sh.Pages, b)
	}
	again, _ := of(t, painted(t), Options{Height: 120}).PDF(t.Context(), Print{DPI: 40})
	if !bytes.Equal(b, again) {
		t.Error("the same model gives other bytes")
	}
}

func TestSummary(t *testing.T) {
	sh := of(t, thing(boxPart(1, 2, 3)), Options{Height: 40})
	s := sh.Summary()
	// 5 folds, 7 tabs, 7 cuts and a piece, and what is cut at 5 mm a second.
	cut := 0.0
	for _, l := range sh.Pieces[0].Lines {
		if l.Kind == Cut {
			cut += l.B.sub(l.A).len()
		}
	}
	hours := (cut/5 + 4*12 + 25*7 + 45) / 3600
	if s.Pages != 1 || s.Pieces != 1 || s.Folds != 5 || s.Cuts != 7 || math.Abs(sh.Told.Hours-hours) > 1e-9 ||
		s.CutLength != math.Round(cut) || s.Height != 40 {
		t.Errorf("%+v, %g hours", s, hours)
	}
}

func BenchmarkOf(b *testing.B) {
	for _, n := range []int{8, 20, 45} {
		p := ring(n)
		b.Run(fmt.Sprintf("%d triangles", len(p.Triangles)/3), func(b *testing.B) {
			for b.Loop() {
				if _, err := Of(context.Background(), thing(p), Options{Height: 80}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// Texels beyond a picture's edge, as glTF 2.0 section 3.8.5.2 has its wrap modes.
func TestWrapped(t *testing.T) {
	for _, c := range []struct {
		wrap scene.Wrap
		want [9]int // of -4 … 4 in a side of three
	}{
		{scene.Repeat, [9]int{2, 0, 1, 2, 0, 1, 2, 0, 1}},
		{scene.Clamp, [9]int{0, 0, 0, 0, 0, 1, 2, 2, 2}},
		{scene.Mirror, [9]int{2, 2, 1, 0, 0, 1, 2, 2, 1}},
	} {
		for i, want := range c.want {
			if got := wrapped(float64(i-4), 3, c.wrap); got != want {
				t.Errorf("%q: texel %d is %d, want %d", c.wrap, i-4, got, want)
			}
		}
	}
	if wrapped(math.NaN(), 3, scene.Repeat) != 0 || wrapped(math.Inf(1), 3, scene.Mirror) != 0 {
		t.Error("what is no number is some texel")
	}
}
