package converge

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/saved"
	"verbund/internal/core/sshsig"
	"verbund/internal/engine/look"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/site"
	"verbund/internal/store"
)

// saves saves the plan of what is to be done now.
func (s *stage) saves(t *testing.T, within time.Duration) *Agreed {
	t.Helper()
	p, v, err := look.PlanPart(s.Soft, s.Session, "")
	if err == nil {
		err = Savable(p, v)
	}
	if err != nil {
		t.Fatal(err)
	}
	sp, err := SaveAs(s.Session, v, p, "", time.Now(), within)
	if err != nil {
		t.Fatal(err)
	}
	b, err := sp.Encode()
	if err != nil {
		t.Fatal(err)
	}
	if sp, err = saved.Read(b); err != nil {
		t.Fatal(err)
	}
	return &Agreed{File: "tonight.plan", Plan: sp, Text: b, Signatures: saved.Signatures{}}
}

// A plan that people have agreed on is carried out as it is: it is the first thing that is looked at,
// and nothing is asked, written or ordered when anything is different by now.
func TestAgreed(t *testing.T) {
	ended := errors.New("ended")
	for _, x := range []struct {
		name   string
		change func(s *stage)
		want   string
	}{
		{"the same", func(*stage) {}, ""},
		{"too late", func(s *stage) { s.Agreed.Plan.Until = time.Now().Add(-time.Minute) }, "it was to be carried out until"},
		{"a step is another one", func(s *stage) { s.Agreed.Plan.Steps[0].Text = "give it back" }, "text of step get/tidewatch-control-1"},
		{"the declaration is another one", func(s *stage) {
			s.Papers = func() (map[string][]byte, error) {
				return map[string][]byte{"tidewatch.verbund.yaml": []byte("x")}, nil
			}
		}, "tidewatch.verbund.yaml is new"},
		{"of another cluster", func(s *stage) { s.Agreed.Plan.Cluster = "lampwright" }, "it is of cluster lampwright"},
	} {
		s := newStage(t, time.Minute)
		s.Agreed = s.saves(t, time.Hour)
		x.change(s)
		// What is ordered first ends it.
		s.computer.site.Getting = func(string, site.Order) error { return ended }
		err := s.Converge("converge", "", nil)
		var changed *Changed
		if x.want == "" {
			if len(s.asked) != 1 || errors.As(err, &changed) {
				t.Errorf("%s: %v, asked %q", x.name, err, s.asked)
			}
			continue
		}
		if !errors.As(err, &changed) || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", x.name, err)
		}
		if len(s.asked) > 0 || len(s.written(t)) > 0 {
			t.Errorf("%s: asked %q, written %q", x.name, s.asked, s.written(t))
		}
	}
}

// What cannot be undone wants as many signatures as are declared, whatever command it is of.
func TestApproved(t *testing.T) {
	s := newStage(t, time.Minute)
	if err := s.Store.Make(); err != nil {
		t.Fatal(err)
	}
	final := []plan.Step{{ID: "rest/a"}, {ID: "release/a", Final: true}}
	signed := func(names ...string) *Agreed {
		out := &Agreed{File: "tonight.plan", Text: []byte("the plan"), Signatures: saved.Signatures{}}
		for _, n := range names {
			_, k, err := ed25519.GenerateKey(rand.Reader)
			if err != nil {
				t.Fatal(err)
			}
			sg, err := ssh.NewSignerFromKey(k)
			if err != nil {
				t.Fatal(err)
			}
			if n != "stranger" {
				if err := s.Store.Admit(store.Person{Name: n, Recipient: string(ssh.MarshalAuthorizedKey(sg.PublicKey()))}); err != nil {
					t.Fatal(err)
				}
			}
			if out.Signatures[n+".sig"], err = sshsig.Sign(rand.Reader, sg, saved.Namespace, out.Text); err != nil {
				t.Fatal(err)
			}
		}
		return out
	}
	for i, x := range []struct {
		wanted int
		steps  []plan.Step
		agreed *Agreed
		want   string
	}{
		{0, final, nil, ""},
		{2, final[:1], nil, ""},
		{2, final, nil, "1 step cannot be undone"},
		{2, final, signed(), "nobody has signed it"},
		{2, final, signed("mara"), "only mara signed it"},
		{2, final, signed("tomas", "stranger"), "only tomas signed it"},
		{2, final, signed("ines", "pia"), ""},
	} {
		s.Decl.Approvals.Final, s.Agreed = x.wanted, x.agreed
		err := s.approved(x.steps)
		var m *Mistake
		if x.want == "" && err != nil || x.want != "" && (!errors.As(err, &m) || !strings.Contains(err.Error(), x.want)) {
			t.Errorf("%d: %v", i, err)
		}
	}
	if got := s.Agreed.inWords("converge"); got != "converge, signed by ines, pia" {
		t.Errorf("the journal has it as %q", got)
	}
	// A teardown is no way round it.
	s.Agreed = nil
	sessiontest.Remember(t, s.Session, func(st *memory.State) { st.Machines["tidewatch-control-1"] = memory.Machine{Hardware: "02:5e:1"} })
	s.computer.site.Has.Machines = []site.Machine{{Name: "tidewatch-control-1", Cluster: "tidewatch", Power: site.PowerOn}}
	if err := s.Teardown(); err == nil || !strings.Contains(err.Error(), "approvals.final of cluster tidewatch wants 2 signatures") {
		t.Errorf("a teardown: %v", err)
	}
	if len(s.asked) > 0 {
		t.Errorf("asked was %q", fmt.Sprint(s.asked))
	}
}

// A plan says which machines it is of, where the site says what they are; and whoever the store
// itself is protected for signs beside those who were admitted, if it is by an SSH key.
func TestSavedOf(t *testing.T) {
	s := newStage(t, time.Minute)
	p := &plan.Plan{Steps: []plan.Step{{ID: "rest/a", Machine: "a"}}}
	for hardware, v := range map[string]*look.View{"": {}, "02:5e:1": {Inventory: &site.Inventory{Machines: []site.Machine{{Name: "a", Hardware: "02:5e:1"}, {Name: "b", Hardware: "02:5e:2"}}}}} {
		got, err := SaveAs(s.Session, v, p, "", time.Now(), time.Hour)
		if err != nil || got.From.Machines["a"] != hardware || len(got.From.Machines) > 1 {
			t.Errorf("%+v, %v", got, err)
		}
	}
	if err := Savable(p, &look.View{}); err == nil || !strings.Contains(err.Error(), "would be a guess") {
		t.Errorf("without what the site has: %v", err)
	}
	if err := Savable(&plan.Plan{}, &look.View{}); err == nil || !strings.Contains(err.Error(), "nothing is to be done") {
		t.Errorf("of nothing: %v", err)
	}
	people := []store.Person{{Name: "mara", Recipient: "ssh-ed25519 AAAA1"}, {Name: "ines", Recipient: "age1x"}}
	for want, p := range map[string]*store.Protection{
		"map[]":                       nil,
		"map[ssh-ed25519 AAAA1:mara]": {Kind: store.ByKeyFile, Recipient: "age1y", People: people},
		"map[ssh-ed25519 AAAA1:mara ssh-ed25519 AAAA2:owner]": {Kind: store.BySSHKey, Recipient: "ssh-ed25519 AAAA2", People: people},
	} {
		if got := fmt.Sprint(map[string]string(Signers(p))); got != want {
			t.Errorf("who signs: %s, wanted %s", got, want)
		}
	}
}
