package render

import (
	"bytes"
	"image"
	"image/color"
	"math"
	"runtime"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// quad is a square of the given size facing the camera's side.
func quad(size float32, basis geom.Basis) *scene.Scene {
	m := scene.NewMaterial("m")
	m.BaseColour = [4]float32{1, 0, 0, 1}
	m.Unlit = true
	n := scene.NewNode("q")
	n.Mesh = 0
	return &scene.Scene{Basis: basis, Nodes: []scene.Node{n}, Materials: []scene.Material{m}, Meshes: []scene.Mesh{{Parts: []scene.Part{{
		Positions: []float32{0, 0, 0, size, 0, 0, size, size, 0, 0, size, 0}, Triangles: []uint32{0, 1, 2, 0, 2, 3}}}}}}
}

// share is the part of the picture that is of another colour than the paper.
func share(img *image.NRGBA) float64 {
	n := 0
	for i := 0; i < len(img.Pix); i += 4 {
		if img.Pix[i+1] < 100 {
			n++
		}
	}
	return float64(n) / float64(len(img.Pix)/4)
}

func TestFramesEverySize(t *testing.T) {
	var first float64
	for _, size := range []float32{1e-6, 1, 1e6} {
		img := Draw(quad(size, geom.GLTF), Options{Width: 120, Height: 90, Background: Paper})
		if img.Rect.Dx() != 120 || img.Rect.Dy() != 90 {
			t.Fatalf("%v", img.Rect)
		}
		s := share(img)
		if first == 0 {
			first = s
		}
		if s < 0.2 || math.Abs(s-first) > 0.02 {
			t.Errorf("size %g fills %.2f of the picture, the first %.2f", size, s, first)
		}
		if p := img.Pix[:4]; p[0] != Paper.R || p[3] != 255 {
			t.Errorf("the corner is %v, not paper", p)
		}
	}
}

func TestStandsUprightInEveryBasis(t *testing.T) {
	// A tall pole along Z: upright if Z is up, lying if Y is.
	pole := func(b geom.Basis) *image.NRGBA {
		s := quad(1, b)
		s.Meshes[0].Parts[0].Positions = []float32{0, 0, 0, 0.1, 0, 0, 0.1, 0, 5, 0, 0, 5}
		return Draw(s, Options{Width: 100, Height: 100, Background: Paper})
	}
	tall := func(img *image.NRGBA) (w, h int) {
		x0, x1, y0, y1 := 100, 0, 100, 0
		for y := 0; y < 100; y++ {
			for x := 0; x < 100; x++ {
				if img.Pix[img.PixOffset(x, y)+1] < 150 {
					x0, x1, y0, y1 = min(x0, x), max(x1, x), min(y0, y), max(y1, y)
				}
			}
		}
		return x1 - x0, y1 - y0
	}
	if w, h := tall(pole(geom.Basis{Up: geom.PlusZ, Front: geom.MinusY, Handed: geom.Right, MetresPerUnit: 1})); h < 3*w {
		t.Errorf("upright it is %d wide and %d tall", w, h)
	}
	if w, h := tall(pole(geom.GLTF)); h > 2*w {
		t.Errorf("lying it is %d wide and %d tall", w, h)
	}
}

func TestDrawsWhatIsThere(t *testing.T) {
	clear := Draw(quad(1, geom.GLTF), Options{Width: 50, Height: 50})
	if a, b := clear.NRGBAAt(0, 0), clear.NRGBAAt(25, 25); a.A != 0 || b.A != 255 || b.R != 255 {
		t.Errorf("without a background the corner is %v, the middle %v", a, b)
	}
	empty := Draw(&scene.Scene{}, Options{Width: 50, Height: 50, Background: Paper})
	if s := share(empty); s != 0 {
		t.Errorf("an empty scene fills %g", s)
	}
	s := quad(1, geom.GLTF)
	s.Materials[0].Alpha, s.Materials[0].BaseColour[3] = scene.Cutout, 0.2
	if share(Draw(s, Options{Width: 50, Height: 50, Background: Paper})) != 0 {
		t.Error("a surface below its cutoff was drawn")
	}
	s.Materials[0].Alpha = scene.Blend
	img := Draw(s, Options{Width: 50, Height: 50, Background: Paper})
	if c := img.NRGBAAt(25, 25); c.R < 230 || c.G < 180 || c.G > 228 {
		t.Errorf("one fifth of red over paper is %v", c)
	}
	with := Draw(quad(1, geom.GLTF), Options{Width: 60, Height: 60, Background: Paper, Figure: true})
	grey := 0
	for i := 0; i < len(with.Pix); i += 4 {
		if p := with.Pix[i : i+3]; p[0] > 150 && p[0] < 210 && p[0]-p[2] < 40 {
			grey++
		}
	}
	if grey < 60 {
		t.Errorf("the scale figure has %d pixels", grey)
	}
}

// sheet is a bumpy sheet of two n² triangles with a picture of 512 texels.
func sheet(n int) *scene.Scene {
	s := quad(1, geom.GLTF)
	p := scene.Part{UVs: []scene.AttrSet{{Name: "surface"}}}
	for y := range n + 1 {
		for x := range n + 1 {
			p.Positions = append(p.Positions, float32(x), float32(y), float32(10*math.Sin(float64(x)/9)*math.Cos(float64(y)/7)))
			p.Normals = append(p.Normals, 0, 0, 1)
			p.UVs[0].Data = append(p.UVs[0].Data, float32(x)/float32(n), float32(y)/float32(n))
			if x < n && y < n {
				a := uint32(y*(n+1) + x)
				p.Triangles = append(p.Triangles, a, a+1, a+uint32(n)+2, a, a+uint32(n)+2, a+uint32(n)+1)
			}
		}
	}
	img := image.NewRGBA(image.Rect(0, 0, 512, 512))
	for i := range img.Pix {
		img.Pix[i] = byte(i*i>>9) | 255*byte(i&3/3)
	}
	b, err := pixel.PNG(img)
	if err != nil {
		panic(err)
	}
	s.Pictures = []scene.Picture{{Name: "sheet", Data: b, MIME: "image/png", Width: 512, Height: 512}}
	m := scene.NewMaterial("sheet")
	m.Textures = []scene.Texture{{Role: scene.RoleColour}}
	s.Materials = []scene.Material{m}
	s.Meshes[0].Parts[0] = p
	return s
}

// BenchmarkThumb draws a hundred thousand textured triangles as a thumbnail.
func BenchmarkThumb(b *testing.B) {
	s := sheet(224)
	if err := s.Validate(); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		Draw(s, Options{Width: 192, Height: 192, Background: Paper})
	}
	b.ReportMetric(float64(len(s.Meshes[0].Parts[0].Triangles)/3)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mtriangles/s")
}

// Lines and points are drawn too, where surfaces do not hide them.
func TestDrawsLinesAndPoints(t *testing.T) {
	for _, back := range []bool{false, true} {
		s := quad(1, geom.GLTF)
		p := &s.Meshes[0].Parts[0]
		z := float32(0.01)
		if back {
			z = -0.01
		}
		n := uint32(len(p.Positions) / 3)
		p.Positions = append(p.Positions, -0.4, -0.4, z, 0.4, 0.4, z, -0.3, 0.3, z)
		p.Normals = nil
		p.Lines, p.Points = []uint32{n, n + 1}, []uint32{n + 2}
		img := Draw(s, Options{Width: 96, Height: 96, Background: Paper})
		dark := 0
		for i := 0; i < len(img.Pix); i += 4 {
			if img.Pix[i] < 200 && img.Pix[i+1] < 120 {
				dark++
			}
		}
		if back != (dark < 10) {
			t.Errorf("behind %v: %d dark pixels", back, dark)
		}
	}
}

// However many triangles there are, the picture is that of one core.
func TestCoresAgree(t *testing.T) {
	s := sheet(150)
	many := Draw(s, Options{Width: 120, Height: 90})
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	if one := Draw(s, Options{Width: 120, Height: 90}); !bytes.Equal(one.Pix, many.Pix) {
		t.Error("one core draws another picture")
	}
}

// A background is a colour, or lets through what lies behind the asset and
// nothing else.
func TestBackgrounds(t *testing.T) {
	for text, want := range map[string]color.NRGBA{"": Paper, "paper": Paper, "none": {},
		"#2f3b40": {0x2f, 0x3b, 0x40, 255}, "#FFFFFF": {255, 255, 255, 255}} {
		if c, err := ParseBackground(text); err != nil || c != want {
			t.Errorf("%q: %v, %v", text, c, err)
		}
	}
	for _, text := range []string{"2f3b40", "#2f3b4", "#2f3b4g", "#2f3b4080", "blue", "#", " "} {
		if c, err := ParseBackground(text); err == nil {
			t.Errorf("%q: %v", text, c)
		}
	}
	img := Draw(quad(1, geom.GLTF), Options{Width: 60, Height: 60})
	clear, full := 0, 0
	for i := 3; i < len(img.Pix); i += 4 {
		switch img.Pix[i] {
		case 0:
			clear++
		case 255:
			full++
		}
	}
	if clear < 500 || full < 500 {
		t.Errorf("%d texels let through, %d do not", clear, full)
	}
}

// From straight above a sheet that lies flat is as wide as high, from the side
// it is a line.
func TestTilt(t *testing.T) {
	flat := quad(1, geom.GLTF)
	p := flat.Meshes[0].Parts[0].Positions
	for v := 0; v < len(p); v += 3 {
		p[v+1], p[v+2] = p[v+2], -p[v+1]
	}
	flat.Meshes[0].Parts[0].Normals = nil
	covered := func(tilt float64) int {
		n := 0
		img := Draw(flat, Options{Width: 80, Height: 80, Turn: 32, Tilt: tilt})
		for i := 3; i < len(img.Pix); i += 4 {
			if img.Pix[i] > 0 {
				n++
			}
		}
		return n
	}
	above, usual, level := covered(75), covered(0), covered(-14)
	// The sine of the pitch is what is left of its depth.
	if ratio := float64(usual) / float64(above); ratio < 0.15 || ratio > 0.35 {
		t.Errorf("from 14° it covers %.2f of what it does from above", ratio)
	}
	if level*20 > above {
		t.Errorf("%d texels from the side, %d from above", level, above)
	}
}

// A wall on a floor: the floor is darker in the corner than far from it, in the
// wall's shadow than in the sun, and a floor alone is as it was.
func TestShade(t *testing.T) {
	floor := func(y float32, wall bool) *scene.Scene {
		p := scene.Part{Material: 0, Positions: []float32{-2, y, -2, 2, y, -2, 2, y, 2, -2, y, 2},
			Triangles: []uint32{0, 2, 1, 0, 3, 2}}
		if wall { // along the back, two metres high
			p.Positions = append(p.Positions, -2, y, -1, 2, y, -1, 2, y+2, -1, -2, y+2, -1)
			p.Triangles = append(p.Triangles, 4, 5, 6, 4, 6, 7)
		}
		n := scene.NewNode("floor")
		n.Mesh = 0
		m := scene.NewMaterial("white")
		m.Unlit = true
		return &scene.Scene{Basis: geom.GLTF, Nodes: []scene.Node{n},
			Meshes: []scene.Mesh{{Parts: []scene.Part{p}}}, Materials: []scene.Material{m}}
	}
	o := Options{Width: 120, Height: 90, Background: Paper, Turn: 32, Tilt: 30}
	lit := o
	lit.Shade = true
	bare, shaded := Draw(floor(0, false), o), Draw(floor(0, false), lit)
	same := 0
	for i := range bare.Pix {
		if bare.Pix[i] == shaded.Pix[i] {
			same++
		}
	}
	if same < len(bare.Pix)*99/100 {
		t.Errorf("of a floor alone %d of %d bytes are as they were", same, len(bare.Pix))
	}

	s := floor(0, true)
	img := Draw(s, lit)
	box := geom.Box{Min: geom.Vec3{-2, 0, -2}, Max: geom.Vec3{2, 2, 2}}
	cam := newCamera(box, lit.Width, lit.Height, lit.Turn, lit.Tilt)
	at := func(p geom.Vec3) int {
		x, y, _, ok := cam.project(p)
		if !ok {
			t.Fatalf("%v is not in the picture", p)
		}
		c := img.NRGBAAt(int(x), int(y))
		return int(c.G)
	}
	corner, open, behind := at(geom.Vec3{0, 0, -0.93}), at(geom.Vec3{0, 0, 1.6}), at(geom.Vec3{0.9, 0.05, -0.5})
	if corner >= open-8 {
		t.Errorf("the corner is %d, the open floor %d", corner, open)
	}
	if behind >= open {
		t.Errorf("near the wall it is %d, far from it %d", behind, open)
	}
	if again := Draw(s, lit); !bytes.Equal(again.Pix, img.Pix) {
		t.Error("the same scene gives another picture")
	}

	// What stands between the sun and the floor throws a shadow; glass does not.
	roof := func(alpha scene.AlphaMode) *scene.Scene {
		s := floor(0, false)
		p := scene.Part{Material: 1, Positions: []float32{-1, 1.5, -1, 1, 1.5, -1, 1, 1.5, 1, -1, 1.5, 1},
			Triangles: []uint32{0, 2, 1, 0, 3, 2}}
		s.Meshes[0].Parts = append(s.Meshes[0].Parts, p)
		m := s.Materials[0]
		m.Alpha, m.BaseColour = alpha, [4]float32{1, 1, 1, 0}
		if alpha == scene.Opaque {
			m.BaseColour[3] = 1
		}
		s.Materials = append(s.Materials, m)
		return s
	}
	lit.Tilt = -4 // from beneath its height
	box.Max[1] = 1.5
	cam = newCamera(box, lit.Width, lit.Height, lit.Turn, lit.Tilt)
	under := geom.Vec3{0.9, 0, -1} // the sun's line from here goes through the roof's middle
	img = Draw(roof(scene.Opaque), lit)
	dark := at(under)
	img = Draw(roof(scene.Blend), lit)
	if light := at(under); dark >= light-20 {
		t.Errorf("under a roof it is %d, under glass %d", dark, light)
	}
}

// Each place of a sheet has the view that Draw gives, turned by its share.
func TestViews(t *testing.T) {
	s := sheet(4)
	o := Options{Width: 40, Height: 30, Background: Paper, Ground: true}
	img, err := Views(s, o, 5)
	if err != nil || img.Rect != image.Rect(0, 0, 120, 60) {
		t.Fatalf("%v, %v", err, img)
	}
	for i := range 6 {
		turned := o
		turned.Turn = 72 * float64(i)
		want := Draw(s, turned)
		same := true
		for y := range 30 {
			for x := range 40 {
				got := img.NRGBAAt(i%3*40+x, i/3*30+y)
				if i == 5 {
					same = same && got == Paper // no view is left for it
				} else {
					same = same && got == want.NRGBAAt(x, y)
				}
			}
		}
		if !same {
			t.Errorf("place %d has another picture", i)
		}
	}
	if one, err := Views(s, o, 1); err != nil || one.Rect.Dx() != 40 {
		t.Errorf("%v", err)
	}
	for _, n := range []int{0, 65} {
		if _, err := Views(s, o, n); err == nil {
			t.Errorf("%d views are drawn", n)
		}
	}
	if _, err := Views(s, Options{Width: 8192, Height: 8192}, 9); err == nil ||
		!strings.Contains(err.Error(), "24576 × 24576 pixels") {
		t.Errorf("%v", err)
	}
}

func BenchmarkShade(b *testing.B) {
	s := sheet(300)
	for b.Loop() {
		Draw(s, Options{Width: 400, Height: 300, Background: Paper, Shade: true})
	}
}
