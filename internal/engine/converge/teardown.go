package converge

import (
	"context"
	"fmt"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/kubeconfig"
	"verbund/internal/engine/look"
)

// Teardown removes the cluster and everything that it left, once its name was said.
func (w *Work) Teardown() error {
	name := w.Decl.Name
	if !w.Store.Exists() {
		v, err := look.Locate(w.Soft, w.Session)
		if err != nil {
			return err
		}
		if len(v.Unknown) == 0 {
			w.Say("there is nothing of cluster %s here", name)
			return nil
		}
		w.Say("nothing is remembered of cluster %s here, and machines of it are at the site", name)
	}
	release, err := w.locked("teardown")
	if err != nil {
		return err
	}
	defer release()
	inv, err := w.Site.Inventory(w.Soft)
	if err != nil {
		return err
	}
	var has []string
	for _, m := range inv.Machines {
		if m.Cluster == name {
			has = append(has, m.Name)
		}
	}
	steps := plan.Teardown(has, w.SiteFile != nil && w.SiteFile.Kind == declare.ListedSite)
	st, err := w.Store.Read()
	if err != nil {
		return err
	}
	w.Say("tearing down cluster %s removes %s with all that runs there, and its entry in %s", name, words.Count(len(steps), "machine"), words.Count(len(st.Kubeconfigs), "kubeconfig file"))
	if _, err := w.Trust(); err != nil {
		w.Say("the keys of the cluster are not to be had: %v", err)
	}
	if err := w.approved(steps); err != nil {
		return err
	}
	if err := w.AskByName(name, fmt.Sprintf("everything in cluster %s will be lost", name)); err != nil {
		return err
	}
	if err := w.Store.Make(); err != nil {
		return err
	}
	c, err := w.Topology()
	if err != nil {
		return err
	}
	return w.journaled(&look.View{Cluster: c}, "teardown", steps, func(r *act.Run) error {
		if err := r.Steps(w.Soft, w.Hard, steps); err != nil {
			return err
		}
		return w.sweep(st.Kubeconfigs)
	})
}

// sweep removes what the cluster left on this computer.
func (w *Work) sweep(merged map[string]time.Time) error {
	t, err := w.Trust()
	if err != nil && len(merged) > 0 {
		return err
	}
	for f := range merged {
		removed, err := kubeconfig.Remove(f, w.Decl.Name, t)
		if err != nil {
			return fmt.Errorf("kubeconfig %s: %w", f, err)
		}
		if removed {
			w.Say("took the entry %s out of %s", w.Decl.Name, f)
		}
	}
	ctx, cancel := context.WithTimeout(w.Hard, 20*time.Second)
	defer cancel()
	if err := w.Host.Leave(ctx); err != nil {
		return err
	}
	if w.Decl.CopyOf != "" {
		// The cluster that it is a copy of has the same.
		if err := keep.Forget(w.Session); err != nil {
			return err
		}
	}
	if left := keep.Names(w.Session); len(left) > 0 {
		if p, err := w.Store.Protection(); err == nil && p != nil {
			folder, opener := w.Store.BackupsAt()
			w.Say("%s left in %s, to be opened with %s there, and that with the %s", words.Count(len(left), "backup"), folder, opener, w.Host.OpenedBy(*p))
		}
	}
	return w.Store.Remove()
}
