package rig

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// kind is how a figure is built.
type kind struct {
	spine   int  // bones between hips and neck
	fingers int  // of a hand
	twist   bool // a twist bone beside every long bone
	ends    bool // an end bone on every leaf
	clav    bool
	tail    bool
}

// person is a figure's skeleton in metres, Y up, looking along +Z, its left at
// +X; each bone is called by its limb, or by what it is beside one.
func person(k kind) *scene.Scene {
	s := &scene.Scene{Name: "person", Basis: geom.GLTF}
	at := map[string]int{}
	add := func(name, parent string, x, y, z float64) {
		n := scene.NewNode(name)
		n.Parent = scene.None
		if parent != "" {
			n.Parent = at[parent]
		}
		n.Translation = [3]float32{float32(x), float32(y), float32(z)}
		at[name] = len(s.Nodes)
		s.Nodes = append(s.Nodes, n)
	}
	add("hips", "", 0, 0.95, 0)
	last := "hips"
	for i := range k.spine {
		name := []string{"spine", "chest", "upperChest", "spine 4", "spine 5"}[i]
		if k.spine > 3 {
			name = fmt.Sprintf("spine %d", i+1)
		}
		add(name, last, 0, 0.45/float64(k.spine), 0)
		last = name
	}
	top := last
	add("neck", top, 0, 0.1, 0)
	add("head", "neck", 0, 0.1, 0.02)
	add("leftEye", "head", 0.03, 0.06, 0.08)
	add("rightEye", "head", -0.03, 0.06, 0.08)
	add("hair", "head", 0, 0.2, -0.02)
	if k.tail {
		add("tail 1", "hips", 0, 0, -0.1)
		add("tail 2", "tail 1", 0, -0.1, -0.2)
	}
	for i, side := range []string{"left", "right"} {
		x := float64(1 - 2*i)
		shoulder := top
		if k.clav {
			shoulder = side + "Shoulder"
			add(shoulder, top, 0.04*x, 0.03, 0)
			add(side+"UpperArm", shoulder, 0.13*x, 0, 0)
		} else {
			add(side+"UpperArm", shoulder, 0.17*x, 0.03, 0)
		}
		add(side+"LowerArm", side+"UpperArm", 0.26*x, -0.03, 0)
		add(side+"Hand", side+"LowerArm", 0.25*x, -0.02, 0)
		for f, finger := range fingers[:k.fingers] {
			z := 0.035 - 0.02*float64(f)
			seg := segments(finger)
			if finger == "Thumb" {
				add(side+seg[0], side+"Hand", 0.02*x, -0.01, 0.05)
				add(side+seg[1], side+seg[0], 0.02*x, -0.01, 0.035)
				add(side+seg[2], side+seg[1], 0.015*x, 0, 0.025)
				continue
			}
			add(side+seg[0], side+"Hand", 0.09*x, 0, z)
			add(side+seg[1], side+seg[0], 0.035*x, 0, 0)
			add(side+seg[2], side+seg[1], 0.025*x, 0, 0)
		}
		add(side+"UpperLeg", "hips", 0.09*x, -0.05, 0)
		add(side+"LowerLeg", side+"UpperLeg", 0, -0.42, 0.01)
		add(side+"Foot", side+"LowerLeg", 0, -0.4, -0.02)
		add(side+"Toes", side+"Foot", 0, -0.06, 0.12)
		if k.twist {
			for _, limb := range []string{"UpperArm", "LowerArm"} {
				add(side+limb+" twist", side+limb, 0.12*x, -0.01, 0)
			}
			add(side+"UpperLeg twist", side+"UpperLeg", 0, -0.2, 0)
			add(side+"LowerLeg twist", side+"LowerLeg", 0, -0.2, 0)
		}
	}
	if k.ends {
		for i := range s.Nodes {
			if !slices.ContainsFunc(s.Nodes, func(n scene.Node) bool { return n.Parent == i }) {
				add(s.Nodes[i].Name+" end", s.Nodes[i].Name, 0, 0.02, 0.01)
			}
		}
	}
	bound(s)
	return s
}

// bound gives a skeleton a skin, so that its nodes are bones.
func bound(s *scene.Scene) {
	k := scene.Skin{Root: 0}
	for i := range s.Nodes {
		k.Joints = append(k.Joints, i)
	}
	for _, m := range s.World() {
		inv, _ := m.Inverse()
		for _, v := range inv {
			k.InverseBind = append(k.InverseBind, float32(v))
		}
	}
	s.Skins = []scene.Skin{k}
}

// renamed is a person whose bones are called otherwise; what the new name of a
// bone was is its limb.
func renamed(s *scene.Scene, to func(name string) string) (*scene.Scene, map[string]string) {
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	was := map[string]string{}
	for i := range out.Nodes {
		out.Nodes[i].Name = to(s.Nodes[i].Name)
		was[out.Nodes[i].Name] = s.Nodes[i].Name
	}
	return &out, was
}

// said holds a body against what the bones were called; limbs must all be
// there.
func said(t *testing.T, what string, s *scene.Scene, was map[string]string, limbs []string) {
	t.Helper()
	body := Of(s).Map(nil)
	for limb, m := range body {
		if name := was[s.Nodes[m.Bone].Name]; name != limb && !(strings.HasPrefix(name, "spine ") && strings.Contains("spine chest upperChest", limb)) {
			t.Errorf("%s: %s is taken for %s (%.2f: %s)", what, name, limb, m.Sure, m.Evidence)
		}
	}
	for _, l := range limbs {
		if _, ok := body[l]; !ok {
			t.Errorf("%s: no %s among %d bones", what, l, len(s.Nodes))
		}
	}
}

// habit gives bones names by their limb: sides, and a word a part.
func habit(form func(side, word string) string, left, right string, words map[string]string) func(string) string {
	return func(limb string) string {
		side := ""
		rest := limb
		for s, word := range map[string]string{"left": left, "right": right} {
			if r, ok := strings.CutPrefix(limb, s); ok {
				side, rest = word, r
			}
		}
		w, ok := words[rest]
		if !ok {
			w = rest
		}
		return form(side, w)
	}
}

var english = map[string]string{"hips": "Pelvis", "spine": "Spine", "chest": "Chest", "upperChest": "Chest2", "neck": "Neck", "head": "Head", "Shoulder": "Clavicle", "UpperArm": "UpperArm", "LowerArm": "Forearm",
	"Hand": "Hand", "UpperLeg": "Thigh", "LowerLeg": "Calf", "Foot": "Foot", "Toes": "Toe", "Eye": "Eye"}

func words(base map[string]string, pairs ...string) map[string]string {
	out := map[string]string{}
	for k, v := range base {
		out[k] = v
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		out[pairs[i]] = pairs[i+1]
	}
	return out
}

func join(sep string, list ...string) string {
	return strings.Join(slices.DeleteFunc(list, func(s string) bool { return s == "" }), sep)
}

var habits = map[string]func(string) string{
	"humanoid words":   func(s string) string { return s },
	"side first":       habit(func(s, w string) string { return join("_", s, w) }, "L", "R", english),
	"side last":        habit(func(s, w string) string { return join(".", strings.ToLower(w), s) }, "L", "R", words(english, "UpperArm", "upper_arm", "LowerLeg", "shin")),
	"figure's prefix":  habit(func(s, w string) string { return join(" ", "Keeper01", s, w) }, "L", "R", english),
	"space and colon":  habit(func(s, w string) string { return "keeper:" + s + w }, "Left", "Right", words(english, "UpperArm", "Arm", "LowerArm", "ForeArm", "UpperLeg", "UpLeg", "LowerLeg", "Leg", "Toes", "ToeBase", "Shoulder", "Shoulder")),
	"joints by places": habit(func(s, w string) string { return join(" ", s, w) }, "Left", "Right", words(english, "Shoulder", "shoulder", "UpperArm", "arm", "LowerArm", "elbow", "Hand", "wrist", "UpperLeg", "leg", "LowerLeg", "knee", "Foot", "ankle", "Toes", "toe", "hips", "Hips")),
	"part, then which": habit(func(s, w string) string { return join("_", w, s) }, "l", "r", words(english, "UpperArm", "arm_upper", "LowerArm", "arm_lower", "UpperLeg", "leg_upper", "LowerLeg", "leg_lower", "Foot", "ankle")),
	"stuck together":   habit(func(s, w string) string { return strings.ToUpper(s + w) }, "L", "R", english),
	"German":           habit(func(s, w string) string { return join("_", w, s) }, "links", "rechts", map[string]string{"hips": "Becken", "spine": "Wirbel", "chest": "Brust", "upperChest": "Brust2", "neck": "Hals", "head": "Kopf", "Shoulder": "Schulter", "UpperArm": "Oberarm", "LowerArm": "Unterarm", "UpperLeg": "Oberschenkel", "LowerLeg": "Unterschenkel", "Foot": "Fuss", "Toes": "Zehen", "Eye": "Auge"}),
	"French":           habit(func(s, w string) string { return join("_", w, s) }, "g", "d", map[string]string{"hips": "bassin", "spine": "colonne", "chest": "poitrine", "upperChest": "torse", "neck": "cou", "head": "tete", "Shoulder": "epaule", "UpperArm": "bras", "LowerArm": "avant_bras", "Hand": "main", "UpperLeg": "cuisse", "LowerLeg": "mollet", "Foot": "pied", "Toes": "orteils", "Eye": "oeil"}),
	"Spanish":          habit(func(s, w string) string { return join("_", w, s) }, "izq", "der", map[string]string{"hips": "cadera", "spine": "columna", "chest": "pecho", "upperChest": "torax", "neck": "cuello", "head": "cabeza", "Shoulder": "hombro", "UpperArm": "brazo", "LowerArm": "antebrazo", "Hand": "mano", "UpperLeg": "muslo", "LowerLeg": "pantorrilla", "Foot": "pie", "Toes": "dedos", "Eye": "ojo"}),
	"Japanese":         habit(func(s, w string) string { return s + w }, "左", "右", map[string]string{"hips": "腰", "spine": "上半身", "chest": "上半身2", "upperChest": "胸", "neck": "首", "head": "頭", "Shoulder": "肩", "UpperArm": "腕", "LowerArm": "ひじ", "Hand": "手首", "UpperLeg": "足", "LowerLeg": "ひざ", "Foot": "足首", "Toes": "つま先", "Eye": "目", "ThumbMetacarpal": "親指0", "ThumbProximal": "親指1", "ThumbDistal": "親指2"}),
	"three letters":    habit(func(s, w string) string { return s + w }, "Lf", "Rt", map[string]string{"hips": "Pelvis", "spine": "Spine", "chest": "Chest", "upperChest": "Chest2", "neck": "Nek", "head": "Hed", "Shoulder": "Clav", "UpperArm": "UArm", "LowerArm": "FArm", "Hand": "Hnd", "UpperLeg": "Thi", "LowerLeg": "Kne", "Foot": "Ank", "Toes": "Toe", "Eye": "Eye"}),
	"numbers before":   habit(func(s, w string) string { return join("_", "jnt", "07", s, w) }, "l", "r", english),
	"everything small": habit(func(s, w string) string { return strings.ToLower(join("-", "bone", w, s)) }, "left", "right", words(english, "hips", "hip", "UpperLeg", "upper-leg", "LowerLeg", "lower-leg", "UpperArm", "upper-arm", "LowerArm", "lower-arm")),
}

func TestBodiesByNames(t *testing.T) {
	for name, to := range habits {
		for _, k := range []kind{{spine: 3, fingers: 0, clav: true}, {spine: 2, fingers: 0, clav: true, ends: true}} {
			s, was := renamed(person(k), to)
			said(t, name, s, was, append(slices.Clone(Needed), "neck", "leftShoulder", "rightShoulder", "leftToes", "rightToes", "chest"))
		}
	}
	// Fingers, twist bones and tails do not confuse it.
	for _, name := range []string{"humanoid words", "side first", "side last", "numbers before"} {
		s, was := renamed(person(kind{spine: 3, fingers: 5, clav: true, twist: true, tail: true, ends: true}), habits[name])
		said(t, name+" with fingers", s, was, append(slices.Clone(Needed), "leftThumbDistal", "rightLittleProximal", "leftIndexIntermediate"))
	}
}

func TestBodiesByShape(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 2))
	for _, k := range []kind{
		{spine: 1, clav: true}, {spine: 2}, {spine: 3, clav: true, fingers: 5}, {spine: 5, clav: true, fingers: 5, ends: true},
		{spine: 3, clav: true, tail: true}, {spine: 4, fingers: 4, clav: true},
	} {
		s := person(k)
		order := rnd.Perm(1000)
		s, was := renamed(s, func() func(string) string {
			i := 0
			return func(string) string { i++; return fmt.Sprintf("n%03d", order[i]) }
		}())
		said(t, fmt.Sprintf("%+v", k), s, was, append(slices.Clone(Needed), "neck"))
	}
}

// What is said counts, and what follows from it too.
func TestWhatIsSaidCounts(t *testing.T) {
	s := person(kind{spine: 3, clav: true})
	body := Of(s).Map(map[string]string{"head": "neck"})
	if m := body["head"]; s.Nodes[m.Bone].Name != "neck" || m.Sure != 1 {
		t.Errorf("%+v", m)
	}
	if m := body["hips"]; len(m.Evidence) < 2 || m.Sure < 0.85 {
		t.Errorf("names and shape agree: %+v", m)
	}
	if m := body["leftHand"]; !slices.Contains(m.Evidence, "mirrors the right one") {
		t.Errorf("%+v", m)
	}
}

func TestWhatIsNoBody(t *testing.T) {
	for _, s := range []*scene.Scene{{}, {Nodes: []scene.Node{scene.NewNode("x")}}} {
		if body := Of(s).Map(nil); len(body) != 0 || len(body.Missing()) != len(Needed) {
			t.Errorf("%+v", body)
		}
	}
	rope := &scene.Scene{Basis: geom.GLTF}
	for i := range 2000 {
		n := scene.NewNode(fmt.Sprintf("rope_%d", i))
		n.Parent, n.Translation = i-1, [3]float32{0, 0.1, 0}
		rope.Nodes = append(rope.Nodes, n)
	}
	bound(rope)
	if body := Of(rope).Map(nil); len(body) > 3 {
		t.Errorf("a rope has %d limbs", len(body))
	}
}

func BenchmarkMap(b *testing.B) {
	s := person(kind{spine: 3, fingers: 5, clav: true, twist: true, ends: true})
	for i := 0; len(s.Nodes) < 500; i++ {
		n := scene.NewNode(fmt.Sprintf("hair_%d", i))
		n.Parent, n.Translation = 5, [3]float32{0, 0.01, 0}
		s.Nodes = append(s.Nodes, n)
	}
	bound(s)
	for b.Loop() {
		Of(s).Map(nil)
	}
}

// Thousands of bones, in a row with twigs, or on one: an answer, and soon.
func TestHugeSkeletons(t *testing.T) {
	add := func(s *scene.Scene, parent int, at [3]float32) int {
		n := scene.NewNode(fmt.Sprintf("b%d", len(s.Nodes)))
		n.Parent, n.Translation = parent, at
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	row, hub := &scene.Scene{Basis: geom.GLTF}, &scene.Scene{Basis: geom.GLTF}
	last := add(row, scene.None, [3]float32{})
	top := add(hub, scene.None, [3]float32{0, 1, 0})
	for i := range 4000 {
		add(row, last, [3]float32{0.1, -0.1, 0})
		add(row, last, [3]float32{-0.1, -0.1, 0})
		last = add(row, last, [3]float32{0, 0.1, 0.01})
		for k := range 3 {
			add(hub, top, [3]float32{float32(i%100) / 100, -float32(i) / 4000, float32(k)})
		}
	}
	for what, s := range map[string]*scene.Scene{"a row": row, "a hub": hub} {
		bound(s)
		if r := Tell(s, nil); len(r.Bones) != len(s.Nodes) {
			t.Errorf("%s: %d of %d bones", what, len(r.Bones), len(s.Nodes))
		}
		other, _ := renamed(s, func(name string) string { return "x" + name })
		if d := Against(Of(s), Of(other), 1); len(d) == 0 {
			t.Errorf("%s: bones of other names are the same", what)
		}
	}
}

// Where a figure stands does not matter.
func TestBodiesAnywhere(t *testing.T) {
	for _, k := range []kind{{spine: 3, clav: true, fingers: 5}, {spine: 2}} {
		s := person(k)
		s.Nodes[0].Translation = [3]float32{5, -7, -2}
		bound(s)
		i := 0
		mute, was := renamed(s, func(string) string { i++; return fmt.Sprintf("n%03d", i) })
		said(t, fmt.Sprintf("%+v, off the origin", k), mute, was, append(slices.Clone(Needed), "neck"))
	}
}

// A name in an impossible place is not believed.
func TestNamesInTheWrongPlace(t *testing.T) {
	s := person(kind{spine: 3, clav: true})
	for i := range s.Nodes {
		switch s.Nodes[i].Name {
		case "head":
			s.Nodes[i].Name = "top"
		case "leftFoot":
			s.Nodes[i].Name = "head"
		}
	}
	if m, ok := Of(s).Map(nil)["head"]; ok && s.Nodes[m.Bone].Name == "head" {
		t.Errorf("the head is taken for a bone of the leg: %+v", m)
	}
}
