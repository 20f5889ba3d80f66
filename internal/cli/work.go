package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/site"
	"verbund/internal/store"
)

// work is what a command does to a cluster, with this terminal to ask at.
func (a *app) work(s *session.Session, r *declare.Result) *converge.Work {
	d := &asker{a, s, r}
	return &converge.Work{Session: s, Asker: d, Host: d, Declared: r, Soft: a.soft, Hard: a.hard}
}

// asker asks, about one cluster, whoever sits at the terminal.
type asker struct {
	a *app
	s *session.Session
	r *declare.Result
}

func (d *asker) Say(format string, args ...any) { d.a.ui.say(format, args...) }

func (d *asker) Problem(text string) { d.a.ui.problem(text) }

func (d *asker) Ask(question string) error { return d.a.ask(question) }

func (d *asker) AskByName(cluster, what string) error { return d.a.askByName(cluster, what) }

func (d *asker) Named(cluster string) bool { return d.a.confirm == cluster }

func (d *asker) Agree(question string, p *plan.Plan, v *look.View) error {
	if _, ok := isTerminal(d.a.in); ok && !d.a.yes {
		slots, total := p.Schedule(d.s.Parallel, look.Usual(d.s))
		d.a.showPlan(d.s, p, v, slots, total)
	}
	return d.a.ask(question)
}

func (d *asker) Watch(steps []plan.Step) converge.Watcher {
	return newProgress(d.a, look.UsualDurations(d.s), steps)
}

func (d *asker) Proof(id string, claims []look.Proved) error {
	replaced := true
	var rows [][]cell
	for _, p := range claims {
		state := cell{"holds", "good"}
		if !p.Holds {
			replaced = false
			state = cell{"DOES NOT HOLD", "bad"}
		}
		rows = append(rows, []cell{plain(p.Where), plain(p.What), state, plain(p.Found)})
	}
	if d.a.output == "json" {
		return d.a.ui.json(replacedSaid{id, list(claims), replaced})
	}
	d.a.ui.table([]string{"where", "claim", "", "found"}, rows)
	return nil
}

func (d *asker) Start() error { return d.a.startSite(d.s, d.r) }

func (d *asker) Leave(ctx context.Context) error {
	c, err := simulatedSite(d.s)
	if err != nil {
		return err
	}
	gone, err := c.Leave(ctx)
	if errors.Is(err, site.ErrOlder) {
		d.a.ui.say("site %s stays: %v; verbund site stop ends it, and its folder %s can go when no cluster has machines there", d.s.Decl.Site, err, c.Folder)
		err = nil
	}
	if err != nil {
		return fmt.Errorf("site %s: %w", d.s.Decl.Site, err)
	}
	if gone {
		os.Remove(filepath.Dir(c.Folder)) // only if no other site is there
		d.a.ui.say("site %s has no machine left; its process is stopped", d.s.Decl.Site)
	}
	return nil
}

func (d *asker) OpenedBy(p store.Protection) string { return cmp.Or(d.a.keys().KeyFile(p), p.Kind) }
