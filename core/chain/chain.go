// Package chain keeps an ordered list of steps with their parameters, runs it
// over a scene, and remembers the results: the result of step n is kept under
// the digest of the input and of steps 1 to n, so that changing step 7 of 9
// computes 7 to 9 again and nothing else.
package chain

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode"

	"excavate/core/scene"
	"excavate/core/step"
)

// Chain is a chain document.
type Chain struct {
	Name  string `json:"chain" yaml:"chain"`
	Steps []Step `json:"steps" yaml:"steps"`
}

// Step is one step of a chain.
type Step struct {
	Step string          `json:"step"`
	With json.RawMessage `json:"with,omitempty"` // parameters; what is left out has its default
	Off  bool            `json:"off,omitempty"`
	// Group is what steps in a row are for together; it changes nothing of what
	// they do.
	Group string `json:"group,omitempty"`
}

// MaxGroup is how many bytes the name of a group has at most.
const MaxGroup = 200

// groupSound refuses names of groups that are no line of text.
func groupSound(name string) error {
	if len(name) > MaxGroup || strings.ContainsFunc(name, unicode.IsControl) || strings.TrimSpace(name) != name {
		return fmt.Errorf("the group %.40q is no name: one line of at most %d bytes, without spaces at its ends",
			name, MaxGroup)
	}
	return nil
}

// MaxSteps is the most steps that one chain may have.
const MaxSteps = 200

// Check refuses unknown steps and unsound parameters.
func (c *Chain) Check() error {
	if len(c.Steps) > MaxSteps {
		return fmt.Errorf("chain: %d steps, at most %d", len(c.Steps), MaxSteps)
	}
	for i, s := range c.Steps {
		k, err := step.Get(s.Step)
		if err != nil {
			return fmt.Errorf("chain step %d: %w", i+1, err)
		}
		if err := k.Check(s.With); err != nil {
			return fmt.Errorf("chain step %d: %w", i+1, err)
		}
		if err := groupSound(s.Group); err != nil {
			return fmt.Errorf("chain step %d: %w", i+1, err)
		}
	}
	return nil
}

// Asks lists what the steps that are not switched off take from outside.
func (c *Chain) Asks() (out []step.Ask, err error) {
	for i := range c.Steps {
		k, err := step.Get(c.Steps[i].Step)
		if err != nil {
			return nil, err
		}
		if c.Steps[i].Off {
			continue
		}
		asks, err := k.Asks(c.Steps[i].With)
		if err != nil {
			return nil, err
		}
		out = append(out, asks...)
	}
	return out, nil
}

// Band is the asset's state after a step; band 0 is the asset as found.
type Band struct {
	Key     string       // digest of the input and all steps so far
	Step    *Step        // nil for band 0
	Kind    *step.Kind   // nil for band 0
	Scene   *scene.Scene // nil if the step is off or failed
	Report  step.Report
	Stats   scene.Stats
	Seconds float64 // of computing; 0 if it came from the cache
	Cached  bool
	Err     error // the step failed; later bands have none
}

// Result is what a cache keeps for one step.
type Result struct {
	Scene   *scene.Scene
	Report  step.Report
	Stats   scene.Stats
	Seconds float64
}

// Cache keeps results by key. Both methods may be called from several
// goroutines. A cache may forget.
type Cache interface {
	Get(key string) (*Result, bool)
	Put(key string, r *Result)
}

// Beyond is where steps find what lies outside the scene. Its marks stand in
// the keys of results, so that none is taken for newer than what it came from.
type Beyond interface {
	step.Beyond
	// Mark changes whenever what the ask would get changes.
	Mark(ctx context.Context, a step.Ask) (string, error)
}

// Key is the digest under which the result of a step on a state is kept. b may
// be nil.
func Key(ctx context.Context, before string, s Step, b Beyond) (string, error) {
	k, err := step.Get(s.Step)
	if err != nil {
		return "", err
	}
	var p any
	if len(s.With) > 0 {
		if err := json.Unmarshal(s.With, &p); err != nil {
			return "", err
		}
	}
	params, err := json.Marshal(p) // keys sorted
	if err != nil {
		return "", err
	}
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%s %d\n%s\n", before, k.Name, k.Version, params)
	asks, err := k.Asks(s.With)
	if err != nil {
		return "", err
	}
	for _, a := range asks {
		mark := "none"
		if b != nil {
			if mark, err = b.Mark(ctx, a); err != nil {
				return "", err
			}
		}
		fmt.Fprintf(h, "%q %s\n", a, mark)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Run applies the chain to a scene whose digest is input. It returns a band
// for the find and for every step. A step that fails ends the run: its band
// has the error and is the last. progress, which may be nil, is called before
// each step; cache and outside may be nil too.
func Run(ctx context.Context, input string, s *scene.Scene, c *Chain, outside Beyond, cache Cache, progress func(step int)) ([]Band, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	bands := []Band{{Key: input, Scene: s, Stats: s.Stats()}}
	key, state := input, s
	for i := range c.Steps {
		if err := ctx.Err(); err != nil {
			return bands, err
		}
		if progress != nil {
			progress(i)
		}
		st := &c.Steps[i]
		kind, err := step.Get(st.Step)
		if err != nil {
			return bands, err
		}
		b := Band{Step: st, Kind: kind}
		if st.Off {
			b.Key, b.Stats = key, bands[len(bands)-1].Stats
			bands = append(bands, b)
			continue
		}
		if b.Key, err = Key(ctx, key, *st, outside); err != nil {
			return bands, err
		}
		res, ok := (*Result)(nil), false
		if cache != nil {
			res, ok = cache.Get(b.Key)
		}
		if !ok {
			start := time.Now()
			res = &Result{}
			res.Scene, err = kind.Apply(ctx, state, st.With, beyond(outside), &res.Report)
			if err == nil {
				err = res.Scene.Validate()
			}
			if err != nil {
				if ctx.Err() != nil {
					return bands, ctx.Err()
				}
				b.Err = err
				return append(bands, b), nil
			}
			res.Seconds, res.Stats = time.Since(start).Seconds(), res.Scene.Stats()
			if cache != nil {
				cache.Put(b.Key, res)
			}
		}
		b.Scene, b.Report, b.Stats, b.Seconds, b.Cached = res.Scene, res.Report, res.Stats, res.Seconds, ok
		key, state = b.Key, b.Scene
		bands = append(bands, b)
	}
	return bands, nil
}

// beyond is nil for nil: an interface that holds none is none.
func beyond(b Beyond) step.Beyond {
	if b == nil {
		return nil
	}
	return b
}

// Took lists the pictures that steps took from outside.
func Took(bands []Band) (out []string) {
	for i := range bands {
		out = append(out, bands[i].Report.Took...)
	}
	return out
}

// Last is the newest band that holds a scene.
func Last(bands []Band) *Band {
	for i := len(bands) - 1; i >= 0; i-- {
		if bands[i].Scene != nil {
			return &bands[i]
		}
	}
	return nil
}

// Failed is the first band with an error, or nil.
func Failed(bands []Band) *Band {
	for i := range bands {
		if bands[i].Err != nil {
			return &bands[i]
		}
	}
	return nil
}
