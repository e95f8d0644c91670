package scene

import (
	"math"
	"slices"

	"excavate/core/geom"
)

// Per is how many numbers a value of the channel has.
func (c *Channel) Per() int {
	if len(c.Times) == 0 {
		return 0
	}
	n := len(c.Values) / len(c.Times)
	if c.Interp == Cubic {
		n /= 3
	}
	return n
}

// At is the channel's value at a time (glTF 2.0 appendix C), held before the
// first key and after the last.
func (c *Channel) At(t float64) []float32 {
	n := c.Per()
	out := make([]float32, n)
	if n == 0 {
		return out
	}
	key := func(i, which int) []float32 { // of cubic ones 0 in-tangent, 1 value, 2 out-tangent
		if c.Interp == Cubic {
			return c.Values[(3*i+which)*n : (3*i+which+1)*n]
		}
		return c.Values[i*n : (i+1)*n]
	}
	k, found := slices.BinarySearch(c.Times, float32(t))
	last := len(c.Times) - 1
	switch {
	case found:
		copy(out, key(k, 1))
		return out
	case k == 0:
		copy(out, key(0, 1))
		return out
	case k > last:
		copy(out, key(last, 1))
		return out
	}
	a, b := key(k-1, 1), key(k, 1)
	span := float64(c.Times[k]) - float64(c.Times[k-1])
	u := (t - float64(c.Times[k-1])) / span
	switch {
	case c.Interp == Step:
		copy(out, a)
	case c.Interp == Cubic:
		m0, m1 := key(k-1, 2), key(k, 0)
		u2, u3 := u*u, u*u*u
		for i := range out {
			out[i] = float32((2*u3-3*u2+1)*float64(a[i]) + span*(u3-2*u2+u)*float64(m0[i]) + (3*u2-2*u3)*float64(b[i]) + span*(u3-u2)*float64(m1[i]))
		}
		if c.Path == PathRotation {
			q := geom.Quat{float64(out[0]), float64(out[1]), float64(out[2]), float64(out[3])}.Norm()
			for i := range q {
				out[i] = float32(q[i])
			}
		}
	case c.Path == PathRotation:
		q := Slerp(geom.Quat{float64(a[0]), float64(a[1]), float64(a[2]), float64(a[3])}, geom.Quat{float64(b[0]), float64(b[1]), float64(b[2]), float64(b[3])}, u)
		for i := range q {
			out[i] = float32(q[i])
		}
	default:
		for i := range out {
			out[i] = float32(float64(a[i])*(1-u) + float64(b[i])*u)
		}
	}
	return out
}

// Slerp turns from a to b by the shorter way (glTF 2.0 appendix C.4).
func Slerp(a, b geom.Quat, u float64) geom.Quat {
	d := a[0]*b[0] + a[1]*b[1] + a[2]*b[2] + a[3]*b[3]
	if d < 0 {
		b, d = geom.Quat{-b[0], -b[1], -b[2], -b[3]}, -d
	}
	wa, wb := 1-u, u
	if d < 0.9995 {
		angle := math.Acos(d)
		wa, wb = math.Sin(wa*angle)/math.Sin(angle), math.Sin(wb*angle)/math.Sin(angle)
	}
	return geom.Quat{wa*a[0] + wb*b[0], wa*a[1] + wb*b[1], wa*a[2] + wb*b[2], wa*a[3] + wb*b[3]}.Norm()
}

// Posed is the node as a motion's channels for it have it at a time.
func (n Node) Posed(channels []*Channel, t float64) Node {
	for _, c := range channels {
		v := c.At(t)
		switch c.Path {
		case PathTranslation:
			n.Translation = [3]float32(v)
		case PathRotation:
			n.Rotation = [4]float32(v)
		case PathScale:
			n.Scale = [3]float32(v)
		}
	}
	return n
}

// ByNode gathers a motion's channels that have keys by the node they move.
func (m *Motion) ByNode() map[int][]*Channel {
	out := map[int][]*Channel{}
	for i := range m.Channels {
		if c := &m.Channels[i]; len(c.Times) > 0 {
			out[c.Node] = append(out[c.Node], c)
		}
	}
	return out
}

// mostInstants is how many times lie between the keys of a cubic channel at most.
const mostInstants = 100_000

// Instants are the times at which channels must be looked at so that straight
// lines between them lie on their curves: their keys, and rate times a second
// in between where they are cubic.
func Instants(channels []*Channel, rate float64) []float32 {
	var out []float32
	for _, c := range channels {
		out = append(out, c.Times...)
		if c.Interp != Cubic {
			continue
		}
		if len(c.Times) < 2 {
			continue
		}
		// Of a motion of hours they lie farther apart.
		span := float64(c.Times[len(c.Times)-1]) - float64(c.Times[0])
		rate := math.Min(rate, mostInstants/math.Max(span, 1e-9))
		for i := 1; i < len(c.Times); i++ {
			a, b := float64(c.Times[i-1]), float64(c.Times[i])
			n := int(math.Ceil((b - a) * rate))
			for k := 1; k < n; k++ {
				out = append(out, float32(a+(b-a)*float64(k)/float64(n)))
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
