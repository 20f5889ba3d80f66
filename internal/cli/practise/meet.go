package practise

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/whole"
)

// MetSaid is one machine of a list and the host key that it shows, as JSON.
type MetSaid struct {
	Address string `json:"address"`
	Zone    string `json:"zone"`
	Size    string `json:"size"`
	Known   string `json:"known,omitempty"` // host key in the site file
	Shows   string `json:"shows,omitempty"` // host key that whoever answers there shows
	Error   string `json:"error,omitempty"` // why it shows none
}

func meetCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use:   "meet",
		Short: "Learn the host keys of listed machines, which you compare",
		Long: `Asks the machines of a site of kind listed for their host keys, and shows them. A key
that the site file does not have yet is written there once you say that it is the
machine's: compare it with what the machine itself shows, at its own console or
through somebody who is at it. Nobody logs in to a machine whose key is not known.`,
		Example: "  verbund site meet\n  ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub     # on the machine",
		Args:    term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, r, err := a.OpenFile(false)
			if err != nil {
				return err
			}
			if s.SiteFile.Kind != declare.ListedSite {
				return term.Usage("site %s is of kind %s, which knows its machines' host keys", s.Decl.Site, s.SiteFile.Kind)
			}
			met := look.Meet(a.Soft, s.SiteFile)
			if a.Output == "json" {
				list := []MetSaid{}
				for _, m := range met {
					said := MetSaid{Address: m.Address.String(), Zone: m.Zone, Size: m.Size, Known: m.HostKey, Shows: m.Shows}
					if m.Err != nil {
						said.Error = m.Err.Error()
					}
					list = append(list, said)
				}
				return a.UI.JSON(list)
			}
			return meet(a, r.SiteFile, met)
		},
	}
}

// meet shows who answered, and writes what the person knows again.
func meet(a *desk.App, file string, met []look.Met) error {
	var rows [][]term.Cell
	var fresh []look.Met
	silent, others := 0, 0
	for _, m := range met {
		shows, how := term.Plain(m.Shows), term.Cell{Text: "as in the site file", State: "good"}
		switch {
		case m.Err != nil:
			shows, how = term.Plain("-"), term.Cell{Text: m.Err.Error(), State: "bad"}
			silent++
		case m.HostKey == "":
			how = term.Cell{Text: "new", State: "attention"}
			fresh = append(fresh, m)
		case m.HostKey != m.Shows:
			how = term.Cell{Text: "another one than in the site file", State: "bad"}
			others++
		}
		rows = append(rows, []term.Cell{term.Plain(m.Address.String()), term.Plain(m.Zone), term.Plain(m.Size), shows, how})
	}
	a.UI.Table([]string{"machine", "zone", "size", "host key", "which is"}, rows, "size", "zone")
	if len(fresh) > 0 {
		a.UI.Say("compare each new one with what that machine shows at its own console:\n  ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub")
		if err := a.UI.AskPerson(fmt.Sprintf("are these the machines' own, and is %s to have %s?", filepath.Base(file), words.Count(len(fresh), "key"))); err != nil {
			return err
		}
		if err := writeKeys(file, fresh); err != nil {
			return err
		}
		a.UI.Say("wrote %s into %s", words.Count(len(fresh), "host key"), filepath.Base(file))
	}
	switch {
	case others > 0:
		return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("another host key than is known is shown by %s; find out who answers there, and only if it was set up anew by somebody you trust, take its hostKey out of the site file and meet it again", words.Count(others, "machine"))}
	case silent > 0:
		return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s not reached; see to it that all run and can be reached from here, and run the same command again", words.Are(silent, "machine"))}
	}
	return nil
}

func writeKeys(file string, met []look.Met) error {
	i, err := os.Stat(file)
	if err != nil {
		return err
	}
	b, err := whole.Read(file)
	if err != nil {
		return err
	}
	for _, m := range met {
		if b, err = declare.SetHostKey(b, m.Address, m.Shows); err != nil {
			return fmt.Errorf("writing the host key of %s into %s: %w; it is hostKey: %q", m.Address, file, err, m.Shows)
		}
	}
	return whole.Write(file, b, i.Mode().Perm())
}
