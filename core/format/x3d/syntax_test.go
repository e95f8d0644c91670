package x3d

import (
	"fmt"
	"image"
	"math"
	"strings"
	"testing"

	"excavate/core/format"
)

const plank = "Shape { geometry Box { size 2 2 2 } }\n"

// Statements that stand beside nodes in the classic encoding.
func TestStatements(t *testing.T) {
	const head = "#X3D V3.3 utf8\nPROFILE Immersive\n"
	for _, c := range []struct {
		text, notes string
		metres      float64
	}{
		{"COMPONENT Rendering:1\nMETA \"title\" \"a \\\"plank\\\"\"\n", "", 1},
		{"UNIT length inch 0.0254\n", "", 0.0254},
		{"UNIT angle degree 0.0174533\nUNIT length cm 1e-2\n", "a unit of angle was left out", 0.01},
		{"IMPORT pier.plank AS board\nEXPORT board AS deck\nEXPORT board\nIMPORT pier.rail\n", "an IMPORT was left out (2 times); an EXPORT was left out (2 times)", 1},
		{"DEF clock TimeSensor { }\nROUTE clock.fraction_changed TO plank.set_fraction\n", "a ROUTE between nodes that are not there was left out; a node of the kind TimeSensor was left out", 1},
		{"EXTERNPROTO Lamp [ field SFFloat bright ] [ \"a.wrl#Lamp\" \"b.wrl\" ]\n", "an EXTERNPROTO was left out", 1},
		{"EXTERNPROTO Lamp [ ] \"a.wrl\"\n", "an EXTERNPROTO was left out", 1},
	} {
		s := must(t, head+c.text+plank)
		var notes []string
		for _, n := range s.Notes {
			notes = append(notes, n.Text)
		}
		if got := strings.Join(notes, "; "); got != c.notes || s.Basis.MetresPerUnit != c.metres || s.Stats().Triangles != 12 {
			t.Errorf("%s: notes %q, %g m, %d triangles; want %q, %g m", c.text, got, s.Basis.MetresPerUnit, s.Stats().Triangles, c.notes, c.metres)
		}
	}
	for text, want := range map[string]string{
		"UNIT length inch\n" + plank:                       "line 4: the unit of length has no number",
		"UNIT length inch -\n" + plank:                     "line 3: the unit of length has no number",
		"META \"title\" \"without an end":                  "a text has no end",
		"EXTERNPROTO Lamp { }":                             `line 3: "{" stands where a [ is wanted`,
		"EXTERNPROTO Lamp [ \"x":                           "a text has no end",
		"EXTERNPROTO Lamp [ field":                         "the file ends before a ]",
		"PROTO Lamp { }":                                   "line 3: the prototype Lamp has no [",
		"PROTO Lamp [ field SFFloat bright 1":              "line 4: a value is missing",
		"PROTO Lamp [ ] plank":                             `line 3: "plank" stands where a { is wanted`,
		plank + "}":                                        "line 4: a } closes nothing",
		"Shape { geometry USE nothing }":                   "line 3: USE names nothing, which is not defined before it",
		"Shape { geometry Box { size 2 2 0x } }":           `"0x" is no number`,
		"Shape { geometry Box { size 2 -. 2 } }":           `"-. 2 } }`,
		strings.Repeat("Group { children [ ", 200) + plank: "nodes nest more than 128 deep",
	} {
		_, err := read(head + text)
		if err == nil || !strings.Contains(err.Error(), want) || !strings.HasPrefix(format.Place(err), "line ") {
			t.Errorf("%.60q: %v, want %q", text, err, want)
		}
	}
}

// Texts of fields: with marks, over several lines, and lists of them.
func TestTexts(t *testing.T) {
	s := must(t, vrml+`Shape {
		appearance Appearance { texture ImageTexture { url [ "a \"good\" plank.png", "b\\c.png" ] } }
		geometry Box { }
	}`)
	if p := s.Pictures[0]; p.Ref != `a "good" plank.png` {
		t.Errorf("%q", p.Ref)
	}
	// Pixels are counted in hexadecimal or not; rows stand from below.
	s = must(t, vrml+`Shape {
		appearance Appearance { texture PixelTexture { image 1 2 3 0xFF0000 255 } }
		geometry Box { }
	}`)
	if p := s.Pictures[0]; p.Width != 1 || p.Height != 2 || p.Missing() {
		t.Errorf("%+v", p)
	}
	// One that several use is one picture.
	s = must(t, vrml+`Shape { appearance Appearance { texture DEF deck PixelTexture { image 1 1 1 7 } } geometry Box { } }
	Shape { appearance Appearance { texture USE deck } geometry Box { } }`)
	if len(s.Pictures) != 1 || len(s.Materials) != 2 || s.Pictures[0].Name != "deck" || s.Materials[1].Textures[0].Picture != 0 {
		t.Errorf("%d pictures of %d materials", len(s.Pictures), len(s.Materials))
	}
	// An address that is the picture, in XML, where marks stand in an attribute.
	s = must(t, `<X3D><Scene><Shape><Appearance><ImageTexture url='"data:image/png;base64,iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="'/></Appearance><Box/></Shape><Shape><Appearance><ImageTexture url='"a \"good\" plank.png" "b.png"'/></Appearance><Box/></Shape><Shape><Appearance><ImageTexture url='"data:image/png,plain"'/></Appearance><Box/></Shape></Scene></X3D>`)
	if p := s.Pictures; len(p) != 3 || p[0].Width != 1 || p[0].Missing() || p[0].Ref != "" || p[1].Ref != `a "good" plank.png` || !p[2].Missing() || p[2].Looked[0] != "a data URI that is not base64" {
		t.Errorf("%+v", p)
	}
}

// Pixels of every number of components, and such as are no picture.
func TestPixels(t *testing.T) {
	for _, c := range []struct {
		image []float64
		want  string // pixels from above, as RGBA
	}{
		{[]float64{1, 2, 1, 7, 9}, "[9 9 9 255 7 7 7 255]"},
		{[]float64{2, 1, 2, 0x1020, 0xff00}, "[16 16 16 32 255 255 255 0]"},
		{[]float64{1, 1, 3, 0x102030}, "[16 32 48 255]"},
		{[]float64{1, 1, 4, 0x10203040, 5}, "[16 32 48 64]"},
		{[]float64{1, 1, 4, 0xff203040}, "[255 32 48 64]"},
		{[]float64{}, "a picture of 0 numbers"},
		{[]float64{2, 2, 1, 1, 2, 3}, "a picture of 2 by 2 pixels of 1 components, and 3 pixels"},
		{[]float64{1e9, 1e9, 1, 1}, "a picture of 1e+09 by 1e+09 pixels of 1 components, and 1 pixels"},
		{[]float64{1, 1, 5, 1}, "a picture of 1 by 1 pixels of 5 components, and 1 pixels"},
		{[]float64{0, 0, 0}, "a picture of 0 by 0 pixels of 0 components, and 0 pixels"},
		{[]float64{math.NaN(), 1, 1, 1}, "a picture of NaN by 1 pixels of 1 components, and 1 pixels"},
	} {
		img, err := pixels(c.image)
		got := fmt.Sprint(err)
		if err == nil {
			got = fmt.Sprint(img.(*image.NRGBA).Pix)
		}
		if got != c.want {
			t.Errorf("%v: %s, want %s", c.image, got, c.want)
		}
	}
}

// Textures stand in an appearance or in the fields of its material.
func TestRolesOfTextures(t *testing.T) {
	texture := func(field string) string {
		return `<ImageTexture url='"` + field + `.png"' containerField="` + field + `"/>`
	}
	for _, c := range []struct{ appearance, want, notes string }{
		{`<Material/>` + texture("texture"), "colour texture.png", ""},
		{`<PhysicalMaterial normalScale="0.5" occlusionStrength="0.25">` + texture("baseTexture") + texture("normalTexture") + texture("metallicRoughnessTexture") + texture("occlusionTexture") + texture("emissiveTexture") + `</PhysicalMaterial>`,
			"colour baseTexture.png, metallic-roughness metallicRoughnessTexture.png, normal normalTexture.png x 0.5, occlusion occlusionTexture.png x 0.25, emission emissiveTexture.png", ""},
		{`<UnlitMaterial>` + texture("emissiveTexture") + `</UnlitMaterial>`, "colour emissiveTexture.png", ""},
		{`<Material>` + texture("diffuseTexture") + texture("specularTexture") + `</Material>` + texture("texture"), "colour diffuseTexture.png", "a texture in specularTexture was left out; a texture beside a material's own was left out"},
		{`<Material/><MovieTexture url="a.mpg"/>`, "", "a node of the kind MovieTexture was left out"},
		{`<Material/><ImageTexture/>`, "", "a node of the kind ImageTexture was left out"},
	} {
		s := must(t, `<X3D><Scene><Shape><Appearance>`+c.appearance+`</Appearance><Box/></Shape></Scene></X3D>`)
		var have, notes []string
		for _, x := range s.Materials[0].Textures {
			text := fmt.Sprintf("%s %s", x.Role, s.Pictures[x.Picture].Ref)
			if x.Scale != 1 {
				text += fmt.Sprintf(" x %g", x.Scale)
			}
			have = append(have, text)
		}
		for _, n := range s.Notes {
			notes = append(notes, n.Text)
		}
		if got := strings.Join(have, ", "); got != c.want || strings.Join(notes, "; ") != c.notes {
			t.Errorf("%s: %s, notes %q; want %s, %q", c.appearance, got, notes, c.want, c.notes)
		}
		// What is written of it reads the same.
		files, _, err := Writers()[0].Write(s, "x")
		if err != nil {
			t.Fatal(err)
		}
		again := must(t, string(files[0].Data))
		if Writers()[0].Name == "x3d" && len(again.Materials[0].Textures) != len(have) {
			t.Errorf("%s: %d textures of %d are left: %s", c.appearance, len(again.Materials[0].Textures), len(have), files[0].Data)
		}
	}
}
