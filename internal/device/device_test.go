package device

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"excavate/standin/console"
	"excavate/standin/exchange"
)

func client(t *testing.T, h http.Handler, token string) (*Client, *httptest.Server) {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	c, err := New(s.URL, token, nil)
	if err != nil {
		t.Fatal(err)
	}
	return c, s
}

func post(t *testing.T, url, body string) {
	t.Helper()
	r, err := http.Post(url, "application/json", strings.NewReader(body))
	if err != nil || r.StatusCode != 200 {
		t.Fatal(r, err)
	}
	r.Body.Close()
}

func TestAddresses(t *testing.T) {
	for a, want := range map[string]string{"127.0.0.1:7801": "http://127.0.0.1:7801", "http://localhost:1/x": "http://localhost:1", "http://[::1]:5": "http://[::1]:5", "http://lan.example:80": "http://lan.example:80"} {
		if c, err := New(a, "", []string{"lan.example"}); err != nil || c.Address() != want {
			t.Errorf("%s: %v", a, err)
		}
	}
	for _, a := range []string{"", "ftp://127.0.0.1", "http://10.0.0.7:80", "http://localhost.example", "http://a:b@127.0.0.1", "file:///etc"} {
		if _, err := New(a, "", nil); err == nil {
			t.Errorf("%q is taken", a)
		}
	}
}

func TestConsole(t *testing.T) {
	ctx := context.Background()
	c, _ := client(t, console.New().Handler(), "")
	a, err := c.About(ctx)
	if err != nil || a.Kind != "console" {
		t.Fatal(a, err)
	}
	st, err := c.Control(ctx, "step", 3)
	if err != nil || st.Running {
		t.Fatal(st, err)
	}
	if again, _ := c.State(ctx); again.Frame != st.Frame {
		t.Errorf("it goes on while it is paused: %d, %d", st.Frame, again.Frame)
	}
	if _, err := c.Control(ctx, "explode", 0); err == nil || !strings.Contains(err.Error(), "explode") {
		t.Error(err)
	}
	list, err := c.Offers(ctx)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for _, o := range list {
		if err := c.Fetch(ctx, o, filepath.Join(dir, o.Name), func(int64) {}); err != nil {
			t.Fatal(err)
		}
	}
	b, err := os.ReadFile(filepath.Join(dir, "pictures/05.bmp"))
	if err != nil || string(b[:2]) != "BM" || len(b) != 54+1024+32*32 {
		t.Errorf("the face picture: %d bytes, %v", len(b), err)
	}
	wrl, _ := os.ReadFile(filepath.Join(dir, "frame.wrl"))
	if n := bytes.Count(wrl, []byte("Shape {")); n < 250 || n > 900 {
		t.Errorf("%d groups", n)
	}
	// The same frame is the same later; the faces differ from frame to frame.
	c.Control(ctx, "run", 0)
	again := list[0]
	if err := c.Fetch(ctx, again, filepath.Join(dir, "again"), func(int64) {}); err != nil {
		t.Error(err)
	}
}

func TestExchange(t *testing.T) {
	ctx := context.Background()
	h := exchange.New().Handler()
	if c, _ := client(t, h, ""); true {
		if _, err := c.About(ctx); err == nil || !strings.Contains(err.Error(), "token") {
			t.Errorf("without a token: %v", err)
		}
	}
	if c, _ := client(t, h, "wrong"); true {
		if _, err := c.About(ctx); err == nil || !strings.Contains(err.Error(), "not known") {
			t.Errorf("a wrong token: %v", err)
		}
	}
	c, s := client(t, h, exchange.Token)
	if _, err := c.About(ctx); err != nil {
		t.Fatal(err)
	}
	list, err := c.Offers(ctx)
	if err != nil || len(list) < 3 || list[0].Terms == nil || list[0].Terms.Owner == "" {
		t.Fatal(list, err)
	}
	if b, err := c.Thumb(ctx, list[0].ID); err != nil || !bytes.HasPrefix(b, []byte("\x89PNG")) {
		t.Error(err)
	}
	fetch := func(ctx context.Context, o Offer) (string, []int64, error) {
		name := filepath.Join(t.TempDir(), o.Name)
		var at []int64
		err := c.Fetch(ctx, o, name, func(n int64) { at = append(at, n) })
		return name, at, err
	}
	whole, _, err := fetch(ctx, list[0])
	if err != nil {
		t.Fatal(err)
	}
	want, _ := os.ReadFile(whole)
	// A connection that is cut goes on where it was: progress never falls back.
	post(t, s.URL+"/trouble", `{"dropAfter": 100000}`)
	name, at, err := fetch(ctx, list[0])
	got, _ := os.ReadFile(name)
	if err != nil || !bytes.Equal(got, want) {
		t.Fatalf("after a cut: %v, %d bytes", err, len(got))
	}
	for i := 1; i < len(at); i++ {
		if at[i] < at[i-1] {
			t.Errorf("progress falls from %d to %d", at[i-1], at[i])
		}
	}
	// A busy device is asked again; one that stays busy is an error, and
	// nothing lies under the final name.
	post(t, s.URL+"/trouble", `{"refuse": 2}`)
	if _, _, err := fetch(ctx, list[1]); err != nil {
		t.Errorf("busy twice: %v", err)
	}
	post(t, s.URL+"/trouble", `{"refuse": 99}`)
	name, _, err = fetch(ctx, list[1])
	var r *Refused
	if !errors.As(err, &r) || r.Status != 503 || !strings.Contains(err.Error(), "busy") {
		t.Errorf("busy for ever: %v", err)
	}
	if _, err := os.Stat(name); err == nil {
		t.Error("a file lies there")
	}
	// A slow one can be stopped, and gone on with later.
	post(t, s.URL+"/trouble", `{"bytesPerSecond": 400000}`)
	sctx, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	name = filepath.Join(t.TempDir(), "slow.vrm")
	if err := c.Fetch(sctx, list[0], name, func(int64) {}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("stopped: %v", err)
	}
	st, err := os.Stat(name + ".part")
	if err != nil || st.Size() == 0 {
		t.Fatalf("nothing is kept: %v", err)
	}
	post(t, s.URL+"/trouble", `{}`)
	first := int64(-1)
	if err := c.Fetch(ctx, list[0], name, func(n int64) {
		if first < 0 {
			first = n
		}
	}); err != nil || first <= st.Size() {
		t.Errorf("gone on at %d, had %d: %v", first, st.Size(), err)
	}
	if got, _ := os.ReadFile(name); !bytes.Equal(got, want) {
		t.Error("other bytes")
	}
	// It signs in again when its key is forgotten, and says so when it is gone.
	c.key = "old"
	if _, err := c.Offers(ctx); err != nil {
		t.Error(err)
	}
	s.Close()
	if _, err := c.Offers(ctx); err == nil || !strings.Contains(err.Error(), "does not answer") {
		t.Errorf("a device that is gone: %v", err)
	}
}

func TestHostileDevices(t *testing.T) {
	ctx := context.Background()
	for name, h := range map[string]http.HandlerFunc{
		"names that leave": func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, `[{"id":"a","name":"../../etc/passwd","size":1}]`)
		},
		"sizes":   func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `[{"id":"a","name":"a","size":-1}]`) },
		"no JSON": func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `<html>`) },
		"a redirect": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://example.com/", http.StatusFound)
		},
		"endless JSON": func(w http.ResponseWriter, r *http.Request) {
			for i := 0; i < 20<<10; i++ {
				if _, err := w.Write(bytes.Repeat([]byte("["), 1024)); err != nil {
					return
				}
			}
		},
	} {
		c, _ := client(t, h, "")
		if _, err := c.Offers(ctx); err == nil {
			t.Errorf("%s: no error", name)
		}
	}
	c, _ := client(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write(make([]byte, 1<<20)) }), "")
	f := filepath.Join(t.TempDir(), "x")
	if err := c.Fetch(ctx, Offer{ID: "x", Name: "x", Size: 10}, f, func(int64) {}); err == nil || !strings.Contains(err.Error(), "more than the 10 bytes") {
		t.Errorf("a lying size: %v", err)
	}
}
