package prove

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	appsv1 "k8s.io/api/apps/v1"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/util/intstr"

	"verbund/internal/core/proof"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/gauge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
)

// Namespace is where proofs work, and nothing else.
const Namespace = "verbund-proof"

const (
	witness   = "witness"   // on every node
	neighbour = "neighbour" // beside it, for it to ask
	returning = "returning" // one pod that is deleted
	port      = 8080        // of the witness
)

// Options say how a proof is made.
type Options struct {
	Quick    bool          // without what takes longer than a pod needs to start
	Patience time.Duration // for pods to start, and for each question
	Tell     func(string)  // says what is waited for; nil: nobody
	// Control has a control-plane machine lose its power meanwhile: the one that Victim names.
	Control string
}

// proving is one proof underway.
type proving struct {
	*session.Session
	Options
	v *look.View
	c *topology.Cluster
	k *kube.Client

	nodes    []topology.Machine // that the cluster has
	nodePort int32
	near     string // address of the neighbours' service
	forward  int    // port of the balancer that leads to the witness, 0 if none
	pods     map[string]corev1.Pod
	began    time.Time

	mu      sync.Mutex
	answers map[string]map[proof.Question]proof.Answer
}

// Prove proves. hard bounds the clearing away, which happens also when ctx ends. An error says
// that the proof could not be made at all; what does not hold stands in the report.
func Prove(ctx, hard context.Context, s *session.Session, v *look.View, o Options) (r *proof.Report, err error) {
	p := &proving{Session: s, Options: o, v: v, c: v.Cluster, began: time.Now(), pods: map[string]corev1.Pod{}, answers: map[string]map[proof.Question]proof.Answer{}}
	if p.Tell == nil {
		p.Tell = func(string) {}
	}
	for _, m := range p.c.Machines {
		if _, ok := v.Seen.Nodes[m.Name]; ok && m.IsNode() {
			p.nodes = append(p.nodes, m)
		}
	}
	if p.k, err = s.Kube(p.c); err != nil {
		return nil, err
	}
	p.health()
	if v.APIError != nil {
		p.unasked("the API does not answer")
		return p.report(), nil
	}
	if err := gauge.Clear(ctx, p.k, Namespace); err != nil {
		return nil, fmt.Errorf("clearing away what an earlier proof left: %w", err)
	}
	defer func() {
		p.Tell("clearing away")
		if cerr := gauge.Clear(hard, p.k, Namespace); cerr != nil {
			err = errors.Join(err, fmt.Errorf("clearing away after the proof: %w; the next proof does it, or delete namespace %s", cerr, Namespace))
		}
	}()
	if err := p.deploy(ctx); err != nil {
		return nil, fmt.Errorf("the proof's workload: %w", err)
	}
	p.await(ctx)
	p.ask(ctx)
	if p.Control != "" {
		p.loseControl(ctx, hard)
	}
	return p.report(), ctx.Err()
}

// answer notes what a question came to.
func (p *proving) answer(node string, q proof.Question, state proof.State, took time.Duration, found string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.answers[node] == nil {
		p.answers[node] = map[proof.Question]proof.Answer{}
	}
	ms := took.Milliseconds()
	if took > 0 {
		ms = max(ms, 1)
	}
	p.answers[node][q] = proof.Answer{Node: node, Question: q, State: state, Found: found, Milliseconds: ms}
}

// judge is answer by an error.
func (p *proving) judge(node string, q proof.Question, began time.Time, found string, err error) {
	if err != nil {
		p.answer(node, q, proof.Fails, 0, err.Error())
		return
	}
	p.answer(node, q, proof.Holds, time.Since(began), found)
}

// holds says whether a question holds so far.
func (p *proving) holds(node string, q proof.Question) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.answers[node][q].State == proof.Holds
}

// health answers what was seen already.
func (p *proving) health() {
	if ails := p.v.Ailing(); len(ails) > 0 {
		found := strings.ReplaceAll(ails[0], "\n", "; ")
		if n := len(ails) - 1; n > 0 {
			found += fmt.Sprintf("; and %s, which verbund status shows", words.Count(n, "more thing"))
		}
		p.answer("", proof.Components, proof.Fails, 0, found)
	} else {
		p.answer("", proof.Components, proof.Holds, 0, fmt.Sprintf("nothing ails; %s of the datastore", words.Count(len(p.v.Members), "member")))
	}
	for _, m := range p.nodesDeclared() {
		n, ok := p.v.Seen.Nodes[m.Name]
		switch {
		case !ok && p.v.APIError != nil:
			p.answer(m.Name, proof.Ready, proof.Unasked, 0, "the API does not answer")
		case !ok:
			p.answer(m.Name, proof.Ready, proof.Fails, 0, "the cluster does not know it")
		case !n.Ready:
			p.answer(m.Name, proof.Ready, proof.Fails, 0, "it is not Ready")
		case n.Version != m.Set.Kubernetes:
			p.answer(m.Name, proof.Ready, proof.Fails, 0, fmt.Sprintf("it runs %s, and is to run %s", n.Version, m.Set.Kubernetes))
		default:
			p.answer(m.Name, proof.Ready, proof.Holds, 0, n.Version)
		}
	}
}

// nodesDeclared are the machines that are to be nodes.
func (p *proving) nodesDeclared() []topology.Machine {
	return slices.DeleteFunc(slices.Clone(p.c.Machines), func(m topology.Machine) bool { return !m.IsNode() })
}

// questions are those of nodes that this proof asks.
func (p *proving) questions() []proof.Question {
	return slices.DeleteFunc(slices.Clone(proof.OfNodes), func(q proof.Question) bool { return p.Quick && !q.Quick() })
}

// unasked notes of everything that is open why it could not be asked.
func (p *proving) unasked(why string) {
	for _, m := range p.nodesDeclared() {
		for _, q := range p.questions() {
			if _, done := p.answers[m.Name][q]; !done {
				p.answer(m.Name, q, proof.Unasked, 0, why)
			}
		}
	}
	for _, q := range p.ofCluster() {
		if _, done := p.answers[""][q]; !done {
			p.answer("", q, proof.Unasked, 0, why)
		}
	}
}

// ofCluster are the questions of the cluster that this proof asks.
func (p *proving) ofCluster() []proof.Question {
	if p.Quick {
		return []proof.Question{proof.Components, proof.Balancer}
	}
	all := []proof.Question{proof.Components, proof.Balancer, proof.Returns}
	if p.Control != "" {
		all = append(all, proof.Control)
	}
	return all
}

// report puts the answers in order; what has none could not be asked.
func (p *proving) report() *proof.Report {
	p.unasked("what it needs did not hold")
	r := &proof.Report{Cluster: p.c.Name, Kubernetes: p.Decl.Kubernetes, At: p.began.UTC(), Quick: p.Quick, Took: time.Since(p.began).Milliseconds()}
	for _, q := range p.ofCluster() {
		r.Answers = append(r.Answers, p.answers[""][q])
	}
	for _, m := range p.nodesDeclared() {
		for _, q := range p.questions() {
			r.Answers = append(r.Answers, p.answers[m.Name][q])
		}
	}
	return r
}

// deploy makes the workload: a witness on every node, whatever is tainted, with a service that
// leads from a node's port to the witness of that node alone.
func (p *proving) deploy(ctx context.Context) error {
	if _, err := p.k.CoreV1().Namespaces().Create(ctx, &corev1.Namespace{ObjectMeta: metav1.ObjectMeta{Name: Namespace}}, metav1.CreateOptions{}); err != nil {
		return err
	}
	if err := p.free(ctx); err != nil {
		return err
	}
	service := &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: witness}, Spec: corev1.ServiceSpec{Type: corev1.ServiceTypeNodePort, Selector: labelsOf(witness),
		ExternalTrafficPolicy: corev1.ServiceExternalTrafficPolicyLocal, Ports: []corev1.ServicePort{{Name: "http", Port: 80, TargetPort: intstr.FromInt32(port), NodePort: p.nodePort}}}}
	made, err := p.k.CoreV1().Services(Namespace).Create(ctx, service, metav1.CreateOptions{})
	if err != nil {
		return err
	}
	p.nodePort = made.Spec.Ports[0].NodePort
	if err := p.everywhere(ctx, witness); err != nil || p.Quick {
		return err
	}
	// Whoever asks for it is answered on the own node, or not at all.
	local := corev1.ServiceInternalTrafficPolicyLocal
	near, err := p.k.CoreV1().Services(Namespace).Create(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: neighbour}, Spec: corev1.ServiceSpec{Selector: labelsOf(neighbour),
		InternalTrafficPolicy: &local, Ports: []corev1.ServicePort{{Name: "http", Port: 80, TargetPort: intstr.FromInt32(port)}}}}, metav1.CreateOptions{})
	if err != nil {
		return err
	}
	p.near = near.Spec.ClusterIP
	if err := p.everywhere(ctx, neighbour); err != nil {
		return err
	}
	one := int32(1)
	pod := p.pod(returning)
	// Whoever takes the place of one that ends does so elsewhere.
	pod.Spec.Affinity = &corev1.Affinity{PodAntiAffinity: &corev1.PodAntiAffinity{RequiredDuringSchedulingIgnoredDuringExecution: []corev1.PodAffinityTerm{
		{LabelSelector: &metav1.LabelSelector{MatchLabels: labelsOf(returning)}, TopologyKey: corev1.LabelHostname}}}}
	_, err = p.k.AppsV1().Deployments(Namespace).Create(ctx, &appsv1.Deployment{ObjectMeta: metav1.ObjectMeta{Name: returning},
		Spec: appsv1.DeploymentSpec{Replicas: &one, Selector: &metav1.LabelSelector{MatchLabels: labelsOf(returning)}, Template: pod}}, metav1.CreateOptions{})
	return err
}

// everywhere has a pod on every node, whatever is tainted.
func (p *proving) everywhere(ctx context.Context, name string) error {
	pod := p.pod(name)
	pod.Spec.Tolerations = []corev1.Toleration{{Operator: corev1.TolerationOpExists}}
	_, err := p.k.AppsV1().DaemonSets(Namespace).Create(ctx, &appsv1.DaemonSet{ObjectMeta: metav1.ObjectMeta{Name: name},
		Spec: appsv1.DaemonSetSpec{Selector: &metav1.LabelSelector{MatchLabels: labelsOf(name)}, Template: pod}}, metav1.CreateOptions{})
	return err
}

// labelsOf tells the pods of one workload from others.
func labelsOf(name string) map[string]string {
	return map[string]string{"app.kubernetes.io/name": name}
}

// pod is a pod of the witness's image, which must not be able to do anything else.
func (p *proving) pod(name string) corev1.PodTemplateSpec {
	no, grace := false, int64(5)
	return corev1.PodTemplateSpec{ObjectMeta: metav1.ObjectMeta{Labels: labelsOf(name)}, Spec: corev1.PodSpec{AutomountServiceAccountToken: &no, TerminationGracePeriodSeconds: &grace,
		Containers: []corev1.Container{{Name: witness, Image: p.c.Registry + "/" + versions.Witness.Ref(), Ports: []corev1.ContainerPort{{ContainerPort: port}},
			ReadinessProbe: &corev1.Probe{PeriodSeconds: 1, ProbeHandler: corev1.ProbeHandler{HTTPGet: &corev1.HTTPGetAction{Path: "/", Port: intstr.FromInt32(port)}}}}}}}
}

// free finds a node port that the balancer publishes and that no service has, so that the way
// through the balancer can be shown with the witness.
func (p *proving) free(ctx context.Context) error {
	l, err := p.k.CoreV1().Services("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return err
	}
	taken := map[int]bool{}
	for _, s := range l.Items {
		for _, x := range s.Spec.Ports {
			taken[int(x.NodePort)] = true
		}
	}
	for _, f := range p.c.Forward {
		if !taken[f.To] {
			p.forward, p.nodePort = f.Port, int32(f.To)
			break
		}
	}
	return nil
}

// await waits for the witness of every node.
func (p *proving) await(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, p.Patience)
	defer cancel()
	began := time.Now()
	why := map[string]string{}
	p.Tell(fmt.Sprintf("waiting for a pod on each of %s", words.Count(len(p.nodes), "node")))
	session.Until(ctx, "pods", func(ctx context.Context) (string, error) {
		l, err := p.k.CoreV1().Pods(Namespace).List(ctx, metav1.ListOptions{LabelSelector: metav1.FormatLabelSelector(&metav1.LabelSelector{MatchLabels: labelsOf(witness)})})
		if err != nil {
			return "", err
		}
		for _, pod := range l.Items {
			node := pod.Spec.NodeName
			// A node that nobody declared may have one as well, which counts for no other.
			if p.holds(node, proof.Runs) || !slices.ContainsFunc(p.nodes, func(m topology.Machine) bool { return m.Name == node }) {
				continue
			}
			if why[node] = kube.PodTrouble(&pod); why[node] == "" {
				p.pods[node] = pod
				p.answer(node, proof.Runs, proof.Holds, time.Since(began), pod.Name)
			}
		}
		if n := len(p.nodes) - len(p.pods); n > 0 {
			return fmt.Sprintf("%s without one", words.Count(n, "node")), nil
		}
		return "", nil
	})
	for _, m := range p.nodes {
		if _, ok := p.pods[m.Name]; !ok {
			text := why[m.Name]
			if text == "" {
				text = "no pod was made for it"
			}
			p.answer(m.Name, proof.Runs, proof.Fails, 0, fmt.Sprintf("after %s: %s", p.Patience, text))
		}
	}
}

// ask asks everything that pods are needed for, of all nodes beside each other.
func (p *proving) ask(ctx context.Context) {
	p.Tell(fmt.Sprintf("asking %s", words.Count(len(p.pods), "node")))
	var places []proof.Place
	for _, m := range p.nodes {
		if _, ok := p.pods[m.Name]; ok {
			places = append(places, proof.Place{Node: m.Name, Zone: m.Zone})
		}
	}
	partners := proof.Partners(places)
	var all sync.WaitGroup
	room := make(chan struct{}, max(p.Parallel, 1))
	for _, m := range p.nodes {
		if _, ok := p.pods[m.Name]; !ok {
			continue
		}
		all.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			p.askNode(ctx, m, partners[m.Name])
		})
	}
	all.Go(func() { p.throughBalancer(ctx) })
	if !p.Quick {
		all.Go(func() { p.comesBack(ctx) })
	}
	all.Wait()
}

// askNode asks one node. Proxies learn of pods a moment after everybody else: each question is
// asked until it is answered rightly.
func (p *proving) askNode(ctx context.Context, m topology.Machine, partners []proof.Place) {
	pod, at := p.pods[m.Name], net.JoinHostPort(m.Address.String(), strconv.Itoa(int(p.nodePort)))
	began := time.Now()
	err := p.until(ctx, "its pod to answer at its node port", func(ctx context.Context) error { return page(ctx, "http://"+at+"/", pod.Name) })
	p.judge(m.Name, proof.Port, began, at, err)
	if p.Quick || err != nil {
		return
	}
	for _, x := range []struct {
		q        proof.Question
		asks     string
		answered string // by pods that are called so
	}{{proof.Name, fmt.Sprintf("%s.%s.svc.%s", witness, Namespace, p.c.Domain), witness}, {proof.Near, p.near, neighbour}} {
		began = time.Now()
		err = p.until(ctx, x.asks+" to answer its pod", func(ctx context.Context) error {
			return page(ctx, "http://"+at+"/ask?name="+url.QueryEscape(x.asks), x.answered)
		})
		p.judge(m.Name, x.q, began, x.asks, err)
	}
	p.askZones(ctx, m, at, partners)
	began = time.Now()
	err = p.until(ctx, "its pod's log", func(ctx context.Context) error {
		b, err := p.k.CoreV1().Pods(Namespace).GetLogs(pod.Name, &corev1.PodLogOptions{}).DoRaw(ctx)
		if err == nil && !strings.Contains(string(b), witness) {
			err = fmt.Errorf("the log of %s does not hold what it wrote: %d bytes", pod.Name, len(b))
		}
		return err
	})
	p.judge(m.Name, proof.Logs, began, pod.Name, err)
}

// askZones has the witness of a node ask one in every zone.
func (p *proving) askZones(ctx context.Context, m topology.Machine, at string, partners []proof.Place) {
	began := time.Now()
	var zones []string
	for _, to := range partners {
		other := p.pods[to.Node]
		from := net.JoinHostPort(other.Status.PodIP, strconv.Itoa(port))
		err := p.until(ctx, fmt.Sprintf("the pod of %s in zone %s to answer its pod", to.Node, to.Zone), func(ctx context.Context) error {
			return page(ctx, "http://"+at+"/ask?name="+url.QueryEscape(from), other.Name)
		})
		if err != nil {
			p.judge(m.Name, proof.Zones, began, "", err)
			return
		}
		zones = append(zones, to.Zone)
	}
	found := "zones " + strings.Join(zones, ", ")
	if len(zones) == 0 {
		found = "there is no other node to ask"
	}
	p.judge(m.Name, proof.Zones, began, found, nil)
}

// throughBalancer asks what the balancer publishes: the API, and the witness where one of the
// published node ports was free for it.
func (p *proving) throughBalancer(ctx context.Context) {
	began := time.Now()
	e := p.c.Endpoint
	at := net.JoinHostPort(e.Address.String(), strconv.Itoa(e.Port))
	err := p.until(ctx, "the API to answer at "+at, func(ctx context.Context) error { return p.k.ReadyAt(ctx, at) })
	found := "the API at " + at
	switch {
	case err != nil:
	case p.forward == 0 && len(p.c.Forward) == 0:
		found += "; no node port is published there"
	case p.forward == 0:
		found += "; services have every node port that is published there, so that the workload was not asked there"
	default:
		app := net.JoinHostPort(e.Address.String(), strconv.Itoa(p.forward))
		err = p.until(ctx, "a pod to answer at "+app, func(ctx context.Context) error { return page(ctx, "http://"+app+"/", witness) })
		found += ", the workload at " + app
	}
	p.judge("", proof.Balancer, began, found, err)
}

// comesBack deletes a pod and waits for the one that takes its place.
func (p *proving) comesBack(ctx context.Context) {
	sel := metav1.ListOptions{LabelSelector: metav1.FormatLabelSelector(&metav1.LabelSelector{MatchLabels: labelsOf(returning)})}
	ready := func(ctx context.Context, not string) (*corev1.Pod, error) {
		var found *corev1.Pod
		err := p.until(ctx, "a pod that serves", func(ctx context.Context) error {
			l, err := p.k.CoreV1().Pods(Namespace).List(ctx, sel)
			if err != nil {
				return err
			}
			err = errors.New("there is none")
			for _, pod := range l.Items {
				if string(pod.UID) == not || pod.DeletionTimestamp != nil {
					continue
				}
				why := kube.PodTrouble(&pod)
				if why == "" {
					found = &pod
					return nil
				}
				err = errors.New(why)
			}
			return err
		})
		return found, err
	}
	first, err := ready(ctx, "")
	if err != nil {
		p.judge("", proof.Returns, p.began, "", err)
		return
	}
	began := time.Now()
	if err := p.k.CoreV1().Pods(Namespace).Delete(ctx, first.Name, metav1.DeleteOptions{}); err != nil {
		p.judge("", proof.Returns, began, "", fmt.Errorf("deleting pod %s: %w", first.Name, err))
		return
	}
	second, err := ready(ctx, string(first.UID))
	if err != nil {
		p.judge("", proof.Returns, began, "", fmt.Errorf("after pod %s was deleted on %s: %w", first.Name, first.Spec.NodeName, err))
		return
	}
	p.judge("", proof.Returns, began, fmt.Sprintf("a pod deleted on %s came back on %s", first.Spec.NodeName, second.Spec.NodeName), nil)
}

// until asks until there is no error, as long as patience lasts.
func (p *proving) until(ctx context.Context, what string, ask func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, p.Patience)
	defer cancel()
	return session.Until(ctx, what, func(ctx context.Context) (string, error) { return "", ask(ctx) })
}

// mostPage is how much of a page is read, in bytes.
const mostPage = 1 << 16

// page asks for a page and looks for a text in it.
func page(ctx context.Context, at, want string) error {
	const patience = 6 * time.Second // a pod that asks another one gives up before
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return err
	}
	tr := &http.Transport{DisableKeepAlives: true}
	a, err := (&http.Client{Transport: tr}).Do(q)
	if err != nil {
		return err
	}
	defer a.Body.Close()
	b, err := io.ReadAll(io.LimitReader(a.Body, mostPage))
	if err != nil {
		return err
	}
	if a.StatusCode != http.StatusOK || !strings.Contains(string(b), want) {
		return fmt.Errorf("%s answered %s: %s", at, a.Status, strings.TrimSpace(string(b[:min(len(b), 200)])))
	}
	return nil
}
