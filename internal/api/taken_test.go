package api_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"excavate/internal/api"
)

func (c *client) taken(path string) []api.Taken {
	c.t.Helper()
	return call[[]api.Taken](c, "GET", path+"/taken", nil)
}

// A find comes back with its chain and delivery as they were, a source with
// its finds, bookmarks and place, a layout with its versions.
func TestWhatIsTakenOutCanBePutBack(t *testing.T) {
	c := start(t)
	id, path := c.project("taken out")
	c.addSource(id, "hulls.tide")
	c.addSource(id, "washes.tide")
	c.linked(path)
	entry := c.entries(path, "q=ferry_keeper.hull").Entries[0]
	f := call[api.Find](c, "POST", path+"/finds", map[string]any{"entry": entry.Id})
	one := fmt.Sprintf("/api/finds/%d", f.Id)
	c.until("the find is decoded", func() bool { return call[api.Find](c, "GET", one, nil).State == "ready" })
	chain := call[api.Chain](c, "POST", path+"/chains", map[string]any{"find": f.Id, "name": "to the engine"})
	call[api.Delivery](c, "POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true", chain.Id), nil)
	c.until("the delivery is made", func() bool { return call[[]api.Delivery](c, "GET", path+"/deliveries", nil)[0].State == "ready" })
	lists := func() string {
		var out []string
		for _, what := range []string{"gallery", "chains", "deliveries", "sources", "layouts"} {
			_, b := c.do("GET", path+"/"+what, nil)
			out = append(out, string(b))
		}
		return strings.Join(out, "\n")
	}
	before := lists()
	back := func(want ...string) {
		t.Helper()
		list := c.taken(path)
		if len(list) != 1 || fmt.Sprint(list[0].Also) != fmt.Sprint(want) {
			t.Fatalf("%+v, wanted %q to go with it", list, want)
		}
		at := fmt.Sprintf("%s/taken/%d", path, list[0].Id)
		if s, b := c.do("DELETE", at, nil); s != 204 {
			t.Fatalf("%d %s", s, b)
		}
		if s, _ := c.do("DELETE", at, nil); s != 404 {
			t.Errorf("put back twice: %d", s)
		}
		c.linked(path)
		c.until("all is as before", func() bool { return lists() == before })
	}

	c.do("DELETE", one, nil)
	for _, what := range []string{"gallery", "chains", "deliveries"} {
		if _, b := c.do("GET", path+"/"+what, nil); string(b) != "[]" {
			t.Errorf("%s after the find went: %s", what, b)
		}
	}
	if _, b := c.do("GET", "/api/projects", nil); strings.Count(string(b), `"id"`) != strings.Count(string(b), `"name":"`) || strings.Contains(string(b), `"name":""`) {
		t.Errorf("the bin is listed: %s", b)
	}
	back("1 chain", "1 delivery")

	marks := fmt.Sprintf("/api/entries/%d/bookmarks", entry.Id)
	call[[]api.Bookmark](c, "POST", marks, map[string]any{"at": 4, "size": 4, "note": "its version"})
	before = lists()
	src := call[[]api.Source](c, "GET", path+"/sources", nil)[0]
	c.do("DELETE", fmt.Sprintf("/api/sources/%d", src.Id), nil)
	if n := len(c.entries(path, "q=ferry_keeper.hull").Entries); n != 0 {
		t.Errorf("its entries are still searched: %d", n)
	}
	// What the find came from is known all the same, and only that.
	var from []string
	for _, o := range call[[]api.Origin](c, "GET", one+"/sources", nil) {
		from = append(from, o.Source+": "+*o.Short)
	}
	if fmt.Sprint(from) != "[hulls.tide: terms stated washes.tide: terms stated]" {
		t.Errorf("it came from %q", from)
	}
	again := call[api.Source](c, "POST", path+"/sources", map[string]any{"path": src.Path})
	taken := c.taken(path)[0]
	if s, b := c.do("DELETE", fmt.Sprintf("%s/taken/%d", path, taken.Id), nil); s != 409 || !strings.Contains(string(b), "added again") {
		t.Errorf("put back beside itself: %d %s", s, b)
	}
	c.linked(path)
	c.do("DELETE", fmt.Sprintf("/api/sources/%d", again.Id), nil)
	if s, b := c.do("DELETE", fmt.Sprintf("%s/taken/%d", path, taken.Id), nil); s != 204 {
		t.Fatalf("%d %s", s, b)
	}
	c.linked(path)
	c.until("all is as before", func() bool { return lists() == before })
	if got := call[[]api.Bookmark](c, "GET", marks, nil); len(got) != 1 || got[0].Note != "its version" {
		t.Errorf("%+v", got)
	}

	l := call[api.Layout](c, "POST", path+"/layouts", map[string]any{"name": "mine"})
	for range 2 { // two of one name lie in the bin beside each other
		c.do("DELETE", fmt.Sprintf("/api/layouts/%d", l.Id), nil)
		l = call[api.Layout](c, "POST", path+"/layouts", map[string]any{"name": "mine"})
	}
	taken = c.taken(path)[0]
	if s, b := c.do("DELETE", fmt.Sprintf("%s/taken/%d", path, taken.Id), nil); s != 409 || !strings.Contains(string(b), "another layout") {
		t.Errorf("%d %s", s, b)
	}
	c.do("DELETE", fmt.Sprintf("/api/layouts/%d", l.Id), nil)
	if s, b := c.do("DELETE", fmt.Sprintf("%s/taken/%d", path, taken.Id), nil); s != 204 {
		t.Errorf("%d %s", s, b)
	}

	// Another project has nothing to put back here.
	_, other := c.project("another")
	if s, _ := c.do("DELETE", fmt.Sprintf("%s/taken/%d", other, c.taken(path)[0].Id), nil); s != 404 {
		t.Errorf("put back from another project: %d", s)
	}

	// After a day it is gone for good.
	if _, err := c.app.Store.DB.Exec("UPDATE taken_out SET made = ?", time.Now().Add(-49*time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := c.app.Service.Bin.Forget(t.Context()); err != nil {
		t.Fatal(err)
	}
	if list := c.taken(path); len(list) != 0 {
		t.Errorf("after a day: %+v", list)
	}
	if s, _ := c.do("GET", fmt.Sprintf("/api/layouts/%d", l.Id), nil); s != 404 {
		t.Errorf("the layout is still there: %d", s)
	}
}

// An archive within an archive: whichever goes first and comes back first,
// nothing that is back in the project is deleted later.
func TestSourcesWithinThatAreTakenOut(t *testing.T) {
	c := start(t)
	id, path := c.project("nested")
	if err := os.WriteFile(filepath.Join(c.lib, "nest.bin"), nested(t), 0o600); err != nil {
		t.Fatal(err)
	}
	outer := c.addSource(id, "nest.bin")
	inner := call[api.Source](c, "POST", fmt.Sprintf("/api/entries/%d/mount", c.entries(path, "kind=archive").Entries[0].Id), nil)
	c.linked(path)
	del := func(id int64) int { s, _ := c.do("DELETE", fmt.Sprintf("/api/sources/%d", id), nil); return s }
	if a, b := del(inner.Id), del(inner.Id); a != 204 || b != 404 {
		t.Errorf("taken out twice: %d, %d", a, b)
	}
	del(outer.Id)
	list := c.taken(path)
	if len(list) != 2 || list[1].Name != inner.Label {
		t.Fatalf("%+v", list)
	}
	back := func(taken int64) (int, string) {
		s, b := c.do("DELETE", fmt.Sprintf("%s/taken/%d", path, taken), nil)
		return s, string(b)
	}
	if s, b := back(list[1].Id); s != 409 || !strings.Contains(b, "put that back first") {
		t.Errorf("the inner one before the outer: %d %s", s, b)
	}
	if s, b := back(list[0].Id); s != 204 {
		t.Errorf("%d %s", s, b)
	}
	if n := len(call[[]api.Source](c, "GET", path+"/sources", nil)); n != 2 {
		t.Errorf("%d sources are back", n)
	}
	if _, err := c.app.Store.DB.Exec("UPDATE taken_out SET made = ?", time.Now().Add(-49*time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := c.app.Service.Bin.Forget(t.Context()); err != nil {
		t.Fatal(err)
	}
	if n := len(call[[]api.Source](c, "GET", path+"/sources", nil)); n != 2 || len(c.taken(path)) != 0 {
		t.Errorf("after a day %d sources are left", n)
	}
}

func TestDraftsOfALayout(t *testing.T) {
	c := start(t)
	_, path := c.project("drafts")
	l := call[api.Layout](c, "POST", path+"/layouts", map[string]any{"name": "drafted"})
	one := fmt.Sprintf("/api/layouts/%d", l.Id)
	if s, b := c.do("PUT", one+"/draft", map[string]any{"document": "layout: [half", "base": 1}); s != 204 {
		t.Fatalf("%d %s", s, b)
	}
	got := call[api.Layout](c, "GET", one, nil)
	if got.Draft == nil || *got.Draft != "layout: [half" || *got.DraftBase != 1 || got.Document != l.Document || got.Head != 1 {
		t.Errorf("%+v", got)
	}
	// What is kept takes its place, and so does giving it up.
	if got = call[api.Layout](c, "PUT", one, map[string]any{"document": l.Document + "\n# more\n", "base": 1}); got.Draft != nil || got.Head != 2 {
		t.Errorf("%+v", got)
	}
	c.do("PUT", one+"/draft", map[string]any{"document": "x", "base": 2})
	c.do("DELETE", one+"/draft", nil)
	if got = call[api.Layout](c, "GET", one, nil); got.Draft != nil {
		t.Errorf("%+v", got)
	}
	if s, _ := c.do("PUT", "/api/layouts/999999/draft", map[string]any{"document": "x", "base": 2}); s != 404 {
		t.Errorf("a draft of none: %d", s)
	}
}
