package shipped

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// onlyAvatars are what glTF itself has no place for, and turned axes.
var onlyAvatars = []string{"axes and unit", "toon surfaces", "humanoid bones and expressions", "springs and their colliders", "gaze", "licence fields of an avatar"}

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
		name := strings.TrimSpace(cells[1])
		if glb := strings.TrimSpace(cells[2]); glb != "yes" && !slices.Contains(onlyAvatars, name) {
			t.Errorf("GLB loses %s: %s", name, glb)
		}
		if vrm := strings.TrimSpace(cells[3]); vrm != "yes" && name != "axes and unit" {
			t.Errorf("VRM loses %s: %s", name, vrm)
		}
	}
}

// What a format does not keep is said by its writer: no loss is silent.
func TestEveryLossIsSaid(t *testing.T) {
	s, err := everything()
	if err != nil {
		t.Fatal(err)
	}
	for i := range Writers {
		w := &Writers[i]
		left, notes, err := measure(s, w)
		if err != nil {
			t.Fatal(err)
		}
		for k, f := range features {
			if left[k] == "yes" {
				continue
			}
			said := regexp.MustCompile("(?i)" + f.said)
			if !slices.ContainsFunc(notes, said.MatchString) {
				t.Errorf("%s: %s (%s) is lost without a word", w.Name, f.name, left[k])
			}
		}
		if t.Failed() {
			t.Logf("%s says: %s", w.Name, strings.Join(notes, "\n  "))
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
