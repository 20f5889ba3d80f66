package converge

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/gauge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/probe"
	"verbund/internal/site"
)

// Work is a command at work on a cluster.
type Work struct {
	*session.Session
	Asker
	Host     Host
	Declared *declare.Result
	// Without is why the declared watches have no say this time; empty: they have.
	Without string
	// Agreed is the plan that is carried out, and nothing else; nil: whatever is to be done.
	Agreed *Agreed
	ToHop  string        // a version of the minor after which an upgrade stops; empty: at its end
	probes *probe.Probes // of the declared watches, once a roll-out has begun
	// Soft ends what waits, and lets running steps finish; Hard ends those, too.
	Soft, Hard context.Context
}

// wake makes sure that the site can be asked about a cluster of which something
// was raised. Starting it is agreed to first: it gives machines their power back.
func (w *Work) wake() error {
	v, err := look.Locate(w.Soft, w.Session)
	if err != nil {
		return err
	}
	err = look.Unseen(w.Session, v)
	var ns *look.NotSeen
	if !errors.As(err, &ns) || ns.Elsewhere || !errors.Is(err, site.ErrNotRunning) {
		return err
	}
	// What cannot be is refused without it.
	if err := look.Unchanged(w.Session, v); err != nil {
		return err
	}
	if !w.Named(w.Decl.Name) {
		if err := w.Ask(fmt.Sprintf("The process of site %s is not running, and without it nothing is known of cluster %s. Start it?", w.Decl.Site, w.Decl.Name)); err != nil {
			return err
		}
	}
	return w.Host.Start()
}

// locked is held for what changes machines: the site can be asked then.
func (w *Work) locked(command string) (release func(), err error) {
	release, err = w.Store.Lock(command)
	if err != nil {
		return nil, err
	}
	if err := w.wake(); err != nil {
		release()
		return nil, err
	}
	w.Alone = true
	return release, nil
}

// agree shows what will be done and asks, where there is somebody to ask.
func (w *Work) agree(p *plan.Plan, v *look.View) error {
	if len(p.Endangers) > 0 {
		for _, l := range w.notToMiss(p, v) {
			w.Say("%s", l)
		}
		return w.AskByName(w.Decl.Name, fmt.Sprintf("in cluster %s, %s", w.Decl.Name, strings.Join(p.Endangers, "; ")))
	}
	beyond := ""
	if st := v.Aim.Stage; st != nil && st.Road != nil && st.Road.Hops > 1 {
		beyond = fmt.Sprintf(", and after this hop, to %s, those of %s, to %s", st.Kubernetes, words.Count(st.Road.Hops-1, "more hop"), st.Declared)
	}
	return w.Agree(fmt.Sprintf("Do these %s to cluster %s%s?", words.Count(len(p.Steps), "step"), w.Decl.Name, beyond), w.notToMiss(p, v), p, v)
}

// notToMiss is what everybody is told of a plan before it is carried out: what goes for good, and
// the whole way over several minors.
func (w *Work) notToMiss(p *plan.Plan, v *look.View) []string {
	var out []string
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if st := v.Aim.Stage; st != nil {
		r := st.Road
		add("the way from %s to %s: %s of the control plane, each after a backup, and %s of each worker", r.From, r.To, words.Count(r.Hops, "hop"), words.Count(r.Drains, "drain"))
		for _, l := range r.Legs {
			add("  %-8s %s to %s, since %s", l.Who, l.From, l.To, l.Because)
		}
		add("this hop: %s", st.InWords())
	}
	for _, r := range p.Removes {
		add("removes %s", r.Text)
	}
	for _, m := range p.Later {
		add("removes %s after these, when a new one has taken its place", m)
	}
	for _, st := range p.Steps {
		if st.Kind == plan.Wipe {
			add("on %s: %s", st.Machine, st.Text)
		}
	}
	return out
}

// carryOut runs steps with the journal, and shows them to whoever looks on.
func (w *Work) carryOut(v *look.View, command string, steps []plan.Step) error {
	return w.journaled(v, command, steps, func(r *act.Run) error {
		if err := r.Prepare(); err != nil {
			return err
		}
		if err := r.RestNew(steps); err != nil {
			return err
		}
		return r.Steps(w.Soft, w.Hard, steps)
	})
}

// journaled does something as a run of its own. A step that failed in it is told with
// everything that one needs to act on it, and beside it that the journal could not be
// closed, if that is so.
func (w *Work) journaled(v *look.View, command string, steps []plan.Step, do func(*act.Run) error) error {
	watch := w.Watch(steps)
	_, predicted := (&plan.Plan{Steps: steps}).Schedule(w.Parallel, look.Usual(w.Session))
	r, err := act.Begin(w.Session, v, command, predicted, watch.Entry)
	if err != nil {
		return err
	}
	w.ask(r, steps)
	watch.Start()
	err = do(r)
	watch.Stop()
	for _, f := range r.Watches.Figures() {
		r.Remark(f.String())
	}
	eerr := r.End(err)
	watch.Finish(r.ID, err)
	var se *act.StepError
	var spared *act.Failed
	if errors.As(err, &se) && !errors.As(err, &spared) {
		err = failure(err, se)
	}
	return errors.Join(err, eerr)
}

// ask has the declared applications asked from before the first wave of a roll-out on, until
// the command ends, through all its runs.
func (w *Work) ask(r *act.Run, steps []plan.Step) {
	rolls := slices.ContainsFunc(steps, func(s plan.Step) bool { return s.Kind == plan.Wave || s.Kind == plan.Soak })
	switch {
	case len(w.Decl.Watch) == 0, !rolls && w.probes == nil:
		return
	case w.Without != "":
		r.Remark(fmt.Sprintf("without the declared %s: %s", words.Count(len(w.Decl.Watch), "watch"), w.Without))
		return
	}
	if w.probes == nil {
		w.probes = gauge.Watches(w.Hard, w.Decl.Watch, r.Cluster.Endpoint)
	}
	r.Watches = w.probes
}

// quiet ends the asking.
func (w *Work) quiet() {
	w.probes.Stop()
	w.probes = nil
}

// failure tells a failed step so that one can act on it.
func failure(err error, se *act.StepError) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%v", se)
	if se.Machine != "" {
		fmt.Fprintf(&b, "\n  machine    %s", se.Machine)
	}
	if se.Unit != "" {
		fmt.Fprintf(&b, "\n  unit       %s\n  exit code  %d", se.Unit, se.Exit)
	}
	if len(se.Log) > 0 {
		b.WriteString("\n  last log lines")
		for _, l := range se.Log {
			b.WriteString("\n    " + l)
		}
	}
	fmt.Fprintf(&b, "\n  what now   %s", se.Todo)
	return &Failed{b.String(), err}
}

// Failed is a step that failed, in the words in which a person is told of it.
type Failed struct {
	text string
	err  error
}

func (t *Failed) Error() string { return t.text }

func (t *Failed) Unwrap() error { return t.err }

// surveyFirst holds the machines that a plan touches against what it needs,
// and stops a run before it changes anything.
func (w *Work) surveyFirst(v *look.View, p *plan.Plan) error {
	// Each machine tries some of the others here; verbund survey tries all.
	const peers = 4
	answers := look.Survey(w.Soft, w.Session, v, look.SurveyOptions{Only: look.Needed(p), Peers: peers})
	wrong := slices.DeleteFunc(answers, func(x look.Answer) bool { return x.State != look.Bad })
	if len(wrong) == 0 {
		return nil
	}
	for _, x := range wrong {
		w.Problem(fmt.Sprintf("%s, %s: %s\n  what now   %s", cmp.Or(x.Machine, "site "+w.Decl.Site), x.Question, x.Found, cmp.Or(x.Todo, "look at the machine")))
	}
	return fmt.Errorf("%s in the way; nothing was changed. verbund survey shows everything", words.Are(len(wrong), "thing"))
}

// Left says what a limited run did not do, or nothing if that is nothing.
func Left(left []plan.Step) string {
	if len(left) == 0 {
		return ""
	}
	where := map[string]int{}
	for _, s := range left {
		where[cmp.Or(s.Machine, "the cluster")]++
	}
	return fmt.Sprintf("left, since the run was limited: %s on %s", words.Count(len(left), "step"), strings.Join(slices.Sorted(maps.Keys(where)), ", "))
}
