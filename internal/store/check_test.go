package store

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"math/big"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/trust"
)

// pair is an authority with its key.
func pair(t *testing.T) (cert []byte, key Secret) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c, err := trust.NewAuthority(trust.Cluster, "tidewatch", time.Hour, k, time.Now(), big.NewInt(1))
	if err != nil {
		t.Fatal(err)
	}
	b, err := trust.EncodeKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return trust.EncodeCert(c), b
}

// What does not fit together is told, though every entry is as it was written.
func TestAgree(t *testing.T) {
	cert, key := pair(t)
	_, other := pair(t)
	for _, x := range []struct {
		what string
		do   func(s *Store) error
		want string
	}{
		{"nothing", func(*Store) error { return nil }, ""},
		{"a pair", func(s *Store) error {
			return s.SaveTrust(&Trust{Certs: map[string][]byte{"a/b": cert}, Keys: map[string]Secret{"a/b": key}})
		}, ""},
		{"a certificate whose key is elsewhere", func(s *Store) error { return s.SaveTrust(&Trust{Certs: map[string][]byte{"a/b": cert}}) }, ""},
		{"another key", func(s *Store) error {
			return s.SaveTrust(&Trust{Certs: map[string][]byte{"a/b": cert}, Keys: map[string]Secret{"a/b": other}})
		}, "certificate a/b is not of the key that is kept with it"},
		{"half a certificate", func(s *Store) error {
			return s.SaveTrust(&Trust{Certs: map[string][]byte{"a/b": bytes.TrimSpace(cert)[:len(cert)/2]}})
		}, "certificate a/b: "},
		{"a member", func(s *Store) error {
			return s.Update(func(st *memory.State) error { st.Members["a"] = []string{"a", "b"}; return nil })
		}, ""},
		{"a member without itself", func(s *Store) error {
			return s.Update(func(st *memory.State) error { st.Members["a"] = []string{"b"}; return nil })
		}, "the member of a was born into [b], without itself"},
		{"a run", journaled(Entry{Kind: RunBegan}, Entry{Kind: StepBegan, Step: "s"}, Entry{Kind: StepDone, Step: "s"}, Entry{Kind: RunEnded}), ""},
		{"a run that was cut off", journaled(Entry{Kind: RunBegan}, Entry{Kind: StepBegan, Step: "s"}), ""},
		{"a step that had not begun", journaled(Entry{Kind: RunBegan}, Entry{Kind: StepFailed, Step: "s"}), "step s of run r ended and had not begun"},
		{"a run that ended twice", journaled(Entry{Kind: RunBegan}, Entry{Kind: RunEnded}, Entry{Kind: RunEnded}), "run r ended twice"},
	} {
		s, err := Open(t.TempDir(), "tidewatch", &Keys{Dir: t.TempDir()})
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Make(); err != nil {
			t.Fatal(err)
		}
		if err := x.do(s); err != nil {
			t.Fatalf("%s: %v", x.what, err)
		}
		found := s.Check()
		if len(found) != min(len(x.want), 1) || len(found) == 1 && !strings.Contains(found[0].Error(), x.want) {
			t.Errorf("%s: %v", x.what, found)
		}
	}
}

func journaled(es ...Entry) func(*Store) error {
	return func(s *Store) error {
		j, err := s.Journal()
		if err != nil {
			return err
		}
		defer j.Close()
		for _, e := range es {
			e.Run = "r"
			if err := j.Append(e); err != nil {
				return err
			}
		}
		return nil
	}
}
