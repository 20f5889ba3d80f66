package rollout

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/look"
)

// Cmd is verbund rollout.
func Cmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "rollout", Short: "Where a roll-out stands; hold it, let it go on, take it back", Args: term.NoArgs,
		Long: `Says where a roll-out stands, also while another terminal runs it: of each group of
machines how many have what they are to have now, which are being changed, what is waited for and
since when, which failed, and when it will probably be over.

How machines are rolled out is declared: rollout under a pool, under control, and at
the top. docs/rollouts.md shows it by example.`,
		Example: "  verbund rollout\n  verbund rollout hold --reason 'the fair begins'\n  verbund rollout resume\n  verbund rollout back gauges",
		RunE: func(*cobra.Command, []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			r, err := look.RolloutOf(a.Soft, s, time.Now())
			if err != nil {
				return err
			}
			if a.Output == "json" {
				return a.UI.JSON(r)
			}
			show(a, r)
			return nil
		},
	}
	c.AddCommand(holdCmd(a), resumeCmd(a), backCmd(a))
	return c
}

// clock is a moment as a line has it: with its day when that is another one.
func clock(t, now time.Time) string {
	t, now = t.Local(), now.Local()
	if t.YearDay() == now.YearDay() && t.Year() == now.Year() {
		return t.Format("15:04:05")
	}
	return t.Format("Mon 2006-01-02 15:04")
}

func show(a *desk.App, r *look.Rollout) {
	now := time.Now()
	line := func(head, format string, args ...any) {
		fmt.Fprintf(a.Out, "%-11s %s\n", head, term.Visible(fmt.Sprintf(format, args...)))
	}
	switch r.State {
	case look.NoRollout:
		if r.Missing > 0 {
			line("roll-out", "%s: none; %s not there yet, and verbund converge gets what is missing", r.Cluster, words.Are(r.Missing, "machine"))
		} else {
			line("roll-out", "%s: none; no machine is to change", r.Cluster)
		}
	case look.ToBegin:
		line("roll-out", "%s: not begun; verbund converge begins it", r.Cluster)
	case look.Interrupted:
		line("roll-out", "%s: interrupted, and something is left; verbund converge goes on", r.Cluster)
	default:
		line("roll-out", "%s: %s", r.Cluster, r.State)
	}
	if r.Hop != nil {
		line("hop", "%s", r.Hop.InWords())
	}
	if r.Since != nil {
		line("since", "%s, for %s", clock(*r.Since, now), term.Seconds(now.Sub(*r.Since)))
	}
	if h := r.Held; h != nil {
		held := act.HeldBy(h)
		line("held", "%s", held.Why)
		line("what now", "%s", held.Todo)
	}
	if r.Next != nil {
		line("hours", "no wave begins now; the next may at %s", r.Next.Format("Mon 2006-01-02 15:04 MST"))
	}
	if r.Run != nil {
		line("run", "verbund %s, %s", r.Run.Command, r.Run.By)
		for _, s := range r.Run.Steps {
			line("", "%s", s)
		}
		if len(r.Run.Out) > 0 {
			line("out now", "%s", strings.Join(r.Run.Out, ", "))
		}
	}
	if r.Ends != nil {
		line("over", "about %s, if nothing holds it", clock(*r.Ends, now))
	}
	if out := slices.Sorted(maps.Values(r.Out)); len(out) > 0 {
		line("out so far", "%s, each for about %s and %s at most", words.Count(len(out), "machine"), seconds(out[len(out)/2]), seconds(out[len(out)-1]))
	}
	for _, f := range r.Watches {
		line("watch", "%s", strings.TrimPrefix(f.String(), "watch "))
	}
	for _, m := range slices.Sorted(maps.Keys(r.Spared)) {
		line("failed", "%s, and stays cordoned: %s", m, firstLine(r.Spared[m].Why))
	}
	if r.State == look.NoRollout && r.Run == nil {
		return
	}
	fmt.Fprintln(a.Out)
	var rows [][]term.Cell
	for _, g := range r.Groups {
		rows = append(rows, row(g))
	}
	done := "as declared"
	if r.Hop != nil {
		done = "hop done" // by what it is now, and not by what is declared in the end
	}
	a.UI.Table([]string{"group", done, "way", "wave", "waits for", "runs", "what changes"}, rows)
}

func seconds(s float64) string { return term.Seconds(time.Duration(s * float64(time.Second))) }

func firstLine(text string) string {
	head, _, _ := strings.Cut(text, "\n")
	return head
}

func row(g plan.Progress) []term.Cell {
	wave := ""
	if g.Wave > 0 {
		wave = fmt.Sprintf("%d: %s", g.Wave, strings.Join(g.Machines, ", "))
		if g.Trial {
			wave += ", on trial"
		}
		if len(g.Leaving) > 0 {
			wave += " for " + strings.Join(g.Leaving, ", ")
		}
	}
	done := term.Cell{Text: fmt.Sprintf("%d of %d", g.Done, g.Of), State: "good"}
	if len(g.Left)+len(g.Leaving) > 0 {
		done.State = "attention"
	}
	waits := term.Cell{Text: g.Waits}
	if g.Waits == plan.WaitsWord {
		waits.State = "attention"
	}
	return []term.Cell{term.Plain(g.Group), done, term.Plain(string(g.Way)), term.Plain(wave), waits, term.Plain(strings.Join(g.Runs, ", ")), term.Plain(strings.Join(g.Changes, ", "))}
}

// HoldSaid is what hold and resume say as JSON.
type HoldSaid struct {
	Cluster string       `json:"cluster"`
	Held    *memory.Held `json:"held"` // nothing when it may go on
	Run     string       `json:"run,omitempty"`
}

func holdCmd(a *desk.App) *cobra.Command {
	var reason string
	c := &cobra.Command{
		Use: "hold", Short: "Let no further wave begin, until resume", Args: term.NoArgs,
		Long: `Lets no further wave of a roll-out begin, from any terminal and also while one runs:
the machines that are being changed are finished, and the run ends. It stays so until
verbund rollout resume; what is no roll-out, such as repairs, goes on.`,
		Example: "  verbund rollout hold --reason 'the fair begins'",
		RunE: func(*cobra.Command, []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			if !s.Store.Exists() {
				return term.Usage("cluster %s has not been raised; there is nothing to hold", s.Decl.Name)
			}
			u, err := look.RunUnderway(s)
			if err != nil {
				return err
			}
			var h *memory.Held
			if err := s.Remember(func(st *memory.State) {
				if st.Held == nil {
					st.Held = &memory.Held{Since: time.Now().UTC(), By: memory.ByPerson, Why: reason}
				}
				h = st.Held
			}); err != nil {
				return err
			}
			said := HoldSaid{Cluster: s.Decl.Name, Held: h}
			if u != nil {
				said.Run = u.Command
			}
			if a.Output == "json" {
				return a.UI.JSON(said)
			}
			fmt.Fprintf(a.Out, "Cluster %s: %s.\n", s.Decl.Name, act.HeldBy(h).Why)
			if u != nil {
				fmt.Fprintf(a.Out, "verbund %s, %s, finishes the machines that it has begun with, and ends.\n", u.Command, u.By)
			}
			fmt.Fprintln(a.Out, "verbund rollout resume lets it go on.")
			return nil
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why, for whoever comes to it")
	return c
}

func resumeCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "resume", Short: "Let a roll-out go on that was held", Args: term.NoArgs,
		Long: `Lets a roll-out go on that a person or the declaration holds, and converges: it goes on
where it stood. While a run is still at it, that one goes on by itself.`,
		RunE: func(*cobra.Command, []string) error {
			s, r, err := a.OpenFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			st, err := s.Store.Read()
			if err != nil {
				return err
			}
			h := st.Held
			if h == nil {
				return term.Usage("nothing is held in cluster %s; verbund rollout shows where it stands", s.Decl.Name)
			}
			a.UI.Say("%s", act.HeldBy(h).Why)
			u, err := look.RunUnderway(s)
			if err != nil {
				return err
			}
			if u != nil {
				if err := a.Ask(fmt.Sprintf("Let the roll-out in cluster %s go on?", s.Decl.Name)); err != nil {
					return err
				}
				if err := s.Remember((*memory.State).Resume); err != nil {
					return err
				}
				a.UI.Say("verbund %s, %s, is at it, and goes on if it has not ended by now; verbund rollout shows where it stands", u.Command, u.By)
				return nil
			}
			s.Unheld = true // for the plan that is shown; it is written down when the person has agreed
			return a.Work(s, r).Converge("rollout resume", "", &converge.Change{Text: "the roll-out goes on", Write: func() error {
				s.Unheld = false // what holds it from now on is another hold
				return s.Remember((*memory.State).Resume)
			}})
		},
	}
	return a.Drains(c)
}

// inWords lists what is taken back.
func inWords(b *plan.WayBack) []string {
	var out []string
	if b.Kubernetes != "" {
		out = append(out, "the control plane to "+b.Kubernetes)
	}
	for _, p := range slices.Sorted(maps.Keys(b.Pools)) {
		out = append(out, topology.GroupInWords(p)+" to "+b.Pools[p])
	}
	return out
}
