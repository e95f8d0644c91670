package chain

import (
	"testing"

	"excavate/core/step"
)

func TestOrder(t *testing.T) {
	for _, c := range []struct {
		steps []Step
		step  int // out of order; -1 for none
		after int
	}{
		{[]Step{{Step: "normals"}, {Step: "mirror"}}, 0, 1},
		{[]Step{{Step: "mirror"}, {Step: "normals"}}, -1, 0},
		{[]Step{{Step: "tangents"}, {Step: "share"}, {Step: "weld"}, {Step: "normals"}}, 0, 3},
		{[]Step{{Step: "tangents"}, {Step: "weld", Off: true}}, -1, 0},
		{[]Step{{Step: "tangents", Off: true}, {Step: "weld"}}, -1, 0},
		{[]Step{{Step: "atlas"}, {Step: "alpha"}}, 0, 1},
		{[]Step{{Step: "alpha"}, {Step: "channels", With: []byte(`{"into": "a"}`)}}, 0, 1},
		{[]Step{{Step: "alpha"}, {Step: "channels", With: []byte(`{"order": "bgr"}`)}}, -1, 0},
		{[]Step{{Step: "colliders"}, {Step: "reduce"}}, -1, 0},
		{[]Step{{Step: "colliders", With: []byte(`{"shape": "hull"}`)}, {Step: "reduce"}}, 0, 1},
		{[]Step{{Step: "scale", With: []byte(`{"height": 2}`)}, {Step: "strip"}}, 0, 1},
	} {
		doc := &Chain{Steps: c.steps}
		got := doc.Order()
		if c.step < 0 {
			if len(got) > 0 {
				t.Errorf("%v: %+v", c.steps, got)
			}
			continue
		}
		if len(got) != 1 || got[0].Step != c.step || got[0].After != c.after || got[0].Why == "" {
			t.Errorf("%v: %+v", c.steps, got)
			continue
		}
		// Where it is moved to, nothing objects.
		moved := []Step{}
		for i, s := range c.steps {
			if i != c.step {
				moved = append(moved, s)
			}
			if i == c.after {
				moved = append(moved, c.steps[c.step])
			}
		}
		if left := (&Chain{Steps: moved}).Order(); len(left) > 0 {
			t.Errorf("moved: %+v", left)
		}
	}
}

// The table names steps that there are, and never two each behind the other.
func TestOrderIsSound(t *testing.T) {
	for _, a := range belongs {
		for _, name := range []string{a.step, a.after} {
			if _, err := step.Get(name); err != nil {
				t.Error(err)
			}
		}
		for _, b := range belongs {
			if a.step == b.after && a.after == b.step {
				t.Errorf("%s and %s each belong behind the other", a.step, a.after)
			}
		}
	}
}
