package look

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"verbund/internal/core/beforehand"
	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/rehearse"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
)

// Outlook is what a roll-out would meet, as far as one can know before it begins.
type Outlook struct {
	Concerns []beforehand.Concern
	// Rehearsed is the roll-out played through; nil, with the reason, if it could not be.
	Rehearsed   *rehearse.Result
	Unrehearsed error
}

// Errors are the concerns that keep it from beginning.
func (o *Outlook) Errors() []beforehand.Concern {
	if o == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(o.Concerns), func(c beforehand.Concern) bool { return c.Severity != declare.Error })
}

// shortest is what a roll-out is taken to last at least, when it is asked what ends before it
// does: a person may have to step in.
const shortest = time.Hour

// LookAhead asks everything that can be asked before a roll-out or an upgrade begins, and before
// machines go that have to be emptied; nil of a plan that is none of these. It changes nothing.
func LookAhead(ctx context.Context, s *session.Session, v *View, p *plan.Plan) *Outlook {
	leaves := map[string]bool{}
	for _, st := range p.Steps {
		if st.Kind == plan.Drain && st.Wave == 0 {
			leaves[st.Machine] = true
		}
	}
	if len(p.Waves)+len(p.Later)+len(leaves) == 0 && p.From == p.To {
		return nil
	}
	_, total := p.Schedule(s.Parallel, Usual(s))
	q := &asking{s: s, v: v, f: beforehand.Facts{Now: time.Now(), Drained: map[string]bool{}, Accepted: map[string]string{}}}
	out := &Outlook{}
	if len(p.Waves)+len(p.Later)+len(leaves) > 0 {
		out.Rehearsed, out.Unrehearsed = Rehearse(ctx, s, Rehearsal{Part: v.Seen.Part, Usual: Usual(s)})
		if r := out.Rehearsed; r != nil {
			total = max(total, r.Total)
			for _, b := range r.Blocked {
				q.f.Meets = append(q.f.Meets, fmt.Sprintf("when %s is emptied, %s", b.Machine, b.Text))
			}
			if r.Ends != "" && leaves[r.EndsOn] {
				q.f.Vain = r.Ends
			}
			if r.Spare != nil {
				q.f.Spare = r.Spare.Text
			}
		}
	}
	q.f.Over = max(2*total, shortest)
	for _, w := range p.Waves {
		for _, m := range w.Machines {
			q.f.Drained[m] = true
		}
	}
	for _, m := range p.Later {
		q.f.Drained[m] = true
	}
	maps.Copy(q.f.Drained, leaves)
	for _, x := range s.Decl.Exceptions {
		q.f.Accepted[x.Rule] = x.Reason
	}
	if p.From != "" {
		q.f.From, q.f.To = versions.Minor(p.From), versions.Minor(p.To)
		if v.Aim.Stage != nil { // the whole way, not just its next hop
			q.f.To = versions.Minor(v.Aim.Stage.Road.To)
		}
	}
	q.gather(ctx)
	out.Concerns = beforehand.Judge(q.f)
	return out
}

// asking gathers facts, from several places together.
type asking struct {
	s  *session.Session
	v  *View
	mu sync.Mutex
	f  beforehand.Facts
}

// unlooked notes what could not be looked at.
func (q *asking) unlooked(what string, err error) {
	if err == nil {
		return
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.f.Unlooked = append(q.f.Unlooked, fmt.Sprintf("%s: %v", what, err))
}

func (q *asking) gather(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 2*session.LookTimeout)
	defer cancel()
	var wg sync.WaitGroup
	if q.v.Seen.API {
		wg.Go(func() { q.askAPI(ctx) })
	}
	if q.v.Seen.Founded {
		wg.Go(func() { q.askDatastore(ctx) })
	}
	wg.Wait()
	q.unlooked("what ends before it does", q.askTrust())
	slices.Sort(q.f.Unlooked)
	slices.SortFunc(q.f.Asked, func(a, b beforehand.Asked) int { return strings.Compare(a.Server+a.Resource, b.Server+b.Resource) })
}

// askAPI asks who uses what goes, and which webhooks could be in the way.
func (q *asking) askAPI(ctx context.Context) {
	k, err := q.s.Kube(q.v.Cluster)
	if err != nil {
		q.unlooked("what the API says", err)
		return
	}
	var wg sync.WaitGroup
	if going := versions.Ceased(q.f.From, q.f.To); len(going) > 0 {
		for _, m := range q.v.Cluster.With(versions.API) {
			if !q.v.Seen.Machines[m.Name].Exists {
				continue
			}
			wg.Go(func() {
				as, err := k.Deprecated(ctx, m.Name, session.APIAddr(m))
				q.unlooked("what clients ask of the API server on "+m.Name, err)
				q.mu.Lock()
				defer q.mu.Unlock()
				q.f.Asked = append(q.f.Asked, as...)
			})
		}
		wg.Go(func() {
			ws, not, err := k.Written(ctx, going)
			q.unlooked("in which versions objects were written", err)
			q.mu.Lock()
			defer q.mu.Unlock()
			q.f.Written, q.f.Unlooked = ws, append(q.f.Unlooked, not...)
		})
	}
	wg.Go(func() {
		hooks, err := k.Webhooks(ctx)
		q.unlooked("which admission webhooks could refuse pods", err)
		q.mu.Lock()
		defer q.mu.Unlock()
		q.f.Webhooks = hooks
	})
	wg.Wait()
}

// askDatastore asks the members how they are inside.
func (q *asking) askDatastore(ctx context.Context) {
	d, err := q.s.Datastore(q.v.Cluster)
	if err != nil {
		q.unlooked("how the datastore is", err)
		return
	}
	cs, silent, err := d.Conditions(ctx)
	if err != nil {
		q.unlooked("how the datastore is", err)
		return
	}
	names := map[uint64]string{}
	for n, m := range q.v.Seen.Members {
		names[m.ID] = n
	}
	name := func(id uint64) string { return cmp.Or(names[id], fmt.Sprintf("%x", id)) }
	for _, id := range slices.Sorted(maps.Keys(silent)) {
		q.unlooked("how the datastore's member on "+name(id)+" is", silent[id])
	}
	for _, c := range cs {
		q.f.Members = append(q.f.Members, beforehand.Member{Name: name(c.ID), Alarms: c.Alarms, Size: c.Size, Quota: c.Quota, Behind: c.Behind})
	}
}

// askTrust lists what nobody makes anew in the course of a run, with its end: authorities, and
// certificates that are not due for renewal.
func (q *asking) askTrust() error {
	t, err := q.s.Trust()
	if err != nil || t.Certs[string(trust.Cluster)] == nil {
		return err
	}
	due, err := vouch.Due(q.s, q.v.Cluster, t, q.f.Now)
	if err != nil {
		return err
	}
	add := func(what, id string) error {
		c, err := trust.DecodeCert(t.Certs[id])
		if err == nil {
			q.f.Endings = append(q.f.Endings, beforehand.Ending{What: what, NotAfter: c.NotAfter})
		}
		return err
	}
	for _, a := range trust.Authorities {
		if t.Certs[string(a)] == nil {
			continue
		}
		if err := add(strings.ReplaceAll(string(a), "-", " "), string(a)); err != nil {
			return err
		}
	}
	for _, r := range vouch.Certificates(q.v.Cluster) {
		if _, renewed := due[r.ID]; renewed || t.Certs[r.ID] == nil {
			continue
		}
		if err := add("certificate "+r.ID, r.ID); err != nil {
			return err
		}
	}
	return nil
}
