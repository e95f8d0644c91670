// Package device speaks to live outside systems: it lists what one offers and
// fetches it, and goes on where a connection broke. The protocol is described
// in standin/PROTOCOL.md.
package device

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"excavate/core/terms"
)

// About is what a device says of itself.
type About struct {
	Protocol int    `json:"protocol"`
	Kind     string `json:"kind"` // console, exchange
	Name     string `json:"name"`
	SignIn   bool   `json:"signIn"`
}

// Offer is one thing that can be fetched.
type Offer struct {
	ID    string       `json:"id"`
	Kind  string       `json:"kind"`
	Name  string       `json:"name"` // a path below the folder of its group
	Size  int64        `json:"size"` // bytes
	About string       `json:"about"`
	Group string       `json:"group"`
	Thumb bool         `json:"thumb"`
	Terms *terms.Terms `json:"terms,omitempty"`
}

// State of a console.
type State struct {
	Frame           int     `json:"frame"`
	Running         bool    `json:"running"`
	FramesPerSecond float64 `json:"framesPerSecond"`
}

// Client speaks to one device. It is safe for concurrent use.
type Client struct {
	base  string
	token string
	http  *http.Client

	mu  sync.Mutex
	key string
}

const (
	mostJSON   = 16 << 20
	mostOffers = 100_000
	// MostBytes is how large one offer may be.
	MostBytes = 1 << 40
	idle      = 20 * time.Second // without a byte
	tries     = 4                // of one fetch without any progress
)

// New readies a client for an address such as http://127.0.0.1:7801. allowed
// names hosts besides loopback.
func New(address, token string, allowed []string) (*Client, error) {
	if !strings.Contains(address, "://") {
		address = "http://" + address
	}
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil, fmt.Errorf("%q is not the address of a device, such as http://127.0.0.1:7801", address)
	}
	host := u.Hostname()
	ip := net.ParseIP(host)
	if host != "localhost" && (ip == nil || !ip.IsLoopback()) && !slices.Contains(allowed, host) {
		return nil, fmt.Errorf("%s is not on this machine; start Excavate with --device %s to allow it", host, host)
	}
	base := u.Scheme + "://" + u.Host
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	return &Client{base: base, token: token, http: &http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, ResponseHeaderTimeout: idle, MaxIdleConnsPerHost: 2, IdleConnTimeout: 30 * time.Second},
		// A device must not send us elsewhere.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}, nil
}

// Address is where the device is.
func (c *Client) Address() string { return c.base }

// Refused is an answer of a device that is no success.
type Refused struct {
	Status  int
	Message string
}

func (r *Refused) Error() string {
	if r.Message == "" {
		return fmt.Sprintf("the device answers with status %d", r.Status)
	}
	return fmt.Sprintf("the device says: %s (%d)", r.Message, r.Status)
}

func (c *Client) do(ctx context.Context, method, path string, body any, set func(http.Header)) (*http.Response, error) {
	for again := true; ; again = false {
		var r io.Reader
		if body != nil {
			b, err := json.Marshal(body)
			if err != nil {
				return nil, err
			}
			r = bytes.NewReader(b)
		}
		req, err := http.NewRequestWithContext(ctx, method, c.base+path, r)
		if err != nil {
			return nil, err
		}
		c.mu.Lock()
		key := c.key
		c.mu.Unlock()
		if key != "" {
			req.Header.Set("Authorization", "Bearer "+key)
		}
		if set != nil {
			set(req.Header)
		}
		res, err := c.http.Do(req)
		if err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, fmt.Errorf("the device at %s does not answer: %w", c.base, errors.Unwrap(err))
		}
		if res.StatusCode < 300 {
			return res, nil
		}
		var e struct{ Message string }
		json.NewDecoder(io.LimitReader(res.Body, 64<<10)).Decode(&e)
		res.Body.Close()
		if res.StatusCode == 401 && again && c.token != "" && path != "/session" { // the key is old: sign in again
			if err := c.signIn(ctx); err != nil {
				return nil, err
			}
			continue
		}
		return nil, &Refused{res.StatusCode, e.Message}
	}
}

func (c *Client) json(ctx context.Context, method, path string, body, out any) error {
	ctx, cancel := context.WithTimeout(ctx, idle)
	defer cancel()
	res, err := c.do(ctx, method, path, body, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if err := json.NewDecoder(io.LimitReader(res.Body, mostJSON)).Decode(out); err != nil {
		return fmt.Errorf("the device at %s answers %s with something else than its protocol says: %w", c.base, path, err)
	}
	return nil
}

// About asks a device who it is, and signs in where it wants that.
func (c *Client) About(ctx context.Context) (About, error) {
	var a About
	if err := c.json(ctx, "GET", "/device", nil, &a); err != nil {
		return a, err
	}
	if a.Protocol != 1 || a.Kind == "" {
		return a, fmt.Errorf("what answers at %s is no device that this version knows (protocol %d)", c.base, a.Protocol)
	}
	if a.SignIn {
		return a, c.signIn(ctx)
	}
	return a, nil
}

func (c *Client) signIn(ctx context.Context) error {
	if c.token == "" {
		return fmt.Errorf("the device at %s wants a token to sign in", c.base)
	}
	c.mu.Lock()
	c.key = ""
	c.mu.Unlock()
	var k struct{ Key string }
	if err := c.json(ctx, "POST", "/session", map[string]string{"token": c.token}, &k); err != nil {
		return err
	}
	c.mu.Lock()
	c.key = k.Key
	c.mu.Unlock()
	return nil
}

// Offers lists what can be fetched. Names that leave their folder are refused.
func (c *Client) Offers(ctx context.Context) ([]Offer, error) {
	var list []Offer
	if err := c.json(ctx, "GET", "/offers", nil, &list); err != nil {
		return nil, err
	}
	if len(list) > mostOffers {
		return nil, fmt.Errorf("the device offers %d things, at most %d are taken", len(list), mostOffers)
	}
	for i, o := range list {
		if o.ID == "" || !filepath.IsLocal(filepath.FromSlash(o.Name)) || strings.ContainsAny(o.Name, "\\\x00") || o.Size < 0 || o.Size > MostBytes {
			return nil, fmt.Errorf("offer %d of the device has no usable name or size: %.80q", i+1, o.Name)
		}
		if o.Terms != nil && o.Terms.Check() != nil {
			list[i].Terms = nil
		}
	}
	return list, nil
}

// State asks a console which frame it shows.
func (c *Client) State(ctx context.Context) (s State, err error) {
	return s, c.json(ctx, "GET", "/state", nil, &s)
}

// Control pauses, runs or steps a console.
func (c *Client) Control(ctx context.Context, do string, frames int) (s State, err error) {
	return s, c.json(ctx, "POST", "/control", map[string]any{"do": do, "frames": frames}, &s)
}

// Thumb fetches an offer's small picture.
func (c *Client) Thumb(ctx context.Context, id string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, idle)
	defer cancel()
	res, err := c.do(ctx, "GET", "/offers/"+escape(id)+"/thumb", nil, nil)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(io.LimitReader(res.Body, 1<<20))
}

func escape(id string) string { return (&url.URL{Path: id}).EscapedPath() }

// Fetch writes an offer to a file. It is written aside, to name.part, and
// renamed once it is whole; a part that is there is gone on with if the
// offer is still the same. progress gets the bytes of the file so far.
func (c *Client) Fetch(ctx context.Context, o Offer, name string, progress func(done int64)) error {
	if st, err := os.Stat(name); err == nil && st.Size() == o.Size {
		progress(o.Size)
		return nil
	}
	part, tag := name+".part", name+".tag"
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer f.Close()
	at, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	for failed := 0; ; {
		was := at
		at, err = c.fetchFrom(ctx, o, f, at, tag, progress)
		if err == nil {
			break
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var r *Refused
		if errors.As(err, &r) && r.Status < 500 || errors.As(err, new(*os.PathError)) {
			return fmt.Errorf("%s: %w", o.Name, err)
		}
		if at > was {
			failed = 0
		}
		if failed++; failed >= tries {
			return fmt.Errorf("%s: %d of %d bytes arrived; pull it in again to go on: %w", o.Name, at, o.Size, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(failed) * 150 * time.Millisecond):
		}
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	os.Remove(tag)
	return os.Rename(part, name)
}

func (c *Client) fetchFrom(ctx context.Context, o Offer, f *os.File, at int64, tagFile string, progress func(int64)) (int64, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	tag, _ := os.ReadFile(tagFile)
	if len(tag) == 0 || at > o.Size {
		at = 0
	}
	res, err := c.do(ctx, "GET", "/offers/"+escape(o.ID), nil, func(h http.Header) {
		if at > 0 { // RFC 9110, sections 13.1.5 and 14.2
			h.Set("Range", fmt.Sprintf("bytes=%d-", at))
			h.Set("If-Range", string(tag))
		}
	})
	if err != nil {
		return at, err
	}
	defer res.Body.Close()
	if at > 0 && res.StatusCode != http.StatusPartialContent {
		at = 0 // it is another one by now: from the start
	}
	if err := f.Truncate(at); err != nil {
		return at, err
	}
	if _, err := f.Seek(at, io.SeekStart); err != nil {
		return at, err
	}
	if t := res.Header.Get("ETag"); t != "" && !strings.HasPrefix(t, "W/") {
		if err := os.WriteFile(tagFile, []byte(t), 0o644); err != nil {
			return at, err
		}
	} else {
		os.Remove(tagFile)
	}
	watch := time.AfterFunc(idle, cancel) // a device that falls silent
	defer watch.Stop()
	buf := make([]byte, 64<<10)
	for {
		n, err := res.Body.Read(buf)
		watch.Reset(idle)
		if n > 0 {
			if at+int64(n) > o.Size {
				return at, &Refused{200, fmt.Sprintf("%s has more than the %d bytes that were offered", o.Name, o.Size)}
			}
			if _, err := f.Write(buf[:n]); err != nil {
				return at, err
			}
			at += int64(n)
			progress(at)
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return at, err
		}
	}
	if at != o.Size {
		return at, io.ErrUnexpectedEOF
	}
	return at, nil
}
