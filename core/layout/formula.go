package layout

import (
	"errors"
	"fmt"
	"slices"

	"excavate/core/limit"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// A formula is one Starlark expression. What layouts need most, arithmetic
// on fields, is compiled to Go closures here; everything else runs in the
// Starlark interpreter with limits. Both give the same value; the closures
// hand over to the interpreter where a number leaves 64 bits.

// scope says at compile time which names there are; env holds their values.
type scope struct {
	parent *scope
	names  []string
}

func (s *scope) child(names ...string) *scope { return &scope{parent: s, names: names} }

func (s *scope) find(name string) (depth, slot int, ok bool) {
	for ; s != nil; s, depth = s.parent, depth+1 {
		for i := len(s.names) - 1; i >= 0; i-- {
			if s.names[i] == name {
				return depth, i, true
			}
		}
	}
	return 0, 0, false
}

type env struct {
	parent *env
	run    *run
	slots  []val
}

func (e *env) child(slots ...val) *env { return &env{parent: e, run: e.run, slots: slots} }

type fn func(*env) (val, error)

type formula struct {
	src       string
	line, col int
	fast      fn
	lambda    *starlark.Function // the interpreter's version
	free      []string           // its parameters
	scope     *scope
	constant  bool
}

// errHandOver sends a formula to the interpreter.
var errHandOver = errors.New("hand over")

var fileOptions = &syntax.FileOptions{}

// compileFormula compiles the expression in n, which sees the names of sc.
func (l *Layout) compileFormula(n *node, sc *scope) (*formula, error) {
	fail := func(line, col int, format string, a ...any) error {
		return &Error{Layout: l.Name, Line: line, Col: col, Msg: fmt.Sprintf(format, a...)}
	}
	if !n.scalar || n.text == "" {
		return nil, fail(n.line, n.col, "a formula is expected here, not %s", n.what())
	}
	if len(n.text) > 4096 {
		return nil, fail(n.line, n.col, "a formula of %d characters: at most 4096", len(n.text))
	}
	f := &formula{src: n.text, line: n.line, col: n.col, scope: sc}
	expr, err := fileOptions.ParseExpr("formula", n.text, 0)
	if err != nil {
		var se syntax.Error
		if errors.As(err, &se) {
			return nil, fail(n.line+int(se.Pos.Line)-1, f.column(se.Pos), "formula %q: %s", n.text, se.Msg)
		}
		return nil, fail(n.line, n.col, "formula %q: %v", n.text, err)
	}
	if f.free, err = freeNames(expr, sc); err == nil {
		err = refuseCalls(expr)
	}
	if r := (*refused)(nil); errors.As(err, &r) {
		return nil, fail(n.line, f.column(r.at), "formula %q: %s", n.text, r.msg)
	}
	f.fast = compileFast(expr, sc)
	f.constant = len(f.free) == 0
	// Parameters by position; * becomes a call that is bounded.
	lambda := &syntax.LambdaExpr{Body: boundTimes(expr)}
	for _, name := range f.free {
		lambda.Params = append(lambda.Params, &syntax.Ident{Name: name})
	}
	v, err := starlark.EvalExprOptions(fileOptions, &starlark.Thread{}, lambda, builtins)
	if err != nil {
		return nil, fail(n.line, n.col, "formula %q: %v", n.text, err)
	}
	f.lambda = v.(*starlark.Function)
	return f, nil
}

// refused is what a formula may not have, and where.
type refused struct {
	at  syntax.Position
	msg string
}

func (r *refused) Error() string { return r.msg }

// freeNames lists the names of the scope that an expression reads. Others must
// be bound by the expression itself, or be functions.
func freeNames(expr syntax.Expr, sc *scope) (free []string, err error) {
	bound := map[string]bool{}
	syntax.Walk(expr, func(x syntax.Node) bool {
		switch x := x.(type) {
		case *syntax.ForClause:
			syntax.Walk(x.Vars, func(v syntax.Node) bool {
				if id, ok := v.(*syntax.Ident); ok {
					bound[id.Name] = true
				}
				return true
			})
		case *syntax.LambdaExpr:
			if err == nil {
				err = &refused{x.Lambda, "lambda is not used in formulas"}
			}
		}
		return true
	})
	seen := map[string]bool{}
	walkNames(expr, func(id *syntax.Ident) {
		if bound[id.Name] || seen[id.Name] || err != nil {
			return
		}
		seen[id.Name] = true
		if _, _, ok := sc.find(id.Name); ok {
			free = append(free, id.Name)
		} else if _, ok := builtins[id.Name]; !ok && !universe[id.Name] || id.Name[0] == '_' {
			err = &refused{id.NamePos, id.Name + " is no field that stands before it, and no function"}
		}
	})
	return free, err
}

// refuseCalls refuses calls whose memory cannot be bounded: methods that grow a
// list, and arguments out of a list.
func refuseCalls(expr syntax.Expr) (err error) {
	syntax.Walk(expr, func(x syntax.Node) bool {
		c, ok := x.(*syntax.CallExpr)
		if !ok || err != nil {
			return true
		}
		for _, a := range c.Args {
			if u, ok := a.(*syntax.UnaryExpr); ok && (u.Op == syntax.STAR || u.Op == syntax.STARSTAR) {
				err = &refused{u.OpPos, "* before an argument is not used in formulas"}
			}
		}
		if d, ok := c.Fn.(*syntax.DotExpr); ok && growing[d.Name.Name] {
			err = &refused{d.Dot, "." + d.Name.Name + "() is not used in formulas"}
		}
		return true
	})
	return err
}

func (f *formula) column(p syntax.Position) int {
	if p.Line > 1 {
		return int(p.Col)
	}
	return f.col + int(p.Col) - 1
}

// walkNames visits the identifiers that are read, not attribute names.
func walkNames(x syntax.Node, visit func(*syntax.Ident)) {
	syntax.Walk(x, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.DotExpr:
			walkNames(n.X, visit)
			return false
		case *syntax.CallExpr:
			walkNames(n.Fn, visit)
			for _, a := range n.Args {
				if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ { // keyword argument
					walkNames(b.Y, visit)
					continue
				}
				walkNames(a, visit)
			}
			return false
		case *syntax.Ident:
			visit(n)
		}
		return true
	})
}

// boundTimes replaces x * y by _times(x, y) all through an expression.
func boundTimes(x syntax.Expr) syntax.Expr {
	return mapExpr(x, func(x syntax.Expr) syntax.Expr {
		if b, ok := x.(*syntax.BinaryExpr); ok && b.Op == syntax.STAR {
			return &syntax.CallExpr{Fn: &syntax.Ident{Name: "_times", NamePos: b.OpPos}, Lparen: b.OpPos, Args: []syntax.Expr{b.X, b.Y}, Rparen: b.OpPos}
		}
		return x
	})
}

// mapExpr replaces every expression within x, the inner ones first, by what f
// makes of it.
func mapExpr(x syntax.Expr, f func(syntax.Expr) syntax.Expr) syntax.Expr {
	sub := func(list ...*syntax.Expr) {
		for _, p := range list {
			if *p != nil {
				*p = mapExpr(*p, f)
			}
		}
	}
	all := func(l []syntax.Expr) {
		for i := range l {
			sub(&l[i])
		}
	}
	switch x := x.(type) {
	case *syntax.BinaryExpr:
		if x.Op == syntax.EQ { // a named argument
			sub(&x.Y)
			return x
		}
		sub(&x.X, &x.Y)
	case *syntax.CallExpr:
		sub(&x.Fn)
		all(x.Args)
	case *syntax.Comprehension:
		sub(&x.Body)
		for _, c := range x.Clauses {
			switch c := c.(type) {
			case *syntax.ForClause:
				sub(&c.X)
			case *syntax.IfClause:
				sub(&c.Cond)
			}
		}
	case *syntax.CondExpr:
		sub(&x.Cond, &x.True, &x.False)
	case *syntax.DictEntry:
		sub(&x.Key, &x.Value)
	case *syntax.DictExpr:
		all(x.List)
	case *syntax.DotExpr:
		sub(&x.X)
	case *syntax.IndexExpr:
		sub(&x.X, &x.Y)
	case *syntax.ListExpr:
		all(x.List)
	case *syntax.ParenExpr:
		sub(&x.X)
	case *syntax.SliceExpr:
		sub(&x.X, &x.Lo, &x.Hi, &x.Step)
	case *syntax.TupleExpr:
		all(x.List)
	case *syntax.UnaryExpr:
		sub(&x.X)
	}
	return f(x)
}

// eval computes the formula.
func (f *formula) eval(e *env) (val, error) {
	if f.fast != nil {
		v, err := f.fast(e)
		if err == nil {
			return v, nil
		}
		if err != errHandOver {
			return val{}, f.fail(e, err)
		}
	}
	args := make(starlark.Tuple, len(f.free))
	for i, name := range f.free {
		depth, slot, _ := f.scope.find(name)
		from := e
		for ; depth > 0; depth-- {
			from = from.parent
		}
		if slot >= len(from.slots) {
			return val{}, f.fail(e, notYet(name))
		}
		args[i] = from.slots[slot].starlark()
	}
	th := &starlark.Thread{Name: "formula"}
	th.SetLocal("run", e.run)
	left := uint64(limit.LayoutSteps) - min(e.run.steps, limit.LayoutSteps)
	th.SetMaxExecutionSteps(min(limit.FormulaSteps, left) + 1)
	stop := e.run.watch(th)
	v, err := starlark.Call(th, f.lambda, args, nil)
	stop()
	e.run.steps += th.ExecutionSteps()
	if err != nil {
		var ee *starlark.EvalError
		if errors.As(err, &ee) {
			err = errors.New(ee.Msg)
		}
		if th.ExecutionSteps() > min(limit.FormulaSteps, left) {
			err = fmt.Errorf("it does not end within %d steps", min(limit.FormulaSteps, left))
		}
		return val{}, f.fail(e, err)
	}
	return fromStarlark(v), nil
}

func (f *formula) fail(e *env, err error) error {
	var le *Error
	if errors.As(err, &le) {
		return err
	}
	return e.run.errorf(f.line, f.col, "formula %q: %v", f.src, err)
}

func (f *formula) int(e *env) (int64, error) {
	v, err := f.eval(e)
	if err != nil {
		return 0, err
	}
	i, err := v.int()
	if err != nil {
		return 0, f.fail(e, err)
	}
	return i, nil
}

func (f *formula) float(e *env) (float64, error) {
	v, err := f.eval(e)
	if err != nil {
		return 0, err
	}
	x, err := v.float()
	if err != nil {
		return 0, f.fail(e, err)
	}
	return x, nil
}

func (f *formula) floats(e *env, n int) ([]float64, error) {
	v, err := f.eval(e)
	if err != nil {
		return nil, err
	}
	x, err := v.floats(n)
	if err != nil {
		return nil, f.fail(e, err)
	}
	return x, nil
}

// text is the formula's value where a text is expected.
func (f *formula) text(e *env) (string, error) {
	v, err := f.eval(e)
	if err != nil {
		return "", err
	}
	if v.kind == kObj {
		if s, ok := v.obj.(starlark.String); ok {
			return string(s), nil
		}
	}
	if v.kind == kInt {
		return v.String(), nil
	}
	return "", f.fail(e, fmt.Errorf("%s is not a text", v.typeName()))
}

// sees tells whether the formula uses one of the names.
func (f *formula) sees(names ...string) bool {
	for _, n := range names {
		if slices.Contains(f.free, n) {
			return true
		}
	}
	return false
}

// notYet is what a record hears that asks for a field of the file that
// follows it.
func notYet(name string) error {
	return fmt.Errorf("%s is read only after this", name)
}
