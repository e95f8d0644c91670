//go:build !linux

package mariadb

import (
	"context"
	"errors"
)

// Server is a server that this system cannot run here.
type Server struct{}

// Start says what is needed instead: a private server is run on Linux only.
func Start(context.Context, string, func(string, ...any)) (*Server, error) {
	return nil, errors.New("on this system Excavate starts no database of its own: " +
		"give the one that it may use with --database user:password@tcp(127.0.0.1:3306)/name?parseTime=true")
}

// DSN names a database of the server.
func (*Server) DSN(string) string { return "" }

// Close does nothing.
func (*Server) Close() error { return nil }
