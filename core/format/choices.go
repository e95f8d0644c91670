package format

import (
	"cmp"
	"slices"

	"excavate/core/parallel"
	"excavate/core/scene"
)

// Choice is a format that a scene may be written in, and what becomes of the
// scene there.
type Choice struct {
	Writer  *Writer
	Notes   []scene.Note
	Losses  int    // notes that tell of something that is left out
	Refused string // why the scene cannot be written so
}

// Choices writes a scene in every format, without keeping the files, and orders
// the formats by how much they keep: those that leave least out first, those
// that refuse it last, equals as they stand in the list.
func (ws Writers) Choices(s *scene.Scene, name string) []Choice {
	out := make([]Choice, len(ws))
	parallel.Share(len(ws), 1, func(from, to int) {
		for i := from; i < to; i++ {
			out[i] = ws.choice(i, s, name)
		}
	})
	slices.SortStableFunc(out, func(a, b Choice) int {
		if (a.Refused == "") != (b.Refused == "") {
			return cmp.Compare(a.Refused, b.Refused)
		}
		return cmp.Compare(a.Losses, b.Losses)
	})
	return out
}

func (ws Writers) choice(i int, s *scene.Scene, name string) Choice {
	c := Choice{Writer: &ws[i]}
	var err error
	if _, c.Notes, err = ws[i].Write(s, name); err != nil {
		c.Refused = err.Error()
	}
	for _, n := range c.Notes {
		if n.Loss {
			c.Losses++
		}
	}
	return c
}
