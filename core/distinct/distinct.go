// Package distinct numbers names that are wanted more than once. Of a million
// things of one name each costs as much as the second.
package distinct

import "fmt"

// Numbers remembers for each name which number to try next.
type Numbers map[string]int

// Next tries the numbers from 2 on for a name that is taken, those not again
// that it tried before, until take accepts one.
func (n Numbers) Next(name string, take func(k int) bool) {
	for k := max(2, n[name]); ; k++ {
		if take(k) {
			n[name] = k + 1
			return
		}
	}
}

// Names gives out names, none twice.
type Names struct {
	taken   map[string]bool
	numbers Numbers
}

// Name is the wanted name, or where that is taken the first that is not of it
// with a number; between stands before the number.
func (n *Names) Name(wanted, between string) string {
	if n.taken == nil {
		n.taken, n.numbers = map[string]bool{}, Numbers{}
	}
	out := wanted
	if n.taken[out] {
		n.numbers.Next(wanted, func(k int) bool {
			out = fmt.Sprintf("%s%s%d", wanted, between, k)
			return !n.taken[out]
		})
	}
	n.taken[out] = true
	return out
}
