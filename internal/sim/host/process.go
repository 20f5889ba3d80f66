package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"verbund/internal/agent"
)

// RunsReal are the programs that a simulated machine runs as they are, in processes of their
// own: those that need nothing of a machine but its disk and its address.
var RunsReal = []string{"kube-apiserver", "kube-controller-manager", "kube-scheduler"}

// elf begins every program that Linux itself runs (System V ABI, chapter 4).
var elf = []byte("\x7fELF")

// isProgram says whether a file of the machine is a program and no descriptor.
func (h *Host) isProgram(p string) bool {
	f, err := os.Open(h.Path(p))
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, len(elf))
	_, err = io.ReadFull(f, head)
	return err == nil && bytes.Equal(head, elf)
}

// describeProgram is what a program is called, and its version as it was written beside it
// when it was fetched.
func (h *Host) describeProgram(p string) (Descriptor, error) {
	name := filepath.Base(p)
	if !slices.Contains(RunsReal, name) {
		return Descriptor{}, &ExitError{203, fmt.Errorf("exec %s: a real %s needs a machine that is a real system; of real programs a simulated one runs %s", p, name, strings.Join(RunsReal, ", "))}
	}
	if os.Geteuid() != 0 {
		return Descriptor{}, &ExitError{203, fmt.Errorf("exec %s: a real program has the machine's disk as its root, which only root can give it; run Verbund as root, or use the stand-ins", p)}
	}
	b, err := h.ReadFile(p + agent.OfVersion)
	if err != nil {
		return Descriptor{}, &ExitError{203, fmt.Errorf("exec: %w", err)}
	}
	return Descriptor{StandIn: name, Version: string(b)}, nil
}

// stopPatience is how long a process may take to end when it is told to.
const stopPatience = 30 * time.Second

// process runs a program of the machine's disk as a process, with that disk as its root. When
// its unit stops it is told to end; when the machine loses its power it is ended.
func (h *Host) process(p string, notify bool) Program {
	return func(ctx context.Context, e *Env) error {
		for _, d := range []string{"/tmp", "/run"} {
			if err := os.MkdirAll(h.Path(d), 0o777); err != nil {
				return err
			}
		}
		cmd := exec.Command(p, e.Args...)
		cmd.Dir, cmd.Env = "/", []string{"PATH=/opt/verbund/active/bin", "HOME=/"}
		cmd.Stdout, cmd.Stderr = e.Log, e.Log
		cmd.SysProcAttr = &syscall.SysProcAttr{Chroot: h.Spec.Root, Setsid: true, Pdeathsig: syscall.SIGKILL}
		if notify {
			socket := "/run/" + e.Name + ".notify"
			said, err := h.listenNotify(socket)
			if err != nil {
				return err
			}
			defer said.Close()
			cmd.Env = append(cmd.Env, "NOTIFY_SOCKET="+socket)
			go ready(said, e.Ready)
		}
		started, ended := make(chan error, 1), make(chan error, 1)
		go func() {
			// Whoever is told to die with its parent dies with the thread that started it.
			runtime.LockOSThread()
			defer runtime.UnlockOSThread()
			err := cmd.Start()
			started <- err
			if err == nil {
				ended <- cmd.Wait()
			}
		}()
		if err := <-started; err != nil {
			return &ExitError{203, fmt.Errorf("exec %s: %w", p, err)}
		}
		select {
		case err := <-ended:
			return ofProcess(err)
		case <-ctx.Done():
		}
		if !h.Pulled() {
			cmd.Process.Signal(syscall.SIGTERM)
			t := time.NewTimer(stopPatience)
			defer t.Stop()
			select {
			case err := <-ended:
				return ofProcess(err)
			case <-h.ctx.Done():
			case <-t.C:
				e.Logf("it did not end within %s", stopPatience)
			}
		}
		cmd.Process.Kill()
		return ofProcess(<-ended)
	}
}

// ofProcess is how a process ended, as a shell would say it.
func ofProcess(err error) error {
	var xe *exec.ExitError
	if !errors.As(err, &xe) {
		return err
	}
	code := xe.ExitCode()
	if st, ok := xe.Sys().(syscall.WaitStatus); ok && st.Signaled() {
		code = 128 + int(st.Signal())
	}
	return &ExitError{code, err}
}

// listenNotify opens the socket on which a service says that it is ready (sd_notify(3)).
func (h *Host) listenNotify(p string) (*net.UnixConn, error) {
	d, err := os.Open(filepath.Dir(h.Path(p)))
	if err != nil {
		return nil, err
	}
	defer d.Close() // the socket's path may be longer than one may be
	at := fmt.Sprintf("/proc/self/fd/%d/%s", d.Fd(), filepath.Base(p))
	if err := os.Remove(at); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	return net.ListenUnixgram("unixgram", &net.UnixAddr{Name: at, Net: "unixgram"})
}

// ready waits until a service says that it is ready.
func ready(said *net.UnixConn, tell func()) {
	b := make([]byte, 4096)
	for {
		n, err := said.Read(b)
		if err != nil {
			return
		}
		if slices.Contains(strings.Split(string(b[:n]), "\n"), "READY=1") {
			tell()
			return
		}
	}
}
