package vouch

import (
	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
)

// TrustCmd is verbund trust.
func TrustCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{Use: "trust", Short: "Certificates and keys: look at them, renew and replace them"}
	c.AddCommand(trustListCmd(a), trustShowCmd(a), trustGraphCmd(a), trustRenewCmd(a), trustReplaceCmd(a), trustAdoptCmd(a), trustRequestCmd(a), trustAcceptCmd(a), trustIssueCmd(a), trustExportCmd(a), trustPackCmd(a), trustUnpackCmd(a))
	return c
}
