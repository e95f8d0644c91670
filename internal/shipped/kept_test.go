package shipped

import (
	"os"
	"strings"
	"testing"
)

// The table in the documentation is what is measured.
func TestTheDocumentedTableHolds(t *testing.T) {
	table, err := Kept()
	if err != nil {
		t.Fatal(err)
	}
	doc, err := os.ReadFile("../../docs/formats.md")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(doc), table) {
		t.Errorf("docs/formats.md is not what is measured; put this in place of its table (make generate does):\n%s", table)
	}
	// What the best of them must keep.
	for _, row := range strings.Split(table, "\n") {
		cells := strings.Split(row, "|")
		if len(cells) < 3 || strings.TrimSpace(cells[1]) == "" || strings.HasPrefix(cells[1], "--") {
			continue
		}
		if glb := strings.TrimSpace(cells[2]); glb != "yes" && strings.TrimSpace(cells[1]) != "axes and unit" && !strings.HasPrefix(strings.TrimSpace(cells[1]), "humanoid") {
			t.Errorf("GLB loses %s: %s", cells[1], glb)
		}
	}
}

func TestEveryFormatIsListedOnce(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range All() {
		if seen[k.Kind+k.Name] || k.Title == "" || !k.Reads && !k.Writes {
			t.Errorf("%+v", k)
		}
		seen[k.Kind+k.Name] = true
	}
	for _, want := range []string{"modelglb", "modelvrm", "modelcollada", "modelx3d", "modelvrml", "modelbvh", "model3mf", "modelusdz", "picturektx2", "picturewebp"} {
		if !seen[want] {
			t.Errorf("%s is not listed", want)
		}
	}
}
