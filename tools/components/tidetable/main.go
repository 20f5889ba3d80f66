// Command tidetable is the examples' application: it answers HTTP with its name, its version
// and where it runs. When it is to end it finishes what it has begun first.
package main

import (
	"context"
	"fmt"
	"log"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"
)

// version is set when it is built.
var version = "1.0"

func main() {
	host, err := os.Hostname()
	if err != nil {
		log.Fatal(err)
	}
	s := &http.Server{Addr: ":8080", ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "tidetable %s from %s\n", version, host)
	})}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
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
