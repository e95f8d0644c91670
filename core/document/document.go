// Package document reads the small YAML documents that people write: chains,
// target sheets, name rules, layouts. A mistake is told with its line and
// column, the word that is probably meant, and types in words.
package document

import (
	"errors"
	"fmt"

	"excavate/core/limit"
)

// Error is a mistake in a document.
type Error struct {
	Line, Col int    // from 1
	Path      string // the parameter at fault, where a schema was held against
	Msg       string
}

func (e *Error) Error() string { return fmt.Sprintf("[%d:%d] %s", e.Line, e.Col, e.Msg) }

// Read decodes a document into v, a pointer to a struct with yaml tags. Keys
// that v does not have are errors. A field of type *Node keeps its part of the
// document as it stands.
func Read(doc []byte, v any) error {
	n, err := Parse(doc)
	if err != nil {
		return err
	}
	return n.Decode(v)
}

// AgainstJSON holds a JSON text, which has no lines that anybody sees, against
// a schema; an error names the parameter instead.
func AgainstJSON(text, schema []byte) error {
	n, err := Parse(text)
	if err == nil {
		err = n.Against(schema)
	}
	if e, ok := errors.AsType[*Error](err); ok {
		if e.Path == "" {
			return errors.New(e.Msg)
		}
		return fmt.Errorf("%s: %s", e.Path, e.Msg)
	}
	return err
}

// Parse reads a document as a tree. What the YAML library cannot cope with,
// such as a tag without a value, is an error as well and never more than that.
func Parse(doc []byte) (n *Node, err error) {
	if len(doc) > limit.DocumentBytes {
		return nil, &Error{Line: 1, Col: 1, Msg: fmt.Sprintf("the document has %d bytes, at most %d are read", len(doc), limit.DocumentBytes)}
	}
	if err := shallow(doc); err != nil {
		return nil, err
	}
	defer guard(&err)
	return parse(doc)
}

// guard turns a panic of the YAML library into an error.
func guard(err *error) {
	if recover() != nil {
		*err = errors.New("this is no YAML that can be read: write it plainly, without tags, anchors and aliases")
	}
}
