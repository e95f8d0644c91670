package chain

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
)

type memory struct {
	mu   sync.Mutex
	m    map[string]*Result
	puts int
}

func (c *memory) Get(k string) (*Result, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	r, ok := c.m[k]
	return r, ok
}

func (c *memory) Put(k string, r *Result) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.m[k] = r
	c.puts++
}

func box() *scene.Scene {
	s := &scene.Scene{Name: "box", Basis: geom.Basis{Up: geom.PlusZ, Front: geom.MinusY, Handed: geom.Right, MetresPerUnit: 0.01}}
	n := scene.NewNode("b#x")
	n.Mesh = 0
	cam := scene.NewNode("cam")
	cam.Camera = 0
	s.Nodes, s.Cameras = []scene.Node{n, cam}, []scene.Camera{{FovY: 1, Near: 1}}
	s.Meshes = []scene.Mesh{{Name: "b", Parts: []scene.Part{{Material: scene.None, Positions: []float32{0, 0, 50, 100, 0, 50, 0, 100, 50, 0, 0, 50}, Triangles: []uint32{0, 1, 2, 3, 1, 2}}}}}
	return s
}

const doc = `chain: test
steps:
  - step: strip
  - step: basis
    with: {up: +Y, front: +Z, handedness: right, unit: 1}
  - step: ground
  - step: weld
    with: {distance: 0.001}
  - step: rename
    with: {what: nodes, rules: [{find: "#", replace: _}]}
`

func TestOnlyWhatChangedIsComputedAgain(t *testing.T) {
	c, err := Parse([]byte(doc))
	if err != nil {
		t.Fatal(err)
	}
	cache := &memory{m: map[string]*Result{}}
	run := func() []Band {
		b, err := Run(context.Background(), "in", box(), c, nil, cache, nil)
		if err != nil {
			t.Fatal(err)
		}
		if f := Failed(b); f != nil {
			t.Fatal(f.Err)
		}
		return b
	}
	first := run()
	if cache.puts != 5 || len(first) != 6 {
		t.Fatalf("%d results of %d bands", cache.puts, len(first))
	}
	run()
	if cache.puts != 5 {
		t.Errorf("the same run computes %d results again", cache.puts-5)
	}
	c.Steps[3].With = []byte(`{"distance": 0.01}`)
	again := run()
	if cache.puts != 7 { // weld and rename
		t.Errorf("changing step 4 computes %d steps, want 2", cache.puts-5)
	}
	for i, want := range []bool{false, true, true, true, false, false} {
		if again[i].Cached != want {
			t.Errorf("band %d: from the cache %v, want %v", i, again[i].Cached, want)
		}
	}
	// Switching a step off is another chain; on again, all is there.
	c.Steps[2].Off = true
	off := run()
	if off[3].Scene != nil || off[4].Cached || Last(off).Stats.Min[1] == 0 {
		t.Error("a step that is switched off still works")
	}
	n := cache.puts
	c.Steps[2].Off = false
	if run(); cache.puts != n {
		t.Error("switching it on again computes anew")
	}
	last := Last(first)
	if last.Stats.Vertices != 3 || last.Stats.Cameras != 0 || last.Scene.Nodes[0].Name != "b_x" || *last.Stats.Height != 0 || last.Stats.Size[0] != 1 {
		t.Errorf("the end state is %+v", last.Stats)
	}
}

func TestKeysTellParametersApart(t *testing.T) {
	a, _ := Key(context.Background(), "x", Step{Step: "weld", With: []byte(`{"distance": 1, "angle": 2}`)}, nil)
	b, _ := Key(context.Background(), "x", Step{Step: "weld", With: []byte(`{"angle":2,"distance":1}`)}, nil)
	c, _ := Key(context.Background(), "x", Step{Step: "weld", With: []byte(`{"angle":2,"distance":3}`)}, nil)
	d, _ := Key(context.Background(), "y", Step{Step: "weld", With: []byte(`{"angle":2,"distance":1}`)}, nil)
	if a != b || a == c || a == d {
		t.Error("keys do not follow the parameters")
	}
}

func TestYAMLRoundTrip(t *testing.T) {
	c, err := Parse([]byte(doc))
	if err != nil {
		t.Fatal(err)
	}
	c.Steps[1].Off = true
	b, err := c.YAML()
	if err != nil {
		t.Fatal(err)
	}
	d, err := Parse(b)
	if err != nil {
		t.Fatalf("%v in\n%s", err, b)
	}
	for i := range c.Steps {
		x, _ := Key(context.Background(), "k", c.Steps[i], nil)
		y, _ := Key(context.Background(), "k", d.Steps[i], nil)
		if x != y || c.Steps[i].Off != d.Steps[i].Off {
			t.Errorf("step %d changed on the way: %s", i, b)
		}
	}
}

func TestBadDocuments(t *testing.T) {
	for name, c := range map[string][2]string{
		"step":      {"step: ground", `step 3: [6:11] there is no step "dig" here; there are alpha, atlas, attach, bake-pose`},
		"parameter": {"{distance: 0.001}", `step 4: weld: [8:12] there is no parameter "distanze" here; "distance" is probably meant`},
		"key":       {"chain: test", `[1:1] there is no key "chian" here; "chain" is probably meant`},
	} {
		text := strings.Replace(doc, c[0], map[string]string{"step": "step: dig", "parameter": "{distanze: 1}", "key": "chian: test"}[name], 1)
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), c[1]) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for doc, want := range map[string]string{
		"chain: x\nsteps:\n  - step: weld\n    with: {distance: -1}\n":                                       "[4:22] -1 is too small",
		"chain: x\nsteps:\n  - step: weld\n    with: {distance: near}\n":                                     `[4:22] a number is wanted here, not the text "near"`,
		"chain: x\nsteps:\n  - step: weld\n    with: {distance: 1,5}\n":                                      `[4:24] there is no parameter "5" here`,
		"chain: x\nsteps:\n  - step: weld\n    with: 3\n":                                                    "[4:11] a mapping is wanted here, not 3",
		"chain: x\nsteps:\n  - step: strip\n    with: {cameras: maybe}\n":                                    "[4:21] true or false is wanted here",
		"chain: x\nsteps:\n  - step: basis\n    with: {up: Y}\n":                                             "[4:16] the text \"Y\" does not fit here; write one of +X",
		"chain: x\nsteps:\n  - step: basis\n    with: {up: +Y}\n":                                            "[4:12] parameters of basis: up is given without front, handedness, unit",
		"chain: x\nsteps:\n  - step: basis\n    with: {up: +Y, front: +Z, handedness: right, unit: 1e300}\n": "too large",
		"chain: x\n":           "no steps",
		"chain: x\nsteps:\n":   "no steps",
		"steps: weld\n":        "[1:8] a list is wanted here",
		"steps: [weld]\n":      "[1:9] a mapping is wanted here",
		"steps: [{off: true}]": "the key step",
	} {
		if _, err := Parse([]byte(doc)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", doc, err, want)
		}
	}
}

func TestAStepThatFailsEndsTheRun(t *testing.T) {
	c := &Chain{Steps: []Step{{Step: "basis"}, {Step: "weld"}}}
	s := box()
	s.Basis = geom.Basis{}
	b, err := Run(context.Background(), "in", s, c, nil, nil, nil)
	if err != nil || len(b) != 2 || b[1].Err == nil || Failed(b) != &b[1] {
		t.Errorf("%d bands, %v", len(b), err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Run(ctx, "in", box(), c, nil, nil, nil); err != context.Canceled {
		t.Errorf("a cancelled run gives %v", err)
	}
}

// A group is kept with its steps, changes no result, and is a line of text.
func TestGroups(t *testing.T) {
	doc := "chain: grouped\nsteps:\n  - {step: strip, group: Take out}\n  - {step: ground, group: \"%s\"}\n"
	c, err := Parse(fmt.Appendf(nil, doc, "Take out"))
	if err != nil {
		t.Fatal(err)
	}
	text, err := c.YAML()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse(text)
	if err != nil || again.Steps[0].Group != "Take out" || again.Steps[1].Group != "Take out" {
		t.Errorf("%v: %s", err, text)
	}
	plain := c.Steps[1]
	plain.Group = ""
	a, err := Key(t.Context(), "x", c.Steps[1], nil)
	if b, err2 := Key(t.Context(), "x", plain, nil); err != nil || err2 != nil || a != b {
		t.Errorf("keys %s and %s", a, b)
	}
	for _, bad := range []string{" Take out", strings.Repeat("x", MaxGroup+1), `a\nb`} {
		if _, err := Parse(fmt.Appendf(nil, doc, bad)); err == nil || !strings.Contains(err.Error(), "[4:27]") || !strings.Contains(err.Error(), "is no name") {
			t.Errorf("%.20q: %v", bad, err)
		}
	}
}
