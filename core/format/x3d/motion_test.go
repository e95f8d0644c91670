package x3d

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
)

const swing = `#VRML V2.0 utf8
DEF Gate Transform { translation 0 1 0 children Shape { geometry Box { } } }
DEF Post Transform { children Shape { geometry Box { } } }
DEF Clock TimeSensor { cycleInterval 4 loop TRUE }
DEF Turn OrientationInterpolator { key [ 0 0.5 1 ] keyValue [ 0 1 0 0, 0 1 0 1.5707963, 0 2 0 3.1415926 ] }
DEF Rise PositionInterpolator { key [ 0.25 0.5 0.5 ] keyValue [ 0 1 0, 0 3 0, 2 3 0 ] }
ROUTE Clock.fraction_changed TO Turn.set_fraction
ROUTE Turn.value_changed TO Gate.set_rotation
ROUTE Clock.fraction TO Rise.set_fraction
ROUTE Rise.value_changed TO Gate.translation
ROUTE Rise.value_changed TO Post.set_scale
`

const swingXML = `<X3D version="3.3"><Scene>
<Transform DEF="Gate" translation="0 1 0"><Shape><Box/></Shape></Transform>
<Transform DEF="Post"><Shape><Box/></Shape></Transform>
<TimeSensor DEF="Clock" cycleInterval="4" loop="true"/>
<OrientationInterpolator DEF="Turn" key="0 0.5 1" keyValue="0 1 0 0 0 1 0 1.5707963 0 2 0 3.1415926"/>
<PositionInterpolator DEF="Rise" key="0.25 0.5 0.5" keyValue="0 1 0 0 3 0 2 3 0"/>
<ROUTE fromNode="Clock" fromField="fraction_changed" toNode="Turn" toField="set_fraction"/>
<ROUTE fromNode="Turn" fromField="value_changed" toNode="Gate" toField="set_rotation"/>
<ROUTE fromNode="Clock" fromField="fraction_changed" toNode="Rise" toField="set_fraction"/>
<ROUTE fromNode="Rise" fromField="value_changed" toNode="Gate" toField="set_translation"/>
<ROUTE fromNode="Rise" fromField="value_changed" toNode="Post" toField="scale"/>
</Scene></X3D>`

func readText(t *testing.T, doc string) *scene.Scene {
	t.Helper()
	read := readClassic
	if strings.HasPrefix(doc, "<") {
		read = readXML
	}
	s, err := read(context.Background(), format.File{Name: "gate", Data: []byte(doc)})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// A gate that turns by a half in four seconds, and rises and jumps aside.
func TestMotions(t *testing.T) {
	for name, doc := range map[string]string{"classic": swing, "XML": swingXML} {
		s := readText(t, doc)
		if len(s.Motions) != 1 || s.Motions[0].Name != "Clock" || s.Motions[0].Seconds() != 4 || len(s.Motions[0].Channels) != 3 {
			t.Fatalf("%s: %+v", name, s.Motions)
		}
		for _, n := range s.Notes {
			if n.Loss {
				t.Errorf("%s loses %q", name, n.Text)
			}
		}
		turn, rise, grow := s.Motions[0].Channels[0], s.Motions[0].Channels[1], s.Motions[0].Channels[2]
		if s.Nodes[turn.Node].Name != "Gate" || s.Nodes[grow.Node].Name != "Post" || turn.Path != scene.PathRotation || rise.Path != scene.PathTranslation || grow.Path != scene.PathScale {
			t.Errorf("%s: %+v", name, s.Motions[0].Channels)
		}
		half := float32(math.Sqrt(0.5))
		if fmt.Sprint(turn.Times) != "[0 2 4]" || !near(turn.Values, 0, 0, 0, 1, 0, half, 0, half, 0, 1, 0, 0) {
			t.Errorf("%s turns %v %v", name, turn.Times, turn.Values)
		}
		// At half the cycle it stands at two places: it jumps. It then holds to the end.
		after := math.Nextafter32(2, 3)
		if len(rise.Times) != 4 || rise.Times[0] != 1 || rise.Times[1] != 2 || rise.Times[2] != after || rise.Times[3] != 4 || !near(rise.Values, 0, 1, 0, 0, 3, 0, 2, 3, 0, 2, 3, 0) {
			t.Errorf("%s rises %v %v", name, rise.Times, rise.Values)
		}
	}
}

// The gate hangs on a post at x = 1: its corner at (-1, -1, 1) goes where the
// transform of 10.4.4, T C R -C, brings it at each time.
func TestMotionsAboutACentre(t *testing.T) {
	s := readText(t, strings.Replace(swing, "translation 0 1 0", "translation 0 1 0 center 1 0 0", 1))
	for _, n := range s.Notes {
		if n.Loss {
			t.Errorf("loses %q", n.Text)
		}
	}
	corner := func(at float64) geom.Vec3 {
		local := make([]geom.Mat4, len(s.Nodes))
		for i := range s.Nodes {
			n := s.Nodes[i]
			for _, c := range s.Motions[0].Channels {
				if c.Node != i {
					continue
				}
				for k, when := range c.Times {
					if float64(when) == at {
						switch c.Path {
						case scene.PathTranslation:
							n.Translation = [3]float32(c.Values[3*k:])
						case scene.PathRotation:
							n.Rotation = [4]float32(c.Values[4*k:])
						}
					}
				}
			}
			local[i] = n.Local()
		}
		for i := range s.Nodes {
			if s.Nodes[i].Mesh < 0 || s.Meshes[s.Nodes[i].Mesh].Name != "Gate" {
				continue
			}
			p := geom.Vec3{-1, -1, 1}
			for k := i; k >= 0; k = s.Nodes[k].Parent {
				p = local[k].Point(p)
			}
			return p
		}
		t.Fatal("there is no gate")
		return geom.Vec3{}
	}
	// Before, by half a turn of 90 degrees with the gate 2 higher, and at the
	// end: half round and moved by (2, 3, 0).
	for at, want := range map[float64]geom.Vec3{-1: {-1, 0, 1}, 2: {2, 2, 2}, 4: {5, 2, -1}} {
		if got := corner(at); got.Sub(want).Len() > 1e-5 {
			t.Errorf("after %g s at %v, want %v", at, got, want)
		}
	}
}

func near(got []float32, want ...float32) bool {
	if len(got) != len(want) {
		return false
	}
	for i := range got {
		if math.Abs(float64(got[i]-want[i])) > 1e-6 {
			return false
		}
	}
	return true
}

// What moves in a way that a scene does not hold is said; nothing panics.
func TestMotionsThatAreLeftOut(t *testing.T) {
	for _, c := range []struct{ from, to, says string }{
		{"translation 0 1 0", "scaleOrientation 0 0 1 1", "whose scale has an orientation"},
		{"cycleInterval 4", "cycleInterval 0", "a TimeSensor without a length"},
		{"cycleInterval 4", "cycleInterval -2", "a TimeSensor without a length"},
		{"DEF Turn OrientationInterpolator", "DEF Turn ColorInterpolator", "a motion by a ColorInterpolator"},
		{"[ 0 0.5 1 ]", "[ 0 0.5 2 ]", "whose keys do not rise from 0 to 1"},
		{"[ 0 0.5 1 ]", "[ 0.5 0 1 ]", "whose keys do not rise from 0 to 1"},
		{"[ 0 0.5 1 ]", "[ ]", "without keys"},
		{"[ 0 0.5 1 ]", "[ 0 1 ]", "values that lack a key"},
		{"TO Gate.set_rotation", "TO Gate.set_bboxSize", "a motion of the field bboxSize of a Transform"},
		{"TO Gate.set_rotation", "TO Clock.set_loop", "a motion of the field loop of a TimeSensor"},
		{"ROUTE Turn.value_changed", "ROUTE Turn.fraction_changed", "a ROUTE was left out"},
		{"ROUTE Turn.value_changed", "ROUTE Gone.value_changed", "a ROUTE between nodes that are not there"},
		{"ROUTE Clock.fraction_changed TO Turn.set_fraction", "", "a node of the kind OrientationInterpolator was left out"},
	} {
		if !strings.Contains(swing, c.from) {
			t.Fatalf("%q is not there", c.from)
		}
		s := readText(t, strings.Replace(swing, c.from, c.to, 1))
		var said []string
		for _, n := range s.Notes {
			if n.Loss {
				said = append(said, n.Text)
			}
		}
		if !strings.Contains(strings.Join(said, "; "), c.says) {
			t.Errorf("%s for %s: says %q, not %q", c.to, c.from, said, c.says)
		}
	}
}

// One Transform that is used twice moves in both places.
func TestMotionsOfWhatIsUsedTwice(t *testing.T) {
	s := readText(t, strings.Replace(swing, "DEF Post", "DEF Both Transform { translation 9 0 0 children USE Gate }\nDEF Post", 1))
	nodes := map[int]bool{}
	for _, c := range s.Motions[0].Channels {
		if c.Path == scene.PathRotation {
			nodes[c.Node] = true
		}
	}
	if len(nodes) != 2 {
		t.Errorf("%d nodes turn", len(nodes))
	}
}
