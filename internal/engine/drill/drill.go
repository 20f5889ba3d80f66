package drill

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/declare"
	"verbund/internal/core/drill"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/gauge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/kube"
	"verbund/internal/machine/protocol"
	"verbund/internal/probe"
)

// Namespace is where drills write, and nothing else.
const Namespace = "verbund-drill"

const (
	// before is how many writes are acknowledged before anything is disturbed.
	before = 10
	// steady is how long that may take.
	steady = 30 * time.Second
	// still is how long the API has taken no write that is said to take none.
	still = 2 * time.Second
	// byItself is how long the cluster may take to be well again without a run.
	byItself = 20 * time.Second
	// settles is how long it is watched whether it stays well.
	settles = 5 * time.Second
	// recovers is how long it may take with one.
	recovers = 5 * time.Minute
)

// Disturber makes faults happen at a site.
type Disturber interface {
	// Possible are the faults that it can make happen; cut-power and power among them where it
	// has its machines' power.
	Possible(ctx context.Context) ([]string, error)
	// Fault makes one happen to a machine, an artefact as NAME:VERSION, or a zone.
	Fault(ctx context.Context, kind, name string) error
}

// Runner runs the tool's own commands, with a yes to what they ask.
type Runner interface {
	// Run runs one to its end; the error says what it said last. killed is after how many
	// entries of its journal it is killed, 0 never: then its death is no error.
	Run(ctx context.Context, args []string, killed int) error
}

// Left is what was disturbed and is not put right yet. It outlives a drill that is killed.
type Left interface {
	Load() ([]drill.Step, error)
	Save([]drill.Step) error
}

// Drill is what a drill works on.
type Drill struct {
	*session.Session // its own, which it closes
	Site             Disturber
	Runner
	Left Left
	// Reopen opens the cluster anew: what is trusted may be another after a command.
	Reopen func() (*session.Session, error)
	// Tell says a step that is begun, or why one ended otherwise than it was to.
	Tell func(text string)
}

// ErrNotWell is a cluster that is not disturbed, since it is not well.
var ErrNotWell = errors.New("a cluster that is not well is not disturbed")

// Facts are what drills go by.
func Facts(ctx context.Context, s *session.Session, v *look.View, site Disturber) (drill.Facts, error) {
	f := drill.Facts{Cluster: v.Cluster}
	for n, m := range v.Seen.Members {
		if m.Leads {
			f.Leader = n
		}
	}
	f.Holder = holder(ctx, s, v.Cluster)
	var err error
	f.Faults, err = site.Possible(ctx)
	return f, err
}

// holder is the machine that carries the virtual address; empty where none is known to.
func holder(ctx context.Context, s *session.Session, c *topology.Cluster) string {
	if c.Endpoint.By != topology.ByCarrier {
		return ""
	}
	d, err := s.Datastore(c)
	if err != nil {
		return ""
	}
	name, err := d.Elected(ctx, nodeconf.Election(c.Name))
	if err != nil {
		return ""
	}
	return name
}

// underway is one drill that is carried out.
type underway struct {
	*Drill
	d        declare.Drill
	v        *look.View
	g        *gauge.Gauge
	k        *kube.Client
	r        *drill.Report
	began    time.Time
	before   map[string]bool   // nodes that were cordoned
	strained []string          // what was not as it should be, without harm so far
	ending   map[string]string // certificates that were to be made anew
	open     []drill.Step      // faults that nothing has mended yet
}

// Run carries one drill out. hard bounds what puts things right again, which happens also when
// ctx ends. An error says that nothing was disturbed, or that the figures are not to be had.
func (x *Drill) Run(ctx, hard context.Context, d declare.Drill) (*drill.Report, error) {
	u := &underway{Drill: &Drill{Session: x.Session, Site: x.Site, Runner: x.Runner, Left: x.Left, Reopen: x.Reopen, Tell: x.Tell}, d: d, began: time.Now(), r: &drill.Report{Drill: d.Name, Cluster: x.Decl.Name, Supposes: d.Supposes, Hits: d.Hits, At: time.Now().UTC()}}
	defer func() { u.Session.Close() }()
	if err := u.afterKilled(ctx); err != nil {
		return u.r, err
	}
	script, err := u.ready(ctx)
	if err != nil || u.r.Unable != "" {
		return u.r, err
	}
	u.k, err = x.Kube(u.v.Cluster)
	k := u.k
	if err != nil {
		return nil, err
	}
	if err := gauge.Clear(ctx, k, Namespace); err != nil {
		return nil, fmt.Errorf("clearing away what an earlier drill left: %w", err)
	}
	if _, err := k.CoreV1().Namespaces().Create(ctx, &corev1.Namespace{ObjectMeta: metav1.ObjectMeta{Name: Namespace}}, metav1.CreateOptions{}); err != nil {
		return nil, err
	}
	e := u.v.Cluster.Endpoint
	var probes *probe.Probes
	if len(x.Decl.Watch) > 0 {
		probes = gauge.Watches(hard, x.Decl.Watch, e)
	}
	u.g = gauge.Begin(hard, k, net.JoinHostPort(e.Address.String(), strconv.Itoa(e.Port)), Namespace, "w"+strconv.FormatInt(u.began.Unix(), 36), probes)
	u.began = time.Now()
	err = u.steady(ctx)
	if err == nil {
		err = u.carryOut(ctx, script)
	}
	left := u.mend(hard)
	trouble := u.recover(hard)
	// A machine that is back says only some seconds later which of its pods are not: what is well
	// for a moment is looked at again.
	if trouble == "" && !u.staysWell(hard) {
		trouble = u.recover(hard)
	}
	u.r.Measured = u.g.Stop()
	if d.Loses == "" {
		if rerr := u.g.ReadBack(hard, &u.r.Measured); rerr != nil {
			left = append(left, "what was written could not be read back: "+rerr.Error())
		}
	}
	after := u.after(hard)
	after.Unmended = left
	if trouble != "" && len(after.Ailing) == 0 {
		after.Ailing = append(after.Ailing, trouble)
	}
	if err := gauge.Clear(hard, u.k, Namespace); err != nil {
		after.Unmended = append(after.Unmended, err.Error())
	}
	u.r.Claims = drill.Judge(d, u.r.Measured, after)
	u.r.Claims = slices.Insert(u.r.Claims, 0, drill.Claim{What: "every step could be carried out", Limit: fmt.Sprintf("all %d", len(d.Steps)), Measured: u.carried(len(d.Steps)), Holds: err == nil})
	return u.r, ctx.Err()
}

// carried says how many steps were carried out.
func (u *underway) carried(all int) string {
	n := 0
	for _, s := range u.r.Steps {
		if s.Trouble != "" {
			return fmt.Sprintf("%s: %s", s.What, s.Trouble)
		}
		if !s.Mends {
			n++
		}
	}
	return fmt.Sprintf("%d of %d", n, all)
}

// ready looks whether the cluster may be disturbed, and works out whom the steps hit.
func (u *underway) ready(ctx context.Context) ([]drill.Step, error) {
	v, err := look.Observe(ctx, u.Session)
	if err != nil {
		return nil, err
	}
	if err := look.Unseen(u.Session, v); err != nil {
		return nil, err
	}
	if err := mayBeDisturbed(v); err != nil {
		return nil, err
	}
	u.v, u.before, u.strained = v, map[string]bool{}, strains(v)
	for n, s := range v.Seen.Nodes {
		u.before[n] = s.Unschedulable
	}
	u.ending = u.due(v)
	f, err := Facts(ctx, u.Session, v, u.Site)
	if err != nil {
		return nil, err
	}
	script, err := f.Script(u.d)
	if err != nil {
		u.r.Unable = err.Error()
	}
	return script, nil
}

// afterKilled puts right what a drill has left that was killed.
func (u *underway) afterKilled(ctx context.Context) error {
	var err error
	if u.open, err = u.Left.Load(); err != nil || len(u.open) == 0 {
		return err
	}
	u.Tell("putting right what a drill has left that was killed")
	if left := u.mend(ctx); len(left) > 0 {
		return fmt.Errorf("a drill that was killed has left %s", strings.Join(left, "; "))
	}
	if trouble := u.recover(ctx); trouble != "" {
		return fmt.Errorf("a drill that was killed has left a cluster that does not come right: %s", trouble)
	}
	u.r.Steps = nil
	return nil
}

// mayBeDisturbed says why a cluster may not.
func mayBeDisturbed(v *look.View) error {
	if !v.Seen.Founded {
		return fmt.Errorf("cluster %s is not raised; verbund converge raises it", v.Cluster.Name)
	}
	if ails := v.Ailing(); len(ails) > 0 {
		return fmt.Errorf("%w: %s; verbund status shows all of it", ErrNotWell, strings.ReplaceAll(ails[0], "\n", "; "))
	}
	return nil
}

// at is the moment in seconds from the beginning.
func (u *underway) at() float64 { return time.Since(u.began).Seconds() }

// step carries one thing out, and notes it.
func (u *underway) step(what string, mends bool, do func() error) error {
	u.Tell(what)
	d := drill.Done{What: what, From: u.at(), Mends: mends}
	err := do()
	if d.To = u.at(); err != nil {
		d.Trouble = strings.ReplaceAll(err.Error(), "\n", "; ")
		u.Tell(what + ": " + d.Trouble)
	}
	u.r.Steps = append(u.r.Steps, d)
	return err
}

// steady waits until writes are acknowledged, so that what is measured afterwards comes from
// the drill.
func (u *underway) steady(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, steady)
	defer cancel()
	err := session.Until(ctx, "the API to take writes before anything is disturbed", func(context.Context) (string, error) {
		if u.g.Acknowledged(u.began) < before {
			return cmp.Or(u.g.Last(), "too few were acknowledged"), nil
		}
		return "", nil
	})
	if err != nil {
		u.r.Steps = append(u.r.Steps, drill.Done{What: "writes before anything is disturbed", To: u.at(), Trouble: err.Error()})
	}
	return err
}

// carryOut carries the steps out, up to the first that fails.
func (u *underway) carryOut(ctx context.Context, script []drill.Step) error {
	for _, s := range script {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := u.step(s.InWords(), false, func() error { return u.do(ctx, s) }); err != nil {
			return err
		}
	}
	return nil
}

// do carries one step out.
func (u *underway) do(ctx context.Context, s drill.Step) error {
	switch {
	case s.Fault != "":
		// It is to be put right also where it happened only in part.
		if err := u.note(s); err != nil {
			return err
		}
		return u.inflict(ctx, s)
	case s.Ages != "":
		return u.age(ctx, s)
	case s.Run != "":
		err := u.run(ctx, s.Command, s.Killed)
		if s.Fails && err == nil {
			return errors.New("it was to fail, and did not")
		}
		if s.Fails && ctx.Err() == nil {
			return nil
		}
		return err
	case s.Until != "":
		wait, cancel := context.WithTimeout(ctx, time.Duration(s.Within))
		defer cancel()
		return session.Until(wait, strings.TrimPrefix(s.InWords(), "wait for "), u.until(s.Until))
	}
	t := time.NewTimer(time.Duration(s.Wait))
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// follow is how often it is looked, while a command runs, whether what is trusted is another.
const follow = 500 * time.Millisecond

// run runs a command, and follows what it does to what is trusted: whoever writes meanwhile is
// somebody whose kubeconfig follows, too.
func (u *underway) run(ctx context.Context, args []string, killed int) error {
	over := make(chan struct{})
	var following sync.WaitGroup
	following.Go(func() {
		t := time.NewTicker(follow)
		defer t.Stop()
		for {
			select {
			case <-over:
				return
			case <-t.C:
				u.reopen()
			}
		}
	})
	err := u.Runner.Run(ctx, args, killed)
	close(over)
	following.Wait()
	return errors.Join(err, u.reopen())
}

// reopen opens the cluster anew.
func (u *underway) reopen() error {
	if u.g == nil {
		return nil // nobody writes yet
	}
	s, err := u.Reopen()
	if err != nil {
		return err
	}
	c, err := s.Topology()
	if err != nil {
		return err
	}
	k, err := s.Kube(c)
	if err != nil {
		return err
	}
	u.g.Use(k)
	old := u.Session
	u.Session, u.k = s, k
	old.Close()
	return nil
}

// note keeps in mind what is to be put right, before it is disturbed, and what has been.
func (u *underway) note(s drill.Step) error {
	u.open = slices.DeleteFunc(u.open, func(o drill.Step) bool {
		by, ok := drill.Mends(o.Fault)
		return ok && by == s.Fault && o.Zone == s.Zone && o.Artefact == s.Artefact && slices.Equal(o.Machines, s.Machines)
	})
	if _, ok := drill.Mends(s.Fault); ok {
		u.open = append(u.open, s)
	}
	return u.Left.Save(u.open)
}

// inflict makes a fault happen to everybody whom a step hits.
func (u *underway) inflict(ctx context.Context, s drill.Step) error {
	power := map[string]string{"cut-power": "cut", "power": "on"}
	switch {
	case s.Artefact != "":
		return u.Site.Fault(ctx, s.Fault, s.Artefact)
	case s.Zone != "":
		return u.Site.Fault(ctx, s.Fault, s.Zone)
	}
	var errs []error
	for _, m := range s.Machines {
		if do, ok := power[s.Fault]; ok {
			errs = append(errs, u.Session.Site.Power(ctx, m, do))
		} else {
			errs = append(errs, u.Site.Fault(ctx, s.Fault, m))
		}
	}
	return errors.Join(errs...)
}

// until says what is waited for, by its word.
func (u *underway) until(what string) func(context.Context) (string, error) {
	began := time.Now()
	switch what {
	case "writes":
		return func(context.Context) (string, error) {
			if u.g.Acknowledged(began) < 3 {
				return "it takes none: " + u.g.Last(), nil
			}
			return "", nil
		}
	case "no-writes":
		return func(context.Context) (string, error) {
			if time.Since(began) < still || u.g.Acknowledged(time.Now().Add(-still)) > 0 {
				return "it still takes some", nil
			}
			return "", nil
		}
	case "ailing":
		return func(ctx context.Context) (string, error) {
			why, err := u.well(ctx)
			if err == nil && why == "" {
				why = "it says that nothing is wrong"
			} else if err == nil {
				why = ""
			}
			return why, err
		}
	}
	return u.well
}

// strains is what is not as it should be, without harm so far. That something was started anew
// does not count: drills have that done.
func strains(v *look.View) []string {
	return plan.Strains(v.Cluster, v.Seen, nil, time.Now(), time.Now)
}

// wrong is what is wrong, and was not before.
func (u *underway) wrong(v *look.View) []string {
	out := append(v.Ailing(), slices.DeleteFunc(strains(v), func(s string) bool { return slices.Contains(u.strained, s) })...)
	for id, why := range u.due(v) {
		if _, was := u.ending[id]; !was {
			out = append(out, "certificate "+id+": "+why)
		}
	}
	return out
}

// due are the certificates that are to be made anew, and why.
func (u *underway) due(v *look.View) map[string]string {
	t, err := u.Session.Trust()
	if err == nil {
		var out map[string]string
		if out, err = vouch.Due(u.Session, v.Cluster, t, time.Now()); err == nil {
			return out
		}
	}
	return map[string]string{"": "it could not be looked which are to be made anew: " + err.Error()}
}

// age gives a machine a certificate anew that ends soon. The memory has it first: whatever
// becomes of the drill, the next run sees that it is due.
func (u *underway) age(ctx context.Context, s drill.Step) error {
	machine := s.Machines[0]
	release, err := u.Store.Lock("drill")
	if err != nil {
		return err
	}
	defer release()
	if err := vouch.Shorten(u.Session, u.v.Cluster, machine+"/"+s.Ages, time.Duration(s.Within), time.Now()); err != nil {
		return err
	}
	m, _ := u.v.Cluster.Machine(machine)
	all, rendered, err := u.Files(u.v.Cluster, m, nodeconf.Options{}, u.v.Seen.Machines[machine].Active)
	if err != nil {
		return err
	}
	var pair []protocol.File
	for i, f := range rendered {
		if f.From == machine+"/"+s.Ages {
			pair = append(pair, all[i])
		}
	}
	for _, im := range u.v.Inventory.Machines {
		if im.Name != machine {
			continue
		}
		c, err := u.Machine(ctx, machine, im.SSHPort)
		if err != nil {
			return err
		}
		changed, err := c.Put(ctx, pair, nil)
		if err == nil && len(changed) != 2 {
			err = fmt.Errorf("certificate %s and its key were to be written, and %d files were", s.Ages, len(changed))
		}
		return err
	}
	return fmt.Errorf("the site has no machine %s", machine)
}

// well says what ails, if anything.
func (u *underway) well(ctx context.Context) (string, error) {
	v, err := look.Observe(ctx, u.Session)
	if err != nil {
		return "", err
	}
	if wrong := u.wrong(v); len(wrong) > 0 {
		return wrong[0], nil
	}
	return "", nil
}

// mend puts right what nothing has mended yet, the last first, and says what it could not.
func (u *underway) mend(ctx context.Context) (left []string) {
	for _, s := range slices.Backward(slices.Clone(u.open)) {
		by, _ := drill.Mends(s.Fault)
		m := s
		m.Fault = by
		if err := u.step(m.InWords(), true, func() error { return u.inflict(ctx, m) }); err != nil {
			left = append(left, fmt.Sprintf("%s: %v; verbund site fault %s, or site power, does it by hand", s.InWords(), err, by))
		} else if err := u.note(m); err != nil {
			left = append(left, err.Error())
		}
	}
	return left
}

// staysWell says whether the cluster is well for as long as a machine that is back may take to say
// that it is not.
func (u *underway) staysWell(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, settles)
	defer cancel()
	return session.Until(ctx, "something to ail", func(ctx context.Context) (string, error) {
		why, err := u.well(ctx)
		if err == nil && why == "" {
			return "nothing does", nil
		}
		return "", err
	}) != nil
}

// recover waits until the cluster is well, and has a run put right what does not come right by
// itself. It says what does not.
func (u *underway) recover(ctx context.Context) string {
	wait := func(most time.Duration) error {
		ctx, cancel := context.WithTimeout(ctx, most)
		defer cancel()
		return session.Until(ctx, "the cluster to be well", u.well)
	}
	if wait(byItself) == nil {
		return ""
	}
	err := u.step("verbund converge, since the cluster is not well by itself", true, func() error { return u.run(ctx, []string{"converge"}, 0) })
	if err == nil {
		err = wait(recovers)
	}
	if err != nil {
		return err.Error()
	}
	return ""
}

// after looks at what is there in the end.
func (u *underway) after(ctx context.Context) drill.After {
	v, err := look.Observe(ctx, u.Session)
	if err != nil {
		return drill.After{Ailing: []string{"it could not be looked: " + err.Error()}}
	}
	a := drill.After{Ailing: u.wrong(v)}
	for n, s := range v.Seen.Nodes {
		if s.Unschedulable && !u.before[n] {
			a.Cordoned = append(a.Cordoned, n)
		}
	}
	slices.Sort(a.Cordoned)
	a.Twice = surplus(v)
	return a
}

// surplus lists what is there twice, or that nobody declared.
func surplus(v *look.View) (out []string) {
	is := map[string]int{}
	if v.Inventory != nil {
		for _, m := range v.Inventory.Machines {
			if m.Cluster == v.Cluster.Name {
				is["machine "+m.Name]++
			}
		}
	}
	for _, n := range v.Nodes {
		is["node "+n.Name]++
	}
	for _, m := range v.Members {
		is["member "+m.Name]++
	}
	for what, n := range is {
		kind, name, _ := strings.Cut(what, " ")
		m, declared := v.Cluster.Machine(name)
		switch {
		case n > 1:
			out = append(out, fmt.Sprintf("%s is there %d times", what, n))
		case !declared, kind == "node" && !m.IsNode() && !m.Is(versions.API), kind == "member" && !m.Is(versions.Member):
			out = append(out, what+" is not declared")
		}
	}
	slices.Sort(out)
	return out
}
