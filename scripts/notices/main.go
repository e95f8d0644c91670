// Notices writes the licences of the Go modules and npm packages that are in the
// program, as their own files say them.
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
)

// part is a module or a package.
type part struct {
	name, version string
	texts         []string // of its licence and notice files
}

func main() {
	text, err := gather("web")
	if err == nil {
		err = os.WriteFile("internal/notices/notices.txt", []byte(text), 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "notices:", err)
		os.Exit(1)
	}
}

// gather is the text; web is the folder of the interface.
func gather(web string) (string, error) {
	goes, err := modules()
	if err != nil {
		return "", err
	}
	npm, err := packages(web)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString("Excavate holds parts that others made. It thanks them, and passes their licences on.\n\n")
	for _, list := range []struct {
		title string
		parts []part
	}{{"Go modules", goes}, {"Packages of the interface", npm}} {
		fmt.Fprintf(&b, "%s\n\n", list.title)
		for _, p := range list.parts {
			fmt.Fprintln(&b, strings.TrimRight("  "+p.name+" "+p.version, " "))
		}
		b.WriteString("\n")
	}
	var order []string
	whose := map[string][]string{}
	for _, p := range append(goes, npm...) {
		for _, t := range p.texts {
			if whose[t] == nil {
				order = append(order, t)
			}
			if !slices.Contains(whose[t], p.name) {
				whose[t] = append(whose[t], p.name)
			}
		}
	}
	for _, t := range order {
		fmt.Fprintf(&b, "%s\n%s\n\n%s\n\n", strings.Repeat("-", 72), strings.Join(whose[t], ", "), t)
	}
	return b.String(), nil
}

// modules are the Go modules of which the command line is built, and Go itself,
// whose licence its own modules bear.
func modules() ([]part, error) {
	var out []byte
	for _, system := range []string{"linux", "darwin", "windows"} {
		c := exec.Command("go", "list", "-deps", "-json=Module", "./cmd/excavate")
		c.Env = append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		more, err := c.Output()
		if err != nil {
			return nil, fmt.Errorf("go list for %s: %w", system, err)
		}
		out = append(out, more...)
	}
	seen := map[string]bool{}
	var list []part
	for d := json.NewDecoder(bytes.NewReader(out)); d.More(); {
		var x struct {
			Module *struct {
				Path, Version, Dir string
				Main               bool
			}
		}
		if err := d.Decode(&x); err != nil {
			return nil, err
		}
		m := x.Module
		if m == nil || m.Main || seen[m.Path] {
			continue
		}
		seen[m.Path] = true
		p := part{name: m.Path, version: m.Version}
		var err error
		if p.texts, err = licences(m.Dir); err != nil {
			return nil, fmt.Errorf("%s: %w", m.Path, err)
		}
		list = append(list, p)
		if m.Path == "golang.org/x/sys" {
			list = append(list, part{name: "Go's standard library", texts: p.texts})
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].name < list[j].name })
	return list, nil
}

// packages are the npm packages that the interface needs to run, with what they
// need, by its lock file.
func packages(web string) ([]part, error) {
	b, err := os.ReadFile(filepath.Join(web, "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version       string
			License       string
			Dev, Optional bool
			Peer          bool
		}
	}
	if err := json.Unmarshal(b, &lock); err != nil {
		return nil, err
	}
	var list []part
	for at, x := range lock.Packages {
		if at == "" || x.Dev || x.Optional {
			continue
		}
		p := part{name: at[strings.LastIndex(at, "node_modules/")+len("node_modules/"):], version: x.Version}
		if strings.HasPrefix(p.name, "@types/") { // types are gone once it is built
			continue
		}
		dir := filepath.Join(web, filepath.FromSlash(at))
		p.texts, err = licences(dir)
		if errors.Is(err, errNone) && x.License != "" { // it says which, and brings no text
			p.texts, err = []string{"Licence: " + x.License}, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.name, err)
		}
		list = append(list, p)
	}
	sort.Slice(list, func(i, j int) bool {
		return list[i].name+" "+list[i].version < list[j].name+" "+list[j].version
	})
	return list, nil
}

var errNone = errors.New("it has no licence")

// licences are the texts of a folder's licence and notice files.
func licences(dir string) (out []string, err error) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		name := strings.ToLower(e.Name())
		stem, _, _ := strings.Cut(name, ".")
		if e.IsDir() || !slices.ContainsFunc([]string{"licen", "copying", "notice", "unlicense", "patents"},
			func(s string) bool { return strings.HasPrefix(stem, s) }) || strings.HasSuffix(name, ".go") {
			continue
		}
		b, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return nil, err
		}
		text := strings.TrimSpace(strings.ReplaceAll(string(b), "\r\n", "\n"))
		out = append(out, text)
	}
	if out == nil {
		return nil, errNone
	}
	return out, nil
}
