package gltf_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/internal/demo"
)

func TestVRMRoundTrip(t *testing.T) {
	args := []string{"../../../e2e/readers.mjs"}
	for _, a := range demo.Avatars {
		want, err := read(a.VRM())
		if err != nil {
			t.Fatal(err)
		}
		av := want.Avatar
		if av == nil || av.Version != "1.0" || len(av.Bones) < 15 || len(av.Expressions) == 0 || want.Terms.Owner == "" {
			t.Fatalf("%s: %+v", a.ID, av)
		}
		n := func(name string) int { return av.Bones[name] }
		av.LookAt = &scene.LookAt{Type: "bone", Offset: [3]float32{0, 0.1, 0}, Ranges: [4][2]float32{{90, 10}, {90, 10}, {60, 8}, {60, 9}}}
		av.Colliders = []scene.SpringCollider{{Node: n("head"), Radius: 0.1, Groups: []string{"skull"}}, {Node: n("spine"), Radius: 0.2, Tail: &[3]float32{0, 0.3, 0}, Groups: []string{"skull", "body"}}}
		av.Springs = []scene.Spring{{Name: "scarf", Center: scene.None, Groups: []string{"skull"}, Joints: []scene.SpringJoint{{Node: n("spine"), Radius: 0.02, Stiffness: 2, GravityPower: 0.5, GravityDir: [3]float32{0, -1, 0}, Drag: 0.25}, {Node: n("head"), Stiffness: 1, Drag: 0.5}}}}
		want.Materials[0].Toon = &scene.Toon{ShadeColour: [3]float32{0.5, 0.25, 0.5}, ShadingShift: -0.25, ShadingToony: 0.75, GIEqualisation: 0.5, RimFresnel: 2, OutlineMode: "worldCoordinates", OutlineWidth: 0.005}
		b, notes, err := gltf.WriteVRM(want, "")
		if err != nil || len(notes) != 0 {
			t.Fatalf("%v %v", notes, err)
		}
		got, err := read(b)
		if err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(want.Avatar, got.Avatar) {
			t.Errorf("%s: the avatar differs", a.ID)
		}
		if !reflect.DeepEqual(want.Materials, got.Materials) || !reflect.DeepEqual(want.Meshes, got.Meshes) {
			t.Errorf("%s: materials or meshes differ", a.ID)
		}
		file := filepath.Join(t.TempDir(), a.ID+".vrm")
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		args = append(args, file)
		// Turned about and back it is the same avatar; without its spine it is none.
		turned, err := got.InBasis(geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01})
		if err != nil {
			t.Fatal(err)
		}
		if r := turned.Avatar.Colliders[1]; math.Abs(float64(r.Radius)-20) > 1e-4 || math.Abs(float64(r.Tail[2])-30) > 1e-4 {
			t.Errorf("in hundredths, z up: %+v", r)
		}
		if _, notes, err = gltf.WriteVRM(turned, ""); err != nil || len(notes) != 1 {
			t.Errorf("%v %v", notes, err)
		}
		delete(got.Avatar.Bones, "spine")
		if _, _, err = gltf.WriteVRM(got, ""); err == nil || !strings.Contains(err.Error(), "spine") {
			t.Errorf("without a spine: %v", err)
		}
		// A skeleton whose bones bear the standard's names becomes an avatar.
		got.Avatar = nil
		if _, _, err = gltf.WriteVRM(got, ""); err != nil && !strings.Contains(err.Error(), "needs the bones") {
			t.Error(err)
		}
	}
	if out, err := exec.Command("node", args...).CombinedOutput(); err != nil || strings.Count(string(out), `"Errors":0,"Warnings":0`) != len(demo.Avatars) {
		t.Errorf("the standard's validator says: %v %s", err, out)
	}
}

const vrm0 = `{"asset":{"version":"2.0"},"extensionsUsed":["VRM"],"scenes":[{"nodes":[0]}],
"nodes":[{"name":"hips","children":[1,3]},{"name":"plait","children":[2]},{"name":"plait end"},{"name":"face","mesh":0}],
"meshes":[{"primitives":[{"attributes":{"POSITION":0},"material":0,"targets":[{"POSITION":1}]}]}],"materials":[{"name":"skin"}],
"accessors":[{"componentType":5126,"count":3,"type":"VEC3"},{"componentType":5126,"count":3,"type":"VEC3"}],
"extensions":{"VRM":{"meta":{"title":"Wren","author":"reed weaver","licenseName":"CC_BY","allowedUserName":"Everyone","commercialUssageName":"Allow"},
"humanoid":{"humanBones":[{"bone":"hips","node":0},{"bone":"leftThumbProximal","node":1},{"bone":"jaw","node":77}]},
"firstPerson":{"firstPersonBoneOffset":{"x":0,"y":0.1,"z":0.2},"lookAtTypeName":"BlendShape","lookAtVerticalUp":{"xRange":60,"yRange":7}},
"blendShapeMaster":{"blendShapeGroups":[{"name":"Joy","presetName":"joy","binds":[{"mesh":0,"index":0,"weight":50},{"mesh":0,"index":9,"weight":100}],"materialValues":[{"materialName":"skin","propertyName":"_Color","targetValue":[1,0,0,1]}]}]},
"secondaryAnimation":{"boneGroups":[{"comment":"hair","stiffiness":0.8,"gravityDir":{"x":0,"y":-1,"z":0},"dragForce":0.4,"hitRadius":0.02,"center":-1,"bones":[1],"colliderGroups":[0]}],"colliderGroups":[{"node":0,"colliders":[{"offset":{"x":1,"y":2,"z":3},"radius":0.5}]}]},
"materialProperties":[{"name":"skin","shader":"VRM/MToon","floatProperties":{"_ShadeShift":0,"_ShadeToony":0.9,"_OutlineWidthMode":1,"_OutlineWidth":0.5},"vectorProperties":{"_ShadeColor":[1,0,0,1]},"textureProperties":{}}]}}}`

func TestOldAvatars(t *testing.T) {
	s, err := read(glb(vrm0, nil))
	if err != nil {
		t.Fatal(err)
	}
	a := s.Avatar
	if s.Basis.Front != -geom.PlusZ || s.Name != "Wren" || s.Terms.Owner != "reed weaver" || a.Meta.CommercialUse != "corporation" || !a.Meta.Redistribution {
		t.Errorf("%v %q %+v", s.Basis, s.Name, a.Meta)
	}
	if !reflect.DeepEqual(a.Bones, map[string]int{"hips": 0, "leftThumbMetacarpal": 1}) {
		t.Errorf("bones %v", a.Bones)
	}
	e := a.Expressions
	if len(e) != 1 || e[0].Name != "happy" || !e[0].Preset || len(e[0].Morphs) != 1 || e[0].Morphs[0] != (scene.ExpressionMorph{Node: 3, Index: 0, Weight: 0.5}) || len(e[0].Colours) != 1 {
		t.Errorf("expressions %+v", e)
	}
	if l := a.LookAt; l.Type != "expression" || l.Offset != [3]float32{0, 0.1, -0.2} || l.Ranges[3] != [2]float32{60, 7} {
		t.Errorf("look at %+v", l)
	}
	if c := a.Colliders; len(c) != 1 || c[0].Offset != [3]float32{1, 2, -3} {
		t.Errorf("colliders %+v", c)
	}
	if sp := a.Springs; len(sp) != 1 || len(sp[0].Joints) != 2 || sp[0].Joints[1].Node != 2 || sp[0].Center != scene.None {
		t.Errorf("springs %+v", sp)
	}
	if k := s.Materials[0].Toon; k == nil || math.Abs(float64(k.ShadingToony)-0.95) > 1e-6 || math.Abs(float64(k.ShadingShift)+0.05) > 1e-6 || k.OutlineWidth != 0.005 || k.ShadeColour != [3]float32{1, 0, 0} {
		t.Errorf("toon %+v", k)
	}
	notes := fmt.Sprint(s.Notes)
	for _, want := range []string{"a humanoid bone names a node that is not there", "an expression names a morph target that is not there"} {
		if !strings.Contains(notes, want) {
			t.Errorf("no note that %s: %s", want, notes)
		}
	}
	for _, bad := range []string{`"humanBones":[{"bone":7}]`, `"humanBones":{}`} {
		doc := strings.Replace(vrm0, `"humanBones":[{"bone":"hips","node":0},{"bone":"leftThumbProximal","node":1},{"bone":"jaw","node":77}]`, bad, 1)
		if _, err := read(glb(doc, nil)); err == nil || format.Place(err) != "extensions.VRM" {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// A grey that reflects as a dielectric does stays as it is; a coloured
// reflection without a diffuse colour is a metal of that colour.
func TestSpecularAndGlossiness(t *testing.T) {
	uri := func(c color.NRGBA) string {
		img := image.NewNRGBA(image.Rect(0, 0, 2, 2))
		for i := range 4 {
			img.SetNRGBA(i%2, i/2, c)
		}
		var b bytes.Buffer
		if err := png.Encode(&b, img); err != nil {
			t.Fatal(err)
		}
		return "data:image/png;base64," + base64.StdEncoding.EncodeToString(b.Bytes())
	}
	doc := `{"asset":{"version":"2.0"},"images":[{"uri":"` + uri(color.NRGBA{0, 0, 0, 255}) + `"},{"uri":"` + uri(color.NRGBA{255, 188, 0, 51}) + `"}],"textures":[{"source":0},{"source":1}],"materials":[
	{"extensions":{"KHR_materials_pbrSpecularGlossiness":{"diffuseFactor":[0.5,0.5,0.5,1],"specularFactor":[0.04,0.04,0.04],"glossinessFactor":0.25}}},
	{"extensions":{"KHR_materials_pbrSpecularGlossiness":{"diffuseFactor":[0,0,0,1],"specularFactor":[1,0.5,0]}}},
	{"extensions":{"KHR_materials_pbrSpecularGlossiness":{"diffuseTexture":{"index":0},"specularGlossinessTexture":{"index":1}}}}]}`
	s, err := read(glb(doc, nil))
	if err != nil {
		t.Fatal(err)
	}
	near := func(a, b float32) bool { return math.Abs(float64(a-b)) < 0.02 }
	if m := s.Materials[0]; !near(m.BaseColour[0], 0.5) || !near(m.Metallic, 0) || m.Roughness != 0.75 {
		t.Errorf("%+v", m)
	}
	if m := s.Materials[1]; !near(m.BaseColour[0], 1) || !near(m.BaseColour[1], 0.5) || !near(m.Metallic, 1) || m.Roughness != 0 {
		t.Errorf("%+v", m)
	}
	m := s.Materials[2]
	if len(m.Textures) != 2 || len(s.Pictures) != 4 {
		t.Fatalf("%+v", m)
	}
	at := func(role scene.Role) color.NRGBA {
		img, err := png.Decode(bytes.NewReader(s.Pictures[m.Texture(role).Picture].Data))
		if err != nil {
			t.Fatal(err)
		}
		return color.NRGBAModel.Convert(img.At(1, 1)).(color.NRGBA)
	}
	if c, r := at(scene.RoleColour), at(scene.RoleMetalRgh); c != (color.NRGBA{255, 188, 0, 255}) || r.G != 204 || r.B < 250 {
		t.Errorf("colour %v, metal and roughness %v", c, r)
	}
}

func TestVariantsAndScenes(t *testing.T) {
	doc := `{"asset":{"version":"2.0"},"scene":1,"scenes":[{"name":"low","nodes":[0]},{"name":"high","nodes":[1]}],"nodes":[{"name":"a","mesh":0},{"name":"b","mesh":0,"weights":[0.5]}],
	"materials":[{"name":"oak"},{"name":"tarred"}],"meshes":[{"primitives":[{"attributes":{"POSITION":0},"material":0,"targets":[{"POSITION":0}],"extensions":{"KHR_materials_variants":{"mappings":[{"material":1,"variants":[1]}]}}},{"attributes":{"POSITION":0},"mode":2,"targets":[{"POSITION":0}]}]}],
	"accessors":[{"componentType":5126,"count":3,"type":"VEC3"}],"extensions":{"KHR_materials_variants":{"variants":[{"name":"new"},{"name":"old"}]}}}`
	with := func(readings map[string]string) *scene.Scene {
		t.Helper()
		s, err := gltf.Read(context.Background(), format.File{Name: "x.glb", Data: glb(doc, nil), Readings: readings})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := with(nil)
	if len(s.Choices) != 2 || s.Choices[0].Chosen != "as the file shows it" || s.Choices[1].Chosen != "high" || s.Nodes[0].Name != "b" || s.Meshes[0].Parts[0].Material != 0 {
		t.Errorf("%+v", s.Choices)
	}
	if p := s.Meshes[0].Parts; p[0].Morphs[0].Weight != 0.5 || fmt.Sprint(p[1].Lines) != "[0 1 1 2 2 0]" {
		t.Errorf("the node's weights, or its loop of lines: %+v", p)
	}
	s = with(map[string]string{"variant": "old", "scene": "low"})
	if s.Nodes[0].Name != "a" || s.Meshes[0].Parts[0].Material != 1 || s.Choices[0].Chosen != "old" {
		t.Errorf("%+v", s.Choices)
	}
	b, _, err := gltf.Write(with(nil), gltf.Options{})
	if err != nil {
		t.Fatal(err)
	}
	again, err := read(b)
	if err != nil || again.Stats().Lines != 3 {
		t.Fatalf("written and read again: %v", err)
	}
	if p := again.Meshes[0].Parts; fmt.Sprint(again.Variants) != "[new old]" || fmt.Sprint(p[0].Looks()) != "[0 -1 1]" || p[1].Variants != nil {
		t.Errorf("the variants %q of %v and %v", again.Variants, p[0].Looks(), p[1].Variants)
	}
	for _, bad := range []string{`"variants":[2]`, `"variants":[-1]`} {
		b := glb(strings.Replace(doc, `"variants":[1]`, bad, 1), nil)
		if _, err := gltf.Read(context.Background(), format.File{Name: "x.glb", Data: b}); err == nil || !strings.Contains(err.Error(), "mappings[0]: variant ") {
			t.Errorf("%s: %v", bad, err)
		}
	}
}
