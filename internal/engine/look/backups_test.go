package look

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"verbund/internal/backup"
	"verbund/internal/core/declare"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/store"
)

// put writes a backup under a name that says nothing.
func put(t *testing.T, s *session.Session, name string, m backup.Manifest) {
	t.Helper()
	id, err := s.Store.BackupKey()
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Store.SaveBackup(name, func(w io.Writer) error {
		return backup.Write(w, []age.Recipient{id.Recipient()}, m, nil, nil, strings.NewReader(""))
	}, func(io.Reader) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
}

// The way back from a hop is what was taken for it: since the cluster was founded, and by a run
// that was cut off a short while ago, or that has begun the hop. What was taken by hand before
// lacks what was written since.
func TestHopBackup(t *testing.T) {
	taken := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	founded, soon := taken.Add(-time.Hour), taken.Add(5*time.Minute)
	const to = "v1.37.2"
	m := backup.Manifest{Cluster: "tidewatch", Taken: taken, Kubernetes: "v1.36.3", Why: keep.BeforeUpgrade(to)}
	with := func(f func(*backup.Manifest)) backup.Manifest {
		o := m
		f(&o)
		return o
	}
	for _, x := range []struct {
		what          string
		m             backup.Manifest
		founded, now  time.Time
		underway, cut bool
		want          string
	}{
		{"by a run that was cut off", m, founded, soon, false, true, "v1.36.3"},
		{"by one that ended", m, founded, soon, false, false, ""},
		{"of a hop that is underway", m, founded, taken.Add(9 * time.Hour), true, false, "v1.36.3"},
		{"long ago", m, founded, taken.Add(time.Hour), false, true, ""},
		{"by a clock that was wrong", m, founded, taken.Add(-time.Minute), false, true, ""},
		{"of an earlier cluster", m, taken.Add(time.Minute), soon, true, true, ""},
		{"by hand", with(func(m *backup.Manifest) { m.Why = "asked for" }), founded, soon, true, true, ""},
		{"as declared", with(func(m *backup.Manifest) { m.Why = keep.AsDeclared }), founded, soon, true, true, ""},
		{"for another hop", with(func(m *backup.Manifest) { m.Why = keep.BeforeUpgrade("v1.36.3") }), founded, soon, true, true, ""},
		{"of another cluster", with(func(m *backup.Manifest) { m.Cluster = "lampwright" }), founded, soon, true, true, ""},
	} {
		s := sessiontest.Session(t)
		s.Decl = &declare.Declaration{Name: "tidewatch"}
		if v := hopBackup(s, x.founded, to, x.underway, x.now); v != "" {
			t.Errorf("%s: before there was one: %q", x.what, v)
		}
		put(t, s, "x.backup.age", x.m)
		if x.cut {
			j, err := s.Store.Journal()
			if err == nil {
				err = errors.Join(j.Append(store.Entry{Kind: store.RunBegan, Run: "r"}), j.Append(store.Entry{Kind: store.StepBegan, Run: "r"}), j.Close())
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if v := hopBackup(s, x.founded, to, x.underway, x.now); v != x.want {
			t.Errorf("%s: %q, wanted %q", x.what, v, x.want)
		}
	}
}

// A file that is called like a backup and is none, or one of another cluster, is none of this one's.
func TestNewestBackup(t *testing.T) {
	s := sessiontest.Session(t)
	s.Decl = &declare.Declaration{Name: "tidewatch"}
	taken := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	put(t, s, "20261123-080200-v1.37.1.backup.age", backup.Manifest{Cluster: "lampwright", Taken: taken, Kubernetes: "v1.37.1"})
	folder, _ := s.Store.BackupsAt()
	if err := os.WriteFile(filepath.Join(folder, "20261123-080100-v1.37.2.backup.age"), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if b, n := newestBackup(s); b != nil || n != 2 {
		t.Errorf("found %+v, and %d that are none of this cluster", b, n)
	}
}
