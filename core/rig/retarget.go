package rig

import (
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Travel says where the way of a motion's hips goes.
type Travel string

// The travels: as the source has it, on the skeleton's root, or away.
const (
	TravelHips Travel = "keep"
	TravelRoot Travel = "root"
	TravelNone Travel = "remove"
)

// Retarget carries motions from one skeleton to another.
type Retarget struct {
	From, To *Rig
	Pairs    Pairs
	Travel   Travel
	Feet     bool        // keep feet where they touch the ground
	Scale    float64     // of the way that the hips go
	mirror   bool        // left is right: from and to are one skeleton
	slides   map[int]int // in a mirror: bones whose partners are moved, not only turned, and these
	legs     [2]*leg

	aligned []geom.Mat4 // the target's rest pose, turned as the source's is
	needA   []int       // nodes of the source whose places are needed, parents first
	needB   []int       // of the target
	pairOfB map[int]int
	hips    int // the pair
}

// Carried is what came of a motion, in the target's unit.
type Carried struct {
	Motion    scene.Motion
	Contacts  int     // times that a foot touches the ground
	Slid      float64 // how far feet slide while they touch it, at most, before
	Slides    float64 // and after
	Sunk      float64 // how deep a foot goes below where it stands at rest
	Stretched int     // frames in which a leg was too short to reach
	TooLong   int     // keys that are more than can be held; nothing was carried then
}

// mostStands is how many places of bones are held at once: some hours of a
// figure.
const mostStands = 12_000_000

// leg is one of the target's, with the source's that drives it.
type leg struct {
	upper, lower, foot, toes int // nodes of the target; toes may be None
	fromFoot                 int // what touches the ground, of the source
	length                   float64
}

// NewRetarget makes ready to carry motions between two bodies. Both skeletons
// have the same axes.
func NewRetarget(from, to *Rig, a, b Body, travel Travel, feet bool) *Retarget {
	r := &Retarget{From: from, To: to, Pairs: PairsOf(a, b), Travel: travel, Feet: feet, Scale: 1}
	if x, y := from.LegLength(a), to.LegLength(b); x > 0 && y > 0 {
		r.Scale = y / x
	}
	r.ready("hips")
	if feet {
		for i, side := range []string{"left", "right"} {
			r.legs[i] = r.legOf(side, a, b)
		}
	}
	return r
}

// NewRetargetAlike is NewRetarget for skeletons that are no bodies: bones are
// paired by their names and places, and the way goes with the whole's size.
func NewRetargetAlike(from, to *Rig, travel Travel) *Retarget {
	r := &Retarget{From: from, To: to, Pairs: PairsAlike(from, to), Travel: travel, Scale: 1}
	if x, y := from.high-from.low, to.high-to.low; x > 0 && y > 0 {
		r.Scale = y / x
	}
	first := ""
	if len(r.Pairs.List) > 0 {
		first = r.Pairs.List[0].Limb
	}
	r.ready(first)
	return r
}

// ready prepares what depends on the pairs; hips is the limb that goes the way.
func (r *Retarget) ready(hips string) {
	from, to := r.From, r.To
	r.pairOfB, r.hips = map[int]int{}, -1
	r.aligned = to.Aimed(r.Pairs.Aligned(from, to))
	for i, p := range r.Pairs.List {
		r.pairOfB[p.B] = i
		if p.Limb == hips {
			r.hips = i
		}
	}
	r.needA = chains(from, func(yield func(int)) {
		for _, p := range r.Pairs.List {
			yield(p.A)
		}
	})
	r.needB = chains(to, func(yield func(int)) {
		for _, p := range r.Pairs.List {
			yield(p.B)
		}
	})
}

func (r *Retarget) legOf(side string, a, b Body) *leg {
	get := func(body Body, limb string) int {
		if m, ok := body[side+limb]; ok {
			return m.Bone
		}
		return scene.None
	}
	l := &leg{upper: get(b, "UpperLeg"), lower: get(b, "LowerLeg"), foot: get(b, "Foot"), toes: get(b, "Toes")}
	l.fromFoot = get(a, "Toes")
	if l.fromFoot == scene.None || l.toes == scene.None {
		l.fromFoot, l.toes = get(a, "Foot"), scene.None
	}
	if l.upper == scene.None || l.lower == scene.None || l.foot == scene.None || l.fromFoot == scene.None {
		return nil
	}
	l.length = r.To.At(l.lower).Sub(r.To.At(l.upper)).Len() + r.To.At(l.foot).Sub(r.To.At(l.lower)).Len()
	return l
}

// chains lists nodes and all that stands above them, parents first.
func chains(k *Rig, of func(func(int))) []int {
	need := make([]bool, len(k.Scene.Nodes))
	of(func(n int) {
		for ; n >= 0 && !need[n]; n = k.Scene.Nodes[n].Parent {
			need[n] = true
		}
	})
	var out []int
	for i, n := range need {
		if n {
			out = append(out, i)
		}
	}
	return out
}

// stand is where a node stands and how it is turned; what scales it is kept
// along each axis.
type stand struct {
	at   geom.Vec3
	turn geom.Quat
	size geom.Vec3
}

func (s stand) point(p geom.Vec3) geom.Vec3 {
	return s.at.Add(s.turn.Rotate(geom.Vec3{p[0] * s.size[0], p[1] * s.size[1], p[2] * s.size[2]}))
}

func (s stand) over(t geom.Vec3, q geom.Quat, z geom.Vec3) stand {
	return stand{s.point(t), s.turn.Mul(q), geom.Vec3{s.size[0] * z[0], s.size[1] * z[1], s.size[2] * z[2]}}
}

var origin = stand{turn: geom.IdentityQuat, size: geom.Vec3{1, 1, 1}}

func wide3(v [3]float32) geom.Vec3 { return geom.Vec3{float64(v[0]), float64(v[1]), float64(v[2])} }
func wide4(v [4]float32) geom.Quat {
	return geom.Quat{float64(v[0]), float64(v[1]), float64(v[2]), float64(v[3])}
}

// sampler reads the channels of one node at rising times without looking for
// its place anew each time.
type sampler struct {
	t, q, z *scene.Channel
	at      [3]int
}

func (x *sampler) local(n *scene.Node, time float32) (t geom.Vec3, q geom.Quat, z geom.Vec3) {
	t, q, z = wide3(n.Translation), wide4(n.Rotation), wide3(n.Scale)
	if x == nil {
		return t, q, z
	}
	if v, ok := value(x.t, &x.at[0], time); ok {
		t = geom.Vec3{v[0], v[1], v[2]}
	}
	if v, ok := value(x.q, &x.at[1], time); ok {
		q = geom.Quat(v).Norm()
	}
	if v, ok := value(x.z, &x.at[2], time); ok {
		z = geom.Vec3{v[0], v[1], v[2]}
	}
	return t, q, z
}

// value is a channel's at a time that is not before the last one asked for.
func value(c *scene.Channel, at *int, time float32) (v [4]float64, ok bool) {
	if c == nil || len(c.Times) == 0 {
		return v, false
	}
	n := c.Per()
	if n > 4 {
		return v, false
	}
	for *at+1 < len(c.Times) && c.Times[*at+1] <= time {
		*at++
	}
	k := *at
	if c.Interp == scene.Cubic {
		for i, x := range c.At(float64(time)) {
			v[i] = float64(x)
		}
		return v, true
	}
	get := func(k int) (v [4]float64) {
		for i := range n {
			v[i] = float64(c.Values[k*n+i])
		}
		return v
	}
	a := get(k)
	if k+1 == len(c.Times) || time <= c.Times[k] || c.Interp == scene.Step {
		return a, true
	}
	b := get(k + 1)
	u := float64(time-c.Times[k]) / float64(c.Times[k+1]-c.Times[k])
	if c.Path == scene.PathRotation {
		return scene.Slerp(geom.Quat(a), geom.Quat(b), u), true
	}
	for i := range n {
		v[i] = a[i]*(1-u) + b[i]*u
	}
	return v, true
}

// samplers of a motion, by node.
func samplers(m *scene.Motion) map[int]*sampler {
	out := map[int]*sampler{}
	for i := range m.Channels {
		c := &m.Channels[i]
		x := out[c.Node]
		if x == nil {
			x = &sampler{}
			out[c.Node] = x
		}
		switch c.Path {
		case scene.PathTranslation:
			x.t = c
		case scene.PathRotation:
			x.q = c
		case scene.PathScale:
			x.z = c
		}
	}
	return out
}

// track is the places of nodes at every time: of node needA[i] at time k in
// at[k*len(needA)+i].
type track struct {
	n  int
	at []stand
}

func (t *track) of(k, i int) *stand { return &t.at[k*t.n+i] }

// Motion carries one motion.
func (r *Retarget) Motion(m *scene.Motion) Carried {
	out := Carried{Motion: scene.Motion{Name: m.Name}}
	by := samplers(m)
	var moved []*scene.Channel
	place := map[int]int{}
	for i, n := range r.needA {
		place[n] = i
		if x := by[n]; x != nil {
			for _, c := range []*scene.Channel{x.t, x.q, x.z} {
				if c != nil && len(c.Times) > 0 {
					moved = append(moved, c)
				}
			}
		}
	}
	times := scene.Instants(moved, 60)
	if len(times) == 0 {
		return out
	}
	if len(times)*len(r.needB) > mostStands {
		out.TooLong = len(times)
		return out
	}
	if r.mirror {
		r.hips, r.slides = -1, map[int]int{}
		for _, p := range r.Pairs.List {
			if x := by[p.A]; x != nil && x.t != nil {
				r.slides[p.B] = p.A
			}
		}
	}
	target, placeB, feet := r.target(r.source(by, place), place, times)
	if r.Feet {
		r.keepFeet(&out, feet, target, placeB, times)
	}
	out.Motion.Channels = r.channels(target, placeB, times)
	return out
}

// source tells, at one rising time after the other, where the source's nodes
// stand. The row is the same each time.
func (r *Retarget) source(by map[int]*sampler, place map[int]int) func(time float32) []stand {
	s := r.From.Scene
	row := make([]stand, len(r.needA))
	parents := make([]int, len(r.needA))
	list := make([]*sampler, len(r.needA))
	for i, n := range r.needA {
		list[i], parents[i] = by[n], -1
		if p := s.Nodes[n].Parent; p >= 0 {
			parents[i] = place[p]
		}
	}
	return func(time float32) []stand {
		for i, n := range r.needA {
			up := origin
			if parents[i] >= 0 {
				up = row[parents[i]]
			}
			row[i] = up.over(list[i].local(&s.Nodes[n], time))
		}
		return row
	}
}

// restOf is where a node stands at rest.
func restOf(m *geom.Mat4) stand {
	t, q, z, _ := m.Decompose()
	return stand{t, q, z}
}

// target is where the target's nodes come to stand: each limb is turned against
// its aligned rest as the source's is against its own, and the hips go as far as
// the legs are long. feet are where the source's feet are meanwhile.
func (r *Retarget) target(source func(time float32) []stand, place map[int]int, times []float32,
) (out *track, placeB map[int]int, feet [2][]geom.Vec3) {
	s := r.To.Scene
	out = &track{len(r.needB), make([]stand, len(r.needB)*len(times))}
	placeB = map[int]int{}
	type step struct {
		parent, from int // places; from is -1 for what is no limb
		undo         geom.Quat
		rest         stand // aligned, in the world
		t, z         geom.Vec3
		q            geom.Quat
	}
	steps := make([]step, len(r.needB))
	for i, n := range r.needB {
		placeB[n] = i
		x := step{parent: -1, from: -1}
		x.t, x.q, x.z = wide3(s.Nodes[n].Translation), wide4(s.Nodes[n].Rotation), wide3(s.Nodes[n].Scale)
		if p := s.Nodes[n].Parent; p >= 0 {
			x.parent = placeB[p]
		}
		if k, ok := r.pairOfB[n]; ok {
			a := r.Pairs.List[k].A
			x.from = place[a]
			x.undo = restOf(&r.From.World[a]).turn.Inverse()
			x.rest = restOf(&r.aligned[n])
		}
		steps[i] = x
	}
	hipsA, hipsB := -1, -1
	var restA, restB geom.Vec3
	if r.hips >= 0 {
		p := r.Pairs.List[r.hips]
		hipsA, hipsB = place[p.A], placeB[p.B]
		restA, restB = r.From.At(p.A), r.To.At(p.B)
	}
	standing := false // whether it is known where the source stands at rest
	root := -1        // what carries the way over the ground
	if r.Travel == TravelRoot {
		if n := r.To.Root(); n >= 0 && placeB[n] != hipsB {
			if i, ok := placeB[n]; ok && r.needB[i] == n {
				root = i
			}
		}
	}
	up := r.To.up
	for k, time := range times {
		row := out.at[k*out.n : (k+1)*out.n]
		theirs := source(time)
		for i, l := range r.legs {
			if l != nil {
				feet[i] = append(feet[i], theirs[place[l.fromFoot]].at)
			}
		}
		var way geom.Vec3
		if hipsA >= 0 && !standing {
			standing = true
			restA = r.standing(restA, theirs[hipsA].at)
		}
		if hipsA >= 0 {
			way = theirs[hipsA].at.Sub(restA).Mul(r.Scale)
			if r.Travel == TravelNone {
				way = up.Mul(way.Dot(up))
			}
		}
		for i := range steps {
			x := &steps[i]
			over := origin
			if x.parent >= 0 {
				over = row[x.parent]
			}
			row[i] = over.over(x.t, x.q, x.z)
			if x.from >= 0 {
				by := theirs[x.from].turn.Mul(x.undo) // against its rest
				if r.mirror {
					by = mirrored(by, r.To.side)
				}
				row[i].turn = by.Mul(x.rest.turn)
			}
			if a, ok := r.slides[r.needB[i]]; ok {
				row[i].at = r.To.At(r.needB[i]).Add(image(theirs[place[a]].at.Sub(r.From.At(a)), r.To.side))
			}
			switch {
			case i == root:
				row[i].at = row[i].at.Add(way.Sub(up.Mul(way.Dot(up))))
			case i == hipsB:
				row[i].at = restB.Add(way)
			}
		}
	}
	return out, placeB, feet
}

// standing is where the source's hips are when it stands on the ground. Some
// files have the root of the rest pose on the origin, with the feet below the
// ground, and only the motion lifts it: then the hips are as high as they are
// above the lowest bone. What the motion begins nearer to is meant.
func (r *Retarget) standing(rest, first geom.Vec3) geom.Vec3 {
	up := r.From.up
	above := rest.Dot(up) - r.From.low
	if math.Abs(first.Dot(up)-above) < math.Abs(first.Dot(up)-rest.Dot(up)) {
		return rest.Add(up.Mul(above - rest.Dot(up)))
	}
	return rest
}

// channels are what the nodes' places come to as keys.
func (r *Retarget) channels(t *track, placeB map[int]int, times []float32) (out []scene.Channel) {
	type written struct {
		place, over int // the node's and its parent's, -1 for none
		q, p        *scene.Channel
		last        geom.Quat
	}
	root := r.To.Root()
	var list []written
	for i, n := range r.needB {
		_, limb := r.pairOfB[n]
		isRoot := r.Travel == TravelRoot && n == root
		w := written{place: i, over: -1}
		if up := r.To.Scene.Nodes[n].Parent; up >= 0 {
			w.over = placeB[up]
		}
		if limb {
			w.q = &scene.Channel{Node: n, Path: scene.PathRotation, Interp: scene.Linear, Times: times}
			w.q.Values = make([]float32, 0, 4*len(times))
		}
		if _, slides := r.slides[n]; slides || isRoot || r.hips >= 0 && r.Pairs.List[r.hips].B == n {
			w.p = &scene.Channel{Node: n, Path: scene.PathTranslation, Interp: scene.Linear, Times: times}
			w.p.Values = make([]float32, 0, 3*len(times))
		}
		if w.q != nil || w.p != nil {
			list = append(list, w)
		}
	}
	for k := range times {
		for i := range list {
			w := &list[i]
			over, here := &origin, t.of(k, w.place)
			if w.over >= 0 {
				over = t.of(k, w.over)
			}
			back := over.turn.Inverse()
			if w.q != nil {
				x := back.Mul(here.turn)
				// The same turn, by the shorter way from the last.
				if x[0]*w.last[0]+x[1]*w.last[1]+x[2]*w.last[2]+x[3]*w.last[3] < 0 {
					x = geom.Quat{-x[0], -x[1], -x[2], -x[3]}
				}
				w.last = x
				w.q.Values = append(w.q.Values, float32(x[0]), float32(x[1]), float32(x[2]), float32(x[3]))
			}
			if w.p != nil {
				d := back.Rotate(here.at.Sub(over.at))
				for j := range d {
					if over.size[j] != 0 {
						d[j] /= over.size[j]
					}
					w.p.Values = append(w.p.Values, float32(d[j]))
				}
			}
		}
	}
	for _, w := range list {
		if w.q != nil {
			out = append(out, *w.q)
		}
		if w.p != nil {
			out = append(out, *w.p)
		}
	}
	return out
}

// Touching tells at which times a foot stands on the ground: it is near the
// lowest place that it comes to, and hardly moves over the ground. long is a
// leg's length.
func Touching(at []geom.Vec3, times []float32, up geom.Vec3, long float64) []bool {
	out := make([]bool, len(at))
	low := math.Inf(1)
	for _, p := range at {
		low = min(low, p.Dot(up))
	}
	for k, p := range at {
		a, b := max(0, k-1), min(len(at)-1, k+1)
		dt := float64(times[b] - times[a])
		if dt <= 0 {
			continue
		}
		d := at[b].Sub(at[a])
		speed := d.Sub(up.Mul(d.Dot(up))).Len() / dt
		out[k] = p.Dot(up)-low < 0.05*long && speed < 0.25*long
	}
	return out
}

// keepFeet holds feet where they touch the ground, by bending hip and knee.
func (r *Retarget) keepFeet(out *Carried, feet [2][]geom.Vec3, t *track, placeB map[int]int, times []float32) {
	up := r.To.up
	long := 0.0
	for _, l := range r.legs {
		if l != nil {
			long = l.length / r.Scale
		}
	}
	for side, l := range r.legs {
		if l == nil {
			continue
		}
		touches := Touching(feet[side], times, up, long)
		tip := l.toes // what stands on the ground
		if tip == scene.None {
			tip = l.foot
		}
		at := func(k int) geom.Vec3 { return t.of(k, placeB[tip]).at }
		ground := r.To.At(tip).Dot(up)
		want := make([]geom.Vec3, len(times)) // how the foot is moved from where it came to be
		weight := make([]float64, len(times))
		for k := 0; k < len(times); {
			if !touches[k] {
				k++
				continue
			}
			end := k
			for end+1 < len(times) && touches[end+1] {
				end++
			}
			out.Contacts++
			out.Slid = max(out.Slid, spread(k, end, up, at))
			var mean geom.Vec3
			for i := k; i <= end; i++ {
				mean = mean.Add(at(i).Mul(1 / float64(end-k+1)))
			}
			if low := mean.Dot(up); low < ground {
				mean = mean.Add(up.Mul(ground - low))
			}
			for i := k; i <= end; i++ {
				want[i], weight[i] = mean.Sub(at(i)), 1
			}
			k = end + 1
		}
		eased(want, weight, touches, times)
		for k := range times {
			if weight[k] > 0 && !r.reach(t, placeB, l, k, want[k].Mul(weight[k])) {
				out.Stretched++
			}
			out.Sunk = max(out.Sunk, ground-at(k).Dot(up))
		}
		for k := 0; k < len(times); {
			end := k
			for touches[k] && end+1 < len(times) && touches[end+1] {
				end++
			}
			if touches[k] {
				out.Slides = max(out.Slides, spread(k, end, up, at))
			}
			k = end + 1
		}
	}
}

// spread is how far apart over the ground a foot is within some frames.
func spread(from, to int, up geom.Vec3, at func(k int) geom.Vec3) (far float64) {
	first := at(from)
	for k := from + 1; k <= to; k++ {
		d := at(k).Sub(first)
		far = max(far, d.Sub(up.Mul(d.Dot(up))).Len())
	}
	return far
}

// ease is how long a foot takes to come to where it is held, in seconds.
const ease = 0.1

// eased lets what holds a foot fade in before it touches and out after.
func eased(want []geom.Vec3, weight []float64, touches []bool, times []float32) {
	n := len(times)
	for k := range n {
		if touches[k] {
			continue
		}
		for i := k + 1; i < n && float64(times[i]-times[k]) < ease; i++ {
			if touches[i] {
				want[k], weight[k] = want[i], smooth(1-float64(times[i]-times[k])/ease)
				break
			}
		}
		for i := k - 1; i >= 0 && float64(times[k]-times[i]) < ease; i-- {
			if touches[i] {
				if w := smooth(1 - float64(times[k]-times[i])/ease); w > weight[k] {
					want[k], weight[k] = want[i], w
				}
				break
			}
		}
	}
}

func smooth(x float64) float64 { return x * x * (3 - 2*x) }

// reach moves a foot by bending hip and knee in the plane in which the leg is
// bent; the foot keeps its turn. It is false where the leg is too short.
func (r *Retarget) reach(t *track, placeB map[int]int, l *leg, k int, by geom.Vec3) bool {
	a, b, c := t.of(k, placeB[l.upper]), t.of(k, placeB[l.lower]), t.of(k, placeB[l.foot])
	goal := c.at.Add(by)
	u, v := b.at.Sub(a.at).Len(), c.at.Sub(b.at).Len()
	way := goal.Sub(a.at)
	d := way.Len()
	if d < 1e-9 || u < 1e-9 || v < 1e-9 {
		return false
	}
	ok := true
	if most := (u + v) * 0.9999; d > most {
		way, d, ok = way.Mul(most/d), most, false
	}
	if least := math.Abs(u-v) * 1.0001; d < least {
		way, d, ok = way.Mul(least/d), least, false
	}
	axis := way.Norm()
	bent := b.at.Sub(a.at)
	bent = bent.Sub(axis.Mul(bent.Dot(axis)))
	if bent.Len() < 1e-6*u { // a straight leg bends to the front
		bent = r.To.front.Sub(axis.Mul(r.To.front.Dot(axis)))
	}
	cos := (u*u + d*d - v*v) / (2 * u * d) // the law of cosines
	along := u * cos
	knee := a.at.Add(axis.Mul(along)).Add(bent.Norm().Mul(math.Sqrt(max(0, u*u-along*along))))
	foot := a.at.Add(way)
	a.turn = Arc(b.at.Sub(a.at), knee.Sub(a.at)).Mul(a.turn)
	b.turn = Arc(c.at.Sub(b.at), foot.Sub(knee)).Mul(b.turn)
	moved := foot.Sub(c.at)
	b.at, c.at = knee, foot
	if l.toes != scene.None {
		x := t.of(k, placeB[l.toes])
		x.at = x.at.Add(moved)
	}
	return ok
}

// Moved lists limbs that a motion moves.
func Moved(m *scene.Motion, k *Rig, b Body) (out []string) {
	by := samplers(m)
	for _, l := range Limbs {
		if x, ok := b[l]; ok {
			if c := by[x.Bone]; c != nil && c.q != nil && !slices.Contains(out, l) {
				out = append(out, l)
			}
		}
	}
	return out
}

// mirrored is a turn seen in a mirror: of the direction that is square to the
// mirror the sign changes, and the sense of turning with it.
func mirrored(q geom.Quat, square geom.Vec3) geom.Quat {
	v := image(geom.Vec3{q[0], q[1], q[2]}, square)
	return geom.Quat{-v[0], -v[1], -v[2], q[3]}
}

// image is a direction seen in a mirror.
func image(v, square geom.Vec3) geom.Vec3 { return v.Sub(square.Mul(2 * v.Dot(square))) }

// MostMirrored is how many bones a skeleton has at most of which partners are
// looked for: each is held against each.
const MostMirrored = 5000

// NewMirror makes ready to mirror motions of a skeleton left and right. Each
// bone's partner stands at rest where its mirror image does; what has none is
// its own. alone counts the bones that stand aside and have none.
func NewMirror(k *Rig) (r *Retarget, alone []string) {
	r = &Retarget{From: k, To: k, Travel: TravelHips, Scale: 1, mirror: true,
		pairOfB: map[int]int{}, hips: -1, aligned: k.World}
	middle := 0.0
	body := k.Map(nil)
	root := k.Root()
	if h, ok := body["hips"]; ok {
		root = h.Bone
	}
	if root < 0 {
		return r, nil
	}
	middle = k.aside(root)
	tall := k.high - k.low
	depth := map[int]int{}
	for _, b := range k.Bones {
		if p := k.Parent[b]; p != scene.None {
			depth[b] = depth[p] + 1
		}
	}
	for _, b := range k.Bones {
		p := k.At(b)
		image := p.Sub(k.side.Mul(2 * (p.Dot(k.side) - middle)))
		best, at := 0.02*tall+1e-9, scene.None
		for _, o := range k.Bones {
			// Of several that stand there, one as deep in the tree.
			d := k.At(o).Sub(image).Len() + 0.001*tall*math.Abs(float64(depth[o]-depth[b]))
			if o == b {
				d -= 1e-9
			}
			if d < best {
				best, at = d, o
			}
		}
		if at == scene.None {
			at = b
			alone = append(alone, k.Name(b))
		}
		if b == root {
			at = b
		}
		r.pairOfB[b] = len(r.Pairs.List)
		r.Pairs.List = append(r.Pairs.List, Pair{A: at, B: b, child: -1})
	}
	all := func(yield func(int)) {
		for _, b := range k.Bones {
			yield(b)
		}
	}
	r.needA, r.needB = chains(k, all), chains(k, all)
	return r, alone
}
