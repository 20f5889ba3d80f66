package vouch

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/engine/act"
	"verbund/internal/engine/look"
)

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

// RequestsCmd is verbund requests.
func RequestsCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{Use: "requests", Short: "Certificate requests that wait for a decision", Long: "What a declared node asks for itself is approved by a unit on the control plane, and\nwhat a machine asks for with its enrolment token by converge. Everything else waits\nhere, with the reason, until a person decides."}
	c.AddCommand(requestsListCmd(a), requestsJudgeCmd(a, "approve", "Approve a request that the policy does not", true), requestsJudgeCmd(a, "deny", "Deny a request for good", false))
	return c
}

func requestsListCmd(a *desk.App) *cobra.Command {
	var all bool
	c := &cobra.Command{
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
	c.Flags().BoolVar(&all, "all", false, "also those that were decided")
	return c
}

// requestsJudgeCmd decides by hand: what the policy does not approve lets whoever asked in as
// that node, which wants the cluster's name.
func requestsJudgeCmd(a *desk.App, use, short string, approve bool) *cobra.Command {
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
