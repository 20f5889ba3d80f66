package kube

import (
	"bufio"
	"context"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"k8s.io/client-go/rest"
)

// An API server that keeps its connections and answers nothing on them is left for another one,
// while what is underway there goes on.
func TestTurning(t *testing.T) {
	stuck, more := make(chan struct{}), make(chan struct{})
	server := func(name string, stands bool) *httptest.Server {
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case r.URL.Path == "/watch":
				for range more {
					fmt.Fprintln(w, name)
					w.(http.Flusher).Flush()
				}
			case stands:
				select {
				case <-stuck:
				case <-r.Context().Done():
				}
			default:
				fmt.Fprint(w, name)
			}
		}))
		s.EnableHTTP2 = true
		s.StartTLS()
		t.Cleanup(s.Close)
		return s
	}
	one, two := server("one", true), server("two", false)
	t.Cleanup(func() { close(stuck) })
	cfg := &rest.Config{Host: "https://example.com", TLSClientConfig: rest.TLSClientConfig{ServerName: "example.com", CAData: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: one.Certificate().Raw})}}
	rt, err := newTurning(cfg, []string{one.Listener.Addr().String(), two.Listener.Addr().String()})
	if err != nil {
		t.Fatal(err)
	}
	get := func(path string, within time.Duration) (string, *bufio.Reader, error) {
		ctx, cancel := context.WithTimeout(context.Background(), within)
		t.Cleanup(cancel)
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, cfg.Host+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		resp, err := (&http.Client{Transport: rt}).Do(req)
		if err != nil {
			return "", nil, err
		}
		t.Cleanup(func() { resp.Body.Close() })
		r := bufio.NewReader(resp.Body)
		line, _ := r.ReadString('\n')
		return line, r, nil
	}
	go func() { more <- struct{}{} }()
	line, watch, err := get("/watch", time.Minute)
	if err != nil || line != "one\n" {
		t.Fatalf("the watch began with %q, %v", line, err)
	}
	if _, _, err := get("/", 300*time.Millisecond); err == nil {
		t.Fatal("a server that stands still answered")
	}
	if got, _, err := get("/", 5*time.Second); err != nil || got != "two" {
		t.Errorf("the next request got %q, %v", got, err)
	}
	go func() { more <- struct{}{}; close(more) }()
	if line, err := watch.ReadString('\n'); err != nil || line != "one\n" {
		t.Errorf("the watch went on with %q, %v", line, err)
	}
}
