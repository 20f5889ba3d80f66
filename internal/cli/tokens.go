package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"verbund/internal/engine/act"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"

	"github.com/spf13/cobra"

	"verbund/internal/core/declare"
	"verbund/internal/core/trust"
	"verbund/internal/core/words"
	"verbund/internal/kube"
	"verbund/internal/store"
)

// reach opens a living cluster and its API.
func (a *app) reach() (*session.Session, *look.View, *kube.Client, error) {
	s, v, err := a.view()
	if err != nil {
		return nil, nil, nil, err
	}
	k, err := s.Kube(v.Cluster)
	if err == nil && !v.Seen.API {
		err = fmt.Errorf("the API of cluster %s does not answer: %v", s.Decl.Name, v.APIError)
	}
	if err != nil {
		s.Close()
		return nil, nil, nil, err
	}
	return s, v, k, nil
}

// noted does something to a living cluster and writes it to the journal.
func (a *app) noted(s *session.Session, v *look.View, command string, do func(*act.Run) (string, error)) error {
	if v == nil {
		v = &look.View{}
	}
	run, err := act.Begin(s, v, command, func(store.Entry) {})
	if err != nil {
		return err
	}
	text, err := do(run)
	if text != "" {
		run.Remark(text)
	}
	if eerr := run.End(err); err == nil {
		err = eerr
	}
	return err
}

// span reads a time span of a flag.
func span(flag, text string, least, most time.Duration) (time.Duration, error) {
	var d declare.Duration
	if err := d.UnmarshalText([]byte(text)); err != nil {
		return 0, usage("--%s: %v; write it like 15m or 8h", flag, err)
	}
	if t := time.Duration(d); t < least || t > most {
		return 0, usage("--%s %s is out of range: from %s to %s", flag, text, declare.Duration(least), declare.Duration(most))
	}
	return time.Duration(d), nil
}

// remaining says in words how long something still lives.
func remaining(until time.Time) cell {
	switch d := time.Until(until); {
	case until.IsZero():
		return cell{"never ends", "bad"}
	case d <= 0:
		return cell{"ended at " + until.Local().Format("15:04 on 2006-01-02"), "bad"}
	case d < time.Minute:
		return cell{"ends within a minute", "attention"}
	case d < 2*time.Hour:
		return cell{fmt.Sprintf("%d more minutes, until %s", int(d/time.Minute), until.Local().Format("15:04")), ""}
	case d < 48*time.Hour:
		return cell{fmt.Sprintf("%d more hours, until %s", int(d.Round(time.Hour)/time.Hour), until.Local().Format("15:04 on 2006-01-02")), ""}
	default:
		return cell{fmt.Sprintf("%d more days, until %s", int(d/(24*time.Hour)), until.Local().Format(time.DateOnly)), "attention"}
	}
}

func (a *app) tokenCmd() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Enrolment tokens: issue, list, revoke", Long: "With an enrolment token a machine asks for its first certificate. converge issues and\nrevokes tokens by itself; these commands are for machines that somebody sets up by\nhand. A token alone lets nobody in: the request has to match a declared machine of\nits pool, and that machine has to show the same key."}
	var pool, machine, life string
	var uses int
	issue := &cobra.Command{
		Use: "issue", Short: "Issue a token for a pool or for one machine", Args: noArgs, Example: "  verbund token issue --pool forecast --uses 2\n  verbund token issue --machine tidewatch-forecast-3 --for 10m",
		RunE: func(*cobra.Command, []string) error {
			t, err := span("for", life, time.Minute, 24*time.Hour)
			if err != nil {
				return err
			}
			if (pool == "") == (machine == "") {
				return usage("a token is for --pool POOL or for --machine MACHINE, one of them")
			}
			if uses < 1 || uses > 1000 || machine != "" && uses > 1 {
				return usage("--uses takes 1 to 1000, and 1 for a single machine")
			}
			s, v, k, err := a.reach()
			if err != nil {
				return err
			}
			defer s.Close()
			if err := tokensWork(v); err != nil {
				return err
			}
			lacks, err := look.LacksForTokens(a.soft, s, v)
			if err != nil {
				return err
			}
			if len(lacks) > 0 {
				return usage("no token can work in cluster %s yet: %s; run verbund converge first", s.Decl.Name, strings.Join(lacks, "; "))
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
				return usage("no machine of %s enrols by token; %s", want, cmp.Or(suggestion(want, known), "declare enrolment: token for its pool"))
			}
			return a.noted(s, v, "token issue", func(*act.Run) (string, error) {
				tok, text, err := k.IssueToken(a.soft, kube.Token{Pool: pool, Machine: machine, Left: uses, Ends: time.Now().Add(t)})
				if err != nil {
					return "", err
				}
				if a.output == "json" {
					err = a.ui.json(tokenSaid{text, tok.ID, pool, machine, uses, tok.Ends.UTC()})
				} else {
					_, err = fmt.Fprintln(a.out, text)
					a.ui.say("for %s, %s, %s; this is the only time that it is shown", cmp.Or(machine, "pool "+pool), words.Count(uses, "use"), remaining(tok.Ends).text)
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
		Use: "list", Short: "List tokens with their remaining life", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, _, k, err := a.reach()
			if err != nil {
				return err
			}
			defer s.Close()
			ts, err := k.Tokens(a.soft)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.ui.json(list(ts))
			}
			if len(ts) == 0 {
				a.ui.say("there is no token in cluster %s", s.Decl.Name)
				return nil
			}
			var rows [][]cell
			for _, t := range ts {
				whom, left := cmp.Or(t.Machine, "pool "+t.Pool), plain(fmt.Sprint(t.Left))
				if t.Foreign {
					whom, left = "not made by verbund: it lets nobody in", cell{"-", "attention"}
				} else if t.Left == 0 {
					left = cell{"used up", "attention"}
				}
				rows = append(rows, []cell{plain(t.ID), plain(whom), left, remaining(t.Ends)})
			}
			a.ui.table([]string{"token", "for", "uses left", "remaining life"}, rows)
			return nil
		},
	}
	revoke := &cobra.Command{
		Use: "revoke TOKEN…", Short: "Take tokens away", Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, v, k, err := a.reach()
			if err != nil {
				return err
			}
			defer s.Close()
			return a.noted(s, v, "token revoke", func(*act.Run) (string, error) {
				var done []string
				for _, id := range args {
					id, _, _ = strings.Cut(id, ".") // the whole token is taken, too
					if err := k.RevokeToken(a.soft, id); err != nil {
						return strings.Join(done, "; "), err
					}
					done = append(done, "revoked token "+id)
					a.ui.say("token %s is revoked", id)
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
		return usage("the authority's key is outside: nothing in the cluster would sign what a machine asks for")
	case !v.Cluster.Trust.OwnRenewal():
		return usage("kubelets do not renew their own certificates: declare trust: {kubelets: {renew: own}}, so that the controller manager gets --cluster-signing-kubelet-client-cert-file and -key-file")
	case !v.Cluster.ByToken():
		return usage("no pool enrols by token: declare enrolment: token for one, so that the API servers get --enable-bootstrap-token-auth")
	}
	return nil
}

func (a *app) requestsCmd() *cobra.Command {
	c := &cobra.Command{Use: "requests", Short: "Certificate requests that wait for a decision", Long: "What a declared node asks for itself is approved by a unit on the control plane, and\nwhat a machine asks for with its enrolment token by converge. Everything else waits\nhere, with the reason, until a person decides."}
	var all bool
	list := &cobra.Command{
		Use: "list", Short: "List requests that wait, and why", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, v, k, err := a.reach()
			if err != nil {
				return err
			}
			defer s.Close()
			qs, err := a.judged(a.soft, s, v, k)
			if err != nil {
				return err
			}
			if !all {
				qs = slices.DeleteFunc(qs, func(q judgedRequest) bool { return q.State != "waits" })
			}
			if a.output == "json" {
				return a.ui.json(qs)
			}
			if len(qs) == 0 {
				a.ui.say("no request waits in cluster %s", s.Decl.Name)
				return nil
			}
			var rows [][]cell
			for _, q := range qs {
				state := map[string]string{"waits": "attention", "denied": "bad", "failed": "bad", "issued": "good"}[q.State]
				rows = append(rows, []cell{plain(q.Name), plain(strings.TrimPrefix(q.Signer, "kubernetes.io/")), plain(q.By), plain(q.Asked.Local().Format("15:04:05")), {q.State, state}, plain(q.Why)})
			}
			a.ui.table([]string{"request", "signer", "asked by", "at", "state", "why"}, rows)
			return nil
		},
	}
	list.Flags().BoolVar(&all, "all", false, "also those that were decided")
	judge := func(use, short string, approve bool) *cobra.Command {
		cmd := &cobra.Command{
			Use: use + " REQUEST…", Short: short, Args: cobra.MinimumNArgs(1),
			RunE: func(_ *cobra.Command, args []string) error {
				s, v, k, err := a.reach()
				if err != nil {
					return err
				}
				defer s.Close()
				qs, err := a.judged(a.soft, s, v, k)
				if err != nil {
					return err
				}
				for _, name := range args {
					i := slices.IndexFunc(qs, func(q judgedRequest) bool { return q.Name == name })
					if i < 0 {
						return usage("there is no request %s; requests list shows those that wait", name)
					}
					q := qs[i]
					if q.State != "waits" {
						return usage("request %s was decided already: %s, %s", name, q.State, q.Why)
					}
					if approve {
						if err := a.askByName(s.Decl.Name, fmt.Sprintf("in cluster %s, request %s of %s was not approved because %s; approving it all the same lets whoever asked in as that node", s.Decl.Name, name, q.By, q.Why)); err != nil {
							return err
						}
					} else if err := a.ask(fmt.Sprintf("Deny request %s in cluster %s?", name, s.Decl.Name)); err != nil {
						return err
					}
					word := map[bool]string{true: "approved", false: "denied"}[approve]
					err := a.noted(s, v, "requests "+use, func(*act.Run) (string, error) {
						return fmt.Sprintf("%s request %s of %s by hand; the policy says: %s", word, name, q.By, q.Why), k.Judge(a.soft, name, approve, "ByHand", word+" by a person")
					})
					if err != nil {
						return err
					}
					a.ui.say("request %s is %s", name, word)
				}
				return nil
			},
		}
		return a.asks(cmd)
	}
	c.AddCommand(list, judge("approve", "Approve a request that the policy does not", true), judge("deny", "Deny a request for good", false))
	return c
}

// judgedRequest is a request with what the policy says of it.
type judgedRequest struct {
	kube.Request
	// Fits says that it waits, and that the policy has it approved.
	Fits bool `json:"fits,omitempty"`
}

// judged lists requests; those that wait with what the policy says of them.
func (a *app) judged(ctx context.Context, s *session.Session, v *look.View, k *kube.Client) ([]judgedRequest, error) {
	qs, err := k.Requests(ctx)
	if err != nil {
		return nil, err
	}
	out := []judgedRequest{}
	for _, q := range qs {
		j := judgedRequest{Request: q}
		if q.State == "waits" {
			d, err := look.Judge(ctx, s, v.Cluster, k, q)
			if err != nil {
				return nil, err
			}
			if j.Why, j.Fits = d.Why, d.Approve; j.Fits {
				j.Why = map[bool]string{true: "the next converge approves it: ", false: "it is about to be approved: "}[q.Signer == trust.KubeletClientSigner && q.Token() != ""] + d.Why
			}
		}
		out = append(out, j)
	}
	return out, nil
}

// waiting counts the requests that wait for a person.
func (a *app) waiting(s *session.Session, v *look.View) (int, error) {
	if !v.Seen.API {
		return 0, nil
	}
	k, err := s.Kube(v.Cluster)
	if err != nil {
		return 0, err
	}
	qs, err := a.judged(a.soft, s, v, k)
	n := 0
	for _, q := range qs {
		if q.State == "waits" && !q.Fits {
			n++
		}
	}
	return n, err
}
