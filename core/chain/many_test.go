package chain

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"excavate/core/scene"
	"excavate/core/step"
)

func TestMany(t *testing.T) {
	var m Many
	k, err := step.Get("weld")
	if err != nil {
		t.Fatal(err)
	}
	add := func(name string, before, after int, fault error, losses ...string) {
		bands := []Band{{Stats: scene.Stats{Vertices: before}}, {Step: &Step{Step: "weld"}, Kind: k, Scene: &scene.Scene{}, Stats: scene.Stats{Vertices: after},
			Report: step.Report{Losses: losses, Idle: before == after}, Err: fault}}
		if fault != nil {
			bands[1].Scene = nil
		}
		m.Add(name, bands)
	}
	for i := range 20 {
		add(fmt.Sprintf("house %d", i), 1000, 970-i%3, nil)
	}
	add("jetty", 1000, 590, nil)
	add("boat", 1000, 1000, nil)
	add("mill", 1000, 0, errors.New("a part has no vertices"))
	add("crane", 1000, 969, nil, "3 triangles without area")
	r := m.Rows()
	if len(r) != 1 || r[0].States["done"] != 21 || r[0].States["idle"] != 1 || r[0].States["failed"] != 1 || r[0].States["lost"] != 1 || r[0].Share > -0.02 || r[0].Share < -0.04 {
		t.Errorf("%+v", r)
	}
	odd := m.Odd()
	var said []string
	for _, o := range odd {
		said = append(said, o.Asset+": "+o.Says)
	}
	got := strings.Join(said, "\n")
	if got != "mill: a part has no vertices\njetty: -41% here, -3% elsewhere\ncrane: lost: 3 triangles without area" {
		t.Errorf("%s", got)
	}
}
