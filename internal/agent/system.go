package agent

import (
	"context"
	"io"
	"io/fs"
	"net"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"verbund/internal/machine/protocol"
)

// System is the machine below an agent.
type System interface {
	// Path is where a path of the machine lies for this process. Nothing leads out of the
	// machine.
	Path(p string) string
	// Facts say what the machine is. What lies in its slots, and who else is changing it, is
	// found by the agent.
	Facts(ctx context.Context) (*protocol.FactsReply, error)
	// Rights are empty when the login may do everything, and otherwise say what it may.
	Rights() string
	// Write puts a file of so many bytes in its place, whole or not at all, with the folders
	// that it needs. A full disk is syscall.ENOSPC.
	Write(p string, r io.Reader, size int64, mode fs.FileMode) error
	// Written applies files that were changed, or taken away, to what reads them only when
	// it is told to: users, the clock's zone, settings of the kernel.
	Written(ctx context.Context, changed []string) error
	// Version is that of a component in a slot, by its path.
	Version(p string) (string, error)
	// Resolve finds an address of a name, as the machine's programs would.
	Resolve(ctx context.Context, name string) error
	Dial(ctx context.Context, network, addr string) (net.Conn, error)
	// Ask says a line to a local socket, and returns what is answered.
	Ask(ctx context.Context, socket, line string) (string, error)
	// Artefact finds an artefact, as NAME@DIGEST, in a registry; nothing of it is fetched yet.
	Artefact(ctx context.Context, registry, ref string) (v1.Image, error)

	// Units lists the units that lie in a slot, and nobody else's.
	Units(ctx context.Context) ([]protocol.UnitState, error)
	// Start returns when a unit is active; when it fails, or ends once before that, with an
	// error that says how.
	Start(ctx context.Context, unit string) error
	// Stop returns when nothing of a unit runs any more.
	Stop(ctx context.Context, unit string) error
	Reload(ctx context.Context, unit string) error
	// Linked makes the units of the slot that is active now known, and enables them. Those
	// that are not there any more are disabled and forgotten; they are not stopped.
	Linked(ctx context.Context) error
	// Log is the end of what a unit, or without a unit the machine, has written.
	Log(ctx context.Context, unit string, lines int) ([]string, error)
	// Note writes a line to the machine's own log.
	Note(format string, args ...any)
	// Wipe stops what is ours and takes away what we brought, and what it wrote.
	Wipe(ctx context.Context) error
	// Restart restarts the machine; it returns at once.
	Restart()
}
