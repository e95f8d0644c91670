package format_test

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/dae"
	"excavate/core/format/flat"
	"excavate/core/format/gltf"
	"excavate/core/format/usd"
	"excavate/core/geom"
	"excavate/core/scene"
)

// A matrix that shears is kept, by every format that has matrices: here x grows
// with half of y, and a node below moves by one along y.
func TestShearIsKept(t *testing.T) {
	var triangle []byte
	for _, v := range []float32{0, 0, 0, 2, 0, 0, 0, 4, 1} {
		triangle = binary.LittleEndian.AppendUint32(triangle, math.Float32bits(v))
	}
	collada := func(more string) string {
		return `<COLLADA version="1.4.1"><asset><unit meter="1"/></asset>` + more + `
<library_geometries><geometry id="g"><mesh><source id="p"><float_array count="9">0 0 0 2 0 0 0 4 1</float_array><technique_common><accessor count="3" stride="3"><param name="X"/><param name="Y"/><param name="Z"/></accessor></technique_common></source>
<vertices id="v"><input semantic="POSITION" source="#p"/></vertices><triangles count="1"><input semantic="VERTEX" source="#v" offset="0"/><p>0 1 2</p></triangles></mesh></geometry></library_geometries>
<library_visual_scenes><visual_scene id="s"><node id="sail" name="sail"><matrix sid="m">1 0.5 0 3 0 1 0 0 0 0 1 0 0 0 0 1</matrix><instance_geometry url="#g"/>
<node id="pennant" name="pennant"><translate>0 1 0</translate><instance_geometry url="#g"/></node></node></visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>`
	}
	const mesh = `point3f[] points = [(0, 0, 0), (2, 0, 0), (0, 4, 1)]
int[] faceVertexCounts = [3]
int[] faceVertexIndices = [0, 1, 2]`
	for _, c := range []struct {
		name string
		read format.Reader
		text string
	}{
		{"glTF", gltf.Readers()[1], `{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[1]}],"nodes":[{"name":"pennant","mesh":0,"translation":[0,1,0]},{"name":"sail","mesh":0,"matrix":[1,0,0,0,0.5,1,0,0,0,0,1,0,3,0,0,1],"children":[0]}],
"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],"accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3","min":[0,0,0],"max":[2,4,1]}],"bufferViews":[{"buffer":0,"byteLength":36}],"buffers":[{"byteLength":36,"uri":"data:application/octet-stream;base64,` + base64.StdEncoding.EncodeToString(triangle) + `"}]}`},
		{"COLLADA", dae.Format(), collada("")},
		{"USD", usd.Formats()[0], "#usda 1.0\n(\n metersPerUnit = 1\n)\ndef Mesh \"sail\" {\nmatrix4d xformOp:transform = ((1, 0, 0, 0), (0.5, 1, 0, 0), (0, 0, 1, 0), (3, 0, 0, 1))\nuniform token[] xformOpOrder = [\"xformOp:transform\"]\n" + mesh + "\ndef Mesh \"pennant\" {\ndouble3 xformOp:translate = (0, 1, 0)\nuniform token[] xformOpOrder = [\"xformOp:translate\"]\n" + mesh + "\n} }"},
	} {
		if !c.read.Probe([]byte(c.text)[:min(len(c.text), 512)]) {
			t.Fatalf("%s is not recognised", c.name)
		}
		s, err := c.read.Read(context.Background(), format.File{Name: "sail", Data: []byte(c.text)})
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		got := map[string]bool{}
		for _, p := range flat.Pieces(s) {
			for v := range uint32(len(p.Positions) / 3) {
				q := geom.At(p.Positions, v)
				got[fmt.Sprintf("%s %.3f %.3f %.3f", p.Name, math.Round(q[0]*1e3)/1e3+0, math.Round(q[1]*1e3)/1e3+0, math.Round(q[2]*1e3)/1e3+0)] = true
			}
		}
		for _, want := range []string{"sail 3.000 0.000 0.000", "sail 5.000 0.000 0.000", "sail 5.000 4.000 1.000", "pennant 3.500 1.000 0.000", "pennant 5.500 1.000 0.000", "pennant 5.500 5.000 1.000"} {
			if !got[want] {
				t.Errorf("%s: no %s among %v", c.name, want, got)
			}
		}
		if len(s.Nodes) != 3 || len(s.Notes) != 0 {
			t.Errorf("%s: %+v, %v", c.name, s.Nodes, s.Notes)
		}
	}
	// One that moves is a single node; what that loses is said.
	moving := collada(`<library_animations><animation><source id="t"><float_array count="2">0 1</float_array><technique_common><accessor count="2"><param name="TIME"/></accessor></technique_common></source>
<source id="o"><float_array count="32">1 0.5 0 3 0 1 0 0 0 0 1 0 0 0 0 1 1 0 0 9 0 1 0 0 0 0 1 0 0 0 0 1</float_array><technique_common><accessor count="2" stride="16"><param name="M" type="float4x4"/></accessor></technique_common></source>
<sampler id="sam"><input semantic="INPUT" source="#t"/><input semantic="OUTPUT" source="#o"/></sampler><channel source="#sam" target="sail/m"/></animation></library_animations>`)
	s, err := dae.Format().Read(context.Background(), format.File{Name: "sail", Data: []byte(moving)})
	if err != nil {
		t.Fatal(err)
	}
	if len(s.Motions) != 1 || !strings.Contains(fmt.Sprint(s.Notes), "a node that moves is sheared") || s.World()[0] != geom.Identity {
		t.Errorf("%+v, %v, %v", s.Motions, s.Notes, s.Nodes)
	}
	for _, c := range s.Motions[0].Channels {
		if v := c.At(1); c.Node != 1 || c.Path == scene.PathTranslation && v[0] != 9 {
			t.Errorf("node %d, %s ends at %v", c.Node, c.Path, v)
		}
	}
}
