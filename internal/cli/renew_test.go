package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"
)

type entry struct {
	ID, Serial, Renews string
	Expires            time.Time
	Troubles           []string
}

// vouches lists every certificate by ID.
func (w *world) vouches() map[string]entry {
	w.Helper()
	o, e, _ := w.run("trust", "list", "-o", "json")
	var r struct{ Entries []entry }
	if err := json.Unmarshal([]byte(o), &r); err != nil {
		w.Fatalf("trust list: %v\n%s%s", err, o, e)
	}
	out := map[string]entry{}
	for _, x := range r.Entries {
		out[x.ID] = x
	}
	return out
}

// What is due or named is made anew, with new keys, and taken up without a
// restart; what is not named stays.
func TestRenew(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	before := w.vouches()
	w.fails(0, []string{"nothing to do"}, "trust", "renew", "--yes")
	w.fails(2, []string{"did you mean tidewatch-control-1/scheduler?"}, "trust", "renew", "tidewatch-control-1/schedule", "--yes")
	w.ok("trust", "renew", "tidewatch-control-1/api-server", "tidewatch-keepers-1/kubelet-serving", "--kind", "proxy", "--yes")
	after := w.vouches()
	for id, b := range before {
		named := id == "tidewatch-control-1/api-server" || id == "tidewatch-keepers-1/kubelet-serving" || strings.HasSuffix(id, "/proxy")
		if (after[id].Serial != b.Serial) != named {
			t.Errorf("%s: serial %s, then %s", id, b.Serial, after[id].Serial)
		}
		if len(after[id].Troubles) > 0 {
			t.Errorf("%s: %v", id, after[id].Troubles)
		}
	}
	log := w.ok("logs", "tidewatch-control-1", "-u", "kube-apiserver")
	if n := strings.Count(log, "starting kube-apiserver"); n != 1 {
		t.Errorf("the API server was started %d times", n)
	}
	// Where members are about to ask for something, too, the certificates come first.
	w.declare(`name: tidewatch\n`, "name: tidewatch\ncomponents: {etcd: {config: {snapshot-count: 5000}}}\n")
	o := w.fails(0, []string{"take up its new certificates", "restart etcd.service"}, "trust", "renew", "--kind", "datastore-peer", "--yes")
	if strings.Index(o, "take up its new certificates") > strings.Index(o, "restart etcd.service") {
		t.Errorf("the order:\n%s", o)
	}
	w.well("v1.37.2")
	// Shorter lives make everything due: status says so, converge does it.
	w.declare(`name: tidewatch\n`, "name: tidewatch\ntrust: {renew: 100d, leaf: 250d, algorithm: ecdsa-p384}\n")
	w.fails(3, []string{"pending"}, "status")
	w.fails(0, []string{"its key is ecdsa-p256, and ecdsa-p384 is declared"}, "plan")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	for id, e := range w.vouches() {
		if strings.Contains(id, "/") && e.Renews == "" && !strings.HasSuffix(id, "kubelet-client") && time.Until(e.Expires) > 251*24*time.Hour {
			t.Errorf("%s lives until %s", id, e.Expires)
		}
	}
}

// Who renews the certificates of kubelets can be changed while the cluster
// lives: what is needed comes before those that need it, and what the other way
// needed goes.
func TestWhoRenewsKubelets(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(2, 1)
	w.declare(`name: tidewatch\n`, "name: tidewatch\ntrust: {kubelets: {renew: tool}}\n")
	w.ok("converge", "--yes")
	signing := w.path(".verbund/sites/estuary/disks/tidewatch-control-1/etc/kubernetes/trust/cluster-signing.key")
	own := w.path(".verbund/sites/estuary/disks/tidewatch-gauges-1/var/lib/kubelet/pki/kubelet-server-current.pem")
	there := func(want bool) {
		t.Helper()
		for _, f := range []string{signing, own} {
			if _, err := os.Stat(f); (err == nil) != want {
				t.Errorf("%s: %v", f, err)
			}
		}
		w.well("v1.37.2")
		w.fails(0, []string{"0 things wrong"}, "trust", "list")
	}
	there(false)
	w.declare(`renew: tool`, "renew: own")
	w.fails(0, []string{"switch to a slot that has request-approver, too", "planned anew then"}, "plan")
	w.ok("converge", "--yes")
	there(true)
	if e := w.vouches()["tidewatch-gauges-1/kubelet-client"]; e.Renews == "" {
		t.Errorf("nobody renews %+v", e)
	}
	w.declare(`renew: own`, "renew: tool")
	w.fails(0, []string{"this kubelet does not renew by itself any more", "cluster-signing.key: nothing there needs it", "kubelet-serving.crt: is missing"}, "plan", "--verbose")
	w.fails(0, []string{"restart kubelet.service"}, "converge", "--yes", "--verbose")
	there(false)
	if e := w.vouches()["tidewatch-gauges-1/kubelet-client"]; e.Renews != "" {
		t.Errorf("it is renewed by %s", e.Renews)
	}
	if units := w.ok("machines", "-o", "json"); strings.Contains(units, "request-approver") {
		t.Errorf("the approver is still there:\n%s", units)
	}
	// A pair that lies there all the same is found, and taken away.
	if err := os.WriteFile(own, []byte("-----BEGIN CERTIFICATE-----\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.fails(3, []string{"tidewatch-gauges-1 has /var/lib/kubelet/pki/kubelet-server-current.pem, which nothing there needs"}, "trust", "list")
	w.ok("converge", "--yes")
	there(false)
}

// A machine that does not become well with its new pair gets the old one back.
func TestRenewPutsBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	file := w.path(".verbund/sites/estuary/disks/tidewatch-control-1/etc/kubernetes/trust/api-server.crt")
	old, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	// The new certificate is spoilt as soon as it lies there, so that the server
	// cannot take it up. On a busy computer the server may be quicker: then it is
	// well with its new pair, what was spoilt is mended, and it is tried again.
	spoil := func(done chan struct{}) {
		tick := time.NewTicker(200 * time.Microsecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
			}
			if b, err := os.ReadFile(file); err == nil && !bytes.Equal(b, old) && bytes.HasPrefix(b, []byte("-----BEGIN")) {
				os.WriteFile(file, []byte("spoilt\n"), 0o644)
			}
		}
	}
	renew := []string{"trust", "renew", "tidewatch-control-1/api-server", "--yes"}
	var before entry
	for try := 1; ; try++ {
		before = w.vouches()["tidewatch-control-1/api-server"]
		var spoiling sync.WaitGroup
		done := make(chan struct{})
		spoiling.Go(func() { spoil(done) })
		o, e, code := w.run(renew...)
		out := o + e
		close(done)
		spoiling.Wait()
		if code == 1 && strings.Contains(out, "the certificates before were put back") {
			for _, s := range []string{"port 6443 to show the new certificate", "run it again"} {
				if !strings.Contains(out, s) {
					t.Errorf("verbund %s does not say %q:\n%s", strings.Join(renew, " "), s, out)
				}
			}
			break
		}
		if try == 5 {
			t.Fatalf("in five tries no machine was without its new pair; the last one ended with %d:\n%s", code, out)
		}
		w.ok("converge", "--yes")
		if old, err = os.ReadFile(file); err != nil {
			t.Fatal(err)
		}
	}
	if after := w.vouches()["tidewatch-control-1/api-server"]; after.Serial != before.Serial || len(after.Troubles) > 0 {
		t.Errorf("after that: %+v", after)
	}
	w.well("v1.37.2")
	w.ok("trust", "renew", "tidewatch-control-1/api-server", "--yes")
	if after := w.vouches()["tidewatch-control-1/api-server"]; after.Serial == before.Serial || len(after.Troubles) > 0 {
		t.Errorf("at last: %+v", after)
	}
}

// Kubelets renew their own certificates while nobody runs the tool, and nothing
// ends in use.
func TestKubeletsRenewThemselves(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.declare(`name: tidewatch\n`, "name: tidewatch\ntrust: {kubelets: {life: 40s}}\n")
	w.ok("converge", "--yes")
	serials := map[string]map[string]bool{}
	ill := 0 // looks in a row: one alone may have met a busy computer
	w.until(3*time.Minute, "kubelets to renew", func() (bool, string) {
		all := w.vouches()
		missing := ""
		for _, node := range []string{"tidewatch-control-1", "tidewatch-keepers-1"} {
			for kind, wanted := range map[string]int{"kubelet-client": 2, "kubelet-serving": 2} {
				id := node + "/" + kind
				e := all[id]
				if time.Now().After(e.Expires) {
					t.Errorf("%s ended on %s while it was in use: %v", id, e.Expires, e.Troubles)
				}
				if serials[id] == nil {
					serials[id] = map[string]bool{}
				}
				if serials[id][e.Serial] = true; len(serials[id]) < wanted {
					missing += fmt.Sprintf(" %s was seen with %d certificates", id, len(serials[id]))
				}
			}
		}
		if s := w.status(); s.Well {
			ill = 0
		} else if ill++; ill == 3 {
			t.Errorf("not well: %v, %v", s.Ailing, s.Trust)
		}
		return missing == "", missing
	})
	if o := w.ok("history"); strings.Count(o, "converge") != 1 {
		t.Errorf("somebody ran the tool:\n%s", o)
	}
	w.fails(0, []string{"approved csr-", "the node asks for itself"}, "logs", "tidewatch-control-1", "-u", "request-approver")
}
