package api_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	"excavate/internal/api"
	"excavate/internal/demo"
)

// tutorialLayouts are the documents of docs/first-layout.md.
func tutorialLayouts(t *testing.T) []string {
	t.Helper()
	b, err := os.ReadFile("../../docs/first-layout.md")
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, part := range strings.Split(string(b), "```yaml\n")[1:] {
		doc, _, _ := strings.Cut(part, "```")
		out = append(out, doc)
	}
	return out
}

func TestLayoutsOverHTTP(t *testing.T) {
	docs := tutorialLayouts(t)
	c := start(t)
	id, path := c.project("layouts")
	c.addSource(id, "sluice.bin")
	c.linked(path)
	file := c.entries(path, "q=sluice").Entries[0]
	if file.Kind != "data" {
		t.Fatalf("%+v", file)
	}
	entry := fmt.Sprintf("/api/entries/%d", file.Id)

	// What ships is listed; an error has its place.
	list := call[[]api.LayoutItem](c, "GET", path+"/layouts", nil)
	if len(list) < 5 || !list[0].Shipped || *list[0].Document == "" {
		t.Errorf("%+v", list)
	}
	bad := call[api.LayoutCheck](c, "POST", "/api/layouts/check", map[string]string{"document": strings.Replace(docs[0], "i.offset", "j.offset", 1)})
	if bad.Works || *bad.Line != 28 || *bad.Column != 7 {
		t.Errorf("%+v", bad)
	}
	if s, _ := c.do("GET", "/api/schemas/layout", nil); s != 200 {
		t.Error("no schema")
	}

	// A layout that begins with the entry's own mark; its versions.
	l := call[api.Layout](c, "POST", path+"/layouts", map[string]any{"name": "sluice archive", "entry": file.Id})
	if !strings.Contains(l.Document, `ascii: "SLCE"`) || !l.Check.Works || l.Head != 1 {
		t.Errorf("%+v", l)
	}
	one := fmt.Sprintf("/api/layouts/%d", l.Id)
	if s, b := c.do("POST", path+"/layouts", map[string]any{"name": "sluice archive"}); s != 409 {
		t.Errorf("a name that is taken: %d %s", s, b)
	}
	l = call[api.Layout](c, "PUT", one, map[string]any{"document": docs[0], "base": 1})
	if l.Head != 2 || len(l.Versions) != 2 {
		t.Errorf("%+v", l)
	}
	if s, b := c.do("PUT", one, map[string]any{"document": "x", "base": 1}); s != 409 || !strings.Contains(string(b), "version 2 was kept meanwhile") {
		t.Errorf("an old base: %d %s", s, b)
	}
	// One that does not compile is kept, and the last good one goes on reading.
	if l = call[api.Layout](c, "PUT", one, map[string]any{"document": "layout: [", "base": 2}); l.Head != 3 || l.Check.Works {
		t.Errorf("%+v", l)
	}
	if old := call[api.Layout](c, "GET", one+"?version=2", nil); old.Document != docs[0] {
		t.Error("version 2 is not what was kept")
	}
	if _, b := c.do("GET", one+"/document", nil); string(b) != "layout: [" {
		t.Errorf("the file is %q", b)
	}

	// Fields with their places, also of a document that is not kept.
	x := call[api.Explained](c, "POST", entry+"/explain", map[string]any{"document": docs[0], "focus": 4})
	if x.Covered != x.Size || x.Made != "4 entries" || x.Pieces[1].Name != "directory_at" || *x.Pieces[1].Value != "126184" || len(*x.Pieces[4].Pieces) != 4 {
		t.Errorf("%+v", x)
	}
	x = call[api.Explained](c, "POST", entry+"/explain", map[string]any{"document": strings.Replace(docs[0], "count: u32", "count: {type: u32, must: count < 3, message: too many}", 1)})
	if x.Message == nil || !strings.Contains(*x.Message, "count is 4: too many") || *x.At != 8 || *x.Line != 20 {
		t.Errorf("%+v", x)
	}

	// The entry is an archive now; mounted, its own entries are there.
	c.linked(path)
	if file = c.entries(path, "q=sluice").Entries[0]; file.Kind != "archive" || file.Format != "sluice archive" {
		t.Fatalf("%+v", file)
	}
	call[api.Source](c, "POST", entry+"/mount", nil)
	c.linked(path)
	for i, name := range []string{"picture", "model"} {
		call[api.Layout](c, "POST", path+"/layouts", map[string]any{"name": "sluice " + name, "document": docs[i+1]})
	}
	c.linked(path)
	mill := c.entries(path, "q=mill.shp").Entries[0]
	if mill.Kind != "model" {
		t.Fatalf("%+v", mill)
	}
	p := call[api.Preview](c, "GET", fmt.Sprintf("/api/entries/%d/preview", mill.Id), nil)
	if p.Model == nil || p.Model.Stats.Missing != 0 || p.Model.Stats.Triangles != 1176 {
		t.Fatalf("%+v", p)
	}

	// Coverage over all that it recognises.
	var model api.LayoutItem
	for _, l := range call[[]api.LayoutItem](c, "GET", path+"/layouts", nil) {
		if l.Name == "sluice model" {
			model = l
		}
	}
	covered := func() (v api.Coverage) {
		at := fmt.Sprintf("/api/layouts/%d/coverage", model.Id)
		call[any](c, "POST", at, nil)
		c.until("the coverage", func() bool { v = call[api.Coverage](c, "GET", at, nil); return !v.Running && v.Version > 0 })
		return v
	}
	if v := covered(); v.Entries != 2 || v.Opened != 2 || v.Explained != v.Bytes || v.Bytes == 0 {
		t.Errorf("%+v", v)
	}
	l = call[api.Layout](c, "PUT", fmt.Sprintf("/api/layouts/%d", model.Id), map[string]any{"document": strings.Replace(docs[2], "vertex_count: u16", "vertex_count: {type: u16, must: vertex_count < 1200}", 1), "base": 1})
	c.until("the failure", func() bool {
		v := covered()
		return v.Version == 2 && v.Entries == 2 && v.Failed == 1 && len(v.Faults) == 1 && *v.Faults[0].Line == 11 && *v.Faults[0].At == 2 && v.Faults[0].Path == "mill.shp"
	})

	// Gone, nothing knows the file any more.
	call[any](c, "DELETE", fmt.Sprintf("/api/layouts/%d", model.Id), nil)
	c.linked(path)
	if mill = c.entries(path, "q=mill.shp").Entries[0]; mill.Kind != "data" {
		t.Errorf("%+v", mill)
	}
	for _, x := range []struct {
		method, path string
		body         any
		status       int
	}{
		{"GET", "/api/layouts/999", nil, 404}, {"GET", one + "?version=99", nil, 404}, {"DELETE", "/api/layouts/999", nil, 404},
		{"POST", path + "/layouts", map[string]any{"name": " "}, 400}, {"POST", entry + "/explain", map[string]any{"document": "x"}, 422},
		{"POST", entry + "/made", map[string]any{"document": docs[1]}, 422}, {"PUT", "/api/finds/999/readings", map[string]string{}, 404},
		{"POST", "/api/layouts/999/coverage", nil, 404},
	} {
		if s, b := c.do(x.method, x.path, x.body); s != x.status {
			t.Errorf("%s %s: %d %s, want %d", x.method, x.path, s, b, x.status)
		}
	}
}

func TestTrialsOfRecordsAndMeshes(t *testing.T) {
	c := start(t)
	id, path := c.project("trials")
	c.addSource(id, "sluice.bin")
	c.linked(path)
	file := c.entries(path, "q=sluice").Entries[0]
	entry := fmt.Sprintf("/api/entries/%d", file.Id)
	data := demo.Mystery()

	r := call[api.Records](c, "GET", entry+"/trials/records?at=126184", nil)
	if r.Stride != 40 || r.Spec != "ascii24 u32 u32 u32 u32" || r.Rows[1][0] != "mill.tex" {
		t.Errorf("%+v", r)
	}
	if r = call[api.Records](c, "GET", entry+"/trials/records?at=126184&stride=40&columns=-24%20u32&count=2", nil); len(r.Rows) != 2 || r.Rows[0][0] != "16" {
		t.Errorf("%+v", r)
	}
	g := call[api.MeshGuess](c, "GET", entry+"/trials/guess?at=40", nil)
	if g.Strides[0].Stride != 20 || g.Strides[0].Format != "f32x3" || g.Strides[0].Count != 1340 || g.Indices[0].At != 26840 || g.Indices[0].Count != 3528 {
		t.Errorf("%+v", g)
	}
	for _, q := range []string{"", "&indicesAt=26840&indexCount=3528&indexFormat=u16"} {
		if s, b := c.do("GET", entry+"/trials/mesh?at=40&stride=20&count=1340&format=f32x3"+q, nil); s != 200 || !bytes.HasPrefix(b, []byte("glTF")) {
			t.Errorf("%s: %d %.60s", q, s, b)
		}
	}
	for _, q := range []string{"at=40&stride=20&count=9999999&format=f32x3", "at=40&stride=20&count=9&format=f33x3", "at=40&stride=20&count=100&format=f32x3&indicesAt=26840&indexCount=3528&indexFormat=u16", "at=126000&stride=20&count=1340&format=f32x3"} {
		if s, b := c.do("GET", entry+"/trials/mesh?"+q, nil); s < 400 || s >= 500 {
			t.Errorf("%s: %d %s", q, s, b)
		}
	}
	// A palette in another entry.
	c.addSource(id, "lantern.cart")
	c.linked(path)
	other := c.entries(path, "q=walker").Entries[0]
	if s, b := c.do("GET", fmt.Sprintf("%s/trials/picture?at=16&width=16&height=16&format=indexed8&paletteAt=0&paletteFormat=r5g6b5_pack16&paletteEntry=%d", entry, other.Id), nil); s != 200 {
		t.Errorf("%d %s", s, b)
	}

	// Notes, repeats, and how two entries differ.
	marks := call[[]api.Bookmark](c, "POST", entry+"/bookmarks", map[string]any{"at": 4, "size": 4, "note": "the directory"})
	if len(marks) != 1 || marks[0].Note != "the directory" {
		t.Errorf("%+v", marks)
	}
	if s, b := c.do("POST", entry+"/bookmarks", map[string]any{"at": 126340, "size": 40, "note": ""}); s != 400 {
		t.Errorf("beyond the end: %d %s", s, b)
	}
	call[any](c, "DELETE", fmt.Sprintf("%s/bookmarks/%d", entry, marks[0].Id), nil)
	if marks = call[[]api.Bookmark](c, "GET", entry+"/bookmarks", nil); len(marks) != 0 {
		t.Errorf("%+v", marks)
	}
	rep := call[struct {
		Places []int64
		Step   int64
	}](c, "GET", entry+"/repeats?at=8&size=4", nil)
	if n := bytes.Count(data, data[8:12]); len(rep.Places) < n || rep.Places[0] != int64(bytes.Index(data, data[8:12])) {
		t.Errorf("%d places, %d by bytes.Count", len(rep.Places), n)
	}
	hulls := c.addSource(id, "hulls.tide")
	c.linked(path)
	two := c.entries(path, fmt.Sprintf("q=*.hull&source=%d", hulls.Id)).Entries
	diff := call[api.Comparison](c, "GET", fmt.Sprintf("/api/entries/%d/compare?with=%d", two[0].Id, two[1].Id), nil)
	if diff.Same || diff.Differing == 0 || diff.Ranges[0].Field == nil || !strings.HasPrefix(*diff.Ranges[0].Field, "name_at") {
		t.Errorf("%+v", diff.Ranges[0])
	}
	if same := call[api.Comparison](c, "GET", fmt.Sprintf("/api/entries/%d/compare?with=%d", two[0].Id, two[0].Id), nil); !same.Same {
		t.Error("an entry differs from itself")
	}
}

func TestReadingsOfAFind(t *testing.T) {
	c := start(t)
	id, path := c.project("readings")
	c.addSource(id, "lantern.cart")
	c.linked(path)
	e := c.entries(path, "q=walker").Entries[0]
	f := call[api.Find](c, "POST", path+"/finds", map[string]any{"entry": e.Id})
	ready := func() api.Find {
		c.until("the find", func() bool {
			for _, x := range call[[]api.Find](c, "GET", path+"/finds", nil) {
				if x.Id == f.Id {
					f = x
				}
			}
			return f.State == "ready"
		})
		return f
	}
	if m := ready().Model; m.Stats.Missing != 2 || m.Readings == nil || (*m.Readings)[0].Chosen != "normal" {
		t.Fatalf("%+v", m)
	}
	if gaps := call[struct{ Total int }](c, "GET", path+"/links/missing", nil); gaps.Total != 2 {
		t.Errorf("%d names are missing", gaps.Total)
	}
	at := fmt.Sprintf("/api/finds/%d/readings", f.Id)
	call[any](c, "PUT", at, map[string]string{"last_bytes": "colour"})
	c.until("the other reading", func() bool { return (*ready().Model.Readings)[0].Chosen == "colour" })
	if s, b := c.do("PUT", at, map[string]string{"last_bytes": "taste"}); s != 400 || !strings.Contains(string(b), "normal, colour") {
		t.Errorf("%d %s", s, b)
	}
}

func TestSaveAFindAsAnotherFormat(t *testing.T) {
	c := start(t)
	id, path := c.project("save")
	for _, n := range []string{"hulls.tide", "washes.tide"} {
		c.addSource(id, n)
	}
	c.linked(path)
	e := c.entries(path, "q=punt.hull").Entries[0]
	f := call[api.Find](c, "POST", path+"/finds", map[string]any{"entry": e.Id})
	c.linked(path)
	// What keeps most stands first, what refuses it last; pictures are none.
	choices := call[[]api.SaveChoice](c, "GET", fmt.Sprintf("/api/finds/%d/file/choices", f.Id), nil)
	said, least, refused := map[string]string{}, 0, 0
	for i, x := range choices {
		for _, n := range x.Notes {
			said[x.Format] += n.Text + "; "
		}
		if x.Refused != nil {
			said[x.Format] = *x.Refused
			refused++
			continue
		}
		if refused > 0 {
			t.Errorf("%s is number %d, after one that refuses", x.Format, i+1)
		}
		if x.Losses < least {
			t.Errorf("%s loses %d, and one before it %d", x.Format, x.Losses, least)
		}
		least = x.Losses
	}
	if !strings.Contains(said["stl"], "1 picture not written: STL has none") || !strings.Contains(said["vrm"], "needs the bones hips") {
		t.Errorf("%+v", choices)
	}
	if refused < 2 || len(choices) < 10 || choices[0].Losses != 0 || said["png"] != "" {
		t.Errorf("%+v", choices)
	}
	written := 0
	for _, k := range call[[]api.Format](c, "GET", "/api/formats", nil) {
		if k.Writes && *k.Ending == "" || !k.Writes && !k.Reads {
			t.Errorf("%+v", k)
		}
		if k.Writes {
			written++
		}
	}
	if written < 10 {
		t.Errorf("%d formats are written", written)
	}
	for name, head := range map[string]string{"glb": "glTF", "obj": "PK", "ply": "ply\n", "stl": "\x00", "collada": "PK", "3mf": "PK", "usdz": "PK"} {
		s, b := c.do("GET", fmt.Sprintf("/api/finds/%d/file?format=%s", f.Id, name), nil)
		if s != 200 || !bytes.HasPrefix(b, []byte(head)) {
			t.Errorf("%s: %d %.40q", name, s, b)
		}
	}
	// Several in one ZIP, a folder each; what a format refuses is named with the reason.
	for format, want := range map[string]string{"stl": "punt/punt.stl punt 2/punt.stl", "vrm": "punt/not saved.txt punt 2/not saved.txt"} {
		s, b := c.do("GET", fmt.Sprintf("%s/finds/file?format=%s&finds=%d&finds=%d", path, format, f.Id, f.Id), nil)
		z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
		if s != 200 || err != nil {
			t.Fatalf("%s: %d %v", format, s, err)
		}
		var names []string
		for _, x := range z.File {
			names = append(names, x.Name)
		}
		if got := strings.Join(names, " "); got != want {
			t.Errorf("%s: %s, want %s", format, got, want)
		}
	}
	if s, b := c.do("GET", fmt.Sprintf("/api/finds/%d/file?format=clay", f.Id), nil); s != 400 {
		t.Errorf("%d %s", s, b)
	}
}

func TestEveryModelBecomesAFind(t *testing.T) {
	c := start(t)
	id, path := c.project("gallery")
	if s, b := c.do("POST", path+"/gallery", map[string]any{}); s != 409 {
		t.Errorf("without a model: %d %s", s, b)
	}
	for _, n := range []string{"hulls.tide", "washes.tide", "lantern.cart"} {
		c.addSource(id, n)
	}
	c.linked(path)
	// One was found before, and is found once only.
	e := c.entries(path, "q=punt.hull").Entries[0]
	call[api.Find](c, "POST", path+"/finds", map[string]any{"entry": e.Id})
	if n := call[struct{ Models int }](c, "POST", path+"/gallery", map[string]any{}); n.Models != 6 {
		t.Errorf("%+v", n)
	}
	c.linked(path)
	list := call[[]api.Brief](c, "GET", path+"/gallery", nil)
	if len(list) != 6 {
		t.Fatalf("%+v", list)
	}
	missing := 0
	for _, x := range list {
		if x.State != "ready" || x.Triangles == 0 || *x.Scene == "" || x.Name == "" {
			t.Errorf("%+v", x)
		}
		missing += x.Missing
	}
	if missing < 3 { // a picture of the keeper, and those of the console's memory
		t.Errorf("%d pictures are missing", missing)
	}
	if n := call[struct{ Models int }](c, "POST", path+"/gallery", map[string]any{"q": "heron"}); n.Models != 1 {
		t.Errorf("%+v", n)
	}
	c.linked(path)
	if list = call[[]api.Brief](c, "GET", path+"/gallery", nil); len(list) != 6 {
		t.Errorf("%d finds after another run", len(list))
	}
}
