package receiver

import (
	"encoding/binary"
	"image"
	"image/color"
	"math"
	"math/rand"
	"slices"
	"testing"
)

// A node's matrix turns by the quaternion q v q*, as its definition has it, and
// scales before it turns.
func TestTurnsAreQuaternions(t *testing.T) {
	rnd := rand.New(rand.NewSource(4))
	times := func(a, b [4]float64) [4]float64 { // Hamilton's product, w last
		return [4]float64{
			a[3]*b[0] + a[0]*b[3] + a[1]*b[2] - a[2]*b[1],
			a[3]*b[1] - a[0]*b[2] + a[1]*b[3] + a[2]*b[0],
			a[3]*b[2] + a[0]*b[1] - a[1]*b[0] + a[2]*b[3],
			a[3]*b[3] - a[0]*b[0] - a[1]*b[1] - a[2]*b[2],
		}
	}
	for range 50 {
		q := [4]float64{rnd.NormFloat64(), rnd.NormFloat64(), rnd.NormFloat64(), rnd.NormFloat64()}
		l := math.Sqrt(q[0]*q[0] + q[1]*q[1] + q[2]*q[2] + q[3]*q[3])
		for k := range q {
			q[k] /= l
		}
		move, scale := vec{rnd.NormFloat64(), 2, 3}, vec{2, 0.5, -1.5}
		v := vec{rnd.NormFloat64(), rnd.NormFloat64(), rnd.NormFloat64()}
		n := node{Translation: move[:], Rotation: q[:], Scale: scale[:]}
		p := [4]float64{v[0] * scale[0], v[1] * scale[1], v[2] * scale[2], 0}
		r := times(times(q, p), [4]float64{-q[0], -q[1], -q[2], q[3]})
		want := vec{r[0], r[1], r[2]}.add(move)
		if got := n.local().point(v); got.sub(want).len() > 1e-9 {
			t.Errorf("%v turned by %v: %v, want %v", v, q, got, want)
		}
	}
	// A matrix stands for itself.
	m := unit
	m[12], m[5] = 7, 3
	n := &node{Matrix: m[:], Translation: []float64{1, 1, 1}}
	if got := n.local().point(vec{1, 1, 1}); got != (vec{8, 3, 1}) {
		t.Errorf("%v", got)
	}
}

// A chunk that says it is longer than the file by a few bytes is none.
func TestChunksOverTheEnd(t *testing.T) {
	for more := range 40 {
		b := plate().glb(t)
		n := binary.LittleEndian.Uint32(b[12:])
		binary.LittleEndian.PutUint32(b[12:], uint32(len(b)-20)+uint32(more))
		if _, err := readGLB(b); err == nil {
			t.Errorf("a chunk of %d bytes for %d, %d over the end, is read", uint32(len(b)-20)+uint32(more), n, more)
		}
	}
}

// Numbers of every kind, as they stand and made to 0 to 1 or -1 to 1 (glTF 2.0,
// 3.6.2.2), one beside the other and with a stride.
func TestNumbers(t *testing.T) {
	bin := []byte{255, 127, 129, 0, 51, 0, 0, 0}
	bin = binary.LittleEndian.AppendUint16(bin, 65535)
	bin = binary.LittleEndian.AppendUint16(bin, 0x8001) // -32767
	bin = binary.LittleEndian.AppendUint32(bin, 70000)
	bin = binary.LittleEndian.AppendUint32(bin, math.Float32bits(-2.5))
	whole := 0
	d := &document{bin: bin, BufferViews: []view{{0, len(bin), 0}, {0, len(bin), 4}, {1, 5, 0}}}
	for _, c := range []struct {
		at, kind, count int
		normalized      bool
		want            []float64
	}{
		{0, 5121, 3, false, []float64{255, 127, 129}},
		{0, 5121, 1, true, []float64{1}},
		{4, 5121, 1, true, []float64{0.2}},
		{1, 5120, 2, false, []float64{127, -127}},
		{1, 5120, 2, true, []float64{1, -1}},
		{8, 5123, 1, false, []float64{65535}},
		{8, 5123, 1, true, []float64{1}},
		{10, 5122, 1, false, []float64{-32767}},
		{10, 5122, 1, true, []float64{-1}},
		{12, 5125, 1, true, []float64{70000}},
		{16, 5126, 1, false, []float64{-2.5}},
	} {
		d.Accessors = []accessor{{BufferView: &whole, ByteOffset: c.at, ComponentType: c.kind, Count: c.count,
			Type: "SCALAR", Normalized: c.normalized}}
		got, w, err := d.numbers(0)
		if err != nil || w != 1 || !slices.Equal(got, c.want) {
			t.Errorf("%+v: %v, %v", c, got, err)
		}
	}
	strided, behind := 1, 2
	d.Accessors = []accessor{{BufferView: &strided, ComponentType: 5121, Count: 2, Type: "VEC2"},
		{BufferView: &behind, ComponentType: 5121, Count: 1, Type: "SCALAR"},
		{BufferView: &whole, ComponentType: 5121, Count: len(bin), Type: "SCALAR"},
		{BufferView: &whole, ComponentType: 5121, Count: len(bin) + 1, Type: "SCALAR"},
		{BufferView: &whole, ComponentType: 5199, Count: 1, Type: "SCALAR"},
		{BufferView: &whole, ComponentType: 5121, Count: 1, Type: "MAT2"}}
	if got, w, err := d.numbers(0); err != nil || w != 2 || !slices.Equal(got, []float64{255, 127, 51, 0}) {
		t.Errorf("%v, %v", got, err)
	}
	if got, _, err := d.numbers(1); err != nil || got[0] != 127 {
		t.Errorf("%v, %v", got, err)
	}
	for i, fails := range []bool{false, false, false, true, true, true, true} {
		if _, _, err := d.numbers(i); (err != nil) != fails {
			t.Errorf("accessor %d: %v", i, err)
		}
	}
}

// A picture's bytes lie within the model, or beside it; nothing is fetched.
func TestWherePicturesLie(t *testing.T) {
	first, second, none := 0, 1, 7
	d := &document{bin: []byte("abcdefgh"), BufferViews: []view{{0, 3, 0}, {3, 5, 0}}}
	files := map[string][]byte{"x/models/a.png": []byte("beside"), "x/materials/b.png": []byte("apart"),
		"a.png": []byte("elsewhere"), "x/models/https:/far/a.png": []byte("fetched")}
	for name, c := range map[string]struct {
		p    picture
		want string
	}{
		"within":             {picture{BufferView: &first}, "abc"},
		"within, further on": {picture{BufferView: &second}, "defgh"},
		"in no such place":   {picture{BufferView: &none}, ""},
		"beside":             {picture{URI: "a.png"}, "beside"},
		"in another folder":  {picture{URI: "../materials/b.png"}, "apart"},
		"far away":           {picture{URI: "https://far/a.png"}, ""},
		"nowhere":            {picture{}, ""},
	} {
		if got := string(d.bytesOf(&c.p, files, "x/models")); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
	d.BufferViews[1].ByteLength = 6
	if got := d.bytesOf(&picture{BufferView: &second}, files, ""); got != nil {
		t.Errorf("past the end: %q", got)
	}
}

// Colours from afar: the base colour, made from linear light to what is seen,
// times the picture's mean.
func TestColoursFromAfar(t *testing.T) {
	m := plate()
	m.files["m/w.png"] = pngOf(40, 40, color.NRGBA{51, 102, 204, 255})
	m.at("materials", 0)["pbrMetallicRoughness"].(obj)["baseColorFactor"] = []float64{0.25, 1, 0, 1}
	m.add("materials", obj{"name": "paint", "pbrMetallicRoughness": obj{"baseColorFactor": []float64{1, 0.5, 0.25, 1}}})
	m.add("materials", obj{"name": "plain"})
	s, err := parseSheet("x", []byte("target: x\nformat: glb\n"))
	if err != nil {
		t.Fatal(err)
	}
	c := take(s, map[string][]byte{"m/m.glb": m.glb(t), "m/w.png": m.files["m/w.png"]}, "m/m.glb").world.colours
	seen := func(v float64) float64 { return math.Pow(v, 1/2.2) }
	for i, want := range []vec{{seen(0.25) * 0.2, 0.4, 0}, {1, seen(0.5), seen(0.25)}, {0.72, 0.7, 0.66}} {
		if c[i].sub(want).len() > 0.01 {
			t.Errorf("material %d: %v, want %v", i, c[i], want)
		}
	}
}

// The walk is the same in an engine of another unit with another axis up.
func TestTheWalkInAnotherBasis(t *testing.T) {
	s, err := parseSheet("x", []byte("target: x\nformat: glb\n"+
		"basis: {up: +Z, front: +X, handedness: right, metres_per_unit: 0.01}\n"+
		"colliders: {as: ending, ending: _solid}\n"))
	if err != nil {
		t.Fatal(err)
	}
	m := &made{doc: obj{"asset": obj{"version": "2.0"}}}
	flat := func(h, half float32) int {
		return m.add("meshes", obj{"primitives": []any{obj{"attributes": obj{"POSITION": m.numbers("VEC3",
			[]float32{-half, -half, h, half, -half, h, half, half, h,
				-half, -half, h, half, half, h, -half, half, h})}}}})
	}
	floor := flat(0, 400)
	m.add("nodes", obj{"name": "floor", "mesh": floor})
	m.add("nodes", obj{"name": "floor_solid", "mesh": floor})
	for _, c := range []struct {
		name         string
		height       float32 // of a step of 2 × 2 m, in centimetres
		places       int
		blocked      bool
		falls, float int
	}{
		{"no step", 0, 256, false, 0, 0},
		{"a low step", 20, 256, false, 0, 0},
	} {
		n := *m
		if c.height > 0 {
			step := flat(c.height, 100)
			n.doc["nodes"] = append(slices.Clone(m.list("nodes")), obj{"name": "step", "mesh": step},
				obj{"name": "step_solid", "mesh": step})
		}
		w := take(s, map[string][]byte{"m.glb": n.glb(t)}, "m.glb").world.walk()
		if w.Spacing != 0.5 || len(w.Falls) != c.falls || len(w.Floats) != c.float ||
			(len(w.Blocked) > 0) != c.blocked || w.Stands != w.Places {
			t.Errorf("%s: %+v", c.name, w)
		}
		if c.height == 0 && w.Places != c.places {
			t.Errorf("%s: %d places", c.name, w.Places)
		}
	}
	// A wall that nobody sees stops it, in this unit too.
	wall := m.add("meshes", obj{"primitives": []any{obj{"attributes": obj{"POSITION": m.numbers("VEC3",
		[]float32{10, -400, 0, 10, 400, 0, 10, 400, 240, 10, -400, 0, 10, 400, 240, 10, -400, 240})}}}})
	nodes := m.list("nodes")
	m.add("nodes", obj{"name": "wall_solid", "mesh": wall})
	w := take(s, map[string][]byte{"m.glb": m.glb(t)}, "m.glb").world.walk()
	if len(w.Blocked) == 0 || math.Abs(w.Blocked[0].At[0]-0.1) > 0.3 {
		t.Errorf("%+v", w)
	}
	m.doc["nodes"] = nodes
	// A floor without a body: where one falls is told in metres.
	delete(m.doc, "nodes")
	m.add("nodes", obj{"name": "floor", "mesh": floor})
	w = take(s, map[string][]byte{"m.glb": m.glb(t)}, "m.glb").world.walk()
	far := 0.0
	for _, p := range w.Falls {
		far = max(far, math.Abs(p.At[0]), math.Abs(p.At[1]))
	}
	if len(w.Falls) == 0 || far > 4 || far < 3 {
		t.Errorf("falls reach %g m, of a floor of 8 m", far)
	}
}

// What it sees stands in the middle of the picture, fills it to nine tenths, and
// has marks where the figure met something.
func TestWhatItSees(t *testing.T) {
	square := func(h, half float64, m int) []triangle {
		a, b, c, d := vec{-half, h, -half}, vec{-half, h, half}, vec{half, h, half}, vec{half, h, -half}
		return []triangle{{[3]vec{a, b, c}, 0, m}, {[3]vec{a, c, d}, 0, m}}
	}
	w := &world{up: 1, metres: 0.01, faces: square(0, 200, 0), colours: []vec{{0.2, 0.8, 0.2}, {0.9, 0.1, 0.1}}}
	const width, height = 200, 160
	ground := color.NRGBA{0x1f, 0x26, 0x2b, 0xff}
	img := w.see(width, height, nil)
	box, greens := image.Rectangle{}, 0
	for y := range height {
		for x := range width {
			c := img.NRGBAAt(x, y)
			if c == ground {
				continue
			}
			box = box.Union(image.Rect(x, y, x+1, y+1))
			if c.G > 2*c.R && c.G > 2*c.B {
				greens++
			}
		}
	}
	if mid := box.Min.Add(box.Max); math.Abs(float64(mid.X-width)) > 3 || math.Abs(float64(mid.Y-height)) > 3 {
		t.Errorf("it stands at %v", box)
	}
	if full := max(float64(box.Dx())/width, float64(box.Dy())/height); full < 0.87 || full > 0.93 {
		t.Errorf("it fills %.2f of the picture", full)
	}
	// A square seen under a slant covers half of the box round its picture.
	if share := float64(greens) / float64(box.Dx()*box.Dy()); share < 0.4 || share > 0.65 {
		t.Errorf("it covers %.2f of its box", share)
	}
	// What lies above hides what lies below, in whatever order they come.
	for name, faces := range map[string][]triangle{"above last": append(square(0, 200, 0), square(1, 200, 1)...),
		"above first": append(square(1, 200, 1), square(0, 200, 0)...)} {
		w.faces = faces
		if c := w.see(width, height, nil).NRGBAAt(width/2, height/2); c.R < 2*c.G {
			t.Errorf("%s: %v in the middle", name, c)
		}
	}
	// A mark in the middle of the floor is in the middle of the picture.
	w.faces = square(0, 200, 0)
	for what, c := range map[string]struct {
		walk Walk
		want color.NRGBA
	}{
		"a fall":  {Walk{Falls: []Place{{At: [3]float64{0, 0, 0}}}}, color.NRGBA{0xe0, 0x4a, 0x3a, 0xff}},
		"a float": {Walk{Floats: []Place{{At: [3]float64{0, 0, 0}}}}, color.NRGBA{0xf0, 0xa8, 0x30, 0xff}},
		"a wall":  {Walk{Blocked: []Place{{At: [3]float64{0, 0, 0}}}}, color.NRGBA{0xd0, 0x60, 0xd0, 0xff}},
	} {
		if got := w.see(width, height, &c.walk).NRGBAAt(width/2, height/2); got != c.want {
			t.Errorf("%s: %v", what, got)
		}
	}
	// A place one metre off lies where its hundred units are drawn.
	off := Walk{Falls: []Place{{At: [3]float64{2, 0, 2}}}}
	img = w.see(width, height, &off)
	marks := image.Rectangle{}
	for y := range height {
		for x := range width {
			if img.NRGBAAt(x, y) == (color.NRGBA{0xe0, 0x4a, 0x3a, 0xff}) {
				marks = marks.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	if marks.Empty() || !marks.In(image.Rect(box.Min.X-5, box.Min.Y-5, box.Max.X+5, box.Max.Y+5)) ||
		marks.Min.X < box.Max.X-12 && marks.Min.Y > box.Min.Y+12 && marks.Max.Y < box.Max.Y-12 &&
			marks.Max.X > box.Min.X+12 {
		t.Errorf("a corner is marked at %v of %v", marks, box)
	}
	if img := (&world{}).see(4, 4, nil); img.NRGBAAt(1, 1) != ground {
		t.Errorf("nothing looks like %v", img.NRGBAAt(1, 1))
	}
}
