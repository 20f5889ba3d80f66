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

func TokenCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Enrolment tokens: issue, list, revoke", Long: "With an enrolment token a machine asks for its first certificate. converge issues and\nrevokes tokens by itself; these commands are for machines that somebody sets up by\nhand. A token alone lets nobody in: the request has to match a declared machine of\nits pool, and that machine has to show the same key."}
	var pool, machine, life string
	var uses int
	issue := &cobra.Command{
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
	issue.Flags().StringVar(&pool, "pool", "", "any machine of this pool")
	issue.Flags().StringVar(&machine, "machine", "", "this machine alone")
	issue.Flags().IntVar(&uses, "uses", 1, "how many machines may use it")
	issue.Flags().StringVar(&life, "for", "15m", "how long it lives, a day at most")
	list := &cobra.Command{
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
	revoke := &cobra.Command{
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
	c.AddCommand(issue, list, revoke)
	return c
}

// tokensWork names what is missing for enrolment by token.
func tokensWork(v *look.View) error {
	switch {
	case v.Cluster.Trust.Keys == "outside":
		return term.Usage("the authority's key is outside: nothing in the cluster would sign what a machine asks for")
	case !v.Cluster.Trust.OwnRenewal():
		return term.Usage("kubelets do not renew their own certificates: declare trust: {kubelets: {renew: own}}, so that the controller manager gets --cluster-signing-kubelet-client-cert-file and -key-file")
	case !v.Cluster.ByToken():
		return term.Usage("no pool enrols by token: declare enrolment: token for one, so that the API servers get --enable-bootstrap-token-auth")
	}
	return nil
}

func RequestsCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{Use: "requests", Short: "Certificate requests that wait for a decision", Long: "What a declared node asks for itself is approved by a unit on the control plane, and\nwhat a machine asks for with its enrolment token by converge. Everything else waits\nhere, with the reason, until a person decides."}
	var all bool
	list := &cobra.Command{
		Use: "list", Short: "List requests that wait, and why", Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, v, k, err := a.Reach()
			if err != nil {
				return err
			}
			defer s.Close()
			qs, err := a.Judged(a.Soft, s, v, k)
			if err != nil {
				return err
			}
			if !all {
				qs = slices.DeleteFunc(qs, func(q desk.JudgedRequest) bool { return q.State != "waits" })
			}
			if a.Output == "json" {
				return a.UI.JSON(qs)
			}
			if len(qs) == 0 {
				a.UI.Say("no request waits in cluster %s", s.Decl.Name)
				return nil
			}
			var rows [][]term.Cell
			for _, q := range qs {
				state := map[string]string{"waits": "attention", "denied": "bad", "failed": "bad", "issued": "good"}[q.State]
				rows = append(rows, []term.Cell{term.Plain(q.Name), term.Plain(strings.TrimPrefix(q.Signer, "kubernetes.io/")), term.Plain(q.By), term.Plain(q.Asked.Local().Format("15:04:05")), {Text: q.State, State: state}, term.Plain(q.Why)})
			}
			a.UI.Table([]string{"request", "signer", "asked by", "at", "state", "why"}, rows)
			return nil
		},
	}
	list.Flags().BoolVar(&all, "all", false, "also those that were decided")
	judge := func(use, short string, approve bool) *cobra.Command {
		cmd := &cobra.Command{
			Use: use + " REQUEST…", Short: short, Args: cobra.MinimumNArgs(1),
			RunE: func(_ *cobra.Command, args []string) error {
				s, v, k, err := a.Reach()
				if err != nil {
					return err
				}
				defer s.Close()
				qs, err := a.Judged(a.Soft, s, v, k)
				if err != nil {
					return err
				}
				for _, name := range args {
					i := slices.IndexFunc(qs, func(q desk.JudgedRequest) bool { return q.Name == name })
					if i < 0 {
						return term.Usage("there is no request %s; requests list shows those that wait", name)
					}
					q := qs[i]
					if q.State != "waits" {
						return term.Usage("request %s was decided already: %s, %s", name, q.State, q.Why)
					}
					if approve {
						if err := a.AskByName(s.Decl.Name, fmt.Sprintf("in cluster %s, request %s of %s was not approved because %s; approving it all the same lets whoever asked in as that node", s.Decl.Name, name, q.By, q.Why)); err != nil {
							return err
						}
					} else if err := a.Ask(fmt.Sprintf("Deny request %s in cluster %s?", name, s.Decl.Name)); err != nil {
						return err
					}
					word := map[bool]string{true: "approved", false: "denied"}[approve]
					err := a.Noted(s, v, "requests "+use, func(*act.Run) (string, error) {
						return fmt.Sprintf("%s request %s of %s by hand; the policy says: %s", word, name, q.By, q.Why), k.Judge(a.Soft, name, approve, "ByHand", word+" by a person")
					})
					if err != nil {
						return err
					}
					a.UI.Say("request %s is %s", name, word)
				}
				return nil
			},
		}
		return a.Asks(cmd)
	}
	c.AddCommand(list, judge("approve", "Approve a request that the policy does not", true), judge("deny", "Deny a request for good", false))
	return c
}
