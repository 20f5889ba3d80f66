package kubeapi

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/runtime/serializer/streaming"
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

// stream is how what watches tell is read.
func stream(t *testing.T, n runtime.NegotiatedSerializer) *runtime.StreamSerializerInfo {
	t.Helper()
	info, ok := runtime.SerializerInfoForMediaType(n.SupportedMediaTypes(), runtime.ContentTypeJSON)
	if !ok || info.StreamSerializer == nil {
		t.Fatal("nothing reads JSON")
	}
	return info.StreamSerializer
}

// all reads a stream to its end.
func all(s *runtime.StreamSerializerInfo, text string) (out []string, err error) {
	d := streaming.NewDecoder(s.Framer.NewFrameReader(io.NopCloser(strings.NewReader(text))), s.Serializer)
	for len(out) < 20 {
		var e metav1.WatchEvent
		o, kind, err := d.Decode(nil, &e)
		if err != nil {
			return out, err
		}
		out = append(out, fmt.Sprintf("%T %v %s %s", o, kind, e.Type, e.Object.Raw))
	}
	return out, nil
}

// Whatever a server writes is read as the published reader reads it: once and again, and with
// what one of them was told by another.
func TestReadsAsThePublishedOne(t *testing.T) {
	published, own := Codecs.WithoutConversion(), codecs{Codecs.WithoutConversion()}
	event := func(what, name string) string {
		return fmt.Sprintf(`{"type":%q,"object":{"apiVersion":"v1","kind":"Node","metadata":{"name":%q}}}`, what, name)
	}
	large := event("ADDED", strings.Repeat("x", 100_000))
	for what, text := range map[string]string{
		"nothing": "", "one": event("ADDED", "a") + "\n", "several": event("ADDED", "a") + "\n" + event("MODIFIED", "b") + "\n" + event("DELETED", "a") + "\n",
		"the same twice": event("ADDED", "a") + "\n" + event("ADDED", "a") + "\n", "the last without an end": event("ADDED", "a") + "\n" + event("MODIFIED", "b"),
		"a large one": large + "\n" + event("ADDED", "b") + "\n", "cut off": event("ADDED", "a") + "\n" + event("MODIFIED", "b")[:40], "cut off at the end of a line": event("ADDED", "a")[:20] + "\n",
		"several in a line": event("ADDED", "a") + event("MODIFIED", "b") + "\n" + event("ADDED", "c") + "\n", "one over several lines": strings.ReplaceAll(event("ADDED", "a"), ",", ",\n  ") + "\n" + event("ADDED", "b") + "\n",
		"lines of another kind": event("ADDED", "a") + "\r\n" + event("ADDED", "b") + "\r\n", "empty lines": "\n\n" + event("ADDED", "a") + "\n\n" + event("ADDED", "b") + "\n",
		"no event": "tides\n" + event("ADDED", "a") + "\n", "no object": "7\n" + event("ADDED", "a") + "\n", "an error": `{"type":"ERROR","object":{"kind":"Status","code":410}}` + "\n",
		"half an event": `{"type":"ADDED"}` + "\n", "another shape": `{"type":7}` + "\n" + event("ADDED", "a") + "\n",
	} {
		want, werr := all(stream(t, published), text)
		for _, shared := range []bool{false, true, true} {
			if shared && told.Load() == nil {
				ReadOnce(100)
			}
			got, err := all(stream(t, own), text)
			if strings.Join(got, "\n") != strings.Join(want, "\n") || (err == nil) != (werr == nil) || errors.Is(err, io.EOF) != errors.Is(werr, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) != errors.Is(werr, io.ErrUnexpectedEOF) {
				t.Errorf("%s (shared: %v): read %.300q, %v; wanted %.300q, %v", what, shared, got, err, want, werr)
			}
		}
		told.Store(nil)
	}
}

// readings counts what is really read.
type readings struct {
	runtime.Serializer
	n int
}

func (r *readings) Decode(text []byte, defaults *schema.GroupVersionKind, into runtime.Object) (runtime.Object, *schema.GroupVersionKind, error) {
	r.n++
	return r.Serializer.Decode(text, defaults, into)
}

// An event that several are told of is read once.
func TestEventsOnce(t *testing.T) {
	s := *stream(t, Codecs.WithoutConversion())
	r := &readings{Serializer: s.Serializer}
	s.Serializer = events{r}
	text := `{"type":"ADDED","object":{"kind":"Node"}}` + "\n"
	read := func(want int) {
		t.Helper()
		r.n = 0
		if got, err := all(&s, text+text); !errors.Is(err, io.EOF) || len(got) != 2 || got[0] != got[1] || r.n != want {
			t.Errorf("%q, %v, after %d readings, wanted %d", got, err, r.n, want)
		}
	}
	read(2)
	ReadOnce(10)
	defer told.Store(nil)
	read(1)
	read(0)
}
