package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/kube"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
	siteproto "verbund/internal/site/protocol"
	"verbund/internal/store"
)

// do carries out one step: look, do, confirm.
func (r *Run) do(ctx context.Context, s plan.Step, m topology.Machine) error {
	switch s.Kind {
	case plan.Get:
		return r.get(ctx, m)
	case plan.Pull:
		return r.pull(ctx, m)
	case plan.Write:
		return r.writeFiles(ctx, m)
	case plan.Wipe:
		return r.wipe(ctx, m)
	case plan.Move:
		return r.move(ctx, m)
	case plan.Carry:
		return r.carry(ctx, m)
	case plan.Answer:
		return r.withKube(func(k *kube.Client) error {
			return until(ctx, fmt.Sprintf("the balancer at %s to pass requests on to port %d of the control-plane machines", endpointAddr(r.Cluster), nodeconf.APIPort), func(ctx context.Context) (string, error) {
				return "", k.ReadyAt(ctx, endpointAddr(r.Cluster))
			})
		})
	case plan.Drop, plan.Leave:
		return r.leave(ctx, s)
	case plan.Member:
		return r.joinMember(ctx, m)
	case plan.Control:
		return r.startControl(ctx, m)
	case plan.Roles:
		return r.withKube(func(k *kube.Client) error { return r.settle(ctx, k.EnsureRoles) })
	case plan.Balance:
		return r.startBalancer(ctx, m)
	case plan.Network, plan.DNS:
		return r.addOn(ctx, s.Kind)
	case plan.Node:
		return r.on(ctx, m.Name, func(c *machine.Machine) error {
			return c.Do(ctx, protocol.UnitsStart, "containerd.service", "kubelet.service", "kube-proxy.service")
		})
	case plan.Label:
		return r.label(ctx, m)
	case plan.Ready:
		return r.ready(ctx, m)
	case plan.Backup:
		return r.backup(ctx, s)
	case plan.Rest:
		if m.Is(versions.Member) {
			if err := r.othersWell(ctx, m.Name); err != nil {
				return err
			}
		}
		return r.rest(ctx, m.Name, true)
	case plan.Return:
		return r.rest(ctx, m.Name, false)
	case plan.Drain:
		return r.drain(ctx, s)
	case plan.Switch:
		return r.swap(ctx, m)
	case plan.Uncordon:
		return r.withKube(func(k *kube.Client) error { return k.Uncordon(ctx, m.Name) })
	case plan.Unnode:
		return r.unnode(ctx, s.Machine)
	case plan.Release:
		// A machine that stays must not keep keys.
		if im, err := r.machineAt(ctx, s.Machine); err == nil && im.Adopted && im.Power == siteproto.PowerOn {
			if err := r.wipeDisk(ctx, s.Machine); err != nil {
				return err
			}
		}
		r.hangUp(s.Machine)
		if err := r.Site.Release(ctx, s.Machine); err != nil {
			return err
		}
		return r.Store.ForgetMachine(s.Machine)
	case plan.Verify:
		return r.verify(ctx)
	}
	return fmt.Errorf("there is no step %q", s.Kind)
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
	return until(ctx, "the API to take it", func(ctx context.Context) (string, error) { return "", f(ctx) })
}

var fingerprint = regexp.MustCompile(`host key (SHA256:[A-Za-z0-9+/]+)`)

// get orders a machine, gives it power, learns its host key from the console
// and logs in.
func (r *Run) get(ctx context.Context, m topology.Machine) error {
	sg, err := r.signer()
	if err != nil {
		return err
	}
	key := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(sg.PublicKey())))
	im, err := r.Site.Order(ctx, m.Name, siteproto.Order{Cluster: r.Cluster.Name, Zone: m.Zone, Size: m.Size, Image: siteproto.Image{System: m.Image.System, Architecture: m.Image.Architecture, Extras: m.Image.Extras}, Hardware: m.Hardware, Address: m.Address, Login: key})
	if err != nil {
		return err
	}
	if im.Address != m.Address {
		return fmt.Errorf("the site leased %s to %s, and %s was asked for", im.Address, m.Name, m.Address)
	}
	if im.Power != siteproto.PowerOn && im.Power != siteproto.PowerBooting {
		if err := r.Site.Power(ctx, m.Name, "on"); err != nil {
			return err
		}
	}
	port := 0
	err = until(ctx, "the machine to boot", func(ctx context.Context) (string, error) {
		inv, err := r.Site.Inventory(ctx)
		if err != nil {
			return "", err
		}
		i := slices.IndexFunc(inv.Machines, func(x siteproto.Machine) bool { return x.Name == m.Name })
		if i < 0 {
			return "the site does not have it", nil
		}
		if x := inv.Machines[i]; x.Power != siteproto.PowerOn {
			return strings.TrimSuffix("its power is "+x.Power+": "+x.Trouble, ": "), nil
		}
		port = inv.Machines[i].SSHPort
		return "", nil
	})
	if err != nil {
		return err
	}
	known, err := r.Store.Machines()
	if err != nil {
		return err
	}
	if k := known[m.Name]; k.Hardware != im.Hardware || k.Fingerprint == "" {
		// First trust: the console is the site's, not the network's.
		con, err := r.Site.Console(ctx, m.Name)
		if err != nil {
			return err
		}
		seen := fingerprint.FindAllStringSubmatch(con, -1)
		if len(seen) == 0 {
			return fmt.Errorf("the console of %s shows no host key", m.Name)
		}
		if err := r.Store.SaveMachine(m.Name, store.Machine{Address: m.Address, Hardware: im.Hardware, Fingerprint: seen[len(seen)-1][1]}); err != nil {
			return err
		}
		r.hangUp(m.Name)
	}
	lctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	return until(lctx, "a login", func(ctx context.Context) (string, error) {
		c, err := r.Machine(ctx, m.Name, port)
		if err == nil {
			if _, err = c.Facts(ctx); err != nil {
				r.hangUp(m.Name)
			}
		}
		return "", err
	})
}

// machineAt is a machine as the site sees it.
func (s *Session) machineAt(ctx context.Context, name string) (siteproto.Machine, error) {
	inv, err := s.Site.Inventory(ctx)
	if err != nil {
		return siteproto.Machine{}, err
	}
	for _, m := range inv.Machines {
		if m.Name == name {
			return m, nil
		}
	}
	return siteproto.Machine{}, fmt.Errorf("the site has no machine %s", name)
}

// wipe empties a machine and waits until one can log in again.
func (r *Run) wipe(ctx context.Context, m topology.Machine) error {
	before := ""
	err := r.on(ctx, m.Name, func(c *machine.Machine) error {
		f, err := c.Facts(ctx)
		if err == nil {
			before = f.BootID
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := r.wipeDisk(ctx, m.Name); err != nil {
		return err
	}
	return until(ctx, "the machine to be back, empty", func(ctx context.Context) (string, error) {
		r.hangUp(m.Name)
		lctx, cancel := context.WithTimeout(ctx, lookTimeout)
		defer cancel()
		c, err := r.Machine(lctx, m.Name, 0)
		if err != nil {
			return "", err
		}
		f, err := c.Facts(lctx)
		if err == nil && f.BootID == before {
			return "it has not restarted yet", nil
		}
		return "", err
	})
}

// move tells the datastore where a machine's member is now, if it has one.
func (r *Run) move(ctx context.Context, m topology.Machine) error {
	if !m.Is(versions.Member) {
		return nil
	}
	if len(r.Cluster.With(versions.Member)) == 1 {
		return &StepError{Err: fmt.Errorf("the only member of the datastore has moved to %s, and nobody is left to be told", m.Address),
			Todo: "have the site give it its old address again; with three members each can move"}
	}
	if err := r.othersWell(ctx, m.Name); err != nil {
		return err
	}
	r.member.Lock()
	defer r.member.Unlock()
	seen, ok := r.View.Seen.Members[m.Name]
	if !ok || seen.Peer == nodeconf.Peer(m) {
		return nil
	}
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	return d.Move(ctx, seen.ID, nodeconf.Peer(m))
}

// wipeDisk has a machine empty its disk. It restarts right after that, so its
// answer may be lost; that it was done shows in what it is afterwards.
func (r *Run) wipeDisk(ctx context.Context, name string) error {
	c, err := r.Machine(ctx, name, 0)
	if err != nil {
		return err
	}
	if err := c.Wipe(ctx); err != nil && !errors.Is(err, machine.ErrLost) {
		return err
	}
	return nil
}

// carry starts a machine's carrier of the virtual address, and waits until the
// API answers there, whoever carries it.
func (r *Run) carry(ctx context.Context, m topology.Machine) error {
	if err := r.startUnit(ctx, m.Name, nodeconf.UnitsOf(versions.Carrier)...); err != nil {
		return err
	}
	return r.withKube(func(k *kube.Client) error {
		return until(ctx, "the API to answer at "+endpointAddr(r.Cluster), func(ctx context.Context) (string, error) {
			return "", k.ReadyAt(ctx, endpointAddr(r.Cluster))
		})
	})
}

// leftover lists the files of a machine's record that are not rendered any
// more, and keys that nothing there needs: they are taken away.
func leftover(ctx context.Context, c *machine.Machine, rendered []nodeconf.File, slot string) ([]string, error) {
	out, err := strayTrust(ctx, c, rendered)
	if err != nil {
		return nil, err
	}
	b, err := c.Read(ctx, nodeconf.Record)
	if err != nil {
		return nil, err
	}
	o := nodeconf.ReadRecord(b[nodeconf.Record])
	if o == nil {
		return out, nil
	}
	keep := map[string]bool{nodeconf.Record: true}
	for _, f := range rendered {
		keep[f.Path] = true
	}
	for _, p := range o.Files {
		if !keep[p] {
			out = append(out, place(nodeconf.File{Path: p}, slot))
		}
	}
	return out, nil
}

// idle is the slot that a machine does not use.
func idle(active string) string {
	if active == "a" {
		return "b"
	}
	return "a"
}

// pull fetches the set's artefacts into the idle slot, each by its digest.
func (r *Run) pull(ctx context.Context, m topology.Machine) error {
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		f, err := c.Facts(ctx)
		if err != nil {
			return err
		}
		want := m.Components()
		slot := idle(f.Active)
		for have, v := range f.Slots[slot] {
			if i := slices.IndexFunc(want, func(x versions.Component) bool { return x.Name == have }); i < 0 || want[i].Version != v {
				if err := c.PrepareSlot(ctx, slot); err != nil {
					return err
				}
				break
			}
		}
		g, gctx := errgroup.WithContext(ctx)
		for _, w := range want {
			g.Go(func() error {
				d := r.Cat.Digest(w.Ref())
				if d == "" {
					return fmt.Errorf("the catalogue pins no digest of %s", w.Ref())
				}
				_, err := c.Pull(gctx, protocol.PullRequest{Registry: r.Cluster.Registry, Name: w.Name, Version: w.Version, Digest: d, Slot: slot})
				return err
			})
		}
		return g.Wait()
	})
}

// writeFiles brings a machine's files to what is rendered, and has what reads
// them take them up.
func (r *Run) writeFiles(ctx context.Context, m topology.Machine) error {
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		f, err := c.Facts(ctx)
		if err != nil {
			return err
		}
		// A slot that holds another version is not written into.
		slot := f.Active
		for _, k := range m.Components() {
			if f.Active == "" || f.Slots[f.Active][k.Name] != k.Version {
				slot = idle(f.Active)
			}
		}
		resting, err := r.Store.Resting()
		if err != nil {
			return err
		}
		o := nodeconf.Options{Resting: resting}
		files, rendered, err := r.files(r.Cluster, m, o, slot)
		if err != nil {
			return err
		}
		stale, err := leftover(ctx, c, rendered, slot)
		if err != nil {
			return err
		}
		changed, err := c.Put(ctx, files, stale)
		if err != nil {
			return err
		}
		if slot != f.Active {
			if err := c.Do(ctx, protocol.UnitsStop, nodeconf.Units(m)...); err != nil {
				return err
			}
			_, err := c.Switch(ctx, slot)
			return err
		}
		var restart, reload []string
		for i, f := range files {
			if slices.Contains(changed, f.Path) {
				restart = append(restart, rendered[i].Restart...)
				reload = append(reload, rendered[i].Reload...)
			}
		}
		us, err := c.Units(ctx)
		if err != nil {
			return err
		}
		active, trying := map[string]bool{}, map[string]bool{}
		for _, u := range us {
			active[u.Name] = u.State == "active"
			trying[u.Name] = u.State == "activating"
		}
		for _, u := range nodeconf.Units(m) {
			switch {
			case trying[u] && slices.Contains(restart, u):
				// It fails and is started again and again, as it was before: the
				// step that starts it does so with what was just written.
				err = c.Do(ctx, protocol.UnitsStop, u)
			case !active[u]:
			case slices.Contains(restart, u):
				err = c.Do(ctx, protocol.UnitsRestart, u)
			case slices.Contains(reload, u):
				err = r.reload(ctx, c, u)
			}
			if err != nil {
				return err
			}
		}
		if m.Is(versions.API) && len(changed) > 0 && active["kube-apiserver.service"] {
			return r.apiReady(ctx, m)
		}
		return nil
	})
}

const reloaded = "configuration reloaded"

// reload asks a unit to read its configuration again, and waits until its log
// says that it did.
func (r *Run) reload(ctx context.Context, c *machine.Machine, unit string) error {
	count := func() (int, error) {
		l, err := c.Logs(ctx, unit, 0)
		return strings.Count(strings.Join(l, "\n"), reloaded), err
	}
	before, err := count()
	if err != nil {
		return err
	}
	if err := c.Do(ctx, protocol.UnitsReload, unit); err != nil {
		return err
	}
	return until(ctx, unit+" to reload", func(context.Context) (string, error) {
		now, err := count()
		if err == nil && now <= before {
			return "its log does not say so yet", nil
		}
		return "", err
	})
}

// members lists the datastore's members.
func (r *Run) members(ctx context.Context) (map[string]plan.MemberSeen, error) {
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return nil, err
	}
	ms, err := d.Members(ctx, r.peers(r.Cluster))
	if err != nil {
		return nil, err
	}
	out := map[string]plan.MemberSeen{}
	for _, m := range ms {
		out[m.Name] = plan.MemberSeen{ID: m.ID, Peer: m.Peer, Learner: m.Learner, Healthy: m.Healthy, Trouble: m.Trouble}
	}
	return out, nil
}

// joinMember founds the datastore, or joins it as a learner that is promoted,
// or starts a member that is one already.
func (r *Run) joinMember(ctx context.Context, m topology.Machine) error {
	r.member.Lock()
	defer r.member.Unlock()
	facts, err := r.Store.Facts()
	if err != nil {
		return err
	}
	if facts == nil && m.Name == r.Cluster.With(versions.Member)[0].Name {
		if err := r.born(ctx, &m, []string{m.Name}); err != nil {
			return err
		}
		if err := r.startUnit(ctx, m.Name, "etcd.service"); err != nil {
			return err
		}
		if err := r.memberWell(ctx, m); err != nil {
			return err
		}
		fs := factsOf(r.Cluster)
		fs.Founded = time.Now().UTC()
		return r.Store.SaveFacts(fs)
	}
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	// A member that exists may be what the quorum lacks: start it first. One
	// that never ran is known by its address only.
	ms, merr := r.members(ctx)
	if _, isMember := ms[m.Name]; merr == nil && !isMember {
		var names []string
		for n := range ms {
			names = append(names, n)
		}
		slices.Sort(names)
		if err := r.born(ctx, &m, append(names, m.Name)); err != nil {
			return err
		}
		if err := d.AddLearner(ctx, nodeconf.Peer(m)); err != nil {
			return fmt.Errorf("adding a learner: %w", err)
		}
	}
	if err := r.startUnit(ctx, m.Name, "etcd.service"); err != nil {
		return err
	}
	if merr != nil {
		return r.memberWell(ctx, m)
	}
	if err := d.Promote(ctx, nodeconf.Peer(m)); err != nil {
		return err
	}
	return r.memberWell(ctx, m)
}

// born writes down with which members a member is born, before it is, and
// gives its machine the configuration that says so.
func (r *Run) born(ctx context.Context, m *topology.Machine, members []string) error {
	if err := r.Store.SaveMember(m.Name, members); err != nil {
		return err
	}
	m.Members = members
	r.mu.Lock()
	for i := range r.Cluster.Machines {
		if r.Cluster.Machines[i].Name == m.Name {
			r.Cluster.Machines[i].Members = members
		}
	}
	r.mu.Unlock()
	return r.writeFiles(ctx, *m)
}

func (r *Run) startUnit(ctx context.Context, name string, units ...string) error {
	return r.on(ctx, name, func(c *machine.Machine) error { return c.Do(ctx, protocol.UnitsStart, units...) })
}

func (r *Run) memberWell(ctx context.Context, m topology.Machine) error {
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	return until(ctx, "its datastore member to be healthy", func(ctx context.Context) (string, error) {
		return "", d.Health(ctx, nodeconf.Datastore(m))
	})
}

func (r *Run) apiReady(ctx context.Context, m topology.Machine) error {
	return r.withKube(func(k *kube.Client) error {
		return until(ctx, "its API server to be ready", func(ctx context.Context) (string, error) { return "", k.ReadyAt(ctx, apiAddr(m)) })
	})
}

func (r *Run) startControl(ctx context.Context, m topology.Machine) error {
	if err := r.startUnit(ctx, m.Name, "kube-apiserver.service", "kube-controller-manager.service", "kube-scheduler.service"); err != nil {
		return err
	}
	return r.apiReady(ctx, m)
}

func (r *Run) startBalancer(ctx context.Context, m topology.Machine) error {
	if err := r.startUnit(ctx, m.Name, "haproxy.service"); err != nil {
		return err
	}
	return r.withKube(func(k *kube.Client) error {
		return until(ctx, "the API to answer at "+r.Cluster.Endpoint.Name, func(ctx context.Context) (string, error) {
			return "", k.ReadyAt(ctx, fmt.Sprintf("%s:%d", r.Cluster.Endpoint.Address, r.Cluster.Endpoint.Port))
		})
	})
}

// addOn installs an add-on or moves it; a moved one is waited for.
func (r *Run) addOn(ctx context.Context, kind plan.Kind) error {
	return r.withKube(func(k *kube.Client) error {
		name, install := kube.Network, k.EnsureNetwork
		if kind == plan.DNS {
			name, install = kube.DNS, k.EnsureDNS
		}
		was, err := k.AddOns(ctx)
		if err != nil {
			was = nil
		}
		if err := r.settle(ctx, func(ctx context.Context) error { return install(ctx, r.Cluster) }); err != nil {
			return err
		}
		if was[name].Version == "" {
			return nil // nodes come up with it; the last step looks at all of it
		}
		return until(ctx, "all of "+name+" to run in its new version", func(ctx context.Context) (string, error) {
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
		return until(ctx, "the node to be known", func(ctx context.Context) (string, error) {
			return "", k.SetNode(ctx, m.Name, m.Labels, taintsOf(m.Taints))
		})
	})
}

// ready waits until a node is Ready in its version; on the control plane also
// API server and datastore member.
func (r *Run) ready(ctx context.Context, m topology.Machine) error {
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
	return r.withKube(func(k *kube.Client) error {
		return until(ctx, "the node to be Ready on "+m.Set.Kubernetes, func(ctx context.Context) (string, error) {
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
			return "", nil
		})
	})
}

// rest takes a machine out of the balancer or puts it back, and waits until the
// balancer has taken that up.
func (r *Run) rest(ctx context.Context, name string, out bool) error {
	r.balance.Lock()
	defer r.balance.Unlock()
	if err := r.Store.SaveResting(name, out); err != nil {
		return err
	}
	for _, b := range r.Cluster.Of(versions.Balancer) {
		if err := r.writeFiles(ctx, b); err != nil {
			return err
		}
		if out {
			continue
		}
		err := until(ctx, "the balancer to see it up again", func(ctx context.Context) (string, error) {
			down := []string{}
			err := r.on(ctx, b.Name, func(c *machine.Machine) error {
				lines, err := c.Logs(ctx, "haproxy.service", 0)
				state := map[string]string{}
				for _, l := range lines {
					if w := strings.Fields(l); len(w) == 4 && w[2] == "is" && strings.HasSuffix(w[1], "/"+name) {
						state[w[1]] = w[3]
					}
				}
				for s, v := range state {
					// Nothing listens on a node port that no service uses: then
					// the machine is up by its proxy's health all the same.
					if v != "up" {
						down = append(down, s)
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

// drain cordons a node and evicts its pods, within the pool's patience.
func (r *Run) drain(ctx context.Context, s plan.Step) error {
	return r.withKube(func(k *kube.Client) error {
		lost, blocked, err := k.Unmovable(ctx, s.Machine)
		if err != nil {
			return err
		}
		if len(lost) > 0 {
			return &StepError{Err: fmt.Errorf("nothing was evicted: %s", strings.Join(lost, "; ")), Todo: "delete the pod yourself if it may be lost, or give it a controller, then run converge again"}
		}
		if len(blocked) > 0 {
			return &StepError{Err: fmt.Errorf("nothing was evicted: %s", strings.Join(blocked, "; ")), Todo: "change the disruption budget or the application, then run converge again"}
		}
		if err := k.Cordon(ctx, s.Machine, r.ID); err != nil {
			return err
		}
		patience := 2 * time.Minute
		if m, ok := r.Cluster.Machine(s.Machine); ok {
			patience = m.Patience
		}
		dctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		return k.Drain(dctx, s.Machine, func(text string) { r.Note(s, text) })
	})
}

// guardPatience is how long the quorum guard lets a member be slow before it
// takes it for ill.
const guardPatience = 10 * time.Second

// othersWell is the quorum guard: it asks the other members whether they are
// healthy before a voter is taken away.
func (r *Run) othersWell(ctx context.Context, name string) error {
	var last error
	gctx, cancel := context.WithTimeout(ctx, guardPatience)
	defer cancel()
	err := until(gctx, "the other members of the datastore", func(context.Context) (string, error) {
		last = r.askOthers(ctx, name)
		return "", last
	})
	if err == nil || last == nil {
		return err
	}
	return last
}

// askOthers asks once.
func (r *Run) askOthers(ctx context.Context, name string) error {
	ms, err := r.members(ctx)
	if err != nil {
		return err
	}
	voters, healthy := 0, 0
	var ill []string
	for n, m := range ms {
		if m.Learner {
			continue
		}
		voters++
		if n == name {
			continue
		}
		if m.Healthy {
			healthy++
		} else {
			ill = append(ill, n+" ("+m.Trouble+")")
		}
	}
	if len(ill) > 0 {
		se := &StepError{Err: fmt.Errorf("guard: %s is not taken down, because of the other members of the datastore %s %s not healthy; %d of %d would be left and %d are a quorum",
			name, strings.Join(ill, ", "), map[bool]string{true: "is", false: "are"}[len(ill) == 1], healthy, voters, voters/2+1), Todo: "bring the others back first: converge switches machines on, status shows what ails them"}
		sick, _, _ := strings.Cut(ill[0], " ")
		// What ails it stands in its own log, if its machine answers.
		if c, err := r.Machine(ctx, sick, 0); err == nil {
			us, _ := c.Units(ctx)
			for _, u := range us {
				if u.Name == "etcd.service" && u.State != "active" {
					se.Unit, se.Exit = "etcd.service on "+sick, u.ExitCode
					se.Log, _ = c.Logs(ctx, u.Name, 6)
				}
			}
		}
		return se
	}
	return nil
}

// swap writes the new version's files into the idle slot, switches to it and
// restarts; a machine that does not come up goes back by itself.
func (r *Run) swap(ctx context.Context, m topology.Machine) error {
	if m.Is(versions.Member) && len(r.Cluster.With(versions.Member)) > 1 {
		if err := r.othersWell(ctx, m.Name); err != nil {
			return err
		}
	}
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		f, err := c.Facts(ctx)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(m.Components(), func(k versions.Component) bool { return f.Slots[f.Active][k.Name] != k.Version }) {
			return nil
		}
		slot := idle(f.Active)
		files, rendered, err := r.files(r.Cluster, m, nodeconf.Options{}, slot)
		if err != nil {
			return err
		}
		stale, err := leftover(ctx, c, rendered, slot)
		if err != nil {
			return err
		}
		if _, err := c.Put(ctx, files, stale); err != nil {
			return err
		}
		rep, err := c.Switch(ctx, slot, nodeconf.Units(m)...)
		if err != nil {
			return err
		}
		if rep.FellBack != "" {
			return &StepError{Unit: rep.Unit, Exit: rep.ExitCode, Log: rep.Log, Err: fmt.Errorf("%s did not come up on %s, and the machine went back to slot %s: %s", m.Name, m.Carries(), rep.Active, rep.FellBack),
				Todo: "nothing else was touched; read the log lines, mend the cause, and run converge again"}
		}
		return nil
	})
}

// unnode takes a node out of the cluster. The API server that answered until
// now may be on its way out: each try has a connection of its own.
func (r *Run) unnode(ctx context.Context, name string) error {
	return until(ctx, "the API to take the node out", func(ctx context.Context) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, lookTimeout)
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

// leave takes a member out, dead or alive, if the others are well.
func (r *Run) leave(ctx context.Context, s plan.Step) error {
	if err := r.othersWell(ctx, s.Machine); err != nil {
		return err
	}
	// An API server uses the member beside it: it stops first, in its own time,
	// so that the balancer notices and no request meets one without a datastore.
	if seen := r.View.Seen.Machines[s.Machine]; seen.Reached && seen.Units["kube-apiserver.service"] == "active" && !r.Cluster.Apart {
		err := r.on(ctx, s.Machine, func(c *machine.Machine) error {
			units := slices.Clone(nodeconf.UnitsOf(versions.API))
			slices.Reverse(units)
			return c.Do(ctx, protocol.UnitsStop, units...)
		})
		if err != nil {
			return fmt.Errorf("stopping its API server: %w", err)
		}
	}
	return r.removeMember(ctx, s.Machine)
}

func (r *Run) removeMember(ctx context.Context, name string) error {
	r.member.Lock()
	defer r.member.Unlock()
	ms, err := r.members(ctx)
	if err != nil {
		return err
	}
	if m, ok := ms[name]; ok {
		d, err := r.Datastore(r.Cluster)
		if err != nil {
			return err
		}
		if err := d.Remove(ctx, m.ID); err != nil {
			return err
		}
	}
	return r.Store.SaveMember(name, nil)
}

// verify looks at everything once more, until it is well.
func (r *Run) verify(ctx context.Context) error {
	return until(ctx, "everything to be well", func(ctx context.Context) (string, error) {
		v, err := r.Observe(ctx)
		if err != nil {
			return "", err
		}
		return strings.Join(v.Ailing(), "; "), nil
	})
}

// Ailing lists everything that is not as it should be in a living cluster.
func (v *View) Ailing() []string {
	var out []string
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if v.Inventory == nil {
		return []string{"the site's process is not running"}
	}
	if !v.Seen.API {
		add("the API does not answer: %v", v.APIError)
	}
	for _, m := range v.Cluster.Machines {
		s := v.Seen.Machines[m.Name]
		if !s.Exists {
			add("machine %s is missing", m.Name)
			continue
		}
		if !s.Reached {
			add("machine %s cannot be reached: %s", m.Name, s.Trouble)
			continue
		}
		for _, u := range nodeconf.Units(m) {
			if s.Units[u] != "active" {
				add("%s on %s is %s", u, m.Name, orText(s.Units[u], "not installed"))
			}
		}
		if m.Is(versions.Member) {
			if mb, ok := v.Seen.Members[m.Name]; !ok {
				add("%s has no member of the datastore", m.Name)
			} else if mb.Learner || !mb.Healthy {
				add("the datastore member of %s is not well: %s", m.Name, orText(mb.Trouble, "it has no vote yet"))
			}
		}
		if n, ok := v.Seen.Nodes[m.Name]; m.IsNode() && v.Seen.API {
			if !ok {
				add("machine %s is not a node", m.Name)
			} else if !n.Ready {
				add("node %s is not Ready: %s", m.Name, n.Trouble)
			}
		}
	}
	if v.Seen.API && !v.Seen.Endpoint {
		add("the API does not answer at the endpoint %s", endpointAddr(v.Cluster))
	}
	for _, name := range []string{kube.Network, kube.DNS} {
		if a := v.Seen.AddOns[name]; v.Seen.API && a.Version == "" {
			add("add-on %s is not installed", name)
		} else if v.Seen.API && !a.Ready {
			add("add-on %s does not serve everywhere yet", name)
		}
	}
	return out
}

func orText(s, def string) string {
	if s == "" {
		return def
	}
	return s
}
