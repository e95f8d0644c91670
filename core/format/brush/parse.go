package brush

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"excavate/core/format"
	"excavate/core/limit"
	"excavate/core/scene"
)

// level is what the file says, before anything is computed.
type level struct {
	entities []entity
	strange  map[string]int // kinds of solids that are not read
	at       int            // line of the first of them
	flagged  int            // faces with words behind their projection
	coloured int            // control points with numbers behind their UV
}

type entity struct {
	props   []scene.Prop
	solids  []solid
	patches []patch
	line    int
}

// Prop is the first value of a key, whatever its capitals.
func (e *entity) prop(key string) string {
	for _, p := range e.props {
		if strings.EqualFold(p.Key, key) {
			return p.Value
		}
	}
	return ""
}

type solid struct {
	faces []face
	line  int
}

// face is a half-space: inside is behind the plane through three points.
type face struct {
	points   [3]point
	material string
	texture  projection
	line     int
}

type patch struct {
	material      string
	columns, rows int
	places        [][3]float64 // columns by rows
	uvs           [][2]float64
	line          int
}

// point is a place in exact decimals: a whole number of 10^-places units.
type point [3]decimal

type decimal struct {
	whole  int64
	places int
}

func (d decimal) float() float64 { return float64(d.whole) / powers[d.places] }

// mostPlaces are digits behind the point that are kept; a unit's 10^-9 is far
// below what a level means.
const mostPlaces = 9

var powers = [mostPlaces + 1]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9}

// Bounds of the form.
const (
	mostPlace   = 1e8  // units from the origin
	mostFaces   = 512  // of one solid: cutting each by all others takes time by their square
	mostControl = 1025 // points along one side of a patch
)

type parser struct {
	b    []byte
	line int
	name map[string]string // strings that were met: materials repeat
}

func (p *parser) errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", p.line), msg, a...)
}

// word is the next word, a bracket alone, or a quoted text with its quotes;
// empty at the end. Comments are passed over.
func (p *parser) word() ([]byte, error) {
	for {
		for len(p.b) > 0 && p.b[0] <= ' ' {
			if p.b[0] == '\n' {
				p.line++
			}
			p.b = p.b[1:]
		}
		if len(p.b) < 2 || p.b[0] != '/' || p.b[1] != '/' {
			break
		}
		for len(p.b) > 0 && p.b[0] != '\n' {
			p.b = p.b[1:]
		}
	}
	if len(p.b) == 0 {
		return nil, nil
	}
	n := 1
	switch p.b[0] {
	case '{', '}', '(', ')', '[', ']':
	case '"':
		for n < len(p.b) && p.b[n] != '"' {
			if p.b[n] == '\n' {
				return nil, p.errorf("a quoted text does not end on its line: %.40q", p.b)
			}
			n++
		}
		if n == len(p.b) {
			return nil, p.errorf("a quoted text does not end: %.40q", p.b)
		}
		n++
	default:
		for n < len(p.b) && p.b[n] > ' ' && !strings.ContainsRune("{}()[]\"", rune(p.b[n])) {
			n++
		}
	}
	w := p.b[:n]
	p.b = p.b[n:]
	return w, nil
}

// peek is the next word, which stays.
func (p *parser) peek() ([]byte, error) {
	b, line := p.b, p.line
	w, err := p.word()
	p.b, p.line = b, line
	return w, err
}

// expect takes a bracket.
func (p *parser) expect(bracket string) error {
	w, err := p.word()
	if err == nil && string(w) != bracket {
		err = p.errorf("%s is expected, not %s", bracket, told(w))
	}
	return err
}

func told(w []byte) string {
	if len(w) == 0 {
		return "the end of the file"
	}
	return fmt.Sprintf("%.40q", w)
}

// text is a word without quotes; equal ones share their bytes.
func (p *parser) text(w []byte) string {
	if len(w) >= 2 && w[0] == '"' {
		w = w[1 : len(w)-1]
	}
	if s, ok := p.name[string(w)]; ok {
		return s
	}
	s := strings.ToValidUTF8(string(w), "\ufffd")
	p.name[string(w)] = s
	return s
}

// number reads a finite number.
func (p *parser) number() (float64, error) {
	w, err := p.word()
	if err != nil {
		return 0, err
	}
	v, rest, ok := format.Float(w)
	if !ok || len(rest) > 0 {
		return 0, p.notANumber(w)
	}
	return v, nil
}

func (p *parser) notANumber(w []byte) error {
	if strings.ContainsRune(string(w), ',') {
		return p.errorf("%s is no number: decimals stand behind a point, not a comma", told(w))
	}
	return p.errorf("a number is expected, not %s", told(w))
}

// decimal reads a number as exactly as it stands there, to nine places.
func (p *parser) decimal() (decimal, error) {
	w, err := p.word()
	if err != nil {
		return decimal{}, err
	}
	if d, ok := plain(w); ok {
		return d, nil
	}
	v, rest, ok := format.Float(w)
	if !ok || len(rest) > 0 {
		return decimal{}, p.notANumber(w)
	}
	if v > mostPlace || v < -mostPlace {
		return decimal{}, p.errorf("%s is too far away: levels reach to %.0f units from the origin", told(w),
			float64(mostPlace))
	}
	d, _ := plain(strconv.AppendFloat(nil, v, 'f', mostPlaces, 64))
	return d, nil
}

// plain reads digits with at most nine places and nine digits before them.
func plain(w []byte) (d decimal, ok bool) {
	neg := false
	if len(w) > 0 && (w[0] == '-' || w[0] == '+') {
		neg, w = w[0] == '-', w[1:]
	}
	digits, behind := 0, -1
	for _, c := range w {
		switch {
		case c == '.' && behind < 0:
			behind = 0
		case c >= '0' && c <= '9':
			if behind >= 0 {
				behind++
			}
			digits++
			d.whole = 10*d.whole + int64(c-'0')
		default:
			return decimal{}, false
		}
		if digits > 17 || behind > mostPlaces {
			return decimal{}, false
		}
	}
	d.places = max(behind, 0)
	for d.places > 0 && d.whole%10 == 0 {
		d.whole, d.places = d.whole/10, d.places-1
	}
	if neg {
		d.whole = -d.whole
	}
	return d, digits > 0 && d.float() <= mostPlace && d.float() >= -mostPlace
}

// parse reads all entities.
func parse(ctx context.Context, data []byte) (*level, error) {
	p := &parser{b: data, line: 1, name: map[string]string{}}
	l := &level{strange: map[string]int{}}
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		w, err := p.word()
		switch {
		case err != nil:
			return nil, err
		case len(w) == 0 && len(l.entities) == 0:
			return nil, p.errorf("the file has no entities")
		case len(w) == 0:
			return l, nil
		case string(w) != "{":
			return nil, p.errorf("an entity begins with {, not %s", told(w))
		case len(l.entities) == limit.Nodes:
			return nil, p.errorf("there are more than %d entities", limit.Nodes)
		}
		e, err := p.entity(ctx, l)
		if err != nil {
			return nil, err
		}
		l.entities = append(l.entities, e)
	}
}

func (p *parser) entity(ctx context.Context, l *level) (entity, error) {
	e := entity{line: p.line}
	for {
		w, err := p.word()
		switch {
		case err != nil:
			return e, err
		case len(w) == 0:
			return e, p.errorf("the file ends within the entity of line %d", e.line)
		case w[0] == '}':
			return e, nil
		case w[0] == '{':
			if len(e.solids)%256 == 0 && ctx.Err() != nil {
				return e, ctx.Err()
			}
			if err := p.solidOrPatch(l, &e); err != nil {
				return e, err
			}
			continue
		case w[0] != '"':
			return e, p.errorf("an entity has keys and values in quotes, and solids in braces, not %s", told(w))
		}
		key := p.text(w)
		if w, err = p.word(); err != nil {
			return e, err
		}
		if len(w) == 0 || w[0] != '"' {
			return e, p.errorf("the key %.40q has no value in quotes, but %s", key, told(w))
		}
		if len(e.props) == limit.DocumentKeys {
			return e, p.errorf("the entity of line %d has more than %d keys", e.line, limit.DocumentKeys)
		}
		e.props = append(e.props, scene.Prop{Key: key, Value: p.text(w)})
	}
}

// solidOrPatch reads what stands in braces within an entity.
func (p *parser) solidOrPatch(l *level, e *entity) error {
	at := p.line
	w, err := p.peek()
	if err != nil {
		return err
	}
	kind := strings.ToLower(string(w))
	switch {
	case len(w) > 0 && w[0] == '(' || kind == "}":
		s, err := p.solid(l)
		e.solids = append(e.solids, s)
		return err
	case strings.HasPrefix(kind, "patchdef"):
		p.word()
		q, err := p.patch(l)
		if err != nil {
			return err
		}
		e.patches = append(e.patches, q)
		return p.expect("}")
	}
	if l.strange[kind]++; l.at == 0 {
		l.at = at
	}
	return p.skip(at)
}

// skip passes over all up to the brace that ends the one of a line.
func (p *parser) skip(at int) error {
	for depth := 1; depth > 0; {
		w, err := p.word()
		if err != nil {
			return err
		}
		switch {
		case len(w) == 0:
			return p.errorf("the file ends within the braces of line %d", at)
		case w[0] == '{':
			depth++
		case w[0] == '}':
			depth--
		}
	}
	return nil
}

func (p *parser) solid(l *level) (solid, error) {
	s := solid{line: p.line}
	for {
		w, err := p.word()
		switch {
		case err != nil:
			return s, err
		case len(w) == 0:
			return s, p.errorf("the file ends within the solid of line %d", s.line)
		case w[0] == '}':
			return s, nil
		case w[0] != '(':
			return s, p.errorf("a face begins with (, not %s", told(w))
		case len(s.faces) == mostFaces:
			return s, p.errorf("the solid of line %d has more than %d faces", s.line, mostFaces)
		}
		f, err := p.face(l)
		if err != nil {
			return s, err
		}
		s.faces = append(s.faces, f)
	}
}

// face reads a face whose first bracket is taken.
func (p *parser) face(l *level) (f face, err error) {
	f.line = p.line
	for i := range 3 {
		if i > 0 {
			if err = p.expect("("); err != nil {
				return f, err
			}
		}
		for k := range 3 {
			if f.points[i][k], err = p.decimal(); err != nil {
				return f, err
			}
		}
		if err = p.expect(")"); err != nil {
			return f, err
		}
	}
	w, err := p.word()
	if err != nil {
		return f, err
	}
	if len(w) == 0 || strings.ContainsRune("{}()[]", rune(w[0])) {
		return f, p.errorf("a material's name is expected, not %s", told(w))
	}
	f.material = p.text(w)
	if f.texture, err = p.projection(); err != nil {
		return f, err
	}
	any, err := p.flags(f.line)
	if any {
		l.flagged++
	}
	return f, err
}

// projection reads how the picture lies on a face, in one of both forms.
func (p *parser) projection() (t projection, err error) {
	w, err := p.peek()
	if err != nil {
		return t, err
	}
	t.axes = len(w) > 0 && w[0] == '['
	for i := range 2 {
		if t.axes {
			if err = p.expect("["); err != nil {
				return t, err
			}
			for k := range 3 {
				if t.axis[i][k], err = p.number(); err != nil {
					return t, err
				}
			}
		}
		if t.offset[i], err = p.number(); err != nil {
			return t, err
		}
		if t.axes {
			if err = p.expect("]"); err != nil {
				return t, err
			}
		}
	}
	for _, to := range []*float64{&t.angle, &t.scale[0], &t.scale[1]} {
		if *to, err = p.number(); err != nil {
			return t, err
		}
	}
	return t, nil
}

// flags passes over the numbers that some games put behind a face, and tells
// whether there are any: they end with its line.
func (p *parser) flags(line int) (any bool, err error) {
	for {
		b, at := p.b, p.line
		w, err := p.word()
		if err != nil {
			return any, err
		}
		if len(w) == 0 || p.line != line || strings.ContainsRune("{}()[]", rune(w[0])) {
			p.b, p.line = b, at
			return any, nil
		}
		any = true
	}
}

// patch reads a grid of control points: a list a column, each of its rows.
func (p *parser) patch(l *level) (q patch, err error) {
	q.line = p.line
	if err = p.expect("{"); err != nil {
		return q, err
	}
	w, err := p.word()
	if err != nil {
		return q, err
	}
	q.material = p.text(w)
	if err = p.size(&q); err != nil {
		return q, err
	}
	if err = p.expect("("); err != nil {
		return q, err
	}
	for range q.columns {
		if err = p.expect("("); err != nil {
			return q, err
		}
		for range q.rows {
			if err = p.control(l, &q); err != nil {
				return q, err
			}
		}
		if err = p.expect(")"); err != nil {
			return q, err
		}
	}
	if err = p.expect(")"); err != nil {
		return q, err
	}
	return q, p.skip(q.line)
}

func (p *parser) size(q *patch) error {
	if err := p.expect("("); err != nil {
		return err
	}
	var n [2]float64
	for i := 0; ; i++ {
		if w, err := p.peek(); err != nil || len(w) > 0 && w[0] == ')' {
			if err != nil || i < 2 {
				return p.errorf("a patch has its columns and rows in brackets")
			}
			break
		}
		v, err := p.number()
		if err != nil {
			return err
		}
		if i < 2 {
			n[i] = v
		}
	}
	p.word()
	for _, v := range n {
		if v != float64(int(v)) || v < 3 || v > mostControl || int(v)%2 == 0 {
			return p.errorf("a patch of %g by %g control points: both are odd numbers from 3 to %d", n[0], n[1], mostControl)
		}
	}
	q.columns, q.rows = int(n[0]), int(n[1])
	return nil
}

// control reads one control point with its UV.
func (p *parser) control(l *level, q *patch) error {
	if err := p.expect("("); err != nil {
		return err
	}
	var v [5]float64
	for k := range v {
		if k < 3 {
			d, err := p.decimal()
			if err != nil {
				return err
			}
			v[k] = d.float()
			continue
		}
		var err error
		if v[k], err = p.number(); err != nil {
			return err
		}
		if v[k] > 1e30 || v[k] < -1e30 {
			return p.errorf("a UV of %g", v[k])
		}
	}
	// Some write a colour behind the UV.
	for more := 0; ; more++ {
		w, err := p.word()
		if err != nil {
			return err
		}
		if len(w) == 0 || w[0] == ')' {
			l.coloured += min(more, 1)
			break
		}
		if _, rest, ok := format.Float(w); !ok || len(rest) > 0 {
			return p.notANumber(w)
		}
	}
	q.places = append(q.places, [3]float64(v[:3]))
	q.uvs = append(q.uvs, [2]float64(v[3:]))
	return nil
}
