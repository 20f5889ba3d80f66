package machine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"verbund/internal/machine/protocol"
)

// Where a machine has its agent: the program itself, what its digest was when it was
// brought, and how the SSH server is told of it.
const (
	agentDir     = "/opt/verbund/agent"
	agentProgram = agentDir + "/verbund"
	agentConfig  = "/etc/ssh/sshd_config.d/verbund-agent.conf"
)

// ErrNoAgent says that a machine has no agent of ours yet.
var ErrNoAgent = errors.New("it has no agent of Verbund yet; converge brings it")

// program is this very program with its digest: it is its machines' agent, too.
var program = sync.OnceValues(func() (string, error) {
	f, err := os.Open(own)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
})

const own = "/proc/self/exe"

// bring makes sure that a machine has this program as its agent; brought says whether it had
// not. What arrived has to have the digest of what was sent. The SSH server takes the agent up
// for logins from then on.
func bring(ctx context.Context, t Target, cl *ssh.Client) (brought bool, err error) {
	name := t.Name
	digest, err := program()
	if err != nil {
		return false, fmt.Errorf("reading this program, to bring it to %s: %w", name, err)
	}
	has, err := run(ctx, cl, "cat "+agentDir+"/digest 2>/dev/null || true", nil)
	if err != nil {
		return false, fmt.Errorf("asking %s for its agent: %w", name, err)
	}
	if strings.TrimSpace(has) == digest {
		return false, nil
	}
	f, err := os.Open(own)
	if err != nil {
		return false, err
	}
	defer f.Close()
	came, err := run(ctx, cl, t.command("set -e; umask 022; mkdir -p "+agentDir+"; cat > "+agentDir+"/new; sha256sum < "+agentDir+"/new"), f)
	if err != nil {
		return false, fmt.Errorf("bringing the agent to %s: %w", name, err)
	}
	if got, _, _ := strings.Cut(strings.TrimSpace(came), " "); got != digest {
		return false, fmt.Errorf("bringing the agent to %s: what arrived has the digest %s, and what was sent %s; it is not used", name, got, digest)
	}
	_, err = run(ctx, cl, t.command(fmt.Sprintf("set -e; chmod 755 %[1]s/new; printf '%%s\\n' '# Verbund talks to this machine by it' 'Subsystem %[2]s %[1]s/verbund %[3]s' > %[4]s; sshd -t; mv %[1]s/new %[1]s/verbund; echo %[5]s > %[1]s/digest; systemctl reload ssh.service",
		agentDir, protocol.Subsystem, protocol.AgentArg, agentConfig, digest)), nil)
	if err != nil {
		return false, fmt.Errorf("setting the agent of %s up: %w", name, err)
	}
	return true, nil
}

// run runs a shell command on a machine and returns what it wrote.
func run(ctx context.Context, cl *ssh.Client, command string, in io.Reader) (string, error) {
	s, err := cl.NewSession()
	if err != nil {
		return "", err
	}
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	defer s.Close()
	var out, said bytes.Buffer
	s.Stdin, s.Stdout, s.Stderr = in, &out, &said
	if err := s.Run(command); err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return "", fmt.Errorf("%w: %s", err, strings.TrimSpace(said.String()))
	}
	return out.String(), nil
}
