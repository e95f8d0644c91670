package geom

import (
	"encoding/json"
	"math"
	"math/rand"
	"slices"
	"testing"
)

func anyVec(r *rand.Rand) Vec3 { return Vec3{r.NormFloat64(), r.NormFloat64(), r.NormFloat64()} }

func anyQuat(r *rand.Rand) Quat {
	return Quat{r.NormFloat64(), r.NormFloat64(), r.NormFloat64(), r.NormFloat64()}.Norm()
}

func apart(a, b Vec3) float64 { return a.Sub(b).Len() }

// What holds for every vector, quaternion and matrix.
func TestLaws(t *testing.T) {
	r := rand.New(rand.NewSource(21))
	for range 500 {
		a, b, c := anyVec(r), anyVec(r), anyVec(r)
		if x := a.Cross(b); math.Abs(x.Dot(a)) > 1e-9 || math.Abs(x.Dot(b)) > 1e-9 {
			t.Fatalf("%v x %v = %v is not across them", a, b, x)
		}
		if d := a.Dot(b.Cross(c)) - b.Dot(c.Cross(a)); math.Abs(d) > 1e-9 {
			t.Fatalf("the triple product changes by %g", d)
		}
		if l := a.Norm().Len(); math.Abs(l-1) > 1e-12 {
			t.Fatalf("made one long: %g", l)
		}
		p, q := anyQuat(r), anyQuat(r)
		turn := func(q Quat, v Vec3) Vec3 {
			m := TRS(Vec3{}, q, Vec3{1, 1, 1})
			return m.Point(v)
		}
		if d := apart(turn(p.Mul(q), a), turn(p, turn(q, a))); d > 1e-9 {
			t.Fatalf("p q turns otherwise than q, then p: %g", d)
		}
		if d := turn(q, a).Len() - a.Len(); math.Abs(d) > 1e-9 {
			t.Fatalf("a turn lengthens by %g", d)
		}
		angle := r.Float64()*6 - 3
		axis := b.Norm()
		if d := apart(turn(AxisAngle(axis, angle), axis), axis); d > 1e-9 {
			t.Fatalf("a turn moves its own axis by %g", d)
		}
		// A turn takes a vector across its axis by its angle.
		x := axis.Cross(c).Norm()
		if got := turn(AxisAngle(axis, angle), x).Dot(x); math.Abs(got-math.Cos(angle)) > 1e-9 {
			t.Fatalf("a turn by %g has a cosine of %g", angle, got)
		}
		scale := Vec3{0.1 + r.Float64()*3, 0.1 + r.Float64()*3, 0.1 + r.Float64()*3}
		if r.Intn(2) == 0 {
			scale[r.Intn(3)] *= -1
		}
		m, n := TRS(a, p, scale), TRS(b, q, Vec3{2, 2, 2})
		product := m.Mul(n)
		if d := apart(product.Point(c), m.Point(n.Point(c))); d > 1e-8 {
			t.Fatalf("m n maps otherwise than n, then m: %g", d)
		}
		inverse, ok := product.Inverse()
		if !ok || apart(inverse.Point(product.Point(c)), c) > 1e-7 {
			t.Fatalf("the inverse of %v", product)
		}
		if d := m.Det3() - scale[0]*scale[1]*scale[2]; math.Abs(d) > 1e-9 {
			t.Fatalf("the determinant is off by %g", d)
		}
		// Normals stay across surfaces.
		u, v := anyVec(r), anyVec(r)
		nm := m.NormalMatrix()
		w := nm.Dir(u.Cross(v))
		if d := w.Dot(m.Dir(u)); math.Abs(d) > 1e-7 {
			t.Fatalf("a normal is not across its surface: %g", d)
		}
		at, turned, scaled, exact := m.Decompose()
		back := TRS(at, turned, scaled)
		if !exact || apart(back.Point(c), m.Point(c)) > 1e-7 {
			t.Fatalf("%v taken apart and put together is %v", m, back)
		}
	}
	if _, ok := TRS(Vec3{}, Quat{0, 0, 0, 1}, Vec3{1, 0, 1}).Inverse(); ok {
		t.Error("a flat matrix has an inverse")
	}
	if z := (Vec3{}).Norm(); z != (Vec3{}) {
		t.Errorf("nothing made one long is %v", z)
	}
	if q := (Quat{}).Norm(); math.Abs(q[3]) != 1 {
		t.Errorf("no quaternion is %v", q)
	}
}

func TestBoxes(t *testing.T) {
	b := EmptyBox()
	if !b.Empty() || b.Size() != (Vec3{}) {
		t.Errorf("%v of %v", b, b.Size())
	}
	b.Add(Vec3{1, 2, 3})
	if b.Empty() || b.Size() != (Vec3{}) || b.Centre() != (Vec3{1, 2, 3}) {
		t.Errorf("%v", b)
	}
	b.Add(Vec3{-1, 4, 3})
	if b.Size() != (Vec3{2, 2, 0}) || b.Centre() != (Vec3{0, 3, 3}) {
		t.Errorf("%v", b)
	}
	b.Add(Vec3{math.NaN(), 0, 0})
	if b.Min[0] != -1 || b.Max[0] != 1 {
		t.Errorf("with what is no number: %v", b)
	}
}

// all are the bases of every axis and both hands.
func all() (out []Basis) {
	for up := Axis(-3); up <= 3; up++ {
		for front := Axis(-3); front <= 3; front++ {
			for _, h := range []Handedness{Right, Left} {
				b := Basis{Up: up, Front: front, Handed: h, MetresPerUnit: 0.5}
				if up != 0 && front != 0 && b.Validate() == nil {
					out = append(out, b)
				}
			}
		}
	}
	return out
}

// Every change of basis takes up to up, front to front and right to right, and
// has the one that undoes it.
func TestEveryChangeOfBasis(t *testing.T) {
	list := all()
	if len(list) != 48 {
		t.Fatalf("%d bases", len(list))
	}
	r := rand.New(rand.NewSource(5))
	for _, a := range list {
		for _, b := range list {
			b.MetresPerUnit = 0.01
			there, err := ChangeBasis(a, b)
			if err != nil {
				t.Fatal(err)
			}
			back, err := ChangeBasis(b, a)
			if err != nil {
				t.Fatal(err)
			}
			for name, of := range map[string]func(Basis) Vec3{"up": func(x Basis) Vec3 { return x.Up.Vec() }, "front": func(x Basis) Vec3 { return x.Front.Vec() }, "right": Basis.RightVec} {
				if d := apart(there.Dir(of(a)), of(b)); d > 1e-12 {
					t.Fatalf("%v to %v: %s goes to %v", a, b, name, there.Dir(of(a)))
				}
			}
			p := anyVec(r)
			if d := apart(back.Point(there.Point(p)), p); d > 1e-12 {
				t.Fatalf("%v to %v and back: off by %g", a, b, d)
			}
			if l := there.Point(p).Len() / p.Len(); math.Abs(l-50) > 1e-9 {
				t.Fatalf("0.5 m to 0.01 m a unit: lengths grow by %g", l)
			}
			if there.Flip != (a.Handed != b.Handed) {
				t.Fatalf("%v to %v: flip %v", a, b, there.Flip)
			}
			// A turn in one basis is the same turn in the other.
			q := anyQuat(r)
			m, n := TRS(Vec3{}, q, Vec3{1, 1, 1}), TRS(Vec3{}, there.Quat(q), Vec3{1, 1, 1})
			if d := apart(there.Point(m.Point(p)), n.Point(there.Point(p))); d > 1e-9 {
				t.Fatalf("%v to %v: a turn is off by %g", a, b, d)
			}
			s := Vec3{1, 2, 3}
			m, n = TRS(Vec3{}, Quat{0, 0, 0, 1}, s), TRS(Vec3{}, Quat{0, 0, 0, 1}, there.Scaling(s))
			if d := apart(there.Point(m.Point(p)), n.Point(there.Point(p))); d > 1e-9 {
				t.Fatalf("%v to %v: a scale is off by %g", a, b, d)
			}
			m = TRS(anyVec(r), q, s)
			n = there.Mat4(m)
			if d := apart(there.Point(m.Point(p)), n.Point(there.Point(p))); d > 1e-9 {
				t.Fatalf("%v to %v: a matrix is off by %g", a, b, d)
			}
		}
	}
}

func TestBasesInWords(t *testing.T) {
	for _, b := range append(all(), Basis{}, Basis{Up: PlusZ}, Basis{MetresPerUnit: 0.0254}) {
		j, err := json.Marshal(b)
		if err != nil {
			t.Fatal(err)
		}
		var got Basis
		if err := json.Unmarshal(j, &got); err != nil || got != b {
			t.Errorf("%v comes back as %v, %v", b, got, err)
		}
		if b.String() == "" {
			t.Errorf("%+v has no words", b)
		}
		if full := b.Or(GLTF); !full.Known() && full.Validate() == nil && b != (Basis{Up: PlusZ}) {
			t.Errorf("%v completed is %v", b, full)
		}
	}
	var a Axis
	for text, ok := range map[string]bool{"Z": true, "-y": true, "+X": true, "": true, "W": false, "XY": false, "--X": false} {
		if err := a.UnmarshalText([]byte(text)); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := ChangeBasis(Basis{Up: PlusZ, Front: PlusZ, Handed: Right}, GLTF); err == nil {
		t.Error("up and front along one axis")
	}
	if _, err := ChangeBasis(Basis{}, GLTF); err == nil {
		t.Error("from nowhere")
	}
}

// covers fails unless triangles are those of a simple polygon: all wound as it
// is, and together as large.
func covers(t *testing.T, what string, corners []Vec3, list [][3]int) {
	t.Helper()
	if len(list) != max(len(corners)-2, 0) {
		t.Fatalf("%s: %d corners make %d triangles", what, len(corners), len(list))
	}
	area, sum, all := newell(corners), Vec3{}, 0.0
	for _, k := range list {
		x := corners[k[1]].Sub(corners[k[0]]).Cross(corners[k[2]].Sub(corners[k[0]]))
		sum = sum.Add(x)
		all += x.Len()
	}
	if apart(sum, area) > 1e-9*max(1, all) || math.Abs(all-area.Len()) > 1e-6*all {
		t.Fatalf("%s, %d corners: triangles of %g cover %g", what, len(corners), all, area.Len())
	}
}

// Long polygons in which most corners turn inwards, in the orders that make
// ears rare.
func TestLongPolygons(t *testing.T) {
	for _, n := range []int{8, 64, 4096, 10000} {
		var zigzag, spiral, star []Vec3
		band := func(list *[]Vec3, at func(i int, wide float64) Vec3) {
			for i := range n / 2 {
				*list = append(*list, at(i, 0))
			}
			for i := n/2 - 1; i >= 0; i-- {
				*list = append(*list, at(i, 1))
			}
		}
		band(&zigzag, func(i int, wide float64) Vec3 { return Vec3{float64(i), float64(i%2)*100 - 0.01*wide, 7} })
		band(&spiral, func(i int, wide float64) Vec3 {
			a, r := 0.05*float64(i), 1+0.02*float64(i)+wide/2
			return Vec3{r * math.Cos(a), 3, -r * math.Sin(a)}
		})
		for i := range n {
			a, r := 2*math.Pi*float64(i)/float64(n), 1-0.5*float64(i%2)
			star = append(star, Vec3{5, r * math.Cos(a), r * math.Sin(a)})
		}
		covers(t, "zigzag", zigzag, Triangulate(nil, zigzag))
		covers(t, "spiral", spiral, Triangulate(nil, spiral))
		covers(t, "star", star, Triangulate(nil, star))
	}
}

// Polygons that cross themselves have no right triangles; they have as many as
// others, each of corners of the polygon.
func TestCrossedPolygons(t *testing.T) {
	r := rand.New(rand.NewSource(8))
	for n := 4; n < 200; n++ {
		corners := make([]Vec3, n)
		for i := range corners {
			corners[i] = Vec3{r.Float64(), r.Float64(), 0.1 * r.Float64()}
		}
		if n%3 == 0 {
			corners[n/2] = corners[0]
		}
		if n%7 == 0 {
			corners[1][0] = math.NaN()
		}
		used := map[int]bool{}
		list := Triangulate(make([][3]int, 2), corners)
		for _, k := range list[2:] {
			for _, c := range k {
				used[c] = true
			}
		}
		if len(list) != 2+n-2 || len(used) != n {
			t.Errorf("%d corners: %d triangles of %d corners", n, len(list)-2, len(used))
		}
	}
}

// The ways to cut a polygon agree.
func TestCutter(t *testing.T) {
	r := rand.New(rand.NewSource(9))
	var c Cutter
	for n := 3; n < 9; n++ {
		for range 200 {
			positions := make([]float32, 30)
			for i := range positions {
				positions[i] = r.Float32()
			}
			poly := make([]uint32, n)
			for i, v := range r.Perm(10)[:n] {
				poly[i] = uint32(v)
			}
			corners := make([]Vec3, n)
			for i, v := range poly {
				corners[i] = At(positions, v)
			}
			want := []uint32{77}
			list := Triangulate(nil, corners)
			for _, k := range list {
				want = append(want, poly[k[0]], poly[k[1]], poly[k[2]])
			}
			if got := c.Faces([]uint32{77}, positions, poly); !slices.Equal(got, want) {
				t.Fatalf("%v of %v: %v, want %v", poly, positions, got, want)
			}
			if got := c.Cut(n, func(k int) Vec3 { return corners[k] }); !slices.Equal(got, list) {
				t.Fatalf("%v: %v, want %v", corners, got, list)
			}
		}
	}
}

func BenchmarkTriangulate(b *testing.B) {
	quad := []Vec3{{0, 0, 0}, {1, 0, 0}, {1, 1, 0}, {0, 1, 0}}
	dent := []Vec3{{0, 0, 0}, {1, 0, 0}, {0.2, 0.2, 0}, {0, 1, 0}}
	long := make([]Vec3, 4096)
	for i := range long {
		a, r := 2*math.Pi*float64(i)/4096, 1-0.5*float64(i%2)
		long[i] = Vec3{r * math.Cos(a), r * math.Sin(a), 0}
	}
	for _, c := range []struct {
		name    string
		corners []Vec3
	}{{"quad", quad}, {"dented", dent}, {"4096", long}} {
		b.Run(c.name, func(b *testing.B) {
			var list [][3]int
			for b.Loop() {
				list = Triangulate(list[:0], c.corners)
			}
		})
	}
}

// Every polygon's triangles cover it once, whichever way it lies.
func TestPolygonsOfEveryShape(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	for n := 3; n < 30; n++ {
		for range 20 {
			// A star: angles in order, radii at random.
			q := anyQuat(r)
			m := TRS(anyVec(r), q, Vec3{1, 1, 1})
			corners := make([]Vec3, n)
			for i := range corners {
				angle := 2 * math.Pi * (float64(i) + 0.8*r.Float64()) / float64(n)
				radius := 0.3 + r.Float64()
				corners[i] = m.Point(Vec3{radius * math.Cos(angle), radius * math.Sin(angle), 0})
			}
			covers(t, "a star", corners, Triangulate(nil, corners))
		}
	}
	for n, want := range []int{0, 0, 0, 1} {
		if got := len(Triangulate(nil, make([]Vec3, n))); got != want {
			t.Errorf("%d corners in one place: %d triangles", n, got)
		}
	}
}

// Any matrix is two of translation, rotation and scale, one within the other.
func TestFactor(t *testing.T) {
	r := rand.New(rand.NewSource(7))
	for k := range 4000 {
		var m Mat4
		for i := range 3 {
			for j := range 3 {
				m[4*i+j] = r.NormFloat64() * math.Pow(10, float64(r.Intn(7)-3))
			}
			m[12+i] = r.NormFloat64()
		}
		m[15] = 1
		switch k % 8 { // without width in one direction, two, or all; alike; mirrored
		case 1:
			m[0], m[1], m[2] = 0, 0, 0
		case 2:
			m[4], m[5], m[6] = 2*m[0], 2*m[1], 2*m[2]
		case 3:
			m[4], m[5], m[6], m[8], m[9], m[10] = 2*m[0], 2*m[1], 2*m[2], 0, 0, 0
		case 4:
			m = TRS(Vec3{1, 2, 3}, anyQuat(r), Vec3{2, 2, 2})
		case 5:
			m = TRS(Vec3{1, 2, 3}, anyQuat(r), Vec3{-2, 3, 1e-6})
		case 6:
			m = Mat4{15: 1}
		}
		at, u, s, v := m.Factor()
		got := TRS(at, u, s).Mul(TRS(Vec3{}, v, Vec3{1, 1, 1}))
		size := 0.0
		for i := range m {
			size = math.Max(size, math.Abs(m[i]))
		}
		for i := range m {
			if !(math.Abs(m[i]-got[i]) <= 1e-11*size) {
				t.Fatalf("case %d: %v gives %v: %v %v %v %v", k%8, m, got, at, u, s, v)
			}
		}
		if s[1] < 0 || s[2] < 0 {
			t.Fatalf("scale %v", s)
		}
	}
}

// A camera's turn takes the front to Z and up to Y, for each of the 24 pairs of
// right-handed axes; others, and axes that are not known, are left.
func TestView(t *testing.T) {
	pairs := 0
	for _, up := range []Axis{PlusX, PlusY, PlusZ, MinusX, MinusY, MinusZ} {
		for _, front := range []Axis{PlusX, PlusY, PlusZ, MinusX, MinusY, MinusZ} {
			b := Basis{Up: up, Front: front, Handed: Right}
			if up == front || up == -front {
				continue
			}
			pairs++
			q := b.View()
			m := TRS(Vec3{}, q, Vec3{1, 1, 1})
			if m.Dir(up.Vec()).Sub(Vec3{0, 1, 0}).Len() > 1e-12 || m.Dir(front.Vec()).Sub(Vec3{0, 0, 1}).Len() > 1e-12 {
				t.Errorf("%v: up goes to %v, the front to %v", b, m.Dir(up.Vec()), m.Dir(front.Vec()))
			}
			back := q.Mul(q.Inverse())
			if math.Abs(math.Abs(back[3])-1) > 1e-12 {
				t.Errorf("%v: %v turned back is %v", b, q, back)
			}
			if b.Handed = Left; b.View() != IdentityQuat {
				t.Errorf("%v is turned by %v", b, b.View())
			}
		}
	}
	if pairs != 24 || (Basis{Up: PlusY}).View() != IdentityQuat || GLTF.View() != IdentityQuat {
		t.Errorf("%d pairs", pairs)
	}
}
