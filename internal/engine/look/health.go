package look

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"k8s.io/apimachinery/pkg/util/duration"

	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
	"verbund/internal/store"
)

// HealthState is how a cluster stands, in a word or two.
type HealthState string

// The states of a cluster.
const (
	IsWell    HealthState = "well"            // as declared, and nothing is wrong
	IsPending HealthState = "changes pending" // nothing is wrong, and something is not as declared
	IsChanged HealthState = "being changed"   // by a run that is under way, which takes machines out of service
	NotWell   HealthState = "not well"
	NotRaised HealthState = "not raised"
	NotKnown  HealthState = "not known" // the site was not seen
)

// Health is what status says of a cluster.
type Health struct {
	Cluster string      `json:"cluster"`
	State   HealthState `json:"state"`
	Well    bool        `json:"well"`
	// Why says why nothing is known, or nothing was raised.
	Why       string          `json:"why,omitempty"`
	Declared  string          `json:"declared"`
	Running   string          `json:"running"` // lowest version of the control plane; empty: not known
	Groups    []Group         `json:"groups"`
	Endpoint  EndpointHealth  `json:"endpoint"`
	Datastore DatastoreHealth `json:"datastore"`
	Nodes     NodesHealth     `json:"nodes"`
	Ailing    []string        `json:"ailing"` // what does not work
	Strained  []string        `json:"strained"`
	// Wanting are workloads without all the pods that they want, if they were asked about.
	Wanting []kube.Wanting `json:"wanting"`
	// Strays are nodes of the cluster's names that no machine has: whoever has the certificate of
	// one that was removed can register it.
	Strays []string `json:"strays"`
	Trust  []string `json:"trust"` // what is wrong with certificates and keys
	// TrustSaid is the same in one line, or what ends first.
	TrustSaid string       `json:"trustSaid"`
	Waiting   int          `json:"waiting"` // certificate requests for a person to decide
	Pending   int          `json:"pending"` // steps to what is declared
	Refused   string       `json:"refused,omitempty"`
	Held      *memory.Held `json:"held,omitempty"` // a roll-out, until a person's word
	Accepted  []string     `json:"accepted"`       // what exceptions of the declaration accept
	Backup    *BackupFound `json:"backup,omitempty"`
	Away      *BackupsAway `json:"backupsAway,omitempty"`
	// Unopened counts backups that lie there and cannot be opened here, or are of another
	// cluster of the name.
	Unopened int `json:"unopened"`
	// Due is since when another backup is due, as declared; zero when there is none at all.
	Due *time.Time `json:"due,omitempty"`
	// Kept are what keepers of backups last did, on their machines.
	Kept      []Kept      `json:"kept"`
	Run       *Underway   `json:"run,omitempty"`
	Replacing []Replacing `json:"replacing"`
}

// Group is the machines of a pool, or of a role, that run one version.
type Group struct {
	Name     string `json:"name"`
	Version  string `json:"version"` // empty: nothing is installed there, or it was not seen
	Declared string `json:"declared"`
	Machines int    `json:"machines"`
	Nodes    bool   `json:"nodes"` // they run a part of Kubernetes
}

// EndpointHealth is whether the API answers where people reach it.
type EndpointHealth struct {
	Server  string `json:"server"`
	Address string `json:"address"`
	Answers bool   `json:"answers"`
}

// DatastoreHealth is how many members the datastore can lose.
type DatastoreHealth struct {
	Answers  bool           `json:"answers"`
	Voters   int            `json:"voters"`
	Healthy  int            `json:"healthy"` // voters
	Survives int            `json:"survives"`
	Members  []MemberHealth `json:"members"`
}

// MemberHealth is one member of the datastore.
type MemberHealth struct {
	Name    string `json:"name"`
	Healthy bool   `json:"healthy"`
	Learner bool   `json:"learner,omitempty"` // it has no vote yet
	Leads   bool   `json:"leads,omitempty"`
	Trouble string `json:"trouble,omitempty"`
}

// NodesHealth counts nodes; Known says whether the API said how many there are.
type NodesHealth struct {
	Known bool `json:"known"`
	Ready int  `json:"ready"`
	Total int  `json:"total"`
}

// BackupFound is the newest backup of the datastore.
type BackupFound struct {
	File    string    `json:"file"`
	Taken   time.Time `json:"taken"`
	Version string    `json:"version"` // of Kubernetes, at that time
	// Verified is when all of it was last read and found as it was written; Copies, in how many
	// other places it lies.
	Verified *time.Time `json:"verified,omitempty"`
	Copies   int        `json:"copies"`
}

// BackupsAway are backups that are remembered, and are not on this computer: somebody else's, of a
// memory that several share.
type BackupsAway struct {
	Count  int      `json:"count"`
	Newest string   `json:"newest"` // file
	At     []string `json:"at"`     // where that was sent; empty: it lies where it was taken
}

// Kept is what the keeper of backups on a machine last did.
type Kept struct {
	Machine string     `json:"machine"`
	Taken   *time.Time `json:"taken,omitempty"` // when it last took one
	File    string     `json:"file,omitempty"`  // of that, on the machine
	Bytes   int64      `json:"bytes,omitempty"`
	Sent    []string   `json:"sent"`              // places where it lies as well
	Trouble string     `json:"trouble,omitempty"` // what goes wrong since: none could be taken, or sent
	At      *time.Time `json:"at,omitempty"`      // when that was said
}

// kept lists what keepers last did, the newest backup first, those that could not be asked left
// out.
func kept(v *View) []Kept {
	out := []Kept{}
	for name, seen := range v.Seen.Machines {
		k := seen.Kept
		if k.At.IsZero() {
			continue
		}
		x := Kept{Machine: name, File: k.Name, Bytes: k.Bytes, Sent: slices.AppendSeq([]string{}, maps.Keys(k.Sent)), Trouble: k.Trouble}
		slices.Sort(x.Sent)
		if !k.Taken.IsZero() {
			x.Taken = &k.Taken
		}
		if k.Trouble != "" {
			x.At = &k.At
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b Kept) int {
		var at, bt time.Time
		if a.Taken != nil {
			at = *a.Taken
		}
		if b.Taken != nil {
			bt = *b.Taken
		}
		return cmp.Or(bt.Compare(at), cmp.Compare(a.Machine, b.Machine))
	})
	return out
}

// keeperSlack is how much later than due a keeper of backups may take one, and nobody is told:
// it looks now and then, and lets others go first.
func keeperSlack(every time.Duration) time.Duration { return every/10 + 2*time.Minute }

// dueSince says since when another backup is due, as declared; nil if none is.
func dueSince(s *session.Session, v *View, h *Health, now time.Time) *time.Time {
	all, err := keep.All(s)
	if err != nil {
		return nil
	}
	every := time.Duration(s.Decl.Backup.Every)
	if len(v.Cluster.With(versions.Keeper)) == 0 {
		if since, due := keep.Due(all, every, now); due {
			return &since
		}
		return nil
	}
	var founded time.Time
	if f := v.Known.Facts; f != nil {
		founded = f.Founded
	}
	return overdue(all, h.Kept, every, founded, now)
}

// overdue says since when a backup is due that keepers should have taken; nil if none is. What
// lies with them counts, and they have their time for the first one, too.
func overdue(all []keep.Found, kept []Kept, every time.Duration, founded, now time.Time) *time.Time {
	since, due := keep.Due(all, every, now)
	if !due {
		return nil
	}
	if len(kept) > 0 && kept[0].Taken != nil {
		if there := kept[0].Taken.Add(every); there.After(since) {
			since = there
		}
	}
	from := since
	if from.IsZero() {
		from = founded
	}
	if now.Before(from.Add(keeperSlack(every))) {
		return nil
	}
	return &since
}

// Replacing is a replacement of an authority or a key that is not over.
type Replacing struct {
	What  string    `json:"what"`
	Pass  int       `json:"pass"`
	Since time.Time `json:"since"`
	Waits bool      `json:"waits"` // the pass is done, and a person begins the next one
}

// wanting asks which workloads do not have what they want.
func wanting(ctx context.Context, s *session.Session, c *topology.Cluster) ([]kube.Wanting, error) {
	if c.CopyOf != "" {
		return nil, nil // nothing acts on what it holds
	}
	k, err := s.Kube(c)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
	defer cancel()
	return k.Wanting(ctx)
}

// Underway is a run that holds the lock.
type Underway struct {
	Run     string        `json:"run,omitempty"`
	Command string        `json:"command"`
	Process int           `json:"process"`
	By      string        `json:"by"` // the process, and whose it is where others share the memory
	Since   time.Time     `json:"since"`
	Steps   []store.Entry `json:"steps"` // that have begun and not ended
	// Out are machines that it has taken out of service, or is about to.
	Out []string `json:"out"`
}

// HealthOf judges what was seen, and looks at certificates and keys in the same breath. How
// many requests wait is for the caller to say. It is long because it is a list, one
// question after the other. With workloads also those count that people run there.
func HealthOf(ctx context.Context, s *session.Session, v *View, now time.Time, workloads bool) (*Health, error) {
	h := &Health{Cluster: s.Decl.Name, Declared: s.Decl.Kubernetes, Groups: []Group{}, Ailing: []string{}, Strained: []string{}, Trust: []string{}, Wanting: []kube.Wanting{}, Strays: []string{}, Accepted: []string{}, Replacing: []Replacing{},
		Endpoint: EndpointHealth{Server: v.Cluster.Server(), Address: v.Cluster.Endpoint.Address.String()}, Datastore: DatastoreHealth{Members: []MemberHealth{}}}
	var err error
	if h.Run, err = RunUnderway(s); err != nil {
		return nil, err
	}
	h.Backup, h.Unopened = newestBackup(s)
	if s.Store.Who() != "" { // else somebody has taken them away by hand
		h.Away = backupsAway(s, v)
	}
	h.Kept = kept(v)
	h.Due = dueSince(s, v, h, now)
	if err := Unseen(s, v); err != nil {
		h.State, h.Why = NotKnown, err.Error()
		return h, nil
	}
	h.Running, h.Groups = plan.Version(v.Cluster, v.Seen), groups(v)
	h.Endpoint.Answers = v.Seen.Endpoint
	h.datastore(v)
	h.Nodes = NodesHealth{Known: v.Seen.API, Total: len(v.Seen.Nodes)}
	for _, n := range v.Seen.Nodes {
		if n.Ready {
			h.Nodes.Ready++
		}
	}
	if p, err := PlanAhead(ctx, s, v); err != nil {
		h.Refused = err.Error()
	} else {
		h.Pending = len(p.Steps) + len(p.Later)
		if p.Held {
			h.Held = v.Known.Held
		}
	}
	if x := v.Seen.Restores; x != nil {
		h.State, h.Ailing = NotWell, append(h.Ailing, "the datastore is being founded from backup "+x.Backup+", and that is not over: verbund backup restore goes on with it")
		if h.Run != nil {
			h.State = IsChanged
		}
		return h, nil
	}
	if !v.Seen.Founded {
		h.State, h.Why = NotRaised, "the cluster has not been raised yet; verbund converge does it"
		if h.Run != nil {
			h.State = IsChanged
		}
		return h, nil
	}
	replacing(v.Known, h)
	out := map[string]bool{}
	if h.Run != nil {
		for _, m := range h.Run.Out {
			out[m] = true
		}
	}
	for _, t := range v.Ails() {
		// What a run has taken out of service is no trouble; what it leaves so is.
		if h.Run != nil && t.Excused(out) {
			continue
		}
		h.Ailing = append(h.Ailing, t.Text)
	}
	h.Strained = append(h.Strained, Strains(s, v, out, now)...)
	h.Strays = append(h.Strays, plan.Strays(v.Cluster, v.Seen, now)...)
	if workloads && v.Seen.API {
		ws, err := wanting(ctx, s, v.Cluster)
		if err != nil {
			h.Strained = append(h.Strained, fmt.Sprintf("whether workloads have the pods that they want could not be asked: %v", err))
		}
		h.Wanting = append(h.Wanting, ws...)
	}
	r, err := Inspect(ctx, s, v, now)
	if err != nil {
		h.Trust = []string{fmt.Sprintf("certificates could not be looked at: %v", err)}
	} else {
		h.Trust = slices.DeleteFunc(r.Wrong(), func(string) bool { return h.Run != nil && len(out) > 0 })
	}
	switch {
	case err != nil:
		h.TrustSaid = h.Trust[0]
	case len(h.Trust) > 0:
		more := ""
		if len(h.Trust) > 1 {
			more = fmt.Sprintf("; and %d more", len(h.Trust)-1)
		}
		h.TrustSaid = fmt.Sprintf("%s wrong: %s%s; verbund trust list shows them", words.Count(len(h.Trust), "thing"), h.Trust[0], more)
	default:
		h.TrustSaid = "nothing wrong with " + words.Count(len(r.Entries)-r.NotLooked(), "certificate")
		if n := r.NotLooked(); n > 0 {
			h.TrustSaid += fmt.Sprintf("; %d on %s could not be looked at", n, words.Count(len(r.Unseen), "machine"))
		}
		if e, ok := r.FirstToEnd(); ok {
			h.TrustSaid += fmt.Sprintf("; %s ends first, in %s", e.ID, duration.HumanDuration(e.Expires.Sub(now)))
		}
	}
	switch {
	case len(h.Ailing)+len(h.Strained)+len(h.Trust)+len(h.Strays) > 0:
		h.State = NotWell
	case h.Run != nil:
		h.State = IsChanged
	case len(h.Wanting) > 0: // while a run empties machines, pods are on their way
		h.State = NotWell
	case h.Pending > 0 || h.Refused != "" || h.Held != nil:
		h.State = IsPending
	default:
		h.State, h.Well = IsWell, true
	}
	return h, nil
}

// groups counts machines by pool or role and version, in the order of the
// declaration.
func groups(v *View) []Group {
	out := []Group{}
	for _, m := range v.Cluster.Machines {
		seen := v.Seen.Machines[m.Name]
		g := Group{Name: cmp.Or(m.Pool, string(m.Role)), Version: Runs(seen), Declared: m.Carries(), Machines: 1, Nodes: m.Is(versions.API) || m.IsNode()}
		if i := slices.IndexFunc(out, func(x Group) bool { return x.Name == g.Name && x.Version == g.Version && x.Declared == g.Declared }); i >= 0 {
			out[i].Machines++
			continue
		}
		out = append(out, g)
	}
	return out
}

// Runs is the version of what a machine is there for; empty when nothing is
// installed, or when it was not reached.
func Runs(seen plan.MachineSeen) string {
	if !seen.Reached {
		return ""
	}
	if v := seen.Running(); v != "" {
		return v
	}
	for _, c := range []string{"haproxy", "etcd"} {
		if v := seen.Versions[c]; v != "" {
			return c + " " + v
		}
	}
	return ""
}

func (h *Health) datastore(v *View) {
	d := &h.Datastore
	for _, name := range slices.Sorted(maps.Keys(v.Seen.Members)) {
		m := v.Seen.Members[name]
		d.Members = append(d.Members, MemberHealth{Name: name, Healthy: m.Healthy, Learner: m.Learner, Leads: m.Leads, Trouble: m.Trouble})
		if m.Learner {
			continue
		}
		if d.Voters++; m.Healthy {
			d.Healthy++
		}
	}
	d.Answers = d.Voters > 0 && v.DatastoreError == nil
	d.Survives = max(d.Healthy-(d.Voters/2+1), 0)
}

// replacing adds the replacements that are not over.
func replacing(st *memory.State, h *Health) {
	for _, id := range slices.Sorted(maps.Keys(st.Replacements)) {
		r := st.Replacements[id]
		h.Replacing = append(h.Replacing, Replacing{id, int(r.Pass), r.Since, !r.Done.IsZero()})
		if r.Done.IsZero() && h.Run == nil {
			h.Strained = append(h.Strained, fmt.Sprintf("the replacement of %s was left in the middle of pass %d of 3 (%s); verbund trust replace %s goes on", id, r.Pass, r.Pass, id))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(st.Exchanges)) {
		if h.Run == nil {
			h.Strained = append(h.Strained, fmt.Sprintf("machine %s is to be replaced by a new one, and that is not over; verbund converge goes on", name))
		}
	}
}

// Strains are what works and should be seen to, of machines that no run has out of service.
func Strains(s *session.Session, v *View, out map[string]bool, now time.Time) []string {
	return plan.Strains(v.Cluster, v.Seen, out, now, func() time.Time { return foundWell(s) })
}

// foundWell is when a run last found every node and component well, by the journal;
// a run of a part does not look at the others. A journal that cannot be read says of
// none.
func foundWell(s *session.Session) time.Time {
	var at time.Time
	es, _, err := s.Store.Entries()
	if err != nil {
		return at
	}
	for _, e := range es {
		if e.Kind == store.StepDone && e.What == string(plan.Verify) {
			at = e.Time
		}
	}
	return at
}

// RunUnderway says which run holds the lock and what it is at; nil when none does.
func RunUnderway(s *session.Session) (*Underway, error) {
	h, err := s.Store.Holds()
	if err != nil || h == nil {
		return nil, err
	}
	es, _, err := s.Store.Entries()
	if err != nil {
		return nil, err
	}
	return underway(h, es), nil
}

// underway reads from the journal what the holder of the lock is at: its run is
// the last that began after the lock was taken.
func underway(h *store.Holder, es []store.Entry) *Underway {
	u := &Underway{Command: h.Command, Process: h.Process, By: h.By(), Since: h.Since, Steps: []store.Entry{}, Out: []string{}}
	running, out := map[string]store.Entry{}, map[string]bool{}
	for _, e := range es {
		if e.Time.Before(h.Since) {
			continue
		}
		switch e.Kind {
		case store.RunBegan:
			u.Run = e.Run
			clear(running)
		case store.RunEnded:
			clear(running)
			clear(out)
		case store.StepBegan:
			running[e.Step] = e
			if plan.Kind(e.What).TakesOut() {
				out[e.Where] = true
			}
		case store.StepDone, store.StepFailed:
			delete(running, e.Step)
			if plan.Kind(e.What).BringsBack() && e.Kind == store.StepDone {
				delete(out, e.Where)
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(running)) {
		u.Steps = append(u.Steps, running[id])
		if w := running[id].Where; w != "" {
			out[w] = true
		}
	}
	u.Out = append(u.Out, slices.Sorted(maps.Keys(out))...)
	return u
}

// HeldBack lists the pools that are declared on another version.
func HeldBack(c *topology.Cluster) []string {
	var out []string
	for _, m := range c.Machines {
		if m.Role == versions.Worker && m.Set.Kubernetes != c.Set.Kubernetes {
			if t := fmt.Sprintf("pool %s on %s", m.Pool, m.Set.Kubernetes); !slices.Contains(out, t) {
				out = append(out, t)
			}
		}
	}
	return out
}
