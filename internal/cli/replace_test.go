package cli_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	appsv1 "k8s.io/api/apps/v1"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/util/intstr"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
)

// load asks something again and again, and counts.
type load struct {
	mu      sync.Mutex
	good    int
	bad     []string
	stop    context.CancelFunc
	stopped sync.WaitGroup
}

func startLoad(asks map[string]func(context.Context) error) *load {
	ctx, cancel := context.WithCancel(context.Background())
	l := &load{stop: cancel}
	for name, ask := range asks {
		l.stopped.Go(func() {
			tick := time.NewTicker(50 * time.Millisecond)
			defer tick.Stop()
			for ctx.Err() == nil {
				rctx, done := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
				err := ask(rctx)
				done()
				l.mu.Lock()
				if err == nil {
					l.good++
				} else {
					l.bad = append(l.bad, fmt.Sprintf("%s %s: %v", time.Now().Format("15:04:05.000"), name, err))
				}
				l.mu.Unlock()
				select {
				case <-ctx.Done():
				case <-tick.C:
				}
			}
		})
	}
	return l
}

// end stops the load and asserts that nothing failed, and that there was one.
func (l *load) end(w *world, least int) {
	w.Helper()
	l.stop()
	l.stopped.Wait()
	if len(l.bad) > 0 || l.good < least {
		// What was done in the seconds around the first failure.
		b, _ := os.ReadFile(w.path(".verbund/tidewatch/journal.jsonl"))
		if len(l.bad) > 0 {
			at, _ := time.Parse("15:04:05.000", l.bad[0][:12])
			for _, line := range strings.Split(string(b), "\n") {
				var e struct {
					Time              time.Time
					Kind, Step, Where string
				}
				if json.Unmarshal([]byte(line), &e) != nil {
					continue
				}
				clock, _ := time.Parse("15:04:05.000", e.Time.Format("15:04:05.000"))
				if d := clock.Sub(at); d > -5*time.Second && d < 2*time.Second {
					w.Logf("%s %s %s", e.Time.Format("15:04:05.000"), e.Kind, e.Step)
				}
			}
		}
		w.Errorf("%d requests were answered, %d failed: %s", l.good, len(l.bad), strings.Join(l.bad[:min(5, len(l.bad))], "\n"))
	}
	w.Logf("%d requests, %d failed", l.good, len(l.bad))
}

// asksAPI lists namespaces with what a kubeconfig file says at that moment.
func asksAPI(file string) func(context.Context) error {
	return func(ctx context.Context) error {
		k, err := clientOf(file)
		if err == nil {
			_, err = k.CoreV1().Namespaces().List(ctx, metav1.ListOptions{})
		}
		return err
	}
}

func clientOf(file string) (*kubernetes.Clientset, error) {
	cfg, err := clientcmd.BuildConfigFromFlags("", file)
	if err != nil {
		return nil, err
	}
	return kubernetes.NewForConfig(cfg)
}

func asksPage(url string) func(context.Context) error {
	return func(ctx context.Context) error {
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
		if err != nil {
			return err
		}
		r, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(q)
		if err != nil {
			return err
		}
		defer r.Body.Close()
		if b, err := io.ReadAll(r.Body); err != nil || r.StatusCode != http.StatusOK {
			return fmt.Errorf("%s %s %v", r.Status, b, err)
		}
		return nil
	}
}

// deploy runs the application and waits until it answers.
func (w *world) deploy(file string) {
	w.Helper()
	k, err := clientOf(file)
	if err != nil {
		w.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	l, four := map[string]string{"app": "tidetable"}, int32(4)
	_, err = k.AppsV1().Deployments("default").Create(ctx, &appsv1.Deployment{ObjectMeta: metav1.ObjectMeta{Name: "tidetable"}, Spec: appsv1.DeploymentSpec{Replicas: &four, Selector: &metav1.LabelSelector{MatchLabels: l},
		Template: corev1.PodTemplateSpec{ObjectMeta: metav1.ObjectMeta{Labels: l}, Spec: corev1.PodSpec{Containers: []corev1.Container{{Name: "tidetable", Image: "images.seamark.test/tidetable:1.0"}}}}}}, metav1.CreateOptions{})
	if err == nil {
		_, err = k.CoreV1().Services("default").Create(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: "tidetable"}, Spec: corev1.ServiceSpec{Type: corev1.ServiceTypeNodePort, Selector: l,
			Ports: []corev1.ServicePort{{Port: 80, TargetPort: intstr.FromInt32(8080), NodePort: 30080}}}}, metav1.CreateOptions{})
	}
	if err != nil {
		w.Fatal(err)
	}
	w.until(time.Minute, "tidetable to serve", func() (bool, string) {
		d, err := k.AppsV1().Deployments("default").Get(ctx, "tidetable", metav1.GetOptions{})
		return err == nil && d.Status.AvailableReplicas == four, fmt.Sprint(err)
	})
}

// until waits for something that happens by itself.
func (w *world) until(most time.Duration, what string, ok func() (bool, string)) {
	w.Helper()
	end, why := time.Now().Add(most), ""
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for time.Now().Before(end) {
		var yes bool
		if yes, why = ok(); yes {
			return
		}
		<-tick.C
	}
	w.Fatalf("waited %s for %s: %s", most, what, why)
}

// Everything that can be replaced is, under a continuous load on the API and on
// an application, and no request fails; at the end nothing old is accepted. It
// runs alone: it measures requests.
func TestReplace(t *testing.T) {
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(2, 1)
	w.declare(`    taints: \[`, "    enrolment: token\n    taints: [")
	w.fails(2, []string{"has not been raised"}, "trust", "replace", "cluster-authority", "--yes")
	w.ok("converge", "--yes")
	kc, old := w.path("kubeconfig"), w.path("old")
	w.ok("access", "--person", "mara", "--merge", kc)
	b, err := os.ReadFile(kc)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(old, b, 0o600); err != nil {
		t.Fatal(err)
	}
	w.deploy(kc)
	page := "http://" + w.machines()["tidewatch-balancer-1"].Address + ":8080/"
	w.until(time.Minute, "the balancer to pass requests on", func() (bool, string) {
		err := asksPage(page)(context.Background())
		return err == nil, fmt.Sprint(err)
	})
	l := startLoad(map[string]func(context.Context) error{"the API": asksAPI(kc), "the application": asksPage(page)})

	w.fails(2, []string{"cannot be replaced"}, "trust", "replace", "proxy", "--yes")
	w.fails(0, []string{"pass 1 of 3: trust both", "stopped after pass 1 of 3", "mara (until"}, "trust", "replace", "cluster-authority", "--yes", "--pass", "1")
	w.fails(2, []string{"the replacement of cluster-authority is in pass 1"}, "trust", "replace", "datastore-authority", "--yes")
	w.fails(0, []string{"it goes on with: verbund trust replace cluster-authority"}, "converge", "--yes")
	o := w.fails(0, []string{"pass 2 of 3: sign anew", "pass 3 of 3: drop the old one", "nothing of the old one is accepted any more", "refuses what the old authority signed", "401 unauthorized", "has a certificate for mara of the new one"}, "trust", "replace", "cluster-authority", "--yes")
	if strings.Contains(o, "DOES NOT HOLD") {
		t.Errorf("the proof:\n%s", o)
	}
	if err := asksAPI(old)(context.Background()); err == nil {
		t.Error("the kubeconfig from before still works")
	}
	w.fails(0, []string{"mara  person"}, "access", "--list")
	for _, what := range []string{"datastore-authority", "front-proxy-authority", "secrets-encryption"} {
		o := w.fails(0, []string{"pass 1 of 3", "pass 2 of 3", "pass 3 of 3", "is replaced"}, "trust", "replace", what, "--yes")
		if strings.Contains(o, "DOES NOT HOLD") {
			t.Errorf("the proof of %s:\n%s", what, o)
		}
	}
	// The key of tokens goes when those that were asked for by hand have ended,
	// or when somebody says so.
	w.fails(0, []string{"pass 2 of 3", "pass 3 waits", "--skip-wait"}, "trust", "replace", "service-account", "--yes")
	w.fails(0, []string{"every pod's token is of the new key", "the API server refuses a token that the old key signed", "is replaced"}, "trust", "replace", "service-account", "--yes", "--skip-wait")
	l.end(w, 1000)
	w.well("v1.37.2")
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
}

// A replacement that is killed after any step goes on from there.
func TestReplaceInterrupted(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	kills := killed(t, w, 40, "trust", "replace", "cluster-authority", "--yes")
	if kills < 6 {
		t.Errorf("it was killed only %d times", kills)
	}
	t.Logf("killed %d times", kills)
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
	w.well("v1.37.2")
}

// A stolen key: the old authority is distrusted first, and whoever is cut off
// is named before.
func TestReplaceNow(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	if err := os.WriteFile(kc, []byte(w.ok("access", "--person", "mara")), 0o600); err != nil {
		t.Fatal(err)
	}
	w.fails(2, []string{"this cuts off every kubeconfig that was given out", "--confirm tidewatch"}, "trust", "replace", "cluster-authority", "--now")
	w.fails(2, []string{"cannot be said of secrets-encryption"}, "trust", "replace", "secrets-encryption", "--now")
	for _, what := range []string{"cluster-authority", "service-account"} {
		w.fails(0, []string{"pass 3 of 3: drop the old one", "is replaced"}, "trust", "replace", what, "--now", "--confirm", "tidewatch")
	}
	// Cut off, it starts what it had stopped.
	if n := killed(t, w, 6, "trust", "replace", "datastore-authority", "--now", "--confirm", "tidewatch"); n < 3 {
		t.Errorf("it was killed only %d times", n)
	}
	if err := asksAPI(kc)(context.Background()); err == nil {
		t.Error("the kubeconfig from before still works")
	}
	w.fails(0, []string{"ended: its authority was replaced"}, "access", "--list")
	w.well("v1.37.2")
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
}

// A small cluster outgrows its one control-plane machine, and shrinks to it again:
// what answers at the endpoint's name is that machine, an existing balancer, one
// of its own with a virtual address beside it, and that machine again. Nothing is
// made anew for it, and no request fails while it grows.
func TestSmallEndpointMoves(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--person", "mara", "--merge", kc)
	before := w.vouches()
	anew := func(when string) {
		t.Helper()
		w.well("v1.37.2")
		now := w.vouches()
		for id, old := range before {
			if now[id].Serial != old.Serial {
				t.Errorf("%s: %s was made anew", when, id)
			}
		}
		if o := w.on("tidewatch-keepers-1", "/etc/hosts"); !strings.Contains(o, w.status().Endpoint.Address+" api.tidewatch.test") {
			t.Errorf("%s: the worker has\n%s", when, o)
		}
	}
	l := startLoad(map[string]func(context.Context) error{"the API": asksAPI(kc)})
	passOn(t, w.block()+"251:6443", w.block()+"10:6443")
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test, existing: {address: "+w.block()+"251}}")
	w.fails(0, []string{"points to https://" + w.block() + "251:6443 now"}, "converge", "--yes")
	anew("an existing balancer")
	virtual := "virtual: {address: " + w.block() + "200}"
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test, "+virtual+"}")
	w.fails(1, []string{"the endpoint would move from the existing balancer to a virtual address that nobody carries yet"}, "plan")
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test, balancer: {size: small}}")
	w.declare(`control: .*`, "control: {count: 3, size: medium}")
	var p struct {
		Steps []struct {
			ID    string
			Needs []string
		}
	}
	if err := json.Unmarshal([]byte(w.ok("plan", "-o", "json")), &p); err != nil {
		t.Fatal(err)
	}
	if i := slices.IndexFunc(p.Steps, func(s struct {
		ID    string
		Needs []string
	}) bool {
		return s.ID == "write/tidewatch-keepers-1"
	}); i < 0 || !slices.Contains(p.Steps[i].Needs, "balance/tidewatch-balancer-1") {
		t.Errorf("a worker is told of the balancer before that runs: %+v", p.Steps)
	}
	w.ok("converge", "--yes")
	l.end(w, 50)
	anew("a balancer")
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test, balancer: {size: small}, "+virtual+"}")
	w.ok("converge", "--yes")
	anew("both")
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test, "+virtual+"}")
	w.ok("converge", "--yes")
	anew("a virtual address")
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test}")
	w.declare(`control: .*`, "control: {count: 1, size: medium}")
	w.fails(1, []string{"the virtual address would go while the machines are still pointed at it"}, "plan")
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test, balancer: {size: small}, "+virtual+"}")
	w.ok("converge", "--yes", "--confirm", "tidewatch")
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test}")
	w.ok("converge", "--yes")
	anew("the machine again")
	if n := len(w.machines()); n != 2 {
		t.Errorf("%d machines are left", n)
	}
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
}

// The endpoint moves from a balancer to a virtual address without a new
// certificate and without a failed request.
func TestEndpointMoves(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(1, 1)
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--person", "mara", "--merge", kc)
	before := w.vouches()
	balancer := `(?s)  balancer:\n.*?\n\n`
	b, err := os.ReadFile(w.path("tidewatch.verbund.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	virtual := "  virtual: {address: " + w.block() + "200}\n"
	w.declare(balancer, virtual+"\n")
	w.fails(1, []string{"that nobody carries yet", "declare a balancer beside virtual"}, "converge", "--yes")
	if err := os.WriteFile(w.path("tidewatch.verbund.yaml"), b, 0o644); err != nil {
		t.Fatal(err)
	}
	l := startLoad(map[string]func(context.Context) error{"the API": asksAPI(kc)})
	w.declare(`  balancer:\n`, virtual+"  balancer:\n")
	w.fails(0, []string{"endpoint-both"}, "converge", "--yes")
	w.declare(balancer, "\n")
	w.fails(0, []string{"points to https://" + w.block() + "200:6443 now"}, "converge", "--yes")
	l.end(w, 50)
	w.well("v1.37.2")
	for id, e := range w.vouches() {
		if old, there := before[id]; there && old.Serial != e.Serial {
			t.Errorf("%s was made anew", id)
		}
	}
	if ms := w.machines(); ms["tidewatch-balancer-1"].Name != "" {
		t.Error("the balancer is still there")
	}
}

// An endpoint that is an address becomes a name, while whoever uses the address
// is still answered; the address goes when it is declared no more.
func TestEndpointGetsName(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	at := w.block() + "200"
	w.declare(`name: api.tidewatch.test`, "name: "+at+", virtual: {address: "+at+"}")
	w.declare(`count: 1, size: medium`, "count: 3, size: medium")
	w.fails(0, []string{"endpoint-address"}, "converge", "--yes")
	kc, old := w.path("kubeconfig"), w.path("old")
	w.ok("access", "--person", "mara", "--merge", kc)
	b, err := os.ReadFile(kc)
	if err == nil {
		err = os.WriteFile(old, b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	l := startLoad(map[string]func(context.Context) error{"who follows": asksAPI(kc), "who was told the address": asksAPI(old)})
	w.declare(`name: 127[0-9.]*`, "name: api.tidewatch.test")
	w.fails(1, []string{"add " + at + " to control.names"}, "converge", "--yes")
	w.declare(`count: 3, size: medium`, "count: 3, size: medium, names: ["+at+"]")
	w.fails(0, []string{"kubeconfig"}, "converge", "--yes")
	l.end(w, 30)
	w.well("v1.37.2")
	if b, err = os.ReadFile(kc); err != nil || !strings.Contains(string(b), "tls-server-name: api.tidewatch.test") {
		t.Errorf("the kubeconfig does not know the name: %v", err)
	}
	w.declare(`, names: \[[0-9.]*\]`, "")
	w.ok("converge", "--yes")
	// A client keeps connections that it has; a new one is refused.
	cfg, err := clientcmd.BuildConfigFromFlags("", old)
	if err != nil {
		t.Fatal(err)
	}
	tlsc, err := rest.TLSConfigFor(cfg)
	if err != nil {
		t.Fatal(err)
	}
	var name x509.HostnameError
	if c, err := tls.Dial("tcp", at+":6443", tlsc); !errors.As(err, &name) {
		t.Errorf("the address is still vouched for: %v", err)
		if err == nil {
			c.Close()
		}
	}
	if err := asksAPI(kc)(context.Background()); err != nil {
		t.Error(err)
	}
	w.well("v1.37.2")
}
