package step

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"path"
	"slices"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/pick"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// shelfOf is what lies beyond in tests: assets and pictures by their paths.
type shelfOf struct {
	assets   map[string]*scene.Scene
	pictures []scene.Picture // their Ref is the path
}

func (b shelfOf) Asset(_ context.Context, from string) (*scene.Scene, error) {
	if s := b.assets[from]; s != nil {
		return s, nil
	}
	return nil, fmt.Errorf("no model %s was found", from)
}

func (b shelfOf) Pictures(_ context.Context, glob string) (out []string, err error) {
	for i := range b.pictures {
		glob = strings.ToLower(glob)
		if n := path.Base(b.pictures[i].Ref); pick.Fits(glob, n) || pick.Fits(glob, strings.TrimSuffix(n, path.Ext(n))) {
			out = append(out, b.pictures[i].Ref)
		}
	}
	return out, nil
}

func (b shelfOf) Picture(_ context.Context, name string) (scene.Picture, error) {
	for _, p := range b.pictures {
		if p.Ref == name || strings.TrimSuffix(path.Base(p.Ref), path.Ext(p.Ref)) == strings.TrimSuffix(path.Base(name), path.Ext(name)) {
			p.Name, p.Found = path.Base(p.Ref), "pack: "+p.Ref
			return p, nil
		}
	}
	return scene.Picture{}, fmt.Errorf("no picture %s was found", name)
}

func beyondApply(t *testing.T, name string, s *scene.Scene, b Beyond, params map[string]any) (*scene.Scene, *Report) {
	t.Helper()
	k, err := Get(name)
	if err != nil {
		t.Fatal(err)
	}
	var r Report
	before := marshalled(t, s)
	out, err := k.Apply(context.Background(), s, marshal(t, params), b, &r)
	if err != nil {
		t.Fatal(err)
	}
	if err := out.Validate(); err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	if marshalled(t, s) != before {
		t.Fatalf("%s has changed the scene that it was given", name)
	}
	return out, &r
}

// plain is a picture of one colour, but for f.
func plain(t *testing.T, ref string, w, h int, f func(x, y int) color.NRGBA) scene.Picture {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetNRGBA(x, y, f(x, y))
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return scene.Picture{Name: path.Base(ref), Ref: ref, MIME: "image/png", Width: w, Height: h, Data: b.Bytes()}
}

func all(c color.NRGBA) func(x, y int) color.NRGBA { return func(int, int) color.NRGBA { return c } }

func texel(t *testing.T, s *scene.Scene, m int, role scene.Role, x, y int) color.NRGBA {
	t.Helper()
	tex := s.Materials[m].Texture(role)
	if tex == nil {
		t.Fatalf("%s has no picture for %s", s.Materials[m].Name, role)
	}
	img, err := pixels(&s.Pictures[tex.Picture])
	if err != nil {
		t.Fatal(err)
	}
	return img.NRGBAAt(x, y)
}

func TestPicturesByTable(t *testing.T) {
	s := village()
	s.Materials = append(s.Materials, scene.NewMaterial("Wall_north"))
	b := shelfOf{pictures: []scene.Picture{
		plain(t, "tex/wall_c.png", 2, 2, all(color.NRGBA{10, 20, 30, 255})),
		plain(t, "tex/wall_north_c.png", 2, 2, all(color.NRGBA{90, 20, 30, 255})),
		plain(t, "tex/wall_m.png", 2, 2, all(color.NRGBA{0, 200, 100, 255})),
		plain(t, "tex/pane.png", 2, 2, all(color.NRGBA{1, 2, 3, 40})),
	}}
	out, r := beyondApply(t, "materials", s, b, map[string]any{"table": []map[string]any{
		{"material": "wall*", "role": "colour", "picture": "{material}_c"},
		{"material": "wall", "role": "metallic-roughness", "picture": "*_m.png"},
		{"material": "gl*ss", "role": "colour", "picture": "p{1}ne.png", "uv_set": 2},
		{"material": "roof", "role": "colour", "picture": "*"},
		{"material": "glass", "role": "emission", "picture": "glow"},
	}})
	if texel(t, out, 0, scene.RoleColour, 0, 0).R != 10 || texel(t, out, 2, scene.RoleColour, 0, 0).R != 90 {
		t.Error("{material} is the material's own name, in any case")
	}
	if m := out.Materials[0]; m.Metallic != 1 || m.Roughness != 1 || texel(t, out, 0, scene.RoleMetalRgh, 0, 0).G != 200 {
		t.Errorf("a factor hides the picture: %+v", m)
	}
	if tex := out.Materials[1].Texture(scene.RoleColour); tex == nil || tex.UVSet != 1 || texel(t, out, 1, scene.RoleColour, 0, 0).A != 40 {
		t.Errorf("{1} is what the * stood for: %+v", tex)
	}
	said := strings.Join(r.Lines, "\n")
	for _, want := range []string{"4 pictures given", "no picture fits glow (emission of glass)", "no material is named roof"} {
		if !strings.Contains(said, want) {
			t.Errorf("%q is not said: %s", want, said)
		}
	}
	again, r := beyondApply(t, "materials", out, b, map[string]any{"table": []map[string]any{{"material": "wall", "role": "colour", "picture": "wall_c"}}})
	if !r.Idle || len(again.Pictures) != len(out.Pictures) {
		t.Errorf("it is there already: %v", r.Lines)
	}
	k, _ := Get("materials")
	if asks, err := k.Asks([]byte(`{"table": [{"material": "a", "role": "colour", "picture": "*_c"}]}`)); err != nil || len(asks) != 1 || asks[0].Pictures != "*_c" {
		t.Errorf("%v, %v", asks, err)
	}
	if k.Check([]byte(`{"table": [{"material": "a", "role": "paint", "picture": "*_c"}]}`)) == nil {
		t.Error("paint is no role")
	}
}

func TestRelink(t *testing.T) {
	s := village()
	s.Pictures = []scene.Picture{{Name: "wall_diff.tga", Ref: "old/wall_diff.tga"}, {Name: "gone.tga", Ref: "gone.tga"}}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0, Scale: 1}, {Role: scene.RoleEmission, Picture: 1, Scale: 1}}
	b := shelfOf{pictures: []scene.Picture{plain(t, "new/wall_c.png", 2, 2, all(color.NRGBA{7, 7, 7, 255}))}}
	if _, r := beyondApply(t, "relink", s, b, nil); !r.Idle || !strings.Contains(r.Lines[0], "none of 2 missing pictures") {
		t.Errorf("%v", r.Lines)
	}
	out, r := beyondApply(t, "relink", s, b, map[string]any{"replace": []map[string]any{{"from": "_diff", "to": "_c"}}})
	if texel(t, out, 0, scene.RoleColour, 1, 1).R != 7 || out.Pictures[0].Found != "pack: new/wall_c.png" || !strings.Contains(strings.Join(r.Lines, " "), "still missing: gone.tga") {
		t.Errorf("%+v %v", out.Pictures[0], r.Lines)
	}
}

func TestChannels(t *testing.T) {
	s := withPicture(t, func(x, y int) uint8 { return 255 }) // 200, 100, 50
	b := shelfOf{pictures: []scene.Picture{
		plain(t, "reed_o.png", 64, 64, func(x, y int) color.NRGBA { return color.NRGBA{uint8(4 * x), 9, 9, 255} }),
		plain(t, "reed_gloss.png", 32, 32, all(color.NRGBA{30, 60, 90, 255})),
	}}
	wall := map[string]any{"material": "wall"}
	out, r := beyondApply(t, "channels", s, b, where(wall, "into", "a", "picture", "*_o*", "from_channel", "r"))
	if p := out.Pictures[out.Materials[0].Textures[0].Picture]; p.Width != 64 || len(out.Pictures) != 1 {
		t.Errorf("the larger of both sizes: %d; %d pictures; %v", p.Width, len(out.Pictures), r.Lines)
	}
	if c := texel(t, out, 0, scene.RoleColour, 10, 5); c != (color.NRGBA{200, 100, 50, 40}) {
		t.Errorf("%v", c)
	}
	if !strings.Contains(strings.Join(r.Lines, " "), "the step alpha") {
		t.Errorf("%v", r.Lines)
	}
	for _, c := range []struct {
		params map[string]any
		want   color.NRGBA
	}{
		{map[string]any{"order": "bgr"}, color.NRGBA{50, 100, 200, 255}},
		{map[string]any{"order": "r011"}, color.NRGBA{200, 0, 255, 255}},
		{map[string]any{"into": "g", "from_channel": "g", "invert": true}, color.NRGBA{200, 155, 50, 255}},
		{map[string]any{"into": "a", "from_channel": "0"}, color.NRGBA{200, 100, 50, 0}},
		{map[string]any{"into": "rgb", "from_channel": "grey"}, color.NRGBA{118, 118, 118, 255}}, // 0.2126*200 + 0.7152*100 + 0.0722*50 = 117.65
		{map[string]any{"order": "bgra", "into": "a", "from_channel": "r"}, color.NRGBA{50, 100, 200, 50}},
	} {
		p := where(wall)
		for k, v := range c.params {
			p[k] = v
		}
		out, _ := beyondApply(t, "channels", s, b, p)
		if got := texel(t, out, 0, scene.RoleColour, 3, 3); got != c.want {
			t.Errorf("%v: %v, by hand %v", c.params, got, c.want)
		}
	}
	// Roughness from gloss, where the material has no such picture.
	rough, _ := beyondApply(t, "channels", s, b, where(wall, "role", "metallic-roughness", "into", "g", "picture", "*_gloss", "from_channel", "r", "invert", true))
	if c := texel(t, rough, 0, scene.RoleMetalRgh, 1, 1); c.G != 225 || rough.Materials[0].Roughness != 1 {
		t.Errorf("%v %+v", c, rough.Materials[0])
	}
	if _, r := beyondApply(t, "channels", s, b, where(map[string]any{"material": "glass"}, "order", "bgr")); !r.Idle || !strings.Contains(strings.Join(r.Lines, " "), "glass") {
		t.Errorf("%v", r.Lines)
	}
	// Neither a picture to change nor one to take from, whatever is filled in.
	for _, from := range []string{"r", "1"} {
		if _, r := beyondApply(t, "channels", s, b, where(map[string]any{"material": "glass"}, "into", "a", "picture", "nowhere*", "from_channel", from)); !r.Idle {
			t.Errorf("%v", r.Lines)
		}
	}
	k, _ := Get("channels")
	for _, bad := range []string{`{"order": "xy"}`, `{"order": "rgbar"}`, `{"into": "h"}`, `{"from_channel": ""}`} {
		if k.Check([]byte(bad)) == nil {
			t.Errorf("%s was accepted", bad)
		}
	}
}

func TestPicturesStep(t *testing.T) {
	// A checker of black and white: as light its mean is a half, stored as 188.
	s := village()
	s.Pictures = []scene.Picture{
		plain(t, "wall_c.png", 100, 60, func(x, y int) color.NRGBA { v := uint8(255 * ((x + y) % 2)); return color.NRGBA{v, v, v, 255} }),
		plain(t, "wall_n.png", 64, 64, func(x, y int) color.NRGBA {
			return []color.NRGBA{{255, 128, 128, 255}, {128, 255, 128, 255}}[(x+y)%2]
		}),
	}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0, Scale: 1}, {Role: scene.RoleNormal, Picture: 1, Scale: 1}}
	out, r := apply(t, "pictures", s, map[string]any{"longest": 50, "powers_of_two": true})
	if a, b := out.Pictures[0], out.Pictures[1]; a.Width != 32 || a.Height != 16 || b.Width != 32 || b.Height != 32 {
		t.Errorf("%d x %d, %d x %d: %v", a.Width, a.Height, b.Width, b.Height, r.Lines)
	}
	half, _ := apply(t, "pictures", s, map[string]any{"longest": 50})
	if c := texel(t, half, 0, scene.RoleColour, 20, 15); c.R < 186 || c.R > 190 {
		t.Errorf("the mean of black and white as light is 188, not %d", c.R)
	}
	if c := texel(t, half, 0, scene.RoleNormal, 10, 10); math.Hypot(math.Hypot(float64(c.R)-127.5, float64(c.G)-127.5), float64(c.B)-127.5) < 125 {
		t.Errorf("a normal of length less than 1: %v", c)
	}
	jpg, r := apply(t, "pictures", s, map[string]any{"format": "jpeg"})
	if p := jpg.Pictures[0]; p.MIME != "image/jpeg" || p.Name != "wall_c.jpg" || !bytes.HasPrefix(p.Data, []byte{0xff, 0xd8}) {
		t.Errorf("%s %s %v", p.MIME, p.Name, r.Lines)
	}
	if _, r := apply(t, "pictures", out, map[string]any{"longest": 50, "powers_of_two": true}); !r.Idle {
		t.Errorf("%v", r.Lines)
	}
	clear := withPicture(t, func(x, y int) uint8 { return uint8(8 * x) })
	if _, r := apply(t, "pictures", clear, map[string]any{"format": "jpeg"}); !r.Idle || !strings.Contains(r.Lines[0], "alpha") {
		t.Errorf("%v", r.Lines)
	}
	// What is clear has no say in the colour beside it.
	img := image.NewNRGBA(image.Rect(0, 0, 2, 1))
	img.SetNRGBA(0, 0, color.NRGBA{200, 0, 0, 255})
	if c := pixel.Resized(img, 1, 1, pixel.Colour).NRGBAAt(0, 0); c.R < 199 || c.A < 126 || c.A > 129 {
		t.Errorf("%v", c)
	}
}

func TestBringIn(t *testing.T) {
	s := withPicture(t, func(x, y int) uint8 { return 255 })
	o := withPicture(t, func(x, y int) uint8 { return 255 })
	o.Name = "hamlet"
	inches := geom.Basis{Up: geom.PlusZ, Front: geom.MinusY, Handed: geom.Right, MetresPerUnit: 0.0254}
	turned, err := o.InBasis(inches)
	if err != nil {
		t.Fatal(err)
	}
	b := shelfOf{assets: map[string]*scene.Scene{"packs/hamlet.glb": turned}}
	out, r := beyondApply(t, "bring-in", s, b, map[string]any{"from": "packs/hamlet.glb", "at": []float64{100, 0, 0}, "turn": 90, "scale": 2})
	if len(out.Materials) != len(s.Materials) || len(out.Pictures) != 1 || len(out.Nodes) != 11 || len(out.Motions) != 2 {
		t.Errorf("%d materials, %d pictures, %d nodes, %d motions: %v",
			len(out.Materials), len(out.Pictures), len(out.Nodes), len(out.Motions), r.Lines)
	}
	// By hand: turned a quarter counter-clockwise seen from above, x becomes -z.
	n := out.Nodes[5]
	if n.Name != "hamlet" || n.Translation != [3]float32{100, 0, 0} {
		t.Fatalf("%+v", n)
	}
	was := s.Bounds()
	only, _ := apply(t, "keep", out, where(map[string]any{"under": "hamlet"}))
	is := only.Bounds()
	want := geom.Box{Min: geom.Vec3{100 + 2*was.Min[2], 2 * was.Min[1], -2 * was.Max[0]}, Max: geom.Vec3{100 + 2*was.Max[2], 2 * was.Max[1], -2 * was.Min[0]}}
	if is.Min.Sub(want.Min).Len()+is.Max.Sub(want.Max).Len() > 1e-3 {
		t.Errorf("it lies from %v to %v, by hand %v to %v", is.Min, is.Max, want.Min, want.Max)
	}
	// The same one as it is is stored once.
	b.assets["same"] = s
	twice, _ := beyondApply(t, "bring-in", s, b, map[string]any{"from": "same"})
	if len(twice.Meshes) != len(s.Meshes) || twice.Stats().Triangles != 2*s.Stats().Triangles {
		t.Errorf("%d meshes, %d triangles", len(twice.Meshes), twice.Stats().Triangles)
	}
	// A figure comes with its skin and motion.
	b.assets["figure"] = figure()
	f, _ := beyondApply(t, "bring-in", s, b, map[string]any{"from": "figure"})
	if st := f.Stats(); st.Bones != figure().Stats().Bones || st.Motions != 2 || st.Morphs != figure().Stats().Morphs {
		t.Errorf("%+v", st)
	}
	k, _ := Get("bring-in")
	if _, err := k.Apply(context.Background(), s, []byte(`{"from": "nowhere.glb"}`), b, &Report{}); err == nil || !strings.Contains(err.Error(), "nowhere.glb") {
		t.Errorf("%v", err)
	}
	if _, err := k.Apply(context.Background(), s, []byte(`{"from": "x"}`), nil, &Report{}); err == nil {
		t.Error("there is nothing outside")
	}
}

func TestTakeMaterials(t *testing.T) {
	s := village()
	o := withPicture(t, func(x, y int) uint8 { return 255 })
	o.Materials[0].Name, o.Materials[1].Name = "WALL_01", "glass"
	o.Materials[1].Metallic = 1
	b := shelfOf{assets: map[string]*scene.Scene{"colours.glb": o}}
	out, r := beyondApply(t, "take-materials", s, b, map[string]any{"from": "colours.glb"})
	if len(out.Materials) != 2 || texel(t, out, slices.IndexFunc(out.Materials, func(m scene.Material) bool { return m.Name == "WALL_01" }), scene.RoleColour, 0, 0).R != 200 {
		t.Errorf("%+v %v", out.Materials, r.Lines)
	}
	same(t, "by names", s, out)
	// By the nearest surface: the same shape in one part, all of one material.
	grey := village()
	for i := range grey.Meshes {
		for j := range grey.Meshes[i].Parts {
			grey.Meshes[i].Parts[j].Material = 0
		}
	}
	back, r := beyondApply(t, "take-materials", grey, b, map[string]any{"from": "colours.glb", "by": "surface"})
	same(t, "by surface", s, back)
	area := func(x *scene.Scene, name string) float64 {
		only, _ := apply(t, "keep", x, where(map[string]any{"material": name}))
		return only.Stats().Area
	}
	if a, b := area(back, "WALL_01"), area(o, "WALL_01"); math.Abs(a-b) > 0.02*b {
		t.Errorf("%g of its surface is wall, %g is so there; %v", a, b, r.Lines)
	}
	// Ten times as large and elsewhere, one is laid over the other.
	big, _ := apply(t, "scale", grey, map[string]any{"factor": 10})
	laid, r := beyondApply(t, "take-materials", big, b, map[string]any{"from": "colours.glb", "by": "surface", "lay": true})
	if a, b := area(laid, "WALL_01"), 100*area(o, "WALL_01"); math.Abs(a-b) > 0.02*b {
		t.Errorf("%g of its surface is wall, %g is so there; %v", a, b, r.Lines)
	}
}

// Every face shows on the sheet what it showed on its own picture.
func TestAtlas(t *testing.T) {
	s := village()
	s.Pictures = []scene.Picture{
		plain(t, "wall_c.png", 32, 64, func(x, y int) color.NRGBA { return color.NRGBA{uint8(8 * x), uint8(4 * y), 10, 255} }),
		plain(t, "glass_c.png", 16, 16, func(x, y int) color.NRGBA { return color.NRGBA{200, uint8(16 * x), uint8(16 * y), 255} }),
	}
	for k := range 2 {
		s.Materials[k].Textures = []scene.Texture{{Role: scene.RoleColour, Picture: k, Scale: 1}}
	}
	s, _ = apply(t, "strip", s, where(map[string]any{"node": "shed"})) // its first set repeats
	out, r := apply(t, "atlas", s, nil)
	if len(out.Materials) != 1 || len(out.Pictures) != 1 {
		t.Fatalf("%d materials, %d pictures: %v", len(out.Materials), len(out.Pictures), r.Lines)
	}
	same(t, "on a sheet", s, out)
	sheet, err := pixels(&out.Pictures[0])
	if err != nil {
		t.Fatal(err)
	}
	w, h := sheet.Rect.Dx(), sheet.Rect.Dy()
	if w&(w-1) != 0 || h&(h-1) != 0 || w > 128 {
		t.Errorf("%d x %d", w, h)
	}
	for i := range s.Meshes {
		for j := range s.Meshes[i].Parts {
			was, is := &s.Meshes[i].Parts[j], &out.Meshes[i].Parts[j]
			own, err := pixels(&s.Pictures[was.Material])
			if err != nil {
				t.Fatal(err)
			}
			tex := scene.Texture{WrapU: scene.Clamp, WrapV: scene.Clamp}
			for v := range was.Vertices() {
				a := colourAt(own, float64(was.UVs[0].Data[2*v]), float64(was.UVs[0].Data[2*v+1]), &tex)
				b := colourAt(sheet, float64(is.UVs[0].Data[2*v]), float64(is.UVs[0].Data[2*v+1]), &tex)
				for k := range a {
					if math.Abs(a[k]-b[k]) > 1e-3 {
						t.Fatalf("%s, part %d, vertex %d: %v, was %v", s.Meshes[i].Name, j, v, b, a)
					}
				}
			}
		}
	}
	whole, r := apply(t, "atlas", village(), nil)
	if !r.Idle || len(whole.Materials) != 2 {
		t.Errorf("without pictures: %v", r.Lines)
	}
	k, _ := Get("atlas")
	if _, err := k.Apply(context.Background(), s, []byte(`{"size": 32}`), nil, &Report{}); err == nil || !strings.Contains(err.Error(), "do not fit") {
		t.Errorf("%v", err)
	}
	over := s
	over.Meshes[0].Parts[0].UVs[0].Data = slices.Clone(over.Meshes[0].Parts[0].UVs[0].Data)
	over.Meshes[0].Parts[0].UVs[0].Data[0] = 1.5
	if _, r := apply(t, "atlas", over, nil); !r.Idle || !strings.Contains(r.Lines[0], "wall") {
		t.Errorf("the walls repeat theirs: %v", r.Lines)
	}
}

// From a picture to vertex colours and back, on UVs that do not overlap.
func TestColours(t *testing.T) {
	p := scene.Part{Material: 0, UVs: []scene.AttrSet{{Name: "uv"}}}
	const n = 32
	for y := range n + 1 {
		for x := range n + 1 {
			p.Positions = append(p.Positions, float32(x), float32(y), 0)
			p.Normals = append(p.Normals, 0, 0, 1)
			p.UVs[0].Data = append(p.UVs[0].Data, float32(x)/n, float32(y)/n)
			if x < n && y < n {
				a := uint32(y*(n+1) + x)
				p.Triangles = append(p.Triangles, a, a+1, a+n+2, a, a+n+2, a+n+1)
			}
		}
	}
	s := one(p)
	s.Pictures = []scene.Picture{plain(t, "smooth.png", 64, 64, func(x, y int) color.NRGBA { return color.NRGBA{uint8(60 + 2*x), uint8(60 + 2*y), 128, 255} })}
	s.Materials[0].Textures = []scene.Texture{{Role: scene.RoleColour, Scale: 1, WrapU: scene.Clamp, WrapV: scene.Clamp}}
	out, r := apply(t, "colours", s, map[string]any{"drop": true})
	if len(out.Pictures) != 0 || len(out.Materials[0].Textures) != 0 || len(r.Losses) != 1 {
		t.Errorf("%d pictures: %v", len(out.Pictures), r.Lines)
	}
	set := out.Meshes[0].Parts[0].Colours[0]
	mid := (n/2)*(n+1) + n/2
	// By hand: in the middle the texels 31 and 32 of both ways meet.
	if want := (pixel.Light(122) + pixel.Light(124)) / 2; math.Abs(float64(set.Data[4*mid])-want) > 1e-5 || math.Abs(float64(set.Data[4*mid+1])-want) > 1e-5 {
		t.Errorf("%v, by hand %g", set.Data[4*mid:4*mid+4], want)
	}
	back, r := apply(t, "colours", out, map[string]any{"way": "to-picture", "size": 64, "drop": true})
	img, err := pixels(&back.Pictures[0])
	if err != nil {
		t.Fatal(err)
	}
	for y := 1; y < 63; y++ {
		for x := 1; x < 63; x++ {
			if c := img.NRGBAAt(x, y); math.Abs(float64(c.R)-float64(60+2*x)) > 2 || math.Abs(float64(c.G)-float64(60+2*y)) > 2 || c.A != 255 {
				t.Fatalf("at %d %d: %v; %v", x, y, c, r.Lines)
			}
		}
	}
	if len(back.Meshes[0].Parts[0].Colours) != 0 || len(r.Losses) != 0 {
		t.Errorf("%v", r)
	}
	// The same place on the picture in two colours is said.
	two := out.Meshes[0].Parts[0]
	over := owned(two)
	appendPart(&over, &two)
	for v := two.Vertices(); v < over.Vertices(); v++ {
		over.Colours[0].Data[4*v] = 0
	}
	if _, r := apply(t, "colours", one(over), map[string]any{"way": "to-picture", "size": 64}); len(r.Losses) != 1 || !strings.Contains(r.Losses[0], "overlap") {
		t.Errorf("%v", r)
	}
	white, _ := apply(t, "colours", out, map[string]any{"way": "to-alpha"})
	if d := white.Meshes[0].Parts[0].Colours[0].Data[4*mid : 4*mid+4]; d[0] != 1 || math.Abs(float64(d[3])-(0.9278*float64(set.Data[4*mid])+0.0722*pixel.Light(128))) > 1e-5 {
		t.Errorf("%v", d)
	}
}
