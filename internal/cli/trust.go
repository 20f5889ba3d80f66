package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/core/declare"
	"verbund/internal/core/trust"
	"verbund/internal/engine"
)

func (a *app) trustCmd() *cobra.Command {
	c := &cobra.Command{Use: "trust", Short: "Show certificates and keys: issued, on the machines, on the wire"}
	c.AddCommand(a.trustListCmd(), a.trustShowCmd())
	return c
}

// inspect looks at everything that vouches.
func (a *app) inspect() (*engine.TrustReport, error) {
	s, v, err := a.view()
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return s.Inspect(a.soft, v, time.Now())
}

func (a *app) trustListCmd() *cobra.Command {
	var within string
	c := &cobra.Command{
		Use: "list", Short: "List every authority and certificate, the most urgent first", Args: noArgs,
		Long: `Holds what was issued against what lies on the machines and what servers show on
the wire: missing, another one, ended or about to end, names too few or too many,
another authority, a key that does not match or that others can read, and keys on
machines that should not have them. Exit code 3 when something is wrong.`,
		Example: "  verbund trust list\n  verbund trust list --within 60d",
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
			if err == nil && r.Troubled() > 0 {
				return &exit{code: exitNotWell}
			}
			return err
		},
	}
	c.Flags().StringVar(&within, "within", "", "only what is in trouble or ends within this time, such as 60d")
	return c
}

func (a *app) showTrust(r *engine.TrustReport) {
	var rows [][]cell
	for _, e := range r.Entries {
		state := cell{"well", "good"}
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
		ends := "-"
		if !e.Expires.IsZero() {
			ends = e.Expires.Format(time.DateOnly)
		}
		rows = append(rows, []cell{plain(e.ID), plain(cmp.Or(strings.TrimSuffix(e.Authority, "-authority"), "-")), plain(ends), plain(renew), plain(e.Algorithm), state})
	}
	if len(rows) > 0 {
		a.ui.table([]string{"certificate", "authority", "ends", "renewed from", "algorithm", "state"}, rows)
	}
	for _, x := range r.Strays {
		fmt.Fprintf(a.out, "Wrong: %s.\n", x)
	}
	for _, x := range r.Unseen {
		fmt.Fprintf(a.out, "Not looked at: %s.\n", x)
	}
	fmt.Fprintf(a.out, "\n%s, %s wrong.", count(len(r.Entries), "certificate"), count(r.Troubled(), "thing"))
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
			lines := [][2]string{{"certificate", e.ID}, {"what for", e.Purpose}, {"lies on", cmp.Or(e.Machine, "no machine: the tool keeps it")}, {"subject", e.Subject}, {"authority", cmp.Or(e.Authority, "itself")},
				{"names", cmp.Or(strings.Join(e.Names, ", "), "none")}, {"algorithm", e.Algorithm}, {"serial", e.Serial}, {"issued", e.Issued.Format(time.DateTime)}, {"ends", e.Expires.Format(time.DateTime)}}
			if !e.RenewFrom.IsZero() {
				lines = append(lines, [2]string{"renewed", "by converge, from " + e.RenewFrom.Format(time.DateOnly)})
			}
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

// suggestion names the nearest known word.
func suggestion(word string, known []string) string {
	if near := declare.Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	return ""
}
