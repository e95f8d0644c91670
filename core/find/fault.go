package find

import (
	"fmt"
	"runtime/debug"
	"strings"
)

// OwnFault is a panic of a reader: a fault of Excavate's own, whatever the file.
type OwnFault struct {
	What  string
	Stack string
}

func (f *OwnFault) Error() string {
	return fmt.Sprintf("a fault of Excavate's own while it read this: %s; please report it with the file", f.What)
}

// caught makes a panic an error, since one file must not end the work on many.
func caught(err *error) {
	if r := recover(); r != nil {
		what, stack, _ := strings.Cut(fmt.Sprint(r), "\n") // what came over from another goroutine brings its own
		*err = &OwnFault{what, stack + string(debug.Stack())}
	}
}
