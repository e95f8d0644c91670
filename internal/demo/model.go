package demo

import "math"

// model is an asset before it is written: still in our own basis.
type model struct {
	name      string
	materials []material
	bones     []bone
	markers   []marker
	parts     []part
	motions   []motion
}

type material struct {
	name, colour, normal string
	alpha                int // 0 opaque, 1 cutout, 2 blend
	cutoff               float64
	twoSided             bool
}

type bone struct {
	name   string
	parent int
	at     v3 // world position in the rest pose; rest rotations are none
}

type marker struct {
	name   string
	parent int
	camera bool
	at     v3
	turn   quat
	fovY   float64
}

type part struct {
	mesh     string
	material int
	skinned  bool
	surface
}

type motion struct {
	name   string
	tracks []track
}

type track struct {
	bone   int
	frames []int // thirtieths of a second
	turns  []quat
	moves  []v3
}

// ferryKeeper is the figure of the journey: a person with a punting pole.
func ferryKeeper() *model {
	m := &model{name: "ferry_keeper"}
	m.materials = []material{
		{name: "keeper_cloth", colour: "wash/keeper/keeper_cloth_c.tga"},
		{name: "keeper_gear", colour: "wash/keeper/keeper_gear_c.tga", alpha: 1, cutoff: 0.5},
	}
	index := map[string]int{}
	add := func(name, parent string, at v3) {
		p := -1
		if parent != "" {
			p = index[parent]
		}
		index[name] = len(m.bones)
		m.bones = append(m.bones, bone{name, p, at})
	}
	add("_ROOT#keeper01", "", v3{0, 0, 0})
	add("hips", "_ROOT#keeper01", v3{0, 0.96, 0})
	add("spine", "hips", v3{0, 1.08, 0})
	add("chest", "spine", v3{0, 1.26, 0})
	add("neck", "chest", v3{0, 1.50, 0})
	add("head", "neck", v3{0, 1.58, 0.01})
	add("hat", "head", v3{0, 1.74, 0})
	for _, s := range []struct {
		n string
		x float64
	}{{"_l", 1}, {"_r", -1}} {
		add("collar"+s.n, "chest", v3{0.05 * s.x, 1.46, 0})
		add("upper_arm"+s.n, "collar"+s.n, v3{0.19 * s.x, 1.45, 0})
		add("forearm"+s.n, "upper_arm"+s.n, v3{0.27 * s.x, 1.20, 0.03})
		add("hand"+s.n, "forearm"+s.n, v3{0.31 * s.x, 0.97, 0.16})
		add("thigh"+s.n, "hips", v3{0.10 * s.x, 0.92, 0})
		add("shin"+s.n, "thigh"+s.n, v3{0.12 * s.x, 0.50, 0.02})
		add("foot"+s.n, "shin"+s.n, v3{0.13 * s.x, 0.09, 0})
		add("toe"+s.n, "foot"+s.n, v3{0.13 * s.x, 0.03, 0.13})
		add("coat_tail"+s.n, "hips", v3{0.08 * s.x, 0.90, -0.10})
	}
	add("pole", "hand_r", v3{-0.31, 0.97, 0.20})
	add("lantern", "coat_tail_l", v3{0.20, 0.84, -0.04})

	at := func(n string) v3 { return m.bones[index[n]].at }
	on := func(n string) bind { return bind{a: index[n], b: index[n]} }

	var cloth, gear surface
	const seg = 18
	// Coat: hips to neck, flared at its hem.
	cloth.limb([]v3{{0, 0.70, 0}, {0, 0.95, 0}, {0, 1.10, 0}, {0, 1.30, 0}, {0, 1.46, 0}, {0, 1.52, 0}},
		[]float64{0.24, 0.185, 0.165, 0.20, 0.165, 0.07}, []bind{on("hips"), on("hips"), on("spine"), on("chest"), on("chest"), on("neck")}, 24, 3, rect{0.02, 0.02, 0.62, 0.48}, v3{1, 0, 0}, 0.68)
	for _, s := range []string{"_l", "_r"} {
		// Sleeves and trousers.
		cloth.limb([]v3{at("upper_arm" + s), at("forearm" + s), at("hand" + s)}, []float64{0.072, 0.055, 0.048},
			[]bind{on("upper_arm" + s), on("forearm" + s), on("hand" + s)}, seg, 5, rect{0.66, 0.02, 0.98, 0.30}, v3{1, 0, 0}, 1)
		cloth.limb([]v3{at("thigh" + s), at("shin" + s), at("foot" + s).add(v3{0, 0.06, 0})}, []float64{0.098, 0.070, 0.055},
			[]bind{on("thigh" + s), on("shin" + s), on("foot" + s)}, seg, 6, rect{0.66, 0.34, 0.98, 0.62}, v3{1, 0, 0}, 1)
		// Hands and boots.
		h := at("hand" + s)
		cloth.limb([]v3{h, h.add(v3{0, -0.05, 0.07})}, []float64{0.042, 0.034}, []bind{on("hand" + s), on("hand" + s)}, 12, 3, rect{0.02, 0.54, 0.16, 0.66}, v3{1, 0, 0}, 0.6)
		f := at("foot" + s)
		gear.limb([]v3{f.add(v3{0, -0.03, -0.05}), f.add(v3{0, -0.035, 0.06}), at("toe" + s).add(v3{0, 0.012, 0.07})}, []float64{0.058, 0.055, 0.040},
			[]bind{on("foot" + s), on("foot" + s), on("toe" + s)}, 14, 3, rect{0.02, 0.02, 0.46, 0.30}, v3{1, 0, 0}, 0.9)
	}
	// Head and neck.
	cloth.limb([]v3{{0, 1.49, 0}, {0, 1.57, 0.01}, {0, 1.62, 0.015}, {0, 1.70, 0.015}, {0, 1.74, 0.01}}, []float64{0.055, 0.058, 0.088, 0.098, 0.080},
		[]bind{on("neck"), on("neck"), on("head"), on("head"), on("head")}, 20, 3, rect{0.02, 0.52, 0.60, 0.98}, v3{-1, 0, 0}, 1.08)
	cloth.limb([]v3{{0, 1.665, 0.10}, {0, 1.64, 0.135}}, []float64{0.017, 0.021}, []bind{on("head"), on("head")}, 10, 2, rect{0.20, 0.56, 0.24, 0.60}, v3{1, 0, 0}, 1)
	// Hat: a reed brim and crown.
	gear.loft([]ring{{v3{0, 1.735, 0}, 0.25, 0.25, on("hat")}, {v3{0, 1.765, 0}, 0.17, 0.17, on("hat")}, {v3{0, 1.78, 0}, 0.105, 0.105, on("hat")},
		{v3{0, 1.84, 0}, 0.09, 0.09, on("hat")}, {v3{0, 1.875, 0}, 0.05, 0.05, on("hat")}, {v3{0, 1.88, 0}, 0.0005, 0.0005, on("hat")}}, 24, rect{0.52, 0.02, 0.98, 0.46}, v3{1, 0, 0})
	gear.loft([]ring{{v3{0, 1.735, 0}, 0.25, 0.25, on("hat")}, {v3{0, 1.745, 0}, 0.09, 0.09, on("hat")}}, 24, rect{0.52, 0.02, 0.98, 0.20}, v3{1, 0, 0})
	// Belt, pole, lantern.
	gear.limb([]v3{{0, 0.985, 0}, {0, 1.025, 0}}, []float64{0.185, 0.183}, []bind{on("hips"), on("hips")}, 24, 2, rect{0.02, 0.36, 0.48, 0.44}, v3{1, 0, 0}, 0.70)
	pole := at("pole")
	gear.limb([]v3{pole.add(v3{-0.16, -0.94, 0.06}), pole, pole.add(v3{0.20, 1.25, -0.08})}, []float64{0.019, 0.020, 0.016}, []bind{on("pole"), on("pole"), on("pole")}, 10, 7, rect{0.02, 0.52, 0.22, 0.98}, v3{0, 0, 1}, 1)
	l := at("lantern")
	gear.limb([]v3{l.add(v3{0.03, -0.16, -0.03}), l.add(v3{0.03, -0.03, -0.03})}, []float64{0.042, 0.036}, []bind{on("lantern"), on("lantern")}, 12, 4, rect{0.28, 0.54, 0.48, 0.94}, v3{1, 0, 0}, 1)

	m.parts = []part{{mesh: "keeper", material: 0, skinned: true, surface: cloth}, {mesh: "keeper", material: 1, skinned: true, surface: gear}}
	m.markers = []marker{
		{name: "cam_portrait", parent: -1, camera: true, at: v3{0.9, 1.6, 2.4}, turn: turn(v3{0, 1, 0}, 20), fovY: 0.7},
		{name: "fx_lantern_glow", parent: index["lantern"], at: l},
		{name: "hold_rope", parent: index["hand_l"], at: at("hand_l")},
		{name: "snap_to_deck", parent: -1, at: v3{0, 0, 0}},
	}
	m.motions = []motion{punting(index)}
	return m
}

// punting is a stroke with the pole: reach, push, recover. 2.4 seconds, and
// its last frame is its first.
func punting(index map[string]int) motion {
	mo := motion{name: "punting"}
	var frames []int
	for f := 0; f <= 72; f += 6 {
		frames = append(frames, f)
	}
	spin := func(bone string, f func(phase float64) quat) {
		t := track{bone: index[bone], frames: frames}
		for _, fr := range frames {
			t.turns = append(t.turns, f(2*math.Pi*float64(fr)/72))
		}
		mo.tracks = append(mo.tracks, t)
	}
	x, y, z := v3{1, 0, 0}, v3{0, 1, 0}, v3{0, 0, 1}
	spin("spine", func(p float64) quat { return turn(x, 10*math.Sin(p)+4) })
	spin("chest", func(p float64) quat { return turn(x, 7*math.Sin(p)).times(turn(y, 14*math.Cos(p))) })
	spin("head", func(p float64) quat { return turn(x, -10*math.Sin(p)) })
	spin("upper_arm_r", func(p float64) quat { return turn(x, -52-30*math.Sin(p)).times(turn(z, -6)) })
	spin("forearm_r", func(p float64) quat { return turn(x, -24+18*math.Cos(p)) })
	spin("upper_arm_l", func(p float64) quat { return turn(x, -40-26*math.Sin(p)).times(turn(z, 10)) })
	spin("forearm_l", func(p float64) quat { return turn(x, -34+14*math.Cos(p)) })
	spin("pole", func(p float64) quat { return turn(x, 62+16*math.Sin(p)) })
	spin("coat_tail_l", func(p float64) quat { return turn(x, 6*math.Sin(p-0.8)) })
	spin("coat_tail_r", func(p float64) quat { return turn(x, 6*math.Sin(p-0.8)) })
	spin("thigh_l", func(p float64) quat { return turn(x, -12-5*math.Sin(p)) })
	spin("thigh_r", func(p float64) quat { return turn(x, 10+5*math.Sin(p)) })
	spin("shin_l", func(p float64) quat { return turn(x, 12+5*math.Sin(p)) })
	hips := track{bone: index["hips"], frames: frames}
	for _, fr := range frames {
		p := 2 * math.Pi * float64(fr) / 72
		hips.moves = append(hips.moves, v3{0, 0.94 + 0.015*math.Cos(p), 0.03 * math.Sin(p)})
	}
	mo.tracks = append(mo.tracks, hips)
	return mo
}

// punt is the ferry: a flat boat, not skinned.
func punt() *model {
	m := &model{name: "punt", materials: []material{{name: "punt_planks", colour: "wash/boats/punt_c.tga"}}}
	var s surface
	b := bind{}
	var rings []ring
	for i := 0; i <= 20; i++ {
		t := float64(i)/10 - 1
		w := 0.55 * (1 - 0.35*math.Pow(math.Abs(t), 3))
		rings = append(rings, ring{v3{0, 0.18 + 0.16*math.Pow(math.Abs(t), 3), 2.6 * t}, w, 0.17, b})
	}
	s.loft(rings, 20, rect{0, 0, 1, 0.6}, v3{1, 0, 0})
	for i := -2; i <= 2; i++ {
		z := float64(i) * 0.9
		s.box(v3{-0.5, 0.34, z - 0.12}, v3{0.5, 0.38, z + 0.12}, rect{0, 0.65, 1, 0.95}, b)
	}
	m.parts = []part{{mesh: "punt", surface: s}}
	m.markers = []marker{{name: "mooring", parent: -1, at: v3{0, 0.4, 2.6}}}
	return m
}

// stiltHouse is a house of the village on its posts.
func stiltHouse() *model {
	m := &model{name: "stilt_house", materials: []material{
		{name: "house_boards", colour: "wash/houses/boards_c.tga"},
		{name: "house_reed", colour: "wash/houses/reed_c.tga", alpha: 1, cutoff: 0.4, twoSided: true}}}
	var boards, reed surface
	b := bind{}
	for _, x := range []float64{-2, 0, 2} {
		for _, z := range []float64{-1.6, 1.6} {
			boards.limb([]v3{{x, -0.4, z}, {x, 2.0, z}}, []float64{0.12, 0.10}, []bind{b, b}, 10, 5, rect{0, 0, 0.2, 1}, v3{1, 0, 0}, 1)
		}
	}
	boards.box(v3{-2.5, 1.9, -2.2}, v3{2.5, 2.05, 2.2}, rect{0.2, 0, 1, 0.4}, b)
	boards.box(v3{-2.1, 2.05, -1.5}, v3{2.1, 4.1, 1.5}, rect{0.2, 0.4, 1, 1}, b)
	boards.box(v3{-0.4, 2.05, 1.5}, v3{0.4, 3.6, 1.56}, rect{0, 0.2, 0.2, 0.8}, b)
	for _, side := range []float64{-1, 1} {
		first := len(reed.verts)
		const nx, nz = 14, 6
		n := v3{0, 1.9, 1.7 * side}.unit()
		for i := 0; i <= nx; i++ {
			for k := 0; k <= nz; k++ {
				u, v := float64(i)/nx, float64(k)/nz
				reed.verts = append(reed.verts, vertex{p: v3{-2.8 + 5.6*u, 5.7 - 1.9*v, side * (0.02 + 2.3*v)}, n: n, u: 4 * u, v: 2 * v, weight: [4]float64{1}})
			}
		}
		for i := 0; i < nx; i++ {
			for k := 0; k < nz; k++ {
				a := first + i*(nz+1) + k
				reed.tri(a, a+1, a+nz+2)
				reed.tri(a, a+nz+2, a+nz+1)
			}
		}
	}
	m.parts = []part{{mesh: "house", surface: boards}, {mesh: "roof", material: 1, surface: reed}}
	m.markers = []marker{{name: "door_trigger", parent: -1, at: v3{0, 2.1, 1.8}}, {name: "cam_fly_by", parent: -1, camera: true, at: v3{6, 5, 9}, turn: turn(v3{0, 1, 0}, 30), fovY: 0.9}}
	return m
}

// heron is the clockwork bird that guards the tide mill.
func heron() *model {
	m := &model{name: "heron", materials: []material{{name: "heron_brass", colour: "wash/fauna/heron_c.tga"}}}
	names := []struct {
		n  string
		p  int
		at v3
	}{{"heron_root", -1, v3{}}, {"body", 0, v3{0, 1.05, 0}}, {"neck_low", 1, v3{0, 1.2, 0.35}}, {"neck_top", 2, v3{0, 1.6, 0.45}}, {"head", 3, v3{0, 1.95, 0.5}},
		{"leg_l", 1, v3{0.13, 0.95, 0}}, {"shin_l", 5, v3{0.13, 0.5, -0.06}}, {"leg_r", 1, v3{-0.13, 0.95, 0}}, {"shin_r", 7, v3{-0.13, 0.5, -0.06}}, {"tail", 1, v3{0, 1.05, -0.4}}}
	for _, n := range names {
		m.bones = append(m.bones, bone{n.n, n.p, n.at})
	}
	on := func(i int) bind { return bind{a: i, b: i} }
	var s surface
	s.limb([]v3{{0, 0.95, -0.75}, {0, 1.02, -0.3}, {0, 1.1, 0.15}, {0, 1.18, 0.36}}, []float64{0.05, 0.24, 0.26, 0.10}, []bind{on(9), on(1), on(1), on(2)}, 20, 5, rect{0, 0, 1, 0.5}, v3{1, 0, 0}, 1)
	s.limb([]v3{{0, 1.15, 0.33}, {0, 1.4, 0.52}, {0, 1.65, 0.42}, {0, 1.93, 0.47}}, []float64{0.10, 0.075, 0.06, 0.055}, []bind{on(2), on(2), on(3), on(4)}, 14, 6, rect{0, 0.5, 0.5, 0.8}, v3{1, 0, 0}, 1)
	s.limb([]v3{{0, 1.96, 0.44}, {0, 1.98, 0.58}}, []float64{0.08, 0.07}, []bind{on(4), on(4)}, 14, 4, rect{0.5, 0.5, 0.8, 0.8}, v3{1, 0, 0}, 1)
	s.limb([]v3{{0, 1.97, 0.6}, {0, 1.94, 1.0}}, []float64{0.035, 0.006}, []bind{on(4), on(4)}, 10, 5, rect{0.8, 0.5, 1, 0.8}, v3{1, 0, 0}, 0.7)
	for k, x := range []float64{0.13, -0.13} {
		s.limb([]v3{{x, 0.95, 0}, {x, 0.5, -0.06}, {x, 0.04, 0}}, []float64{0.035, 0.028, 0.022}, []bind{on(5 + 2*k), on(6 + 2*k), on(6 + 2*k)}, 10, 6, rect{0, 0.82, 0.5, 1}, v3{1, 0, 0}, 1)
		s.limb([]v3{{x, 0.03, -0.06}, {x, 0.03, 0.24}}, []float64{0.03, 0.02}, []bind{on(6 + 2*k), on(6 + 2*k)}, 10, 3, rect{0.5, 0.82, 1, 1}, v3{1, 0, 0}, 0.6)
	}
	m.parts = []part{{mesh: "heron", skinned: true, surface: s}}
	m.markers = []marker{{name: "wind_up_key", parent: 1, at: v3{0, 1.2, -0.3}}}
	stalk := motion{name: "stalk"}
	var frames []int
	for f := 0; f <= 60; f += 5 {
		frames = append(frames, f)
	}
	for _, b := range []struct {
		bone int
		amp  float64
		off  float64
	}{{2, 12, 0}, {3, -16, 0.4}, {4, 10, 0.8}, {5, 22, 0}, {6, 18, 0.6}, {7, -22, 0}, {8, 18, 3.7}} {
		t := track{bone: b.bone, frames: frames}
		for _, f := range frames {
			t.turns = append(t.turns, turn(v3{1, 0, 0}, b.amp*math.Sin(2*math.Pi*float64(f)/60+b.off)))
		}
		stalk.tracks = append(stalk.tracks, t)
	}
	m.motions = []motion{stalk}
	return m
}
