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
	type level struct{ indent, keys int }
	var blocks []level // indentations that are open
	var flow []int     // commas of each bracket that is open
	quote, literal := byte(0), -1
	line := 0
	for text := range bytes.Lines(doc) {
		line++
		text = bytes.TrimRight(text, "\r\n")
		indent := len(text) - len(bytes.TrimLeft(text, " "))
		if indent == len(text) {
			continue
		}
		if literal >= 0 {
			if indent > literal {
				continue
			}
			literal = -1
		}
		i := indent
		if quote == 0 && len(flow) == 0 {
			for len(blocks) > 0 && blocks[len(blocks)-1].indent > indent {
				blocks = blocks[:len(blocks)-1]
			}
			// Each dash and question mark opens a level of its own.
			for ; i < len(text) && (text[i] == '-' || text[i] == '?') && (i+1 == len(text) || text[i+1] == ' '); i++ {
				if len(blocks) == 0 || blocks[len(blocks)-1].indent < i {
					blocks = append(blocks, level{indent: i})
				}
				for i+1 < len(text) && text[i+1] == ' ' {
					i++
				}
			}
			if i < len(text) && text[i] != '#' {
				if len(blocks) == 0 || blocks[len(blocks)-1].indent < i {
					blocks = append(blocks, level{indent: i})
				}
				top := &blocks[len(blocks)-1]
				if top.keys++; top.keys > limit.DocumentKeys {
					return &Error{Line: line, Col: i + 1, Msg: fmt.Sprintf("more than %d keys in one mapping", limit.DocumentKeys)}
				}
			}
		}
		begins := true // a token may begin here
		for ; i < len(text); i++ {
			c := text[i]
			switch {
			case quote == '"' && c == '\\':
				i++
			case quote != 0:
				if c == quote {
					quote = 0
				}
			case (c == '"' || c == '\'') && begins:
				quote = c
			case c == '#' && (i == 0 || text[i-1] == ' ' || text[i-1] == '\t'):
				i = len(text)
				continue
			case c == '[' || c == '{':
				if begins || len(flow) > 0 {
					flow = append(flow, 0)
				}
			case c == ']' || c == '}':
				if len(flow) > 0 {
					flow = flow[:len(flow)-1]
				}
			case c == ',' && len(flow) > 0:
				n := &flow[len(flow)-1]
				if *n++; *n > 64*limit.DocumentKeys {
					return &Error{Line: line, Col: i + 1, Msg: fmt.Sprintf("more than %d values in one list", 64*limit.DocumentKeys)}
				}
			case (c == '|' || c == '>') && begins && len(flow) == 0:
				literal = indent
			}
			if len(blocks)+len(flow) > limit.DocumentDepth {
				return &Error{Line: line, Col: i + 1, Msg: fmt.Sprintf("nested more than %d deep", limit.DocumentDepth)}
			}
			switch c {
			case ' ', '\t':
			case ':', ',', '[', '{', '-', '?':
				begins = true
			default:
				begins = false
			}
		}
		if len(blocks)+len(flow) > limit.DocumentDepth {
			return &Error{Line: line, Col: 1, Msg: fmt.Sprintf("nested more than %d deep", limit.DocumentDepth)}
		}
	}
	return nil
}
