package dae_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/scene"
)

// array is a <source> of numbers, or of names.
func array(id string, width int, values ...any) string {
	kind, typ := "float_array", "float"
	if _, ok := values[0].(string); ok {
		kind, typ = "Name_array", "name"
	}
	text := strings.Trim(fmt.Sprintf("%v", values), "[]")
	return fmt.Sprintf(`<source id="%s"><%s id="%s-a" count="%d">%s</%s><technique_common><accessor source="#%s-a" count="%d" stride="%d">%s</accessor></technique_common></source>`,
		id, kind, id, len(values), text, kind, id, len(values)/width, width, strings.Repeat(fmt.Sprintf(`<param name="P" type="%s"/>`, typ), width))
}

// moving is a document in which a curve moves a node's element.
func moving(target, sources, inputs string) string {
	return scenes(`<library_animations><animation id="swing">`+sources+`<sampler id="curve">`+inputs+`</sampler><channel source="#curve" target="`+target+`"/></animation></library_animations>`,
		`<node id="boom"><translate sid="at">0 5 0</translate><rotate sid="turn">0 0 1 0</rotate><scale sid="size">1 1 1</scale></node>`)
}

func input(semantic, source string) string {
	return `<input semantic="` + semantic + `" source="#` + source + `"/>`
}

// Every kind of curve between two keys, at times between them (COLLADA 1.4.1,
// chapter 4, "Curve Interpolation").
func TestCurves(t *testing.T) {
	keys := array("in", 1, 0.0, 2.0) + array("out", 1, 1.0, 5.0)
	usual := input("INPUT", "in") + input("OUTPUT", "out") + input("INTERPOLATION", "how")
	tangents := usual + input("IN_TANGENT", "ti") + input("OUT_TANGENT", "to")
	for _, c := range []struct {
		name, sources, inputs string
		at                    func(u float64) float64 // u of the way
		interp                scene.Interp
	}{
		{"without a word", keys, input("INPUT", "in") + input("OUTPUT", "out"), func(u float64) float64 { return 1 + 4*u }, scene.Linear},
		{"LINEAR", keys + array("how", 1, "LINEAR", "LINEAR"), usual, func(u float64) float64 { return 1 + 4*u }, scene.Linear},
		{"STEP", keys + array("how", 1, "STEP", "STEP"), usual, func(u float64) float64 {
			if u < 1 {
				return 1
			}
			return 5
		}, scene.Step},
		{"BEZIER on the line", keys + array("how", 1, "BEZIER", "BEZIER") + array("ti", 1, 0.0, 1+4*2/3.0) + array("to", 1, 1+4/3.0, 0.0), tangents, func(u float64) float64 { return 1 + 4*u }, scene.Linear},
		{"BEZIER that eases", keys + array("how", 1, "BEZIER", "BEZIER") + array("ti", 1, 0.0, 5.0) + array("to", 1, 1.0, 0.0), tangents, func(u float64) float64 { return 1 + 4*u*u*(3-2*u) }, scene.Linear},
		// With times in the tangents at a third of the way it is the same curve.
		{"BEZIER with times", keys + array("how", 1, "BEZIER", "BEZIER") + array("ti", 2, 0.0, 0.0, 4/3.0, 5.0) + array("to", 2, 2/3.0, 1.0, 0.0, 0.0), tangents, func(u float64) float64 { return 1 + 4*u*u*(3-2*u) }, scene.Linear},
		// Both times at the second key: time is 1-(1-s)^3 of the way, the value s*s*(3-2*s).
		{"BEZIER that hurries", keys + array("how", 1, "BEZIER", "BEZIER") + array("ti", 2, 0.0, 0.0, 2.0, 5.0) + array("to", 2, 2.0, 1.0, 0.0, 0.0), tangents, func(u float64) float64 {
			s := 1 - math.Cbrt(1-u)
			return 1 + 4*s*s*(3-2*s)
		}, scene.Linear},
		{"HERMITE at rest", keys + array("how", 1, "HERMITE", "HERMITE") + array("ti", 1, 0.0, 0.0) + array("to", 1, 0.0, 0.0), tangents, func(u float64) float64 { return 1 + 4*u*u*(3-2*u) }, scene.Linear},
		{"HERMITE with a start", keys + array("how", 1, "HERMITE", "HERMITE") + array("ti", 1, 0.0, 0.0) + array("to", 1, 6.0, 0.0), tangents, func(u float64) float64 { return 1 + 4*u*u*(3-2*u) + 6*(u-2*u*u+u*u*u) }, scene.Linear},
		{"BEZIER without tangents", keys + array("how", 1, "BEZIER", "BEZIER"), usual, func(u float64) float64 { return 1 + 4*u }, scene.Linear},
	} {
		s := must(t, moving("boom/at.X", c.sources, c.inputs))
		if len(s.Motions) != 1 || s.Motions[0].Name != "swing" {
			t.Errorf("%s: motions %+v, notes %v", c.name, s.Motions, s.Notes)
			continue
		}
		ch := s.Motions[0].Channels[0]
		if ch.Path != scene.PathTranslation || ch.Interp != c.interp {
			t.Errorf("%s: %s, %s", c.name, ch.Path, ch.Interp)
		}
		for _, u := range []float64{0, 0.1, 0.25, 0.5, 0.9, 0.95, 1} {
			v := ch.At(2 * u)
			if want := c.at(u); math.Abs(float64(v[0])-want) > 0.01 || v[1] != 5 || v[2] != 0 {
				t.Errorf("%s, %g of the way: %v, want %g, 5, 0", c.name, u, v, want)
			}
		}
	}
}

// What cannot be followed is said.
func TestWhatIsMeant(t *testing.T) {
	move := `<library_animations><animation>` + array("in", 1, 0.0, 1.0) + array("out", 1, 0.0, 90.0) + `<sampler id="curve">` + input("INPUT", "in") + input("OUTPUT", "out") + `</sampler><channel source="#curve" target="spare/at.X"/></animation></library_animations><library_nodes><node id="spare" name="spare boom"><translate sid="at">0 0 0</translate></node></library_nodes>`
	for text, want := range map[string]string{
		scenes(move, `<node id="boom"/>`):                         `a motion of "spare boom", which the scene does not show, was left out`,
		scenes(``, `<node id="boom"/><node id="boom" name="b"/>`): "an id stands for two elements; the first of them is meant",
	} {
		s := must(t, text)
		if len(s.Notes) != 1 || s.Notes[0].Text != want || !s.Notes[0].Loss {
			t.Errorf("notes %v, want %q", s.Notes, want)
		}
	}
}

// What a channel may move: all of an element or one number of it.
func TestTargetsOfChannels(t *testing.T) {
	one := array("in", 1, 0.0, 1.0) + array("out", 1, 0.0, 90.0)
	three := array("in", 1, 0.0, 1.0) + array("out", 3, 1.0, 1.0, 1.0, 2.0, 3.0, 4.0)
	both := input("INPUT", "in") + input("OUTPUT", "out")
	for _, c := range []struct {
		target, sources string
		path            scene.Path
		want            string
		note            string
	}{
		{"boom/turn.ANGLE", one, scene.PathRotation, "[0.000 0.000 0.707 0.707]", ""},
		{"boom/turn(3)", one, scene.PathRotation, "[0.000 0.000 0.707 0.707]", ""},
		{"boom/size", three, scene.PathScale, "[2.000 3.000 4.000]", ""},
		{"boom/at", three, scene.PathTranslation, "[2.000 3.000 4.000]", ""},
		{"boom/at(1)", one, scene.PathTranslation, "[0.000 90.000 0.000]", ""},
		{"boom/gone.X", one, "", "", `a motion of "gone", which its node has not, was left out`},
		{"mast/at.X", one, "", "", `a motion of "mast", which is not there, was left out`},
		{"boom/size.ANGLE", one, "", "", `a motion of "size", which its node has not, was left out`},
	} {
		s := must(t, moving(c.target, c.sources, both))
		if c.note != "" {
			if len(s.Motions) != 0 || len(s.Notes) != 1 || s.Notes[0].Text != c.note || !s.Notes[0].Loss {
				t.Errorf("%s: %d motions, notes %v, want %q", c.target, len(s.Motions), s.Notes, c.note)
			}
			continue
		}
		found := false
		for _, ch := range s.Motions[0].Channels {
			if ch.Path == c.path {
				found = true
				if got := strings.ReplaceAll(fmt.Sprintf("%.3f", ch.At(1)), "-0.000", "0.000"); got != c.want {
					t.Errorf("%s: %s, want %s", c.target, got, c.want)
				}
			}
		}
		if !found {
			t.Errorf("%s: no channel of %s in %+v", c.target, c.path, s.Motions[0].Channels)
		}
	}
	for text, want := range map[string]string{
		moving("boom/at.X", array("in", 1, 1.0, 1.0)+array("out", 1, 0.0, 1.0), both): "do not rise: 1 after 1",
		moving("boom/at.X", array("in", 1, 0.0, 1.0)+array("out", 1, 0.0), both):      "a sampler of 2 times and 1 numbers",
	} {
		if _, err := read(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

func TestClips(t *testing.T) {
	text := moving("boom/at.X", array("in", 1, 0.0, 1.0, 4.0)+array("out", 1, 0.0, 10.0, 40.0), input("INPUT", "in")+input("OUTPUT", "out"))
	clips := `<library_animation_clips><animation_clip id="a" name="rise" start="0.5" end="2"><instance_animation url="#swing"/></animation_clip><animation_clip id="b" name="hang" start="2" end="4"><instance_animation url="#swing"/><instance_animation url="#none"/></animation_clip></library_animation_clips>`
	s := must(t, strings.Replace(text, "<library_visual_scenes>", clips+"<library_visual_scenes>", 1))
	if len(s.Motions) != 2 || s.Motions[0].Name != "rise" || s.Motions[1].Name != "hang" {
		t.Fatalf("%+v", s.Motions)
	}
	for i, want := range []struct{ length, first, last float32 }{{1.5, 5, 20}, {2, 20, 40}} {
		c := s.Motions[i].Channels[0]
		n := len(c.Times)
		if c.Times[0] != 0 || math.Abs(float64(c.Times[n-1]-want.length)) > 1e-5 || c.At(0)[0] != want.first || c.At(float64(want.length))[0] != want.last {
			t.Errorf("%s: from %g to %g, %v to %v", s.Motions[i].Name, c.Times[0], c.Times[n-1], c.At(0), c.At(float64(want.length)))
		}
	}
	if len(s.Notes) != 1 || !strings.Contains(s.Notes[0].Text, "none") {
		t.Errorf("notes %v", s.Notes)
	}
}

func TestCameras(t *testing.T) {
	for _, c := range []struct {
		optics string
		want   scene.Camera
	}{
		{`<perspective><yfov>60</yfov><aspect_ratio>1.5</aspect_ratio><znear>0.5</znear><zfar>90</zfar></perspective>`, scene.Camera{FovY: math.Pi / 3, Aspect: 1.5, Near: 0.5, Far: 90}},
		{`<perspective><xfov>90</xfov><aspect_ratio>2</aspect_ratio></perspective>`, scene.Camera{FovY: float32(2 * math.Atan(0.5)), Aspect: 2, Near: 0.1, Far: 1000}},
		{`<perspective><xfov>90</xfov><yfov>90</yfov></perspective>`, scene.Camera{FovY: math.Pi / 2, Aspect: 1, Near: 0.1, Far: 1000}},
		{`<perspective><xfov>90</xfov></perspective>`, scene.Camera{FovY: math.Pi / 2, Near: 0.1, Far: 1000}},
		{`<orthographic><ymag>3</ymag><xmag>6</xmag><znear>1</znear><zfar>20</zfar></orthographic>`, scene.Camera{Orthographic: true, Height: 3, Aspect: 2, Near: 1, Far: 20}},
		{`<orthographic><xmag>6</xmag><aspect_ratio>3</aspect_ratio></orthographic>`, scene.Camera{Orthographic: true, Height: 2, Aspect: 3, Near: 0.1, Far: 1000}},
		{`<orthographic><xmag>6</xmag></orthographic>`, scene.Camera{Orthographic: true, Height: 6, Near: 0.1, Far: 1000}},
	} {
		s := must(t, scenes(`<library_cameras><camera id="eye" name="eye"><optics><technique_common>`+c.optics+`</technique_common></optics></camera></library_cameras>`, `<node><instance_camera url="#eye"/></node>`))
		c.want.Name = "eye"
		if got := s.Cameras[0]; !got.Orthographic && math.Abs(float64(got.FovY-c.want.FovY)) > 1e-5 || math.Abs(float64(got.Aspect-c.want.Aspect)) > 1e-5 || got.Height != c.want.Height || got.Near != c.want.Near || got.Far != c.want.Far || got.Orthographic != c.want.Orthographic || got.Name != "eye" {
			t.Errorf("%s: %+v, want %+v", c.optics, got, c.want)
		}
	}
}

// A skin's bind shape matrix moves the mesh into the space of the bones; its
// morph targets go with it, though offsets do not move.
func TestBindShape(t *testing.T) {
	target := strings.ReplaceAll(strings.ReplaceAll(strings.ReplaceAll(strings.ReplaceAll(geometry(`<triangles count="1">`+at+`<p>0 1 2</p></triangles>`),
		`id="`, `id="m`), `source="#`, `source="#m`), "0 0 0 4 0 0 4 4 0", "0 0 1 4 0 0 4 4 0"), "deck", "lifted")
	libs := strings.Replace(geometry(`<triangles count="1">`+at+`<p>0 1 2</p></triangles>`), "</library_geometries>", "", 1) + strings.Replace(target, "<library_geometries>", "", 1) +
		`<library_controllers><controller id="morph"><morph source="#g" method="NORMALIZED">` + array("who", 1, "mg") + array("much", 1, 0.0) + `<targets>` + input("MORPH_TARGET", "who") + input("MORPH_WEIGHT", "much") + `</targets></morph></controller>
		<controller id="skin"><skin source="#morph"><bind_shape_matrix>2 0 0 10 0 2 0 20 0 0 2 30 0 0 0 1</bind_shape_matrix>` +
		array("names", 1, "b") + array("binds", 16, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1.0) + array("weights", 1, 1.0) +
		`<joints>` + input("JOINT", "names") + input("INV_BIND_MATRIX", "binds") + `</joints><vertex_weights count="8"><input semantic="JOINT" source="#names" offset="0"/><input semantic="WEIGHT" source="#weights" offset="1"/><vcount>1 1 1 1 1 1 1 1</vcount><v>0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0</v></vertex_weights></skin></controller></library_controllers>`
	s := must(t, scenes(libs, `<node id="bone" sid="b" type="JOINT" name="bone"/><node><instance_controller url="#skin"><skeleton>#bone</skeleton></instance_controller></node>`))
	p := &s.Meshes[0].Parts[0]
	if fmt.Sprint(p.Positions) != "[10 20 30 18 20 30 18 28 30]" {
		t.Errorf("positions %v", p.Positions)
	}
	if len(p.Morphs) != 1 || fmt.Sprint(p.Morphs[0].Positions) != "[0 0 2 0 0 0 0 0 0]" {
		t.Errorf("morph targets %+v", p.Morphs)
	}
	if len(s.Skins) != 1 || p.Influences == 0 || p.Weights[0] != 1 {
		t.Errorf("%d skins, %d influences", len(s.Skins), p.Influences)
	}
}

// A file without a scene shows its geometries.
func TestNoScene(t *testing.T) {
	s := must(t, `<COLLADA version="1.4.1">`+geometry(`<triangles count="1">`+at+`<p>0 1 2</p></triangles>`)+`</COLLADA>`)
	if st := s.Stats(); st.Triangles != 1 || st.Nodes != 1 || s.Nodes[0].Name != "deck" {
		t.Errorf("%d triangles in %d nodes: %+v", st.Triangles, st.Nodes, s.Nodes)
	}
}
