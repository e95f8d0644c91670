package x3d

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/geom"
)

// Sweeps whose volume, bounds and number of triangles are known.
func TestExtrusions(t *testing.T) {
	circle := func(n int, r float64, format string) string {
		var b strings.Builder
		for i := range n + 1 {
			s, c := math.Sincos(2 * math.Pi * float64(i%n) / float64(n))
			fmt.Fprintf(&b, format, r*c, r*s)
		}
		return b.String()
	}
	small := "crossSection [ 0.1 0.1, 0.1 -0.1, -0.1 -0.1, -0.1 0.1, 0.1 0.1 ]"
	for _, c := range []struct {
		name, fields string
		triangles    int
		volume       float64
		min, max     [3]float64
	}{
		{"as it is", "", 12, 4, [3]float64{-1, 0, -1}, [3]float64{1, 1, 1}},
		{"no caps", "beginCap FALSE endCap FALSE", 8, -1, [3]float64{-1, 0, -1}, [3]float64{1, 1, 1}},
		{"along x", "spine [ 0 0 0, 3 0 0 ]", 12, 12, [3]float64{0, -1, -1}, [3]float64{3, 1, 1}},
		{"along z", "spine [ 0 0 0, 0 0 3 ]", 12, 12, [3]float64{-1, -1, 0}, [3]float64{1, 1, 3}},
		{"downward", "spine [ 0 0 0, 0 -3 0 ]", 12, 12, [3]float64{-1, -3, -1}, [3]float64{1, 0, 1}},
		{"a post", "scale [ 1 1, 0.5 0.5 ] spine [ 0 0 0, 0 3 0 ]", 12, 7, [3]float64{-1, 0, -1}, [3]float64{1, 3, 1}},
		{"turned", "orientation [ 0 1 0 0.7853982 ]", 12, 4, [3]float64{-math.Sqrt2, 0, -math.Sqrt2}, [3]float64{math.Sqrt2, 1, math.Sqrt2}},
		{"in steps", "spine [ 0 0 0, 0 1 0, 0 1 0, 0 3 0 ]", 28, 12, [3]float64{-1, 0, -1}, [3]float64{1, 3, 1}},
		{"a corner", small + " spine [ 0 0 0, 2 0 0, 2 0 2 ]", 20, 2 * 0.2 * (0.2 + 0.2/math.Sqrt2), [3]float64{-0.01, -0.1, -0.1}, [3]float64{2.1, 0.1, 2.01}},
		{"a ring", small + " spine [ " + circle(64, 1, "%g 0 %g, ") + "] beginCap FALSE endCap FALSE", 64 * 8, 0.04 * 2 * math.Pi, [3]float64{-1.1, -0.1, -1.1}, [3]float64{1.1, 0.1, 1.1}},
		{"a pipe", "crossSection [ " + circle(32, 1, "%g %g, ") + "] spine [ 0 0 0, 0 2 0 ] creaseAngle 1", 32*2 + 2*30, -2 * math.Pi, [3]float64{-1, 0, -1}, [3]float64{1, 2, 1}},
		{"a band", "crossSection [ -1 0, 1 0 ] spine [ 0 0 0, 0 2 0 ]", 2, 0, [3]float64{-1, 0, 0}, [3]float64{1, 2, 0}},
		{"inside out", "ccw FALSE", 12, -4, [3]float64{-1, 0, -1}, [3]float64{1, 1, 1}},
	} {
		s := must(t, vrml+"Shape { geometry Extrusion { "+c.fields+" } }")
		st := s.Stats()
		if v := volume(s); st.Triangles != c.triangles || c.name != "no caps" && math.Abs(v-c.volume) > 0.02*math.Abs(c.volume)+1e-6 {
			t.Errorf("%s: %d triangles around %g, want %d around %g", c.name, st.Triangles, v, c.triangles, c.volume)
		}
		for k := range 3 {
			if math.Abs(st.Min[k]-c.min[k]) > 0.02 || math.Abs(st.Max[k]-c.max[k]) > 0.02 {
				t.Errorf("%s: from %.2f to %.2f, want %.2f to %.2f", c.name, st.Min, st.Max, c.min, c.max)
				break
			}
		}
		for i := range s.Meshes {
			p := &s.Meshes[i].Parts[0]
			for k, v := range p.UVs[0].Data {
				if v < -1e-6 || v > 1+1e-6 {
					t.Errorf("%s: texture coordinate %d is %g", c.name, k, v)
					break
				}
			}
			for k := 0; k+2 < len(p.Normals); k += 3 {
				if l := geom.At(p.Normals, uint32(k/3)).Len(); math.Abs(l-1) > 1e-4 {
					t.Errorf("%s: a normal of %g", c.name, l)
					break
				}
			}
		}
	}
	for text, want := range map[string]string{
		"crossSection [ 1 1 ]":       "an extrusion of 1 points along 2",
		"spine [ 0 0 0 ]":            "an extrusion of 5 points along 1",
		"scale [ 1 ]":                "an extrusion of 5 points along 2",
		"spine [ 0 0 0, 0 1e300 0 ]": "comes to lie at",
		"spine [ 0 0 0, 0 1e400 0 ]": "is no number",
		"crossSection [" + strings.Repeat("1 2 ", 5000) + "] spine [" + strings.Repeat("1 2 3 ", 5000) + "]": "more than",
	} {
		if _, err := read(vrml + "Shape { geometry Extrusion { " + text + " } }"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60s: %v, want %q", text, err, want)
		}
	}
}

// A smooth pipe is smooth around, across the seam too, and hard at its ends.
func TestASmoothPipe(t *testing.T) {
	var section strings.Builder
	for i := range 25 {
		s, c := math.Sincos(2 * math.Pi * float64(i%24) / 24)
		fmt.Fprintf(&section, "%g %g, ", c, -s)
	}
	s := must(t, vrml+"Shape { geometry Extrusion { creaseAngle 0.8 crossSection [ "+section.String()+"] spine [ 0 0 0, 0 1 0 ] } }")
	p := &s.Meshes[0].Parts[0]
	for v := range uint32(p.Vertices()) {
		at, n := geom.At(p.Positions, v), geom.At(p.Normals, v)
		out := geom.Vec3{at[0], 0, at[2]}
		if up := math.Abs(n[1]) > 0.999; !up && n.Dot(out) < 0.999 {
			t.Errorf("at %.2f the normal is %.2f", at, n)
		}
	}
}

// Colours of lines and grids, by vertex, by index, and one for a line or face.
func TestColoursOfLinesAndGrids(t *testing.T) {
	const points = "coord Coordinate { point [ 0 0 0, 1 0 0, 1 1 0, 0 1 0 ] } color Color { color [ 1 0 0, 0 1 0, 0 0 1, 1 1 1 ] } "
	for _, c := range []struct{ text, want string }{
		{"IndexedLineSet { " + points + "coordIndex [ 0 1 -1 2 3 -1 ] }", "RGBW"},
		{"IndexedLineSet { " + points + "coordIndex [ 0 1 -1 2 3 -1 ] colorIndex [ 3 2 -1 1 0 -1 ] }", "WBGR"},
		{"IndexedLineSet { " + points + "coordIndex [ 0 1 -1 1 2 -1 ] colorPerVertex FALSE }", "RRGG"},
		{"IndexedLineSet { " + points + "coordIndex [ 0 1 -1 1 2 -1 ] colorPerVertex FALSE colorIndex [ 2 3 ] }", "BBWW"},
		{"LineSet { " + points + "vertexCount [ 2 2 ] }", "RGBW"},
		{"PointSet { " + points + "}", "RGBW"},
		{"ElevationGrid { xDimension 2 zDimension 2 height [ 0 0 0 0 ] color Color { color [ 1 0 0, 0 1 0, 0 0 1, 1 1 1 ] } }", "RBWG"},
		{"ElevationGrid { xDimension 2 zDimension 2 height [ 0 0 0 0 ] color Color { color [ 0 1 0 ] } colorPerVertex FALSE }", "GGGG"},
	} {
		s := must(t, vrml+"Shape { geometry "+c.text+" }")
		p := &s.Meshes[0].Parts[0]
		names := map[string]string{"[1 0 0]": "R", "[0 1 0]": "G", "[0 0 1]": "B", "[1 1 1]": "W"}
		got := ""
		if len(p.Colours) == 1 {
			for v := range p.Vertices() {
				got += names[fmt.Sprint(p.Colours[0].Data[4*v:4*v+3])]
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.text, got, c.want)
		}
	}
	for text, want := range map[string]string{
		"IndexedLineSet { " + points + "coordIndex [ 0 1 ] colorIndex [ 0 9 ] }":                                                      "colour 9, and there are 4",
		"ElevationGrid { xDimension 3 zDimension 3 height [ 0 0 0 0 0 0 0 0 0 ] color Color { color [ 0 1 0 ] } }":                    "a grid of 3 x 3 heights has 1 colours",
		"ElevationGrid { xDimension 3 zDimension 2 height [ 0 0 0 0 0 0 ] normal Normal { vector [ 0 1 0 ] } normalPerVertex FALSE }": "a grid of 3 x 2 heights has 1 normals",
		"ElevationGrid { xDimension 2 zDimension 2 height [ 0 0 0 0 ] texCoord TextureCoordinate { point [ 0 0 ] } }":                 "a grid of 2 x 2 heights has 1 texture coordinates",
		"LineSet { " + points + "vertexCount [ 2 3 ] }":                                                                               "a line of 3 vertices from 2 on, and there are 4",
	} {
		if _, err := read(vrml + "Shape { geometry " + text + " }"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// What uses ask for in all is bounded: of faces, lines and points.
func TestUsesAreCounted(t *testing.T) {
	const points = "coord Coordinate { point [ 0 0 0, 1 0 0, 1 1 0, 0 1 0 ] } "
	for _, geometry := range []string{"PointSet { " + points + "}", "IndexedLineSet { " + points + "coordIndex [ 0 1 2 -1 ] }", "IndexedFaceSet { " + points + "coordIndex [ 0 1 2 3 -1 ] }"} {
		for uses, fails := range map[int]bool{9: false, 10: true} { // with the first, 40 and 44 corners
			text := "DEF a Shape { geometry " + geometry + " }\n" + strings.Repeat("USE a\n", uses) + "}"
			p := &classic{b: []byte(text), line: 1, defs: map[string]*node{}, protos: map[string]*proto{}, lost: &format.Losses{}}
			roots, err := p.scene("}")
			if err != nil {
				t.Fatal(err)
			}
			b := newBuilder(context.Background(), format.File{}, 0, p.lost, true)
			b.most = 40
			_, err = b.build(roots, nil)
			if fails != (err != nil) || fails && !strings.Contains(err.Error(), "line 1: more than 40 corners of faces, lines and points, counting each use") {
				t.Errorf("%d uses of %s: %v", uses, geometry, err)
			}
		}
	}
}

// A textured surface without texture coordinates has those of its bounds; one
// without a texture has none.
func TestUnfolded(t *testing.T) {
	const surface = "geometry IndexedFaceSet { coord Coordinate { point [ 0 0 5, 0 2 5, 0 2 1, 0 0 1 ] } coordIndex [ 0 1 2 3 -1 ] }"
	s := must(t, vrml+`Shape { appearance Appearance { texture ImageTexture { url "plank.png" } } `+surface+` }`)
	if got := fmt.Sprint(s.Meshes[0].Parts[0].UVs[0].Data); got != "[1 1 1 0.5 0 0.5 0 1]" {
		t.Errorf("texture coordinates %s", got)
	}
	if s := must(t, vrml+"Shape { appearance Appearance { material Material { } } "+surface+" }"); len(s.Meshes[0].Parts[0].UVs) != 0 {
		t.Errorf("%v of a surface without a texture", s.Meshes[0].Parts[0].UVs)
	}
}
