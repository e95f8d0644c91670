package appraise

import (
	"context"
	"fmt"
	"image"
	"math"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
	"excavate/internal/demo"
)

func keeper(t testing.TB) *scene.Scene {
	t.Helper()
	s, err := gltf.Read(context.Background(), format.File{Name: "ottilie.vrm", Data: demo.Avatars[0].VRM()})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestInventory(t *testing.T) {
	s := keeper(t)
	x := InventoryOf(s)
	st := s.Stats()
	bones, triangles, vertices := 0, 0, 0
	for _, n := range x.Nodes {
		if n.Kind == "bone" {
			bones++
		}
	}
	for _, m := range x.Meshes {
		for _, p := range m.Parts {
			triangles += p.Triangles
			vertices += p.Vertices
		}
	}
	if bones != st.Bones || triangles != st.Triangles || vertices != st.Vertices || len(x.Morphs) != 3 || len(x.Expressions) != 3 || len(x.Skins) == 0 {
		t.Errorf("%d bones, %d triangles, %d vertices, %d morphs, %+v",
			bones, triangles, vertices, len(x.Morphs), st)
	}
	weighted, human := 0, 0
	for _, b := range x.Skins[0].Bones {
		if b.Vertices > 0 {
			weighted++
		}
		if b.Human != "" {
			human++
		}
		if b.Depth > x.Skins[0].Depth {
			t.Errorf("%s is deeper than the skeleton", b.Name)
		}
	}
	if weighted < 5 || human < 15 || x.Skins[0].Depth < 4 {
		t.Errorf("%d bones have weights, %d are humanoid, depth %d", weighted, human, x.Skins[0].Depth)
	}
}

func TestUVSets(t *testing.T) {
	quad := func(uv ...float32) *scene.Part {
		return &scene.Part{Positions: make([]float32, 12), Triangles: []uint32{0, 1, 2, 0, 2, 3}, UVs: []scene.AttrSet{{Name: "surface", Data: uv}}}
	}
	if u := UVSetOf(quad(0, 0, 1, 0, 1, 1, 0, 1), 0); u.Covered != 1 || u.Overlap != 0 || u.Outside != 0 {
		t.Errorf("a whole square: %+v", u)
	}
	if u := UVSetOf(quad(0, 0, 0.5, 0, 0.5, 0.5, 0, 0.5), 0); u.Covered != 0.25 || u.Overlap != 0 {
		t.Errorf("a quarter: %+v", u)
	}
	if u := UVSetOf(quad(0, 0, 2, 0, 2, 1, 0, 1), 0); u.Outside != 1 || u.Overlap != 1 || u.Max != [2]float32{2, 1} {
		t.Errorf("twice over: %+v", u)
	}
	p := quad(0, 0, 1, 0, 1, 1, 0, 1)
	p.Triangles = append(p.Triangles, 0, 1, 2)
	if u := UVSetOf(p, 0); math.Abs(u.Overlap-0.5) > 0.01 {
		t.Errorf("one triangle twice: %+v", u)
	}
	if u := UVSetOf(quad(0, 0, 1e30, 0, 1, 1e30, 0, 1), 0); u.Covered > 1 {
		t.Errorf("without end: %+v", u)
	}
	img := DrawUVs(quad(0, 0, 1, 0, 1, 1, 0, 1), 0, image.NewNRGBA(image.Rect(0, 0, 2, 2)), 64)
	if c := img.NRGBAAt(32, 32); c.R != 0x1c || c.G != 0x67 {
		t.Errorf("the diagonal is not drawn: %v", c)
	}
}

// bumps is a normal map of random hills; up tells which way green points.
func bumps(up bool) *image.NRGBA {
	const n = 128
	img := image.NewNRGBA(image.Rect(0, 0, n, n))
	z := func(x, y float64) float64 {
		return 3*math.Sin(x/7)*math.Cos(y/9) + 2*math.Sin((x+2*y)/15)
	}
	for y := range n {
		for x := range n {
			zx, zy := z(float64(x)+0.5, float64(y))-z(float64(x)-0.5, float64(y)), z(float64(x), float64(y)+0.5)-z(float64(x), float64(y)-0.5)
			if up {
				zy = -zy
			}
			v := geom.Vec3{-zx, -zy, 1}.Norm()
			copy(img.Pix[img.PixOffset(x, y):], []byte{byte((v[0]+1)*127.5 + 0.5), byte((v[1]+1)*127.5 + 0.5), byte((v[2]+1)*127.5 + 0.5), 255})
		}
	}
	return img
}

func TestPicturesAreTold(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	draw := func(f func(x, y int) [4]byte) *image.NRGBA {
		img := image.NewNRGBA(image.Rect(0, 0, 64, 64))
		for y := range 64 {
			for x := range 64 {
				c := f(x, y)
				copy(img.Pix[img.PixOffset(x, y):], c[:])
			}
		}
		return img
	}
	wood := func(x, y int) [4]byte {
		k := 0.6 + 0.4*math.Sin(float64(x)/5+float64(y%16)/16) + 0.05*r.Float64()
		k = math.Max(0.1, math.Min(1, k))
		return [4]byte{byte(200 * k), byte(150 * k), byte(90 * k), 255}
	}
	for _, c := range []struct {
		name, expected string
		img            *image.NRGBA
		kind, notice   string
	}{
		{"wood", "colour", draw(wood), "colour", ""},
		{"wood with red and blue swapped", "colour", draw(func(x, y int) [4]byte { c := wood(x, y); return [4]byte{c[2], c[1], c[0], 255} }), "colour", "red and blue may be swapped"},
		{"leaf", "colour", draw(func(x, y int) [4]byte {
			c := wood(x, y)
			c[3] = byte((x / 8 % 2) * 255)
			return c
		}), "colour", "a cutout"},
		{"multiplied glass", "colour", draw(func(x, y int) [4]byte {
			c := wood(x, y)
			a := 4 * x
			return [4]byte{byte(int(c[0]) * a / 255), byte(int(c[1]) * a / 255), byte(int(c[2]) * a / 255), byte(a)}
		}), "colour", "multiplied by it already"},
		{"hidden", "colour", draw(func(x, y int) [4]byte { c := wood(x, y); c[3] = 0; return c }), "colour", "alpha is 0 everywhere"},
		{"height", "", draw(func(x, y int) [4]byte { v := byte(2*x + y); return [4]byte{v, v, v, 255} }), "mask", ""},
		{"stencil", "", draw(func(x, y int) [4]byte { v := byte((x / 8 % 2) * 255); return [4]byte{v, v, v, 255} }), "opacity", ""},
		{"three masks", "", draw(func(x, y int) [4]byte { return [4]byte{byte(r.Intn(256)), byte(4 * x), byte(4 * y), 255} }), "packed", ""},
		{"flat", "", draw(func(x, y int) [4]byte { return [4]byte{9, 9, 9, 255} }), "plain", ""},
		{"bumps as colour", "colour", bumps(true), "normal map", "looks like a normal map"},
		{"wood as a normal map", "normal", draw(wood), "colour", "looks like colour"},
	} {
		a := Appraise(c.img, c.expected)
		if a.Kind != c.kind || len(a.Evidence) == 0 || c.notice != "" && !strings.Contains(strings.Join(a.Notices, "; "), c.notice) {
			t.Errorf("%s: %s (%v), notices %v", c.name, a.Kind, a.Evidence, a.Notices)
		}
	}
	for _, up := range []bool{true, false} {
		if a := Appraise(bumps(up), "normal"); (a.Green == "up") != up {
			t.Errorf("green points %q, up is %v: %v", a.Green, up, a.Evidence)
		}
	}
	if a := Appraise(image.NewNRGBA(image.Rectangle{}), ""); a.Kind != "plain" {
		t.Errorf("%+v", a)
	}
}

func TestBasisEvidence(t *testing.T) {
	find := func(c []Clue, about string) string {
		for _, x := range c {
			if x.About == about {
				return x.Says
			}
		}
		return ""
	}
	s := keeper(t)
	if c := Basis(s); find(c, "up") != "Y" || find(c, "left") != "X" || find(c, "front") != "Z" || find(c, "unit") != "1" {
		t.Errorf("%+v", c)
	}
	turned, err := s.InBasis(geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Left, MetresPerUnit: 0.01})
	if err != nil {
		t.Fatal(err)
	}
	if c := Basis(turned); find(c, "up") != "Z" || find(c, "front") != "-Y" || find(c, "unit") != "0.01" {
		t.Errorf("%+v", c)
	}
	if c := Basis(&scene.Scene{}); len(c) != 0 {
		t.Errorf("of nothing: %v", c)
	}
}

func TestCompare(t *testing.T) {
	s := keeper(t)
	if c := Compare(s, s, 0); !c.Same || c.Surface.Most > 1e-9 || !strings.Contains(c.Verdict, "the same within") {
		t.Errorf("with itself: %+v %s", c.Surface, c.Verdict)
	}
	// In another basis it is the same thing.
	turned, err := s.InBasis(geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Left, MetresPerUnit: 0.01})
	if err != nil {
		t.Fatal(err)
	}
	if c := Compare(s, turned, 0); !c.Same {
		t.Errorf("turned: %+v %s", c.Surface, c.Verdict)
	}
	// Moved a little it is not, and the distance is what it was moved by.
	moved := *s
	moved.Nodes = append([]scene.Node{}, s.Nodes...)
	for i := range moved.Nodes {
		if moved.Nodes[i].Parent < 0 {
			moved.Nodes[i].Translation[1] += 0.5
		}
	}
	c := Compare(s, &moved, 0.01)
	if c.Same || c.Surface.Most < 0.4 || c.Surface.Most > 0.5+1e-6 || !strings.Contains(c.Verdict, "moved as a whole by") || c.Surface.Moved == nil || math.Abs(c.Surface.Moved[1]-0.5) > 1e-5 {
		t.Errorf("moved: %+v %s", c.Surface, c.Verdict)
	}
	bent := *s
	bent.Meshes = slices.Clone(s.Meshes)
	bent.Meshes[0].Parts = slices.Clone(s.Meshes[0].Parts)
	bent.Meshes[0].Parts[0].Positions = slices.Clone(s.Meshes[0].Parts[0].Positions)
	bent.Meshes[0].Parts[0].Positions[0] += 40 // centimetres
	if c := Compare(s, &bent, 0.01); c.Surface.Moved != nil || c.Surface.Most < 0.3 || !strings.Contains(c.Verdict, "not the same") {
		t.Errorf("bent: %+v %s", c.Surface, c.Verdict)
	}
	differ := 0
	for _, b := range c.Bones {
		if b.Differ {
			differ++
		}
	}
	if differ != s.Stats().Bones {
		t.Errorf("%d bones differ", differ)
	}
	far := Coloured(s, &moved, 0.01)
	if err := far.Validate(); err != nil || len(far.Meshes[0].Parts[0].Colours) != 1 {
		t.Errorf("%v", err)
	}
	if c := Compare(s, &scene.Scene{}, 0); c.Same || c.Surface.Known {
		t.Errorf("with nothing: %s", c.Verdict)
	}
}

func TestPicturesAreCompared(t *testing.T) {
	s := keeper(t)
	other := *s
	other.Pictures = append([]scene.Picture{}, s.Pictures...)
	n := slices.IndexFunc(s.Pictures, func(p scene.Picture) bool { return !p.Missing() })
	img, err := pixel.DecodePicture(s.Pictures[n].Data, s.Pictures[n].MIME)
	if err != nil {
		t.Fatal(err)
	}
	a := pixel.ToNRGBA(img)
	b := image.NewNRGBA(a.Rect)
	copy(b.Pix, a.Pix)
	change := func(by byte, every int) PictureRow {
		for i := 0; i < len(b.Pix); i += every {
			b.Pix[i] = a.Pix[i] ^ by
		}
		if other.Pictures[n].Data, err = pixel.PNG(b); err != nil {
			t.Fatal(err)
		}
		for _, r := range Compare(s, &other, 0).Pictures {
			if r.PictureA == n {
				return r
			}
		}
		t.Fatal("the picture is in no row")
		return PictureRow{}
	}
	if r := change(1, 4); r.Differ || r.Most != 1 || r.Mean != 0.25 {
		t.Errorf("a quarter of the channels by one: %+v", r)
	}
	if r := change(128, 4); !r.Differ || r.Most != 128 || r.Mean != 32 {
		t.Errorf("all reds by half: %+v", r)
	}
	if c := Compare(s, &other, 0); c.Same || !strings.Contains(c.Verdict, "same shape") {
		t.Error(c.Verdict)
	}
	d := Difference(a, b)
	if p := d.Pix[:4]; p[0] != 255 || p[1] != 0 || p[3] != 255 {
		t.Errorf("the difference is %v", p)
	}
	if d := Difference(a, image.NewNRGBA(image.Rect(0, 0, 3, 2))); d.Rect != a.Rect {
		t.Errorf("%v", d.Rect)
	}
}

func BenchmarkCompare(b *testing.B) {
	s := keeper(b)
	b.ReportMetric(float64(s.Stats().Triangles), "triangles")
	for b.Loop() {
		if c := Compare(s, s, 0); !c.Same {
			b.Fatal(fmt.Sprint(c.Verdict))
		}
	}
}

func BenchmarkAppraise(b *testing.B) {
	img := bumps(true)
	b.SetBytes(int64(len(img.Pix)))
	for b.Loop() {
		Appraise(img, "normal")
	}
}
