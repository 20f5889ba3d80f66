package vouch

import (
	"crypto"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/trust"
	"verbund/internal/core/words"
	"verbund/internal/engine/session"
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
			b, err := os.ReadFile(certFile)
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
			facts, err := s.Store.Facts()
			if err != nil {
				return err
			}
			if err := vouch.Adopt(s, c, args[0], cert, key, facts != nil, time.Now()); err != nil {
				return term.Usage("%s cannot be used: %v", certFile, err)
			}
			a.UI.Say("%s is %s, until %s", args[0], cert.Subject, cert.NotAfter.Format(time.DateOnly))
			if strings.Count(string(b), "BEGIN CERTIFICATE") > 1 {
				a.UI.Say("the further certificates in %s were left out: the cluster trusts the first one alone", certFile)
			}
			if facts != nil {
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
	b, err := os.ReadFile(x.keyFile)
	if err != nil {
		return nil, term.Usage("%v", err)
	}
	var pass []byte
	if x.passFile != "" {
		line, err := os.ReadFile(x.passFile)
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

func trustRequestCmd(a *desk.App) *cobra.Command {
	var into string
	c := &cobra.Command{
		Use: "request", Short: "Write the certificate requests that somebody outside has to sign", Args: term.NoArgs,
		Long: `For a cluster whose authorities' keys are outside (trust: {keys: outside}): makes the
keys of everything that is missing or due, keeps them, and writes one PKCS #10 request
a file, in a folder by authority. Names and usages are in the request, to be copied.
trust accept takes the answers.`,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.Open(true)
			if err != nil {
				return err
			}
			defer s.Close()
			if s.Decl.Trust.Keys != "outside" {
				return term.Usage("the keys of the authorities of cluster %s are held here: converge signs what is due", s.Decl.Name)
			}
			c, err := s.Topology()
			if err != nil {
				return err
			}
			release, err := desk.Held(s, "trust request")
			if err != nil {
				return err
			}
			defer release()
			qs, err := vouch.SigningRequests(s, c, time.Now())
			if err != nil {
				return err
			}
			if len(qs) == 0 {
				a.UI.Say("nothing of cluster %s has to be signed", s.Decl.Name)
				return nil
			}
			if into == "" {
				into = filepath.Join(a.Dir, s.Decl.Name+".requests")
			}
			all := map[string]trust.Request{}
			for _, q := range vouch.Certificates(c) {
				all[q.ID] = q
			}
			for _, id := range slices.Sorted(maps.Keys(qs)) {
				dir := filepath.Join(into, string(all[id].Authority))
				if err := os.MkdirAll(dir, 0o755); err != nil {
					return err
				}
				if err := whole.Write(filepath.Join(dir, strings.ReplaceAll(id, "/", ".")+".csr"), qs[id], 0o644); err != nil {
					return err
				}
			}
			a.UI.Say("wrote %s to %s, in a folder by authority; keys stay in the store", words.Count(len(qs), "request"), into)
			a.UI.Say("each has to be signed with its names and usages, for at most %s; bring the answers with: verbund trust accept FILE…", s.Decl.Trust.Leaf)
			return nil
		},
	}
	c.Flags().StringVar(&into, "into", "", "the folder; NAME.requests if not given")
	return c
}

func trustAcceptCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "accept FILE…", Short: "Take certificates that somebody outside has signed", Args: cobra.MinimumNArgs(1),
		Long: "Takes PEM files, or - for standard input. Each certificate is held against its\nrequest: key, names, usages, authority and life. What is right is kept, what is wrong\nis refused by name and changes nothing. Exit code 1 when something was refused.",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			c, err := s.Topology()
			if err != nil {
				return err
			}
			files := map[string][]byte{}
			for _, f := range args {
				var b []byte
				if f == "-" {
					b, err = io.ReadAll(a.In)
				} else {
					b, err = os.ReadFile(f)
				}
				if err != nil {
					return term.Usage("%v", err)
				}
				files[f] = b
			}
			if !s.Store.Exists() {
				return session.ErrNoTrust
			}
			release, err := s.Store.Lock("trust accept")
			if err != nil {
				return err
			}
			defer release()
			answers, err := vouch.Accept(s, c, files, time.Now())
			if err != nil {
				return err
			}
			refused := 0
			for _, x := range answers {
				if len(x.Wrong) > 0 {
					refused++
				}
			}
			if a.Output == "json" {
				err = a.UI.JSON(answers)
			} else {
				for _, x := range answers {
					if len(x.Wrong) > 0 {
						fmt.Fprintf(a.Out, "refused %s: %s\n", strings.TrimPrefix(x.ID+" ("+x.File+")", " "), strings.Join(x.Wrong, "; "))
					}
				}
			}
			a.UI.Say("accepted %s, refused %d", words.Count(len(answers)-refused, "certificate"), refused)
			if due, _, werr := vouch.Waiting(s, c, time.Now()); werr == nil && len(due) > 0 {
				a.UI.Say("%s still wait: trust request writes their requests again", words.Count(len(due), "certificate"))
			}
			if err == nil && (refused > 0 || len(answers) == 0) {
				return &term.Exit{Code: term.ExitFailed, Err: errors.New("not everything could be accepted")}
			}
			return err
		},
	}
}
