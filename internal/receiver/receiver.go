// Package receiver speaks to what stands on the far side: programs that take a
// delivery, import it and say what became of it. The protocol is described in
// standin/PROTOCOL.md.
package receiver

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
	"slices"
	"strings"
	"time"

	"excavate/core/target"
)

// About is what a receiver says of itself.
type About struct {
	Protocol int      `json:"protocol"`
	Kind     string   `json:"kind"`
	Name     string   `json:"name"`
	Targets  []string `json:"targets"`
	Checks   []string `json:"checks"`
}

// Report is what it says of a delivery.
type Report struct {
	Target    string         `json:"target"`
	Model     string         `json:"model"`
	Log       []target.Heard `json:"log"`
	Materials []struct {
		Name  string `json:"name"`
		State string `json:"state"`
	} `json:"materials"`
	Skeleton string          `json:"skeleton"`
	Walk     json.RawMessage `json:"walk,omitempty"`
}

const (
	mostJSON    = 32 << 20
	mostPicture = 16 << 20
	silence     = 60 * time.Second // without an answer once all was sent
)

// Client speaks to one receiver.
type Client struct {
	base string
	http *http.Client
}

// New readies a client for an address on this machine, or on one of the hosts
// that are allowed.
func New(address string, allowed []string) (*Client, error) {
	if !strings.Contains(address, "://") {
		address = "http://" + address
	}
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil, fmt.Errorf("%q is not the address of a receiver, such as http://127.0.0.1:7803", address)
	}
	ip := net.ParseIP(u.Hostname())
	if u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) && !slices.Contains(allowed, u.Hostname()) {
		return nil, fmt.Errorf("%s is not on this machine; start Excavate with --device %s to allow it",
			u.Hostname(), u.Hostname())
	}
	dialer := &net.Dialer{Timeout: 3 * time.Second}
	return &Client{base: u.Scheme + "://" + u.Host, http: &http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, ResponseHeaderTimeout: silence,
			IdleConnTimeout: 30 * time.Second},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}, nil
}

// Address is where the receiver is.
func (c *Client) Address() string { return c.base }

// About asks who it is.
func (c *Client) About(ctx context.Context) (a About, err error) {
	q, err := http.NewRequestWithContext(ctx, "GET", c.base+"/receiver", nil)
	if err != nil {
		return a, err
	}
	if err := c.answer(q, &a); err != nil {
		return a, err
	}
	if a.Protocol != 1 {
		return a, fmt.Errorf("the receiver speaks protocol %d; this Excavate knows 1", a.Protocol)
	}
	return a, nil
}

// Send sends a package, and the line that the target's search path needs; sent
// is told the bytes that went so far.
func (c *Client) Send(ctx context.Context, sheet string, zip []byte, search string, sent func(int64)) (*Report, error) {
	v := url.Values{"target": {sheet}}
	if search != "" {
		v.Set("search", search)
	}
	q, err := http.NewRequestWithContext(ctx, "POST", c.base+"/deliveries?"+v.Encode(),
		&counted{r: bytes.NewReader(zip), sent: sent})
	if err != nil {
		return nil, err
	}
	q.ContentLength = int64(len(zip))
	q.Header.Set("Content-Type", "application/zip")
	r := &Report{}
	if err := c.answer(q, r); err != nil {
		return nil, err
	}
	return r, nil
}

// Update lets a receiver write its own folders anew, as its updates do, and
// gives the files that are there afterwards.
func (c *Client) Update(ctx context.Context) (left []string, err error) {
	q, err := http.NewRequestWithContext(ctx, "POST", c.base+"/update", nil)
	if err != nil {
		return nil, err
	}
	var out struct{ Left []string }
	err = c.answer(q, &out)
	return out.Left, err
}

// counted tells how much was read.
type counted struct {
	r    io.Reader
	n    int64
	sent func(int64)
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.n += int64(n); c.sent != nil {
		c.sent(c.n)
	}
	return n, err
}

// Seen is a picture of what arrived.
func (c *Client) Seen(ctx context.Context) ([]byte, error) {
	q, err := http.NewRequestWithContext(ctx, "GET", c.base+"/seen?width=720&height=480", nil)
	if err != nil {
		return nil, err
	}
	r, err := c.http.Do(q)
	if err != nil {
		return nil, unreachable(err)
	}
	defer r.Body.Close()
	if r.StatusCode != 200 {
		return nil, refused(r)
	}
	return io.ReadAll(io.LimitReader(r.Body, mostPicture))
}

func (c *Client) answer(q *http.Request, v any) error {
	r, err := c.http.Do(q)
	if err != nil {
		return unreachable(err)
	}
	defer r.Body.Close()
	if r.StatusCode != 200 {
		return refused(r)
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, mostJSON)).Decode(v); err != nil {
		return fmt.Errorf("the receiver's answer cannot be read: %w", err)
	}
	return nil
}

// unreachable says that nothing arrived.
func unreachable(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	return fmt.Errorf("the receiver is not there, or broke off: %w. Nothing was delivered", err)
}

func refused(r *http.Response) error {
	var m struct{ Message string }
	json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&m)
	if m.Message == "" {
		m.Message = r.Status
	}
	return fmt.Errorf("the receiver refuses the delivery: %s (%d)", m.Message, r.StatusCode)
}
