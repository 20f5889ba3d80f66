// Package daemon is the process of a simulated site: its inventory, its
// address block, its registry, and one child process a zone. It outlives the
// command that started it and keeps its state in a folder.
package daemon

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"golang.org/x/crypto/ssh"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/sim/host"
	"verbund/internal/sim/registry"
	"verbund/internal/sim/serve"
	"verbund/internal/sim/zone"
	"verbund/internal/site/protocol"
	"verbund/internal/whole"
)

// The files of a site's folder.
const (
	SocketFile     = "socket"
	CredentialFile = "credential"
	stateFile      = protocol.InventoryFile
	pidFile        = protocol.ProcessFile
)

// claimPort is held on the site's first address: whoever has it has the block.
const claimPort = 5001

type machine struct {
	protocol.Machine
	Wanted bool      `json:"wanted"` // power that it should have when the site starts
	Spec   host.Spec `json:"spec"`
	boots  int       // how often it was given power, so that what becomes of an earlier time is not taken for this one's
}

type zoneProc struct {
	cmd    *exec.Cmd
	stdin  io.Closer
	client *jrpc2.Client
	done   chan struct{}
}

type site struct {
	folder     string
	file       *declare.Site
	credential string
	ctx        context.Context
	stop       context.CancelFunc
	registry   *registry.Registry
	kind       kind
	child      []string // command line of a zone's process, without the zone

	mu       sync.Mutex
	orders   int // machines ever made, so that no two are alike
	machines map[string]*machine
	records  map[string][]byte // of machines, as they lie beside their disks
	images   map[string]*image // by digest
	zones    map[string]*zoneProc
	booting  sync.WaitGroup
	left     bool // its folder is about to go
	cuts     []protocol.Cut
}

// ErrBlockTaken says that another site has the address block.
var ErrBlockTaken = errors.New("address block taken")

// Run serves a site until ctx ends or it is told to stop. ready is called when
// it answers, with what there is to say of how it came up. images is where the root file systems
// of real machines are kept, for all sites. child is the command line that starts a zone's process.
func Run(ctx context.Context, folder string, file *declare.Site, images string, child []string, ready func(said string)) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	s := &site{folder: folder, file: file, ctx: ctx, stop: stop, child: child, machines: map[string]*machine{}, records: map[string][]byte{}, images: map[string]*image{}, zones: map[string]*zoneProc{}}
	var err error
	if s.kind, err = kindOf(folder, file, images); err != nil {
		return err
	}
	closeKind, found, err := s.kind.open()
	if err != nil {
		return err
	}
	defer closeKind()
	var only []string
	if file.Kind == declare.SimulatedSite {
		only = host.RunsReal
	}
	if s.registry, err = registry.New(versions.Shipped(), file.Stock, only...); err != nil {
		return err
	}
	rl, err := net.Listen("tcp", fmt.Sprintf("%s:%d", file.RegistryAddress(), topology.RegistryPort))
	if err != nil {
		if file.Kind == declare.ListedSite {
			return fmt.Errorf("registry in %s.site.yaml: %w; give an address of this computer whose port %d is free", file.Name, err, topology.RegistryPort)
		}
		return fmt.Errorf("%w: registry: %w", ErrBlockTaken, err)
	}
	defer rl.Close()
	go s.registry.Serve(rl)
	said, err := s.load()
	if err != nil {
		return err
	}
	said = strings.Trim(found+"; "+said, "; ")
	b, err := os.ReadFile(filepath.Join(folder, CredentialFile))
	if err != nil {
		return fmt.Errorf("credential of the site: %w", err)
	}
	s.credential = strings.TrimSpace(string(b))
	l, closeSocket, err := listenSocket(folder)
	if err != nil {
		return err
	}
	defer closeSocket()
	if err := os.WriteFile(filepath.Join(folder, pidFile), fmt.Appendf(nil, "%d\n", os.Getpid()), 0o600); err != nil {
		return err
	}
	defer os.Remove(filepath.Join(folder, pidFile))
	for _, m := range s.machines {
		m.Power = protocol.PowerOff
		if m.Wanted {
			s.boot(m)
		}
	}
	srv := serve.HTTP(s.routes())
	srv.BaseContext = func(net.Listener) context.Context { return ctx }
	go srv.Serve(l)
	ready(said)
	<-ctx.Done()
	end, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	srv.Shutdown(end)
	s.mu.Lock()
	zs := s.zones
	s.zones = map[string]*zoneProc{}
	s.mu.Unlock()
	for _, z := range zs {
		z.stdin.Close()
	}
	for _, z := range zs {
		<-z.done
	}
	s.booting.Wait()
	return nil
}

// listenSocket opens the site's socket. Its path is reached through an open
// folder, because a socket's path may not be longer than 107 bytes.
func listenSocket(folder string) (net.Listener, func(), error) {
	d, err := os.Open(folder)
	if err != nil {
		return nil, nil, err
	}
	p := fmt.Sprintf("/proc/self/fd/%d/%s", d.Fd(), SocketFile)
	os.Remove(p)
	old := syscall.Umask(0o177)
	l, err := net.Listen("unix", p)
	syscall.Umask(old)
	if err != nil {
		d.Close()
		return nil, nil, fmt.Errorf("socket of the site: %w", err)
	}
	return l, func() { l.Close(); d.Close() }, nil
}

// state is what a site keeps on disk.
type state struct {
	Orders   int                 `json:"orders"`
	Machines map[string]*machine `json:"machines"`
	Images   map[string]*image   `json:"images"`
}

func (s *site) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /inventory", func(w http.ResponseWriter, r *http.Request) { answer(w, s.inventory(), nil) })
	mux.HandleFunc("PUT /machines/{name}", s.order)
	mux.HandleFunc("DELETE /machines/{name}", s.remove)
	mux.HandleFunc("POST /machines/{name}/power", s.power)
	mux.HandleFunc("GET /machines/{name}/console", s.console)
	mux.HandleFunc("POST /faults", s.fault)
	mux.HandleFunc("GET /faults", func(w http.ResponseWriter, r *http.Request) { answer(w, s.possible(), nil) })
	mux.HandleFunc("POST /leave", func(w http.ResponseWriter, r *http.Request) {
		err := s.leave()
		if answer(w, err == nil, err); err == nil {
			s.stop()
		}
	})
	mux.HandleFunc("POST /stop", func(w http.ResponseWriter, r *http.Request) {
		answer(w, true, nil)
		s.stop()
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte("Bearer "+s.credential)) != 1 {
			answer(w, nil, &refusal{http.StatusUnauthorized, protocol.Refusal{What: "the site does not know this credential", Todo: "use the one in the site's folder"}})
			return
		}
		mux.ServeHTTP(w, r)
	})
}

// leave makes sure that nobody has a machine here, or gets one from now on.
func (s *site) leave() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	users := map[string]bool{}
	for _, m := range s.machines {
		users[m.Cluster] = true
	}
	if len(users) > 0 {
		who := strings.Join(slices.Sorted(maps.Keys(users)), ", ")
		return &refusal{http.StatusConflict, protocol.Refusal{What: "the site has machines of " + who, Todo: "it stays", Code: protocol.InUse}}
	}
	s.left = true
	return nil
}

type refusal struct {
	status int
	protocol.Refusal
}

func (r *refusal) Error() string { return r.What }

func refuse(status int, todo, format string, args ...any) error {
	return &refusal{status, protocol.Refusal{What: fmt.Sprintf(format, args...), Todo: todo}}
}

func answer(w http.ResponseWriter, v any, err error) {
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		var r *refusal
		if !errors.As(err, &r) {
			r = &refusal{http.StatusInternalServerError, protocol.Refusal{What: err.Error(), Todo: "look at the site's log"}}
		}
		w.WriteHeader(r.status)
		v = r.Refusal
	}
	json.NewEncoder(w).Encode(v)
}

func (s *site) inventory() protocol.Inventory {
	inv := s.known()
	s.kind.ask(inv.Machines)
	return inv
}

// known is what the site knows without asking a machine.
func (s *site) known() protocol.Inventory {
	s.mu.Lock()
	defer s.mu.Unlock()
	inv := protocol.Inventory{Site: s.file.Name, Process: os.Getpid(), Block: s.file.Addresses, Machines: []protocol.Machine{}, Mirror: s.registry.Mirrored(), Cuts: s.cuts}
	for _, z := range s.file.Zones {
		pz := protocol.Zone{Name: z.Name, Room: z.Machines, Used: s.used(z.Name)}
		if p := s.zones[z.Name]; p != nil {
			pz.Process = p.cmd.Process.Pid
		}
		inv.Zones = append(inv.Zones, pz)
	}
	taken := map[string]bool{}
	for _, m := range s.machines {
		inv.Machines = append(inv.Machines, m.Machine)
		taken[m.Hardware] = true
	}
	for _, b := range s.file.Bare {
		if !taken[b.Hardware] {
			inv.Bare = append(inv.Bare, protocol.Bare{Hardware: b.Hardware, Zone: b.Zone, Size: b.Size})
		}
	}
	for d, i := range s.images {
		inv.Images = append(inv.Images, protocol.Composed{Digest: d, Image: i.Image, Machines: i.Machines, Composing: i.composing()})
	}
	slices.SortFunc(inv.Images, func(a, b protocol.Composed) int { return strings.Compare(a.Digest, b.Digest) })
	slices.SortFunc(inv.Machines, func(a, b protocol.Machine) int { return strings.Compare(a.Name, b.Name) })
	return inv
}

func (s *site) used(zone string) int {
	n := 0
	for _, m := range s.machines {
		if m.Zone == zone {
			n++
		}
	}
	return n
}

func (s *site) order(w http.ResponseWriter, r *http.Request) {
	var o protocol.Order
	if err := json.NewDecoder(r.Body).Decode(&o); err != nil {
		answer(w, nil, refuse(http.StatusBadRequest, "send an order", "this is not an order: %v", err))
		return
	}
	digest, err := s.compose(r.Context(), o.Image)
	if err != nil {
		answer(w, nil, err)
		return
	}
	m, err := s.make(r.PathValue("name"), o, digest)
	if err != nil {
		answer(w, nil, err)
		return
	}
	answer(w, m, nil)
}

// image is one that was composed, or is being composed.
type image struct {
	protocol.Image
	Machines int           `json:"machines"`
	ready    chan struct{} // closed when it is composed
	err      error         // why it is not
}

// composing says whether it is still being composed.
func (i *image) composing() bool {
	select {
	case <-i.ready:
		return false
	default:
		return true
	}
}

// compose makes a machine image once; whoever asks for the same gets the same.
func (s *site) compose(ctx context.Context, spec protocol.Image) (string, error) {
	if spec.System == "" || spec.Architecture == "" {
		return "", refuse(http.StatusBadRequest, "name the operating system and the architecture", "an image of %q for %q cannot be composed", spec.System, spec.Architecture)
	}
	digest, err := s.kind.digest(spec)
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	i := s.images[digest]
	if i == nil {
		i = &image{Image: spec, ready: make(chan struct{})}
		s.images[digest] = i
		s.booting.Go(func() {
			defer close(i.ready)
			if i.err = s.kind.compose(s.ctx, spec); i.err != nil {
				s.mu.Lock()
				delete(s.images, digest) // the next order tries again
				s.mu.Unlock()
			}
		})
	}
	s.mu.Unlock()
	select {
	case <-i.ready:
		return digest, i.err
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// adoptable finds the bare machine of a hardware address; the caller holds the
// lock.
func (s *site) adoptable(hardware string, o protocol.Order) error {
	i := slices.IndexFunc(s.file.Bare, func(b declare.Bare) bool { return b.Hardware == hardware })
	if i < 0 {
		return refuse(http.StatusNotFound, "list it under bare in the site file", "the site has no bare machine %s", hardware)
	}
	if b := s.file.Bare[i]; b.Zone != o.Zone || b.Size != o.Size {
		return refuse(http.StatusConflict, "declare it as it is", "machine %s is of size %s in zone %s", hardware, b.Size, b.Zone)
	}
	for _, m := range s.machines {
		if m.Hardware == hardware {
			return refuse(http.StatusConflict, "take it out of that cluster first", "machine %s belongs to cluster %s as %s", hardware, m.Cluster, m.Name)
		}
	}
	return nil
}

func (s *site) make(name string, o protocol.Order, digest string) (*protocol.Machine, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if m := s.machines[name]; m != nil {
		if m.Cluster != o.Cluster {
			return nil, refuse(http.StatusConflict, "choose another cluster name", "machine %s belongs to cluster %s", name, m.Cluster)
		}
		c := m.Machine
		return &c, nil
	}
	if s.left {
		return nil, refuse(http.StatusServiceUnavailable, "run the command again: it starts the site anew", "the site is being taken down, since nobody had a machine there")
	}
	i := slices.IndexFunc(s.file.Zones, func(z declare.Zone) bool { return z.Name == o.Zone })
	size, ok := s.file.Sizes[o.Size]
	switch {
	case i < 0:
		return nil, refuse(http.StatusNotFound, "choose a zone of the site", "there is no zone %s", o.Zone)
	case !ok:
		return nil, refuse(http.StatusNotFound, "choose a size of the site", "there is no size %s", o.Size)
	case s.used(o.Zone) >= s.file.Zones[i].Machines:
		return nil, refuse(http.StatusInsufficientStorage, "declare fewer machines, or give the zone more room in the site file", "zone %s is full: it has room for %d machines", o.Zone, s.file.Zones[i].Machines)
	case !s.file.Addresses.Contains(o.Address):
		return nil, refuse(http.StatusBadRequest, "ask for one of "+s.file.Addresses.String(), "address %s is not of this site", o.Address)
	}
	for _, other := range s.machines {
		if other.Address == o.Address {
			return nil, &refusal{http.StatusConflict, protocol.Refusal{What: fmt.Sprintf("address %s is leased to %s", o.Address, other.Name), Todo: "ask for another", Code: protocol.AddressTaken}}
		}
	}
	if o.Hardware != "" {
		if err := s.adoptable(o.Hardware, o); err != nil {
			return nil, err
		}
	}
	key, print, err := hostKey()
	if err != nil {
		return nil, err
	}
	s.orders++
	hw := sha256.Sum256(fmt.Appendf(nil, "%d %d", s.file.Seed, s.orders))
	m := &machine{Machine: protocol.Machine{Name: name, Cluster: o.Cluster, Zone: o.Zone, Size: o.Size, Address: o.Address, Power: protocol.PowerOff,
		Hardware: fmt.Sprintf("02:%02x:%02x:%02x:%02x:%02x", hw[0], hw[1], hw[2], hw[3], hw[4]), Fingerprint: print, Image: digest, Adopted: o.Hardware != ""}}
	if err := s.kind.take(&m.Machine, o); err != nil {
		return nil, err
	}
	disk := name
	if o.Hardware != "" {
		// Its disk is there already, with whatever an earlier life left on it.
		m.Hardware = o.Hardware
		disk = "bare-" + strings.ReplaceAll(o.Hardware, ":", "")
	}
	s.images[digest].Machines++
	system := o.Image.System
	if len(o.Image.Extras) > 0 {
		system += " with " + strings.Join(o.Image.Extras, ", ")
	}
	m.Spec = host.Spec{Name: name, Hardware: m.Hardware, Address: o.Address, Zone: o.Zone, Image: system, CPUs: size.CPUs, Memory: int64(size.Memory), Disk: int64(size.Disk),
		Root: filepath.Join(s.folder, "disks", disk), Login: o.Login, HostKey: key, Seed: uint64(s.file.Seed), Registry: s.file.RegistryAddress(), Pace: s.file.Pace}
	s.kind.fill(&m.Spec, digest)
	s.machines[name] = m
	if err := s.save(); err != nil {
		delete(s.machines, name)
		return nil, fmt.Errorf("writing the inventory: %w", err)
	}
	if err := s.rewired(); err != nil {
		return nil, err
	}
	c := m.Machine
	return &c, nil
}

// freeAddress is the highest free address of the block; the caller holds the
// lock.
func (s *site) freeAddress() netip.Addr {
	taken := map[netip.Addr]bool{}
	for _, m := range s.machines {
		taken[m.Address] = true
	}
	free := netip.Addr{}
	for a := topology.SiteAddress(s.file.Addresses, 10); s.file.Addresses.Contains(a.Next()); a = a.Next() {
		if !taken[a] {
			free = a
		}
	}
	return free
}

func hostKey() ([]byte, string, error) {
	_, k, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, "", err
	}
	b, err := ssh.MarshalPrivateKey(k, "")
	if err != nil {
		return nil, "", err
	}
	sg, err := ssh.NewSignerFromKey(k)
	if err != nil {
		return nil, "", err
	}
	return pem.EncodeToMemory(b), ssh.FingerprintSHA256(sg.PublicKey()), nil
}

// find returns a machine; the caller holds the lock.
func (s *site) find(name string) (*machine, error) {
	if m := s.machines[name]; m != nil {
		return m, nil
	}
	return nil, refuse(http.StatusNotFound, "machines lists what there is", "there is no machine %s", name)
}

func (s *site) remove(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	m, err := s.find(r.PathValue("name"))
	s.mu.Unlock()
	if err == nil {
		err = s.giveBack(m)
	}
	answer(w, err == nil, err)
}

// giveBack takes a machine's power, and gives back what it had of the site.
func (s *site) giveBack(m *machine) error {
	s.off(m, true)
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.forget(m)
}

// forget gives a machine's place and disk back. The disk goes only when the inventory
// without it is written: else a machine would be left that has none. The caller holds
// the lock.
func (s *site) forget(m *machine) error {
	delete(s.machines, m.Name)
	if err := s.save(); err != nil {
		s.machines[m.Name] = m
		return fmt.Errorf("writing the inventory without %s, which keeps its disk: %w", m.Name, err)
	}
	delete(s.records, m.Name)
	if err := os.Remove(recordOf(m)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if m.Adopted {
		return nil // a bare machine stays, with its disk
	}
	return os.RemoveAll(m.Spec.Root)
}

func (s *site) power(w http.ResponseWriter, r *http.Request) {
	var p protocol.Power
	err := json.NewDecoder(r.Body).Decode(&p)
	s.mu.Lock()
	m, ferr := s.find(r.PathValue("name"))
	s.mu.Unlock()
	if err = errors.Join(ferr, err); err != nil {
		answer(w, nil, err)
		return
	}
	switch p.Do {
	case "on", "off", "cut", "restart":
		if !s.kind.switches() {
			err = refuse(http.StatusBadRequest, "switch it where it stands", "the site has no switch for machine %s, which is one of a list", m.Name)
			break
		}
		s.switchTo(m, p.Do)
	default:
		err = refuse(http.StatusBadRequest, "say on, off, cut or restart", "power %q is not known", p.Do)
	}
	answer(w, err == nil, err)
}

func (s *site) switchTo(m *machine, do string) {
	switch do {
	case "on":
		s.boot(m)
	case "off", "cut":
		s.off(m, do == "cut")
	case "restart":
		s.off(m, false)
		s.boot(m)
	}
}

func (s *site) console(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	m, err := s.find(r.PathValue("name"))
	s.mu.Unlock()
	if err == nil && !s.kind.switches() {
		err = refuse(http.StatusBadRequest, "look at it where it stands", "the site has no console of machine %s, which is one of a list", m.Name)
	}
	if err != nil {
		answer(w, nil, err)
		return
	}
	b, err := os.ReadFile(filepath.Join(m.Spec.Root, "var/log/console"))
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	answer(w, string(b), err)
}

func (s *site) fault(w http.ResponseWriter, r *http.Request) {
	var f protocol.Fault
	if err := json.NewDecoder(r.Body).Decode(&f); err != nil {
		answer(w, nil, refuse(http.StatusBadRequest, "send a fault", "this is not a fault: %v", err))
		return
	}
	err := s.inflict(f)
	answer(w, err == nil, err)
}

// possible are the faults that this site can make happen, and whether it has its machines'
// power.
func (s *site) possible() []string {
	all := slices.DeleteFunc(protocol.Faults(), func(f string) bool { return s.kind.cannot(f) != "" })
	if s.kind.switches() {
		all = append(all, protocol.CutPower, protocol.GivePower)
	}
	return all
}

// wrongClock is how far ahead a wrong clock is.
const wrongClock = 9 * time.Minute

// inflict makes something go wrong. It is long because it is a list of what can.
func (s *site) inflict(f protocol.Fault) error {
	if why := s.kind.cannot(f.Kind); why != "" {
		return refuse(http.StatusBadRequest, "choose one of those, or a site of kind simulated", "%s", why)
	}
	switch f.Kind {
	case protocol.DamagedBlob, protocol.MendedBlob:
		err := s.registry.Damage(f.Artefact, f.Kind == protocol.DamagedBlob)
		if errors.Is(err, registry.ErrUnknown) {
			return refuse(http.StatusNotFound, "name one with its version, such as kubelet:v1.37.2", "%v", err)
		}
		return err
	case protocol.LostZone:
		s.mu.Lock()
		z := s.zones[f.Zone]
		s.mu.Unlock()
		if z == nil {
			return refuse(http.StatusNotFound, "choose a zone in which machines run", "nothing runs in zone %s", f.Zone)
		}
		z.cmd.Process.Kill()
		<-z.done
		return nil
	case protocol.CutNetwork, protocol.OneWayNetwork, protocol.LossyNetwork, protocol.SlowNetwork, protocol.MendedNetwork:
		return s.cut(f)
	default:
		if !slices.Contains(protocol.MachineFaults, f.Kind) {
			return refuse(http.StatusBadRequest, protocol.ChooseFault(), "fault %q is not known", f.Kind)
		}
	}
	s.mu.Lock()
	m, err := s.find(f.Machine)
	s.mu.Unlock()
	if err != nil {
		return err
	}
	if f.Kind == protocol.LostMachine {
		return s.giveBack(m)
	}
	if f.Kind == protocol.LostDisk {
		s.off(m, true)
		// What it boots from comes with the machine; its disk is an empty one.
		err := os.RemoveAll(m.Spec.Root)
		s.boot(m)
		return err
	}
	if f.Kind == protocol.NewLease {
		s.off(m, true)
		s.mu.Lock()
		a := s.freeAddress()
		if a.IsValid() {
			m.Address, m.Spec.Address = a, a
		} else {
			err = refuse(http.StatusInsufficientStorage, "choose a larger block", "the block %s has no free address", s.file.Addresses)
		}
		err = errors.Join(err, s.save(), s.rewired())
		s.mu.Unlock()
		s.boot(m)
		return err
	}
	if f.Kind == protocol.NewHostKey {
		key, print, err := hostKey()
		if err != nil {
			return err
		}
		s.off(m, true)
		s.mu.Lock()
		m.Spec.HostKey, m.Fingerprint = key, print
		err = s.save()
		s.mu.Unlock()
		s.boot(m)
		return err
	}
	s.mu.Lock()
	switch f.Kind {
	case protocol.FullDisk, protocol.MendedDisk:
		m.Spec.Faults.Full, m.Spec.Faults.SlowDisk = f.Kind == protocol.FullDisk, false
	case protocol.SlowDisk:
		m.Spec.Faults.SlowDisk = true
	case protocol.LostLead:
		m.Spec.Faults.LostLead++
	case protocol.SlowMachine, protocol.MendedMachine:
		m.Spec.Faults.Slow = f.Kind == protocol.SlowMachine
	case protocol.WrongClock, protocol.MendedClock:
		m.Spec.Faults.ClockOff = map[bool]time.Duration{true: wrongClock}[f.Kind == protocol.WrongClock]
	case protocol.LesserRights, protocol.FullRights:
		m.Spec.Faults.Rights = map[bool]string{true: "look"}[f.Kind == protocol.LesserRights]
	}
	z := s.zones[m.Zone]
	err = s.save()
	s.mu.Unlock()
	return errors.Join(err, s.tell(m, z))
}

// boot gives a machine power; it becomes on, or off with its trouble, in its
// own time.
func (s *site) boot(m *machine) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if m.Power == protocol.PowerOn || m.Power == protocol.PowerBooting {
		return
	}
	m.Power, m.Wanted, m.Trouble = protocol.PowerBooting, true, ""
	m.boots++
	mine := m.boots
	if err := s.save(); err != nil {
		m.Power, m.Trouble = protocol.PowerOff, err.Error()
		return
	}
	s.booting.Go(func() {
		z, err := s.zone(m.Zone)
		var r zone.BootReply
		if err == nil {
			err = z.client.CallResult(s.ctx, zone.MethodBoot, m.Spec, &r)
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if m.Power != protocol.PowerBooting || m.boots != mine {
			return
		}
		if err != nil {
			m.Power, m.Trouble = protocol.PowerCrashed, err.Error()
			return
		}
		m.Power, m.SSHPort = protocol.PowerOn, r.SSHPort
	})
}

func (s *site) off(m *machine, pulled bool) {
	s.mu.Lock()
	z := s.zones[m.Zone]
	m.Wanted = false
	s.save()
	s.mu.Unlock()
	if z != nil {
		// A machine that is still booting is off only when its boot has ended.
		for {
			var was bool
			if err := z.client.CallResult(s.ctx, zone.MethodOff, zone.OffRequest{Name: m.Name, Pulled: pulled}, &was); err != nil || was {
				break
			}
			s.mu.Lock()
			booting := m.Power == protocol.PowerBooting
			s.mu.Unlock()
			if !booting {
				break
			}
			select {
			case <-s.ctx.Done():
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
	s.mu.Lock()
	m.Power, m.SSHPort = protocol.PowerOff, 0
	s.mu.Unlock()
}

// zone returns the process of a zone, started if need be.
func (s *site) zone(name string) (*zoneProc, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if z := s.zones[name]; z != nil {
		return z, nil
	}
	if s.ctx.Err() != nil {
		return nil, s.ctx.Err()
	}
	log, err := whole.Log(filepath.Join(s.folder, "zone-"+name+".log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(s.child[0], append(slices.Clone(s.child[1:]), name)...)
	cmd.Stderr = log
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting zone %s: %w", name, err)
	}
	z := &zoneProc{cmd: cmd, stdin: in, done: make(chan struct{})}
	z.client = jrpc2.NewClient(channel.Line(out, in), nil)
	s.zones[name] = z
	go func() {
		defer close(z.done)
		cmd.Process.Wait()
		z.client.Close()
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.zones[name] == z {
			delete(s.zones, name)
		}
		for _, m := range s.machines {
			if m.Zone == name && m.Power != protocol.PowerOff {
				m.Power, m.SSHPort, m.Trouble = protocol.PowerCrashed, 0, "its zone was lost"
			}
		}
	}()
	return z, nil
}
