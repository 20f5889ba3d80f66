package converge

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"verbund/internal/core/plan"
	"verbund/internal/core/saved"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Agreed is a plan that people have agreed on: it is carried out as it is, or not at all.
type Agreed struct {
	File string // for a person
	Plan *saved.Plan
	// Text is the file as it is, of which Signatures are.
	Text       []byte
	Signatures saved.Signatures
	by         []string // who has signed it
}

// inWords is a command as the journal has it, with who has agreed to it.
func (a *Agreed) inWords(command string) string {
	if a == nil || len(a.by) == 0 {
		return command
	}
	return command + ", signed by " + strings.Join(a.by, ", ")
}

// Changed is a plan that is not what would be done by now.
type Changed struct {
	File  string
	Since []string
}

func (c *Changed) Error() string {
	return fmt.Sprintf("the plan in %s is not what would be done now: %s; nothing was changed. verbund plan --save makes another one", c.File, strings.Join(c.Since, "; "))
}

// SaveAs is the plan of a cluster as it is saved, at a moment, to be carried out within some time.
func SaveAs(s *session.Session, v *look.View, p *plan.Plan, only string, at time.Time, within time.Duration) (*saved.Plan, error) {
	papers := map[string][]byte{}
	if s.Papers != nil {
		var err error
		if papers, err = s.Papers(); err != nil {
			return nil, err
		}
	}
	cat, err := s.Cat.Encode()
	if err != nil {
		return nil, err
	}
	hardware := map[string]string{}
	if v.Inventory != nil {
		for _, m := range v.Inventory.Machines {
			hardware[m.Name] = m.Hardware
		}
	}
	return saved.Of(s.Decl.Name, only, p, papers, cat, hardware, at, within), nil
}

// Savable says why a plan cannot be saved, if it cannot: it would not be what is carried out.
func Savable(p *plan.Plan, v *look.View) error {
	switch waking := p.Waking(v.Seen); {
	case len(p.Steps) == 0:
		return errors.New("nothing is to be done, and there is no plan to be saved")
	case v.Inventory == nil:
		return errors.New("the site does not say what it has, and a plan from that would be a guess: verbund site start")
	case len(waking) > 0:
		return fmt.Errorf("%s: what the rest needs shows only then. Do that first", waking[0].Text)
	}
	return nil
}

// Signers are whose signatures of a plan count: the people who open the store with an SSH key.
func Signers(p *store.Protection) saved.Signers {
	out := saved.Signers{}
	if p == nil {
		return out
	}
	if p.Kind == store.BySSHKey {
		out[p.Recipient] = "owner"
	}
	for _, w := range p.People {
		if strings.HasPrefix(w.Recipient, "ssh-") {
			out[w.Recipient] = w.Name
		}
	}
	return out
}

// unchanged refuses to carry out anything else than the plan that was agreed on.
func (x *converging) unchanged(t task, v *look.View) error {
	if x.Agreed == nil {
		return nil
	}
	now, err := SaveAs(x.Session, v, t.Plan, x.only, time.Now(), 0)
	if err != nil {
		return err
	}
	since := x.Agreed.Plan.Differs(now, time.Now())
	if v.Inventory == nil || len(t.Waking(v.Seen)) > 0 {
		since = append(since, "machines do not answer that are to be woken first")
	}
	if len(since) > 0 {
		return &Changed{x.Agreed.File, since}
	}
	return nil
}

// approved wants so many people's signatures for what cannot be undone as are declared.
func (w *Work) approved(steps []plan.Step) error {
	wanted, final := w.Decl.Approvals.Final, 0
	for _, s := range steps {
		if s.Final {
			final++
		}
	}
	var by, worthless []string
	if w.Agreed != nil {
		p, err := w.Store.Protection()
		if err != nil {
			return err
		}
		by, worthless = saved.Approved(w.Agreed.Text, w.Agreed.Signatures, Signers(p))
		w.Agreed.by = by
		for _, l := range worthless {
			w.Say("counts for nobody: %s", l)
		}
	}
	if wanted == 0 || final == 0 || len(by) >= wanted {
		if len(by) > 0 {
			w.Say("the plan is signed by %s", strings.Join(by, ", "))
		}
		return nil
	}
	what := fmt.Sprintf("%s cannot be undone, and approvals.final of cluster %s wants %s of the plan", words.Count(final, "step"), w.Decl.Name, words.Count(wanted, "signature"))
	if w.Agreed == nil {
		return mistake("%s; nothing was changed. verbund plan --save FILE saves it, each of them says verbund plan approve FILE, and verbund converge --plan FILE carries it out. What is not declared cannot be saved: for that, take approvals out of the declaration", what)
	}
	has := "nobody has signed it"
	if len(by) > 0 {
		has = "only " + strings.Join(by, ", ") + " signed it"
	}
	return mistake("%s; %s. Nothing was changed: verbund plan approve %s", what, has, w.Agreed.File)
}
