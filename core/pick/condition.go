package pick

import (
	"fmt"
	"strings"

	"excavate/core/limit"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// shape is what kind of value an expression has.
type shape int

const (
	number shape = iota
	text
	truth
	texts // a list of texts
)

func (s shape) String() string {
	return [...]string{"a number", "a text", "true or false", "a list of texts"}[s]
}

// names are what an expression may ask, in the order in which they are given.
var names = []struct {
	name string
	is   shape
}{
	{"node", text}, {"path", text}, {"material", text}, {"pictures", texts}, {"kinds", texts},
	{"triangles", number}, {"vertices", number}, {"morphs", number}, {"children", number},
	{"size", number}, {"height", number}, {"skinned", truth}, {"moves", truth}, {"see_through", truth}, {"two_sided", truth},
	{"uv_sets", texts}, {"colour_sets", texts},
}

// condition is a compiled expression.
type condition struct {
	expr string
	f    *starlark.Function
	th   *starlark.Thread
	// measures tells whether it asks for sizes, which are dear to compute.
	measures bool
}

var dialect = &syntax.FileOptions{}

// compile reads an expression. Only what compares and counts is let through,
// each sign with the values that it makes sense for, so that an expression can
// neither run long nor ask for much memory.
func compile(expr string) (*condition, error) {
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
	is, err := check(x)
	if err != nil {
		return nil, err
	}
	if is != truth {
		return nil, fmt.Errorf("%s is %s and says neither true nor false", expr, is)
	}
	var args []string
	for _, n := range names {
		args = append(args, n.name)
	}
	src := "def holds(" + strings.Join(args, ", ") + "):\n  return (" + expr + "\n)\n"
	th := &starlark.Thread{Name: "where"}
	globals, err := starlark.ExecFileOptions(dialect, th, "where", src, nil)
	if err != nil {
		return nil, err
	}
	c := &condition{expr: expr, f: globals["holds"].(*starlark.Function), th: th}
	syntax.Walk(x, func(n syntax.Node) bool {
		if id, ok := n.(*syntax.Ident); ok && (id.Name == "size" || id.Name == "height") {
			c.measures = true
		}
		return true
	})
	return c, nil
}

func at(n syntax.Node, f string, a ...any) error {
	start, _ := n.Span()
	return fmt.Errorf("column %d: %s", start.Col, fmt.Sprintf(f, a...))
}

// check finds the shape of an expression's value.
func check(x syntax.Expr) (shape, error) {
	switch x := x.(type) {
	case *syntax.ParenExpr:
		return check(x.X)
	case *syntax.Literal:
		switch x.Value.(type) {
		case string:
			return text, nil
		case int64, float64:
			return number, nil
		}
	case *syntax.Ident:
		if x.Name == "True" || x.Name == "False" {
			return truth, nil
		}
		var known []string
		for _, n := range names {
			if n.name == x.Name {
				return n.is, nil
			}
			known = append(known, n.name)
		}
		return 0, at(x, "there is no %s; there are %s", x.Name, strings.Join(known, ", "))
	case *syntax.ListExpr:
		for _, e := range x.List {
			if is, err := check(e); err != nil {
				return 0, err
			} else if is != text {
				return 0, at(e, "a list holds texts here, not %s", is)
			}
		}
		return texts, nil
	case *syntax.UnaryExpr:
		is, err := check(x.X)
		switch {
		case err != nil:
			return 0, err
		case x.Op == syntax.NOT && is == truth, x.Op == syntax.MINUS && is == number:
			return is, nil
		}
		return 0, at(x, "%s does not go with %s", x.Op, is)
	case *syntax.BinaryExpr:
		return checkBinary(x)
	case *syntax.CallExpr:
		return checkCall(x)
	}
	return 0, at(x, "this is not said here; compare names and figures with ==, <, in, and, or, not, startswith, endswith")
}

func checkBinary(x *syntax.BinaryExpr) (shape, error) {
	a, err := check(x.X)
	if err != nil {
		return 0, err
	}
	b, err := check(x.Y)
	if err != nil {
		return 0, err
	}
	switch x.Op {
	case syntax.AND, syntax.OR:
		if a == truth && b == truth {
			return truth, nil
		}
	case syntax.EQL, syntax.NEQ:
		if a == b {
			return truth, nil
		}
	case syntax.LT, syntax.LE, syntax.GT, syntax.GE:
		if a == b && (a == number || a == text) {
			return truth, nil
		}
	case syntax.IN, syntax.NOT_IN:
		if a == text && (b == texts || b == text) {
			return truth, nil
		}
	case syntax.PLUS, syntax.MINUS, syntax.STAR, syntax.SLASH:
		if a == number && b == number {
			return number, nil
		}
	}
	return 0, at(x, "%s does not go with %s and %s", x.Op, a, b)
}

// checkCall lets len(list) and the tests of a text through.
func checkCall(x *syntax.CallExpr) (shape, error) {
	if len(x.Args) == 1 {
		arg, err := check(x.Args[0])
		if err != nil {
			return 0, err
		}
		switch f := x.Fn.(type) {
		case *syntax.Ident:
			if f.Name == "len" && arg == texts {
				return number, nil
			}
		case *syntax.DotExpr:
			is, err := check(f.X)
			if err != nil {
				return 0, err
			}
			if is == text && arg == text && (f.Name.Name == "startswith" || f.Name.Name == "endswith") {
				return truth, nil
			}
		}
	}
	return 0, at(x, "only len(list), text.startswith(text) and text.endswith(text) can be called")
}

// holds asks the expression about one thing. What it cannot say, such as a
// division by zero, is an error.
func (c *condition) holds(values starlark.Tuple) (bool, error) {
	v, err := starlark.Call(c.th, c.f, values, nil)
	if err != nil {
		return false, fmt.Errorf("where, if: %s: %w", c.expr, err)
	}
	return bool(v.Truth()), nil
}
