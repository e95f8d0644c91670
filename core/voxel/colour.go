package voxel

import (
	"math"

	"excavate/core/pixel"
)

// Linear is an sRGB colour in linear light.
func Linear(c [3]uint8) (out [3]float32) {
	for k := range c {
		out[k] = float32(pixel.Light(c[k]))
	}
	return out
}

// lab is a colour in CIE L*a*b* under D65 (CIE 15:2018, section 8.2.1), from
// sRGB by the matrix of IEC 61966-2-1.
type lab struct{ l, a, b float64 }

func labOf(c [3]uint8) lab {
	r, g, b := pixel.Light(c[0]), pixel.Light(c[1]), pixel.Light(c[2])
	f := func(t float64) float64 {
		if t > 216./24389 {
			return math.Cbrt(t)
		}
		return (24389./27*t + 16) / 116
	}
	x := f((0.4124564*r + 0.3575761*g + 0.1804375*b) / 0.95047)
	y := f(0.2126729*r + 0.7151522*g + 0.0721750*b)
	z := f((0.0193339*r + 0.1191920*g + 0.9503041*b) / 1.08883)
	return lab{116*y - 16, 500 * (x - y), 200 * (y - z)}
}

// Difference is how far two sRGB colours are from each other: CIEDE2000. About 1
// is just seen, 10 is plain.
func Difference(a, b [3]uint8) float64 { return difference(labOf(a), labOf(b)) }

// difference follows Sharma, Wu and Dalal, "The CIEDE2000 Color-Difference
// Formula: Implementation Notes, Supplementary Test Data, and Mathematical
// Observations", 2005, equations 2 to 22.
func difference(p, q lab) float64 {
	const deg = math.Pi / 180
	pow7 := func(c float64) float64 { c2 := c * c; return c2 * c2 * c2 * c }
	const of25 = 6103515625 // 25^7
	mean := (math.Hypot(p.a, p.b) + math.Hypot(q.a, q.b)) / 2
	g := 0.5 * (1 - math.Sqrt(pow7(mean)/(pow7(mean)+of25)))
	a1, a2 := (1+g)*p.a, (1+g)*q.a
	c1, c2 := math.Hypot(a1, p.b), math.Hypot(a2, q.b)
	hue := func(a, b float64) float64 {
		if a == 0 && b == 0 {
			return 0
		}
		if h := math.Atan2(b, a) / deg; h < 0 {
			return h + 360
		} else {
			return h
		}
	}
	h1, h2 := hue(a1, p.b), hue(a2, q.b)
	dh := h2 - h1
	sum := h1 + h2
	h := sum / 2
	switch grey := c1*c2 == 0; {
	case grey:
		dh, h = 0, sum
	case math.Abs(h1-h2) <= 180:
	default:
		if dh > 180 {
			dh -= 360
		} else {
			dh += 360
		}
		if sum < 360 {
			h += 180
		} else {
			h -= 180
		}
	}
	dl, dc := q.l-p.l, c2-c1
	dH := 2 * math.Sqrt(c1*c2) * math.Sin(dh/2*deg)
	l, c := (p.l+q.l)/2, (c1+c2)/2
	t := 1 - 0.17*math.Cos(
		(h-30)*deg,
	) + 0.24*math.Cos(
		2*h*deg,
	) + 0.32*math.Cos(
		(3*h+6)*deg,
	) - 0.20*math.Cos(
		(4*h-63)*deg,
	)
	turn := 30 * math.Exp(-math.Pow((h-275)/25, 2))
	rc := 2 * math.Sqrt(pow7(c)/(pow7(c)+of25))
	sl := 1 + 0.015*(l-50)*(l-50)/math.Sqrt(20+(l-50)*(l-50))
	sc, sh := 1+0.045*c, 1+0.015*c*t
	rt := -math.Sin(2*turn*deg) * rc
	return math.Sqrt(dl/sl*dl/sl + dc/sc*dc/sc + dH/sh*dH/sh + rt*dc/sc*dH/sh)
}
