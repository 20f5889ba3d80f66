package look

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"verbund/internal/backup"
	"verbund/internal/core/declare"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
)

// put writes a backup under a name that says nothing.
func put(t *testing.T, s *session.Session, name, cluster, version string, taken time.Time) {
	t.Helper()
	if err := os.MkdirAll(s.Store.BackupDir(), 0o700); err != nil {
		t.Fatal(err)
	}
	id, err := vouch.BackupIdentity(s.Store)
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.Create(filepath.Join(s.Store.BackupDir(), name))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := backup.Write(f, id.Recipient(), backup.Manifest{Cluster: cluster, Taken: taken, Kubernetes: version}, nil, strings.NewReader("")); err != nil {
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
	if err := os.MkdirAll(s.Store.BackupDir(), 0o700); err != nil {
		t.Fatal(err)
	}
	// Files that are called like backups and are none, and one of another cluster.
	for _, name := range []string{"20261123-080100-v1.37.2.backup.age", "20261123-080100-v1.37.2.backup.age.part"} {
		if err := os.WriteFile(filepath.Join(s.Store.BackupDir(), name), []byte("half"), 0o600); err != nil {
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
