package store

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/topology"
)

// everything is all that a store remembers, as text, or why it cannot be read.
func everything(s *Store) (string, error) {
	st, e1 := s.Read()
	tr, e2 := s.Trust()
	if err := errors.Join(e1, e2); err != nil {
		return "", err
	}
	es, err := st.Entries()
	if err != nil {
		return "", err
	}
	var keys []string
	for id, k := range tr.Keys {
		keys = append(keys, id+string(k))
	}
	return fmt.Sprintf("%d %s %s %d", len(keys), es, tr.Certs["one/proxy"], len(tr.Certs)), nil
}

// full is a store with something in most tables, on many pages.
func full(t *testing.T) (*Store, *Keys) {
	t.Helper()
	k := &Keys{Dir: t.TempDir()}
	s, err := Open(t.TempDir(), "tidewatch", k)
	if err != nil {
		t.Fatal(err)
	}
	tr := &Trust{Keys: map[string]Secret{}, Certs: map[string][]byte{}}
	cert, key := pair(t)
	for i := range 40 {
		id := fmt.Sprintf("machine-%d/proxy", i)
		tr.Keys[id], tr.Certs[id] = key, cert
	}
	if err := s.UpdateWith(TrustChange{Add: tr}, func(st *memory.State) error {
		for i := range 40 {
			st.Machines[fmt.Sprintf("machine-%d", i)] = memory.Machine{Address: netip.MustParseAddr("127.81.7.10"), Fingerprint: strings.Repeat("f", 40)}
		}
		st.Resting["machine-1"], st.Counts["gauges"] = true, 4
		st.Joins("machine-0", []string{"machine-0"})
		st.Founded(topology.Facts{Endpoint: "api.tidewatch.test", Pods: "10.172.0.0/15", Services: "10.112.0.0/16", PerNode: 128, Founded: time.Unix(5, 0).UTC()})
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return s, k
}

// Whatever happens to the file, a store says either what was written or that it
// is damaged. What Check finds well reads as it was written.
func TestDamageIsNoticed(t *testing.T) {
	s, k := full(t)
	want, err := everything(s)
	if err != nil {
		t.Fatal(err)
	}
	if bad := s.Check(); len(bad) > 0 {
		t.Fatalf("a store that nobody touched: %v", bad)
	}
	whole, err := os.ReadFile(s.Where())
	if err != nil {
		t.Fatal(err)
	}
	noticed := 0
	try := func(what string, b []byte) {
		t.Helper()
		if err := os.WriteFile(s.Where(), b, 0o600); err != nil {
			t.Fatal(err)
		}
		again := &Store{Path: s.Path, base: &inFolder{dir: s.Path}, keeper: k}
		got, err := everything(again)
		var d *Damage
		var c *Closed
		switch {
		case err == nil && got != want:
			t.Errorf("%s: it reads\n%s\nand was\n%s", what, got, want)
		case err != nil && !errors.As(err, &d) && !errors.As(err, &c):
			t.Errorf("%s: the error is no damage: %v", what, err)
		case err != nil:
			if noticed++; len(again.Check()) == 0 {
				t.Errorf("%s: reading says %v, and a check finds nothing", what, err)
			}
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		b := append([]byte{}, whole...)
		at, bit := r.IntN(len(b)), r.IntN(8)
		b[at] ^= 1 << bit
		try(fmt.Sprintf("bit %d of byte %d", bit, at), b)
	}
	page := os.Getpagesize()
	for p := 0; p < len(whole)/page; p++ {
		b := append([]byte{}, whole...)
		clear(b[p*page : (p+1)*page])
		try(fmt.Sprintf("page %d of zeros", p), b)
	}
	for _, n := range []int{0, 1, 100, page, page + 3, 2 * page, len(whole) / 2, len(whole) - page, len(whole) - 1} {
		try(fmt.Sprintf("cut to %d bytes", n), whole[:n])
	}
	if noticed < 30 {
		t.Errorf("only %d were noticed at all", noticed)
	}
	// What is damaged is named.
	at := strings.Index(string(whole), "10.172.0.0/15")
	for i := at; i >= 0; i = func() int {
		j := strings.Index(string(whole[i+1:]), "10.172.0.0/15")
		return map[bool]int{true: -1, false: i + 1 + j}[j < 0]
	}() {
		whole[i+4] ^= 1
	}
	if err := os.WriteFile(s.Where(), whole, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Read(); err == nil || !strings.Contains(err.Error(), "what holds of the whole cluster facts") {
		t.Errorf("another pod range: %v", err)
	}
}

// Many that make the same store at once, and look meanwhile, all find it whole.
func TestMadeAtOnce(t *testing.T) {
	dir, keys := t.TempDir(), t.TempDir()
	var wg sync.WaitGroup
	for i := range 12 {
		wg.Go(func() {
			s := At(dir, "tidewatch", &Keys{Dir: keys})
			if i%2 == 0 {
				release, err := s.Lock("converge")
				var l *Locked
				if errors.As(err, &l) {
					return
				}
				if err == nil {
					err = s.Make()
					release()
				}
				if err != nil {
					t.Errorf("making it: %v", err)
				}
			}
			for range 20 {
				if _, err := s.Read(); err != nil {
					t.Errorf("looking meanwhile: %v", err)
				}
			}
		})
	}
	wg.Wait()
}

// Who holds the lock can be asked without getting in anybody's way.
func TestHolds(t *testing.T) {
	s := fresh(t)
	if h, err := s.Holds(); h != nil || err != nil {
		t.Errorf("nobody: %v, %v", h, err)
	}
	release, err := s.Lock("upgrade v1.37.2")
	if err != nil {
		t.Fatal(err)
	}
	if h, err := s.Holds(); err != nil || h == nil || h.Command != "upgrade v1.37.2" || h.Process != os.Getpid() {
		t.Errorf("held: %v, %v", h, err)
	}
	release()
	stop := make(chan struct{})
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					s.Holds()
				}
			}
		})
	}
	for range 200 {
		release, err := s.Lock("converge")
		if err != nil {
			t.Fatalf("while others look: %v", err)
		}
		release()
	}
	close(stop)
	wg.Wait()
}
