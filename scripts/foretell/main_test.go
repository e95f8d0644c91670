package main

import (
	"bytes"
	"regexp"
	"testing"
)

// What receivers object to is foretold: 99% of it, with at most 2% of false
// alarms; and there is something to foretell for every way to spoil an asset.
func TestObjectionsAreForetold(t *testing.T) {
	r, err := run(200, 1)
	if err != nil {
		t.Fatal(err)
	}
	if got := share(r.all.both, r.all.happened); got < 99 || r.all.happened < 100 {
		t.Errorf("%.1f%% of %d objections are foretold:\n%v", got, r.all.happened, r.all.differ)
	}
	if got := share(r.all.falsely(), r.all.foretold); got > 2 {
		t.Errorf("%.1f%% are false alarms:\n%v", got, r.all.differ)
	}
	if len(r.by) < len(damages)-2 {
		t.Errorf("assets were spoilt in %d of %d ways", len(r.by), len(damages))
	}
	if x := r.by["nothing"]; x == nil || x.happened+x.foretold > 0 {
		t.Errorf("what is sound is objected to: %+v", x)
	}
	silent := 0
	for name, x := range r.by {
		if x.happened == 0 && name != "nothing" && name != "weights of a half" { // written as one
			silent++
			t.Logf("%s: no receiver objects", name)
		}
	}
	if silent > 0 {
		t.Errorf("%d ways to spoil an asset are no objection anywhere", silent)
	}
	var b bytes.Buffer
	r.print(&b, false)
	if !regexp.MustCompile(`\n\d+\.\d% foretold, \d+\.\d% false alarms\n$`).Match(b.Bytes()) {
		t.Errorf("%s", b.String())
	}
}
