package x3d

import (
	"fmt"
	"slices"

	"excavate/core/format"
	"excavate/core/format/markup"
)

// element is an element as it stands in the file; prototypes are made of them
// again and again.
type element struct {
	name string
	line int
	attr []markup.Attr
	kids []*element
}

func (e *element) get(name string) string {
	for _, a := range e.attr {
		if string(a.Name) == name {
			v, _ := markup.Plain(a.Value) // an & that begins no entity ends it
			return v
		}
	}
	return ""
}

func (e *element) errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", e.line), msg, a...)
}

// elements reads a document's tree.
func elements(b []byte) (*element, error) {
	s := markup.NewScanner(b)
	root := &element{}
	stack := []*element{root}
	for count := 0; ; {
		k, err := s.Next()
		if err != nil {
			return nil, err
		}
		switch k {
		case markup.Done:
			return root, nil
		case markup.Start:
			if count++; count > mostNodes || len(stack) > mostDepth {
				return nil, s.Errorf("more than %d elements, or more than %d deep", mostNodes, mostDepth)
			}
			e := &element{name: string(s.Name), line: s.Line(), attr: slices.Clone(s.Attrs)}
			top := stack[len(stack)-1]
			top.kids = append(top.kids, e)
			stack = append(stack, e)
		case markup.End:
			stack = stack[:len(stack)-1]
		}
	}
}

// declared is a prototype of the XML encoding (X3D 4.4.4): the fields of its
// interface and the elements of its body.
type declared struct {
	fields map[string]*element
	body   *element
	sc     *scope // where it is declared
}

// scope is where names hold: the document, or one use of a prototype.
type scope struct {
	defs   map[string]*node
	protos map[string]*declared
	is     map[string]*value // a prototype's fields, as this use has them
	deep   int
}

// maker makes nodes of elements.
type maker struct {
	metres float64
	lost   *format.Losses
	nodes  int
	open   []*node // those that hold the one that is made
	routes []*route
}

// parseXML reads the XML encoding.
func parseXML(b []byte) (roots []*node, m *maker, err error) {
	root, err := elements(b)
	if err != nil {
		return nil, nil, err
	}
	m = &maker{metres: 1, lost: &format.Losses{}}
	roots, err = m.all(root.kids, &scope{defs: map[string]*node{}, protos: map[string]*declared{}})
	return roots, m, err
}

func (m *maker) all(list []*element, sc *scope) (out []*node, err error) {
	for _, e := range list {
		n, err := m.make(e, sc)
		if err != nil {
			return nil, err
		}
		if n != nil {
			out = append(out, n)
		}
	}
	return out, nil
}

// make returns nil for what is no node.
func (m *maker) make(e *element, sc *scope) (*node, error) {
	if m.nodes++; m.nodes > mostNodes {
		return nil, e.errorf("more than %d nodes, counting each use of a prototype", mostNodes)
	}
	switch e.name {
	case "ROUTE":
		addRoute(&m.routes, m.lost, sc.defs[e.get("fromNode")], sc.defs[e.get("toNode")], e.get("fromField"), e.get("toField"))
		return nil, nil
	case "ExternProtoDeclare", "Script":
		m.lost.Lose("an element %s was left out", e.name)
		return nil, nil
	case "ProtoDeclare":
		d := &declared{fields: map[string]*element{}, sc: sc}
		for _, k := range e.kids {
			if k.name == "ProtoInterface" {
				for _, f := range k.kids {
					d.fields[f.get("name")] = f
				}
			} else if k.name == "ProtoBody" {
				d.body = k
			}
		}
		sc.protos[e.get("name")] = d
		return nil, nil
	case "ProtoInstance":
		n, err := m.instance(e, sc)
		if name := e.get("DEF"); n != nil && name != "" {
			sc.defs[name] = n
		}
		return n, err
	case "IS", "field", "fieldValue":
		return nil, nil // the node that it stands in has read it
	}
	if use := e.get("USE"); use != "" {
		old := sc.defs[use]
		if old == nil {
			return nil, e.errorf("USE names %s, which is not defined before it", use)
		}
		if slices.Contains(m.open, old) {
			return nil, e.errorf("USE %s stands within what it names", use)
		}
		return old, nil
	}
	n := &node{typ: e.name, line: e.line, def: e.get("DEF"), fields: map[string]*value{}}
	if n.def != "" {
		sc.defs[n.def] = n
	}
	for _, a := range e.attr {
		if name := string(a.Name); name != "DEF" {
			text, commas := a.Value, false
			if measured(name) {
				if text, commas = format.CommaNumbers(text); commas {
					m.lost.Tell(format.CommasNote)
				}
			}
			v, err := attribute(text)
			if err != nil {
				return nil, e.errorf("%s: %v", name, err)
			}
			n.fields[name] = v
		}
	}
	if n.typ == "unit" && n.text("category") == "length" {
		m.metres = n.num("conversionFactor", 1)
	}
	for _, k := range e.kids {
		if k.name != "IS" {
			continue
		}
		for _, c := range k.kids {
			v := sc.is[c.get("protoField")]
			if c.name != "connect" || v == nil {
				continue
			}
			if len(v.nodes) > 0 {
				n.kids = append(n.kids, v.nodes...)
			} else {
				n.fields[c.get("nodeField")] = v
			}
		}
	}
	m.open = append(m.open, n)
	kids, err := m.all(e.kids, sc)
	m.open = m.open[:len(m.open)-1]
	n.kids = append(n.kids, kids...)
	return n, err
}

// instance makes the first node of a prototype's body, with the fields that
// this use gives it.
func (m *maker) instance(e *element, sc *scope) (*node, error) {
	name := e.get("name")
	d := sc.protos[name]
	if d == nil {
		m.lost.Lose("a use of the prototype %s, which is not declared here, was left out", name)
		return nil, nil
	}
	if d.body == nil || len(d.body.kids) == 0 {
		return nil, nil
	}
	if sc.deep >= mostDepth/4 {
		return nil, e.errorf("prototypes use each other more than %d deep", mostDepth/4)
	}
	in := &scope{defs: map[string]*node{}, protos: map[string]*declared{}, is: map[string]*value{}, deep: sc.deep + 1}
	for k, v := range d.sc.protos {
		in.protos[k] = v
	}
	give := func(name string, from *element, where *scope) error {
		v, err := attribute([]byte(from.get("value")))
		if err != nil {
			return from.errorf("%v", err)
		}
		nodes, err := m.all(from.kids, where)
		v.nodes = nodes
		in.is[name] = v
		return err
	}
	for k, f := range d.fields {
		if f.get("value") != "" || len(f.kids) > 0 {
			if err := give(k, f, d.sc); err != nil {
				return nil, err
			}
		}
	}
	for _, f := range e.kids {
		if f.name == "fieldValue" {
			if err := give(f.get("name"), f, sc); err != nil {
				return nil, err
			}
		}
	}
	list, err := m.all(d.body.kids, in)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0], nil
}
