package document

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"excavate/core/limit"
)

// Nesting and keys beyond the bounds are refused before the YAML library sees
// them, whose time grows with their square: seconds here would be minutes.
func TestDeepAndWideDocumentsAreRefused(t *testing.T) {
	keys := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "k%d: 1\n", i)
		}
		return b.String()
	}
	stairs := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "%sa:\n", strings.Repeat(" ", i))
		}
		return b.String()
	}
	for name, doc := range map[string]string{
		"brackets":          strings.Repeat("[", 40_000),
		"braces":            strings.Repeat("{a: ", 40_000),
		"in a value":        "steps: " + strings.Repeat("[", 40_000),
		"over lines":        strings.Repeat("[\n", 40_000),
		"after a quote":     "a: \"x\"\nb: 'it''s'\nc: " + strings.Repeat("[", 40_000),
		"after a comment":   "# it's\na: " + strings.Repeat("[", 40_000),
		"after a literal":   "a: |\n  [[[\nb: " + strings.Repeat("[", 40_000),
		"dashes":            strings.Repeat("- ", 40_000),
		"dashes over lines": strings.Repeat("-\n ", 300) + strings.Repeat("- ", 300),
		"question marks":    strings.Repeat("? ", 40_000),
		"stairs":            stairs(900),
		"many keys":         keys(limit.DocumentKeys + 1),
		"many flow values":  "{" + strings.Repeat("a: 1, ", 64*limit.DocumentKeys+2) + "}",
	} {
		begun := time.Now()
		_, err := Parse([]byte(doc))
		var e *Error
		if !errors.As(err, &e) || e.Line < 1 || e.Col < 1 || !strings.Contains(e.Msg, "nested more than") && !strings.Contains(e.Msg, "in one") {
			t.Errorf("%s: %v", name, err)
		}
		if d := time.Since(begun); d > 5*time.Second {
			t.Errorf("%s: refused after %v", name, d)
		}
	}
	// Brackets that are no nesting.
	for name, doc := range map[string]string{
		"a text":          "a: " + strings.Repeat("x[", 500),
		"quoted":          "a: \"" + strings.Repeat("[", 500) + "\"\nb: '" + strings.Repeat("{", 500) + "'",
		"quoted over two": "a: \"" + strings.Repeat("[", 500) + "\n  " + strings.Repeat("[", 500) + "\"",
		"escaped quote":   `a: "\"` + strings.Repeat("[", 500) + `"`,
		"a comment":       "a: 1 # " + strings.Repeat("[", 500) + "\n# " + strings.Repeat("[", 500),
		"a literal":       "a: |\n  " + strings.Repeat("[", 500) + "\n\n  don't " + strings.Repeat("{", 500) + "\nb: 1",
		"don't":           "a: don't\nb: [it's, 1]\n" + "c: [[1]]",
		"one after one":   strings.Repeat("- [[a], {b: c}]\n", 500),
		"as many keys":    keys(limit.DocumentKeys),
	} {
		if _, err := Parse([]byte(doc)); err != nil && strings.Contains(err.Error(), "nested more than") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestMistakesAreToldWithTheirPlace(t *testing.T) {
	type inner struct {
		Far  float64 `yaml:"distance"`
		Many int     `yaml:"many"`
		On   bool    `yaml:"on"`
	}
	type doc struct {
		Name string            `yaml:"name"`
		In   inner             `yaml:"in"`
		List []inner           `yaml:"list"`
		Map  map[string]string `yaml:"map"`
		Part *Node             `yaml:"part"`
		Any  any               `yaml:"any"`
	}
	for text, want := range map[string]string{
		"in: {distnce: 1}":         `[1:6] there is no key "distnce" here; "distance" is probably meant`,
		"in:\n  quite: 1":          `[2:3] there is no key "quite" here; there are distance, many, on`,
		"in: {distance: far}":      `[1:16] a number is wanted here, not the text "far"`,
		"in: {distance: 1,5}":      `there is no key "5" here`,
		"in: {many: 1.5}":          "[1:12] a whole number is wanted here, not 1.5",
		"in: {on: 1}":              "[1:10] true or false is wanted here, not 1",
		"list: {a: 1}":             "[1:8] a list is wanted here, not a mapping",
		"list: [3]":                "[1:8] a mapping is wanted here, not 3",
		"name: [a]":                "[1:7] a text is wanted here, not a list",
		"map: {a: {b: c}}":         "[1:11] a text is wanted here",
		"in: {distance: .inf}":     "no number that can be used",
		"in: {distance: 1e999}":    "no number that can be used",
		"any: &a [*a]":             "anchor is not used here",
		"any: *a":                  "alias is not used here",
		"name: a\nname: b":         "[2:1]",
		"name: \"a":                "[1:7]",
		"a: 1\n---\nb: 2":          "2 documents in one file",
		"":                         "the document is empty",
		"in: {distance: !!str 12}": "tag is not used here",
	} {
		var d doc
		if err := Read([]byte(text), &d); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
	var d doc
	if err := Read([]byte("name: 007\nin: {distance: 1e-3, many: 0x10, on: true}\nmap: {a: 1, b: x}\npart: {q: [1, two, null]}\nany: [1, {b: 2.5}]"), &d); err != nil {
		t.Fatal(err)
	}
	if d.Name != "007" || d.In != (inner{1e-3, 16, true}) || d.Map["a"] != "1" || fmt.Sprint(d.Any) != "[1 map[b:2.5]]" {
		t.Errorf("%+v", d)
	}
	if j, err := d.Part.JSON(); err != nil || string(j) != `{"q":[1,"two",null]}` {
		t.Errorf("%s %v", j, err)
	}
}

func TestNearest(t *testing.T) {
	known := []string{"distance", "angle", "up", "handedness"}
	for word, want := range map[string]string{"distnce": "distance", "Distance": "distance", "anlge": "angle", "handednes": "handedness", "crease": "", "u": "up", "": ""} {
		if got := Nearest(word, known); got != want {
			t.Errorf("%q: %q, want %q", word, got, want)
		}
	}
	for _, c := range []struct {
		a, b string
		want int
	}{{"kitten", "sitting", 3}, {"", "abc", 3}, {"abc", "", 3}, {"same", "same", 0}, {"flaw", "lawn", 2}} {
		if d := distance(c.a, c.b); d != c.want {
			t.Errorf("%s to %s: %d, want %d", c.a, c.b, d, c.want)
		}
	}
}
