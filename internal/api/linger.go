package api

import (
	"io"
	"net"
	"time"
)

// What is still read of a connection that is at its end.
const (
	lingerTime  = 500 * time.Millisecond
	lingerBytes = 4 << 20
)

// lingering hands out connections that end gently. A server that answers before
// it has read all (a header that is too long) and closes makes the system reset
// the connection, and the reset may overtake the answer: the asker then sees a
// broken connection instead of the reason (RFC 9112, section 9.6).
type lingering struct{ net.Listener }

func (l lingering) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if tcp, ok := c.(*net.TCPConn); ok {
		return lingeringConn{tcp}, err
	}
	return c, err
}

// lingeringConn has the methods of a TCPConn, so that files are sent by the system.
type lingeringConn struct{ *net.TCPConn }

// Close ends the answer, reads what the other side is still sending, up to a
// bound, and then ends the connection.
func (c lingeringConn) Close() error {
	if err := c.CloseWrite(); err != nil {
		return c.TCPConn.Close()
	}
	go func() {
		c.SetReadDeadline(time.Now().Add(lingerTime))
		io.CopyN(io.Discard, c.TCPConn, lingerBytes)
		c.TCPConn.Close()
	}()
	return nil
}
