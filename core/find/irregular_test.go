package find_test

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/find"
	"excavate/internal/shipped"
)

// stlOf is a binary STL of one triangle a normal.
func stlOf(normals ...[3]float32) string {
	b := binary.LittleEndian.AppendUint32(make([]byte, 80), uint32(len(normals)))
	for i, n := range normals {
		for _, v := range []float32{n[0], n[1], n[2], float32(i), 0, 0, float32(i) + 1, 0, 0, float32(i), 1, 0} {
			b = binary.LittleEndian.AppendUint32(b, math.Float32bits(v))
		}
		b = append(b, 0, 0)
	}
	return string(b)
}

// odd is a glTF of one triangle whose material asks for a set of UVs, and whose
// normals have the length n.
func odd(set int, n float32) string {
	var b []byte
	for _, v := range []float32{0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, n, 0, 0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1} {
		b = binary.LittleEndian.AppendUint32(b, math.Float32bits(v))
	}
	return fmt.Sprintf(`{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[{"mesh":0}],"buffers":[{"byteLength":%d,"uri":"data:;base64,%s"}],
"bufferViews":[{"buffer":0,"byteLength":36},{"buffer":0,"byteOffset":36,"byteLength":36},{"buffer":0,"byteOffset":72,"byteLength":24}],
"accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3","min":[0,0,0],"max":[1,1,0]},{"bufferView":1,"componentType":5126,"count":3,"type":"VEC3"},{"bufferView":2,"componentType":5126,"count":3,"type":"VEC2"}],
"images":[{"uri":"gone.png"}],"textures":[{"source":0}],"materials":[{"name":"reed","pbrMetallicRoughness":{"baseColorTexture":{"index":0,"texCoord":%d}}}],
"meshes":[{"primitives":[{"attributes":{"POSITION":0,"NORMAL":1,"TEXCOORD_0":2},"material":0}]}]}`, len(b), base64.StdEncoding.EncodeToString(b), set)
}

// What is odd in a scene that can be read is said, whatever its format.
func TestOddScenesSaySo(t *testing.T) {
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ data, says string }{
		{odd(0, 1), ""},
		{odd(0, 1.01), ""}, // of eight bits a number
		{odd(3, 1), `the material "reed" asks for UV set 4, which a part of a mesh that it is on does not have`},
		{odd(0, 2), "the normals of 1 of 3 vertices are not of unit length"},
		{odd(0, 0), "the normals of 1 of 3 vertices are not of unit length"},
		{`{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[{"name":"alone"}]}`, "there is nothing in it: no mesh, bone, motion, camera or light"},
	} {
		s, _, err := lib.Decode(context.Background(), find.Input{Name: "odd.gltf", Data: []byte(c.data)})
		if err != nil {
			t.Fatal(err)
		}
		var notes []string
		for _, n := range s.Notes {
			notes = append(notes, n.Text)
		}
		if got := strings.Join(notes, "; "); got != c.says {
			t.Errorf("says %q, not %q", got, c.says)
		}
	}
}

// Files that others made a little beside the letter of their format are read
// where they are clear, and the scene says what was odd.
func TestIrregularFilesAreRead(t *testing.T) {
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	const plyBody = "element vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n"
	const objBody = "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
	for _, c := range []struct{ name, data, says string }{
		{"long.stl", stlOf([3]float32{0, 0, 5}, [3]float32{0, 0, 1}), "the normals of 1 of 2 facets were not of unit length"},
		{"none.stl", stlOf([3]float32{}, [3]float32{0, 0, 1}), "the file gives no normal for 1 of 2 facets"},
		{"all.stl", stlOf([3]float32{0, 0, 1}), ""},
		{"bare.obj", "g\n" + objBody, ""},
		{"curve.obj", "# a thing\nlod 1\n" + objBody, ""},
		{"plain.ply", "ply\ncomment by hand\nformat ascii 1.0\nobj_info x\n" + plyBody, ""},
		{"before.ply", "comment by hand\nply\nformat ascii 1.0\n" + plyBody, "comments stand in its header"},
		{"hash.ply", "ply\n# by hand\nformat ascii 1.0\n" + plyBody, "comments stand in its header"},
	} {
		s, format, err := lib.Decode(context.Background(), find.Input{Name: c.name, Data: []byte(c.data)})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if want := c.name[strings.LastIndex(c.name, ".")+1:]; format != want || s.Stats().Triangles == 0 {
			t.Errorf("%s is read as %s, with %d triangles", c.name, format, s.Stats().Triangles)
		}
		for _, p := range s.Meshes[0].Parts {
			for i := 0; i+2 < len(p.Normals); i += 3 {
				if n := p.Normals[i : i+3]; n[0] != 0 || n[1] != 0 || n[2] != 1 {
					t.Errorf("%s: the normal is %v", c.name, n)
				}
			}
		}
		var notes []string
		for _, n := range s.Notes {
			notes = append(notes, n.Text)
		}
		if all := strings.Join(notes, "; "); c.says == "" && strings.Contains(all, "comment") || !strings.Contains(all, c.says) {
			t.Errorf("%s says %q, not %q", c.name, all, c.says)
		}
	}
	// What the name alone makes likely is not taken on trust.
	for name, data := range map[string]string{"letter.obj": "Dear Wren,\nthe ferry is late.\n", "zero.stl": strings.Repeat("\x00", 200), "letter.ply": "plywood\n"} {
		if _, _, err := lib.Decode(context.Background(), find.Input{Name: name, Data: []byte(data)}); err == nil || !strings.Contains(err.Error(), "not a model") && !strings.Contains(err.Error(), "recognises") {
			t.Errorf("%s: %v", name, err)
		}
	}
}
