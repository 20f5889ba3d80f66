package vouch

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/trust"
)

func trustShowCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "show CERTIFICATE", Short: "Explain one certificate", Args: term.ExactArgs(1, "a certificate; trust list names them"),
		Example: "  verbund trust show tidewatch-control-1/api-server",
		RunE: func(_ *cobra.Command, args []string) error {
			r, err := inspect(a)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(r.Entries, func(e trust.Entry) bool { return e.ID == args[0] })
			if i < 0 {
				var known []string
				for _, e := range r.Entries {
					known = append(known, e.ID)
				}
				return term.Usage("there is no certificate %s; %s", args[0], cmp.Or(term.Suggestion(args[0], known), "trust list names them"))
			}
			e := r.Entries[i]
			if a.Output == "json" {
				return a.UI.JSON(e)
			}
			lines := [][2]string{{"certificate", e.ID}, {"what for", e.Purpose}, {"lies on", cmp.Or(e.Machine, term.Few(e.On), "no machine: the tool keeps it")}, {"subject", e.Subject}, {"authority", cmp.Or(e.Authority, "itself")},
				{"names", cmp.Or(strings.Join(e.Names, ", "), "none")}, {"algorithm", e.Algorithm}, {"serial", e.Serial}, {"issued", e.Issued.Format(time.DateTime)}, {"ends", e.Expires.Format(time.DateTime)}}
			if len(e.KeyOn) > 0 {
				lines = append(lines, [2]string{"key", "also on " + term.Few(e.KeyOn) + ": the controller manager signs with it what kubelets ask for"})
			}
			switch {
			case e.Renews != "":
				lines = append(lines, [2]string{"renewed", "by " + e.Renews})
			case !e.RenewFrom.IsZero():
				lines = append(lines, [2]string{"renewed", "by converge, from " + e.RenewFrom.Format(time.DateOnly)})
			}
			lines = append(lines, depends(a, e)...)
			for _, t := range e.Troubles {
				lines = append(lines, [2]string{"trouble", t})
			}
			for _, l := range lines {
				text := l[1]
				if l[0] == "trouble" && a.UI.OutColour {
					text = a.UI.Bad.Render(text)
				}
				fmt.Fprintf(a.Out, "%-12s %s\n", l[0], text)
			}
			if len(e.Troubles) > 0 {
				return &term.Exit{Code: term.ExitNotWell}
			}
			return nil
		},
	}
}

// depends tells which connections a certificate or an authority is needed for.
func depends(a *desk.App, e trust.Entry) [][2]string {
	s, err := a.Open(false)
	if err != nil {
		return nil
	}
	c, err := s.Topology()
	if err != nil {
		return nil
	}
	name := e.ID[strings.LastIndex(e.ID, "/")+1:]
	var out [][2]string
	for _, k := range nodeconf.Connections(c) {
		if e.Machine != "" && k.Shows == name && !slices.Contains(k.On, e.Machine) {
			continue
		}
		switch name {
		case k.Shows:
			out = append(out, [2]string{"needed for", fmt.Sprintf("%s → %s: it is shown, and verified with %s", k.From, k.To, k.ShowsVerified)})
		case k.Serves:
			out = append(out, [2]string{"needed for", fmt.Sprintf("%s → %s: the server shows it, and it is verified with %s", k.From, k.To, k.ServesVerified)})
		case k.ShowsVerified, k.ServesVerified:
			out = append(out, [2]string{"needed for", fmt.Sprintf("%s → %s", k.From, k.To)})
		}
	}
	return out
}
