package geom

import (
	"math"
	"testing"
)

func near(a, b Vec3) bool { return a.Sub(b).Len() < 1e-9 }

func TestChangeBasisMatchesAHandDrawnMap(t *testing.T) {
	// A left-handed, Z up, facing -Y file in centimetres: its right is +X.
	file := Basis{PlusZ, MinusY, Left, 0.01}
	if r := file.RightVec(); r != (Vec3{1, 0, 0}) {
		t.Fatalf("right of %s is %v, want +X", file, r)
	}
	if r := GLTF.RightVec(); r != (Vec3{-1, 0, 0}) {
		t.Fatalf("right of glTF is %v, want -X", r)
	}
	c, err := ChangeBasis(file, GLTF)
	if err != nil {
		t.Fatal(err)
	}
	// One metre to the asset's right, two up, three to its front.
	if got := c.Point(Vec3{100, -300, 200}); !near(got, Vec3{-1, 2, 3}) {
		t.Errorf("got %v, want -1 2 3", got)
	}
	if !c.Flip {
		t.Error("the hand changes, and the map says that it does not")
	}
	back, err := ChangeBasis(GLTF, file)
	if err != nil {
		t.Fatal(err)
	}
	if got := back.Point(c.Point(Vec3{7, 8, 9})); !near(got, Vec3{7, 8, 9}) {
		t.Errorf("there and back gives %v", got)
	}
}

func TestChangeOfRotationsAgreesWithMatrices(t *testing.T) {
	axes := []Axis{PlusX, MinusX, PlusY, MinusY, PlusZ, MinusZ}
	q := AxisAngle(Vec3{0.3, -0.8, 0.5}, 1.1)
	s := Vec3{2, 3, 4}
	tr := Vec3{5, -6, 7}
	n := 0
	for _, up := range axes {
		for _, front := range axes {
			for _, hand := range []Handedness{Left, Right} {
				b := Basis{up, front, hand, 0.1}
				if b.Validate() != nil {
					continue
				}
				n++
				c, err := ChangeBasis(GLTF, b)
				if err != nil {
					t.Fatal(err)
				}
				want := c.Mat4(TRS(tr, q, s))
				got := TRS(c.Point(tr), c.Quat(q), c.Scaling(s))
				for i := range want {
					if math.Abs(want[i]-got[i]) > 1e-9 {
						t.Fatalf("%s: element %d is %g by parts and %g by matrices", b, i, got[i], want[i])
					}
				}
			}
		}
	}
	if n != 48 {
		t.Errorf("%d bases tried, there are 48", n)
	}
}

func TestDecomposeRestoresTheMatrix(t *testing.T) {
	for _, s := range []Vec3{{1, 1, 1}, {2, 0.5, 3}, {-2, 0.5, 3}} {
		m := TRS(Vec3{1, 2, 3}, AxisAngle(Vec3{1, 1, 0}, 2.5), s)
		tr, q, sc, exact := m.Decompose()
		if !exact {
			t.Errorf("scale %v: said to shear", s)
		}
		back := TRS(tr, q, sc)
		for i := range m {
			if math.Abs(m[i]-back[i]) > 1e-9 {
				t.Fatalf("scale %v: element %d: %g became %g", s, i, m[i], back[i])
			}
		}
	}
	shear := Identity
	shear[4] = 0.5
	if _, _, _, exact := shear.Decompose(); exact {
		t.Error("a shearing matrix was said to be exact")
	}
}

func TestInverse(t *testing.T) {
	m := TRS(Vec3{1, 2, 3}, AxisAngle(Vec3{0, 1, 1}, 0.7), Vec3{2, 3, 0.5})
	inv, ok := m.Inverse()
	if !ok {
		t.Fatal("no inverse")
	}
	if p := inv.Point(m.Point(Vec3{4, 5, 6})); !near(p, Vec3{4, 5, 6}) {
		t.Errorf("got %v", p)
	}
	if _, ok := (Mat4{}).Inverse(); ok {
		t.Error("a matrix of zeros has an inverse")
	}
}

func TestAxes(t *testing.T) {
	for _, s := range []string{"+X", "-X", "+Y", "-Y", "+Z", "-Z"} {
		a, err := ParseAxis(s)
		if err != nil || a.String() != s {
			t.Errorf("%s became %s, %v", s, a, err)
		}
	}
	if _, err := ParseAxis("up"); err == nil {
		t.Error("“up” was taken for an axis")
	}
	if err := (Basis{Up: PlusY, Front: MinusY}).Validate(); err == nil {
		t.Error("up and front on one axis were accepted")
	}
}
