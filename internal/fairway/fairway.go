package fairway

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	corev1 "k8s.io/api/core/v1"
	"k8s.io/client-go/tools/cache"

	"verbund/internal/kubeapi"
	"verbund/internal/whole"
)

// Plan is what the plugin of one node has to keep, worked out of the cluster's nodes.
type Plan struct {
	Own    netip.Prefix // range of the node's own pods
	Self   netip.Addr   // the node's own address
	Routes []Route      // to the others, in order
}

// Route leads to the pods of another node.
type Route struct {
	To  netip.Prefix
	Via netip.Addr
}

// ErrNoRange says that the cluster has not given this node a range of addresses yet.
var ErrNoRange = errors.New("this node has no range of pod addresses yet; the controller manager gives it one")

// Work works out what a node has to keep. Nodes without a range or an address are not
// reached yet, and left out.
func Work(self string, nodes []*corev1.Node) (Plan, error) {
	var p Plan
	for _, n := range nodes {
		r, err := netip.ParsePrefix(n.Spec.PodCIDR)
		at := address(n)
		if n.Name == self {
			p.Own, p.Self = r, at
			continue
		}
		if err == nil && at.IsValid() {
			p.Routes = append(p.Routes, Route{r, at})
		}
	}
	slices.SortFunc(p.Routes, func(a, b Route) int { return a.To.Addr().Compare(b.To.Addr()) })
	if !p.Own.IsValid() {
		return p, fmt.Errorf("node %s: %w", self, ErrNoRange)
	}
	return p, nil
}

// address is the address at which other nodes reach a node.
func address(n *corev1.Node) netip.Addr {
	for _, a := range n.Status.Addresses {
		if ip, err := netip.ParseAddr(a.Address); err == nil && a.Type == corev1.NodeInternalIP {
			return ip
		}
	}
	return netip.Addr{}
}

// Config is the CNI configuration of a node (CNI specification 1.0.0), for the standard
// programs bridge, host-local and portmap. The way out is the node's own affair: the bridge
// changes no addresses.
func Config(own netip.Prefix, mtu int) ([]byte, error) {
	type m = map[string]any
	b, err := json.MarshalIndent(m{"cniVersion": "1.0.0", "name": "fairway", "plugins": []m{
		{"type": "bridge", "bridge": "fairway0", "isGateway": true, "ipMasq": false, "hairpinMode": true, "mtu": mtu,
			"ipam": m{"type": "host-local", "ranges": [][]m{{{"subnet": own.String()}}}, "routes": []m{{"dst": "0.0.0.0/0"}}}},
		{"type": "portmap", "capabilities": m{"portMappings": true}},
	}}, "", "  ")
	return append(b, '\n'), err
}

// Told is what the plugin is told.
type Told struct {
	Node    string       // on which it runs
	Folder  string       // of CNI configurations
	Pods    netip.Prefix // of the whole cluster; addresses in it are never hidden
	MTU     int          // bytes of a packet, 1280 to 9000
	Healthy string       // host:port at which it says whether it is ready
	Log     func(format string, args ...any)
}

const configName = "10-fairway.conflist"

// Run keeps a node's network until ctx ends. What it has set up stays when it ends: pods
// go on while the plugin is replaced.
func Run(ctx context.Context, c *kubeapi.Clients, t Told) error {
	k, err := openKernel(t)
	if err != nil {
		return err
	}
	defer k.close()
	var ready atomic.Pointer[string]
	not := "it has not begun"
	ready.Store(&not)
	srv := &http.Server{Addr: t.Healthy, ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if why := ready.Load(); why != nil {
			http.Error(w, *why, http.StatusServiceUnavailable)
		}
	})}
	served := make(chan error, 1)
	go func() { served <- srv.ListenAndServe() }()
	defer srv.Close()

	nodes := c.CoreV1().Nodes().Cache()
	poke := make(chan struct{}, 1)
	changed := func() {
		select {
		case poke <- struct{}{}:
		default:
		}
	}
	if _, err := nodes.AddEventHandler(cache.ResourceEventHandlerFuncs{AddFunc: func(any) { changed() }, UpdateFunc: func(_, _ any) { changed() }, DeleteFunc: func(any) { changed() }}); err != nil {
		return err
	}
	kubeapi.Run(ctx, nodes)
	if !cache.WaitForCacheSync(ctx.Done(), nodes.HasSynced) {
		return nil
	}
	again := time.NewTicker(30 * time.Second) // somebody may have changed the kernel's side
	defer again.Stop()
	last := ""
	for {
		var all []*corev1.Node
		for _, o := range nodes.GetStore().List() {
			all = append(all, o.(*corev1.Node))
		}
		p, err := Work(t.Node, all)
		if err == nil {
			err = k.keep(p)
		}
		if err == nil {
			err = writeConfig(t, p)
		}
		said := fmt.Sprintf("pods of this node have %s; routes lead to %d others", p.Own, len(p.Routes))
		if err != nil {
			said = err.Error()
			ready.Store(&said)
		} else {
			ready.Store(nil)
		}
		if said != last {
			t.Log("%s", said)
			last = said
		}
		select {
		case <-poke:
		case <-again.C:
		case err := <-served:
			return fmt.Errorf("answering at %s: %w", t.Healthy, err)
		case <-ctx.Done():
			return nil
		}
	}
}

// writeConfig puts the configuration where the container runtime looks for it, when it is
// another one than what lies there.
func writeConfig(t Told, p Plan) error {
	b, err := Config(p.Own, t.MTU)
	if err != nil {
		return err
	}
	f := filepath.Join(t.Folder, configName)
	old, err := os.ReadFile(f)
	if err == nil && string(old) == string(b) {
		return nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return whole.Write(f, b, 0o644)
}

// HealthPort is where the plugin of a node says at the node's address whether it is ready.
const HealthPort = "10470"
