// Package enginetest is a whole cluster in the hands of a test: a session whose site,
// machines, datastore and API are the test's own.
package enginetest

import (
	"context"
	"crypto/tls"
	"fmt"
	"testing"
	"time"

	coordv1 "k8s.io/api/coordination/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/client-go/kubernetes/fake"

	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
	"verbund/internal/kube"
	"verbund/internal/kubeapi/kubeapitest"
	"verbund/internal/machine"
	"verbund/internal/site"
)

// World is a cluster of three control-plane machines and some workers, which all have what
// they are to run, and nothing written to them.
type World struct {
	*session.Session
	testing.TB
	Cluster  *topology.Cluster
	Site     *sessiontest.Site
	Machines map[string]*sessiontest.Machine
	Members  *sessiontest.Datastore
	API      *fake.Clientset
}

// led are the leases of a controller manager and a scheduler that lead, for as long as any test.
func led() []runtime.Object {
	var out []runtime.Object
	for _, name := range []string{"kube-controller-manager", "kube-scheduler"} {
		holder, at, secs := "control-1", metav1.NewMicroTime(time.Now()), int32(1<<30)
		out = append(out, &coordv1.Lease{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: metav1.NamespaceSystem}, Spec: coordv1.LeaseSpec{HolderIdentity: &holder, RenewTime: &at, LeaseDurationSeconds: &secs}})
	}
	return out
}

// New makes one; objects are what its API has.
func New(t testing.TB, workers int, objects ...runtime.Object) *World {
	t.Helper()
	w := &World{TB: t, Session: sessiontest.Session(t), Cluster: sessiontest.Cluster(t, workers), Site: &sessiontest.Site{}, Machines: map[string]*sessiontest.Machine{}, Members: &sessiontest.Datastore{}, API: fake.NewClientset(append(led(), objects...)...)}
	w.Session.Site = w.Site
	w.Decl = &declare.Declaration{Name: w.Cluster.Name}
	if err := vouch.Ensure(w.Session, w.Cluster, time.Now()); err != nil {
		t.Fatal(err)
	}
	for i, m := range w.Cluster.Machines {
		if err := w.Remember(func(st *memory.State) {
			st.Machines[m.Name] = memory.Machine{Address: m.Address, Fingerprint: "SHA256:made-up"}
		}); err != nil {
			t.Fatal(err)
		}
		fm := sessiontest.NewMachine(m.Name)
		fm.Says.Slots["a"] = map[string]string{}
		for _, k := range m.Components() {
			fm.Says.Slots["a"][k.Name] = k.Version
		}
		w.Machines[m.Name] = fm
		w.Site.Has.Machines = append(w.Site.Has.Machines, site.Machine{Name: m.Name, Cluster: w.Cluster.Name, Address: m.Address, Power: site.PowerOn, SSHPort: 22})
		if m.Is(versions.Member) {
			w.Members.Has = append(w.Members.Has, datastore.Member{ID: uint64(i + 1), Name: m.Name, Peer: nodeconf.Peer(m), Healthy: true})
		}
	}
	w.By = session.Reach{
		Machine: func(_ context.Context, to machine.Target) (session.Machine, error) {
			m := w.Machines[to.Name]
			if m == nil {
				return nil, fmt.Errorf("reaching %s: nobody answers", to.Name)
			}
			return m, nil
		},
		Datastore: func([]string, *tls.Config) session.Datastore { return w.Members },
		API:       func(kube.Access) (*kube.Client, error) { return kube.Of(kubeapitest.Over(&w.API.Fake)), nil },
	}
	return w
}

// Furnish gives a machine all its files, and has all its units run.
func (w *World) Furnish(m topology.Machine) {
	w.Helper()
	fm := w.Machines[m.Name]
	files, _, err := w.Files(w.Cluster, m, nodeconf.Options{}, fm.Says.Active)
	if err != nil {
		w.Fatal(err)
	}
	for _, f := range files {
		fm.Files[f.Path] = f
	}
	for _, u := range nodeconf.Units(m) {
		fm.States[u] = "active"
	}
}

// Of is the first machine of a role, declared and in the test's hands.
func (w *World) Of(role versions.Role) (topology.Machine, *sessiontest.Machine) {
	m := w.Cluster.Of(role)[0]
	return m, w.Machines[m.Name]
}
