package rig

import (
	"math"
	"slices"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// node finds a node of a test's skeleton.
func node(s *scene.Scene, name string) *scene.Node {
	return &s.Nodes[slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == name })]
}

// All that is said of a skeleton against its reference, and nothing else.
func TestAgainst(t *testing.T) {
	ref := person(kind{spine: 3, clav: true})
	if d := Against(Of(ref), Of(person(kind{spine: 3, clav: true})), 1); len(d) > 0 {
		t.Errorf("against itself: %+v", d)
	}
	turned := func(s *scene.Scene, degrees float64) {
		q := geom.AxisAngle(geom.Vec3{0, 0, 1}, degrees*math.Pi/180)
		for k, x := range q {
			node(s, "leftToes").Rotation[k] = float32(x)
		}
	}
	for _, c := range []struct {
		what  string
		spoil func(s *scene.Scene)
		says  []string
	}{
		{"the root's name", func(s *scene.Scene) { s.Nodes[0].Name = "hips.001" },
			[]string{"root: the root is called “hips.001”, and should be “hips”"}},
		{"another name", func(s *scene.Scene) { node(s, "leftHand").Name = "left_hand_old" },
			[]string{"name: left_hand_old should be called leftHand"}},
		{"one more", func(s *scene.Scene) {
			n := scene.NewNode("lamp")
			n.Parent, n.Translation = 2, [3]float32{0, 0.3, 0.4}
			s.Nodes = append(s.Nodes, n)
			bound(s)
		}, []string{"additional: the bone lamp is not in the reference"}},
		{"one less", func(s *scene.Scene) {
			s.Nodes = slices.DeleteFunc(s.Nodes, func(n scene.Node) bool { return n.Name == "rightToes" })
			bound(s)
		}, []string{"missing: the bone rightToes is missing"}},
		{"another parent", func(s *scene.Scene) {
			n := node(s, "neck")
			n.Parent, n.Translation[1] = 2, n.Translation[1]+0.15
		}, []string{"parent: neck hangs on chest, and should on upperChest"}},
		{"another order", func(s *scene.Scene) { j := s.Skins[0].Joints; j[3], j[4] = j[4], j[3] },
			[]string{"order: the joints stand in another order, from upperChest on"}},
		{"a turn", func(s *scene.Scene) { turned(s, 12.5) },
			[]string{"rest: leftToes is turned by 12.5 degrees at rest"}},
		{"a turn of what rounding leaves", func(s *scene.Scene) { turned(s, 0.09) }, nil},
		{"another place", func(s *scene.Scene) { node(s, "rightToes").Translation[2] += 0.02 },
			[]string{"place: rightToes stands 2 cm away from where the reference has it"}},
		{"another size", func(s *scene.Scene) {
			for i := range s.Nodes {
				for k := range 3 {
					s.Nodes[i].Translation[k] /= 2
				}
			}
		}, []string{"scale: the reference's skeleton is 2 times as tall"}},
	} {
		s := person(kind{spine: 3, clav: true})
		c.spoil(s)
		var got []string
		for _, d := range Against(Of(s), Of(ref), 1) {
			got = append(got, d.Kind+": "+d.Text)
		}
		if !slices.Equal(got, c.says) {
			t.Errorf("%s: %q, want %q", c.what, got, c.says)
		}
	}
	// Centimetres are said whatever the unit.
	far := person(kind{spine: 3, clav: true})
	node(far, "rightToes").Translation[2] += 0.02
	if d := Against(Of(far), Of(ref),
		0.01); d[0].Text != "rightToes stands 0.02 cm away from where the reference has it" {
		t.Errorf("in centimetres: %+v", d)
	}
}

// Scenes of other axes and units are held against each other as they look.
func TestHeldAgainst(t *testing.T) {
	s := person(kind{spine: 2, clav: true})
	other, err := s.InBasis(geom.Basis{Up: geom.PlusZ, Front: geom.MinusY, Handed: geom.Left, MetresPerUnit: 0.01})
	if err != nil {
		t.Fatal(err)
	}
	for _, pair := range [][2]*scene.Scene{{s, other}, {other, s}} {
		if d, err := HeldAgainst(pair[0], pair[1]); err != nil || len(d) > 0 {
			t.Errorf("%v: %+v", err, d)
		}
	}
	if d, err := HeldAgainst(s, &scene.Scene{}); err != nil || len(d) != 1 {
		t.Errorf("against nothing: %v %+v", err, d)
	}
}

func TestNamesAreRead(t *testing.T) {
	for name, want := range map[string]read{
		"keeper:LeftForeArm": {side: 1, parts: []string{"lowerArm"}, number: -1},
		"rig|Head":           {parts: []string{"head"}, number: -1},
		"Spine:":             {parts: []string{"spine"}, number: -1}, // nothing follows the colon
		":Neck":              {parts: []string{"neck"}, number: -1},
		"upper_arm.R.001":    {side: -1, parts: []string{"upperArm"}, number: 1, upper: true},
		"LTHIGH":             {side: 1, parts: []string{"upperLeg"}, number: -1},
		"thighr":             {side: -1, parts: []string{"upperLeg"}, number: -1},
		"ear":                {number: -1}, // no arm with a side
		"hand_twist_l":       {side: 1, parts: []string{"hand"}, number: -1, beside: true},
		"左ひじ":                {side: 1, parts: []string{"lowerArm"}, number: -1},
		"finger03":           {number: 3},
	} {
		got := readName(tokens(name))
		if got.side != want.side || !slices.Equal(got.parts, want.parts) || got.number != want.number ||
			got.beside != want.beside {
			t.Errorf("%s: %+v, want %+v", name, got, want)
		}
	}
}

// Of a leg with more joints than limbs the knee is the one half way.
func TestLegsOfManyJoints(t *testing.T) {
	s := &scene.Scene{Basis: geom.GLTF}
	add := func(parent int, x, y, z float32) int {
		n := scene.NewNode("")
		n.Parent, n.Translation = parent, [3]float32{x, y, z}
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	hips := add(scene.None, 0, 1, 0)
	chest := add(add(hips, 0, 0.2, 0), 0, 0.2, 0)
	add(add(add(chest, 0, 0.1, 0), 0, 0.1, 0), 0, 0.15, 0)
	want := map[string]int{}
	for i, side := range []string{"left", "right"} {
		x := float32(1 - 2*i)
		leg := add(hips, 0.1*x, 0, 0)
		shortly := add(leg, 0, -0.1, 0)
		knee := add(shortly, 0, -0.35, 0)
		shank := add(knee, 0, -0.3, 0)
		foot := add(shank, 0, -0.2, 0)
		add(foot, 0, -0.03, 0.1)
		want[side+"UpperLeg"], want[side+"LowerLeg"], want[side+"Foot"] = leg, knee, foot
		arm := add(chest, 0.15*x, 0, 0)
		elbow := add(arm, 0.25*x, 0, 0)
		hand := add(elbow, 0.25*x, 0, 0)
		want[side+"UpperArm"], want[side+"LowerArm"], want[side+"Hand"] = arm, elbow, hand
	}
	for i := range s.Nodes {
		s.Nodes[i].Name = string(rune('a' + i))
	}
	bound(s)
	body := Of(s).Map(nil)
	for limb, bone := range want {
		if m, ok := body[limb]; !ok || m.Bone != bone {
			t.Errorf("%s is bone %d, want %d", limb, m.Bone, bone)
		}
	}
}
