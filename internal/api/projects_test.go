package api_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/internal/api"
	"excavate/internal/demo"
)

// work is a project in which something of every kind was done.
func (c *client) work(name string) (id int64, path string) {
	c.t.Helper()
	id, path = c.project(name)
	for _, n := range []string{"hulls.tide", "washes.tide", "lantern.cart", "harbour.zip"} {
		c.addSource(id, n)
	}
	c.linked(path)
	call[any](c, "PUT", path+"/naming", map[string]any{"rules": []any{map[string]any{"where": "suffix", "affix": "_n", "means": "role", "value": "normal"}}})
	e := c.entries(path, "q=punt.hull").Entries[0]
	call[any](c, "POST", fmt.Sprintf("/api/entries/%d/bookmarks", e.Id), map[string]any{"at": 4, "size": 8, "note": "the count"})
	f := call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": e.Id})
	c.linked(path)
	call[api.Chain](c, "POST", path+"/chains", map[string]any{"find": f.Id, "name": "punt to engine", "document": string(demo.Chain)})
	l := call[api.Layout](c, "POST", path+"/layouts", map[string]any{"name": "mine", "document": "layout: mine\nkind: picture\n"})
	call[any](c, "PUT", fmt.Sprintf("/api/layouts/%d", l.Id), map[string]any{"document": "layout: mine\nkind: model\n", "base": 1})
	call[any](c, "PUT", path+"/pins", map[string]any{"ref": "gone.wash", "entry": e.Id})
	c.linked(path)
	return id, path
}

func (c *client) finds(path string) (out []api.Brief) {
	c.t.Helper()
	c.until("decoding", func() bool {
		out = call[[]api.Brief](c, "GET", path+"/gallery", nil)
		for _, f := range out {
			if f.State == "decoding" {
				return false
			}
		}
		return true
	})
	return out
}

// What was done in a project is the same in a copy of it, and in one that is
// made of its file; both are on their own.
func TestProjectsAreCopiedAndCarried(t *testing.T) {
	c := start(t)
	id, path := c.work("Sedgewater")
	_, file := c.do("GET", path+"/export", nil)
	if strings.Contains(string(file), "scene") || !json.Valid(file) {
		t.Errorf("the file: %.300s", file)
	}
	copied := call[api.Project](c, "POST", path+"/copy", map[string]any{"name": "Sedgewater, second try"})
	status, b := c.do("POST", "/api/projects/import", file)
	var got api.Imported
	if err := json.Unmarshal(b, &got); err != nil || status != 201 || len(got.Remarks) != 0 || got.Project.Name != "Sedgewater" {
		t.Fatalf("%d %v %s", status, err, b)
	}
	was := c.finds(path)
	for _, other := range []api.Project{copied, got.Project} {
		at := fmt.Sprintf("/api/projects/%d", other.Id)
		c.linked(at)
		if finds := c.finds(at); len(finds) != 1 || finds[0].Scene == nil || *finds[0].Scene != *was[0].Scene || finds[0].Missing != was[0].Missing {
			t.Errorf("%s: finds %+v, want %+v", other.Name, finds, was)
		}
		e := c.entries(at, "q=punt.hull").Entries[0]
		var marks []api.Bookmark
		c.until("bookmarks", func() bool {
			marks = call[[]api.Bookmark](c, "GET", fmt.Sprintf("/api/entries/%d/bookmarks", e.Id), nil)
			return len(marks) > 0
		})
		if len(marks) != 1 || marks[0].At != 4 || marks[0].Note != "the count" {
			t.Errorf("%s: bookmarks %+v", other.Name, marks)
		}
		_, again := c.do("GET", at+"/export", nil)
		if want := strings.Replace(string(file), `"Sedgewater"`, fmt.Sprintf("%q", other.Name), 1); string(again) != want {
			t.Errorf("%s is written as\n%s\nwant\n%s", other.Name, again, want)
		}
		// Deleting it takes nothing from the first.
		if status, b := c.do("DELETE", at, nil); status != 204 {
			t.Errorf("%d %s", status, b)
		}
		if status, _ := c.do("GET", at, nil); status != 404 {
			t.Errorf("%d: it is still there", status)
		}
	}
	if n := c.entries(path, "q=punt.hull").Total; n != 1 {
		t.Errorf("%d entries", n)
	}
	if now := c.finds(path); *now[0].Scene != *was[0].Scene {
		t.Errorf("%+v", now)
	}
	p := call[api.Project](c, "PATCH", path, map[string]any{"name": " Sedgewater at night "})
	if p.Name != "Sedgewater at night" || p.Id != id {
		t.Errorf("%+v", p)
	}
}

// A file from elsewhere brings what can be had, and says what cannot; one that
// is none, or lies, makes no project.
func TestProjectsFromElsewhere(t *testing.T) {
	c := start(t)
	_, path := c.work("far")
	_, file := c.do("GET", path+"/export", nil)
	outside := filepath.Join(t.TempDir(), "outside.zip")
	os.WriteFile(outside, []byte("PK\x05\x06"+strings.Repeat("\x00", 18)), 0o644)
	change := func(old, new string) string {
		if !strings.Contains(string(file), old) {
			t.Fatalf("%q is not in %s", old, file)
		}
		return strings.Replace(string(file), old, new, 1)
	}
	var got api.Imported
	text := change(filepath.Join(c.lib, "washes.tide"), "/nowhere/washes.tide")
	text = strings.Replace(text, filepath.Join(c.lib, "lantern.cart"), outside, 1)
	status, b := c.do("POST", "/api/projects/import", []byte(text))
	if json.Unmarshal(b, &got); status != 201 || len(got.Remarks) != 2 || !strings.Contains(got.Remarks[0], "washes.tide is not at /nowhere/washes.tide") || !strings.Contains(got.Remarks[1], "outside the library folders") {
		t.Fatalf("%d %s", status, b)
	}
	at := fmt.Sprintf("/api/projects/%d", got.Project.Id)
	c.linked(at)
	if finds := c.finds(at); len(finds) != 1 || finds[0].Missing == 0 {
		t.Errorf("%+v", finds)
	}
	before := len(call[[]api.Project](c, "GET", "/api/projects", nil))
	for what, text := range map[string]string{
		"nothing": "", "a list": "[]", "other JSON": `{"name": "x"}`, "a newer one": change(`"version": 1`, `"version": 2`),
		"a find of no source": change(`"source": 1`, `"source": 99`), "a chain of no find": change(`"find": 1`, `"find": 7`), "no step": change(`"step": "`, `"step": "no such `),
		"no name": change(`"name": "far"`, `"name": " \n"`), "rules that are none": change(`"where": "suffix"`, `"where": "middle"`), "cut off": string(file[:len(file)/2]),
		"within itself": change(`"origin": "path"`, `"origin": "path", "within": 1`), "a layout twice": change(`"layouts": [`, `"layouts": [{"name": "mine", "versions": ["x", "y"]},`),
	} {
		if status, b := c.do("POST", "/api/projects/import", []byte(text)); status < 400 || status >= 500 {
			t.Errorf("%s: %d %s", what, status, b)
		}
	}
	if n := len(call[[]api.Project](c, "GET", "/api/projects", nil)); n != before {
		t.Errorf("%d projects, there were %d: one of those that failed is left", n, before)
	}
}

// Of what may be mounted, that which holds the names that are missing comes
// first, with the entry and by what it would be found.
func TestTheLibrarySaysWhatHoldsAName(t *testing.T) {
	c := start(t)
	id, path := c.project("library")
	os.WriteFile(filepath.Join(c.lib, "notes.txt"), []byte("no archive\n"), 0o644)
	c.addSource(id, demo.Archives[0])
	list := call[[]api.LibraryFolder](c, "GET", path+"/library?names=faces/keeper_gear_c.tga&names=nowhere.png", nil)
	if len(list) != 1 || len(list[0].Items) < 4 {
		t.Fatalf("%+v", list)
	}
	first := list[0].Items[0]
	if first.Name != demo.Archives[2] || len(first.Holds) != 1 || !strings.HasSuffix(first.Holds[0].Path, "keeper_gear_c.wash") || first.Holds[0].How != "same name elsewhere" || !first.Looked || first.Mounted {
		t.Errorf("%+v", first)
	}
	for _, it := range list[0].Items[1:] {
		if len(it.Holds) > 0 || it.Mounted != (it.Name == demo.Archives[0]) || it.Looked == it.Mounted {
			t.Errorf("%+v", it)
		}
	}
	for _, it := range call[[]api.LibraryFolder](c, "GET", path+"/library", nil)[0].Items {
		if it.Looked || len(it.Holds) > 0 {
			t.Errorf("not asked for names: %+v", it)
		}
	}
}
