package layout

import (
	"cmp"
	"fmt"
	"math"
	"math/bits"

	"go.starlark.net/syntax"
)

// A formula over fields runs once for each record, of which a file may have
// millions. The interpreter takes a microsecond and some allocations for it;
// most formulas only read fields and do arithmetic on them. Those are compiled
// to closures over the scope: each node of the expression becomes a function of
// the environment, so that nothing is looked up by name and nothing allocated.
//
// A closure must answer exactly as the interpreter does. Where that is not
// certain for the values that it meets (integers that overflow, operands of
// other kinds), it returns errHandOver, and the whole formula runs in the
// interpreter. A test holds both against each other over random formulas.

// compileFast returns a closure for x, or nil if x needs the interpreter.
func compileFast(x syntax.Expr, sc *scope) fn {
	switch x := x.(type) {
	case *syntax.ParenExpr:
		return compileFast(x.X, sc)
	case *syntax.Literal:
		return fastLiteral(x)
	case *syntax.Ident:
		return fastName(x.Name, sc)
	case *syntax.DotExpr:
		return fastField(compileFast(x.X, sc), x.Name.Name)
	case *syntax.UnaryExpr:
		return fastUnary(x.Op, compileFast(x.X, sc))
	case *syntax.BinaryExpr:
		return fastBinary(x.Op, compileFast(x.X, sc), compileFast(x.Y, sc))
	case *syntax.CondExpr:
		return fastCond(compileFast(x.Cond, sc), compileFast(x.True, sc), compileFast(x.False, sc))
	case *syntax.SliceExpr:
		if x.Lo == nil || x.Hi == nil || x.Step != nil {
			return nil
		}
		return fastSlice(compileFast(x.X, sc), compileFast(x.Lo, sc), compileFast(x.Hi, sc))
	case *syntax.CallExpr:
		return fastCall(x, sc)
	}
	return nil
}

func fastLiteral(x *syntax.Literal) fn {
	var c val
	switch v := x.Value.(type) {
	case int64:
		c = intVal(v)
	case float64:
		c = floatVal(v)
	case string:
		if x.Token != syntax.STRING {
			return nil // bytes
		}
		c = strVal(v)
	default:
		return nil // an integer beyond 64 bits
	}
	return func(*env) (val, error) { return c, nil }
}

// fastName reads a name: so many scopes up, at such a place.
func fastName(name string, sc *scope) fn {
	depth, slot, ok := sc.find(name)
	if !ok {
		return nil
	}
	return func(e *env) (val, error) {
		for range depth {
			e = e.parent
		}
		if slot >= len(e.slots) {
			return val{}, notYet(name)
		}
		return e.slots[slot], nil
	}
}

// fastField reads a field of a record.
func fastField(of fn, name string) fn {
	if of == nil {
		return nil
	}
	return func(e *env) (val, error) {
		v, err := of(e)
		if err != nil {
			return v, err
		}
		r, ok := v.obj.(*record)
		if !ok {
			return val{}, errHandOver
		}
		i, ok := r.def.index[name]
		if !ok {
			return val{}, fmt.Errorf("record %s has no field %s", r.def.name, name)
		}
		return r.field(i)
	}
}

func fastUnary(op syntax.Token, of fn) fn {
	if of == nil || op != syntax.MINUS && op != syntax.NOT && op != syntax.TILDE {
		return nil
	}
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
}

func fastCond(cond, yes, no fn) fn {
	if cond == nil || yes == nil || no == nil {
		return nil
	}
	return func(e *env) (val, error) {
		v, err := cond(e)
		if err != nil {
			return v, err
		}
		if v.truth() {
			return yes(e)
		}
		return no(e)
	}
}

// fastSlice takes records of a table. Starlark cuts a slice short at the end of
// a list. For records that would hide a wrong count, so it is an error here.
func fastSlice(of, lo, hi fn) fn {
	if of == nil || lo == nil || hi == nil {
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
		if b.i > int64(t.Len()) || a.i > b.i {
			return val{}, fmt.Errorf("records %d to %d of %d", a.i, b.i, t.Len())
		}
		return val{kind: kObj, obj: t.slice(int(a.i), int(b.i))}, nil
	}
}

// fastCall compiles the two functions that directories and trees call for each
// record: pointer(n) and text(bytes, at).
func fastCall(x *syntax.CallExpr, sc *scope) fn {
	id, ok := x.Fn.(*syntax.Ident)
	if !ok {
		return nil
	}
	switch {
	case id.Name == "pointer" && len(x.Args) == 1:
		return fastPointer(compileFast(x.Args[0], sc))
	case id.Name == "text" && len(x.Args) == 2:
		if _, _, shadowed := sc.find("text"); shadowed {
			return nil
		}
		return fastText(compileFast(x.Args[0], sc), compileFast(x.Args[1], sc))
	}
	return nil
}

func fastPointer(of fn) fn {
	if of == nil {
		return nil
	}
	return func(e *env) (val, error) {
		v, err := of(e)
		if err != nil || v.kind != kInt || v.i < 0 {
			return val{}, cmp.Or(err, errHandOver)
		}
		p, err := e.run.pointer(uint64(v.i))
		return val{kind: kObj, obj: p}, err
	}
}

func fastText(of, at fn) fn {
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

func fastBinary(op syntax.Token, a, b fn) fn {
	if a == nil || b == nil {
		return nil
	}
	if op == syntax.AND || op == syntax.OR {
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
			return floatOp(op, fx, fy)
		}
		return val{}, errHandOver
	}
}

func floatOp(op syntax.Token, x, y float64) (val, error) {
	switch op {
	case syntax.PLUS:
		return floatVal(x + y), nil
	case syntax.MINUS:
		return floatVal(x - y), nil
	case syntax.STAR:
		return floatVal(x * y), nil
	case syntax.SLASH:
		if y != 0 {
			return floatVal(x / y), nil
		}
	}
	return val{}, errHandOver
}

// intOp hands over what does not fit 64 bits; the interpreter's integers have no
// end.
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
