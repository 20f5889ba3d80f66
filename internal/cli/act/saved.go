package act

import (
	"cmp"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/plan"
	"verbund/internal/core/saved"
	"verbund/internal/core/sshsig"
	"verbund/internal/core/words"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

// SavedSaid is a plan in a file, as JSON.
type SavedSaid struct {
	File string `json:"file"`
	saved.Plan
	SignedBy  []string `json:"signedBy"`
	Worthless []string `json:"worthless"` // signatures that count for nobody, and why
	Wanted    int      `json:"wanted"`    // signatures, for the steps that cannot be undone
}

// savePlan writes a plan into a file.
func savePlan(a *desk.App, s *session.Session, v *look.View, p *plan.Plan, only, file, within string) error {
	span, err := term.Span("within", within, time.Minute, 30*24*time.Hour)
	if err != nil {
		return err
	}
	if err := converge.Savable(p, v); err != nil {
		return err
	}
	sp, err := converge.SaveAs(s, v, p, only, time.Now(), span)
	if err != nil {
		return err
	}
	b, err := sp.Encode()
	if err != nil {
		return err
	}
	if err := whole.Write(file, b, 0o644); err != nil {
		return err
	}
	a.UI.Say("saved %s into %s, to be carried out until %s: verbund converge --plan %s", words.Count(len(sp.Steps), "step"), file, sp.Until.Local().Format("2006-01-02 15:04"), file)
	return nil
}

// openPlan reads a plan from a file, with the signatures that lie beside it: FILE.sig, as ssh-keygen
// names one, and FILE.NAME.sig.
func openPlan(file string) (*converge.Agreed, error) {
	b, err := whole.Read(file)
	if err != nil {
		return nil, term.Usage("the plan: %v", err)
	}
	p, err := saved.Read(b)
	if err != nil {
		return nil, term.Usage("%s: %v", file, err)
	}
	out := &converge.Agreed{File: file, Plan: p, Text: b, Signatures: saved.Signatures{}}
	for _, f := range whole.Named(filepath.Dir(file), ".sig") {
		if !strings.HasPrefix(filepath.Base(f), filepath.Base(file)+".") {
			continue
		}
		if out.Signatures[filepath.Base(f)], err = whole.Read(f); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// planFile opens the cluster that is declared, and a plan of it.
func planFile(a *desk.App, file string) (*session.Session, *converge.Agreed, error) {
	agreed, err := openPlan(file)
	if err != nil {
		return nil, nil, err
	}
	s, err := a.Open(false)
	if err != nil {
		return nil, nil, err
	}
	if agreed.Plan.Cluster != s.Decl.Name {
		s.Close()
		return nil, nil, term.Usage("%s is a plan of cluster %s, and %s is declared here", file, agreed.Plan.Cluster, s.Decl.Name)
	}
	return s, agreed, nil
}

// signatures says who has signed a plan.
func signatures(s *session.Session, x *converge.Agreed) (saved.Signers, *SavedSaid, error) {
	p, err := s.Store.Protection()
	if err != nil {
		return nil, nil, err
	}
	who := converge.Signers(p)
	by, worthless := saved.Approved(x.Text, x.Signatures, who)
	out := &SavedSaid{File: x.File, Plan: *x.Plan, SignedBy: term.List(by), Worthless: term.List(worthless)}
	if len(x.Plan.Final()) > 0 {
		out.Wanted = s.Decl.Approvals.Final
	}
	return who, out, nil
}

func planShowCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "show FILE", Short: "Show a plan that was saved, and who has signed it", Args: term.ExactArgs(1, "a file that plan --save has written"),
		RunE: func(_ *cobra.Command, args []string) error {
			s, x, err := planFile(a, args[0])
			if err != nil {
				return err
			}
			defer s.Close()
			_, said, err := signatures(s, x)
			if err != nil {
				return err
			}
			if a.Output == "json" {
				return a.UI.JSON(said)
			}
			showSaved(a, said)
			return nil
		},
	}
}

// showSaved shows a plan as it lies in its file: what goes for good first.
func showSaved(a *desk.App, p *SavedSaid) {
	final := p.Final()
	rows := []term.Field{
		{Name: "plan", Cell: term.Plain(fmt.Sprintf("%s, of cluster %s: %s", p.File, p.Cluster, words.Count(len(p.Steps), "step")))},
		{Name: "saved", Cell: term.Plain(p.Made.Local().Format("2006-01-02 15:04"))},
	}
	until := term.Plain(p.Until.Local().Format("2006-01-02 15:04"))
	if time.Now().After(p.Until) {
		until = term.Cell{Text: until.Text + ", which is over", State: "bad"}
	}
	rows = append(rows, term.Field{Name: "until", Cell: until})
	add := func(name, state, text string) {
		rows = append(rows, term.Field{Name: name, Cell: term.Cell{Text: text, State: state}})
	}
	for _, r := range p.Removes {
		add("removes", "attention", r)
	}
	for _, e := range p.Endangers {
		add("careful", "bad", e)
	}
	for _, f := range final {
		add("for good", "attention", fmt.Sprintf("%s: %s", cmp.Or(f.Machine, "cluster"), f.Text))
	}
	if p.More {
		add("after it", "attention", "something is to be done that is planned anew then")
	}
	signed, state := "by nobody", "attention"
	if len(p.SignedBy) > 0 {
		signed = "by " + strings.Join(p.SignedBy, ", ")
	}
	if p.Wanted > 0 {
		signed += fmt.Sprintf("; %d wanted, for what cannot be undone", p.Wanted)
	}
	if len(p.SignedBy) >= p.Wanted {
		state = "good"
	}
	add("signed", state, signed)
	for _, w := range p.Worthless {
		add("worthless", "bad", w)
	}
	a.UI.Fields(rows)
	fmt.Fprintln(a.Out)
	var steps [][]term.Cell
	for _, s := range p.Steps {
		steps = append(steps, term.Cells(cmp.Or(s.Machine, "cluster"), s.Text, s.Why))
	}
	a.UI.Table([]string{"where", "what", "why"}, steps)
}

func planApproveCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "approve FILE", Short: "Sign a plan that was saved", Args: term.ExactArgs(1, "a file that plan --save has written"),
		Long: `Shows the plan, asks, and writes your signature of the file beside it, as
FILE.NAME.sig, in OpenSSH's format: ssh-keygen -Y verify -n ` + saved.Namespace + ` verifies it, and what
ssh-keygen -Y sign -n ` + saved.Namespace + ` FILE has written counts as well. It signs with the SSH
key with which you open the store: from ~/.ssh, or with --unlock FILE.`,
		Example: "  verbund plan --save tonight.plan\n  verbund plan approve tonight.plan\n  verbund converge --plan tonight.plan",
		RunE: func(_ *cobra.Command, args []string) error {
			s, x, err := planFile(a, args[0])
			if err != nil {
				return err
			}
			defer s.Close()
			who, said, err := signatures(s, x)
			if err != nil {
				return err
			}
			signer, name, err := signerOf(a, who)
			if err != nil {
				return err
			}
			if time.Now().After(x.Plan.Until) {
				return term.Usage("%s was to be carried out until %s; verbund plan --save makes another one", x.File, x.Plan.Until.Local().Format("2006-01-02 15:04"))
			}
			if a.Output != "json" && !a.Quiet {
				showSaved(a, said)
			}
			if err := a.Ask(fmt.Sprintf("Sign the plan in %s for cluster %s, as %s?", x.File, s.Decl.Name, name)); err != nil {
				return err
			}
			sig, err := sshsig.Sign(rand.Reader, signer, saved.Namespace, x.Text)
			if err != nil {
				return err
			}
			file := x.File + "." + name + ".sig"
			if err := whole.Write(file, sig, 0o644); err != nil {
				return err
			}
			a.UI.Say("signed as %s, in %s", name, file)
			return nil
		},
	}
	return a.Asks(c)
}

// signerOf is the SSH key of this person that counts, and whose it is.
func signerOf(a *desk.App, who saved.Signers) (ssh.Signer, string, error) {
	if len(who) == 0 {
		return nil, "", term.Usage("nobody opens the store with an SSH key, by which a signature would count: verbund store admit NAME KEY")
	}
	var why []string
	for _, f := range a.Keys().SSHKeys() {
		s, err := readSigner(a, f)
		if errors.Is(err, fs.ErrNotExist) {
			why = append(why, f+" is not there")
			continue
		}
		if err != nil {
			return nil, "", term.Usage("%s: %v", f, err)
		}
		if name := who.Signer(s.PublicKey()); name != "" {
			return s, name, nil
		}
		why = append(why, f+" is the key of nobody who opens the store")
	}
	return nil, "", term.Usage("%s; say with --unlock FILE which SSH key is yours, or have it admitted: verbund store admit NAME KEY", strings.Join(why, ", and "))
}

// readSigner reads an SSH private key, with its passphrase if it has one.
func readSigner(a *desk.App, file string) (ssh.Signer, error) {
	b, err := whole.Read(file)
	if err != nil {
		return nil, err
	}
	s, err := ssh.ParsePrivateKey(b)
	var locked *ssh.PassphraseMissingError
	if !errors.As(err, &locked) {
		return s, err
	}
	ask := a.Keys().Ask
	if ask == nil {
		return nil, errors.New("it is encrypted, and there is nobody to ask for its passphrase")
	}
	pass, err := ask("passphrase of " + file)
	if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKeyWithPassphrase(b, []byte(pass))
}
