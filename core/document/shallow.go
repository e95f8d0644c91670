package document

import (
	"bytes"
	"fmt"

	"excavate/core/limit"
)

// shallow refuses documents that are nested deeply or have very many keys in
// one mapping. The YAML library takes a time that grows with the square of
// both, so it must not see them. The scan takes one pass; it knows of YAML
// what it must: indentation (YAML 1.2.2, section 6.1), flow collections (7.4),
// quotes (7.3), comments (6.6) and block scalars (8.1).
func shallow(doc []byte) error {
	s := scanner{literal: -1}
	for text := range bytes.Lines(doc) {
		s.line++
		text = bytes.TrimRight(text, "\r\n")
		indent := len(text) - len(bytes.TrimLeft(text, " "))
		if indent == len(text) || s.inLiteral(indent) {
			continue
		}
		i := indent
		if s.quote == 0 && len(s.flow) == 0 {
			var err error
			if i, err = s.open(text, indent); err != nil {
				return err
			}
		}
		if err := s.rest(text, i, indent); err != nil {
			return err
		}
	}
	return nil
}

// scanner is the state between the lines of a document.
type scanner struct {
	line    int
	blocks  []level // indentations that are open
	flow    []int   // commas of each bracket that is open
	quote   byte    // that is open
	literal int     // the indentation that a block scalar lies deeper than, or -1
}

// level is a block mapping or sequence.
type level struct{ indent, keys int }

func (s *scanner) errorf(col int, f string, a ...any) error {
	return &Error{Line: s.line, Col: col, Msg: fmt.Sprintf(f, a...)}
}

// depth refuses what is nested too deeply.
func (s *scanner) depth(col int) error {
	if len(s.blocks)+len(s.flow) > limit.DocumentDepth {
		return s.errorf(col, "nested more than %d deep", limit.DocumentDepth)
	}
	return nil
}

// inLiteral tells whether a line is text of a block scalar.
func (s *scanner) inLiteral(indent int) bool {
	if s.literal >= 0 && indent > s.literal {
		return true
	}
	s.literal = -1
	return false
}

// open finds which mappings and sequences a line goes on with or begins, and
// returns where its content begins.
func (s *scanner) open(text []byte, i int) (int, error) {
	for len(s.blocks) > 0 && s.blocks[len(s.blocks)-1].indent > i {
		s.blocks = s.blocks[:len(s.blocks)-1]
	}
	begin := func(indent int) {
		if len(s.blocks) == 0 || s.blocks[len(s.blocks)-1].indent < indent {
			s.blocks = append(s.blocks, level{indent: indent})
		}
	}
	// Each dash and question mark opens a level of its own.
	for ; i < len(text) && (text[i] == '-' || text[i] == '?') && (i+1 == len(text) || text[i+1] == ' '); i++ {
		begin(i)
		for i+1 < len(text) && text[i+1] == ' ' {
			i++
		}
	}
	if i < len(text) && text[i] != '#' {
		begin(i)
		top := &s.blocks[len(s.blocks)-1]
		if top.keys++; top.keys > limit.DocumentKeys {
			return i, s.errorf(i+1, "more than %d keys in one mapping", limit.DocumentKeys)
		}
	}
	return i, nil
}

// rest goes through a line from i on: quotes, brackets, comments, and what
// begins a block scalar.
func (s *scanner) rest(text []byte, i, indent int) error {
	begins := true // a token may begin here
	for ; i < len(text); i++ {
		c := text[i]
		if s.quote != 0 {
			if s.quote == '"' && c == '\\' {
				i++
			} else if c == s.quote {
				s.quote = 0
			}
			begins = tokenMayFollow(c, begins)
			continue
		}
		if c == '#' && (i == 0 || text[i-1] == ' ' || text[i-1] == '\t') {
			break
		}
		if err := s.mark(c, begins, i+1, indent); err != nil {
			return err
		}
		if err := s.depth(i + 1); err != nil {
			return err
		}
		begins = tokenMayFollow(c, begins)
	}
	return s.depth(1)
}

// tokenMayFollow tells whether a token may begin behind a character.
func tokenMayFollow(c byte, before bool) bool {
	switch c {
	case ' ', '\t':
		return before
	case ':', ',', '[', '{', '-', '?':
		return true
	}
	return false
}

// mark takes note of what a character outside of quotes opens or ends.
func (s *scanner) mark(c byte, begins bool, col, indent int) error {
	switch {
	case (c == '"' || c == '\'') && begins:
		s.quote = c
	case c == '[' || c == '{':
		if begins || len(s.flow) > 0 {
			s.flow = append(s.flow, 0)
		}
	case c == ']' || c == '}':
		if len(s.flow) > 0 {
			s.flow = s.flow[:len(s.flow)-1]
		}
	case c == ',' && len(s.flow) > 0:
		n := &s.flow[len(s.flow)-1]
		if *n++; *n > 64*limit.DocumentKeys {
			return s.errorf(col, "more than %d values in one list", 64*limit.DocumentKeys)
		}
	case (c == '|' || c == '>') && begins && len(s.flow) == 0:
		s.literal = indent
	}
	return nil
}
