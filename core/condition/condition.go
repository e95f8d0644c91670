// Package condition is the small expressions that people write in chains and
// target sheets: comparisons of named figures and names, in Starlark's form.
// Only what compares and counts is let through, each sign with the values that
// it makes sense for, so that an expression can neither run long nor ask for
// much memory.
package condition

import (
	"fmt"
	"strings"

	"excavate/core/limit"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// Shape is what kind of value an expression has.
type Shape int

// The shapes.
const (
	Number Shape = iota
	Text
	Truth
	Texts // a list of texts
)

func (s Shape) String() string {
	return [...]string{"a number", "a text", "true or false", "a list of texts"}[s]
}

// Word is a name that an expression may ask for.
type Word struct {
	Name string
	Is   Shape
}

// Condition is a compiled expression.
type Condition struct {
	expr string
	f    *starlark.Function
	th   *starlark.Thread
	asks map[string]bool
}

var dialect = &syntax.FileOptions{}

// Compile reads an expression that says true or false of the words.
func Compile(expr string, words []Word) (*Condition, error) {
	if len(expr) > limit.FormulaBytes {
		return nil, fmt.Errorf("%d letters, at most %d", len(expr), limit.FormulaBytes)
	}
	x, err := dialect.ParseExpr("where", expr, 0)
	if err != nil {
		if e, ok := err.(syntax.Error); ok {
			return nil, fmt.Errorf("column %d: %s", e.Pos.Col, e.Msg)
		}
		return nil, err
	}
	is, err := check(x, words)
	if err != nil {
		return nil, err
	}
	if is != Truth {
		return nil, fmt.Errorf("%s is %s and says neither true nor false", expr, is)
	}
	args := make([]string, len(words))
	for i, w := range words {
		args[i] = w.Name
	}
	src := "def holds(" + strings.Join(args, ", ") + "):\n  return (" + expr + "\n)\n"
	th := &starlark.Thread{Name: "where"}
	globals, err := starlark.ExecFileOptions(dialect, th, "where", src, nil)
	if err != nil {
		return nil, err
	}
	c := &Condition{expr: expr, f: globals["holds"].(*starlark.Function), th: th, asks: map[string]bool{}}
	syntax.Walk(x, func(n syntax.Node) bool {
		if id, ok := n.(*syntax.Ident); ok {
			c.asks[id.Name] = true
		}
		return true
	})
	return c, nil
}

// Asks tells whether the expression asks for a word: what it does not ask for
// need not be computed.
func (c *Condition) Asks(word string) bool { return c.asks[word] }

func at(n syntax.Node, f string, a ...any) error {
	start, _ := n.Span()
	return fmt.Errorf("column %d: %s", start.Col, fmt.Sprintf(f, a...))
}

// check finds the shape of an expression's value.
func check(x syntax.Expr, words []Word) (Shape, error) {
	switch x := x.(type) {
	case *syntax.ParenExpr:
		return check(x.X, words)
	case *syntax.Literal:
		switch x.Value.(type) {
		case string:
			return Text, nil
		case int64, float64:
			return Number, nil
		}
	case *syntax.Ident:
		if x.Name == "True" || x.Name == "False" {
			return Truth, nil
		}
		var known []string
		for _, w := range words {
			if w.Name == x.Name {
				return w.Is, nil
			}
			known = append(known, w.Name)
		}
		return 0, at(x, "there is no %s; there are %s", x.Name, strings.Join(known, ", "))
	case *syntax.ListExpr:
		for _, e := range x.List {
			if is, err := check(e, words); err != nil {
				return 0, err
			} else if is != Text {
				return 0, at(e, "a list holds texts here, not %s", is)
			}
		}
		return Texts, nil
	case *syntax.UnaryExpr:
		is, err := check(x.X, words)
		switch {
		case err != nil:
			return 0, err
		case x.Op == syntax.NOT && is == Truth, x.Op == syntax.MINUS && is == Number:
			return is, nil
		}
		return 0, at(x, "%s does not go with %s", x.Op, is)
	case *syntax.BinaryExpr:
		return checkBinary(x, words)
	case *syntax.CallExpr:
		return checkCall(x, words)
	}
	return 0,
		at(x,
			"this is not said here; compare names and figures with ==, <, in, and, or, not, startswith, endswith")
}

func checkBinary(x *syntax.BinaryExpr, words []Word) (Shape, error) {
	a, err := check(x.X, words)
	if err != nil {
		return 0, err
	}
	b, err := check(x.Y, words)
	if err != nil {
		return 0, err
	}
	switch x.Op {
	case syntax.AND, syntax.OR:
		if a == Truth && b == Truth {
			return Truth, nil
		}
	case syntax.EQL, syntax.NEQ:
		if a == b {
			return Truth, nil
		}
	case syntax.LT, syntax.LE, syntax.GT, syntax.GE:
		if a == b && (a == Number || a == Text) {
			return Truth, nil
		}
	case syntax.IN, syntax.NOT_IN:
		if a == Text && (b == Texts || b == Text) {
			return Truth, nil
		}
	case syntax.PLUS, syntax.MINUS, syntax.STAR, syntax.SLASH:
		if a == Number && b == Number {
			return Number, nil
		}
	}
	return 0, at(x, "%s does not go with %s and %s", x.Op, a, b)
}

// checkCall lets len(list) and the tests of a text through.
func checkCall(x *syntax.CallExpr, words []Word) (Shape, error) {
	if len(x.Args) == 1 {
		arg, err := check(x.Args[0], words)
		if err != nil {
			return 0, err
		}
		switch f := x.Fn.(type) {
		case *syntax.Ident:
			if f.Name == "len" && arg == Texts {
				return Number, nil
			}
		case *syntax.DotExpr:
			is, err := check(f.X, words)
			if err != nil {
				return 0, err
			}
			if is == Text && arg == Text && (f.Name.Name == "startswith" || f.Name.Name == "endswith") {
				return Truth, nil
			}
		}
	}
	return 0, at(x, "only len(list), text.startswith(text) and text.endswith(text) can be called")
}

// Holds asks the expression about one thing; values stand in the order of the
// words. What it cannot say, such as a division by zero, is an error.
func (c *Condition) Holds(values []any) (bool, error) {
	args := make(starlark.Tuple, len(values))
	for i, v := range values {
		args[i] = value(v)
	}
	v, err := starlark.Call(c.th, c.f, args, nil)
	if err != nil {
		return false, fmt.Errorf("%s: %w", c.expr, err)
	}
	return bool(v.Truth()), nil
}

func value(v any) starlark.Value {
	switch v := v.(type) {
	case nil:
		return starlark.None // what was not asked for
	case bool:
		return starlark.Bool(v)
	case int:
		return starlark.MakeInt(v)
	case float64:
		return starlark.Float(v)
	case string:
		return starlark.String(v)
	case []string:
		list := make([]starlark.Value, len(v))
		for i, s := range v {
			list[i] = starlark.String(s)
		}
		return starlark.NewList(list)
	}
	panic(fmt.Sprintf("condition: a value of type %T", v)) // a mistake of the caller's
}
