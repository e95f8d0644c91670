package step

import (
	"image/color"
	"slices"
	"strings"
	"testing"

	"excavate/core/scene"
)

// square is two faces on the whole of a picture, with vertex colours.
func square() scene.Part {
	return scene.Part{
		Positions: []float32{0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0}, Normals: []float32{0, 0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1},
		UVs:       []scene.AttrSet{{Name: "surface", Data: []float32{0, 1, 1, 1, 1, 0, 0, 0}}},
		Colours:   []scene.AttrSet{{Name: "colour", Data: slices.Repeat([]float32{1, 0, 0, 1}, 4)}},
		Triangles: []uint32{0, 1, 2, 0, 2, 3},
	}
}

// tells asks that one of the lines holds a text.
func tells(t *testing.T, lines []string, text string) {
	t.Helper()
	if !slices.ContainsFunc(lines, func(l string) bool { return strings.Contains(l, text) }) {
		t.Errorf("%q is not told: %q", text, lines)
	}
}

func TestColoursThatAreNotDrawnStay(t *testing.T) {
	s := one(square())
	bare := square()
	bare.UVs = nil
	s.Meshes[0].Parts = append(s.Meshes[0].Parts, bare)
	out, r := apply(t, "colours", s, map[string]any{"way": "to-picture", "size": 16, "drop": true})
	if p := out.Meshes[0].Parts; len(p[0].Colours) != 0 || len(p[1].Colours) != 1 {
		t.Errorf("%d and %d colour sets are left", len(p[0].Colours), len(p[1].Colours))
	}
	if len(r.Losses) != 0 {
		t.Errorf("%v", r.Losses)
	}
	img, err := pixels(&out.Pictures[0])
	if err != nil || img.NRGBAAt(8, 8) != (color.NRGBA{255, 0, 0, 255}) {
		t.Errorf("%v %v", img.NRGBAAt(8, 8), err)
	}
	// One face of two is shown where the picture repeats.
	over := square()
	over.UVs[0].Data[7] = -1
	_, r = apply(t, "colours", one(over), map[string]any{"way": "to-picture", "size": 16})
	tells(t, r.Losses, "the colours of 1 face: they lie outside")
}

func TestAPictureThatIsMissingStaysNamed(t *testing.T) {
	s := one(square())
	s.Meshes[0].Parts = append(s.Meshes[0].Parts, square())
	s.Meshes[0].Parts[1].Material = 1
	s.Materials = append(s.Materials, scene.NewMaterial("lost"))
	s.Pictures = []scene.Picture{
		plain(t, "blue.png", 4, 4, func(int, int) color.NRGBA { return color.NRGBA{0, 0, 255, 255} }),
		{Name: "lost", Ref: "lost.png"},
	}
	for i := range 2 {
		s.Materials[i].Textures = []scene.Texture{{Role: scene.RoleColour, Picture: i, Scale: 1}}
	}
	out, r := apply(t, "colours", s, map[string]any{"drop": true})
	tells(t, r.Lines, "1 part lacks")
	if len(out.Pictures) != 1 || out.Pictures[0].Ref != "lost.png" {
		t.Errorf("%+v", out.Pictures)
	}
	if c := out.Meshes[0].Parts; c[0].Colours[0].Data[2] != 1 || c[1].Colours[0].Data[0] != 1 {
		t.Errorf("%v, %v", c[0].Colours, c[1].Colours)
	}
}

func TestTangentsStayWhereNoUVsMove(t *testing.T) {
	s := one(square())
	other := square()
	other.UVs[0].Name = "dirt"
	s.Meshes[0].Parts = append(s.Meshes[0].Parts, other)
	for j := range s.Meshes[0].Parts {
		s.Meshes[0].Parts[j].Tangents = slices.Repeat([]float32{1, 0, 0, 1}, 4)
	}
	out, r := apply(t, "uv-transform", s, map[string]any{"set": "surface", "turn": 90})
	if p := out.Meshes[0].Parts; p[0].Tangents != nil || p[1].Tangents == nil {
		t.Errorf("tangents %v and %v", p[0].Tangents, p[1].Tangents)
	}
	tells(t, r.Losses, "tangents of 1 part")
}

func TestAtlasCountsPicturesAndSheets(t *testing.T) {
	s := one(square())
	s.Meshes[0].Parts = append(s.Meshes[0].Parts, square())
	s.Meshes[0].Parts[1].Material = 1
	s.Materials = append(s.Materials, scene.NewMaterial("other"))
	for i := range 4 {
		shade := uint8(40 * i)
		s.Pictures = append(s.Pictures, plain(t, string(rune('a'+i))+".png", 8, 8, func(int, int) color.NRGBA { return color.NRGBA{shade, 9, 9, 255} }))
	}
	for i := range 2 {
		s.Materials[i].Textures = []scene.Texture{
			{Role: scene.RoleColour, Picture: 2 * i, Scale: 1}, {Role: scene.RoleEmission, Picture: 2*i + 1, Scale: 1},
		}
	}
	_, r := apply(t, "atlas", s, nil)
	tells(t, r.Lines, "4 pictures of 2 materials on 2 sheets")
}

func TestMaterialsOfOneNameAreNoOthers(t *testing.T) {
	s, o := one(square()), one(square())
	s.Materials[0].Name = "=wall"
	o.Materials[0].Name = "wall"
	o.Materials[0].Metallic = 0.5
	b := shelfOf{assets: map[string]*scene.Scene{"other.glb": o}}
	if _, r := beyondApply(t, "take-materials", s, b, map[string]any{"from": "other.glb"}); !r.Idle {
		t.Errorf("=wall is not wall: %v", r.Lines)
	}
}

func TestMirrorTellsOfLines(t *testing.T) {
	p := lump(4)
	p.Lines = []uint32{0, 1, 1, 2}
	p.Points = []uint32{3}
	_, r := apply(t, "mirror", one(p), nil)
	tells(t, r.Losses, "3 lines and points: only faces are mirrored")
}

// A wide weld puts all of a mesh in one cell of the measure; it ends all the same.
func TestMirrorWithAWideWeld(t *testing.T) {
	p := lump(60)
	_, r := apply(t, "mirror", one(p), map[string]any{"weld": 1000})
	if !r.Idle {
		t.Errorf("all of it lies at the plane: %v", r.Lines)
	}
}

func TestCollidersPassOverWhatIsScaledToNothing(t *testing.T) {
	s := one(lump(4))
	flat := s.Nodes[0]
	flat.Name, flat.Scale = "crushed", [3]float32{0, 1, 1}
	s.Nodes = append(s.Nodes, flat)
	out, r := apply(t, "colliders", s, nil)
	if len(out.Nodes) != 3 || out.Nodes[2].Parent != 0 {
		t.Errorf("%d nodes", len(out.Nodes))
	}
	tells(t, r.Lines, "scaled to nothing, and so without one: crushed")
}

// A flat picture and a narrow one make one of both their lengths.
func TestChannelsOfPicturesThatWouldBeTooLarge(t *testing.T) {
	s := one(square())
	red := func(int, int) color.NRGBA { return color.NRGBA{255, 0, 0, 255} }
	s.Pictures = []scene.Picture{plain(t, "wide.png", 20000, 1, red), plain(t, "high.png", 1, 20000, red)}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0, Scale: 1}}
	k, _ := Get("channels")
	_, err := k.Apply(t.Context(), s, []byte(`{"into": "a", "picture": "high"}`), Nowhere{}, &Report{})
	if err == nil || !strings.Contains(err.Error(), "20000 x 20000") {
		t.Errorf("%v", err)
	}
}
