package simulated

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"verbund/internal/site"
	"verbund/internal/site/protocol"
)

// Only a site whose process does not run is said not to run: one that is slow, or
// that broke a connection off, may be well.
func TestWhatIsKnownOfASite(t *testing.T) {
	folder := t.TempDir()
	ask := func(within time.Duration) error {
		ctx, cancel := context.WithTimeout(context.Background(), within)
		defer cancel()
		_, err := NewClient(folder).Inventory(ctx)
		return err
	}
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := ask(time.Second); !errors.Is(err, site.ErrNotRunning) {
		t.Errorf("never started: %v", err)
	}
	write("credential", "secret\n")
	if err := ask(time.Second); !errors.Is(err, site.ErrNotRunning) {
		t.Errorf("no socket: %v", err)
	}
	l, err := net.Listen("unix", filepath.Join(folder, "socket"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	mode := make(chan string, 1)
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch <-mode {
		case "slow":
			<-r.Context().Done()
		case "broken":
			panic(http.ErrAbortHandler)
		}
	})}
	go srv.Serve(l)
	defer srv.Close()
	mode <- "slow"
	if err := ask(100 * time.Millisecond); err == nil || errors.Is(err, site.ErrNotRunning) {
		t.Errorf("slow: %v", err)
	}
	write(protocol.ProcessFile, fmt.Sprintln(os.Getpid()))
	mode <- "broken"
	if err := ask(5 * time.Second); err == nil || errors.Is(err, site.ErrNotRunning) {
		t.Errorf("broken off, and its process runs: %v", err)
	}
	if err := os.Remove(filepath.Join(folder, protocol.ProcessFile)); err != nil {
		t.Fatal(err)
	}
	mode <- "broken"
	if err := ask(5 * time.Second); !errors.Is(err, site.ErrNotRunning) {
		t.Errorf("broken off, and its process has ended: %v", err)
	}
}

// Starting and taking down exclude each other; whoever waited for a folder that has gone
// meanwhile gets a new one, and one that was never there is nothing to take down.
func TestStarting(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "sites", "estuary")
	if gone, err := NewClient(folder).Leave(context.Background()); gone || err != nil {
		t.Errorf("what was never there: gone %v, %v", gone, err)
	}
	first, err := starting(folder)
	if err != nil {
		t.Fatal(err)
	}
	second := make(chan error, 1)
	go func() {
		lock, err := starting(folder)
		if err == nil {
			_, err = os.Stat(filepath.Join(folder, "credential"))
			lock.Close()
		}
		second <- err
	}()
	select {
	case err := <-second:
		t.Errorf("two start it at once: %v", err)
	case <-time.After(100 * time.Millisecond):
	}
	if err := os.RemoveAll(folder); err != nil {
		t.Fatal(err)
	}
	first.Close()
	if err := <-second; err != nil {
		t.Errorf("whoever waited: %v", err)
	}
}
