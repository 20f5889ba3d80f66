package cli

import (
	"fmt"

	"verbund/internal/engine/look"
	"verbund/internal/engine/session"

	"github.com/spf13/cobra"

	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
)

func (a *app) clearCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "clear [MACHINE…]", Short: "Take machines back to bare ones that are kept for the next try",
		Long: `Takes machines out of the cluster and wipes them; they are kept, with their
addresses and host keys, and the next converge brings them in again. Without a
machine it clears all of them: everything in the cluster is lost, and converge
raises the same cluster again, with the same authorities.`,
		Example: "  verbund clear tidewatch-gauges-2\n  verbund clear --confirm tidewatch",
		RunE: func(_ *cobra.Command, args []string) error {
			s, r, err := a.openFile(false)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.clear(s, r, args)
		},
	}
	return a.drains(c)
}

func (a *app) clear(s *session.Session, r *declare.Result, names []string) error {
	if !s.Store.Exists() {
		a.ui.say("there is nothing of cluster %s here", s.Decl.Name)
		return nil
	}
	release, err := a.locked(s, r, "clear")
	if err != nil {
		return err
	}
	defer release()
	v, err := look.Observe(a.soft, s)
	if err != nil {
		return err
	}
	all := len(names) == 0
	if all {
		for _, m := range v.Cluster.Machines {
			if v.Seen.Machines[m.Name].Exists {
				names = append(names, m.Name)
			}
		}
		if len(names) == 0 {
			a.ui.say("cluster %s has no machines", s.Decl.Name)
			return nil
		}
	}
	p, err := plan.Clear(v.Cluster, v.Seen, names, false)
	if err != nil {
		return err
	}
	if err := a.agree(s, p, v); err != nil {
		return err
	}
	if all {
		// Written down first: machines that are cleared half are cleared
		// machines of a cluster that is to be raised anew.
		if err := s.Store.ForgetFounding(); err != nil {
			return err
		}
	}
	if err := a.carryOut(s, v, "clear", p.Steps); err != nil {
		return err
	}
	if all {
		if err := s.Store.Cleared(); err != nil {
			return err
		}
	}
	a.ui.say("%s bare now and kept; verbund converge brings %s in again", isAre(len(names), "machine"), map[bool]string{true: "it", false: "them"}[len(names) == 1])
	return nil
}

func isAre(n int, what string) string {
	if n == 1 {
		return count(n, what) + " is"
	}
	return count(n, what) + " are"
}

func (a *app) replaceCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "replace MACHINE", Short: "Put a new machine in the place of one that is beyond help", Args: exactArgs(1, "a machine; machines lists them"),
		Long: `Takes the machine out of the cluster, dead or alive, gives it back to the site with
its disk, forgets its host key and its certificates, and converges: a new machine of
the same name takes its place. Interrupted, converge goes on with it, and so does
the same command.`,
		RunE: func(_ *cobra.Command, args []string) error {
			s, r, err := a.openFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			if !s.Store.Exists() {
				return fmt.Errorf("there is nothing of cluster %s here", s.Decl.Name)
			}
			return (&converging{app: a, s: s, r: r, command: "replace " + args[0], replaces: args[0]}).run()
		},
	}
	return a.drains(c)
}
