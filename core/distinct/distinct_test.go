package distinct_test

import (
	"fmt"
	"testing"

	"excavate/core/distinct"
)

func TestNames(t *testing.T) {
	var n distinct.Names
	for _, c := range []struct{ wanted, between, want string }{
		{"reed", " ", "reed"}, {"reed", " ", "reed 2"}, {"reed 3", " ", "reed 3"}, {"reed", " ", "reed 4"}, {"reed 3", " ", "reed 3 2"}, {"", "_", ""}, {"", "_", "_2"}, {"reed", "_", "reed_5"},
	} {
		if got := n.Name(c.wanted, c.between); got != c.want {
			t.Errorf("%q: %q, want %q", c.wanted, got, c.want)
		}
	}
}

// Many of one name are tried once each, not all again for each.
func TestNumbers(t *testing.T) {
	n, tries := distinct.Numbers{}, 0
	taken := map[string]bool{"reed 7": true}
	for range 1000 {
		n.Next("reed", func(k int) bool {
			tries++
			name := fmt.Sprintf("reed %d", k)
			if taken[name] {
				return false
			}
			taken[name] = true
			return true
		})
	}
	if tries != 1001 || len(taken) != 1001 {
		t.Errorf("%d tries for %d names", tries, len(taken))
	}
}

func BenchmarkOneName(b *testing.B) {
	var n distinct.Names
	for range b.N {
		n.Name("reed", "~")
	}
}
