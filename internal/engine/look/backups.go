package look

import (
	"time"

	"filippo.io/age"

	"verbund/internal/backup"
	"verbund/internal/engine/session"
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
	id, err := s.Store.OpensBackups()
	if err != nil || id == nil {
		return nil, len(files)
	}
	for _, f := range files {
		m, err := manifestOf(s, f, id)
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
func Backups(s *session.Session) []string { return s.Store.Backups(backup.Suffix, ".snapshot.age") }

func manifestOf(s *session.Session, name string, id age.Identity) (backup.Manifest, error) {
	f, err := s.Store.OpenBackup(name)
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

// BackupOfVersion is the newest backup of this cluster, which can be opened here, that was
// taken when it ran a version; nil when there is none.
func BackupOfVersion(s *session.Session, version string) *BackupFound {
	id, err := s.Store.OpensBackups()
	if err != nil || id == nil {
		return nil
	}
	var newest *BackupFound
	for _, f := range Backups(s) {
		m, err := manifestOf(s, f, id)
		if err == nil && m.Cluster == s.Decl.Name && m.Kubernetes == version && (newest == nil || m.Taken.After(newest.Taken)) {
			newest = &BackupFound{f, m.Taken, m.Kubernetes}
		}
	}
	return newest
}
