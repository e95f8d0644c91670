package scene

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/geom"
)

// arm is two bones with a bar bound to them: the bar's far end follows the
// second bone.
func arm() *Scene {
	s := &Scene{Name: "arm", Basis: geom.GLTF}
	a, b, m := NewNode("upper"), NewNode("lower"), NewNode("bar")
	b.Parent, b.Translation = 0, [3]float32{1, 0, 0}
	m.Mesh, m.Skin = 0, 0
	m.Translation = [3]float32{99, 99, 99} // a skinned mesh ignores its own node
	s.Nodes = []Node{a, b, m}
	s.Meshes = []Mesh{{Name: "bar", Parts: []Part{{Material: None, Influences: 2,
		Positions: []float32{0, 0, 0, 1, 0, 0, 2, 0, 0}, Normals: []float32{0, 1, 0, 0, 1, 0, 0, 1, 0},
		Joints: []uint16{0, 0, 0, 1, 1, 0}, Weights: []float32{1, 0, 0.5, 0.5, 1, 0}, Triangles: []uint32{0, 1, 2}}}}}
	s.Skins = []Skin{{Joints: []int{0, 1}, Root: 0, InverseBind: []float32{
		1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1,
		1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, -1, 0, 0, 1}}}
	return s
}

func TestPosedFollowsTheBones(t *testing.T) {
	s := arm()
	pos, _ := s.Posed(2, &s.Meshes[0].Parts[0], s.World())
	if fmt.Sprint(pos) != "[0 0 0 1 0 0 2 0 0]" {
		t.Errorf("at rest %v", pos)
	}
	q := geom.AxisAngle(geom.Vec3{0, 0, 1}, math.Pi/2) // the elbow bends upwards
	s.Nodes[1].Rotation = [4]float32{float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}
	pos, nrm := s.Posed(2, &s.Meshes[0].Parts[0], s.World())
	for i, want := range []float32{0, 0, 0, 1, 0, 0, 1, 1, 0} {
		if math.Abs(float64(pos[i]-want)) > 1e-6 {
			t.Fatalf("bent %v", pos)
		}
	}
	if math.Abs(float64(nrm[6]+1)) > 1e-6 {
		t.Errorf("the hand's normal is %v", nrm[6:])
	}
	if b := s.Bounds(); b.Max[1] < 0.99 || b.Max[0] > 1.01 {
		t.Errorf("bounds %v", b)
	}
}

func TestStats(t *testing.T) {
	s := arm()
	s.Basis = geom.Basis{Up: geom.PlusX, Front: geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.5}
	h := NewNode("helper")
	h.Parent = 1
	s.Nodes = append(s.Nodes, h)
	st := s.Stats()
	if st.Bones != 2 || st.Helpers != 1 || st.Triangles != 1 || st.Vertices != 3 || !st.Normals || *st.Height != 1 || st.Size[0] != 1 {
		t.Errorf("%+v", st)
	}
	again := NewNode("again")
	again.Mesh = 0
	s.Nodes = append(s.Nodes, again)
	if twice := s.Stats(); twice.Triangles != 2 || twice.Vertices != 6 || twice.Meshes != 1 {
		t.Errorf("a mesh of two nodes: %+v", twice)
	}
	s.Basis.MetresPerUnit = 0
	if st = s.Stats(); st.Size != nil || st.Height != nil {
		t.Error("a size without a unit")
	}
	if r := s.RootBone(); r != 0 {
		t.Errorf("root bone %d", r)
	}
	if st := (&Scene{}).Stats(); st.Normals || st.Triangles != 0 {
		t.Errorf("an empty scene: %+v", st)
	}
}

func TestValidateNamesWhatIsWrong(t *testing.T) {
	if err := arm().Validate(); err != nil {
		t.Fatal(err)
	}
	nan := float32(math.NaN())
	for want, f := range map[string]func(*Scene){
		"does not stand before":          func(s *Scene) { s.Nodes[0].Parent = 1 },
		"not finite":                     func(s *Scene) { s.Nodes[0].Translation[1] = nan },
		"mesh 5: there are 1":            func(s *Scene) { s.Nodes[2].Mesh = 5 },
		"skin 1: there are 1":            func(s *Scene) { s.Nodes[2].Skin = 1 },
		"vertex 7 of 3":                  func(s *Scene) { s.Meshes[0].Parts[0].Triangles[2] = 7 },
		"not whole triangles":            func(s *Scene) { s.Meshes[0].Parts[0].Triangles = []uint32{0, 1} },
		"normals: 3 numbers for 3":       func(s *Scene) { s.Meshes[0].Parts[0].Normals = []float32{1, 2, 3} },
		"UV set a":                       func(s *Scene) { s.Meshes[0].Parts[0].UVs = []AttrSet{{Name: "a", Data: []float32{1}}} },
		"material 3":                     func(s *Scene) { s.Meshes[0].Parts[0].Material = 3 },
		"joint 9 of vertex 1":            func(s *Scene) { s.Meshes[0].Parts[0].Joints[3] = 9 },
		"inverse bind numbers":           func(s *Scene) { s.Skins[0].InverseBind = s.Skins[0].InverseBind[:16] },
		"node 8: there are 3":            func(s *Scene) { s.Skins[0].Joints[0] = 8 },
		"vertex 1: its position":         func(s *Scene) { s.Meshes[0].Parts[0].Positions[4] = nan },
		"picture 0: there are 0":         func(s *Scene) { s.Materials = []Material{{Textures: []Texture{{}}}} },
		"motion 0 \"m\" channel 0: node": func(s *Scene) { s.Motions = []Motion{{Name: "m", Channels: []Channel{{Node: 77}}}} },
		"5 numbers for 2 keys": func(s *Scene) {
			s.Motions = []Motion{{Name: "m", Channels: []Channel{{Path: PathRotation, Times: []float32{0, 1}, Values: make([]float32, 5)}}}}
		},
		"lie on one axis": func(s *Scene) { s.Basis.Front = geom.MinusY },
	} {
		s := arm()
		f(s)
		if err := s.Validate(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("want %q, got %v", want, err)
		}
	}
}

func TestKeepNodes(t *testing.T) {
	s := arm()
	cam := NewNode("cam")
	cam.Camera = 0
	s.Cameras = []Camera{{Name: "c"}}
	s.Nodes = append([]Node{cam}, s.Nodes...)
	for i := range s.Nodes {
		if s.Nodes[i].Parent >= 0 {
			s.Nodes[i].Parent++
		}
	}
	s.Skins[0].Joints, s.Skins[0].Root = []int{1, 2}, 1
	s.Motions = []Motion{{Name: "m", Channels: []Channel{{Node: 0, Path: PathTranslation}, {Node: 2, Path: PathScale}}}, {Name: "only the camera", Channels: []Channel{{Node: 0, Path: PathScale}}}}
	out, dropped := s.KeepNodes([]bool{false, true, true, true})
	if err := out.Validate(); err != nil {
		t.Fatal(err)
	}
	if len(out.Nodes) != 3 || out.Skins[0].Joints[1] != 1 || out.Skins[0].Root != 0 || len(out.Cameras) != 0 {
		t.Errorf("%+v", out)
	}
	if len(dropped) != 1 || dropped[0] != 0 || len(out.Motions) != 1 || out.Motions[0].Channels[0].Node != 1 {
		t.Errorf("dropped %v, motions %+v", dropped, out.Motions)
	}
	if len(s.Nodes) != 4 || s.Skins[0].Joints[0] != 1 {
		t.Error("the scene itself was changed")
	}
}

func BenchmarkEncode(b *testing.B) {
	s := arm()
	s.Meshes[0].Parts[0].Positions = make([]float32, 3<<20)
	b.SetBytes(12 << 20)
	for b.Loop() {
		if _, err := s.Encode(); err != nil {
			b.Fatal(err)
		}
	}
}
