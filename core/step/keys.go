package step

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/rig"
	"excavate/core/scene"
)

// KeysParams say how motions run.
type KeysParams struct {
	Motion    string  `json:"motion,omitempty" jsonschema:"title=Motions named,maxLength=1000,description=A pattern with *; empty is all of them"`
	From      float64 `json:"from" jsonschema:"title=Cut from,minimum=0,maximum=1e+06" jsonschema_extras:"unit=s"`
	To        float64 `json:"to,omitempty" jsonschema:"title=Cut to,minimum=0,maximum=1e+06,description=0 is the end" jsonschema_extras:"unit=s"`
	Speed     float64 `json:"speed" jsonschema:"title=Times as fast,exclusiveMinimum=0,maximum=1000"`
	Rate      float64 `json:"rate,omitempty" jsonschema:"title=Keys a second,minimum=0,maximum=1000,description=0 leaves them where they are"`
	Loop      float64 `json:"loop,omitempty" jsonschema:"title=Close the loop within,minimum=0,maximum=60,description=The end is drawn to the beginning over so long; 0 leaves it" jsonschema_extras:"unit=s"`
	Tolerance float64 `json:"tolerance,omitempty" jsonschema:"title=Fewer keys within,minimum=0,maximum=1000,description=How far the tip of a limb may come to lie elsewhere; 0 keeps all keys" jsonschema_extras:"unit=mm"`
}

// Validate refuses a cut that leaves nothing.
func (p *KeysParams) Validate() error {
	if p.To > 0 && p.To <= p.From {
		return fmt.Errorf("cut to %g s is not behind %g s", p.To, p.From)
	}
	return nil
}

var _ = register(Kind{Name: "keys", Title: "Keys", Family: Rig, Version: 1,
	Purpose: "Cut motions, make them faster or slower, give them an even rate of keys, close a loop, and take out keys that are not needed."},
	KeysParams{Speed: 1}, keys)

func keys(ctx context.Context, s *scene.Scene, p KeysParams, r *Report) (*scene.Scene, error) {
	before, after := 0, 0
	var gaps, closed float64
	where := ""
	out, err := eachMotion(ctx, s, p.Motion, r, func(m *scene.Motion) (bool, error) {
		was := keysOf(m)
		end := m.Seconds()
		changed := false
		if p.From > 0 || p.To > 0 && p.To < end {
			if p.From >= end {
				return false, fmt.Errorf("it ends at %.4g s, and would be cut from %g s", end, p.From)
			}
			to := end
			if p.To > 0 {
				to = min(to, p.To)
			}
			cutMotion(m, p.From, to)
			changed = true
		}
		if p.Speed != 1 {
			faster(m, p.Speed)
			changed = true
		}
		if p.Rate > 0 {
			if err := evenly(m, p.Rate); err != nil {
				return false, err
			}
			changed = true
		}
		gap, bone := rig.Seam(s, m)
		if gap > gaps {
			gaps, where = gap, bone
		}
		if p.Loop > 0 && gap > 0.01 {
			closeLoop(m, p.Loop)
			changed = true
		}
		left, _ := rig.Seam(s, m)
		closed = max(closed, left)
		if p.Tolerance > 0 {
			changed = fewerKeys(s, m, p.Tolerance) || changed
		}
		before, after = before+was, after+keysOf(m)
		return changed, nil
	})
	if err != nil || out == s {
		return out, err
	}
	if before != after {
		r.Say("keys %d → %d", before, after)
	}
	for i := range out.Motions {
		if a, b := s.Motions[i].Seconds(), out.Motions[i].Seconds(); math.Abs(a-b) > 1e-6 {
			r.Say("%s: %.4g s → %.4g s", out.Motions[i].Name, a, b)
			break
		}
	}
	if gaps > 0.01 {
		if p.Loop > 0 {
			r.Say("the seam of the loop: %.3g degrees (%s) → %.3g degrees", gaps, where, closed)
		} else {
			r.Say("the seam of a loop would be %.3g degrees (%s)", gaps, where)
		}
	}
	if p.Tolerance > 0 {
		only := *s
		only.Motions = out.Motions
		far := 0.0
		for i := range out.Motions {
			far = max(far, motionsApart(s, &s.Motions[i], &out.Motions[i]))
		}
		if p.From == 0 && p.To == 0 && p.Speed == 1 && p.Loop == 0 {
			r.Say("a bone comes to lie %s elsewhere at most", millimetres(s, far))
		}
	}
	return out, nil
}

func keysOf(m *scene.Motion) (n int) {
	for i := range m.Channels {
		n += len(m.Channels[i].Times)
	}
	return n
}

// cutMotion keeps what lies between two times, which begins at 0 then.
func cutMotion(m *scene.Motion, from, to float64) {
	for i := range m.Channels {
		c := &m.Channels[i]
		if len(c.Times) == 0 {
			continue
		}
		per := c.Per()
		if c.Interp == scene.Cubic { // a curve that is cut has other tangents: it becomes lines
			*c = linear(c, placeRate)
		}
		var times, values []float32
		put := func(t float64, v []float32) {
			times = append(times, float32(t-from))
			values = append(values, v...)
		}
		put(from, c.At(from))
		for k, t := range c.Times {
			if float64(t) > from+1e-6 && float64(t) < to-1e-6 {
				put(float64(t), c.Values[k*per:(k+1)*per])
			}
		}
		if to > from {
			put(to, c.At(to))
		}
		c.Times, c.Values = times, values
	}
}

// linear is a curve as lines, with keys so often a second between its own.
func linear(c *scene.Channel, rate float64) scene.Channel {
	out := *c
	out.Interp, out.Times, out.Values = scene.Linear, scene.Instants([]*scene.Channel{c}, rate), nil
	for _, t := range out.Times {
		out.Values = append(out.Values, c.At(float64(t))...)
	}
	return out
}

func faster(m *scene.Motion, by float64) {
	for i := range m.Channels {
		c := &m.Channels[i]
		c.Times = slices.Clone(c.Times)
		for k := range c.Times {
			c.Times[k] = float32(float64(c.Times[k]) / by)
		}
		if c.Interp == scene.Cubic { // tangents are by the second
			c.Values = slices.Clone(c.Values)
			per := c.Per()
			for k := range c.Times {
				for x := range per {
					c.Values[3*k*per+x] *= float32(by)
					c.Values[(3*k+2)*per+x] *= float32(by)
				}
			}
		}
	}
}

// mostKeys is how many keys a motion may come to have.
const mostKeys = 20_000_000

// evenly gives a motion keys at an even rate, and one at its end.
func evenly(m *scene.Motion, rate float64) error {
	end := m.Seconds()
	n := int(math.Floor(end*rate + 1e-6))
	if n*len(m.Channels) > mostKeys {
		return fmt.Errorf("%g keys a second over %.4g s in %d channels are more than %d", rate, end,
			len(m.Channels), mostKeys)
	}
	var times []float32
	for k := range n + 1 {
		times = append(times, float32(float64(k)/rate))
	}
	if last := float64(times[len(times)-1]); end-last > 0.01/rate {
		times = append(times, float32(end))
	}
	for i := range m.Channels {
		c := &m.Channels[i]
		if len(c.Times) < 2 { // it stands still
			continue
		}
		var values []float32
		for _, t := range times {
			values = append(values, c.At(float64(t))...)
		}
		c.Times, c.Values = times, values
		if c.Interp == scene.Cubic {
			c.Interp = scene.Linear
		}
	}
	return nil
}

func degreesBetween(a, b []float32) float64 {
	q := geom.Quat{float64(b[0]), float64(b[1]), float64(b[2]), float64(b[3])}
	return 2 * 180 / math.Pi * math.Asin(min(1, turnOfQuats([4]float32(a), q.Norm())))
}

// closeLoop draws the last part of turns and weights to where they begin.
func closeLoop(m *scene.Motion, within float64) {
	end := m.Seconds()
	for i := range m.Channels {
		c := &m.Channels[i]
		if len(c.Times) < 2 || c.Interp == scene.Step || c.Path == scene.PathTranslation { // the way goes on
			continue
		}
		if c.Interp == scene.Cubic {
			*c = linear(c, placeRate)
		}
		first := c.At(0)
		// Keys so dense that the drawing shows.
		times := slices.Clone(c.Times)
		for t := max(0, end-within); t < end; t += 1.0 / 30 {
			times = append(times, float32(t))
		}
		times = append(times, float32(end))
		slices.Sort(times)
		times = slices.Compact(times)
		var values []float32
		for _, t := range times {
			v := c.At(float64(t))
			if left := end - float64(t); left < within {
				u := 1 - left/within
				v = blended(c.Path, v, first, u*u*(3-2*u))
			}
			values = append(values, v...)
		}
		c.Times, c.Values = times, values
	}
}

// blended is a value on its way to another.
func blended(path scene.Path, a, b []float32, u float64) []float32 {
	if path == scene.PathRotation {
		q := scene.Slerp(quatOf(a), quatOf(b), u)
		return []float32{float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}
	}
	out := make([]float32, len(a))
	for i := range a {
		out[i] = float32(float64(a[i])*(1-u) + float64(b[i])*u)
	}
	return out
}

func quatOf(v []float32) geom.Quat {
	return geom.Quat{float64(v[0]), float64(v[1]), float64(v[2]), float64(v[3])}
}

// fewerKeys takes out keys without which no tip of a limb comes to lie farther
// than a tolerance from where it was: each bone may be off by its share of it,
// as many as stand between it and the tip, at the length of what it carries.
func fewerKeys(s *scene.Scene, m *scene.Motion, tolerance float64) bool {
	unit := s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	tolerance = tolerance / 1000 / unit
	k := rig.Of(s)
	carries, below := reaches(k)
	changed := false
	for i := range m.Channels {
		c := &m.Channels[i]
		if len(c.Times) < 3 || c.Interp == scene.Step {
			continue
		}
		if c.Interp == scene.Cubic {
			*c = linear(c, placeRate)
			changed = true
		}
		share := tolerance / float64(max(1, below[c.Node])) / 2 // a bone may turn and move
		slack := share
		switch c.Path {
		case scene.PathRotation:
			slack = share / max(carries[c.Node], 1e-6) * 180 / math.Pi
		case scene.PathScale, scene.PathWeights:
			slack = share / max(carries[c.Node], 1e-6)
		}
		keep := neededKeys(c, slack)
		if len(keep) == len(c.Times) {
			continue
		}
		per := c.Per()
		var times, values []float32
		for _, j := range keep {
			times = append(times, c.Times[j])
			values = append(values, c.Values[j*per:(j+1)*per]...)
		}
		c.Times, c.Values = times, values
		changed = true
	}
	return changed
}

// reaches is how far from each bone what it carries reaches, and how many bones
// stand between it and the farthest tip, with it.
func reaches(k *rig.Rig) (far []float64, deep []int) {
	far, deep = make([]float64, len(k.Scene.Nodes)), make([]int, len(k.Scene.Nodes))
	for i := range far {
		far[i], deep[i] = 0.1, 1
	}
	for n := len(k.Bones) - 1; n >= 0; n-- {
		b := k.Bones[n]
		for _, kid := range k.Kids[b] {
			far[b] = max(far[b], k.At(kid).Sub(k.At(b)).Len()+far[kid])
			deep[b] = max(deep[b], 1+deep[kid])
		}
	}
	// Above a bone stand others that share the tolerance.
	for _, b := range k.Bones {
		if p := k.Parent[b]; p >= 0 {
			deep[b] = max(deep[b], deep[p])
		}
	}
	return far, deep
}

// neededKeys are those without which lines between the others would be off by
// more than a slack: degrees for turns, the value's unit else (Douglas and
// Peucker 1973, on the curve of the values).
func neededKeys(c *scene.Channel, slack float64) []int {
	per := c.Per()
	at := func(k int) []float32 { return c.Values[k*per : (k+1)*per] }
	keep := make([]bool, len(c.Times))
	keep[0], keep[len(keep)-1] = true, true
	stack := [][2]int{{0, len(keep) - 1}}
	for len(stack) > 0 {
		a, b := stack[len(stack)-1][0], stack[len(stack)-1][1]
		stack = stack[:len(stack)-1]
		worst, which := slack, -1
		for k := a + 1; k < b; k++ {
			u := float64(c.Times[k]-c.Times[a]) / float64(c.Times[b]-c.Times[a])
			v := blended(c.Path, at(a), at(b), u)
			d := 0.0
			if c.Path == scene.PathRotation {
				d = degreesBetween(v, at(k))
			} else {
				for i := range v {
					d = math.Hypot(d, float64(v[i]-at(k)[i]))
				}
			}
			if d > worst {
				worst, which = d, k
			}
		}
		if which >= 0 {
			keep[which] = true
			stack = append(stack, [2]int{a, which}, [2]int{which, b})
		}
	}
	var out []int
	for k, is := range keep {
		if is {
			out = append(out, k)
		}
	}
	return out
}

// motionsApart is how far the nodes of a scene stand apart in two motions at
// most, looked at in as many frames as ever.
func motionsApart(s *scene.Scene, a, b *scene.Motion) (far float64) {
	end := a.Seconds()
	for k := range framesLooked {
		t := end * float64(k) / (framesLooked - 1)
		x, y := inMotion(s, a, t).World(), inMotion(s, b, t).World()
		for i := range x {
			far = max(far, geom.Vec3{x[i][12] - y[i][12], x[i][13] - y[i][13], x[i][14] - y[i][14]}.Len())
		}
	}
	return far
}
