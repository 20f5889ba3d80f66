package host

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Files come and go over SFTP, on the machine's disk and nowhere else; what an
// ordinary login cannot do here is refused in words that name no path outside.
func TestOrdinaryLogin(t *testing.T) {
	h, _ := boot(t)
	key, err := ssh.ParsePrivateKey(h.Spec.HostKey) // the fixture uses one key for both
	if err != nil {
		t.Fatal(err)
	}
	c, err := ssh.Dial("tcp", fmt.Sprintf("%s:%d", h.Spec.Address, h.SSHPort), &ssh.ClientConfig{User: "root", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	f, err := sftp.NewClient(c)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	put := func(name string, b []byte) error {
		w, err := f.Create(name)
		if err != nil {
			return err
		}
		if _, err = w.Write(b); err != nil {
			w.Close()
			return err
		}
		return w.Close()
	}
	text := bytes.Repeat([]byte("tide "), 20_000)
	if err := put("/etc/notes", text); err != nil {
		t.Fatal(err)
	}
	if got, err := h.ReadFile("/etc/notes"); err != nil || !bytes.Equal(got, text) {
		t.Errorf("on the disk: %d bytes, %v", len(got), err)
	}
	r, err := f.Open("/etc/notes")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(r); err != nil || !bytes.Equal(got, text) {
		t.Errorf("read back: %d bytes, %v", len(got), err)
	}
	if is, err := f.ReadDir("/etc"); err != nil || len(is) == 0 {
		t.Errorf("the folder: %v, %v", is, err)
	}
	// Nothing leads out of the disk.
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("of the computer"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(secret, h.Path("/etc/way-out")); err != nil {
		t.Fatal(err)
	}
	for _, p := range []string{"/etc/way-out", "/../../../.." + secret, secret} {
		if r, err := f.Open(p); err == nil {
			b, _ := io.ReadAll(r)
			t.Errorf("%s was opened: %q", p, b)
		} else if strings.Contains(err.Error(), h.Spec.Root) {
			t.Errorf("%s: the error names a path of the computer: %v", p, err)
		}
	}
	if err := f.Symlink(secret, "/etc/another"); err == nil {
		t.Error("a link out of the disk was made")
	}
	h.Suffer(Faults{Full: true})
	if err := put("/etc/more", text); err == nil {
		t.Error("a full disk took a file")
	}
	h.Suffer(Faults{})
	// Who may only look does not write, and reads what everybody may.
	look := &files{h: h, root: mustRoot(t, h), look: true}
	if _, err := look.Filewrite(sftp.NewRequest("Put", "/etc/notes")); err != sftp.ErrSSHFxPermissionDenied {
		t.Errorf("who may only look writes: %v", err)
	}
	if err := h.WriteFile("/etc/key", []byte("k"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := look.Fileread(sftp.NewRequest("Get", "/etc/key")); err == nil {
		t.Error("who may only look reads a key")
	}
	for line, want := range map[string]string{
		"cat /etc/none": "/etc/none: no such file", "ls /none": "/none: no such file", "cat /etc/hosts | grep x": "no shell runs here", "uptime": "uptime is not known here", "scp -t /etc": "scp without -O",
	} {
		s, err := c.NewSession()
		if err != nil {
			t.Fatal(err)
		}
		out, err := s.CombinedOutput(line)
		if err == nil || !strings.Contains(string(out), want) || strings.Contains(string(out), h.Spec.Root) {
			t.Errorf("%s: %v, %s", line, err, out)
		}
	}
	if _, err := c.Dial("tcp", "127.0.0.1:1"); err == nil || !strings.Contains(err.Error(), "forwards no ports") {
		t.Errorf("forwarding: %v", err)
	}
}

func mustRoot(t *testing.T, h *Host) *os.Root {
	t.Helper()
	r, err := os.OpenRoot(h.Spec.Root)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return r
}

// A panic ends the program that had it, wherever it happens, and it is started anew;
// what runs beside it goes on.
func TestPanicStaysInside(t *testing.T) {
	e := &Env{Log: &bytes.Buffer{}}
	var why error
	e.crash = func(err error) { why = err }
	func() {
		defer e.Catch()
		var replicas []int
		_ = replicas[len(replicas)-1]
	}()
	var x *ExitError
	if log := e.Log.(*bytes.Buffer).String(); why == nil || !strings.Contains(log, "index out of range") || !strings.Contains(log, "sftp_test.go") {
		t.Errorf("%v\n%s", why, log)
	}
	if ok := asExit(why, &x); !ok || x.Code != 2 {
		t.Errorf("it ends with %v", why)
	}
}

func asExit(err error, x **ExitError) bool {
	e, ok := err.(*ExitError)
	*x = e
	return ok
}
