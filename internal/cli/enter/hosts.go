package enter

import (
	"fmt"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
)

// HostLine is one name of the cluster.
type HostLine struct {
	Address netip.Addr `json:"address"`
	Names   []string   `json:"names"`
}

// HostsCmd is verbund hosts.
func HostsCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "hosts", Short: "Show lines for a hosts file, with the cluster's names", Args: term.NoArgs,
		Long:    "Where no name server knows them, these lines do in /etc/hosts: the endpoint, and\nevery machine. Nothing is written and nothing is asked.",
		Example: "  verbund hosts | sudo tee -a /etc/hosts",
		RunE: func(*cobra.Command, []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			c, err := s.Topology()
			if err != nil {
				return err
			}
			list := []HostLine{{c.Endpoint.Address, []string{c.Endpoint.Name}}}
			for _, m := range c.Machines {
				list = append(list, HostLine{m.Address, []string{m.Name}})
			}
			if a.Output == "json" {
				return a.UI.JSON(list)
			}
			for _, l := range list {
				fmt.Fprintf(a.Out, "%s %s\n", l.Address, strings.Join(l.Names, " "))
			}
			return nil
		},
	}
}
