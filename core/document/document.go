// Package document reads the small YAML documents that people write: chains,
// target sheets, name rules.
package document

import (
	"errors"
	"fmt"

	"excavate/core/limit"

	"github.com/goccy/go-yaml"
)

// Read decodes a document into v. Keys that v does not have are errors, which
// name line and column. What the YAML library cannot cope with, such as a tag
// without a value, is an error as well and never more than that.
func Read(doc []byte, v any) (err error) {
	if len(doc) > limit.DocumentBytes {
		return fmt.Errorf("%d bytes, at most %d are read", len(doc), limit.DocumentBytes)
	}
	defer Guard(&err)
	if err := yaml.UnmarshalWithOptions(doc, v, yaml.Strict(), yaml.DisallowUnknownField()); err != nil {
		return errors.New(yaml.FormatError(err, false, false))
	}
	return nil
}

// Guard turns a panic of the YAML library into an error.
func Guard(err *error) {
	if recover() != nil {
		*err = errors.New("this is no YAML that can be read: write it plainly, without tags, anchors and aliases")
	}
}
