package pick_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"excavate/core/geom"
	"excavate/core/pick"
	"excavate/core/scene"
)

// village is two houses under Buildings, a boat, a lamp and a camera. House a
// has walls, glass and, of its walls, a loose brick of 5 cm.
func village() *scene.Scene {
	s := &scene.Scene{Name: "village", Basis: geom.GLTF}
	mat := func(name, picture string) int {
		m := scene.NewMaterial(name)
		if picture != "" {
			s.Pictures = append(s.Pictures, scene.Picture{Name: picture, Ref: picture})
			m.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: len(s.Pictures) - 1, Scale: 1}}
		}
		s.Materials = append(s.Materials, m)
		return len(s.Materials) - 1
	}
	wall, glass, spare := mat("wall_reed", "reed_c.png"), mat("pane*", ""), mat("spare", "spare_c.png")
	s.Materials[glass].Alpha = scene.Blend
	_ = spare
	node := func(name string, parent, mesh int, props ...string) int {
		n := scene.NewNode(name)
		n.Parent, n.Mesh = parent, mesh
		for i := 0; i+1 < len(props); i += 2 {
			n.Props = append(n.Props, scene.Prop{Key: props[i], Value: props[i+1]})
		}
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	triangle := func(at, size float32) []float32 { return []float32{at, 0, 0, at + size, 0, 0, at, size, 0} }
	part := func(material int, pos ...[]float32) scene.Part {
		p := scene.Part{Material: material}
		for _, x := range pos {
			p.Positions = append(p.Positions, x...)
		}
		for i := range p.Vertices() {
			p.Triangles = append(p.Triangles, uint32(i))
		}
		return p
	}
	s.Meshes = []scene.Mesh{
		{Name: "house", Parts: []scene.Part{part(wall, triangle(0, 3), triangle(5, 0.05)), part(glass, triangle(1, 1))}},
		{Name: "boat", Parts: []scene.Part{part(scene.None, triangle(0, 2))}},
	}
	b := node("Buildings", scene.None, scene.None)
	node("house_a", b, 0, "state", "whole")
	node("house_b", b, 0, "state", "broken")
	node("punt", scene.None, 1)
	lamp := node("lamp", scene.None, scene.None)
	s.Lights = []scene.Light{{Name: "lamp", Type: "point"}}
	s.Nodes[lamp].Light = 0
	node("mark", scene.None, scene.None)
	return s
}

func names(s *scene.Scene, c *pick.Chosen) string {
	var out []string
	for i, ok := range c.Nodes {
		if ok {
			out = append(out, s.Nodes[i].Name)
		}
	}
	return strings.Join(out, " ")
}

func TestRules(t *testing.T) {
	s := village()
	for _, c := range []struct {
		rule      string
		nodes     string
		parts     int
		triangles int
		materials string
	}{
		{`{}`, "Buildings house_a house_b punt lamp mark", 5, 7, "[true true true]"},
		{`{"node": "house_*"}`, "house_a house_b", 4, 6, "[true true false]"},
		{`{"node": ["house_?", "mark"]}`, "house_a house_b mark", 4, 6, "[true true false]"},
		{`{"under": "Build*"}`, "Buildings house_a house_b", 4, 6, "[true true false]"},
		{`{"material": "wall*"}`, "house_a house_b", 2, 4, "[true false false]"},
		{`{"material": "pane\\*"}`, "house_a house_b", 2, 2, "[false true false]"},
		{`{"material": "spare"}`, "", 0, 0, "[false false true]"},
		{`{"picture": "reed_c"}`, "house_a house_b", 2, 4, "[true false false]"},
		{`{"kind": "light"}`, "lamp", 0, 0, "[false false false]"},
		{`{"kind": ["helper", "mesh"]}`, "house_a house_b punt mark", 5, 7, "[true true false]"},
		{`{"props": {"state": "wh*"}}`, "house_a", 2, 3, "[true true false]"},
		{`{"node": "house_*", "material": "wall*", "not": {"props": {"state": "broken"}}}`, "house_a", 1, 2, "[true false false]"},
		{`{"node": "house_*", "not": {"material": "pane*"}}`, "house_a house_b", 2, 4, "[true false false]"},
		{`{"not": {"node": "*"}}`, "", 0, 0, "[false false true]"},
		{`{"loose": {"smaller": 0.06}}`, "house_a house_b", 2, 2, "[true false false]"},
		{`{"material": "wall*", "not": {"loose": {"smaller": 0.06}}}`, "house_a house_b", 2, 2, "[true false false]"},
		{`{"if": "triangles > 1 and not skinned"}`, "house_a house_b", 2, 4, "[true false false]"},
		{`{"if": "see_through"}`, "house_a house_b", 2, 2, "[false true false]"},
		{`{"if": "size >= 2 and size < 3"}`, "punt", 1, 1, "[false false false]"},
		{`{"if": "path.startswith('Buildings/') and 'wall_reed' == material"}`, "house_a house_b", 2, 4, "[true false false]"},
		{`{"if": "'mesh' in kinds and len(pictures) == 0 and height == 2"}`, "punt", 1, 1, "[false false false]"},
	} {
		var r pick.Rule
		if err := json.Unmarshal([]byte(c.rule), &r); err != nil {
			t.Fatalf("%s: %v", c.rule, err)
		}
		if err := r.Validate(); err != nil {
			t.Fatalf("%s: %v", c.rule, err)
		}
		got, err := pick.Of(s, &r)
		if err != nil {
			t.Fatalf("%s: %v", c.rule, err)
		}
		n := got.Counts()
		if names(s, got) != c.nodes || n.Parts != c.parts || n.Triangles != c.triangles || fmt.Sprint(got.Materials) != c.materials {
			t.Errorf("%s takes %q, %d parts, %d triangles, materials %v; should be %q, %d, %d, %s", c.rule, names(s, got), n.Parts, n.Triangles, got.Materials, c.nodes, c.parts, c.triangles, c.materials)
		}
	}
}

// A mesh that nodes share is told apart by the node that shows it.
func TestPartsAreTakenAsNodesShowThem(t *testing.T) {
	s := village()
	c, err := pick.Of(s, &pick.Rule{Terms: pick.Terms{Node: pick.Globs{"house_a"}}})
	if err != nil {
		t.Fatal(err)
	}
	if !c.Part(1, 0) || !c.Part(1, 1) || c.Part(2, 0) || c.Part(2, 1) {
		t.Error("both houses share a mesh, and one was asked for")
	}
}

func TestWhyNothingIsTaken(t *testing.T) {
	s := village()
	for rule, want := range map[string]string{
		`{"node": "roof*"}`:                                  "no node is named roof*",
		`{"node": "house*", "material": "brick"}`:            "of what the other conditions take, no material is named brick",
		`{"kind": "camera"}`:                                 "nothing is a camera",
		`{"node": "punt", "props": {"state": "whole"}}`:      "of what the other conditions take, no node says state: whole",
		`{"loose": {"smaller": 0.001}}`:                      "no loose piece is that small",
		`{"node": "punt", "if": "triangles > 9"}`:            "of what the other conditions take, nothing fulfils triangles > 9",
		`{"kind": "mesh", "not": {"kind": "mesh"}}`:          "of what the other conditions take, what is excepted is all of it",
		`{"under": "Harbour", "node": "x", "picture": "y*"}`: "no node is named x",
	} {
		var r pick.Rule
		json.Unmarshal([]byte(rule), &r)
		if c, err := pick.Of(s, &r); err != nil || !c.None() {
			t.Errorf("%s takes something, %v", rule, err)
		}
		if got := pick.Why(s, &r); got != want {
			t.Errorf("%s: %q, should be %q", rule, got, want)
		}
	}
}

func TestUnsoundRules(t *testing.T) {
	for rule, want := range map[string]string{
		`{"if": "triangles >"}`:                "column",
		`{"if": "triangles"}`:                  "neither true nor false",
		`{"if": "colour == 'red'"}`:            "there is no colour; there are node",
		`{"if": "triangles == 'many'"}`:        "column 1: == does not go with a number and a text",
		`{"if": "node * 1000000000 == node"}`:  "* does not go with a text and a number",
		`{"if": "len([x for x in node]) > 1"}`: "not said here",
		`{"if": "(lambda: True)()"}`:           "can be called",
		`{"if": "node.upper() == 'A'"}`:        "can be called",
		`{"if": "True) or (True"}`:             "column",
		`{"node": ""}`:                         "write * for any",
		`{"kind": "tree"}`:                     "no kind of node",
	} {
		var r pick.Rule
		err := json.Unmarshal([]byte(rule), &r)
		if err == nil {
			err = r.Validate()
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, should say %q", rule, err, want)
		}
	}
	r := pick.Rule{Terms: pick.Terms{If: "1 / children > 0"}}
	if _, err := pick.Of(village(), &r); err == nil || !strings.Contains(err.Error(), "division") {
		t.Errorf("a division by zero: %v", err)
	}
}

func TestGlobs(t *testing.T) {
	for _, c := range []struct {
		glob, name string
		fits       bool
	}{
		{"*", "", true}, {"?", "", false}, {"a*c", "abbc", true}, {"a*c", "abcd", false}, {"*b*b*", "abxxb", true}, {"**", "x", true},
		{`a\*`, "a*", true}, {`a\*`, "ab", false}, {`a\`, `a\`, true}, {"schön?", "schönen", false}, {"schön??", "schönen", true},
		{"wall_[1]", "wall_[1]", true}, {"a/*", "a/b/c", true},
	} {
		if pick.Fits(c.glob, c.name) != c.fits {
			t.Errorf("%s and %s: %v", c.glob, c.name, !c.fits)
		}
	}
	for _, name := range []string{`a*?\b`, "", `\\`, "plain", `x\`} {
		if g := pick.Literal(name); !pick.Fits(g, name) || pick.Fits(g, name+"x") || name != "" && pick.Fits(g, "x"+name[1:]) && name[0] != 'x' {
			t.Errorf("%q does not stand for just %q", g, name)
		}
	}
	// A glob of many stars does not take for ever.
	start := time.Now()
	pick.Fits(strings.Repeat("*a", 2000)+"b", strings.Repeat("a", 20_000))
	if time.Since(start) > 5*time.Second {
		t.Error("many stars take for ever")
	}
}

func FuzzFits(f *testing.F) {
	f.Add("a*b?", "axxbc")
	f.Fuzz(func(t *testing.T, glob, name string) {
		pick.Fits(glob, name)
		if !slices.Contains([]rune(name), '\uFFFD') && !pick.Fits(pick.Literal(name), name) {
			t.Errorf("%q does not fit itself", name)
		}
	})
}

func FuzzCondition(f *testing.F) {
	for _, x := range []string{"triangles > 1", "'a' in pictures and not skinned", "len(kinds) == -1", "((((True))))"} {
		f.Add(x)
	}
	s := village()
	f.Fuzz(func(t *testing.T, expr string) {
		r := pick.Rule{Terms: pick.Terms{If: expr}}
		if r.Validate() == nil {
			pick.Of(s, &r)
		}
	})
}

func BenchmarkPick(b *testing.B) {
	s := &scene.Scene{Basis: geom.GLTF, Materials: []scene.Material{scene.NewMaterial("wall"), scene.NewMaterial("glass")}}
	s.Meshes = []scene.Mesh{{Parts: []scene.Part{{Material: 0}, {Material: 1}}}}
	for i := range 10_000 {
		n := scene.NewNode(fmt.Sprintf("wall_%d", i))
		n.Mesh = 0
		if n.Parent = i/10 - 1; n.Parent < 0 {
			n.Parent = scene.None
		}
		s.Nodes = append(s.Nodes, n)
	}
	for _, rule := range []pick.Terms{{Node: pick.Globs{"wall_*7"}, Material: pick.Globs{"gl*"}}, {Under: pick.Globs{"wall_3"}}, {If: "triangles == 0 and material == 'wall'"}} {
		text, _ := json.Marshal(rule)
		b.Run(string(text), func(b *testing.B) {
			for b.Loop() {
				if _, err := pick.Of(s, &pick.Rule{Terms: rule}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
