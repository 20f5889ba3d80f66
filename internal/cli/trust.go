package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"verbund/internal/engine/look"

	"github.com/spf13/cobra"

	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/trust"
	"verbund/internal/core/words"
)

func (a *app) trustCmd() *cobra.Command {
	c := &cobra.Command{Use: "trust", Short: "Certificates and keys: look at them, renew and replace them"}
	c.AddCommand(a.trustListCmd(), a.trustShowCmd(), a.trustGraphCmd(), a.trustRenewCmd(), a.trustReplaceCmd(), a.trustAdoptCmd(), a.trustRequestCmd(), a.trustAcceptCmd(), a.trustIssueCmd(), a.trustExportCmd(), a.trustPackCmd(), a.trustUnpackCmd())
	return c
}

// inspect looks at everything that vouches.
func (a *app) inspect() (*look.TrustReport, error) {
	s, err := a.open(false)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	v, err := look.Locate(a.soft, s)
	if err != nil {
		return nil, err
	}
	if err := look.Unseen(s, v); err != nil {
		return nil, &exit{exitNotWell, err}
	}
	return look.Inspect(a.soft, s, v, time.Now())
}

func (a *app) trustListCmd() *cobra.Command {
	var within string
	c := &cobra.Command{
		Use: "list", Short: "List every authority and certificate, the most urgent first", Args: noArgs,
		Long: `Holds what was issued against what lies on the machines and what servers show on
the wire: missing, another one, ended or about to end, names too few or too many,
another authority, a key that does not match or that others can read, and keys on
machines that should not have them. --verbose also says what each is for, and its
names. Exit code 3 when something is wrong.`,
		Example: "  verbund trust list\n  verbund trust list --within 60d --verbose",
		RunE: func(*cobra.Command, []string) error {
			var horizon time.Duration
			if within != "" {
				var d declare.Duration
				if err := d.UnmarshalText([]byte(within)); err != nil {
					return usage("--within: %v; write it like 60d", err)
				}
				horizon = time.Duration(d)
			}
			r, err := a.inspect()
			if err != nil {
				return err
			}
			if horizon > 0 {
				r.Entries = slices.DeleteFunc(r.Entries, func(e trust.Entry) bool {
					return len(e.Troubles) == 0 && time.Until(e.Expires) > horizon
				})
			}
			if a.output == "json" {
				err = a.ui.json(r)
			} else {
				a.showTrust(r)
			}
			// Before anything was raised there is nothing to look at.
			if err == nil && (r.Troubled() > 0 || r.Founded && len(r.Unseen) > 0) {
				return &exit{code: exitNotWell}
			}
			return err
		},
	}
	c.Flags().StringVar(&within, "within", "", "only what is in trouble or ends within this time, such as 60d")
	return c
}

func (a *app) showTrust(r *look.TrustReport) {
	var rows [][]cell
	for _, e := range r.Entries {
		state := cell{"well", "good"}
		if e.NotLooked != "" {
			state = cell{"not looked at: as issued", "attention"}
		}
		if len(e.Troubles) > 0 {
			state = cell{e.Troubles[0], "bad"}
			if more := len(e.Troubles) - 1; more > 0 {
				state.text += fmt.Sprintf("; and %d more", more)
			}
		}
		renew := "-"
		if !e.RenewFrom.IsZero() {
			renew = e.RenewFrom.Format(time.DateOnly)
		}
		if e.Renews != "" {
			renew = "by itself"
		}
		ends, issued := "-", "-"
		if !e.Expires.IsZero() {
			ends, issued = e.Expires.Format(time.DateOnly), e.Issued.Format(time.DateOnly)
			if e.Expires.Sub(e.Issued) < 48*time.Hour {
				ends, issued = e.Expires.Local().Format("15:04:05"), e.Issued.Local().Format("15:04:05")
			}
		}
		rows = append(rows, []cell{plain(e.ID), plain(cmp.Or(strings.TrimSuffix(e.Authority, "-authority"), "-")), plain(issued), plain(ends), plain(renew), plain(e.Algorithm), state})
	}
	if len(rows) > 0 {
		a.ui.table([]string{"certificate", "authority", "issued", "ends", "renewed from", "algorithm", "state"}, rows)
	}
	if a.verbose && len(rows) > 0 {
		var rows [][]cell
		for _, e := range r.Entries {
			rows = append(rows, []cell{plain(e.ID), plain(e.Purpose), plain(cmp.Or(strings.Join(e.Names, ", "), "-"))})
		}
		fmt.Fprintln(a.out)
		a.ui.table([]string{"certificate", "what for", "names"}, rows)
	}
	for _, x := range r.Strays {
		fmt.Fprintf(a.out, "Wrong: %s.\n", x)
	}
	for _, x := range r.Unseen {
		fmt.Fprintf(a.out, "Not looked at: %s.\n", x)
	}
	fmt.Fprintf(a.out, "\n%s, %s wrong.", words.Count(len(r.Entries), "certificate"), words.Count(r.Troubled(), "thing"))
	if n := r.NotLooked(); n > 0 {
		fmt.Fprintf(a.out, " %d could not be looked at.", n)
	}
	if r.Troubled() > 0 {
		fmt.Fprint(a.out, " converge puts right what lies on machines.")
	}
	fmt.Fprintln(a.out)
}

func (a *app) trustShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show CERTIFICATE", Short: "Explain one certificate", Args: exactArgs(1, "a certificate; trust list names them"),
		Example: "  verbund trust show tidewatch-control-1/api-server",
		RunE: func(_ *cobra.Command, args []string) error {
			r, err := a.inspect()
			if err != nil {
				return err
			}
			i := slices.IndexFunc(r.Entries, func(e trust.Entry) bool { return e.ID == args[0] })
			if i < 0 {
				var known []string
				for _, e := range r.Entries {
					known = append(known, e.ID)
				}
				return usage("there is no certificate %s; %s", args[0], cmp.Or(suggestion(args[0], known), "trust list names them"))
			}
			e := r.Entries[i]
			if a.output == "json" {
				return a.ui.json(e)
			}
			lines := [][2]string{{"certificate", e.ID}, {"what for", e.Purpose}, {"lies on", cmp.Or(e.Machine, few(e.On), "no machine: the tool keeps it")}, {"subject", e.Subject}, {"authority", cmp.Or(e.Authority, "itself")},
				{"names", cmp.Or(strings.Join(e.Names, ", "), "none")}, {"algorithm", e.Algorithm}, {"serial", e.Serial}, {"issued", e.Issued.Format(time.DateTime)}, {"ends", e.Expires.Format(time.DateTime)}}
			if len(e.KeyOn) > 0 {
				lines = append(lines, [2]string{"key", "also on " + few(e.KeyOn) + ": the controller manager signs with it what kubelets ask for"})
			}
			switch {
			case e.Renews != "":
				lines = append(lines, [2]string{"renewed", "by " + e.Renews})
			case !e.RenewFrom.IsZero():
				lines = append(lines, [2]string{"renewed", "by converge, from " + e.RenewFrom.Format(time.DateOnly)})
			}
			lines = append(lines, a.depends(e)...)
			for _, t := range e.Troubles {
				lines = append(lines, [2]string{"trouble", t})
			}
			for _, l := range lines {
				text := l[1]
				if l[0] == "trouble" && a.ui.outColour {
					text = a.ui.bad.Render(text)
				}
				fmt.Fprintf(a.out, "%-12s %s\n", l[0], text)
			}
			if len(e.Troubles) > 0 {
				return &exit{code: exitNotWell}
			}
			return nil
		},
	}
}

// few names the first of several, and says how many there are besides; -o json
// has them all.
func few(names []string) string {
	const most = 4
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most-1], ", "), len(names)-most+1)
}

// depends tells which connections a certificate or an authority is needed for.
func (a *app) depends(e trust.Entry) [][2]string {
	s, err := a.open(false)
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

// suggestion names the nearest known word.
func suggestion(word string, known []string) string {
	if near := declare.Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	return ""
}
