package enter

import (
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/memory"
	"verbund/internal/core/trust"
	"verbund/internal/engine/act"
	"verbund/internal/engine/kubeconfig"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/kube"
)

// The lives that access can have.
const (
	leastAccess    = 5 * time.Minute
	mostAccess     = 24 * time.Hour
	breakGlassLife = 30 * time.Minute
	mostBreakGlass = time.Hour
)

// wanted is the access that somebody asks for.
type wanted struct {
	person string
	groups []string
	life   time.Duration
	glass  bool
	reason string
}

// AccessCmd is verbund access.
func AccessCmd(a *desk.App) *cobra.Command {
	var q request
	c := &cobra.Command{
		Use: "access", Short: "Give a person a kubeconfig, for a few hours", Args: term.NoArgs,
		Long: `Prints a kubeconfig that points at the cluster's endpoint, for eight hours. It
names the endpoint as tls-server-name, so that it works where the name does not
resolve. With --merge it is put into an existing file: what is there stays, a copy
of the file is kept beside it, and the current context changes only if there is none.

The certificate in it has the person's name and groups; what these may do is
said, and follows from the cluster's role bindings. A certificate cannot be called
back: --list shows who has one, and until when. --break-glass is for when the role
bindings themselves are broken: it may do everything, wants a reason, and is
journaled as that.

Where the authority's key is outside, --request writes what has to be signed there,
and the person's key beside it; with --certificate and --key the answer becomes a
kubeconfig.`,
		Example: "  verbund access --merge ~/.kube/config\n  verbund access --person maren --groups readers --for 2h\n  verbund access --break-glass --reason 'role bindings were deleted'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			switch {
			case q.list:
				return listAccess(a, s)
			case q.login:
				return giveLoginKey(a, s)
			}
			changed := cmd.Flags().Changed
			if !q.answered() {
				if err := q.check(changed("groups"), changed("for"), q.life); err != nil {
					return err
				}
				if q.file != "" {
					return requestAccess(a, s, q.wanted, q.file)
				}
			}
			kc, given, err := q.entry(s, changed)
			if err != nil {
				return err
			}
			return hand(a, s, kc, given, q.merge)
		},
	}
	who := "operator"
	if u, err := user.Current(); err == nil && u.Username != "" && u.Username != "root" {
		who = u.Username
	}
	c.Flags().StringVar(&q.merge, "merge", "", "put it into this kubeconfig file")
	c.Flags().BoolVar(&q.login, "login-key", false, "instead, the private key with which one logs in to the machines as root")
	c.Flags().BoolVar(&q.list, "list", false, "instead, who was given access, and until when it works")
	c.Flags().StringVar(&q.person, "person", who, "the person's name")
	c.Flags().StringSliceVar(&q.groups, "groups", []string{kube.Operators}, "the person's groups; role bindings say what they may do")
	c.Flags().StringVar(&q.life, "for", "8h", "how long it works, a day at most")
	c.Flags().BoolVar(&q.glass, "break-glass", false, "everything, whatever role bindings say; half an hour if not said otherwise, an hour at most")
	c.Flags().StringVar(&q.reason, "reason", "", "of --break-glass: why")
	c.Flags().StringVar(&q.file, "request", "", "where the authority's key is outside: write the request for it to FILE.csr, and the key to FILE.key")
	c.Flags().StringVar(&q.answer.cert, "certificate", "", "the certificate that was signed outside for such a request")
	c.Flags().StringVar(&q.answer.key, "key", "", "its key")
	return c
}

// request is what somebody asks of the command.
type request struct {
	wanted
	merge  string // kubeconfig file
	life   string
	file   string // to write what has to be signed outside
	answer signed
	login  bool
	list   bool
}

// answered says that there is a certificate which was signed outside.
func (q *request) answered() bool { return q.answer.cert != "" || q.answer.key != "" }

// entry makes a kubeconfig: with a certificate that was signed outside, or a new one.
func (q *request) entry(s *session.Session, changed func(flag string) bool) (*clientcmdapi.Config, memory.Given, error) {
	var none memory.Given
	if q.answered() {
		for _, f := range []string{"person", "groups", "for", "break-glass", "request"} {
			if changed(f) {
				return nil, none, term.Usage("--%s cannot be said of an answer: who it is for, and until when, is in the certificate", f)
			}
		}
		return q.answer.access(s)
	}
	if s.Decl.Trust.Keys == "outside" {
		return nil, none, term.Usage("the key of cluster-authority is outside: write a request with verbund access --request FILE.csr, have it signed there, and come back with --certificate and --key")
	}
	return access(s, q.wanted)
}

// giveLoginKey prints the key with which one logs in to the machines. It lets its bearer in
// as root, everywhere and for good: that is written down.
func giveLoginKey(a *desk.App, s *session.Session) error {
	b, err := s.LoginKey()
	if err != nil {
		return err
	}
	if err := a.Noted(s, nil, "access --login-key", func(*act.Run) (string, error) {
		return "gave out the key with which one logs in to the machines as root", nil
	}); err != nil {
		return err
	}
	_, err = a.Out.Write(b)
	return err
}

// hand gives access out, which is remembered before: printed, or merged into a file.
func hand(a *desk.App, s *session.Session, kc *clientcmdapi.Config, given memory.Given, merge string) error {
	if merge == "" {
		if err := journalAccess(a, s, given); err != nil {
			return err
		}
		b, err := clientcmd.Write(*kc)
		if err != nil {
			return err
		}
		_, err = a.Out.Write(b)
		sayRights(a, s, given)
		return err
	}
	may, err := kubeconfig.MayMerge(s, merge, kc)
	if err != nil {
		return err
	}
	// What cannot be written there is found before the journal says that it was.
	if err := os.MkdirAll(filepath.Dir(merge), 0o700); err != nil {
		return fmt.Errorf("the folder of %s: %w", merge, err)
	}
	if err := journalAccess(a, s, given); err != nil {
		return err
	}
	copied, err := kubeconfig.Merge(merge, kc, may)
	if err != nil {
		return err
	}
	abs, err := filepath.Abs(merge)
	if err != nil {
		return err
	}
	if err := s.Remember(func(st *memory.State) { st.Kubeconfigs[abs] = time.Now() }); err != nil {
		return err
	}
	a.UI.Say("context %s is in %s until %s", kc.CurrentContext, merge, given.Until.Local().Format("15:04"))
	if copied != "" {
		a.UI.Say("the file as it was: %s", copied)
	}
	sayRights(a, s, given)
	return nil
}

var personForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9@._-]{0,62}$`)

// check refuses what should not be given to a person.
func (w *wanted) check(groups, lived bool, life string) error {
	var err error
	most := mostAccess
	if w.glass {
		most = mostBreakGlass
		if !lived {
			life = breakGlassLife.String()
		}
	}
	if w.life, err = term.Span("for", life, leastAccess, most); err != nil {
		return err
	}
	if !personForm.MatchString(w.person) {
		return term.Usage("--person %q cannot be used; use letters, digits and @ . _ -", w.person)
	}
	for _, g := range w.groups {
		if strings.HasPrefix(g, "system:") {
			return term.Usage("group %s is Kubernetes' own and is not given to people; for an emergency there is --break-glass, and everything else is for role bindings", g)
		}
	}
	switch {
	case w.glass && groups:
		return term.Usage("--break-glass has its own group; leave --groups out")
	case w.glass && strings.TrimSpace(w.reason) == "":
		return term.Usage("--break-glass wants a --reason: it is journaled, and somebody will ask")
	case w.glass:
		w.groups = []string{vouch.BreakGlassGroup}
	}
	return nil
}

// access signs a short-lived certificate for a person.
func access(s *session.Session, w wanted) (*clientcmdapi.Config, memory.Given, error) {
	cert, key, ca, err := vouch.Person(s, trust.Access(w.person, w.groups, w.life))
	if err != nil {
		return nil, memory.Given{}, err
	}
	kc, g, err := entryFor(s, cert, key, ca)
	g.Reason = w.reason
	if w.glass {
		g.Kind = "break-glass"
	}
	return kc, g, err
}

// entryFor makes a person's kubeconfig of a certificate and its key.
func entryFor(s *session.Session, cert, key, ca []byte) (*clientcmdapi.Config, memory.Given, error) {
	var g memory.Given
	c, err := s.Topology()
	if err != nil {
		return nil, g, err
	}
	x, err := trust.DecodeCert(cert)
	if err != nil {
		return nil, g, err
	}
	g = vouch.GivenBy(x)
	name := s.Decl.Name
	entry := g.Name + "@" + name
	kc := clientcmdapi.NewConfig()
	kc.Clusters[name] = &clientcmdapi.Cluster{Server: fmt.Sprintf("https://%s:%d", c.Endpoint.Address, c.Endpoint.Port), TLSServerName: c.Endpoint.Name, CertificateAuthorityData: ca}
	kc.AuthInfos[entry] = &clientcmdapi.AuthInfo{ClientCertificateData: cert, ClientKeyData: key}
	kc.Contexts[entry] = &clientcmdapi.Context{Cluster: name, AuthInfo: entry}
	kc.CurrentContext = entry
	return kc, g, nil
}

// journalAccess remembers what is given before it is given.
func journalAccess(a *desk.App, s *session.Session, g memory.Given) error {
	if err := s.Remember(func(st *memory.State) { st.Give(g) }); err != nil {
		return err
	}
	return a.Noted(s, nil, map[bool]string{true: "access --break-glass", false: "access"}[g.Kind == "break-glass"], func(*act.Run) (string, error) {
		text := fmt.Sprintf("gave %s access to %s, groups %s, until %s, serial %s", g.Kind, g.Name, strings.Join(g.Groups, ", "), g.Until.Format(time.RFC3339), g.Serial)
		if g.Reason != "" {
			text += ", because " + g.Reason
		}
		return text, nil
	})
}

// sayRights says what a person's groups may do, as far as the cluster can be
// asked.
func sayRights(a *desk.App, s *session.Session, g memory.Given) {
	if g.Kind == "break-glass" {
		a.UI.Say("it may do everything, until %s; it is journaled with its reason, and cannot be called back", g.Until.Local().Format("15:04"))
		return
	}
	c, err := s.Topology()
	if err != nil {
		return
	}
	k, err := s.Kube(c)
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(a.Soft, 5*time.Second)
	defer cancel()
	rights, err := k.Rights(ctx, g.Name, g.Groups)
	switch {
	case err != nil:
		a.UI.Say("what %s may do cannot be said: the API does not answer", strings.Join(g.Groups, ", "))
	case len(rights) == 0:
		a.UI.Say("no role binding names %s, or groups %s: whoever has it may do next to nothing", g.Name, strings.Join(g.Groups, ", "))
	default:
		a.UI.Say("what it may do: %s", strings.Join(rights, "; "))
	}
}

// listAccess shows until when what was given works.
func listAccess(a *desk.App, s *session.Session) error {
	st, err := s.Store.Read()
	if err != nil {
		return err
	}
	gs := st.Givens
	t, err := s.Trust()
	if err != nil {
		return err
	}
	trusted := map[string]bool{}
	for _, id := range append(trust.Trusted(t.Certs, string(trust.Cluster)), string(trust.Programs)) {
		if ca, err := trust.DecodeCert(t.Certs[id]); err == nil {
			trusted[hex.EncodeToString(ca.SubjectKeyId)] = true
		}
	}
	list := []AccessSaid{}
	for _, g := range gs {
		list = append(list, AccessSaid{g, trusted[g.Authority] && time.Now().Before(g.Until)})
	}
	slices.SortFunc(list, func(x, y AccessSaid) int { return y.Until.Compare(x.Until) })
	if a.Output == "json" {
		return a.UI.JSON(list)
	}
	if len(list) == 0 {
		a.UI.Say("nobody was given access to cluster %s", s.Decl.Name)
		return nil
	}
	var rows [][]term.Cell
	for _, r := range list {
		state := term.Remaining(r.Until)
		if !trusted[r.Authority] {
			state = term.Cell{Text: "ended: its authority was replaced", State: "bad"}
		}
		kind := term.Plain(r.Kind)
		if r.Kind == "break-glass" {
			kind.State = "attention"
		}
		rows = append(rows, []term.Cell{term.Plain(r.Name), kind, term.Plain(cmp.Or(strings.Join(r.Groups, ", "), "-")), term.Plain(r.Serial), state, term.Plain(cmp.Or(r.Reason, "-"))})
	}
	a.UI.Table([]string{"name", "kind", "groups", "serial", "works", "reason"}, rows)
	return nil
}

// AccessSaid is access that was given, as JSON.
type AccessSaid struct {
	memory.Given
	Works bool `json:"works"`
}
