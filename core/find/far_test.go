package find_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/find"
	"excavate/internal/shipped"
)

// A frame of 20 m that was captured 120 km and more from the origin keeps its
// shape to a hundredth of a millimetre, and stands where it stood; one that is
// as large as it is far stays as it is.
func TestFarFromTheOrigin(t *testing.T) {
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	const n = 40
	at := [3]float64{120_431.2, -7.75, -98_004.6}
	vertex := func(i int) (p [3]float64) {
		a := float64(i) * 0.7
		return [3]float64{10 * math.Sin(a), 1.65 * math.Cos(3*a), 10 * math.Cos(a*1.3)}
	}
	file := func(ending string, far float64) []byte {
		var b strings.Builder
		faces := func(f string, from int) {
			for i := range n - 2 {
				fmt.Fprintf(&b, f, i+from, i+1+from, i+2+from)
			}
		}
		text := ending != "binary.ply"
		kind := "binary_big_endian"
		if text {
			kind = "ascii"
		}
		if strings.HasSuffix(ending, "ply") {
			fmt.Fprintf(&b, "ply\nformat %s 1.0\nelement vertex %d\nproperty double x\nproperty double y\nproperty double z\nelement face %d\nproperty list uchar int vertex_indices\nend_header\n", kind, n, n-2)
		}
		switch ending {
		case "dae":
			fmt.Fprintf(&b, `<COLLADA version="1.4.1"><library_geometries><geometry id="g"><mesh><source id="p"><float_array id="a" count="%d">`, 3*n)
		case "x3d":
			b.WriteString(`<X3D><Scene><Shape><IndexedTriangleSet solid="true" normalPerVertex="true" index="`)
			faces("%d %d %d ", 0)
			b.WriteString(`"><CoordinateDouble point="`)
		}
		for i := range n {
			p := vertex(i)
			for k := range p {
				p[k] += far * at[k]
			}
			switch ending {
			case "dae", "x3d":
				fmt.Fprintf(&b, "%.6f %.6f %.6f ", p[0], p[1], p[2])
			case "obj":
				fmt.Fprintf(&b, "v %.6f %.6f %.6f\n", p[0], p[1], p[2])
			case "ply":
				fmt.Fprintf(&b, "%.6f %.6f %.6f\n", p[0], p[1], p[2])
			default:
				for _, x := range p {
					b.Write(binary.BigEndian.AppendUint64(nil, math.Float64bits(x)))
				}
			}
		}
		switch ending {
		case "dae":
			b.WriteString(`</float_array><technique_common><accessor source="#a" count="40" stride="3"><param name="X"/><param name="Y"/><param name="Z"/></accessor></technique_common></source><vertices id="v"><input semantic="POSITION" source="#p"/></vertices><triangles count="38"><input semantic="VERTEX" source="#v" offset="0"/><p>`)
			faces("%d %d %d ", 0)
			b.WriteString(`</p></triangles></mesh></geometry></library_geometries><library_visual_scenes><visual_scene id="s"><node><instance_geometry url="#g"/></node></visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>`)
		case "x3d":
			b.WriteString(`"/></IndexedTriangleSet></Shape></Scene></X3D>`)
		case "obj":
			b.WriteString("s 1\n") // smooth: one vertex a position
			faces("f %d %d %d\n", 1)
		case "ply":
			faces("3 %d %d %d\n", 0)
		default:
			for i := range n - 2 {
				b.WriteByte(3)
				for k := range 3 {
					b.Write(binary.BigEndian.AppendUint32(nil, uint32(i+k)))
				}
			}
		}
		return []byte(b.String())
	}
	for _, ending := range []string{"obj", "ply", "binary.ply", "dae", "x3d"} {
		for _, far := range []float64{0, 0.0001, 1, 30} {
			s, _, err := lib.Decode(context.Background(), find.Input{Name: "frame." + ending, Data: file(ending, far)})
			if err != nil {
				t.Fatalf("%s: %v", ending, err)
			}
			stands, worst := s.Nodes[len(s.Nodes)-1].Translation, 0.0
			if moved := stands != [3]float32{}; moved != (far >= 1) {
				t.Errorf("%s, %g times as far: it stands at %v", ending, far, stands)
			}
			p, faces := s.Meshes[0].Parts[0].Positions, s.Meshes[0].Parts[0].Triangles
			if len(faces) != 3*(n-2) {
				t.Fatalf("%s: %d triangles", ending, len(faces)/3)
			}
			for c, v := range faces { // face i is of the vertices i, i+1 and i+2
				want := vertex(c/3 + c%3)
				for k := range 3 {
					worst = math.Max(worst, math.Abs(float64(stands[k])+float64(p[3*v+uint32(k)])-want[k]-far*at[k]))
				}
			}
			if worst > 1e-5 {
				t.Errorf("%s, %g times as far: a vertex is off by %g m", ending, far, worst)
			}
			said := false
			for _, x := range s.Notes {
				said = said || strings.Contains(x.Text, "far from the origin")
			}
			if said != (far >= 1) {
				t.Errorf("%s, %g times as far: notes %+v", ending, far, s.Notes)
			}
		}
	}
}
