package trust_test

import (
	"math/big"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

// What is wrong with a certificate is said in words, all of it.
func TestInspect(t *testing.T) {
	c, cas := cluster(t), authorities(t)
	r := trust.Requests(c, c.Of(versions.Control)[0])[0]
	ca := cas[r.Authority]
	cert, err := trust.Sign(r, key(t).Public(), ca.cert, ca.key, now, big.NewInt(255))
	if err != nil {
		t.Fatal(err)
	}
	e := trust.Describe(cert, r, now)
	if e.ID != "tidewatch-control-1/api-server" || e.Machine != "tidewatch-control-1" || e.Algorithm != "ECDSA P-256" || e.Serial != "ff" || len(e.Troubles) != 0 || e.Purpose == "" ||
		!slices.Contains(e.Names, "api.tidewatch.test") || !slices.Contains(e.Names, "10.112.0.1") || !e.RenewFrom.Equal(cert.NotAfter.Add(-30*24*time.Hour)) {
		t.Errorf("described as %+v", e)
	}
	if w := trust.Wrong(cert, r, ca.cert); len(w) != 0 {
		t.Errorf("a certificate as it should be: %v", w)
	}
	other := r
	other.DNS = append(slices.DeleteFunc(slices.Clone(r.DNS), func(n string) bool { return n == "api.tidewatch.test" }), "new.test")
	other.IPs = append([]netip.Addr{netip.MustParseAddr("192.0.2.1")}, r.IPs[1:]...)
	other.CommonName = "somebody"
	other.Client, other.Server = true, false
	got := strings.Join(trust.Wrong(cert, other, cas[trust.Datastore].cert), "; ")
	for _, want := range []string{"it lacks the name new.test", "it has the name api.tidewatch.test, which it should not have", "it lacks the address 192.0.2.1", "it has the address " + r.IPs[0].String(), "it is not for clients", "it is also for servers, which it should not be", "another authority signed it", "it is for CN=verbund:api-server"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is not in %s", want, got)
		}
	}
	for at, want := range map[time.Duration]string{0: "", 300 * 24 * time.Hour: "", 340 * 24 * time.Hour: "it ends in 25 days, and is due to be renewed", 366 * 24 * time.Hour: "it ended on 2027-11-23", -time.Hour: "it does not begin before"} {
		if got := trust.Ending(cert, r.Renew, now.Add(at)); (got == "") != (want == "") || !strings.Contains(got, want) {
			t.Errorf("after %s: %q, wanted %q", at, got, want)
		}
	}
	if e := trust.Describe(nil, r, now); len(e.Troubles) != 1 || e.Troubles[0] != "it was never issued" {
		t.Errorf("what was never issued: %+v", e)
	}
	a := trust.Describe(ca.cert, trust.Request{ID: string(trust.Cluster)}, now)
	if a.Machine != "" || !a.RenewFrom.IsZero() || a.Purpose == "" {
		t.Errorf("an authority: %+v", a)
	}
	// Every certificate of every machine says what it is for.
	for _, m := range c.Machines {
		for _, q := range append(trust.Requests(c, m), trust.ToolRequests(c)...) {
			if trust.Describe(cert, q, now).Purpose == "" {
				t.Errorf("nothing says what %s is for", q.ID)
			}
		}
	}
	es := []trust.Entry{{ID: "late", Expires: now.Add(9 * time.Hour)}, {ID: "b", Expires: now.Add(time.Hour)}, {ID: "a", Expires: now.Add(time.Hour)}, {ID: "ill", Expires: now.Add(99 * time.Hour), Troubles: []string{"x"}}}
	trust.ByUrgency(es)
	if es[0].ID+es[1].ID+es[2].ID+es[3].ID != "illablate" {
		t.Errorf("order: %v", es)
	}
}
