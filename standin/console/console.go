// Package console simulates a small game console that runs one cartridge, the
// Sedgewater lantern game: somebody walks a reed causeway at night with a
// lantern. It can be paused and stepped, and writes out what it draws: its
// pictures as bitmaps, its memory by segment, and the geometry of a frame.
//
// The simulation is exact: a frame is the same whenever it is asked for.
package console

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"excavate/standin/protocol"
)

const (
	firstFrame = 1200
	frameRate  = 30.0
	mostFrames = 1 << 30
)

// Console is one simulated console.
type Console struct {
	mu      sync.Mutex
	frame   int // at since
	since   time.Time
	running bool
	now     func() time.Time
}

// New makes a console that runs.
func New() *Console {
	return &Console{frame: firstFrame, since: time.Now(), running: true, now: time.Now}
}

func (c *Console) state() protocol.State {
	f := c.frame
	if c.running {
		f += int(c.now().Sub(c.since).Seconds() * frameRate)
	}
	return protocol.State{Frame: f, Running: c.running, FramesPerSecond: frameRate}
}

// State tells which frame is shown.
func (c *Console) State() protocol.State {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state()
}

// Do pauses, runs or steps.
func (c *Console) Do(x protocol.Control) (protocol.State, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.state()
	switch x.Do {
	case "pause":
		c.running = false
	case "run":
		c.running = true
	case "step":
		if x.Frames == 0 {
			x.Frames = 1
		}
		if x.Frames < 0 || x.Frames > 100_000 {
			return now, fmt.Errorf("1 to 100000 frames can be stepped at once, not %d", x.Frames)
		}
		c.running = false
		now.Frame += x.Frames
	default:
		return now, fmt.Errorf("the console can pause, run and step, not %q", x.Do)
	}
	c.frame, c.since = now.Frame, c.now()
	return c.state(), nil
}

// Handler answers the protocol.
func (c *Console) Handler() http.Handler {
	h := http.NewServeMux()
	h.HandleFunc("GET /device", func(w http.ResponseWriter, r *http.Request) {
		protocol.JSON(w, 200, protocol.About{Protocol: 1, Kind: "console", Name: "Lantern console"})
	})
	h.HandleFunc("GET /state", func(w http.ResponseWriter, r *http.Request) { protocol.JSON(w, 200, c.State()) })
	h.HandleFunc("POST /control", func(w http.ResponseWriter, r *http.Request) {
		var x protocol.Control
		err := protocol.Body(r, &x)
		st := c.State()
		if err == nil {
			st, err = c.Do(x)
		}
		if err != nil {
			protocol.Fail(w, 400, "%v", err)
			return
		}
		protocol.JSON(w, 200, st)
	})
	h.HandleFunc("GET /offers", func(w http.ResponseWriter, r *http.Request) {
		f := c.State().Frame
		out := []protocol.Offer{}
		for _, x := range frameOf(f).files() {
			out = append(out, protocol.Offer{ID: fmt.Sprintf("f%d/%s", f, x.name), Kind: x.kind, Name: x.name, Size: int64(len(x.data)), About: x.about, Group: fmt.Sprintf("frame %d", f),
				Terms: &protocol.Terms{Owner: "Sedgewater Lantern Company", Licence: "for private use", ShareChanged: "no", ShareUnchanged: "no"}})
		}
		protocol.JSON(w, 200, out)
	})
	h.HandleFunc("GET /offers/{id...}", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		frame, name, _ := strings.Cut(id, "/")
		n, err := strconv.Atoi(strings.TrimPrefix(frame, "f"))
		if err == nil && n >= 0 && n < mostFrames {
			for _, x := range frameOf(n).files() {
				if x.name == name {
					protocol.Bytes(w, r, x.data)
					return
				}
			}
		}
		protocol.Fail(w, 404, "there is nothing named %q", id)
	})
	return h
}
