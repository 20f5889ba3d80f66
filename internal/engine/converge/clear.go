package converge

import (
	"slices"

	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
)

// Clear makes bare machines of those that are named, or of all, and keeps them.
func (w *Work) Clear(names []string) error {
	if !w.Store.Exists() {
		w.Say("there is nothing of cluster %s here", w.Decl.Name)
		return nil
	}
	release, err := w.locked("clear")
	if err != nil {
		return err
	}
	defer release()
	v, err := look.Observe(w.Soft, w.Session)
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
			w.Say("cluster %s has no machines", w.Decl.Name)
			return nil
		}
	}
	p, err := plan.Clear(v.Cluster, v.Seen, names, false)
	if err != nil {
		return err
	}
	if err := w.approved(p.Steps); err != nil {
		return err
	}
	if err := w.agree(p, v); err != nil {
		return err
	}
	if err := w.beforeClearing(v, names); err != nil {
		return err
	}
	if all {
		// Written down first: machines that are cleared half are cleared
		// machines of a cluster that is to be raised anew.
		if err := w.Remember((*memory.State).Clears); err != nil {
			return err
		}
	}
	if err := w.carryOut(v, "clear", p.Steps); err != nil {
		return err
	}
	if all {
		if err := w.Remember(func(st *memory.State) { st.Clearing = false }); err != nil {
			return err
		}
	}
	w.Say("%s bare now and kept; verbund converge brings %s in again", words.Are(len(names), "machine"), map[bool]string{true: "it", false: "them"}[len(names) == 1])
	return nil
}

// beforeClearing takes a backup where members of the datastore are to be cleared. A cluster that
// cannot be asked is cleared without one: the person was told what is lost.
func (w *Work) beforeClearing(v *look.View, names []string) error {
	member := func(n string) bool {
		m, ok := v.Cluster.Machine(n)
		return ok && m.Is(versions.Member)
	}
	if !v.Seen.Founded || !slices.ContainsFunc(names, member) {
		return nil
	}
	err := w.backupBefore(v, "clearing "+words.Count(len(names), "machine"))
	if err != nil && w.Soft.Err() == nil {
		w.Say("%v; it goes on without one", err)
		return nil
	}
	return err
}
