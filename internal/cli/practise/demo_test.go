package practise

import (
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// A request of the demonstration that nobody answers ends, and its error says
// how far it came; one that is answered late, but in time, is answered.
func TestPatience(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	err = answers(t.Context(), silent.Addr().String(), "tide")
	if !errors.Is(err, errPatience) || !strings.Contains(err.Error(), "sent after") {
		t.Errorf("nobody answers: %v", err)
	}
	gone, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	gone.Close()
	if err = answers(t.Context(), gone.Addr().String(), "tide"); err == nil || errors.Is(err, errPatience) || !strings.Contains(err.Error(), "began to connect") {
		t.Errorf("nobody listens: %v", err)
	}
	late := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-time.After(400 * time.Millisecond):
		case <-r.Context().Done():
		}
		io.WriteString(w, "tide")
	}))
	defer late.Close()
	if err = answers(t.Context(), late.Listener.Addr().String(), "tide"); err != nil {
		t.Errorf("answered late: %v", err)
	}
	if err = answers(t.Context(), late.Listener.Addr().String(), "lamp"); err == nil {
		t.Error("another page was taken for the right one")
	}
}
