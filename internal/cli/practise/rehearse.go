package practise

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/rehearse"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/report"
)

// RehearseSaid is a rehearsal as JSON.
type RehearseSaid struct {
	Cluster string           `json:"cluster"`
	With    []string         `json:"with"` // policies that were tried instead of those declared
	Middle  *rehearse.Result `json:"middle"`
	Bad     *rehearse.Result `json:"bad"` // every step as slow as the slowest tenth of its kind
}

// RehearseCmd is verbund rehearse.
func RehearseCmd(a *desk.App) *cobra.Command {
	var with []string
	var fail, only, to, picture string
	c := &cobra.Command{
		Use: "rehearse", Short: "Play what is declared through in virtual time: how long, what blocks, the lowest capacity", Args: term.NoArgs,
		Long: `Plays what converge would do through in virtual time, in a moment and without touching
anything: the same plans, order, guards and policies, with drains that wait for budgets
and move pods to where they find room, by their requests, selectors and taints.

It says how long it takes in the middle and in a bad case, by the durations in the
journal; of what was never done here, as a rule. What a person's word is waited for
takes no time in it.

With --fail it says what a machine that does not come back would do. With --with other
policies are tried: batch, surge, trial, soak, failures, order and way, of all pools or
of one, as in --with gauges.batch=4.`,
		Example: "  verbund rehearse --to v1.37.2\n  verbund rehearse --with batch=4 --with soak=2m\n  verbund rehearse --fail tidewatch-gauges-2\n  verbund rehearse --picture rehearsal.png",
		RunE: func(*cobra.Command, []string) error {
			change, err := policies(with)
			if err != nil {
				return err
			}
			s, err := a.OpenTo(to)
			if err != nil {
				return err
			}
			defer s.Close()
			known := func(name string) bool {
				return slices.ContainsFunc(s.Decl.Pools, func(p declare.Pool) bool { return p.Name == name })
			}
			for _, w := range with {
				if pool, _, has := strings.Cut(strings.SplitN(w, "=", 2)[0], "."); has && !known(pool) {
					return term.Usage("--with %s: there is no pool %s", w, pool)
				}
			}
			play := func(usual func(plan.Step) time.Duration) (*rehearse.Result, error) {
				return look.Rehearse(a.Soft, s, look.Rehearsal{Part: only, Fail: fail, Policy: change, Usual: usual})
			}
			middle, err := play(look.Usual(s))
			if err != nil {
				return err
			}
			bad, err := play(look.Slow(s))
			if err != nil {
				return err
			}
			if picture != "" {
				if err := drawRehearsal(a, s, middle, picture); err != nil {
					return err
				}
			}
			if a.Output == "json" {
				return a.UI.JSON(RehearseSaid{s.Decl.Name, term.List(with), middle, bad})
			}
			showRehearsal(a, s, middle, bad, with)
			return nil
		},
	}
	c.Flags().StringArrayVar(&with, "with", nil, "another policy for pools, as KEY=VALUE or POOL.KEY=VALUE")
	c.Flags().StringVar(&fail, "fail", "", "a machine that does not come back from its change")
	c.Flags().StringVar(&only, "only", "", "one part: control, addons, or the name of a pool")
	c.Flags().StringVar(&to, "to", "", "as if this version were declared, which is not written down")
	c.Flags().StringVar(&picture, "picture", "", "also draw it into a file that ends in .svg or .png")
	return c
}

// policies reads what is tried instead of what is declared.
func policies(with []string) (func(group string, p *rollout.Policy), error) {
	type change struct {
		pool string
		set  func(*rollout.Policy)
	}
	var list []change
	for _, w := range with {
		key, value, ok := strings.Cut(w, "=")
		pool, rest, named := strings.Cut(key, ".")
		if named {
			key = rest
		} else {
			pool = ""
		}
		set, err := policyOf(key, value)
		if !ok || err != nil {
			return nil, term.Usage("--with %s cannot be read; write batch=4, surge=2, trial=1, soak=2m, failures=1, order=spread or way=replacement, with POOL. before it for one pool", w)
		}
		list = append(list, change{pool, set})
	}
	return func(group string, p *rollout.Policy) {
		for _, c := range list {
			if c.pool == group || c.pool == "" && topology.IsPool(group) {
				c.set(p)
			}
		}
	}, nil
}

func policyOf(key, value string) (func(*rollout.Policy), error) {
	numbers := map[string]func(*rollout.Policy, int){
		"batch": func(p *rollout.Policy, n int) { p.Batch = max(n, 1) }, "surge": func(p *rollout.Policy, n int) { p.Surge = max(n, 1) },
		"trial": func(p *rollout.Policy, n int) { p.Trial = n }, "failures": func(p *rollout.Policy, n int) { p.Failures = n },
	}
	if f, ok := numbers[key]; ok {
		n, err := strconv.Atoi(value)
		if err == nil && n < 0 {
			err = strconv.ErrRange
		}
		return func(p *rollout.Policy) { f(p, n) }, err
	}
	switch {
	case key == "soak":
		d, err := time.ParseDuration(value)
		return func(p *rollout.Policy) { p.Soak = d }, err
	case key == "order" && (value == "zones" || value == "spread"):
		return func(p *rollout.Policy) { p.Spread = value == "spread" }, nil
	case key == "way" && (value == string(rollout.InPlace) || value == string(rollout.Replacement)):
		return func(p *rollout.Policy) { p.Way = rollout.Way(value) }, nil
	}
	return nil, fmt.Errorf("%s is no policy", key)
}

func showRehearsal(a *desk.App, s *session.Session, r, bad *rehearse.Result, with []string) {
	line := func(head, format string, args ...any) {
		fmt.Fprintf(a.Out, "%-10s %s\n", head, term.Visible(fmt.Sprintf(format, args...)))
	}
	if r.Plans == 0 {
		line("rehearsal", "%s is as declared: nothing would be done", s.Decl.Name)
		return
	}
	line("rehearsal", "%s: %s in %s, by %s", s.Decl.Name, changesOf(r), words.Count(r.Waves, "wave"), words.Count(r.Plans, "plan"))
	if len(with) > 0 {
		line("with", "%s", strings.Join(with, ", "))
	}
	takes := fmt.Sprintf("about %s; %s if every step is as slow as the slowest tenth", term.Seconds(r.Total), term.Seconds(bad.Total))
	if r.Holds > 0 {
		takes += fmt.Sprintf("; without %s, in which a person's word is waited for", words.Count(r.Holds, "hold"))
	}
	line("takes", "%s", takes)
	if len(r.Capacity) > 0 {
		line("capacity", "%.0f %% of what workers have now at the lowest, after %s", r.Lowest.Share*100, term.Seconds(r.Lowest.At))
	} else {
		line("capacity", "not known: the cluster has no workers yet")
	}
	if r.Ends != "" {
		line("ends", "%s", r.Ends)
	}
	if len(r.Cordoned) > 0 {
		line("cordoned", "%s", strings.Join(r.Cordoned, ", "))
	}
	if len(r.Untouched) > 0 {
		line("untouched", "%s", strings.Join(r.Untouched, ", "))
	}
	const most = 12
	for i, b := range r.Blocked {
		if i == most {
			line("", "and %d more", len(r.Blocked)-most)
			break
		}
		line("in the way", "%s, after %s: %s", b.Machine, term.Seconds(b.At), b.Text)
	}
	fmt.Fprintln(a.Out)
	var rows [][]term.Cell
	for i, o := range r.Outages {
		if i == mostRehearsed && !a.Verbose {
			rows = append(rows, term.Cells(fmt.Sprintf("and %d more; --verbose shows them", len(r.Outages)-mostRehearsed), "", "", ""))
			break
		}
		back, takes := term.Seconds(o.To), term.Seconds(o.To-o.From)
		switch {
		case o.Gone:
			back, takes = "never", "gives way"
		case o.Left:
			back, takes = "not", "stays out"
		}
		rows = append(rows, term.Cells(o.Machine, term.Seconds(o.From), back, takes))
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.Out, "No machine goes out of service.")
		return
	}
	a.UI.Table([]string{"machine", "out after", "back after", "out for"}, rows)
}

// changesOf says how many machines change, and how often where some do more than once.
func changesOf(r *rehearse.Result) string {
	if r.Changes == r.Machines {
		return words.Count(r.Machines, "machine")
	}
	return fmt.Sprintf("%d changes of %s", r.Changes, words.Count(r.Machines, "machine"))
}

// mostRehearsed is how many outages a rehearsal lists without being asked for more.
const mostRehearsed = 20

// rehearsedTones show what happens to a machine.
var rehearsedTones = map[plan.Kind]report.Tone{plan.Get: report.Bring, plan.Rest: report.Away, plan.Drain: report.Away, plan.Switch: report.Run, plan.Ready: report.Wait, plan.Uncordon: report.Run, plan.Soak: report.Wait, plan.Leave: report.Removal}

// mostDrawn is how many machines a picture shows: more cannot be told apart.
const mostDrawn = 200

// noteOf says what stands below the picture.
func noteOf(r *rehearse.Result) string {
	if len(r.Capacity) == 0 {
		return "The cluster has no workers yet, whose capacity there would be."
	}
	return fmt.Sprintf("The capacity is at %.0f %% at the lowest, after %s.", r.Lowest.Share*100, term.Seconds(r.Lowest.At))
}

// drawRehearsal draws machines down and time across, with the capacity below them.
func drawRehearsal(a *desk.App, s *session.Session, r *rehearse.Result, file string) error {
	t := &report.Timeline{Title: fmt.Sprintf("Rehearsal of cluster %s: %s in %s, about %s", s.Decl.Name, changesOf(r), words.Count(r.Waves, "wave"), term.Seconds(r.Total)),
		Note: noteOf(r)}
	at := map[string]int{}
	for _, b := range r.Bars {
		name := b.Machine
		if name == "" {
			name = topology.GroupInWords(b.Group)
		}
		i, ok := at[name]
		if !ok {
			i = len(t.Rows)
			at[name] = i
			t.Rows = append(t.Rows, report.Row{Name: name})
		}
		t.Rows[i].Bars = append(t.Rows[i].Bars, report.Bar{From: b.From, To: b.To, Text: string(b.Kind), Tone: rehearsedTones[b.Kind]})
	}
	t.Lanes()
	if more := len(t.Rows) - mostDrawn; more > 0 {
		t.Rows = t.Rows[:mostDrawn]
		t.Note += fmt.Sprintf(" %d more machines are not shown.", more)
	}
	for _, p := range r.Capacity {
		t.Of, t.Share = "capacity", append(t.Share, report.Level{At: p.At, Share: p.Share})
	}
	return a.DrawTo(file, t)
}
