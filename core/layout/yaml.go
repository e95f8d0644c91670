package layout

import (
	"fmt"
	"strings"

	"excavate/core/document"
	"excavate/core/limit"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// node is one value of the document with the place where it stands. It
// isolates the rest of the package from the YAML library.
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

func parseYAML(name string, doc []byte) (n *node, err error) {
	defer document.Guard(&err)
	if len(doc) > limit.DocumentBytes {
		return nil, &Error{Layout: name, Msg: fmt.Sprintf("the document has %d bytes, at most %d are read", len(doc), limit.DocumentBytes)}
	}
	f, err := parser.ParseBytes(doc, 0)
	if err != nil {
		msg := err.Error()
		e := &Error{Layout: name, Line: 1, Col: 1, Msg: msg}
		var line, col int
		if k, _ := fmt.Sscanf(msg, "[%d:%d]", &line, &col); k == 2 {
			e.Line, e.Col = line, col
			if i := strings.IndexByte(msg, ']'); i >= 0 {
				e.Msg, _, _ = strings.Cut(strings.TrimSpace(msg[i+1:]), "\n")
			}
		}
		return nil, e
	}
	if len(f.Docs) == 0 || f.Docs[0].Body == nil {
		return nil, &Error{Layout: name, Line: 1, Col: 1, Msg: "the document is empty"}
	}
	if len(f.Docs) > 1 {
		return nil, &Error{Layout: name, Line: 1, Col: 1, Msg: fmt.Sprintf("%d documents in one file: a layout is one", len(f.Docs))}
	}
	return convert(name, f.Docs[0].Body, 0)
}

func convert(name string, a ast.Node, depth int) (*node, error) {
	n := &node{}
	if t := a.GetToken(); t != nil && t.Position != nil {
		n.line, n.col = t.Position.Line, t.Position.Column
	}
	fail := func(msg string) (*node, error) {
		return nil, &Error{Layout: name, Line: n.line, Col: n.col, Msg: msg}
	}
	if depth > 64 {
		return fail("nested more than 64 deep")
	}
	addPair := func(v *ast.MappingValueNode) error {
		child, err := convert(name, v.Value, depth+1)
		if err != nil {
			return err
		}
		p := pair{key: v.Key.String(), value: child}
		if s, ok := v.Key.(*ast.StringNode); ok {
			p.key = s.Value
		}
		if t := v.Key.GetToken(); t != nil && t.Position != nil {
			p.line, p.col = t.Position.Line, t.Position.Column
		}
		if n.get(p.key) != nil {
			return &Error{Layout: name, Line: p.line, Col: p.col, Msg: fmt.Sprintf("key %q stands twice", p.key)}
		}
		n.pairs = append(n.pairs, p)
		return nil
	}
	switch v := a.(type) {
	case *ast.MappingNode:
		n.mapping = true
		for _, m := range v.Values {
			if err := addPair(m); err != nil {
				return nil, err
			}
		}
		if len(n.pairs) > 0 {
			n.line, n.col = n.pairs[0].line, n.pairs[0].col
		}
	case *ast.MappingValueNode:
		n.mapping = true
		if err := addPair(v); err != nil {
			return nil, err
		}
		n.line, n.col = n.pairs[0].line, n.pairs[0].col
	case *ast.SequenceNode:
		for _, it := range v.Values {
			child, err := convert(name, it, depth+1)
			if err != nil {
				return nil, err
			}
			n.items = append(n.items, child)
		}
	case *ast.StringNode:
		n.scalar, n.text = true, v.Value
	case *ast.LiteralNode:
		n.scalar, n.text = true, v.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.NullNode:
		n.scalar, n.text = true, a.GetToken().Value
		if _, ok := a.(*ast.NullNode); ok {
			n.text = ""
		}
	default:
		return fail(fmt.Sprintf("%s is not used in layouts: write the value out", strings.ToLower(a.Type().String())))
	}
	return n, nil
}
