package rig

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

// walk is a figure's motion on the spot or onwards: legs swing, knees bend,
// arms go the other way, hips rise and travel.
func walk(s *scene.Scene, frames int, speed float64) scene.Motion {
	at := map[string]int{}
	for i, n := range s.Nodes {
		at[n.Name] = i
	}
	m := scene.Motion{Name: "walk"}
	var times []float32
	for k := range frames {
		times = append(times, float32(k)/30)
	}
	turn := func(bone string, axis geom.Vec3, angle func(t float64) float64) {
		c := scene.Channel{Node: at[bone], Path: scene.PathRotation, Interp: scene.Linear, Times: times}
		rest := wide4(s.Nodes[at[bone]].Rotation)
		for _, t := range times {
			q := geom.AxisAngle(axis, angle(float64(t))).Mul(rest)
			for _, x := range q {
				c.Values = append(c.Values, float32(x))
			}
		}
		m.Channels = append(m.Channels, c)
	}
	x, y, z := geom.Vec3{1, 0, 0}, geom.Vec3{0, 1, 0}, geom.Vec3{0, 0, 1}
	for i, side := range []string{"left", "right"} {
		phase := math.Pi * float64(i)
		turn(side+"UpperLeg", x, func(t float64) float64 { return 0.5 * math.Sin(6*t+phase) })
		turn(side+"LowerLeg", x, func(t float64) float64 { return 0.4 + 0.3*math.Cos(6*t+phase) })
		turn(side+"UpperArm", y, func(t float64) float64 { return 0.3 * math.Sin(6*t+phase) })
		turn(side+"LowerArm", y, func(t float64) float64 { return 0.5 + 0.2*math.Sin(3*t) })
		turn(side+"Foot", x, func(t float64) float64 { return 0.2 * math.Sin(6*t+phase) })
	}
	turn("spine", z, func(t float64) float64 { return 0.1 * math.Sin(6*t) })
	turn("head", y, func(t float64) float64 { return 0.4 * math.Sin(2*t) })
	c := scene.Channel{Node: at["hips"], Path: scene.PathTranslation, Interp: scene.Linear, Times: times}
	rest := s.Nodes[at["hips"]].Translation
	for _, t := range times {
		c.Values = append(c.Values, rest[0], rest[1]+float32(0.03*math.Sin(12*float64(t))), rest[2]+float32(speed*float64(t)))
	}
	m.Channels = append(m.Channels, c)
	return m
}

// posed is where the nodes of a scene stand in a motion at a time.
func posed(s *scene.Scene, m *scene.Motion, t float64) []geom.Mat4 {
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	for n, list := range m.ByNode() {
		out.Nodes[n] = s.Nodes[n].Posed(list, t)
	}
	return out.World()
}

// otherwise is the same figure with other names, other bone orientations and
// another rest pose, in which it looks like itself in every pose of its bones'
// heads: every bone's own axes are turned by chance, and what hangs on it turned
// back; then limbs are aimed elsewhere.
func otherwise(s *scene.Scene, rnd *rand.Rand, aims func(r *Rig, b Body) map[int]Aim) *scene.Scene {
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	k := Of(s)
	world := k.World
	if aims != nil {
		world = k.Aimed(aims(k, k.Map(nil)))
	}
	own := make([]geom.Mat4, len(world))
	for i := range world {
		axis := geom.Vec3{rnd.Float64() - 0.5, rnd.Float64() - 0.5, rnd.Float64() - 0.5}.Norm()
		own[i] = world[i].Mul(geom.TRS(geom.Vec3{}, geom.AxisAngle(axis, 3*rnd.Float64()), geom.Vec3{1, 1, 1}))
	}
	for i, m := range Locals(&out, own) {
		t, q, z, _ := m.Decompose()
		out.Nodes[i].Put(t, q, z)
		out.Nodes[i].Name = fmt.Sprintf("Keeper %s", s.Nodes[i].Name)
	}
	bound(&out)
	return &out
}

// The same skeleton under another rest pose, other names and other bone
// orientations moves through the same places.
func TestRetargetToTheSameFigure(t *testing.T) {
	rnd := rand.New(rand.NewPCG(9, 1))
	for _, k := range []kind{{spine: 3, clav: true, fingers: 5}, {spine: 2, clav: true, twist: true}} {
		from := person(k)
		m := walk(from, 60, 1.2)
		for name, aims := range map[string]func(r *Rig, b Body) map[int]Aim{
			"as it stands": nil,
			"in a T":       func(r *Rig, b Body) map[int]Aim { return r.TPose(b) },
			"in an A":      func(r *Rig, b Body) map[int]Aim { return r.APose(b) },
		} {
			to := otherwise(from, rnd, aims)
			a, b := Of(from), Of(to)
			r := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, false)
			if math.Abs(r.Scale-1) > 1e-6 {
				t.Errorf("%s: scale %g", name, r.Scale)
			}
			x := r.Motion(&m)
			if err := valid(to, x.Motion); err != nil {
				t.Fatal(err)
			}
			back := NewRetarget(b, a, b.Map(nil), a.Map(nil), TravelHips, false).Motion(&x.Motion)
			for _, time := range []float64{0, 0.31, 0.9, 1.7} {
				wa, wb, wc := posed(from, &m, time), posed(to, &x.Motion, time), posed(from, &back.Motion, time)
				for _, p := range r.Pairs.List {
					pa, pb, pc := head(wa, p.A), head(wb, p.B), head(wc, p.A)
					// A tenth of a degree on a limb of half a metre is 0.9 mm.
					if pa.Sub(pb).Len() > 9e-4 {
						t.Errorf("%s, at %g s: the %s is %.2g m away", name, time, p.Limb, pa.Sub(pb).Len())
					}
					if pa.Sub(pc).Len() > 2e-3 {
						t.Errorf("%s, to and back at %g s: the %s is %.2g m away",
							name, time, p.Limb, pa.Sub(pc).Len())
					}
				}
			}
		}
	}
}

func head(w []geom.Mat4, i int) geom.Vec3 { return geom.Vec3{w[i][12], w[i][13], w[i][14]} }

func valid(s *scene.Scene, m scene.Motion) error {
	out := *s
	out.Motions = []scene.Motion{m}
	return out.Validate()
}

// Legs half as long go half as far; the way goes where it is asked to.
func TestTheWayGoesWithTheLegs(t *testing.T) {
	from := person(kind{spine: 3, clav: true})
	m := walk(from, 61, 1)
	small := *from
	small.Nodes = slices.Clone(from.Nodes)
	for i := range small.Nodes {
		for k := range 3 {
			small.Nodes[i].Translation[k] /= 2
		}
	}
	// With a root under the hips, on the ground.
	root := scene.NewNode("root")
	root.Parent = scene.None
	nodes := []scene.Node{root}
	for _, n := range small.Nodes {
		n.Parent++
		nodes = append(nodes, n)
	}
	small.Nodes = nodes
	bound(&small)
	a, b := Of(from), Of(&small)
	for travel, want := range map[Travel][2]float64{TravelHips: {0, 1}, TravelRoot: {1, 1}, TravelNone: {0, 0}} {
		r := NewRetarget(a, b, a.Map(nil), b.Map(nil), travel, false)
		x := r.Motion(&m)
		w := posed(&small, &x.Motion, 2)
		hips := b.Map(nil)["hips"].Bone
		if at := head(w, 0)[2]; math.Abs(at-want[0]) > 1e-5 {
			t.Errorf("%s: the root has gone %g m", travel, at)
		}
		if at := head(w, hips)[2]; math.Abs(at-want[1]) > 1e-5 || math.Abs(r.Scale-0.5) > 1e-6 {
			t.Errorf("%s: the hips have gone %g m at a scale of %g", travel, at, r.Scale)
		}
		if up := head(w, hips)[1]; math.Abs(up-(0.475+0.015*math.Sin(24))) > 1e-4 {
			t.Errorf("%s: the hips are %g m up", travel, up)
		}
	}
}

// stands is a motion in which the left foot stands still while the hips go on
// over it, made by bending the leg; the right leg hangs.
func stands(s *scene.Scene, frames int) scene.Motion {
	at := map[string]int{}
	for i, n := range s.Nodes {
		at[n.Name] = i
	}
	r := Of(s)
	l := &leg{upper: at["leftUpperLeg"], lower: at["leftLowerLeg"], foot: at["leftFoot"], toes: at["leftToes"]}
	k := &Retarget{To: r}
	var times []float32
	m := scene.Motion{Name: "over the foot"}
	chain := []int{at["hips"], l.upper, l.lower, l.foot, l.toes}
	place := map[int]int{}
	for i, n := range chain {
		place[n] = i
	}
	channels := make([]scene.Channel, 4)
	for i := range channels {
		channels[i] = scene.Channel{Node: chain[i], Path: scene.PathRotation, Interp: scene.Linear}
	}
	hips := scene.Channel{Node: chain[0], Path: scene.PathTranslation, Interp: scene.Linear}
	for f := range frames {
		times = append(times, float32(f)/60)
		t := &track{n: 5, at: make([]stand, 5)}
		z := -0.15 + 0.3*float64(f)/float64(frames-1)
		for i, n := range chain {
			w := restOf(&r.World[n])
			w.at = w.at.Add(geom.Vec3{0, -0.06, z})
			t.at[i] = w
		}
		k.reach(t, place, l, 0, geom.Vec3{0, 0.06, -z})
		for i := range channels {
			q := t.at[i].turn
			if i > 0 {
				q = t.at[i-1].turn.Inverse().Mul(q)
			}
			for _, x := range q {
				channels[i].Values = append(channels[i].Values, float32(x))
			}
		}
		for _, x := range t.at[0].at {
			hips.Values = append(hips.Values, float32(x))
		}
	}
	for i := range channels {
		channels[i].Times = times
	}
	hips.Times = times
	m.Channels = append(channels, hips)
	return m
}

// A foot that stands on the source stands on a figure with other legs too,
// and slides without that.
func TestFeetStay(t *testing.T) {
	from := person(kind{spine: 3, clav: true})
	m := stands(from, 40)
	foot := func(s *scene.Scene, m *scene.Motion, name string) (far float64) {
		at := slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == name })
		first := head(posed(s, m, 0), at)
		for k := range 40 {
			far = max(far, head(posed(s, m, float64(k)/60), at).Sub(first).Len())
		}
		return far
	}
	if far := foot(from, &m, "leftToes"); far > 1e-4 {
		t.Fatalf("the source's foot moves by %g m", far)
	}
	to := *from
	to.Nodes = slices.Clone(from.Nodes)
	for i := range to.Nodes { // a longer thigh, a shorter calf
		switch to.Nodes[i].Name {
		case "leftLowerLeg", "rightLowerLeg":
			to.Nodes[i].Translation[1] *= 1.25
		case "leftFoot", "rightFoot":
			to.Nodes[i].Translation[1] *= 0.8
		}
	}
	bound(&to)
	a, b := Of(from), Of(&to)
	free := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, false).Motion(&m)
	kept := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, true).Motion(&m)
	if far := foot(&to, &free.Motion, "leftToes"); far < 0.01 {
		t.Errorf("without holding it the foot moves by %g m only", far)
	}
	if far := foot(&to, &kept.Motion, "leftToes"); far > 1e-3 {
		t.Errorf("the foot moves by %g m", far)
	}
	if kept.Contacts == 0 || kept.Slid < 0.01 || kept.Slides > 1e-3 || math.IsNaN(kept.Slides) {
		t.Errorf("told: %+v", kept)
	}
}

func TestRetargetOfNothing(t *testing.T) {
	from := person(kind{spine: 1})
	a := Of(from)
	empty := Of(&scene.Scene{})
	for _, m := range []scene.Motion{{}, {Channels: []scene.Channel{{Node: 0, Path: scene.PathRotation}}}} {
		if x := NewRetarget(a, a, a.Map(nil), a.Map(nil), TravelRoot, true).Motion(&m); len(x.Motion.Channels) != 0 {
			t.Errorf("%+v", x)
		}
	}
	m := walk(from, 3, 1)
	if x := NewRetarget(a, empty, a.Map(nil), empty.Map(nil), TravelHips, true).Motion(&m); len(x.Motion.Channels) != 0 {
		t.Errorf("%+v", x)
	}
}

// Ten minutes at 60 frames a second on some 70 bones, with feet.
func BenchmarkRetarget(b *testing.B) {
	from := person(kind{spine: 3, clav: true, fingers: 5, twist: true})
	m := walk(from, 36000, 1)
	k := Of(from)
	body := k.Map(nil)
	for b.Loop() {
		NewRetarget(k, k, body, body, TravelHips, true).Motion(&m)
	}
	b.ReportMetric(float64(len(from.Nodes)), "bones")
}

// Beasts have no body of a person: their bones are paired by names and places.
func TestRetargetOfBeasts(t *testing.T) {
	beast := func(size float32, name func(string) string) *scene.Scene {
		s := &scene.Scene{Basis: geom.GLTF}
		at := map[string]int{}
		add := func(bone, parent string, x, y, z float32) {
			n := scene.NewNode(name(bone))
			n.Parent = scene.None
			if parent != "" {
				n.Parent = at[parent]
			}
			n.Translation = [3]float32{x * size, y * size, z * size}
			at[bone] = len(s.Nodes)
			s.Nodes = append(s.Nodes, n)
		}
		add("trunk", "", 0, 0.6, 0)
		add("withers", "trunk", 0, 0.05, 0.5)
		add("muzzle", "withers", 0, 0.2, 0.3)
		add("rump", "trunk", 0, 0, -0.4)
		add("tail a", "rump", 0, 0, -0.2)
		add("tail b", "tail a", 0, -0.1, -0.2)
		for i, side := range []string{"l", "r"} {
			x := float32(1-2*i) * 0.15
			add("fore "+side, "withers", x, -0.1, 0)
			add("fore shank "+side, "fore "+side, 0, -0.3, 0.05)
			add("hind "+side, "rump", x, -0.1, 0)
			add("hind shank "+side, "hind "+side, 0, -0.3, -0.05)
		}
		bound(s)
		return s
	}
	from := beast(1, func(s string) string { return s })
	for what, to := range map[string]*scene.Scene{
		"by names":  beast(2, func(s string) string { return s }),
		"by places": beast(2, func(s string) string { return "b" + fmt.Sprint(len(s)) + s[len(s)-1:] + s[:1] }),
	} {
		a, b := Of(from), Of(to)
		r := NewRetargetAlike(a, b, TravelHips)
		if len(r.Pairs.List) != len(a.Bones) || math.Abs(r.Scale-2) > 1e-6 {
			t.Fatalf("%s: %d of %d bones, scale %g", what, len(r.Pairs.List), len(a.Bones), r.Scale)
		}
		m := scene.Motion{}
		for i, n := range from.Nodes {
			q := geom.AxisAngle(geom.Vec3{1, 0.3, float64(len(n.Name))}.Norm(), 0.4)
			m.Channels = append(m.Channels, scene.Channel{Node: i, Path: scene.PathRotation, Interp: scene.Linear, Times: []float32{0, 1},
				Values: []float32{0, 0, 0, 1, float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}})
		}
		m.Channels = append(m.Channels, scene.Channel{Node: 0, Path: scene.PathTranslation, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{0, 0.6, 0, 0, 0.6, 1}})
		x := r.Motion(&m)
		for _, time := range []float64{0, 0.5, 1} {
			wa, wb := posed(from, &m, time), posed(to, &x.Motion, time)
			for i := range from.Nodes {
				if d := head(wa, i).Mul(2).Sub(head(wb, i)).Len(); d > 2e-3 {
					t.Errorf("%s, at %g s: %s is %g m away", what, time, from.Nodes[i].Name, d)
				}
			}
		}
	}
}

// In some files the rest pose has the hips on the origin, and the motion lifts
// them: the figure does not fly by that.
func TestRestOnTheOrigin(t *testing.T) {
	from := person(kind{spine: 3, clav: true})
	m := walk(from, 31, 1)
	sunk := *from
	sunk.Nodes = slices.Clone(from.Nodes)
	sunk.Nodes[0].Translation = [3]float32{}
	bound(&sunk)
	to := person(kind{spine: 2, clav: true})
	a, b := Of(&sunk), Of(to)
	x := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, false).Motion(&m)
	for _, time := range []float64{0, 0.5, 1} {
		p, q := head(posed(from, &m, time), 0), head(posed(to, &x.Motion, time), 0)
		// The lowest bone, the toes, is 2 cm above the ground.
		if d := p.Sub(q).Len(); d > 0.021 {
			t.Errorf("at %g s the hips are at %v, and should be at %v", time, q, p)
		}
	}
}

// A skeleton in small numbers below a node that makes it large moves alike.
func TestRetargetThroughScale(t *testing.T) {
	plain := person(kind{spine: 3, clav: true})
	m := walk(plain, 31, 1)
	large := *plain
	above := scene.NewNode("above")
	above.Parent, above.Scale = scene.None, [3]float32{100, 100, 100}
	large.Nodes = []scene.Node{above}
	for _, n := range plain.Nodes {
		n.Parent++
		for k := range 3 {
			n.Translation[k] /= 100
		}
		large.Nodes = append(large.Nodes, n)
	}
	large.Skins = nil
	k := scene.Skin{Root: 1}
	for i := 1; i < len(large.Nodes); i++ {
		k.Joints = append(k.Joints, i)
	}
	large.Skins = []scene.Skin{k}
	// To it, and from it back again.
	a, b := Of(plain), Of(&large)
	there := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, false).Motion(&m)
	back := NewRetarget(b, a, b.Map(nil), a.Map(nil), TravelHips, false).Motion(&there.Motion)
	for _, time := range []float64{0, 0.4, 1} {
		wa, wb, wc := posed(plain, &m, time), posed(&large, &there.Motion, time), posed(plain, &back.Motion, time)
		for i := range plain.Nodes {
			if d := head(wa, i).Sub(head(wb, i+1)).Len(); d > 1e-4 {
				t.Errorf("at %g s %s is %g m away", time, plain.Nodes[i].Name, d)
			}
			if d := head(wa, i).Sub(head(wc, i)).Len(); d > 1e-4 {
				t.Errorf("and back, at %g s, %s is %g m away", time, plain.Nodes[i].Name, d)
			}
		}
	}
}

// Without toes on either side the ankle is what stays.
func TestFeetWithoutToes(t *testing.T) {
	with := person(kind{spine: 3, clav: true})
	bare := func(s *scene.Scene) *scene.Scene {
		out := *s
		out.Nodes = slices.DeleteFunc(slices.Clone(s.Nodes), func(n scene.Node) bool {
			return n.Name == "leftToes" || n.Name == "rightToes"
		})
		at := map[string]int{}
		for i, n := range out.Nodes {
			at[n.Name] = i
		}
		for i := range out.Nodes {
			if p := out.Nodes[i].Parent; p >= 0 {
				out.Nodes[i].Parent = at[s.Nodes[p].Name]
			}
		}
		bound(&out)
		return &out
	}
	m := stands(with, 40)
	to := bare(with)
	for i := range to.Nodes {
		if n := &to.Nodes[i]; n.Name == "leftFoot" || n.Name == "rightFoot" {
			n.Translation[1] *= 0.85
		}
	}
	bound(to)
	a, b := Of(with), Of(to)
	kept := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, true).Motion(&m)
	at := slices.IndexFunc(to.Nodes, func(n scene.Node) bool { return n.Name == "leftFoot" })
	first := head(posed(to, &kept.Motion, 0), at)
	for k := range 40 {
		if d := head(posed(to, &kept.Motion, float64(k)/60), at).Sub(first).Len(); d > 1e-3 {
			t.Fatalf("in frame %d the ankle has moved by %g m", k, d)
		}
	}
	if kept.Contacts != 1 {
		t.Errorf("%d contacts", kept.Contacts)
	}
}

// A foot that is held comes there and leaves again without a jump.
func TestHeldFeetDoNotJump(t *testing.T) {
	from := person(kind{spine: 3, clav: true})
	m := stands(from, 40)
	for i := range m.Channels { // then the leg is lifted, and the hips go on
		c := &m.Channels[i]
		per := c.Per()
		last := slices.Clone(c.Values[len(c.Values)-per:])
		for k := range 41 {
			u := float64(k+1) / 41
			c.Times = append(c.Times, float32(40+k)/60)
			v := slices.Clone(last)
			switch {
			case c.Path == scene.PathTranslation:
				v[2] += float32(0.2 * u)
			case i == 1:
				q := wide4([4]float32(last)).Mul(geom.AxisAngle(geom.Vec3{1, 0, 0}, -1.2*u))
				v = []float32{float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}
			}
			c.Values = append(c.Values, v...)
		}
	}
	to := person(kind{spine: 2, clav: true})
	for i := range to.Nodes {
		if n := &to.Nodes[i]; n.Name == "leftLowerLeg" || n.Name == "rightLowerLeg" {
			n.Translation[1] *= 1.2
		}
	}
	bound(to)
	a, b := Of(from), Of(to)
	x := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, true).Motion(&m)
	free := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, false).Motion(&m)
	if x.Contacts != 1 {
		t.Fatalf("%d contacts", x.Contacts)
	}
	fastest := func(m *scene.Motion) (far float64) {
		for _, name := range []string{"leftFoot", "rightFoot"} {
			at := slices.IndexFunc(to.Nodes, func(n scene.Node) bool { return n.Name == name })
			last := head(posed(to, m, 0), at)
			for k := 1; k <= 80; k++ {
				p := head(posed(to, m, float64(k)/60), at)
				far = max(far, p.Sub(last).Len())
				last = p
			}
		}
		return far
	}
	if held, free := fastest(&x.Motion), fastest(&free.Motion); held > 1.6*free {
		t.Errorf("a foot goes %g m from one frame to the next, without being held %g", held, free)
	}
}

// What sways to the left sways to the right in a mirror, about the same middle.
func TestMirrorOfMoves(t *testing.T) {
	s := person(kind{spine: 3, clav: true})
	m := walk(s, 31, 1)
	hips := &m.Channels[len(m.Channels)-1]
	for k := range hips.Times {
		hips.Values[3*k] = float32(0.1 * math.Sin(float64(k)/5))
	}
	mirror, alone := NewMirror(Of(s))
	if len(alone) > 0 {
		t.Errorf("without a partner: %q", alone)
	}
	x := mirror.Motion(&m).Motion
	for _, time := range []float64{0.1, 0.5, 0.9} {
		a, b := posed(s, &m, time), posed(s, &x, time)
		for i, n := range s.Nodes {
			p := head(a, i)
			p[0] = -p[0]
			at := i
			for k, o := range s.Nodes {
				if len(n.Name) > 5 && n.Name[:4] == "left" && o.Name == "right"+n.Name[4:] ||
					len(n.Name) > 5 && n.Name[:5] == "right" && o.Name == "left"+n.Name[5:] {
					at = k
				}
			}
			if d := p.Sub(head(b, at)).Len(); d > 1e-5 {
				t.Errorf("at %g s %s is %g m from the image of %s", time, s.Nodes[at].Name, d, n.Name)
			}
		}
	}
}

// A rest pose that looks elsewhere is brought to the other's front, though every
// bone points as it did.
func TestRestPoseThatLooksAside(t *testing.T) {
	from := person(kind{spine: 3, clav: true, fingers: 5})
	m := walk(from, 31, 1)
	to := otherwise(from, rand.New(rand.NewPCG(3, 3)), func(r *Rig, b Body) map[int]Aim {
		return map[int]Aim{b["hips"].Bone: {Child: b["spine"].Bone, To: r.up, From: b["rightUpperLeg"].Bone,
			Till: b["leftUpperLeg"].Bone, Second: r.front}}
	})
	a, b := Of(from), Of(to)
	// Which side is left is told by the names, not by where the figure looks.
	x := NewRetarget(a, b, a.Map(nil), b.Map(nil), TravelHips, false).Motion(&m)
	for _, time := range []float64{0, 0.5, 1} {
		wa, wb := posed(from, &m, time), posed(to, &x.Motion, time)
		for i, n := range from.Nodes {
			if d := head(wa, i).Sub(head(wb, i)).Len(); d > 1e-3 {
				t.Errorf("at %g s %s is %g m away", time, n.Name, d)
			}
		}
	}
}

// The fast way to read a channel gives what the plain one gives.
func TestSamplersReadWhatChannelsHold(t *testing.T) {
	rnd := rand.New(rand.NewPCG(8, 8))
	for _, interp := range []scene.Interp{scene.Linear, scene.Step, scene.Cubic} {
		for path, per := range map[scene.Path]int{scene.PathTranslation: 3, scene.PathRotation: 4, scene.PathScale: 3} {
			c := scene.Channel{Path: path, Interp: interp}
			for k := range 9 {
				c.Times = append(c.Times, 0.5+float32(k)*0.25)
				sets := 1
				if interp == scene.Cubic {
					sets = 3
				}
				for range sets {
					v := geom.Quat{rnd.Float64(), rnd.Float64(), rnd.Float64(), rnd.Float64() + 0.2}.Norm()
					for x := range per {
						c.Values = append(c.Values, float32(v[x]))
					}
				}
			}
			at := 0
			for time := float32(0); time < 3.2; time += 0.06 {
				got, ok := value(&c, &at, time)
				for x, want := range c.At(float64(time)) {
					if !ok || math.Abs(got[x]-float64(want)) > 1e-6 {
						t.Fatalf("%s %s at %g s: %v, want %v", interp, path, time, got, c.At(float64(time)))
					}
				}
			}
		}
	}
}

// A leg reaches as far as it is long, and comes as near as its halves differ.
func TestReach(t *testing.T) {
	s := person(kind{spine: 1})
	r := Of(s)
	at := map[string]int{}
	for i, n := range s.Nodes {
		at[n.Name] = i
	}
	l := &leg{upper: at["leftUpperLeg"], lower: at["leftLowerLeg"], foot: at["leftFoot"], toes: scene.None}
	chain := []int{l.upper, l.lower, l.foot}
	u := r.At(l.lower).Sub(r.At(l.upper)).Len()
	v := r.At(l.foot).Sub(r.At(l.lower)).Len()
	for _, c := range []struct {
		by   geom.Vec3
		ok   bool
		want float64 // from the hip to the ankle
	}{
		{geom.Vec3{0, 0.2, 0.1}, true, r.At(l.foot).Add(geom.Vec3{0, 0.2, 0.1}).Sub(r.At(l.upper)).Len()},
		{geom.Vec3{0, -0.5, 0}, false, (u + v) * 0.9999},
		{r.At(l.upper).Sub(r.At(l.foot)).Mul(0.999), false, math.Abs(u-v) * 1.0001},
	} {
		t1, place := &track{n: 3, at: make([]stand, 3)}, map[int]int{}
		for i, n := range chain {
			t1.at[i], place[n] = restOf(&r.World[n]), i
		}
		ok := (&Retarget{To: r}).reach(t1, place, l, 0, c.by)
		got := t1.at[2].at.Sub(t1.at[0].at).Len()
		if ok != c.ok || math.Abs(got-c.want) > 1e-9 {
			t.Errorf("by %v: %v, %g m from hip to ankle, want %v and %g", c.by, ok, got, c.ok, c.want)
		}
		if a, b := t1.at[1].at.Sub(t1.at[0].at).Len(),
			t1.at[2].at.Sub(t1.at[1].at).Len(); math.Abs(a-u) > 1e-9 || math.Abs(b-v) > 1e-9 {
			t.Errorf("by %v: the bones are %g and %g long, and were %g and %g", c.by, a, b, u, v)
		}
	}
}
