package look

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
	"verbund/internal/site"
)

// inside is one machine that is being looked into.
type inside struct {
	s     *session.Session
	v     *View
	m     session.Machine
	facts *protocol.FactsReply
	owner *nodeconf.Owner
	seen  *plan.MachineSeen
}

// lookInside logs in to a machine and finds out what lies and runs there, and how that
// differs from what is declared; due are certificates that are to be made anew, and why.
func lookInside(ctx context.Context, s *session.Session, v *View, im site.Machine, due map[string]string, seen *plan.MachineSeen) error {
	x := &inside{s: s, v: v, seen: seen}
	if err := x.enter(ctx, im); err != nil {
		return err
	}
	x.slots()
	if err := x.units(ctx); err != nil {
		return err
	}
	if err := x.whose(ctx, im.Name); err != nil {
		return err
	}
	m, ok := v.Cluster.Machine(im.Name)
	if !ok || x.facts.Active == "" {
		return nil
	}
	if m.Is(versions.Keeper) {
		if err := x.keeper(ctx); err != nil {
			return err
		}
	}
	// Files are held against what they are for: an upgrade brings its own.
	m, _ = plan.AsItRuns(m, seen.Versions, s.Cat)
	return x.files(ctx, m, due)
}

// enter logs in, over a new connection if the old one broke, and asks what the machine says
// of itself.
func (x *inside) enter(ctx context.Context, im site.Machine) error {
	var asked time.Time
	ask := func() (err error) {
		if x.m, err = x.s.Machine(ctx, im.Name, im.SSHPort); err != nil {
			return err
		}
		asked = time.Now()
		x.facts, err = x.m.Facts(ctx)
		return err
	}
	err := ask()
	if errors.Is(err, machine.ErrLost) {
		x.s.HangUp(im.Name)
		err = ask()
	}
	if err != nil {
		return err
	}
	x.seen.Disk, x.seen.DiskUsed = x.facts.Disk, x.facts.DiskUsed
	x.seen.ClockOff = clockBetween(asked, time.Now(), x.facts.Clock)
	if x.facts.Busy != "" && x.s.Alone {
		return fmt.Errorf("%w: %s", errBusy, x.facts.Busy)
	}
	return nil
}

// slots says which versions lie in the slot in use and in the idle one. What was not
// fetched under the pinned digest does not count as there.
func (x *inside) slots() {
	f := x.facts
	if x.seen.Active = f.Active; f.Active != "" {
		x.seen.Versions = f.Slots[f.Active]
	}
	idle := session.IdleSlot(f.Active)
	x.seen.Idle = map[string]string{}
	for name, v := range f.Slots[idle] {
		if d := x.s.Cat.Digest(versions.Component{Name: name, Version: v}.Ref()); d != "" && f.Digests[idle][name] == d {
			x.seen.Idle[name] = v
		}
	}
}

func (x *inside) units(ctx context.Context) error {
	us, err := x.m.Units(ctx)
	for _, u := range us {
		x.seen.Units[u.Name] = u.State
		if u.Real {
			x.seen.Real = append(x.seen.Real, u.Program)
		}
		if u.Restarts > 0 {
			x.seen.Restarted[u.Name] = plan.Restarted{Times: u.Restarts, Last: u.Since.Add(-x.seen.ClockOff), Why: u.Last}
		}
	}
	return err
}

// errNotTaken is a machine of a list that this cluster has not taken over.
var errNotTaken = errors.New("it was not taken over yet")

// whose finds out which cluster a machine is of, and before the founding whether data lies
// where the datastore is to be.
func (x *inside) whose(ctx context.Context, name string) error {
	if x.v.Cluster.Listed {
		// Somebody else's is left alone until it was found fit.
		by, err := TakenBy(ctx, x.m)
		if err == nil && by != x.v.Cluster.Name {
			err = errNotTaken
		}
		if err != nil {
			return err
		}
	}
	record, err := x.m.Read(ctx, nodeconf.Record)
	if err != nil {
		return err
	}
	if x.owner = nodeconf.ReadRecord(record[nodeconf.Record]); x.owner != nil {
		x.seen.Owner = x.owner.Cluster
	}
	c := x.v.Cluster
	if !c.HoldsMember(c.RoleOf(name)) {
		return nil
	}
	logs, err := x.m.List(ctx, nodeconf.DatastoreLog)
	x.seen.Data = !x.v.Seen.Founded && len(logs) > 0
	x.seen.Blank = x.v.Seen.Founded && err == nil && len(logs) == 0
	return err
}

// keeper looks at what a keeper of backups was left with, and what it last did.
func (x *inside) keeper(ctx context.Context) error {
	found, err := x.m.Read(ctx, nodeconf.KeeperLabel, nodeconf.KeeperReport)
	if err != nil {
		return err
	}
	// What cannot be read is written anew, by the tool and by the keeper.
	var l nodeconf.Label
	if json.Unmarshal(found[nodeconf.KeeperLabel], &l) == nil {
		x.seen.Rest = l.Of
	}
	var k nodeconf.Kept
	if json.Unmarshal(found[nodeconf.KeeperReport], &k) == nil {
		x.seen.Kept = k
	}
	return nil
}

// differs notes a file that is not as it is to be, with why.
func (x *inside) differs(file, why string) {
	x.seen.Differs = append(x.seen.Differs, file)
	x.seen.Lines = append(x.seen.Lines, file+": "+why)
}

// files holds a machine's files against those that are rendered for it.
func (x *inside) files(ctx context.Context, m topology.Machine, due map[string]string) error {
	files, rendered, err := x.s.Files(x.v.Cluster, m, nodeconf.Options{Resting: x.v.Seen.Resting}, x.facts.Active)
	// What is yet to be made differs from whatever lies there.
	if err != nil && !errors.Is(err, session.ErrNoTrust) {
		return err
	}
	var paths []string
	for _, f := range files {
		paths = append(paths, f.Path)
	}
	have, err := x.m.Digests(ctx, paths)
	if err != nil {
		return err
	}
	cut, older, err := Pending(ctx, x.m)
	if err != nil {
		return err
	}
	if len(cut) > 0 {
		x.differs(nodeconf.Pending, "a run was cut off before it restarted "+strings.Join(cut, ", "))
	}
	for _, u := range older {
		x.differs(nodeconf.Active+"units/"+u, u+" runs as this was written before")
	}
	x.seen.Restarts = slices.Concat(cut, older)
	if due, err = x.kubelet(ctx, m, due); err != nil {
		return err
	}
	texts := x.compare(files, rendered, have, due)
	// A key that lies where nothing needs it opens a door that nobody watches.
	strays, err := StrayTrust(ctx, x.m, rendered)
	if err != nil {
		return err
	}
	for _, p := range strays {
		x.differs(p, "nothing there needs it")
	}
	if err := x.lines(ctx, files, texts); err != nil {
		return err
	}
	slices.Sort(x.seen.Differs)
	// By file, and within one in the order of its lines.
	file := func(l string) string { f, _, _ := strings.Cut(l, ":"); return f }
	slices.SortStableFunc(x.seen.Lines, func(a, b string) int { return strings.Compare(file(a), file(b)) })
	slices.Sort(x.seen.Restarts)
	x.seen.Restarts = slices.Compact(x.seen.Restarts)
	return nil
}

// kubelet looks at what a kubelet has of its own; a first certificate that has ended, where
// it has no other, is due.
func (x *inside) kubelet(ctx context.Context, m topology.Machine, due map[string]string) (map[string]string, error) {
	o, err := Own(ctx, x.s, x.v.Cluster, m, x.m)
	if err != nil {
		return nil, err
	}
	x.seen.Unsigned = o.waits
	for p, why := range o.Stale {
		x.differs(p, why)
		x.seen.Restarts = append(x.seen.Restarts, nodeconf.UnitKubelet)
	}
	if x.seen.Enrols = m.ByToken && !o.Client; x.seen.Enrols {
		if x.seen.Token, err = TokenOn(ctx, x.m); err != nil {
			return nil, err
		}
	}
	if first := m.Name + "/kubelet-client"; !o.Client && !m.ByToken && vouch.FirstEnded(x.s, first) {
		x.seen.Reissue = append(x.seen.Reissue, first)
		due = maps.Clone(due)
		due[first] = "it has ended, and the kubelet has no other"
	}
	return due, nil
}

// text is a file that differs and may be shown.
type text struct {
	as      string // its path as it is rendered
	written bool   // nobody has touched it since it was written: it is declared otherwise now
}

// compare finds the files that differ, and what has to restart for them; it returns those
// whose lines are to be shown, by their paths on the machine.
func (x *inside) compare(files []protocol.File, rendered []nodeconf.File, have, due map[string]string) map[string]text {
	texts := map[string]text{}
	for i, f := range files {
		r := rendered[i]
		if r.Path == nodeconf.Record && len(x.seen.Differs) > 0 {
			continue // it is written with whatever else is
		}
		if have[f.Path] == session.FileDigest(f) {
			if why := due[r.From]; r.Kind == nodeconf.Cert && why != "" {
				x.differs(r.Path, why)
			}
			continue
		}
		for _, u := range r.Restart {
			if x.seen.Units[u] == "active" {
				x.seen.Restarts = append(x.seen.Restarts, u)
			}
		}
		switch _, there := have[f.Path]; {
		case !there:
			x.differs(r.Path, "is missing")
		case !r.Shown():
			x.differs(r.Path, "is another one")
		default:
			x.seen.Differs = append(x.seen.Differs, r.Path)
			sum, mode, _ := strings.Cut(have[f.Path], " ")
			texts[f.Path] = text{r.Path, r.Path == nodeconf.Record || x.owner.Wrote(r.Path, sum) && mode == fmt.Sprintf("%o", f.Mode.Perm())}
		}
	}
	return texts
}

// lines says how texts differ, line by line where somebody has edited them.
func (x *inside) lines(ctx context.Context, files []protocol.File, texts map[string]text) error {
	if len(texts) == 0 {
		return nil
	}
	found, err := x.m.Read(ctx, slices.Sorted(maps.Keys(texts))...)
	if err != nil {
		return err
	}
	for _, f := range files {
		t, ok := texts[f.Path]
		switch was, is := string(f.Content), string(found[f.Path]); {
		case ok && t.written:
			x.seen.Lines = append(x.seen.Lines, plan.Declared(t.as, was, is))
		case ok:
			x.seen.Lines = append(x.seen.Lines, plan.Lines(t.as, was, is)...)
		}
	}
	return nil
}

// clockBetween is how far a clock is ahead that was read between two moments of
// ours; nothing that the time between them explains counts.
func clockBetween(from, to, read time.Time) time.Duration {
	switch {
	case read.Before(from):
		return read.Sub(from)
	case read.After(to):
		return read.Sub(to)
	}
	return 0
}

// StrayTrust lists keys and certificates on a machine that are not rendered
// for it, and what was left with a keeper of backups, sealed, where there is none any more.
func StrayTrust(ctx context.Context, m session.Machine, rendered []nodeconf.File) ([]string, error) {
	found, err := m.List(ctx, trust.Dir)
	if err != nil {
		return nil, err
	}
	keep := map[string]bool{}
	for _, f := range rendered {
		keep[f.Path] = true
	}
	units := nodeconf.Active + "units/"
	if keep[units+nodeconf.UnitAPIServer] && !keep[units+nodeconf.UnitKeeper] {
		left, err := m.List(ctx, nodeconf.KeeperFolder)
		if err != nil {
			return nil, err
		}
		for _, f := range left {
			if f.Path == nodeconf.KeeperRest || f.Path == nodeconf.KeeperLabel {
				found = append(found, f)
			}
		}
	}
	var out []string
	for _, f := range found {
		if !keep[f.Path] {
			out = append(out, f.Path)
		}
	}
	return out, nil
}
