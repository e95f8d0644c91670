package format

import (
	"fmt"
	"slices"

	"excavate/core/scene"
)

// Losses gathers what a reader leaves out, the same thing once with its count.
// The zero value is ready.
type Losses struct {
	counts map[string]int
	order  []string
	told   []string
}

// Tell notes something that nothing is lost by, once.
func (l *Losses) Tell(msg string) {
	if !slices.Contains(l.told, msg) {
		l.told = append(l.told, msg)
	}
}

// Lose notes a thing that is left out.
func (l *Losses) Lose(msg string, a ...any) {
	t := fmt.Sprintf(msg, a...)
	if l.counts == nil {
		l.counts = map[string]int{}
	}
	if l.counts[t] == 0 {
		l.order = append(l.order, t)
	}
	l.counts[t]++
}

// Notes are the losses in the order in which they came up first.
func (l *Losses) Notes() (out []scene.Note) {
	for _, t := range l.order {
		n := scene.Note{Text: t, Loss: true}
		if c := l.counts[t]; c > 1 {
			n.Text = fmt.Sprintf("%s (%d times)", t, c)
		}
		out = append(out, n)
	}
	for _, t := range l.told {
		out = append(out, scene.Note{Text: t})
	}
	return out
}

// Counted is a number of things: "1 point", "2 points".
func Counted(n int, one, many string) string {
	if n == 1 {
		many = one
	}
	return fmt.Sprintf("%d %s", n, many)
}
