package practise

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/site/simulated"
)

// helpWidth is how wide a help text is, in characters.
const helpWidth = 84

func faultCmd(a *desk.App) *cobra.Command {
	machines, artefacts, zones := simulated.Faults()
	return &cobra.Command{
		Use:   "fault KIND NAME",
		Short: "Make something go wrong",
		Long: strings.Join(slices.Concat(
			term.Fold("Of a machine: "+strings.Join(machines, ", ")+".", helpWidth),
			term.Fold("Of an artefact, as NAME:VERSION: "+strings.Join(artefacts, ", ")+". Of a zone: "+strings.Join(zones, ", ")+"; of the network between two as ZONE,ZONE.", helpWidth)), "\n"),
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
