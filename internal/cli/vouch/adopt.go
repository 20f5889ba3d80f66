package vouch

import (
	"crypto"
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/trust"
	"verbund/internal/engine/vouch"
	"verbund/internal/whole"
)

func trustAdoptCmd(a *desk.App) *cobra.Command {
	var certFile, keyFile, passFile string
	c := &cobra.Command{
		Use: "adopt AUTHORITY", Short: "Use an authority that somebody else made, such as an intermediate of your own", Args: term.ExactArgs(1, "one of cluster-authority, datastore-authority, front-proxy-authority"),
		Long: `Takes the certificate of an authority and its key: PEM, the key as PKCS #8, plain or
encrypted. Its passphrase is asked for, or read from a file. The cluster trusts that
certificate alone, never a root above it that others share.

Before the cluster is raised it becomes the authority at once. In a living cluster
it comes as the next one, and trust replace takes it up, pass by pass. With trust
keys: outside in the declaration, leave the key out: it is never here.`,
		Example: "  verbund trust adopt cluster-authority --certificate tidewatch-ca.crt --key tidewatch-ca.key",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.Open(true)
			if err != nil {
				return err
			}
			defer s.Close()
			if certFile == "" {
				return term.Usage("--certificate FILE is needed")
			}
			outside := s.Decl.Trust.Keys == "outside"
			if outside == (keyFile != "") {
				return term.Usage("%s", map[bool]string{true: "trust.keys is outside in the declaration: leave --key out", false: "--key FILE is needed; a key that is not to be here is declared as trust: {keys: outside}"}[outside])
			}
			b, err := whole.Read(certFile)
			if err != nil {
				return term.Usage("%v", err)
			}
			cert, err := trust.DecodeCert(b)
			if err != nil {
				return term.Usage("%s: %v", certFile, err)
			}
			x := &adopting{App: a, keyFile: keyFile, passFile: passFile}
			key, err := x.key()
			if err != nil {
				return err
			}
			c, err := s.Topology()
			if err != nil {
				return err
			}
			release, err := desk.Held(s, "trust adopt")
			if err != nil {
				return err
			}
			defer release()
			st, err := s.Store.Read()
			if err != nil {
				return err
			}
			if err := vouch.Adopt(s, c, args[0], cert, key, st.Facts != nil, time.Now()); err != nil {
				return term.Usage("%s cannot be used: %v", certFile, err)
			}
			a.UI.Say("%s is %s, until %s", args[0], cert.Subject, cert.NotAfter.Format(time.DateOnly))
			if strings.Count(string(b), "BEGIN CERTIFICATE") > 1 {
				a.UI.Say("the further certificates in %s were left out: the cluster trusts the first one alone", certFile)
			}
			if st.Facts != nil {
				a.UI.Say("it is the next one; verbund trust replace %s takes it up", args[0])
			}
			return nil
		},
	}
	c.Flags().StringVar(&certFile, "certificate", "", "file with its certificate")
	c.Flags().StringVar(&keyFile, "key", "", "file with its private key")
	c.Flags().StringVar(&passFile, "passphrase-file", "", "file with the passphrase of an encrypted key, in its first line")
	return c
}

// adopting reads a key that may be encrypted.
type adopting struct {
	*desk.App
	keyFile, passFile string
}

func (x *adopting) key() (crypto.Signer, error) {
	if x.keyFile == "" {
		return nil, nil
	}
	b, err := whole.Read(x.keyFile)
	if err != nil {
		return nil, term.Usage("%v", err)
	}
	var pass []byte
	if x.passFile != "" {
		line, err := whole.Read(x.passFile)
		if err != nil {
			return nil, term.Usage("%v", err)
		}
		first, _, _ := strings.Cut(string(line), "\n")
		pass = []byte(strings.TrimRight(first, "\r"))
	}
	k, err := trust.ReadKey(b, pass)
	if errors.Is(err, trust.ErrEncrypted) {
		ask := x.Keys().Ask
		if ask == nil {
			return nil, term.Usage("%s is encrypted, and there is nobody to ask for its passphrase; say --passphrase-file FILE", x.keyFile)
		}
		text, aerr := ask("passphrase of " + x.keyFile)
		if aerr != nil {
			return nil, aerr
		}
		k, err = trust.ReadKey(b, []byte(text))
	}
	if err != nil {
		return nil, term.Usage("%s: %v", x.keyFile, err)
	}
	return k, nil
}
