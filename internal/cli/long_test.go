package cli_test

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"
	policyv1 "k8s.io/api/policy/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/util/intstr"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/tools/clientcmd"

	"verbund/internal/datastore/datastoretest"
)

// Upgrades over two minors, in each way, while an application with a budget that lets one pod
// go at a time is asked without pause: at least 20,000 times, and none of them fails. It takes
// minutes, and is asked for by VERBUND_TESTS=trials; TestTwoMinorsInOneRun and TestReplacement are
// what runs with every change.
func TestLongUpgrades(t *testing.T) {
	inLane(t)
	for _, way := range []string{"in-place", "replacement"} {
		t.Run(way, func(t *testing.T) {
			w := newWorld(t, "available", "v1.35.4")
			w.edit("estuary.site.yaml", `pace: .*`, "pace: 30")
			w.declare(`count: 3\n    size: small`, "count: 6\n    size: small")
			w.declare(`way: in-place`, "way: "+way)
			w.ok("converge", "--yes")
			kc := w.path("kubeconfig")
			w.ok("access", "--merge", kc)
			w.deploy(kc)
			k, err := clientOf(kc)
			if err != nil {
				t.Fatal(err)
			}
			three := intstr.FromInt32(3)
			if _, err := k.PolicyV1().PodDisruptionBudgets("default").Create(context.Background(), &policyv1.PodDisruptionBudget{ObjectMeta: metav1.ObjectMeta{Name: "tidetable"},
				Spec: policyv1.PodDisruptionBudgetSpec{MinAvailable: &three, Selector: &metav1.LabelSelector{MatchLabels: map[string]string{"app": "tidetable"}}}}, metav1.CreateOptions{}); err != nil {
				t.Fatal(err)
			}
			page := asksPage("http://" + w.status().Endpoint.Address + ":8080/")
			var pages atomic.Int64
			asks := map[string]func(context.Context) error{"api": asksAPI(kc)}
			for i := range 32 {
				asks[fmt.Sprint("page ", i)] = func(ctx context.Context) error {
					pages.Add(1)
					return page(ctx)
				}
			}
			l := startLoad(asks)
			w.ok("upgrade", "v1.37.2", "--yes")
			n := pages.Load()
			l.end(w, 1)
			w.well("v1.37.2")
			t.Logf("%d questions of the application, and %d answers of all, none failed", n, l.good)
			t.Logf("against what was foretold:\n%s", w.ok("history", "last", "--against"))
			if n < 20000 {
				t.Errorf("it was asked %d times, wanted 20,000", n)
			}
		})
	}
}

// An upgrade while twenty others look without pause, with the memory in the folder and in an etcd
// that they share: how long it takes in one and in the other is a figure, and none of the others
// sees anything that was not.
func TestLongSharedReaders(t *testing.T) {
	inLane(t)
	took := map[string]time.Duration{}
	for _, where := range []string{"folder", "etcd"} {
		at := "" // it outlives the world that lies in it
		if where == "etcd" {
			at = "etcd://" + strings.TrimPrefix(datastoretest.Alone(t), "http://") + "/boards"
		}
		w := newWorld(t, "available", "v1.36.3")
		w.ok("converge", "--yes")
		if at != "" {
			w.ok("store", "move", at, "--yes")
		}
		ctx, end := context.WithCancel(t.Context())
		var looked atomic.Int64
		var readers sync.WaitGroup
		for i := range 20 {
			readers.Go(func() {
				for n := i; ctx.Err() == nil; n++ {
					args := [][]string{{"status", "-o", "json"}, {"plan", "-o", "json"}, {"nodes"}}[n%3]
					out, errs, code := w.run(args...)
					var seen struct{ Running, State string }
					switch {
					case code != 0 && code != 3:
						t.Errorf("%s in the %s: exit code %d\n%s", args[0], where, code, errs)
					case args[0] == "status" && (json.Unmarshal([]byte(out), &seen) != nil || seen.Running != "v1.36.3" && seen.Running != "v1.37.2"):
						t.Errorf("in the %s status says %+v", where, seen)
					}
					looked.Add(1)
				}
			})
		}
		began := time.Now()
		w.ok("upgrade", "v1.37.2", "--yes")
		took[where] = time.Since(began)
		end()
		readers.Wait()
		w.well("v1.37.2")
		t.Logf("with the memory in the %s: %s, while %d looks were taken", where, took[where].Round(time.Second/10), looked.Load())
	}
	t.Logf("%.2f times as long in the etcd as in the folder", float64(took["etcd"])/float64(took["folder"]))
}

// All control-plane machines are lost, with a backup of 10,000 objects: at the pace of a draft
// the cluster is there again within 30 s, and every object is the one of the backup, down to its
// revision.
func TestLongRestore(t *testing.T) {
	inLane(t)
	w := newWorld(t, "available", "v1.37.2")
	w.edit("estuary.site.yaml", `pace: .*`, "pace: 100")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	w.ok("access", "--merge", kc)
	cfg, err := clientcmd.BuildConfigFromFlags("", kc)
	if err != nil {
		t.Fatal(err)
	}
	cfg.QPS = -1 // as fast as it goes
	k, err := kubernetes.NewForConfig(cfg)
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	var g errgroup.Group
	g.SetLimit(16)
	for i := range 10000 {
		g.Go(func() error {
			_, err := k.CoreV1().ConfigMaps("default").Create(ctx, note(fmt.Sprint("gauge-", i), strings.Repeat("high water ", 40)), metav1.CreateOptions{})
			return err
		})
	}
	if err := g.Wait(); err != nil {
		t.Fatal(err)
	}
	all := func() string {
		l, err := k.CoreV1().ConfigMaps("default").List(ctx, metav1.ListOptions{})
		if err != nil {
			t.Fatal(err)
		}
		b, err := json.Marshal(l.Items)
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprintf("%d %x", len(l.Items), sha256.Sum256(b))
	}
	before := all()
	began := time.Now()
	w.ok("backup", "take")
	t.Logf("taken and read back in %s", time.Since(began).Round(10*time.Millisecond))
	if err := k.CoreV1().ConfigMaps("default").Delete(ctx, "gauge-7", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	for i := 1; i <= 3; i++ {
		w.ok("site", "fault", "lost-machine", fmt.Sprint("tidewatch-control-", i))
	}
	began = time.Now()
	w.ok("backup", "restore", "newest", "--yes", "--confirm", "tidewatch")
	took := time.Since(began)
	if after := all(); after != before {
		t.Errorf("the objects are %s, and were %s", after, before)
	}
	if t.Logf("restored in %s", took.Round(10*time.Millisecond)); took > 30*time.Second {
		t.Errorf("it took %s", took)
	}
	w.well("v1.37.2")
}
