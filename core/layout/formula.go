package layout

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"math/bits"
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
	// Refuse names and calls that are not for formulas, gather the free names.
	var bad error
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
			if bad == nil {
				bad = fail(n.line, f.column(x.Lambda), "formula %q: lambda is not used in formulas", n.text)
			}
		}
		return true
	})
	seen := map[string]bool{}
	walkNames(expr, func(id *syntax.Ident) {
		if bound[id.Name] || seen[id.Name] || bad != nil {
			return
		}
		seen[id.Name] = true
		if _, _, ok := sc.find(id.Name); ok {
			f.free = append(f.free, id.Name)
		} else if _, ok := builtins[id.Name]; !ok && !universe[id.Name] || id.Name[0] == '_' {
			bad = fail(n.line, f.column(id.NamePos), "formula %q: %s is no field that stands before it, and no function", n.text, id.Name)
		}
	})
	syntax.Walk(expr, func(x syntax.Node) bool {
		if c, ok := x.(*syntax.CallExpr); ok && bad == nil {
			for _, a := range c.Args {
				if u, ok := a.(*syntax.UnaryExpr); ok && (u.Op == syntax.STAR || u.Op == syntax.STARSTAR) {
					bad = fail(n.line, f.column(u.OpPos), "formula %q: * before an argument is not used in formulas", n.text)
				}
			}
			if d, ok := c.Fn.(*syntax.DotExpr); ok {
				if growing[d.Name.Name] {
					bad = fail(n.line, f.column(d.Dot), "formula %q: .%s() is not used in formulas", n.text, d.Name.Name)
				}
			}
		}
		return true
	})
	if bad != nil {
		return nil, bad
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

// compileFast returns a closure for x, or nil if it needs the interpreter.
func compileFast(x syntax.Expr, sc *scope) fn {
	switch x := x.(type) {
	case *syntax.ParenExpr:
		return compileFast(x.X, sc)
	case *syntax.Literal:
		switch v := x.Value.(type) {
		case int64:
			return func(*env) (val, error) { return intVal(v), nil }
		case float64:
			return func(*env) (val, error) { return floatVal(v), nil }
		case string:
			if x.Token == syntax.STRING {
				c := strVal(v)
				return func(*env) (val, error) { return c, nil }
			}
		}
	case *syntax.Ident:
		depth, slot, ok := sc.find(x.Name)
		if !ok {
			return nil
		}
		name := x.Name
		return func(e *env) (val, error) {
			for i := 0; i < depth; i++ {
				e = e.parent
			}
			if slot >= len(e.slots) {
				return val{}, notYet(name)
			}
			return e.slots[slot], nil
		}
	case *syntax.DotExpr:
		of := compileFast(x.X, sc)
		if of == nil {
			return nil
		}
		name := x.Name.Name
		return func(e *env) (val, error) {
			v, err := of(e)
			if err != nil {
				return v, err
			}
			if r, ok := v.obj.(*record); ok {
				i, ok := r.def.index[name]
				if !ok {
					return val{}, fmt.Errorf("record %s has no field %s", r.def.name, name)
				}
				return r.field(i)
			}
			return val{}, errHandOver
		}
	case *syntax.UnaryExpr:
		of := compileFast(x.X, sc)
		if of == nil || x.Op != syntax.MINUS && x.Op != syntax.NOT && x.Op != syntax.TILDE {
			return nil
		}
		op := x.Op
		return func(e *env) (val, error) {
			v, err := of(e)
			switch {
			case err != nil:
				return v, err
			case op == syntax.NOT:
				return boolVal(!v.truth()), nil
			case op == syntax.MINUS && v.kind == kFloat:
				return floatVal(-v.f), nil
			case op == syntax.MINUS && v.kind == kInt && v.i != math.MinInt64:
				return intVal(-v.i), nil
			case op == syntax.TILDE && v.kind == kInt:
				return intVal(^v.i), nil
			}
			return val{}, errHandOver
		}
	case *syntax.BinaryExpr:
		a, b := compileFast(x.X, sc), compileFast(x.Y, sc)
		if a == nil || b == nil {
			return nil
		}
		return compileBinary(x.Op, a, b)
	case *syntax.CondExpr:
		c, t, f := compileFast(x.Cond, sc), compileFast(x.True, sc), compileFast(x.False, sc)
		if c == nil || t == nil || f == nil {
			return nil
		}
		return func(e *env) (val, error) {
			v, err := c(e)
			if err != nil {
				return v, err
			}
			if v.truth() {
				return t(e)
			}
			return f(e)
		}
	case *syntax.SliceExpr:
		of := compileFast(x.X, sc)
		if of == nil || x.Lo == nil || x.Hi == nil || x.Step != nil {
			return nil
		}
		lo, hi := compileFast(x.Lo, sc), compileFast(x.Hi, sc)
		if lo == nil || hi == nil {
			return nil
		}
		return func(e *env) (val, error) {
			v, err := of(e)
			if err != nil {
				return v, err
			}
			a, err := lo(e)
			if err != nil {
				return v, err
			}
			b, err := hi(e)
			if err != nil {
				return v, err
			}
			t, ok := v.obj.(*table)
			if !ok || a.kind != kInt || b.kind != kInt || a.i < 0 || b.i < 0 {
				return val{}, errHandOver
			}
			// Starlark cuts a slice short at the end of a list. For records that
			// would hide a wrong count, so it is an error here.
			if b.i > int64(t.Len()) || a.i > b.i {
				return val{}, fmt.Errorf("records %d to %d of %d", a.i, b.i, t.Len())
			}
			return val{kind: kObj, obj: t.slice(int(a.i), int(b.i))}, nil
		}
	case *syntax.CallExpr:
		id, ok := x.Fn.(*syntax.Ident)
		if ok && id.Name == "pointer" && len(x.Args) == 1 {
			if of := compileFast(x.Args[0], sc); of != nil {
				return func(e *env) (val, error) {
					v, err := of(e)
					if err != nil || v.kind != kInt || v.i < 0 {
						return val{}, cmp.Or(err, errHandOver)
					}
					p, err := e.run.pointer(uint64(v.i))
					return val{kind: kObj, obj: p}, err
				}
			}
		}
		if !ok || id.Name != "text" || len(x.Args) != 2 {
			return nil
		}
		if _, _, shadowed := sc.find("text"); shadowed {
			return nil
		}
		of, at := compileFast(x.Args[0], sc), compileFast(x.Args[1], sc)
		if of == nil || at == nil {
			return nil
		}
		return func(e *env) (val, error) {
			v, err := of(e)
			if err != nil {
				return v, err
			}
			i, err := at(e)
			if err != nil {
				return v, err
			}
			b, ok := v.obj.(*blob)
			if !ok || i.kind != kInt {
				return val{}, errHandOver
			}
			s, err := b.text(i.i)
			return strVal(s), err
		}
	}
	return nil
}

func compileBinary(op syntax.Token, a, b fn) fn {
	switch op {
	case syntax.AND, syntax.OR:
		return func(e *env) (val, error) {
			x, err := a(e)
			if err != nil || x.truth() == (op == syntax.OR) {
				return x, err
			}
			return b(e)
		}
	}
	return func(e *env) (val, error) {
		x, err := a(e)
		if err != nil {
			return x, err
		}
		y, err := b(e)
		if err != nil {
			return y, err
		}
		if x.kind == kInt && y.kind == kInt {
			return intOp(op, x.i, y.i)
		}
		if (x.kind == kInt || x.kind == kFloat) && (y.kind == kInt || y.kind == kFloat) {
			fx, _ := x.float()
			fy, _ := y.float()
			switch op {
			case syntax.PLUS:
				return floatVal(fx + fy), nil
			case syntax.MINUS:
				return floatVal(fx - fy), nil
			case syntax.STAR:
				return floatVal(fx * fy), nil
			case syntax.SLASH:
				if fy != 0 {
					return floatVal(fx / fy), nil
				}
			}
		}
		return val{}, errHandOver
	}
}

func intOp(op syntax.Token, x, y int64) (val, error) {
	switch op {
	case syntax.PLUS:
		if s := x + y; (s > x) == (y > 0) {
			return intVal(s), nil
		}
	case syntax.MINUS:
		if s := x - y; (s < x) == (y > 0) {
			return intVal(s), nil
		}
	case syntax.STAR:
		hi, lo := bits.Mul64(uint64(x), uint64(y))
		if x >= 0 && y >= 0 && hi == 0 && lo <= math.MaxInt64 {
			return intVal(int64(lo)), nil
		}
	case syntax.SLASH:
		if y != 0 {
			return floatVal(float64(x) / float64(y)), nil
		}
	case syntax.SLASHSLASH, syntax.PERCENT:
		if y == 0 {
			return val{}, fmt.Errorf("division by zero")
		}
		if x == math.MinInt64 && y == -1 {
			break
		}
		q, r := x/y, x%y
		if r != 0 && (r < 0) != (y < 0) { // Starlark rounds down
			q, r = q-1, r+y
		}
		if op == syntax.PERCENT {
			return intVal(r), nil
		}
		return intVal(q), nil
	case syntax.AMP:
		return intVal(x & y), nil
	case syntax.PIPE:
		return intVal(x | y), nil
	case syntax.CIRCUMFLEX:
		return intVal(x ^ y), nil
	case syntax.LTLT:
		if y >= 0 && y < 63 && x >= 0 && x <= math.MaxInt64>>y {
			return intVal(x << y), nil
		}
	case syntax.GTGT:
		if y >= 0 && y < 512 { // what the interpreter allows
			return intVal(x >> min(y, 63)), nil
		}
	case syntax.EQL:
		return boolVal(x == y), nil
	case syntax.NEQ:
		return boolVal(x != y), nil
	case syntax.LT:
		return boolVal(x < y), nil
	case syntax.LE:
		return boolVal(x <= y), nil
	case syntax.GT:
		return boolVal(x > y), nil
	case syntax.GE:
		return boolVal(x >= y), nil
	}
	return val{}, errHandOver
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
