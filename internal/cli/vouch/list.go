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
	var all bool
	c := &cobra.Command{
		Use: "list", Short: "List every authority and certificate, the most urgent first", Args: term.NoArgs,
		Long: `Holds what was issued against what lies on the machines and what servers show on
the wire: missing, another one, ended or about to end, names too few or too many,
another authority, a key that does not match or that others can read, and keys on
machines that should not have them. --verbose also says what each is for, and its
names. Exit code 3 when something is wrong. What is well and ends late is folded into a
line; --all, --within and --verbose list it.`,
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
				showTrust(a, r, !all && horizon == 0 && !a.Verbose)
			}
			// Before anything was raised there is nothing to look at.
			if err == nil && (r.Troubled() > 0 || r.Founded && len(r.Unseen) > 0) {
				return &term.Exit{Code: term.ExitNotWell}
			}
			return err
		},
	}
	c.Flags().BoolVar(&all, "all", false, "also what is well and ends late")
	c.Flags().StringVar(&within, "within", "", "only what is in trouble or ends within this time, such as 60d")
	return c
}

// urgent says whether something is to be known of a certificate: it is wrong, could not be looked
// at, or has a fifth of its life left, or less.
func urgent(e trust.Entry, now time.Time) bool {
	return len(e.Troubles) > 0 || e.NotLooked != "" || !e.Expires.IsZero() && e.Expires.Sub(now) < e.Expires.Sub(e.Issued)/5
}

// showTrust shows what there is; folded, what is well and ends late is told in a line.
func showTrust(a *desk.App, r *look.TrustReport, folded bool) {
	for _, x := range r.Strays {
		fmt.Fprintf(a.Out, "Wrong: %s.\n", term.Visible(x))
	}
	for _, x := range r.Unseen {
		fmt.Fprintf(a.Out, "Not looked at: %s.\n", term.Visible(x))
	}
	if len(r.Strays)+len(r.Unseen) > 0 {
		fmt.Fprintln(a.Out)
	}
	var rows [][]term.Cell
	late, first := 0, trust.Entry{}
	for _, e := range r.Entries {
		if folded && !urgent(e, time.Now()) {
			if late++; !e.Expires.IsZero() && (first.Expires.IsZero() || e.Expires.Before(first.Expires)) {
				first = e
			}
			continue
		}
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
	if len(rows) > 0 {
		fmt.Fprintln(a.Out)
	}
	switch {
	case late > 0 && !first.Expires.IsZero():
		fmt.Fprintf(a.Out, "%s well and %s late: %s is the first, on %s. --all lists them.\n", words.Are(late, "certificate"), map[bool]string{true: "ends", false: "end"}[late == 1], first.ID, first.Expires.Format(time.DateOnly))
	case late > 0:
		fmt.Fprintf(a.Out, "%s well. --all lists them.\n", words.Are(late, "key"))
	}
	fmt.Fprintf(a.Out, "%s, %s wrong.", words.Count(len(r.Entries), "certificate"), words.Count(r.Troubled(), "thing"))
	if n := r.NotLooked(); n > 0 {
		fmt.Fprintf(a.Out, " %d could not be looked at.", n)
	}
	if r.Troubled() > 0 {
		fmt.Fprint(a.Out, " converge puts right what lies on machines.")
	}
	fmt.Fprintln(a.Out)
}
