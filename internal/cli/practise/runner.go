package practise

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"verbund/internal/cli/desk"
)

// runner runs commands of the tool as processes of their own, which can be killed.
type runner struct {
	a       *desk.App
	cluster string
}

// unasked are commands that ask nothing.
var unasked = []string{"prove", "backup take"}

const (
	most    = 1 << 16 // how much of what a command says is kept, in bytes
	longest = 1 << 24 // how long an entry of its journal may be, in bytes
)

// Run runs one command to its end, or kills it after so many entries of its journal.
func (r *runner) Run(ctx context.Context, args []string, killed int) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	path, err := r.a.FindDeclaration()
	if err != nil {
		return err
	}
	args = append(slices.Clone(args), "--file", filepath.Base(path), "--output", "json")
	if r.a.Unlock != "" {
		args = append(args, "--unlock", r.a.Unlock)
	}
	line := strings.Join(args, " ")
	if !slices.ContainsFunc(unasked, func(u string) bool { return strings.HasPrefix(line, u) }) {
		args = append(args, "--yes", "--confirm", r.cluster)
	}
	c := exec.CommandContext(ctx, self, args...)
	c.Dir = filepath.Dir(path)
	if r.a.KeyDir != "" {
		c.Env = append(os.Environ(), "VERBUND_KEYS="+r.a.KeyDir)
	}
	c.Cancel = func() error { return c.Process.Signal(syscall.SIGINT) }
	c.WaitDelay = time.Minute // for the steps that run to end
	var said bytes.Buffer
	c.Stderr = &bounded{&said}
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	n := 0
	lines := bufio.NewScanner(out)
	for lines.Buffer(nil, longest); lines.Scan(); {
		if n++; n == killed {
			c.Process.Kill()
		}
	}
	err = c.Wait()
	switch {
	case killed > 0 && n < killed && err == nil:
		return fmt.Errorf("verbund %s ended after %d entries of its journal, before it was to be killed", args[0], n)
	case killed > 0 && n >= killed, err == nil:
		return nil
	}
	var x *exec.ExitError
	if errors.As(err, &x) {
		last := strings.Split(strings.TrimSpace(said.String()), "\n")
		return fmt.Errorf("exit code %d: %s", x.ExitCode(), strings.Join(last[max(0, len(last)-3):], "; "))
	}
	return err
}

// bounded keeps the end of what is written: what a command says last is why it ended.
type bounded struct{ *bytes.Buffer }

func (b *bounded) Write(p []byte) (int, error) {
	b.Buffer.Write(p)
	b.Next(max(0, b.Len()-most))
	return len(p), nil
}
