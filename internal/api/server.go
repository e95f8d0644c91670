// Package api serves the contract in api/openapi.yaml, and the interface.
package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net"
	"path"
	"runtime/debug"
	"strings"
	"time"

	"excavate/internal/project"
	"excavate/internal/store"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
)

// Limits of a request.
const (
	maxBody       = 4 << 20  // of JSON bodies; uploads are streamed
	maxUploadList = 64 << 20 // of the list of a folder's files
	maxHeader     = 64 << 10 // open folders of a tree are named in the address

	headerTimeout = 10 * time.Second
	bodyTimeout   = 10 * time.Minute
)

// Server answers requests.
type Server struct {
	svc *project.Service
	web fs.FS // the built interface
	app *fiber.App
	log func(string, ...any)
}

// New makes the server. web holds the built interface; log takes what went
// wrong inside.
func New(svc *project.Service, web fs.FS, log func(string, ...any)) (*Server, error) {
	check, err := newChecker(func(ctx context.Context, id int64) error {
		_, err := svc.Projects.Get(ctx, id)
		return err
	})
	if err != nil {
		return nil, err
	}
	s := &Server{svc: svc, web: web, log: log}
	s.app = fiber.New(fiber.Config{
		AppName: "Excavate", BodyLimit: maxBody, StreamRequestBody: true, ReadBufferSize: maxHeader,
		ReadTimeout: headerTimeout, IdleTimeout: 2 * time.Minute,
		ErrorHandler: fail,
	})
	// What has sent its header in time may take longer over its body.
	s.app.Server().HeaderReceived = func(*fasthttp.RequestHeader) fasthttp.RequestConfig {
		return fasthttp.RequestConfig{ReadTimeout: bodyTimeout}
	}
	s.app.Use(s.survive, drain, guard, check.check)
	RegisterHandlers(s.app, s)
	s.app.Get("/*", s.page)
	return s, nil
}

// Serve answers on a listener until Shutdown.
func (s *Server) Serve(l net.Listener) error {
	return s.app.Listener(lingering{l}, fiber.ListenConfig{DisableStartupMessage: true})
}

// Shutdown ends all requests; streams are cut after a second.
func (s *Server) Shutdown() error { return s.app.ShutdownWithTimeout(time.Second) }

// statusOf is what the kinds of errors are as statuses of HTTP.
var statusOf = map[project.Kind]int{
	project.Invalid:     fiber.StatusBadRequest,
	project.Forbidden:   fiber.StatusForbidden,
	project.NotFound:    fiber.StatusNotFound,
	project.Conflict:    fiber.StatusConflict,
	project.TooLarge:    fiber.StatusRequestEntityTooLarge,
	project.Unusable:    fiber.StatusUnprocessableEntity,
	project.Unreachable: fiber.StatusBadGateway,
	project.Busy:        fiber.StatusServiceUnavailable,
	project.Full:        fiber.StatusInsufficientStorage,
}

// refusal is a request that no handler can do anything with.
type refusal struct {
	status int
	msg    string
}

func (r *refusal) Error() string { return r.msg }

func bad(status int, f string, a ...any) error { return &refusal{status, fmt.Sprintf(f, a...)} }

// fail writes every error as the contract's Error.
func fail(c fiber.Ctx, err error) error {
	secure(c)
	status, e := fiber.StatusInternalServerError, Error{Message: err.Error()}
	var own *refusal
	var fe *fiber.Error
	kind, known := project.KindOf(err)
	switch {
	case known:
		status = statusOf[kind]
	case errors.As(err, &own):
		status = own.status
	case store.Transient(err):
		status, e.Message = fiber.StatusServiceUnavailable, "the database does not answer just now; it is being started again"
	case project.IsUnreadable(err):
		status = fiber.StatusUnprocessableEntity
	case errors.As(err, &fe):
		status = fe.Code
		if status == fiber.StatusRequestEntityTooLarge {
			e.Message = fmt.Sprintf("the request has more than %d bytes", maxBody)
		}
	}
	if f := project.NewFailure(err); f.At != "" {
		e.At = &f.At
		if status == fiber.StatusInternalServerError {
			status = fiber.StatusUnprocessableEntity // the file is at fault, with its place
		}
	}
	return c.Status(status).JSON(e)
}

// drain reads what a handler left of a streamed body, up to a bound, and ends
// the connection, so that the rest is not taken for the next request.
func drain(c fiber.Ctx) error {
	err := c.Next()
	if body := c.Request().BodyStream(); body != nil {
		// A chunked body that has ended must not be asked again: it would wait
		// for more. Its connection is only closed.
		if c.Request().Header.ContentLength() > 0 {
			io.Copy(io.Discard, io.LimitReader(body, 4*maxBody))
		}
		c.Response().SetConnectionClose()
	}
	return err
}

// survive turns a panic of a handler into an answer of its own: the process
// goes on, the log has the place under the id that the page shows.
func (s *Server) survive(c fiber.Ctx) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = s.fault(c.Method()+" "+c.OriginalURL(), r)
		}
	}()
	return c.Next()
}

// fault logs a panic and returns the error that tells of it.
func (s *Server) fault(doing string, r any) error {
	var id [6]byte
	rand.Read(id[:])
	s.log("fault %x: %s: %v\n%s", id, doing, r, debug.Stack())
	return bad(500, "a fault in Excavate, number %x; the server's log has the details", id)
}

// secure sets the headers that keep a page to itself.
func secure(c fiber.Ctx) {
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("X-Frame-Options", "DENY")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
	c.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; "+
		"font-src 'self' data:; connect-src 'self' blob: data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
}

// guard refuses requests that other pages make in the user's name, whatever
// their method: a page elsewhere can cause a GET as well. Only a link that is
// followed to a page of the application passes; an address of the API is none.
func guard(c fiber.Ctx) error {
	secure(c)
	refuse := func(status int, f string, a ...any) error {
		return c.Status(status).JSON(Error{Message: fmt.Sprintf(f, a...)})
	}
	h := &c.Request().Header
	if uri := h.RequestURI(); len(uri) == 0 || uri[0] != '/' {
		return refuse(fiber.StatusBadRequest, "the request must name a path of this server, not a whole address")
	}
	if hosts(h.RawHeaders()) > 1 {
		return refuse(fiber.StatusBadRequest, "the request has more than one Host header")
	}
	if !localHost(c.Host()) {
		return refuse(fiber.StatusForbidden, "this server answers on loopback names only, not as %q", c.Host())
	}
	if o := c.Get("Origin"); o != "" && o != "http://"+c.Host() {
		return refuse(fiber.StatusForbidden, "the request comes from another page, %q", o)
	}
	site := c.Get("Sec-Fetch-Site")
	link := c.Method() == fiber.MethodGet && c.Get("Sec-Fetch-Mode") == "navigate" && c.Get("Sec-Fetch-Dest") == "document" && !isAPI(c.Path())
	if site != "" && site != "same-origin" && site != "none" && !link {
		return refuse(fiber.StatusForbidden, "the request comes from another page")
	}
	return c.Next()
}

func isAPI(p string) bool { return p == "/api" || strings.HasPrefix(p, "/api/") }

// hosts counts the Host lines of a header as it came.
func hosts(raw []byte) (n int) {
	for line := range bytes.Lines(raw) {
		if len(line) >= 5 && bytes.EqualFold(line[:5], []byte("host:")) {
			n++
		}
	}
	return n
}

func localHost(hostport string) bool {
	host := hostport
	if h, _, err := net.SplitHostPort(hostport); err == nil {
		host = h
	}
	host = strings.Trim(host, "[]")
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// page serves the built interface; every address that is no file is the
// application itself, so that a state's address can be opened.
func (s *Server) page(c fiber.Ctx) error {
	p := strings.TrimPrefix(path.Clean("/"+c.Path()), "/")
	if strings.HasPrefix(p, "api/") || p == "api" {
		return fiber.NewError(fiber.StatusNotFound, "there is nothing at /"+p)
	}
	b, err := fs.ReadFile(s.web, p)
	if err != nil || p == "" {
		p = "index.html"
		if b, err = fs.ReadFile(s.web, p); err != nil {
			return fiber.NewError(fiber.StatusServiceUnavailable, "the interface is not built; run: make build")
		}
	}
	if t := mime.TypeByExtension(path.Ext(p)); t != "" {
		c.Set("Content-Type", t)
	}
	if strings.HasPrefix(p, "assets/") {
		c.Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		c.Set("Cache-Control", "no-cache")
	}
	return c.Send(b)
}
