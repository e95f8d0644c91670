package receiver

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
)

// glb packs a document and its numbers.
func glb(doc string, bin []byte) []byte {
	for len(doc)%4 != 0 {
		doc += " "
	}
	for len(bin)%4 != 0 {
		bin = append(bin, 0)
	}
	var b bytes.Buffer
	w := func(v uint32) { binary.Write(&b, binary.LittleEndian, v) }
	b.WriteString("glTF")
	w(2)
	w(uint32(28 + len(doc) + len(bin)))
	w(uint32(len(doc)))
	b.WriteString("JSON" + doc)
	w(uint32(len(bin)))
	b.WriteString("BIN\x00")
	b.Write(bin)
	return b.Bytes()
}

// quad is a square of 8 × 8 m at height h that looks up.
func quad(h float32) []byte {
	var b bytes.Buffer
	for _, v := range [][3]float32{{-4, h, -4}, {-4, h, 4}, {4, h, 4}, {-4, h, -4}, {4, h, 4}, {4, h, -4}} {
		binary.Write(&b, binary.LittleEndian, v)
	}
	return b.Bytes()
}

// floor is a model of a floor; nodes are added to it.
func floor(nodes string, more string) []byte {
	return glb(`{"asset":{"version":"2.0"},"nodes":[{"name":"floor","mesh":0}`+nodes+`],
"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]},{"primitives":[{"attributes":{"POSITION":1}}]}],
"accessors":[{"bufferView":0,"componentType":5126,"count":6,"type":"VEC3"},{"bufferView":1,"componentType":5126,"count":6,"type":"VEC3"}],
"bufferViews":[{"byteLength":72},{"byteOffset":72,"byteLength":72}]`+more+`}`, append(quad(0), quad(1)...))
}

func reed(t *testing.T) *sheet {
	t.Helper()
	s, err := loadSheet("reedlight")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func codes(r *Report) (out []string) {
	for _, l := range r.Log {
		out = append(out, l.Code)
	}
	slices.Sort(out)
	return out
}

// What the figure meets, on a floor of 8 × 8 m whose places lie half a metre
// apart: 16 times 16 of them.
func TestTheWalk(t *testing.T) {
	solid := func(geometry string, at string) string {
		return `,{"name":"c"` + at + `,"extensions":{"KHR_physics_rigid_bodies":{"collider":{"geometry":` +
			geometry + `}}}}`
	}
	box := `,"extensions":{"KHR_implicit_shapes":{"shapes":[{"type":"box","box":{"size":[8,1,8]}},{"type":"box","box":{"size":[0.2,2.4,8]}},{"type":"sphere","sphere":{"radius":0.5}},{"type":"capsule","capsule":{"radiusBottom":0.5,"radiusTop":0.5,"height":1}}]}}`
	for _, c := range []struct {
		name                          string
		nodes                         string
		places, stands, falls, floats int
		blocked                       bool
	}{
		{"nothing to stand on", "", 256, 0, 100, 0, false}, // of falls a hundred are told
		{"a mesh", solid(`{"mesh":0}`, ""), 256, 256, 0, 0, false},
		{"a box below", solid(`{"shape":0}`, `,"translation":[0,-0.5,0]`), 256, 256, 0, 0, false},
		// Its top lies a metre above what is seen: the figure floats, and no floor is
		// missing a body to stand on by less than a step.
		{"a box about it", solid(`{"shape":0}`, `,"translation":[0,0.5,0]`), 256, 0, 0, 100, false},
		{"a wall that nobody sees", solid(`{"mesh":0}`, "") +
			solid(`{"shape":1}`, `,"translation":[0.1,1.2,0]`), 256, 0, 0, 0, true},
	} {
		r := take(reed(t), map[string][]byte{"m.glb": floor(c.nodes, box)}, "m.glb")
		w := r.world.walk()
		if c.name == "a wall that nobody sees" {
			if len(w.Blocked) == 0 || !strings.Contains(w.Blocked[0].Why, "cannot pass") {
				t.Errorf("%s: %+v", c.name, w)
			}
			continue
		}
		if w.Places != c.places || w.Stands != c.stands || len(w.Falls) != c.falls ||
			len(w.Floats) != c.floats || (len(w.Blocked) > 0) != c.blocked {
			t.Errorf("%s: %d places, %d stand, %d fall, %d float, %d blocked", c.name, w.Places, w.Stands,
				len(w.Falls), len(w.Floats), len(w.Blocked))
		}
		if w.Spacing != 0.5 {
			t.Errorf("%s: places lie %g m apart", c.name, w.Spacing)
		}
	}
}

// A ceiling that is too low leaves no room for the figure; one higher does.
func TestHeadroom(t *testing.T) {
	w := &world{up: 1, metres: 1}
	lids := []hit{{height: 0}, {height: 1.6}}
	if got := w.floors([]hit{{height: 0, floor: true}}, lids); got != nil {
		t.Errorf("%v", got)
	}
	lids[1].height = 1.8
	if got := w.floors([]hit{{height: 0, floor: true}, {height: 1.8}}, lids); len(got) != 1 {
		t.Errorf("%v", got)
	}
}

// Shapes as triangles: their areas by hand, within what 16 corners make of a
// circle.
func TestSolids(t *testing.T) {
	x := &intake{doc: &document{world: []mat{unit}}}
	area := func(list []triangle) (sum float64) {
		for _, f := range list {
			sum += f.at[1].sub(f.at[0]).cross(f.at[2].sub(f.at[0])).len() / 2
		}
		return sum
	}
	if a := area(x.box(0, vec{2, 3, 4})); math.Abs(a-52) > 1e-9 {
		t.Errorf("a box has %g", a)
	}
	for _, f := range x.box(0, vec{2, 3, 4}) { // seen from outside
		n := f.at[1].sub(f.at[0]).cross(f.at[2].sub(f.at[0]))
		if n.dot(f.at[0].add(f.at[1]).add(f.at[2])) <= 0 {
			t.Errorf("%v looks inwards", f.at)
		}
	}
	if a, want := area(x.round(0, 1, 0)), 4*math.Pi; a > want || a < 0.93*want {
		t.Errorf("a ball has %g", a)
	}
	if a, want := area(x.round(0, 1, 2)), 8*math.Pi; a > want || a < 0.9*want {
		t.Errorf("a capsule has %g", a)
	}
}

// Nodes within nodes, and vertices that follow joints.
func TestPlaces(t *testing.T) {
	d, err := readGLB(floor(`,{"name":"up","children":[2],"translation":[0,2,0]},
		{"name":"in","mesh":1,"scale":[2,2,2],"rotation":[0,0.70710678,0,0.70710678]}`, ""))
	if err != nil {
		t.Fatal(err)
	}
	f, err := d.triangles(2, 1)
	if err != nil || len(f) != 2 {
		t.Fatal(err)
	}
	// (-4, 1, -4) turned a quarter about Y, doubled, lifted by 2.
	if got := f[0].at[0]; got.sub(vec{-8, 4, 8}).len() > 1e-5 {
		t.Errorf("%v", got)
	}
}

func TestBrokenModels(t *testing.T) {
	for name, b := range map[string][]byte{
		"nothing":      nil,
		"text":         []byte("glTF but not really, only text"),
		"runs over":    append([]byte("glTF\x02\x00\x00\x00\x30\x00\x00\x00\xff\xff\xff\x7fJSON"), 0, 0, 0, 0),
		"no JSON":      glb("{", nil),
		"in a circle":  glb(`{"nodes":[{"children":[1]},{"children":[0]}]}`, nil),
		"two parents":  glb(`{"nodes":[{"children":[2]},{"children":[2]},{}]}`, nil),
		"no such node": glb(`{"nodes":[{"children":[7]}]}`, nil),
		"over the end": glb(`{"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],
			"accessors":[{"bufferView":0,"componentType":5126,"count":9999,"type":"VEC3"}],
			"bufferViews":[{"byteLength":8}]}`,
			make([]byte, 8)),
		"no such mesh": glb(`{"nodes":[{"mesh":5}]}`, nil),
		"far offsets": glb(`{"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],
			"accessors":[{"bufferView":0,"byteOffset":9223372036854775807,"componentType":5126,"count":1,"type":"VEC3"}],
			"bufferViews":[{"byteOffset":9223372036854775807,"byteLength":8}]}`,
			make([]byte, 8)),
	} {
		r := take(reed(t), map[string][]byte{"m.glb": b}, "m.glb")
		if len(r.Log) == 0 || r.Log[0].Level != "error" {
			t.Errorf("%s: %+v", name, r.Log)
		}
	}
}

// packed is a package.
func packed(t *testing.T, files map[string][]byte) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for p, data := range files {
		w, err := z.Create(p)
		if err != nil {
			t.Fatal(err)
		}
		w.Write(data)
	}
	z.Close()
	return b.Bytes()
}

func post(t *testing.T, u string, b []byte) (int, string) {
	t.Helper()
	r, err := http.Post(u, "application/zip", bytes.NewReader(b))
	if err != nil {
		return 0, err.Error()
	}
	defer r.Body.Close()
	text, _ := io.ReadAll(r.Body)
	return r.StatusCode, string(text)
}

// What the engine answers over HTTP: who it is, what became of a delivery, what
// it sees, and what is wrong with it.
func TestTheEngineAnswers(t *testing.T) {
	s := httptest.NewServer(NewEngine().Handler())
	defer s.Close()
	var about About
	r, err := http.Get(s.URL + "/receiver")
	if err != nil || json.NewDecoder(r.Body).Decode(&about) != nil || about.Kind != "engine" ||
		!slices.Contains(about.Targets, "tideworks") || !slices.Contains(about.Checks, "SK02") {
		t.Errorf("%+v, %v", about, err)
	}
	if code, _ := get(t, s.URL+"/seen"); code != 404 {
		t.Errorf("it sees something: %d", code)
	}
	ok := packed(t, map[string][]byte{"x/models/m.glb": floor("", ""), "x/motions/a.glb": nil,
		"x/models/m_lod1.glb": nil})
	code, text := post(t, s.URL+"/deliveries?target=reedlight", ok)
	var rep Report
	if err := json.Unmarshal([]byte(text), &rep); code != 200 || err != nil || rep.Model != "x/models/m.glb" ||
		rep.Walk == nil || len(rep.Walk.Falls) == 0 || !slices.Contains(codes(&rep), "CO01") {
		t.Errorf("%d, %s", code, text)
	}
	code, text = get(t, s.URL+"/seen?width=64&height=32")
	img, err := png.Decode(strings.NewReader(text))
	if code != 200 || err != nil || img.Bounds().Dx() != 64 {
		t.Errorf("%d, %v", code, err)
	}
	for name, c := range map[string]struct {
		query string
		body  []byte
		want  string
	}{
		"no such project": {"target=clay", ok, "no project of the kind"},
		"no zip":          {"target=reedlight", []byte("x"), "no zip"},
		"no model":        {"target=reedlight", packed(t, map[string][]byte{"a.txt": nil}), "no model"},
		"leads out":       {"target=reedlight", packed(t, map[string][]byte{"../a.glb": nil}), "leads out"},
	} {
		if code, text := post(t, s.URL+"/deliveries?"+c.query, c.body); code != 400 || !strings.Contains(text, c.want) {
			t.Errorf("%s: %d, %s", name, code, text)
		}
	}
	trouble := func(body string) {
		r, err := http.Post(s.URL+"/trouble", "application/json", strings.NewReader(body))
		if err != nil || r.StatusCode != 200 {
			t.Fatal(err)
		}
	}
	trouble(`{"full": true}`)
	if code, text := post(t, s.URL+"/deliveries?target=reedlight", ok); code != 507 ||
		!strings.Contains(text, "no room") {
		t.Errorf("%d, %s", code, text)
	}
	trouble(`{"dropAfter": 10}`)
	if code, text := post(t, s.URL+"/deliveries?target=reedlight", ok); code != 0 {
		t.Errorf("%d, %s", code, text)
	}
	if code, _ := post(t, s.URL+"/deliveries?target=reedlight", ok); code != 200 {
		t.Errorf("after trouble: %d", code)
	}
}

func get(t *testing.T, u string) (int, string) {
	t.Helper()
	r, err := http.Get(u)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	b, _ := io.ReadAll(r.Body)
	return r.StatusCode, string(b)
}

// The film tool finds what lies in the right place on its search path, and its
// update leaves that alone.
func TestTheFilmTool(t *testing.T) {
	s := httptest.NewServer(NewFilm().Handler())
	defer s.Close()
	dds := append([]byte("DDS "), make([]byte, 124)...)
	binary.LittleEndian.PutUint32(dds[12:], 64)
	binary.LittleEndian.PutUint32(dds[16:], 64)
	for _, c := range []struct {
		name, search string
		files        map[string][]byte
		has, lacks   []string
	}{
		{"right", "Search own_custom", map[string][]byte{"own_custom/models/m.glb": floor("", ""),
			"own_custom/materials/x/w.dds": dds}, nil, []string{"FL01", "FL02", "FL03", "FL04"}},
		{"not on the path", "", map[string][]byte{"other/models/m.glb": floor("", "")}, []string{"FL02"},
			[]string{"FL01"}},
		{"small letters", "search wrong", map[string][]byte{"wrong/models/m.glb": floor("", "")},
			[]string{"FL02"}, nil},
		{"wrong places", "Search third", map[string][]byte{"third/m.glb": floor("", ""), "third/w.dds": dds},
			[]string{"FL01", "FL03"}, []string{"FL02"}},
		{"its own folder", "Search base", map[string][]byte{"base/models/m.glb": floor("", "")},
			[]string{"FL04"}, []string{"FL01", "FL02"}},
	} {
		code, text := post(t, s.URL+"/deliveries?target=millrace&search="+
			strings.ReplaceAll(c.search, " ", "+"), packed(t, c.files))
		var rep Report
		if err := json.Unmarshal([]byte(text), &rep); code != 200 || err != nil {
			t.Fatalf("%s: %d, %s", c.name, code, text)
		}
		got := codes(&rep)
		for _, k := range c.has {
			if !slices.Contains(got, k) {
				t.Errorf("%s: no %s in %v", c.name, k, got)
			}
		}
		for _, k := range c.lacks {
			if slices.Contains(got, k) {
				t.Errorf("%s: %s in %v", c.name, k, got)
			}
		}
	}
	code, text := post(t, s.URL+"/update", nil)
	var swept struct{ Gone, Left []string }
	if err := json.Unmarshal([]byte(text), &swept); code != 200 || err != nil ||
		!slices.Equal(swept.Gone, []string{"base/models/m.glb"}) ||
		!slices.Contains(swept.Left, "own_custom/models/m.glb") {
		t.Errorf("%d, %s", code, text)
	}
	e := httptest.NewServer(NewEngine().Handler())
	defer e.Close()
	if code, _ := post(t, e.URL+"/update", nil); code != 404 {
		t.Errorf("an engine updates itself: %d", code)
	}
}

func TestGlobs(t *testing.T) {
	for _, c := range []struct {
		glob, name string
		want       bool
	}{{"*door*", "hut_door", true}, {"door", "hut_door", false}, {"a.c", "abc", false}, {"*", "", true},
		{"tool_*", "tool_clip", true}} {
		if fits([]string{c.glob}, c.name) != c.want {
			t.Errorf("%s, %s", c.glob, c.name)
		}
	}
}

func FuzzModel(f *testing.F) {
	f.Add(floor("", ""))
	f.Add(floor(`,{"name":"c","extensions":{"KHR_physics_rigid_bodies":{"collider":{"geometry":{"mesh":0}}}}}`, ""))
	s, err := loadSheet("tideworks")
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 1<<16 {
			return
		}
		r := take(s, map[string][]byte{"m.glb": b}, "m.glb")
		if r.world != nil {
			fmt.Fprint(io.Discard, r.world.walk().Places, r.world.see(16, 16, nil).Rect)
		}
	})
}
