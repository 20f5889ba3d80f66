// Package sessiontest has a session in the hands of a test: a memory of its own, a cluster,
// and a site that does as the test says.
package sessiontest

import (
	"testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/memory"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Session has a store of its own in a folder of the test, and nothing in it.
func Session(t testing.TB) *session.Session {
	t.Helper()
	s, err := store.Open(t.TempDir(), "tidewatch", &store.Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	return &session.Session{Cat: versions.Shipped(), Store: s, Parallel: 4}
}

// Known is what a session remembers.
func Known(t testing.TB, s *session.Session) *memory.State {
	t.Helper()
	st, err := s.Store.Read()
	if err != nil {
		t.Fatal(err)
	}
	return st
}

// Remember changes what a session remembers.
func Remember(t testing.TB, s *session.Session, f func(*memory.State)) {
	t.Helper()
	if err := s.Remember(f); err != nil {
		t.Fatal(err)
	}
}

// Cluster has three control-plane machines and so many workers.
func Cluster(t testing.TB, workers int) *topology.Cluster {
	t.Helper()
	c, err := coretest.Cluster("v1.37.2", 3, workers, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	return c
}
