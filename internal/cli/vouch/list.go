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
	"verbund/internal/core/declare"
	"verbund/internal/core/trust"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
)

// inspect looks at everything that vouches.
func inspect(a *desk.App) (*look.TrustReport, error) {
	s, err := a.Open(false)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	v, err := look.Locate(a.Soft, s)
	if err != nil {
		return nil, err
	}
	if err := look.Unseen(s, v); err != nil {
		return nil, &term.Exit{Code: term.ExitNotWell, Err: err}
	}
	return look.Inspect(a.Soft, s, v, time.Now())
}

func trustListCmd(a *desk.App) *cobra.Command {
	var within string
	c := &cobra.Command{
		Use: "list", Short: "List every authority and certificate, the most urgent first", Args: term.NoArgs,
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
					return term.Usage("--within: %v; write it like 60d", err)
				}
				horizon = time.Duration(d)
			}
			r, err := inspect(a)
			if err != nil {
				return err
			}
			if horizon > 0 {
				r.Entries = slices.DeleteFunc(r.Entries, func(e trust.Entry) bool {
					return len(e.Troubles) == 0 && time.Until(e.Expires) > horizon
				})
			}
			if a.Output == "json" {
				err = a.UI.JSON(r)
			} else {
				showTrust(a, r)
			}
			// Before anything was raised there is nothing to look at.
			if err == nil && (r.Troubled() > 0 || r.Founded && len(r.Unseen) > 0) {
				return &term.Exit{Code: term.ExitNotWell}
			}
			return err
		},
	}
	c.Flags().StringVar(&within, "within", "", "only what is in trouble or ends within this time, such as 60d")
	return c
}

func showTrust(a *desk.App, r *look.TrustReport) {
	var rows [][]term.Cell
	for _, e := range r.Entries {
		state := term.Cell{Text: "well", State: "good"}
		if e.NotLooked != "" {
			state = term.Cell{Text: "not looked at: as issued", State: "attention"}
		}
		if len(e.Troubles) > 0 {
			state = term.Cell{Text: e.Troubles[0], State: "bad"}
			if more := len(e.Troubles) - 1; more > 0 {
				state.Text += fmt.Sprintf("; and %d more", more)
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
		rows = append(rows, []term.Cell{term.Plain(e.ID), term.Plain(cmp.Or(strings.TrimSuffix(e.Authority, "-authority"), "-")), term.Plain(issued), term.Plain(ends), term.Plain(renew), term.Plain(e.Algorithm), state})
	}
	if len(rows) > 0 {
		a.UI.Table([]string{"certificate", "authority", "issued", "ends", "renewed from", "algorithm", "state"}, rows)
	}
	if a.Verbose && len(rows) > 0 {
		var rows [][]term.Cell
		for _, e := range r.Entries {
			rows = append(rows, []term.Cell{term.Plain(e.ID), term.Plain(e.Purpose), term.Plain(cmp.Or(strings.Join(e.Names, ", "), "-"))})
		}
		fmt.Fprintln(a.Out)
		a.UI.Table([]string{"certificate", "what for", "names"}, rows)
	}
	for _, x := range r.Strays {
		fmt.Fprintf(a.Out, "Wrong: %s.\n", x)
	}
	for _, x := range r.Unseen {
		fmt.Fprintf(a.Out, "Not looked at: %s.\n", x)
	}
	fmt.Fprintf(a.Out, "\n%s, %s wrong.", words.Count(len(r.Entries), "certificate"), words.Count(r.Troubled(), "thing"))
	if n := r.NotLooked(); n > 0 {
		fmt.Fprintf(a.Out, " %d could not be looked at.", n)
	}
	if r.Troubled() > 0 {
		fmt.Fprint(a.Out, " converge puts right what lies on machines.")
	}
	fmt.Fprintln(a.Out)
}
