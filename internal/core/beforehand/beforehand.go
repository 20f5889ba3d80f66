package beforehand

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
)

// The rules by which concerns are known; the table of rules of the declaration has them, too,
// so that an exception can name those that are open to one.
const (
	APIGone         = "api-version-gone"
	APIWritten      = "api-version-written"
	WebhookUnserved = "webhook-unserved"
	WebhookAlone    = "webhook-alone"
	Alarm           = "datastore-alarm"
	Full            = "datastore-full"
	Behind          = "datastore-behind"
	Ends            = "certificate-ends"
	NoPlace         = "pod-without-place"
	InVain          = "drain-in-vain"
	NoSpare         = "no-spare-room"
	Unlooked        = "not-looked-at"
)

// Concern is something that a person should know, or see to, before a roll-out begins.
type Concern struct {
	Severity declare.Severity `json:"severity"`
	Rule     string           `json:"rule"`
	What     string           `json:"what"`
	Todo     string           `json:"todo"`
	Reason   string           `json:"reason,omitempty"` // why it is accepted, by an exception
}

func (c Concern) String() string {
	if c.Reason != "" {
		return fmt.Sprintf("%s; accepted: %s [%s]", c.What, c.Reason, c.Rule)
	}
	return fmt.Sprintf("%s; %s [%s]", c.What, c.Todo, c.Rule)
}

// Asked is an API version that clients asked a server for since it started, as the server's
// metric apiserver_requested_deprecated_apis has it.
type Asked struct {
	Server                   string
	Group, Version, Resource string
	Removed                  int // minor that does not serve it any more
}

// Written is an object of which fields were written in an API version that goes.
type Written struct {
	versions.Ceasing
	Object  string // namespace/name, or name
	Manager string // who wrote them
	When    time.Time
}

// Webhook is an admission webhook that is asked about pods or nodes.
type Webhook struct {
	Config, Name string
	Ignored      bool     // its failure policy lets requests pass without it
	Service      string   // namespace/name; empty: it is reached at a URL, of which nothing is known
	On           []string // nodes with a ready pod behind the service
}

// Member is how a member of the datastore is.
type Member struct {
	Name        string
	Alarms      []string
	Size, Quota int64  // bytes; a quota of 0 is not known
	Behind      uint64 // entries of the log that it has not taken yet, and the leader has
}

// Ending is a certificate that nobody renews by themselves in this roll-out.
type Ending struct {
	What     string
	NotAfter time.Time
}

// Facts are what was gathered.
type Facts struct {
	Now      time.Time
	Over     time.Duration // within which the roll-out should be over, in a bad case
	From, To int           // minors; the same without an upgrade
	Asked    []Asked
	Written  []Written
	Webhooks []Webhook
	Members  []Member
	Endings  []Ending
	Drained  map[string]bool // machines that are emptied
	Meets    []string        // what drains meet that they can end with, in words, by a rehearsal
	Vain     string          // why machines that are to go cannot be emptied, by a rehearsal; empty: they can
	Spare    string          // what would happen if one more machine failed, in words; empty: nothing
	Unlooked []string        // what could not be looked at, with the reason
	Accepted map[string]string
}

// Thresholds of the datastore. The share is one at which there is time left to act; the gap is
// the one from which on etcd itself refuses requests of a member (5,000 entries).
const (
	fullShare = 0.8
	mostGap   = 5000
)

// mostMet is how much of what drains meet is told one by one.
const mostMet = 6

// Judge says what is of concern: errors first, each kind together.
func Judge(f Facts) []Concern {
	j := &judge{f: f}
	j.asked()
	j.written()
	j.webhooks()
	j.members()
	j.endings()
	for i, m := range f.Meets {
		if i == mostMet {
			j.add(declare.Warning, NoPlace, fmt.Sprintf("drains meet %d more of the kind", len(f.Meets)-i), "verbund rehearse shows them")
			break
		}
		j.add(declare.Warning, NoPlace, m, "it waits until there is room: keep or add machines that take it, or let fewer of it run")
	}
	if f.Vain != "" {
		j.add(declare.Error, InVain, f.Vain, "keep machines that take its pods, or change their budgets or number first; or accept it by an exception with a reason")
	}
	if f.Spare != "" {
		j.add(declare.Warning, NoSpare, f.Spare, "it goes on as long as nothing fails; smaller batches, a surge or another machine leave room")
	}
	for _, u := range f.Unlooked {
		j.add(declare.Warning, Unlooked, "it was not looked at "+u, "look yourself before you go on")
	}
	slices.SortStableFunc(j.out, func(a, b Concern) int { return cmp.Compare(rank(a), rank(b)) })
	return j.out
}

func rank(c Concern) int {
	if c.Severity == declare.Error {
		return 0
	}
	return 1
}

type judge struct {
	f   Facts
	out []Concern
}

func (j *judge) add(s declare.Severity, rule, what, todo string) {
	c := Concern{s, rule, what, todo, ""}
	if why, ok := j.f.Accepted[rule]; ok && s == declare.Error && declare.OpenRule(rule) {
		c.Severity, c.Reason = declare.Warning, why
	}
	j.out = append(j.out, c)
}

// goes says whether a minor on the way ceases to serve something.
func (j *judge) goes(removed int) bool { return removed > j.f.From && removed <= j.f.To }

// use is the advice what to ask for instead.
func use(instead string) string {
	if instead == "" {
		return "no version takes its place under this name: look up what does, and move whoever uses it"
	}
	return "have whoever uses it use " + instead
}

func (j *judge) asked() {
	servers := map[Asked][]string{}
	var order []Asked
	for _, a := range j.f.Asked {
		if !j.goes(a.Removed) {
			continue
		}
		s := a.Server
		a.Server = ""
		if servers[a] == nil {
			order = append(order, a)
		}
		servers[a] = append(servers[a], s)
	}
	for _, a := range order {
		instead := ""
		for _, c := range versions.Ceased(a.Removed-1, a.Removed) {
			if c.Group == a.Group && c.Version == a.Version && c.Instead != "" {
				instead = c.Instead
			}
		}
		slices.Sort(servers[a])
		j.add(declare.Error, APIGone, fmt.Sprintf("somebody asks for %s of %s/%s, which v1.%d does not serve any more (asked of %s since the API server there started)", a.Resource, a.Group, a.Version, a.Removed, strings.Join(servers[a], ", ")),
			use(instead)+", and start that API server anew, so that it forgets; or accept it by an exception with a reason")
	}
}

func (j *judge) written() {
	type by struct{ gv, kind, manager string }
	seen := map[by][]Written{}
	var order []by
	for _, w := range j.f.Written {
		if !j.goes(w.Removed) {
			continue
		}
		k := by{w.GroupVersion(), w.Kind, w.Manager}
		if seen[k] == nil {
			order = append(order, k)
		}
		seen[k] = append(seen[k], w)
	}
	for _, k := range order {
		ws := seen[k]
		last := slices.MaxFunc(ws, func(a, b Written) int { return a.When.Compare(b.When) })
		more := ""
		if len(ws) > 1 {
			more = fmt.Sprintf(" and %d more", len(ws)-1)
		}
		when := ""
		if !last.When.IsZero() {
			when = ", last on " + last.When.UTC().Format("2006-01-02")
		}
		j.add(declare.Warning, APIWritten, fmt.Sprintf("%s wrote %s %s%s as %s%s, and v1.%d takes that no more", k.manager, k.kind, last.Object, more, k.gv, when, last.Removed), use(last.Instead)+"; the objects themselves stay")
	}
}

func (j *judge) webhooks() {
	for _, w := range j.f.Webhooks {
		if w.Ignored || w.Service == "" {
			continue
		}
		name := fmt.Sprintf("admission webhook %s (%s)", w.Name, w.Config)
		leave := slices.DeleteFunc(slices.Clone(w.On), func(n string) bool { return !j.f.Drained[n] })
		switch {
		case len(w.On) == 0:
			j.add(declare.Error, WebhookUnserved, fmt.Sprintf("%s is asked about pods, and nobody is ready behind its service %s: pods that are moved would be refused", name, w.Service),
				"bring its pods back, or take the webhook away; or accept it by an exception with a reason")
		case len(leave) == len(w.On) && len(w.On) == 1:
			j.add(declare.Warning, WebhookAlone, fmt.Sprintf("%s is answered from %s alone, which is emptied: while its pod moves, pods are refused", name, w.On[0]), "give it a second pod on another machine")
		}
	}
}

func (j *judge) members() {
	for _, m := range j.f.Members {
		for _, a := range m.Alarms {
			todo := "look into it before anything else: verbund logs " + m.Name + " -u etcd"
			if a == "NOSPACE" {
				todo = "make room (compact and defragment it, or give it a larger quota), and disarm the alarm"
			}
			j.add(declare.Error, Alarm, fmt.Sprintf("the datastore's member on %s has raised the alarm %s", m.Name, a), todo)
		}
		if m.Quota > 0 && float64(m.Size) > fullShare*float64(m.Quota) {
			j.add(declare.Warning, Full, fmt.Sprintf("the datastore's member on %s has %s of the %s that it may have", m.Name, declare.Bytes(m.Size&^(1<<20-1)), declare.Bytes(m.Quota)), "compact and defragment it, or give it a larger quota: when it is full nothing is written any more")
		}
		if m.Behind > mostGap {
			j.add(declare.Warning, Behind, fmt.Sprintf("the datastore's member on %s is %d entries behind the leader", m.Name, m.Behind), "let it catch up first: a slow disk or network is the usual reason")
		}
	}
}

func (j *judge) endings() {
	until := j.f.Now.Add(j.f.Over)
	for _, e := range j.f.Endings {
		if e.NotAfter.After(until) {
			continue
		}
		when := "ends at " + e.NotAfter.UTC().Format("2006-01-02 15:04") + " UTC, and the roll-out may take until " + until.UTC().Format("2006-01-02 15:04")
		if !e.NotAfter.After(j.f.Now) {
			when = "has ended, at " + e.NotAfter.UTC().Format("2006-01-02 15:04") + " UTC"
		}
		j.add(declare.Error, Ends, e.What+" "+when, "replace it first: verbund trust list says how each of them is made anew")
	}
}
