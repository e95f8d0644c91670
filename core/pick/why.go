package pick

import (
	"fmt"
	"slices"
	"strings"

	"excavate/core/scene"
)

// Why says which condition of a rule leaves nothing, for a rule that takes
// nothing: its conditions are added one at a time.
func Why(s *scene.Scene, r *Rule) string {
	if r.Empty() {
		return "there is nothing"
	}
	var sofar Rule
	for _, c := range []struct {
		given bool
		what  string
		add   func()
	}{
		{len(r.Node) > 0, "no node is named " + or(r.Node), func() { sofar.Node = r.Node }},
		{len(r.Under) > 0, "nothing lies under a node named " + or(r.Under), func() { sofar.Under = r.Under }},
		{len(r.Kind) > 0, "nothing is a " + or(r.Kind), func() { sofar.Kind = r.Kind }},
		{len(r.Props) > 0, "no node says " + props(r.Props), func() { sofar.Props = r.Props }},
		{len(r.Material) > 0, "no material is named " + or(r.Material), func() { sofar.Material = r.Material }},
		{len(r.Picture) > 0, "no picture is named " + or(r.Picture), func() { sofar.Picture = r.Picture }},
		{r.If != "", "nothing fulfils " + r.If, func() { sofar.If = r.If }},
		{r.Loose != nil, "no loose piece is that small", func() { sofar.Loose = r.Loose }},
		{r.Not != nil, "what is excepted is all of it", func() { sofar.Not = r.Not }},
	} {
		if !c.given {
			continue
		}
		first := sofar.Empty()
		c.add()
		if ch, err := Of(s, &sofar); err == nil && ch.None() {
			if first {
				return c.what
			}
			return "of what the other conditions take, " + c.what
		}
	}
	return "nothing fits"
}

func or[T ~string](list []T) string {
	out := make([]string, len(list))
	for i := range list {
		out[i] = string(list[i])
	}
	return strings.Join(out, " or ")
}

func props(m map[string]Globs) string {
	var out []string
	for k, g := range m {
		out = append(out, fmt.Sprintf("%s: %s", k, or(g)))
	}
	slices.Sort(out)
	return strings.Join(out, " and ")
}
