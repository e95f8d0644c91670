package dae_test

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"math"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/dae"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/internal/demo"
)

func read(text string, others ...string) (*scene.Scene, error) {
	return dae.Read(context.Background(), format.File{Name: "ferry/tide mill.dae", Data: []byte(text), Companion: func(ref string) ([]byte, string, error) {
		for i := 0; i+1 < len(others); i += 2 {
			if others[i] == ref {
				return []byte(others[i+1]), ref, nil
			}
		}
		return nil, "", fmt.Errorf("%q is not there", ref)
	}})
}

func must(t testing.TB, text string, others ...string) *scene.Scene {
	t.Helper()
	s, err := read(text, others...)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func write(t testing.TB, s *scene.Scene) ([]byte, []scene.Note) {
	t.Helper()
	files, notes, err := dae.Write(s, s.Name, "Excavate")
	if err != nil {
		t.Fatal(err)
	}
	return files[0].Data, notes
}

// random is a scene of nodes within nodes, two meshes of several parts with
// two UV sets and colours, a skin, morph targets and motions.
func random(r *rand.Rand) *scene.Scene {
	f := func(n int) []float32 {
		out := make([]float32, n)
		for i := range out {
			out[i] = float32(r.NormFloat64())
		}
		return out
	}
	unit := func(n int) []float32 {
		out := f(3 * n)
		for i := 0; i < len(out); i += 3 {
			l := float32(math.Sqrt(float64(out[i]*out[i] + out[i+1]*out[i+1] + out[i+2]*out[i+2])))
			out[i], out[i+1], out[i+2] = out[i]/l, out[i+1]/l, out[i+2]/l
		}
		return out
	}
	s := &scene.Scene{Name: "heron & crane <1>", Basis: geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01}, Terms: scene.Terms{Owner: "Wren Sallow"}}
	for i := range 6 {
		n := scene.NewNode(fmt.Sprintf("node \"%d\"", i))
		n.Parent = r.Intn(i+1) - 1
		n.Translation = [3]float32(f(3))
		q := geom.Quat{r.NormFloat64(), r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}.Norm()
		n.Rotation = [4]float32{float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}
		n.Scale = [3]float32{0.5 + r.Float32(), 0.5 + r.Float32(), 0.5 + r.Float32()}
		s.Nodes = append(s.Nodes, n)
	}
	m := scene.NewMaterial("slate")
	m.BaseColour, m.Roughness, m.Metallic, m.TwoSided, m.Alpha = [4]float32{0.25, 0.5, 1, 1}, 0.5, 0.25, true, scene.Cutout
	m.Textures = []scene.Texture{{Role: scene.RoleNormal, UVSet: 1, Scale: 1, WrapU: scene.Clamp}, {Role: scene.RoleMetalRgh, UVSet: 0, Scale: 1, Nearest: true}}
	s.Pictures = []scene.Picture{{Name: "slate one.png", Ref: "slate one.png"}}
	s.Materials = []scene.Material{m, scene.NewMaterial("reed")}
	for k := range 2 {
		mesh := scene.Mesh{Name: fmt.Sprintf("mesh %d", k)}
		for i := range 2 {
			n := 4 + r.Intn(20)
			p := scene.Part{Material: i, Positions: f(3 * n), Normals: unit(n)}
			for range n * 2 {
				p.Triangles = append(p.Triangles, uint32(r.Intn(n)), uint32(r.Intn(n)), uint32(r.Intn(n)))
			}
			p.UVs = []scene.AttrSet{{Name: "surface", Data: f(2 * n)}, {Name: "dirt", Data: f(2 * n)}}
			c := f(4 * n)
			for i := range c {
				c[i] = format.Bytes8[r.Intn(256)]
			}
			p.Colours = []scene.AttrSet{{Name: "paint", Data: c}}
			if k == 1 {
				p.Influences = 2
				for range n {
					a := r.Intn(3)
					p.Joints = append(p.Joints, uint16(a), uint16((a+1)%3))
					x := float32(r.Intn(7)+1) / 8
					p.Weights = append(p.Weights, x, 1-x)
				}
				p.Morphs = []scene.MorphTarget{{Name: "smile", Weight: 0.5, Positions: f(3 * n), Normals: f(3 * n)}, {Name: "frown", Positions: f(3 * n), Normals: f(3 * n)}}
			}
			mesh.Parts = append(mesh.Parts, p)
		}
		s.Meshes = append(s.Meshes, mesh)
		s.Nodes[k].Mesh = k
	}
	s.Nodes[1].Skin = 0
	s.Skins = []scene.Skin{{Name: "skin", Root: scene.None, Joints: []int{2, 3, 4}, InverseBind: f(48)}}
	for i := 0; i < 48; i += 16 {
		ib := s.Skins[0].InverseBind
		ib[i+3], ib[i+7], ib[i+11], ib[i+15] = 0, 0, 0, 1
	}
	s.Cameras = []scene.Camera{{Name: "eye", FovY: 0.75, Near: 0.5, Far: 100, Aspect: 1.5}}
	s.Lights = []scene.Light{{Name: "lamp", Type: "spot", Colour: [3]float32{1, 0.5, 0.25}, Intensity: 1, Outer: 0.5}}
	s.Nodes[4].Camera, s.Nodes[5].Light = 0, 0
	s.Motions = []scene.Motion{{Name: "punting", Channels: []scene.Channel{
		{Node: 2, Path: scene.PathTranslation, Interp: scene.Linear, Times: []float32{0, 0.5, 2}, Values: f(9)},
		{Node: 1, Path: scene.PathWeights, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{0, 1, 1, 0}},
	}}, {Name: "still", Channels: []scene.Channel{{Node: 3, Path: scene.PathScale, Interp: scene.Step, Times: []float32{0, 1}, Values: []float32{1, 2, 3, 3, 2, 1}}}}}
	return s
}

func near(a, b []float32, within float64) error {
	if len(a) != len(b) {
		return fmt.Errorf("%d numbers, %d expected", len(a), len(b))
	}
	for i := range a {
		if d := math.Abs(float64(a[i]) - float64(b[i])); d > within*math.Max(1, math.Abs(float64(b[i]))) {
			return fmt.Errorf("number %d is %g, %g expected", i, a[i], b[i])
		}
	}
	return nil
}

// soup lists the corners of all triangles of a part with all that they have.
func soup(p *scene.Part) (out []float32) {
	for _, v := range p.Triangles {
		pick := func(d []float32, n int) {
			if d != nil {
				out = append(out, d[int(v)*n:(int(v)+1)*n]...)
			}
		}
		pick(p.Positions, 3)
		pick(p.Normals, 3)
		for _, u := range p.UVs {
			pick(u.Data, 2)
		}
		for _, u := range p.Colours {
			pick(u.Data, 4)
		}
		for _, m := range p.Morphs {
			pick(m.Positions, 3)
			pick(m.Normals, 3)
		}
		for i := range p.Influences {
			out = append(out, float32(p.Joints[int(v)*p.Influences+i]), p.Weights[int(v)*p.Influences+i])
		}
	}
	return out
}

func TestRoundTrips(t *testing.T) {
	for seed := range 20 {
		want := random(rand.New(rand.NewSource(int64(seed))))
		b, notes := write(t, want)
		if len(notes) != 1 || !strings.Contains(notes[0].Text, "not found") {
			t.Errorf("%v", notes)
		}
		got := must(t, string(b))
		if len(got.Notes) > 0 || got.Basis != want.Basis || got.Terms != want.Terms {
			t.Fatalf("%v %v %v", got.Notes, got.Basis, got.Terms)
		}
		at := map[string]int{}
		for i, n := range got.Nodes {
			at[n.Name] = i
		}
		for i := range want.Nodes {
			a, b := want.Nodes[i], got.Nodes[at[want.Nodes[i].Name]]
			m, k := a.Local(), b.Local()
			for j := range m {
				if math.Abs(m[j]-k[j]) > 1e-4 {
					t.Fatalf("seed %d node %d: %v, want %v", seed, i, k, m)
				}
			}
			if (a.Parent >= 0) != (b.Parent >= 0) || a.Parent >= 0 && got.Nodes[b.Parent].Name != want.Nodes[a.Parent].Name {
				t.Fatalf("node %d hangs elsewhere", i)
			}
			if (a.Mesh >= 0) != (b.Mesh >= 0) || (a.Skin >= 0) != (b.Skin >= 0) {
				t.Fatalf("node %d: %+v, want %+v", i, b, a)
			}
			if a.Mesh < 0 {
				continue
			}
			x, y := want.Meshes[a.Mesh], got.Meshes[b.Mesh]
			if x.Name != y.Name || len(x.Parts) != len(y.Parts) {
				t.Fatalf("mesh %q of %d parts, want %q of %d", y.Name, len(y.Parts), x.Name, len(x.Parts))
			}
			for k := range x.Parts {
				if err := near(soup(&y.Parts[k]), soup(&x.Parts[k]), 1e-5); err != nil {
					t.Fatalf("seed %d mesh %q part %d: %v", seed, x.Name, k, err)
				}
				if w, g := want.Materials[x.Parts[k].Material], got.Materials[y.Parts[k].Material]; !sameMaterial(w, g) {
					t.Errorf("material %+v, want %+v", g, w)
				}
				if u := y.Parts[k].UVs; u[0].Name != "surface" || u[1].Name != "dirt" || y.Parts[k].Colours[0].Name != "paint" {
					t.Errorf("sets lost their names: %v", u)
				}
			}
		}
		if err := near(got.Skins[0].InverseBind, want.Skins[0].InverseBind, 1e-6); err != nil {
			t.Error(err)
		}
		if c := got.Cameras[0]; c.Name != "eye" || math.Abs(float64(c.FovY-0.75)) > 1e-6 || c.Aspect != 1.5 || c.Far != 100 {
			t.Errorf("%+v", c)
		}
		if l := got.Lights[0]; l.Type != "spot" || l.Colour != want.Lights[0].Colour || math.Abs(float64(l.Outer-0.5)) > 1e-6 {
			t.Errorf("%+v", l)
		}
		// Camera and light look where they looked.
		views := got.World()
		for i := range got.Nodes {
			from := scene.None
			if got.Nodes[i].Camera >= 0 {
				from = 4
			} else if got.Nodes[i].Light >= 0 {
				from = 5
			}
			if from < 0 {
				continue
			}
			w := want.World()[from]
			for j := range w {
				if math.Abs(w[j]-views[i][j]) > 1e-3*math.Max(1, math.Abs(w[j])) {
					t.Fatalf("the view of node %d: %v, want %v", from, views[i], w)
				}
			}
		}
		if len(got.Motions) != 2 || got.Motions[0].Name != "punting" || got.Motions[1].Channels[0].Interp != scene.Step {
			t.Fatalf("motions %+v", got.Motions)
		}
		for _, c := range want.Motions[0].Channels {
			for _, g := range got.Motions[0].Channels {
				if got.Nodes[g.Node].Name == want.Nodes[c.Node].Name && g.Path == c.Path {
					for _, at := range []float64{0, 0.3, 0.5, 1.1, 2} {
						if err := near(g.At(at), c.At(at), 1e-4); err != nil {
							t.Errorf("%s at %g s: %v", c.Path, at, err)
						}
					}
				}
			}
		}
		if again, _ := write(t, got); seed == 0 && len(again) == 0 {
			t.Error("what was read cannot be written")
		}
	}
}

func sameMaterial(a, b scene.Material) bool {
	for _, t := range a.Textures {
		if x := b.Texture(t.Role); x == nil || *x != t {
			return false
		}
	}
	a.Textures, b.Textures = nil, nil
	for i := range 3 {
		if math.Abs(float64(a.BaseColour[i]-b.BaseColour[i])) > 1e-5 {
			return false
		}
	}
	a.BaseColour, b.BaseColour = [4]float32{}, [4]float32{}
	return reflect.DeepEqual(a, b)
}

// avatarFile writes the ferry keeper of the exchange, skinned and with faces.
func avatarFile(t testing.TB) (*scene.Scene, []byte) {
	s, err := gltf.Read(context.Background(), format.File{Name: "keeper.vrm", Data: demo.Avatars[0].VRM()})
	if err != nil {
		t.Fatal(err)
	}
	b, _ := write(t, s)
	return s, b
}

func TestAnAvatarKeepsItsShape(t *testing.T) {
	want, b := avatarFile(t)
	got := must(t, string(b))
	w, g := want.Stats(), got.Stats()
	if w.Triangles != g.Triangles || w.Bones != g.Bones || w.Morphs != g.Morphs || w.Materials != g.Materials || math.Abs(w.Area-g.Area) > 1e-4*w.Area {
		t.Errorf("%+v, want %+v", g, w)
	}
	for k := range w.Min {
		if math.Abs(w.Min[k]-g.Min[k]) > 1e-4 || math.Abs(w.Max[k]-g.Max[k]) > 1e-4 {
			t.Errorf("bounds %v %v, want %v %v", g.Min, g.Max, w.Min, w.Max)
		}
	}
	// The standard library's own reader finds it well formed.
	for d := xml.NewDecoder(bytes.NewReader(b)); ; {
		if _, err := d.Token(); err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
	}
}

// scenes wraps geometries and nodes into a document.
// The schema of COLLADA 1.4.1 holds for what is written, with one exception:
// names are kept as they are, where it wants names without blanks and signs.
func TestTheSchemaHolds(t *testing.T) {
	const at = "/usr/lib/python3/dist-packages/collada/resources/"
	dir := t.TempDir()
	for from, to := range map[string]string{"schema-1.4.1.xml": "collada.xsd", "xsd.xml": "xml.xsd"} {
		b, err := os.ReadFile(at + from)
		if err != nil {
			t.Fatalf("%v; scripts/setup.sh test installs Debian's package python3-collada", err)
		}
		b = bytes.ReplaceAll(b, []byte("http://www.w3.org/2001/03/xml.xsd"), []byte("xml.xsd"))
		if err := os.WriteFile(filepath.Join(dir, to), b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	args := []string{"--noout", "--nonet", "--schema", filepath.Join(dir, "collada.xsd")}
	r := rand.New(rand.NewSource(12))
	avatar, _ := avatarFile(t)
	for i := range 30 {
		s := avatar
		if i > 0 {
			s = random(r)
		}
		b, _ := write(t, s)
		name := filepath.Join(dir, fmt.Sprintf("%d.dae", i))
		if err := os.WriteFile(name, b, 0o644); err != nil {
			t.Fatal(err)
		}
		args = append(args, name)
	}
	out, err := exec.Command("xmllint", args...).CombinedOutput()
	if _, ran := err.(*exec.ExitError); err != nil && !ran {
		t.Fatal(err)
	}
	checked := 0
	for _, l := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		switch {
		case strings.HasSuffix(l, " validates") || strings.HasSuffix(l, " fails to validate"):
			checked++
		case strings.Contains(l, "attribute 'name'") && strings.Contains(l, "'xs:NCName'"):
		default:
			t.Error(l)
		}
	}
	if checked != 30 {
		t.Errorf("%d of 30 files were checked", checked)
	}
}

func scenes(libraries, nodes string) string {
	return `<?xml version="1.0"?><COLLADA version="1.4.1">` + libraries + `<library_visual_scenes><visual_scene id="s">` + nodes + `</visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>`
}

// geometry is a mesh over eight points: a square of 4 and a hole of 1 within.
func geometry(primitives string) string {
	return `<library_geometries><geometry id="g" name="deck"><mesh><source id="p"><float_array id="pa" count="24">0 0 0 4 0 0 4 4 0 0 4 0 1 1 0 3 1 0 3 3 0 1 3 0</float_array><technique_common><accessor source="#pa" count="8" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
	<source id="t"><float_array id="ta" count="6">9 0 0.25 9 1 0.5</float_array><technique_common><accessor source="#ta" count="2" stride="3"><param type="float"/><param name="S" type="float"/><param name="T" type="float"/></accessor></technique_common></source>
	<vertices id="v"><input semantic="POSITION" source="#p"/></vertices>` + primitives + `</mesh></geometry></library_geometries>`
}

const at = `<input semantic="VERTEX" source="#v" offset="0"/>`

func TestPrimitives(t *testing.T) {
	for _, c := range []struct {
		text      string
		triangles int
		area      float64
		lines     int
	}{
		{`<triangles count="1">` + at + `<p>0 1 2</p></triangles>`, 1, 8, 0},
		{`<polylist count="2">` + at + `<vcount>4 3</vcount><p>0 1 2 3 0 1 2</p></polylist>`, 3, 24, 0},
		{`<polygons count="1">` + at + `<p>0 1 2 3</p></polygons>`, 2, 16, 0},
		{`<polygons count="1">` + at + `<ph><p>0 1 2 3</p><h>4 5 6 7</h></ph></polygons>`, 8, 12, 0},
		{`<polygons count="1">` + at + `<ph><p>0 1 2 3</p><h>7 6 5 4</h></ph></polygons>`, 8, 12, 0},
		{`<trifans count="1">` + at + `<p>0 1 2 3</p></trifans>`, 2, 16, 0},
		{`<tristrips count="1">` + at + `<p>0 1 3 2</p></tristrips>`, 2, 16, 0},
		{`<lines count="2">` + at + `<p>0 1 2 3</p></lines>`, 0, 0, 2},
		{`<linestrips count="1">` + at + `<p>0 1 2 3</p></linestrips>`, 0, 0, 3},
	} {
		s := must(t, scenes(geometry(c.text), `<node><instance_geometry url="#g"/></node>`))
		st := s.Stats()
		if st.Triangles != c.triangles || st.Lines != c.lines || math.Abs(st.Area-c.area) > 1e-5 {
			t.Errorf("%s: %d triangles of %g, %d lines", c.text, st.Triangles, st.Area, st.Lines)
		}
		for _, m := range s.Meshes {
			p := &m.Parts[0]
			for i := 0; i+2 < len(p.Triangles); i += 3 {
				v := func(k int) geom.Vec3 {
					q := p.Positions[3*p.Triangles[i+k]:]
					return geom.Vec3{float64(q[0]), float64(q[1]), float64(q[2])}
				}
				if v(1).Sub(v(0)).Cross(v(2).Sub(v(0)))[2] < 0 {
					t.Errorf("%s: triangle %d is turned over", c.text, i/3)
				}
			}
		}
	}
	// An accessor's numbers without a name are passed over; v counts from below.
	s := must(t, scenes(geometry(`<triangles count="1">`+at+`<input semantic="TEXCOORD" source="#t" offset="1" set="3"/><p>0 0 1 1 2 1</p></triangles>`), `<node><instance_geometry url="#g"/></node>`))
	if u := s.Meshes[0].Parts[0].UVs[0].Data; fmt.Sprint(u) != "[0 0.75 1 0.5 1 0.5]" {
		t.Errorf("UVs %v", u)
	}
}

// Instances, nodes of other files, an animated rotation of more than half a
// turn, and effects by their parameters.
func TestInstancesMotionsAndEffects(t *testing.T) {
	other := `<COLLADA version="1.5.0"><library_nodes><node id="plank" name="plank"><scale>2 2 2</scale><instance_geometry url="#g"/></node></library_nodes>` + geometry(`<triangles count="1">`+at+`<p>0 1 2</p></triangles>`) + `</COLLADA>`
	libs := geometry(`<triangles count="1" material="m">`+at+`<p>0 1 2</p></triangles>`) +
		`<library_images><image id="i"><init_from>file:///C:/wash%20one.png</init_from></image></library_images>
		<library_effects><effect id="e"><profile_COMMON><newparam sid="surf"><surface type="2D"><init_from>i</init_from></surface></newparam><newparam sid="samp"><sampler2D><source>surf</source><wrap_s>MIRROR</wrap_s></sampler2D></newparam><newparam sid="glow"><float4>1 1 1 1</float4></newparam>
		<technique sid="c"><lambert><emission><param ref="glow"/></emission><diffuse><texture texture="samp" texcoord="UVMap"/></diffuse><transparent opaque="RGB_ZERO"><color>0.5 0.5 0.5 1</color></transparent><transparency><float>1</float></transparency></lambert></technique><extra><technique profile="X"><double_sided>1</double_sided></technique></extra></profile_COMMON></effect></library_effects>
		<library_materials><material id="mat" name="wash"><instance_effect url="#e"/></material></library_materials>
		<library_animations><animation><source id="in"><float_array id="ina" count="2">1 3</float_array><technique_common><accessor source="#ina" count="2" stride="1"><param name="TIME" type="float"/></accessor></technique_common></source><source id="out"><float_array id="outa" count="2">0 360</float_array><technique_common><accessor source="#outa" count="2" stride="1"><param name="ANGLE" type="float"/></accessor></technique_common></source>
		<sampler id="sa"><input semantic="INPUT" source="#in"/><input semantic="OUTPUT" source="#out"/></sampler><channel source="#sa" target="wheel/turn.ANGLE"/></animation></library_animations>`
	s := must(t, scenes(libs, `<node id="wheel" name="wheel"><translate>0 1 0</translate><rotate sid="turn">0 0 1 0</rotate><instance_geometry url="#g"><bind_material><technique_common><instance_material symbol="m" target="#mat"/></technique_common></bind_material></instance_geometry><instance_geometry url="#g"/></node>
		<node name="left"><instance_node url="boats/other.dae#plank"/></node><node name="right"><instance_node url="boats/other.dae#plank"/></node><node><instance_node url="gone.dae#x"/></node>`), "boats/other.dae", other)
	if st := s.Stats(); st.Nodes != 7 || st.Meshes != 3 || math.Abs(st.Area-(8+8+32+32)) > 1e-4 {
		t.Errorf("%d nodes, %d meshes, area %g", st.Nodes, st.Meshes, st.Area)
	}
	m := s.Materials[0]
	if m.Name != "wash" || m.Emissive != [3]float32{1, 1, 1} || m.Alpha != scene.Blend || math.Abs(float64(m.BaseColour[3]-0.5)) > 1e-6 || !m.TwoSided || m.Textures[0].WrapU != scene.Mirror {
		t.Errorf("%+v", m)
	}
	if p := s.Pictures[0]; p.Ref != "C:/wash one.png" || p.Name != "wash one.png" {
		t.Errorf("%+v", p)
	}
	if len(s.Notes) != 2 || s.Notes[0].Text != "the material symbol m is bound to nothing; it is plain" || !strings.Contains(s.Notes[1].Text, "gone.dae") || s.Materials[1].Name != "m" {
		t.Errorf("notes %v, materials %+v", s.Notes, s.Materials)
	}
	// The symbol is a material's id.
	id := must(t, scenes(strings.ReplaceAll(libs, `material="m"`, `material="mat"`), `<node><instance_geometry url="#g"/></node>`))
	if len(id.Materials) != 1 || id.Materials[0].Name != "wash" || id.Meshes[0].Parts[0].Material != 0 || len(id.Notes) == 0 || id.Notes[0].Text != "a material symbol that is bound to nothing was taken for the material of that id" {
		t.Errorf("notes %v, materials %+v", id.Notes, id.Materials)
	}
	c := s.Motions[0].Channels[0]
	if q := c.At(2); c.Path != scene.PathRotation || math.Abs(float64(q[2]*q[2])-1) > 1e-4 {
		t.Errorf("half way through a full turn the rotation is %v", q)
	}
}

func TestBadInput(t *testing.T) {
	deep := strings.Repeat("<a>", 300)
	for text, want := range map[string]string{
		"":                           "no element",
		"<COLLADA>" + deep:           "deep",
		"<COLLADA><a></b></COLLADA>": "</b> stands where",
		"<html/>":                    "<html>",
		`<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><COLLADA version="1.4.1"><scene><instance_visual_scene url="#&b;"/></scene></COLLADA>`:                       "no element with the id",
		scenes(geometry(`<triangles count="1">`+at+`<p>0 1 8</p></triangles>`), `<node><instance_geometry url="#g"/></node>`):                                              "POSITION 8 of 8",
		scenes(geometry(`<triangles count="1">`+at+`<p>0 1 -1</p></triangles>`), `<node><instance_geometry url="#g"/></node>`):                                             "POSITION -1",
		scenes(geometry(`<triangles count="1">`+at+`<p>0 1 x</p></triangles>`), `<node><instance_geometry url="#g"/></node>`):                                              "number 2",
		scenes(geometry(`<polylist count="1">`+at+`<vcount>9</vcount><p>0 1 2</p></polylist>`), `<node><instance_geometry url="#g"/></node>`):                              "9 corners, and 3 are left",
		strings.Replace(scenes(geometry(`<triangles>`+at+`<p>0 1 2</p></triangles>`), `<node><instance_geometry url="#g"/></node>`), `count="8"`, `count="1000000000"`, 1): "the array has 24",
		strings.Replace(scenes(geometry(`<triangles>`+at+`<p>0 1 2</p></triangles>`), `<node><instance_geometry url="#g"/></node>`), `4 0 0`, `4 NaN 0`, 1):                "no finite number",
		scenes(``, `<node id="n"><node><instance_node url="#n"/></node></node>`):                                                                                           "instance of itself",
		scenes(``, `<node><matrix>1 2 3</matrix></node>`): "16 are needed",
		scenes(`<library_controllers><controller id="c"><skin source="#c"/></controller></library_controllers>`, `<node><instance_controller url="#c"/></node>`): "no controller that leads to one",
	} {
		_, err := read(text)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.80s: %v, want %q", text, err, want)
		} else if text != "" && !strings.Contains(format.Place(err), "line") {
			t.Errorf("%v names no line", err)
		}
	}
	// Nodes that hold each other twice over grow without end.
	var nest strings.Builder
	for i := range 40 {
		fmt.Fprintf(&nest, `<node id="n%d"><instance_node url="#n%d"/><instance_node url="#n%d"/></node>`, i, i+1, i+1)
	}
	if _, err := read(scenes(`<library_nodes>`+nest.String()+`<node id="n40"/></library_nodes>`, `<node><instance_node url="#n0"/></node>`)); err == nil || !strings.Contains(err.Error(), "more than") {
		t.Errorf("2^40 nodes: %v", err)
	}
}

func FuzzRead(f *testing.F) {
	s := random(rand.New(rand.NewSource(3)))
	b, _ := write(f, s)
	f.Add(b)
	f.Add([]byte(scenes(geometry(`<polygons count="1">`+at+`<ph><p>0 1 2 3</p><h>4 5 6 7</h></ph></polygons>`), `<node><skew>45 0 1 0 1 0 0</skew><lookat>1 2 3 0 0 0 0 1 0</lookat><instance_geometry url="#g"/></node>`)))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := read(string(b))
		if err != nil {
			return
		}
		if _, _, err := dae.Write(s, "x", ""); err != nil {
			t.Errorf("read, but not to be written: %v", err)
		}
	})
}

// big is a plate of n quads.
func big(n int) *scene.Scene {
	p := scene.Part{Material: scene.None}
	for y := range n + 1 {
		for x := range n + 1 {
			p.Positions = append(p.Positions, float32(x)*0.37, float32(math.Sin(float64(x*y)))*0.1, float32(y)*0.41)
			p.Normals = append(p.Normals, 0, 1, 0)
		}
	}
	uv := make([]float32, 0, len(p.Positions)/3*2)
	for i := 0; i < len(p.Positions); i += 3 {
		uv = append(uv, p.Positions[i]/100, p.Positions[i+2]/100)
	}
	p.UVs = []scene.AttrSet{{Name: "uv", Data: uv}}
	w := uint32(n + 1)
	for y := range uint32(n) {
		for x := range uint32(n) {
			a := y*w + x
			p.Triangles = append(p.Triangles, a, a+w, a+1, a+1, a+w, a+w+1)
		}
	}
	s := &scene.Scene{Name: "marsh", Basis: geom.GLTF, Meshes: []scene.Mesh{{Name: "marsh", Parts: []scene.Part{p}}}}
	node := scene.NewNode("marsh")
	node.Mesh = 0
	s.Nodes = []scene.Node{node}
	return s
}

func BenchmarkRead(b *testing.B) {
	data, _ := write(b, big(800))
	b.SetBytes(int64(len(data)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := dae.Read(context.Background(), format.File{Name: "marsh.dae", Data: data}); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkWrite(b *testing.B) {
	s := big(800)
	data, _ := write(b, s)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		write(b, s)
	}
}
