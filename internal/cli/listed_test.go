package cli_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/core/topology"
	"verbund/internal/sim/host"
	"verbund/internal/sim/linux"
	"verbund/internal/site/protocol"
)

// standing is a machine that somebody else has set up: it starts again when it restarts itself.
type standing struct {
	spec host.Spec
	mu   sync.Mutex
	now  *linux.Machine
	err  error
}

func (s *standing) on() {
	m, err := linux.Boot(context.Background(), s.spec, func() {
		s.off()
		s.on()
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	s.now, s.err = m, err
}

func (s *standing) off() {
	s.mu.Lock()
	m := s.now
	s.now = nil
	s.mu.Unlock()
	if m != nil {
		m.Off(true)
	}
}

// newKey is a key pair: the private one as OpenSSH writes it, and the other.
func newKey(t *testing.T) (private []byte, public ssh.PublicKey) {
	t.Helper()
	_, k, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	b, err := ssh.MarshalPrivateKey(k, "")
	if err != nil {
		t.Fatal(err)
	}
	sg, err := ssh.NewSignerFromKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(b), sg.PublicKey()
}

// newListed sets machines up as a person would have them: one lets root in, the others a
// keeper who has sudo. Of each it returns the fingerprint of its host key, by address.
func newListed(t *testing.T, w *world, n int, login ssh.PublicKey) (block netip.Prefix, prints map[netip.Addr]string) {
	t.Helper()
	cache, err := os.UserCacheDir()
	if err != nil {
		t.Fatal(err)
	}
	if d := os.Getenv("VERBUND_CACHE"); d != "" {
		cache = d
	} else {
		cache = filepath.Join(cache, "verbund")
	}
	images := linux.Images{Folder: filepath.Join(cache, "images")}
	digest, err := images.Compose(t.Context(), protocol.Image{System: linux.System, Architecture: "amd64"})
	if err != nil {
		t.Fatal(err)
	}
	w.folder = t.TempDir()
	block = netip.MustParsePrefix(fmt.Sprintf("10.%d.%d.0/24", 20+os.Getpid()%80, worlds.Add(1)%256))
	network := linux.NetworkOf(w.folder, block)
	if err := network.Open(); err != nil {
		t.Fatal(err)
	}
	prints = map[netip.Addr]string{}
	var all []*standing
	t.Cleanup(func() {
		for _, s := range all {
			s.off()
		}
		if _, err := linux.Clear(w.folder); err != nil {
			t.Error(err)
		}
		if err := network.Close(); err != nil {
			t.Error(err)
		}
		w.nothingLeft()
	})
	for i := range n {
		key, public := newKey(t)
		name, at := fmt.Sprintf("server%d", i+1), topology.SiteAddress(block, 21+i)
		prints[at] = ssh.FingerprintSHA256(public)
		s := &standing{spec: host.Spec{Name: name, Hardware: fmt.Sprintf("02:5e:00:00:01:%02x", i), Address: at, Image: linux.System, CPUs: 2, Memory: 3 << 30, Disk: 12 << 30, Root: filepath.Join(w.folder, "disks", name),
			Login: string(ssh.MarshalAuthorizedKey(login)), HostKey: key, Block: block, Base: images.Root(digest), Registry: topology.SiteAddress(block, 2), RegistryName: "registry.estuary.test"}}
		s.on()
		if s.err != nil {
			t.Fatal(s.err)
		}
		all = append(all, s)
		if i == 0 {
			continue
		}
		if out, err := w.onReal(name, `set -e; useradd -m -s /bin/bash keeper; mv /root/.ssh /home/keeper/.ssh; chown -R keeper: /home/keeper/.ssh; echo 'keeper ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/keeper`); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	return block, prints
}

// A person with a few servers lists them, compares their host keys, raises a cluster on them
// with a login of their own, and has them back.
func TestRealListed(t *testing.T) {
	components := os.Getenv("VERBUND_COMPONENTS")
	if os.Geteuid() != 0 || components == "" {
		t.Skip("needs root, and VERBUND_COMPONENTS")
	}
	w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir(), real: true}
	private, public := newKey(t)
	block, prints := newListed(t, w, 3, public)
	t.Cleanup(func() {
		w.run("site", "stop")
		if t.Failed() {
			for i := range 3 {
				out, err := w.onReal(fmt.Sprintf("server%d", i+1), "hostname; systemctl list-units --failed --plain --no-legend; journalctl -q --no-pager -n 10 | cut -c -200")
				t.Logf("server%d: %v\n%s", i+1, err, out)
			}
		}
	})
	w.ok("draft", "tidewatch", "--shape", "small", "--pools", "keepers", "--listed", components)
	if _, err := os.Stat("/sys/fs/cgroup/cgroup.controllers"); err != nil {
		w.declare(`control: \{`, "components: {kubelet: {config: {failCgroupV1: false}}}\ncontrol: {")
	}
	at := func(i int) netip.Addr { return topology.SiteAddress(block, 21+i) }
	w.edit("estuary.site.yaml", `registry: .*`, "registry: "+topology.SiteAddress(block, 2).String())
	w.edit("estuary.site.yaml", `addresses: .*`, "addresses: "+block.String())
	w.edit("estuary.site.yaml", `# key: .*`, "key: own.key")
	w.edit("estuary.site.yaml", `  - name: south\n  - name: island\n`, "")
	w.edit("estuary.site.yaml", `medium: \{.*\}`, "medium: {cpus: 2, memory: 3GiB, disk: 10GiB}")
	w.edit("estuary.site.yaml", `small: \{.*\}`, "small: {cpus: 2, memory: 2GiB, disk: 10GiB}")
	w.edit("estuary.site.yaml", `(?s)machines:\n  - .*`, fmt.Sprintf("machines:\n  - {address: %s, zone: north, size: medium}\n  - {address: %s, zone: north, size: small, user: keeper} # the one by the door\n  - address: %s\n    user: keeper\n    zone: north\n    size: small\n", at(0), at(1), at(2)))
	if err := os.WriteFile(w.path("own.key"), private, 0o600); err != nil {
		t.Fatal(err)
	}

	// Nobody logs in to a machine whose host key nobody has compared, and only a person compares.
	w.fails(1, []string{"whose host key is not known", "verbund site meet"}, "converge", "--yes")
	w.fails(2, []string{at(0).String(), prints[at(0)], "a person has to look at this"}, "site", "meet")
	w.converse(1, []turn{{"[y/N] ", "n"}}, []string{prints[at(1)], "nothing was changed"}, "site", "meet")
	if b, err := os.ReadFile(w.path("estuary.site.yaml")); err != nil || strings.Contains(string(b), "SHA256:") {
		t.Fatalf("a key was written that nobody has agreed to: %v", err)
	}
	w.converse(0, []turn{{"[y/N] ", "y"}}, []string{"wrote 3 host keys"}, "site", "meet")
	b, err := os.ReadFile(w.path("estuary.site.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for a, p := range prints {
		if !strings.Contains(string(b), p) {
			t.Errorf("the key of %s was not written", a)
		}
	}
	if !strings.Contains(string(b), "# the one by the door") {
		t.Error("what else stands in the file was changed")
	}
	w.ok("site", "meet")

	// What somebody else has on a machine is not written over.
	if out, err := w.onReal("server2", "mkdir -p /var/lib/etcd/member && touch /var/lib/etcd/member/theirs"); err != nil {
		t.Fatal(err, out)
	}
	for range 2 { // whoever asks twice is told twice
		w.fails(1, []string{"/var/lib/etcd holds what Verbund has not brought (member is in it"}, "converge", "--yes")
	}
	// Nor is it wiped when it is given back, or when it belongs to a cluster that nobody here knows.
	w.ok("teardown", "--confirm", "tidewatch")
	if out, err := w.onReal("server2", "mkdir -p /etc/verbund && printf 'cluster: lampwright\\nmachine: m\\nfiles: []\\n' > /etc/verbund/machine.yaml"); err != nil {
		t.Fatal(err, out)
	}
	w.fails(1, []string{"belongs to cluster lampwright, of which nothing is known here"}, "converge", "--yes")
	w.ok("teardown", "--confirm", "tidewatch")
	if out, err := w.onReal("server2", "rm -r /etc/verbund && ls /var/lib/etcd/member/theirs && ! test -e /etc/kubernetes && hostname && rm -r /var/lib/etcd/member"); err != nil || !strings.Contains(out, "server2") {
		t.Fatal(err, out)
	}
	began := time.Now()
	w.ok("converge", "--yes")
	t.Logf("raised after %s", time.Since(began).Round(time.Second))
	w.well("v1.37.2")
	file := w.path("kubeconfig")
	w.ok("access", "--merge", file)
	w.deploy(file)
	w.fails(2, []string{"has no switch for machine"}, "site", "power", "tidewatch-keepers-1", "cut")
	if out, err := w.onReal("server2", "cat /opt/verbund/agent/digest && id -un"); err != nil {
		t.Errorf("%v: %s", err, out)
	}
	// One that shows another key than was compared is not logged in to.
	w.edit("estuary.site.yaml", regexp.QuoteMeta(prints[at(1)]), "SHA256:"+strings.Repeat("A", 43))
	w.fails(1, []string{"another one than in the site file"}, "site", "meet")
	w.fails(1, []string{"it shows " + prints[at(1)], "verbund site meet"}, "converge", "--yes")
	w.edit("estuary.site.yaml", "SHA256:A{43}", prints[at(1)])

	// The third one joins, and all are as they were when the cluster is gone.
	w.declare(`count: 1, size: small`, "count: 2, size: small")
	w.ok("converge", "--yes")
	w.soonWell("v1.37.2")
	w.declare(`count: 2, size: small`, "count: 1, size: small")
	w.ok("converge", "--yes")
	w.soonWell("v1.37.2")
	w.ok("teardown", "--confirm", "tidewatch")
	for i := range 3 {
		name := fmt.Sprintf("server%d", i+1)
		w.until(time.Minute, name+" to be back", func() (bool, string) {
			out, err := w.onReal(name, "systemctl is-active ssh.service")
			return err == nil && strings.HasPrefix(out, "active"), fmt.Sprintf("%v: %s", err, out)
		})
		out, err := w.onReal(name, "find /etc/kubernetes /etc/etcd /opt/verbund/slots /var/lib/kubelet -type f 2>/dev/null; ls /home; hostname; cat /etc/hosts")
		if err != nil || strings.Contains(out, "/opt/verbund") || strings.Contains(out, "/etc/kubernetes") || strings.Contains(out, "tidewatch") || !strings.Contains(out, name) || i > 0 && !strings.Contains(out, "keeper") {
			t.Errorf("%s, given back: %v\n%s", name, err, out)
		}
	}
	w.ok("site", "meet")
}
