package brush_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"maps"
	"math"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/brush"
	"excavate/core/geom"
	"excavate/core/hull"
	"excavate/core/scene"
)

func read(text string, readings map[string]string) (*scene.Scene, error) {
	return brush.Read(context.Background(), format.File{Name: "weir.map", Data: []byte(text), Readings: readings,
		Companion: func(ref string) ([]byte, string, error) {
			if ref != "weir/boards.png" {
				return nil, "", fmt.Errorf("%s is not there", ref)
			}
			var b bytes.Buffer
			err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 128, 32)))
			return b.Bytes(), "beside it", err
		}})
}

func must(t *testing.T, text string, readings ...string) *scene.Scene {
	t.Helper()
	chosen := map[string]string{}
	for i := 0; i+1 < len(readings); i += 2 {
		chosen[readings[i]] = readings[i+1]
	}
	s, err := read(text, chosen)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

// world is a level whose first entity has some solids; more stands behind it.
func world(solids string, more ...string) string {
	return "{\n\"classname\" \"worldspawn\"\n" + solids + "}\n" + strings.Join(more, "\n")
}

// lay is how a picture lies where a test does not ask.
const lay = " weir/boards 0 0 0 1 1\n"

// boxOf is a box, each face by three of its corners clockwise seen from outside.
func boxOf(a, b [3]int, behind string) string {
	c := func(i int) string { // bit k of i: the higher side along axis k
		var p [3]int
		for k := range 3 {
			if p[k] = a[k]; i>>k&1 == 1 {
				p[k] = b[k]
			}
		}
		return fmt.Sprintf("( %d %d %d )", p[0], p[1], p[2])
	}
	out := "{\n"
	for _, f := range [6][3]int{{0, 2, 4}, {1, 5, 3}, {0, 4, 1}, {2, 3, 6}, {0, 1, 2}, {4, 6, 5}} {
		out += c(f[0]) + " " + c(f[1]) + " " + c(f[2]) + behind
	}
	return out + "}\n"
}

func notes(s *scene.Scene) string {
	var out []string
	for _, n := range s.Notes {
		out = append(out, strings.TrimSpace(n.Where+" "+n.Text))
	}
	return strings.Join(out, "\n")
}

// volume is what a mesh encloses, by the divergence theorem.
func volume(m *scene.Mesh) (v float64) {
	for i := range m.Parts {
		p := &m.Parts[i]
		for k := 0; k < len(p.Triangles); k += 3 {
			a, b, c := geom.At(p.Positions, p.Triangles[k]), geom.At(p.Positions,
				p.Triangles[k+1]), geom.At(p.Positions, p.Triangles[k+2])
			v += a.Dot(b.Cross(c)) / 6
		}
	}
	return v
}

// open counts edges that no other edge runs back along, by the bits of their
// ends. A corner that lies within another face's edge would show here.
func open(m *scene.Mesh) (n int) {
	count := map[[2]geom.Vec3]int{}
	for i := range m.Parts {
		p := &m.Parts[i]
		for k := 0; k < len(p.Triangles); k += 3 {
			for e := range 3 {
				a, b := geom.At(p.Positions, p.Triangles[k+e]), geom.At(p.Positions, p.Triangles[k+(e+1)%3])
				count[[2]geom.Vec3{a, b}]++
				count[[2]geom.Vec3{b, a}]--
			}
		}
	}
	for _, c := range count {
		if c > 0 {
			n += c
		}
	}
	return n
}

func corners(m *scene.Mesh) []geom.Vec3 {
	set := map[geom.Vec3]bool{}
	for i := range m.Parts {
		for v := range m.Parts[i].Vertices() {
			set[geom.At(m.Parts[i].Positions, uint32(v))] = true
		}
	}
	return slices.SortedFunc(maps.Keys(set), func(a, b geom.Vec3) int { return slices.Compare(a[:], b[:]) })
}

func TestABox(t *testing.T) {
	s := must(t, "// a comment\n"+world(boxOf([3]int{0, -16, 8}, [3]int{64, 16, 40}, lay)))
	m := &s.Meshes[0]
	if v := volume(m); v != 64*32*32 {
		t.Errorf("volume %g", v)
	}
	if n := len(corners(m)); n != 8 || open(m) != 0 || len(m.Parts) != 1 || len(m.Parts[0].Triangles) != 36 {
		t.Errorf("%d corners, %d open edges, %d parts", n, open(m), len(m.Parts))
	}
	p := &m.Parts[0]
	for k := 0; k < len(p.Triangles); k += 3 {
		a, b, c := geom.At(p.Positions, p.Triangles[k]), geom.At(p.Positions,
			p.Triangles[k+1]), geom.At(p.Positions, p.Triangles[k+2])
		if n := b.Sub(a).Cross(c.Sub(a)).Norm(); n.Dot(geom.At(p.Normals, p.Triangles[k])) < 0.999999 {
			t.Errorf("a face turns %v and has the normal %v", n, geom.At(p.Normals, p.Triangles[k]))
		}
	}
	want := geom.Basis{Up: geom.PlusZ, Front: geom.PlusX, Handed: geom.Right}
	if s.Basis != want || s.Name != "weir" || s.Nodes[0].Name != "worldspawn" {
		t.Errorf("%+v, %q, %q", s.Basis, s.Name, s.Nodes[0].Name)
	}
	if pic := s.Pictures[0]; pic.Ref != "weir/boards.png" || s.Materials[0].Name != "weir/boards" {
		t.Errorf("%+v", pic)
	}
}

// UVs worked out by hand on a box from the origin to 64, 32, 16; the picture has
// 128 by 32 texels. Each row: the axis and side of the face, a corner, its texel.
func TestProjections(t *testing.T) {
	for _, c := range []struct {
		behind string
		axis   int
		high   bool
		at     geom.Vec3
		texel  [2]float64
	}{
		// Above: u along x, v against y.
		{" weir/boards 0 0 0 1 1\n", 2, true, geom.Vec3{64, 32, 16}, [2]float64{64, -32}},
		{" weir/boards 5 -7 0 1 1\n", 2, true, geom.Vec3{64, 0, 16}, [2]float64{69, -7}},
		// A texel two units wide and half a unit high.
		{" weir/boards 5 7 0 2 0.5\n", 2, true, geom.Vec3{64, 32, 16}, [2]float64{37, -57}},
		// A quarter turn: u is x cos + y·0 …, (u, v) = (y, x) from (x, -y).
		{" weir/boards 0 0 90 1 1\n", 2, true, geom.Vec3{64, 32, 16}, [2]float64{32, 64}},
		{" weir/boards 0 0 -90 1 1\n", 2, true, geom.Vec3{64, 32, 16}, [2]float64{-32, -64}},
		{" weir/boards 0 0 180 1 1\n", 2, true, geom.Vec3{64, 32, 16}, [2]float64{-64, 32}},
		// 30°: u = x cos 30 + y sin 30, v = x sin 30 - y cos 30.
		{" weir/boards 0 0 30 1 1\n", 2, true, geom.Vec3{64, 32, 16}, [2]float64{71.42562584, 4.28718708}},
		// Below it is as above; along x: u along y, v against z; along y: u along x.
		{" weir/boards 1 2 0 1 1\n", 2, false, geom.Vec3{64, 32, 0}, [2]float64{65, -30}},
		{" weir/boards 1 2 0 1 1\n", 0, true, geom.Vec3{64, 32, 16}, [2]float64{33, -14}},
		{" weir/boards 1 2 0 1 1\n", 0, false, geom.Vec3{0, 32, 16}, [2]float64{33, -14}},
		{" weir/boards 1 2 0 1 1\n", 1, true, geom.Vec3{64, 32, 16}, [2]float64{65, -14}},
		{" weir/boards 1 2 90 1 1\n", 1, false, geom.Vec3{64, 0, 16}, [2]float64{17, 66}},
		// A scale of 0 means 1; one below 0 mirrors.
		{" weir/boards 0 0 0 0 -1\n", 2, true, geom.Vec3{64, 32, 16}, [2]float64{64, 32}},
		// Own axes, which no angle turns, and flags behind.
		{" weir/boards [ 0 1 0 3 ] [ 0 0 -1 4 ] 45 2 4 134217728 0 7\n", 0, true, geom.Vec3{64, 32, 16}, [2]float64{19, 0}},
		{" \"weir/boards\" [ 0.6 0.8 0 -1.5 ] [ 0.8 -0.6 0 .25 ] 0 1 1\n", 2, true, geom.Vec3{64, 32, 16},
			[2]float64{62.5, 32.25}},
	} {
		s := must(t, world(boxOf([3]int{}, [3]int{64, 32, 16}, c.behind)))
		p := &s.Meshes[0].Parts[0]
		found := false
		for v := range p.Vertices() {
			n, at := geom.At(p.Normals, uint32(v)), geom.At(p.Positions, uint32(v))
			if at != c.at || math.Abs(n[c.axis]) < 0.5 || n[c.axis] > 0 != c.high {
				continue
			}
			found = true
			got := [2]float64{float64(p.UVs[0].Data[2*v]) * 128, float64(p.UVs[0].Data[2*v+1]) * 32}
			for k := range 2 {
				if math.Abs(got[k]-c.texel[k]) > 1e-3 {
					t.Errorf("%q at %v: texel %v, want %v", c.behind, c.at, got, c.texel)
				}
			}
		}
		if !found {
			t.Errorf("%q: there is no such corner at %v", c.behind, c.at)
		}
	}
}

// Far from the origin whole repeats are taken off, and a thousandth of a texel
// is told still.
func TestFarTexels(t *testing.T) {
	s := must(t, world(boxOf([3]int{100000, 0, 0}, [3]int{100001, 1, 1}, " weir/boards 0 0 0 0.1 0.1\n")))
	p := &s.Meshes[0].Parts[0]
	for v := range p.Vertices() {
		if geom.At(p.Normals, uint32(v))[2] < 0.5 {
			continue
		}
		want := (float64(p.Positions[3*v]) + float64(s.Nodes[0].Translation[0])) * 10 / 128
		got := float64(p.UVs[0].Data[2*v])
		if d := want - got; math.Abs(d-math.Round(d))*128 > 1e-3 || got < 0 || got > 2 {
			t.Errorf("u %g, want %g but for whole repeats", got, want)
		}
	}
	if !strings.Contains(notes(s), "moved by whole repeats") {
		t.Error(notes(s))
	}
}

// planesOf writes a hull's triangles as faces, of corners in whole numbers.
func planesOf(h hull.Hull, behind string) string {
	out := "{\n"
	for _, f := range h.Faces {
		for _, k := range []int{0, 2, 1} { // clockwise seen from outside
			c := h.Corners[f[k]]
			out += fmt.Sprintf("( %g %g %g ) ", c[0], c[1], c[2])
		}
		out += behind
	}
	return out + "}\n"
}

// Solids of random hulls come back with just the corners that the hulls have,
// though many planes meet in each.
func TestRandomSolids(t *testing.T) {
	r := rand.New(rand.NewSource(7))
	for round := range 60 {
		reach := []float64{8, 300, 30000, 9e5}[round%4]
		var points []geom.Vec3
		for range 6 + r.Intn(30) {
			var p geom.Vec3
			for k := range p {
				p[k] = math.Round(reach * (2*r.Float64() - 1))
				if round%3 == 0 {
					p[k] = math.Round(p[k]*8) / 8
				}
			}
			points = append(points, p)
		}
		h, ok := hull.Of(points, 0)
		if !ok {
			continue
		}
		s := must(t, world(planesOf(h, lay)))
		if len(s.Meshes) != 1 {
			t.Fatal(notes(s))
		}
		var want []geom.Vec3
		for _, p := range h.Corners {
			for k := range p {
				p[k] = float64(float32(p[k]))
			}
			want = append(want, p)
		}
		slices.SortFunc(want, func(a, b geom.Vec3) int { return slices.Compare(a[:], b[:]) })
		if got := corners(&s.Meshes[0]); !slices.Equal(got, want) {
			t.Fatalf("round %d: corners %v, want %v", round, got, want)
		}
		if n := open(&s.Meshes[0]); n != 0 {
			t.Errorf("round %d: %d open edges", round, n)
		}
		if v := volume(&s.Meshes[0]); math.Abs(v-h.Volume()) > 1e-5*h.Volume() {
			t.Errorf("round %d: volume %g, want %g", round, v, h.Volume())
		}
	}
}

// A block cut by a slanted plane with decimals: both halves have the same bits
// where they touch, and together the block's volume.
func TestNeighboursHaveNoCracks(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	number := func() string { return fmt.Sprintf("%.4f", 90*r.Float64()-45) }
	for range 50 {
		var p [3]string
		for k := range p {
			p[k] = fmt.Sprintf("( %s %s %s ) ", number(), number(), number())
		}
		whole := boxOf([3]int{-50, -50, -50}, [3]int{50, 50, 50}, lay)
		half := func(a, b, c string) string {
			return strings.TrimSuffix(whole, "}\n") + a + b + c + " weir/cut 0 0 0 1 1\n}\n"
		}
		s := must(t, world(half(p[0], p[1], p[2])+half(p[0], p[2], p[1])), "solids", "a node each")
		if len(s.Meshes) != 2 {
			t.Fatal(notes(s))
		}
		var cuts [2][]geom.Vec3
		total := 0.0
		for i := range s.Meshes {
			if n := open(&s.Meshes[i]); n != 0 {
				t.Errorf("half %d has %d open edges", i, n)
			}
			total += volume(&s.Meshes[i])
			for _, part := range s.Meshes[i].Parts {
				if s.Materials[part.Material].Name == "weir/cut" {
					cuts[i] = corners(&scene.Mesh{Parts: []scene.Part{part}})
				}
			}
		}
		if math.Abs(total-1e6) > 1 {
			t.Errorf("both halves have %g", total)
		}
		if len(cuts[0]) < 3 || !slices.Equal(cuts[0], cuts[1]) {
			t.Errorf("cut at %v and at %v", cuts[0], cuts[1])
		}
	}
}

func TestBadSolids(t *testing.T) {
	good := boxOf([3]int{}, [3]int{8, 8, 8}, lay)
	lines := strings.Split(strings.TrimSpace(good), "\n")
	inward := "{\n"
	for _, l := range lines[1 : len(lines)-1] {
		f := strings.Fields(l)
		inward += strings.Join(slices.Concat(f[:5], f[10:15], f[5:10], f[15:]), " ") + "\n"
	}
	inward += "}\n"
	for _, c := range []struct{ solid, want string }{
		{strings.Join(append(slices.Clone(lines[:6]), "}\n"), "\n"), "line 15 1 solid is left out, without an end"},
		{strings.TrimSuffix(good, "}\n") + "( 0 0 9 ) ( 1 0 9 ) ( 0 1 9 )" + lay + "}\n",
			"line 15 1 solid is left out, empty"},
		{"{\n}\n", "line 15 1 solid is left out, empty"},
		{strings.TrimSuffix(good, "}\n") + "( 0 0 9 ) ( 1 0 9 ) ( 2 0 9 )" + lay + "}\n",
			"line 15 1 face is left out whose three points lie on one line"},
		{inward, "the faces of 1 solid look inward"},
		{"{\nodd1\n{\n( 1 2 ) \"x\"\n}\n}\n", "line 15 1 solid is of a form that is not read (odd1)"},
		{strings.TrimSuffix(good, "}\n") + lines[1] + "\n( 0 0 80 ) ( 0 1 80 ) ( 1 0 80 )" + lay + "}\n", ""},
	} {
		s := must(t, world(boxOf([3]int{100, 0, 0}, [3]int{108, 8, 8}, lay)+"\n\n\n\n"+c.solid))
		if !strings.Contains(notes(s), c.want) {
			t.Errorf("%q is not in\n%s", c.want, notes(s))
		}
		want := 1024.0
		if strings.Contains(c.want, "solid is") {
			want = 512
		}
		if v := volume(&s.Meshes[0]); math.Abs(v-want) > 1e-9 || open(&s.Meshes[0]) != 0 {
			t.Errorf("%s: volume %g, want %g", c.want, v, want)
		}
	}
}

func TestBadText(t *testing.T) {
	good := boxOf([3]int{}, [3]int{8, 8, 8}, lay)
	for _, c := range []struct{ text, want string }{
		{"", "line 1: the file has no entities"},
		{"x", "line 1: an entity begins with {, not \"x\""},
		{"{\n\"a\" \"b\"\n", "line 3: the file ends within the entity of line 1"},
		{"{\n\"a\"\n}", "the key \"a\" has no value in quotes, but \"}\""},
		{"{\n\"a\" \"b\n", "line 2: a quoted text does not end on its line"},
		{"{\n\"a", "line 2: a quoted text does not end"},
		{"{\nabc\n}", "line 2: an entity has keys and values in quotes"},
		{world("{\n( 0 0 0 ) ( 1 0 0 ) ( 0 1,5 0 ) x 0 0 0 1 1\n}\n"),
			"line 4: \"1,5\" is no number: decimals stand behind a point"},
		{world("{\n( 0 0 nan ) ( 1 0 0 ) ( 0 1 0 ) x 0 0 0 1 1\n}\n"), "line 4: a number is expected, not \"nan\""},
		{world("{\n( 0 0 1e9 ) ( 1 0 0 ) ( 0 1 0 ) x 0 0 0 1 1\n}\n"), "line 4: \"1e9\" is too far away"},
		{world("{\n( 0 0 ) ( 1 0 0 ) ( 0 1 0 ) x 0 0 0 1 1\n}\n"), "a number is expected, not \")\""},
		{world("{\n( 0 0 0 ) ( 1 0 0 ) ( 0 1 0 ) ( 0 0 0 1 1\n}\n"), "a material's name is expected"},
		{world("{\n( 0 0 0 ) ( 1 0 0 ) ( 0 1 0 ) x 0 0 0 1\n}\n"), "line 5: a number is expected, not \"}\""},
		{world("{\n( 0 0 0 ) ( 1 0 0 ) ( 0 1 0 ) x [ 1 0 0 0 ] 0 0 0 1 1\n}\n"), "[ is expected, not \"0\""},
		{world(strings.TrimSuffix(good, "}\n")), "the file ends within the entity"},
		{strings.TrimSuffix(world(strings.TrimSuffix(good, "}\n")), "}\n"), "the file ends within the solid of line 3"},
		{world("{\npatchDef2\n{\nx\n( 3 4 0 0 0 )\n"), "line 7: a patch of 3 by 4 control points: both are odd"},
		{world("{\npatchDef2\n{\nx\n( 3 )\n"), "columns and rows"},
		{world("{\npatchDef2\n{\nx\n( 3 3 )\n( ( ( 0 0 0 1e40 0 )"), "a UV of 1e+40"},
		{world("{\nodd {\n"), "the file ends within the braces of line 3"},
		{"{\n\"classname\" \"worldspawn\"\n}\n}", "line 4: an entity begins with {"},
	} {
		_, err := read(c.text, nil)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q:\n%v, want %q", c.text, err, c.want)
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if _, err := brush.Read(ctx, format.File{Data: []byte(world(good))}); err != context.Canceled {
		t.Errorf("%v", err)
	}
}

func TestProbe(t *testing.T) {
	for text, want := range map[string]bool{
		world(""): true, "// x\n\n// y\r\n{\n\"a\" \"b\"": true, "{ { ( 1 2 3 )": true, "\ufeff{\n\"a\" \"b\"": true,
		"{}": false, "{\"a\": 1}": false, "{\"a\": \"b\"}": false, "{\n  \"asset\": {\"version\": \"2.0\"}}": false, "": false, "// only\n": false, "{": false,
	} {
		if got := brush.Probe([]byte(text)); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}

const lantern = "{\n\"classname\" \"light\"\n\"origin\" \"16 0 24\"\n\"light\" \"300\"\n\"_color\" \"1 0.5 0\"\n\"state\" \"whole\"\n}\n"

func TestEntities(t *testing.T) {
	s := must(t,
		world(boxOf([3]int{}, [3]int{8, 8, 8}, lay)+boxOf([3]int{8, 0, 0}, [3]int{16, 8, 8},
			" common/clip 0 0 0 1 1\n"), lantern,
			"{\n\"classname\" \"spawn\"\n\"targetname\" \"landing\"\n\"origin\" \"1 2 3\"\n\"angle\" \"90\"\n}",
			"{\n\"classname\" \"prop\"\n\"origin\" \"0 0 0\"\n\"angles\" \"90 0 0\"\n}",
			"{\n\"classname\" \"prop\"\n\"origin\" \"0 0\"\n\"angle\" \"-1\"\n}",
			"{\n\"classname\" \"door\"\n"+boxOf([3]int{0, 0, 20}, [3]int{8, 8, 28}, lay)+"}"))
	if len(s.Nodes) != 6 || len(s.Lights) != 1 || s.Lights[0].Intensity != 300 ||
		s.Lights[0].Colour != [3]float32{1, format.Linear(0.5), 0} {
		t.Fatalf("%d nodes, %+v", len(s.Nodes), s.Lights)
	}
	if v, _ := s.Nodes[1].Prop("state"); v != "whole" || s.Nodes[1].Translation != [3]float32{16, 0, 24} ||
		s.Nodes[1].Light != 0 {
		t.Errorf("%+v", s.Nodes[1])
	}
	ahead := func(i int) geom.Vec3 { m := s.Nodes[i].Local(); return m.Dir(geom.Vec3{1, 0, 0}) }
	if d := ahead(2); s.Nodes[2].Name != "landing" || d.Sub(geom.Vec3{0, 1, 0}).Len() > 1e-6 {
		t.Errorf("%s looks at %v", s.Nodes[2].Name, d)
	}
	if d := ahead(3); d.Sub(geom.Vec3{0, 0, -1}).Len() > 1e-6 {
		t.Errorf("a downward look is %v", d)
	}
	if s.Nodes[4].Translation != [3]float32{} || ahead(4) != (geom.Vec3{1, 0, 0}) {
		t.Errorf("an entity that stands nowhere: %+v", s.Nodes[4])
	}
	if s.Nodes[5].Mesh != 1 || volume(&s.Meshes[1]) != 512 {
		t.Errorf("%+v", s.Nodes[5])
	}
	told := notes(s)
	for _, want := range []string{"entities: 2 prop, 1 door, 1 light, 1 spawn, 1 worldspawn",
		"tool surfaces: faces of 6 common/clip"} {
		if !strings.Contains(told, want) {
			t.Errorf("%q is not in\n%s", want, told)
		}
	}
	for i, p := range s.Pictures {
		if p.Ref == "common/clip.png" {
			t.Errorf("picture %d of a tool surface is asked for", i)
		}
	}
	// A picture whose size nobody knows is said once.
	if s := must(t, world(boxOf([3]int{}, [3]int{8, 8, 8}, " reed 0 0 0 1 1\n"))); !strings.Contains(notes(s),
		"the size of 1 picture is not known") {
		t.Error(notes(s))
	}
	if s := must(t,
		world(boxOf([3]int{}, [3]int{8, 8, 8},
			" weir/boards [ 1e300 0 0 0 ] [ 0 1 0 0 ] 0 1e-300 1\n"))); !strings.Contains(notes(s), "of 6 faces gives no numbers") {
		t.Error(notes(s))
	}
}

// room is a hollow box of six slabs about the inside from -64 to 64, one unit
// thick; of slab k a slot of the given width is left out.
func room(without int, slot int) string {
	out := ""
	for k := range 3 {
		for s := range 2 {
			a, b := [3]int{-65, -65, -65}, [3]int{65, 65, 65}
			for m := range k {
				a[m], b[m] = -64, 64
			}
			if s == 0 {
				b[k] = -64
			} else {
				a[k] = 64
			}
			if 2*k+s != without {
				out += boxOf(a, b, lay)
				continue
			}
			// What is left of the slab about a slot at 32 along the next axis.
			low, high := a, b
			n := (k + 1) % 3
			low[n], high[n] = 32+slot, 32
			out += boxOf(low, b, lay) + boxOf(a, high, lay)
		}
	}
	return out
}

func TestOuterHull(t *testing.T) {
	closed := world(room(-1, 0), lantern)
	s := must(t, closed)
	if !strings.Contains(notes(s), "closed: none of 1 entity gets outside") {
		t.Fatal(notes(s))
	}
	// The inside sees one face of each slab.
	s = must(t, closed, "outer hull", "only faces that the inside sees")
	if n := len(s.Meshes[0].Parts[0].Triangles); n != 36 ||
		!strings.Contains(notes(s), "30 faces are left out that nothing within sees") {
		t.Errorf("%d numbers; %s", n, notes(s))
	}
	for v := range s.Meshes[0].Parts[0].Vertices() {
		n, at := geom.At(s.Meshes[0].Parts[0].Normals, uint32(v)), geom.At(s.Meshes[0].Parts[0].Positions, uint32(v))
		if n.Dot(at) != -64 {
			t.Errorf("a face at %v looks to %v", at, n)
		}
	}
	for without := range 6 {
		for _, slot := range []int{1, 20} {
			s := must(t, world(room(without, slot), lantern), "outer hull", "every face, and the leak as a path")
			told := notes(s)
			at := strings.Index(told, "leaks, from light at 16 0 24 to the outside through ")
			if at < 0 {
				t.Fatalf("slab %d: %s", without, told)
			}
			var p [3]float64
			if _, err := fmt.Sscanf(told[at+len("leaks, from light at 16 0 24 to the outside through "):],
				"%g %g %g", &p[0], &p[1], &p[2]); err != nil {
				t.Fatal(err)
			}
			k, n := without/2, (without/2+1)%3
			out := p[k]
			if without%2 == 0 {
				out = -out
			}
			if out < 64 || out > 66 || p[n] < 32 || p[n] > float64(32+slot) {
				t.Errorf("slab %d, a slot of %d: through %v", without, slot, p)
			}
			way := s.Meshes[len(s.Meshes)-1].Parts[0]
			if first := geom.At(way.Positions, 0); first != (geom.Vec3{16, 0, 24}) || len(way.Lines) != 2*(way.Vertices()-1) {
				t.Errorf("the path begins at %v", first)
			}
			last := geom.At(way.Positions, uint32(way.Vertices()-1))
			if math.Abs(last[0]) < 64 && math.Abs(last[1]) < 64 && math.Abs(last[2]) < 64 {
				t.Errorf("the path ends at %v", last)
			}
		}
	}
	// A door does not close, nor does a tool surface, a patch neither.
	slab := strings.SplitAfter(room(-1, 0), "}\n")
	door := world(strings.Join(slab[:5], ""), lantern, "{\n\"classname\" \"door\"\n"+slab[5]+"}")
	if s := must(t, door); !strings.Contains(notes(s), "leaks, from light") {
		t.Error(notes(s))
	}
	group := strings.Replace(door, "door", "detail_group", 1)
	if s := must(t, group); !strings.Contains(notes(s), "closed") {
		t.Error(notes(s))
	}
	tool := world(strings.Join(slab[:5], "")+strings.ReplaceAll(slab[5], "weir/boards", "common/hint"), lantern)
	if s := must(t, tool); !strings.Contains(notes(s), "leaks") {
		t.Error(notes(s))
	}
	buried := strings.Replace(closed, "16 0 24", "64.5 0 0", 1)
	if s := must(t, buried); !strings.Contains(notes(s), "1 entity stands within solids") {
		t.Error(notes(s))
	}
	if s := must(t, world(room(-1, 0))); !strings.Contains(notes(s), "no entity stands at a point") {
		t.Error(notes(s))
	}
}

// eighth is the part of a hollow octahedron in one octant, between two sizes; the
// side along axis 0 begins at a place.
func eighth(sign [3]int, inner, outer, begin int) string {
	face := func(size, side int) string {
		p := [3]string{}
		for k := range 3 {
			c := [3]int{}
			c[k] = size * sign[k]
			p[k] = fmt.Sprintf("( %d %d %d ) ", c[0], c[1], c[2])
		}
		// Clockwise seen from outside: an odd number of mirrorings turns it round.
		if (sign[0]*sign[1]*sign[2] > 0) == (side > 0) {
			p[1], p[2] = p[2], p[1]
		}
		return p[0] + p[1] + p[2] + lay
	}
	out := "{\n" + face(outer, 1) + face(inner, -1)
	for k := range 3 {
		at := func(u, v int) string {
			c := [3]int{}
			if k == 0 {
				c[0] = begin * sign[0]
			}
			c[(k+1)%3], c[(k+2)%3] = u, v
			return fmt.Sprintf("( %d %d %d ) ", c[0], c[1], c[2])
		}
		if sign[k] > 0 { // the side looks down the axis
			out += at(0, 0) + at(1, 0) + at(0, 1) + lay
		} else {
			out += at(0, 0) + at(0, 1) + at(1, 0) + lay
		}
	}
	return out + "}\n"
}

// Slanted walls close as straight ones do, and a narrow gap between them is
// found where it is.
func TestSlantedHull(t *testing.T) {
	shell := func(gap int) string {
		out := ""
		for i := range 8 {
			sign := [3]int{1 - 2*(i&1), 1 - i&2, 1 - i>>1&2}
			begin := 0
			if i == 0 {
				begin = gap
			}
			out += eighth(sign, 90, 97, begin)
		}
		return out
	}
	s := must(t, world(shell(0), lantern), "outer hull", "only faces that the inside sees")
	if !strings.Contains(notes(s), "closed: none of 1 entity") {
		t.Fatal(notes(s))
	}
	// Of each eighth the inner face, and no other.
	p := &s.Meshes[0].Parts[0]
	if len(p.Triangles) != 24 {
		t.Errorf("%d triangles are seen", len(p.Triangles)/3)
	}
	for v := range p.Vertices() {
		if at := geom.At(p.Positions, uint32(v)); math.Abs(at[0])+math.Abs(at[1])+math.Abs(at[2]) != 90 {
			t.Errorf("a corner at %v is seen", at)
		}
	}
	s = must(t, world(shell(1), lantern))
	_, place, leaks := strings.Cut(notes(s), "leaks, from light at 16 0 24 to the outside through ")
	if !leaks {
		t.Fatal(notes(s))
	}
	var at geom.Vec3
	if _, err := fmt.Sscanf(place, "%g %g %g", &at[0], &at[1], &at[2]); err != nil {
		t.Fatal(err)
	}
	if at[0] < 0 || at[0] > 1 || at[1] < 0 || at[2] < 0 || at[1]+at[2] < 85 || at[1]+at[2] > 102 {
		t.Errorf("through %v", at)
	}
}

// A closed maze of random blocks: what the tree of planes says is held against
// a flood of a grid whose cells the blocks fill whole.
func TestHullAgainstAGrid(t *testing.T) {
	r := rand.New(rand.NewSource(11))
	const n = 9
	for round := range 30 {
		var full [n][n][n]bool
		solids := ""
		for x := range n {
			for y := range n {
				for z := range n {
					if r.Float64() < 0.3+0.25*float64(round%3) && (x != n/2 || y != n/2 || z != n/2) {
						full[x][y][z] = true
						solids += boxOf([3]int{8 * x, 8 * y, 8 * z}, [3]int{8*x + 8, 8*y + 8, 8*z + 8}, lay)
					}
				}
			}
		}
		at := 8*(n/2) + 4
		s := must(t, world(solids, fmt.Sprintf("{\n\"classname\" \"heron\"\n\"origin\" \"%d %d %d\"\n}", at, at, at)))
		out := false
		seen := map[[3]int]bool{{n / 2, n / 2, n / 2}: true}
		for queue := [][3]int{{n / 2, n / 2, n / 2}}; len(queue) > 0 && !out; {
			c := queue[0]
			queue = queue[1:]
			for k := range 6 {
				d := c
				d[k/2] += 2*(k%2) - 1
				if d[k/2] < 0 || d[k/2] >= n {
					out = true
					break
				}
				if !full[d[0]][d[1]][d[2]] && !seen[d] {
					seen[d] = true
					queue = append(queue, d)
				}
			}
		}
		if got := strings.Contains(notes(s), "leaks"); got != out || got == strings.Contains(notes(s), "closed") {
			t.Errorf("round %d: a grid leaks %v; %s", round, out, notes(s))
		}
	}
}

// patchOf writes a patch; each control point has its place and UV.
func patchOf(columns, rows int, at func(i, j int) [5]float64) string {
	var out strings.Builder
	fmt.Fprintf(&out, "{\npatchDef2\n{\nweir/boards\n( %d %d 0 0 0 )\n(\n", columns, rows)
	for i := range columns {
		out.WriteString("( ")
		for j := range rows {
			c := at(i, j)
			fmt.Fprintf(&out, "( %g %g %g %g %g ) ", c[0], c[1], c[2], c[3], c[4])
		}
		out.WriteString(")\n")
	}
	return out.String() + ")\n}\n}\n"
}

func TestPatches(t *testing.T) {
	plain := patchOf(3, 5, func(i, j int) [5]float64 {
		return [5]float64{8 * float64(i), 4 * float64(j), 1, float64(i) / 2, 1 - float64(j)/4}
	})
	s := must(t, world(plain), "curves", "2 to a piece")
	p := &s.Meshes[0].Parts[0]
	if p.Vertices() != 3*5 || len(p.Triangles) != 3*2*8 {
		t.Fatalf("%d vertices, %d numbers", p.Vertices(), len(p.Triangles))
	}
	for v := range p.Vertices() {
		at, uv := geom.At(p.Positions, uint32(v)), p.UVs[0].Data[2*v:]
		if at[2] != 1 || math.Abs(float64(uv[0])-at[0]/16) > 1e-6 || math.Abs(float64(uv[1])-(1-at[1]/16)) > 1e-6 {
			t.Errorf("%v has the UV %v", at, uv[:2])
		}
		// u to the right along x, v counted from above along -y: the front is +z.
		if n := geom.At(p.Normals, uint32(v)); n != (geom.Vec3{0, 0, 1}) {
			t.Errorf("normal %v", n)
		}
	}
	// With v the other way round it is seen from below.
	mirrored := patchOf(3, 3, func(i, j int) [5]float64 {
		return [5]float64{float64(i), float64(j), 0, float64(i), float64(j)}
	})
	s = must(t, world(mirrored))
	if n := geom.At(s.Meshes[0].Parts[0].Normals, 0); n != (geom.Vec3{0, 0, -1}) {
		t.Errorf("normal %v", n)
	}
	// A quarter of a parabola's tube: 16 pieces lie on it, and every triangle
	// looks the way its corners' normals do.
	tube := func(i, j int) [5]float64 {
		x, z := []float64{0, 8, 8}[i], []float64{0, 0, 8}[i]
		return [5]float64{x, 4 * float64(j), z, float64(i), -float64(j)}
	}
	for _, fine := range []string{"1 to a piece", "4 to a piece", "16 to a piece"} {
		for _, shading := range []string{"smooth", "flat"} {
			s := must(t, world(patchOf(3, 3, tube)), "curves", fine, "curve shading", shading)
			p := &s.Meshes[0].Parts[0]
			var n int
			fmt.Sscan(fine, &n)
			if len(p.Triangles) != 6*n*n || shading == "flat" && p.Vertices() != 6*n*n || shading == "smooth" &&
				p.Vertices() != (n+1)*(n+1) {
				t.Errorf("%s, %s: %d vertices, %d numbers", fine, shading, p.Vertices(), len(p.Triangles))
			}
			for v := range p.Vertices() {
				// x = 16t - 8t², z = 8t²: (x + z)² = 32 z.
				at := geom.At(p.Positions, uint32(v))
				if math.Abs((at[0]+at[2])*(at[0]+at[2])-32*at[2]) > 1e-3 {
					t.Errorf("%v is not on the parabola", at)
				}
			}
			for k := 0; k < len(p.Triangles); k += 3 {
				a, b, c := geom.At(p.Positions, p.Triangles[k]), geom.At(p.Positions,
					p.Triangles[k+1]), geom.At(p.Positions, p.Triangles[k+2])
				if b.Sub(a).Cross(c.Sub(a)).Norm().Dot(geom.At(p.Normals, p.Triangles[k])) < 0.5 {
					t.Errorf("%s, %s: a triangle looks another way than its normal", fine, shading)
				}
			}
		}
	}
	// One drawn together to a point at one end, of no area in its picture.
	fan := func(i, j int) [5]float64 {
		return [5]float64{float64(i * j), 4 * float64(j), 0, 0, 0}
	}
	s = must(t, world(patchOf(3, 3, fan)))
	for v := range s.Meshes[0].Parts[0].Vertices() {
		if n := geom.At(s.Meshes[0].Parts[0].Normals, uint32(v)); n != (geom.Vec3{0, 0, 1}) {
			t.Errorf("normal %v", n)
		}
	}
	if n := len(s.Meshes[0].Parts[0].Triangles); n != 3*(2*16-4) {
		t.Errorf("%d numbers", n)
	}
}

// A thousand solids that lie in each other at random angles: the reading ends,
// and says that it does not know.
func TestTooManyCells(t *testing.T) {
	if testing.Short() {
		t.Skip("takes seconds")
	}
	r := rand.New(rand.NewSource(9))
	var out strings.Builder
	for range 1500 {
		var points []geom.Vec3
		for range 9 {
			points = append(points,
				geom.Vec3{math.Round(4000 * r.NormFloat64()), math.Round(4000 * r.NormFloat64()),
					math.Round(4000 * r.NormFloat64())})
		}
		if h, ok := hull.Of(points, 0); ok {
			out.WriteString(planesOf(h, lay))
		}
	}
	s := must(t, world(out.String(), "{\n\"classname\" \"heron\"\n\"origin\" \"90000 0 0\"\n}"))
	if told := notes(s); !strings.Contains(told, "not told: its solids part space into too many cells") &&
		!strings.Contains(told, "leaks") {
		t.Error(told)
	}
}

// A level far away keeps its shape: corners are relative to a place that its node
// says. A box of 1.25 units at fifty millions would else have no corners left.
func TestFarLevels(t *testing.T) {
	far := strings.NewReplacer("( 0 ", "( 50000000 ", "( 2 ", "( 50000001.25 ").Replace(boxOf([3]int{0, 7, 7}, [3]int{2, 9, 9}, lay))
	for _, solids := range []string{"one mesh an entity", "a node each"} {
		s := must(t, world(far+patchOf(3, 3, func(i, j int) [5]float64 {
			return [5]float64{50000000 + float64(i)/4, 7 + float64(j)/4, 9, float64(i), -float64(j)}
		})), "solids", solids)
		low, high := math.Inf(1), math.Inf(-1)
		for i := range s.Nodes {
			if s.Nodes[i].Mesh < 0 {
				continue
			}
			p := &s.Meshes[s.Nodes[i].Mesh].Parts[0]
			for v := range p.Vertices() {
				x := float64(s.Nodes[i].Translation[0]) + float64(p.Positions[3*v])
				low, high = min(low, x), max(high, x)
			}
		}
		if low != 50000000 || high != 50000001.25 {
			t.Errorf("%s: from %.3f to %.3f", solids, low, high)
		}
	}
}

// What a scene has no place for, and what cannot be read of an entity, is said.
func TestNothingIsLostSilently(t *testing.T) {
	s := must(t, world(boxOf([3]int{}, [3]int{8, 8, 8}, " weir/boards 0 0 0 1 1 134217728 0 0\n")+
		"{\npatchDef2\n{\nweir/boards\n( 3 3 )\n(\n"+strings.Repeat("( ( 0 0 0 0 0 255 0 0 ) ( 1 0 0 0 0 ) ( 0 1 0 0 0 ) )\n", 3)+")\n}\n}\n",
		lantern, "{\n\"classname\" \"prop\"\n\"origin\" \"1 2\"\n\"angles\" \"left\"\n\"model\" \"punt.glb\"\n}",
		"{\n\"classname\" \"gate\"\n\"model\" \"*1\"\n}"))
	told := notes(s)
	for _, want := range []string{
		"what stands behind the projection of 6 faces is left out", "what stands behind the UV of 3 control points is left out",
		"1 entity has an origin that is not three numbers", "1 entity has angles that are not one number or three",
		"1 entity places a model by the key model", "1 light has a brightness that has no unit",
	} {
		if !strings.Contains(told, want) {
			t.Errorf("%q is not in\n%s", want, told)
		}
	}
	if v, _ := s.Nodes[2].Prop("model"); v != "punt.glb" {
		t.Errorf("%+v", s.Nodes[2].Props)
	}
}

func TestTooManyCurves(t *testing.T) {
	flat := patchOf(1025, 1025, func(i, j int) [5]float64 { return [5]float64{float64(i), float64(j), 0, 0, 0} })
	_, err := read(world(flat), map[string]string{"curves": "16 to a piece"})
	if err == nil || !strings.Contains(err.Error(), "line 4: up to this patch curves have more than 16777216 vertices") {
		t.Errorf("%v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(world(boxOf([3]int{}, [3]int{8, 8, 8}, lay), lantern)))
	f.Add([]byte(world(patchOf(3, 3, func(i, j int) [5]float64 { return [5]float64{float64(i), float64(j), 1, 0, 1} }))))
	f.Add([]byte(world("{\n( 0.5 0 0 ) ( 1e-9 0 0 ) ( 0 1 0 ) x [ 1 0 0 0 ] [ 0 1 0 0 ] 0 1 1\n}\n")))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := read(string(b), map[string]string{"outer hull": "every face, and the leak as a path"})
		if err == nil {
			err = s.Validate()
		} else if strings.TrimSpace(err.Error()) == "" {
			t.Error("an error says nothing")
		} else {
			return
		}
		if err != nil {
			t.Error(err)
		}
	})
}

// A level of 10,000 solids: rooms of slabs in rows, wedges within.
func BenchmarkRead(b *testing.B) {
	var out strings.Builder
	for i := range 2000 {
		x, y, z := 32*(i%20), 32*(i/20%20), 32*(i/400)
		a := [3]int{x, y, z}
		out.WriteString(boxOf(a, [3]int{x + 30, y + 30, z + 1}, lay))
		out.WriteString(boxOf(a, [3]int{x + 1, y + 30, z + 20}, lay))
		out.WriteString(boxOf(a, [3]int{x + 30, y + 1, z + 20}, lay))
		out.WriteString(boxOf([3]int{x + 8, y + 8, z + 4}, [3]int{x + 20, y + 21, z + 9}, lay))
		cut := strings.TrimSuffix(boxOf([3]int{x + 8, y + 8, z + 10}, [3]int{x + 20, y + 21, z + 19}, lay), "}\n")
		fmt.Fprintf(&out, "%s( %d %d %d ) ( %d %d %d ) ( %d %d %d )%s}\n", cut, x+8, y+8, z+15, x+8, y+21, z+17,
			x+20, y+8, z+18, lay)
	}
	shell := ""
	for k := range 3 {
		for side := range 2 {
			low, high := [3]int{-9, -9, -9}, [3]int{700, 700, 300}
			if side == 0 {
				high[k] = -8
			} else {
				low[k] = high[k] - 1
			}
			shell += boxOf(low, high, lay)
		}
	}
	for name, text := range map[string]string{"leaks": world(out.String(), lantern),
		"closed": world(out.String()+shell, lantern)} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				if s, err := read(text, nil); err != nil || !strings.Contains(notes(s), name) {
					b.Fatal(err)
				}
			}
		})
	}
}
