package api_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"excavate/core/delivery"
	"excavate/internal/api"
	"excavate/standin/receiver"
)

// Sheets of the porter's own: made, checked as text and as values, kept in
// versions, taken out and put back.
func TestTargetSheets(t *testing.T) {
	c := start(t)
	list := call[[]api.Target](c, "GET", "/api/targets", nil)
	if len(list) != 8 || !list[0].Shipped || len(list[0].Lines) < 5 {
		t.Errorf("%d sheets ship", len(list))
	}
	text := "target: My table\nformat: glb\nground: true\n"
	d := call[api.SheetDocument](c, "POST", "/api/targets", map[string]string{"text": text})
	if d.Id != "my-table" || d.Shipped || d.Version != 1 || d.Values["ground"] != true {
		t.Errorf("%+v", d)
	}
	if again := call[api.SheetDocument](c, "POST", "/api/targets",
		map[string]string{"text": text}); again.Id != "my-table-2" {
		t.Errorf("%+v", again)
	}
	d = call[api.SheetDocument](c, "PUT", "/api/targets/my-table",
		map[string]any{"text": text + "centred: true\n", "version": 1})
	if d.Version != 2 || len(d.Versions) != 2 {
		t.Errorf("%+v", d)
	}
	if first := call[api.SheetDocument](c, "GET", "/api/targets/my-table?version=1", nil); first.Text != text {
		t.Errorf("%+v", first)
	}
	for _, x := range []struct {
		method, path string
		body         any
		status       int
		says         string
	}{
		{"PUT", "/api/targets/my-table", map[string]any{"text": text, "version": 1}, 409, "changed elsewhere"},
		{"PUT", "/api/targets/my-table", map[string]any{"text": "target: x\n", "version": 2}, 422, "format is missing"},
		{"PUT", "/api/targets/reedlight", map[string]any{"text": text, "version": 1}, 409, "ships with Excavate"},
		{"DELETE", "/api/targets/reedlight", nil, 409, "ships with Excavate"},
		{"DELETE", "/api/targets/none", nil, 404, "no target sheet"},
		{"GET", "/api/targets/none", nil, 404, "no target sheet"},
		{"GET", "/api/targets/my-table?version=9", nil, 404, "no version 9"},
		{"POST", "/api/targets", map[string]string{"text": "- a"}, 422, "it is empty"},
	} {
		if status, b := c.do(x.method, x.path, x.body); status != x.status || !strings.Contains(string(b), x.says) {
			t.Errorf("%s %s: %d %s", x.method, x.path, status, b)
		}
	}
	check := call[api.SheetCheck](c, "POST", "/api/targets/check",
		map[string]string{"text": "target: x\nformat: glb\nlimits: {triangles: many}\n"})
	if check.Ok || *check.Line != 3 || *check.Column != 21 {
		t.Errorf("%+v", check)
	}
	check = call[api.SheetCheck](c, "POST", "/api/targets/check",
		map[string]any{"values": map[string]any{"target": "x", "format": "glb",
			"size": map[string]any{"least": 1, "most": 5}}})
	if !check.Ok || !strings.Contains(*check.Text, "least: 1") || len(check.Lines) != 2 {
		t.Errorf("%+v", check)
	}
	if schema := call[map[string]any](c, "GET", "/api/targets/schema", nil); schema["properties"] == nil {
		t.Errorf("%v", schema)
	}
	c.do("DELETE", "/api/targets/my-table", nil)
	if status, _ := c.do("GET", "/api/targets/my-table", nil); status != 404 {
		t.Errorf("what was taken out answers %d", status)
	}
	c.do("DELETE", "/api/targets/my-table?back=true", nil)
	if d := call[api.SheetDocument](c, "GET", "/api/targets/my-table", nil); d.Version != 2 {
		t.Errorf("%+v", d)
	}
}

// village makes a find of the stilt village and a chain for it.
func (c *client) village(target string) (project int64, path string, chain api.Chain) {
	c.t.Helper()
	id, path := c.project("Sedgewater")
	c.addSource(id, "village.zip")
	f := call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": c.entries(path,
		"q=stilt_village.glb").Entries[0].Id})
	c.finds(path)
	chain = c.chainOf(path, f.Id, "village", "chain: village\nsteps: []\n")
	return id, path, call[api.Chain](c, "PATCH", fmt.Sprintf("/api/chains/%d", chain.Id),
		map[string]string{"target": target})
}

// delivery waits until a delivery is made, or has failed.
func (c *client) delivery(path string, done func(api.Delivery) bool) (d api.Delivery) {
	c.t.Helper()
	c.until("the delivery", func() bool {
		d = call[[]api.Delivery](c, "GET", path+"/deliveries", nil)[0]
		return done(d)
	})
	return d
}

func made(d api.Delivery) bool { return d.State != "making" }

// sentAs is what stands with a delivery of its sending.
type sentAs struct {
	State, Error string
	Taken        []struct {
		Asset    string
		Outcomes []struct{ Foretold, Happened bool }
		Report   struct {
			Skeleton string
			Walk     struct{ Places, Stands int }
		}
		Seen string
	}
}

func sentOf(t *testing.T, d api.Delivery) (out sentAs) {
	t.Helper()
	b, err := json.Marshal(d.Sent)
	if err != nil || json.Unmarshal(b, &out) != nil {
		t.Fatalf("%s, %v", b, err)
	}
	return out
}

// sent waits until a delivery's sending has ended.
func sent(d api.Delivery) bool {
	return d.State == "failed" || d.Sent != nil && (*d.Sent)["state"] != "waiting" && (*d.Sent)["state"] != "sending"
}

// From what was found to a walk on the far side: findings with their bands,
// mended as one edit, files before they are made, sent and compared.
func TestFarSideOverHTTP(t *testing.T) {
	c := start(t)
	engine := httptest.NewServer(receiver.NewEngine().Handler())
	defer engine.Close()
	c.app.Service.Deliveries.SetReceivers([]string{engine.URL, "http://127.0.0.1:1"})
	_, path, chain := c.village("reedlight")
	at := func(f string) string { return fmt.Sprintf("/api/chains/%d/%s", chain.Id, f) }
	r := call[api.Rehearsal](c, "GET", at("rehearsal"), nil)
	if r.Stops != 1 || r.Warns < 5 {
		t.Errorf("%d stop, %d warn", r.Stops, r.Warns)
	}
	for _, f := range r.Findings {
		if f.Severity != "holds" && (f.Since == nil || *f.Since != 0) {
			t.Errorf("%s stands since %v", f.Rule, f.Since)
		}
	}
	if f := r.Findings[0]; f.Rule != "tool surfaces" || f.Things == nil || len(*f.Things) != 37 || f.Mends == nil {
		t.Errorf("%+v", f)
	}
	m := call[api.Mended](c, "POST", at("mended"), nil)
	if m.Left != 0 || m.Added < 5 || len(m.Deeds) < 6 {
		t.Errorf("%+v", m)
	}
	now := call[api.Chain](c, "GET", fmt.Sprintf("/api/chains/%d", chain.Id), nil)
	if len(now.Steps) != m.Added || !now.CanUndo {
		t.Errorf("%d steps", len(now.Steps))
	}
	c.last(now)
	// One undo takes all of them back.
	if back := call[api.Chain](c, "POST", at("undo"), nil); len(back.Steps) != 0 {
		t.Errorf("%d steps after one undo", len(back.Steps))
	}
	call[api.Chain](c, "POST", at("redo"), nil)
	c.last(now)
	if r := call[api.Rehearsal](c, "GET", at("rehearsal"), nil); r.Stops+r.Warns != 0 {
		t.Errorf("%+v", r.Findings[0])
	}
	x := call[api.Composed](c, "POST", at("composed"), map[string]any{"purpose": "share-changed"})
	if !x.Ready || len(x.Refused) != 0 || len(x.Files) != 5 ||
		x.Files[0].Path != "stilt_village/models/stilt_village.glb" || x.Size < 10000 {
		t.Errorf("%+v", x)
	}
	list := call[[]api.Receiver](c, "GET", "/api/receivers", nil)
	if len(list) != 2 || list[0].Name != "Sedgewater engine" || list[0].Note != nil || list[1].Note == nil {
		t.Errorf("%+v", list)
	}
	call[api.Delivery](c, "POST", at("deliveries?send="+list[0].Id),
		map[string]any{"purpose": "share-changed", "levels": []float64{0.5}})
	d := c.delivery(path, sent)
	said := sentOf(t, d)
	if said.State != "taken" || len(said.Taken) != 1 {
		t.Fatalf("%+v", said)
	}
	x0 := said.Taken[0]
	if w := x0.Report.Walk; w.Places < 20 || w.Stands != w.Places || len(x0.Outcomes) < 10 || x0.Seen == "" {
		t.Fatalf("%+v", x0)
	}
	for _, o := range x0.Outcomes {
		if o.Foretold || o.Happened {
			t.Errorf("%+v", o)
		}
	}
	if status, png := c.do("GET", fmt.Sprintf("/api/deliveries/%d/seen", d.Id), nil); status != 200 ||
		!bytes.HasPrefix(png, []byte("\x89PNG")) {
		t.Errorf("what is seen: %d", status)
	}
	// The package is the files that were foretold, and a level of detail.
	_, zipped := c.do("GET", fmt.Sprintf("/api/deliveries/%d/file", d.Id), nil)
	pack, err := delivery.Open(zipped)
	if err != nil || len(pack) != 1 {
		t.Fatal(err)
	}
	o := pack[0]
	if o.Faults() != nil || o.Files["stilt_village/models/stilt_village_lod1.glb"] == nil ||
		o.Manifest.Purpose != "share-changed" || o.Manifest.Input == nil {
		t.Errorf("%v, %v", err, o.Faults())
	}
	if text := string(o.Files["stilt_village/received.json"]); !strings.Contains(text, "Sedgewater engine") ||
		!strings.Contains(text, `"walk"`) {
		t.Errorf("what the receiver said is not in the package: %s", text)
	}
	for _, f := range x.Files {
		if len(o.Files[f.Path]) != int(f.Size) {
			t.Errorf("%s has %d bytes, %d were foretold", f.Path, len(o.Files[f.Path]), f.Size)
		}
	}
	table := call[api.RehearsalTable](c, "GET", path+
		"/rehearsals?targets=reedlight&targets=tideworks&targets=stilttable", nil)
	if table.Rehearsals != 3 || len(table.Rows) == 0 || table.Rows[0].Severity != "stops" ||
		len(table.Rows[0].Assets) == 0 || table.Rows[0].Assets[0].Name != "village" {
		t.Errorf("%+v", table)
	}
}

// What stops is known only once a chain is computed: a delivery that was asked
// for before that is stopped then, unless it was asked for despite it.
func TestStopsThatAreKnownLater(t *testing.T) {
	c := start(t)
	_, path, chain := c.village("reedlight")
	at := func(what string) string { return fmt.Sprintf("/api/chains/%d/%s", chain.Id, what) }
	edit := func(distance float64) {
		x := call[api.Chain](c, "GET", fmt.Sprintf("/api/chains/%d", chain.Id), nil)
		call[api.Chain](c, "PUT", at("steps"), map[string]any{"revision": x.Revision,
			"steps": []any{map[string]any{"step": "weld", "with": map[string]any{"distance": distance}}}})
	}
	for i, despite := range []bool{false, true} {
		edit(0.0001 * float64(i+1))
		status, b := c.do("POST", at("deliveries?despite="+fmt.Sprint(despite)), map[string]string{})
		if status == 409 { // it was computed by then
			if despite || !bytes.Contains(b, []byte("the rehearsal stops the delivery")) {
				t.Errorf("%s", b)
			}
			continue
		}
		d := c.delivery(path, made)
		switch {
		case despite && d.State != "ready":
			t.Errorf("despite: %s %v", d.State, d.Error)
		case !despite && (d.State != "failed" || !strings.Contains(*d.Error,
			"the rehearsal stops the delivery: 1 finding")):
			t.Errorf("%s %v", d.State, d.Error)
		}
	}
}

// A sheet that is taken out stops the chains that name it, and no other.
func TestChainsWithoutTheirSheet(t *testing.T) {
	c := start(t)
	own := call[api.SheetDocument](c, "POST", "/api/targets", map[string]string{"text": "target: Own\nformat: glb\n"})
	_, path, chain := c.village(own.Id)
	other := c.chainOf(path, chain.Find, "other", "chain: other\nsteps: []\n")
	call[api.Chain](c, "PATCH", fmt.Sprintf("/api/chains/%d", other.Id), map[string]string{"target": "reedlight"})
	c.last(chain)
	c.last(other)
	if status, b := c.do("DELETE", "/api/targets/"+own.Id, nil); status != 204 {
		t.Fatalf("%d %s", status, b)
	}
	table := call[api.RehearsalTable](c, "GET", path+"/rehearsals", nil)
	var told, rest int
	for _, r := range table.Rows {
		for _, a := range r.Assets {
			if r.Rule == "sheet" && a.Name == "village" && a.Severity == "stops" {
				told++
			} else if a.Name == "other" {
				rest++
			} else {
				t.Errorf("%s: %+v", r.Rule, a)
			}
		}
	}
	if told != 1 || rest == 0 {
		t.Errorf("%+v", table)
	}
	for _, despite := range []string{"false", "true"} {
		status, b := c.do("POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=%s", chain.Id, despite), nil)
		if status != 409 || !bytes.Contains(b, []byte("is not there any more; choose another")) {
			t.Errorf("despite %s: %d %s", despite, status, b)
		}
	}
	if list := call[[]api.Delivery](c, "GET", path+"/deliveries", nil); len(list) != 0 {
		t.Errorf("%+v", list)
	}
}

// A delivery that is not sent says so: no receiver, one that is full or gone in
// the middle, or that imports by another sheet.
func TestReceiversInTrouble(t *testing.T) {
	c := start(t)
	engine := httptest.NewServer(receiver.NewEngine().Handler())
	film := httptest.NewServer(receiver.NewFilm().Handler())
	defer engine.Close()
	defer film.Close()
	c.app.Service.Deliveries.SetReceivers([]string{engine.URL, film.URL, "http://192.0.2.1:9"})
	_, path, chain := c.village("reedlight")
	call[api.Delivery](c, "POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true", chain.Id), nil)
	d := c.delivery(path, made)
	trouble := func(body string) {
		r, err := http.Post(engine.URL+"/trouble", "application/json", strings.NewReader(body))
		if err != nil || r.StatusCode != 200 {
			t.Fatal(err)
		}
	}
	id := func(u string) string { return strings.TrimPrefix(u, "http://") }
	for _, x := range []struct{ to, trouble, says string }{
		{id(engine.URL), `{"full": true}`, "no room left"},
		{id(engine.URL), `{"dropAfter": 1000}`, "Nothing was delivered"},
		{id(film.URL), `{}`, "imports by millrace"},
		{"192.0.2.1:9", `{}`, "not on this machine"},
	} {
		trouble(x.trouble)
		status, b := c.do("POST", fmt.Sprintf("/api/deliveries/%d/sent", d.Id), map[string]string{"receiver": x.to})
		if status == 400 && strings.Contains(string(b), x.says) {
			continue
		}
		now := c.delivery(path, sent)
		if s := *now.Sent; s["state"] != "failed" || !strings.Contains(fmt.Sprint(s["error"]), x.says) {
			t.Errorf("%s: %v %v", x.trouble, s["state"], s["error"])
		}
	}
	if status, b := c.do("POST", fmt.Sprintf("/api/deliveries/%d/sent", d.Id),
		map[string]string{"receiver": "nobody"}); status != 404 {
		t.Errorf("%d %s", status, b)
	}
	if status, b := c.do("POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true&send=nobody", chain.Id),
		nil); status != 404 {
		t.Errorf("%d %s", status, b)
	}
	// Slowly it is taken all the same.
	trouble(`{"bytesPerSecond": 4000000}`)
	call[api.Delivery](c, "POST", fmt.Sprintf("/api/deliveries/%d/sent", d.Id),
		map[string]string{"receiver": id(engine.URL)})
	if now := c.delivery(path, sent); (*now.Sent)["state"] != "taken" {
		t.Errorf("%v", *now.Sent)
	}
}

// Assets of several chains go into one package, each into a folder of its own
// with its own manifest; together they are checked, sent and put there.
func TestSeveralAssetsInOnePackage(t *testing.T) {
	c := start(t)
	engine := httptest.NewServer(receiver.NewEngine().Handler())
	defer engine.Close()
	c.app.Service.Deliveries.SetReceivers([]string{engine.URL})
	project, path, first := c.village("reedlight")
	second := c.chainOf(path, first.Find, "village, half the size",
		"chain: half\nsteps:\n- step: scale\n  with: {factor: 0.5}\n")
	second = call[api.Chain](c, "PATCH", fmt.Sprintf("/api/chains/%d", second.Id),
		map[string]string{"target": "reedlight"})
	other := c.chainOf(path, first.Find, "village, elsewhere", "chain: x\nsteps: []\n")
	call[api.Chain](c, "PATCH", fmt.Sprintf("/api/chains/%d", other.Id), map[string]string{"target": "millrace"})
	c.last(second)
	order := func(also ...int64) map[string]any {
		return map[string]any{"purpose": "share-changed", "also": append([]int64{}, also...)}
	}
	at := fmt.Sprintf("/api/chains/%d/", first.Id)
	for _, x := range []struct {
		also   int64
		status int
		says   string
	}{
		{first.Id, 422, "in the package twice"},
		{other.Id, 409, "held against another target"},
		{99999, 404, "no chain"},
	} {
		for _, to := range []string{"composed", "deliveries?despite=true"} {
			status, b := c.do("POST", at+to, order(x.also))
			if status != x.status || !strings.Contains(string(b), x.says) {
				t.Errorf("%s: %d %s", to, status, b)
			}
		}
	}
	alone := call[api.Composed](c, "POST", at+"composed", order())
	both := call[api.Composed](c, "POST", at+"composed", order(second.Id))
	if !both.Ready || fmt.Sprint(both.Folders) != "[stilt_village stilt_village_2]" ||
		fmt.Sprint(both.Stops) != "[village village, half the size]" ||
		len(both.Files) != 2*len(alone.Files) || both.Size <= alone.Size {
		t.Errorf("%v, %d and %d files", both.Folders, len(alone.Files), len(both.Files))
	}
	// One that the rehearsal stops stops all.
	if status, b := c.do("POST", at+"deliveries", order(second.Id)); status != 409 ||
		!strings.Contains(string(b), "the rehearsal stops") {
		t.Errorf("%d %s", status, b)
	}
	call[api.Delivery](c, "POST", at+"deliveries?despite=true&send="+strings.TrimPrefix(engine.URL, "http://"),
		order(second.Id))
	d := c.delivery(path, sent)
	if d.State != "ready" || d.Name != "stilt_village_and_1_more.zip" || d.Also == nil || len(*d.Also) != 1 ||
		(*d.Also)[0].Manifest != nil || d.Stops != 2 {
		t.Fatalf("%+v", d)
	}
	whole := call[api.Delivery](c, "GET", fmt.Sprintf("/api/deliveries/%d", d.Id), nil)
	if m := (*whole.Also)[0].Manifest; m == nil || (*m)["file"] != "stilt_village_2/models/stilt_village.glb" {
		t.Errorf("%+v", whole.Also)
	}
	if status, _ := c.do("GET", "/api/deliveries/99999", nil); status != 404 {
		t.Errorf("a delivery that is not there answers %d", status)
	}
	said := sentOf(t, d)
	if said.State != "taken" || len(said.Taken) != 2 {
		t.Fatalf("%+v", said)
	}
	for i, x := range said.Taken {
		if len(x.Outcomes) < 10 || x.Seen == "" {
			t.Errorf("%+v", x)
		}
		_, png := c.do("GET", fmt.Sprintf("/api/deliveries/%d/seen?asset=%d", d.Id, i), nil)
		if !bytes.HasPrefix(png, []byte("\x89PNG")) {
			t.Errorf("asset %d: %.40s", i, png)
		}
	}
	if status, _ := c.do("GET", fmt.Sprintf("/api/deliveries/%d/seen?asset=2", d.Id), nil); status != 404 {
		t.Errorf("what did not arrive answers %d", status)
	}
	v := call[api.Verified](c, "GET", fmt.Sprintf("/api/deliveries/%d/verified", d.Id), nil)
	if !v.Same || len(v.Faults) != 0 || v.Files < 2*len(alone.Files) {
		t.Errorf("%+v", v)
	}
	out := c.out
	placed := call[[]api.Placed](c, "POST", fmt.Sprintf("/api/deliveries/%d/placed", d.Id),
		map[string]any{"folder": filepath.Join(out, "game")})
	if len(placed) != 2 || placed[1].Folder != "stilt_village_2" || len(placed[1].Made) != len(placed[0].Made) {
		t.Errorf("%+v", placed)
	}
	// A chain that is gone when it is made is said, and nothing is made.
	if _, err := c.app.Store.DB.Exec(
		`UPDATE deliveries SET state = 'making', also = '[{"chain": 99999}]' WHERE id = ?`, d.Id); err != nil {
		t.Fatal(err)
	}
	if _, err := c.app.Pool.Add(context.Background(), project, "deliver", "again",
		map[string]int64{"id": d.Id}); err != nil {
		t.Fatal(err)
	}
	if d = c.delivery(path, made); d.State != "failed" || !strings.Contains(*d.Error, "no chain 99999") {
		t.Errorf("%+v", d)
	}
}

// What the terms do not allow is not made, whatever else; a permission that is
// recorded allows it, and its letter travels along.
func TestTermsAreKept(t *testing.T) {
	c := start(t)
	id, path := c.project("Sedgewater")
	for _, n := range []string{"hulls.tide", "washes.tide"} {
		c.addSource(id, n)
	}
	f := call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": c.entries(path,
		"q=punt.hull").Entries[0].Id})
	c.finds(path)
	chain := c.chainOf(path, f.Id, "punt", "chain: punt\nsteps: []\n")
	c.last(chain)
	at := fmt.Sprintf("/api/chains/%d/", chain.Id)
	x := call[api.Composed](c, "POST", at+"composed", map[string]string{"purpose": "sell"})
	if len(x.Refused) != 2 || x.Refused[0].Source != "hulls.tide" ||
		!strings.Contains(x.Refused[0].Says, "private use") {
		t.Errorf("%+v", x.Refused)
	}
	if status, b := c.do("POST", at+"deliveries?despite=true",
		map[string]string{"purpose": "sell"}); status != 409 ||
		!strings.Contains(string(b), "the terms do not allow a delivery to sell it") {
		t.Errorf("%d %s", status, b)
	}
	for _, s := range call[[]api.Source](c, "GET", path+"/sources", nil) {
		terms := map[string]any{"owner": "Sedgewater Lantern Company", "licence": "", "private": "yes",
			"shareChanged": "yes", "shareUnchanged": "", "sell": "yes", "evidence": "a letter", "byHand": true,
			"permission": map[string]string{"text": "Sell the punt.", "date": "12 November 2026",
				"file": "letter.txt",
				"data": base64.StdEncoding.EncodeToString([]byte("Dear Wren, go ahead."))}}
		got := call[api.Source](c, "PATCH", fmt.Sprintf("/api/sources/%d", s.Id), map[string]any{"terms": terms})
		if p := got.Terms.Permission; p == nil || p.Data != nil || len(*p.Sha256) != 64 || *p.File != "letter.txt" {
			t.Errorf("%+v", p)
		}
		// What is stated again without the bytes keeps the letter; a letter that is
		// not here is refused.
		got = call[api.Source](c, "PATCH", fmt.Sprintf("/api/sources/%d", s.Id), map[string]any{"terms": got.Terms})
		if p := got.Terms.Permission; p == nil || p.Sha256 == nil {
			t.Errorf("%+v", p)
		}
		got.Terms.Permission.Sha256 = new(string)
		*got.Terms.Permission.Sha256 = strings.Repeat("0", 64)
		if status, b := c.do("PATCH", fmt.Sprintf("/api/sources/%d", s.Id),
			map[string]any{"terms": got.Terms}); status != 400 {
			t.Errorf("%d %s", status, b)
		}
	}
	call[api.Delivery](c, "POST", at+"deliveries?despite=true", map[string]string{"purpose": "sell"})
	d := c.delivery(path, made)
	if d.State != "ready" || *d.Purpose != "sell" {
		t.Fatalf("%s %v", d.State, d.Error)
	}
	_, b := c.do("GET", fmt.Sprintf("/api/deliveries/%d/file", d.Id), nil)
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	letters := 0
	for _, f := range z.File {
		if strings.HasPrefix(f.Name, "permissions/") {
			r, _ := f.Open()
			if text, _ := io.ReadAll(r); string(text) == "Dear Wren, go ahead." {
				letters++
			}
		}
	}
	if letters != 1 {
		t.Errorf("%d letters travel along", letters)
	}
}

// A delivery is put into folders that are allowed, and nowhere else.
func TestDeliveriesArePlaced(t *testing.T) {
	c := start(t)
	out := c.out
	_, path, chain := c.village("millrace")
	call[api.Delivery](c, "POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true", chain.Id), nil)
	d := c.delivery(path, made)
	to := filepath.Join(out, "film")
	place := func(folder string, search bool) (int, api.Placed) {
		status, b := c.do("POST", fmt.Sprintf("/api/deliveries/%d/placed", d.Id),
			map[string]any{"folder": folder, "search": search})
		p := make([]api.Placed, 1)
		if status == 200 && (json.Unmarshal(b, &p) != nil || len(p) != 1) {
			t.Fatalf("%s", b)
		}
		return status, p[0]
	}
	if status, _ := place("/etc", false); status != 403 {
		t.Errorf("/etc: %d", status)
	}
	status, p := place(to, false)
	if status != 200 || p.Folder != "stilt_village_custom" ||
		!slices.Contains(p.Made, "stilt_village_custom/models/stilt_village.glb") ||
		*p.SearchLine != "Search stilt_village_custom" {
		t.Errorf("%d %+v", status, p)
	}
	if status, p = place(to, true); status != 200 || len(p.Made) != 0 || len(p.Same) < 5 || p.SearchLine != nil {
		t.Errorf("%d %+v", status, p)
	}
	if text, err := os.ReadFile(filepath.Join(to, "search_paths.txt")); err != nil ||
		string(text) != "Search stilt_village_custom\n" {
		t.Errorf("%q, %v", text, err)
	}
}

// The film tool's updates write its own folders anew: what lies in a folder of
// its own is still there afterwards, what lies in one of the tool's is swept
// away.
func TestDeliveriesSurviveUpdates(t *testing.T) {
	c := start(t)
	film := httptest.NewServer(receiver.NewFilm().Handler())
	engine := httptest.NewServer(receiver.NewEngine().Handler())
	defer film.Close()
	defer engine.Close()
	c.app.Service.Deliveries.SetReceivers([]string{film.URL, engine.URL})
	_, path, chain := c.village("millrace")
	send := func(to, target string, order map[string]any) string {
		call[api.Chain](c, "PATCH", fmt.Sprintf("/api/chains/%d", chain.Id), map[string]string{"target": target})
		c.last(chain)
		call[api.Delivery](c, "POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true&send=%s", chain.Id,
			strings.TrimPrefix(to, "http://")), order)
		d := c.delivery(path, sent)
		if said := sentOf(t, d); said.State != "taken" {
			t.Fatalf("%+v", said)
		}
		return fmt.Sprintf("/api/deliveries/%d/survived", d.Id)
	}
	s := call[api.Survived](c, "POST", send(film.URL, "millrace", map[string]any{}), nil)
	if s.Files < 5 || len(s.Gone) != 0 {
		t.Errorf("%+v", s)
	}
	s = call[api.Survived](c, "POST", send(film.URL, "millrace",
		map[string]any{"layout": map[string]string{"folder": "platform", "model": "models/{asset}"}}), nil)
	if s.Files == 0 || len(s.Gone) != s.Files || !strings.HasPrefix(s.Gone[0], "platform/") {
		t.Errorf("%+v", s)
	}
	// An engine has no updates of this kind.
	if status, b := c.do("POST", send(engine.URL, "reedlight", map[string]any{}), nil); status != 409 ||
		!strings.Contains(string(b), "only the film tool") {
		t.Errorf("%d %s", status, b)
	}
	call[api.Delivery](c, "POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true", chain.Id), nil)
	d := c.delivery(path, made)
	if status, b := c.do("POST", fmt.Sprintf("/api/deliveries/%d/survived", d.Id), nil); status != 409 ||
		!strings.Contains(string(b), "no receiver has taken") {
		t.Errorf("%d %s", status, b)
	}
}

// A delivery is held against its manifest and made again; bytes that changed
// since are told.
func TestDeliveriesAreVerified(t *testing.T) {
	c := start(t)
	_, path, chain := c.village("reedlight")
	call[api.Delivery](c, "POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true", chain.Id), nil)
	d := c.delivery(path, made)
	at := fmt.Sprintf("/api/deliveries/%d/verified", d.Id)
	v := call[api.Verified](c, "GET", at, nil)
	if len(v.Faults) != 0 || !v.Same || len(v.Differ) != 0 || v.Cannot != nil || v.Files < 4 {
		t.Errorf("%+v", v)
	}
	// The same package with one byte of its model turned.
	row, err := c.app.Store.GetDelivery(context.Background(), d.Id)
	if err != nil {
		t.Fatal(err)
	}
	file := c.app.Blobs.Path(row.File)
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, spoilt(t, data), 0o644); err != nil {
		t.Fatal(err)
	}
	v = call[api.Verified](c, "GET", at, nil)
	if len(v.Faults) != 1 || !strings.Contains(v.Faults[0].Says, "bytes are others") || v.Same ||
		len(v.Differ) != 1 || !strings.Contains(v.Differ[0].Says, "offset 100 ") {
		t.Errorf("%+v", v)
	}
}

// spoilt is a package with another byte at offset 100 of its model.
func spoilt(t *testing.T, data []byte) []byte {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(f.Name, ".glb") {
			b[100] ^= 1
		}
		to, err := w.Create(f.Name)
		if err != nil {
			t.Fatal(err)
		}
		to.Write(b)
	}
	w.Close()
	return out.Bytes()
}

// A project's recipe holds nothing of its sources; opened beside own copies it
// is the project again, and its chains come to the same.
func TestProjectRecipes(t *testing.T) {
	c := start(t)
	own := call[api.SheetDocument](c, "POST", "/api/targets",
		map[string]string{"text": "target: Own\nformat: glb\nground: true\n"})
	_, path, chain := c.village(own.Id)
	call[api.Chain](c, "PUT", fmt.Sprintf("/api/chains/%d/steps", chain.Id),
		map[string]any{"revision": chain.Revision, "steps": []any{map[string]any{"step": "ground"}}})
	end := c.last(chain)
	status, text := c.do("GET", path+"/recipe", nil)
	if status != 200 || len(text) > 20_000 || bytes.Contains(text, []byte("Village council")) ||
		bytes.Contains(text, []byte(c.lib)) {
		t.Fatalf("%d: %.1500s", status, text)
	}
	look := call[api.RecipeLook](c, "POST", "/api/recipes/look", text)
	if !look.Whole || look.Name != "Sedgewater" || len(look.Sources) != 1 || !look.Sources[0].Same ||
		look.Sources[0].Path == nil || len(look.Lines) < 2 {
		t.Errorf("%+v", look)
	}
	got := call[api.Imported](c, "POST", "/api/recipes/open", text)
	if len(got.Remarks) != 0 {
		t.Errorf("%v", got.Remarks)
	}
	there := fmt.Sprintf("/api/projects/%d", got.Project.Id)
	c.finds(there)
	chains := call[[]api.Chain](c, "GET", there+"/chains", nil)
	if len(chains) != 1 || chains[0].Target != own.Id {
		t.Fatalf("%+v", chains)
	}
	if b := c.last(chains[0]); *b.Scene != *end.Scene {
		t.Errorf("the chain ends with %s, it was %s", *b.Scene, *end.Scene)
	}
	// Another version of the source is told, a missing one too.
	if err := os.Rename(filepath.Join(c.lib, "village.zip"), filepath.Join(c.lib, "elsewhere.zip")); err != nil {
		t.Fatal(err)
	}
	if look := call[api.RecipeLook](c, "POST", "/api/recipes/look", text); !look.Sources[0].Same ||
		!strings.HasSuffix(*look.Sources[0].Path, "elsewhere.zip") {
		t.Errorf("a copy of another name is not found by its digest: %+v", look.Sources)
	}
	os.Remove(filepath.Join(c.lib, "elsewhere.zip"))
	if got := call[api.Imported](c, "POST", "/api/recipes/open", text); len(got.Remarks) != 1 ||
		!strings.Contains(got.Remarks[0], "no copy of it") {
		t.Errorf("%v", got.Remarks)
	}
	for what, b := range map[string][]byte{"text": []byte("hello"),
		"a delivery's": []byte(`{"recipe": 1, "excavate": "x", "name": "y", "sources": [], "items": []}`),
		"of later":     []byte(`{"recipe": 9}`)} {
		if status, answer := c.do("POST", "/api/recipes/open", b); status != 422 {
			t.Errorf("%s: %d %s", what, status, answer)
		}
	}
}
