package step

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand"
	"reflect"
	"slices"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// figure is a small skinned asset with all that steps must carry along: a
// root, a bone, a camera, a helper, a motion, normals, tangents, a morph.
func figure() *scene.Scene {
	s := &scene.Scene{Name: "figure", Basis: geom.Basis{Up: geom.PlusZ, Front: geom.MinusY, Handed: geom.Left, MetresPerUnit: 0.01}}
	node := func(name string, parent int, t [3]float32) int {
		n := scene.NewNode(name)
		n.Parent, n.Translation = parent, t
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	root := node("_ROOT#1", scene.None, [3]float32{0, 0, 10})
	q := geom.AxisAngle(geom.Vec3{1, 2, 3}, 0.6)
	s.Nodes[root].Rotation = [4]float32{float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}
	arm := node("arm", root, [3]float32{20, -5, 30})
	node("helper", arm, [3]float32{1, 1, 1})
	cam := node("camera", scene.None, [3]float32{100, 0, 0})
	s.Nodes[cam].Camera = 0
	s.Cameras = []scene.Camera{{Name: "c", FovY: 1, Near: 1, Far: 100}}
	mesh := node("body", scene.None, [3]float32{})
	s.Nodes[mesh].Mesh, s.Nodes[mesh].Skin = 0, 0
	skin := scene.Skin{Joints: []int{root, arm}, Root: root}
	world := s.World()
	for _, j := range skin.Joints {
		inv, _ := world[j].Inverse()
		for _, v := range inv {
			skin.InverseBind = append(skin.InverseBind, float32(v))
		}
	}
	s.Skins = []scene.Skin{skin}
	s.Meshes = []scene.Mesh{{Name: "body", Parts: []scene.Part{{
		Material: scene.None, Influences: 2,
		Positions: []float32{0, 0, 5, 30, 0, 5, 0, -40, 60, 10, 10, 100},
		Normals:   []float32{0, 0, 1, 1, 0, 0, 0, -1, 0, 0, 1, 0},
		Tangents:  []float32{1, 0, 0, 1, 0, 1, 0, 1, 0, 0, 1, -1, 1, 0, 0, 1},
		Joints:    []uint16{0, 0, 0, 1, 1, 0, 1, 0},
		Weights:   []float32{1, 0, 0.5, 0.5, 1, 0, 1, 0},
		Triangles: []uint32{0, 1, 2, 1, 3, 2},
		UVs:       []scene.AttrSet{{Name: "surface", Data: []float32{0, 0, 1, 0, 0, 1, 1, 1}}},
		Morphs:    []scene.MorphTarget{{Name: "smile", Positions: []float32{1, 0, 0, 0, 2, 0, 0, 0, 3, 1, 1, 1}}},
	}}}}
	r := geom.AxisAngle(geom.Vec3{0, 1, 0}, 0.9)
	s.Motions = []scene.Motion{{Name: "wave", Channels: []scene.Channel{
		{Node: arm, Path: scene.PathRotation, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{0, 0, 0, 1, float32(r[0]), float32(r[1]), float32(r[2]), float32(r[3])}},
		{Node: root, Path: scene.PathTranslation, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{0, 0, 10, 5, 5, 15}},
		{Node: cam, Path: scene.PathTranslation, Interp: scene.Linear, Times: []float32{0}, Values: []float32{1, 2, 3}},
	}}}
	return s
}

func apply(t *testing.T, name string, s *scene.Scene, params any) (*scene.Scene, Report) {
	t.Helper()
	k, err := Get(name)
	if err != nil {
		t.Fatal(err)
	}
	b, _ := json.Marshal(params)
	before, err := s.Digest()
	if err != nil {
		t.Fatal(err)
	}
	var r Report
	out, err := k.Apply(context.Background(), s, b, nil, &r)
	if err != nil {
		t.Fatal(err)
	}
	if err := out.Validate(); err != nil {
		t.Fatalf("%s makes an unsound scene: %v", name, err)
	}
	if after, _ := s.Digest(); after != before {
		t.Fatalf("%s changed the scene that it was given", name)
	}
	return out, r
}

// pose returns every vertex in world space with the motion's keys at index k.
func pose(s *scene.Scene, k int) []geom.Vec3 {
	c := *s
	c.Nodes = append([]scene.Node{}, s.Nodes...)
	for _, ch := range s.Motions[0].Channels {
		n := &c.Nodes[ch.Node]
		switch ch.Path {
		case scene.PathRotation:
			copy(n.Rotation[:], ch.Values[4*k:])
		case scene.PathTranslation:
			if len(ch.Values) > 3*k {
				copy(n.Translation[:], ch.Values[3*k:3*k+3])
			}
		}
	}
	var out []geom.Vec3
	world := c.World()
	for i := range c.Nodes {
		if c.Nodes[i].Mesh >= 0 {
			pos, _ := c.Posed(i, &c.Meshes[c.Nodes[i].Mesh].Parts[0], world)
			for v := 0; v+2 < len(pos); v += 3 {
				out = append(out, geom.Vec3{float64(pos[v]), float64(pos[v+1]), float64(pos[v+2])})
			}
		}
	}
	return out
}

func TestBasisIsTheSameAssetInOtherNumbers(t *testing.T) {
	s := figure()
	out, r := apply(t, "basis", s, map[string]any{"up": "+Y", "front": "+Z", "handedness": "right", "unit": 1})
	// By hand: right is +X there and -X here, up is Z and Y, front -Y and Z.
	byHand := func(p geom.Vec3) geom.Vec3 { return geom.Vec3{-p[0] / 100, p[2] / 100, -p[1] / 100} }
	for k := 0; k < 2; k++ { // at rest's key and with the arm turned
		a, b := pose(s, k), pose(out, k)
		for i := range a {
			if d := byHand(a[i]).Sub(b[i]).Len(); d > 1e-6 {
				t.Errorf("key %d vertex %d: %v became %v, by hand %v", k, i, a[i], b[i], byHand(a[i]))
			}
		}
	}
	p, q := &s.Meshes[0].Parts[0], &out.Meshes[0].Parts[0]
	if fmt.Sprint(q.Triangles) != "[0 2 1 1 2 3]" {
		t.Errorf("the hand changed and windings are %v", q.Triangles)
	}
	for v := 0; v < 4; v++ {
		n := byHand(geom.Vec3{float64(p.Normals[3*v]), float64(p.Normals[3*v+1]), float64(p.Normals[3*v+2])}).Mul(100)
		if n.Sub(geom.Vec3{float64(q.Normals[3*v]), float64(q.Normals[3*v+1]), float64(q.Normals[3*v+2])}).Len() > 1e-6 {
			t.Errorf("normal %d is %v, by hand %v", v, q.Normals[3*v:3*v+3], n)
		}
		if p.Tangents[4*v+3] != -q.Tangents[4*v+3] {
			t.Errorf("tangent %d keeps its sign under a mirroring map", v)
		}
		// The face's own normal must stay on the same side as the stored one.
	}
	if len(r.Lines) == 0 || !strings.Contains(r.Lines[0], "Y up") {
		t.Errorf("report %v", r)
	}
	back, _ := apply(t, "basis", out, map[string]any{"up": "+Z", "front": "-Y", "handedness": "left", "unit": 0.01})
	for i, v := range pose(back, 1) {
		if v.Sub(pose(s, 1)[i]).Len() > 1e-4 {
			t.Fatalf("there and back moves vertex %d", i)
		}
	}
	if _, r := apply(t, "basis", out, map[string]any{}); !r.Idle {
		t.Error("a basis that is right already was said to change")
	}
}

func TestBasisOfASourceThatDeclaresNothing(t *testing.T) {
	s := figure()
	s.Basis = geom.Basis{}
	k, _ := Get("basis")
	var r Report
	if _, err := k.Apply(context.Background(), s, nil, nil, &r); err == nil || !strings.Contains(err.Error(), "assume") {
		t.Errorf("got %v", err)
	}
	out, _ := apply(t, "basis", s, map[string]any{"assume": map[string]any{"up": "+Z", "front": "-Y", "handedness": "left", "unit": 0.01}})
	want, _ := apply(t, "basis", figure(), map[string]any{})
	if !reflect.DeepEqual(pose(out, 1), pose(want, 1)) {
		t.Error("assuming what the other file declares gives another result")
	}
}

func TestStrip(t *testing.T) {
	out, r := apply(t, "strip", figure(), map[string]any{})
	st := out.Stats()
	if st.Cameras != 0 || st.Helpers != 0 || st.Bones != 2 || len(out.Nodes) != 3 || len(out.Cameras) != 0 {
		t.Errorf("left over: %+v", st)
	}
	if r.Lines[0] != "1 camera, 1 helper removed" {
		t.Errorf("says %q", r.Lines)
	}
	if len(r.Losses) != 1 || !strings.Contains(r.Losses[0], "camera") {
		t.Errorf("the camera's motion went without a word: %q", r.Losses)
	}
	if len(out.Motions[0].Channels) != 2 {
		t.Errorf("%d channels left", len(out.Motions[0].Channels))
	}
	only, _ := apply(t, "strip", figure(), map[string]any{"helpers": false})
	if only.Stats().Helpers != 1 || only.Stats().Cameras != 0 {
		t.Error("helpers were not asked to go")
	}
	if _, r := apply(t, "strip", out, nil); !r.Idle {
		t.Error("nothing to strip, and it says otherwise")
	}
}

func TestGround(t *testing.T) {
	s := figure()
	out, r := apply(t, "ground", s, map[string]any{"centre": true})
	box := out.Bounds()
	if math.Abs(box.Min[2]) > 1e-4 {
		t.Errorf("lowest point at %g", box.Min[2])
	}
	if c := box.Centre(); math.Abs(c[0]) > 1e-4 || math.Abs(c[1]) > 1e-4 {
		t.Errorf("centre at %v", c)
	}
	// Moving in motion is the same as moving at rest.
	a, b := pose(s, 1), pose(out, 1)
	d := b[0].Sub(a[0])
	for i := range a {
		if b[i].Sub(a[i]).Sub(d).Len() > 1e-4 {
			t.Errorf("vertex %d moves otherwise than vertex 0", i)
		}
	}
	if len(r.Lines) == 0 {
		t.Error("it says nothing")
	}
}

func TestRename(t *testing.T) {
	out, r := apply(t, "rename", figure(), map[string]any{"what": "bones", "rules": []map[string]string{{"find": "^_ROOT#.*$", "replace": "root"}, {"find": "^(a)rm$", "replace": "${1}rm_l"}}})
	if out.Nodes[0].Name != "root" || out.Nodes[1].Name != "arm_l" || out.Nodes[2].Name != "helper" {
		t.Errorf("names %q %q %q", out.Nodes[0].Name, out.Nodes[1].Name, out.Nodes[2].Name)
	}
	if r.Lines[0] != "2 names renamed" {
		t.Errorf("says %q", r.Lines)
	}
	_, r = apply(t, "rename", figure(), map[string]any{"what": "nodes and bones", "rules": []map[string]string{{"find": ".*", "replace": "x"}}})
	if len(r.Losses) == 0 {
		t.Error("five nodes of one name, and no word of it")
	}
	k, _ := Get("rename")
	if err := k.Check(json.RawMessage(`{"rules":[{"find":"("}]}`)); err == nil {
		t.Error("a broken pattern was accepted")
	}
	if err := k.Check(json.RawMessage(`{"nonsense":1}`)); err == nil {
		t.Error("an unknown parameter was accepted")
	}
}

// tube is a cylinder whose every band has vertices of its own and whose UVs
// meet in a seam, as careless exporters write it.
func tube(rings, seg int) *scene.Part {
	p := &scene.Part{Material: scene.None, UVs: []scene.AttrSet{{Name: "uv"}}}
	put := func(r, k int) {
		a := 2 * math.Pi * float64(k) / float64(seg)
		x, y := float32(math.Cos(a)), float32(math.Sin(a))
		if k == seg {
			x, y = 1, 0
		}
		p.Positions = append(p.Positions, x, y, float32(r))
		p.Normals = append(p.Normals, x, y, 0)
		p.UVs[0].Data = append(p.UVs[0].Data, float32(k)/float32(seg), float32(r)/float32(rings))
	}
	for r := 0; r < rings; r++ {
		base := uint32(p.Vertices())
		for k := 0; k <= seg; k++ {
			put(r, k)
			put(r+1, k)
		}
		for k := uint32(0); k < uint32(seg); k++ {
			a := base + 2*k
			p.Triangles = append(p.Triangles, a, a+2, a+3, a, a+3, a+1)
		}
	}
	return p
}

func TestWeldKeepsSeams(t *testing.T) {
	const rings, seg = 10, 12
	p := tube(rings, seg)
	w := Weld(p, 1e-4, 0.5)
	if want := (rings + 1) * (seg + 1); w.Part.Vertices() != want {
		t.Errorf("%d vertices of %d are left, want %d: bands joined, the seam kept",
			w.Part.Vertices(), p.Vertices(), want)
	}
	if w.Seams != rings+1 {
		t.Errorf("%d vertices stay double at the seam, want %d", w.Seams, rings+1)
	}
	if len(w.Part.Triangles) != len(p.Triangles) || w.Flat != 0 {
		t.Errorf("%d of %d indices left", len(w.Part.Triangles), len(p.Triangles))
	}
	// Every corner keeps its place, normal and UV.
	for i, v := range p.Triangles {
		u := w.Part.Triangles[i]
		for k := 0; k < 3; k++ {
			if d := p.Positions[3*v+uint32(k)] - w.Part.Positions[3*u+uint32(k)]; d > 1e-4 || d < -1e-4 {
				t.Fatalf("corner %d moved", i)
			}
			if d := p.Normals[3*v+uint32(k)] - w.Part.Normals[3*u+uint32(k)]; d > 1e-4 || d < -1e-4 {
				t.Fatalf("corner %d has another normal", i)
			}
		}
		if p.UVs[0].Data[2*v] != w.Part.UVs[0].Data[2*u] {
			t.Fatalf("corner %d has another UV", i)
		}
	}
}

func TestWeldKeepsHardEdgesAndWeights(t *testing.T) {
	p := &scene.Part{Material: scene.None, Influences: 1, Positions: []float32{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, Normals: []float32{0, 0, 1, 1, 0, 0, 0, 0.1, 0.995, 0, 0, 1}, Joints: []uint16{0, 0, 0, 3}, Weights: []float32{1, 1, 1, 1}}
	if w := Weld(p, 0.1, 30*math.Pi/180); w.Part.Vertices() != 3 || w.Seams != 2 {
		t.Errorf("%d vertices, %d kept apart; want the soft pair joined, the hard edge and the other bone kept",
			w.Part.Vertices(), w.Seams)
	}
}

// TestWeldAgreesWithTheSlowWay compares the grid with trying every pair.
func TestWeldAgreesWithTheSlowWay(t *testing.T) {
	rnd := rand.New(rand.NewSource(1))
	for _, d := range []float64{0, 0.01, 0.05, 0.3} {
		p := &scene.Part{Material: scene.None}
		for i := 0; i < 600; i++ {
			for k := 0; k < 3; k++ {
				p.Positions = append(p.Positions, float32(math.Round(rnd.Float64()*20)/20-0.5)+float32(rnd.NormFloat64()*0.004))
			}
		}
		p.Positions = append(p.Positions, p.Positions[:90]...)
		var reps []int
		for v := 0; v < p.Vertices(); v++ {
			joined := false
			for _, u := range reps {
				x, y, z := p.Positions[3*u]-p.Positions[3*v], p.Positions[3*u+1]-p.Positions[3*v+1], p.Positions[3*u+2]-p.Positions[3*v+2]
				if x*x+y*y+z*z <= float32(d*d) {
					joined = true
					break
				}
			}
			if !joined {
				reps = append(reps, v)
			}
		}
		if got := Weld(p, d, 1).Part.Vertices(); got != len(reps) {
			t.Errorf("distance %g: %d vertices, the slow way leaves %d", d, got, len(reps))
		}
	}
}

func TestSchemas(t *testing.T) {
	for _, k := range All() {
		var s struct {
			Type       string
			Properties map[string]any
			Default    map[string]any
		}
		if err := json.Unmarshal(k.Schema, &s); err != nil || s.Type != "object" || s.Default == nil {
			t.Errorf("%s: schema %s, %v", k.Name, k.Schema, err)
		}
		if len(k.Order) != len(s.Properties) {
			t.Errorf("%s: order %v does not name every parameter", k.Name, k.Order)
		}
		if k.Title == "" || k.Purpose == "" || k.Version < 1 {
			t.Errorf("%s says too little of itself", k.Name)
		}
		d, _ := json.Marshal(s.Default)
		if err := k.Check(d); err != nil {
			t.Errorf("%s refuses its own defaults: %v", k.Name, err)
		}
	}
}

// BenchmarkWeld welds a million vertices that need it.
func BenchmarkWeld(b *testing.B) {
	p := tube(1000, 500)
	n := p.Vertices()
	for b.Loop() {
		if w := Weld(p, 1e-4, 0.5); w.Part.Vertices() != 1001*501 {
			b.Fatal(w.Part.Vertices())
		}
	}
	b.ReportMetric(float64(n)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mvertices/s")
}

// What a rule chooses for a step is said by all that take one, and by no other.
func TestStepsSayWhatTheyActOn(t *testing.T) {
	for _, k := range All() {
		if slices.Contains(k.Order, "where") != (k.On != "") {
			t.Errorf("%s: on %q, parameters %v", k.Name, k.On, k.Order)
		}
	}
}
