package keep

import (
	"fmt"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// MovedSaid is where a memory lies after it was moved, as JSON.
type MovedSaid struct {
	Cluster string `json:"cluster"`
	From    string `json:"from"`
	Store   string `json:"store"`          // where it lies now
	File    string `json:"file,omitempty"` // beside the declaration, which says so; none of a memory in the folder
}

// asWhom adds the flags that say as whom a memory elsewhere is asked.
func asWhom(c *cobra.Command) *store.Access {
	a := &store.Access{}
	c.Flags().StringVar(&a.Certificate, "cert", "", "file with the certificate with which you ask, in PEM")
	c.Flags().StringVar(&a.Key, "key", "", "file with its key, in PEM")
	c.Flags().StringVar(&a.User, "user", "", "the etcd user as whom you ask")
	c.Flags().StringVar(&a.PasswordFile, "password-file", "", "file with that user's password in its first line")
	return a
}

func storeMoveCmd(a *desk.App) *cobra.Command {
	var ca string
	c := &cobra.Command{
		Use: "move etcd://HOST[,HOST]/PREFIX | folder", Short: "Move what is remembered to an etcd that others share, or back", Args: term.ExactArgs(1, "the place: etcd://HOST[,HOST]/PREFIX, or folder"),
		Long: `Moves all that is remembered of the cluster to an etcd that is there already, below a
prefix of its own, or back into the folder beside the declaration: state, secrets, the
journal, and what opens the backups. Secrets stay closed as they are; etcd sees none.
A small file beside the declaration, NAME` + store.PlaceEnding + `, says where it lies: keep it in
version control, so that a colleague's clone finds it. As whom you ask is kept with your
own keys; a colleague says it with store reach.

It must not be the datastore of the cluster itself. Without --ca, an etcd on this
computer is asked without TLS. Backups lie where they lay.`,
		Example: "  verbund store move etcd://memory-1.boards.test,memory-2.boards.test/boards --ca ca.crt --cert mara.crt --key mara.key\n  verbund store move folder",
	}
	access := asWhom(c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		s, folder, err := openBeside(a)
		if err != nil {
			return err
		}
		defer s.Close()
		at, err := store.ReadPlace(folder, s.Decl.Name)
		if err != nil {
			return err
		}
		beside := store.At(folder, s.Decl.Name, a.Keys())
		m := &moving{a, s}
		if args[0] == "folder" {
			if at == nil {
				return term.Usage("what is remembered of cluster %s lies in its folder already", s.Decl.Name)
			}
			return m.to(beside, false, func() error { return at.Forget(folder, s.Decl.Name) })
		}
		p, err := store.ParsePlace(args[0])
		if err != nil {
			return term.Usage("%v", err)
		}
		if at != nil && at.String() == p.String() {
			// An earlier move was cut off, or there is nothing to do.
			if err := s.Store.Finish(beside); err != nil {
				return err
			}
			a.UI.Say("what is remembered of cluster %s lies at %s", s.Decl.Name, p)
			return nil
		}
		srv, err := serverAt(p, at, s.Decl.Name, ca, *access)
		if err != nil {
			return err
		}
		to := store.InEtcd(srv, folder, s.Decl.Name, a.Keys())
		defer to.Close()
		member, err := to.Member()
		if err != nil {
			return err
		}
		if err := keep.MayLie(a.Soft, s, p, member); err != nil {
			return err
		}
		return m.to(to, true, func() error {
			if err := p.Keep(a.Keys().Dir, *access); err != nil {
				return err
			}
			return p.Write(folder, s.Decl.Name)
		})
	}
	c.Flags().StringVar(&ca, "ca", "", "file with the authority that signed the members' certificates, in PEM")
	return a.Asks(c)
}

// serverAt completes a place to which the memory of a cluster is to go from where it is, and says how
// it is asked there.
func serverAt(p, from *store.Place, cluster, ca string, access store.Access) (store.Server, error) {
	p.ID = fmt.Sprintf("%s-%x", cluster, time.Now().UnixNano()&0xffffffff)
	if from != nil {
		p.ID = from.ID // the same one, in another place
	}
	if ca != "" {
		b, err := whole.Read(ca)
		if err != nil {
			return store.Server{}, term.Usage("--ca: %v", err)
		}
		p.Authority = string(b)
	}
	srv, err := p.Server(access)
	if err != nil {
		return srv, term.Usage("%v", err)
	}
	return srv, nil
}

// openBeside opens the declared cluster, whose memory has to be there, and says in which folder it
// is declared.
func openBeside(a *desk.App) (*session.Session, string, error) {
	path, err := a.FindDeclaration()
	if err != nil {
		return nil, "", err
	}
	s, err := a.Open(false)
	if err != nil {
		return nil, "", err
	}
	if !s.Store.Exists() {
		s.Close()
		return nil, "", fmt.Errorf("cluster %s has no store yet; converge or render makes it", s.Decl.Name)
	}
	return s, filepath.Dir(path), nil
}

// moving is a memory on its way.
type moving struct {
	*desk.App
	*session.Session
}

// to moves it; shared says that others find it there, by the file beside the declaration.
func (m *moving) to(to *store.Store, shared bool, told func() error) error {
	from := m.Store.Where()
	if err := m.Ask(fmt.Sprintf("Move what is remembered of cluster %s from %s to %s?", m.Decl.Name, from, to.Where())); err != nil {
		return err
	}
	release, err := m.Store.Lock("store move")
	if err != nil {
		return err
	}
	defer release()
	if err := m.Store.Move(to, told); err != nil {
		return err
	}
	said, file := MovedSaid{Cluster: m.Decl.Name, From: from, Store: to.Where()}, m.Decl.Name+store.PlaceEnding
	if shared {
		said.File = file
	}
	if m.Output == "json" {
		return m.JSON(said)
	}
	m.Say("what is remembered of cluster %s lies at %s", m.Decl.Name, to.Where())
	if shared {
		m.Say("others find it by %s, beside the declaration: put that into version control. Each says once as whom: verbund store reach --cert FILE --key FILE", file)
	} else {
		m.Say("%s is gone: take it out of version control, too", file)
	}
	return nil
}

func storeReachCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "reach", Short: "Say as whom this computer asks a memory that others share", Args: term.NoArgs,
		Long: `Says with which certificate, or as which user, this computer asks the etcd in which
what is remembered of the cluster lies. It tries it first, and keeps it with your own
keys, outside the working folder. Your name there, from the certificate or the user,
stands in the lock that you hold and in the journal.`,
		Example: "  verbund store reach --cert tomas.crt --key tomas.key",
	}
	access := asWhom(c)
	c.RunE = func(*cobra.Command, []string) error {
		path, err := a.FindDeclaration()
		if err != nil {
			return err
		}
		r, err := a.Read(path)
		if err != nil {
			return err
		}
		p, err := store.ReadPlace(filepath.Dir(path), r.Decl.Name)
		if err != nil {
			return err
		}
		if p == nil {
			return term.Usage("what is remembered of cluster %s lies in its folder, and nobody has to be asked for it", r.Decl.Name)
		}
		srv, err := p.Server(*access)
		if err != nil {
			return term.Usage("%v", err)
		}
		st := store.InEtcd(srv, filepath.Dir(path), r.Decl.Name, a.Keys())
		defer st.Close()
		if _, err := st.Read(); err != nil {
			return err
		}
		if err := p.Keep(a.Keys().Dir, *access); err != nil {
			return err
		}
		a.UI.Say("this computer asks %s as %s", p, srv.Who)
		return nil
	}
	return c
}
