// Package step holds the steps of a chain, one file each. A step takes a
// scene and parameters and makes a new scene; it never changes the one it was
// given. A file registers its step, so adding one touches no other file.
package step

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"

	"excavate/core/document"
	"excavate/core/scene"

	"github.com/invopop/jsonschema"
)

// Family is the kind of thing that a step changes. The interface shows it as
// the hatching of the step's band.
type Family string

// The families.
const (
	Clean    Family = "clean"
	Basis    Family = "basis"
	Geometry Family = "geometry"
	Material Family = "material"
	Rig      Family = "rig"
)

// Thing is what a step acts on.
type Thing string

// The things.
const (
	Nodes     Thing = "nodes"
	Parts     Thing = "parts"
	Materials Thing = "materials"
	Pictures  Thing = "pictures"
)

// Report is what a step says about its work, in a porter's words.
type Report struct {
	Lines  []string `json:"lines"`          // what it did, shortest first
	Losses []string `json:"losses"`         // what is gone and was not asked to go
	Idle   bool     `json:"idle"`           // it found nothing to do
	Took   []string `json:"took,omitempty"` // pictures from beyond that something was made of, as "source: path"
}

// Say adds a line.
func (r *Report) Say(f string, a ...any) { r.Lines = append(r.Lines, fmt.Sprintf(f, a...)) }

// Lose adds a loss.
func (r *Report) Lose(f string, a ...any) { r.Losses = append(r.Losses, fmt.Sprintf(f, a...)) }

// Nothing says that there was nothing to do, and why.
func (r *Report) Nothing(f string, a ...any) {
	r.Idle = true
	r.Say(f, a...)
}

// Kind is one kind of step.
type Kind struct {
	Name    string // as in chain documents
	Title   string
	Purpose string // one sentence
	Family  Family
	On      Thing           // what a rule chooses for it; empty for steps on the whole scene
	Version int             // rises when the same parameters give another result
	Schema  json.RawMessage // JSON Schema of the parameters, with defaults
	Order   []string        // the parameters in the order in which they are declared
	check   func(params json.RawMessage) error
	asks    func(params json.RawMessage) ([]Ask, error)
	apply   func(ctx context.Context, s *scene.Scene, params json.RawMessage, b Beyond, r *Report) (*scene.Scene, error)
}

// Check refuses parameters that the step cannot work with.
func (k *Kind) Check(params json.RawMessage) error { return k.check(params) }

// Asks lists what the step takes from outside the scene.
func (k *Kind) Asks(params json.RawMessage) ([]Ask, error) { return k.asks(params) }

// Apply runs the step. What it takes from outside the scene comes from b,
// which may be nil where nothing does.
func (k *Kind) Apply(ctx context.Context, s *scene.Scene, params json.RawMessage, b Beyond, r *Report) (*scene.Scene, error) {
	if b == nil {
		b = Nowhere{}
	}
	out, err := k.apply(ctx, s, params, b, r)
	if err != nil {
		return nil, fmt.Errorf("step %s: %w", k.Name, err)
	}
	return withoutOldVolumes(out, r), nil
}

// withoutOldVolumes takes volumes out whose surfaces a step has moved or cut: they
// say no more what is shown.
func withoutOldVolumes(out *scene.Scene, r *Report) *scene.Scene {
	ended, copied := 0, false
	for i := range out.Meshes {
		if out.Meshes[i].Volume == nil || out.Meshes[i].Voxels() != nil {
			continue
		}
		if !copied {
			c := *out
			c.Meshes, out, copied = slices.Clone(out.Meshes), &c, true
		}
		out.Meshes[i].Volume = nil
		ended++
	}
	if ended > 0 {
		r.Lose("the voxels of %s: their surface is another now, and steps on voxels go before this one",
			count(ended, "mesh", "meshes"))
	}
	return out
}

var kinds = map[string]*Kind{}

// All lists every kind of step by name.
func All() []*Kind {
	out := make([]*Kind, 0, len(kinds))
	for _, k := range kinds {
		out = append(out, k)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// Get returns a kind by name.
func Get(name string) (*Kind, error) {
	if k, ok := kinds[name]; ok {
		return k, nil
	}
	var names []string
	for _, k := range All() {
		names = append(names, k.Name)
	}
	return nil, fmt.Errorf("there is no step %q; there are %s", name, strings.Join(names, ", "))
}

// validator is implemented by parameters that JSON types alone do not bound.
type validator interface{ Validate() error }

// joint is implemented by parameters of which some mean something only
// together: all of them are given, or none, which leaves the defaults.
type joint interface{ together() []string }

// halves refuses parameters that are given without those that belong to them.
func halves(params json.RawMessage, names []string) error {
	var given map[string]json.RawMessage
	if err := json.Unmarshal(params, &given); err != nil {
		return err
	}
	var there, gone []string
	for _, n := range names {
		if _, ok := given[n]; ok {
			there = append(there, n)
		} else {
			gone = append(gone, n)
		}
	}
	if len(there) == 0 || len(gone) == 0 {
		return nil
	}
	verb := "is"
	if len(there) > 1 {
		verb = "are"
	}
	return fmt.Errorf("%s %s given without %s; give all of them, or none",
		strings.Join(there, ", "), verb, strings.Join(gone, ", "))
}

// register adds a kind whose parameters are P, with defaults, and that works on
// the scene alone.
func register[P any](k Kind, defaults P, apply func(context.Context, *scene.Scene, P, *Report) (*scene.Scene, error)) *Kind {
	return registerBeyond(k, defaults, func(ctx context.Context, s *scene.Scene, p P, _ Beyond, r *Report) (*scene.Scene, error) {
		return apply(ctx, s, p, r)
	})
}

// registerBeyond adds a kind that also takes from outside the scene. Its
// parameters say what: they are an asker.
func registerBeyond[P any](k Kind, defaults P, apply func(context.Context, *scene.Scene, P, Beyond, *Report) (*scene.Scene, error)) *Kind {
	read := func(params json.RawMessage) (P, error) {
		p := defaults
		if len(params) == 0 || string(params) == "null" {
			return p, nil
		}
		if err := document.AgainstJSON(params, k.Schema); err != nil {
			return p, fmt.Errorf("parameters of %s: %w", k.Name, err)
		}
		d := json.NewDecoder(bytes.NewReader(params))
		d.DisallowUnknownFields()
		if err := d.Decode(&p); err != nil {
			return p, fmt.Errorf("parameters of %s: %s", k.Name, strings.TrimPrefix(err.Error(), "json: "))
		}
		if w, ok := any(&p).(joint); ok {
			if err := halves(params, w.together()); err != nil {
				return p, fmt.Errorf("parameters of %s: %w", k.Name, err)
			}
		}
		if v, ok := any(&p).(validator); ok {
			if err := v.Validate(); err != nil {
				return p, fmt.Errorf("parameters of %s: %w", k.Name, err)
			}
		}
		return p, nil
	}
	r := jsonschema.Reflector{DoNotReference: true, Anonymous: true, RequiredFromJSONSchemaTags: true}
	schema := r.Reflect(&defaults)
	schema.Version = ""
	text, err := json.Marshal(schema)
	if err != nil {
		panic(fmt.Sprintf("step %s: %v", k.Name, err)) // a mistake in this package
	}
	def, err := json.Marshal(defaults)
	if err != nil {
		panic(fmt.Sprintf("step %s: %v", k.Name, err))
	}
	for p := schema.Properties.Oldest(); p != nil; p = p.Next() {
		k.Order = append(k.Order, p.Key)
	}
	// The defaults belong to the schema's root.
	k.Schema = append(append(append(text[:len(text)-1:len(text)-1], `,"default":`...), def...), '}')
	k.check = func(params json.RawMessage) error { _, err := read(params); return err }
	k.asks = func(params json.RawMessage) ([]Ask, error) {
		p, err := read(params)
		if a, ok := any(&p).(asker); ok && err == nil {
			return a.asks(), nil
		}
		return nil, err
	}
	k.apply = func(ctx context.Context, s *scene.Scene, params json.RawMessage, b Beyond, r *Report) (*scene.Scene, error) {
		p, err := read(params)
		if err != nil {
			return nil, err
		}
		return apply(ctx, s, p, b, r)
	}
	kinds[k.Name] = &k
	return &k
}

// count writes "1 camera" or "3 cameras".
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// named joins names for a message and cuts a long list short.
func named(names []string) string {
	const most = 4
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}
