package host

import (
	"context"
	"errors"
	"io"
	"net/netip"
	"os"

	"verbund/internal/unit"
)

// ours is a simulated machine as a program of ours sees it.
type ours struct{ *Env }

// Ours is the machine of a program, as those see it that run on machines of every kind.
func Ours(e *Env) unit.Machine { return ours{e} }

func (o ours) ReadFile(p string) ([]byte, error) { return o.Host.ReadFile(p) }
func (o ours) Path(p string) string              { return o.Host.Path(p) }
func (o ours) Remove(p string) error             { return os.Remove(o.Host.Path(p)) }
func (o ours) Ready()                            { o.Env.Ready() }

func (o ours) Write(p string, r io.Reader, size int64) error {
	return o.Host.writeFrom(p, r, size, 0o600)
}

func (o ours) Carry(_ context.Context, a netip.Addr) (func(), error) { return o.Host.Carry(a), nil }

// ExitOf gives an error of a program of ours the exit code that its process would have.
func ExitOf(err error) error {
	if errors.Is(err, unit.ErrUsage) {
		return &ExitError{2, err}
	}
	return err
}

// Own is a program of ours on a simulated machine.
func Own(p unit.Program) Program {
	return func(ctx context.Context, e *Env) error { return ExitOf(p(ctx, Ours(e), e.Args)) }
}
