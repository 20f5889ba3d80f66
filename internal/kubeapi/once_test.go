package kubeapi

import (
	"testing"

	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
)

// counting counts what is really read.
type counting struct {
	runtime.Decoder
	reads int
}

func (c *counting) Decode(text []byte, defaults *schema.GroupVersionKind, into runtime.Object) (runtime.Object, *schema.GroupVersionKind, error) {
	c.reads++
	return c.Decoder.Decode(text, defaults, into)
}

// What several are told in the same words is read once, and nobody sees what another one makes of
// it.
func TestReadOnce(t *testing.T) {
	const text = `{"apiVersion":"v1","kind":"Node","metadata":{"name":"gauges-1","labels":{"work":"tides"}}}`
	c := &counting{Decoder: Codecs.UniversalDeserializer()}
	d := decoder{c}
	node := func(text string) *corev1.Node {
		t.Helper()
		o, kind, err := d.Decode([]byte(text), nil, nil)
		if err != nil || kind.Kind != "Node" {
			t.Fatalf("%v, %v", kind, err)
		}
		return o.(*corev1.Node)
	}
	node(text)
	node(text)
	if c.reads != 2 {
		t.Errorf("%d reads where nobody shares", c.reads)
	}
	ReadOnce(10)
	defer told.Store(nil)
	c.reads = 0
	a := node(text)
	a.Labels["work"] = "storms"
	b := node(text)
	if b.Labels["work"] != "tides" || c.reads != 1 {
		t.Errorf("the second gets %v, after %d reads", b.Labels, c.reads)
	}
	b.Labels["work"] = "fog"
	if n := node(text); n.Labels["work"] != "tides" {
		t.Errorf("the third gets %v", n.Labels)
	}
	if n := node(`{"apiVersion":"v1","kind":"Node","metadata":{"name":"gauges-2"}}`); n.Name != "gauges-2" || c.reads != 2 {
		t.Errorf("other words are of %s, after %d reads", n.Name, c.reads)
	}
	own := &corev1.Node{}
	if o, _, err := d.Decode([]byte(text), nil, own); err != nil || o != own || own.Name != "gauges-1" || c.reads != 3 {
		t.Errorf("into one of its own: %v, %v after %d reads", o, err, c.reads)
	}
	if _, _, err := d.Decode([]byte("{"), nil, nil); err == nil {
		t.Error("half an object is read")
	}
}
