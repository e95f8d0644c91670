package gltf_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"
	"unsafe"

	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/scene"
)

func tinyPNG() []byte {
	var b bytes.Buffer
	png.Encode(&b, image.NewNRGBA(image.Rect(0, 0, 4, 2)))
	return b.Bytes()
}

// full is a scene with a bit of everything that glTF carries.
func full() *scene.Scene {
	s := &scene.Scene{Name: "full", Basis: geom.GLTF}
	root, child, body, cam, light := scene.NewNode("root"), scene.NewNode("child"), scene.NewNode("body"), scene.NewNode("cam"), scene.NewNode("lamp")
	child.Parent, child.Translation, child.Scale = 0, [3]float32{0, 1, 0}, [3]float32{1, 2, 1}
	child.Props = []scene.Prop{{Key: "state", Value: "whole"}, {Key: "class", Value: "a \"lamp\""}}
	body.Mesh, body.Skin = 0, 0
	cam.Camera, light.Light = 0, 0
	s.Nodes = []scene.Node{root, child, body, cam, light}
	s.Cameras = []scene.Camera{{Name: "cam", FovY: 0.8, Near: 0.1, Far: 50}}
	s.Lights = []scene.Light{{Name: "lamp", Type: "spot", Colour: [3]float32{1, 0.5, 0}, Intensity: 3, Range: 8, Inner: 0.25, Outer: 0.5}}
	s.Pictures = []scene.Picture{{Name: "p", MIME: "image/png", Data: tinyPNG(), Width: 4, Height: 2, Found: "inside the file"}}
	m := scene.NewMaterial("m")
	m.Alpha, m.Cutoff, m.TwoSided, m.Unlit = scene.Cutout, 0.25, true, true
	m.BaseColour = [4]float32{1, 0.5, 0.25, 1}
	m.Textures = []scene.Texture{{Role: scene.RoleColour, Scale: 1, WrapU: scene.Clamp, WrapV: scene.Mirror}, {Role: scene.RoleNormal, Scale: 0.5, UVSet: 1,
		Transform: &scene.UVTransform{Offset: [2]float32{0.5, 0}, Rotation: 0.25, Scale: [2]float32{2, 1}}}, {Role: scene.RoleClearcoatNormal, Scale: 1}, {Role: scene.RoleSheenColour, Scale: 1}}
	k := func(f float32) *float32 { return &f }
	m.Emissive = [3]float32{2, 4, 1}
	m.Layers = &scene.Layers{IOR: k(1.3), Clearcoat: k(0.5), ClearcoatRoughness: k(0.25), Specular: k(0.75), SpecularColour: &[3]float32{1, 0.5, 0.5}, Transmission: k(0.125), SheenColour: &[3]float32{0, 0.5, 1}, SheenRoughness: k(0.5)}
	s.Materials = []scene.Material{m}
	s.Meshes = []scene.Mesh{{Name: "body", Parts: []scene.Part{{
		Material: 0, Influences: 8,
		Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0}, Normals: []float32{0, 0, 1, 0, 0, 1, 0, 0, 1}, Tangents: []float32{1, 0, 0, 1, 1, 0, 0, 1, 1, 0, 0, -1},
		Joints:    []uint16{0, 1, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0},
		Weights:   []float32{0.5, 0.5, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0.75, 0.25, 0, 0, 0, 0, 0, 0},
		Triangles: []uint32{0, 1, 2},
		UVs:       []scene.AttrSet{{Name: "surface", Data: []float32{0, 0, 1, 0, 0, 1}}, {Name: "dirt", Data: []float32{0, 0, 0.5, 0, 0, 0.5}}},
		Colours:   []scene.AttrSet{{Name: "paint", Data: []float32{1, 0, 0, 1, 0, 1, 0, 1, 0, 0, 1, 0.5}}},
		Morphs:    []scene.MorphTarget{{Name: "smile", Weight: 0.5, Positions: []float32{0, 0, 1, 0, 0, 0, 0, 0, 0}, Normals: []float32{0, 0, 0, 0, 0, 0, 0, 0, 0}}},
	}}}}
	ib := []float32{1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}
	s.Skins = []scene.Skin{{Name: "skin", Joints: []int{0, 1}, Root: 0, InverseBind: append(append([]float32{}, ib...), ib...)}}
	s.Motions = []scene.Motion{{Name: "go", Channels: []scene.Channel{
		{Node: 1, Path: scene.PathTranslation, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{0, 1, 0, 0, 2, 0}},
		{Node: 0, Path: scene.PathRotation, Interp: scene.Step, Times: []float32{0, 1}, Values: []float32{0, 0, 0, 1, 0, 1, 0, 0}},
		{Node: 1, Path: scene.PathScale, Interp: scene.Cubic, Times: []float32{0, 2}, Values: make([]float32, 18)},
		{Node: 2, Path: scene.PathWeights, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{0, 1}},
	}}}
	return s
}

func write(t testing.TB, s *scene.Scene) []byte {
	t.Helper()
	b, notes, err := gltf.Write(s, gltf.Options{Generator: "test"})
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range notes {
		if n.Loss {
			t.Errorf("lost: %s", n.Text)
		}
	}
	return b
}

func read(b []byte) (*scene.Scene, error) {
	return gltf.Read(context.Background(), format.File{Name: "full.glb", Data: b})
}

func TestRoundTrip(t *testing.T) {
	want := full()
	got, err := read(write(t, want))
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(want, got) {
		a, _ := json.MarshalIndent(want, "", " ")
		b, _ := json.MarshalIndent(got, "", " ")
		al, bl := strings.Split(string(a), "\n"), strings.Split(string(b), "\n")
		for i := range al {
			if i >= len(bl) || al[i] != bl[i] {
				t.Fatalf("differs at line %d: %s", i, al[i])
			}
		}
		t.Fatal("differs in bulk data")
	}
	if !bytes.Equal(write(t, want), write(t, got)) {
		t.Error("the same scene gives other bytes")
	}
}

func TestStoredFormRoundTrip(t *testing.T) {
	want := full()
	b, err := want.Encode()
	if err != nil {
		t.Fatal(err)
	}
	got, err := scene.Decode(b)
	if err != nil || !reflect.DeepEqual(want, got) {
		t.Fatalf("differs, %v", err)
	}
	for n := 0; n < len(b); n += 7 {
		if _, err := scene.Decode(b[:n]); err == nil {
			t.Fatalf("%d of %d bytes were accepted", n, len(b))
		}
	}
}

// glb makes a GLB of a JSON document and a binary chunk.
func glb(doc string, bin []byte) []byte {
	for len(doc)%4 != 0 {
		doc += " "
	}
	for len(bin)%4 != 0 {
		bin = append(bin, 0)
	}
	out := []byte("glTF\x02\x00\x00\x00")
	out = binary.LittleEndian.AppendUint32(out, uint32(12+8+len(doc)+8+len(bin)))
	out = binary.LittleEndian.AppendUint32(out, uint32(len(doc)))
	out = append(append(out, "JSON"...), doc...)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(bin)))
	return append(append(out, "BIN\x00"...), bin...)
}

// TestWhatOthersWrite reads features that our writer never uses: strips,
// interleaving, sparse accessors, normalised integers, matrices.
func TestWhatOthersWrite(t *testing.T) {
	var bin []byte
	// Four vertices, interleaved: position f32x3, colour unorm8x3 with padding.
	for v := 0; v < 4; v++ {
		for _, x := range []float32{float32(v % 2), float32(v / 2), 0} {
			bin = binary.LittleEndian.AppendUint32(bin, math.Float32bits(x))
		}
		bin = append(bin, 255, 0, 51, 0)
	}
	bin = append(bin, 3, 0, 0, 0) // sparse: vertex 3
	for _, x := range []float32{5, 6, 7} {
		bin = binary.LittleEndian.AppendUint32(bin, math.Float32bits(x))
	}
	doc := `{"asset":{"version":"2.0","copyright":"someone"},"scenes":[{"nodes":[1]}],
	"nodes":[{"name":"leaf","mesh":0},{"name":"top","children":[0],"matrix":[0,2,0,0,-2,0,0,0,0,0,2,0,10,20,30,1]},{"name":"elsewhere"}],
	"meshes":[{"primitives":[{"attributes":{"POSITION":0,"COLOR_0":1},"mode":5},{"attributes":{"POSITION":0},"mode":0}]}],
	"accessors":[{"bufferView":0,"componentType":5126,"count":4,"type":"VEC3","sparse":{"count":1,"indices":{"bufferView":1,"componentType":5121},"values":{"bufferView":2}}},
	{"bufferView":0,"byteOffset":12,"componentType":5121,"normalized":true,"count":4,"type":"VEC3"}],
	"bufferViews":[{"buffer":0,"byteLength":64,"byteStride":16},{"buffer":0,"byteOffset":64,"byteLength":1},{"buffer":0,"byteOffset":68,"byteLength":12}],
	"buffers":[{"byteLength":80}]}`
	s, err := read(glb(doc, bin))
	if err != nil {
		t.Fatal(err)
	}
	p := &s.Meshes[0].Parts[0]
	if fmt.Sprint(p.Triangles) != "[0 1 2 2 1 3]" {
		t.Errorf("strip became %v", p.Triangles)
	}
	if fmt.Sprint(p.Positions[9:]) != "[5 6 7]" {
		t.Errorf("sparse vertex is %v", p.Positions[9:])
	}
	if fmt.Sprint(p.Colours[0].Data[:4]) != "[1 0 0.2 1]" {
		t.Errorf("colour %v", p.Colours[0].Data[:4])
	}
	if len(s.Nodes) != 2 || s.Nodes[0].Name != "top" || s.Nodes[0].Scale != [3]float32{2, 2, 2} {
		t.Errorf("nodes %+v", s.Nodes)
	}
	box := s.Bounds() // (5,6,7) -> turned a quarter, doubled, moved
	if math.Abs(box.Max[1]-30) > 1e-5 || math.Abs(box.Min[0]+2) > 1e-5 || box.Max[2] != 44 {
		t.Errorf("bounds %v", box)
	}
	if len(s.Notes) != 1 || !s.Notes[0].Loss {
		t.Errorf("a node outside the scene was left out with %v", s.Notes)
	}
	if st := s.Stats(); st.Points != 4 || st.Lines != 0 || len(s.Meshes[0].Parts) != 2 {
		t.Errorf("%d points, %d lines in %d parts", st.Points, st.Lines, len(s.Meshes[0].Parts))
	}
	if s.Terms.Owner != "someone" {
		t.Errorf("owner %q", s.Terms.Owner)
	}
}

// within tells whether a list lies in a file's own bytes.
func within(list []float32, file []byte) bool {
	at, from := uintptr(unsafe.Pointer(&list[0])), uintptr(unsafe.Pointer(&file[0]))
	return at >= from && at < from+uintptr(len(file))
}

// Attributes lie in the file's bytes where these are as a list needs them; a
// file at an odd address, or with attributes among each other, reads the same.
func TestAttributesShareTheFile(t *testing.T) {
	file := write(t, full())
	s, err := read(file)
	if err != nil {
		t.Fatal(err)
	}
	p := &s.Meshes[0].Parts[0]
	for name, list := range map[string][]float32{"positions": p.Positions, "normals": p.Normals, "UVs": p.UVs[1].Data, "morph": p.Morphs[0].Positions, "times": s.Motions[0].Channels[0].Times} {
		if !within(list, file) {
			t.Errorf("%s are a copy", name)
		}
		if cap(list) != len(list) {
			t.Errorf("%s: %d numbers with room for %d: an append would write to the file", name, len(list), cap(list))
		}
	}
	odd := append(make([]byte, 1, len(file)+1), file...)[1:]
	same, err := read(odd)
	if err != nil {
		t.Fatal(err)
	}
	if within(same.Meshes[0].Parts[0].Positions, odd) {
		t.Error("floats at an odd address are shared")
	}
	if !reflect.DeepEqual(s, same) {
		t.Error("the same file at another address is another scene")
	}
}

// Several parts may name the same accessors; what is made of these is made
// once.
func TestPartsOfTheSameAccessors(t *testing.T) {
	const n = 1000
	bin := make([]byte, 12*n+4*n) // short positions with padding, joints
	for v := range n {
		binary.LittleEndian.PutUint16(bin[8*v:], uint16(v))
	}
	part := `{"attributes":{"POSITION":0,"JOINTS_0":1,"WEIGHTS_0":2},"mode":6}`
	doc := fmt.Sprintf(`{"asset":{"version":"2.0"},"extensionsRequired":["KHR_mesh_quantization"],"nodes":[{"mesh":0}],"meshes":[{"primitives":[%s]}],
		"accessors":[{"bufferView":0,"componentType":5123,"count":%d,"type":"VEC3"},{"bufferView":1,"componentType":5121,"count":%d,"type":"VEC4"},{"bufferView":1,"componentType":5121,"normalized":true,"count":%d,"type":"VEC4"}],
		"bufferViews":[{"buffer":0,"byteLength":%d,"byteStride":8},{"buffer":0,"byteOffset":%d,"byteLength":%d}],"buffers":[{"byteLength":%d}]}`,
		part+","+part, n, n, n, 8*n, 12*n, 4*n, len(bin))
	s, err := read(glb(doc, bin))
	if err != nil {
		t.Fatal(err)
	}
	a, b := &s.Meshes[0].Parts[0], &s.Meshes[0].Parts[1]
	if &a.Positions[0] != &b.Positions[0] || a.Positions[3*7] != 7 {
		t.Errorf("positions of two parts are %v and %v", a.Positions[21:24], b.Positions[21:24])
	}
	if len(a.Triangles) != 3*(n-2) || a.Triangles[3] != 0 || a.Triangles[5] != 3 {
		t.Errorf("%d indices of a fan", len(a.Triangles))
	}
}

// With more than four influences the heaviest are in the first set, and no
// weight is lost.
func TestTheHeaviestInfluencesComeFirst(t *testing.T) {
	s := full()
	p := &s.Meshes[0].Parts[0]
	for range 6 {
		n := scene.NewNode("b")
		s.Nodes = append(s.Nodes, n)
		s.Skins[0].Joints = append(s.Skins[0].Joints, len(s.Nodes)-1)
		s.Skins[0].InverseBind = append(s.Skins[0].InverseBind, s.Skins[0].InverseBind[:16]...)
	}
	copy(p.Joints, []uint16{0, 1, 2, 3, 4, 5, 6, 7})
	copy(p.Weights, []float32{0.01, 0.02, 0.03, 0.04, 0.3, 0.1, 0.25, 0.25})
	got, err := read(write(t, s))
	if err != nil {
		t.Fatal(err)
	}
	q := &got.Meshes[0].Parts[0]
	if j, w := fmt.Sprint(q.Joints[:8]), fmt.Sprintf("%.2f", q.Weights[:8]); j != "[4 6 7 5 3 2 1 0]" || w != "[0.30 0.25 0.25 0.10 0.04 0.03 0.02 0.01]" {
		t.Errorf("joints %s, weights %s", j, w)
	}
}

func TestBadFiles(t *testing.T) {
	tri := make([]byte, 36)
	idx := []byte{0, 0, 1, 0, 9, 0}
	doc := func(change ...string) string {
		d := `{"asset":{"version":"2.0"},"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{"POSITION":0},"indices":1}]}],
		"accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3"},{"bufferView":1,"componentType":5123,"count":3,"type":"SCALAR"}],
		"bufferViews":[{"buffer":0,"byteLength":36},{"buffer":0,"byteOffset":36,"byteLength":6}],"buffers":[{"byteLength":42}]}`
		for i := 0; i < len(change); i += 2 {
			if !strings.Contains(d, change[i]) {
				t.Fatalf("nothing to change: %s", change[i])
			}
			d = strings.Replace(d, change[i], change[i+1], 1)
		}
		return d
	}
	bin := append(tri, idx...)
	good := append(append([]byte{}, tri...), 0, 0, 1, 0, 2, 0)
	if _, err := read(glb(doc(), good)); err != nil {
		t.Fatalf("the sound file is refused: %v", err)
	}
	at := int64(20 + (len(doc())+3)&^3 + 8 + 36 + 4) // of the third index
	for _, c := range []struct {
		name string
		data []byte
		want string
		at   string
	}{
		{"index", glb(doc(), bin), "index 2 is vertex 9, and there are 3", fmt.Sprintf("offset %d", at)},
		{"index of a strip", glb(doc(`"indices":1`, `"indices":1,"mode":5`), bin), "index 2 is vertex 9, and there are 3", fmt.Sprintf("offset %d", at+int64(len(doc(`"indices":1`, `"indices":1,"mode":5`))+3)&^3-int64(len(doc())+3)&^3)},
		{"position", glb(doc(), append(binary.LittleEndian.AppendUint32(slices.Clone(good[:16]), math.Float32bits(float32(math.Inf(1)))), good[20:]...)), "element 1 holds a number that is not finite", "accessors[0]"},
		{"zeros", glb(doc(`{"bufferView":0,"componentType":5126,"count":3`, `{"componentType":5126,"count":99999999`), good), "what is unpacked comes to more than", "accessors[0]"},
		{"cut off", glb(doc(), good)[:100], "cut off", "offset 8"},
		{"version", []byte("glTF\x01\x00\x00\x00............"), "version", "offset 4"},
		{"not JSON", glb(`{"asset":{"version":"2.0"},,`, nil), "JSON", "offset"},
		{"extension", glb(doc(`"nodes"`, `"extensionsRequired":["VENDOR_secret"],"nodes"`), good), "VENDOR_secret", "extensionsRequired"},
		{"accessor", glb(doc(`"count":3,"type":"VEC3"`, `"count":30000000,"type":"VEC3"`), good), "30000000 elements", "accessors[0]"},
		{"negative", glb(doc(`"count":3,"type":"VEC3"`, `"count":-3,"type":"VEC3"`), good), "-3 elements", "accessors[0]"},
		{"view", glb(doc(`"byteLength":36}`, `"byteLength":36,"byteOffset":9223372036854775800}`), good), "bytes at", "bufferViews[0]"},
		{"ring", glb(doc(`[{"mesh":0}]`, `[{"mesh":0},{"name":"a","children":[2]},{"name":"b","children":[1]}]`), good), "its own ancestor", "nodes[1]"},
		{"two parents", glb(doc(`[{"mesh":0}]`, `[{"mesh":0},{"children":[0]},{"children":[0]}]`), good), "two parents", "nodes[2]"},
		{"mesh", glb(doc(`{"mesh":0}`, `{"mesh":7}`), good), "mesh 7: there are 1", ""},
		{"material", glb(doc(`"indices":1`, `"indices":1,"material":3`), good), "material 3", ""},
		{"buffer", glb(doc(`"buffers":[{"byteLength":42}]`, `"buffers":[{"byteLength":42,"uri":"gone.bin"}]`), good), "stands alone", "buffers[0]"},
		{"network", glb(doc(`"buffers":[{"byteLength":42}]`, `"buffers":[{"byteLength":42,"uri":"http://x/y"}]`), good), "network", "buffers[0]"},
	} {
		_, err := read(c.data)
		var fe *format.Error
		if !errors.As(err, &fe) || !strings.Contains(err.Error(), c.want) || !strings.HasPrefix(fe.At, c.at) {
			t.Errorf("%s: got %v, want %q at %q", c.name, err, c.want, c.at)
		}
	}
}

func TestWriterMendsWhatValidatorsRefuse(t *testing.T) {
	s := full()
	p := &s.Meshes[0].Parts[0]
	p.Normals = []float32{0, 0, 0, 0, 0, 2, 0, 0, 1}
	p.Weights[0], p.Weights[1] = 2, 2
	p.Joints[8], p.Joints[9], p.Weights[8], p.Weights[9] = 1, 1, 0.5, 0.5 // one joint twice
	s.Motions[0].Channels[0].Times = []float32{1, 1}
	b, notes, err := gltf.Write(s, gltf.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if len(notes) != 2 {
		t.Errorf("notes %v", notes)
	}
	got, err := read(b)
	if err != nil {
		t.Fatal(err)
	}
	q := &got.Meshes[0].Parts[0]
	if fmt.Sprint(q.Normals) != "[0 1 0 0 0 1 0 0 1]" || q.Weights[0] != 0.5 || q.Weights[8] != 1 || q.Weights[9] != 0 {
		t.Errorf("normals %v, weights %v", q.Normals, q.Weights)
	}
	if len(got.Motions[0].Channels[0].Times) != 1 {
		t.Error("keys at the same time were kept")
	}
}

func TestAnotherBasisIsTurned(t *testing.T) {
	s := full()
	s.Basis.Up, s.Basis.Front = geom.PlusZ, geom.MinusY
	b, notes, err := gltf.Write(s, gltf.Options{})
	if err != nil || len(notes) != 1 || !strings.Contains(notes[0].Text, "turned from Z up") {
		t.Errorf("%v %v", notes, err)
	}
	// What is written is what a reader takes it for: the height is along Y.
	if back, err := read(b); err != nil || math.Abs(back.Stats().Max[1]-s.Stats().Max[2]) > 1e-6 {
		t.Errorf("it is not %g high: %v", s.Stats().Max[2], err)
	}
	_, notes, err = gltf.Write(s, gltf.Options{AsStands: true})
	if err != nil || len(notes) != 0 {
		t.Errorf("as it stands: %v %v", notes, err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(glb(vrm0, nil))
	b, _, _ := gltf.Write(full(), gltf.Options{})
	f.Add(b)
	f.Add([]byte(`{"asset":{"version":"2.0"},"nodes":[{}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := read(b)
		if err != nil {
			return
		}
		if err := s.Validate(); err != nil {
			t.Fatal(err)
		}
		s.Stats()
		if _, _, err := gltf.Write(s, gltf.Options{}); err != nil && !strings.Contains(err.Error(), "JSON") && !strings.Contains(err.Error(), "json") {
			t.Fatal(err)
		}
	})
}

// million is a part of a million vertices.
func million() *scene.Scene {
	const n = 1 << 20
	s := &scene.Scene{Name: "million", Basis: geom.GLTF}
	p := scene.Part{Material: scene.None, Positions: make([]float32, 3*n), Normals: make([]float32, 3*n), UVs: []scene.AttrSet{{Name: "uv", Data: make([]float32, 2*n)}}}
	for i := 0; i < n; i++ {
		p.Positions[3*i], p.Positions[3*i+1] = float32(i%1024), float32(i/1024)
		p.Normals[3*i+2] = 1
		p.Triangles = append(p.Triangles, uint32(i), uint32((i+1)%n), uint32((i+1024)%n))
	}
	node := scene.NewNode("m")
	node.Mesh = 0
	s.Nodes, s.Meshes = []scene.Node{node}, []scene.Mesh{{Name: "m", Parts: []scene.Part{p}}}
	return s
}

// BenchmarkWrite writes a million vertices; BenchmarkCopy copies as many
// bytes twice, which is the least that a GLB in one piece costs.
func BenchmarkWrite(b *testing.B) {
	s := million()
	var n int
	for b.Loop() {
		out, _, err := gltf.Write(s, gltf.Options{})
		if err != nil {
			b.Fatal(err)
		}
		n = len(out)
	}
	b.SetBytes(int64(n))
}

func BenchmarkCopy(b *testing.B) {
	out, _, _ := gltf.Write(million(), gltf.Options{})
	b.SetBytes(int64(len(out)))
	for b.Loop() {
		dst := make([]byte, len(out))
		copy(dst, out)
	}
}

func BenchmarkRead(b *testing.B) {
	out, _, _ := gltf.Write(million(), gltf.Options{})
	b.SetBytes(int64(len(out)))
	for b.Loop() {
		if _, err := read(out); err != nil {
			b.Fatal(err)
		}
	}
}

// A file that places no mesh is shown all the same.
func TestLibraryOfMeshes(t *testing.T) {
	s, err := gltf.Read(context.Background(), format.File{Name: "reeds.gltf", Data: []byte(`{"asset":{"version":"2.0"},"scene":0,"scenes":[{}],
"meshes":[{"name":"reed","primitives":[{"attributes":{"POSITION":0}}]},{"primitives":[{"attributes":{"POSITION":0}}]}],
"accessors":[{"componentType":5126,"count":3,"type":"VEC3","min":[0,0,0],"max":[0,0,0]}]}`)})
	if err != nil {
		t.Fatal(err)
	}
	if st := s.Stats(); st.Triangles != 2 || len(s.Nodes) != 2 || s.Nodes[0].Name != "reed" || s.Nodes[1].Mesh != 1 || len(s.Notes) != 1 || !strings.Contains(s.Notes[0].Text, "places none of its meshes") {
		t.Errorf("%+v %+v %v", st, s.Nodes, s.Notes)
	}
}

// What a file says of a node in its own words is read by its shape and bounded
// by it.
func TestExtras(t *testing.T) {
	s, err := read([]byte(`{"asset":{"version":"2.0"},"scenes":[{"nodes":[0,1,2,3]}],"nodes":[
		{"extras":{"state":"whole","hp":12.50,"tags":[ "a", 1 ],"gone":null,"open":false,"state":"broken"}},
		{"extras":"a text"},{"extras":[1,2]},{"extras":{}}]}`))
	if err != nil {
		t.Fatal(err)
	}
	want := []scene.Prop{{Key: "state", Value: "whole"}, {Key: "hp", Value: "12.50"}, {Key: "tags", Value: `["a",1]`}, {Key: "open", Value: "false"}, {Key: "state", Value: "broken"}}
	if !reflect.DeepEqual(s.Nodes[0].Props, want) || s.Nodes[1].Props != nil || s.Nodes[2].Props != nil || s.Nodes[3].Props != nil {
		t.Errorf("read %v, %v", s.Nodes[0].Props, s.Nodes[1:])
	}
	again, err := read(write(t, s))
	if err != nil || !reflect.DeepEqual(again.Nodes[0].Props, want[:4]) {
		t.Errorf("written and read: %v, %v", again.Nodes[0].Props, err)
	}
}
