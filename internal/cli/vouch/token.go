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
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/look"
	"verbund/internal/kube"
)

// TokenSaid is a token that was issued, as JSON.
type TokenSaid struct {
	Token   string    `json:"token"` // it is shown this once
	ID      string    `json:"id"`
	Pool    string    `json:"pool"`
	Machine string    `json:"machine"`
	Uses    int       `json:"uses"`
	Ends    time.Time `json:"ends"`
}

// TokenCmd is verbund token.
func TokenCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Enrolment tokens: issue, list, revoke", Long: "With an enrolment token a machine asks for its first certificate. converge issues and\nrevokes tokens by itself; these commands are for machines that somebody sets up by\nhand. A token alone lets nobody in: the request has to match a declared machine of\nits pool, and that machine has to show the same key."}
	c.AddCommand(tokenIssueCmd(a), tokenListCmd(a), tokenRevokeCmd(a))
	return c
}

func tokenIssueCmd(a *desk.App) *cobra.Command {
	var pool, machine, life string
	var uses int
	c := &cobra.Command{
		Use: "issue", Short: "Issue a token for a pool or for one machine", Args: term.NoArgs, Example: "  verbund token issue --pool forecast --uses 2\n  verbund token issue --machine tidewatch-forecast-3 --for 10m",
		RunE: func(*cobra.Command, []string) error {
			t, err := term.Span("for", life, time.Minute, 24*time.Hour)
			if err != nil {
				return err
			}
			if (pool == "") == (machine == "") {
				return term.Usage("a token is for --pool POOL or for --machine MACHINE, one of them")
			}
			if uses < 1 || uses > 1000 || machine != "" && uses > 1 {
				return term.Usage("--uses takes 1 to 1000, and 1 for a single machine")
			}
			s, v, k, err := a.Reach()
			if err != nil {
				return err
			}
			defer s.Close()
			if err := tokensWork(v); err != nil {
				return err
			}
			lacks, err := look.LacksForTokens(a.Soft, s, v)
			if err != nil {
				return err
			}
			if len(lacks) > 0 {
				return term.Usage("no token can work in cluster %s yet: %s; run verbund converge first", s.Decl.Name, strings.Join(lacks, "; "))
			}
			var known []string
			for _, m := range v.Cluster.Machines {
				if m.ByToken {
					known = append(known, m.Pool, m.Name)
				}
				if m.Name == machine {
					pool = m.Pool
				}
			}
			if want := cmp.Or(machine, pool); !slices.Contains(known, want) {
				return term.Usage("no machine of %s enrols by token; %s", want, cmp.Or(term.Suggestion(want, known), "declare enrolment: token for its pool"))
			}
			return a.Noted(s, v, "token issue", func(*act.Run) (string, error) {
				tok, text, err := k.IssueToken(a.Soft, kube.Token{Pool: pool, Machine: machine, Left: uses, Ends: time.Now().Add(t)})
				if err != nil {
					return "", err
				}
				if a.Output == "json" {
					err = a.UI.JSON(TokenSaid{text, tok.ID, pool, machine, uses, tok.Ends.UTC()})
				} else {
					_, err = fmt.Fprintln(a.Out, text)
					a.UI.Say("for %s, %s, %s; this is the only time that it is shown", cmp.Or(machine, "pool "+pool), words.Count(uses, "use"), term.Remaining(tok.Ends).Text)
				}
				return fmt.Sprintf("issued token %s for %s, %s, until %s", tok.ID, cmp.Or(machine, "pool "+pool), words.Count(uses, "use"), tok.Ends.UTC().Format(time.RFC3339)), err
			})
		},
	}
	c.Flags().StringVar(&pool, "pool", "", "any machine of this pool")
	c.Flags().StringVar(&machine, "machine", "", "this machine alone")
	c.Flags().IntVar(&uses, "uses", 1, "how many machines may use it")
	c.Flags().StringVar(&life, "for", "15m", "how long it lives, a day at most")
	return c
}

func tokenListCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List tokens with their remaining life", Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, _, k, err := a.Reach()
			if err != nil {
				return err
			}
			defer s.Close()
			ts, err := k.Tokens(a.Soft)
			if err != nil {
				return err
			}
			if a.Output == "json" {
				return a.UI.JSON(term.List(ts))
			}
			if len(ts) == 0 {
				a.UI.Say("there is no token in cluster %s", s.Decl.Name)
				return nil
			}
			var rows [][]term.Cell
			for _, t := range ts {
				whom, left := cmp.Or(t.Machine, "pool "+t.Pool), term.Plain(fmt.Sprint(t.Left))
				if t.Foreign {
					whom, left = "not made by verbund: it lets nobody in", term.Cell{Text: "-", State: "attention"}
				} else if t.Left == 0 {
					left = term.Cell{Text: "used up", State: "attention"}
				}
				rows = append(rows, []term.Cell{term.Plain(t.ID), term.Plain(whom), left, term.Remaining(t.Ends)})
			}
			a.UI.Table([]string{"token", "for", "uses left", "remaining life"}, rows)
			return nil
		},
	}
}

func tokenRevokeCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "revoke TOKEN…", Short: "Take tokens away", Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, v, k, err := a.Reach()
			if err != nil {
				return err
			}
			defer s.Close()
			return a.Noted(s, v, "token revoke", func(*act.Run) (string, error) {
				var done []string
				for _, id := range args {
					id, _, _ = strings.Cut(id, ".") // the whole token is taken, too
					if err := k.RevokeToken(a.Soft, id); err != nil {
						return strings.Join(done, "; "), err
					}
					done = append(done, "revoked token "+id)
					a.UI.Say("token %s is revoked", id)
				}
				return strings.Join(done, "; "), nil
			})
		},
	}
}
