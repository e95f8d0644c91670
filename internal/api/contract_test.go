package api_test

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	contract "excavate/api"
	"excavate/internal/api"
	"excavate/internal/demo"

	"github.com/getkin/kin-openapi/openapi3"
)

func loadContract(t testing.TB) *openapi3.T {
	t.Helper()
	doc, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(context.Background()); err != nil {
		t.Fatal(err)
	}
	return doc
}

type operation struct {
	*openapi3.Operation
	method, path string
	params       []*openapi3.Parameter
}

func operations(doc *openapi3.T) (out []operation) {
	for path, item := range doc.Paths.Map() {
		for method, o := range item.Operations() {
			x := operation{Operation: o, method: method, path: path}
			for _, list := range []openapi3.Parameters{item.Parameters, o.Parameters} {
				for _, p := range list {
					x.params = append(x.params, p.Value)
				}
			}
			out = append(out, x)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].path+out[i].method < out[j].path+out[j].method })
	return out
}

func (o operation) body() *openapi3.Schema {
	if o.RequestBody == nil || o.RequestBody.Value.Content.Get("application/json") == nil {
		return nil
	}
	return o.RequestBody.Value.Content.Get("application/json").Schema.Value
}

// Every number that a request can carry has a lower and an upper bound, every
// text and every list a length.
func TestTheContractBoundsWhatRequestsCarry(t *testing.T) {
	var walk func(where string, s *openapi3.Schema)
	walk = func(where string, s *openapi3.Schema) {
		switch {
		case s.Type.Is("integer") || s.Type.Is("number"):
			if s.Min == nil || s.Max == nil {
				t.Errorf("%s: a number without bounds", where)
			}
		case s.Type.Is("string"):
			if s.MaxLength == nil && len(s.Enum) == 0 && s.Pattern == "" && s.Format != "binary" {
				t.Errorf("%s: a text without a length", where)
			}
		case s.Type.Is("array"):
			if s.MaxItems == nil {
				t.Errorf("%s: a list without a length", where)
			}
			walk(where+"[]", s.Items.Value)
		}
		for name, p := range s.Properties {
			walk(where+"."+name, p.Value)
		}
	}
	for _, o := range operations(loadContract(t)) {
		for _, p := range o.params {
			walk(o.OperationID+" "+p.Name, p.Schema.Value)
		}
		if b := o.body(); b != nil {
			walk(o.OperationID+" body", b)
		}
	}
}

// things are addresses of one of each thing of a project.
type things struct {
	ids     map[string]string // by the name of the path's parameter
	entries []string          // of all kinds
}

func (c *client) things() things {
	c.t.Helper()
	id, path := c.project("things")
	src := c.addSource(id, demo.Archives[0])
	os.WriteFile(filepath.Join(c.lib, "notes.txt"), []byte("the tide is at six\n"), 0o644)
	os.WriteFile(filepath.Join(c.lib, "empty.bin"), nil, 0o644)
	os.WriteFile(filepath.Join(c.lib, "broken.png"), []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR"), 0o644)
	c.addSource(id, "notes.txt")
	c.addSource(id, "empty.bin")
	c.addSource(id, "broken.png")
	c.addSource(id, "harbour.zip")
	x := things{ids: map[string]string{"project": fmt.Sprint(id), "source": fmt.Sprint(src.Id)}}
	var keeper api.Entry
	kinds := map[string]int{}
	for _, e := range c.entries(path, "limit=1000").Entries {
		if strings.HasSuffix(e.Path, "ferry_keeper.hull") {
			keeper = e
		}
		if kinds[string(e.Kind)+e.Format]++; kinds[string(e.Kind)+e.Format] == 1 {
			x.entries = append(x.entries, fmt.Sprint(e.Id))
		}
	}
	x.ids["entry"] = fmt.Sprint(keeper.Id)
	f := call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": keeper.Id})
	c.until("decoding", func() bool {
		f = call[api.Find](c, "GET", fmt.Sprintf("/api/finds/%d", f.Id), nil)
		return f.State == "ready"
	})
	ch := call[api.Chain](c, "POST", path+"/chains", map[string]any{"find": f.Id, "name": "c", "document": string(demo.Chain)})
	d := call[api.Delivery](c, "POST", fmt.Sprintf("/api/chains/%d/deliveries?despite=true", ch.Id), nil)
	l := call[api.Layout](c, "POST", path+"/layouts", map[string]any{"name": "mine", "document": "layout: mine\nkind: picture\n"})
	sel := call[api.Selected](c, "POST", path+"/selections", map[string]any{"ids": []int64{keeper.Id}})
	e := call[api.Extraction](c, "POST", path+"/extractions", map[string]any{"selection": map[string]any{"ids": []int64{keeper.Id}}, "form": "folder"})
	u := call[api.Upload](c, "POST", path+"/uploads", map[string]any{"name": "u", "folder": false, "files": []any{map[string]any{"path": "u", "size": 10, "modified": 0}}})
	b := call[[]api.Bookmark](c, "POST", fmt.Sprintf("/api/entries/%d/bookmarks", keeper.Id), map[string]any{"at": 0, "size": 1, "note": "n"})
	c.linked(path)
	x.ids["find"], x.ids["chain"], x.ids["delivery"], x.ids["layout"] = fmt.Sprint(f.Id), fmt.Sprint(ch.Id), fmt.Sprint(d.Id), fmt.Sprint(l.Id)
	x.ids["extraction"], x.ids["upload"], x.ids["bookmark"], x.ids["digest"] = fmt.Sprint(e.Id), u.Id, fmt.Sprint(b[0].Id), f.Model.Scene
	x.ids["selection"], x.ids["file"], x.ids["picture"], x.ids["motion"] = sel.Digest, "0", "0", "0"
	x.ids["job"], x.ids["device"] = "1", "1"
	return x
}

// good is a value that the schema takes.
func good(name string, s *openapi3.Schema, x things) any {
	if v := x.ids[name]; v != "" && s.Type.Is("integer") {
		return json.Number(v)
	}
	switch name {
	case "with", "paletteEntry":
		if s.Type.Is("integer") {
			return json.Number(x.ids["entry"])
		}
		return x.ids["digest"]
	case "upload", "digest":
		return x.ids[name]
	case "format":
		return "r8g8b8a8"
	}
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Type.Is("boolean"):
		return true
	case s.Type.Is("integer"), s.Type.Is("number"):
		if s.Min != nil && *s.Min > 0 {
			return *s.Min
		}
		return 0
	case s.Type.Is("array"):
		if s.MinItems > 0 {
			return []any{good("", s.Items.Value, x)}
		}
		return []any{}
	case s.Type.Is("object"):
		out := map[string]any{}
		for _, r := range s.Required {
			out[r] = good(r, s.Properties[r].Value, x)
		}
		return out
	}
	return "ab"
}

// address fills in an operation's path and query. named, if it is a
// parameter's, has the text that stands for it.
func (o operation) address(x things, named, text string) string {
	path, q := o.path, []string{}
	for _, p := range o.params {
		v := fmt.Sprint(good(p.Name, p.Schema.Value, x))
		if p.Name == "digest" && strings.Contains(o.path, "selections") {
			v = x.ids["selection"]
		}
		if id := x.ids[p.Name]; p.In == "path" && id != "" && p.Name != "digest" {
			v = id
		}
		v = url.QueryEscape(v)
		if p.Name == named {
			v = text
		}
		switch {
		case p.In == "path":
			path = strings.Replace(path, "{"+p.Name+"}", v, 1)
		case p.Required || p.Name == named:
			q = append(q, p.Name+"="+v)
		}
	}
	if len(q) > 0 {
		path += "?" + strings.Join(q, "&")
	}
	return path
}

// Texts that no number, and no name, can be; as they stand in an address.
var noNumber = []string{"-1", "x", "1.5", "9223372036854775808", "4611686018427387904", "-9223372036854775809", "1e99", "NaN", "Infinity", "0x10",
	"%00", "1%00", "1%0a", "%ff", "1;2", "1,2", "%EF%BC%91", "true", "null", "[]", "{}", "'1'", "1%201", "%2e%2e", "..%2f..%2f", "1/2", "--", "+-1", "1_000", "%25"}

var noText = []string{"%00", "a%00b", "%ff%fe", "%c3%28", strings.Repeat("x", 70_000)}

// What no JSON body is, whatever the address.
var noBody = []string{"", " ", "{", "}", "[]", "null", `"x"`, "1", "true", "{]", `{"nonsense": 1}`, "{\"a\": \"\xff\"}", "NaN", "'{}'", "{}{}x", `{"a":}`, `{,}`,
	strings.Repeat("[", 20_000), strings.Repeat(`{"a":`, 20_000), "\x00", "\xff\xfe{\x00}\x00", `{"name": "` + strings.Repeat("x", 5<<20) + `"}`, "<a/>", "a=b", "--- {}", "{\"a\": 1e999}", "undefined"}

// wrong are values that the schema does not take.
func wrong(s *openapi3.Schema) []any {
	switch {
	case s.Type.Is("integer"), s.Type.Is("number"):
		return []any{"1", -1e300, 1e300, json.Number("9223372036854775808"), json.Number("1e400"), []any{}, map[string]any{}, true, -9.1e15, json.Number("1.00000000001e16")}
	case s.Type.Is("boolean"):
		return []any{"true", 1, 0, []any{}, map[string]any{}}
	case len(s.Enum) > 0:
		return []any{"nonsense", 1, true, []any{}, map[string]any{}, "\x00"}
	case s.Type.Is("string"):
		v := []any{1, true, []any{}, map[string]any{}, "\x00", "a\x00b"}
		if s.MaxLength != nil && *s.MaxLength < 1<<20 {
			v = append(v, strings.Repeat("é", int(*s.MaxLength)+1))
		}
		if s.Format == "line" {
			v = append(v, "a\nb", "\u202etxt.exe", "   ", "\x1b[2J")
		}
		return v
	case s.Type.Is("array"):
		v := []any{"x", 1, true, map[string]any{}, []any{[]any{[]any{}}}}
		for _, w := range wrong(s.Items.Value) {
			v = append(v, []any{w})
		}
		return v
	case s.Type.Is("object"):
		return []any{"x", 1, true, []any{}, []any{1}}
	}
	return nil
}

// TestBadRequestsAreRefused walks over all operations of the contract with bad
// values of each parameter and of each field of a body. Each is refused as the
// asker's mistake, in words; none ends the server or is told as its fault.
func TestBadRequestsAreRefused(t *testing.T) {
	c := start(t)
	x := c.things()
	asked, worst := 0, map[string]int{}
	refused := func(o operation, address string, body any, header ...string) {
		t.Helper()
		asked++
		status, b := c.do(o.method, address, body, header...)
		if status >= 400 && status < 500 {
			var e api.Error
			if json.Unmarshal(b, &e) != nil || e.Message == "" || strings.Contains(e.Message, "goroutine") {
				t.Errorf("%s %.200s: %d without a message: %.200s", o.method, address, status, b)
			}
			return
		}
		if worst[o.OperationID]++; worst[o.OperationID] < 4 {
			j, _ := json.Marshal(body)
			t.Errorf("%s %.200s %.200s: %d %.300s", o.method, address, j, status, b)
		}
	}
	for _, o := range operations(loadContract(t)) {
		var fits any
		if b := o.body(); b != nil {
			fits = good("", b, x)
		}
		// Requests that other pages cause, and addresses that cannot be read.
		for _, h := range [][]string{{"Origin", "http://elsewhere.example"}, {"Origin", "null"}, {"Origin", strings.Replace(c.base, "http:", "https:", 1)},
			{"Origin", "http://localhost:1"}, {"Sec-Fetch-Site", "cross-site"}, {"Sec-Fetch-Site", "same-site"}, {"Sec-Fetch-Site", "nonsense"},
			{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document"}, {"Host", "elsewhere.example"}, {"Host", "localhost.elsewhere.example"}, {"Host", "0.0.0.0"}} {
			refused(o, o.address(x, "", ""), fits, h...)
		}
		for _, q := range []string{"%zz=1", "a=%00", "%00=1", "a=%ff", "a=%c3%28"} {
			a := o.address(x, "", "")
			if strings.Contains(a, "?") {
				a += "&" + q
			} else {
				a += "?" + q
			}
			refused(o, a, fits)
		}
		for _, p := range o.params {
			s := p.Schema.Value
			bad := noText
			switch {
			case s.Type.Is("integer"), s.Type.Is("number"):
				bad = noNumber
				if p.In == "path" {
					bad = append([]string{"0", "999999999"}, bad...)
				}
			case s.Type.Is("boolean"):
				bad = []string{"x", "2", "%00", "yes", "TRUEish", "-1"}
			case len(s.Enum) > 0, s.Pattern != "":
				bad = append([]string{"nonsense", "x", "-1", "zz", "all%20"}, noText...)
			case p.In == "path":
				bad = append([]string{"nonsense", "-1", "zz", "%2e%2e"}, noText...)
			}
			for _, text := range bad {
				if s.Type.Is("number") && (text == "1.5" || text == "+-1" || text == "-1" && *s.Min < 0) {
					continue
				}
				if text == "0" && slices.Contains([]string{"file", "picture", "motion"}, p.Name) { // they count from it
					continue
				}
				refused(o, o.address(x, p.Name, text), fits)
			}
			if p.Required && p.In == "query" {
				refused(o, strings.Replace(o.address(x, p.Name, "GONE"), p.Name+"=GONE", "", 1), fits)
			}
		}
		if b := o.body(); b != nil {
			for _, text := range noBody {
				refused(o, o.address(x, "", ""), []byte(text))
			}
			whole, _ := fits.(map[string]any)
			for name, p := range b.Properties {
				for _, v := range wrong(p.Value) {
					changed := map[string]any{name: v}
					for k, v := range whole {
						if k != name {
							changed[k] = v
						}
					}
					refused(o, o.address(x, "", ""), changed)
				}
			}
			for _, r := range b.Required {
				less := map[string]any{}
				for k, v := range whole {
					if k != r {
						less[k] = v
					}
				}
				refused(o, o.address(x, "", ""), less)
			}
		}
		for _, m := range []string{"TRACE", "CONNECT", "PATCH", "PUT", "DELETE", "POST", "GET"} {
			item := loadContract(t).Paths.Value(o.path)
			if item.GetOperation(m) == nil && (m != "CONNECT") {
				refused(operation{Operation: o.Operation, method: m}, o.address(x, "", ""), nil)
			}
		}
	}
	t.Logf("%d bad requests", asked)
	if asked < 2500 {
		t.Errorf("%d bad requests only", asked)
	}
	if len(call[[]api.Project](c, "GET", "/api/projects", nil)) == 0 {
		t.Error("the project is gone")
	}
}

// TestEdgesOfTheContractAreAnswered asks with values that the contract takes
// and that reach as far as it goes, of every kind of entry: whatever the
// answer, it is no fault.
func TestEdgesOfTheContractAreAnswered(t *testing.T) {
	c := start(t)
	x := c.things()
	asked := 0
	ask := func(o operation, address string, body any) {
		t.Helper()
		asked++
		if status, b := c.do(o.method, address, body); status >= 500 {
			j, _ := json.Marshal(body)
			t.Errorf("%s %.200s %.200s: %d %.300s", o.method, address, j, status, b)
		}
	}
	texts := []string{"*", "..", "/", "a%2fb", "%2e%2e%2fx", "%F0%9F%8C%8A", "%E2%80%AE", "%5B", "%5Cx", strings.Repeat("a", 250), strings.Repeat("a/", 100), "%25s%25n", "'--"}
	for _, o := range operations(loadContract(t)) {
		if o.OperationID == "projectEvents" || o.method == "DELETE" || o.OperationID == "pullOffers" {
			continue
		}
		var fits any
		if b := o.body(); b != nil {
			fits = good("", b, x)
		}
		at := []string{x.ids["entry"]}
		if strings.Contains(o.path, "{entry}") {
			at = x.entries
		}
		for _, e := range at {
			y := x
			y.ids = map[string]string{}
			for k, v := range x.ids {
				y.ids[k] = v
			}
			y.ids["entry"] = e
			ask(o, o.address(y, "", ""), fits)
			for _, p := range o.params {
				s, list := p.Schema.Value, texts
				switch {
				case p.In == "path" && s.Type.Is("string"), s.Type.Is("boolean"):
					continue
				case s.Type.Is("integer"), s.Type.Is("number"):
					list = []string{fmt.Sprint(int64(*s.Min)), fmt.Sprint(int64(*s.Max)), "1", "7", "4095"}
				case len(s.Enum) > 0:
					list = nil
					for _, v := range s.Enum {
						list = append(list, url.QueryEscape(fmt.Sprint(v)))
					}
				}
				for _, text := range list {
					ask(o, o.address(y, p.Name, text), fits)
				}
			}
		}
		if b := o.body(); b != nil {
			whole, _ := fits.(map[string]any)
			for name, p := range b.Properties {
				list := []any{}
				switch s := p.Value; {
				case s.Type.Is("integer"), s.Type.Is("number"):
					list = []any{*s.Min, *s.Max, 1, 7}
				case s.Type.Is("string") && len(s.Enum) == 0:
					list = []any{"", "..", "/", "\\", "a/b", "ü🌊", strings.Repeat("a", 200), "- [", "{}", strings.Repeat("[", 40_000), "*", "&a [*a]", "%s"}
				case s.Type.Is("array"):
					list = []any{[]any{good("", s.Items.Value, x)}, []any{good("", s.Items.Value, x), good("", s.Items.Value, x)}}
				}
				for _, v := range list {
					changed := map[string]any{name: v}
					for k, v := range whole {
						if k != name {
							changed[k] = v
						}
					}
					ask(o, o.address(x, "", ""), changed)
				}
			}
		}
	}
	t.Logf("%d requests", asked)
}

// raw sends bytes as they are and returns the status line and the header.
func (c *client) raw(request string) (string, http.Header) {
	c.t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(c.base, "http://"))
	if err != nil {
		c.t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	io.WriteString(conn, request)
	res, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		return err.Error(), nil
	}
	res.Body.Close()
	return res.Status, res.Header
}

func TestRefusalsKeepThePageToItself(t *testing.T) {
	c := start(t)
	host := strings.TrimPrefix(c.base, "http://")
	for name, r := range map[string]string{
		"two hosts":                             "GET /api/projects HTTP/1.1\r\nHost: " + host + "\r\nHost: elsewhere.example\r\nConnection: close\r\n\r\n",
		"two hosts again":                       "GET /api/projects HTTP/1.1\r\nHost: elsewhere.example\r\nhOst: " + host + "\r\nConnection: close\r\n\r\n",
		"whole address":                         "GET http://" + host + "/api/projects HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n",
		"another address":                       "GET http://elsewhere.example/api/projects HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n",
		"no host":                               "GET /api/projects HTTP/1.1\r\nConnection: close\r\n\r\n",
		"a page, asked for by another's script": "GET / HTTP/1.1\r\nHost: " + host + "\r\nSec-Fetch-Site: cross-site\r\nSec-Fetch-Mode: no-cors\r\nConnection: close\r\n\r\n",
		"nothing there":                         "GET /api/nothing HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n",
		"a wrong method":                        "TRACE /api/projects HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n",
	} {
		status, h := c.raw(r)
		if !strings.HasPrefix(status, "4") {
			t.Errorf("%s: %s", name, status)
			continue
		}
		for _, k := range []string{"X-Content-Type-Options", "X-Frame-Options", "Cross-Origin-Resource-Policy", "Content-Security-Policy"} {
			if h.Get(k) == "" {
				t.Errorf("%s: %s without %s", name, status, k)
			}
		}
	}
	// A link elsewhere that is followed to a page of ours works.
	if status, h := c.raw("GET / HTTP/1.1\r\nHost: " + host + "\r\nSec-Fetch-Site: cross-site\r\nSec-Fetch-Mode: navigate\r\nSec-Fetch-Dest: document\r\nConnection: close\r\n\r\n"); !strings.HasPrefix(status, "200") && !strings.HasPrefix(status, "503") || !strings.Contains(h.Get("Content-Security-Policy"), "form-action 'self'") {
		t.Errorf("a link: %s %v", status, h)
	}
}

// A request that is refused before all of it was read is told why, however
// much of it is still on its way.
func TestRefusalsReachWhoIsStillSending(t *testing.T) {
	c := start(t)
	for range 200 {
		if status, b := c.do("GET", "/api/projects?q="+strings.Repeat("x", 100_000), nil); status != 431 {
			t.Errorf("a header of 100 kB: %d %s", status, b)
		}
	}
}

// What is stored is read again: rules whose affixes mean something to
// patterns, names as long as they may be.
func TestWhatIsStoredIsReadAgain(t *testing.T) {
	c := start(t)
	id, path := c.project(strings.Repeat("名", 200))
	c.addSource(id, demo.Archives[0])
	for _, affix := range []string{"[", "]a", "{", "}", "[a-", "ü", "'", "#", ": ", "- ", "%", "!x", "&a", "~"} {
		status, b := c.do("PUT", path+"/naming", map[string]any{"rules": []any{map[string]any{"where": "prefix", "affix": affix, "means": "kind", "value": "thing"},
			map[string]any{"where": "suffix", "affix": affix, "means": "state", "value": affix + " "}}})
		if status != 200 {
			t.Errorf("%q: %d %s", affix, status, b)
			continue
		}
		for _, at := range []string{"/naming", "/sets", "/entries", "/links/missing", "/naming/document"} {
			if status, b := c.do("GET", path+at, nil); status != 200 {
				t.Errorf("%q: %s: %d %.200s", affix, at, status, b)
			}
		}
		_, doc := c.do("GET", path+"/naming/document", nil)
		if status, b := c.do("PUT", path+"/naming", map[string]any{"document": string(doc)}); status != 200 {
			t.Errorf("%q: its own document: %d %s", affix, status, b)
		}
	}
	file := func(paths ...string) map[string]any {
		list := []any{}
		for _, p := range paths {
			list = append(list, map[string]any{"path": p, "size": 1 << 50 / 1000, "modified": 0})
		}
		return map[string]any{"name": "x", "folder": true, "files": list}
	}
	many := []string{}
	for i := range 20_000 {
		many = append(many, fmt.Sprint(i))
	}
	for name, body := range map[string]any{
		"a beside a/b": file("a", "a/b"), "a/b/c beside a/b": file("a/b/c", "a/b"), "a long segment": file(strings.Repeat("x", 250)),
		"a long folder": file(strings.Repeat("x", 250) + "/y"), "dots": file("a/./b"), "a slash": file("a//b"), "twice": file("a", "a"), "too much": file(many...),
		"a long name": map[string]any{"name": strings.Repeat("é", 125), "folder": false, "files": file("x")["files"]}, "a new line": map[string]any{"name": "a\nb", "folder": false, "files": file("x")["files"]},
	} {
		if status, b := c.do("POST", path+"/uploads", body); status < 400 || status >= 500 {
			t.Errorf("%s: %d %s", name, status, b)
		}
	}
	// An entry with a very long path is found; the job's title is cut.
	long := strings.Repeat("deep/", 150) + "thing.obj"
	var z bytes.Buffer
	zw := zip.NewWriter(&z)
	w, _ := zw.Create(long)
	io.WriteString(w, "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
	zw.Close()
	c.upload(id, "long.zip", z.Bytes())
	c.until("indexing", func() bool { return c.entries(path, "q=thing.obj").Total == 1 })
	e := c.entries(path, "q=thing.obj").Entries[0]
	call[api.Find](c, "POST", path+"/finds", map[string]int64{"entry": e.Id})
}
