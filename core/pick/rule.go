// Package pick is the rule by which a step chooses what it acts on. A rule is
// made of conditions that must all hold, and is evaluated in one pass over the
// scene, so that a chain that was written for one asset runs on the next.
package pick

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"excavate/core/condition"

	"github.com/invopop/jsonschema"
)

// Rule takes what its terms hold for, but for what Not holds for.
type Rule struct {
	Terms
	Not *Terms `json:"not,omitempty" jsonschema:"title=But not,description=The same conditions: what they hold for is left alone"`
}

// Terms are conditions that must all hold. Names are globs: * stands for any
// letters, ? for one, and a backslash before a sign for the sign itself.
type Terms struct {
	Node     Globs            `json:"node,omitempty" jsonschema:"title=Nodes named"`
	Under    Globs            `json:"under,omitempty" jsonschema:"title=Nodes at or under"`
	Material Globs            `json:"material,omitempty" jsonschema:"title=Parts with material"`
	Picture  Globs            `json:"picture,omitempty" jsonschema:"title=Parts with picture"`
	Kind     Kinds            `json:"kind,omitempty" jsonschema:"title=Kinds of nodes"`
	Props    map[string]Globs `json:"props,omitempty" jsonschema:"title=What the source says of a node"`
	Loose    *Loose           `json:"loose,omitempty" jsonschema:"title=Loose pieces"`
	If       string           `json:"if,omitempty" jsonschema:"title=And if,description=An expression such as: triangles > 500 and not skinned"`
}

// Loose takes loose pieces of parts by their longest side.
type Loose struct {
	Smaller float64 `json:"smaller" jsonschema:"title=Smaller than,exclusiveMinimum=0,maximum=1e+06" jsonschema_extras:"unit=m,shown=mm"`
}

// Globs are patterns of which one must fit. A document may give a single one
// as a text.
type Globs []string

// UnmarshalJSON reads a text or a list of texts.
func (g *Globs) UnmarshalJSON(b []byte) error {
	var list []string
	if err := oneOrMany(b, &list); err != nil {
		return err
	}
	*g = list
	return nil
}

// JSONSchema says so.
func (Globs) JSONSchema() *jsonschema.Schema { return namesSchema(nil) }

// Kind is what a node is.
type Kind string

// The kinds. A node of several things is of several kinds; a helper is none of
// the others, nor has one below it.
const (
	Mesh   Kind = "mesh"
	Camera Kind = "camera"
	Light  Kind = "light"
	Helper Kind = "helper"
	Bone   Kind = "bone"

	Collider Kind = "collider"
)

var kinds = []Kind{Mesh, Camera, Light, Helper, Bone, Collider}

// Kinds are kinds of which one must fit.
type Kinds []Kind

// UnmarshalJSON reads a text or a list of texts.
func (k *Kinds) UnmarshalJSON(b []byte) error {
	var list []Kind
	if err := oneOrMany(b, &list); err != nil {
		return err
	}
	for _, x := range list {
		if !slices.Contains(kinds, x) {
			return fmt.Errorf("%q is no kind of node; the kinds are mesh, camera, light, helper, bone and collider", x)
		}
	}
	*k = list
	return nil
}

// JSONSchema says so.
func (Kinds) JSONSchema() *jsonschema.Schema {
	words := make([]any, len(kinds))
	for i, k := range kinds {
		words[i] = string(k)
	}
	return namesSchema(words)
}

func oneOrMany[T ~string](b []byte, list *[]T) error {
	if b = bytes.TrimSpace(b); len(b) > 0 && b[0] == '"' {
		var one T
		if err := json.Unmarshal(b, &one); err != nil {
			return err
		}
		*list = []T{one}
		return nil
	}
	return json.Unmarshal(b, list)
}

// namesSchema is that of a list of texts of which a single one may stand
// without its list.
func namesSchema(words []any) *jsonschema.Schema {
	return &jsonschema.Schema{Type: "array", Items: &jsonschema.Schema{Type: "string", Enum: words},
		Extras: map[string]any{"single": true}}
}

// Empty tells whether the rule has no condition: it takes everything.
func (r *Rule) Empty() bool { return r == nil || r.Terms.empty() && (r.Not == nil || r.Not.empty()) }

func (t *Terms) empty() bool {
	return len(t.Node)+len(t.Under)+len(t.Material)+len(t.Picture)+len(t.Kind)+len(t.Props) == 0 && t.Loose == nil && t.If == ""
}

// ofNodes tells whether a condition is about nodes; a rule without one also
// takes materials and pictures that no node uses.
func (t *Terms) ofNodes() bool {
	return len(t.Node)+len(t.Under)+len(t.Kind)+len(t.Props) > 0 || t.If != ""
}

// Validate refuses what can never be meant: an expression that is none, and
// an empty name.
func (r *Rule) Validate() error {
	if r == nil {
		return nil
	}
	for _, t := range []*Terms{&r.Terms, r.Not} {
		if t == nil {
			continue
		}
		for _, list := range []Globs{t.Node, t.Under, t.Material, t.Picture} {
			if slices.Contains(list, "") {
				return fmt.Errorf("where: an empty name fits nothing; write * for any")
			}
		}
		if t.If != "" {
			if _, err := condition.Compile(t.If, words); err != nil {
				return fmt.Errorf("where, if: %w", err)
			}
		}
	}
	return nil
}

// words are what an expression may ask of a part of a node, in the order in
// which they are given.
var words = []condition.Word{
	{Name: "node", Is: condition.Text}, {Name: "path", Is: condition.Text}, {Name: "material", Is: condition.Text},
	{Name: "pictures", Is: condition.Texts}, {Name: "kinds", Is: condition.Texts},
	{Name: "triangles"}, {Name: "vertices"}, {Name: "morphs"}, {Name: "children"}, {Name: "size"}, {Name: "height"},
	{Name: "skinned", Is: condition.Truth}, {Name: "moves", Is: condition.Truth},
	{Name: "see_through", Is: condition.Truth}, {Name: "two_sided", Is: condition.Truth},
	{Name: "uv_sets", Is: condition.Texts}, {Name: "colour_sets", Is: condition.Texts},
}

// fits tells whether one of the globs fits a name.
func (g Globs) fits(name string) bool {
	return slices.ContainsFunc(g, func(p string) bool { return Fits(p, name) })
}

// Fits tells whether a glob fits a whole name. It tries again from the last *
// only, so that it takes no more than the product of both lengths.
func Fits(glob, name string) bool {
	i, k := 0, 0
	star, from := -1, 0
	for k < len(name) {
		switch {
		case i < len(glob) && glob[i] == '*':
			star, from = i, k
			i++
			continue
		case i < len(glob) && glob[i] == '?':
			_, n := utf8.DecodeRuneInString(name[k:])
			i, k = i+1, k+n
			continue
		case i+1 < len(glob) && glob[i] == '\\' && glob[i+1] == name[k]:
			i, k = i+2, k+1
			continue
		case i < len(glob) && (glob[i] != '\\' || i+1 == len(glob)) && glob[i] == name[k]:
			i, k = i+1, k+1
			continue
		}
		if star < 0 {
			return false
		}
		from++
		i, k = star+1, from
	}
	for i < len(glob) && glob[i] == '*' {
		i++
	}
	return i == len(glob)
}

// Literal is the glob that fits just this name.
func Literal(name string) string { return escape.Replace(name) }

var escape = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`)

// Parse reads a rule from JSON and refuses keys that are none.
func Parse(b []byte) (*Rule, error) {
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	var r Rule
	if err := d.Decode(&r); err != nil {
		return nil, fmt.Errorf("where: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	return &r, r.Validate()
}
