package saved

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/core/plan"
	"verbund/internal/core/sshsig"
)

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// of is the plan of a change, as it would be made now.
func of(change func(p *plan.Plan, papers map[string][]byte, hardware map[string]string)) *Plan {
	p := &plan.Plan{Steps: []plan.Step{{ID: "rest/a", Kind: plan.Rest, Machine: "a", Text: "take it out", Why: "no request", Guards: plan.Guards()}, {ID: "release/a", Kind: plan.Release, Machine: "a", Text: "give it back", Why: "not declared", Needs: []string{"rest/a"}, Final: true}},
		Removes: []plan.Removal{{Machine: "a", Text: "machine a"}}}
	papers, hardware := map[string][]byte{"tidewatch.verbund.yaml": []byte("x"), "estuary.site.yaml": []byte("y")}, map[string]string{"a": "02:5e:1", "b": "02:5e:2"}
	if change != nil {
		change(p, papers, hardware)
	}
	return Of("tidewatch", "", p, papers, []byte("catalogue"), hardware, noon, time.Hour)
}

// A plan is read back as it was saved; what is none is refused.
func TestRead(t *testing.T) {
	p := of(nil)
	b, err := p.Encode()
	if err != nil {
		t.Fatal(err)
	}
	got, err := Read(b)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := got.Encode(); err != nil || string(again) != string(b) {
		t.Errorf("it is read back as %s, %v", again, err)
	}
	if f := got.Final(); len(f) != 1 || f[0].ID != "release/a" || len(got.From.Machines) != 1 || !got.Until.Equal(noon.Add(time.Hour)) {
		t.Errorf("%+v", got)
	}
	for _, text := range []string{"", "{}", "[]", strings.Replace(string(b), Schema, "verbund-plan/2", 1), strings.Replace(string(b), `"made"`, `"mode"`, 1), `{"schema":"` + Schema + `","cluster":"tidewatch"}`} {
		if p, err := Read([]byte(text)); err == nil {
			t.Errorf("%.60q is read as %+v", text, p)
		}
	}
}

// What is different by now is named; what is the same is not.
func TestDiffers(t *testing.T) {
	was := of(nil)
	for _, x := range []struct {
		name   string
		change func(p *plan.Plan, papers map[string][]byte, hardware map[string]string)
		later  time.Duration
		want   []string
	}{
		{"nothing", nil, time.Hour, nil},
		{"a machine that is not concerned", func(_ *plan.Plan, _ map[string][]byte, h map[string]string) { h["b"] = "02:5e:9" }, 0, nil},
		{"it is too late", nil, time.Hour + time.Second, []string{"until"}},
		{"the declaration", func(_ *plan.Plan, f map[string][]byte, _ map[string]string) {
			f["tidewatch.verbund.yaml"] = []byte("z")
			delete(f, "estuary.site.yaml")
			f["tidewatch.pins.yaml"] = nil
		}, 0, []string{"estuary.site.yaml is not here", "tidewatch.verbund.yaml is another one", "tidewatch.pins.yaml is new"}},
		{"a machine", func(_ *plan.Plan, _ map[string][]byte, h map[string]string) { h["a"] = "02:5e:9" }, 0, []string{"machine a is another one: 02:5e:9 instead of 02:5e:1"}},
		{"a step less", func(p *plan.Plan, _ map[string][]byte, _ map[string]string) { p.Steps = p.Steps[:1] }, 0, []string{"step release/a (give it back) is not to be done any more"}},
		{"a step more", func(p *plan.Plan, _ map[string][]byte, _ map[string]string) {
			p.Steps = append(p.Steps, plan.Step{ID: "verify", Text: "look"})
		}, 0, []string{"step verify (look) is new"}},
		{"why", func(p *plan.Plan, _ map[string][]byte, _ map[string]string) { p.Steps[0].Why = "it fails" }, 0, []string{`why of step rest/a is "it fails", and was "no request"`}},
		{"what it needs", func(p *plan.Plan, _ map[string][]byte, _ map[string]string) { p.Steps[1].Needs = nil }, 0, []string{`needs of step release/a is nothing, and was ["rest/a"]`}},
		{"the order", func(p *plan.Plan, _ map[string][]byte, _ map[string]string) { slices.Reverse(p.Steps) }, 0, []string{"in another order"}},
	} {
		got := was.Differs(of(x.change), noon.Add(x.later))
		if len(got) != len(x.want) {
			t.Errorf("%s: %q", x.name, got)
			continue
		}
		for i, want := range x.want {
			if !strings.Contains(got[i], want) {
				t.Errorf("%s: %q, wanted %q", x.name, got[i], want)
			}
		}
	}
	other := of(nil)
	other.Cluster = "lampwright"
	if got := was.Differs(other, noon); len(got) != 1 || !strings.Contains(got[0], "it is of cluster tidewatch, and this one is lampwright") {
		t.Errorf("of another cluster: %q", got)
	}
	other = of(nil)
	other.From.Catalogue = Digest(nil)
	if got := was.Differs(other, noon); len(got) != 1 || !strings.Contains(got[0], "catalogue") {
		t.Errorf("with another catalogue: %q", got)
	}
}

// Who has signed counts once, whatever they sign with; nobody else does, and nothing that was signed
// for something else.
func TestApproved(t *testing.T) {
	text := []byte("the plan")
	who := Signers{}
	signer := map[string]ssh.Signer{}
	for _, name := range []string{"mara", "mara's other", "tomas", "stranger"} {
		_, k, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if signer[name], err = ssh.NewSignerFromKey(k); err != nil {
			t.Fatal(err)
		}
		if name != "stranger" {
			person, _, _ := strings.Cut(name, "'")
			who[string(ssh.MarshalAuthorizedKey(signer[name].PublicKey()))] = person
		}
	}
	who["age1notanykeyofssh"] = "ines"
	sign := func(name, namespace, text string) []byte {
		sig, err := sshsig.Sign(rand.Reader, signer[name], namespace, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return sig
	}
	sigs := Signatures{"a.sig": sign("mara", Namespace, "the plan"), "b.sig": sign("mara's other", Namespace, "the plan"), "c.sig": sign("tomas", "file", "the plan"),
		"d.sig": sign("tomas", Namespace, "another plan"), "e.sig": sign("stranger", Namespace, "the plan"), "f.sig": []byte("x")}
	names, worthless := Approved(text, sigs, who)
	if fmt.Sprint(names) != "[mara]" || len(worthless) != 4 || !strings.Contains(worthless[2], "e.sig: it is signed with SHA256:") {
		t.Errorf("%q have signed; worthless are %q", names, worthless)
	}
	sigs["g.sig"] = sign("tomas", Namespace, "the plan")
	if names, _ := Approved(text, sigs, who); fmt.Sprint(names) != "[mara tomas]" {
		t.Errorf("%q have signed", names)
	}
	if n := who.Signer(signer["tomas"].PublicKey()); n != "tomas" {
		t.Errorf("it is %q's", n)
	}
	if n := who.Signer(signer["stranger"].PublicKey()); n != "" {
		t.Errorf("a stranger is %q", n)
	}
}
