package appraise

import (
	"image"
	"strings"
	"testing"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// A surface that uses the upper half of a picture, of which one half is
// painted: right way up it finds paint, turned over it finds ground.
func TestUsedPictures(t *testing.T) {
	for _, upside := range []bool{false, true} {
		img := image.NewNRGBA(image.Rect(0, 0, 64, 64))
		for y := range 64 {
			for x := range 64 {
				c := []byte{20, 20, 20, 255}
				if (y < 32) != upside {
					c = []byte{byte(120 + x), byte(80 + y), byte(40 + x/2), byte(100 + x)}
				}
				copy(img.Pix[img.PixOffset(x, y):], c)
			}
		}
		b, err := pixel.PNG(img)
		if err != nil {
			t.Fatal(err)
		}
		m := scene.NewMaterial("reed")
		m.Textures = []scene.Texture{{Role: scene.RoleColour}}
		s := &scene.Scene{Materials: []scene.Material{m}, Pictures: []scene.Picture{{Data: b, MIME: "image/png", Width: 64, Height: 64}},
			Meshes: []scene.Mesh{{Parts: []scene.Part{{Positions: make([]float32, 12), Triangles: []uint32{0, 1, 2, 0, 2, 3}, UVs: []scene.AttrSet{{Data: []float32{0.05, 0.02, 0.95, 0.02, 0.95, 0.48, 0.05, 0.48}}}}}}}}
		says := strings.Join(Used(s, 0, img).Notices, "; ")
		if strings.Contains(says, "upside down") != upside || !strings.Contains(says, "alpha is not used") {
			t.Errorf("upside down %v: %s", upside, says)
		}
		s.Materials[0].Alpha = scene.Blend
		if says := strings.Join(Used(s, 0, img).Notices, "; "); strings.Contains(says, "not used") {
			t.Error(says)
		}
	}
	// The demo's own pictures lie right.
	s := keeper(t)
	for i := range s.Pictures {
		if p := &s.Pictures[i]; !p.Missing() {
			img, err := pixel.DecodePicture(p.Data, p.MIME)
			if err != nil {
				t.Fatal(err)
			}
			if says := strings.Join(Used(s, i, pixel.ToNRGBA(img)).Notices, "; "); strings.Contains(says, "upside") {
				t.Errorf("%s: %s", p.Name, says)
			}
		}
	}
}
