// Package protocol is what the simulated devices have in common: the types of
// their protocol and the answers to its requests. PROTOCOL.md describes it.
package protocol

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// About is the answer to GET /device.
type About struct {
	Protocol int    `json:"protocol"`
	Kind     string `json:"kind"`
	Name     string `json:"name"`
	SignIn   bool   `json:"signIn"`
}

// Terms of an offer; answers are yes, no or empty.
type Terms struct {
	Owner          string `json:"owner,omitempty"`
	Licence        string `json:"licence,omitempty"`
	ShareChanged   string `json:"shareChanged,omitempty"`
	ShareUnchanged string `json:"shareUnchanged,omitempty"`
	Sell           string `json:"sell,omitempty"`
}

// Offer is one thing that can be fetched.
type Offer struct {
	ID    string `json:"id"`
	Kind  string `json:"kind"` // picture, segment, geometry, avatar
	Name  string `json:"name"`
	Size  int64  `json:"size"`
	About string `json:"about"`
	Group string `json:"group"`
	Thumb bool   `json:"thumb"`
	Terms *Terms `json:"terms,omitempty"`
}

// State of a console.
type State struct {
	Frame           int     `json:"frame"`
	Running         bool    `json:"running"`
	FramesPerSecond float64 `json:"framesPerSecond"`
}

// Control is a command to a console.
type Control struct {
	Do     string `json:"do"`
	Frames int    `json:"frames"`
}

// JSON answers with a value.
func JSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

// Fail answers with an error.
func Fail(w http.ResponseWriter, status int, format string, a ...any) {
	JSON(w, status, map[string]string{"message": fmt.Sprintf(format, a...)})
}

// Body reads a small JSON body.
func Body(r *http.Request, v any) error {
	return json.NewDecoder(http.MaxBytesReader(nil, r.Body, 64<<10)).Decode(v)
}

// Bytes answers with an offer's bytes, or the range of them that is asked for.
func Bytes(w http.ResponseWriter, r *http.Request, b []byte) {
	sum := sha256.Sum256(b)
	w.Header().Set("ETag", `"`+hex.EncodeToString(sum[:12])+`"`)
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(b))
}

// Main runs a device as a program: on loopback, until it is told to stop or
// the program that started it is gone.
func Main(name string, port int, handler http.Handler) {
	p := flag.Int("port", port, "the port on loopback; 0 is any")
	flag.Parse()
	if err := serve(name, *p, handler); err != nil {
		fmt.Fprintln(os.Stderr, name+":", err)
		os.Exit(1)
	}
}

func serve(name string, port int, handler http.Handler) error {
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return err
	}
	fmt.Printf("%s listens on http://%s\n", name, l.Addr())
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	s := &http.Server{Handler: LocalOnly(handler), ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		s.Close()
	}()
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// LocalOnly refuses requests that a web page makes, or that were sent to
// another name than a loopback one.
func LocalOnly(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = r.Host
		}
		ip := net.ParseIP(strings.Trim(host, "[]"))
		if r.Header.Get("Origin") != "" || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			Fail(w, 403, "this device answers programs on this machine only")
			return
		}
		h.ServeHTTP(w, r)
	})
}
