// Package serve holds what every server of a simulated site keeps to, as the real ones do:
// how long it waits for somebody who says nothing or is slow to say it, how much it reads
// before it knows what it is about, and which cryptography it speaks.
package serve

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"time"
)

// Limits of servers. Those of HTTP are Kubernetes' own.
const (
	headers = 32 * time.Second // to say what a request is
	idle    = 90 * time.Second // between two requests
	Login   = 2 * time.Minute  // to log in, as OpenSSH's LoginGraceTime
	Hello   = 10 * time.Second // to say the first line of a stream
)

// HTTP is a server with time limits that says nothing to anybody's terminal.
func HTTP(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: headers, IdleTimeout: idle, ErrorLog: log.New(io.Discard, "", 0)}
}

// Suites finds cipher suites of TLS 1.2 by their names, as components are told them;
// without names those count that a client of Go would choose. One that is not known, or
// known to be weak, is an error, as it is for a component.
func Suites(names []string) ([]uint16, error) {
	var out []uint16
	for _, n := range names {
		id := uint16(0)
		for _, s := range tls.CipherSuites() {
			if s.Name == n {
				id = s.ID
			}
		}
		if id == 0 {
			return nil, fmt.Errorf("cipher suite %s is not supported, or insecure", n)
		}
		out = append(out, id)
	}
	return out, nil
}

// ErrLong is a line that has no end where it should have one.
var ErrLong = errors.New("a line that is too long")

// Line reads a line of at most so many bytes, without its end.
func Line(r *bufio.Reader, most int) (string, error) {
	var b strings.Builder
	for b.Len() <= most {
		c, err := r.ReadByte()
		if err != nil {
			return b.String(), err
		}
		if c == '\n' {
			return b.String(), nil
		}
		b.WriteByte(c)
	}
	return "", ErrLong
}

// Quiet closes a connection from which nothing has come for so long.
func Quiet(c net.Conn, after time.Duration) net.Conn {
	if after <= 0 {
		return c
	}
	return &quiet{c, after}
}

type quiet struct {
	net.Conn
	after time.Duration
}

func (q *quiet) Read(b []byte) (int, error) {
	if err := q.SetReadDeadline(time.Now().Add(q.after)); err != nil {
		return 0, err
	}
	return q.Conn.Read(b)
}

// CloseWrite ends one direction, where the connection can.
func (q *quiet) CloseWrite() error {
	if c, ok := q.Conn.(interface{ CloseWrite() error }); ok {
		return c.CloseWrite()
	}
	return q.Close()
}
