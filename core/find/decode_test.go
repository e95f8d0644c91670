package find_test

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"

	"excavate/core/find"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/internal/shipped"
)

// What is no model is called by its name, and what to do with it is said.
func TestNoModelSaysWhatItIs(t *testing.T) {
	lib := library(t)
	stack := demoStack(t, lib, "hulls.tide", "washes.tide")
	var wash []byte
	for _, s := range stack {
		for i, e := range s.Entries() {
			if strings.HasSuffix(e.Path, "punt_c.wash") {
				var err error
				if wash, err = s.Read(i); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	for _, c := range []struct {
		data         []byte
		format, says string
	}{
		{nil, "", "the file is empty"},
		{[]byte("The tide mill grinds twice a day.\n"), "text", "it is text, not a model"},
		{wash, "", "it is a picture"},
		{[]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR"), "png", "it is png, not a model"},
		{[]byte("PK\x03\x04\x14\x00"), "zip", "not a model"},
		{[]byte{9, 8, 7, 6, 5, 4, 3, 2, 1, 0, 200, 201}, "", "first bytes (09 08 07 06 05 04 03 02)"},
		{[]byte("glTF\x02\x00\x00\x00"), "glb", "header alone has 20"},
		{[]byte("<?xml version=\"1.0\"?><COLLADA version=\"1.4.1\">"), "collada", "line"},
	} {
		s, format, err := lib.Decode(context.Background(), find.Input{Name: "thing", Data: c.data, Stack: stack})
		if err == nil || s != nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%.20q: %v, want %q", c.data, err, c.says)
		}
		if c.format != "" && format != c.format {
			t.Errorf("%.20q is %q, want %q", c.data, format, c.format)
		}
	}
}

// Every written model is recognised by its bytes whatever its name, and takes
// its name where it has none of its own.
func TestRecognisedByBytes(t *testing.T) {
	lib := library(t)
	s := &scene.Scene{Basis: geom.GLTF, Nodes: []scene.Node{scene.NewNode("hull")}, Meshes: []scene.Mesh{{Name: "hull", Parts: []scene.Part{{Material: scene.None, Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0}, Normals: []float32{0, 0, 1, 0, 0, 1, 0, 0, 1}, Triangles: []uint32{0, 1, 2}}}}}}
	s.Nodes[0].Mesh = 0
	for i := range shipped.Writers {
		w := &shipped.Writers[i]
		if w.Name == "vrm" || w.Name == "bvh" { // they ask for bones
			continue
		}
		files, _, err := w.Write(s, "hull")
		if err != nil {
			t.Errorf("%s: %v", w.Name, err)
			continue
		}
		data := files[0].Data
		if kind, _ := lib.KindOf("", data[:min(len(data), find.HeadBytes)]); kind != find.Model {
			t.Errorf("%s is taken for %s", w.Name, kind)
		}
		got, format, err := lib.Decode(context.Background(), find.Input{Name: "ferry/mystery.bin", Data: data})
		if err != nil || got.Stats().Triangles != 1 || got.Name == "" {
			t.Errorf("%s: %q, %v", w.Name, format, err)
		}
		// With bytes before it, it is none of these.
		if kind, name := lib.KindOf("", append([]byte{0, 1, 2, 3, 4, 5, 6, 7}, data[:min(len(data), 300)]...)); kind == find.Model {
			t.Errorf("%s behind eight bytes is taken for %s", w.Name, name)
		}
	}
}

// A level of detail is chosen by a reading, in whichever format it comes.
func TestLevelsAreRead(t *testing.T) {
	lib := library(t)
	s := &scene.Scene{Basis: geom.GLTF}
	for i := range 3 {
		p := scene.Part{Material: scene.None, Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0}}
		for range 3 - i {
			p.Triangles = append(p.Triangles, 0, 1, 2)
		}
		n := scene.NewNode(fmt.Sprintf("house_LOD%d", i))
		n.Mesh = i
		s.Nodes = append(s.Nodes, n)
		s.Meshes = append(s.Meshes, scene.Mesh{Name: n.Name, Parts: []scene.Part{p}})
	}
	glb, _, err := gltf.Write(s, gltf.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for chosen, want := range map[string]int{"": 6, "all": 6, "finest": 3, "level 1": 2, "level 2": 1} {
		got, _, err := lib.Decode(context.Background(), find.Input{Name: "house.glb", Data: bytes.Clone(glb), Readings: map[string]string{"level of detail": chosen}})
		if err != nil {
			t.Fatal(err)
		}
		if n := got.Stats().Triangles; n != want {
			t.Errorf("%q has %d triangles, want %d", chosen, n, want)
		}
		if len(got.Choices) != 1 || fmt.Sprint(got.Choices[0].Options) != "[all finest level 1 level 2]" {
			t.Errorf("%+v", got.Choices)
		}
	}
}
