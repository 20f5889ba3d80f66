package converge

import (
	"context"
	"fmt"

	"verbund/internal/core/plan"
	"verbund/internal/core/proof"
	"verbund/internal/engine/look"
	"verbund/internal/store"
)

// Asker has a person's word and tells them what happens; it may be a terminal, a pipe, or
// a test. An error of a question is a no, and nothing has been written then.
type Asker interface {
	// Say tells in a line what happens, Problem what is in the way.
	Say(format string, args ...any)
	Problem(text string)
	// Ask wants a yes to a question that names the cluster.
	Ask(question string) error
	// AskByName wants the cluster's name, because what it says could be lost.
	AskByName(cluster, what string) error
	// Named says whether the cluster's name was given beforehand.
	Named(cluster string) bool
	// Agree shows what will be done, where a person looks on, and wants a yes. To whom the plan is
	// not shown it says notToMiss, what nobody should miss of it.
	Agree(question string, notToMiss []string, p *plan.Plan, v *look.View) error
	// Watch shows a run as it goes on.
	Watch(steps []plan.Step) Watcher
	// Proof shows whether the old one is refused everywhere.
	Proof(id string, claims []look.Proved) error
}

// Watcher shows a run: Start and Stop are around its steps, Entry gets every entry of the
// journal as it is written, Finish says how it ended.
type Watcher interface {
	Start()
	Entry(e store.Entry)
	Stop()
	Finish(run string, err error)
}

// Host is the computer that the command runs on, where a site's process may be the tool's
// own to start and to end.
type Host interface {
	// Start makes sure that the site's process runs, and says so if it had to be started.
	Start() error
	// Leave ends the site if no cluster has a machine there any more.
	Leave(ctx context.Context) error
	// OpenedBy says what opens what is protected so.
	OpenedBy(p store.Protection) string
}

// Mistake is something that cannot be asked for as things are.
type Mistake struct{ Err error }

func (m *Mistake) Error() string { return m.Err.Error() }

func (m *Mistake) Unwrap() error { return m.Err }

func mistake(format string, args ...any) error { return &Mistake{fmt.Errorf(format, args...)} }

// Pending is a cluster that is not as declared, where it has to be.
type Pending struct{ Err error }

// Unproven is a cluster that is as declared, and did not answer as it should when it was used.
type Unproven struct{ Report *proof.Report }

func (u *Unproven) Error() string {
	return fmt.Sprintf("everything is as declared, and %s; verbund prove shows all of it", u.Report)
}

func (p *Pending) Error() string { return p.Err.Error() }

func (p *Pending) Unwrap() error { return p.Err }
