package scene

import (
	"math"
	"math/rand"
	"testing"

	"excavate/core/geom"
)

// Whatever matrix a node is given, it and the one above it together are it; one
// alone where it does not shear.
func TestPlace(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	sheared := 0
	for k := range 500 {
		m := geom.TRS(geom.Vec3{r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}, geom.AxisAngle(geom.Vec3{1, 2, 3}.Norm(), r.Float64()*6), geom.Vec3{1 + r.Float64(), 2, 3})
		if k%2 == 1 {
			m = m.Mul(geom.TRS(geom.Vec3{1, 0, 0}, geom.AxisAngle(geom.Vec3{0, 1, 1}.Norm(), 0.2+r.Float64()), geom.Vec3{1, 1, -1.5}))
		}
		n := NewNode("sail")
		n.Parent = 4
		above := n.Place(m)
		got := n.Local()
		if above != nil {
			sheared++
			if above.Name != "sail shear" || above.Parent != 4 || n.Name != "sail" {
				t.Fatalf("%+v above %+v", above, n)
			}
			outer := above.Local()
			got = outer.Mul(got)
		}
		if (above != nil) != (k%2 == 1) {
			t.Fatalf("matrix %d: a node above it %v", k, above != nil)
		}
		for i := range m {
			if math.Abs(m[i]-got[i]) > 1e-5 {
				t.Fatalf("matrix %d: %v, want %v", k, got, m)
			}
		}
	}
	if sheared != 250 {
		t.Errorf("%d of 500 shear", sheared)
	}
	nameless := NewNode("")
	if above := nameless.Place(geom.Mat4{1, 0, 0, 0, 1, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}); above == nil || above.Name != "shear" {
		t.Errorf("%+v", above)
	}
}

// Levels of detail are offered once: a file's own choice stands.
func TestDetailIsOfferedOnce(t *testing.T) {
	s := &Scene{Meshes: []Mesh{{Name: "a"}, {Name: "b"}}, Choices: []Choice{{Name: DetailChoice, Options: []string{"finest", "level 1"}, Chosen: "finest"}}}
	for i, name := range []string{"hut lod 0", "hut lod 1"} {
		n := NewNode(name)
		n.Mesh = i
		s.Nodes = append(s.Nodes, n)
	}
	s.ChooseDetail("finest")
	if len(s.Choices) != 1 || len(s.Meshes) != 2 || len(s.Notes) != 0 {
		t.Errorf("%+v %v", s.Choices, s.Notes)
	}
	s.Choices = nil
	s.ChooseDetail("finest")
	if len(s.Choices) != 1 || len(s.Meshes) != 1 || s.Choices[0].Chosen != "finest" {
		t.Errorf("%+v, %d meshes", s.Choices, len(s.Meshes))
	}
}
