package main

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"image/png"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"excavate/core/delivery"
)

// unzipped is a package's files.
func unzipped(t *testing.T, file string) map[string][]byte {
	t.Helper()
	z, err := zip.OpenReader(file)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	out := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		if out[f.Name], err = io.ReadAll(r); err != nil {
			t.Fatal(err)
		}
		r.Close()
	}
	return out
}

// From a file to a delivery in one command, for every target that ships; made
// again it is the same, and its recipe makes the same again.
func TestPortToEveryTarget(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	if out, err := exec.Command("unzip", "-q", at("village.zip"), "-d", at("village")).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	game := []string{"--source", at("hulls.tide"), "--source", at("washes.tide"), "--source", at("winter.tide")}
	readable := []string{}
	for _, c := range []struct {
		in      string
		sources []string
		sheet   string
		model   string
		chain   []string // steps that its chain must have, in this order
	}{
		{at("village/stilt_village.glb"), []string{"--source", at("village")}, "reedlight",
			"stilt_village/models/stilt_village.glb",
			[]string{"strip", "merge-materials", "alpha", "ground", "colliders"}},
		{at("village/stilt_village.glb"), []string{"--source", at("village")}, "tideworks",
			"stilt_village/stilt_village.glb", []string{"merge-materials", "basis", "ground", "colliders",
				"rename"}},
		{at("village/stilt_village.glb"), []string{"--source", at("village")}, "stilttable",
			"stilt_village.glb", []string{"scale", "ground", "colliders"}},
		{"figures/ferry_keeper.hull", game, "weirwork", "props/ferry_keeper/ferry_keeper.glb",
			[]string{"bones-trim", "basis", "ground", "rename"}},
		{"figures/ferry_keeper.hull", game, "tideworks", "ferry_keeper/ferry_keeper.glb",
			[]string{"strip", "root", "basis", "ground"}},
		{"figures/ferry_keeper.hull", game, "millrace", "ferry_keeper_custom/models/ferry_keeper.glb",
			[]string{"strip", "basis", "rename"}},
		{"boats/punt.hull", game, "gltf-engine", "punt.glb", []string{"basis"}},
	} {
		name := filepath.Base(c.in) + " for " + c.sheet
		zipFile := at(c.sheet + "_" + filepath.Base(c.in) + ".zip")
		args := []string{"port", c.in, "--target", c.sheet, "--purpose", "myself", "-o", zipFile}
		if c.in[0] != '/' {
			args = append(args, c.sources...)
		}
		text, err := said(t, args...)
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, text)
			continue
		}
		files := unzipped(t, zipFile)
		if files[c.model] == nil {
			t.Errorf("%s: no %s in %v", name, c.model, keysOf(files))
		}
		var m delivery.Manifest
		for p, b := range files {
			if filepath.Base(p) == "manifest.json" {
				if err := json.Unmarshal(b, &m); err != nil {
					t.Fatal(err)
				}
			}
		}
		k := 0
		for _, st := range m.Chain.Steps {
			if k < len(c.chain) && st.Step == c.chain[k] {
				k++
			}
		}
		if k < len(c.chain) || m.Rehearsal.Stops != 0 || m.Purpose != "myself" || len(m.Mended) == 0 {
			t.Errorf("%s: %v, %+v", name, m.Chain.Steps, m.Rehearsal)
		}
		again := append([]string{"verify", zipFile}, c.sources...)
		if text, err := said(t, again...); err != nil || !strings.Contains(text, "every byte is the same") {
			t.Errorf("%s: %v, %s", name, err, text)
		}
		if c.sheet == "weirwork" || c.sheet == "gltf-engine" || c.sheet == "stilttable" {
			out := at(c.sheet + filepath.Base(c.in) + ".glb")
			if err := os.WriteFile(out, files[c.model], 0o644); err != nil {
				t.Fatal(err)
			}
			readable = append(readable, out)
		}
		// What the target is held to, it is held to once more.
		if text, err := said(t, append([]string{"recipe", "make", zipFile, "-o", zipFile + ".json"},
			nil...)...); err != nil {
			t.Errorf("%s: %v, %s", name, err, text)
			continue
		}
		text, err = said(t, append([]string{"recipe", "open", zipFile + ".json", "-o", zipFile + ".again.zip"},
			c.sources...)...)
		a, _ := os.ReadFile(zipFile)
		b, _ := os.ReadFile(zipFile + ".again.zip")
		if err != nil || !strings.Contains(text, ": the same") || !bytes.Equal(a, b) {
			t.Errorf("%s: %v, %d and %d bytes, %s", name, err, len(a), len(b), text)
		}
	}
	out, err := exec.Command("node", append([]string{"../../e2e/readers.mjs"}, readable...)...).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, l := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		var x struct {
			File              string
			Errors, Triangles int
			Messages          []string
		}
		if err := json.Unmarshal([]byte(l), &x); err != nil {
			t.Fatal(err)
		}
		if x.Errors > 0 || x.Triangles == 0 {
			t.Errorf("%s: %d errors, %v", x.File, x.Errors, x.Messages)
		}
	}
}

func keysOf(m map[string][]byte) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// What stops, and what terms forbid, ends with status 1 and nothing written.
func TestPortRefuses(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	two := []string{"--source", at("hulls.tide"), "--source", at("washes.tide")}
	three := append(slices.Clone(two), "--source", at("winter.tide"))
	out := at("out.zip")
	for name, c := range map[string]struct {
		args  []string
		quiet bool
		says  string
	}{
		"a picture is missing": {append([]string{"port", "figures/ferry_keeper.hull", "--target", "reedlight",
			"--purpose", "myself", "-o", out}, two...), true, "A picture is missing"},
		"not to be shared": {append([]string{"port", "figures/ferry_keeper.hull", "--target", "reedlight",
			"--purpose", "share-changed", "-o", out}, three...), true,
			"refused: hulls.tide: nothing says that it may be passed on changed; it says “Owner: Sedgewater Lantern Company"},
		"no such purpose": {append([]string{"port", "boats/punt.hull", "--target", "reedlight",
			"--purpose", "fun", "-o", out}, three...), false, "none of myself"},
		"no such sheet": {append([]string{"port", "boats/punt.hull", "--target", "reedligt", "--purpose",
			"myself", "-o", out}, three...), false, "\"reedlight\" is probably meant"},
		"no such file": {[]string{"port", at("nothing.glb"), "--target", "reedlight", "--purpose",
			"myself", "-o", out}, false, "no such file"},
	} {
		text, err := said(t, c.args...)
		if err == nil || (err == errQuiet) != c.quiet || !strings.Contains(text+err.Error(), c.says) {
			t.Errorf("%s: %v\n%s", name, err, text)
		}
		if _, err := os.Stat(out); err == nil {
			t.Fatalf("%s: something was written", name)
		}
	}
	// A permission beside the file allows it, and travels along.
	if err := os.WriteFile(at("punt.glb"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	must(t, append([]string{"convert", "boats/punt.hull", "--replace", "-o", at("mine/punt.glb")}, three...)...)
	args := []string{"port", at("mine/punt.glb"), "--target", "reedlight", "--purpose", "sell", "-o", out}
	if text, err := said(t, args...); err != errQuiet {
		t.Errorf("%v, %s", err, text)
	}
	os.WriteFile(at("mine/letter.txt"), []byte("Sell as many as you like."), 0o644)
	os.WriteFile(at("mine/punt.glb.terms.json"),
		[]byte(`{"owner": "Wren", "shareChanged": "yes", "sell": "yes",
			"permission": {"text": "Sell them.", "date": "12 Nov 2026", "file": "letter.txt"}}`), 0o644)
	if text, err := said(t, args...); err != nil {
		t.Fatalf("%v, %s", err, text)
	}
	letters := 0
	for p, b := range unzipped(t, out) {
		if strings.Contains(p, "permissions/") && string(b) == "Sell as many as you like." {
			letters++
		}
	}
	if letters != 1 {
		t.Errorf("%d letters travel along", letters)
	}
	// What is there already is kept.
	args[slices.Index(args, "sell")] = "myself"
	if _, err := said(t, args...); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Errorf("%v", err)
	}
	// What was changed is told.
	z, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := said(t, "verify", out, "--json"); err != nil || !strings.Contains(text, `"faults":[]`) {
		t.Errorf("%v, %s", err, text)
	}
	os.WriteFile(out, bytes.Replace(z, []byte("manifest.json"), []byte("manifesto.jsn"), -1), 0o644)
	if _, err := said(t, "verify", out); err == nil {
		t.Error("a package without a manifest is one")
	}
}

// Recipes are signed, and one that was changed is not opened unasked.
func TestRecipesOnTheCommandLine(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	game := []string{"--source", at("hulls.tide"), "--source", at("washes.tide")}
	if text, err := said(t, append([]string{"port", "boats/punt.hull", "--target", "gltf-engine", "--purpose",
		"myself", "-o", at("p.zip")}, game...)...); err != nil {
		t.Fatalf("%v, %s", err, text)
	}
	must(t, "recipe", "key", "-o", at("key.pem"))
	if st, err := os.Stat(at("key.pem")); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("%v", err)
	}
	if _, err := said(t, "recipe", "key", "-o", at("key.pem")); err == nil {
		t.Error("a key is written over another")
	}
	must(t, "recipe", "make", at("p.zip"), "--key", at("key.pem"), "-o", at("r.json"))
	text, err := said(t, append([]string{"recipe", "show", at("r.json")}, game...)...)
	if err != nil || !strings.Contains(text, "signed by ") ||
		!strings.Contains(text, "hulls.tide: here, the same") ||
		!strings.Contains(text, "makes of boats/punt.hull what glTF engine") {
		t.Errorf("%v, %s", err, text)
	}
	b, _ := os.ReadFile(at("r.json"))
	os.WriteFile(at("r.json"), bytes.Replace(b, []byte("myself"), []byte("sell"), 1), 0o644)
	open := append([]string{"recipe", "open", at("r.json"), "-o", at("o.zip")}, game...)
	if _, err := said(t, open...); err == nil || !strings.Contains(err.Error(), "changed since it was signed") {
		t.Errorf("%v", err)
	}
	// Its terms are held to whatever the recipe says.
	if text, err := said(t, append(open, "--changed")...); err != errQuiet ||
		!strings.Contains(text, "the terms do not allow it to sell it") {
		t.Errorf("%v, %s", err, text)
	}
	if _, err := said(t, "recipe", "open", at("r.json"), "--changed", "-o", at("o.zip")); err == nil ||
		!strings.Contains(err.Error(), "--source is missing") {
		t.Errorf("%v", err)
	}
}

// Pictures by their roles, and the picture of the asset, as they are asked for.
func TestPortPictures(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	port := func(out string, more ...string) (string, error) {
		args := []string{"port", "boats/punt.hull", "--target", "millrace", "--purpose", "myself", "-o", out,
			"--source", at("hulls.tide"), "--source", at("washes.tide"), "--source", at("winter.tide")}
		return said(t, append(args, more...)...)
	}
	text, err := port(at("p.zip"), "--pictures", "colour=png,64", "--picture", "48x32", "--background", "none",
		"--tilt", "40")
	if err != nil {
		t.Fatalf("%v, %s", err, text)
	}
	files := unzipped(t, at("p.zip"))
	for name, want := range map[string][2]int{"punt_custom/materials/punt/punt_c.png": {64, 0},
		"punt_custom/punt.png": {48, 32}} {
		cfg, err := png.DecodeConfig(bytes.NewReader(files[name]))
		if err != nil || cfg.Width != want[0] || want[1] > 0 && cfg.Height != want[1] {
			t.Errorf("%s: %d × %d, %v; %v", name, cfg.Width, cfg.Height, err, keysOf(files))
		}
	}
	img, err := png.Decode(bytes.NewReader(files["punt_custom/punt.png"]))
	if err != nil {
		t.Fatal(err)
	}
	if _, _, _, a := img.At(0, 0).RGBA(); a != 0 {
		t.Errorf("the corner lets nothing through: %d", a)
	}
	for _, c := range []struct {
		more []string
		says string
	}{
		{[]string{"--pictures", "colour"}, "ROLE=FORMAT"},
		{[]string{"--pictures", "colour=png,1,2,3"}, "ROLE=FORMAT"},
		{[]string{"--pictures", "colour=png,big"}, "no whole number"},
		{[]string{"--pictures", "mood=png"}, "no role"},
		{[]string{"--pictures", "colour=gif"}, "cannot be written"},
		{[]string{"--turn", "20"}, "--picture"},
		{[]string{"--picture", "40x40", "--background", "blue"}, "no background"},
	} {
		if text, err := port(at("none.zip"), c.more...); err == nil || !strings.Contains(text+err.Error(), c.says) {
			t.Errorf("%v: %v, %s", c.more, err, text)
		}
	}
	if _, err := os.Stat(at("none.zip")); err == nil {
		t.Error("a package was written")
	}
}

// Several models become one package: each in its own folder, checked and made
// again, and its recipe gives every byte of it back. Where one stops there is no
// package.
func TestPortOfSeveral(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	game := []string{"--source", at("hulls.tide"), "--source", at("washes.tide"), "--source", at("winter.tide")}
	with := func(args ...string) []string { return append(args, game...) }
	zip := at("both.zip")
	port := []string{"port", "figures/ferry_keeper.hull", "boats/punt.hull", "--target", "millrace", "--purpose",
		"myself", "-o"}
	text, err := said(t, with(append(port, zip)...)...)
	if err != nil || !strings.Contains(text, "Search punt_custom") ||
		!strings.Contains(text, "Search ferry_keeper_custom") {
		t.Fatalf("%v\n%s", err, text)
	}
	files := unzipped(t, zip)
	for _, f := range []string{"punt_custom/manifest.json", "ferry_keeper_custom/manifest.json",
		"ferry_keeper_custom/models/ferry_keeper.glb", "punt_custom/chain.yaml"} {
		if files[f] == nil {
			t.Errorf("no %s in %v", f, keysOf(files))
		}
	}
	// Each is mended by steps of its own: the figure's root is no business of the
	// boat's.
	if a, b := files["punt_custom/chain.yaml"], files["ferry_keeper_custom/chain.yaml"]; bytes.Equal(a, b) {
		t.Errorf("both have the chain\n%s", a)
	}
	text, err = said(t, with("verify", zip)...)
	if err != nil || strings.Count(text, "every byte is the same") != 2 || !strings.Contains(text, "punt") {
		t.Errorf("%v, %s", err, text)
	}
	if text, err = said(t, "recipe", "make", zip, "-o", at("both.json")); err != nil {
		t.Fatalf("%v, %s", err, text)
	}
	text, err = said(t, with("recipe", "open", at("both.json"), "-o", at("again.zip"))...)
	a, _ := os.ReadFile(zip)
	b, err2 := os.ReadFile(at("again.zip"))
	if err != nil || err2 != nil || strings.Count(text, ": the same") != 2 || !bytes.Equal(a, b) {
		t.Errorf("%v, %v, %d and %d bytes, %s", err, err2, len(a), len(b), text)
	}
	if text, err = said(t, with("recipe", "open", at("both.json"), "-o", at("each"))...); err != nil {
		t.Fatalf("%v, %s", err, text)
	}
	for _, f := range []string{"punt.zip", "ferry_keeper.zip"} {
		if o := unzipped(t, filepath.Join(at("each"), f)); len(o) < 4 {
			t.Errorf("%s: %v", f, keysOf(o))
		}
	}
	// Two of one name have two packages.
	twice := at("twice.zip")
	if text, err = said(t, with("port", "boats/punt.hull", "boats/punt.hull", "--target", "millrace", "--purpose",
		"myself", "-o", twice)...); err != nil || unzipped(t, twice)["punt_custom_2/manifest.json"] == nil {
		t.Errorf("%v, %s", err, text)
	}
	if text, err = said(t, "recipe", "make", twice, "-o", at("twice.json")); err != nil {
		t.Fatalf("%v, %s", err, text)
	}
	if text, err = said(t, with("recipe", "open", at("twice.json"), "-o", at("two"))...); err != nil {
		t.Errorf("%v, %s", err, text)
	}
	if list, err := filepath.Glob(filepath.Join(at("two"), "punt*.zip")); err != nil || len(list) != 2 {
		t.Errorf("%v, %v", list, err)
	}
	// Without the archive of the boats one is missing: told, and no package that
	// looks whole.
	text, err = said(t, "recipe", "open", at("both.json"), "-o", at("half.zip"), "--source", at("winter.tide"))
	if err == nil || !strings.Contains(text, "nothing is written") {
		t.Errorf("%v, %s", err, text)
	}
	if _, err := os.Stat(at("half.zip")); err == nil {
		t.Error("a half package was written")
	}
	// One that stops, or is not there, leaves none.
	for _, second := range []string{"boats/none.hull", at("hulls.tide")} {
		out := at("stopped.zip")
		text, err = said(t, with("port", "boats/punt.hull", second, "--target", "millrace", "--purpose", "myself",
			"-o", out)...)
		if _, e := os.Stat(out); err == nil || e == nil {
			t.Errorf("%s: %v, %s", second, err, text)
		}
	}
}

// Many models against many sheets give a table by rule, the worst first; a sheet
// is proposed from what a target takes.
func TestChecksOfMany(t *testing.T) {
	dir := demoData(t)
	at := func(n string) string { return filepath.Join(dir, n) }
	game := []string{"--source", at("hulls.tide"), "--source", at("washes.tide"), "--source", at("winter.tide")}
	text, err := excavate(t, append([]string{"check", "boats/punt.hull", "figures/ferry_keeper.hull",
		"--target", "reedlight", "--target", "tideworks"}, game...)...)
	if err != errQuiet || !strings.HasPrefix(text, "stops  ") ||
		!strings.Contains(text, "basis              4 of 4") &&
			!strings.Contains(text, "of 4: The basis is not the target's") {
		t.Errorf("%v\n%s", err, text)
	}
	if first, last := strings.Index(text, "stops"), strings.LastIndex(text, "stops  "); first < 0 ||
		strings.Index(text, "warns  ") < last {
		t.Errorf("the worst does not come first:\n%s", text)
	}
	text, err = excavate(t, append([]string{"check", "boats/punt.hull", "nothing.hull", "--target", "reedlight",
		"--json"}, game...)...)
	if err != errQuiet {
		t.Errorf("%v", err)
	}
	for _, f := range lines[checked](t, text) {
		if f.File != "boats/punt.hull" || f.Target != "reedlight" || f.Rule == "" {
			t.Errorf("%+v", f)
		}
	}
	must(t, append([]string{"convert", "boats/punt.hull", "-o", at("punt.glb")}, game...)...)
	must(t, "targets", "from", at("punt.glb"), "-o", at("own.yaml"))
	if text, err := excavate(t, "check", at("punt.glb"), "--target", at("own.yaml")); err != nil {
		t.Errorf("%v\n%s", err, text)
	}
	if text := must(t, "targets"); strings.Count(text, "\n") != 16 || !strings.Contains(text, "stilttable") {
		t.Errorf("%s", text)
	}
	if text := must(t, "targets", "show", "millrace"); !strings.Contains(text, "search_paths.txt") {
		t.Errorf("%s", text)
	}
}
