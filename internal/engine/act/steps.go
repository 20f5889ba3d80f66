package act

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/kube"
	"verbund/internal/machine/protocol"
	"verbund/internal/site"
	"verbund/internal/store"
)

// carrier carries out one kind of step: it looks, does and confirms.
type carrier func(r *Run, ctx context.Context, s plan.Step, m topology.Machine) error

// carriers carry out every kind of step that there is.
var carriers = map[plan.Kind]carrier{
	plan.Get: func(r *Run, ctx context.Context, s plan.Step, m topology.Machine) error {
		if m.Name == "" {
			return r.wake(ctx, s.Machine) // it is on its way out
		}
		return r.get(ctx, m)
	},
	plan.Wipe:   func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.wipe(ctx, m) },
	plan.Pull:   func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.pull(ctx, m) },
	plan.Vouch:  func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.writePairs(ctx, m) },
	plan.Move:   func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.move(ctx, m) },
	plan.Carry:  func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.carry(ctx, m) },
	plan.Member: func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.joinMember(ctx, m) },
	plan.Control: func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error {
		return r.startControl(ctx, m)
	},
	plan.Balance: func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error {
		return r.startBalancer(ctx, m)
	},
	plan.Entrust: func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.entrust(ctx, m) },
	plan.Label:   func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.label(ctx, m) },
	plan.Ready:   func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.ready(ctx, m) },
	plan.Switch:  func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.swap(ctx, m) },
	plan.Refresh: func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error { return r.refresh(ctx, m) },
	plan.Node: func(r *Run, ctx context.Context, s plan.Step, m topology.Machine) error {
		return r.startNode(ctx, s, m)
	},
	plan.Halt: func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error {
		return r.halt(ctx, s.Machine)
	},
	plan.Found:   func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.found(ctx, s) },
	plan.Drop:    func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.leave(ctx, s) },
	plan.Leave:   func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.leave(ctx, s) },
	plan.Backup:  func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.backup(ctx, s) },
	plan.Drain:   func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.drain(ctx, s) },
	plan.Network: func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.addOn(ctx, s) },
	plan.DNS:     func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.addOn(ctx, s) },
	plan.Unnode: func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error {
		return r.unnode(ctx, s.Machine)
	},
	plan.Release: func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error {
		return r.release(ctx, s.Machine)
	},
	plan.Return: func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error {
		return r.rest(ctx, m.Name, false)
	},
	plan.Roles:  func(r *Run, ctx context.Context, _ plan.Step, _ topology.Machine) error { return r.roles(ctx) },
	plan.Answer: func(r *Run, ctx context.Context, _ plan.Step, _ topology.Machine) error { return r.answers(ctx) },
	plan.Uncordon: func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error {
		return r.uncordon(ctx, m.Name)
	},
	plan.Wave:   func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.beginWave(ctx, s) },
	plan.Soak:   func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.soak(ctx, s) },
	plan.Pause:  func(r *Run, _ context.Context, s plan.Step, _ topology.Machine) error { return r.hold(s) },
	plan.Verify: func(r *Run, ctx context.Context, _ plan.Step, _ topology.Machine) error { return r.over(ctx) },
	plan.Write: func(r *Run, ctx context.Context, s plan.Step, m topology.Machine) error {
		if len(s.Files) > 0 {
			return r.writeOnly(ctx, m, s.Files)
		}
		return r.writeFiles(ctx, m)
	},
	plan.Rest: func(r *Run, ctx context.Context, _ plan.Step, m topology.Machine) error {
		return r.rest(ctx, m.Name, true)
	},
}

// do carries out one step.
func (r *Run) do(ctx context.Context, s plan.Step, m topology.Machine) error {
	c, ok := carriers[s.Kind]
	if !ok {
		return fmt.Errorf("there is no step %q", s.Kind)
	}
	return c(r, ctx, s, m)
}

// answers waits until an existing balancer passes requests on.
func (r *Run) answers(ctx context.Context) error {
	return r.withKube(func(k *kube.Client) error {
		return session.Until(ctx, fmt.Sprintf("the balancer at %s to pass requests on to port %d of the control-plane machines", r.Cluster.Endpoint.Addr(), nodeconf.APIPort), func(ctx context.Context) (string, error) {
			return "", k.ReadyAt(ctx, r.Cluster.Endpoint.Addr())
		})
	})
}

func (r *Run) roles(ctx context.Context) error {
	return r.withKube(func(k *kube.Client) error { return r.settle(ctx, k.EnsureRoles) })
}

func (r *Run) uncordon(ctx context.Context, node string) error {
	return r.withKube(func(k *kube.Client) error { return k.Uncordon(ctx, node) })
}

// release gives a machine back, and forgets it with its keys.
func (r *Run) release(ctx context.Context, name string) error {
	// A machine that stays must not keep keys.
	im, err := look.MachineAt(ctx, r.Session, name)
	if err != nil && !errors.Is(err, look.ErrNoMachine) {
		return fmt.Errorf("whether it stays when it is given back cannot be looked up: %w", err)
	}
	if im.Adopted {
		switch {
		case im.Power == site.PowerOn:
			ours, err := r.ours(ctx, name)
			if err == nil && ours {
				err = r.wipeDisk(ctx, name)
			}
			if err != nil {
				return err
			}
		default:
			r.Remark(fmt.Sprintf("%s at %s does not answer, and keeps what was written to it, its keys among it: what is left there is wiped when it is taken over again; if it never is, wipe its disk yourself", name, im.Address))
		}
	}
	r.HangUp(name)
	if err := r.Site.Release(ctx, name); err != nil {
		return err
	}
	return r.forget(name)
}

// forget forgets a machine, with its certificates and keys.
func (r *Run) forget(name string) error {
	return r.Store.UpdateWith(store.TrustChange{Gone: func(id string) bool { return trust.IsOf(name, id) }}, func(st *memory.State) error {
		st.Forget(name)
		return nil
	})
}

// ours says whether this cluster has a machine that was there before: one of a list that was
// never taken over is not wiped, for what lies there is somebody else's.
func (r *Run) ours(ctx context.Context, name string) (bool, error) {
	if !r.Cluster.Listed {
		return true, nil
	}
	by := ""
	err := r.With(ctx, name, func(c session.Machine) (err error) {
		by, err = look.TakenBy(ctx, c)
		return err
	})
	if errors.Is(err, session.ErrNotMet) {
		return false, nil
	}
	return by == r.Cluster.Name, err
}

// over ends a change: all of it is well, and what of it may not change from now on is
// remembered.
func (r *Run) over(ctx context.Context) error {
	if err := r.verify(ctx); err != nil {
		return err
	}
	if err := r.noteWaiting(ctx); err != nil {
		return err
	}
	return r.keepFacts()
}

func (r *Run) withKube(f func(*kube.Client) error) error {
	k, err := r.Kube(r.Cluster)
	if err != nil {
		return err
	}
	return f(k)
}

// settle tries something again while the API is still coming up.
func (r *Run) settle(ctx context.Context, f func(context.Context) error) error {
	return session.Until(ctx, "the API to take it", func(ctx context.Context) (string, error) { return "", f(ctx) })
}

var fingerprint = regexp.MustCompile(`host key (SHA256:[A-Za-z0-9+/]+)`)

// get orders a machine, gives it power, learns its host key from the console
// and logs in.
func (r *Run) get(ctx context.Context, m topology.Machine) error {
	sg, err := r.Signer()
	if err != nil {
		return err
	}
	key := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(sg.PublicKey())))
	what := "the machine to boot"
	if r.Cluster.Listed {
		what = "the machine to answer"
		if _, err := r.firstTrust(ctx, m); err != nil {
			return err // before it is taken from those who may have it
		}
	}
	if seen := r.View.Seen; seen.Founded && m.Is(versions.Member) && !seen.Machines[m.Name].Exists {
		// It was among those that founded the datastore, and is another machine now: it joins.
		if err := r.Remember(func(st *memory.State) { st.Leaves(m.Name) }); err != nil {
			return err
		}
	}
	im, err := r.Site.Order(ctx, m.Name, site.Order{Cluster: r.Cluster.Name, Zone: m.Zone, Size: m.Size, Image: site.Image{System: m.Image.System, Architecture: m.Image.Architecture, Extras: m.Image.Extras}, Hardware: m.Hardware, Address: m.Address, Login: key})
	if err != nil {
		return err
	}
	if im.Address != m.Address {
		return fmt.Errorf("the site leased %s to %s, and %s was asked for", im.Address, m.Name, m.Address)
	}
	if im.Power != site.PowerOn && im.Power != site.PowerBooting && !r.Cluster.Listed {
		if err := r.Site.Power(ctx, m.Name, "on"); err != nil {
			return err
		}
	}
	port, err := r.powered(ctx, what, m.Name)
	if err != nil {
		return err
	}
	st, err := r.Store.Read()
	if err != nil {
		return err
	}
	if k := st.Machines[m.Name]; k.Hardware != im.Hardware || k.Fingerprint == "" || r.Cluster.Listed && k.Address != m.Address {
		print, err := r.firstTrust(ctx, m)
		if err != nil {
			return err
		}
		met := memory.Machine{Address: m.Address, Hardware: im.Hardware, Fingerprint: print}
		if err := r.Remember(func(st *memory.State) { st.Machines[m.Name] = met }); err != nil {
			return err
		}
		r.HangUp(m.Name)
	}
	if err := r.login(ctx, m.Name, port); err != nil || !r.Cluster.Listed {
		return err
	}
	return r.fits(ctx, m)
}

// wake switches a machine on that is there, and known.
func (r *Run) wake(ctx context.Context, name string) error {
	if err := r.Site.Power(ctx, name, "on"); err != nil {
		return err
	}
	port, err := r.powered(ctx, "the machine to boot", name)
	if err != nil {
		return err
	}
	r.HangUp(name)
	return r.login(ctx, name, port)
}

// powered waits until a machine is on, and says at which port one logs in.
func (r *Run) powered(ctx context.Context, what, name string) (port int, err error) {
	err = session.Until(ctx, what, func(ctx context.Context) (string, error) {
		inv, err := r.Site.Inventory(ctx)
		if err != nil {
			return "", err
		}
		i := slices.IndexFunc(inv.Machines, func(x site.Machine) bool { return x.Name == name })
		if i < 0 {
			return "the site does not have it", nil
		}
		if x := inv.Machines[i]; x.Power != site.PowerOn {
			return session.Powerless(x), nil
		}
		port = inv.Machines[i].SSHPort
		return "", nil
	})
	return port, err
}

// login waits until a machine lets the tool in.
func (r *Run) login(ctx context.Context, name string, port int) error {
	ctx, cancel := context.WithTimeout(ctx, loginPatience)
	defer cancel()
	return session.Until(ctx, "a login", func(ctx context.Context) (string, error) {
		c, err := r.Machine(ctx, name, port)
		if err == nil {
			if _, err = c.Facts(ctx); err != nil {
				r.HangUp(name)
			}
		}
		return "", err
	})
}

// firstTrust is the host key that a machine is believed to have: the one that its console
// shows, which is the site's and not the network's; of a machine of a list, the one that a
// person has confirmed.
func (r *Run) firstTrust(ctx context.Context, m topology.Machine) (string, error) {
	if r.Cluster.Listed {
		l, _ := r.SiteFile.ListedAt(m.Address)
		if l.HostKey == "" {
			return "", fmt.Errorf("nobody logs in to %s at %s, whose host key is not known; verbund site meet asks it, and you", m.Name, m.Address)
		}
		return l.HostKey, nil
	}
	con, err := r.Site.Console(ctx, m.Name)
	if err != nil {
		return "", err
	}
	seen := fingerprint.FindAllStringSubmatch(con, -1)
	if len(seen) == 0 {
		return "", fmt.Errorf("the console of %s shows no host key", m.Name)
	}
	return seen[len(seen)-1][1], nil
}

// fits looks whether a machine that somebody else has set up is what the list says, and has
// what its components need of its system.
func (r *Run) fits(ctx context.Context, m topology.Machine) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
		asked := time.Now()
		f, err := c.Facts(ctx)
		if err != nil {
			return err
		}
		asked = asked.Add(time.Since(asked) / 2)
		q := protocol.ProbeRequest{Programs: nodeconf.Programs(m)}
		by, err := look.TakenBy(ctx, c)
		switch {
		case err != nil:
			return err
		case by == "":
			// It may be in use by somebody who does not know of us.
			q.Empty = nodeconf.Own
		case by != r.Cluster.Name:
			return &look.Unfit{Machine: m.Name, Lacks: []string{fmt.Sprintf("what lies there says that it belongs to cluster %s, of which nothing is known here: have it taken out of that cluster by whoever has that, or list another machine", by)}}
		}
		p, err := c.Probe(ctx, q)
		if err != nil {
			return err
		}
		if err := look.Fits(r.SiteFile, m, f, p, asked); err != nil {
			return err
		}
		_, err = c.Put(ctx, []protocol.File{{Path: nodeconf.Taken, Mode: 0o644, Content: []byte(r.Cluster.Name + "\n")}}, nil)
		return err
	})
}

// loginPatience is how long a new machine may take to let one in: its agent may have to be
// brought first, which is the largest thing that is ever sent to it.
const loginPatience = 2 * time.Minute

// carry starts a machine's carrier of the virtual address, and waits until the
// API answers there, whoever carries it.
func (r *Run) carry(ctx context.Context, m topology.Machine) error {
	if err := r.startUnit(ctx, m.Name, nodeconf.UnitsOf(versions.Carrier)...); err != nil {
		return err
	}
	return r.withKube(func(k *kube.Client) error {
		at := netip.AddrPortFrom(r.Cluster.Endpoint.Carried, uint16(r.Cluster.Endpoint.Port)).String()
		return session.Until(ctx, "the API to answer at "+at, func(ctx context.Context) (string, error) { return "", k.ReadyAt(ctx, at) })
	})
}

func (r *Run) startUnit(ctx context.Context, name string, units ...string) error {
	return r.With(ctx, name, func(c session.Machine) error { return c.Do(ctx, protocol.UnitsStart, units...) })
}

func (r *Run) apiReady(ctx context.Context, m topology.Machine) error {
	return r.withKube(func(k *kube.Client) error {
		return session.Until(ctx, "its API server to be ready", func(ctx context.Context) (string, error) { return "", k.ReadyAt(ctx, session.APIAddr(m)) })
	})
}

func (r *Run) startControl(ctx context.Context, m topology.Machine) error {
	// An API server serves before it has made the roles by which controllers are let in: it is
	// ready when it has.
	if err := r.startUnit(ctx, m.Name, nodeconf.UnitAPIServer); err != nil {
		return err
	}
	if err := r.apiReady(ctx, m); err != nil {
		return err
	}
	var rest []string
	for _, p := range []versions.Part{versions.Acting, versions.Approver, versions.Keeper} {
		if m.Is(p) {
			rest = append(rest, nodeconf.UnitsOf(p)...)
		}
	}
	return r.startUnit(ctx, m.Name, rest...)
}

// entrust leaves with a keeper of backups what belongs beside a snapshot.
func (r *Run) entrust(ctx context.Context, m topology.Machine) error {
	files, err := keep.Rest(r.Session, r.Cluster)
	if err != nil {
		return err
	}
	return r.With(ctx, m.Name, func(c session.Machine) error {
		_, err := c.Put(ctx, files, nil)
		return err
	})
}

func (r *Run) startBalancer(ctx context.Context, m topology.Machine) error {
	if err := r.startUnit(ctx, m.Name, nodeconf.UnitHAProxy); err != nil {
		return err
	}
	return r.withKube(func(k *kube.Client) error {
		return session.Until(ctx, "the API to answer at "+r.Cluster.Endpoint.Name, func(ctx context.Context) (string, error) {
			return "", k.ReadyAt(ctx, fmt.Sprintf("%s:%d", r.Cluster.Endpoint.Address, r.Cluster.Endpoint.Port))
		})
	})
}

// addOn installs an add-on or moves it; a moved one is waited for.
func (r *Run) addOn(ctx context.Context, s plan.Step) error {
	c := *r.Cluster
	if s.As != nil {
		c.Set = s.As.Set // of what is declared comes what fits when that runs
	}
	return r.withKube(func(k *kube.Client) error {
		name, install := kube.Network, k.EnsureNetwork
		if s.Kind == plan.DNS {
			name, install = kube.DNS, k.EnsureDNS
		}
		t, err := r.Trust()
		if err != nil {
			return err
		}
		mark := vouch.TrustMark(t, r.Cluster)
		was, err := k.AddOns(ctx)
		if err != nil {
			was = nil
		}
		if err := r.settle(ctx, func(ctx context.Context) error { return install(ctx, &c, mark) }); err != nil {
			return err
		}
		if was[name].Version == "" {
			return nil // nodes come up with it; the last step looks at all of it
		}
		return session.Until(ctx, "all of "+name+" to run in its new version", func(ctx context.Context) (string, error) {
			now, err := k.AddOns(ctx)
			if err == nil && !now[name].Ready {
				return now[name].State, nil
			}
			return "", err
		})
	})
}

func (r *Run) label(ctx context.Context, m topology.Machine) error {
	return r.withKube(func(k *kube.Client) error {
		return session.Until(ctx, "the node to be known", func(ctx context.Context) (string, error) {
			return "", k.SetNode(ctx, m.Name, m.Labels, look.Taints(m.Taints))
		})
	})
}

// running waits until every unit runs that a machine is to run. One that was stopped, or that
// systemd has given up, is started: no later step would. Controllers end whenever they lose their
// lease, and are started again by systemd: those are waited for.
func (r *Run) running(ctx context.Context, m topology.Machine) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
		return session.Until(ctx, "all of its units to run", func(ctx context.Context) (string, error) {
			us, err := c.Units(ctx)
			if err != nil {
				return "", err
			}
			state := map[string]string{}
			for _, u := range us {
				state[u.Name] = u.State
			}
			var not []string
			for _, u := range nodeconf.Units(m) {
				switch state[u] {
				case "active":
				case "", "inactive", "failed":
					if err := c.Do(ctx, protocol.UnitsStart, u); err != nil {
						return "", err
					}
				default:
					not = append(not, u+" is "+state[u])
				}
			}
			return strings.Join(not, "; "), nil
		})
	})
}

// ready waits until all of a machine's units run, its node is Ready in its version, and its proxy
// has installed the services; on the control plane also API server and datastore member.
func (r *Run) ready(ctx context.Context, m topology.Machine) error {
	if err := r.running(ctx, m); err != nil {
		return err
	}
	if m.Is(versions.Member) {
		if err := r.memberWell(ctx, m); err != nil {
			return err
		}
	}
	if m.Is(versions.API) {
		if err := r.apiReady(ctx, m); err != nil {
			return err
		}
	}
	if !m.IsNode() {
		return nil
	}
	if err := r.proxyWell(ctx, m); err != nil {
		return err
	}
	return r.withKube(func(k *kube.Client) error {
		err := session.Until(ctx, "the node to be Ready on "+m.Set.Kubernetes, func(ctx context.Context) (string, error) {
			n, err := k.CoreV1().Nodes().Get(ctx, m.Name, metav1.GetOptions{})
			if err != nil {
				return "", err
			}
			if ok, why := kube.Ready(n); !ok {
				return why, nil
			}
			if v := n.Status.NodeInfo.KubeletVersion; v != m.Set.Kubernetes {
				return "its kubelet is on " + v, nil
			}
			if r.Cluster.Trust.OwnRenewal() && !r.signersComing() {
				return r.servingKubelet(ctx, m)
			}
			return "", nil
		})
		return withNetwork(ctx, k, err)
	})
}

// withNetwork adds to why a node is not Ready how far the network plugin is, if that does not
// serve everywhere: without it no node ever is, and what holds it up is seen on no node.
func withNetwork(ctx context.Context, k *kube.Client, why error) error {
	if why == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), session.LookTimeout)
	defer cancel()
	all, err := k.AddOns(ctx)
	if a, ok := all[kube.Network]; err == nil && ok && !a.Ready {
		return fmt.Errorf("%w; the network plugin %s: %s", why, kube.Network, a.State)
	}
	return why
}

// signersComing says whether some of the control plane cannot sign yet what
// kubelets ask for: whoever leads there may be one of those, and would be waited
// for in vain. That each has its certificate is looked at when all can.
func (r *Run) signersComing() bool {
	return slices.ContainsFunc(r.Cluster.With(versions.API), func(m topology.Machine) bool {
		s := r.View.Seen.Machines[m.Name]
		return s.Active != "" && s.Versions["request-approver"] == ""
	})
}

// proxyWell waits until a node's proxy has installed the services: until then
// nobody answers on its node ports, and a balancer may not have noticed yet that
// they were gone.
func (r *Run) proxyWell(ctx context.Context, m topology.Machine) error {
	at := "http://" + netip.AddrPortFrom(m.Address, nodeconf.ProxyHealthPort).String() + "/healthz"
	direct := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}} // no proxy of the person's computer
	return session.Until(ctx, "its proxy to install the services", func(ctx context.Context) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
		defer cancel()
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
		if err != nil {
			return "", err
		}
		a, err := direct.Do(q)
		if err != nil {
			return "", err
		}
		defer a.Body.Close()
		if b, _ := io.ReadAll(io.LimitReader(a.Body, 200)); a.StatusCode != http.StatusOK {
			return fmt.Sprintf("%s: %s", a.Status, strings.TrimSpace(string(b))), nil
		}
		return "", nil
	})
}

// rest takes a machine out of the balancer or puts it back, and waits until the
// balancer has taken that up.
func (r *Run) rest(ctx context.Context, name string, out bool) error {
	r.balance.Lock()
	defer r.balance.Unlock()
	if err := r.Remember(func(st *memory.State) { st.Rest(name, out) }); err != nil {
		return err
	}
	for _, b := range r.Cluster.Of(versions.Balancer) {
		if err := r.writeBalancer(ctx, b); err != nil {
			return err
		}
		if out {
			continue
		}
		err := session.Until(ctx, "the balancer to see it up again", func(ctx context.Context) (string, error) {
			down := []string{}
			err := r.With(ctx, b.Name, func(c session.Machine) error {
				ss, err := servers(ctx, c)
				for _, s := range ss {
					// Nothing listens on a node port that no service uses: then
					// the machine is up by its proxy's health all the same.
					if s.name == name && !s.up {
						down = append(down, s.backend+"/"+s.name+" "+s.status)
					}
				}
				return err
			})
			return strings.Join(down, ", "), err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// writeBalancer writes a balancer's files for what it runs: another version that is
// declared by now has a step of its own.
func (r *Run) writeBalancer(ctx context.Context, b topology.Machine) error {
	err := r.With(ctx, b.Name, func(c session.Machine) error {
		f, err := c.Facts(ctx)
		if as, ok := plan.AsItRuns(b, f.Slots[f.Active], r.Cat); ok {
			b = as
		}
		return err
	})
	if err != nil {
		return err
	}
	return r.writeFiles(ctx, b)
}

// drain cordons a node and evicts its pods, within the pool's patience.
func (r *Run) drain(ctx context.Context, s plan.Step) error {
	return r.withKube(func(k *kube.Client) error {
		err := k.Cordon(ctx, s.Machine, r.ID)
		if apierrors.IsNotFound(err) {
			// Somebody deleted it. What ran there the cluster has given up with it.
			r.Note(s, "there is no such node, and nothing to be evicted; its kubelet makes it when it starts")
			return nil
		}
		if err != nil {
			return err
		}
		dctx, cancel := context.WithTimeout(ctx, s.Within)
		defer cancel()
		return k.Drain(dctx, s.Machine, func(text string) { r.Note(s, text) })
	})
}

// unnode takes a node out of the cluster. Its kubelet is stopped before, where it
// can be: it would register when it is started anew. The API server that answered until now may be
// on its way out: each try has a connection of its own.
func (r *Run) unnode(ctx context.Context, name string) error {
	if seen := r.View.Seen.Machines[name]; seen.Reached && seen.Units[nodeconf.UnitKubelet] != "" {
		if err := r.With(ctx, name, func(c session.Machine) error { return c.Do(ctx, protocol.UnitsStop, nodeconf.UnitKubelet) }); err != nil {
			return fmt.Errorf("stopping its kubelet: %w", err)
		}
	}
	return session.Until(ctx, "the API to take the node out", func(ctx context.Context) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
		defer cancel()
		return "", r.withKube(func(k *kube.Client) error {
			err := k.CoreV1().Nodes().Delete(ctx, name, metav1.DeleteOptions{})
			if apierrors.IsNotFound(err) {
				return nil
			}
			return err
		})
	})
}

// verify looks at everything once more, until it is well.
func (r *Run) verify(ctx context.Context) error {
	return session.Until(ctx, "everything to be well", func(ctx context.Context) (string, error) {
		v, err := look.ObserveAs(ctx, r.Session, r.View.Aim)
		if err != nil {
			return "", err
		}
		return strings.Join(v.Ailing(), "; "), nil
	})
}
