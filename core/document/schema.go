package document

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// schema is what Against looks at of a JSON Schema.
type schema struct {
	Type       string            `json:"type"`
	Properties map[string]schema `json:"properties"`
	Items      *schema           `json:"items"`
	Enum       []any             `json:"enum"`
	Minimum    *float64          `json:"minimum"`
	Maximum    *float64          `json:"maximum"`
	Above      *float64          `json:"exclusiveMinimum"`
	Loose      any               `json:"additionalProperties"` // false: other keys are mistakes
	Single     bool              `json:"single"`               // of a list: one item may stand without it
}

// Against holds the node against a JSON Schema: its keys, types, words and
// bounds. Deeper rules are left to whoever decodes it.
func (n *Node) Against(text json.RawMessage) error {
	var s schema
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	return n.against(s)
}

func (n *Node) against(s schema) error {
	if len(s.Enum) > 0 {
		var known []string
		for _, v := range s.Enum {
			known = append(known, fmt.Sprint(v))
		}
		if !slices.Contains(known, n.Text) {
			return n.Errorf("%s does not fit here; write one of %s", n.What(), strings.Join(slices.DeleteFunc(known, func(k string) bool { return k == "" }), ", "))
		}
		return nil
	}
	switch s.Type {
	case "object":
		if n.Kind != Mapping {
			return n.wanted("a mapping")
		}
		var known []string
		for k := range s.Properties {
			known = append(known, k)
		}
		for _, p := range n.Pairs {
			in, ok := s.Properties[p.Key]
			if !ok && s.Loose == false {
				return &Error{Line: p.Line, Col: p.Col, Msg: Unknown("parameter", p.Key, known)}
			}
			if ok {
				if err := p.Value.against(in); err != nil {
					return within(p.Key, err)
				}
			}
		}
	case "array":
		if s.Single && s.Items != nil && n.Kind == Text {
			return n.against(*s.Items)
		}
		if n.Kind != List {
			return n.wanted("a list")
		}
		for _, it := range n.Items {
			if s.Items != nil {
				if err := it.against(*s.Items); err != nil {
					return err
				}
			}
		}
	case "string":
		if n.Kind != Text {
			return n.wanted("a text")
		}
	case "boolean":
		if n.Kind != Bool {
			return n.wanted("true or false")
		}
	case "integer":
		if n.Kind != Whole {
			return n.wanted("a whole number")
		}
	case "number":
		if _, ok := n.Float(); !ok {
			return n.wanted("a number")
		}
	}
	return n.bounded(s)
}

func (n *Node) bounded(s schema) error {
	x, ok := n.Float()
	switch {
	case !ok:
	case s.Minimum != nil && x < *s.Minimum:
		return n.Errorf("%s is too small; at least %g", n.Text, *s.Minimum)
	case s.Above != nil && x <= *s.Above:
		return n.Errorf("%s is too small; more than %g", n.Text, *s.Above)
	case s.Maximum != nil && x > *s.Maximum:
		return n.Errorf("%s is too large; at most %g", n.Text, *s.Maximum)
	}
	return nil
}

// within adds a key to an error's path.
func within(key string, err error) error {
	if e, ok := errors.AsType[*Error](err); ok {
		e.Path = strings.TrimSuffix(key+"."+e.Path, ".")
	}
	return err
}
