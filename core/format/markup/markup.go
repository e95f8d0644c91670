// Package markup reads XML (W3C, Extensible Markup Language 1.0) where bulk
// numbers lie in texts and attributes of files of many megabytes: tokens point
// into the bytes, nothing is copied. Document types are passed over, and only
// the five entities that XML itself names, and characters by number, are
// known: nothing expands. Names come without their prefix.
package markup

import (
	"bytes"
	"fmt"
	"strconv"
	"unicode/utf8"

	"excavate/core/format"
)

// Bounds.
const (
	depthMost = 256
	attrsMost = 1024
)

// Kind of a token.
type Kind int

// The tokens. An element that closes itself is a Start and an End.
const (
	Done Kind = iota
	Start
	End
	Text
)

// Attr is an attribute; Value is as the file has it, see Plain.
type Attr struct{ Name, Value []byte }

// Scanner goes through a document. Name, Attrs and Text are those of the last
// token and hold until the next one.
type Scanner struct {
	Name  []byte
	Attrs []Attr
	Text  []byte // character data between tags; raw is told by CData
	CData bool   // Text stood in a CDATA section: it has no entities

	b      []byte
	at     int
	open   [][]byte // names of the elements around
	closed bool     // the last Start closes itself
	seen   bool     // a root element
	line   int      // of lineAt
	lineAt int
}

// NewScanner begins a document in UTF-8.
func NewScanner(b []byte) *Scanner { return &Scanner{b: b, line: 1} }

// Depth is the number of elements around the place.
func (s *Scanner) Depth() int { return len(s.open) }

// Line is the line of the place.
func (s *Scanner) Line() int {
	s.line += bytes.Count(s.b[s.lineAt:s.at], []byte("\n"))
	s.lineAt = s.at
	return s.line
}

// Errorf is an error at the place.
func (s *Scanner) Errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", s.Line()), msg, a...)
}

func isName(c byte) bool {
	return c > ' ' && c != '>' && c != '/' && c != '=' && c != '<' && c != '"' && c != '\''
}

func local(name []byte) []byte {
	if i := bytes.IndexByte(name, ':'); i >= 0 {
		return name[i+1:]
	}
	return name
}

// Next reads a token.
func (s *Scanner) Next() (Kind, error) {
	if s.closed {
		s.closed = false
		s.open = s.open[:len(s.open)-1]
		return End, nil
	}
	for s.at < len(s.b) {
		if s.b[s.at] != '<' {
			i := bytes.IndexByte(s.b[s.at:], '<')
			if i < 0 {
				i = len(s.b) - s.at
			}
			s.Text, s.CData = s.b[s.at:s.at+i], false
			s.at += i
			if len(s.open) == 0 {
				if t := bytes.TrimSpace(s.Text); len(t) > 0 && t[0] != 0 {
					return Done, s.Errorf("text outside of the document's element: %.20q", t)
				}
				continue
			}
			return Text, nil
		}
		rest := s.b[s.at:]
		switch {
		case bytes.HasPrefix(rest, []byte("<!--")):
			if err := s.skip("-->", "a comment"); err != nil {
				return Done, err
			}
		case bytes.HasPrefix(rest, []byte("<![CDATA[")):
			i := bytes.Index(rest, []byte("]]>"))
			if i < 0 || len(s.open) == 0 {
				return Done, s.Errorf("a CDATA section that does not end, or stands outside")
			}
			s.Text, s.CData = rest[9:i], true
			s.at += i + 3
			return Text, nil
		case bytes.HasPrefix(rest, []byte("<?")):
			if err := s.skip("?>", "an instruction"); err != nil {
				return Done, err
			}
		case bytes.HasPrefix(rest, []byte("<!")):
			if err := s.doctype(); err != nil {
				return Done, err
			}
		case bytes.HasPrefix(rest, []byte("</")):
			return s.end()
		default:
			return s.start()
		}
	}
	if len(s.open) > 0 {
		return Done, s.Errorf("the file ends within <%s>: it is cut off", s.open[len(s.open)-1])
	}
	if !s.seen {
		return Done, s.Errorf("there is no element")
	}
	return Done, nil
}

func (s *Scanner) skip(mark, what string) error {
	i := bytes.Index(s.b[s.at:], []byte(mark))
	if i < 0 {
		return s.Errorf("%s that does not end", what)
	}
	s.at += i + len(mark)
	return nil
}

// doctype passes over <!DOCTYPE …[…]>. What it declares is not used.
func (s *Scanner) doctype() error {
	quote, inner := byte(0), 0
	for i := s.at; i < len(s.b); i++ {
		switch c := s.b[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '[':
			inner++
		case c == ']':
			inner--
		case c == '>' && inner <= 0:
			s.at = i + 1
			return nil
		}
	}
	return s.Errorf("a document type that does not end")
}

func (s *Scanner) end() (Kind, error) {
	i := bytes.IndexByte(s.b[s.at:], '>')
	if i < 0 {
		return Done, s.Errorf("an end tag that does not end")
	}
	name := local(bytes.TrimSpace(s.b[s.at+2 : s.at+i]))
	if len(s.open) == 0 {
		return Done, s.Errorf("</%.40s> closes nothing", name)
	}
	if top := s.open[len(s.open)-1]; !bytes.Equal(top, name) {
		return Done, s.Errorf("</%.40s> stands where </%.40s> is due", name, top)
	}
	s.Name = name
	s.at += i + 1
	s.open = s.open[:len(s.open)-1]
	return End, nil
}

func (s *Scanner) start() (Kind, error) {
	if len(s.open) == 0 && s.seen {
		return Done, s.Errorf("a second element beside the document's own")
	}
	b, i := s.b, s.at+1
	from := i
	for i < len(b) && isName(b[i]) {
		i++
	}
	if i == from {
		return Done, s.Errorf("a < that begins no tag")
	}
	s.Name, s.Attrs = local(b[from:i]), s.Attrs[:0]
	for {
		for i < len(b) && b[i] <= ' ' {
			i++
		}
		if i >= len(b) {
			return Done, s.Errorf("the tag <%.40s does not end: the file is cut off", s.Name)
		}
		if b[i] == '>' {
			i++
			break
		}
		if b[i] == '/' && i+1 < len(b) && b[i+1] == '>' {
			s.closed = true
			i += 2
			break
		}
		from = i
		for i < len(b) && isName(b[i]) {
			i++
		}
		name := b[from:i]
		for i < len(b) && b[i] <= ' ' {
			i++
		}
		if len(name) == 0 || i >= len(b) || b[i] != '=' {
			return Done, s.Errorf("<%.40s>: %.20q is no attribute", s.Name, b[from:min(from+20, len(b))])
		}
		for i++; i < len(b) && b[i] <= ' '; i++ {
		}
		if i >= len(b) || b[i] != '"' && b[i] != '\'' {
			return Done, s.Errorf("<%.40s>: the value of %.40s is not in quotes", s.Name, name)
		}
		k := bytes.IndexByte(b[i+1:], b[i])
		if k < 0 {
			return Done, s.Errorf("<%.40s>: the value of %.40s does not end", s.Name, name)
		}
		if len(s.Attrs) >= attrsMost {
			return Done, s.Errorf("<%.40s> has more than %d attributes", s.Name, attrsMost)
		}
		s.Attrs = append(s.Attrs, Attr{local(name), b[i+1 : i+1+k]})
		i += k + 2
	}
	if len(s.open) >= depthMost {
		return Done, s.Errorf("elements lie in each other more than %d deep", depthMost)
	}
	s.at, s.seen = i, true
	s.open = append(s.open, s.Name)
	return Start, nil
}

// Attr is the value of an attribute of the last Start, or nil.
func (s *Scanner) Attr(name string) []byte {
	for i := range s.Attrs {
		if string(s.Attrs[i].Name) == name {
			return s.Attrs[i].Value
		}
	}
	return nil
}

// Plain is a value with its entities resolved.
func Plain(b []byte) (string, error) {
	if bytes.IndexByte(b, '&') < 0 {
		return string(b), nil
	}
	var out []byte
	for len(b) > 0 {
		i := bytes.IndexByte(b, '&')
		if i < 0 {
			out = append(out, b...)
			break
		}
		out = append(out, b[:i]...)
		b = b[i+1:]
		k := bytes.IndexByte(b, ';')
		if k < 0 || k > 12 {
			return string(out), fmt.Errorf("an & that begins no entity; write &amp;")
		}
		switch e := string(b[:k]); {
		case e == "amp":
			out = append(out, '&')
		case e == "lt":
			out = append(out, '<')
		case e == "gt":
			out = append(out, '>')
		case e == "quot":
			out = append(out, '"')
		case e == "apos":
			out = append(out, '\'')
		case len(e) > 1 && e[0] == '#':
			digits, base := e[1:], 10
			if digits[0] == 'x' {
				digits, base = digits[1:], 16
			}
			n, err := strconv.ParseUint(digits, base, 32)
			if err != nil || n > utf8.MaxRune {
				return string(out), fmt.Errorf("&%s; is no character", e)
			}
			out = utf8.AppendRune(out, rune(n))
		default:
			return string(out), fmt.Errorf("the entity &%s; is not known", e)
		}
		b = b[k+1:]
	}
	return string(out), nil
}

// Node is an element with all that is in it.
type Node struct {
	Name     string
	Attrs    []Attr
	Children []*Node
	Text     []byte // its own character data; entities are as the file has them
	Line     int
}

// Tree reads a whole document into nodes.
func Tree(b []byte) (*Node, error) {
	s := NewScanner(b)
	var stack []*Node
	var root *Node
	names := map[string]string{}
	for {
		k, err := s.Next()
		if err != nil {
			return nil, err
		}
		switch k {
		case Done:
			return root, nil
		case Start:
			name, ok := names[string(s.Name)]
			if !ok {
				name = string(s.Name)
				names[name] = name
			}
			n := &Node{Name: name, Line: s.Line()}
			if len(s.Attrs) > 0 {
				n.Attrs = append([]Attr{}, s.Attrs...)
			}
			if root == nil {
				root = n
			} else {
				p := stack[len(stack)-1]
				p.Children = append(p.Children, n)
			}
			stack = append(stack, n)
		case End:
			stack = stack[:len(stack)-1]
		case Text:
			n := stack[len(stack)-1]
			if n.Text == nil {
				n.Text = s.Text
			} else if len(bytes.TrimSpace(s.Text)) > 0 {
				n.Text = append(append([]byte{}, n.Text...), s.Text...)
			}
		}
	}
}

// Attr is an attribute with its entities resolved; empty if it has none.
func (n *Node) Attr(name string) string {
	if n == nil {
		return ""
	}
	for i := range n.Attrs {
		if string(n.Attrs[i].Name) == name {
			v, _ := Plain(n.Attrs[i].Value)
			return v
		}
	}
	return ""
}

// Child is the first child of a name along a path; nil if there is none.
func (n *Node) Child(path ...string) *Node {
	for _, name := range path {
		if n == nil {
			return nil
		}
		var next *Node
		for _, c := range n.Children {
			if c.Name == name {
				next = c
				break
			}
		}
		n = next
	}
	return n
}

// All are the children of a name.
func (n *Node) All(name string) (out []*Node) {
	if n == nil {
		return nil
	}
	for _, c := range n.Children {
		if c.Name == name {
			out = append(out, c)
		}
	}
	return out
}

// Words is the text without what stands around it.
func (n *Node) Words() string {
	if n == nil {
		return ""
	}
	v, _ := Plain(bytes.TrimSpace(n.Text))
	return v
}

// Errorf is an error at the node's line.
func (n *Node) Errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", n.Line), msg, a...)
}

// Blank tells whether a character stands between numbers.
func Blank(c byte) bool { return c == ' ' || c == '\n' || c == '\t' || c == '\r' || c == ',' }

// Floats reads the numbers of the text, at most most; fewer where the text has
// fewer. Infinity and what is no number is an error that names it. Where a
// comma stands in a number, most tells whether it parts two numbers or is the
// point of one: most is then how many there are. commas, if it is not nil, is
// set where it is a point.
func (n *Node) Floats(most int, commas *bool) ([]float32, error) {
	out := make([]float32, 0, min(most, len(n.Text)/2+1))
	err := n.floats(most, commas, func(v float64, f float32) { out = append(out, f) })
	return out, err
}

// Doubles is Floats with 64 bits a number.
func (n *Node) Doubles(most int, commas *bool) ([]float64, error) {
	out := make([]float64, 0, min(most, len(n.Text)/2+1))
	err := n.floats(most, commas, func(v float64, f float32) { out = append(out, v) })
	return out, err
}

func (n *Node) floats(most int, commas *bool, take func(float64, float32)) error {
	b := n.Text
	if bytes.IndexByte(b, ',') >= 0 {
		var err error
		if b, err = n.pointed(b, most, commas); err != nil {
			return err
		}
	}
	for taken := 0; ; taken++ {
		for len(b) > 0 && Blank(b[0]) {
			b = b[1:]
		}
		if len(b) == 0 || taken == most {
			return nil
		}
		v, rest, ok := format.Float(b)
		f, finite := format.Finite32(v)
		if !ok || !finite || len(rest) > 0 && !Blank(rest[0]) {
			k := 0
			for k < len(b) && k < 24 && !Blank(b[k]) {
				k++
			}
			return n.Errorf("<%s>: number %d is %.24q, which is no finite number", n.Name, taken, b[:k])
		}
		take(v, f)
		b = rest
	}
}

// pointed settles what the commas of a list mean, of which want numbers are
// declared: parted by blanks alone, or by commas too. In XML Schema (part 2,
// section 2.5.1.2) blanks alone part a list's items.
func (n *Node) pointed(b []byte, want int, commas *bool) ([]byte, error) {
	words := len(bytes.Fields(b))
	parts := len(bytes.FieldsFunc(b, func(r rune) bool { return r < 0x80 && Blank(byte(r)) }))
	points := bytes.ReplaceAll(b, []byte(","), []byte("."))
	switch {
	case parts == want || parts == words:
		return b, nil
	case words == want:
		if commas != nil {
			*commas = true
		}
		return points, nil
	}
	if out, ok := format.CommaNumbers(b); ok {
		if commas != nil {
			*commas = true
		}
		return out, nil
	}
	return nil, n.Errorf("<%s> has commas in its numbers, and means %d or %d numbers; it should have %d. Write points instead of commas", n.Name, words, parts, want)
}

// Ints reads the whole numbers of the text.
func (n *Node) Ints() ([]int32, error) {
	b := n.Text
	out := make([]int32, 0, len(b)/3+1)
	for i := 0; i < len(b); {
		if Blank(b[i]) {
			i++
			continue
		}
		neg := b[i] == '-'
		if neg || b[i] == '+' {
			i++
		}
		v, from := int64(0), i
		for ; i < len(b) && b[i]-'0' < 10; i++ {
			if v = 10*v + int64(b[i]-'0'); v > 1<<31 {
				break
			}
		}
		if i == from || v > 1<<31-1 || i < len(b) && !Blank(b[i]) {
			return nil, n.Errorf("<%s>: number %d is no whole number of 32 bits", n.Name, len(out))
		}
		if neg {
			v = -v
		}
		out = append(out, int32(v))
	}
	return out, nil
}
