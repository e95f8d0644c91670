package find

import (
	"context"
	"errors"
	"runtime"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/layout"
	"excavate/core/parallel"
	"excavate/core/scene"
)

// A reader that panics, in its own goroutine or in another, fails for its file
// alone, and says where it did.
func TestAReaderThatPanics(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(2))
	broken := func(ctx context.Context, f format.File) (*scene.Scene, error) {
		if strings.HasSuffix(f.Name, "cores") {
			parallel.Share(100, 1, func(from, to int) { panic("the plank is rotten") })
		}
		var list []int
		_ = list[len(f.Data)]
		return nil, nil
	}
	l := &Library{Layouts: &layout.Set{}, Formats: format.Registry{{Name: "plank", Title: "Plank", Probe: func([]byte) bool { return true }, Read: broken}}}
	for name, want := range map[string]string{
		"alone": "a fault of Excavate's own while it read this: runtime error: index out of range [1] with length 0; please report it with the file",
		"cores": "a fault of Excavate's own while it read this: the plank is rotten; please report it with the file",
	} {
		_, _, err := l.Decode(context.Background(), Input{Name: name, Data: []byte("x")})
		var own *OwnFault
		if !errors.As(err, &own) || err.Error() != want || !strings.Contains(own.Stack, "fault_test.go") {
			t.Errorf("%s: %v, want %s", name, err, want)
		}
	}
}
