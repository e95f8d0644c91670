package rig

import (
	"math"
	"testing"

	"excavate/core/scene"
)

func TestStrip(t *testing.T) {
	s := person(kind{spine: 3, clav: true})
	m := stands(s, 61)
	x := StripOf(s, &m)
	if math.Abs(x.Seconds-1) > 1e-6 || math.Abs(x.Rate-60) > 0.1 || len(x.Keys) != 61 || x.Count != 5*61 {
		t.Errorf("%g s, %g keys a second, %d of %d keys", x.Seconds, x.Rate, len(x.Keys), x.Count)
	}
	// The hips go 0.3 m in a second; the left foot stands all the while.
	for i, v := range x.Speed {
		if math.Abs(v-0.3) > 1e-3 {
			t.Fatalf("at %d the hips go %g m/s", i, v)
		}
	}
	if f := x.Feet[0]; f.Limb != "leftToes" || len(f.Touches) != 1 || f.Touches[0][0] != 0 || math.Abs(f.Touches[0][1]-1) > 1e-6 {
		t.Errorf("%+v", x.Feet)
	}
	if f := x.Feet[1]; f.Limb != "rightToes" || len(f.Touches) != 0 { // it hangs on hips that go too fast
		t.Errorf("%+v", f)
	}
	// Twice as slow, and in centimetres: 0.15 m/s.
	slow := m
	slow.Channels = append([]scene.Channel(nil), m.Channels...)
	for i := range slow.Channels {
		times := append([]float32(nil), slow.Channels[i].Times...)
		for k := range times {
			times[k] *= 2
		}
		slow.Channels[i].Times = times
	}
	small := *s
	small.Basis.MetresPerUnit = 0.01
	if v := StripOf(&small, &slow).Speed; math.Abs(v[3]-0.0015) > 1e-5 {
		t.Errorf("slowly and in centimetres the hips go %g m/s", v[3])
	}
	w := walk(s, 31, 1)
	if x := StripOf(s, &w); x.Seam < 10 || x.Bone == "" {
		t.Errorf("the seam is %g degrees of %s", x.Seam, x.Bone)
	}
	for _, m := range []scene.Motion{{}, {Channels: []scene.Channel{{Node: 0, Path: scene.PathRotation}}}} {
		if x := StripOf(s, &m); x.Seconds != 0 || len(x.Speed) != 0 || x.Feet == nil {
			t.Errorf("%+v", x)
		}
	}
}
