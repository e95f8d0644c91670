package scene

import (
	"fmt"
	"testing"
)

func TestLevelOf(t *testing.T) {
	for name, want := range map[string]string{
		"house_LOD1": "house 1 true", "mill lod 2": "mill 2 true", "punt.lod0": "punt 0 true", "Lod_12": " 12 true",
		"house": "house 0 false", "lodge 2": "lodge 2 0 false", "level2": "level2 0 false", "lod": "lod 0 false", "": " 0 false", "x_lod99999999999": "x 999 true",
	} {
		base, level, ok := LevelOf(name)
		if got := fmt.Sprint(base, " ", level, " ", ok); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}

func TestChooseDetail(t *testing.T) {
	make := func() *Scene {
		s := &Scene{}
		for i, name := range []string{"house_lod0", "house_lod1", "house_lod3", "heron", "pier_lod2"} {
			s.Meshes = append(s.Meshes, Mesh{Name: name, Parts: []Part{{Material: None, Positions: []float32{0, 0, 0, 1, 0, 0, 0, float32(i), 0}, Triangles: []uint32{0, 1, 2}}}})
			n := NewNode(name)
			n.Mesh = i
			s.Nodes = append(s.Nodes, n)
		}
		return s
	}
	for wanted, want := range map[string]string{
		"": "house_lod0 house_lod1 house_lod3 heron pier_lod2 all", "all": "house_lod0 house_lod1 house_lod3 heron pier_lod2 all", "taste": "house_lod0 house_lod1 house_lod3 heron pier_lod2 all",
		"finest": "house_lod0 heron pier_lod2 finest", "level 1": "house_lod1 heron pier_lod2 level 1", "level 2": "house_lod1 heron pier_lod2 level 2", "level 3": "house_lod3 heron pier_lod2 level 3",
	} {
		s := make()
		s.ChooseDetail(wanted)
		got := ""
		for i := range s.Nodes {
			if m := s.Nodes[i].Mesh; m >= 0 {
				got += s.Meshes[m].Name + " "
			}
		}
		got += s.Choices[0].Chosen
		if got != want || len(s.Nodes) != 5 {
			t.Errorf("%q: %s, want %s", wanted, got, want)
		}
		if err := s.Validate(); err != nil {
			t.Error(err)
		}
	}
	s := make()
	s.Nodes, s.Meshes = s.Nodes[3:4], s.Meshes[3:4]
	s.Nodes[0].Mesh = 0
	if s.ChooseDetail("finest"); len(s.Choices) != 0 {
		t.Errorf("%+v", s.Choices)
	}
}
