package layout

import (
	"errors"
	"fmt"

	"excavate/core/document"
)

// node is one value of the document with the place where it stands.
type node struct {
	line, col int
	scalar    bool
	text      string  // of a scalar
	items     []*node // of a sequence
	pairs     []pair  // of a mapping
	mapping   bool
}

type pair struct {
	key   string
	line  int
	col   int
	value *node
}

func (n *node) what() string {
	switch {
	case n.mapping:
		return "a mapping"
	case n.scalar:
		return fmt.Sprintf("%q", n.text)
	}
	return "a list"
}

// get returns the value of a key, or nil.
func (n *node) get(key string) *node {
	for i := range n.pairs {
		if n.pairs[i].key == key {
			return n.pairs[i].value
		}
	}
	return nil
}

func parseYAML(name string, doc []byte) (*node, error) {
	d, err := document.Parse(doc)
	if err != nil {
		e := &Error{Layout: name, Line: 1, Col: 1, Msg: err.Error()}
		if at, ok := errors.AsType[*document.Error](err); ok {
			e.Line, e.Col, e.Msg = at.Line, at.Col, at.Msg
		}
		return nil, e
	}
	return ofDocument(d), nil
}

func ofDocument(d *document.Node) *node {
	n := &node{line: d.Line, col: d.Col, mapping: d.Kind == document.Mapping, text: d.Text}
	n.scalar = !n.mapping && d.Kind != document.List
	for _, it := range d.Items {
		n.items = append(n.items, ofDocument(it))
	}
	for _, p := range d.Pairs {
		n.pairs = append(n.pairs, pair{p.Key, p.Line, p.Col, ofDocument(p.Value)})
	}
	return n
}
