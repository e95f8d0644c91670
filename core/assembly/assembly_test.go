package assembly

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// tile is a triangle under a node that moves it, with a material and a picture.
func tile(name string, x float32, unit float64) *scene.Scene {
	n := scene.NewNode(name)
	n.Mesh, n.Translation[0] = 0, x
	m := scene.NewMaterial("ground")
	m.Textures = []scene.Texture{{Role: scene.RoleColour, Scale: 1}}
	b := geom.GLTF
	b.MetresPerUnit = unit
	return &scene.Scene{Name: name, Basis: b, Nodes: []scene.Node{n}, Materials: []scene.Material{m},
		Pictures: []scene.Picture{{Name: "ground.png", MIME: "image/png", Data: []byte("the same bytes"), Width: 1, Height: 1}},
		Meshes:   []scene.Mesh{{Name: name, Parts: []scene.Part{{Material: 0, Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0}, Triangles: []uint32{0, 1, 2}}}}},
		Terms:    scene.Terms{Owner: "Council of " + name}}
}

func TestPutTogether(t *testing.T) {
	doc, err := Parse([]byte(`# tiles
assembly: low tide
entries:
  - from: tiles/a.glb
  - {from: tiles/b.glb, at: [10, 0, 0], turn: 90, scale: 2, name: turned}
  - {from: tiles/b.glb, rotation: [0, 1, 0, 0], scale: [1, 2, 1]}
  - {from: tiles/gone.glb}
`))
	if err != nil {
		t.Fatal(err)
	}
	asked := map[string]int{}
	s, err := doc.Build(context.Background(), func(from string) (*scene.Scene, error) {
		asked[from]++
		switch from {
		case "tiles/a.glb":
			return tile("a", 3, 1), nil
		case "tiles/b.glb":
			return tile("b", 300, 0.01), nil // 300 cm
		}
		return nil, errors.New("it is nowhere")
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	if asked["tiles/b.glb"] != 1 || asked["tiles/gone.glb"] != 1 {
		t.Errorf("asked for %v", asked)
	}
	// The triangle of b is a hundredth as large as that of a: two meshes, of three nodes.
	if len(s.Meshes) != 2 || len(s.Materials) != 1 || len(s.Pictures) != 1 || len(s.Nodes) != 6 || s.Nodes[3].Mesh != s.Nodes[5].Mesh {
		t.Errorf("%d meshes, %d materials, %d pictures, %d nodes",
			len(s.Meshes), len(s.Materials), len(s.Pictures), len(s.Nodes))
	}
	if s.Name != "low tide" || s.Terms.Owner != "Council of a; Council of b" || len(s.Notes) != 1 || !strings.Contains(s.Notes[0].Text, "tiles/gone.glb is left out: it is nowhere") {
		t.Errorf("%q %+v %+v", s.Name, s.Terms, s.Notes)
	}
	// By hand: 3 m along x, turned a quarter counter-clockwise seen from above, lie
	// along -z; twice as far; moved by 10 m along x.
	w := s.World()
	at := func(i int, want geom.Vec3) {
		t.Helper()
		if got := (geom.Vec3{w[i][12], w[i][13], w[i][14]}); got.Sub(want).Len() > 1e-5 {
			t.Errorf("%s is at %v, by hand %v", s.Nodes[i].Name, got, want)
		}
	}
	at(1, geom.Vec3{3, 0, 0})
	at(3, geom.Vec3{10, 0, -6})
	at(5, geom.Vec3{-3, 0, 0})
	if s.Nodes[0].Name != "a" || s.Nodes[2].Name != "turned" || s.Nodes[4].Name != "b" {
		t.Errorf("%s, %s, %s", s.Nodes[0].Name, s.Nodes[2].Name, s.Nodes[4].Name)
	}
}

func TestUnsoundDocuments(t *testing.T) {
	for text, want := range map[string]string{
		"assembly: x\n": "it has no entries",
		"assembly: x\nentries:\n  - {at: [0, 0, 0]}\n":                "[3:6]",
		"assembly: x\nentries:\n  - {from: a, at: [0, 0]}\n":          "three numbers",
		"assembly: x\nentries:\n  - {from: a, scale: 0}\n":            "leaves nothing to see",
		"assembly: x\nentries:\n  - {from: a, scale: [1, 1]}\n":       "a number, or three",
		"assembly: x\nentries:\n  - {from: a, rotation: [0,0,0,0]}\n": "length 0",
		"assembly: x\nentries:\n  - {from: a, turns: 3}\n":            "turn",
		"assembly: x\nbasis: {up: +Y}\nentries:\n  - {from: a}\n":     "[2:",
		"assembly: [": "assembly",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, should say %q", text, err, want)
		}
	}
	doc, err := Parse([]byte("assembly: x\nentries:\n  - {from: a}\n  - {from: b}\n"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := doc.Build(context.Background(), func(string) (*scene.Scene, error) { return nil, errors.New("nothing is here") }); err == nil || !strings.Contains(err.Error(), "nothing is here") {
		t.Errorf("%v", err)
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, err := doc.Build(ctx, func(string) (*scene.Scene, error) { return tile("a", 0, 1), nil }); err != context.Canceled {
		t.Errorf("%v", err)
	}
	for text, is := range map[string]bool{"assembly: x": true, "# so\n---\nassembly: x": true, "chain: x\nassembly: y": false, "": false, "assembly": false} {
		if Is([]byte(text)) != is {
			t.Errorf("%q: %v", text, !is)
		}
	}
}

// 300 tiles and 5,000 placed models stay instances.
func TestAWorld(t *testing.T) {
	text := "assembly: world\nentries:\n"
	for i := range 300 {
		text += fmt.Sprintf("  - {from: tile_%d}\n", i)
	}
	for i := range 5000 {
		text += fmt.Sprintf("  - {from: house_%d, at: [%d, 0, %d]}\n", i%12, i, i*7%500)
	}
	doc, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	s, err := doc.Build(context.Background(), func(from string) (*scene.Scene, error) {
		x := tile(from, 0, 1)
		x.Meshes[0].Parts[0].Positions[0] = float32(len(from)) + float32(from[len(from)-1])
		return x, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if len(s.Nodes) != 10_600 || len(s.Meshes) > 312 || len(s.Materials) != 1 || s.Stats().Triangles != 5300 {
		t.Errorf("%d nodes, %d meshes, %d materials", len(s.Nodes), len(s.Meshes), len(s.Materials))
	}
	if b := s.Bounds(); math.Abs(b.Max[0]-5000) > 500 {
		t.Errorf("%v", b)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("assembly: x\nbasis: {up: +Y, front: +Z, handedness: right, unit: 1}\nentries:\n  - {from: a, at: [1, 2, 3], turn: 4, scale: 2}\n"))
	f.Add([]byte("assembly: x\nentries:\n  - {from: a, rotation: [0, 0, 1e300, 1], scale: [1, -2, 3]}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		doc, err := Parse(text)
		if err != nil || len(doc.Entries) > 50 {
			return
		}
		s, err := doc.Build(context.Background(), func(string) (*scene.Scene, error) { return tile("a", 1, 1), nil })
		if err == nil {
			err = s.Validate()
		}
		if err != nil && !strings.Contains(err.Error(), "finite") {
			t.Error(err)
		}
	})
}
