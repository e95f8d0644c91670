package exchange

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"excavate/core/terms"
	"excavate/standin/protocol"
)

func TestExchange(t *testing.T) {
	s := httptest.NewServer(New().Handler())
	defer s.Close()
	key := ""
	do := func(method, path, body string) (int, []byte, error) {
		t.Helper()
		req, _ := http.NewRequest(method, s.URL+path, strings.NewReader(body))
		if key != "" {
			req.Header.Set("Authorization", "Bearer "+key)
		}
		r, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		return r.StatusCode, b, err
	}
	if status, b, _ := do("GET", "/offers", ""); status != 401 || !strings.Contains(string(b), "sign in") {
		t.Errorf("without a key: %d %s", status, b)
	}
	for _, bad := range []string{`{"token":"x"}`, `{}`, `[`, `{"token":""}`} {
		if status, _, _ := do("POST", "/session", bad); status != 401 {
			t.Errorf("%s signs in: %d", bad, status)
		}
	}
	_, b, _ := do("POST", "/session", `{"token":"`+Token+`"}`)
	var k struct{ Key string }
	if json.Unmarshal(b, &k); len(k.Key) != 32 {
		t.Fatalf("%s", b)
	}
	key = k.Key
	_, b, _ = do("GET", "/offers", "")
	var list []protocol.Offer
	if err := json.Unmarshal(b, &list); err != nil || len(list) != 4 {
		t.Fatal(err)
	}
	for _, o := range list {
		status, file, err := do("GET", "/offers/"+o.ID, "")
		if status != 200 || err != nil || int64(len(file)) != o.Size {
			t.Fatalf("%s: %d, %d of %d bytes", o.ID, status, len(file), o.Size)
		}
		// What is announced is what the file itself says.
		x, err := terms.GLTF(o.Name, bytes.NewReader(file))
		if err != nil || x.Owner != o.Terms.Owner || string(x.ShareChanged) != o.Terms.ShareChanged || string(x.ShareUnchanged) != o.Terms.ShareUnchanged || string(x.Sell) != o.Terms.Sell {
			t.Errorf("%s: the file says %+v, the offer %+v (%v)", o.ID, x, o.Terms, err)
		}
		if status, png, _ := do("GET", "/offers/"+o.ID+"/thumb", ""); status != 200 || !bytes.HasPrefix(png, []byte("\x89PNG")) {
			t.Errorf("%s: its picture gives %d", o.ID, status)
		}
	}
	for _, path := range []string{"/offers/nobody", "/offers/nobody/thumb"} {
		if status, _, _ := do("GET", path, ""); status != 404 {
			t.Errorf("%s: %d", path, status)
		}
	}
	// Trouble, one kind after another.
	at := "/offers/" + list[0].ID
	do("POST", "/trouble", `{"refuse": 1}`)
	if status, _, _ := do("GET", at, ""); status != 503 {
		t.Errorf("refused: %d", status)
	}
	if status, _, _ := do("GET", at, ""); status != 200 {
		t.Errorf("after that: %d", status)
	}
	do("POST", "/trouble", `{"dropAfter": 5000}`)
	if _, b, err := do("GET", at, ""); err == nil || len(b) > 5000 {
		t.Errorf("dropped: %d bytes, %v", len(b), err)
	}
	if _, b, err := do("GET", at, ""); err != nil || int64(len(b)) != list[0].Size {
		t.Errorf("after that: %d bytes, %v", len(b), err)
	}
	do("POST", "/trouble", `{"bytesPerSecond": 5000000}`)
	if _, b, err := do("GET", at, ""); err != nil || int64(len(b)) != list[0].Size {
		t.Errorf("slow: %d bytes, %v", len(b), err)
	}
	if status, _, _ := do("POST", "/trouble", "["); status != 400 {
		t.Errorf("trouble that cannot be read: %d", status)
	}
}
