package rollout

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

func backCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "back [GROUP…]", Short: "Take a roll-out back: what has moved runs again what it ran before",
		Long: `Takes back the roll-out that is underway, or the last one: the groups that are named, or
all of them, run again what they ran before, wave by wave under their policy. It is
written into the declaration first, so that nothing moves them forward again: pools are
held back on their version there.

Workers go back as far as a kubelet may be older than its API server, and the control
plane within a minor. A minor of the datastore or of the API does not go back: then it is
said which backup is the way, and what it costs.`,
		Example: "  verbund rollout back\n  verbund rollout back gauges",
		RunE: func(_ *cobra.Command, args []string) error {
			path, err := a.FindDeclaration()
			if err != nil {
				return err
			}
			b, err := wayBack(a, args)
			if err != nil {
				return err
			}
			return takeBack(a, path, b)
		},
	}
	return a.Drains(c)
}

// wayBack looks what there is to take back, and tells it.
func wayBack(a *desk.App, groups []string) (*plan.WayBack, error) {
	s, v, err := a.View()
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if err := look.Unseen(s, v); err != nil {
		return nil, err
	}
	before := v.Known.RanBefore()
	b, err := plan.BackOf(v.Cluster, v.Seen, before, groups, s.Cat)
	if err != nil {
		if way := backupOf(s, before); way != "" {
			err = fmt.Errorf("%w; %s", err, way)
		}
		return nil, err
	}
	words := inWords(b)
	for _, p := range b.Follow {
		words = append(words, topology.GroupInWords(p)+" with it")
	}
	a.UI.Say("back in cluster %s: %s", s.Decl.Name, strings.Join(words, ", "))
	if b.Stays != "" {
		a.UI.Say("%s", b.Stays)
		if way := backupOf(s, before); way != "" {
			a.UI.Say("%s", way)
		}
	}
	return b, nil
}

// backupOf names the backup that was taken of what ran before.
func backupOf(s *session.Session, before map[string]string) string {
	was := before["control"]
	if was == "" {
		return ""
	}
	b := look.BackupOfVersion(s, was)
	if b == nil {
		return "no backup of " + was + " is here that can be opened"
	}
	return fmt.Sprintf("the backup of before is %s, of %s: it holds what the datastore held then, and nothing that was written since; verbund backup restore brings it back", filepath.Base(b.File), b.Taken.Local().Format("2006-01-02 15:04:05"))
}

// takeBack writes the way back into the declaration, and converges.
func takeBack(a *desk.App, path string, b *plan.WayBack) error {
	data, err := whole.Read(path)
	if err != nil {
		return err
	}
	out := data
	if b.Kubernetes != "" {
		out, err = declare.SetKubernetes(out, b.Kubernetes)
	}
	for _, pool := range slices.Sorted(maps.Keys(b.Pools)) {
		if err == nil {
			out, err = declare.SetPoolKubernetes(out, pool, b.Pools[pool])
		}
	}
	if errors.Is(err, declare.ErrElsewhere) {
		return fmt.Errorf("what is to go back does not stand in %s, but in a file that it extends; write it there: %s", path, strings.Join(inWords(b), ", "))
	}
	if err != nil {
		return fmt.Errorf("changing %s: %w", path, err)
	}
	s, r, err := a.OpenAs(path, out, true)
	if err != nil {
		return err
	}
	defer s.Close()
	st, err := s.Store.Read()
	if err != nil {
		return err
	}
	held := st.Held
	// A hold was for what is taken back, unless it is for another group.
	s.Unheld = held != nil && (held.Group == "" || slices.Contains(b.Groups, held.Group))
	return a.Work(s, r).Converge("rollout back", "", &converge.Change{Text: fmt.Sprintf("changed %s: %s", path, strings.Join(inWords(b), ", ")), Write: func() error {
		if err := desk.Rewrite(path, data, out); err != nil {
			return err
		}
		// What was underway is over.
		resume := s.Unheld
		s.Unheld = false // what holds it from now on is another hold
		return s.Remember(func(st *memory.State) {
			if st.RolledOut(b.Groups...); resume {
				st.Resume()
			}
		})
	}})
}
