// Command tidetable is the examples' application: it answers HTTP with its name, its version
// and where it runs, and at /ask?name=NAME with what another one answers that it finds by that
// name. When it is to end it finishes what it has begun first.
package main

import (
	"context"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"
)

// name and version are set when it is built: the proof's application is the same one.
var name, version = "tidetable", "1.0"

func main() {
	host, err := os.Hostname()
	if err != nil {
		log.Fatal(err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { fmt.Fprintf(w, "%s %s from %s\n", name, version, host) })
	mux.HandleFunc("/ask", ask)
	s := &http.Server{Addr: ":8080", ReadHeaderTimeout: 10 * time.Second, Handler: mux}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	log.Printf("%s %s serves on port 8080", name, version)
	ended := make(chan error, 1)
	go func() { ended <- s.ListenAndServe() }()
	select {
	case err := <-ended:
		log.Fatal(err)
	case <-ctx.Done():
	}
	// Whoever balances learns of its end a moment after it does.
	grace := time.NewTimer(3 * time.Second)
	<-grace.C
	end, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	s.Shutdown(end)
}

// ask passes on what is answered at a name, as this pod finds it.
func ask(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 5*time.Second)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+r.URL.Query().Get("name")+"/", nil)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	a, err := http.DefaultClient.Do(q)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer a.Body.Close()
	w.WriteHeader(a.StatusCode)
	io.Copy(w, io.LimitReader(a.Body, 1<<16))
}
