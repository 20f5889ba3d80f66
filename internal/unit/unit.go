package unit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
)

// Machine is the machine on which a program runs.
type Machine interface {
	ReadFile(p string) ([]byte, error)
	// Write writes a file of a size, in bytes, that nobody but the system's own user may read,
	// whole or not at all; its folder is made.
	Write(p string, r io.Reader, size int64) error
	Remove(p string) error
	// Path is where a path of the machine lies for this process.
	Path(p string) string
	Dial(ctx context.Context, network, addr string) (net.Conn, error)
	Listen(addr string) (net.Listener, error)
	// Carry gives the machine a further address until it is let go, or the program ends.
	Carry(ctx context.Context, a netip.Addr) (letGo func(), err error)
	Logf(format string, args ...any)
	// Ready tells the service manager that the program serves.
	Ready()
}

// Program is one of ours. It returns when ctx ends, or when it cannot go on.
type Program func(ctx context.Context, m Machine, args []string) error

// ErrUsage is what a program was told and cannot be.
var ErrUsage = errors.New("wrong use")

// Usage says what is wrong with what a program was told.
func Usage(err error) error { return fmt.Errorf("%w: %w", ErrUsage, err) }

// Splice passes two connections' streams on to each other until both have ended.
func Splice(a, b net.Conn) {
	var wg sync.WaitGroup
	half := func(dst, src net.Conn) {
		defer wg.Done()
		io.Copy(dst, src)
		if cw, ok := dst.(interface{ CloseWrite() error }); ok {
			cw.CloseWrite()
		} else {
			dst.Close()
		}
	}
	wg.Add(2)
	go half(a, b)
	go half(b, a)
	wg.Wait()
	a.Close()
	b.Close()
}
