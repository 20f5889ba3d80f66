package vouch

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

func trustExportCmd(a *desk.App) *cobra.Command {
	var into string
	c := &cobra.Command{
		Use: "export [AUTHORITY]", Short: "Write what a computer or a browser needs in order to trust", Args: cobra.MaximumNArgs(1),
		Long:    "Writes the certificates of an authority, without any key, and says how they are\ninstalled. Without an argument it is that of the other programs if there is one,\notherwise that of the cluster.",
		Example: "  verbund trust export --into tidewatch.crt\n  verbund trust export cluster-authority",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			t, err := s.Trust()
			if err != nil {
				return err
			}
			known := []string{}
			for _, id := range append([]trust.Authority{trust.Programs}, trust.Authorities...) {
				if t.Certs[string(id)] != nil {
					known = append(known, string(id))
				}
			}
			if len(known) == 0 {
				return session.ErrNoTrust
			}
			id := known[0]
			if len(args) > 0 {
				if id = args[0]; !slices.Contains(known, id) {
					return term.Usage("there is no authority %s; choose one of %s", id, strings.Join(known, ", "))
				}
			}
			bundle := trust.Bundle(t.Certs, id)
			if into == "" {
				_, err = a.Out.Write(bundle)
			} else {
				err = whole.Write(into, bundle, 0o644)
			}
			if err != nil {
				return err
			}
			cert, err := trust.DecodeCert(bundle)
			if err != nil {
				return err
			}
			file := cmp.Or(into, s.Decl.Name+".crt")
			a.UI.Say("%s of cluster %s, until %s", id, s.Decl.Name, cert.NotAfter.Format(time.DateOnly))
			a.UI.Say("fingerprint (SHA-256) %s; compare it before you trust it", trust.Fingerprint(cert))
			a.UI.Say("a computer with Debian or Ubuntu: copy %s to /usr/local/share/ca-certificates/, then update-ca-certificates", file)
			a.UI.Say("a computer with Fedora: copy it to /etc/pki/ca-trust/source/anchors/, then update-ca-trust")
			a.UI.Say("a browser with a list of its own: settings, certificates, authorities, import, for websites only")
			if id == string(trust.Cluster) {
				a.UI.Say("kubectl needs none of this: access puts it into the kubeconfig; whoever installs it believes whatever the cluster signs")
			}
			return nil
		},
	}
	c.Flags().StringVar(&into, "into", "", "write it to this file instead of standard output")
	return c
}
