package rig

import (
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Strip is what can be drawn of a motion along its time.
type Strip struct {
	Name    string    `json:"name"`
	Seconds float64   `json:"seconds"`
	Keys    []float64 `json:"keys"` // times at which something has a key, thinned out where they are many
	Count   int       `json:"count"`
	Rate    float64   `json:"rate,omitempty"` // keys a second, where they lie evenly
	Feet    []Foot    `json:"feet"`
	// Speed is how fast the hips go over the ground, evenly over the time: metres
	// a second, or units of the file where it declares none.
	Speed []float64 `json:"speed"`
	Seam  float64   `json:"seam"` // degrees by which a bone is turned otherwise at the end, at most
	Bone  string    `json:"bone"` // which
}

// Foot is when a foot stands on the ground.
type Foot struct {
	Limb    string       `json:"limb"`
	Touches [][2]float64 `json:"touches"` // from and to, in seconds
}

// How finely a strip is looked at.
const (
	stripKeys = 1500
	stripRate = 60
	stripMost = 600 // places in time at which speed and feet are looked at
)

// StripOf draws a motion of a scene.
func StripOf(s *scene.Scene, m *scene.Motion) Strip {
	r := Of(s)
	out := Strip{Name: m.Name, Seconds: m.Seconds(), Keys: []float64{}, Feet: []Foot{}, Speed: []float64{}}
	var times []float32
	for i := range m.Channels {
		times = append(times, m.Channels[i].Times...)
		out.Count += len(m.Channels[i].Times)
	}
	slices.Sort(times)
	times = slices.Compact(times)
	out.Rate = evenRate(times)
	for i, k := 0, max(1, len(times)/stripKeys); i < len(times); i += k {
		out.Keys = append(out.Keys, float64(times[i]))
	}
	out.Seam, out.Bone = Seam(s, m)
	if out.Seconds <= 0 || len(r.Bones) == 0 {
		return out
	}
	body := r.Map(nil)
	n := int(min(math.Ceil(out.Seconds*stripRate)+1, stripMost))
	r.along(&out, m, body, n)
	return out
}

// evenRate is the rate of times that lie evenly, 0 of others.
func evenRate(times []float32) float64 {
	if len(times) < 3 {
		return 0
	}
	step := float64(times[len(times)-1]-times[0]) / float64(len(times)-1)
	for i, t := range times {
		if math.Abs(float64(t-times[0])-step*float64(i)) > 0.02*step+1e-5 {
			return 0
		}
	}
	return 1 / step
}

// along looks at a body at n places in time.
func (r *Rig) along(out *Strip, m *scene.Motion, body Body, n int) {
	hips := r.Root()
	if h, ok := body["hips"]; ok {
		hips = h.Bone
	}
	unit := r.Scene.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	feet := map[string]int{}
	for _, side := range []string{"left", "right"} {
		if x, ok := body[side+"Toes"]; ok {
			feet[side+"Toes"] = x.Bone
		} else if x, ok := body[side+"Foot"]; ok {
			feet[side+"Foot"] = x.Bone
		}
	}
	by := m.ByNode()
	head := func(node int, t float64) geom.Vec3 {
		w := geom.Identity
		for ; node >= 0; node = r.Scene.Nodes[node].Parent {
			local := r.Scene.Nodes[node].Posed(by[node], t)
			w = local.Local().Mul(w)
		}
		return geom.Vec3{w[12], w[13], w[14]}
	}
	times := make([]float32, n)
	places := map[string][]geom.Vec3{}
	var last geom.Vec3
	for i := range n {
		t := out.Seconds * float64(i) / float64(n-1)
		times[i] = float32(t)
		at := head(hips, t)
		if i > 0 {
			d := at.Sub(last)
			d = d.Sub(r.up.Mul(d.Dot(r.up)))
			out.Speed = append(out.Speed, d.Len()*unit*float64(n-1)/out.Seconds)
		}
		last = at
		for limb, b := range feet {
			places[limb] = append(places[limb], head(b, t))
		}
	}
	for _, limb := range Limbs {
		if list, ok := places[limb]; ok {
			out.Feet = append(out.Feet, Foot{limb, spans(Touching(list, times, r.up, r.LegLength(body)), times)})
		}
	}
}

// spans are the times from which to which something holds.
func spans(is []bool, times []float32) [][2]float64 {
	out := [][2]float64{}
	for k := 0; k < len(is); k++ {
		if !is[k] {
			continue
		}
		end := k
		for end+1 < len(is) && is[end+1] {
			end++
		}
		out = append(out, [2]float64{float64(times[k]), float64(times[end])})
		k = end
	}
	return out
}

// Seam is by how many degrees a node is turned otherwise at the end of a motion
// than at its beginning, at most, and which node that is.
func Seam(s *scene.Scene, m *scene.Motion) (most float64, node string) {
	end := m.Seconds()
	for i := range m.Channels {
		c := &m.Channels[i]
		if c.Path != scene.PathRotation || len(c.Times) < 2 {
			continue
		}
		a, b := c.At(0), c.At(end)
		p, q := wide4([4]float32(a)).Norm(), wide4([4]float32(b)).Norm()
		x := q.Mul(p.Inverse())
		d := 2 * math.Atan2(math.Sqrt(x[0]*x[0]+x[1]*x[1]+x[2]*x[2]), math.Abs(x[3])) * 180 / math.Pi
		if d > most {
			most, node = d, s.Nodes[c.Node].Name
		}
	}
	return most, node
}
