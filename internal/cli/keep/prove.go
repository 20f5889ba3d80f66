package keep

import (
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/engine/look"
	"verbund/internal/engine/prove"
)

// ProveCmd is verbund prove.
func ProveCmd(a *desk.App) *cobra.Command {
	var quick, control bool
	patience := time.Minute
	c := &cobra.Command{
		Use: "prove", Short: "Use the cluster as people would, and say what answered", Args: term.NoArgs,
		Long: `Puts a small workload on every node, in a namespace of its own, and asks:

  ready     the node is Ready, on the version that it is to run
  runs      a pod starts on it, whatever its taints
  port      its node port is answered by that pod
  name      from its pod, the workload is found by its service name, and answers
  zones     from its pod, a pod in every zone answers
  logs      what its pod wrote can be read through the API

And of the cluster: whether anything ails, whether the balancer leads to the API and to
the workload, and whether a pod that is deleted comes back on another node. With
--lose-control a control-plane machine is without power for a while, and the API has to
go on taking writes, and to keep them.

The namespace is removed whatever happens; what a proof left that was killed is removed
by the next one. Exit code 3 when anything has no good answer.`,
		Example: "  verbund prove\n  verbund prove --quick\n  verbund prove --lose-control",
		RunE: func(*cobra.Command, []string) error {
			switch {
			case quick && control:
				return term.Usage("--quick leaves out what --lose-control asks for; choose one")
			case patience < time.Second || patience > time.Hour:
				return term.Usage("--patience %s is not possible; from 1s to 1h", patience)
			}
			return proves(a, prove.Options{Quick: quick, Patience: patience, Tell: func(what string) { a.UI.Say("%s", what) }}, control)
		},
	}
	c.Flags().BoolVar(&quick, "quick", false, "only what takes no longer than a pod needs to start: components, ready, runs, port, balancer")
	c.Flags().BoolVar(&control, "lose-control", false, "take the power of a control-plane machine meanwhile; simulated sites alone")
	c.Flags().DurationVar(&patience, "patience", patience, "how long pods may take to start, and each question to be answered")
	c.Flags().BoolVarP(&a.Yes, "yes", "y", false, "do not ask, with --lose-control")
	return c
}

// proves makes one proof and shows it.
func proves(a *desk.App, o prove.Options, control bool) error {
	s, v, err := a.View()
	if err != nil {
		return err
	}
	defer s.Close()
	if err := look.Acts(s, v); err != nil {
		return err
	}
	if control {
		site, err := desk.SimulatedSite(s)
		if err != nil {
			return err
		}
		if can, err := site.Possible(a.Soft); err != nil {
			return err
		} else if !slices.Contains(can, "cut-power") {
			return term.Usage("site %s does not have its machines' power, and --lose-control takes it from one; verbund prove without it asks the rest", s.Decl.Site)
		}
		m, err := prove.Victim(v)
		if err != nil {
			return fmt.Errorf("%w; verbund prove without --lose-control asks the rest", err)
		}
		if err := a.Ask(fmt.Sprintf("Take the power of %s of cluster %s while the API is asked, and give it back?", m.Name, s.Decl.Name)); err != nil {
			return err
		}
		o.Control = m.Name
	}
	release, err := s.Store.Lock("prove")
	if err != nil {
		return err
	}
	defer release()
	r, err := prove.Prove(a.Soft, a.Hard, s, v, o)
	if r == nil {
		return err
	}
	if a.Output == "json" {
		if jerr := a.UI.JSON(r); jerr != nil {
			return jerr
		}
	} else {
		a.ShowProof(r)
	}
	if err == nil && !r.Proven() {
		return &term.Exit{Code: term.ExitNotWell}
	}
	return err
}
