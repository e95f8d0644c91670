package bvh_test

import (
	"context"
	"math"
	"math/rand"
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
	if len(s.Nodes) != 3 || s.Nodes[1].Name != "left arm" || s.Nodes[2].Name != "left arm end" || s.Basis != (geom.Basis{}) || s.Stats().Bones != 3 {
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
	if p := world.Point(geom.Vec3{}); p.Sub(geom.Vec3{3, 2, 0}).Len() > 1e-5 {
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
