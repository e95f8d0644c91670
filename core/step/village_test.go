package step

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// box is a closed cube with outward faces, each with vertices of its own.
func box(material int, min, size geom.Vec3) scene.Part {
	p := scene.Part{Material: material, UVs: []scene.AttrSet{{Name: "surface"}}}
	for axis := range 3 {
		for _, side := range []float64{0, 1} {
			u, v := (axis+1)%3, (axis+2)%3
			base := uint32(p.Vertices())
			var n geom.Vec3
			n[axis] = 2*side - 1
			for _, c := range [][2]float64{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
				var x geom.Vec3
				x[axis], x[u], x[v] = side, c[0], c[1]
				for k := range x {
					p.Positions = append(p.Positions, float32(min[k]+size[k]*x[k]))
					p.Normals = append(p.Normals, float32(n[k]))
				}
				p.UVs[0].Data = append(p.UVs[0].Data, float32(c[0]), float32(c[1]))
			}
			q := []uint32{0, 1, 2, 0, 2, 3}
			if side == 0 {
				q = []uint32{0, 2, 1, 0, 3, 2}
			}
			for _, k := range q {
				p.Triangles = append(p.Triangles, base+k)
			}
		}
	}
	return p
}

// village is two houses of one mesh under a parent that is large, turned and
// mirrored, a shed with a texture set more, and a lantern that swings.
func village() *scene.Scene {
	s := &scene.Scene{Name: "village", Basis: geom.GLTF}
	wall, glass := scene.NewMaterial("wall"), scene.NewMaterial("glass")
	s.Materials = []scene.Material{wall, glass}
	house := scene.Mesh{Name: "house", Parts: []scene.Part{box(0, geom.Vec3{0, 0, 0}, geom.Vec3{4, 3, 5}), box(1, geom.Vec3{1, 1, 5}, geom.Vec3{1, 1, 0.1})}}
	shed := box(0, geom.Vec3{-1, 0, -1}, geom.Vec3{2, 2, 2})
	shed.UVs = append([]scene.AttrSet{{Name: "dirt", Data: slices.Clone(shed.UVs[0].Data)}}, shed.UVs...)
	for i := range shed.UVs[0].Data {
		shed.UVs[0].Data[i] += 5
	}
	s.Meshes = []scene.Mesh{house, {Name: "shed", Parts: []scene.Part{shed}}, {Name: "lantern", Parts: []scene.Part{box(1, geom.Vec3{}, geom.Vec3{0.2, 0.2, 0.2})}}}
	put := func(name string, parent, mesh int, t, scale geom.Vec3, angle float64) int {
		n := scene.NewNode(name)
		n.Parent, n.Mesh = parent, mesh
		n.Put(t, geom.AxisAngle(geom.Vec3{0, 1, 0}, angle), scale)
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	one := geom.Vec3{1, 1, 1}
	b := put("Buildings", scene.None, scene.None, geom.Vec3{10, 0, 0}, geom.Vec3{-2, 2, 2}, 0.4)
	a := put("house_1", b, 0, geom.Vec3{0, 0, 3}, one, 0)
	put("house_2", b, 0, geom.Vec3{8, 0, 3}, geom.Vec3{1, 1.5, 1}, 0.3)
	put("shed", scene.None, 1, geom.Vec3{-5, 1, 0}, one, 0)
	l := put("lantern", a, 2, geom.Vec3{0, 2, 0}, one, 0)
	q := geom.AxisAngle(geom.Vec3{1, 0, 0}, 0.7)
	s.Motions = []scene.Motion{{Name: "swing", Channels: []scene.Channel{{Node: l, Path: scene.PathRotation, Interp: scene.Linear, Times: []float32{0, 1},
		Values: []float32{0, 0, 0, 1, float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}}}}}
	return s
}

// shown is every triangle of a scene as it is seen: three places, its front
// first, in an order that does not depend on how the scene is put together.
func shown(s *scene.Scene) []string {
	world := s.World()
	var out []string
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 {
			continue
		}
		for j := range s.Meshes[s.Nodes[i].Mesh].Parts {
			p := &s.Meshes[s.Nodes[i].Mesh].Parts[j]
			pos, _ := s.Posed(i, p, world)
			for t := 0; t+2 < len(p.Triangles); t += 3 {
				var c [3]string
				for k, v := range p.Triangles[t : t+3] {
					c[k] = fmt.Sprintf("%.3f %.3f %.3f", pos[3*v]+0.0001, pos[3*v+1]+0.0001, pos[3*v+2]+0.0001)
				}
				// As the coordinates wind it, the side that shows does not depend
				// on whether the node mirrors: a mirrored one is drawn turned round.
				if world[i].Det3() < 0 && s.Nodes[i].Skin < 0 {
					c[1], c[2] = c[2], c[1]
				}
				least := 0
				for k := range c {
					if c[k] < c[least] {
						least = k
					}
				}
				out = append(out, c[least]+"|"+c[(least+1)%3]+"|"+c[(least+2)%3])
			}
		}
	}
	slices.Sort(out)
	return out
}

func same(t *testing.T, what string, a, b *scene.Scene) {
	t.Helper()
	x, y := shown(a), shown(b)
	if !slices.Equal(x, y) {
		n := 0
		for i := range min(len(x), len(y)) {
			if x[i] != y[i] && n < 3 {
				t.Errorf("%s: %s\n is %s", what, x[i], y[i])
				n++
			}
		}
		t.Errorf("%s: what is seen has changed: %d triangles, then %d", what, len(x), len(y))
	}
}

// normalsAgree holds normals against the faces that have them, as they are shown.
func normalsAgree(t *testing.T, s *scene.Scene) {
	t.Helper()
	world := s.World()
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 {
			continue
		}
		for j := range s.Meshes[s.Nodes[i].Mesh].Parts {
			p := &s.Meshes[s.Nodes[i].Mesh].Parts[j]
			pos, nor := s.Posed(i, p, world)
			q := scene.Part{Positions: pos, Triangles: p.Triangles}
			for k := 0; k+2 < len(p.Triangles); k += 3 {
				f := faceNormal(&q, p.Triangles[k:k+3]).Norm()
				if world[i].Det3() < 0 {
					f = f.Mul(-1)
				}
				if n := at3(nor, p.Triangles[k]); f.Dot(n) < 0.99 {
					t.Fatalf("%s, part %d, triangle %d: its normal is %v, its face's %v",
						s.Nodes[i].Name, j, k/3, n, f)
				}
			}
		}
	}
}

func where(rule map[string]any, more ...any) map[string]any {
	p := map[string]any{"where": rule}
	for i := 0; i+1 < len(more); i += 2 {
		p[more[i].(string)] = more[i+1]
	}
	return p
}

func TestStripByRule(t *testing.T) {
	s := village()
	out, r := apply(t, "strip", s, where(map[string]any{"material": "glass", "under": "house_1"}))
	st := out.Stats()
	// Of house_1 the pane and of the lantern everything; house_2 keeps its pane.
	if st.Triangles != s.Stats().Triangles-24 || st.Materials != 2 || len(out.Nodes) != 4 || len(out.Meshes) != 3 || r.Lines[0] != "1 node, 2 parts removed" {
		t.Errorf("%+v %v", st, r.Lines)
	}
	if len(r.Losses) != 1 || !strings.Contains(r.Losses[0], "lantern") {
		t.Errorf("the lantern's motion: %v", r.Losses)
	}
	all, _ := apply(t, "strip", s, where(map[string]any{"material": "glass"}))
	if len(all.Materials) != 1 || len(all.Meshes) != 2 || all.Nodes[1].Mesh != all.Nodes[2].Mesh {
		t.Errorf("%d materials, %d meshes; both houses shared theirs", len(all.Materials), len(all.Meshes))
	}
	if _, r := apply(t, "strip", s, where(map[string]any{"node": "roof*"})); !r.Idle || !strings.Contains(r.Lines[0], "no node is named roof*") {
		t.Errorf("%v", r)
	}
	// Bones stay with their skin.
	f, r := apply(t, "strip", figure(), where(map[string]any{"kind": []string{"bone", "camera"}}))
	if st := f.Stats(); st.Bones != 2 || st.Cameras != 0 || !strings.Contains(strings.Join(r.Lines, " "), "2 bones stay") {
		t.Errorf("%+v %v", st, r.Lines)
	}
}

func TestKeep(t *testing.T) {
	s := village()
	out, _ := apply(t, "keep", s, where(map[string]any{"node": "house_*", "material": "wall"}))
	want, _ := apply(t, "strip", s, where(map[string]any{"not": map[string]any{"node": "house_*", "material": "wall"}}))
	same(t, "keep is strip of all else", want, out)
	if out.Stats().Triangles != 24 || len(out.Nodes) != 3 {
		t.Errorf("%+v", out.Stats())
	}
	if _, r := apply(t, "keep", s, nil); !r.Idle {
		t.Error("without a rule everything stays")
	}
}

func TestDropLoose(t *testing.T) {
	s := village()
	p := &s.Meshes[1].Parts[0]
	crumb := box(0, geom.Vec3{3, 0, 0}, geom.Vec3{0.02, 0.01, 0.01})
	crumb.UVs = append(crumb.UVs, scene.AttrSet{Name: "dirt", Data: crumb.UVs[0].Data})
	*p = owned(*p)
	appendPart(p, &crumb)
	out, r := apply(t, "drop-loose", s, map[string]any{"smaller": 0.021})
	if st := out.Stats(); st.Triangles != s.Stats().Triangles-12 || out.Meshes[1].Parts[0].Vertices() != 24 {
		t.Errorf("%+v %v", st, r.Lines)
	}
	same(t, "without the crumb", village(), out)
	if _, r := apply(t, "drop-loose", s, map[string]any{"smaller": 0.019}); !r.Idle {
		t.Errorf("20 mm is not smaller than 19: %v", r.Lines)
	}
}

func TestDropDouble(t *testing.T) {
	s := village()
	p := owned(s.Meshes[1].Parts[0])
	n := len(p.Triangles)
	p.Triangles = append(p.Triangles, p.Triangles[1], p.Triangles[2], p.Triangles[0]) // the same, begun elsewhere
	p.Triangles = append(p.Triangles, p.Triangles[3], p.Triangles[5], p.Triangles[4]) // back to back
	p.Triangles = append(p.Triangles, 0, 1, 1)                                        // flat
	s.Meshes[1].Parts[0] = p
	out, r := apply(t, "drop-double", s, nil)
	if len(out.Meshes[1].Parts[0].Triangles) != n+3 || len(r.Lines) != 2 {
		t.Errorf("%d of %d indices, %v", len(out.Meshes[1].Parts[0].Triangles), n+9, r.Lines)
	}
	out, _ = apply(t, "drop-double", s, map[string]any{"backs": true})
	same(t, "without doubles", village(), out)
	if _, r := apply(t, "drop-double", out, nil); !r.Idle {
		t.Error("nothing is double any more")
	}
}

func TestCentreAndScale(t *testing.T) {
	s := village()
	out, _ := apply(t, "centre", s, map[string]any{"to": "middle"})
	if c := out.Bounds().Centre(); c.Len() > 1e-5 {
		t.Errorf("the middle is at %v", c)
	}
	out, _ = apply(t, "centre", s, nil)
	if b := out.Bounds(); math.Abs(b.Min[1]) > 1e-5 || math.Abs(b.Centre()[0]) > 1e-5 || math.Abs(b.Centre()[2]) > 1e-5 {
		t.Errorf("the foot is at %v", b)
	}
	if _, r := apply(t, "centre", out, nil); !r.Idle {
		t.Error("it is centred")
	}
	f := figure()
	out, _ = apply(t, "scale", f, map[string]any{"height": 1.75})
	if h := *out.Stats().Height; math.Abs(h-1.75) > 1e-5 {
		t.Errorf("it is %g m tall", h)
	}
	by := 1.75 / *f.Stats().Height
	for k := range 2 { // at rest's key and with the arm turned
		a, b := pose(f, k), pose(out, k)
		for i := range a {
			if b[i].Sub(a[i].Mul(by)).Len() > 1e-3 {
				t.Fatalf("key %d, vertex %d: %v, should be %v", k, i, b[i], a[i].Mul(by))
			}
		}
	}
	if out.Basis != f.Basis {
		t.Errorf("the basis is %v now", out.Basis)
	}
	back, _ := apply(t, "scale", out, map[string]any{"factor": 1 / by})
	if math.Abs(*back.Stats().Height-*f.Stats().Height) > 1e-5 {
		t.Error("there and back")
	}
	k, _ := Get("scale")
	if k.Check([]byte(`{"factor": 0}`)) == nil {
		t.Error("a factor of 0 was accepted")
	}
}

func TestTurn(t *testing.T) {
	f := figure() // Z up, left-handed
	out, _ := apply(t, "turn", f, map[string]any{"degrees": 90})
	// By hand: a quarter turn about +Z that is counter-clockwise seen from above
	// takes front (-Y) to the figure's left. Right is +X there, so left is -X.
	for k := range 2 {
		a, b := pose(f, k), pose(out, k)
		for i := range a {
			want := geom.Vec3{a[i][1], -a[i][0], a[i][2]}
			if b[i].Sub(want).Len() > 1e-3 {
				t.Fatalf("key %d: %v became %v, by hand %v", k, a[i], b[i], want)
			}
		}
	}
	for _, c := range []struct {
		by    float64
		basis geom.Basis
	}{{17, geom.GLTF}, {-40, geom.GLTF}, {30, geom.Basis{Up: geom.PlusZ, Front: geom.MinusY, Handed: geom.Left, MetresPerUnit: 1}}} {
		s := &scene.Scene{Basis: geom.GLTF, Materials: []scene.Material{scene.NewMaterial("m")}, Meshes: []scene.Mesh{{Parts: []scene.Part{box(0, geom.Vec3{1, 0, 2}, geom.Vec3{7, 3, 4})}}}}
		n := scene.NewNode("house")
		n.Mesh = 0
		s.Nodes = []scene.Node{n}
		s, err := s.InBasis(c.basis)
		if err != nil {
			t.Fatal(err)
		}
		askew, _ := apply(t, "turn", s, map[string]any{"degrees": c.by})
		square, r := apply(t, "turn", askew, map[string]any{"to_grid": true})
		same(t, fmt.Sprintf("turned by %g and squared", c.by), s, square)
		if !strings.Contains(r.Lines[0], "100%") {
			t.Errorf("%v", r.Lines)
		}
		if _, r := apply(t, "turn", square, map[string]any{"to_grid": true}); !r.Idle {
			t.Error("it is square")
		}
	}
}

func TestBakeTransforms(t *testing.T) {
	s := village()
	for _, places := range []bool{false, true} {
		out, r := apply(t, "bake-transforms", s, map[string]any{"places": places})
		same(t, "baked", s, out)
		normalsAgree(t, out)
		for i, m := range out.World() {
			moves := out.Nodes[i].Name == "lantern" || out.Nodes[i].Name == "house_1" || strings.HasSuffix(out.Nodes[i].Name, "shear")
			if !moves && (!isTranslation(m) || places && m != geom.Identity) {
				t.Errorf("%s still has %v", out.Nodes[i].Name, m)
			}
		}
		if !strings.Contains(strings.Join(r.Lines, " "), "motions") {
			t.Errorf("the lantern swings: %v", r.Lines)
		}
		// In motion too.
		p := BakePoseParams{Motion: "swing", Time: 1}
		a, _ := frame(s, p)
		b, _ := frame(out, p)
		same(t, "baked, in motion", a, b)
	}
	only, _ := apply(t, "bake-transforms", s, where(map[string]any{"node": "house_2"}))
	same(t, "one baked", s, only)
	if only.Nodes[1].Mesh == only.Nodes[2].Mesh || only.Nodes[0].Scale != s.Nodes[0].Scale {
		t.Error("only one was asked for")
	}
	sk, _ := apply(t, "bake-transforms", figure(), nil)
	for k := range 2 {
		for i, v := range pose(sk, k) {
			if v.Sub(pose(figure(), k)[i]).Len() > 1e-3 {
				t.Fatal("the figure's pose changed")
			}
		}
	}
}

func TestPivot(t *testing.T) {
	s := village()
	for _, to := range []string{"centre", "foot", "world"} {
		out, _ := apply(t, "pivot", s, where(map[string]any{"node": []string{"house_2", "shed"}}, "to", to))
		same(t, to, s, out)
		normalsAgree(t, out)
		w := out.World()[3]
		want := map[string]geom.Vec3{"centre": {-5, 2, 0}, "foot": {-5, 1, 0}, "world": {}}[to]
		if d := (geom.Vec3{w[12], w[13], w[14]}).Sub(want); d.Len() > 1e-5 {
			t.Errorf("%s: the shed's pivot is at %v, should be at %v", to, w[12:15], want)
		}
	}
	out, _ := apply(t, "pivot", s, map[string]any{"where": map[string]any{"node": "shed"}, "to": "point", "point": []float64{1, 2, 3}})
	if out.Nodes[3].Translation != [3]float32{1, 2, 3} {
		t.Errorf("the pivot is at %v", out.Nodes[3].Translation)
	}
	same(t, "point", s, out)
	k, _ := Get("pivot")
	if k.Check([]byte(`{"to": "point"}`)) == nil {
		t.Error("no point was given")
	}
}

func TestSplitAndJoin(t *testing.T) {
	s := village()
	out, r := apply(t, "split", s, nil)
	same(t, "split by material", s, out)
	if len(out.Nodes) != 9 || r.Lines[0] != "2 nodes split into 4" || out.Stats().Meshes != 4 {
		t.Errorf("%d nodes, %v, %+v", len(out.Nodes), r.Lines, out.Stats())
	}
	pieces, _ := apply(t, "split", s, map[string]any{"by": "piece"})
	same(t, "split by piece", s, pieces)

	joined, r := apply(t, "join", out, where(map[string]any{"not": map[string]any{"node": "lantern"}}))
	same(t, "joined by material", s, joined)
	normalsAgree(t, joined)
	if st := joined.Stats(); st.Meshes != 3 || st.Triangles != s.Stats().Triangles || r.Lines[0] != "nodes with a mesh: 5 → 2" {
		t.Errorf("%+v %v", st, r.Lines)
	}
	// The shed's sets stand in another order: they went by their names.
	for i := range joined.Meshes {
		for _, p := range joined.Meshes[i].Parts {
			for _, set := range p.UVs {
				for _, x := range set.Data {
					if set.Name == "surface" && (x < 0 || x > 1) {
						t.Fatalf("a UV of the surface is %g", x)
					}
				}
			}
		}
	}
	if !strings.Contains(strings.Join(r.Lines, " "), "1 set was filled") {
		t.Errorf("%v", r.Lines)
	}
	named, _ := apply(t, "join", s, map[string]any{"by": "name"})
	if !slices.ContainsFunc(named.Nodes, func(n scene.Node) bool { return n.Name == "house" }) {
		t.Error("house_1 and house_2 are of one name")
	}
	same(t, "joined by name", s, named)
	if _, r := apply(t, "join", figure(), map[string]any{"by": "all"}); !r.Idle {
		t.Errorf("a bound mesh cannot be joined: %v", r.Lines)
	}
}

// Far from the origin a joined mesh keeps its shape.
func TestJoinFarAway(t *testing.T) {
	s := village()
	for i := range s.Nodes {
		if s.Nodes[i].Parent < 0 {
			s.Nodes[i].Translation[0] += 1 << 20
		}
	}
	out, _ := apply(t, "join", s, where(map[string]any{"node": "shed", "material": "*"}, "by", "all"))
	_ = out
	out, _ = apply(t, "join", s, where(map[string]any{"under": "Buildings", "not": map[string]any{"node": "lantern"}}, "by", "all"))
	for i := range out.Meshes {
		for _, p := range out.Meshes[i].Parts {
			for _, x := range p.Positions {
				if math.Abs(float64(x)) > 1000 {
					t.Fatalf("a vertex lies at %g: it has lost its fraction", x)
				}
			}
		}
	}
}

func TestShare(t *testing.T) {
	s := village()
	s.Meshes = append(s.Meshes, scene.Mesh{Name: "copy", Parts: []scene.Part{owned(s.Meshes[1].Parts[0])}})
	n := scene.NewNode("other shed")
	n.Mesh = 3
	s.Nodes = append(s.Nodes, n)
	out, r := apply(t, "share", s, nil)
	if len(out.Meshes) != 3 || r.Lines[0] != "meshes 4 → 3" {
		t.Errorf("%v", r.Lines)
	}
	same(t, "shared", s, out)
	s.Meshes[3].Parts[0].UVs[1].Data[3] += 0.25
	if _, r := apply(t, "share", s, nil); !r.Idle {
		t.Error("one UV differs")
	}
}

func TestNormals(t *testing.T) {
	s := village()
	soft, _ := apply(t, "normals", s, map[string]any{"crease": 180})
	p := &soft.Meshes[1].Parts[0]
	// By hand: a cube's corner, smooth all round, points along its diagonal.
	for v := range p.Vertices() {
		x, n := at3(p.Positions, uint32(v)), at3(p.Normals, uint32(v))
		want := geom.Vec3{x[0], x[1] - 1, x[2]}.Norm()
		if n.Sub(want).Len() > 1e-5 {
			t.Fatalf("at %v the normal is %v, should be %v", x, n, want)
		}
	}
	same(t, "smooth", s, soft)
	hard, r := apply(t, "normals", soft, map[string]any{"crease": 40})
	normalsAgree(t, hard)
	if hard.Stats().Vertices != s.Stats().Vertices {
		t.Errorf("%d vertices, %v", hard.Stats().Vertices, r.Lines)
	}
	// Of one smooth cube with shared vertices, hard edges double them again.
	welded, _ := apply(t, "weld", soft, map[string]any{"distance": 0.001, "angle": 180})
	again, _ := apply(t, "normals", welded, map[string]any{"crease": 40})
	normalsAgree(t, again)
	same(t, "welded and creased", s, again)
	if _, r := apply(t, "normals", s, map[string]any{"keep": true}); !r.Idle {
		t.Error("all have normals")
	}
	f, r := apply(t, "normals", figure(), nil)
	if f.Meshes[0].Parts[0].Tangents != nil || len(r.Losses) != 1 || len(f.Meshes[0].Parts[0].Joints) != 2*f.Meshes[0].Parts[0].Vertices() {
		t.Errorf("tangents, joints and morphs follow: %v", r.Losses)
	}
}

func TestFacing(t *testing.T) {
	s := village()
	p := owned(s.Meshes[1].Parts[0])
	for _, at := range []int{0, 9, 12} {
		p.Triangles[at+1], p.Triangles[at+2] = p.Triangles[at+2], p.Triangles[at+1]
	}
	s.Meshes[1].Parts[0] = p
	out, r := apply(t, "facing", s, nil)
	same(t, "agreeing", village(), out)
	if r.Lines[0] != "3 faces turned round" {
		t.Errorf("%v", r.Lines)
	}
	inside, _ := apply(t, "facing", village(), map[string]any{"how": "flip"})
	normalsAgree(t, inside)
	back, _ := apply(t, "facing", inside, nil)
	same(t, "inside out and back", village(), back)
	normalsAgree(t, back)
}

func TestMergeMaterials(t *testing.T) {
	s := village()
	again := s.Materials[0]
	again.Name = "wall.001"
	s.Materials = append(s.Materials, again)
	q := owned(s.Meshes[0].Parts[0])
	q.Material = 2
	for i := range q.Positions {
		q.Positions[i] += 20
	}
	s.Meshes[0].Parts = append(slices.Clone(s.Meshes[0].Parts), q)
	out, r := apply(t, "merge-materials", s, nil)
	same(t, "merged", s, out)
	// Wall and glass have the same properties here as well: nothing but names.
	if len(out.Materials) != 1 {
		t.Errorf("%d materials, %v", len(out.Materials), r.Lines)
	}
	byName, r := apply(t, "merge-materials", s, map[string]any{"names": true})
	same(t, "merged by name", s, byName)
	if len(byName.Materials) != 2 || len(byName.Meshes[0].Parts) != 2 || !strings.Contains(strings.Join(r.Lines, " "), "wall.001") {
		t.Errorf("%d materials, %d parts, %v", len(byName.Materials), len(byName.Meshes[0].Parts), r.Lines)
	}
}

func TestSurfaceOfSome(t *testing.T) {
	s := village()
	out, r := apply(t, "surface", s, where(map[string]any{"node": "house_1", "material": "wall"}, "roughness", 0.25, "two_sided", "yes"))
	if len(out.Materials) != 3 || out.Materials[0].TwoSided || !out.Materials[2].TwoSided || out.Materials[2].Roughness != 0.25 || out.Materials[2].Name != "wall 2" {
		t.Fatalf("%+v %v", out.Materials, r.Lines)
	}
	a, b := out.Nodes[1].Mesh, out.Nodes[2].Mesh
	if out.Meshes[a].Parts[0].Material != 2 || out.Meshes[b].Parts[0].Material != 0 {
		t.Error("the other house shares the material and keeps it")
	}
	all, _ := apply(t, "surface", s, where(map[string]any{"material": "wall"}, "metallic", 1))
	if len(all.Materials) != 2 || all.Materials[0].Metallic != 1 || all.Materials[1].Metallic != 0 {
		t.Errorf("%+v", all.Materials)
	}
	if _, r := apply(t, "surface", all, where(map[string]any{"material": "wall"}, "metallic", 1)); !r.Idle {
		t.Error("it is so already")
	}
}

// withPicture gives the village's walls a colour picture with an alpha.
func withPicture(t *testing.T, alpha func(x, y int) uint8) *scene.Scene {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, 32, 32))
	for y := range 32 {
		for x := range 32 {
			img.SetNRGBA(x, y, color.NRGBA{200, 100, 50, alpha(x, y)})
		}
	}
	var buf bytes.Buffer
	if err := png.Encode(&buf, img); err != nil {
		t.Fatal(err)
	}
	s := village()
	s.Pictures = []scene.Picture{{Name: "wall_c.png", MIME: "image/png", Width: 32, Height: 32, Data: buf.Bytes()}}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleColour, Scale: 1}}
	return s
}

func TestAlphaByThePicture(t *testing.T) {
	for want, alpha := range map[scene.AlphaMode]func(x, y int) uint8{
		scene.Opaque: func(x, y int) uint8 { return 255 },
		scene.Cutout: func(x, y int) uint8 { return uint8(255 * (x / 4 % 2)) },
		scene.Blend:  func(x, y int) uint8 { return uint8(8 * x) },
	} {
		s := withPicture(t, alpha)
		s.Materials[0].Alpha = scene.Opaque
		if want == scene.Opaque {
			s.Materials[0].Alpha = scene.Blend
		}
		out, _ := apply(t, "alpha", s, where(map[string]any{"material": "wall"}))
		if out.Materials[0].Alpha != want {
			t.Errorf("%s, should be %s", out.Materials[0].Alpha, want)
		}
	}
	out, _ := apply(t, "alpha", village(), map[string]any{"mode": "cutout", "threshold": 0.25})
	if out.Materials[1].Alpha != scene.Cutout || out.Materials[1].Cutoff != 0.25 {
		t.Errorf("%+v", out.Materials[1])
	}
	broken := withPicture(t, func(x, y int) uint8 { return 0 })
	broken.Pictures[0].Data = broken.Pictures[0].Data[:60]
	k, _ := Get("alpha")
	if _, err := k.Apply(context.Background(), broken, nil, nil, &Report{}); err == nil || !strings.Contains(err.Error(), "wall_c.png") {
		t.Errorf("a broken picture: %v", err)
	}
}

func TestSets(t *testing.T) {
	s := withPicture(t, func(x, y int) uint8 { return 255 })
	s.Materials[0].Textures[0].UVSet = 1 // surface, of the shed
	s, _ = apply(t, "strip", s, where(map[string]any{"under": "Buildings"}))
	rows := []map[string]any{{"name": "surface"}, {"name": "weather", "from": "dirt"}, {"name": "light", "from": "1"}}
	out, _ := apply(t, "sets", s, map[string]any{"uv": rows})
	p := &out.Meshes[0].Parts[0]
	if len(p.UVs) != 3 || p.UVs[0].Name != "surface" || p.UVs[1].Name != "weather" || p.UVs[2].Name != "light" || p.UVs[1].Data[0] != 5 || p.UVs[2].Data[0] != 5 {
		t.Fatalf("%v", p.UVs)
	}
	if out.Materials[0].Textures[0].UVSet != 0 {
		t.Error("the texture lies on the first set now")
	}
	k, _ := Get("sets")
	if _, err := k.Apply(context.Background(), s, []byte(`{"uv": [{"name": "dirt"}], "only": true}`), nil, &Report{}); err == nil || !strings.Contains(err.Error(), "dropped") {
		t.Errorf("the texture's set would go: %v", err)
	}
	if k.Check([]byte(`{"uv": [{"name": "a"}, {"name": "a"}]}`)) == nil {
		t.Error("two sets of one name were accepted")
	}
}

func TestBakePose(t *testing.T) {
	f := figure()
	for k, at := range []float64{0, 1} {
		out, r := apply(t, "bake-pose", f, map[string]any{"motion": "wave", "time": at})
		i := slices.IndexFunc(out.Nodes, func(n scene.Node) bool { return n.Mesh >= 0 })
		pos, _ := out.Posed(i, &out.Meshes[out.Nodes[i].Mesh].Parts[0], out.World())
		for v, want := range pose(f, k) {
			if at3(pos, uint32(v)).Sub(want).Len() > 1e-3 {
				t.Errorf("at %g s vertex %d is at %v, should be at %v", at, v, at3(pos, uint32(v)), want)
			}
		}
		if len(out.Skins)+len(out.Motions) != 0 || len(r.Losses) != 1 {
			t.Errorf("%v", r)
		}
	}
	f.Meshes[0].Parts[0].Morphs[0].Weight = 0.5
	out, _ := apply(t, "bake-pose", f, nil)
	g := figure()
	g.Meshes[0].Parts[0] = *withMorphs(&f.Meshes[0].Parts[0])
	g.Meshes[0].Parts[0].Morphs = nil
	same(t, "with half a smile", g, out)
	if x := g.Meshes[0].Parts[0].Positions; x[0] != 0.5 || x[4] != 1 || x[8] != 61.5 {
		t.Errorf("half of the offsets by hand: %v", x)
	}
	k, _ := Get("bake-pose")
	for _, p := range []string{`{"motion": "run"}`, `{"motion": "wave", "time": 3}`} {
		if _, err := k.Apply(context.Background(), f, []byte(p), nil, &Report{}); err == nil {
			t.Errorf("%s was accepted", p)
		}
	}
	m := village()
	posed, _ := apply(t, "bake-pose", m, map[string]any{"motion": "swing", "time": 0.5})
	want, _ := frame(m, BakePoseParams{Motion: "swing", Time: 0.5})
	same(t, "swinging", want, posed)
}

// Any chain over any scene gives a sound scene, or one clear error, and the
// same each time.
func TestRandomChains(t *testing.T) {
	rules := []map[string]any{nil, {"node": "house_*"}, {"material": "glass"}, {"under": "Buildings", "not": map[string]any{"material": "wall"}},
		{"kind": []string{"bone", "helper"}}, {"loose": map[string]any{"smaller": 1}}, {"if": "triangles > 3"}, {"node": "nothing"}}
	params := map[string]func(r *rand.Rand) map[string]any{
		"rename": func(*rand.Rand) map[string]any { return map[string]any{"rules": []any{}} },
		"scale":  func(r *rand.Rand) map[string]any { return map[string]any{"factor": 0.1 + r.Float64()} },
		"turn": func(r *rand.Rand) map[string]any {
			return map[string]any{"degrees": 90 * r.Float64(), "to_grid": r.Intn(2) == 0}
		},
		"split": func(r *rand.Rand) map[string]any {
			return map[string]any{"by": []string{"material", "piece", "picture"}[r.Intn(3)]}
		},
		"join": func(r *rand.Rand) map[string]any {
			return map[string]any{"by": []string{"all", "name", "material"}[r.Intn(3)]}
		},
		"pivot": func(r *rand.Rand) map[string]any {
			return map[string]any{"to": []string{"centre", "foot", "world"}[r.Intn(3)]}
		},
		"rest-pose": func(r *rand.Rand) map[string]any { return map[string]any{"to": []string{"T", "A"}[r.Intn(2)]} },
		"weights":   func(r *rand.Rand) map[string]any { return map[string]any{"most": 1 + r.Intn(3)} },
		"bones-trim": func(r *rand.Rand) map[string]any {
			return map[string]any{"ends": true, "weightless": r.Intn(2) == 0}
		},
		"bones-parent": func(r *rand.Rand) map[string]any {
			return map[string]any{"bare": r.Intn(2) == 0, "insert": []string{"", "root"}[r.Intn(2)]}
		},
		"bones-rename": func(r *rand.Rand) map[string]any {
			return map[string]any{"rules": []any{map[string]any{"find": "_(.)$", "replace": ".$1"}}}
		},
		"keys": func(r *rand.Rand) map[string]any {
			return map[string]any{"to": 0.2 + r.Float64(), "speed": 0.5 + r.Float64(), "tolerance": r.Float64(), "loop": 0.1 * r.Float64()}
		},
		"root-motion": func(r *rand.Rand) map[string]any {
			return map[string]any{"to": []string{"in-place", "root", "hips"}[r.Intn(3)]}
		},
		"facing":  func(r *rand.Rand) map[string]any { return map[string]any{"how": []string{"agree", "flip"}[r.Intn(2)]} },
		"surface": func(r *rand.Rand) map[string]any { return map[string]any{"roughness": r.Float64()} },
	}
	for seed := range int64(200) {
		var digests [2]string
		for try := range digests {
			r := rand.New(rand.NewSource(seed))
			s := []func() *scene.Scene{figure, village, keeper, painted, func() *scene.Scene { return &scene.Scene{Basis: geom.GLTF} }}[seed%5]()
			var said []string
			for range 6 {
				k := All()[r.Intn(len(All()))]
				p := map[string]any{}
				if f := params[k.Name]; f != nil {
					p = f(r)
				}
				if rule := rules[r.Intn(len(rules))]; rule != nil && slices.Contains(k.Order, "where") {
					p["where"] = rule
				}
				said = append(said, k.Name)
				text := marshal(t, p)
				var rep Report
				out, err := k.Apply(context.Background(), s, text, nil, &rep)
				if err != nil {
					if strings.Contains(err.Error(), "\n") {
						t.Errorf("%v: %s %s: %v", said, k.Name, text, err)
					}
					continue
				}
				if err := out.Validate(); err != nil {
					t.Fatalf("seed %d, %v with %s: %v", seed, said, text, err)
				}
				if rep.Idle && marshalled(t, out) != marshalled(t, s) {
					t.Fatalf("seed %d, %v with %s: it says that there was nothing to do, and did something",
						seed, said, text)
				}
				if !rep.Idle && len(rep.Lines) == 0 {
					t.Errorf("%s with %s says nothing", k.Name, text)
				}
				s = out
			}
			digests[try] = marshalled(t, s)
		}
		if digests[0] != digests[1] {
			t.Fatalf("seed %d gives two results", seed)
		}
	}
}

func marshalled(t *testing.T, s *scene.Scene) string {
	t.Helper()
	d, err := s.Digest()
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func marshal(t *testing.T, v any) []byte {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return b
}
