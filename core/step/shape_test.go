package step

import (
	"math"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// closed tells whether every edge of a part, by place, has a triangle on both
// sides, and what the part encloses.
func closed(p *scene.Part) (ok bool, volume float64) {
	first, _ := cornersByPlace(p)
	n := map[[2]int32]int{}
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		for k := range 3 {
			n[[2]int32{first[t+k], first[t+(k+1)%3]}]++
		}
		a, b, c := at3(p.Positions, p.Triangles[t]), at3(p.Positions, p.Triangles[t+1]), at3(p.Positions, p.Triangles[t+2])
		volume += a.Dot(b.Cross(c)) / 6
	}
	for e := range n {
		if n[e] != n[[2]int32{e[1], e[0]}] {
			return false, volume
		}
	}
	return true, volume
}

// one is a scene of one part on one node.
func one(p scene.Part) *scene.Scene {
	n := scene.NewNode("thing")
	n.Mesh = 0
	return &scene.Scene{Name: "thing", Basis: geom.GLTF, Nodes: []scene.Node{n}, Meshes: []scene.Mesh{{Name: "thing", Parts: []scene.Part{p}}},
		Materials: []scene.Material{scene.NewMaterial("m")}}
}

// lump is a closed round thing of many faces, symmetric in x, y and z.
func lump(n int) scene.Part {
	p := scene.Part{Material: 0, UVs: []scene.AttrSet{{Name: "surface"}}}
	at := map[geom.Vec3]uint32{}
	put := func(v geom.Vec3) uint32 {
		v = v.Norm().Mul(2)
		for k := range v {
			v[k] = math.Round(v[k]*1e6) / 1e6
		}
		if i, ok := at[v]; ok {
			return i
		}
		i := uint32(p.Vertices())
		at[v] = i
		u := v.Norm()
		p.Positions = append(p.Positions, float32(v[0]), float32(v[1]), float32(v[2]))
		p.Normals = append(p.Normals, float32(u[0]), float32(u[1]), float32(u[2]))
		p.UVs[0].Data = append(p.UVs[0].Data, float32(u[1]), float32(u[2]))
		return i
	}
	for axis := range 3 {
		for _, side := range []float64{-1, 1} {
			for y := range n {
				for x := range n {
					corner := func(i, j int) uint32 {
						var v geom.Vec3
						v[axis] = side
						v[(axis+1)%3] = 2*float64(x+i)/float64(n) - 1
						v[(axis+2)%3] = 2*float64(y+j)/float64(n) - 1
						return put(v)
					}
					q := []uint32{corner(0, 0), corner(1, 0), corner(1, 1), corner(0, 1)}
					if side < 0 {
						slices.Reverse(q)
					}
					p.Triangles = append(p.Triangles, q[0], q[1], q[2], q[0], q[2], q[3])
				}
			}
		}
	}
	return p
}

func TestMirrorOfWhatIsSymmetric(t *testing.T) {
	for _, c := range []struct {
		axis, keep string
		n          int
	}{{"x", "positive", 6}, {"y", "negative", 6}, {"z", "positive", 5}, {"x", "negative", 7}} {
		p := lump(c.n)
		was, v := closed(&p)
		if !was {
			t.Fatal("the lump is open")
		}
		out, r := apply(t, "mirror", one(p), map[string]any{"axis": c.axis, "keep": c.keep})
		q := &out.Meshes[0].Parts[0]
		is, w := closed(q)
		if !is || math.Abs(w-v) > 1e-4*v {
			t.Errorf("%v: closed %v, it encloses %g, was %g", c, is, w, v)
		}
		normalsClose(t, q)
		if len(r.Losses) > 0 && c.axis == "x" {
			t.Errorf("nothing differs: %v", r.Losses)
		}
		// Once symmetric, it stays as it is.
		again, _ := apply(t, "mirror", out, map[string]any{"axis": c.axis, "keep": c.keep})
		if a, b := again.Stats(), out.Stats(); a.Triangles != b.Triangles || a.Vertices != b.Vertices {
			t.Errorf("%v: again %d and %d, was %d and %d", c, a.Triangles, a.Vertices, b.Triangles, b.Vertices)
		}
	}
}

func normalsClose(t *testing.T, p *scene.Part) {
	t.Helper()
	for i := 0; i+2 < len(p.Triangles); i += 3 {
		n := faceNormal(p, p.Triangles[i:i+3]).Norm()
		if n.Len() > 0 && at3(p.Normals, p.Triangles[i]).Dot(n) < 0.5 {
			t.Fatalf("triangle %d: its face looks to %v, its normal to %v",
				i/3, n, at3(p.Normals, p.Triangles[i]))
		}
	}
}

// A livery that differs left and right is said before it is lost.
func TestMirrorSaysWhatDiffers(t *testing.T) {
	p := lump(6)
	for v := range p.Vertices() {
		if p.Positions[3*v] < -0.1 {
			p.UVs[0].Data[2*v] += 0.5
		}
	}
	p.Colours = []scene.AttrSet{{Name: "colour", Data: slices.Repeat([]float32{1, 1, 1, 1}, p.Vertices())}}
	out, r := apply(t, "mirror", one(p), nil)
	if said := strings.Join(r.Losses, "\n"); !strings.Contains(said, "100% of the vertices had other UVs") || strings.Contains(said, "colours") || strings.Contains(said, "counterpart") {
		t.Errorf("%v", r.Losses)
	}
	for v := range out.Meshes[0].Parts[0].Vertices() {
		if u := out.Meshes[0].Parts[0].UVs[0].Data[2*v]; math.Abs(float64(u-out.Meshes[0].Parts[0].Normals[3*v+1])) > 1e-3 {
			t.Fatalf("a UV of the half that went is there: %g", u)
		}
	}
	bent := lump(6)
	for v := range bent.Vertices() {
		if bent.Positions[3*v] < -0.5 {
			bent.Positions[3*v] -= 0.3
		}
	}
	if _, r := apply(t, "mirror", one(bent), nil); !strings.Contains(strings.Join(r.Losses, " "), "no counterpart") {
		t.Errorf("%v", r.Losses)
	}
}

// Where its node is turned, scaled and elsewhere, the plane is the world's, and
// a part wholly beyond it goes.
func TestMirrorUnderATurnedNode(t *testing.T) {
	s := village()
	flat, _ := apply(t, "bake-transforms", s, nil)
	for _, axis := range []string{"x", "z"} {
		a, ra := apply(t, "mirror", s, map[string]any{"axis": axis, "at": 3})
		b, _ := apply(t, "mirror", flat, map[string]any{"axis": axis, "at": 3})
		x, y := a.Stats(), b.Stats()
		if x.Triangles != y.Triangles || math.Abs(x.Area-y.Area) > 1e-3*y.Area {
			t.Errorf("%s: %d triangles of %g, baked %d of %g; %v",
				axis, x.Triangles, x.Area, y.Triangles, y.Area, ra.Lines)
		}
		for k := range 3 {
			if math.Abs(x.Min[k]-y.Min[k]) > 1e-3 || math.Abs(x.Max[k]-y.Max[k]) > 1e-3 {
				t.Errorf("%s: %v to %v, baked %v to %v", axis, x.Min, x.Max, y.Min, y.Max)
			}
		}
		k := int(axis[0] - 'x')
		if math.Abs(x.Min[k]+x.Max[k]-6) > 1e-3 {
			t.Errorf("%s: from %g to %g is not symmetric about 3", axis, x.Min[k], x.Max[k])
		}
		normalsAgree(t, a)
	}
	if gone, _ := apply(t, "mirror", s, map[string]any{"at": -3.9, "where": map[string]any{"node": []string{"shed", "house_1"}}}); gone.Nodes[3].Mesh >= 0 {
		// The shed lies from -6 to -4: beyond the plane.
		t.Error("what lies wholly on the half that goes has stayed")
	}
}

// The image of a bound half is bound to the bones on the other side.
func TestMirrorOfABoundPart(t *testing.T) {
	p := lump(4)
	p.Influences = 1
	for v := range p.Vertices() {
		j := uint16(0)
		if p.Positions[3*v] > 0.1 {
			j = 1
		} else if p.Positions[3*v] < -0.1 {
			j = 2
		}
		p.Joints, p.Weights = append(p.Joints, j), append(p.Weights, 1)
	}
	s := one(p)
	for i, x := range []float32{0, 1, -1} {
		n := scene.NewNode([]string{"spine", "arm_a", "arm_b"}[i])
		n.Translation[0] = x
		s.Nodes = append(s.Nodes, n)
	}
	s.Skins = []scene.Skin{{Joints: []int{1, 2, 3}, Root: scene.None, InverseBind: slices.Concat(moveX(0), moveX(-1), moveX(1))}}
	s.Nodes[0].Skin = 0
	out, _ := apply(t, "mirror", s, nil)
	q := &out.Meshes[0].Parts[0]
	for v := range q.Vertices() {
		want := uint16(0)
		if q.Positions[3*v] > 0.1 {
			want = 1
		} else if q.Positions[3*v] < -0.1 {
			want = 2
		}
		if q.Joints[v] != want {
			t.Fatalf("at x %g the vertex hangs on joint %d", q.Positions[3*v], q.Joints[v])
		}
	}
}

func moveX(x float32) []float32 { return []float32{1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, x, 0, 0, 1} }

func TestFillHoles(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	p := lump(8)
	_, v := closed(&p)
	holed := p
	holed.Triangles = nil
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		if r.Intn(12) > 0 {
			holed.Triangles = append(holed.Triangles, p.Triangles[t:t+3]...)
		}
	}
	out, rep := apply(t, "fill-holes", one(holed), nil)
	q := &out.Meshes[0].Parts[0]
	if is, w := closed(q); !is || math.Abs(w-v) > 0.03*v {
		t.Errorf("closed %v, it encloses %g, was %g: %v", is, w, v, rep.Lines)
	}
	normalsClose(t, q)
	if _, rep := apply(t, "fill-holes", out, nil); !rep.Idle {
		t.Errorf("it is closed: %v", rep.Lines)
	}
	// A box without its lid: one hole of four edges, by hand two triangles.
	lidless := box(0, geom.Vec3{}, geom.Vec3{1, 1, 1})
	lidless.Triangles = lidless.Triangles[6:]
	boxed, rep := apply(t, "fill-holes", one(lidless), nil)
	is, w := closed(&boxed.Meshes[0].Parts[0])
	if !is || math.Abs(w-1) > 1e-6 || rep.Lines[0] != "1 hole filled with 2 triangles" {
		t.Errorf("closed %v, %g, %v", is, w, rep.Lines)
	}
	normalsAgree(t, boxed)
	if _, rep := apply(t, "fill-holes", one(lidless), map[string]any{"edges": 3}); !rep.Idle || !strings.Contains(rep.Lines[0], "1 has more") {
		t.Errorf("%v", rep.Lines)
	}
	f := figure()
	f.Meshes[0].Parts[0].Triangles = f.Meshes[0].Parts[0].Triangles[:3]
	filled, _ := apply(t, "fill-holes", f, nil)
	if err := filled.Validate(); err != nil {
		t.Error(err)
	}
}

// inHalves is a scene of a part taken apart into two of one mesh, by a plane
// across x that no vertex is moved to.
func inHalves(p scene.Part) *scene.Scene {
	var half [2][]uint32
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		v := p.Triangles[t : t+3]
		middle := at3(p.Positions, v[0]).Add(at3(p.Positions, v[1])).Add(at3(p.Positions, v[2]))
		k := 0
		if middle[0] > 0.3 {
			k = 1
		}
		half[k] = append(half[k], v...)
	}
	s := one(p)
	s.Materials = append(s.Materials, scene.NewMaterial("other"))
	s.Meshes[0].Parts = []scene.Part{compact(&p, half[0], nil, nil), compact(&p, half[1], nil, nil)}
	s.Meshes[0].Parts[1].Material = 1
	return s
}

// Two parts of one mesh are one surface: where they meet is no border.
func TestPartsOfOneMeshStayOneSurface(t *testing.T) {
	p := lump(12)
	_, volume := closed(&p)
	s := inHalves(p)
	if _, r := apply(t, "fill-holes", s, nil); !r.Idle {
		t.Errorf("nothing is open: %v", r.Lines)
	}
	n := len(p.Triangles) / 3
	small, r := apply(t, "reduce", s, map[string]any{"triangles": n / 4})
	whole, _ := surfaceOf(small.Meshes[0].Parts)
	if is, v := closed(&whole); !is || math.Abs(v-volume) > 0.05*volume {
		t.Errorf("closed %v, it encloses %g, was %g: %v", is, v, volume, r.Lines)
	}
	if small.Stats().Triangles > n/2 {
		t.Errorf("%d triangles of %d are left", small.Stats().Triangles, n)
	}
	// Their normals are those of the one surface.
	soft, _ := apply(t, "normals", s, nil)
	undivided, _ := apply(t, "normals", one(p), nil)
	want := map[geom.Vec3]geom.Vec3{}
	for v := range uint32(p.Vertices()) {
		q := &undivided.Meshes[0].Parts[0]
		want[at3(q.Positions, v)] = at3(q.Normals, v)
	}
	for _, q := range soft.Meshes[0].Parts {
		for v := range uint32(q.Vertices()) {
			if n := at3(q.Normals, v); n.Sub(want[at3(q.Positions, v)]).Len() > 1e-5 {
				t.Fatalf("at %v the normal is %v, undivided %v",
					at3(q.Positions, v), n, want[at3(q.Positions, v)])
			}
		}
	}
	// A hole across the border is closed by the part that has more of its rim.
	holed := inHalves(p)
	q := &holed.Meshes[0].Parts[0]
	first, _ := cornersByPlace(q)
	sides := map[[2]int32]bool{}
	for i := range q.Triangles {
		sides[[2]int32{first[i], first[after(i)]}] = true
	}
	for i := range q.Triangles {
		if a, b := first[i], first[after(i)]; !sides[[2]int32{b, a}] { // on the border
			q.Triangles = slices.Delete(slices.Clone(q.Triangles), i-i%3, i-i%3+3)
			break
		}
	}
	filled, r := apply(t, "fill-holes", holed, nil)
	whole, _ = surfaceOf(filled.Meshes[0].Parts)
	if is, v := closed(&whole); !is || math.Abs(v-volume) > 1e-6*volume {
		t.Errorf("closed %v, it encloses %g, was %g: %v", is, v, volume, r.Lines)
	}
	if !slices.ContainsFunc(r.Lines, func(l string) bool { return strings.HasPrefix(l, "1 of them lies between parts") }) {
		t.Errorf("%v", r.Lines)
	}
	if err := filled.Validate(); err != nil {
		t.Error(err)
	}
}

func TestRegroup(t *testing.T) {
	s := village()
	out, r := apply(t, "regroup", s, where(map[string]any{"node": []string{"house_2", "shed"}}, "how", "under", "name", "Left"))
	same(t, "under", s, out)
	if r.Lines[0] != "2 nodes moved under Left" || len(out.Nodes) != 6 && len(out.Nodes) != 7 {
		t.Errorf("%v, %d nodes", r.Lines, len(out.Nodes))
	}
	un, _ := apply(t, "regroup", s, where(map[string]any{"node": "house_*"}, "how", "unparent"))
	same(t, "unparent", s, un)
	for i := range un.Nodes {
		if n := &un.Nodes[i]; n.Name == "house_2" && n.Parent >= 0 && un.Nodes[n.Parent].Name == "Buildings" {
			t.Error("it still hangs on Buildings")
		}
	}
	flat, r := apply(t, "regroup", un, nil)
	same(t, "flatten", s, flat)
	if !r.Idle { // house_1 is held by the lantern's motion, and holds its group
		t.Errorf("%v", r.Lines)
	}
	// In motion as well: the lantern swings below house_1.
	for _, x := range []*scene.Scene{out, un, flat} {
		p := BakePoseParams{Motion: "swing", Time: 1}
		a, err := frame(s, p)
		if err != nil {
			t.Fatal(err)
		}
		b, err := frame(x, p)
		if err != nil {
			t.Fatal(err)
		}
		same(t, "in motion", a, b)
	}
	k, _ := Get("regroup")
	if k.Check([]byte(`{"how": "under"}`)) == nil {
		t.Error("under what?")
	}
	two := village()
	two.Nodes = append(two.Nodes, scene.NewNode("group"), scene.NewNode("inner"))
	two.Nodes[6].Parent = 5
	two.Nodes = append(two.Nodes, scene.NewNode("leaf"))
	two.Nodes[7].Parent, two.Nodes[7].Mesh = 6, 1
	two.Nodes[5].Translation, two.Nodes[6].Scale = [3]float32{3, 0, 0}, [3]float32{2, 1, 1}
	level, r := apply(t, "regroup", two, nil)
	same(t, "two levels", two, level)
	if n := level.Nodes[len(level.Nodes)-1]; n.Name != "leaf" || n.Parent != scene.None || r.Lines[0] != "2 groups taken out" && r.Lines[0] != "3 groups taken out" {
		t.Errorf("%+v %v", n, r.Lines)
	}
}

func TestTangentsStep(t *testing.T) {
	s := village()
	s.Pictures = []scene.Picture{{Name: "wall_n.png", Ref: "wall_n.png"}}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleNormal, Scale: 1, UVSet: 0}}
	out, r := apply(t, "tangents", s, nil)
	same(t, "with tangents", s, out)
	if err := out.Validate(); err != nil {
		t.Fatal(err)
	}
	for i := range out.Meshes {
		for j := range out.Meshes[i].Parts {
			p := &out.Meshes[i].Parts[j]
			if (p.Tangents != nil) != (p.Material == 0) {
				t.Errorf("%s, part %d: tangents %v; %v", out.Meshes[i].Name, j, p.Tangents != nil, r.Lines)
			}
			for v := 0; v < len(p.Tangents)/4; v++ {
				a, n := at3(p.Tangents[4*v:], 0), at3(p.Normals, uint32(v))
				if math.Abs(a.Len()-1) > 1e-5 || math.Abs(a.Dot(n)) > 1e-5 {
					t.Fatalf("the tangent %v of the normal %v", a, n)
				}
			}
		}
	}
	if _, r := apply(t, "tangents", out, map[string]any{"keep": true}); !r.Idle {
		t.Error("all that need them have them")
	}
	// A mirrored picture: what welds by place and UV must not weld across it.
	p := lump(4)
	p.Tangents = slices.Repeat([]float32{1, 0, 0, 1}, p.Vertices())
	p.Triangles = append(p.Triangles, uint32(p.Vertices()), uint32(p.Vertices()+1), uint32(p.Vertices()+2))
	for v := range 3 {
		p.Positions, p.Normals = append(p.Positions, p.Positions[3*v:3*v+3]...), append(p.Normals, p.Normals[3*v:3*v+3]...)
		p.UVs[0].Data, p.Tangents = append(p.UVs[0].Data, p.UVs[0].Data[2*v:2*v+2]...), append(p.Tangents, 1, 0, 0, -1)
	}
	if w := Weld(&p, 1e-4, 3); w.Part.Vertices() != p.Vertices() {
		t.Errorf("%d of %d vertices left", w.Part.Vertices(), p.Vertices())
	}
}

func TestUVTransform(t *testing.T) {
	s := village()
	out, _ := apply(t, "uv-transform", s, map[string]any{"set": "surface", "scale": []float64{2, 3}, "turn": 90, "offset": []float64{0.5, 0}})
	a, b := s.Meshes[0].Parts[0].UVs[0].Data, out.Meshes[0].Parts[0].UVs[0].Data
	for i := 0; i < len(a); i += 2 {
		// By hand: times 2 and 3, then u, v become v, -u, then u grows by a half.
		if u, v := 3*a[i+1]+0.5, -2*a[i]; math.Abs(float64(b[i]-u)) > 1e-5 || math.Abs(float64(b[i+1]-v)) > 1e-5 {
			t.Fatalf("%g %g became %g %g, by hand %g %g", a[i], a[i+1], b[i], b[i+1], u, v)
		}
	}
	if out.Meshes[1].Parts[0].UVs[0].Data[0] != s.Meshes[1].Parts[0].UVs[0].Data[0] {
		t.Error("the set dirt was not asked for")
	}
	twice, _ := apply(t, "uv-transform", s, map[string]any{"flip_v": true})
	twice, _ = apply(t, "uv-transform", twice, map[string]any{"flip_v": true})
	for i, x := range twice.Meshes[0].Parts[0].UVs[0].Data {
		if math.Abs(float64(x-a[i])) > 1e-6 {
			t.Fatal("flipped twice it is as before")
		}
	}
	// What a material does with UVs is the same once it is in them.
	s.Pictures = []scene.Picture{{Name: "c", Ref: "c"}, {Name: "n", Ref: "n"}}
	by := &scene.UVTransform{Scale: [2]float32{2, 2}, Offset: [2]float32{0.25, 0}, Rotation: 0.5}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0, Transform: by, Scale: 1}, {Role: scene.RoleNormal, Picture: 1, Scale: 1}}
	baked, r := apply(t, "uv-transform", s, map[string]any{"bake": true})
	for i := range baked.Meshes {
		for j, p := range baked.Meshes[i].Parts {
			if p.Material != 0 {
				continue
			}
			was := s.Meshes[i].Parts[j]
			for _, tex := range s.Materials[0].Textures {
				now := baked.Materials[0].Texture(tex.Role)
				if now.Transform != nil {
					t.Fatal("the transform is still there")
				}
				for v := range p.Vertices() {
					u, w := was.UVs[tex.UVSet].Data[2*v], was.UVs[tex.UVSet].Data[2*v+1]
					if tex.Transform != nil {
						u, w = tex.Transform.Apply(u, w)
					}
					if got := p.UVs[now.UVSet].Data[2*v : 2*v+2]; got[0] != u || got[1] != w {
						t.Fatalf("%s of %s: %v, was %g %g; %v",
							tex.Role, baked.Meshes[i].Name, got, u, w, r.Lines)
					}
				}
			}
		}
	}
	if len(baked.Meshes[1].Parts[0].UVs) != 3 {
		t.Errorf("the shed's sets: %d", len(baked.Meshes[1].Parts[0].UVs))
	}
	if _, r := apply(t, "uv-transform", baked, map[string]any{"bake": true}); !r.Idle {
		t.Error("nothing is left to bake")
	}
}

func TestReduceStep(t *testing.T) {
	p := lump(24)
	_, v := closed(&p)
	n := len(p.Triangles) / 3
	out, r := apply(t, "reduce", one(p), map[string]any{"triangles": n / 10})
	q := &out.Meshes[0].Parts[0]
	if is, w := closed(q); !is || math.Abs(w-v) > 0.02*v || len(q.Triangles)/3 > n/10 {
		t.Errorf("closed %v, %d triangles, it encloses %g, was %g: %v", is, len(q.Triangles)/3, w, v, r.Lines)
	}
	normalsClose(t, q)
	// What is left has the UVs that it had: no vertex moved.
	for k := range q.Vertices() {
		if q.UVs[0].Data[2*k] != q.Normals[3*k+1] {
			t.Fatal("a vertex has another's UVs")
		}
	}
	// An error is one of the world: half the scale, half the millimetres.
	s := one(p)
	s.Nodes[0].Scale = [3]float32{0.5, 0.5, 0.5}
	a, _ := apply(t, "reduce", one(p), map[string]any{"error": 0.02})
	b, _ := apply(t, "reduce", s, map[string]any{"error": 0.01})
	if x, y := a.Stats().Triangles, b.Stats().Triangles; x != y || x == n {
		t.Errorf("%d and %d of %d", x, y, n)
	}
	if _, r := apply(t, "reduce", out, map[string]any{"triangles": n / 10}); !r.Idle {
		t.Errorf("%v", r.Lines)
	}
	// Of two that share a mesh one is chosen.
	two := one(p)
	other := two.Nodes[0]
	other.Name = "other"
	two.Nodes = append(two.Nodes, other)
	half, _ := apply(t, "reduce", two, where(map[string]any{"node": "other"}, "triangles", 100))
	if got := half.Stats().Triangles; got > n+100 || got < n {
		t.Errorf("%d triangles, one of both has %d", got, n)
	}
	// Where a morph target bends it, more stays.
	m := lump(24)
	bend := scene.MorphTarget{Name: "dent", Positions: make([]float32, len(m.Positions))}
	for v := range m.Vertices() {
		if m.Positions[3*v+1] > 1.5 {
			bend.Positions[3*v+1] = -0.4 * float32(math.Abs(math.Sin(9*float64(m.Positions[3*v]))))
		}
	}
	m.Morphs = []scene.MorphTarget{bend}
	plainly, _ := apply(t, "reduce", one(lump(24)), map[string]any{"error": 0.02})
	bent, _ := apply(t, "reduce", one(m), map[string]any{"error": 0.02})
	if x, y := plainly.Stats().Triangles, bent.Stats().Triangles; y <= x {
		t.Errorf("%d triangles, with a dent %d", x, y)
	}
}

func TestSplitByFaces(t *testing.T) {
	s := one(lump(6))
	p := &s.Meshes[0].Parts[0]
	p.Colours = []scene.AttrSet{{Name: "brush", Data: make([]float32, 4*p.Vertices())}}
	red := 0
	for i := 0; i < len(p.Triangles); i += 3 {
		c := at3(p.Positions, p.Triangles[i]).Add(at3(p.Positions, p.Triangles[i+1])).Add(at3(p.Positions, p.Triangles[i+2]))
		if c[0] > 0 {
			red++
		}
	}
	// Every face its own corners, so that each is of one colour.
	q := scene.Part{Material: 0, Colours: []scene.AttrSet{{Name: "brush"}}}
	for i, v := range p.Triangles {
		q.Positions, q.Normals, q.Triangles = append(q.Positions, p.Positions[3*v:3*v+3]...), append(q.Normals, p.Normals[3*v:3*v+3]...), append(q.Triangles, uint32(i))
	}
	for i := 0; i < len(q.Triangles); i += 3 {
		c := at3(q.Positions, uint32(i)).Add(at3(q.Positions, uint32(i+1))).Add(at3(q.Positions, uint32(i+2)))
		for range 3 {
			if c[0] > 0 {
				q.Colours[0].Data = append(q.Colours[0].Data, 1, 0, 0, 1)
			} else {
				q.Colours[0].Data = append(q.Colours[0].Data, 0, 0, 1, 1)
			}
		}
	}
	s.Meshes[0].Parts[0] = q
	out, r := apply(t, "split", s, map[string]any{"by": "colour"})
	same(t, "by colour", s, out)
	k := slices.IndexFunc(out.Meshes, func(m scene.Mesh) bool { return m.Name == "thing #ff0000" })
	if len(out.Meshes) != 2 || k < 0 || len(out.Meshes[k].Parts[0].Triangles) != 3*red {
		t.Errorf("%d meshes, %v", len(out.Meshes), r.Lines)
	}
	f := figure()
	bones, r := apply(t, "split", f, map[string]any{"by": "bone"})
	if bones.Stats().Triangles != f.Stats().Triangles {
		t.Errorf("%v", r.Lines)
	}
	for k := range 2 {
		a, b := pose(f, k), pose(bones, k)
		slices.SortFunc(a, order)
		slices.SortFunc(b, order)
		if len(b) < len(a) {
			t.Errorf("%d of %d vertices are left", len(b), len(a))
		}
	}
}

func order(a, b geom.Vec3) int {
	for k := range a {
		if a[k] != b[k] {
			if a[k] < b[k] {
				return -1
			}
			return 1
		}
	}
	return 0
}

func TestStripMore(t *testing.T) {
	s := village()
	put := func(name string, mesh int, props ...string) int {
		n := scene.NewNode(name)
		n.Mesh = mesh
		for i := 0; i+1 < len(props); i += 2 {
			n.Props = append(n.Props, scene.Prop{Key: props[i], Value: props[i+1]})
		}
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	put("post_LOD0", 1)
	put("post_LOD1", 1)
	put("post_LOD2", 1)
	put("gate", 1, "state", "whole")
	gate := put("gate_broken", 1, "state", "broken")
	put("splinter", 1)
	s.Nodes[gate+1].Parent = gate
	s.Materials = append(s.Materials, scene.NewMaterial("clear"), scene.NewMaterial("spare"))
	s.Materials[2].Alpha, s.Materials[2].BaseColour[3] = scene.Blend, 0
	s.Meshes = append(s.Meshes, scene.Mesh{Name: "ghost", Parts: []scene.Part{box(2, geom.Vec3{}, geom.Vec3{1, 1, 1})}}, scene.Mesh{Name: "point", Parts: []scene.Part{{Material: 0, Positions: make([]float32, 9), Triangles: []uint32{0, 1, 2}}}})
	put("ghost", 3)
	put("point", 4)
	s.Pictures = []scene.Picture{{Name: "spare.png", Ref: "spare.png"}}
	left := func(params map[string]any) string {
		p := map[string]any{"cameras": false, "lights": false, "helpers": false}
		for k, v := range params {
			p[k] = v
		}
		out, _ := apply(t, "strip", s, p)
		var gone []string
		for _, n := range s.Nodes {
			if !slices.ContainsFunc(out.Nodes, func(x scene.Node) bool { return x.Name == n.Name }) {
				gone = append(gone, n.Name)
			}
		}
		return strings.Join(gone, " ")
	}
	for _, c := range []struct {
		params map[string]any
		gone   string
	}{
		{map[string]any{"detail": 0}, "post_LOD1 post_LOD2"},
		{map[string]any{"detail": 1}, "post_LOD0 post_LOD2"},
		{map[string]any{"state": "whole"}, "gate_broken splinter"},
		{map[string]any{"hidden": true}, "ghost point"},
		{map[string]any{}, ""},
	} {
		if got := left(c.params); got != c.gone {
			t.Errorf("%v takes out %q, should take out %q", c.params, got, c.gone)
		}
	}
	out, r := apply(t, "strip", s, map[string]any{"unused": true})
	if len(out.Materials) != 3 || len(out.Pictures) != 0 || !strings.Contains(r.Lines[0], "2 unused") {
		t.Errorf("%d materials, %d pictures, %v", len(out.Materials), len(out.Pictures), r.Lines)
	}
}
