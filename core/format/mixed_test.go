package format_test

import (
	"fmt"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/dae"
	"excavate/core/format/gltf"
	"excavate/core/format/obj"
	"excavate/core/format/ply"
	"excavate/core/format/stl"
	"excavate/core/format/threemf"
	"excavate/core/format/usd"
	"excavate/core/format/x3d"
	"excavate/core/geom"
	"excavate/core/scene"
)

// mixed is a scene of parts that differ in what they have: the first has all,
// the second only places, the third lines, the fourth points.
func mixed() *scene.Scene {
	m := scene.NewMaterial("oak")
	m.Textures = []scene.Texture{{Role: scene.RoleColour}}
	s := &scene.Scene{Name: "mixed", Basis: geom.GLTF, Materials: []scene.Material{m}, Pictures: []scene.Picture{{Name: "oak", Data: []byte("\x89PNG\r\n"), MIME: "image/png", Width: 1, Height: 1}}}
	all := scene.Part{Material: 0, Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0}, Normals: []float32{0, 0, 1, 0, 0, 1, 0, 0, 1}, Triangles: []uint32{0, 1, 2},
		UVs: []scene.AttrSet{{Name: "a", Data: []float32{0, 0, 1, 0, 0, 1}}}, Colours: []scene.AttrSet{{Name: "c", Data: []float32{1, 0, 0, 1, 0, 1, 0, 1, 0, 0, 1, 1}}}}
	for i, p := range []scene.Part{
		all,
		{Material: scene.None, Positions: []float32{0, 0, 1, 1, 0, 1, 0, 1, 1}, Triangles: []uint32{0, 1, 2}},
		{Material: scene.None, Positions: []float32{5, 0, 0, 6, 0, 0}, Lines: []uint32{0, 1}},
		{Material: scene.None, Positions: []float32{9, 9, 9}, Points: []uint32{0}},
	} {
		n := scene.NewNode(fmt.Sprintf("thing %d", i))
		n.Mesh = i
		s.Nodes = append(s.Nodes, n)
		s.Meshes = append(s.Meshes, scene.Mesh{Name: n.Name, Parts: []scene.Part{p}})
	}
	return s
}

// No format loses anything of a mixed scene without a word, and none keeps
// what has no place in it as something else.
func TestMixedScenes(t *testing.T) {
	for _, c := range []struct {
		write                    format.Writer
		read                     format.Reader
		triangles, lines, points int
		says                     []string
		top                      float64 // of what is left
	}{
		{obj.Writer(), obj.Format(), 2, 1, 1, nil, 9},
		{ply.Writer(), ply.Format(), 2, 0, 0, []string{"1 line not written", "1 point not written", "1 part's normals not written: other parts have none", "1 material", "1 picture"}, 1},
		{stl.Writer(), stl.Format(), 2, 0, 0, []string{"1 line not written", "1 point not written", "1 UV set", "1 colour set"}, 1},
		{threemf.Writer(), threemf.Formats()[0], 2, 0, 0, []string{"1 line not written", "1 point not written", "1 part's colours not written: 3MF has a picture or colours, not both"}, 1000},
		{usd.Writers()[0], usd.Formats()[1], 2, 1, 1, nil, 9},
		{x3d.Writers()[0], x3d.Formats()[1], 2, 1, 1, nil, 9},
		{x3d.Writers()[1], x3d.Formats()[0], 2, 1, 1, nil, 9},
	} {
		files, notes, err := c.write.Write(mixed(), "mixed")
		if err != nil {
			t.Errorf("%s: %v", c.write.Name, err)
			continue
		}
		said := ""
		for _, n := range notes {
			said += n.Text + "; "
		}
		for _, w := range c.says {
			if !strings.Contains(said, w) {
				t.Errorf("%s does not say %q: %s", c.write.Name, w, said)
			}
		}
		got, err := read(c.read, files)
		if err != nil {
			t.Errorf("%s: %v", c.write.Name, err)
			continue
		}
		st := got.Stats()
		if st.Triangles != c.triangles || st.Lines != c.lines || st.Points != c.points {
			t.Errorf("%s keeps %d triangles, %d lines, %d points; want %d, %d, %d", c.write.Name, st.Triangles, st.Lines, st.Points, c.triangles, c.lines, c.points)
		}
		most := 0.0
		for k := range 3 {
			most = max(most, st.Max[k])
		}
		if most != c.top {
			t.Errorf("%s reaches %g, want %g: stray vertices, or lost ones", c.write.Name, most, c.top)
		}
	}
}

// One part has a triangle, a line and a point, which use four, two and one of
// its vertices: each writer keeps what it can of each, or says that it does not.
func TestMixedParts(t *testing.T) {
	for _, c := range []struct {
		write format.Writer
		read  format.Reader
	}{
		{obj.Writer(), obj.Format()}, {ply.Writer(), ply.Format()}, {stl.Writer(), stl.Format()}, {threemf.Writer(), threemf.Formats()[0]}, {usd.Writers()[1], usd.Formats()[0]},
		{x3d.Writers()[0], x3d.Formats()[1]}, {x3d.Writers()[1], x3d.Formats()[0]}, {dae.Writer("x"), dae.Format()}, {gltf.Writer(), gltf.Readers()[0]},
	} {
		s := mixed()
		s.Nodes, s.Meshes = s.Nodes[:1], []scene.Mesh{{Name: "rig", Parts: []scene.Part{{Material: 0,
			Positions: []float32{0, 0, 0, 1, 0, 0, 0, 1, 0, 5, 0, 0, 6, 0, 0, 9, 9, 9}, Triangles: []uint32{0, 1, 2}, Lines: []uint32{3, 4}, Points: []uint32{5},
			Colours: []scene.AttrSet{{Name: "c", Data: []float32{1, 0, 0, 1, 1, 0, 0, 1, 1, 0, 0, 1, 0, 1, 0, 1, 0, 1, 0, 1, 0, 0, 1, 1}}}}}}}
		files, notes, err := c.write.Write(s, "rig")
		if err != nil {
			t.Fatalf("%s: %v", c.write.Name, err)
		}
		got, err := read(c.read, files)
		if err != nil {
			t.Fatalf("%s: %v", c.write.Name, err)
		}
		lost := fmt.Sprint(notes)
		st := got.Stats()
		if st.Triangles != 1 || (st.Lines == 1) == strings.Contains(lost, "1 line not written") || (st.Points == 1) == strings.Contains(lost, "1 point not written") {
			t.Errorf("%s keeps %d triangles, %d lines, %d points, and says %s", c.write.Name, st.Triangles, st.Lines, st.Points, lost)
		}
		// The blue of the point and the green of the line, where there are colours at all.
		for i := range got.Meshes {
			for k := range got.Meshes[i].Parts {
				p := &got.Meshes[i].Parts[k]
				if len(p.Colours) == 0 {
					if !strings.Contains(lost, "colour") {
						t.Errorf("%s: a part has no colours, and nothing says so: %s", c.write.Name, lost)
					}
					continue
				}
				for list, want := range map[*[]uint32][4]float32{&p.Triangles: {1, 0, 0, 1}, &p.Lines: {0, 1, 0, 1}, &p.Points: {0, 0, 1, 1}} {
					for _, v := range *list {
						if have := [4]float32(p.Colours[0].Data[4*v:]); have != want {
							t.Errorf("%s: %v, want %v", c.write.Name, have, want)
						}
					}
				}
			}
		}
	}
}

// A scene of nothing is written by every format, or refused with a reason.
func TestEmptyScenes(t *testing.T) {
	for _, w := range append(format.Writers{obj.Writer(), ply.Writer(), stl.Writer(), threemf.Writer()}, append(usd.Writers(), x3d.Writers()...)...) {
		files, _, err := w.Write(&scene.Scene{}, "")
		if err != nil {
			if err.Error() == "" {
				t.Errorf("%s gives no reason", w.Name)
			}
			continue
		}
		if len(files) == 0 || !strings.HasSuffix(files[0].Name, w.Ending) || strings.HasPrefix(files[0].Name, ".") {
			t.Errorf("%s: %v", w.Name, files)
		}
	}
}
