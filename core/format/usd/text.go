// Package usd writes scenes as USD in its text form (USDA) and packed with
// pictures (USDZ), and reads plain meshes of the text form: Universal Scene
// Description, core specification 1.0 (Alliance for OpenUSD, 2025), with the
// schemas UsdGeom, UsdShade and UsdPreviewSurface.
package usd

import (
	"bytes"
	"fmt"
	"strings"

	"excavate/core/format"
)

// prim is a scene description prim.
type prim struct {
	kind      string // of def: Xform, Mesh; empty for an untyped one
	name      string
	path      string
	specifier string // def, over or class
	meta      map[string]value
	props     map[string]value
	propMeta  map[string]map[string]value
	order     []string // of props
	sampled   int      // properties that move
	children  []*prim
	line      int
}

// value is one of: a list of numbers with the numbers of an element, words
// (strings, tokens, paths, assets), or a dictionary that is passed over.
type value struct {
	nums  []float32
	width int // numbers of an element: 1, 2, 3, 4, 9, 16; 0 where there are none
	words []string
	line  int
}

func (v value) word() string {
	if len(v.words) == 0 {
		return ""
	}
	return v.words[0]
}

type parser struct {
	b    []byte
	at   int
	line int
	from int // place of which line is the number
	n    int // prims
}

const (
	nestingMost = 128
	primsMost   = 1 << 20
)

func (p *parser) errorf(msg string, a ...any) error {
	p.line += bytes.Count(p.b[p.from:p.at], []byte("\n"))
	p.from = p.at
	return format.Errorf(fmt.Sprintf("line %d", p.line), msg, a...)
}

func (p *parser) lineNow() int {
	p.line += bytes.Count(p.b[p.from:p.at], []byte("\n"))
	p.from = p.at
	return p.line
}

func (p *parser) space() {
	for p.at < len(p.b) {
		switch c := p.b[p.at]; {
		case c <= ' ' || c == ';':
			p.at++
		case c == '#':
			if i := bytes.IndexByte(p.b[p.at:], '\n'); i >= 0 {
				p.at += i
			} else {
				p.at = len(p.b)
			}
		case c == '/' && p.at+1 < len(p.b) && p.b[p.at+1] == '*':
			if i := bytes.Index(p.b[p.at:], []byte("*/")); i >= 0 {
				p.at += i + 2
			} else {
				p.at = len(p.b)
			}
		default:
			return
		}
	}
}

func (p *parser) peek() byte {
	p.space()
	if p.at < len(p.b) {
		return p.b[p.at]
	}
	return 0
}

func (p *parser) take(c byte) bool {
	if p.peek() == c {
		p.at++
		return true
	}
	return false
}

func (p *parser) expect(c byte) error {
	if !p.take(c) {
		return p.errorf("%.20q stands where %q is due", p.b[p.at:min(p.at+20, len(p.b))], c)
	}
	return nil
}

// name is a word of letters, digits, _ and what names of properties hold.
func (p *parser) name() string {
	p.space()
	i := p.at
	for i < len(p.b) {
		c := p.b[i]
		if c == '_' || c == ':' || c == '.' || c == '!' || c == '-' || c|32 >= 'a' && c|32 <= 'z' || c >= '0' && c <= '9' || c >= 0x80 {
			i++
			continue
		}
		break
	}
	w := string(p.b[p.at:i])
	p.at = i
	return w
}

// quoted reads a string, a path or an asset.
func (p *parser) quoted() (string, bool, error) {
	switch c := p.peek(); c {
	case '"', '\'':
		mark := []byte{c}
		if bytes.HasPrefix(p.b[p.at:], []byte{c, c, c}) {
			mark = []byte{c, c, c}
		}
		i := p.at + len(mark)
		for i < len(p.b) && !bytes.HasPrefix(p.b[i:], mark) {
			if p.b[i] == '\\' {
				i++
			}
			i++
		}
		if i >= len(p.b) {
			return "", false, p.errorf("a text that does not end")
		}
		t := string(p.b[p.at+len(mark) : i])
		p.at = i + len(mark)
		return strings.NewReplacer(`\n`, "\n", `\t`, "\t", `\"`, `"`, `\'`, `'`, `\\`, `\`).Replace(t), true, nil
	case '<', '@':
		end := []byte(">")
		if c == '@' {
			if end = []byte("@"); bytes.HasPrefix(p.b[p.at:], []byte("@@@")) {
				end = []byte("@@@")
			}
		}
		from := p.at + len(end)
		i := bytes.Index(p.b[min(from, len(p.b)):], end)
		if i < 0 {
			return "", false, p.errorf("a path or asset that does not end")
		}
		t := string(p.b[from : from+i])
		p.at = from + i + len(end)
		return t, true, nil
	}
	return "", false, nil
}

// value reads what stands behind an =.
func (p *parser) value(depth int) (v value, err error) {
	v.line = p.lineNow()
	err = p.into(&v, depth)
	return v, err
}

func (p *parser) into(v *value, depth int) error {
	if depth > nestingMost {
		return p.errorf("values lie in each other more than %d deep", nestingMost)
	}
	switch c := p.peek(); {
	case c == '"' || c == '\'' || c == '<' || c == '@':
		t, _, err := p.quoted()
		if err != nil {
			return err
		}
		v.words = append(v.words, t)
		// An asset may have a prim behind it; a layer offset is passed over.
		if c == '@' && p.peek() == '<' {
			if _, _, err := p.quoted(); err != nil {
				return err
			}
		}
		return nil
	case c == '[' || c == '(':
		end := byte(']')
		if c == '(' {
			end = ')'
		}
		p.at++
		before := len(v.nums)
		for {
			if p.take(end) {
				break
			}
			if p.at >= len(p.b) {
				return p.errorf("a list that does not end: the file is cut off")
			}
			if err := p.into(v, depth+1); err != nil {
				return err
			}
			p.take(',')
		}
		if n := len(v.nums) - before; c == '(' && n > v.width {
			v.width = n // a matrix is a tuple of tuples
		}
		return nil
	case c == '{':
		return p.dictionary(depth)
	case c == '-' || c == '+' || c == '.' || c >= '0' && c <= '9':
		x, rest, ok := format.Float(p.b[p.at:])
		f, finite := format.Finite32(x)
		if !ok || !finite {
			return p.errorf("%.20q is no finite number", p.b[p.at:min(p.at+20, len(p.b))])
		}
		p.at = len(p.b) - len(rest)
		v.nums = append(v.nums, f)
		v.width = max(v.width, 1)
		return nil
	default:
		w := p.name()
		switch w {
		case "":
			return p.errorf("%.20q is no value", p.b[p.at:min(p.at+20, len(p.b))])
		case "nan", "inf":
			return p.errorf("a number that is not finite")
		case "true", "false":
			f := float32(0)
			if w == "true" {
				f = 1
			}
			v.nums, v.width = append(v.nums, f), max(v.width, 1)
		default:
			v.words = append(v.words, w)
		}
		return nil
	}
}

// dictionary passes over {…}, time samples among them.
func (p *parser) dictionary(depth int) error {
	if err := p.expect('{'); err != nil {
		return err
	}
	return p.close()
}

// close passes over what is left in a {…}.
func (p *parser) close() error {
	for open := 1; open > 0; {
		switch p.peek() {
		case 0:
			return p.errorf("a { that does not end: the file is cut off")
		case '{':
			open++
			p.at++
		case '}':
			open--
			p.at++
		case '"', '\'', '<', '@':
			if _, _, err := p.quoted(); err != nil {
				return err
			}
		default:
			p.at++
		}
	}
	return nil
}

// firstSample reads {time: value, …} as far as the first value and passes over
// the others.
func (p *parser) firstSample() (v value, err error) {
	if err := p.expect('{'); err != nil {
		return v, err
	}
	if p.peek() != '}' {
		if _, err := p.value(0); err != nil { // its time
			return v, err
		}
		if err := p.expect(':'); err != nil {
			return v, err
		}
		if v, err = p.value(0); err != nil {
			return v, err
		}
	}
	return v, p.close()
}

// metadata reads (…) behind a prim, a property or the layer's mark.
func (p *parser) metadata() (map[string]value, error) {
	out := map[string]value{}
	if !p.take('(') {
		return out, nil
	}
	for {
		if p.take(')') {
			return out, nil
		}
		if p.at >= len(p.b) {
			return nil, p.errorf("a ( that does not end: the file is cut off")
		}
		if t, ok, err := p.quoted(); err != nil {
			return nil, err
		} else if ok { // a comment
			out["comment"] = value{words: []string{t}}
			continue
		}
		w := p.name()
		switch w {
		case "":
			return nil, p.errorf("%.20q in metadata", p.b[p.at:min(p.at+20, len(p.b))])
		case "prepend", "append", "add", "delete", "reorder":
			w = p.name()
		}
		for p.peek() != '=' { // a type before the name
			n := p.name()
			if n == "" {
				return nil, p.errorf("%.20q stands where = is due", p.b[p.at:min(p.at+20, len(p.b))])
			}
			w = n
		}
		p.at++
		v, err := p.value(0)
		if err != nil {
			return nil, err
		}
		out[w] = v
	}
}

// layer reads a whole text: the layer's metadata and its prims.
func (p *parser) layer() (*prim, error) {
	p.line = 1
	if !bytes.HasPrefix(p.b, []byte("#usda ")) {
		return nil, p.errorf("the text does not begin with #usda")
	}
	root := &prim{props: map[string]value{}, propMeta: map[string]map[string]value{}}
	var err error
	if root.meta, err = p.metadata(); err != nil {
		return nil, err
	}
	for p.peek() != 0 {
		if err := p.statement(root, 0); err != nil {
			return nil, err
		}
	}
	return root, nil
}

// statement reads a prim or a property of in.
func (p *parser) statement(in *prim, depth int) error {
	w := p.name()
	for w == "prepend" || w == "append" || w == "add" || w == "delete" || w == "custom" || w == "uniform" || w == "varying" || w == "config" {
		w = p.name()
	}
	switch w {
	case "def", "over", "class":
		return p.prim(in, w, depth)
	case "reorder": // of children or properties, which keep the file's order
		p.name()
		if err := p.expect('='); err != nil {
			return err
		}
		_, err := p.value(0)
		return err
	case "variantSet":
		if _, _, err := p.quoted(); err != nil {
			return err
		}
		p.take('=')
		in.props["variantSet"] = value{words: []string{"x"}}
		return p.dictionary(0)
	case "":
		return p.errorf("%.20q stands where a prim or a property is due", p.b[p.at:min(p.at+20, len(p.b))])
	}
	// A type, perhaps of a list, then a name.
	if p.take('[') {
		if err := p.expect(']'); err != nil {
			return err
		}
	}
	name := p.name()
	if name == "" {
		return p.errorf("the property of type %.20s has no name", w)
	}
	if p.take('=') {
		var v value
		var err error
		if base, ok := strings.CutSuffix(name, ".timeSamples"); ok {
			in.sampled++
			if v, err = p.firstSample(); err == nil && len(in.props[base].nums)+len(in.props[base].words) > 0 {
				v = in.props[base] // what stands without a time goes before
			}
			name = base
		} else {
			v, err = p.value(0)
		}
		if err != nil {
			return err
		}
		if _, twice := in.props[name]; !twice {
			in.order = append(in.order, name)
		}
		if len(in.order) > 1<<16 {
			return p.errorf("a prim of more than %d properties", 1<<16)
		}
		in.props[name] = v
	}
	m, err := p.metadata()
	if err != nil {
		return err
	}
	if len(m) > 0 {
		in.propMeta[name] = m
	}
	return nil
}

func (p *parser) prim(in *prim, specifier string, depth int) error {
	if depth > nestingMost {
		return p.errorf("prims lie in each other more than %d deep", nestingMost)
	}
	if p.n++; p.n > primsMost {
		return p.errorf("more than %d prims", primsMost)
	}
	out := &prim{specifier: specifier, props: map[string]value{}, propMeta: map[string]map[string]value{}, line: p.lineNow()}
	if c := p.peek(); c != '"' && c != '\'' {
		out.kind = p.name()
	}
	var err error
	var ok bool
	if out.name, ok, err = p.quoted(); err != nil {
		return err
	} else if !ok {
		return p.errorf("a prim without a name")
	}
	out.path = in.path + "/" + out.name
	if out.meta, err = p.metadata(); err != nil {
		return err
	}
	if err := p.expect('{'); err != nil {
		return err
	}
	for !p.take('}') {
		if p.at >= len(p.b) {
			return p.errorf("the prim %q does not end: the file is cut off", out.path)
		}
		if err := p.statement(out, depth+1); err != nil {
			return err
		}
	}
	in.children = append(in.children, out)
	return nil
}
