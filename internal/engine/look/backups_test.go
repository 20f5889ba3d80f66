package look

import (
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
)

// put writes a backup under a name that says nothing.
func put(t *testing.T, s *session.Session, name, cluster, version string, taken time.Time) {
	t.Helper()
	id, err := s.Store.BackupKey()
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Store.SaveBackup(name, func(w io.Writer) error {
		return backup.Write(w, []age.Recipient{id.Recipient()}, backup.Manifest{Cluster: cluster, Taken: taken, Kubernetes: version}, nil, nil, strings.NewReader(""))
	}, func(io.Reader) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
}

// A backup counts by what stands in it: of this cluster, since it was founded, and
// not long ago.
func TestRecentBackup(t *testing.T) {
	s := sessiontest.Session(t)
	s.Decl = &declare.Declaration{Name: "tidewatch"}
	taken := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	at := taken.Add(5 * time.Minute)
	folder, _ := s.Store.BackupsAt()
	if err := os.MkdirAll(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	// Files that are called like backups and are none, and one of another cluster.
	for _, name := range []string{"20261123-080100-v1.37.2.backup.age", "20261123-080100-v1.37.2.backup.age.part"} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put(t, s, "20261123-080200-v1.37.1.backup.age", "lampwright", "v1.37.1", taken.Add(time.Minute))
	if v := recentBackup(s, taken.Add(-time.Hour), at); v != "" {
		t.Errorf("before there was one: %q", v)
	}
	if b, n := newestBackup(s); b != nil || n != 2 {
		t.Errorf("found %+v, and %d that are none of this cluster", b, n)
	}
	put(t, s, "x.backup.age", s.Decl.Name, "v1.36.3", taken)
	put(t, s, "y.backup.age", s.Decl.Name, "v1.35.4", taken.Add(-time.Minute))
	for _, x := range []struct {
		founded, now time.Time
		want         string
	}{
		{taken.Add(-time.Hour), at, "v1.36.3"},
		{taken.Add(-time.Hour), taken.Add(time.Hour), ""},
		{taken.Add(time.Minute), at, ""},
		{taken.Add(-time.Hour), taken.Add(-time.Minute), ""}, // a clock that was wrong
	} {
		if v := recentBackup(s, x.founded, x.now); v != x.want {
			t.Errorf("founded %s, now %s: %q, wanted %q", x.founded, x.now, v, x.want)
		}
	}
}

// One that may be thinned is not the one before an upgrade.
func TestThinnedIsNoWayBack(t *testing.T) {
	s := sessiontest.Session(t)
	s.Decl = &declare.Declaration{Name: "tidewatch"}
	taken := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	folder, _ := s.Store.BackupsAt()
	if err := os.MkdirAll(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	id, err := s.Store.BackupKey()
	if err != nil {
		t.Fatal(err)
	}
	for _, why := range []string{keep.AsDeclared, "asked for"} {
		if v := recentBackup(s, taken.Add(-time.Hour), taken.Add(time.Minute)); v != "" {
			t.Errorf("before the one that is %s: %q", why, v)
		}
		if _, err := s.Store.SaveBackup(strings.ReplaceAll(why, " ", "-")+".backup.age", func(w io.Writer) error {
			return backup.Write(w, []age.Recipient{id.Recipient()}, backup.Manifest{Cluster: "tidewatch", Taken: taken, Kubernetes: "v1.36.3", Why: why}, nil, nil, strings.NewReader(""))
		}, func(io.Reader) error { return nil }); err != nil {
			t.Fatal(err)
		}
	}
	if v := recentBackup(s, taken.Add(-time.Hour), taken.Add(time.Minute)); v != "v1.36.3" {
		t.Errorf("with one that stays: %q", v)
	}
}
