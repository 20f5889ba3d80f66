package practise

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	appsv1 "k8s.io/api/apps/v1"
	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/util/intstr"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/kubeapi"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// DemoCmd is verbund demo.
func DemoCmd(a *desk.App) *cobra.Command {
	var keep bool
	var components string
	c := &cobra.Command{
		Use: "demo", Short: "Live through the whole life of a cluster with shipped data", Args: term.NoArgs,
		Long: `Raises the cluster tidewatch on a simulated site in a temporary folder, runs an
application on it and measures its requests all the while, loses a control-plane
machine, upgrades by one minor version, and tears everything down. Exits 0 only
if every claim that it made was checked and held. Where it cannot go on, what
there was to see is put into one archive before everything is given back.

With --linux the machines are real Linux systems on this computer, with the real
components that tools/components has built into a folder, and a machine, all
certificates and an authority are replaced as well; that needs root.`,
		Example: "  verbund demo\n  sudo verbund demo --linux components",
		RunE: func(*cobra.Command, []string) error {
			dir, err := os.MkdirTemp("", "verbund-demo-")
			if err != nil {
				return err
			}
			d := &demo{App: a, keep: keep, began: time.Now(), cat: versions.Shipped()}
			if err := d.real(components); err != nil {
				return errors.Join(err, os.Remove(dir))
			}
			keys := ""
			if !keep {
				if keys, err = os.MkdirTemp("", "verbund-demo-keys-"); err != nil {
					return err
				}
				defer os.RemoveAll(keys)
			}
			d.sub = &desk.App{UI: &term.UI{In: a.In, Out: a.Out, Err: a.Err, Soft: a.Soft, Hard: a.Hard, Yes: true, Output: "text", Quiet: a.Quiet, NoColor: a.NoColor}, Dir: dir, KeyDir: keys, Parallel: a.Parallel, Command: a.Command}
			return d.live()
		},
	}
	c.Flags().BoolVar(&keep, "keep", false, "leave the folder and the cluster")
	c.Flags().StringVar(&components, "linux", "", "real Linux machines on this computer, with the components in a `FOLDER` that tools/components built")
	return c
}

const demoCluster = "tidewatch"

// demo is one run of the demonstration.
type demo struct {
	*desk.App
	sub    *desk.App // works in the demo's folder
	keep   bool
	began  time.Time
	stages int
	claims []claim
	before map[string]string // node versions
	cat    *versions.Catalogue
	linux  string // folder of real components; empty on simulated machines
}

// real has the demonstration live on machines that are real systems, with the components in a
// folder, if there is one.
func (d *demo) real(folder string) error {
	if folder == "" {
		return nil
	}
	if os.Geteuid() != 0 {
		return term.Usage("machines that are real systems are made by root alone; run it as root, or without --linux")
	}
	abs, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	if d.cat, _, err = desk.Components(folder, abs, desk.FullCatalogue); err != nil {
		return err
	}
	if from, _ := d.hop(); from == "" {
		return term.Usage("%s has the components of one minor version, and there is nothing to upgrade to; build two: go run . -to FOLDER -sets v1.36.3,v1.37.2", folder)
	}
	d.linux = abs
	return nil
}

// hop is the newest version, and one a minor before it; empty when there is none.
func (d *demo) hop() (from, to string) {
	vs := d.cat.Versions()
	newest, _ := d.cat.Set(vs[len(vs)-1])
	for _, s := range d.cat.Sets {
		if s.Minor() == newest.Minor()-1 {
			from = s.Kubernetes
		}
	}
	return from, newest.Kubernetes
}

// longer is a time to wait, which is longer where machines are real.
func (d *demo) longer(t time.Duration) time.Duration {
	if d.linux != "" {
		return 6 * t
	}
	return t
}

type claim struct {
	text string
	ok   bool
}

// stage says what comes and why.
func (d *demo) stage(title, why string) {
	d.stages++
	line := fmt.Sprintf("%d  %s", d.stages, title)
	if d.UI.OutColour {
		line = d.UI.Good.Render(line)
	}
	fmt.Fprintf(d.Out, "\n%s  (second %.0f)\n   %s\n\n", line, time.Since(d.began).Seconds(), why)
}

// check tells a claim after it was looked at.
func (d *demo) check(ok bool, format string, args ...any) {
	c := claim{fmt.Sprintf(format, args...), ok}
	d.claims = append(d.claims, c)
	mark := term.Cell{Text: "holds", State: "good"}
	if !ok {
		mark = term.Cell{Text: "DOES NOT HOLD", State: "bad"}
	}
	text := mark.Text
	if d.UI.OutColour {
		text = d.UI.Paint(mark, text)
	}
	fmt.Fprintf(d.Out, "   %s: %s\n", text, c.text)
}

// do runs a command of this program in the demo's folder.
func (d *demo) do(args ...string) error {
	fmt.Fprintf(d.Out, "$ verbund %s\n", strings.Join(args, " "))
	if code := d.sub.Command(d.sub, args); code != term.ExitDone {
		return fmt.Errorf("verbund %s ended with exit code %d", strings.Join(args, " "), code)
	}
	return nil
}

func (d *demo) live() (err error) {
	defer func() {
		if _, gone := os.Stat(d.sub.Dir); err != nil && !d.keep && gone == nil {
			if d.Soft.Err() == nil { // nobody interrupted it
				d.evidence()
			}
			// Whatever happened, nothing is left running.
			d.sub.Soft, d.sub.Hard = context.Background(), context.Background()
			d.sub.Quiet = true
			d.sub.Command(d.sub, []string{"teardown", "--confirm", demoCluster})
			os.RemoveAll(d.sub.Dir)
		}
	}()
	if err := d.raise(); err != nil {
		return err
	}
	if err := d.proves(); err != nil {
		return err
	}
	kube, err := d.deploy()
	if err != nil {
		return err
	}
	m := d.measure()
	defer m.stop()
	if err := d.lose(kube); err != nil {
		return err
	}
	if err := d.upgrade(kube); err != nil {
		return err
	}
	if d.linux != "" {
		if err := d.renew(); err != nil {
			return err
		}
	}
	if err := d.restore(); err != nil {
		return err
	}
	if err := d.practises(); err != nil {
		return err
	}
	m.stop()
	d.compare(m)
	if err := d.end(); err != nil {
		return err
	}
	held := 0
	for _, c := range d.claims {
		if c.ok {
			held++
		}
	}
	fmt.Fprintf(d.Out, "\n%d of %d claims hold, after %.0f seconds.\n", held, len(d.claims), time.Since(d.began).Seconds())
	if held < len(d.claims) {
		return &term.Exit{Code: term.ExitFailed}
	}
	return nil
}

// evidence puts aside what there is to see of a demonstration that failed, before all of it is
// given back.
func (d *demo) evidence() {
	f, err := os.CreateTemp("", "verbund-demo-failed-*.tar.gz")
	if err != nil {
		d.UI.Say("what there was to see when it failed could not be put aside: %v", err)
		return
	}
	f.Close()
	d.sub.Quiet = true
	if code := d.sub.Command(d.sub, []string{"collect", "--to", f.Name()}); code != term.ExitDone {
		os.Remove(f.Name())
		return
	}
	fmt.Fprintf(d.Err, "what there was to see when it failed, without secrets: %s\n", f.Name())
}

func (d *demo) session() (*session.Session, *topology.Cluster, error) {
	s, err := d.sub.Open(false)
	if err != nil {
		return nil, nil, err
	}
	c, err := s.Topology()
	return s, c, err
}

func (d *demo) raise() error {
	old, _ := d.hop()
	d.stage("Declare a cluster", "Three control-plane machines in three zones and two pools, one minor version behind the newest,\n   so that there is something to upgrade.")
	draft := []string{"draft", demoCluster, "--pools", "gauges,forecast", "--kubernetes", old}
	if d.linux != "" {
		draft = append(draft, "--linux", d.linux)
	}
	if err := d.do(draft...); err != nil {
		return err
	}
	if err := d.declare(); err != nil {
		return err
	}
	if err := d.do("check"); err != nil {
		return err
	}
	d.stage("Raise it", "One command gets the machines, makes the certificates, raises the control plane and joins the workers.\n   Nodes are NotReady until the network plugin runs on them: that is normal.")
	began := time.Now()
	if err := d.do("converge", "--yes"); err != nil {
		return err
	}
	fmt.Fprintln(d.Out)
	if err := d.do("nodes"); err != nil {
		return err
	}
	s, v, err := d.sub.View()
	if err != nil {
		return err
	}
	defer s.Close()
	ready := 0
	d.before = map[string]string{}
	for n, seen := range v.Seen.Nodes {
		d.before[n] = seen.Version
		if seen.Ready && seen.Version == old {
			ready++
		}
	}
	d.check(ready == 8, "%d of 8 nodes are Ready on %s, %.0f seconds after the command", ready, old, time.Since(began).Seconds())
	d.check(len(v.Members) == 3 && len(v.Ailing()) == 0, "the datastore has %d members and %s", len(v.Members), ailing(v))
	return nil
}

// declare changes the draft, as a person would: the application gets a say in roll-outs, one
// pool gets new machines instead of changed ones, and whoever goes first is watched for less
// than one would in earnest.
func (d *demo) declare() error {
	file := filepath.Join(d.sub.Dir, demoCluster+declare.Ending)
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	text := string(b)
	for _, x := range [][2]string{
		{"    rollout: {soak: 10s}\n    # Only pods", "    rollout: {way: replacement, soak: 10s}\n    # Only pods"},
		{"\npools:\n", fmt.Sprintf("\n# Asked from outside through every roll-out; it ends when too many answers fail.\nwatch:\n  - {name: tidetable, url: \"http://api.%s.test:8080/\", interval: 200ms, allow: 1}\n\npools:\n", demoCluster)},
		{"soak: 10s", "soak: 2s"},
	} {
		if !strings.Contains(text, x[0]) {
			return fmt.Errorf("the draft has no %q", x[0])
		}
		text = strings.ReplaceAll(text, x[0], x[1])
	}
	fmt.Fprintln(d.Out, "   Then the declaration gets a watch of the application, and pool forecast the way of replacement.")
	return whole.Write(file, []byte(text), 0o644)
}

// client reaches the cluster as a person would, with a kubeconfig from access.
// settles is how long something may ail for a moment after a change.
const settles = 5 * time.Second

// ailing says what ails a cluster.
func ailing(v *look.View) string {
	return cmp.Or(strings.Join(v.Ailing(), "; "), "nothing ails")
}

func (d *demo) client() (*kubeapi.Clients, error) {
	file := filepath.Join(d.sub.Dir, "kubeconfig")
	if err := d.do("access", "--person", "mara", "--merge", file); err != nil {
		return nil, err
	}
	return d.reads()
}

// reads is a client by the kubeconfig as it is now.
func (d *demo) reads() (*kubeapi.Clients, error) {
	cfg, err := clientcmd.BuildConfigFromFlags("", filepath.Join(d.sub.Dir, "kubeconfig"))
	if err != nil {
		return nil, err
	}
	cfg.QPS = -1
	cfg.Timeout = 10 * time.Second
	return kubeapi.NewForConfig(rest.CopyConfig(cfg))
}

// application makes a Deployment of one of the shipped images, with a service.
func application(ctx context.Context, k *kubeapi.Clients, name, image string, replicas int32, nodePort int32) error {
	l := map[string]string{"app": name}
	_, err := k.AppsV1().Deployments("default").Create(ctx, &appsv1.Deployment{ObjectMeta: metav1.ObjectMeta{Name: name}, Spec: appsv1.DeploymentSpec{Replicas: &replicas, Selector: &metav1.LabelSelector{MatchLabels: l},
		Template: corev1.PodTemplateSpec{ObjectMeta: metav1.ObjectMeta{Labels: l}, Spec: corev1.PodSpec{Containers: []corev1.Container{{Name: name, Image: image, Ports: []corev1.ContainerPort{{ContainerPort: 8080}},
			ReadinessProbe: &corev1.Probe{ProbeHandler: corev1.ProbeHandler{HTTPGet: &corev1.HTTPGetAction{Path: "/", Port: intstr.FromInt32(8080)}}}}}}}}}, metav1.CreateOptions{})
	if err != nil {
		return err
	}
	_, err = k.CoreV1().Services("default").Create(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: name}, Spec: corev1.ServiceSpec{Type: corev1.ServiceTypeNodePort, Selector: l,
		Ports: []corev1.ServicePort{{Name: "http", Port: 80, TargetPort: intstr.FromInt32(8080), NodePort: nodePort}}}}, metav1.CreateOptions{})
	return err
}

// available waits until all replicas of a Deployment serve.
func available(ctx context.Context, k *kubeapi.Clients, name string, most time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	return poll(ctx, func() bool {
		dep, err := k.AppsV1().Deployments("default").Get(ctx, name, metav1.GetOptions{})
		return err == nil && dep.Status.AvailableReplicas == *dep.Spec.Replicas && dep.Status.ObservedGeneration == dep.Generation
	})
}

func poll(ctx context.Context, ok func() bool) error {
	t := time.NewTicker(50 * time.Millisecond)
	defer t.Stop()
	for !ok() {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-t.C:
		}
	}
	return nil
}

func (d *demo) deploy() (*kubeapi.Clients, error) {
	d.stage("Run an application", "tidetable, four pods and a disruption budget that wants three of them; it answers at every node's\n   port 30080 and, through the balancer, at port 8080.")
	k, err := d.client()
	if err != nil {
		return nil, err
	}
	_, c, err := d.session()
	if err != nil {
		return nil, err
	}
	ctx := d.Soft
	if err := application(ctx, k, "tidetable", c.Registry+"/tidetable:1.0", 4, 30080); err != nil {
		return nil, err
	}
	three := intstr.FromInt32(3)
	if _, err := k.PolicyV1().PodDisruptionBudgets("default").Create(ctx, &policyv1.PodDisruptionBudget{ObjectMeta: metav1.ObjectMeta{Name: "tidetable"},
		Spec: policyv1.PodDisruptionBudgetSpec{MinAvailable: &three, Selector: &metav1.LabelSelector{MatchLabels: map[string]string{"app": "tidetable"}}}}, metav1.CreateOptions{}); err != nil {
		return nil, err
	}
	err = available(ctx, k, "tidetable", d.longer(30*time.Second))
	d.check(err == nil, "the pods of tidetable serve")
	n := 0
	moment, end := context.WithTimeout(ctx, d.longer(settles))
	defer end()
	for _, m := range c.Machines {
		// A node's proxy learns of the pods a moment after everybody else.
		if m.IsNode() && poll(moment, func() bool {
			return answers(moment, net.JoinHostPort(m.Address.String(), "30080"), "tidetable 1.0") == nil
		}) == nil {
			n++
		}
	}
	d.check(n == 8, "it answers at the node port of %d of 8 nodes", n)
	if d.linux != "" {
		at, name := net.JoinHostPort(c.Endpoint.Address.String(), "8080"), "tidetable.default.svc."+c.Domain
		var last error
		ctx, cancel := context.WithTimeout(ctx, d.longer(settles))
		defer cancel()
		poll(ctx, func() bool { last = answers(ctx, at+"/ask?name="+name, "tidetable 1.0"); return last == nil })
		d.check(last == nil, "from a pod it is found by its name %s%s", name, trouble(last))
	}
	return k, nil
}

// trouble is what went wrong, as the end of a sentence.
func trouble(err error) string {
	if err == nil {
		return ""
	}
	return ": " + err.Error()
}

// errPatience is why a context of patience ended.
var errPatience = errors.New("no answer in time")

// patience ends a context after d in which this program ran. Time in which it
// stood still does not count, as when the computer sleeps or is given to
// somebody else: whoever was asked stood still as well, and is not to blame.
func patience(ctx context.Context, d time.Duration) (context.Context, context.CancelFunc) {
	const beat = 20 * time.Millisecond
	ctx, cancel := context.WithCancelCause(ctx)
	go func() {
		t := time.NewTicker(beat) // drops the beats that nobody could take
		defer t.Stop()
		for left := d; left > 0; left -= beat {
			select {
			case <-ctx.Done():
				return
			case <-t.C:
			}
		}
		cancel(errPatience)
	}()
	return ctx, func() { cancel(context.Canceled) }
}

// answers asks for a page and looks for a text in it. An error says how far the
// request came.
func answers(ctx context.Context, addr, want string) error {
	ctx, cancel := patience(ctx, 3*time.Second)
	defer cancel()
	began := time.Now()
	var mu sync.Mutex
	came := "no connection was made"
	reached := func(what string) {
		mu.Lock()
		defer mu.Unlock()
		came = fmt.Sprintf("%s after %d ms", what, time.Since(began).Milliseconds())
	}
	far := func(err error) error {
		mu.Lock()
		defer mu.Unlock()
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return fmt.Errorf("%w (%s; gave up after %d ms)", err, came, time.Since(began).Milliseconds())
	}
	req, err := http.NewRequestWithContext(httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		ConnectStart:         func(string, string) { reached("began to connect") },
		GotConn:              func(i httptrace.GotConnInfo) { reached("connected from " + i.Conn.LocalAddr().String()) },
		WroteRequest:         func(httptrace.WroteRequestInfo) { reached("sent") },
		GotFirstResponseByte: func() { reached("an answer began") },
	}), http.MethodGet, "http://"+addr, nil)
	if err != nil {
		return err
	}
	resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(req)
	if err != nil {
		return far(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		return far(err)
	}
	if resp.StatusCode != http.StatusOK || !strings.Contains(string(b), want) {
		return fmt.Errorf("%s: %s", resp.Status, b)
	}
	return nil
}

// meter asks the application again and again, through the balancer.
type meter struct {
	mu       sync.Mutex
	answered int
	failed   []string
	slowest  time.Duration
	cancel   context.CancelFunc
	ended    sync.WaitGroup
}

func (d *demo) measure() *meter {
	ctx, cancel := context.WithCancel(d.Hard)
	m := &meter{cancel: cancel}
	_, c, err := d.session()
	if err != nil {
		m.failed = append(m.failed, err.Error())
		return m
	}
	addr := net.JoinHostPort(c.Endpoint.Address.String(), "8080")
	for range 2 {
		m.ended.Go(func() {
			t := time.NewTicker(20 * time.Millisecond)
			defer t.Stop()
			for {
				select {
				case <-ctx.Done():
					return
				case <-t.C:
				}
				began := time.Now()
				err := answers(ctx, addr, "tidetable")
				if ctx.Err() != nil {
					return
				}
				m.mu.Lock()
				if err != nil {
					m.failed = append(m.failed, fmt.Sprintf("%s %v", began.Format("15:04:05.000"), err))
				} else {
					m.answered++
					m.slowest = max(m.slowest, time.Since(began))
				}
				m.mu.Unlock()
			}
		})
	}
	return m
}

func (m *meter) stop() {
	m.cancel()
	m.ended.Wait()
}

func (d *demo) lose(k *kubeapi.Clients) error {
	name := demoCluster + "-control-2"
	d.stage("Lose a control-plane machine", "The plug of "+name+" is pulled. Two of three members are a quorum: the API goes on answering,\n   and converge brings the machine back. From here on the requests to tidetable are counted.")
	if err := d.do("site", "power", name, "cut"); err != nil {
		return err
	}
	// Who was connected to that machine connects anew, and when its member led the
	// datastore another one has to be elected: a change may have to be tried again.
	began := time.Now()
	ctx, cancel := context.WithTimeout(d.Soft, d.longer(10*time.Second))
	defer cancel()
	last := errors.New("nobody answered in time")
	err := poll(ctx, func() bool {
		_, err := k.CoreV1().ConfigMaps("default").Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: "written-meanwhile"}}, metav1.CreateOptions{})
		if err != nil && ctx.Err() == nil {
			last = err
		}
		return err == nil || apierrors.IsAlreadyExists(err)
	})
	if err == nil {
		d.check(true, "the API takes a change while a control-plane machine is down, %.1f seconds after it went", time.Since(began).Seconds())
	} else {
		d.check(false, "the API takes a change while a control-plane machine is down: %v", last)
	}
	fmt.Fprintln(d.Out, "$ verbund status")
	code := d.sub.Command(d.sub, []string{"status"})
	d.check(code == term.ExitNotWell, "status says that the cluster is not well, with exit code %d", code)
	if err := d.do("converge", "--yes"); err != nil {
		return err
	}
	s, v, err := d.sub.View()
	if err != nil {
		return err
	}
	defer s.Close()
	// A lease may come late on a busy computer: one more look is what a person would take.
	moment, end := context.WithTimeout(d.Soft, d.longer(settles))
	defer end()
	err = poll(moment, func() bool {
		if len(v.Ailing()) == 0 {
			return true
		}
		if again, lerr := look.Observe(moment, s); lerr == nil {
			v = again
		}
		return false
	})
	d.check(err == nil, "%s is back, and %s", name, ailing(v))
	return nil
}

func (d *demo) upgrade(k *kubeapi.Clients) error {
	_, to := d.hop()
	s, c, err := d.session()
	if err != nil {
		return err
	}
	d.stage("Upgrade by one minor version", "One line of the declaration changes. Backup first; control-plane machines one at a time, out of the\n   balancer first; add-ons; then pool gauges in place, one machine on trial first, and pool forecast by\n   new machines. The application has a say all the while. In the middle, somebody deploys something new.")
	file := filepath.Join(d.sub.Dir, demoCluster+declare.Ending)
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if err := whole.Write(file, []byte(strings.Replace(string(b), "kubernetes: "+s.Decl.Kubernetes, "kubernetes: "+to, 1)), 0o644); err != nil {
		return err
	}
	// Of what is shipped as a stand-in only one application is there for real.
	second := "lampbook:1.0"
	if d.linux != "" {
		second = "tidetable:1.1"
	}
	var once sync.Once
	made := make(chan error, 1)
	d.sub.OnEntry = func(e store.Entry) {
		if e.Kind == store.StepDone && e.What == string(plan.Drain) {
			once.Do(func() {
				go func() { made <- application(d.Soft, k, "lampbook", c.Registry+"/"+second, 2, 30081) }()
			})
		}
	}
	err = d.do("converge", "--yes")
	d.sub.OnEntry = nil
	if err != nil {
		return err
	}
	select {
	case err = <-made:
	default:
		err = errors.New("the upgrade drained no node")
	}
	if err == nil {
		err = available(d.Soft, k, "lampbook", d.longer(30*time.Second))
	}
	d.check(err == nil, "lampbook, deployed in the middle of the upgrade, serves")
	return d.rolled(s)
}

// rolled looks at what the roll-out left: the word of the application, and new machines.
func (d *demo) rolled(s *session.Session) error {
	es, _, err := s.Store.Entries()
	if err != nil {
		return err
	}
	asked, failed, trials := 0, 0, 0
	for _, e := range es {
		for _, f := range e.Watches {
			asked, failed = max(asked, f.Answers), max(failed, f.Failed)
		}
		if e.Kind == store.StepDone && e.What == string(plan.Soak) {
			trials++
		}
	}
	d.check(asked > 10 && failed == 0, "the watch had its say: tidetable was asked %d times and more, and failed %d times", asked, failed)
	_, c, err := d.session()
	if err != nil {
		return err
	}
	_, one := c.Machine(demoCluster + "-forecast-3")
	_, two := c.Machine(demoCluster + "-forecast-4")
	d.check(one && two && trials >= 3, "%d machines went first and stayed well; pool forecast has new machines", trials)
	return nil
}

// renew replaces a machine, then everything that is trusted, while the application is asked.
func (d *demo) renew() error {
	name := demoCluster + "-gauges-2"
	d.stage("Replace a machine, and what is trusted", name+" is emptied, wiped and got anew. Then all certificates are made anew, and at last the\n   authority that signed them is replaced by another one: nobody is ever without a certificate that others believe.")
	for _, args := range [][]string{{"replace", name, "--yes"}, {"trust", "renew", "--all", "--yes"}, {"trust", "replace", "cluster-authority", "--yes"}} {
		if err := d.do(args...); err != nil {
			return err
		}
	}
	s, v, err := d.sub.View()
	if err != nil {
		return err
	}
	defer s.Close()
	d.check(len(v.Ailing()) == 0, "after that, %s", ailing(v))
	return nil
}

// compare shows versions before and after, and what was measured.
func (d *demo) compare(m *meter) {
	d.stage("Look at what happened", "Versions before and after, and every request that was made meanwhile.")
	s, v, err := d.sub.View()
	if err != nil {
		d.check(false, "the cluster can be looked at: %v", err)
		return
	}
	defer s.Close()
	var rows [][]term.Cell
	moved := 0
	for _, mc := range v.Cluster.Machines {
		if n, ok := v.Seen.Nodes[mc.Name]; ok {
			rows = append(rows, term.Cells(mc.Name, cmp.Or(d.before[mc.Name], "not there"), n.Version))
			if n.Version == s.Decl.Kubernetes && n.Ready && d.before[mc.Name] != n.Version {
				moved++
			}
		}
	}
	d.sub.UI.Table([]string{"node", "before", "after"}, rows)
	fmt.Fprintln(d.Out)
	d.check(moved == 8, "%d of 8 nodes went to %s and are Ready", moved, s.Decl.Kubernetes)
	kept, err := keep.All(s)
	before := slices.ContainsFunc(kept, func(f keep.Found) bool {
		return f.Trouble == nil && strings.HasPrefix(f.Manifest.Why, "before the upgrade")
	})
	d.check(err == nil && before, "a backup from before the upgrade is there")
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, f := range m.failed[:min(5, len(m.failed))] {
		fmt.Fprintf(d.Out, "   failed request: %s\n", f)
	}
	d.check(len(m.failed) == 0 && m.answered > 100, "of %d requests through the balancer %d were answered and %d failed; the slowest took %d ms",
		m.answered+len(m.failed), m.answered, len(m.failed), m.slowest.Milliseconds())
}

func (d *demo) end() error {
	if d.keep {
		fmt.Fprintf(d.Out, "\nThe cluster lives on in %s. Go there and look around; remove it with: verbund teardown\n", d.sub.Dir)
		return nil
	}
	d.stage("Tear it down", "Machines, processes, leases and the kubeconfig's entry go; the declaration, the site file, the journal\n   and the backups stay (the demo removes its folder at the end).")
	s, _, err := d.session()
	if err != nil {
		return err
	}
	inv, err := s.Site.Inventory(d.Soft)
	if err != nil {
		return err
	}
	processes := []int{inv.Process}
	for _, z := range inv.Zones {
		processes = append(processes, z.Process)
	}
	if err := d.do("teardown", "--confirm", demoCluster); err != nil {
		return err
	}
	alive := slices.DeleteFunc(processes, func(pid int) bool { return pid == 0 || !running(pid) })
	d.check(len(alive) == 0, "no process of the site is left")
	var left []string
	filepath.WalkDir(d.sub.Dir, func(p string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			rel, _ := filepath.Rel(d.sub.Dir, p)
			if rel != "kubeconfig" && !strings.HasSuffix(rel, declare.Ending) && !strings.HasSuffix(rel, declare.SiteEnding) && !strings.HasSuffix(rel, declare.PinsEnding) && !strings.HasSuffix(rel, ".schema.json") && !slices.Contains(store.Journals[:], filepath.Base(rel)) && filepath.Base(rel) != ".gitignore" && !strings.Contains(rel, "/backups/") {
				left = append(left, rel)
			}
		}
		return nil
	})
	d.check(len(left) == 0, "no other file is left%s", strings.Join(append([]string{""}, left...), " "))
	b, err := os.ReadFile(filepath.Join(d.sub.Dir, "kubeconfig"))
	d.check(err == nil && !strings.Contains(string(b), demoCluster), "the kubeconfig does not name the cluster any more")
	return os.RemoveAll(d.sub.Dir)
}

// running says whether a process exists.
func running(pid int) bool { return syscall.Kill(pid, 0) == nil }
