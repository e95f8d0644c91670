package step

import (
	"context"
	"math"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/scene"
)

// outside is how far points lie outside a collider of a node.
func outside(s *scene.Scene, node int, points []geom.Vec3) (far float64) {
	c := s.Nodes[node].Collider
	w := s.World()[node]
	inv, _ := w.Inverse()
	for _, p := range points {
		q := inv.Point(p)
		var d float64
		switch c.Shape {
		case scene.ShapeBox:
			for k := range 3 {
				d = max(d, math.Abs(q[k])-float64(c.Size[k])/2)
			}
		case scene.ShapeSphere:
			d = q.Len() - float64(c.Radius)
		case scene.ShapeCapsule:
			h := float64(c.Height) / 2
			q[c.Axis] -= min(h, max(-h, q[c.Axis]))
			d = q.Len() - float64(c.Radius)
		default:
			m := &s.Meshes[c.Mesh].Parts[0]
			for t := 0; t+2 < len(m.Triangles); t += 3 {
				n := faceNormal(m, m.Triangles[t:t+3]).Norm()
				d = max(d, q.Sub(at3(m.Positions, m.Triangles[t])).Dot(n))
			}
		}
		far = max(far, d)
	}
	return far
}

func pointsOf(s *scene.Scene, node int) (out []geom.Vec3) {
	w := s.World()
	for j := range s.Meshes[s.Nodes[node].Mesh].Parts {
		pos, _ := s.Posed(node, &s.Meshes[s.Nodes[node].Mesh].Parts[j], w)
		for v := range len(pos) / 3 {
			out = append(out, at3(pos, uint32(v)))
		}
	}
	return out
}

// Whatever the shape, everything of its node lies within, also where the node
// is turned, mirrored and scaled unevenly, in any basis, and in a GLB again.
func TestCollidersHold(t *testing.T) {
	for _, shape := range []string{"box", "sphere", "capsule", "hull"} {
		for _, fit := range []bool{false, true} {
			s := village()
			out, r := apply(t, "colliders", s, where(map[string]any{"not": map[string]any{"node": "lantern"}}, "shape", shape, "fit", fit, "corners", 256, "tag", "solid"))
			same(t, shape, s, out)
			zUp, err := out.InBasis(geom.Basis{Up: geom.PlusZ, Front: geom.PlusX, Handed: geom.Left, MetresPerUnit: 0.01})
			if err != nil {
				t.Fatal(err)
			}
			glb, _, err := gltf.Write(zUp, gltf.Options{})
			if err != nil {
				t.Fatal(err)
			}
			again, err := gltf.Read(context.Background(), format.File{Name: "village.glb", Data: glb})
			if err != nil {
				t.Fatal(err)
			}
			for name, x := range map[string]*scene.Scene{"made": out, "turned": zUp, "read again": again} {
				if n := x.Stats().Colliders; n != 3 {
					t.Fatalf("%s, %s: %d colliders, %v", shape, name, n, r.Lines)
				}
				for i := range x.Nodes {
					if x.Nodes[i].Collider == nil {
						continue
					}
					up := x.Nodes[i].Parent
					for x.Nodes[up].Mesh < 0 {
						up = x.Nodes[up].Parent
					}
					size := x.Bounds().Size().Len()
					if d := outside(x, i, pointsOf(x, up)); d > 1e-5*size {
						t.Errorf("%s, fit %v, %s: %s stands %g outside", shape, fit, name, x.Nodes[up].Name, d)
					}
					if tag, _ := x.Nodes[i].Prop("tag"); tag != "solid" {
						t.Errorf("the tag is %q", tag)
					}
				}
			}
			if !strings.Contains(strings.Join(r.Lines, " "), "1 node is without one: lantern") {
				t.Errorf("%v", r.Lines)
			}
		}
	}
}

// By hand: a box collider of the shed, which is 2 x 2 x 2 and begins at -6 1 -1.
func TestColliderOfABox(t *testing.T) {
	s := village()
	out, _ := apply(t, "colliders", s, where(map[string]any{"node": "shed"}))
	n := out.Nodes[len(out.Nodes)-1]
	if n.Name != "shed collider" || n.Collider.Size != [3]float32{2, 2, 2} || n.Parent != 3 {
		t.Fatalf("%+v %+v", n, n.Collider)
	}
	if w := out.World()[len(out.Nodes)-1]; (geom.Vec3{w[12], w[13], w[14]}).Sub(geom.Vec3{-5, 2, 0}).Len() > 1e-5 {
		t.Errorf("it is at %v", w[12:15])
	}
	if _, r := apply(t, "colliders", out, where(map[string]any{"node": "shed"})); !r.Idle {
		t.Error("it has one")
	}
	// The mesh itself, and several hulls: what encloses the same volume.
	for _, shape := range []string{"mesh", "hulls"} {
		out, _ := apply(t, "colliders", s, where(map[string]any{"node": "shed"}, "shape", shape))
		c := out.Nodes[len(out.Nodes)-1].Collider
		if len(out.Nodes) != 6 || c.Mesh < 0 || len(out.Meshes[c.Mesh].Parts[0].Triangles) != 36 || out.Meshes[c.Mesh].Parts[0].Vertices() != 8 {
			t.Errorf("%s: %+v", shape, c)
		}
		if out.Stats().Meshes != s.Stats().Meshes {
			t.Error("a collider is no mesh that is seen")
		}
		gone, r := apply(t, "strip", out, map[string]any{"colliders": true, "cameras": false, "lights": false, "helpers": false})
		if len(gone.Nodes) != 5 || len(gone.Meshes) != len(s.Meshes) || r.Lines[0] != "1 collider removed" {
			t.Errorf("%d nodes, %d meshes, %v", len(gone.Nodes), len(gone.Meshes), r.Lines)
		}
	}
}

// What stands out of a hull with few corners is said.
func TestHullsOfFewCorners(t *testing.T) {
	s := village()
	p := &s.Meshes[1].Parts[0]
	*p = owned(*p)
	for k := range 40 { // a round thing of many corners
		sin, cos := math.Sincos(float64(k))
		p.Positions = append(p.Positions, float32(3*cos), 4, float32(3*sin))
		p.Normals = append(p.Normals, 0, 1, 0)
		for i := range p.UVs {
			p.UVs[i].Data = append(p.UVs[i].Data, 0, 0)
		}
		if k > 1 {
			p.Triangles = append(p.Triangles, uint32(p.Vertices()-3), uint32(p.Vertices()-2), uint32(p.Vertices()-1))
		}
	}
	out, r := apply(t, "colliders", s, where(map[string]any{"node": "shed"}, "shape", "hull", "corners", 8))
	c := out.Nodes[len(out.Nodes)-1].Collider
	if n := out.Meshes[c.Mesh].Parts[0].Vertices(); n > 8 {
		t.Errorf("%d corners", n)
	}
	if !strings.Contains(strings.Join(r.Lines, " "), "m outside") {
		t.Errorf("%v", r.Lines)
	}
}

// Formats that know no colliders get meshes by a name.
func TestCollidersAsMeshes(t *testing.T) {
	s := village()
	for _, shape := range []string{"box", "sphere", "capsule"} {
		out, _ := apply(t, "colliders", s, where(map[string]any{"node": "shed"}, "shape", shape))
		plain, n := out.WithColliderMeshes("_collider")
		k := len(plain.Nodes) - 1
		if n != 1 || plain.Nodes[k].Name != "shed collider_collider" || plain.Nodes[k].Collider != nil {
			t.Fatalf("%d, %+v", n, plain.Nodes[k])
		}
		if err := plain.Validate(); err != nil {
			t.Error(err)
		}
		// Its faces look outwards, and enclose about what the shape does.
		part := &plain.Meshes[plain.Nodes[k].Mesh].Parts[0]
		v := 0.0
		for t := 0; t+2 < len(part.Triangles); t += 3 {
			a, b, c := at3(part.Positions, part.Triangles[t]), at3(part.Positions, part.Triangles[t+1]), at3(part.Positions, part.Triangles[t+2])
			v += a.Dot(b.Cross(c)) / 6
		}
		c := out.Nodes[len(out.Nodes)-1].Collider
		radius, height := float64(c.Radius), float64(c.Height)
		want := map[string]float64{"box": 8, "sphere": 4 * math.Pi / 3 * math.Pow(radius, 3), "capsule": 4*math.Pi/3*math.Pow(radius, 3) + math.Pi*radius*radius*height}[shape]
		if v > want+1e-6 || v < 0.85*want {
			t.Errorf("%s: it encloses %g, the shape %g", shape, v, want)
		}
	}
}
