package look

import (
	"context"
	"slices"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/rollout"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// RolloutState is how a roll-out stands.
type RolloutState string

// How it stands.
const (
	NoRollout     RolloutState = "none" // no machine that is there is to change
	ToBegin       RolloutState = "to begin"
	UnderWay      RolloutState = "underway"
	IsHeld        RolloutState = "held"
	WaitsForHours RolloutState = "outside of its hours"
	Interrupted   RolloutState = "interrupted" // a run that was at it has ended, and something is left
)

// Rollout is where a roll-out stands.
type Rollout struct {
	Cluster string                   `json:"cluster"`
	State   RolloutState             `json:"state"`
	Since   *time.Time               `json:"since,omitempty"` // the first wave began
	Ends    *time.Time               `json:"ends,omitempty"`  // probably, if nothing holds it
	Next    *time.Time               `json:"next,omitempty"`  // when a wave may begin again
	Held    *memory.Held             `json:"held,omitempty"`
	Hop     *plan.Stage              `json:"hop,omitempty"` // on a way over several minors
	Groups  []plan.Progress          `json:"groups"`
	Missing int                      `json:"missing"` // machines that are declared and not there
	Spared  map[string]memory.Spared `json:"spared"`  // machines that failed, without which it went on
	Run     *RunAt                   `json:"run,omitempty"`
	Watches []rollout.Figures        `json:"watches"` // as they stood at the last wave, or the end of one
	Out     map[string]float64       `json:"out"`     // seconds that machines were out of service, of those that are back
}

// RunAt is the run that is at it.
type RunAt struct {
	Command string   `json:"command"`
	Process int      `json:"process"`
	By      string   `json:"by"`  // the process, and whose it is where others share the memory
	Out     []string `json:"out"` // machines that it has out of service
	Steps   []string `json:"steps"`
}

// RolloutOf looks where a roll-out stands.
func RolloutOf(ctx context.Context, s *session.Session, now time.Time) (*Rollout, error) {
	v, err := Ahead(ctx, s, "")
	if err != nil {
		return nil, err
	}
	if err := Unseen(s, v); err != nil {
		return nil, err
	}
	r := &Rollout{Cluster: s.Decl.Name, State: NoRollout, Groups: plan.ProgressOf(v.Cluster, v.Seen), Hop: v.Aim.Stage, Out: map[string]float64{}, Watches: []rollout.Figures{}, Held: v.Known.Held, Spared: v.Known.Spared}
	u, err := RunUnderway(s)
	if err != nil {
		return nil, err
	}
	es, _, err := s.Store.Entries()
	if err != nil {
		return nil, err
	}
	r.Since = r.fromJournal(es, len(v.Seen.Open) > 0)
	for _, m := range v.Cluster.Machines {
		if !v.Seen.Machines[m.Name].Exists {
			r.Missing++
		}
	}
	left := r.Hop != nil || slices.ContainsFunc(r.Groups, func(g plan.Progress) bool { return g.Waits != plan.WaitsNothing })
	open, next := v.Cluster.Window.Open(now)
	if !open && left {
		r.Next = &next
	}
	switch {
	case u != nil:
		r.Run = &RunAt{Command: u.Command, Process: u.Process, By: u.By, Out: u.Out, Steps: []string{}}
		for _, e := range u.Steps {
			where := e.Where
			if where != "" {
				where += ": "
			}
			r.Run.Steps = append(r.Run.Steps, where+e.Text)
		}
	}
	switch {
	case r.Held != nil && (left || u == nil):
		r.State = IsHeld
	case u != nil && (left || r.Since != nil):
		r.State = UnderWay
	case left && r.Next != nil:
		r.State = WaitsForHours
	case left && r.Since != nil:
		r.State = Interrupted
	case left:
		r.State = ToBegin
	}
	if left {
		r.ends(s, v, now)
	}
	return r, nil
}

// ends reckons when it is over, if nothing holds it.
func (r *Rollout) ends(s *session.Session, v *View, now time.Time) {
	v.Seen.Held = false
	p, err := PlanOf(s, v)
	if err != nil {
		return // plan says why
	}
	slots, total := p.Schedule(s.Parallel, Usual(s))
	_, all := plan.Summarise(v.Cluster, v.Seen, p, slots, total, Usual(s))
	at := now.Add(all)
	if r.Next != nil {
		at = r.Next.Add(all)
	}
	r.Ends = &at
}

// fromJournal reads when the roll-out began, and how long each machine was out of service.
func (r *Rollout) fromJournal(es []store.Entry, open bool) *time.Time {
	var since *time.Time
	from := 0
	for i, e := range es {
		k := plan.Kind(e.What)
		if len(e.Watches) > 0 {
			r.Watches = e.Watches
		}
		switch {
		case e.Kind == store.StepDone && k == plan.Verify, e.Kind == store.StepDone && k == plan.Backup && since == nil:
			// Whatever came before was another one.
			since, r.Watches, from = nil, []rollout.Figures{}, i
		case k == plan.Wave && e.Kind == store.StepDone:
			if since == nil {
				at := e.Time
				since = &at
			}
		}
	}
	r.Out = OutOfService(es[from:])
	if !open {
		return nil
	}
	return since
}

// OutOfService is how many seconds each machine was out of service, of those that are back, by
// the journal: from before its pods were asked to leave, or it left the balancer, until all of
// that was undone. Of one that was out several times it is the longest.
func OutOfService(es []store.Entry) map[string]float64 {
	var o plan.Outages
	for _, e := range es {
		switch at := e.Time.Sub(es[0].Time); e.Kind {
		case store.StepBegan:
			o.Began(plan.Kind(e.What), e.Where, at)
		case store.StepDone:
			o.Ended(plan.Kind(e.What), e.Where, at)
		}
	}
	out := map[string]float64{}
	for _, x := range o.All {
		if !x.Gone {
			out[x.Machine] = max(out[x.Machine], (x.To - x.From).Seconds())
		}
	}
	return out
}
