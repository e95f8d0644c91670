package layout

import (
	"errors"
	"fmt"
	"strings"

	"excavate/core/limit"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// A script is Starlark with loops and functions, where formulas are not
// enough. It is bounded in steps, and whatever can make much of little in one
// step, such as joining lists, counts as many steps as it makes elements, so
// that the bound on steps is one on memory.

// scriptNames are what a script may call beside the layout's own functions.
var scriptNames = starlark.StringDict{
	"len": starlark.Universe["len"], "int": starlark.Universe["int"], "float": starlark.Universe["float"], "bool": starlark.Universe["bool"],
	"range": starlark.Universe["range"], "ord": starlark.Universe["ord"], "chr": starlark.Universe["chr"], "abs": starlark.Universe["abs"],
	"True": starlark.True, "False": starlark.False, "None": starlark.None,
	"str": starlark.NewBuiltin("str", scriptStr), "fail": starlark.NewBuiltin("fail", scriptFail),
	"_plus": starlark.NewBuiltin("+", scriptPlus), "_mod": starlark.NewBuiltin("%", scriptMod), "_slice": starlark.NewBuiltin("slice", scriptSlice),
}

// growing are methods that make much in one step.
var growing = map[string]bool{"extend": true, "join": true, "format": true, "replace": true, "update": true, "elems": true, "codepoints": true, "elem_ords": true, "codepoint_ords": true}

type script struct {
	n    *node
	prog *starlark.Program
	main string
}

// script compiles the text of n, which must define a function main.
func (c *compiler) script(n *node, main string, names starlark.StringDict) *script {
	if c.err != nil || n == nil {
		return nil
	}
	src := c.word(n)
	// The text of a block begins on the line after its mark; empty lines before
	// it make the lines of messages those of the layout.
	f, err := (&syntax.FileOptions{}).Parse(c.Name, strings.Repeat("\n", n.line)+src, 0)
	if err == nil {
		err = boundScript(f.Stmts)
	}
	var prog *starlark.Program
	if err == nil {
		prog, err = starlark.FileProgram(f, func(name string) bool { return names[name] != nil || builtins[name] != nil || scriptNames[name] != nil })
	}
	if err != nil {
		line, col, msg := n.line, n.col, err.Error()
		var se syntax.Error
		if errors.As(err, &se) {
			line, col, msg = int(se.Pos.Line), int(se.Pos.Col), se.Msg
		}
		var re interface{ Error() string }
		if errors.As(err, &re) {
			var l, k int
			if i := strings.IndexByte(msg, ':'); i > 0 {
				if n, _ := fmt.Sscanf(msg[i:], ":%d:%d: ", &l, &k); n == 2 {
					line, col = l, k
					msg = msg[strings.Index(msg, ": ")+2:]
				}
			}
		}
		c.err = &Error{Layout: c.Name, Line: line, Col: col, Msg: "script: " + msg}
		return nil
	}
	defined := false
	for _, s := range f.Stmts {
		if d, ok := s.(*syntax.DefStmt); ok && d.Name.Name == main {
			defined = true
		}
	}
	if !defined {
		c.fail(n, "the script defines no function %s", main)
	}
	return &script{n: n, prog: prog, main: main}
}

// boundScript puts bounded functions in the place of operators.
func boundScript(stmts []syntax.Stmt) error {
	for _, s := range stmts {
		var err error
		x := func(e *syntax.Expr) {
			if *e != nil && err == nil {
				*e, err = boundExpr(*e)
			}
		}
		switch s := s.(type) {
		case *syntax.AssignStmt:
			if op := map[syntax.Token]syntax.Token{syntax.PLUS_EQ: syntax.PLUS, syntax.STAR_EQ: syntax.STAR, syntax.PERCENT_EQ: syntax.PERCENT}[s.Op]; op != 0 {
				if _, ok := s.LHS.(*syntax.Ident); !ok {
					return syntax.Error{Pos: s.OpPos, Msg: "write a[i] = a[i] + x"}
				}
				id := *s.LHS.(*syntax.Ident)
				s.RHS = &syntax.BinaryExpr{X: &id, OpPos: s.OpPos, Op: op, Y: s.RHS}
				s.Op = syntax.EQ
			}
			x(&s.LHS)
			x(&s.RHS)
		case *syntax.ExprStmt:
			x(&s.X)
		case *syntax.ReturnStmt:
			x(&s.Result)
		case *syntax.ForStmt:
			x(&s.X)
			if err == nil {
				err = boundScript(s.Body)
			}
		case *syntax.IfStmt:
			x(&s.Cond)
			if err == nil {
				err = boundScript(s.True)
			}
			if err == nil {
				err = boundScript(s.False)
			}
		case *syntax.DefStmt:
			for i := range s.Params {
				if b, ok := s.Params[i].(*syntax.BinaryExpr); ok {
					x(&b.Y)
				}
			}
			if err == nil {
				err = boundScript(s.Body)
			}
		case *syntax.BranchStmt:
		default:
			start, _ := s.Span()
			err = syntax.Error{Pos: start, Msg: "this statement is not used in layouts"}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func boundExpr(e syntax.Expr) (syntax.Expr, error) {
	var bad error
	refuse := func(pos syntax.Position, msg string) {
		if bad == nil {
			bad = syntax.Error{Pos: pos, Msg: msg}
		}
	}
	syntax.Walk(e, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.DotExpr:
			if growing[n.Name.Name] {
				refuse(n.Dot, "."+n.Name.Name+"() is not used in layouts")
			}
		case *syntax.CallExpr:
			for _, a := range n.Args {
				if u, ok := a.(*syntax.UnaryExpr); ok && (u.Op == syntax.STAR || u.Op == syntax.STARSTAR) {
					refuse(u.OpPos, "* before an argument is not used in layouts")
				}
			}
		case *syntax.LambdaExpr:
			refuse(n.Lambda, "lambda is not used in layouts: write def")
		}
		return true
	})
	if bad != nil {
		return e, bad
	}
	return replaceExpr(boundTimes(e)), nil
}

// replaceExpr puts _plus, _mod and _slice in the place of +, % and slices.
func replaceExpr(x syntax.Expr) syntax.Expr {
	call := func(name string, pos syntax.Position, args ...syntax.Expr) syntax.Expr {
		for i := range args {
			if args[i] == nil {
				args[i] = &syntax.Ident{Name: "None", NamePos: pos}
			}
		}
		return &syntax.CallExpr{Fn: &syntax.Ident{Name: name, NamePos: pos}, Lparen: pos, Args: args, Rparen: pos}
	}
	return mapExpr(x, func(x syntax.Expr) syntax.Expr {
		switch x := x.(type) {
		case *syntax.BinaryExpr:
			switch x.Op {
			case syntax.PLUS:
				return call("_plus", x.OpPos, x.X, x.Y)
			case syntax.PERCENT:
				return call("_mod", x.OpPos, x.X, x.Y)
			}
		case *syntax.SliceExpr:
			return call("_slice", x.Lbrack, x.X, x.Lo, x.Hi, x.Step)
		}
		return x
	})
}

// call runs the script's function.
func (s *script) call(r *run, names starlark.StringDict, args ...starlark.Value) error {
	th := &starlark.Thread{Name: s.main}
	th.SetLocal("run", r)
	left := uint64(limit.LayoutSteps) - min(r.steps, limit.LayoutSteps)
	th.SetMaxExecutionSteps(left + 1)
	defer r.watch(th)()
	defer func() { r.steps += th.ExecutionSteps() }()
	all := starlark.StringDict{}
	for _, d := range []starlark.StringDict{scriptNames, builtins, names} {
		for k, v := range d {
			all[k] = v
		}
	}
	globals, err := s.prog.Init(th, all)
	if err == nil {
		globals.Freeze()
		_, err = starlark.Call(th, globals[s.main], args, nil)
	}
	if err == nil {
		return nil
	}
	instead := ""
	if th.ExecutionSteps() > left {
		instead = fmt.Sprintf("it does not end within %d steps", left)
	}
	return r.scriptError(s, err, instead)
}

// scriptError names the line of the layout where a script failed, and the
// calls that led there.
func (r *run) scriptError(s *script, err error, instead string) error {
	if r.cancelled() != nil {
		return r.cancelled()
	}
	line, col, msg := s.n.line, s.n.col, err.Error()
	var ee *starlark.EvalError
	if errors.As(err, &ee) {
		msg = ee.Msg
		var le *Error
		if errors.As(ee.Unwrap(), &le) {
			msg = le.Msg
		}
		if instead != "" {
			msg = instead
		}
		var calls []string
		for i := 0; i < len(ee.CallStack); i++ { // the innermost first
			fr := ee.CallStack.At(i)
			if fr.Pos.Line == 0 {
				continue
			}
			if len(calls) == 0 {
				line, col = int(fr.Pos.Line), int(fr.Pos.Col)
			}
			calls = append(calls, fmt.Sprintf("%s line %d", fr.Name, fr.Pos.Line))
		}
		if len(calls) > 1 {
			msg += " (in " + strings.Join(calls, ", called from ") + ")"
		}
	}
	out := r.errorf(line, col, "%s", msg).(*Error)
	out.Err = err
	if gone := missing(err); gone != nil {
		out.Err = gone
	}
	return out
}

// charge counts n elements that are made in one step. They weigh more than
// steps, so that the bound on steps keeps lists to some ten megabytes.
func charge(th *starlark.Thread, n int) { th.Steps += 8 * uint64(n) }

func sized(v starlark.Value) int {
	switch v := v.(type) {
	case starlark.String:
		return len(v)/16 + 1
	case *starlark.List:
		return v.Len()
	case starlark.Tuple:
		return len(v)
	case starlark.Bytes:
		return len(v)/16 + 1
	case *starlark.Dict:
		return v.Len()
	}
	return 0
}

func tooLong(v starlark.Value) error {
	if s, ok := v.(starlark.String); ok && len(s) > maxText {
		return fmt.Errorf("a text of more than %d bytes", maxText)
	}
	return nil
}

func scriptPlus(th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, _ []starlark.Tuple) (starlark.Value, error) {
	charge(th, sized(args[0])+sized(args[1]))
	v, err := starlark.Binary(syntax.PLUS, args[0], args[1])
	if err == nil {
		err = tooLong(v)
	}
	return v, err
}

func scriptMod(th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, _ []starlark.Tuple) (starlark.Value, error) {
	if _, ok := args[0].(starlark.String); ok {
		list, ok := args[1].(starlark.Tuple)
		if !ok {
			list = starlark.Tuple{args[1]}
		}
		for _, a := range list {
			if !plain(a) {
				return nil, fmt.Errorf("only numbers and texts are put into a text, not %s", a.Type())
			}
			charge(th, sized(a))
		}
	}
	v, err := starlark.Binary(syntax.PERCENT, args[0], args[1])
	if err == nil {
		err = tooLong(v)
	}
	return v, err
}

func plain(v starlark.Value) bool {
	switch v.(type) {
	case starlark.Int, starlark.Float, starlark.String, starlark.Bool, starlark.NoneType, *place:
		return true
	}
	return false
}

func scriptSlice(th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, _ []starlark.Tuple) (starlark.Value, error) {
	x, ok := args[0].(starlark.Sliceable)
	if !ok {
		return nil, fmt.Errorf("%s has no slices", args[0].Type())
	}
	n := x.Len()
	lo, hi := 0, n
	for i, to := range []*int{&lo, &hi} {
		if args[i+1] == starlark.None {
			continue
		}
		k, err := starlark.AsInt32(args[i+1])
		if err != nil {
			return nil, err
		}
		if k < 0 {
			k += n
		}
		*to = min(max(k, 0), n)
	}
	if args[3] != starlark.None {
		return nil, errors.New("slices have no step in layouts")
	}
	hi = max(lo, hi)
	if sized(args[0]) > 0 {
		charge(th, hi-lo)
	}
	return x.Slice(lo, hi, 1), nil
}

func scriptStr(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var v starlark.Value
	if err := starlark.UnpackPositionalArgs("str", args, kw, 1, &v); err != nil {
		return nil, err
	}
	if s, ok := v.(starlark.String); ok {
		return s, nil
	}
	if !plain(v) {
		return nil, fmt.Errorf("str is of numbers and texts, not of %s", v.Type())
	}
	return starlark.String(v.String()), nil
}

func scriptFail(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var msg string
	if err := starlark.UnpackPositionalArgs("fail", args, kw, 1, &msg); err != nil {
		return nil, err
	}
	return nil, errors.New(short(msg))
}
