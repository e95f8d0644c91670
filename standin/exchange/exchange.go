// Package exchange simulates an avatar platform: one signs in, sees avatars
// with their owners and terms, and downloads one as VRM 1.0. It can be told to
// be slow, to refuse, and to drop connections.
package exchange

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"net/http"
	"strings"
	"sync"
	"time"

	"excavate/internal/demo"
	"excavate/standin/protocol"
)

// Token signs in to the demo's exchange.
const Token = "heron-token"

// Exchange is one simulated platform.
type Exchange struct {
	mu      sync.Mutex
	keys    map[string]bool
	files   map[string][]byte
	trouble Trouble
}

// Trouble is how an exchange misbehaves.
type Trouble struct {
	BytesPerSecond int `json:"bytesPerSecond"`
	Refuse         int `json:"refuse"`    // downloads that are answered with 503
	DropAfter      int `json:"dropAfter"` // bytes after which the next download is cut
}

// New makes an exchange.
func New() *Exchange { return &Exchange{keys: map[string]bool{}, files: map[string][]byte{}} }

// Handler answers the protocol.
func (x *Exchange) Handler() http.Handler {
	h := http.NewServeMux()
	h.HandleFunc("GET /device", func(w http.ResponseWriter, r *http.Request) {
		protocol.JSON(w, 200, protocol.About{Protocol: 1, Kind: "exchange", Name: "Sedgewater avatar exchange", SignIn: true})
	})
	h.HandleFunc("POST /session", x.session)
	h.HandleFunc("POST /trouble", func(w http.ResponseWriter, r *http.Request) {
		var t Trouble
		if err := protocol.Body(r, &t); err != nil {
			protocol.Fail(w, 400, "the trouble cannot be read: %v", err)
			return
		}
		x.mu.Lock()
		x.trouble = t
		x.mu.Unlock()
		protocol.JSON(w, 200, t)
	})
	h.HandleFunc("GET /offers", x.signedIn(x.offers))
	h.HandleFunc("GET /offers/{id}", x.signedIn(x.offer))
	h.HandleFunc("GET /offers/{id}/thumb", x.signedIn(func(w http.ResponseWriter, r *http.Request) {
		for _, a := range demo.Avatars {
			if a.ID == r.PathValue("id") {
				w.Header().Set("Content-Type", "image/png")
				w.Write(a.Thumb())
				return
			}
		}
		protocol.Fail(w, 404, "there is no avatar %q", r.PathValue("id"))
	}))
	return h
}

func (x *Exchange) session(w http.ResponseWriter, r *http.Request) {
	var b struct{ Token string }
	if err := protocol.Body(r, &b); err != nil || subtle.ConstantTimeCompare([]byte(b.Token), []byte(Token)) != 1 {
		protocol.Fail(w, 401, "the token is not known here")
		return
	}
	raw := make([]byte, 16)
	rand.Read(raw)
	key := hex.EncodeToString(raw)
	x.mu.Lock()
	x.keys[key] = true
	x.mu.Unlock()
	protocol.JSON(w, 200, map[string]string{"key": key})
}

func (x *Exchange) signedIn(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		x.mu.Lock()
		ok := x.keys[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]
		x.mu.Unlock()
		if !ok {
			protocol.Fail(w, 401, "sign in first")
			return
		}
		h(w, r)
	}
}

func (x *Exchange) file(a demo.Avatar) []byte {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.files[a.ID] == nil {
		x.files[a.ID] = a.VRM()
	}
	return x.files[a.ID]
}

func answer(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func (x *Exchange) offers(w http.ResponseWriter, r *http.Request) {
	out := []protocol.Offer{}
	for _, a := range demo.Avatars {
		out = append(out, protocol.Offer{ID: a.ID, Kind: "avatar", Name: a.ID + ".vrm", Size: int64(len(x.file(a))), About: a.Name, Group: "avatars", Thumb: true,
			Terms: &protocol.Terms{Owner: a.Author, Licence: "https://vrm.dev/licenses/1.0/", ShareUnchanged: answer(a.Redistribution),
				ShareChanged: answer(a.Modification == "allowModificationRedistribution"), Sell: answer(a.Commercial != "personalNonProfit")}})
	}
	protocol.JSON(w, 200, out)
}

func (x *Exchange) offer(w http.ResponseWriter, r *http.Request) {
	for _, a := range demo.Avatars {
		if a.ID != r.PathValue("id") {
			continue
		}
		b := x.file(a)
		x.mu.Lock()
		t := x.trouble
		if x.trouble.Refuse > 0 {
			x.trouble.Refuse--
		} else {
			x.trouble.DropAfter = 0
		}
		x.mu.Unlock()
		if t.Refuse > 0 {
			protocol.Fail(w, 503, "the exchange is busy; try again")
			return
		}
		protocol.Bytes(&troubled{ResponseWriter: w, r: r, Trouble: t}, r, b)
		return
	}
	protocol.Fail(w, 404, "there is no avatar %q", r.PathValue("id"))
}

// troubled sends slowly, or only a part.
type troubled struct {
	http.ResponseWriter
	Trouble
	r    *http.Request
	sent int
}

func (t *troubled) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		k := len(p)
		if t.BytesPerSecond > 0 {
			k = min(k, max(1, t.BytesPerSecond/20))
		}
		if t.DropAfter > 0 {
			if t.sent >= t.DropAfter {
				panic(http.ErrAbortHandler) // the connection is cut
			}
			k = min(k, t.DropAfter-t.sent)
		}
		m, err := t.ResponseWriter.Write(p[:k])
		n, p, t.sent = n+m, p[m:], t.sent+m
		if err != nil {
			return n, err
		}
		if t.BytesPerSecond > 0 {
			http.NewResponseController(t.ResponseWriter).Flush()
			select {
			case <-t.r.Context().Done():
				return n, t.r.Context().Err()
			case <-time.After(50 * time.Millisecond):
			}
		}
	}
	return n, nil
}
