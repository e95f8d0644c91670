package chain

import (
	"context"
	"testing"
	"time"
)

func FuzzParse(f *testing.F) {
	f.Add(doc)
	f.Add("chain: x\nsteps:\n  - step: rename\n    with: {what: bones, rules: [{find: a, replace: b}]}\n    off: true\n")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Parse([]byte(text))
		if err != nil {
			return
		}
		// What was accepted can be written, read again, and run.
		b, err := c.YAML()
		if err != nil {
			t.Fatal(err)
		}
		d, err := Parse(b)
		if err != nil || len(d.Steps) != len(c.Steps) {
			t.Fatalf("%v in %s", err, b)
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		bands, err := Run(ctx, "x", box(), c, nil, nil, nil)
		if err != nil && ctx.Err() == nil {
			t.Fatal(err)
		}
		for _, b := range bands {
			if b.Scene != nil {
				if err := b.Scene.Validate(); err != nil {
					t.Fatal(err)
				}
			}
		}
	})
}
