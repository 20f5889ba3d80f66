package sessiontest

import (
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"verbund/internal/site"
	siteproto "verbund/internal/site/protocol"
)

// Site answers releases; answer decides what becomes of each.
func Site(t *testing.T, answer func(machine string) int) *site.Client {
	t.Helper()
	return SiteWith(t, answer, func() siteproto.Inventory { return siteproto.Inventory{} })
}

// SiteWith also has an inventory.
func SiteWith(t *testing.T, answer func(machine string) int, inventory func() siteproto.Inventory) *site.Client {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "credential"), []byte("c\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	d, err := os.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	l, err := net.Listen("unix", filepath.Join(dir, "socket"))
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodDelete {
			json.NewEncoder(w).Encode(inventory())
			return
		}
		w.WriteHeader(answer(filepath.Base(r.URL.Path)))
		w.Write([]byte(`{"what":"the site will not","todo":"ask nicely"}`))
	}))
	srv.Listener.Close()
	srv.Listener = l
	srv.Start()
	t.Cleanup(srv.Close)
	return site.NewClient(dir)
}
