package api_test

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"excavate/internal/api"
	"excavate/internal/app"
	"excavate/internal/demo"
	"excavate/internal/shipped"
	"excavate/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// impatient gives up on an answer that does not come.
var impatient = &http.Client{Timeout: 30 * time.Second}

type client struct {
	t    testing.TB
	base string
	lib  string // a library folder
	out  string // a folder that may be extracted to
	app  *app.App
}

func start(t testing.TB) *client {
	t.Helper()
	library, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	lib := filepath.Join(t.TempDir(), "games")
	if err := demo.Write(lib, nil); err != nil {
		t.Fatal(err)
	}
	out := t.TempDir()
	a, err := app.Start(context.Background(), app.Config{Workers: 2, Data: t.TempDir(), Database: testdb.DSN(t),
		Library: []string{lib}, Outputs: []string{out}, Lib: library})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close() })
	return &client{t, a.Address, lib, out, a}
}

// do sends a request and returns the status and the body.
func (c *client) do(method, path string, body any, header ...string) (int, []byte) {
	c.t.Helper()
	var r io.Reader
	switch b := body.(type) {
	case nil:
	case []byte:
		r = bytes.NewReader(b)
	default:
		j, _ := json.Marshal(b)
		r = bytes.NewReader(j)
	}
	req, _ := http.NewRequest(method, c.base+path, r)
	for i := 0; i+1 < len(header); i += 2 {
		if header[i] == "Host" {
			req.Host = header[i+1]
		}
		req.Header.Set(header[i], header[i+1])
	}
	res, err := impatient.Do(req)
	if err != nil {
		c.t.Fatal(err)
	}
	defer res.Body.Close()
	b, _ := io.ReadAll(res.Body)
	return res.StatusCode, b
}

func call[T any](c *client, method, path string, body any) (out T) {
	c.t.Helper()
	status, b := c.do(method, path, body)
	if status >= 300 {
		c.t.Fatalf("%s %s: %d %s", method, path, status, b)
	}
	if len(b) > 0 {
		if err := json.Unmarshal(b, &out); err != nil {
			c.t.Fatalf("%s %s: %v in %.200s", method, path, err, b)
		}
	}
	return out
}

func (c *client) until(what string, f func() bool) {
	c.t.Helper()
	for end := time.Now().Add(30 * time.Second); !f(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			c.t.Fatalf("%s did not happen", what)
		}
	}
}

func (c *client) addSource(project int64, name string) api.Source {
	c.t.Helper()
	s := call[api.Source](c, "POST", fmt.Sprintf("/api/projects/%d/sources", project), map[string]string{"path": filepath.Join(c.lib, name)})
	c.until("indexing "+name, func() bool {
		for _, x := range call[[]api.Source](c, "GET", fmt.Sprintf("/api/projects/%d/sources", project), nil) {
			if x.Id == s.Id {
				s = x
			}
		}
		return s.State == "failed" || s.State == "ready" && s.KindsKnown
	})
	return s
}

func TestJourneyOverHTTP(t *testing.T) {
	c := start(t)
	p := call[api.Project](c, "POST", "/api/projects", map[string]string{"name": "test"})
	path := func(f string, a ...any) string { return fmt.Sprintf("/api/projects/%d", p.Id) + fmt.Sprintf(f, a...) }
	for i, n := range demo.Archives[:2] {
		if s := c.addSource(p.Id, n); s.State != "ready" || s.Format != "tide pack 3" || s.Position != i+1 || !strings.Contains(*s.Licence, "private use") {
			t.Errorf("source %+v", s)
		}
	}
	page := call[api.EntryPage](c, "GET", path("/entries?q=keeper"), nil)
	if page.Total != 2 || page.Kinds["model"] != 1 || page.Kinds["picture"] != 1 || page.All != 14 {
		t.Errorf("search gives %+v", page)
	}
	if g := call[api.EntryPage](c, "GET", path("/entries?q=*_c.wash&kind=picture&sort=-size&limit=2"), nil); g.Total != 5 || len(g.Entries) != 2 || g.Entries[0].Size < g.Entries[1].Size {
		t.Errorf("pattern gives %+v", g)
	}
	if o := call[api.EntryPage](c, "GET", path("/entries?q=licence"), nil); o.Total != 2 || o.Entries[0].OverriddenBy != nil || o.Entries[1].OverriddenBy == nil || *o.Entries[1].OverriddenBy != "hulls.tide" {
		t.Errorf("the second licence.txt is not said to be overridden: %+v", o.Entries)
	}
	var keeper, cloth api.Entry
	for _, e := range page.Entries {
		if e.Kind == "model" {
			keeper = e
		} else {
			cloth = e
		}
	}
	pv := call[api.Preview](c, "GET", fmt.Sprintf("/api/entries/%d/preview", cloth.Id), nil)
	if pv.Picture == nil || pv.Picture.Width != 512 || pv.Picture.Format != "wash picture 2" {
		t.Errorf("preview of a picture: %+v", pv)
	}
	if status, b := c.do("GET", fmt.Sprintf("/api/entries/%d/picture", cloth.Id), nil); status != 200 || !bytes.HasPrefix(b, []byte("\x89PNG")) {
		t.Errorf("picture: %d", status)
	}
	if pv = call[api.Preview](c, "GET", fmt.Sprintf("/api/entries/%d/preview", keeper.Id), nil); pv.Model == nil || pv.Model.Stats.Missing != 1 || pv.Find != nil {
		t.Errorf("preview of a model: %+v", pv)
	}

	f := call[api.Find](c, "POST", path("/finds"), map[string]int64{"entry": keeper.Id})
	if again := call[api.Find](c, "POST", path("/finds"), map[string]int64{"entry": keeper.Id}); again.Id != f.Id {
		t.Error("one entry makes two finds")
	}
	find := func() api.Find { return call[api.Find](c, "GET", fmt.Sprintf("/api/finds/%d", f.Id), nil) }
	c.until("decoding", func() bool { return find().State == "ready" })
	m := find().Model
	if m.Stats.Bones != 27 || m.RootBone != "_ROOT#keeper01" || m.Stats.Missing != 1 || m.Basis.Handedness != "left" {
		t.Errorf("model %+v", m)
	}

	ch := call[api.Chain](c, "POST", path("/chains"), map[string]any{"find": f.Id, "name": "to engine", "document": string(demo.Chain)})
	chain := fmt.Sprintf("/api/chains/%d", ch.Id)
	bands := func() api.CoreSample { return call[api.CoreSample](c, "GET", chain+"/bands", nil) }
	done := func() bool {
		for _, b := range bands().Bands {
			if b.State == "waiting" {
				return false
			}
		}
		return true
	}
	c.until("the run", done)
	first := bands().Bands
	if len(first) != 6 || first[4].Stats.Vertices >= first[3].Stats.Vertices || first[2].Basis.Up != "+Y" {
		t.Fatalf("bands %+v", first)
	}

	// Changing step 4 leaves the results of 1 to 3 alone.
	steps := ch.Steps
	steps[3].With = &map[string]any{"distance": 0.01}
	edited := call[api.Chain](c, "PUT", chain+"/steps", map[string]any{"revision": ch.Revision, "steps": steps})
	c.until("the second run", done)
	second := bands().Bands
	for i := range second {
		same := first[i].Key != nil && *first[i].Key == *second[i].Key
		if same != (i < 4) {
			t.Errorf("band %d: same result %v", i, same)
		}
		if i > 0 && i < 4 && *first[i].Seconds != *second[i].Seconds {
			t.Errorf("band %d was computed again", i)
		}
	}
	if status, b := c.do("PUT", chain+"/steps", map[string]any{"revision": ch.Revision, "steps": steps}); status != 409 {
		t.Errorf("an edit of an old revision: %d %s", status, b)
	}
	if status, b := c.do("PUT", chain+"/steps", map[string]any{"revision": edited.Revision, "steps": []any{map[string]any{"step": "weld", "with": map[string]any{"distance": "far"}}}}); status != 400 || !strings.Contains(string(b), "weld") {
		t.Errorf("unsound parameters: %d %s", status, b)
	}
	back := call[api.Chain](c, "POST", chain+"/undo", nil)
	if !back.CanRedo || back.CanUndo || fmt.Sprint(*back.Steps[3].With) != "map[distance:0.0001]" {
		t.Errorf("undo gives %+v", back)
	}
	if redo := call[api.Chain](c, "POST", chain+"/redo", nil); fmt.Sprint(*redo.Steps[3].With) != "map[distance:0.01]" || redo.CanRedo {
		t.Errorf("redo gives %+v", redo)
	}
	if status, _ := c.do("POST", chain+"/redo", nil); status != 409 {
		t.Errorf("redo of nothing: %d", status)
	}
	call[api.Chain](c, "POST", chain+"/undo", nil)

	r := call[api.Rehearsal](c, "GET", chain+"/rehearsal", nil)
	if !r.Ready || r.Stops != 1 || r.Findings[0].Rule != "pictures" || *r.Findings[0].Where != "keeper_gear_c.tga" {
		t.Errorf("rehearsal %+v", r)
	}
	// The rehearsal stops it: a delivery is made only despite that, and says so for good.
	if status, b := c.do("POST", chain+"/deliveries", nil); status != 409 || !strings.Contains(string(b), "the rehearsal stops the delivery") {
		t.Errorf("%d %s", status, b)
	}
	stopped := call[api.Delivery](c, "POST", chain+"/deliveries?despite=true", nil)
	c.until("the delivery that is stopped", func() bool {
		stopped = call[[]api.Delivery](c, "GET", path("/deliveries"), nil)[0]
		return stopped.State != "making"
	})
	if stopped.State != "ready" || stopped.Stops == 0 {
		t.Errorf("%+v", stopped)
	}
	// The third archive: the picture is found by itself and the chain follows.
	c.addSource(p.Id, demo.Archives[2])
	c.until("finding the picture", func() bool { return find().Model.Stats.Missing == 0 })
	c.until("the rehearsal", func() bool {
		r = call[api.Rehearsal](c, "GET", chain+"/rehearsal", nil)
		return r.Ready && r.Stops == 0
	})
	if n := call[api.Project](c, "GET", path(""), nil); n.Counts.Incomplete != 0 || n.Counts.Stops != 0 || n.Counts.Sources != 3 || !n.Counts.Rehearsed {
		t.Errorf("counts %+v", n.Counts)
	}

	d := call[api.Delivery](c, "POST", chain+"/deliveries", nil)
	c.until("the delivery", func() bool {
		d = call[[]api.Delivery](c, "GET", path("/deliveries"), nil)[0]
		return d.State != "making"
	})
	if d.Stops != 0 || d.Name == stopped.Name || !strings.HasSuffix(d.Name, "-2.zip") {
		t.Errorf("%s after %s, stopped by %d", d.Name, stopped.Name, d.Stops)
	}
	status, b := c.do("GET", fmt.Sprintf("/api/deliveries/%d/file", d.Id), nil)
	if status != 200 || int64(len(b)) != d.Size {
		t.Fatalf("download: %d, %d of %d bytes", status, len(b), d.Size)
	}
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	w, _ := z.Open("manifest.json")
	var man struct {
		SHA256  string
		Sources []struct {
			Name, SHA256 string
			Entries      []string
			Terms        struct{ Text, Owner string }
		}
		StepVersions map[string]int
	}
	if err := json.NewDecoder(w).Decode(&man); err != nil {
		t.Fatal(err)
	}
	if len(man.Sources) != 3 || len(man.Sources[0].SHA256) != 64 || man.Sources[2].Entries[0] != "wash/keeper/keeper_gear_c.wash" || !strings.Contains(man.Sources[0].Terms.Text, "private") || man.Sources[0].Terms.Owner != "Sedgewater Lantern Company" || man.StepVersions["weld"] != 2 {
		t.Errorf("manifest %+v", man)
	}
	if _, b := c.do("GET", chain+"/document", nil); !strings.Contains(string(b), "step: weld") {
		t.Errorf("document %s", b)
	}
	for _, u := range []string{"thumb", "view", "view?read=target"} {
		if status, b := c.do("GET", "/api/scenes/"+*first[0].Scene+"/"+u, nil); status != 200 || len(b) < 1000 {
			t.Errorf("%s: %d, %d bytes", u, status, len(b))
		}
	}
}

func TestUploadsAndOrder(t *testing.T) {
	c := start(t)
	p := call[api.Project](c, "POST", "/api/projects", map[string]string{"name": "up"})
	path := fmt.Sprintf("/api/projects/%d", p.Id)
	data, _ := os.ReadFile(filepath.Join(c.lib, "harbour.zip"))
	c.upload(p.Id, "my harbour.zip", data)
	c.until("indexing", func() bool { return call[[]api.Source](c, "GET", path+"/sources", nil)[0].KindsKnown })
	c.addSource(p.Id, "hulls.tide")
	list := call[[]api.Source](c, "GET", path+"/sources", nil)
	if list[0].Label != "my harbour.zip" || list[0].Format != "zip" || list[0].Entries != 2 {
		t.Errorf("%+v", list[0])
	}
	call[any](c, "PUT", path+"/sources/order", map[string]any{"ids": []int64{list[1].Id, list[0].Id}})
	if l := call[[]api.Source](c, "GET", path+"/sources", nil); l[0].Label != "hulls.tide" {
		t.Error("the order stayed")
	}
	if status, _ := c.do("PUT", path+"/sources/order", map[string]any{"ids": []int64{list[0].Id, list[0].Id}}); status != 400 {
		t.Errorf("an order that names one source twice: %d", status)
	}
	// A GLB that others wrote, out of a ZIP, runs the same journey.
	e := call[api.EntryPage](c, "GET", path+"/entries?q=pontoon", nil).Entries[0]
	f := call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": e.Id})
	c.until("decoding", func() bool {
		f = call[api.Find](c, "GET", fmt.Sprintf("/api/finds/%d", f.Id), nil)
		return f.State == "ready"
	})
	if f.Model.Format != "glb" || f.Model.Stats.Missing != 0 {
		t.Errorf("%+v", f.Model)
	}
	call[any](c, "DELETE", fmt.Sprintf("/api/sources/%d", list[1].Id), nil)
	if l := call[[]api.Source](c, "GET", path+"/sources", nil); len(l) != 1 {
		t.Error("the source is still there")
	}
	bad := call[api.Source](c, "POST", path+"/sources", map[string]string{"path": filepath.Join(c.lib, "chain.yaml")})
	if bad.Label != "chain.yaml" {
		t.Errorf("%+v", bad)
	}
}

func TestWhatIsRefused(t *testing.T) {
	c := start(t)
	p := call[api.Project](c, "POST", "/api/projects", map[string]string{"name": "x"})
	sources := fmt.Sprintf("/api/projects/%d/sources", p.Id)
	outside := filepath.Join(t.TempDir(), "x.zip")
	os.WriteFile(outside, []byte("x"), 0o644)
	link := filepath.Join(c.lib, "link.zip")
	os.Symlink(outside, link)
	for _, r := range []struct {
		name, method, path string
		body               any
		header             []string
		status             int
		want               string
	}{
		{"another host", "GET", "/api/projects", nil, []string{"Host", "evil.example"}, 403, "loopback"},
		{"another page", "POST", "/api/projects", map[string]string{"name": "y"}, []string{"Origin", "http://evil.example"}, 403, "another page"},
		{"another page's form", "POST", "/api/projects", map[string]string{"name": "y"}, []string{"Sec-Fetch-Site", "cross-site"}, 403, "another page"},
		{"outside the library", "POST", sources, map[string]string{"path": outside}, nil, 403, "outside the library"},
		{"by a link", "POST", sources, map[string]string{"path": link}, nil, 403, "outside the library"},
		{"by dots", "POST", sources, map[string]string{"path": c.lib + "/../../x"}, nil, 400, "cannot be found"},
		{"relative", "POST", sources, map[string]string{"path": "hulls.tide"}, nil, 400, "absolute"},
		{"no such project", "GET", "/api/projects/999", nil, nil, 404, "no project 999"},
		{"no such chain", "GET", "/api/chains/999", nil, nil, 404, "no chain 999"},
		{"no name", "POST", "/api/projects", map[string]string{"name": "  "}, nil, 400, "nothing but spaces"},
		{"unknown field", "POST", "/api/projects", map[string]string{"name": "x", "nom": "x"}, nil, 400, "unknown field"},
		{"a large body", "POST", "/api/projects", map[string]string{"name": strings.Repeat("x", 5<<20)}, nil, 413, "4194304 bytes"},
		{"no such scene", "GET", "/api/scenes/" + strings.Repeat("0", 64) + "/view", nil, nil, 404, "not stored"},
		{"no digest", "GET", "/api/scenes/..%2f..%2fpassword/view", nil, nil, 0, ""},
		{"nothing there", "GET", "/api/nothing", nil, nil, 404, "nothing at"},
	} {
		status, b := c.do(r.method, r.path, r.body, r.header...)
		var e api.Error
		if json.Unmarshal(b, &e) != nil || r.status != 0 && status != r.status || status < 400 || !strings.Contains(e.Message, r.want) || strings.Contains(e.Message, "goroutine") {
			t.Errorf("%s: %d %.300s", r.name, status, b)
		}
	}
	res, err := http.Get(c.base + "/api/projects")
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	for h, want := range map[string]string{"X-Content-Type-Options": "nosniff", "X-Frame-Options": "DENY", "Content-Security-Policy": "default-src 'self'"} {
		if !strings.Contains(res.Header.Get(h), want) {
			t.Errorf("%s is %q", h, res.Header.Get(h))
		}
	}
}

func TestEvents(t *testing.T) {
	c := start(t)
	p := call[api.Project](c, "POST", "/api/projects", map[string]string{"name": "x"})
	res, err := http.Get(fmt.Sprintf("%s/api/projects/%d/events", c.base, p.Id))
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if ct := res.Header.Get("Content-Type"); ct != "text/event-stream" {
		t.Errorf("content type %q", ct)
	}
	seen := make(chan string, 100)
	go func() {
		sc := bufio.NewScanner(res.Body)
		for sc.Scan() {
			seen <- sc.Text()
		}
		close(seen)
	}()
	c.addSource(p.Id, "hulls.tide")
	deadline := time.After(20 * time.Second)
	job, changed := false, 0
	for !job || changed < 2 {
		select {
		case l, open := <-seen:
			if !open {
				t.Fatal("the stream ended")
			}
			job = job || strings.Contains(l, "Indexing hulls.tide") && strings.Contains(l, `"state":"done"`)
			if strings.HasPrefix(l, "event: changed") {
				changed++
			}
		case <-deadline:
			t.Fatalf("job done %v, changed %d times", job, changed)
		}
	}
}
