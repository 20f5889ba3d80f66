package enter

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"os"
	"path/filepath"
	"strings"
	"time"

	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/memory"
	"verbund/internal/core/trust"
	"verbund/internal/core/words"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

// requestAccess writes the request for a person's certificate, to be signed
// where the authority's key is, and the person's key beside it.
func requestAccess(a *desk.App, s *session.Session, w wanted, file string) error {
	switch {
	case s.Decl.Trust.Keys != "outside":
		return term.Usage("the key of cluster-authority is here, and access signs with it; leave --request out")
	case w.glass:
		return term.Usage("--break-glass cannot be signed outside: whoever has the authority's key there can let anybody in without it")
	}
	base := strings.TrimSuffix(file, ".csr")
	dir, err := filepath.Abs(filepath.Dir(base))
	if err != nil {
		return err
	}
	if tree := desk.WorkTree(dir); tree != "" {
		return term.Usage("%s lies in a git work tree (%s), and private keys do not belong there; choose another place", dir, tree)
	}
	if _, err := os.Stat(base + ".key"); err == nil {
		return term.Usage("%s is there already, and a key is never overwritten; choose another name, or go on with the request that belongs to it", base+".key")
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	text, err := trust.EncodeKey(key)
	if err != nil {
		return err
	}
	csr, err := trust.SigningRequest(trust.Access(w.person, w.groups, w.life), key)
	if err != nil {
		return err
	}
	if err := whole.Write(base+".key", text, 0o600); err != nil {
		return err
	}
	if err := whole.Write(base+".csr", csr, 0o644); err != nil {
		return err
	}
	a.UI.Say("wrote %s, to be signed by cluster-authority for %s (a day at most is taken), and its key, which stays with %s", base+".csr", lifeInWords(w.life), w.person)
	a.UI.Say("what now: verbund access --certificate %s --key %s", base+".crt", base+".key")
	return nil
}

// lifeInWords is how long something lives.
func lifeInWords(d time.Duration) string {
	if d%time.Hour == 0 {
		return words.Count(int(d/time.Hour), "hour")
	}
	return words.Count(int(d/time.Minute), "minute")
}

// signed are the files of a certificate that was signed outside.
type signed struct{ cert, key string }

// access makes a kubeconfig of the answer, if nothing is wrong with it.
func (f signed) access(s *session.Session) (*clientcmdapi.Config, memory.Given, error) {
	var g memory.Given
	if f.cert == "" || f.key == "" {
		return nil, g, term.Usage("--certificate and --key belong together")
	}
	b, err := whole.Read(f.cert)
	if err != nil {
		return nil, g, term.Usage("%v", err)
	}
	cert, err := trust.DecodeCert(b)
	if err != nil {
		return nil, g, term.Usage("%s: %v", f.cert, err)
	}
	b, err = whole.Read(f.key)
	if err != nil {
		return nil, g, term.Usage("%v", err)
	}
	key, err := trust.DecodeKey(b)
	if err != nil {
		return nil, g, term.Usage("%s: %v", f.key, err)
	}
	t, err := s.Trust()
	if err != nil {
		return nil, g, err
	}
	ca, err := trust.DecodeCert(t.Certs[string(trust.Cluster)])
	if err != nil {
		return nil, g, session.ErrNoTrust
	}
	if wrong := trust.CheckAccess(cert, key.Public(), ca, mostAccess, time.Now()); len(wrong) > 0 {
		return nil, g, term.Usage("%s gives no access to cluster %s: %s", f.cert, s.Decl.Name, strings.Join(wrong, "; "))
	}
	plain, err := trust.EncodeKey(key)
	if err != nil {
		return nil, g, err
	}
	return entryFor(s, trust.EncodeCert(cert), plain, trust.Bundle(t.Certs, string(trust.Cluster)))
}
