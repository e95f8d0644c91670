package document

import (
	"strings"
	"testing"

	"excavate/core/limit"
)

func TestRead(t *testing.T) {
	var v struct {
		Name  string   `yaml:"name"`
		Steps []string `yaml:"steps"`
	}
	if err := Read([]byte("name: punt\nsteps: [weld, ground]\n"), &v); err != nil || v.Name != "punt" || len(v.Steps) != 2 {
		t.Errorf("%+v %v", v, err)
	}
	for doc, want := range map[string]string{
		"name: x\nsails: 2\n":    "[2:1]",
		"steps:\n ! 00000000000": "without tags",
		"name: [":                "[1:7]",
		strings.Repeat("#", limit.DocumentBytes+1): "bytes, at most",
	} {
		if err := Read([]byte(doc), &v); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.30q: %v, want %q", doc, err, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("name: x\nsteps: [a]\n")
	f.Add("steps:\n ! 00000000000")
	f.Fuzz(func(t *testing.T, doc string) {
		var v struct {
			Name  string         `yaml:"name"`
			Steps []string       `yaml:"steps"`
			With  map[string]any `yaml:"with"`
		}
		Read([]byte(doc), &v)
	})
}
