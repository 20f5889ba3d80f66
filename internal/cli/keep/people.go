package keep

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/engine/act"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// PersonSaid is somebody who opens the store, as JSON.
type PersonSaid struct {
	Name      string `json:"name"` // empty: whoever has what the store itself is protected with
	Kind      string `json:"kind"`
	Recipient string `json:"recipient,omitempty"`
}

// DismissedSaid is what somebody who was dismissed may have kept, as JSON.
type DismissedSaid struct {
	Name string           `json:"name"`
	Kept []vouch.Exposure `json:"kept"`
}

func storePeopleCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "people", Short: "List who opens the store", Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, _, err := openBeside(a)
			if err != nil {
				return err
			}
			defer s.Close()
			p, err := s.Store.Protection()
			if err != nil {
				return err
			}
			said := []PersonSaid{{"", p.Kind, p.Recipient}}
			for _, w := range p.People {
				said = append(said, PersonSaid{w.Name, kindOf(w.Recipient), w.Recipient})
			}
			if a.Output == "json" {
				return a.UI.JSON(said)
			}
			var rows [][]term.Cell
			for _, w := range said {
				name := w.Name
				if name == "" {
					name = "whoever has it"
				}
				rows = append(rows, term.Cells(name, w.Kind, w.Recipient))
			}
			a.UI.Table([]string{"who", "opens it with", "public half"}, rows)
			return nil
		},
	}
}

// kindOf says of which kind a key of somebody's own is, by its public half.
func kindOf(recipient string) string {
	if strings.HasPrefix(recipient, "ssh-") {
		return store.BySSHKey
	}
	return "age key"
}

func storeAdmitCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "admit NAME KEY", Short: "Let somebody open the store with a key of their own", Args: term.ExactArgs(2, "a name, and the public half of a key: an SSH key (Ed25519 or RSA), an age recipient, or a file with either"),
		Long: `Lets somebody open the secrets of the store, and the cluster's backups, with a key of
their own: an SSH key (Ed25519 or RSA) or an age key, of which it takes the public half.
The key is looked for where such keys lie as a rule, or given with --unlock. Who opens
the store holds every key of the cluster.`,
		Example: "  verbund store admit tomas ~/tomas.pub\n  verbund store admit ines 'ssh-ed25519 AAAA…'",
		RunE: func(_ *cobra.Command, args []string) error {
			key := args[1]
			if b, err := whole.Read(key); err == nil {
				key = publicHalf(string(b))
			}
			return changed(a, "store admit "+args[0], func(s *session.Session) error {
				if err := s.Store.Admit(store.Person{Name: args[0], Recipient: key}); err != nil {
					return err
				}
				a.UI.Say("%s opens the store of cluster %s, and its backups from now on", args[0], s.Decl.Name)
				return nil
			})
		},
	}
}

// publicHalf is the key in a file: its first line that is not a remark.
func publicHalf(text string) string {
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return line
		}
	}
	return ""
}

func storeDismissCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "dismiss NAME", Short: "Have somebody's key open the store no more", Args: term.ExactArgs(1, "a name; store people lists them"),
		Long: `Closes every secret of the store anew, with another key, which that person's opens no
more, and has new backups open with another identity. What they have opened they may
have kept: it lists that, with the commands by which it becomes worthless. Where the
memory lies in an etcd, take their access to that as well: it keeps what was there
before until it is compacted.`,
		Example: "  verbund store dismiss tomas",
		RunE: func(_ *cobra.Command, args []string) error {
			return changed(a, "store dismiss "+args[0], func(s *session.Session) error {
				t, err := s.Store.Trust()
				if err != nil {
					return err
				}
				if err := s.Store.Dismiss(args[0]); err != nil {
					return err
				}
				kept := vouch.Exposed(t)
				if a.Output == "json" {
					return a.UI.JSON(DismissedSaid{args[0], kept})
				}
				a.UI.Say("%s opens the store of cluster %s no more", args[0], s.Decl.Name)
				if s.Decl.Backup.Every > 0 {
					a.UI.Say("backups that machines take by themselves go on opening for %s until verbund converge has given them the new identity", args[0])
				}
				fmt.Fprintf(a.Out, "\n%s may have kept these. What has a command becomes worthless by it:\n\n", args[0])
				var rows [][]term.Cell
				for _, e := range kept {
					rows = append(rows, term.Cells(e.ID, e.What, e.Command))
				}
				a.UI.Table([]string{"key", "what it is good for", "command"}, rows)
				fmt.Fprintln(a.Out, "\nTokens and access that were given out end by themselves: verbund token list, verbund access --list.")
				return nil
			})
		},
	}
	return c
}

// changed does something with a store that is there, while nobody else changes it. The journal has it.
func changed(a *desk.App, command string, do func(*session.Session) error) error {
	s, _, err := openBeside(a)
	if err != nil {
		return err
	}
	defer s.Close()
	release, err := s.Store.Lock(command)
	if err != nil {
		return err
	}
	defer release()
	return a.Noted(s, nil, command, func(*act.Run) (string, error) { return "", do(s) })
}
