package format

import "math"

// Linear is a colour value as screens show it, 0 to 1, in linear light
// (IEC 61966-2-1).
func Linear(v float64) float32 {
	v = math.Max(0, math.Min(1, v))
	if v <= 0.04045 {
		return float32(v / 12.92)
	}
	return float32(math.Pow((v+0.055)/1.055, 2.4))
}

// Display is Linear's inverse.
func Display(v float32) float64 {
	x := math.Max(0, math.Min(1, float64(v)))
	if x <= 0.0031308 {
		return 12.92 * x
	}
	return 1.055*math.Pow(x, 1/2.4) - 0.055
}

// Bytes8 has Linear of every byte.
var Bytes8 = func() (t [256]float32) {
	for i := range t {
		t[i] = Linear(float64(i) / 255)
	}
	return t
}()

// Display8 is Display as a byte.
func Display8(v float32) byte { return byte(math.Round(255 * Display(v))) }
