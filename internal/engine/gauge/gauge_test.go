package gauge

import (
	"slices"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes/fake"

	"verbund/internal/kube"
	"verbund/internal/kubeapi/kubeapitest"
)

// What was acknowledged and is not there, or holds something else, is lost; what was not
// acknowledged is not.
func TestReadBack(t *testing.T) {
	written := func(name, data string) *corev1.ConfigMap {
		return &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Namespace: "n", Name: name, Labels: map[string]string{mark: "id"}}, Data: map[string]string{"name": data}}
	}
	api := fake.NewClientset(written("a", "a"), written("b", "other"), written("unsure", "unsure"))
	g := &Gauge{k: kube.Of(kubeapitest.Over(&api.Fake)), namespace: "n", id: "id", stop: func() {}, began: time.Now()}
	for _, n := range []string{"a", "b", "c"} {
		g.acks = append(g.acks, ack{n, time.Now()})
	}
	m := g.Stop()
	if m.ReadBack || len(m.Lost) > 0 {
		t.Errorf("nobody looked yet: %+v", m)
	}
	if err := g.ReadBack(t.Context(), &m); err != nil {
		t.Fatal(err)
	}
	if !m.ReadBack || !slices.Equal(m.Lost, []string{"b", "c"}) {
		t.Errorf("lost: %v", m.Lost)
	}
}

// A pause is the longest time without an acknowledgement: before the first, between two, and
// after the last.
func TestPause(t *testing.T) {
	began := time.Now()
	at := func(s ...int) *Gauge {
		g := &Gauge{began: began}
		for _, x := range s {
			g.acks = append(g.acks, ack{when: began.Add(time.Duration(x) * time.Second)})
		}
		return g
	}
	for _, x := range []struct {
		g    *Gauge
		want time.Duration
	}{{at(), 10 * time.Second}, {at(4, 5, 9), 4 * time.Second}, {at(1, 7, 9), 6 * time.Second}, {at(1, 2, 3), 7 * time.Second}} {
		if got := x.g.pause(began.Add(10 * time.Second)); got != x.want {
			t.Errorf("%v: a pause of %s, wanted %s", x.g.acks, got, x.want)
		}
	}
}
