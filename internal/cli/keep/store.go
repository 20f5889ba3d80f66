package keep

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/words"
	"verbund/internal/engine/session"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// StoreSaid is what protects the store, as JSON.
type StoreSaid struct {
	Store      string `json:"store"`         // where it lies
	Who        string `json:"who,omitempty"` // asks there, where others share it
	Protection string `json:"protection"`
	Recipient  string `json:"recipient"`
	KeyFile    string `json:"keyFile"`
	Opens      bool   `json:"opens"`
}

// StoreChecked is what a check of the store found, as JSON.
type StoreChecked struct {
	Store  string   `json:"store"`
	Damage []string `json:"damage"` // what is not as it was written
}

// StoreCmd is verbund store.
func StoreCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{Use: "store", Short: "What the tool remembers: where it lies, and who opens it"}
	c.AddCommand(storeShowCmd(a), storeProtectCmd(a), storeMoveCmd(a), storeReachCmd(a), storePeopleCmd(a), storeAdmitCmd(a), storeDismissCmd(a))
	return c
}

func storeShowCmd(a *desk.App) *cobra.Command {
	var check bool
	c := &cobra.Command{
		Use: "show", Short: "Show where the store is, and what opens it", Args: term.NoArgs,
		Long: "With --check it walks the whole store: its file, its pages, the check under which\nevery value stands, and whether what it holds fits together; exit code 3 when\nsomething is not as it was written.",
		RunE: func(*cobra.Command, []string) error {
			s, _, err := openBeside(a)
			if err != nil {
				return err
			}
			defer s.Close()
			if check {
				return checkStore(a, s.Store)
			}
			p, err := s.Store.Protection()
			if err != nil {
				return err
			}
			key := a.Keys().KeyFile(*p)
			_, terr := s.Store.Trust()
			if a.Output == "json" {
				return a.UI.JSON(StoreSaid{s.Store.Where(), s.Store.Who(), p.Kind, p.Recipient, key, terr == nil})
			}
			fmt.Fprintf(a.Out, "store       %s\n", s.Store.Where())
			if who := s.Store.Who(); who != "" {
				fmt.Fprintf(a.Out, "asked as    %s\n", who)
			}
			fmt.Fprintf(a.Out, "protection  %s\n", p.Kind)
			if key != "" {
				fmt.Fprintf(a.Out, "key file    %s; keep a copy of it in a safe place\n", key)
			}
			if p.Recipient != "" {
				fmt.Fprintf(a.Out, "recipient   %s\n", p.Recipient)
			}
			if terr != nil {
				fmt.Fprintf(a.Out, "opens       no: %v\n", terr)
				return &term.Exit{Code: term.ExitNotWell}
			}
			fmt.Fprintln(a.Out, "opens       yes")
			return nil
		},
	}
	c.Flags().BoolVar(&check, "check", false, "walk the whole store, and say what of it is damaged")
	return c
}

func storeProtectCmd(a *desk.App) *cobra.Command {
	var passphrase, keyFile bool
	var passFile, sshKey string
	c := &cobra.Command{
		Use: "protect", Short: "Protect the secrets with a key file, a passphrase or an SSH key", Args: term.NoArgs,
		Long: `Encrypts every secret of the store anew, with a new key, and that key for whoever
is to open it: a key file in your own configuration folder (as at first), a
passphrase, or an SSH key (Ed25519 or RSA; give its public half). Backups are opened
by the same from then on.`,
		Example: "  verbund store protect --ssh-key ~/.ssh/id_ed25519.pub\n  verbund store protect --passphrase",
		RunE: func(*cobra.Command, []string) error {
			n := 0
			for _, set := range []bool{passphrase || passFile != "", keyFile, sshKey != ""} {
				if set {
					n++
				}
			}
			if n != 1 {
				return term.Usage("say one of --key-file, --passphrase and --ssh-key FILE")
			}
			return changed(a, "store protect", func(s *session.Session) error {
				old, err := s.Store.Protection()
				if err != nil {
					return err
				}
				k := a.Keys()
				k.Unlock = ""
				var p store.Protection
				switch {
				case keyFile:
					p, err = k.New(fmt.Sprintf("%x", time.Now().UnixNano()&0xffffffff), s.Decl.Name)
				case sshKey != "":
					var b []byte
					if b, err = whole.Read(sshKey); err == nil {
						p, err = k.BySSHKey(old.ID, string(b))
					}
				default:
					var text string
					if text, err = a.NewPassphrase(k, passFile); err == nil {
						p = k.ByPassphrase(old.ID, text)
					}
				}
				if err != nil {
					return term.Usage("%v", err)
				}
				if err := s.Store.Protect(p, k); err != nil {
					return err
				}
				a.UI.Say("the secrets of cluster %s are protected with a %s", s.Decl.Name, p.Kind)
				return nil
			})
		},
	}
	c.Flags().BoolVar(&keyFile, "key-file", false, "a new key file")
	c.Flags().BoolVar(&passphrase, "passphrase", false, "a passphrase, which is asked for")
	c.Flags().StringVar(&passFile, "passphrase-file", "", "a passphrase, from the first line of this file")
	c.Flags().StringVar(&sshKey, "ssh-key", "", "file with the public half of an SSH key")
	return c
}

// checkStore says what of a store is not as it was written.
func checkStore(a *desk.App, st session.Memory) error {
	found := []string{}
	for _, err := range st.Check() {
		if away := (*store.Unreached)(nil); errors.As(err, &away) {
			return err // nothing is known of it
		}
		found = append(found, err.Error())
	}
	if a.Output == "json" {
		if err := a.UI.JSON(StoreChecked{st.Where(), found}); err != nil {
			return err
		}
	} else {
		for _, f := range found {
			fmt.Fprintf(a.Out, "Damaged: %s.\n", f)
		}
		fmt.Fprintf(a.Out, "%s: %s damaged.\n", st.Where(), words.Are(len(found), "thing"))
	}
	if len(found) > 0 {
		return &term.Exit{Code: term.ExitNotWell}
	}
	return nil
}
