package render

import (
	"fmt"
	"image"
	"math"
	"testing"

	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// facing is a square that stands before the camera, so that its middle is the
// picture's, with a picture of four fields: red, green above; blue, white.
func facing(t testing.TB) *scene.Scene {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, 8, 8))
	for y := range 8 {
		for x := range 8 {
			c := [4]byte{255, 0, 0, 255}
			switch {
			case x >= 4 && y >= 4:
				c = [4]byte{255, 255, 255, 255}
			case y >= 4:
				c = [4]byte{0, 0, 255, 255}
			case x >= 4:
				c = [4]byte{0, 255, 0, 255}
			}
			copy(img.Pix[img.PixOffset(x, y):], c[:])
		}
	}
	b, err := pixel.PNG(img)
	if err != nil {
		t.Fatal(err)
	}
	s := quad(1, geom.GLTF)
	s.Pictures = []scene.Picture{{Name: "fields", Data: b, MIME: "image/png", Width: 8, Height: 8}}
	s.Materials[0].BaseColour = [4]float32{1, 1, 1, 1}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleColour}}
	p := &s.Meshes[0].Parts[0]
	p.UVs = []scene.AttrSet{{Name: "surface", Data: []float32{0, 1, 1, 1, 1, 0, 0, 0}}, {Name: "dirt", Data: []float32{0.9, 0.9, 0.9, 0.9, 0.9, 0.9, 0.9, 0.9}}}
	return s
}

// seen are the colours of the four quarters of a drawn square, by their words.
func seen(s *scene.Scene) string {
	img := Draw(s, Options{Width: 100, Height: 100, Background: Paper})
	word := func(x, y int) string {
		c := img.NRGBAAt(x, y)
		switch {
		case c == Paper:
			return "paper"
		case c.R > 200 && c.G > 200 && c.B > 200:
			return "white"
		case c.R < 20 && c.G < 20 && c.B < 20:
			return "black"
		case c.R > 120 && c.G < 90 && c.B < 90:
			return "red"
		case c.G > 120 && c.R < 90:
			return "green"
		case c.B > 120 && c.R < 90:
			return "blue"
		}
		return fmt.Sprint(c)
	}
	return fmt.Sprint(word(38, 38), " ", word(62, 38), " ", word(38, 62), " ", word(62, 62))
}

func TestPicturesLieOnTheirUVs(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(s *scene.Scene)
		want   string
	}{
		{"as it is", func(*scene.Scene) {}, "red green blue white"},
		{"another UV set", func(s *scene.Scene) { s.Materials[0].Textures[0].UVSet = 1 }, "white white white white"},
		{"moved by half", func(s *scene.Scene) {
			s.Materials[0].Textures[0].Transform = &scene.UVTransform{Offset: [2]float32{0.5, 0}, Scale: [2]float32{1, 1}}
		}, "green red white blue"},
		{"turned by a half", func(s *scene.Scene) {
			s.Materials[0].Textures[0].Transform = &scene.UVTransform{Rotation: math.Pi, Scale: [2]float32{1, 1}}
		}, "white blue green red"},
		{"beyond the edge, held", func(s *scene.Scene) {
			s.Materials[0].Textures[0].WrapU = scene.Clamp
			for i := range 4 {
				s.Meshes[0].Parts[0].UVs[0].Data[2*i] += 2
			}
		}, "green green white white"},
		{"beyond the edge, mirrored", func(s *scene.Scene) {
			s.Materials[0].Textures[0].WrapU = scene.Mirror
			for i := range 4 {
				s.Meshes[0].Parts[0].UVs[0].Data[2*i]++
			}
		}, "green red white blue"},
		{"beyond the edge, repeated", func(s *scene.Scene) {
			for i := range 4 {
				s.Meshes[0].Parts[0].UVs[0].Data[2*i]++
			}
		}, "red green blue white"},
		{"a UV set that is not there", func(s *scene.Scene) { s.Meshes[0].Parts[0].UVs = nil }, "red red red red"},
	} {
		s := facing(t)
		c.change(s)
		if got := seen(s); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// A material's colour is multiplied with its picture.
func TestColourOverAPicture(t *testing.T) {
	s := facing(t)
	s.Materials[0].BaseColour = [4]float32{1, 0, 0, 1}
	img := Draw(s, Options{Width: 100, Height: 100, Background: Paper})
	if c := img.NRGBAAt(62, 38); c.R > 20 || c.G > 20 || c.B > 20 {
		t.Errorf("green under red is %v", c)
	}
	if c := img.NRGBAAt(62, 62); c.R < 240 || c.G > 20 {
		t.Errorf("white under red is %v", c)
	}
}

// What is nearer hides what is farther, in whichever order they stand; what
// lets light through is drawn over what does not.
func TestDepth(t *testing.T) {
	two := func(first, second [4]float32, z float32, alpha scene.AlphaMode) string {
		s := quad(1, geom.GLTF)
		s.Materials[0].BaseColour = first
		m := scene.NewMaterial("second")
		m.BaseColour, m.Unlit, m.Alpha = second, true, alpha
		s.Materials = append(s.Materials, m)
		back := s.Meshes[0].Parts[0]
		back.Material = 1
		back.Positions = append([]float32{}, back.Positions...)
		for i := 2; i < len(back.Positions); i += 3 {
			back.Positions[i] = z
		}
		s.Meshes[0].Parts = append(s.Meshes[0].Parts, back)
		c := Draw(s, Options{Width: 60, Height: 60, Background: Paper}).NRGBAAt(30, 30)
		return fmt.Sprintf("%d %d %d", c.R/64, c.G/64, c.B/64)
	}
	red, green := [4]float32{1, 0, 0, 1}, [4]float32{0, 1, 0, 1}
	if got := two(red, green, -0.2, scene.Opaque); got != "3 0 0" {
		t.Errorf("green behind red: %s", got)
	}
	if got := two(red, green, 0.2, scene.Opaque); got != "0 3 0" {
		t.Errorf("green before red: %s", got)
	}
	if got := two(red, [4]float32{0, 1, 0, 0.5}, 0.2, scene.Blend); got != "2 2 0" {
		t.Errorf("half of green before red: %s", got)
	}
	if got := two(red, [4]float32{0, 1, 0, 0.5}, -0.2, scene.Blend); got != "3 0 0" {
		t.Errorf("half of green behind red: %s", got)
	}
}

// Surfaces without normals are flat; light comes from above and the left.
func TestShading(t *testing.T) {
	shade := func(n [3]float32) uint8 {
		s := quad(1, geom.GLTF)
		s.Materials[0].Unlit = false
		s.Materials[0].BaseColour = [4]float32{0.5, 0.5, 0.5, 1}
		p := &s.Meshes[0].Parts[0]
		if n != [3]float32{} {
			for range 4 {
				p.Normals = append(p.Normals, n[:]...)
			}
		}
		return Draw(s, Options{Width: 40, Height: 40, Background: Paper}).NRGBAAt(20, 20).R
	}
	towards, away := shade([3]float32{-0.5, 0.7, 0.5}), shade([3]float32{0.5, -0.7, -0.5})
	if towards <= away+40 {
		t.Errorf("towards the light %d, away from it %d", towards, away)
	}
	if flat, own := shade([3]float32{}), shade([3]float32{0, 0, 1}); flat != own {
		t.Errorf("without normals %d, with its own %d", flat, own)
	}
	if long := shade([3]float32{-5, 7, 5}); long != towards {
		t.Errorf("a normal of length ten gives %d, of one %d", long, towards)
	}
}

// A scene of many parts, behind the eye, beside the picture or of no numbers
// draws what there is and ends.
func TestDrawsOnWhateverComes(t *testing.T) {
	nan := float32(math.NaN())
	for name, positions := range map[string][]float32{
		"not a number":   {nan, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0},
		"without end":    {float32(math.Inf(1)), 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0},
		"one place":      {1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1},
		"very large":     {0, 0, 0, 1e30, 0, 0, 1e30, 1e30, 0, 0, 1e30, 0},
		"a needle":       {0, 0, 0, 1e-30, 0, 0, 0, 100, 0, 0, 0, 0},
		"far from there": {1e9, 0, 0, 1e9 + 100, 0, 0, 1e9 + 100, 100, 0, 1e9, 100, 0},
	} {
		s := quad(1, geom.GLTF)
		s.Meshes[0].Parts[0].Positions = positions
		img := Draw(s, Options{Width: 64, Height: 48, Background: Paper, Figure: true, Ground: true})
		if img.Rect.Dx() != 64 || img.NRGBAAt(0, 0).A != 255 {
			t.Errorf("%s: %v", name, img.Rect)
		}
	}
	// More triangles than one block, so that blocks meet without a seam.
	s := sheet(300)
	if n := len(s.Meshes[0].Parts[0].Triangles) / 3; n <= block {
		t.Fatalf("%d triangles are one block", n)
	}
	s.Materials[0].Textures = nil
	s.Materials[0].Unlit = true
	s.Materials[0].BaseColour = [4]float32{1, 0, 0, 1}
	img := Draw(s, Options{Width: 64, Height: 64, Background: Paper})
	c := img.NRGBAAt(32, 32)
	if c.R < 250 || c.G > 5 {
		t.Errorf("the middle of the sheet is %v", c)
	}
}

func TestOptionsAreHeld(t *testing.T) {
	for _, o := range []Options{{}, {Width: -5, Height: 0}, {Width: 7, Height: 1, Samples: -1}, {Width: 33, Height: 9, Samples: 1}, {Width: 10, Height: 10, Samples: 4}} {
		img := Draw(quad(1, geom.GLTF), o)
		if img.Rect.Dx() != max(o.Width, 1) || img.Rect.Dy() != max(o.Height, 1) {
			t.Errorf("%+v: %v", o, img.Rect)
		}
	}
	// Turned by a half turn, the square is seen from behind: mirrored.
	s := facing(t)
	a := Draw(s, Options{Width: 80, Height: 80, Background: Paper}).NRGBAAt(48, 32)
	b := Draw(s, Options{Width: 80, Height: 80, Background: Paper, Turn: 180}).NRGBAAt(48, 32)
	if a == b {
		t.Error("turned by a half turn it looks the same")
	}
}

// What a material emits shows whatever its colour is, over its own picture, and
// evenly where that lies on other UVs.
func TestEmission(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(m *scene.Material)
		want   string
	}{
		{"a colour", func(m *scene.Material) { m.Emissive = [3]float32{0, 1, 0} }, "green green green green"},
		{"a picture", func(m *scene.Material) {
			m.Emissive, m.Textures = [3]float32{1, 1, 1}, []scene.Texture{{Role: scene.RoleEmission}}
		}, "red green blue white"},
		{"a picture of one hue", func(m *scene.Material) {
			m.Emissive, m.Textures = [3]float32{1, 0, 0}, []scene.Texture{{Role: scene.RoleEmission}}
		}, "red black black red"},
		{"no light", func(m *scene.Material) { m.Textures = []scene.Texture{{Role: scene.RoleEmission}} }, "black black black black"},
		{"with the colour's picture", func(m *scene.Material) {
			m.Emissive, m.Textures = [3]float32{1, 1, 1}, []scene.Texture{{Role: scene.RoleColour}, {Role: scene.RoleEmission}}
		}, "red green blue white"},
		{"on other UVs", func(m *scene.Material) {
			m.Emissive, m.Textures = [3]float32{9, 0, 0}, []scene.Texture{{Role: scene.RoleColour}, {Role: scene.RoleEmission, UVSet: 1}}
		}, "red red red red"},
		{"a picture that is missing", func(m *scene.Material) {
			m.Emissive, m.Textures = [3]float32{1, 1, 1}, []scene.Texture{{Role: scene.RoleEmission, Picture: 1}}
		}, "black black black black"},
	} {
		s := facing(t)
		s.Pictures = append(s.Pictures, scene.Picture{Name: "lost", Ref: "lost.png"})
		m := &s.Materials[0]
		m.BaseColour, m.Textures = [4]float32{0, 0, 0, 1}, nil
		c.change(m)
		if got := seen(s); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// Thousands of layers that each fill the picture take no longer than some
// hundreds, and what is drawn is the surface.
func TestManyLayers(t *testing.T) {
	s := facing(t)
	one := s.Meshes[0].Parts[0]
	p := one
	p.Triangles = nil
	for range 10_000 {
		p.Triangles = append(p.Triangles, one.Triangles...)
	}
	s.Meshes[0].Parts[0] = p
	if got := seen(s); got != "red green blue white" {
		t.Error(got)
	}
	j := newJob(200, 200, Paper)
	j.materials(s)
	cam := newCamera(s.Bounds(), 200, 200, 0, 0)
	for range 6 {
		j.part(p.Positions, p.Normals, &p, cam, 0, false)
	}
	if most := 5 * j.budget(); j.spent > most || j.spent < j.budget() {
		t.Errorf("%d samples were looked at, want %d at most", j.spent, most)
	}
}
