package blocks

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/color"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// stair is a volume of 2 × 3 × 2 voxels in glTF's axes: kind 1 (of the palette's
// three, of which the second is not used) lies on the ground, kind 3 at the
// asset's left front above it.
func stair(t *testing.T, basis geom.Basis) *scene.Scene {
	t.Helper()
	v := &scene.Volume{Size: 0.5,
		Palette: []scene.Swatch{{Name: "plank", Colour: [3]uint8{200, 100, 50}}, {Name: "reed"},
			{Colour: [3]uint8{9, 8, 7}}}}
	full := map[[3]int]uint16{}
	gltf := basis == geom.GLTF
	if gltf { // x to the left hand, y up, z to the front
		v.Dims = [3]int{2, 2, 3}
		for x := range 2 {
			for z := range 3 {
				full[[3]int{x, 0, z}] = 1
			}
		}
		full[[3]int{1, 1, 2}] = 3
	} else { // z up, front -y, right-handed: x is to the left hand still
		v.Dims = [3]int{2, 3, 2}
		for x := range 2 {
			for y := range 3 {
				full[[3]int{x, y, 0}] = 1
			}
		}
		full[[3]int{1, 0, 1}] = 3
	}
	const n = scene.VolumeBlock
	v.Index, v.Blocks = []uint32{1}, make([]uint16, n*n*n)
	for at, c := range full {
		v.Blocks[(at[2]*n+at[1])*n+at[0]] = c
	}
	m := scene.Mesh{Name: "stair", Volume: v}
	v.Faces = scene.Fingerprint(m.Parts)
	node := scene.NewNode("stair")
	node.Mesh = 0
	return &scene.Scene{Name: "weir  stair", Basis: basis, Nodes: []scene.Node{node}, Meshes: []scene.Mesh{m}}
}

var zUp = geom.Basis{Up: geom.PlusZ, Front: geom.MinusY, Handed: geom.Right, MetresPerUnit: 1}

// The same thing in other axes is the same build: who stands before it sees the
// asset's left hand to the right, and its front nearest.
func TestLayers(t *testing.T) {
	want := "blocks 1\nname weir stair\nsize 2 3 2\nblock 0.5\nkind A #c86432 6 plank\nkind B #090807 1 #090807\n" +
		"layer 1\nAA\nAA\nAA\nlayer 2\n..\n..\n.B\n"
	for _, basis := range []geom.Basis{geom.GLTF, zUp} {
		b, err := Of(stair(t, basis))
		if err != nil {
			t.Fatal(err)
		}
		if got := string(b.Text()); got != want {
			t.Errorf("%s:\n%s", basis, got)
		}
		if b.Total() != 7 || fmt.Sprint(b.Counts(0), b.Counts(1)) != "[6 0] [0 1]" {
			t.Errorf("%d, %v, %v", b.Total(), b.Counts(0), b.Counts(1))
		}
		data, err := b.JSON()
		if err != nil {
			t.Fatal(err)
		}
		var doc struct {
			Blocks int
			Size   []int
			Block  float64
			Kinds  []struct {
				Code, Name, Colour string
				Count              int
			}
			Layers [][]string
		}
		if err := json.Unmarshal(data, &doc); err != nil || doc.Blocks != 1 || doc.Block != 0.5 ||
			len(doc.Kinds) != 2 || doc.Kinds[0].Count != 6 ||
			fmt.Sprint(doc.Layers) != "[[AA AA AA] [.. .. .B]]" {
			t.Errorf("%v: %s", err, data)
		}
	}
}

func TestPictures(t *testing.T) {
	b, err := Of(stair(t, geom.GLTF))
	if err != nil {
		t.Fatal(err)
	}
	img, err := b.Picture(1, 8)
	if err != nil {
		t.Fatal(err)
	}
	if s := img.Bounds().Size(); s.X != 17 || s.Y != 25 {
		t.Errorf("%v", s)
	}
	for at, want := range map[[2]int]color.NRGBA{{12, 20}: {9, 8, 7, 255}, {4, 20}: {255, 255, 255, 255},
		{8, 20}: {190, 190, 190, 255}, {0, 20}: {70, 70, 70, 255}} {
		if got := img.NRGBAAt(at[0], at[1]); got != want {
			t.Errorf("%v is %v, want %v", at, got, want)
		}
	}
	a, err := b.PDF(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	again, _ := b.PDF(t.Context())
	if n := bytes.Count(a, []byte("/Type /Page\n")); n != 3 || !bytes.Equal(a, again) {
		t.Errorf("%d pages; the same bytes again: %v", n, bytes.Equal(a, again))
	}
}

// A build that is larger than a page is cut into sheets that hold every block
// once.
func TestSheets(t *testing.T) {
	for _, size := range [][3]int{{45, 52, 3}, {110, 130, 1}, {300, 20, 1}, {256, 512, 2}, {1, 1, 1}} {
		b := &Build{Size: size, Kinds: make([]Kind, 9)}
		seen := map[[2]int]int{}
		for _, s := range b.sheets() {
			if s.cell < leastCell || margin+4+float64(s.w)*s.cell > pageWidth || margin+head+float64(s.h)*s.cell > pageHeight {
				t.Errorf("%v: a sheet of %d × %d cells of %g mm", size, s.w, s.h, s.cell)
			}
			for x := range s.w {
				for y := range s.h {
					seen[[2]int{s.x + x, s.y + y}]++
				}
			}
		}
		if len(seen) != size[0]*size[1] {
			t.Errorf("%v: %d places", size, len(seen))
		}
		for at, n := range seen {
			if n != 1 || at[0] >= size[0] || at[1] >= size[1] {
				t.Fatalf("%v: %v stands on %d sheets", size, at, n)
			}
		}
	}
}

// What would be gigabytes of plans is refused in words; the forms for programs
// take it.
func TestTooLargeForPlans(t *testing.T) {
	b := &Build{Name: "mole", Size: [3]int{1000, 600, 1}, Kinds: []Kind{{Code: "A", Name: "stone", Count: 600_000}}, Cells: make([]uint16, 600_000)}
	for i := range b.Cells {
		b.Cells[i] = 1
	}
	if _, err := b.PDF(t.Context()); err == nil || !strings.Contains(err.Error(), "600000 blocks are too many for plans") {
		t.Errorf("%v", err)
	}
	if _, err := b.Picture(0, 17); err == nil || !strings.Contains(err.Error(), "17001 × 10201 pixels") {
		t.Errorf("%v", err)
	}
	if text := string(b.Text()); strings.Count(text, "A") != 600_000+1 {
		t.Errorf("%d", strings.Count(text, "A"))
	}
}

func TestCodes(t *testing.T) {
	for _, of := range []int{1, 62, 63, 3844, 4000} {
		seen := map[string]bool{}
		for i := range of {
			c := code(i, of)
			if seen[c] || strings.Contains(c, ".") || len(c) != len(code(0, of)) {
				t.Fatalf("kind %d of %d is %q", i, of, c)
			}
			seen[c] = true
		}
	}
}

func TestWhatIsNoBuild(t *testing.T) {
	none := stair(t, geom.GLTF)
	none.Meshes[0].Volume = nil
	two := stair(t, geom.GLTF)
	two.Meshes = append(two.Meshes, two.Meshes[0])
	huge := stair(t, geom.GLTF)
	huge.Meshes[0].Volume.Dims = [3]int{1024, 1024, 1024}
	for want, s := range map[string]*scene.Scene{"nothing of it has voxels": none,
		"several meshes have voxels": two, "at most 67108864 in all": huge} {
		if _, err := Of(s); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}
