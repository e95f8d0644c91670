package format_test

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"math"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/format/obj"
	"excavate/core/format/ply"
	"excavate/core/format/stl"
	"excavate/core/format/threemf"
	"excavate/core/format/usd"
	"excavate/core/format/x3d"
	"excavate/core/geom"
	"excavate/core/numlist"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// random is a scene of some meshes with what a flat format can carry.
func random(t testing.TB, r *rand.Rand, normals, uvs, colours bool) *scene.Scene {
	t.Helper()
	png, err := pixel.PNG(image.NewNRGBA(image.Rect(0, 0, 2, 2)))
	if err != nil {
		t.Fatal(err)
	}
	s := &scene.Scene{Name: "punt"}
	s.Pictures = []scene.Picture{{Name: "planks", MIME: "image/png", Data: png, Width: 2, Height: 2}}
	for i := range 1 + r.Intn(3) {
		m := scene.NewMaterial(fmt.Sprintf("wood %d", i))
		m.BaseColour = [4]float32{0.25, 0.5, 1, 1}
		m.Roughness, m.Metallic = 0.5, 0.25
		m.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0, Scale: 1}}
		s.Materials = append(s.Materials, m)
	}
	for i := range 1 + r.Intn(3) {
		mesh := scene.Mesh{Name: fmt.Sprintf("mesh %d", i)}
		p := scene.Part{Material: i % len(s.Materials)}
		n := 3 + r.Intn(30)
		for range n {
			p.Positions = append(p.Positions, float32(r.NormFloat64()), float32(r.NormFloat64()), float32(r.NormFloat64()))
		}
		for v := range n { // every vertex is used: some formats keep no others
			p.Triangles = append(p.Triangles, uint32(v), uint32((v+1)%n), uint32((v+2)%n))
		}
		if normals {
			for range n {
				x, y, z := r.NormFloat64(), r.NormFloat64(), r.NormFloat64()
				l := math.Sqrt(x*x + y*y + z*z)
				p.Normals = append(p.Normals, float32(x/l), float32(y/l), float32(z/l))
			}
		}
		if uvs {
			d := make([]float32, 2*n)
			for k := range d {
				d[k] = r.Float32()
			}
			p.UVs = []scene.AttrSet{{Name: "uv", Data: d}}
		}
		if colours {
			d := make([]float32, 4*n)
			for k := range d {
				if d[k] = format.Bytes8[r.Intn(256)]; k%4 == 3 {
					d[k] = 1
				}
			}
			p.Colours = []scene.AttrSet{{Name: "colour", Data: d}}
		}
		for range 1 + r.Intn(40) {
			k := r.Perm(n)
			p.Triangles = append(p.Triangles, uint32(k[0]), uint32(k[1]), uint32(k[2]))
		}
		mesh.Parts = []scene.Part{p}
		s.Meshes = append(s.Meshes, mesh)
		node := scene.NewNode(mesh.Name)
		node.Mesh = i
		s.Nodes = append(s.Nodes, node)
	}
	return s
}

// corners lists every triangle's corners with all that they have, so that
// scenes can be compared whose vertices are numbered otherwise.
func corners(s *scene.Scene, attributes bool) (out [][]float32) {
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[k]
			for _, v := range p.Triangles {
				c := append([]float32{}, p.Positions[3*v:3*v+3]...)
				if attributes {
					if p.Normals != nil {
						c = append(c, p.Normals[3*v:3*v+3]...)
					}
					for _, u := range p.UVs {
						c = append(c, u.Data[2*v:2*v+2]...)
					}
					for _, u := range p.Colours {
						c = append(c, u.Data[4*v:4*v+4]...)
					}
				}
				out = append(out, c)
			}
		}
	}
	return out
}

func same(a, b [][]float32, within float64) error {
	if len(a) != len(b) {
		return fmt.Errorf("%d corners, %d expected", len(a), len(b))
	}
	for i := range a {
		if len(a[i]) != len(b[i]) {
			return fmt.Errorf("corner %d has %d numbers, %d expected", i, len(a[i]), len(b[i]))
		}
		for k := range a[i] {
			if d := math.Abs(float64(a[i][k]) - float64(b[i][k])); d > within {
				return fmt.Errorf("corner %d: %v, want %v", i, a[i], b[i])
			}
		}
	}
	return nil
}

func read(r format.Reader, files []format.Written) (*scene.Scene, error) {
	return r.Read(context.Background(), format.File{Name: files[0].Name, Data: files[0].Data, Companion: func(ref string) ([]byte, string, error) {
		for _, f := range files {
			if f.Name == ref {
				return f.Data, ref, nil
			}
		}
		return nil, "", fmt.Errorf("%q is not there", ref)
	}})
}

func TestRoundTrips(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	for i := range 60 {
		for _, c := range []struct {
			read                  format.Reader
			write                 format.Writer
			normals, uvs, colours bool
			attributes, merged    bool
			basis                 geom.Basis
		}{
			{obj.Format(), obj.Writer(), true, i%2 == 0, i%3 == 0, true, false, geom.Basis{}},
			{ply.Format(), ply.Writer(), i%2 == 0, i%3 == 0, i%4 == 0, true, true, geom.Basis{}},
			{stl.Format(), stl.Writer(), false, false, false, false, true, geom.Basis{}},
			{threemf.Formats()[0], threemf.Writer(), false, i%2 == 0, i%2 == 1, true, false, geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.001}},
			{usd.Formats()[0], usd.Writers()[1], i%2 == 0, i%3 == 0, i%4 == 0, true, false, geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01}},
			{x3d.Formats()[1], x3d.Writers()[0], true, i%3 == 0, i%4 == 0, true, true, geom.GLTF},
			{x3d.Formats()[0], x3d.Writers()[1], true, i%3 == 0, i%4 == 1, true, true, geom.GLTF},
			{usd.Formats()[1], usd.Writers()[0], i%3 == 0, i%4 == 0, i%2 == 0, true, false, geom.GLTF},
		} {
			s := random(t, r, c.normals, c.uvs, c.colours)
			s.Basis = c.basis
			if (c.read.Name == "x3d" || c.read.Name == "vrml") && !c.uvs { // in these, what has a picture has texture coordinates
				for k := range s.Materials {
					s.Materials[k].Textures = nil
				}
			}
			files, notes, err := c.write.Write(s, "punt")
			if err != nil {
				t.Fatal(err)
			}
			for _, n := range notes {
				if !n.Loss || !strings.Contains(n.Text, "not written") && !strings.Contains(n.Text, "written otherwise: names of") {
					t.Errorf("%s: %+v", c.write.Name, n)
				}
			}
			if !c.read.Probe(files[0].Data[:min(len(files[0].Data), 512)]) {
				t.Fatalf("%s is not recognised: %.300q", c.read.Name, files[0].Data)
			}
			got, err := read(c.read, files)
			if err != nil {
				t.Fatalf("%s: %v", c.read.Name, err)
			}
			if err := same(corners(got, c.attributes), corners(s, c.attributes), 2e-6); err != nil {
				t.Fatalf("%s: %v", c.read.Name, err)
			}
			if got.Basis != c.basis {
				t.Errorf("%s: %v, want %v", c.read.Name, got.Basis, c.basis)
			}
			if !c.merged && (len(got.Meshes) != len(s.Meshes) || got.Meshes[0].Name != s.Meshes[0].Name) {
				t.Errorf("%s: %d meshes, want %d", c.read.Name, len(got.Meshes), len(s.Meshes))
			}
		}
	}
}

func TestMaterialsOfOBJ(t *testing.T) {
	s := random(t, rand.New(rand.NewSource(1)), true, true, false)
	files, _, err := obj.Write(s, "a/b")
	if err != nil {
		t.Fatal(err)
	}
	if files[0].Name != "a_b.obj" || files[1].Name != "a_b.mtl" || files[2].Name != "planks.png" {
		t.Errorf("%v %v %v", files[0].Name, files[1].Name, files[2].Name)
	}
	got, err := read(obj.Format(), files)
	if err != nil {
		t.Fatal(err)
	}
	m := got.Materials[got.Meshes[0].Parts[0].Material]
	if m.Name != "wood 0" || m.Roughness != 0.5 || m.Metallic != 0.25 || math.Abs(float64(m.BaseColour[1])-0.5) > 1e-4 || got.Pictures[m.Textures[0].Picture].Ref != "planks.png" {
		t.Errorf("%+v %+v", m, got.Pictures)
	}
}

func parse(t *testing.T, text string, libs ...string) *scene.Scene {
	t.Helper()
	files := []format.Written{{Name: "x.obj", Data: []byte(text)}}
	for i := 0; i+1 < len(libs); i += 2 {
		files = append(files, format.Written{Name: libs[i], Data: []byte(libs[i+1])})
	}
	s, err := read(obj.Format(), files)
	if err != nil {
		t.Fatalf("%v in %q", err, text)
	}
	return s
}

func TestAwkwardOBJ(t *testing.T) {
	quad := "v 0 0 0\nv 2 0 0\nv 2 2 0\nv 0 2 0\n"
	for _, c := range []struct{ name, text, want string }{
		{"indices from the end", quad + "f -4 -3 -2 -1\n", "[0 1 2 0 2 3]"},
		{"a line that goes on", quad + "f 1 \\\n2 \\\r\n3\n", "[0 1 2]"},
		{"carriage returns", strings.ReplaceAll(quad, "\n", "\r\n") + "f 1 2 3\r\n", "[0 1 2]"},
		{"tabs and blanks", strings.ReplaceAll(quad, " ", "\t ") + "  f\t1 \t2  3 \n", "[0 1 2]"},
		{"no line end", quad + "f 1 2 3", "[0 1 2]"},
		{"a comment after a face", quad + "f 1 2 3 # the deck\n", "[0 1 2]"},
		{"texture and normal", quad + "vt 0 0\nvn 0 0 1\nf 1/1/1 2/1/1 3//1\n", "[0 1 2]"},
		{"exponents", "v 0e0 0 0\nv 2E+0 0 .0\nv 200e-2 2. -0\nf 1 2 3\n", "[0 1 2]"},
	} {
		s := parse(t, c.text)
		if got := fmt.Sprint(s.Meshes[0].Parts[0].Triangles); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	// A concave polygon: the dent must stay open.
	s := parse(t, "v 0 0 0\nv 4 0 0\nv 4 4 0\nv 2 1 0\nv 0 4 0\nf 1 2 3 4 5\n")
	area := 0.0
	p := &s.Meshes[0].Parts[0]
	for i := 0; i < len(p.Triangles); i += 3 {
		v := func(k int) []float32 { return p.Positions[3*p.Triangles[i+k]:] }
		a := float64((v(1)[0]-v(0)[0])*(v(2)[1]-v(0)[1])-(v(1)[1]-v(0)[1])*(v(2)[0]-v(0)[0])) / 2
		if a < 0 {
			t.Errorf("triangle %d is turned round", i/3)
		}
		area += math.Abs(a)
	}
	if math.Abs(area-10) > 1e-6 {
		t.Errorf("the polygon's triangles cover %g, want 10", area)
	}
	// UTF-16 with a mark, names with blanks, libraries with blanks and several.
	u := []byte{0xff, 0xfe}
	for _, c := range "mtllib my wood.mtl\no the punt\n" + quad + "usemtl old oak\nf 1 2 3\n" {
		u = append(u, byte(c), byte(c>>8))
	}
	s = parse(t, string(u), "my wood.mtl", "newmtl old oak\nKd 1 0 0\nPr .3\nmap_Kd -s 2 2 1 -o 0 0 bark of oak.png\n")
	if s.Meshes[0].Name != "the punt" || s.Materials[0].Roughness != 0.3 || s.Pictures[0].Ref != "bark of oak.png" {
		t.Errorf("%+v %+v", s.Materials, s.Pictures)
	}
	// v is 0.75 from below; there 2·0.75 + 0.1 = 1.6.
	s = parse(t, "mtllib a.mtl\n"+quad+"usemtl x\nf 1 2 3\n", "a.mtl", "newmtl x\nKd\tabc\nd x\nPr\t.25 \nmap_Kd\t-clamp off -o 0.5 0.1 -s 3 2 -mm 0 1 a b.png\n")
	if m := s.Materials[0]; m.Roughness != 0.25 || m.BaseColour != [4]float32{1, 1, 1, 1} || m.Alpha != scene.Opaque ||
		!said(s, "2 statements of the material library lack their numbers and are left out (first line 2: \"Kd\\tabc\")") || !said(s, "option -mm") {
		t.Errorf("%+v %+v", m, s.Notes)
	}
	if x := s.Materials[0].Textures[0]; s.Pictures[x.Picture].Ref != "a b.png" {
		t.Errorf("%+v", s.Pictures)
	} else if u, v := x.Transform.Apply(0.25, 0.25); math.Abs(float64(u)-1.25) > 1e-6 || math.Abs(float64(v)-(1-1.6)) > 1e-6 {
		t.Errorf("the picture lies at %g, %g", u, v)
	}
	s = parse(t, quad+"v 1 2 3 1 1 1 1 1 1 junk\nvt 0 1 0.5\nvt 1 0 x # y\nvn 0 0 1 # up\nf 1 2 3\n")
	if !said(s, "2 lines of positions, normals or texture coordinates go on with what is no part of them and is not read (first line") || said(s, "0.5") {
		t.Errorf("%+v", s.Notes)
	}
	s = parse(t, "mtllib a.mtl b.mtl c.mtl\n"+quad+"usemtl x\nf 1 2 3\nusemtl y\nf 1 2 4\nusemtl z\nf 1 3 4\n", "a.mtl", "newmtl x\nKd 1 1 1\n", "b.mtl", "newmtl y\nd 0.5\n")
	if len(s.Materials) != 3 || s.Materials[1].Alpha != scene.Blend || !said(s, "c.mtl was not found") || !said(s, "1 materials are in no library") {
		t.Errorf("%+v %+v", s.Materials, s.Notes)
	}
	// Smoothing: two faces at a right angle, in one group and flat.
	bent := "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 1 0 1\nv 1 1 1\n"
	if p := &parse(t, bent+"s 1\nf 1 2 3 4\nf 2 5 6 3\n").Meshes[0].Parts[0]; p.Vertices() != 6 || math.Abs(math.Abs(float64(p.Normals[3]))-math.Sqrt(0.5)) > 1e-6 {
		t.Errorf("smooth: %d vertices, %v", p.Vertices(), p.Normals)
	}
	if p := &parse(t, bent+"s off\nf 1 2 3 4\nf 2 5 6 3\n").Meshes[0].Parts[0]; p.Vertices() < 8 {
		t.Errorf("flat: %d vertices", p.Vertices())
	}
	// Colours, lines and points, what is not known.
	s = parse(t, "v 0 0 0 1 0 0\nv 1 0 0 0 1 0\nv 0 1 0\nf 1 2 3\nl 1 2\np 3\ncurv 1\n")
	if c := s.Meshes[0].Parts[0].Colours; len(c) != 1 || fmt.Sprint(c[0].Data) != "[1 0 0 1 0 1 0 1 1 1 1 1]" || s.Stats().Lines != 1 || s.Stats().Points != 1 || !said(s, `"curv"`) {
		t.Errorf("%+v %+v", c, s.Notes)
	}
	if s = parse(t, quad); s.Stats().Points != 4 || !said(s, "4 positions are points") {
		t.Errorf("%+v %+v", s.Stats(), s.Notes)
	}
	for _, c := range []struct{ text, want string }{
		{"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 4\n", "line 4: a face uses position 4, and there are 3"},
		{"v 0 0 0\nf 1 2 3\n", "line 2: a face uses position 2"},
		{"v 0 0\nf 1 2 3\n", "line 1: a position has three numbers"},
		{"v 0 0 1e99\n", "no finite number"},
		{"v 0 0 nan\n", "three numbers"},
		{quad + "f 1 2\n", "line 5: a face of 2 corners"},
		{quad + "f 1 2 x\n", `"x" is no corner`},
		{quad + "f 1/9 2 3\n", "texture coordinate 9"},
		{quad + "f 1 2 3-1\n", "corners stand apart"},
		{"v 0 1.2.3 0\n", "line 1: a position has three numbers, this has 1"},
		{"# nothing\n", "no positions"},
	} {
		if _, err := read(obj.Format(), []format.Written{{Name: "x", Data: []byte(c.text)}}); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: %v, want %q", c.text, err, c.want)
		}
	}
	for text, want := range map[string]bool{"# by hand\nv 1 2 3\n": true, "mtllib x.mtl\n": true, "o thing\nv 1 2 3\n": true, "vote for me\n": false, "v is a letter\n": false, "{\"v\": 1}": false, "": false} {
		if obj.Probe([]byte(text)) != want {
			t.Errorf("%q is taken for OBJ: %v", text, !want)
		}
	}
}

func said(s *scene.Scene, text string) bool {
	for _, n := range s.Notes {
		if strings.Contains(n.Text, text) {
			return true
		}
	}
	return false
}

func TestAwkwardPLY(t *testing.T) {
	head := "ply\nformat ascii 1.0\ncomment by hand\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\nproperty uchar red\nproperty uchar green\nproperty uchar blue\nproperty float quality\nelement face 1\nproperty list uchar int vertex_index\nend_header\n"
	s, err := read(ply.Format(), []format.Written{{Data: []byte(head + "0 0 0 255 0 0 9\n1 0 0 0 255 0 9\n1 1 0 0 0 255 9\n0 1 0 255 255 255 9\n4 0 1 2 3\n")}})
	if err != nil {
		t.Fatal(err)
	}
	p := &s.Meshes[0].Parts[0]
	if fmt.Sprint(p.Triangles) != "[0 1 2 0 2 3]" || fmt.Sprint(p.Colours[0].Data[:8]) != "[1 0 0 1 0 1 0 1]" || !said(s, "properties quality") {
		t.Errorf("%v %v %v", p.Triangles, p.Colours, s.Notes)
	}
	strip := strings.Replace(head, "element face 1\nproperty list uchar int vertex_index", "element tristrips 1\nproperty list int int vertex_indices", 1)
	if s, err = read(ply.Format(), []format.Written{{Data: []byte(strip + "0 0 0 1 1 1 0\n1 0 0 1 1 1 0\n0 1 0 1 1 1 0\n1 1 0 1 1 1 0\n8 0 1 2 3 -1 1 3 2\n")}}); err != nil || fmt.Sprint(s.Meshes[0].Parts[0].Triangles) != "[0 1 2 2 1 3 1 3 2]" {
		t.Errorf("%v %v", s, err)
	}
	for _, c := range []struct{ text, want string }{
		{head + "0 0 0 1 1 1 0\n", "do not fit"},
		{head + strings.Repeat("0 0 0 1 1 1 0\n", 4) + "4 0 1 2\n", "line 20: the file ends here"},
		{head + "0 0 0 1 1 1 0\n0 0 0 1 1 1 0\n0 0 0 1 1 1 0\n0 0 0 1 1 1 0\n3 0 1 9\n", "line 19: face 0 uses vertex 9, and there are 4"},
		{head + "0 0 x 1 1 1 0" + strings.Repeat("\n0 0 0 1 1 1 0", 4), `line 15: "x`},
		{strings.Replace(head, "vertex 4", "vertex 99999999", 1), "do not fit"},
		{strings.Replace(head, "float x", "floaty x", 1), `line 5: the type "floaty"`},
		{strings.Replace(head, "property float z\n", "", 1) + strings.Repeat("0 0 1 1 1 0\n", 4), "lack x, y or z"},
		{strings.Replace(head, "end_header\n", "", 1), "no end_header"},
		{strings.Replace(head, "ascii", "utf7", 1), "none of ascii"},
	} {
		if _, err := read(ply.Format(), []format.Written{{Data: []byte(c.text)}}); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
	}
}

func TestAwkwardSTL(t *testing.T) {
	facet := func(colour uint16) []byte {
		var b bytes.Buffer
		for _, f := range []float32{0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1, 0} {
			u := math.Float32bits(f)
			b.Write([]byte{byte(u), byte(u >> 8), byte(u >> 16), byte(u >> 24)})
		}
		b.Write([]byte{byte(colour), byte(colour >> 8)})
		return b.Bytes()
	}
	file := func(head string, facets ...[]byte) []byte {
		b := make([]byte, 84)
		copy(b, head)
		b[80] = byte(len(facets))
		return append(b, bytes.Join(facets, nil)...)
	}
	for _, c := range []struct {
		head   string
		colour uint16
		want   string
	}{
		{"by one convention", 0x8000 | 31<<10, "[1 0 0 1]"},
		{"COLOR=\x00\x00\xff\xff", 31, "[1 0 0 1]"},
		{"COLOR=\x00\x00\xff\xff", 0x8000, "[0 0 1 1]"},
	} {
		s, err := read(stl.Format(), []format.Written{{Data: file(c.head, facet(c.colour))}})
		if err != nil || len(s.Meshes[0].Parts[0].Colours) != 1 || fmt.Sprint(s.Meshes[0].Parts[0].Colours[0].Data[:4]) != c.want {
			t.Errorf("%s %x: %+v %v", c.head, c.colour, s, err)
		}
	}
	if s, err := read(stl.Format(), []format.Written{{Data: file("solid but binary", facet(0), facet(0))}}); err != nil || len(s.Meshes[0].Parts[0].Triangles) != 6 || s.Meshes[0].Parts[0].Vertices() != 6 {
		t.Errorf("%+v %v", s, err)
	}
	text := "solid left\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\nendsolid left\nsolid right\nfacet normal nan nan nan\nouter loop\nvertex 0 0 0\nvertex 1e0 0 0\nvertex 0 0 1\nendloop\nendfacet\nendsolid\n"
	s, err := read(stl.Format(), []format.Written{{Data: []byte(text)}})
	if err != nil || len(s.Meshes) != 2 || s.Meshes[1].Name != "right" || fmt.Sprint(s.Meshes[1].Parts[0].Normals[:3]) != "[0 -1 0]" {
		t.Errorf("%+v %v", s, err)
	}
	for _, c := range []struct {
		data []byte
		want string
	}{
		{file("x", facet(0))[:100], "1 facets are declared, and 0 fit"},
		{[]byte("solid x\nfacet normal 0 0 1\nvertex 0 0\n"), "line 3: a corner has three numbers, and \"\" is none"},
		{[]byte("solid x\nfacet normal 0 0 1\nvertex 0 0 inf\n"), "line 3: a corner has three numbers, and \"inf\" is none"},
		{[]byte("solid x\nfacet normal 0 0 1\nvertex 0 0 0\nfacet normal 0 0 1\n"), "line 4: a facet begins, and the one before it has no end"},
		{[]byte("solid x\nfacet normal 0 0 1\nendsolid\nvertex 1 2 3\nvertex 1 2 3\nvertex 1 2 3\nvertex 1 2 3\n"), "line 7: a facet has three corners"},
		{[]byte("solid x\nfacet normal\nvertex 1 2 3\nvertex 1 3 3\nvertex 2 2 3\nendfacet\n\nvertex 4 4 4"), "line 8: a corner outside a facet"},
		{[]byte("solid x\nfacet normal 0 0 1\nendfacet\n"), "line 3: the facet has 0 corners"},
		{[]byte("solid x\nendsolid\n"), "no facets"},
	} {
		if _, err := read(stl.Format(), []format.Written{{Data: c.data}}); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
	}
}

// Any number of a corner that is none is named by its place, wherever in the
// file it stands; a normal that is none is that of the corners.
func TestNumbersOfBinarySTL(t *testing.T) {
	files, _, err := stl.Write(surface(80), "grid")
	if err != nil {
		t.Fatal(err)
	}
	sound := files[0].Data
	want, err := read(stl.Format(), files)
	if err != nil {
		t.Fatal(err)
	}
	bad := []uint32{0x7f800000, 0xff800000, 0x7fc00000, 0x7f800001, 0xffffffff}
	for i, facet := range []int{0, 1, 5000, 12000, 2*79*79 - 1} {
		for corner := range 9 {
			data := slices.Clone(sound)
			at := 84 + 50*facet + 12 + 4*corner
			binary.LittleEndian.PutUint32(data[at:], bad[(i+corner)%len(bad)])
			_, err := read(stl.Format(), []format.Written{{Data: data}})
			if err == nil || format.Place(err) != fmt.Sprintf("offset %d", at) || !strings.Contains(err.Error(), fmt.Sprintf("facet %d has a corner at", facet)) {
				t.Errorf("number %d of facet %d: %v", corner, facet, err)
			}
			// The largest numbers and the smallest are numbers.
			binary.LittleEndian.PutUint32(data[at:], []uint32{0x7f7fffff, 0xff7fffff, 0x00000001, 0x80000000}[corner%4])
			if _, err := read(stl.Format(), []format.Written{{Data: data}}); err != nil {
				t.Errorf("number %d of facet %d: %v", corner, facet, err)
			}
		}
		data := slices.Clone(sound)
		for k, v := range []float32{float32(math.NaN()), 3, float32(math.Inf(1))} {
			binary.LittleEndian.PutUint32(data[84+50*facet+4*k:], math.Float32bits(v))
		}
		got, err := read(stl.Format(), []format.Written{{Data: data}})
		if err != nil {
			t.Fatal(err)
		}
		a, b := got.Meshes[0].Parts[0].Normals[9*facet:], want.Meshes[0].Parts[0].Normals[9*facet:]
		for k := range 9 {
			if math.Abs(float64(a[k]-b[k])) > 1e-5 || a[k] != a[k%3] {
				t.Fatalf("normals of facet %d are %v, want %v", facet, a[:9], b[:9])
			}
		}
	}
}

// Text that is written otherwise than usual, and what is said of it.
func TestTextSTL(t *testing.T) {
	for _, c := range []struct {
		name, text string
		facets     []int // of each solid
		notes      []string
	}{
		{"large letters", "SOLID PIER\r\nFACET NORMAL 0 0 1\r\nOUTER LOOP\r\nVERTEX 0 0 0\r\nVERTEX 1 0 0\r\nVERTEX 0 1 0\r\nENDLOOP\r\nENDFACET\r\nENDSOLID PIER\r\n", []int{1}, nil},
		{"one line", "solid pier\nfacet normal 0 0 1 outer loop vertex 0 0 0 vertex 1 0 0 vertex 0 1 0 endloop endfacet facet normal 0 0 1 outer loop vertex 0 0 0 vertex 1 0 0 vertex 0 1 0 endloop endfacet endsolid", []int{2}, nil},
		{"no normal", "solid pier\nfacet\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendfacet\nendsolid", []int{1}, nil},
		{"a normal cut short", "solid pier\nfacet normal 0 1\nouter loop vertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop endfacet\nendsolid", []int{1}, nil},
		{"no end", "solid pier\nfacet normal 0 0 1\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendfacet\n", []int{1}, []string{"the last solid has no end"}},
		{"cut off", "solid pier\nfacet normal 0 0 1\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendfacet\nfacet normal 0 0 1\nvertex 3 3 3", []int{1}, []string{"the last solid has no end", "the file ends within a facet, which was left out"}},
		{"words of its own", "solid pier\nfacet normal 0 0 1\ncolour 1 0 0\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendfacet\nendsolid pier\nshading smooth", []int{1}, []string{"2 lines were passed over from a word on that STL does not have"}},
		{"an empty solid", "solid pier\nendsolid\nsolid hut\nfacet normal 0 0 1\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendfacet\nendsolid hut", []int{1}, nil},
	} {
		if !stl.Probe([]byte(c.text)) {
			t.Errorf("%s: not recognised", c.name)
		}
		s, err := read(stl.Format(), []format.Written{{Data: []byte(c.text)}})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var facets []int
		for _, m := range s.Meshes {
			facets = append(facets, len(m.Parts[0].Triangles)/3)
			if n := m.Parts[0].Normals; fmt.Sprint(n[:3]) != "[0 0 1]" && c.name != "a normal cut short" {
				t.Errorf("%s: normal %v", c.name, n[:3])
			}
		}
		var notes []string
		for _, n := range s.Notes {
			notes = append(notes, n.Text)
		}
		if !slices.Equal(facets, c.facets) || !slices.Equal(notes, c.notes) {
			t.Errorf("%s: %v facets, %q", c.name, facets, notes)
		}
	}
}

// The cores have a text in pieces. Whichever way it is cut, it reads the same,
// and a fault has the same line.
func TestTextSTLInPieces(t *testing.T) {
	var text []byte
	for k, n := range []int{4000, 1, 9000, 300} {
		text = fmt.Appendf(text, "solid facet %d\n", k)
		for i := range n {
			text = fmt.Appendf(text, "  facet normal 0 0 1\n    outer loop\n      vertex %d 0 %d\n      vertex %d.5 0 0\n      vertex 0 %g 0\n    endloop\n  endfacet\n", i, k, i, 1/float64(i+1))
		}
		text = append(text, "endsolid\n"...)
	}
	all := func() (*scene.Scene, error) { return read(stl.Format(), []format.Written{{Data: text}}) }
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	want, err := all()
	if err != nil || len(want.Meshes) != 4 || want.Meshes[2].Name != "facet 2" || len(want.Meshes[2].Parts[0].Triangles) != 27000 {
		t.Fatalf("%d solids: %v", len(want.Meshes), err)
	}
	for cores := 2; cores < 8; cores++ {
		runtime.GOMAXPROCS(cores)
		if got, err := all(); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("in %d pieces it reads otherwise: %v", cores, err)
		}
	}
	for _, c := range []struct{ was, is string }{{"vertex 8000.5 0 0", "vertex 8000.5 0 x"}, {"vertex 8000.5 0 0\n      vertex 0 0.00012498437695288088 0\n    endloop\n  endfacet", "vertex 8000.5 0 0"}} {
		sound := text
		if text = bytes.Replace(sound, []byte(c.was), []byte(c.is), 1); len(text) == len(sound) && bytes.Equal(text, sound) {
			t.Fatalf("there is no %q", c.was)
		}
		runtime.GOMAXPROCS(1)
		_, want := all()
		for cores := 2; cores < 8; cores++ {
			runtime.GOMAXPROCS(cores)
			if _, err := all(); want == nil || err == nil || err.Error() != want.Error() {
				t.Errorf("in %d pieces: %v, want %v", cores, err, want)
			}
		}
		text = sound
	}
}

type figures struct {
	File                  string
	Ms                    float64
	Triangles             int
	Min, Max              []float64
	Uvs, Normals, Colours bool
	Names, Materials      []string
}

func node(t testing.TB, args ...string) []figures {
	t.Helper()
	out, err := exec.Command("node", append([]string{"../../e2e/flat.mjs"}, args...)...).Output()
	if err != nil {
		if e, ok := err.(*exec.ExitError); ok {
			t.Fatalf("%v: %s", err, e.Stderr)
		}
		t.Fatal(err)
	}
	var list []figures
	for line := range bytes.Lines(out) {
		var f figures
		if err := json.Unmarshal(line, &f); err != nil {
			t.Fatalf("%v in %s", err, line)
		}
		list = append(list, f)
	}
	return list
}

func near(a, b []float64) bool {
	for i := range a {
		if i >= len(b) || math.Abs(a[i]-b[i]) > 1e-4 {
			return false
		}
	}
	return len(a) == len(b)
}

func bounds(s *scene.Scene) (lo, hi []float64) {
	b := s.Bounds()
	return b.Min[:], b.Max[:]
}

var readers = map[string]format.Reader{".glb": gltf.Readers()[0], ".obj": obj.Format(), ".ply": ply.Format(), ".stl": stl.Format()}

// TestFilesOfOthers reads what three's exporters write.
func TestFilesOfOthers(t *testing.T) {
	dir := t.TempDir()
	want := node(t, "write", dir)[0]
	list, err := filepath.Glob(filepath.Join(dir, "*"))
	if err != nil || len(list) != 6 {
		t.Fatal(list, err)
	}
	for _, f := range list {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		r := readers[filepath.Ext(f)]
		if !r.Probe(b[:512]) {
			t.Errorf("%s is not recognised", filepath.Base(f))
		}
		s, err := read(r, []format.Written{{Name: f, Data: b}})
		if err != nil {
			t.Errorf("%s: %v", filepath.Base(f), err)
			continue
		}
		lo, hi := bounds(s)
		if st := s.Stats(); st.Triangles != want.Triangles || !near(lo, want.Min) || !near(hi, want.Max) {
			t.Errorf("%s: %d triangles from %v to %v, want %d from %v to %v", filepath.Base(f), st.Triangles, lo, hi, want.Triangles, want.Min, want.Max)
		}
	}
}

// TestOthersReadOurs has three's loaders read what we write.
func TestOthersReadOurs(t *testing.T) {
	dir := t.TempDir()
	s := random(t, rand.New(rand.NewSource(9)), true, true, true)
	// A node that turns, scales and mirrors.
	s.Nodes[0].Translation, s.Nodes[0].Scale = [3]float32{1, 2, 3}, [3]float32{-1, 2, 1}
	var files []string
	for _, w := range (format.Writers{obj.Writer(), ply.Writer(), stl.Writer()}) {
		list, _, err := w.Write(s, "punt")
		if err != nil {
			t.Fatal(err)
		}
		name := filepath.Join(dir, list[0].Name)
		if err := os.WriteFile(name, list[0].Data, 0o644); err != nil {
			t.Fatal(err)
		}
		files = append(files, name)
	}
	lo, hi := bounds(s)
	for _, f := range node(t, append([]string{"read"}, files...)...) {
		if f.Triangles != s.Stats().Triangles || !near(f.Min, lo) || !near(f.Max, hi) {
			t.Errorf("%s: %d triangles from %v to %v; want %d from %v to %v", filepath.Base(f.File), f.Triangles, f.Min, f.Max, s.Stats().Triangles, lo, hi)
		}
		if flat := strings.HasSuffix(f.File, ".stl"); !flat && (!f.Uvs || !f.Colours) || !f.Normals {
			t.Errorf("%s: %+v", filepath.Base(f.File), f)
		}
		if strings.HasSuffix(f.File, ".obj") && (f.Names[0] != "mesh 0" || f.Materials[0] != "wood 0") {
			t.Errorf("%+v", f)
		}
	}
}

func TestNumbers(t *testing.T) {
	for _, c := range []struct {
		text string
		want float64
		rest string
	}{
		{"1", 1, ""}, {" -2.5e3 x", -2500, " x"}, {"+.5/", 0.5, "/"}, {"3.", 3, ""}, {"1e400", 0, ""}, {"123456789012345678901234567890", 123456789012345678901234567890, ""},
		{"0.1", 0.1, ""}, {"1e-310", 1e-310, ""}, {"4.35e-7", 4.35e-7, ""}, {"9007199254740993", 9007199254740993, ""}, {"0.00000000000000000000000000012", 1.2e-28, ""},
	} {
		v, rest, ok := format.Float([]byte(c.text))
		if c.text == "1e400" {
			if ok {
				t.Error("an infinite number is taken")
			}
			continue
		}
		if !ok || v != c.want || string(rest) != c.rest {
			t.Errorf("%q: %g %q %v", c.text, v, rest, ok)
		}
	}
	for _, bad := range []string{"", "-", ".", "x", "nan", "e5", "+-1", "1.2.3", "1.#INF", "1.#QNAN0", "0x10", "2e", "1-2", "3m"} {
		if _, _, ok := format.Float([]byte(bad)); ok {
			t.Errorf("%q is taken for a number", bad)
		}
	}
}

// FuzzFlat gives any bytes to the readers of OBJ, PLY and STL.
func FuzzFlat(f *testing.F) {
	s := random(f, rand.New(rand.NewSource(2)), true, true, true)
	for _, w := range (format.Writers{gltf.Writer(), obj.Writer(), ply.Writer(), stl.Writer()}) {
		list, _, err := w.Write(s, "x")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(list[0].Data[:min(len(list[0].Data), 3000)])
	}
	f.Add([]byte("v 0 0 0 1 1 1\nvt 0\nv 1 0 0\nv 0 1 0\nv 1 1 0\ns 1\nf 1/1 2 3 -1\nmtllib a\nusemtl b\n"))
	f.Add([]byte("solid\nfacet normal 0 0 1\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendfacet\nendsolid\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, r := range readers {
			r.Probe(b)
			if s, err := read(r, []format.Written{{Data: b}}); err == nil {
				if err := s.Validate(); err != nil {
					t.Fatalf("%s: %v", r.Name, err)
				}
			}
		}
	})
}

// surface is a textured grid of side x side quads.
func surface(side int) *scene.Scene {
	p := scene.Part{Material: scene.None}
	uv := make([]float32, 0, 2*side*side)
	for y := range side {
		for x := range side {
			p.Positions = append(p.Positions, float32(x)/7, float32(math.Sin(float64(x*y)/50)), float32(y)/7)
			p.Normals = append(p.Normals, 0, 1, 0)
			uv = append(uv, float32(x)/float32(side), float32(y)/float32(side))
		}
	}
	p.UVs = []scene.AttrSet{{Name: "uv", Data: uv}}
	for y := range side - 1 {
		for x := range side - 1 {
			a := uint32(y*side + x)
			b := a + uint32(side)
			p.Triangles = append(p.Triangles, a, b, a+1, a+1, b, b+1)
		}
	}
	s := &scene.Scene{Meshes: []scene.Mesh{{Name: "grid", Parts: []scene.Part{p}}}, Nodes: []scene.Node{scene.NewNode("grid")}}
	s.Nodes[0].Mesh = 0
	return s
}

// BenchmarkRead reads large files; with them it reports how many times as
// fast that is as three's loader under Node, in the same run.
func BenchmarkRead(b *testing.B) {
	for _, w := range (format.Writers{gltf.Writer(), obj.Writer(), ply.Writer(), stl.Writer()}) {
		side := map[string]int{".obj": 800, ".stl": 710}[w.Ending]
		list, _, err := w.Write(surface(cmp.Or(side, 1000)), "grid")
		if err != nil {
			b.Fatal(err)
		}
		b.Run(w.Name, func(b *testing.B) { benchmarkRead(b, readers[w.Ending], list) })
		if w.Ending == ".obj" { // its normals are computed
			bare := surface(side)
			bare.Meshes[0].Parts[0].Normals = nil
			list, _, err := w.Write(bare, "grid")
			if err != nil {
				b.Fatal(err)
			}
			b.Run("obj-bare", func(b *testing.B) { benchmarkRead(b, readers[w.Ending], list[:1]) })
		}
		if w.Ending == ".stl" {
			text := []format.Written{{Name: "text.stl", Data: textSTL(list[0].Data[:len(list[0].Data)/4/50*50+84])}}
			b.Run("stl-text", func(b *testing.B) { benchmarkRead(b, readers[".stl"], text) })
		}
	}
}

// BenchmarkReadQuads reads what modellers mostly write: faces of four corners.
func BenchmarkReadQuads(b *testing.B) {
	for _, f := range quads(700) {
		b.Run(f.Name, func(b *testing.B) { benchmarkRead(b, readers[filepath.Ext(f.Name)], []format.Written{f}) })
	}
}

// quads is a wavy grid of side x side vertices, with quads, as OBJ and as
// binary PLY.
func quads(side int) []format.Written {
	var text, body, faces []byte
	for y := range side {
		for x := range side {
			h := math.Sin(float64(x)/30) * math.Cos(float64(y)/20)
			text = fmt.Appendf(text, "v %.6f %.6f %.6f\nvt %.6f %.6f\nvn 0.0000 1.0000 0.0000\n", float64(x)/7, h, float64(y)/7, float64(x)/float64(side), float64(y)/float64(side))
			body = append(body, numlist.Bytes([]float32{float32(x) / 7, float32(h), float32(y) / 7})...)
			if x > 0 && y > 0 {
				a := uint32(y*side + x)
				corners := []uint32{a - uint32(side) - 1, a - 1, a, a - uint32(side)}
				faces = append(append(faces, 4), numlist.Bytes(corners)...)
			}
		}
	}
	for at := 0; at < len(faces); at += 17 {
		text = append(text, 'f')
		for _, v := range numlist.Of[uint32](faces[at+1 : at+17]) {
			text = fmt.Appendf(text, " %d/%d/%d", v+1, v+1, v+1)
		}
		text = append(text, '\n')
	}
	head := fmt.Sprintf("ply\nformat binary_little_endian 1.0\nelement vertex %d\nproperty float x\nproperty float y\nproperty float z\nelement face %d\nproperty list uchar uint vertex_indices\nend_header\n", side*side, len(faces)/17)
	return []format.Written{{Name: "quads.obj", Data: text}, {Name: "quads.ply", Data: slices.Concat([]byte(head), body, faces)}}
}

// Extrusions along a straight spine are what three's loader makes of them. (Bent
// ones it does not turn into the planes of the bend.)
func TestExtrusionsAgainstThree(t *testing.T) {
	dir := t.TempDir()
	var names []string
	for i, fields := range []string{
		"",
		"beginCap FALSE",
		"crossSection [ 1 1, 1 -1, -1 -1, -1 1, 1 1 ] spine [ 0 0 0, 0 1 0, 0 4 0 ] scale [ 1 1, 2 1, 0.5 0.5 ]",
		"crossSection [ 1 0, 0.5 -0.866, -0.5 -0.866, -1 0, -0.5 0.866, 0.5 0.866, 1 0 ] spine [ 0 0 0, 0 2 0 ] scale [ 1 1, 0.5 0.25 ] orientation [ 0 1 0 0, 0 1 0 0.5 ]",
	} {
		names = append(names, filepath.Join(dir, fmt.Sprintf("%d.wrl", i)))
		if err := os.WriteFile(names[i], []byte("#VRML V2.0 utf8\nShape { geometry Extrusion { "+fields+" } }\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for i, f := range node(t, append([]string{"read"}, names...)...) {
		data, err := os.ReadFile(names[i])
		if err != nil {
			t.Fatal(err)
		}
		s, err := read(x3d.Formats()[0], []format.Written{{Data: data}})
		if err != nil {
			t.Fatal(err)
		}
		if st := s.Stats(); st.Triangles != f.Triangles || !near(st.Min[:], f.Min) || !near(st.Max[:], f.Max) {
			t.Errorf("%s: %d triangles from %v to %v, three's %d from %v to %v", data, st.Triangles, st.Min, st.Max, f.Triangles, f.Min, f.Max)
		}
	}
}

// A long file's faces are built while its lines are read: it reads as it does
// on one core, and as another format that holds the same.
func TestLongFilesOfQuads(t *testing.T) {
	files := quads(60)
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	want, err := read(readers[".obj"], files[:1])
	if err != nil {
		t.Fatal(err)
	}
	runtime.GOMAXPROCS(2)
	got, err := read(readers[".obj"], files[:1])
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("on two cores it reads otherwise: %v", err)
	}
	ply, err := read(readers[".ply"], files[1:])
	if err != nil {
		t.Fatal(err)
	}
	a, b := got.Stats(), ply.Stats()
	if a.Triangles != 2*59*59 || a.Triangles != b.Triangles || math.Abs(a.Area-b.Area) > 1e-4*a.Area {
		t.Errorf("%d and %d triangles, areas of %g and %g", a.Triangles, b.Triangles, a.Area, b.Area)
	}
	// A fault far into the file, and a last line that goes on.
	text := string(files[0].Data)
	if _, err := read(readers[".obj"], []format.Written{{Data: []byte(text + "f 1 2 9999")}}); err == nil || err.Error() != fmt.Sprintf("line %d: a face uses position 9999, and there are 3600", strings.Count(text, "\n")+1) {
		t.Errorf("a face of a vertex that is not there: %v", err)
	}
	more, err := read(readers[".obj"], []format.Written{{Data: []byte(text + "f 1/1/1 2/2/2 \\\n3/3/3\\")}})
	if err != nil || more.Stats().Triangles != a.Triangles+1 {
		t.Errorf("a last line that goes on: %v", err)
	}
}

func benchmarkRead(b *testing.B, r format.Reader, files []format.Written) {
	name := filepath.Join(b.TempDir(), files[0].Name)
	if err := os.WriteFile(name, files[0].Data, 0o644); err != nil {
		b.Fatal(err)
	}
	theirs := node(b, "read", name)[0].Ms
	b.SetBytes(int64(len(files[0].Data)))
	for b.Loop() {
		if _, err := read(r, files); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(theirs/(b.Elapsed().Seconds()*1000/float64(b.N)), "times-three")
}

// textSTL is a binary file's facets as text.
func textSTL(binary []byte) []byte {
	out := []byte("solid grid\n")
	three := func(p []byte) {
		for _, v := range numlist.Of[float32](p[:12]) {
			out = strconv.AppendFloat(append(out, ' '), float64(v), 'g', -1, 32)
		}
		out = append(out, '\n')
	}
	for f := 84; f+50 <= len(binary); f += 50 {
		out = append(out, "facet normal"...)
		three(binary[f:])
		out = append(out, "outer loop\n"...)
		for c := range 3 {
			out = append(out, "vertex"...)
			three(binary[f+12+12*c:])
		}
		out = append(out, "endloop\nendfacet\n"...)
	}
	return append(out, "endsolid grid\n"...)
}

// A small thing far from the origin keeps its shape through OBJ, whose numbers
// are text: 32 bits would step by 8 mm at 120 km.
func TestFarThroughOBJ(t *testing.T) {
	s := &scene.Scene{Basis: geom.GLTF, Nodes: []scene.Node{scene.NewNode("buoy")}, Meshes: []scene.Mesh{{Name: "buoy", Parts: []scene.Part{{
		Material: scene.None, Positions: []float32{0, 0, 0, 0.0123, 0, 0, 0, 0.0456, 0.0011}, Triangles: []uint32{0, 1, 2}}}}}}
	s.Nodes[0].Mesh, s.Nodes[0].Translation = 0, [3]float32{120_000, 8, -77_777}
	files, _, err := obj.Write(s, "buoy")
	if err != nil {
		t.Fatal(err)
	}
	got, err := read(obj.Format(), files)
	if err != nil {
		t.Fatal(err)
	}
	place, p := got.World()[0], got.Meshes[0].Parts[0].Positions
	for v, want := range []geom.Vec3{{120_000, 8, -77_777}, {120_000.0123, 8, -77_777}, {120_000, 8.0456, -77_776.9989}} {
		if at := place.Point(geom.Vec3{float64(p[3*v]), float64(p[3*v+1]), float64(p[3*v+2])}); at.Sub(want).Len() > 1e-6 {
			t.Errorf("vertex %d at %v, want %v", v, at, want)
		}
	}
}
