package x3d

import (
	"math"
	"slices"
	"strings"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
)

// Motions: a TimeSensor's fraction goes by a ROUTE to an interpolator, whose
// value goes by another to a field of a Transform (X3D 8.4.1, TimeSensor; 19,
// Interpolation; VRML97 4.6.8). Each TimeSensor is a motion as long as its
// cycleInterval; when and how often it plays is the program's that shows it.

// route is one ROUTE: what leaves a field of one node enters one of another.
type route struct {
	from, to *node
	out, in  string
	used     bool
}

// bare is a field's name without what marks it as an event.
func bare(name string) string {
	return strings.TrimSuffix(strings.TrimPrefix(name, "set_"), "_changed")
}

// route reads a ROUTE of the classic encoding, whose first word was read.
func (p *classic) route() {
	a, _, c := p.word(), p.word(), p.word()
	from, out, _ := strings.Cut(a, ".")
	to, in, _ := strings.Cut(c, ".")
	addRoute(p.routes, p.lost, p.defs[from], p.defs[to], out, in)
}

// addRoute keeps a ROUTE between two nodes that are defined.
func addRoute(list *[]*route, lost *format.Losses, from, to *node, out, in string) {
	if from == nil || to == nil || len(*list) >= mostNodes {
		lost.Lose("a ROUTE between nodes that are not there was left out")
		return
	}
	*list = append(*list, &route{from: from, to: to, out: bare(out), in: bare(in)})
}

// isMotion tells a node that only motions are made of.
func isMotion(n *node) bool {
	return n.typ == "TimeSensor" || strings.HasSuffix(n.typ, "Interpolator")
}

// path by the field of a Transform that an interpolator moves.
var paths = map[string]scene.Path{"translation": scene.PathTranslation, "rotation": scene.PathRotation, "scale": scene.PathScale}

// mostKeys bounds what USE makes of a few keys: numbers in all channels.
const mostKeys = 32 << 20

// turning are the Transforms whose turn or scale a ROUTE sets.
func turning(routes []*route) map[*node]bool {
	out := map[*node]bool{}
	for _, r := range routes {
		if r.to.typ == "Transform" && (r.in == "rotation" || r.in == "scale") {
			out[r.to] = true
		}
	}
	return out
}

// motions makes a motion of each TimeSensor that moves something.
func (b *builder) motions(routes []*route) {
	used, numbers := map[*node]bool{}, 0
	from := map[*node][]*route{}
	for _, r := range routes {
		from[r.from] = append(from[r.from], r)
	}
	for _, clock := range b.clocks {
		if clock.typ != "TimeSensor" {
			continue
		}
		m := scene.Motion{Name: clock.def}
		seconds := clock.num("cycleInterval", 1)
		if !(seconds > 0) || seconds > 1e6 {
			b.Lose("a TimeSensor without a length was left out")
			used[clock] = true
			continue
		}
		for _, r := range from[clock] {
			if r.out != "fraction" || r.in != "fraction" {
				continue
			}
			for _, s := range from[r.to] {
				if s.out != "value" {
					continue
				}
				r.used, s.used, used[clock], used[r.to] = true, true, true, true
				c, why := b.channel(r.to, s, seconds)
				if why == "" && len(b.placed[s.to]) == 0 {
					why = "a motion of a Transform that is not shown, or whose scales shear, was left out"
				}
				if why != "" {
					b.Lose("%s", why)
					continue
				}
				for _, at := range b.placed[s.to] {
					if numbers += len(c.Times) + len(c.Values); numbers > mostKeys {
						b.Lose("a motion of more keys than are read was left out")
						break
					}
					c.Node = at
					c.Times, c.Values = slices.Clone(c.Times), slices.Clone(c.Values)
					m.Channels = append(m.Channels, c)
				}
			}
		}
		if len(m.Channels) > 0 {
			if m.Name == "" {
				m.Name = "motion"
			}
			b.s.Motions = append(b.s.Motions, m)
		}
	}
	for _, n := range b.clocks {
		if !used[n] {
			b.Lose("a node of the kind %s was left out", n.typ)
		}
	}
	for _, r := range routes {
		if !r.used {
			b.Lose("a ROUTE was left out")
		}
	}
}

// channel is what an interpolator makes of a Transform's field, or why not.
func (b *builder) channel(in *node, to *route, seconds float64) (c scene.Channel, why string) {
	c = scene.Channel{Path: paths[to.in], Interp: scene.Linear}
	each := 3
	switch {
	case to.to.typ != "Transform" || c.Path == "":
		return c, "a motion of the field " + to.in + " of a " + to.to.typ + " was left out"
	case in.typ == "OrientationInterpolator" && c.Path == scene.PathRotation:
		each = 4
	case in.typ == "PositionInterpolator" && c.Path != scene.PathRotation:
	default:
		return c, "a motion by a " + in.typ + " was left out"
	}
	x := to.to
	if turned := x.vec("scaleOrientation", 0, 0, 1, 0); c.Path != scene.PathTranslation && turned[3] != 0 {
		return c, "a motion of a Transform whose scale has an orientation was left out"
	}
	keys, values := in.nums("key"), in.nums("keyValue")
	n := min(len(keys), len(values)/each)
	if n == 0 {
		return c, "an interpolator without keys was left out"
	}
	if len(keys) != n || len(values) != each*n {
		b.Lose("keys of an interpolator that lack a value, or values that lack a key, were left out")
	}
	var add geom.Vec3 // a Transform that turns stands at its centre
	if c.Path == scene.PathTranslation && b.turning[x] {
		add = x.centre()
	}
	last := geom.IdentityQuat
	put := func(t float64, v []float64) bool {
		at := float32(t)
		if k := len(c.Times); k > 0 && at <= c.Times[k-1] { // two values at one key: a jump
			at = math.Nextafter32(c.Times[k-1], float32(math.Inf(1)))
		}
		c.Times = append(c.Times, at)
		if each == 4 {
			q := geom.IdentityQuat
			if axis := (geom.Vec3{v[0], v[1], v[2]}); axis.Len() > 0 {
				q = geom.AxisAngle(axis.Norm(), v[3])
			}
			if q[0]*last[0]+q[1]*last[1]+q[2]*last[2]+q[3]*last[3] < 0 { // the shorter way
				q = geom.Quat{-q[0], -q[1], -q[2], -q[3]}
			}
			v, last = q[:], q
		}
		for k, f := range v {
			if each == 3 {
				f += add[k]
			}
			if f-f != 0 || math.Abs(f) > math.MaxFloat32 {
				return false
			}
			c.Values = append(c.Values, float32(f))
		}
		return true
	}
	for i := range n {
		if keys[i]-keys[i] != 0 || keys[i] < 0 || keys[i] > 1 || i > 0 && keys[i] < keys[i-1] || !put(keys[i]*seconds, values[each*i:each*i+each]) {
			return c, "an interpolator whose keys do not rise from 0 to 1, or whose values are none, was left out"
		}
	}
	if keys[n-1] < 1 { // the value holds to the end of the cycle
		put(seconds, values[each*(n-1):each*n])
	}
	return c, ""
}
