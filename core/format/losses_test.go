package format_test

import (
	"fmt"
	"testing"

	"excavate/core/format"
)

// The same loss is one note with its count, in the order in which they came.
func TestLosses(t *testing.T) {
	var l format.Losses
	if l.Notes() != nil {
		t.Error(l.Notes())
	}
	for i := range 3 {
		l.Lose("a rope was left out")
		if i == 1 {
			l.Lose("the plank %q was left out", "oak")
		}
	}
	got := ""
	for _, n := range l.Notes() {
		got += fmt.Sprintf("%s %v; ", n.Text, n.Loss)
	}
	if got != `a rope was left out (3 times) true; the plank "oak" was left out true; ` {
		t.Error(got)
	}
	for n, want := range map[int]string{0: "0 points", 1: "1 point", 2: "2 points"} {
		if got := format.Counted(n, "point", "points"); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
