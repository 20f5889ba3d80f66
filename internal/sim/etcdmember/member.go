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
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/pflag"
	"go.etcd.io/etcd/server/v3/embed"
	"sigs.k8s.io/yaml"

	"verbund/internal/sim/host"
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
		if err := owned(e, *file); err != nil {
			return err
		}
		cmd := exec.Command(child[0], append(append([]string{}, child[1:]...), e.Host.Path(*file), e.Host.Spec.Root)...)
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
			return &host.ExitError{Code: xe.ExitCode(), Err: fmt.Errorf("etcd ended: %v", err)}
		}
		return err
	}
}

// owned refuses to start a member at an address that the machine does not
// have: its process would not notice on a loopback site.
func owned(e *host.Env, file string) error {
	b, err := e.Host.ReadFile(file)
	if err != nil {
		return err
	}
	var cfg struct {
		Client string `json:"listen-client-urls"`
		Peer   string `json:"listen-peer-urls"`
	}
	if err := yaml.Unmarshal(b, &cfg); err != nil {
		return &host.ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
	}
	for _, list := range []string{cfg.Client, cfg.Peer} {
		for _, l := range strings.Split(list, ",") {
			u, err := url.Parse(l)
			if err != nil {
				return &host.ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
			}
			if err := e.Host.Owns(u.Host); err != nil {
				return err
			}
		}
	}
	return nil
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
	cfg.LogLevel, cfg.LogOutputs = "warn", []string{"stderr"}
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
