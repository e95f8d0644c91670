// Package x3d reads X3D (ISO/IEC 19775-1; XML encoding ISO/IEC 19776-1,
// classic encoding 19776-2) and VRML97 (ISO/IEC 14772-1): nodes within nodes,
// faces and primitives, lines and points, colours, normals, textures, DEF and
// USE, Switch and LOD, prototypes, lights and viewpoints. It writes both.
package x3d

import (
	"bytes"
	"fmt"
	"strings"

	"excavate/core/format"
	"excavate/core/format/markup"
	"excavate/core/limit"
)

// node is one node of either encoding.
type node struct {
	typ, def string
	line     int
	fields   map[string]*value
	kids     []*node // of the XML encoding, in whatever field they belong to
}

// value is what a field holds; which of them, its type decides.
type value struct {
	nums  []float64
	words []string // strings, and TRUE and FALSE
	nodes []*node
}

func (n *node) nums(field string) []float64 {
	if v := n.fields[field]; v != nil {
		return v.nums
	}
	return nil
}

func (n *node) num(field string, usual float64) float64 {
	if v := n.nums(field); len(v) > 0 {
		return v[0]
	}
	return usual
}

func (n *node) vec(field string, usual ...float64) []float64 {
	if v := n.nums(field); len(v) >= len(usual) {
		return v[:len(usual)]
	}
	return usual
}

func (n *node) flag(field string, usual bool) bool {
	if v := n.fields[field]; v != nil && len(v.words) > 0 {
		return strings.EqualFold(v.words[0], "true")
	}
	return usual
}

func (n *node) text(field string) string {
	if v := n.fields[field]; v != nil && len(v.words) > 0 {
		return v.words[0]
	}
	return ""
}

// child is the node of a field; in XML the first of one of the types.
func (n *node) child(field string, types ...string) *node {
	if v := n.fields[field]; v != nil && len(v.nodes) > 0 {
		return v.nodes[0]
	}
	for _, k := range n.kids {
		for _, t := range types {
			if k.typ == t {
				return k
			}
		}
	}
	return nil
}

// children are all nodes below.
func (n *node) children(fields ...string) []*node {
	var out []*node
	for _, f := range fields {
		if v := n.fields[f]; v != nil {
			out = append(out, v.nodes...)
		}
	}
	return append(out, n.kids...)
}

const (
	mostDepth = 128
	mostNodes = 1 << 20
)

// classic parses VRML97 and the classic encoding.
type classic struct {
	b      []byte
	at     int
	line   int
	defs   map[string]*node
	protos map[string]*proto
	is     map[string]*value // of the prototype that is expanded: its fields
	nodes  int
	lost   *format.Losses
	depth  int
	metres float64 // of a unit of length, 0 where the file does not say
	own    bool    // b is a copy
	routes *[]*route
}

// proto is a prototype: the fields of its interface with their usual values,
// and where its body stands.
type proto struct {
	fields map[string]*value
	body   []byte
	line   int
}

func (p *classic) errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", p.line), msg, a...)
}

func (p *classic) space() {
	for p.at < len(p.b) {
		switch c := p.b[p.at]; {
		case c == '\n':
			p.line++
			p.at++
		case c <= ' ' || c == ',':
			p.at++
		case c == '#':
			for p.at < len(p.b) && p.b[p.at] != '\n' {
				p.at++
			}
		default:
			return
		}
	}
}

// word reads an identifier or a mark; empty at the end.
func (p *classic) word() string {
	p.space()
	if p.at >= len(p.b) {
		return ""
	}
	start := p.at
	switch c := p.b[p.at]; c {
	case '{', '}', '[', ']', '"':
		p.at++
		return p.b2s(start)
	}
	for p.at < len(p.b) && p.b[p.at] > ' ' && !strings.ContainsRune("{}[]\",#", rune(p.b[p.at])) {
		p.at++
	}
	if p.at == start {
		p.at++
	}
	return p.b2s(start)
}

func (p *classic) b2s(start int) string { return string(p.b[start:p.at]) }

func (p *classic) peek() byte {
	p.space()
	if p.at < len(p.b) {
		return p.b[p.at]
	}
	return 0
}

func (p *classic) quoted() (string, error) {
	var out []byte
	for p.at < len(p.b) {
		c := p.b[p.at]
		p.at++
		switch c {
		case '"':
			return strings.ToValidUTF8(string(out), "\ufffd"), nil
		case '\\':
			if p.at < len(p.b) {
				c = p.b[p.at]
				p.at++
			}
		case '\n':
			p.line++
		}
		out = append(out, c)
	}
	return "", p.errorf("a text has no end")
}

// scene reads the statements of a file, a prototype or a list, to its end.
func (p *classic) scene(end string) ([]*node, error) {
	var out []*node
	for {
		w := p.word()
		switch w {
		case end:
			return out, nil
		case "":
			return nil, p.errorf("the file ends before a %s", end)
		case "PROTO":
			if err := p.prototype(); err != nil {
				return nil, err
			}
		case "EXTERNPROTO":
			p.word()
			if err := p.skip("[", "]"); err != nil {
				return nil, err
			}
			if p.peek() == '[' {
				if err := p.skip("[", "]"); err != nil {
					return nil, err
				}
			} else if p.word() == `"` {
				if _, err := p.quoted(); err != nil {
					return nil, err
				}
			}
			p.lost.Lose("an EXTERNPROTO was left out")
		case "ROUTE":
			p.route()
		case "PROFILE", "COMPONENT":
			p.word()
		case "IMPORT", "EXPORT":
			p.word()
			if at, line := p.at, p.line; p.word() == "AS" {
				p.word()
			} else {
				p.at, p.line = at, line
			}
			p.lost.Lose("an %s was left out", w)
		case "META":
			for range 2 {
				if p.word() == `"` {
					if _, err := p.quoted(); err != nil {
						return nil, err
					}
				}
			}
		case "UNIT": // ISO/IEC 19776-2, 4.3.4: category, name, factor
			category := p.word()
			p.word()
			var factor value
			if ok, err := p.number(&factor); err != nil || !ok {
				return nil, p.errorf("the unit of %s has no number", category)
			}
			if category == "length" {
				p.metres = factor.nums[0]
			} else {
				p.lost.Lose("a unit of %s was left out", category)
			}
		default:
			n, err := p.node(w)
			if err != nil {
				return nil, err
			}
			if n != nil {
				out = append(out, n)
			}
		}
	}
}

func (p *classic) skip(open, close string) error {
	if w := p.word(); w != open {
		return p.errorf("%q stands where a %s is wanted", w, open)
	}
	for deep := 1; deep > 0; {
		switch w := p.word(); w {
		case open:
			deep++
		case close:
			deep--
		case `"`:
			if _, err := p.quoted(); err != nil {
				return err
			}
		case "":
			return p.errorf("the file ends before a %s", close)
		}
	}
	return nil
}

func (p *classic) prototype() error {
	name := p.word()
	pr := &proto{fields: map[string]*value{}}
	if w := p.word(); w != "[" {
		return p.errorf("the prototype %s has no [", name)
	}
	for {
		kind := p.word()
		if kind == "]" {
			break
		}
		switch kind {
		case "":
			return p.errorf("the file ends in the prototype %s", name)
		case "eventIn", "eventOut", "inputOnly", "outputOnly":
			p.word()
			p.word()
			continue
		}
		typ, field := p.word(), p.word()
		v, err := p.value(typ)
		if err != nil {
			return err
		}
		pr.fields[field] = v
	}
	p.space()
	start, line := p.at, p.line
	if err := p.skip("{", "}"); err != nil {
		return err
	}
	pr.body, pr.line = p.b[start+1:p.at-1], line
	if len(p.protos) >= 4096 {
		return p.errorf("more than 4096 prototypes")
	}
	p.protos[name] = pr
	return nil
}

// node reads a node whose first word was read.
func (p *classic) node(w string) (*node, error) {
	switch w {
	case "NULL":
		return nil, nil
	case "USE":
		name := p.word()
		n := p.defs[name]
		if n == nil {
			return nil, p.errorf("USE names %s, which is not defined before it", name)
		}
		return n, nil
	}
	def := ""
	if w == "DEF" {
		def, w = p.word(), p.word()
	}
	if p.nodes++; p.nodes > mostNodes {
		return nil, p.errorf("more than %d nodes", mostNodes)
	}
	if p.depth++; p.depth > mostDepth {
		return nil, p.errorf("nodes nest more than %d deep", mostDepth)
	}
	defer func() { p.depth-- }()
	n := &node{typ: w, def: def, line: p.line, fields: map[string]*value{}}
	if c := p.peek(); c != '{' {
		return nil, p.errorf("%q is no node: a { is wanted", w)
	}
	if w == "Script" {
		p.lost.Lose("a Script was left out")
		return nil, p.skip("{", "}")
	}
	p.word()
	for {
		f := p.word()
		if f == "}" {
			break
		}
		switch f {
		case "":
			return nil, p.errorf("the file ends within %s", w)
		case "ROUTE":
			p.route()
			continue
		case "PROTO":
			if err := p.prototype(); err != nil {
				return nil, err
			}
			continue
		}
		if measured(f) {
			p.pointed()
		}
		v, err := p.value("")
		if err != nil {
			return nil, err
		}
		if v != nil {
			n.fields[f] = v
		}
	}
	if pr := p.protos[w]; pr != nil {
		m, err := p.expand(pr, n)
		if err != nil {
			return nil, err
		}
		if m != nil && def != "" {
			p.defs[def] = m
		}
		return m, nil
	}
	if def != "" {
		p.defs[def] = n
	}
	return n, nil
}

// expand makes a prototype's nodes with the fields of an instance; the first
// is what it stands for.
func (p *classic) expand(pr *proto, n *node) (*node, error) {
	in := &classic{b: pr.body, line: pr.line, defs: map[string]*node{}, protos: p.protos, is: map[string]*value{}, lost: p.lost, nodes: p.nodes, depth: p.depth, routes: p.routes}
	for k, v := range pr.fields {
		in.is[k] = v
	}
	for k, v := range n.fields {
		in.is[k] = v
	}
	in.b = append(append([]byte{}, in.b...), " }"...)
	list, err := in.scene("}")
	p.nodes = in.nodes
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0], nil
}

// measured tells whether a field's numbers may have fractions: places in lists
// and texels have none, and may well be parted by commas alone.
func measured(field string) bool {
	return !strings.HasSuffix(field, "Index") && field != "image" && field != "index" && !strings.HasSuffix(field, "Count")
}

// pointed reads decimal commas in the numbers that stand next.
func (p *classic) pointed() {
	p.space()
	from := p.at
	if from < len(p.b) && p.b[from] == '[' {
		from++
	}
	end := 0
	if from > p.at {
		end = bytes.IndexByte(p.b[from:], ']')
	} else { // up to the next word
		for end = 0; from+end < len(p.b); end++ {
			c := p.b[from+end]
			exponent := (c == 'e' || c == 'E') && end > 0 && p.b[from+end-1]-'0' < 10
			if c-'0' >= 10 && !markup.Blank(c) && c != '-' && c != '+' && c != '.' && !exponent {
				break
			}
		}
	}
	if end < 0 {
		return
	}
	region := p.b[from : from+end]
	if bytes.IndexByte(region, ',') < 0 || bytes.IndexByte(region, '{') >= 0 {
		return
	}
	if out, ok := format.CommaNumbers(region); ok {
		if !p.own { // the file's bytes stay as they are
			p.b, p.own = bytes.Clone(p.b), true
		}
		copy(p.b[from:], out)
		p.lost.Tell(format.CommasNote)
	}
}

// value reads a field's value. typ is known in an interface only; without it
// what stands there decides.
func (p *classic) value(typ string) (*value, error) {
	v := &value{}
	switch c := p.peek(); {
	case c == '[':
		p.word()
		// Room for as many numbers as there are blanks, if it is a list of numbers.
		if end := bytes.IndexByte(p.b[p.at:], ']'); end > 1<<10 && bytes.IndexByte(p.b[p.at:p.at+end], '{') < 0 {
			v.nums = make([]float64, 0, bytes.Count(p.b[p.at:p.at+end], []byte(" "))+1)
		}
		for {
			switch c := p.peek(); {
			case c == ']':
				p.word()
				return v, nil
			case c == 0:
				return nil, p.errorf("the file ends within a list")
			case c == '"':
				p.word()
				s, err := p.quoted()
				if err != nil {
					return nil, err
				}
				v.words = append(v.words, s)
			default:
				if ok, err := p.number(v); err != nil {
					return nil, err
				} else if ok {
					continue
				}
				w := p.word()
				if w == "TRUE" || w == "FALSE" {
					v.words = append(v.words, w)
					continue
				}
				n, err := p.node(w)
				if err != nil {
					return nil, err
				}
				if n != nil {
					v.nodes = append(v.nodes, n)
				}
			}
		}
	case c == '"':
		p.word()
		s, err := p.quoted()
		v.words = []string{s}
		return v, err
	case c == 0 || c == '}':
		return nil, p.errorf("a value is missing")
	}
	for {
		ok, err := p.number(v)
		if err != nil {
			return nil, err
		}
		if !ok {
			break
		}
	}
	if len(v.nums) > 0 {
		return v, nil
	}
	switch w := p.word(); w {
	case "TRUE", "FALSE":
		v.words = []string{w}
	case "IS":
		return p.is[p.word()], nil
	default:
		n, err := p.node(w)
		if err != nil {
			return nil, err
		}
		if n != nil {
			v.nodes = []*node{n}
		}
	}
	return v, nil
}

// number reads one number if one stands here.
func (p *classic) number(v *value) (bool, error) {
	c := p.peek()
	if c != '-' && c != '+' && c != '.' && (c < '0' || c > '9') {
		return false, nil
	}
	rest := p.b[p.at:]
	if len(rest) > 2 && rest[0] == '0' && (rest[1] == 'x' || rest[1] == 'X') { // pixels
		w := p.word()
		var x uint64
		if _, err := fmt.Sscanf(w[2:], "%x", &x); err != nil {
			return false, p.errorf("%q is no number", w)
		}
		v.nums = append(v.nums, float64(x))
		return true, nil
	}
	x, after, ok := format.Float(rest)
	if !ok {
		return false, p.errorf("%q is no number", string(rest[:min(len(rest), 16)]))
	}
	if len(v.nums) >= 8*limit.Vertices {
		return false, p.errorf("more than %d numbers", 8*limit.Vertices)
	}
	v.nums = append(v.nums, x)
	p.at = len(p.b) - len(after)
	return true, nil
}

// attribute reads an attribute's text as numbers and as strings, for whichever
// its field wants. Strings stand in marks; one alone may stand without.
func attribute(b []byte) (*value, error) {
	if bytes.IndexByte(b, '&') >= 0 {
		s, err := markup.Plain(b)
		if err != nil {
			return nil, err
		}
		b = []byte(s)
	}
	v := &value{}
	if len(b) > 1<<10 {
		v.nums = make([]float64, 0, bytes.Count(b, []byte(" "))+1)
	}
	in := classic{b: b}
	for in.at < len(b) {
		if b[in.at] <= ' ' || b[in.at] == ',' {
			in.at++
		} else if ok, err := in.number(v); err != nil || !ok {
			break
		}
	}
	if in.at == len(b) && len(v.nums) > 16 { // nothing but numbers
		return v, nil
	}
	if bytes.IndexByte(b, '"') < 0 {
		v.words = []string{strings.ToValidUTF8(string(bytes.TrimSpace(b)), "\ufffd")}
		return v, nil
	}
	for in.at = 0; ; {
		k := bytes.IndexByte(b[in.at:], '"')
		if k < 0 {
			return v, nil
		}
		in.at += k + 1
		w, err := in.quoted()
		if err != nil { // the last has no end
			return v, nil
		}
		v.words = append(v.words, w)
	}
}
