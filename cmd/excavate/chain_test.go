package main

import (
	"archive/zip"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/find"
)

// unpacked is the folder of the village with its chain in it.
func unpacked(t *testing.T) string {
	t.Helper()
	lib, dir := demoData(t), t.TempDir()
	z, err := zip.OpenReader(filepath.Join(lib, "village.zip"))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	for _, f := range z.File {
		b, err := readZipped(f)
		if err != nil {
			t.Fatal(err)
		}
		put(t, dir, map[string]string{f.Name: string(b)})
	}
	doc, err := os.ReadFile(filepath.Join(lib, "village.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, map[string]string{"village.yaml": string(doc)})
	return dir
}

// The village's chain, from the command line: pictures are taken from beside
// the chain, and the delivery says whose they are.
func TestChainFromBeside(t *testing.T) {
	dir := unpacked(t)
	_, said, status := run(t, dir, "", "convert", "stilt_village.glb", "--chain", "village.yaml", "-o", "out.zip")
	if status != 0 || !strings.Contains(said, "1 cutout; 1 blend") || !strings.Contains(said, "150 colliders made (box)") {
		t.Fatalf("%d: %s", status, said)
	}
	z, err := zip.OpenReader(filepath.Join(dir, "out.zip"))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	var manifest struct {
		Origins []find.Origin `json:"sources"`
	}
	for _, f := range z.File {
		if f.Name == "manifest.json" {
			b, err := readZipped(f)
			if err != nil {
				t.Fatal(err)
			}
			if err := json.Unmarshal(b, &manifest); err != nil {
				t.Fatal(err)
			}
		}
	}
	reed := false
	for _, o := range manifest.Origins {
		for _, e := range o.Entries {
			reed = reed || e == "reed_o.png"
		}
	}
	if !reed {
		t.Errorf("the opacity came from reed_o.png: %+v", manifest.Origins)
	}
	// Another asset, brought in from another folder; one that is not there.
	put(t, dir, map[string]string{"deep/two.yaml": "chain: two\nsteps:\n  - step: bring-in\n    with: {from: ../stilt_village.glb, at: [200, 0, 0]}\n",
		"deep/none.yaml": "chain: none\nsteps:\n  - step: bring-in\n    with: {from: ../hamlet.glb}\n"})
	_, said, status = run(t, dir, "", "convert", "stilt_village.glb", "--chain", "deep/two.yaml", "-o", "two.glb")
	if status != 0 || !strings.Contains(said, "400 nodes, 3700 triangles") {
		t.Fatalf("%d: %s", status, said)
	}
	if x := lines[find.Inspection](t, must(t, "inspect", "--json", filepath.Join(dir, "two.glb")))[0]; x.Triangles != 7400 || len(x.Materials) != 7 || len(x.Pictures) != 4 {
		t.Errorf("%d triangles, %d materials, %d pictures", x.Triangles, len(x.Materials), len(x.Pictures))
	}
	if _, said, status = run(t, dir, "", "convert", "stilt_village.glb", "--chain", "deep/none.yaml", "-o", "none.glb"); status == 0 || !strings.Contains(said, "hamlet.glb") {
		t.Errorf("%d: %s", status, said)
	}
}

// A chain over a folder ends with what it did to all, and to which something else.
func TestChainOverAFolder(t *testing.T) {
	dir := unpacked(t)
	b, err := os.ReadFile(filepath.Join(dir, "stilt_village.glb"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"a", "b", "c", "d"} {
		put(t, dir, map[string]string{"in/" + name + ".glb": string(b)})
	}
	put(t, dir, map[string]string{"tools.yaml": "chain: t\nsteps:\n  - step: strip\n    with: {where: {material: \"tool_*\"}}\n",
		"spoiled.yaml": "chain: s\nsteps:\n  - step: tangents\n    with: {all: true}\n  - step: weld\n"})
	if _, said, status := run(t, dir, "", "convert", "stilt_village.glb", "--chain", "tools.yaml", "-o", "in/odd.glb"); status != 0 {
		t.Fatal(said)
	}
	_, said, status := run(t, dir, "", "convert", "in", "--chain", "tools.yaml", "-o", "out", "--to", "glb")
	if status != 0 || !strings.Contains(said, "1 Strip  4     1     0     0       -29%") || !strings.Contains(said, "odd.glb, Strip: +0% here, -29% elsewhere") {
		t.Errorf("%d: %s", status, said)
	}
	if _, said, _ := run(t, dir, "", "convert", "stilt_village.glb", "--chain", "spoiled.yaml", "-o", "s.glb"); !strings.Contains(said, "step 1 (tangents) belongs behind step 2 (weld)") {
		t.Error(said)
	}
}

func readZipped(f *zip.File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// A list of models becomes one, from the command line.
func TestAssemble(t *testing.T) {
	dir := unpacked(t)
	put(t, dir, map[string]string{"lists/two.yaml": "assembly: two villages\nentries:\n  - from: ../stilt_village.glb\n  - {from: ../stilt_village.glb, at: [0, 0, 100], name: the other}\n",
		"lists/self.yaml": "assembly: ring\nentries:\n  - from: self.yaml\n"})
	if _, said, status := run(t, dir, "", "assemble", "lists/two.yaml", "-o", "two.glb"); status != 0 {
		t.Fatal(said)
	}
	x := lines[find.Inspection](t, must(t, "inspect", "--json", filepath.Join(dir, "two.glb")))[0]
	if x.Triangles != 7400 || x.Meshes != 9 || len(x.Materials) != 7 || len(x.Pictures) != 4 {
		t.Errorf("%d triangles, %d meshes, %d materials, %d pictures",
			x.Triangles, x.Meshes, len(x.Materials), len(x.Pictures))
	}
	if _, said, status := run(t, dir, "", "assemble", "village.yaml", "-o", "no.glb"); status == 0 || !strings.Contains(said, "is no assembly") {
		t.Errorf("%d: %s", status, said)
	}
	if _, said, status := run(t, dir, "", "assemble", "lists/self.yaml", "-o", "self.glb"); status == 0 || !strings.Contains(said, "names itself") && !strings.Contains(said, "does one name itself") {
		t.Errorf("%d: %s", status, said)
	}
	// What is not the user's own list stays within its folder.
	if _, said, status := run(t, dir, "", "convert", "lists/two.yaml", "-o", "out/no.glb"); status == 0 {
		t.Errorf("a list led out of its folder: %s", said)
	}
}
