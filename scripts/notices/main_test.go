package main

import (
	"os"
	"strings"
	"testing"

	"excavate/internal/notices"
)

// The text in the program is that of the modules and packages that are in use:
// run make generate when they change.
func TestNoticesAreCurrent(t *testing.T) {
	if err := os.Chdir("../.."); err != nil {
		t.Fatal(err)
	}
	text, err := gather("web")
	if err != nil {
		t.Fatal(err)
	}
	if text != notices.Text {
		t.Error("internal/notices/notices.txt is not what make generate gives")
	}
	for _, name := range []string{"github.com/gofiber/fiber/v3 v", "\n  react 19", "  three 0", "BSD",
		"SIL OPEN FONT LICENSE", "inconshreveable/mousetrap"} {
		if !strings.Contains(text, name) {
			t.Errorf("nothing is said of %s", name)
		}
	}
	for _, name := range []string{"chromedp", "eslint", "Licence: \n"} {
		if strings.Contains(text, name) {
			t.Errorf("%s is not in the program", name)
		}
	}
}

func TestLicences(t *testing.T) {
	dir := t.TempDir()
	if _, err := licences(dir); err != errNone {
		t.Errorf("%v", err)
	}
	for name, text := range map[string]string{"LICENSE.md": "one\r\ntwo\n", "NOTICE": "three",
		"license.go": "no", "readme": "no"} {
		if err := os.WriteFile(dir+"/"+name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := licences(dir); err != nil || len(got) != 2 || got[0] != "one\ntwo" || got[1] != "three" {
		t.Errorf("%q, %v", got, err)
	}
}
