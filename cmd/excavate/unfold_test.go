package main

import (
	"bytes"
	"encoding/json"
	"image"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// cubeOBJ is a cube of one unit.
const cubeOBJ = `v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
v 0 0 1
v 1 0 1
v 1 1 1
v 0 1 1
f 4 3 2 1
f 5 6 7 8
f 1 2 6 5
f 3 4 8 7
f 2 3 7 6
f 1 5 8 4
`

func TestUnfold(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"cube.obj": cubeOBJ, "dot.obj": "v 0 0 0\np 1\n"})
	out, said, status := run(t, dir, "", "unfold", "cube.obj", "-o", "cube.pdf", "--height", "60mm", "--paper", "a4")
	if status != 0 || !strings.HasPrefix(out,
		"1 page, 1 piece, about 0.1 hours\n60 × 60 × 60 mm; 6 facets of 12 triangles, 5 folds, 7 edges to glue") {
		t.Fatalf("%d: %s%s", status, out, said)
	}
	if out, said, status = run(t, dir, "", "unfold", "cube.obj", "-o", "cube.svg", "--height", "6cm"); status != 0 {
		t.Fatalf("%s%s", out, said)
	}

	// What others make of it: a well-formed document, and a page of A4 with a cube
	// of 60 mm and a ruler of 50.
	if b, err := exec.Command("xmllint", "--noout", filepath.Join(dir, "cube.svg")).CombinedOutput(); err != nil {
		t.Errorf("xmllint: %s", b)
	}
	info, err := exec.Command("pdfinfo", filepath.Join(dir, "cube.pdf")).CombinedOutput()
	if err != nil || !bytes.Contains(info, []byte("595.28 x 841.89 pts (A4)")) ||
		!bytes.Contains(info, []byte("Pages:           1")) {
		t.Errorf("pdfinfo: %v\n%s", err, info)
	}
	text, err := exec.Command("pdftotext", filepath.Join(dir, "cube.pdf"), "-").Output()
	if err != nil || !bytes.Contains(text, []byte("cube, page 1 of 1, 60 mm tall")) {
		t.Errorf("pdftotext: %v\n%s", err, text)
	}
	const dpi = 254 // ten dots a millimetre
	if b, err := exec.Command("pdftoppm", "-r", "254", "-png", "-singlefile", filepath.Join(dir, "cube.pdf"),
		filepath.Join(dir, "page")).CombinedOutput(); err != nil {
		t.Fatalf("pdftoppm: %s", b)
	}
	f, err := os.Open(filepath.Join(dir, "page.png"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	img, err := png.Decode(f)
	if err != nil {
		t.Fatal(err)
	}
	if w := img.Bounds().Dx(); math.Abs(float64(w)-2100) > 2 {
		t.Errorf("the page is %d dots wide", w)
	}
	if n := longest(img, 2650, 2969); math.Abs(float64(n)-500) > 4 {
		t.Errorf("the ruler is %d dots long, want 500 (%d dpi)", n, dpi)
	}
	// Every line of the cube is 60 mm long: one unit is 1 mm.
	svg, err := os.ReadFile(filepath.Join(dir, "cube.svg"))
	if err != nil {
		t.Fatal(err)
	}
	lines := regexp.MustCompile(`<line class="(?:cut|mountain)" data-edge.* x1="(.*)" y1="(.*)" x2="(.*)" y2="(.*)"/>`).FindAllSubmatch(svg, -1)
	for _, l := range lines {
		var v [4]float64
		for k := range v {
			if v[k], err = strconv.ParseFloat(string(l[k+1]), 64); err != nil {
				t.Fatal(err)
			}
		}
		if d := math.Hypot(v[2]-v[0], v[3]-v[1]); math.Abs(d-60) > 0.01 {
			t.Errorf("a line of %g mm", d)
		}
	}
	if len(lines) != 5+14 {
		t.Errorf("%d lines", len(lines))
	}

	out, said, status = run(t, dir, "", "unfold", "cube.obj", "--height", "2.5in", "--tabs", "0", "--json")
	var told struct {
		Pages, Pieces, Folds, Cuts int
		Height                     float64
		Notes                      []string
	}
	if err := json.Unmarshal([]byte(out), &told); status != 0 || err != nil || told.Pieces != 1 ||
		told.Cuts != 7 || told.Height != 63.5 || told.Notes == nil {
		t.Errorf("%v: %s%s", err, out, said)
	}

	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"cube.obj", "-o", "cube.pdf"}, "cube.pdf: it is there already and is kept"},
		{[]string{"cube.obj", "-o", "cube.png"}, "paper is written as .pdf or .svg"},
		{[]string{"cube.obj", "--height", "tall"}, `--height "tall": write a length such as 60mm`},
		{[]string{"cube.obj", "--height", "0"}, "it is above 0"},
		{[]string{"cube.obj", "--height", "9m"}, "a height of 9000 mm"},
		{[]string{"cube.obj", "--paper", "a9"}, `--paper "a9": there are a4, a3, letter`},
		{[]string{"cube.obj", "--margin", "10cm"}, "leave"},
		{[]string{"dot.obj"}, "there is nothing to unfold"},
		{[]string{"none.obj"}, "none.obj"},
	} {
		if _, said, status := run(t, dir, "", append([]string{"unfold"}, c.args...)...); status == 0 ||
			!strings.Contains(said, c.want) {
			t.Errorf("%v: %d, %q", c.args, status, said)
		}
	}
}

// longest is the longest run of dark dots along a row between two rows.
func longest(img image.Image, from, to int) (most int) {
	for y := from; y < min(to, img.Bounds().Dy()); y++ {
		n := 0
		for x := range img.Bounds().Dx() {
			if r, g, b, _ := img.At(x, y).RGBA(); r+g+b < 3*0x9000 {
				if n++; n > most {
					most = n
				}
			} else {
				n = 0
			}
		}
	}
	return most
}
