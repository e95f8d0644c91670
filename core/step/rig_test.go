package step

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/rig"
	"excavate/core/scene"
)

// keeper is a figure with the bones of a person, a box about each that hangs on
// it alone, sleeves that hang on two, end bones, a node above its root as an
// export adds one, and a motion.
func keeper() *scene.Scene {
	s := &scene.Scene{Name: "keeper", Basis: geom.GLTF, Materials: []scene.Material{scene.NewMaterial("cloth")}}
	at := map[string]int{}
	add := func(name, parent string, x, y, z float32) {
		n := scene.NewNode(name)
		n.Parent = scene.None
		if parent != "" {
			n.Parent = at[parent]
		}
		n.Translation = [3]float32{x, y, z}
		at[name] = len(s.Nodes)
		s.Nodes = append(s.Nodes, n)
	}
	add("export", "", 0.5, 0, 0)
	add("base", "export", 0, 0, 0)
	add("pelvis", "base", 0, 0.95, 0)
	add("spine", "pelvis", 0, 0.2, 0)
	add("chest", "spine", 0, 0.25, 0)
	add("neck", "chest", 0, 0.1, 0)
	add("head", "neck", 0, 0.1, 0.02)
	add("head_end", "head", 0, 0.2, 0)
	for i, side := range []string{"L", "R"} {
		x := float32(1 - 2*i)
		add("clavicle_"+side, "chest", 0.05*x, 0.05, 0)
		add("upperarm_"+side, "clavicle_"+side, 0.12*x, 0, 0)
		add("forearm_"+side, "upperarm_"+side, 0.2*x, -0.17, 0)
		add("hand_"+side, "forearm_"+side, 0.18*x, -0.16, 0.03)
		add("hand_end_"+side, "hand_"+side, 0.08*x, -0.05, 0)
		add("thigh_"+side, "pelvis", 0.1*x, -0.05, 0)
		add("calf_"+side, "thigh_"+side, 0, -0.42, 0.01)
		add("foot_"+side, "calf_"+side, 0, -0.4, -0.02)
		add("toe_"+side, "foot_"+side, 0, -0.06, 0.12)
	}
	world := s.World()
	k := scene.Skin{Name: "keeper", Root: at["base"]}
	joint := map[int]uint16{}
	for i := at["base"]; i < len(s.Nodes); i++ {
		inv, _ := world[i].Inverse()
		joint[i] = uint16(len(k.Joints))
		k.Joints = append(k.Joints, i)
		for _, v := range inv {
			k.InverseBind = append(k.InverseBind, float32(v))
		}
	}
	s.Skins = []scene.Skin{k}
	p := scene.Part{Influences: 2, Material: 0}
	for i := at["pelvis"]; i < len(s.Nodes); i++ {
		if strings.Contains(s.Nodes[i].Name, "end") || s.Nodes[i].Name == "neck" {
			continue // without weight
		}
		c := geom.Vec3{world[i][12], world[i][13], world[i][14]}
		b := box(0, c.Sub(geom.Vec3{0.03, 0.03, 0.03}), geom.Vec3{0.06, 0.06, 0.06})
		for _, t := range b.Triangles {
			p.Triangles = append(p.Triangles, t+uint32(p.Vertices()))
		}
		p.Positions, p.Normals = append(p.Positions, b.Positions...), append(p.Normals, b.Normals...)
		for v := range b.Vertices() {
			w := float32(1)
			if strings.HasPrefix(s.Nodes[i].Name, "forearm") && v%2 == 1 {
				w = 0.6
			}
			p.Joints = append(p.Joints, joint[i], joint[s.Nodes[i].Parent])
			p.Weights = append(p.Weights, w, 1-w)
		}
	}
	p.Morphs = []scene.MorphTarget{{Name: "smile", Positions: make([]float32, len(p.Positions))}}
	for i := range p.Morphs[0].Positions {
		p.Morphs[0].Positions[i] = 0.01
	}
	body := scene.NewNode("body")
	body.Mesh, body.Skin = 0, 0
	s.Nodes = append(s.Nodes, body)
	s.Meshes = []scene.Mesh{{Name: "body", Parts: []scene.Part{p}}}
	times := []float32{0, 0.5, 1}
	turn := func(bone string, axis geom.Vec3, angles ...float64) scene.Channel {
		c := scene.Channel{Node: at[bone], Path: scene.PathRotation, Interp: scene.Linear, Times: times}
		for _, a := range angles {
			for _, x := range geom.AxisAngle(axis, a) {
				c.Values = append(c.Values, float32(x))
			}
		}
		return c
	}
	x, y := geom.Vec3{1, 0, 0}, geom.Vec3{0, 1, 0}
	s.Motions = []scene.Motion{{Name: "walk", Channels: []scene.Channel{
		turn("thigh_L", x, -0.4, 0.4, -0.4), turn("thigh_R", x, 0.4, -0.4, 0.4), turn("calf_L", x, 0.2, 0.5, 0.2), turn("calf_R", x, 0.5, 0.2, 0.5),
		turn("upperarm_L", y, 0.3, -0.3, 0.3), turn("forearm_R", y, 0, 0.6, 0), turn("spine", y, 0.1, -0.1, 0.1), turn("neck", y, 0, 0.4, 0),
		{Node: at["base"], Path: scene.PathTranslation, Interp: scene.Linear, Times: times, Values: []float32{0, 0, 0, 0, 0, 0.5, 0, 0, 1}},
	}}}
	if err := s.Validate(); err != nil {
		panic(err)
	}
	return s
}

// looksAlike holds the vertices of two scenes against each other at rest, if
// asked, and all through their motions.
func looksAlike(t *testing.T, what string, a, b *scene.Scene, rest bool, within float64) {
	t.Helper()
	shown := func(s *scene.Scene) (out []geom.Vec3) {
		w := s.World()
		for i := range s.Nodes {
			if s.Nodes[i].Mesh < 0 {
				continue
			}
			for j := range s.Meshes[s.Nodes[i].Mesh].Parts {
				p := &s.Meshes[s.Nodes[i].Mesh].Parts[j]
				pos, _ := s.Posed(i, p, w)
				for v := range p.Vertices() {
					out = append(out, at3(pos, uint32(v)))
				}
			}
		}
		return out
	}
	far := func(x, y []geom.Vec3) (d float64) {
		if len(x) != len(y) {
			t.Fatalf("%s: %d and %d vertices", what, len(x), len(y))
		}
		for i := range x {
			d = max(d, x[i].Sub(y[i]).Len())
		}
		return d
	}
	if d := far(shown(a), shown(b)); rest && d > within {
		t.Errorf("%s: %.3g m apart at rest", what, d)
	}
	for m := range a.Motions {
		for k := range 11 {
			time := a.Motions[m].Seconds() * float64(k) / 10
			if d := far(shown(inMotion(a, &a.Motions[m], time)), shown(inMotion(b, &b.Motions[m], time))); d > within {
				t.Errorf("%s: %.3g m apart in %s at %g s", what, d, a.Motions[m].Name, time)
			}
		}
	}
}

func boneNames(s *scene.Scene) (out []string) {
	for i, is := range s.Bones() {
		if is {
			out = append(out, s.Nodes[i].Name)
		}
	}
	return out
}

func TestBonesRename(t *testing.T) {
	s := keeper()
	out, r := apply(t, "bones-rename", s, map[string]any{"map": []any{map[string]any{"from": "pelvis", "to": "hip_ctrl"}}, "rules": []any{map[string]any{"find": "_([LR])$", "replace": ".$1"}}})
	names := boneNames(out)
	if !slices.Contains(names, "hip_ctrl") || !slices.Contains(names, "upperarm.L") || slices.Contains(names, "pelvis") {
		t.Errorf("%q: %q", names, r.Lines)
	}
	looksAlike(t, "renamed", s, out, true, 0)
	human, _ := apply(t, "bones-rename", s, map[string]any{"to": "humanoid"})
	for _, l := range rig.Needed {
		if !slices.Contains(boneNames(human), l) {
			t.Errorf("no %s in %q", l, boneNames(human))
		}
	}
	k, _ := Get("bones-rename")
	if _, err := k.Apply(t.Context(), s, []byte(`{"rules":[{"find":"_[LR]$","replace":""}]}`), nil, &Report{}); err == nil || !strings.Contains(err.Error(), "two bones would be called") {
		t.Errorf("%v", err)
	}
	if _, r := apply(t, "bones-rename", s, map[string]any{"map": []any{map[string]any{"from": "tail", "to": "x"}}}); !r.Idle || !strings.Contains(r.Lines[0], "no bone tail") {
		t.Errorf("%q", r.Lines)
	}
}

func TestRoot(t *testing.T) {
	s := keeper()
	s.Nodes[0].Name = "root"
	out, r := apply(t, "root", s, map[string]any{"name": "root"})
	if out.Nodes[1].Name != "root" || out.Nodes[0].Name == "root" {
		t.Errorf("%s over %s: %q", out.Nodes[0].Name, out.Nodes[1].Name, r.Lines)
	}
	if _, r := apply(t, "root", out, map[string]any{"name": "root"}); !r.Idle {
		t.Errorf("%q", r.Lines)
	}
	two := keeper()
	n := scene.NewNode("second")
	two.Nodes = append(two.Nodes, n)
	two.Skins[0].Joints = append(two.Skins[0].Joints, len(two.Nodes)-1)
	two.Skins[0].InverseBind = append(two.Skins[0].InverseBind, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
	k, _ := Get("root")
	if _, err := k.Apply(t.Context(), two, nil, nil, &Report{}); err == nil || !strings.Contains(err.Error(), "2 roots, base, second") {
		t.Errorf("%v", err)
	}
	if out, _ := apply(t, "root", two, map[string]any{"bone": "base"}); out.Nodes[1].Name != "root" {
		t.Error("the bone that is meant is not renamed")
	}
}

func TestBonesTrim(t *testing.T) {
	s := keeper()
	bones := len(boneNames(s))
	out, r := apply(t, "bones-trim", s, map[string]any{})
	if n := len(boneNames(out)); n != bones-3 {
		t.Errorf("%d of %d bones are left: %q", n, bones, r.Lines)
	}
	looksAlike(t, "without ends", s, out, true, 1e-6)
	// The neck has no weight, but a head and a motion: the head goes on as it did.
	out, _ = apply(t, "bones-trim", s, map[string]any{"weightless": true})
	if names := boneNames(out); slices.Contains(names, "neck") || slices.Contains(names, "head_end") || !slices.Contains(names, "base") {
		t.Errorf("%q", names)
	}
	looksAlike(t, "without the neck", s, out, true, 1e-4)
	// Bones with weight: their vertices hang on those above and stay where they are at rest.
	out, r = apply(t, "bones-trim", s, where(map[string]any{"node": []any{"toe_*", "forearm_*"}}))
	if names := boneNames(out); slices.Contains(names, "forearm_L") || !slices.Contains(names, "hand_L") {
		t.Errorf("%q", names)
	}
	tells(t, r.Lines, "with the bone above")
	still := *out
	still.Motions = nil
	was := *s
	was.Motions = nil
	looksAlike(t, "at rest without forearms", &was, &still, true, 1e-5)
	p := out.Meshes[out.Nodes[len(out.Nodes)-1].Mesh].Parts[0]
	for v := range p.Vertices() {
		if sum := p.Weights[2*v] + p.Weights[2*v+1]; math.Abs(float64(sum)-1) > 1e-6 {
			t.Fatalf("vertex %d hangs by %g", v, sum)
		}
	}
}

func TestBonesParent(t *testing.T) {
	s := keeper()
	out, r := apply(t, "bones-parent", s, map[string]any{"bare": true})
	if out.Nodes[0].Name != "base" {
		t.Errorf("%s stands above: %q", out.Nodes[0].Name, r.Lines)
	}
	looksAlike(t, "without what stands above", s, out, true, 1e-5)
	out, _ = apply(t, "bones-parent", s, map[string]any{"insert": "root"})
	k := rig.Of(out)
	if root := k.Root(); k.Name(root) != "root" || len(k.Kids[scene.None]) != 1 {
		t.Errorf("the root is %s", k.Name(k.Root()))
	}
	looksAlike(t, "with a root", s, out, true, 1e-5)
	if err := out.Validate(); err != nil {
		t.Error(err)
	}
	out, _ = apply(t, "bones-parent", s, map[string]any{"rows": []any{map[string]any{"bone": "clavicle_*", "parent": "pelvis"}}})
	looksAlike(t, "arms on the pelvis", s, out, true, 1e-4)
	kind, _ := Get("bones-parent")
	for row, says := range map[string]string{`{"bone":"pelvis","parent":"head"}`: "would hang on itself", `{"bone":"tail","parent":"head"}`: "no bone", `{"bone":"head","parent":"hat"}`: "no node"} {
		if _, err := kind.Apply(t.Context(), s, fmt.Appendf(nil, `{"rows":[%s]}`, row), nil, &Report{}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", row, err)
		}
	}
}

func TestWeights(t *testing.T) {
	s := keeper()
	p := &s.Meshes[0].Parts[0]
	n := p.Vertices()
	wide := scene.Part{Influences: 6}
	rnd := rand.New(rand.NewPCG(1, 1))
	for v := range n {
		rest := float32(0.06)
		wide.Joints = append(wide.Joints, p.Joints[2*v], p.Joints[2*v+1], uint16(rnd.IntN(5)), uint16(rnd.IntN(5)), p.Joints[2*v], 3)
		wide.Weights = append(wide.Weights, p.Weights[2*v]*(1-rest), p.Weights[2*v+1]*(1-rest), 0.03, 0.02, 0, 0.01)
	}
	p.Influences, p.Joints, p.Weights = 6, wide.Joints, wide.Weights
	for _, most := range []int{4, 1} {
		out, r := apply(t, "weights", s, map[string]any{"most": most, "least": 0})
		q := &out.Meshes[0].Parts[0]
		if q.Influences > most {
			t.Errorf("%d bones a vertex", q.Influences)
		}
		for v := range n {
			sum := float32(0)
			for k := range q.Influences {
				sum += q.Weights[v*q.Influences+k]
			}
			if math.Abs(float64(sum)-1) > 1e-5 {
				t.Fatalf("vertex %d hangs by %g", v, sum)
			}
		}
		// What it costs is what the vertices show.
		far, _, _, err := farthestApart(t.Context(), s, out)
		if err != nil || far <= 0 {
			t.Errorf("%g %v", far, err)
		}
		tells(t, r.Lines, fmt.Sprintf("%.3g mm elsewhere", 1000*far))
	}
	if _, r := apply(t, "weights", keeper(), map[string]any{}); !r.Idle {
		t.Errorf("%q", r.Lines)
	}
}

// Every vertex of one bone stays where it was all through a motion; those of two
// bones differ by what linear blending makes of another rest pose.
func TestRestPose(t *testing.T) {
	s := keeper()
	for _, to := range []string{"T", "A"} {
		out, r := apply(t, "rest-pose", s, map[string]any{"to": to})
		k := rig.Of(out)
		body := k.Map(nil)
		want := geom.Vec3{1, 0, 0}
		if to == "A" {
			want = geom.Vec3{1, -1, 0}.Norm()
		}
		for _, side := range []string{"left", "right"} {
			d := k.At(body[side+"Hand"].Bone).Sub(k.At(body[side+"UpperArm"].Bone)).Norm()
			if side == "right" {
				d[0] = -d[0]
			}
			if d.Sub(want).Len() > 1e-4 {
				t.Errorf("%s: the %s arm points along %v: %q", to, side, d, r.Lines)
			}
		}
		looksAlike(t, to, s, out, false, 0.02)
		single := oneBoned(s)
		alone, _ := apply(t, "rest-pose", single, map[string]any{"to": to})
		looksAlike(t, to+" of single bones", single, alone, false, 1e-4)
		// A move of a morph target is as long as ever.
		m := alone.Meshes[0].Parts[0].Morphs[0].Positions
		if l := math.Sqrt(float64(m[0]*m[0] + m[1]*m[1] + m[2]*m[2])); math.Abs(l-0.01*math.Sqrt(3)) > 1e-6 {
			t.Errorf("a morph target moves by %g", l)
		}
		if _, r := apply(t, "rest-pose", out, map[string]any{"to": to}); !r.Idle {
			t.Errorf("twice: %q", r.Lines)
		}
	}
	out, _ := apply(t, "rest-pose", oneBoned(s), map[string]any{"to": "frame", "motion": "walk", "time": 0.5})
	looksAlike(t, "a frame", oneBoned(s), out, false, 1e-4)
	still := *out
	still.Motions = nil
	posed := inMotion(oneBoned(s), &s.Motions[0], 0.5)
	posed.Motions = nil
	looksAlike(t, "a frame at rest", posed, &still, true, 1e-4)
}

// oneBoned is the scene with every vertex on the first of its bones.
func oneBoned(s *scene.Scene) *scene.Scene {
	out := *s
	p := s.Meshes[0].Parts[0]
	p.Weights = slices.Clone(p.Weights)
	for v := range p.Vertices() {
		p.Weights[2*v], p.Weights[2*v+1] = 1, 0
	}
	out.Meshes = []scene.Mesh{{Name: "body", Parts: []scene.Part{p}}}
	return &out
}

// only is where one asset lies.
type only struct{ s *scene.Scene }

func (o only) Asset(context.Context, string) (*scene.Scene, error) { return o.s, nil }
func (o only) Pictures(context.Context, string) ([]string, error)  { return nil, nil }
func (o only) Picture(context.Context, string) (p scene.Picture, e error) {
	return p, fmt.Errorf("none")
}

// A walk goes to a figure of other names, in another rest pose and unit, and
// looks like itself there.
func TestRetargetStep(t *testing.T) {
	from := keeper()
	to, _ := apply(t, "bones-rename", from, map[string]any{"to": "humanoid"})
	to, _ = apply(t, "rest-pose", to, map[string]any{"to": "T"})
	to, _ = apply(t, "basis", to, map[string]any{"up": "+Z", "front": "-Y", "handedness": "left", "unit": 0.01})
	bare := *to
	bare.Motions = nil
	out, r := beyondApply(t, "retarget", &bare, only{from}, map[string]any{"from": "keeper", "feet": false})
	tells(t, r.Lines, "1 motion carried over")
	back, _ := apply(t, "basis", out, map[string]any{"up": "+Y", "front": "+Z", "handedness": "right", "unit": 1})
	looksAlike(t, "retargeted", from, back, false, 0.03)
	// A motion that it has not, a figure that is none.
	if _, r := beyondApply(t, "retarget", &bare, only{from}, map[string]any{"from": "keeper", "motions": "run*"}); !r.Idle {
		t.Errorf("%q", r.Lines)
	}
	k, _ := Get("retarget")
	if _, err := k.Apply(t.Context(), village(), []byte(`{"from":"keeper"}`), only{from}, &Report{}); err == nil || !strings.Contains(err.Error(), "this asset") {
		t.Errorf("%v", err)
	}
}

// A skeleton that was spoilt in all the usual ways on its way out fits its own
// original again without a difference, and looks as before.
func TestFitSkeleton(t *testing.T) {
	ref := keeper()
	if _, r := beyondApply(t, "fit-skeleton", ref, only{ref}, map[string]any{"from": "keeper"}); !r.Idle {
		t.Errorf("to itself: %q", r.Lines)
	}
	spoil := func(steps ...[2]any) *scene.Scene {
		s := keeper()
		for _, x := range steps {
			s, _ = apply(t, x[0].(string), s, x[1])
		}
		return s
	}
	for name, s := range map[string]*scene.Scene{
		"root renamed":  spoil([2]any{"root", map[string]any{"name": "base.001"}}),
		"without ends":  spoil([2]any{"bones-trim", map[string]any{}}),
		"parent added":  spoil([2]any{"bones-parent", map[string]any{"insert": "Export"}}),
		"other names":   spoil([2]any{"bones-rename", map[string]any{"to": "humanoid"}}),
		"without above": spoil([2]any{"bones-parent", map[string]any{"bare": true}}),
		"in a T":        spoil([2]any{"rest-pose", map[string]any{"to": "T"}}),
	} {
		out, r := beyondApply(t, "fit-skeleton", s, only{ref}, map[string]any{"from": "keeper"})
		if left := rig.Against(rig.Of(out), rig.Of(ref), 1); len(left) > 0 {
			t.Errorf("%s: %d differences are left, such as %s; it said %q",
				name, len(left), left[0].Text, r.Lines)
		}
		within := 1e-4
		if name == "in a T" { // vertices of two bones went there and back
			within = 0.02
		}
		looksAlike(t, name, s, out, false, within)
	}
	// A figure with longer arms takes the reference's places, and its hands come along.
	long := keeper()
	for i := range long.Nodes {
		if strings.HasPrefix(long.Nodes[i].Name, "hand_L") || strings.HasPrefix(long.Nodes[i].Name, "hand_R") {
			long.Nodes[i].Translation[0] *= 1.5
		}
	}
	long, _ = apply(t, "root", long, map[string]any{"name": "other"})
	out, _ := beyondApply(t, "fit-skeleton", long, only{ref}, map[string]any{"from": "keeper"})
	if left := rig.Against(rig.Of(out), rig.Of(ref), 1); len(left) > 0 {
		t.Errorf("longer arms: %s", left[0].Text)
	}
	k, _ := Get("fit-skeleton")
	if _, err := k.Apply(t.Context(), ref, []byte(`{"from":"x"}`), only{village()}, &Report{}); err == nil || !strings.Contains(err.Error(), "has no bones") {
		t.Errorf("%v", err)
	}
}

// What is said of a skeleton against a reference, before anything is mended.
func TestAgainst(t *testing.T) {
	ref := rig.Of(keeper())
	if d := rig.Against(ref, rig.Of(keeper()), 1); len(d) > 0 {
		t.Errorf("against itself: %+v", d)
	}
	for want, s := range map[string]func(*scene.Scene){
		"root: the root is called “base.001”, and should be “base”":    func(s *scene.Scene) { s.Nodes[1].Name = "base.001" },
		"missing: the bone head_end is missing":                        func(s *scene.Scene) { *s = *must(apply(t, "bones-trim", s, where(map[string]any{"node": "head_end"}))) },
		"parent: neck hangs on spine, and should on chest":             func(s *scene.Scene) { s.Nodes[5].Parent = 3; s.Nodes[5].Translation[1] += 0.25 },
		"rest: hand_L is turned by 30 degrees at rest":                 func(s *scene.Scene) { turnNode(s, "hand_L", 30) },
		"place: head stands 5 cm away from where the reference has it": func(s *scene.Scene) { moveNode(s, "head", 0.05) },
		"order: the joints stand in another order, from pelvis on":     func(s *scene.Scene) { j := s.Skins[0].Joints; j[1], j[2] = j[2], j[1] },
	} {
		x := keeper()
		s(x)
		var got []string
		for _, d := range rig.Against(rig.Of(x), ref, 1) {
			got = append(got, d.Kind+": "+d.Text)
		}
		if !slices.Contains(got, want) {
			t.Errorf("%s: it says %q", want, got)
		}
	}
}

func must(s *scene.Scene, _ Report) *scene.Scene { return s }

func nodeNamed(s *scene.Scene, name string) *scene.Node {
	return &s.Nodes[slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == name })]
}

func turnNode(s *scene.Scene, name string, degrees float64) {
	q := geom.AxisAngle(geom.Vec3{0, 0, 1}, degrees*math.Pi/180)
	for k, x := range q {
		nodeNamed(s, name).Rotation[k] = float32(x)
	}
}

func moveNode(s *scene.Scene, name string, by float32) { nodeNamed(s, name).Translation[2] += by }

// A dress that hangs on nothing hangs as the body below it does; without bones
// of its own it gets the body's.
func TestTakeWeights(t *testing.T) {
	body := keeper()
	dress := *body
	dress.Nodes = []scene.Node{scene.NewNode("dress")}
	dress.Nodes[0].Mesh = 0
	p := body.Meshes[0].Parts[0]
	p.Influences, p.Joints, p.Weights = 0, nil, nil
	dress.Meshes = []scene.Mesh{{Name: "dress", Parts: []scene.Part{p}}}
	dress.Skins, dress.Motions = nil, nil
	out, r := beyondApply(t, "take-weights", &dress, only{body}, map[string]any{"from": "keeper"})
	tells(t, r.Lines, "its skeleton comes along: 25 bones")
	// It moves as the body does.
	moved := *out
	k := rig.Of(out)
	m := body.Motions[0]
	m.Channels = slices.Clone(m.Channels)
	for i := range m.Channels {
		name := body.Nodes[m.Channels[i].Node].Name
		m.Channels[i].Node = k.Bones[slices.IndexFunc(k.Bones, func(b int) bool { return out.Nodes[b].Name == name })]
		if name == "base" { // it stands below nothing there
			m.Channels[i].Values = slices.Clone(m.Channels[i].Values)
			for x := 0; x < len(m.Channels[i].Values); x += 3 {
				m.Channels[i].Values[x] += 0.5
			}
		}
	}
	moved.Motions = []scene.Motion{m}
	looksAlike(t, "a dress on the body's bones", body, &moved, true, 1e-4)
	// On bones of its own, by their names.
	own := *body
	own.Meshes = []scene.Mesh{{Name: "body", Parts: []scene.Part{p}}}
	own.Nodes = slices.Clone(body.Nodes)
	own.Nodes[len(own.Nodes)-1].Skin = scene.None
	out, _ = beyondApply(t, "take-weights", &own, only{body}, map[string]any{"from": "keeper"})
	looksAlike(t, "on its own bones", body, out, true, 1e-4)
	kind, _ := Get("take-weights")
	if _, err := kind.Apply(t.Context(), body, []byte(`{"from":"x"}`), only{village()}, &Report{}); err == nil || !strings.Contains(err.Error(), "hangs on bones") {
		t.Errorf("%v", err)
	}
}

func TestSharesOfATriangle(t *testing.T) {
	a, b, c := geom.Vec3{0, 0, 0}, geom.Vec3{1, 0, 0}, geom.Vec3{0, 1, 0}
	for _, x := range []struct {
		p    geom.Vec3
		want [3]float64
	}{{geom.Vec3{0.25, 0.25, 3}, [3]float64{0.5, 0.25, 0.25}}, {geom.Vec3{1, 0, 0}, [3]float64{0, 1, 0}}, {geom.Vec3{-1, -1, 0}, [3]float64{1, 0, 0}}} {
		got := shares(x.p, a, b, c)
		for k := range got {
			if math.Abs(got[k]-x.want[k]) > 1e-9 {
				t.Errorf("%v: %v, want %v", x.p, got, x.want)
			}
		}
	}
}

func TestExpressions(t *testing.T) {
	s := keeper()
	p := &s.Meshes[0].Parts[0]
	n := len(p.Positions)
	for i, name := range []string{"blink_L", "blink_R", "frown"} {
		m := scene.MorphTarget{Name: name, Positions: make([]float32, n)}
		for k := range m.Positions {
			m.Positions[k] = float32(i+1) / 100
		}
		p.Morphs = append(p.Morphs, m)
	}
	body := len(s.Nodes) - 1
	s.Motions[0].Channels = append(s.Motions[0].Channels, scene.Channel{Node: body, Path: scene.PathWeights, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{0, 0, 0, 0, 1, 0.5, 0.5, 0.25}})
	s.Avatar = &scene.Avatar{Version: "1.0", Bones: map[string]int{}, Expressions: []scene.Expression{{Name: "Blink_L", Morphs: []scene.ExpressionMorph{{Node: body, Index: 1, Weight: 1}}}, {Name: "Frown", Morphs: []scene.ExpressionMorph{{Node: body, Index: 3, Weight: 1}}}}}
	s.Avatar.Meta.ThumbnailOfPicture = scene.None
	out, r := apply(t, "expressions", s, map[string]any{"rows": []any{map[string]any{"from": "blink_*", "to": "blink"}, map[string]any{"from": "Blink_L", "to": "blink"}, map[string]any{"from": "smile", "to": "happy"}}, "keep": []any{"blink", "happy"}})
	q := out.Meshes[0].Parts[0].Morphs
	if len(q) != 2 || q[0].Name != "happy" || q[1].Name != "blink" || math.Abs(float64(q[1].Positions[0])-0.03) > 1e-7 {
		t.Fatalf("%d targets: %q", len(q), r.Lines)
	}
	c := out.Motions[0].Channels[len(out.Motions[0].Channels)-1]
	if !slices.Equal(c.Values, []float32{0, 0, 1, 0.5}) {
		t.Errorf("weights %v", c.Values)
	}
	if e := out.Avatar.Expressions; len(e) != 1 || e[0].Name != "blink" || e[0].Morphs[0].Index != 1 {
		t.Errorf("%+v", e)
	}
	tells(t, r.Lines, "frown")
	if _, r := apply(t, "expressions", s, map[string]any{"rows": []any{map[string]any{"from": "grin", "to": "x"}}}); !r.Idle {
		t.Errorf("%q", r.Lines)
	}
}

// What the porter says of limbs counts before what can be told.
func TestLimbsThatAreSaid(t *testing.T) {
	s := keeper()
	mute := *s
	mute.Nodes = slices.Clone(s.Nodes)
	for i := range mute.Nodes {
		mute.Nodes[i].Name = fmt.Sprintf("n%02d", i)
	}
	says := func(limb, bone string) map[string]any {
		i := slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == bone })
		return map[string]any{"limb": limb, "bone": mute.Nodes[i].Name}
	}
	out, _ := apply(t, "bones-rename", &mute, map[string]any{"to": "humanoid", "limbs": []any{says("neck", "spine")}})
	if i := slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == "spine" }); out.Nodes[i].Name != "neck" {
		t.Errorf("the bone is called %s", out.Nodes[i].Name)
	}
	k, _ := Get("rest-pose")
	for row, want := range map[string]string{`{"limb":"wing","bone":"head"}`: "there is no limb wing", `{"limb":"head","bone":"hat"}`: "there is no bone hat"} {
		if _, err := k.Apply(t.Context(), s, fmt.Appendf(nil, `{"limbs":[%s]}`, row), nil, &Report{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", row, err)
		}
	}
}
