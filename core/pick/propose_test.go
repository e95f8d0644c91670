package pick_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"excavate/core/pick"
	"excavate/core/scene"
)

func TestPropose(t *testing.T) {
	s := village()
	// Nodes: 0 Buildings, 1 house_a, 2 house_b, 3 punt, 4 lamp, 5 mark.
	for _, c := range []struct {
		things pick.Things
		first  string // the shortest rule that says the same
	}{
		{pick.Things{Nodes: []int{1, 2}}, `{"node":"house_*"}`},
		{pick.Things{Nodes: []int{1}}, `{"state":"[whole]"}`},
		{pick.Things{Nodes: []int{4}}, `{"kind":"light"}`},
		{pick.Things{Materials: []int{0}}, `{"material":"wall_reed"}`},
		{pick.Things{Parts: [][2]int{{0, 0}}}, `{"material":"wall_reed"}`},
		{pick.Things{Pictures: []int{0}}, `{"material":"wall_reed"}`},
		{pick.Things{Nodes: []int{0, 1, 2}}, `{"under":"Buildings"}`},
		{pick.Things{Nodes: []int{0}}, `{"under":"Buildings"}`}, // a group with all below it
	} {
		list, err := pick.Propose(s, c.things)
		if err != nil {
			t.Fatal(err)
		}
		if len(list) == 0 {
			t.Errorf("%+v: nothing is proposed", c.things)
			continue
		}
		text, _ := json.Marshal(single(list[0].Rule))
		if string(text) != c.first || list[0].Else != (pick.Counts{}) {
			t.Errorf("%+v: %s (%s) with %+v besides, should be %s",
				c.things, text, list[0].Words, list[0].Else, c.first)
		}
		for i, p := range list {
			for _, q := range list[:i] {
				if p.Else == (pick.Counts{}) && q.Else == p.Else && strings.HasPrefix(p.Words, q.Words+", ") {
					t.Errorf("%q says no more than %q", p.Words, q.Words)
				}
			}
		}
		// Each takes what was chosen and says rightly what else.
		for _, p := range list {
			got, err := pick.Of(s, &p.Rule)
			if err != nil || got.Counts() != p.Counts {
				t.Errorf("%s: %+v, told %+v, %v", p.Words, got.Counts(), p.Counts, err)
			}
		}
	}
	if list, _ := pick.Propose(s, pick.Things{}); len(list) != 0 {
		t.Error("nothing was chosen")
	}
	if list, _ := pick.Propose(s, pick.Things{Nodes: []int{-1, 99}, Parts: [][2]int{{9, 9}}, Materials: []int{99}}); len(list) != 0 {
		t.Error("what is not there was chosen")
	}
}

// single writes a list of one name as that name.
func single(r pick.Rule) map[string]string {
	out := map[string]string{}
	for k, g := range map[string]pick.Globs{"node": r.Node, "under": r.Under, "material": r.Material, "picture": r.Picture} {
		if len(g) == 1 {
			out[k] = g[0]
		} else if len(g) > 1 {
			out[k] = fmt.Sprint(g)
		}
	}
	for _, k := range r.Kind {
		out["kind"] = string(k)
	}
	for k, g := range r.Props {
		out[k] = fmt.Sprint(g)
	}
	return out
}

// Names with stars are names, and what only a state sets apart is said by it.
func TestProposeByProps(t *testing.T) {
	s := village()
	list, _ := pick.Propose(s, pick.Things{Nodes: []int{1}})
	byState := false
	for _, p := range list {
		byState = byState || len(p.Rule.Props["state"]) == 1 && p.Else == (pick.Counts{})
	}
	if !byState {
		t.Errorf("%+v", list)
	}
	s.Nodes[1].Name, s.Nodes[2].Name = "a*", "a*b"
	list, _ = pick.Propose(s, pick.Things{Nodes: []int{1}})
	if len(list) == 0 || list[0].Else != (pick.Counts{}) {
		t.Errorf("%+v", list)
	}
}

func BenchmarkPropose(b *testing.B) {
	s := &scene.Scene{Materials: []scene.Material{scene.NewMaterial("wall"), scene.NewMaterial("glass")}}
	s.Meshes = []scene.Mesh{{Parts: []scene.Part{{Material: 0}, {Material: 1}}}}
	var t pick.Things
	for i := range 10_000 {
		n := scene.NewNode(fmt.Sprintf("wall_%d", i))
		n.Mesh = 0
		if i%10 == 3 {
			n.Name = fmt.Sprintf("post_%d", i)
			t.Nodes = append(t.Nodes, i)
		}
		s.Nodes = append(s.Nodes, n)
	}
	for b.Loop() {
		if _, err := pick.Propose(s, t); err != nil {
			b.Fatal(err)
		}
	}
}
