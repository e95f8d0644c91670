package api_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/internal/api"
)

// chainOf makes a chain for a find.
func (c *client) chainOf(path string, find int64, name, document string) api.Chain {
	c.t.Helper()
	return call[api.Chain](c, "POST", path+"/chains", map[string]any{"find": find, "name": name, "document": document})
}

// last is the newest band of a chain, once no band waits.
func (c *client) last(chain api.Chain) (b api.Band) {
	c.t.Helper()
	c.until("the run of "+chain.Name, func() bool {
		list := call[api.CoreSample](c, "GET", fmt.Sprintf("/api/chains/%d/bands", chain.Id), nil)
		b = list.Bands[len(list.Bands)-1]
		return !list.Running && b.State != "waiting"
	})
	return b
}

// A step takes what another chain ends with, and follows when that one changes.
func TestAChainTakesTheEndOfAnother(t *testing.T) {
	c := start(t)
	id, path := c.project("Sedgewater")
	for _, n := range []string{"hulls.tide", "washes.tide"} {
		c.addSource(id, n)
	}
	find := func(q string) int64 {
		return call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": c.entries(path, "q="+q).Entries[0].Id}).Id
	}
	punt, keeper := find("punt.hull"), find("ferry_keeper.hull")
	c.finds(path)
	hull := c.chainOf(path, punt, "hull", "chain: hull\nsteps:\n  - {step: strip, with: {where: {kind: mesh}}}\n")
	boarded := c.chainOf(path, keeper, "boarded", "chain: boarded\nsteps:\n  - {step: bring-in, with: {from: \"chain: hull\"}}\n")
	again := c.chainOf(path, keeper, "again", "chain: again\nsteps:\n  - {step: bring-in, with: {from: \"chain: boarded\"}}\n")
	alone := c.last(c.chainOf(path, keeper, "alone", "chain: alone\nsteps:\n  - {step: ground}\n")).Stats.Triangles
	whole := c.last(c.chainOf(path, punt, "whole", "chain: whole\nsteps:\n  - {step: ground}\n")).Stats.Triangles
	if n := c.last(boarded).Stats.Triangles; n != alone {
		t.Errorf("with nothing of the hull: %d triangles, alone %d", n, alone)
	}
	// The hull has all of its triangles now: both chains after it follow.
	call[api.Chain](c, "PUT", fmt.Sprintf("/api/chains/%d/steps", hull.Id), map[string]any{"revision": hull.Revision, "steps": []any{map[string]any{"step": "scale", "with": map[string]any{"factor": 2}}}})
	if n := c.last(boarded).Stats.Triangles; n != alone+whole {
		t.Errorf("with the hull: %d triangles, of %d and %d", n, alone, whole)
	}
	if n := c.last(again).Stats.Triangles; n != 2*alone+whole {
		t.Errorf("with both: %d triangles", n)
	}
	// A delivery says where the other chain's asset came from.
	d := call[api.Delivery](c, "POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true", boarded.Id), nil)
	c.until("the delivery", func() bool {
		d = call[[]api.Delivery](c, "GET", path+"/deliveries", nil)[0]
		return d.State != "making"
	})
	if manifest := fmt.Sprint(d.Manifest); d.State != "ready" || !strings.Contains(manifest, "punt.hull") {
		t.Errorf("%s: %.900s", d.State, manifest)
	}
	for from, says := range map[string]string{"chain: boarded": `the chain "boarded" leads back to itself`, "chain: nowhere": `there is no chain "nowhere"`} {
		ch := call[api.Chain](c, "GET", fmt.Sprintf("/api/chains/%d", hull.Id), nil)
		call[api.Chain](c, "PUT", fmt.Sprintf("/api/chains/%d/steps", hull.Id), map[string]any{"revision": ch.Revision, "steps": []any{map[string]any{"step": "bring-in", "with": map[string]any{"from": from}}}})
		if b := c.last(ch); b.State != "failed" || b.Error == nil || !strings.Contains(*b.Error, says) {
			t.Errorf("%s: %s %+v", from, b.State, b.Error)
		}
	}
	c.chainOf(path, keeper, "alone", "chain: alone\nsteps:\n  - {step: ground}\n")
	two := c.chainOf(path, keeper, "two", "chain: two\nsteps:\n  - {step: bring-in, with: {from: \"chain: alone\"}}\n")
	if b := c.last(two); b.State != "failed" || !strings.Contains(*b.Error, `2 chains are called "alone"`) {
		t.Errorf("%s %+v", b.State, b.Error)
	}
}

// A document of an assembly names paths: one that another source hides would
// be that one's model.
func TestAnAssemblyOfWhatIsHidden(t *testing.T) {
	c := start(t)
	id, path := c.project("Sedgewater")
	for i, name := range []string{"shore", "pier"} {
		dir := filepath.Join(c.lib, name)
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		text := fmt.Sprintf("o post\nv 0 0 0\nv %d 0 0\nv 0 1 0\nf 1 2 3\n", i+1)
		for _, file := range []string{"post.obj", name + ".obj"} {
			if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		c.addSource(id, name)
	}
	ids := map[string]int64{}
	for _, e := range c.entries(path, "q=*.obj").Entries {
		ids[fmt.Sprintf("%s/%s", e.SourceLabel, e.Path)] = call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": e.Id}).Id
	}
	c.finds(path)
	together := func(names ...string) (int, string) {
		var finds []int64
		for _, n := range names {
			finds = append(finds, ids[n])
		}
		status, b := c.do("POST", path+"/assemblies", map[string]any{"name": "shore and pier", "finds": finds})
		return status, string(b)
	}
	if status, b := together("shore/post.obj", "pier/pier.obj"); status >= 300 {
		t.Errorf("%d %s", status, b)
	}
	if status, b := together("pier/pier.obj", "pier/post.obj"); status != 422 || !strings.Contains(b, "post.obj of pier is hidden by the one of shore") {
		t.Errorf("%d %s", status, b)
	}
}
