package target

import (
	"encoding/json"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/targets"
)

func shipped(t *testing.T, id string) *Sheet {
	t.Helper()
	all, err := Load(targets.FS)
	if err != nil {
		t.Fatal(err)
	}
	if all[id] == nil {
		t.Fatalf("there is no sheet %s", id)
	}
	return all[id]
}

func asJSON(t *testing.T, v any) []byte {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// plankOf is one triangle of a node, for those that are no tests.
func plankOf(testing.TB) *scene.Scene {
	s := &scene.Scene{Name: "leaf", Basis: geom.GLTF, Materials: []scene.Material{scene.NewMaterial("green")}}
	s.Meshes = []scene.Mesh{{Name: "leaf", Parts: []scene.Part{{Material: 0,
		Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0}, Triangles: []uint32{0, 1, 2}}}}}
	n := scene.NewNode("leaf")
	n.Mesh = 0
	s.Nodes = []scene.Node{n}
	return s
}
