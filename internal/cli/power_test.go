package cli_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"

	"verbund/internal/core/drill"
	"verbund/internal/engine/gauge"
	"verbund/internal/kube"
)

// gauges begins to write through the cluster's endpoint.
func (w *world) gauges(file string) *gauge.Gauge {
	w.Helper()
	cfg, err := clientcmd.BuildConfigFromFlags("", file)
	if err == nil {
		err = rest.LoadTLSFiles(cfg)
	}
	if err != nil {
		w.Fatal(err)
	}
	at := w.status().Endpoint.Address + ":6443"
	k, err := kube.New(kube.Access{Server: cfg.Host, Via: []string{at}, CA: cfg.CAData, Cert: cfg.CertData, Key: cfg.KeyData})
	if err == nil {
		_, err = k.CoreV1().Namespaces().Create(w.Context(), &corev1.Namespace{ObjectMeta: metav1.ObjectMeta{Name: "gauged"}}, metav1.CreateOptions{})
	}
	if err != nil {
		w.Fatal(err)
	}
	return gauge.Begin(w.Context(), k, at, "gauged", "w", nil)
}

// A machine loses its power in the middle of an upgrade: each of the control plane and a worker,
// at entries of the journal from its beginning to its end. What the API had acknowledged is there
// afterwards, and how long it paused is told: with etcd's own times for an election, and with the
// shorter ones that docs/practising.md gives.
func TestLongPowerLoss(t *testing.T) {
	inLane(t)
	pauses := map[string][]time.Duration{}
	for trial := range 16 {
		times := []string{"etcd's own", "short"}[trial%2]
		t.Run(fmt.Sprint(trial), func(t *testing.T) {
			w, _, file := raisedWorld(t, "v1.36.3")
			if times == "short" {
				w.declare(`control:\n`, "components:\n  etcd: {config: {heartbeat-interval: 50, election-timeout: 500}}\ncontrol:\n")
				w.ok("converge", "--yes")
			}
			victim := []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3", "tidewatch-gauges-1"}[trial/2%4]
			after := 5 + trial/2*16
			g, began := w.gauges(file), time.Now()
			cmd, out, log := w.start("upgrade", "v1.37.2", "--yes", "-o", "json")
			n := 0
			before, during := time.Duration(0), ""
			entries(out, func(_, step, _ string) bool {
				if n++; n == after {
					before, during = g.Pause(), step
					w.ok("site", "power", victim, "cut")
				}
				return true
			})
			cmd.Wait()
			w.run("converge", "--yes")
			w.ok("converge", "--yes")
			w.soonWell("v1.37.2")
			m := g.Stop()
			if err := g.ReadBack(t.Context(), &m); err != nil {
				t.Fatal(err)
			}
			if n < after || len(m.Lost) > 0 {
				t.Errorf("%d entries, lost: %v\n%s", n, m.Lost, log)
			}
			if m.Pause > 3*time.Second {
				w.tellPause(began, m)
			}
			pauses[times] = append(pauses[times], m.Pause)
			t.Logf("%s, %s at entry %d (%s): %s, %d not; the longest pause before it %s", times, victim, after, during, m, m.Refused, before.Round(10*time.Millisecond))
		})
	}
	for times, all := range pauses {
		slices.Sort(all)
		within := len(slices.DeleteFunc(slices.Clone(all), func(p time.Duration) bool { return p > time.Second }))
		t.Logf("%s times: %d of %d pauses are within 1 s; median %s, longest %s", times, within, len(all), all[len(all)/2].Round(10*time.Millisecond), all[len(all)-1].Round(10*time.Millisecond))
	}
}

// tellPause logs what a run was at, and what the members of the datastore said, in the longest
// time without an acknowledged write.
func (w *world) tellPause(began time.Time, m drill.Measured) {
	w.Helper()
	from, longest, before := began, 0.0, 0.0
	for _, at := range append(m.Acks, m.Seconds) {
		if at-before > longest {
			longest, from = at-before, began.Add(time.Duration(before*float64(time.Second)))
		}
		before = at
	}
	from, to := from.Add(-2*time.Second), from.Add(time.Duration((longest+2)*float64(time.Second)))
	w.Logf("between %s and %s:", from.UTC().Format("15:04:05.0"), to.UTC().Format("15:04:05.0"))
	for _, e := range w.journal() {
		if e.Time.After(from) && e.Time.Before(to) {
			w.Logf("%s %s %s %s", e.Time.UTC().Format("15:04:05.0"), e.Kind, e.Step, e.Outcome)
		}
	}
	for _, m := range []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3", "tidewatch-balancer-1"} {
		out, _, _ := w.run("logs", m, "--all", "-n", "0", "--since", from.UTC().Format(time.RFC3339))
		for line := range strings.Lines(out) {
			if at, err := time.Parse("2006-01-02 15:04:05.000", line[:min(len(line), 23)]); err == nil && at.After(to) || strings.Contains(line, "traceutil") || strings.Contains(line, "took too long") {
				continue
			}
			w.Logf("%s %s", m, strings.TrimSpace(line))
		}
	}
}
