package daemon

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/sim/registry"
)

// stock is a registry, filled once for all messages.
var stock = sync.OnceValues(func() (*registry.Registry, error) { return registry.New(versions.Shipped(), "") })

// FuzzInventory reads inventories that somebody or something has been at: what is read
// is as it was written, or said is that it is not.
func FuzzInventory(f *testing.F) {
	f.Add([]byte(`{"check":"","content":null}`))
	f.Add([]byte(`{"check":"00","content":{"machines":{"a":null}}}`))
	f.Add([]byte(`{"machines":{"a":{"name":"a"},"b":null}}`))
	f.Add([]byte(`{"machines":{"a":{"spec":{"address":"x"}}}}`))
	f.Add([]byte(`null`))
	f.Fuzz(func(t *testing.T, b []byte) {
		folder := t.TempDir()
		if err := os.WriteFile(filepath.Join(folder, stateFile), b, 0o600); err != nil {
			t.Fatal(err)
		}
		s := emptySite(folder)
		s.registry = &registry.Registry{}
		if _, err := s.load(); err != nil {
			return
		}
		for name, m := range s.machines {
			if m == nil {
				t.Errorf("machine %q is nothing", name)
			}
		}
		s.known()
	})
}

// FuzzSiteMessages asks a site for whatever there is; machines are ordered nowhere, for it
// has no zone.
func FuzzSiteMessages(f *testing.F) {
	f.Add("PUT", "machines/a", `{"cluster":"c","zone":"north","size":"small","image":{"system":"s","architecture":"a"}}`)
	f.Add("POST", "machines/a/power", `{"do":"on"}`)
	f.Add("POST", "faults", `{"kind":"lost-machine","machine":"a"}`)
	f.Add("POST", "faults", `{"kind":"damaged-blob","artefact":":"}`)
	f.Add("DELETE", "machines/..%2f..", "")
	f.Add("GET", "machines/a/console", "\x00")
	f.Fuzz(func(t *testing.T, method, path, body string) {
		r, err := http.NewRequest(method, "http://site/"+path, strings.NewReader(body))
		if err != nil || strings.Contains(path, "stop") {
			t.Skip()
		}
		s := emptySite(t.TempDir())
		s.file = &declare.Site{Name: "estuary", Pace: 1000, Addresses: netip.MustParsePrefix("127.81.7.0/24")}
		s.credential, s.ctx = "x", context.Background()
		s.kind = played{s.file}
		if s.registry, err = stock(); err != nil {
			t.Fatal(err)
		}
		w := httptest.NewRecorder()
		s.routes().ServeHTTP(w, r)
		if w.Code != http.StatusUnauthorized {
			t.Errorf("without a credential: %d", w.Code)
		}
		r, _ = http.NewRequest(method, "http://site/"+path, strings.NewReader(body))
		r.Header.Set("Authorization", "Bearer x")
		w = httptest.NewRecorder()
		s.routes().ServeHTTP(w, r)
		if w.Code == http.StatusInternalServerError {
			t.Errorf("%s %s %q: %s", method, path, body, w.Body)
		}
	})
}
