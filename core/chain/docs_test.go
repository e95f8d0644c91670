package chain

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"excavate/core/document"
	"excavate/core/pick"
	"excavate/core/step"
)

// The page about chains names every step with its purpose, and what it shows
// is read as it stands.
func TestThePageAboutChains(t *testing.T) {
	b, err := os.ReadFile("../../docs/chains.md")
	if err != nil {
		t.Fatal(err)
	}
	page := string(b)
	for _, k := range step.All() {
		if !strings.Contains(page, "| `"+k.Name+"` | "+k.Purpose+" |") {
			t.Errorf("the page does not say of %s: %s", k.Name, k.Purpose)
		}
	}
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\| [A-Z]").FindAllStringSubmatch(page, -1) {
		if _, err := step.Get(m[1]); err != nil {
			t.Error(err)
		}
	}
	for _, part := range strings.Split(page, "```yaml\n")[1:] {
		doc, _, _ := strings.Cut(part, "```")
		if _, err := Parse([]byte(doc)); err != nil {
			t.Errorf("%v in\n%s", err, doc)
		}
	}
	rules := regexp.MustCompile("`where: (\\{.*\\})`").FindAllStringSubmatch(page, -1)
	if len(rules) != 9 {
		t.Errorf("%d rules are shown", len(rules))
	}
	for _, m := range rules {
		n, err := document.Parse([]byte(m[1]))
		if err != nil {
			t.Fatal(err)
		}
		text, err := n.JSON()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := pick.Parse(text); err != nil {
			t.Errorf("%s: %v", m[1], err)
		}
	}
}
