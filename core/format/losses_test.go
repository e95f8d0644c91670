package format_test

import (
	"fmt"
	"testing"

	"excavate/core/format"
)

func TestLosses(t *testing.T) {
	var l format.Losses
	if n := l.Notes(); n != nil {
		t.Errorf("nothing lost: %v", n)
	}
	for _, k := range []string{"lamp", "bell", "lamp", "lamp"} {
		l.Lose("%s left out", k)
	}
	got := ""
	for _, n := range l.Notes() {
		got += fmt.Sprint(n.Text, " ", n.Loss, "; ")
	}
	if got != "lamp left out (3 times) true; bell left out true; " {
		t.Error(got)
	}
}
