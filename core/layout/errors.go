package layout

import (
	"errors"
	"fmt"
	"strings"
)

// Error names the place in the layout, and where bytes are at fault also the
// offset in the file.
type Error struct {
	Layout    string // name of the layout
	Line, Col int    // in the layout document, from 1; 0 if the document as a whole is meant
	HasOffset bool
	Offset    int64  // in the file that was read
	In        string // the file, where it is another than the one that was opened
	Msg       string
	Err       error // what was wrong, if more can be told of it
}

func (e *Error) Unwrap() error { return e.Err }

func (e *Error) Error() string {
	var b strings.Builder
	if e.HasOffset {
		if e.In != "" {
			fmt.Fprintf(&b, "%s ", e.In)
		}
		fmt.Fprintf(&b, "offset %d (0x%x): ", e.Offset, e.Offset)
	}
	b.WriteString(e.Msg)
	if e.Layout != "" {
		fmt.Fprintf(&b, " (layout %s", e.Layout)
		if e.Line > 0 {
			fmt.Fprintf(&b, " line %d column %d", e.Line, e.Col)
		}
		b.WriteString(")")
	}
	return b.String()
}

// Where is the offset as the command line and the interface show it; empty
// if no byte is at fault.
func (e *Error) Where() string {
	if e.HasOffset {
		return strings.TrimSpace(fmt.Sprintf("%s offset %d", e.In, e.Offset))
	}
	if e.Line > 0 {
		return fmt.Sprintf("layout %s line %d column %d", e.Layout, e.Line, e.Col)
	}
	return ""
}

// ErrNotMine is within the error of a must that does not hold: the file is
// something else than the layout describes, and whatever else knows it may try.
var ErrNotMine = errors.New("a must of the layout does not hold")
