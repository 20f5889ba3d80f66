package look

import (
	"maps"
	"path/filepath"
	"slices"
	"time"

	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// recentEnough is how old a backup may be to count as the one before a hop that has not begun,
// when the run that took it was cut off.
const recentEnough = 15 * time.Minute

// hopBackup is the version of which the backup was taken that is the way back from the hop to a
// version; empty when there is none. It was taken for this hop, since the datastore was founded,
// and the hop is underway, or the run that took it was cut off a short while ago: what was taken
// before, for something else, lacks what was written since.
func hopBackup(s *session.Session, founded time.Time, to string, underway bool, now time.Time) string {
	all, err := keep.All(s)
	if err != nil {
		return ""
	}
	for _, f := range all {
		m := f.Manifest
		if f.Trouble != nil || m.Why != keep.BeforeUpgrade(to) {
			continue
		}
		if !m.Taken.After(founded) {
			break
		}
		if underway {
			return m.Kubernetes
		}
		if now.Sub(m.Taken) < recentEnough && !m.Taken.After(now) {
			if es, _, err := s.Store.Entries(); err == nil && store.CutOff(es) {
				return m.Kubernetes
			}
		}
		break // older ones are of an earlier hop of the same name
	}
	return ""
}

// newestBackup finds this cluster's newest backup by what stands in it, nil if there is
// none, and counts the files that are of another cluster or cannot be opened with what is
// here.
func newestBackup(s *session.Session) (newest *BackupFound, unopened int) {
	all, err := keep.All(s)
	if err != nil {
		return nil, 0
	}
	for i, f := range all {
		switch {
		case f.Trouble != nil:
			unopened++
		case i == 0:
			newest = found(&f)
		}
	}
	return newest, unopened
}

// backupsAway are those that are remembered and are not here; nil when there are none.
func backupsAway(s *session.Session, v *View) *BackupsAway {
	if v.Known == nil {
		return nil
	}
	here := map[string]bool{}
	for _, file := range keep.Names(s) {
		here[filepath.Base(file)] = true
	}
	out := &BackupsAway{At: []string{}}
	for _, name := range slices.Sorted(maps.Keys(v.Known.Backups)) { // their names begin with the time
		if !here[name] {
			out.Count++
			out.Newest, out.At = name, []string{}
			for _, c := range v.Known.Backups[name].Copies {
				out.At = append(out.At, c.To)
			}
		}
	}
	if out.Count == 0 {
		return nil
	}
	return out
}

func found(f *keep.Found) *BackupFound {
	b := &BackupFound{File: f.Name, Taken: f.Manifest.Taken, Version: f.Manifest.Kubernetes, Copies: len(f.Note.Copies)}
	if v := f.Note.Verified; !v.IsZero() {
		b.Verified = &v
	}
	return b
}

// BackupOfVersion is the newest backup of this cluster, which can be opened here, that was
// taken when it ran a version; nil when there is none.
func BackupOfVersion(s *session.Session, version string) *BackupFound {
	all, err := keep.All(s)
	if err != nil {
		return nil
	}
	for _, f := range all {
		if f.Trouble == nil && f.Manifest.Kubernetes == version {
			return found(&f)
		}
	}
	return nil
}
