package scene

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand"
	"reflect"
	"strings"
	"testing"

	"excavate/core/geom"
)

// whole is a scene with something of everything, made at random.
func whole(r *rand.Rand) *Scene {
	f := func(n int) []float32 {
		out := make([]float32, n)
		for i := range out {
			out[i] = float32(r.NormFloat64())
		}
		return out
	}
	dirs := func(n int) []float32 {
		var out []float32
		for range n {
			v := geom.Vec3{r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}.Norm()
			out = append(out, float32(v[0]), float32(v[1]), float32(v[2]))
		}
		return out
	}
	s := &Scene{Name: "mill", Basis: geom.GLTF, Terms: Terms{Owner: "Sedgewater Lantern Company"}}
	s.Pictures = []Picture{{Name: "boards", MIME: "image/png", Data: []byte{1, 2, 3}, Width: 4, Height: 4}, {Name: "gear", Ref: "gear.png", Looked: []string{"beside it"}}}
	m := NewMaterial("boards")
	coat := float32(0.4)
	m.Layers = &Layers{Clearcoat: &coat}
	m.Textures = []Texture{{Role: RoleColour, Picture: 0, Transform: &UVTransform{Scale: [2]float32{2, 1}}}, {Role: RoleNormal, Picture: 1, Scale: 0.5}}
	s.Materials = []Material{m, NewMaterial("plain")}
	for i := range 6 {
		n := NewNode(fmt.Sprintf("node %d", i))
		n.Parent = r.Intn(i+1) - 1
		n.Translation = [3]float32(f(3))
		q := geom.Quat{r.NormFloat64(), r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}.Norm()
		n.Rotation = [4]float32{float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}
		n.Scale = [3]float32{1 + r.Float32(), 1 + r.Float32(), 1 + r.Float32()}
		s.Nodes = append(s.Nodes, n)
	}
	const n = 12
	p := Part{Material: 0, Positions: f(3 * n), Normals: dirs(n), Influences: 4, UVs: []AttrSet{{Name: "surface", Data: f(2 * n)}}, Colours: []AttrSet{{Name: "tint", Data: f(4 * n)}},
		Morphs: []MorphTarget{{Name: "turn", Weight: 0.5, Positions: f(3 * n)}}}
	for v := range n {
		d := dirs(1)
		p.Tangents = append(p.Tangents, d[0], d[1], d[2], 1)
		p.Joints, p.Weights = append(p.Joints, 0, 1, 0, 0), append(p.Weights, 0.75, 0.25, 0, 0)
		p.Triangles = append(p.Triangles, uint32(v), uint32((v+1)%n), uint32((v+2)%n))
	}
	s.Meshes = []Mesh{{Name: "wheel", Parts: []Part{p}}, {Name: "rope", Parts: []Part{{Material: None, Positions: f(9), Lines: []uint32{0, 1}, Points: []uint32{2}}}}}
	s.Nodes[5].Mesh, s.Nodes[5].Skin = 0, 0
	s.Nodes[4].Mesh = 1
	s.Nodes[3].Camera, s.Cameras = 0, []Camera{{Name: "eye", FovY: 1, Near: 0.1, Far: 50}}
	s.Nodes[2].Light, s.Lights = 0, []Light{{Name: "lamp", Type: "point", Intensity: 3, Range: 7}}
	world := s.World()
	skin := Skin{Name: "wheel", Joints: []int{0, 1}, Root: None}
	for _, j := range skin.Joints {
		inverse, _ := world[j].Inverse()
		for _, v := range inverse {
			skin.InverseBind = append(skin.InverseBind, float32(v))
		}
	}
	s.Skins = []Skin{skin}
	s.Motions = []Motion{{Name: "grind", Channels: []Channel{{Node: 0, Path: PathTranslation, Interp: Linear, Times: []float32{0, 1, 2}, Values: f(9)}, {Node: 1, Path: PathRotation, Interp: Linear, Times: []float32{0, 2}, Values: []float32{0, 0, 0, 1, 0, 0.6, 0, 0.8}}, {Node: 5, Path: PathWeights, Interp: Step, Times: []float32{0, 1}, Values: []float32{0, 1}}, {Node: 1, Path: PathScale, Interp: Cubic, Times: []float32{0, 1}, Values: f(18)}}}}
	s.Notes = []Note{{Text: "one thing left out", Loss: true}}
	s.Choices = []Choice{{Name: "variant", Options: []string{"dry", "wet"}, Chosen: "dry"}}
	return s
}

// The stored form holds everything, and says where it is broken.
func TestTheStoredForm(t *testing.T) {
	r := rand.New(rand.NewSource(31))
	for range 20 {
		s := whole(r)
		if err := s.Validate(); err != nil {
			t.Fatal(err)
		}
		b, err := s.Encode()
		if err != nil {
			t.Fatal(err)
		}
		got, err := Decode(b)
		if err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got, s) {
			x, _ := json.Marshal(got)
			y, _ := json.Marshal(s)
			t.Fatalf("%s\nwas %s", x, y)
		}
		again, _ := got.Encode()
		one, _ := s.Digest()
		two, _ := got.Digest()
		if string(again) != string(b) || one != two || len(one) != 64 {
			t.Fatalf("the same scene has two forms: %s %s", one, two)
		}
		got.Meshes[0].Parts[0].Positions[0]++
		if three, _ := got.Digest(); three == one {
			t.Fatal("another scene has the same digest")
		}
		for range 40 {
			cut := b[:r.Intn(len(b))]
			if _, err := Decode(cut); err == nil {
				t.Fatalf("cut at %d of %d it is read", len(cut), len(b))
			}
		}
	}
	for _, b := range [][]byte{nil, []byte("EXSC"), []byte(codecMagic), append([]byte(codecMagic), 255, 255, 255, 255, 255, 255, 255, 255)} {
		if _, err := Decode(b); err == nil {
			t.Errorf("%q is read", b)
		}
	}
}

// In another basis a scene is the same thing: as large, as bent, with the same
// places of bones, and back it is itself.
func TestAnotherBasis(t *testing.T) {
	r := rand.New(rand.NewSource(8))
	for _, b := range []geom.Basis{
		{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01},
		{Up: geom.PlusZ, Front: geom.PlusX, Handed: geom.Left, MetresPerUnit: 1},
		{Up: -geom.PlusY, Front: geom.PlusZ, Handed: geom.Left, MetresPerUnit: 0.0254},
		geom.GLTF,
	} {
		s := whole(r)
		there, err := s.InBasis(b)
		if err != nil {
			t.Fatal(err)
		}
		if err := there.Validate(); err != nil || there.Basis != b {
			t.Fatalf("%v: %v", there.Basis, err)
		}
		k := 1 / b.MetresPerUnit
		was, is := s.Stats(), there.Stats()
		if math.Abs(is.Area/was.Area-k*k) > 1e-3*k*k || is.Triangles != was.Triangles || is.Bones != was.Bones {
			t.Errorf("%v: area %g, was %g", b, is.Area, was.Area)
		}
		change, err := geom.ChangeBasis(s.Basis, b)
		if err != nil {
			t.Fatal(err)
		}
		w0, w1 := s.World(), there.World()
		for i := range s.Nodes {
			p, q := change.Point(w0[i].Point(geom.Vec3{})), w1[i].Point(geom.Vec3{})
			if p.Sub(q).Len() > 1e-4*k {
				t.Fatalf("%v: node %d stands at %v, want %v", b, i, q, p)
			}
		}
		// What is posed is posed there too, and faces the same way.
		a0, n0 := s.Posed(5, &s.Meshes[0].Parts[0], w0)
		a1, n1 := there.Posed(5, &there.Meshes[0].Parts[0], w1)
		for v := 0; v < len(a0); v += 3 {
			p := change.Point(geom.Vec3{float64(a0[v]), float64(a0[v+1]), float64(a0[v+2])})
			q := geom.Vec3{float64(a1[v]), float64(a1[v+1]), float64(a1[v+2])}
			if p.Sub(q).Len() > 1e-3*k {
				t.Fatalf("%v: vertex %d is at %v, want %v", b, v/3, q, p)
			}
			x := change.Dir(geom.Vec3{float64(n0[v]), float64(n0[v+1]), float64(n0[v+2])})
			y := geom.Vec3{float64(n1[v]), float64(n1[v+1]), float64(n1[v+2])}
			if x.Dot(y) < 0.999 {
				t.Fatalf("%v: a normal is %v, want %v", b, y, x)
			}
		}
		grown := func(a, b float32) float64 { return math.Abs(float64(a/b)-k) / k }
		if grown(there.Lights[0].Range, s.Lights[0].Range) > 1e-3 || grown(there.Cameras[0].Far, s.Cameras[0].Far) > 1e-3 {
			t.Errorf("%v: %+v %+v", b, there.Lights, there.Cameras)
		}
		back, err := there.InBasis(s.Basis)
		if err != nil {
			t.Fatal(err)
		}
		for i, v := range s.Meshes[0].Parts[0].Positions {
			if math.Abs(float64(back.Meshes[0].Parts[0].Positions[i]-v)) > 1e-4 {
				t.Fatalf("%v and back: %g was %g", b, back.Meshes[0].Parts[0].Positions[i], v)
			}
		}
		if !reflect.DeepEqual(back.Meshes[0].Parts[0].Triangles, s.Meshes[0].Parts[0].Triangles) {
			t.Errorf("%v and back: other triangles", b)
		}
	}
	if _, err := whole(r).InBasis(geom.Basis{}); err == nil {
		t.Error("into no basis")
	}
}

// Between keys a motion is what glTF's appendix C says.
func TestMotionsBetweenKeys(t *testing.T) {
	near := func(what string, got []float32, want ...float64) {
		t.Helper()
		if len(got) != len(want) {
			t.Errorf("%s: %v", what, got)
			return
		}
		for i := range want {
			if math.Abs(float64(got[i])-want[i]) > 1e-5 {
				t.Errorf("%s: %v, want %v", what, got, want)
				return
			}
		}
	}
	c := Channel{Path: PathTranslation, Interp: Linear, Times: []float32{1, 2, 4}, Values: []float32{0, 0, 0, 10, 0, 0, 10, 20, 0}}
	near("before the first", c.At(0), 0, 0, 0)
	near("on a key", c.At(2), 10, 0, 0)
	near("between", c.At(1.25), 2.5, 0, 0)
	near("in the longer part", c.At(3), 10, 10, 0)
	near("after the last", c.At(99), 10, 20, 0)
	c.Interp = Step
	near("a step", c.At(1.9), 0, 0, 0)
	turn := Channel{Path: PathRotation, Interp: Linear, Times: []float32{0, 1}, Values: []float32{0, 0, 0, 1, 0, 0, 1, 0}}
	near("half of a half turn", turn.At(0.5), 0, 0, math.Sqrt(0.5), math.Sqrt(0.5))
	near("a third of it", turn.At(1.0/3), 0, 0, 0.5, math.Sqrt(0.75))
	turn.Values[4], turn.Values[6], turn.Values[7] = 0, -0.1, -0.995 // nearly itself, by its other name
	if q := turn.At(0.5); q[3] < 0.99 {
		t.Errorf("the longer way round: %v", q)
	}
	// A cubic with tangents of a straight line is that line; with none it eases.
	line := Channel{Path: PathScale, Interp: Cubic, Times: []float32{0, 2}, Values: []float32{3, 3, 3, 0, 0, 0, 3, 3, 3, 3, 3, 3, 6, 6, 6, 3, 3, 3}}
	near("a line", line.At(0.5), 1.5, 1.5, 1.5)
	near("its end", line.At(2), 6, 6, 6)
	for i := range line.Values {
		if i < 3 || i >= 6 && i < 12 || i >= 15 {
			line.Values[i] = 0
		}
	}
	near("eased", line.At(0.5), 6*(3*0.0625-2*0.015625), 6*(3*0.0625-2*0.015625), 6*(3*0.0625-2*0.015625))
	if line.Per() != 3 || turn.Per() != 4 || (&Channel{}).Per() != 0 || len((&Channel{}).At(1)) != 0 {
		t.Error("numbers of a value")
	}
	// The instants at which straight lines will do.
	if got := Instants([]*Channel{&c, &turn}, 10); fmt.Sprint(got) != "[0 1 2 4]" {
		t.Errorf("%v", got)
	}
	if got := Instants([]*Channel{&line}, 2); len(got) != 5 || got[1] != 0.5 {
		t.Errorf("%v", got)
	}
	m := Motion{Channels: []Channel{c, turn, {Node: 3}}}
	by := m.ByNode()
	if len(by) != 1 || len(by[0]) != 2 || m.Seconds() != 4 {
		t.Errorf("%v, %g s", by, m.Seconds())
	}
	n := NewNode("wheel").Posed(by[0], 2.5)
	if n.Translation != [3]float32{10, 0, 0} || n.Scale != [3]float32{1, 1, 1} || n.Rotation == [4]float32{0, 0, 0, 1} {
		t.Errorf("%+v", n)
	}
}

func TestUVsAreMoved(t *testing.T) {
	quarter := UVTransform{Rotation: math.Pi / 2, Scale: [2]float32{2, 1}, Offset: [2]float32{0.5, 0}}
	for _, c := range [][4]float32{{0, 0, 0.5, 0}, {1, 0, 0.5, -2}, {0, 1, 1.5, 0}} {
		if u, v := quarter.Apply(c[0], c[1]); math.Abs(float64(u-c[2])) > 1e-6 || math.Abs(float64(v-c[3])) > 1e-6 {
			t.Errorf("%g %g goes to %g %g, want %g %g", c[0], c[1], u, v, c[2], c[3])
		}
	}
}

func TestRolesOfColours(t *testing.T) {
	colour := 0
	for _, r := range Roles {
		if r.Colour() {
			colour++
		}
		if r.Colour() && strings.Contains(string(r), "roughness") {
			t.Errorf("%s is a colour", r)
		}
	}
	if !RoleColour.Colour() || !RoleEmission.Colour() || RoleNormal.Colour() || RoleMetalRgh.Colour() || colour < 3 {
		t.Errorf("%d roles are colours", colour)
	}
}
