package target

import (
	"context"
	"strings"
	"testing"

	"excavate/core/chain"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/targets"
)

func sheet(t *testing.T) *Sheet {
	t.Helper()
	all, err := Load(targets.FS)
	if err != nil {
		t.Fatal(err)
	}
	return all["gltf-engine"]
}

// crate is a box of one metre that breaks many rules.
func crate() *scene.Scene {
	s := &scene.Scene{Name: "crate", Basis: geom.Basis{Up: geom.PlusZ, Front: geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01}}
	root, bone, mesh, cam := scene.NewNode("top$1"), scene.NewNode("arm"), scene.NewNode("arm"), scene.NewNode("cam")
	bone.Parent = 0
	mesh.Mesh, mesh.Skin, cam.Camera = 0, 0, 0
	s.Nodes, s.Cameras = []scene.Node{root, bone, mesh, cam}, []scene.Camera{{FovY: 1, Near: 1}}
	ident := []float32{1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}
	s.Skins = []scene.Skin{{Joints: []int{0, 1}, Root: 0, InverseBind: append(append([]float32{}, ident...), ident...)}}
	p := scene.Part{Material: scene.None, Influences: 5, Positions: []float32{0, 0, 10, 100, 0, 10, 0, 100, 110}, Triangles: []uint32{0, 1, 2}, Joints: make([]uint16, 15), Weights: make([]float32, 15)}
	for i := range p.Weights {
		p.Weights[i] = 0.2
	}
	s.Meshes = []scene.Mesh{{Name: "crate", Parts: []scene.Part{p}}}
	s.Pictures = []scene.Picture{{Name: "wood.png", Ref: "wood.png"}, {Name: "big", Data: []byte{1}, Width: 8192, Height: 8192}}
	m := scene.NewMaterial("wood")
	m.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0}, {Role: scene.RoleEmission, Picture: 1}}
	s.Materials = []scene.Material{m}
	return s
}

// outcome is what one rule says of a scene by a sheet's text.
func outcome(t *testing.T, s *scene.Scene, text, rule string) Finding {
	t.Helper()
	return byRule(Rehearse(s, parsed(t, text)))[rule]
}

func byRule(f []Finding) map[string]Finding {
	out := map[string]Finding{}
	for _, x := range f {
		out[x.Rule] = x
	}
	return out
}

func TestFindingsAndTheirMends(t *testing.T) {
	s, sh := crate(), sheet(t)
	list := Rehearse(s, sh)
	got := byRule(list)
	for rule, want := range map[string]Severity{"basis": Stops, "size": Stops, "root bone": Stops, "pictures": Stops, "cameras": Warns, "lights": Holds, "ground": Warns, "joints per vertex": Warns, "names unique": Warns, "names": Warns, "picture size": Warns} {
		if got[rule].Severity != want {
			t.Errorf("%s: %q, want %q", rule, got[rule].Severity, want)
		}
	}
	for i := 1; i < len(list); i++ {
		if list[i-1].Severity == Holds && list[i].Severity != Holds {
			t.Error("findings do not come worst first")
		}
	}
	if !strings.Contains(got["basis"].Why, "100 times too large") || !strings.Contains(got["basis"].Why, "lie on its side") || strings.Contains(got["basis"].Why, "mirrored") {
		t.Errorf("basis: %s", got["basis"].Why)
	}
	// Mending all leaves only what no step can mend: a picture that is not
	// there, and one whose bytes are none.
	m, err := MendAll(context.Background(), "x", s, &chain.Chain{}, sh, false, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	left := map[string]bool{}
	for _, f := range m.Findings {
		if f.Severity != Holds {
			left[f.Rule] = true
		}
	}
	if len(left) != 2 || !left["pictures"] || !left["picture size"] {
		t.Errorf("after %d mends, left are %v", len(m.Chain.Steps), left)
	}
	if st := m.Chain.Steps[0]; st.Step != "strip" {
		t.Errorf("first of all comes %s", st.Step)
	}
	failed := 0
	for _, d := range m.Deeds {
		if d.Failed != "" {
			failed++
			if d.Rule != "picture size" {
				t.Errorf("%s: %s", d.Rule, d.Failed)
			}
		}
	}
	if failed != 1 {
		t.Errorf("%d mends failed", failed)
	}
}

func TestASourceThatDeclaresNothing(t *testing.T) {
	s := crate()
	s.Basis = geom.Basis{}
	f := byRule(Rehearse(s, sheet(t)))["basis"]
	if f.Severity != Warns || !strings.Contains(string(f.Mends[0].With), `"assume"`) {
		t.Errorf("%+v", f)
	}
}

func TestBadSheets(t *testing.T) {
	for text, want := range map[string]string{
		"target: x\nformat: foo\n":                             `[2:9]`,
		"format: glb\n":                                        "the key target is missing",
		"target: x\nformat: glb\nbasis: {up: +Q}\n":            "[3:13]",
		"target: x\nformat: glb\nnames: {pattern: \"(\"}\n":    "[3:18]",
		"target: x\nformat: glb\nsize: {least: 3, most: 1}\n":  "least is 3",
		"target: x\nformat: glb\nroot: y\n":                    "there is no parameter",
		"target: x\nformat: glb\nbasis: {up: +Y, front: +Y}\n": "state up",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}
