package host

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/agent"
	"verbund/internal/machine/protocol"
	"verbund/internal/sim/serve"
)

// serveSSH opens the machine's SSH port, 22 where that can be bound, and shows
// the fingerprint of the host key on the console: that is how it is first trusted.
func (h *Host) serveSSH(onReboot func()) error {
	signer, err := ssh.ParsePrivateKey(h.Spec.HostKey)
	if err != nil {
		return fmt.Errorf("host key of %s: %w", h.Spec.Name, err)
	}
	login, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.Spec.Login))
	if err != nil {
		return fmt.Errorf("login key of %s: %w", h.Spec.Name, err)
	}
	cfg := &ssh.ServerConfig{
		Config:                  protocol.SSHConfig(),
		PublicKeyAuthAlgorithms: protocol.SSHKeyAlgorithms(),
		ServerVersion:           "SSH-2.0-machine",
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if c.User() == "root" && string(key.Marshal()) == string(login.Marshal()) {
				return nil, nil
			}
			if rights := h.person(c.User(), key); rights != "" {
				return &ssh.Permissions{Extensions: map[string]string{"rights": rights}}, nil
			}
			return nil, fmt.Errorf("no login for %s with this key", c.User())
		},
	}
	cfg.AddHostKey(signer)
	var l net.Listener
	for _, port := range []int{22, 2222} {
		if l, err = h.Listen(fmt.Sprintf("%s:%d", h.Spec.Address, port)); err == nil {
			h.SSHPort = port
			break
		}
	}
	if err != nil {
		return fmt.Errorf("SSH of %s: %w", h.Spec.Name, err)
	}
	h.Console("SSH on %s:%d, host key %s", h.Spec.Address, h.SSHPort, ssh.FingerprintSHA256(signer.PublicKey()))
	h.wg.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			h.wg.Go(func() { h.serveLogin(c, cfg, onReboot) })
		}
	})
	return nil
}

func (h *Host) serveLogin(c net.Conn, cfg *ssh.ServerConfig, onReboot func()) {
	defer c.Close()
	c.SetDeadline(time.Now().Add(serve.Login))
	sc, chans, reqs, err := ssh.NewServerConn(c, cfg)
	if err != nil {
		return
	}
	c.SetDeadline(time.Time{})
	defer sc.Close()
	go ssh.DiscardRequests(reqs)
	for nc := range chans {
		if nc.ChannelType() != "session" {
			nc.Reject(ssh.Prohibited, "this machine forwards no ports; connect to its address")
			continue
		}
		ch, rs, err := nc.Accept()
		if err != nil {
			return
		}
		rights := "all"
		if sc.Permissions != nil {
			rights = sc.Permissions.Extensions["rights"]
		}
		go h.session(ch, rs, rights, onReboot)
	}
}

// person says what somebody who logs in with a key may do, by the files on the
// machine's disk; nothing if nobody of that name may log in with it.
func (h *Host) person(name string, key ssh.PublicKey) string {
	users, err := h.ReadFile("/etc/sysusers.d/verbund-people.conf")
	if err != nil || path.Base(name) != name || !strings.Contains("\n"+string(users), "\nu "+name+" ") {
		return ""
	}
	keys, err := h.ReadFile("/etc/ssh/authorized_keys.d/" + name)
	if err != nil {
		return ""
	}
	for len(keys) > 0 {
		k, _, _, rest, err := ssh.ParseAuthorizedKey(keys)
		if err != nil {
			return ""
		}
		if string(k.Marshal()) == string(key.Marshal()) {
			rights, _ := h.ReadFile("/etc/sudoers.d/verbund-people")
			if strings.Contains("\n"+string(rights), "\n"+name+" ALL=") {
				return "act"
			}
			return "look"
		}
		keys = rest
	}
	return ""
}

func (h *Host) session(ch ssh.Channel, reqs <-chan *ssh.Request, rights string, onReboot func()) {
	defer ch.Close()
	for r := range reqs {
		var arg struct{ Value string }
		ssh.Unmarshal(r.Payload, &arg)
		switch {
		case r.Type == "subsystem" && arg.Value == protocol.Subsystem && rights == "all":
			r.Reply(true, nil)
			go ssh.DiscardRequests(reqs)
			agent.Serve(ch, system{h, onReboot})
			return
		case r.Type == "subsystem" && arg.Value == "sftp":
			r.Reply(true, nil)
			go ssh.DiscardRequests(reqs)
			code := uint32(0)
			if err := h.serveSFTP(ch, rights); err != nil {
				code = 1
			}
			ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{code}))
			return
		case r.Type == "exec":
			r.Reply(true, nil)
			code := 0
			if err := h.command(ch, arg.Value, rights); err != nil {
				fmt.Fprintln(ch.Stderr(), err)
				code = 1
			}
			ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{uint32(code)}))
			return
		case r.Type == "env" || r.Type == "pty-req":
			r.Reply(true, nil)
		case r.Type == "shell":
			r.Reply(true, nil)
			fmt.Fprintf(ch, "%s, image %s. Commands can be given after the host name: units, ls PATH, cat PATH, log UNIT.\r\n", h.Spec.Name, h.Spec.Image)
			ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{0}))
			return
		default:
			r.Reply(false, nil)
		}
	}
}

// known are the commands that a person can give.
const known = "units, ls PATH, cat PATH, log UNIT"

// named is an error of the disk under the path that the person gave.
func named(arg string, err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return fmt.Errorf("%s: %w", arg, pe.Err)
	}
	return err
}

// command lets a person look around.
func (h *Host) command(w io.Writer, line, rights string) error {
	f := strings.Fields(line)
	if len(f) == 0 {
		return nil
	}
	arg := "/"
	if len(f) > 1 {
		arg = f[1]
	}
	switch {
	case f[0] == "scp":
		return errors.New("the old copying protocol is not known here; scp without -O, and sftp, work")
	case strings.ContainsAny(line, "|<>;&`$"):
		return errors.New("no shell runs here, so there are no pipes and redirections; one of: " + known)
	case len(f) > 2:
		return fmt.Errorf("%s takes one argument; one of: %s", f[0], known)
	}
	switch f[0] {
	case "units":
		for _, u := range h.manager.list() {
			fmt.Fprintf(w, "%-32s %-12s %s\n", u.Name, u.State, u.Version)
		}
	case "ls":
		es, err := os.ReadDir(h.Path(arg))
		for _, e := range es {
			fmt.Fprintln(w, e.Name())
		}
		return named(arg, err)
	case "cat":
		if i, err := os.Stat(h.Path(arg)); rights == "look" && err == nil && i.Mode().Perm()&0o004 == 0 {
			return fmt.Errorf("%s: permission denied", arg)
		}
		b, err := h.ReadFile(arg)
		w.Write(b)
		return named(arg, err)
	case "log":
		b, err := h.ReadFile("/var/log/units/" + strings.TrimSuffix(path.Base(arg), ".service") + ".service.log")
		w.Write(b)
		return named(arg, err)
	default:
		return fmt.Errorf("%s is not known here; one of: %s", f[0], known)
	}
	return nil
}
