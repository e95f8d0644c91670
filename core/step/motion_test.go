package step

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/bvh"
	"excavate/core/geom"
	"excavate/core/rig"
	"excavate/core/scene"
)

// headsIn is where bones stand in a motion at a time, by their names.
func headsIn(s *scene.Scene, m *scene.Motion, t float64) map[string]geom.Vec3 {
	out := map[string]geom.Vec3{}
	for i, w := range inMotion(s, m, t).World() {
		out[s.Nodes[i].Name] = geom.Vec3{w[12], w[13], w[14]}
	}
	return out
}

// bonesApart is how far bones of two scenes stand apart, the second at a time that
// follows from the first's.
func bonesApart(a *scene.Scene, m *scene.Motion, b *scene.Scene, n *scene.Motion, from, to float64, time func(t float64) float64) (far float64) {
	for k := range 21 {
		t := from + (to-from)*float64(k)/20
		x, y := headsIn(a, m, t), headsIn(b, n, time(t))
		for name, p := range x {
			if q, ok := y[name]; ok {
				far = max(far, p.Sub(q).Len())
			}
		}
	}
	return far
}

func same0(t float64) float64 { return t }

func TestMotionsStep(t *testing.T) {
	s := keeper()
	for _, name := range []string{"run fast", "run slow"} {
		m := s.Motions[0]
		m.Name = name
		s.Motions = append(s.Motions, m)
	}
	row := func(pairs ...string) (out []any) {
		for i := 0; i+1 < len(pairs); i += 2 {
			out = append(out, map[string]any{"motion": pairs[i], "name": pairs[i+1]})
		}
		return out
	}
	out, _ := apply(t, "motions", s, map[string]any{"rows": row("run *", "Run_{1}")})
	if got := motionNames(out); !slices.Equal(got, []string{"Run_fast", "Run_slow", "walk"}) {
		t.Errorf("%q", got)
	}
	out, r := apply(t, "motions", s, map[string]any{"rows": row("run *", "run"), "only": true})
	if got := motionNames(out); !slices.Equal(got, []string{"run", "run 2"}) {
		t.Errorf("%q, %q", got, r.Lines)
	}
	if _, r := apply(t, "motions", s, map[string]any{"rows": row("walk", "", "swim", "")}); !r.Idle || !strings.Contains(r.Lines[0], "no motion is named swim") {
		t.Errorf("%q", r.Lines)
	}
	k, _ := Get("motions")
	if _, err := k.Apply(t.Context(), s, []byte(`{"rows":[{"motion":"swim"}],"only":true}`), nil, &Report{}); err == nil || !strings.Contains(err.Error(), "no motion would be left") {
		t.Errorf("%v", err)
	}
}

func TestMotionOnly(t *testing.T) {
	s := keeper()
	for _, skeleton := range []bool{true, false} {
		out, _ := apply(t, "motion-only", s, map[string]any{"skeleton": skeleton})
		if len(out.Meshes)+len(out.Materials)+len(out.Skins) > 0 {
			t.Errorf("%d meshes, %d materials", len(out.Meshes), len(out.Materials))
		}
		if has := slices.ContainsFunc(out.Nodes, func(n scene.Node) bool { return n.Name == "hand_end_L" }); has != skeleton {
			t.Errorf("skeleton %v: the end of a hand is there: %v", skeleton, has)
		}
		if far := bonesApart(s, &s.Motions[0], out, &out.Motions[0], 0, 1, same0); far > 1e-6 {
			t.Errorf("bones stand %g m apart", far)
		}
	}
}

func TestKeys(t *testing.T) {
	s := keeper()
	cut, _ := apply(t, "keys", s, map[string]any{"from": 0.2, "to": 0.7})
	if got := cut.Motions[0].Seconds(); math.Abs(got-0.5) > 1e-6 {
		t.Errorf("cut to %g s", got)
	}
	if far := bonesApart(s, &s.Motions[0], cut, &cut.Motions[0], 0.2, 0.7, func(t float64) float64 { return t - 0.2 }); far > 2e-4 {
		t.Errorf("cut: %g m apart", far)
	}
	fast, r := apply(t, "keys", s, map[string]any{"speed": 2})
	if far := bonesApart(s, &s.Motions[0], fast, &fast.Motions[0], 0, 1, func(t float64) float64 { return t / 2 }); far > 1e-6 {
		t.Errorf("twice as fast: %g m apart, %q", far, r.Lines)
	}
	even, r := apply(t, "keys", s, map[string]any{"rate": 30})
	if n := len(even.Motions[0].Channels[0].Times); n != 31 {
		t.Errorf("%d keys at 30 a second over 1 s: %q", n, r.Lines)
	}
	if far := bonesApart(s, &s.Motions[0], even, &even.Motions[0], 0, 1, same0); far > 1e-6 {
		t.Errorf("evenly: %g m apart", far)
	}
	// Of 31 keys on three straight pieces few are needed, and within the tolerance.
	few, r := apply(t, "keys", even, map[string]any{"tolerance": 1})
	if n := len(few.Motions[0].Channels[0].Times); n > 5 {
		t.Errorf("%d keys are left: %q", n, r.Lines)
	}
	if far := bonesApart(s, &s.Motions[0], few, &few.Motions[0], 0, 1, same0); far > 1e-3 {
		t.Errorf("fewer keys: %g m apart", far)
	}
	// A walk whose end is not its beginning.
	open, _ := apply(t, "keys", s, map[string]any{"to": 0.8})
	gap, _ := rig.Seam(open, &open.Motions[0])
	shut, r := apply(t, "keys", open, map[string]any{"loop": 0.3})
	left, _ := rig.Seam(shut, &shut.Motions[0])
	if gap < 10 || left > 0.01 {
		t.Errorf("the seam: %g degrees, closed %g: %q", gap, left, r.Lines)
	}
	tells(t, r.Lines, fmt.Sprintf("%.3g degrees", gap))
	if far := bonesApart(open, &open.Motions[0], shut, &shut.Motions[0], 0, 0.45, same0); far > 1e-6 {
		t.Errorf("before the end it is %g m off", far)
	}
	// A curve at another speed is the same curve.
	curve := keeper()
	c := &curve.Motions[0].Channels[len(curve.Motions[0].Channels)-1]
	c.Interp, c.Times = scene.Cubic, []float32{0, 1}
	c.Values = []float32{0, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0, 2, 0, 0, 1, 0, 0, 0}
	slow, _ := apply(t, "keys", curve, map[string]any{"speed": 0.5})
	if far := bonesApart(curve, &curve.Motions[0], slow, &slow.Motions[0], 0, 1, func(t float64) float64 { return 2 * t }); far > 1e-5 {
		t.Errorf("a curve at half speed: %g m apart", far)
	}
	k, _ := Get("keys")
	for params, says := range map[string]string{`{"from":2}`: "it ends at 1 s", `{"from":0.5,"to":0.5}`: "is not behind", `{"speed":0}`: "speed"} {
		if _, err := k.Apply(t.Context(), s, []byte(params), nil, &Report{}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", params, err)
		}
	}
}

func TestClips(t *testing.T) {
	s := keeper()
	parts, _ := apply(t, "clips", s, map[string]any{"split": []any{
		map[string]any{"motion": "walk", "name": "first", "from": 0, "to": 0.4}, map[string]any{"motion": "walk", "name": "then", "from": 0.4, "to": 5}}})
	if got := motionNames(parts); !slices.Equal(got, []string{"first", "then"}) {
		t.Errorf("%q", got)
	}
	whole, _ := apply(t, "clips", parts, map[string]any{"join": []any{"first", "then"}, "name": "walk"})
	if far := bonesApart(s, &s.Motions[0], whole, &whole.Motions[0], 0, 1, same0); far > 1e-3 || len(whole.Motions) != 1 {
		t.Errorf("apart and together: %g m, %q", far, motionNames(whole))
	}
	k, _ := Get("clips")
	for params, says := range map[string]string{`{"join":["walk"],"name":"x"}`: "two motions", `{"join":["walk","swim"],"name":"x"}`: "no motion", `{"split":[{"motion":"walk","name":"x","from":3,"to":4}]}`: "ends at 1 s", `{"split":[{"motion":"walk","name":"x","from":1,"to":1}]}`: "row 1"} {
		if _, err := k.Apply(t.Context(), s, []byte(params), nil, &Report{}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", params, err)
		}
	}
}

func TestMotionMirror(t *testing.T) {
	s := keeper()
	once, r := apply(t, "motion-mirror", s, map[string]any{})
	for k := range 11 {
		time := float64(k) / 10
		a, b := headsIn(s, &s.Motions[0], time), headsIn(once, &once.Motions[0], time)
		for _, pair := range [][2]string{{"hand_L", "hand_R"}, {"toe_R", "toe_L"}, {"head", "head"}} {
			image := a[pair[0]]
			image[0] = 2*0.5 - image[0] // the figure stands at x = 0.5
			if d := image.Sub(b[pair[1]]).Len(); d > 1e-5 {
				t.Errorf("at %g s %s is %g m from the image of %s: %q", time, pair[1], d, pair[0], r.Lines)
			}
		}
	}
	twice, _ := apply(t, "motion-mirror", once, map[string]any{})
	if far := bonesApart(s, &s.Motions[0], twice, &twice.Motions[0], 0, 1, same0); far > 1e-5 {
		t.Errorf("twice: %g m apart", far)
	}
	both, _ := apply(t, "motion-mirror", s, map[string]any{"keep": true})
	if got := motionNames(both); !slices.Equal(got, []string{"walk", "walk mirrored"}) {
		t.Errorf("%q", got)
	}
}

func TestRootMotion(t *testing.T) {
	s := keeper()
	at := func(s *scene.Scene, bone string, time float64) geom.Vec3 {
		return headsIn(s, &s.Motions[0], time)[bone]
	}
	still, _ := apply(t, "root-motion", s, map[string]any{"to": "in-place"})
	if d := at(still, "pelvis", 1).Sub(at(still, "pelvis", 0)).Len(); d > 1e-5 {
		t.Errorf("in place it goes %g m", d)
	}
	if a, b := at(s, "hand_L", 0.5).Sub(at(s, "pelvis", 0.5)), at(still, "hand_L", 0.5).Sub(at(still, "pelvis", 0.5)); a.Sub(b).Len() > 1e-5 {
		t.Errorf("in place the hand moves otherwise by %g m", a.Sub(b).Len())
	}
	onHips, _ := apply(t, "root-motion", s, map[string]any{"to": "hips"})
	if d := at(onHips, "base", 1).Sub(at(onHips, "base", 0)).Len(); d > 1e-5 {
		t.Errorf("the root goes %g m", d)
	}
	looksAlike(t, "the hips go it", s, onHips, true, 1e-4)
	onRoot, r := apply(t, "root-motion", onHips, map[string]any{"to": "root"})
	if d := at(onRoot, "base", 1).Sub(at(onRoot, "base", 0)); d.Sub(geom.Vec3{0, 0, 1}).Len() > 1e-4 {
		t.Errorf("the root goes %v: %q", d, r.Lines)
	}
	looksAlike(t, "the root goes it", s, onRoot, true, 1e-4)
}

func TestAttach(t *testing.T) {
	s := keeper()
	n := scene.NewNode("lantern")
	n.Translation = [3]float32{1, 0.6, 0.1}
	n.Mesh = len(s.Meshes)
	s.Meshes = append(s.Meshes, scene.Mesh{Name: "lantern", Parts: []scene.Part{box(0, geom.Vec3{}, geom.Vec3{0.1, 0.1, 0.1})}})
	s.Nodes = append(s.Nodes, n)
	thing := where(map[string]any{"node": "lantern"})
	for _, bone := range []string{"hand_R", "rightHand"} {
		out, _ := apply(t, "attach", s, where(map[string]any{"node": "lantern"}, "bone", bone))
		for _, time := range []float64{0, 0.3, 0.5} {
			a := headsIn(out, &out.Motions[0], time)
			d := a["lantern"].Sub(a["hand_R"]).Len()
			rest := headsIn(s, &scene.Motion{}, 0)
			if want := rest["lantern"].Sub(rest["hand_R"]).Len(); math.Abs(d-want) > 1e-5 {
				t.Errorf("on %s at %g s it is %g m from the hand, at rest %g", bone, time, d, want)
			}
		}
		free, _ := apply(t, "attach", out, thing)
		if i := slices.IndexFunc(free.Nodes, func(n scene.Node) bool { return n.Name == "lantern" }); free.Nodes[i].Parent != scene.None {
			t.Error("it is not free")
		}
		still := *free
		still.Motions, s.Motions = nil, s.Motions[:0:0]
		looksAlike(t, "there and back", s, &still, true, 1e-5)
		s.Motions = keeper().Motions
	}
	k, _ := Get("attach")
	if _, err := k.Apply(t.Context(), s, marshal(t, where(map[string]any{"node": "lantern"}, "bone", "tail")), nil, &Report{}); err == nil || !strings.Contains(err.Error(), "no bone") {
		t.Errorf("%v", err)
	}
	if _, r := apply(t, "attach", s, where(map[string]any{"node": "body"}, "bone", "head")); !r.Idle || !strings.Contains(r.Lines[0], "bound by its skin") {
		t.Errorf("%q", r.Lines)
	}
}

// A motion alone goes into a BVH file, and from it to a figure.
func TestMotionAloneAsBVH(t *testing.T) {
	s := keeper()
	s.Nodes[0].Translation = [3]float32{} // the file has no place for what stands above the skeleton
	even, _ := apply(t, "keys", s, map[string]any{"rate": 30})
	alone, _ := apply(t, "motion-only", even, map[string]any{})
	files, _, err := bvh.Write(alone, "walk")
	if err != nil {
		t.Fatal(err)
	}
	read, err := bvh.Read(t.Context(), format.File{Name: "walk.bvh", Data: files[0].Data})
	if err != nil || len(read.Motions) != 1 {
		t.Fatalf("%v, %d motions", err, len(read.Motions))
	}
	if got := len(read.Motions[0].Channels[0].Times); got != 31 {
		t.Errorf("%d frames of 1 s at 30 a second", got)
	}
	bare := *s
	bare.Motions = nil
	out, r := beyondApply(t, "retarget", &bare, only{read}, map[string]any{"from": "walk.bvh", "feet": false})
	tells(t, r.Lines, "1 motion carried over")
	looksAlike(t, "by way of BVH", even, out, false, 2e-3)
}
