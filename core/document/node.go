package document

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"excavate/core/limit"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Kind is what a node of a document is.
type Kind string

// The kinds.
const (
	Mapping Kind = "mapping"
	List    Kind = "list"
	Text    Kind = "text"
	Whole   Kind = "whole number"
	Number  Kind = "number"
	Bool    Kind = "true or false"
	Null    Kind = "nothing"
)

// Node is one value of a document with the place where it stands. It keeps
// the YAML library from the rest of the program.
type Node struct {
	Line, Col int // from 1
	Kind      Kind
	Text      string // of a scalar, as it was written, without quotes
	Items     []*Node
	Pairs     []Pair
	value     any // of a scalar
}

// Pair is a key of a mapping and its value.
type Pair struct {
	Key       string
	Line, Col int
	Value     *Node
}

// Get returns the value of a key, or nil.
func (n *Node) Get(key string) *Node {
	if n != nil {
		for i := range n.Pairs {
			if n.Pairs[i].Key == key {
				return n.Pairs[i].Value
			}
		}
	}
	return nil
}

// Empty holds where there is no node, or nothing is written.
func (n *Node) Empty() bool { return n == nil || n.Kind == Null }

// Errorf is an error at the node.
func (n *Node) Errorf(f string, a ...any) error {
	return &Error{Line: n.Line, Col: n.Col, Msg: fmt.Sprintf(f, a...)}
}

func parse(doc []byte) (*Node, error) {
	f, err := parser.ParseBytes(doc, 0)
	if err != nil {
		e := &Error{Line: 1, Col: 1, Msg: err.Error()}
		var line, col int
		if k, _ := fmt.Sscanf(e.Msg, "[%d:%d]", &line, &col); k == 2 {
			e.Line, e.Col = line, col
			if i := strings.IndexByte(e.Msg, ']'); i >= 0 {
				e.Msg, _, _ = strings.Cut(strings.TrimSpace(e.Msg[i+1:]), "\n")
			}
		}
		return nil, e
	}
	if len(f.Docs) == 0 || f.Docs[0].Body == nil {
		return nil, &Error{Line: 1, Col: 1, Msg: "the document is empty"}
	}
	if len(f.Docs) > 1 {
		return nil, &Error{Line: 1, Col: 1, Msg: fmt.Sprintf("%d documents in one file: it holds one", len(f.Docs))}
	}
	return convert(f.Docs[0].Body, 0)
}

var float = regexp.MustCompile(`^[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?$`)

func convert(a ast.Node, depth int) (*Node, error) {
	n := &Node{Line: 1, Col: 1}
	if t := a.GetToken(); t != nil && t.Position != nil {
		n.Line, n.Col = t.Position.Line, t.Position.Column
	}
	if depth > limit.DocumentDepth {
		return nil, n.Errorf("nested more than %d deep", limit.DocumentDepth)
	}
	var keys map[string]bool
	addPair := func(v *ast.MappingValueNode) error {
		child, err := convert(v.Value, depth+1)
		if err != nil {
			return err
		}
		p := Pair{Key: v.Key.String(), Line: n.Line, Col: n.Col, Value: child}
		if s, ok := v.Key.(*ast.StringNode); ok {
			p.Key = s.Value
		}
		if t := v.Key.GetToken(); t != nil && t.Position != nil {
			p.Line, p.Col = t.Position.Line, t.Position.Column
		}
		if keys == nil {
			keys = map[string]bool{}
		}
		if keys[p.Key] {
			return &Error{Line: p.Line, Col: p.Col, Msg: fmt.Sprintf("key %q stands twice", p.Key)}
		}
		keys[p.Key] = true
		n.Pairs = append(n.Pairs, p)
		return nil
	}
	switch v := a.(type) {
	case *ast.MappingNode:
		n.Kind = Mapping
		for _, m := range v.Values {
			if err := addPair(m); err != nil {
				return nil, err
			}
		}
	case *ast.MappingValueNode:
		n.Kind = Mapping
		if err := addPair(v); err != nil {
			return nil, err
		}
	case *ast.SequenceNode:
		n.Kind = List
		for _, it := range v.Values {
			child, err := convert(it, depth+1)
			if err != nil {
				return nil, err
			}
			n.Items = append(n.Items, child)
		}
	case *ast.StringNode:
		n.Kind, n.Text, n.value = Text, v.Value, v.Value
		// The library takes 1e300 for a text; the core schema of YAML 1.2.2, section
		// 10.3.2, and JSON do not.
		if v.Token.Type == token.StringType && float.MatchString(v.Value) {
			x, err := strconv.ParseFloat(v.Value, 64)
			if err != nil {
				return nil, n.Errorf("%s is no number that can be used", v.Value)
			}
			n.Kind, n.value = Number, x
		}
	case *ast.LiteralNode:
		n.Kind, n.Text, n.value = Text, v.Value.Value, v.Value.Value
	case *ast.IntegerNode:
		n.Kind, n.Text, n.value = Whole, v.Token.Value, v.Value
	case *ast.FloatNode:
		n.Kind, n.Text, n.value = Number, v.Token.Value, v.Value
	case *ast.InfinityNode, *ast.NanNode:
		return nil, n.Errorf("%s is no number that can be used", a.GetToken().Value)
	case *ast.BoolNode:
		n.Kind, n.Text, n.value = Bool, v.Token.Value, v.Value
	case *ast.NullNode:
		n.Kind = Null
	default:
		return nil, n.Errorf("%s is not used here: write the value out, without tags, anchors and aliases", strings.ToLower(a.Type().String()))
	}
	if n.Kind == Mapping && len(n.Pairs) > 0 {
		n.Line, n.Col = n.Pairs[0].Line, n.Pairs[0].Col
	}
	return n, nil
}

// What is the node in words.
func (n *Node) What() string {
	switch n.Kind {
	case Mapping:
		return "a mapping"
	case List:
		return "a list"
	case Null:
		return "nothing"
	case Text:
		return fmt.Sprintf("the text %.60q", n.Text)
	}
	return fmt.Sprintf("%.60s", n.Text)
}

// Value is the node as Go values: map[string]any, []any, string, bool, int64,
// uint64, float64 or nil.
func (n *Node) Value() any {
	switch n.Kind {
	case Mapping:
		m := map[string]any{}
		for _, p := range n.Pairs {
			m[p.Key] = p.Value.Value()
		}
		return m
	case List:
		l := make([]any, len(n.Items))
		for i, it := range n.Items {
			l[i] = it.Value()
		}
		return l
	}
	return n.value
}

// JSON is the node as JSON, its keys in their order.
func (n *Node) JSON() (json.RawMessage, error) {
	var b bytes.Buffer
	switch n.Kind {
	case Mapping:
		b.WriteByte('{')
		for i, p := range n.Pairs {
			if i > 0 {
				b.WriteByte(',')
			}
			k, _ := json.Marshal(p.Key)
			v, err := p.Value.JSON()
			if err != nil {
				return nil, err
			}
			b.Write(k)
			b.WriteByte(':')
			b.Write(v)
		}
		b.WriteByte('}')
	case List:
		b.WriteByte('[')
		for i, it := range n.Items {
			if i > 0 {
				b.WriteByte(',')
			}
			v, err := it.JSON()
			if err != nil {
				return nil, err
			}
			b.Write(v)
		}
		b.WriteByte(']')
	default:
		v, err := json.Marshal(n.value)
		if err != nil {
			return nil, n.Errorf("%v", err)
		}
		b.Write(v)
	}
	return b.Bytes(), nil
}

var nodeType = reflect.TypeFor[*Node]()

// Decode fills in v, a pointer.
func (n *Node) Decode(v any) error { return n.decode(reflect.ValueOf(v).Elem()) }

func (n *Node) wanted(what string) error {
	return n.Errorf("%s is wanted here, not %s", what, n.What())
}

func (n *Node) decode(v reflect.Value) error {
	if v.Type() == nodeType {
		v.Set(reflect.ValueOf(n))
		return nil
	}
	if n.Kind == Null {
		v.SetZero()
		return nil
	}
	switch v.Kind() {
	case reflect.Pointer:
		p := reflect.New(v.Type().Elem())
		v.Set(p)
		return n.decode(p.Elem())
	case reflect.Interface:
		v.Set(reflect.ValueOf(n.Value()))
	case reflect.Struct:
		return n.decodeStruct(v)
	case reflect.Map:
		if n.Kind != Mapping {
			return n.wanted("a mapping")
		}
		m := reflect.MakeMap(v.Type())
		for _, p := range n.Pairs {
			e := reflect.New(v.Type().Elem()).Elem()
			if err := p.Value.decode(e); err != nil {
				return err
			}
			m.SetMapIndex(reflect.ValueOf(p.Key).Convert(v.Type().Key()), e)
		}
		v.Set(m)
	case reflect.Slice:
		if n.Kind != List {
			return n.wanted("a list")
		}
		v.Set(reflect.MakeSlice(v.Type(), len(n.Items), len(n.Items)))
		for i, it := range n.Items {
			if err := it.decode(v.Index(i)); err != nil {
				return err
			}
		}
	case reflect.String:
		if n.Kind == Mapping || n.Kind == List {
			return n.wanted("a text")
		}
		v.SetString(n.Text)
	case reflect.Bool:
		b, ok := n.value.(bool)
		if !ok {
			return n.wanted("true or false")
		}
		v.SetBool(b)
	case reflect.Int, reflect.Int32, reflect.Int64:
		x, err := strconv.ParseInt(strings.ReplaceAll(n.Text, "_", ""), 0, 64)
		if n.Kind != Whole || err != nil || v.OverflowInt(x) {
			return n.wanted("a whole number")
		}
		v.SetInt(x)
	case reflect.Float32, reflect.Float64:
		x, ok := n.Float()
		if !ok {
			return n.wanted("a number")
		}
		v.SetFloat(x)
	default:
		return fmt.Errorf("document: %s cannot be filled in", v.Type()) // a mistake of the caller
	}
	return nil
}

// Float is the node's number.
func (n *Node) Float() (float64, bool) {
	switch x := n.value.(type) {
	case int64:
		return float64(x), true
	case uint64:
		return float64(x), true
	case float64:
		return x, !math.IsNaN(x) && !math.IsInf(x, 0)
	}
	return 0, false
}

func (n *Node) decodeStruct(v reflect.Value) error {
	if n.Kind != Mapping {
		return n.wanted("a mapping")
	}
	fields := map[string]int{}
	var known []string
	for i := range v.NumField() {
		name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("yaml"), ",")
		if name != "" && name != "-" {
			fields[name] = i
			known = append(known, name)
		}
	}
	for _, p := range n.Pairs {
		i, ok := fields[p.Key]
		if !ok {
			return &Error{Line: p.Line, Col: p.Col, Msg: Unknown("key", p.Key, known)}
		}
		if err := p.Value.decode(v.Field(i)); err != nil {
			return err
		}
	}
	return nil
}
