package main

import (
	"bytes"
	"fmt"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A cube of one metre in blocks of a quarter: 64 of them, in four layers.
func TestBlocks(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"cube.obj": cubeOBJ,
		"cubes.yaml": "chain: cubes\nsteps:\n  - {step: voxelise, with: {size: 0.25}}\n  - {step: palette, with: {colours: [\"plank #8d7350\"]}}\n",
		"plain.yaml": "chain: plain\nsteps: []\n"})
	for _, out := range []string{"cube.pdf", "cube.txt", "cube.json", "cube.png"} {
		told, said, status := run(t, dir, "", "blocks", "cube.obj", "--chain", "cubes.yaml", "-o", out)
		if status != 0 || !strings.HasPrefix(told, "64 blocks of 1 kinds, 4 across, 4 deep, 4 high\nA      64  plank\n") {
			t.Fatalf("%s: %d, %s%s", out, status, told, said)
		}
	}
	text, err := os.ReadFile(filepath.Join(dir, "cube.txt"))
	if err != nil || strings.Count(string(text), "\nAAAA") != 16 ||
		!strings.Contains(string(text), "kind A #8d7350 64 plank\nlayer 1\n") {
		t.Errorf("%v\n%s", err, text)
	}
	// What others read: five pages of A4, a layer each but for the first.
	info, err := exec.Command("pdfinfo", filepath.Join(dir, "cube.pdf")).CombinedOutput()
	if err != nil || !bytes.Contains(info, []byte("Pages:           5")) || !bytes.Contains(info, []byte("(A4)")) {
		t.Errorf("%v\n%s", err, info)
	}
	if words, err := exec.Command("pdftotext", "-f", "3", "-l", "3", filepath.Join(dir, "cube.pdf"),
		"-").Output(); err != nil ||
		!bytes.Contains(words, []byte("Layer 2 of 4")) || !bytes.Contains(words, []byte("plank")) {
		t.Errorf("%v\n%s", err, words)
	}
	if list, _ := filepath.Glob(filepath.Join(dir, "cube_00*.png")); len(list) != 4 {
		t.Errorf("%v", list)
	}
	for want, args := range map[string][]string{
		"nothing of it has voxels":             {"cube.obj", "--chain", "plain.yaml", "-o", "x.pdf"},
		"written as .pdf, .png, .txt or .json": {"cube.obj", "--chain", "cubes.yaml", "-o", "x.glb"},
		"--cell 2: from 3 to 64":               {"cube.obj", "--chain", "cubes.yaml", "-o", "x.png", "--cell", "2"},
		"cube.pdf: it is there already":        {"cube.obj", "--chain", "plain2.yaml", "-o", "cube.pdf"},
		`required flag(s) "chain" not set`:     {"cube.obj", "-o", "x.pdf"},
	} {
		if strings.Contains(want, "already") {
			args[2] = "cubes.yaml"
			put(t, dir, map[string]string{"cube.pdf": "another"})
		}
		if _, said, status := run(t, dir, "", append([]string{"blocks"}, args...)...); status == 0 ||
			!strings.Contains(said, want) {
			t.Errorf("%v: %d, %q", args, status, said)
		}
	}
}

// Four views stand in one picture; shading changes what is drawn.
func TestRenderViews(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"cube.obj": cubeOBJ})
	size := func(name string, args ...string) string {
		if out, said, status := run(t, dir, "",
			append([]string{"render", "cube.obj", "-o", name, "--size", "100x80"}, args...)...); status != 0 {
			t.Fatalf("%s%s", out, said)
		}
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		c, err := png.DecodeConfig(bytes.NewReader(b))
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprintf("%dx%d", c.Width, c.Height)
	}
	if a, b, c := size("one.png"), size("four.png", "--views", "4"), size("lit.png", "--shade"); a != "100x80" ||
		b != "200x160" || c != "100x80" {
		t.Errorf("%s, %s, %s", a, b, c)
	}
	one, _ := os.ReadFile(filepath.Join(dir, "one.png"))
	if lit, _ := os.ReadFile(filepath.Join(dir, "lit.png")); bytes.Equal(one, lit) {
		t.Error("shading changes nothing")
	}
	if _, said, status := run(t, dir, "", "render", "cube.obj", "-o", "x.png", "--views", "65"); status == 0 ||
		!strings.Contains(said, "--views 65: from 1 to 64") {
		t.Errorf("%d, %s", status, said)
	}
}
