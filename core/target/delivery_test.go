package target

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/source"
)

// A delivery holds the asset, its chain and a manifest that names what it is
// made of; the same twice gives the same bytes.
func TestDeliveries(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"wood.png": "not looked at", "licence.txt": "CC0-1.0"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	src, err := source.Open(context.Background(), dir, source.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer src.Close()
	src.Label = "boats"
	doc, err := chain.Parse([]byte("chain: crate to engine\nsteps:\n- step: strip\n- step: ground\n"))
	if err != nil {
		t.Fatal(err)
	}
	s := crate()
	s.Name, s.Basis = "crate / of oak", geom.GLTF
	s.Nodes[0].Name, s.Terms = "root", scene.Terms{Owner: "Sedgewater Lantern Company", Licence: "CC0-1.0"}
	s.Pictures = []scene.Picture{{Name: "wood.png", Ref: "wood.png", Found: "boats: wood.png"}}
	s.Notes = []scene.Note{{Text: "2 lights left out", Loss: true}}
	var origins find.Origins
	origins.Add(source.Hit{Source: src, Entry: src.Lookup("wood.png")})
	make := func() ([]byte, Manifest) {
		glb, notes, err := Deliver(s, nil, "9.9")
		if err != nil {
			t.Fatal(err)
		}
		m := NewManifest(FileName(s.Name, ".glb"), glb, s, doc, origins.List("crate.hull", nil), notes, "9.9")
		z, err := Package(m, glb)
		if err != nil {
			t.Fatal(err)
		}
		return z, m
	}
	z, m := make()
	if again, _ := make(); !bytes.Equal(z, again) {
		t.Error("the same delivery has other bytes")
	}
	if m.File != "crate___of_oak.glb" || len(m.SHA256) != 64 || len(m.Sources) != 1 || m.Sources[0].Name != "boats" || fmt.Sprint(m.Sources[0].Entries) != "[wood.png]" || m.Terms == nil || m.Terms.Owner != "Sedgewater Lantern Company" || m.Sources[0].Rights.Licence != "CC0-1.0" || m.Versions["strip"] == 0 || m.Versions["ground"] == 0 || m.Notes[0] != "2 lights left out" {
		t.Errorf("%+v", m)
	}
	r, err := zip.NewReader(bytes.NewReader(z), int64(len(z)))
	if err != nil {
		t.Fatal(err)
	}
	files := map[string][]byte{}
	for _, f := range r.File {
		if !f.Modified.IsZero() && f.Modified.Year() > 1980 {
			t.Errorf("%s has a time: %v", f.Name, f.Modified)
		}
		o, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		files[f.Name], err = io.ReadAll(o)
		if err != nil {
			t.Fatal(err)
		}
	}
	got, err := gltf.Read(context.Background(), format.File{Data: files[m.File]})
	if err != nil || got.Stats().Triangles != s.Stats().Triangles {
		t.Errorf("%v", err)
	}
	var read Manifest
	if err := json.Unmarshal(files["manifest.json"], &read); err != nil || read.SHA256 != m.SHA256 || read.Excavate != "9.9" {
		t.Errorf("%+v, %v", read, err)
	}
	if back, err := chain.Parse(files["chain.yaml"]); err != nil || len(back.Steps) != 2 || back.Steps[1].Step != "ground" {
		t.Errorf("%+v, %v", back, err)
	}
}

// What one would see is said in words, for every way in which bases differ.
func TestDifferencesInWords(t *testing.T) {
	want := geom.GLTF
	for _, c := range []struct {
		have geom.Basis
		want string
	}{
		{geom.Basis{Up: geom.PlusZ, Front: geom.PlusY, Handed: geom.Right, MetresPerUnit: 1}, "lie on its side"},
		{geom.Basis{Up: geom.PlusY, Front: -geom.PlusZ, Handed: geom.Right, MetresPerUnit: 1}, "face the wrong way"},
		{geom.Basis{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Left, MetresPerUnit: 1}, "be mirrored"},
		{geom.Basis{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Right, MetresPerUnit: 0.01}, "be 100 times too large"},
		{geom.Basis{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Right, MetresPerUnit: 4}, "be 4 times too small"},
		{geom.Basis{Up: geom.PlusZ, Front: geom.PlusX, Handed: geom.Left, MetresPerUnit: 0.0254}, "lie on its side, be mirrored and be 39.37 times too large"},
		{want, "be turned"},
	} {
		if got := differ(c.have, want); got != c.want {
			t.Errorf("%v: %q, want %q", c.have, got, c.want)
		}
	}
}

func TestSheetsInWords(t *testing.T) {
	lines := map[string]string{}
	for _, l := range sheet(t).Lines() {
		if l[0] == "" || l[1] == "" || lines[l[0]] != "" {
			t.Errorf("%q", l)
		}
		lines[l[0]] = l[1]
	}
	if !strings.Contains(lines["Basis"], "Y up") || lines["Unit"] != "metres" || lines["Format"] != "GLB" || !strings.Contains(lines["Size"], " m") {
		t.Errorf("%v", lines)
	}
	if got := few([]string{"a", "b"}); got != "a, b" {
		t.Error(got)
	}
	if got := few(strings.Split("abcdefghij", "")); got != "a, b, c, d, e, f and 4 more" {
		t.Error(got)
	}
}

// Parts that a skin moves need weights; a mesh needs to be there.
func TestWeightsAndMeshes(t *testing.T) {
	s := crate()
	s.Meshes[0].Parts = append(s.Meshes[0].Parts, scene.Part{Material: scene.None, Positions: make([]float32, 9), Triangles: []uint32{0, 1, 2}})
	if f := byRule(Rehearse(s, sheet(t)))["weights"]; f.Severity != Warns || f.Where != "crate" {
		t.Errorf("%+v", f)
	}
	none := &scene.Scene{Name: "nothing", Basis: geom.GLTF}
	list := Rehearse(none, sheet(t))
	if f := byRule(list)["size"]; f.Severity != Stops || f.Title != "There is no mesh" {
		t.Errorf("%+v", f)
	}
	stops, warns, holds := Count(list)
	if stops == 0 || stops+warns+holds != len(list) {
		t.Errorf("%d, %d and %d of %d", stops, warns, holds, len(list))
	}
}
