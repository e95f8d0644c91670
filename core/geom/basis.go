package geom

import (
	"fmt"
	"strings"
)

// Axis is a signed coordinate axis: ±1 for X, ±2 for Y, ±3 for Z, 0 unknown.
type Axis int8

// The six axes.
const (
	PlusX  Axis = 1
	PlusY  Axis = 2
	PlusZ  Axis = 3
	MinusX Axis = -1
	MinusY Axis = -2
	MinusZ Axis = -3
)

// ParseAxis reads "+Y", "-z" or "X". The empty string and "unknown" are 0.
func ParseAxis(s string) (Axis, error) {
	t := strings.ToUpper(strings.TrimSpace(s))
	if t == "" || t == "UNKNOWN" {
		return 0, nil
	}
	sign := Axis(1)
	if t[0] == '+' || t[0] == '-' {
		if t[0] == '-' {
			sign = -1
		}
		t = t[1:]
	}
	if len(t) == 1 && t[0] >= 'X' && t[0] <= 'Z' {
		return sign * Axis(t[0]-'X'+1), nil
	}
	return 0, fmt.Errorf("%q is not an axis: write +X, -X, +Y, -Y, +Z or -Z", s)
}

func (a Axis) String() string {
	if a == 0 || a > 3 || a < -3 {
		return ""
	}
	if a < 0 {
		return "-" + string(rune('X'-1-a))
	}
	return "+" + string(rune('X'-1+a))
}

// MarshalText writes "+Y"; an unknown axis is the empty string.
func (a Axis) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText reads what ParseAxis reads.
func (a *Axis) UnmarshalText(b []byte) (err error) { *a, err = ParseAxis(string(b)); return err }

// Vec is the axis as a unit vector; zero if unknown.
func (a Axis) Vec() Vec3 {
	var v Vec3
	switch {
	case a > 0 && a <= 3:
		v[a-1] = 1
	case a < 0 && a >= -3:
		v[-a-1] = -1
	}
	return v
}

// Handedness of a coordinate system.
type Handedness string

// The two hands; the empty string is unknown.
const (
	Right Handedness = "right"
	Left  Handedness = "left"
)

// Basis says what a file's coordinates mean: which axis is up, which way an
// asset faces, whether the axes follow the right or the left hand, and how
// many metres one unit is. Zero fields are unknown.
type Basis struct {
	Up            Axis       `json:"up" yaml:"up"`
	Front         Axis       `json:"front" yaml:"front"`
	Handed        Handedness `json:"handedness" yaml:"handedness"`
	MetresPerUnit float64    `json:"metresPerUnit" yaml:"metres_per_unit"`
}

// GLTF is the basis of glTF 2.0 (section 3.4): right-handed, +Y up, the front
// of an asset faces +Z, one unit is a metre.
var GLTF = Basis{PlusY, PlusZ, Right, 1}

// Validate refuses a basis whose known fields contradict each other.
func (b Basis) Validate() error {
	if b.Up != 0 && b.Front != 0 && (b.Up == b.Front || b.Up == -b.Front) {
		return fmt.Errorf("up %s and front %s lie on one axis", b.Up, b.Front)
	}
	if b.Handed != "" && b.Handed != Right && b.Handed != Left {
		return fmt.Errorf("handedness %q: write right or left", b.Handed)
	}
	if u := b.MetresPerUnit; u != 0 && !(u >= LeastUnit && u <= MostUnit) {
		return fmt.Errorf("%g metres per unit: it must be from %g to %g", u, LeastUnit, MostUnit)
	}
	return nil
}

// Bounds on a unit, in metres: from a nanometre to a million kilometres.
const (
	LeastUnit = 1e-9
	MostUnit  = 1e9
)

// Oriented tells whether axes and hand are all known.
func (b Basis) Oriented() bool { return b.Up != 0 && b.Front != 0 && b.Handed != "" }

// Known tells whether nothing is unknown.
func (b Basis) Known() bool { return b.Oriented() && b.MetresPerUnit > 0 }

// Completed fills what b does not know from d, or, where axes of the two would
// lie on one line, with the front that usually goes with b's up.
func (b Basis) Completed(d Basis) Basis {
	out := b.Or(d)
	if out.Validate() == nil {
		return out
	}
	usual := map[Axis]Axis{PlusY: PlusZ, PlusZ: -PlusY, PlusX: PlusZ, -PlusY: PlusZ, -PlusZ: PlusY, -PlusX: PlusZ}
	if b.Front == 0 {
		out.Front = usual[out.Up]
	} else {
		for _, up := range []Axis{PlusY, PlusZ, PlusX} {
			if out.Up = up; out.Validate() == nil {
				break
			}
		}
	}
	return out
}

// Or fills what b does not know from d.
func (b Basis) Or(d Basis) Basis {
	if b.Up == 0 {
		b.Up = d.Up
	}
	if b.Front == 0 {
		b.Front = d.Front
	}
	if b.Handed == "" {
		b.Handed = d.Handed
	}
	if b.MetresPerUnit == 0 {
		b.MetresPerUnit = d.MetresPerUnit
	}
	return b
}

// RightVec is the asset's right-hand side, seen from the asset itself. In a
// right-handed system it is front x up (glTF: +Z x +Y = -X), in a left-handed
// one the opposite.
func (b Basis) RightVec() Vec3 {
	r := b.Front.Vec().Cross(b.Up.Vec())
	if b.Handed == Left {
		return r.Mul(-1)
	}
	return r
}

// View is how a camera that looks along -Z with Y upwards, as cameras of most
// formats do whatever their axes, is turned against one that looks along minus
// the front axis with the up axis upwards. It is that of right-handed axes;
// where not all are known it turns nothing.
func (b Basis) View() Quat {
	if !b.Oriented() || b.Handed != Right {
		return IdentityQuat
	}
	return fromAxes(b.Up.Vec().Cross(b.Front.Vec()), b.Up.Vec(), b.Front.Vec()).Inverse()
}

// String is for people: "Z up, front -Y, left-handed, 0.01 m".
func (b Basis) String() string {
	var p []string
	if b.Up != 0 {
		p = append(p, strings.TrimPrefix(b.Up.String(), "+")+" up")
	} else {
		p = append(p, "up unknown")
	}
	if b.Front != 0 {
		p = append(p, "front "+strings.TrimPrefix(b.Front.String(), "+"))
	}
	if b.Handed != "" {
		p = append(p, string(b.Handed)+"-handed")
	}
	p = append(p, b.UnitName())
	return strings.Join(p, ", ")
}

// UnitName is the unit as a word where there is one.
func (b Basis) UnitName() string {
	switch b.MetresPerUnit {
	case 0:
		return "unit unknown"
	case 1:
		return "metres"
	case 0.01:
		return "centimetres"
	case 0.001:
		return "millimetres"
	case 0.0254:
		return "inches"
	case 0.3048:
		return "feet"
	}
	return fmt.Sprintf("%g m a unit", b.MetresPerUnit)
}

// Change is the one right map between two bases: a signed permutation of the
// axes and a scale.
type Change struct {
	Rot   Mat4    // signed permutation, no scale; determinant ±1
	Scale float64 // target units per source unit
	Perm  [3]int  // Perm[i] is the source axis that target axis i comes from
	Flip  bool    // the hand changes: windings turn round
}

// ChangeBasis returns the map from coordinates in a to coordinates in b. Both
// must be oriented; where either unit is unknown the scale is 1.
func ChangeBasis(a, b Basis) (Change, error) {
	for _, x := range []Basis{a, b} {
		if err := x.Validate(); err != nil {
			return Change{}, err
		}
		if !x.Oriented() {
			return Change{}, fmt.Errorf("the basis %q is not fully known: state up, front and handedness", x)
		}
	}
	c := Change{Rot: Identity, Scale: 1}
	if a.MetresPerUnit > 0 && b.MetresPerUnit > 0 {
		c.Scale = a.MetresPerUnit / b.MetresPerUnit
	}
	from := [3]Vec3{a.RightVec(), a.Up.Vec(), a.Front.Vec()}
	to := [3]Vec3{b.RightVec(), b.Up.Vec(), b.Front.Vec()}
	for r := 0; r < 3; r++ {
		for col := 0; col < 3; col++ {
			v := 0.0
			for k := 0; k < 3; k++ {
				v += to[k][r] * from[k][col]
			}
			c.Rot[col*4+r] = v
			if v != 0 {
				c.Perm[r] = col
			}
		}
	}
	c.Flip = c.Rot.Det3() < 0
	return c, nil
}

// Identity tells whether the change leaves every number as it is.
func (c Change) Identity() bool { return c.Rot == Identity && c.Scale == 1 }

// Point maps a position or a translation.
func (c *Change) Point(p Vec3) Vec3 { return c.Rot.Dir(p).Mul(c.Scale) }

// Dir maps a direction: no scale.
func (c *Change) Dir(p Vec3) Vec3 { return c.Rot.Dir(p) }

// Quat maps a rotation: R q R^-1. A mirroring R turns the axis of rotation
// as an axial vector, that is with the determinant's sign.
func (c *Change) Quat(q Quat) Quat {
	v := c.Rot.Dir(Vec3{q[0], q[1], q[2]})
	if c.Flip {
		v = v.Mul(-1)
	}
	return Quat{v[0], v[1], v[2], q[3]}
}

// Scaling maps the three factors of a scale along the axes.
func (c *Change) Scaling(s Vec3) Vec3 { return Vec3{s[c.Perm[0]], s[c.Perm[1]], s[c.Perm[2]]} }

// Mat4 maps a transform: C m C^-1 with C the whole change.
func (c *Change) Mat4(m Mat4) Mat4 {
	inv := transpose3(c.Rot)
	r := c.Rot.Mul(m).Mul(inv)
	r[12], r[13], r[14] = r[12]*c.Scale, r[13]*c.Scale, r[14]*c.Scale
	return r
}

// transpose3 transposes the 3x3 part of a matrix without translation.
func transpose3(m Mat4) Mat4 {
	return Mat4{m[0], m[4], m[8], 0, m[1], m[5], m[9], 0, m[2], m[6], m[10], 0, 0, 0, 0, 1}
}
