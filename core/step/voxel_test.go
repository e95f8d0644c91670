package step

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"math"
	"strings"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/voxel"
)

// voxels is the volume of a scene's only mesh with one.
func voxels(t *testing.T, s *scene.Scene) *scene.Volume {
	t.Helper()
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	for i := range s.Meshes {
		if v := s.Meshes[i].Voxels(); v != nil {
			return v
		}
	}
	t.Fatal("the scene has no volume")
	return nil
}

// slab is a box of 4 x 2 x 1 m about the origin, red at +x and blue elsewhere.
func slab() *scene.Scene {
	s := one(block(4, 2, 1))
	s.Meshes[0].Parts[0].Material = scene.None
	p := &s.Meshes[0].Parts[0]
	colours := make([]float32, 0, 4*p.Vertices())
	for v := range p.Vertices() {
		if p.Normals[3*v] > 0.9 {
			colours = append(colours, 1, 0, 0, 1)
		} else {
			colours = append(colours, 0, 0, 1, 1)
		}
	}
	p.Colours = []scene.AttrSet{{Name: "colour", Data: colours}}
	return s
}

// block is a closed box about the origin with a vertex for each corner of each
// side.
func block(w, h, d float32) scene.Part {
	p := scene.Part{Material: scene.None}
	for axis := range 3 {
		for _, sign := range []float32{-1, 1} {
			u, v := (axis+1)%3, (axis+2)%3
			half := [3]float32{w / 2, h / 2, d / 2}
			first := uint32(p.Vertices())
			for _, c := range [4][2]float32{{-1, -1}, {1, -1}, {1, 1}, {-1, 1}} {
				var at, n [3]float32
				at[axis], at[u], at[v] = sign*half[axis], c[0]*half[u], c[1]*half[v]
				n[axis] = sign
				p.Positions, p.Normals = append(p.Positions, at[:]...), append(p.Normals, n[:]...)
			}
			if sign > 0 {
				p.Triangles = append(p.Triangles, first, first+1, first+2, first, first+2, first+3)
			} else {
				p.Triangles = append(p.Triangles, first, first+2, first+1, first, first+3, first+2)
			}
		}
	}
	return p
}

// A slab becomes as many voxels as its sides say, where it stood, wherever its
// node puts it; its surfaces enclose the same.
func TestVoxelise(t *testing.T) {
	s := slab()
	s.Nodes[0].Translation = [3]float32{10, 5, -3}
	out, r := apply(t, "voxelise", s, map[string]any{"longest": 40})
	v := voxels(t, out)
	if v.Dims != [3]int{40, 20, 10} || voxel.Count(v) != 8000 || math.Abs(float64(v.Size)-0.1) > 1e-6 {
		t.Errorf("%v voxels of %g, %d filled", v.Dims, v.Size, voxel.Count(v))
	}
	a, b := s.Bounds(), out.Bounds()
	if a.Min.Sub(b.Min).Len() > 1e-5 || a.Max.Sub(b.Max).Len() > 1e-5 {
		t.Errorf("from %v to %v", a, b)
	}
	if _, volume := closed(&out.Meshes[len(out.Meshes)-1].Parts[0]); math.Abs(volume-8) > 1e-3 {
		t.Errorf("%v cubic metres", volume)
	}
	if c := v.Palette[v.At(39, 10, 5)-1].Colour; c != [3]uint8{255, 0, 0} {
		t.Errorf("the red side is %v", c)
	}
	if !strings.Contains(strings.Join(r.Lines, "\n"), "8000 voxels of 0.1 m, 40 × 20 × 10") {
		t.Errorf("%q", r.Lines)
	}
	// By size, in a scene of centimetres; a shell of two.
	s.Basis.MetresPerUnit = 0.01
	out, _ = apply(t, "voxelise", s, map[string]any{"size": 0.002, "fill": "shell", "thickness": 2})
	if v = voxels(t, out); v.Dims != [3]int{20, 10, 5} || voxel.Count(v) != 1000-16*6*1 {
		t.Errorf("%v, %d filled", v.Dims, voxel.Count(v))
	}
	// What is not chosen stays, and what has no surface has no voxels.
	s.Nodes = append(s.Nodes, s.Nodes[0])
	s.Nodes[1].Name = "other"
	out, _ = apply(t, "voxelise", s, map[string]any{"where": map[string]any{"node": "other"}, "longest": 4})
	if len(out.Nodes) != 2 || out.Nodes[0].Name != "thing" || out.Nodes[1].Name != "voxels" {
		t.Errorf("%+v", out.Nodes)
	}
	empty := one(scene.Part{Material: scene.None})
	if _, r := apply(t, "voxelise", empty, nil); !r.Idle {
		t.Errorf("%+v", r)
	}
	kind, _ := Get("voxelise")
	if _, err := kind.Apply(t.Context(), s, []byte(`{"size": 0.00000001}`), nil, &Report{}); err == nil ||
		!strings.Contains(err.Error(), "at most 1024") {
		t.Errorf("%v", err)
	}
}

// A cutout has voxels where its picture is opaque only, with the picture's
// colours; walls that stand askew are told.
func TestVoxeliseRespectsAlpha(t *testing.T) {
	img := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	for i := range 64 * 64 {
		c := color.NRGBA{0, 200, 0, 255}
		if i%64 >= 32 {
			c.A = 0
		}
		img.SetNRGBA(i%64, i/64, c)
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	leaf := one(scene.Part{
		Positions: []float32{0, 0, 0.1, 2, 0, 0.1, 2, 2, 0.1, 0, 2, 0.1}, Triangles: []uint32{0, 1, 2, 0, 2, 3},
		UVs: []scene.AttrSet{{Name: "uv", Data: []float32{0, 1, 1, 1, 1, 0, 0, 0}}},
	})
	leaf.Pictures = []scene.Picture{{Name: "leaf", MIME: "image/png", Width: 64, Height: 64, Data: b.Bytes()}}
	m := &leaf.Materials[0]
	m.Alpha, m.Textures = scene.Cutout, []scene.Texture{
		{Role: scene.RoleColour, Scale: 1, WrapU: scene.Clamp, WrapV: scene.Clamp},
	}
	out, _ := apply(t, "voxelise", leaf, map[string]any{"longest": 20})
	v := voxels(t, out)
	if n := voxel.Count(v); n != 200 || v.At(5, 5, 0) == 0 || v.At(15, 5, 0) != 0 {
		t.Errorf("%d voxels of a half", n)
	}
	if c := v.Palette[v.At(5, 5, 0)-1].Colour; c != [3]uint8{0, 200, 0} {
		t.Errorf("green is %v", c)
	}
	m.Alpha = scene.Opaque
	out, _ = apply(t, "voxelise", leaf, map[string]any{"longest": 20})
	if n := voxel.Count(voxels(t, out)); n != 400 {
		t.Errorf("opaque: %d", n)
	}
	wall := slab()
	turned := geom.AxisAngle(geom.Vec3{0, 1, 0}, 17*math.Pi/180)
	for k := range turned {
		wall.Nodes[0].Rotation[k] = float32(turned[k])
	}
	_, r := apply(t, "voxelise", wall, map[string]any{"longest": 20})
	if !strings.Contains(strings.Join(r.Lines, "\n"), "17° off the grid") {
		t.Errorf("%q", r.Lines)
	}
}

// Steps on voxels see those that are still what is shown, and say so where they
// are not.
func TestVoxelSteps(t *testing.T) {
	made, _ := apply(t, "voxelise", slab(), map[string]any{"longest": 40})
	for _, c := range []struct {
		step   string
		params map[string]any
		left   int
	}{
		{"voxel-shape", map[string]any{"do": "hollow", "by": 1}, 8000 - 38*18*8},
		{"voxel-shape", map[string]any{"do": "shrink", "by": 2}, 36 * 16 * 6},
		{"voxel-shape", map[string]any{"do": "grow", "by": 1}, 8000 + 2*(800+400+200)},
		{"voxel-erase", map[string]any{"box": []float64{-2, -1, -0.5, 0, 1, 0.5}}, 4000},
		{"voxel-erase", map[string]any{"colour": "#ff0000", "within": 5}, 8000 - 18*8}, // edges are of two colours
		{"voxel-shape", map[string]any{"do": "mirror", "axis": "x", "keep": "high"}, 8000},
	} {
		out, r := apply(t, c.step, made, c.params)
		if n := voxel.Count(voxels(t, out)); n != c.left || r.Idle {
			t.Errorf("%s %v: %d voxels, not %d; %+v", c.step, c.params, n, c.left, r)
		}
	}
	out, _ := apply(t, "voxel-shape", made, map[string]any{"do": "mirror", "axis": "x", "keep": "high"})
	v := voxels(t, out)
	if a, b := v.Palette[v.At(0, 10, 5)-1].Colour, v.Palette[v.At(39, 10, 5)-1].Colour; a != b ||
		a != [3]uint8{255, 0, 0} {
		t.Errorf("the mirrored side is %v, its image %v", b, a)
	}
	for _, c := range []map[string]any{{"do": "fill"}, {"do": "drop-loose", "by": 8}} {
		if _, r := apply(t, "voxel-shape", made, c); !r.Idle {
			t.Errorf("%v of a solid: %+v", c, r)
		}
	}
	kind, _ := Get("voxel-shape")
	if _, err := kind.Apply(t.Context(), made, []byte(`{"do": "shrink", "by": 9}`), nil, &Report{}); err == nil ||
		!strings.Contains(err.Error(), "no voxel of voxels is left") {
		t.Errorf("%v", err)
	}
	if _, err := kind.Apply(t.Context(), made, []byte(`{"do": "grow", "by": 900}`), nil, &Report{}); err == nil {
		t.Error("it grew beyond what there is")
	}
	// A step that moves vertices ends the volume; the steps say what to do.
	moved, r := apply(t, "bake-transforms", func() *scene.Scene {
		x := *made
		x.Nodes = cloned(made.Nodes)
		x.Nodes[0].Scale = [3]float32{2, 2, 2}
		return &x
	}(), nil)
	if moved.Meshes[0].Volume != nil ||
		!strings.Contains(strings.Join(r.Losses, "\n"), "steps on voxels go before this one") {
		t.Errorf("%+v", r)
	}
	if _, r := apply(t, "palette", moved, nil); !r.Idle || !strings.Contains(r.Lines[0], "has voxels") {
		t.Errorf("%+v", r)
	}
	if _, r := apply(t, "palette", slab(), nil); !r.Idle || !strings.Contains(r.Lines[0], "voxelise makes them") {
		t.Errorf("%+v", r)
	}
	// It is kept with the scene.
	b, err := made.Encode()
	if err != nil {
		t.Fatal(err)
	}
	back, err := scene.Decode(b)
	if err != nil {
		t.Fatal(err)
	}
	if n := voxel.Count(voxels(t, back)); n != 8000 {
		t.Errorf("%d voxels came back", n)
	}
}

// A palette of two: every voxel has one of them, the nearer; mixed by dots the
// whole keeps its light.
func TestPalette(t *testing.T) {
	grey := slab()
	c := grey.Meshes[0].Parts[0].Colours[0].Data
	for i := range c {
		if i%4 < 3 {
			c[i] = 0.25
		}
	}
	made, _ := apply(t, "voxelise", grey, map[string]any{"longest": 40, "fill": "shell"})
	all := voxel.Count(voxels(t, made))
	for _, dither := range []bool{false, true} {
		out, r := apply(
			t,
			"palette",
			made,
			map[string]any{"colours": []string{"soot #000000", "lime #ffffff"}, "dither": dither},
		)
		v := voxels(t, out)
		n := voxel.Counts(v)
		if len(v.Palette) != 2 || v.Palette[1].Name != "lime" || n[0]+n[1] != all {
			t.Fatalf("%+v, %v", v.Palette, n)
		}
		share := float64(n[1]) / float64(all)
		if dither && math.Abs(share-0.25) > 0.02 || !dither && n[0] != all && n[1] != all {
			t.Errorf("mixed %v: %.3f of the voxels are white; %q", dither, share, r.Lines)
		}
	}
	out, _ := apply(t, "palette", voxelsOf(t, slab()), map[string]any{"best": 2})
	v := voxels(t, out)
	if len(v.Palette) != 2 {
		t.Errorf("%+v", v.Palette)
	}
	kind, _ := Get("palette")
	for _, bad := range []string{`{"colours": ["red"]}`, `{"colours": ["#12345"]}`, `{"colours": [""]}`, `{"best": 0}`} {
		if err := kind.Check([]byte(bad)); err == nil {
			t.Errorf("%s is taken", bad)
		}
	}
}

func voxelsOf(t *testing.T, s *scene.Scene) *scene.Scene {
	out, _ := apply(t, "voxelise", s, map[string]any{"longest": 40})
	return out
}

// Surfaces of voxels: a material for each colour, or smooth ones that lie within
// half a voxel and enclose about the same.
func TestVoxelsToSurfaces(t *testing.T) {
	two, _ := apply(
		t,
		"palette",
		voxelsOf(t, slab()),
		map[string]any{"colours": []string{"cloth #ff0000", "#0000ff"}},
	)
	out, _ := apply(t, "surfaces", two, map[string]any{"colours": "materials"})
	mesh := out.Meshes[len(out.Meshes)-1]
	if mesh.Volume != nil || len(mesh.Parts) != 2 || out.Materials[mesh.Parts[0].Material].Name != "cloth" ||
		out.Materials[mesh.Parts[1].Material].Name != "#0000ff" {
		t.Errorf("%d parts, %+v", len(mesh.Parts), out.Materials)
	}
	if got := out.Materials[mesh.Parts[0].Material].BaseColour; got != [4]float32{1, 0, 0, 1} {
		t.Errorf("the cloth is %v", got)
	}
	out, _ = apply(t, "surfaces", two, map[string]any{"joined": false})
	if p := &out.Meshes[len(out.Meshes)-1].Parts[0]; len(p.Triangles) != 6*2*(800+400+200) {
		t.Errorf("%d triangles", len(p.Triangles)/3)
	} else if ok, volume := closed(p); !ok || math.Abs(volume-8) > 1e-3 {
		t.Errorf("each by itself: closed %v, %v cubic metres", ok, volume)
	}
	round := one(lump(12))
	made, _ := apply(t, "voxelise", round, map[string]any{"longest": 48})
	_, was := closed(&made.Meshes[len(made.Meshes)-1].Parts[0])
	for _, rounds := range []int{0, 6} {
		out, _ = apply(t, "surfaces", made, map[string]any{"smooth": true, "rounds": rounds})
		p := &out.Meshes[len(out.Meshes)-1].Parts[0]
		ok, volume := closed(p)
		if !ok || math.Abs(volume-was) > 0.04*was {
			t.Errorf("%d rounds: closed %v, %v, was %v", rounds, ok, volume, was)
		}
		off := 0.0
		for v := range p.Vertices() {
			at := at3(p.Positions, uint32(v))
			off = max(off, math.Abs(at.Len()-2))
		}
		if limit := map[int]float64{0: 0.12, 6: 0.06}[rounds]; off > limit { // a voxel is 0.083
			t.Errorf("%d rounds: a vertex lies %.3f off the sphere", rounds, off)
		}
	}
	if _, r := apply(t, "surfaces", round, nil); !r.Idle {
		t.Errorf("%+v", r)
	}
	many := slab()
	for i := range many.Meshes[0].Parts[0].Colours[0].Data {
		many.Meshes[0].Parts[0].Colours[0].Data[i] = float32(i%97) / 97
	}
	kind, _ := Get("surfaces")
	for _, c := range []struct {
		s      *scene.Scene
		params string
		want   string
	}{
		{voxelsOf(t, many), `{"colours": "materials"}`, "a palette step before this one"},
		{made, `{"colours": "materials", "smooth": true}`, "smooth surfaces have vertex colours"},
	} {
		_, err := kind.Apply(t.Context(), c.s, []byte(c.params), nil, &Report{})
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", c.params, err)
		}
	}
}

// Every voxel that a cutout touches is asked for at its own place; what is smaller
// than a voxel is counted when it is left out, and what glows or shines through is
// said.
func TestVoxeliseTells(t *testing.T) {
	half := one(scene.Part{
		Positions: []float32{0, 0, 0.05, 2, 0, 0.05, 2, 2, 0.05, 0, 2, 0.05}, Triangles: []uint32{0, 1, 2, 0, 2, 3},
		Colours: []scene.AttrSet{{Name: "c", Data: []float32{1, 1, 1, 1, 1, 1, 1, 0, 1, 1, 1, 0, 1, 1, 1, 1}}},
	})
	half.Materials[0].Alpha, half.Materials[0].Cutoff = scene.Cutout, 0.5
	for _, touch := range []bool{false, true} {
		out, _ := apply(t, "voxelise", half, map[string]any{"longest": 20, "touch": touch})
		v := voxels(t, out)
		if v.At(3, 10, 0) == 0 || v.At(17, 10, 0) != 0 {
			t.Errorf("touched %v: the clear side is filled %v, the other %v", touch, v.At(17, 10, 0), v.At(3, 10, 0))
		}
		if n := voxel.Count(v); n < 180 || n > 230 {
			t.Errorf("touched %v: %d voxels of a half", touch, n)
		}
	}
	s := slab()
	bolt := block(0.01, 0.01, 0.01)
	for i := range bolt.Positions {
		bolt.Positions[i] += []float32{-2.02, 1.51, 0.02}[i%3]
	}
	bolt.Material = 0
	s.Materials[0].Alpha, s.Materials[0].Emissive = scene.Blend, [3]float32{1, 1, 1}
	s.Meshes[0].Parts = append(s.Meshes[0].Parts, bolt)
	_, r := apply(t, "voxelise", s, map[string]any{"longest": 40})
	losses := strings.Join(r.Losses, "\n")
	for _, want := range []string{"12 triangles of pieces that are smaller than a voxel", "the glow of 1 part",
		"1 part lets light through"} {
		if !strings.Contains(losses, want) {
			t.Errorf("%q is not among %q", want, losses)
		}
	}
}
