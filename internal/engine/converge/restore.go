package converge

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/datastore"
	"verbund/internal/engine/act"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/machine/protocol"
	"verbund/internal/site"
	"verbund/internal/store"
)

// Restore brings the datastore back to what a backup holds, and converges; ch is what else the
// command is to write down, such as the version that the backup is of. A restoration that was
// cut off goes on: f is nil then.
func (w *Work) Restore(command string, f *keep.Found, ch *Change) error {
	st, err := w.Store.Read()
	if err != nil {
		return err
	}
	under := st.Restoring
	if f == nil || under != nil && f.Name == under.Backup { // it goes on
		if under == nil {
			return mistake("no restoration is underway in cluster %s; name a backup: verbund backup list", w.Decl.Name)
		}
		return (&converging{Work: w, command: command, change: ch}).run()
	}
	if under != nil && !under.Founded && keep.Usable(w.Session, under.Backup) {
		return mistake("the restoration of backup %s is underway, since %s; finish it first: verbund backup restore %s", keep.Short(under.Backup), under.Since.Local().Format("2006-01-02 15:04"), keep.Short(under.Backup))
	}
	if len(st.Machines) > 0 { // without any, there is nothing at the site to be asked about
		if err := w.wake(); err != nil {
			return err
		}
	}
	b, end, err := keep.Open(w.Session, f.Name)
	if err != nil {
		return err
	}
	defer end.Close()
	if b.Manifest.Cluster != w.Decl.Name {
		return mistake("backup %s is of cluster %s, and this is %s", f.Name, b.Manifest.Cluster, w.Decl.Name)
	}
	// All of it is read before anything is asked.
	x, err := keep.Examine(w.Hard, w.Session, b, false)
	if err != nil {
		return fmt.Errorf("backup %s cannot be restored: %w", f.Name, err)
	}
	keys, err := w.olderKeys(b.Secrets)
	if err != nil {
		return err
	}
	told := w.loses(f, x.Contents)
	for _, l := range told.lines {
		w.Say("%s", l)
	}
	r := &memory.Restoring{ID: fmt.Sprintf("%s-restored-%d", w.Decl.Name, time.Now().UnixNano()), Backup: f.Name, Since: time.Now().UTC(), Kubernetes: f.Manifest.Kubernetes}
	w.Restores = &plan.Restores{ID: r.ID, Backup: f.Short(), Loses: "what the datastore holds now gives way to backup " + f.Short()}
	text := "restores backup " + f.Short()
	if ch != nil {
		text += "; " + ch.Text
	}
	return (&converging{Work: w, command: command, change: &Change{text, func() error { return w.begin(f, r, keys, ch, told.living) }}}).run()
}

// Aside raises a copy of another cluster, for looking at, from a backup of that one: from is what
// opens it there, ch writes the copy's declaration and leaves the backup with it. A copy that is
// there already is founded anew, once its name was said.
func (w *Work) Aside(command string, from *session.Session, f *keep.Found, ch *Change) error {
	st, err := w.Store.Read()
	if err != nil {
		return err
	}
	under := st.Restoring
	if under != nil && f.Name == under.Backup { // it goes on
		return (&converging{Work: w, command: command, change: ch}).run()
	}
	b, end, err := keep.Open(from, f.Name)
	if err != nil {
		return err
	}
	defer end.Close()
	if b.Manifest.Cluster != w.Decl.CopyOf {
		return mistake("backup %s is of cluster %s, and cluster %s is a copy of %s", f.Name, b.Manifest.Cluster, w.Decl.Name, w.Decl.CopyOf)
	}
	x, err := keep.Examine(w.Hard, from, b, false)
	if err != nil {
		return fmt.Errorf("backup %s cannot be looked at: %w", f.Name, err)
	}
	then, err := trust.SecretsKeys(b.Secrets)
	if err != nil {
		return fmt.Errorf("what opens the Secrets in the backup: %w", err)
	}
	// Its Secrets open with the keys of then. Everything else that vouches is its own: nobody
	// comes in there with what lets in to the other cluster.
	keys := &store.Trust{Keys: map[string]store.Secret{}}
	for i, id := range []string{trust.SecretsKey, trust.OldID(trust.SecretsKey)}[:min(len(then), 2)] {
		keys.Keys[id] = store.Secret(then[i])
	}
	w.Say("backup %s is of %s, at revision %d, on %s: %s", f.Short(), f.Manifest.Taken.Local().Format("2006-01-02 15:04:05"), x.Contents.Revision, f.Manifest.Kubernetes, words.Count(f.Manifest.Number(), "object"))
	w.Say("cluster %s becomes a copy of %s beside it, with one machine of its own: the API holds what the backup does, and nothing acts on that; %s is not touched", w.Decl.Name, w.Decl.CopyOf, w.Decl.CopyOf)
	loses := ""
	if st.Facts != nil {
		loses = "what the copy holds now gives way to backup " + f.Short()
	}
	r := &memory.Restoring{ID: fmt.Sprintf("%s-restored-%d", w.Decl.Name, time.Now().UnixNano()), Backup: f.Name, Since: time.Now().UTC(), Kubernetes: f.Manifest.Kubernetes}
	w.Restores = &plan.Restores{ID: r.ID, Backup: f.Short(), Loses: loses}
	return (&converging{Work: w, command: command, change: &Change{ch.Text, func() error { return w.begin(f, r, keys, ch, false) }}}).run()
}

// begin writes down that a restoration has begun, once it is agreed to: what is there is backed
// up before, if it could be asked what it holds.
func (w *Work) begin(f *keep.Found, r *memory.Restoring, keys *store.Trust, ch *Change, living bool) error {
	if living {
		if err := w.before(f); err != nil {
			return err
		}
	}
	c, err := w.Topology()
	if err != nil {
		return err
	}
	var members []string
	for _, m := range c.With(versions.Member) {
		members = append(members, m.Name)
	}
	t, err := w.Trust()
	if err != nil {
		return err
	}
	// The intent comes first, with the keys in one: cut off after it, the same command goes on, and
	// nothing else does before what the backup is of is declared.
	err = w.Store.UpdateWith(store.TrustChange{Add: keys}, func(st *memory.State) error {
		st.Restores(*r, members)
		return nil
	})
	if err != nil {
		return err
	}
	w.SeeTrust(t, keys)
	w.Restores = nil // it is remembered from now on
	if ch != nil {
		return ch.Write()
	}
	return nil
}

// Rescue takes what the member on a machine holds, where the majority is lost for good: it is
// stopped, and its data made into a backup. The data itself stays there as it is until it is
// restored. A datastore that still decides is backed up instead.
func (w *Work) Rescue(machine string) (*keep.Found, error) {
	if err := w.wake(); err != nil {
		return nil, err
	}
	v, err := look.Observe(w.Soft, w.Session)
	if err != nil {
		return nil, err
	}
	m, ok := v.Cluster.Machine(machine)
	if !ok || !m.Is(versions.Member) {
		return nil, mistake("cluster %s has no member of its datastore on a machine %s", w.Decl.Name, machine)
	}
	if v.Seen.Restores != nil {
		return nil, mistake("the restoration of backup %s is underway; finish it first: verbund backup restore", v.Seen.Restores.Backup)
	}
	if v.DatastoreError == nil && len(v.Members) > 0 {
		voters, well := 0, 0
		for _, x := range v.Members {
			if voters++; x.Healthy {
				well++
			}
		}
		if well > voters/2 {
			return nil, mistake("%d of %d members of the datastore are well, so that it still decides: nothing has to be rescued; verbund backup take takes a backup of it", well, voters)
		}
	}
	if seen := v.Seen.Machines[machine]; !seen.Reached {
		return nil, fmt.Errorf("machine %s cannot be reached: %s", machine, seen.Trouble)
	}
	why := "the datastore does not decide any more"
	if v.DatastoreError != nil {
		why = fmt.Sprintf("the datastore could not be asked whether it still decides (%v)", v.DatastoreError)
	}
	if err := w.AskByName(w.Decl.Name, why+"; what the member on "+machine+" holds is taken for all that there is, and it is stopped for that"); err != nil {
		return nil, err
	}
	release, err := w.Store.Lock("backup restore")
	if err != nil {
		return nil, err
	}
	defer release()
	snap, err := w.rescued(m)
	if err != nil {
		return nil, fmt.Errorf("what the member on %s holds could not be had: %w", machine, err)
	}
	defer snap.Close()
	f, err := keep.Keep(w.Session, v.Cluster, keep.Reason{Why: "rescued from the member on " + machine, Version: cmp.Or(plan.Version(v.Cluster, v.Seen), w.Decl.Kubernetes)}, snap)
	if err != nil {
		return nil, err
	}
	w.Say("what the member on %s held is backup %s: %s at revision %d", machine, f.Short(), words.Count(f.Manifest.Number(), "object"), f.Manifest.Revision)
	return f, nil
}

// rescued has a member's snapshot made on its machine, and fetches it.
func (w *Work) rescued(m topology.Machine) (*keep.Plain, error) {
	var out *keep.Plain
	err := w.With(w.Hard, m.Name, func(c session.Machine) error {
		if err := act.Halt(w.Hard, c, true); err != nil {
			return err
		}
		parts, err := c.Rescue(w.Hard, protocol.RescueRequest{Unit: nodeconf.UnitEtcd, Folder: nodeconf.DatastoreDir, Name: m.Name, To: nodeconf.Incoming})
		if err != nil {
			return err
		}
		r, pw := io.Pipe()
		defer r.Close() // whoever still writes ends, too
		go func() {
			var err error
			for _, p := range parts {
				var b map[string][]byte
				if b, err = c.Read(w.Hard, p); err == nil {
					_, err = pw.Write(b[p])
				}
				if err != nil {
					break
				}
			}
			pw.CloseWithError(err)
		}()
		if out, err = keep.Read(w.Session, r); err != nil {
			return err
		}
		_, err = c.Put(w.Hard, nil, parts)
		return err
	})
	return out, err
}

// before backs up what a restoration is about to lose.
func (w *Work) before(f *keep.Found) error {
	v, err := look.Observe(w.Hard, w.Session)
	if err != nil {
		return err
	}
	b, err := keep.Take(w.Hard, w.Session, v.Cluster, keep.Reason{Why: "before the restoration of " + f.Short(), Version: cmp.Or(plan.Version(v.Cluster, v.Seen), w.Decl.Kubernetes)})
	if err != nil {
		return fmt.Errorf("what is there could not be backed up first, so nothing was changed: %w", err)
	}
	w.Say("what is there now is in backup %s", b.Short())
	return nil
}

// lookFor is how long the datastore may take to say what it holds.
const lookFor = 10 * time.Second

// told is what a person is told before a restoration.
type told struct {
	lines  []string
	living bool // the datastore could be asked what it holds
}

// loses says what a restoration loses: what cannot be known is said.
func (w *Work) loses(f *keep.Found, then *datastore.Contents) told {
	age := time.Since(f.Manifest.Taken).Round(time.Second)
	out := told{lines: []string{fmt.Sprintf("backup %s is of %s, %s ago, at revision %d, on %s", f.Short(), f.Manifest.Taken.Local().Format("2006-01-02 15:04:05"), age, then.Revision, f.Manifest.Kubernetes)}}
	ctx, cancel := context.WithTimeout(w.Hard, lookFor)
	defer cancel()
	now, err := func() (*datastore.Contents, error) {
		if st, err := w.Store.Read(); err != nil || len(st.Machines) == 0 {
			return nil, cmp.Or(err, errors.New("no machine of it is known"))
		}
		v, err := look.Locate(ctx, w.Session)
		if err != nil {
			return nil, err
		}
		if !there(v) {
			return nil, errors.New("the site has none of its machines")
		}
		d, err := w.Datastore(v.Cluster)
		if err != nil {
			return nil, err
		}
		return d.Objects(ctx)
	}()
	if err != nil {
		out.lines = append(out.lines, fmt.Sprintf("what the datastore holds now could not be asked (%v): whatever was written in those %s is lost, and cannot be backed up before", err, age))
		return out
	}
	out.living = true
	out.lines = append(out.lines, fmt.Sprintf("the datastore is at revision %d now; what was written since is lost:", now.Revision))
	vanish, back, older := datastore.Compare(now, then)
	for _, x := range []struct {
		kinds map[string]int
		what  string
	}{{vanish, "made since, and vanish"}, {back, "deleted since, and come back"}, {older, "changed since, and are as they were"}} {
		if len(x.kinds) > 0 {
			out.lines = append(out.lines, "  "+x.what+": "+inKinds(x.kinds))
		}
	}
	if len(vanish)+len(back)+len(older) == 0 {
		out.lines = append(out.lines, "  nothing but what comes and goes by itself")
	}
	return out
}

// there says whether the site has any machine of the datastore, as far as it can be seen.
func there(v *look.View) bool {
	return v.Inventory == nil || slices.ContainsFunc(v.Inventory.Machines, func(m site.Machine) bool {
		return m.Cluster == v.Cluster.Name && v.Cluster.HoldsMember(v.Cluster.RoleOf(m.Name))
	})
}

// inKinds lists figures by kind.
func inKinds(kinds map[string]int) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(kinds)) {
		out = append(out, fmt.Sprintf("%s (%d)", k, kinds[k]))
	}
	const most = 8
	if more := len(out) - most; more > 0 {
		out = append(out[:most], "and "+words.Count(more, "more kind"))
	}
	return strings.Join(out, ", ")
}

// olderKeys are what opens the Secrets of a backup and is not among what opens those of now:
// they have been replaced since. It is kept beside the present one, as while one is replaced.
func (w *Work) olderKeys(config []byte) (*store.Trust, error) {
	then, err := trust.SecretsKeys(config)
	if err != nil {
		return nil, fmt.Errorf("what opens the Secrets in the backup: %w", err)
	}
	t, err := w.Trust()
	if err != nil {
		return nil, err
	}
	out := &store.Trust{Keys: map[string]store.Secret{}}
	for _, key := range then {
		known := false
		for _, id := range trust.Trusted(t.Keys, trust.SecretsKey) {
			known = known || string(t.Keys[id]) == string(key)
		}
		if known {
			continue
		}
		old := trust.OldID(trust.SecretsKey)
		if t.Keys[old] != nil || len(out.Keys) > 0 {
			return nil, errors.New("the Secrets in the backup open with a key that was replaced since, and another one is being replaced now: finish that first, with verbund trust replace " + trust.SecretsKey)
		}
		out.Keys[old] = store.Secret(key)
	}
	return out, nil
}

// backupBefore takes a backup before something that has no other way back, of a cluster whose
// datastore can be asked.
func (w *Work) backupBefore(v *look.View, what string) error {
	f, err := keep.Take(w.Soft, w.Session, v.Cluster, keep.Reason{Why: "before " + what, Version: plan.Version(v.Cluster, v.Seen)})
	if err != nil {
		return fmt.Errorf("the backup before %s: %w", what, err)
	}
	w.Say("backup %s was taken before it", f.Short())
	lies, unsent := keep.Send(w.Soft, w.Session, f)
	for _, to := range lies {
		w.Say("it lies at %s, too, and was read there", to)
	}
	if unsent != nil {
		w.Problem(unsent.Error())
	}
	return nil
}
