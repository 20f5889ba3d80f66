package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/look"
	enginelook "verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/site"
	"verbund/internal/store"
)

// ReplacedSaid is what a replacement ends with, as JSON.
type ReplacedSaid struct {
	Replaced string              `json:"replaced"`
	Proof    []enginelook.Proved `json:"proof"`
	Holds    bool                `json:"holds"` // all of it
}

// Work is what a command does to a cluster, with this terminal to ask at.
func (a *App) Work(s *session.Session, r *declare.Result) *converge.Work {
	d := &asker{a: a, s: s, r: r}
	return &converge.Work{Session: s, Asker: d, Host: d, Declared: r, Without: a.Without, Soft: a.Soft, Hard: a.Hard}
}

// asker asks, about one cluster, whoever sits at the terminal.
type asker struct {
	a *App
	s *session.Session
	r *declare.Result

	began time.Time // the first run of the command
	round int       // how many there were
}

// Say tells a line of progress.
func (d *asker) Say(format string, args ...any) { d.a.UI.Say(format, args...) }

// Problem tells what is in the way.
func (d *asker) Problem(text string) { d.a.UI.Problem(text, 0) }

// Ask wants a yes, unless --yes was said.
func (d *asker) Ask(question string) error { return d.a.Ask(question) }

// AskByName wants the cluster's name, unless --confirm said it.
func (d *asker) AskByName(cluster, what string) error { return d.a.AskByName(cluster, what) }

// Named says whether --confirm named the cluster.
func (d *asker) Named(cluster string) bool { return d.a.Confirm == cluster }

// Agree shows the plan to a person at a terminal, and asks.
func (d *asker) Agree(question string, notToMiss []string, p *plan.Plan, v *look.View) error {
	if _, ok := term.IsTerminal(d.a.In); ok && !d.a.Yes {
		slots, total := p.Schedule(d.s.Parallel, look.Usual(d.s))
		d.a.ShowPlan(d.s, p, v, slots, total)
		return d.a.Ask(question)
	}
	for _, l := range notToMiss {
		d.a.UI.Say("%s", l)
	}
	if v.Outlook != nil {
		for _, c := range v.Outlook.Concerns {
			d.a.UI.Say("careful: %s", c)
		}
	}
	return d.a.Ask(question)
}

// Watch shows a run as lines, and on a terminal what runs below them. A command of several rounds
// tells which it is, and how long all of it has taken.
func (d *asker) Watch(steps []plan.Step) converge.Watcher {
	if d.round++; d.round == 1 {
		d.began = time.Now()
	}
	p := newProgress(d.a, look.UsualDurations(d.s), steps, look.Usual(d.s))
	p.began, p.round = d.began, d.round
	return p
}

// Proof shows claims with what was found.
func (d *asker) Proof(id string, claims []look.Proved) error {
	replaced := true
	var rows [][]term.Cell
	for _, p := range claims {
		state := term.Cell{Text: "holds", State: "good"}
		if !p.Holds {
			replaced = false
			state = term.Cell{Text: "DOES NOT HOLD", State: "bad"}
		}
		rows = append(rows, []term.Cell{term.Plain(p.Where), term.Plain(p.What), state, term.Plain(p.Found)})
	}
	if d.a.Output == "json" {
		return d.a.UI.JSON(ReplacedSaid{id, term.List(claims), replaced})
	}
	d.a.UI.Table([]string{"where", "claim", "", "found"}, rows)
	return nil
}

// Start makes sure that the site's process runs.
func (d *asker) Start() error { return d.a.StartSite(d.s, d.r) }

// Leave ends the site's process, and removes its folder, if nobody has a machine there.
func (d *asker) Leave(ctx context.Context) error {
	c, err := SimulatedSite(d.s)
	if err != nil {
		return err
	}
	gone, err := c.Leave(ctx)
	if errors.Is(err, site.ErrOlder) {
		d.a.UI.Say("site %s stays: %v; verbund site stop ends it, and its folder %s can go when no cluster has machines there", d.s.Decl.Site, err, c.Folder)
		err = nil
	}
	if err != nil {
		return fmt.Errorf("site %s: %w", d.s.Decl.Site, err)
	}
	if gone {
		os.Remove(filepath.Dir(c.Folder)) // only if no other site is there
		d.a.UI.Say("site %s has no machine left; its process is stopped", d.s.Decl.Site)
	}
	return nil
}

// OpenedBy is the key file, or what else opens a store.
func (d *asker) OpenedBy(p store.Protection) string { return cmp.Or(d.a.Keys().KeyFile(p), p.Kind) }
