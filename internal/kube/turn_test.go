package kube

import (
	"bufio"
	"context"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"k8s.io/client-go/rest"
)

// manner is how an API server of these tests behaves.
type manner struct {
	waits time.Duration   // before it answers
	asked atomic.Int32    // what came in beside watches
	more  <-chan struct{} // one for each line of a watch
}

// turningTo is a client of API servers that behave like this, tried in this order, each of which
// answers with its number.
func turningTo(t *testing.T, ms ...*manner) *turning {
	t.Helper()
	cfg := &rest.Config{Host: "https://example.com", TLSClientConfig: rest.TLSClientConfig{ServerName: "example.com"}}
	var via []string
	stop := make(chan struct{})
	for i, m := range ms {
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Query().Has("watch") {
				for range m.more {
					fmt.Fprintln(w, i)
					w.(http.Flusher).Flush()
				}
				return
			}
			m.asked.Add(1)
			late := time.NewTimer(m.waits)
			defer late.Stop()
			select {
			case <-late.C:
				fmt.Fprintln(w, i)
			case <-stop:
			case <-r.Context().Done():
			}
		}))
		s.EnableHTTP2 = true
		s.StartTLS()
		t.Cleanup(s.Close)
		cfg.CAData = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})
		via = append(via, s.Listener.Addr().String())
	}
	t.Cleanup(func() { close(stop) })
	rt, err := newTurning(cfg, via)
	if err != nil {
		t.Fatal(err)
	}
	return rt
}

// ask sends a request and gives the first line of the answer, and the rest.
func ask(t *testing.T, rt *turning, method, query string, within time.Duration) (string, *bufio.Reader, error) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), within)
	t.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, method, "https://example.com/"+query, nil)
	if err != nil {
		t.Fatal(err)
	}
	resp, err := (&http.Client{Transport: rt}).Do(req)
	if err != nil {
		return "", nil, err
	}
	t.Cleanup(func() { resp.Body.Close() })
	r := bufio.NewReader(resp.Body)
	line, err := r.ReadString('\n')
	return strings.TrimSpace(line), r, err
}

// An API server that keeps its connections and answers nothing on them is left for another one,
// while what is underway there goes on. What may have been done is not asked again elsewhere.
func TestTurning(t *testing.T) {
	more := make(chan struct{})
	one, two := &manner{waits: time.Hour, more: more}, &manner{}
	rt := turningTo(t, one, two)
	go func() { more <- struct{}{} }()
	line, watch, err := ask(t, rt, http.MethodGet, "?watch=1", time.Minute)
	if err != nil || line != "0" {
		t.Fatalf("the watch began with %q, %v", line, err)
	}
	if line, _, err := ask(t, rt, http.MethodPost, "", patience+time.Second); err == nil {
		t.Fatalf("%q answered a write although the first stands still", line)
	}
	if n, m := one.asked.Load(), two.asked.Load(); n != 1 || m != 0 {
		t.Errorf("a write was asked %d times of the first and %d times of the second", n, m)
	}
	if line, _, err := ask(t, rt, http.MethodPost, "", 5*time.Second); err != nil || line != "1" {
		t.Errorf("the next write got %q, %v", line, err)
	}
	go func() { more <- struct{}{}; close(more) }()
	if line, err := watch.ReadString('\n'); err != nil || line != "0\n" {
		t.Errorf("the watch went on with %q, %v", line, err)
	}
}

// A read is answered although two of three stand still, and the next one by whoever answered.
func TestReadsElsewhere(t *testing.T) {
	t.Parallel()
	one, two, three := &manner{waits: time.Hour}, &manner{waits: time.Hour}, &manner{}
	rt := turningTo(t, one, two, three)
	for range 2 {
		if line, _, err := ask(t, rt, http.MethodGet, "", 8*time.Second); err != nil || line != "2" {
			t.Errorf("a read got %q, %v", line, err)
		}
	}
	if n, m := one.asked.Load(), two.asked.Load(); n != 1 || m != 1 {
		t.Errorf("the two that stand still were asked %d and %d times", n, m)
	}
	// It is not asked for ever.
	three.waits = time.Hour
	if line, _, err := ask(t, rt, http.MethodGet, "", patience+time.Second); !ranOut(err) {
		t.Errorf("a read that nobody answers got %q, %v", line, err)
	}
}

// One that is only slow is not left, and what it answers counts.
func TestReadsOfASlowOne(t *testing.T) {
	t.Parallel()
	one, two := &manner{waits: patience + 500*time.Millisecond}, &manner{waits: time.Hour}
	rt := turningTo(t, one, two)
	if line, _, err := ask(t, rt, http.MethodGet, "", time.Minute); err != nil || line != "0" {
		t.Errorf("a read got %q, %v", line, err)
	}
	if n := two.asked.Load(); n != 1 {
		t.Errorf("the second was asked %d times", n)
	}
	if rt.from != 0 {
		t.Errorf("it was left for address %d", rt.from)
	}
}
