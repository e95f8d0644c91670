package layout

import "fmt"

// Reading is a choice that the bytes leave open, such as whether four bytes
// of a vertex are its colour or its normal. Formulas see the choice by name.
type Reading struct {
	Name    string
	About   string
	Choices []string // the first is meant unless another is chosen
}

type reading struct {
	Reading
	name      string
	line, col int
}

func (c *compiler) readingList(n *node) {
	for _, p := range n.pairs {
		c.keys(p.value, "choices", "about")
		if c.err != nil {
			return
		}
		x := reading{name: p.key, line: p.line, col: p.col, Reading: Reading{Name: p.key, About: c.optional(p.value, "about", "")}}
		if builtins[p.key] != nil || universe[p.key] || p.key == "file_size" || p.key == "file_name" || p.key == "here" {
			c.fail(p.value, "the name %q is taken", p.key)
		}
		if v := c.need(p.value, "choices"); v != nil {
			for _, it := range v.items {
				x.Choices = append(x.Choices, c.word(it))
			}
			if len(x.Choices) < 2 || len(x.Choices) > 32 {
				c.fail(v, "a reading has 2 to 32 choices, as a list of words")
			}
		}
		c.readings = append(c.readings, x)
	}
}

func (x *reading) chosen(r *run) (val, error) {
	want, ok := r.around.Readings[x.name]
	if !ok {
		return strVal(x.Choices[0]), nil
	}
	for _, k := range x.Choices {
		if k == want {
			return strVal(k), nil
		}
	}
	return val{}, r.errorAt(x.line, x.col, fmt.Errorf("%s is %q, and the layout knows only %v", x.name, want, x.Choices))
}

// Readings lists the choices that the layout leaves to the porter.
func (l *Layout) Readings() []Reading {
	out := make([]Reading, len(l.readings))
	for i := range out {
		out[i] = l.readings[i].Reading
	}
	return out
}
