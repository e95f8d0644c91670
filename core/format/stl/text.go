package stl

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"excavate/core/format"
	"excavate/core/numlist"
	"excavate/core/parallel"
	"excavate/core/scene"
)

// text reads words between blanks; only a solid's name ends with its line. Each
// core has a piece of its own, from one facet to another.
func (b *builder) text(ctx context.Context, data []byte) error {
	data, commas := format.DecimalCommas(data, false, "vertex", "facet", "normal")
	if commas > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: format.CommasNote})
	}
	pieces := parallel.Gather(len(data), 1<<18, func(from, to int) *piece {
		p := &piece{from: facetFrom(data, from), ctx: ctx}
		p.data = data[p.from:facetFrom(data, to)]
		p.read()
		return p
	})
	var positions, normals []float32
	name, strange, cut := "", 0, false
	flush := func() {
		b.part.Positions, b.part.Normals, b.part.Triangles = positions, normals, numlist.Upto(len(positions)/3)
		b.solid(name)
		positions, normals = nil, nil
	}
	for _, p := range pieces {
		if p.fault == nil && p.open && p.from+len(p.data) < len(data) {
			p.at, p.fault = len(p.data), errNested
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if p.fault != nil {
			return format.Errorf(fmt.Sprintf("line %d", 1+bytes.Count(data[:p.from+p.at], []byte("\n"))), "%v", p.fault)
		}
		cut = cut || p.open
		strange += p.strange
		from := 0
		take := func(to int) {
			if positions == nil { // most solids lie in one piece
				positions, normals = p.positions[from:to:to], p.normals[from:to:to]
			} else {
				positions, normals = append(positions, p.positions[from:to]...), append(normals, p.normals[from:to]...)
			}
			from = to
		}
		for _, m := range p.marks {
			take(m.at)
			if flush(); m.begins {
				name = m.name
			}
		}
		take(len(p.positions))
	}
	if len(positions) > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: "the last solid has no end"})
		flush()
	}
	if cut {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: "the file ends within a facet, which was left out", Loss: true})
	}
	if strange > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("%d lines were passed over from a word on that STL does not have", strange)})
	}
	return nil
}

// facetFrom is where the first line begins, at i or after it, that begins with
// a facet; the end of the file if none does.
func facetFrom(data []byte, i int) int {
	for i > 0 && i < len(data) {
		k := bytes.Index(data[i:], []byte("facet"))
		if k < 0 {
			return len(data)
		}
		i += k
		line := bytes.TrimRight(data[:i], " \t")
		if n := len(line); n == 0 || line[n-1] == '\n' {
			return i
		}
		i++
	}
	return i
}

// piece is what stands in a part of a text.
type piece struct {
	from int // in the file
	data []byte
	ctx  context.Context
	at   int // in data

	positions, normals []float32
	marks              []mark
	strange            int // lines with a word that is not STL's
	open               bool
	fault              error
}

// mark is where a solid begins or ends.
type mark struct {
	at     int // numbers before it
	begins bool
	name   string
}

// word is the next word, empty at the end.
func (p *piece) word() []byte {
	for p.at < len(p.data) && p.data[p.at] <= ' ' {
		p.at++
	}
	from := p.at
	for p.at < len(p.data) && p.data[p.at] > ' ' {
		p.at++
	}
	return p.data[from:p.at]
}

// line is the rest of the line.
func (p *piece) line() string {
	rest := p.data[p.at:]
	if n := bytes.IndexByte(rest, '\n'); n >= 0 {
		rest = rest[:n]
	}
	p.at += len(rest)
	return strings.ToValidUTF8(strings.TrimSpace(string(rest)), "\ufffd")
}

func (p *piece) corner(v *[3]float32) bool {
	for k := range v {
		for p.at < len(p.data) && p.data[p.at] <= ' ' {
			p.at++
		}
		x, rest, ok := format.Float(p.data[p.at:])
		f, finite := format.Finite32(x)
		if !ok || !finite {
			p.fault = fmt.Errorf("a corner has three numbers, and %q is none", p.word())
			return false
		}
		v[k], p.at = f, len(p.data)-len(rest)
	}
	return true
}

// normal reads a facet's normal, zero where its numbers are none: flat facets
// have such.
func (p *piece) normal() (v [3]float32) {
	back := p.at
	if !is(p.word(), "normal") {
		p.at = back
		return v
	}
	sound := true
	for k := range v {
		back = p.at
		w := p.word()
		if is(w, "outer") || is(w, "vertex") {
			p.at = back
			return [3]float32{}
		}
		x, rest, ok := format.Float(w)
		f, finite := format.Finite32(x)
		v[k], sound = f, sound && ok && finite && len(rest) == 0
	}
	if !sound {
		return [3]float32{}
	}
	return v
}

// is compares with a word in small letters; some write large ones.
func is(w []byte, word string) bool {
	return string(w) == word || len(w) == len(word) && w[0] < 'a' && strings.EqualFold(string(w), word)
}

var (
	errFour    = errors.New("a facet has three corners")
	errOutside = errors.New("a corner outside a facet")
	errNested  = errors.New("a facet begins, and the one before it has no end")
)

func (p *piece) read() {
	var n [3]float32
	var c [3][3]float32
	corners := 0
	for facets := 0; ; {
		w := p.word()
		back := p.at - len(w)
		if len(w) == 0 {
			return
		}
		switch {
		case is(w, "vertex"):
			if !p.open {
				p.fault = errOutside
				return
			}
			if corners == 3 {
				p.fault = errFour
				return
			}
			if !p.corner(&c[corners]) {
				p.at = back
				return
			}
			corners++
		case is(w, "outer"), is(w, "loop"), is(w, "endloop"):
		case is(w, "facet"):
			if p.open {
				p.at, p.fault = back, errNested
				return
			}
			n, corners, p.open = p.normal(), 0, true
		case is(w, "endfacet"):
			if corners != 3 {
				p.fault = fmt.Errorf("the facet has %d corners", corners)
				return
			}
			if facets++; facets&0xfff == 0 && p.ctx.Err() != nil {
				return
			}
			if p.positions == nil { // as many as there are if all were as long as this one
				room := 9 * (len(p.data)/max(p.at, 60) + 16)
				p.positions, p.normals = make([]float32, 0, room), make([]float32, 0, room)
			}
			corners, p.open = 0, false
			q := [9]float32{c[0][0], c[0][1], c[0][2], c[1][0], c[1][1], c[1][2], c[2][0], c[2][1], c[2][2]}
			u := unit(n, &q)
			p.positions = append(p.positions, q[:]...)
			p.normals = append(p.normals, u[0], u[1], u[2], u[0], u[1], u[2], u[0], u[1], u[2])
		case is(w, "endsolid"):
			p.line()
			p.marks = append(p.marks, mark{at: len(p.positions)})
		case is(w, "solid"):
			p.marks = append(p.marks, mark{len(p.positions), true, p.line()})
		default:
			p.strange++
			p.line()
		}
	}
}
