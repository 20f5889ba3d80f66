package cli

import (
	"errors"
	"fmt"
	"slices"

	"verbund/internal/engine/look"
	"verbund/internal/engine/session"

	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/site"
)

// change is what a command writes down before it converges: to the declaration,
// or to the memory. It is written when the person has agreed and the survey has
// found nothing in the way, and not before.
type change struct {
	text  string // what changes, as a person would say it
	write func() error
}

// mostTaken is how often an address may be somebody else's before a run gives up.
const mostTaken = 10

// converging is one command that brings about what is declared.
type converging struct {
	*app
	s             *session.Session
	r             *declare.Result
	command, only string
	change        *change
	replaces      string // machine that a new one is to be put in the place of

	release  func()          // of the lock, once it is held
	asked    map[string]bool // steps that cannot be undone, and were agreed to
	upgrades bool            // an upgrade was among what was agreed to
	acted    bool            // a run ended well
	raised   bool            // the cluster was not founded when it began
	taken    int             // how often somebody else got an address first
	moves    int             // further rounds that machines with another address need
	cut      bool            // the last run was cut off: what it began may not be over
}

func (a *app) converge(s *session.Session, r *declare.Result, command, only string, c *change) error {
	x := &converging{app: a, s: s, r: r, command: command, only: only, change: c}
	return x.run()
}

// run brings about what is declared, in as many rounds as that needs.
func (x *converging) run() error {
	a, s, r := x.app, x.s, x.r
	x.release = func() {}
	defer func() { x.release() }()
	// A memory that does not exist yet is made, and locked, when the person has
	// agreed: until then nothing is written.
	if s.Store.Exists() {
		if err := x.hold(); err != nil {
			return err
		}
	}
	if err := a.wake(s, r); err != nil {
		return err
	}
	var err error
	if x.cut, err = s.Store.CutOff(); err != nil {
		return err
	}
	// Machines that are there and asleep, and bare ones that are adopted, are
	// woken first; what they need shows only then. Machines whose address has
	// changed are repaired one after the other. What does not come to an end in
	// so many rounds never will.
	for round := 0; round < 4+x.moves; {
		begun, done, err := x.round()
		if err != nil || done {
			return err
		}
		if begun {
			round++
		}
	}
	return fmt.Errorf("cluster %s does not come to be as declared: each time something is done, something else is to be; verbund plan shows what, and machines with their consoles may say why", s.Decl.Name)
}

// hold takes the cluster's lock.
func (x *converging) hold() error {
	release, err := x.s.Store.Lock(x.command)
	if err != nil {
		return err
	}
	x.release, x.s.Alone = release, true
	return nil
}

// round looks, plans, asks and acts once. begun says that it acted; otherwise
// something was made ready, and the next one looks again. done says that nothing
// is left.
func (x *converging) round() (begun, done bool, err error) {
	s := x.s
	v, err := look.Observe(x.soft, s)
	if err != nil {
		return false, false, err
	}
	if err := look.Limit(s, v, x.only); err != nil {
		return false, false, err
	}
	if err := look.Unseen(s, v); err != nil {
		return false, false, err
	}
	p, err := x.exchange(v)
	if err != nil {
		return false, false, err
	}
	var left []plan.Step
	going := p != nil
	if !going {
		if p, err = look.PlanOf(s, v); err != nil {
			return false, false, err
		}
		if x.only != "" && len(p.Steps) > 0 {
			if p, left, err = p.Only(v.Cluster, x.only); err != nil {
				return false, false, err
			}
		}
	}
	x.sayBeside(p)
	switch {
	case len(p.Steps) > 0:
	case len(left) == 0 && x.cut && v.Seen.Founded && len(v.Ailing()) > 0:
		p.Steps, x.cut = []plan.Step{plan.Last(nil)}, false
	case x.acted:
		x.sayLeft(left)
		return false, true, x.over()
	default:
		return false, true, x.nothing(left)
	}
	// What showed only when a machine was awake is asked about again, if it
	// cannot be undone; so is an upgrade that follows a repair.
	if x.asked == nil || slices.ContainsFunc(finals(p), func(id string) bool { return !x.asked[id] }) || p.From != "" && !x.upgrades {
		if err := x.agree(s, p, v); err != nil {
			return false, false, err
		}
		x.asked, x.upgrades = map[string]bool{}, p.From != ""
		for _, id := range finals(p) {
			x.asked[id] = true
		}
	}
	x.raised = x.raised || !v.Seen.Founded
	if ready, err := x.ready(v); err != nil || !ready {
		return false, false, err
	}
	// Machines that go need nothing, and may be in whatever state.
	if !going {
		if err := x.surveyFirst(s, v, p); err != nil {
			return false, false, err
		}
	}
	if err := x.commit(); err != nil {
		return false, false, err
	}
	if err := x.pin(x.r, v); err != nil {
		return false, false, err
	}
	steps := p.Waking(v.Seen)
	if len(steps) == 0 {
		steps = p.Steps
	}
	if p.More {
		x.moves = min(x.moves+1, len(v.Cluster.Machines))
	}
	// Where the endpoint is about to move and answers already, people's files
	// learn of it before what answered until now goes away.
	if v.Seen.Endpoint {
		if err := x.followEndpoint(s, v.Cluster, false); err != nil {
			return true, false, err
		}
	}
	if err := x.carryOut(s, v, x.command, steps); err != nil {
		// Somebody else got a lease meanwhile: the plan is made anew with another one.
		var taken *site.Refused
		if errors.As(err, &taken) && taken.Code == site.AddressTaken && x.taken < mostTaken {
			x.taken++
			x.moves++
			x.ui.say("%s: the plan is made anew with another one", taken.What)
			return true, false, nil
		}
		return true, false, err
	}
	if err := x.followEndpoint(s, v.Cluster, true); err != nil {
		return true, false, err
	}
	// What is left is looked for once more: something may have come to light, or have
	// changed meanwhile.
	x.acted = true
	return true, false, nil
}

// exchange puts taking machines out before everything else, which are to give
// way to new ones: those that were asked for now, and those that an earlier run
// was to replace. A new one that is there already stays;
// nil if none has to go.
func (x *converging) exchange(v *look.View) (*plan.Plan, error) {
	under, err := x.s.Store.Exchanges()
	if err != nil {
		return nil, err
	}
	at := map[string]string{}
	if v.Inventory != nil {
		for _, m := range v.Inventory.Machines {
			at[m.Name] = m.Hardware
		}
	}
	if name := x.replaces; name != "" {
		if _, begun := under[name]; begun {
			x.ui.say("going on with the replacement of %s", name)
		} else {
			under[name] = at[name]
			x.change = &change{fmt.Sprintf("machine %s gives way to a new one", name), func() error { return x.s.Store.SaveExchange(name, at[name]) }}
		}
		x.replaces = ""
		if _, there := at[name]; !there && under[name] == "" {
			_, err := plan.Clear(v.Cluster, v.Seen, []string{name}, true)
			return nil, err
		}
	}
	var going []string
	for name, hardware := range under {
		if hardware != "" && at[name] == hardware && (x.only == "" || x.only == plan.PartOf(v.Cluster, name)) {
			going = append(going, name)
		}
	}
	if len(going) == 0 {
		return nil, nil
	}
	slices.Sort(going)
	p, err := plan.Clear(v.Cluster, v.Seen, going, true)
	if err != nil {
		return nil, err
	}
	p.More = true
	return p, nil
}

// over ends a command after which nothing is left.
func (x *converging) over() error {
	x.sayReplacing(x.s)
	if x.only != "" {
		return nil
	}
	if x.raised {
		x.ui.say("next: verbund access --merge FILE puts the cluster into a kubeconfig; verbund status says how it is")
	}
	under, err := x.s.Store.Exchanges()
	for name := range under {
		err = errors.Join(err, x.s.Store.SaveExchange(name, ""))
	}
	return err
}

// ready makes sure, once the person has agreed, that the lock is held and the
// site runs. Whatever that needed, the plan is made anew after it.
func (x *converging) ready(v *look.View) (bool, error) {
	ready := true
	if !x.s.Alone {
		ready = false
		if err := x.hold(); err != nil {
			return false, err
		}
	}
	if v.Inventory == nil {
		ready = false
		if err := x.startSite(x.s, x.r); err != nil {
			return false, err
		}
	}
	return ready, nil
}

// commit writes down what was agreed to.
func (x *converging) commit() error {
	if err := x.s.Store.Make(); err != nil {
		return err
	}
	if x.change == nil {
		return nil
	}
	c := x.change
	x.change = nil
	if err := c.write(); err != nil {
		return err
	}
	x.ui.say("%s", c.text)
	return nil
}

// nothing ends a command that has nothing to do; what it was to change is
// changed all the same.
func (x *converging) nothing(left []plan.Step) error {
	if x.change != nil {
		if err := x.ask(fmt.Sprintf("Cluster %s has that already. Write it down?", x.s.Decl.Name)); err != nil {
			return err
		}
		if !x.s.Alone {
			if err := x.hold(); err != nil {
				return err
			}
		}
		if err := x.commit(); err != nil {
			return err
		}
	}
	if len(left) > 0 {
		x.ui.say("in cluster %s, %s is as declared: nothing to do", x.s.Decl.Name, x.only)
		x.sayLeft(left)
		return nil
	}
	x.ui.say("cluster %s is as declared: nothing to do", x.s.Decl.Name)
	return x.over()
}

// sayBeside says what is wrong outside of the part that was asked for, and does
// not keep the part from being done.
func (a *app) sayBeside(p *plan.Plan) {
	for _, b := range p.Beside {
		a.ui.say("beside this: %s", b)
	}
}

// wake makes sure that the site can be asked about a cluster of which something
// was raised. Starting it is agreed to first: it gives machines their power back.
func (a *app) wake(s *session.Session, r *declare.Result) error {
	v, err := look.Locate(a.soft, s)
	if err != nil {
		return err
	}
	err = look.Unseen(s, v)
	var ns *look.NotSeen
	if !errors.As(err, &ns) || ns.Elsewhere || !errors.Is(err, site.ErrNotRunning) {
		return err
	}
	// What cannot be is refused without it.
	if err := look.Unchanged(s, v); err != nil {
		return err
	}
	if a.confirm != s.Decl.Name {
		if err := a.ask(fmt.Sprintf("The process of site %s is not running, and without it nothing is known of cluster %s. Start it?", s.Decl.Site, s.Decl.Name)); err != nil {
			return err
		}
	}
	return a.startSite(s, r)
}

// locked is held for what changes machines: the site can be asked then.
func (a *app) locked(s *session.Session, r *declare.Result, command string) (release func(), err error) {
	release, err = s.Store.Lock(command)
	if err != nil {
		return nil, err
	}
	if err := a.wake(s, r); err != nil {
		release()
		return nil, err
	}
	s.Alone = true
	return release, nil
}
