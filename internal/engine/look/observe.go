package look

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"sync"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/kube"
	"verbund/internal/machine"
	"verbund/internal/site"
)

// View is what was seen, with the topology it is to be held against.
type View struct {
	Cluster *topology.Cluster // as it is aimed at
	Aim     plan.Aim
	// Known is what was remembered when it was looked.
	Known     *memory.State
	Seen      plan.Observed
	Inventory *site.Inventory // nil when the site was not seen
	// SiteError is why it was not.
	SiteError error
	// Unknown are machines of this cluster at the site that are not remembered:
	// the memory with the keys to them is not here.
	Unknown []string
	Members []datastore.Member
	// DatastoreError is why it is not known who the members are.
	DatastoreError error
	Nodes          []corev1.Node
	APIError       error
	// Outlook is what a roll-out would meet; nil before LookAhead, and without one.
	Outlook *Outlook
	// Refused says why the enrolment token that lies on a machine, which has no
	// certificate yet, lets it nowhere.
	Refused map[string]string
}

// Locate finds out which machines there are and where, and looks into none.
func Locate(ctx context.Context, s *session.Session) (*View, error) {
	v, _, err := locate(ctx, s, plan.Aim{})
	return v, err
}

// locate also returns where machines were that have another address now.
func locate(ctx context.Context, s *session.Session, aim plan.Aim) (*View, map[string]netip.Addr, error) {
	inv, ierr := s.Site.Inventory(ctx)
	if ierr != nil {
		inv = nil
	}
	st, err := s.Store.Read()
	if err != nil {
		return nil, nil, err
	}
	moved, leases := newLeases(s, st, inv)
	var taken []netip.Addr
	var unknown []string
	var zones map[string]string
	if inv != nil {
		zones = map[string]string{}
		for _, m := range inv.Machines {
			if m.Cluster == s.Decl.Name {
				zones[m.Name] = m.Zone
			}
			if m.Cluster != s.Decl.Name {
				taken = append(taken, m.Address)
			} else if _, ok := st.Machines[m.Name]; !ok {
				unknown = append(unknown, m.Name)
			}
		}
	}
	c, err := s.TopologyAt(aim, st, leases, taken, zones)
	if err != nil {
		return nil, nil, err
	}
	v := &View{Cluster: c, Aim: aim, Known: st, Inventory: inv, SiteError: ierr, Unknown: unknown, Seen: plan.Observed{Founded: st.Facts != nil, Founders: st.Founders, Clearing: st.Clearing, Resting: st.Resting, Machines: map[string]plan.MachineSeen{}, Members: map[string]plan.MemberSeen{}, Nodes: map[string]plan.NodeSeen{}, AddOns: map[string]plan.AddOnSeen{}}}
	// Until it is founded from the backup, there is no datastore that counts.
	restoring := st.Restoring
	switch {
	case s.Restores != nil:
		v.Seen.Restores, v.Seen.Founded = s.Restores, false
	case restoring != nil && !restoring.Founded:
		v.Seen.Restores, v.Seen.Founded = &plan.Restores{ID: restoring.ID, Backup: keep.Short(restoring.Backup)}, false
		if s.Decl.CopyOf == "" {
			v.Seen.Restores.Loses = "the restoration of backup " + keep.Short(restoring.Backup) + " goes on, which was begun " + restoring.Since.Local().Format("2006-01-02 15:04") + ": what the datastore holds gives way to it"
		}
	}
	return v, moved, nil
}

// Observe looks at the site, every machine, the datastore and the API, all in
// parallel. It changes nothing; what could not be seen is said, not guessed.
func Observe(ctx context.Context, s *session.Session) (*View, error) {
	return ObserveAs(ctx, s, plan.Aim{})
}

// ObserveAs looks with what is aimed at in the place of what is declared.
func ObserveAs(ctx context.Context, s *session.Session, aim plan.Aim) (*View, error) {
	v, moved, err := locate(ctx, s, aim)
	if err != nil {
		return nil, err
	}
	c := v.Cluster
	facts := v.Known.Facts
	if len(c.With(versions.Keeper)) > 0 {
		if v.Seen.Rest, err = keep.RestOf(s, c); err != nil {
			return nil, err
		}
	}
	seeRollout(s, v)
	if facts != nil {
		if err := plan.Unchanged(c, facts); err != nil {
			return nil, err
		}
	}
	if v.Inventory == nil || len(v.Unknown) > 0 {
		return v, nil
	}
	due := map[string]string{}
	if t, err := s.Trust(); err != nil {
		return nil, err
	} else if t.Certs[string(trust.Cluster)] != nil {
		if due, err = vouch.Due(s, c, t, time.Now()); err != nil {
			return nil, err
		}
		v.Seen.TrustMark = vouch.TrustMark(t, c)
	}
	var mu sync.Mutex
	var wg sync.WaitGroup
	limit := make(chan struct{}, max(s.Parallel, 1))
	v.Seen.Clusters = map[string]bool{}
	for _, im := range v.Inventory.Machines {
		if im.Cluster != c.Name {
			v.Seen.Clusters[im.Cluster] = true
			continue
		}
		wg.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			seen := look(ctx, s, v, im, due)
			seen.Moved = moved[im.Name]
			mu.Lock()
			defer mu.Unlock()
			v.Seen.Machines[im.Name] = seen
		})
	}
	if v.Seen.Founded {
		wg.Go(func() { lookAtDatastore(ctx, s, c, v, &mu) })
		wg.Go(func() { lookAtAPI(ctx, s, c, v, &mu) })
	}
	wg.Wait()
	if facts != nil {
		v.Seen.Backup = hopBackup(s, facts.Founded, c.Set.Kubernetes, hopUnderway(c, v), time.Now())
	}
	lookAtTokens(ctx, s, c, v)
	lookAtUnsigned(ctx, s, c, v)
	return v, ctx.Err()
}

// hopUnderway says whether some of the API servers run what is declared already, and others not.
func hopUnderway(c *topology.Cluster, v *View) bool {
	runs := map[bool]bool{}
	for _, m := range c.With(versions.API) {
		if is := v.Seen.Machines[m.Name].Versions["kube-apiserver"]; is != "" {
			runs[is == m.Set.Kubernetes] = true
		}
	}
	return runs[true] && runs[false]
}

// newLeases finds machines to which the site has leased another address than
// the one that is remembered; it returns where they were and where they are now, nil
// when the site was not seen.
func newLeases(s *session.Session, st *memory.State, inv *site.Inventory) (was, now map[string]netip.Addr) {
	was, now = map[string]netip.Addr{}, map[string]netip.Addr{}
	if inv == nil {
		return was, nil
	}
	for _, m := range inv.Machines {
		if _, fixed := s.Decl.System.Addresses[m.Name]; fixed {
			continue // the site has to lease it this one again
		}
		if k, ok := st.Machines[m.Name]; ok && m.Cluster == s.Decl.Name && k.Fingerprint != "" && m.Address.IsValid() && k.Address != m.Address {
			was[m.Name], now[m.Name] = k.Address, m.Address
		}
	}
	return was, now
}

// Unchanged refuses a declaration that differs from the living cluster in what
// cannot change; no machine is asked.
func Unchanged(s *session.Session, v *View) error {
	if v.Known.Facts == nil {
		return nil
	}
	return plan.Unchanged(v.Cluster, v.Known.Facts)
}

// errBusy is a machine on which a run that was cut off is still at something.
var errBusy = errors.New("it is still being changed")

// settleTimeout is how long that may take: as long as a slot may take to come
// up, and to go back.
const settleTimeout = 3 * time.Minute

func look(ctx context.Context, s *session.Session, v *View, im site.Machine, due map[string]string) plan.MachineSeen {
	c := v.Cluster
	seen := plan.MachineSeen{Exists: true, Power: im.Power, Zone: im.Zone, Size: im.Size, Role: c.RoleOf(im.Name), Versions: map[string]string{}, Units: map[string]string{}, Restarted: map[string]plan.Restarted{}}
	for _, i := range v.Inventory.Images {
		if i.Digest == im.Image {
			seen.Image = &declare.Image{System: i.Image.System, Architecture: i.Image.Architecture, Extras: i.Image.Extras}
		}
	}
	if im.Power != site.PowerOn {
		seen.Trouble = session.Powerless(im)
		return seen
	}
	inside := func() error {
		ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
		defer cancel()
		return lookInside(ctx, s, v, im, due, &seen)
	}
	err := inside()
	if errors.Is(err, errBusy) {
		// It will be what it will be only when that is through.
		wctx, cancel := context.WithTimeout(ctx, settleTimeout)
		defer cancel()
		if werr := session.Until(wctx, "what a run that was cut off is still at", func(context.Context) (string, error) {
			if err = inside(); errors.Is(err, errBusy) {
				return err.Error(), nil
			}
			return "", nil
		}); werr != nil {
			err = werr
		}
	}
	if err != nil {
		s.HangUp(im.Name)
		seen.Trouble = err.Error()
		var hk *machine.HostKeyError
		if errors.As(err, &hk) {
			seen.OtherHostKey, seen.Trouble = true, fmt.Sprintf("the host key of %s has changed: it shows %s, and %s is known", im.Name, hk.Got, hk.Want)
		}
		return seen
	}
	seen.Reached = true
	return seen
}

func lookAtDatastore(ctx context.Context, s *session.Session, c *topology.Cluster, v *View, mu *sync.Mutex) {
	d, err := s.Datastore(c)
	if err != nil {
		if !errors.Is(err, session.ErrNoTrust) { // before anything was raised there is nothing to ask
			mu.Lock()
			defer mu.Unlock()
			v.DatastoreError = err
		}
		return
	}
	ms, err := d.Members(ctx, s.Peers(c))
	if errors.Is(err, datastore.ErrNoQuorum) {
		ms, err = d.Recalled(ctx, s.Peers(c))
	}
	mu.Lock()
	defer mu.Unlock()
	v.Members, v.DatastoreError = ms, err
	for _, m := range ms {
		v.Seen.Members[m.Name] = plan.MemberSeen{ID: m.ID, Peer: m.Peer, Learner: m.Learner, Leads: m.Leads, Healthy: m.Healthy, Trouble: m.Trouble}
	}
}

// Taints are those that are declared, as the API knows them.
func Taints(ts []declare.Taint) []corev1.Taint {
	out := []corev1.Taint{}
	for _, t := range ts {
		out = append(out, corev1.Taint{Key: t.Key, Value: t.Value, Effect: corev1.TaintEffect(t.Effect)})
	}
	return out
}

func lookAtAPI(ctx context.Context, s *session.Session, c *topology.Cluster, v *View, mu *sync.Mutex) {
	k, err := s.Kube(c)
	if err != nil {
		v.APIError = err
		return
	}
	ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
	defer cancel()
	nodes, err := k.CoreV1().Nodes().List(ctx, metav1.ListOptions{})
	if err != nil {
		v.APIError = err
		return
	}
	pods, err := k.CoreV1().Pods("").List(ctx, metav1.ListOptions{})
	if err != nil {
		v.APIError = err
		return
	}
	busy := map[string]bool{}
	evict, alone := kube.Evictable(pods.Items, nil)
	for _, p := range evict {
		busy[p.Spec.NodeName] = true
	}
	for _, p := range alone {
		busy[p.Spec.NodeName] = true
	}
	loses, stuck, err := k.Unmovable(ctx, pods.Items)
	if err != nil {
		v.APIError = err
		return
	}
	unheard, err := unheardSince(ctx, v.Known.Restoring, k)
	if err != nil {
		v.APIError = err
		return
	}
	roles, err := k.HasRoles(ctx)
	addons, aerr := k.AddOns(ctx)
	if err = errors.Join(err, aerr); err != nil {
		v.APIError = err
		return
	}
	mu.Lock()
	defer mu.Unlock()
	v.Nodes, v.Seen.API, v.Seen.Roles = nodes.Items, true, roles
	v.Seen.Endpoint = k.ReadyAt(ctx, c.Endpoint.Addr()) == nil
	for _, n := range nodes.Items {
		ready, why := kube.Ready(&n)
		if ready && unheard(n.Name) {
			ready, why = false, "its kubelet has not been heard of since the datastore was restored"
		}
		run, ours := n.Annotations[kube.CordonedBy]
		ns := plan.NodeSeen{Made: n.CreationTimestamp.Time, Unschedulable: n.Spec.Unschedulable, By: run, Ready: ready, Version: n.Status.NodeInfo.KubeletVersion, Cordoned: ours, Drained: ours && !busy[n.Name], Loses: loses[n.Name], Stuck: stuck[n.Name]}
		if !ready {
			ns.Trouble = why
		}
		if m, ok := c.Machine(n.Name); ok {
			ns.Differs = kube.NodeDiffers(&n, m.Labels, Taints(m.Taints))
		}
		v.Seen.Nodes[n.Name] = ns
	}
	for name, a := range addons {
		v.Seen.AddOns[name] = plan.AddOnSeen{Version: a.Version, Ready: a.Ready, Args: a.Args, Trust: a.Trust, State: a.State}
	}
}

// unheardSince says of nodes whether their kubelets have not reported since the datastore was
// restored: what a backup says of a node is of then, and its machine may be gone.
func unheardSince(ctx context.Context, r *memory.Restoring, k *kube.Client) (func(node string) bool, error) {
	if r == nil {
		return func(string) bool { return false }, nil
	}
	l, err := k.CoordinationV1().Leases(corev1.NamespaceNodeLease).List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	heard := map[string]bool{}
	for _, x := range l.Items {
		heard[x.Name] = x.Spec.RenewTime != nil && x.Spec.RenewTime.After(r.Since)
	}
	return func(node string) bool { return !heard[node] }, nil
}

// NotSeen says that the site was not seen, so that nothing is known of a cluster
// that was raised with it: neither that it is well nor that it is gone.
type NotSeen struct {
	Cluster, Site string
	Elsewhere     bool // the site's folder is not here
	Err           error
}

func (e *NotSeen) Error() string {
	head := fmt.Sprintf("nothing is known of cluster %s: ", e.Cluster)
	switch {
	case e.Elsewhere:
		return head + fmt.Sprintf("it was raised with site %s, whose inventory is not in this folder; work in the folder in which the site runs, or bring .verbund/sites/%s from there", e.Site, e.Site)
	case errors.Is(e.Err, site.ErrNotRunning):
		return head + fmt.Sprintf("the process of site %s is not running; verbund converge starts it, and so does verbund site start", e.Site)
	}
	return head + fmt.Sprintf("site %s was not seen: %v; try again, and look into .verbund/sites/%s/site.log if it stays so", e.Site, e.Err, e.Site)
}

func (e *NotSeen) Unwrap() error { return e.Err }

// Forgotten says that machines of the cluster are at the site, and that the
// memory here, if there is one, does not know them: it has no keys to them.
type Forgotten struct {
	Cluster, Site string
	Machines      []string
}

func (e *Forgotten) Error() string {
	names := e.Machines[0]
	if n := len(e.Machines); n > 1 {
		names = fmt.Sprintf("%s and %d more", names, n-1)
	}
	return fmt.Sprintf("machines of cluster %s are at site %s (%s), and the keys to them are not here: the memory of this folder (.verbund/%s) does not know them; "+
		"bring the memory back from version control or your own backup of it, or from an archive with verbund trust unpack; if there is none, verbund teardown --confirm %s takes the cluster down by its name", e.Cluster, e.Site, names, e.Cluster, e.Cluster)
}

// Unseen says that the site was not seen although machines were got from it
// before, or that it is not known whether it runs. It is nil when what was seen
// may be planned from: a cluster of which nothing was ever raised has nothing.
func Unseen(s *session.Session, v *View) error {
	if len(v.Unknown) > 0 {
		return &Forgotten{Cluster: s.Decl.Name, Site: s.Decl.Site, Machines: v.Unknown}
	}
	if v.Inventory != nil {
		return nil
	}
	raised := raised(v)
	if !raised && errors.Is(v.SiteError, site.ErrNotRunning) {
		return nil
	}
	return &NotSeen{Cluster: s.Decl.Name, Site: s.Decl.Site, Elsewhere: raised && !s.Site.Here() && errors.Is(v.SiteError, site.ErrNotRunning), Err: v.SiteError}
}

// Acts says why a cluster cannot be worked with: it was not seen, is not raised, or is a copy in
// which nothing acts; nil if it can.
func Acts(s *session.Session, v *View) error {
	switch err := Unseen(s, v); {
	case err != nil:
		return err
	case !v.Seen.Founded:
		return fmt.Errorf("cluster %s is not raised; verbund converge raises it", s.Decl.Name)
	case v.Cluster.CopyOf != "":
		return fmt.Errorf("cluster %s is a copy of %s for looking at, and nothing acts in it; say --file %s", s.Decl.Name, v.Cluster.CopyOf, v.Cluster.CopyOf)
	}
	return nil
}

// raised says whether anything of the cluster was ever raised.
func raised(v *View) bool {
	if v.Seen.Founded {
		return true
	}
	for _, m := range v.Known.Machines {
		if m.Fingerprint != "" {
			return true
		}
	}
	return false
}

// MachineAt is a machine as the site sees it.
func MachineAt(ctx context.Context, s *session.Session, name string) (site.Machine, error) {
	inv, err := s.Site.Inventory(ctx)
	if err != nil {
		return site.Machine{}, err
	}
	for _, m := range inv.Machines {
		if m.Name == name {
			return m, nil
		}
	}
	return site.Machine{}, fmt.Errorf("%w %s", ErrNoMachine, name)
}

// ErrNoMachine says that the site was seen, and has no such machine.
var ErrNoMachine = errors.New("the site has no machine")

// seeRollout sees where a roll-out stands by the memory: its open waves, and whether a person's
// word is waited for. Whoever is about to give it sees what begins then.
func seeRollout(s *session.Session, v *View) {
	held := v.Known.Held
	v.Seen.Open = v.Known.Waves
	if held == nil {
		return
	}
	v.Seen.Held = !s.Unheld
	if o, ok := v.Seen.Open[held.Group]; ok && s.Unheld && held.By == memory.ByDeclaration {
		o.Held = true
		v.Seen.Open = maps.Clone(v.Seen.Open)
		v.Seen.Open[held.Group] = o
	}
}
