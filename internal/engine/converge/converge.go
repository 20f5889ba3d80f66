package converge

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/kubeconfig"
	"verbund/internal/engine/look"
	"verbund/internal/engine/prove"
	"verbund/internal/site"
	"verbund/internal/store"
)

// Change is what a command writes down before it converges: to the declaration,
// or to the memory. It is written when the person has agreed and the survey has
// found nothing in the way, and not before.
type Change struct {
	Text  string // what changes, as a person would say it
	Write func() error
}

// mostTaken is how often an address may be somebody else's before a run gives up.
const mostTaken = 10

// converging is one command that brings about what is declared.
type converging struct {
	*Work
	command, only string
	change        *Change
	replaces      string // machine that a new one is to be put in the place of

	release  func()          // of the lock, once it is held
	asked    map[string]bool // steps that cannot be undone, and were agreed to
	upgrades bool            // an upgrade was among what was agreed to
	acted    bool            // a run ended well
	raised   bool            // the cluster was not founded when it began
	taken    int             // how often somebody else got an address first
	moves    int             // further rounds that machines with another address need
	saidHeld bool
	hop      string // that was said last, of a way over several minors
	cut      bool   // the last run was cut off: what it began may not be over
	restored bool   // a restoration was carried out, and not everything was looked at since
}

// Converge brings about what is declared, or one part of it; ch is what the command is to
// write down, nil if nothing.
func (w *Work) Converge(command, only string, ch *Change) error {
	return (&converging{Work: w, command: command, only: only, change: ch}).run()
}

// Replace puts a new machine in the place of one, and converges.
func (w *Work) Replace(command, machine string) error {
	return (&converging{Work: w, command: command, replaces: machine}).run()
}

// run brings about what is declared, in as many rounds as that needs.
func (x *converging) run() error {
	x.release = func() {}
	defer func() { x.release() }()
	defer x.quiet()
	// A memory that does not exist yet is made, and locked, when the person has
	// agreed: until then nothing is written.
	if x.Store.Exists() {
		if err := x.hold(); err != nil {
			return err
		}
	}
	if err := x.wake(); err != nil {
		return err
	}
	if err := x.mayRestore(); err != nil {
		return err
	}
	es, _, err := x.Store.Entries()
	if err != nil {
		return err
	}
	x.cut = store.CutOff(es)
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
	return fmt.Errorf("cluster %s does not come to be as declared: each time something is done, something else is to be; verbund plan shows what, and machines with their consoles may say why", x.Decl.Name)
}

// mayRestore refuses to go on with a restoration in another minor than the backup is of: it was
// cut off before that minor was declared, or somebody has declared another one since.
func (x *converging) mayRestore() error {
	st, err := x.Store.Read()
	if err != nil {
		return err
	}
	r := st.Restoring
	if r == nil || r.Founded || r.Kubernetes == "" || versions.Minor(r.Kubernetes) == versions.Minor(x.Decl.Kubernetes) {
		return nil
	}
	return mistake("the restoration of backup %s is underway, which is of %s, and %s is declared; verbund backup restore goes on, and declares %s", keep.Short(r.Backup), r.Kubernetes, x.Decl.Kubernetes, r.Kubernetes)
}

// hold takes the cluster's lock.
func (x *converging) hold() error {
	release, err := x.Store.Lock(x.command)
	if err != nil {
		return err
	}
	x.release, x.Alone = release, true
	return nil
}

// round looks, plans, asks and acts once. begun says that it acted; otherwise
// something was made ready, and the next one looks again. done says that nothing
// is left.
func (x *converging) round() (begun, done bool, err error) {
	v, err := x.see()
	if err != nil {
		return false, false, err
	}
	if x.until(v) {
		x.Say("stopped after the hop to %s, as asked; verbund converge goes on to %s", plan.Version(v.Cluster, v.Seen), x.Decl.Kubernetes)
		return false, true, nil
	}
	t, err := x.toDo(v)
	if err != nil {
		return false, false, err
	}
	for _, b := range t.Beside {
		x.Say("beside this: %s", b) // it does not keep the part that was asked for from being done
	}
	if err := x.holds(t, v); err != nil {
		return false, false, err
	}
	switch {
	case len(t.Steps) > 0:
	case x.Agreed != nil && !x.acted:
		return false, false, &Changed{x.Agreed.File, []string{"nothing is to be done"}}
	case len(t.left) == 0 && x.cut && v.Seen.Founded && len(v.Ailing()) > 0:
		t.Steps, x.cut = []plan.Step{plan.Last(nil)}, false
	case len(t.left) == 0 && x.restored && v.Seen.Founded:
		t.Steps, x.restored = []plan.Step{plan.Last(nil)}, false
	case x.acted:
		x.sayLeft(t.left)
		return false, true, x.over()
	default:
		return false, true, x.nothing(v, t.left)
	}
	if x.Agreed != nil && x.acted {
		x.Say("the plan in %s is carried out; %s to be done after it: verbund plan shows what", x.Agreed.File, words.Are(len(t.Steps), "step"))
		return false, true, nil
	}
	if err := x.unchanged(t, v); err != nil {
		return false, false, err
	}
	if err := x.approved(t.Steps); err != nil { // in each round: what cannot be undone may show in a later one
		return false, false, err
	}
	if err := x.beforehand(t, v); err != nil {
		return false, false, err
	}
	if err := x.agreed(t, v); err != nil {
		return false, false, err
	}
	x.raised = x.raised || !v.Seen.Founded && v.Seen.Restores == nil
	if ready, err := x.ready(v); err != nil || !ready {
		return false, false, err
	}
	// Machines that go need nothing, and may be in whatever state.
	if !t.going {
		if err := x.surveyFirst(v, t.Plan); err != nil {
			return false, false, err
		}
	}
	if err := x.commit(v); err != nil {
		return false, false, err
	}
	if err := x.pin(v); err != nil {
		return false, false, err
	}
	return true, false, x.do(v, t)
}

// see looks at everything, and refuses to go on with what cannot be told.
func (x *converging) see() (*look.View, error) {
	v, err := look.Ahead(x.Soft, x.Session, x.only)
	if err != nil {
		return nil, err
	}
	return v, errors.Join(look.Unseen(x.Session, v), x.hops(v.Aim.Stage))
}

// hops says which hop of a way over several minors comes; each is a roll-out of its own.
func (x *converging) hops(s *plan.Stage) error {
	switch {
	case s == nil && x.hop == "", s != nil && s.Kubernetes == x.hop:
		return nil
	case x.hop == "": // the way is told with the plan
		x.hop = s.Kubernetes
		x.moves += 2
		return nil
	case s == nil:
		x.Say("the last hop: to %s", x.Decl.Kubernetes)
		x.hop = ""
	default:
		x.Say("the next hop: %s", s.InWords())
		x.hop = s.Kubernetes
	}
	x.moves += 2
	return x.Remember(func(st *memory.State) { st.RolledOut() })
}

// until says whether the hop is over after which the command is to stop: the whole control
// plane runs that minor, and the next hop would leave it.
func (x *converging) until(v *look.View) bool {
	if x.ToHop == "" || !v.Seen.Founded {
		return false
	}
	is, most := plan.Version(v.Cluster, v.Seen), versions.Minor(x.ToHop)
	next := x.Decl.Kubernetes
	if s := v.Aim.Stage; s != nil {
		next = s.Kubernetes
	}
	return is != "" && versions.Minor(is) >= most && versions.Minor(next) > most
}

// task is what one round is to do.
type task struct {
	*plan.Plan
	left  []plan.Step // that a limited run does not do
	going bool        // machines are taken out that give way to new ones
}

// toDo plans: machines that give way go first, and then everything that is otherwise than
// declared.
func (x *converging) toDo(v *look.View) (task, error) {
	p, err := x.exchange(v)
	if err != nil || p != nil {
		return task{Plan: p, going: true}, err
	}
	t := task{}
	if t.Plan, err = look.PlanOf(x.Session, v); err != nil {
		return t, err
	}
	if x.only != "" && len(t.Steps) > 0 {
		t.Plan, t.left, err = t.Only(v.Cluster, x.only)
	}
	return t, err
}

// agreed has the person's word for what a round is to do. What showed only when a machine
// was awake is asked about again, if it cannot be undone; so is an upgrade that follows a
// repair.
func (x *converging) agreed(t task, v *look.View) error {
	unheard := func(id string) bool { return !x.asked[id] }
	if x.asked != nil && !slices.ContainsFunc(finals(t.Plan), unheard) && (t.From == "" || x.upgrades) {
		return nil
	}
	if err := x.Work.agree(t.Plan, v); err != nil {
		return err
	}
	x.asked, x.upgrades = map[string]bool{}, t.From != ""
	for _, id := range finals(t.Plan) {
		x.asked[id] = true
	}
	for _, m := range t.Later {
		x.asked[string(plan.Release)+"/"+m] = true // it was named beside what is done now
	}
	return nil
}

// beforehand asks what can be known before a roll-out begins, once, and again when an upgrade
// follows a repair: what is in the way keeps it from beginning.
func (x *converging) beforehand(t task, v *look.View) error {
	if x.asked != nil && (t.From == "" || x.upgrades) {
		return nil
	}
	v.Outlook = look.LookAhead(x.Soft, x.Session, v, t.Plan)
	if v.Outlook == nil {
		return nil
	}
	wrong := v.Outlook.Errors()
	for _, c := range wrong {
		x.Problem(fmt.Sprintf("%s [%s]\n  what now   %s", c.What, c.Rule, c.Todo))
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%s in the way of a roll-out; nothing was changed. verbund plan shows the rest", words.Are(len(wrong), "thing"))
	}
	return nil
}

// holds says that a person's word is waited for, and ends the command if nothing else is to
// be done. Where machines are to give way to new ones and none does, it says why.
func (x *converging) holds(t task, v *look.View) error {
	if t.Held {
		st, err := x.Store.Read()
		if err != nil || st.Held == nil {
			return err
		}
		h := st.Held
		held := act.HeldBy(h)
		if len(t.Steps) == 0 && x.change != nil {
			return fmt.Errorf("nothing was written down: %w", held)
		}
		if len(t.Steps) == 0 {
			return held
		}
		if !x.saidHeld {
			x.saidHeld = true
			x.Say("the roll-out is held; what is not part of it is done meanwhile")
		}
	}
	if len(t.Steps) == 0 && len(t.Later) > 0 {
		return fmt.Errorf("%s of cluster %s would give way to new ones (%s), and that is not begun while the API or the datastore does not answer; verbund status says what is wrong", words.Count(len(t.Later), "machine"), x.Decl.Name, strings.Join(t.Later, ", "))
	}
	return nil
}

// do carries the steps out, with those first that wake machines. What is left is looked for
// once more after it: something may have come to light, or have changed meanwhile.
func (x *converging) do(v *look.View, t task) error {
	steps := t.Waking(v.Seen)
	if len(steps) == 0 {
		steps = t.Steps
	}
	if t.More {
		x.moves = min(x.moves+1, 3*len(v.Cluster.Machines))
	}
	// Where the endpoint is about to move and answers already, people's files learn of it
	// before what answered until now goes away.
	if v.Seen.Endpoint {
		if err := kubeconfig.FollowEndpoint(x.Session, x.Say, v.Cluster, false); err != nil {
			return err
		}
	}
	if err := x.carryOut(v, x.Agreed.inWords(x.command), steps); err != nil {
		// Somebody else got a lease meanwhile: the plan is made anew with another one.
		var taken *site.Refused
		if errors.As(err, &taken) && taken.Code == site.AddressTaken && x.taken < mostTaken {
			x.taken++
			x.moves++
			x.Say("%s: the plan is made anew with another one", taken.What)
			return nil
		}
		return err
	}
	if err := kubeconfig.FollowEndpoint(x.Session, x.Say, v.Cluster, true); err != nil {
		return err
	}
	looked := slices.ContainsFunc(steps, func(s plan.Step) bool { return s.Kind == plan.Verify })
	x.restored = (x.restored || v.Seen.Restores != nil) && !looked
	x.acted = true
	return nil
}

// exchange puts taking machines out before everything else, which are to give
// way to new ones: those that were asked for now, and those that an earlier run
// was to replace. A new one that is there already stays;
// nil if none has to go.
func (x *converging) exchange(v *look.View) (*plan.Plan, error) {
	under := maps.Clone(v.Known.Exchanges)
	at := map[string]string{}
	if v.Inventory != nil {
		for _, m := range v.Inventory.Machines {
			at[m.Name] = m.Hardware
		}
	}
	if name := x.replaces; name != "" {
		if _, begun := under[name]; begun {
			x.Say("going on with the replacement of %s", name)
		} else {
			under[name] = at[name]
			x.change = &Change{fmt.Sprintf("machine %s gives way to a new one", name), func() error {
				return x.Remember(func(st *memory.State) { st.Exchange(name, at[name]) })
			}}
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
	if first := plan.Wake(v.Cluster, v.Seen, going); first != nil && x.change == nil {
		return first, nil
	}
	p, err := plan.Clear(v.Cluster, v.Seen, going, true)
	if err != nil {
		return nil, err
	}
	p.More = true
	return p, nil
}

// over ends a command after which nothing is left.
func (x *converging) over() error {
	x.sayReplacing()
	if x.only != "" {
		return nil
	}
	st, err := x.Store.Read()
	if err != nil {
		return err
	}
	if x.raised {
		x.Say("next: verbund access --merge FILE puts the cluster into a kubeconfig; verbund status says how it is")
	}
	if st.Underway() {
		if err := x.Remember(func(st *memory.State) { st.Over() }); err != nil {
			return err
		}
	}
	if r := st.Restoring; r != nil && r.Founded {
		x.Say("backup %s is restored", keep.Short(r.Backup))
	}
	return x.prove()
}

// prove makes the quick part of a proof where that is declared.
func (x *converging) prove() error {
	if x.Decl.Prove != declare.ProveAfterChange || !x.acted {
		return nil
	}
	v, err := look.Observe(x.Soft, x.Session)
	if err != nil {
		return err
	}
	const patience = time.Minute
	r, err := prove.Prove(x.Soft, x.Hard, x.Session, v, prove.Options{Quick: true, Patience: patience, Tell: func(what string) { x.Say("proof: %s", what) }})
	if err != nil {
		return fmt.Errorf("everything is as declared, and the proof could not be made: %w", err)
	}
	if !r.Proven() {
		return &Unproven{r}
	}
	x.Say("%s", r)
	return nil
}

// ready makes sure, once the person has agreed, that the lock is held and the
// site runs. Whatever that needed, the plan is made anew after it.
func (x *converging) ready(v *look.View) (bool, error) {
	ready := true
	if !x.Alone {
		ready = false
		if err := x.hold(); err != nil {
			return false, err
		}
	}
	if v.Inventory == nil {
		ready = false
		if err := x.Host.Start(); err != nil {
			return false, err
		}
	}
	return ready, nil
}

// commit writes down what was agreed to.
func (x *converging) commit(v *look.View) error {
	if err := x.Store.Make(); err != nil {
		return err
	}
	// The names of those that come are remembered before any of them is ordered.
	if len(v.Aim.Numbers) > 0 {
		if err := x.Remember(func(st *memory.State) { maps.Copy(st.Numbers, v.Aim.Numbers) }); err != nil {
			return err
		}
	}
	if x.change == nil {
		return nil
	}
	c := x.change
	x.change = nil
	if err := c.Write(); err != nil {
		return err
	}
	x.Say("%s", c.Text)
	return nil
}

// nothing ends a command that has nothing to do; what it was to change is
// changed all the same. What only a person can see to is said, since nothing else will say it.
func (x *converging) nothing(v *look.View, left []plan.Step) error {
	if x.change != nil {
		if err := x.Ask(fmt.Sprintf("In cluster %s nothing is to be done for it. Write it down?", x.Decl.Name)); err != nil {
			return err
		}
		if !x.Alone {
			if err := x.hold(); err != nil {
				return err
			}
		}
		if err := x.commit(v); err != nil {
			return err
		}
	}
	if len(left) > 0 {
		x.Say("in cluster %s, %s is as declared: nothing to do", x.Decl.Name, x.only)
		x.sayLeft(left)
		return nil
	}
	x.Say("cluster %s is as declared: nothing to do", x.Decl.Name)
	for _, l := range look.Strains(x.Session, v, nil, time.Now()) {
		x.Say("see to: %s", l)
	}
	return x.over()
}

// sayLeft says what a limited run did not do.
func (w *Work) sayLeft(left []plan.Step) {
	if text := Left(left); text != "" {
		w.Say("%s", text)
	}
}

// finals lists the steps of a plan that take something away for good.
func finals(p *plan.Plan) []string {
	var out []string
	for _, s := range p.Steps {
		if s.Kind == plan.Wipe || s.Kind == plan.Release {
			out = append(out, s.ID)
		}
	}
	return out
}
