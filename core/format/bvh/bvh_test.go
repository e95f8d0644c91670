package bvh_test

import (
	"context"
	"fmt"
	"math"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/bvh"
	"excavate/core/geom"
	"excavate/core/scene"
)

func read(text string) (*scene.Scene, error) {
	return bvh.Read(context.Background(), format.File{Name: "motions/punting.bvh", Data: []byte(text)})
}

const pole = `HIERARCHY
ROOT hips
{
	OFFSET 0 1 0
	CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
	JOINT left arm
	{
		OFFSET 1 0 0
		CHANNELS 3 Zrotation Xrotation Yrotation
		End Site
		{
			OFFSET 0 0 2
		}
	}
}
MOTION
Frames: 3
Frame Time: 0.5
0 0 0 0 0 0 0 0 0
1 0 0 90 0 0 0 90 0
2 0 0 180 0 0 0 0 90
`

func TestRead(t *testing.T) {
	s, err := read(pole)
	if err != nil {
		t.Fatal(err)
	}
	if len(s.Nodes) != 2 || s.Nodes[1].Name != "left arm" || s.Basis != (geom.Basis{}) || s.Stats().Bones != 2 || !strings.Contains(fmt.Sprint(s.Notes), "last bone ends (End Site) is not kept") {
		t.Fatalf("%+v", s.Nodes)
	}
	m := s.Motions[0]
	if m.Name != "punting" || m.Seconds() != 1 || len(m.Channels) != 3 {
		t.Fatalf("%+v", m)
	}
	// In the second frame the hips stand at 1, 1, 0 and are turned a quarter
	// about z, so the arm points up; turned about x its end points to -y, which
	// is then x.
	by := m.ByNode()
	world := geom.Identity
	for i := range s.Nodes {
		n := s.Nodes[i].Posed(by[i], 0.5)
		world = world.Mul(n.Local())
	}
	if p := world.Point(geom.Vec3{0, 0, 2}); p.Sub(geom.Vec3{3, 2, 0}).Len() > 1e-5 {
		t.Errorf("the end is at %v", p)
	}
}

// A random skeleton with random motions is where it was at every frame.
func TestRoundTrip(t *testing.T) {
	r := rand.New(rand.NewSource(7))
	for range 20 {
		s := &scene.Scene{Name: "heron", Basis: geom.GLTF}
		holder := scene.NewNode("holder")
		holder.Translation = [3]float32{1, 2, 3}
		s.Nodes = []scene.Node{holder}
		skin := scene.Skin{Root: scene.None}
		m := scene.Motion{Name: "wade"}
		for i := range 6 {
			n := scene.NewNode("bone " + string(rune('a'+i)))
			n.Parent = r.Intn(i + 1)
			if i > 0 {
				n.Parent = max(n.Parent, 1)
			}
			n.Translation = [3]float32{r.Float32(), r.Float32(), r.Float32()}
			s.Nodes = append(s.Nodes, n)
			skin.Joints = append(skin.Joints, i+1)
			c := scene.Channel{Node: i + 1, Path: scene.PathRotation, Interp: scene.Step}
			for k := range 4 {
				q := geom.Quat{r.NormFloat64(), r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}.Norm()
				if k == 1 { // both ways to look straight up
					q = geom.AxisAngle(geom.Vec3{1, 0, 0}, math.Pi/2*float64(1-2*(i%2)))
				}
				c.Times = append(c.Times, float32(k)/30)
				c.Values = append(c.Values, float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3]))
			}
			m.Channels = append(m.Channels, c)
		}
		s.Skins, s.Motions = []scene.Skin{skin}, []scene.Motion{m, m}
		files, notes, err := bvh.Write(s, "wading")
		if err != nil || len(files) != 2 || files[0].Name != "wading.bvh" || files[1].Name != "wading wade.bvh" {
			t.Fatalf("%v %v %d files", err, notes, len(files))
		}
		got, err := bvh.Read(context.Background(), format.File{Name: files[0].Name, Data: files[0].Data})
		if err != nil {
			t.Fatal(err)
		}
		at := map[string]int{}
		for i, n := range got.Nodes {
			at[n.Name] = i
		}
		pose := func(s *scene.Scene, time float64) []geom.Mat4 {
			by := s.Motions[0].ByNode()
			c := *s
			c.Nodes = append([]scene.Node{}, s.Nodes...)
			for i := range c.Nodes {
				c.Nodes[i] = c.Nodes[i].Posed(by[i], time)
			}
			return c.World()
		}
		for f := range 4 {
			a, b := pose(s, float64(f)/30+1e-4), pose(got, float64(f)/30)
			for i := 1; i < len(s.Nodes); i++ {
				x, y := a[i], b[at[strings.ReplaceAll(s.Nodes[i].Name, " ", "_")]]
				for k := range x {
					if math.Abs(x[k]-y[k]) > 2e-3 {
						t.Fatalf("frame %d, %s: %v, want %v", f, s.Nodes[i].Name, y, x)
					}
				}
			}
		}
	}
	if _, _, err := bvh.Write(&scene.Scene{}, "x"); err == nil || !strings.Contains(err.Error(), "no skeleton") {
		t.Errorf("without a skeleton: %v", err)
	}
}

func TestBadInput(t *testing.T) {
	for text, want := range map[string]string{
		"HIERARCHY": "no ROOT",
		strings.Replace(pole, "Frames: 3", "Frames: 300000000", 1): "300000000",
		strings.Replace(pole, "Frames: 3", "Frames: 4", 1):         "frame 3 of 4",
		strings.Replace(pole, "0.5", "0", 1):                       "a frame of 0",
		strings.Replace(pole, "1 0 0 90", "1 x 0 90", 1):           `"x" is no finite number`,
		strings.Replace(pole, "1 0 0 90", "1 1e99 0 90", 1):        "no finite number",
		strings.Replace(pole, "CHANNELS 3", "CHANNELS 99", 1):      "0 to 6",
		strings.Replace(pole, "Zrotation", "Wrotation", 1):         "Wrotation",
		pole[:150]: "line",
		"HIERARCHY\n" + strings.Repeat("ROOT a\n{\nJOINT b\n{\n", 600): "ROOT",
		"HIERARCHY\nROOT a\n{\n" + strings.Repeat("JOINT b\n{\n", 600): "512 joints",
	} {
		if _, err := read(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60q: %v, want %q", text, err, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(pole))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := read(string(b))
		if err == nil {
			if _, _, err := bvh.Write(s, "x"); err != nil {
				t.Error(err)
			}
		}
	})
}

func BenchmarkRead(b *testing.B) {
	head, row, _ := strings.Cut(pole, "0 0 0 0 0 0 0 0 0\n")
	row, _, _ = strings.Cut(row, "\n")
	text := strings.Replace(head, "Frames: 3", "Frames: 100000", 1) + strings.Repeat(row+"\n", 100000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := read(text); err != nil {
			b.Fatal(err)
		}
	}
}

// world is where each named node is at an instant.
func world(s *scene.Scene, motion int, t float64) map[string]geom.Vec3 {
	posed := *s
	posed.Nodes = slices.Clone(s.Nodes)
	if motion < len(s.Motions) {
		by := s.Motions[motion].ByNode()
		for i := range posed.Nodes {
			posed.Nodes[i] = posed.Nodes[i].Posed(by[i], t)
		}
	}
	out := map[string]geom.Vec3{}
	for i, m := range posed.World() {
		out[posed.Nodes[i].Name] = geom.Vec3{m[12], m[13], m[14]}
	}
	return out
}

// figure is a skeleton below nodes that scale and turn it: hips, spine, head.
func figure(above ...scene.Node) *scene.Scene {
	s := &scene.Scene{Name: "figure", Basis: geom.GLTF}
	for _, n := range above {
		n.Parent = len(s.Nodes) - 1
		s.Nodes = append(s.Nodes, n)
	}
	skin := scene.Skin{Name: "skin", Root: len(s.Nodes)}
	for i, at := range [][3]float32{{0, 90, 0}, {0, 30, 5}, {0, 20, 0}} {
		n := scene.NewNode([]string{"hips", "spine", "head"}[i])
		n.Parent, n.Translation = len(s.Nodes)-1, at
		skin.Joints = append(skin.Joints, len(s.Nodes))
		s.Nodes = append(s.Nodes, n)
	}
	times := []float32{0, 1. / 120, 2. / 120, 3. / 120}
	turn := func(node int, axis geom.Vec3, degrees ...float64) {
		c := scene.Channel{Node: node, Path: scene.PathRotation, Interp: scene.Linear, Times: times}
		for _, d := range degrees {
			q := geom.AxisAngle(axis, d*math.Pi/180)
			c.Values = append(c.Values, float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3]))
		}
		s.Motions[0].Channels = append(s.Motions[0].Channels, c)
	}
	s.Motions = []scene.Motion{{Name: "bow"}}
	turn(skin.Joints[0], geom.Vec3{0, 1, 0}, 0, 10, 20, 30)
	turn(skin.Joints[1], geom.Vec3{1, 0, 0}, 0, 15, 40, 5)
	w := s.World()
	for _, j := range skin.Joints {
		inv, _ := w[j].Inverse()
		for _, v := range inv {
			skin.InverseBind = append(skin.InverseBind, float32(v))
		}
	}
	s.Skins = []scene.Skin{skin}
	return s
}

// What stands above the skeleton is in it: a scale, an uneven one too, a turn
// and a place. Every bone is where it was, at rest and in every frame.
func TestWhatStandsAboveTheSkeleton(t *testing.T) {
	node := func(name string, scale [3]float32, q geom.Quat, at [3]float32) scene.Node {
		n := scene.NewNode(name)
		n.Scale, n.Translation = scale, at
		for i := range q {
			n.Rotation[i] = float32(q[i])
		}
		return n
	}
	lean := geom.AxisAngle(geom.Vec3{0, 0, 1}, 0.3)
	for name, s := range map[string]*scene.Scene{
		"nothing":        figure(),
		"a scale":        figure(node("frame", [3]float32{0.01, 0.01, 0.01}, geom.IdentityQuat, [3]float32{})),
		"two":            figure(node("world", [3]float32{2, 2, 2}, lean, [3]float32{1, 2, 3}), node("frame", [3]float32{0.01, 0.01, 0.01}, lean, [3]float32{4, 0, 0})),
		"an uneven one":  figure(node("frame", [3]float32{0.01, 0.02, 0.03}, geom.IdentityQuat, [3]float32{})),
		"another basis":  nil,
		"a scaled spine": nil,
	} {
		if name == "a scaled spine" {
			s = figure(node("frame", [3]float32{0.01, 0.01, 0.01}, geom.IdentityQuat, [3]float32{}))
			s.Nodes[2].Scale = [3]float32{1, 3, 1}
		}
		want := s
		if name == "another basis" {
			want = figure(node("frame", [3]float32{0.01, 0.01, 0.01}, lean, [3]float32{}))
			var err error
			if s, err = want.InBasis(geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01}); err != nil {
				t.Fatal(err)
			}
		}
		files, notes, err := bvh.Write(s, "figure")
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		got, err := bvh.Read(context.Background(), format.File{Name: "figure.bvh", Data: files[0].Data})
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, files[0].Data)
		}
		if n := len(got.Bones()); n != 3 || len(got.Nodes) != 3 {
			t.Errorf("%s: %d bones of %d nodes", name, n, len(got.Nodes))
		}
		for _, at := range []float64{0, 1. / 120, 2. / 120, 3. / 120} {
			a, b := world(want, 0, at), world(got, 0, at)
			for _, bone := range []string{"hips", "spine", "head"} {
				if a[bone].Sub(b[bone]).Len() > 2e-5*max(1, a[bone].Len()) {
					t.Errorf("%s: %s at %.4f s is at %v, and was at %v", name, bone, at, b[bone], a[bone])
				}
			}
		}
		if s := got.Motions[0].Seconds(); math.Abs(s-3./120) > 1e-6 || len(got.Motions[0].Channels[0].Times) != 4 {
			t.Errorf("%s: %v s, %d frames", name, s, len(got.Motions[0].Channels[0].Times))
		}
		if name == "a scale" {
			if h := world(got, 9, 0)["head"]; math.Abs(h[1]-1.4) > 1e-6 && math.Abs(world(got, 0, 0)["head"][1]-1.4) > 1e-6 {
				t.Errorf("the head is at %v", h)
			}
			if !slices.ContainsFunc(notes, func(n scene.Note) bool { return strings.Contains(n.Text, "metres") }) {
				t.Errorf("the unit is not said: %v", notes)
			}
		}
	}
}

// Going round and round grows no bones and changes no frame.
func TestRoundTripsGrowNoBones(t *testing.T) {
	s := figure()
	for i := range 3 {
		files, _, err := bvh.Write(s, "figure")
		if err != nil {
			t.Fatal(err)
		}
		if s, err = bvh.Read(context.Background(), format.File{Name: "figure.bvh", Data: files[0].Data}); err != nil {
			t.Fatal(err)
		}
		if len(s.Nodes) != 3 || len(s.Motions[0].Channels[0].Times) != 4 {
			t.Fatalf("round %d: %d nodes, %d frames", i, len(s.Nodes), len(s.Motions[0].Channels[0].Times))
		}
	}
}
