// Package api serves the contract in api/openapi.yaml, and the interface.
package api

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net"
	"net/url"
	"path"
	"strings"
	"time"

	"excavate/internal/project"

	"github.com/gofiber/fiber/v3"
)

// Limits of a request.
const (
	maxBody       = 4 << 20  // of JSON bodies; uploads are streamed
	maxUploadList = 64 << 20 // of the list of a folder's files
	maxHeader     = 64 << 10 // open folders of a tree are named in the address
)

// Server answers requests.
type Server struct {
	svc *project.Service
	web fs.FS // the built interface
	app *fiber.App
}

// New makes the server. web holds the built interface.
func New(svc *project.Service, web fs.FS) *Server {
	s := &Server{svc: svc, web: web}
	s.app = fiber.New(fiber.Config{
		AppName: "Excavate", BodyLimit: maxBody, StreamRequestBody: true, ReadBufferSize: maxHeader,
		ReadTimeout: 10 * time.Minute, IdleTimeout: 2 * time.Minute,
		ErrorHandler: fail,
	})
	s.app.Use(drain, guard)
	RegisterHandlers(s.app, s)
	s.app.Get("/*", s.page)
	return s
}

// Serve answers on a listener until Shutdown.
func (s *Server) Serve(l net.Listener) error {
	return s.app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true})
}

// Shutdown ends all requests; streams are cut after a second.
func (s *Server) Shutdown() error { return s.app.ShutdownWithTimeout(time.Second) }

// fail writes every error as the contract's Error.
func fail(c fiber.Ctx, err error) error {
	status, e := fiber.StatusInternalServerError, Error{Message: err.Error()}
	var ue *project.UserError
	var fe *fiber.Error
	switch {
	case errors.As(err, &ue):
		status = ue.Status
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

// guard refuses requests that other pages make in the user's name, and sets
// the headers that keep a page to itself.
func guard(c fiber.Ctx) error {
	if !localHost(c.Host()) {
		return c.Status(fiber.StatusForbidden).JSON(Error{Message: fmt.Sprintf("this server answers on loopback names only, not as %q", c.Host())})
	}
	if c.Method() != fiber.MethodGet && c.Method() != fiber.MethodHead {
		if o := c.Get("Origin"); o != "" {
			u, err := url.Parse(o)
			if err != nil || u.Host != c.Host() {
				return c.Status(fiber.StatusForbidden).JSON(Error{Message: fmt.Sprintf("the request comes from another page, %q", o)})
			}
		} else if site := c.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
			return c.Status(fiber.StatusForbidden).JSON(Error{Message: "the request comes from another page"})
		}
	}
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("X-Frame-Options", "DENY")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
	c.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; connect-src 'self' blob: data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'")
	return c.Next()
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
