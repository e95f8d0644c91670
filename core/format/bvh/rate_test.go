package bvh

import (
	"math"
	"testing"

	"excavate/core/scene"
)

// The frames of a motion are told from its keys.
func TestTheRateIsKept(t *testing.T) {
	keys := func(times ...float32) map[int][]*scene.Channel {
		return map[int][]*scene.Channel{0: {{Times: times}}}
	}
	every := func(n int, step float64) (out []float32) {
		for i := range n {
			out = append(out, float32(float64(i)*step))
		}
		return out
	}
	for name, c := range map[string]struct {
		by   map[int][]*scene.Channel
		want float64
		even bool
	}{
		"120":                {keys(every(500, 1./120)...), 120, true},
		"59.94":              {keys(every(5000, 1001./60000)...), 60000. / 1001, true},
		"30":                 {keys(every(10, 1./30)...), 30, true},
		"some left out":      {keys(0, 1./60, 3./60, 10./60), 60, true},
		"only two":           {keys(0, 2), 30, true},
		"uneven":             {keys(0, 0.0101, 0.5, 0.777), 100, false},
		"two that interlace": {map[int][]*scene.Channel{0: {{Times: []float32{0, 0.1, 0.2}}}, 1: {{Times: []float32{0.05, 0.15}}}}, 20, true},
	} {
		s, even := step(c.by)
		if math.Abs(1/s-c.want) > 1e-3*c.want || even != c.even {
			t.Errorf("%s: %g frames a second, even %v; want %g, %v", name, 1/s, even, c.want, c.even)
		}
	}
}
