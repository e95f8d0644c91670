package project

import (
	"strings"
	"testing"
)

func TestFileNamesOfAssemblies(t *testing.T) {
	for name, want := range map[string]string{
		"Sedgewater": "Sedgewater", " a/b:c ": "a_b_c", "...": "assembly", "": "assembly", "\x01x": "_x",
		strings.Repeat("é", 100): strings.Repeat("é", 60),
	} {
		if got := fileName(name); got != want {
			t.Errorf("%q is %q, should be %q", name, got, want)
		}
	}
}
