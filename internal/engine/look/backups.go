package look

import (
	"os"
	"time"

	"filippo.io/age"

	"verbund/internal/backup"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/whole"
)

// recentEnough is how old a backup may be to count as the one before an
// upgrade, when the run that took it was cut off.
const recentEnough = 15 * time.Minute

// recentBackup is the version of which a backup was taken a short while ago,
// since the datastore was founded: those of an earlier cluster do not count.
func recentBackup(s *session.Session, founded, now time.Time) string {
	if b, _ := newestBackup(s); b != nil && b.Taken.After(founded) && now.Sub(b.Taken) < recentEnough && !b.Taken.After(now) {
		return b.Version
	}
	return ""
}

// newestBackup finds this cluster's newest backup by what stands in it, nil if there is
// none, and counts the files that are of another cluster or cannot be opened with what is
// here.
func newestBackup(s *session.Session) (newest *BackupFound, unopened int) {
	files := Backups(s)
	if len(files) == 0 {
		return nil, 0
	}
	plain, err := s.Store.OpenAside()
	if err != nil {
		return nil, len(files)
	}
	id, err := vouch.ReadIdentity(plain)
	if err != nil {
		return nil, len(files)
	}
	for _, f := range files {
		m, err := manifestOf(f, id)
		switch {
		case err != nil || m.Cluster != s.Decl.Name:
			unopened++
		case newest == nil || m.Taken.After(newest.Taken):
			newest = &BackupFound{f, m.Taken, m.Kubernetes}
		}
	}
	return newest, unopened
}

// Backups lists the files of all backups, also of those from before they had a manifest,
// which count for nothing any more.
func Backups(s *session.Session) []string {
	var out []string
	for _, ending := range []string{backup.Suffix, ".snapshot.age"} {
		out = append(out, whole.Named(s.Store.BackupDir(), ending)...)
	}
	return out
}

func manifestOf(file string, id age.Identity) (backup.Manifest, error) {
	f, err := os.Open(file)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer f.Close()
	b, err := backup.Open(f, id)
	if err != nil {
		return backup.Manifest{}, err
	}
	return b.Manifest, nil
}
