package step

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/dae"
	"excavate/core/format/obj"
	"excavate/core/format/ply"
	"excavate/core/format/usd"
	"excavate/core/format/x3d"
	"excavate/core/geom"
	"excavate/core/scene"
)

// painted is three squares: one in paint that is red and, in variants, blue or
// tarred, one that looks the same in all but the second, one that never changes.
func painted() *scene.Scene {
	s := one(square())
	s.Materials = nil
	for _, name := range []string{"red", "blue", "tar", "oak"} {
		s.Materials = append(s.Materials, scene.NewMaterial(name))
	}
	s.Variants = []string{"as built", "Blue ferry", "tarred"}
	hull, trim, deck := square(), square(), square()
	hull.Material, hull.Variants = 0, []int{0, 1, 2}
	trim.Material, trim.Variants = 3, []int{scene.None, 1}
	deck.Material = 3
	s.Meshes[0].Parts = []scene.Part{hull, trim, deck}
	return s
}

// looksOf says which materials the parts of the first mesh show.
func looksOf(s *scene.Scene) string {
	var names []string
	for i := range s.Meshes {
		for _, p := range s.Meshes[i].Parts {
			name := s.Materials[p.Material].Name
			for _, m := range p.Variants {
				if name += "/"; m >= 0 {
					name += s.Materials[m].Name
				}
			}
			names = append(names, name)
		}
	}
	return strings.Join(names, " ")
}

func TestVariants(t *testing.T) {
	for _, c := range []struct {
		params    map[string]any
		looks     string
		materials int
		told      string
	}{
		{map[string]any{}, "red oak oak", 2, "3 variants let go: as built, Blue ferry, tarred"},
		{map[string]any{"choose": "blue*"}, "blue blue oak", 2, "shown as Blue ferry: 2 parts with another material"},
		{map[string]any{"choose": "tarred"}, "tar oak oak", 2, "2 materials go with them"},
		{map[string]any{"choose": "tarred", "keep": true}, "tar/red/blue/tar oak//blue oak", 4, "3 variants kept"},
	} {
		out, r := apply(t, "variants", painted(), c.params)
		if got := looksOf(out); got != c.looks || len(out.Materials) != c.materials || (len(out.Variants) > 0) != (c.params["keep"] == true) {
			t.Errorf("%v: %s of %d materials, variants %q", c.params, got, len(out.Materials), out.Variants)
		}
		tells(t, r.Lines, c.told)
	}
	if _, r := apply(t, "variants", painted(), map[string]any{"choose": "as built", "keep": true}); !r.Idle {
		t.Errorf("it looks so already: %v", r.Lines)
	}
	if _, r := apply(t, "variants", one(square()), map[string]any{"choose": "x"}); !r.Idle {
		t.Errorf("there are none: %v", r.Lines)
	}
	k, _ := Get("variants")
	for choose, says := range map[string]string{"*": "name one of them", "green": "there is no variant"} {
		if _, err := k.Apply(t.Context(), painted(), fmt.Appendf(nil, `{"choose":%q}`, choose), nil, &Report{}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", choose, err)
		}
	}
}

// What works on parts and materials leaves no variant behind.
func TestStepsKeepVariants(t *testing.T) {
	s := painted()
	s.Materials[1] = s.Materials[0] // equal but for the name
	s.Materials[1].Name = "red.001"
	out, _ := apply(t, "merge-materials", s, map[string]any{"names": true})
	if got := looksOf(out); got != "red/red/red/tar oak//red oak" {
		t.Errorf("merged: %s", got)
	}
	// A surface that is set for some parts is copied for their variants too.
	out, _ = apply(t, "surface", painted(), where(map[string]any{"material": "oak"}, "metallic", 1))
	if got := looksOf(out); got != "red/red/blue/tar oak//blue oak" {
		t.Errorf("surface: %s", got)
	}
	// Parts that only look alike today are not joined into one.
	two := painted()
	n := scene.NewNode("other")
	n.Mesh = 0
	two.Nodes = append(two.Nodes, n)
	out, _ = apply(t, "join", two, map[string]any{"by": "all"})
	if got := looksOf(out); got != "red/red/blue/tar oak//blue oak" {
		t.Errorf("joined: %s", got)
	}
	// Brought in, variants of one name are one.
	like := painted()
	like.Variants = []string{"tarred", "Blue ferry", "drowned"}
	like.Meshes[0].Parts[0].Variants = []int{2, 1, 3}
	sum := painted().Appended(like, scene.None)
	if got := looksOf(sum); !slices.Equal(sum.Variants, []string{"as built", "Blue ferry", "tarred", "drowned"}) || !strings.HasSuffix(got, "red//blue/tar/oak oak//blue/ oak") {
		t.Errorf("brought in: %s in %q", got, sum.Variants)
	}
	if err := sum.Validate(); err != nil {
		t.Error(err)
	}
	// Sets in another order: pictures of all looks lie where they lay.
	moved := painted()
	for m := range 2 {
		moved.Materials[m].Textures = []scene.Texture{{Role: scene.RoleColour, Picture: m, UVSet: 1, Scale: 1}}
		moved.Pictures = append(moved.Pictures, scene.Picture{Name: "p", Ref: "p"})
	}
	for k := range moved.Meshes[0].Parts {
		p := &moved.Meshes[0].Parts[k]
		p.UVs = []scene.AttrSet{{Name: "dirt", Data: p.UVs[0].Data}, p.UVs[0]}
	}
	out, _ = apply(t, "sets", moved, map[string]any{"uv": []any{map[string]any{"from": "surface", "name": "surface"}, map[string]any{"name": "dirt"}}})
	if a, b := out.Materials[0].Textures[0].UVSet, out.Materials[1].Textures[0].UVSet; a != 0 || b != 0 {
		t.Errorf("the pictures lie on the sets %d and %d", a, b)
	}
}

func TestQuadsInFiles(t *testing.T) {
	s := one(box(0, geom.Vec3{1, 2, 3}, geom.Vec3{1, 2, 4}))
	out, r := apply(t, "quads", s, map[string]any{})
	tells(t, r.Lines, "6 quads and 0 triangles of 12 triangles")
	if again, r := apply(t, "quads", out, map[string]any{}); !r.Idle || again != out {
		t.Errorf("twice: %v", r.Lines)
	}
	if back, _ := apply(t, "quads", out, map[string]any{"off": true}); back.Meshes[0].Parts[0].Quads != nil {
		t.Error("the mark stays")
	}
	for _, c := range []struct {
		w    format.Writer
		says string // of the faces, as its standard writes them
	}{
		{obj.Writer(), "\nf 1/1/1 4/4/4 3/3/3 2/2/2\n"}, {dae.Writer("x"), "<vcount>4 4 4 4 4 4</vcount>"},
		{ply.Writer(), "element face 6\n"}, {usd.Writers()[0], "int[] faceVertexCounts = [4, 4, 4, 4, 4, 4]"},
		{x3d.Writers()[0], "-1"},
	} {
		files, _, err := c.w.Write(out, "box")
		if err != nil || !bytes.Contains(files[0].Data, []byte(c.says)) {
			t.Errorf("%s: %v, %.1500s", c.w.Name, err, files[0].Data)
		}
	}
}

// A mesh with states comes apart by them, and strip takes the right one out.
func TestSplitByState(t *testing.T) {
	s := one(square())
	s.Materials = nil
	for _, name := range []string{"wall", "Wall_Broken", "roof.broken", "door-whole", "season"} {
		p := square()
		p.Material = len(s.Materials)
		s.Materials = append(s.Materials, scene.NewMaterial(name))
		s.Meshes[0].Parts = append(s.Meshes[0].Parts, p)
	}
	s.Meshes[0].Parts = s.Meshes[0].Parts[1:]
	out, _ := apply(t, "split", s, map[string]any{"by": "state"})
	var got []string
	for _, n := range out.Nodes[1:] {
		state, _ := n.Prop("state")
		got = append(got, fmt.Sprintf("%s %q %d", n.Name, state, len(out.Meshes[n.Mesh].Parts)))
	}
	if want := []string{`thing in every state "" 2`, `thing broken "broken" 2`, `thing whole "whole" 1`}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	left, _ := apply(t, "strip", out, map[string]any{"state": "whole"})
	if n := left.Stats().Triangles; n != 6 {
		t.Errorf("%d triangles are left, 6 are not broken", n)
	}
}

// A node that must stay whole does not keep the others of its mesh whole, and
// each skin names the bones by itself.
func TestSplitOfSharedMeshes(t *testing.T) {
	s := village()
	s.Meshes = []scene.Mesh{{Name: "pair", Parts: []scene.Part{box(0, geom.Vec3{}, geom.Vec3{1, 1, 1}), box(1, geom.Vec3{3, 0, 0}, geom.Vec3{1, 1, 1})}}}
	s.Nodes = []scene.Node{scene.NewNode("face"), scene.NewNode("mask"), scene.NewNode("copy")}
	for i := range s.Nodes {
		s.Nodes[i].Mesh = 0
	}
	s.Cameras, s.Lights, s.Skins, s.Motions = nil, nil, nil, nil
	s.Avatar = &scene.Avatar{Version: "1.0", Expressions: []scene.Expression{{Name: "smile", Morphs: []scene.ExpressionMorph{{Node: 0}}}}}
	for k := range s.Meshes[0].Parts {
		s.Meshes[0].Parts[k].Morphs = []scene.MorphTarget{{Name: "smile"}}
	}
	s.Avatar.Meta.ThumbnailOfPicture = scene.None
	out, r := apply(t, "split", s, map[string]any{"by": "material"})
	if len(out.Meshes) != 3 || len(out.Nodes) != 7 || out.Nodes[0].Mesh != 0 {
		t.Errorf("%d meshes, %d nodes: %v", len(out.Meshes), len(out.Nodes), r.Lines)
	}
	tells(t, r.Lines, "2 nodes split into 4")
	tells(t, r.Lines, "stays whole")
}

func TestStripBonesWithoutWeight(t *testing.T) {
	s := figure()
	add := func(name string, parent int) int {
		n := scene.NewNode(name)
		n.Parent = parent
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	elbow := add("elbow", 1) // nothing hangs on it, but what is below holds a lamp
	hand := add("hand", elbow)
	end := add("hand end", hand)
	s.Nodes[hand].Light, s.Lights = 0, []scene.Light{{Name: "lamp"}}
	tail := add("tail", 0)
	tip := add("tail tip", tail)
	// The joint that goes stands first in the skin, so that all others move up.
	world := s.World()
	k := scene.Skin{Joints: []int{tip, 0, 1, elbow, hand, end, tail}, Root: 0}
	for _, j := range k.Joints {
		inv, _ := world[j].Inverse()
		for _, v := range inv {
			k.InverseBind = append(k.InverseBind, float32(v))
		}
	}
	s.Skins[0] = k
	p := &s.Meshes[0].Parts[0]
	for i := range p.Joints {
		p.Joints[i]++
	}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	out, r := apply(t, "strip", s, map[string]any{"cameras": false, "lights": false, "helpers": false, "bones": true})
	tells(t, r.Lines, "3 bones without weight removed")
	if n := len(out.Skins[0].Joints); n != 4 || len(out.Nodes) != len(s.Nodes)-3 {
		t.Errorf("%d joints, %d nodes", n, len(out.Nodes))
	}
	for k := range 2 {
		a, b := pose(s, k), pose(out, k)
		for v := range a {
			if a[v].Sub(b[v]).Len() > 1e-6 {
				t.Errorf("frame %d: vertex %d moved from %v to %v", k, v, a[v], b[v])
			}
		}
	}
}

func TestStripSetsThatNothingShows(t *testing.T) {
	s := painted()
	for k := range s.Meshes[0].Parts {
		p := &s.Meshes[0].Parts[k]
		for _, name := range []string{"dirt", "livery"} {
			p.UVs = append(p.UVs, scene.AttrSet{Name: name, Data: p.UVs[0].Data})
		}
		p.Colours = append(p.Colours, scene.AttrSet{Name: "brush", Data: p.Colours[0].Data})
	}
	s.Pictures = []scene.Picture{{Name: "p", Ref: "p"}}
	// A look of the first two parts, not the one that is shown, needs the second set.
	s.Materials[1].Textures = []scene.Texture{{Role: scene.RoleColour, UVSet: 1, Scale: 1}}
	out, r := apply(t, "strip", s, map[string]any{"cameras": false, "lights": false, "helpers": false, "sets": true})
	tells(t, r.Lines, "8 UV and colour sets removed")
	var left []int
	for _, p := range out.Meshes[0].Parts {
		left = append(left, len(p.UVs), len(p.Colours))
	}
	if !slices.Equal(left, []int{2, 1, 2, 1, 0, 1}) {
		t.Errorf("UV and colour sets are left: %v", left)
	}
}
