// Package etcdmember runs a real etcd member, from the etcd server library, in
// a process of its own: the library ends its process when a disk write fails,
// and that should cost one machine its datastore, not a whole zone.
package etcdmember

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/pflag"
	"go.etcd.io/etcd/server/v3/embed"
	"sigs.k8s.io/yaml"

	"verbund/internal/sim/host"
	"verbund/internal/unit"
)

// Program starts the member's process and watches over it. child is the
// command line of that process, without the configuration and the disk.
func Program(child []string) host.Program {
	return func(ctx context.Context, e *host.Env) error {
		fs := pflag.NewFlagSet("etcd", pflag.ContinueOnError)
		file := fs.String("config-file", "", "")
		if err := fs.Parse(e.Args); err != nil || *file == "" {
			return &host.ExitError{Code: 2, Err: fmt.Errorf("etcd: flags: %v, --config-file=%q", err, *file)}
		}
		own, err := owned(e, *file)
		if err != nil {
			return err
		}
		for addr, peer := range own {
			if err := relay(e, addr, peer); err != nil {
				return err
			}
		}
		if full, _ := e.Host.Full(); full {
			return &host.ExitError{Code: 1, Err: fmt.Errorf("etcd: writing to its data: %w", syscall.ENOSPC)}
		}
		cmd := exec.Command(child[0], append(append([]string{}, child[1:]...), e.Host.Path(*file), e.Host.Spec.Root, marked+e.Host.Spec.Address.String())...)
		cmd.Env = append(os.Environ(), "GOGC=40", "GOMEMLIMIT=60MiB")
		cmd.Stderr = e.Log
		in, err := cmd.StdinPipe()
		if err != nil {
			return err
		}
		out, err := cmd.StdoutPipe()
		if err != nil {
			return err
		}
		if err := cmd.Start(); err != nil {
			return err
		}
		go stall(ctx, e.Host, cmd.Process)
		go end(ctx, e, cmd.Process)
		ended := make(chan error, 1)
		go func() {
			sc := bufio.NewScanner(out)
			for sc.Scan() {
				if sc.Text() == readyLine {
					e.Logf("serving client traffic")
					e.Ready()
				}
			}
			ended <- cmd.Wait()
		}()
		select {
		case err = <-ended:
		case <-ctx.Done():
			// A pulled plug gives no time to say goodbye.
			if e.Host.Pulled() {
				cmd.Process.Kill()
			} else {
				cmd.Process.Signal(syscall.SIGTERM)
				t := time.AfterFunc(5*time.Second, func() { cmd.Process.Kill() })
				defer t.Stop()
			}
			<-ended
			return nil
		}
		in.Close()
		var xe *exec.ExitError
		if errors.As(err, &xe) {
			return &host.ExitError{Code: xe.ExitCode(), Err: fmt.Errorf("etcd ended: %w", err)}
		}
		return err
	}
}

// behind is how much higher than its declared ports those are at which the member's process
// listens: what comes to the machine's address goes through the machine's own network, as with
// every other service on it.
const behind = 10000

// hidden is where the member's process listens for an address of the machine.
func hidden(addr netip.AddrPort) netip.AddrPort {
	return netip.AddrPortFrom(addr.Addr(), addr.Port()+behind)
}

// relay takes what comes to an address of the machine to the member's process, for as long as
// the member runs. peer says that it is the one at which other members come.
func relay(e *host.Env, addr netip.AddrPort, peer bool) error {
	l, err := e.Listen(addr.String())
	if err != nil {
		return err
	}
	go func() {
		defer e.Catch()
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer e.Catch()
				// It comes from the address of whoever asks: members know each other by it.
				d := net.Dialer{Timeout: time.Second}
				if from, ok := c.RemoteAddr().(*net.TCPAddr); ok {
					d.LocalAddr = &net.TCPAddr{IP: from.IP}
					// Only members come to each other, and from an address that says nothing.
					if peer && from.IP.Equal(net.IPv4(127, 0, 0, 1)) {
						if m := whose(from.AddrPort(), addr); m.IsValid() {
							e.Comes(c, m)
						}
					}
				}
				to, err := d.Dial("tcp", hidden(addr).String())
				if err != nil {
					// As where nobody listens.
					c.Close()
					return
				}
				unit.Splice(c, to)
			}()
		}
	}()
	return nil
}

// end ends the member's process when the machine's disk takes no more, as the library itself
// ends it when a write fails: it writes to this computer's disk, which is another one.
func end(ctx context.Context, e *host.Env, p *os.Process) {
	for {
		full, changed := e.Host.Full()
		if full {
			e.Logf("writing to its data: %v", syscall.ENOSPC)
			p.Kill()
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// stall has the member's process stand still again and again, as if each of its writes took
// long, while the machine's disk is slow.
func stall(ctx context.Context, h *host.Host, p *os.Process) {
	const breath = 50 * time.Millisecond
	for {
		slow, changed := h.Stalls()
		if !slow {
			select {
			case <-ctx.Done():
				return
			case <-changed:
			}
			continue
		}
		for _, x := range []struct {
			does syscall.Signal
			long time.Duration
		}{{syscall.SIGSTOP, host.Stall}, {syscall.SIGCONT, breath}} {
			if p.Signal(x.does) != nil {
				return
			}
			t := time.NewTimer(x.long)
			select {
			case <-ctx.Done():
			case <-t.C:
			}
			t.Stop()
		}
		if ctx.Err() != nil {
			return
		}
	}
}

// owned are the addresses at which a member is to listen, and whether it does so for other
// members. It refuses those that the machine does not have: its process would not notice on a
// loopback site.
func owned(e *host.Env, file string) (map[netip.AddrPort]bool, error) {
	b, err := e.Host.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var cfg struct {
		Client string `json:"listen-client-urls"`
		Peer   string `json:"listen-peer-urls"`
	}
	if err := yaml.Unmarshal(b, &cfg); err != nil {
		return nil, &host.ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
	}
	out := map[netip.AddrPort]bool{}
	for i, list := range []string{cfg.Client, cfg.Peer} {
		for _, l := range strings.Split(list, ",") {
			u, err := url.Parse(l)
			if err != nil {
				return nil, &host.ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
			}
			if err := e.Host.Owns(u.Host); err != nil {
				return nil, err
			}
			a, err := netip.ParseAddrPort(u.Host)
			if err != nil {
				return nil, &host.ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
			}
			out[a] = i == 1
		}
	}
	return out, nil
}

const readyLine = "ready"

// Main is the member's process. It ends with ctx, or when its parent does.
func Main(ctx context.Context, file, root string, in io.Reader, out io.Writer) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		io.Copy(io.Discard, in)
		// Whoever held the other end is gone without a word: so are we.
		os.Exit(3)
	}()
	cfg, err := embed.ConfigFromFile(file)
	if err != nil {
		return fmt.Errorf("reading %s: %w", strings.TrimPrefix(file, root), err)
	}
	for _, p := range []*string{&cfg.Dir, &cfg.WalDir,
		&cfg.ClientTLSInfo.CertFile, &cfg.ClientTLSInfo.KeyFile, &cfg.ClientTLSInfo.TrustedCAFile,
		&cfg.PeerTLSInfo.CertFile, &cfg.PeerTLSInfo.KeyFile, &cfg.PeerTLSInfo.TrustedCAFile} {
		if *p != "" {
			*p = filepath.Join(root, *p)
		}
	}
	for _, list := range [][]url.URL{cfg.ListenClientUrls, cfg.ListenPeerUrls} {
		for i := range list {
			a, err := netip.ParseAddrPort(list[i].Host)
			if err != nil {
				return fmt.Errorf("listening at %s: %w", list[i].Host, err)
			}
			list[i].Host = hidden(a).String()
		}
	}
	cfg.LogLevel, cfg.LogOutputs = "warn", []string{"stderr"}
	// What is acknowledged lies in the log; how often the database catches up with it is a
	// matter of what that costs.
	cfg.BackendBatchInterval = time.Second
	// A member passes small messages on: handing them between processors costs more than they do.
	runtime.GOMAXPROCS(1)
	etcd, err := embed.StartEtcd(cfg)
	if err != nil {
		return fmt.Errorf("starting etcd: %w", err)
	}
	defer etcd.Close()
	select {
	case <-etcd.Server.ReadyNotify():
		fmt.Fprintln(out, readyLine)
	case <-etcd.Server.StopNotify():
		return errors.New("etcd stopped before it was ready")
	case err := <-etcd.Err():
		return err
	case <-ctx.Done():
		return nil
	}
	select {
	case <-etcd.Server.StopNotify():
		return errors.New("etcd stopped: it may have been removed from the cluster")
	case err := <-etcd.Err():
		return err
	case <-ctx.Done():
		return nil
	}
}
