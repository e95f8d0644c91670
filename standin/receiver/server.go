// Package receiver is the far side, simulated: small programs that take a
// delivery over HTTP, import it by the rules of their sheet with code of their
// own, and say what became of it. PROTOCOL.md describes how they are spoken to.
package receiver

import (
	"archive/zip"
	"bytes"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"excavate/standin/protocol"
)

// About is the answer to GET /receiver.
type About struct {
	Protocol int      `json:"protocol"`
	Kind     string   `json:"kind"` // engine, film
	Name     string   `json:"name"`
	Targets  []string `json:"targets"` // the sheets by which it can import
	Checks   []string `json:"checks"`  // the codes of all that it may object to
}

// Receiver is one that runs.
type Receiver struct {
	about  About
	sheets map[string]*sheet

	mu      sync.Mutex
	files   map[string][]byte // its project folder, or what lies on its disk
	search  []string          // folders on the search path
	last    *Report
	trouble trouble
}

// trouble is what goes wrong on purpose.
type trouble struct {
	BytesPerSecond int  `json:"bytesPerSecond"` // takes deliveries slowly
	Full           bool `json:"full"`           // answers 507
	DropAfter      int  `json:"dropAfter"`      // closes the connection after so many bytes of the next delivery
}

// The codes that an import may object with.
var checks = []string{"RD01", "RD02", "SZ01", "PV01", "PV02", "GE01", "GE02", "GE03", "GE04", "GE05", "CM01",
	"LT01", "EM01", "OB01", "NM01", "NM02", "NM03",
	"SK01", "SK02", "SK03", "SK04", "SK05", "SK06", "PX01", "PX02", "PX03", "PX04", "MT01", "MT02", "MT03",
	"TR01", "TR02", "CO01", "CO02", "CO03", "AN01", "VR01", "LC01", "OW01"}

// NewEngine is an engine with two kinds of projects, or with those of the
// sheets that are named.
func NewEngine(ids ...string) *Receiver {
	if len(ids) == 0 {
		ids = []string{"reedlight", "tideworks"}
	}
	return newReceiver("engine", "Sedgewater engine", ids, nil)
}

// NewFilm is a film tool that finds files by a search path.
func NewFilm() *Receiver {
	r := newReceiver("film", "Millrace film tool", []string{"millrace"}, []string{"FL01", "FL02", "FL03", "FL04"})
	// It does not look into compressed pictures.
	r.about.Checks = slices.DeleteFunc(r.about.Checks, func(c string) bool { return strings.HasPrefix(c, "TR") })
	r.update()
	r.search = []string{"base"}
	return r
}

func newReceiver(kind, name string, ids, more []string) *Receiver {
	r := &Receiver{about: About{Protocol: 1, Kind: kind, Name: name, Targets: ids,
		Checks: append(slices.Clone(checks), more...)},
		sheets: map[string]*sheet{}, files: map[string][]byte{}}
	for _, id := range ids {
		s, err := loadSheet(id)
		if err != nil {
			panic(fmt.Sprintf("receiver: %v", err)) // it ships with them
		}
		r.sheets[id] = s
	}
	return r
}

// Handler answers the requests of PROTOCOL.md.
func (r *Receiver) Handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /receiver", func(w http.ResponseWriter, _ *http.Request) { protocol.JSON(w, 200, r.about) })
	m.HandleFunc("POST /deliveries", r.deliver)
	m.HandleFunc("GET /seen", r.seen)
	m.HandleFunc("POST /update", r.updated)
	m.HandleFunc("GET /files", r.list)
	m.HandleFunc("POST /trouble", func(w http.ResponseWriter, q *http.Request) {
		var t trouble
		if err := protocol.Body(q, &t); err != nil {
			protocol.Fail(w, 400, "%v", err)
			return
		}
		r.mu.Lock()
		r.trouble = t
		r.mu.Unlock()
		protocol.JSON(w, 200, t)
	})
	return m
}

const mostDelivery = 1 << 30

// slow reads no faster than so many bytes a second.
type slow struct {
	io.Reader
	perSecond int
}

func (s slow) Read(p []byte) (int, error) {
	if s.perSecond > 0 {
		p = p[:min(len(p), max(s.perSecond/20, 1))]
		time.Sleep(50 * time.Millisecond)
	}
	return s.Reader.Read(p)
}

func (r *Receiver) deliver(w http.ResponseWriter, q *http.Request) {
	r.mu.Lock()
	t := r.trouble
	r.trouble.DropAfter = 0
	r.mu.Unlock()
	if t.Full {
		protocol.Fail(w, http.StatusInsufficientStorage, "no room left in the project folder")
		return
	}
	s := r.sheets[q.URL.Query().Get("target")]
	if s == nil {
		protocol.Fail(w, 400, "no project of the kind %q here; there are %s", q.URL.Query().Get("target"),
			strings.Join(r.about.Targets, ", "))
		return
	}
	var in io.Reader = slow{http.MaxBytesReader(w, q.Body, mostDelivery), t.BytesPerSecond}
	if t.DropAfter > 0 {
		io.CopyN(io.Discard, in, int64(t.DropAfter))
		panic(http.ErrAbortHandler)
	}
	body, err := io.ReadAll(in)
	if err != nil {
		protocol.Fail(w, 400, "the delivery broke off: %v", err)
		return
	}
	files, err := unpack(body)
	if err != nil {
		protocol.Fail(w, 400, "%v", err)
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for p, b := range files { // into its own folder; it lies there now
		r.files[p] = b
	}
	if line := q.URL.Query().Get("search"); line != "" {
		r.addSearch(s, line)
	}
	list := models(files)
	if len(list) == 0 {
		protocol.Fail(w, 400, "no model in the delivery")
		return
	}
	where := list[0]
	r.last = take(s, r.files, where)
	if r.about.Kind == "film" {
		r.filmed(s, files, where)
	}
	if q.URL.Query().Get("walk") != "no" && s.Colliders != nil && s.Colliders.As != "none" && r.last.world != nil {
		r.last.Walk = r.last.world.walk()
	}
	protocol.JSON(w, 200, r.last)
}

// unpack reads a package.
func unpack(b []byte) (map[string][]byte, error) {
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return nil, fmt.Errorf("the delivery is no zip: %v", err)
	}
	out := map[string][]byte{}
	left := int64(mostDelivery)
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		if path.IsAbs(f.Name) || strings.Contains("/"+f.Name+"/", "/../") || strings.Contains(f.Name, "\\") {
			return nil, fmt.Errorf("%q leads out of the folder", f.Name)
		}
		o, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%s: %v", f.Name, err)
		}
		data, err := io.ReadAll(io.LimitReader(o, left+1))
		o.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: %v", f.Name, err)
		}
		if left -= int64(len(data)); left < 0 {
			return nil, fmt.Errorf("the delivery unpacks to too much")
		}
		out[f.Name] = data
	}
	return out, nil
}

// seen is a picture of what arrived last.
func (r *Receiver) seen(w http.ResponseWriter, q *http.Request) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.last == nil || r.last.world == nil {
		protocol.Fail(w, 404, "nothing has arrived yet")
		return
	}
	size := func(key string, usual int) int {
		n, err := strconv.Atoi(q.URL.Query().Get(key))
		if err != nil || n < 16 || n > 2048 {
			return usual
		}
		return n
	}
	w.Header().Set("Content-Type", "image/png")
	png.Encode(w, r.last.world.see(size("width", 640), size("height", 400), r.last.Walk))
}

func (r *Receiver) list(w http.ResponseWriter, _ *http.Request) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var names []string
	for p := range r.files {
		names = append(names, p)
	}
	slices.Sort(names)
	protocol.JSON(w, 200, map[string]any{"files": names, "search": r.search})
}
