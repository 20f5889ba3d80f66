package cli_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"verbund/internal/cli/act"
)

// A plan is saved, signed by those who are to agree, and carried out as it is: nothing that cannot be
// undone is done in another way, and nothing at all when something is different by then.
func TestPlanThatPeopleAgreeOn(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("ssh-keygen is not here, and on CI it has to be")
		}
		t.Skip("ssh-keygen is not here: apt-get install openssh-client")
	}
	w := newWorld(t, "small", "v1.37.2")
	w.declare(`count: 1, size: small`, "count: 2, size: small")
	w.ok("converge", "--yes")
	w.fails(1, []string{"nothing is to be done"}, "plan", "--save", w.path("t.plan"))
	key := func(name string) string {
		_, k, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		b, err := ssh.MarshalPrivateKey(k, "")
		if err != nil {
			t.Fatal(err)
		}
		s, err := ssh.NewSignerFromKey(k)
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(w.keys, name)
		if err := errors.Join(os.WriteFile(file, pem.EncodeToMemory(b), 0o600), os.WriteFile(file+".pub", ssh.MarshalAuthorizedKey(s.PublicKey()), 0o644)); err != nil {
			t.Fatal(err)
		}
		return file
	}
	mara, tomas, stranger := key("mara"), key("tomas"), key("stranger")
	w.declare(`count: 2, size: small`, "count: 1, size: small")
	w.declare(`site: estuary`, "site: estuary\napprovals: {final: 2}")
	w.fails(2, []string{"cannot be undone", "wants 2 signatures", "plan --save FILE"}, "converge", "--yes")
	w.fails(2, []string{"--within"}, "plan", "--save", w.path("t.plan"), "--within", "1s")
	w.fails(0, []string{"saved", "converge --plan"}, "plan", "--save", w.path("t.plan"))
	w.fails(2, []string{"nobody opens the store with an SSH key"}, "plan", "approve", w.path("t.plan"), "--yes", "--unlock", mara)
	w.ok("store", "admit", "mara", mara+".pub")
	w.ok("store", "admit", "tomas", tomas+".pub")
	w.fails(2, []string{"is the key of nobody"}, "plan", "approve", w.path("t.plan"), "--yes", "--unlock", stranger)
	w.fails(2, []string{"--yes"}, "plan", "approve", w.path("t.plan"), "--unlock", mara) // there is nobody to ask
	w.fails(0, []string{"removes   tidewatch-keepers-2", "for good  tidewatch-keepers-2", "by nobody; 2 wanted", "signed as mara"}, "plan", "approve", w.path("t.plan"), "--yes", "--unlock", mara)
	w.fails(2, []string{"only mara signed it"}, "converge", "--plan", w.path("t.plan"), "--yes")

	// OpenSSH's own tool signs as well.
	if out, err := exec.Command("ssh-keygen", "-Y", "sign", "-f", tomas, "-n", "verbund-plan", w.path("t.plan")).CombinedOutput(); err != nil {
		t.Fatalf("ssh-keygen: %v\n%s", err, out)
	}
	var said act.SavedSaid
	if err := json.Unmarshal([]byte(w.ok("plan", "show", w.path("t.plan"), "-o", "json")), &said); err != nil || strings.Join(said.SignedBy, " ") != "mara tomas" || len(said.Worthless) > 0 || said.Wanted != 2 {
		t.Errorf("%+v, %v", said, err)
	}
	// An altered plan is nobody's, and one of another cluster is not of this one.
	b, err := os.ReadFile(w.path("t.plan"))
	if err != nil {
		t.Fatal(err)
	}
	alter := func(old, with string) {
		t.Helper()
		if err := os.WriteFile(w.path("t.plan"), []byte(strings.Replace(string(b), old, with, 1)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	alter(`"cluster": "tidewatch"`, `"cluster":  "tidewatch"`)
	w.fails(2, []string{"it is not of this text", "nobody has signed it"}, "converge", "--plan", w.path("t.plan"), "--yes")
	alter(`"cluster": "tidewatch"`, `"cluster": "lampwright"`)
	w.fails(2, []string{"is a plan of cluster lampwright"}, "plan", "show", w.path("t.plan"))
	w.fails(1, []string{"it is of cluster lampwright"}, "converge", "--plan", w.path("t.plan"), "--yes")
	alter(`"schema"`, `"scheme"`)
	w.fails(2, []string{"it is no plan that was saved"}, "converge", "--plan", w.path("t.plan"), "--yes")
	w.fails(2, []string{"no such file"}, "converge", "--plan", w.path("u.plan"), "--yes")
	alter("", "")

	// Something is different by then.
	w.declare(`count: 1, size: small`, "count: 1, size: small ")
	w.fails(1, []string{"tidewatch.verbund.yaml is another one", "nothing was changed"}, "converge", "--plan", w.path("t.plan"), "--yes")
	w.declare(`count: 1, size: small `, "count: 1, size: small")
	w.fails(0, []string{"the plan is signed by mara, tomas"}, "converge", "--plan", w.path("t.plan"), "--yes")
	w.fails(0, []string{"converge --plan t.plan, signed by mara, tomas"}, "history")
	if _, there := w.machines()["tidewatch-keepers-2"]; there {
		t.Error("the machine is there")
	}
	w.fails(1, []string{"nothing is to be done"}, "converge", "--plan", w.path("t.plan"), "--yes")
	w.fails(2, []string{"wants 2 signatures"}, "teardown", "--confirm", "tidewatch")
	w.fails(2, []string{"wants 2 signatures"}, "clear", "tidewatch-keepers-1", "--yes", "--confirm", "tidewatch")
	w.fails(2, []string{"wants 2 signatures"}, "replace", "tidewatch-keepers-1", "--yes")
}
