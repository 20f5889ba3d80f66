package practise

import (
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/site/simulated"
)

func faultCmd(a *desk.App) *cobra.Command {
	machines, artefacts, zones := simulated.Faults()
	return &cobra.Command{
		Use:   "fault KIND NAME",
		Short: "Make something go wrong",
		Long: "Of a machine: " + strings.Join(machines, ", ") + ". Of an artefact, as NAME:VERSION: " + strings.Join(artefacts, ", ") +
			". Of a zone: " + strings.Join(zones, ", ") + "; of the network between two as ZONE,ZONE.",
		Args: term.ExactArgs(2, "a kind of fault and the name of a machine, artefact or zone"),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			c, err := desk.SimulatedSite(s)
			if err != nil {
				return err
			}
			return desk.SiteError(s, c.Fault(a.Hard, args[0], args[1]))
		},
	}
}
