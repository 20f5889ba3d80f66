package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/tools/clientcmd"
)

// api is a client of the round's cluster.
func (r *round) api(ctx context.Context) (kubernetes.Interface, error) {
	file := filepath.Join(r.dir, "kubeconfig")
	if _, err := r.tool(ctx, "access", "--merge", file); err != nil {
		return nil, err
	}
	cfg, err := clientcmd.BuildConfigFromFlags("", file)
	if err != nil {
		return nil, err
	}
	cfg.QPS, cfg.Timeout = -1, 20*time.Second
	return kubernetes.NewForConfig(cfg)
}

// write writes some objects, and returns all that are there then.
func (r *round) write(ctx context.Context, kind string) (map[string]string, error) {
	k, err := r.api(ctx)
	if err != nil {
		return nil, err
	}
	for i := range 20 {
		m := &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: fmt.Sprintf("%s-%d", kind, i)}, Data: map[string]string{"text": fmt.Sprint(r.seed, i)}}
		if _, err := k.CoreV1().ConfigMaps("default").Create(ctx, m, metav1.CreateOptions{}); err != nil {
			return nil, err
		}
	}
	return objects(ctx, k)
}

// objects are those that were written, with what they hold.
func objects(ctx context.Context, k kubernetes.Interface) (map[string]string, error) {
	l, err := k.CoreV1().ConfigMaps("default").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, m := range l.Items {
		if text, ok := m.Data["text"]; ok {
			out[m.Name] = text
		}
	}
	return out, nil
}

// machines are the names of the machines that the site has for the cluster.
func (r *round) machines(ctx context.Context) ([]string, error) {
	text, err := r.tool(ctx, "machines", "-o", "json")
	if err != nil {
		return nil, err
	}
	var ms []struct{ Name, Cluster string }
	if err := json.Unmarshal([]byte(text), &ms); err != nil {
		return nil, err
	}
	var out []string
	for _, m := range ms {
		if m.Cluster == cluster {
			out = append(out, m.Name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// settles is how long a cluster may ail for a moment after a run.
const settles = 30 * time.Second

// compare holds what is there against what there should be: every difference is an error.
func (r *round) compare(ctx context.Context, d deed) error {
	var errs []error
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	if err := r.well(ctx, d); err != nil {
		errs = append(errs, err)
	}
	if _, err := r.tool(ctx, "store", "show", "--check"); err != nil {
		errs = append(errs, err)
	}
	k, err := r.api(ctx)
	if err != nil {
		return errors.Join(append(errs, err)...)
	}
	got, err := objects(ctx, k)
	if err != nil {
		errs = append(errs, err)
	} else if r.notes != nil && !maps.Equal(got, r.notes) {
		wrong("objects are %v, and were %v", slices.Sorted(maps.Keys(got)), slices.Sorted(maps.Keys(r.notes)))
	}
	ms, err := r.machines(ctx)
	if err != nil {
		errs = append(errs, err)
	}
	count := map[string]int{}
	for _, m := range ms {
		parts := strings.Split(strings.TrimPrefix(m, cluster+"-"), "-")
		count[parts[0]]++
	}
	want := map[string]int{"control": 3, "balancer": 1, "gauges": 3, "forecast": 2}
	if d.gauges > 0 {
		want["gauges"] = d.gauges
	}
	if !maps.Equal(count, want) || len(slices.Compact(slices.Clone(ms))) != len(ms) {
		wrong("machines are %v, and should be %v", ms, want)
	}
	nodes, err := k.CoreV1().Nodes().List(ctx, metav1.ListOptions{})
	if err != nil {
		errs = append(errs, err)
	} else {
		var is []string
		for _, n := range nodes.Items {
			is = append(is, n.Name)
			if n.Spec.Unschedulable {
				wrong("node %s is cordoned", n.Name)
			}
			if n.Status.NodeInfo.KubeletVersion != d.version {
				wrong("node %s runs %s", n.Name, n.Status.NodeInfo.KubeletVersion)
			}
		}
		slices.Sort(is)
		if should := slices.DeleteFunc(slices.Clone(ms), func(m string) bool { return strings.Contains(m, "balancer") }); !slices.Equal(is, should) {
			wrong("nodes are %v, and machines %v", is, should)
		}
	}
	if err := r.journal(); err != nil {
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// well waits until status says that all is well: also of certificates, and of the members of
// the datastore.
func (r *round) well(ctx context.Context, d deed) error {
	end := time.Now().Add(settles)
	for {
		text, err := r.tool(ctx, "status", "-o", "json")
		var s struct {
			Well                    bool
			Running                 string
			Pending                 int
			Ailing, Strained, Trust []string
			Datastore               struct {
				Members []struct{ Name string }
			}
		}
		if jerr := json.Unmarshal([]byte(text), &s); jerr != nil {
			return errors.Join(err, jerr)
		}
		// That something was started anew several times is what killing does.
		restarted := func(x string) bool { return strings.Contains(x, "restarted") || strings.Contains(x, "started anew") }
		strained := slices.DeleteFunc(s.Strained, restarted)
		if len(s.Ailing)+len(strained)+len(s.Trust)+s.Pending == 0 && s.Running == d.version && len(s.Datastore.Members) == 3 {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("status is %+v", s)
		}
		if err := pause(ctx, 500*time.Millisecond); err != nil {
			return err
		}
	}
}

// journal reads every entry: runs follow each other, and each step that ends has begun in the
// same run.
func (r *round) journal() error {
	if r.share {
		return nil // the check of the store has read it where it lies
	}
	f, err := os.Open(filepath.Join(r.dir, ".verbund", cluster, "journal.jsonl"))
	if err != nil {
		return err
	}
	defer f.Close()
	began := map[string]bool{}
	over := map[string]bool{}
	n := 0
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<24)
	for lines.Scan() {
		n++
		// What was cut off in the middle of a line stays as it is, and the next one begins anew.
		var e struct{ Run, Kind, Step string }
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			if r.killed {
				continue
			}
			return fmt.Errorf("line %d of the journal: %w", n, err)
		}
		id := e.Run + " " + e.Step
		switch e.Kind {
		case "step-began":
			began[id] = true
		case "step-done", "step-failed":
			if !began[id] && e.Step != "" {
				return fmt.Errorf("line %d of the journal: step %s ends that did not begin", n, e.Step)
			}
		case "run-ended":
			over[e.Run] = true
		case "run-began":
			if over[e.Run] {
				return fmt.Errorf("line %d of the journal: run %s begins again", n, e.Run)
			}
		}
	}
	return lines.Err()
}
