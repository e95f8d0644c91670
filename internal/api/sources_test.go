package api_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"excavate/internal/api"
	"excavate/internal/demo"
	"excavate/standin/console"
	"excavate/standin/exchange"
)

// upload sends a file in pieces and mounts it.
func (c *client) upload(project int64, name string, data []byte) api.Source {
	c.t.Helper()
	u := call[api.Upload](c, "POST", fmt.Sprintf("/api/projects/%d/uploads", project), map[string]any{"name": name, "folder": false, "files": []any{map[string]any{"path": name, "size": len(data), "modified": 0}}})
	for at := int(u.Received[0]); at < len(data); {
		end := min(at+5<<20, len(data))
		r := call[struct{ Received int }](c, "PUT", fmt.Sprintf("/api/uploads/%s/files/0?offset=%d", u.Id, at), data[at:end])
		at = r.Received
	}
	return call[api.Source](c, "POST", "/api/uploads/"+u.Id+"/finish", nil)
}

func (c *client) project(name string) (int64, string) {
	p := call[api.Project](c, "POST", "/api/projects", map[string]string{"name": name})
	return p.Id, fmt.Sprintf("/api/projects/%d", p.Id)
}

func (c *client) entries(path, query string) api.EntryPage {
	c.t.Helper()
	return call[api.EntryPage](c, "GET", path+"/entries?"+query, nil)
}

func (c *client) linked(path string) {
	c.t.Helper()
	c.until("the links", func() bool {
		for _, j := range call[[]api.Job](c, "GET", path+"/jobs", nil) {
			if j.State == "queued" || j.State == "running" {
				return false
			}
		}
		return true
	})
}

func TestUploadsGoOn(t *testing.T) {
	c := start(t)
	_, path := c.project("up")
	noise := make([]byte, 9<<20)
	for i := range noise {
		noise[i] = byte(i * i >> 7)
	}
	begin := map[string]any{"name": "noise.bin", "folder": false, "files": []any{map[string]any{"path": "x", "size": len(noise), "modified": 1700000000000}}}
	u := call[api.Upload](c, "POST", path+"/uploads", begin)
	call[any](c, "PUT", "/api/uploads/"+u.Id+"/files/0?offset=0", noise[:4<<20])
	// The page is loaded again, the file dropped again: it goes on.
	again := call[api.Upload](c, "POST", path+"/uploads", begin)
	if again.Id != u.Id || again.Received[0] != 4<<20 {
		t.Fatalf("%+v", again)
	}
	if status, b := c.do("PUT", "/api/uploads/"+u.Id+"/files/0?offset=7", noise[:10]); status != 409 || !strings.Contains(string(b), "4194304") {
		t.Errorf("a piece in the wrong place: %d %s", status, b)
	}
	if status, b := c.do("POST", "/api/uploads/"+u.Id+"/finish", nil); status != 409 || !strings.Contains(string(b), "of 9437184 bytes") {
		t.Errorf("too early: %d %s", status, b)
	}
	if status, b := c.do("PUT", "/api/uploads/"+u.Id+"/files/0?offset=4194304", append(noise[4<<20:], 1, 2, 3)); status != 400 || !strings.Contains(string(b), "longer") {
		t.Errorf("too long: %d %s", status, b)
	}
	s := call[api.Source](c, "POST", "/api/uploads/"+u.Id+"/finish", nil)
	c.until("indexing", func() bool { return call[[]api.Source](c, "GET", path+"/sources", nil)[0].KindsKnown })
	e := c.entries(path, "").Entries[0]
	if _, b := c.do("GET", fmt.Sprintf("/api/entries/%d/content", e.Id), nil); !bytes.Equal(b, noise) {
		t.Error("other bytes came back")
	}
	if _, err := os.Stat(s.Path); err != nil {
		t.Fatal(err)
	}
	call[any](c, "DELETE", fmt.Sprintf("/api/sources/%d", s.Id), nil)
	if _, err := os.Stat(s.Path); err != nil {
		t.Errorf("a copy that can be put back: %v", err)
	}
	if _, err := c.app.Store.DB.Exec("UPDATE taken_out SET made = ?", time.Now().Add(-49*time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := c.app.Service.Bin.Forget(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(s.Path); err == nil {
		t.Error("the copy of a source that was taken out stays for ever")
	}
	// A folder keeps its tree.
	f := call[api.Upload](c, "POST", path+"/uploads", map[string]any{"name": "mine", "folder": true, "files": []any{map[string]any{"path": "a/b.txt", "size": 3, "modified": 0}, map[string]any{"path": "empty.txt", "size": 0, "modified": 0}}})
	call[any](c, "PUT", "/api/uploads/"+f.Id+"/files/0?offset=0", []byte("abc"))
	call[any](c, "POST", "/api/uploads/"+f.Id+"/finish", nil)
	c.until("indexing", func() bool { return call[[]api.Source](c, "GET", path+"/sources", nil)[0].KindsKnown })
	if p := c.entries(path, "sort=path"); p.Total != 2 || p.Entries[0].Path != "a/b.txt" {
		t.Errorf("%+v", p.Entries)
	}
	for name, body := range map[string]any{
		"no name": map[string]any{"name": "", "folder": false, "files": []any{map[string]any{"path": "x", "size": 1, "modified": 0}}},
		"a path":  map[string]any{"name": "../x", "folder": false, "files": []any{map[string]any{"path": "x", "size": 1, "modified": 0}}},
		"leaving": map[string]any{"name": "x", "folder": true, "files": []any{map[string]any{"path": "../../x", "size": 1, "modified": 0}}},
		"huge":    map[string]any{"name": "x", "folder": false, "files": []any{map[string]any{"path": "x", "size": 1 << 60, "modified": 0}}},
		"twice":   map[string]any{"name": "x", "folder": true, "files": []any{map[string]any{"path": "x", "size": 1, "modified": 0}, map[string]any{"path": "x", "size": 1, "modified": 0}}},
	} {
		if status, b := c.do("POST", path+"/uploads", body); status < 400 || status == 500 {
			t.Errorf("%s: %d %s", name, status, b)
		}
	}
	if status, _ := c.do("PUT", "/api/uploads/..%2f..%2fx/files/0?offset=0", []byte("x")); status != 404 {
		t.Errorf("an upload outside: %d", status)
	}
}

// nested makes a zip that holds a tar.gz that holds a tide pack.
func nested(t *testing.T) []byte {
	t.Helper()
	pack := demo.Pack([]demo.PackEntry{{Name: "wash/reed_c.txt", Data: []byte("reed")}})
	var gz bytes.Buffer
	zw := gzip.NewWriter(&gz)
	tw := tar.NewWriter(zw)
	tw.WriteHeader(&tar.Header{Name: "inner/pack.bin", Size: int64(len(pack)), Mode: 0o644})
	tw.Write(pack)
	tw.Close()
	zw.Close()
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	f, _ := w.Create("downloads/all.dat")
	f.Write(gz.Bytes())
	f, _ = w.Create("licence.txt")
	f.Write([]byte("SPDX-License-Identifier: CC-BY-NC-4.0\nOwner: Reed Press\n"))
	w.Close()
	return z.Bytes()
}

func TestArchivesWithinArchivesMountInPlace(t *testing.T) {
	c := start(t)
	id, path := c.project("nest")
	os.WriteFile(filepath.Join(c.lib, "nest.bin"), nested(t), 0o644)
	outer := c.addSource(id, "nest.bin")
	if outer.Format != "zip" || outer.Terms.Owner != "Reed Press" || outer.Terms.Licence != "CC-BY-NC-4.0" || outer.Terms.Sell != "no" {
		t.Fatalf("%+v", outer)
	}
	c.addSource(id, "hulls.tide")
	e := c.entries(path, "kind=archive").Entries[0]
	if e.Format != "gzip" {
		t.Fatalf("%+v", e)
	}
	mid := call[api.Source](c, "POST", fmt.Sprintf("/api/entries/%d/mount", e.Id), nil)
	known := func(id int64) func() bool {
		return func() bool {
			for _, s := range call[[]api.Source](c, "GET", path+"/sources", nil) {
				if s.Id == id {
					return s.KindsKnown
				}
			}
			return false
		}
	}
	c.until("indexing", known(mid.Id))
	in := c.entries(path, fmt.Sprintf("source=%d", mid.Id)).Entries[0]
	if in.Kind != "archive" {
		t.Fatalf("%+v", in)
	}
	deep := call[api.Source](c, "POST", fmt.Sprintf("/api/entries/%d/mount", in.Id), nil)
	c.until("indexing", known(deep.Id))
	list := call[[]api.Source](c, "GET", path+"/sources", nil)
	var order []string
	for _, s := range list {
		order = append(order, s.Label)
	}
	if !slices.Equal(order, []string{"nest.bin", "all.dat", "pack.bin", "hulls.tide"}) {
		t.Errorf("search order %q", order)
	}
	reed := c.entries(path, "q=reed_c").Entries[0]
	if _, b := c.do("GET", fmt.Sprintf("/api/entries/%d/content", reed.Id), nil); string(b) != "reed" {
		t.Errorf("%q", b)
	}
	if status, b := c.do("POST", fmt.Sprintf("/api/entries/%d/mount", reed.Id), nil); status != 422 || !strings.Contains(string(b), "not an archive") {
		t.Errorf("mounting a text: %d %s", status, b)
	}
	if status, _ := c.do("POST", fmt.Sprintf("/api/entries/%d/mount", in.Id), nil); status != 409 {
		t.Errorf("mounting twice: %d", status)
	}
	call[any](c, "DELETE", fmt.Sprintf("/api/sources/%d", outer.Id), nil)
	if l := call[[]api.Source](c, "GET", path+"/sources", nil); len(l) != 1 {
		t.Errorf("what lay within is still mounted: %d", len(l))
	}
}

func TestChangedSourcesSaySoAndAreIndexedAgain(t *testing.T) {
	c := start(t)
	id, path := c.project("change")
	file := filepath.Join(c.lib, "moving.bin")
	pack := func(names ...string) []byte {
		var list []demo.PackEntry
		for _, n := range names {
			list = append(list, demo.PackEntry{Name: n, Data: []byte(n)})
		}
		return demo.Pack(list)
	}
	os.WriteFile(file, pack("a.txt", "b.txt", "c.txt"), 0o644)
	s := c.addSource(id, "moving.bin")
	before := map[string]int64{}
	for _, e := range c.entries(path, "").Entries {
		before[e.Path] = e.Id
	}
	os.WriteFile(file, pack("0.txt", "c.txt", "a.txt"), 0o644)
	os.Chtimes(file, time.Now(), time.Now().Add(time.Minute))
	c.until("the change", func() bool {
		x := call[[]api.Source](c, "GET", path+"/sources", nil)[0]
		return x.Changed != nil && strings.Contains(*x.Changed, "changed")
	})
	call[any](c, "POST", fmt.Sprintf("/api/sources/%d/index", s.Id), nil)
	c.until("another index", func() bool { return c.entries(path, "q=0.txt").Total == 1 })
	c.linked(path)
	for _, e := range c.entries(path, "").Entries {
		if old, ok := before[e.Path]; ok && old != e.Id {
			t.Errorf("%s has another id", e.Path)
		}
		if _, b := c.do("GET", fmt.Sprintf("/api/entries/%d/content", e.Id), nil); string(b) != e.Path {
			t.Errorf("%s reads %q", e.Path, b)
		}
	}
	if status, _ := c.do("GET", fmt.Sprintf("/api/entries/%d/preview", before["b.txt"]), nil); status != 404 {
		t.Errorf("an entry that is gone: %d", status)
	}
	// Cut short while it is in use, and gone: a message, and the next try works.
	e := c.entries(path, "q=a.txt").Entries[0]
	os.Truncate(file, 40)
	if status, b := c.do("GET", fmt.Sprintf("/api/entries/%d/content", e.Id), nil); status < 400 || !strings.Contains(string(b), "index") {
		t.Errorf("cut short: %d %s", status, b)
	}
	os.Remove(file)
	call[any](c, "POST", fmt.Sprintf("/api/sources/%d/index", s.Id), nil)
	c.until("a failure", func() bool {
		x := call[[]api.Source](c, "GET", path+"/sources", nil)[0]
		return x.State == "failed" && x.Error != nil
	})
	os.WriteFile(file, pack("a.txt"), 0o644)
	call[any](c, "POST", fmt.Sprintf("/api/sources/%d/index", s.Id), nil)
	c.until("it works again", func() bool {
		_, b := c.do("GET", fmt.Sprintf("/api/entries/%d/content", e.Id), nil)
		return string(b) == "a.txt"
	})
}

func TestTreeSetsAndSelections(t *testing.T) {
	c := start(t)
	id, path := c.project("tree")
	c.addSource(id, "hulls.tide")
	c.addSource(id, "washes.tide")
	o := call[api.Outline](c, "GET", path+"/outline?open=wash&open=wash/keeper", nil)
	var lines []string
	for _, l := range o.Lines {
		lines = append(lines, strings.Repeat(" ", l.Depth)+l.Name)
	}
	if want := []string{"boats", "fauna", "figures", "houses", "text", "wash", " boats", " fauna", " houses", " keeper", "  keeper_cloth_c.wash", "licence.txt", "licence.txt"}; !slices.Equal(lines, want) || o.Total != len(want) {
		t.Errorf("%q", lines)
	}
	// Rules make sets of what belongs together.
	n := call[api.Naming](c, "GET", path+"/naming", nil)
	found := false
	for _, p := range n.Proposals {
		found = found || p.Affix == "_c" && p.Value == "colour" && p.Count == 5
	}
	if !found {
		t.Errorf("%+v", n.Proposals)
	}
	rules := []any{map[string]string{"where": "suffix", "affix": "_c", "means": "role", "value": "colour"}}
	n = call[api.Naming](c, "PUT", path+"/naming", map[string]any{"rules": rules})
	if n.Rules[0].Count != 5 {
		t.Errorf("%+v", n.Rules)
	}
	sets := call[api.SetPage](c, "GET", path+"/sets?q=heron", nil)
	if sets.Total != 1 || sets.Sets[0].Key != "heron" || sets.Sets[0].Entries != 2 || sets.Sets[0].Kinds["model"] != 1 {
		t.Fatalf("%+v", sets)
	}
	if p := c.entries(path, "set=heron"); p.Total != 2 {
		t.Errorf("%+v", p)
	}
	_, doc := c.do("GET", path+"/naming/document", nil)
	if n = call[api.Naming](c, "PUT", path+"/naming", map[string]any{"document": string(doc)}); len(n.Rules) != 1 {
		t.Errorf("a document that was exported: %s", doc)
	}
	if status, b := c.do("PUT", path+"/naming", map[string]any{"document": "name rules:\n- {where: nowhere}"}); status != 400 || !strings.Contains(string(b), "rule 1") {
		t.Errorf("%d %s", status, b)
	}
	// A selection has an address that stays, and knows what it needs.
	c.linked(path)
	keeper := c.entries(path, "q=ferry_keeper").Entries[0]
	if keeper.Needs == nil || *keeper.Needs != 2 || *keeper.Found != 1 {
		t.Errorf("%+v", keeper)
	}
	sel := call[api.Selected](c, "POST", path+"/selections", map[string]any{"ids": []int64{keeper.Id}, "needs": true})
	if sel.Entries != 2 || !slices.Equal(sel.Missing, []string{"wash/keeper/keeper_gear_c.tga"}) {
		t.Errorf("%+v", sel)
	}
	same := call[api.Selected](c, "GET", path+"/selections/"+sel.Digest, nil)
	if same.Entries != 2 || same.Bytes != sel.Bytes || (*same.Selection.Ids)[0] != keeper.Id {
		t.Errorf("%+v", same)
	}
	for body, want := range map[string]int{`{"filter":{}}`: 14, `{"filter":{"kind":"picture"}}`: 5, `{"folders":["wash","text"]}`: 8, `{"sets":["heron"]}`: 2, `{"filter":{},"winners":true}`: 13} {
		var b any
		json.Unmarshal([]byte(body), &b)
		if got := call[api.Selected](c, "POST", path+"/selections", b); got.Entries != want {
			t.Errorf("%s: %d entries, want %d", body, got.Entries, want)
		}
	}
	if status, _ := c.do("GET", path+"/selections/0123456789abcdef", nil); status != 404 {
		t.Errorf("no such selection: %d", status)
	}
	if p := c.entries(path, fmt.Sprintf("sort=-size&at=%d", keeper.Id)); p.At == nil || p.Entries[*p.At].Id != keeper.Id {
		t.Errorf("its place: %v", p.At)
	}
}

func TestLinksAndPins(t *testing.T) {
	c := start(t)
	id, path := c.project("links")
	c.addSource(id, "hulls.tide")
	c.addSource(id, "washes.tide")
	c.linked(path)
	keeper := c.entries(path, "q=ferry_keeper").Entries[0]
	preview := func(id int64) api.Preview {
		return call[api.Preview](c, "GET", fmt.Sprintf("/api/entries/%d/preview", id), nil)
	}
	pv := preview(keeper.Id)
	var cloth, gear *api.Link
	for i, l := range *pv.Needs {
		if strings.Contains(l.Ref, "cloth") {
			cloth = &(*pv.Needs)[i]
		} else {
			gear = &(*pv.Needs)[i]
		}
	}
	if cloth.Entry == nil || cloth.Sure != "likely" || cloth.Role != "colour" || cloth.Entry.SourceLabel != "washes.tide" {
		t.Errorf("%+v", cloth)
	}
	if gear.Entry != nil || len(gear.Looked) < 3 {
		t.Errorf("%+v", gear)
	}
	by := preview(cloth.Entry.Id)
	if *by.NeededByCount != 1 || (*by.NeededBy)[0].Id != keeper.Id {
		t.Errorf("%+v", by.NeededBy)
	}
	m := call[api.Missing](c, "GET", path+"/links/missing", nil)
	if m.Total != 1 || m.Asked != 1 || m.Names[0].Ref != gear.Ref || m.Names[0].Entries[0].Id != keeper.Id {
		t.Errorf("%+v", m)
	}
	// Pinned by hand: the model takes it, and it lasts over another index.
	find := call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": keeper.Id})
	call[any](c, "PUT", path+"/pins", map[string]any{"ref": gear.Ref, "entry": cloth.Entry.Id})
	call[any](c, "POST", fmt.Sprintf("/api/sources/%d/index", cloth.Entry.Id>>24), nil)
	c.until("the find is whole", func() bool {
		f := call[api.Find](c, "GET", fmt.Sprintf("/api/finds/%d", find.Id), nil)
		return f.State == "ready" && f.Model.Stats.Missing == 0
	})
	c.linked(path)
	if pv := preview(keeper.Id); pv.Model.Stats.Missing != 0 || *pv.Entry.Found != 2 {
		t.Errorf("%+v", pv.Needs)
	}
	if l := call[[]api.Pin](c, "GET", path+"/pins", nil); len(l) != 1 || l[0].Ref != gear.Ref {
		t.Errorf("%+v", l)
	}
	call[any](c, "DELETE", path+"/pins?ref="+url.QueryEscape(gear.Ref), nil)
	if status, _ := c.do("DELETE", path+"/pins?ref=none", nil); status != 404 {
		t.Errorf("no such pin: %d", status)
	}
	// The source that holds it solves it without a pin.
	c.addSource(id, "winter.tide")
	if m := call[api.Missing](c, "GET", path+"/links/missing", nil); m.Total != 0 {
		t.Errorf("%+v", m)
	}
}

func TestPreviews(t *testing.T) {
	c := start(t)
	id, path := c.project("look")
	dir := filepath.Join(c.lib, "odd")
	os.MkdirAll(dir, 0o755)
	os.WriteFile(filepath.Join(dir, "sjis.txt"), []byte{0x83, 0x89, 0x83, 0x93, 0x83, 0x5e, 0x83, 0x93, 0x82, 0xcc, '\n'}, 0o644)
	wav := append([]byte("RIFF\x24\x10\x00\x00WAVEfmt "), make([]byte, 5000)...)
	os.WriteFile(filepath.Join(dir, "bell.snd"), wav, 0o644)
	os.WriteFile(filepath.Join(dir, "broken.wash"), []byte("WASH\x02\x00\xff\xff"), 0o644)
	os.WriteFile(filepath.Join(dir, "own.vrm"), demo.Avatars[1].VRM(), 0o644)
	c.addSource(id, "odd")
	at := func(name string) api.Preview {
		e := c.entries(path, "q="+name).Entries[0]
		return call[api.Preview](c, "GET", fmt.Sprintf("/api/entries/%d/preview", e.Id), nil)
	}
	if p := at("sjis"); p.Encoding == nil || *p.Encoding != "Shift-JIS" || *p.Text != "ランタンの\n" {
		t.Errorf("%+v", p)
	}
	if p := at("broken"); p.Error == nil || p.Error.Message == "" {
		t.Errorf("%+v", p)
	}
	if p := at("own"); p.Terms.Owner != "Millrace Workshop" || *p.Short != "may be shared" || p.Model == nil {
		t.Errorf("%+v %v", p.Terms, p.Error)
	}
	bell := at("bell")
	if bell.Kind != "sound" {
		t.Errorf("%+v", bell)
	}
	content := fmt.Sprintf("/api/entries/%d/content", bell.Entry.Id)
	for _, r := range []struct {
		ask    string
		status int
		want   []byte
	}{{"bytes=0-3", 206, wav[:4]}, {"bytes=8-", 206, wav[8:]}, {"bytes=-10", 206, wav[len(wav)-10:]}, {"bytes=99999-", 416, nil}, {"", 200, wav}, {"bytes=x", 200, wav}, {"bytes=4990-9999", 206, wav[4990:]}} {
		status, b := c.do("GET", content, nil, "Range", r.ask)
		if status != r.status || r.want != nil && !bytes.Equal(b, r.want) {
			t.Errorf("%q: %d, %d bytes", r.ask, status, len(b))
		}
	}
	c.addSource(id, "washes.tide")
	pic := c.entries(path, "q=keeper_cloth_c").Entries[0]
	seen := map[string]bool{}
	for _, show := range []string{"all", "colour", "r", "g", "b", "a"} {
		status, b := c.do("GET", fmt.Sprintf("/api/entries/%d/picture?show=%s", pic.Id, show), nil)
		if status != 200 || !bytes.HasPrefix(b, []byte("\x89PNG")) {
			t.Errorf("%s: %d", show, status)
		}
		seen[string(b)] = true
	}
	if len(seen) < 5 {
		t.Errorf("only %d of the channels differ", len(seen))
	}
}

func (c *client) extraction(id int64) (x api.Extraction) {
	c.t.Helper()
	c.until("the extraction", func() bool {
		x = call[api.Extraction](c, "GET", fmt.Sprintf("/api/extractions/%d", id), nil)
		return x.State != "waiting" && x.State != "running"
	})
	return x
}

func TestExtractions(t *testing.T) {
	c := start(t)
	id, path := c.project("out")
	c.addSource(id, "hulls.tide")
	c.addSource(id, "washes.tide")
	c.linked(path)
	keeper := c.entries(path, "q=ferry_keeper").Entries[0]
	x := c.extraction(call[api.Extraction](c, "POST", path+"/extractions", map[string]any{"title": "ferry/keeper", "selection": map[string]any{"ids": []int64{keeper.Id}, "needs": true}, "form": "folder",
		"map": []any{map[string]string{"from": "wash/", "to": "materials"}, map[string]string{"from": "figures/", "to": "models"}}}).Id)
	if x.State != "done" || x.Summary.Entries != 2 || !x.Summary.Complete {
		t.Fatalf("%+v", x)
	}
	for _, f := range []string{"models/ferry_keeper.hull", "materials/keeper/keeper_cloth_c.wash"} {
		if _, err := os.Stat(filepath.Join(x.To, f)); err != nil {
			t.Error(err)
		}
	}
	// The next one of that name gets a folder of its own.
	y := c.extraction(call[api.Extraction](c, "POST", path+"/extractions", map[string]any{"title": "ferry/keeper", "selection": map[string]any{"filter": map[string]any{}, "winners": true}, "form": "zip"}).Id)
	if y.State != "done" || y.Summary.Entries != 13 || !strings.HasSuffix(y.To, ".zip") {
		t.Fatalf("%+v", y)
	}
	z, err := zip.OpenReader(y.To)
	if err != nil || len(z.File) != 13 {
		t.Fatal(err)
	}
	z.Close()
	if left, _ := filepath.Glob(filepath.Dir(y.To) + "/*.taken"); len(left) != 0 {
		t.Errorf("left over: %q", left)
	}
	// Into a folder where something is: the policy counts.
	os.WriteFile(filepath.Join(x.To, "licence.txt"), []byte("mine"), 0o644)
	for policy, want := range map[string]string{"skip": "mine", "keep-both": "mine", "replace": "Owner"} {
		got := c.extraction(call[api.Extraction](c, "POST", path+"/extractions", map[string]any{"selection": map[string]any{"filter": map[string]any{"q": "licence"}, "winners": true}, "form": "folder", "to": x.To, "policy": policy}).Id)
		b, _ := os.ReadFile(filepath.Join(x.To, "licence.txt"))
		if got.State != "done" || !strings.HasPrefix(string(b), want) {
			t.Errorf("%s: %s, %.20q, %+v", policy, got.State, b, got.Summary)
		}
		if policy == "keep-both" && (len(got.Summary.Changes) != 1 || got.Summary.Changes[0].To != "licence~2.txt") {
			t.Errorf("%+v", got.Summary.Changes)
		}
		os.WriteFile(filepath.Join(x.To, "licence.txt"), []byte("mine"), 0o644)
	}
	status, b := c.do("GET", fmt.Sprintf("/api/extractions/%d/summary", x.Id), nil)
	var sum struct{ Entries int }
	if json.Unmarshal(b, &sum); status != 200 || sum.Entries != 2 {
		t.Errorf("summary: %d %s", status, b)
	}
	for name, body := range map[string]map[string]any{
		"outside":    {"selection": map[string]any{"filter": map[string]any{}}, "form": "folder", "to": c.lib},
		"relative":   {"selection": map[string]any{"filter": map[string]any{}}, "form": "folder", "to": "x"},
		"nothing":    {"selection": map[string]any{}, "form": "folder"},
		"a bad glob": {"selection": map[string]any{"filter": map[string]any{"q": "[a"}}, "form": "folder"},
		"a form":     {"selection": map[string]any{"filter": map[string]any{}}, "form": "tape"},
		"a policy":   {"selection": map[string]any{"filter": map[string]any{}}, "form": "folder", "to": x.To, "policy": "hope"},
	} {
		if status, b := c.do("POST", path+"/extractions", body); status < 400 || status >= 500 {
			t.Errorf("%s: %d %s", name, status, b)
		}
	}
	if status, _ := c.do("POST", fmt.Sprintf("/api/extractions/%d/resume", x.Id), nil); status != 409 {
		t.Errorf("resuming what is done: %d", status)
	}
}

func TestDevicesBecomeSources(t *testing.T) {
	c := start(t)
	_, path := c.project("devices")
	con := httptest.NewServer(console.New().Handler())
	defer con.Close()
	ex := httptest.NewServer(exchange.New().Handler())
	defer ex.Close()
	if status, b := c.do("POST", path+"/devices", map[string]string{"address": ex.URL, "token": "wrong"}); status != 403 || !strings.Contains(string(b), "token") {
		t.Errorf("a wrong token: %d %s", status, b)
	}
	if status, b := c.do("POST", path+"/devices", map[string]string{"address": "http://10.1.2.3"}); status != 400 || !strings.Contains(string(b), "--device") {
		t.Errorf("another machine: %d %s", status, b)
	}
	d := call[api.Device](c, "POST", path+"/devices", map[string]string{"address": con.URL})
	if !d.Online || d.Frame == nil {
		t.Fatalf("%+v", d)
	}
	at := fmt.Sprintf("/api/devices/%d", d.Id)
	if d = call[api.Device](c, "POST", at+"/control", map[string]any{"do": "step", "frames": 2}); *d.Running {
		t.Errorf("%+v", d)
	}
	var ids []string
	for _, o := range call[[]api.Offer](c, "GET", at+"/offers", nil) {
		ids = append(ids, o.Id)
	}
	call[any](c, "POST", at+"/pull", map[string]any{"offers": ids})
	c.until("a source", func() bool {
		l := call[[]api.Source](c, "GET", path+"/sources", nil)
		return len(l) == 1 && l[0].KindsKnown
	})
	s := call[[]api.Source](c, "GET", path+"/sources", nil)[0]
	if s.Origin != "device" || s.Short != "private use only" || !strings.Contains(s.Label, "frame") || s.Entries != len(ids) {
		t.Errorf("%+v", s)
	}
	if p := c.entries(path, "kind=picture"); p.Total != 8 {
		t.Errorf("%+v", p.Kinds)
	}
	e := call[api.Device](c, "POST", path+"/devices", map[string]string{"address": ex.URL, "token": exchange.Token})
	at = fmt.Sprintf("/api/devices/%d", e.Id)
	offers := call[[]api.Offer](c, "GET", at+"/offers", nil)
	if len(offers) == 0 || offers[0].Terms == nil || *offers[0].Short == "" {
		t.Fatalf("%+v", offers)
	}
	if status, b := c.do("GET", at+"/thumb?offer="+offers[0].Id, nil); status != 200 || !bytes.HasPrefix(b, []byte("\x89PNG")) {
		t.Errorf("thumb: %d", status)
	}
	// The connection breaks half way; the download goes on.
	http.Post(ex.URL+"/trouble", "application/json", strings.NewReader(`{"dropAfter": 60000}`))
	call[any](c, "POST", at+"/pull", map[string]any{"offers": []string{offers[2].Id}})
	c.until("an avatar", func() bool {
		l := call[[]api.Source](c, "GET", path+"/sources", nil)
		return len(l) == 2 && l[1].KindsKnown
	})
	vrm := c.entries(path, "kind=model&q=*.vrm").Entries
	if len(vrm) != 1 {
		t.Fatalf("%+v", vrm)
	}
	pv := call[api.Preview](c, "GET", fmt.Sprintf("/api/entries/%d/preview", vrm[0].Id), nil)
	if pv.Model == nil || pv.Model.Stats.Bones < 20 || pv.Model.Stats.Morphs != 3 || pv.Terms.Owner != "Wren Sallow" {
		t.Errorf("%+v %+v", pv.Model, pv.Terms)
	}
	if status, b := c.do("POST", at+"/pull", map[string]any{"offers": []string{"nobody"}}); status != 409 {
		t.Errorf("what is not offered: %d %s", status, b)
	}
	// A device that vanishes does no harm, and is there again when it is back.
	ex.CloseClientConnections()
	ex.Close()
	for _, x := range call[[]api.Device](c, "GET", path+"/devices", nil) {
		if x.Id == e.Id && (x.Online || x.Error == nil) || x.Id == d.Id && !x.Online {
			t.Errorf("%+v", x)
		}
	}
	call[any](c, "DELETE", at, nil)
	if l := call[[]api.Device](c, "GET", path+"/devices", nil); len(l) != 1 {
		t.Errorf("%+v", l)
	}
	if l := call[[]api.Source](c, "GET", path+"/sources", nil); len(l) != 2 {
		t.Error("what was pulled in went with the device")
	}
}

func TestTermsByHand(t *testing.T) {
	c := start(t)
	id, path := c.project("terms")
	s := c.addSource(id, "hulls.tide")
	if s.Terms.Owner == "" && s.Terms.Licence == "" {
		t.Errorf("nothing was read: %+v", s.Terms)
	}
	mine := map[string]any{"owner": "Me", "licence": "CC0-1.0", "private": "yes", "shareChanged": "yes", "shareUnchanged": "yes", "sell": "no", "evidence": "a letter", "byHand": false}
	got := call[api.Source](c, "PATCH", fmt.Sprintf("/api/sources/%d", s.Id), map[string]any{"terms": mine})
	if !got.Terms.ByHand || got.Short != "may be shared" {
		t.Errorf("%+v", got.Terms)
	}
	call[any](c, "POST", fmt.Sprintf("/api/sources/%d/index", s.Id), nil)
	c.linked(path)
	if x := call[[]api.Source](c, "GET", path+"/sources", nil)[0]; x.Terms.Owner != "Me" {
		t.Errorf("an index overwrites what was stated by hand: %+v", x.Terms)
	}
	mine["sell"] = "perhaps"
	if status, _ := c.do("PATCH", fmt.Sprintf("/api/sources/%d", s.Id), map[string]any{"terms": mine}); status != 400 {
		t.Errorf("an answer of its own: %d", status)
	}
}

func bigProject(t testing.TB, c *client, n int) (int64, string) {
	t.Helper()
	f, err := os.Create(filepath.Join(c.lib, "big.zip"))
	if err != nil {
		t.Fatal(err)
	}
	w := zip.NewWriter(f)
	for i := range n {
		x, _ := w.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("area_%03d/wash/%06d_tile_%c.wash", i%400, i, "cnsg"[i%4]), Method: zip.Store})
		io.WriteString(x, "0123456789abcdef")
	}
	w.Close()
	f.Close()
	p := call[api.Project](c, "POST", "/api/projects", map[string]string{"name": "big"})
	return p.Id, fmt.Sprintf("/api/projects/%d", p.Id)
}

// BenchmarkPages asks for pages and searches of 200,000 entries with eight
// clients at once.
func BenchmarkPages(b *testing.B) { pages(b, false) }

// BenchmarkPagesWhileIndexing is the same while another source of 200,000
// entries is indexed again and again.
func BenchmarkPagesWhileIndexing(b *testing.B) { pages(b, true) }

func pages(b *testing.B, indexing bool) {
	c := start(b)
	const n = 200_000
	id, path := bigProject(b, c, n)
	begin := time.Now()
	c.addSource(id, "big.zip")
	b.ReportMetric(time.Since(begin).Seconds(), "s-to-index-and-store")
	c.linked(path)
	ask := func(k int) string {
		switch k % 4 {
		case 0:
			return fmt.Sprintf("/entries?limit=200&sort=path&offset=%d", k*977%n)
		case 1:
			return fmt.Sprintf("/entries?limit=200&q=%03d", k*37%1000)
		case 2:
			return fmt.Sprintf("/entries?limit=200&q=area_%02d*/**/*_n.*&kind=data", k%40)
		}
		return fmt.Sprintf("/outline?limit=200&open=area_%03d&offset=%d", k%400, k%300)
	}
	c.do("GET", path+ask(0), nil)
	c.do("GET", path+ask(3), nil)
	if indexing {
		other, _ := bigProject(b, c, n)
		src := c.addSource(other, "big.zip")
		done := make(chan bool)
		defer close(done)
		go func() {
			for {
				select {
				case <-done:
					return
				case <-time.After(100 * time.Millisecond): // one that is queued already is not queued twice
					c.do("POST", fmt.Sprintf("/api/sources/%d/index", src.Id), nil)
				}
			}
		}()
		time.Sleep(300 * time.Millisecond)
	}
	b.ResetTimer()
	var mu sync.Mutex
	var took []time.Duration
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for k := w; k < 400; k += 8 {
				begin := time.Now()
				status, body := c.do("GET", path+ask(k), nil)
				d := time.Since(begin)
				if status != 200 {
					b.Errorf("%d %s", status, body)
				}
				mu.Lock()
				took = append(took, d)
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	sort.Slice(took, func(i, j int) bool { return took[i] < took[j] })
	b.ReportMetric(float64(took[len(took)*95/100].Microseconds())/1000, "p95-ms")
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "p50-ms")
}

func TestTrialsOnBytes(t *testing.T) {
	c := start(t)
	id, path := c.project("bytes")
	c.addSource(id, "washes.tide")
	e := c.entries(path, "q=punt_c").Entries[0]
	at := fmt.Sprintf("/api/entries/%d", e.Id)
	s := call[api.Strip](c, "GET", at+"/strip?cells=64", nil)
	end := int64(0)
	for _, x := range s.Cells {
		if x.At != end || x.Evidence == "" {
			t.Fatalf("%+v", x)
		}
		end += x.Size
	}
	if s.Size != e.Size || end != e.Size {
		t.Errorf("the strip ends at %d of %d", end, s.Size)
	}
	if f := call[struct{ At, Length int64 }](c, "GET", at+"/find?pattern=57+??+53", nil); f.At != 0 || f.Length != 3 {
		t.Errorf("%+v", f)
	}
	if f := call[struct{ At int64 }](c, "GET", at+"/find?from=1&pattern="+url.QueryEscape(`"WASH"`), nil); f.At != -1 {
		t.Errorf("%+v", f)
	}
	g := call[[]api.Guess](c, "GET", at+"/trials/width?at=24&format=a1b5g5r5_pack16", nil)
	if len(g) == 0 || !slices.ContainsFunc(g, func(x api.Guess) bool { return x.Value == 256 }) {
		t.Errorf("%+v", g)
	}
	status, trial := c.do("GET", at+"/trials/picture?at=24&width=256&height=256&format=a1b5g5r5_pack16", nil)
	_, real := c.do("GET", at+"/picture", nil)
	if status != 200 || !bytes.Equal(trial, real) {
		t.Errorf("the trial is another picture than the layout's: %d", status)
	}
	for name, q := range map[string]string{"a format": "at=0&width=8&height=8&format=q9", "a side": "at=0&width=99999&height=8&format=l8", "the end": "at=999999999&width=8&height=8&format=l8", "a tiling": "at=0&width=8&height=8&format=l8&tiling=spiral"} {
		if status, b := c.do("GET", at+"/trials/picture?"+q, nil); status != 400 {
			t.Errorf("%s: %d %s", name, status, b)
		}
	}
	// Packed data is found at its place in the archive itself.
	os.MkdirAll(filepath.Join(c.lib, "raw"), 0o755)
	pack := demo.Pack([]demo.PackEntry{{Name: "a.txt", Data: []byte(strings.Repeat("reed and tide ", 90)), Packing: 1}})
	os.WriteFile(filepath.Join(c.lib, "raw", "unknown.bin"), append([]byte{1, 2, 3, 4}, pack...), 0o644)
	c.addSource(id, "raw")
	u := c.entries(path, "q=unknown.bin").Entries[0]
	z := call[struct{ At int64 }](c, "GET", fmt.Sprintf("/api/entries/%d/find?pattern=78", u.Id), nil)
	list := call[[]api.Unpacking](c, "GET", fmt.Sprintf("/api/entries/%d/trials/packed?at=%d", u.Id, z.At), nil)
	if list[0].Codec != "zlib" || !strings.HasPrefix(list[0].Text, "reed and tide") || list[0].Class != "text" {
		t.Errorf("at %d: %+v", z.At, list[0])
	}
}

func TestFiltersMeetAndAreRefused(t *testing.T) {
	c := start(t)
	id, path := c.project("filters")
	hulls := c.addSource(id, "hulls.tide")
	washes := c.addSource(id, "washes.tide")
	c.linked(path)
	for query, want := range map[string]int{
		"": 14, "kind=picture": 5, "kind=text&q=lines": 3, fmt.Sprintf("source=%d", washes.Id): 6, fmt.Sprintf("source=%d&kind=model", washes.Id): 0,
		"folder=wash/houses": 2, "folder=WASH": 5, "min=100000": 5, "max=130&kind=text": 2, "q=keeper+wash": 1, "q=*.hull": 4, "q=wash/**/*_c.*": 5, "q=%5C%5Chouses%5C%5Cboards": 0, "q=no+such+thing": 0,
	} {
		p := c.entries(path, query)
		if p.Total != want || len(p.Entries) != want {
			t.Errorf("%q: %d entries, %d shown, want %d", query, p.Total, len(p.Entries), want)
		}
		sum := int64(0)
		for _, e := range p.Entries {
			sum += e.Size
		}
		if sum != p.Bytes {
			t.Errorf("%q: %d bytes, the entries have %d", query, p.Bytes, sum)
		}
	}
	// Facets do not count their own filter.
	p := c.entries(path, fmt.Sprintf("kind=text&source=%d", hulls.Id))
	if p.Kinds["model"] != 4 || p.Kinds["text"] != 4 || p.Sources[fmt.Sprint(washes.Id)] != 1 || p.Sources[fmt.Sprint(hulls.Id)] != 4 {
		t.Errorf("%v %v", p.Kinds, p.Sources)
	}
	// Pages join without a gap.
	var all []string
	for at := 0; at < 14; at += 5 {
		for _, e := range c.entries(path, fmt.Sprintf("sort=path&limit=5&offset=%d", at)).Entries {
			all = append(all, e.Path)
		}
	}
	if len(all) != 14 || !slices.IsSortedFunc(all, func(a, b string) int { return strings.Compare(strings.ToLower(a), strings.ToLower(b)) }) {
		t.Errorf("%q", all)
	}
	if p := c.entries(path, "offset=99999"); p.Total != 14 || len(p.Entries) != 0 {
		t.Errorf("beyond the end: %+v", p)
	}
	for query, want := range map[string]int{"kind=thing": 400, "sort=colour": 400, "q=%5Ba": 400, "limit=0": 400, "offset=-4": 400, "source=999": 200} {
		if status, b := c.do("GET", path+"/entries?"+query, nil); status != want {
			t.Errorf("%q: %d %.200s", query, status, b)
		}
	}
	for _, at := range []string{"/entries", "/outline", "/sets", "/naming", "/links/missing", "/extractions", "/devices"} {
		if status, b := c.do("GET", "/api/projects/999"+at, nil); status >= 500 || at != "/extractions" && status != 404 {
			t.Errorf("%s of no project: %d %.200s", at, status, b)
		}
	}
	for _, at := range []string{"preview", "picture", "content", "strip", "find?pattern=00", "trials/packed?at=0", "trials/width?at=0&format=l8"} {
		if status, b := c.do("GET", "/api/entries/77777777/"+at, nil); status != 404 || !strings.Contains(string(b), "there is no entry") {
			t.Errorf("%s of no entry: %d %.200s", at, status, b)
		}
	}
	o := call[api.Outline](c, "GET", path+"/outline?open=*&kind=picture", nil)
	folders, entries := 0, 0
	for _, l := range o.Lines {
		if l.Folder != nil {
			folders++
		} else {
			entries++
		}
	}
	if folders != 5 || entries != 5 || o.Total != 10 {
		t.Errorf("%d folders, %d entries of %d lines", folders, entries, o.Total)
	}
}

// Every entry of the demo can be looked at, and nothing of it is a fault.
func TestEveryPreviewOfTheDemo(t *testing.T) {
	c := start(t)
	id, path := c.project("all")
	for _, n := range append([]string{"harbour.zip"}, demo.Archives...) {
		c.addSource(id, n)
	}
	c.linked(path)
	page := c.entries(path, "limit=1000")
	if page.Total < 18 {
		t.Fatal(page.Total)
	}
	for _, e := range page.Entries {
		p := call[api.Preview](c, "GET", fmt.Sprintf("/api/entries/%d/preview", e.Id), nil)
		if p.Error != nil {
			t.Errorf("%s: %s", e.Path, p.Error.Message)
		}
		if p.Terms == nil || p.Short == nil || p.Needs == nil || p.NeededBy == nil {
			t.Errorf("%s: something is left out", e.Path)
		}
		switch e.Kind {
		case "model":
			if p.Model == nil || p.Model.Stats.Triangles == 0 || p.Model.Stats.Missing != 0 {
				t.Errorf("%s: %+v", e.Path, p.Model)
			}
			if len(*p.Needs) != 0 && (e.Found == nil || *e.Found != *e.Needs) {
				t.Errorf("%s: %v of %v found", e.Path, e.Found, e.Needs)
			}
		case "picture":
			if p.Picture == nil || p.Picture.Width == 0 {
				t.Errorf("%s: %+v", e.Path, p.Picture)
			}
		case "text":
			if p.Text == nil || *p.Text == "" || *p.Encoding != "UTF-8" || *p.Cut {
				t.Errorf("%s: %+v", e.Path, p)
			}
		}
		// Its bytes come back as long as they are said to be.
		if status, b := c.do("GET", fmt.Sprintf("/api/entries/%d/content?save=true", e.Id), nil); status != 200 || int64(len(b)) != e.Size {
			t.Errorf("%s: %d, %d of %d bytes", e.Path, status, len(b), e.Size)
		}
	}
	m := call[api.Missing](c, "GET", path+"/links/missing", nil)
	if m.Total != 0 || m.Asked != 0 || len(m.Names) != 0 {
		t.Errorf("missing: %+v", m)
	}
}

// Two who send pieces of one file at once cannot mix them.
func TestPiecesDoNotMix(t *testing.T) {
	c := start(t)
	_, path := c.project("two")
	want := make([]byte, 600_000)
	for i := range want {
		want[i] = byte(i >> 3)
	}
	u := call[api.Upload](c, "POST", path+"/uploads", map[string]any{"name": "both.bin", "folder": false, "files": []any{map[string]any{"path": "both.bin", "size": len(want), "modified": 0}}})
	var wg sync.WaitGroup
	for range 2 {
		wg.Go(func() {
			for tries := 0; tries < 400; tries++ {
				at := call[api.Upload](c, "GET", "/api/uploads/"+u.Id, nil).Received[0]
				if at == int64(len(want)) {
					return
				}
				c.do("PUT", fmt.Sprintf("/api/uploads/%s/files/0?offset=%d", u.Id, at), want[at:min(at+50_000, int64(len(want)))])
			}
		})
	}
	wg.Wait()
	call[any](c, "POST", "/api/uploads/"+u.Id+"/finish", nil)
	c.until("indexing", func() bool { return call[[]api.Source](c, "GET", path+"/sources", nil)[0].KindsKnown })
	e := c.entries(path, "").Entries[0]
	if _, b := c.do("GET", fmt.Sprintf("/api/entries/%d/content", e.Id), nil); !bytes.Equal(b, want) {
		t.Error("the pieces were mixed")
	}
	// What nobody finishes can be thrown away.
	v := call[api.Upload](c, "POST", path+"/uploads", map[string]any{"name": "half.bin", "folder": false, "files": []any{map[string]any{"path": "half.bin", "size": 10, "modified": 0}}})
	c.do("PUT", "/api/uploads/"+v.Id+"/files/0?offset=0", []byte("12345"))
	call[any](c, "DELETE", "/api/uploads/"+v.Id, nil)
	if status, _ := c.do("GET", "/api/uploads/"+v.Id, nil); status != 404 {
		t.Errorf("an upload that was thrown away: %d", status)
	}
}
