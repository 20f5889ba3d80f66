package keep

import (
	"context"
	"crypto/tls"
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/memory"
	"verbund/internal/core/topology"
	"verbund/internal/datastore"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
	"verbund/internal/store"
)

// What is remembered of a cluster lies neither on its machines nor in its own datastore, at
// whatever address that is asked; nor where nobody can say whether it is.
func TestMayLie(t *testing.T) {
	s := sessiontest.Session(t)
	r, err := coretest.Read(coretest.Text("v1.37.2", 3, 1))
	if err != nil {
		t.Fatal(err)
	}
	s.Decl, s.SiteFile = r.Decl, r.Site
	d := &sessiontest.Datastore{Has: []datastore.Member{{ID: 7, Name: "tidewatch-control-1"}}}
	s.By.Datastore = func([]string, *tls.Config) session.Datastore { return d }
	may := func(at string, member uint64) error {
		p, err := store.ParsePlace("etcd://" + at + "/boards")
		if err != nil {
			t.Fatal(err)
		}
		return MayLie(context.Background(), s, p, member)
	}
	sessiontest.Remember(t, s, func(st *memory.State) {
		st.Machines["tidewatch-control-1"] = memory.Machine{Address: netip.MustParseAddr("127.81.7.10")}
	})
	refused := func(err error, want string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
	refused(may("127.0.0.1,127.81.7.10:2400", 1), "127.81.7.10:2400 is machine tidewatch-control-1")
	if err := may("127.0.0.1", 7); err != nil {
		t.Errorf("before it was founded: %v", err)
	}
	if err := vouch.Ensure(s, sessiontest.Cluster(t, 1), time.Now()); err != nil {
		t.Fatal(err)
	}
	sessiontest.Remember(t, s, func(st *memory.State) { st.Facts = &topology.Facts{Endpoint: "api.tidewatch.test"} })
	refused(may("127.0.0.1", 7), "is the datastore of cluster tidewatch itself, by its member tidewatch-control-1 (7)")
	if err := may("127.0.0.1", 8); err != nil {
		t.Errorf("another one: %v", err)
	}
	d.Asked = func() { t.Error("a quorum is asked, which may be what is lacking") }
	if err := may("127.0.0.1", 8); err != nil {
		t.Errorf("by whoever answers: %v", err)
	}
	s.By.Datastore = func([]string, *tls.Config) session.Datastore { return silent{d} }
	refused(may("127.0.0.1", 8), "it cannot be said whether")
}

// silent is a datastore of which no member answers.
type silent struct{ *sessiontest.Datastore }

func (silent) Recalled(context.Context, map[string]datastore.Member) ([]datastore.Member, error) {
	return nil, errors.New("connection refused")
}
