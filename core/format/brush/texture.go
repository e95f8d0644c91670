package brush

import (
	"math"

	"excavate/core/geom"
)

// projection is how a picture lies on a plane: texels along two axes of the
// level, moved, turned and stretched.
type projection struct {
	axes   bool         // the axes are the file's own
	axis   [2]geom.Vec3 // of length one, to the right and down
	offset [2]float64   // texels
	angle  float64      // degrees; with own axes they are turned already
	scale  [2]float64   // units a texel
}

// sides are the six ways a face can look, and the picture's axes on each: the
// first whose direction the face's normal is nearest to.
var sides = [6]struct {
	normal, right, down geom.Vec3
}{
	{geom.Vec3{0, 0, 1}, geom.Vec3{1, 0, 0}, geom.Vec3{0, -1, 0}},
	{geom.Vec3{0, 0, -1}, geom.Vec3{1, 0, 0}, geom.Vec3{0, -1, 0}},
	{geom.Vec3{1, 0, 0}, geom.Vec3{0, 1, 0}, geom.Vec3{0, 0, -1}},
	{geom.Vec3{-1, 0, 0}, geom.Vec3{0, 1, 0}, geom.Vec3{0, 0, -1}},
	{geom.Vec3{0, 1, 0}, geom.Vec3{1, 0, 0}, geom.Vec3{0, 0, -1}},
	{geom.Vec3{0, -1, 0}, geom.Vec3{1, 0, 0}, geom.Vec3{0, 0, -1}},
}

// vectors are the projection on a face: a place's texel is its dot product with
// each, plus the offset.
func (t *projection) vectors(normal geom.Vec3) (v [2]geom.Vec3) {
	if t.axes {
		v = t.axis
	} else {
		best := 0.0
		for _, s := range sides {
			if d := s.normal.Dot(normal); d > best+1e-9 {
				best, v = d, [2]geom.Vec3{s.right, s.down}
			}
		}
		v = turned(v, t.angle)
	}
	for i := range v {
		s := t.scale[i]
		if s == 0 {
			s = 1
		}
		v[i] = v[i].Mul(1 / s)
	}
	return v
}

// turned turns both axes in the plane of the level's axes on which they lie.
// Quarters are exact.
func turned(v [2]geom.Vec3, degrees float64) [2]geom.Vec3 {
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	if q := math.Mod(degrees, 360) / 90; q == math.Trunc(q) {
		k := (int(q) + 4) % 4
		sin, cos = [4]float64{0, 1, 0, -1}[k], [4]float64{1, 0, -1, 0}[k]
	}
	along := func(a geom.Vec3) int {
		for k, x := range a {
			if x != 0 {
				return k
			}
		}
		return 0
	}
	s, t := along(v[0]), along(v[1])
	for i := range v {
		a, b := v[i][s], v[i][t]
		v[i][s], v[i][t] = cos*a-sin*b, sin*a+cos*b
	}
	return v
}

// wholeRepeats are how many repeats of a picture can be taken off a face's
// texels so that they are small enough for a float32 to tell a thousandth of
// one.
func wholeRepeats(least, most, size float64) float64 {
	if math.Max(-least, most) <= 8192 {
		return 0
	}
	return math.Floor(least/size) * size
}
