package systemd

import (
	"context"
	"errors"
	"io"

	"verbund/internal/agent"
	"verbund/internal/machine/protocol"
)

// Main serves the agent protocol on standard input and output, if args ask for it.
func Main(args []string, in io.ReadCloser, out io.WriteCloser) (handled bool, err error) {
	if len(args) != 1 || args[0] != protocol.AgentArg {
		return false, nil
	}
	s, err := Open(context.Background())
	if err != nil {
		return true, err
	}
	defer s.Close()
	agent.Serve(streams{in, out}, s)
	return true, nil
}

// streams are a login's two directions.
type streams struct {
	io.ReadCloser
	out io.WriteCloser
}

func (s streams) Write(b []byte) (int, error) { return s.out.Write(b) }
func (s streams) Close() error                { return errors.Join(s.ReadCloser.Close(), s.out.Close()) }
