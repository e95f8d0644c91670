// Package geom is the small linear algebra that assets need: vectors,
// quaternions, 4x4 matrices, boxes, and the bases and units that files
// declare. Everything is float64; stored attributes are float32 and are
// widened while they are computed with.
//
// Conventions: vectors are columns, matrices are column-major (m[col*4+row])
// and act from the left, quaternions are (x, y, z, w) as in glTF 2.0 section
// 3.5.3. Angles are radians.
package geom

import "math"

// Vec3 is a point or a direction: x, y, z.
type Vec3 [3]float64

// Quat is a rotation quaternion: x, y, z, w.
type Quat [4]float64

// Mat4 is a column-major 4x4 matrix: element (row r, column c) is m[c*4+r].
type Mat4 [16]float64

// IdentityQuat is no rotation.
var IdentityQuat = Quat{0, 0, 0, 1}

// Identity is the unit matrix.
var Identity = Mat4{1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}

func (a Vec3) Add(b Vec3) Vec3    { return Vec3{a[0] + b[0], a[1] + b[1], a[2] + b[2]} }
func (a Vec3) Sub(b Vec3) Vec3    { return Vec3{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }
func (a Vec3) Mul(s float64) Vec3 { return Vec3{a[0] * s, a[1] * s, a[2] * s} }
func (a Vec3) Dot(b Vec3) float64 { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }
func (a Vec3) Len() float64       { return math.Sqrt(a.Dot(a)) }
func (a Vec3) Cross(b Vec3) Vec3 {
	return Vec3{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
}

// Norm returns a at unit length; a vector without length stays as it is.
func (a Vec3) Norm() Vec3 {
	if l := a.Len(); l > 0 {
		return a.Mul(1 / l)
	}
	return a
}

// Norm returns q at unit length, or no rotation if q has no length.
func (q Quat) Norm() Quat {
	l := math.Sqrt(q[0]*q[0] + q[1]*q[1] + q[2]*q[2] + q[3]*q[3])
	if l == 0 || math.IsNaN(l) || math.IsInf(l, 0) {
		return IdentityQuat
	}
	return Quat{q[0] / l, q[1] / l, q[2] / l, q[3] / l}
}

// Mul returns the rotation "b first, then q".
func (q Quat) Mul(b Quat) Quat {
	return Quat{
		q[3]*b[0] + q[0]*b[3] + q[1]*b[2] - q[2]*b[1],
		q[3]*b[1] - q[0]*b[2] + q[1]*b[3] + q[2]*b[0],
		q[3]*b[2] + q[0]*b[1] - q[1]*b[0] + q[2]*b[3],
		q[3]*b[3] - q[0]*b[0] - q[1]*b[1] - q[2]*b[2],
	}
}

// Rotate turns a vector by q, which is of length 1.
func (q Quat) Rotate(v Vec3) Vec3 {
	u := Vec3{q[0], q[1], q[2]}
	t := u.Cross(v).Mul(2)
	return v.Add(t.Mul(q[3])).Add(u.Cross(t))
}

// Inverse turns back what q, of length 1, turns.
func (q Quat) Inverse() Quat { return Quat{-q[0], -q[1], -q[2], q[3]} }

// AxisAngle returns the rotation by angle radians about axis.
func AxisAngle(axis Vec3, angle float64) Quat {
	a := axis.Norm()
	s, c := math.Sincos(angle / 2)
	return Quat{a[0] * s, a[1] * s, a[2] * s, c}
}

// TRS composes translation, rotation and scale into one matrix (T * R * S).
func TRS(t Vec3, q Quat, s Vec3) Mat4 {
	x, y, z, w := q[0], q[1], q[2], q[3]
	return Mat4{
		(1 - 2*(y*y+z*z)) * s[0], 2 * (x*y + z*w) * s[0], 2 * (x*z - y*w) * s[0], 0,
		2 * (x*y - z*w) * s[1], (1 - 2*(x*x+z*z)) * s[1], 2 * (y*z + x*w) * s[1], 0,
		2 * (x*z + y*w) * s[2], 2 * (y*z - x*w) * s[2], (1 - 2*(x*x+y*y)) * s[2], 0,
		t[0], t[1], t[2], 1,
	}
}

// Mul returns the matrix that applies b first, then m.
func (m Mat4) Mul(b Mat4) Mat4 {
	var r Mat4
	for c := 0; c < 4; c++ {
		for i := 0; i < 4; i++ {
			r[c*4+i] = m[i]*b[c*4] + m[4+i]*b[c*4+1] + m[8+i]*b[c*4+2] + m[12+i]*b[c*4+3]
		}
	}
	return r
}

// Point applies m to a point.
func (m *Mat4) Point(p Vec3) Vec3 {
	return Vec3{
		m[0]*p[0] + m[4]*p[1] + m[8]*p[2] + m[12],
		m[1]*p[0] + m[5]*p[1] + m[9]*p[2] + m[13],
		m[2]*p[0] + m[6]*p[1] + m[10]*p[2] + m[14],
	}
}

// Dir applies the upper 3x3 part of m to a direction.
func (m *Mat4) Dir(p Vec3) Vec3 {
	return Vec3{
		m[0]*p[0] + m[4]*p[1] + m[8]*p[2],
		m[1]*p[0] + m[5]*p[1] + m[9]*p[2],
		m[2]*p[0] + m[6]*p[1] + m[10]*p[2],
	}
}

// Det3 is the determinant of the upper 3x3 part: negative if m mirrors.
func (m *Mat4) Det3() float64 {
	return m[0]*(m[5]*m[10]-m[9]*m[6]) - m[4]*(m[1]*m[10]-m[9]*m[2]) + m[8]*(m[1]*m[6]-m[5]*m[2])
}

// Inverse returns the inverse of the affine matrix m and whether it has one.
func (m Mat4) Inverse() (Mat4, bool) {
	d := m.Det3()
	if d == 0 || math.IsNaN(d) || math.IsInf(d, 0) {
		return Identity, false
	}
	i := 1 / d
	var r Mat4
	r[0] = (m[5]*m[10] - m[9]*m[6]) * i
	r[4] = (m[8]*m[6] - m[4]*m[10]) * i
	r[8] = (m[4]*m[9] - m[8]*m[5]) * i
	r[1] = (m[9]*m[2] - m[1]*m[10]) * i
	r[5] = (m[0]*m[10] - m[8]*m[2]) * i
	r[9] = (m[8]*m[1] - m[0]*m[9]) * i
	r[2] = (m[1]*m[6] - m[5]*m[2]) * i
	r[6] = (m[4]*m[2] - m[0]*m[6]) * i
	r[10] = (m[0]*m[5] - m[4]*m[1]) * i
	t := r.Dir(Vec3{m[12], m[13], m[14]})
	r[12], r[13], r[14], r[15] = -t[0], -t[1], -t[2], 1
	return r, true
}

// NormalMatrix is the matrix for surface normals under m: the inverse
// transpose of its 3x3 part, or that part itself where it has no inverse.
func (m Mat4) NormalMatrix() Mat4 {
	inv, ok := m.Inverse()
	if !ok {
		inv = m
		inv[12], inv[13], inv[14] = 0, 0, 0
		return inv
	}
	return Mat4{inv[0], inv[4], inv[8], 0, inv[1], inv[5], inv[9], 0, inv[2], inv[6], inv[10], 0, 0, 0, 0, 1}
}

// Decompose splits m into translation, rotation and scale. A mirroring matrix
// gets a negative x scale. exact is false where m shears, which no
// translation, rotation and scale can say.
func (m Mat4) Decompose() (t Vec3, q Quat, s Vec3, exact bool) {
	t = Vec3{m[12], m[13], m[14]}
	x, y, z := Vec3{m[0], m[1], m[2]}, Vec3{m[4], m[5], m[6]}, Vec3{m[8], m[9], m[10]}
	s = Vec3{x.Len(), y.Len(), z.Len()}
	if m.Det3() < 0 {
		s[0] = -s[0]
	}
	if s[0] == 0 || s[1] == 0 || s[2] == 0 {
		return t, IdentityQuat, s, s == Vec3{} || (x.Dot(y) == 0 && y.Dot(z) == 0 && x.Dot(z) == 0 && isDiagonal(m))
	}
	x, y, z = x.Mul(1/s[0]), y.Mul(1/s[1]), z.Mul(1/s[2])
	const eps = 1e-5
	exact = math.Abs(x.Dot(y)) < eps && math.Abs(y.Dot(z)) < eps && math.Abs(x.Dot(z)) < eps
	if !exact { // nearest frame that starts at x
		y = y.Sub(x.Mul(x.Dot(y))).Norm()
		z = x.Cross(y)
	}
	return t, fromAxes(x, y, z), s, exact
}

// Factor splits any m, also one that shears, into two of which each is a
// translation, a rotation and a scale: m is t, then the rotation u, then the
// scale s, then the rotation v, read from the outside. A mirroring m gets a
// negative x scale. It is the singular value decomposition, by Hestenes'
// one-sided rotations ("Inversion of Matrices by Biorthogonalization", 1958).
func (m Mat4) Factor() (t Vec3, u Quat, s Vec3, v Quat) {
	t = Vec3{m[12], m[13], m[14]}
	b := [3]Vec3{{m[0], m[1], m[2]}, {m[4], m[5], m[6]}, {m[8], m[9], m[10]}}
	w := [3]Vec3{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}
	turn := func(a *[3]Vec3, p, q int, cos, sin float64) {
		x, y := a[p], a[q]
		a[p], a[q] = x.Mul(cos).Sub(y.Mul(sin)), x.Mul(sin).Add(y.Mul(cos))
	}
	// Columns are turned in pairs until all stand square on each other.
	for range 30 {
		done := true
		for p := range 2 {
			for q := p + 1; q < 3; q++ {
				pp, qq, pq := b[p].Dot(b[p]), b[q].Dot(b[q]), b[p].Dot(b[q])
				if !(math.Abs(pq) > 1e-15*math.Sqrt(pp*qq)) {
					continue
				}
				done = false
				z := (qq - pp) / (2 * pq)
				tan := math.Copysign(1/(math.Abs(z)+math.Sqrt(1+z*z)), z)
				cos := 1 / math.Sqrt(1+tan*tan)
				turn(&b, p, q, cos, cos*tan)
				turn(&w, p, q, cos, cos*tan)
			}
		}
		if done {
			break
		}
	}
	for i := range b {
		s[i] = b[i].Len()
	}
	// What has no length stands square on the others.
	for i := range b {
		if s[i] > 0 {
			b[i] = b[i].Mul(1 / s[i])
			continue
		}
		j, k := (i+1)%3, (i+2)%3
		switch {
		case s[j] > 0 && s[k] > 0:
			b[i] = b[j].Norm().Cross(b[k].Norm())
		case s[j] > 0:
			b[i] = square(b[j].Norm())
		case s[k] > 0:
			b[i] = b[k].Norm().Cross(square(b[k].Norm()))
		default:
			b[i] = w[i]
		}
	}
	if b[0].Cross(b[1]).Dot(b[2]) < 0 {
		b[0], s[0] = b[0].Mul(-1), -s[0]
	}
	back := fromAxes(w[0], w[1], w[2])
	return t, fromAxes(b[0], b[1], b[2]), s, back.Inverse()
}

// square is a direction at right angles to d.
func square(d Vec3) Vec3 {
	if math.Abs(d[0]) < 0.6 {
		return d.Cross(Vec3{1, 0, 0}).Norm()
	}
	return d.Cross(Vec3{0, 1, 0}).Norm()
}

func isDiagonal(m Mat4) bool {
	return m[1] == 0 && m[2] == 0 && m[4] == 0 && m[6] == 0 && m[8] == 0 && m[9] == 0
}

// fromAxes returns the rotation whose matrix has the columns x, y, z.
// The method is Shepperd's (Journal of Guidance and Control 1, 1978).
func fromAxes(x, y, z Vec3) Quat {
	var q Quat
	switch tr := x[0] + y[1] + z[2]; {
	case tr > 0:
		r := math.Sqrt(tr+1) * 2
		q = Quat{(y[2] - z[1]) / r, (z[0] - x[2]) / r, (x[1] - y[0]) / r, r / 4}
	case x[0] > y[1] && x[0] > z[2]:
		r := math.Sqrt(1+x[0]-y[1]-z[2]) * 2
		q = Quat{r / 4, (y[0] + x[1]) / r, (z[0] + x[2]) / r, (y[2] - z[1]) / r}
	case y[1] > z[2]:
		r := math.Sqrt(1+y[1]-x[0]-z[2]) * 2
		q = Quat{(y[0] + x[1]) / r, r / 4, (z[1] + y[2]) / r, (z[0] - x[2]) / r}
	default:
		r := math.Sqrt(1+z[2]-x[0]-y[1]) * 2
		q = Quat{(z[0] + x[2]) / r, (z[1] + y[2]) / r, r / 4, (x[1] - y[0]) / r}
	}
	return q.Norm()
}

// Box is an axis-aligned box. The zero Box is a point at the origin; use
// EmptyBox to gather points.
type Box struct{ Min, Max Vec3 }

// EmptyBox contains nothing.
func EmptyBox() Box {
	i := math.Inf(1)
	return Box{Vec3{i, i, i}, Vec3{-i, -i, -i}}
}

// Empty tells whether the box contains no point.
func (b Box) Empty() bool { return b.Min[0] > b.Max[0] }

// Add widens the box to contain p.
func (b *Box) Add(p Vec3) {
	for i, v := range p {
		if v < b.Min[i] {
			b.Min[i] = v
		}
		if v > b.Max[i] {
			b.Max[i] = v
		}
	}
}

// Size is the box's edge lengths; an empty box has none.
func (b Box) Size() Vec3 {
	if b.Empty() {
		return Vec3{}
	}
	return b.Max.Sub(b.Min)
}

// Centre is the middle of the box.
func (b Box) Centre() Vec3 { return b.Min.Add(b.Max).Mul(0.5) }
